//! Cancelling a posted invoice.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::fixed::Quantity;
use till_core::ids::{
    ApprovalId, CreditMemoId, CustomerId, DocumentKind, DocumentRef, EntryId, InvoiceId, ItemId, LayerId, OrderId,
};
use till_core::invoice::cancel::{CancelDecision, CancelInput, CancelPosting, decide};
use till_core::invoice::{InvoiceDocument, ItemKind, LinkRole};
use till_core::money::Money;
use till_core::open_items::Side;
use till_core::people::check_reason;
use till_core::posting::{MovedWith, StockMove};
use till_core::room::room_from;
use till_core::tape::{Change, Tape};

use super::rebill::{bill_anew, rebillable};
use super::views::takes_back;
use crate::approvals::{self, Asked, Go};
use crate::deliveries;
use crate::documents::{self, MemoToWrite};
use crate::ledger;
use crate::open_items;
use crate::posting;
use crate::rules::{Rules, date_order};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, containers, customers, orders, returns, sensible_date};

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

async fn load<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: InvoiceId,
    date: Option<NaiveDate>,
    reason: &str,
) -> Result<CancelInput<'a>> {
    if let Some(date) = date {
        sensible_date("date", date)?;
    }
    let head = sqlx::query!(
        r#"SELECT invoices.number, invoices.state, invoices.customer_id, invoices.entry_id, invoices.cost_entry_id,
                  memo.number AS "cancelled_by?"
           FROM invoices LEFT JOIN documents AS memo ON memo.id = cancelled_by WHERE invoices.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Invoice, id))?;
    let Some(number) = head.number.filter(|_| head.state == "posted") else {
        return Err(StoreError::WrongState("This is a draft. Delete it; there is nothing to cancel.".to_owned()));
    };
    if let Some(first) = takes_back(connection, id).await? {
        let sentence = format!(
            "{number} is an exchange: what it takes back of {} stays credited. Credit what it supplies, or take that back.",
            first.number
        );
        return Err(StoreError::WrongState(sentence));
    }
    let document = documents::posted(connection, id.0).await?;
    let item = open_items::item_of(connection, DocumentKind::Invoice, id.0, Side::OwedToUs).await?;
    let applied = open_items::standing_on_debit(connection, item.id).await?;
    let ids: Vec<OrderId> = document.order_shares.iter().map(|share| share.order).collect();
    let mut entries = Vec::new();
    for entry in [head.entry_id, head.cost_entry_id] {
        entries.push(match entry {
            Some(id) => Some((EntryId(id), ledger::entry(connection, EntryId(id)).await?.entry)),
            None => None,
        });
    }
    let cost_entry = entries.pop().flatten();
    let advances = match head.entry_id {
        Some(entry) => open_items::made_by(connection, EntryId(entry)).await?,
        None => Vec::new(),
    };
    Ok(CancelInput {
        invoice: id,
        number,
        item,
        customer: customers::facts(connection, CustomerId(head.customer_id)).await?.0,
        entry: entries.pop().flatten(),
        cost_entry,
        costs: costs(connection, id).await?,
        left: left(connection, id).await?,
        applied,
        advances,
        containers_gone: containers_gone(connection, &document, date.unwrap_or(rules.business_date)).await?,
        cancelled_by: head.cancelled_by,
        credited_by: credited_by(connection, id).await?,
        returned_on: returns::holding(connection, rules, id).await?,
        orders: orders::facts(connection, &ids).await?,
        date: DocumentDate::or_business_date(date, rules.business_date),
        reason: reason.to_owned(),
        base: rules.base,
        dates: date_order(connection, rules, DocumentKind::CreditMemo).await?,
        accounts: &rules.accounts,
        periods: &rules.periods,
        document,
    })
}

/// Credit memos over lines of an invoice.
async fn credited_by(connection: &mut SqliteConnection, id: InvoiceId) -> Result<Vec<String>> {
    Ok(sqlx::query_scalar!(
        r#"SELECT number AS "number!" FROM document_links JOIN documents ON documents.id = from_id WHERE to_id = ? AND role = 'credits' ORDER BY from_id"#,
        id.0
    )
    .fetch_all(connection)
    .await?)
}

