//! Settling and taking back: rows of postings.md, Money, with figures worked out by hand, and what must
//! hold for any input.

use crate::common::*;
use proptest::prelude::*;
use till_core::accounts::Purpose;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::{Check, Effect, stops};
use till_core::entry::EntryLine;
use till_core::fixed::ExchangeRate;
use till_core::fixed::Quantity;
use till_core::ids::{ApplicationId, CustomerId, DocumentKind, DocumentRef, EntryId, InvoiceId, OpenItemId};
use till_core::money::{Currency, Money};
use till_core::open_items::{OpenItem, Side, due_in_base, late_parts};
use till_core::order::{InvoiceShares, OrderFacts, OrderState};
use till_core::posting::Which;
use till_core::room::Movement;
use till_core::settle::BesideBooked;
use till_core::settle::back::{self, BackInput, Standing, WholeReceipt};
use till_core::settle::{self, Member, MoneyPlace, PlaceKind, SettleInput, Source, ToApply, decide};
use till_core::tape::{Change, Figure};
use till_core::terms::{Due, Instalment, SimpleDue, Terms};

fn currency(code: &str) -> Currency {
    Currency::of(code).unwrap()
}

fn rate(text: &str) -> ExchangeRate {
    text.parse().unwrap()
}

/// postings.md: USD 700.00 at 0.9085 for a part of an invoice in pounds, carried at 1.1712; pounds at 1.1695.
/// 700.00 × 0.9085 = 635.95; ÷ 1.1695 = 543.7793, applied 543.78; × 1.1712 = 636.8751, so 636.88 are released.
#[test]
fn dollars_for_an_invoice_in_pounds() {
    let books = Books::new();
    let mut item = open_invoice(1, 100_000, 117_120);
    item.currency = currency("GBP");
    let mut input = books.money(transfer(), 70_000, vec![ToApply::new(item, Money(70_000))]);
    (input.currency, input.rate) = (currency("USD"), Some(rate("0.9085")));
    input.other_rates = vec![(currency("GBP"), rate("1.1695"))];
    let decision = settle::decide(&input);
    assert!(!stops(&decision.blockers), "{:?}", decision.blockers);
    assert_eq!(decision.document.applied[0].amount, Money(54_378));
    let entry = decision.entry.as_ref().unwrap();
    let lines: Vec<_> = entry
        .lines
        .iter()
        .map(|line| (line.account.as_str(), line.base.0, line.document.0, line.currency.code()))
        .collect();
    assert_eq!(lines, [("31000", 63_595, 70_000, "USD"), ("21000", -63_688, -54_378, "GBP"), ("91000", 93, 93, "EUR")]);
    assert!(entry.balances());
}

/// No decimals against three: 10,000 JPY at 0.0061 are 61.00; ÷ 2.99 = 20.40133… , applied 20.401 KWD of 50.000
/// carried at 149.00: 149.00 × 20.401 ÷ 50 = 60.79498, so 60.79 are released. By hand and by Python's `decimal`.
#[test]
fn yen_for_an_invoice_in_dinars() {
    let books = Books::new();
    let mut item = open_invoice(1, 50_000, 14_900);
    item.currency = currency("KWD");
    let mut input = books.money(transfer(), 10_000, vec![ToApply::new(item, Money(10_000))]);
    (input.currency, input.rate) = (currency("JPY"), Some(rate("0.0061")));
    input.other_rates = vec![(currency("KWD"), rate("2.99"))];
    let decision = settle::decide(&input);
    assert!(!stops(&decision.blockers), "{:?}", decision.blockers);
    let lines: Vec<_> = decision
        .entry
        .iter()
        .flat_map(|entry| &entry.lines)
        .map(|line| (line.account.as_str(), line.base.0, line.document.0, line.currency.code()))
        .collect();
    assert_eq!(lines, [("31000", 6_100, 10_000, "JPY"), ("21000", -6_079, -20_401, "KWD"), ("91000", -21, -21, "EUR")]);
}

/// The row itself: an invoice of 543.78 carried at 636.87 is settled in whole, 0.92 is the difference.
#[test]
fn the_last_application_releases_all_that_is_carried() {
    let books = Books::new();
    let mut item = open_invoice(1, 54_378, 63_687);
    item.currency = currency("GBP");
    let mut input = books.money(transfer(), 70_000, vec![ToApply::new(item, Money(70_000))]);
    (input.currency, input.rate) = (currency("USD"), Some(rate("0.9085")));
    input.other_rates = vec![(currency("GBP"), rate("1.1695"))];
    let entry = settle::decide(&input).entry;
    assert_eq!(written(&entry), pairs(&[("31000", 63_595), ("91000", 92), ("21000", -63_687)]));
}

