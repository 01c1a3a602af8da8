//! Checks against what this project did not make. Each names its source.

use crate::common::*;
use proptest::prelude::*;
use till_core::accounts::Purpose;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::deposit::using::DepositFacts;
use till_core::deposit::{self, AdvanceTax, DepositTarget, TakeInput};
use till_core::fixed::{ExchangeRate, Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, OrderId};
use till_core::invoice;
use till_core::money::{Currency, Money, line_amounts, line_total_less};
use till_core::open_items::Side;
use till_core::settle::{self, Source, ToApply};
use till_core::spread::spread;
use till_core::tax::{TaxCategory, TaxRate};

/// Source: Python's `decimal` module (ROUND_HALF_UP, 60 digits), run by
/// `tests/data/make_decimal_cases.py` over generated cases kept in the table beside it.
#[test]
fn rounding_and_spreading_agree_with_pythons_decimal() {
    let mut reader =
        csv::Reader::from_path(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/decimal_cases.csv")).unwrap();
    let mut seen = [0; 5];
    for record in reader.records() {
        let record = record.unwrap();
        let field = |at: usize| &record[at];
        let number = |at: usize| field(at).parse::<i64>().unwrap();
        match field(0) {
            "line" => {
                let currency = Currency::of(field(1)).unwrap();
                let (quantity, price): (Quantity, UnitPrice) = (field(2).parse().unwrap(), field(3).parse().unwrap());
                let amounts = line_amounts(quantity, price, field(4).parse().unwrap(), currency);
                assert_eq!((amounts.full.0, amounts.net.0), (number(5), number(6)), "{record:?}");
                seen[0] += 1;
            }
            "tax" => {
                assert_eq!(Money(number(1)).times_rate(field(2).parse::<Rate>().unwrap()).0, number(3), "{record:?}");
                seen[1] += 1;
            }
            "convert" => {
                let rate: ExchangeRate = field(4).parse().unwrap();
                let (from, to) = (Currency::of(field(1)).unwrap(), Currency::of(field(2)).unwrap());
                assert_eq!(Money(number(3)).to_base(rate, from, to).0, number(5), "{record:?}");
                seen[2] += 1;
            }
            "spread" => {
                let list =
                    |at: usize| field(at).split(' ').map(|part| part.parse::<i64>().unwrap()).collect::<Vec<_>>();
                let parts: Vec<i64> = spread(Money(number(1)), &list(2)).iter().map(|part| part.0).collect();
                assert_eq!(parts, list(3), "{record:?}");
                seen[3] += 1;
            }
            "offs" => {
                let currency = Currency::of(field(1)).unwrap();
                let (quantity, price): (Quantity, UnitPrice) = (field(2).parse().unwrap(), field(3).parse().unwrap());
                let offs: Vec<Rate> = field(4).split(' ').map(|off| off.parse().unwrap()).collect();
                let net = line_total_less(quantity, price, &offs, UnitPrice::ZERO, currency).net;
                assert_eq!(net.0, number(5), "{record:?}");
                seen[4] += 1;
            }
            other => panic!("a case of unknown kind {other}"),
        }
    }
    assert!(seen.iter().all(|count| *count >= 500), "too few cases: {seen:?}");
}

/// Source: ISO 4217 as packaged in the crate `iso_currency`.
#[test]
fn currency_exponents_are_those_of_iso_4217() {
    for (code, exponent) in Currency::all() {
        let published = iso_currency::Currency::from_code(code).unwrap();
        assert_eq!(published.exponent(), Some(u16::from(exponent)), "{code}");
    }
}

/// Source: IFRS 15, illustrative example 38 case A (figures from memory): of a contract that can be canceled, 1,000
/// received ahead of the goods is a contract liability; when the goods go it becomes revenue. On the real liability: a
/// customer deposit, applied as its order is billed. Case B, a right to the money before it is paid, takes a prepayment
/// invoice.
#[test]
fn ifrs_15_example_38() {
    let books = Books::new();
    let mut ledger = std::collections::BTreeMap::<String, i64>::new();
    let mut post = |entry: &Option<till_core::entry::Entry>| {
        for (account, amount) in written(entry) {
            *ledger.entry(account).or_default() += amount;
        }
        ledger.clone()
    };
    let Source::Received { method } = transfer() else { unreachable!() };
    let zero = TaxRate { code: "Z0".to_owned(), category: TaxCategory::Z, rate: Rate::ZERO };
    let received = deposit::take(&TakeInput {
        customer: CustomerId(7),
        customer_name: "Saltmarsh Honey Co-op".to_owned(),
        customer_class: None,
        target: Some(DepositTarget {
            number: "O-1".to_owned(),
            currency: eur(),
            gross: vec![(zero, Money(100_000))],
            taken_before: Money::ZERO,
        }),
        comes: deposit::Comes::In { method },
        date: DocumentDate { date: day("2026-03-10"), typed: true },
        amount: Money(100_000),
        currency: eur(),
        rate: Some(ExchangeRate::ONE),
        base: eur(),
        regime: AdvanceTax::AtReceipt,
        held_before: Money::ZERO,
        dates: DateOrder::of_today(day("2026-12-31")),
        accounts: &books.accounts,
        periods: &books.periods,
    });
    let after_payment = post(&received.entry);
    assert_eq!(
        (after_payment["31000"], after_payment["25000"]),
        (100_000, -100_000),
        "Dr cash 1,000, Cr contract liability 1,000"
    );
    let document = DocumentRef { kind: DocumentKind::Deposit, id: 1, number: "D-1".to_owned() };
    let mut item = open_item(Side::OwedByUs, Purpose::DepositLiability, document, (100_000, 100_000));
    item.taxes = received.taxes;
    let order = Some((OrderId(1), "O-1".to_owned()));
    let mut input = books.invoice(vec![line(1, "1", "1000", "0", "Z0")]);
    input.deposits = vec![DepositFacts { item, taken: Money(100_000), order, wish: None }];
    let delivered = invoice::decide(&input);
    assert!(delivered.document.unwrap().due.is_zero(), "nothing is owed");
    let after_delivery = post(&delivered.entry);
    assert_eq!(after_delivery["25000"], 0, "the contract liability is gone");
    assert!(!after_delivery.contains_key("21000"), "nothing was ever owed");
    assert_eq!((after_delivery["31000"], after_delivery["61000"]), (100_000, -100_000), "cash 1,000, revenue 1,000");
}

fn lines() -> impl Strategy<Value = Vec<(i64, i64, i64, usize)>> {
    prop::collection::vec((1i64..5_000_000, 0i64..900_000_000, 0i64..100, 0usize..4), 1..14)
}

proptest! {
    /// Source: EN 16931-1, arithmetic rules (from memory). Rounding to two decimals.
    /// BR-CO-10: sum of line nets. BR-CO-13: total without tax. BR-CO-14: total tax is the sum of
    /// the tax of the categories. BR-CO-15: total with tax. BR-CO-16: amount due less what was
    /// paid. BR-CO-17: tax of a category = its base × its rate, rounded to two decimals.
    #[test]
    fn en_16931_arithmetic(lines in lines()) {
        let codes = ["S23", "S135", "Z0", "S23"];
        let books = Books::new();
        let lines = lines.iter().enumerate().map(|(at, (quantity, price, off, code))| {
            let quantity = Quantity::from_scaled(*quantity).to_string();
            let price = UnitPrice::from_scaled(*price).to_string();
            line(at as i64 + 1, &quantity, &price, &off.to_string(), codes[*code])
        }).collect();
        let decision = invoice::decide(&books.invoice(lines));
        let document = decision.document.unwrap();
        let sum_of_lines: i64 = document.lines.iter().map(|line| line.net.0).sum();
        prop_assert_eq!(document.net.0, sum_of_lines, "BR-CO-10 and BR-CO-13");
        prop_assert_eq!(document.tax.0, document.taxes.iter().map(|tax| tax.tax.0).sum::<i64>(), "BR-CO-14");
        prop_assert_eq!(document.total.0, document.net.0 + document.tax.0, "BR-CO-15");
        prop_assert_eq!(document.taxes.iter().map(|tax| tax.base.0).sum::<i64>(), document.net.0, "BR-S-08 and its kin");
        for tax in &document.taxes {
            // In units of 10⁻⁸, so that no rounding of ours is used to check ours.
            let exact = i128::from(tax.base.0) * i128::from(tax.rate.rate.scaled());
            let distance = (i128::from(tax.tax.0) * 1_000_000 - exact).abs();
            prop_assert!(distance <= 500_000, "BR-CO-17: {} of {}", tax.tax.0, tax.base.0);
        }
        // BR-CO-16: nothing is paid yet, so all of it is due; then half is paid.
        let half = document.total.0 / 2;
        if half > 0 {
            let item = open_invoice(1, document.total.0, document.total_base.0);
            let paid = settle::decide(&books.money(transfer(), half, vec![ToApply::new(item, Money(half))]));
            prop_assert_eq!(paid.document.applied[0].open_after.0, document.total.0 - half, "BR-CO-16");
        }
        // Order shares add up, and the entry is balanced to the cent.
        prop_assert_eq!(document.order_shares.iter().map(|share| share.gross.0).sum::<i64>(), document.total.0);
        if let Some(entry) = decision.entry {
            prop_assert!(entry.balances());
        }
    }
}
