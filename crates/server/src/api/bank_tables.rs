//! Bank statements as tables: which column is what, what that makes of the file, and its import.

use actix_web::post;
use actix_web::web::{Data, Path, Query};
use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::bank::columns::StatementColumns;
use till_core::money::{Currency, Money};
use till_formats::bank_table::{self, BankTableError, Said};
use till_formats::table::read_csv;
use till_store::bank::{self, TableAccount, TakenIn};
use till_store::{Store, StoreError, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use crate::body::SmallFile;
use crate::problem::Problem;
use crate::request::{Change, Json};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config.service(preview).service(import);
}

/// What is said of a table.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct TableSaid {
    /// What the file is called.
    #[serde(default)]
    name: String,
    /// Which column is what, as JSON; none for what was said the last time, or a first guess.
    columns: Option<String>,
    /// The balance before the first line, a decimal, where no column says it.
    opening: Option<String>,
    /// The balance after the last line.
    closing: Option<String>,
}

/// What a table would be as a statement.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct TablePreview {
    /// Its columns.
    headings: Vec<String>,
    /// Which column is what.
    columns: StatementColumns,
    /// Its first rows, as they stand there.
    rows: Vec<Vec<String>>,
    /// The statement; none where something is wrong.
    statement: Option<TableStatement>,
    /// What is wrong.
    wrong: Option<TableWrong>,
}

/// A statement as read from a table.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct TableStatement {
    /// Its currency.
    #[schema(value_type = String)]
    currency: Currency,
    /// How many lines it has.
    lines: usize,
    /// The first day.
    from: NaiveDate,
    /// The last day.
    until: NaiveDate,
    /// The balance before its first line.
    opening: Money,
    /// What came.
    came: Money,
    /// What left, below zero.
    left: Money,
    /// The balance after its last line.
    closing: Money,
}

/// What is wrong with a table.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct TableWrong {
    /// Which column it is about; none for the file.
    field: Option<String>,
    /// What to do.
    sentence: String,
}

fn columns_of(said: &TableSaid, account: &TableAccount, headings: &[String]) -> Result<StatementColumns, StoreError> {
    match &said.columns {
        Some(text) => serde_json::from_str(text)
            .map_err(|_| StoreError::invalid("columns", "The columns cannot be read. Choose them again.")),
        None => Ok(account.columns.clone().unwrap_or_else(|| StatementColumns::guess(headings))),
    }
}

fn balance(field: &str, text: Option<&String>, currency: Currency) -> Result<Option<Money>, StoreError> {
    text.map(|text| text.trim())
        .filter(|text| !text.is_empty())
        .map(|text| currency.parse(text).map_err(|error| StoreError::decimal(field, &error)))
        .transpose()
}

fn read(
    bytes: &[u8],
    said: &TableSaid,
    account: &TableAccount,
    columns: &StatementColumns,
) -> Result<Result<till_core::bank::BankStatement, BankTableError>, StoreError> {
    let name: String = said.name.chars().take(120).collect();
    let about = Said {
        account: &account.number,
        currency: account.currency,
        opening: balance("opening", said.opening.as_ref(), account.currency)?,
        closing: balance("closing", said.closing.as_ref(), account.currency)?,
        name: &name,
    };
    Ok(bank_table::read(bytes, columns, &about))
}

/// What a table would be as a statement of an account. Nothing is written.
#[utoipa::path(
    operation_id = "preview_bank_table",
    params(TableSaid),
    request_body(content = String, content_type = "text/csv"),
    responses((status = 200, body = TablePreview), (status = 422, body = Problem))
)]
#[post("/bank-accounts/{code}/table/preview")]
pub(super) async fn preview(
    store: Data<Store>,
    code: Path<String>,
    said: Query<TableSaid>,
    body: SmallFile,
) -> Answer<TablePreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let account = bank::table_account(&mut connection, &rules, &code).await?;
    let table = read_csv(&body).map_err(|error| StoreError::invalid("file", error.to_string()))?;
    let columns = columns_of(&said, &account, &table.headings)?;
    let (statement, wrong) = match read(&body, &said, &account, &columns)? {
        Ok(statement) => {
            let sum = |came: bool| -> Money {
                let mine = statement.lines.iter().map(|line| line.amount);
                mine.filter(|amount| amount.is_positive() == came).sum()
            };
            let statement = TableStatement {
                currency: statement.currency,
                lines: statement.lines.len(),
                from: statement.opening.date,
                until: statement.closing.date,
                opening: statement.opening.amount,
                came: sum(true),
                left: sum(false),
                closing: statement.closing.amount,
            };
            (Some(statement), None)
        }
        Err(error) => {
            let wrong = TableWrong { field: error.field().map(str::to_owned), sentence: error.to_string() };
            (None, Some(wrong))
        }
    };
    let rows = table.rows.into_iter().take(4).map(|(_, cells)| cells).collect();
    Ok(Json(TablePreview { headings: table.headings, columns, rows, statement, wrong }))
}

/// Imports a table as a statement of an account. Which column is what is kept for the next one.
#[utoipa::path(
    operation_id = "import_bank_table",
    params(("Idempotency-Key" = String, Header), TableSaid),
    request_body(content = String, content_type = "text/csv"),
    responses((status = 200, body = TakenIn), (status = 422, body = Problem))
)]
#[post("/bank-accounts/{code}/table")]
pub(super) async fn import(
    store: Data<Store>,
    change: Change,
    code: Path<String>,
    said: Query<TableSaid>,
    body: SmallFile,
) -> Answer<TakenIn> {
    let asked = (body.as_ref(), code.as_str(), &said.columns, &said.opening, &said.closing);
    let request = change.request(&till_core::fingerprint::of(&asked));
    let taken = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            let account = bank::table_account(writing, &rules, &code).await?;
            let headings =
                bank_table::headings(&body).map_err(|error| StoreError::invalid("file", error.to_string()))?;
            let columns = columns_of(&said, &account, &headings)?;
            let statement = read(&body, &said, &account, &columns)?
                .map_err(|error| StoreError::invalid(error.field().unwrap_or("file"), error.to_string()))?;
            bank::keep_columns(writing, &code, &columns).await?;
            let name: String = said.name.chars().take(120).collect();
            bank::take_in(writing, &rules, &name, &[statement]).await
        })
        .await?;
    Ok(Json(taken))
}
