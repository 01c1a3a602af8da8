//! Cancelling a posted invoice.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::fixed::Quantity;
use till_core::ids::{ApprovalId, CreditMemoId, CustomerId, DocumentKind, DocumentRef, EntryId, InvoiceId, OrderId};
use till_core::invoice::cancel::{AppliedMoney, CancelDecision, CancelInput, decide};
use till_core::invoice::{InvoiceDocument, ItemKind};
use till_core::money::Money;
use till_core::people::check_reason;
use till_core::tape::{Change, Tape};

use super::posted_document;
use super::rebill::{bill_anew, rebillable};
use crate::approvals::{self, Asked};
use crate::convert::json;
use crate::deliveries::{self};
use crate::ledger::{self};
use crate::rules::{Rules, next_numbers};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customers, orders, sensible_date};

/// An invoice to cancel.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToCancelInvoice {
    /// Date of the credit memo, if typed.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Why.
    #[serde(default)]
    pub reason: String,
    /// Whether its quantities go on a new draft at once.
    #[serde(default)]
    pub rebill: bool,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What cancelling would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CancelPreview {
    /// The arithmetic.
    pub tape: Tape,
    /// The entries, in their order: money unapplied, the credit memo, its cost.
    pub entries: Vec<Entry>,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

/// What cancelling did.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Cancelled {
    /// The credit memo; none where it waits for approval.
    pub credit_memo: Option<CreditMemoId>,
    /// Its number.
    pub number: Option<String>,
    /// The new draft, where one was wanted.
    pub draft: Option<InvoiceId>,
    /// The approval it waits for.
    pub waits: Option<ApprovalId>,
}

struct Loaded<'a> {
    input: CancelInput<'a>,
    applications: Vec<Application>,
    entry: Option<EntryId>,
    cost_entry: Option<EntryId>,
}

struct Application {
    id: i64,
    receipt: i64,
    amount: i64,
    money_base: i64,
}

async fn load<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: InvoiceId,
    date: Option<NaiveDate>,
    reason: &str,
) -> Result<Loaded<'a>> {
    if let Some(date) = date {
        sensible_date("date", date)?;
    }
    let head = sqlx::query!(
        r#"SELECT invoices.number, state, open_minor, invoices.customer_id, invoices.entry_id, invoices.cost_entry_id,
                  credit_memos.number AS "cancelled_by?"
           FROM invoices LEFT JOIN credit_memos ON credit_memos.id = cancelled_by WHERE invoices.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Invoice, id))?;
    let Some(number) = head.number.filter(|_| head.state == "posted") else {
        return Err(StoreError::WrongState("This is a draft. Drop it; there is nothing to cancel.".to_owned()));
    };
    let document = posted_document(connection, id).await?;
    let rows = sqlx::query!(
        r#"SELECT applications.id, receipt_id, receipts.number, applications.amount_minor, receivable_base_minor, money_base_minor,
                  application_date AS "date: NaiveDate"
           FROM applications JOIN receipts ON receipts.id = receipt_id
           WHERE invoice_id = ? AND applications.id NOT IN (SELECT application_id FROM unapplications) ORDER BY applications.id"#,
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let applied = rows
        .iter()
        .map(|row| AppliedMoney {
            receipt: row.number.clone(),
            amount: Money(row.amount_minor),
            receivable_base: Money(row.receivable_base_minor),
            money_base: Money(row.money_base_minor),
            applied_on: row.date,
        })
        .collect();
    let applications = rows
        .iter()
        .map(|row| Application {
            id: row.id,
            receipt: row.receipt_id,
            amount: row.amount_minor,
            money_base: row.money_base_minor,
        })
        .collect();
    let ids: Vec<OrderId> = document.order_shares.iter().map(|share| share.order).collect();
    let mut entries = Vec::new();
    for entry in [head.entry_id, head.cost_entry_id] {
        entries.push(match entry {
            Some(id) => Some(ledger::entry(connection, EntryId(id)).await?.entry),
            None => None,
        });
    }
    let cost_entry = entries.pop().flatten();
    let input = CancelInput {
        invoice: id,
        number,
        open: Money(head.open_minor.unwrap_or(0)),
        customer: customers::facts(connection, CustomerId(head.customer_id)).await?.0,
        entry: entries.pop().flatten(),
        cost_entry,
        applied,
        containers_gone: containers_gone(connection, &document).await?,
        cancelled_by: head.cancelled_by,
        orders: orders::facts(connection, &ids).await?,
        date: DocumentDate::or_business_date(date, rules.business_date),
        reason: reason.to_owned(),
        base: rules.base,
        accounts: &rules.accounts,
        periods: &rules.periods,
        document,
    };
    Ok(Loaded { input, applications, entry: head.entry_id.map(EntryId), cost_entry: head.cost_entry_id.map(EntryId) })
}

