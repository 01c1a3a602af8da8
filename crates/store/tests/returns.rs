//! Returns in the books: from the authorization to the credit memo, each entry against postings.md, worked out by hand; what
//! two people do at once; what is refused and where it is said.

use crate::common::*;
use sqlx::{ConnectOptions, Connection, Executor, sqlite::SqliteConnectOptions};
use till_core::checks::Check;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, InvoiceId, ReturnId, ReturnStepId};
use till_core::money::Money;
use till_core::returns::{NextStep, ReturnOutcome, ReturnState};
use till_store::invoices::{self, CreditLine, CreditPosted, ToCancelInvoice, ToCredit};
use till_store::items;
use till_store::receipts::{NewReceipt, ToReverse};
use till_store::returns::{
    self, ClaimAnswer, DispositionForm, Done, InspectForm, InspectLine, NewAccrual, NewReturn, NewReturnLine,
    ReasonForm, ReceiveForm, ReceiveLine, ReplaceForm, ReturnFilter, ReturnToClose, ReturnView, ReturnableFilter,
    ReturnableList,
};
use till_store::stock::{self, NewExpected};
use till_store::{Result, StoreError, ledger, rules, verify};

/// An invoice over so many at 59.00, with freight of 18.00, shipped and billed on 12 and 18 March.
async fn billed(company: &Company, quantity: i64) -> InvoiceId {
    let order = company.order(0, quantity).await;
    let shipment = company.ship(order, quantity).await;
    company.bill(shipment).await
}

async fn returnable(company: &Company, invoice: InvoiceId) -> ReturnableList {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let filter = ReturnableFilter { invoice: Some(invoice), ..ReturnableFilter::default() };
    returns::returnable(&mut books, &rules, &filter, (50, 0)).await.unwrap()
}

async fn wish(company: &Company, invoice: InvoiceId, quantity: &str) -> NewReturn {
    let line = returnable(company, invoice).await.lines[0].line;
    NewReturn {
        customer: company.customers[0],
        lines: vec![NewReturnLine {
            line,
            quantity: quantity.to_owned(),
            reason: "DAMAGED".to_owned(),
            ..NewReturnLine::default()
        }],
        ..NewReturn::default()
    }
}

async fn try_authorize(company: &Company, new: &NewReturn) -> Result<ReturnId> {
    company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            Ok(returns::authorize(writing, &rules, new, None).await?.0)
        })
        .await
}

async fn authorize(company: &Company, invoice: InvoiceId, quantity: &str) -> ReturnId {
    try_authorize(company, &wish(company, invoice, quantity).await).await.unwrap()
}

async fn view(company: &Company, id: ReturnId) -> ReturnView {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    returns::view(&mut books, &rules, id).await.unwrap()
}

async fn receive(company: &Company, id: ReturnId, quantity: &str, date: &str) -> Result<Done> {
    let view = view(company, id).await;
    let form = ReceiveForm {
        lines: vec![ReceiveLine { line: view.lines[0].id, quantity: quantity.to_owned() }],
        date: Some(day(date)),
        in_repair: false,
        note: None,
    };
    company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::receive(writing, &rules, id, (view.version, None), &form).await
        })
        .await
}

async fn inspect(company: &Company, id: ReturnId, what: &[(&str, &str, Option<&str>)], date: &str) -> Result<Done> {
    let view = view(company, id).await;
    let form = InspectForm {
        lines: what
            .iter()
            .map(|(quantity, disposition, claim)| InspectLine {
                line: view.lines[0].id,
                quantity: (*quantity).to_owned(),
                disposition: (*disposition).to_owned(),
                claim: claim.map(str::to_owned),
            })
            .collect(),
        date: Some(day(date)),
        note: Some("a corner is crushed".to_owned()),
    };
    company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::inspect(writing, &rules, id, (view.version, None), &form).await
        })
        .await
}

async fn credit(company: &Company, id: Option<ReturnId>, invoice: InvoiceId, quantity: &str) -> Result<CreditPosted> {
    let line = match id {
        Some(id) => Some(view(company, id).await.lines[0].id),
        None => None,
    };
    let lines = vec![CreditLine { position: 0, quantity: Some(quantity.to_owned()), amount: None, return_line: line }];
    let wish = ToCredit { lines, added: Vec::new(), date: None, reason: "damaged in transit".to_owned(), seen: None };
    company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::credit(writing, &rules, invoice, &wish).await
        })
        .await
}

