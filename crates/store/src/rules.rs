//! The company's rules as the core wants them: loaded once an operation.

use chrono::{Days, NaiveDate};
use sqlx::SqliteConnection;
use till_core::accounts::{Account, AccountMap, AccountRule, AccountType, Purpose};
use till_core::calendar::{DateOrder, Period, Periods};
use till_core::deposit::AdvanceTax;
use till_core::deposit::using::DepositUse;
use till_core::fixed::{ExchangeRate, RATE_HOLDS_DAYS, Rate};
use till_core::ids::{DocumentKind, ItemId};
use till_core::invoice::TaxDateRule;
use till_core::marks::MarkRules;
use till_core::money::{Currency, Money};
use till_core::returns::{ProofPolicy, ReturnLimit};
use till_core::shipment::CostEntry;
use till_core::tax::{TaxCategory, TaxCode, TaxComputed, TaxTable};
use till_core::treatment::{Treatment, TreatmentCodes};

use crate::convert::{currency, known};
use crate::{Result, StoreError};

/// Settings, accounts, taxes and periods of the company.
#[derive(Debug, Clone)]
pub struct Rules {
    /// The company's name.
    pub company: String,
    /// Base currency.
    pub base: Currency,
    /// What dates default to.
    pub business_date: NaiveDate,
    /// Per document or per line.
    pub tax_computed: TaxComputed,
    /// The account map.
    pub accounts: AccountMap,
    /// Tax codes.
    pub taxes: TaxTable,
    /// Periods.
    pub periods: Periods,
    /// Own fields and reporting lists.
    pub marks: MarkRules,
    /// Which tax code a treatment leads to.
    pub treatments: TreatmentCodes,
    /// When cost is entered.
    pub cost_entry: CostEntry,
    /// The warehouse that is taken where nobody says another.
    pub warehouse: String,
    /// For how many days a check counts as not cleared.
    pub clearing_days: u64,
    /// For how many days a return may arrive.
    pub return_days: i64,
    /// What freight of a shipment is billed as.
    pub freight_item: Option<ItemId>,
    /// Which day picks the tax rates of an invoice.
    pub tax_date: TaxDateRule,
    /// When tax on money in advance is due.
    pub advance_tax: AdvanceTax,
    /// How deposits are used on part invoices.
    pub deposit_use: DepositUse,
    /// Whether goods wait until what was billed in advance of their order is paid.
    pub hold_until_prepaid: bool,
    /// What is asked of a return that points at no document.
    pub return_proof: ProofPolicy,
    /// How much of an item may come back.
    pub return_limit: ReturnLimit,
    /// Up to which difference an open item counts as paid, in base currency.
    pub write_off_tolerance: Money,
    /// Whether a document date before that of the last of its kind stops its posting.
    pub dates_in_order: bool,
}

