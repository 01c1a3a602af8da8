//! Billing in the books: two drafts for the same goods, runs that are looked at, posted, held and
//! dropped, cancelling, documents on their way.

use crate::common::*;
use sqlx::ConnectOptions;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, InvoiceId, RunId};
use till_core::invoice::Combine;
use till_core::money::Money;
use till_store::deliveries::{self, DeliveryFilter, DeliveryState, NewMessage, Said, Way};
use till_store::invoices::{self, AddedLine, LineKey, NewDiscount, NewPrice, NewTax, Pick, ToBill, ToCancelInvoice};
use till_store::receipts::NewReceipt;
use till_store::runs::{self, Recipe, RunForm, RunView, Standing};
use till_store::shipments::{self, TakeBack};
use till_store::{Result, StoreError, customers, orders, receipts, rules, setup, unbilled};

async fn run_of(company: &Company, form: RunForm) -> RunId {
    change(company, async |writing, rules| runs::make(writing, rules, &form, None).await).await.unwrap()
}

async fn shown(company: &Company, run: RunId) -> RunView {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    runs::view(&mut books, &rules, run, None, (100, 0)).await.unwrap()
}

async fn begin(company: &Company, run: RunId) -> Result<runs::RunProgress> {
    let view = shown(company, run).await;
    begin_seen(company, run, &view).await
}

/// As the interface does: with what was decided when the run was looked at.
async fn begin_seen(company: &Company, run: RunId, view: &RunView) -> Result<runs::RunProgress> {
    let looked = Some(view.looked.clone());
    change(company, async |writing, rules| {
        runs::begin(writing, rules, run, view.version, &view.seen, looked.clone()).await
    })
    .await
}

async fn go_on(company: &Company, run: RunId) -> Result<runs::RunProgress> {
    change(company, async |writing, rules| runs::go_on(writing, rules, run).await).await
}

/// How many rows there are of what a run touches, and what is unbilled.
async fn counted(company: &Company) -> (i64, i64, Money) {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let open = unbilled::list(&mut books, &rules, &Default::default()).await.unwrap();
    let all = invoices::list(&mut books, &invoices::InvoiceFilter { limit: 500, ..Default::default() }).await.unwrap();
    (all.count, open.shipments, open.net_base)
}

fn habit() -> RunForm {
    RunForm { combine: Combine::Habit, ..RunForm::default() }
}

#[tokio::test]
async fn two_drafts_never_bill_the_same_goods() {
    let company = Company::new().await;
    let order = company.order(0, 5).await;
    let shipment = company.ship(order, 5).await;
    let to_bill = company.to_bill(shipment).await;
    let draft = change(&company, async |writing, rules| invoices::make_drafts(writing, rules, &to_bill).await).await;
    let again = change(&company, async |writing, rules| invoices::make_drafts(writing, rules, &to_bill).await).await;
    assert!(matches!(again, Err(StoreError::Refused(_))), "{again:?}");
    // While it is on a draft the shipment cannot be taken back either.
    let version = shipments::view(&mut *company.store.read().await.unwrap(), shipment).await.unwrap().version;
    let back = TakeBack { version, date: None, reason: "wrong door".to_owned() };
    let taken =
        change(&company, async |writing, rules| shipments::take_back(writing, rules, shipment, &back).await).await;
    assert!(matches!(taken, Err(StoreError::Refused(_))), "{taken:?}");
    change(&company, async |writing, _| invoices::drop_draft(writing, draft.unwrap()[0], 1).await).await.unwrap();
    company.bill(shipment).await;
    company.holds().await;
}

/// A shipment is taken back between the preview and the posting: nothing is posted.
#[tokio::test]
async fn what_was_taken_back_meanwhile_is_not_billed() {
    let company = Company::new().await;
    let shipment = company.ship(company.order(0, 5).await, 5).await;
    let to_bill = company.to_bill(shipment).await;
    let seen = {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        invoices::preview(&mut books, &rules, &to_bill).await.unwrap()[0].fingerprint.clone()
    };
    let version = shipments::view(&mut *company.store.read().await.unwrap(), shipment).await.unwrap().version;
    let back = TakeBack { version, date: None, reason: "wrong door".to_owned() };
    change(&company, async |writing, rules| shipments::take_back(writing, rules, shipment, &back).await).await.unwrap();
    let posted = change(&company, async |writing, rules| {
        invoices::post_picks(writing, rules, &to_bill, Some(std::slice::from_ref(&seen))).await
    })
    .await;
    assert!(matches!(posted, Err(StoreError::Refused(_))), "{posted:?}");
    company.holds().await;
}

