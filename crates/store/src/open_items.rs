//! Open items and applications: the one place that reads what customers owe and are owed. They are written
//! by [`crate::posting`].

mod as_of;
mod early;
mod standing;
mod taxes;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::accounts::{Account, AccountType, Purpose};
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, OpenItemId};
use till_core::money::Money;
use till_core::open_items::{OpenItem, Side};
use till_core::room::Movement;

use crate::convert::{currency, json, kind, known};
use crate::{Result, StoreError};

pub use as_of::{Aged, OpenItemRow, OpenItems, ageing, open_as_of};
pub(crate) use early::early;
pub(crate) use standing::{discount_on, made_by, standing_on_credit, standing_on_debit, with_discounts};
pub(crate) use taxes::{of_applications, taken_with};

/// The next id of a table whose ids are never given twice.
pub(crate) async fn next_id(connection: &mut SqliteConnection, table: &str) -> Result<i64> {
    // SQLite keeps the highest id ever given in a table of its own.
    let last: Option<i64> = sqlx::query_scalar("SELECT seq FROM sqlite_sequence WHERE name = ?")
        .bind(table)
        .fetch_optional(connection)
        .await?;
    Ok(last.unwrap_or(0) + 1)
}

/// Items by id, in the order wanted, with everything that moved them.
pub(crate) async fn load(connection: &mut SqliteConnection, ids: &[OpenItemId]) -> Result<Vec<OpenItem>> {
    let ids = json(&ids)?;
    let rows = sqlx::query!(
        r#"SELECT open_items.id AS "id!", customer_id, purpose, account, name AS "account_name?", account_type AS "account_type?", side, kind, document_id,
                  open_items.number, open_items.currency, posting_date AS "posting_date: NaiveDate", next_due_date AS "due_date: NaiveDate",
                  amount_minor, amount_base_minor, open_minor, open_base_minor
           FROM json_each(?) AS wanted JOIN open_items ON open_items.id = wanted.value
           LEFT JOIN accounts ON accounts.number = account ORDER BY wanted.key"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    let moves = sqlx::query!(
        r#"SELECT debit_item AS "item!", application_date AS "date!: NaiveDate", debit_minor AS "amount!: i64", debit_base_minor AS "base!: i64"
           FROM json_each(?1) AS wanted JOIN applications ON debit_item = wanted.value
           UNION ALL
           SELECT credit_item, application_date, credit_minor, credit_base_minor FROM json_each(?1) AS wanted JOIN applications ON credit_item = wanted.value"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut moved: std::collections::HashMap<i64, (Vec<Movement>, Vec<Movement>)> = std::collections::HashMap::new();
    for row in moves {
        let (amounts, bases) = moved.entry(row.item).or_default();
        amounts.push(Movement::new(row.date, -row.amount));
        bases.push(Movement::new(row.date, -row.base));
    }
    let mut taxes = match rows.iter().any(|row| row.purpose == Purpose::DepositLiability.word()) {
        true => taxes::held(connection, &ids).await?,
        false => std::collections::HashMap::new(),
    };
    rows.into_iter()
        .map(|row| {
            let account = match (row.account, row.account_name, row.account_type) {
                (Some(number), Some(name), Some(account_type)) => {
                    Some(Account { number, name, account_type: known(&account_type, AccountType::of)? })
                }
                _ => None,
            };
            let (mut movements, mut base_movements) = moved.remove(&row.id).unwrap_or_default();
            movements.push(Movement::new(row.posting_date, row.amount_minor));
            base_movements.push(Movement::new(row.posting_date, row.amount_base_minor));
            Ok(OpenItem {
                id: OpenItemId(row.id),
                document: DocumentRef { kind: kind(&row.kind)?, id: row.document_id, number: row.number },
                customer: CustomerId(row.customer_id),
                purpose: known(&row.purpose, Purpose::of)?,
                account,
                side: known(&row.side, Side::of)?,
                currency: currency(&row.currency)?,
                posting_date: row.posting_date,
                due_date: row.due_date,
                open: Money(row.open_minor),
                open_base: Money(row.open_base_minor),
                movements,
                base_movements,
                taxes: taxes.remove(&row.id).unwrap_or_default(),
            })
        })
        .collect()
}

/// The item a document made on one side.
pub(crate) async fn of_document(
    connection: &mut SqliteConnection,
    document_kind: DocumentKind,
    id: i64,
    side: Side,
) -> Result<Option<OpenItemId>> {
    let (word, side) = (document_kind.word(), side.word());
    Ok(sqlx::query_scalar!("SELECT id FROM open_items WHERE kind = ? AND document_id = ? AND side = ?", word, id, side)
        .fetch_optional(connection)
        .await?
        .map(OpenItemId))
}

/// The item a document made on one side, with everything that moved it.
///
/// # Errors
/// [`StoreError::NotFound`] where it made none.
pub(crate) async fn item_of(
    connection: &mut SqliteConnection,
    document_kind: DocumentKind,
    id: i64,
    side: Side,
) -> Result<OpenItem> {
    let item = of_document(connection, document_kind, id, side).await?;
    let found = load(connection, item.as_slice()).await?.pop();
    found.ok_or_else(|| StoreError::not_found(document_kind, id))
}

/// What is open and owed to us by any of those customers, the oldest due first.
pub(crate) async fn owed_by(connection: &mut SqliteConnection, customers: &[CustomerId]) -> Result<Vec<OpenItem>> {
    let customers = json(&customers)?;
    let ids = sqlx::query_scalar!(
        r#"SELECT open_items.id AS "id!" FROM json_each(?) AS wanted JOIN open_items ON customer_id = wanted.value
           WHERE open_minor > 0 AND side = 'owed_to_us' AND purpose = 'receivable' ORDER BY next_due_date, open_items.id"#,
        customers
    )
    .fetch_all(&mut *connection)
    .await?;
    load(connection, &ids.into_iter().map(OpenItemId).collect::<Vec<_>>()).await
}

/// The customers one may pay for: itself first, then those whose parent it is, however far down.
pub(crate) async fn paying_group(
    connection: &mut SqliteConnection,
    payer: CustomerId,
) -> Result<Vec<till_core::settle::Member>> {
    let rows = sqlx::query!(
        r#"WITH RECURSIVE branches (id, depth) AS (
             SELECT ?1, 0 UNION SELECT customers.id, depth + 1 FROM customers JOIN branches ON parent_id = branches.id WHERE depth < 10
           )
           SELECT customers.id AS "id!", name AS "name!", owes_base_minor AS "owes!" FROM branches JOIN customers ON customers.id = branches.id
           GROUP BY customers.id ORDER BY min(depth), customers.id"#,
        payer.0
    )
    .fetch_all(connection)
    .await?;
    if rows.is_empty() {
        return Err(StoreError::not_found(DocumentKind::Customer, payer));
    }
    Ok(rows
        .into_iter()
        .map(|row| till_core::settle::Member { id: CustomerId(row.id), name: row.name, owes: Money(row.owes) })
        .collect())
}

/// Those customers, with what each owes.
pub(crate) async fn members(
    connection: &mut SqliteConnection,
    ids: &[CustomerId],
) -> Result<Vec<till_core::settle::Member>> {
    let ids = json(&ids)?;
    Ok(sqlx::query!(
        "SELECT id, name, owes_base_minor FROM customers WHERE id IN (SELECT value FROM jsonb_each(?)) ORDER BY id",
        ids
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| till_core::settle::Member { id: CustomerId(row.id), name: row.name, owes: Money(row.owes_base_minor) })
    .collect())
}
