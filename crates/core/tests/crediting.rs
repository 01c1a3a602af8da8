//! Crediting lines of an invoice. Rows of postings.md with figures worked out by hand beside them, and a
//! property: credited in parts, in any order, an invoice gives back exactly what it charged.

use crate::common::*;
use proptest::prelude::*;
use till_core::accounts::Purpose;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::{Check, stops};
use till_core::deposit::HeldTax;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, DocumentRef, InvoiceId};
use till_core::invoice::credit::{BilledLine, CreditDecision, CreditInput, DiscountOn, LineToCredit, What, decide};
use till_core::invoice::{self, InvoiceDocument, InvoiceInput, ItemKind};
use till_core::money::{Currency, Money};
use till_core::open_items::Side;
use till_core::order::OrderState;
use till_core::room::Movement;
use till_core::settle::{BesideBooked, Both};
use till_core::tape::Figure;
use till_core::tax::TaxComputed;

fn quantity(position: usize, quantity: &str) -> LineToCredit {
    LineToCredit { position, what: What::Quantity(quantity.parse().unwrap()), returned: None }
}

fn off(position: usize, amount: i64) -> LineToCredit {
    LineToCredit { position, what: What::Price(Money(amount)), returned: None }
}

/// A credit on an invoice of which so much was paid, a day after it was posted.
fn crediting<'a>(books: &'a Books, input: &InvoiceInput<'_>, paid: i64, lines: Vec<LineToCredit>) -> CreditInput<'a> {
    let decision = invoice::decide(input);
    let document: InvoiceDocument = decision.document.unwrap();
    let named = DocumentRef { kind: DocumentKind::Invoice, id: 5, number: "I-5".to_owned() };
    let mut item = open_item(Side::OwedToUs, Purpose::Receivable, named, (document.total.0, document.total_base.0));
    item.posting_date = document.posting_date.date;
    item.currency = document.currency;
    item.movements = vec![Movement::new(document.posting_date.date, document.total.0)];
    item.base_movements = vec![Movement::new(document.posting_date.date, document.total_base.0)];
    if paid > 0 {
        item.movements.push(Movement::new(document.posting_date.date, -paid));
        let given_up = item.release(Money(paid), document.posting_date.date);
        item.open_base -= given_up;
        item.base_movements.push(Movement::new(document.posting_date.date, -given_up.0));
        item.open -= Money(paid);
    }
    CreditInput {
        invoice: InvoiceId(5),
        number: "I-5".to_owned(),
        billed: vec![BilledLine::default(); document.lines.len()],
        tax_credited: vec![Money::ZERO; document.taxes.len()],
        discount: DiscountOn::default(),
        item,
        customer: input.customer.clone(),
        cancelled_by: None,
        supplies: None,
        exchange: false,
        goods: Vec::new(),
        orders: Vec::new(),
        lines,
        date: DocumentDate { date: document.posting_date.date.succ_opt().unwrap(), typed: true },
        reason: "a scratch on the lid".to_owned(),
        base: eur(),
        dates: DateOrder::of_today("2099-12-31".parse().unwrap()),
        accounts: &books.accounts,
        periods: &books.periods,
        document,
    }
}

/// The books after a credit: what was credited, and what is open of the invoice.
fn after(input: &mut CreditInput<'_>, decision: &CreditDecision) {
    for (line, position) in decision.document.lines.iter().zip(&decision.credits) {
        let so_far = &mut input.billed[*position].credited;
        so_far.quantity = Quantity::from_scaled(so_far.quantity.scaled() + line.quantity.scaled());
        so_far.amount += line.amount;
        so_far.net += line.net;
    }
    for tax in &decision.document.taxes {
        let at = input.document.taxes.iter().position(|billed| billed.rate == tax.rate).unwrap();
        input.tax_credited[at] += tax.tax;
    }
    input.item.movements.push(Movement::new(input.date.date, -decision.settles.0.0));
    input.item.open -= decision.settles.0;
    input.item.open_base -= decision.settles.1;
}

