//! # till-bench: how fast, against the raw work underneath
//!
//! Benchmarks compare an operation with SQLite doing the same work with nothing around it, in
//! the same run on the same disk, so that the ratio means something on any machine. The
//! generator makes companies of any size by the application's own operations.

pub mod raw;

use std::path::Path;

use chrono::{Days, NaiveDate};
use till_core::calendar::Terms;
use till_core::fixed::{Quantity, Rate};
use till_core::ids::{CustomerId, ItemId, OrderId, ShipmentLineId};
use till_core::invoice::ItemKind;
use till_core::money::{Currency, Money};
use till_store::customers::NewCustomer;
use till_store::deposits::NewDeposit;
use till_store::items::NewItem;
use till_store::orders::{NewOrder, NewOrderLine};
use till_store::prepayments::AdvanceForm;
use till_store::shipments::NewShipment;
use till_store::{
    Actor, Result, Store, StoreError, Writing, customers, deposits, items, orders, prepayments, rules, setup, shipments,
};

const CUSTOMERS: usize = 200;
const CLASSES: [&str; 4] = ["woodenware", "wax", "jars", "feed"];

/// Makes books with `shipments` posted shipments of `lines` lines each, all of them unbilled.
/// Returns the lines of each shipment.
///
/// # Errors
/// Where an operation is refused.
pub async fn large_company(file: &Path, shipments: usize, lines: usize) -> Result<(Store, Vec<Vec<ShipmentLineId>>)> {
    let store = Store::open(file).await?;
    let start = NaiveDate::from_ymd_opt(2026, 1, 5).unwrap_or_default();
    let (customers, items) = store
        .change(&by(), None, async |connection| {
            till_demo::set_up(connection, start).await?;
            let customers = add_customers(connection).await?;
            Ok((customers, add_items(connection, start, shipments).await?))
        })
        .await?;
    let mut made = Vec::with_capacity(shipments);
    for batch in (0..shipments).collect::<Vec<_>>().chunks(500) {
        let more = store
            .change(&by(), None, async |connection| {
                let mut more = Vec::with_capacity(batch.len());
                for at in batch {
                    // One day after the other, as a company lives.
                    let days = u64::try_from(at * 55 / shipments).unwrap_or(0);
                    let day = start.checked_add_days(Days::new(days)).unwrap_or(start);
                    more.push(ship(connection, customers[at % customers.len()], &items, (*at, lines), day).await?);
                }
                Ok(more)
            })
            .await?;
        made.extend(more);
    }
    let end = start.checked_add_days(Days::new(60)).unwrap_or(start);
    store.change(&by(), None, async |connection| setup::move_business_date(connection, end).await).await?;
    Ok((store, made))
}

/// What a long order is made from.
#[derive(Debug, Clone)]
pub struct LongOrder {
    customer: CustomerId,
    items: Vec<ItemId>,
    /// The business date.
    pub day: NaiveDate,
}

/// Makes books with so many items in stock, to order each of them once.
///
/// # Errors
/// Where an operation is refused.
pub async fn long_company(file: &Path, items: usize) -> Result<(Store, LongOrder)> {
    let store = Store::open(file).await?;
    let day = NaiveDate::from_ymd_opt(2026, 1, 5).unwrap_or_default();
    let order = store
        .change(&by(), None, async |connection| {
            till_demo::set_up(connection, day).await?;
            let customers = add_customers(connection).await?;
            let items = add_some_items(connection, day, items, 1_000).await?;
            setup::move_business_date(connection, day).await?;
            Ok((customers[0], items))
        })
        .await
        .map(|(customer, items)| LongOrder { customer, items, day })?;
    Ok((store, order))
}

/// An order of one of each.
pub fn long_order(of: &LongOrder) -> NewOrder {
    NewOrder {
        customer: of.customer,
        customer_order_number: None,
        order_date: of.day,
        promised_date: None,
        lines: of
            .items
            .iter()
            .map(|item| NewOrderLine {
                item: *item,
                quantity: Quantity::ONE,
                unit_price: None,
                discount: Rate::ZERO,
                discount_reason: None,
                tax_code: None,
            })
            .collect(),
    }
}

/// Who makes all of it.
pub fn by() -> Actor {
    Actor::program(chrono::DateTime::UNIX_EPOCH)
}

