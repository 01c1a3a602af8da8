//! Goods that come back and are credited at once, exchanges, a wrong item put right, repairs, fees: in the books, each entry
//! against postings.md, worked out by hand.

use crate::common::*;
use sqlx::{ConnectOptions, Connection, Executor, sqlite::SqliteConnectOptions};
use till_core::checks::Check;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, DocumentRef, InvoiceId, PersonId, ReturnId};
use till_core::money::Money;
use till_core::people::Role;
use till_core::returns::{NextStep, Repair, ReturnState};
use till_store::invoices::{self, AddedLine, CreditLine, ToCancelInvoice, ToCredit};
use till_store::receipts::ToReverse;
use till_store::returns::{
    self, BackAtOnce, ComesBack, DoneAtOnce, InspectForm, InspectLine, NewExpectedReturns, NewReturn, NewReturnLine,
    ReceiveForm, ReceiveLine, ReturnView, ReturnableFilter, WrongItem,
};
use till_store::{Actor, Result, StoreError, day_sheet, items, ledger, rules, verify};

/// An invoice over so many of A at 59.00, with freight of 18.00, of 18 March. A costs 30.03 (10,000.00 for 333), B the same.
async fn billed(company: &Company, quantity: i64) -> InvoiceId {
    let order = company.order(0, quantity).await;
    let shipment = company.ship(order, quantity).await;
    company.bill(shipment).await
}

fn back(quantity: &str, disposition: Option<&str>) -> ComesBack {
    ComesBack {
        position: 0,
        quantity: quantity.to_owned(),
        reason: "UNWANTED".to_owned(),
        disposition: disposition.map(str::to_owned),
    }
}

fn goes(item: &str, quantity: &str, price: &str) -> AddedLine {
    AddedLine {
        item: Some(item.to_owned()),
        quantity: quantity.to_owned(),
        unit_price: Some(price.to_owned()),
        ..AddedLine::default()
    }
}

fn wish(back: ComesBack, added: Vec<AddedLine>) -> BackAtOnce {
    BackAtOnce { back: vec![back], added, date: None, reason: "the other one is wanted".to_owned(), seen: None }
}

async fn at_once(company: &Company, invoice: InvoiceId, wish: &BackAtOnce) -> Result<DoneAtOnce> {
    change(company, async |writing, rules| returns::at_once(writing, rules, invoice, wish).await).await
}

async fn view(company: &Company, id: i64) -> ReturnView {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    returns::view(&mut books, &rules, ReturnId(id)).await.unwrap()
}

