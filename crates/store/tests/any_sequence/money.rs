//! Steps of money and containers that are taken back.

use till_core::ids::{DocumentKind, InvoiceId, ReceiptId};
use till_core::money::Money;
use till_store::containers::{self, BroughtBack};
use till_store::customers::CustomerView;
use till_store::invoices::{self, CreditLine, ToCredit};
use till_store::receipts::{self, NewApplication, NewReceipt, ReceiptView, ToReverse, ToUnapply};
use till_store::rules;

use super::common::*;
use super::{Made, Step};

/// The receipt asked for, or the next one that has what is wanted.
pub(crate) async fn one_with(
    company: &Company,
    made: &Made,
    at: usize,
    wanted: impl Fn(&ReceiptView) -> bool,
) -> (ReceiptId, ReceiptView) {
    let mut first = None;
    for offset in 0..made.receipts.len() {
        let id = made.receipts[(at + offset) % made.receipts.len()];
        let view = receipts::view(&mut company.store.read().await.unwrap(), id).await.unwrap();
        if wanted(&view) {
            return (id, view);
        }
        first.get_or_insert((id, view));
    }
    first.unwrap()
}

pub(crate) async fn run(company: &Company, made: &mut Made, step: &Step) {
    let store = &company.store;
    let date = Some(made.on);
    match step {
        Step::Unapply { receipt, one } if !made.receipts.is_empty() => {
            let (id, view) = one_with(company, made, *receipt, |view| !view.applications.is_empty()).await;
            let first = view.applications.first().filter(|_| *one).map(|first| vec![first.id]);
            let wish = ToUnapply { applications: first, date, reason: "by chance".to_owned() };
            let outcome = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    let seen = receipts::preview_unapply(writing, &rules, id, &wish).await?.fingerprint;
                    receipts::unapply(writing, &rules, id, (view.version, &seen), &wish).await
                })
                .await;
            if made.note("unapply", outcome).is_some() && !one {
                let after = receipts::view(&mut store.read().await.unwrap(), id).await.unwrap();
                let deposits = after.applications.iter().filter(|one| one.document.kind == DocumentKind::Deposit);
                let set_aside: Money = deposits.map(|one| one.amount).sum();
                assert_eq!(after.row.unapplied, after.row.amount - set_aside, "all but deposits is free again");
            }
        }
        Step::Reverse { receipt } if !made.receipts.is_empty() => {
            let id = made.receipts[receipt % made.receipts.len()];
            let version = receipts::view(&mut store.read().await.unwrap(), id).await.unwrap().version;
            let wish = ToReverse { date, reason: "by chance".to_owned() };
            let outcome = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    let seen = receipts::preview_reverse(writing, &rules, id, &wish).await?.fingerprint;
                    receipts::reverse(writing, &rules, id, (version, &seen), &wish).await
                })
                .await;
            if made.note("reverse receipt", outcome).is_some() {
                let after = receipts::view(&mut store.read().await.unwrap(), id).await.unwrap();
                assert_eq!((after.row.unapplied, after.applications.len()), (Money::ZERO, 0));
            }
        }
        Step::ContainersBack { customer, quantity } => {
            let customer = company.customers[*customer];
            let back = BroughtBack { item: "DRUM".to_owned(), quantity: quantity.to_string(), date };
            let outcome = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    containers::take_back(writing, &rules, customer, &back, None).await
                })
                .await;
            made.note("containers back", outcome);
        }
        step => super::cards::run(company, made, step).await,
    }
}

/// Pays nearly all of an open item: less the discount or not, a few minor units too little or too much, which are written
/// off, kept, or left as they are.
pub(crate) async fn nearly_all(company: &Company, made: &mut Made, customer: &CustomerView, minor: i64) {
    let at = usize::try_from(minor.unsigned_abs()).unwrap_or(0);
    let open: Vec<_> = customer.open_items.iter().filter(|item| item.currency == customer.currency).collect();
    let Some(item) = open.get(at % open.len().max(1)) else { return };
    let less = if at % 2 == 0 { item.early.map_or(Money::ZERO, |early| early.amount) } else { Money::ZERO };
    let lacks = Money(at as i64 % 7 - 2);
    let money = customer.currency;
    let amount = money.format(item.open - less - lacks);
    let application = NewApplication {
        write_off: (at % 5 > 0).then(|| money.format(lacks)),
        discount: (at % 4 == 1).then(|| money.format(less)),
        ..NewApplication::to_item(item.item, amount.clone())
    };
    let new = NewReceipt {
        customer: customer.id,
        method: "transfer".to_owned(),
        date: Some(made.on),
        amount,
        reference: None,
        applications: Some(vec![application]),
        first: None,
        with: Vec::new(),
        currency: None,
    };
    let posted = made.note("receive", company.receive(&new).await);
    // Now and then some of what was paid so comes back: its discount goes with it.
    if posted.is_some() && less.is_positive() && item.document.kind == DocumentKind::Invoice {
        let one = CreditLine { position: 0, quantity: Some("1".to_owned()), ..CreditLine::default() };
        let wish =
            ToCredit { lines: vec![one], date: Some(made.on), reason: "not needed".to_owned(), ..ToCredit::default() };
        let invoice = InvoiceId(item.document.id);
        let credited =
            change(company, async |writing, rules| invoices::credit(writing, rules, invoice, &wish).await).await;
        made.note("credit", credited);
    }
    made.receipts.extend(posted.into_iter().map(|one| one.id));
}

/// How much of what was settled was settled without money.
pub(crate) async fn beside(company: &Company) -> [(&'static str, usize); 6] {
    let mut books = company.store.read().await.unwrap();
    let mut counts = [0; 6];
    let wanted = [
        "SELECT count(*) FROM applications WHERE discount_minor > 0",
        "SELECT count(DISTINCT application_id) FROM discount_taxes WHERE tax_minor > 0",
        "SELECT count(*) FROM applications WHERE discount_minor < 0 AND debit_minor < 0",
        "SELECT count(*) FROM applications WHERE discount_minor < 0 AND debit_minor = 0",
        "SELECT count(*) FROM applications WHERE written_off_minor > 0",
        "SELECT count(*) FROM applications WHERE kept_minor > 0",
    ];
    for (count, sql) in counts.iter_mut().zip(wanted) {
        let found: i64 = sqlx::query_scalar(sql).fetch_one(&mut *books).await.unwrap();
        *count = usize::try_from(found).unwrap();
    }
    let [discounts, taxed, back, credited, written_off, kept] = counts;
    [
        ("discounts for early payment", discounts),
        ("discounts that took tax", taxed),
        ("discounts taken back", back),
        ("discounts that went back with a credit", credited),
        ("written off", written_off),
        ("kept as income", kept),
    ]
}
