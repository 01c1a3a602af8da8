//! Steps of money and containers that are taken back.

use till_core::ids::{DocumentKind, ReceiptId};
use till_core::money::Money;
use till_store::containers::{self, BroughtBack};
use till_store::receipts::{self, ReceiptView, ToReverse, ToUnapply};
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
