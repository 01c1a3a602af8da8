//! Receipts as shown.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{ApplicationId, CustomerId, DocumentKind, DocumentRef, OpenItemId, ReceiptId};
use till_core::money::{Currency, Money};
use till_core::open_items::Side;

use crate::convert::currency;
use crate::ledger::{self, PostedEntry};
use crate::refunds::{self, RefundView};
use crate::trail::{Trail, trail};
use crate::{Result, StoreError, open_items};

/// A receipt in a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReceiptRow {
    /// Its id.
    pub id: ReceiptId,
    /// Its number.
    pub number: String,
    /// Who paid.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// How: as people say it.
    pub method: String,
    /// Where the money is: in hand, at the bank, cleared, returned; “none” for what is no money.
    pub whereabouts: String,
    /// The day it was reversed as a whole, where it was.
    pub reversed_on: Option<NaiveDate>,
    /// When.
    pub date: NaiveDate,
    /// Check number, words of the transfer.
    pub reference: Option<String>,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// All of it.
    pub amount: Money,
    /// What of it is unapplied.
    pub unapplied: Money,
    /// The same in base currency.
    pub unapplied_base: Money,
}

/// A stretch of the receipt list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReceiptList {
    /// The receipts, newest first.
    pub receipts: Vec<ReceiptRow>,
    /// How many fit the filter.
    pub count: i64,
    /// What is unapplied on all that fit, in base currency.
    pub unapplied_base: Money,
}

