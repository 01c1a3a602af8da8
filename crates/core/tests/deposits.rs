//! Customer deposits: every row of postings.md with its figures, and what may not be.

use crate::common::{self, Books, day, eur, first_entry, line, open_item, pairs, transfer, written};
use proptest::prelude::*;
use till_core::accounts::Purpose;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::{Check, stops};
use till_core::deposit::ending::{EndInput, EndKind, Ending, decide as end};
use till_core::deposit::undoing::{UndoInput, decide as undo};
use till_core::deposit::using::{DepositFacts, DepositUse, TaxRoom, most_by_code, part_of};
use till_core::deposit::{AdvanceTax, Comes, DepositTarget, HeldTax, TakeInput, left_of, split_by_code, take};
use till_core::fixed::ExchangeRate;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, EntryId, InvoiceId, OpenItemId, OrderId};
use till_core::invoice::cancel::{CancelInput, decide as cancel};
use till_core::invoice::{InvoiceInput, decide};
use till_core::money::{Currency, Money};
use till_core::open_items::{OpenItem, Side};
use till_core::room::Movement;
use till_core::settle::BesideBooked;
use till_core::settle::back::{BackInput, Standing, decide as back};
use till_core::settle::{self, AdvanceRoom, Method, PlaceKind, Source, ToApply};
use till_core::tax::{TaxCategory, TaxRate};

fn s23() -> TaxRate {
    TaxRate { code: "S23".to_owned(), category: TaxCategory::S, rate: "0.23".parse().unwrap() }
}

fn method() -> Method {
    let Source::Received { method } = transfer() else { unreachable!() };
    method
}

/// 80.00 by transfer for an order of 290.28 with tax.
fn taking(books: &Books, regime: AdvanceTax) -> TakeInput<'_> {
    TakeInput {
        customer: CustomerId(7),
        customer_name: "Saltmarsh Honey Co-op".to_owned(),
        customer_class: None,
        target: Some(DepositTarget {
            number: "O-1".to_owned(),
            currency: eur(),
            gross: vec![(s23(), Money(29_028))],
            taken_before: Money::ZERO,
        }),
        comes: Comes::In { method: method() },
        date: DocumentDate { date: day("2026-03-10"), typed: true },
        amount: Money(8_000),
        currency: eur(),
        rate: Some(ExchangeRate::ONE),
        base: eur(),
        regime,
        held_before: Money::ZERO,
        dates: DateOrder::of_today(day("2026-12-31")),
        accounts: &books.accounts,
        periods: &books.periods,
    }
}

/// The open item of a deposit of so much, carried at a base amount, with the tax that stands on it.
fn item(id: i64, amount: (i64, i64), taxes: Vec<HeldTax>) -> OpenItem {
    let document = DocumentRef { kind: DocumentKind::Deposit, id, number: format!("D-{id}") };
    let since = day("2026-03-10");
    OpenItem {
        posting_date: since,
        movements: vec![Movement::new(since, amount.0)],
        base_movements: vec![Movement::new(since, amount.1)],
        taxes,
        ..open_item(Side::OwedByUs, Purpose::DepositLiability, document, amount)
    }
}

fn held_80() -> Vec<HeldTax> {
    split_by_code(Money(8_000), &[(s23(), Money(29_028))], day("2026-03-10"), |amount| amount)
}

fn of_order(item: OpenItem) -> DepositFacts {
    DepositFacts { taken: item.open, item, order: Some((OrderId(1), "O-1".to_owned())), wish: None }
}

/// Four hives of 59.00, and a cent or two more where wanted.
fn invoice<'a>(books: &'a Books, price: &str, deposits: Vec<DepositFacts>) -> InvoiceInput<'a> {
    InvoiceInput { deposits, ..books.invoice(vec![line(1, "4", price, "0", "S23")]) }
}

#[test]
fn a_deposit_whose_tax_is_due_with_the_invoice() {
    let books = Books::new();
    let input = taking(&books, AdvanceTax::AtInvoice);
    let decision = take(&input);
    assert!(!stops(&decision.blockers), "{:?}", decision.blockers);
    let posting = decision.posting(&input);
    assert_eq!(written(&first_entry(&posting)), pairs(&[("31000", 8_000), ("25000", -8_000)]));
    common::agrees(&posting, &[]);

    // Its invoice: 290.28 less 80.00.
    let input = invoice(&books, "59.00", vec![of_order(item(1, (8_000, 8_000), Vec::new()))]);
    let decision = decide(&input);
    let document = decision.document.clone().unwrap();
    assert_eq!((document.total, document.due), (Money(29_028), Money(21_028)));
    assert_eq!(
        written(&decision.entry),
        pairs(&[("21000", 21_028), ("25000", 8_000), ("41000", -5_428), ("61000", -23_600)])
    );
    common::agrees(&decision.posting(), &[&input.deposits[0].item]);
}