/// postings.md, Period ends: a stand-alone credit memo of 50.00 GBP carried at 1.16 against an invoice
/// carried at 1.17: 0.50 to currency differences, 0.50 off the receivable.
#[test]
fn a_credit_and_an_invoice_at_two_rates_leave_a_difference() {
    let books = Books::new();
    let gbp = currency("GBP");
    let memo = DocumentRef { kind: DocumentKind::CreditMemo, id: 9, number: "CM-9".to_owned() };
    let mut credit = open_item(Side::OwedByUs, Purpose::Receivable, memo, (5_000, 5_800));
    credit.currency = gbp;
    let mut item = open_invoice(1, 10_000, 11_700);
    item.currency = gbp;
    let mut input = books.money(Source::Item(credit), 5_000, vec![ToApply::new(item, Money(5_000))]);
    (input.currency, input.rate) = (gbp, Some(rate("1.15")));
    let decision = settle::decide(&input);
    let entry = decision.entry.as_ref().unwrap();
    let of = |account: &str| -> i64 {
        entry.lines.iter().filter(|line| line.account == account).map(|line| line.base.0).sum()
    };
    assert_eq!((of("21000"), of("91000")), (-50, 50));
    assert_eq!(decision.owes_less, [(CustomerId(7), Money(50))]);
}

/// postings.md: a credit memo matched with an invoice at the same rate writes nothing.
#[test]
fn two_items_on_one_account_are_only_matched() {
    let books = Books::new();
    let memo = DocumentRef { kind: DocumentKind::CreditMemo, id: 9, number: "CM-9".to_owned() };
    let credit = open_item(Side::OwedByUs, Purpose::Receivable, memo, (7_257, 7_257));
    let input =
        books.money(Source::Item(credit), 7_257, vec![ToApply::new(open_invoice(1, 29_028, 29_028), Money(7_257))]);
    let decision = settle::decide(&input);
    assert!(decision.entry.is_none() && decision.blockers.is_empty(), "{:?}", decision.blockers);
    assert_eq!(decision.owes_less, [(CustomerId(7), Money::ZERO)], "what is owed, net, stays the same");
    assert!(decision.changes.is_empty(), "{:?}", decision.changes);
}

/// An item keeps the very account it was posted to, whatever the map says later.
#[test]
fn the_account_is_the_items_own() {
    let books = Books::new();
    let mut item = open_invoice(1, 1_000, 1_000);
    item.account.as_mut().unwrap().number = "21999".to_owned();
    let entry = settle::decide(&books.money(transfer(), 1_000, vec![ToApply::new(item, Money(1_000))])).entry;
    assert_eq!(written(&entry), pairs(&[("31000", 1_000), ("21999", -1_000)]));
}

/// A bank account kept in euros takes no pounds.
#[test]
fn a_place_in_one_currency_takes_no_other() {
    let books = Books::new();
    let mut way = method("transfer", PlaceKind::Bank);
    way.place.currency = Some(eur());
    let mut input = books.money(Source::Received { method: way }, 1_000, Vec::new());
    assert!(settle::decide(&input).blockers.is_empty());
    (input.currency, input.rate) = (currency("GBP"), Some(rate("1.17")));
    let blockers = settle::decide(&input).blockers;
    assert_eq!((blockers[0].check, blockers[0].field.as_str()), (Check::CurrencyDiffers, "method"));
    assert!(blockers[0].sentence.contains("kept in EUR, the money is in GBP"), "{}", blockers[0].sentence);
}

/// Applied to I-1 until 20 April, and a part of an invoice settled until then: each says from when on.
#[test]
fn what_is_not_there_on_the_day_says_from_when_on_it_is() {
    let books = Books::new();
    let mut money = unapplied("C-1", 1_000, 1_000);
    money.movements.extend([Movement::new(day("2026-04-01"), -1_000), Movement::new(day("2026-04-20"), 1_000)]);
    let to = |item: OpenItem| vec![ToApply::new(item, Money(600))];
    let first = settle::decide(&books.money(Source::Item(money.clone()), 1_000, to(open_invoice(1, 900, 900))));
    let [blocker] = first.blockers.as_slice() else { panic!("{:?}", first.blockers) };
    assert_eq!((blocker.check, blocker.field.as_str()), (Check::DateTooEarly, "date"));
    assert!(blocker.sentence.contains("20 Apr 2026 or later"), "{}", blocker.sentence);
    let mut invoice = open_invoice(1, 900, 900);
    invoice.movements.extend([Movement::new(day("2026-04-02"), -500), Movement::new(day("2026-04-25"), 500)]);
    let second = settle::decide(&books.money(transfer(), 1_000, to(invoice)));
    let [blocker] = second.blockers.as_slice() else { panic!("{:?}", second.blockers) };
    assert_eq!((blocker.check, blocker.field.as_str()), (Check::DateTooEarly, "applications.0.amount"));
    assert!(blocker.sentence.contains("25 Apr 2026 or later"), "{}", blocker.sentence);
}

