//! Goods of a return arrive: at the inspection place, at the cost they left with.

use std::collections::BTreeMap;

use chrono::NaiveDate;

use super::repairing::InRepair;
use super::{GoodsMoved, Lot, Origin, Progress, free, is_live, lots_out, take_back};
use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::fixed::Quantity;
use crate::ids::{ItemId, ReturnLineId, ReturnStepId, ShipmentLineId};
use crate::invoice::CustomerFacts;
use crate::marks::Marks;
use crate::money::{Currency, Money};
use crate::posting::{GivenBack, NewInspection, Posting};
use crate::room::{Movement, first_day, room_from};
use crate::tape::{Change, Figure, Tape, TapeStyle};
use crate::units::in_stock_units;

/// What goods cost that arrive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ArrivalCost {
    /// What they left with, last left first.
    AsTheyLeft,
    /// They are not billed, and their cost waits for that: of so much, in the unit sold, so much in base currency.
    Waiting(Quantity, Money),
    /// No document is known: so many stock units cost so much, as someone said.
    Said(Quantity, Money),
    /// No document is known: as the newest goods of the item, so many stock units for so much; none where there never were any.
    Newest(Option<(Quantity, Money)>),
}

/// A line of a return, with what is known of the goods that left.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ArrivingLine {
    /// Its id.
    pub id: ReturnLineId,
    /// Where its goods are known from.
    pub origin: Origin,
    /// What they cost.
    pub cost: ArrivalCost,
    /// The item.
    pub item: ItemId,
    /// Its code.
    pub code: String,
    /// The unit it was sold in.
    pub unit: String,
    /// How many stock units that is.
    pub factor: Quantity,
    /// The class of the item, for the account map.
    pub class: Option<String>,
    /// Own fields and reporting codes of the line it was billed on.
    pub marks: Marks,
    /// How far it is.
    pub progress: Progress,
    /// How much the line it points at billed, or has to bill; what was authorized where no document is known.
    pub billed: Quantity,
    /// What was credited of that, by all credit memos.
    pub credited: Quantity,
    /// What all returns hold of it, this one too.
    pub on_returns: Quantity,
    /// From this day on it can be back: it has left, and is billed where it was returned as that.
    pub left_on: NaiveDate,
    /// What the customer has of what was billed, day by day, in ten-thousandths: less what came back, and what went out
    /// again.
    pub with_customer: Vec<Movement>,
    /// The line of the shipment it left with, which other billed lines may share; none where it left with its invoice.
    pub shipment_line: Option<ShipmentLineId>,
    /// What left with that and came back, over all returns, in its order; nothing where it left a place whose stock is not
    /// kept here.
    pub moved: Vec<GoodsMoved>,
}

impl ArrivingLine {
    /// How much can arrive at most: what is expected, and what else is free of the line it points at. More may come
    /// than was announced; of what is not billed no more than still is not.
    pub fn most(&self, live: bool) -> Quantity {
        let free = free(self.billed, self.credited, self.on_returns);
        let there = self.billed.scaled() - self.credited.scaled();
        Quantity::from_scaled((free.scaled() + self.progress.expected(live).scaled()).min(there))
    }
}

/// How much of a line arrived.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LineToReceive {
    /// The line, by its place among the lines of the return.
    pub line: usize,
    /// How much, in the unit it was sold in.
    pub quantity: Quantity,
}

/// Everything needed to decide on receiving.
#[derive(Debug, Clone)]
pub struct ReceiveInput<'a> {
    /// Number of the return.
    pub number: String,
    /// Whose.
    pub customer: CustomerFacts,
    /// Where the goods are.
    pub warehouse: String,
    /// Its lines.
    pub lines: Vec<ArrivingLine>,
    /// What arrived.
    pub arrived: Vec<LineToReceive>,
    /// Where it was here already, in for repair: what of each line is, day by day, in ten-thousandths. None where it arrives.
    pub in_repair: Option<Vec<Vec<Movement>>>,
    /// When.
    pub date: DocumentDate,
    /// The last day it may arrive on.
    pub expires_on: NaiveDate,
    /// When it was given up, where it was.
    pub closed_on: Option<NaiveDate>,
    /// Base currency.
    pub base: Currency,
    /// Today's date.
    pub dates: DateOrder,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// Goods of a line that arrived.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LineReceived {
    /// The line, by its place.
    pub line: usize,
    /// How much, in the unit it was sold in.
    pub quantity: Quantity,
    /// The same in stock units.
    pub stock: Quantity,
    /// Its cost, in base currency.
    pub cost: Money,
    /// What of the cost of goods that are not billed waited for that, and waits no longer, in base currency.
    pub released: Money,
}

