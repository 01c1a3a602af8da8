//! Orders: what they come to, and what stands in their way.

use crate::common::{Books, day, eur};
use till_core::checks::{Check, Effect, asks, stops};
use till_core::exposure::Exposure;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, ItemId};
use till_core::invoice::{CustomerFacts, Delivery, ItemKind};
use till_core::marks::{FieldKind, FieldPlace, Marks, OwnField, ReportingCode, ReportingList};
use till_core::money::Money;
use till_core::order::LineProgress;
use till_core::ordering::{
    Elsewhere, ItemFacts, LineWish, OrderInput, StockFacts, TaxChoice, asked_of_amendment, decide, ended_promotions,
};
use till_core::pricing::{PriceInput, Promotion, QuantityBreak, Typed, build};
use till_core::tax::TaxComputed;
use till_core::terms::Terms;
use till_core::treatment::{Taxed, Treatment};

fn quantity(text: &str) -> Quantity {
    text.parse().unwrap()
}

fn wish(code: &str, wanted: &str, list: &str) -> LineWish {
    let item = ItemFacts {
        id: ItemId(1),
        code: code.to_owned(),
        name: format!("Item {code}"),
        kind: ItemKind::Goods,
        class: "goods".to_owned(),
        unit: "pc".to_owned(),
        units: vec![("box".to_owned(), quantity("12"))],
        tax_code: "S23".to_owned(),
        minimum: Quantity::ZERO,
        step: Quantity::ZERO,
        over: Rate::ZERO,
        active: true,
    };
    LineWish {
        description: item.name.clone(),
        quantity: quantity(wanted),
        unit: "pc".to_owned(),
        price: PriceInput {
            code: code.to_owned(),
            quantity: quantity(wanted),
            factor: Quantity::ONE,
            list: list.parse().unwrap(),
            base: eur(),
            document: eur(),
            rate: Some("1".parse().unwrap()),
            price_list: None,
            call_off: None,
            breaks: vec![QuantityBreak {
                from: quantity("40"),
                off: Rate::from_percent("5").unwrap(),
                source: "40 and over".to_owned(),
            }],
            promotions: Vec::new(),
            date: day("2026-03-18"),
            typed: Typed::default(),
            surcharge: None,
            tax: None,
        },
        kept: None,
        tax: None,
        stock: StockFacts {
            warehouse: "MAIN".to_owned(),
            counted: true,
            on_hand: quantity("100"),
            committed: quantity("30"),
            ..StockFacts::default()
        },
        progress: None,
        on_the_way_out: Quantity::ZERO,
        marks: Marks::default(),
        call_off: None,
        item,
    }
}

fn order(books: &Books, lines: Vec<LineWish>) -> OrderInput<'_> {
    OrderInput {
        name: "new order".to_owned(),
        customer: CustomerFacts {
            id: CustomerId(7),
            number: "1001".to_owned(),
            name: "Saltmarsh Honey Co-op".to_owned(),
            class: None,
            tax_id: None,
            needs_order_number: false,
            stop_reason: None,
            owes: Money(10_000),
            credit_limit: Some(Money(500_000)),
            delivery: Delivery::Paper,
            email: None,
            gross_priced: false,
        },
        exposure: Exposure { receivables: Money(10_000), ..Exposure::default() },
        ship_to: "Saltmarsh Honey Co-op".to_owned(),
        taxed: Taxed::standard(),
        customer_order_number: None,
        date: day("2026-03-18"),
        terms: Terms::net_days(30),
        currency: eur(),
        rate: Some("1".parse().unwrap()),
        base: eur(),
        lines,
        marks: Marks::default(),
        gross_priced: false,
        quote: false,
        elsewhere: None,
        limits: Default::default(),
        mark_rules: &books.marks,
        treatments: &books.treatments,
        taxes: &books.taxes,
        tax_computed: TaxComputed::PerDocument,
        accounts: &books.accounts,
    }
}

fn checks(input: &OrderInput<'_>) -> Vec<(Check, Effect, String)> {
    decide(input).blockers.into_iter().map(|one| (one.check, one.effect, one.field)).collect()
}