/// A third of an invoice in three parts is late, and its base amount is spread without losing a cent.
#[test]
fn each_instalment_is_late_by_its_own_date() {
    let part = |share: &str, days| Instalment { share: share.parse().unwrap(), due: SimpleDue::NetDays { days } };
    let parts = vec![part("0.333333", 30), part("0.333333", 60), part("0.333334", 90)];
    let terms = Terms { due: Due::Instalments { parts }, discount: None };
    // 9,000.00 of 1 January: 31 January, 2 March, 1 April; on 15 February a third is late.
    let whole = (Money(900_000), Money(900_000));
    let due = due_in_base(&terms, day("2026-01-01"), whole, Money(1_000_001));
    assert_eq!(due.iter().map(|part| part.amount.0).sum::<i64>(), 1_000_001);
    assert_eq!(late_parts(&due, day("2026-02-15")), due[0].amount);
    // 3,500.00 paid covers the first part and 500.00 of the second: on 3 March 2,500.00 are late.
    let due = due_in_base(&terms, day("2026-01-01"), (Money(900_000), Money(550_000)), Money(550_000));
    assert_eq!(late_parts(&due, day("2026-02-15")), Money::ZERO);
    assert_eq!(late_parts(&due, day("2026-03-03")), Money(250_000));
}

fn standing(id: i64, invoice: i64, (settled, settled_base): (i64, i64), (used, used_base): (i64, i64)) -> Standing {
    Standing {
        beside: BesideBooked::default(),
        id: ApplicationId(id),
        debit: OpenItem { id: OpenItemId(invoice), ..open_invoice(invoice, 0, 0) },
        credit: unapplied("C-1", 0, 0),
        date: day("2026-04-01"),
        settled: (Money(settled), Money(settled_base)),
        used: (Money(used), Money(used_base)),
        taxes: Vec::new(),
        entry: Some(EntryId(40 + id)),
    }
}

fn taking_back(books: &Books, applications: Vec<Standing>, receipt: Option<WholeReceipt>) -> BackInput<'_> {
    BackInput {
        number: "C-1".to_owned(),
        payer: member(),
        payer_class: None,
        group: vec![member()],
        applications,
        receipt,
        fee: None,
        date: DocumentDate { date: day("2026-04-10"), typed: true },
        reason: "typed twice".to_owned(),
        currency: eur(),
        base: eur(),
        orders: Vec::new(),
        dates: DateOrder::of_today("2099-12-31".parse().unwrap()),
        accounts: &books.accounts,
        periods: &books.periods,
    }
}

fn receipt(books: &Books, open: (i64, i64), amount: (i64, i64)) -> WholeReceipt {
    let mut credit = unapplied("C-1", open.0, open.1);
    credit.movements =
        vec![Movement::new(day("2026-03-18"), amount.0), Movement::new(day("2026-04-01"), open.0 - amount.0)];
    let account = books.account(Purpose::Bank);
    let place =
        MoneyPlace { code: "bank".to_owned(), name: "Bank".to_owned(), kind: PlaceKind::Bank, account, currency: None };
    let amount = (Money(amount.0), Money(amount.1));
    WholeReceipt { credit, place: Some(place), amount, entry: EntryId(33), reversed: false }
}

/// The items that taking back moves.
fn known<'a>(input: &'a BackInput<'_>) -> Vec<&'a OpenItem> {
    let applied = input.applications.iter().flat_map(|one| [&one.debit, &one.credit]);
    applied.chain(input.receipt.iter().map(|receipt| &receipt.credit)).collect()
}

/// postings.md: a receipt unapplied, 21000 210.28 against 27000 210.28; each entry points to its own.
#[test]
fn each_unapplication_points_to_what_it_takes_back() {
    let books = Books::new();
    let two = vec![standing(1, 1, (21_028, 21_028), (21_028, 21_028)), standing(2, 2, (500, 500), (500, 500))];
    let input = taking_back(&books, two, None);
    let decision = back::decide(&input);
    assert!(decision.blockers.is_empty(), "{:?}", decision.blockers);
    let entries: Vec<_> =
        decision.entries.iter().map(|one| (written(&Some(one.entry.clone())), one.reverses)).collect();
    assert_eq!(
        entries,
        [
            (pairs(&[("21000", 21_028), ("27000", -21_028)]), Some(EntryId(41))),
            (pairs(&[("21000", 500), ("27000", -500)]), Some(EntryId(42)))
        ]
    );
    assert_eq!(decision.owes_more, [(CustomerId(7), Money(21_528))]);
    let posting = decision.posting(&input);
    agrees(&posting, &known(&input));
    let reversed: Vec<_> =
        posting.applications.iter().map(|one| (one.reverses, one.debit_amount.0, one.entry)).collect();
    assert_eq!(
        reversed,
        [(Some(ApplicationId(1)), Money(-21_028), Some(0)), (Some(ApplicationId(2)), Money(-500), Some(1))]
    );
    assert!(posting.items.is_empty());
}

