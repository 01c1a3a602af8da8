//! Setting up a company: settings, numbers, periods, accounts, taxes, exchange rates.

use chrono::NaiveDate;
use till_core::accounts::{AccountType, Purpose};
use till_core::calendar::{end_of_month, words};
use till_core::fixed::{ExchangeRate, Rate};
use till_core::money::Currency;
use till_core::settle::PlaceKind;
use till_core::tax::{TaxCategory, TaxComputed};

use crate::money_places::NewPlace;
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError};

/// A company to set up.
#[derive(Debug, Clone)]
pub struct NewCompany {
    /// Its name.
    pub name: String,
    /// Base currency.
    pub base: Currency,
    /// A day to stand still on, or none for the day on the wall.
    pub business_date: Option<NaiveDate>,
    /// Per document or per line.
    pub tax_computed: TaxComputed,
}

/// A ledger account, and the purposes it serves.
#[derive(Debug, Clone)]
pub struct NewAccount<'a> {
    /// Its number.
    pub number: &'a str,
    /// Its name.
    pub name: &'a str,
    /// Its type.
    pub account_type: AccountType,
    /// Purposes that lead to it, each for an item class or for any.
    pub serves: &'a [(Purpose, Option<&'a str>)],
}

/// Sets the company up. Once only.
///
/// # Errors
/// Where the books are set up already.
pub async fn company(writing: &mut Writing<'_>, new: &NewCompany) -> Result<()> {
    let exists = sqlx::query_scalar!("SELECT count(*) FROM company").fetch_one(&mut **writing).await?;
    if exists > 0 {
        return Err(StoreError::WrongState("These books are set up already.".to_owned()));
    }
    let base = new.base.code();
    let tax_computed = match new.tax_computed {
        TaxComputed::PerDocument => "per_document",
        TaxComputed::PerLine => "per_line",
    };
    sqlx::query!(
        "INSERT INTO company (id, name, base_currency, business_date, tax_computed) VALUES (1, ?, ?, ?, ?)",
        new.name,
        base,
        new.business_date,
        tax_computed
    )
    .execute(&mut **writing)
    .await?;
    let fields = vec![set("name", &new.name), set("base currency", base), set("tax is computed", tax_computed)];
    writing.note_setting("company", format!("set up {}", new.name), fields);
    Ok(())
}

/// Moves a company that stands still on a day to another day. Never back.
///
/// # Errors
/// Where the day is before the present one.
pub async fn move_business_date(writing: &mut Writing<'_>, to: NaiveDate) -> Result<()> {
    let moved =
        sqlx::query!("UPDATE company SET business_date = ? WHERE business_date IS NULL OR business_date <= ?", to, to)
            .execute(&mut **writing)
            .await?;
    if moved.rows_affected() == 0 {
        return Err(StoreError::WrongState("The business date never goes back.".to_owned()));
    }
    writing.note_setting(
        "business date",
        format!("moved the business date to {}", words(to)),
        vec![set("to", words(to))],
    );
    Ok(())
}

/// Starts a range of numbers for a kind of document.
///
/// # Errors
/// Where the kind has one already.
pub async fn number_range(writing: &mut Writing<'_>, kind: &str, prefix: &str, first: i64) -> Result<()> {
    sqlx::query!(
        "INSERT INTO number_ranges (kind, prefix, first, next) VALUES (?, ?, ?, ?)",
        kind,
        prefix,
        first,
        first
    )
    .execute(&mut **writing)
    .await?;
    writing.note_setting(&format!("{kind} numbers"), format!("{kind} numbers begin at {prefix}{first}"), Vec::new());
    Ok(())
}

/// Opens monthly periods from the month of `from` to the month of `to`.
///
/// # Errors
/// Where one of them exists already.
pub async fn months(writing: &mut Writing<'_>, from: NaiveDate, to: NaiveDate) -> Result<()> {
    let mut first = from;
    while first <= to {
        let last = end_of_month(first);
        sqlx::query!("INSERT INTO periods (first, last, open) VALUES (?, ?, 1)", first, last)
            .execute(&mut **writing)
            .await?;
        let Some(next) = last.succ_opt() else { break };
        first = next;
    }
    writing.note_setting("periods", format!("added the months up to {}", words(end_of_month(to))), Vec::new());
    Ok(())
}

