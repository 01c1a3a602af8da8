//! Bank statements: what is refused, what a line is proposed to be, what is booked.

use crate::common::*;
use proptest::prelude::*;
use till_core::accounts::{Account, AccountType, Purpose};
use till_core::bank::{
    Balance, BankLine, BankLineKind, BankStatement, Before, BookInput, Booking, Certainty, Claim, Clue, Expected, Flaw,
    Index, Paid, Payer, Proposal, Proposed, book, check, is_iban,
};
use till_core::calendar::DocumentDate;
use till_core::checks::{Check, stops};
use till_core::fixed::ExchangeRate;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, EntryId, OpenItemId};
use till_core::money::Money;
use till_core::settle::{PlaceKind, creditor_reference};

fn balance(date: &str, amount: i64) -> Balance {
    Balance { date: day(date), amount: Money(amount) }
}

fn statement(opening: i64, amounts: &[i64]) -> BankStatement {
    let lines: Vec<BankLine> = amounts.iter().map(|one| BankLine::plain(day("2026-03-17"), Money(*one), "x")).collect();
    BankStatement {
        bank_id: "77".to_owned(),
        account: "XX12 3456".to_owned(),
        currency: eur(),
        opening: balance("2026-03-17", opening),
        closing: balance("2026-03-17", opening + amounts.iter().sum::<i64>()),
        lines,
    }
}

#[test]
fn a_statement_proves_its_balances_and_follows_the_one_before() {
    let today = day("2026-03-18");
    let good = statement(10_000, &[2_500, -300]);
    assert_eq!(check(&good, None, today), Ok(()));
    let before = Before { number: "BS-1".to_owned(), closing: balance("2026-03-16", 10_000) };
    assert_eq!(check(&good, Some(&before), today), Ok(()));
    let before = Before { closing: balance("2026-03-16", 9_999), ..before };
    let gap = check(&good, Some(&before), today).unwrap_err().to_string();
    assert_eq!(
        gap,
        "BS-1 closed with 99.99 on 16 Mar 2026, this statement opens with 100.00: one in between is missing. Import that first."
    );
    let short = BankStatement { closing: balance("2026-03-17", 12_201), ..good.clone() };
    assert!(matches!(check(&short, None, today), Err(Flaw::Apart { .. })));
    assert!(matches!(check(&good, None, day("2026-03-16")), Err(Flaw::Ahead { .. })));
    assert_eq!(check(&statement(0, &[5, 0]), None, today), Err(Flaw::Nothing { line: 2 }));
    // An account nothing happened on.
    assert_eq!(check(&statement(500, &[]), None, today), Ok(()));
}

/// The same statement is the same whatever the bank calls it; a cent more is another one.
#[test]
fn a_statement_is_known_by_what_it_says() {
    let one = statement(10_000, &[2_500, -300]);
    let renamed = BankStatement { bank_id: "another name".to_owned(), ..one.clone() };
    assert_eq!(one.mark(), renamed.mark());
    assert_ne!(one.mark(), statement(10_000, &[2_501, -301]).mark());
}

/// Check values by python-stdnum: `stdnum.iban.calc_check_digits`.
#[test]
fn an_iban_has_check_digits() {
    // From ISO 13616's own example, as it is often printed; and one of no country that the demo uses.
    for right in [
        "GB82 WEST 1234 5698 7654 32",
        "gb82west12345698765432",
        "XX33MARR0001234567",
        "ZZ819P34Y6N3WD25RQ4F5ZR37",
        "ZZ78Z43DVYRKTTNJFB",
    ] {
        assert!(is_iban(right), "{right}");
    }
    for wrong in
        ["GB83 WEST 1234 5698 7654 32", "GB82", "1234567890", "", "GB82 WEST 1234 5698 7654 32 1234 5678 9012 3456"]
    {
        assert!(!is_iban(wrong), "{wrong}");
    }
}

fn booked(booking: Booking, amount: i64) -> till_core::bank::BookDecision {
    let books = Books::new();
    book(&BookInput {
        number: "BS-1".to_owned(),
        text: "Account fee".to_owned(),
        place: method("transfer", PlaceKind::Bank).place,
        amount: Money(amount),
        currency: eur(),
        rate: Some(ExchangeRate::ONE),
        base: eur(),
        booking,
        date: DocumentDate { date: day("2026-04-10"), typed: false },
        accounts: &books.accounts,
        periods: &books.periods,
    })
}

