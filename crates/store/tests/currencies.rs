//! Invoices and receipts in currencies without decimals and with three of them, through the books.
//! Figures worked out by hand; the rates are [`FOREIGN`]'s.

use crate::common::*;
use till_core::ids::{DocumentKind, InvoiceId};
use till_core::money::Money;
use till_store::invoices::{self, CreditLine, ToCredit};
use till_store::receipts::NewReceipt;
use till_store::{ledger, rules};

/// The one entry of a document: account, euros, own amount, own currency.
async fn entry(company: &Company, kind: DocumentKind, id: i64) -> Vec<(String, i64, i64, String)> {
    let mut books = company.store.read().await.unwrap();
    let mut entries = ledger::entries_of(&mut books, kind, id).await.unwrap();
    assert_eq!(entries.len(), 1);
    let lines = entries.pop().unwrap().entry.lines;
    lines
        .into_iter()
        .map(|line| (line.account, line.base.0, line.document.0, line.currency.code().to_owned()))
        .collect()
}

fn lines(wanted: &[(&str, i64, i64, &str)]) -> Vec<(String, i64, i64, String)> {
    wanted.iter().map(|(account, base, own, code)| ((*account).to_owned(), *base, *own, (*code).to_owned())).collect()
}

async fn invoice(company: &Company, quantity: i64) -> InvoiceId {
    let order = company.order(2, quantity).await;
    let shipment = company.ship(order, quantity).await;
    company.bill(shipment).await
}

async fn pay(company: &Company, date: &str, amount: &str, first: InvoiceId) -> i64 {
    let new = NewReceipt {
        customer: company.customers[2],
        method: "transfer".to_owned(),
        date: Some(day(date)),
        amount: amount.to_owned(),
        reference: None,
        applications: None,
        first: Some(first),
        with: Vec::new(),
        currency: None,
    };
    company.receive(&new).await.unwrap().id.0
}

async fn open(company: &Company, id: InvoiceId) -> Money {
    invoices::view(&mut company.store.read().await.unwrap(), id).await.unwrap().open.unwrap()
}

/// 300 at 59 and freight of 18 are 17,718; 23 % of it 4,075.14, in whole yen 4,075; 21,793 in all. At 0.0061:
/// 132.9373, 24.8575, 107.97 and 0.1098 euros. Paid at 0.0060: 130.758 euros, 2.18 less than is carried.
#[tokio::test]
async fn yen_have_no_decimals() {
    let company = Company::with_foreign(FOREIGN[1]).await;
    let id = invoice(&company, 300).await;
    assert_eq!(
        entry(&company, DocumentKind::Invoice, id.0).await,
        lines(&[
            ("21000", 13_294, 21_793, "JPY"),
            ("61000", -10_797, -17_700, "JPY"),
            ("64000", -11, -18, "JPY"),
            ("41000", -2_486, -4_075, "JPY"),
        ])
    );
    // A hundredth of a yen is no money.
    let half = NewReceipt {
        customer: company.customers[2],
        method: "transfer".to_owned(),
        date: Some(day("2026-03-20")),
        amount: "21793.50".to_owned(),
        reference: None,
        applications: None,
        first: None,
        with: Vec::new(),
        currency: None,
    };
    let refused = company.receive(&half).await.unwrap_err();
    assert!(matches!(&refused, till_store::StoreError::Invalid { field, .. } if field == "amount"), "{refused:?}");
    let receipt = pay(&company, "2026-03-20", "21793", id).await;
    assert_eq!(
        entry(&company, DocumentKind::Receipt, receipt).await,
        lines(&[("31000", 13_076, 21_793, "JPY"), ("21000", -13_294, -21_793, "JPY"), ("91000", 218, 218, "EUR")])
    );
    assert_eq!(open(&company, id).await, Money::ZERO);
    company.holds().await;
}

/// Seven at 59.000 and freight of 18.000 are 431.000; 23 % of it 99.130; 530.130 in all, at 2.99 1,585.0887
/// euros, tax 296.3987, freight 53.82, goods 1,234.87. Paid at 3.05 in two parts: 230.005 are 701.51525 euros and
/// release 1,585.09 × 230.005 ÷ 530.130 = 687.7155; the rest of 300.125 is 915.38125 and releases 897.37.
#[tokio::test]
async fn dinars_have_three_decimals() {
    let company = Company::with_foreign(FOREIGN[2]).await;
    let id = invoice(&company, 7).await;
    assert_eq!(
        entry(&company, DocumentKind::Invoice, id.0).await,
        lines(&[
            ("21000", 158_509, 530_130, "KWD"),
            ("61000", -123_487, -413_000, "KWD"),
            ("64000", -5_382, -18_000, "KWD"),
            ("41000", -29_640, -99_130, "KWD"),
        ])
    );
    let first = pay(&company, "2026-03-20", "230.005", id).await;
    assert_eq!(
        entry(&company, DocumentKind::Receipt, first).await,
        lines(&[
            ("31000", 70_152, 230_005, "KWD"),
            ("21000", -68_772, -230_005, "KWD"),
            ("91000", -1_380, -1_380, "EUR")
        ])
    );
    assert_eq!(open(&company, id).await, Money(300_125));
    let second = pay(&company, "2026-03-21", "300.125", id).await;
    assert_eq!(
        entry(&company, DocumentKind::Receipt, second).await,
        lines(&[
            ("31000", 91_538, 300_125, "KWD"),
            ("21000", -89_737, -300_125, "KWD"),
            ("91000", -1_801, -1_801, "EUR")
        ])
    );
    assert_eq!(open(&company, id).await, Money::ZERO);
    company.holds().await;
}

