//! Asking for a part of an order in advance: what each line asks for, the prepayment invoice as it would be, billing it.

mod form;
mod order;
mod saving;

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::checks::{Blocker, Findings, Step, stops};
use till_core::fixed::{Quantity, Rate};
use till_core::ids::{CustomerId, DocumentRef, OrderId, OrderLineId};
use till_core::invoice::{InvoiceDecision, InvoiceInput, ItemKind, decide};
use till_core::money::{Currency, Money};
use till_core::prepayment::asking::{self, AskAs, AskLine, Asked, PercentFrom, Wish, ask};

pub use form::{AdvanceForm, AdvanceLine, SavedAdvance};
use form::{from_saved, read_form, said};
use order::{LineWords, Loaded, load};
pub use saving::save;

use super::requests::{PaymentRequestRow, requests_of};
use super::views::{PrepaymentRow, of_order};
use crate::invoices::{
    Head, InvoicePreview, OrderPick, PostedInvoice, ToDecide, ToPost, inputs, load_ordered, post_all, write_drafts,
};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError};

/// A line of an order, and what it asks for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdvanceLineView {
    /// The order line.
    pub order_line: OrderLineId,
    /// The item's code.
    pub code: String,
    /// Its words.
    pub description: String,
    /// What kind of item.
    pub kind: ItemKind,
    /// Ordered less what was canceled, in the unit sold.
    pub wanted: Quantity,
    /// The unit sold.
    pub unit: String,
    /// What of it is billed.
    pub billed: Quantity,
    /// Whether it is in.
    pub included: bool,
    /// Its share; none where an amount is asked for, or nobody set one.
    pub percent: Option<Rate>,
    /// Where that comes from.
    pub from: PercentFrom,
    /// What may be asked for in advance of it, as the order is priced.
    pub of: Money,
    /// What may still be asked for, as the order is priced.
    pub room: Money,
    /// What was asked for before, less what was credited, as the order is priced.
    pub before: Money,
    /// What of that invoices used.
    pub used: Money,
    /// What is asked for now, as the document is priced.
    pub now: Money,
    /// What is to be credited: asked for less than before, or canceled. As the order is priced.
    pub lower: Money,
}

/// What an order asks for in advance, and the prepayment invoice that would be.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdvancePlan {
    /// The order.
    pub order: DocumentRef,
    /// Changes with every edit of the order.
    pub version: i64,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The order's currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Whether the order's prices carry the tax.
    pub gross_priced: bool,
    /// The customer's usual share.
    pub usual: Option<Rate>,
    /// What is kept with the order.
    pub saved: SavedAdvance,
    /// The lines.
    pub lines: Vec<AdvanceLineView>,
    /// What is asked for now, all lines together, as the document is priced.
    pub now: Money,
    /// What is to be credited, all lines together, as the order is priced.
    pub lower: Money,
    /// Prepayment invoices of the order, the oldest first.
    pub invoices: Vec<PrepaymentRow>,
    /// Requests for payment that were sent for it, the oldest first.
    pub requests: Vec<PaymentRequestRow>,
    /// The prepayment invoice that would be; none where nothing is asked for.
    pub preview: Option<InvoicePreview>,
    /// What stands in the way of billing it.
    pub blockers: Vec<Blocker>,
}

/// The prepayment invoice that what is asked for comes to; nothing where nothing is.
async fn to_decide(
    connection: &mut SqliteConnection,
    rules: &Rules,
    loaded: &Loaded,
    (form, asked): (&AdvanceForm, &[Asked]),
) -> Result<Option<ToDecide>> {
    let picks: Vec<_> = asked
        .iter()
        .filter(|asked| asked.now.is_positive())
        .map(|asked| (None, OrderPick { order_line: asked.order_line, quantity: None }))
        .collect();
    let mut lines = load_ordered(connection, &picks).await?;
    let in_use = asked.iter().zip(&loaded.lines).filter(|(asked, _)| asked.now.is_positive());
    for (picked, (asked, (_, words))) in lines.iter_mut().zip(in_use) {
        let class = loaded.customer_class.as_deref();
        let account = rules.accounts.account(Purpose::PrepaymentLiability, Some(&words.class), class).ok().cloned();
        picked.line = asked.to_bill(picked.line.clone(), account, loaded.currency);
        picked.line.description = format!("{}, {} {}", words.description, asked.asks.asked_on, words.unit);
        picked.picking.source = picked.line.source.clone();
    }
    if lines.is_empty() {
        return Ok(None);
    }
    let head = Head {
        document_date: form.document_date,
        posting_date: form.posting_date,
        text_above: said(&form.text_above).map(str::to_owned),
        gross_priced: Some(asking::document_gross_priced(form.ask_as, loaded.gross_priced)),
        ..Head::default()
    };
    Ok(Some(ToDecide { customer: loaded.customer, lines, head }))
}