/// postings.md, Documents: credit memo, net 59.00, invoice still open; the same, invoice paid, kept.
#[test]
fn a_quantity_goes_off_what_is_open_and_is_kept_where_it_is_paid() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "4", "59", "0", "S23")]);
    let open = decide(&crediting(&books, &input, 0, vec![quantity(0, "1")]));
    assert_eq!(open.blockers, []);
    assert_eq!(written(&open.entry), pairs(&[("41000", 1_357), ("65000", 5_900), ("21000", -7_257)]));
    let paid = decide(&crediting(&books, &input, 29_028, vec![quantity(0, "1")]));
    assert_eq!(written(&paid.entry), pairs(&[("41000", 1_357), ("65000", 5_900), ("27000", -7_257)]));
    // 290.28 less 250.00 paid: 40.28 are open and settled, 32.29 are kept.
    let part = decide(&crediting(&books, &input, 25_000, vec![quantity(0, "1")]));
    assert_eq!((part.settles.0, part.kept.0), (Money(4_028), Money(3_229)));
    assert_eq!(
        written(&part.entry),
        pairs(&[("41000", 1_357), ("65000", 5_900), ("21000", -4_028), ("27000", -3_229)])
    );
    let text = part.tape.to_text();
    assert!(text.contains("1 × IT-1") && text.contains("-72.57") && text.contains("kept for the customer"), "{text}");
}

/// 984.00 (800.00 and 23 %) of four pieces, of which so much stays open, with so much of discount on it: tax adjusted, or not.
fn discounted<'a>(
    books: &'a Books,
    (open, discount, adjusted): (i64, i64, bool),
    lines: Vec<LineToCredit>,
) -> CreditInput<'a> {
    let input = books.invoice(vec![line(1, "4", "200", "0", "S23")]);
    let credit = crediting(books, &input, 98_400 - open, lines);
    let tax = if adjusted { Money(discount).share(23, 123) } else { Money::ZERO };
    let part = HeldTax {
        rate: credit.document.taxes[0].rate.clone(),
        tax_date: day("2026-04-01"),
        net: Money(discount) - tax,
        tax,
        net_base: Money(discount) - tax,
        tax_base: tax,
    };
    let stands = BesideBooked {
        discount: Both::of(Money(discount), Money(discount)),
        taxes: adjusted.then_some(part).into_iter().collect(),
        ..BesideBooked::default()
    };
    CreditInput { discount: DiscountOn { stands, last: Some(credit.date.date) }, ..credit }
}

/// docs/postings.md, Documents: who kept back 2 % of 984.00 (19.68, of which tax 3.68) and returns half gets 482.16 for it, what was
/// paid, not 492.00. 9.84 of the discount go back: 8.00 and tax 1.84; without tax adjusted all of it is discount.
#[test]
fn a_credit_takes_the_discount_of_what_was_paid_along() {
    let books = Books::new();
    let mut credit = discounted(&books, (0, 1_968, true), vec![quantity(0, "2")]);
    let half = decide(&credit);
    assert_eq!(half.blockers, []);
    let lines = [("41000", 9_200), ("65000", 40_000), ("27000", -48_216), ("66000", -800), ("41000", -184)];
    assert_eq!(written(&half.entry), pairs(&lines));
    assert_eq!((half.kept.0, half.stays()), (Money(49_200), Money(48_216)));
    let text = half.tape.to_text();
    assert!(text.contains("less the early-payment discount taken on it") && text.contains("482.16"), "{text}");
    // The books hold both: what is kept, and the application that gives up a part of it and settles nothing.
    let posting = half.posting(&credit);
    let [back] = posting.applications.as_slice() else { panic!("{:?}", posting.applications) };
    assert_eq!(
        (back.debit_amount.0, back.credit_amount.0, back.beside.discount.amount),
        (Money(0), Money(984), Money(-984))
    );
    agrees(&posting, &[&credit.item]);
    // The other half takes the rest.
    after(&mut credit, &half);
    let stands = &mut credit.discount.stands;
    stands.discount = Both::of(Money(984), Money(984));
    (stands.taxes[0].net, stands.taxes[0].tax) = (Money(800), Money(184));
    (stands.taxes[0].net_base, stands.taxes[0].tax_base) = (Money(800), Money(184));
    let rest = decide(&credit);
    assert_eq!(written(&rest.entry), pairs(&lines));
    assert_eq!(half.stays() + rest.stays(), Money(96_432), "what was paid, to the cent");

    let plain = decide(&discounted(&books, (0, 1_968, false), vec![quantity(0, "2")]));
    assert_eq!(
        written(&plain.entry),
        pairs(&[("41000", 9_200), ("65000", 40_000), ("27000", -48_216), ("66000", -984)])
    );
}

