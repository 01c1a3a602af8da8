//! What an order asks for in advance: a share of its lines, or an amount spread over them.
//!
//! Each line is in or out. Its percentage is the one someone set for it, else the item's own (a special order half, work
//! never), else the order's, else the customer's usual one. A percentage is of the line as it is wanted now: raising it
//! asks for the difference, lowering it gives the difference to credit. An amount is asked for on top of what was, net or
//! with tax, and spread over the lines that are in by what may still be asked of each. *Source: domain.md section 8.*
//!
//! ```
//! use till_core::prepayment::asking::{AskAs, AskLine, Wish, ask};
//! use till_core::money::Money;
//! let line = AskLine::example(Money(240_000));
//! let asked = ask(&Wish { percent: Some("0.25".parse().unwrap()), ..Wish::default() }, &[line], false);
//! // postings.md: 25 % of net 2,400.00.
//! assert_eq!(asked[0].now, Money(60_000));
//! ```

use serde::{Deserialize, Serialize};

use super::Asks;
use crate::accounts::Account;
use crate::checks::{Check, Findings};
use crate::fixed::{Quantity, Rate, UnitPrice};
use crate::ids::{DocumentRef, OrderLineId};
use crate::invoice::{InvoiceDocument, ItemKind, LineSource, LineToBill};
use crate::money::{Currency, Money};
use crate::order::OrderState;
use crate::spread::spread;
use crate::tax::{TaxCategory, TaxRate};

/// How an amount in advance is asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum AskAs {
    /// A share of each line that is in.
    #[default]
    Percent,
    /// An amount without tax, spread over the lines that are in.
    Net,
    /// An amount with tax, spread likewise.
    Gross,
}

/// What someone set for a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct LineWish {
    /// In or out; none for what comes by itself.
    pub included: Option<bool>,
    /// Its own share; none for what comes by itself.
    pub percent: Option<Rate>,
}

/// What is wished for of an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Wish {
    /// A share, or an amount.
    pub ask_as: AskAs,
    /// The share for the order; none for the customer's usual one.
    pub percent: Option<Rate>,
    /// The customer's usual share; none where there is none.
    pub usual: Option<Rate>,
    /// The amount, in the order's currency, where one is asked for.
    pub amount: Money,
}

/// Where the percentage of a line comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum PercentFrom {
    /// Set for the line.
    Line,
    /// The item brings its own.
    Item,
    /// Set for the order.
    Order,
    /// The customer's usual one.
    Customer,
}

/// An order line as asking needs to know it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AskLine {
    /// The order line.
    pub order_line: OrderLineId,
    /// The item's code.
    pub code: String,
    /// What kind of item.
    pub kind: ItemKind,
    /// Ordered less what was canceled, in the unit sold.
    pub wanted: Quantity,
    /// What of it is billed.
    pub billed: Quantity,
    /// What of it was billed before anything was asked in advance; what is billed where nothing was.
    pub billed_before: Quantity,
    /// What the wanted quantity comes to, as the order is priced, in its currency.
    pub amount: Money,
    /// Its tax code with the rate of the day.
    pub tax: TaxRate,
    /// The share the item brings.
    pub item_percent: Option<Rate>,
    /// What someone set for the line.
    pub wish: LineWish,
    /// What was asked for before, less what was credited, as the order is priced.
    pub before: Money,
    /// What of that invoices used.
    pub used: Money,
    /// What is to be credited because part of the line was canceled, as the order is priced.
    pub to_credit: Money,
}

impl AskLine {
    /// Ten pieces of goods taxed at 23 %, nothing asked yet: for examples and tests.
    pub fn example(amount: Money) -> Self {
        Self {
            order_line: OrderLineId(1),
            code: "HIVE".to_owned(),
            kind: ItemKind::Goods,
            wanted: Quantity::from_whole(10),
            billed: Quantity::ZERO,
            billed_before: Quantity::ZERO,
            amount,
            tax: TaxRate {
                code: "S23".to_owned(),
                category: TaxCategory::S,
                rate: Rate::from_percent("23").unwrap_or(Rate::ZERO),
            },
            item_percent: None,
            wish: LineWish::default(),
            before: Money::ZERO,
            used: Money::ZERO,
            to_credit: Money::ZERO,
        }
    }

    /// What of the line may be asked for in advance at all: what was not billed before.
    fn base(&self) -> Money {
        let left = self.wanted.scaled() - self.billed_before.scaled();
        self.amount.share(left.max(0), self.wanted.scaled())
    }

    /// What may still be asked for: what is left to bill, less what is prepaid of it.
    fn room(&self) -> Money {
        let left = self.wanted.scaled() - self.billed.scaled();
        let unbilled = self.amount.share(left.max(0), self.wanted.scaled());
        (unbilled - (self.before - self.used)).max(Money::ZERO)
    }