/// A foreign receipt reversed: the bank gives back what it got, the receivable what it gave up, the
/// difference of the rates is taken back: 100.00 GBP at 1.15, 80.00 of them applied to what was carried at 93.60.
#[test]
fn a_receipt_is_reversed_at_its_own_rates() {
    let books = Books::new();
    let applied = vec![standing(1, 1, (8_000, 9_360), (8_000, 9_200))];
    let input = taking_back(&books, applied, Some(receipt(&books, (2_000, 2_300), (10_000, 11_500))));
    let decision = back::decide(&input);
    assert!(decision.blockers.is_empty(), "{:?}", decision.blockers);
    let [one] = decision.entries.as_slice() else { panic!("{:?}", decision.entries) };
    let expected = pairs(&[("21000", 9_360), ("27000", 2_300), ("31000", -11_500), ("91000", -160)]);
    assert_eq!((written(&Some(one.entry.clone())), one.reverses), (expected, Some(EntryId(33))));
    let posting = decision.posting(&input);
    agrees(&posting, &known(&input));
    // What takes it back is owed to us, and stands against the whole of it.
    let [item] = posting.items.as_slice() else { panic!("{posting:?}") };
    assert_eq!((item.side, item.amount, item.amount_base), (Side::OwedToUs, Money(10_000), Money(11_500)));
    let whole = posting.applications.last().unwrap();
    assert_eq!((whole.debit, whole.reverses, whole.entry), (Which::New(0), None, Some(0)));
}

#[test]
fn what_stands_in_the_way_of_taking_back_is_said() {
    let books = Books::new();
    let fields = |change: &dyn Fn(&mut BackInput<'_>)| {
        let applied = vec![standing(1, 1, (800, 800), (800, 800))];
        let mut input = taking_back(&books, applied, Some(receipt(&books, (200, 200), (1_000, 1_000))));
        change(&mut input);
        let found = back::decide(&input).blockers;
        found.into_iter().map(|one| (one.check, one.field)).collect::<Vec<_>>()
    };
    let one = |check, field: &str| vec![(check, field.to_owned())];
    assert_eq!(fields(&|_| {}), []);
    assert_eq!(fields(&|input| input.reason = "  ".to_owned()), one(Check::CannotCancel, "reason"));
    assert_eq!(fields(&|input| input.date.date = day("2026-03-31")), one(Check::DateTooEarly, "date"));
    assert_eq!(fields(&|input| input.date.date = day("2027-01-01")), one(Check::PeriodClosed, "date"));
    assert_eq!(fields(&|input| input.receipt.as_mut().unwrap().reversed = true), one(Check::CannotCancel, "receipt"));
    assert_eq!(fields(&|input| input.receipt.as_mut().unwrap().place = None), one(Check::CannotCancel, "receipt"));
    let nothing = |input: &mut BackInput<'_>| {
        input.receipt = None;
        input.applications.clear();
    };
    assert_eq!(fields(&nothing), one(Check::NothingToDo, "applications"));
    // Unapplied on 20 April already: until then it stood on an invoice.
    let later = |input: &mut BackInput<'_>| {
        let receipt = input.receipt.as_mut().unwrap();
        receipt.credit.movements.push(Movement::new(day("2026-04-05"), -200));
        receipt.credit.movements.push(Movement::new(day("2026-04-20"), 200));
    };
    assert_eq!(fields(&later), one(Check::DateTooEarly, "date"));
}

proptest! {
    /// Whatever a receipt was applied to, and at which rates: reversing it takes back exactly what its
    /// postings left, so that no account keeps a cent of it.
    #[test]
    fn a_reversal_leaves_nothing(
        parts in prop::collection::vec((1i64..100_000, 1i64..200_000), 0..6),
        rest in 0i64..50_000,
        at in 500_000_000i64..2_000_000_000,
    ) {
        let books = Books::new();
        let gbp = currency("GBP");
        let amount = parts.iter().map(|part| part.0).sum::<i64>() + rest;
        prop_assume!(amount > 0);
        let to_apply: Vec<ToApply> = parts
            .iter()
            .zip(1..)
            .map(|((part, carried), id)| {
                let item = OpenItem { currency: gbp, ..open_invoice(id, *part, *carried) };
                ToApply::new(item, Money(*part))
            })
            .collect();
        let mut input = books.money(transfer(), amount, to_apply.clone());
        (input.currency, input.rate) = (gbp, Some(ExchangeRate::from_scaled(at)));
        let posted = settle::decide(&input);
        prop_assert!(!stops(&posted.blockers), "{:?}", posted.blockers);
        let applications = posted
            .document
            .applied
            .iter()
            .zip(&to_apply)
            .map(|(applied, to)| Standing {
                beside: BesideBooked::default(),
                id: ApplicationId(applied.item.0),
                debit: to.item.clone(),
                credit: OpenItem { currency: gbp, ..unapplied("C-1", 0, 0) },
                date: day("2026-04-10"),
                settled: (applied.amount, applied.receivable_base),
                used: (applied.credit_amount, applied.money_base),
                taxes: Vec::new(),
                entry: Some(EntryId(1)),
            })
            .collect();
        let document = &posted.document;
        let mut whole = receipt(&books, (document.unapplied.0, document.unapplied_base.0), (amount, document.amount_base.0));
        whole.credit.currency = gbp;
        whole.credit.movements = vec![Movement::new(day("2026-04-10"), document.unapplied.0)];
        let mut input = taking_back(&books, applications, Some(whole));
        input.currency = gbp;
        let back = back::decide(&input);
        let mut left = std::collections::BTreeMap::<String, i64>::new();
        for line in posted.entry.iter().chain(back.entries.iter().map(|one| &one.entry)).flat_map(|entry| &entry.lines) {
            *left.entry(line.account.clone()).or_default() += line.base.0;
        }
        prop_assert!(left.values().all(|amount| *amount == 0), "{left:?}");
        let less: i64 = posted.owes_less.iter().map(|(_, amount)| amount.0).sum();
        prop_assert_eq!(less, back.owes_more.iter().map(|(_, amount)| amount.0).sum::<i64>());
    }
}