#[test]
fn a_deposit_taxed_as_it_comes_in() {
    let books = Books::new();
    let input = taking(&books, AdvanceTax::AtReceipt);
    let decision = take(&input);
    assert_eq!(written(&decision.entry), pairs(&[("31000", 8_000), ("25000", -6_504), ("41000", -1_496)]));
    let tax = decision.entry.as_ref().unwrap().lines.iter().find_map(|line| line.tax.clone()).unwrap();
    assert_eq!((tax.base, tax.tax_date), (Money(6_504), Some(day("2026-03-10"))));

    // Two invoices, one of which a hand's cent apart: due is exactly the difference.
    for (price, net, due) in [("59.00", -23_600, 21_028), ("59.005", -23_602, 21_030)] {
        let input = invoice(&books, price, vec![of_order(item(1, (8_000, 8_000), held_80()))]);
        let decision = decide(&input);
        assert_eq!(
            written(&decision.entry),
            pairs(&[("21000", due), ("25000", 6_504), ("41000", -3_932), ("61000", net)]),
            "{price}"
        );
        let entry = decision.entry.as_ref().unwrap();
        let tax = entry.lines.iter().find_map(|line| line.tax.clone()).unwrap();
        assert_eq!(tax.base, Money(-net - 6_504), "what is taxed here is what was not taxed before");
        common::agrees(&decision.posting(), &[&input.deposits[0].item]);
    }
}

/// What is applied to its invoice, as it stands.
fn standing(item: &OpenItem, taxes: Vec<HeldTax>) -> Standing {
    let debit = OpenItem { id: OpenItemId(50), ..common::open_invoice(5, 21_028, 21_028) };
    let amount = (Money(8_000), Money(8_000));
    Standing {
        beside: BesideBooked::default(),
        id: till_core::ids::ApplicationId(3),
        debit,
        credit: OpenItem { open: Money::ZERO, open_base: Money::ZERO, taxes: Vec::new(), ..item.clone() },
        date: day("2026-03-18"),
        settled: amount,
        used: amount,
        taxes,
        entry: Some(EntryId(9)),
    }
}

fn unapplying(books: &Books, standing: Standing) -> BackInput<'_> {
    BackInput {
        number: "D-1".to_owned(),
        payer: common::member(),
        payer_class: None,
        group: vec![common::member()],
        applications: vec![standing],
        receipt: None,
        fee: None,
        date: DocumentDate { date: day("2026-03-20"), typed: true },
        reason: "for another order".to_owned(),
        currency: eur(),
        base: eur(),
        orders: Vec::new(),
        dates: DateOrder::of_today(day("2026-12-31")),
        accounts: &books.accounts,
        periods: &books.periods,
    }
}

#[test]
fn a_deposit_unapplied_and_applied_again() {
    let books = Books::new();
    for (taxes, unapplied, again) in [
        (Vec::new(), vec![("21000", 8_000), ("25000", -8_000)], vec![("25000", 8_000), ("21000", -8_000)]),
        (
            held_80(),
            vec![("21000", 8_000), ("25000", -6_504), ("41000", -1_496)],
            vec![("25000", 6_504), ("41000", 1_496), ("21000", -8_000)],
        ),
    ] {
        let deposit = item(1, (8_000, 8_000), taxes.clone());
        let input = unapplying(&books, standing(&deposit, taxes));
        let decision = back(&input);
        assert!(!stops(&decision.blockers), "{:?}", decision.blockers);
        assert_eq!(written(&Some(decision.entries[0].entry.clone())), pairs(&unapplied));

        // To the invoice that is posted by then.
        let debit = OpenItem { id: OpenItemId(50), ..common::open_invoice(5, 29_028, 29_028) };
        let rooms = vec![AdvanceRoom {
            item: OpenItemId(50),
            of_order: Some(Money(29_028)),
            taxes: vec![TaxRoom { rate: s23(), net: Money(23_600), tax: Money(5_428) }],
        }];
        let mut input = books.money(Source::Item(deposit), 8_000, vec![ToApply::new(debit, Money(8_000))]);
        input.rooms = rooms;
        let decision = settle::decide(&input);
        assert!(!stops(&decision.blockers), "{:?}", decision.blockers);
        assert_eq!(written(&decision.entry), pairs(&again));

        // Another order's invoice is none of its business, nor is more than the invoice has of its code.
        input.rooms[0].of_order = Some(Money::ZERO);
        assert!(settle::decide(&input).blockers.iter().any(|blocker| blocker.check == Check::MoreThanHeld));
    }
}

