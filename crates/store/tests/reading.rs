//! What lists, reports and search show, checked against what was done.

use crate::common::*;
use till_core::day_sheet::Work;
use till_core::fixed::Quantity;
use till_core::ids::DocumentKind;
use till_core::money::Money;
use till_core::order::OrderState;
use till_store::invoices::{Pick, ToBill};
use till_store::orders::OrderFilter;
use till_store::receipts::{NewApplication, NewReceipt};
use till_store::shipments::ShipmentFilter;
use till_store::unbilled::UnbilledFilter;
use till_store::{
    StoreError, customers, day_sheet, find, invoices, items, ledger, orders, receipts, rules, setup, shipments,
    unbilled,
};

/// Two orders of two customers: one shipped and billed in full and half paid, one shipped in part.
async fn worked() -> Company {
    let company = Company::new().await;
    let first = company.order(0, 10).await;
    let shipment = company.ship(first, 10).await;
    let invoice = company.bill(shipment).await;
    let new = NewReceipt {
        customer: company.customers[0],
        method: "check".to_owned(),
        date: Some(day("2026-03-20")),
        amount: "300".to_owned(),
        reference: Some("check 77".to_owned()),
        applications: Some(vec![NewApplication::to_invoice(invoice, "250")]),
        first: None,
        with: Vec::new(),
        currency: None,
    };
    company.receive(&new).await.unwrap();
    let second = company.order(1, 5).await;
    company.ship(second, 2).await;
    company
}

fn standing(state: &str) -> invoices::InvoiceFilter {
    invoices::InvoiceFilter { state: Some(state.to_owned()), limit: 10, ..Default::default() }
}

#[tokio::test]
async fn unbilled_shows_what_shipped_with_its_value_and_age() {
    let company = worked().await;
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let all = unbilled::list(&mut books, &rules, &UnbilledFilter::default()).await.unwrap();
    assert_eq!((all.shipments, all.net_base), (1, Money(2 * 5_900 + 1_800)));
    let customer = &all.customers[0];
    assert_eq!((customer.number.as_str(), customer.days), ("2", 6));
    let shipment = &customer.shipments[0];
    assert_eq!((shipment.track.shipped, shipment.track.billed), (434, 0), "136.00 of 313.00, cut down");
    assert!(shipment.blockers.is_empty());
    assert_eq!(shipment.lines[0].quantity, Quantity::from_whole(2));
    let count = async |books: &mut till_store::Connection, filter: UnbilledFilter| {
        unbilled::list(books, &rules, &filter).await.unwrap().shipments
    };
    let search = |text: &str| UnbilledFilter { search: Some(text.to_owned()), ..Default::default() };
    assert_eq!(count(&mut books, search("S-2")).await, 1);
    assert_eq!(count(&mut books, search("o-2")).await, 1);
    assert_eq!(count(&mut books, search("FRT")).await, 1);
    assert_eq!(count(&mut books, search("100%")).await, 0, "a percent sign is no wildcard");
    assert_eq!(count(&mut books, UnbilledFilter { over_days: Some(6), ..Default::default() }).await, 1);
    assert_eq!(count(&mut books, UnbilledFilter { over_days: Some(7), ..Default::default() }).await, 0);
    let other = UnbilledFilter { customer: Some(company.customers[0]), ..Default::default() };
    assert_eq!(count(&mut books, other).await, 0);
}

#[tokio::test]
async fn the_trial_balance_and_the_sheets_know_every_date() {
    let company = worked().await;
    let mut books = company.store.read().await.unwrap();
    let of = async |books: &mut till_store::Connection, date: &str| {
        let balance = ledger::trial_balance(books, day(date)).await.unwrap();
        assert_eq!(balance.debits, balance.credits, "{date}");
        let find =
            |number: &str| balance.accounts.iter().find(|one| one.number == number).map_or(0, |one| one.balance.0);
        (find("21000"), find("32000"), find("27000"), find("61000"))
    };
    // 10 × 59.00 + 18.00, with 23 % tax, billed on the 18th; 300.00 came on the 20th.
    assert_eq!(of(&mut books, "2026-03-17").await, (0, 0, 0, 0));
    assert_eq!(of(&mut books, "2026-03-18").await, (74_784, 0, 0, -59_000));
    assert_eq!(of(&mut books, "2026-03-20").await, (49_784, 30_000, -5_000, -59_000));
    let sheet = ledger::account_sheet(&mut books, "21000", day("2026-12-31"), 100).await.unwrap();
    let amounts: Vec<(i64, i64)> = sheet.lines.iter().map(|line| (line.amount.0, line.balance.0)).collect();
    assert_eq!(amounts, [(74_784, 74_784), (-25_000, 49_784)]);
    let last = ledger::account_sheet(&mut books, "21000", day("2026-12-31"), 1).await.unwrap();
    assert_eq!((last.opening, last.lines.len(), last.closing), (Money(74_784), 1, Money(49_784)));
    assert!(ledger::account_sheet(&mut books, "9999", day("2026-12-31"), 1).await.is_err());
}

