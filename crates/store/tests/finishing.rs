//! Orders to finish, and a finished one that is opened again. Figures by hand.

use crate::common::*;
use till_core::ids::{CustomerId, OrderId, PersonId};
use till_core::money::Money;
use till_core::order::{Frees, Hangs};
use till_core::people::Role;
use till_store::customers::Outcome;
use till_store::receipts::{NewApplication, NewReceipt};
use till_store::{Actor, Result, orders, rules};

async fn amend(company: &Company, who: &Actor, order: OrderId, quantity: &str) -> Result<Outcome> {
    company
        .store
        .change(who, None, async |writing| {
            let rules = rules::load(writing).await?;
            let version = orders::view(writing, order).await?.version;
            let mut form = orders::form(writing, order).await?;
            form.lines[0].quantity = quantity.to_owned();
            orders::change(writing, &rules, order, version, &form).await
        })
        .await
}

/// 4 pieces of 59.00 and their tax, shipped and billed with 290.28 to be paid: it is to finish. Paid, it is closed. A clerk does not
/// open it again; a supervisor does, with two pieces more.
#[tokio::test]
async fn an_order_closes_by_itself_and_is_reopened_by_right() {
    let company = Company::new().await;
    let order = company.order(0, 4).await;
    let shipment = ship(&company, order, &["4", "1"], None).await;
    let invoice = company.bill(shipment).await;
    let listed = async || orders::to_finish(&mut company.store.read().await.unwrap()).await.unwrap();
    let found = listed().await;
    assert_eq!((found.len(), found[0].id, found[0].currency.code()), (1, order, "EUR"));
    let [only] = found[0].hanging.as_slice() else { panic!("{found:?}") };
    assert_eq!((only.what, only.step, only.amount), (Hangs::ToPay, Frees::Receive, found[0].open));
    let pay = async |amount: Money| {
        let new = NewReceipt {
            customer: CustomerId(1),
            method: "transfer".to_owned(),
            date: None,
            amount: found[0].currency.format(amount),
            reference: None,
            applications: Some(vec![NewApplication::to_invoice(invoice, found[0].currency.format(amount))]),
            first: None,
            with: Vec::new(),
            currency: None,
        };
        company.receive(&new).await.unwrap();
    };
    pay(Money(100)).await;
    assert_eq!(listed().await[0].open, found[0].open - Money(100));
    pay(found[0].open - Money(100)).await;
    assert!(listed().await.is_empty());
    let state = async || orders::view(&mut company.store.read().await.unwrap(), order).await.unwrap().row.state;
    assert_eq!(format!("{:?}", state().await), "Closed");
    let clerk = Actor::person(PersonId(1), "tess", Role::Clerk, "here", by().at);
    let refused = format!("{:?}", amend(&company, &clerk, order, "6").await.unwrap_err());
    assert!(refused.contains("is closed") && refused.contains("Ask a supervisor"), "{refused}");
    let lead = Actor::person(PersonId(2), "lee", Role::Lead, "here", by().at);
    amend(&company, &lead, order, "6").await.unwrap();
    assert_eq!(format!("{:?}", state().await), "Open");
    company.holds().await;
}
