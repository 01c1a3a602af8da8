//! Shipments and intakes: goods out and goods in, with their cost.
//!
//! Posting a shipment takes stock out first in first out and writes the cost entry. Services
//! and charges may travel on a shipment too (freight does); they have no stock and no cost.
//! *Source: domain.md section 6; postings.md, Goods.*

use std::collections::BTreeMap;

use chrono::NaiveDate;

use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{Periods, words};
use crate::checks::{Blocker, Check, Findings, Step, stops};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fixed::Quantity;
use crate::ids::{DocumentKind, DocumentRef, ItemId, OrderLineId};
use crate::money::{Currency, Money};
use crate::order::LineProgress;
use crate::stock::{Issue, Layer, issue};
use crate::tape::{Change, Figure, Tape, TapeStyle};

/// A line to ship.
#[derive(Debug, Clone)]
pub struct LineToShip {
    /// The order line.
    pub order_line: OrderLineId,
    /// The item.
    pub item: ItemId,
    /// Its code.
    pub code: String,
    /// Its class, for the account map.
    pub class: String,
    /// Whether it is kept in stock.
    pub stocked: bool,
    /// How much leaves.
    pub quantity: Quantity,
    /// How far the order line has come.
    pub progress: LineProgress,
}

/// Everything needed to decide on a shipment.
#[derive(Debug, Clone)]
pub struct ShipmentInput<'a> {
    /// Number of the shipment, or “new shipment”.
    pub number: String,
    /// The customer's name.
    pub customer: String,
    /// The customer's class.
    pub customer_class: Option<String>,
    /// Why the customer is on stop, if it is.
    pub stop_reason: Option<String>,
    /// The order it ships, for jumps.
    pub order: DocumentRef,
    /// Date of the order.
    pub order_date: NaiveDate,
    /// Posting date.
    pub date: NaiveDate,
    /// What leaves.
    pub lines: Vec<LineToShip>,
    /// Layers of each stocked item, oldest first.
    pub stock: BTreeMap<ItemId, Vec<Layer>>,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
    /// Base currency.
    pub base: Currency,
}

/// A line as shipped.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShippedLine {
    /// The order line.
    pub order_line: OrderLineId,
    /// The item.
    pub item: ItemId,
    /// How much left.
    pub quantity: Quantity,
    /// Its cost.
    pub cost: Money,
    /// Which layers it came from.
    pub issues: Vec<Issue>,
}

/// What posting the shipment does.
#[derive(Debug, Clone)]
pub struct ShipmentDecision {
    /// The lines with their cost.
    pub lines: Vec<ShippedLine>,
    /// The cost entry; none where nothing costs anything.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
}

/// Decides on posting a shipment.
pub fn decide(input: &ShipmentInput<'_>) -> ShipmentDecision {
    let mut findings = Findings::at(Step::Ship);
    let mut stock = input.stock.clone();
    let mut tape = Tape::new(input.customer.clone(), format!("{} on {}", input.number, words(input.date)), input.base);
    let mut builder = EntryBuilder::new(input.accounts, input.customer_class.as_deref());
    let mut lines = Vec::new();
    let mut changes = Vec::new();
    check_header(input, &mut findings);
    for (position, line) in input.lines.iter().enumerate() {
        let field = format!("lines.{position}.quantity");
        if input.lines[..position].iter().any(|other| other.order_line == line.order_line) {
            findings.add(
                Check::NamedTwice,
                field,
                format!("{} stands on this shipment twice. Keep one line.", line.code),
            );
            continue;
        }
        if !line.quantity.is_positive() {
            findings.add(
                Check::QuantityNotPositive,
                field,
                format!("Ship more than nothing of {}, or leave the line out.", line.code),
            );
            continue;
        }
        if line.quantity > line.progress.to_ship() {
            findings.add(
                Check::MoreThanOrdered,
                field,
                format!(
                    "{} of {} to ship, but only {} is left on the order.",
                    line.quantity,
                    line.code,
                    line.progress.to_ship()
                ),
            );
            continue;
        }
        let issues = if line.stocked {
            let layers = stock.entry(line.item).or_default();
            let on_hand: i64 = layers.iter().map(|layer| layer.remaining.scaled()).sum();
            match issue(layers, line.quantity) {
                Ok(issues) => {
                    changes.push(Change {
                        label: format!("{} on hand", line.code),
                        before: Some(Figure::words(Quantity::from_scaled(on_hand).to_string())),
                        after: Figure::words(Quantity::from_scaled(on_hand - line.quantity.scaled()).to_string()),
                    });
                    issues
                }
                Err(shortage) => {
                    findings.add(
                        Check::StockShort,
                        field,
                        format!(
                            "{} of {} wanted, {} on hand. Ship what there is and leave the rest on back order.",
                            shortage.wanted, line.code, shortage.on_hand
                        ),
                    );
                    continue;
                }
            }
        } else {
            Vec::new()
        };
        let cost: Money = issues.iter().map(|issue| issue.cost).sum();
        tape.amount(TapeStyle::Line, format!("{} × {}", line.quantity, line.code), cost);
        let class = || LineFor { item_class: Some(&line.class), ..LineFor::default() };
        builder.add_base(Purpose::Cogs, cost, class());
        builder.add_base(Purpose::Inventory, -cost, class());
        lines.push(ShippedLine { order_line: line.order_line, item: line.item, quantity: line.quantity, cost, issues });
    }
    tape.amount(TapeStyle::Due, "Cost", lines.iter().map(|line| line.cost).sum());
    let (entry, problems) = builder.finish(input.date, format!("Goods of {} left", input.number), input.base);
    for problem in problems {
        findings.add(Check::AccountMissing, "account_map", problem.to_string());
    }
    let blockers = findings.finish();
    let entry = if stops(&blockers) { None } else { entry };
    ShipmentDecision { lines, entry, tape, changes, blockers }
}

