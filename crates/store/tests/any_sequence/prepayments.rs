//! Steps of prepayment invoices: asked as a share, net or with tax, lines in and out; what is canceled or left credited.

use till_core::money::Money;
use till_core::prepayment::asking::AskAs;
use till_store::invoices::{self, ToCredit};
use till_store::prepayments::{self, AdvanceForm, AdvanceLine};
use till_store::rules;

use super::common::*;
use super::{Made, Step, deposits};

pub(crate) async fn run(company: &Company, made: &mut Made, step: &Step) {
    let store = &company.store;
    match step {
        Step::AskAhead { order, how, percent, minor } if !made.orders.is_empty() => {
            let order = made.orders[order % made.orders.len()];
            let mut books = store.read().await.unwrap();
            let rules = rules::load(&mut books).await.unwrap();
            let plan = prepayments::plan(&mut books, &rules, order, None).await.unwrap();
            drop(books);
            let ask_as = [AskAs::Percent, AskAs::Percent, AskAs::Net, AskAs::Gross][usize::from(how % 4)];
            let lines = plan.lines.iter().filter(|_| how % 3 == 0).take(1);
            let form = AdvanceForm {
                ask_as,
                percent: Some(percent.to_string()),
                amount: Some(plan.currency.format(Money(*minor))),
                lines: lines
                    .map(|line| AdvanceLine {
                        order_line: line.order_line,
                        included: Some(how % 2 == 0),
                        percent: None,
                    })
                    .collect(),
                document_date: Some(made.on),
                ..AdvanceForm::default()
            };
            let billed = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    prepayments::bill(writing, &rules, order, &form).await
                })
                .await;
            let billed = made.note("ask ahead", billed);
            made.invoices.extend(billed.map(|posted| posted.id));
        }
        Step::CreditAhead { order, all } if !made.orders.is_empty() => {
            // The order asked for, or the next one of which something can be credited.
            let mut found = None;
            for offset in 0..made.orders.len() {
                let order = made.orders[(order + offset) % made.orders.len()];
                let mut books = store.read().await.unwrap();
                let rules = rules::load(&mut books).await.unwrap();
                let plan = prepayments::plan(&mut books, &rules, order, None).await.unwrap();
                let lines = |row: prepayments::PrepaymentRow| (row.id, if *all { row.all_left } else { row.to_credit });
                found = plan.invoices.into_iter().map(lines).find(|(_, lines)| !lines.is_empty());
                if found.is_some() {
                    break;
                }
            }
            let Some((id, lines)) = found else { return };
            let wish =
                ToCredit { lines, added: Vec::new(), date: Some(made.on), reason: "by chance".to_owned(), seen: None };
            let done = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    invoices::credit(writing, &rules, id, &wish).await
                })
                .await;
            made.note(if *all { "credit what is left" } else { "credit what was canceled" }, done);
        }
        step => deposits::run(company, made, step).await,
    }
}