/// What is still open earned nothing yet. Half was paid with its 9.84 of discount, 492.00 are open: crediting half goes off that;
/// of three quarters 246.00 are kept, half of what was paid for, with half of its discount, 4.92.
#[test]
fn what_is_open_takes_no_discount_along() {
    let books = Books::new();
    let half = decide(&discounted(&books, (49_200, 984, false), vec![quantity(0, "2")]));
    assert_eq!((half.settles.0, half.kept.0, half.discount.credit.0), (Money(49_200), Money::ZERO, Money::ZERO));
    let more = decide(&discounted(&books, (49_200, 984, false), vec![quantity(0, "3")]));
    assert_eq!((more.settles.0, more.kept.0, more.stays()), (Money(49_200), Money(24_600), Money(24_108)));
    // Not before the day the discount was taken.
    let mut early = discounted(&books, (0, 1_968, false), vec![quantity(0, "1")]);
    early.discount.last = early.date.date.succ_opt();
    let early = decide(&early);
    assert!(early.blockers.iter().any(|one| one.check == Check::DateTooEarly && one.field == "date"), "{early:?}");
}

/// What is left to credit is said of each line, whatever is credited of it now. 2 of 4 at 59.00 and 20.00 off the price
/// were credited: 236.00 − 118.00 − 20.00 = 98.00 are left, of 2; the freight is credited whole; drums are owed back.
#[test]
fn what_is_left_of_each_line_and_what_stands_in_its_way() {
    let books = Books::new();
    let mut drum = line(3, "1", "12", "0", "S23");
    drum.kind = ItemKind::Packaging;
    let input = books.invoice(vec![line(1, "4", "59", "0", "S23"), line(2, "1", "18", "0", "S23"), drum]);
    let mut credit = crediting(&books, &input, 0, vec![quantity(0, "2"), quantity(1, "1")]);
    let first = decide(&credit);
    let now: Vec<i64> = first.left.iter().map(|line| line.now.0).collect();
    assert_eq!(now, [11_800, 1_800, 0]);
    after(&mut credit, &first);
    credit.lines = vec![off(0, 2_000)];
    let second = decide(&credit);
    after(&mut credit, &second);
    credit.lines = Vec::new();
    let left = decide(&credit).left;
    let said: Vec<_> = left.iter().map(|line| (line.quantity, line.amount.0, line.credited.0, line.now.0)).collect();
    let of = |whole: i64| Quantity::from_whole(whole);
    assert_eq!(said, [(of(2), 9_800, 13_800, 0), (of(0), 0, 1_800, 0), (of(1), 1_200, 0, 0)]);
    assert_eq!(left[0].obstacle, None);
    assert_eq!(left[1].obstacle.as_deref(), Some("All that IT-2 came to is credited already."));
    assert!(left[2].obstacle.as_ref().is_some_and(|why| why.contains("containers")), "{left:?}");
}

/// postings.md, Documents: credit memo on a GBP invoice of rate 1.17, net 50.00, tax 11.50:
/// 65000 58.50 · 41000 13.46 against 21000 71.96.
#[test]
fn in_foreign_currency_the_rate_is_that_of_the_invoice() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "2", "50", "0", "S23")]);
    let gbp = Currency::of("GBP").unwrap();
    input.basis.currency = gbp;
    input.orders[0].currency = gbp;
    input.rate = Some("1.17".parse().unwrap());
    let decision = decide(&crediting(&books, &input, 0, vec![quantity(0, "1")]));
    assert_eq!((decision.document.net, decision.document.tax), (Money(5_000), Money(1_150)));
    assert_eq!(written(&decision.entry), pairs(&[("41000", 1_346), ("65000", 5_850), ("21000", -7_196)]));
}

