//! Billing: lines of every source, discounts, prices with tax, what explains a difference,
//! cancelling. Figures marked with a row are those of postings.md.

use crate::common::*;
use proptest::prelude::*;
use till_core::accounts::{Account, AccountType, Purpose};
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::{Check, Effect, Step, stops};
use till_core::fixed::{ExchangeRate, Quantity};
use till_core::ids::{ApplicationId, ApprovalId, DocumentKind, EntryId, InvoiceId, OrderId, OrderLineId};
use till_core::invoice::cancel::{CancelInput, CancelPosting, decide as decide_cancel};
use till_core::invoice::{
    self, Delivery, DiscountWish, InvoiceDecision, InvoiceInput, ItemKind, LineSource, LineToBill, PriceChange,
    TaxChange, WaitingRequest, arithmetic_faults, decide_in_order,
};
use till_core::money::Money;
use till_core::open_items::{OpenItem, Side};
use till_core::order::{InvoiceShares, Promised};
use till_core::room::Movement;
use till_core::settle::BesideBooked;
use till_core::settle::back::Standing;
use till_core::tax::TaxComputed;

fn ten_percent() -> Option<DiscountWish> {
    let percent = Some("0.1".parse().unwrap());
    Some(DiscountWish { percent, amount: None, reason: "trade fair".to_owned(), allowed: None })
}

fn checks(decision: &InvoiceDecision) -> Vec<(Check, Effect, String)> {
    decision.blockers.iter().map(|one| (one.check, one.effect, one.field.clone())).collect()
}

#[test]
fn a_discount_is_spread_over_the_lines_to_the_cent_and_leaves_packaging_alone() {
    let books = Books::new();
    let mut drum = line(3, "2", "40", "0", "O0");
    drum.kind = ItemKind::Packaging;
    let mut input = books.invoice(vec![line(1, "1", "10.01", "0", "S23"), line(2, "1", "20.02", "0", "S135"), drum]);
    input.discount = ten_percent();
    let document = invoice::decide(&input).document.unwrap();
    // 10 % of 30.03 is 3.00; 1.00 and 2.00.
    assert_eq!(document.discount.as_ref().unwrap().amount, Money(300));
    assert_eq!(document.lines.iter().map(|line| line.off.0).collect::<Vec<_>>(), [100, 200, 0]);
    assert_eq!(document.lines.iter().map(|line| line.net.0).collect::<Vec<_>>(), [901, 1_802, 8_000]);
    // 9.01 × 23 % is 2.07, 18.02 × 13.5 % is 2.43.
    assert_eq!((document.lines_total, document.net, document.tax), (Money(11_003), Money(10_703), Money(450)));
    assert_eq!(arithmetic_faults(&document), Vec::<String>::new());
}

#[test]
fn a_discount_needs_a_reason_and_takes_off_no_more_than_there_is() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "1", "10", "0", "S23")]);
    let wish = |amount: i64, reason: &str| {
        Some(DiscountWish { percent: None, amount: Some(Money(amount)), reason: reason.to_owned(), allowed: None })
    };
    input.discount = wish(1_001, "too much");
    assert_eq!(checks(&invoice::decide(&input))[0].2, "discount");
    input.discount = wish(-1, "below nothing");
    assert_eq!(checks(&invoice::decide(&input))[0].0, Check::DiscountNotAllowed);
    input.discount = wish(100, "  ");
    assert_eq!(checks(&invoice::decide(&input))[0].2, "discount_reason");
    input.discount = wish(1_000, "a present");
    let free = invoice::decide(&input);
    assert!(!stops(&free.blockers));
    assert_eq!((free.document.unwrap().total, free.entry.is_none()), (Money(0), true));
    // Above what was allowed it stops, whatever the lines became since.
    input.discount = Some(DiscountWish { allowed: Some(Money(99)), ..wish(100, "agreed").unwrap() });
    assert_eq!(checks(&invoice::decide(&input))[0].0, Check::PriceNotApproved);
}

