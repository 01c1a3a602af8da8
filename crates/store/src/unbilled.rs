//! Unbilled: posted shipments with something left to bill.

use std::collections::HashMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::checks::{Blocker, Step};
use till_core::fixed::{Quantity, UnitPrice};
use till_core::ids::{CustomerId, OrderId, ShipmentId, ShipmentLineId};
use till_core::invoice::{InvoiceInput, decide};
use till_core::money::{Currency, Money, line_total};
use till_core::order::{OrderFacts, Track};

use crate::invoices::{Pick, Picked, load_lines};
use crate::rules::{Rules, exchange_rate};
use crate::shipments::and_more;
use crate::{Result, customers, orders};

/// A line with something left to bill.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnbilledLine {
    /// The shipment line.
    pub shipment_line: ShipmentLineId,
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

/// A shipment with something left to bill.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnbilledShipment {
    /// The shipment.
    pub shipment: ShipmentId,
    /// Its number.
    pub number: String,
    /// The order.
    pub order: OrderId,
    /// The order's number.
    pub order_number: String,
    /// The order's track.
    pub track: Track,
    /// When it left.
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
    /// Days since its oldest shipment.
    pub days: i64,
    /// Net left to bill, in base currency.
    pub net_base: Money,
    /// Its shipments, oldest first.
    pub shipments: Vec<UnbilledShipment>,
}

/// Everything unbilled that fits a filter.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Unbilled {
    /// By customer, the oldest first.
    pub customers: Vec<UnbilledCustomer>,
    /// How many shipments.
    pub shipments: i64,
    /// Net left to bill, in base currency.
    pub net_base: Money,
}

/// What to list.
#[derive(Debug, Clone, Default)]
pub struct UnbilledFilter {
    /// Only of this customer.
    pub customer: Option<CustomerId>,
    /// Words in customer, shipment, order or item.
    pub search: Option<String>,
    /// Only shipments at least so many days old.
    pub over_days: Option<i64>,
}

