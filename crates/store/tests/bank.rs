//! Bank statements, from the file to the ledger and back. Figures by hand; rows of postings.md, Money.

use crate::common::*;
use sqlx::Connection as _;
use till_core::bank::{Balance, BankLine, BankLineKind, BankStatement, Certainty};
use till_core::ids::{BankLineId, BankStatementId, CustomerId, DocumentKind, InvoiceId};
use till_core::money::{Currency, Money};
use till_core::settle::creditor_reference;
use till_store::bank::{self, Accepted, AccountState, BankAccountForm, LineFilter, StatementView, TakenIn, ToAccept};
use till_store::receipts::{self, NewReceipt};
use till_store::{Result, customers, ledger, rules, verify};

const ACCOUNT: &str = "XX33MARR0001234567";

async fn with_account() -> Company {
    let company = Company::new().await;
    change(&company, async |writing, _| {
        bank::set_account(writing, "bank", &BankAccountForm { number: "XX33 MARR 0001 2345 67".to_owned() }).await
    })
    .await
    .unwrap();
    company
}

/// An invoice of the first customer over so many pieces of 59.00, with its number.
async fn invoice(company: &Company, pieces: i64) -> (InvoiceId, String) {
    let order = company.order(0, pieces).await;
    let shipment = ship(company, order, &[&pieces.to_string(), "0"], None).await;
    let id = company.bill(shipment).await;
    let number =
        till_store::invoices::view(&mut company.store.read().await.unwrap(), id).await.unwrap().number.unwrap();
    (id, number)
}

async fn rules_of(company: &Company) -> rules::Rules {
    rules::load(&mut company.store.read().await.unwrap()).await.unwrap()
}

fn statement(id: &str, on: &str, opening: i64, lines: Vec<BankLine>) -> BankStatement {
    let all: i64 = lines.iter().map(|line| line.amount.0).sum();
    let balance = |amount| Balance { date: day(on), amount: Money(amount) };
    BankStatement {
        bank_id: id.to_owned(),
        account: ACCOUNT.to_owned(),
        currency: Currency::of("EUR").unwrap(),
        opening: balance(opening),
        closing: balance(opening + all),
        lines,
    }
}

fn line(on: &str, amount: i64, words: &str) -> BankLine {
    BankLine::plain(day(on), Money(amount), words)
}

async fn take_in(company: &Company, file: &str, statements: &[BankStatement]) -> Result<TakenIn> {
    change(company, async |writing, rules| bank::take_in(writing, rules, file, statements).await).await
}

async fn view(company: &Company, id: BankStatementId) -> StatementView {
    let rules = rules_of(company).await;
    bank::view(&mut company.store.read().await.unwrap(), &rules, id, LineFilter::All).await.unwrap()
}

async fn accept(company: &Company, line: BankLineId, wish: &ToAccept) -> Result<Accepted> {
    change(company, async |writing, rules| {
        let seen = bank::preview_accept(writing, rules, line, wish).await?.fingerprint;
        bank::accept(writing, rules, line, wish, Some(&seen)).await
    })
    .await
}

async fn state(company: &Company) -> AccountState {
    let rules = rules_of(company).await;
    bank::accounts(&mut company.store.read().await.unwrap(), &rules).await.unwrap().remove(0)
}

fn said<T: std::fmt::Debug>(outcome: Result<T>) -> String {
    outcome.unwrap_err().to_string()
}

async fn entry_lines(company: &Company, kind: DocumentKind, id: i64) -> Vec<Vec<(String, i64)>> {
    let all = ledger::entries_of(&mut company.store.read().await.unwrap(), kind, id).await.unwrap();
    let lines =
        |one: &ledger::PostedEntry| one.entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect();
    all.iter().map(lines).collect()
}