/// Freight of a shipment goes with its first billed line, and once only.
#[tokio::test]
async fn freight_comes_along_with_the_first_line() {
    let company = Company::new().await;
    let shipment = company.ship(company.order(0, 5).await, 5).await;
    let lines = company.lines_of(shipment).await;
    company
        .store
        .change(&by(), None, async |writing| {
            let new = till_store::goods_settings::NewGoodsSettings {
                warehouse: "MAIN".to_owned(),
                cost_entry: till_core::shipment::CostEntry::AtPosting,
                clearing_days: 7,
                freight_item: "FRT".to_owned(),
                treatments: Vec::new(),
            };
            till_store::goods_settings::change(writing, &new).await
        })
        .await
        .unwrap();
    let part = |quantity: i64| ToBill {
        picks: vec![Pick { shipment_line: lines[0], quantity: Some(Quantity::from_whole(quantity)) }],
        ..ToBill::default()
    };
    let post = async |to_bill: ToBill| {
        let posted =
            change(&company, async |writing, rules| invoices::post_picks(writing, rules, &to_bill, None).await).await;
        let id = posted.unwrap()[0].id;
        invoices::view(&mut *company.store.read().await.unwrap(), id).await.unwrap().document.unwrap().lines.len()
    };
    assert_eq!((post(part(2)).await, post(part(3)).await), (2, 1));
    company.holds().await;
}

#[tokio::test]
async fn a_run_that_is_dropped_leaves_no_trace() {
    let company = Company::new().await;
    for customer in [0, 1, 2] {
        company.ship(company.order(customer, 4).await, 3).await;
    }
    let before = counted(&company).await;
    let run = run_of(&company, habit()).await;
    assert_eq!(counted(&company).await.1, 0, "a run reserves what it bills");
    let view = shown(&company, run).await;
    assert_eq!((view.counts.ready, view.ready.len()), (3, 2));
    change(&company, async |writing, _| runs::drop(writing, run, view.version).await).await.unwrap();
    assert_eq!(counted(&company).await, before);
    let runs = runs::list(&mut *company.store.read().await.unwrap(), 10, 0).await.unwrap();
    assert!(runs.is_empty());
    company.holds().await;
}

#[tokio::test]
async fn a_run_posts_what_passes_and_holds_the_rest() {
    let company = Company::new().await;
    for customer in [0, 0, 1, 2] {
        company.ship(company.order(customer, 4).await, 4).await;
    }
    // The second customer wants its number, and its order has none.
    change(&company, async |writing, rules| {
        let id = company.customers[1];
        let version = customers::view(writing, id).await?.version;
        let mut form = customers::form(writing, rules.base, id).await?;
        form.needs_order_number = true;
        customers::save(writing, rules, Some((id, version)), &form).await
    })
    .await
    .unwrap();
    let run = run_of(&company, habit()).await;
    let view = shown(&company, run).await;
    assert_eq!((view.counts.ready, view.counts.blocked), (3, 1));
    let left = view.invoices[0].id;
    let version =
        change(&company, async |writing, _| runs::leave_out(writing, run, view.version, &[left], true).await).await;
    assert_eq!(version.unwrap(), view.version + 1);
    // What was seen before the change is not what would be posted now.
    let newer = RunView { version: view.version + 1, ..view.clone() };
    let stale = begin_seen(&company, run, &newer).await;
    assert!(matches!(stale, Err(StoreError::Moved)), "{stale:?}");
    let begun = begin(&company, run).await.unwrap();
    assert_eq!((begun.left, begun.held), (2, 1));
    // While it is posted nothing of it is changed, and it is not begun twice.
    assert!(matches!(begin(&company, run).await, Err(StoreError::WrongState(_))));
    let done = go_on(&company, run).await.unwrap();
    assert_eq!((done.posted, done.left, done.held), (2, 0, 1));
    assert!(matches!(go_on(&company, run).await, Err(StoreError::WrongState(_))), "nothing is doubled");
    let after = shown(&company, run).await;
    assert_eq!((after.state.as_str(), after.counts.posted, after.counts.left_out), ("open", 2, 1));
    let held = after.invoices.iter().find(|one| one.standing == Standing::Blocked).unwrap();
    assert!(held.held.as_ref().unwrap().contains("wants its own order number"));
    company.holds().await;
}