    /// Returnable packaging is owed back: nothing is asked for it in advance.
    fn can_ask(&self) -> bool {
        self.kind != ItemKind::Packaging && self.amount.is_positive()
    }

    fn percent(&self, wish: &Wish) -> (Option<Rate>, PercentFrom) {
        let own = self.wish.percent.map(|percent| (percent, PercentFrom::Line));
        let items = || self.item_percent.map(|percent| (percent, PercentFrom::Item));
        let orders = || wish.percent.map(|percent| (percent, PercentFrom::Order));
        match own.or_else(items).or_else(orders) {
            Some((percent, from)) => (Some(percent), from),
            None => (wish.usual, PercentFrom::Customer),
        }
    }

    fn included(&self, wish: &Wish) -> bool {
        let never = self.item_percent.is_some_and(Rate::is_zero) && self.wish.percent.is_none();
        let by_itself = match wish.ask_as {
            AskAs::Percent => !never,
            AskAs::Net | AskAs::Gross => !never && self.room().is_positive(),
        };
        self.can_ask() && self.wish.included.unwrap_or(by_itself)
    }
}

/// What a line asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Asked {
    /// The order line.
    pub order_line: OrderLineId,
    /// Whether it is in.
    pub included: bool,
    /// Its share; none where an amount is asked for, or nobody set one.
    pub percent: Option<Rate>,
    /// Where that comes from.
    pub from: PercentFrom,
    /// What may be asked for in advance of it, as the order is priced.
    pub of: Money,
    /// What may still be asked for, as the order is priced.
    pub room: Money,
    /// What is asked for now, on top of what was: as the document is priced.
    pub now: Money,
    /// What is asked for less than it was: to be credited, as the order is priced.
    pub lower: Money,
    /// What its line on the document keeps.
    pub asks: Asks,
}

/// What each line asks for, in their order. `gross_priced` says whether the order's prices carry the tax; an amount
/// asked with tax gives amounts with tax, one asked net gives nets.
pub fn ask(wish: &Wish, lines: &[AskLine], gross_priced: bool) -> Vec<Asked> {
    let amounts = match wish.ask_as {
        AskAs::Percent => None,
        AskAs::Net | AskAs::Gross => Some(spread_over(wish, lines, gross_priced)),
    };
    lines
        .iter()
        .enumerate()
        .map(|(at, line)| {
            let included = line.included(wish);
            let (percent, from) = if amounts.is_some() { (None, PercentFrom::Order) } else { line.percent(wish) };
            let target = line.base().times_rate(percent.unwrap_or(Rate::ZERO));
            let moved = if included && percent.is_some() { target - line.before } else { Money::ZERO };
            let now = match &amounts {
                Some(amounts) => amounts[at],
                None => moved.max(Money::ZERO).min(line.room()),
            };
            // What is used is not given back; what was canceled goes back whatever is asked for.
            let lowered = (-moved).max(Money::ZERO).min(line.before - line.used);
            Asked {
                order_line: line.order_line,
                included,
                percent: percent.filter(|_| included),
                from,
                of: line.base(),
                room: line.room(),
                now: if included { now } else { Money::ZERO },
                lower: lowered.max(line.to_credit),
                asks: Asks {
                    percent: percent.filter(|_| included),
                    of: line.base(),
                    before: line.before,
                    used: line.used,
                    asked_on: line.wanted,
                    billed_before: line.billed,
                },
            }
        })
        .collect()
}

/// An amount spread over the lines that are in, by what may still be asked for of each.
fn spread_over(wish: &Wish, lines: &[AskLine], gross_priced: bool) -> Vec<Money> {
    let weights: Vec<i64> = lines.iter().map(|line| room_as(wish.ask_as, line, gross_priced).0).collect();
    let all: Vec<i64> =
        lines.iter().zip(&weights).map(|(line, room)| if line.included(wish) { *room } else { 0 }).collect();
    if all.iter().all(|weight| *weight == 0) {
        return vec![Money::ZERO; lines.len()];
    }
    spread(wish.amount, &all)
}

/// What may still be asked for of a line, as the amount is said.
fn room_as(ask_as: AskAs, line: &AskLine, gross_priced: bool) -> Money {
    match (ask_as, gross_priced) {
        (AskAs::Gross, false) => line.room().with_tax(line.tax.rate),
        (AskAs::Net, true) => line.room().without(line.tax.rate),
        _ => line.room(),
    }
}

/// Whether the document that asks is priced with tax: as its order, unless an amount says otherwise.
pub const fn document_gross_priced(ask_as: AskAs, gross_priced: bool) -> bool {
    match ask_as {
        AskAs::Percent => gross_priced,
        AskAs::Net => false,
        AskAs::Gross => true,
    }
}

