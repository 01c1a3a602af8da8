//! Bank deposit slips and checks that come back, from the screen to the ledger. Figures by hand; rows of postings.md, Money.

use crate::common::*;
use till_core::bank::slip::SlipState;
use till_core::bank::{Balance, BankLine, BankLineKind, BankStatement};
use till_core::ids::{BankSlipId, BankStatementId, CustomerId, DocumentKind, EntryId, InvoiceId, PersonId, ReceiptId};
use till_core::money::{Currency, Money};
use till_core::people::{LimitKind, Role};
use till_store::bank::{self, BankAccountForm, LineFilter, NewSlip, PreparedSlip, ToAccept, ToBank, ToCancelSlip};
use till_store::deposits::{self, NewDeposit};
use till_store::people::{self, NewPerson};
use till_store::receipts::{
    self, ChargeOn, NewApplication, NewReceipt, PostedReceipt, ReceiptView, ToReverse, ToReverseReceipt,
};
use till_store::refunds::{self, CreditToRefund};
use till_store::settings::{self, NewLimit};
use till_store::{Actor, Result, customers, invoices, ledger, rules};

const ACCOUNT: &str = "XX33MARR0001234567";

async fn company() -> Company {
    let company = Company::new().await;
    change(&company, async |writing, _| {
        bank::set_account(writing, "bank", &BankAccountForm { number: ACCOUNT.to_owned() }).await
    })
    .await
    .unwrap();
    company
}

async fn invoice(company: &Company, customer: usize, pieces: i64) -> InvoiceId {
    let order = company.order(customer, pieces).await;
    let shipment = ship(company, order, &[&pieces.to_string(), "0"], None).await;
    company.bill(shipment).await
}

async fn paid(company: &Company, method: &str, amount: &str, to: &[NewApplication]) -> PostedReceipt {
    let new = NewReceipt {
        customer: CustomerId(1),
        method: method.to_owned(),
        date: Some(day("2026-03-18")),
        amount: amount.to_owned(),
        reference: Some("check 104417".to_owned()),
        applications: Some(to.to_vec()),
        first: None,
        with: Vec::new(),
        currency: None,
    };
    company.receive(&new).await.unwrap()
}

async fn in_hand(company: &Company) -> Vec<(String, i64, EntryId)> {
    let rows = bank::in_hand(&mut company.store.read().await.unwrap()).await.unwrap();
    rows.into_iter().map(|row| (row.document.number, row.amount.0, row.entry)).collect()
}

async fn prepare(company: &Company, entries: &[EntryId]) -> Result<PreparedSlip> {
    let new = NewSlip { entries: entries.to_vec(), ..NewSlip::default() };
    change(company, async |writing, rules| {
        let seen = bank::preview_slip(writing, rules, &new).await?.fingerprint;
        bank::prepare_slip(writing, rules, &new, Some(&seen)).await
    })
    .await
}

async fn to_bank(company: &Company, id: BankSlipId, counted: Option<&str>) -> Result<i64> {
    let wish = ToBank { counted: counted.map(str::to_owned), date: None };
    change(company, async |writing, rules| {
        let seen = bank::preview_bank_slip(writing, rules, id, &wish).await?.fingerprint;
        bank::bank_slip(writing, rules, id, (1, Some(&seen)), &wish).await
    })
    .await
}

async fn cancel(company: &Company, id: BankSlipId, version: i64) -> Result<i64> {
    let wish = ToCancelSlip { reason: "the bank was closed".to_owned(), date: None };
    change(company, async |writing, rules| bank::cancel_slip(writing, rules, id, version, &wish).await).await
}

async fn state(company: &Company, id: BankSlipId) -> SlipState {
    bank::slip(&mut company.store.read().await.unwrap(), id).await.unwrap().row.state
}

async fn receipt(company: &Company, id: ReceiptId) -> ReceiptView {
    receipts::view(&mut company.store.read().await.unwrap(), id).await.unwrap()
}

