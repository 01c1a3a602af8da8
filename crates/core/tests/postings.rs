//! Every row of postings.md that this application carries so far, figure by figure.

use std::collections::BTreeMap;

use crate::common::*;
use till_core::fixed::Quantity;
use till_core::ids::{ItemId, LayerId, OrderLineId, ShipmentLineId};
use till_core::invoice::{self, ItemKind};
use till_core::marks::Marks;
use till_core::money::{Currency, Money};
use till_core::order::LineProgress;
use till_core::settle::{self, Source, ToApply};
use till_core::shipment::{CostEntry, IntakeInput, LineToShip, ShipmentInput, decide_intake, order_ref};
use till_core::stock::Layer;

#[test]
fn intake() {
    let books = Books::new();
    let posting = decide_intake(&IntakeInput {
        item: ItemId(1),
        warehouse: "MAIN".to_owned(),
        class: "goods".to_owned(),
        code: "IT-1".to_owned(),
        quantity: Quantity::from_whole(10),
        cost: Money(90_000),
        date: day("2026-03-01"),
        accounts: &books.accounts,
        periods: &books.periods,
        base: eur(),
    })
    .unwrap();
    assert_eq!(written(&first_entry(&posting)), pairs(&[("11000", 90_000), ("45000", -90_000)]));
    let [layer] = posting.layers.as_slice() else { panic!("{posting:?}") };
    assert_eq!((layer.item, layer.quantity, layer.cost), (ItemId(1), Quantity::from_whole(10), Money(90_000)));
}

#[test]
fn shipment_posted() {
    let books = Books::new();
    let layers = vec![
        Layer { id: LayerId(1), remaining: Quantity::from_whole(4), remaining_cost: Money(8_000), later: Vec::new() },
        Layer { id: LayerId(2), remaining: Quantity::from_whole(10), remaining_cost: Money(25_700), later: Vec::new() },
    ];
    let quantity = Quantity::from_whole(6);
    let decision = till_core::shipment::decide(&ShipmentInput {
        number: "S-1".to_owned(),
        customer: "Saltmarsh".to_owned(),
        customer_class: None,
        stop_reason: None,
        over_limit: None,
        unpaid_in_advance: Vec::new(),
        committed: BTreeMap::new(),
        cost_entry: CostEntry::AtPosting,
        mark_rules: &books.marks,
        order: order_ref(1, "O-1"),
        order_date: day("2026-03-01"),
        date: day("2026-03-12"),
        lines: vec![LineToShip {
            shipment_line: ShipmentLineId(11),
            order_line: OrderLineId(1),
            item: ItemId(1),
            code: "IT-1".to_owned(),
            class: "goods".to_owned(),
            stocked: true,
            unit: "pc".to_owned(),
            factor: Quantity::ONE,
            over: Quantity::ZERO,
            drafted: Quantity::ZERO,
            marks: Marks::default(),
            quantity,
            progress: LineProgress {
                ordered: quantity,
                cancelled: Quantity::ZERO,
                shipped: Quantity::ZERO,
                billed: Quantity::ZERO,
                value: Money(1),
            },
        }],
        stock: BTreeMap::from([(ItemId(1), layers)]),
        accounts: &books.accounts,
        periods: &books.periods,
        base: eur(),
    });
    // 80.00 of the first layer, 2 of 10 of the second: 51.40.
    assert_eq!(written(&decision.entry), pairs(&[("71000", 13_140), ("11000", -13_140)]));
}

#[test]
fn invoice_net_236_tax_54_28() {
    let books = Books::new();
    let decision = invoice::decide(&books.invoice(vec![line(1, "4", "59.00", "0", "S23")]));
    assert_eq!(written(&decision.entry), pairs(&[("21000", 29_028), ("41000", -5_428), ("61000", -23_600)]));
    assert!(decision.entry.unwrap().balances());
}

#[test]
fn invoice_with_freight() {
    let books = Books::new();
    let mut freight = line(2, "1", "18.00", "0", "S23");
    freight.kind = ItemKind::Charge;
    freight.class = "freight".to_owned();
    let decision = invoice::decide(&books.invoice(vec![line(1, "4", "59.00", "0", "S23"), freight]));
    assert_eq!(
        written(&decision.entry),
        pairs(&[("21000", 31_242), ("41000", -5_842), ("61000", -23_600), ("64000", -1_800)])
    );
}

#[test]
fn check_received_and_applied() {
    let books = Books::new();
    let to_apply = vec![ToApply::new(open_invoice(1, 21_028, 21_028), Money(21_028))];
    let decision = settle::decide(&books.money(check(), 21_028, to_apply));
    assert_eq!(written(&decision.entry), pairs(&[("32000", 21_028), ("21000", -21_028)]));
    assert!(decision.document.applied[0].open_after.is_zero());
}

#[test]
fn received_without_a_target_then_applied() {
    let books = Books::new();
    let received = settle::decide(&books.money(transfer(), 10_000, Vec::new()));
    assert_eq!(written(&received.entry), pairs(&[("31000", 10_000), ("27000", -10_000)]));
    let source = Source::Item(unapplied("C-1", 10_000, 10_000));
    let to_apply = vec![ToApply::new(open_invoice(1, 29_028, 29_028), Money(10_000))];
    let applied = settle::decide(&books.money(source, 10_000, to_apply));
    assert_eq!(written(&applied.entry), pairs(&[("27000", 10_000), ("21000", -10_000)]));
    assert_eq!(applied.document.applied[0].open_after, Money(19_028));
}

#[test]
fn received_994_for_984() {
    let books = Books::new();
    let to_apply = vec![ToApply::new(open_invoice(1, 98_400, 98_400), Money(98_400))];
    let decision = settle::decide(&books.money(transfer(), 99_400, to_apply));
    assert_eq!(written(&decision.entry), pairs(&[("31000", 99_400), ("21000", -98_400), ("27000", -1_000)]));
}

#[test]
fn invoice_in_pounds() {
    let books = Books::new();
    // 100.07 net, taxed at 23 %: 23.0161, so 23.02.
    let mut input = books.invoice(vec![line(1, "1", "100.07", "0", "S23")]);
    let gbp = Currency::of("GBP").unwrap();
    (input.basis.currency, input.orders[0].currency) = (gbp, gbp);
    input.rate = Some("1.17".parse().unwrap());
    let decision = invoice::decide(&input);
    assert_eq!(written(&decision.entry), pairs(&[("21000", 14_402), ("41000", -2_693), ("61000", -11_709)]));
    let entry = decision.entry.unwrap();
    let own: Vec<(i64, &str)> = entry.lines.iter().map(|line| (line.document.0, line.currency.code())).collect();
    assert_eq!(own, [(12_309, "GBP"), (-10_007, "GBP"), (-2_302, "GBP")]);
}

#[test]
fn pounds_paid_at_a_lower_rate() {
    let books = Books::new();
    let gbp = Currency::of("GBP").unwrap();
    let mut item = open_invoice(1, 10_000, 11_700);
    item.currency = gbp;
    let mut input = books.money(transfer(), 10_000, vec![ToApply::new(item, Money(10_000))]);
    input.currency = gbp;
    input.rate = Some("1.15".parse().unwrap());
    let decision = settle::decide(&input);
    assert_eq!(written(&decision.entry), pairs(&[("31000", 11_500), ("91000", 200), ("21000", -11_700)]));
}