#[tokio::test]
async fn a_statement_comes_in_once_and_in_its_order() {
    let company = with_account().await;
    let first = statement("1", "2026-03-16", 100_000, vec![line("2026-03-16", 5_000, "x")]);
    let second =
        statement("2", "2026-03-17", 105_000, vec![line("2026-03-17", -650, "fee"), line("2026-03-17", 1_000, "y")]);
    // The second cannot come first.
    let taken = take_in(&company, "both.xml", &[second.clone(), first.clone()]).await.unwrap();
    assert_eq!((taken.statements.len(), taken.lines, taken.known), (2, 3, 0), "a file may hold them in any order");
    company.holds().await;
    // The same again, under another name and another id of the bank: nothing is doubled.
    let renamed = BankStatement { bank_id: "other".to_owned(), ..first.clone() };
    assert!(said(take_in(&company, "again.xml", &[renamed, second.clone()]).await).contains("here already"));
    let third = statement("4", "2026-03-18", 105_340, vec![line("2026-03-18", 10, "z")]);
    let gap = said(take_in(&company, "gap.xml", &[third]).await);
    assert!(gap.contains("BS-2 closed with 1,053.50 on 17 Mar 2026, this statement opens with 1,053.40"), "{gap}");
    let mut apart = statement("3", "2026-03-18", 105_350, vec![line("2026-03-18", 10, "z")]);
    apart.closing.amount += Money(1);
    assert!(said(take_in(&company, "apart.xml", &[apart]).await).contains("is not whole"));
    let pounds =
        BankStatement { currency: Currency::of("GBP").unwrap(), ..statement("3", "2026-03-18", 105_350, Vec::new()) };
    assert!(said(take_in(&company, "gbp.xml", &[pounds]).await).contains("is kept in EUR"));
    let strange = BankStatement { account: "XX99".to_owned(), ..statement("3", "2026-03-18", 105_350, Vec::new()) };
    assert!(said(take_in(&company, "other.xml", &[strange]).await).contains("none of our bank accounts"));
    let ahead = statement("3", "2026-03-19", 105_350, vec![line("2026-03-19", 10, "z")]);
    assert!(said(take_in(&company, "ahead.xml", &[ahead]).await).contains("after today"));
    let list = bank::list(&mut company.store.read().await.unwrap(), (50, 0)).await.unwrap();
    assert_eq!((list.count, list.statements[0].number.as_str(), list.statements[0].open), (2, "BS-2", 2));
    // Nothing of the ledger moved, and nothing of a line can change.
    let outcome = change(&company, async |writing, _| {
        sqlx::query("UPDATE bank_lines SET amount_minor = 1").execute(&mut **writing).await?;
        Ok(())
    })
    .await;
    assert!(outcome.is_err());
    company.holds().await;
}

#[tokio::test]
async fn an_account_number_is_an_iban_or_the_bank_s_own() {
    let company = with_account().await;
    let set = async |number: &str| {
        change(&company, async |writing, _| {
            bank::set_account(writing, "bank", &BankAccountForm { number: number.to_owned() }).await
        })
        .await
    };
    assert!(said(set("XX34 MARR 0001 2345 67").await).contains("check digits"));
    assert!(said(set("12").await).contains("4 to 34"));
    set("47110815").await.unwrap();
    set("").await.unwrap();
    let drawer = change(&company, async |writing, _| {
        bank::set_account(writing, "drawer", &BankAccountForm { number: "4711".to_owned() }).await
    })
    .await;
    assert!(said(drawer).contains("no bank account"));
}