/// domain.md section 4: per code, net = round(Σ gross ÷ (1 + rate)); the customer pays the gross.
#[test]
fn prices_with_tax_are_paid_exactly() {
    let books = Books::new();
    let mut input = books.invoice(vec![
        line(1, "3", "11.99", "0", "S23"),
        line(2, "1", "4.99", "0", "S23"),
        line(3, "7", "1.15", "0", "S135"),
        line(4, "1", "22", "0", "Z0"),
    ]);
    input.basis.gross_priced = true;
    input.customer.gross_priced = true;
    let decision = invoice::decide(&input);
    let document = decision.document.unwrap();
    // 35.97 + 4.99 = 40.96 ÷ 1.23 = 33.30; 8.05 ÷ 1.135 = 7.09; 22.00.
    assert_eq!(document.total, Money(4_096 + 805 + 2_200));
    let by_code: Vec<(i64, i64)> = document.taxes.iter().map(|tax| (tax.base.0, tax.tax.0)).collect();
    assert_eq!(by_code, [(3_330, 766), (709, 96), (2_200, 0)]);
    assert_eq!(document.lines.iter().map(|line| line.net.0).sum::<i64>(), document.net.0);
    assert!(decision.entry.unwrap().balances());
    assert_eq!(arithmetic_faults(&document), Vec::<String>::new());
    assert!(decision.tape.to_text().contains("prices with tax"));
}

#[test]
fn what_is_priced_with_and_without_tax_does_not_go_together() {
    let books = Books::new();
    let mut second = line(2, "1", "10", "0", "S23");
    second.source = shipped(2, 2, 2, 2, "2026-03-12");
    let mut input = books.invoice(vec![line(1, "1", "10", "0", "S23"), second]);
    let mut other = input.orders[0].clone();
    other.id = OrderId(2);
    other.number = "O-2".to_owned();
    other.promised.gross = true;
    input.orders.push(other);
    let decision = invoice::decide(&input);
    assert!(decision.blockers.iter().any(|one| {
        one.check == Check::CannotCombine
            && one.sentence == "O-2 has prices with tax, O-1 without. Bill them on two invoices."
    }));
}

#[test]
fn a_direct_invoice_needs_no_order_and_goes_to_a_revenue_account() {
    let books = Books::new();
    let account =
        |number: &str, account_type| Account { number: number.to_owned(), name: "Rent".to_owned(), account_type };
    let mut rent = typed(1, "1", "200", "S23");
    rent.account = Some(account("4711", AccountType::Revenue));
    let mut input = books.invoice(Vec::new());
    input.orders.clear();
    input.lines = vec![rent.clone(), typed(2, "2", "18", "S23")];
    let decision = invoice::decide(&input);
    assert!(!stops(&decision.blockers), "{:?}", decision.blockers);
    assert_eq!(
        written(&decision.entry),
        pairs(&[("21000", 29_028), ("41000", -5_428), ("61000", -3_600), ("4711", -20_000)])
    );
    assert!(decision.document.unwrap().order_shares.is_empty());
    assert_eq!(decision.tape.subheading, "one direct invoice");
    rent.account = Some(account("31000", AccountType::Asset));
    input.lines = vec![rent];
    assert_eq!(checks(&invoice::decide(&input))[0], (Check::NotRevenue, Effect::Stops, "lines.0.account".to_owned()));
    input.lines = vec![typed(1, "1", "-5", "S23")];
    assert_eq!(checks(&invoice::decide(&input))[0].0, Check::PriceBelowZero);
    input.lines = vec![typed(1, "0", "5", "S23")];
    assert_eq!(checks(&invoice::decide(&input))[0].0, Check::QuantityNotPositive);
}

/// What is typed beside an order goes with that order, so that the order is paid in whole with it.
#[test]
fn what_is_typed_goes_with_the_first_order() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "1", "100", "0", "S23"), typed(2, "1", "10", "S23")]);
    let mut input = InvoiceInput { ..input };
    input.orders[0].lines.truncate(1);
    let document = invoice::decide(&input).document.unwrap();
    assert_eq!(document.order_shares.len(), 1);
    assert_eq!(document.order_shares[0].gross, document.total);
}

/// Work of an order is done as it is billed: never above what was ordered.
#[test]
fn work_is_billed_without_a_shipment() {
    let books = Books::new();
    let mut work = line(1, "6", "42", "0", "S23");
    work.source = LineSource::Ordered {
        order: OrderId(1),
        order_number: "O-1".to_owned(),
        customer_order_number: None,
        order_line: OrderLineId(1),
    };
    work.kind = ItemKind::Service;
    let mut input = books.invoice(vec![work]);
    input.orders[0].lines[0].1.shipped = Quantity::ZERO;
    let decision = invoice::decide(&input);
    assert!(!stops(&decision.blockers));
    let after = &decision.orders_after[0].lines[0].1;
    assert_eq!((after.shipped, after.billed), (Quantity::from_whole(6), Quantity::from_whole(6)));
    input.lines[0].quantity = Quantity::from_whole(7);
    let more = invoice::decide(&input);
    assert_eq!(more.blockers[0].sentence, "7 of IT-1 to bill, but only 6 is ordered and unbilled.");
}

