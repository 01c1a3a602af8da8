//! Shipments and intakes: goods out and goods in, with their cost.
//!
//! Posting a shipment takes stock out first in first out and writes the cost entry. Services
//! and charges may travel on a shipment too (freight does); they have no stock and no cost.
//! *Source: domain.md section 6; postings.md, Goods.*

mod counting;
mod intake_back;
mod taking_back;

pub use counting::{AdjustDecision, AdjustInput, IntakeInput, decide_adjustment, decide_intake};
pub use intake_back::{IntakeBackInput, decide_intake_back};
pub use taking_back::{LineToTakeBack, TakeBackInput, decide_take_back};

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{Periods, words};
use crate::checks::{Blocker, Check, Findings, Step, stops};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fixed::Quantity;
use crate::ids::{DocumentKind, DocumentRef, ItemId, OrderLineId, ShipmentLineId};
use crate::marks::{MarkRules, Marks};
use crate::money::{Currency, Money};
use crate::order::LineProgress;
use crate::posting::{MovedWith, Posting, StockMove};
use crate::spread::spread;
use crate::stock::{Issue, Layer, take_free};
use crate::tape::{Change, Figure, Tape, TapeStyle};
use crate::units::in_stock_units;

/// When the cost of goods is entered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum CostEntry {
    /// As they leave.
    AtPosting,
    /// As they are billed; until then they are goods shipped and not billed.
    AtBilling,
}

impl CostEntry {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::AtPosting => "at_posting",
            Self::AtBilling => "at_billing",
        }
    }

    /// The setting with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::AtPosting, Self::AtBilling].into_iter().find(|setting| setting.word() == word)
    }

    /// Where the cost of goods that left goes.
    pub const fn purpose(self) -> Purpose {
        match self {
            Self::AtPosting => Purpose::Cogs,
            Self::AtBilling => Purpose::ShippedCost,
        }
    }
}

/// A line to ship.
#[derive(Debug, Clone)]
pub struct LineToShip {
    /// The line of the shipment.
    pub shipment_line: ShipmentLineId,
    /// The order line.
    pub order_line: OrderLineId,
    /// The item.
    pub item: ItemId,
    /// Its code.
    pub code: String,
    /// Its class, for the account map.
    pub class: String,
    /// Whether it is kept in stock, in a warehouse that is counted here.
    pub stocked: bool,
    /// The unit sold.
    pub unit: String,
    /// Stock units in one of it.
    pub factor: Quantity,
    /// How much leaves, in the unit sold.
    pub quantity: Quantity,
    /// How far the order line has come.
    pub progress: LineProgress,
    /// What of it stands on drafts of invoices without a shipment.
    pub drafted: Quantity,
    /// How much more than ordered may leave.
    pub over: Quantity,
    /// Own fields and reporting codes.
    pub marks: Marks,
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
    /// Why the customer is on hold, if it is.
    pub stop_reason: Option<String>,
    /// By how much the customer is above its credit limit, in base currency.
    pub over_limit: Option<Money>,
    /// What was billed in advance of the order and is not paid, where the company wants that before goods leave: each
    /// prepayment invoice with what is open, in its currency.
    pub unpaid_in_advance: Vec<(DocumentRef, String)>,
    /// The order it ships, for jumps.
    pub order: DocumentRef,
    /// Date of the order.
    pub order_date: NaiveDate,
    /// Posting date.
    pub date: NaiveDate,
    /// What leaves.
    pub lines: Vec<LineToShip>,
    /// Layers of each stocked item in the warehouse, oldest first.
    pub stock: BTreeMap<ItemId, Vec<Layer>>,
    /// What of each item is reserved there for other order lines, in stock units.
    pub committed: BTreeMap<ItemId, Quantity>,
    /// When cost is entered.
    pub cost_entry: CostEntry,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
    /// Reporting lists, and the accounts that demand a code.
    pub mark_rules: &'a MarkRules,
    /// Base currency.
    pub base: Currency,
}

