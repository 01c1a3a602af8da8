//! Places of money and ways of paying as a company sets them up.

use crate::common::*;
use till_core::accounts::AccountType;
use till_core::ids::{CustomerId, DocumentKind};
use till_core::settle::PlaceKind;
use till_store::chart::{self, NewChartAccount};
use till_store::money_places::{self, MethodForm, PlaceForm, PlaceRow};
use till_store::receipts::NewReceipt;
use till_store::{Result, StoreError, ledger};

async fn places(company: &Company) -> Vec<PlaceRow> {
    money_places::places(&mut company.store.read().await.unwrap()).await.unwrap()
}

fn pounds() -> PlaceForm {
    PlaceForm {
        name: "Bank, pounds".to_owned(),
        kind: PlaceKind::Bank,
        account: "31100".to_owned(),
        currency: Some("GBP".to_owned()),
        method: "transfer in pounds".to_owned(),
    }
}

async fn add(company: &Company, form: &PlaceForm) -> Result<String> {
    change(company, async |writing, rules| money_places::add_place(writing, rules, form).await).await
}

async fn offer(company: &Company, code: &str, name: &str, active: bool) -> Result<()> {
    let form = MethodForm { name: name.to_owned(), active };
    change(company, async |writing, _| money_places::set_method(writing, code, &form).await).await
}

async fn receive(company: &Company, method: &str, customer: i64, amount: &str) -> Result<i64> {
    let new = NewReceipt {
        customer: CustomerId(customer),
        method: method.to_owned(),
        date: None,
        amount: amount.to_owned(),
        reference: None,
        applications: Some(Vec::new()),
        first: None,
        with: Vec::new(),
        currency: None,
    };
    Ok(company.receive(&new).await?.id.0)
}

fn field<T: std::fmt::Debug>(outcome: Result<T>) -> String {
    match outcome {
        Err(StoreError::Invalid { field, .. }) => field,
        Err(StoreError::Refused(blockers)) => blockers[0].field.clone(),
        other => panic!("{other:?}"),
    }
}

/// A second bank account, in pounds: 100.00 pounds received by it lie on its ledger account at 117.00, euros it does not take.
#[tokio::test]
async fn a_second_bank_account() {
    let company = Company::new().await;
    assert_eq!(field(add(&company, &pounds()).await), "account", "it is not there yet");
    let account = NewChartAccount {
        number: "31100".to_owned(),
        name: "Bank, pounds".to_owned(),
        account_type: AccountType::Asset,
    };
    change(&company, async |writing, _| chart::add(writing, &account).await).await.unwrap();
    let before = places(&company).await.len();
    let code = add(&company, &pounds()).await.unwrap();
    let all = places(&company).await;
    let new = all.iter().find(|place| place.code == code).unwrap();
    assert_eq!(
        (all.len(), new.methods[0].name.as_str(), new.methods[0].active),
        (before + 1, "transfer in pounds", true)
    );
    let id = receive(&company, &code, 3, "100").await.unwrap();
    let mut books = company.store.read().await.unwrap();
    let entry = ledger::entries_of(&mut books, DocumentKind::Receipt, id).await.unwrap().remove(0).entry;
    drop(books);
    let lines: Vec<(&str, i64)> = entry.lines.iter().map(|line| (line.account.as_str(), line.base.0)).collect();
    assert_eq!(lines, [("31100", 11_700), ("27000", -11_700)]);
    assert_eq!(field(receive(&company, &code, 1, "5").await), "method");
    company.holds().await;
    // Another on the same account, an account that is proved otherwise, a name that is taken, a currency without a rate.
    let form = |account: &str, method: &str, currency: &str| PlaceForm {
        account: account.to_owned(),
        method: method.to_owned(),
        currency: Some(currency.to_owned()),
        ..pounds()
    };
    assert_eq!(field(add(&company, &form("31100", "another", "GBP")).await), "account");
    assert_eq!(field(add(&company, &form("21000", "another", "GBP")).await), "account");
    let second =
        NewChartAccount { number: "31200".to_owned(), name: "Spare".to_owned(), account_type: AccountType::Asset };
    change(&company, async |writing, _| chart::add(writing, &second).await).await.unwrap();
    assert_eq!(field(add(&company, &form("31200", "Transfer in Pounds", "GBP")).await), "method");
    assert_eq!(field(add(&company, &form("31200", "another", "USD")).await), "currency");
    assert_eq!(field(add(&company, &form("31200", "another", "pounds")).await), "currency");
}

#[tokio::test]
async fn ways_of_paying_are_offered_or_not() {
    let company = Company::new().await;
    offer(&company, "check", "check by email", false).await.unwrap();
    assert_eq!(field(receive(&company, "check", 1, "5").await), "method");
    assert_eq!(field(offer(&company, "cash", "transfer", true).await), "name");
    assert_eq!(field(offer(&company, "cash", " ", true).await), "name");
    offer(&company, "cash", "cash", false).await.unwrap();
    assert_eq!(field(offer(&company, "transfer", "transfer", false).await), "active", "one stays");
    offer(&company, "check", "check", true).await.unwrap();
    receive(&company, "check", 1, "5").await.unwrap();
    // Nobody chooses the card by hand, and nobody offers it.
    assert!(matches!(offer(&company, "card", "card", true).await, Err(StoreError::WrongState(_))));
    company.holds().await;
}
