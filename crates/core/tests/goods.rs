//! Goods out, back and counted: every row of postings.md under *Goods* that is built.

use crate::common;

use std::collections::BTreeMap;

use crate::common::{Books, day, eur, first_entry, line, pairs, written};
use proptest::prelude::*;
use till_core::checks::Check;
use till_core::fixed::Quantity;
use till_core::ids::{EntryId, ItemId, LayerId, OrderLineId, ShipmentLineId};
use till_core::invoice::{HeldCost, ItemKind, decide as decide_invoice};
use till_core::marks::Marks;
use till_core::money::Money;
use till_core::order::LineProgress;
use till_core::posting::MovedWith;
use till_core::room::Movement;
use till_core::settle::{Source, ToApply, decide as decide_money};
use till_core::shipment::{
    AdjustInput, CostEntry, LineToShip, LineToTakeBack, ShipmentInput, TakeBackInput, decide, decide_adjustment,
    decide_take_back, order_ref,
};
use till_core::stock::{Layer, issue};

fn whole(quantity: i64) -> Quantity {
    Quantity::from_whole(quantity)
}

fn to_ship(quantity: i64, ordered: i64) -> LineToShip {
    LineToShip {
        shipment_line: ShipmentLineId(11),
        order_line: OrderLineId(1),
        item: ItemId(1),
        code: "IT-1".to_owned(),
        class: "goods".to_owned(),
        stocked: true,
        unit: "pc".to_owned(),
        factor: Quantity::ONE,
        quantity: whole(quantity),
        progress: LineProgress {
            ordered: whole(ordered),
            cancelled: Quantity::ZERO,
            shipped: Quantity::ZERO,
            billed: Quantity::ZERO,
            value: Money(1),
        },
        over: Quantity::ZERO,
        drafted: Quantity::ZERO,
        marks: Marks::default(),
    }
}

fn line_back(billed: Quantity, drafted: Quantity) -> LineToTakeBack {
    let movements = vec![Movement::new(day("2026-03-12"), whole(4).scaled())];
    LineToTakeBack { code: "IT-1".to_owned(), quantity: whole(4), billed, drafted, on_returns: Vec::new(), movements }
}

fn layer(id: i64, quantity: i64, cost: i64) -> Layer {
    Layer { id: LayerId(id), remaining: whole(quantity), remaining_cost: Money(cost), later: Vec::new() }
}

fn shipment(books: &Books, lines: Vec<LineToShip>, layers: Vec<Layer>) -> ShipmentInput<'_> {
    ShipmentInput {
        number: "S-1".to_owned(),
        customer: "Saltmarsh".to_owned(),
        customer_class: None,
        stop_reason: None,
        over_limit: None,
        unpaid_in_advance: Vec::new(),
        order: order_ref(1, "O-1"),
        order_date: day("2026-03-01"),
        date: day("2026-03-12"),
        lines,
        stock: BTreeMap::from([(ItemId(1), layers)]),
        committed: BTreeMap::new(),
        cost_entry: CostEntry::AtPosting,
        accounts: &books.accounts,
        periods: &books.periods,
        mark_rules: &books.marks,
        base: eur(),
    }
}

