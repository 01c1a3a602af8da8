//! From an order to a closed order in a real file, and everything that must not happen on the way.

use crate::common::*;
use till_core::checks::Check;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, InvoiceId, ShipmentLineId};
use till_core::money::Money;
use till_core::order::OrderState;
use till_store::invoices::{Pick, ToBill};
use till_store::receipts::{NewApplication, NewApplications, NewReceipt};
use till_store::{Request, StoreError, customers, invoices, ledger, orders, receipts, rules, unbilled};

fn receipt(customer: CustomerId, amount: &str, applications: Option<Vec<NewApplication>>) -> NewReceipt {
    NewReceipt {
        customer,
        method: "transfer".to_owned(),
        date: None,
        amount: amount.to_owned(),
        reference: None,
        applications,
        first: None,
        with: Vec::new(),
        currency: None,
    }
}

fn to(invoice: InvoiceId, amount: &str) -> Vec<NewApplication> {
    vec![NewApplication::to_invoice(invoice, amount)]
}

async fn state(company: &Company, order: till_core::ids::OrderId) -> OrderState {
    orders::view(&mut *company.store.read().await.unwrap(), order).await.unwrap().row.state
}

fn refused(error: StoreError) -> (Check, String) {
    match error {
        StoreError::Refused(blockers) => (blockers[0].check, blockers[0].field.clone()),
        other => panic!("not refused by the core: {other:?}"),
    }
}

#[tokio::test]
async fn the_life_of_an_order_from_shipment_to_closing() {
    let company = Company::new().await;
    let order = company.order(0, 10).await;
    let first = company.ship(order, 4).await;
    let invoice = company.bill(first).await;
    let view = invoices::view(&mut *company.store.read().await.unwrap(), invoice).await.unwrap();
    let document = view.document.unwrap();
    // 4 × 59.00 + 18.00 freight, 23 %: the second row of postings.md.
    assert_eq!((document.net, document.tax, document.total), (Money(25_400), Money(5_842), Money(31_242)));
    assert_eq!(document.due_date, day("2026-04-17"));
    assert_eq!(document.lines[0].still_to_come, Quantity::from_whole(6));
    assert_eq!(view.number.as_deref(), Some("I-1"));
    assert_eq!(view.entries.len(), 1);
    assert_eq!(state(&company, order).await, OrderState::Open);

    company.receive(&receipt(company.customers[0], "100.00", Some(to(invoice, "100")))).await.unwrap();
    let rest = company.ship(order, 6).await;
    let second = company.bill(rest).await;
    assert_eq!(state(&company, order).await, OrderState::Filled);
    company.receive(&receipt(company.customers[0], "212.42", Some(to(invoice, "212.42")))).await.unwrap();
    assert_eq!(state(&company, order).await, OrderState::Filled);
    let last = company.receive(&receipt(company.customers[0], "500", None)).await.unwrap();
    assert_eq!(state(&company, order).await, OrderState::Closed);

    let view = receipts::view(&mut *company.store.read().await.unwrap(), last.id).await.unwrap();
    assert_eq!(view.applications[0].document.id, second.0);
    assert_eq!(view.row.unapplied, Money(50_000 - 43_542));
    let owes = customers::view(&mut *company.store.read().await.unwrap(), company.customers[0]).await.unwrap().owes;
    assert_eq!(owes, Money::ZERO);
    let kinds: Vec<&str> = view.trail.steps.iter().map(|step| step.document.kind.word()).collect();
    assert_eq!(kinds, ["order", "shipment", "invoice", "receipt"]);
    company.holds().await;
}

