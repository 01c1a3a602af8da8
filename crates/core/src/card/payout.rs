//! Payouts: the processor pays what was captured, less what went back and its fees.
//!
//! A payout is matched line by line with what lies in card clearing: each capture, refund and charge back is in the books
//! with the very amount, and the sums of the report add up. Then one entry moves it to the bank. The fee of a charge back
//! was booked with it; those of captures are booked here. *Source: postings.md, Money.*
//!
//! ```
//! use till_core::card::payout::LineKind;
//! assert_eq!(LineKind::of("charge_back"), Some(LineKind::ChargeBack));
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::fixed::ExchangeRate;
use crate::ids::{CustomerId, DocumentRef};
use crate::money::{Currency, Money};
use crate::posting::Posting;
use crate::settle::{Method, MoneyPlace, PlaceKind};
use crate::tape::{Tape, TapeStyle};

/// What a line of a payout is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum LineKind {
    /// A capture.
    Capture,
    /// Sent back to a card.
    Refund,
    /// Taken back by a card's bank.
    ChargeBack,
}

impl LineKind {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Capture => "capture",
            Self::Refund => "refund",
            Self::ChargeBack => "charge_back",
        }
    }

    /// The kind with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::Capture, Self::Refund, Self::ChargeBack].into_iter().find(|kind| kind.word() == word)
    }
}

/// A line of the processor's report.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReportLine {
    /// What it is about.
    pub kind: LineKind,
    /// As the processor names it.
    pub reference: String,
    /// How much; below zero where it was taken off.
    pub gross: Money,
    /// What the processor keeps of it.
    pub fee: Money,
}

/// What the processor reports of a payout.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Report {
    /// As the processor names it.
    pub reference: String,
    /// Its currency.
    pub currency: Currency,
    /// The day of the payment.
    pub on: NaiveDate,
    /// All that was captured less what was taken off.
    pub gross: Money,
    /// All fees.
    pub fee: Money,
    /// What was paid.
    pub net: Money,
    /// One by one.
    pub lines: Vec<ReportLine>,
}

/// What a line of a payout moved in the books.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Booked {
    /// The receipt, the deposit, the refund or charge back.
    pub document: DocumentRef,
    /// Whose.
    pub customer: CustomerId,
    /// What it moved card clearing by, in the currency of the payout; below zero where it left.
    pub amount: Money,
    /// The same, as carried in base currency.
    pub base: Money,
    /// The payout it went with already.
    pub paid_with: Option<String>,
}

/// A line of a payout, with what is in the books of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// What it is about.
    pub kind: LineKind,
    /// As the processor names it.
    pub reference: String,
    /// How much; below zero where it was taken off.
    pub gross: Money,
    /// What the processor keeps of it.
    pub fee: Money,
    /// What is in the books of it; none where nothing is.
    pub booked: Option<Booked>,
}

impl Line {
    /// What it should have moved card clearing by: a charge back took its fee with it.
    pub fn cleared(&self) -> Money {
        if self.kind == LineKind::ChargeBack { self.gross - self.fee } else { self.gross }
    }

    /// Its fee, where that is booked with the payout.
    fn fee_now(&self) -> Money {
        if self.kind == LineKind::ChargeBack { Money::ZERO } else { self.fee }
    }

    /// Why it cannot be matched; none where it is.
    pub fn unmatched(&self, currency: Currency) -> Option<String> {
        let reference = &self.reference;
        match &self.booked {
            None => Some(format!(
                "{reference} of {} is not in the books. Book what was captured and charged back first.",
                currency.grouped(self.gross)
            )),
            Some(booked) if booked.paid_with.is_some() => {
                Some(format!("{reference} went with {} already.", booked.paid_with.as_deref().unwrap_or_default()))
            }
            Some(booked) if booked.amount != self.cleared() => Some(format!(
                "{reference} comes to {} here, {} moved by {}.",
                currency.grouped(self.cleared()),
                booked.document.number,
                currency.grouped(booked.amount)
            )),
            Some(_) => None,
        }
    }
}

/// Everything needed to decide on a payout.
#[derive(Debug, Clone)]
pub struct PayoutInput<'a> {
    /// As the processor names it.
    pub reference: String,
    /// Its currency.
    pub currency: Currency,
    /// As the report says: all that was captured less what was taken off.
    pub gross: Money,
    /// As the report says: all fees.
    pub fee: Money,
    /// As the report says: what was paid.
    pub net: Money,
    /// The day of the payment, as the processor says it.
    pub paid_on: NaiveDate,
    /// One by one.
    pub lines: Vec<Line>,
    /// Where the money came to.
    pub to: Method,
    /// Card clearing.
    pub clearing: MoneyPlace,
    /// When it is booked.
    pub date: DocumentDate,
    /// The last day on which one of its lines was booked.
    pub last_moved: Option<NaiveDate>,
    /// Whether it was booked already.
    pub booked: bool,
    /// Base per unit of its currency on the day; none where none is known.
    pub rate: Option<ExchangeRate>,
    /// Base currency.
    pub base: Currency,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// What booking a payout does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct PayoutDecision {
    /// What it takes from card clearing, as carried in base currency.
    pub cleared_base: Money,
    /// What comes to the bank, in base currency.
    pub net_base: Money,
    /// The entry.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Mark of what was seen.
    pub fingerprint: String,
}