async fn undo(company: &Company, id: ReturnId, step: ReturnStepId, date: &str) -> Result<Done> {
    let version = view(company, id).await.version;
    let wish = ToReverse { date: Some(day(date)), reason: "another customer's".to_owned() };
    company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::undo(writing, &rules, (id, step), (version, None), &wish).await
        })
        .await
}

async fn close(company: &Company, id: ReturnId) -> Result<i64> {
    let wish = ReturnToClose { version: view(company, id).await.version, reason: "kept after all".to_owned() };
    company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::close(writing, &rules, id, &wish).await
        })
        .await
}

/// What the last entry of a return says, account by account.
async fn entry_of(company: &Company, id: ReturnId) -> Vec<(String, i64)> {
    let mut books = company.store.read().await.unwrap();
    let entries = ledger::entries_of(&mut books, DocumentKind::Return, id.0).await.unwrap();
    let mut lines: Vec<_> =
        entries.last().unwrap().entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect();
    lines.sort();
    lines
}

fn pairs(lines: &[(&str, i64)]) -> Vec<(String, i64)> {
    lines.iter().map(|(account, amount)| ((*account).to_owned(), *amount)).collect()
}

fn blocked<T: std::fmt::Debug>(outcome: Result<T>) -> (Check, String) {
    match outcome {
        Err(StoreError::Refused(blockers)) => (blockers[0].check, blockers[0].field.clone()),
        other => panic!("{other:?}"),
    }
}

fn at(check: Check, field: &str) -> (Check, String) {
    (check, field.to_owned())
}

/// Goods that are ordered in.
async fn expect(company: &Company, quantity: &str) {
    let item = items::view(&mut company.store.read().await.unwrap(), company.items[0]).await.unwrap().form.code;
    let new = NewExpected {
        item,
        warehouse: None,
        quantity: quantity.to_owned(),
        expected_on: day("2026-04-01"),
        order_line: None,
    };
    change(company, async |writing, rules| {
        stock::expect(writing, rules, &new).await?;
        Ok(true)
    })
    .await
    .unwrap();
}

async fn on_hand(company: &Company) -> Quantity {
    let mut books = company.store.read().await.unwrap();
    let stock = items::view(&mut books, company.items[0]).await.unwrap().stock;
    Quantity::from_scaled(stock.iter().map(|one| one.on_hand.scaled()).sum())
}

/// Four of an item at 59.00 each cost 131.40 (32.85 apiece). All four come back: two are restocked, one is scrapped, one
/// goes to the supplier, who is to credit 30.00. Crediting them takes what is open of the invoice off: 236.00 net and
/// 54.28 tax, postings.md, Goods and Documents.
#[tokio::test]
async fn a_return_goes_from_the_authorization_to_the_credit_memo() {
    let company = Company::new().await;
    let cost = {
        let invoice = billed(&company, 1).await;
        let id = authorize(&company, invoice, "1").await;
        receive(&company, id, "1", "2026-03-18").await.unwrap();
        view(&company, id).await.lines[0].waiting_cost.0
    };
    let before = on_hand(&company).await;
    let invoice = billed(&company, 4).await;
    let id = authorize(&company, invoice, "4").await;
    let authorized = view(&company, id).await;
    assert_eq!((authorized.state, authorized.next), (ReturnState::Open, NextStep::Receive));
    assert_eq!((authorized.expires_on, authorized.entries.len()), (day("2026-05-17"), 0));
    assert_eq!(returnable(&company, invoice).await.lines[0].left, Quantity::ZERO, "all of it is on the return");

    receive(&company, id, "4", "2026-03-18").await.unwrap();
    assert_eq!(entry_of(&company, id).await, pairs(&[("12000", 4 * cost), ("71000", -4 * cost)]));
    assert_eq!(view(&company, id).await.next, NextStep::Inspect);
    assert_eq!(on_hand(&company).await.scaled(), before.scaled() - 40_000, "nothing of it is for sale");
    company.holds().await;

    // Ten more are ordered in: what a customer sends back is not what the supplier was to bring.
    expect(&company, "10").await;
    let what = [("2", "RESTOCK", None), ("1", "SCRAP", None), ("1", "SUPPLIER", Some("30.00"))];
    inspect(&company, id, &what, "2026-03-18").await.unwrap();
    let expected = [("11000", 2 * cost), ("12000", -4 * cost), ("14000", 3_000), ("72000", 2 * cost - 3_000)];
    assert_eq!(entry_of(&company, id).await, pairs(&expected));
    assert_eq!(on_hand(&company).await.scaled(), before.scaled() - 20_000);
    let stock = items::view(&mut company.store.read().await.unwrap(), company.items[0]).await.unwrap().stock;
    assert_eq!(stock.iter().map(|one| one.expected.scaled()).sum::<i64>(), 100_000);
    let inspected = view(&company, id).await;
    assert_eq!((inspected.next, inspected.lines[0].to_settle), (NextStep::Settle, Quantity::from_whole(4)));
    assert_eq!(inspected.steps[1].lines[2].outcome, Some(ReturnOutcome::Supplier));
    company.holds().await;

    let posted = credit(&company, Some(id), invoice, "4").await.unwrap();
    let done = view(&company, id).await;
    assert_eq!((done.state, done.next, done.credits.len()), (ReturnState::Done, NextStep::Nothing, 1));
    // 236.00 net at 23 %.
    assert_eq!(done.credits[0].total, Money(23_600 + 5_428));
    let mut books = company.store.read().await.unwrap();
    let memo = invoices::credit_memo(&mut books, posted.credit_memo.unwrap()).await.unwrap();
    assert_eq!(memo.returned_on[0].as_ref().map(|on| on.id), Some(id.0));
    assert!(done.trail.steps.iter().any(|step| step.document.kind == DocumentKind::CreditMemo));
    drop(books);
    company.holds().await;
}