#[test]
fn an_order_comes_to_its_lines_and_writes_nothing() {
    let books = Books::new();
    let mut second = wish("WX", "2.5", "24.80");
    second.item.tax_code = "S135".to_owned();
    let input = order(&books, vec![wish("HB-12", "60", "32.50"), second]);
    let decision = decide(&input);
    // 60 × 32.50 less 5 % is 1,852.50; 2.5 × 24.80 is 62.00.
    assert_eq!((decision.net, decision.total), (Money(191_450), Money(191_450 + 42_608 + 837)));
    assert!(decision.blockers.is_empty(), "{:?}", decision.blockers);
    insta::assert_snapshot!(decision.tape.to_text(), @"
    Saltmarsh Honey Co-op
    new order
    60 × 32.50                                             1950.00
      Item HB-12
      less 5 %, 40 and over                                 -97.50
    2.5 × 24.80                                              62.00
      Item WX
    --------------------------------------------------------------
    Net                                                    1914.50
    Tax 23 % of 1852.50                                     426.08
    Tax 13.5 % of 62.00                                       8.37
    --------------------------------------------------------------
    With tax                                               2348.95
      30 days net
      no entry: an order writes nothing to the ledger
    ");
    let labels: Vec<&str> = decision.changes.iter().map(|change| change.label.as_str()).collect();
    assert_eq!(labels, ["Exposure", "Credit left", "HB-12 available", "WX available"]);
}

#[test]
fn a_short_line_says_what_can_go_and_where_there_is_more() {
    let books = Books::new();
    let mut line = wish("HB-12", "90", "1");
    line.stock.expected = quantity("50");
    line.stock.expected_on = Some(day("2026-04-02"));
    line.stock.elsewhere = vec![Elsewhere { warehouse: "QUAY".to_owned(), available: quantity("25") }];
    let decision = decide(&order(&books, vec![line]));
    assert_eq!((decision.lines[0].can_go, decision.lines[0].short), (quantity("70"), quantity("20")));
    assert_eq!(decision.blockers[0].check, Check::StockShort);
    assert_eq!(
        decision.blockers[0].sentence,
        "100 on hand in MAIN, 30 reserved for others: 70 pc can go, 20 will be on back order. \
         50 expected, the next on 2 Apr 2026. QUAY has 25 free."
    );
    assert!(!stops(&decision.blockers));
}

#[test]
fn boxes_are_counted_in_pieces() {
    let books = Books::new();
    let mut line = wish("HB-12", "7", "10");
    line.unit = "box".to_owned();
    let decision = decide(&order(&books, vec![line.clone()]));
    // 84 pieces reach the break; 70 are free, which are five whole boxes and ten pieces.
    assert_eq!(decision.net, Money(79_800));
    assert_eq!(decision.lines[0].can_go, quantity("5"));
    line.unit = "pallet".to_owned();
    assert_eq!(checks(&order(&books, vec![line]))[0].0, Check::UnitOrStep);
}

/// One change, and what it finds at which field.
#[test]
fn everything_that_stands_in_the_way() {
    type Change = for<'a, 'b> fn(&'a mut OrderInput<'b>);
    let mut books = Books::new();
    books.marks.fields = vec![OwnField {
        key: "gate".to_owned(),
        label: "Gate".to_owned(),
        place: FieldPlace::Order,
        kind: FieldKind::Choice,
        choices: vec!["north".to_owned(), "south".to_owned()],
        required: true,
        active: true,
    }];
    fn good(books: &Books) -> OrderInput<'_> {
        let mut input = order(books, vec![wish("HB-12", "10", "32.50")]);
        input.marks.fields.insert("gate".to_owned(), "north".to_owned());
        input
    }
    let rows: &[(&str, Change, Check, Effect, &str)] = &[
        ("no lines", |i| i.lines.clear(), Check::NothingToDo, Effect::Stops, "lines"),
        (
            "zero",
            |i| i.lines[0].quantity = Quantity::ZERO,
            Check::QuantityNotPositive,
            Effect::Stops,
            "lines.0.quantity",
        ),
        ("least", |i| i.lines[0].item.minimum = quantity("12"), Check::UnitOrStep, Effect::Stops, "lines.0.quantity"),
        ("step", |i| i.lines[0].item.step = quantity("4"), Check::UnitOrStep, Effect::Stops, "lines.0.quantity"),
        ("free", |i| i.lines[0].price.list = UnitPrice::ZERO, Check::PriceZero, Effect::Stops, "lines.0.unit_price"),
        ("not sold", |i| i.lines[0].item.active = false, Check::NotSold, Effect::Stops, "lines.0.item"),
        ("field empty", |i| i.marks.fields.clear(), Check::OwnFieldMissing, Effect::Stops, "fields.gate"),
        (
            "field wrong",
            |i| drop(i.marks.fields.insert("gate".to_owned(), "west".to_owned())),
            Check::MarkNotAllowed,
            Effect::Stops,
            "fields.gate",
        ),
        (
            "customer PO",
            |i| i.customer.needs_order_number = true,
            Check::OrderNumberMissing,
            Effect::Warns,
            "customer_order_number",
        ),
        (
            "on hold",
            |i| i.customer.stop_reason = Some("checks returned".to_owned()),
            Check::CustomerOnStop,
            Effect::Asks,
            "customer.stop_reason",
        ),
        (
            "over the limit by a cent",
            |i| i.customer.credit_limit = Some(Money(10_000 + 39_974)),
            Check::CreditLimit,
            Effect::Asks,
            "customer.credit_limit",
        ),
        ("above what a clerk may", |i| i.limits.total = Some(Money(39_974)), Check::OrderAmount, Effect::Asks, "lines"),
        (
            "an address abroad",
            |i| i.elsewhere = Some(("FR".to_owned(), "IE".to_owned())),
            Check::AddressElsewhere,
            Effect::Stops,
            "address.country",
        ),
        (
            "no tax id",
            |i| i.taxed.treatment = Treatment::ReverseCharge,
            Check::TaxIdMissing,
            Effect::Warns,
            "customer.tax_id",
        ),
        (
            "no certificate",
            |i| i.taxed.treatment = Treatment::Exempt,
            Check::ExemptionExpired,
            Effect::Warns,
            "customer.ship_tos",
        ),
        ("no code", |i| i.taxed.treatment = Treatment::Export, Check::TreatmentWithoutCode, Effect::Stops, "ship_to"),
        (
            "called off",
            |i| i.lines[0].call_off = Some(("K-1".to_owned(), quantity("9.5"))),
            Check::MoreThanCalledOff,
            Effect::Stops,
            "lines.0.quantity",
        ),
        (
            "below what shipped",
            |i| {
                i.lines[0].progress = Some(LineProgress {
                    ordered: quantity("12"),
                    cancelled: quantity("1"),
                    shipped: quantity("8"),
                    billed: Quantity::ZERO,
                    value: Money(1),
                });
                i.lines[0].on_the_way_out = quantity("1.5");
            },
            Check::LessThanShipped,
            Effect::Stops,
            "lines.0.quantity",
        ),
        ("an account that wants a code", |_| (), Check::ReportingCodeMissing, Effect::Warns, "codes.place"),
    ];
    for (what, change, check, effect, field) in rows {
        if *check == Check::ReportingCodeMissing {
            books.marks.lists = vec![ReportingList {
                key: "place".to_owned(),
                name: "Place".to_owned(),
                codes: vec![ReportingCode { code: "N".to_owned(), name: "North".to_owned(), active: true }],
                required_by: vec!["61000".to_owned()],
            }];
        }
        let mut input = good(&books);
        if *check != Check::ReportingCodeMissing {
            assert!(decide(&input).blockers.is_empty(), "{what}: {:?}", decide(&input).blockers);
        }
        change(&mut input);
        let found = checks(&input);
        assert!(found.contains(&(*check, *effect, (*field).to_owned())), "{what}: {found:?}");
    }
    // A code on the order is a code on each of its lines.
    let mut input = good(&books);
    input.marks.codes.insert("place".to_owned(), "N".to_owned());
    assert!(decide(&input).blockers.is_empty());
}

