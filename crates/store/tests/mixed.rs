//! Money together with credits, and by a remittance advice: from the screen to the ledger. Figures by hand.

use crate::common::*;
use till_core::ids::{CustomerId, InvoiceId, OpenItemId};
use till_core::money::Money;
use till_core::remittance::{Advised, Remark};
use till_store::receipts::{self, MoneyPreview, NewApplication, NewReceipt, PostedReceipt};
use till_store::{Result, customers, disputes, rules};

async fn invoice(company: &Company, customer: usize, pieces: i64) -> InvoiceId {
    let order = company.order(customer, pieces).await;
    let shipment = ship(company, order, &[&pieces.to_string(), "0"], None).await;
    company.bill(shipment).await
}

fn money(amount: &str, applications: Option<Vec<NewApplication>>, with: Vec<OpenItemId>) -> NewReceipt {
    NewReceipt {
        customer: CustomerId(1),
        method: "transfer".to_owned(),
        date: None,
        amount: amount.to_owned(),
        reference: None,
        applications,
        first: None,
        with,
        currency: None,
    }
}

async fn preview(company: &Company, new: &NewReceipt) -> Result<MoneyPreview> {
    company
        .store
        .rehearse(&by(), async |writing| {
            let rules = rules::load(writing).await?;
            receipts::preview_mixed(writing, &rules, new).await
        })
        .await
}

async fn post(company: &Company, new: &NewReceipt, seen: Option<&str>) -> Result<PostedReceipt> {
    change(company, async |writing, rules| receipts::post(writing, rules, new, seen).await).await
}

async fn open(company: &Company) -> Vec<i64> {
    let view = customers::view(&mut company.store.read().await.unwrap(), CustomerId(1)).await.unwrap();
    view.open_items.iter().map(|item| item.open.0).collect()
}

async fn credits(company: &Company) -> Vec<(OpenItemId, i64)> {
    let view = customers::view(&mut company.store.read().await.unwrap(), CustomerId(1)).await.unwrap();
    view.credits.iter().map(|one| (one.item, one.open.0)).collect()
}

/// Invoices of 290.28 and 72.57; 67.40 and 20.00 lie unapplied. 275.45 come: with both credits that is exactly 362.85, and both
/// invoices are settled. Preview writes nothing; what was seen is posted.
#[tokio::test]
async fn money_and_credits_settle_together() {
    let company = Company::new().await;
    let first = invoice(&company, 0, 4).await;
    let second = invoice(&company, 0, 1).await;
    for amount in ["67.40", "20"] {
        company.receive(&money(amount, Some(Vec::new()), Vec::new())).await.unwrap();
    }
    let lying = credits(&company).await;
    assert_eq!(lying.iter().map(|one| one.1).collect::<Vec<_>>(), [6_740, 2_000]);
    let with: Vec<OpenItemId> = lying.iter().map(|one| one.0).collect();
    let new = money("275.45", None, with.clone());
    let seen = preview(&company, &new).await.unwrap();
    assert_eq!(seen.with.iter().map(|one| one.amount.0).collect::<Vec<_>>(), [6_740, 2_000]);
    assert_eq!(seen.document.unapplied, Money(0));
    assert_eq!(open(&company).await, [29_028, 7_257], "a preview writes nothing");
    let other = money("275.44", None, with.clone());
    assert!(format!("{:?}", post(&company, &other, Some(&seen.fingerprint)).await).contains("Moved"));
    assert_eq!(open(&company).await, [29_028, 7_257]);
    post(&company, &new, Some(&seen.fingerprint)).await.unwrap();
    company.holds().await;
    assert_eq!(open(&company).await, Vec::<i64>::new());
    assert!(credits(&company).await.is_empty());
    let _ = (first, second);
}

/// As typed: 290.28 go to the first and 30.00 to the second, of 67.40 that lie there and 252.88 that come.
#[tokio::test]
async fn amounts_say_what_goes_there_in_all() {
    let company = Company::new().await;
    let first = invoice(&company, 0, 4).await;
    let second = invoice(&company, 0, 1).await;
    company.receive(&money("67.40", Some(Vec::new()), Vec::new())).await.unwrap();
    let credit = credits(&company).await[0].0;
    let to = vec![NewApplication::to_invoice(first, "290.28"), NewApplication::to_invoice(second, "30")];
    let new = money("252.88", Some(to.clone()), vec![credit]);
    let seen = preview(&company, &new).await.unwrap();
    let parts: Vec<_> = seen.document.applied.iter().map(|one| one.credit_amount.0).collect();
    assert_eq!(parts, [22_288, 3_000], "67.40 of the first come from the credit");
    post(&company, &new, Some(&seen.fingerprint)).await.unwrap();
    company.holds().await;
    assert_eq!(open(&company).await, [4_257]);
    // What cannot be used is said at its place, and nothing is written.
    for (with, named) in [(vec![credit], "Nothing of"), (vec![OpenItemId(999)], "no credit of this customer")] {
        let outcome = post(&company, &money("1", None, with), None).await;
        let said = format!("{outcome:?}");
        assert!(said.contains("with.0") && said.contains(named), "{said}");
    }
    let foreign = NewReceipt { customer: company.customers[1], ..money("5", Some(Vec::new()), Vec::new()) };
    company.receive(&foreign).await.unwrap();
    let theirs = customers::view(&mut company.store.read().await.unwrap(), company.customers[1]).await.unwrap().credits;
    let outcome = post(&company, &money("1", None, vec![theirs[0].item]), None).await;
    assert!(format!("{outcome:?}").contains("someone else's"));
    company.holds().await;
}

/// An advice of three lines and one nobody knows: 290.28 whole, 72.57 less 2.57 for a broken jar, 10.00 for a number that is none.
#[tokio::test]
async fn an_advice_is_applied_in_one_posting() {
    let company = Company::new().await;
    let first = invoice(&company, 0, 4).await;
    let second = invoice(&company, 0, 1).await;
    let numbers = {
        let mut books = company.store.read().await.unwrap();
        let of = async |books: &mut _, id| till_store::invoices::view(books, id).await.unwrap().number.unwrap();
        [of(&mut books, first).await, of(&mut books, second).await]
    };
    let lines = [(numbers[0].as_str(), 29_028, 0), (numbers[1].as_str(), 7_000, 257), ("I-4711", 1_000, 0)];
    let lines = lines.map(|(number, paid, deducted)| Advised {
        number: number.to_owned(),
        paid: Money(paid),
        deducted: Money(deducted),
        words: if deducted > 0 { "broken jar".to_owned() } else { String::new() },
        ..Advised::default()
    });
    let advice = {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        receipts::advice(&mut books, &rules, (CustomerId(1), None), &lines).await.unwrap()
    };
    assert_eq!((advice.paid, advice.to_items, advice.not_found), (Money(37_028), Money(36_028), 1));
    assert_eq!(advice.lines[2].allotted.remark, Some(Remark::NotOpen));
    post(&company, &money("370.28", Some(advice.applications), Vec::new()), None).await.unwrap();
    company.holds().await;
    assert_eq!((open(&company).await, credits(&company).await[0].1), (vec![257], 1_000));
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let dispute = disputes::list(&mut books, &rules, false).await.unwrap().disputes.remove(0);
    assert_eq!((dispute.amount, dispute.words.as_str()), (Money(257), "broken jar"));
}
