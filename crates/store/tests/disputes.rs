//! Disputes: what a customer will not pay, from the receipt to its end. Figures by hand.

use crate::common::*;
use till_core::day_sheet::Work;
use till_core::dispute::DisputeReason;
use till_core::ids::{CustomerId, DisputeId, InvoiceId, PersonId};
use till_core::money::Money;
use till_core::people::Role;
use till_store::day_sheet::day_sheet;
use till_store::disputes::{self, DisputeView, DisputeWords, NewDispute};
use till_store::people::{self, NewPerson};
use till_store::receipts::{self, NewApplication, NewApplications, NewReceipt};
use till_store::{Result, customers, invoices, rules};

async fn bill(company: &Company) -> InvoiceId {
    let order = company.order(0, 4).await;
    let shipment = ship(company, order, &["4", "0"], None).await;
    company.bill(shipment).await
}

async fn owner(company: &Company) -> PersonId {
    change(company, async |writing, _| {
        let new = NewPerson {
            sign_in: "ines",
            name: "Ines",
            role: Role::Clerk,
            password_hash: "$argon2id$none",
            must_change: false,
        };
        people::add(writing, &new).await
    })
    .await
    .unwrap()
}

fn words(reason: DisputeReason, said: &str, owner: Option<PersonId>) -> DisputeWords {
    DisputeWords { reason, words: said.to_owned(), owner }
}

async fn list(company: &Company, ended: bool) -> Vec<DisputeView> {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    disputes::list(&mut books, &rules, ended).await.unwrap().disputes
}

async fn open(company: &Company, new: &NewDispute) -> Result<DisputeId> {
    change(company, async |writing, rules| disputes::open(writing, rules, new).await).await
}

fn said<T: std::fmt::Debug>(outcome: Result<T>) -> String {
    format!("{:?}", outcome.unwrap_err())
}

/// 290.28 billed, 277.78 paid: 12.50 stay open and go into dispute with the posting. Then 7.50 more are paid: 5.00 stay in dispute.
/// Then the rest: it ends by itself.
#[tokio::test]
async fn a_short_payment_goes_into_dispute() {
    let company = Company::new().await;
    let ines = owner(&company).await;
    let invoice = bill(&company).await;
    let to = NewApplication {
        dispute: Some(words(DisputeReason::Damaged, "one jar broken", Some(ines))),
        ..NewApplication::to_invoice(invoice, "277.78")
    };
    let pay = async |amount: &str, to: NewApplication| {
        let new = NewReceipt {
            customer: CustomerId(1),
            method: "transfer".to_owned(),
            date: None,
            amount: amount.to_owned(),
            reference: None,
            applications: Some(vec![to]),
            first: None,
            with: Vec::new(),
            currency: None,
        };
        company.receive(&new).await
    };
    // What pays all of it leaves nothing to dispute, and nothing is posted.
    let nothing = NewApplication { amount: "290.28".to_owned(), ..to.clone() };
    assert!(said(pay("290.28", nothing).await).contains("applications.0.dispute"));
    pay("277.78", to.clone()).await.unwrap();
    company.holds().await;
    let standing = list(&company, false).await;
    assert_eq!(standing.len(), 1);
    let one = &standing[0];
    assert_eq!((one.amount, one.open, one.reason), (Money(1_250), Money(1_250), DisputeReason::Damaged));
    assert_eq!((one.owner_name.as_deref(), one.words.as_str()), (Some("Ines"), "one jar broken"));
    // On the invoice, on the account, on the day sheet.
    let mut books = company.store.read().await.unwrap();
    assert_eq!(invoices::view(&mut books, invoice).await.unwrap().dispute.unwrap().amount, Money(1_250));
    assert_eq!(customers::view(&mut books, CustomerId(1)).await.unwrap().open_items[0].disputed, Money(1_250));
    let sheet = day_sheet(&mut books, None).await.unwrap();
    let row = sheet.items.iter().find(|item| item.work == Work::Disputed).unwrap();
    assert!(row.why.ends_with("damaged, one jar broken, Ines looks after it"), "{}", row.why);
    assert_eq!(row.amount, Money(1_250));
    drop(books);
    // A second one over the same is refused, wherever it comes from, and nothing of that receipt is left.
    let again = NewApplication { amount: "5".to_owned(), ..to };
    assert!(said(pay("5", again).await).contains("in dispute already"));
    pay("7.50", NewApplication::to_invoice(invoice, "7.50")).await.unwrap();
    assert_eq!(list(&company, false).await[0].amount, Money(500));
    pay("5", NewApplication::to_invoice(invoice, "5")).await.unwrap();
    assert!(list(&company, false).await.is_empty());
    let ended = list(&company, true).await;
    assert_eq!((ended.len(), ended[0].outcome.clone(), ended[0].open), (1, None, Money(0)));
    company.holds().await;
}