/// What was billed is free, on a return or credited, once: two people on the same line, by any mix.
#[tokio::test]
async fn what_was_billed_comes_back_or_is_credited_once() {
    let company = Company::new().await;
    let invoice = billed(&company, 4).await;
    let first = wish(&company, invoice, "3").await;
    let second = wish(&company, invoice, "2").await;
    let id = try_authorize(&company, &first).await.unwrap();
    // The other had the same line open.
    assert_eq!(blocked(try_authorize(&company, &second).await), at(Check::MoreThanReturnable, "lines.0.quantity"));
    // Three may come back: only one is left to credit as staying with the customer.
    let stays = credit(&company, None, invoice, "2").await;
    assert_eq!(blocked(stays), at(Check::MoreThanBilled, "lines.0.quantity"));
    credit(&company, None, invoice, "1").await.unwrap();
    let more = wish(&company, invoice, "1").await;
    assert_eq!(blocked(try_authorize(&company, &more).await), at(Check::MoreThanReturnable, "lines.0"));
    // Nothing is credited on the return before it is there, and not twice.
    assert_eq!(
        blocked(credit(&company, Some(id), invoice, "1").await),
        at(Check::MoreThanReturned, "lines.0.quantity")
    );
    receive(&company, id, "2", "2026-03-18").await.unwrap();
    assert_eq!(
        blocked(credit(&company, Some(id), invoice, "3").await),
        at(Check::MoreThanReturned, "lines.0.quantity")
    );
    credit(&company, Some(id), invoice, "2").await.unwrap();
    assert_eq!(
        blocked(credit(&company, Some(id), invoice, "1").await),
        at(Check::MoreThanReturned, "lines.0.quantity")
    );
    // The invoice cannot be canceled under it; closed, the last piece is free again.
    let cancel = ToCancelInvoice { reason: "all of it".to_owned(), ..ToCancelInvoice::default() };
    let canceled = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::cancel(writing, &rules, invoice, &cancel).await
        })
        .await;
    assert_eq!(blocked(canceled).0, Check::CannotCancel);
    close(&company, id).await.unwrap();
    assert_eq!(blocked(receive(&company, id, "1", "2026-03-18").await).0, Check::ReturnOver);
    credit(&company, None, invoice, "1").await.unwrap();
    company.holds().await;
}

