//! What money is for: payment references against an outside package, suggestions by hand.

use crate::common::*;
use till_core::ids::DocumentRef;
use till_core::money::{Currency, Money};
use till_core::open_items::OpenItem;
use till_core::settle::{Because, Said, creditor_reference, is_reference, references_in, settles, suggest};

/// References of documents by python-stdnum, `data/make_reference_cases.py`: their check digits, and which of those with one
/// character changed or two swapped it still takes.
#[test]
fn references_have_the_check_digits_of_an_outside_package() {
    let mut reader = csv::Reader::from_reader(include_str!("data/reference_cases.csv").as_bytes());
    let (mut made, mut refused, mut alone) = (0, 0, 0);
    for row in reader.records() {
        let row = row.unwrap();
        let (number, reference, other, valid) = (&row[0], &row[1], &row[2], &row[3] == "1");
        assert_eq!(creditor_reference(number).as_deref(), Some(reference), "{number}");
        assert!(is_reference(reference));
        assert_eq!(is_reference(other), valid, "{other}");
        // As a payer types it.
        let typed = format!("ref {}, thanks", reference.to_ascii_lowercase());
        // Of what could be one more word of it, one in 97 fits too: who looks for a reference knows which there are.
        let found = references_in(&typed);
        alone += usize::from(found.len() == 1);
        assert!(found.iter().any(|one| one == reference), "{typed}");
        made += 1;
        refused += usize::from(!valid);
    }
    assert!(made == 400 && refused > 350 && alone > 380, "{made} made, {refused} refused, {alone} alone");
    for number in ["", "--", "1234567890123456789012"] {
        assert_eq!(creditor_reference(number), None, "{number}");
    }
    for text in ["RF18", "RF1853900754703é", "rf18539007547034", "RF18 539007547034", "RFAA539007547034"] {
        assert!(!is_reference(text), "{text}");
    }
}

/// Invoices I-101 to I-104 over 100.00, 250.00, 250.00 and 80.00, due in that order.
fn invoices() -> Vec<OpenItem> {
    [(101, 10_000), (102, 25_000), (103, 25_000), (104, 8_000)]
        .into_iter()
        .map(|(id, open)| {
            let mut item = open_invoice(id, open, open);
            item.document.number = format!("I-{id}");
            item
        })
        .collect()
}

fn said(amount: i64, words: &str) -> Vec<(i64, i64, Because)> {
    let said = Said { words: Some(words), ..Said::default() };
    let suggested = suggest((Money(amount), eur()), &invoices(), said, day("2026-04-10"));
    suggested.iter().map(|one| (one.item.0, one.amount.0, one.because)).collect()
}

#[test]
fn what_was_named_goes_before_what_fits() {
    use Because::{Equal, Number, Oldest, Reference, Together};
    let reference = creditor_reference("I-104").unwrap();
    // Named by reference, though another one equals the amount.
    assert_eq!(said(10_000, &reference), [(104, 8_000, Reference)]);
    // In the order of the words; what is left stays unapplied.
    assert_eq!(said(40_000, "for i103 and I/101, thanks"), [(103, 25_000, Number), (101, 10_000, Number)]);
    // What was named takes what there is.
    assert_eq!(said(5_000, "I-102"), [(102, 5_000, Number)]);
    // Nothing named: the one that equals it, the oldest of two; two that come to it; else by age.
    assert_eq!(said(25_000, "March"), [(102, 25_000, Equal)]);
    assert_eq!(said(18_000, ""), [(101, 10_000, Together), (104, 8_000, Together)]);
    assert_eq!(said(12_000, "I-999"), [(101, 10_000, Oldest), (102, 2_000, Oldest)]);
    assert_eq!(said(99_999, "all of it").iter().map(|one| one.1).sum::<i64>(), 68_000);
    // With a wrong check digit it is no reference, but the number still stands in it.
    assert_eq!(said(8_000, "RF00I104"), [(104, 8_000, Number)]);
    assert_eq!(said(8_000, "RF00I105"), [(104, 8_000, Equal)]);
}

#[test]
fn what_is_not_there_or_in_another_currency_is_left_alone() {
    let mut items = invoices();
    items[0].currency = Currency::of("GBP").unwrap();
    let on = |items: &[OpenItem], date: &str| {
        suggest((Money(10_000), eur()), items, Said::default(), day(date))
            .iter()
            .map(|one| one.item.0)
            .collect::<Vec<_>>()
    };
    assert_eq!(on(&items, "2026-04-10"), [102], "the pounds are the clerk's");
    assert!(on(&items, "2020-01-01").is_empty(), "before they were there");
    // What the clerk came from goes first, the rest by age.
    let first = DocumentRef { number: String::new(), ..items[3].document.clone() };
    let said = Said { first: Some(&first), words: Some("I-102"), ..Said::default() };
    let suggested = suggest((Money(10_000), eur()), &invoices(), said, day("2026-04-10"));
    assert_eq!(
        suggested.iter().map(|one| (one.item.0, one.because)).collect::<Vec<_>>(),
        [(104, Because::ComeFrom), (102, Because::Number)]
    );
}

/// 200.00 pounds at 1.17 for an account in euros: I-101 over 100.00 euros takes 85.47 of them (100 / 1.17 = 85.4701), the next what is
/// left; only where it is said what settles them, and nothing is written off or discounted between two currencies.
#[test]
fn money_in_another_currency_goes_to_what_it_settles() {
    let gbp = Currency::of("GBP").unwrap();
    let rate = "1.17".parse().unwrap();
    let items = invoices();
    let worth: std::collections::BTreeMap<_, _> =
        items.iter().map(|item| (item.id, settles(item, till_core::fixed::ExchangeRate::ONE, (gbp, rate)))).collect();
    let of = |amount: i64, said: Said<'_>| -> Vec<(i64, i64, Because)> {
        let suggested = suggest((Money(amount), gbp), &items, said, day("2026-04-10"));
        assert!(suggested.iter().all(|one| one.beside == till_core::settle::Beside::default()));
        suggested.iter().map(|one| (one.item.0, one.amount.0, one.because)).collect()
    };
    let said = || Said { worth: Some(&worth), tolerance: Money(5), ..Said::default() };
    assert_eq!(of(20_000, Said::default()), []);
    assert_eq!(of(20_000, said()), [(101, 8_547, Because::Oldest), (102, 11_453, Because::Oldest)]);
    assert_eq!(of(8_547, said()), [(101, 8_547, Because::Equal)]);
    assert_eq!(of(6_838, Said { words: Some("for I-104"), ..said() }), [(104, 6_838, Because::Number)]);
}
