//! Cards and payouts, decided. Figures by hand, those of postings.md: 290.28 captured, 1.4 % kept, 4.06.

use crate::common::*;
use till_core::accounts::{Account, AccountType, Purpose};
use till_core::calendar::DocumentDate;
use till_core::card::payout::{Booked, Line, LineKind, PayoutInput, decide};
use till_core::card::{
    Again, Ask, Authorization, CardNext, CardState, Earlier, Freeing, Goes, InvoiceToPay, Status, ToPay,
    check_authorize, check_capture, check_pay, check_refund, check_void, spread_over, to_free,
};
use till_core::checks::{Blocker, Check};
use till_core::deposit::DepositTarget;
use till_core::ids::{ApplicationId, CardId, CustomerId, DocumentKind, DocumentRef, InvoiceId, OpenItemId};
use till_core::money::{Currency, Money};
use till_core::settle::{Method, MoneyPlace, PlaceKind};
use till_core::tax::{TaxCategory, TaxRate};

fn card(status: Status, captured: i64, due: i64) -> Authorization {
    Authorization {
        number: "CA-1".to_owned(),
        status,
        currency: eur(),
        amount: Money(30_000),
        captured: Money(captured),
        valid_until: Some(day("2026-03-25")),
        waits: false,
        due: Money(due),
    }
}

fn checks(blockers: &[Blocker]) -> Vec<Check> {
    blockers.iter().map(|blocker| blocker.check).collect()
}

#[test]
fn each_state_has_its_day_and_its_next_step() {
    use {CardNext as N, CardState as S, Status as T};
    for (status, captured, due, today, state, next) in [
        (T::Asked, 0, 0, "2026-03-18", S::NoAnswer, N::AskAgain),
        (T::Live, 0, 0, "2026-03-18", S::Authorized, N::Wait),
        (T::Live, 0, 5_000, "2026-03-18", S::Authorized, N::Capture),
        (T::Live, 10_000, 0, "2026-03-18", S::CapturedInPart, N::Wait),
        // Three days before its end it is warned about; captured where something is due.
        (T::Live, 0, 0, "2026-03-21", S::Authorized, N::Wait),
        (T::Live, 0, 0, "2026-03-22", S::Expiring, N::ShipSoon),
        (T::Live, 0, 5_000, "2026-03-25", S::Expiring, N::Capture),
        (T::Live, 0, 5_000, "2026-03-26", S::Expired, N::AuthorizeAgain),
        (T::Live, 0, 0, "2026-03-26", S::Expired, N::Nothing),
        (T::Live, 30_000, 5_000, "2026-03-18", S::Captured, N::Nothing),
        (T::Voided, 10_000, 0, "2026-03-18", S::Captured, N::Nothing),
        (T::Voided, 0, 0, "2026-03-18", S::Voided, N::Nothing),
        (T::Declined, 0, 0, "2026-03-18", S::Declined, N::AuthorizeAgain),
        (T::AnotherCard, 0, 0, "2026-03-18", S::AnotherCard, N::AuthorizeAgain),
        (T::Expired, 0, 1, "2026-03-18", S::Expired, N::AuthorizeAgain),
        (T::Refused, 0, 0, "2026-03-18", S::Refused, N::Nothing),
    ] {
        let card = card(status, captured, due);
        assert_eq!(
            (card.state(day(today)), card.next(day(today))),
            (state, next),
            "{status:?} {captured} {due} {today}"
        );
    }
    // Whatever it waits for comes first.
    let waits = Authorization { waits: true, ..card(T::Live, 0, 5_000) };
    assert_eq!(waits.next(day("2026-03-18")), N::AskAgain);
}

