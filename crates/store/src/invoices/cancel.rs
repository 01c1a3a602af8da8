//! Cancelling a posted invoice, and billing it anew.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::fixed::{Quantity, UnitPrice};
use till_core::ids::{
    ApprovalId, CreditMemoId, CustomerId, DocumentKind, DocumentRef, EntryId, InvoiceId, OrderId, OrderLineId,
    ShipmentLineId,
};
use till_core::invoice::cancel::{AppliedMoney, CancelDecision, CancelInput, decide};
use till_core::invoice::{DiscountWish, InvoiceDocument, ItemKind, LineSource, PriceChange, TaxChange};
use till_core::money::{Currency, Money};
use till_core::people::check_reason;
use till_core::tape::{Change, Tape};

use super::added::load_added;
use super::drafts::write_checked;
use super::load::read;
use super::views::Party;
use super::{AddedLine, Head, OrderPick, Pick, Picked, ToDecide, load_ordered, load_shipped, posted_document};
use crate::approvals::{self, Asked};
use crate::convert::{currency, json};
use crate::deliveries::{self, DeliveryRow};
use crate::ledger::{self, PostedEntry};
use crate::rules::{Rules, next_numbers};
use crate::trail::{Trail, trail};
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

/// The lines of a posted invoice as they can be put on a draft again: what, how much, at which
/// price and tax.
struct Rebillable {
    picks: Vec<Pick>,
    order_picks: Vec<OrderPick>,
    added: Vec<AddedLine>,
}

async fn rebillable(
    connection: &mut SqliteConnection,
    id: InvoiceId,
    document: &InvoiceDocument,
) -> Result<Rebillable> {
    let rows = sqlx::query!(
        "SELECT shipment_line_id, order_line_id, quantity_e4, typed, unit_price_e6 FROM invoice_lines WHERE invoice_id = ? ORDER BY position",
        id.0
    )
    .fetch_all(connection)
    .await?;
    let mut lines = Rebillable { picks: Vec::new(), order_picks: Vec::new(), added: Vec::new() };
    for row in rows {
        let quantity = Some(Quantity::from_scaled(row.quantity_e4));
        match (row.shipment_line_id, row.order_line_id, row.typed) {
            (Some(id), ..) => lines.picks.push(Pick { shipment_line: ShipmentLineId(id), quantity }),
            (None, Some(id), _) => lines.order_picks.push(OrderPick { order_line: OrderLineId(id), quantity }),
            (None, None, Some(typed)) => {
                let price = row.unit_price_e6.map(|price| UnitPrice::from_scaled(price).to_string());
                lines.added.push(AddedLine { unit_price: price, ..read(&typed)? });
            }
            (None, None, None) => {}
        }
    }
    debug_assert_eq!(lines.picks.len() + lines.order_picks.len() + lines.added.len(), document.lines.len());
    Ok(lines)
}

/// A new draft over what a cancelled invoice billed, as it billed it.
async fn bill_anew(
    writing: &mut Writing<'_>,
    rules: &Rules,
    input: &CancelInput<'_>,
    again: Rebillable,
) -> Result<InvoiceId> {
    let document = &input.document;
    let unbound = |pick: &Pick| (None, *pick);
    let mut lines = load_shipped(writing, &again.picks.iter().map(unbound).collect::<Vec<_>>()).await?;
    let ordered: Vec<_> = again.order_picks.iter().map(|pick| (None, *pick)).collect();
    lines.extend(load_ordered(writing, &ordered).await?);
    for picked in &mut lines {
        keep_changes(picked, document);
    }
    lines.extend(load_added(writing, rules, document.customer, &again.added).await?);
    let terms =
        (input.orders.first().is_none_or(|order| order.terms != document.terms)).then(|| document.terms.clone());
    let discount = document.discount.as_ref().map(|discount| DiscountWish {
        percent: discount.percent,
        amount: Some(discount.amount),
        reason: discount.reason.clone(),
        allowed: None,
    });
    let head = Head {
        terms,
        text_above: document.text_above.clone(),
        text_below: document.text_below.clone(),
        discount: discount.clone(),
        ..Head::default()
    };
    let wanted = vec![ToDecide { customer: document.customer, lines, head }];
    let ids = write_checked(writing, rules, wanted, Some(input.invoice)).await?;
    let id = ids.first().copied().ok_or(StoreError::Moved)?;
    if let Some(wish) = discount {
        let amount = wish.amount.filter(|_| wish.percent.is_none());
        super::set_discount(writing, rules, id, wish.percent, amount, &wish.reason, None).await?;
    }
    let words = format!("put what {} billed on a new draft for {}", input.number, input.customer.name);
    writing.note_on((DocumentKind::Invoice, id.0, &format!("draft {id}")), "draft_made", words, Some(1), Vec::new());
    Ok(id)
}

/// Prices and tax codes that the cancelled invoice had been given stay.
fn keep_changes(picked: &mut Picked, document: &InvoiceDocument) {
    let Some(line) = document.lines.iter().find(|line| same(&line.source, &picked.line.source)) else { return };
    if let Some(reason) = line.price_reason.clone() {
        picked.line.price_change = Some(PriceChange { unit_price: line.unit_price, reason, allowed: None });
    }
    if let (Some(_), Some(reason)) = (&line.order_tax_code, line.tax_reason.clone()) {
        picked.line.tax_change = Some(TaxChange { code: line.tax.code.clone(), reason });
    }
}

fn same(one: &LineSource, other: &LineSource) -> bool {
    one.shipment_line() == other.shipment_line() && one.order_line() == other.order_line()
}

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