/// The lines of the last entry a document wrote, by account.
async fn last(company: &Company, kind: DocumentKind, id: i64) -> Vec<(String, i64)> {
    let all = ledger::entries_of(&mut company.store.read().await.unwrap(), kind, id).await.unwrap();
    let mut lines: Vec<(String, i64)> =
        all.last().unwrap().entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect();
    lines.sort();
    lines
}

fn lines(wanted: &[(&str, i64)]) -> Vec<(String, i64)> {
    wanted.iter().map(|(account, amount)| ((*account).to_owned(), *amount)).collect()
}

fn said<T: std::fmt::Debug>(outcome: Result<T>) -> String {
    outcome.unwrap_err().to_string()
}

async fn statement(company: &Company, opening: i64, kind: BankLineKind, amount: i64, words: &str) -> BankStatementId {
    let balance = |amount| Balance { date: day("2026-03-18"), amount: Money(amount) };
    let one = BankStatement {
        bank_id: words.to_owned(),
        account: ACCOUNT.to_owned(),
        currency: Currency::of("EUR").unwrap(),
        opening: balance(opening),
        closing: balance(opening + amount),
        lines: vec![BankLine { kind, ..BankLine::plain(day("2026-03-18"), Money(amount), words) }],
    };
    let taken = change(company, async |writing, rules| {
        bank::take_in(writing, rules, "a.xml", std::slice::from_ref(&one)).await
    });
    taken.await.unwrap().statements[0]
}

/// Accepts the only line of a statement as what is suggested first. Returns the suggestion in words.
async fn accept_first(company: &Company, id: BankStatementId) -> (String, Result<bank::Accepted>) {
    let rules = rules::load(&mut company.store.read().await.unwrap()).await.unwrap();
    let view = bank::view(&mut company.store.read().await.unwrap(), &rules, id, LineFilter::All).await.unwrap();
    let line = &view.line_list[0];
    let first = line.proposals[0].clone();
    let accepted = change(company, async |writing, rules| {
        let seen = bank::preview_accept(writing, rules, line.id, &first.accept).await?.fingerprint;
        bank::accept(writing, rules, line.id, &first.accept, Some(&seen)).await
    })
    .await;
    (first.words, accepted)
}

async fn undo_only(company: &Company, id: BankStatementId) {
    let rules = rules::load(&mut company.store.read().await.unwrap()).await.unwrap();
    let view = bank::view(&mut company.store.read().await.unwrap(), &rules, id, LineFilter::All).await.unwrap();
    let one = view.line_list[0].matches[0].id;
    change(company, async |writing, rules| bank::undo(writing, rules, one, "another slip").await).await.unwrap();
}