#[test]
fn no_more_is_captured_than_was_authorized_and_nothing_after_its_days() {
    let today = day("2026-03-18");
    let live = card(Status::Live, 10_000, 0);
    assert_eq!(checks(&check_capture(&live, Money(20_000), today)), []);
    assert_eq!(checks(&check_capture(&live, Money(20_001), today)), [Check::MoreThanAuthorized]);
    assert_eq!(checks(&check_capture(&live, Money(0), today)), [Check::AmountNotPositive]);
    let late = check_capture(&live, Money(1), day("2026-03-26"));
    assert_eq!(checks(&late), [Check::CardNotLive]);
    assert!(late[0].sentence.contains("25 Mar 2026") && late[0].sentence.contains("Authorize the card again"));
    // What was given up at the processor, or is over, can be given up here: the order is free then.
    assert_eq!(checks(&check_void(&live, day("2026-03-26"))), []);
    assert_eq!(checks(&check_void(&card(Status::Voided, 0, 0), today)), [Check::CardNotLive]);
    let waits = Authorization { waits: true, ..live.clone() };
    assert_eq!(checks(&check_refund(&waits, ("C-4", Money(5_000)), Money(1))), [Check::CardNotLive]);
    assert_eq!((live.left_on(today), live.left_on(day("2026-03-26"))), (Money(20_000), Money(0)));
    // Refused after its days, giving it up has found that it does not stand any more.
    let void = Ask::Void { authorization: "auth_1".to_owned() };
    assert_eq!(live.after_refusal(&void, day("2026-03-25")), None);
    assert_eq!(live.after_refusal(&void, day("2026-03-26")), Some(Status::Expired));
    assert_eq!(checks(&check_refund(&live, ("C-4", Money(5_000)), Money(5_001))), [Check::MoreThanHeld]);
    assert_eq!(checks(&check_refund(&live, ("C-4", Money(5_000)), Money(5_000))), []);
}

#[test]
fn a_card_stands_for_what_nothing_else_stands_for() {
    let rate = TaxRate { code: "S23".to_owned(), category: TaxCategory::S, rate: "0.23".parse().unwrap() };
    let target = DepositTarget {
        number: "O-1".to_owned(),
        currency: eur(),
        gross: vec![(rate, Money(29_028))],
        taken_before: Money(8_000),
    };
    let to_pay = |paid, authorized| ToPay {
        binds: true,
        target: target.clone(),
        paid: Money(paid),
        authorized: Money(authorized),
    };
    // 290.28 less 80.00, 50.00 and 60.00 are 100.28.
    let left = to_pay(5_000, 6_000);
    assert_eq!(left.room(), Money(10_028));
    assert_eq!(checks(&check_authorize(&left, Money(10_028), eur())), []);
    let more = check_authorize(&left, Money(10_029), eur());
    assert_eq!(checks(&more), [Check::MoreThanOrder]);
    for figure in ["290.28", "80.00 was taken", "50.00 was paid", "60.00 is authorized", "100.28 at most"] {
        assert!(more[0].sentence.contains(figure), "{figure}: {}", more[0].sentence);
    }
    let nothing = check_authorize(&to_pay(21_028, 0), Money(0), eur());
    assert_eq!(checks(&nothing), [Check::MoreThanOrder]);
    assert!(nothing[0].sentence.ends_with("nothing is left to authorize."));
    let draft = ToPay { binds: false, ..left.clone() };
    assert_eq!(checks(&check_authorize(&draft, Money(1), eur())), [Check::CardNotLive]);
    let pounds = Currency::of("GBP").unwrap();
    assert_eq!(checks(&check_authorize(&left, Money(1), pounds)), [Check::CurrencyDiffers]);
    // The invoices first; a deposit as far as the order has room; nothing is lost.
    assert_eq!(Goes::ways(Money(1), Money(0), Money(5)), [Goes::ToInvoices, Goes::Unapplied]);
    assert_eq!(Goes::ways(Money(0), Money(5), Money(5)), [Goes::Deposit, Goes::Unapplied]);
    assert_eq!(Goes::ways(Money(0), Money(4), Money(5)), [Goes::Unapplied]);
}