/// Two shipments of one order, two invoices: the figures of the first move after the run was begun, so it is held. The
/// second is posted, and makes of the order what it is without the first: open, half of it still to bill.
#[tokio::test]
async fn one_that_is_held_makes_nothing_of_those_after_it() {
    let company = Company::new().await;
    let order = company.order(0, 4).await;
    ship(&company, order, &["4", "0"], None).await;
    ship(&company, order, &["0", "1"], None).await;
    let run = run_of(&company, RunForm { combine: Combine::Shipment, ..RunForm::default() }).await;
    begin(&company, run).await.unwrap();
    let first = shown(&company, run).await.invoices.iter().map(|one| one.id).min().unwrap();
    let file = company.folder.path().join("books.db");
    let mut raw = sqlx::sqlite::SqliteConnectOptions::new().filename(&file).connect().await.unwrap();
    sqlx::query("UPDATE documents SET seen = 'other figures' WHERE id = ?")
        .bind(first.0)
        .execute(&mut raw)
        .await
        .unwrap();
    let done = go_on(&company, run).await.unwrap();
    assert_eq!((done.posted, done.held), (1, 1));
    let state = orders::view(&mut *company.store.read().await.unwrap(), order).await.unwrap().row.state;
    assert_eq!(state, till_core::order::OrderState::Open);
    company.holds().await;
}

/// The customer is put on hold and the run is cut off between its beginning and its stretch:
/// billing what has gone goes on.
#[tokio::test]
async fn a_stop_during_the_run_does_not_hold_what_has_gone() {
    let company = Company::new().await;
    company.ship(company.order(0, 4).await, 4).await;
    let run = run_of(&company, habit()).await;
    begin(&company, run).await.unwrap();
    assert_eq!(runs::cut_off(&mut *company.store.read().await.unwrap()).await.unwrap(), [run]);
    change(&company, async |writing, _| {
        let version = customers::view(writing, company.customers[0]).await?.version;
        customers::put_on_stop(writing, company.customers[0], version, "two returned checks").await
    })
    .await
    .unwrap();
    assert_eq!(go_on(&company, run).await.unwrap().posted, 1);
    assert_eq!(shown(&company, run).await.state, "posted");
    company.holds().await;
}

/// A period is closed between draft and post: every invoice is held and says so, none is lost.
#[tokio::test]
async fn a_period_closed_during_the_run_holds_it() {
    let company = Company::new().await;
    company.ship(company.order(0, 4).await, 4).await;
    company.ship(company.order(1, 4).await, 4).await;
    let run = run_of(&company, habit()).await;
    begin(&company, run).await.unwrap();
    let periods = {
        let mut books = company.store.read().await.unwrap();
        till_store::settings::view(&mut books).await.unwrap().periods
    };
    for period in periods.iter().filter(|period| period.first <= day("2026-03-01") && period.open) {
        change(&company, async |writing, _| setup::set_period(writing, period.first, false).await).await.unwrap();
    }
    let done = go_on(&company, run).await.unwrap();
    assert_eq!((done.posted, done.left, done.held), (0, 0, 2));
    let after = shown(&company, run).await;
    assert!(after.invoices.iter().all(|one| one.held.as_ref().unwrap().contains("is closed")));
    company.holds().await;
}

