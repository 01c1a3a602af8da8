//! Goods in for repair: they stay the customer's, and stand in the list of the place, not in the ledger.
//!
//! What the repair is charged, and the parts it used, are billed like anything else. What is credited after all is
//! received from there, at the cost it left with. *Source: domain.md section 9; postings.md, No entry.*

use chrono::NaiveDate;

use super::receiving::{Arriving, check_arriving};
use super::{ArrivingLine, LineToReceive};
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::fingerprint;
use crate::fixed::Quantity;
use crate::room::{Movement, first_day, room_from};

/// Which way goods go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Repair {
    /// They come in.
    In,
    /// They go back, repaired or not.
    Out,
}

/// Everything needed to decide on goods that come in for repair, or go back.
#[derive(Debug, Clone)]
pub struct RepairInput<'a> {
    /// Number of the return.
    pub number: String,
    /// Which way.
    pub way: Repair,
    /// Its lines.
    pub lines: Vec<ArrivingLine>,
    /// What of each line is in for repair, day by day, in ten-thousandths of the unit it was sold in.
    pub in_repair: Vec<Vec<Movement>>,
    /// How much of which line.
    pub moved: Vec<LineToReceive>,
    /// When.
    pub date: DocumentDate,
    /// The last day it may arrive on.
    pub expires_on: NaiveDate,
    /// When it was given up, where it was.
    pub closed_on: Option<NaiveDate>,
    /// Today's date.
    pub dates: DateOrder,
    /// The periods.
    pub periods: &'a Periods,
}

/// What is moved, or why it cannot be.
#[derive(Debug, Clone)]
pub struct RepairDecision {
    /// The line, by its place, with how much of it, in the unit it was sold in and in stock units.
    pub lines: Vec<(usize, Quantity, Quantity)>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure and date.
    pub fingerprint: String,
}

/// Decides on goods that come in for repair, or go back.
pub fn repair(input: &RepairInput<'_>) -> RepairDecision {
    let mut findings = Findings::at(Step::Post);
    let arriving = Arriving {
        number: &input.number,
        lines: &input.lines,
        arrived: &input.moved,
        date: input.date.date,
        expires_on: input.expires_on,
        closed_on: input.closed_on,
        dates: &input.dates,
        periods: input.periods,
    };
    let lines: Vec<(usize, Quantity, Quantity)> = match input.way {
        Repair::In => {
            arriving.check(&mut findings);
            (0..input.moved.len()).filter_map(|at| check_arriving(&arriving, at, &mut findings)).collect()
        }
        Repair::Out => {
            if let Some(obstacle) = input.periods.obstacle(input.date.date) {
                findings.add(Check::PeriodClosed, "date", obstacle);
            }
            input.dates.check("dispatch", input.date.date, "date", &mut findings);
            if input.moved.is_empty() {
                findings.add(Check::NothingToDo, "lines", "Say how much of which line goes back.");
            }
            let from =
                InRepair { lines: &input.lines, there: &input.in_repair, moved: &input.moved, date: input.date.date };
            (0..input.moved.len()).filter_map(|at| from.leaves(at, &mut findings)).collect()
        }
    };
    let amounts: Vec<_> = lines.iter().map(|(line, quantity, _)| (line, quantity.scaled())).collect();
    let before: Vec<_> = input.lines.iter().map(|line| (line.progress, line.on_returns.scaled())).collect();
    let way = input.way == Repair::In;
    RepairDecision {
        fingerprint: fingerprint::of(&(&input.number, way, input.date.date, &amounts, &before)),
        blockers: findings.finish(),
        lines,
    }
}

/// What is in for repair and leaves it: back to the customer, or received after all.
pub(super) struct InRepair<'a> {
    pub(super) lines: &'a [ArrivingLine],
    /// What of each line is in for repair, day by day.
    pub(super) there: &'a [Vec<Movement>],
    pub(super) moved: &'a [LineToReceive],
    pub(super) date: NaiveDate,
}

impl InRepair<'_> {
    /// A line that leaves it: its place, how much, and the same in stock units. None where it cannot be, which is noted.
    pub(super) fn leaves(&self, at: usize, findings: &mut Findings) -> Option<(usize, Quantity, Quantity)> {
        let wish = self.moved.get(at)?;
        let field = format!("lines.{at}.quantity");
        let Some((line, there)) = self.lines.get(wish.line).zip(self.there.get(wish.line)) else {
            findings.add(Check::MoreThanReturned, format!("lines.{at}"), "The return has no such line.");
            return None;
        };
        if self.moved[..at].iter().any(|other| other.line == wish.line) {
            let sentence = format!("{} is named twice. Put it together.", line.code);
            findings.add(Check::NamedTwice, format!("lines.{at}"), sentence);
            return None;
        }
        let date = self.date;
        if !wish.quantity.is_positive() {
            findings.add(Check::QuantityNotPositive, field, "More than zero.");
            return None;
        }
        let in_repair = line.progress.in_repair();
        if wish.quantity > in_repair {
            let sentence = format!("{in_repair} {} of {} are in for repair.", line.unit, line.code);
            findings.add(Check::MoreThanReturned, field, sentence);
            return None;
        }
        if room_from(date, there) < wish.quantity.scaled() {
            let when = first_day(wish.quantity.scaled(), there)
                .map_or_else(String::new, |day| format!(" Choose {} or later.", words(day)));
            let sentence = format!("On {} not so much of {} was in for repair.{when}", words(date), line.code);
            findings.add(Check::DateTooEarly, "date", sentence);
        }
        let stock = crate::units::in_stock_units(wish.quantity, line.factor).unwrap_or(wish.quantity);
        Some((wish.line, wish.quantity, stock))
    }
}
