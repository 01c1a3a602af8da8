//! Bank deposit slips, and payments that come back. Figures by hand; rows of postings.md, Money.

use crate::common::*;
use till_core::accounts::Purpose;
use till_core::bank::slip::{self, CancelSlip, InHand, SlipInput, SlipState};
use till_core::bank::{
    BankLine, BankLineKind, BookInput, Booking, Certainty, Clue, Expected, Index, Paid, Payer, Proposed, book,
};
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::{Blocker, Check, stops};
use till_core::entry::Entry;
use till_core::fixed::ExchangeRate;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, EntryId};
use till_core::money::{Currency, Money};
use till_core::room::Movement;
use till_core::settle::{MoneyPlace, PlaceKind};

fn place(books: &Books, kind: PlaceKind) -> MoneyPlace {
    let account = books.account(kind.purpose());
    MoneyPlace { code: kind.word().to_owned(), name: kind.word().to_owned(), kind, account, currency: None }
}

fn in_hand(books: &Books, id: i64, kind: PlaceKind, amount: (i64, i64)) -> InHand {
    InHand {
        entry: EntryId(id),
        document: DocumentRef { kind: DocumentKind::Receipt, id, number: format!("C-{id}") },
        customer: CustomerId(7),
        name: "Saltmarsh".to_owned(),
        words: format!("check 10{id}"),
        date: day("2026-04-01"),
        place: place(books, kind),
        currency: eur(),
        amount: (Money(amount.0), Money(amount.1)),
    }
}

fn slip<'a>(books: &'a Books, lines: Vec<InHand>, counted: Option<i64>) -> SlipInput<'a> {
    let mut at_places: Vec<(String, Vec<Movement>)> = Vec::new();
    for line in &lines {
        let movement = Movement::new(line.date, line.amount.1.0);
        match at_places.iter_mut().find(|(code, _)| *code == line.place.code) {
            Some((_, movements)) => movements.push(movement),
            None => at_places.push((line.place.code.clone(), vec![movement])),
        }
    }
    SlipInput {
        number: Some("DS-1".to_owned()),
        lines,
        bank: place(books, PlaceKind::Bank),
        counted: counted.map(Money),
        at_places,
        date: DocumentDate { date: day("2026-04-02"), typed: true },
        base: eur(),
        dates: DateOrder::of_today(day("2026-04-30")),
        accounts: &books.accounts,
        periods: &books.periods,
    }
}

fn checks(blockers: &[Blocker]) -> Vec<Check> {
    blockers.iter().map(|blocker| blocker.check).collect()
}

/// postings.md: bank deposit slip of 210.28, 31000 against 32000; short by 0.50, 31000 209.78 and 82000 0.50.
#[test]
fn what_is_banked_leaves_the_hand() {
    let books = Books::new();
    let check = || vec![in_hand(&books, 1, PlaceKind::ChecksInHand, (21_028, 21_028))];
    let rows = [
        (None, vec![("31000", 21_028), ("32000", -21_028)]),
        (Some(20_978), vec![("31000", 20_978), ("82000", 50), ("32000", -21_028)]),
        (Some(21_128), vec![("31000", 21_128), ("69000", -100), ("32000", -21_028)]),
    ];
    for (counted, lines) in rows {
        let input = slip(&books, check(), counted);
        let decision = slip::bank(&input);
        assert!(decision.blockers.is_empty(), "{:?}", decision.blockers);
        assert_eq!(written(&decision.entry), pairs(&lines));
        assert_eq!(decision.short(), Money(21_028 - counted.unwrap_or(21_028)));
        // Preparing it writes nothing.
        assert_eq!(slip::prepare(&input).entry, None);
    }
}

