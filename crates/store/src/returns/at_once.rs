//! Goods that come back and are credited in one posting: a direct return, and an exchange where others go out for them.
//!
//! It is a return like any other: authorized, received, and inspected where it is said at once what becomes of the goods.
//! Credit memo (or invoice, where something is left to pay) and steps share one entry. *Source: domain.md section 9.*

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, DocumentKind, DocumentLineId, DocumentRef, EntryId, InvoiceId, ReturnLineId};
use till_core::invoice::ItemKind;
use till_core::invoice::credit::{CreditInput, decide};
use till_core::money::Money;
use till_core::people::{Operation, Verdict, check_reason, decide as may};
use till_core::tape::{Change, Tape};
use till_core::units::in_stock_units;

use super::authorizing::{self, NewReturn, NewReturnLine};
use super::carrying::WithDocument;
use super::facts;
use super::steps::{
    InspectForm, InspectLine, ReceiveForm, ReceiveLine, inspect_preview, inspect_with, receive_preview, receive_with,
};
use crate::invoices::{AddedLine, CreditLine, ToCredit, load_credit, write_credit};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, Store, StoreError, people};

/// Goods of a line of an invoice that come back now.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ComesBack {
    /// The position of the line on the invoice, from zero.
    pub position: usize,
    /// How much, in the unit it was sold in, as typed.
    pub quantity: String,
    /// Why: the code of a reason.
    #[serde(default)]
    pub reason: String,
    /// What becomes of it: the code of a disposition; none where it waits for inspection.
    #[serde(default)]
    pub disposition: Option<String>,
}

/// What comes back of an invoice now, and what goes out for it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BackAtOnce {
    /// What comes back.
    pub back: Vec<ComesBack>,
    /// What goes the other way: goods in exchange, a restocking fee, freight.
    #[serde(default)]
    pub added: Vec<AddedLine>,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Why, as the document says it.
    #[serde(default)]
    pub reason: String,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What it would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AtOncePreview {
    /// What is left to credit, with tax, in the invoice's currency; below zero where the customer owes something.
    pub total: Money,
    /// What each line that comes back comes to, as priced.
    pub back: Vec<Money>,
    /// What each of the added lines comes to, as priced.
    pub added: Vec<Money>,
    /// The arithmetic; none where something stands in the way before it.
    pub tape: Option<Tape>,
    /// The entry.
    pub entry: Option<Entry>,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

/// What it did.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DoneAtOnce {
    /// The credit memo, or the invoice where something is left to pay.
    pub document: DocumentRef,
    /// The return.
    pub returned: DocumentRef,
}

/// The return under way.
struct Returned<'a> {
    reference: DocumentRef,
    input: CreditInput<'a>,
    entry: i64,
}

/// What becomes of a line that comes back: how much of it, as typed, and the code of a disposition.
pub(super) type Becomes<'a> = (&'a str, Option<&'a str>);

/// A return that was authorized, received and inspected at once.
pub(super) struct Arrived {
    pub(super) reference: DocumentRef,
    /// Its lines, in the order of what was typed.
    pub(super) lines: Vec<ReturnLineId>,
    /// The entries of its steps, for the document that settles it.
    pub(super) with: WithDocument,
}