#[tokio::test]
async fn the_journal_is_filtered_by_date_and_words() {
    let company = worked().await;
    let mut books = company.store.read().await.unwrap();
    let filter = |from: Option<&str>, to: Option<&str>, search: Option<&str>| ledger::JournalFilter {
        from: from.map(day),
        to: to.map(day),
        search: search.map(str::to_owned),
        limit: 100,
        offset: 0,
    };
    let all = ledger::journal(&mut books, &filter(None, None, None)).await.unwrap();
    assert_eq!(all.count, 8, "four intakes, two shipments, an invoice, a receipt");
    assert_eq!(all.entries[0].source.kind, DocumentKind::Receipt, "newest first");
    assert_eq!(all.debits, all.entries.iter().map(|entry| entry.debits).sum());
    assert_eq!(ledger::journal(&mut books, &filter(Some("2026-03-18"), None, None)).await.unwrap().count, 2);
    assert_eq!(ledger::journal(&mut books, &filter(None, Some("2026-03-02"), None)).await.unwrap().count, 4);
    assert_eq!(ledger::journal(&mut books, &filter(None, None, Some("I-1"))).await.unwrap().count, 1);
    let page = ledger::JournalFilter { limit: 3, offset: 6, ..Default::default() };
    assert_eq!(ledger::journal(&mut books, &page).await.unwrap().entries.len(), 2);
    let entry = ledger::entry(&mut books, all.entries[0].id).await.unwrap();
    assert_eq!(entry.entry, all.entries[0].entry);
    assert!(matches!(ledger::entry(&mut books, till_core::ids::EntryId(999)).await, Err(StoreError::NotFound { .. })));
}

#[tokio::test]
async fn a_customer_account_shows_what_is_open_and_how_it_came_about() {
    let company = worked().await;
    let view = customers::view(&mut *company.store.read().await.unwrap(), company.customers[0]).await.unwrap();
    assert_eq!((view.owes, view.unapplied, view.unbilled), (Money(49_784), Money(5_000), Money::ZERO));
    assert_eq!(view.ageing.total(), view.owes);
    assert_eq!(view.open_items.len(), 1);
    assert_eq!((view.open_items[0].open, view.open_items[0].days_late), (Money(49_784), -30));
    let history: Vec<(i64, i64)> = view.history.iter().map(|event| (event.amount.0, event.balance.0)).collect();
    assert_eq!(history, [(-25_000, 49_784), (74_784, 74_784)]);
    let list = customers::list(&mut *company.store.read().await.unwrap(), Some("1")).await.unwrap();
    assert_eq!(list.len(), 1);
    assert_eq!(list[0].open_invoices, 1);
}

#[tokio::test]
async fn orders_shipments_invoices_and_receipts_are_listed_by_state_and_words() {
    let company = worked().await;
    let mut books = company.store.read().await.unwrap();
    let count = async |books: &mut till_store::Connection, states: Vec<OrderState>, search: Option<&str>| {
        let filter = OrderFilter { states, search: search.map(str::to_owned), limit: 10, ..Default::default() };
        orders::list(books, &filter).await.unwrap().count
    };
    assert_eq!(count(&mut books, vec![], None).await, 2);
    assert_eq!(count(&mut books, vec![OrderState::Open], None).await, 1);
    assert_eq!(count(&mut books, vec![OrderState::Filled, OrderState::Closed], None).await, 1);
    assert_eq!(count(&mut books, vec![], Some("O-2")).await, 1);
    assert_eq!(
        shipments::list(
            &mut books,
            &ShipmentFilter { state: Some("packed".to_owned()), limit: 10, ..Default::default() }
        )
        .await
        .unwrap()
        .count,
        0
    );
    let posted = shipments::list(&mut books, &ShipmentFilter { limit: 10, ..Default::default() }).await.unwrap();
    assert_eq!(posted.shipments.iter().map(|one| one.unbilled).collect::<Vec<_>>(), [true, false]);
    let open = invoices::list(&mut books, &standing("open")).await.unwrap();
    assert_eq!((open.count, open.open_base), (1, Money(49_784)));
    assert_eq!(invoices::list(&mut books, &standing("late")).await.unwrap().count, 0);
    assert_eq!(invoices::list(&mut books, &standing("settled")).await.unwrap().count, 0);
    let money = receipts::list(&mut books, Some("check 77"), true, 10, 0).await.unwrap();
    assert_eq!((money.count, money.unapplied_base), (1, Money(5_000)));
}

