//! Goods that come back without an invoice: shipped and not billed yet, or with no document that shows them. The figures are
//! worked out by hand; *source of the rules: domain.md section 9, postings.md, Goods.*

use crate::common::*;
use till_core::checks::Check;
use till_core::fixed::Quantity;
use till_core::ids::{
    CreditDraftId, CustomerId, DocumentKind, DocumentRef, InvoiceId, OrderId, PersonId, ReturnId, ShipmentId,
};
use till_core::money::Money;
use till_core::people::Role;
use till_core::returns::{NextStep, ProofPolicy, Repair, ReturnLimit, ReturnState};
use till_core::shipment::CostEntry;
use till_store::goods_settings::{self, NewGoodsSettings};
use till_store::invoices::{
    self, AddedLine, CameBack, CreditAlone, CreditDraftForm, CreditDraftRow, CreditLine, ToBill, ToCancelInvoice,
    ToCredit,
};
use till_store::receipts::ToReverse;
use till_store::returns::{
    self, Done, DoneAtOnce, InspectForm, InspectLine, NewAccrual, NewReturn, NewReturnLine, ReceiveForm, ReceiveLine,
    ReplaceForm, ReturnRules, ReturnView, ReturnableFilter, ReturnableRow, UnknownAtOnce, UnknownBack,
};
use till_store::shipments::{self, ShipmentView, TakeBack};
use till_store::{Actor, Result, StoreError, customers, ledger, orders, rules};

async fn returnable(company: &Company, customer: usize) -> Vec<ReturnableRow> {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let filter = ReturnableFilter { customer: Some(company.customers[customer]), ..ReturnableFilter::default() };
    returns::returnable(&mut books, &rules, &filter, (50, 0)).await.unwrap().lines
}

fn new_return(company: &Company, line: NewReturnLine) -> NewReturn {
    let line = NewReturnLine { reason: "SURPLUS".to_owned(), ..line };
    NewReturn { customer: company.customers[0], lines: vec![line], ..NewReturn::default() }
}

async fn try_authorize(company: &Company, new: &NewReturn) -> Result<ReturnId> {
    change(company, async |writing, rules| Ok(returns::authorize(writing, rules, new, None).await?.0)).await
}

/// A return of so many of the goods that left and are not billed.
async fn unbilled(company: &Company, quantity: &str) -> ReturnId {
    let row = returnable(company, 0).await.into_iter().find(|row| row.shipment_line.is_some()).unwrap();
    let line =
        NewReturnLine { shipment_line: row.shipment_line, quantity: quantity.to_owned(), ..NewReturnLine::default() };
    try_authorize(company, &new_return(company, line)).await.unwrap()
}

async fn view(company: &Company, id: ReturnId) -> ReturnView {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    returns::view(&mut books, &rules, id).await.unwrap()
}

async fn receive(company: &Company, id: ReturnId, quantity: &str, date: &str) -> Result<Done> {
    let view = view(company, id).await;
    let lines = vec![ReceiveLine { line: view.lines[0].id, quantity: quantity.to_owned() }];
    let form = ReceiveForm { lines, date: Some(day(date)), in_repair: false, note: None };
    change(company, async |writing, rules| returns::receive(writing, rules, id, (view.version, None), &form).await)
        .await
}

async fn inspect(company: &Company, id: ReturnId, quantity: &str, disposition: &str) -> Result<Done> {
    let view = view(company, id).await;
    let line = InspectLine {
        line: view.lines[0].id,
        quantity: quantity.to_owned(),
        disposition: disposition.to_owned(),
        claim: None,
    };
    let form = InspectForm { lines: vec![line], ..InspectForm::default() };
    change(company, async |writing, rules| returns::inspect(writing, rules, id, (view.version, None), &form).await)
        .await
}

async fn undo(company: &Company, id: ReturnId) -> Result<Done> {
    let view = view(company, id).await;
    let step = view.steps.last().unwrap().id;
    let wish = ToReverse { date: None, reason: "another customer's".to_owned() };
    change(company, async |writing, rules| returns::undo(writing, rules, (id, step), (view.version, None), &wish).await)
        .await
}

