//! Money in: where it goes, what stays open, what becomes of the orders.

use crate::common::*;
use till_core::calendar::{Period, Periods, Terms};
use till_core::checks::{Check, stops};
use till_core::fixed::Quantity;
use till_core::ids::{InvoiceId, OrderId, OrderLineId};
use till_core::money::{Currency, Money};
use till_core::order::{InvoiceShares, LineProgress, OrderFacts, OrderState, Promised};
use till_core::settle::{self, PlaceKind, SettleInput, Source, ToApply};
use till_core::tape::{Figure, TapeStyle};

fn to(id: i64, open: i64, amount: i64) -> ToApply {
    ToApply::new(open_invoice(id, open, open), Money(amount))
}

/// A filled order on invoice 1 of 100.00, of which `open` is open.
fn filled(open: i64) -> OrderFacts {
    let five = Quantity::from_whole(5);
    OrderFacts {
        prepaid_left: Money::ZERO,
        card_left: Money::ZERO,
        work: Vec::new(),
        id: OrderId(1),
        number: "O-1".to_owned(),
        customer_order_number: None,
        terms: Terms::net_days(30),
        currency: eur(),
        confirmed: true,
        lines: vec![(
            OrderLineId(1),
            LineProgress { ordered: five, cancelled: Quantity::ZERO, shipped: five, billed: five, value: Money(8_000) },
        )],
        invoices: vec![InvoiceShares {
            in_advance: false,
            invoice: InvoiceId(1),
            total: Money(10_000),
            open: Money(open),
            name: "I-1".to_owned(),
            shares: vec![(OrderId(1), Money(10_000))],
        }],
        promised: Promised::default(),
        deposits_held: Money::ZERO,
    }
}

/// A payment smaller than the invoice leaves exactly the difference open: common practice, no source.
#[test]
fn a_part_leaves_exactly_the_difference_open() {
    let books = Books::new();
    let decision = settle::decide(&books.money(transfer(), 4_001, vec![to(1, 10_000, 4_001)]));
    assert_eq!(decision.document.applied[0].open_after, Money(5_999));
    assert_eq!(written(&decision.entry), pairs(&[("31000", 4_001), ("21000", -4_001)]));
}

#[test]
fn the_place_decides_which_account_the_money_is_on() {
    let books = Books::new();
    for (kind, account) in [
        (PlaceKind::Bank, "31000"),
        (PlaceKind::ChecksInHand, "32000"),
        (PlaceKind::Drawer, "32000"),
        (PlaceKind::CardClearing, "33000"),
    ] {
        let source = Source::Received { method: method("some way", kind) };
        let decision = settle::decide(&books.money(source, 500, Vec::new()));
        assert_eq!(written(&decision.entry), pairs(&[(account, 500), ("27000", -500)]), "{kind:?}");
    }
}

#[test]
fn a_filled_order_closes_with_its_last_cent() {
    let books = Books::new();
    let decide = |open: i64, amount: i64| {
        let mut input = books.money(transfer(), amount, vec![to(1, open, amount)]);
        input.orders = vec![filled(open)];
        settle::decide(&input)
    };
    let nearly = decide(10_000, 9_999);
    assert_eq!(nearly.orders[0].state, OrderState::Filled);
    let last = decide(1, 1);
    assert_eq!(last.orders[0].state, OrderState::Closed);
    let closed = last.changes.iter().find(|change| change.after == Figure::words("closed")).unwrap();
    assert_eq!((closed.label.as_str(), closed.before.as_ref()), ("O-1", Some(&Figure::words("completed"))));
}

#[test]
fn only_what_changes_is_shown() {
    let books = Books::new();
    let unapplied = settle::decide(&books.money(transfer(), 500, Vec::new()));
    assert!(unapplied.changes.is_empty(), "the customer owes what it owed: {:?}", unapplied.changes);
    let applied = settle::decide(&books.money(transfer(), 500, vec![to(1, 900, 500)]));
    assert_eq!(applied.changes[0].before, Some(Figure::money(Money(100_000))));
    assert_eq!(applied.changes[0].after, Figure::money(Money(99_500)));
}

#[test]
fn the_tape_adds_up_to_what_stays_unapplied() {
    let books = Books::new();
    let tape = settle::decide(&books.money(check(), 1_000, vec![to(1, 300, 300), to(2, 900, 450)])).tape;
    let steps: i64 = tape
        .lines
        .iter()
        .filter(|line| line.style == TapeStyle::Line)
        .filter_map(|line| line.amount)
        .map(|amount| amount.0)
        .sum();
    let due = tape.lines.iter().find(|line| line.style == TapeStyle::Due).unwrap();
    assert_eq!((steps, due.amount), (250, Some(Money(250))));
    assert!(tape.lines.iter().any(|line| line.label == "settled"));
    let rest = tape.lines.iter().find(|line| line.label == "stays open").unwrap();
    assert_eq!((rest.of, rest.amount), (Some(Money(900)), Some(Money(450))));
}