#[tokio::test]
async fn unapplied_money_is_applied_later() {
    let company = Company::new().await;
    let posted = company.receive(&receipt(company.customers[0], "1000", Some(Vec::new()))).await.unwrap();
    let order = company.order(0, 10).await;
    let shipment = company.ship(order, 10).await;
    company.bill(shipment).await;
    let version = company
        .store
        .change(&by(), None, async |connection| {
            let rules = rules::load(connection).await?;
            receipts::apply(connection, &rules, posted.id, 1, &NewApplications::default_oldest(), None).await
        })
        .await
        .unwrap();
    assert_eq!(version, 2);
    assert_eq!(state(&company, order).await, OrderState::Closed);
    let again = company
        .store
        .change(&by(), None, async |connection| {
            let rules = rules::load(connection).await?;
            receipts::apply(connection, &rules, posted.id, 1, &NewApplications::default_oldest(), None).await
        })
        .await;
    assert!(matches!(again, Err(StoreError::Stale { current: 2, .. })));
    company.holds().await;
}

trait Oldest {
    fn default_oldest() -> Self;
}

impl Oldest for NewApplications {
    fn default_oldest() -> Self {
        Self { date: None, applications: None }
    }
}

#[tokio::test]
async fn drafts_reserve_what_they_bill_and_give_it_back() {
    let company = Company::new().await;
    let order = company.order(0, 10).await;
    let shipment = company.ship(order, 10).await;
    let to_bill = company.to_bill(shipment).await;
    let make = async |to_bill: &ToBill| {
        company
            .store
            .change(&by(), None, async |connection| {
                let rules = rules::load(connection).await?;
                invoices::make_drafts(connection, &rules, to_bill).await
            })
            .await
    };
    let mut part = to_bill.clone();
    part.picks.truncate(1);
    part.picks[0].quantity = Some(Quantity::from_whole(7));
    let draft = make(&part).await.unwrap()[0];
    // Seven of ten are taken; a second draft over ten is refused, over three it is not.
    part.picks[0].quantity = Some(Quantity::from_whole(10));
    assert_eq!(refused(make(&part).await.unwrap_err()), (Check::MoreThanUnbilled, "lines.0.quantity".to_owned()));
    company.holds().await;
    let more = company
        .store
        .change(&by(), None, async |connection| {
            let rules = rules::load(connection).await?;
            invoices::change_draft(connection, &rules, draft, 1, &part).await
        })
        .await;
    assert_eq!(more.unwrap(), 2, "its own seven count as free for it");
    let stale =
        company.store.change(&by(), None, async |connection| invoices::drop_draft(connection, draft, 1).await).await;
    assert!(matches!(stale, Err(StoreError::Stale { current: 2, .. })));
    company.holds().await;
    company
        .store
        .change(&by(), None, async |connection| invoices::drop_draft(connection, draft, 2).await)
        .await
        .unwrap();
    let rules = rules::load(&mut *company.store.read().await.unwrap()).await.unwrap();
    let open = unbilled::list(&mut *company.store.read().await.unwrap(), &rules, &Default::default()).await.unwrap();
    assert_eq!(open.net_base, Money(60_800), "all of it is unbilled again");
    company.holds().await;
}

#[tokio::test]
async fn a_draft_is_posted_as_seen_or_not_at_all() {
    let company = Company::new().await;
    let order = company.order(0, 10).await;
    let shipment = company.ship(order, 10).await;
    let to_bill = company.to_bill(shipment).await;
    let draft = company
        .store
        .change(&by(), None, async |connection| {
            let rules = rules::load(connection).await?;
            invoices::make_drafts(connection, &rules, &to_bill).await
        })
        .await
        .unwrap()[0];
    let seen = invoices::view(&mut *company.store.read().await.unwrap(), draft).await.unwrap().fingerprint;
    let post = async |seen: &str, version| {
        company
            .store
            .change(&by(), None, async |connection| {
                let rules = rules::load(connection).await?;
                invoices::post_draft(connection, &rules, draft, version, seen).await
            })
            .await
    };
    assert!(matches!(post("0000000000000000", 1).await, Err(StoreError::Moved)));
    assert!(matches!(post(&seen, 3).await, Err(StoreError::Stale { current: 1, .. })));
    assert_eq!(post(&seen, 1).await.unwrap().number, "I-1");
    assert!(matches!(post(&seen, 2).await, Err(StoreError::WrongState(_))));
    company.holds().await;
}

