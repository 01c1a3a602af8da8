//! Bank accounts as they stand: what the bank says, what the books say, and what explains the rest.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::bank::{Reconciliation, ToReconcile, reconcile};
use till_core::ids::DocumentRef;
use till_core::money::{Currency, Money};

use super::facts::expected;
use crate::Result;
use crate::convert::currency;
use crate::rules::Rules;

/// A bank account with its standing.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AccountState {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// Number of its ledger account.
    pub ledger_account: String,
    /// As the bank names it; none where nobody said.
    pub number: Option<String>,
    /// The currency of its statements.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// The last day statements reach to; none where there are none.
    pub until: Option<NaiveDate>,
    /// Number of the last statement.
    pub last: Option<String>,
    /// Lines that are not cleared.
    pub open_lines: i64,
    /// The day the oldest of those was booked on.
    pub oldest_open: Option<NaiveDate>,
    /// How bank and books compare; none where there is no statement yet.
    pub reconciliation: Option<Reconciliation>,
}

/// Something the books say that no line of the bank does yet.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OutstandingRow {
    /// What wrote it.
    pub document: DocumentRef,
    /// When.
    pub date: NaiveDate,
    /// How much, in the account's currency; below zero where it left.
    pub amount: Money,
    /// What was noted with it.
    pub words: String,
}

/// The bank accounts of the company.
///
/// # Errors
/// Where the database cannot be read.
pub async fn accounts(connection: &mut SqliteConnection, rules: &Rules) -> Result<Vec<AccountState>> {
    let rows = sqlx::query!(
        r#"SELECT code AS "code!", name AS "name!", account AS "account!", bank_account, money_places.currency,
                  (SELECT closing_on FROM bank_statements WHERE place = code ORDER BY id DESC LIMIT 1) AS "until: NaiveDate",
                  (SELECT number FROM bank_statements WHERE place = code ORDER BY id DESC LIMIT 1) AS "last: String",
                  (SELECT count(*) FROM bank_statements JOIN bank_lines ON statement_id = bank_statements.id WHERE place = code AND cleared_minor <> amount_minor) AS "open!: i64",
                  (SELECT min(booked_on) FROM bank_statements JOIN bank_lines ON statement_id = bank_statements.id WHERE place = code AND cleared_minor <> amount_minor) AS "oldest: NaiveDate"
           FROM money_places WHERE kind = 'bank' ORDER BY code"#
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut accounts = Vec::with_capacity(rows.len());
    for row in rows {
        let money = row.currency.as_deref().map(currency).transpose()?.unwrap_or(rules.base);
        let reconciliation = match row.until {
            Some(_) => Some(compared(connection, rules, (&row.code, &row.account), money).await?),
            None => None,
        };
        accounts.push(AccountState {
            code: row.code,
            name: row.name,
            ledger_account: row.account,
            number: row.bank_account,
            currency: money,
            until: row.until,
            last: row.last,
            open_lines: row.open,
            oldest_open: row.oldest,
            reconciliation,
        });
    }
    Ok(accounts)
}

/// The first day statements say anything of.
async fn first_day(connection: &mut SqliteConnection, place: &str) -> Result<Option<NaiveDate>> {
    Ok(sqlx::query_scalar!(
        r#"SELECT opening_on AS "day: NaiveDate" FROM bank_statements WHERE place = ? ORDER BY id LIMIT 1"#,
        place
    )
    .fetch_optional(connection)
    .await?)
}

async fn compared(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (place, account): (&str, &str),
    money: Currency,
) -> Result<Reconciliation> {
    let (code, in_base) = (money.code(), money == rules.base);
    let row = sqlx::query!(
        r#"SELECT (SELECT opening_minor FROM bank_statements WHERE place = ?1 ORDER BY id LIMIT 1) AS "first!: i64",
                  (SELECT closing_minor FROM bank_statements WHERE place = ?1 ORDER BY id DESC LIMIT 1) AS "bank!: i64",
                  (SELECT coalesce(sum(amount_minor - cleared_minor), 0) FROM bank_statements JOIN bank_lines ON statement_id = bank_statements.id
                   WHERE place = ?1) AS "open!: i64",
                  (SELECT coalesce(sum(CASE WHEN ?4 THEN base_minor ELSE document_minor END), 0) FROM entry_lines
                   WHERE account = ?2 AND (?4 OR currency = ?3)) AS "ledger!: i64""#,
        place,
        account,
        code,
        in_base
    )
    .fetch_one(&mut *connection)
    .await?;
    // What lies before the first statement and no line ever says is part of its opening balance.
    let first = first_day(connection, place).await?;
    let expected = expected(connection, rules, place, money).await?;
    let before = |date: NaiveDate| first.is_some_and(|first| date < first);
    let sum = |wanted: bool| -> Money {
        expected.iter().filter(|one| before(one.date) == wanted).map(|one| one.amount).sum()
    };
    // Pairs that were taken back on both sides of the first day come to nothing, and are not among what is expected.
    Ok(reconcile(&ToReconcile {
        bank: Money(row.bank),
        ledger: Money(row.ledger),
        outstanding: sum(false),
        open: Money(row.open),
        before: (Money(row.first), sum(true)),
    }))
}

/// What the books say and the bank does not yet, the oldest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn outstanding(connection: &mut SqliteConnection, rules: &Rules, place: &str) -> Result<Vec<OutstandingRow>> {
    let kept_in = sqlx::query_scalar!("SELECT currency FROM money_places WHERE code = ? AND kind = 'bank'", place)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| crate::StoreError::WrongState(format!("“{place}” is no bank account.")))?;
    let money = kept_in.as_deref().map(currency).transpose()?.unwrap_or(rules.base);
    let first = first_day(connection, place).await?;
    let expected = expected(connection, rules, place, money).await?;
    let mut rows: Vec<OutstandingRow> = expected
        .into_iter()
        .filter(|one| first.is_none_or(|first| one.date >= first))
        .map(|one| OutstandingRow { document: one.document, date: one.date, amount: one.amount, words: one.words })
        .collect();
    rows.sort_by_key(|row| row.date);
    Ok(rows)
}
