//! Cents and corners found in the books by reading, mended: through the store. Figures worked out by hand; the
//! names are those of the table in docs/rules.md.

use crate::common::*;
use till_core::checks::Check;
use till_core::day_sheet::Work;
use till_core::ids::{InvoiceId, OrderId};
use till_core::money::Money;
use till_core::people::{LimitKind, Role};
use till_core::terms::Terms;
use till_store::containers::{self, BroughtBack};
use till_store::invoices::{self, ToBill, ToCancelInvoice};
use till_store::items::NewItem;
use till_store::orders::{self, LineForm, Lineage, OrderForm, TypedAddress};
use till_store::people::{self, NewPerson};
use till_store::receipts::NewReceipt;
use till_store::settings::{self, NewLimit};
use till_store::shipments::{self, NewShipment, PickForm, ShipmentForm};
use till_store::unbilled::{self, UnbilledFilter};
use till_store::{
    Actor, Result, StoreError, approvals, customers, day_sheet, deliveries, items, receipts, rules, setup,
};

fn line(quantity: &str, price: &str) -> LineForm {
    LineForm {
        item: "A".to_owned(),
        quantity: quantity.to_owned(),
        unit_price: Some(price.to_owned()),
        price_reason: Some("agreed".to_owned()),
        ..LineForm::default()
    }
}

fn form(company: &Company, customer: usize, lines: Vec<LineForm>) -> OrderForm {
    let customer = company.customers[customer];
    OrderForm { customer, order_date: Some(day("2026-03-01")), lines, ..OrderForm::default() }
}

async fn order(company: &Company, typed: &OrderForm) -> OrderId {
    change(company, async |writing, rules| {
        let order = orders::enter_form(writing, rules, typed, Lineage::default()).await?;
        orders::confirm(writing, order).await?;
        Ok(order)
    })
    .await
    .unwrap()
}

async fn prices_with_tax(company: &Company, customer: usize) {
    let id = company.customers[customer];
    change(company, async |writing, rules| {
        let mut form = customers::form(writing, rules.base, id).await?;
        form.gross_priced = true;
        let version = customers::view(writing, id).await?.version;
        customers::save(writing, rules, Some((id, version)), &form).await?;
        Ok(())
    })
    .await
    .unwrap();
}

/// C1, C4. Three lines at 1.00 with 23 % in it: 3.00 ÷ 1.23 = 2.44 together, 0.81 each would be 2.43. So say the
/// list, its sum, and, while they are packed, the day sheet. In pounds 10.01 at 1.17 are 11.71 and 10.02 are 11.72,
/// 23.43 in all; converted together they would be 23.44 (23.4351).
#[tokio::test]
async fn what_is_unbilled_is_worth_what_it_would_be_billed_at() {
    let company = Company::new().await;
    prices_with_tax(&company, 0).await;
    let gross = order(&company, &form(&company, 0, vec![line("1", "1.00"); 3])).await;
    let lines = {
        let mut books = company.store.read().await.unwrap();
        orders::view(&mut books, gross).await.unwrap().lines
    };
    change(&company, async |writing, _| {
        let lines = lines.iter().map(|line| (line.id, till_core::fixed::Quantity::ONE)).collect();
        let new = NewShipment {
            order: gross,
            packed_date: day("2026-03-10"),
            carrier: None,
            consignment_number: None,
            lines,
        };
        shipments::pack(writing, &new).await
    })
    .await
    .unwrap();
    let sheet = day_sheet::day_sheet(&mut company.store.read().await.unwrap(), None).await.unwrap();
    let packed: Vec<_> = sheet.items.iter().filter(|item| item.work == Work::ReadyToGo).collect();
    assert_eq!((packed.len(), packed[0].amount), (1, Money(244)));

    let other = order(&company, &form(&company, 0, vec![line("1", "1.00"); 3])).await;
    ship(&company, other, &["1", "1", "1"], None).await;
    for price in ["10.01", "10.02"] {
        let pounds = order(&company, &form(&company, 2, vec![line("1", price)])).await;
        ship(&company, pounds, &["1"], None).await;
    }
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let listed = unbilled::list(&mut books, &rules, &UnbilledFilter::default()).await.unwrap();
    let worth = |at: usize| {
        let customer = listed.customers.iter().find(|one| one.customer == company.customers[at]).unwrap();
        (customer.net_base, customer.shipments.iter().map(|shipment| shipment.net_base.0).collect::<Vec<_>>())
    };
    assert_eq!(worth(0), (Money(244), vec![244]));
    assert_eq!(worth(2), (Money(2_343), vec![1_171, 1_172]));
    assert_eq!(listed.net_base, Money(244 + 2_343));
}