/// What is wrong with what is asked for.
pub fn check(
    wish: &Wish,
    (lines, gross_priced): (&[AskLine], bool),
    (order, currency): (&str, Currency),
    findings: &mut Findings,
) {
    let allowed = |percent: Rate| percent >= Rate::ZERO && percent <= Rate::ONE;
    if wish.percent.is_some_and(|percent| !allowed(percent)) {
        findings.add(Check::AdvancePercent, "percent", "Enter a percentage from 0 to 100.");
    }
    for (at, line) in lines.iter().enumerate() {
        if line.wish.percent.is_some_and(|percent| !allowed(percent)) {
            let sentence = format!("Enter a percentage from 0 to 100 for {}.", line.code);
            findings.add(Check::AdvancePercent, format!("lines.{at}.percent"), sentence);
        }
        if line.wish.included == Some(true) && line.kind == ItemKind::Packaging {
            let sentence = format!("{} is owed back: nothing is billed for it in advance.", line.code);
            findings.add(Check::AdvancePercent, format!("lines.{at}.included"), sentence);
        }
    }
    if wish.ask_as == AskAs::Percent {
        return;
    }
    let room: Money =
        lines.iter().filter(|line| line.included(wish)).map(|line| room_as(wish.ask_as, line, gross_priced)).sum();
    if !wish.amount.is_positive() {
        findings.add(Check::AmountNotPositive, "amount", "Enter an amount above zero.");
    } else if wish.amount > room {
        let with = if wish.ask_as == AskAs::Gross { "with tax" } else { "without tax" };
        let sentence = format!(
            "The lines of {order} that are in have {} {with} left to bill. Ask for that at most.",
            currency.grouped(room)
        );
        findings.add(Check::MoreThanOrder, "amount", sentence);
    }
}

/// An order is billed in advance once it is confirmed, and while something of it is left.
pub fn check_state(state: OrderState, order: &DocumentRef, findings: &mut Findings) {
    let sentence = match state {
        OrderState::Draft => format!("{} is a draft. Confirm it before it is billed in advance.", order.number),
        OrderState::Closed => format!("{} is closed: nothing is left to bill in advance.", order.number),
        OrderState::Open | OrderState::Filled => return,
    };
    findings.add_at(Check::NothingToDo, "order", sentence, Some(order.clone()));
}

/// Something is to be asked for: a document over nothing is not made.
pub fn check_some(asked: &[Asked], findings: &mut Findings) {
    if asked.iter().any(|asked| asked.now.is_positive()) {
        return;
    }
    let sentence = match asked.iter().any(|asked| asked.lower.is_positive()) {
        true => "Less is asked for than was billed in advance: credit the difference.",
        false => "Nothing more is asked for. Enter a percentage or an amount, and choose lines.",
    };
    findings.add(Check::NothingToDo, "percent", sentence);
}

/// Why the money for a request cannot make it the prepayment invoice it asked for: the order asks for something else
/// since. `sent` is the document as it was sent, `now` as it would be today; nothing where they ask alike.
pub fn asks_otherwise(sent: &InvoiceDocument, now: &InvoiceDocument, (order, request): (&str, &str)) -> Option<String> {
    if (now.total, now.net) == (sent.total, sent.net) {
        return None;
    }
    let total = now.currency.grouped(now.total);
    Some(format!(
        "{order} asks for something else since {request} was sent: {total} {}. Withdraw it and ask anew, or take the money as a deposit.",
        now.currency
    ))
}

impl Asked {
    /// The line of the document that asks: one piece at what is asked now. `line` is the order line as it is billed
    /// otherwise, `account` where money in advance stands.
    pub fn to_bill(&self, line: LineToBill, account: Option<Account>, currency: Currency) -> LineToBill {
        let (Some(order), Some(order_number)) = (line.source.order(), line.source.order_number()) else { return line };
        let source = LineSource::Prepaid {
            order,
            order_number: order_number.to_owned(),
            customer_order_number: line.source.customer_order_number().map(str::to_owned),
            in_advance_of: self.order_line,
            asks: self.asks.clone(),
        };
        let price = self.now.as_price(currency);
        LineToBill {
            source,
            account,
            quantity: Quantity::from_whole(1),
            unbilled: Quantity::from_whole(1),
            unit: String::new(),
            unit_price: price,
            list_price: price,
            discount: Rate::ZERO,
            discount_reason: None,
            surcharge: UnitPrice::ZERO,
            surcharge_name: None,
            price_steps: Vec::new(),
            price_change: None,
            tax_date: None,
            held_cost: None,
            leaves: None,
            billable: Vec::new(),
            faults: Vec::new(),
            ..line
        }
    }
}