/// A check of 210.28 and 100.00 in cash, of which 30.00 were paid back in cash: 280.28 on the slip. Printed, given up, written
/// again, banked 0.50 short, cleared by the statement.
#[tokio::test]
async fn a_slip_from_the_hand_to_the_statement() {
    let company = company().await;
    let check = paid(&company, "check", "210.28", &[]).await;
    let cash = paid(&company, "cash", "100.00", &[]).await;
    let back = CreditToRefund {
        amount: Some("30".to_owned()),
        method: "cash".to_owned(),
        date: None,
        reason: "too much".to_owned(),
    };
    change(&company, async |writing, rules| refunds::refund(writing, rules, cash.id, (None, None), &back).await)
        .await
        .unwrap();
    let there = in_hand(&company).await;
    assert_eq!(there.iter().map(|one| one.1).collect::<Vec<_>>(), [21_028, 10_000, -3_000]);
    // The cash that was paid out is not there.
    let without = said(prepare(&company, &[there[0].2, there[1].2]).await);
    assert!(without.contains("Only 70.00 EUR of that lie in “Cash drawer”"), "{without}");
    let all: Vec<EntryId> = there.iter().map(|one| one.2).collect();
    let slip = prepare(&company, &all).await.unwrap();
    assert_eq!((slip.number.as_str(), state(&company, slip.id).await), ("DS-1", SlipState::Prepared));
    company.holds().await;
    assert!(in_hand(&company).await.is_empty());
    assert!(said(prepare(&company, &all[..1]).await).contains("stands on another slip"));
    let view = receipt(&company, check.id).await;
    assert_eq!((view.slip.unwrap().number.as_str(), view.row.whereabouts.as_str()), ("DS-1", "in_hand"));
    // Nobody knows where the check is: it is not reversed.
    let reversed = change(&company, async |writing, rules| {
        let wish = ToReverse { date: None, reason: "typed twice".to_owned() };
        let seen = receipts::preview_reverse(writing, rules, check.id, &wish).await?;
        receipts::reverse(writing, rules, check.id, (1, &seen.fingerprint), &wish).await
    });
    assert!(said(reversed.await).contains("stands on DS-1, which waits to be taken to the bank"));
    cancel(&company, slip.id, 1).await.unwrap();
    company.holds().await;
    assert_eq!(in_hand(&company).await.len(), 3);
    assert!(said(cancel(&company, slip.id, 2).await).contains("canceled already"));
    assert!(said(to_bank(&company, slip.id, None).await).contains("is canceled"));

    let slip = prepare(&company, &all).await.unwrap();
    assert!(said(to_bank(&company, slip.id, Some("0")).await).contains("more than zero"));
    assert!(said(to_bank(&company, slip.id, Some("abc")).await).contains("abc"));
    to_bank(&company, slip.id, Some("279.78")).await.unwrap();
    company.holds().await;
    assert_eq!(
        last(&company, DocumentKind::BankSlip, slip.id.0).await,
        lines(&[("31000", 27_978), ("32000", -28_028), ("82000", 50)])
    );
    assert_eq!(receipt(&company, check.id).await.row.whereabouts, "at_bank");
    assert!(said(to_bank(&company, slip.id, None).await).contains("taken to the bank already"));
    let id = statement(&company, 0, BankLineKind::Deposit, 27_978, "counter").await;
    let (words, accepted) = accept_first(&company, id).await;
    assert_eq!((words.as_str(), accepted.unwrap().document.number.as_str()), ("DS-2", "DS-2"));
    company.holds().await;
    assert_eq!(receipt(&company, check.id).await.row.whereabouts, "cleared");
    assert_eq!(state(&company, slip.id).await, SlipState::Cleared);
    assert!(said(cancel(&company, slip.id, 2).await).contains("Undo that line first"));
    undo_only(&company, id).await;
    company.holds().await;
    cancel(&company, slip.id, 2).await.unwrap();
    company.holds().await;
    assert_eq!(receipt(&company, check.id).await.row.whereabouts, "in_hand");
    assert_eq!(in_hand(&company).await.len(), 3);
}

/// A slip of 210.28 that was booked whole; the statement says 209.78. Accepted, 0.50 are short; undone, nothing of it is left.
#[tokio::test]
async fn the_statement_says_what_was_counted() {
    let company = company().await;
    paid(&company, "check", "210.28", &[]).await;
    let slip = prepare(&company, &[in_hand(&company).await[0].2]).await.unwrap();
    to_bank(&company, slip.id, None).await.unwrap();
    let id = statement(&company, 0, BankLineKind::Deposit, 20_978, "checks").await;
    let (words, accepted) = accept_first(&company, id).await;
    assert_eq!(words, "DS-1, counted short");
    accepted.unwrap();
    company.holds().await;
    let booked = last(&company, DocumentKind::BankStatement, id.0).await;
    assert_eq!(booked, lines(&[("31000", -50), ("82000", 50)]));
    let rules = rules::load(&mut company.store.read().await.unwrap()).await.unwrap();
    let account = bank::accounts(&mut company.store.read().await.unwrap(), &rules).await.unwrap().remove(0);
    let compared = account.reconciliation.unwrap();
    assert_eq!((compared.bank, compared.ledger, compared.difference), (Money(20_978), Money(20_978), Money(0)));
    undo_only(&company, id).await;
    company.holds().await;
    let booked = last(&company, DocumentKind::BankStatement, id.0).await;
    assert_eq!(booked, lines(&[("31000", 50), ("82000", -50)]));
    assert_eq!(state(&company, slip.id).await, SlipState::Banked);
}

