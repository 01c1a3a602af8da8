//! What may be put into dispute. Figures by hand.

use crate::common::*;
use proptest::prelude::*;
use till_core::day_sheet::{DayFacts, DisputeFacts, Next, Work, rank};
use till_core::dispute::{DisputeReason, MOST_WORDS, check, check_words, standing};
use till_core::ids::{DocumentKind, DocumentRef};
use till_core::money::Money;

#[test]
fn what_is_open_may_be_disputed_and_no_more() {
    let said = |typed: Option<i64>, open: i64, reason, words: &str| {
        check(typed.map(Money), Money(open), (reason, words), eur())
            .map_err(|(field, sentence)| format!("{field}: {sentence}"))
    };
    assert_eq!(said(None, 1_250, DisputeReason::Price, ""), Ok(Money(1_250)));
    assert_eq!(said(Some(250), 1_250, DisputeReason::Quantity, "10 short"), Ok(Money(250)));
    assert_eq!(
        said(Some(1_251), 1_250, DisputeReason::Price, ""),
        Err("amount: Only 12.50 EUR of it are open.".to_owned())
    );
    assert!(said(Some(0), 1_250, DisputeReason::Price, "").unwrap_err().starts_with("amount: Enter what is not paid"));
    assert!(said(Some(-1), 1_250, DisputeReason::Price, "").is_err());
    assert!(said(None, 0, DisputeReason::Price, "").unwrap_err().contains("nothing to dispute"));
    assert_eq!(said(None, 1, DisputeReason::Other, "  "), Err("words: Say what it is about.".to_owned()));
    assert!(said(None, 1, DisputeReason::Other, &"x".repeat(MOST_WORDS + 1)).unwrap_err().contains("500 characters"));
    assert!(check_words(&"é".repeat(MOST_WORDS)).is_ok());
    for reason in DisputeReason::ALL {
        assert_eq!(DisputeReason::of(reason.word()), Some(reason));
    }
}

proptest! {
    /// Whatever is typed: what goes into dispute lies between nothing and what is open, and never stands over more later.
    #[test]
    fn never_more_than_is_open(typed in proptest::option::of(-2_000i64..5_000), open in -10i64..4_000, later in 0i64..4_000) {
        if let Ok(amount) = check(typed.map(Money), Money(open), (DisputeReason::Price, ""), eur()) {
            prop_assert!(amount.is_positive() && amount.0 <= open);
            prop_assert!(standing(amount, Money(later)).0 <= later);
        }
    }
}

#[test]
fn disputes_stand_on_the_day_sheet() {
    let facts = DayFacts {
        disputes: vec![DisputeFacts {
            item: DocumentRef { kind: DocumentKind::Invoice, id: 4, number: "I-3004".to_owned() },
            name: "Saltmarsh".to_owned(),
            why: "price".to_owned(),
            owner: Some("Ines".to_owned()),
            amount: Money(1_250),
            since: day("2026-04-01"),
        }],
        ..DayFacts::default()
    };
    let rows = rank(&facts, day("2026-04-11"));
    assert_eq!((rows.len(), rows[0].work, rows[0].next, rows[0].days), (1, Work::Disputed, Next::Resolve, 10));
    assert_eq!(rows[0].why, "I-3004: price, Ines looks after it");
}
