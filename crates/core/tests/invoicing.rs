//! What an invoice says and changes: dates, shares, quantities, warnings.

use std::collections::BTreeMap;

use crate::common::*;
use till_core::calendar::{DocumentDate, Period, Periods};
use till_core::checks::{Check, Effect, Step, stops};
use till_core::fixed::Quantity;
use till_core::ids::{InvoiceId, ItemId, LayerId, OrderId, OrderLineId, ShipmentLineId};
use till_core::invoice::{self, ItemKind, TaxDateRule};
use till_core::marks::Marks;
use till_core::money::Money;
use till_core::order::{Frees, Hangs, InvoiceShares, LineProgress, OrderFacts, OrderState, hanging};
use till_core::shipment::{CostEntry, IntakeInput, LineToShip, ShipmentInput, decide_intake, order_ref};
use till_core::stock::Layer;
use till_core::tape::{Figure, TapeStyle};

#[test]
fn dates_nobody_typed_are_marked_on_the_tape() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "1", "10", "0", "S23")]);
    let assumed = |input: &invoice::InvoiceInput<'_>| {
        invoice::decide(input)
            .tape
            .lines
            .iter()
            .filter(|line| line.assumed)
            .map(|line| line.label.clone())
            .collect::<Vec<_>>()
    };
    assert_eq!(assumed(&input), ["30 days net, from 18 Mar 2026", "posted on 18 Mar 2026"]);
    input.document_date = DocumentDate { date: day("2026-03-15"), typed: true };
    assert_eq!(assumed(&input), ["posted on 18 Mar 2026"]);
    assert_eq!(invoice::decide(&input).document.unwrap().due_date, day("2026-04-14"));
}

#[test]
fn dates_out_of_order_warn() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "1", "10", "0", "S23")]);
    input.document_date.date = day("2026-03-20");
    input.dates.last = Some(day("2026-03-21"));
    let sentences: Vec<String> = invoice::decide(&input).blockers.into_iter().map(|blocker| blocker.sentence).collect();
    assert_eq!(
        sentences,
        [
            "The last invoice is dated 21 Mar 2026, after this one.",
            "The document is dated 20 Mar 2026, after today's 18 Mar 2026. Is that meant?",
            "The document is dated 20 Mar 2026, after it is posted on 18 Mar 2026.",
        ]
    );
    assert!(!stops(&invoice::decide(&input).blockers));
}

#[test]
fn each_delivery_picks_its_own_rate() {
    let mut books = Books::new();
    books.taxes.0[0].rates.push((day("2026-03-16"), "0.25".parse().unwrap()));
    let mut later = line(2, "1", "100", "0", "S23");
    later.source = shipped(2, 2, 2, 1, "2026-03-16");
    let early = invoice::decide(&books.invoice(vec![line(1, "1", "100", "0", "S23")])).document.unwrap();
    assert_eq!((early.tax_date, early.tax), (day("2026-03-12"), Money(2_300)));
    let mut input = books.invoice(vec![line(1, "1", "100", "0", "S23"), later]);
    let both = invoice::decide(&input).document.unwrap();
    assert_eq!((both.tax_date, both.tax, both.taxes.len()), (day("2026-03-16"), Money(4_800), 2));
    // By setting the document date counts for all.
    input.tax_date = TaxDateRule::Document;
    let both = invoice::decide(&input).document.unwrap();
    assert_eq!((both.tax_date, both.tax, both.taxes.len()), (day("2026-03-18"), Money(5_000), 1));
}

#[test]
fn two_shipments_of_one_order_line_count_each_other() {
    let books = Books::new();
    let mut second = line(2, "3", "10", "0", "S23");
    second.source = shipped(2, 1, 2, 1, "2026-03-12");
    let mut input = books.invoice(vec![line(1, "4", "10", "0", "S23"), second]);
    input.orders[0].lines.truncate(1);
    input.orders[0].lines[0].1 = LineProgress {
        ordered: Quantity::from_whole(12),
        cancelled: Quantity::from_whole(2),
        shipped: Quantity::from_whole(9),
        billed: Quantity::from_whole(2),
        value: Money(12_000),
    };
    let lines = invoice::decide(&input).document.unwrap().lines;
    let told: Vec<(i64, i64, i64)> = lines
        .iter()
        .map(|line| {
            (line.ordered.scaled() / 10_000, line.billed_before.scaled() / 10_000, line.still_to_come.scaled() / 10_000)
        })
        .collect();
    assert_eq!(told, [(10, 2, 4), (10, 6, 1)]);
}