#[test]
fn another_tax_code_stays_visible_with_its_reason() {
    let books = Books::new();
    let mut changed = line(1, "1", "100", "0", "S23");
    changed.tax_change = Some(TaxChange { code: "S135".to_owned(), reason: "a feed after all".to_owned() });
    let document = invoice::decide(&books.invoice(vec![changed])).document.unwrap();
    assert_eq!((document.lines[0].tax.code.as_str(), document.tax), ("S135", Money(1_350)));
    assert_eq!(document.lines[0].order_tax_code.as_deref(), Some("S23"));
}

#[test]
fn each_way_of_going_out_says_what_it_needs() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "1", "100", "0", "S23")]);
    input.customer.delivery = Delivery::Email;
    assert_eq!(checks(&invoice::decide(&input)), [(Check::NoMailAddress, Effect::Warns, "customer.email".to_owned())]);
    input.customer.email = Some("till@customer.example".to_owned());
    assert!(invoice::decide(&input).blockers.is_empty());
    input.customer.delivery = Delivery::Structured;
    input.orders[0].customer_order_number = None;
    input.tax_computed = TaxComputed::PerLine;
    // They carry tax by code: tax by line stops, however else the document could go out (M4).
    assert_eq!(
        checks(&invoice::decide(&input)),
        [
            (Check::StructuredTax, Effect::Stops, "company.tax_computed".to_owned()),
            (Check::StructuredDataMissing, Effect::Warns, "order.customer_order_number".to_owned())
        ]
    );
}

/// domain.md section 7: where the amount due differs from what the order promised, each cause has
/// its line, and together they lead from the promise to what is due.
#[test]
fn a_difference_to_the_order_is_explained_line_by_line() {
    let books = Books::new();
    let mut hive = line(1, "4", "10", "0", "S23");
    hive.price_change =
        Some(PriceChange { unit_price: "9".parse().unwrap(), reason: "scratched".to_owned(), allowed: None });
    let mut input = books.invoice(vec![hive, typed(2, "1", "5", "S23")]);
    input.orders[0].lines.truncate(1);
    let progress = &mut input.orders[0].lines[0].1;
    progress.ordered = Quantity::from_whole(12);
    progress.cancelled = Quantity::from_whole(2);
    progress.shipped = Quantity::from_whole(7);
    progress.billed = Quantity::from_whole(3);
    input.orders[0].promised =
        Promised { gross: false, lines: vec![(OrderLineId(1), "0.23".parse().unwrap(), Money(12_000))] };
    input.orders[0].invoices = vec![InvoiceShares {
        in_advance: false,
        invoice: InvoiceId(9),
        name: "I-9 of 3 Mar 2026".to_owned(),
        total: Money(3_690),
        open: Money(0),
        shares: vec![(OrderId(1), Money(3_690))],
    }];
    let decision = invoice::decide(&input);
    let told: Vec<(&str, i64)> =
        decision.differences.iter().map(|cause| (cause.label.as_str(), cause.amount.0)).collect();
    assert_eq!(
        told,
        [
            ("O-1 promised", 14_760),
            ("canceled on O-1", -2_460),
            ("billed before: I-9 of 3 Mar 2026", -3_690),
            ("still to come", -3_690),
            ("price of IT-1 changed: scratched", -492),
            ("added here: Item 2", 615),
        ]
    );
    let due = decision.document.unwrap().total;
    assert_eq!(told.iter().map(|(_, amount)| amount).sum::<i64>(), due.0);
}