/// postings.md: check of 210.28 returned after it was banked, fee 15.00, and the fee charged on without tax. Here the check of
/// 290.28 pays an invoice; the line of the bank says −305.28.
#[tokio::test]
async fn a_check_comes_back_with_a_fee_that_is_charged_on() {
    let company = company().await;
    let bill = invoice(&company, 0, 4).await;
    let check = paid(&company, "check", "290.28", &[NewApplication::to_invoice(bill, "290.28")]).await;
    let slip = prepare(&company, &[in_hand(&company).await[0].2]).await.unwrap();
    to_bank(&company, slip.id, None).await.unwrap();
    let first = statement(&company, 0, BankLineKind::Deposit, 29_028, "checks").await;
    accept_first(&company, first).await.1.unwrap();
    let id = statement(&company, 29_028, BankLineKind::Returned, -30_528, "unpaid check 104417").await;
    let rules = rules::load(&mut company.store.read().await.unwrap()).await.unwrap();
    let view = bank::view(&mut company.store.read().await.unwrap(), &rules, id, LineFilter::All).await.unwrap();
    let line = &view.line_list[0];
    assert_eq!(line.proposals[0].words, format!("{} came back, with a fee", check.number));
    let ToAccept::Returned { receipt: came_back, .. } = line.proposals[0].accept else { panic!("{line:?}") };
    let charge = |amount: Option<&str>, code: &str| ToAccept::Returned {
        receipt: came_back,
        charge: Some(ChargeOn { amount: amount.map(str::to_owned), tax_code: code.to_owned() }),
    };
    let accept = async |wish: &ToAccept| {
        change(&company, async |writing, rules| {
            let seen = bank::preview_accept(writing, rules, line.id, wish).await?.fingerprint;
            bank::accept(writing, rules, line.id, wish, Some(&seen)).await
        })
        .await
    };
    assert!(said(accept(&charge(None, "")).await).contains("Choose the tax code"));
    assert!(said(accept(&charge(Some("x"), "Z0")).await).contains('x'));
    accept(&charge(None, "Z0")).await.unwrap();
    company.holds().await;
    assert_eq!(
        last(&company, DocumentKind::Receipt, check.id.0).await,
        lines(&[("21000", 29_028), ("31000", -30_528), ("81000", 1_500)])
    );
    let now = receipt(&company, check.id).await;
    assert_eq!(
        (now.row.whereabouts.as_str(), now.fee_base, now.row.reversed_on),
        ("returned", Money(1_500), Some(day("2026-03-18")))
    );
    // The invoice is open again, and the fee beside it: 21000 15.00 against 69000 15.00.
    let open = customers::view(&mut company.store.read().await.unwrap(), CustomerId(1)).await.unwrap().open_items;
    assert_eq!(open.iter().map(|item| item.open.0).collect::<Vec<_>>(), [29_028, 1_500]);
    let fee = open[1].document.clone();
    assert_eq!(fee.kind, DocumentKind::Invoice);
    let posted = last(&company, DocumentKind::Invoice, fee.id).await;
    assert_eq!(
        posted.iter().filter(|line| line.1 != 0).cloned().collect::<Vec<_>>(),
        lines(&[("21000", 1_500), ("69000", -1_500)])
    );
    let shown = invoices::view(&mut company.store.read().await.unwrap(), InvoiceId(fee.id)).await.unwrap();
    assert_eq!(shown.document.unwrap().lines[0].description, format!("Fee for {}, returned", check.number));
    // It is not in hand, and its slip is not given up any more.
    undo_only(&company, first).await;
    assert!(said(cancel(&company, slip.id, 2).await).contains("was reversed since"));
    // A second time it does not come back.
    let twice = ToAccept::Returned { receipt: came_back, charge: None };
    assert!(said(accept(&twice).await).contains("cleared already"));
    let again = statement(&company, -1_500, BankLineKind::Returned, -29_028, "check 104417").await;
    let rules = rules::load(&mut company.store.read().await.unwrap()).await.unwrap();
    let view = bank::view(&mut company.store.read().await.unwrap(), &rules, again, LineFilter::All).await.unwrap();
    assert!(view.line_list[0].proposals.is_empty(), "{:?}", view.line_list[0].proposals);
    company.holds().await;
}