#[test]
fn orders_share_an_invoice_by_the_gross_of_their_lines() {
    let books = Books::new();
    let mut second = line(2, "1", "20.01", "0", "S135");
    second.source = shipped(2, 2, 1, 2, "2026-03-12");
    let mut input = books.invoice(vec![line(1, "1", "10.01", "0", "S23"), second]);
    let mut other = input.orders[0].clone();
    other.id = OrderId(2);
    input.orders.push(other);
    let document = invoice::decide(&input).document.unwrap();
    let shares: Vec<i64> = document.order_shares.iter().map(|share| share.gross.0).collect();
    // 10.01 + 2.30 and 20.01 + 2.70.
    assert_eq!(shares, [1_231, 2_271]);
    assert_eq!(document.total, Money(3_502));
}

#[test]
fn what_changes_is_shown_before_and_after() {
    let books = Books::new();
    let decision = invoice::decide(&books.invoice(vec![line(1, "2", "50", "0", "Z0")]));
    let money = |label: &str| {
        let change = decision.changes.iter().find(|change| change.label == label).unwrap();
        (change.before.clone(), change.after.clone())
    };
    assert_eq!(money("Customer owes"), (Some(Figure::money(Money(10_000))), Figure::money(Money(20_000))));
    assert_eq!(money("Credit left"), (Some(Figure::money(Money(490_000))), Figure::money(Money(480_000))));
    assert_eq!(decision.orders[0].state, OrderState::Filled);
    let words = decision.changes.iter().filter(|change| change.after == Figure::words("completed")).count();
    assert_eq!(words, 1);
}

#[test]
fn a_free_invoice_fills_and_closes_its_order_without_an_entry() {
    let books = Books::new();
    let decision = invoice::decide(&books.invoice(vec![line(1, "2", "0", "0", "S23")]));
    assert!(decision.entry.is_none());
    assert_eq!(decision.orders[0].state, OrderState::Closed);
    assert_eq!(
        decision.blockers.iter().map(|one| (one.check, one.effect)).collect::<Vec<_>>(),
        [(Check::PriceZero, Effect::Warns)]
    );
}

#[test]
fn the_same_finding_stops_posting_and_only_warns_on_a_draft() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "1", "10", "0", "AE")]);
    assert!(stops(&invoice::decide(&input).blockers));
    input.step = Step::Bill;
    let blockers = invoice::decide(&input).blockers;
    assert!(!stops(&blockers));
    assert_eq!(blockers[0].check, Check::TaxIdMissing);
    input.step = Step::Post;
    input.customer.tax_id = Some("FX1".to_owned());
    assert!(invoice::decide(&input).blockers.is_empty());
}

#[test]
fn the_fingerprint_moves_with_every_figure() {
    let books = Books::new();
    let base = books.invoice(vec![line(1, "2", "50", "0", "S23")]);
    let mark = |input: &invoice::InvoiceInput<'_>| invoice::decide(input).fingerprint;
    let mut price = base.clone();
    price.lines[0].unit_price = "50.01".parse().unwrap();
    let mut date = base.clone();
    date.posting_date.date = day("2026-03-19");
    let mut words = base.clone();
    words.lines[0].description = "Other words".to_owned();
    let mut owes = base.clone();
    owes.customer.owes = Money(5);
    let marks = [mark(&base), mark(&price), mark(&date), mark(&words)];
    assert_eq!(marks.iter().collect::<std::collections::BTreeSet<_>>().len(), 4);
    assert_eq!(mark(&base), mark(&owes), "what the customer owes is no figure of the document");
    assert_eq!(marks[0].len(), 16);
}

#[test]
fn charges_have_their_own_revenue_account() {
    let books = Books::new();
    let mut freight = line(1, "1", "18", "0", "S23");
    freight.kind = ItemKind::Charge;
    let mut work = line(2, "2", "42", "0", "S23");
    work.kind = ItemKind::Service;
    work.class = "service".to_owned();
    let decision = invoice::decide(&books.invoice(vec![freight, work]));
    assert_eq!(
        written(&decision.entry),
        pairs(&[("21000", 12_546), ("41000", -2_346), ("61800", -8_400), ("64000", -1_800)])
    );
}

