//! What settles an item beside money: discounts for early payment, differences within the tolerance. Figures by hand, and the
//! rows of `postings.md`, Money.

use std::collections::BTreeMap;

use crate::common::*;
use chrono::NaiveDate;
use till_core::calendar::DocumentDate;
use till_core::checks::{Check, stops};
use till_core::fixed::Rate;
use till_core::ids::{ApplicationId, EntryId, OpenItemId};
use till_core::money::{Currency, Money};
use till_core::open_items::OpenItem;
use till_core::room::Movement;
use till_core::settle::back::{self, BackInput, Standing, WholeReceipt};
use till_core::settle::{
    self, Beside, BesideBooked, Both, Early, PlaceKind, Said, SettleInput, Sold, Source, ToApply, suggest,
};
use till_core::tax::{TaxCategory, TaxRate};
use till_core::terms::{DiscountBase, EarlyDiscount, Terms};

/// 2 % within 10 days, 30 days net, with 3 days of grace, of the net or the total, the tax adjusted or not.
fn terms(base: DiscountBase, tax_adjusted: bool) -> Terms {
    let discount = EarlyDiscount { rate: "0.02".parse().unwrap(), days: 10, base, grace_days: 3, tax_adjusted };
    Terms { discount: Some(discount), ..Terms::net_days(30) }
}

fn sold(code: &str, rate: &str, net: i64, tax: i64) -> Sold {
    let rate: Rate = rate.parse().unwrap();
    Sold {
        rate: TaxRate { code: code.to_owned(), category: TaxCategory::S, rate },
        tax_date: day("2026-04-01"),
        net: Money(net),
        tax: Money(tax),
    }
}

/// The offer on invoice 1 of 984.00, net 800.00 and 23 % tax, dated 1 April.
fn offer(base: DiscountBase, tax_adjusted: bool) -> Early {
    Early {
        item: OpenItemId(1),
        terms: terms(base, tax_adjusted),
        document_date: day("2026-04-01"),
        sold: vec![sold("S23", "0.23", 80_000, 18_400)],
        in_advance: Money::ZERO,
        taken: Money::ZERO,
    }
}

fn paying(books: &Books, early: Early, (open, paid): (i64, i64), beside: Beside) -> SettleInput<'_> {
    let to_apply = ToApply { beside, ..ToApply::new(open_invoice(1, open, open), Money(paid)) };
    SettleInput { early: BTreeMap::from([(early.item, early)]), ..books.money(transfer(), paid, vec![to_apply]) }
}

const fn discount(amount: i64) -> Beside {
    Beside { discount: Money(amount), written_off: Money::ZERO }
}

const fn difference(amount: i64) -> Beside {
    Beside { discount: Money::ZERO, written_off: Money(amount) }
}

fn refused(decision: &settle::SettleDecision, check: Check, field: &str) -> bool {
    decision.blockers.iter().any(|blocker| blocker.check == check && blocker.field == field)
}

/// postings.md, Money: 984.00 (net 800.00) paid with 2 % of the gross, tax adjusted; of the gross, not adjusted; of the net.
#[test]
fn rows_of_a_discount() {
    let books = Books::new();
    let cases = [
        (
            DiscountBase::Gross,
            true,
            1_968,
            pairs(&[("31000", 96_432), ("41000", 368), ("66000", 1_600), ("21000", -98_400)]),
        ),
        (DiscountBase::Gross, false, 1_968, pairs(&[("31000", 96_432), ("66000", 1_968), ("21000", -98_400)])),
        (DiscountBase::Net, false, 1_600, pairs(&[("31000", 96_800), ("66000", 1_600), ("21000", -98_400)])),
    ];
    for (base, adjusted, earned, lines) in cases {
        let early = offer(base, adjusted);
        assert_eq!(early.offer().unwrap().amount, Money(earned));
        let decision = settle::decide(&paying(&books, early, (98_400, 98_400 - earned), discount(earned)));
        assert!(!stops(&decision.blockers), "{:?}", decision.blockers);
        assert_eq!(written(&decision.entry), lines);
        assert!(decision.document.applied[0].open_after.is_zero());
        assert!(decision.document.unapplied.is_zero());
    }
    // The tax line says what it is of: net 16.00 less at 23 %.
    let entry =
        settle::decide(&paying(&books, offer(DiscountBase::Gross, true), (98_400, 96_432), discount(1_968))).entry;
    let tax = entry.unwrap().lines.into_iter().find_map(|line| line.tax).unwrap();
    assert_eq!((tax.code.as_str(), tax.base, tax.tax_date), ("S23", Money(-1_600), Some(day("2026-04-01"))));
}