/// A draft of a run that was changed after the run was looked at is held, and one that was dropped
/// is not missed; the others go on. Without what was decided then, all is decided anew and nothing begins.
#[tokio::test]
async fn what_moved_between_looking_and_posting_is_held() {
    let company = Company::new().await;
    for _ in 0..3 {
        company.ship(company.order(0, 4).await, 4).await;
    }
    let run = run_of(&company, RunForm { combine: Combine::Shipment, ..habit() }).await;
    let view = shown(&company, run).await;
    assert_eq!(view.counts.ready, 3);
    let (changed, dropped) = (view.invoices[0].id, view.invoices[1].id);
    let draft = invoices::view(&mut *company.store.read().await.unwrap(), changed).await.unwrap();
    let line = draft.document.unwrap().lines[0].source.shipment_line().unwrap();
    let price = NewPrice { version: draft.version, unit_price: "50".to_owned(), reason: "scratched".to_owned() };
    change(&company, async |writing, rules| {
        invoices::change_price(writing, rules, changed, LineKey::Shipped(line), &price).await?;
        invoices::drop_draft(writing, dropped, 1).await
    })
    .await
    .unwrap();
    let anew =
        change(&company, async |writing, rules| runs::begin(writing, rules, run, view.version, &view.seen, None).await)
            .await;
    assert!(matches!(anew, Err(StoreError::Moved)), "{anew:?}");
    assert_eq!(begin_seen(&company, run, &view).await.unwrap().left, 2);
    let done = go_on(&company, run).await.unwrap();
    assert_eq!((done.posted, done.left, done.held), (1, 0, 1));
    let after = shown(&company, run).await;
    assert!(after.invoices[0].held.as_ref().unwrap().contains("have changed"), "{:?}", after.invoices[0].held);
    company.holds().await;
}

/// A draft of a run that was changed after the run was begun is held; the others go on.
#[tokio::test]
async fn what_moved_since_it_was_seen_is_held() {
    let company = Company::new().await;
    for _ in 0..2 {
        company.ship(company.order(0, 4).await, 4).await;
    }
    let run = run_of(&company, habit()).await;
    begin(&company, run).await.unwrap();
    let view = shown(&company, run).await;
    let draft = invoices::view(&mut *company.store.read().await.unwrap(), view.invoices[1].id).await.unwrap();
    let line = draft.document.unwrap().lines[0].source.shipment_line().unwrap();
    let price = NewPrice { version: draft.version, unit_price: "50".to_owned(), reason: "scratched".to_owned() };
    change(&company, async |writing, rules| {
        invoices::change_price(writing, rules, view.invoices[1].id, LineKey::Shipped(line), &price).await
    })
    .await
    .unwrap();
    let done = go_on(&company, run).await.unwrap();
    assert_eq!((done.posted, done.held), (1, 1));
    company.holds().await;
}

#[tokio::test]
async fn customers_billed_when_all_has_gone_wait_for_the_rest() {
    let company = Company::new().await;
    change(&company, async |writing, rules| {
        let id = company.customers[0];
        let version = customers::view(writing, id).await?.version;
        let mut form = customers::form(writing, rules.base, id).await?;
        form.bill_when_complete = true;
        customers::save(writing, rules, Some((id, version)), &form).await
    })
    .await
    .unwrap();
    let order = company.order(0, 4).await;
    company.ship(order, 3).await;
    let waits = change(&company, async |writing, rules| runs::make(writing, rules, &habit(), None).await).await;
    assert!(
        matches!(&waits, Err(StoreError::Invalid { sentence, .. }) if sentence.starts_with("1 shipment is")),
        "{waits:?}"
    );
    company.ship(company.order(1, 4).await, 4).await;
    let run = run_of(&company, habit()).await;
    assert_eq!((shown(&company, run).await.waiting, shown(&company, run).await.count), (1, 1));
    // All of it at once, when the clerk decides so.
    let all = run_of(&company, RunForm { combine: Combine::Customer, ..RunForm::default() }).await;
    assert_eq!(shown(&company, all).await.count, 1);
    company.holds().await;
}