#[test]
fn a_closed_period_and_a_missing_rate_stop_it() {
    let mut books = Books::new();
    books.periods = Periods(vec![
        Period { first: day("2026-04-01"), last: day("2026-04-30"), open: false },
        Period { first: day("2026-05-01"), last: day("2026-05-31"), open: true },
    ]);
    let mut input = books.money(transfer(), 500, Vec::new());
    input.rate = None;
    let decision = settle::decide(&input);
    let found: Vec<Check> = decision.blockers.iter().map(|blocker| blocker.check).collect();
    assert_eq!(found, [Check::PeriodClosed, Check::ExchangeRateMissing]);
    assert!(decision.blockers[0].sentence.contains("Post on 1 May 2026 or later"), "{}", decision.blockers[0].sentence);
    assert!(stops(&decision.blockers));
}

#[test]
fn two_currencies_need_a_rate_between_them() {
    let books = Books::new();
    let mut input = books.money(transfer(), 500, vec![to(1, 900, 500)]);
    input.to_apply[0].item.currency = Currency::of("USD").unwrap();
    let decision = settle::decide(&input);
    assert_eq!(decision.blockers[0].check, Check::ExchangeRateMissing);
    let sentence = "I-1 is in USD, the money in EUR, and no rate between them is known for 10 Apr 2026.";
    assert_eq!(decision.blockers[0].sentence, sentence);
}

#[test]
fn a_purpose_without_an_account_writes_nothing() {
    let mut books = Books::new();
    books.accounts.0.retain(|rule| rule.account.number != "27000");
    let decision = settle::decide(&books.money(transfer(), 500, vec![to(1, 300, 300)]));
    assert!(decision.entry.is_none(), "half an entry is none");
    assert_eq!(decision.blockers[0].check, Check::AccountMissing);
}

fn pounds<'a>(books: &'a Books, rate: &str, amount: i64, applications: Vec<ToApply>) -> SettleInput<'a> {
    let gbp = Currency::of("GBP").unwrap();
    let mut input = books.money(transfer(), amount, applications);
    input.currency = gbp;
    input.rate = Some(rate.parse().unwrap());
    for application in &mut input.to_apply {
        application.item.currency = gbp;
    }
    input
}

/// 100.00 of pounds at 1.15 over two invoices carried at 1.17 and 1.16, and a rest: figures of our own.
#[test]
fn a_foreign_receipt_splits_its_base_and_its_difference() {
    let books = Books::new();
    let mut applications = vec![to(1, 5_000, 5_000), to(2, 9_000, 3_000)];
    applications[0].item.open_base = Money(5_850);
    applications[1].item.open_base = Money(10_440);
    let decision = settle::decide(&pounds(&books, "1.15", 10_000, applications));
    let parts: Vec<(i64, i64)> =
        decision.document.applied.iter().map(|one| (one.money_base.0, one.receivable_base.0)).collect();
    assert_eq!(parts, [(5_750, 5_850), (3_450, 3_480)]);
    assert_eq!(decision.document.unapplied_base, Money(2_300));
    assert_eq!(
        written(&decision.entry),
        pairs(&[("31000", 11_500), ("91000", 130), ("21000", -5_850), ("21000", -3_480), ("27000", -2_300)])
    );
}

#[test]
fn a_gain_on_currency_stands_on_the_credit_side() {
    let books = Books::new();
    let mut applications = vec![to(1, 1_000, 1_000)];
    applications[0].item.open_base = Money(1_150);
    let decision = settle::decide(&pounds(&books, "1.17", 1_000, applications));
    assert_eq!(written(&decision.entry), pairs(&[("31000", 1_170), ("21000", -1_150), ("91000", -20)]));
}

#[test]
fn the_mark_of_what_was_seen_moves_with_the_figures() {
    let books = Books::new();
    let mark =
        |amount: i64, open: i64| settle::decide(&books.money(transfer(), amount, vec![to(1, open, 100)])).fingerprint;
    assert_eq!(mark(500, 900), mark(500, 900));
    assert_ne!(mark(500, 900), mark(501, 900));
    assert_ne!(mark(500, 900), mark(500, 899), "another payment came in between");
}