/// postings.md, Money: 983.97 and 984.02 received for 984.00, within tolerance.
#[test]
fn rows_of_a_difference_within_the_tolerance() {
    let books = Books::new();
    let decision = settle::decide(&paying(&books, offer(DiscountBase::Net, false), (98_400, 98_397), difference(3)));
    assert_eq!(written(&decision.entry), pairs(&[("31000", 98_397), ("82000", 3), ("21000", -98_400)]));
    let decision = settle::decide(&paying(&books, offer(DiscountBase::Net, false), (98_400, 98_402), difference(-2)));
    assert_eq!(written(&decision.entry), pairs(&[("31000", 98_402), ("21000", -98_400), ("69000", -2)]));
    assert!(decision.document.applied[0].open_after.is_zero() && decision.document.unapplied.is_zero());
}

/// 2/10 net 30 at its edges: the tenth day, the last of the three days of grace, the day after. *Common practice, no source,
/// for the grace; the terms are the textbook's.*
#[test]
fn the_day_decides() {
    let books = Books::new();
    for (date, earned) in [("2026-04-11", true), ("2026-04-14", true), ("2026-04-15", false)] {
        let mut input = paying(&books, offer(DiscountBase::Gross, true), (98_400, 96_432), discount(1_968));
        input.date = DocumentDate { date: day(date), typed: true };
        let decision = settle::decide(&input);
        assert_eq!(!stops(&decision.blockers), earned, "{date}");
        assert_eq!(refused(&decision, Check::DiscountNotEarned, "applications.0.discount"), !earned, "{date}");
    }
    // Whoever pays too late is told what was missed, and when.
    let mut input = paying(&books, offer(DiscountBase::Gross, true), (98_400, 98_400), Beside::default());
    input.date.date = day("2026-04-15");
    let tape = settle::decide(&input).tape;
    assert!(format!("{tape:?}").contains("a discount of 19.68 could be earned until 14 Apr 2026"), "{tape:?}");
}

/// Forgoing 2/10 net 30 costs 2/98 for 20 days: 36.7 % in a year of 360 days, 37.2 % in one of 365. *An Introduction to
/// Business Finance handbook figure, from memory: “about 37 %”.* Here by the offer itself.
#[test]
fn what_forgoing_it_costs() {
    let early = offer(DiscountBase::Gross, false);
    let offer = early.offer().unwrap();
    let days = (early.terms.due_date(early.document_date) - offer.until).num_days();
    assert_eq!(days, 20);
    // In ten-thousandths: 19.68 / 964.32 × 360 / 20, and × 365 / 20.
    let (kept, paid) = (i128::from(offer.amount.0), i128::from(98_400 - offer.amount.0));
    assert_eq!(kept * 10_000 * 360 / (paid * 20), 3_673);
    assert_eq!(kept * 10_000 * 365 / (paid * 20), 3_724);
}

/// A part payment earns its share: 482.16 of 964.32 earn half of 19.68; the rest earns the rest, and not a cent more.
#[test]
fn parts_earn_their_share_to_the_cent() {
    let books = Books::new();
    let early = offer(DiscountBase::Gross, true);
    let on = day("2026-04-10");
    assert_eq!(early.earned(on, Money(98_400), Money(48_216)), Money(984));
    let first = settle::decide(&paying(&books, early.clone(), (98_400, 48_216), discount(984)));
    assert_eq!(written(&first.entry), pairs(&[("31000", 48_216), ("41000", 184), ("66000", 800), ("21000", -49_200)]));
    let later = Early { taken: Money(984), ..early.clone() };
    assert_eq!(later.earned(on, Money(49_200), Money(48_216)), Money(984));
    let second = settle::decide(&paying(&books, later, (49_200, 48_216), discount(984)));
    assert!(!stops(&second.blockers));
    // More than its share is refused, and more than is left.
    let decision = settle::decide(&paying(&books, early.clone(), (98_400, 48_216), discount(985)));
    assert!(refused(&decision, Check::DiscountNotEarned, "applications.0.discount"));
    // Paid in three parts of any size, tax and net come to those of the whole: 3.68 and 16.00.
    let (mut taken, mut open, mut taxes, mut nets) = (0, 98_400, 0, 0);
    for paid in [10_001, 33_333] {
        let early = Early { taken: Money(taken), ..early.clone() };
        let earned = early.earned(on, Money(open), Money(paid)).0;
        let decision = settle::decide(&paying(&books, early, (open, paid), discount(earned)));
        let booked = &decision.document.applied[0].beside;
        taxes += booked.taxes.iter().map(|part| part.tax.0).sum::<i64>();
        nets += booked.taxes.iter().map(|part| part.net.0).sum::<i64>();
        (taken, open) = (taken + earned, open - paid - earned);
    }
    let last = Early { taken: Money(taken), ..early };
    let earned = last.earned(on, Money(open), Money(open)).0;
    assert_eq!(earned, 0, "who pays all that is open keeps nothing back");
    let earned = last.for_all(on, Money(open)).0;
    let decision = settle::decide(&paying(&books, last, (open, open - earned), discount(earned)));
    let booked = &decision.document.applied[0].beside;
    taxes += booked.taxes.iter().map(|part| part.tax.0).sum::<i64>();
    nets += booked.taxes.iter().map(|part| part.net.0).sum::<i64>();
    assert_eq!((taken + earned, taxes, nets), (1_968, 368, 1_600));
}