#[tokio::test]
async fn a_recipe_makes_the_same_run_again() {
    let company = Company::new().await;
    company.ship(company.order(0, 4).await, 2).await;
    company.ship(company.order(1, 4).await, 2).await;
    let recipe = |name: &str, version| Recipe {
        id: None,
        name: name.to_owned(),
        weekday: Some(3),
        form: RunForm { customers: vec![company.customers[1]], ..habit() },
        customer_names: Vec::new(),
        due: false,
        version,
    };
    let id = change(&company, async |writing, _| runs::keep_recipe(writing, &recipe("Round", 0)).await).await.unwrap();
    let twice = change(&company, async |writing, _| runs::keep_recipe(writing, &recipe("Round", 0)).await).await;
    assert!(matches!(twice, Err(StoreError::Invalid { field, .. }) if field == "name"));
    let run = change(&company, async |writing, rules| runs::repeat(writing, rules, id).await).await.unwrap();
    let view = shown(&company, run).await;
    assert_eq!((view.count, view.name.as_str()), (1, "Round, 18 Mar 2026"));
    // 18 March 2026 is a Wednesday.
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    assert!(runs::recipes(&mut books, &rules).await.unwrap()[0].due);
}

/// Cancelled and billed anew: price, tax code and discount stay; dropped, it is unbilled.
#[tokio::test]
async fn cancel_and_rebill_keeps_what_was_agreed() {
    let company = Company::new().await;
    let shipment = company.ship(company.order(0, 5).await, 5).await;
    let to_bill = company.to_bill(shipment).await;
    let draft = change(&company, async |writing, rules| invoices::make_drafts(writing, rules, &to_bill).await)
        .await
        .unwrap()[0];
    let key = LineKey::Shipped(to_bill.picks[0].shipment_line);
    let reason = || "as agreed".to_owned();
    change(&company, async |writing, rules| {
        let price = NewPrice { version: 1, unit_price: "55".to_owned(), reason: reason() };
        invoices::change_price(writing, rules, draft, key, &price).await?;
        let tax = NewTax { version: 2, tax_code: "Z0".to_owned(), reason: reason() };
        invoices::change_tax(writing, rules, draft, key, &tax).await?;
        let discount = NewDiscount { version: 3, percent: Some("5".to_owned()), amount: None, reason: reason() };
        invoices::change_discount(writing, rules, draft, &discount).await
    })
    .await
    .unwrap();
    let view = async |id: InvoiceId| invoices::view(&mut *company.store.read().await.unwrap(), id).await.unwrap();
    let seen = view(draft).await;
    change(&company, async |writing, rules| {
        invoices::post_draft(writing, rules, draft, seen.version, &seen.fingerprint).await
    })
    .await
    .unwrap();
    let was = view(draft).await.document.unwrap();
    company
        .receive(&NewReceipt {
            customer: company.customers[0],
            method: "transfer".to_owned(),
            date: None,
            amount: "100".to_owned(),
            reference: None,
            applications: None,
            first: Some(draft),
            with: Vec::new(),
            currency: None,
        })
        .await
        .unwrap();
    let wish = ToCancelInvoice { reason: "billed twice".to_owned(), rebill: true, ..ToCancelInvoice::default() };
    let cancelled =
        change(&company, async |writing, rules| invoices::cancel(writing, rules, draft, &wish).await).await.unwrap();
    let anew = view(cancelled.draft.unwrap()).await;
    let document = anew.document.unwrap();
    assert_eq!((document.net, document.tax, document.total), (was.net, was.tax, was.total));
    assert_eq!(anew.replaces.unwrap().id, draft.0);
    assert_eq!(view(draft).await.cancelled_by.unwrap().number, cancelled.number.unwrap());
    let unapplied = receipts::list(&mut *company.store.read().await.unwrap(), None, true, 10, 0).await.unwrap();
    assert_eq!(unapplied.receipts[0].unapplied, Money(10_000));
    let again = change(&company, async |writing, rules| invoices::cancel(writing, rules, draft, &wish).await).await;
    assert!(matches!(again, Err(StoreError::Refused(_))), "{again:?}");
    company.holds().await;
    change(&company, async |writing, _| invoices::drop_draft(writing, anew.id, anew.version).await).await.unwrap();
    assert_eq!(counted(&company).await.1, 1);
    company.holds().await;
}

