//! The price of a line, built in visible steps.
//!
//! List price → price list of the customer, or the price of a call-off → quantity break → dated
//! promotion → line discount → surcharge. Each step keeps its source. A price that someone typed,
//! or that a call-off agreed, stands as it is: breaks and promotions are not taken off it.
//! *Source: domain.md section 5; that percentages follow one another, each off what the one
//! before left, is common practice, no source.*
//!
//! ```
//! use till_core::money::{Currency, Money};
//! use till_core::pricing::{PriceInput, QuantityBreak, Typed, build};
//! let euro = Currency::of("EUR").unwrap();
//! let from_twenty = QuantityBreak {
//!     from: "20".parse().unwrap(),
//!     off: "0.05".parse().unwrap(),
//!     source: "20 and over".to_owned(),
//! };
//! let input = PriceInput {
//!     code: "HB-12".to_owned(),
//!     quantity: "40".parse().unwrap(),
//!     factor: "1".parse().unwrap(),
//!     list: "32.50".parse().unwrap(),
//!     base: euro,
//!     document: euro,
//!     rate: None,
//!     price_list: None,
//!     call_off: None,
//!     breaks: vec![from_twenty],
//!     promotions: Vec::new(),
//!     date: "2026-03-18".parse().unwrap(),
//!     typed: Typed::default(),
//!     surcharge: None,
//!     tax: None,
//! };
//! // 40 × 32.50 = 1,300.00, less 5 % for 20 and over: 65.00.
//! let price = build(&input).unwrap();
//! assert_eq!((price.full, price.net), (Money(130_000), Money(123_500)));
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::calendar::words;
use crate::fixed::{ExchangeRate, Quantity, Rate, UnitPrice};
use crate::money::{Currency, Money, line_total, line_total_less, pow10, round_ratio};
use crate::tape::{Tape, TapeStyle};

/// A price of the customer's price list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListPrice {
    /// The list's name.
    pub list: String,
    /// From when it holds.
    pub from: NaiveDate,
    /// Per stock unit, in the document's currency.
    pub price: UnitPrice,
}

/// So much off from a quantity on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct QuantityBreak {
    /// In stock units.
    pub from: Quantity,
    /// A fraction of one.
    pub off: Rate,
    /// Where it stands.
    pub source: String,
}

/// Something off between two days.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Promotion {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// First day.
    pub first: NaiveDate,
    /// Last day.
    pub last: NaiveDate,
    /// A fraction of one.
    pub off: Rate,
}

impl Promotion {
    /// Whether it runs on a day.
    pub fn runs(&self, date: NaiveDate) -> bool {
        self.first <= date && date <= self.last
    }
}

/// What someone typed instead of what would have come.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Typed {
    /// A price per unit sold.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit_price: Option<UnitPrice>,
    /// Why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub price_reason: Option<String>,
    /// A line discount.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub discount: Option<Rate>,
    /// Why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub discount_reason: Option<String>,
    /// A promotion by its code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub promotion: Option<String>,
}

/// Everything a price is made from.
#[derive(Debug, Clone)]
pub struct PriceInput {
    /// The item's code.
    pub code: String,
    /// How much, in the unit sold.
    pub quantity: Quantity,
    /// Stock units in one unit sold.
    pub factor: Quantity,
    /// The company's list price per stock unit, in base currency.
    pub list: UnitPrice,
    /// Base currency.
    pub base: Currency,
    /// The document's currency.
    pub document: Currency,
    /// Base per unit of it.
    pub rate: Option<ExchangeRate>,
    /// The price of the customer's list.
    pub price_list: Option<ListPrice>,
    /// The price a call-off agreed, per stock unit, and its number.
    pub call_off: Option<(String, UnitPrice)>,
    /// Quantity breaks that fit item and list.
    pub breaks: Vec<QuantityBreak>,
    /// Promotions that fit the item, whatever their dates.
    pub promotions: Vec<Promotion>,
    /// The day that counts.
    pub date: NaiveDate,
    /// What was typed.
    pub typed: Typed,
    /// A surcharge per stock unit in base currency, and its name.
    pub surcharge: Option<(String, UnitPrice)>,
    /// The tax rate that prices carry, where they are agreed with tax. The company's own list
    /// price and surcharge are without; the customer's price list, a call-off and what is typed
    /// are as agreed.
    pub tax: Option<Rate>,
}