/// A day: 290.28 by reference, 145.14 of a known account, what a clerk typed already, a fee of 6.50, interest of 0.80, and one
/// nobody knows. Then all of it undone that can be, and the books as before.
#[tokio::test]
async fn a_statement_day_from_import_to_reconciled() {
    let company = with_account().await;
    let (_, first) = invoice(&company, 4).await;
    let (_, _second) = invoice(&company, 2).await;
    // Typed before the bank said it.
    let typed = NewReceipt {
        customer: CustomerId(2),
        method: "transfer".to_owned(),
        date: Some(day("2026-03-18")),
        amount: "77.00".to_owned(),
        reference: Some("their 4711".to_owned()),
        applications: Some(Vec::new()),
        first: None,
        with: Vec::new(),
        currency: None,
    };
    let typed = company.receive(&typed).await.unwrap();
    let name = customers::view(&mut company.store.read().await.unwrap(), CustomerId(1)).await.unwrap().name;
    let by_reference = BankLine {
        reference: creditor_reference(&first),
        party: Some(name.to_uppercase()),
        party_account: Some("ZZ81 9P34 Y6N3 WD25 RQ4F 5ZR3 7".to_owned()),
        ..line("2026-03-18", 29_028, "")
    };
    let by_account = BankLine {
        party_account: Some("ZZ819P34Y6N3WD25RQ4F5ZR37".to_owned()),
        ..line("2026-03-18", 14_514, "thanks")
    };
    let fee = BankLine { kind: BankLineKind::Fee, ..line("2026-03-18", -650, "Account fee March") };
    let interest = BankLine { kind: BankLineKind::Interest, ..line("2026-03-18", 80, "Interest") };
    let lines = vec![
        by_reference,
        by_account,
        line("2026-03-18", 7_700, "their 4711"),
        fee,
        interest,
        line("2026-03-18", 4_242, "?"),
    ];
    let taken = take_in(&company, "day.xml", &[statement("1", "2026-03-18", 50_000, lines)]).await.unwrap();
    let id = taken.statements[0];
    let before = view(&company, id).await;
    let first_of = |view: &StatementView| -> Vec<Option<Certainty>> {
        view.line_list.iter().map(|line| line.proposals.first().map(|proposal| proposal.certainty)).collect()
    };
    // The account is not known before the first of its lines is accepted.
    use Certainty::{Possible, Sure};
    let certain = first_of(&before);
    assert_eq!(certain, [Some(Sure), Some(Possible), Some(Sure), Some(Sure), Some(Sure), None]);
    let sure =
        change(&company, async |writing, rules| bank::accept_sure(writing, rules, id, None).await).await.unwrap();
    assert_eq!((sure.accepted, sure.receipts, sure.left.len()), (4, 1, 0));
    company.holds().await;
    // What was seen before is not there any more.
    let stale =
        change(&company, async |writing, rules| bank::accept_sure(writing, rules, id, Some(&before.sure_mark)).await);
    assert!(said(stale.await).contains("have changed"));
    // It is known now.
    let after = view(&company, id).await;
    assert_eq!(first_of(&after), [None, Some(Sure), None, None, None, None]);
    let sure =
        change(&company, async |writing, rules| bank::accept_sure(writing, rules, id, None).await).await.unwrap();
    assert_eq!((sure.accepted, sure.receipts), (1, 1));
    company.holds().await;
    assert!(
        said(change(&company, async |writing, rules| bank::accept_sure(writing, rules, id, None).await).await)
            .contains("No line is sure")
    );
    let entries = entry_lines(&company, DocumentKind::BankStatement, id.0).await;
    let pair = |one: (&str, i64), other: (&str, i64)| vec![(one.0.to_owned(), one.1), (other.0.to_owned(), other.1)];
    assert_eq!(entries, [pair(("31000", -650), ("81000", 650)), pair(("31000", 80), ("69000", -80))]);
    let receipt = receipts::view(&mut company.store.read().await.unwrap(), typed.id).await.unwrap();
    assert_eq!(receipt.row.whereabouts, "cleared");
    // Of what the bank has, 42.42 are not in the books; nothing is outstanding; 500.00 the books never had.
    let now = state(&company).await;
    let compared = now.reconciliation.unwrap();
    assert_eq!((compared.bank, compared.open, compared.outstanding), (Money(104_914), Money(4_242), Money(0)));
    assert_eq!((compared.ledger, compared.at_first, compared.difference), (Money(50_672), Money(50_000), Money(0)));
    assert_eq!((now.open_lines, now.oldest_open), (1, Some(day("2026-03-18"))));
    // The last one is the rest of a rent deposit: 40.00 to one account, 2.42 to another.
    let last = after.line_list[5].id;
    let book = |account: &str, amount: Option<&str>| ToAccept::Book {
        account: Some(account.to_owned()),
        text: "given back".to_owned(),
        amount: amount.map(str::to_owned),
    };
    assert!(said(accept(&company, last, &book("81000", Some("42.43"))).await).contains("42.42 of the line is left"));
    assert!(said(accept(&company, last, &book("99999", None)).await).contains("no account 99999"));
    assert!(said(accept(&company, last, &book("21000", None)).await).contains("written by documents only"));
    accept(&company, last, &book("81000", Some("40"))).await.unwrap();
    accept(&company, last, &book("69000", None)).await.unwrap();
    assert!(said(accept(&company, last, &book("69000", None)).await).contains("cleared already"));
    company.holds().await;
    assert_eq!(state(&company).await.open_lines, 0);
    // Undone: the receipt of the first line is reversed and its invoice open again, the fee is booked back, the typed receipt is
    // expected again.
    let now = view(&company, id).await;
    for at in [0, 2, 3] {
        let one = now.line_list[at].matches[0].id;
        change(&company, async |writing, rules| bank::undo(writing, rules, one, "wrong one").await).await.unwrap();
        let again = change(&company, async |writing, rules| bank::undo(writing, rules, one, "wrong one").await).await;
        assert!(said(again).contains("undone already"));
        company.holds().await;
    }
    // The account it came from still stands on the receipt of the second line, so it is known; once that is undone it is not.
    assert_eq!(first_of(&view(&company, id).await)[0], Some(Sure));
    let second = view(&company, id).await.line_list[1].matches[0].id;
    change(&company, async |writing, rules| bank::undo(writing, rules, second, "not theirs").await).await.unwrap();
    company.holds().await;
    assert_eq!(first_of(&view(&company, id).await)[1], Some(Possible), "what was taken back teaches nothing");
    let line = view(&company, id).await.line_list[1].id;
    accept(&company, line, &ToAccept::Receipt { customer: CustomerId(1), applications: None }).await.unwrap();
    let open: Vec<Money> = customers::view(&mut company.store.read().await.unwrap(), CustomerId(1))
        .await
        .unwrap()
        .open_items
        .iter()
        .map(|item| item.open)
        .collect();
    assert_eq!(open, [Money(29_028)]);
    let compared = state(&company).await.reconciliation.unwrap();
    assert_eq!((compared.open, compared.outstanding, compared.difference), (Money(36_078), Money(7_700), Money(0)));
    let outstanding =
        bank::outstanding(&mut company.store.read().await.unwrap(), &rules_of(&company).await, "bank").await.unwrap();
    assert_eq!((outstanding.len(), outstanding[0].document.number.as_str()), (1, typed.number.as_str()));
}

