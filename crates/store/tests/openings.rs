//! A company that begins in the middle of its life. Rows of postings.md, Period ends: opening invoice
//! 500.00, opening stock 900.00, and their balances, worked out by hand.

use crate::common::*;
use till_core::checks::Check;
use till_core::money::Money;
use till_core::opening::OpeningSide;
use till_store::openings::{self, NewOpening, NewOpeningBalance, NewOpeningItem, NewOpeningStock, PostedOpening};
use till_store::receipts::{NewApplication, NewReceipt};
use till_store::{Result, StoreError, customers, ledger, rules};

fn item(customer: &str, side: OpeningSide, number: &str, amount: &str) -> NewOpeningItem {
    NewOpeningItem {
        customer: customer.to_owned(),
        side,
        number: number.to_owned(),
        document_date: day("2026-01-20"),
        due_date: Some(day("2026-02-19")),
        amount: amount.to_owned(),
    }
}

fn opening() -> NewOpening {
    NewOpening {
        date: Some(day("2026-03-01")),
        items: vec![
            item("1", OpeningSide::Invoice, "OLD-77", "500.00"),
            item("3", OpeningSide::Invoice, "OLD-78", "100.00"),
            item("1", OpeningSide::Unapplied, "OLD-R5", "80.00"),
        ],
        stock: vec![NewOpeningStock {
            item: "A".to_owned(),
            quantity: "30".to_owned(),
            cost: "900.00".to_owned(),
            warehouse: None,
        }],
        balances: vec![NewOpeningBalance { account: "31000".to_owned(), amount: "2500.00".to_owned() }],
    }
}

async fn post(company: &Company, new: &NewOpening) -> Result<PostedOpening> {
    company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            let seen = openings::preview(writing, &rules, new).await?.fingerprint;
            openings::post(writing, &rules, new, &seen).await
        })
        .await
}

#[tokio::test]
async fn what_is_brought_along_stands_where_it_belongs() {
    let company = Company::new().await;
    let mut books = company.store.read().await.unwrap();
    let before = ledger::trial_balance(&mut books, day("2026-03-18")).await.unwrap();
    drop(books);
    let posted = post(&company, &opening()).await.unwrap();
    assert_eq!(posted.number, "OB-1");
    let mut books = company.store.read().await.unwrap();
    let after = ledger::trial_balance(&mut books, day("2026-03-18")).await.unwrap();
    let moved = |account: &str| {
        let of = |trial: &ledger::TrialBalance| {
            trial.accounts.iter().find(|one| one.number == account).map_or(0, |one| one.balance.0)
        };
        of(&after) - of(&before)
    };
    // 500.00 and 100.00 GBP at 1.17 = 617.00 owed; 80.00 unapplied; stock 900.00; bank 2,500.00; the rest,
    // 617.00 − 80.00 + 900.00 + 2,500.00 = 3,937.00, on the opening account.
    let expected = [("21000", 61_700), ("27000", -8_000), ("11000", 90_000), ("31000", 250_000), ("50000", -393_700)];
    for (account, amount) in expected {
        assert_eq!(moved(account), amount, "{account}");
    }
    let view = customers::view(&mut books, company.customers[0]).await.unwrap();
    assert_eq!((view.owes, view.unapplied), (Money(50_000), Money(8_000)));
    assert_eq!((view.open_items[0].number.as_str(), view.open_items[0].due_date), ("OLD-77", day("2026-02-19")));
    // 27 days late on 18 March: 1 to 30.
    assert_eq!(view.ageing.days_1_30, Money(50_000));
    let owed = view.open_items[0].item;
    drop(books);
    company.holds().await;
    // It is paid like any other.
    let receipt = NewReceipt {
        customer: company.customers[0],
        method: "transfer".to_owned(),
        date: None,
        amount: "500".to_owned(),
        reference: None,
        applications: Some(vec![NewApplication::to_item(owed, "500")]),
        first: None,
        with: Vec::new(),
        currency: None,
    };
    company.receive(&receipt).await.unwrap();
    let view = customers::view(&mut company.store.read().await.unwrap(), company.customers[0]).await.unwrap();
    assert_eq!(view.owes, Money::ZERO);
    company.holds().await;
}

#[tokio::test]
async fn what_cannot_be_brought_along_is_refused_and_nothing_is_written() {
    let company = Company::new().await;
    let refused = async |change: &dyn Fn(&mut NewOpening)| {
        let mut new = opening();
        change(&mut new);
        match post(&company, &new).await {
            Err(StoreError::Invalid { field, .. }) => (None, field),
            Err(StoreError::Refused(blockers)) => (Some(blockers[0].check), blockers[0].field.clone()),
            other => panic!("{other:?}"),
        }
    };
    let at = |field: &str| (None, field.to_owned());
    let stops = |check, field: &str| (Some(check), field.to_owned());
    assert_eq!(refused(&|new| new.items[0].customer = "99".to_owned()).await, at("items.0.customer"));
    assert_eq!(refused(&|new| new.items[0].amount = "5.001".to_owned()).await, at("items.0.amount"));
    assert_eq!(
        refused(&|new| new.items[0].amount = "0".to_owned()).await,
        stops(Check::AmountNotPositive, "items.0.amount")
    );
    assert_eq!(
        refused(&|new| new.items[1].number = "OLD-77".to_owned()).await,
        stops(Check::NamedTwice, "items.1.number")
    );
    assert_eq!(refused(&|new| new.items[0].number = "  ".to_owned()).await, at("items.0.number"));
    assert_eq!(refused(&|new| new.stock[0].item = "FRT".to_owned()).await, at("stock.0.item"));
    assert_eq!(
        refused(&|new| new.stock[0].quantity = "-1".to_owned()).await,
        stops(Check::QuantityNotPositive, "stock.0.quantity")
    );
    // Receivables are the sum of what is owed, never a figure of their own.
    assert_eq!(
        refused(&|new| new.balances[0].account = "21000".to_owned()).await,
        stops(Check::AccountMissing, "balances.0.account")
    );
    assert_eq!(refused(&|new| new.balances[0].account = "9".to_owned()).await, at("balances.0.account"));
    assert_eq!(refused(&|new| new.date = Some(day("2026-02-10"))).await, stops(Check::PeriodClosed, "date"));
    assert_eq!(refused(&|new| *new = NewOpening::default()).await, stops(Check::NothingToDo, "items"));
    company.holds().await;
    // The same number twice, in two openings.
    post(&company, &opening()).await.unwrap();
    assert_eq!(refused(&|_| {}).await, stops(Check::NamedTwice, "items.0.number"));
    company.holds().await;
}