/// C2. 0.04 in 10 % now and 90 % in 30 days: the first part is nothing, so the next day something is due is the second.
#[tokio::test]
async fn a_part_of_nothing_is_never_due() {
    let company = Company::new().await;
    let terms: Terms = serde_json::from_str(
        r#"{"kind":"instalments","parts":[{"share":"0.1","due":{"kind":"net_days","days":0}},{"share":"0.9","due":{"kind":"net_days","days":30}}]}"#,
    )
    .unwrap();
    let order = order(&company, &form(&company, 0, vec![line("1", "0.03")])).await;
    let shipment = ship(&company, order, &["1"], None).await;
    let to_bill = ToBill { terms: Some(terms), ..company.to_bill(shipment).await };
    change(&company, async |writing, rules| invoices::post_picks(writing, rules, &to_bill, None).await).await.unwrap();
    company.holds().await;
    let mut books = company.store.read().await.unwrap();
    let owed = till_store::open_items::open_as_of(&mut books, None, day("2026-03-18")).await.unwrap();
    assert_eq!(owed.items.iter().map(|row| row.due_date).collect::<Vec<_>>(), [day("2026-04-17")]);
}

/// C3. Orders of 123.00 and 246.00 with tax on one invoice: each shows its own share of what is open, 123.00 and
/// 246.00, not 369.00 twice; half of it paid, 61.50 and 123.00.
#[tokio::test]
async fn an_order_to_finish_shows_its_own_share() {
    let company = Company::new().await;
    let mut picks = Vec::new();
    for price in ["100", "200"] {
        let order = order(&company, &form(&company, 0, vec![line("1", price)])).await;
        let shipment = ship(&company, order, &["1"], None).await;
        picks.extend(company.to_bill(shipment).await.picks);
    }
    let to_bill = ToBill { picks, terms: Some(Terms::net_days(0)), ..ToBill::default() };
    change(&company, async |writing, rules| invoices::post_picks(writing, rules, &to_bill, None).await).await.unwrap();
    let open = async || -> Vec<i64> {
        let sheet = day_sheet::day_sheet(&mut company.store.read().await.unwrap(), None).await.unwrap();
        let mut open: Vec<i64> =
            sheet.items.iter().filter(|item| item.work == Work::OrdersToFinish).map(|item| item.amount.0).collect();
        open.sort_unstable();
        open
    };
    assert_eq!(open().await, [12_300, 24_600]);
    let half = NewReceipt {
        customer: company.customers[0],
        method: "transfer".to_owned(),
        date: None,
        amount: "184.50".to_owned(),
        reference: None,
        applications: None,
        first: None,
        with: Vec::new(),
        currency: None,
    };
    company.receive(&half).await.unwrap();
    assert_eq!(open().await, [6_150, 12_300]);
}