#[test]
fn a_shipment_and_its_taking_back() {
    let books = Books::new();
    let posted = decide(&shipment(&books, vec![to_ship(4, 4)], vec![layer(1, 4, 13_140)]));
    assert_eq!(written(&posted.entry), pairs(&[("71000", 13_140), ("11000", -13_140)]));
    let back = |lines, date: &str| {
        decide_take_back(&TakeBackInput {
            number: "S-1".to_owned(),
            posted_on: day("2026-03-12"),
            date: day(date),
            lines,
            entry: posted.entry.clone().map(|entry| (EntryId(3), entry)),
            left: posted.posting(day("2026-03-12")).stock,
            periods: &books.periods,
        })
    };
    let free = || vec![line_back(Quantity::ZERO, Quantity::ZERO)];
    let [left] = posted.posting(day("2026-03-12")).stock[..] else { panic!("{posted:?}") };
    assert_eq!((left.layer, left.quantity, left.cost), (LayerId(1), whole(4), Money(13_140)));
    let posting = back(free(), "2026-03-18").unwrap();
    assert_eq!(written(&first_entry(&posting)), pairs(&[("11000", 13_140), ("71000", -13_140)]));
    assert_eq!(posting.entries[0].reverses, Some(EntryId(3)));
    // Into the very layer they left, on the day they came back.
    let [again] = posting.stock[..] else { panic!("{posting:?}") };
    assert_eq!((again.layer, again.quantity, again.cost), (LayerId(1), whole(-4), Money(-13_140)));
    assert_eq!((again.date, again.with), (day("2026-03-18"), MovedWith::ShipmentLine(ShipmentLineId(11))));
    let refused = |lines, date| back(lines, date).unwrap_err()[0].check;
    assert_eq!(refused(vec![line_back(whole(1), Quantity::ZERO)], "2026-03-18"), Check::AlreadyBilled);
    assert_eq!(refused(vec![line_back(Quantity::ZERO, whole(1))], "2026-03-18"), Check::AlreadyBilled);
    assert_eq!(refused(free(), "2026-03-11"), Check::DateTooEarly);
    assert_eq!(refused(free(), "2031-01-01"), Check::PeriodClosed);
}

/// Where cost follows billing it waits at 1320 until the invoice.
#[test]
fn cost_follows_billing_where_the_company_says_so() {
    let books = Books::new();
    let mut input = shipment(&books, vec![to_ship(4, 4)], vec![layer(1, 4, 13_140)]);
    input.cost_entry = CostEntry::AtBilling;
    assert_eq!(written(&decide(&input).entry), pairs(&[("13000", 13_140), ("11000", -13_140)]));
    let mut billed = line(1, "4", "59.00", "0", "S23");
    billed.held_cost =
        Some(HeldCost { shipped: whole(4), billed: Quantity::ZERO, cost: Money(13_140), followed: Money::ZERO });
    let decision = decide_invoice(&books.invoice(vec![billed]));
    assert_eq!(written(&decision.cost_entry), pairs(&[("71000", 13_140), ("13000", -13_140)]));
    assert_eq!(written(&decision.entry), pairs(&[("21000", 29_028), ("41000", -5_428), ("61000", -23_600)]));
}

proptest! {
    /// In whatever parts a line is billed, all of its cost follows, and never more.
    #[test]
    fn the_cost_that_follows_adds_up(cost in 0i64..1_000_000, parts in prop::collection::vec(1i64..100_000, 1..9)) {
        let shipped = Quantity::from_scaled(parts.iter().sum());
        let mut held = HeldCost { shipped, billed: Quantity::ZERO, cost: Money(cost), followed: Money::ZERO };
        for part in parts {
            prop_assert!(held.following(Quantity::from_scaled(part)) >= Money::ZERO);
            held = held.after(Quantity::from_scaled(part));
            prop_assert!(held.followed <= Money(cost));
        }
        prop_assert_eq!(held.followed, Money(cost));
    }
}

#[test]
fn a_count_that_differs() {
    let books = Books::new();
    let count = |difference: i64, layers: Vec<Layer>| {
        decide_adjustment(&AdjustInput {
            item: ItemId(1),
            warehouse: "MAIN".to_owned(),
            class: "goods".to_owned(),
            code: "IT-1".to_owned(),
            difference: whole(difference),
            unit_cost: "6.00".parse().unwrap(),
            layers,
            date: day("2026-03-18"),
            accounts: &books.accounts,
            periods: &books.periods,
            base: eur(),
        })
    };
    // 12.00 too little: the oldest layer gives it.
    let less = count(-2, vec![layer(1, 3, 1_800), layer(2, 5, 5_000)]).unwrap();
    assert_eq!(written(&first_entry(&less.posting)), pairs(&[("73000", 1_200), ("11000", -1_200)]));
    assert_eq!((less.cost, less.posting.stock[0].layer), (Money(-1_200), LayerId(1)));
    assert!(less.posting.layers.is_empty());
    let more = count(2, Vec::new()).unwrap();
    assert_eq!(written(&first_entry(&more.posting)), pairs(&[("11000", 1_200), ("73000", -1_200)]));
    assert_eq!((more.posting.layers[0].cost, more.posting.stock.len()), (Money(1_200), 0));
    assert_eq!(count(0, Vec::new()).unwrap_err()[0].field, "counted");
    assert_eq!(count(-9, vec![layer(1, 3, 1_800)]).unwrap_err()[0].check, Check::StockShort);
}