/// Two tax codes: of 100.00 at 23 % and 50.00 at 8 %, net 3.00 and tax 0.46 + 0.08 are kept back.
#[test]
fn each_tax_code_gives_up_its_own() {
    let books = Books::new();
    let sold = vec![sold("S23", "0.23", 10_000, 2_300), sold("R8", "0.08", 5_000, 400)];
    let early = Early { sold, ..offer(DiscountBase::Gross, true) };
    assert_eq!(early.offer().unwrap().amount, Money(354));
    let decision = settle::decide(&paying(&books, early, (17_700, 17_346), discount(354)));
    let parts: Vec<(&str, i64, i64)> = decision.document.applied[0]
        .beside
        .taxes
        .iter()
        .map(|part| (part.rate.code.as_str(), part.net.0, part.tax.0))
        .collect();
    assert_eq!(parts, [("S23", 200, 46), ("R8", 100, 8)]);
}

/// A deposit of 184.00 on 984.00: the discount is of what is left, 800.00. Money in advance earns nothing.
#[test]
fn money_in_advance_earns_nothing() {
    let early = Early { in_advance: Money(18_400), ..offer(DiscountBase::Gross, false) };
    assert_eq!(early.offer().unwrap().amount, Money(1_600));
    let books = Books::new();
    let deposit = Source::Item(unapplied("R-1", 80_000, 80_000));
    let mut input = SettleInput { source: deposit, ..paying(&books, early.clone(), (80_000, 78_400), discount(1_600)) };
    // A receipt that came in time may be applied later: the day it came on counts.
    let Source::Item(item) = &mut input.source else { panic!("not a credit") };
    item.posting_date = day("2026-04-12");
    item.movements = vec![till_core::room::Movement::new(day("2026-04-12"), 80_000)];
    item.base_movements.clone_from(&item.movements);
    input.date.date = day("2026-05-20");
    assert!(!stops(&settle::decide(&input).blockers), "{:?}", settle::decide(&input).blockers);
    // A credit memo earns none.
    let Source::Item(item) = &mut input.source else { panic!("not a credit") };
    item.document.kind = till_core::ids::DocumentKind::CreditMemo;
    assert!(refused(&settle::decide(&input), Check::DiscountNotEarned, "applications.0.discount"));
}

/// In pounds at 1.17 carried, 1.20 on the day: each part gives up its share of what is carried. 98.40 carried at 115.13;
/// 96.43 at 1.20 are 115.72. The discount of 1.97 is carried at 2.30; gain 115.72 − 112.83 = 2.89. By hand.
#[test]
fn in_another_currency_at_what_is_carried() {
    let books = Books::new();
    let gbp = Currency::of("GBP").unwrap();
    let mut item = open_invoice(1, 9_840, 11_513);
    item.currency = gbp;
    let early = Early { sold: vec![sold("S23", "0.23", 8_000, 1_840)], ..offer(DiscountBase::Gross, false) };
    let to_apply = ToApply { beside: discount(197), ..ToApply::new(item, Money(9_643)) };
    let mut input =
        SettleInput { early: BTreeMap::from([(early.item, early)]), ..books.money(transfer(), 9_643, vec![to_apply]) };
    (input.currency, input.rate) = (gbp, Some("1.20".parse().unwrap()));
    let decision = settle::decide(&input);
    assert!(!stops(&decision.blockers), "{:?}", decision.blockers);
    assert_eq!(
        written(&decision.entry),
        pairs(&[("31000", 11_572), ("66000", 230), ("21000", -11_513), ("91000", -289)])
    );
}