/// Packaging on the invoice of which less is at the customer than it billed.
async fn containers_gone(
    connection: &mut SqliteConnection,
    document: &InvoiceDocument,
) -> Result<Vec<(String, Quantity, Quantity)>> {
    let mut gone = Vec::new();
    for line in document.lines.iter().filter(|line| line.kind == ItemKind::Packaging) {
        let item = line.item.map_or(0, |item| item.0);
        let there = sqlx::query_scalar!(
            r#"SELECT coalesce(sum(quantity_e4), 0) AS "there!: i64" FROM container_moves WHERE customer_id = ? AND item_id = ?"#,
            document.customer.0,
            item
        )
        .fetch_one(&mut *connection)
        .await?;
        let there = Quantity::from_scaled(there);
        if there < line.quantity {
            gone.push((line.code.clone(), line.quantity, there));
        }
    }
    Ok(gone)
}

/// What cancelling would do. Nothing is written.
///
/// # Errors
/// An unknown invoice, a draft.
pub async fn cancel_preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: InvoiceId,
    wish: &ToCancelInvoice,
) -> Result<CancelPreview> {
    let loaded = load(connection, rules, id, wish.date, &wish.reason).await?;
    let decision = decide(&loaded.input);
    Ok(CancelPreview {
        tape: decision.tape,
        entries: decision.unapplied.into_iter().chain(decision.entry).chain(decision.cost_entry).collect(),
        changes: decision.changes,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Cancels an invoice, or asks for approval where its total is above the limit for credit memos.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, or what the core refuses.
pub async fn cancel(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    wish: &ToCancelInvoice,
) -> Result<Cancelled> {
    check_reason(&wish.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let loaded = load(writing, rules, id, wish.date, &wish.reason).await?;
    let decision = decide(&loaded.input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    if wish.seen.as_ref().is_some_and(|seen| *seen != decision.fingerprint) {
        return Err(StoreError::Moved);
    }
    let total = loaded.input.document.total_base;
    let asked = approvals::Wish {
        asked: Asked::CancelInvoice {
            invoice: id,
            date: wish.date,
            reason: wish.reason.trim().to_owned(),
            rebill: wish.rebill,
        },
        document: DocumentRef { kind: DocumentKind::Invoice, id: id.0, number: loaded.input.number.clone() },
        amount: total,
        words: format!(
            "cancel {} of {}, {} {}",
            loaded.input.number,
            loaded.input.customer.name,
            rules.base.grouped(total),
            rules.base
        ),
        changes: vec![set("credit", rules.base.format(total))],
        reason: wish.reason.trim().to_owned(),
    };
    if let Some(approval) = approvals::allowed_or_asked(writing, rules, asked).await? {
        return Ok(Cancelled { credit_memo: None, number: None, draft: None, waits: Some(approval) });
    }
    carry_out(writing, rules, loaded, decision, wish.rebill).await
}

/// Cancels an invoice as it was approved.
pub(crate) async fn cancel_approved(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    date: Option<NaiveDate>,
    reason: &str,
    rebill: bool,
) -> Result<()> {
    let loaded = load(writing, rules, id, date, reason).await?;
    let decision = decide(&loaded.input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    carry_out(writing, rules, loaded, decision, rebill).await?;
    Ok(())
}

async fn carry_out(
    writing: &mut Writing<'_>,
    rules: &Rules,
    loaded: Loaded<'_>,
    decision: CancelDecision,
    rebill: bool,
) -> Result<Cancelled> {
    let input = &loaded.input;
    let document = &input.document;
    let (prefix, sequence) = next_numbers(writing, "credit_memo", 1).await?;
    let number = format!("{prefix}{sequence}");
    let id = sqlx::query_scalar!(r#"SELECT coalesce(max(id), 0) + 1 AS "next!: i64" FROM credit_memos"#)
        .fetch_one(&mut **writing)
        .await?;
    let source = DocumentRef { kind: DocumentKind::CreditMemo, id, number: number.clone() };
    let entries: Vec<_> = [
        decision.unapplied.as_ref().map(|entry| (entry, source.clone(), None)),
        decision.entry.as_ref().map(|entry| (entry, source.clone(), loaded.entry)),
        decision.cost_entry.as_ref().map(|entry| (entry, source.clone(), loaded.cost_entry)),
    ]
    .into_iter()
    .flatten()
    .collect();
    let mut written = ledger::write_all(writing, &entries).await?.into_iter();
    let unapplied = decision.unapplied.as_ref().and_then(|_| written.next()).map(|id| id.0);
    let entry = decision.entry.as_ref().and_then(|_| written.next()).map(|id| id.0);
    let cost = decision.cost_entry.as_ref().and_then(|_| written.next()).map(|id| id.0);
    let date = input.date.date;
    let (reason, tape) = (input.reason.trim(), json(&decision.tape)?);
    sqlx::query!(
        "INSERT INTO credit_memos (id, number, sequence, invoice_id, customer_id, document_date, posting_date, reason, total_minor,
                total_base_minor, settled_minor, tape, entry_id, cost_entry_id, unapplied_entry_id)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14)",
        id, number, sequence, input.invoice.0, document.customer.0, date, reason, document.total.0,
        document.total_base.0, input.open.0, tape, entry, cost, unapplied
    )
    .execute(&mut **writing)
    .await?;
    unapply(writing, &loaded.applications, date, unapplied).await?;
    sqlx::query!(
        "UPDATE invoices SET open_minor = 0, open_base_minor = 0, cancelled_by = ?, version = version + 1 WHERE id = ?",
        id,
        input.invoice.0
    )
    .execute(&mut **writing)
    .await?;
    let lines = rebillable(writing, input.invoice, document).await?;
    give_back(writing, input.invoice, date).await?;
    customers::add_owed(writing, document.customer, -decision.owed_less).await?;
    orders::write_states(writing, &decision.orders).await?;
    deliveries::add_memo(writing, CreditMemoId(id), input.customer.id, input.customer.delivery).await?;
    let mut fields = vec![set("total", document.currency.format(document.total)), set("reason", reason)];
    for applied in &input.applied {
        fields.push(set(&format!("{} unapplied", applied.receipt), document.currency.format(applied.amount)));
    }
    let words = format!("cancelled {} of {} with {number}", input.number, input.customer.name);
    let at = (DocumentKind::Invoice, input.invoice.0, input.number.as_str());
    writing.note_on(at, "invoice_cancelled", words, None, fields);
    let draft = match rebill {
        true => Some(bill_anew(writing, rules, input, lines).await?),
        false => None,
    };
    Ok(Cancelled { credit_memo: Some(CreditMemoId(id)), number: Some(number), draft, waits: None })
}

/// What was applied lies unapplied on its receipts again.
async fn unapply(
    connection: &mut SqliteConnection,
    applications: &[Application],
    date: NaiveDate,
    entry: Option<i64>,
) -> Result<()> {
    for applied in applications {
        sqlx::query!(
            "INSERT INTO unapplications (application_id, application_date, entry_id) VALUES (?, ?, ?)",
            applied.id,
            date,
            entry
        )
        .execute(&mut *connection)
        .await?;
        sqlx::query!(
            "UPDATE receipts SET unapplied_minor = unapplied_minor + ?, unapplied_base_minor = unapplied_base_minor + ?,
                    version = version + 1 WHERE id = ?",
            applied.amount,
            applied.money_base,
            applied.receipt
        )
        .execute(&mut *connection)
        .await?;
    }
    Ok(())
}

/// Quantities, cost that followed and packaging go back where they came from.
async fn give_back(connection: &mut SqliteConnection, id: InvoiceId, date: NaiveDate) -> Result<()> {
    sqlx::query!(
        "UPDATE shipment_lines SET billed_e4 = billed_e4 - mine.quantity_e4, unbilled_e4 = unbilled_e4 + mine.quantity_e4,
                cost_billed_minor = cost_billed_minor - mine.cost_minor, unbilled_minor = NULL
         FROM (SELECT shipment_line_id, quantity_e4, cost_minor FROM invoice_lines WHERE invoice_id = ?) AS mine
         WHERE shipment_lines.id = mine.shipment_line_id",
        id.0
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!(
        "UPDATE order_lines SET billed_e4 = billed_e4 - mine.quantity, shipped_e4 = shipped_e4 - mine.unshipped
         FROM (SELECT order_line_id, sum(quantity_e4) AS quantity,
                      sum(CASE WHEN shipment_line_id IS NULL THEN quantity_e4 ELSE 0 END) AS unshipped
               FROM invoice_lines WHERE invoice_id = ? AND order_line_id IS NOT NULL GROUP BY order_line_id) AS mine
         WHERE order_lines.id = mine.order_line_id",
        id.0
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!(
        "INSERT INTO container_moves (customer_id, item_id, posting_date, quantity_e4, amount_minor, invoice_id)
         SELECT customer_id, item_id, ?1, -quantity_e4, -amount_minor, invoice_id FROM container_moves WHERE invoice_id = ?2",
        date,
        id.0
    )
    .execute(connection)
    .await?;
    Ok(())
}