#[test]
fn an_invoice_with_a_deposit_canceled() {
    let books = Books::new();
    let input = invoice(&books, "59.00", vec![of_order(item(1, (8_000, 8_000), held_80()))]);
    let posted = decide(&input);
    let document = posted.document.clone().unwrap();
    let mut applied = standing(&input.deposits[0].item, document.deposits[0].taxes.clone());
    // Taken off on the day of the delivery, on which the tax of the invoice is reported.
    assert_eq!(applied.taxes[0].tax_date, day("2026-03-12"));
    applied.entry = Some(EntryId(1));
    let mut cancelling = CancelInput {
        invoice: InvoiceId(5),
        number: "I-5".to_owned(),
        item: applied.debit.clone(),
        customer: input.customer.clone(),
        entry: posted.entry.clone().map(|entry| (EntryId(1), entry)),
        cost_entry: None,
        costs: vec![Money::ZERO],
        left: Vec::new(),
        applied: vec![applied.clone()],
        advances: vec![applied],
        containers_gone: Vec::new(),
        cancelled_by: None,
        credited_by: Vec::new(),
        returned_on: Vec::new(),
        orders: posted.orders_after.clone(),
        date: DocumentDate { date: day("2026-03-20"), typed: true },
        reason: "billed too early".to_owned(),
        base: eur(),
        dates: DateOrder::of_today(day("2026-12-31")),
        accounts: &books.accounts,
        periods: &books.periods,
        document,
    };
    // By hand: the deposit is held again by an entry of its own, then the credit memo over the whole.
    let decision = cancel(&cancelling);
    let unapplied = written(&Some(decision.unapplied[0].entry.clone()));
    assert_eq!(unapplied, pairs(&[("21000", 8_000), ("25000", -6_504), ("41000", -1_496)]));
    let whole = pairs(&[("41000", 5_428), ("61000", 23_600), ("21000", -29_028)]);
    assert_eq!(written(&decision.entry), whole);
    // The same where the deposit had been unapplied before: it is not held twice.
    cancelling.applied.clear();
    let decision = cancel(&cancelling);
    assert!(decision.unapplied.is_empty());
    assert_eq!(written(&decision.entry), whole);
}

/// Found by the soak: what one application uses of a tax code is not there for the next. A deposit of 123.00 with 23 %
/// in it and 10.00 of containers; two invoices of 123.00 with no containers.
#[test]
fn two_applications_at_once_share_what_is_held_of_a_code() {
    let books = Books::new();
    let none = TaxRate { code: "O0".to_owned(), category: TaxCategory::O, rate: "0".parse().unwrap() };
    let held =
        split_by_code(Money(13_300), &[(s23(), Money(12_300)), (none, Money(1_000))], day("2026-03-10"), |all| all);
    let deposit = item(1, (13_300, 13_300), held);
    let invoices = [50, 51].map(|id| OpenItem { id: OpenItemId(id), ..common::open_invoice(id, 12_300, 12_300) });
    let rooms = [50, 51].map(|id| AdvanceRoom {
        item: OpenItemId(id),
        of_order: None,
        taxes: vec![TaxRoom { rate: s23(), net: Money(10_000), tax: Money(2_300) }],
    });
    let [first, second] = invoices;
    let to_apply = |rest| vec![ToApply::new(first.clone(), Money(12_300)), ToApply::new(second.clone(), Money(rest))];
    let mut input = books.money(Source::Item(deposit), 13_300, to_apply(1_000));
    input.rooms = rooms.to_vec();
    let blockers = settle::decide(&input).blockers;
    assert_eq!((blockers[0].check, blockers[0].field.as_str()), (Check::MoreThanHeld, "applications.1.amount"));
    assert!(blockers[0].sentence.contains("I-51 has 0.00 of its tax codes"), "{blockers:?}");
}

fn ending<'a>(books: &'a Books, item: OpenItem, ending: Ending, amount: i64) -> EndInput<'a> {
    EndInput {
        item,
        customer_name: "Saltmarsh Honey Co-op".to_owned(),
        customer_class: None,
        ending,
        amount: Money(amount),
        date: DocumentDate { date: day("2026-03-20"), typed: true },
        reason: "the order was given up".to_owned(),
        rate: Some(ExchangeRate::ONE),
        at_place: Vec::new(),
        base: eur(),
        dates: DateOrder::of_today(day("2026-12-31")),
        accounts: &books.accounts,
        periods: &books.periods,
    }
}

