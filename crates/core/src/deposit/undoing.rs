//! Taking back the end of a deposit: a refund that was never sent, or a part kept as income in error.
//!
//! The entry is turned round as it stands, what was carried and its tax are held again, and an item of the other side
//! closes what stood against the deposit. *Source: domain.md section 11 (an error is corrected by turning the entry round,
//! never by changing it) and section 3; postings.md, Money.*
//!
//! ```
//! use till_core::deposit::undoing::words_of;
//! use till_core::deposit::ending::EndKind;
//! assert_eq!(words_of(EndKind::Refunded), "refund");
//! ```

use crate::accounts::Purpose;
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::deposit::ending::EndKind;
use crate::entry::Entry;
use crate::fingerprint;
use crate::ids::EntryId;
use crate::open_items::Side;
use crate::people::check_reason;
use crate::posting::{NewApplication, NewItem, Posting, Which};
use crate::settle::BesideBooked;
use crate::settle::back::{Standing, taken_back};
use crate::tape::{Change, Figure, Tape, TapeStyle};

/// Everything needed to decide on taking back the end of a deposit.
#[derive(Debug, Clone)]
pub struct UndoInput<'a> {
    /// What the end stands with: it against the deposit. None where it was taken back already.
    pub standing: Option<Standing>,
    /// Its number.
    pub number: String,
    /// Which end.
    pub kind: EndKind,
    /// The entry it wrote.
    pub entry: (EntryId, Entry),
    /// The customer's name.
    pub customer_name: String,
    /// When.
    pub date: DocumentDate,
    /// Why.
    pub reason: String,
    /// Today's date.
    pub dates: DateOrder,
    /// The periods.
    pub periods: &'a Periods,
}

/// What taking back the end of a deposit does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct UndoDecision {
    /// The entry: that of the end, turned round.
    pub entry: Entry,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Mark of what was seen.
    pub fingerprint: String,
}

/// What an end is called in a sentence.
pub const fn words_of(kind: EndKind) -> &'static str {
    match kind {
        EndKind::Refunded => "refund",
        EndKind::Kept => "keeping",
    }
}

/// Decides on taking back the end of a deposit.
pub fn decide(input: &UndoInput<'_>) -> UndoDecision {
    let mut findings = Findings::at(Step::Post);
    check(input, &mut findings);
    let text = format!("{} of {} reversed", input.number, input.customer_name);
    let entry = input.entry.1.reversed(input.date.date, text);
    let mut tape =
        Tape::new(input.customer_name.clone(), format!("reversal of {}", input.number), input.entry.1.currency);
    let mut changes = Vec::new();
    if let Some(standing) = &input.standing {
        let (amount, deposit) = (standing.used.0, &standing.credit);
        let currency = deposit.currency;
        tape.amount(TapeStyle::Line, format!("{} of {}", words_of(input.kind), deposit.document.number), amount);
        for held in &standing.taxes {
            tape.part(TapeStyle::Line, format!("Tax {}% in it", held.rate.rate.percent()), held.net, held.tax);
        }
        let held_again = deposit.purpose == Purpose::DepositLiability;
        tape.amount(TapeStyle::Due, if held_again { "Held again" } else { "Unapplied again" }, amount);
        tape.remark(TapeStyle::Detail, format!("dated {}", words(input.date.date)), !input.date.typed);
        let held = |open| Figure::words(format!("{} {currency}", currency.grouped(open)));
        changes.push(Change {
            label: format!("{} of {}", if held_again { "Held" } else { "Unapplied" }, deposit.document.number),
            before: Some(held(deposit.open)),
            after: held(deposit.open + amount),
        });
    }
    UndoDecision {
        fingerprint: fingerprint::of(&(&input.number, input.standing.as_ref().map(|standing| standing.id), &entry)),
        entry,
        tape,
        changes,
        blockers: findings.finish(),
    }
}

impl UndoDecision {
    /// What it does to the books: the deposit is open again, and what stood against it is closed by an item of the other
    /// side.
    pub fn posting(&self, input: &UndoInput<'_>) -> Posting {
        let mut posting = Posting::default();
        let entry = posting.enter(Some(self.entry.clone()), Some(input.entry.0));
        let Some(standing) = &input.standing else { return posting };
        let (end, date) = (&standing.debit, input.date.date);
        posting.applications = taken_back(std::slice::from_ref(standing), &posting.entries, date);
        let account = end.account.as_ref().map(|account| account.number.as_str());
        let whose = (end.customer, end.purpose, Side::OwedByUs);
        let mut against = NewItem::due_at_once(whose, account, end.currency, standing.settled, date);
        against.taxes = standing.taxes.clone();
        let credit = posting.make(against);
        posting.applications.push(NewApplication {
            date,
            debit: Which::Known(end.id),
            credit,
            debit_amount: standing.settled,
            credit_amount: standing.settled,
            beside: BesideBooked::default(),
            taxes: standing.taxes.clone(),
            reverses: None,
            entry,
        });
        posting
    }
}

fn check(input: &UndoInput<'_>, findings: &mut Findings) {
    let date = input.date.date;
    if let Err(sentence) = check_reason(&input.reason) {
        findings.add(Check::CannotCancel, "reason", sentence);
    }
    if let Some(obstacle) = input.periods.obstacle(date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("reversal", date, "date", findings);
    let Some(standing) = &input.standing else {
        findings.add(Check::CannotCancel, "end", format!("{} is reversed already.", input.number));
        return;
    };
    if date < standing.date {
        let sentence = format!("{} is of {}. Choose that day or a later one.", input.number, words(standing.date));
        findings.add(Check::DateTooEarly, "date", sentence);
    }
}