/// What is wrong with what is asked for, before the document is looked at.
fn check(loaded: &Loaded, wish: &Wish, asked: &[Asked]) -> Vec<Blocker> {
    let mut findings = Findings::at(Step::Post);
    loaded.check(wish, &mut findings);
    asking::check_state(loaded.state, &loaded.order, &mut findings);
    let found = findings.finish();
    if !found.is_empty() {
        return found;
    }
    let mut findings = Findings::at(Step::Post);
    asking::check_some(asked, &mut findings);
    findings.finish()
}

/// What an order asks for in advance; as typed, or as saved with the order. Nothing is written.
///
/// # Errors
/// An unknown order or line, a figure that cannot be read.
pub async fn plan(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: OrderId,
    form: Option<&AdvanceForm>,
) -> Result<AdvancePlan> {
    let on = form.and_then(|form| form.document_date).unwrap_or(rules.business_date);
    let mut loaded = load(connection, rules, id, on).await?;
    let form = form.cloned().unwrap_or_else(|| from_saved(&loaded.saved));
    let wish = read_form(&mut loaded, &form)?;
    let asked = ask(&wish, &loaded.asks(), loaded.gross_priced);
    let mut blockers = check(&loaded, &wish, &asked);
    let preview = match to_decide(connection, rules, &loaded, (&form, &asked)).await? {
        Some(wanted) => {
            let input = inputs(connection, rules, Step::Post, vec![wanted]).await?.remove(0);
            let decision = decide(&input);
            blockers.extend(decision.blockers.clone());
            Some(InvoicePreview::of(&input, decision))
        }
        None => None,
    };
    let invoices = of_order(connection, rules, id, &loaded.rows).await?;
    let requests = requests_of(connection, id).await?;
    Ok(AdvancePlan {
        version: loaded.version,
        customer: loaded.customer,
        customer_name: loaded.customer_name,
        currency: loaded.currency,
        gross_priced: loaded.gross_priced,
        usual: loaded.usual,
        saved: loaded.saved,
        now: asked.iter().map(|asked| asked.now).sum(),
        lower: asked.iter().map(|asked| asked.lower).sum(),
        lines: loaded.lines.into_iter().zip(asked).map(|((line, words), asked)| view(line, words, asked)).collect(),
        order: loaded.order,
        invoices,
        requests,
        preview,
        blockers,
    })
}

fn view(line: AskLine, words: LineWords, asked: Asked) -> AdvanceLineView {
    AdvanceLineView {
        order_line: line.order_line,
        code: line.code,
        description: words.description,
        kind: line.kind,
        wanted: line.wanted,
        unit: words.unit,
        billed: line.billed,
        included: asked.included,
        percent: asked.percent,
        from: asked.from,
        of: asked.of,
        room: asked.room,
        before: line.before,
        used: line.used,
        now: asked.now,
        lower: asked.lower,
    }
}

/// Bills what is asked for in advance, and keeps the shares with the order.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, or what the core refuses.
pub async fn bill(writing: &mut Writing<'_>, rules: &Rules, id: OrderId, form: &AdvanceForm) -> Result<PostedInvoice> {
    let asked = asked(writing, rules, id, form).await?;
    writing.saw(form.seen.as_deref(), &asked.decision.fingerprint)?;
    if form.ask_as == AskAs::Percent {
        let saved = SavedAdvance { percent: form.percent.clone(), lines: form.lines.clone() };
        saving::keep(writing, &asked.loaded, saved).await?;
    }
    post(writing, rules, asked).await
}

/// What is asked for, decided on and not refused.
pub(super) struct ToAsk<'a> {
    pub(super) loaded: Loaded,
    wanted: ToDecide,
    pub(super) input: InvoiceInput<'a>,
    pub(super) decision: InvoiceDecision,
}

/// Decides on what is asked for.
pub(super) async fn asked<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: OrderId,
    form: &AdvanceForm,
) -> Result<ToAsk<'a>> {
    let on = form.document_date.unwrap_or(rules.business_date);
    let mut loaded = load(connection, rules, id, on).await?;
    let wish = read_form(&mut loaded, form)?;
    let asked = ask(&wish, &loaded.asks(), loaded.gross_priced);
    let found = check(&loaded, &wish, &asked);
    if stops(&found) {
        return Err(StoreError::Refused(found));
    }
    let Some(wanted) = to_decide(connection, rules, &loaded, (form, &asked)).await? else {
        return Err(StoreError::Moved);
    };
    let input = inputs(connection, rules, Step::Post, vec![wanted.clone()]).await?.remove(0);
    let decision = decide(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    Ok(ToAsk { loaded, wanted, input, decision })
}

/// Posts the prepayment invoice that was decided on.
pub(super) async fn post(writing: &mut Writing<'_>, rules: &Rules, asked: ToAsk<'_>) -> Result<PostedInvoice> {
    let drafts = write_drafts(writing, rules, &[asked.wanted], None, None).await?;
    let draft = drafts.first().copied().ok_or(StoreError::Moved)?;
    let posted = post_all(writing, vec![ToPost::of(draft, &asked.input, asked.decision)]).await?;
    posted.into_iter().next().ok_or(StoreError::Moved)
}