#[tokio::test]
async fn a_grid_is_posted_in_whole_or_not_at_all() {
    let company = Company::new().await;
    let row = |customer: usize, item: &str, price: Option<&str>| ToBill {
        customer: Some(company.customers[customer]),
        added: vec![AddedLine {
            item: Some(item.to_owned()),
            quantity: "2".to_owned(),
            unit_price: price.map(str::to_owned),
            ..AddedLine::default()
        }],
        ..ToBill::default()
    };
    let seen = async |rows: &[ToBill]| {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        invoices::preview_grid(&mut books, &rules, rows).await.unwrap()
    };
    let good = vec![row(0, "FRT", None), row(1, "A", Some("12.50"))];
    let answers = seen(&good).await;
    assert_eq!(answers[1].preview.as_ref().unwrap().document.as_ref().unwrap().net, Money(2_500));
    let bad = vec![row(0, "FRT", None), row(1, "nothing", None), row(0, "A", Some("-1"))];
    let wrong = seen(&bad).await;
    assert_eq!(wrong[1].field.as_deref(), Some("added.0.item"));
    assert!(wrong[2].preview.as_ref().unwrap().blockers.iter().any(|one| one.field == "lines.0.unit_price"));
    let marks = |answers: &[invoices::GridAnswer]| -> Vec<String> {
        answers.iter().map(|one| one.preview.as_ref().map_or_else(String::new, |one| one.fingerprint.clone())).collect()
    };
    let (bad_marks, good_marks) = (marks(&wrong), marks(&answers));
    let refused =
        change(&company, async |writing, rules| invoices::post_grid(writing, rules, &bad, &bad_marks).await).await;
    assert!(
        matches!(&refused, Err(StoreError::Invalid { field, .. }) if field == "rows.1.added.0.item"),
        "{refused:?}"
    );
    assert_eq!(counted(&company).await.0, 0);
    let posted =
        change(&company, async |writing, rules| invoices::post_grid(writing, rules, &good, &good_marks).await).await;
    assert_eq!(posted.unwrap().len(), 2);
    company.holds().await;
}

/// Waiting, changed, not taken, sent again; printed; once more.
#[tokio::test]
async fn a_document_goes_the_way_its_customer_wants() {
    let company = Company::new().await;
    change(&company, async |writing, rules| {
        let id = company.customers[0];
        let version = customers::view(writing, id).await?.version;
        let mut form = customers::form(writing, rules.base, id).await?;
        form.delivery = customers::Delivery::Email;
        form.email = "till@customer.example".to_owned();
        customers::save(writing, rules, Some((id, version)), &form).await
    })
    .await
    .unwrap();
    let mailed = company.bill(company.ship(company.order(0, 2).await, 2).await).await;
    let printed = company.bill(company.ship(company.order(1, 2).await, 2).await).await;
    let list = async || {
        let filter = DeliveryFilter { limit: 10, ..DeliveryFilter::default() };
        deliveries::list(&mut *company.store.read().await.unwrap(), &filter).await.unwrap()
    };
    let waiting = list().await;
    assert_eq!((waiting.to_mail, waiting.to_print, waiting.failed), (1, 1, 0));
    let id = waiting.rows.iter().find(|row| row.way == Way::Mail).unwrap().id;
    let message = async || {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        deliveries::message(&mut books, &rules, id).await.unwrap()
    };
    let view = message().await;
    assert!(view.subject.starts_with("Invoice I-") && view.body.contains("over 167.28 EUR"), "{}", view.body);
    for (to, field) in [("nobody", "to"), ("a@b.example", "subject")] {
        let subject = if field == "subject" { "two\nlines".to_owned() } else { "x".to_owned() };
        let new = NewMessage { version: 1, to: to.to_owned(), subject, body: String::new() };
        let refused =
            change(&company, async |writing, rules| deliveries::change_message(writing, rules, id, &new).await).await;
        assert!(matches!(&refused, Err(StoreError::Invalid { field: at, .. }) if at == field), "{refused:?}");
    }
    let said = async |said: Said| {
        let view = message().await;
        change(&company, async |writing, _| deliveries::sent(writing, &view, &said).await).await
    };
    said(Said::Refused { problem: "550 no such box".to_owned() }).await.unwrap();
    assert_eq!(list().await.failed, 1);
    said(Said::Took { message: "From: us\r\n\r\nhello".to_owned() }).await.unwrap();
    assert!(matches!(said(Said::Took { message: "twice".to_owned() }).await, Err(StoreError::WrongState(_))));
    assert_eq!(message().await.taken.len(), 1);
    let paper = waiting.rows.iter().find(|row| row.way == Way::Print).unwrap().id;
    change(&company, async |writing, _| deliveries::printed(writing, &[paper]).await).await.unwrap();
    change(&company, async |writing, _| {
        deliveries::again(writing, (DocumentKind::Invoice, printed.0), Way::Mail).await
    })
    .await
    .unwrap();
    let twice = change(&company, async |writing, _| {
        deliveries::again(writing, (DocumentKind::Invoice, printed.0), Way::Mail).await
    })
    .await;
    assert!(matches!(twice, Err(StoreError::WrongState(_))));
    let shown = invoices::view(&mut *company.store.read().await.unwrap(), mailed).await.unwrap();
    assert_eq!(shown.deliveries[0].state, DeliveryState::Done);
    company.holds().await;
}