proptest! {
    /// Whatever is billed, discounted, repriced or typed, the causes add up to what is due.
    #[test]
    fn differences_always_lead_to_what_is_due(
        lines in prop::collection::vec((1i64..200, 1i64..9_999, 0i64..4, prop::bool::ANY), 1..6),
        percent in 0i64..30, gross in prop::bool::ANY,
    ) {
        let books = Books::new();
        let to_bill: Vec<LineToBill> = lines
            .iter()
            .zip(1..)
            .map(|((quantity, price, code, reprice), id)| {
                let code = ["S23", "S135", "Z0", "O0"][usize::try_from(*code).unwrap()];
                let mut line = line(id, &quantity.to_string(), &format!("{}.{:02}", price / 100, price % 100), "0", code);
                if *reprice {
                    let unit_price = "3.33".parse().unwrap();
                    line.price_change = Some(PriceChange { unit_price, reason: "r".to_owned(), allowed: None });
                }
                line
            })
            .collect();
        let mut input = books.invoice(to_bill);
        input.basis.gross_priced = gross;
        let promised = input.orders[0].lines.iter().map(|(id, _)| (*id, "0.23".parse().unwrap(), Money(12_345)));
        input.orders[0].promised = Promised { gross, lines: promised.collect() };
        input.discount = (percent > 0).then(|| DiscountWish {
            percent: Some(till_core::fixed::Rate::from_percent(&percent.to_string()).unwrap()),
            amount: None,
            reason: "r".to_owned(),
            allowed: None,
        });
        let decision = invoice::decide(&input);
        let document = decision.document.unwrap();
        if !decision.differences.is_empty() {
            prop_assert_eq!(decision.differences.iter().map(|one| one.amount).sum::<Money>(), document.total);
        }
        prop_assert_eq!(arithmetic_faults(&document), Vec::<String>::new());
        if let Some(entry) = decision.entry {
            prop_assert!(entry.balances());
        }
    }
}

#[test]
fn invoices_posted_one_after_the_other_see_each_other() {
    let books = Books::new();
    let part = |quantity: i64| {
        let mut input = books.invoice(vec![line(1, "10", "59", "0", "S23")]);
        input.lines[0].quantity = Quantity::from_whole(quantity);
        input
    };
    let mut inputs = vec![part(4), part(6)];
    let decisions = decide_in_order(&mut inputs);
    let second = decisions[1].document.as_ref().unwrap();
    assert_eq!(second.lines[0].billed_before, Quantity::from_whole(4));
    assert_eq!(second.lines[0].still_to_come, Quantity::ZERO);
    assert_eq!(inputs[1].customer.owes, Money(10_000) + decisions[0].document.as_ref().unwrap().total_base);
    // One that is stopped makes nothing of its order.
    let mut inputs = vec![part(11), part(6)];
    let decisions = decide_in_order(&mut inputs);
    assert_eq!(decisions[1].document.as_ref().unwrap().lines[0].billed_before, Quantity::ZERO);
}

/// Money of C-9 on the invoice since 19 March: amount and base amount of what it settled and of what was used.
fn standing(settled: (i64, i64), used: (i64, i64)) -> Standing {
    let money = |(amount, base)| (Money(amount), Money(base));
    Standing {
        beside: BesideBooked::default(),
        id: ApplicationId(3),
        debit: open_invoice(5, 0, 0),
        credit: unapplied("C-9", 0, 0),
        date: day("2026-03-19"),
        settled: money(settled),
        used: money(used),
        taxes: Vec::new(),
        entry: Some(EntryId(77)),
    }
}

/// The open item of an invoice, of which so much was paid on 19 March.
fn open_item_of(document: &invoice::InvoiceDocument, paid: Money) -> OpenItem {
    let mut item = open_invoice(5, document.total.0, document.total_base.0);
    item.open = document.total - paid;
    item.movements.push(Movement::new(day("2026-03-19"), -paid.0));
    item
}

fn cancelling<'a>(books: &'a Books, input: &InvoiceInput<'_>, applied: Vec<Standing>) -> CancelInput<'a> {
    let decision = invoice::decide(input);
    let document = decision.document.unwrap();
    let paid: Money = applied.iter().map(|one| one.settled.0).sum();
    let mut orders = decision.orders_after;
    for order in &mut orders {
        for share in &mut order.invoices {
            share.invoice = InvoiceId(5);
            share.open = document.total - paid;
        }
    }
    CancelInput {
        invoice: InvoiceId(5),
        number: "I-5".to_owned(),
        item: open_item_of(&document, paid),
        customer: input.customer.clone(),
        entry: decision.entry.map(|entry| (EntryId(1), entry)),
        cost_entry: decision.cost_entry.map(|entry| (EntryId(2), entry)),
        costs: document.lines.iter().map(|_| Money(100)).collect(),
        left: Vec::new(),
        advances: Vec::new(),
        applied,
        containers_gone: Vec::new(),
        cancelled_by: None,
        credited_by: Vec::new(),
        returned_on: Vec::new(),
        orders,
        date: DocumentDate { date: day("2026-03-20"), typed: false },
        reason: "billed twice".to_owned(),
        base: eur(),
        dates: DateOrder::of_today("2099-12-31".parse().unwrap()),
        accounts: &books.accounts,
        periods: &books.periods,
        document,
    }
}