/// What a step of the price is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum StepKind {
    /// The company's list price.
    List,
    /// The customer's price list.
    PriceList,
    /// Agreed in a call-off.
    CallOff,
    /// Typed.
    Typed,
    /// Off for the quantity.
    QuantityBreak,
    /// Off for the date.
    Promotion,
    /// Off for this line.
    LineDiscount,
    /// On top.
    Surcharge,
    /// The tax that a price agreed with tax carries.
    WithTax,
}

/// One step of a price, with its source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PriceStep {
    /// What it is.
    pub kind: StepKind,
    /// Where it comes from, in words.
    pub source: String,
    /// What it takes off, a fraction of one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub off: Option<Rate>,
    /// The price per unit sold after it.
    pub unit_price: UnitPrice,
}

/// A price with the way it came about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PriceBuild {
    /// Its steps.
    pub steps: Vec<PriceStep>,
    /// The list price per unit sold, in the document's currency.
    pub list_price: UnitPrice,
    /// The price per unit sold, before discounts.
    pub unit_price: UnitPrice,
    /// All discounts together.
    pub discount: Rate,
    /// Where they come from.
    pub discount_reason: Option<String>,
    /// The promotion used, by code.
    pub promotion: Option<String>,
    /// On top, per unit sold.
    pub surcharge: UnitPrice,
    /// What for.
    pub surcharge_name: Option<String>,
    /// Quantity × price.
    pub full: Money,
    /// The line net.
    pub net: Money,
}

/// What is wrong with a price, and at which field.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PriceFault {
    /// The field of the line.
    pub field: &'static str,
    /// What to do.
    pub sentence: String,
}

/// Price × factor, rounded once to the places of a price.
fn times(price: UnitPrice, factor: Quantity) -> UnitPrice {
    UnitPrice::from_scaled(round_ratio(i128::from(price.scaled()) * i128::from(factor.scaled()), Quantity::scale()))
}

/// A price in base currency as one in the document's.
fn converted(price: UnitPrice, input: &PriceInput) -> Option<UnitPrice> {
    if input.base == input.document {
        return Some(price);
    }
    let rate = input.rate?;
    Some(rounded(i128::from(price.scaled()) * ExchangeRate::scale(), i128::from(rate.scaled()), input.document))
}

/// A price with the tax it carries.
fn with_tax(price: UnitPrice, rate: Rate, document: Currency) -> UnitPrice {
    let carried = i128::from(price.scaled()) * (Rate::scale() + i128::from(rate.scaled()));
    rounded(carried, Rate::scale(), document)
}

/// A price that was worked out, rounded once: to the currency's minor unit, but never to fewer than four
/// significant digits, so that 10,000 of something small come to what they should. *Source: docs/rules.md.*
fn rounded(numerator: i128, denominator: i128, document: Currency) -> UnitPrice {
    let whole = numerator / denominator.max(1) / UnitPrice::scale();
    let digits = if whole == 0 { 0 } else { whole.to_string().len() as u32 };
    let places = if digits == 0 { 6 } else { 4_u32.saturating_sub(digits).max(document.exponent()).min(6) };
    let step = pow10(6 - places);
    let scaled = i128::from(round_ratio(numerator, denominator * step)) * step;
    UnitPrice::from_scaled(i64::try_from(scaled).unwrap_or(i64::MAX))
}

/// The discounts of a line one after the other, as its steps tell them; where they tell another discount, that
/// one alone.
pub fn offs(discount: Rate, steps: &[PriceStep]) -> Vec<Rate> {
    let told: Vec<Rate> = steps.iter().filter_map(|step| step.off).collect();
    let all = told.iter().fold(Rate::ZERO, |before, off| together(before, *off));
    if all == discount { told } else { vec![discount] }
}

/// What is left of one after two shares are taken off, one after the other, to a millionth: what is shown.
fn together(before: Rate, off: Rate) -> Rate {
    let left = |rate: Rate| Rate::scale() - i128::from(rate.scaled());
    let kept = round_ratio(left(before) * left(off), Rate::scale());
    Rate::from_scaled(Rate::ONE.scaled() - kept)
}

