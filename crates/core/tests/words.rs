//! The words kept in the database are read back as what they were written for, and figures are written as
//! people read them.

use till_core::invoice::{ItemKind, LinkRole};
use till_core::money::{Currency, Money};
use till_core::open_items::Side;
use till_core::settle::PlaceKind;
use till_core::tax::{TaxCategory, TaxComputed};

#[test]
fn every_word_is_read_back() {
    for (side, word) in [(Side::OwedToUs, "owed_to_us"), (Side::OwedByUs, "owed_by_us")] {
        assert_eq!((side.word(), Side::of(word)), (word, Some(side)));
    }
    assert_eq!(Side::of("owed"), None);
    for (way, word) in [(TaxComputed::PerDocument, "per_document"), (TaxComputed::PerLine, "per_line")] {
        assert_eq!((way.word(), TaxComputed::of(word)), (word, Some(way)));
    }
    assert_eq!(TaxComputed::of(""), None);
    // UNCL 5305, as EN 16931 uses it; value from memory.
    for (category, code) in [
        (TaxCategory::S, "S"),
        (TaxCategory::Z, "Z"),
        (TaxCategory::E, "E"),
        (TaxCategory::AE, "AE"),
        (TaxCategory::K, "K"),
        (TaxCategory::G, "G"),
        (TaxCategory::O, "O"),
    ] {
        assert_eq!((category.code(), TaxCategory::of(code)), (code, Some(category)));
    }
    assert_eq!(TaxCategory::of("X"), None);
    let places = ["bank", "drawer", "checks_in_hand", "card_clearing"];
    assert_eq!(PlaceKind::ALL.map(PlaceKind::word), places);
    for (kind, word) in PlaceKind::ALL.into_iter().zip(places) {
        assert_eq!(PlaceKind::of(word), Some(kind));
    }
    assert_eq!(PlaceKind::of("sock"), None);
    let roles = [LinkRole::Cancels, LinkRole::Credits, LinkRole::Replaces];
    assert_eq!(roles.map(LinkRole::word), ["cancels", "credits", "replaces"]);
    for kind in [ItemKind::Goods, ItemKind::Service, ItemKind::Charge, ItemKind::Packaging] {
        assert_eq!(ItemKind::of(kind.word()), Some(kind));
    }
}

/// *Source: ISO 4217, the exponents of its list; values from memory.*
#[test]
fn amounts_are_written_as_people_read_them() {
    let eur = Currency::of("EUR").unwrap();
    assert_eq!(eur.grouped(Money(2_980_077)), "29,800.77");
    assert_eq!(eur.grouped(Money(-100_000_000)), "-1,000,000.00");
    assert_eq!((format!("{eur:?}"), eur.to_string()), ("EUR".to_owned(), "EUR".to_owned()));
    let known: Vec<_> = Currency::all().collect();
    for wanted in [("EUR", 2), ("JPY", 0), ("KWD", 3), ("GBP", 2)] {
        assert!(known.contains(&wanted), "{wanted:?}");
    }
    assert!(known.iter().all(|(code, exponent)| Currency::of(code).unwrap().exponent() == u32::from(*exponent)));
}
