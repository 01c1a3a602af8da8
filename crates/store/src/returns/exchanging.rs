//! Goods that come back though no invoice shows them, credited in one posting, with what goes out for them: an exchange, or a
//! direct return, that points at no document.
//!
//! It is a return without a document like any other, by the same right and under the same policies; what is credited and what
//! goes out are both of today, in the customer's currency. *Source: domain.md section 9.*

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::checks::{Blocker, stops};
use till_core::ids::{CustomerId, DocumentRef};
use till_core::invoice::credit::alone::{AloneInput, decide};
use till_core::invoice::{InvoiceDocument, ItemKind};
use till_core::people::check_reason;

use super::at_once::{AtOncePreview, Becomes, DoneAtOnce, arrive, may_at_once, of_back, said, same_entry};
use super::authorizing::{NewReturn, NewReturnLine};
use crate::invoices::{AddedLine, CameBack, CreditAlone, load_alone, write_alone};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, Store, StoreError};

/// Goods of an item that come back now, though no document shows them.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnknownBack {
    /// The item's code.
    pub item: String,
    /// How much, in stock units, as typed.
    pub quantity: String,
    /// The price for one it is credited at, in the customer's currency, as typed.
    #[serde(default)]
    pub price: String,
    /// Another tax code than the item and the customer would have.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tax_code: Option<String>,
    /// What one cost, in base currency; none for what the newest goods of the item cost.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cost: Option<String>,
    /// Why it cost that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cost_reason: Option<String>,
    /// Why: the code of a reason.
    #[serde(default)]
    pub reason: String,
    /// What becomes of it: the code of a disposition; none where it waits for inspection.
    #[serde(default)]
    pub disposition: Option<String>,
}

/// What comes back now without a document, and what goes out for it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnknownAtOnce {
    /// Whose.
    pub customer: CustomerId,
    /// What comes back.
    pub back: Vec<UnknownBack>,
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

impl UnknownAtOnce {
    fn as_return(&self) -> NewReturn {
        let lines = self.back.iter().map(|back| NewReturnLine {
            item: Some(back.item.clone()),
            price: Some(back.price.clone()),
            cost: back.cost.clone(),
            cost_reason: back.cost_reason.clone(),
            quantity: back.quantity.clone(),
            reason: back.reason.clone(),
            disposition: back.disposition.clone(),
            ..NewReturnLine::default()
        });
        NewReturn { customer: self.customer, lines: lines.collect(), ..NewReturn::default() }
    }

    fn as_credit(&self) -> Vec<AddedLine> {
        let line = |back: &UnknownBack| AddedLine {
            item: Some(back.item.clone()),
            quantity: back.quantity.clone(),
            unit_price: Some(back.price.clone()),
            tax_code: said(back.tax_code.as_deref()),
            // Why its tax code is another is why it comes back.
            reason: said(back.tax_code.as_deref()).map(|_| self.reason.clone()),
            ..AddedLine::default()
        };
        self.back.iter().map(line).collect()
    }
}

/// The return under way.
struct Returned<'a> {
    reference: DocumentRef,
    input: AloneInput<'a>,
    entry: i64,
}

/// Authorizes, receives and inspects. What is credited of it is left to decide on.
async fn take_back<'a>(writing: &mut Writing<'_>, rules: &'a Rules, wish: &UnknownAtOnce) -> Result<Returned<'a>> {
    if wish.back.is_empty() {
        return Err(StoreError::invalid("back", "Say what comes back: how much of which item."));
    }
    let becomes: Vec<Becomes<'_>> =
        wish.back.iter().map(|back| (back.quantity.as_str(), back.disposition.as_deref())).collect();
    let mut arrived = arrive(writing, rules, &wish.as_return(), (wish.date, &becomes)).await.map_err(of_back)?;
    let came_back = arrived.lines.iter().enumerate().map(|(line, id)| CameBack { line, return_line: *id });
    let credit = CreditAlone {
        customer: wish.customer,
        currency: None,
        added: wish.as_credit(),
        came_back: came_back.collect(),
        date: wish.date,
        reason: wish.reason.clone(),
        seen: None,
    };
    let mut input = load_alone(writing, rules, &credit, &wish.added).await?;
    input.exchange = input.supplies.iter().flat_map(|with| &with.lines).any(|line| line.kind == ItemKind::Goods);
    input.at_once = true;
    input.goods = std::mem::take(&mut arrived.with.entries);
    Ok(Returned { reference: arrived.reference, input, entry: arrived.with.entry })
}

/// Takes goods back that no document shows and credits them in one posting, with what goes out for them.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, what the core refuses at any of its steps, who may not take back
/// without a document, a credit above the limit of who does it.
pub async fn unknown_at_once(writing: &mut Writing<'_>, rules: &Rules, wish: &UnknownAtOnce) -> Result<DoneAtOnce> {
    check_reason(&wish.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let returned = take_back(writing, rules, wish).await?;
    let decision = decide(&returned.input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers.into_iter().map(of_price).collect()));
    }
    // All of it is taken back where it is not what was seen.
    writing.saw(wish.seen.as_deref(), &decision.fingerprint)?;
    let credited = decision.document.as_ref().map(|document| document.total_base);
    may_at_once(writing, credited.unwrap_or_default()).await?;
    let (document, entry) = write_alone(writing, &returned.input, &decision).await?;
    same_entry(entry, returned.entry)?;
    Ok(DoneAtOnce { document, returned: returned.reference })
}

/// What it would do. It is carried out as far as the document and taken back: nothing stays written.
///
/// # Errors
/// What cannot be read.
pub async fn unknown_at_once_preview(
    store: &Store,
    actor: &crate::Actor,
    wish: &UnknownAtOnce,
) -> Result<AtOncePreview> {
    store
        .rehearse(actor, async |writing| {
            let rules = crate::rules::load(writing).await?;
            let returned = match take_back(writing, &rules, wish).await {
                Err(StoreError::Refused(blockers)) => return Ok(AtOncePreview::blocked(blockers)),
                other => other?,
            };
            let decision = decide(&returned.input);
            let amounts = |document: Option<&InvoiceDocument>| {
                document.iter().flat_map(|document| &document.lines).map(|line| line.amount).collect()
            };
            Ok(AtOncePreview {
                total: decision.balance(),
                back: amounts(decision.document.as_ref()),
                added: amounts(decision.other_way()),
                blockers: decision.blockers.into_iter().map(of_price).collect(),
                tape: Some(decision.tape),
                entry: decision.entry,
                changes: decision.changes,
                fingerprint: decision.fingerprint,
            })
        })
        .await
}

/// What comes back has a price by another name.
fn of_price(blocker: Blocker) -> Blocker {
    let field = match blocker.field.strip_suffix(".unit_price").filter(|line| line.starts_with("back.")) {
        Some(line) => format!("{line}.price"),
        None => blocker.field.clone(),
    };
    Blocker { field, ..blocker }
}
