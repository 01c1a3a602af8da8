//! Open items and applications: the one place that reads and writes what customers owe and are owed.
//!
//! A document that makes a balance hands over a [`NewItem`]; tying two items together, or apart again,
//! is [`apply`] and [`take_back`]. What is open of each item, when it falls due next and what each
//! customer owes are kept here for speed and proved by [`crate::verify`].

mod as_of;
mod standing;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::accounts::{Account, AccountType, Purpose};
use till_core::calendar::Terms;
use till_core::entry::Entry;
use till_core::ids::{ApplicationId, CustomerId, DocumentKind, DocumentRef, EntryId, OpenItemId};
use till_core::money::{Currency, Money};
use till_core::open_items::{OpenItem, Side};
use till_core::room::Movement;

use crate::convert::{currency, json, kind, known, terms, terms_json};
use crate::{Result, StoreError, customers};

pub use as_of::{Aged, OpenItemRow, OpenItems, ageing, open_as_of};
pub(crate) use standing::{standing_on_credit, standing_on_debit, take_back};

/// An open item that a posting makes.
#[derive(Debug, Clone)]
pub(crate) struct NewItem<'a> {
    pub customer: CustomerId,
    pub purpose: Purpose,
    /// The very account of its balance; none where it has no balance.
    pub account: Option<&'a str>,
    pub side: Side,
    pub document: DocumentRef,
    pub currency: Currency,
    pub amount: Money,
    pub amount_base: Money,
    pub posting_date: NaiveDate,
    pub document_date: NaiveDate,
    /// None where it is due at once.
    pub terms: Option<&'a Terms>,
    pub due_date: NaiveDate,
}

/// The account an entry puts a purpose on, where it does.
pub(crate) fn account_of(entry: Option<&Entry>, purpose: Purpose) -> Option<&str> {
    entry?.lines.iter().find(|line| line.purpose == purpose).map(|line| line.account.as_str())
}