/// What receiving does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct ReceiveDecision {
    /// What arrived, with its cost.
    pub lines: Vec<LineReceived>,
    /// The entry; none where it cost nothing.
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

impl ReceiveDecision {
    /// What it does to the books: goods in the inspection place.
    pub fn posting(&self, input: &ReceiveInput<'_>, step: ReturnStepId) -> Posting {
        let mut posting = Posting::default();
        posting.enter(self.entry.clone(), None);
        posting.inspection.extend(self.lines.iter().filter_map(|arrived| {
            let line = input.lines.get(arrived.line)?;
            Some(NewInspection {
                step,
                line: line.id,
                item: line.item,
                warehouse: input.warehouse.clone(),
                date: input.date.date,
                quantity: arrived.stock,
                cost: arrived.cost,
            })
        }));
        posting.given_back.extend(self.lines.iter().filter_map(
            |arrived| match input.lines.get(arrived.line)?.origin {
                Origin::Shipped(shipment_line) => {
                    Some(GivenBack { shipment_line, quantity: arrived.quantity, released: arrived.released })
                }
                Origin::Billed(_) | Origin::Unknown(_) => None,
            },
        ));
        posting
    }
}

/// Decides on receiving goods of a return.
pub fn receive(input: &ReceiveInput<'_>) -> ReceiveDecision {
    let mut findings = Findings::at(Step::Post);
    let date = input.date.date;
    let what = Arriving {
        number: &input.number,
        lines: &input.lines,
        arrived: &input.arrived,
        date,
        expires_on: input.expires_on,
        closed_on: input.closed_on,
        dates: &input.dates,
        periods: input.periods,
    };
    match &input.in_repair {
        None => what.check(&mut findings),
        Some(_) => check_kept(input, &mut findings),
    }
    let mut out = BTreeMap::new();
    let lines: Vec<LineReceived> =
        (0..input.arrived.len()).filter_map(|at| arriving(input, &what, (at, &mut out), &mut findings)).collect();
    let mut builder = EntryBuilder::new(input.accounts, input.customer.class.as_deref(), input.base);
    for arrived in &lines {
        let line = &input.lines[arrived.line];
        let what = || LineFor { item_class: line.class.as_deref(), marks: Some(&line.marks), ..LineFor::default() };
        builder.add_base(Purpose::Inspection, arrived.cost, what());
        builder.add_base(Purpose::ShippedCost, -arrived.released, what());
        builder.add_base(Purpose::Cogs, arrived.released - arrived.cost, what());
    }
    let entry = builder.finish_or_say(date, format!("Goods returned, {}", input.number), &mut findings);
    let amounts: Vec<_> =
        lines.iter().map(|line| (line.line, line.quantity.scaled(), line.cost, line.released)).collect();
    let before: Vec<_> =
        input.lines.iter().map(|line| (line.progress, &line.moved, line.on_returns.scaled())).collect();
    ReceiveDecision {
        tape: tape(input, &lines),
        changes: changes(input, &lines),
        fingerprint: fingerprint::of(&(&input.number, date, &amounts, &before, &entry)),
        blockers: findings.finish(),
        lines,
        entry,
    }
}

/// What arrives, whatever becomes of it: received, or in for repair.
pub(super) struct Arriving<'a> {
    pub(super) number: &'a str,
    pub(super) lines: &'a [ArrivingLine],
    pub(super) arrived: &'a [LineToReceive],
    pub(super) date: NaiveDate,
    pub(super) expires_on: NaiveDate,
    pub(super) closed_on: Option<NaiveDate>,
    pub(super) dates: &'a DateOrder,
    pub(super) periods: &'a Periods,
}