/// postings.md, Money: bank fee 6.50, interest 0.80.
#[test]
fn rows_of_fee_and_interest() {
    let written = |booking, amount| written(&booked(booking, amount).entry);
    assert_eq!(written(Booking::Usual(BankLineKind::Fee), -650), pairs(&[("81000", 650), ("31000", -650)]));
    assert_eq!(written(Booking::Usual(BankLineKind::Interest), 80), pairs(&[("31000", 80), ("69000", -80)]));
    assert_eq!(written(Booking::Usual(BankLineKind::Interest), -80), pairs(&[("81000", 80), ("31000", -80)]));
    // A fee that was given back.
    assert_eq!(written(Booking::Usual(BankLineKind::Fee), 650), pairs(&[("31000", 650), ("81000", -650)]));
    let other = Account { number: "83000".to_owned(), name: "Rent".to_owned(), account_type: AccountType::Expense };
    assert_eq!(written(Booking::Account(other), -9_000), pairs(&[("83000", 9_000), ("31000", -9_000)]));
    // Receivables are written by documents, nobody by hand.
    let books = Books::new();
    let refused = booked(Booking::Account(books.account(Purpose::Receivable)), 500);
    assert!(stops(&refused.blockers) && refused.blockers[0].field == "account");
    assert!(
        !booked(Booking::Usual(BankLineKind::Fee), -650)
            .blockers
            .iter()
            .any(|blocker| blocker.check == Check::PeriodClosed)
    );
}

fn claim(item: i64, customer: i64, open: i64) -> Claim {
    Claim {
        item: OpenItemId(item),
        customer: CustomerId(customer),
        number: format!("I-{}", 3_000 + item),
        open: Money(open),
        due: day("2026-03-01"),
        early: None,
    }
}

fn payer(id: i64, name: &str, parent: Option<i64>, account: &str) -> Payer {
    let accounts = if account.is_empty() { Vec::new() } else { vec![account.to_owned()] };
    Payer { customer: CustomerId(id), name: name.to_owned(), parent: parent.map(CustomerId), accounts }
}

/// Saltmarsh owes 100.00, 250.00, 75.00; Tern 100.00; Tern's branch 40.00. Saltmarsh has paid from A1, Tern from A2.
fn index() -> Index {
    let claims =
        vec![claim(1, 1, 10_000), claim(2, 1, 25_000), claim(3, 1, 7_500), claim(4, 2, 10_000), claim(5, 3, 4_000)];
    let payers = vec![
        payer(1, "Saltmarsh Honey Co-op", None, "A1"),
        payer(2, "Tern Point Ltd", None, "A2"),
        payer(3, "Tern Point North", Some(2), ""),
    ];
    let document = |kind, id, number: &str| DocumentRef { kind, id, number: number.to_owned() };
    let expected = vec![
        Expected {
            entry: EntryId(7),
            document: document(DocumentKind::Receipt, 70, "C-70"),
            amount: Money(30_000),
            date: day("2026-03-15"),
            customer: Some(CustomerId(1)),
            words: String::new(),
        },
        Expected {
            entry: EntryId(8),
            document: document(DocumentKind::Refund, 80, "RF-8"),
            amount: Money(-2_000),
            date: day("2026-03-16"),
            customer: None,
            words: "refund 8841".to_owned(),
        },
    ];
    Index::new(claims, payers, expected, Money(5))
}

fn line(amount: i64, party: &str, account: &str, words: &str) -> BankLine {
    let some = |text: &str| (!text.is_empty()).then(|| text.to_owned());
    BankLine {
        party: some(party),
        party_account: some(account),
        ..BankLine::plain(day("2026-03-17"), Money(amount), words)
    }
}

/// How sure, whose, what goes to which item, why.
type First = (Certainty, i64, Vec<(i64, i64)>, Vec<Clue>);

/// The first proposal: how sure, whose, and what goes where.
fn first(line: &BankLine) -> Option<First> {
    let Proposal { what, certainty, because, .. } = index().propose(line).into_iter().next()?;
    match what {
        Proposed::Receipt { customer, to } => {
            let to = to.iter().map(|part| (part.item.0, part.amount.0)).collect();
            Some((certainty, customer.0, to, because))
        }
        Proposed::Clears { entry, .. } => Some((certainty, -entry.0, Vec::new(), because)),
        _ => None,
    }
}

