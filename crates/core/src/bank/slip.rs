//! Bank deposit slips: checks and cash that are taken to the bank together.
//!
//! A slip is *prepared* first: it gets its number and its paper, and what stands on it is in hand still. It is *banked* once the
//! bank took it: then its money moves, all of what stands on it, to the bank account; what the bank counted short or over is
//! settled beside it. *Source: domain.md section 10; postings.md, Money: bank deposit slip.*

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::ids::{CustomerId, DocumentRef, EntryId};
use crate::money::{Currency, Money};
use crate::people::{LimitKind, Limits, Role, check_reason};
use crate::posting::Posting;
use crate::room::{Movement, room_from};
use crate::settle::{MoneyPlace, PlaceKind};
use crate::tape::{Tape, TapeStyle};

/// What lies in hand: a check or cash that came in, cash that was paid out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InHand {
    /// The entry that moved it.
    pub entry: EntryId,
    /// The receipt, the deposit, the refund.
    pub document: DocumentRef,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub name: String,
    /// What was noted with it: the number of a check.
    pub words: String,
    /// When.
    pub date: NaiveDate,
    /// Where it lies.
    pub place: MoneyPlace,
    /// Its currency.
    pub currency: Currency,
    /// How much, in its currency and in base currency; below zero where it was paid out.
    pub amount: (Money, Money),
}

/// Everything needed to decide on a slip.
#[derive(Debug, Clone)]
pub struct SlipInput<'a> {
    /// Its number; none before it has one.
    pub number: Option<String>,
    /// What stands on it.
    pub lines: Vec<InHand>,
    /// The bank account it goes to.
    pub bank: MoneyPlace,
    /// What the bank counted, in the currency of the lines; none for all of it, or where it is only prepared.
    pub counted: Option<Money>,
    /// Everything that came to the places of its lines and left them, by the code of the place, in base currency.
    pub at_places: Vec<(String, Vec<Movement>)>,
    /// When it is prepared, or banked.
    pub date: DocumentDate,
    /// Currency where nothing stands on it.
    pub base: Currency,
    /// Today's date.
    pub dates: DateOrder,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// What a slip comes to, or why it cannot be.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SlipDecision {
    /// Its currency.
    pub currency: Currency,
    /// What stands on it, in its currency and in base currency.
    pub total: (Money, Money),
    /// What the bank counted, in both.
    pub counted: (Money, Money),
    /// The entry of banking it.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure and date.
    pub fingerprint: String,
}

impl SlipDecision {
    /// What the bank counted too little, in base currency; below zero where it counted too much.
    pub fn short(&self) -> Money {
        self.total.1 - self.counted.1
    }

    /// What banking it does to the books: its entry.
    pub fn posting(&self) -> Posting {
        let mut posting = Posting::default();
        posting.enter(self.entry.clone(), None);
        posting
    }
}

/// Decides on preparing a slip.
pub fn prepare(input: &SlipInput<'_>) -> SlipDecision {
    decide(&SlipInput { counted: None, ..input.clone() }, false)
}

/// Decides on banking a slip.
pub fn bank(input: &SlipInput<'_>) -> SlipDecision {
    decide(input, true)
}

fn decide(input: &SlipInput<'_>, banked: bool) -> SlipDecision {
    let mut findings = Findings::at(Step::Post);
    let currency = input.lines.first().map_or(input.base, |line| line.currency);
    let total =
        input.lines.iter().fold((Money::ZERO, Money::ZERO), |sum, line| (sum.0 + line.amount.0, sum.1 + line.amount.1));
    check(input, (currency, total.0), &mut findings);
    let counted = match input.counted {
        // A missing note is worth what the others are carried at.
        Some(amount) if amount != total.0 => (amount, total.1.share(amount.0, total.0.0)),
        _ => total,
    };
    let entry = if banked { entry(input, (currency, total, counted), &mut findings) } else { None };
    let lines: Vec<EntryId> = input.lines.iter().map(|line| line.entry).collect();
    SlipDecision {
        fingerprint: fingerprint::of(&(&lines, &input.bank.code, total, counted, input.date.date, &entry)),
        tape: tape(input, (currency, total.0, counted.0), banked),
        currency,
        total,
        counted,
        entry,
        blockers: findings.finish(),
    }
}