/// 4 × 59.00 and freight, paid. Two of four come back and are replaced at no charge; one of the new ones comes back again, is
/// rejected and sent back; nothing is credited, and the cost of the goods is that of three that went out.
#[tokio::test]
async fn goods_are_replaced_and_sent_back_without_a_credit() {
    let company = Company::new().await;
    let invoice = billed(&company, 2).await;
    let id = authorize(&company, invoice, "2").await;
    receive(&company, id, "2", "2026-03-18").await.unwrap();
    let waiting = view(&company, id).await;
    let cost = waiting.lines[0].waiting_cost.0;
    inspect(&company, id, &[("2", "SCRAP", None)], "2026-03-18").await.unwrap();
    let before = on_hand(&company).await;
    let replaced = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            let form = ReplaceForm { line: waiting.lines[0].id, quantity: "2".to_owned(), date: None, note: None };
            let version = returns::view(writing, &rules, id).await?.version;
            returns::replace(writing, &rules, id, (version, None), &form).await
        })
        .await
        .unwrap();
    assert_eq!(entry_of(&company, id).await, pairs(&[("11000", -cost), ("71000", cost)]));
    assert_eq!(on_hand(&company).await.scaled(), before.scaled() - 20_000);
    assert_eq!(view(&company, id).await.state, ReturnState::Done);
    company.holds().await;
    // The customer has two again: one of them may come back.
    let again = authorize(&company, invoice, "1").await;
    receive(&company, again, "1", "2026-03-18").await.unwrap();
    // At what the replacement left with: the first two came back before and are gone.
    assert_eq!(view(&company, again).await.lines[0].waiting_cost, Money(cost / 2));
    inspect(&company, again, &[("1", "REJECT", None)], "2026-03-18").await.unwrap();
    let rejected = view(&company, again).await;
    assert_eq!((rejected.state, rejected.lines[0].progress.sent_back), (ReturnState::Done, Quantity::ONE));
    // On the first return the replacement cannot be taken back any more: what it would hold again is free for others only.
    undo(&company, id, replaced.step, "2026-03-18").await.unwrap();
    assert_eq!(view(&company, id).await.lines[0].to_settle, Quantity::from_whole(2));
    let third = wish(&company, invoice, "1").await;
    assert_eq!(blocked(try_authorize(&company, &third).await).0, Check::MoreThanReturnable);
    company.holds().await;
}

/// A step entered in error is reversed: the goods are where they were, the entry is turned round, once; not after something
/// followed.
#[tokio::test]
async fn a_step_is_reversed_while_nothing_followed() {
    let company = Company::new().await;
    let invoice = billed(&company, 3).await;
    let id = authorize(&company, invoice, "3").await;
    let received = receive(&company, id, "3", "2026-03-18").await.unwrap().step;
    let cost = view(&company, id).await.lines[0].waiting_cost.0;
    let before = on_hand(&company).await;
    let inspected = inspect(&company, id, &[("3", "RESTOCK", None)], "2026-03-18").await.unwrap().step;
    assert_eq!(blocked(undo(&company, id, received, "2026-03-18").await), at(Check::AlreadyLeft, "step"));
    assert_eq!(blocked(undo(&company, id, inspected, "2026-03-17").await), at(Check::DateTooEarly, "date"));
    undo(&company, id, inspected, "2026-03-18").await.unwrap();
    assert_eq!(entry_of(&company, id).await, pairs(&[("11000", -cost), ("12000", cost)]));
    assert_eq!(on_hand(&company).await, before);
    assert_eq!(view(&company, id).await.lines[0].waiting, Quantity::from_whole(3));
    company.holds().await;
    assert_eq!(blocked(undo(&company, id, inspected, "2026-03-18").await), at(Check::CannotCancel, "step"));
    // Credited, it stays received.
    credit(&company, Some(id), invoice, "1").await.unwrap();
    assert_eq!(blocked(undo(&company, id, received, "2026-03-18").await), at(Check::MoreThanReturned, "step"));
    let other = billed(&company, 2).await;
    let back = authorize(&company, other, "2").await;
    let step = receive(&company, back, "2", "2026-03-18").await.unwrap().step;
    undo(&company, back, step, "2026-03-18").await.unwrap();
    let now = view(&company, back).await;
    assert_eq!((now.next, now.lines[0].expected), (NextStep::Receive, Quantity::from_whole(2)));
    // Received again, it costs what it did.
    receive(&company, back, "2", "2026-03-18").await.unwrap();
    company.holds().await;
}