/// What goes back takes as little with it as must be: 100, 50 and 30 were applied, one after the other.
#[test]
fn the_newest_is_freed_first_and_what_is_left_over_is_applied_again() {
    let standing = [(1, 100), (2, 50), (3, 30)].map(|(id, used)| (ApplicationId(id), OpenItemId(id + 10), Money(used)));
    let back = |ids: &[i64]| ids.iter().map(|id| ApplicationId(*id)).collect::<Vec<_>>();
    let freed = |missing| to_free(&standing, Money(missing));
    assert_eq!(freed(0), Freeing::default());
    assert_eq!(freed(30), Freeing { back: back(&[3]), again: None });
    assert_eq!(freed(20), Freeing { back: back(&[3]), again: Some((OpenItemId(13), Money(10))) });
    assert_eq!(freed(31), Freeing { back: back(&[3, 2]), again: Some((OpenItemId(12), Money(49))) });
    assert_eq!(freed(180), Freeing { back: back(&[3, 2, 1]), again: None });
}

fn place(kind: PlaceKind, number: &str, currency: Option<Currency>) -> MoneyPlace {
    let account = Account { number: number.to_owned(), name: number.to_owned(), account_type: AccountType::Asset };
    MoneyPlace { code: number.to_owned(), name: "Bank".to_owned(), kind, account, currency }
}

fn line(kind: LineKind, gross: i64, fee: i64, base: i64) -> Line {
    let mut line = Line { kind, reference: format!("{kind:?}"), gross: Money(gross), fee: Money(fee), booked: None };
    line.booked = Some(Booked {
        document: DocumentRef { kind: DocumentKind::Receipt, id: 4, number: "C-4".to_owned() },
        customer: CustomerId(1),
        amount: line.cleared(),
        base: Money(base),
        paid_with: None,
    });
    line
}

fn payout<'a>(books: &'a Books, lines: Vec<Line>, (gross, fee, net): (i64, i64, i64)) -> PayoutInput<'a> {
    PayoutInput {
        reference: "payout_8".to_owned(),
        currency: eur(),
        gross: Money(gross),
        fee: Money(fee),
        net: Money(net),
        paid_on: day("2026-03-18"),
        lines,
        to: Method {
            code: "transfer".to_owned(),
            name: "transfer".to_owned(),
            place: place(PlaceKind::Bank, "31000", None),
        },
        clearing: place(PlaceKind::CardClearing, "33000", None),
        date: DocumentDate { date: day("2026-03-18"), typed: false },
        last_moved: Some(day("2026-03-17")),
        booked: false,
        rate: Some("1".parse().unwrap()),
        base: eur(),
        accounts: &books.accounts,
        periods: &books.periods,
    }
}

/// Row “payout on the bank statement, fee 4.06”; and with 50.00 charged back, whose fee of 15.00 was booked with it:
/// 290.28 − 50.00 − 4.06 − 15.00 = 221.22, and 225.28 leave clearing.
#[test]
fn a_payout_pays_what_lies_in_card_clearing() {
    let books = Books::new();
    let decision = decide(&payout(&books, vec![line(LineKind::Capture, 29_028, 406, 29_028)], (29_028, 406, 28_622)));
    assert_eq!(decision.blockers, []);
    assert_eq!(amounts(&decision.entry.unwrap()), [("31000", 28_622), ("81000", 406), ("33000", -29_028)]);
    let lines = vec![
        line(LineKind::Capture, 29_028, 406, 29_028),
        line(LineKind::ChargeBack, -5_000, 1_500, -6_500),
        line(LineKind::Refund, -1_000, 0, -1_000),
    ];
    let decision = decide(&payout(&books, lines, (23_028, 1_906, 21_122)));
    assert_eq!(decision.blockers, []);
    let entry = decision.entry.unwrap();
    assert!(entry.balances());
    let cleared: i64 = amounts(&entry).iter().filter(|(account, _)| *account == "33000").map(|(_, base)| base).sum();
    assert_eq!((cleared, decision.cleared_base), (-21_528, Money(21_528)));
}