/// Packaging on the invoice of which less is at the customer, from the day on, than all its lines
/// billed.
async fn containers_gone(
    connection: &mut SqliteConnection,
    document: &InvoiceDocument,
    date: NaiveDate,
) -> Result<Vec<(String, Quantity, Quantity)>> {
    let mut billed: Vec<(ItemId, &str, i64)> = Vec::new();
    for line in document.lines.iter().filter(|line| line.kind == ItemKind::Packaging) {
        let Some(item) = line.item else { continue };
        match billed.iter_mut().find(|(known, ..)| *known == item) {
            Some((.., sum)) => *sum += line.quantity.scaled(),
            None => billed.push((item, &line.code, line.quantity.scaled())),
        }
    }
    let mut gone = Vec::new();
    for (item, code, quantity) in billed {
        let there = room_from(date, &containers::movements(connection, document.customer, item).await?.0);
        if there < quantity {
            gone.push((code.to_owned(), Quantity::from_scaled(quantity), Quantity::from_scaled(there)));
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
    let decision = decide(&load(connection, rules, id, wish.date, &wish.reason).await?);
    Ok(CancelPreview {
        tape: decision.tape,
        entries: decision
            .unapplied
            .into_iter()
            .map(|back| back.entry)
            .chain(decision.entry)
            .chain(decision.cost_entry)
            .collect(),
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
    let input = load(writing, rules, id, wish.date, &wish.reason).await?;
    let decision = decide(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    writing.saw(wish.seen.as_deref(), &decision.fingerprint)?;
    let total = input.document.total_base;
    let asked = approvals::Wish {
        asked: Asked::CancelInvoice {
            invoice: id,
            date: wish.date,
            reason: wish.reason.trim().to_owned(),
            rebill: wish.rebill,
        },
        document: DocumentRef { kind: DocumentKind::Invoice, id: id.0, number: input.number.clone() },
        amount: total,
        words: format!(
            "cancel {} of {}, {} {}",
            input.number,
            input.customer.name,
            rules.base.grouped(total),
            rules.base
        ),
        changes: vec![set("credit", rules.base.format(total))],
        reason: wish.reason.trim().to_owned(),
        mark: decision.mark.clone(),
        gives_away: Money::ZERO,
        held: false,
    };
    if let Go::Waits(approval) = approvals::allowed_or_asked(writing, rules, asked).await? {
        return Ok(Cancelled { credit_memo: None, number: None, draft: None, waits: Some(approval) });
    }
    carry_out(writing, rules, &input, &decision, wish.rebill).await
}

async fn carry_out(
    writing: &mut Writing<'_>,
    rules: &Rules,
    input: &CancelInput<'_>,
    decision: &CancelDecision,
    rebill: bool,
) -> Result<Cancelled> {
    let document = &input.document;
    let memo = documents::new_memo(writing, DocumentKind::CreditMemo).await?;
    let CancelPosting { posting, entry, cost_entry } = decision.posting(input);
    let dated = InvoiceDocument { document_date: input.date, posting_date: input.date, ..document.clone() };
    let credits: Vec<_> = input.costs.iter().copied().enumerate().collect();
    let what = MemoToWrite {
        of: (input.invoice.0, LinkRole::Cancels),
        document: &dated,
        credits: &credits,
        returned: &[],
        given_up: &[],
        supplied: None,
        left_base: -dated.total_base,
        to_pay: None,
        reason: &input.reason,
        tape: &decision.tape,
    };
    documents::write_memo(writing, &memo, &what).await?;
    let written = posting::write(writing, &memo.source(), &posting).await?;
    let entry_at = |place: Option<usize>| place.and_then(|place| written.get(place).copied());
    documents::post_memo(writing, &memo, what.of, (entry_at(entry), entry_at(cost_entry))).await?;
    let credits = input.applied.iter().map(|applied| &applied.credit.document);
    let held_again: Vec<i64> = credits.filter(|one| one.kind == DocumentKind::Deposit).map(|one| one.id).collect();
    crate::deposits::refresh_orders(writing, &held_again).await?;
    let lines = rebillable(writing, input.invoice, document).await?;
    let mut fields = vec![set("total", document.currency.format(document.total)), set("reason", input.reason.trim())];
    // Nobody gets a credit memo over an invoice they never got.
    if deliveries::withdraw(writing, input.invoice.0).await? {
        fields.push(set("outbox", "taken out, it was not sent"));
    } else {
        deliveries::add(writing, &[(memo.id, input.customer.id, input.customer.delivery)]).await?;
    }
    for applied in &input.applied {
        let credit = &applied.credit;
        fields.push(set(&format!("{} unapplied", credit.document.number), credit.currency.format(applied.used.0)));
    }
    let words = format!("canceled {} of {} with {}", input.number, input.customer.name, memo.number);
    let at = (DocumentKind::Invoice, input.invoice.0, input.number.as_str());
    writing.note_on(at, "invoice_cancelled", words, None, fields);
    let draft = match rebill {
        true => Some(bill_anew(writing, rules, input, lines).await?),
        false => None,
    };
    Ok(Cancelled { credit_memo: Some(CreditMemoId(memo.id)), number: Some(memo.number), draft, waits: None })
}

/// What left stock with lines of an invoice that stand on no shipment.
async fn left(connection: &mut SqliteConnection, id: InvoiceId) -> Result<Vec<StockMove>> {
    Ok(sqlx::query!(
        r#"SELECT layer_id, stock_moves.posting_date AS "date: NaiveDate", stock_moves.quantity_e4, stock_moves.cost_minor, position
           FROM document_lines JOIN stock_moves ON document_line_id = document_lines.id
           WHERE document_id = ? AND stock_moves.quantity_e4 > 0 ORDER BY position, stock_moves.id"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| StockMove {
        layer: LayerId(row.layer_id),
        date: row.date,
        quantity: Quantity::from_scaled(row.quantity_e4),
        cost: Money(row.cost_minor),
        with: MovedWith::DocumentLine { invoice: Some(id), line: usize::try_from(row.position).unwrap_or_default() },
    })
    .collect())
}

/// The cost that followed each line of an invoice, by position.
async fn costs(connection: &mut SqliteConnection, id: InvoiceId) -> Result<Vec<Money>> {
    let costs =
        sqlx::query_scalar!("SELECT cost_minor FROM document_lines WHERE document_id = ? ORDER BY position", id.0)
            .fetch_all(connection)
            .await?;
    Ok(costs.into_iter().map(Money).collect())
}