/// postings.md, Documents: the first one cancelled, 61000 236.00 · 41000 54.28 against 21000 290.28.
#[test]
fn cancelling_turns_the_very_entry_round() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "4", "59", "0", "S23")]);
    let decision = decide_cancel(&cancelling(&books, &input, Vec::new()));
    assert_eq!(written(&decision.entry), pairs(&[("41000", 5_428), ("61000", 23_600), ("21000", -29_028)]));
    assert!(decision.unapplied.is_empty() && decision.blockers.is_empty());
    assert_eq!(decision.owed_less, Money(29_028));
    let text = decision.tape.to_text();
    assert!(text.contains("-290.28") && text.contains("of I-5 still open, settled by it"), "{text}");
}

/// postings.md, Money: a receipt unapplied, 21000 210.28 against 27000 210.28.
#[test]
fn money_on_a_cancelled_invoice_lies_unapplied_again() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "4", "59", "0", "S23")]);
    let applied = standing((21_028, 21_028), (21_028, 21_028));
    let cancel = cancelling(&books, &input, vec![applied]);
    let decision = decide_cancel(&cancel);
    let [back] = decision.unapplied.as_slice() else { panic!("{:?}", decision.unapplied) };
    assert_eq!(written(&Some(back.entry.clone())), pairs(&[("21000", 21_028), ("27000", -21_028)]));
    assert_eq!(back.reverses, Some(EntryId(77)), "it points to the entry that applied it");
    assert_eq!(decision.owed_less, Money(29_028 - 21_028));
    // One value says it all: the credit memo's item against the invoice, and what is to be billed again.
    let CancelPosting { posting, entry, .. } = decision.posting(&cancel);
    agrees(&posting, &[&cancel.item, &cancel.applied[0].debit, &cancel.applied[0].credit]);
    assert_eq!((entry, posting.entries[1].reverses), (Some(1), Some(EntryId(1))));
    let [item] = posting.items.as_slice() else { panic!("{posting:?}") };
    assert_eq!((item.side, item.purpose, item.amount), (Side::OwedByUs, Purpose::Receivable, Money(29_028)));
    let [billed] = posting.billed[..] else { panic!("{posting:?}") };
    assert_eq!((billed.quantity, billed.cost), (Quantity::from_whole(-4), Money(-100)));
}

/// The money keeps the rate it came at; the difference the applying made is taken back.
#[test]
fn rates_are_those_of_the_original() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "1", "100", "0", "Z0")]);
    let gbp = till_core::money::Currency::of("GBP").unwrap();
    input.basis.currency = gbp;
    input.orders[0].currency = gbp;
    input.rate = Some("1.17".parse::<ExchangeRate>().unwrap());
    let applied = standing((10_000, 11_700), (10_000, 11_500));
    let cancel = cancelling(&books, &input, vec![applied]);
    let decision = decide_cancel(&cancel);
    agrees(&decision.posting(&cancel).posting, &[&cancel.item, &cancel.applied[0].debit, &cancel.applied[0].credit]);
    let freed = Some(decision.unapplied[0].entry.clone());
    assert_eq!(written(&freed), pairs(&[("21000", 11_700), ("27000", -11_500), ("91000", -200)]));
    assert_eq!(written(&decision.entry), pairs(&[("41000", 0), ("61000", 11_700), ("21000", -11_700)]));
}

