//! A goods receipt that was typed in error. *Source: domain.md section 6; postings.md, Goods.*

use chrono::NaiveDate;

use crate::calendar::{Periods, words};
use crate::checks::{Blocker, Check, Findings, Step, stops};
use crate::entry::Entry;
use crate::fixed::Quantity;
use crate::ids::EntryId;
use crate::people::check_reason;
use crate::posting::{MovedWith, Posting, StockMove};
use crate::stock::Layer;

/// A goods receipt to reverse.
#[derive(Debug, Clone)]
pub struct IntakeBackInput<'a> {
    /// Code of the item.
    pub code: String,
    /// How much came in, in stock units.
    pub quantity: Quantity,
    /// When it came in.
    pub came_on: NaiveDate,
    /// Its layer as it is now, asked about for `date`.
    pub layer: Layer,
    /// The entry it wrote; none where it cost nothing, or came with a count or an opening.
    pub entry: Option<(EntryId, Entry)>,
    /// Whether it is a goods receipt at all, not what a count found or an opening brought.
    pub receipt: bool,
    /// Why.
    pub reason: String,
    /// When.
    pub date: NaiveDate,
    /// The periods.
    pub periods: &'a Periods,
}

/// What reversing a goods receipt does to the books: only while nothing of it has left.
///
/// # Errors
/// The blockers.
pub fn decide_intake_back(input: &IntakeBackInput<'_>) -> Result<Posting, Vec<Blocker>> {
    let mut findings = Findings::at(Step::Ship);
    if let Err(sentence) = check_reason(&input.reason) {
        findings.add(Check::AlreadyLeft, "reason", sentence);
    }
    if !input.receipt {
        let sentence = format!("This did not come in with a goods receipt. Count {} instead.", input.code);
        findings.add(Check::AlreadyLeft, "layer", sentence);
    }
    if input.layer.remaining < input.quantity {
        let gone = Quantity::from_scaled(input.quantity.scaled() - input.layer.remaining.scaled());
        let sentence = if input.layer.remaining.is_zero() {
            format!("Nothing of it is left: all {} of {} have left, or it is reversed.", gone, input.code)
        } else {
            format!("{gone} of the {} of {} have left. Count what is there instead.", input.quantity, input.code)
        };
        findings.add(Check::AlreadyLeft, "layer", sentence);
    } else if input.date >= input.came_on && input.layer.free(input.date) < input.quantity {
        let sentence = format!("On {} not all of it was there. Choose a later day.", words(input.date));
        findings.add(Check::DateTooEarly, "date", sentence);
    }
    if input.date < input.came_on {
        let sentence = format!("It came in on {}. It cannot be reversed before.", words(input.came_on));
        findings.add(Check::DateTooEarly, "date", sentence);
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
        let text = format!("{} × {} did not come in", input.quantity, input.code);
        posting.enter(Some(entry.reversed(input.date, text)), Some(*id));
    }
    posting.stock.push(StockMove {
        layer: input.layer.id,
        date: input.date,
        quantity: input.quantity,
        cost: input.layer.remaining_cost,
        with: MovedWith::Intake,
    });
    Ok(posting)
}