/// A member of a group is named where several are concerned.
#[test]
fn who_owes_less_is_named_where_it_is_several() {
    let books = Books::new();
    let mut branch = open_invoice(2, 500, 500);
    branch.customer = CustomerId(8);
    let to = vec![ToApply::new(open_invoice(1, 300, 300), Money(300)), ToApply::new(branch, Money(500))];
    let mut input = books.money(transfer(), 800, to);
    assert_eq!(settle::decide(&input).blockers[0].check, Check::OtherCustomer);
    input.group.push(Member { id: CustomerId(8), name: "Reed Cottage".to_owned(), owes: Money(700) });
    let decision = settle::decide(&input);
    assert!(decision.blockers.is_empty(), "{:?}", decision.blockers);
    let labels: Vec<_> = decision.changes.iter().map(|change| change.label.as_str()).collect();
    assert_eq!(labels, ["Saltmarsh Honey Co-op owes", "Reed Cottage owes"]);
    assert!(decision.tape.to_text().contains("of Reed Cottage"), "{}", decision.tape.to_text());
}

/// What the customers owe is said with its name only where several are concerned.
#[test]
fn who_owes_what_is_said() {
    let books = Books::new();
    let branch = Member { id: CustomerId(8), name: "Saltmarsh, the shop".to_owned(), owes: Money(5_000) };
    let mut second = open_invoice(2, 3_000, 3_000);
    second.customer = branch.id;
    let first = || ToApply::new(open_invoice(1, 2_000, 2_000), Money(2_000));
    let alone = settle::decide(&books.money(transfer(), 2_000, vec![first()]));
    let labels = |changes: &[Change]| -> Vec<(String, Figure)> {
        changes.iter().map(|one| (one.label.clone(), one.after.clone())).collect()
    };
    assert_eq!(labels(&alone.changes), [("Customer owes".to_owned(), Figure::money(Money(98_000)))]);
    let mut input = books.money(transfer(), 5_000, vec![first(), ToApply::new(second, Money(1_000))]);
    input.group.push(branch);
    let both = settle::decide(&input);
    let named = [("Saltmarsh Honey Co-op owes", 98_000), ("Saltmarsh, the shop owes", 4_000)]
        .map(|(label, amount)| (label.to_owned(), Figure::money(Money(amount))));
    assert_eq!(labels(&both.changes), named);
    let text = both.tape.to_text();
    assert!(text.contains("settled"), "{text}");
    assert_eq!(text.matches("of Saltmarsh, the shop").count(), 1, "{text}");
    assert!(text.find("to I-2") < text.find("of Saltmarsh, the shop"), "said of its own invoice: {text}");
    let open = both.tape.lines.iter().find(|line| line.label == "stays open").unwrap();
    assert_eq!(open.amount, Some(Money(2_000)));
}

/// In another currency the tape says what is left in the item's own.
#[test]
fn what_stays_open_is_said_in_its_own_currency() {
    let books = Books::new();
    let mut item = open_invoice(1, 10_000, 11_700);
    item.currency = currency("GBP");
    let mut input = books.money(transfer(), 1_170, vec![ToApply::new(item, Money(1_170))]);
    input.other_rates = vec![(currency("GBP"), rate("1.17"))];
    let text = settle::decide(&input).tape.to_text();
    assert!(text.contains("90.00 GBP stay open") && !text.contains("stays open"), "{text}");
}

/// Money at the bank is nobody's on the ledger line; a check in hand is that of who wrote it.
#[test]
fn a_place_in_hand_names_the_customer() {
    let books = Books::new();
    let lines = |source: Source| settle::decide(&books.money(source, 1_000, Vec::new())).entry.unwrap().lines;
    let of = |lines: Vec<EntryLine>| -> Vec<_> {
        lines.into_iter().map(|line| (line.account, line.customer, line.document.0)).collect()
    };
    let payer = Some(CustomerId(7));
    assert_eq!(of(lines(transfer())), [("31000".to_owned(), None, 1_000), ("27000".to_owned(), payer, -1_000)]);
    assert_eq!(of(lines(check())), [("32000".to_owned(), payer, 1_000), ("27000".to_owned(), payer, -1_000)]);
}