#[test]
fn a_deposit_refunded_kept_or_typed_in_error() {
    let books = Books::new();
    let refund = || Ending::Refund { method: method() };
    let reverse = || Ending::Reverse { place: method().place, entry: EntryId(1), amount: (Money(8_000), Money(8_000)) };
    let plain = || item(1, (8_000, 8_000), Vec::new());
    let taxed = || item(1, (8_000, 8_000), held_80());
    let keep = [("25000", 6_504), ("41000", 1_496), ("41000", -1_496), ("69000", -6_504)];
    for (deposit, how, wanted) in [
        (plain(), refund(), vec![("25000", 8_000), ("31000", -8_000)]),
        (plain(), Ending::Keep, vec![("25000", 8_000), ("69000", -8_000)]),
        (taxed(), refund(), vec![("25000", 6_504), ("41000", 1_496), ("31000", -8_000)]),
        (taxed(), Ending::Keep, keep.to_vec()),
        (taxed(), reverse(), vec![("25000", 6_504), ("41000", 1_496), ("31000", -8_000)]),
    ] {
        let input = ending(&books, deposit, how, 8_000);
        let decision = end(&input);
        assert!(!stops(&decision.blockers), "{:?}", decision.blockers);
        assert_eq!(written(&decision.entry), pairs(&wanted));
        common::agrees(&decision.posting(&input), &[&input.item]);
    }
    let stopped = |input: EndInput<'_>, check: Check| {
        let blockers = end(&input).blockers;
        assert!(blockers.iter().any(|blocker| blocker.check == check), "{blockers:?}");
    };
    stopped(ending(&books, plain(), refund(), 8_001), Check::MoreThanHeld);
    stopped(ending(&books, plain(), Ending::Keep, 0), Check::AmountNotPositive);
    // Part of it is used: it cannot have been typed in error.
    let used = OpenItem { open: Money(5_000), open_base: Money(5_000), ..plain() };
    stopped(ending(&books, used, reverse(), 8_000), Check::CannotCancel);
    // Not out of the checks of others, and out of the drawer only what lies there from the day on.
    let from = |kind: PlaceKind| {
        let Source::Received { mut method } = common::check() else { unreachable!() };
        method.place.kind = kind;
        Ending::Refund { method }
    };
    stopped(ending(&books, plain(), from(PlaceKind::ChecksInHand), 8_000), Check::MoreThanHeld);
    let mut cash = ending(&books, plain(), from(PlaceKind::Drawer), 8_000);
    cash.at_place = vec![Movement::new(day("2026-03-01"), 9_000), Movement::new(day("2026-03-25"), -1_001)];
    stopped(cash.clone(), Check::MoreThanHeld);
    cash.at_place[1].amount = -1_000;
    assert!(!stops(&end(&cash).blockers));
    let mut early = ending(&books, taxed(), refund(), 8_000);
    early.date.date = day("2026-03-09");
    stopped(early, Check::DateTooEarly);
}

/// So much of a receipt of 10 March lies unapplied, carried at a base amount.
fn lies(amount: (i64, i64)) -> OpenItem {
    let document = DocumentRef { kind: DocumentKind::Receipt, id: 9, number: "R-9".to_owned() };
    let since = day("2026-03-10");
    OpenItem {
        posting_date: since,
        movements: vec![Movement::new(since, amount.0)],
        base_movements: vec![Movement::new(since, amount.1)],
        ..open_item(Side::OwedByUs, Purpose::Unapplied, document, amount)
    }
}

fn turning(books: &Books, regime: AdvanceTax, amount: i64, item: OpenItem) -> TakeInput<'_> {
    let mut input = taking(books, regime);
    input.target.as_mut().unwrap().currency = item.currency;
    TakeInput {
        comes: Comes::Unapplied { item: item.clone() },
        amount: Money(amount),
        currency: item.currency,
        ..input
    }
}

/// postings.md, Money: unapplied money of 100.00 turned into a deposit, and into one taxed at receipt: 100.00 ÷ 1.23 =
/// 81.30 and 18.70.
#[test]
fn unapplied_money_turned_into_a_deposit() {
    let books = Books::new();
    let plain = vec![("27000", 10_000), ("25000", -10_000)];
    let taxed = vec![("27000", 10_000), ("25000", -8_130), ("41000", -1_870)];
    for (regime, wanted) in [(AdvanceTax::AtInvoice, plain), (AdvanceTax::AtReceipt, taxed)] {
        let input = turning(&books, regime, 10_000, lies((10_000, 10_000)));
        let Comes::Unapplied { item: receipt } = &input.comes else { unreachable!() };
        let decision = take(&input);
        assert!(!stops(&decision.blockers), "{:?}", decision.blockers);
        assert_eq!(written(&decision.entry), pairs(&wanted));
        let posting = decision.posting(&input);
        common::agrees(&posting, &[receipt]);

        // Typed in error: turned round, and the money lies on its receipt as before.
        let document = DocumentRef { kind: DocumentKind::Deposit, id: 1, number: "D-1".to_owned() };
        let amount = (Money(10_000), Money(10_000));
        let unapplied = Standing {
            beside: BesideBooked::default(),
            id: till_core::ids::ApplicationId(3),
            debit: OpenItem { id: OpenItemId(61), ..open_item(Side::OwedToUs, Purpose::Unapplied, document, (0, 0)) },
            credit: OpenItem { open: Money::ZERO, ..receipt.clone() },
            date: day("2026-03-10"),
            settled: amount,
            used: amount,
            taxes: Vec::new(),
            entry: Some(EntryId(8)),
        };
        let held = item(1, (10_000, 10_000), decision.taxes.clone());
        let how = Ending::Return { entry: EntryId(8), amount, unapplied: Box::new(unapplied.clone()) };
        let back = ending(&books, held, how, 10_000);
        let undone = end(&back);
        assert!(!stops(&undone.blockers), "{:?}", undone.blockers);
        let turned: Vec<(&str, i64)> = wanted.iter().map(|(account, amount)| (*account, -amount)).collect();
        assert_eq!(written(&undone.entry), pairs(&turned));
        let posting = undone.posting(&back);
        assert_eq!(posting.entries[0].reverses, Some(EntryId(8)));
        common::agrees(&posting, &[&back.item, &unapplied.debit, &unapplied.credit]);
        let mut used = back.clone();
        used.item.open = Money(9_999);
        assert!(end(&used).blockers.iter().any(|blocker| blocker.check == Check::CannotCancel));
    }
}

