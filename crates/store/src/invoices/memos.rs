//! Credit memos as they are shown.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{ApplicationId, CreditMemoId, CustomerId, DocumentKind, DocumentRef};
use till_core::invoice::InvoiceDocument;
use till_core::money::{Currency, Money};
use till_core::settle::back::Standing;
use till_core::tape::Tape;

use super::load::read;
use super::views::Party;
use crate::convert::currency;
use crate::deliveries::{self, DeliveryRow};
use crate::documents;
use crate::ledger::{self, PostedEntry};
use crate::receipts::CreditOf;
use crate::refunds::{self, RefundView};
use crate::trail::{Trail, trail};
use crate::{Result, StoreError, open_items};

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
    /// The invoice it takes something back from; none where it stands alone.
    pub invoice: Option<DocumentRef>,
    /// Whether it takes all of it back: the invoice is cancelled.
    pub whole: bool,
    /// What was kept of it for the customer; none where it settled its invoice.
    pub kept: Option<KeptCredit>,
    /// What it takes back, without a minus.
    pub document: InvoiceDocument,
    /// The return that the goods of each of its lines came back on, in their order; none where they stay with the customer.
    pub returned_on: Vec<Option<DocumentRef>>,
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
    /// To be sent back with what is done with it.
    pub version: i64,
}

/// What a credit memo, once kept, was used for. Amounts in its currency.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KeptCredit {
    /// What was kept, less what it gave up of a discount.
    pub amount: Money,
    /// The early-payment discount it gave up.
    pub discount: Money,
    /// What of it lies unapplied.
    pub open: Money,
    /// What it is applied to.
    pub applied: Vec<UsedCredit>,
    /// What was refunded of it, reversed refunds too.
    pub refunds: Vec<RefundView>,
}

/// Something a credit memo is applied to.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UsedCredit {
    /// The application.
    pub id: ApplicationId,
    /// What it is applied to.
    pub document: DocumentRef,
    /// When.
    pub date: NaiveDate,
    /// How much, in the currency of the credit memo.
    pub amount: Money,
}

async fn kept(connection: &mut SqliteConnection, id: CreditMemoId) -> Result<Option<KeptCredit>> {
    let item = match CreditOf::from(id).item(connection).await {
        Ok((item, _)) => item,
        Err(StoreError::WrongState(_)) => return Ok(None),
        Err(other) => return Err(other),
    };
    let standing = open_items::standing_on_credit(connection, item.id).await?;
    let (gave_up, standing): (Vec<_>, Vec<_>) = standing.into_iter().partition(Standing::takes_back);
    let discount = gave_up.iter().map(|standing| standing.used.0).sum();
    let amount = item.open + standing.iter().map(|standing| standing.used.0).sum::<Money>();
    let applied = standing
        .into_iter()
        .filter(|standing| standing.debit.document.kind != DocumentKind::Refund)
        .map(|standing| UsedCredit {
            id: standing.id,
            document: standing.debit.document,
            date: standing.date,
            amount: standing.used.0,
        })
        .collect();
    let refunds = refunds::of_item(connection, item.id).await?;
    Ok(Some(KeptCredit { amount, discount, open: item.open, applied, refunds }))
}