async fn entry_of(company: &Company, id: ReturnId) -> Vec<(String, i64)> {
    let mut books = company.store.read().await.unwrap();
    let entries = ledger::entries_of(&mut books, DocumentKind::Return, id.0).await.unwrap();
    let lines = entries.last().unwrap().entry.lines.iter().map(|line| (line.account.clone(), line.base.0));
    let mut lines: Vec<_> = lines.collect();
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

async fn shipment(company: &Company, id: ShipmentId) -> ShipmentView {
    shipments::view(&mut company.store.read().await.unwrap(), id).await.unwrap()
}

/// What of the first line of an order is shipped, and to be shipped.
async fn shipped(company: &Company, order: OrderId) -> (Quantity, Quantity) {
    let view = orders::view(&mut company.store.read().await.unwrap(), order).await.unwrap();
    let progress = &view.lines[0].progress;
    (progress.shipped, Quantity::from_scaled(progress.ordered.scaled() - progress.shipped.scaled()))
}

async fn balance(company: &Company, account: &str) -> i64 {
    let trial = ledger::trial_balance(&mut company.store.read().await.unwrap(), day("2026-03-18")).await.unwrap();
    trial.accounts.iter().find(|one| one.number == account).map_or(0, |one| one.balance.0)
}

const fn pieces(whole: i64) -> Quantity {
    Quantity::from_whole(whole)
}

/// Four left at 120.12 (333 cost 10,000.00) and are not billed; two come back at 60.06. The order has two to ship again, the
/// invoice bills two and the freight: 136.00, 31.28 tax. Nothing is to be credited, and the shipment stays.
#[tokio::test]
async fn what_is_not_billed_comes_back_to_its_order() {
    let company = Company::new().await;
    let order = company.order(0, 4).await;
    let sent = company.ship(order, 4).await;
    let rows = returnable(&company, 0).await;
    assert_eq!(rows.len(), 1, "freight is nothing that comes back: {rows:?}");
    assert_eq!((rows[0].left, rows[0].worth, rows[0].line), (pieces(4), Money(23_600), None));
    let id = unbilled(&company, "2").await;
    assert_eq!(returnable(&company, 0).await[0].left, pieces(2), "two are on the return");
    let take_back = async || {
        let what =
            TakeBack { version: shipment(&company, sent).await.version, date: None, reason: "a test".to_owned() };
        change(&company, async |writing, rules| shipments::take_back(writing, rules, sent, &what).await).await
    };
    assert_eq!(blocked(take_back().await), at(Check::AlreadyBilled, "lines.0"), "its goods are to come back otherwise");
    assert_eq!(blocked(receive(&company, id, "2", "2026-03-11").await), at(Check::DateTooEarly, "date"));
    assert_eq!(
        blocked(receive(&company, id, "5", "2026-03-18").await),
        at(Check::MoreThanReturnable, "lines.0.quantity")
    );
    receive(&company, id, "2", "2026-03-17").await.unwrap();
    assert_eq!(entry_of(&company, id).await, pairs(&[("12000", 6_006), ("71000", -6_006)]));
    let back = view(&company, id).await;
    assert_eq!(
        (back.next, back.lines[0].to_settle, back.lines[0].progress.given_back),
        (NextStep::Inspect, pieces(0), pieces(2))
    );
    assert!(back.lines[0].unbilled && back.trail.steps.iter().any(|step| step.here));
    assert_eq!(shipped(&company, order).await, (pieces(2), pieces(2)));
    assert_eq!(shipment(&company, sent).await.lines[0].returned, pieces(2));
    company.holds().await;
    // It is not replaced nor sent back: the order ships it again.
    let replace = ReplaceForm { line: back.lines[0].id, quantity: "1".to_owned(), ..ReplaceForm::default() };
    let replaced = change(&company, async |writing, rules| {
        returns::replace(writing, rules, id, (back.version, None), &replace).await
    })
    .await;
    assert_eq!(blocked(replaced), at(Check::MoreThanReturned, "line"));
    assert_eq!(blocked(inspect(&company, id, "1", "REJECT").await).0, Check::MoreThanReturned);
    inspect(&company, id, "2", "RESTOCK").await.unwrap();
    assert_eq!(view(&company, id).await.state, ReturnState::Done);
    let accrual = {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        let new = NewAccrual { date: Some(day("2026-03-31")), seen: None };
        returns::accrual_preview(&mut books, &rules, &new).await.unwrap().net
    };
    assert_eq!(accrual, Money::ZERO, "nothing will be credited for it");
    let invoice = company.bill(sent).await;
    let billed = invoices::view(&mut company.store.read().await.unwrap(), invoice).await.unwrap().document.unwrap();
    assert_eq!((billed.lines[0].quantity, billed.net, billed.tax), (pieces(2), Money(13_600), Money(3_128)));
    // Two are shipped again and billed: the order is done.
    let again = company.ship(order, 2).await;
    company.bill(again).await;
    assert_eq!(shipped(&company, order).await, (pieces(4), pieces(0)));
    company.holds().await;
}

/// A receipt that was entered in error is reversed while the order still has to ship what came back; once it has shipped it
/// again, it stays.
#[tokio::test]
async fn a_receipt_is_reversed_until_its_goods_are_shipped_again() {
    let company = Company::new().await;
    let order = company.order(0, 4).await;
    let sent = company.ship(order, 4).await;
    let id = unbilled(&company, "2").await;
    receive(&company, id, "2", "2026-03-18").await.unwrap();
    undo(&company, id).await.unwrap();
    assert_eq!(
        (shipped(&company, order).await.0, shipment(&company, sent).await.lines[0].returned),
        (pieces(4), pieces(0))
    );
    company.holds().await;
    receive(&company, id, "2", "2026-03-18").await.unwrap();
    company.ship(order, 1).await;
    assert_eq!(blocked(undo(&company, id).await), at(Check::AlreadyLeft, "step"));
    company.holds().await;
}

/// Where cost follows billing, 7 wait at 210.21. Three come back: 90.09 wait no longer; the four that are billed take the
/// 120.12 that are left.
#[tokio::test]
async fn cost_that_waits_for_billing_comes_back_in_its_share() {
    let company = Company::new().await;
    let now = goods_settings::view(&mut company.store.read().await.unwrap()).await.unwrap();
    let following = NewGoodsSettings {
        warehouse: now.warehouse,
        cost_entry: CostEntry::AtBilling,
        clearing_days: now.clearing_days,
        freight_item: "FRT".to_owned(),
        treatments: Vec::new(),
    };
    change(&company, async |writing, _| goods_settings::change(writing, &following).await).await.unwrap();
    let order = company.order(0, 7).await;
    let sent = company.ship(order, 7).await;
    assert_eq!(balance(&company, "13000").await, 21_021);
    let id = unbilled(&company, "3").await;
    receive(&company, id, "3", "2026-03-18").await.unwrap();
    assert_eq!(entry_of(&company, id).await, pairs(&[("12000", 9_009), ("13000", -9_009)]));
    company.holds().await;
    company.bill(sent).await;
    assert_eq!((balance(&company, "13000").await, balance(&company, "71000").await), (0, 12_012));
    company.holds().await;
}

/// What was to come back unbilled and is billed meanwhile comes back on that invoice, and is credited. What is billed in part
/// only stays with the shipment, as far as that has it.
#[tokio::test]
async fn a_return_follows_its_goods_onto_the_invoice() {
    let company = Company::new().await;
    let order = company.order(0, 4).await;
    let sent = company.ship(order, 4).await;
    let id = unbilled(&company, "2").await;
    let invoice = company.bill(sent).await;
    let line = view(&company, id).await.lines.remove(0);
    assert_eq!((line.unbilled, line.document.map(|one| one.id)), (false, Some(invoice.0)));
    let row = returnable(&company, 0).await.remove(0);
    assert_eq!((row.line, row.left), (line.billed_on, pieces(2)), "two of the four on the invoice are on the return");
    receive(&company, id, "2", "2026-03-18").await.unwrap();
    let lines =
        vec![CreditLine { position: 0, quantity: Some("2".to_owned()), amount: None, return_line: Some(line.id) }];
    let wish = ToCredit { lines, added: Vec::new(), date: None, reason: "too many".to_owned(), seen: None };
    change(&company, async |writing, rules| invoices::credit(writing, rules, invoice, &wish).await).await.unwrap();
    inspect(&company, id, "2", "RESTOCK").await.unwrap();
    assert_eq!(view(&company, id).await.state, ReturnState::Done);
    company.holds().await;

    let order = company.order(1, 4).await;
    let sent = company.ship(order, 4).await;
    let row = returnable(&company, 1).await.remove(0);
    let line = NewReturnLine { shipment_line: row.shipment_line, quantity: "3".to_owned(), ..NewReturnLine::default() };
    let new = NewReturn { customer: company.customers[1], ..new_return(&company, line.clone()) };
    let id = try_authorize(&company, &new).await.unwrap();
    let mut to_bill: ToBill = company.to_bill(sent).await;
    to_bill.picks[0].quantity = Some(pieces(2));
    change(&company, async |writing, rules| invoices::post_picks(writing, rules, &to_bill, None).await).await.unwrap();
    assert!(view(&company, id).await.lines[0].unbilled);
    assert_eq!(
        blocked(receive(&company, id, "3", "2026-03-18").await),
        at(Check::MoreThanReturnable, "lines.0.quantity")
    );
    receive(&company, id, "2", "2026-03-18").await.unwrap();
    assert_eq!(shipped(&company, order).await.0, pieces(2));
    company.holds().await;
    // Another customer's goods are none of ours.
    let wrong = new_return(&company, line);
    assert!(
        matches!(try_authorize(&company, &wrong).await, Err(StoreError::Invalid { field, .. }) if field == "lines.0")
    );
}

/// Billed on the 5th and canceled on the 16th, the goods were not unbilled in between: they come back from the 16th on. A
/// receipt that is reversed on the 18th leaves nothing to bill before that day.
#[tokio::test]
async fn nothing_comes_back_unbilled_on_a_day_it_was_billed() {
    let company = Company::new().await;
    let order = company.order(0, 4).await;
    let sent = company.ship(order, 4).await;
    let to_bill = ToBill { document_date: Some(day("2026-03-13")), ..company.to_bill(sent).await };
    let posted = change(&company, async |writing, rules| invoices::post_picks(writing, rules, &to_bill, None).await)
        .await
        .unwrap();
    let cancel =
        ToCancelInvoice { date: Some(day("2026-03-16")), reason: "a test".to_owned(), ..ToCancelInvoice::default() };
    let invoice: InvoiceId = posted[0].id;
    change(&company, async |writing, rules| invoices::cancel(writing, rules, invoice, &cancel).await).await.unwrap();
    let id = unbilled(&company, "4").await;
    assert_eq!(blocked(receive(&company, id, "4", "2026-03-14").await), at(Check::DateTooEarly, "date"));
    receive(&company, id, "4", "2026-03-16").await.unwrap();
    undo(&company, id).await.unwrap();
    let early = ToBill { document_date: Some(day("2026-03-17")), ..company.to_bill(sent).await };
    let refused =
        change(&company, async |writing, rules| invoices::post_picks(writing, rules, &early, None).await).await;
    assert!(
        matches!(&refused, Err(StoreError::Refused(_))),
        "on the 17th they lay in the inspection place: {refused:?}"
    );
    company.bill(sent).await;
    company.holds().await;
}

async fn policy(company: &Company, proof: ProofPolicy, limit: ReturnLimit) {
    let new = ReturnRules { days: 60, proof, limit };
    change(company, async |writing, rules| returns::set_rules(writing, rules, &new).await).await.unwrap();
}

fn unknown(quantity: &str) -> NewReturnLine {
    NewReturnLine {
        item: Some("a".to_owned()),
        price: Some("59.00".to_owned()),
        quantity: quantity.to_owned(),
        ..NewReturnLine::default()
    }
}

/// No document shows them: two come back at the cost of the newest goods, 62.97 (667 cost 20,999.99), and are credited at
/// 59.00 each, 118.00 and 27.14 tax, by a credit memo of their own; never more than came back. Only where the company lets,
/// and by a supervisor.
#[tokio::test]
async fn what_no_document_shows_is_policy_and_is_credited_alone() {
    let company = Company::new().await;
    let new = new_return(&company, unknown("2"));
    assert_eq!(blocked(try_authorize(&company, &new).await), at(Check::ProofMissing, "lines.0.item"));
    policy(&company, ProofPolicy::Warn, ReturnLimit::Line).await;
    let clerk = Actor::person(PersonId(1), "tess", Role::Clerk, "here", by().at);
    let as_clerk = company
        .store
        .change(&clerk, None, async |writing| {
            let rules = rules::load(writing).await?;
            let seen = returns::preview(writing, &rules, &new).await?.fingerprint;
            Ok(returns::authorize(writing, &rules, &new, Some(&seen)).await?.0)
        })
        .await;
    assert!(matches!(as_clerk, Err(StoreError::NotAllowed(_))), "{as_clerk:?}");
    for (name, line) in [
        ("item", NewReturnLine { item: Some("nothing".to_owned()), ..unknown("2") }),
        ("item", NewReturnLine { item: None, ..unknown("2") }),
        ("price", NewReturnLine { price: None, ..unknown("2") }),
        ("price", NewReturnLine { price: Some("dear".to_owned()), ..unknown("2") }),
        ("cost", NewReturnLine { cost: Some("1,2,3".to_owned()), ..unknown("2") }),
        ("quantity", unknown("two")),
    ] {
        match try_authorize(&company, &new_return(&company, line)).await {
            Err(StoreError::Invalid { field, .. }) => assert_eq!(field, format!("lines.0.{name}")),
            other => panic!("{name}: {other:?}"),
        }
    }
    // Before a quantity is typed, that is what is missing.
    let none = try_authorize(&company, &new_return(&company, unknown(""))).await;
    assert!(
        matches!(&none, Err(StoreError::Refused(blockers)) if blockers.iter().any(|one| one.field == "lines.0.quantity")),
        "{none:?}"
    );
    let id = try_authorize(&company, &new).await.unwrap();
    receive(&company, id, "2", "2026-03-18").await.unwrap();
    assert_eq!(entry_of(&company, id).await, pairs(&[("12000", 6_297), ("71000", -6_297)]));
    let back = view(&company, id).await;
    assert_eq!((back.lines[0].document.clone(), back.lines[0].to_settle), (None, pieces(2)));
    let owed = {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        let new = NewAccrual { date: Some(day("2026-03-31")), seen: None };
        returns::accrual_preview(&mut books, &rules, &new).await.unwrap().net
    };
    assert_eq!(owed, Money(11_800), "what will be credited is owed already");
    let credit = async |quantity: &str, item: &str| {
        let added = AddedLine {
            item: Some(item.to_owned()),
            quantity: quantity.to_owned(),
            unit_price: Some("59.00".to_owned()),
            ..AddedLine::default()
        };
        let wish = CreditAlone {
            customer: company.customers[0],
            currency: None,
            added: vec![added],
            came_back: vec![CameBack { line: 0, return_line: back.lines[0].id }],
            date: None,
            reason: "no receipt".to_owned(),
            seen: None,
        };
        change(&company, async |writing, rules| invoices::credit_alone(writing, rules, &wish).await).await
    };
    assert_eq!(blocked(credit("3", "A").await), at(Check::MoreThanReturned, "added.0.quantity"));
    assert!(matches!(credit("1", "B").await, Err(StoreError::Invalid { field, .. }) if field == "added.0"));
    let memo = credit("2", "A").await.unwrap().credit_memo.unwrap();
    let memo = invoices::credit_memo(&mut company.store.read().await.unwrap(), memo).await.unwrap();
    assert_eq!(memo.kept.unwrap().amount, Money(14_514));
    assert_eq!(blocked(credit("1", "A").await), at(Check::MoreThanReturned, "added.0.quantity"));
    inspect(&company, id, "2", "SCRAP").await.unwrap();
    assert_eq!(view(&company, id).await.state, ReturnState::Done);
    company.holds().await;
    // Said to have cost 20.00 each, and why.
    let said =
        NewReturnLine { cost: Some("20".to_owned()), cost_reason: Some("an old model".to_owned()), ..unknown("1") };
    let id = try_authorize(&company, &new_return(&company, said)).await.unwrap();
    receive(&company, id, "1", "2026-03-18").await.unwrap();
    assert_eq!(entry_of(&company, id).await, pairs(&[("12000", 2_000), ("71000", -2_000)]));
    company.holds().await;
}

fn back(quantity: &str, disposition: Option<&str>) -> UnknownBack {
    UnknownBack {
        item: "a".to_owned(),
        quantity: quantity.to_owned(),
        price: "59.00".to_owned(),
        reason: "UNWANTED".to_owned(),
        disposition: disposition.map(str::to_owned),
        ..UnknownBack::default()
    }
}

/// What comes back of A at 59.00 each, and a B at so much that goes out for it.
fn exchange(company: &Company, customer: usize, back: UnknownBack, price: Option<&str>) -> UnknownAtOnce {
    let out = price.map(|price| AddedLine {
        item: Some("B".to_owned()),
        quantity: "1".to_owned(),
        unit_price: Some(price.to_owned()),
        ..AddedLine::default()
    });
    UnknownAtOnce {
        customer: company.customers[customer],
        back: vec![back],
        added: out.into_iter().collect(),
        date: None,
        reason: "the other one is wanted".to_owned(),
        seen: None,
    }
}

async fn at_once(company: &Company, wish: &UnknownAtOnce) -> Result<DoneAtOnce> {
    change(company, async |writing, rules| returns::unknown_at_once(writing, rules, wish).await).await
}

/// The entry of a document as its accounts and amounts, sorted.
async fn entry_over(company: &Company, document: &DocumentRef) -> Vec<(String, i64)> {
    let mut books = company.store.read().await.unwrap();
    let entries = ledger::entries_of(&mut books, document.kind, document.id).await.unwrap();
    assert_eq!(entries.len(), 1, "one entry holds it all");
    let mut lines: Vec<_> = entries[0].entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect();
    lines.sort();
    lines
}

/// An exchange that points at no invoice, postings.md, Documents. One A back (59.00 + 13.57) at the newest goods' 31.48 and
/// sellable, a B out at 80.00 + 18.40 (cost 30.03): 25.83 to pay, an invoice. Two A back (145.14, at the 31.48 of that one, the
/// newest now) for a B at 80.00:
/// 46.74 kept. For a B at 118.00: even. In pounds at 1.17: 98.40 is 115.13, 72.57 is 84.91, 30.22 to pay.
#[tokio::test]
async fn an_exchange_that_points_at_no_invoice_is_one_entry() {
    let company = Company::new().await;
    policy(&company, ProofPolicy::Warn, ReturnLimit::Line).await;
    let pay = at_once(&company, &exchange(&company, 0, back("1", Some("RESTOCK")), Some("80"))).await.unwrap();
    let row = [
        ("11000", -3_003),
        ("11000", 3_148),
        ("21000", 2_583),
        ("41000", -1_840),
        ("41000", 1_357),
        ("61000", -8_000),
        ("65000", 5_900),
        ("71000", -3_148),
        ("71000", 3_003),
    ];
    assert_eq!((pay.document.kind, entry_over(&company, &pay.document).await), (DocumentKind::Invoice, pairs(&row)));
    company.holds().await;
    let favor = at_once(&company, &exchange(&company, 0, back("2", None), Some("80"))).await.unwrap();
    let row = [
        ("11000", -3_003),
        ("12000", 6_296),
        ("27000", -4_674),
        ("41000", -1_840),
        ("41000", 2_714),
        ("61000", -8_000),
        ("65000", 11_800),
        ("71000", -6_296),
        ("71000", 3_003),
    ];
    assert_eq!(
        (favor.document.kind, entry_over(&company, &favor.document).await),
        (DocumentKind::CreditMemo, pairs(&row))
    );
    let even = at_once(&company, &exchange(&company, 0, back("2", None), Some("118"))).await.unwrap();
    let row = [
        ("11000", -3_003),
        ("12000", 6_296),
        ("41000", -2_714),
        ("41000", 2_714),
        ("61000", -11_800),
        ("65000", 11_800),
        ("71000", -6_296),
        ("71000", 3_003),
    ];
    assert_eq!(entry_over(&company, &even.document).await, pairs(&row));
    company.holds().await;
    let pounds = at_once(&company, &exchange(&company, 2, back("1", None), Some("80"))).await.unwrap();
    let row = [
        ("11000", -3_003),
        ("12000", 3_148),
        ("21000", 3_022),
        ("41000", -2_153),
        ("41000", 1_588),
        ("61000", -9_360),
        ("65000", 6_903),
        ("71000", -3_148),
        ("71000", 3_003),
    ];
    assert_eq!(entry_over(&company, &pounds.document).await, pairs(&row));
    // With nothing out it is a direct return.
    let direct = at_once(&company, &exchange(&company, 0, back("1", Some("SCRAP")), None)).await.unwrap();
    let row = [("27000", -7_257), ("41000", 1_357), ("65000", 5_900), ("71000", -3_148), ("72000", 3_148)];
    assert_eq!(entry_over(&company, &direct.document).await, pairs(&row));
    company.holds().await;
    // The return says what settled it; the invoice says what it took back, is not cancelled, and what it supplied is returned.
    let kept = view(&company, ReturnId(pay.returned.id)).await;
    assert_eq!((kept.state, kept.credits[0].document.clone()), (ReturnState::Done, pay.document.clone()));
    let invoice = InvoiceId(pay.document.id);
    let seen = invoices::view(&mut company.store.read().await.unwrap(), invoice).await.unwrap();
    assert_eq!((seen.open, seen.takes_back), (Some(Money(2_583)), Some(pay.returned.clone())));
    let cancel = ToCancelInvoice { reason: "by mistake".to_owned(), ..ToCancelInvoice::default() };
    let refused =
        change(&company, async |writing, rules| invoices::cancel(writing, rules, invoice, &cancel).await).await;
    assert!(matches!(&refused, Err(StoreError::WrongState(why)) if why.contains(&pay.returned.number)), "{refused:?}");
    let left: Vec<_> = returnable(&company, 0).await.into_iter().map(|row| (row.code, row.left)).collect();
    assert_eq!(left, [("B".to_owned(), pieces(1))], "what it took back is no line to return");
    let lines = vec![CreditLine { position: 0, quantity: Some("1".to_owned()), amount: None, return_line: None }];
    let wish = ToCredit { lines, added: Vec::new(), date: None, reason: "broken".to_owned(), seen: None };
    change(&company, async |writing, rules| invoices::credit(writing, rules, invoice, &wish).await).await.unwrap();
    company.holds().await;
}

/// By a supervisor, where the company lets, within their limit; each fault at its field; nothing stays of what was refused or
/// only looked at. What a credit memo supplied counts to what a customer ever bought.
#[tokio::test]
async fn an_exchange_without_an_invoice_keeps_to_policies_and_limits() {
    let company = Company::new().await;
    let wish = exchange(&company, 0, back("1", None), Some("80"));
    assert_eq!(blocked(at_once(&company, &wish).await), at(Check::ProofMissing, "back.0.item"));
    policy(&company, ProofPolicy::Free, ReturnLimit::Line).await;
    let as_role = async |role: Role, wish: &UnknownAtOnce| {
        let actor = Actor::person(PersonId(1), "tess", role, "here", by().at);
        let seen = returns::unknown_at_once_preview(&company.store, &actor, wish).await.map(|one| one.fingerprint);
        let wish = UnknownAtOnce { seen: seen.as_ref().ok().cloned(), ..wish.clone() };
        company
            .store
            .change(&actor, None, async |writing| {
                let rules = rules::load(writing).await?;
                returns::unknown_at_once(writing, &rules, &wish).await
            })
            .await
    };
    assert!(matches!(as_role(Role::Clerk, &wish).await, Err(StoreError::NotAllowed(_))));
    // Nobody set a limit: it is zero.
    let above = as_role(Role::Lead, &wish).await;
    assert!(matches!(&above, Err(StoreError::NotAllowed(why)) if why.contains("Authorize a return")), "{above:?}");
    for (field, back) in [
        ("back.0.item", UnknownBack { item: "nothing".to_owned(), ..back("1", None) }),
        ("back.0.item", UnknownBack { item: String::new(), ..back("1", None) }),
        ("back.0.price", UnknownBack { price: String::new(), ..back("1", None) }),
        ("back.0.price", UnknownBack { price: "dear".to_owned(), ..back("1", None) }),
        ("back.0.quantity", UnknownBack { quantity: "one".to_owned(), ..back("1", None) }),
        ("back.0.cost", UnknownBack { cost: Some("1,2,3".to_owned()), ..back("1", None) }),
    ] {
        match at_once(&company, &exchange(&company, 0, back, Some("80"))).await {
            Err(StoreError::Invalid { field: at, .. }) => assert_eq!(at, field),
            other => panic!("{field}: {other:?}"),
        }
    }
    let none = UnknownAtOnce { back: Vec::new(), ..wish.clone() };
    assert!(matches!(at_once(&company, &none).await, Err(StoreError::Invalid { field, .. }) if field == "back"));
    let silent = UnknownAtOnce { reason: " ".to_owned(), ..wish.clone() };
    assert!(matches!(at_once(&company, &silent).await, Err(StoreError::Invalid { field, .. }) if field == "reason"));
    let early = UnknownAtOnce { date: Some(day("2026-03-14")), ..wish.clone() };
    assert_eq!(blocked(at_once(&company, &early).await).1, "date");
    let mut much = wish.clone();
    much.added[0].quantity = "5000".to_owned();
    assert_eq!(blocked(at_once(&company, &much).await), at(Check::StockShort, "added.0.quantity"));
    let gone = exchange(&company, 0, UnknownBack { disposition: Some("GONE".to_owned()), ..back("1", None) }, None);
    assert_eq!(blocked(at_once(&company, &gone).await).1, "back.0.disposition");
    let count = async || {
        let mut books = company.store.read().await.unwrap();
        sqlx::query_scalar::<_, i64>("SELECT (SELECT count(*) FROM returns) + (SELECT count(*) FROM documents)")
            .fetch_one(&mut *books)
            .await
            .unwrap()
    };
    assert_eq!(count().await, 0, "what was refused or only looked at leaves nothing");
    // One A was bought, and went back for a B: a B may come back then, and no second.
    let order = company.order(0, 1).await;
    let sent = company.ship(order, 1).await;
    company.bill(sent).await;
    policy(&company, ProofPolicy::Free, ReturnLimit::Customer).await;
    let favor = at_once(&company, &exchange(&company, 0, back("1", None), Some("20"))).await.unwrap();
    assert_eq!(favor.document.kind, DocumentKind::CreditMemo);
    let of_b = UnknownBack { item: "B".to_owned(), price: "20".to_owned(), ..back("1", None) };
    at_once(&company, &exchange(&company, 0, of_b.clone(), None)).await.unwrap();
    let second = at_once(&company, &exchange(&company, 0, of_b, None)).await;
    assert_eq!(blocked(second).0, Check::MoreThanReturnable);
    company.holds().await;
}

/// What is back and not credited is owed without its tax, where the customer's prices carry it: 61.50 with 23 % is 50.00.
#[tokio::test]
async fn what_is_owed_at_the_end_of_a_month_is_net_of_tax() {
    let company = Company::new().await;
    policy(&company, ProofPolicy::Free, ReturnLimit::Line).await;
    let customer = company.customers[0];
    change(&company, async |writing, rules| {
        let mut form = customers::form(writing, rules.base, customer).await?;
        form.gross_priced = true;
        let version = customers::view(writing, customer).await?.version;
        customers::save(writing, rules, Some((customer, version)), &form).await?;
        Ok(())
    })
    .await
    .unwrap();
    let line = NewReturnLine { price: Some("61.50".to_owned()), ..unknown("1") };
    let id = try_authorize(&company, &new_return(&company, line)).await.unwrap();
    receive(&company, id, "1", "2026-03-18").await.unwrap();
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let new = NewAccrual { date: Some(day("2026-03-31")), seen: None };
    assert_eq!(returns::accrual_preview(&mut books, &rules, &new).await.unwrap().net, Money(5_000));
}

async fn drafts_of(company: &Company) -> Vec<CreditDraftRow> {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    invoices::credit_drafts(&mut books, &rules, None).await.unwrap()
}

/// A credit that is begun is saved for whoever goes on with it: it says what it would come to today, 59.00 and 13.57, and what
/// stands in its way; another version is refused; it ends as it is posted, and only then anything is credited.
#[tokio::test]
async fn a_draft_of_a_credit_memo_waits_for_whoever_goes_on() {
    let company = Company::new().await;
    let order = company.order(0, 2).await;
    let sent = company.ship(order, 2).await;
    let invoice = company.bill(sent).await;
    let form = |quantity: &str, reason: &str| CreditDraftForm::Invoice {
        invoice,
        wish: ToCredit {
            lines: vec![CreditLine { position: 0, quantity: Some(quantity.to_owned()), ..CreditLine::default() }],
            reason: reason.to_owned(),
            ..ToCredit::default()
        },
    };
    let save = async |known: Option<(CreditDraftId, i64)>, form: &CreditDraftForm| {
        change(&company, async |writing, _| invoices::save_credit_draft(writing, known, form).await).await
    };
    let first = save(None, &form("1", "")).await.unwrap();
    let row = drafts_of(&company).await.remove(0);
    assert_eq!((row.total, row.blocked, row.reason.as_str()), (Some(Money(7_257)), None, ""));
    let second = save(Some((first.id, first.version)), &form("3", "broken")).await.unwrap();
    assert_eq!(second.version, 2);
    let stale = save(Some((first.id, first.version)), &form("1", "another")).await;
    assert!(matches!(stale, Err(StoreError::Stale { current: 2, .. })), "{stale:?}");
    let row = drafts_of(&company).await.remove(0);
    assert!(row.blocked.is_some_and(|why| why.contains('2')), "three of two");
    // What cannot be read is kept as it was typed, and said.
    save(Some((first.id, 2)), &form("a few", "broken")).await.unwrap();
    let row = drafts_of(&company).await.remove(0);
    assert!(row.total.is_none() && row.blocked.is_some());
    let post = async |form: &CreditDraftForm, seen: i64| {
        let draft = Some((first.id, seen));
        change(&company, async |writing, rules| invoices::credit_from(writing, rules, form, draft).await).await
    };
    assert!(post(&form("3", "broken"), 3).await.is_err());
    let stale = post(&form("1", "broken"), 2).await;
    assert!(matches!(stale, Err(StoreError::Stale { current: 3, .. })), "someone saved it since: {stale:?}");
    assert_eq!(drafts_of(&company).await.len(), 1, "what is refused leaves the draft");
    let posted = post(&form("1", "broken"), 3).await.unwrap();
    let again = post(&form("1", "broken"), 3).await;
    assert!(matches!(again, Err(StoreError::WrongState(_))), "opened by two, it is credited once: {again:?}");
    assert!(posted.credit_memo.is_some() && drafts_of(&company).await.is_empty());
    assert!(matches!(save(Some((first.id, 3)), &form("1", "late")).await, Err(StoreError::WrongState(_))));
    company.holds().await;
    // One with no invoice behind it, given up; a customer nobody knows.
    let alone = |customer| CreditDraftForm::Alone {
        wish: CreditAlone {
            customer,
            currency: None,
            added: vec![AddedLine { item: Some("FRT".to_owned()), quantity: "1".to_owned(), ..AddedLine::default() }],
            came_back: Vec::new(),
            date: None,
            reason: "goodwill".to_owned(),
            seen: None,
        },
    };
    let unknown = save(None, &alone(CustomerId(99))).await;
    assert!(matches!(unknown, Err(StoreError::Invalid { field, .. }) if field == "customer"));
    let draft = save(None, &alone(company.customers[2])).await.unwrap();
    let row = drafts_of(&company).await.remove(0);
    assert_eq!((row.currency.code(), row.invoice, row.reason.as_str()), ("GBP", None, "goodwill"));
    let given_up = async |seen| {
        change(&company, async |writing, _| invoices::drop_credit_draft(writing, draft.id, seen).await).await
    };
    assert!(matches!(given_up(7).await, Err(StoreError::Stale { .. })));
    given_up(1).await.unwrap();
    assert!(drafts_of(&company).await.is_empty());
}

/// Where all a customer ever bought may come back: five were billed, then four, one of those is credited. Six come back of the
/// four: three of them, and three of the five. Eight in all may, with a document or without.
#[tokio::test]
async fn more_than_a_line_billed_comes_back_of_the_others() {
    let company = Company::new().await;
    let mut invoices = Vec::new();
    for quantity in [5, 4] {
        let order = company.order(0, quantity).await;
        let sent = company.ship(order, quantity).await;
        invoices.push(company.bill(sent).await);
    }
    let lines = vec![CreditLine { position: 0, quantity: Some("1".to_owned()), amount: None, return_line: None }];
    let wish = ToCredit { lines, added: Vec::new(), date: None, reason: "kept, at no price".to_owned(), seen: None };
    change(&company, async |writing, rules| invoices::credit(writing, rules, invoices[1], &wish).await).await.unwrap();
    let newest = returnable(&company, 0).await.remove(0);
    assert_eq!((newest.document.id, newest.left), (invoices[1].0, pieces(3)));
    let wanted = |quantity: &str| {
        new_return(
            &company,
            NewReturnLine { line: newest.line, quantity: quantity.to_owned(), ..NewReturnLine::default() },
        )
    };
    assert_eq!(blocked(try_authorize(&company, &wanted("6")).await), at(Check::MoreThanReturnable, "lines.0.quantity"));
    policy(&company, ProofPolicy::Free, ReturnLimit::Customer).await;
    assert_eq!(blocked(try_authorize(&company, &wanted("9")).await), at(Check::MoreThanReturnable, "lines.0.quantity"));
    assert_eq!(
        blocked(try_authorize(&company, &new_return(&company, unknown("9"))).await).0,
        Check::MoreThanReturnable
    );
    let id = try_authorize(&company, &wanted("6")).await.unwrap();
    let lines = view(&company, id).await.lines;
    let parts: Vec<_> =
        lines.iter().map(|line| (line.document.as_ref().map(|one| one.id), line.progress.authorized)).collect();
    assert_eq!(parts, [(Some(invoices[1].0), pieces(3)), (Some(invoices[0].0), pieces(3))]);
    try_authorize(&company, &new_return(&company, unknown("2"))).await.unwrap();
    assert_eq!(
        blocked(try_authorize(&company, &new_return(&company, unknown("1"))).await),
        at(Check::MoreThanReturnable, "lines.0")
    );
    company.holds().await;
}

/// Two of a billed item are in for repair, which stands in no account. One is beyond it: kept at 30.03, credited and scrapped;
/// the other goes back. Kept by mistake, it is in for repair again.
#[tokio::test]
async fn what_is_in_for_repair_is_kept_after_all() {
    let company = Company::new().await;
    let order = company.order(0, 2).await;
    let sent = company.ship(order, 2).await;
    let invoice = company.bill(sent).await;
    let row = returnable(&company, 0).await.remove(0);
    let line = NewReturnLine { line: row.line, quantity: "2".to_owned(), ..NewReturnLine::default() };
    let id = try_authorize(&company, &new_return(&company, line)).await.unwrap();
    let moved = async |way: Option<Repair>, quantity: &str, date: &str| {
        let view = view(&company, id).await;
        let lines = vec![ReceiveLine { line: view.lines[0].id, quantity: quantity.to_owned() }];
        let form = ReceiveForm { lines, date: Some(day(date)), in_repair: way.is_none(), note: None };
        change(&company, async |writing, rules| match way {
            Some(way) => returns::repair(writing, rules, id, (view.version, None), way, &form).await,
            None => returns::receive(writing, rules, id, (view.version, None), &form).await,
        })
        .await
    };
    moved(Some(Repair::In), "2", "2026-03-18").await.unwrap();
    assert_eq!(blocked(moved(None, "3", "2026-03-18").await), at(Check::MoreThanReturned, "lines.0.quantity"));
    assert_eq!(blocked(moved(None, "1", "2026-03-17").await), at(Check::DateTooEarly, "date"));
    moved(None, "2", "2026-03-18").await.unwrap();
    undo(&company, id).await.unwrap();
    assert_eq!(view(&company, id).await.lines[0].in_repair, pieces(2));
    company.holds().await;
    moved(None, "1", "2026-03-18").await.unwrap();
    assert_eq!(entry_of(&company, id).await, pairs(&[("12000", 3_003), ("71000", -3_003)]));
    let back = view(&company, id).await;
    assert_eq!(
        (back.lines[0].in_repair, back.lines[0].to_settle, back.lines[0].expected),
        (pieces(1), pieces(1), pieces(0))
    );
    company.holds().await;
    assert_eq!(
        blocked(moved(Some(Repair::Out), "2", "2026-03-18").await),
        at(Check::MoreThanReturned, "lines.0.quantity")
    );
    moved(Some(Repair::Out), "1", "2026-03-18").await.unwrap();
    let returned = Some(back.lines[0].id);
    let lines = vec![CreditLine { position: 0, quantity: Some("1".to_owned()), amount: None, return_line: returned }];
    let wish = ToCredit { lines, added: Vec::new(), date: None, reason: "beyond repair".to_owned(), seen: None };
    change(&company, async |writing, rules| invoices::credit(writing, rules, invoice, &wish).await).await.unwrap();
    inspect(&company, id, "1", "SCRAP").await.unwrap();
    assert_eq!(view(&company, id).await.state, ReturnState::Done);
    company.holds().await;
}