#[test]
fn a_quote_asks_nobody() {
    let books = Books::new();
    let mut input = order(&books, vec![wish("HB-12", "10", "32.50")]);
    input.quote = true;
    input.customer.stop_reason = Some("checks returned".to_owned());
    input.customer.credit_limit = Some(Money::ZERO);
    input.limits.total = Some(Money::ZERO);
    let decision = decide(&input);
    assert!(!asks(&decision.blockers) && decision.changes.is_empty());
}

#[test]
fn a_chosen_tax_code_keeps_its_reason() {
    let books = Books::new();
    let mut line = wish("HB-12", "10", "32.50");
    line.tax = Some(TaxChoice { code: "Z0".to_owned(), reason: "books for a school".to_owned() });
    let decision = decide(&order(&books, vec![line]));
    assert_eq!(decision.total, decision.net);
    assert!(decision.tape.to_text().contains("tax code Z0 chosen: books for a school"));
}

#[test]
fn a_price_with_a_promotion_that_ended_is_not_confirmed() {
    let books = Books::new();
    let mut line = wish("HB-12", "1", "32.50");
    line.price.promotions = vec![Promotion {
        code: "SPRING".to_owned(),
        name: "spring offer".to_owned(),
        first: day("2026-03-01"),
        last: day("2026-03-31"),
        off: Rate::from_percent("10").unwrap(),
    }];
    line.kept = Some(build(&line.price).unwrap());
    let input = order(&books, vec![line]);
    assert!(ended_promotions(&input, day("2026-03-31")).is_empty());
    let found = ended_promotions(&input, day("2026-04-01"));
    assert_eq!((found[0].check, found[0].field.as_str()), (Check::PriceNotMade, "lines.0.promotion"));
}