/// Checks of 210.28 and 39.72, 100.00 in cash of which 30.00 were paid out again: 320.00, and all of it leaves 32000.
/// In pounds: 100.00 carried at 117.00, counted 99.00: 1.17 short at the rate it is carried at, 115.83 to the bank.
#[test]
fn checks_and_cash_go_together() {
    let books = Books::new();
    let lines = vec![
        in_hand(&books, 1, PlaceKind::ChecksInHand, (21_028, 21_028)),
        in_hand(&books, 2, PlaceKind::ChecksInHand, (3_972, 3_972)),
        in_hand(&books, 3, PlaceKind::Drawer, (10_000, 10_000)),
        in_hand(&books, 4, PlaceKind::Drawer, (-3_000, -3_000)),
    ];
    let decision = slip::bank(&slip(&books, lines, None));
    assert_eq!(decision.total.0, Money(32_000));
    assert_eq!(written(&decision.entry), pairs(&[("31000", 32_000), ("32000", -32_000)]));
    let gbp = Currency::of("GBP").unwrap();
    let pounds = InHand { currency: gbp, ..in_hand(&books, 5, PlaceKind::ChecksInHand, (10_000, 11_700)) };
    let decision = slip::bank(&slip(&books, vec![pounds.clone()], Some(9_900)));
    let got = written(&decision.entry);
    assert_eq!(got, pairs(&[("31000", 11_583), ("32000", -11_700), ("82000", 117)]));
    // Not on one slip with euros, and not to an account that is kept in euros.
    let mixed = vec![in_hand(&books, 1, PlaceKind::ChecksInHand, (100, 100)), pounds.clone()];
    assert_eq!(checks(&slip::prepare(&slip(&books, mixed, None)).blockers), [Check::CurrencyDiffers]);
    let mut kept = slip(&books, vec![pounds], None);
    kept.bank.currency = Some(eur());
    assert_eq!(checks(&slip::prepare(&kept).blockers), [Check::CurrencyDiffers]);
}

#[test]
fn what_cannot_go_to_the_bank_is_said() {
    let books = Books::new();
    let check = || in_hand(&books, 1, PlaceKind::ChecksInHand, (21_028, 21_028));
    assert_eq!(checks(&slip::prepare(&slip(&books, Vec::new(), None)).blockers), [Check::NothingToDo]);
    let later = InHand { date: day("2026-04-03"), ..check() };
    let blockers = slip::prepare(&slip(&books, vec![later], None)).blockers;
    assert!(checks(&blockers).contains(&Check::DateTooEarly), "{blockers:?}");
    assert_eq!(checks(&slip::bank(&slip(&books, vec![check()], Some(0))).blockers), [Check::AmountNotPositive]);
    let mut elsewhere = slip(&books, vec![check()], None);
    elsewhere.bank = place(&books, PlaceKind::Drawer);
    assert_eq!(checks(&slip::prepare(&elsewhere).blockers), [Check::AccountMissing]);
    let mut closed = slip(&books, vec![check()], None);
    closed.date.date = day("2020-01-01");
    assert!(checks(&slip::bank(&closed).blockers).contains(&Check::PeriodClosed));
    // 100.00 came in cash, 60.00 of it were paid out: 100.00 are not there, 40.00 are, with what was paid out on the slip.
    let came = in_hand(&books, 3, PlaceKind::Drawer, (10_000, 10_000));
    let paid = in_hand(&books, 4, PlaceKind::Drawer, (-6_000, -6_000));
    let moved = slip(&books, vec![came.clone(), paid], None);
    let only = SlipInput { lines: vec![came], ..moved.clone() };
    let decision = slip::prepare(&only);
    assert_eq!(checks(&decision.blockers), [Check::MoreThanReceived]);
    assert!(decision.blockers[0].sentence.starts_with("Only 40.00 EUR of that lie in “drawer”"));
    assert!(!stops(&slip::prepare(&moved).blockers));
}

#[test]
fn a_slip_is_given_up() {
    let books = Books::new();
    let input = slip(&books, vec![in_hand(&books, 1, PlaceKind::ChecksInHand, (21_028, 21_028))], Some(20_978));
    let entry = slip::bank(&input).entry.unwrap();
    let cancel = |state, entry: Option<Entry>, reversed: Option<&str>, reason: &str| {
        slip::cancel(&CancelSlip {
            number: "DS-1".to_owned(),
            state,
            entry: entry.map(|entry| (EntryId(9), entry)),
            reversed: reversed.map(str::to_owned),
            date: DocumentDate { date: day("2026-04-05"), typed: true },
            reason: reason.to_owned(),
            periods: &books.periods,
        })
    };
    assert!(cancel(SlipState::Prepared, None, None, "not taken").unwrap().entries.is_empty());
    let back = cancel(SlipState::Banked, Some(entry.clone()), None, "not taken").unwrap();
    let lines = written(&back.entries.first().map(|one| one.entry.clone()));
    assert_eq!(lines, pairs(&[("31000", -20_978), ("32000", 21_028), ("82000", -50)]));
    assert_eq!(back.entries[0].reverses, Some(EntryId(9)));
    for (state, reversed, reason) in [
        (SlipState::Canceled, None, "twice"),
        (SlipState::Cleared, None, "cleared"),
        (SlipState::Banked, Some("C-1"), "came back"),
        (SlipState::Prepared, None, ""),
    ] {
        let refused = cancel(state, Some(entry.clone()), reversed, reason).unwrap_err();
        assert_eq!(checks(&refused), [Check::CannotCancel], "{state:?}");
    }
}