/// 3 × 33.33 at 23 %: tax 23.00 (22.9977). One by one: 33.33 × 23 % = 7.67 (7.6659); 66.66 × 23 % = 15.33
/// (15.3318) less 7.67 is 7.66; the last takes what is left, 23.00 less 15.33.
#[test]
fn tax_is_cumulative() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "3", "33.33", "0", "S23")]);
    let mut credit = crediting(&books, &input, 0, vec![quantity(0, "1")]);
    let mut taxes = Vec::new();
    for _ in 0..3 {
        let decision = decide(&credit);
        assert!(!stops(&decision.blockers));
        taxes.push(decision.document.tax.0);
        after(&mut credit, &decision);
    }
    assert_eq!(taxes, [767, 766, 767]);
    assert_eq!((credit.item.open, credit.item.open_base), (Money::ZERO, Money::ZERO));
    assert_eq!(decide(&credit).blockers[0].check, Check::MoreThanBilled);
}

/// Ten at 10.00, 20.00 off the price later: what is left is 8.00 for each, and that is what one gives back.
#[test]
fn after_a_price_is_lowered_a_quantity_gives_back_the_lower_price() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "10", "10", "0", "S23")]);
    let mut credit = crediting(&books, &input, 0, vec![off(0, 2_000)]);
    let decision = decide(&credit);
    assert_eq!((decision.document.net, decision.document.tax), (Money(2_000), Money(460)));
    assert!(decision.tape.to_text().contains("off the price of IT-1"));
    after(&mut credit, &decision);
    credit.lines = vec![quantity(0, "1")];
    assert_eq!(decide(&credit).document.net, Money(800));
}

/// A discount over the document was taken off each line: 10 % of 236.00.
#[test]
fn a_discount_over_the_document_stays_taken_off() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "4", "59", "0", "S23")]);
    let percent = Some("0.1".parse().unwrap());
    input.discount =
        Some(invoice::DiscountWish { percent, amount: None, reason: "trade fair".to_owned(), allowed: None });
    // 236.00 less 23.60 is 212.40; a quarter of it.
    assert_eq!(decide(&crediting(&books, &input, 0, vec![quantity(0, "1")])).document.net, Money(5_310));
}

/// Deliveries of two months on one invoice: what is credited stands in the month of its line.
#[test]
fn the_tax_date_is_that_of_the_line() {
    let books = Books::new();
    let (mut march, mut april) = (line(1, "1", "100", "0", "S23"), line(2, "1", "200", "0", "S23"));
    march.source = shipped(1, 1, 1, 1, "2026-02-27");
    april.source = shipped(2, 2, 2, 1, "2026-03-17");
    let input = books.invoice(vec![march, april]);
    let decision = decide(&crediting(&books, &input, 0, vec![quantity(0, "1")]));
    let mark = decision.entry.unwrap().lines.iter().find_map(|line| line.tax.clone()).unwrap();
    assert_eq!((mark.tax_date, mark.base), (Some(day("2026-02-27")), Money(-10_000)));
}

#[test]
fn what_stands_in_the_way_of_a_credit_is_said_at_its_field() {
    let books = Books::new();
    let mut drum = line(2, "2", "40", "0", "O0");
    drum.kind = ItemKind::Packaging;
    let input = books.invoice(vec![line(1, "4", "59", "0", "S23"), drum]);
    let says = |lines: Vec<LineToCredit>, change: &dyn Fn(&mut CreditInput<'_>)| {
        let mut credit = crediting(&books, &input, 0, lines);
        change(&mut credit);
        decide(&credit).blockers.iter().map(|one| (one.check, one.field.clone())).collect::<Vec<_>>()
    };
    let one = |check: Check, field: &str| vec![(check, field.to_owned())];
    let nothing = |_: &mut CreditInput<'_>| {};
    let fine = || vec![quantity(0, "1")];
    assert_eq!(says(fine(), &nothing), []);
    assert_eq!(says(vec![], &nothing), one(Check::NothingToDo, "lines"));
    assert_eq!(says(vec![quantity(0, "4.0001")], &nothing), one(Check::MoreThanBilled, "lines.0.quantity"));
    assert_eq!(says(vec![quantity(0, "0")], &nothing), one(Check::QuantityNotPositive, "lines.0.quantity"));
    assert_eq!(says(vec![off(0, 23_601)], &nothing), one(Check::MoreThanBilled, "lines.0.amount"));
    assert_eq!(says(vec![off(0, -1)], &nothing), one(Check::AmountNotPositive, "lines.0.amount"));
    assert_eq!(says(vec![quantity(7, "1")], &nothing), one(Check::CannotCredit, "lines.0"));
    assert_eq!(says(vec![quantity(1, "1")], &nothing), one(Check::CannotCredit, "lines.0"));
    assert_eq!(says(vec![quantity(0, "1"), off(0, 100)], &nothing), one(Check::NamedTwice, "lines.1"));
    assert_eq!(says(fine(), &|credit| credit.reason = " ".to_owned()), one(Check::CannotCredit, "reason"));
    let cancelled = |credit: &mut CreditInput<'_>| credit.cancelled_by = Some("CM-1".to_owned());
    assert_eq!(says(fine(), &cancelled), one(Check::CannotCredit, "invoice"));
    let early = |credit: &mut CreditInput<'_>| credit.date.date = day("2026-03-01");
    assert_eq!(says(fine(), &early), one(Check::DateTooEarly, "date"));
    let closed = |credit: &mut CreditInput<'_>| credit.date.date = day("2027-03-20");
    assert_eq!(says(fine(), &closed), one(Check::PeriodClosed, "date"));
}