/// Whether a role may book what the bank counted otherwise, in base currency; below zero where it counted too much. Too much is no
/// more anyone's to keep than too little is to be lost: more than the tolerance either way takes the limit for write-offs.
///
/// # Errors
/// What to do instead.
pub fn apart_allowed(
    role: Role,
    short: Money,
    tolerance: Money,
    limits: &Limits,
    base: Currency,
) -> Result<(), String> {
    let apart = short.abs();
    if apart <= tolerance || limits.covers(role, LimitKind::WriteOff, apart) {
        return Ok(());
    }
    let way = if short.is_positive() { "short" } else { "over" };
    let limit = limits.of(role, LimitKind::WriteOff).unwrap_or(Money::ZERO).max(tolerance);
    Err(format!(
        "The bank counted {} {base} {way}, you may book {} {base}. Look for a digit typed wrong, or ask a supervisor to book it.",
        base.grouped(apart),
        base.grouped(limit)
    ))
}

fn check(input: &SlipInput<'_>, (currency, total): (Currency, Money), findings: &mut Findings) {
    if let Some(obstacle) = input.periods.obstacle(input.date.date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("slip", input.date.date, "date", findings);
    if input.lines.is_empty() {
        findings.add(Check::NothingToDo, "lines", "Choose the checks and the cash that go to the bank.");
        return;
    }
    if input.bank.kind != PlaceKind::Bank {
        findings.add(Check::AccountMissing, "bank", format!("{} is no bank account. Choose one.", input.bank.name));
    }
    if let Some(other) = input.lines.iter().find(|line| line.currency != currency) {
        let sentence = format!(
            "{} is in {}, the others are in {currency}. Write a slip for each currency.",
            other.document.number, other.currency
        );
        findings.add(Check::CurrencyDiffers, "lines", sentence);
    } else if let Some(kept) = input.bank.currency.filter(|kept| *kept != currency) {
        let sentence =
            format!("{} is kept in {kept} and takes no {currency}. Choose another account.", input.bank.name);
        findings.add(Check::CurrencyDiffers, "bank", sentence);
    }
    if let Some(later) = input.lines.iter().filter(|line| line.date > input.date.date).max_by_key(|line| line.date) {
        let sentence = format!(
            "{} is dated {}. Choose that day or a later one, or leave it out.",
            later.document.number,
            words(later.date)
        );
        findings.add(Check::DateTooEarly, "date", sentence);
    }
    for (place, movements) in &input.at_places {
        let mine = input.lines.iter().filter(|line| line.place.code == *place);
        let (name, wanted) = mine.fold(("", Money::ZERO), |sum, line| (&line.place.name, sum.1 + line.amount.1));
        let there = Money(room_from(input.date.date, movements));
        if wanted > there {
            let sentence = format!(
                "Only {} {} of that lie in “{name}”: the rest was paid out. Put what was paid out on the slip too.",
                input.base.grouped(there),
                input.base
            );
            findings.add(Check::MoreThanReceived, "lines", sentence);
        }
    }
    if !total.is_positive() {
        let sentence = "More was paid out than came in with these. Choose what goes to the bank.";
        findings.add(Check::NothingToDo, "lines", sentence);
    }
    if input.counted.is_some_and(|counted| !counted.is_positive()) {
        findings.add(Check::AmountNotPositive, "counted", "Enter what the bank took, more than zero.");
    }
}

/// Dr bank what it counted, Cr in hand what stood on the slip, the difference to small differences or other income.
fn entry(
    input: &SlipInput<'_>,
    (currency, total, counted): (Currency, (Money, Money), (Money, Money)),
    findings: &mut Findings,
) -> Option<Entry> {
    let mut builder = EntryBuilder::new(input.accounts, None, currency);
    builder.add_to(&input.bank.account, Purpose::Bank, counted, LineFor::default());
    let short = (total.0 - counted.0, total.1 - counted.1);
    let beside = if short.0.is_positive() { Purpose::WriteOff } else { Purpose::OtherIncome };
    builder.add(beside, short.0, short.1, LineFor::default());
    // Cash that was paid out lies on the same account: what is taken there is one amount.
    let mut accounts: Vec<(&MoneyPlace, (Money, Money))> = Vec::new();
    for line in &input.lines {
        match accounts.iter_mut().find(|(place, _)| place.account == line.place.account) {
            Some((_, sum)) => *sum = (sum.0 + line.amount.0, sum.1 + line.amount.1),
            None => accounts.push((&line.place, line.amount)),
        }
    }
    for (place, sum) in accounts {
        builder.add_to(&place.account, Purpose::InHand, (-sum.0, -sum.1), LineFor::default());
    }
    let number = input.number.as_deref().unwrap_or("new slip");
    builder.finish_or_say(input.date.date, format!("Bank deposit slip {number}"), findings)
}

fn tape(input: &SlipInput<'_>, (currency, total, counted): (Currency, Money, Money), banked: bool) -> Tape {
    let number = input.number.as_deref().unwrap_or("Bank deposit slip");
    let mut tape = Tape::new(input.bank.name.clone(), number, currency);
    let sum = |kind: PlaceKind| -> (usize, Money) {
        let mine = input.lines.iter().filter(|line| line.place.kind == kind);
        (mine.clone().count(), mine.map(|line| line.amount.0).sum())
    };
    for (kind, one, more) in
        [(PlaceKind::ChecksInHand, "check", "checks"), (PlaceKind::Drawer, "cash movement", "cash movements")]
    {
        let (count, amount) = sum(kind);
        if count > 0 {
            tape.amount(TapeStyle::Line, format!("{count} {}", if count == 1 { one } else { more }), amount);
        }
    }
    let short = total - counted;
    if short.is_zero() {
        tape.amount(TapeStyle::Due, if banked { "To the bank" } else { "On the slip" }, total);
    } else {
        tape.amount(TapeStyle::Sum, "On the slip", total);
        tape.amount(TapeStyle::Line, if short.is_positive() { "counted short" } else { "counted over" }, -short);
        tape.amount(TapeStyle::Due, "To the bank", counted);
    }
    tape.remark(TapeStyle::Detail, format!("dated {}", words(input.date.date)), !input.date.typed);
    tape
}

/// How far a slip is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum SlipState {
    /// It has its number and its paper.
    Prepared,
    /// The bank took it.
    Banked,
    /// A bank statement says so too.
    Cleared,
    /// It was given up: what stood on it is in hand.
    Canceled,
}