/// Ten drums at 1.00 on 5 March, ten at 2.00 on 10 March.
async fn drums(company: &Company) {
    change(company, async |writing, _| {
        let zero = till_core::fixed::Rate::ZERO;
        let category = till_core::tax::TaxCategory::O;
        setup::tax_code(writing, "O0", "No sale", category, day("2020-01-01"), zero).await?;
        let drum = NewItem {
            code: "DRUM",
            name: "Drum",
            kind: till_core::invoice::ItemKind::Packaging,
            class: "packaging",
            unit: "pc",
            list_price: "1".parse().unwrap(),
            tax_code: "O0",
        };
        items::add(writing, &drum).await
    })
    .await
    .unwrap();
    for (price, on) in [("1", "2026-03-05"), ("2", "2026-03-10")] {
        let drums = LineForm { item: "DRUM".to_owned(), ..line("10", price) };
        let order = order(company, &form(company, 0, vec![drums])).await;
        let shipment = change(company, async |writing, rules| {
            let pick =
                PickForm { order_line: orders::view(writing, order).await?.lines[0].id, quantity: "10".to_owned() };
            let form = ShipmentForm {
                carrier: None,
                consignment_number: None,
                freight: None,
                warehouse: None,
                lines: vec![pick],
            };
            let shipment = shipments::start(writing, rules, order, Some(&form)).await?;
            shipments::post(writing, rules, shipment, None, day(on)).await
        })
        .await
        .unwrap();
        let to_bill = ToBill { document_date: Some(day(on)), ..company.to_bill(shipment).await };
        change(company, async |writing, rules| invoices::post_picks(writing, rules, &to_bill, None).await)
            .await
            .unwrap();
    }
}

async fn bring_back(company: &Company, quantity: &str, on: &str) -> Result<containers::PostedReturn> {
    let back = BroughtBack { item: "DRUM".to_owned(), quantity: quantity.to_owned(), date: Some(day(on)) };
    let customer = company.customers[0];
    change(company, async |writing, rules| containers::take_back(writing, rules, customer, &back, None).await).await
}

/// C8, and a fault the random sequences found. On 7 March 10.00 was owed back for ten drums: that is what ten of them
/// give back, not 15.00, the average of today; it goes to the invoice of that day, not to the later one. All twenty
/// come back on the 10th at the earliest.
#[tokio::test]
async fn containers_come_back_at_what_was_owed_on_their_day() {
    let company = Company::new().await;
    drums(&company).await;
    assert!(bring_back(&company, "20", "2026-03-07").await.unwrap_err().to_string().contains("10 Mar 2026"));
    bring_back(&company, "10", "2026-03-07").await.unwrap();
    company.holds().await;
    let mut books = company.store.read().await.unwrap();
    let left = containers::balance(&mut books, company.customers[0]).await.unwrap();
    assert_eq!((left[0].there.to_string().as_str(), left[0].owed_back), ("10", Money(2_000)));
    let owed = till_store::open_items::open_as_of(&mut books, None, day("2026-03-18")).await.unwrap();
    assert_eq!(
        owed.items.iter().map(|row| (row.document.number.as_str(), row.open)).collect::<Vec<_>>(),
        [("I-2", Money(2_000))]
    );
}

/// B9. An address typed once in another country is not taxed as the ship-to at home: the order waits for a ship-to.
#[tokio::test]
async fn an_address_in_another_country_is_not_taxed_as_the_ship_to() {
    let company = Company::new().await;
    let typed = |country: &str| OrderForm {
        address: Some(TypedAddress {
            name: "Quay 4".to_owned(),
            address: "4 Test Quay".to_owned(),
            country: country.to_owned(),
        }),
        ..form(&company, 0, vec![line("1", "100")])
    };
    let confirmed = async |country: &str| {
        change(&company, async |writing, rules| {
            let order = orders::enter_form(writing, rules, &typed(country), Lineage::default()).await?;
            orders::confirm(writing, order).await
        })
        .await
    };
    confirmed("MH").await.unwrap();
    let Err(StoreError::Refused(found)) = confirmed("FR").await else { panic!("it was confirmed") };
    assert_eq!(found.iter().map(|one| one.check).collect::<Vec<_>>(), [Check::AddressElsewhere]);
}