/// Lists what is unbilled.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, rules: &Rules, filter: &UnbilledFilter) -> Result<Unbilled> {
    let like = filter.search.as_deref().map(crate::find::pattern);
    let customer = filter.customer.map(|customer| customer.0);
    let latest = filter
        .over_days
        .and_then(|days| rules.business_date.checked_sub_days(chrono::Days::new(u64::try_from(days).unwrap_or(0))));
    let ids = sqlx::query_scalar!(
        r#"SELECT shipment_lines.id FROM shipment_lines
           JOIN shipments ON shipments.id = shipment_id
           WHERE unbilled_e4 > 0 AND (?1 IS NULL OR shipments.customer_id = ?1)
             AND (?3 IS NULL OR posting_date <= ?3)
             AND (?2 IS NULL OR shipment_id IN (
                SELECT shipment_id FROM shipment_lines JOIN shipments ON shipments.id = shipment_id
                JOIN orders ON orders.id = shipments.order_id JOIN customers ON customers.id = shipments.customer_id
                JOIN order_lines ON order_lines.id = order_line_id JOIN items ON items.id = item_id
                WHERE unbilled_e4 > 0 AND (customers.name LIKE ?2 ESCAPE '\' OR shipments.number LIKE ?2 ESCAPE '\' OR orders.number LIKE ?2 ESCAPE '\' OR orders.customer_order_number LIKE ?2 ESCAPE '\' OR outside_number LIKE ?2 ESCAPE '\'
                   OR description LIKE ?2 ESCAPE '\' OR code LIKE ?2 ESCAPE '\')))
           ORDER BY posting_date, shipment_id, shipment_lines.position"#,
        customer, like, latest
    )
    .fetch_all(&mut *connection)
    .await?;
    let picks: Vec<Pick> =
        ids.into_iter().map(|id| Pick { shipment_line: ShipmentLineId(id), quantity: None }).collect();
    let lines = load_lines(connection, &picks, None).await?;
    collect(connection, rules, lines).await
}

async fn collect(connection: &mut SqliteConnection, rules: &Rules, lines: Vec<Picked>) -> Result<Unbilled> {
    let mut order_ids: Vec<OrderId> = lines.iter().map(|line| line.line.order).collect();
    order_ids.sort_unstable();
    order_ids.dedup();
    let order_facts: HashMap<OrderId, OrderFacts> =
        orders::facts(connection, &order_ids).await?.into_iter().map(|facts| (facts.id, facts)).collect();
    let mut by_shipment: Vec<Vec<Picked>> = Vec::new();
    for line in lines {
        match by_shipment.last_mut().filter(|last| last[0].line.shipment == line.line.shipment) {
            Some(last) => last.push(line),
            None => by_shipment.push(vec![line]),
        }
    }
    let mut unbilled = Unbilled { customers: Vec::new(), shipments: 0, net_base: Money::ZERO };
    let mut known_customers = HashMap::new();
    for shipment in by_shipment {
        let id = shipment[0].group.customer;
        if let std::collections::hash_map::Entry::Vacant(vacant) = known_customers.entry(id) {
            vacant.insert(customers::facts(connection, id).await?.0);
        }
        let Some(order) = order_facts.get(&shipment[0].line.order) else { continue };
        let Some(facts) = known_customers.get(&id) else { continue };
        let rate = exchange_rate(connection, rules, order.currency, rules.business_date).await?;
        let today = DocumentDate::or_business_date(None, rules.business_date);
        let terms = shipment[0].group.terms.words();
        let input = InvoiceInput {
            step: Step::Post,
            customer: facts.clone(),
            lines: shipment.into_iter().map(|picked| picked.line).collect(),
            orders: vec![order.clone()],
            document_date: today,
            posting_date: today,
            rate,
            base: rules.base,
            last_document_date: None,
            tax_computed: rules.tax_computed,
            taxes: &rules.taxes,
            accounts: &rules.accounts,
            periods: &rules.periods,
            mark_rules: &rules.marks,
        };
        let row = row(&input, order, rules);
        unbilled.shipments += 1;
        unbilled.net_base += row.net_base;
        match unbilled.customers.iter_mut().find(|known| known.customer == id) {
            Some(known) => {
                known.net_base += row.net_base;
                known.days = known.days.max(row.days);
                known.shipments.push(row);
            }
            None => unbilled.customers.push(UnbilledCustomer {
                customer: id,
                number: facts.number.clone(),
                name: facts.name.clone(),
                terms,
                days: row.days,
                net_base: row.net_base,
                shipments: vec![row],
            }),
        }
    }
    Ok(unbilled)
}

fn row(input: &InvoiceInput<'_>, order: &OrderFacts, rules: &Rules) -> UnbilledShipment {
    let decision = decide(input);
    let first = &input.lines[0];
    let lines: Vec<UnbilledLine> = input
        .lines
        .iter()
        .map(|line| UnbilledLine {
            shipment_line: line.shipment_line,
            code: line.code.clone(),
            description: line.description.clone(),
            unit: line.unit.clone(),
            quantity: line.unbilled,
            unit_price: line.unit_price,
            net: line_total(line.unbilled, line.unit_price, line.discount, line.surcharge, order.currency).net,
        })
        .collect();
    let net: Money = lines.iter().map(|line| line.net).sum();
    let more = i64::try_from(lines.len()).unwrap_or(1) - 1;
    UnbilledShipment {
        shipment: first.shipment,
        number: first.shipment_number.clone(),
        order: order.id,
        order_number: order.number.clone(),
        track: order.track(),
        shipped_on: first.shipped_on,
        days: (rules.business_date - first.shipped_on).num_days(),
        what: and_more(&format!("{} × {}", first.unbilled, first.description), more),
        currency: order.currency,
        net,
        net_base: net.to_base(input.rate.unwrap_or(till_core::fixed::ExchangeRate::ONE), order.currency, rules.base),
        lines,
        blockers: decision.blockers,
    }
}

/// Net value of what one customer has unbilled, in base currency.
pub(crate) async fn value_of(connection: &mut SqliteConnection, rules: &Rules, customer: CustomerId) -> Result<Money> {
    let filter = UnbilledFilter { customer: Some(customer), ..UnbilledFilter::default() };
    Ok(list(connection, rules, &filter).await?.net_base)
}
