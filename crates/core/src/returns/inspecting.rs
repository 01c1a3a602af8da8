//! Inspecting goods that came back: what becomes of each quantity, with the entry of each.

use super::{Origin, ReturnOutcome, check_received};
use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::fixed::Quantity;
use crate::ids::{InspectionId, ItemId, ReturnLineId, ReturnStepId};
use crate::invoice::CustomerFacts;
use crate::marks::Marks;
use crate::money::{Currency, Money};
use crate::posting::{InspectionMove, NewLayer, Posting};
use crate::room::Movement;
use crate::stock::{Layer, first_day_with, issue};
use crate::tape::{Change, Figure, Tape, TapeStyle};

/// Goods of a line of a return that wait for inspection.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LineInspected {
    /// The line.
    pub id: ReturnLineId,
    /// Where its goods are known from.
    pub origin: Origin,
    /// The item.
    pub item: ItemId,
    /// Its code.
    pub code: String,
    /// The unit stock is kept in.
    pub stock_unit: String,
    /// The unit it was sold in.
    pub unit: String,
    /// How many stock units that is.
    pub factor: Quantity,
    /// The class of the item, for the account map.
    pub class: Option<String>,
    /// Own fields and reporting codes of the line it was billed on.
    pub marks: Marks,
    /// What waits at the inspection place, as it came, asked about for the day; ids are those of the inspection place.
    pub layers: Vec<Layer>,
    /// What came back and was settled with the customer, day by day, in ten-thousandths of the unit it was sold in.
    pub settled: Vec<Movement>,
}

impl LineInspected {
    fn waiting(&self) -> Quantity {
        Quantity::from_scaled(self.layers.iter().map(|layer| layer.remaining.scaled()).sum())
    }
}

/// What becomes of a quantity.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LineToInspect {
    /// The line, by its place among the lines of the return.
    pub line: usize,
    /// How much, in stock units.
    pub quantity: Quantity,
    /// The code of the disposition.
    pub disposition: String,
    /// What it leads to; none where the company has no such disposition.
    pub outcome: Option<ReturnOutcome>,
    /// What the supplier is to credit for it, in base currency, where it goes back there.
    pub claim: Money,
}

/// Everything needed to decide on an inspection.
#[derive(Debug, Clone)]
pub struct InspectInput<'a> {
    /// Number of the return.
    pub number: String,
    /// Whose.
    pub customer: CustomerFacts,
    /// Where restocked goods go.
    pub warehouse: String,
    /// Its lines.
    pub lines: Vec<LineInspected>,
    /// What becomes of what.
    pub decided: Vec<LineToInspect>,
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

/// A quantity of which it is decided what becomes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Inspected {
    /// The line, by its place.
    pub line: usize,
    /// How much, in stock units.
    pub stock: Quantity,
    /// How much of the unit it was sold in goes back to the customer; zero for all other outcomes.
    pub sent_back: Quantity,
    /// The code of the disposition.
    pub disposition: String,
    /// What becomes of it.
    pub outcome: ReturnOutcome,
    /// Its cost, in base currency.
    pub cost: Money,
    /// What the supplier is to credit, in base currency.
    pub claim: Money,
    /// What leaves which layer of the inspection place.
    pub taken: Vec<(InspectionId, Quantity, Money)>,
}

/// What an inspection does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct InspectDecision {
    /// What becomes of what.
    pub lines: Vec<Inspected>,
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

impl InspectDecision {
    /// What it does to the books: goods leave the inspection place; what is restocked is a new layer of the day.
    pub fn posting(&self, input: &InspectInput<'_>, step: ReturnStepId) -> Posting {
        let mut posting = Posting::default();
        posting.enter(self.entry.clone(), None);
        let date = input.date.date;
        for inspected in &self.lines {
            posting.inspected.extend(inspected.taken.iter().map(|(inspection, quantity, cost)| InspectionMove {
                inspection: *inspection,
                step,
                date,
                quantity: *quantity,
                cost: *cost,
            }));
            if let Some(line) = input.lines.get(inspected.line).filter(|_| inspected.outcome == ReturnOutcome::Restock)
            {
                posting.layers.push(NewLayer {
                    item: line.item,
                    warehouse: input.warehouse.clone(),
                    date,
                    quantity: inspected.stock,
                    cost: inspected.cost,
                    step: Some(step),
                });
            }
        }
        posting
    }
}