/// A check in hand comes back without a fee: 21000 against 32000. One that lay unapplied at the bank: 27000 against 31000.
#[tokio::test]
async fn a_check_comes_back_from_the_hand_or_unapplied() {
    let company = company().await;
    let bill = invoice(&company, 0, 4).await;
    let reverse = async |id: ReceiptId, fee: Option<&str>| {
        let wish =
            ToReverseReceipt { date: None, reason: "not paid".to_owned(), fee: fee.map(str::to_owned), charge: None };
        change(&company, async |writing, rules| {
            let seen = receipts::preview_reverse(writing, rules, id, &wish).await?.fingerprint;
            receipts::reverse(writing, rules, id, (1, &seen), &wish).await
        })
        .await
    };
    let check = paid(&company, "check", "290.28", &[NewApplication::to_invoice(bill, "290.28")]).await;
    assert!(said(reverse(check.id, Some("15")).await).contains("takes no fee"));
    assert!(said(reverse(check.id, Some("1,5,")).await).contains("1,5,"));
    reverse(check.id, None).await.unwrap();
    assert_eq!(
        last(&company, DocumentKind::Receipt, check.id.0).await,
        lines(&[("21000", 29_028), ("32000", -29_028)])
    );
    assert!(in_hand(&company).await.is_empty(), "what came and went back is as if it never was");
    let transfer = paid(&company, "transfer", "210.28", &[]).await;
    reverse(transfer.id, Some("15")).await.unwrap();
    assert_eq!(
        last(&company, DocumentKind::Receipt, transfer.id.0).await,
        lines(&[("27000", 21_028), ("31000", -22_528), ("81000", 1_500)])
    );
    company.holds().await;
}

/// A check of 210.28 lies in the drawer: the bank, which never had it, cannot take it back. Banked, it can: 15.00 more are its fee.
#[tokio::test]
async fn the_bank_takes_nothing_back_that_it_never_had() {
    let company = company().await;
    let check = paid(&company, "check", "210.28", &[]).await;
    let id = statement(&company, 22_528, BankLineKind::Transfer, -22_528, "a check came back").await;
    let rules = rules::load(&mut company.store.read().await.unwrap()).await.unwrap();
    let line = bank::view(&mut company.store.read().await.unwrap(), &rules, id, LineFilter::All).await.unwrap();
    let line = line.line_list[0].id;
    let wish = ToAccept::Returned { receipt: check.id, charge: None };
    let preview = async || bank::preview_accept(&mut company.store.read().await.unwrap(), &rules, line, &wish).await;
    assert_eq!(
        said(preview().await),
        format!("The money of {} is not at this account: the bank cannot return it from there.", check.number)
    );
    let slip = prepare(&company, &[in_hand(&company).await[0].2]).await.unwrap();
    to_bank(&company, slip.id, None).await.unwrap();
    let entry = preview().await.unwrap().entry.unwrap();
    let mut moved: Vec<(String, i64)> = entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect();
    moved.sort();
    assert_eq!(moved, lines(&[("27000", 21_028), ("31000", -22_528), ("81000", 1_500)]));
}

