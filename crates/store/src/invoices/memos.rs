//! Credit memos as they are shown.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{CreditMemoId, CustomerId, DocumentKind, DocumentRef, InvoiceId};
use till_core::invoice::InvoiceDocument;
use till_core::money::{Currency, Money};
use till_core::tape::Tape;

use super::load::read;
use super::posted_document;
use super::views::Party;
use crate::convert::currency;
use crate::deliveries::{self, DeliveryRow};
use crate::ledger::{self, PostedEntry};
use crate::trail::{Trail, trail};
use crate::{Result, StoreError};

/// A credit memo on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditMemoView {
    /// Its id.
    pub id: CreditMemoId,
    /// Its number.
    pub number: String,
    /// Whose.
    pub customer: Party,
    /// The invoice it cancelled.
    pub invoice: DocumentRef,
    /// What that invoice said; the credit memo takes all of it back.
    pub document: InvoiceDocument,
    /// Its date.
    pub date: NaiveDate,
    /// Why.
    pub reason: String,
    /// Its arithmetic.
    pub tape: Tape,
    /// The entries it wrote.
    pub entries: Vec<PostedEntry>,
    /// How it goes, or went, to the customer.
    pub deliveries: Vec<DeliveryRow>,
    /// Where it came from and led to.
    pub trail: Trail,
}

/// One credit memo.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn credit_memo(connection: &mut SqliteConnection, id: CreditMemoId) -> Result<CreditMemoView> {
    let row = sqlx::query!(
        r#"SELECT credit_memos.number, invoice_id, invoices.number AS "invoice!", credit_memos.document_date AS "date: NaiveDate", reason, tape,
                  customers.id AS "customer!", customers.number AS "customer_number!", bill_to_name AS "name!", bill_to_address AS "address!", bill_to_tax_id
           FROM credit_memos JOIN invoices ON invoices.id = invoice_id JOIN customers ON customers.id = credit_memos.customer_id
           WHERE credit_memos.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::CreditMemo, id))?;
    Ok(CreditMemoView {
        id,
        number: row.number,
        customer: Party {
            id: CustomerId(row.customer),
            number: row.customer_number,
            name: row.name,
            address: row.address,
            tax_id: row.bill_to_tax_id,
        },
        invoice: DocumentRef { kind: DocumentKind::Invoice, id: row.invoice_id, number: row.invoice },
        document: posted_document(connection, InvoiceId(row.invoice_id)).await?,
        date: row.date,
        reason: row.reason,
        tape: read(&row.tape)?,
        entries: ledger::entries_of(connection, DocumentKind::CreditMemo, id.0).await?,
        deliveries: deliveries::of_memo(connection, id).await?,
        trail: trail(connection, DocumentKind::CreditMemo, id.0).await?,
    })
}

/// A credit memo in a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditMemoRow {
    /// Its id.
    pub id: CreditMemoId,
    /// Its number.
    pub number: String,
    /// Whose.
    pub customer_name: String,
    /// The invoice it cancelled.
    pub invoice: DocumentRef,
    /// Its date.
    pub date: NaiveDate,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its total.
    pub total: Money,
    /// Why.
    pub reason: String,
}

/// Credit memos, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn credit_memos(
    connection: &mut SqliteConnection,
    search: Option<&str>,
    limit: i64,
    offset: i64,
) -> Result<Vec<CreditMemoRow>> {
    let like = search.map(crate::find::pattern);
    sqlx::query!(
        r#"SELECT credit_memos.id, credit_memos.number, bill_to_name AS "name!", invoice_id, invoices.number AS "invoice!",
                  credit_memos.document_date AS "date: NaiveDate", currency, credit_memos.total_minor, reason
           FROM credit_memos JOIN invoices ON invoices.id = invoice_id
           WHERE ?1 IS NULL OR credit_memos.number LIKE ?1 ESCAPE '\' OR bill_to_name LIKE ?1 ESCAPE '\' OR invoices.number LIKE ?1 ESCAPE '\'
           ORDER BY credit_memos.sequence DESC LIMIT ?2 OFFSET ?3"#,
        like,
        limit,
        offset
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(CreditMemoRow {
            id: CreditMemoId(row.id),
            number: row.number,
            customer_name: row.name,
            invoice: DocumentRef { kind: DocumentKind::Invoice, id: row.invoice_id, number: row.invoice },
            date: row.date,
            currency: currency(&row.currency)?,
            total: Money(row.total_minor),
            reason: row.reason,
        })
    })
    .collect()
}
