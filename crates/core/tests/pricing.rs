//! The price of a line, step by step.

use crate::common::{day, eur};
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::money::{Currency, Money};
use till_core::pricing::{ListPrice, PriceInput, Promotion, QuantityBreak, StepKind, Typed, build};

fn price(text: &str) -> UnitPrice {
    text.parse().unwrap()
}

fn percent(text: &str) -> Rate {
    Rate::from_percent(text).unwrap()
}

fn input(quantity: &str) -> PriceInput {
    PriceInput {
        code: "HB-12".to_owned(),
        quantity: quantity.parse().unwrap(),
        factor: Quantity::ONE,
        list: price("32.50"),
        base: eur(),
        document: eur(),
        rate: Some("1".parse().unwrap()),
        price_list: None,
        call_off: None,
        breaks: Vec::new(),
        promotions: Vec::new(),
        date: day("2026-03-18"),
        typed: Typed::default(),
        surcharge: None,
        tax: None,
    }
}

fn broken(from: &str, off: &str) -> QuantityBreak {
    QuantityBreak { from: from.parse().unwrap(), off: percent(off), source: format!("{from} and over") }
}

fn promotion(code: &str, first: &str, last: &str, off: &str) -> Promotion {
    Promotion {
        code: code.to_owned(),
        name: format!("{code} offer"),
        first: day(first),
        last: day(last),
        off: percent(off),
    }
}

fn trade() -> ListPrice {
    ListPrice { list: "Trade".to_owned(), from: day("2026-01-01"), price: price("30.00") }
}

type Change = fn(&mut PriceInput);
/// What holds, what it changes, unit price, discount in percent, net in cents, kinds of the steps.
type Row = (&'static str, Change, &'static str, &'static str, i64, &'static [StepKind]);

#[test]
fn the_table_of_prices() {
    use StepKind::{
        CallOff, LineDiscount, List, PriceList, Promotion as Offer, QuantityBreak as Break, Surcharge, Typed as T,
    };
    let rows: &[Row] = &[
        ("list alone", |_| (), "32.5", "0", 130_000, &[List]),
        ("price list", |i| i.price_list = Some(trade()), "30", "0", 120_000, &[List, PriceList]),
        ("break not reached", |i| i.breaks = vec![broken("41", "5")], "32.5", "0", 130_000, &[List]),
        (
            "break reached",
            |i| i.breaks = vec![broken("20", "3"), broken("40", "5")],
            "32.5",
            "5",
            123_500,
            &[List, Break],
        ),
        (
            "break and promotion follow one another: 0.95 × 0.90 = 0.855",
            |i| {
                i.breaks = vec![broken("40", "5")];
                i.promotions = vec![promotion("SPRING", "2026-03-01", "2026-03-31", "10")];
            },
            "32.5",
            "14.5",
            111_150,
            &[List, Break, Offer],
        ),
        (
            "the better promotion, and not one that is over",
            |i| {
                i.promotions = vec![
                    promotion("A", "2026-03-01", "2026-03-31", "2"),
                    promotion("B", "2026-03-01", "2026-03-18", "4"),
                    promotion("C", "2026-01-01", "2026-03-17", "50"),
                ];
            },
            "32.5",
            "4",
            124_800,
            &[List, Offer],
        ),
        (
            "a call-off price stands: no break comes off it",
            |i| {
                i.call_off = Some(("K-1".to_owned(), price("28.00")));
                i.breaks = vec![broken("1", "5")];
                i.promotions = vec![promotion("A", "2026-03-01", "2026-03-31", "2")];
            },
            "28",
            "0",
            112_000,
            &[List, CallOff],
        ),
        (
            "a typed price stands, its own discount comes off",
            |i| {
                i.breaks = vec![broken("1", "5")];
                i.typed.unit_price = Some(price("31.00"));
                i.typed.discount = Some(percent("10"));
            },
            "31",
            "10",
            111_600,
            &[List, T, LineDiscount],
        ),
        (
            "a surcharge is not discounted: 40 × 32.50 × 0.95 + 40 × 0.75",
            |i| {
                i.breaks = vec![broken("40", "5")];
                i.surcharge = Some(("glass levy".to_owned(), price("0.75")));
            },
            "32.5",
            "5",
            126_500,
            &[List, Break, Surcharge],
        ),
        (
            "sold by the crate of 12: 40 crates reach the break of 480 pieces",
            |i| {
                i.factor = "12".parse().unwrap();
                i.breaks = vec![broken("480", "5"), broken("481", "9")];
            },
            "390",
            "5",
            1_482_000,
            &[List, Break],
        ),
    ];
    for (what, change, unit_price, off, net, kinds) in rows {
        let mut input = input("40");
        change(&mut input);
        let built = build(&input).unwrap();
        assert_eq!(built.unit_price.to_string(), *unit_price, "{what}");
        assert_eq!(built.discount.percent(), *off, "{what}");
        assert_eq!(built.net, Money(*net), "{what}");
        assert_eq!(built.steps.iter().map(|step| step.kind).collect::<Vec<_>>(), *kinds, "{what}");
        assert!(built.steps.iter().all(|step| !step.source.is_empty()), "{what}");
    }
}

