//! A step of a return that was entered in error: goods that did not arrive, a disposition that was wrong.

use chrono::NaiveDate;

use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::Entry;
use crate::fingerprint;
use crate::fixed::Quantity;
use crate::ids::EntryId;
use crate::money::Money;
use crate::people::check_reason;
use crate::posting::{GivenBack, InspectionMove, Posting, StockMove};
use crate::room::{Movement, room_from};
use crate::stock::Layer;

/// Everything needed to decide on reversing a step.
#[derive(Debug, Clone)]
pub struct UndoStepInput<'a> {
    /// Number of the return.
    pub number: String,
    /// When the step was.
    pub done_on: NaiveDate,
    /// When it was reversed, where it was.
    pub reversed_on: Option<NaiveDate>,
    /// The entry it wrote; none where it cost nothing.
    pub entry: Option<(EntryId, Entry)>,
    /// What it brought to the inspection place, or to stock: code, how much, and the layer as it is now, asked about for
    /// `date`. All of it has to be there.
    pub brought: Vec<(String, Quantity, Layer)>,
    /// What takes that out again, as it is written.
    pub inspections_out: Vec<InspectionMove>,
    /// The same of stock.
    pub stock_out: Vec<StockMove>,
    /// What it took from the inspection place, to be put back.
    pub taken: Vec<InspectionMove>,
    /// What it took from stock, to be put back.
    pub issued: Vec<StockMove>,
    /// Where it received goods: code, how much, and what came back and was settled with the customer, day by day.
    pub received: Vec<(String, Quantity, Vec<Movement>)>,
    /// Where it received goods that were not billed: they are out again, to be billed.
    pub out_again: Vec<OutAgain>,
    /// Where goods went out with it (a replacement, sending back): they are on the return again.
    pub held_again: Vec<HeldAgain>,
    /// Where goods went back to the supplier with it: code, what was claimed, and what was claimed and answered, day by day.
    pub claimed: Vec<(String, Money, Vec<Movement>)>,
    /// When.
    pub date: DocumentDate,
    /// Why.
    pub reason: String,
    /// Today's date.
    pub dates: DateOrder,
    /// The periods.
    pub periods: &'a Periods,
}

/// Goods that went out with a step, and are on the return again once it is reversed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldAgain {
    /// The item's code.
    pub code: String,
    /// How much, in the unit it was sold in.
    pub quantity: Quantity,
    /// What is free of the billed line now.
    pub free: Quantity,
    /// What the customer has of it, day by day, in ten-thousandths.
    pub with_customer: Vec<Movement>,
}

/// Goods that were not billed, and are out again once their receipt is reversed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutAgain {
    /// The item's code.
    pub code: String,
    /// Number of the order.
    pub order: String,
    /// What the order gave back to be shipped, as it was written.
    pub moved: GivenBack,
    /// What of the order line is to ship and neither shipped again nor picked, in the unit sold.
    pub to_ship: Quantity,
}

/// What reversing a step does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct UndoStepDecision {
    /// The entry: that of the step, turned round.
    pub entry: Option<Entry>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure and date.
    pub fingerprint: String,
}

impl UndoStepDecision {
    /// What it does to the books: everything the step moved goes back to where it was.
    pub fn posting(&self, input: &UndoStepInput<'_>) -> Posting {
        let date = input.date.date;
        let mut posting = Posting::default();
        posting.enter(self.entry.clone(), input.entry.as_ref().map(|(id, _)| *id));
        posting.inspected.extend(input.inspections_out.iter().map(|out| InspectionMove { date, ..*out }));
        posting.inspected.extend(input.taken.iter().map(|taken| InspectionMove {
            date,
            quantity: Quantity::from_scaled(-taken.quantity.scaled()),
            cost: -taken.cost,
            ..*taken
        }));
        posting.stock.extend(input.stock_out.iter().map(|out| StockMove { date, ..*out }));
        posting.stock.extend(input.issued.iter().map(|issued| issued.back(date)));
        posting.given_back.extend(input.out_again.iter().map(|OutAgain { moved, .. }| GivenBack {
            quantity: Quantity::from_scaled(-moved.quantity.scaled()),
            released: -moved.released,
            ..*moved
        }));
        posting
    }
}

/// Decides on reversing a step of a return: only while nothing followed from it.
pub fn undo_step(input: &UndoStepInput<'_>) -> UndoStepDecision {
    let mut findings = Findings::at(Step::Post);
    let date = input.date.date;
    if let Err(sentence) = check_reason(&input.reason) {
        findings.add(Check::CannotCancel, "reason", sentence);
    }
    if let Some(day) = input.reversed_on {
        findings.add(Check::CannotCancel, "step", format!("It was reversed on {} already.", words(day)));
    }
    if date < input.done_on {
        let sentence = format!("It is of {}. Choose that day or a later one.", words(input.done_on));
        findings.add(Check::DateTooEarly, "date", sentence);
    }
    if let Some(obstacle) = input.periods.obstacle(date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("reversal", date, "date", &mut findings);
    if input.reversed_on.is_none() {
        followed(input, &mut findings);
    }
    let text = format!("Step of {} reversed", input.number);
    let entry = input.entry.as_ref().map(|(_, entry)| entry.reversed(date, text));
    UndoStepDecision {
        fingerprint: fingerprint::of(&(&input.number, input.done_on, &entry, input.reversed_on)),
        entry,
        blockers: findings.finish(),
    }
}

/// What followed from the step, and has to be taken back first.
fn followed(input: &UndoStepInput<'_>, findings: &mut Findings) {
    let date = input.date.date;
    for (code, quantity, layer) in &input.brought {
        if layer.remaining < *quantity {
            let sentence = format!("Not all of {code} is still where it was put. Reverse what followed first.");
            findings.add(Check::AlreadyLeft, "step", sentence);
        } else if date >= input.done_on && layer.free(date) < *quantity {
            let sentence = format!("On {} not all of {code} was there. Choose a later day.", words(date));
            findings.add(Check::DateTooEarly, "date", sentence);
        }
    }
    for (code, quantity, settled) in &input.received {
        if room_from(date, settled) < quantity.scaled() {
            let sentence = format!("{code} is credited, replaced or sent back on {}. It stays received.", input.number);
            findings.add(Check::MoreThanReturned, "step", sentence);
        }
    }
    for (code, claim, moves) in &input.claimed {
        if room_from(date, moves) < claim.0 {
            let sentence = format!("The supplier has answered the claim on {code}. Reverse the answer first.");
            findings.add(Check::MoreThanClaimed, "step", sentence);
        }
    }
    for OutAgain { code, order, moved, to_ship } in &input.out_again {
        if moved.quantity > *to_ship {
            let sentence = format!(
                "{code} has been shipped again on {order}, or is on a shipment or canceled. Reverse that first."
            );
            findings.add(Check::AlreadyLeft, "step", sentence);
        }
    }
    for HeldAgain { code, quantity, free, with_customer } in &input.held_again {
        if quantity > free {
            let sentence = format!("{code} has been credited or returned again since. It stays as it is.");
            findings.add(Check::MoreThanReturnable, "step", sentence);
        } else if date >= input.done_on && room_from(date, with_customer) < quantity.scaled() {
            let sentence = format!("{code} had come back again by then. Choose a later day than {}.", words(date));
            findings.add(Check::DateTooEarly, "date", sentence);
        }
    }
}