/// Loads the rules.
///
/// # Errors
/// [`StoreError::NotSetUp`] on an empty database.
pub async fn load(connection: &mut SqliteConnection) -> Result<Rules> {
    let company = sqlx::query!(
        r#"SELECT name, base_currency, coalesce(business_date, date('now')) AS "business_date!: NaiveDate", tax_computed,
                  warehouse, cost_entry, clearing_days, freight_item_id, tax_date, dates_in_order, advance_tax, deposit_use, hold_until_prepaid, return_days, return_proof, return_limit,
                  write_off_tolerance_minor
           FROM company"#
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or(StoreError::NotSetUp)?;
    Ok(Rules {
        company: company.name,
        base: currency(&company.base_currency)?,
        business_date: company.business_date,
        tax_computed: if company.tax_computed == "per_line" { TaxComputed::PerLine } else { TaxComputed::PerDocument },
        accounts: accounts(connection).await?,
        taxes: taxes(connection).await?,
        periods: periods(connection).await?,
        marks: crate::marks::rules(connection).await?,
        treatments: treatments(connection).await?,
        cost_entry: known(&company.cost_entry, CostEntry::of)?,
        warehouse: company.warehouse,
        clearing_days: u64::try_from(company.clearing_days).unwrap_or(0),
        return_days: company.return_days,
        return_proof: known(&company.return_proof, ProofPolicy::of)?,
        return_limit: known(&company.return_limit, ReturnLimit::of)?,
        write_off_tolerance: Money(company.write_off_tolerance_minor),
        freight_item: company.freight_item_id.map(ItemId),
        tax_date: known(&company.tax_date, TaxDateRule::of)?,
        advance_tax: known(&company.advance_tax, AdvanceTax::of)?,
        deposit_use: known(&company.deposit_use, DepositUse::of)?,
        hold_until_prepaid: company.hold_until_prepaid != 0,
        dates_in_order: company.dates_in_order != 0,
    })
}

pub(crate) async fn accounts(connection: &mut SqliteConnection) -> Result<AccountMap> {
    sqlx::query!(
        "SELECT purpose, item_class, customer_class, number, name, account_type
         FROM account_map JOIN accounts ON accounts.number = account_map.account ORDER BY account_map.id"
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(AccountRule {
            purpose: known(&row.purpose, Purpose::of)?,
            item_class: row.item_class,
            customer_class: row.customer_class,
            account: Account {
                number: row.number,
                name: row.name,
                account_type: known(&row.account_type, AccountType::of)?,
            },
        })
    })
    .collect::<Result<Vec<_>>>()
    .map(AccountMap)
}

async fn treatments(connection: &mut SqliteConnection) -> Result<TreatmentCodes> {
    sqlx::query!("SELECT treatment, tax_code FROM treatment_codes")
        .fetch_all(connection)
        .await?
        .into_iter()
        .map(|row| Ok((known(&row.treatment, Treatment::of)?, row.tax_code)))
        .collect()
}

async fn taxes(connection: &mut SqliteConnection) -> Result<TaxTable> {
    let mut table = TaxTable::default();
    let rows = sqlx::query!(
        r#"SELECT code, category, valid_from AS "valid_from: NaiveDate", rate_e6
           FROM tax_rates JOIN tax_codes USING (code) ORDER BY code, valid_from"#
    )
    .fetch_all(connection)
    .await?;
    for row in rows {
        let rate = (row.valid_from, Rate::from_scaled(row.rate_e6));
        match table.0.iter_mut().find(|code| code.code == row.code) {
            Some(code) => code.rates.push(rate),
            None => table.0.push(TaxCode {
                code: row.code,
                category: known(&row.category, TaxCategory::of)?,
                rates: vec![rate],
            }),
        }
    }
    Ok(table)
}

pub(crate) async fn periods(connection: &mut SqliteConnection) -> Result<Periods> {
    let rows = sqlx::query!(
        r#"SELECT first AS "first: NaiveDate", last AS "last: NaiveDate", open FROM periods ORDER BY first"#
    )
    .fetch_all(connection)
    .await?;
    Ok(Periods(rows.into_iter().map(|row| Period { first: row.first, last: row.last, open: row.open != 0 }).collect()))
}

/// Base currency per one unit of `of`, as known on `date`; one for the base currency itself. None where the
/// latest is older than a rate holds.
///
/// # Errors
/// Where the database cannot be read.
pub async fn exchange_rate(
    connection: &mut SqliteConnection,
    rules: &Rules,
    of: Currency,
    date: NaiveDate,
) -> Result<Option<ExchangeRate>> {
    if of == rules.base {
        return Ok(Some(ExchangeRate::ONE));
    }
    let code = of.code();
    let oldest = date.checked_sub_days(Days::new(RATE_HOLDS_DAYS)).unwrap_or(date);
    let rate = sqlx::query_scalar!(
        "SELECT rate_e9 FROM exchange_rates WHERE currency = ? AND valid_from BETWEEN ? AND ? ORDER BY valid_from DESC LIMIT 1",
        code,
        oldest,
        date
    )
    .fetch_optional(connection)
    .await?;
    Ok(rate.map(ExchangeRate::from_scaled))
}

