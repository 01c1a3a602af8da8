//! Goods that are back and not credited at the end of a period: what will be credited for them is owed to customers already.
//!
//! Entered on the last day and reversed on the first day of the next period, when the credit memos follow.
//! *Source: domain.md section 11; postings.md, Period ends, goods received back, not credited.*
//!
//! ```
//! use till_core::returns::{first_of_next_month, last_month_end};
//! let day = |text: &str| text.parse().unwrap();
//! assert_eq!(first_of_next_month(day("2026-03-31")), day("2026-04-01"));
//! assert_eq!(first_of_next_month(day("2026-12-05")), day("2027-01-01"));
//! assert_eq!(last_month_end(day("2026-03-30")), day("2026-02-28"));
//! assert_eq!(last_month_end(day("2026-03-31")), day("2026-03-31"));
//! ```

use chrono::{Datelike, NaiveDate};

use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, end_of_month, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::fixed::{ExchangeRate, Quantity};
use crate::ids::EntryId;
use crate::invoice::credit::{Credited, share_of};
use crate::money::{Currency, Money};
use crate::posting::Posting;
use crate::tape::{Tape, TapeStyle};

/// A line of a return of which something is back and not settled on a day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BackLine {
    /// Number of the return.
    pub number: String,
    /// The item's code.
    pub code: String,
    /// How much, in the unit it was sold in.
    pub quantity: Quantity,
    /// How much was billed on its line.
    pub billed: Quantity,
    /// The net of that, in the currency of the invoice.
    pub net: Money,
    /// What was credited of that by then, net, in whatever way.
    pub credited: Credited,
    /// That currency.
    pub currency: Currency,
    /// The rate of the invoice.
    pub rate: ExchangeRate,
}

impl BackLine {
    /// What will be credited for it, net, in base currency: its share of what is left of its line, as a credit memo would take it.
    pub fn value(&self, base: Currency) -> Money {
        let part = share_of(self.billed, self.net, self.credited, self.quantity);
        part.to_base(self.rate, self.currency, base)
    }
}

/// Everything needed to decide on it.
#[derive(Debug, Clone)]
pub struct AccrueInput<'a> {
    /// What is back and not credited on the day.
    pub lines: Vec<BackLine>,
    /// The day, the last one of a month.
    pub date: DocumentDate,
    /// Number of the one that was entered last, its day, and the day it is reversed on; none where there is none.
    pub last: Option<(String, NaiveDate, NaiveDate)>,
    /// Base currency.
    pub base: Currency,
    /// Today's date.
    pub dates: DateOrder,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// What is entered, or why it cannot be.
#[derive(Debug, Clone)]
pub struct AccrueDecision {
    /// What is owed for it, net, in base currency.
    pub net: Money,
    /// The day it is reversed on.
    pub reversed_on: NaiveDate,
    /// The entry; none where nothing is owed.
    pub entry: Option<Entry>,
    /// Its reversal.
    pub reversal: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure and date.
    pub fingerprint: String,
}

impl AccrueDecision {
    /// What it writes on the day itself.
    pub fn posting(&self) -> Posting {
        let mut posting = Posting::default();
        posting.enter(self.entry.clone(), None);
        posting
    }

    /// What it writes on the first day of the next period, taking the entry that was written back.
    pub fn taking_back(&self, entry: EntryId) -> Posting {
        let mut posting = Posting::default();
        posting.enter(self.reversal.clone(), Some(entry));
        posting
    }
}

/// The first day of the month after a day.
pub fn first_of_next_month(date: NaiveDate) -> NaiveDate {
    end_of_month(date).succ_opt().unwrap_or(date)
}

/// The last day of the month that ended last: a day itself where it ends one.
pub fn last_month_end(date: NaiveDate) -> NaiveDate {
    if date == end_of_month(date) { date } else { date.with_day(1).and_then(|first| first.pred_opt()).unwrap_or(date) }
}

/// Decides on entering what is back and not credited.
pub fn accrue(input: &AccrueInput<'_>) -> AccrueDecision {
    let mut findings = Findings::at(Step::Post);
    let date = input.date.date;
    let reversed_on = first_of_next_month(date);
    // A day within a month would stand in the way of the last one, and there is no way round it.
    if date != end_of_month(date) {
        let ends = words(end_of_month(date));
        findings.add(
            Check::NotMonthEnd,
            "date",
            format!("{} is not the last day of its month. Enter {ends}.", words(date)),
        );
    }
    for day in [date, reversed_on] {
        if let Some(obstacle) = input.periods.obstacle(day) {
            findings.add(Check::PeriodClosed, "date", obstacle);
            break;
        }
    }
    input.dates.check("entry", date, "date", &mut findings);
    if let Some((number, entered, until)) = input.last.as_ref().filter(|(_, _, until)| date < *until) {
        let sentence =
            format!("{number} of {} stands until {}. Choose that day or a later one.", words(*entered), words(*until));
        findings.add(Check::DateTooEarly, "date", sentence);
    }
    let values: Vec<Money> = input.lines.iter().map(|line| line.value(input.base)).collect();
    let net: Money = values.iter().copied().sum();
    if !net.is_positive() {
        let sentence = format!("Nothing is back and not credited on {}.", words(date));
        findings.add(Check::NothingToDo, "date", sentence);
    }
    let mut builder = EntryBuilder::new(input.accounts, None, input.base);
    builder.add_base(Purpose::Returns, net, LineFor::default());
    builder.add_base(Purpose::RefundLiability, -net, LineFor::default());
    let entry = builder.finish_or_say(date, "Goods received back, not credited".to_owned(), &mut findings);
    let reversal = entry
        .as_ref()
        .map(|entry| entry.reversed(reversed_on, "Goods received back, not credited: reversed".to_owned()));
    let mut tape = Tape::new("Back, not credited", format!("on {}", words(date)), input.base);
    for (line, value) in input.lines.iter().zip(&values) {
        tape.amount(TapeStyle::Line, format!("{} {} × {}", line.number, line.quantity, line.code), *value);
    }
    tape.amount(TapeStyle::Due, "To be credited, net", net);
    tape.remark(TapeStyle::Detail, format!("reversed on {}", words(reversed_on)), false);
    AccrueDecision {
        fingerprint: fingerprint::of(&(date, reversed_on, net, &entry)),
        net,
        reversed_on,
        entry,
        reversal,
        tape,
        blockers: findings.finish(),
    }
}
