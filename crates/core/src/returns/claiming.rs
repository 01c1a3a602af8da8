//! Claims on suppliers for goods that went back to them: settled, refused, or in part each.
//!
//! What the supplier pays goes to a bank account, what they refuse is a loss; no more than is open of the claim on the day
//! **and on every later one**. *Source: postings.md, Goods: supplier settles a claim, or refuses it.*
//!
//! ```
//! use till_core::money::Money;
//! use till_core::returns::claim_open;
//! use till_core::room::Movement;
//! let day = |text: &str| text.parse().unwrap();
//! // 30.00 were claimed on 2 March; 20.00 of them were paid on the 20th.
//! let moves = [Movement::new(day("2026-03-02"), 3_000), Movement::new(day("2026-03-20"), -2_000)];
//! assert_eq!(claim_open(&moves), Money(1_000));
//! ```

use chrono::NaiveDate;

use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::ids::{ClaimId, EntryId};
use crate::marks::Marks;
use crate::money::{Currency, Money};
use crate::people::check_reason;
use crate::posting::Posting;
use crate::room::{Movement, first_day, room_from};
use crate::settle::{Method, PlaceKind};
use crate::tape::{Change, Figure, Tape, TapeStyle};

/// What is open of a claim once all of its movements are through, in base currency: claimed, less what was answered and
/// not reversed.
pub fn claim_open(moves: &[Movement]) -> Money {
    Money(moves.iter().map(|moved| moved.amount).sum())
}

/// Everything needed to decide on the answer to a claim.
#[derive(Debug, Clone)]
pub struct ClaimInput<'a> {
    /// The claim.
    pub claim: ClaimId,
    /// Number of the return its goods came back on.
    pub number: String,
    /// Code of the item.
    pub code: String,
    /// Class of the item, for the account map; none where it has none.
    pub class: Option<String>,
    /// Own fields and reporting codes of the line it was billed on.
    pub marks: Marks,
    /// What was claimed and what was answered, day by day, in minor units of base currency.
    pub moves: Vec<Movement>,
    /// What the supplier pays, in base currency.
    pub settled: Money,
    /// What the supplier refuses, in base currency.
    pub refused: Money,
    /// The way the money came; none where none was chosen.
    pub method: Option<Method>,
    /// When.
    pub date: DocumentDate,
    /// Base currency.
    pub base: Currency,
    /// Today's date.
    pub dates: DateOrder,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// What the answer to a claim does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct ClaimDecision {
    /// The entry.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure and date.
    pub fingerprint: String,
}

impl ClaimDecision {
    /// What it does to the books: its entry.
    pub fn posting(&self) -> Posting {
        let mut posting = Posting::default();
        posting.enter(self.entry.clone(), None);
        posting
    }
}

/// Decides on the answer to a claim.
pub fn answer_claim(input: &ClaimInput<'_>) -> ClaimDecision {
    let mut findings = Findings::at(Step::Post);
    check(input, &mut findings);
    let mut builder = EntryBuilder::new(input.accounts, None, input.base);
    let what = || LineFor { item_class: input.class.as_deref(), marks: Some(&input.marks), ..LineFor::default() };
    if let Some(method) = &input.method {
        let paid = (input.settled, input.settled);
        builder.add_to(&method.place.account, method.place.kind.purpose(), paid, LineFor::default());
    }
    builder.add_base(Purpose::Scrap, input.refused, what());
    builder.add_base(Purpose::SupplierClaim, -(input.settled + input.refused), what());
    let text = format!("Supplier's answer to the claim on {} of {}", input.code, input.number);
    let entry = builder.finish_or_say(input.date.date, text, &mut findings);
    let open = claim_open(&input.moves);
    let left = open - input.settled - input.refused;
    let figures = (input.claim, input.date.date, open, input.settled, input.refused, &entry);
    ClaimDecision {
        tape: tape(input, open, left),
        changes: vec![Change {
            label: "Open of the claim".to_owned(),
            before: Some(Figure::money(open)),
            after: Figure::money(left),
        }],
        fingerprint: fingerprint::of(&figures),
        blockers: findings.finish(),
        entry,
    }
}

