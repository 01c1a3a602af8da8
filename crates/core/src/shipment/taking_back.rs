//! Taking a posted shipment back. *Source: domain.md section 6; postings.md, Goods.*

use chrono::NaiveDate;

use crate::calendar::{Periods, words};
use crate::checks::{Blocker, Check, Findings, Step, stops};
use crate::entry::Entry;
use crate::fixed::Quantity;
use crate::ids::EntryId;
use crate::posting::{Posting, StockMove};
use crate::room::{Movement, first_day, room_from};

/// A line of a shipment that is to be taken back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LineToTakeBack {
    /// The item's code.
    pub code: String,
    /// What left.
    pub quantity: Quantity,
    /// What of it is billed.
    pub billed: Quantity,
    /// What of it stands on drafts.
    pub drafted: Quantity,
    /// Numbers of the returns on which something of it came back, or is to.
    pub on_returns: Vec<String>,
    /// What left, what was billed of it and what cancelling gave back, day by day, in ten-thousandths.
    pub movements: Vec<Movement>,
}

/// A posted shipment that is to be taken back.
#[derive(Debug, Clone)]
pub struct TakeBackInput<'a> {
    /// Its number.
    pub number: String,
    /// When it was posted.
    pub posted_on: NaiveDate,
    /// When it is taken back.
    pub date: NaiveDate,
    /// Its lines.
    pub lines: Vec<LineToTakeBack>,
    /// The entry it wrote.
    pub entry: Option<(EntryId, Entry)>,
    /// What left which layer with it.
    pub left: Vec<StockMove>,
    /// The periods.
    pub periods: &'a Periods,
}

/// Decides on taking a posted shipment back: a reversal, only while nothing of it is billed. Its goods go
/// back into the very layers they left.
///
/// # Errors
/// The blockers.
pub fn decide_take_back(input: &TakeBackInput<'_>) -> Result<Posting, Vec<Blocker>> {
    let mut findings = Findings::at(Step::Ship);
    for (position, LineToTakeBack { code, quantity, billed, drafted, on_returns, movements }) in
        input.lines.iter().enumerate()
    {
        let what = if billed.is_positive() {
            format!("{billed} of {code} are billed. Cancel that invoice first.")
        } else if drafted.is_positive() {
            format!("{drafted} of {code} stand on a draft. Take them off it first.")
        } else if let Some(number) = on_returns.first() {
            format!("{code} comes back on {number}. Reverse what arrived and close it first.")
        } else {
            if room_from(input.date, movements) < quantity.scaled() && input.date >= input.posted_on {
                let day = first_day(quantity.scaled(), movements).map_or_else(String::new, words);
                findings.add(
                    Check::DateTooEarly,
                    "date",
                    format!(
                        "{code} was billed until {day}. It cannot be reversed before; choose that day or a later one."
                    ),
                );
            }
            continue;
        };
        findings.add(Check::AlreadyBilled, format!("lines.{position}"), what);
    }
    if input.date < input.posted_on {
        findings.add(
            Check::DateTooEarly,
            "date",
            format!("It left on {}. It cannot be reversed before.", words(input.posted_on)),
        );
    }
    if let Some(obstacle) = input.periods.obstacle(input.date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    let blockers = findings.finish();
    if stops(&blockers) {
        return Err(blockers);
    }
    let mut posting = Posting::default();
    if let Some((id, entry)) = &input.entry {
        let text = format!("Shipment {} reversed", input.number);
        posting.enter(Some(entry.reversed(input.date, text)), Some(*id));
    }
    posting.stock.extend(input.left.iter().map(|left| left.back(input.date)));
    Ok(posting)
}
