//! Authorizing a return: what of what was billed or shipped may come back, and until when. Writes nothing to the ledger.

use chrono::NaiveDate;

use super::{Disposition, Origin, Progress, ProofPolicy, ReturnReason, beyond_the_line, free, is_live};
use crate::calendar::words;
use crate::checks::{Blocker, Check, Findings, Step};
use crate::fingerprint;
use crate::fixed::Quantity;
use crate::invoice::credit::{Credited, share_of};
use crate::invoice::{CustomerFacts, ItemKind};
use crate::money::{Currency, Money};
use crate::people::check_reason;
use crate::tape::{Tape, TapeStyle};
use crate::units::in_stock_units;

/// The furthest day a return may be let arrive on, counted from its authorization.
const LONGEST_DAYS: i64 = 730;

/// A line, billed or shipped, of which something may come back; or an item no document is known of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Returnable {
    /// Where it is known from.
    pub origin: Origin,
    /// The number of the invoice, or of the shipment; of what no document is known, words that say so.
    pub number: String,
    /// The item's code.
    pub code: String,
    /// The unit it was sold in.
    pub unit: String,
    /// How many stock units that is.
    pub factor: Quantity,
    /// What it is.
    pub kind: ItemKind,
    /// Whether it left stock or a shipment at all: what was typed without goods has nothing to send back.
    pub goods_left: bool,
    /// How much was billed, or is not billed yet. Of what no document is known: what the customer ever bought of it and
    /// did not send back, where that is the company's limit, and as much as is to come back where it is not.
    pub billed: Quantity,
    /// What that came to as priced, in its currency; of what no document is known, what all that is to come back comes to.
    pub priced: Money,
    /// The currency of the invoice, or of the order; of what no document is known, the customer's.
    pub currency: Currency,
    /// What was credited of it.
    pub credited: Credited,
    /// What returns hold of it.
    pub on_returns: Quantity,
    /// The credit memo that canceled its invoice, where one did.
    pub canceled_by: Option<String>,
}

impl Returnable {
    /// How much may still come back.
    pub fn left(&self) -> Quantity {
        if self.obstacle().is_some() { Quantity::ZERO } else { self.not_claimed() }
    }

    fn not_claimed(&self) -> Quantity {
        free(self.billed, self.credited.quantity, self.on_returns)
    }

    /// What crediting so much of it would come to, as priced, in its currency.
    pub fn worth(&self, quantity: Quantity) -> Money {
        if matches!(self.origin, Origin::Unknown(_)) {
            return self.priced;
        }
        share_of(self.billed, self.priced, self.credited, quantity)
    }

    /// What of a quantity comes back of this line, and what of others of the same customer and item, where all that was ever
    /// bought may: those sold in the same unit and currency, in their order, each within what it has left. All of it of
    /// this line where they have not so much: then it is more than may come back.
    pub fn with_others(&self, quantity: Quantity, others: Vec<Self>) -> Vec<(Self, Quantity)> {
        let alike = others.into_iter().filter(|other| {
            (&other.unit, other.factor, other.currency) == (&self.unit, self.factor, self.currency)
                && other.origin != self.origin
        });
        let lines: Vec<Self> = std::iter::once(self.clone()).chain(alike).collect();
        let (taken, over) = beyond_the_line(quantity, &lines.iter().map(Self::left).collect::<Vec<_>>());
        if over.is_positive() {
            return vec![(self.clone(), quantity)];
        }
        lines.into_iter().zip(taken).filter(|(_, taken)| taken.is_positive()).collect()
    }

    /// Why nothing of it may come back; none where something may.
    pub fn obstacle(&self) -> Option<String> {
        let (code, number) = (&self.code, &self.number);
        if matches!(self.origin, Origin::Unknown(_)) && self.kind != ItemKind::Goods {
            return Some(format!("{code} is no goods. Credit it without a return."));
        }
        if let Some(memo) = &self.canceled_by {
            return Some(format!("{number} is canceled, by {memo}."));
        }
        match self.kind {
            ItemKind::Goods if !self.goods_left => {
                return Some(format!("{code} on {number} did not leave stock: credit it without a return."));
            }
            ItemKind::Goods => {}
            ItemKind::Packaging => {
                return Some(format!("{code} is owed back. Enter what comes back under the customer's containers."));
            }
            ItemKind::Service | ItemKind::Charge => {
                return Some(format!("{code} is nothing that comes back. Credit it without a return."));
            }
        }
        if self.not_claimed().is_zero() {
            let sentence = match (self.origin, self.on_returns.is_positive()) {
                (Origin::Unknown(_), _) => format!("The customer has bought no {code} that did not come back."),
                (Origin::Shipped(_), true) => format!("All of {code} on {number} is billed or on a return already."),
                (Origin::Shipped(_), false) => {
                    format!("All of {code} on {number} is billed, on a draft, or came back.")
                }
                (Origin::Billed(_), true) => format!("All of {code} on {number} is credited or on a return already."),
                (Origin::Billed(_), false) => format!("All of {code} on {number} is credited already."),
            };
            return Some(sentence);
        }
        None
    }
}

