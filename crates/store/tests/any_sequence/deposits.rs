//! Steps of customer deposits: taken, said on drafts, applied, unapplied, moved, refunded, kept, typed in error.

use till_core::deposit::AdvanceTax;
use till_core::deposit::ending::EndKind;
use till_core::deposit::using::DepositUse;
use till_core::ids::{DepositId, ReceiptId};
use till_core::money::Money;
use till_store::deposits::{self, DepositView, NewDeposit, NewEnd, ToMove};
use till_store::invoices::{self, DepositWish};
use till_store::receipts::{self, NewApplications, ReceiptView, ToReverse, ToUnapply};
use till_store::settings::{self, CompanySettings};
use till_store::{customers, orders, rules};

use super::common::*;
use super::{Made, Step, run_billing};

async fn view(company: &Company, id: DepositId) -> DepositView {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    deposits::view(&mut books, &rules, id).await.unwrap()
}

/// The deposit asked for, or the next one that has what is wanted.
async fn one_with(
    company: &Company,
    made: &Made,
    at: usize,
    wanted: impl Fn(&DepositView) -> bool,
) -> (DepositId, DepositView) {
    let mut first = None;
    for offset in 0..made.deposits.len() {
        let id = made.deposits[(at + offset) % made.deposits.len()];
        let view = view(company, id).await;
        if wanted(&view) {
            return (id, view);
        }
        first.get_or_insert((id, view));
    }
    first.unwrap()
}