/// postings.md: what the bank counts otherwise on its statement; 0.50 short of a slip that was booked whole, or 1.00 over.
#[test]
fn what_the_statement_counts_otherwise_is_booked() {
    let books = Books::new();
    for (amount, lines) in [(-50, [("31000", -50), ("82000", 50)]), (100, [("31000", 100), ("69000", -100)])] {
        let decision = book(&BookInput {
            number: "BS-1".to_owned(),
            text: "DS-1 counted short".to_owned(),
            place: place(&books, PlaceKind::Bank),
            amount: Money(amount),
            currency: eur(),
            rate: Some(ExchangeRate::ONE),
            base: eur(),
            booking: Booking::Counted,
            date: DocumentDate { date: day("2026-04-02"), typed: true },
            accounts: &books.accounts,
            periods: &books.periods,
        });
        assert_eq!(written(&decision.entry), pairs(&lines));
    }
}

fn index() -> Index {
    let document = |kind, id, number: &str| DocumentRef { kind, id, number: number.to_owned() };
    let slip = |id: i64, amount: i64| Expected {
        entry: EntryId(id),
        document: document(DocumentKind::BankSlip, id, &format!("DS-{id}")),
        amount: Money(amount),
        date: day("2026-04-02"),
        customer: None,
        words: String::new(),
    };
    let paid = |id: i64, customer: i64, amount: i64, words: &str| Paid {
        receipt: document(DocumentKind::Receipt, id, &format!("C-{id}")),
        customer: CustomerId(customer),
        amount: Money(amount),
        date: day("2026-04-01"),
        words: words.to_owned(),
    };
    let payer =
        |id, name: &str| Payer { customer: CustomerId(id), name: name.to_owned(), parent: None, accounts: vec![] };
    Index::new(
        Vec::new(),
        vec![payer(1, "Saltmarsh"), payer(2, "Tern Point")],
        vec![slip(3, 21_028), slip(4, 90_000)],
        Money(5),
    )
    .with_paid(vec![paid(61, 1, 21_028, "check 104417"), paid(62, 2, 21_028, "check 88"), paid(63, 2, 5_000, "")])
}

#[test]
fn slips_and_returned_payments_are_found() {
    use Certainty::{Likely, Possible, Sure};
    let line = |kind, amount: i64, party: &str, words: &str| BankLine {
        kind,
        party: (!party.is_empty()).then(|| party.to_owned()),
        ..BankLine::plain(day("2026-04-03"), Money(amount), words)
    };
    let best = |line: &BankLine| {
        let found = index().propose(line);
        found.into_iter().next().map(|one| (one.what, one.certainty, one.because))
    };
    let clears = |id: i64, apart: i64| Proposed::Clears {
        entry: EntryId(id),
        document: DocumentRef { kind: DocumentKind::BankSlip, id, number: format!("DS-{id}") },
        apart: Money(apart),
    };
    let back = |id: i64, fee: i64| Proposed::Returned {
        receipt: DocumentRef { kind: DocumentKind::Receipt, id, number: format!("C-{id}") },
        fee: Money(fee),
    };
    let (deposit, returned) = (BankLineKind::Deposit, BankLineKind::Returned);
    let rows = [
        (line(deposit, 21_028, "", "checks"), Some((clears(3, 0), Sure, vec![Clue::Expected]))),
        // Counted short and over; the larger one is too far from it.
        (line(deposit, 20_978, "", "checks DS-3"), Some((clears(3, -50), Likely, vec![Clue::Counted, Clue::Number]))),
        (line(deposit, 90_100, "", "checks"), Some((clears(4, 100), Likely, vec![Clue::Counted]))),
        (line(deposit, 50_000, "", "checks"), None),
        // Came back: by its number, by who paid, by the kind of the line, and by nothing but the amount.
        (line(returned, -21_028, "", "check 104417"), Some((back(61, 0), Likely, vec![Clue::Paid, Clue::Number]))),
        (line(returned, -21_028, "Tern Point", ""), Some((back(62, 0), Likely, vec![Clue::Paid, Clue::Name]))),
        (line(BankLineKind::Transfer, -5_000, "", ""), Some((back(63, 0), Possible, vec![Clue::Paid]))),
        // With a fee of 15.00 in it, where it is named.
        (
            line(returned, -22_528, "", "CHECK 104417 UNPAID"),
            Some((back(61, 1_500), Likely, vec![Clue::Number, Clue::WithFee])),
        ),
        (line(returned, -22_528, "", "unpaid"), None),
    ];
    for (line, wanted) in rows {
        assert_eq!(best(&line), wanted, "{line:?}");
    }
    // Months later nothing comes back any more.
    let late = BankLine { booked_on: day("2026-09-01"), ..line(returned, -21_028, "", "check 104417") };
    assert_eq!(best(&late), None);
    assert_eq!(Purpose::InHand, PlaceKind::Drawer.purpose());
}