/// A line as shipped.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShippedLine {
    /// The line of the shipment.
    pub shipment_line: ShipmentLineId,
    /// The order line.
    pub order_line: OrderLineId,
    /// The item.
    pub item: ItemId,
    /// How much left, in the unit sold.
    pub quantity: Quantity,
    /// Its cost.
    pub cost: Money,
    /// Which layers it came from, in stock units.
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
    let mut builder = EntryBuilder::new(input.accounts, input.customer_class.as_deref(), input.base);
    let mut lines = Vec::new();
    let mut changes = Vec::new();
    check_header(input, &mut findings);
    for (position, line) in input.lines.iter().enumerate() {
        if !check_line(input, position, &mut findings) {
            continue;
        }
        let issues = if line.stocked {
            match take(input, line, &mut stock, &mut changes) {
                Ok(issues) => issues,
                Err(sentence) => {
                    findings.add(Check::StockShort, format!("lines.{position}.quantity"), sentence);
                    continue;
                }
            }
        } else {
            Vec::new()
        };
        let cost: Money = issues.iter().map(|issue| issue.cost).sum();
        tape.amount(TapeStyle::Line, format!("{} × {}", line.quantity, line.code), cost);
        for issue in issues.iter().filter(|_| issues.len() > 1) {
            tape.amount(TapeStyle::Detail, format!("{} of the layer {}", issue.quantity, issue.layer), issue.cost);
        }
        let what = || LineFor { item_class: Some(&line.class), marks: Some(&line.marks), ..LineFor::default() };
        builder.add_base(input.cost_entry.purpose(), cost, what());
        builder.add_base(Purpose::Inventory, -cost, what());
        let (shipment_line, order_line, item) = (line.shipment_line, line.order_line, line.item);
        lines.push(ShippedLine { shipment_line, order_line, item, quantity: line.quantity, cost, issues });
    }
    tape.amount(TapeStyle::Due, "Cost", lines.iter().map(|line| line.cost).sum());
    let entry = builder.finish_or_say(input.date, format!("Goods of {} left", input.number), &mut findings);
    if let Some(entry) = &entry {
        crate::invoice::check_codes(input.mark_rules, entry, &mut findings);
    }
    let blockers = findings.finish();
    let entry = if stops(&blockers) { None } else { entry };
    ShipmentDecision { lines, entry, tape, changes, blockers }
}

impl ShipmentDecision {
    /// What it does to the books.
    pub fn posting(&self, date: NaiveDate) -> Posting {
        let mut posting = Posting::default();
        posting.enter(self.entry.clone(), None);
        for line in &self.lines {
            posting.stock.extend(StockMove::out(&line.issues, date, MovedWith::ShipmentLine(line.shipment_line)));
        }
        posting
    }
}

/// Whether a line may leave as far as its order is concerned.
fn check_line(input: &ShipmentInput<'_>, position: usize, findings: &mut Findings) -> bool {
    let line = &input.lines[position];
    let field = format!("lines.{position}.quantity");
    if input.lines[..position].iter().any(|other| other.order_line == line.order_line) {
        findings.add(Check::NamedTwice, field, format!("{} stands on this shipment twice. Keep one line.", line.code));
        return false;
    }
    if !line.quantity.is_positive() {
        findings.add(
            Check::QuantityNotPositive,
            field,
            format!("Ship more than nothing of {}, or leave the line out.", line.code),
        );
        return false;
    }
    let most = line.progress.most_to_ship(line.over);
    if line.quantity > most {
        let tolerance =
            if line.over.is_zero() { String::new() } else { format!(" and {} more may go over", line.over) };
        findings.add(
            Check::MoreThanOrdered,
            field,
            format!(
                "{} of {} to ship, but only {} is left on the order{tolerance}.",
                line.quantity,
                line.code,
                line.progress.to_ship()
            ),
        );
        return false;
    }
    if line.quantity.scaled() > most.scaled() - line.drafted.scaled() {
        findings.add(
            Check::AlreadyBilled,
            field,
            format!(
                "{} of {} stand on a draft of an invoice. Take them off it first, or ship the rest.",
                line.drafted, line.code
            ),
        );
        return false;
    }
    if in_stock_units(line.quantity, line.factor).is_none() {
        findings.add(
            Check::StockShort,
            field,
            format!("{} {} of {} are no exact number of stock units.", line.quantity, line.unit, line.code),
        );
        return false;
    }
    true
}