#[tokio::test]
async fn a_draft_in_the_list_says_what_it_comes_to() {
    let company = Company::new().await;
    let order = company.order(0, 3).await;
    let shipment = company.ship(order, 3).await;
    let to_bill = company.to_bill(shipment).await;
    company
        .store
        .change(&by(), None, async |books| {
            let rules = rules::load(books).await?;
            invoices::make_drafts(books, &rules, &to_bill).await
        })
        .await
        .unwrap();
    let list = invoices::list(
        &mut *company.store.read().await.unwrap(),
        &invoices::InvoiceFilter { search: None, state: None, limit: 10, offset: 0, ..Default::default() },
    )
    .await
    .unwrap();
    let row = &list.invoices[0];
    // 3 × 59.00 + 18.00 = 195.00, and 23 %.
    assert_eq!((row.number.as_deref(), row.total, row.open), (None, Some(Money(23_985)), None));
    assert_eq!(row.due_date, Some(day("2026-04-17")));
}

#[tokio::test]
async fn search_finds_documents_exact_numbers_first() {
    let company = worked().await;
    let mut books = company.store.read().await.unwrap();
    let hits = find::find(&mut books, "i-1").await.unwrap();
    assert_eq!((hits[0].document.number.as_str(), hits[0].exact), ("I-1", true));
    assert_eq!(find::find(&mut books, "check 77").await.unwrap()[0].document.kind, DocumentKind::Receipt);
    assert_eq!(find::find(&mut books, "E-6").await.unwrap()[0].document.kind, DocumentKind::Entry);
    assert!(find::find(&mut books, "   ").await.unwrap().is_empty());
    assert!(find::find(&mut books, "%").await.unwrap().is_empty());
    assert!(find::find(&mut books, "'; DROP TABLE invoices; --").await.unwrap().is_empty());
}

#[tokio::test]
async fn the_day_sheet_names_the_work_and_the_change_since_yesterday() {
    let company = worked().await;
    let sheet = day_sheet::day_sheet(&mut *company.store.read().await.unwrap(), None).await.unwrap();
    let works: Vec<Work> = sheet.items.iter().map(|item| item.work).collect();
    assert_eq!(works, [Work::MoneyLyingStill, Work::ToBill]);
    assert_eq!(sheet.unbilled, Money(13_600));
    // Nothing shipped today; 608.00 net of the 12th was billed today.
    assert_eq!(sheet.unbilled_change, Money(-60_800));
    assert_eq!(sheet.owed_change, Money(74_784));
    let spine = day_sheet::spine(&mut *company.store.read().await.unwrap(), None).await.unwrap();
    assert_eq!((spine.day_sheet, spine.billing, spine.receipts, spine.billing_stopped), (2, 1, 1, false));
    // A month later the invoice is late and the order waits for its money.
    company
        .store
        .change(&by(), None, async |books| setup::move_business_date(books, day("2026-05-01")).await)
        .await
        .unwrap();
    let later = day_sheet::day_sheet(&mut *company.store.read().await.unwrap(), None).await.unwrap();
    let late = later.items.iter().find(|item| item.work == Work::Late).unwrap();
    assert_eq!((late.amount, late.days), (Money(49_784), 14));
    assert!(later.items.iter().any(|item| item.work == Work::OrdersToFinish));
    assert_eq!(later.late, Money(49_784));
}

#[tokio::test]
async fn packed_goods_are_valued_line_by_line() {
    let company = Company::new().await;
    let order = company.order(0, 5).await;
    company
        .store
        .change(&by(), None, async |books| {
            let view = orders::view(books, order).await?;
            let lines = vec![(view.lines[0].id, "2.5".parse().unwrap()), (view.lines[1].id, Quantity::ONE)];
            shipments::pack(
                books,
                &shipments::NewShipment {
                    order,
                    packed_date: day("2026-03-16"),
                    carrier: None,
                    consignment_number: None,
                    lines,
                },
            )
            .await
        })
        .await
        .unwrap();
    let sheet = day_sheet::day_sheet(&mut *company.store.read().await.unwrap(), None).await.unwrap();
    // 2.5 × 59.00 + 18.00.
    assert_eq!((sheet.items[0].work, sheet.items[0].amount, sheet.items[0].days), (Work::ReadyToGo, Money(16_550), 2));
}

/// A draft is one customer's: a line of another is refused and what was reserved stays so.
#[tokio::test]
async fn a_draft_takes_no_line_of_another_customer() {
    let company = Company::new().await;
    let mine = company.order(0, 3).await;
    let theirs = company.order(1, 3).await;
    let to_bill = company.to_bill(company.ship(mine, 3).await).await;
    let foreign = company.to_bill(company.ship(theirs, 3).await).await;
    let draft = company
        .store
        .change(&by(), None, async |books| {
            let rules = rules::load(books).await?;
            invoices::make_drafts(books, &rules, &to_bill).await
        })
        .await
        .unwrap()[0];
    let refused = company
        .store
        .change(&by(), None, async |books| {
            let rules = rules::load(books).await?;
            invoices::change_draft(books, &rules, draft, 1, &foreign).await
        })
        .await;
    assert!(matches!(refused, Err(StoreError::Invalid { field, .. }) if field == "picks"));
    let view = invoices::view(&mut *company.store.read().await.unwrap(), draft).await.unwrap();
    assert_eq!((view.version, view.document.unwrap().lines.len()), (1, 2));
    company.holds().await;
}

