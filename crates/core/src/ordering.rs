//! Entering and confirming orders: prices, tax, availability and everything that stands in the
//! way, before anything is saved.
//!
//! [`decide`] serves the order as it is typed, a quote, the confirmation and a change of an open
//! order alike. *Source: domain.md sections 5 and 6. An order writes nothing to the ledger:
//! common practice, no source.*

mod checking;
mod taping;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::AccountMap;
use crate::checks::{Blocker, Check, Effect, Findings, Step};
use crate::exposure::Exposure;
use crate::fixed::{ExchangeRate, Quantity, Rate, UnitPrice};
use crate::ids::ItemId;
use crate::invoice::{CustomerFacts, ItemKind};
use crate::marks::{MarkRules, Marks};
use crate::money::{Currency, Money, line_total_less, too_large};
use crate::order::LineProgress;
use crate::pricing::{PriceBuild, PriceInput, Typed, build, offs};
use crate::tape::{Change, Figure, Tape};
use crate::tax::{TaxComputed, TaxLine, TaxRate, TaxTable, compute, compute_gross};
use crate::terms::Terms;
use crate::treatment::{Taxed, TreatmentCodes};
use crate::units::{can_go, in_stock_units};

/// The largest quantity and the highest price a line may carry; keeps every product exact.
pub const LARGEST_QUANTITY: Quantity = Quantity::from_whole(100_000_000);
/// The highest price of a unit.
pub const HIGHEST_PRICE: UnitPrice = UnitPrice::from_whole(100_000_000);

/// An item as an order needs it.
#[derive(Debug, Clone)]
pub struct ItemFacts {
    /// Its id.
    pub id: ItemId,
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: ItemKind,
    /// Its class, for the account map.
    pub class: String,
    /// Its stock unit.
    pub unit: String,
    /// Other units it is sold in, with stock units in one of them.
    pub units: Vec<(String, Quantity)>,
    /// Its tax code.
    pub tax_code: String,
    /// The least quantity, in stock units.
    pub minimum: Quantity,
    /// Quantities are multiples of it, in stock units.
    pub step: Quantity,
    /// How much more than ordered may leave, a fraction of one.
    pub over: Rate,
    /// Whether it is still sold.
    pub active: bool,
}

impl ItemFacts {
    /// Stock units in one of a unit it is sold in.
    pub fn factor(&self, unit: &str) -> Option<Quantity> {
        if unit == self.unit {
            return Some(Quantity::ONE);
        }
        self.units.iter().find(|(known, _)| known == unit).map(|(_, factor)| *factor)
    }
}

/// What there is of an item where a line is to leave from, in stock units.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StockFacts {
    /// The warehouse.
    pub warehouse: String,
    /// Whether its stock is kept in these books.
    pub counted: bool,
    /// What lies there.
    pub on_hand: Quantity,
    /// What is reserved for order lines, this one left out.
    pub committed: Quantity,
    /// What is on its way in.
    pub expected: Quantity,
    /// When the next of it comes.
    pub expected_on: Option<NaiveDate>,
    /// What is free in other warehouses.
    pub elsewhere: Vec<Elsewhere>,
}

/// What is free in another warehouse.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Elsewhere {
    /// The warehouse.
    pub warehouse: String,
    /// In stock units.
    pub available: Quantity,
}

impl StockFacts {
    /// On hand and not reserved for others.
    pub fn available(&self) -> Quantity {
        Quantity::from_scaled((self.on_hand.scaled() - self.committed.scaled()).max(0))
    }
}

/// A tax code that someone chose instead of what would have come.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TaxChoice {
    /// The code.
    pub code: String,
    /// Why.
    pub reason: String,
}

/// A line as wished for.
#[derive(Debug, Clone)]
pub struct LineWish {
    /// What.
    pub item: ItemFacts,
    /// The words on the document.
    pub description: String,
    /// How much, in `unit`.
    pub quantity: Quantity,
    /// The unit sold.
    pub unit: String,
    /// What its price is made from.
    pub price: PriceInput,
    /// A price that stands already: of a line that has shipped in part.
    pub kept: Option<PriceBuild>,
    /// Another tax code.
    pub tax: Option<TaxChoice>,
    /// What there is.
    pub stock: StockFacts,
    /// How far it has come, where it is on an order already.
    pub progress: Option<LineProgress>,
    /// What of it stands on shipments that are not posted.
    pub on_the_way_out: Quantity,
    /// Own fields and reporting codes of the line alone.
    pub marks: Marks,
    /// What the call-off has left of it, in stock units, and the call-off's number.
    pub call_off: Option<(String, Quantity)>,
}