/// The invoice was paid on 18 March and the money taken back on the 25th: on the 20th nothing of it is open,
/// so a credit of that day is kept, and does not settle what is open only later.
#[test]
fn a_credit_settles_only_what_is_open_from_its_day_on() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "4", "59", "0", "S23")]);
    let mut credit = crediting(&books, &input, 0, vec![quantity(0, "1")]);
    credit.item.movements.push(Movement::new(day("2026-03-18"), -29_028));
    credit.item.movements.push(Movement::new(day("2026-03-25"), 29_028));
    credit.date.date = day("2026-03-20");
    assert_eq!(decide(&credit).settles.0, Money::ZERO);
    credit.date.date = day("2026-03-25");
    assert_eq!(decide(&credit).kept.0, Money::ZERO);
}

/// What is left counts, to the last piece and the last cent; on the very day the invoice was posted.
#[test]
fn all_that_is_left_may_be_credited_and_no_more() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "4", "59", "0", "S23")]);
    let mut credit = crediting(&books, &input, 0, vec![quantity(0, "1")]);
    credit.date.date = credit.document.posting_date.date;
    let first = decide(&credit);
    assert_eq!(first.blockers, []);
    let line = &first.document.lines[0];
    assert_eq!((line.quantity, line.unbilled, line.full), (Quantity::ONE, Quantity::ONE, Money(5_900)));
    after(&mut credit, &first);
    credit.lines = vec![quantity(0, "4")];
    let said = decide(&credit).blockers;
    assert_eq!(said[0].check, Check::MoreThanBilled);
    assert_eq!(said[0].sentence, "Of 4 IT-1, 3 are left to credit.");
    credit.lines = vec![off(0, 17_701)];
    assert_eq!(decide(&credit).blockers[0].sentence, "177.00 EUR of IT-1 are left to credit.");
    credit.lines = vec![off(0, 17_700)];
    let rest = decide(&credit);
    assert_eq!((&rest.blockers[..], rest.document.total), (&[][..], Money(29_028 - 7_257)));
    // All the price is given back; three pieces of it are worth nothing any more.
    after(&mut credit, &rest);
    credit.lines = vec![quantity(0, "3")];
    assert!(decide(&credit).blockers[0].sentence.contains("is credited already"));
    // A line after the last is no line.
    credit.lines = vec![quantity(1, "1")];
    let none = decide(&credit);
    assert_eq!((none.blockers[0].sentence.as_str(), none.credits.len()), ("I-5 has no line 2.", 0));
}