/// The entries of a document, each as its accounts and amounts, sorted.
async fn entries(company: &Company, document: &DocumentRef) -> Vec<Vec<(String, i64)>> {
    let mut books = company.store.read().await.unwrap();
    let entries = ledger::entries_of(&mut books, document.kind, document.id).await.unwrap();
    let sorted = |lines: Vec<(String, i64)>| {
        let mut lines = lines;
        lines.sort();
        lines
    };
    entries
        .iter()
        .map(|one| sorted(one.entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect()))
        .collect()
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

/// How much of A and of B is on hand.
async fn on_hand(company: &Company) -> [i64; 2] {
    let mut books = company.store.read().await.unwrap();
    let mut all = [0; 2];
    for (at, of) in all.iter_mut().enumerate() {
        let stock = items::view(&mut books, company.items[at]).await.unwrap().stock;
        *of = stock.iter().map(|one| one.on_hand.scaled()).sum::<i64>() / 10_000;
    }
    all
}

/// Ids of the document and the return, of what was done at once.
async fn done(company: &Company, invoice: InvoiceId, wish: &BackAtOnce) -> DoneAtOnce {
    let done = at_once(company, invoice, wish).await.unwrap();
    company.holds().await;
    done
}

/// A direct return is one posting and one entry: 2 × 59.00 and 27.14 tax off the open invoice, the goods back in stock at
/// 30.03 each. postings.md: credit memo, invoice still open; return received; restock.
#[tokio::test]
async fn a_direct_return_is_one_entry() {
    let company = Company::new().await;
    let invoice = billed(&company, 3).await;
    let before = on_hand(&company).await;
    let done = done(&company, invoice, &wish(back("2", Some("RESTOCK")), Vec::new())).await;
    assert_eq!(done.document.kind, DocumentKind::CreditMemo);
    let row = [("11000", 6_006), ("21000", -14_514), ("41000", 2_714), ("65000", 11_800), ("71000", -6_006)];
    assert_eq!(entries(&company, &done.document).await, [pairs(&row)]);
    assert_eq!(on_hand(&company).await, [before[0] + 2, before[1]]);
    let kept = view(&company, done.returned.id).await;
    assert_eq!((kept.state, kept.next, kept.steps.len()), (ReturnState::Done, NextStep::Nothing, 2));
    assert_eq!((&kept.credits[0].document, kept.credits[0].total), (&done.document, Money(14_514)));
    // Its steps share the entry of the credit memo: none of them is reversed by itself.
    let step = kept.steps[1].id;
    let reverse = ToReverse { date: None, reason: "by mistake".to_owned() };
    let undone = change(&company, async |writing, rules| {
        returns::undo(writing, rules, (ReturnId(done.returned.id), step), (kept.version, None), &reverse).await
    })
    .await;
    assert!(matches!(&undone, Err(StoreError::WrongState(why)) if why.contains(&done.document.number)), "{undone:?}");
    // One is left of three.
    assert_eq!(
        blocked(at_once(&company, invoice, &wish(back("2", None), Vec::new())).await),
        at(Check::MoreThanReturnable, "back.0.quantity")
    );
}

/// Goods back that wait for inspection, less a fee for taking them back: 59.00 + 13.57 less 5.00 + 1.15 is 66.42.
#[tokio::test]
async fn a_restocking_fee_has_tax_of_its_own() {
    let company = Company::new().await;
    let invoice = billed(&company, 2).await;
    let done = done(&company, invoice, &wish(back("1", None), vec![goes("FRT", "1", "5")])).await;
    let row = [
        ("12000", 3_003),
        ("21000", -6_642),
        ("41000", -115),
        ("41000", 1_357),
        ("64000", -500),
        ("65000", 5_900),
        ("71000", -3_003),
    ];
    assert_eq!(entries(&company, &done.document).await, [pairs(&row)]);
    assert_eq!(view(&company, done.returned.id).await.next, NextStep::Inspect);
    // What is left of the line is credited to the cent, with its tax; the fee is no part of it.
    let rest = ToCredit {
        lines: vec![CreditLine { position: 0, quantity: Some("1".to_owned()), amount: None, return_line: None }],
        reason: "the other one too".to_owned(),
        ..ToCredit::default()
    };
    let memo = change(&company, async |writing, rules| invoices::credit(writing, rules, invoice, &rest).await);
    let memo = memo.await.unwrap().credit_memo.unwrap();
    let source = DocumentRef { kind: DocumentKind::CreditMemo, id: memo.0, number: String::new() };
    let row = [("21000", -7_257), ("41000", 1_357), ("65000", 5_900)];
    assert_eq!(entries(&company, &source).await, [pairs(&row)]);
    company.holds().await;
    // A fee above what is credited is refused, and goods among the fees.
    let fee = ToCredit { added: vec![goes("FRT", "1", "80")], ..rest.clone() };
    let order = billed(&company, 2).await;
    let refused = change(&company, async |writing, rules| invoices::credit(writing, rules, order, &fee).await).await;
    assert_eq!(blocked(refused), at(Check::CannotCredit, "added"));
    let goods = ToCredit { added: vec![goes("B", "1", "8")], ..rest };
    let refused = change(&company, async |writing, rules| invoices::credit(writing, rules, order, &goods).await).await;
    assert_eq!(blocked(refused), at(Check::CannotCredit, "added.0.item"));
}

/// One A back (59.00 + 13.57, cost 30.03), sellable, one B out at 80.00 + 18.40 (cost 30.03): 25.83 to pay, an invoice.
#[tokio::test]
async fn an_exchange_that_leaves_something_to_pay_is_an_invoice() {
    let company = Company::new().await;
    let invoice = billed(&company, 2).await;
    let before = on_hand(&company).await;
    let done = done(&company, invoice, &wish(back("1", Some("RESTOCK")), vec![goes("B", "1", "80")])).await;
    assert_eq!(done.document.kind, DocumentKind::Invoice);
    let row = [
        ("11000", -3_003),
        ("11000", 3_003),
        ("21000", 2_583),
        ("41000", -1_840),
        ("41000", 1_357),
        ("61000", -8_000),
        ("65000", 5_900),
        ("71000", -3_003),
        ("71000", 3_003),
    ];
    assert_eq!(entries(&company, &done.document).await, [pairs(&row)]);
    assert_eq!(on_hand(&company).await, [before[0] + 1, before[1] - 1]);
    let exchange = InvoiceId(done.document.id);
    let seen = invoices::view(&mut company.store.read().await.unwrap(), exchange).await.unwrap();
    assert_eq!((seen.open, seen.takes_back.map(|first| first.id)), (Some(Money(2_583)), Some(invoice.0)));
    let document = seen.document.unwrap();
    let nets: Vec<i64> = document.lines.iter().map(|line| line.net.0).collect();
    let taxes: Vec<(i64, i64)> = document.taxes.iter().map(|tax| (tax.base.0, tax.tax.0)).collect();
    assert_eq!((nets, taxes), (vec![8_000, -5_900], vec![(8_000, 1_840), (-5_900, -1_357)]));
    // It is not cancelled; what it supplies is returned and credited like anything that was billed.
    let cancel = ToCancelInvoice { reason: "by mistake".to_owned(), ..ToCancelInvoice::default() };
    let refused =
        change(&company, async |writing, rules| invoices::cancel(writing, rules, exchange, &cancel).await).await;
    assert!(matches!(&refused, Err(StoreError::WrongState(why)) if why.contains("exchange")), "{refused:?}");
    let returned = at_once(&company, exchange, &wish(back("1", Some("SCRAP")), Vec::new())).await.unwrap();
    let row =
        [("21000", -2_583), ("27000", -7_257), ("41000", 1_840), ("65000", 8_000), ("71000", -3_003), ("72000", 3_003)];
    assert_eq!(entries(&company, &returned.document).await, [pairs(&row)]);
    company.holds().await;
    let second = ComesBack { position: 1, ..back("1", None) };
    assert!(
        at_once(&company, exchange, &wish(second, Vec::new())).await.is_err(),
        "what it took back is no line to return"
    );
}

/// The other way round: two A back, a B out at 80.00: 118.00 + 27.14 less 80.00 + 18.40 is 46.74, off the open invoice of
/// 167.28. With a B at 118.00 it is even: nothing is owed, and the goods are written all the same.
#[tokio::test]
async fn an_exchange_in_the_customers_favor_is_a_credit_memo() {
    let company = Company::new().await;
    let invoice = billed(&company, 4).await;
    let favor = done(&company, invoice, &wish(back("2", None), vec![goes("B", "1", "80")])).await;
    assert_eq!(favor.document.kind, DocumentKind::CreditMemo);
    let row = [
        ("11000", -3_003),
        ("12000", 6_006),
        ("21000", -4_674),
        ("41000", -1_840),
        ("41000", 2_714),
        ("61000", -8_000),
        ("65000", 11_800),
        ("71000", -6_006),
        ("71000", 3_003),
    ];
    assert_eq!(entries(&company, &favor.document).await, [pairs(&row)]);
    let even = done(&company, invoice, &wish(back("2", None), vec![goes("B", "1", "118")])).await;
    assert_eq!(even.document.kind, DocumentKind::CreditMemo);
    let row = [
        ("11000", -3_003),
        ("12000", 6_006),
        ("41000", -2_714),
        ("41000", 2_714),
        ("61000", -11_800),
        ("65000", 11_800),
        ("71000", -6_006),
        ("71000", 3_003),
    ];
    assert_eq!(entries(&company, &even.document).await, [pairs(&row)]);
    // 4 × 59.00 + 18.00, with tax 312.42, less 46.74.
    let open = invoices::view(&mut company.store.read().await.unwrap(), invoice).await.unwrap().open;
    assert_eq!(open, Some(Money(26_568)));
}

/// In pounds, the invoice at 1.17, the exchange on 20 March at 1.15: taken back 59.00 + 13.57 = 72.57, 84.91; supplied 59.00
/// + 13.57, 83.46. 1.45 is a currency difference; the customer owes nothing.
#[tokio::test]
async fn an_exchange_in_pounds_has_the_rate_of_each_side() {
    let company = Company::new().await;
    let order = company.order(2, 2).await;
    let shipment = company.ship(order, 2).await;
    let invoice = company.bill(shipment).await;
    let mut exchange = wish(back("1", None), vec![goes("B", "1", "59")]);
    exchange.date = Some(day("2026-03-20"));
    let done = done(&company, invoice, &exchange).await;
    let row = [
        ("11000", -3_003),
        ("12000", 3_003),
        ("41000", -1_561),
        ("41000", 1_588),
        ("61000", -6_785),
        ("65000", 6_903),
        ("71000", -3_003),
        ("71000", 3_003),
        ("91000", -145),
    ];
    assert_eq!(entries(&company, &done.document).await, [pairs(&row)]);
}

/// A return in pounds after the rate has changed, from 1.17 to 1.15 on 20 March: credited at the rate of its invoice, 59.00 is
/// 69.03, 13.57 of tax 15.88, 72.57 open 84.91. The goods come back at what they cost.
#[tokio::test]
async fn a_foreign_return_keeps_the_rate_of_its_invoice() {
    let company = Company::new().await;
    let order = company.order(2, 2).await;
    let shipment = company.ship(order, 2).await;
    let invoice = company.bill(shipment).await;
    let late = BackAtOnce { date: Some(day("2026-03-20")), ..wish(back("1", None), Vec::new()) };
    let done = done(&company, invoice, &late).await;
    let row = [("12000", 3_003), ("21000", -8_491), ("41000", 1_588), ("65000", 6_903), ("71000", -3_003)];
    assert_eq!(entries(&company, &done.document).await, [pairs(&row)]);
}

/// What the preview shows is what is posted; someone else who posts in between is told of. Above the limit nothing goes in
/// one step.
#[tokio::test]
async fn what_was_seen_is_what_is_posted_and_limits_hold() {
    let company = Company::new().await;
    let invoice = billed(&company, 3).await;
    let clerk = Actor::person(PersonId(1), "tess", Role::Clerk, "here", by().at);
    let exchange = wish(back("1", Some("RESTOCK")), vec![goes("B", "1", "80")]);
    let seen = returns::at_once_preview(&company.store, &clerk, invoice, &exchange).await.unwrap();
    assert_eq!(
        (seen.total, seen.back.clone(), seen.added.clone()),
        (Money(-2_583), vec![Money(5_900)], vec![Money(8_000)])
    );
    assert_eq!(seen.blockers, []);
    assert!(view_count(&company).await == 0, "a preview leaves nothing");
    let post = async |actor: &Actor, wish: &BackAtOnce| {
        company
            .store
            .change(actor, None, async |writing| {
                let rules = rules::load(writing).await?;
                returns::at_once(writing, &rules, invoice, wish).await
            })
            .await
    };
    let unseen = post(&clerk, &exchange).await;
    assert!(matches!(unseen, Err(StoreError::Moved)), "{unseen:?}");
    let exchange = BackAtOnce { seen: Some(seen.fingerprint.clone()), ..exchange };
    // Nobody set a limit: it is zero.
    let above = post(&clerk, &exchange).await;
    assert!(matches!(&above, Err(StoreError::NotAllowed(why)) if why.contains("Authorize a return")), "{above:?}");
    let auditor = Actor::person(PersonId(3), "ada", Role::Auditor, "here", by().at);
    assert!(matches!(post(&auditor, &exchange).await, Err(StoreError::NotAllowed(_))));
    assert_eq!(view_count(&company).await, 0, "what was refused leaves nothing");
    let nothing = BackAtOnce { back: Vec::new(), ..exchange.clone() };
    assert!(matches!(post(&clerk, &nothing).await, Err(StoreError::Invalid { field, .. }) if field == "back"));
    let reason = BackAtOnce { reason: String::new(), ..exchange.clone() };
    assert!(matches!(post(&clerk, &reason).await, Err(StoreError::Invalid { field, .. }) if field == "reason"));
    at_once(&company, invoice, &wish(back("1", None), Vec::new())).await.unwrap();
    assert!(matches!(post(&by(), &exchange).await, Err(StoreError::Moved)), "another one came back meanwhile");
    company.holds().await;
}

async fn view_count(company: &Company) -> i64 {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    returns::list(&mut books, &rules, &Default::default(), (10, 0)).await.unwrap().count
}

fn wrong(quantity: &str, item: &str) -> WrongItem {
    WrongItem {
        quantity: quantity.to_owned(),
        item: item.to_owned(),
        reason: "WRONG".to_owned(),
        ..WrongItem::default()
    }
}

async fn put_right(company: &Company, invoice: InvoiceId, wish: &WrongItem) -> Result<DocumentRef> {
    change(company, async |writing, rules| returns::put_right(writing, rules, invoice, wish).await).await
}

/// A was billed (30.03 each), B went (30.03 each): put right, A is as it was, B waits for inspection and comes back into
/// stock at what it cost. postings.md, wrong item sent.
#[tokio::test]
async fn a_wrong_item_is_put_right_in_one_step() {
    let company = Company::new().await;
    let invoice = billed(&company, 3).await;
    let before = on_hand(&company).await;
    assert_eq!(blocked(put_right(&company, invoice, &wrong("2", "A")).await), at(Check::NothingToDo, "item"));
    assert_eq!(
        blocked(put_right(&company, invoice, &wrong("4", "b")).await),
        at(Check::MoreThanReturnable, "quantity")
    );
    let no_such = put_right(&company, invoice, &wrong("1", "FRT")).await;
    assert!(matches!(no_such, Err(StoreError::Invalid { field, .. }) if field == "item"));
    let too_many = WrongItem { sent_quantity: Some("1001".to_owned()), ..wrong("1", "B") };
    assert_eq!(blocked(put_right(&company, invoice, &too_many).await), at(Check::StockShort, "sent_quantity"));

    let kept = put_right(&company, invoice, &wrong("2", "B")).await.unwrap();
    company.holds().await;
    // 11000 60.06 · 12000 60.06 · 71000 120.12 against 11000 120.12 · 71000 120.12: the four moves of the row.
    let row = [("11000", -12_012), ("11000", 6_006), ("12000", 6_006), ("71000", -12_012), ("71000", 12_012)];
    let written = entries(&company, &kept).await;
    let sums = |lines: &[(String, i64)], account: &str| -> i64 {
        lines.iter().filter(|(number, _)| number == account).map(|(_, amount)| amount).sum()
    };
    for account in ["11000", "12000", "71000"] {
        assert_eq!(sums(&written[0], account), sums(&pairs(&row), account), "{account} in {written:?}");
    }
    assert_eq!(on_hand(&company).await, [before[0], before[1] - 2]);
    let of = view(&company, kept.id).await;
    assert_eq!(
        (of.next, of.lines[0].code.as_str(), of.lines[0].in_place_of.as_deref()),
        (NextStep::Inspect, "B", Some("A"))
    );
    assert_eq!((of.lines[0].waiting, of.lines[0].waiting_cost), (Quantity::from_whole(2), Money(6_006)));
    // Nothing more arrives on it: what it points at is the right item.
    let more = ReceiveForm {
        lines: vec![ReceiveLine { line: of.lines[0].id, quantity: "1".to_owned() }],
        ..ReceiveForm::default()
    };
    let refused = change(&company, async |writing, rules| {
        returns::receive(writing, rules, ReturnId(kept.id), (of.version, None), &more).await
    })
    .await;
    assert_eq!(blocked(refused), at(Check::ReturnOver, "date"));
    // The other one back in stock: every layer's sum is as if the right item had gone at once.
    let form = InspectForm {
        lines: vec![InspectLine {
            line: of.lines[0].id,
            quantity: "2".to_owned(),
            disposition: "RESTOCK".to_owned(),
            claim: None,
        }],
        ..InspectForm::default()
    };
    change(&company, async |writing, rules| {
        returns::inspect(writing, rules, ReturnId(kept.id), (of.version, None), &form).await
    })
    .await
    .unwrap();
    assert_eq!(on_hand(&company).await, before);
    assert_eq!(view(&company, kept.id).await.state, ReturnState::Done);
    company.holds().await;
    // The line can still come back whole: the customer has three of A.
    at_once(&company, invoice, &wish(back("3", Some("RESTOCK")), Vec::new())).await.unwrap();
    company.holds().await;
}

/// Entered in error, it is reversed: B is where it was.
#[tokio::test]
async fn a_correction_is_reversed() {
    let company = Company::new().await;
    let invoice = billed(&company, 2).await;
    let before = on_hand(&company).await;
    let kept = put_right(&company, invoice, &wrong("1", "B")).await.unwrap();
    let of = view(&company, kept.id).await;
    let reverse = ToReverse { date: None, reason: "another invoice".to_owned() };
    change(&company, async |writing, rules| {
        returns::undo(writing, rules, (ReturnId(kept.id), of.steps[0].id), (of.version, None), &reverse).await
    })
    .await
    .unwrap();
    assert_eq!(on_hand(&company).await, before);
    company.holds().await;
}

/// Goods in for repair stay the customer's: no entry, nothing on hand. They are held while they are in, and free again.
#[tokio::test]
async fn goods_come_in_for_repair_and_go_back() {
    let company = Company::new().await;
    let invoice = billed(&company, 3).await;
    let before = on_hand(&company).await;
    let line = {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        let filter = ReturnableFilter { invoice: Some(invoice), ..ReturnableFilter::default() };
        returns::returnable(&mut books, &rules, &filter, (5, 0)).await.unwrap().lines[0].line
    };
    let new = NewReturn {
        customer: company.customers[0],
        lines: vec![NewReturnLine {
            line,
            quantity: "2".to_owned(),
            reason: "FAULTY".to_owned(),
            ..NewReturnLine::default()
        }],
        ..NewReturn::default()
    };
    let id = change(&company, async |writing, rules| Ok(returns::authorize(writing, rules, &new, None).await?.0))
        .await
        .unwrap();
    let step = async |way: Repair, quantity: &str, date: &str| {
        let of = view(&company, id.0).await;
        let form = ReceiveForm {
            lines: vec![ReceiveLine { line: of.lines[0].id, quantity: quantity.to_owned() }],
            date: Some(day(date)),
            in_repair: false,
            note: Some("the hinge".to_owned()),
        };
        change(&company, async |writing, rules| {
            returns::repair(writing, rules, id, (of.version, None), way, &form).await
        })
        .await
    };
    assert_eq!(blocked(step(Repair::Out, "1", "2026-03-18").await), at(Check::MoreThanReturned, "lines.0.quantity"));
    assert_eq!(blocked(step(Repair::In, "4", "2026-03-18").await), at(Check::MoreThanReturnable, "lines.0.quantity"));
    assert_eq!(blocked(step(Repair::In, "1", "2026-03-10").await), at(Check::DateTooEarly, "date"));
    let came = step(Repair::In, "2", "2026-03-18").await.unwrap();
    company.holds().await;
    let of = view(&company, id.0).await;
    assert_eq!(
        (of.next, of.lines[0].in_repair, of.lines[0].to_settle),
        (NextStep::Repair, Quantity::from_whole(2), Quantity::ZERO)
    );
    assert_eq!(on_hand(&company).await, before);
    let source = DocumentRef { kind: DocumentKind::Return, id: id.0, number: String::new() };
    assert_eq!(entries(&company, &source).await, Vec::<Vec<(String, i64)>>::new());
    // It is work for the day sheet.
    let sheet = day_sheet::day_sheet(&mut company.store.read().await.unwrap(), None).await.unwrap();
    assert!(sheet.items.iter().any(|item| item.why == "RA-1: A is in for repair"), "{:?}", sheet.items);
    // One is free, two are here: neither credited as staying there, nor returned at once.
    assert_eq!(
        blocked(at_once(&company, invoice, &wish(back("2", None), Vec::new())).await),
        at(Check::MoreThanReturnable, "back.0.quantity")
    );
    assert_eq!(blocked(step(Repair::Out, "1", "2026-03-17").await), at(Check::DateTooEarly, "date"));
    // One line named twice is one line: no more goes back than is here.
    let of = view(&company, id.0).await;
    let one = || ReceiveLine { line: of.lines[0].id, quantity: "2".to_owned() };
    let twice = ReceiveForm { lines: vec![one(), one()], ..ReceiveForm::default() };
    let refused = change(&company, async |writing, rules| {
        returns::repair(writing, rules, id, (of.version, None), Repair::Out, &twice).await
    })
    .await;
    assert_eq!(blocked(refused), at(Check::NamedTwice, "lines.1"));
    step(Repair::Out, "1", "2026-03-18").await.unwrap();
    // One went back: the arrival of both stays.
    let reverse = ToReverse { date: None, reason: "another customer's".to_owned() };
    let version = view(&company, id.0).await.version;
    let undone = change(&company, async |writing, rules| {
        returns::undo(writing, rules, (id, came.step), (version, None), &reverse).await
    })
    .await;
    assert_eq!(blocked(undone), at(Check::MoreThanReturned, "step"));
    step(Repair::Out, "1", "2026-03-18").await.unwrap();
    assert_eq!(view(&company, id.0).await.state, ReturnState::Done);
    company.holds().await;
    at_once(&company, invoice, &wish(back("3", None), Vec::new())).await.unwrap();
    company.holds().await;
}

/// 10 × 59.00 and 3 × 59.00 billed, one of the three credited: 12 × 59.00 = 708.00, at 30.03 each. 5 % of that is 35.40; of the
/// cost of 300.30 and 60.06 it is 18.02 (18.018). What stands is changed to the new estimate. postings.md, Period ends.
#[tokio::test]
async fn expected_returns_are_entered_and_changed() {
    let company = Company::new().await;
    billed(&company, 10).await;
    let second = billed(&company, 3).await;
    let enter = async |share: &str| {
        let new = NewExpectedReturns { share: share.to_owned(), ..NewExpectedReturns::default() };
        change(&company, async |writing, rules| returns::enter_expected_returns(writing, rules, &new).await).await
    };
    at_once(&company, second, &wish(back("1", Some("RESTOCK")), Vec::new())).await.unwrap();
    let first = enter("5").await.unwrap();
    assert_eq!(first.number, "XR-1");
    let row = [("13500", 1_802), ("28000", -3_540), ("65000", 3_540), ("71000", -1_802)];
    assert_eq!(entries(&company, &first).await, [pairs(&row)]);
    company.holds().await;
    assert_eq!(blocked(enter("5 %").await), at(Check::NothingToDo, "share"));
    assert_eq!(blocked(enter("105").await), at(Check::AmountNotPositive, "share"));
    assert!(matches!(enter("a lot").await, Err(StoreError::Invalid { field, .. }) if field == "share"));
    // Given up: all of it goes back.
    let none = enter("0").await.unwrap();
    let row = [("13500", -1_802), ("28000", 3_540), ("65000", -3_540), ("71000", 1_802)];
    assert_eq!(entries(&company, &none).await, [pairs(&row)]);
    company.holds().await;
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let now = returns::expected_returns(&mut books, &rules).await.unwrap();
    let shares: Vec<String> = now.estimates.iter().map(|one| one.share.percent()).collect();
    assert_eq!((now.standing.net, shares), (Money::ZERO, vec!["0".to_owned(), "5".to_owned()]));
    // One of thirteen came back and was credited: 7.69 %.
    assert_eq!((now.billed.net, now.came_back.percent()), (Money(70_800), "7.6923".to_owned()));
    // A damaged row does not pass.
    drop(books);
    let mut side =
        SqliteConnectOptions::new().filename(company.folder.path().join("books.db")).connect().await.unwrap();
    side.execute(
        "DROP TRIGGER expected_returns_keep; UPDATE expected_returns SET net_minor = net_minor + 1 WHERE id = 1",
    )
    .await
    .unwrap();
    side.close().await.unwrap();
    let verification = verify::verify(&mut company.store.read().await.unwrap()).await.unwrap();
    let broken: Vec<_> = verification.proofs.iter().filter(|one| !one.holds).map(|one| one.name.as_str()).collect();
    assert_eq!(broken, ["Expected returns equal their accounts"]);
}

/// A proof that cannot fail proves nothing.
#[tokio::test]
async fn proofs_see_what_is_wrong_with_an_exchange() {
    for (breaks, proof) in [
        (
            "DROP TRIGGER document_lines_keep; UPDATE document_lines SET leaves_e4 = leaves_e4 * 2 WHERE leaves_e4 IS NOT NULL",
            "Billed goods have left stock",
        ),
        (
            "DROP TRIGGER return_step_lines_keep; UPDATE return_step_lines SET cost_minor = cost_minor + 1 WHERE outcome IS NULL",
            "Returned is never above billed, credited never above returned, line by line and day by day",
        ),
    ] {
        let company = Company::new().await;
        let invoice = billed(&company, 2).await;
        at_once(&company, invoice, &wish(back("1", None), vec![goes("B", "1", "40")])).await.unwrap();
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
