//! Unbilled: posted shipments with something left to bill, and work of orders that needs none.
//!
//! What of each shipment line is worth is kept beside it (`unbilled_minor`), worked out by the core
//! at the end of the change that touched it, so that a list of many thousands adds up at once.

mod selecting;
mod why;
mod work;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::{Blocker, Step, stops};
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, OrderId, OrderLineId, ShipmentId, ShipmentLineId};
use till_core::invoice::{BillingHabit, InvoiceInput, decide};
use till_core::money::{Currency, Money, line_total_less};
use till_core::order::Track;
use till_core::pricing::{PriceStep, offs};
use till_core::tax::{TaxCategory, TaxRate, compute_gross};

pub use self::selecting::UnbilledFilter;
use self::selecting::page;
pub(crate) use self::selecting::{CustomerSum, sums};
pub use self::why::why;
use self::work::add_work;
use crate::convert::{currency, json};
use crate::invoices::OrderPick;
use crate::invoices::{Head, Pick, Picked, ToDecide, inputs, load_shipped};
use crate::rules::Rules;
use crate::shipments::and_more;
use crate::{Result, StoreError};

/// A line with something left to bill.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnbilledLine {
    /// The shipment line; none for work without a shipment.
    pub shipment_line: Option<ShipmentLineId>,
    /// The order line.
    pub order_line: OrderLineId,
    /// The item's code.
    pub code: String,
    /// Its words.
    pub description: String,
    /// Its unit.
    pub unit: String,
    /// What is left to bill.
    pub quantity: Quantity,
    /// Price per unit.
    pub unit_price: UnitPrice,
    /// Net of it in the order's currency.
    pub net: Money,
}

/// A shipment with something left to bill, or an order with work to bill without one.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnbilledShipment {
    /// The shipment; none for work of an order.
    pub shipment: Option<ShipmentId>,
    /// Its number, or the order's.
    pub number: String,
    /// The order.
    pub order: OrderId,
    /// The order's number.
    pub order_number: String,
    /// The number the customer gave the order.
    pub customer_order_number: Option<String>,
    /// The order's track.
    pub track: Track,
    /// When it left; for work the day of the order.
    pub shipped_on: NaiveDate,
    /// Days since.
    pub days: i64,
    /// Words for what is on it.
    pub what: String,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Net left to bill, in its currency.
    pub net: Money,
    /// Net left to bill, in base currency.
    pub net_base: Money,
    /// Its lines.
    pub lines: Vec<UnbilledLine>,
    /// What would stand in the way of posting it.
    pub blockers: Vec<Blocker>,
}

/// A customer with something to bill.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnbilledCustomer {
    /// The customer.
    pub customer: CustomerId,
    /// Its number.
    pub number: String,
    /// Its name.
    pub name: String,
    /// Terms in words.
    pub terms: String,
    /// How it wants to be billed.
    pub habit: BillingHabit,
    /// Whether only when all of an order has gone.
    pub when_complete: bool,
    /// Days since its oldest shipment.
    pub days: i64,
    /// How many shipments it has, those on other pages included.
    pub count: i64,
    /// Net left to bill, in base currency, those on other pages included.
    pub net_base: Money,
    /// Its shipments on this page, oldest first.
    pub shipments: Vec<UnbilledShipment>,
}

/// A page of the unbilled.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Unbilled {
    /// By customer, the oldest first.
    pub customers: Vec<UnbilledCustomer>,
    /// How many shipments fit, those on other pages included.
    pub shipments: i64,
    /// Net left to bill of all that fits, in base currency.
    pub net_base: Money,
    /// Where the next page begins; none on the last.
    pub next: Option<i64>,
}

/// Everything unbilled that fits a filter, in the order of the list: lines of shipments, and work and charges
/// of orders.
///
/// # Errors
/// Where the database cannot be read.
pub(crate) async fn picks(
    connection: &mut SqliteConnection,
    rules: &Rules,
    filter: &UnbilledFilter,
) -> Result<(Vec<Pick>, Vec<OrderPick>)> {
    let whole = UnbilledFilter { limit: None, offset: 0, ..filter.clone() };
    if filter.blocked.is_none() && filter.at_least.is_none() {
        return Ok((page(connection, rules, &whole).await?.0, work::work(connection, rules, &whole).await?));
    }
    let listed = list(connection, rules, &whole).await?;
    let (mut picks, mut work) = (Vec::new(), Vec::new());
    for line in listed.customers.iter().flat_map(|one| &one.shipments).flat_map(|one| &one.lines) {
        match line.shipment_line {
            Some(shipment_line) => picks.push(Pick { shipment_line, quantity: None }),
            None => work.push(OrderPick { order_line: line.order_line, quantity: None }),
        }
    }
    Ok((picks, work))
}