#[test]
fn what_stands_in_the_way_of_cancelling_is_said() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "4", "59", "0", "S23")]);
    let says = |change: &dyn Fn(&mut CancelInput<'_>)| {
        let mut cancel = cancelling(&books, &input, Vec::new());
        change(&mut cancel);
        decide_cancel(&cancel).blockers.first().map(|one| (one.field.clone(), one.sentence.clone()))
    };
    let field = |found: Option<(String, String)>| found.unwrap().0;
    assert_eq!(field(says(&|cancel| cancel.cancelled_by = Some("CM-1".to_owned()))), "invoice");
    assert_eq!(field(says(&|cancel| cancel.credited_by = vec!["CM-7".to_owned()])), "invoice");
    assert_eq!(field(says(&|cancel| cancel.reason = " ".to_owned())), "reason");
    assert_eq!(field(says(&|cancel| cancel.date.date = day("2026-03-17"))), "date");
    assert_eq!(field(says(&|cancel| cancel.date.date = day("2027-03-20"))), "date");
    let drums = says(&|cancel| {
        cancel.containers_gone = vec![("DRUM".to_owned(), Quantity::from_whole(12), Quantity::from_whole(9))];
    });
    assert!(drums.unwrap().1.starts_with("12 DRUM went out with I-5, and only 9 are still at"));
}

#[test]
fn dates_in_order_warn_or_stop_by_setting() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "1", "10", "0", "S23")]);
    input.dates.last = Some(day("2026-03-19"));
    assert_eq!(checks(&invoice::decide(&input))[0].1, Effect::Warns);
    input.dates.stops = true;
    assert_eq!(checks(&invoice::decide(&input))[0], (Check::DateBeforeLast, Effect::Stops, "document_date".to_owned()));
}

/// What was asked for of a draft is decided on before it is posted, not after.
#[test]
fn a_draft_waits_for_what_was_asked_of_it() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "1", "10", "0", "S23")]);
    assert!(checks(&invoice::decide(&input)).is_empty());
    let words = "HB-12 at 1.00, not 32.50, for Saltmarsh Honey Co-op".to_owned();
    input.waits = Some(WaitingRequest { id: ApprovalId(9), maker: "Tomas Vey".to_owned(), words: words.clone() });
    let decision = invoice::decide(&input);
    let [blocker] = decision.blockers.as_slice() else { panic!("{:?}", decision.blockers) };
    assert_eq!((blocker.check, blocker.effect), (Check::WaitsForApproval, Effect::Stops));
    assert!(blocker.sentence.contains(&words) && blocker.sentence.contains("Tomas Vey"), "{}", blocker.sentence);
    assert_eq!(blocker.at.as_ref().map(|at| (at.kind, at.id)), Some((DocumentKind::Approval, 9)));
    // On a draft it is told, and its figures are what they are without.
    input.step = Step::Bill;
    let told = invoice::decide(&input);
    assert_eq!(told.blockers[0].effect, Effect::Warns);
    assert_eq!(told.fingerprint, decision.fingerprint);
}

/// Each rule of the arithmetic names its own break, and nothing else is said of a sound invoice.
#[test]
fn arithmetic_that_does_not_hold_is_named() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "4", "59", "0", "S23"), line(2, "1", "10", "0", "S135")]);
    input.discount = ten_percent();
    let sound = invoice::decide(&input).document.unwrap();
    assert_eq!(arithmetic_faults(&sound), Vec::<String>::new());
    let faults = |change: &dyn Fn(&mut invoice::InvoiceDocument)| {
        let mut document = sound.clone();
        change(&mut document);
        arithmetic_faults(&document).join("; ")
    };
    let named = |change: &dyn Fn(&mut invoice::InvoiceDocument), rule: &str| {
        let said = faults(change);
        assert!(said.contains(rule), "{rule} is not named: {said}");
    };
    let cent = Money(1);
    named(&|document| document.lines_total += cent, "BR-CO-10");
    named(&|document| document.lines[0].off += cent, "BR-CO-11");
    named(&|document| document.net += cent, "BR-CO-13: the total without tax");
    named(&|document| document.discount = None, "BR-CO-13: lines less allowances");
    named(&|document| document.tax += cent, "BR-CO-14");
    named(&|document| document.total += cent, "BR-CO-15");
    named(&|document| document.due_parts[0].amount += cent, "BR-CO-16");
    named(&|document| document.taxes[0].tax += cent, "BR-CO-17");
    named(&|document| document.taxes[1].base += cent, "BR-S-08");
    let mut gross = books.invoice(vec![line(1, "1", "123", "0", "S23")]);
    gross.basis.gross_priced = true;
    let mut gross = invoice::decide(&gross).document.unwrap();
    assert_eq!(arithmetic_faults(&gross), Vec::<String>::new());
    gross.total += cent;
    assert!(arithmetic_faults(&gross).contains(&"the customer pays exactly the gross".to_owned()));
}
