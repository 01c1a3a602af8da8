//! Tapes and entries as a clerk reads them, kept as snapshots.

use crate::common::*;
use till_core::calendar::Terms;
use till_core::checks::{Check, Effect};
use till_core::entry::Entry;
use till_core::fixed::{ExchangeRate, Quantity};
use till_core::ids::{InvoiceId, OrderId, OrderLineId};
use till_core::invoice::{self, DiscountWish, HeldCost, InvoiceDecision, ItemKind, PriceChange};
use till_core::money::{Currency, Money};
use till_core::open_items::OpenItem;
use till_core::order::{InvoiceShares, Promised};
use till_core::settle::{self, Source, ToApply};
use till_core::tax::TaxComputed;

fn entry_text(entry: &Option<Entry>) -> String {
    let mut text = String::new();
    for line in entry.iter().flat_map(|entry| &entry.lines) {
        let (debit, credit) = if line.base.is_positive() {
            (eur().format(line.base), String::new())
        } else {
            (String::new(), eur().format(-line.base))
        };
        let tax =
            line.tax.as_ref().map(|tax| format!("  {} of {}", tax.code, eur().format(tax.base))).unwrap_or_default();
        text.push_str(format!("{:<7}{:<20}{debit:>12}{credit:>12}{tax}", line.account, line.account_name).trim_end());
        text.push('\n');
    }
    text
}

fn shown(decision: &InvoiceDecision) -> String {
    let cost = match &decision.cost_entry {
        None => String::new(),
        cost => format!("\n{}", entry_text(cost)),
    };
    let blockers: Vec<String> = decision
        .blockers
        .iter()
        .map(|blocker| format!("{:?} {}: {}", blocker.effect, blocker.field, blocker.sentence))
        .collect();
    format!("{}\n{}{cost}\n{}", decision.tape.to_text(), entry_text(&decision.entry), blockers.join("\n"))
}

#[test]
fn one_shipment_with_discount_and_a_rest_to_come() {
    let books = Books::new();
    let mut hive = line(1, "40", "32.50", "5", "S23");
    hive.discount_reason = Some("40 and over".to_owned());
    hive.description = "Hive body, 12 frames".to_owned();
    let mut input = books.invoice(vec![hive, line(2, "2", "22", "0", "Z0")]);
    input.orders[0].lines[0].1.ordered = Quantity::from_whole(60);
    insta::assert_snapshot!(shown(&invoice::decide(&input)));
}

#[test]
fn two_shipments_of_two_orders_on_one_invoice() {
    let books = Books::new();
    let mut second = line(2, "25", "24.80", "0", "S135");
    second.source = shipped(2, 2, 2, 2, "2026-03-16");
    let mut freight = line(3, "1", "18", "0", "S23");
    freight.kind = ItemKind::Charge;
    let mut input = books.invoice(vec![line(1, "12", "18.90", "0", "S23"), freight, second.clone()]);
    let mut other = input.orders[0].clone();
    other.id = OrderId(2);
    other.number = "O-2".to_owned();
    other.lines = vec![input.orders[0].lines[2]];
    input.orders[0].lines.truncate(2);
    input.orders.push(other);
    insta::assert_snapshot!(shown(&invoice::decide(&input)));
}

#[test]
fn reverse_charge_without_a_tax_id_is_stopped() {
    let books = Books::new();
    let decision = invoice::decide(&books.invoice(vec![line(1, "1", "1240", "5", "AE")]));
    assert_eq!(decision.blockers[0].check, Check::TaxIdMissing);
    assert_eq!(decision.blockers[0].field, "customer.tax_id");
    insta::assert_snapshot!(shown(&decision));
}

#[test]
fn everything_wrong_at_once_is_said_at_once() {
    let books = Books::new();
    let mut too_much = line(1, "5", "10", "0", "S23");
    too_much.unbilled = Quantity::from_whole(3);
    let mut nothing = line(2, "0", "10", "0", "S23");
    nothing.unbilled = Quantity::from_whole(3);
    let mut no_account = line(3, "1", "10", "0", "none");
    no_account.class = "gifts".to_owned();
    let mut input = books.invoice(vec![too_much, nothing, no_account]);
    input.customer.needs_order_number = true;
    input.orders[0].customer_order_number = None;
    input.customer.stop_reason = Some("two returned checks".to_owned());
    input.posting_date.date = day("2027-01-02");
    input.document_date.date = day("2026-02-01");
    input.dates.last = Some(day("2026-03-17"));
    insta::assert_snapshot!(shown(&invoice::decide(&input)));
}