/// By hand: GBP 100.00 carried at 117.00; 40.00 of it is 46.80, of which tax 40.00 − 40.00 ÷ 1.23 = 7.48 is
/// 46.80 × 7.48 ÷ 40.00 = 8.75 and the net 38.05. No currency difference: money in advance keeps the rate it came at.
#[test]
fn turned_at_what_it_is_carried_at_and_no_further_than_it_is_there() {
    let books = Books::new();
    let gbp = Currency::of("GBP").unwrap();
    let receipt = OpenItem { currency: gbp, ..lies((10_000, 11_700)) };
    let mut input = turning(&books, AdvanceTax::AtReceipt, 4_000, receipt);
    input.rate = Some("1.25".parse().unwrap());
    let decision = take(&input);
    assert!(!stops(&decision.blockers), "{:?}", decision.blockers);
    assert_eq!(written(&decision.entry), pairs(&[("27000", 4_680), ("25000", -3_805), ("41000", -875)]));
    let Comes::Unapplied { item } = &input.comes else { unreachable!() };
    common::agrees(&decision.posting(&input), &[item]);

    let refused = |input: TakeInput<'_>, check: Check, field: &str| {
        let blockers = take(&input).blockers;
        assert!(blockers.iter().any(|blocker| blocker.check == check && blocker.field == field), "{blockers:?}");
    };
    refused(turning(&books, AdvanceTax::AtInvoice, 10_001, lies((10_000, 10_000))), Check::MoreThanHeld, "amount");
    refused(turning(&books, AdvanceTax::AtInvoice, 1, lies((0, 0))), Check::MoreThanHeld, "amount");
    refused(turning(&books, AdvanceTax::AtInvoice, 29_029, lies((40_000, 40_000))), Check::MoreThanOrder, "amount");
    // What was taken back on the 20th is not there on the 10th.
    let mut later = lies((10_000, 10_000));
    later.movements = vec![
        Movement::new(day("2026-03-10"), 10_000),
        Movement::new(day("2026-03-10"), -10_000),
        Movement::new(day("2026-03-20"), 10_000),
    ];
    refused(turning(&books, AdvanceTax::AtInvoice, 10_000, later), Check::DateTooEarly, "date");
    let mut pounds =
        turning(&books, AdvanceTax::AtInvoice, 1_000, OpenItem { currency: gbp, ..lies((10_000, 11_700)) });
    pounds.target.as_mut().unwrap().currency = eur();
    refused(pounds, Check::CurrencyDiffers, "order");
}

/// The receipt a deposit was made of is neither unapplied of it nor reversed while that stands.
#[test]
fn what_a_deposit_was_made_of_is_freed_by_the_deposit() {
    let books = Books::new();
    let document = DocumentRef { kind: DocumentKind::Deposit, id: 1, number: "D-1".to_owned() };
    let debit = OpenItem { id: OpenItemId(61), ..open_item(Side::OwedToUs, Purpose::Unapplied, document, (0, 0)) };
    let input = unapplying(&books, Standing { debit, ..standing(&lies((0, 0)), Vec::new()) });
    let blockers = back(&input).blockers;
    assert!(blockers.iter().any(|blocker| blocker.sentence.contains("Reverse D-1 first")), "{blockers:?}");
}