/// Three lines of 1.10 at 23 % and one at 13.5 %. Rounded line by line a line has 0.25 (0.253) of tax and two have
/// 0.50; rounded once two have 0.51 (0.506). 10.00 at 13.5 % stay out of it either way.
#[test]
fn tax_is_rounded_where_the_invoice_rounded_it() {
    let books = Books::new();
    let lines =
        || vec![line(1, "1", "1.1", "0", "S23"), line(2, "1", "1.1", "0", "S23"), line(3, "1", "10", "0", "S135")];
    let taxes = |way: TaxComputed| {
        let mut input = books.invoice(lines());
        input.tax_computed = way;
        let mut credit = crediting(&books, &input, 0, vec![quantity(0, "1"), quantity(2, "1")]);
        let first = decide(&credit);
        after(&mut credit, &first);
        credit.lines = vec![quantity(1, "1")];
        let second = decide(&credit);
        let of = |decision: &CreditDecision| decision.document.taxes.iter().map(|tax| tax.tax.0).collect::<Vec<_>>();
        (of(&first), of(&second))
    };
    assert_eq!(taxes(TaxComputed::PerLine), (vec![25, 135], vec![25]));
    assert_eq!(taxes(TaxComputed::PerDocument), (vec![25, 135], vec![26]));
}

/// Prices with tax: 2 × 123.00 are 200.00 and 46.00; one gives back 123.00, of which 23.00 are tax.
#[test]
fn the_gross_is_given_back_and_the_tax_in_it() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "2", "123", "0", "S23")]);
    input.basis.gross_priced = true;
    let memo = decide(&crediting(&books, &input, 0, vec![quantity(0, "1")])).document;
    assert_eq!((memo.net, memo.tax, memo.total), (Money(10_000), Money(2_300), Money(12_300)));
}

/// An invoice of older books whose tax is a cent off its rate gives back that cent with the last part of it.
#[test]
fn the_last_credit_takes_all_that_is_left_of_the_tax() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "2", "100", "0", "S23")]);
    let mut credit = crediting(&books, &input, 0, vec![quantity(0, "1")]);
    credit.document.taxes[0].tax += Money(1);
    credit.document.tax += Money(1);
    let first = decide(&credit);
    after(&mut credit, &first);
    assert_eq!((first.document.tax, decide(&credit).document.tax), (Money(2_300), Money(2_301)));
}

/// Every line of the tape and every change, where part is settled and part kept: 250.00 of 290.28 were paid.
#[test]
fn the_tape_says_what_goes_back_and_where_it_goes() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "4", "59", "0", "S23")]);
    let said = |paid: i64, typed: bool| {
        let mut credit = crediting(&books, &input, paid, vec![quantity(0, "1")]);
        credit.date.typed = typed;
        let decision = decide(&credit);
        let lines: Vec<_> = decision
            .tape
            .lines
            .iter()
            .map(|line| (line.label.clone(), line.of.map(|of| of.0), line.amount.map(|amount| amount.0), line.assumed))
            .collect();
        let changes: Vec<_> = decision.changes.iter().map(|one| (one.label.clone(), one.after.clone())).collect();
        (lines, changes)
    };
    let owes = credit_owes(&books, &input);
    let row = |label: &str, of: Option<i64>, amount: Option<i64>, assumed| (label.to_owned(), of, amount, assumed);
    let head = [
        row("1 × IT-1", None, Some(-5_900), false),
        row("Net", None, Some(-5_900), false),
        row("Tax 23 %", Some(-5_900), Some(-1_357), false),
        row("Credit", None, Some(-7_257), false),
    ];
    let settled = |amount| row("off what is open of I-5", None, Some(amount), false);
    let kept = |amount| row("kept for the customer, unapplied", None, Some(amount), false);
    let tail = |assumed| {
        [
            row("posted on 19 Mar 2026", None, None, assumed),
            row("rates and tax dates of the invoice", None, None, false),
        ]
    };
    let change = |label: &str, amount: i64| (label.to_owned(), Figure::money(Money(amount)));
    let expect = |middle: Vec<(String, Option<i64>, Option<i64>, bool)>, assumed| {
        [head.to_vec(), middle, tail(assumed).to_vec()].concat()
    };
    let (lines, changes) = said(25_000, true);
    assert_eq!(lines, expect(vec![settled(4_028), kept(3_229)], false));
    assert_eq!(changes, [change("Customer owes", owes - 4_028), change("Kept unapplied", 3_229)]);
    let (lines, changes) = said(0, false);
    assert_eq!(lines, expect(vec![settled(7_257)], true));
    assert_eq!(changes, [change("Customer owes", owes - 7_257)]);
    assert_eq!(said(29_028, true).0, expect(vec![kept(7_257)], false));
}