#[test]
fn what_is_named_and_equal_is_sure() {
    use Certainty::{Likely, Possible, Sure};
    use Clue::{Account, Amount, Name, Number, Oldest, Part, Reference, Together};
    let reference = creditor_reference("I-3002").unwrap();
    let cases = [
        (line(25_000, "", "", &reference), (Sure, 1, vec![(2, 25_000)], vec![Reference, Amount])),
        (line(25_000, "", "", "invoice i 3002"), (Sure, 1, vec![(2, 25_000)], vec![Number, Amount])),
        (
            line(32_500, "", "A1", "I-3002 and I-3003"),
            (Sure, 1, vec![(2, 25_000), (3, 7_500)], vec![Number, Account, Together]),
        ),
        // Named by someone who is known as another: it may be a mistake.
        (line(25_000, "", "A2", "I-3002"), (Likely, 1, vec![(2, 25_000)], vec![Number, Account, Amount])),
        // A parent pays for its branch.
        (
            line(14_000, "", "A2", "I-3004, I-3005"),
            (Sure, 2, vec![(4, 10_000), (5, 4_000)], vec![Number, Account, Together]),
        ),
        // A part of what it names.
        (line(20_000, "", "A1", "I-3002"), (Likely, 1, vec![(2, 20_000)], vec![Number, Account, Part])),
        // Known by its account, and one item is that much.
        (line(7_500, "", "A1", "thanks"), (Sure, 1, vec![(3, 7_500)], vec![Account, Amount])),
        // By name only, it is likely; in capitals and without its form too.
        (line(7_500, "SALTMARSH HONEY CO OP", "", ""), (Likely, 1, vec![(3, 7_500)], vec![Name, Amount])),
        (line(10_000, "Tern Point", "", ""), (Likely, 2, vec![(4, 10_000)], vec![Name, Amount])),
        // It means an invoice by a number that is none: not sure any more.
        (line(7_500, "", "A1", "I-3999"), (Likely, 1, vec![(3, 7_500)], vec![Account, Amount])),
        // A sum that fits.
        (line(17_500, "", "A1", ""), (Likely, 1, vec![(1, 10_000), (3, 7_500)], vec![Account, Together])),
        // Nothing fits: by age.
        (line(11_111, "", "A1", ""), (Possible, 1, vec![(1, 10_000), (2, 1_111)], vec![Account, Oldest])),
        // Nobody knows who paid, and one item alone is that much.
        (line(4_000, "Somebody", "B9", "hello"), (Possible, 3, vec![(5, 4_000)], vec![Amount])),
    ];
    for (line, wanted) in cases {
        assert_eq!(first(&line), Some(wanted), "{line:?}");
    }
    assert_eq!(first(&line(123, "Somebody", "B9", "hello")), None);
    assert_eq!(first(&line(-123, "", "A1", "")), None, "what leaves is no receipt");
}

#[test]
fn what_the_books_expected_is_found() {
    use Certainty::{Likely, Possible, Sure};
    // Typed by the clerk before the bank said it.
    let (certainty, entry, ..) = first(&line(30_000, "", "A1", "")).unwrap();
    assert_eq!((certainty, entry), (Sure, -7));
    assert_eq!(first(&line(30_000, "", "", "")).unwrap().0, Likely);
    // Someone else's money of the same amount: it goes to what that one owes.
    assert_eq!(first(&line(30_000, "", "A2", "")).map(|one| (one.0, one.1)), Some((Possible, 2)));
    // What left is found by what was noted.
    let refund = first(&line(-2_000, "", "", "Refund 8841")).unwrap();
    assert_eq!((refund.0, refund.1), (Sure, -8));
    // Too long ago, or not yet.
    let late = BankLine { booked_on: day("2026-07-01"), ..line(-2_000, "", "", "Refund 8841") };
    assert_eq!(first(&late), None);
    // Once accepted, it is not there for the next line.
    let mut index = index();
    for line in [line(-2_000, "", "", "Refund 8841"), line(25_000, "", "", "I-3002")] {
        let proposal = index.propose(&line).remove(0);
        index.accepted(&line, &proposal);
        assert!(index.propose(&line).is_empty(), "{line:?}");
    }
    // A number that only begins alike is another one.
    assert_eq!(first(&line(30_000, "", "", "C-701")).unwrap().0, Likely);
    assert_eq!(first(&line(30_000, "", "", "your C 70")).unwrap().0, Sure);
}