/// From the invoice: put into dispute, given to someone else, closed. What was open stays open.
#[tokio::test]
async fn a_dispute_is_looked_after_and_closed() {
    let company = Company::new().await;
    let ines = owner(&company).await;
    let invoice = bill(&company).await;
    let new = |amount: Option<&str>, what: DisputeWords| NewDispute {
        item: None,
        invoice: Some(invoice),
        amount: amount.map(str::to_owned),
        what,
    };
    let price = || words(DisputeReason::Price, "", None);
    for (wrong, named) in [
        (new(Some("290.29"), price()), "Only 290.28 EUR of it are open"),
        (new(Some("0"), price()), "more than zero"),
        (new(Some("ten"), price()), "ten"),
        (new(None, words(DisputeReason::Other, "", None)), "Say what it is about"),
        (new(None, words(DisputeReason::Price, "", Some(PersonId(99)))), "owner"),
        (NewDispute { invoice: None, ..new(None, price()) }, "Name what is not paid"),
        (NewDispute { invoice: Some(InvoiceId(99)), ..new(None, price()) }, "Name what is not paid"),
    ] {
        let found = said(open(&company, &wrong).await);
        assert!(found.contains(named), "{wrong:?}: {found}");
    }
    let id = open(&company, &new(Some("59"), price())).await.unwrap();
    assert!(said(open(&company, &new(None, price())).await).contains("in dispute already"));
    let keep = async |version: i64, what: &DisputeWords| {
        change(&company, async |writing, rules| disputes::change(writing, rules, (id, version), what).await).await
    };
    let hers = words(DisputeReason::Quantity, "three came", Some(ines));
    assert_eq!(keep(1, &hers).await.unwrap(), 2);
    assert!(said(keep(1, &price()).await).contains("Stale"));
    let one = list(&company, false).await.remove(0);
    assert_eq!((one.amount, one.reason, one.owner), (Money(5_900), DisputeReason::Quantity, Some(ines)));
    let close = async |version: i64, outcome: &str| {
        change(&company, async |writing, rules| disputes::close(writing, rules, (id, version), outcome).await).await
    };
    assert!(said(close(2, " ").await).contains("outcome"));
    close(2, "they pay after all").await.unwrap();
    assert!(said(close(3, "again").await).contains("is closed"));
    assert!(said(keep(3, &price()).await).contains("is closed"));
    let mut books = company.store.read().await.unwrap();
    let view = invoices::view(&mut books, invoice).await.unwrap();
    assert_eq!((view.dispute, view.open), (None, Some(Money(29_028))));
    drop(books);
    let ended = list(&company, true).await;
    assert_eq!((ended[0].outcome.as_deref(), ended[0].amount), (Some("they pay after all"), Money(5_900)));
    // Another one may follow; what lies unapplied puts what stays open into dispute as well.
    let new = NewReceipt {
        customer: CustomerId(1),
        method: "transfer".to_owned(),
        date: None,
        amount: "100".to_owned(),
        reference: None,
        applications: Some(Vec::new()),
        first: None,
        with: Vec::new(),
        currency: None,
    };
    let money = company.receive(&new).await.unwrap();
    let apply = NewApplications {
        date: None,
        applications: Some(vec![NewApplication {
            dispute: Some(price()),
            ..NewApplication::to_invoice(invoice, "100")
        }]),
    };
    change(&company, async |writing, rules| receipts::apply(writing, rules, money.id, 1, &apply, None).await)
        .await
        .unwrap();
    assert_eq!(list(&company, false).await[0].amount, Money(19_028));
    company.holds().await;
}
