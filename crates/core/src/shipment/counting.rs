//! Goods that come in, and stock that a count found to differ. *Source: postings.md, Goods.*

use chrono::NaiveDate;

use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{Periods, words};
use crate::checks::{Blocker, Check, Findings, Step, stops};
use crate::entry::{EntryBuilder, LineFor};
use crate::fixed::{Quantity, Rate, UnitPrice};
use crate::ids::ItemId;
use crate::money::{Currency, Money};
use crate::posting::{MovedWith, NewLayer, Posting, StockMove};
use crate::stock::{Layer, issue};

/// An intake to decide on.
#[derive(Debug, Clone)]
pub struct IntakeInput<'a> {
    /// The item.
    pub item: ItemId,
    /// Where it comes in.
    pub warehouse: String,
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

/// What an intake does to the books, or what stands in the way.
///
/// # Errors
/// The blockers of the step.
pub fn decide_intake(input: &IntakeInput<'_>) -> Result<Posting, Vec<Blocker>> {
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
    let mut builder = EntryBuilder::new(input.accounts, None, input.base);
    let class = || LineFor { item_class: Some(&input.class), ..LineFor::default() };
    builder.add_base(Purpose::Inventory, input.cost, class());
    builder.add_base(Purpose::SupplierClearing, -input.cost, LineFor::default());
    let text = format!("Goods received, {} × {}", input.quantity, input.code);
    let entry = builder.finish_or_say(input.date, text, &mut findings);
    let blockers = findings.finish();
    if stops(&blockers) {
        return Err(blockers);
    }
    let mut posting = Posting::default();
    posting.enter(entry, None);
    posting.layers.push(NewLayer {
        item: input.item,
        warehouse: input.warehouse.clone(),
        date: input.date,
        quantity: input.quantity,
        cost: input.cost,
        step: None,
    });
    Ok(posting)
}

/// Stock that a count found to differ.
#[derive(Debug, Clone)]
pub struct AdjustInput<'a> {
    /// The item.
    pub item: ItemId,
    /// Where it was counted.
    pub warehouse: String,
    /// Class of the item.
    pub class: String,
    /// Its code.
    pub code: String,
    /// What the count found more, or less (negative), in stock units.
    pub difference: Quantity,
    /// What one of what was found costs, in base currency; where less was found, the layers say.
    pub unit_cost: UnitPrice,
    /// Its layers in the warehouse, oldest first.
    pub layers: Vec<Layer>,
    /// When.
    pub date: NaiveDate,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
    /// Base currency.
    pub base: Currency,
}

/// What putting stock right does.
#[derive(Debug, Clone)]
pub struct AdjustDecision {
    /// What it does to the books; no entry where what was found or lost is worth nothing.
    pub posting: Posting,
    /// What it is worth: negative where less was found.
    pub cost: Money,
}

/// Decides on putting stock right. *Source: postings.md, Goods: Dr 73000, Cr 11000.*
///
/// # Errors
/// The blockers.
pub fn decide_adjustment(input: &AdjustInput<'_>) -> Result<AdjustDecision, Vec<Blocker>> {
    let mut findings = Findings::at(Step::Ship);
    if input.difference.is_zero() {
        findings.add(
            Check::QuantityNotPositive,
            "counted",
            "The count is what the books say. There is nothing to adjust.",
        );
    }
    if input.unit_cost < UnitPrice::ZERO {
        findings.add(Check::QuantityNotPositive, "unit_cost", "Cost cannot be below zero.");
    }
    if let Some(obstacle) = input.periods.obstacle(input.date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    let mut issues = Vec::new();
    let cost = if input.difference.is_positive() {
        crate::money::line_amounts(input.difference, input.unit_cost, Rate::ZERO, input.base).net
    } else {
        let mut layers = input.layers.clone();
        match issue(&mut layers, Quantity::from_scaled(-input.difference.scaled()), input.date) {
            Ok(found) => issues = found,
            Err(shortage) => findings.add(
                Check::StockShort,
                "counted",
                format!(
                    "On {} the books have {} of {} that nothing else needs; no more than that can be missing.",
                    words(input.date),
                    shortage.on_hand,
                    input.code
                ),
            ),
        }
        -issues.iter().map(|issue| issue.cost).sum::<Money>()
    };
    let mut builder = EntryBuilder::new(input.accounts, None, input.base);
    let class = || LineFor { item_class: Some(&input.class), ..LineFor::default() };
    builder.add_base(Purpose::Inventory, cost, class());
    builder.add_base(Purpose::StockAdjustment, -cost, class());
    let text = format!("{} of {} at the count", input.difference, input.code);
    let entry = builder.finish_or_say(input.date, text, &mut findings);
    let blockers = findings.finish();
    if stops(&blockers) {
        return Err(blockers);
    }
    let mut posting = Posting::default();
    posting.enter(entry, None);
    posting.stock.extend(StockMove::out(&issues, input.date, MovedWith::Count));
    if input.difference.is_positive() {
        posting.layers.push(NewLayer {
            item: input.item,
            warehouse: input.warehouse.clone(),
            date: input.date,
            quantity: input.difference,
            cost,
            step: None,
        });
    }
    Ok(AdjustDecision { posting, cost })
}