/// Two people accept the same line: the second is told, and nothing is doubled. A receipt of money that left is refused; of a customer who
/// is billed in another currency it is one in the account's.
#[tokio::test]
async fn what_cannot_be_is_refused() {
    let company = with_account().await;
    let (_, number) = invoice(&company, 4).await;
    let lines = vec![line("2026-03-18", 29_028, &number), line("2026-03-18", -1_000, "x")];
    let id = take_in(&company, "day.xml", &[statement("1", "2026-03-18", 0, lines)]).await.unwrap().statements[0];
    let view = view(&company, id).await;
    let wish = view.line_list[0].proposals[0].accept.clone();
    let line = view.line_list[0].id;
    let seen = {
        let rules = rules_of(&company).await;
        bank::preview_accept(&mut company.store.read().await.unwrap(), &rules, line, &wish).await.unwrap().fingerprint
    };
    accept(&company, line, &wish).await.unwrap();
    let second =
        change(&company, async |writing, rules| bank::accept(writing, rules, line, &wish, Some(&seen)).await).await;
    assert!(said(second).contains("someone else"));
    company.holds().await;
    let left = view.line_list[1].id;
    let receipt = |customer| ToAccept::Receipt { customer: CustomerId(customer), applications: None };
    assert!(said(accept(&company, left, &receipt(1)).await).contains("it is no receipt"));
    assert!(said(accept(&company, BankLineId(99), &receipt(1)).await).contains("no such line"));
    let clears = ToAccept::Clears { entry: till_core::ids::EntryId(1), counted: false };
    assert!(said(accept(&company, left, &clears).await).contains("cleared already, or is not of this account"));
    let more = vec![BankLine::plain(day("2026-03-18"), Money(500), "x")];
    let next = statement("2", "2026-03-18", 28_028, more);
    let id = take_in(&company, "next.xml", &[next]).await.unwrap().statements[0];
    let other = view_of(&company, id).await;
    accept(&company, other, &receipt(3)).await.unwrap();
    let credits = customers::view(&mut company.store.read().await.unwrap(), CustomerId(3)).await.unwrap().credits;
    assert_eq!((credits[0].currency.code(), credits[0].open), ("EUR", Money(500)));
    company.holds().await;
}

async fn find(company: &Company, line: BankLineId, typed: &str) -> Vec<bank::ProposalView> {
    let rules = rules_of(company).await;
    bank::find(&mut company.store.read().await.unwrap(), &rules, line, typed).await.unwrap()
}