fn check(input: &ClaimInput<'_>, findings: &mut Findings) {
    let date = input.date.date;
    if let Some(obstacle) = input.periods.obstacle(date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("answer", date, "date", findings);
    for (field, amount) in [("settled", input.settled), ("refused", input.refused)] {
        if amount < Money::ZERO {
            findings.add(Check::AmountNotPositive, field, "Not below zero.");
        }
    }
    let answered = input.settled + input.refused;
    if answered.is_zero() {
        findings.add(Check::NothingToDo, "settled", "Enter what the supplier pays, what they refuse, or both.");
    }
    let open = claim_open(&input.moves);
    if answered > open {
        let field = if input.refused.is_positive() { "refused" } else { "settled" };
        let sentence = format!("{} {} of the claim are open.", input.base.grouped(open), input.base);
        findings.add(Check::MoreThanClaimed, field, sentence);
    } else if answered.0 > room_from(date, &input.moves) {
        let when = first_day(answered.0, &input.moves)
            .map_or_else(String::new, |day| format!(" Choose {} or later.", words(day)));
        let sentence = format!("Not all that is open of the claim was open on {}.{when}", words(date));
        findings.add(Check::DateTooEarly, "date", sentence);
    }
    if input.settled.is_positive() {
        let fits = |method: &Method| {
            let place = &method.place;
            place.kind == PlaceKind::Bank && place.currency.is_none_or(|currency| currency == input.base)
        };
        if !input.method.as_ref().is_some_and(fits) {
            let sentence = format!("Choose how it was paid: to a bank account in {}.", input.base);
            findings.add(Check::CurrencyDiffers, "method", sentence);
        }
    }
}

fn tape(input: &ClaimInput<'_>, open: Money, left: Money) -> Tape {
    let mut tape = Tape::new(format!("{}, {}", input.number, input.code), "claim on the supplier", input.base);
    tape.amount(TapeStyle::Line, "open of the claim", open);
    if !input.settled.is_zero() {
        let way = input.method.as_ref().map_or_else(String::new, |method| format!(", {}", method.name));
        tape.amount(TapeStyle::Line, format!("paid{way}"), -input.settled);
    }
    if !input.refused.is_zero() {
        tape.amount(TapeStyle::Line, "refused: a loss", -input.refused);
    }
    tape.amount(TapeStyle::Due, "Left open", left);
    tape.remark(TapeStyle::Detail, format!("dated {}", words(input.date.date)), !input.date.typed);
    tape
}

/// Everything needed to decide on reversing an answer.
#[derive(Debug, Clone)]
pub struct UndoAnswerInput<'a> {
    /// Number of the return.
    pub number: String,
    /// When it was answered.
    pub answered_on: NaiveDate,
    /// When that was reversed, where it was.
    pub reversed_on: Option<NaiveDate>,
    /// Its entry.
    pub entry: (EntryId, Entry),
    /// When.
    pub date: DocumentDate,
    /// Why.
    pub reason: String,
    /// Today's date.
    pub dates: DateOrder,
    /// The periods.
    pub periods: &'a Periods,
}

/// Reverses an answer that was entered in error: the claim is open again.
///
/// # Errors
/// What stands in the way.
pub fn undo_answer(input: &UndoAnswerInput<'_>) -> Result<Posting, Vec<Blocker>> {
    let mut findings = Findings::at(Step::Post);
    let date = input.date.date;
    if let Err(sentence) = check_reason(&input.reason) {
        findings.add(Check::CannotCancel, "reason", sentence);
    }
    if let Some(day) = input.reversed_on {
        findings.add(Check::CannotCancel, "answer", format!("It was reversed on {} already.", words(day)));
    }
    if date < input.answered_on {
        let sentence = format!("It is of {}. Choose that day or a later one.", words(input.answered_on));
        findings.add(Check::DateTooEarly, "date", sentence);
    }
    if let Some(obstacle) = input.periods.obstacle(date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("reversal", date, "date", &mut findings);
    let blockers = findings.finish();
    if crate::checks::stops(&blockers) {
        return Err(blockers);
    }
    let mut posting = Posting::default();
    let text = format!("Supplier's answer reversed, {}", input.number);
    posting.enter(Some(input.entry.1.reversed(date, text)), Some(input.entry.0));
    Ok(posting)
}