/// Above which amounts whoever confirms an order has to ask, in base currency; none for no limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ConfirmLimits {
    /// Of its total, with tax.
    pub total: Option<Money>,
    /// Of what typed prices and discounts give away.
    pub given_away: Option<Money>,
}

/// An order as wished for, with everything needed to decide on it.
#[derive(Debug, Clone)]
pub struct OrderInput<'a> {
    /// Its number, or “new order”.
    pub name: String,
    /// Whose.
    pub customer: CustomerFacts,
    /// What the customer could leave us without, this order left out.
    pub exposure: Exposure,
    /// The name of where it goes.
    pub ship_to: String,
    /// How that is taxed.
    pub taxed: Taxed,
    /// The countries of an address typed once and of the ship-to it stands beside, where they differ.
    pub elsewhere: Option<(String, String)>,
    /// The number the customer gave it.
    pub customer_order_number: Option<String>,
    /// The day its prices and taxes are of.
    pub date: NaiveDate,
    /// Its terms.
    pub terms: Terms,
    /// Its currency.
    pub currency: Currency,
    /// Base per unit of it.
    pub rate: Option<ExchangeRate>,
    /// Base currency.
    pub base: Currency,
    /// Its lines.
    pub lines: Vec<LineWish>,
    /// Own fields and reporting codes of the order.
    pub marks: Marks,
    /// Whether its prices carry the tax.
    pub gross_priced: bool,
    /// Whether it is an offer: nothing is committed yet.
    pub quote: bool,
    /// Above which amounts whoever confirms it has to ask.
    pub limits: ConfirmLimits,
    /// Own fields and reporting lists of the company.
    pub mark_rules: &'a MarkRules,
    /// Which code a treatment leads to.
    pub treatments: &'a TreatmentCodes,
    /// Tax codes.
    pub taxes: &'a TaxTable,
    /// Per document or per line.
    pub tax_computed: TaxComputed,
    /// The account map.
    pub accounts: &'a AccountMap,
}

/// A line as it will stand on the order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PricedLine {
    /// The item.
    pub item: ItemId,
    /// Its code.
    pub code: String,
    /// Its words.
    pub description: String,
    /// What it is.
    pub kind: ItemKind,
    /// How much.
    pub quantity: Quantity,
    /// The unit sold.
    pub unit: String,
    /// Stock units in one of it.
    pub factor: Quantity,
    /// Its price, where it could be made.
    pub price: Option<PriceBuild>,
    /// Its tax.
    pub tax: TaxRate,
    /// Where the tax code comes from, in words.
    pub tax_source: String,
    /// The line's amount as priced: its net, or with tax where prices carry it.
    pub amount: Money,
    /// Line net.
    pub net: Money,
    /// What a typed price or discount takes off what would have been agreed, as priced.
    pub given_away: Money,
    /// What there is of it.
    pub stock: Option<StockFacts>,
    /// What of it can be reserved now, in `unit`.
    pub can_go: Quantity,
    /// What will be on back order, in `unit`.
    pub short: Quantity,
    /// How much more than ordered may leave.
    pub over: Quantity,
}

/// What an order comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OrderDecision {
    /// Its lines.
    pub lines: Vec<PricedLine>,
    /// Tax by code.
    pub taxes: Vec<TaxLine>,
    /// Sum of the line nets.
    pub net: Money,
    /// Sum of the tax.
    pub tax: Money,
    /// Net and tax.
    pub total: Money,
    /// The total in base currency.
    pub total_base: Money,
    /// What typed prices and discounts give away against what would have been agreed, in base currency.
    pub given_away: Money,
    /// The arithmetic.
    pub tape: Tape,
    /// What confirming it changes.
    pub changes: Vec<Change>,
    /// What stands in the way of confirming it.
    pub blockers: Vec<Blocker>,
}