impl Arriving<'_> {
    /// Notes why nothing can arrive on that day.
    pub(super) fn check(&self, findings: &mut Findings) {
        let (number, date) = (self.number, self.date);
        if let Some(day) = self.closed_on {
            let sentence = format!("{number} was closed on {}. Authorize a new return.", words(day));
            findings.add(Check::ReturnOver, "date", sentence);
        } else if date > self.expires_on {
            let until = words(self.expires_on);
            let sentence = format!("{number} could arrive until {until}. Extend it, or send the goods back.");
            findings.add(Check::ReturnOver, "date", sentence);
        }
        if let Some(obstacle) = self.periods.obstacle(date) {
            findings.add(Check::PeriodClosed, "date", obstacle);
        }
        self.dates.check("receipt of goods", date, "date", findings);
        if self.arrived.is_empty() {
            findings.add(Check::NothingToDo, "lines", "Nothing arrived. Say how much of which line.");
        }
    }
}

/// What is received from the repair is here: only the day and the quantity can be wrong.
fn check_kept(input: &ReceiveInput<'_>, findings: &mut Findings) {
    if let Some(obstacle) = input.periods.obstacle(input.date.date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("receipt of goods", input.date.date, "date", findings);
    if input.arrived.is_empty() {
        findings.add(Check::NothingToDo, "lines", "Say how much of which line is kept.");
    }
}

/// What the customer has of the goods that left together, by the line they left with.
type Out = BTreeMap<Result<ShipmentLineId, ReturnLineId>, Vec<Lot>>;

fn arriving(
    input: &ReceiveInput<'_>,
    arriving: &Arriving<'_>,
    (at, out): (usize, &mut Out),
    findings: &mut Findings,
) -> Option<LineReceived> {
    let (place, quantity, stock) = match &input.in_repair {
        None => check_arriving(arriving, at, findings)?,
        Some(there) => InRepair { lines: &input.lines, there, moved: &input.arrived, date: input.date.date }
            .leaves(at, findings)?,
    };
    let line = input.lines.get(place)?;
    // Lines that were billed on several invoices may have left together: what one takes the other does not.
    let goods = out.entry(line.shipment_line.ok_or(line.id)).or_insert_with(|| lots_out(&line.moved));
    let as_it_left = take_back(goods, stock);
    let (cost, released) = match line.cost {
        ArrivalCost::AsTheyLeft => (as_it_left, Money::ZERO),
        // Never more than is out at all: what was billed may have come back with the dearer of the goods.
        ArrivalCost::Waiting(of, waiting) => {
            let released = waiting.share(quantity.scaled().min(of.scaled()), of.scaled().max(1));
            let out: Money = as_it_left + goods.iter().map(Lot::cost).sum::<Money>();
            (released.min(out), released)
        }
        ArrivalCost::Said(of, cost) | ArrivalCost::Newest(Some((of, cost))) => {
            (cost.share(stock.scaled(), of.scaled().max(1)), Money::ZERO)
        }
        ArrivalCost::Newest(None) => (Money::ZERO, Money::ZERO),
    };
    let sentence = match line.cost {
        ArrivalCost::AsTheyLeft | ArrivalCost::Waiting(..) if line.moved.is_empty() => {
            Some(format!("{} left a place whose stock is not kept here: it comes back at no cost.", line.code))
        }
        ArrivalCost::Newest(None) => Some(format!("What {} costs is not known: it comes back at no cost.", line.code)),
        _ => None,
    };
    if let Some(sentence) = sentence {
        findings.add(Check::NoCostKnown, format!("lines.{at}.quantity"), sentence);
    }
    Some(LineReceived { line: place, quantity, stock, cost, released })
}

/// A line that arrives: its place, how much, and the same in stock units. None where it cannot be, which is noted.
pub(super) fn check_arriving(
    input: &Arriving<'_>,
    at: usize,
    findings: &mut Findings,
) -> Option<(usize, Quantity, Quantity)> {
    let wish = input.arrived.get(at)?;
    let field = format!("lines.{at}.quantity");
    let Some(line) = input.lines.get(wish.line) else {
        findings.add(Check::MoreThanReturnable, format!("lines.{at}"), "The return has no such line.");
        return None;
    };
    if input.arrived[..at].iter().any(|other| other.line == wish.line) {
        let sentence = format!("{} is named twice. Put it together.", line.code);
        findings.add(Check::NamedTwice, format!("lines.{at}"), sentence);
        return None;
    }
    let date = input.date;
    if date < line.left_on {
        let day = words(line.left_on);
        let what = match line.origin {
            Origin::Billed(_) => format!("{} left and was billed by {day}.", line.code),
            Origin::Shipped(_) => format!("{} left on {day}.", line.code),
            Origin::Unknown(_) => format!("{} was to come back from {day} on.", line.code),
        };
        let sentence = format!("{what} It cannot be back before; choose that day or a later one.");
        findings.add(Check::DateTooEarly, "date", sentence);
    }
    // As what returns hold is counted: what was expected is free once its last day has passed.
    let most = line.most(is_live(input.closed_on, input.expires_on, input.dates.today));
    if !wish.quantity.is_positive() {
        findings.add(Check::QuantityNotPositive, field, "More than zero arrived.");
        return None;
    }
    if wish.quantity > most {
        let why = match line.origin {
            Origin::Billed(_) => "no more was billed.",
            Origin::Shipped(_) => "the rest is billed or back. Authorize a return of the invoice for it.",
            Origin::Unknown(_) => "no more was authorized.",
        };
        let sentence = format!("{most} {} of {} can come back at most: {why}", line.unit, line.code);
        findings.add(Check::MoreThanReturnable, field, sentence);
        return None;
    }
    if date >= line.left_on && room_from(date, &line.with_customer) < wish.quantity.scaled() {
        let when = first_day(wish.quantity.scaled(), &line.with_customer)
            .map_or_else(String::new, |day| format!(" Choose {} or later.", words(day)));
        let sentence = match line.origin {
            Origin::Shipped(_) => {
                format!("On {} not so much of {} was out and not billed.{when}", words(date), line.code)
            }
            _ => format!("On {} the customer did not have so much of {}.{when}", words(date), line.code),
        };
        findings.add(Check::DateTooEarly, "date", sentence);
    }
    let Some(stock) = in_stock_units(wish.quantity, line.factor) else {
        let sentence = format!("{} {} of {} is no quantity stock is kept in.", wish.quantity, line.unit, line.code);
        findings.add(Check::UnitOrStep, field, sentence);
        return None;
    };
    Some((wish.line, wish.quantity, stock))
}

fn tape(input: &ReceiveInput<'_>, lines: &[LineReceived]) -> Tape {
    let mut tape = Tape::new(input.customer.name.clone(), format!("{} received", input.number), input.base);
    for arrived in lines {
        let line = &input.lines[arrived.line];
        tape.amount(TapeStyle::Line, format!("{} × {}, at cost", arrived.quantity, line.code), arrived.cost);
        let how = match line.cost {
            ArrivalCost::AsTheyLeft => "at the cost it left with, last issued first".to_owned(),
            ArrivalCost::Waiting(of, cost) => {
                format!("its share of {}, which waits for the billing of {of}", input.base.grouped(cost))
            }
            ArrivalCost::Said(of, cost) => {
                format!("no document: {} for {of}, as it was said", input.base.grouped(cost))
            }
            ArrivalCost::Newest(Some((of, cost))) => {
                format!("no document: as the newest goods in stock, {} for {of}", input.base.grouped(cost))
            }
            ArrivalCost::Newest(None) => "no document, and no cost known".to_owned(),
        };
        tape.remark(TapeStyle::Detail, how, false);
    }
    tape.amount(TapeStyle::Due, "To the inspection place", lines.iter().map(|line| line.cost).sum());
    tape.remark(TapeStyle::Detail, format!("dated {}", words(input.date.date)), !input.date.typed);
    tape
}

fn changes(input: &ReceiveInput<'_>, lines: &[LineReceived]) -> Vec<Change> {
    let of = |arrived: &LineReceived| {
        let line = input.lines.get(arrived.line)?;
        let after = Quantity::from_scaled(line.progress.received.scaled() + arrived.quantity.scaled());
        let says = |received: Quantity| Figure::words(format!("{received} of {}", line.progress.authorized));
        Some(Change {
            label: format!("{} received", line.code),
            before: Some(says(line.progress.received)),
            after: says(after),
        })
    };
    let order = |arrived: &LineReceived| {
        let line = input.lines.get(arrived.line).filter(|line| !line.origin.is_settled_later())?;
        let again = Figure::words(format!("{} {} to ship again", arrived.quantity, line.unit));
        Some(Change { label: format!("{} on its order", line.code), before: None, after: again })
    };
    lines.iter().filter_map(of).chain(lines.iter().filter_map(order)).collect()
}