/// What is known of a slip that is to be given up.
#[derive(Debug, Clone)]
pub struct CancelSlip<'a> {
    /// Its number.
    pub number: String,
    /// How far it is.
    pub state: SlipState,
    /// The entry of banking it.
    pub entry: Option<(EntryId, Entry)>,
    /// Of what stands on it, what was reversed since: it is not in hand any more.
    pub reversed: Option<String>,
    /// The day.
    pub date: DocumentDate,
    /// Why.
    pub reason: String,
    /// The periods.
    pub periods: &'a Periods,
}

/// What giving a slip up does to the books, or why it cannot be.
///
/// # Errors
/// What stands in the way.
pub fn cancel(input: &CancelSlip<'_>) -> Result<Posting, Vec<Blocker>> {
    let mut findings = Findings::at(Step::Post);
    if let Err(sentence) = check_reason(&input.reason) {
        findings.add(Check::CannotCancel, "reason", sentence);
    }
    let number = &input.number;
    match input.state {
        SlipState::Canceled => findings.add(Check::CannotCancel, "slip", format!("{number} is canceled already.")),
        SlipState::Cleared => {
            let sentence = format!("A bank statement says that {number} arrived. Undo that line first.");
            findings.add(Check::CannotCancel, "slip", sentence);
        }
        SlipState::Prepared | SlipState::Banked => {}
    }
    if let Some(document) = &input.reversed {
        let sentence = format!("{document}, which stands on {number}, was reversed since: it is not in hand any more.");
        findings.add(Check::CannotCancel, "slip", sentence);
    }
    let mut posting = Posting::default();
    if let Some((id, entry)) = &input.entry {
        let date = input.date.date;
        if let Some(obstacle) = input.periods.obstacle(date) {
            findings.add(Check::PeriodClosed, "date", obstacle);
        }
        if date < entry.date {
            let sentence = format!("{number} was banked on {}. Choose that day or a later one.", words(entry.date));
            findings.add(Check::DateTooEarly, "date", sentence);
        }
        posting.take_back(entry.reversed(date, format!("Bank deposit slip {number} canceled")), *id);
    }
    let blockers = findings.finish();
    if crate::checks::stops(&blockers) { Err(blockers) } else { Ok(posting) }
}

/// Why what stands on a slip cannot be taken back yet.
pub fn waits(number: &str, slip: &str) -> String {
    format!("{number} stands on {slip}, which waits to be taken to the bank. Say that it was, or cancel {slip} first.")
}
