//! Steps of the bank: statements come in, lines are accepted, booked and undone.

use till_core::bank::{Balance, BankLine, BankLineKind, BankStatement};
use till_core::ids::{BankMatchId, BankStatementId};
use till_core::money::{Currency, Money};
use till_core::settle::creditor_reference;
use till_store::bank::{self, BankAccountForm, LineFilter, StatementView, ToAccept};
use till_store::{customers, rules};

use super::Made;
use super::common::*;

const ACCOUNT: &str = "XX33MARR0001234567";

/// Says the number of the account.
pub(crate) async fn begin(company: &Company) {
    change(company, async |writing, _| {
        bank::set_account(writing, "bank", &BankAccountForm { number: ACCOUNT.to_owned() }).await
    })
    .await
    .unwrap();
}

/// What the bank says of a day: some of what the books expect, a payment that names what it pays, one of a part, one of nobody, a fee.
async fn statement(company: &Company, made: &Made, minor: i64) -> BankStatement {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let on = made.on.min(rules.business_date);
    let state = bank::accounts(&mut books, &rules).await.unwrap().remove(0);
    let opening = state.reconciliation.map_or(Money(minor * 7), |one| one.bank);
    let mut lines: Vec<BankLine> = bank::outstanding(&mut books, &rules, "bank")
        .await
        .unwrap()
        .into_iter()
        .filter(|one| one.date <= on)
        .take(usize::try_from(minor.unsigned_abs() % 3).unwrap())
        .map(|one| BankLine::plain(on, one.amount, &format!("{} {}", one.document.number, one.words)))
        .collect();
    for customer in &company.customers[..2] {
        let view = customers::view(&mut books, *customer).await.unwrap();
        let Some(item) = view.open_items.iter().find(|item| item.document_date <= on) else { continue };
        let part = if minor % 3 == 0 { Money(item.open.0 / 2 + 1) } else { item.open };
        lines.push(BankLine {
            reference: if minor % 2 == 0 { creditor_reference(&item.number) } else { None },
            party: Some(view.name.to_uppercase()),
            party_account: Some(format!("XX00{}", customer.0)),
            ..BankLine::plain(on, part, &item.number)
        });
    }
    lines.push(BankLine::plain(on, Money(minor.abs() % 900 + 1), "nobody knows"));
    lines.push(BankLine { kind: BankLineKind::Fee, ..BankLine::plain(on, Money(-(minor.abs() % 70) - 1), "fee") });
    let balance = |amount| Balance { date: on, amount };
    BankStatement {
        bank_id: minor.to_string(),
        account: ACCOUNT.to_owned(),
        currency: Currency::of("EUR").unwrap(),
        opening: balance(opening),
        closing: balance(opening + lines.iter().map(|line| line.amount).sum()),
        lines,
    }
}

/// A statement with something open, the last of those; else the last one.
async fn one(company: &Company) -> Option<StatementView> {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let list = bank::list(&mut books, (50, 0)).await.unwrap().statements;
    let id = list.iter().find(|row| row.open > 0).or(list.first())?.id;
    Some(bank::view(&mut books, &rules, id, LineFilter::All).await.unwrap())
}

pub(crate) async fn run(company: &Company, made: &mut Made, what: u8, minor: i64) {
    if what == 0 {
        let statement = statement(company, made, minor).await;
        let taken = change(company, async |writing, rules| {
            bank::take_in(writing, rules, "day.xml", std::slice::from_ref(&statement)).await
        })
        .await;
        made.note("take a statement in", taken);
        return;
    }
    let Some(view) = one(company).await else { return };
    let id: BankStatementId = view.row.id;
    let line = view.line_list.iter().find(|line| line.left != Money::ZERO);
    match (what, line) {
        (1, _) => {
            let sure = change(company, async |writing, rules| {
                bank::accept_sure(writing, rules, id, Some(&view.sure_mark)).await
            });
            let sure = sure.await;
            made.note("accept what is sure", sure);
        }
        (2, Some(line)) => {
            let Some(proposal) = line.proposals.first() else { return };
            let outcome = change(company, async |writing, rules| {
                let seen = bank::preview_accept(writing, rules, line.id, &proposal.accept).await?.fingerprint;
                bank::accept(writing, rules, line.id, &proposal.accept, Some(&seen)).await
            });
            let outcome = outcome.await;
            made.note("accept a line", outcome);
        }
        (3, Some(line)) => {
            let amount = (minor % 2 == 0).then(|| "0.01".to_owned());
            let wish = ToAccept::Book { account: None, interest: minor % 3 == 0, text: String::new(), amount };
            let outcome =
                change(company, async |writing, rules| bank::accept(writing, rules, line.id, &wish, None).await).await;
            made.note("book a line", outcome);
        }
        _ => {
            let matches: Vec<BankMatchId> =
                view.line_list.iter().flat_map(|line| line.matches.iter().map(|one| one.id)).collect();
            if matches.is_empty() {
                return;
            }
            let at = usize::try_from(minor.unsigned_abs()).unwrap() % matches.len();
            let outcome =
                change(company, async |writing, rules| bank::undo(writing, rules, matches[at], "by chance").await)
                    .await;
            made.note("undo a line", outcome);
        }
    }
    // Bank and books differ by nothing that is not said, on every day.
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let state = bank::accounts(&mut books, &rules).await.unwrap().remove(0);
    assert_eq!(state.reconciliation.unwrap().difference, Money::ZERO, "{state:?}");
}