/// The receipt asked for, or the next one with money that lies unapplied.
async fn unapplied(company: &Company, made: &Made, at: usize) -> (ReceiptId, ReceiptView) {
    let mut books = company.store.read().await.unwrap();
    let mut first = None;
    for offset in 0..made.receipts.len() {
        let id = made.receipts[(at + offset) % made.receipts.len()];
        let view = receipts::view(&mut books, id).await.unwrap();
        if view.row.unapplied.is_positive() {
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
        Step::TakeDeposit { customer, order, minor } => {
            let order = order.filter(|_| !made.orders.is_empty()).map(|at| made.orders[at % made.orders.len()]);
            let mut books = store.read().await.unwrap();
            let (customer, currency) = match order {
                Some(order) => {
                    let order = orders::view(&mut books, order).await.unwrap();
                    (order.row.customer, order.row.currency)
                }
                None => {
                    let customer = company.customers[*customer];
                    (customer, customers::view(&mut books, customer).await.unwrap().currency)
                }
            };
            drop(books);
            let new = NewDeposit {
                receipt: None,
                customer,
                order,
                quote: None,
                method: if minor % 2 == 0 { "check" } else { "transfer" }.to_owned(),
                date,
                amount: currency.format(Money(*minor)),
                reference: None,
                memo: None,
            };
            let taken = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    deposits::take(writing, &rules, &new, None).await
                })
                .await;
            let taken = made.note("take deposit", taken);
            made.deposits.extend(taken.map(|taken| taken.id));
        }
        Step::Regime { at_receipt, proportion } => {
            let version = settings::view(&mut *store.read().await.unwrap()).await.unwrap();
            let new = CompanySettings {
                write_off_tolerance: None,
                version: version.version,
                company: version.company,
                tax_computed: version.tax_computed,
                tax_date: None,
                dates_in_order: None,
                advance_tax: Some(if *at_receipt { AdvanceTax::AtReceipt } else { AdvanceTax::AtInvoice }),
                hold_until_prepaid: None,
                deposit_use: Some(if *proportion { DepositUse::InProportion } else { DepositUse::First }),
                fixed_date: version.fixed_date,
            };
            let done = store.change(&by(), None, async |writing| settings::change_company(writing, &new).await).await;
            made.note("regime", done);
        }
        Step::EndDeposit { deposit, refund, minor } if !made.deposits.is_empty() => {
            let (id, view) = one_with(company, made, *deposit, |view| view.row.held.is_positive()).await;
            let wish = NewEnd {
                kind: if *refund { EndKind::Refunded } else { EndKind::Kept },
                amount: minor.map(|minor| view.row.currency.format(Money(minor))),
                method: refund.then(|| "transfer".to_owned()),
                date,
                reason: "by chance".to_owned(),
            };
            let done = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    deposits::end(writing, &rules, id, (Some(view.version), None), &wish).await
                })
                .await;
            made.note(if *refund { "refund" } else { "keep" }, done);
        }
        Step::MoveDeposit { deposit, order } if !made.deposits.is_empty() => {
            let (id, view) = one_with(company, made, *deposit, |view| view.row.held.is_positive()).await;
            let order = order.filter(|_| !made.orders.is_empty()).map(|at| made.orders[at % made.orders.len()]);
            let wish = ToMove { order, reason: "by chance".to_owned() };
            let done = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    deposits::move_to(writing, &rules, id, view.version, &wish).await
                })
                .await;
            made.note("move deposit", done);
        }
        Step::UnapplyDeposit { deposit } if !made.deposits.is_empty() => {
            let (id, view) = one_with(company, made, *deposit, |view| !view.applications.is_empty()).await;
            let wish = ToUnapply {
                applications: view.applications.first().map(|first| vec![first.id]),
                date,
                reason: "by chance".to_owned(),
            };
            let id = ReceiptId(id.0);
            let done = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    let seen = receipts::preview_unapply(writing, &rules, id, &wish).await?.fingerprint;
                    receipts::unapply(writing, &rules, id, (view.version, &seen), &wish).await
                })
                .await;
            made.note("unapply deposit", done);
        }
        Step::ApplyDeposit { deposit } if !made.deposits.is_empty() => {
            let (id, view) = one_with(company, made, *deposit, |view| view.row.held.is_positive()).await;
            let new = NewApplications { date, applications: None };
            let done = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    receipts::apply(writing, &rules, ReceiptId(id.0), view.version, &new, None).await
                })
                .await;
            made.note("apply deposit", done);
        }
        Step::ReverseDeposit { deposit } if !made.deposits.is_empty() => {
            let id = made.deposits[deposit % made.deposits.len()];
            let version = view(company, id).await.version;
            let wish = ToReverse { date, reason: "by chance".to_owned() };
            let done = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    let seen = deposits::preview_reverse(writing, &rules, id, &wish).await?.fingerprint;
                    deposits::reverse(writing, &rules, id, (version, &seen), &wish).await
                })
                .await;
            if made.note("reverse deposit", done).is_some() {
                let after = view(company, id).await;
                assert_eq!((after.row.held, after.row.applied), (Money::ZERO, Money::ZERO));
            }
        }
        Step::TurnIntoDeposit { receipt, order, minor } if !made.receipts.is_empty() => {
            let (id, receipt) = unapplied(company, made, *receipt).await;
            let order = order.filter(|_| !made.orders.is_empty()).map(|at| made.orders[at % made.orders.len()]);
            let new = NewDeposit {
                receipt: Some(id),
                customer: receipt.row.customer,
                order,
                quote: None,
                method: String::new(),
                date,
                amount: receipt.row.currency.format(minor.map_or(receipt.row.unapplied, Money)),
                reference: None,
                memo: None,
            };
            let taken = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    deposits::take(writing, &rules, &new, None).await
                })
                .await;
            let taken = made.note("turn into a deposit", taken);
            made.deposits.extend(taken.map(|taken| taken.id));
        }
        Step::UndoEnd { deposit } if !made.deposits.is_empty() => {
            let stands = |view: &DepositView| view.ends.iter().any(|end| end.id.is_some() && end.reversed_on.is_none());
            let (id, view) = one_with(company, made, *deposit, stands).await;
            let Some(end) = view.ends.iter().find_map(|end| end.id) else { return };
            let wish = ToReverse { date, reason: "by chance".to_owned() };
            let done = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    let seen = deposits::preview_undo(writing, &rules, (id, end), &wish).await?.fingerprint;
                    deposits::undo(writing, &rules, (id, end), (view.version, &seen), &wish).await
                })
                .await;
            made.note("undo the end of a deposit", done);
        }
        Step::SayDeposit { draft, minor } if !made.drafts.is_empty() => {
            let draft = made.drafts[draft % made.drafts.len()];
            let Ok(view) = invoices::view(&mut *store.read().await.unwrap(), draft).await else { return };
            let (Some(first), Some(document)) = (view.deposits.first(), &view.document) else { return };
            let amount = Some(document.currency.format(Money(*minor)));
            let wish = DepositWish { version: view.version, item: first.item, amount };
            let done = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    invoices::change_deposit(writing, &rules, draft, &wish).await
                })
                .await;
            made.note("say deposit", done);
        }
        step => run_billing(company, made, step).await,
    }
}