/// Above the tolerance something is written off by a limit only; too much money is the customer's.
#[test]
fn above_the_tolerance() {
    let books = Books::new();
    let of =
        |paid: i64, beside| settle::decide(&paying(&books, offer(DiscountBase::Net, false), (98_400, paid), beside));
    let decision = of(98_300, difference(100));
    assert!(refused(&decision, Check::AboveTolerance, "applications.0.write_off") && !stops(&decision.blockers));
    assert!(refused(&of(98_410, difference(-10)), Check::MoreThanTolerance, "applications.0.write_off"));
    assert!(stops(&of(98_410, difference(-10)).blockers));
    assert!(stops(&of(98_399, difference(-2)).blockers), "something stays open: nothing too much came");
    assert!(stops(&of(98_400, discount(100)).blockers), "more than is open");
    assert!(stops(&of(96_432, discount(-5)).blockers));
}

/// Unapplied, the very accounts are written the other way round, the discount is lost and can be earned no more.
#[test]
fn taken_back_the_discount_is_lost() {
    let books = Books::new();
    let decision = settle::decide(&paying(&books, offer(DiscountBase::Gross, true), (98_400, 96_432), discount(1_968)));
    let applied = &decision.document.applied[0];
    let item = open_invoice(1, 0, 0);
    let credit = unapplied("R-1", 0, 0);
    let standing = Standing {
        id: ApplicationId(1),
        debit: item,
        credit,
        date: day("2026-04-10"),
        settled: (applied.amount, applied.receivable_base),
        used: (applied.credit_amount, applied.money_base),
        beside: applied.beside.clone(),
        taxes: Vec::new(),
        entry: Some(EntryId(1)),
    };
    let input = BackInput {
        number: "R-1".to_owned(),
        payer: member(),
        payer_class: None,
        group: vec![member()],
        applications: vec![standing],
        receipt: None,
        fee: None,
        date: DocumentDate { date: day("2026-04-20"), typed: true },
        reason: "wrong invoice".to_owned(),
        currency: eur(),
        base: eur(),
        orders: Vec::new(),
        dates: till_core::calendar::DateOrder::of_today(day("2026-12-31")),
        accounts: &books.accounts,
        periods: &books.periods,
    };
    let back = back::decide(&input);
    assert!(!stops(&back.blockers), "{:?}", back.blockers);
    let entry = back.entries.first().map(|reversal| reversal.entry.clone());
    assert_eq!(written(&entry), pairs(&[("21000", 98_400), ("27000", -96_432), ("41000", -368), ("66000", -1_600)]));
    let posting = back.posting(&input);
    assert_eq!(posting.applications[0].beside, applied.beside.turned());
    assert_eq!(applied.beside.turned().turned(), BesideBooked { ..applied.beside.clone() });
}

/// 984.00 paid with 19.68 of discount, half credited: 9.84 went back and 482.16 are kept of it. Then the check comes back: the discount is
/// lost as a whole, and the credit has what it gave up of it again.
#[test]
fn with_the_discount_goes_what_a_credit_gave_up_of_it() {
    let books = Books::new();
    let standing = |id, credit, settled: i64, used: i64, discount: i64| Standing {
        id: ApplicationId(id),
        debit: open_invoice(1, 0, 0),
        credit,
        date: day("2026-04-10"),
        settled: (Money(settled), Money(settled)),
        used: (Money(used), Money(used)),
        beside: BesideBooked { discount: Both::of(Money(discount), Money(discount)), ..BesideBooked::default() },
        taxes: Vec::new(),
        entry: Some(EntryId(id)),
    };
    let check = unapplied("R-1", 0, 0);
    let memo = OpenItem { id: OpenItemId(77), ..unapplied("CM-1", 48_216, 48_216) };
    let bank = method("transfer", PlaceKind::Bank).place;
    let whole = WholeReceipt {
        credit: OpenItem { movements: vec![Movement::new(day("2026-04-10"), 96_432)], ..check.clone() },
        place: Some(bank),
        amount: (Money(96_432), Money(96_432)),
        entry: EntryId(1),
        reversed: false,
    };
    let input = |applications: Vec<Standing>, receipt| BackInput {
        number: "R-1".to_owned(),
        payer: member(),
        payer_class: None,
        group: vec![member()],
        applications,
        receipt,
        fee: None,
        date: DocumentDate { date: day("2026-04-20"), typed: true },
        reason: "no funds".to_owned(),
        currency: eur(),
        base: eur(),
        orders: Vec::new(),
        dates: till_core::calendar::DateOrder::of_today(day("2026-12-31")),
        accounts: &books.accounts,
        periods: &books.periods,
    };
    let paid = || standing(1, check.clone(), 98_400, 96_432, 1_968);
    let given_up = || standing(2, memo.clone(), 0, 984, -984);
    let both = input(vec![paid(), given_up()], Some(whole.clone()));
    let back = back::decide(&both);
    assert!(!stops(&back.blockers), "{:?}", back.blockers);
    let entry = back.entries.first().map(|reversal| reversal.entry.clone());
    // The credit again over 492.00, the discount gone: 19.68 less 9.84.
    assert_eq!(
        written(&entry),
        pairs(&[("21000", 98_400), ("31000", -96_432), ("27000", -984), ("66000", -1_968), ("66000", 984)])
    );
    assert!(back.tape.to_text().contains("CM-1 gets back what it gave up of it"));
    let discounts: Money = back.posting(&both).applications.iter().map(|one| one.beside.discount.amount).sum();
    assert_eq!(discounts, Money(-984));
    // By itself it is not unapplied: the discount stands.
    let alone = back::decide(&input(vec![given_up()], None));
    assert!(alone.blockers.iter().any(|one| one.check == Check::CannotCancel && one.field == "applications"));
}