/// Opens or closes the period that begins on `first`.
///
/// # Errors
/// Where there is no such period, it is in that state already, or an earlier one is still open.
pub async fn set_period(writing: &mut Writing<'_>, first: NaiveDate, open: bool) -> Result<()> {
    crate::rules::periods(writing).await?.may_set(first, open).map_err(|why| StoreError::invalid("first", why))?;
    sqlx::query!("UPDATE periods SET open = ? WHERE first = ?", open, first).execute(&mut **writing).await?;
    let name = first.format("%B %Y").to_string();
    let word = |open: bool| if open { "open" } else { "closed" };
    let changes = changed(&name, Some(word(!open)), Some(word(open)));
    writing.note_setting("periods", format!("{} {name}", if open { "opened" } else { "closed" }), changes);
    Ok(())
}

/// Adds an account and the rows of the account map that lead to it.
///
/// # Errors
/// Where the number, or a row of the map, exists already.
pub async fn account(writing: &mut Writing<'_>, new: &NewAccount<'_>) -> Result<()> {
    let account_type = new.account_type.word();
    sqlx::query!(
        "INSERT INTO accounts (number, name, account_type) VALUES (?, ?, ?)",
        new.number,
        new.name,
        account_type
    )
    .execute(&mut **writing)
    .await?;
    for (purpose, item_class) in new.serves {
        let purpose = purpose.word();
        sqlx::query!(
            "INSERT INTO account_map (purpose, item_class, account) VALUES (?, ?, ?)",
            purpose,
            *item_class,
            new.number
        )
        .execute(&mut **writing)
        .await?;
    }
    writing.note_setting("accounts", format!("added account {} {}", new.number, new.name), Vec::new());
    Ok(())
}

/// Takes every row for a purpose and item class out of the account map.
///
/// # Errors
/// Where the database cannot be written.
pub async fn unmap(writing: &mut Writing<'_>, purpose: Purpose, item_class: Option<&str>) -> Result<()> {
    let purpose = purpose.word();
    sqlx::query!("DELETE FROM account_map WHERE purpose = ? AND item_class IS ?", purpose, item_class)
        .execute(&mut **writing)
        .await?;
    writing.note_setting("account map", format!("took {purpose} out of the account map"), Vec::new());
    Ok(())
}

/// Adds a tax code with its first rate.
///
/// # Errors
/// Where the code exists already.
pub async fn tax_code(
    writing: &mut Writing<'_>,
    code: &str,
    name: &str,
    category: TaxCategory,
    valid_from: NaiveDate,
    rate: Rate,
) -> Result<()> {
    let category = category.code();
    let rate = rate.scaled();
    sqlx::query!("INSERT INTO tax_codes (code, name, category) VALUES (?, ?, ?)", code, name, category)
        .execute(&mut **writing)
        .await?;
    sqlx::query!("INSERT INTO tax_rates (code, valid_from, rate_e6) VALUES (?, ?, ?)", code, valid_from, rate)
        .execute(&mut **writing)
        .await?;
    let words = format!("added tax code {code}, {name}");
    writing.note_setting("tax codes", words, vec![set("valid from", till_core::calendar::words(valid_from))]);
    Ok(())
}

/// Adds a tax code as typed.
///
/// # Errors
/// A code that is there, a code, name or rate that cannot be.
pub async fn typed_tax_code(
    writing: &mut Writing<'_>,
    code: &str,
    name: &str,
    category: TaxCategory,
    valid_from: NaiveDate,
    rate: Rate,
) -> Result<()> {
    let code = code.trim();
    if !(1..=8).contains(&code.len()) || !code.chars().all(|c| c.is_ascii_uppercase() || c.is_ascii_digit()) {
        return Err(StoreError::invalid("code", "A tax code has capital letters and digits, 8 at most, such as S23."));
    }
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 60 {
        return Err(StoreError::invalid("name", "Write a name of 60 characters at most."));
    }
    if rate < Rate::ZERO || rate > Rate::ONE || (rate.is_positive() && category != TaxCategory::S) {
        return Err(StoreError::invalid(
            "rate",
            "A rate lies between 0 and 100 %, and is above zero for category S only.",
        ));
    }
    let taken =
        sqlx::query_scalar!("SELECT code FROM tax_codes WHERE code = ?", code).fetch_optional(&mut **writing).await?;
    if taken.is_some() {
        return Err(StoreError::invalid("code", format!("There is a tax code {code} already.")));
    }
    tax_code(writing, code, name, category, valid_from, rate).await
}