/// Lists what is unbilled.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, rules: &Rules, filter: &UnbilledFilter) -> Result<Unbilled> {
    let sums = sums(connection, rules, filter).await?;
    let (picks, on_page) = page(connection, rules, filter).await?;
    let all: i64 = sums.iter().map(|sum| sum.shipments).sum();
    let mut unbilled = Unbilled {
        shipments: all,
        net_base: sums.iter().map(|sum| sum.net_base).sum(),
        customers: Vec::new(),
        next: (filter.offset + on_page < all && filter.blocked.is_none()).then_some(filter.offset + on_page),
    };
    let wanted: Vec<_> = picks.iter().map(|pick| (None, *pick)).collect();
    let lines = load_shipped(connection, &wanted).await?;
    let by_shipment =
        by_source(lines, |one, other| one.shipment().map(|(id, _)| id) == other.shipment().map(|(id, _)| id));
    for row in rows(connection, rules, by_shipment).await? {
        add(&mut unbilled, row, &sums, rules);
    }
    if filter.offset == 0 {
        add_work(connection, rules, filter, &mut unbilled).await?;
    }
    if let Some(wanted) = filter.blocked {
        for customer in &mut unbilled.customers {
            customer.shipments.retain(|shipment| stops(&shipment.blockers) == wanted);
            customer.count = i64::try_from(customer.shipments.len()).unwrap_or(0);
            customer.net_base = customer.shipments.iter().map(|shipment| shipment.net_base).sum();
        }
        unbilled.customers.retain(|customer| !customer.shipments.is_empty());
        unbilled.shipments = unbilled.customers.iter().map(|customer| customer.count).sum();
        unbilled.net_base = unbilled.customers.iter().map(|customer| customer.net_base).sum();
    }
    Ok(unbilled)
}

fn by_source(
    lines: Vec<Picked>,
    same: impl Fn(&till_core::invoice::LineSource, &till_core::invoice::LineSource) -> bool,
) -> Vec<Vec<Picked>> {
    let mut groups: Vec<Vec<Picked>> = Vec::new();
    for line in lines {
        match groups.last_mut().filter(|last| same(&last[0].line.source, &line.line.source)) {
            Some(last) => last.push(line),
            None => groups.push(vec![line]),
        }
    }
    groups
}

/// Each group as it would be billed alone, with whose it is.
async fn rows(
    connection: &mut SqliteConnection,
    rules: &Rules,
    groups: Vec<Vec<Picked>>,
) -> Result<Vec<(CustomerId, UnbilledShipment)>> {
    let wanted = groups
        .into_iter()
        .map(|lines| ToDecide { customer: lines[0].picking.customer, lines, head: Head::default() })
        .collect();
    let inputs = inputs(connection, rules, Step::Post, wanted).await?;
    Ok(inputs.iter().filter_map(|input| Some((input.customer.id, row(input, rules)?))).collect())
}

fn row(input: &InvoiceInput<'_>, rules: &Rules) -> Option<UnbilledShipment> {
    let decision = decide(input);
    let document = decision.document.as_ref()?;
    let order = input.orders.first()?;
    let lines: Vec<UnbilledLine> = document
        .lines
        .iter()
        .filter_map(|line| {
            Some(UnbilledLine {
                shipment_line: line.source.shipment_line(),
                order_line: line.source.order_line()?,
                code: line.code.clone(),
                description: line.description.clone(),
                unit: line.unit.clone(),
                quantity: line.unbilled,
                unit_price: line.unit_price,
                net: line.net,
            })
        })
        .collect();
    let first = document.lines.first()?;
    let shipped_on = first.source.shipped_on().unwrap_or(rules.business_date);
    let more = i64::try_from(lines.len()).unwrap_or(1) - 1;
    Some(UnbilledShipment {
        shipment: first.source.shipment().map(|(id, _)| id),
        number: first.source.shipment().map_or_else(|| order.number.clone(), |(_, number)| number.to_owned()),
        order: order.id,
        order_number: order.number.clone(),
        customer_order_number: order.customer_order_number.clone(),
        track: order.track(),
        shipped_on,
        days: (rules.business_date - shipped_on).num_days(),
        what: and_more(&format!("{} × {}", first.unbilled, first.description), more),
        currency: document.currency,
        net: document.net,
        // Without a rate of the day it counts as nothing, as in the sums; its blockers say so.
        net_base: input.rate.map_or(Money::ZERO, |rate| document.net.to_base(rate, document.currency, rules.base)),
        lines,
        blockers: decision.blockers,
    })
}