/// Writes new items, all of each open, and adds what is owed to us to what their customers owe.
/// Returns the id of the first; the others follow it.
pub(crate) async fn add(connection: &mut SqliteConnection, items: &[NewItem<'_>]) -> Result<OpenItemId> {
    let first = next_id(connection, "open_items").await?;
    let mut rows = Vec::with_capacity(items.len());
    for (item, id) in items.iter().zip(first..) {
        // What came to nothing is settled as it is posted.
        let base = if item.amount.is_zero() { Money::ZERO } else { item.amount_base };
        rows.push((
            (id, item.customer, item.purpose.word(), item.account, item.side.word()),
            (item.document.kind.word(), item.document.id, &item.document.number, item.currency.code()),
            (item.amount, item.amount_base, item.posting_date, item.document_date, item.due_date, base),
            item.terms.map(terms_json).transpose()?,
        ));
    }
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO open_items (id, customer_id, purpose, account, side, kind, document_id, number, currency, amount_minor,
                                 amount_base_minor, posting_date, document_date, next_due_date, open_minor, open_base_minor, terms)
         SELECT value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[0][4]',
                value ->> '$[1][0]', value ->> '$[1][1]', value ->> '$[1][2]', value ->> '$[1][3]',
                value ->> '$[2][0]', value ->> '$[2][1]', value ->> '$[2][2]', value ->> '$[2][3]', value ->> '$[2][4]',
                value ->> '$[2][0]', value ->> '$[2][5]', value ->> '$[3]'
         FROM jsonb_each(?)",
        rows
    )
    .execute(&mut *connection)
    .await?;
    let mut owed = std::collections::BTreeMap::new();
    for item in items.iter().filter(|item| item.purpose == Purpose::Receivable) {
        let amount = if item.side == Side::OwedToUs { item.amount_base } else { -item.amount_base };
        *owed.entry(item.customer).or_insert(Money::ZERO) += amount;
    }
    customers::add_owed_to(connection, &owed).await?;
    Ok(OpenItemId(first))
}

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
                  amount_minor, open_minor, open_base_minor
           FROM json_each(?) AS wanted JOIN open_items ON open_items.id = wanted.value
           LEFT JOIN accounts ON accounts.number = account ORDER BY wanted.key"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    let moves = sqlx::query!(
        r#"SELECT debit_item AS "item!", application_date AS "date!: NaiveDate", debit_minor AS "amount!: i64"
           FROM json_each(?1) AS wanted JOIN applications ON debit_item = wanted.value
           UNION ALL
           SELECT credit_item, application_date, credit_minor FROM json_each(?1) AS wanted JOIN applications ON credit_item = wanted.value"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    let mut moved: std::collections::HashMap<i64, Vec<Movement>> = std::collections::HashMap::new();
    for row in moves {
        moved.entry(row.item).or_default().push(Movement::new(row.date, -row.amount));
    }
    rows.into_iter()
        .map(|row| {
            let account = match (row.account, row.account_name, row.account_type) {
                (Some(number), Some(name), Some(account_type)) => {
                    Some(Account { number, name, account_type: known(&account_type, AccountType::of)? })
                }
                _ => None,
            };
            let mut movements = moved.remove(&row.id).unwrap_or_default();
            movements.push(Movement::new(row.posting_date, row.amount_minor));
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

/// An application to write: what is owed to us, what is owed by us, and on each side the amount and
/// what it releases in base currency.
#[derive(Debug, Clone, Copy)]
pub(crate) struct NewTie {
    pub debit: OpenItemId,
    pub credit: OpenItemId,
    pub debit_amount: (Money, Money),
    pub credit_amount: (Money, Money),
    pub reverses: Option<ApplicationId>,
    pub entry: Option<EntryId>,
}

/// Ties items together on a day. What stays open of each follows.
pub(crate) async fn apply(connection: &mut SqliteConnection, date: NaiveDate, ties: &[NewTie]) -> Result<()> {
    let rows: Vec<_> = ties
        .iter()
        .map(|tie| ((tie.debit, tie.debit_amount), (tie.credit, tie.credit_amount), tie.reverses, tie.entry))
        .collect();
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO applications (application_date, debit_item, debit_minor, debit_base_minor, credit_item, credit_minor,
                                   credit_base_minor, reverses_id, entry_id)
         SELECT ?1, value ->> '$[0][0]', value ->> '$[0][1][0]', value ->> '$[0][1][1]', value ->> '$[1][0]',
                value ->> '$[1][1][0]', value ->> '$[1][1][1]', value ->> '$[2]', value ->> '$[3]'
         FROM jsonb_each(?2)",
        date,
        rows
    )
    .execute(&mut *connection)
    .await?;
    let mut moved: std::collections::BTreeMap<OpenItemId, (Money, Money)> = std::collections::BTreeMap::new();
    for tie in ties {
        for (item, (amount, base)) in [(tie.debit, tie.debit_amount), (tie.credit, tie.credit_amount)] {
            let sum = moved.entry(item).or_default();
            sum.0 += amount;
            sum.1 += base;
        }
    }
    let moved = json(&moved.into_iter().collect::<Vec<_>>())?;
    sqlx::query!(
        "UPDATE open_items SET open_minor = open_minor - (new.value ->> '$[1][0]'), open_base_minor = open_base_minor - (new.value ->> '$[1][1]')
         FROM jsonb_each(?) AS new WHERE open_items.id = new.value ->> '$[0]'",
        moved
    )
    .execute(&mut *connection)
    .await?;
    refresh(connection, &moved).await
}

/// What falls due next, what customers owe and the versions of the documents follow what was applied.
async fn refresh(connection: &mut SqliteConnection, moved: &str) -> Result<()> {
    let rows = sqlx::query!(
        r#"SELECT open_items.id AS "id!", customer_id, purpose, side, kind, document_id, terms, document_date AS "date: NaiveDate", amount_minor, open_minor,
                  new.value ->> '$[1][1]' AS "base!: i64"
           FROM jsonb_each(?) AS new JOIN open_items ON open_items.id = new.value ->> '$[0]'"#,
        moved
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut due = Vec::new();
    let mut owed = std::collections::BTreeMap::new();
    let (mut invoices, mut payments) = (Vec::new(), Vec::new());
    for row in &rows {
        if let Some(kept) = &row.terms {
            due.push((row.id, terms(kept)?.next_due(row.date, Money(row.amount_minor), Money(row.open_minor))));
        }
        if row.purpose == Purpose::Receivable.word() {
            let sign = if row.side == Side::OwedToUs.word() { -1 } else { 1 };
            *owed.entry(CustomerId(row.customer_id)).or_insert(Money::ZERO) += Money(sign * row.base);
        }
        match row.kind.as_str() {
            "invoice" => invoices.push(row.document_id),
            "receipt" => payments.push(row.document_id),
            _ => {}
        }
    }
    let (due, invoices, payments) = (json(&due)?, json(&invoices)?, json(&payments)?);
    sqlx::query!(
        "UPDATE open_items SET next_due_date = new.value ->> 1 FROM jsonb_each(?) AS new WHERE open_items.id = new.value ->> 0",
        due
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!("UPDATE documents SET version = version + 1 WHERE id IN (SELECT value FROM jsonb_each(?))", invoices)
        .execute(&mut *connection)
        .await?;
    sqlx::query!("UPDATE payments SET version = version + 1 WHERE id IN (SELECT value FROM jsonb_each(?))", payments)
        .execute(&mut *connection)
        .await?;
    customers::add_owed_to(connection, &owed).await
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