#[test]
fn discounts_and_differences_are_known() {
    let early = |claim: Claim| Claim { early: Some((Money(200), day("2026-03-20"))), ..claim };
    let claims = vec![early(claim(1, 1, 10_000)), claim(2, 1, 25_000)];
    let index = Index::new(claims, vec![payer(1, "Saltmarsh", None, "A1")], Vec::new(), Money(5));
    let parts = |line: &BankLine| {
        let proposal = index.propose(line).remove(0);
        let Proposed::Receipt { to, .. } = proposal.what else { panic!("no receipt") };
        let to: Vec<_> = to.iter().map(|one| (one.amount.0, one.beside.discount.0, one.beside.written_off.0)).collect();
        (proposal.certainty, to)
    };
    assert_eq!(parts(&line(9_800, "", "A1", "")), (Certainty::Sure, vec![(9_800, 200, 0)]));
    assert_eq!(parts(&line(9_800, "", "", "I-3001")), (Certainty::Sure, vec![(9_800, 200, 0)]));
    assert_eq!(parts(&line(10_000, "", "", "I-3001")), (Certainty::Sure, vec![(10_000, 0, 0)]));
    assert_eq!(parts(&line(9_797, "", "A1", "I-3001")), (Certainty::Sure, vec![(9_797, 200, 3)]));
    assert_eq!(
        parts(&line(34_800, "", "A1", "I-3001 I-3002")),
        (Certainty::Sure, vec![(9_800, 200, 0), (25_000, 0, 0)])
    );
    let late = BankLine { booked_on: day("2026-03-21"), ..line(9_800, "", "A1", "I-3001") };
    assert_eq!(parts(&late), (Certainty::Likely, vec![(9_800, 0, 0)]), "too late: a part");
}

#[test]
fn the_bank_says_what_is_a_fee() {
    assert_eq!(BankLineKind::of_code("ACMT", "MDOP", "CHRG"), BankLineKind::Fee);
    assert_eq!(BankLineKind::of_code("PMNT", "RCDT", "ESCT"), BankLineKind::Transfer);
    assert_eq!(BankLineKind::of_code("ACMT", "MCOP", "INTR"), BankLineKind::Interest);
    assert_eq!(BankLineKind::of_code("PMNT", "RRCT", "RRTN"), BankLineKind::Returned);
    let fee = BankLine { kind: BankLineKind::Fee, ..line(-650, "", "", "Account fee") };
    assert_eq!(index().propose(&fee)[0].what, Proposed::Book { of: BankLineKind::Fee });
    for kind in BankLineKind::ALL {
        assert_eq!(BankLineKind::of(kind.word()), Some(kind));
    }
}

proptest! {
    /// Whatever a line says, what is proposed never gives an item more than it has open with what is settled beside it,
    /// nor more than the line has.
    #[test]
    fn never_more_than_there_is(
        amount in -40_000i64..60_000,
        party in prop::sample::select(vec!["", "Saltmarsh Honey Co-op", "TERN POINT", "Nobody"]),
        account in prop::sample::select(vec!["", "A1", "A2", "B1"]),
        words in "(I-300[0-9] ?|RF[0-9]{2}I300[0-9] |x ){0,5}",
    ) {
        let line = line(amount, party, account, &words);
        let open = [(1, 10_000), (2, 25_000), (3, 7_500), (4, 10_000), (5, 4_000)];
        for proposal in index().propose(&line) {
            let Proposed::Receipt { to, .. } = proposal.what else { continue };
            let all: i64 = to.iter().map(|part| part.amount.0).sum();
            prop_assert!(all <= amount && all > 0);
            for part in &to {
                let (_, open) = open.iter().find(|(item, _)| *item == part.item.0).unwrap();
                prop_assert!(part.amount.0 + part.beside.sum().0 <= *open);
                prop_assert_eq!(to.iter().filter(|other| other.item == part.item).count(), 1);
            }
        }
    }
}

/// 98.00 of 100.00 were paid without a share: 2.00 are open, and the discount of 2.00 covers them as a whole. No money pays that, and
/// nothing below zero.
#[test]
fn a_discount_is_never_more_than_is_open() {
    let early = |open: i64| Claim { early: Some((Money(500), day("2026-03-20"))), ..claim(1, 1, open) };
    let claims = vec![early(200), claim(2, 1, 300), claim(3, 1, 700)];
    let index = Index::new(claims, vec![payer(1, "Saltmarsh", None, "A1")], Vec::new(), Money(5));
    for amount in [100, 200, 500, 1_000, 1_200] {
        for proposal in index.propose(&line(amount, "", "A1", "I-3001, I-3002")) {
            let Proposed::Receipt { to, .. } = proposal.what else { continue };
            assert!(to.iter().all(|part| part.amount.is_positive() && part.beside.discount >= Money::ZERO), "{to:?}");
        }
    }
    let together = index.propose(&line(1_000, "", "A1", "")).remove(0);
    let Proposed::Receipt { to, .. } = together.what else { panic!("no receipt") };
    assert_eq!(to.iter().map(|part| (part.item.0, part.amount.0)).collect::<Vec<_>>(), [(2, 300), (3, 700)]);
}