/// What of a line is to come back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReturnWish {
    /// The line.
    pub of: Returnable,
    /// Where it was typed, from zero: what is more than a line billed goes to other lines of the customer.
    pub typed: usize,
    /// What one cost, in base currency, where someone said so, and why: only of what no document is known.
    pub cost: Option<(Money, String)>,
    /// How much, in the unit it was sold in.
    pub quantity: Quantity,
    /// Why: the code of a reason.
    pub reason: String,
    /// What is to become of it: the code of a disposition; none where inspection decides.
    pub disposition: Option<String>,
}

/// Everything needed to decide on authorizing a return.
#[derive(Debug, Clone)]
pub struct AuthorizeInput<'a> {
    /// Whose.
    pub customer: CustomerFacts,
    /// What is to come back.
    pub lines: Vec<ReturnWish>,
    /// When it is authorized.
    pub date: NaiveDate,
    /// The last day it may arrive on.
    pub expires_on: NaiveDate,
    /// The company's reasons.
    pub reasons: &'a [ReturnReason],
    /// The company's dispositions.
    pub dispositions: &'a [Disposition],
    /// What the company asks of a return that points at no document.
    pub proof: ProofPolicy,
}

/// What authorizing does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct AuthorizeDecision {
    /// What crediting each line would come to, as priced, in its invoice's currency.
    pub worth: Vec<Money>,
    /// The arithmetic: what is expected, and what it was billed at. None where nothing was chosen.
    pub tape: Option<Tape>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Changes with everything that was seen.
    pub fingerprint: String,
}

/// Decides on authorizing a return.
pub fn authorize(input: &AuthorizeInput<'_>) -> AuthorizeDecision {
    let mut findings = Findings::at(Step::Post);
    if input.lines.is_empty() {
        findings.add(Check::NothingToDo, "lines", "Nothing is to come back. Say how much of which line.");
    }
    if let Err(sentence) = check_expiry(input.expires_on, input.date) {
        findings.add(Check::DateTooEarly, "expires_on", sentence);
    }
    for (at, wish) in input.lines.iter().enumerate() {
        check_line(input, at, wish, &mut findings);
    }
    let worth: Vec<Money> = input.lines.iter().map(|wish| wish.of.worth(wish.quantity)).collect();
    let what: Vec<_> = input
        .lines
        .iter()
        .map(|wish| {
            let figures = (wish.quantity.scaled(), wish.of.on_returns.scaled(), wish.of.priced);
            (wish.of.origin, figures, &wish.reason, &wish.disposition, &wish.cost)
        })
        .collect();
    AuthorizeDecision {
        tape: tape(input, &worth),
        fingerprint: fingerprint::of(&(input.customer.id, &what, &worth, input.expires_on)),
        worth,
        blockers: findings.finish(),
    }
}

/// Whether a return may be let arrive until a day.
///
/// # Errors
/// A sentence that says why not.
pub fn check_expiry(expires_on: NaiveDate, today: NaiveDate) -> Result<(), String> {
    if expires_on < today {
        return Err(format!("{} has passed. Choose a day on which the goods can still arrive.", words(expires_on)));
    }
    if (expires_on - today).num_days() > LONGEST_DAYS {
        return Err("A return may arrive within two years at most.".to_owned());
    }
    Ok(())
}

/// A line of a return that is to arrive later than it was to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LineExtended {
    /// The item's code.
    pub code: String,
    /// How far it is.
    pub progress: Progress,
    /// What of the line it points at is neither credited nor on a return.
    pub free: Quantity,
}

/// Whether a return may be let arrive until another day: from its last day on it held nothing of what had not arrived, so
/// that has to be free still.
///
/// # Errors
/// A sentence that says why not.
pub fn check_extension(
    (expires_on, until): (NaiveDate, NaiveDate),
    today: NaiveDate,
    lines: &[LineExtended],
) -> Result<(), String> {
    check_expiry(until, today)?;
    let over = !is_live(None, expires_on, today);
    match lines.iter().find(|line| over && line.progress.expected(true) > line.free) {
        Some(LineExtended { code, progress, free }) => Err(format!(
            "{} of {code} were to come; {free} are neither credited nor on another return. Authorize a new return.",
            progress.expected(true)
        )),
        None => Ok(()),
    }
}

