//! A replacement at no charge for goods that came back: it leaves stock, and nothing is billed.

use super::{Origin, check_received};
use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::fixed::Quantity;
use crate::ids::ReturnStepId;
use crate::invoice::CustomerFacts;
use crate::marks::Marks;
use crate::money::{Currency, Money};
use crate::posting::{MovedWith, Posting, StockMove};
use crate::room::Movement;
use crate::stock::{Issue, Layer, take_free};
use crate::tape::{Tape, TapeStyle};
use crate::units::in_stock_units;

/// Everything needed to decide on a replacement.
#[derive(Debug, Clone)]
pub struct ReplaceInput<'a> {
    /// Number of the return.
    pub number: String,
    /// Whose.
    pub customer: CustomerFacts,
    /// Where the goods of the line are known from.
    pub origin: Origin,
    /// The item's code.
    pub code: String,
    /// The unit it was sold in.
    pub unit: String,
    /// How many stock units that is.
    pub factor: Quantity,
    /// The class of the item, for the account map.
    pub class: Option<String>,
    /// Own fields and reporting codes of the line it was billed on.
    pub marks: Marks,
    /// What came back and was settled with the customer, day by day, in ten-thousandths of the unit it was sold in.
    pub settled: Vec<Movement>,
    /// How much is replaced, in the unit it was sold in.
    pub quantity: Quantity,
    /// What is in stock, asked about for the day.
    pub layers: Vec<Layer>,
    /// What of it is reserved for orders, in stock units.
    pub committed: Quantity,
    /// When it leaves.
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

/// What a replacement does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct ReplaceDecision {
    /// What leaves which layer.
    pub issued: Vec<Issue>,
    /// How much leaves, in stock units.
    pub stock: Quantity,
    /// Its cost, in base currency.
    pub cost: Money,
    /// The entry; none where it costs nothing.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure and date.
    pub fingerprint: String,
}

impl ReplaceDecision {
    /// What it does to the books: goods leave stock.
    pub fn posting(&self, input: &ReplaceInput<'_>, step: ReturnStepId) -> Posting {
        let mut posting = Posting::default();
        posting.enter(self.entry.clone(), None);
        posting.stock.extend(StockMove::out(&self.issued, input.date.date, MovedWith::ReturnStep(step)));
        posting
    }
}

/// Decides on a replacement.
pub fn replace(input: &ReplaceInput<'_>) -> ReplaceDecision {
    let mut findings = Findings::at(Step::Post);
    let date = input.date.date;
    if let Some(obstacle) = input.periods.obstacle(date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("replacement", date, "date", &mut findings);
    let stock = in_stock_units(input.quantity, input.factor).unwrap_or(Quantity::ZERO);
    let mut issued = Vec::new();
    if !input.origin.is_settled_later() {
        let sentence =
            format!("{} was not billed: ship another one from the order, which has it to ship again.", input.code);
        findings.add(Check::MoreThanReturned, "line", sentence);
    } else if !input.quantity.is_positive() {
        findings.add(Check::QuantityNotPositive, "quantity", "Replace more than zero.");
    } else if stock.is_zero() {
        let sentence = format!("{} {} is no quantity stock is kept in.", input.quantity, input.unit);
        findings.add(Check::UnitOrStep, "quantity", sentence);
    } else {
        let what = (input.number.as_str(), input.code.as_str());
        check_received(what, (input.quantity, date), &input.settled, "quantity", &mut findings);
        match take_free(&mut input.layers.clone(), (stock, input.committed), date, &input.code) {
            Ok(taken) => issued = taken,
            Err(sentence) => findings.add(Check::StockShort, "quantity", sentence),
        }
    }
    let cost: Money = issued.iter().map(|one| one.cost).sum();
    let mut builder = EntryBuilder::new(input.accounts, input.customer.class.as_deref(), input.base);
    let what = || LineFor { item_class: input.class.as_deref(), marks: Some(&input.marks), ..LineFor::default() };
    builder.add_base(Purpose::Cogs, cost, what());
    builder.add_base(Purpose::Inventory, -cost, what());
    let text = format!("Replacement at no charge, {}", input.number);
    let entry = builder.finish_or_say(date, text, &mut findings);
    let mut tape = Tape::new(input.customer.name.clone(), format!("replacement for {}", input.number), input.base);
    tape.amount(TapeStyle::Due, format!("{} × {}, at cost", input.quantity, input.code), cost);
    tape.remark(TapeStyle::Detail, "nothing is billed for it", false);
    tape.remark(TapeStyle::Detail, format!("leaves on {}", words(date)), !input.date.typed);
    let layers: Vec<_> = issued.iter().map(|one| (one.layer, one.quantity.scaled(), one.cost)).collect();
    ReplaceDecision {
        fingerprint: fingerprint::of(&(&input.number, &input.code, date, input.quantity.scaled(), &layers, &entry)),
        issued,
        stock,
        cost,
        entry,
        tape,
        blockers: findings.finish(),
    }
}