/// Decides on what becomes of goods that came back.
pub fn inspect(input: &InspectInput<'_>) -> InspectDecision {
    let mut findings = Findings::at(Step::Post);
    let date = input.date.date;
    if let Some(obstacle) = input.periods.obstacle(date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("inspection", date, "date", &mut findings);
    if input.decided.is_empty() {
        findings.add(Check::NothingToDo, "lines", "Say what becomes of what: how much, and its disposition.");
    }
    let mut layers: Vec<Vec<Layer>> = input.lines.iter().map(|line| line.layers.clone()).collect();
    let lines: Vec<Inspected> = input
        .decided
        .iter()
        .enumerate()
        .filter_map(|(at, wish)| inspected(input, (at, wish), &mut layers, &mut findings))
        .collect();
    check_sent_back(input, &lines, &mut findings);
    let mut builder = EntryBuilder::new(input.accounts, input.customer.class.as_deref(), input.base);
    for one in &lines {
        let line = &input.lines[one.line];
        let what = || LineFor { item_class: line.class.as_deref(), marks: Some(&line.marks), ..LineFor::default() };
        match one.outcome {
            ReturnOutcome::Restock => builder.add_base(Purpose::Inventory, one.cost, what()),
            ReturnOutcome::Scrap => builder.add_base(Purpose::Scrap, one.cost, what()),
            ReturnOutcome::Supplier => {
                builder.add_base(Purpose::SupplierClaim, one.claim, what());
                builder.add_base(Purpose::Scrap, one.cost - one.claim, what());
            }
            ReturnOutcome::SendBack => builder.add_base(Purpose::Cogs, one.cost, what()),
        }
        builder.add_base(Purpose::Inspection, -one.cost, what());
    }
    let entry = builder.finish_or_say(date, format!("Returned goods inspected, {}", input.number), &mut findings);
    let before: Vec<_> = input.lines.iter().map(|line| (line.id, line.waiting().scaled())).collect();
    let what: Vec<_> = lines
        .iter()
        .map(|one| (one.line, one.stock.scaled(), &one.disposition, one.outcome, one.cost, one.claim))
        .collect();
    InspectDecision {
        tape: tape(input, &lines),
        changes: changes(input, &lines),
        fingerprint: fingerprint::of(&(&input.number, date, &what, &before, &entry)),
        blockers: findings.finish(),
        lines,
        entry,
    }
}

fn inspected(
    input: &InspectInput<'_>,
    (at, wish): (usize, &LineToInspect),
    layers: &mut [Vec<Layer>],
    findings: &mut Findings,
) -> Option<Inspected> {
    let field = |name: &str| format!("lines.{at}.{name}");
    let Some((line, layers)) = input.lines.get(wish.line).zip(layers.get_mut(wish.line)) else {
        findings.add(Check::MoreThanReturned, format!("lines.{at}"), "The return has no such line.");
        return None;
    };
    let Some(outcome) = wish.outcome else {
        findings.add(Check::ReasonMissing, field("disposition"), "Choose what becomes of it.");
        return None;
    };
    if !wish.quantity.is_positive() {
        findings.add(Check::QuantityNotPositive, field("quantity"), "More than zero.");
        return None;
    }
    let date = input.date.date;
    let before = layers.clone();
    let taken = match issue(layers, wish.quantity, date) {
        Ok(taken) => taken,
        Err(shortage) => {
            match first_day_with(&before, wish.quantity, date) {
                Some(day) => {
                    let sentence =
                        format!("{} was not all back on {}. Choose {} or later.", line.code, words(date), words(day));
                    findings.add(Check::DateTooEarly, "date", sentence);
                }
                None => {
                    let there: i64 = before.iter().map(|layer| layer.remaining.scaled()).sum();
                    let there = Quantity::from_scaled(there.max(shortage.on_hand.scaled()));
                    let sentence = format!("{there} {} of {} wait for inspection.", line.stock_unit, line.code);
                    findings.add(Check::MoreThanReturned, field("quantity"), sentence);
                }
            }
            return None;
        }
    };
    let cost: Money = taken.iter().map(|one| one.cost).sum();
    check_claim(outcome, wish.claim, field("claim"), findings);
    let sent_back = match outcome {
        ReturnOutcome::SendBack if !line.origin.is_settled_later() => {
            let sentence = format!(
                "{} was not billed: what came back is the order's again. Restock it, and ship it from the order.",
                line.code
            );
            findings.add(Check::MoreThanReturned, field("disposition"), sentence);
            Quantity::ZERO
        }
        ReturnOutcome::SendBack => in_sold_units(line, wish.quantity).unwrap_or_else(|| {
            let sentence = format!("Send whole {} of {} back, as they were sold.", line.unit, line.code);
            findings.add(Check::UnitOrStep, field("quantity"), sentence);
            Quantity::ZERO
        }),
        _ => Quantity::ZERO,
    };
    Some(Inspected {
        line: wish.line,
        stock: wish.quantity,
        sent_back,
        disposition: wish.disposition.clone(),
        outcome,
        cost,
        claim: if outcome == ReturnOutcome::Supplier { wish.claim } else { Money::ZERO },
        taken: taken.iter().map(|one| (InspectionId(one.layer.0), one.quantity, one.cost)).collect(),
    })
}

fn check_claim(outcome: ReturnOutcome, claim: Money, field: String, findings: &mut Findings) {
    if claim < Money::ZERO {
        findings.add(Check::AmountNotPositive, field, "A claim is not below zero.");
    } else if outcome != ReturnOutcome::Supplier && !claim.is_zero() {
        findings.add(Check::AmountNotPositive, field, "Only what goes back to the supplier has a claim on it.");
    }
}

/// Stock units in the unit it was sold in; none where that is no exact quantity.
fn in_sold_units(line: &LineInspected, stock: Quantity) -> Option<Quantity> {
    let sold = crate::units::from_stock_units(stock, line.factor);
    (crate::units::in_stock_units(sold, line.factor) == Some(stock)).then_some(sold)
}

/// What is credited or replaced is not sent back to the customer too.
fn check_sent_back(input: &InspectInput<'_>, lines: &[Inspected], findings: &mut Findings) {
    for (at, line) in input.lines.iter().enumerate() {
        let of_line = || lines.iter().filter(|one| one.line == at && one.outcome == ReturnOutcome::SendBack);
        let all = Quantity::from_scaled(of_line().map(|one| one.sent_back.scaled()).sum());
        let Some(first) = lines.iter().position(|one| one.line == at && one.outcome == ReturnOutcome::SendBack) else {
            continue;
        };
        let field = format!("lines.{first}.quantity");
        check_received((&input.number, &line.code), (all, input.date.date), &line.settled, &field, findings);
    }
}

fn tape(input: &InspectInput<'_>, lines: &[Inspected]) -> Tape {
    let mut tape = Tape::new(input.customer.name.clone(), format!("{} inspected", input.number), input.base);
    for one in lines {
        let line = &input.lines[one.line];
        let label = format!("{} × {}, {}", one.stock, line.code, one.outcome.name());
        tape.amount(TapeStyle::Line, label, one.cost);
        if one.outcome == ReturnOutcome::Supplier {
            tape.amount(TapeStyle::Detail, "claim on the supplier", one.claim);
            tape.amount(TapeStyle::Detail, "loss", one.cost - one.claim);
        }
    }
    tape.amount(TapeStyle::Due, "Out of the inspection place", lines.iter().map(|one| one.cost).sum());
    tape.remark(TapeStyle::Detail, format!("dated {}", words(input.date.date)), !input.date.typed);
    tape
}

fn changes(input: &InspectInput<'_>, lines: &[Inspected]) -> Vec<Change> {
    let of = |(at, line): (usize, &LineInspected)| {
        let gone: i64 = lines.iter().filter(|one| one.line == at).map(|one| one.stock.scaled()).sum();
        let left = Quantity::from_scaled(line.waiting().scaled() - gone);
        let says = |quantity: Quantity| Figure::words(format!("{quantity} {}", line.stock_unit));
        (gone != 0).then(|| Change {
            label: format!("{} waiting for inspection", line.code),
            before: Some(says(line.waiting())),
            after: says(left),
        })
    };
    input.lines.iter().enumerate().filter_map(of).collect()
}