/// Decides on an order. Never fails: what is wrong stands among the blockers, and the rest is
/// computed as far as it can be, so that the order can be shown while it is typed.
pub fn decide(input: &OrderInput<'_>) -> OrderDecision {
    let mut findings = Findings::at(Step::Confirm);
    if input.lines.is_empty() {
        findings.add(Check::NothingToDo, "lines", "An order needs at least one line. Type an item.");
    }
    let mut lines: Vec<PricedLine> = (0..input.lines.len()).map(|at| line(input, at, &mut findings)).collect();
    let priced: Vec<(TaxRate, Money)> = lines.iter().map(|line| (line.tax.clone(), line.amount)).collect();
    let taxes = if input.gross_priced {
        let (taxes, nets) = compute_gross(&priced);
        for (line, net) in lines.iter_mut().zip(nets) {
            line.net = net;
        }
        taxes
    } else {
        compute(input.tax_computed, &priced)
    };
    let net: Money = lines.iter().map(|line| line.net).sum();
    let tax: Money = taxes.iter().map(|line| line.tax).sum();
    let total = net + tax;
    // Without a rate it cannot be told, and the order is not confirmed: it never counts as one for one.
    let to_base =
        |amount: Money| input.rate.map_or(Money::ZERO, |rate| amount.to_base(rate, input.currency, input.base));
    let total_base = to_base(total);
    let given_away = to_base(lines.iter().map(|line| line.given_away).sum());
    let to_ship = to_ship_base(input, &lines, total_base);
    let largest = lines.iter().map(|line| line.amount.abs()).chain([total.abs(), total_base.abs()]).max();
    if let Some(sentence) = largest.and_then(too_large) {
        findings.add(Check::AmountTooLarge, "lines", sentence);
    }
    checking::check_order(input, (total_base, given_away, to_ship), &mut findings);
    let mut decision = OrderDecision {
        tape: Tape::new(input.customer.name.clone(), input.name.clone(), input.currency),
        changes: changes(input, &lines, to_ship),
        blockers: findings.finish(),
        lines,
        taxes,
        net,
        tax,
        total,
        total_base,
        given_away,
    };
    decision.tape = taping::tape(input, &decision);
    decision
}

/// What of an amendment someone has to approve: what it gives away where that is more than before, and anything else
/// where it comes to more. What was allowed stands.
pub fn asked_of_amendment<'a>(before: &OrderDecision, after: &'a OrderDecision) -> Vec<&'a Blocker> {
    let asks = after.blockers.iter().filter(|blocker| blocker.effect == Effect::Asks);
    asks.filter(|blocker| match blocker.check {
        Check::PriceGivenAway => after.given_away > before.given_away,
        _ => after.total > before.total,
    })
    .collect()
}

/// Promotions in the prices of an order that do not run on the day it is confirmed.
pub fn ended_promotions(input: &OrderInput<'_>, today: NaiveDate) -> Vec<Blocker> {
    let mut findings = Findings::at(Step::Confirm);
    for (at, wish) in input.lines.iter().enumerate() {
        let Some(code) = wish.kept.as_ref().and_then(|kept| kept.promotion.as_ref()) else { continue };
        let gone = wish.progress.is_some_and(|progress| progress.shipped.is_positive());
        if let Some(found) = wish.price.promotions.iter().find(|promotion| promotion.code == *code)
            && !found.runs(today)
            && !gone
        {
            findings.add(
                Check::PriceNotMade,
                format!("lines.{at}.promotion"),
                format!(
                    "{} ended on {}. Make the prices of this order anew, or agree on one.",
                    found.name,
                    crate::calendar::words(found.last)
                ),
            );
        }
    }
    findings.finish()
}

fn line(input: &OrderInput<'_>, at: usize, findings: &mut Findings) -> PricedLine {
    let wish = &input.lines[at];
    let factor = wish.item.factor(&wish.unit).unwrap_or(Quantity::ONE);
    checking::check_line(input, at, findings);
    let (tax, tax_source) = checking::tax_of(input, at, findings);
    let carried = input.gross_priced.then_some(tax.rate);
    let price = match &wish.kept {
        Some(kept) => Some(requantified(kept, wish, input.currency)),
        None => match build(&PriceInput { factor, tax: carried, ..wish.price.clone() }) {
            Ok(price) => Some(price),
            Err(fault) => {
                findings.add(Check::PriceNotMade, format!("lines.{at}.{}", fault.field), fault.sentence);
                None
            }
        },
    };
    let given_away = price.as_ref().map_or(Money::ZERO, |price| given_away(&wish.price, (factor, carried), price.net));
    checking::check_given_away(wish, at, (price.as_ref(), given_away), findings);
    let stocked = wish.item.kind == ItemKind::Goods && wish.stock.counted;
    let open = open_quantity(wish);
    let can_go = if stocked { can_go(open, wish.stock.available(), factor, wish.item.step) } else { open };
    let short = Quantity::from_scaled(open.scaled() - can_go.scaled());
    if short.is_positive() {
        findings.add(Check::StockShort, format!("lines.{at}.quantity"), shortage(wish, factor, can_go, short));
    }
    PricedLine {
        item: wish.item.id,
        code: wish.item.code.clone(),
        description: wish.description.clone(),
        kind: wish.item.kind,
        quantity: wish.quantity,
        unit: wish.unit.clone(),
        factor,
        amount: price.as_ref().map_or(Money::ZERO, |price| price.net),
        net: price.as_ref().map_or(Money::ZERO, |price| price.net),
        price,
        given_away,
        tax,
        tax_source,
        stock: (wish.item.kind == ItemKind::Goods).then(|| wish.stock.clone()),
        can_go,
        short,
        over: over_tolerance(wish.quantity, wish.item.over),
    }
}