/// Two of seven at 59.000 credited: 118.000 and 27.140 of tax, 145.140; at the invoice's 2.99: 433.9686, 81.1486,
/// and 352.82 of returns, whatever a dinar is worth on the day.
#[tokio::test]
async fn a_credit_in_dinars_is_at_the_rate_of_its_invoice() {
    let company = Company::with_foreign(FOREIGN[2]).await;
    let id = invoice(&company, 7).await;
    let wish = ToCredit {
        lines: vec![CreditLine { position: 0, quantity: Some("2".to_owned()), amount: None, return_line: None }],
        added: Vec::new(),
        date: Some(day("2026-03-21")),
        reason: "Two came broken".to_owned(),
        seen: None,
    };
    let posted = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::credit(writing, &rules, id, &wish).await
        })
        .await
        .unwrap();
    let mut wanted = entry(&company, DocumentKind::CreditMemo, posted.credit_memo.unwrap().0).await;
    wanted.sort();
    assert_eq!(
        wanted,
        lines(&[
            ("21000", -43_397, -145_140, "KWD"),
            ("41000", 8_115, 27_140, "KWD"),
            ("65000", 35_282, 118_000, "KWD"),
        ])
    );
    // 530.130 less 145.140.
    assert_eq!(open(&company, id).await, Money(384_990));
    company.holds().await;
}

fn in_currency(company: &Company, customer: usize, (date, amount, code): (&str, &str, &str)) -> NewReceipt {
    NewReceipt {
        customer: company.customers[customer],
        method: "transfer".to_owned(),
        date: Some(day(date)),
        amount: amount.to_owned(),
        reference: None,
        applications: None,
        first: None,
        with: Vec::new(),
        currency: Some(code.to_owned()),
    }
}

/// 4 × 59.00 and 23 %: 290.28 euros, paid with 248.10 pounds at 1.17 (290.28 / 1.17 = 248.1026; 248.10 are 290.277, 290.28 euros). 100.00
/// pounds at 1.15 are 115.00 of the next. 167.28 pounds (136.00 and 23 %, carried at 195.72 euros) are settled with 192.37 euros at 1.15
/// (192.372): 3.35 are a loss of the rate.
#[tokio::test]
async fn money_in_another_currency_than_the_customers() {
    let company = Company::new().await;
    let at_home = async || {
        let order = company.order(0, 4).await;
        let shipment = ship(&company, order, &["4", "0"], None).await;
        company.bill(shipment).await
    };
    let first = at_home().await;
    let whole = in_currency(&company, 0, ("2026-03-18", "248.10", "GBP"));
    let preview = {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        till_store::receipts::preview(&mut books, &rules, &whole).await.unwrap()
    };
    assert_eq!(preview.settled_by.iter().map(|one| one.amount).collect::<Vec<_>>(), [Money(24_810)]);
    let receipt = company.receive(&whole).await.unwrap().id;
    assert_eq!(
        entry(&company, DocumentKind::Receipt, receipt.0).await,
        lines(&[("31000", 29_028, 24_810, "GBP"), ("21000", -29_028, -29_028, "EUR")])
    );
    assert_eq!(open(&company, first).await, Money::ZERO);
    let second = at_home().await;
    let part = company.receive(&in_currency(&company, 0, ("2026-03-20", "100", "GBP"))).await.unwrap().id;
    assert_eq!(
        entry(&company, DocumentKind::Receipt, part.0).await,
        lines(&[("31000", 11_500, 10_000, "GBP"), ("21000", -11_500, -11_500, "EUR")])
    );
    assert_eq!(open(&company, second).await, Money(17_528));
    let pounds = invoice(&company, 2).await;
    let euros = company.receive(&in_currency(&company, 2, ("2026-03-20", "192.37", "EUR"))).await.unwrap().id;
    assert_eq!(
        entry(&company, DocumentKind::Receipt, euros.0).await,
        lines(&[("31000", 19_237, 19_237, "EUR"), ("21000", -19_572, -16_728, "GBP"), ("91000", 335, 335, "EUR")])
    );
    assert_eq!(open(&company, pounds).await, Money::ZERO);
    company.holds().await;
    // A currency nobody knows, and one without a rate.
    let field = async |code: &str| match company.receive(&in_currency(&company, 0, ("2026-03-20", "5", code))).await {
        Err(till_store::StoreError::Invalid { field, .. }) => field,
        Err(till_store::StoreError::Refused(blockers)) => blockers[0].field.clone(),
        other => panic!("{other:?}"),
    };
    assert_eq!((field("XYZ").await.as_str(), field("USD").await.as_str()), ("currency", "date"));
}