impl PayoutDecision {
    /// What it does to the books.
    pub fn posting(&self) -> Posting {
        let mut posting = Posting::default();
        posting.enter(self.entry.clone(), None);
        posting
    }
}

/// Decides on booking a payout.
pub fn decide(input: &PayoutInput<'_>) -> PayoutDecision {
    let mut findings = Findings::at(Step::Post);
    check(input, &mut findings);
    let rate = input.rate.unwrap_or(ExchangeRate::ONE);
    let to_base = |amount: Money| amount.to_base(rate, input.currency, input.base);
    let fee: Money = input.lines.iter().map(Line::fee_now).sum();
    let (net_base, fee_base) = (to_base(input.net), to_base(fee));
    let booked = || input.lines.iter().filter_map(|line| line.booked.as_ref());
    let cleared_base: Money = booked().map(|booked| booked.base).sum();
    let mut builder = EntryBuilder::new(input.accounts, None, input.currency);
    builder.add_to(&input.to.place.account, input.to.place.kind.purpose(), (input.net, net_base), LineFor::default());
    builder.add(Purpose::Fees, fee, fee_base, LineFor::default());
    for booked in booked() {
        let what = LineFor { customer: Some(booked.customer), ..LineFor::default() };
        let amounts = (-booked.amount, -booked.base);
        builder.add_to(&input.clearing.account, input.clearing.kind.purpose(), amounts, what);
    }
    builder.add_difference(cleared_base - net_base - fee_base, input.base);
    let entry = builder.finish_or_say(input.date.date, format!("Card payout {}", input.reference), &mut findings);
    PayoutDecision {
        fingerprint: fingerprint::of(&(&input.reference, input.date.date, &entry)),
        tape: tape(input),
        cleared_base,
        net_base,
        entry,
        blockers: findings.finish(),
    }
}

fn check(input: &PayoutInput<'_>, findings: &mut Findings) {
    if input.booked {
        findings.add(Check::CannotCancel, "payout", format!("{} is booked already.", input.reference));
        return;
    }
    if let Some(obstacle) = input.periods.obstacle(input.date.date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    if let Some(last) = input.last_moved.filter(|last| input.date.date < *last) {
        let sentence = format!("What it pays was last moved on {}. Choose that day or a later one.", words(last));
        findings.add(Check::DateTooEarly, "date", sentence);
    }
    if input.rate.is_none() {
        let sentence = "No exchange rate is known for this date. Ask a supervisor to enter it.";
        findings.add(Check::ExchangeRateMissing, "date", sentence);
    }
    let place = &input.to.place;
    if place.kind != PlaceKind::Bank {
        findings.add(Check::CurrencyDiffers, "method", "A payout comes to a bank account. Choose one.");
    } else if let Some(kept_in) = place.currency.filter(|kept_in| *kept_in != input.currency) {
        let sentence = format!("{} is kept in {kept_in}, the payout is in {}.", place.name, input.currency);
        findings.add(Check::CurrencyDiffers, "method", sentence);
    }
    for (position, line) in input.lines.iter().enumerate() {
        if let Some(sentence) = line.unmatched(input.currency) {
            findings.add(Check::PayoutUnmatched, format!("lines.{position}"), sentence);
        }
    }
    let sums =
        input.lines.iter().fold((Money::ZERO, Money::ZERO), |sums, line| (sums.0 + line.gross, sums.1 + line.fee));
    if sums != (input.gross, input.fee) || input.gross - input.fee != input.net {
        let format = |amount: Money| input.currency.grouped(amount);
        let sentence = format!(
            "The report does not add up: its lines come to {} less {} of fees, it says {} less {} and {} paid. Ask the processor.",
            format(sums.0),
            format(sums.1),
            format(input.gross),
            format(input.fee),
            format(input.net)
        );
        findings.add(Check::PayoutUnmatched, "lines", sentence);
    }
}

fn tape(input: &PayoutInput<'_>) -> Tape {
    let heading = format!("card payout of {}", words(input.paid_on));
    let mut tape = Tape::new(input.reference.clone(), heading, input.currency);
    let kinds = [
        (LineKind::Capture, "Captured"),
        (LineKind::Refund, "Sent back to cards"),
        (LineKind::ChargeBack, "Charged back"),
    ];
    for (kind, label) in kinds {
        let of_kind: Vec<&Line> = input.lines.iter().filter(|line| line.kind == kind).collect();
        if !of_kind.is_empty() {
            let label = format!("{label}, {}", of_kind.len());
            tape.amount(TapeStyle::Line, label, of_kind.iter().map(|line| line.gross).sum());
        }
    }
    tape.amount(TapeStyle::Line, "Fees of the processor", -input.fee);
    tape.amount(TapeStyle::Due, format!("Paid to {}", input.to.place.name), input.net);
    tape.remark(TapeStyle::Detail, format!("dated {}", words(input.date.date)), !input.date.typed);
    tape
}