/// The price of one unit stands beside each step, so that the last of them is what is paid.
#[test]
fn the_last_step_is_what_is_paid() {
    let mut input = input("1");
    input.breaks = vec![broken("1", "5")];
    input.promotions = vec![promotion("SPRING", "2026-03-01", "2026-03-31", "10")];
    input.surcharge = Some(("levy".to_owned(), price("1")));
    let built = build(&input).unwrap();
    let after: Vec<String> = built.steps.iter().map(|step| step.unit_price.to_string()).collect();
    assert_eq!(after, ["32.5", "30.875", "27.7875", "28.7875"]);
    assert_eq!(built.net, Money(2_879));
    assert_eq!(built.promotion.as_deref(), Some("SPRING"));
}

/// Abroad the list price is converted at the rate of the day and rounded to cents, once.
#[test]
fn a_foreign_price_is_the_lists_or_the_converted_one() {
    let mut input = input("1");
    input.document = Currency::of("GBP").unwrap();
    input.rate = Some("1.17".parse().unwrap());
    // 32.50 ÷ 1.17 = 27.777…
    assert_eq!(build(&input).unwrap().unit_price, price("27.78"));
    input.document = Currency::of("JPY").unwrap();
    input.rate = Some("0.006123".parse().unwrap());
    // 32.50 ÷ 0.006123 = 5,307.85…
    assert_eq!(build(&input).unwrap().unit_price, price("5308"));
    input.rate = None;
    assert_eq!(build(&input).unwrap_err().field, "unit_price");
    input.price_list = Some(trade());
    assert_eq!(build(&input).unwrap().unit_price, price("30"));
}

#[test]
fn a_promotion_that_was_named_has_to_run() {
    let mut input = input("1");
    input.promotions = vec![promotion("SPRING", "2026-03-01", "2026-03-17", "10")];
    let fault = |input: &PriceInput| build(input).unwrap_err();
    input.typed.promotion = Some("SPRING".to_owned());
    assert_eq!(fault(&input).sentence, "SPRING offer ended on 17 Mar 2026. Take it off the line.");
    assert_eq!(fault(&input).field, "promotion");
    input.date = day("2026-02-28");
    assert_eq!(fault(&input).sentence, "SPRING offer begins on 1 Mar 2026. Take it off the line.");
    input.typed.promotion = Some("NONE".to_owned());
    assert!(fault(&input).sentence.contains("no promotion NONE"));
    input.typed = Typed { discount: Some(percent("101")), ..Typed::default() };
    assert_eq!(fault(&input).field, "discount");
}
