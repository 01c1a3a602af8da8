//! Receipts as shown.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{CustomerId, DocumentKind, InvoiceId, ReceiptId};
use till_core::money::{Currency, Money};
use till_core::money_in::Method;

use crate::convert::{currency, known};
use crate::ledger::{self, PostedEntry};
use crate::trail::{Trail, trail};
use crate::{Result, StoreError};

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
    /// How.
    pub method: Method,
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
        r#"SELECT receipts.id, receipts.number, customer_id, name, method, posting_date AS "date: NaiveDate", reference, receipts.currency,
                  amount_minor, unapplied_minor, unapplied_base_minor
           FROM receipts JOIN customers ON customers.id = customer_id
           WHERE (?1 IS NULL OR receipts.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\' OR reference LIKE ?1 ESCAPE '\')
             AND (NOT ?2 OR unapplied_minor > 0)
           ORDER BY receipts.sequence DESC LIMIT ?3 OFFSET ?4"#,
        like, only_unapplied, limit, offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let all = sqlx::query!(
        r#"SELECT count(*) AS "count!: i64", coalesce(sum(unapplied_base_minor), 0) AS "unapplied!: i64"
           FROM receipts JOIN customers ON customers.id = customer_id
           WHERE (?1 IS NULL OR receipts.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\' OR reference LIKE ?1 ESCAPE '\')
             AND (NOT ?2 OR unapplied_minor > 0)"#,
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
                method: known(&row.method, Method::of)?,
                date: row.date,
                reference: row.reference,
                currency: currency(&row.currency)?,
                amount: Money(row.amount_minor),
                unapplied: Money(row.unapplied_minor),
                unapplied_base: Money(row.unapplied_base_minor),
            })
        })
        .collect::<Result<Vec<_>>>()?;
    Ok(ReceiptList { receipts, count: all.count, unapplied_base: Money(all.unapplied) })
}

/// An amount applied, on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ApplicationView {
    /// The invoice.
    pub invoice: InvoiceId,
    /// Its number.
    pub invoice_number: String,
    /// When.
    pub date: NaiveDate,
    /// How much.
    pub amount: Money,
    /// What the invoice has open today.
    pub open: Money,
}

/// A receipt on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReceiptView {
    /// What stands in the list.
    #[serde(flatten)]
    pub row: ReceiptRow,
    /// Where it went.
    pub applications: Vec<ApplicationView>,
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
        r#"SELECT receipts.number, customer_id, name, method, posting_date AS "date: NaiveDate", reference, receipts.currency,
                  amount_minor, unapplied_minor, unapplied_base_minor, receipts.version
           FROM receipts JOIN customers ON customers.id = customer_id WHERE receipts.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Receipt, id))?;
    let applications = sqlx::query!(
        r#"SELECT invoice_id, number AS "number!", application_date AS "date: NaiveDate", amount_minor, open_minor AS "open!: i64"
           FROM applications JOIN invoices ON invoices.id = invoice_id WHERE receipt_id = ? ORDER BY applications.id"#,
        id.0
    )
    .fetch_all(&mut *connection)
    .await?
    .into_iter()
    .map(|row| ApplicationView {
        invoice: InvoiceId(row.invoice_id),
        invoice_number: row.number,
        date: row.date,
        amount: Money(row.amount_minor),
        open: Money(row.open),
    })
    .collect();
    Ok(ReceiptView {
        row: ReceiptRow {
            id,
            number: row.number,
            customer: CustomerId(row.customer_id),
            customer_name: row.name,
            method: known(&row.method, Method::of)?,
            date: row.date,
            reference: row.reference,
            currency: currency(&row.currency)?,
            amount: Money(row.amount_minor),
            unapplied: Money(row.unapplied_minor),
            unapplied_base: Money(row.unapplied_base_minor),
        },
        applications,
        entries: ledger::entries_of(connection, DocumentKind::Receipt, id.0).await?,
        trail: trail(connection, DocumentKind::Receipt, id.0).await?,
        version: row.version,
    })
}
