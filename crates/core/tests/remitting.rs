//! Remittance advice: what its lines pay. Figures by hand.

use std::collections::BTreeMap;

use crate::common::*;
use proptest::prelude::*;
use till_core::bank::{BankLine, Certainty, Claim, Clue, Index, Payer, Proposed};
use till_core::ids::{CustomerId, OpenItemId};
use till_core::money::Money;
use till_core::remittance::{Advised, Remark, allot};

fn line(number: &str, paid: i64, discount: i64, deducted: i64) -> Advised {
    Advised {
        number: number.to_owned(),
        paid: Money(paid),
        discount: Money(discount),
        deducted: Money(deducted),
        words: String::new(),
    }
}

/// Open are invoices of 100.00, 200.00 and 300.00: paid whole, in part, with a deduction of 5.00, too much, by a number nobody
/// knows, twice, with nothing, and with a discount that nobody offered.
#[test]
fn each_line_is_found_by_its_number() {
    let open = [open_invoice(1, 10_000, 10_000), open_invoice(2, 20_000, 20_000), open_invoice(3, 30_000, 30_000)];
    let numbers: Vec<String> = open.iter().map(|item| item.document.number.clone()).collect();
    let of = |line: Advised| allot(&[line], &open, &BTreeMap::new(), (eur(), day("2026-04-10"))).remove(0);
    let found = |line: Advised| {
        let one = of(line);
        (one.item.map(|item| item.0), one.amount.0, one.discount.0, one.stays_open.0, one.disputed.0, one.remark)
    };
    assert_eq!(found(line(&numbers[0], 10_000, 0, 0)), (Some(1), 10_000, 0, 0, 0, None));
    // As people write it: small letters, without its dash.
    let plain = numbers[1].to_lowercase().replace('-', " ");
    assert_eq!(found(line(&plain, 15_000, 0, 0)), (Some(2), 15_000, 0, 5_000, 0, Some(Remark::Part)));
    assert_eq!(found(line(&numbers[1], 19_500, 0, 500)), (Some(2), 19_500, 0, 500, 500, None));
    assert_eq!(found(line(&numbers[1], 20_500, 0, 0)), (Some(2), 20_000, 0, 0, 0, Some(Remark::MoreThanOpen)));
    assert_eq!(found(line(&numbers[2], 29_400, 600, 0)), (Some(3), 29_400, 0, 600, 0, Some(Remark::NotEarned)));
    assert_eq!(found(line("I-9999", 100, 0, 0)), (None, 0, 0, 0, 0, Some(Remark::NotOpen)));
    assert_eq!(found(line(&numbers[0], 0, 0, 0)).5, Some(Remark::NothingPaid));
    let twice = [line(&numbers[0], 5_000, 0, 0), line(&numbers[0], 5_000, 0, 0)];
    let twice = allot(&twice, &open, &BTreeMap::new(), (eur(), day("2026-04-10")));
    assert_eq!((twice[0].remark, twice[1].remark, twice[1].item), (Some(Remark::Part), Some(Remark::Twice), None));
    assert_eq!(line("x", 9_300, 200, 500).of_all(), Money(10_000));
}

proptest! {
    /// Whatever the lines say: no item gets more than it has open, nor anything twice, and no money is made.
    #[test]
    fn never_more_than_is_open(said in proptest::collection::vec((0usize..5, -500i64..40_000, -100i64..900, -100i64..900), 0..12)) {
        let open: Vec<_> = (1..=4).map(|id| open_invoice(id, id * 7_919, id * 7_919)).collect();
        let number = |at: usize| open.get(at).map_or("I-0".to_owned(), |item| item.document.number.clone());
        let lines: Vec<Advised> = said.iter().map(|(at, paid, off, less)| line(&number(*at), *paid, *off, *less)).collect();
        let allotted = allot(&lines, &open, &BTreeMap::new(), (eur(), day("2026-04-10")));
        prop_assert_eq!(allotted.len(), lines.len());
        for item in &open {
            let mine: Vec<_> = allotted.iter().filter(|one| one.item == Some(item.id)).collect();
            prop_assert!(mine.len() <= 1);
            for one in mine {
                prop_assert!(one.amount.is_positive() && one.amount <= one.line.paid);
                prop_assert_eq!(one.amount + one.discount + one.stays_open, item.open);
                prop_assert!(one.disputed <= one.stays_open && one.discount.0 >= 0);
            }
        }
    }
}

/// A transfer of 293.00 says it pays I-3001 with 98.00 and 2.00 off, and I-3002 with 195.00: the first is settled, the second not.
#[test]
fn a_transfer_that_says_what_it_pays_applies_itself() {
    let claim = |item: i64, customer: i64, open: i64, early: Option<i64>| Claim {
        item: OpenItemId(item),
        customer: CustomerId(customer),
        number: format!("I-{}", 3_000 + item),
        open: Money(open),
        due: day("2026-04-01"),
        early: early.map(|amount| (Money(amount), day("2026-04-20"))),
    };
    let payers = [(1, "Saltmarsh", None), (2, "Saltmarsh North", Some(1))].map(
        |(id, name, parent): (i64, &str, Option<i64>)| Payer {
            customer: CustomerId(id),
            name: name.to_owned(),
            parent: parent.map(CustomerId),
            accounts: Vec::new(),
        },
    );
    let claims = vec![claim(1, 1, 10_000, Some(200)), claim(2, 2, 20_000, None), claim(3, 2, 5_000, None)];
    let index = Index::new(claims, payers.to_vec(), Vec::new(), Money(5));
    let says = |amount: i64, party: &str, advised: Vec<Advised>| {
        let line = BankLine {
            advised,
            party: (!party.is_empty()).then(|| party.to_owned()),
            ..BankLine::plain(day("2026-04-10"), Money(amount), "")
        };
        let first = index.propose(&line).into_iter().next()?;
        let Proposed::Receipt { customer, to } = first.what else { return None };
        let to: Vec<_> = to.iter().map(|part| (part.item.0, part.amount.0, part.beside.discount.0)).collect();
        first.because.contains(&Clue::Advice).then_some((first.certainty, customer.0, to))
    };
    let (whole, part) = (line("I-3001", 9_800, 200, 0), line("I-3002", 19_500, 0, 500));
    assert_eq!(
        says(29_300, "Saltmarsh", vec![whole.clone(), part.clone()]),
        Some((Certainty::Likely, 1, vec![(1, 9_800, 200), (2, 19_500, 0)]))
    );
    assert_eq!(says(9_800, "", vec![whole.clone()]), Some((Certainty::Sure, 1, vec![(1, 9_800, 200)])));
    // Of two customers, and nobody says who pays for both.
    assert_eq!(says(29_300, "", vec![whole.clone(), part]), None);
    // Its parts do not come to it, one is not open, more than is open, the same twice.
    assert_eq!(says(9_900, "", vec![whole.clone()]), None);
    assert_eq!(says(9_900, "", vec![whole.clone(), line("I-3999", 100, 0, 0)]), None);
    assert_eq!(says(10_100, "", vec![line("I-3001", 10_100, 0, 0)]), None);
    assert_eq!(says(19_600, "", vec![whole.clone(), whole]), None);
}