/// 300.00 of nobody who is known: found by a part of a number, by the name, by nothing else. Accepted as the invoice, 9.72 stay
/// unapplied. Of 400.00 two receipts that were on their way are looked up one after the other, and clear the line together.
#[tokio::test]
async fn what_a_line_is_can_be_looked_for() {
    let company = with_account().await;
    let (_, number) = invoice(&company, 4).await;
    let on_its_way = async |amount: &str, check: &str| {
        let new = NewReceipt {
            customer: CustomerId(2),
            method: "transfer".to_owned(),
            date: Some(day("2026-03-17")),
            amount: amount.to_owned(),
            reference: Some(check.to_owned()),
            applications: Some(Vec::new()),
            first: None,
            with: Vec::new(),
            currency: None,
        };
        company.receive(&new).await.unwrap().number
    };
    let (one, two) = (on_its_way("150", "their 7001").await, on_its_way("250", "their 7002").await);
    let lines = vec![line("2026-03-18", 30_000, "no idea"), line("2026-03-18", 40_000, "together")];
    let id = take_in(&company, "day.xml", &[statement("1", "2026-03-18", 0, lines)]).await.unwrap().statements[0];
    let shown = view(&company, id).await;
    let (first, second) = (shown.line_list[0].id, shown.line_list[1].id);
    assert!(find(&company, first, "").await.is_empty());
    assert!(find(&company, first, "nothing of the kind").await.is_empty());
    let found = find(&company, first, &number.to_lowercase()).await;
    assert_eq!((found.len(), found[0].customer), (1, Some(CustomerId(1))));
    assert!(found[0].words.ends_with(&number), "{}", found[0].words);
    let accepted = accept(&company, first, &found[0].accept).await.unwrap();
    let applied = entry_lines(&company, DocumentKind::Receipt, accepted.document.id).await.remove(0);
    assert_eq!(applied, [("31000".to_owned(), 30_000), ("21000".to_owned(), -29_028), ("27000".to_owned(), -972)]);
    for (typed, number, left) in [("7001", &one, 25_000), ("250.00", &two, 0)] {
        let found = find(&company, second, typed).await;
        assert_eq!(&found[0].words, number, "{found:?}");
        accept(&company, second, &found[0].accept).await.unwrap();
        assert_eq!(view(&company, id).await.line_list[1].left, Money(left));
    }
    assert!(find(&company, second, "7001").await.is_empty(), "all of it is cleared");
    company.holds().await;
}

async fn view_of(company: &Company, id: BankStatementId) -> BankLineId {
    view(company, id).await.line_list[0].id
}

/// Each proof of bank statements names what was damaged.
#[tokio::test]
async fn damaged_statements_are_named() {
    let damages = [
        (
            "DROP TRIGGER bank_statements_keep; UPDATE bank_statements SET closing_minor = closing_minor + 1",
            "its lines come to",
        ),
        ("UPDATE bank_lines SET cleared_minor = 1 WHERE id = 1", "its matches say"),
        ("UPDATE payments SET whereabouts = 'cleared'", "no bank statement says so"),
    ];
    for (damage, named) in damages {
        let company = with_account().await;
        let typed = NewReceipt {
            customer: CustomerId(1),
            method: "transfer".to_owned(),
            date: None,
            amount: "5.00".to_owned(),
            reference: None,
            applications: None,
            first: None,
            with: Vec::new(),
            currency: None,
        };
        company.receive(&typed).await.unwrap();
        take_in(&company, "day.xml", &[statement("1", "2026-03-18", 0, vec![line("2026-03-18", 5, "x")])])
            .await
            .unwrap();
        company.holds().await;
        let file = company.folder.path().join("books.db");
        let mut books = sqlx::SqliteConnection::connect_with(&sqlx::sqlite::SqliteConnectOptions::new().filename(file))
            .await
            .unwrap();
        sqlx::Executor::execute(&mut books, sqlx::AssertSqlSafe(damage.to_owned())).await.unwrap();
        let found = verify::verify(&mut *company.store.read().await.unwrap()).await.unwrap();
        let said = format!("{found:?}");
        assert!(said.contains(named), "{damage}: {said}");
    }
}