/// B8: 40 × 32.50 less 5 % for 40 and over are 1,235.00; typed down to 40 × 0.01 = 0.40 that gives away 1,234.60. A
/// line discount of 10 % on another 1,235.00 gives away 123.50. Both say why, and count to the limit of who confirms.
#[test]
fn what_is_given_away_counts_to_the_limit_and_says_why() {
    let books = Books::new();
    let mut typed = wish("HB-12", "40", "32.50");
    typed.price.typed.unit_price = Some("0.01".parse().unwrap());
    let mut less = wish("HB-12", "40", "32.50");
    less.price.typed.discount = Some(Rate::from_percent("10").unwrap());
    let mut input = order(&books, vec![typed, less]);
    let missing = |field: &str| (Check::ReasonMissing, Effect::Stops, field.to_owned());
    let found = checks(&input);
    assert!(found.contains(&missing("lines.0.price_reason")) && found.contains(&missing("lines.1.discount_reason")));
    input.lines[0].price.typed.price_reason = Some("the boxes are dented".to_owned());
    input.lines[1].price.typed.discount_reason = Some("a fair".to_owned());
    assert_eq!(decide(&input).given_away, Money(123_460 + 12_350));
    assert_eq!(checks(&input), []);
    input.limits.given_away = Some(Money(135_809));
    assert_eq!(checks(&input), [(Check::PriceGivenAway, Effect::Asks, "lines".to_owned())]);
    input.limits.given_away = Some(Money(135_810));
    assert_eq!(checks(&input), []);
}

/// An amendment asks where it gives away more than the order did; what was allowed stands, a higher total or not.
#[test]
fn an_amendment_asks_for_what_it_gives_away() {
    let books = Books::new();
    let order_at = |price: &str, quantity: &str| {
        let mut line = wish("HB-12", quantity, "32.50");
        line.price.typed.unit_price = Some(price.parse().unwrap());
        line.price.typed.price_reason = Some("agreed".to_owned());
        let mut input = order(&books, vec![line]);
        input.limits.given_away = Some(Money(2_000));
        decide(&input)
    };
    let asked = |before: (&str, &str), after: (&str, &str)| -> Vec<Check> {
        let after = order_at(after.0, after.1);
        asked_of_amendment(&order_at(before.0, before.1), &after).iter().map(|blocker| blocker.check).collect()
    };
    assert_eq!(asked(("32.50", "40"), ("0.01", "40")), [Check::PriceGivenAway]);
    // 30 × 2.50 = 75.00 was allowed: 15 × 2.50 asks nobody, 31 × 2.50 does.
    assert_eq!(asked(("30", "30"), ("30", "15")), []);
    assert_eq!(asked(("30", "30"), ("30", "31")), [Check::PriceGivenAway]);
    // Dearer than the list gives nothing away.
    assert_eq!(asked(("32.50", "40"), ("40", "40")), []);
}