/// Of a slip over 210.28 the bank says it counted 410.28: so much too much is no clerk's to keep, more than a clerk may write off.
#[tokio::test]
async fn too_much_counted_takes_the_limit_too() {
    let company = company().await;
    paid(&company, "check", "210.28", &[]).await;
    let slip = prepare(&company, &[in_hand(&company).await[0].2]).await.unwrap();
    company
        .store
        .change(&by(), None, async |writing| {
            let hash = "$argon2id$nobody signs in here";
            for (sign_in, role) in [("tess", Role::Clerk), ("lena", Role::Lead)] {
                let new = NewPerson { sign_in, name: sign_in, role, password_hash: hash, must_change: false };
                people::add(writing, &new).await?;
            }
            let limit =
                |role, amount: &str| NewLimit { role, kind: LimitKind::WriteOff, amount: Some(amount.to_owned()) };
            settings::set_limit(writing, &limit(Role::Clerk, "50")).await?;
            settings::set_limit(writing, &limit(Role::Lead, "5000")).await
        })
        .await
        .unwrap();
    let wish = ToBank { counted: Some("410.28".to_owned()), date: None };
    let bank_it = async |actor: &Actor| {
        let booked = company.store.change(actor, None, async |writing| {
            let rules = rules::load(writing).await?;
            let seen = bank::preview_bank_slip(writing, &rules, slip.id, &wish).await?.fingerprint;
            bank::bank_slip(writing, &rules, slip.id, (1, Some(&seen)), &wish).await
        });
        booked.await
    };
    let clerk = said(bank_it(&Actor::person(PersonId(1), "tess", Role::Clerk, "here", by().at)).await);
    assert!(clerk.contains("The bank counted 200.00 EUR over, you may book 50.00 EUR."), "{clerk}");
    assert_eq!(state(&company, slip.id).await, SlipState::Prepared);
    bank_it(&Actor::person(PersonId(2), "lena", Role::Lead, "here", by().at)).await.unwrap();
    assert_eq!(
        last(&company, DocumentKind::BankSlip, slip.id.0).await,
        lines(&[("31000", 41_028), ("32000", -21_028), ("69000", -20_000)])
    );
    company.holds().await;
}

/// A deposit of 500.00 by check comes back with 15.00 for the bank: it is reversed as the line says, the fee booked with it. It cannot be
/// while the deposit is used, and nothing is charged on with it.
#[tokio::test]
async fn a_deposit_comes_back() {
    let company = company().await;
    let new = NewDeposit {
        receipt: None,
        customer: CustomerId(1),
        order: None,
        quote: None,
        method: "transfer".to_owned(),
        date: None,
        amount: "500".to_owned(),
        reference: Some("check 5512".to_owned()),
        memo: None,
    };
    let taken = change(&company, async |writing, rules| {
        let seen = deposits::preview(writing, rules, &new).await?.fingerprint;
        deposits::take(writing, rules, &new, Some(&seen)).await
    })
    .await
    .unwrap();
    let taken_as = last(&company, DocumentKind::Deposit, taken.id.0).await;
    let id = statement(&company, 51_500, BankLineKind::Returned, -51_500, "check 5512 not paid").await;
    let rules = rules::load(&mut company.store.read().await.unwrap()).await.unwrap();
    let view = bank::view(&mut company.store.read().await.unwrap(), &rules, id, LineFilter::All).await.unwrap();
    let charge = ChargeOn { tax_code: "S23".to_owned(), amount: None };
    let with_charge = ToAccept::Returned { receipt: ReceiptId(taken.id.0), charge: Some(charge) };
    let refused = {
        let mut books = company.store.read().await.unwrap();
        bank::preview_accept(&mut books, &rules, view.line_list[0].id, &with_charge).await
    };
    assert!(said(refused).contains("an invoice of its own"));
    let (words, accepted) = accept_first(&company, id).await;
    assert_eq!(words, format!("{} came back, with a fee", taken.number));
    assert_eq!(accepted.unwrap().document.kind, DocumentKind::Deposit);
    let mut turned: Vec<(String, i64)> = taken_as.iter().map(|(account, amount)| (account.clone(), -amount)).collect();
    let mut back = last(&company, DocumentKind::Deposit, taken.id.0).await;
    back.sort();
    turned.sort();
    assert_eq!(back, turned, "the entry it was taken with, turned round");
    assert_eq!(last(&company, DocumentKind::BankStatement, id.0).await, lines(&[("31000", -1_500), ("81000", 1_500)]));
    company.holds().await;
}
