//! Steps of the bank: statements come in, lines are accepted, booked and undone.

use till_core::bank::slip::SlipState;
use till_core::bank::{Balance, BankLine, BankLineKind, BankStatement};
use till_core::ids::{BankMatchId, BankStatementId, DocumentKind};
use till_core::money::{Currency, Money};
use till_core::settle::creditor_reference;
use till_store::bank::{self, BankAccountForm, LineFilter, NewSlip, StatementView, ToAccept, ToBank, ToCancelSlip};
use till_store::{customers, receipts, rules};

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
        .map(|one| {
            // Of every other slip the bank counts a cent less.
            let short = one.document.kind == DocumentKind::BankSlip && minor % 2 == 0 && one.amount > Money(1);
            let amount = if short { one.amount - Money(1) } else { one.amount };
            BankLine::plain(on, amount, &format!("{} {}", one.document.number, one.words))
        })
        .collect();
    // Now and then something that was paid comes back, with a fee or not.
    let receipts = receipts::list(&mut books, None, false, 50, 0).await.unwrap().receipts;
    let back = receipts.iter().find(|one| {
        one.currency.code() == "EUR" && one.date <= on && ["at_bank", "cleared"].contains(&one.whereabouts.as_str())
    });
    if let Some(back) = back.filter(|_| minor % 4 == 0) {
        let fee = Money(minor.abs() % 3 * 500);
        let kind = BankLineKind::Returned;
        lines.push(BankLine { kind, ..BankLine::plain(on, -back.amount - fee, &back.number) });
    }
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

/// Slips: prepared with some of what lies in hand, banked, given up.
async fn slips(company: &Company, made: &mut Made, what: u8, minor: i64) {
    let date = Some(made.on);
    let mut books = company.store.read().await.unwrap();
    let all = bank::slips(&mut books, (50, 0)).await.unwrap().slips;
    let there = bank::in_hand(&mut books).await.unwrap();
    drop(books);
    if what == 5 {
        let Some(first) = there.first() else { return };
        let same = there.iter().filter(|one| one.currency == first.currency);
        let entries = same.filter(|one| minor % 3 > 0 || one.amount.is_positive()).map(|one| one.entry).collect();
        let new = NewSlip { entries, bank: None, date };
        let outcome = change(company, async |writing, rules| {
            let seen = bank::preview_slip(writing, rules, &new).await?.fingerprint;
            bank::prepare_slip(writing, rules, &new, Some(&seen)).await
        });
        let outcome = outcome.await;
        made.note("prepare a slip", outcome);
        return;
    }
    let wanted = |row: &&bank::SlipRow| match what {
        6 => row.state == SlipState::Prepared,
        _ => row.state != SlipState::Canceled,
    };
    let Some(row) = all.iter().find(wanted) else { return };
    if what == 6 {
        let counted = match minor % 4 {
            0 => Some(row.currency.format(row.amount - Money(1))),
            1 => Some(row.currency.format(row.amount + Money(1))),
            _ => None,
        };
        let wish = ToBank { counted, date };
        let outcome = change(company, async |writing, rules| {
            let seen = bank::preview_bank_slip(writing, rules, row.id, &wish).await?.fingerprint;
            bank::bank_slip(writing, rules, row.id, (row.version, Some(&seen)), &wish).await
        });
        let outcome = outcome.await;
        made.note("bank a slip", outcome);
        return;
    }
    let wish = ToCancelSlip { reason: "by chance".to_owned(), date };
    let outcome =
        change(company, async |writing, rules| bank::cancel_slip(writing, rules, row.id, row.version, &wish).await);
    let outcome = outcome.await;
    made.note("cancel a slip", outcome);
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
    if (5..=7).contains(&what) {
        return slips(company, made, what, minor).await;
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
            let came_back = matches!(proposal.accept, ToAccept::Returned { .. });
            made.note(if came_back { "a payment comes back" } else { "accept a line" }, outcome);
        }
        (3, Some(line)) => {
            let amount = (minor % 2 == 0).then(|| "0.01".to_owned());
            let wish = ToAccept::Book { account: None, text: String::new(), amount };
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