/// Takes a line out of stock: not more than there is, and not what is reserved for others.
fn take(
    input: &ShipmentInput<'_>,
    line: &LineToShip,
    stock: &mut BTreeMap<ItemId, Vec<Layer>>,
    changes: &mut Vec<Change>,
) -> Result<Vec<Issue>, String> {
    let wanted = in_stock_units(line.quantity, line.factor).unwrap_or(line.quantity);
    let layers = stock.entry(line.item).or_default();
    let on_hand: i64 = layers.iter().map(|layer| layer.remaining.scaled()).sum();
    let committed = input.committed.get(&line.item).copied().unwrap_or_default();
    let issues = take_free(layers, (wanted, committed), input.date, &line.code)?;
    changes.push(Change {
        label: format!("{} on hand", line.code),
        before: Some(Figure::words(Quantity::from_scaled(on_hand).to_string())),
        after: Figure::words(Quantity::from_scaled(on_hand - wanted.scaled()).to_string()),
    });
    Ok(issues)
}

fn check_header(input: &ShipmentInput<'_>, findings: &mut Findings) {
    if input.lines.is_empty() {
        findings.add(Check::NothingToDo, "lines", "Nothing to ship. Give at least one line a quantity.");
    }
    if let Some(reason) = &input.stop_reason {
        findings.add(
            Check::CustomerOnStop,
            "customer.stop_reason",
            format!("{} is on hold: {reason}. A supervisor can lift it.", input.customer),
        );
    }
    if let Some(over) = input.over_limit {
        findings.add(
            Check::CreditLimit,
            "customer.credit_limit",
            format!("{} is {} {} above its credit limit.", input.customer, input.base.format(over), input.base),
        );
    }
    for (invoice, open) in &input.unpaid_in_advance {
        findings.add_at(
            Check::PrepaymentUnpaid,
            "prepayment",
            format!(
                "{open} of {} are to be paid in advance, and the goods wait for that. Take the money first.",
                invoice.number
            ),
            Some(invoice.clone()),
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

/// Freight shares the tax of the goods it carries: the code they have, or where they have several a part of it
/// for each, by what they come to. Where it carries no goods it has the code that would come.
/// *Source: VAT Directive art. 78(b), from memory; docs/rules.md.*
///
/// ```
/// use till_core::money::Money;
/// use till_core::shipment::freight_by_code;
/// let goods = [("S23".to_owned(), Money(10_000)), ("Z0".to_owned(), Money(5_000))];
/// let parts = freight_by_code(Money(1_800), &goods, "S23");
/// assert_eq!(parts, [("S23".to_owned(), Money(1_200)), ("Z0".to_owned(), Money(600))]);
/// ```
pub fn freight_by_code(freight: Money, goods: &[(String, Money)], otherwise: &str) -> Vec<(String, Money)> {
    let mut codes: Vec<(String, i64)> = Vec::new();
    for (code, net) in goods {
        match codes.iter_mut().find(|(known, _)| known == code) {
            Some((_, sum)) => *sum += net.0,
            None => codes.push((code.clone(), net.0)),
        }
    }
    if codes.iter().all(|(_, net)| *net <= 0) {
        let code = codes.into_iter().next().map_or_else(|| otherwise.to_owned(), |(code, _)| code);
        return vec![(code, freight)];
    }
    let weights: Vec<i64> = codes.iter().map(|(_, net)| (*net).max(0)).collect();
    let parts = codes.into_iter().map(|(code, _)| code).zip(spread(freight, &weights));
    parts.filter(|(_, amount)| !amount.is_zero()).collect()
}

/// The document a blocker of a shipment points to.
pub fn order_ref(id: i64, number: &str) -> DocumentRef {
    DocumentRef { kind: DocumentKind::Order, id, number: number.to_owned() }
}