async fn staff(company: &Company) -> Vec<Actor> {
    let roles = [Role::Clerk, Role::Lead];
    change(company, async |writing, _| {
        for (at, role) in (1..).zip(roles) {
            let (sign_in, name) = (format!("p{at}"), format!("person {at}"));
            let password_hash = "$argon2id$nobody signs in here";
            people::add(
                writing,
                &NewPerson { sign_in: &sign_in, name: &name, role, password_hash, must_change: false },
            )
            .await?;
        }
        for (role, kind, amount) in [
            (Role::Clerk, LimitKind::PriceChange, "100"),
            (Role::Lead, LimitKind::PriceChange, "1000"),
            (Role::Clerk, LimitKind::Order, "9999"),
            (Role::Lead, LimitKind::Order, "9999"),
        ] {
            settings::set_limit(writing, &NewLimit { role, kind, amount: Some(amount.to_owned()) }).await?;
        }
        Ok(())
    })
    .await
    .unwrap();
    (1..)
        .zip(roles)
        .map(|(id, role)| Actor::person(till_core::ids::PersonId(id), &format!("person {id}"), role, "here", by().at))
        .collect()
}

/// B8. 10 × 59.00 typed down to 48.00 gives away 110.00: above the 100.00 of a clerk, within the 1,000.00 of a supervisor.
/// Amended to 1.00 it gives away 580.00 and waits again, though its total falls; to 4.00 of a hundred pieces more than
/// the lead may approve.
#[tokio::test]
async fn what_an_order_gives_away_waits_for_who_may() {
    let company = Company::new().await;
    let staff = staff(&company).await;
    let lead = approvals::Viewer { person: till_core::ids::PersonId(2), role: Role::Lead };
    let entered = change(&company, async |writing, rules| {
        orders::enter_form(writing, rules, &form(&company, 0, vec![line("10", "48")]), Lineage::default()).await
    })
    .await
    .unwrap();
    let confirmed = company
        .store
        .change(&staff[0], None, async |writing| {
            let rules = rules::load(writing).await?;
            orders::confirm_as(writing, &rules, entered, None, "a fair").await
        })
        .await
        .unwrap();
    let approve = async |id| {
        company
            .store
            .change(&staff[1], None, async |writing| {
                let rules = rules::load(writing).await?;
                approvals::approve(writing, &rules, id, lead).await
            })
            .await
    };
    approve(confirmed.waits.unwrap()).await.unwrap();
    let amend = async |quantity: &str, price: &str| {
        let view = orders::view(&mut company.store.read().await.unwrap(), entered).await.unwrap();
        let mut form = view.form;
        form.lines[0].quantity = quantity.to_owned();
        form.lines[0].unit_price = Some(price.to_owned());
        company
            .store
            .change(&staff[0], None, async |writing| {
                let rules = rules::load(writing).await?;
                orders::change(writing, &rules, entered, view.version, &form).await
            })
            .await
            .unwrap()
            .waits
    };
    // Less given away: 5 × 11.00 asks nobody.
    assert_eq!(amend("5", "48").await, None);
    let waits = amend("10", "1").await.unwrap();
    approve(waits).await.unwrap();
    let waits = amend("100", "4").await.unwrap();
    assert!(matches!(approve(waits).await, Err(StoreError::NotAllowed(_))));
}