/// Authorizes, receives and inspects. What is credited of it is left to decide on.
pub(super) async fn arrive(
    writing: &mut Writing<'_>,
    rules: &Rules,
    new: &NewReturn,
    (date, becomes): (Option<NaiveDate>, &[Becomes<'_>]),
) -> Result<Arrived> {
    let preview = authorizing::preview(writing, rules, new).await?;
    let (id, number) = authorizing::authorize(writing, rules, new, Some(&preview.fingerprint)).await?;
    let mut with = WithDocument::next(writing).await?;
    let lines = facts::lines(writing, id).await?;
    let arrived = lines.iter().zip(becomes);
    let form = ReceiveForm {
        lines: arrived.map(|(line, one)| ReceiveLine { line: line.id, quantity: one.0.to_owned() }).collect(),
        date,
        in_repair: false,
        note: None,
    };
    let seen = receive_preview(writing, rules, id, &form).await?.fingerprint;
    let done = receive_with(writing, rules, id, (1, Some(&seen)), &form, Some(&mut with)).await?;
    let mut decided = Vec::new();
    let mut places = Vec::new();
    for (at, (line, (quantity, disposition))) in lines.iter().zip(becomes).enumerate() {
        let Some(disposition) = said(*disposition) else { continue };
        let quantity = quantity.trim().parse::<Quantity>().unwrap_or_default();
        let stock = in_stock_units(quantity, line.factor).unwrap_or_default();
        places.push(at);
        decided.push(InspectLine { line: line.id, quantity: stock.to_string(), disposition, claim: None });
    }
    if !decided.is_empty() {
        let form = InspectForm { lines: decided, date, note: None };
        let seen = inspect_preview(writing, rules, id, &form).await?.fingerprint;
        inspect_with(writing, rules, id, (done.version, Some(&seen)), &form, Some(&mut with))
            .await
            .map_err(|error| of_those(error, &places))?;
    }
    let reference = DocumentRef { kind: DocumentKind::Return, id: id.0, number };
    Ok(Arrived { reference, lines: lines.iter().map(|line| line.id).collect(), with })
}

async fn take_back<'a>(
    writing: &mut Writing<'_>,
    rules: &'a Rules,
    invoice: InvoiceId,
    wish: &BackAtOnce,
) -> Result<Returned<'a>> {
    let new = new_return(writing, invoice, wish).await?;
    let becomes: Vec<Becomes<'_>> =
        wish.back.iter().map(|back| (back.quantity.as_str(), back.disposition.as_deref())).collect();
    let mut arrived = arrive(writing, rules, &new, (wish.date, &becomes)).await?;
    let input = to_credit(writing, rules, (invoice, &arrived.lines), wish, &mut arrived.with).await?;
    Ok(Returned { reference: arrived.reference, input, entry: arrived.with.entry })
}

pub(super) fn said(text: Option<&str>) -> Option<String> {
    text.map(str::trim).filter(|text| !text.is_empty()).map(str::to_owned)
}

/// The return that says what comes back.
async fn new_return(writing: &mut Writing<'_>, invoice: InvoiceId, wish: &BackAtOnce) -> Result<NewReturn> {
    if wish.back.is_empty() {
        return Err(StoreError::invalid("back", "Say what comes back: how much of which line."));
    }
    let customer = sqlx::query_scalar!("SELECT customer_id FROM documents WHERE id = ?", invoice.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Invoice, invoice))?;
    let mut lines = Vec::new();
    for (at, back) in wish.back.iter().enumerate() {
        let position = i64::try_from(back.position).unwrap_or(i64::MAX);
        let line = sqlx::query_scalar!(
            "SELECT id FROM document_lines WHERE document_id = ? AND position = ?",
            invoice.0,
            position
        )
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::invalid(format!("back.{at}"), "The invoice has no such line."))?;
        lines.push(NewReturnLine {
            line: Some(DocumentLineId(line)),
            quantity: back.quantity.clone(),
            reason: back.reason.clone(),
            disposition: back.disposition.clone(),
            ..NewReturnLine::default()
        });
    }
    Ok(NewReturn { customer: CustomerId(customer), lines, ..NewReturn::default() })
}

/// What is credited of what came back, and what goes out for it.
async fn to_credit<'a>(
    writing: &mut Writing<'_>,
    rules: &'a Rules,
    (invoice, lines): (InvoiceId, &[ReturnLineId]),
    wish: &BackAtOnce,
    with: &mut WithDocument,
) -> Result<CreditInput<'a>> {
    let credited = lines.iter().zip(&wish.back).map(|(line, back)| CreditLine {
        position: back.position,
        quantity: Some(back.quantity.clone()),
        amount: None,
        return_line: Some(*line),
    });
    let credit = ToCredit {
        lines: credited.collect(),
        added: wish.added.clone(),
        date: wish.date,
        reason: wish.reason.clone(),
        seen: None,
    };
    let mut input = load_credit(writing, rules, invoice, &credit).await?;
    let out = input.supplies.iter().flat_map(|with| &with.lines);
    input.exchange = out.into_iter().any(|line| line.kind == ItemKind::Goods);
    input.goods = std::mem::take(&mut with.entries);
    Ok(input)
}