/// Receipts, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(
    connection: &mut SqliteConnection,
    search: Option<&str>,
    only_unapplied: bool,
    limit: i64,
    offset: i64,
) -> Result<ReceiptList> {
    let like = search.map(crate::find::pattern);
    let rows = sqlx::query!(
        r#"SELECT payments.id, payments.number, payments.customer_id, customers.name, payment_methods.name AS method, whereabouts,
                  reversed_on AS "reversed_on: NaiveDate", payments.posting_date AS "date: NaiveDate", reference, payments.currency,
                  payments.amount_minor, open_minor, open_base_minor
           FROM payments JOIN customers ON customers.id = payments.customer_id JOIN payment_methods ON payment_methods.code = method
           JOIN open_items ON open_items.kind = 'receipt' AND document_id = payments.id AND side = 'owed_by_us'
           WHERE payments.kind = 'receipt' AND (?1 IS NULL OR payments.number LIKE ?1 ESCAPE '\' OR customers.name LIKE ?1 ESCAPE '\' OR reference LIKE ?1 ESCAPE '\')
             AND (NOT ?2 OR open_minor > 0)
           ORDER BY payments.sequence DESC LIMIT ?3 OFFSET ?4"#,
        like, only_unapplied, limit, offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let all = sqlx::query!(
        r#"SELECT count(*) AS "count!: i64", coalesce(sum(open_base_minor), 0) AS "unapplied!: i64"
           FROM payments JOIN customers ON customers.id = payments.customer_id
           JOIN open_items ON open_items.kind = 'receipt' AND document_id = payments.id AND side = 'owed_by_us'
           WHERE payments.kind = 'receipt' AND (?1 IS NULL OR payments.number LIKE ?1 ESCAPE '\' OR customers.name LIKE ?1 ESCAPE '\' OR reference LIKE ?1 ESCAPE '\')
             AND (NOT ?2 OR open_minor > 0)"#,
        like, only_unapplied
    )
    .fetch_one(connection)
    .await?;
    let receipts = rows
        .into_iter()
        .map(|row| {
            Ok(ReceiptRow {
                id: ReceiptId(row.id),
                number: row.number,
                customer: CustomerId(row.customer_id),
                customer_name: row.name,
                method: row.method,
                whereabouts: row.whereabouts,
                reversed_on: row.reversed_on,
                date: row.date,
                reference: row.reference,
                currency: currency(&row.currency)?,
                amount: Money(row.amount_minor),
                unapplied: Money(row.open_minor),
                unapplied_base: Money(row.open_base_minor),
            })
        })
        .collect::<Result<Vec<_>>>()?;
    Ok(ReceiptList { receipts, count: all.count, unapplied_base: Money(all.unapplied) })
}

/// An amount applied, on screen. What was taken back again is not among them: the history tells.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ApplicationView {
    /// Its id.
    pub id: ApplicationId,
    /// The open item it went to.
    pub item: OpenItemId,
    /// What that came from: an invoice, an opening balance.
    pub document: DocumentRef,
    /// Whose account it stands on.
    pub customer: CustomerId,
    /// When.
    pub date: NaiveDate,
    /// How much of the receipt, in its currency.
    pub amount: Money,
    /// What settled more of it beside that: a discount earned by paying early, in the item's currency.
    pub discount: Money,
    /// A difference that was written off; below zero where too much came and was kept.
    pub written_off: Money,
    /// What it has open today, in its own currency.
    pub open: Money,
    /// That currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
}

/// A receipt on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReceiptView {
    /// What stands in the list.
    #[serde(flatten)]
    pub row: ReceiptRow,
    /// The bank deposit slip it stands on; none where it stands on none.
    pub slip: Option<DocumentRef>,
    /// Why it was reversed, where it was.
    pub reversal_reason: Option<String>,
    /// What the bank took for it as it came back, in base currency.
    pub fee_base: Money,
    /// Where it went, and still is.
    pub applications: Vec<ApplicationView>,
    /// What was refunded of it, reversed refunds too.
    pub refunds: Vec<RefundView>,
    /// The entries it wrote.
    pub entries: Vec<PostedEntry>,
    /// Where it led to.
    pub trail: Trail,
    /// Changes with every applying.
    pub version: i64,
}

/// One receipt.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, id: ReceiptId) -> Result<ReceiptView> {
    let row = sqlx::query!(
        r#"SELECT payments.number, payments.customer_id, customers.name, payment_methods.name AS method, whereabouts,
                  reversed_on AS "reversed_on: NaiveDate", reversal_reason, payments.posting_date AS "date: NaiveDate", reference,
                  payments.currency, payments.amount_minor, open_items.open_minor, open_base_minor, payments.version, fee_base_minor,
                  bank_slips.id AS "slip_id?", bank_slips.number AS "slip_number?"
           FROM payments JOIN customers ON customers.id = payments.customer_id JOIN payment_methods ON payment_methods.code = method
           JOIN open_items ON open_items.kind = 'receipt' AND open_items.document_id = payments.id AND side = 'owed_by_us'
           LEFT JOIN bank_slip_lines ON bank_slip_lines.entry_id = payments.entry_id AND live LEFT JOIN bank_slips ON bank_slips.id = slip_id
           WHERE payments.id = ? AND payments.kind = 'receipt'"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Receipt, id))?;
    let item = open_items::of_document(connection, DocumentKind::Receipt, id.0, Side::OwedByUs).await?;
    let standing = match item {
        Some(item) => open_items::standing_on_credit(connection, item).await?,
        None => Vec::new(),
    };
    let applications = standing
        .into_iter()
        // What reversed it stands against it, and is no use of the money.
        .filter(|standing| !matches!(standing.debit.document.kind, DocumentKind::Receipt | DocumentKind::Refund))
        .map(|standing| ApplicationView {
            id: standing.id,
            item: standing.debit.id,
            document: standing.debit.document,
            customer: standing.debit.customer,
            date: standing.date,
            amount: standing.used.0,
            discount: standing.beside.discount.amount,
            written_off: standing.beside.written_off.amount - standing.beside.kept.amount,
            open: standing.debit.open,
            currency: standing.debit.currency,
        })
        .collect();
    let refunds = match item {
        Some(item) => refunds::of_item(connection, item).await?,
        None => Vec::new(),
    };
    let mut entries = ledger::entries_of(connection, DocumentKind::Receipt, id.0).await?;
    entries.extend(refunds::entries_of(connection, &refunds).await?);
    entries.extend(crate::cards::entries_of(connection, id.0).await?);
    Ok(ReceiptView {
        row: ReceiptRow {
            id,
            number: row.number,
            customer: CustomerId(row.customer_id),
            customer_name: row.name,
            method: row.method,
            whereabouts: row.whereabouts,
            reversed_on: row.reversed_on,
            date: row.date,
            reference: row.reference,
            currency: currency(&row.currency)?,
            amount: Money(row.amount_minor),
            unapplied: Money(row.open_minor),
            unapplied_base: Money(row.open_base_minor),
        },
        slip: row.slip_id.zip(row.slip_number).map(|(id, number)| DocumentRef {
            kind: DocumentKind::BankSlip,
            id,
            number,
        }),
        reversal_reason: row.reversal_reason,
        fee_base: Money(row.fee_base_minor),
        applications,
        refunds,
        entries,
        trail: trail(connection, DocumentKind::Receipt, id.0).await?,
        version: row.version,
    })
}