fn amounts(entry: &till_core::entry::Entry) -> Vec<(&str, i64)> {
    entry.lines.iter().map(|line| (line.account.as_str(), line.base.0)).collect()
}

/// 2,000 orders in pounds captured in steps, and their payouts: figures of `tests/data/make_card_cases.py`, a second
/// computation in Python's decimal.
#[test]
fn cards_agree_with_pythons_decimal() {
    let books = Books::new();
    let gbp = Currency::of("GBP").unwrap();
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/card_cases.csv");
    let (mut cases, mut taken_off) = (0, 0);
    for record in csv::Reader::from_path(path).unwrap().records() {
        let record = record.unwrap();
        let number = |text: &str| text.parse::<i64>().unwrap();
        let base = |pence: i64, rate: &str| Money(pence).to_base(rate.parse().unwrap(), gbp, eur()).0;
        let mut open: Vec<(InvoiceId, Money)> =
            (1..).map(InvoiceId).zip(record[0].split(' ').map(|open| Money(number(open)))).collect();
        let mut lines = Vec::new();
        for capture in record[1].split(' ') {
            let [amount, rate, fee, parts] = capture.split(':').collect::<Vec<_>>()[..] else { panic!("{record:?}") };
            let spread = spread_over(Money(number(amount)), &open);
            for ((invoice, open), wanted) in open.iter_mut().zip(parts.split('/')) {
                let part = spread.iter().find(|(to, _)| to == invoice).map_or(Money::ZERO, |(_, part)| *part);
                assert_eq!(part.0, number(wanted), "{record:?}");
                *open -= part;
            }
            lines.push(line(LineKind::Capture, number(amount), number(fee), base(number(amount), rate)));
        }
        for gone in record[2].split(' ').filter(|gone| !gone.is_empty()) {
            let [kind, amount, rate, fee] = gone.split(':').collect::<Vec<_>>()[..] else { panic!("{record:?}") };
            let kind = if kind == "refund" { LineKind::Refund } else { LineKind::ChargeBack };
            let (amount, fee) = (number(amount), number(fee));
            lines.push(line(kind, -amount, fee, -base(amount, rate) - base(fee, rate)));
            taken_off += 1;
        }
        let sum = |of: fn(&Line) -> Money| lines.iter().map(of).sum::<Money>().0;
        let (gross, fees) = (sum(|line| line.gross), sum(|line| line.fee));
        let mut input = payout(&books, lines, (gross, fees, gross - fees));
        (input.currency, input.rate) = (gbp, Some(record[3].parse().unwrap()));
        let decision = decide(&input);
        assert_eq!(decision.blockers, [], "{record:?}");
        let entry = decision.entry.unwrap();
        let on = |purpose: &[Purpose]| -> i64 {
            entry.lines.iter().filter(|line| purpose.contains(&line.purpose)).map(|line| line.base.0).sum()
        };
        let wanted: Vec<i64> = (4..8).map(|column| number(&record[column])).collect();
        let difference = on(&[Purpose::FxDifference]);
        assert_eq!(
            [on(&[Purpose::Bank]), on(&[Purpose::Fees]), -on(&[Purpose::CardClearing]), difference],
            wanted[..],
            "{record:?}"
        );
        cases += 1;
    }
    assert_eq!(cases, 2_000);
    assert!(taken_off > 1_500, "{taken_off}");
}