/// Takes goods back and credits them in one posting, with what goes out for them.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, what the core refuses at any of its steps, a credit above the
/// limit of who does it: then the return is authorized and its credit memo asked for.
pub async fn at_once(
    writing: &mut Writing<'_>,
    rules: &Rules,
    invoice: InvoiceId,
    wish: &BackAtOnce,
) -> Result<DoneAtOnce> {
    check_reason(&wish.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let returned = take_back(writing, rules, invoice, wish).await.map_err(of_back)?;
    let decision = decide(&returned.input);
    if stops(&decision.blockers) {
        return Err(of_back(StoreError::Refused(decision.blockers)));
    }
    // All of it is taken back where it is not what was seen.
    writing.saw(wish.seen.as_deref(), &decision.fingerprint)?;
    may_at_once(writing, decision.document.total_base).await?;
    let (document, entry) = write_credit(writing, &returned.input, &decision).await?;
    same_entry(entry, returned.entry)?;
    Ok(DoneAtOnce { document, returned: returned.reference })
}

/// Whether who does it may credit so much, in base currency, without a second person looking.
pub(super) async fn may_at_once(writing: &mut Writing<'_>, credited: Money) -> Result<()> {
    let Some(role) = writing.actor().role else { return Ok(()) };
    let limits = people::limits(writing).await?;
    match may(role, Operation::ReturnAtOnce, credited, &limits) {
        Verdict::Allowed => Ok(()),
        Verdict::Denied(why) => Err(StoreError::NotAllowed(why)),
        Verdict::NeedsApproval(why) => {
            let sentence = format!("{why} Authorize a return and receive it; its credit memo waits for approval.");
            Err(StoreError::NotAllowed(sentence))
        }
    }
}

/// Document and steps share one entry: it has the id that the steps were written with.
pub(super) fn same_entry(entry: Option<EntryId>, foretold: i64) -> Result<()> {
    match entry {
        Some(entry) if entry.0 != foretold => {
            Err(StoreError::Corrupt("the entry of an exchange has another id than its steps say".to_owned()))
        }
        _ => Ok(()),
    }
}

/// What it would do. It is carried out as far as the document and taken back: nothing stays written.
///
/// # Errors
/// What cannot be read.
pub async fn at_once_preview(
    store: &Store,
    actor: &crate::Actor,
    invoice: InvoiceId,
    wish: &BackAtOnce,
) -> Result<AtOncePreview> {
    store
        .rehearse(actor, async |writing| {
            let rules = crate::rules::load(writing).await?;
            let returned = match take_back(writing, &rules, invoice, wish).await.map_err(of_back) {
                Err(StoreError::Refused(blockers)) => return Ok(AtOncePreview::blocked(blockers)),
                other => other?,
            };
            let decision = decide(&returned.input);
            let total = decision.balance();
            let supplied = decision.supplied.and_then(|supplied| supplied.document);
            Ok(AtOncePreview {
                total,
                back: decision.document.lines.iter().map(|line| line.amount).collect(),
                added: supplied.iter().flat_map(|document| &document.lines).map(|line| line.amount).collect(),
                tape: Some(decision.tape),
                entry: decision.entry,
                changes: decision.changes,
                blockers: decision.blockers.into_iter().map(back_field).collect(),
                fingerprint: decision.fingerprint,
            })
        })
        .await
}

impl AtOncePreview {
    pub(super) fn blocked(blockers: Vec<Blocker>) -> Self {
        Self {
            total: Money::ZERO,
            back: Vec::new(),
            added: Vec::new(),
            tape: None,
            entry: None,
            changes: Vec::new(),
            blockers,
            fingerprint: String::new(),
        }
    }
}

/// The lines of an inspection are those of what comes back that have a disposition.
fn of_those(error: StoreError, places: &[usize]) -> StoreError {
    let renamed = |field: String| {
        let place = field.strip_prefix("lines.").and_then(|rest| rest.split_once('.'));
        let known = place.and_then(|(at, name)| Some((places.get(at.parse::<usize>().ok()?)?, name)));
        known.map(|(at, name)| format!("lines.{at}.{name}")).unwrap_or(field)
    };
    match error {
        StoreError::Refused(blockers) => StoreError::Refused(
            blockers.into_iter().map(|one| Blocker { field: renamed(one.field.clone()), ..one }).collect(),
        ),
        other => other,
    }
}

/// The lines of the steps are those that come back.
pub(super) fn of_back(error: StoreError) -> StoreError {
    match error {
        StoreError::Invalid { field, sentence } => StoreError::Invalid { field: renamed(field), sentence },
        StoreError::Refused(blockers) => StoreError::Refused(blockers.into_iter().map(back_field).collect()),
        other => other,
    }
}

pub(super) fn back_field(blocker: Blocker) -> Blocker {
    Blocker { field: renamed(blocker.field), ..blocker }
}

fn renamed(field: String) -> String {
    field.strip_prefix("lines.").map(|rest| format!("back.{rest}")).unwrap_or(field)
}