/// Two hundred customers, numbered from 10000.
///
/// # Errors
/// Where an operation is refused.
pub async fn add_customers(connection: &mut Writing<'_>) -> Result<Vec<CustomerId>> {
    let currency = Currency::of("EUR").map_err(|error| StoreError::Corrupt(error.to_string()))?;
    let mut made = Vec::with_capacity(CUSTOMERS);
    for at in 0..CUSTOMERS {
        let number = format!("{}", 10_000 + at);
        let name = format!("Customer {at}");
        let new = NewCustomer {
            number: &number,
            name: &name,
            class: None,
            address: "1 Bench Road",
            country: "MH",
            tax_id: None,
            currency,
            terms: Terms::net_days(30),
            credit_limit: None,
            stop_reason: None,
            needs_order_number: false,
        };
        made.push(customers::add(connection, &new).await?);
    }
    Ok(made)
}

async fn add_items(connection: &mut Writing<'_>, day: NaiveDate, shipments: usize) -> Result<Vec<ItemId>> {
    let enough = i64::try_from(shipments).unwrap_or(i64::MAX / 1_000).saturating_mul(10).max(100);
    add_some_items(connection, day, 24, enough).await
}

async fn add_some_items(
    connection: &mut Writing<'_>,
    day: NaiveDate,
    count: usize,
    enough: i64,
) -> Result<Vec<ItemId>> {
    let rules = rules::load(connection).await?;
    let mut made = Vec::new();
    for at in 0..count {
        let code = format!("IT-{at}");
        let new = NewItem {
            code: &code,
            name: &code,
            kind: ItemKind::Goods,
            class: CLASSES[at % CLASSES.len()],
            unit: "pc",
            list_price: "12.35"
                .parse()
                .map_err(|error: till_core::fixed::DecimalError| StoreError::Corrupt(error.to_string()))?,
            tax_code: if at % 5 == 0 { "S135" } else { "S23" },
        };
        let item = items::add(connection, &new).await?;
        items::take_in(connection, &rules, item, Quantity::from_whole(enough), Money(enough * 700), day).await?;
        made.push(item);
    }
    Ok(made)
}

async fn ship(
    connection: &mut Writing<'_>,
    customer: CustomerId,
    items: &[ItemId],
    (at, lines): (usize, usize),
    day: NaiveDate,
) -> Result<Vec<ShipmentLineId>> {
    let wanted = (0..lines).map(|line| NewOrderLine {
        item: items[(at + line) % items.len()],
        quantity: Quantity::from_whole(i64::try_from(1 + (at + line) % 9).unwrap_or(1)),
        unit_price: None,
        discount: Rate::ZERO,
        discount_reason: None,
        tax_code: None,
    });
    let new = NewOrder {
        customer,
        customer_order_number: None,
        order_date: day,
        promised_date: None,
        lines: wanted.collect(),
    };
    let order = orders::enter(connection, &new).await?;
    orders::confirm(connection, order).await?;
    if at % 10 == 0 && std::env::var_os("DEPOSITS").is_some() {
        take_deposit(connection, customer, order).await?;
        bill_ahead(connection, order, day).await?;
    }
    let view = orders::view(connection, order).await?;
    let lines = view.lines.iter().map(|line| (line.id, line.progress.ordered)).collect();
    let shipment = NewShipment { order, packed_date: day, carrier: None, consignment_number: None, lines };
    let shipment = shipments::pack(connection, &shipment).await?;
    let rules = rules::load(connection).await?;
    shipments::post(connection, &rules, shipment, None, day).await?;
    Ok(shipments::view(connection, shipment).await?.lines.iter().map(|line| line.id).collect())
}

/// A quarter of every tenth order is billed ahead, where `DEPOSITS` is set: its invoice uses that by itself too.
async fn bill_ahead(connection: &mut Writing<'_>, order: OrderId, day: NaiveDate) -> Result<()> {
    let rules = rules::load(connection).await?;
    let form = AdvanceForm {
        percent: Some("25".to_owned()),
        document_date: Some(day),
        posting_date: Some(day),
        ..AdvanceForm::default()
    };
    prepayments::bill(connection, &rules, order, &form).await?;
    Ok(())
}

/// A deposit on every tenth order, where `DEPOSITS` is set: its invoice uses it by itself.
async fn take_deposit(connection: &mut Writing<'_>, customer: CustomerId, order: OrderId) -> Result<()> {
    let new = NewDeposit {
        receipt: None,
        customer,
        order: Some(order),
        quote: None,
        method: "transfer".to_owned(),
        date: None,
        amount: "5.00".to_owned(),
        reference: None,
        memo: None,
    };
    let rules = rules::load(connection).await?;
    deposits::take(connection, &rules, &new, None).await?;
    Ok(())
}