/// Tolerance 0.05, limit 10.00: 0.05 anyone books, 10.00 within the limit; 10.01 short or over not. Without a limit all of it.
#[test]
fn what_is_counted_otherwise_has_a_limit_both_ways() {
    use till_core::people::{LimitKind, Limits, Role};
    let limits = |amount: Option<i64>| {
        let mut limits = Limits::default();
        limits.set(Role::Clerk, LimitKind::WriteOff, amount.map(Money));
        limits
    };
    let may = |short: i64, limit: Option<i64>| {
        slip::apart_allowed(Role::Clerk, Money(short), Money(5), &limits(limit), eur())
            .map_err(|why| why.chars().take(34).collect())
    };
    for short in [0, 5, -5, 1_000, -1_000] {
        assert_eq!(may(short, Some(1_000)), Ok(()), "{short}");
    }
    assert_eq!(may(1_001, Some(1_000)), Err("The bank counted 10.01 EUR short, ".to_owned()));
    assert_eq!(may(-1_001, Some(1_000)), Err("The bank counted 10.01 EUR over, y".to_owned()));
    assert_eq!(may(-999_999, None), Ok(()));
    assert_eq!(may(5, Some(0)), Ok(()));
}

/// A line of −225.28 for a payment of 210.28: a fee of 15.00. Not one that never was at that account, nor one in another currency, nor
/// of more than the line.
#[test]
fn the_fee_of_a_payment_that_came_back() {
    use till_core::bank::{CameBack, fee_of};
    let gbp = Currency::of("GBP").unwrap();
    let fee = |amount: i64, currency: Currency, was_here: bool, left: i64| {
        fee_of(&CameBack { number: "C-1", amount: (Money(amount), currency), was_here, left: (Money(left), eur()) })
    };
    assert_eq!(fee(21_028, eur(), true, 22_528), Ok(Money(1_500)));
    assert_eq!(fee(21_028, eur(), true, 21_028), Ok(Money(0)));
    for (outcome, named) in [
        (fee(21_028, eur(), true, -22_528), "nothing came back"),
        (fee(21_028, eur(), false, 22_528), "is not at this account"),
        (fee(21_028, gbp, true, 22_528), "Reverse it by itself"),
        (fee(21_028, eur(), true, 21_027), "Reverse it by itself"),
    ] {
        assert!(outcome.as_ref().unwrap_err().contains(named), "{outcome:?}");
    }
}

/// What one line was accepted as is nothing for the next: a slip that was counted short, a payment that came back.
#[test]
fn what_was_accepted_is_not_suggested_again() {
    let line =
        |kind, amount: i64, words: &str| BankLine { kind, ..BankLine::plain(day("2026-04-03"), Money(amount), words) };
    for line in [
        line(BankLineKind::Deposit, 20_978, "DS-3"),
        line(BankLineKind::Deposit, 21_028, "DS-3"),
        line(BankLineKind::Returned, -22_528, "check 104417"),
        line(BankLineKind::Transfer, -5_000, ""),
    ] {
        let mut index = index();
        let first = index.propose(&line).remove(0);
        index.accepted(&line, &first);
        assert!(index.propose(&line).iter().all(|one| one.what != first.what), "{line:?}");
        let exact = BankLine { amount: Money(21_028), ..line.clone() };
        assert!(index.propose(&exact).iter().all(|one| one.what != first.what), "{line:?}");
    }
}