fn credit_owes(books: &Books, input: &InvoiceInput<'_>) -> i64 {
    crediting(books, input, 0, Vec::new()).customer.owes.0
}

/// Accounts by class, marks of the line, whose account it is, and every amount in the invoice's currency.
#[test]
fn each_line_of_the_entry_says_whose_and_what_it_is() {
    let mut books = Books::new();
    let mut rule = books.accounts.0.iter().find(|rule| rule.purpose == Purpose::Returns).unwrap().clone();
    (rule.item_class, rule.account.number) = (Some("pottery".to_owned()), "65800".to_owned());
    books.accounts.0.push(rule);
    let mut pot = line(1, "4", "59", "0", "S23");
    pot.marks.codes.insert("project".to_owned(), "P2".to_owned());
    let mut input = books.invoice(vec![pot]);
    let gbp = Currency::of("GBP").unwrap();
    (input.basis.currency, input.orders[0].currency) = (gbp, gbp);
    input.rate = Some("1.17".parse().unwrap());
    let mut credit = crediting(&books, &input, 25_000, vec![quantity(0, "1")]);
    credit.billed[0].class = Some("pottery".to_owned());
    let entry = decide(&credit).entry.unwrap();
    let lines: Vec<_> =
        entry.lines.iter().map(|line| (line.account.as_str(), line.document.0, line.customer.is_some())).collect();
    assert_eq!(
        lines,
        [("65800", 5_900, false), ("41000", 1_357, false), ("21000", -4_028, true), ("27000", -3_229, true)]
    );
    assert_eq!(entry.lines[0].marks.codes["project"], "P2");
    assert_eq!(entry.lines[1].tax.as_ref().unwrap().document_base, Money(-5_900));
    // An item that never had an account stands on the one the map names.
    credit.item.account = None;
    let again = decide(&credit).entry.unwrap();
    assert_eq!(again, entry);
    // What was typed to an account goes back to that very account.
    credit.billed[0].account = Some(books.account(Purpose::ChargeRevenue));
    assert_eq!(decide(&credit).entry.unwrap().lines[0].account, "64000");
}

/// The credit memo has dates of its own, falls due at once, and says nothing the invoice said about paying.
#[test]
fn the_document_is_its_own() {
    let books = Books::new();
    let mut input = books.invoice(vec![line(1, "4", "59", "0", "S23"), line(2, "1", "100", "0", "S23")]);
    input.lines[1].source = shipped(2, 2, 2, 1, "2026-02-20");
    input.text_above = Some("As agreed.".to_owned());
    input.text_below = Some("With thanks.".to_owned());
    let percent = Some("0.1".parse().unwrap());
    input.discount =
        Some(invoice::DiscountWish { percent, amount: None, reason: "trade fair".to_owned(), allowed: None });
    input.basis.terms.discount = Some(till_core::terms::EarlyDiscount {
        rate: "0.02".parse().unwrap(),
        days: 10,
        base: till_core::terms::DiscountBase::Gross,
        grace_days: 0,
        tax_adjusted: false,
    });
    let credit = crediting(&books, &input, 0, vec![quantity(1, "1")]);
    let billed = &credit.document;
    assert!(billed.early.is_some() && billed.discount.is_some() && !billed.order_shares.is_empty());
    let memo = decide(&credit).document;
    let on = credit.date.date;
    assert_eq!((memo.document_date, memo.posting_date, memo.due_date), (credit.date, credit.date, on));
    assert_eq!(memo.due_parts, [till_core::terms::DuePart { date: on, amount: memo.total }]);
    assert_eq!((memo.terms, memo.early), (till_core::terms::Terms::net_days(0), None));
    assert_eq!((memo.text_above, memo.text_below, memo.discount), (None, None, None));
    assert_eq!(memo.tax_date, day("2026-02-20"), "that of the line, not the latest of the invoice");
    assert_eq!((memo.lines_total, memo.order_shares.len()), (Money(9_000), 0));
    let line = &memo.lines[0];
    assert_eq!((line.quantity, line.unbilled), (Quantity::ONE, Quantity::ONE));
    assert_eq!((line.full, line.amount, line.off), (Money(9_000), Money(9_000), Money::ZERO));
}