#[test]
fn an_account_of_ours_has_a_number_a_bank_can_name() {
    use till_core::bank::account_number;
    assert_eq!(account_number("XX33 MARR 0001 2345 67"), Ok(Some("XX33MARR0001234567".to_owned())));
    assert_eq!(account_number("4711-0815"), Ok(Some("47110815".to_owned())));
    assert_eq!(account_number("  "), Ok(None));
    for wrong in ["XX34 MARR 0001 2345 67", "12", "---", &"1".repeat(35)] {
        assert!(account_number(wrong).is_err(), "{wrong}");
    }
}

/// *Source: python-stdnum (PyPI), over 3,200 generated numbers; `data/make_number_cases.py` made the file.*
#[test]
fn account_numbers_and_references_as_python_stdnum_says() {
    let file = include_str!("data/number_cases.csv");
    let mut seen = [0, 0];
    for line in file.lines().skip(1) {
        let [kind, text, right] = line.split(',').collect::<Vec<_>>().try_into().unwrap();
        let said = match kind {
            "iban" => is_iban(text),
            _ => till_core::settle::is_reference(text),
        };
        assert_eq!(said, right == "1", "{kind} {text}");
        seen[usize::from(right == "1")] += 1;
    }
    assert!(seen[0] > 2_000 && seen[1] > 800, "{seen:?}");
}

/// What is looked for: a part of a number, of a name, an amount, what is on its way and less than the line. Never sure.
#[test]
fn what_a_line_is_can_be_looked_for() {
    let index = index();
    let amount = |text: &str| eur().parse(text).ok();
    let found = |of: &BankLine, typed: &str| -> Vec<String> {
        let found = index.find(of, typed, amount(typed));
        assert!(found.iter().all(|one| one.certainty == Certainty::Possible && one.because.contains(&Clue::Searched)));
        let said = |what: &Proposed| match what {
            Proposed::Receipt { customer, to } => {
                let to: Vec<String> = to.iter().map(|part| format!("{}={}", part.item.0, part.amount.0)).collect();
                format!("{} {}", customer.0, to.join(" "))
            }
            Proposed::Clears { document, .. } => document.number.clone(),
            Proposed::Returned { receipt, fee } => format!("{} back, fee {}", receipt.number, fee.0),
            Proposed::Book { .. } => "booked".to_owned(),
        };
        found.iter().map(|one| said(&one.what)).collect()
    };
    let unknown = line(12_000, "", "", "no idea");
    assert_eq!(found(&unknown, "3002"), ["1 2=12000"]);
    // What it comes to exactly goes before what it only fits.
    assert_eq!(found(&line(10_000, "", "", ""), "100.00"), ["1 1=10000", "2 4=10000"]);
    assert_eq!(found(&unknown, "tern"), ["2 4=10000 5=2000", "3 5=4000"]);
    assert_eq!(found(&unknown, "x"), Vec::<String>::new());
    assert_eq!(found(&unknown, ""), Vec::<String>::new());
    // Several that were on their way may come in one booking of the bank: C-70 is more than this line, and less than that one.
    assert_eq!(found(&unknown, "c70"), Vec::<String>::new());
    assert_eq!(found(&line(50_000, "", "", ""), "c70"), ["C-70"]);
    assert_eq!(found(&line(50_000, "", "", ""), "300.00"), ["C-70"], "by its amount, and part of no number");
    assert_eq!(found(&line(-2_000, "", "", ""), "8841"), ["RF-8"]);
    // What may have come back, with the bank's fee.
    let receipt = DocumentRef { kind: DocumentKind::Deposit, id: 9, number: "D-9".to_owned() };
    let paid = Paid {
        receipt,
        customer: CustomerId(1),
        amount: Money(4_000),
        date: day("2025-11-01"),
        words: "check 5512".to_owned(),
    };
    let with_paid = self::index().with_paid(vec![paid]);
    let back = with_paid.find(&line(-4_150, "", "", ""), "5512", None);
    assert!(
        matches!(&back[0].what, Proposed::Returned { receipt, fee: Money(150) } if receipt.number == "D-9"),
        "{back:?}"
    );
    assert_eq!(with_paid.find(&line(-3_000, "", "", ""), "5512", None), [], "less than was paid");
}