#[test]
fn a_direct_invoice_of_work_and_freight() {
    let books = Books::new();
    let mut input = books.invoice(Vec::new());
    input.orders.clear();
    input.lines = vec![typed(1, "6", "42", "S23"), typed(2, "1", "18", "Z0")];
    input.text_above = Some("As agreed at the spring fair.".to_owned());
    insta::assert_snapshot!(shown(&invoice::decide(&input)));
}

#[test]
fn prices_with_tax_at_two_rates() {
    let books = Books::new();
    let mut input = books.invoice(vec![
        line(1, "3", "11.99", "0", "S23"),
        line(2, "7", "1.15", "0", "S135"),
        line(3, "1", "22", "0", "Z0"),
    ]);
    input.basis.gross_priced = true;
    input.customer.gross_priced = true;
    insta::assert_snapshot!(shown(&invoice::decide(&input)));
}

#[test]
fn a_discount_on_the_invoice_beside_drums() {
    let books = Books::new();
    let mut drum = line(3, "2", "40", "0", "O0");
    drum.kind = ItemKind::Packaging;
    let mut input = books.invoice(vec![line(1, "1", "10.01", "0", "S23"), line(2, "1", "20.02", "0", "S135"), drum]);
    input.discount = Some(DiscountWish {
        percent: Some("0.1".parse().unwrap()),
        amount: None,
        reason: "trade fair".to_owned(),
        allowed: None,
    });
    insta::assert_snapshot!(shown(&invoice::decide(&input)));
}

#[test]
fn a_part_at_another_price_and_why_it_is_not_what_was_ordered() {
    let books = Books::new();
    let mut hive = line(1, "4", "10", "0", "S23");
    let unit_price = "9".parse().unwrap();
    hive.price_change = Some(PriceChange { unit_price, reason: "scratched".to_owned(), allowed: None });
    let mut input = books.invoice(vec![hive, typed(2, "1", "5", "S23")]);
    input.orders[0].lines.truncate(1);
    let progress = &mut input.orders[0].lines[0].1;
    (progress.ordered, progress.cancelled) = (Quantity::from_whole(12), Quantity::from_whole(2));
    (progress.shipped, progress.billed) = (Quantity::from_whole(7), Quantity::from_whole(3));
    let promised = vec![(OrderLineId(1), "0.23".parse().unwrap(), Money(12_000))];
    input.orders[0].promised = Promised { gross: false, lines: promised };
    input.orders[0].invoices = vec![InvoiceShares {
        in_advance: false,
        invoice: InvoiceId(9),
        name: "I-9 of 3 Mar 2026".to_owned(),
        total: Money(3_690),
        open: Money(0),
        shares: vec![(OrderId(1), Money(3_690))],
    }];
    insta::assert_snapshot!(shown(&invoice::decide(&input)));
}

#[test]
fn in_pounds_with_its_rate_and_the_amounts_of_the_books() {
    let books = Books::new();
    let gbp = Currency::of("GBP").unwrap();
    let mut input = books.invoice(vec![line(1, "12", "59", "0", "S23"), line(2, "1", "9.99", "0", "S23")]);
    input.basis.currency = gbp;
    input.orders[0].currency = gbp;
    input.rate = Some("1.1734".parse::<ExchangeRate>().unwrap());
    insta::assert_snapshot!(shown(&invoice::decide(&input)));
}

#[test]
fn sold_into_another_country_under_reverse_charge_with_other_terms() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "2", "499.99", "5", "AE")]);
    input.customer.tax_id = Some("MH1234567".to_owned());
    input.basis.terms = Terms::net_days(60);
    input.basis.terms_typed = true;
    insta::assert_snapshot!(shown(&invoice::decide(&input)));
}