/// Refunds and what was kept taken back: the entries of the rows, turned round.
#[test]
fn the_end_of_a_deposit_taken_back() {
    let books = Books::new();
    let taxed = || item(1, (8_000, 8_000), held_80());
    for (kind, deposit, how) in [
        (EndKind::Refunded, item(1, (8_000, 8_000), Vec::new()), Ending::Refund { method: method() }),
        (EndKind::Refunded, taxed(), Ending::Refund { method: method() }),
        (EndKind::Kept, taxed(), Ending::Keep),
    ] {
        let ended = ending(&books, deposit.clone(), how, 8_000);
        let decision = end(&ended);
        let entry = decision.entry.clone().unwrap();
        let document = DocumentRef { kind: DocumentKind::DepositEnd, id: 4, number: "DE-4".to_owned() };
        let amount = (Money(8_000), Money(8_000));
        let standing = Standing {
            beside: BesideBooked::default(),
            id: till_core::ids::ApplicationId(3),
            debit: OpenItem {
                id: OpenItemId(61),
                ..open_item(Side::OwedToUs, Purpose::DepositLiability, document, (0, 0))
            },
            credit: OpenItem { open: Money::ZERO, open_base: Money::ZERO, taxes: Vec::new(), ..deposit },
            date: entry.date,
            settled: amount,
            used: amount,
            taxes: decision.taxes.clone(),
            entry: Some(EntryId(8)),
        };
        let mut input = UndoInput {
            standing: Some(standing.clone()),
            number: "DE-4".to_owned(),
            kind,
            entry: (EntryId(8), entry.clone()),
            customer_name: "Saltmarsh Honey Co-op".to_owned(),
            date: DocumentDate { date: day("2026-04-02"), typed: true },
            reason: "never sent".to_owned(),
            dates: DateOrder::of_today(day("2026-12-31")),
            periods: &books.periods,
        };
        let undone = undo(&input);
        assert!(!stops(&undone.blockers), "{:?}", undone.blockers);
        let turned: Vec<(String, i64)> =
            written(&Some(entry)).into_iter().map(|(account, amount)| (account, -amount)).collect();
        let mut wanted = turned;
        wanted.sort();
        let mut made = written(&Some(undone.entry.clone()));
        made.sort();
        assert_eq!(made, wanted);
        common::agrees(&undone.posting(&input), &[&standing.debit, &standing.credit]);

        let refused = |input: &UndoInput<'_>, check: Check| {
            assert!(undo(input).blockers.iter().any(|blocker| blocker.check == check));
        };
        input.date.date = day("2026-03-19");
        refused(&input, Check::DateTooEarly);
        input.date.date = day("2026-04-02");
        input.reason = String::new();
        refused(&input, Check::CannotCancel);
        input.reason = "again".to_owned();
        input.standing = None;
        refused(&input, Check::CannotCancel);
    }
}

/// IFRIC 22 (from memory): revenue covered by money in advance takes the rate of that money. By hand, as the row of
/// postings.md does for prepayments: GBP 1,000.03 net and 230.01 tax; 290.01 of the revenue was paid in advance with
/// its tax of 66.70, GBP 307.51 at 1.16 = 356.71, of it tax 57.50 GBP = 66.70, net 250.01 GBP = 290.01.
#[test]
fn revenue_covered_by_a_deposit_takes_its_rate() {
    let books = Books::new();
    let gbp = Currency::of("GBP").unwrap();
    let to_base = |amount: Money| amount.to_base("1.16".parse().unwrap(), gbp, eur());
    let held = split_by_code(Money(30_751), &[(s23(), Money(123_004))], day("2026-03-10"), to_base);
    assert_eq!((held[0].net, held[0].tax, held[0].net_base, held[0].tax_base), {
        (Money(25_001), Money(5_750), Money(29_001), Money(6_670))
    });
    let mut deposit = item(1, (30_751, 35_671), held);
    deposit.currency = gbp;
    let mut input = invoice(&books, "250.0075", vec![of_order(deposit)]);
    (input.basis.currency, input.orders[0].currency) = (gbp, gbp);
    input.rate = Some("1.18".parse().unwrap());
    let decision = decide(&input);
    // Due 1,230.04 − 307.51 = 922.53 at 1.18 = 1,088.59; tax left 230.01 − 57.50 = 172.51 at 1.18 = 203.56; revenue
    // 1,088.59 + 290.01 − 203.56 = 1,175.04.
    assert_eq!(
        written(&decision.entry),
        pairs(&[("21000", 108_859), ("25000", 29_001), ("41000", -20_356), ("61000", -117_504)])
    );
    common::agrees(&decision.posting(), &[&input.deposits[0].item]);
}

#[test]
fn a_deposit_goes_to_its_own_order_and_no_further() {
    let books = Books::new();
    let other =
        DepositFacts { order: Some((OrderId(2), "O-2".to_owned())), ..of_order(item(2, (5_000, 5_000), Vec::new())) };
    let on_account = DepositFacts { order: None, ..of_order(item(3, (5_000, 5_000), Vec::new())) };
    let large = of_order(item(4, (40_000, 40_000), Vec::new()));
    let mut input = invoice(&books, "59.00", vec![large, other, on_account]);
    let decision = decide(&input);
    let document = decision.document.as_ref().unwrap();
    assert_eq!((document.due, document.deposits.len()), (Money::ZERO, 1));
    assert!(document.early.is_none() && decision.entry.as_ref().unwrap().balances());
    let most: Vec<i64> = decision.deposits.iter().map(|offer| offer.most.0).collect();
    assert_eq!(most, [29_028, 0, 0]);
    // Nothing left to pay: the order is closed.
    assert!(decision.orders_after[0].invoices[0].open.is_zero());

    // Lowered by hand, and money on account beside it.
    input.deposits[0].wish = Some(Money(10_000));
    input.deposits[2].wish = Some(Money(4_000));
    let decision = decide(&input);
    assert_eq!(decision.document.unwrap().due, Money(15_028));
    assert!(!stops(&decision.blockers));
    input.deposits[2].wish = Some(Money(5_001));
    assert!(
        decide(&input)
            .blockers
            .iter()
            .any(|blocker| { blocker.check == Check::MoreThanHeld && blocker.field == "deposits.2.amount" })
    );
}