#[test]
fn nothing_picked_is_said_so() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "1", "1", "0", "S23")]);
    input.lines.clear();
    let decision = invoice::decide(&input);
    assert!(decision.document.is_none() && decision.entry.is_none() && decision.fingerprint.is_empty());
    assert_eq!(decision.blockers[0].check, Check::NothingToDo);
}

#[test]
fn the_tape_ends_with_what_is_due() {
    let books = Books::new();
    let tape = invoice::decide(&books.invoice(vec![line(1, "3", "1", "10", "S23")])).tape;
    let due = tape.lines.iter().find(|line| line.style == TapeStyle::Due).unwrap();
    assert_eq!((due.label.as_str(), due.amount), ("Due 17 Apr 2026", Some(Money(332))));
    let lines: i64 = tape
        .lines
        .iter()
        .filter(|line| line.style == TapeStyle::Line)
        .filter_map(|line| line.amount)
        .map(|amount| amount.0)
        .sum();
    let off: i64 = tape
        .lines
        .iter()
        .filter(|line| line.style == TapeStyle::Detail)
        .filter_map(|line| line.amount)
        .map(|amount| amount.0)
        .sum();
    assert_eq!(lines + off, 332, "the steps of the tape add up to its end");
}

#[test]
fn what_is_missing_until_an_order_closes() {
    let books = Books::new();
    let mut order = books.invoice(vec![line(1, "5", "1", "0", "S23"), line(2, "5", "1", "0", "S23")]).orders.remove(0);
    order.lines[0].1.shipped = Quantity::from_whole(2);
    order.lines[1].1.billed = Quantity::from_whole(5);
    order.invoices.push(InvoiceShares {
        in_advance: false,
        name: "I-9".to_owned(),
        invoice: InvoiceId(1),
        total: Money(1_000),
        open: Money(250),
        shares: vec![(OrderId(1), Money(1_000))],
    });
    // The first line was promised at 5.00, 6.15 with tax: three fifths of it are to ship, two fifths to bill.
    order.promised.lines = vec![(order.lines[0].0, "0.23".parse().unwrap(), Money(500))];
    let hangs = |order: &OrderFacts| -> Vec<(Hangs, i64, String)> {
        hanging(order).into_iter().map(|one| (one.what, one.amount.0, one.words)).collect()
    };
    let steps = |order: &OrderFacts| hanging(order).into_iter().map(|one| one.step).collect::<Vec<_>>();
    assert_eq!(steps(&order), [Frees::ShipBillAndReceive, Frees::Bill, Frees::Receive]);
    // Gone out and not paid: 2.50 open and 2.46 to bill, less 1.00 billed in advance.
    assert_eq!((order.gone_out_unpaid(Money(0)), order.gone_out_unpaid(Money(100))), (Money(496), Money(396)));
    let said = |what, amount, words: &str| (what, amount, words.to_owned());
    assert_eq!(
        hangs(&order),
        [
            said(Hangs::ToShip, 369, "1 line to ship."),
            said(Hangs::ToBill, 246, "1 line shipped and not billed."),
            said(Hangs::ToPay, 250, "2.50 EUR to be paid."),
        ]
    );
    // What stands for it hangs too, each with the step that frees it.
    (order.deposits_held, order.card_left, order.prepaid_left) = (Money(80), Money(70), Money(60));
    let more = &hangs(&order)[3..];
    let wanted = [
        said(Hangs::Deposit, 80, "0.80 EUR of deposits held: its next invoice uses them."),
        said(Hangs::Card, 70, "0.70 EUR authorized on a card: capture it once the goods have shipped."),
        said(Hangs::Prepaid, 60, "0.60 EUR net billed in advance and not used: its next invoice uses it."),
    ];
    assert_eq!(more, wanted);
    // A card stands for it: its money is captured, not received.
    assert_eq!(steps(&order)[..3], [Frees::ShipAndBill, Frees::Bill, Frees::Capture]);
    assert_eq!(steps(&order)[3..], [Frees::ClearDeposits, Frees::Capture, Frees::Credit]);
    order.confirmed = false;
    assert!(hangs(&order)[0].2.contains("draft"));
}