#[tokio::test]
async fn what_stops_billing_is_seen_before_anyone_tries() {
    let company = Company::new().await;
    let order = company.order(0, 2).await;
    company.ship(order, 2).await;
    company
        .store
        .change(&by(), None, async |books| setup::unmap(books, till_core::accounts::Purpose::Revenue, None).await)
        .await
        .unwrap();
    let sheet = day_sheet::day_sheet(&mut *company.store.read().await.unwrap(), None).await.unwrap();
    assert_eq!(sheet.items[0].work, Work::Stopped);
    assert_eq!(sheet.items[0].why, "1 shipment: no account");
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let open = unbilled::list(&mut books, &rules, &UnbilledFilter::default()).await.unwrap();
    let sentence = &open.customers[0].shipments[0].blockers[0].sentence;
    assert_eq!(
        sentence,
        "The account map has no account for revenue of item class goods. Ask a supervisor to add one."
    );
}

#[tokio::test]
async fn exchange_rates_hold_from_their_day_on() {
    let company = Company::new().await;
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let gbp = till_core::money::Currency::of("GBP").unwrap();
    let on = async |books: &mut till_store::Connection, date: &str| {
        rules::exchange_rate(books, &rules, gbp, day(date)).await.unwrap().map(|rate| rate.to_string())
    };
    assert_eq!(on(&mut books, "2025-12-31").await, None);
    assert_eq!(on(&mut books, "2026-03-19").await.as_deref(), Some("1.17"));
    assert_eq!(on(&mut books, "2026-03-20").await.as_deref(), Some("1.15"));
}

#[tokio::test]
async fn master_data_is_refused_when_it_cannot_be() {
    let company = Company::new().await;
    let taken = company
        .store
        .change(&by(), None, async |books| {
            let new = items::NewItem {
                code: "A",
                name: "again",
                kind: till_core::invoice::ItemKind::Goods,
                class: "goods",
                unit: "pc",
                list_price: "1".parse().unwrap(),
                tax_code: "S23",
            };
            items::add(books, &new).await
        })
        .await;
    assert!(matches!(taken, Err(StoreError::Invalid { field, .. }) if field == "code"));
    let freight = company.items[2];
    let no_stock = company
        .store
        .change(&by(), None, async |books| {
            let rules = rules::load(books).await?;
            items::take_in(books, &rules, freight, Quantity::ONE, Money(1), day("2026-03-18")).await
        })
        .await;
    assert!(matches!(no_stock, Err(StoreError::Invalid { field, .. }) if field == "item"));
    let back = company
        .store
        .change(&by(), None, async |books| setup::move_business_date(books, day("2026-03-01")).await)
        .await;
    assert!(matches!(back, Err(StoreError::WrongState(_))));
    let twice = company
        .store
        .change(&by(), None, async |books| {
            setup::company(
                books,
                &setup::NewCompany {
                    name: "Again".to_owned(),
                    base: till_core::money::Currency::of("EUR").unwrap(),
                    business_date: None,
                    tax_computed: till_core::tax::TaxComputed::PerLine,
                },
            )
            .await
        })
        .await;
    assert!(matches!(twice, Err(StoreError::WrongState(_))));
}

#[tokio::test]
async fn goods_of_a_packed_shipment_cannot_be_billed() {
    let company = Company::new().await;
    let order = company.order(0, 5).await;
    let line = company
        .store
        .change(&by(), None, async |books| {
            let view = orders::view(books, order).await?;
            let shipment = shipments::pack(
                books,
                &shipments::NewShipment {
                    order,
                    packed_date: day("2026-03-10"),
                    carrier: None,
                    consignment_number: None,
                    lines: vec![(view.lines[0].id, Quantity::from_whole(5))],
                },
            )
            .await?;
            Ok(shipments::view(books, shipment).await?.lines[0].id)
        })
        .await
        .unwrap();
    let to_bill =
        ToBill { picks: vec![Pick { shipment_line: line, quantity: Some(Quantity::ONE) }], ..Default::default() };
    let refused = company
        .store
        .change(&by(), None, async |books| {
            let rules = rules::load(books).await?;
            invoices::post_picks(books, &rules, &to_bill, None).await
        })
        .await;
    assert!(matches!(refused, Err(StoreError::Refused(_))));
    company.holds().await;
}