#[test]
fn goods_whose_cost_waited_for_the_invoice() {
    let books = Books::new();
    let mut held = line(1, "4", "59", "0", "S23");
    // Three of them were billed before, and their cost followed then.
    held.held_cost = Some(HeldCost {
        shipped: Quantity::from_whole(7),
        billed: Quantity::from_whole(3),
        cost: Money(24_850),
        followed: Money(10_650),
    });
    insta::assert_snapshot!(shown(&invoice::decide(&books.invoice(vec![held]))));
}

#[test]
fn what_differs_is_said_when_orders_cannot_go_together() {
    let books = Books::new();
    let mut second = line(2, "1", "10", "0", "S23");
    second.source = shipped(2, 2, 1, 2, "2026-03-12");
    let mut input = books.invoice(vec![line(1, "1", "10", "0", "S23"), second]);
    let mut other = input.orders[0].clone();
    other.id = OrderId(2);
    other.number = "O-2".to_owned();
    other.currency = Currency::of("GBP").unwrap();
    other.terms = Terms::net_days(14);
    input.orders.push(other);
    let sentences: Vec<String> = invoice::decide(&input)
        .blockers
        .into_iter()
        .filter(|blocker| blocker.check == Check::CannotCombine && blocker.effect == Effect::Stops)
        .map(|blocker| blocker.sentence)
        .collect();
    assert_eq!(
        sentences,
        [
            "O-1 is in EUR, O-2 in GBP. Bill them on two invoices.",
            "O-1 has the terms 30 days net, O-2 has 14 days net. Bill them on two invoices, or choose terms for this one.",
        ]
    );
}

#[test]
fn tax_per_line_differs_from_tax_per_document() {
    let books = Books::new();
    let lines = || (1..=3).map(|id| line(id, "1", "1.10", "0", "S23")).collect::<Vec<_>>();
    let mut per_line = books.invoice(lines());
    per_line.tax_computed = TaxComputed::PerLine;
    let tax = |decision: InvoiceDecision| decision.document.unwrap().tax;
    assert_eq!(tax(invoice::decide(&books.invoice(lines()))), Money(76));
    assert_eq!(tax(invoice::decide(&per_line)), Money(75));
}

#[test]
fn a_receipt_over_two_invoices_with_a_rest() {
    let books = Books::new();
    let to_apply = vec![
        ToApply::new(open_invoice(1, 143_655, 143_655), Money(143_655)),
        ToApply::new(open_invoice(2, 84_132, 84_132), Money(50_000)),
    ];
    let decision = settle::decide(&books.money(transfer(), 200_000, to_apply));
    insta::assert_snapshot!(format!("{}\n{}", decision.tape.to_text(), entry_text(&decision.entry)));
}

#[test]
fn bad_applications_are_refused_each_at_its_field() {
    let books = Books::new();
    let mut foreign = open_invoice(3, 100, 100);
    foreign.customer = till_core::ids::CustomerId(8);
    let mut later = open_invoice(4, 100, 100);
    later.posting_date = day("2026-05-01");
    let to_apply = vec![
        ToApply::new(open_invoice(1, 100, 100), Money(101)),
        ToApply::new(open_invoice(2, 100, 100), Money(0)),
        ToApply::new(foreign, Money(1)),
        ToApply::new(later, Money(1)),
        ToApply::new(open_invoice(2, 100, 100), Money(1)),
    ];
    let decision = settle::decide(&books.money(transfer(), 50, to_apply));
    let found: Vec<(Check, &str)> =
        decision.blockers.iter().map(|blocker| (blocker.check, blocker.field.as_str())).collect();
    assert_eq!(
        found,
        [
            (Check::MoreThanReceived, "applications"),
            (Check::MoreThanOpen, "applications.0.amount"),
            (Check::AmountNotPositive, "applications.1.amount"),
            (Check::OtherCustomer, "applications.2.amount"),
            (Check::DateTooEarly, "applications.3.amount"),
            (Check::NamedTwice, "applications.4.amount"),
        ]
    );
}

#[test]
fn unapplied_money_is_not_used_before_it_came() {
    let books = Books::new();
    let source = Source::Item(OpenItem { posting_date: day("2026-04-11"), ..unapplied("C-9", 500, 500) });
    let decision = settle::decide(&books.money(source, 500, vec![ToApply::new(open_invoice(1, 900, 900), Money(500))]));
    assert_eq!(decision.blockers[0].check, Check::DateTooEarly);
}