fn add(unbilled: &mut Unbilled, (id, row): (CustomerId, UnbilledShipment), sums: &[CustomerSum], rules: &Rules) {
    if let Some(known) = unbilled.customers.iter_mut().find(|known| known.customer == id) {
        known.shipments.push(row);
        return;
    }
    let Some(sum) = sums.iter().find(|sum| sum.customer == id) else { return };
    unbilled.customers.push(UnbilledCustomer {
        customer: id,
        number: sum.number.clone(),
        name: sum.name.clone(),
        terms: sum.terms.clone(),
        habit: sum.habit,
        when_complete: sum.when_complete,
        days: (rules.business_date - sum.oldest).num_days(),
        count: sum.shipments,
        net_base: sum.net_base,
        shipments: vec![row],
    });
}

/// Net value of what one customer has unbilled, in base currency.
pub(crate) async fn value_of(connection: &mut SqliteConnection, rules: &Rules, customer: CustomerId) -> Result<Money> {
    let filter = UnbilledFilter { customer: Some(customer), limit: Some(1), ..UnbilledFilter::default() };
    Ok(list(connection, rules, &filter).await?.net_base)
}

/// A line as it would be billed alone with those beside it.
pub(crate) struct ToValue {
    pub(crate) quantity: i64,
    pub(crate) unit_price: i64,
    pub(crate) discount: i64,
    pub(crate) surcharge: i64,
    pub(crate) price_steps: String,
    pub(crate) tax_code: String,
    /// The rate of its tax code on the day, in millionths.
    pub(crate) rate: i64,
}

/// What lines of one shipment are worth without tax, as an invoice over them alone would have it: prices with tax are
/// taken apart by code, not line by line.
pub(crate) fn nets(lines: &[ToValue], currency: Currency, gross_priced: bool) -> Result<Vec<Money>> {
    let mut amounts = Vec::with_capacity(lines.len());
    for line in lines {
        let steps: Vec<PriceStep> =
            serde_json::from_str(&line.price_steps).map_err(|error| StoreError::Corrupt(error.to_string()))?;
        let amount = line_total_less(
            Quantity::from_scaled(line.quantity),
            UnitPrice::from_scaled(line.unit_price),
            &offs(Rate::from_scaled(line.discount), &steps),
            UnitPrice::from_scaled(line.surcharge),
            currency,
        )
        .net;
        let (code, rate) = (line.tax_code.clone(), Rate::from_scaled(line.rate));
        amounts.push((TaxRate { code, category: TaxCategory::S, rate }, amount));
    }
    Ok(match gross_priced {
        true => compute_gross(&amounts).1,
        false => amounts.into_iter().map(|(_, amount)| amount).collect(),
    })
}

/// Works out what the lines of shipments are worth that a change touched.
pub(crate) async fn value(connection: &mut SqliteConnection) -> Result<()> {
    let rows = sqlx::query!(
        r#"SELECT shipment_lines.id AS "id!", shipment_id AS "shipment!", unbilled_e4, unit_price_e6, discount_e6, surcharge_e6, price_steps, orders.currency,
                  orders.gross_priced, coalesce(shipment_lines.tax_code, order_lines.tax_code) AS "tax_code!: String",
                  coalesce((SELECT rate_e6 FROM tax_rates WHERE code = coalesce(shipment_lines.tax_code, order_lines.tax_code) AND valid_from <= shipments.posting_date
                            ORDER BY valid_from DESC LIMIT 1), 0) AS "rate!: i64"
           FROM (SELECT DISTINCT shipment_id AS moved FROM shipment_lines WHERE unbilled_minor IS NULL AND unbilled_e4 > 0)
           CROSS JOIN shipment_lines ON shipment_id = moved JOIN shipments ON shipments.id = shipment_id
           JOIN order_lines ON order_lines.id = order_line_id JOIN orders ON orders.id = order_lines.order_id
           WHERE unbilled_e4 > 0 ORDER BY shipment_id, shipment_lines.position"#
    )
    .fetch_all(&mut *connection)
    .await?;
    if rows.is_empty() {
        return Ok(());
    }
    let mut values = Vec::with_capacity(rows.len());
    for of_shipment in rows.chunk_by(|one, other| one.shipment == other.shipment) {
        let lines: Vec<ToValue> = of_shipment
            .iter()
            .map(|row| ToValue {
                quantity: row.unbilled_e4,
                unit_price: row.unit_price_e6,
                discount: row.discount_e6,
                surcharge: row.surcharge_e6,
                price_steps: row.price_steps.clone(),
                tax_code: row.tax_code.clone(),
                rate: row.rate,
            })
            .collect();
        let nets = nets(&lines, currency(&of_shipment[0].currency)?, of_shipment[0].gross_priced != 0)?;
        values.extend(of_shipment.iter().map(|row| row.id).zip(nets));
    }
    let values = json(&values)?;
    sqlx::query!(
        "UPDATE shipment_lines SET unbilled_minor = new.value ->> 1 FROM jsonb_each(?) AS new WHERE shipment_lines.id = new.value ->> 0",
        values
    )
    .execute(connection)
    .await?;
    Ok(())
}