fn shipment<'a>(books: &'a Books, lines: Vec<LineToShip>, on_hand: i64) -> ShipmentInput<'a> {
    let layer = Layer {
        id: LayerId(1),
        remaining: Quantity::from_whole(on_hand),
        remaining_cost: Money(on_hand * 100),
        later: Vec::new(),
    };
    ShipmentInput {
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
        lines,
        stock: BTreeMap::from([(ItemId(1), vec![layer])]),
        accounts: &books.accounts,
        periods: &books.periods,
        base: eur(),
    }
}

fn to_ship(order_line: i64, quantity: i64, ordered: i64) -> LineToShip {
    LineToShip {
        shipment_line: ShipmentLineId(order_line),
        order_line: OrderLineId(order_line),
        item: ItemId(1),
        code: "IT-1".to_owned(),
        class: "goods".to_owned(),
        stocked: true,
        unit: "pc".to_owned(),
        factor: Quantity::ONE,
        over: Quantity::ZERO,
        drafted: Quantity::ZERO,
        marks: Marks::default(),
        quantity: Quantity::from_whole(quantity),
        progress: LineProgress {
            ordered: Quantity::from_whole(ordered),
            cancelled: Quantity::ZERO,
            shipped: Quantity::ZERO,
            billed: Quantity::ZERO,
            value: Money(1),
        },
    }
}

/// Short stock: what is there ships, the rest waits. Common practice, no source.
#[test]
fn stock_never_goes_below_zero() {
    let books = Books::new();
    let found = |lines| {
        let decision = till_core::shipment::decide(&shipment(&books, lines, 10));
        (
            decision.blockers.iter().map(|one| (one.check, one.field.clone())).collect::<Vec<_>>(),
            decision.entry.is_some(),
        )
    };
    assert_eq!(found(vec![to_ship(1, 10, 10)]), (vec![], true));
    assert_eq!(found(vec![to_ship(1, 11, 20)]), (vec![(Check::StockShort, "lines.0.quantity".to_owned())], false));
    // Two lines of one item share what is there.
    assert_eq!(
        found(vec![to_ship(1, 6, 6), to_ship(2, 6, 6)]),
        (vec![(Check::StockShort, "lines.1.quantity".to_owned())], false)
    );
    assert_eq!(found(vec![to_ship(1, 5, 4)]).0[0].0, Check::MoreThanOrdered);
    assert_eq!(found(vec![to_ship(1, 0, 4)]).0[0].0, Check::QuantityNotPositive);
    assert_eq!(found(vec![to_ship(1, 1, 4), to_ship(1, 1, 4)]).0[0].0, Check::NamedTwice);
    assert_eq!(found(vec![]).0[0].0, Check::NothingToDo);
}

#[test]
fn stop_period_and_date_keep_goods_in() {
    let mut books = Books::new();
    books.periods = Periods(vec![Period { first: day("2026-03-01"), last: day("2026-03-31"), open: false }]);
    let mut input = shipment(&books, vec![to_ship(1, 1, 1)], 5);
    input.stop_reason = Some("unpaid".to_owned());
    input.date = day("2026-02-27");
    let checks: Vec<Check> = till_core::shipment::decide(&input).blockers.iter().map(|one| one.check).collect();
    assert_eq!(checks, [Check::CustomerOnStop, Check::DateTooEarly, Check::PeriodClosed]);
}

#[test]
fn bad_intakes_are_refused() {
    let books = Books::new();
    let intake = |quantity: i64, cost: i64, date: &str| {
        decide_intake(&IntakeInput {
            item: ItemId(1),
            warehouse: "MAIN".to_owned(),
            class: "goods".to_owned(),
            code: "IT-1".to_owned(),
            quantity: Quantity::from_whole(quantity),
            cost: Money(cost),
            date: day(date),
            accounts: &books.accounts,
            periods: &books.periods,
            base: eur(),
        })
        .map_err(|blockers| blockers[0].field.clone())
    };
    assert_eq!(intake(0, 1, "2026-03-01").unwrap_err(), "quantity");
    assert_eq!(intake(1, -1, "2026-03-01").unwrap_err(), "cost");
    assert_eq!(intake(1, 1, "2031-03-01").unwrap_err(), "date");
    assert!(intake(1, 0, "2026-03-01").unwrap().entries.is_empty(), "goods that cost nothing write nothing");
}