/// Builds the price of a line.
///
/// # Errors
/// A promotion that does not fit or does not run on the day; a discount out of range; a foreign
/// currency without a price list or a rate.
pub fn build(input: &PriceInput) -> Result<PriceBuild, PriceFault> {
    let no_rate = || PriceFault {
        field: "unit_price",
        sentence: format!(
            "{} has no price in {}: no price list holds one, and no exchange rate is known. Type a price.",
            input.code, input.document
        ),
    };
    let BasePrice { mut steps, list, price, open_to_offers } = base_price(input);
    let unit_price = price.ok_or_else(no_rate)?;
    let offers = offers(input, open_to_offers)?;
    let mut discount = Rate::ZERO;
    for (kind, source, off) in &offers {
        discount = together(discount, *off);
        let kept = Rate::ONE.scaled() - discount.scaled();
        steps.push(PriceStep {
            kind: *kind,
            source: source.clone(),
            off: Some(*off),
            unit_price: UnitPrice::from_scaled(round_ratio(
                i128::from(unit_price.scaled()) * i128::from(kept),
                Rate::scale(),
            )),
        });
    }
    let surcharge = match &input.surcharge {
        Some((_, amount)) => {
            let amount = converted(times(*amount, input.factor), input).ok_or_else(no_rate)?;
            input.tax.map_or(amount, |rate| with_tax(amount, rate, input.document))
        }
        None => UnitPrice::ZERO,
    };
    let surcharge_name = input.surcharge.as_ref().map(|(name, _)| name.clone()).filter(|_| !surcharge.is_zero());
    if let Some(name) = &surcharge_name {
        let before = steps.last().map_or(unit_price, |step| step.unit_price);
        let after = UnitPrice::from_scaled(before.scaled() + surcharge.scaled());
        steps.push(PriceStep { kind: StepKind::Surcharge, source: name.clone(), off: None, unit_price: after });
    }
    let each: Vec<Rate> = offers.iter().map(|(.., off)| *off).collect();
    let amounts = line_total_less(input.quantity, unit_price, &each, surcharge, input.document);
    Ok(PriceBuild {
        steps,
        list_price: list.unwrap_or(unit_price),
        unit_price,
        discount,
        discount_reason: (!offers.is_empty())
            .then(|| offers.iter().map(|(_, source, _)| source.as_str()).collect::<Vec<_>>().join("; ")),
        promotion: used_promotion(input, open_to_offers).map(|promotion| promotion.code.clone()),
        surcharge,
        surcharge_name,
        full: amounts.full,
        net: amounts.net,
    })
}

/// The price before anything comes off, and how it came about.
struct BasePrice {
    steps: Vec<PriceStep>,
    /// The list price, with the tax it carries.
    list: Option<UnitPrice>,
    /// What holds instead of it, or it; none where there is none in the currency.
    price: Option<UnitPrice>,
    /// Whether breaks and promotions come off: not off what was typed or agreed.
    open_to_offers: bool,
}

/// List price, price list, call-off, typed: the last of them holds.
fn base_price(input: &PriceInput) -> BasePrice {
    let mut steps = Vec::new();
    let list = converted(times(input.list, input.factor), input);
    let mut price = list;
    if let Some(list) = list {
        let source = match input.rate.filter(|_| input.base != input.document) {
            Some(rate) => format!("list price, at {rate} {} for 1 {}", input.base, input.document),
            None => "list price".to_owned(),
        };
        steps.push(PriceStep { kind: StepKind::List, source, off: None, unit_price: list });
        if let Some(rate) = input.tax {
            let carried = with_tax(list, rate, input.document);
            let source = format!("with tax {} %", rate.percent());
            steps.push(PriceStep { kind: StepKind::WithTax, source, off: None, unit_price: carried });
            price = Some(carried);
        }
    }
    let list = price;
    let mut open_to_offers = true;
    let mut set = |kind, source: String, unit_price, offers| {
        steps.push(PriceStep { kind, source, off: None, unit_price });
        price = Some(unit_price);
        open_to_offers = offers;
    };
    if let Some(found) = &input.price_list {
        let source = format!("{}, from {}", found.list, words(found.from));
        set(StepKind::PriceList, source, times(found.price, input.factor), true);
    }
    if let Some((number, agreed)) = &input.call_off {
        set(StepKind::CallOff, format!("agreed in {number}"), times(*agreed, input.factor), false);
    }
    if let Some(typed) = input.typed.unit_price {
        let why = input.typed.price_reason.as_deref().map(|why| format!(": {why}")).unwrap_or_default();
        set(StepKind::Typed, format!("typed{why}"), typed, false);
    }
    BasePrice { steps, list, price, open_to_offers }
}