/// Returns end by themselves after their last day; what did not arrive is free again, and can be extended only while it is.
#[tokio::test]
async fn a_return_ends_by_itself_and_is_extended() {
    let company = Company::new().await;
    let invoice = billed(&company, 2).await;
    let mut new = wish(&company, invoice, "2").await;
    new.expires_on = Some(day("2026-03-18"));
    let id = try_authorize(&company, &new).await.unwrap();
    let later = async |on: &str| {
        change(&company, async |writing, _| {
            sqlx::query("UPDATE company SET business_date = ?").bind(on).execute(&mut **writing).await?;
            writing.note(till_core::record::Deed {
                what: "day".to_owned(),
                words: "another day".to_owned(),
                document: None,
                version: None,
                changes: Vec::new(),
            });
            Ok(true)
        })
        .await
        .unwrap()
    };
    later("2026-03-19").await;
    let over = view(&company, id).await;
    assert_eq!((over.state, over.live, over.lines[0].expected), (ReturnState::Expired, false, Quantity::ZERO));
    assert_eq!(blocked(receive(&company, id, "1", "2026-03-19").await), at(Check::ReturnOver, "date"));
    let open = {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        let filter = ReturnFilter { only_open: true, ..ReturnFilter::default() };
        returns::list(&mut books, &rules, &filter, (10, 0)).await.unwrap().count
    };
    assert_eq!(open, 0, "nothing is to be done on it");
    let extend = async |until: &str| {
        let version = view(&company, id).await.version;
        change(&company, async |writing, rules| returns::extend(writing, rules, id, (version, day(until))).await).await
    };
    assert!(extend("2026-03-18").await.is_err(), "a day that has passed");
    extend("2026-04-30").await.unwrap();
    assert_eq!(view(&company, id).await.state, ReturnState::Open);
    // Over again, and credited meanwhile as staying with the customer: there is nothing left to let arrive.
    later("2026-05-04").await;
    credit(&company, None, invoice, "1").await.unwrap();
    match extend("2026-06-30").await {
        Err(StoreError::Invalid { field, .. }) => assert_eq!(field, "expires_on"),
        other => panic!("{other:?}"),
    }
    company.holds().await;
}

/// What is paid and comes back is kept for the customer, unapplied: postings.md, “the same, invoice paid, kept”.
#[tokio::test]
async fn what_was_paid_is_kept_for_the_customer() {
    let company = Company::new().await;
    let invoice = billed(&company, 1).await;
    // 59.00 and freight of 18.00 at 23 %.
    company
        .receive(&NewReceipt {
            customer: company.customers[0],
            amount: "94.71".to_owned(),
            method: "transfer".to_owned(),
            date: None,
            reference: None,
            applications: None,
            first: None,
            with: Vec::new(),
            currency: None,
        })
        .await
        .unwrap();
    let id = authorize(&company, invoice, "1").await;
    receive(&company, id, "1", "2026-03-18").await.unwrap();
    let memo = credit(&company, Some(id), invoice, "1").await.unwrap().credit_memo.unwrap();
    let mut books = company.store.read().await.unwrap();
    let entries = ledger::entries_of(&mut books, DocumentKind::CreditMemo, memo.0).await.unwrap();
    let mut lines: Vec<_> = entries[0].entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect();
    lines.sort();
    assert_eq!(lines, pairs(&[("27000", -7_257), ("41000", 1_357), ("65000", 5_900)]));
    drop(books);
    company.holds().await;
}

#[tokio::test]
async fn a_company_has_reasons_and_dispositions_of_its_own() {
    let company = Company::new().await;
    let invoice = billed(&company, 1).await;
    let set = async |code: &str, active: bool| {
        let form = ReasonForm { code: code.to_owned(), name: "Wrong color".to_owned(), active };
        change(&company, async |writing, _| {
            returns::set_reason(writing, &form).await?;
            Ok(true)
        })
        .await
    };
    let mut new = wish(&company, invoice, "1").await;
    new.lines[0].reason = "COLOR".to_owned();
    assert_eq!(blocked(try_authorize(&company, &new).await), at(Check::ReasonMissing, "lines.0.reason"));
    assert!(set("color", true).await.is_err());
    set("COLOR", true).await.unwrap();
    let id = try_authorize(&company, &new).await.unwrap();
    assert_eq!(view(&company, id).await.lines[0].reason_name, "Wrong color");
    set("COLOR", false).await.unwrap();
    assert_eq!(blocked(try_authorize(&company, &new).await).0, Check::MoreThanReturnable);
    let form = |code: &str, outcome| DispositionForm {
        code: code.to_owned(),
        name: "Second quality".to_owned(),
        outcome,
        active: true,
    };
    let dispose = async |form: DispositionForm| {
        change(&company, async |writing, _| {
            returns::set_disposition(writing, &form).await?;
            Ok(true)
        })
        .await
    };
    dispose(form("SECOND", ReturnOutcome::Restock)).await.unwrap();
    assert!(dispose(form("SECOND", ReturnOutcome::Scrap)).await.is_err(), "what it leads to stays");
    receive(&company, id, "1", "2026-03-18").await.unwrap();
    inspect(&company, id, &[("1", "SECOND", None)], "2026-03-18").await.unwrap();
    assert_eq!(view(&company, id).await.steps[1].lines[0].disposition.as_deref(), Some("Second quality"));
    company.holds().await;
}