fn check_line(input: &AuthorizeInput<'_>, at: usize, wish: &ReturnWish, findings: &mut Findings) {
    let of = &wish.of;
    let line = format!("lines.{}", wish.typed);
    let field = |name: &str| format!("{line}.{name}");
    if input.lines[..at].iter().any(|other| other.of.origin == of.origin) {
        findings.add(Check::NamedTwice, line.clone(), format!("{} is named twice. Put it together.", of.code));
    }
    if input.lines[..at].first().is_some_and(|first| first.of.currency != of.currency) {
        let sentence = format!("{} is in {}. Make a return of its own for it.", of.number, of.currency);
        findings.add(Check::CannotCombine, line.clone(), sentence);
    }
    if matches!(of.origin, Origin::Unknown(_)) {
        check_unknown(input, wish, &field, findings);
    }
    if let Some(sentence) = of.obstacle() {
        findings.add(Check::MoreThanReturnable, line.clone(), sentence);
    } else if !wish.quantity.is_positive() {
        findings.add(Check::QuantityNotPositive, field("quantity"), "More than zero comes back.");
    } else if wish.quantity > of.left() {
        let sentence = match of.origin {
            Origin::Unknown(_) => {
                format!("Of {}, {} at most may still come back of this customer.", of.code, of.left())
            }
            _ => format!("Of {} {} on {}, {} may still come back.", of.billed, of.code, of.number, of.left()),
        };
        findings.add(Check::MoreThanReturnable, field("quantity"), sentence);
    } else if in_stock_units(wish.quantity, of.factor).is_none() {
        let sentence = format!("{} {} of {} is no quantity stock is kept in.", wish.quantity, of.unit, of.code);
        findings.add(Check::UnitOrStep, field("quantity"), sentence);
    }
    if !input.reasons.iter().any(|reason| reason.active && reason.code == wish.reason) {
        findings.add(Check::ReasonMissing, field("reason"), format!("Say why {} comes back.", of.code));
    }
    if let Some(code) = &wish.disposition
        && !input.dispositions.iter().any(|known| known.active && known.code == *code)
    {
        findings.add(Check::ReasonMissing, field("disposition"), format!("There is no disposition {code}."));
    }
}

/// What no document is known of: by the company's policy, at a price that is said.
fn check_unknown(
    input: &AuthorizeInput<'_>,
    wish: &ReturnWish,
    field: &impl Fn(&str) -> String,
    findings: &mut Findings,
) {
    let code = &wish.of.code;
    match input.proof {
        ProofPolicy::Needed => {
            let sentence = format!("Find the invoice or the shipment {code} left with: a return needs one here.");
            findings.add(Check::ProofMissing, field("item"), sentence);
        }
        ProofPolicy::Warn => {
            let sentence = format!("No document shows that {code} was sold to {}.", input.customer.name);
            findings.add(Check::ProofAdvised, field("item"), sentence);
        }
        ProofPolicy::Free => {}
    }
    if wish.of.priced < Money::ZERO {
        findings.add(Check::AmountNotPositive, field("price"), "A price is zero or more.");
    }
    if let Some((cost, reason)) = &wish.cost {
        if *cost < Money::ZERO {
            findings.add(Check::AmountNotPositive, field("cost"), "A cost is zero or more.");
        }
        if let Err(sentence) = check_reason(reason) {
            findings.add(Check::ReasonMissing, field("cost_reason"), sentence);
        }
    }
}

fn tape(input: &AuthorizeInput<'_>, worth: &[Money]) -> Option<Tape> {
    let currency = input.lines.first()?.of.currency;
    let mut tape = Tape::new(input.customer.name.clone(), "return".to_owned(), currency);
    for (wish, worth) in input.lines.iter().zip(worth) {
        let of = if matches!(wish.of.origin, Origin::Unknown(_)) { "," } else { " of" };
        let label = format!("{} × {}{of} {}", wish.quantity, wish.of.code, wish.of.number);
        tape.amount(TapeStyle::Line, label, *worth);
        if matches!(wish.of.origin, Origin::Shipped(_)) {
            tape.remark(TapeStyle::Detail, "not billed: nothing to credit, the order gets it back", false);
        }
    }
    let credited = |wish: &ReturnWish| wish.of.origin.is_settled_later();
    let all: Money = input.lines.iter().zip(worth).filter(|(wish, _)| credited(wish)).map(|(_, worth)| *worth).sum();
    if input.lines.iter().any(credited) {
        let any_unknown = input.lines.iter().any(|wish| matches!(wish.of.origin, Origin::Unknown(_)));
        let label = if any_unknown { "To be credited, before tax" } else { "Billed at, before tax is worked out" };
        tape.amount(TapeStyle::Sum, label, all);
    }
    tape.remark(TapeStyle::Detail, format!("may arrive until {}", words(input.expires_on)), false);
    tape.remark(TapeStyle::Detail, "no entry: nothing moves before the goods are here", false);
    Some(tape)
}