#[test]
fn in_proportion_the_last_invoice_takes_the_rest() {
    let books = Books::new();
    let mut part = line(1, "1", "59.00", "0", "S23");
    let mut input = books.invoice(vec![part.clone()]);
    input.orders[0].lines[0].1.ordered = "4".parse().unwrap();
    input.orders[0].lines[0].1.shipped = "4".parse().unwrap();
    let id = input.orders[0].lines[0].0;
    input.orders[0].promised.lines = vec![(id, "0.23".parse().unwrap(), Money(23_600))];
    input.deposit_use = DepositUse::InProportion;
    input.deposits = vec![of_order(item(1, (8_000, 8_000), Vec::new()))];
    // 72.57 of 290.28 is billed: a fourth of 80.00.
    let first = decide(&input);
    assert_eq!(first.document.unwrap().deposits[0].amount, Money(2_000));
    // The other three: the rest of 60.00.
    part.quantity = "3".parse().unwrap();
    part.unbilled = part.quantity;
    input.lines = vec![part];
    input.orders = first.orders_after;
    input.deposits[0].item.open = Money(6_000);
    input.deposits[0].item.open_base = Money(6_000);
    assert_eq!(decide(&input).document.unwrap().deposits[0].amount, Money(6_000));
}

#[test]
fn what_cannot_be_taken() {
    let books = Books::new();
    let stopped = |change: &dyn Fn(&mut TakeInput<'_>), check: Check, field: &str| {
        let mut input = taking(&books, AdvanceTax::AtReceipt);
        change(&mut input);
        let blockers = take(&input).blockers;
        assert!(blockers.iter().any(|blocker| blocker.check == check && blocker.field == field), "{blockers:?}");
    };
    stopped(&|input| input.amount = Money(0), Check::AmountNotPositive, "amount");
    stopped(&|input| input.amount = Money(29_029), Check::MoreThanOrder, "amount");
    stopped(&|input| input.target.as_mut().unwrap().taken_before = Money(21_029), Check::MoreThanOrder, "amount");
    stopped(&|input| input.currency = Currency::of("GBP").unwrap(), Check::CurrencyDiffers, "order");
    stopped(&|input| input.rate = None, Check::ExchangeRateMissing, "date");
    stopped(&|input| input.date.date = day("2025-12-31"), Check::PeriodClosed, "date");
    // On account there is no known supply to tax.
    let mut input = taking(&books, AdvanceTax::AtReceipt);
    input.target = None;
    let decision = take(&input);
    assert_eq!(decision.regime, AdvanceTax::AtInvoice);
    assert_eq!(written(&decision.entry), pairs(&[("31000", 8_000), ("25000", -8_000)]));
}

proptest! {
    /// However a taxed deposit is used up, each code's net and tax, at home and abroad, come to exactly what was taken,
    /// and none of its parts is below zero or above what the invoice has of the code.
    #[test]
    fn parts_of_a_deposit_add_up(
        grosses in prop::collection::vec(1i64..500_000, 1..4),
        share in 1i64..1_000,
        parts in prop::collection::vec(1i64..1_000, 1..6),
        at in 500_000_000i64..2_000_000_000,
    ) {
        let rates = ["0.23", "0.08", "0"].map(|rate| TaxRate {
            code: format!("S{rate}"), category: TaxCategory::S, rate: rate.parse().unwrap(),
        });
        let gbp = Currency::of("GBP").unwrap();
        let to_base = |amount: Money| amount.to_base(ExchangeRate::from_scaled(at), gbp, eur());
        let codes: Vec<_> = rates.iter().cloned().zip(grosses.iter().map(|gross| Money(*gross))).collect();
        let whole: i64 = grosses.iter().sum();
        let amount = Money((i128::from(whole) * i128::from(share) / 1_000) as i64).max(Money(1));
        let held = split_by_code(amount, &codes, day("2026-03-10"), to_base);
        prop_assert_eq!(held.iter().map(HeldTax::gross).sum::<Money>(), amount);
        prop_assert_eq!(held.iter().map(HeldTax::gross_base).sum::<Money>(), to_base(amount));
        let mut deposit = item(1, (amount.0, to_base(amount).0), held);
        let mut rooms: Vec<TaxRoom> = codes
            .iter()
            .map(|(rate, gross)| TaxRoom { rate: rate.clone(), net: gross.without(rate.rate), tax: *gross - gross.without(rate.rate) })
            .collect();
        let mut times = 0;
        for part in parts {
            let wanted = Money(amount.0 * part / 1_000).min(most_by_code(&deposit, &rooms));
            if !wanted.is_positive() { continue; }
            times += 1;
            let (base, used) = part_of(&deposit, wanted, day("2026-03-18"), Some(&rooms));
            prop_assert_eq!(used.iter().map(HeldTax::gross).sum::<Money>(), wanted);
            for one in &used {
                prop_assert!(one.net >= Money::ZERO && one.tax >= Money::ZERO);
                let room = rooms.iter().find(|room| room.rate == one.rate).unwrap();
                prop_assert!(one.net <= room.net && one.tax <= room.tax, "{one:?} of {room:?}");
            }
            TaxRoom::less(&mut rooms, &used);
            deposit.open -= wanted;
            deposit.open_base -= base;
            deposit.taxes = left_of(&deposit.taxes, &used);
            prop_assert!(deposit.taxes.iter().all(|held| held.net >= Money::ZERO && held.tax >= Money::ZERO));
        }
        let (base, used) = part_of(&deposit, deposit.open, day("2026-03-18"), None);
        prop_assert_eq!(base, deposit.open_base);
        prop_assert!(left_of(&deposit.taxes, &used).is_empty());
        prop_assert!(times > 0 || amount.0 < 1_000);
    }
}