/// What a typed price or discount takes off the line, against the price that would have come: list, price list,
/// call-off, break and promotion. Nothing where it takes nothing off, or there would be no price.
/// *Source: docs/rules.md; common practice, no source.*
fn given_away(price: &PriceInput, (factor, tax): (Quantity, Option<Rate>), net: Money) -> Money {
    if price.typed.unit_price.is_none() && price.typed.discount.is_none_or(Rate::is_zero) {
        return Money::ZERO;
    }
    let promotion = price.typed.promotion.clone();
    let agreed = PriceInput { typed: Typed { promotion, ..Typed::default() }, factor, tax, ..price.clone() };
    let ended = || build(&PriceInput { typed: Typed::default(), ..agreed.clone() });
    build(&agreed).or_else(|_| ended()).map_or(Money::ZERO, |would_be| (would_be.net - net).max(Money::ZERO))
}

/// What of a line is still to leave.
fn open_quantity(wish: &LineWish) -> Quantity {
    let gone = wish.progress.map_or(0, |progress| progress.shipped.scaled() + progress.cancelled.scaled());
    Quantity::from_scaled((wish.quantity.scaled() - gone).max(0))
}

/// A price that stands, over another quantity.
fn requantified(kept: &PriceBuild, wish: &LineWish, currency: Currency) -> PriceBuild {
    let offs = offs(kept.discount, &kept.steps);
    let amounts = line_total_less(wish.quantity, kept.unit_price, &offs, kept.surcharge, currency);
    PriceBuild { full: amounts.full, net: amounts.net, ..kept.clone() }
}

/// What of an order is still to leave, with tax, in base currency: what has shipped or was billed is exposed
/// already, whichever order is asked about.
fn to_ship_base(input: &OrderInput<'_>, lines: &[PricedLine], total_base: Money) -> Money {
    if input.lines.iter().all(|wish| wish.progress.is_none()) {
        return total_base;
    }
    let Some(rate) = input.rate else { return Money::ZERO };
    let open = input.lines.iter().zip(lines).map(|(wish, line)| {
        let amount = match open_quantity(wish) {
            open if open == wish.quantity => line.amount,
            open => line.amount.share(open.scaled(), wish.quantity.scaled().max(1)),
        };
        let with_tax = if input.gross_priced { amount } else { amount.with_tax(line.tax.rate) };
        with_tax.to_base(rate, input.currency, input.base)
    });
    open.sum()
}

/// How much more than a quantity may leave, cut down to 4 places.
pub fn over_tolerance(quantity: Quantity, over: Rate) -> Quantity {
    let scaled = i128::from(quantity.scaled()) * i128::from(over.scaled()) / Rate::scale();
    Quantity::from_scaled(i64::try_from(scaled).unwrap_or(0).max(0))
}

/// What is short, what there is elsewhere, and when more comes.
fn shortage(wish: &LineWish, factor: Quantity, can_go: Quantity, short: Quantity) -> String {
    let stock = &wish.stock;
    let mut sentence = format!(
        "{} on hand in {}, {} reserved for others: {can_go} {} can go, {short} will be on back order.",
        stock.on_hand, stock.warehouse, stock.committed, wish.unit
    );
    if let Some(on) = stock.expected_on {
        sentence.push_str(&format!(" {} expected, the next on {}.", stock.expected, crate::calendar::words(on)));
    }
    let wanted = in_stock_units(short, factor).unwrap_or(short);
    if let Some(other) = stock.elsewhere.iter().find(|other| other.available >= wanted) {
        sentence.push_str(&format!(" {} has {} free.", other.warehouse, other.available));
    }
    sentence
}

fn changes(input: &OrderInput<'_>, lines: &[PricedLine], to_ship: Money) -> Vec<Change> {
    if input.quote {
        return Vec::new();
    }
    let after = input.exposure.with_order(to_ship);
    let money = |amount| Figure::money(amount);
    let mut changes = vec![Change {
        label: "Exposure".to_owned(),
        before: Some(money(input.exposure.total())),
        after: money(after.total()),
    }];
    if let Some(limit) = input.customer.credit_limit {
        changes.push(Change {
            label: "Credit left".to_owned(),
            before: Some(money(limit - input.exposure.total())),
            after: money(limit - after.total()),
        });
    }
    for line in lines {
        let (Some(stock), true) = (&line.stock, line.can_go.is_positive()) else { continue };
        let going = in_stock_units(line.can_go, line.factor).unwrap_or(line.can_go);
        if stock.counted {
            changes.push(Change {
                label: format!("{} available", line.code),
                before: Some(Figure::words(stock.available().to_string())),
                after: Figure::words(Quantity::from_scaled(stock.available().scaled() - going.scaled()).to_string()),
            });
        }
    }
    changes
}
