//! Authorizing a return: what of what was billed may come back, and until when. Writes nothing to the ledger.

use chrono::NaiveDate;

use super::{Disposition, Progress, ReturnReason, free, is_live};
use crate::calendar::words;
use crate::checks::{Blocker, Check, Findings, Step};
use crate::fingerprint;
use crate::fixed::Quantity;
use crate::ids::{DocumentLineId, InvoiceId};
use crate::invoice::credit::{Credited, share_of};
use crate::invoice::{CustomerFacts, ItemKind};
use crate::money::{Currency, Money};
use crate::tape::{Tape, TapeStyle};
use crate::units::in_stock_units;

/// The furthest day a return may be let arrive on, counted from its authorization.
const LONGEST_DAYS: i64 = 730;

/// A billed line of which something may come back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Returnable {
    /// The line.
    pub line: DocumentLineId,
    /// Its invoice.
    pub invoice: InvoiceId,
    /// The invoice's number.
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
    /// How much was billed.
    pub billed: Quantity,
    /// What it came to as priced, in the invoice's currency.
    pub priced: Money,
    /// The invoice's currency.
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

    /// What crediting so much of it would come to, as priced, in the invoice's currency.
    pub fn worth(&self, quantity: Quantity) -> Money {
        share_of(self.billed, self.priced, self.credited, quantity)
    }

    /// Why nothing of it may come back; none where something may.
    pub fn obstacle(&self) -> Option<String> {
        let (code, number) = (&self.code, &self.number);
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
            let sentence = match self.on_returns.is_positive() {
                true => format!("All of {code} on {number} is credited or on a return already."),
                false => format!("All of {code} on {number} is credited already."),
            };
            return Some(sentence);
        }
        None
    }
}

/// What of a billed line is to come back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReturnWish {
    /// The line.
    pub of: Returnable,
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
            (wish.of.line, wish.quantity.scaled(), &wish.reason, &wish.disposition, wish.of.on_returns.scaled())
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
    let field = |name: &str| format!("lines.{at}.{name}");
    if input.lines[..at].iter().any(|other| other.of.line == of.line) {
        findings.add(Check::NamedTwice, format!("lines.{at}"), format!("{} is named twice. Put it together.", of.code));
    }
    if input.lines[..at].first().is_some_and(|first| first.of.currency != of.currency) {
        let sentence = format!("{} is in {}. Make a return of its own for it.", of.number, of.currency);
        findings.add(Check::CannotCombine, format!("lines.{at}"), sentence);
    }
    if let Some(sentence) = of.obstacle() {
        findings.add(Check::MoreThanReturnable, format!("lines.{at}"), sentence);
    } else if !wish.quantity.is_positive() {
        findings.add(Check::QuantityNotPositive, field("quantity"), "More than zero comes back.");
    } else if wish.quantity > of.left() {
        let sentence = format!("Of {} {} on {}, {} may still come back.", of.billed, of.code, of.number, of.left());
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

fn tape(input: &AuthorizeInput<'_>, worth: &[Money]) -> Option<Tape> {
    let currency = input.lines.first()?.of.currency;
    let mut tape = Tape::new(input.customer.name.clone(), "return".to_owned(), currency);
    for (wish, worth) in input.lines.iter().zip(worth) {
        let label = format!("{} × {} of {}", wish.quantity, wish.of.code, wish.of.number);
        tape.amount(TapeStyle::Line, label, *worth);
    }
    tape.amount(TapeStyle::Sum, "Billed at, before tax is worked out", worth.iter().copied().sum());
    tape.remark(TapeStyle::Detail, format!("may arrive until {}", words(input.expires_on)), false);
    tape.remark(TapeStyle::Detail, "no entry: nothing moves before the goods are here", false);
    Some(tape)
}