/// Gives a tax code another rate from a day on. What is posted keeps the rate it has.
///
/// # Errors
/// A code that is not there or has no tax, a rate that cannot be, a day that is not after the last.
pub async fn tax_rate(writing: &mut Writing<'_>, code: &str, valid_from: NaiveDate, rate: Rate) -> Result<()> {
    let category = sqlx::query_scalar!("SELECT category FROM tax_codes WHERE code = ?", code)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::invalid("code", format!("There is no tax code {code}.")))?;
    if category != TaxCategory::S.code() {
        let sentence = format!("{code} is of category {category}, which has no rate but zero. Only category S has.");
        return Err(StoreError::invalid("rate", sentence));
    }
    if !rate.is_positive() || rate > Rate::ONE {
        return Err(StoreError::invalid("rate", "A rate lies above 0 and up to 100 %."));
    }
    let last = sqlx::query!(
        r#"SELECT valid_from AS "from: NaiveDate", rate_e6 FROM tax_rates WHERE code = ? ORDER BY valid_from DESC LIMIT 1"#,
        code
    )
    .fetch_optional(&mut **writing)
    .await?;
    if let Some(last) = last.as_ref().filter(|last| valid_from <= last.from) {
        let sentence = format!(
            "{code} has {} % since {}. Give a later day.",
            Rate::from_scaled(last.rate_e6).percent(),
            till_core::calendar::words(last.from)
        );
        return Err(StoreError::invalid("valid_from", sentence));
    }
    let scaled = rate.scaled();
    sqlx::query!("INSERT INTO tax_rates (code, valid_from, rate_e6) VALUES (?, ?, ?)", code, valid_from, scaled)
        .execute(&mut **writing)
        .await?;
    let was = last.map(|last| Rate::from_scaled(last.rate_e6).percent());
    let words = format!("{code} has {} % from {}", rate.percent(), till_core::calendar::words(valid_from));
    writing.note_setting("tax codes", words, changed("rate", was.as_deref(), Some(&rate.percent())));
    Ok(())
}

/// Notes an exchange rate as typed.
///
/// # Errors
/// The base currency, a rate of zero, a day that has one.
pub async fn typed_exchange_rate(
    writing: &mut Writing<'_>,
    rules: &crate::rules::Rules,
    of: Currency,
    valid_from: NaiveDate,
    rate: ExchangeRate,
) -> Result<()> {
    if of == rules.base {
        return Err(StoreError::invalid("currency", format!("{of} is the base currency: one of it is one.")));
    }
    if !rate.is_positive() {
        return Err(StoreError::invalid("rate", "A rate is above zero: base currency for one unit."));
    }
    let code = of.code();
    let taken = sqlx::query_scalar!(
        "SELECT currency FROM exchange_rates WHERE currency = ? AND valid_from = ?",
        code,
        valid_from
    )
    .fetch_optional(&mut **writing)
    .await?;
    if taken.is_some() {
        return Err(StoreError::invalid(
            "valid_from",
            format!("{of} has a rate from {} already: documents were made with it.", words(valid_from)),
        ));
    }
    exchange_rate(writing, of, valid_from, rate).await
}

/// Notes the exchange rate of a currency from a date on: base currency per unit.
///
/// # Errors
/// Where one is noted for that date already.
pub async fn exchange_rate(
    writing: &mut Writing<'_>,
    of: Currency,
    valid_from: NaiveDate,
    rate: ExchangeRate,
) -> Result<()> {
    let code = of.code();
    let rate = rate.scaled();
    sqlx::query!("INSERT INTO exchange_rates (currency, valid_from, rate_e9) VALUES (?, ?, ?)", code, valid_from, rate)
        .execute(&mut **writing)
        .await?;
    let words = format!("noted the exchange rate of {code}");
    writing.note_setting("exchange rates", words, vec![set("valid from", till_core::calendar::words(valid_from))]);
    Ok(())
}

/// The places of money that every company has, on the accounts of its account map, and the ways of
/// paying that lead there: the bank, checks in hand, the cash drawer.
///
/// # Errors
/// Where the account map leads the bank or receipts in hand nowhere.
pub async fn money_places(writing: &mut Writing<'_>) -> Result<()> {
    let places: [(&str, &str, PlaceKind, &str, &str); 3] = [
        ("bank", "Bank", PlaceKind::Bank, "transfer", "transfer"),
        ("checks", "Checks in hand", PlaceKind::ChecksInHand, "check", "check"),
        ("drawer", "Cash drawer", PlaceKind::Drawer, "cash", "cash"),
    ];
    let accounts = crate::rules::accounts(writing).await?;
    for (code, name, kind, method, words) in places {
        let account = accounts
            .account(kind.purpose(), None, None)
            .map_err(|why| StoreError::WrongState(why.to_string()))?
            .number
            .clone();
        let new = NewPlace { code, name, kind, account: &account, currency: None, methods: &[(method, words)] };
        crate::money_places::add(writing, &new).await?;
    }
    crate::money_places::add_cards(writing).await
}