#[tokio::test]
async fn several_orders_are_shipped_and_billed_together_or_not_at_all() {
    let company = Company::new().await;
    let (one, other) = (company.order(0, 4).await, company.order(1, 4).await);
    let preview = async |orders: Vec<till_core::ids::OrderId>| {
        let many = shipments::ShipAndBillMany { orders, seen: Vec::new() };
        shipments::preview_ship_and_bill_many(&company.store, &by(), &many).await
    };
    let seen: Vec<String> = preview(vec![one, other]).await.unwrap().into_iter().map(|one| one.seen).collect();
    let many = shipments::ShipAndBillMany { orders: vec![one, other], seen };
    let done =
        change(&company, async |writing, rules| shipments::ship_and_bill_many(writing, rules, &many).await).await;
    assert_eq!(done.unwrap().iter().filter(|one| one.invoice.is_some()).count(), 2);
    let left = preview(vec![company.order(0, 4).await, other]).await;
    assert!(left.is_err(), "of the second order nothing is left to go");
    assert_eq!(
        orders::view(&mut *company.store.read().await.unwrap(), one).await.unwrap().row.state,
        till_core::order::OrderState::Filled
    );
    company.holds().await;
}

/// Over the counter: a draft order is confirmed, shipped, billed and paid in one posting; what the
/// money comes to was shown before, and where it cannot be taken nothing of it happens.
#[tokio::test]
async fn a_sale_over_the_counter_is_all_or_nothing() {
    let company = Company::new().await;
    let new = orders::NewOrder {
        customer: company.customers[0],
        customer_order_number: None,
        order_date: day("2026-03-01"),
        promised_date: None,
        lines: vec![order_line(company.items[0], 4)],
    };
    let order = change(&company, async |writing, _| orders::enter(writing, &new).await).await.unwrap();
    let sale = |amount: Option<&str>| shipments::ShipAndBill {
        confirm: true,
        paid: Some(shipments::PaidAtOnce {
            method: "cash".to_owned(),
            amount: amount.map(str::to_owned),
            reference: Some("till 2".to_owned()),
        }),
        ..shipments::ShipAndBill::default()
    };
    let preview = async |what: &shipments::ShipAndBill| {
        shipments::preview_ship_and_bill(&company.store, &by(), order, what).await
    };
    let state = async || orders::view(&mut *company.store.read().await.unwrap(), order).await.unwrap().row.state;
    let seen = preview(&sale(None)).await.unwrap();
    let (money, document) = (seen.money.unwrap(), seen.preview.unwrap().document.unwrap());
    assert_eq!((money.document.amount, money.document.unapplied), (document.total, Money::ZERO));
    assert!(money.entry.is_some() && seen.receipt.is_none() && seen.invoice.is_none());
    assert_eq!(state().await, till_core::order::OrderState::Draft, "a preview leaves nothing");
    for amount in ["ten", "-5", "1.234"] {
        let what = shipments::ShipAndBill { seen: Some(seen.seen.clone()), ..sale(Some(amount)) };
        let refused =
            change(&company, async |writing, rules| shipments::ship_and_bill(writing, rules, order, &what).await).await;
        let field = match refused {
            Err(StoreError::Invalid { field, .. }) => field,
            Err(StoreError::Refused(blockers)) => blockers[0].field.clone(),
            other => panic!("{amount}: {other:?}"),
        };
        assert_eq!(field, "paid.amount");
        let shown = preview(&what).await;
        assert!(shown.is_err() || shown.unwrap().blockers.iter().any(|one| one.field == "paid.amount"), "{amount}");
        assert_eq!(state().await, till_core::order::OrderState::Draft);
    }
    let what = shipments::ShipAndBill { seen: Some(seen.seen), ..sale(None) };
    let done = change(&company, async |writing, rules| shipments::ship_and_bill(writing, rules, order, &what).await)
        .await
        .unwrap();
    let invoice = invoices::view(&mut *company.store.read().await.unwrap(), done.invoice.unwrap().id).await.unwrap();
    assert_eq!(invoice.open, Some(Money::ZERO));
    assert!(done.receipt.is_some());
    assert_eq!(state().await, till_core::order::OrderState::Closed);
    company.holds().await;
}