/// 600.00 of 1,000.00 that lie unapplied: that part goes, at what it is carried at.
#[test]
fn a_part_of_unapplied_money_goes_at_its_share() {
    let books = Books::new();
    let credit = || unapplied("C-1", 100_000, 100_000);
    let to = |on: &str| {
        let mut input = books.money(
            Source::Item(credit()),
            100_000,
            vec![ToApply::new(open_invoice(1, 60_000, 60_000), Money(60_000))],
        );
        input.date.date = day(on);
        input
    };
    let decision = settle::decide(&to("2026-03-18"));
    assert_eq!(decision.blockers, [], "on the very day both came in");
    assert_eq!(written(&decision.entry), pairs(&[("27000", 60_000), ("21000", -60_000)]));
    assert_eq!(settle::decide(&to("2026-03-17")).blockers[0].check, Check::DateTooEarly);
    let nothing = settle::decide(&books.money(Source::Item(credit()), 100_000, Vec::new()));
    assert_eq!((nothing.blockers[0].check, nothing.blockers[0].field.as_str()), (Check::NothingToDo, "applications"));
}

fn order_on(invoices: &[i64]) -> OrderFacts {
    let books = Books::new();
    let mut facts = books.invoice(vec![line(1, "1", "10", "0", "S23")]).orders[0].clone();
    facts.invoices = invoices
        .iter()
        .map(|id| InvoiceShares {
            in_advance: false,
            invoice: InvoiceId(*id),
            name: format!("I-{id}"),
            total: Money(1_000),
            open: Money(1_000),
            shares: vec![(facts.id, Money(1_000))],
        })
        .collect();
    let progress = &mut facts.lines[0].1;
    (progress.ordered, progress.shipped, progress.billed) = (Quantity::ONE, Quantity::ONE, Quantity::ONE);
    facts
}

/// Only the very invoice an order is on counts for it: not another, and not another kind of document of that id.
#[test]
fn an_order_is_paid_by_its_own_invoices() {
    let books = Books::new();
    let paid = |item: OpenItem| {
        let mut input = books.money(transfer(), 1_000, vec![ToApply::new(item, Money(1_000))]);
        input.orders = vec![order_on(&[1])];
        settle::decide(&input).orders[0].state
    };
    assert_eq!(paid(open_invoice(1, 1_000, 1_000)), OrderState::Closed);
    assert_eq!(paid(open_invoice(2, 1_000, 1_000)), OrderState::Filled);
    let mut opening = open_invoice(1, 1_000, 1_000);
    opening.document.kind = DocumentKind::Opening;
    assert_eq!(paid(opening), OrderState::Filled);
    // Taken back, it is open again.
    let mut input = taking_back(&books, vec![standing(1, 1, (1_000, 1_000), (1_000, 1_000))], None);
    let mut order = order_on(&[1]);
    // However it is reckoned: what is taken back adds to what is open.
    order.invoices[0].open = Money(1_000);
    order.invoices[0].total = Money(2_000);
    input.orders = vec![order];
    let back = back::decide(&input);
    assert_eq!(back.orders[0].state, OrderState::Filled);
    let owes: Vec<_> = back.changes.iter().map(|one| (one.label.as_str(), &one.after)).collect();
    assert!(owes.contains(&("Customer owes", &Figure::money(Money(101_000)))), "{owes:?}");
    assert!(back.changes.len() > 1, "what becomes of the order is said too: {owes:?}");
    let assumed = |typed| {
        let mut input = input.clone();
        input.date.typed = typed;
        back::decide(&input).tape.lines.last().unwrap().assumed
    };
    assert_eq!((assumed(true), assumed(false)), (false, true), "a date nobody typed is marked");
}

/// A credit memo that was only matched with its invoice wrote nothing, and nothing is written back; where
/// account, customer, purpose or base amount differ, there was an entry and there is one now.
#[test]
fn what_was_only_matched_is_taken_apart_without_an_entry() {
    let books = Books::new();
    let matched = || {
        let memo = DocumentRef { kind: DocumentKind::CreditMemo, id: 9, number: "CM-9".to_owned() };
        let credit = open_item(Side::OwedByUs, Purpose::Receivable, memo, (0, 0));
        Standing { credit, entry: None, ..standing(1, 1, (500, 500), (500, 500)) }
    };
    let decide = |one: Standing| back::decide(&taking_back(&books, vec![one], None));
    let nothing = decide(matched());
    assert!(nothing.entries.is_empty());
    assert_eq!(nothing.owes_more, [(CustomerId(7), Money::ZERO)], "net it owes the same");
    let other = |change: &dyn Fn(&mut Standing)| {
        let mut one = matched();
        change(&mut one);
        decide(one).entries.len()
    };
    assert_eq!(other(&|one| one.used.1 = Money(490)), 1);
    assert_eq!(other(&|one| one.credit.customer = CustomerId(8)), 1);
    assert_eq!(other(&|one| one.credit.account.as_mut().unwrap().number = "21999".to_owned()), 1);
    assert_eq!(other(&|one| one.credit.purpose = Purpose::Unapplied), 1);
}