/// A proof that cannot fail proves nothing.
#[tokio::test]
async fn proofs_see_what_is_wrong_with_returns() {
    for (breaks, proof) in [
        (
            "DROP TRIGGER return_step_lines_keep; UPDATE return_step_lines SET cost_minor = cost_minor + 1",
            "Returned is never above billed, credited never above returned, line by line and day by day",
        ),
        (
            "DROP TRIGGER return_step_lines_keep; UPDATE return_step_lines SET quantity_e4 = quantity_e4 * 9",
            "Returned is never above billed, credited never above returned, line by line and day by day",
        ),
        (
            "UPDATE inspection_layers SET remaining_e4 = 0, remaining_cost_minor = 0",
            "Returned is never above billed, credited never above returned, line by line and day by day",
        ),
        (
            "DROP TRIGGER inspection_layers_keep; UPDATE inspection_layers SET cost_minor = cost_minor + 1, \
             remaining_cost_minor = remaining_cost_minor + 1",
            "Goods waiting for inspection equal their account, by day",
        ),
    ] {
        let company = Company::new().await;
        let invoice = billed(&company, 2).await;
        let id = authorize(&company, invoice, "2").await;
        receive(&company, id, "2", "2026-03-18").await.unwrap();
        company.holds().await;
        let mut side =
            SqliteConnectOptions::new().filename(company.folder.path().join("books.db")).connect().await.unwrap();
        side.execute(breaks).await.unwrap();
        side.close().await.unwrap();
        let verification = verify::verify(&mut company.store.read().await.unwrap()).await.unwrap();
        let broken: Vec<_> = verification.proofs.iter().filter(|one| !one.holds).map(|one| one.name.as_str()).collect();
        assert!(broken.contains(&proof), "{breaks}: {broken:?}");
    }
}