/// The currencies a rate is known of on the business date, the base currency first.
pub(crate) async fn currencies(connection: &mut SqliteConnection, rules: &Rules) -> Result<Vec<Currency>> {
    let today = rules.business_date;
    let oldest = today.checked_sub_days(Days::new(RATE_HOLDS_DAYS)).unwrap_or(today);
    let known = sqlx::query_scalar!(
        "SELECT DISTINCT currency FROM exchange_rates WHERE valid_from BETWEEN ? AND ? ORDER BY currency",
        oldest,
        today
    )
    .fetch_all(connection)
    .await?;
    let mut currencies = vec![rules.base];
    for code in known {
        currencies.push(crate::convert::currency(&code)?);
    }
    currencies.dedup();
    Ok(currencies)
}

/// What the date of a new document of a kind is held against: the latest date of those that stand, are not canceled or
/// reversed and are dated no later than today. One dated ahead holds nobody up.
///
/// # Errors
/// Where the database cannot be read.
pub(crate) async fn date_order(
    connection: &mut SqliteConnection,
    rules: &Rules,
    kind: DocumentKind,
) -> Result<DateOrder> {
    let today = rules.business_date;
    // The kind of an invoice is looked at row by row: an index that begins with it would lead other queries astray.
    let query = match kind {
        DocumentKind::Invoice => {
            "SELECT max(document_date) FROM documents
             WHERE +kind <> 'credit_memo' AND state = 'posted' AND document_date <= ?
               AND NOT EXISTS (SELECT 1 FROM document_links WHERE to_id = documents.id AND role = 'cancels')"
        }
        DocumentKind::CreditMemo => {
            "SELECT max(document_date) FROM documents INDEXED BY documents_memos_by_date
             WHERE kind = 'credit_memo' AND state = 'posted' AND document_date <= ?"
        }
        DocumentKind::Receipt => {
            "SELECT max(posting_date) FROM payments WHERE posting_date <= ? AND reversed_on IS NULL AND kind = 'receipt'"
        }
        DocumentKind::Deposit => {
            "SELECT max(posting_date) FROM payments WHERE posting_date <= ? AND reversed_on IS NULL AND kind = 'deposit'"
        }
        DocumentKind::ContainerReturn => "SELECT max(posting_date) FROM container_returns WHERE posting_date <= ?",
        _ => return Ok(DateOrder::of_today(today)),
    };
    let last: Option<NaiveDate> = sqlx::query_scalar(query).bind(today).fetch_one(connection).await?;
    Ok(DateOrder { today, last, stops: rules.dates_in_order })
}

/// Takes the next number of a range: prefix and number, and the number alone.
///
/// # Errors
/// [`StoreError::NotSetUp`] where the range does not exist.
pub(crate) async fn next_number(connection: &mut SqliteConnection, kind: &str) -> Result<(String, i64)> {
    let row = sqlx::query!(
        "UPDATE number_ranges SET next = next + 1 WHERE kind = ? RETURNING prefix, next - 1 AS \"number!: i64\"",
        kind
    )
    .fetch_optional(connection)
    .await?
    .ok_or(StoreError::NotSetUp)?;
    Ok((format!("{}{}", row.prefix, row.number), row.number))
}

/// Takes several numbers of a range at once: the prefix and the first of them.
///
/// # Errors
/// [`StoreError::NotSetUp`] where the range does not exist.
pub(crate) async fn next_numbers(connection: &mut SqliteConnection, kind: &str, count: usize) -> Result<(String, i64)> {
    let count = i64::try_from(count).unwrap_or(i64::MAX);
    let row = sqlx::query!(
        "UPDATE number_ranges SET next = next + ?1 WHERE kind = ?2 RETURNING prefix, next - ?1 AS \"number!: i64\"",
        count,
        kind
    )
    .fetch_optional(connection)
    .await?
    .ok_or(StoreError::NotSetUp)?;
    Ok((row.prefix, row.number))
}