/// Amounts in the currency of the document are turned as those in base currency are; a check in hand names its
/// customer, money at the bank does not; on the very day it was last moved it can be taken back.
#[test]
fn taking_back_turns_every_amount() {
    let books = Books::new();
    let applied = || vec![standing(1, 1, (8_000, 9_360), (8_000, 9_200))];
    let amounts = |input: &BackInput<'_>| -> Vec<(String, i64, i64, Option<CustomerId>)> {
        let entry = &back::decide(input).entries[0].entry;
        entry.lines.iter().map(|line| (line.account.clone(), line.base.0, line.document.0, line.customer)).collect()
    };
    let payer = Some(CustomerId(7));
    let mut unapply = taking_back(&books, applied(), None);
    unapply.date.date = day("2026-04-01");
    assert_eq!(back::decide(&unapply).blockers, []);
    assert_eq!(
        amounts(&unapply),
        [
            ("21000".to_owned(), 9_360, 8_000, payer),
            ("27000".to_owned(), -9_200, -8_000, payer),
            ("91000".to_owned(), -160, -160, None)
        ]
    );
    let mut whole = taking_back(&books, applied(), Some(receipt(&books, (2_000, 2_300), (10_000, 11_500))));
    let bank = amounts(&whole).into_iter().find(|line| line.0 == "31000").unwrap();
    assert_eq!(bank, ("31000".to_owned(), -11_500, -10_000, None));
    let place = whole.receipt.as_mut().unwrap().place.as_mut().unwrap();
    (place.kind, place.account) = (PlaceKind::ChecksInHand, books.account(Purpose::InHand));
    let in_hand = amounts(&whole).into_iter().find(|line| line.0 == "32000").unwrap();
    assert_eq!(in_hand, ("32000".to_owned(), -11_500, -10_000, payer));
    assert!(back::decide(&whole).tape.to_text().contains("was unapplied"));
    let applied_whole = taking_back(&books, applied(), Some(receipt(&books, (0, 0), (8_000, 9_200))));
    assert!(!back::decide(&applied_whole).tape.to_text().contains("was unapplied"));
}

/// What falls due on a day is late the day after.
#[test]
fn late_is_after_the_day() {
    let parts = Terms::net_days(30).open_parts(day("2026-01-01"), Money(900), Money(900));
    assert_eq!(late_parts(&parts, day("2026-01-31")), Money::ZERO);
    assert_eq!(late_parts(&parts, day("2026-02-01")), Money(900));
}

/// A reversal stands against its own receipt. Unapplied, the money would be there again, and the bank had given it
/// back: found by a random sequence.
#[test]
fn a_reversal_is_not_unapplied() {
    let books = Books::new();
    let mut own = standing(1, 1, (1_000, 1_000), (1_000, 1_000));
    own.debit.document = DocumentRef { kind: DocumentKind::Receipt, id: 900, number: "C-1".to_owned() };
    let found = back::decide(&taking_back(&books, vec![own], None)).blockers;
    assert_eq!((found[0].check, found[0].field.as_str()), (Check::CannotCancel, "receipt"));
    assert!(found[0].sentence.contains("is reversed"), "{}", found[0].sentence);
}

/// B4, M7: a receipt and containers that come back before the last of their kind warn, or stop where the company
/// wants them in order; a date after today's is asked about, of an application too.
#[test]
fn money_is_dated_in_order() {
    let books = Books::new();
    let mut input = books.money(transfer(), 5_000, Vec::new());
    let found = |input: &SettleInput<'_>| -> Vec<(Check, Effect, String)> {
        decide(input).blockers.iter().map(|one| (one.check, one.effect, one.field.clone())).collect()
    };
    assert_eq!(found(&input), []);
    input.dates.last = Some(day("2026-04-11"));
    assert_eq!(found(&input), [(Check::DateOutOfOrder, Effect::Warns, "date".to_owned())]);
    input.dates.stops = true;
    assert_eq!(found(&input), [(Check::DateBeforeLast, Effect::Stops, "date".to_owned())]);
    input.dates.last = Some(day("2026-04-10"));
    assert_eq!(found(&input), []);
    input.dates.today = day("2026-04-09");
    assert_eq!(found(&input), [(Check::DateAhead, Effect::Warns, "date".to_owned())]);
}