fn check_header(input: &ShipmentInput<'_>, findings: &mut Findings) {
    if input.lines.is_empty() {
        findings.add(Check::NothingToDo, "lines", "Nothing to ship. Give at least one line a quantity.");
    }
    if let Some(reason) = &input.stop_reason {
        findings.add(
            Check::CustomerOnStop,
            "customer.stop_reason",
            format!("{} is on stop: {reason}. A lead can lift it.", input.customer),
        );
    }
    if input.date < input.order_date {
        findings.add_at(
            Check::DateTooEarly,
            "date",
            format!("Goods cannot leave before their order of {}.", words(input.order_date)),
            Some(input.order.clone()),
        );
    }
    if let Some(obstacle) = input.periods.obstacle(input.date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
}

/// An intake to decide on.
#[derive(Debug, Clone)]
pub struct IntakeInput<'a> {
    /// Class of the item.
    pub class: String,
    /// Code of the item.
    pub code: String,
    /// How much came in.
    pub quantity: Quantity,
    /// What all of it cost, in base currency.
    pub cost: Money,
    /// When.
    pub date: NaiveDate,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
    /// Base currency.
    pub base: Currency,
}

/// The entry of an intake, or what stands in the way.
///
/// # Errors
/// The blockers of the step.
pub fn decide_intake(input: &IntakeInput<'_>) -> Result<Option<Entry>, Vec<Blocker>> {
    let mut findings = Findings::at(Step::Ship);
    if !input.quantity.is_positive() {
        findings.add(Check::QuantityNotPositive, "quantity", format!("Take in more than nothing of {}.", input.code));
    }
    if input.cost < Money::ZERO {
        findings.add(Check::QuantityNotPositive, "cost", "Cost cannot be below zero.");
    }
    if let Some(obstacle) = input.periods.obstacle(input.date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    let mut builder = EntryBuilder::new(input.accounts, None);
    let class = || LineFor { item_class: Some(&input.class), ..LineFor::default() };
    builder.add_base(Purpose::Inventory, input.cost, class());
    builder.add_base(Purpose::SupplierClearing, -input.cost, LineFor::default());
    let (entry, problems) =
        builder.finish(input.date, format!("{} × {} came in", input.quantity, input.code), input.base);
    for problem in problems {
        findings.add(Check::AccountMissing, "account_map", problem.to_string());
    }
    let blockers = findings.finish();
    if stops(&blockers) { Err(blockers) } else { Ok(entry) }
}

/// The document a blocker of a shipment points to.
pub fn order_ref(id: i64, number: &str) -> DocumentRef {
    DocumentRef { kind: DocumentKind::Order, id, number: number.to_owned() }
}