/// Of a claim of 30.00 the supplier pays 20.00 and refuses 10.00: 31000 20.00 and 72000 10.00 against 14000. Reversed, it is
/// open again, and is paid in whole. postings.md, Goods: supplier settles a claim, refuses it.
#[tokio::test]
async fn a_supplier_settles_a_claim_or_refuses_it() {
    let company = Company::new().await;
    let invoice = billed(&company, 2).await;
    let id = authorize(&company, invoice, "2").await;
    receive(&company, id, "2", "2026-03-18").await.unwrap();
    inspect(&company, id, &[("1", "SUPPLIER", Some("30.00")), ("1", "RESTOCK", None)], "2026-03-20").await.unwrap();
    let claims = async || {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        returns::claims(&mut books, &rules).await.unwrap()
    };
    let claim = claims().await.claims[0].clone();
    assert_eq!((claim.returned.id, claim.claimed, claim.open), (id.0, Money(3_000), Money(3_000)));
    let answer = async |settled: &str, refused: &str, method: &str, date: &str| {
        let new = ClaimAnswer {
            settled: Some(settled.to_owned()),
            refused: Some(refused.to_owned()),
            method: Some(method.to_owned()),
            reference: Some("their credit 4711".to_owned()),
            date: Some(day(date)),
            seen: None,
        };
        change(&company, async |writing, rules| returns::answer(writing, rules, claim.id, &new).await).await
    };
    assert_eq!(blocked(answer("20", "10.01", "transfer", "2026-03-21").await), at(Check::MoreThanClaimed, "refused"));
    assert_eq!(blocked(answer("20", "10", "transfer", "2026-03-19").await), at(Check::DateTooEarly, "date"));
    assert_eq!(blocked(answer("20", "10", "check", "2026-03-21").await), at(Check::CurrencyDiffers, "method"));
    assert_eq!(blocked(answer("0", "", "transfer", "2026-03-21").await), at(Check::NothingToDo, "settled"));
    assert_eq!(blocked(answer("-1", "2", "transfer", "2026-03-21").await), at(Check::AmountNotPositive, "settled"));
    let unread = answer("a lot", "", "transfer", "2026-03-21").await;
    assert!(matches!(unread, Err(StoreError::Invalid { field, .. }) if field == "settled"));
    assert_eq!(answer("20", "10", "transfer", "2026-03-21").await.unwrap(), Money::ZERO);
    assert_eq!(entry_of(&company, id).await, pairs(&[("14000", -3_000), ("31000", 2_000), ("72000", 1_000)]));
    company.holds().await;
    let answered = claims().await;
    assert_eq!(
        (answered.open, answered.claims[0].settled, answered.claims[0].refused),
        (Money::ZERO, Money(2_000), Money(1_000))
    );
    assert_eq!(blocked(answer("1", "", "transfer", "2026-03-22").await).0, Check::MoreThanClaimed);
    // The inspection stands as long as its claim is answered.
    let step = view(&company, id).await.steps[1].id;
    assert_eq!(blocked(undo(&company, id, step, "2026-03-22").await), at(Check::MoreThanClaimed, "step"));
    let reverse = async |date: &str, reason: &str| {
        let wish = ToReverse { date: Some(day(date)), reason: reason.to_owned() };
        let answer = answered.claims[0].answers[0].id;
        change(&company, async |writing, rules| returns::reverse_answer(writing, rules, answer, &wish).await).await
    };
    assert_eq!(blocked(reverse("2026-03-20", "typed twice").await), at(Check::DateTooEarly, "date"));
    assert_eq!(blocked(reverse("2026-03-22", "").await), at(Check::CannotCancel, "reason"));
    assert_eq!(reverse("2026-03-22", "typed twice").await.unwrap(), Money(3_000));
    assert_eq!(entry_of(&company, id).await, pairs(&[("14000", 3_000), ("31000", -2_000), ("72000", -1_000)]));
    assert_eq!(blocked(reverse("2026-03-23", "again").await), at(Check::CannotCancel, "answer"));
    company.holds().await;
    // Between the two it was answered: what is paid in whole is paid from then on.
    assert_eq!(blocked(answer("30", "", "transfer", "2026-03-21").await), at(Check::DateTooEarly, "date"));
    assert_eq!(answer("30", "", "transfer", "2026-03-22").await.unwrap(), Money::ZERO);
    assert_eq!(entry_of(&company, id).await, pairs(&[("14000", -3_000), ("31000", 3_000)]));
    company.holds().await;
    // A proof that cannot fail proves nothing.
    let mut side =
        SqliteConnectOptions::new().filename(company.folder.path().join("books.db")).connect().await.unwrap();
    side.execute(
        "DROP TRIGGER claim_answers_keep; UPDATE claim_answers SET settled_minor = settled_minor + 1 WHERE id = 2",
    )
    .await
    .unwrap();
    side.close().await.unwrap();
    let verification = verify::verify(&mut company.store.read().await.unwrap()).await.unwrap();
    let broken: Vec<_> = verification.proofs.iter().filter(|one| !one.holds).map(|one| one.name.as_str()).collect();
    assert_eq!(broken, ["Claims on suppliers equal their account, by day"]);
}