/// An invoice that never went leaves the outbox as it is canceled, and no credit memo follows it; after one that was
/// printed the credit memo goes too.
#[tokio::test]
async fn a_canceled_invoice_that_never_went_leaves_the_outbox() {
    let company = Company::new().await;
    let mut invoices_made: Vec<InvoiceId> = Vec::new();
    for _ in 0..2 {
        let order = order(&company, &form(&company, 0, vec![line("1", "100")])).await;
        let shipment = ship(&company, order, &["1"], None).await;
        invoices_made.push(company.bill(shipment).await);
    }
    let waiting = async || -> Vec<String> {
        let filter = deliveries::DeliveryFilter {
            state: Some("waiting".to_owned()),
            limit: 100,
            ..deliveries::DeliveryFilter::default()
        };
        let list = deliveries::list(&mut company.store.read().await.unwrap(), &filter).await.unwrap();
        list.rows.into_iter().map(|row| row.document.number).collect()
    };
    assert_eq!(waiting().await, ["I-1", "I-2"]);
    let printed = invoices::view(&mut company.store.read().await.unwrap(), invoices_made[1]).await.unwrap();
    change(&company, async |writing, _| deliveries::printed(writing, &[printed.deliveries[0].id]).await).await.unwrap();
    for id in &invoices_made {
        let wish = ToCancelInvoice { date: None, reason: "twice".to_owned(), rebill: false, seen: None };
        change(&company, async |writing, rules| invoices::cancel(writing, rules, *id, &wish).await).await.unwrap();
    }
    assert_eq!(waiting().await, ["CM-2"]);
    // The id of what was taken out is never given again.
    let last = async |id: InvoiceId| {
        let view = invoices::view(&mut company.store.read().await.unwrap(), id).await.unwrap();
        view.deliveries[0].id
    };
    let bill = async || {
        let order = order(&company, &form(&company, 0, vec![line("1", "100")])).await;
        let shipment = ship(&company, order, &["1"], None).await;
        company.bill(shipment).await
    };
    let gone = bill().await;
    let taken = last(gone).await;
    let wish = ToCancelInvoice { date: None, reason: "twice".to_owned(), rebill: false, seen: None };
    change(&company, async |writing, rules| invoices::cancel(writing, rules, gone, &wish).await).await.unwrap();
    assert!(last(bill().await).await > taken);
}

/// A fault the random sequences found: 1 of 10,000 pieces for 0.00 credited is a credit memo over 0.00, with its
/// open item all the same.
#[tokio::test]
async fn a_credit_over_nothing_stands_in_the_books() {
    let company = Company::new().await;
    let typed = LineForm { item: "B".to_owned(), unit_price: Some("0.0001".to_owned()), ..line("100", "0") };
    let order = order(&company, &form(&company, 0, vec![typed])).await;
    let shipment = ship(&company, order, &["100"], None).await;
    let invoice = company.bill(shipment).await;
    let one = invoices::CreditLine { position: 0, quantity: Some("1".to_owned()), amount: None, return_line: None };
    let wish =
        invoices::ToCredit { lines: vec![one], added: Vec::new(), date: None, reason: "broken".to_owned(), seen: None };
    change(&company, async |writing, rules| invoices::credit(writing, rules, invoice, &wish).await).await.unwrap();
    company.holds().await;
}

/// B4, M7. Where the company wants dates in order, a receipt and a credit memo before the last of their kind stop; one
/// that was taken back holds nobody up.
#[tokio::test]
async fn receipts_and_credit_memos_are_dated_in_order() {
    let company = Company::new().await;
    change(&company, async |writing, _| {
        let now = settings::view(writing).await?;
        let wish = settings::CompanySettings {
            write_off_tolerance: None,
            version: now.version,
            company: now.company,
            tax_computed: now.tax_computed,
            tax_date: None,
            dates_in_order: Some(true),
            advance_tax: None,
            hold_until_prepaid: None,
            deposit_use: None,
            fixed_date: now.fixed_date,
        };
        settings::change_company(writing, &wish).await
    })
    .await
    .unwrap();
    let receipt = |on: &str| NewReceipt {
        customer: company.customers[0],
        method: "transfer".to_owned(),
        date: Some(day(on)),
        amount: "10".to_owned(),
        reference: None,
        applications: None,
        first: None,
        with: Vec::new(),
        currency: None,
    };
    let last = company.receive(&receipt("2026-03-16")).await.unwrap();
    let Err(StoreError::Refused(found)) = company.receive(&receipt("2026-03-15")).await else {
        panic!("it was posted")
    };
    assert_eq!((found[0].check, found[0].field.as_str()), (Check::DateBeforeLast, "date"));
    let back = receipts::ToReverse { date: Some(day("2026-03-17")), reason: "typed twice".to_owned() };
    change(&company, async |writing, rules| {
        let seen = receipts::preview_reverse(writing, rules, last.id, &back).await?.fingerprint;
        receipts::reverse(writing, rules, last.id, (1, &seen), &back).await
    })
    .await
    .unwrap();
    company.receive(&receipt("2026-03-15")).await.unwrap();
}