/// A container that goes is owed back, and nothing is left of it when it has come back.
#[test]
fn containers_go_and_come_back() {
    let books = Books::new();
    let mut drum = line(1, "4", "10.00", "0", "O0");
    drum.kind = ItemKind::Packaging;
    let decision = decide_invoice(&books.invoice(vec![drum]));
    // Outside tax, and the line that says so: 0.00 of 40.00.
    assert_eq!(written(&decision.entry), pairs(&[("21000", 4_000), ("41000", 0), ("29000", -4_000)]));
    let to_apply = vec![ToApply::new(common::open_invoice(1, 4_000, 4_000), Money(4_000))];
    let back = decide_money(&books.money(
        Source::Containers { what: "4 × DRUM".to_owned(), item: ItemId(9), quantity: Quantity::from_whole(4) },
        4_000,
        to_apply,
    ));
    assert_eq!(written(&back.entry), pairs(&[("29000", 4_000), ("21000", -4_000)]));
    assert!(back.entry.unwrap().lines.iter().all(|line| line.customer.is_some()));
}

#[test]
fn what_is_set_aside_for_others_does_not_leave() {
    let books = Books::new();
    let mut input = shipment(&books, vec![to_ship(4, 4)], vec![layer(1, 5, 500)]);
    input.committed = BTreeMap::from([(ItemId(1), whole(1))]);
    assert!(decide(&input).blockers.is_empty());
    input.committed = BTreeMap::from([(ItemId(1), whole(2))]);
    let refused = decide(&input);
    assert_eq!(refused.blockers[0].check, Check::StockShort);
    assert!(refused.blockers[0].sentence.contains("2 of it reserved for other orders"), "{refused:?}");
    assert!(refused.entry.is_none());
}

#[test]
fn a_tolerance_is_kept_to_the_last_piece() {
    let books = Books::new();
    let ship = |quantity: i64, over: i64| {
        let mut line = to_ship(quantity, 10);
        line.over = whole(over);
        decide(&shipment(&books, vec![line], vec![layer(1, 50, 500)])).blockers
    };
    assert!(ship(12, 2).is_empty());
    assert_eq!(ship(13, 2)[0].check, Check::MoreThanOrdered);
    assert_eq!(ship(11, 0)[0].sentence, "11 of IT-1 to ship, but only 10 is left on the order.");
}

#[test]
fn a_crate_takes_its_pieces_out_of_stock() {
    let books = Books::new();
    let mut line = to_ship(2, 2);
    line.factor = whole(12);
    line.unit = "crate".to_owned();
    let decision = decide(&shipment(&books, vec![line], vec![layer(1, 20, 2_000), layer(2, 20, 4_000)]));
    // 20 of the first layer at 1.00, 4 of the second at 2.00.
    assert_eq!(decision.lines[0].cost, Money(2_800));
    assert_eq!(decision.lines[0].issues[1].quantity, whole(4));
}

/// Source: OpenStax, Principles of Accounting, Volume 1: Financial Accounting, chapter 10,
/// perpetual first-in first-out example (under a free licence; figures from memory): 150 at 21.00,
/// 225 at 27.00 and 210 at 33.00 came in, 120 and 180 were sold in between. Cost of goods sold
/// 7,200.00, inventory at the end 8,955.00.
#[test]
fn first_in_first_out_as_in_an_open_textbook() {
    let mut layers = vec![layer(1, 150, 315_000)];
    let cost = |layers: &mut Vec<Layer>, sold| -> Money {
        issue(layers, whole(sold), day("2026-03-01")).unwrap().iter().map(|one| one.cost).sum()
    };
    let first = cost(&mut layers, 120);
    layers.push(layer(2, 225, 607_500));
    let second = cost(&mut layers, 180);
    layers.push(layer(3, 210, 693_000));
    assert_eq!((first, second), (Money(252_000), Money(468_000)));
    assert_eq!(first + second, Money(720_000));
    assert_eq!(layers.iter().map(|layer| layer.remaining_cost).sum::<Money>(), Money(895_500));
}