#[test]
fn what_does_not_match_is_not_booked() {
    let books = Books::new();
    let sums = (29_028, 406, 28_622);
    let good = || vec![line(LineKind::Capture, 29_028, 406, 29_028)];
    let with = |change: fn(&mut PayoutInput<'_>)| {
        let mut input = payout(&books, good(), sums);
        change(&mut input);
        checks(&decide(&input).blockers)
    };
    assert_eq!(with(|_| {}), []);
    assert_eq!(with(|input| input.lines[0].booked = None), [Check::PayoutUnmatched]);
    let other = |input: &mut PayoutInput<'_>| input.lines[0].booked.as_mut().unwrap().amount = Money(29_027);
    assert_eq!(with(other), [Check::PayoutUnmatched]);
    let twice =
        |input: &mut PayoutInput<'_>| input.lines[0].booked.as_mut().unwrap().paid_with = Some("CP-1".to_owned());
    assert_eq!(with(twice), [Check::PayoutUnmatched]);
    // The report does not add up: by its lines, by its own sums.
    assert_eq!(with(|input| input.gross = Money(29_029)), [Check::PayoutUnmatched]);
    assert_eq!(with(|input| input.net = Money(28_623)), [Check::PayoutUnmatched]);
    assert_eq!(with(|input| input.booked = true), [Check::CannotCancel]);
    assert_eq!(with(|input| input.last_moved = Some(day("2026-03-19"))), [Check::DateTooEarly]);
    assert_eq!(with(|input| input.rate = None), [Check::ExchangeRateMissing]);
    assert_eq!(with(|input| input.to.place.kind = PlaceKind::Drawer), [Check::CurrencyDiffers]);
    assert_eq!(with(|input| input.to.place.currency = Currency::of("GBP").ok()), [Check::CurrencyDiffers]);
    assert_eq!(with(|input| input.date.date = day("2019-01-01")), [Check::PeriodClosed, Check::DateTooEarly]);
    assert_eq!(PlaceKind::CardClearing.purpose(), Purpose::CardClearing);
}

/// A second tap, a page that was loaded anew: the same goes on, and while nobody knows what became of it nothing else is
/// asked for.
#[test]
fn a_card_used_again_goes_on_with_what_was_begun() {
    let earlier = |waits| Earlier { card: CardId(1), left: Money(100), waits };
    for (waits, card, amount, at_once, then) in [
        (true, 1, 100, true, Again::GoesOn),
        (true, 1, 100, false, Again::GoesOn),
        (true, 2, 100, true, Again::Waits),
        (true, 1, 99, true, Again::Waits),
        (false, 1, 100, true, Again::GoesOn),
        // A card that stands for a part is left alone; another part is something of its own.
        (false, 1, 100, false, Again::Anew),
        (false, 2, 100, true, Again::Anew),
    ] {
        let again = earlier(waits).again(CardId(card), Money(amount), at_once);
        assert_eq!(again, then, "{waits} {card} {amount} {at_once}");
    }
}

#[test]
fn an_invoice_is_paid_by_card_as_far_as_nothing_else_pays_it() {
    let eur = Currency::of("EUR").unwrap();
    let invoice = |open, authorized| InvoiceToPay {
        number: "I-3".to_owned(),
        currency: eur,
        open: Money(open),
        authorized: Money(authorized),
    };
    let said = |invoice: &InvoiceToPay, amount, own: &str| -> Vec<Check> {
        let found = check_pay(invoice, Money(amount), Currency::of(own).unwrap());
        found.iter().map(|blocker| blocker.check).collect()
    };
    assert_eq!(said(&invoice(500, 0), 500, "EUR"), []);
    assert_eq!(said(&invoice(500, 200), 300, "EUR"), []);
    assert_eq!(said(&invoice(500, 200), 301, "EUR"), [Check::MoreThanOpen]);
    assert_eq!(said(&invoice(500, 500), 1, "EUR"), [Check::MoreThanOpen]);
    assert_eq!(said(&invoice(0, 0), 1, "EUR"), [Check::MoreThanOpen]);
    assert_eq!(said(&invoice(500, 0), 0, "EUR"), [Check::AmountNotPositive]);
    assert_eq!(said(&invoice(500, 0), 500, "GBP"), [Check::CurrencyDiffers]);
}