fn suggested(open: &[(i64, i64)], amount: i64, words: Option<&str>, date: &str) -> Vec<(i64, i64, i64, i64)> {
    let items: Vec<_> = open.iter().map(|(id, open)| open_invoice(*id, *open, *open)).collect();
    let early: BTreeMap<OpenItemId, Early> =
        items.iter().map(|item| (item.id, Early { item: item.id, ..offer(DiscountBase::Gross, false) })).collect();
    let date: NaiveDate = day(date);
    let said = Said { words, paid_on: Some(date), early: Some(&early), tolerance: Money(5), ..Said::default() };
    suggest((Money(amount), eur()), &items, said, date)
        .into_iter()
        .map(|one| (one.item.0, one.amount.0, one.beside.discount.0, one.beside.written_off.0))
        .collect()
}

/// What is suggested knows the discount while it can be earned, and differences within the tolerance.
#[test]
fn suggestions_know_the_discount() {
    let in_time = "2026-04-10";
    // 964.32 is invoice 2 of 984.00 less 19.68, whatever else is open.
    let open = [(1, 50_000), (2, 98_400)];
    assert_eq!(suggested(&open, 96_432, None, in_time), [(2, 96_432, 1_968, 0)]);
    // All of it is all of it: nothing is kept back.
    assert_eq!(suggested(&open, 98_400, None, in_time), [(2, 98_400, 0, 0)]);
    // A cent too little, named or not, is written off; two too much are kept.
    assert_eq!(suggested(&open, 96_431, None, in_time), [(2, 96_431, 1_968, 1)]);
    assert_eq!(suggested(&open, 98_397, None, "2026-05-20"), [(2, 98_397, 0, 3)]);
    assert_eq!(suggested(&open, 98_402, None, "2026-05-20"), [(2, 98_402, 0, -2)]);
    // After its day nothing is earned: the money goes by age.
    assert_eq!(suggested(&open, 96_432, None, "2026-05-20"), [(1, 50_000, 0, 0), (2, 46_432, 0, 0)]);
    // A part of a named one earns its share.
    assert_eq!(suggested(&[(102, 98_400)], 48_216, Some("part of I-102"), in_time), [(102, 48_216, 984, 0)]);
}

/// 984.00 less 19.68: an advice that says the discount takes it, one that says nothing and pays 964.32 too; after its day neither does,
/// and 19.68 stay open.
#[test]
fn an_advice_takes_what_was_earned() {
    use till_core::remittance::{Advised, Remark, allot};
    let open = [open_invoice(1, 98_400, 98_400)];
    let early = BTreeMap::from([(OpenItemId(1), offer(DiscountBase::Gross, false))]);
    let of = |discount: i64, date: &str| {
        let line = Advised {
            number: open[0].document.number.clone(),
            paid: Money(96_432),
            discount: Money(discount),
            ..Advised::default()
        };
        let one = allot(&[line], &open, &early, (eur(), day(date))).remove(0);
        (one.discount.0, one.stays_open.0, one.remark)
    };
    assert_eq!(of(1_968, "2026-04-10"), (1_968, 0, None));
    assert_eq!(of(0, "2026-04-10"), (1_968, 0, None));
    assert_eq!(of(2_000, "2026-04-10"), (1_968, 0, Some(Remark::NotEarned)));
    assert_eq!(of(1_968, "2026-05-20"), (0, 1_968, Some(Remark::NotEarned)));
    assert_eq!(of(0, "2026-05-20"), (0, 1_968, Some(Remark::Part)));
}