/// The promotion that counts: the one typed, or else the best that runs.
fn used_promotion(input: &PriceInput, open_to_offers: bool) -> Option<&Promotion> {
    match &input.typed.promotion {
        Some(code) => input.promotions.iter().find(|promotion| promotion.code == *code),
        None if open_to_offers => input
            .promotions
            .iter()
            .filter(|promotion| promotion.runs(input.date))
            .max_by(|a, b| a.off.cmp(&b.off).then_with(|| b.code.cmp(&a.code))),
        None => None,
    }
}

/// What comes off, in its order.
fn offers(input: &PriceInput, open_to_offers: bool) -> Result<Vec<(StepKind, String, Rate)>, PriceFault> {
    let mut offers = Vec::new();
    let stock = i128::from(input.quantity.scaled()) * i128::from(input.factor.scaled());
    let reached = |from: Quantity| i128::from(from.scaled()) * Quantity::scale() <= stock;
    if open_to_offers
        && let Some(found) = input.breaks.iter().filter(|found| reached(found.from)).max_by_key(|found| found.from)
    {
        offers.push((StepKind::QuantityBreak, found.source.clone(), found.off));
    }
    if let Some(code) = &input.typed.promotion {
        let fault = |sentence| PriceFault { field: "promotion", sentence };
        let Some(found) = input.promotions.iter().find(|promotion| promotion.code == *code) else {
            return Err(fault(format!("There is no promotion {code} for {}.", input.code)));
        };
        if input.date > found.last {
            return Err(fault(format!("{} ended on {}. Take it off the line.", found.name, words(found.last))));
        }
        if input.date < found.first {
            return Err(fault(format!("{} begins on {}. Take it off the line.", found.name, words(found.first))));
        }
    }
    if let Some(found) = used_promotion(input, open_to_offers) {
        let source = format!("{}, to {}", found.name, words(found.last));
        offers.push((StepKind::Promotion, source, found.off));
    }
    if let Some(off) = input.typed.discount.filter(|off| !off.is_zero()) {
        if off < Rate::ZERO || off > Rate::ONE {
            return Err(PriceFault { field: "discount", sentence: "A discount lies between 0 and 100 %.".to_owned() });
        }
        let why = input.typed.discount_reason.clone().unwrap_or_else(|| "line discount".to_owned());
        offers.push((StepKind::LineDiscount, why, off));
    }
    Ok(offers)
}

/// Where the price of a line comes from, for the tape: nothing where it is the list price.
pub(crate) fn tape_sources(tape: &mut Tape, steps: &[PriceStep], home: bool) {
    let sets: Vec<&PriceStep> = steps
        .iter()
        .filter(|step| {
            matches!(step.kind, StepKind::PriceList | StepKind::CallOff | StepKind::Typed | StepKind::WithTax)
        })
        .collect();
    let list = steps.iter().find(|step| step.kind == StepKind::List);
    if let (Some(list), true) = (list, !sets.is_empty() || !home) {
        tape.remark(TapeStyle::Detail, format!("{} {}", list.source, list.unit_price.grouped(2)), false);
    }
    for step in sets {
        tape.remark(TapeStyle::Detail, format!("{} {}", step.source, step.unit_price.grouped(2)), false);
    }
}

/// What comes off a line and on top of it, for the tape.
pub(crate) fn tape_offs(
    tape: &mut Tape,
    discount: Rate,
    reason: Option<&str>,
    (full, net): (Money, Money),
    (surcharge, name, quantity): (UnitPrice, Option<&str>, Quantity),
) {
    let on_top = line_total(quantity, surcharge, Rate::ZERO, UnitPrice::ZERO, tape.currency).full;
    if !discount.is_zero() {
        let reason = reason.map(|reason| format!(", {reason}")).unwrap_or_default();
        tape.amount(TapeStyle::Detail, format!("less {} %{reason}", discount.percent()), net - on_top - full);
    }
    if !surcharge.is_zero() {
        let name = name.unwrap_or("surcharge");
        tape.amount(TapeStyle::Detail, format!("plus {name}, {} each", surcharge.grouped(2)), on_top);
    }
}