#[tokio::test]
async fn the_same_request_twice_is_done_once() {
    let company = Company::new().await;
    let order = company.order(0, 5).await;
    let shipment = company.ship(order, 5).await;
    let to_bill = company.to_bill(shipment).await;
    let request = Request { key: "a-key-of-mine".to_owned(), fingerprint: "one".to_owned() };
    let post = async |request: &Request| {
        company
            .store
            .change(&by(), Some(request), async |connection| {
                let rules = rules::load(connection).await?;
                invoices::post_picks(connection, &rules, &to_bill, None).await
            })
            .await
    };
    let first = post(&request).await.unwrap();
    assert_eq!(post(&request).await.unwrap(), first);
    let other = Request { fingerprint: "two".to_owned(), ..request };
    assert!(matches!(post(&other).await, Err(StoreError::KeyReused)));
    let list = invoices::list(
        &mut *company.store.read().await.unwrap(),
        &invoices::InvoiceFilter { search: None, state: None, limit: 10, offset: 0, ..Default::default() },
    )
    .await
    .unwrap();
    assert_eq!(list.count, 1);
    company.holds().await;
}

#[tokio::test]
async fn what_is_refused_writes_nothing() {
    let company = Company::new().await;
    let order = company.order(0, 10).await;
    let too_much = company.try_ship(order, Quantity::from_whole(11)).await.unwrap_err();
    assert_eq!(refused(too_much), (Check::MoreThanOrdered, "lines.0.quantity".to_owned()));
    let shipment = company.ship(order, 10).await;
    let lines = company.lines_of(shipment).await;
    let bill = async |to_bill: ToBill| {
        company
            .store
            .change(&by(), None, async |connection| {
                let rules = rules::load(connection).await?;
                invoices::post_picks(connection, &rules, &to_bill, None).await
            })
            .await
            .unwrap_err()
    };
    let pick = |quantity: &str| ToBill {
        picks: vec![Pick { shipment_line: lines[0], quantity: Some(quantity.parse().unwrap()) }],
        ..ToBill::default()
    };
    assert_eq!(refused(bill(pick("10.0001")).await).0, Check::MoreThanUnbilled);
    assert_eq!(refused(bill(pick("-1")).await).0, Check::QuantityNotPositive);
    assert_eq!(refused(bill(pick("0")).await).0, Check::QuantityNotPositive);
    assert_eq!(refused(bill(ToBill::default()).await).0, Check::NothingToDo);
    let mut closed = pick("1");
    closed.posting_date = Some(day("2026-02-20"));
    assert!(matches!(refused(bill(closed).await).0, Check::PeriodClosed));
    let mut early = pick("1");
    early.posting_date = Some(day("2026-03-11"));
    assert_eq!(refused(bill(early).await), (Check::DateTooEarly, "posting_date".to_owned()));
    let unknown =
        ToBill { picks: vec![Pick { shipment_line: ShipmentLineId(999), quantity: None }], ..ToBill::default() };
    assert!(matches!(bill(unknown).await, StoreError::Invalid { field, .. } if field == "picks.0.shipment_line"));
    let invoice = company.bill(shipment).await;
    let pay = async |customer: usize, amount: &str, applications| {
        company.receive(&receipt(company.customers[customer], amount, applications)).await.unwrap_err()
    };
    assert!(matches!(pay(0, "1.005", None).await, StoreError::Invalid { field, .. } if field == "amount"));
    assert!(matches!(pay(0, "ten", None).await, StoreError::Invalid { field, .. } if field == "amount"));
    assert_eq!(refused(pay(0, "0", None).await), (Check::AmountNotPositive, "amount".to_owned()));
    assert_eq!(refused(pay(0, "5", Some(to(invoice, "6"))).await).0, Check::MoreThanReceived);
    assert_eq!(refused(pay(0, "5000", Some(to(invoice, "4000"))).await).0, Check::MoreThanOpen);
    assert_eq!(refused(pay(1, "5", Some(to(invoice, "5"))).await).0, Check::OtherCustomer);
    assert!(
        matches!(pay(0, "5", Some(to(InvoiceId(77), "5"))).await, StoreError::Invalid { field, .. } if field == "applications.0.invoice")
    );
    let nobody = company.receive(&receipt(CustomerId(99), "5", None)).await.unwrap_err();
    assert!(matches!(nobody, StoreError::NotFound { .. }));
    let journal = ledger::journal(
        &mut *company.store.read().await.unwrap(),
        &ledger::JournalFilter { limit: 100, ..Default::default() },
    )
    .await
    .unwrap();
    assert_eq!(journal.count, 6, "four intakes, one shipment, one invoice");
    company.holds().await;
}