/// Money above the invoice pays what is open besides; where that is no longer open, it is asked again.
#[tokio::test]
async fn money_at_the_counter_goes_where_it_was_seen_to_go() {
    let company = Company::new().await;
    let old = company.bill(company.ship(company.order(0, 2).await, 2).await).await;
    let order = company.order(0, 2).await;
    let mut what = shipments::ShipAndBill {
        paid: Some(shipments::PaidAtOnce {
            method: "cash".to_owned(),
            amount: Some("300".to_owned()),
            reference: None,
        }),
        ..shipments::ShipAndBill::default()
    };
    let seen = shipments::preview_ship_and_bill(&company.store, &by(), order, &what).await.unwrap();
    let applied = &seen.money.as_ref().unwrap().document.applied;
    assert_eq!(applied.len(), 2, "the invoice of the moment first, then what is older: {applied:?}");
    assert_eq!(applied[1].document.id, old.0);
    what.seen = Some(seen.seen);
    let other = NewReceipt {
        customer: company.customers[0],
        method: "transfer".to_owned(),
        date: None,
        amount: "100".to_owned(),
        reference: None,
        applications: None,
        first: Some(old),
        with: Vec::new(),
        currency: None,
    };
    company.receive(&other).await.unwrap();
    let ship = async |what: &shipments::ShipAndBill| {
        change(&company, async |writing, rules| shipments::ship_and_bill(writing, rules, order, what).await).await
    };
    let moved = ship(&what).await;
    assert!(matches!(moved, Err(StoreError::Moved)), "{moved:?}");
    assert!(
        orders::view(&mut *company.store.read().await.unwrap(), order).await.unwrap().lines[0]
            .progress
            .shipped
            .is_zero()
    );
    what.seen = Some(shipments::preview_ship_and_bill(&company.store, &by(), order, &what).await.unwrap().seen);
    assert!(ship(&what).await.unwrap().receipt.is_some());
    company.holds().await;
}

#[tokio::test]
async fn the_list_is_paged_and_says_why_an_order_is_not_in_it() {
    let company = Company::new().await;
    let mut numbers = Vec::new();
    for customer in [0, 0, 1, 1, 2] {
        let order = company.order(customer, 4).await;
        company.ship(order, 3).await;
        numbers.push(orders::view(&mut *company.store.read().await.unwrap(), order).await.unwrap().row.number);
    }
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let mut offset = Some(0);
    let mut seen = Vec::new();
    while let Some(at) = offset {
        let filter = unbilled::UnbilledFilter { limit: Some(2), offset: at, ..Default::default() };
        let page = unbilled::list(&mut books, &rules, &filter).await.unwrap();
        assert_eq!(page.shipments, 5);
        seen.extend(page.customers.iter().flat_map(|one| &one.shipments).map(|one| one.number.clone()));
        offset = page.next;
    }
    seen.sort();
    seen.dedup();
    assert_eq!(seen.len(), 5);
    let why = unbilled::why(&mut books, &numbers[0]).await.unwrap();
    assert!(why[0].sentence.ends_with("is posted and can be billed: it is in this list."), "{why:?}");
    assert!(why[1].sentence.starts_with("The rest of"), "{why:?}");
    assert!(unbilled::why(&mut books, "no such number").await.unwrap().is_empty());
}