/// postings.md: check returned after it was banked, fee 15.00: 21000 210.28 and 81000 15.00 against 31000 225.28. In hand there is no
/// fee; in an account of dollars at 0.90 a fee of 5.00 is 4.50.
#[test]
fn the_bank_takes_a_fee_for_what_came_back() {
    let books = Books::new();
    let applied = || vec![standing(1, 1, (21_028, 21_028), (21_028, 21_028))];
    let fee = |amount: i64, code: &str, rate: Option<&str>| back::BankFee {
        amount: Money(amount),
        currency: till_core::money::Currency::of(code).unwrap(),
        rate: rate.map(|rate| rate.parse().unwrap()),
    };
    let decided = |whole: WholeReceipt, fee| {
        let decision = back::decide(&BackInput { fee: Some(fee), ..taking_back(&books, applied(), Some(whole)) });
        let entry = decision.entries.first().map(|one| one.entry.clone());
        let lines = written(&entry);
        (lines, decision.blockers.iter().map(|blocker| blocker.check).collect::<Vec<_>>())
    };
    let whole = || receipt(&books, (0, 0), (21_028, 21_028));
    let (lines, blockers) = decided(whole(), fee(1_500, "EUR", Some("1")));
    assert_eq!((lines, blockers), (pairs(&[("21000", 21_028), ("31000", -22_528), ("81000", 1_500)]), vec![]));
    let (lines, _) = decided(whole(), fee(500, "USD", Some("0.90")));
    assert_eq!(lines, pairs(&[("21000", 21_028), ("31000", -21_028), ("31000", -450), ("81000", 450)]));
    assert_eq!(decided(whole(), fee(500, "USD", None)).1, [Check::ExchangeRateMissing]);
    assert_eq!(decided(whole(), fee(0, "EUR", Some("1"))).1, [Check::AmountNotPositive]);
    let mut in_hand = whole();
    if let Some(place) = &mut in_hand.place {
        (place.kind, place.account) = (PlaceKind::ChecksInHand, books.account(Purpose::InHand));
    }
    assert_eq!(decided(in_hand.clone(), fee(1_500, "EUR", Some("1"))).1, [Check::CannotCancel]);
    // postings.md: check returned before it was banked, 21000 against 32000.
    let decision = back::decide(&taking_back(&books, applied(), Some(in_hand)));
    let entry = decision.entries.first().map(|one| one.entry.clone());
    assert_eq!(written(&entry), pairs(&[("21000", 21_028), ("32000", -21_028)]));
}

proptest::proptest! {
    /// Whatever lies there and is to be settled: no credit is used beyond itself, no target beyond itself, nothing is lost, and a
    /// credit is begun only where the one before is used up or nothing is left.
    #[test]
    fn credits_are_used_up_in_their_order(
        credits in proptest::collection::vec(0i64..9_000, 0..5),
        targets in proptest::collection::vec(0i64..9_000, 0..5),
    ) {
        let (credits, targets): (Vec<Money>, Vec<Money>) =
            (credits.into_iter().map(Money).collect(), targets.into_iter().map(Money).collect());
        let pooled = settle::pool(&credits, &targets);
        let used: Vec<Money> = pooled.credits.iter().map(|parts| parts.iter().map(|part| part.1).sum()).collect();
        let (all, wanted): (Money, Money) = (credits.iter().copied().sum(), targets.iter().copied().sum());
        proptest::prop_assert_eq!(used.iter().copied().sum::<Money>(), all.min(wanted));
        for (at, (used, credit)) in used.iter().zip(&credits).enumerate() {
            proptest::prop_assert!(used <= credit);
            let later: Money = pooled.credits[at + 1..].iter().flatten().map(|part| part.1).sum();
            proptest::prop_assert!(used == credit || later.is_zero());
        }
        for (at, target) in targets.iter().enumerate() {
            let given: Money = pooled.credits.iter().flatten().filter(|part| part.0 == at).map(|part| part.1).sum();
            proptest::prop_assert_eq!(given + pooled.left[at], *target);
            proptest::prop_assert!(pooled.left[at].0 >= 0);
        }
    }
}

#[test]
fn what_can_be_used_with_money() {
    let group = [member()];
    let said = |item: &OpenItem| {
        settle::usable(item, &group, eur()).map_err(|why| why.split(' ').skip(1).take(3).collect::<Vec<_>>().join(" "))
    };
    let credit = OpenItem { customer: member().id, ..unapplied("C-1", 500, 500) };
    assert_eq!(said(&credit), Ok(()));
    let other = OpenItem { customer: CustomerId(99), ..credit.clone() };
    assert_eq!(said(&other), Err("is someone else's.".to_owned()));
    let pounds = OpenItem { currency: till_core::money::Currency::of("GBP").unwrap(), ..credit.clone() };
    assert_eq!(said(&pounds), Err("is in GBP,".to_owned()));
    assert!(
        settle::usable(&OpenItem { open: Money::ZERO, ..credit }, &group, eur())
            .unwrap_err()
            .contains("is open any more")
    );
    assert_eq!(said(&open_invoice(1, 500, 500)), Err("is no credit".to_owned()));
}