/// Credited in whole, an order that was shipped and billed is settled; that of another invoice is not.
#[test]
fn the_order_is_settled_by_what_is_credited() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "1", "100", "0", "S23")]);
    let states = |of: i64| {
        let mut credit = crediting(&books, &input, 0, vec![quantity(0, "1")]);
        credit.orders = invoice::decide(&input).orders_after;
        for share in credit.orders.iter_mut().flat_map(|order| &mut order.invoices) {
            (share.invoice, share.open) = (InvoiceId(of), credit.document.total);
        }
        decide(&credit).orders[0].state
    };
    assert_eq!((states(5), states(6)), (OrderState::Closed, OrderState::Filled));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// domain.md section 9: a line credited in parts gives back exactly its net and its tax; on the way
    /// never more than was charged; every entry balances; in every currency what was carried is released.
    #[test]
    fn in_parts_an_invoice_gives_back_exactly_what_it_charged(
        lines in prop::collection::vec((1i64..40, 1i64..900_000, 0usize..3), 1..5),
        parts in prop::collection::vec((0usize..5, 1i64..12, any::<bool>()), 1..30),
        way in 0usize..3,
        money in 0usize..3,
        paid in 0i64..3,
    ) {
        let books = Books::new();
        let codes = ["S23", "S135", "Z0"];
        let lines = lines
            .iter()
            .zip(1..)
            .map(|((quantity, price, code), id)| {
                line(id, &quantity.to_string(), &format!("{}.{:04}", price / 10_000, price % 10_000), "0", codes[*code])
            })
            .collect::<Vec<_>>();
        let mut input = books.invoice(lines);
        let (currency, rate) = [("EUR", "1"), ("GBP", "1.1713"), ("JPY", "0.0061")][money];
        input.basis.currency = Currency::of(currency).unwrap();
        for order in &mut input.orders {
            order.currency = input.basis.currency;
        }
        input.rate = Some(rate.parse().unwrap());
        input.basis.gross_priced = way == 2;
        input.tax_computed = if way == 1 { TaxComputed::PerLine } else { TaxComputed::PerDocument };
        let total = invoice::decide(&input).document.unwrap().total;
        let mut credit = crediting(&books, &input, total.0 * paid / 3, Vec::new());
        let (mut net, mut tax, mut done) = (Money::ZERO, Money::ZERO, 0);
        let every = (0..credit.document.lines.len()).map(|at| (at, i64::MAX, true));
        for (at, part, whole) in parts.into_iter().chain(every) {
            let Some(billed) = credit.document.lines.get(at) else { continue };
            let so_far = credit.billed[at].credited;
            let left = billed.amount - billed.off - so_far.amount;
            let left_quantity = billed.quantity.scaled() - so_far.quantity.scaled();
            let what = if whole {
                What::Quantity(Quantity::from_scaled(left_quantity.min(part.saturating_mul(10_000))))
            } else {
                What::Price(Money((left.0 / 7).max(1).min(left.0)))
            };
            credit.lines = vec![LineToCredit { position: at, what, returned: None }];
            let decision = decide(&credit);
            if left.is_zero() || left_quantity == 0 {
                continue;
            }
            prop_assert_eq!(&decision.blockers, &[], "{:?}", what);
            prop_assert!(decision.entry.as_ref().is_none_or(till_core::entry::Entry::balances));
            agrees(&decision.posting(&credit), &[&credit.item]);
            let in_document: i64 = decision.entry.iter().flat_map(|entry| &entry.lines).map(|line| line.document.0).sum();
            prop_assert_eq!(in_document, 0, "in the currency of the invoice too");
            prop_assert!(!decision.entry.iter().flat_map(|entry| &entry.lines).any(|line| line.purpose == Purpose::FxDifference));
            net += decision.document.net;
            tax += decision.document.tax;
            prop_assert!(net <= credit.document.net && tax <= credit.document.tax);
            after(&mut credit, &decision);
            prop_assert!(!credit.item.open.0.is_negative());
            done += 1;
        }
        prop_assert!(done >= credit.document.lines.len().min(1));
        prop_assert_eq!((net, tax), (credit.document.net, credit.document.tax));
        prop_assert_eq!((credit.item.open, credit.item.open_base), (Money::ZERO, Money::ZERO));
    }
}
