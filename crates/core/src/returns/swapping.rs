//! A wrong item went: put right in one step.
//!
//! The item that was billed never left: its issue is reversed into its very layer. What really went is issued at its own
//! layer cost, comes back to the inspection place, and the right one goes. Both moves of the right one are of the same
//! pieces of the same layer on the same day: its stock is as if it had gone at once, and only the other item moves.
//! Nothing is billed for it. *Source: domain.md section 9; postings.md, Documents, wrong item sent.*

use super::{GoodsMoved, free, lots_out, take_back};
use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::fixed::Quantity;
use crate::ids::{ItemId, ReturnLineId, ReturnStepId};
use crate::invoice::CustomerFacts;
use crate::marks::Marks;
use crate::money::{Currency, Money};
use crate::posting::{MovedWith, NewInspection, Posting, StockMove};
use crate::room::{Movement, first_day, room_from};
use crate::stock::{Issue, Layer, take_free};
use crate::tape::{Tape, TapeStyle};
use crate::units::in_stock_units;

/// The line that was billed, whose item never left.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BilledItem {
    /// The item.
    pub item: ItemId,
    /// Its code.
    pub code: String,
    /// The unit it was sold in.
    pub unit: String,
    /// How many stock units that is.
    pub factor: Quantity,
    /// Its class, for the account map.
    pub class: Option<String>,
    /// Own fields and reporting codes of the line.
    pub marks: Marks,
    /// How much the line billed.
    pub billed: Quantity,
    /// What was credited of that.
    pub credited: Quantity,
    /// What returns hold of it.
    pub on_returns: Quantity,
    /// What the customer has of it in the books, day by day, in ten-thousandths.
    pub with_customer: Vec<Movement>,
    /// What left with it and came back, in its order.
    pub moved: Vec<GoodsMoved>,
}

/// The item that really went.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SentItem {
    /// The item.
    pub item: ItemId,
    /// Its code.
    pub code: String,
    /// Its class, for the account map.
    pub class: Option<String>,
    /// What of it is in stock in the books, asked about for the day.
    pub layers: Vec<Layer>,
    /// What of it is reserved for orders, in stock units.
    pub committed: Quantity,
}

/// Everything needed to decide on putting a wrong delivery right.
#[derive(Debug, Clone)]
pub struct SwapInput<'a> {
    /// Number of the return that keeps it.
    pub number: String,
    /// The line of it.
    pub line: ReturnLineId,
    /// Whose.
    pub customer: CustomerFacts,
    /// Where the goods are.
    pub warehouse: String,
    /// What was billed.
    pub billed: BilledItem,
    /// What really went.
    pub sent: SentItem,
    /// How much of what was billed, in the unit it was sold in.
    pub quantity: Quantity,
    /// How much of the other item went in its place, in stock units.
    pub sent_quantity: Quantity,
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

/// What putting it right does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct SwapDecision {
    /// What the right item cost, in base currency.
    pub right_cost: Money,
    /// What the other one cost.
    pub sent_cost: Money,
    /// What of the other one leaves which layer.
    pub issued: Vec<Issue>,
    /// The entry; none where neither cost anything.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure and date.
    pub fingerprint: String,
}

impl SwapDecision {
    /// What it does to the books: the other item leaves stock and waits at the inspection place.
    pub fn posting(&self, input: &SwapInput<'_>, step: ReturnStepId) -> Posting {
        let mut posting = Posting::default();
        posting.enter(self.entry.clone(), None);
        let date = input.date.date;
        posting.stock.extend(StockMove::out(&self.issued, date, MovedWith::ReturnStep(step)));
        posting.inspection.push(NewInspection {
            step,
            line: input.line,
            item: input.sent.item,
            warehouse: input.warehouse.clone(),
            date,
            quantity: input.sent_quantity,
            cost: self.sent_cost,
        });
        posting
    }
}