/// A picture is part of the books: it is in every copy. What is none is refused; the same one is there once; removed, its
/// content is gone.
#[tokio::test]
async fn pictures_belong_to_a_return() {
    let company = Company::new().await;
    let invoice = billed(&company, 1).await;
    let id = authorize(&company, invoice, "1").await;
    // One point, a JPEG: written by hand from ISO/IEC 10918-1, from memory.
    let picture =
        |width: u8| [&[0xFF, 0xD8, 0xFF, 0xC0, 0, 11, 8, 0, 1, 0, width, 1, 1, 0x11, 0, 0xFF, 0xD9][..]].concat();
    let add = async |name: &str, content: &[u8]| {
        change(&company, async |writing, rules| returns::add_picture(writing, rules, id, (name, content)).await).await
    };
    let added = add("crate.jpg", &picture(1)).await.unwrap();
    assert_eq!((added.name.as_str(), added.width, added.height, added.size), ("crate.jpg", 1, 1, 17));
    for (name, content) in [("invoice.jpg", b"%PDF-1.7".to_vec()), ("empty.jpg", Vec::new()), ("crate.jpg", picture(1))]
    {
        let refused = add(name, &content).await;
        assert!(matches!(&refused, Err(StoreError::Invalid { field, .. }) if field == "picture"), "{refused:?}");
    }
    add("label.jpg", &picture(2)).await.unwrap();
    let shown: Vec<_> = view(&company, id).await.pictures.into_iter().map(|one| one.name).collect();
    assert_eq!(shown, ["crate.jpg", "label.jpg"]);
    let copy = company.folder.path().join("copy.db");
    till_store::copies::backup(&company.folder.path().join("books.db"), &copy).await.unwrap();
    let restored = till_store::Store::open(&copy).await.unwrap();
    let kept = returns::picture(&mut *restored.read().await.unwrap(), id, added.id).await.unwrap();
    assert_eq!((kept.content, kept.media_type), (picture(1), "image/jpeg"));
    restored.close().await;
    let remove =
        async || change(&company, async |writing, _| returns::remove_picture(writing, id, added.id).await).await;
    assert!(remove().await.unwrap());
    assert!(matches!(remove().await, Err(StoreError::NotFound { .. })));
    let gone = returns::picture(&mut *company.store.read().await.unwrap(), id, added.id).await;
    assert!(matches!(gone, Err(StoreError::NotFound { .. })));
    // Added again it is there again.
    add("crate.jpg", &picture(1)).await.unwrap();
    assert_eq!(view(&company, id).await.pictures.len(), 2);
    company.holds().await;
}

/// One of three at 59.00, 17.70 off all of them, is back on 18 March: at the end of March 53.10 are owed, 65000 against 28000, and
/// back on 1 April. Once it is credited nothing is owed any more.
#[tokio::test]
async fn what_is_back_and_not_credited_is_entered_and_reversed() {
    let company = Company::new().await;
    let invoice = billed(&company, 3).await;
    let id = authorize(&company, invoice, "1").await;
    let enter = async |date: &str| {
        let new = NewAccrual { date: Some(day(date)), seen: None };
        change(&company, async |writing, rules| returns::enter_accrual(writing, rules, &new).await).await
    };
    let off = CreditLine { position: 0, quantity: None, amount: Some("17.70".to_owned()), return_line: None };
    let wish = ToCredit { lines: vec![off], reason: "scratched".to_owned(), ..ToCredit::default() };
    change(&company, async |writing, rules| invoices::credit(writing, rules, invoice, &wish).await).await.unwrap();
    assert_eq!(blocked(enter("2026-03-31").await), at(Check::NothingToDo, "date"));
    receive(&company, id, "1", "2026-03-18").await.unwrap();
    assert_eq!(blocked(enter("2026-03-18").await), at(Check::NotMonthEnd, "date"));
    let entered = enter("2026-03-31").await.unwrap();
    assert_eq!((entered.kind, entered.number.as_str()), (DocumentKind::ReturnAccrual, "AR-1"));
    company.holds().await;
    let mut books = company.store.read().await.unwrap();
    let entries = ledger::entries_of(&mut books, DocumentKind::ReturnAccrual, entered.id).await.unwrap();
    let lines: Vec<Vec<_>> = entries
        .iter()
        .map(|one| one.entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect())
        .collect();
    assert_eq!(lines, [pairs(&[("65000", 5_310), ("28000", -5_310)]), pairs(&[("65000", -5_310), ("28000", 5_310)])]);
    assert_eq!((entries[0].entry.date, entries[1].entry.date), (day("2026-03-31"), day("2026-04-01")));
    drop(books);
    assert_eq!(blocked(enter("2026-03-31").await), at(Check::DateTooEarly, "date"));
    credit(&company, Some(id), invoice, "1").await.unwrap();
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let later = NewAccrual { date: Some(day("2026-04-30")), seen: None };
    assert_eq!(returns::accrual_preview(&mut books, &rules, &later).await.unwrap().net, Money::ZERO);
    drop(books);
    // A damaged row does not pass.
    let mut side =
        SqliteConnectOptions::new().filename(company.folder.path().join("books.db")).connect().await.unwrap();
    side.execute("DROP TRIGGER return_accruals_keep; UPDATE return_accruals SET net_minor = net_minor + 1")
        .await
        .unwrap();
    side.close().await.unwrap();
    let verification = verify::verify(&mut company.store.read().await.unwrap()).await.unwrap();
    let broken: Vec<_> = verification.proofs.iter().filter(|one| !one.holds).map(|one| one.name.as_str()).collect();
    assert_eq!(broken, ["Expected returns equal their accounts"]);
}