/// The return each line of a credit memo came back on.
async fn returned_on(connection: &mut SqliteConnection, id: CreditMemoId) -> Result<Vec<Option<DocumentRef>>> {
    Ok(sqlx::query!(
        r#"SELECT returns.id AS "id?", returns.number AS "number?" FROM document_lines
           LEFT JOIN return_lines ON return_lines.id = document_lines.return_line_id LEFT JOIN returns ON returns.id = return_id
           WHERE document_id = ? ORDER BY document_lines.position"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| row.id.zip(row.number).map(|(id, number)| DocumentRef { kind: DocumentKind::Return, id, number }))
    .collect())
}

fn of_invoice(id: Option<i64>, number: Option<String>) -> Option<DocumentRef> {
    id.zip(number).map(|(id, number)| DocumentRef { kind: DocumentKind::Invoice, id, number })
}

/// One credit memo.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn credit_memo(connection: &mut SqliteConnection, id: CreditMemoId) -> Result<CreditMemoView> {
    // The audit log of older books names credit memos by the id they had then.
    let row = sqlx::query!(
        r#"SELECT memo.id AS "id!", memo.number AS "number!", whole AS "whole!: bool", invoice_id AS "invoice_id?", invoices.number AS "invoice?", memo.document_date AS "date!: NaiveDate",
                  memo.reason AS "reason!", memo.tape AS "tape!", memo.version AS "version!", customers.id AS "customer!", customers.number AS "customer_number!",
                  memo.bill_to_name AS "name!", memo.bill_to_address AS "address!", memo.bill_to_tax_id
           FROM credit_memos AS memo LEFT JOIN documents AS invoices ON invoices.id = invoice_id JOIN customers ON customers.id = memo.customer_id
           WHERE memo.id = ?1 OR memo.earlier_id = ?1"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::CreditMemo, id))?;
    let id = CreditMemoId(row.id);
    let kept = kept(connection, id).await?;
    let mut entries = ledger::entries_of(connection, DocumentKind::CreditMemo, id.0).await?;
    let refunds = kept.as_ref().map_or(&[][..], |kept| &kept.refunds);
    entries.extend(refunds::entries_of(connection, refunds).await?);
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
        invoice: of_invoice(row.invoice_id, row.invoice),
        whole: row.whole,
        kept,
        version: row.version,
        document: documents::posted(connection, id.0).await?,
        returned_on: returned_on(connection, id).await?,
        date: row.date,
        reason: row.reason,
        tape: read(&row.tape)?,
        entries,
        deliveries: deliveries::of_document(connection, id.0).await?,
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
    /// The invoice it takes something back from; none where it stands alone.
    pub invoice: Option<DocumentRef>,
    /// Whether it takes all of it back.
    pub whole: bool,
    /// Its date.
    pub date: NaiveDate,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its total.
    pub total: Money,
    /// What of it is kept for the customer: neither applied nor refunded.
    pub kept: Money,
    /// Why.
    pub reason: String,
}

/// Which credit memos to list.
#[derive(Debug, Clone, Default)]
pub struct CreditMemoFilter<'a> {
    /// Words of the number, the customer or the invoice.
    pub search: Option<&'a str>,
    /// Only those of which something is kept for the customer.
    pub only_kept: bool,
    /// Of one customer.
    pub customer: Option<CustomerId>,
}

/// A stretch of credit memos.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditMemoList {
    /// The credit memos, newest first.
    pub memos: Vec<CreditMemoRow>,
    /// How many fit the filter.
    pub count: i64,
    /// What all that fit come to with tax, in base currency.
    pub total_base: Money,
}

/// Credit memos, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn credit_memos(
    connection: &mut SqliteConnection,
    filter: &CreditMemoFilter<'_>,
    (limit, offset): (i64, i64),
) -> Result<CreditMemoList> {
    let like = filter.search.map(crate::find::pattern);
    let customer = filter.customer.map(|id| id.0);
    let rows = sqlx::query!(
        r#"SELECT memo.id AS "id!", memo.number AS "number!", whole AS "whole!: bool", memo.bill_to_name AS "name!", invoice_id AS "invoice_id?", invoices.number AS "invoice?",
                  memo.document_date AS "date!: NaiveDate", memo.currency AS "currency!", -memo.total_minor AS "total!: i64", memo.reason AS "reason!",
                  coalesce(kept, 0) AS "kept!: i64", count(*) OVER () AS "count!: i64", -sum(memo.total_base_minor) OVER () AS "total_base!: i64"
           FROM credit_memos AS memo LEFT JOIN documents AS invoices ON invoices.id = invoice_id
           LEFT JOIN (SELECT document_id, sum(open_minor) AS kept FROM open_items
                      WHERE kind = 'credit_memo' AND side = 'owed_by_us' AND open_minor > 0 GROUP BY document_id) AS item
             ON item.document_id = memo.id
           WHERE (?1 IS NULL OR memo.number LIKE ?1 ESCAPE '\' OR memo.bill_to_name LIKE ?1 ESCAPE '\' OR invoices.number LIKE ?1 ESCAPE '\'
                  OR memo.reason LIKE ?1 ESCAPE '\')
             AND (NOT ?2 OR kept > 0) AND (?3 IS NULL OR memo.customer_id = ?3)
           ORDER BY memo.sequence DESC LIMIT ?4 OFFSET ?5"#,
        like,
        filter.only_kept,
        customer,
        limit,
        offset
    )
    .fetch_all(connection)
    .await?;
    let (count, total_base) = rows.first().map_or((0, 0), |row| (row.count, row.total_base));
    let memos = rows
        .into_iter()
        .map(|row| {
            Ok(CreditMemoRow {
                id: CreditMemoId(row.id),
                number: row.number,
                customer_name: row.name,
                invoice: of_invoice(row.invoice_id, row.invoice),
                whole: row.whole,
                date: row.date,
                currency: currency(&row.currency)?,
                total: Money(row.total),
                kept: Money(row.kept),
                reason: row.reason,
            })
        })
        .collect::<Result<_>>()?;
    Ok(CreditMemoList { memos, count, total_base: Money(total_base) })
}
