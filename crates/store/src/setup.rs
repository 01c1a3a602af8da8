//! Setting up a company: settings, numbers, periods, accounts, taxes, exchange rates.

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::accounts::{AccountType, Purpose};
use till_core::calendar::end_of_month;
use till_core::fixed::{ExchangeRate, Rate};
use till_core::money::Currency;
use till_core::tax::{TaxCategory, TaxComputed};

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
pub async fn company(connection: &mut SqliteConnection, new: &NewCompany) -> Result<()> {
    let exists = sqlx::query_scalar!("SELECT count(*) FROM company").fetch_one(&mut *connection).await?;
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
    .execute(connection)
    .await?;
    Ok(())
}

/// Moves a company that stands still on a day to another day. Never back.
///
/// # Errors
/// Where the day is before the present one.
pub async fn move_business_date(connection: &mut SqliteConnection, to: NaiveDate) -> Result<()> {
    let moved =
        sqlx::query!("UPDATE company SET business_date = ? WHERE business_date IS NULL OR business_date <= ?", to, to)
            .execute(connection)
            .await?;
    if moved.rows_affected() == 0 {
        return Err(StoreError::WrongState("The business date never goes back.".to_owned()));
    }
    Ok(())
}

/// Starts a range of numbers for a kind of document.
///
/// # Errors
/// Where the kind has one already.
pub async fn number_range(connection: &mut SqliteConnection, kind: &str, prefix: &str, first: i64) -> Result<()> {
    sqlx::query!(
        "INSERT INTO number_ranges (kind, prefix, first, next) VALUES (?, ?, ?, ?)",
        kind,
        prefix,
        first,
        first
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Opens monthly periods from the month of `from` to the month of `to`.
///
/// # Errors
/// Where one of them exists already.
pub async fn months(connection: &mut SqliteConnection, from: NaiveDate, to: NaiveDate) -> Result<()> {
    let mut first = from;
    while first <= to {
        let last = end_of_month(first);
        sqlx::query!("INSERT INTO periods (first, last, open) VALUES (?, ?, 1)", first, last)
            .execute(&mut *connection)
            .await?;
        let Some(next) = last.succ_opt() else { break };
        first = next;
    }
    Ok(())
}

/// Opens or closes the period that begins on `first`.
///
/// # Errors
/// Where there is no such period.
pub async fn set_period(connection: &mut SqliteConnection, first: NaiveDate, open: bool) -> Result<()> {
    let changed = sqlx::query!("UPDATE periods SET open = ? WHERE first = ?", open, first).execute(connection).await?;
    if changed.rows_affected() == 0 {
        return Err(StoreError::invalid("first", "No period begins on that day."));
    }
    Ok(())
}

/// Adds an account and the rows of the account map that lead to it.
///
/// # Errors
/// Where the number, or a row of the map, exists already.
pub async fn account(connection: &mut SqliteConnection, new: &NewAccount<'_>) -> Result<()> {
    let account_type = new.account_type.word();
    sqlx::query!(
        "INSERT INTO accounts (number, name, account_type) VALUES (?, ?, ?)",
        new.number,
        new.name,
        account_type
    )
    .execute(&mut *connection)
    .await?;
    for (purpose, item_class) in new.serves {
        let purpose = purpose.word();
        sqlx::query!(
            "INSERT INTO account_map (purpose, item_class, account) VALUES (?, ?, ?)",
            purpose,
            *item_class,
            new.number
        )
        .execute(&mut *connection)
        .await?;
    }
    Ok(())
}

/// Takes every row for a purpose and item class out of the account map.
///
/// # Errors
/// Where the database cannot be written.
pub async fn unmap(connection: &mut SqliteConnection, purpose: Purpose, item_class: Option<&str>) -> Result<()> {
    let purpose = purpose.word();
    sqlx::query!("DELETE FROM account_map WHERE purpose = ? AND item_class IS ?", purpose, item_class)
        .execute(connection)
        .await?;
    Ok(())
}

/// Adds a tax code with its first rate.
///
/// # Errors
/// Where the code exists already.
pub async fn tax_code(
    connection: &mut SqliteConnection,
    code: &str,
    name: &str,
    category: TaxCategory,
    valid_from: NaiveDate,
    rate: Rate,
) -> Result<()> {
    let category = category.code();
    let rate = rate.scaled();
    sqlx::query!("INSERT INTO tax_codes (code, name, category) VALUES (?, ?, ?)", code, name, category)
        .execute(&mut *connection)
        .await?;
    sqlx::query!("INSERT INTO tax_rates (code, valid_from, rate_e6) VALUES (?, ?, ?)", code, valid_from, rate)
        .execute(connection)
        .await?;
    Ok(())
}

/// Notes the exchange rate of a currency from a date on: base currency per unit.
///
/// # Errors
/// Where one is noted for that date already.
pub async fn exchange_rate(
    connection: &mut SqliteConnection,
    of: Currency,
    valid_from: NaiveDate,
    rate: ExchangeRate,
) -> Result<()> {
    let code = of.code();
    let rate = rate.scaled();
    sqlx::query!("INSERT INTO exchange_rates (currency, valid_from, rate_e9) VALUES (?, ?, ?)", code, valid_from, rate)
        .execute(connection)
        .await?;
    Ok(())
}