#[tokio::test]
async fn a_foreign_invoice_paid_at_another_rate_leaves_a_currency_difference() {
    let company = Company::new().await;
    let order = company.order(2, 2).await;
    let shipment = company.ship(order, 2).await;
    let invoice = company.bill(shipment).await;
    let mut new = receipt(company.customers[2], "167.28", Some(to(invoice, "167.28")));
    new.date = Some(day("2026-03-21"));
    company.receive(&new).await.unwrap();
    let balance = ledger::trial_balance(&mut *company.store.read().await.unwrap(), day("2026-12-31")).await.unwrap();
    let of = |number: &str| {
        balance.accounts.iter().find(|account| account.number == number).map_or(0, |account| account.balance.0)
    };
    // 167.28 at 1.17 is 195.72, at 1.15 it is 192.37.
    assert_eq!((of("31000"), of("21000"), of("91000")), (19_237, 0, 335));
    assert_eq!(balance.debits, balance.credits);
    company.holds().await;
}

#[tokio::test]
async fn orders_are_put_right_only_by_who_saw_the_latest() {
    let company = Company::new().await;
    let order = company.order(0, 1).await;
    let seen = orders::view(&mut *company.store.read().await.unwrap(), order).await.unwrap().version;
    let set = async |version, number: &'static str| {
        company
            .store
            .change(&by(), None, async |connection| {
                orders::set_customer_order_number(connection, order, version, Some(number)).await
            })
            .await
    };
    assert_eq!(set(seen, "PO 7").await.unwrap(), seen + 1);
    assert!(matches!(set(seen, "PO 8").await, Err(StoreError::Stale { .. })));
}

/// What the customer or the order is called later changes nothing on what was posted.
#[tokio::test]
async fn a_posted_invoice_stays_as_it_was_printed() {
    let company = Company::new().await;
    let order = company.order(0, 10).await;
    let shipment = company.ship(order, 4).await;
    let invoice = company.bill(shipment).await;
    let read = async || {
        let view = invoices::view(&mut *company.store.read().await.unwrap(), invoice).await.unwrap();
        (view.document.unwrap(), view.customer.tax_id, view.tape)
    };
    let before = read().await;
    let customer = company.customers[0];
    company
        .store
        .change(&by(), None, async |connection| {
            let version = orders::view(connection, order).await?.version;
            orders::set_customer_order_number(connection, order, version, Some("PO later")).await?;
            customers::set_tax_id(connection, customer, 1, Some("MH9")).await?;
            orders::cancel_rest(connection, order).await
        })
        .await
        .unwrap();
    assert_eq!(read().await, before);
    company.holds().await;
}

#[tokio::test]
async fn two_at_once_never_bill_the_same_goods() {
    let company = Company::new().await;
    let order = company.order(0, 10).await;
    let shipment = company.ship(order, 10).await;
    let to_bill = company.to_bill(shipment).await;
    let post = || async {
        company
            .store
            .change(&by(), None, async |connection| {
                let rules = rules::load(connection).await?;
                invoices::post_picks(connection, &rules, &to_bill, None).await
            })
            .await
    };
    let (a, b, c) = tokio::join!(post(), post(), post());
    let done = [a, b, c].into_iter().filter(Result::is_ok).count();
    assert_eq!(done, 1);
    company.holds().await;
}