/// Source: a second computation in Python's `decimal` over 2,000 generated orders, made by
/// `tests/data/make_deposit_cases.py` and kept beside it.
#[test]
fn deposits_agree_with_pythons_decimal() {
    let books = Books::new();
    let gbp = Currency::of("GBP").unwrap();
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/deposit_cases.csv");
    let mut seen = [0; 3];
    for record in csv::Reader::from_path(path).unwrap().records() {
        let record = record.unwrap();
        let numbers = |text: &str| text.split(':').map(|part| part.parse::<i64>().unwrap()).collect::<Vec<_>>();
        let at: ExchangeRate = record[2].parse().unwrap();
        let priced: Vec<(&str, i64)> = record[0]
            .split(' ')
            .map(|line| line.split_once(':').unwrap())
            .map(|(code, net)| (code, net.parse().unwrap()))
            .collect();
        let lines: Vec<_> = (1..)
            .zip(&priced)
            .map(|(id, (code, net))| line(id, "1", &format!("{}.{:02}", net / 100, net % 100), "0", code))
            .collect();
        let order = |lines: Vec<_>| {
            let mut input = books.invoice(lines);
            (input.basis.currency, input.orders[0].currency) = (gbp, gbp);
            input.rate = Some(record[3].parse().unwrap());
            input
        };
        // What the order comes to by code, and the deposit over it.
        let whole = decide(&order(lines.clone())).document.unwrap();
        let gross: Vec<_> = whole.taxes.iter().map(|tax| (tax.rate.clone(), tax.base + tax.tax)).collect();
        let amount = Money(record[1].parse().unwrap());
        let to_base = |amount: Money| amount.to_base(at, gbp, eur());
        let held = split_by_code(amount, &gross, day("2026-03-10"), to_base);
        let split: Vec<String> = held
            .iter()
            .map(|one| format!("{}:{}:{}:{}:{}", one.rate.code, one.net.0, one.tax.0, one.net_base.0, one.tax_base.0))
            .collect();
        assert_eq!(split.join(" "), record[4], "{record:?}");
        // Its two invoices.
        let mut deposit = item(1, (amount.0, to_base(amount).0), held);
        deposit.currency = gbp;
        let (first, second) = lines.split_at(record[5].parse().unwrap());
        for (part, wanted) in [first, second].into_iter().zip(record[7].split(' ')) {
            let mut input = order(part.to_vec());
            input.deposits = if deposit.open.is_zero() { Vec::new() } else { vec![of_order(deposit.clone())] };
            let decision = decide(&input);
            let document = decision.document.as_ref().unwrap();
            let used: Money = document.deposits.iter().map(|deposit| deposit.amount).sum();
            let sum = |purpose: Purpose| -> i64 {
                let lines = decision.entry.iter().flat_map(|entry| &entry.lines);
                lines.filter(|line| line.purpose == purpose).map(|line| line.base.0).sum()
            };
            let figures = [
                document.total.0,
                used.0,
                sum(Purpose::Receivable),
                sum(Purpose::DepositLiability),
                -sum(Purpose::TaxPayable),
                -sum(Purpose::Revenue),
            ];
            assert_eq!(figures.to_vec(), numbers(wanted), "{record:?}");
            for deposit_used in &document.deposits {
                deposit.open -= deposit_used.amount;
                deposit.open_base -= deposit_used.amount_base;
                deposit.taxes = left_of(&deposit.taxes, &deposit_used.taxes);
            }
            seen[usize::from(used.is_positive()) + usize::from(document.due.is_zero())] += 1;
        }
        assert_eq!(deposit.open.0, record[6].parse::<i64>().unwrap(), "{record:?}");
    }
    assert!(seen.iter().all(|count| *count >= 100), "too few of a kind: {seen:?}");
}
