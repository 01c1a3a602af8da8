//! How a bank writes its tables: kept for each account, so that it is said once.

use sqlx::SqliteConnection;
use till_core::bank::columns::StatementColumns;
use till_core::money::Currency;
use till_core::settle::PlaceKind;

use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, money_places};

/// A bank account, as tables of its statements are read for it.
#[derive(Debug, Clone)]
pub struct TableAccount {
    /// Its number, as the bank names it; its code where nobody said one.
    pub number: String,
    /// Its currency.
    pub currency: Currency,
    /// What was said of its columns before; none where nothing was.
    pub columns: Option<StatementColumns>,
}

/// What is known of a bank account, for reading a table of it.
///
/// # Errors
/// A place that is no bank account, or one whose number nobody said.
pub async fn table_account(connection: &mut SqliteConnection, rules: &Rules, code: &str) -> Result<TableAccount> {
    let row = sqlx::query!("SELECT name, kind, bank_account, statement_columns FROM money_places WHERE code = ?", code)
        .fetch_optional(&mut *connection)
        .await?
        .filter(|row| row.kind == PlaceKind::Bank.word())
        .ok_or_else(|| StoreError::WrongState(format!("“{code}” is no bank account.")))?;
    let place = money_places::place(connection, code).await?;
    let Some(number) = row.bank_account else {
        return Err(StoreError::WrongState(format!("Say the account number of {} first.", row.name)));
    };
    let columns = row.statement_columns.as_deref().map(serde_json::from_str).transpose();
    Ok(TableAccount {
        number,
        currency: place.currency.unwrap_or(rules.base),
        columns: columns.map_err(|error| StoreError::Corrupt(error.to_string()))?,
    })
}

/// Keeps what was said of an account's columns.
///
/// # Errors
/// Where the database cannot be written.
pub async fn keep_columns(writing: &mut Writing<'_>, code: &str, columns: &StatementColumns) -> Result<()> {
    let text = crate::convert::json(columns)?;
    let changed = sqlx::query!(
        "UPDATE money_places SET statement_columns = ?1 WHERE code = ?2 AND statement_columns IS NOT ?1",
        text,
        code
    )
    .execute(&mut **writing)
    .await?
    .rows_affected();
    if changed > 0 {
        let name =
            sqlx::query_scalar!("SELECT name FROM money_places WHERE code = ?", code).fetch_one(&mut **writing).await?;
        let fields = vec![set("columns", &text)];
        writing.note_setting(&name, format!("said which column of the tables of {name} is what"), fields);
    }
    Ok(())
}