/// Decides on putting a wrong delivery right.
pub fn swap(input: &SwapInput<'_>) -> SwapDecision {
    let mut findings = Findings::at(Step::Post);
    check(input, &mut findings);
    let date = input.date.date;
    let stock = in_stock_units(input.quantity, input.billed.factor).unwrap_or(Quantity::ZERO);
    if stock.is_zero() && input.quantity.is_positive() {
        let sentence = format!("{} {} is no quantity stock is kept in.", input.quantity, input.billed.unit);
        findings.add(Check::UnitOrStep, "quantity", sentence);
    }
    let right_cost = take_back(&mut lots_out(&input.billed.moved), stock);
    let mut issued = Vec::new();
    if input.sent_quantity.is_positive() {
        let wanted = (input.sent_quantity, input.sent.committed);
        match take_free(&mut input.sent.layers.clone(), wanted, date, &input.sent.code) {
            Ok(taken) => issued = taken,
            Err(sentence) => findings.add(Check::StockShort, "sent_quantity", sentence),
        }
    }
    let sent_cost: Money = issued.iter().map(|one| one.cost).sum();
    let mut builder = EntryBuilder::new(input.accounts, input.customer.class.as_deref(), input.base);
    let (right, sent) = (input.billed.class.as_deref(), input.sent.class.as_deref());
    let of = |class| LineFor { item_class: class, marks: Some(&input.billed.marks), ..LineFor::default() };
    // What was said to have gone is back in its layer, what really went is issued …
    builder.add_base(Purpose::Inventory, right_cost, of(right));
    builder.add_base(Purpose::Cogs, -right_cost, of(right));
    builder.add_base(Purpose::Cogs, sent_cost, of(sent));
    builder.add_base(Purpose::Inventory, -sent_cost, of(sent));
    // … comes back, and the right one goes.
    builder.add_base(Purpose::Inspection, sent_cost, of(sent));
    builder.add_base(Purpose::Cogs, -sent_cost, of(sent));
    builder.add_base(Purpose::Cogs, right_cost, of(right));
    builder.add_base(Purpose::Inventory, -right_cost, of(right));
    let entry = builder.finish_or_say(date, format!("Wrong item corrected, {}", input.number), &mut findings);
    let mut tape = Tape::new(input.customer.name.clone(), "wrong item sent", input.base);
    tape.amount(TapeStyle::Line, format!("{} × {}, goes", input.quantity, input.billed.code), right_cost);
    tape.amount(TapeStyle::Line, format!("{} × {}, was sent", input.sent_quantity, input.sent.code), sent_cost);
    tape.amount(TapeStyle::Due, "To the inspection place", sent_cost);
    tape.remark(TapeStyle::Detail, "at cost; nothing is billed for it", false);
    tape.remark(TapeStyle::Detail, format!("dated {}", words(date)), !input.date.typed);
    let layers: Vec<_> = issued.iter().map(|one| (one.layer, one.quantity.scaled(), one.cost)).collect();
    let quantities = (input.quantity.scaled(), input.sent_quantity.scaled());
    SwapDecision {
        fingerprint: fingerprint::of(&(&input.billed.code, &input.sent.code, date, quantities, &layers, &entry)),
        right_cost,
        sent_cost,
        issued,
        entry,
        tape,
        blockers: findings.finish(),
    }
}

fn check(input: &SwapInput<'_>, findings: &mut Findings) {
    let date = input.date.date;
    if let Some(obstacle) = input.periods.obstacle(date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("correction", date, "date", findings);
    let billed = &input.billed;
    if billed.item == input.sent.item {
        let sentence = format!("{} is what was billed. Choose the item that really went.", billed.code);
        findings.add(Check::NothingToDo, "item", sentence);
    }
    for (quantity, field) in [(input.quantity, "quantity"), (input.sent_quantity, "sent_quantity")] {
        if !quantity.is_positive() {
            findings.add(Check::QuantityNotPositive, field, "More than zero.");
        }
    }
    let most = free(billed.billed, billed.credited, billed.on_returns);
    if input.quantity > most {
        let sentence = format!("{most} {} of {} can be corrected: no more was billed.", billed.unit, billed.code);
        findings.add(Check::MoreThanReturnable, "quantity", sentence);
    } else if room_from(date, &billed.with_customer) < input.quantity.scaled() {
        let when = first_day(input.quantity.scaled(), &billed.with_customer)
            .map_or_else(String::new, |day| format!(" Choose {} or later.", words(day)));
        let sentence = format!("On {} the customer did not have so much of {}.{when}", words(date), billed.code);
        findings.add(Check::DateTooEarly, "date", sentence);
    }
}
