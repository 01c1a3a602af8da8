//! Lines to bill, of shipments and of orders, with what decides which invoice each goes on: read for many picks
//! at a time.

use std::collections::HashMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::calendar::Terms;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, InvoiceId, ItemId, OrderId, OrderLineId, ShipmentId, ShipmentLineId};
use till_core::invoice::{BillingHabit, HeldCost, ItemKind, LineSource, LineToBill, Picking, PriceChange, TaxChange};
use till_core::marks::Marks;
use till_core::money::{Currency, Money};
use till_core::treatment::{Taxed, Treatment};

use super::added::AddedLine;
use crate::convert::{currency, json, known, terms};
use crate::{Result, StoreError};

/// A shipment line to bill.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Pick {
    /// The line.
    pub shipment_line: ShipmentLineId,
    /// How much of it; none for all that is unbilled.
    #[serde(default)]
    pub quantity: Option<Quantity>,
}

/// Work or a charge of an order, to bill without a shipment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderPick {
    /// The order line.
    pub order_line: OrderLineId,
    /// How much of it; none for all that is open.
    #[serde(default)]
    pub quantity: Option<Quantity>,
}

/// A line to bill, and what decides which invoice it goes on.
#[derive(Debug, Clone)]
pub(crate) struct Picked {
    pub(crate) picking: Picking,
    pub(crate) line: LineToBill,
    /// As typed, where it was.
    pub(crate) typed: Option<AddedLine>,
    /// Whether its customer is billed only when all of an order has gone.
    pub(crate) when_complete: bool,
}

/// What of a draft a line stands on already.
pub(crate) type Wanted<P> = (Option<InvoiceId>, P);

/// What all lines of an order have in common, read once however many there are.
struct OrderHead {
    customer: CustomerId,
    number: String,
    customer_order_number: Option<String>,
    currency: Currency,
    terms: Terms,
    gross_priced: bool,
    marks: Marks,
    delivered: Option<(String, Taxed)>,
    habit: BillingHabit,
    structured: bool,
    when_complete: bool,
}

/// Each id once, as a parameter for `json_each`.
pub(super) fn distinct(mut ids: Vec<i64>) -> Result<String> {
    ids.sort_unstable();
    ids.dedup();
    json(&ids)
}

async fn order_heads(connection: &mut SqliteConnection, ids: Vec<i64>) -> Result<HashMap<i64, OrderHead>> {
    let ids = distinct(ids)?;
    let rows = sqlx::query!(
        r#"SELECT orders.id AS "id!", orders.customer_id, orders.number, customer_order_number, orders.currency, orders.terms,
                  orders.gross_priced, orders.marks, ship_tos.name AS "ship_to?", ship_tos.treatment AS "treatment?",
                  ship_tos.certificate, ship_tos.certificate_until AS "certificate_until: NaiveDate",
                  billing, delivery, bill_when_complete
           FROM json_each(?) AS wanted JOIN orders ON orders.id = wanted.value
           JOIN customers ON customers.id = orders.customer_id LEFT JOIN ship_tos ON ship_tos.id = orders.ship_to_id"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    let mut heads = HashMap::with_capacity(rows.len());
    for row in rows {
        let delivered = delivered(row.ship_to, row.treatment, row.certificate, row.certificate_until)?;
        let head = OrderHead {
            customer: CustomerId(row.customer_id),
            number: row.number,
            customer_order_number: row.customer_order_number,
            currency: currency(&row.currency)?,
            terms: terms(&row.terms)?,
            gross_priced: row.gross_priced != 0,
            marks: if row.marks == "{}" { Marks::default() } else { read(&row.marks)? },
            habit: known(&row.billing, BillingHabit::of)?,
            structured: row.delivery == "structured",
            when_complete: row.bill_when_complete != 0,
            delivered,
        };
        heads.insert(row.id, head);
    }
    Ok(heads)
}

/// Where the goods of an order go, and how that is taxed; none where no ship-to is named.
pub(super) async fn delivered_of(connection: &mut SqliteConnection, order: OrderId) -> Result<Option<(String, Taxed)>> {
    Ok(order_heads(connection, vec![order.0]).await?.remove(&order.0).and_then(|head| head.delivered))
}

/// Where goods go, and how that is taxed; none where no ship-to is named.
fn delivered(
    ship_to: Option<String>,
    treatment: Option<String>,
    certificate: Option<String>,
    until: Option<NaiveDate>,
) -> Result<Option<(String, Taxed)>> {
    let Some((name, treatment)) = ship_to.zip(treatment) else { return Ok(None) };
    Ok(Some((name, Taxed { treatment: known(&treatment, Treatment::of)?, certificate, until })))
}

struct ItemHead {
    code: String,
    kind: ItemKind,
    class: String,
}

async fn item_heads(connection: &mut SqliteConnection, ids: Vec<i64>) -> Result<HashMap<i64, ItemHead>> {
    let ids = distinct(ids)?;
    let rows = sqlx::query!(
        r#"SELECT items.id AS "id!", code, kind, class FROM json_each(?) AS wanted JOIN items ON items.id = wanted.value"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    let mut heads = HashMap::with_capacity(rows.len());
    for row in rows {
        heads.insert(row.id, ItemHead { code: row.code, kind: known(&row.kind, ItemKind::of)?, class: row.class });
    }
    Ok(heads)
}

struct ShipmentHead {
    number: String,
    left_on: Option<NaiveDate>,
    order: i64,
    cost_purpose: String,
    /// Where it went and how that was taxed when it left.
    delivered: Option<(String, Taxed)>,
}

async fn shipment_heads(connection: &mut SqliteConnection, ids: Vec<i64>) -> Result<HashMap<i64, ShipmentHead>> {
    let ids = distinct(ids)?;
    let rows = sqlx::query!(
        r#"SELECT shipments.id AS "id!", number, posting_date AS "left_on: NaiveDate", order_id, cost_purpose, ship_tos.name AS "ship_to?",
                  shipments.treatment,
                  -- One that was entered since counts where none was kept as it left.
                  coalesce(shipments.certificate, ship_tos.certificate) AS "certificate: String",
                  CASE WHEN shipments.certificate IS NULL THEN ship_tos.certificate_until ELSE shipments.certificate_until END
                      AS "certificate_until: NaiveDate"
           FROM json_each(?) AS wanted JOIN shipments ON shipments.id = wanted.value LEFT JOIN ship_tos ON ship_tos.id = shipments.ship_to_id"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    let mut heads = HashMap::with_capacity(rows.len());
    for row in rows {
        let (number, left_on, order, cost_purpose) = (row.number, row.left_on, row.order_id, row.cost_purpose);
        let delivered = delivered(row.ship_to, row.treatment, row.certificate, row.certificate_until)?;
        heads.insert(row.id, ShipmentHead { number, left_on, order, cost_purpose, delivered });
    }
    Ok(heads)
}

/// What is a line's own, shipped or ordered.
struct Own {
    item: i64,
    description: String,
    unit: String,
    unbilled: i64,
    price: (i64, i64, i64, Option<String>, i64, Option<String>),
    steps: String,
    tax_code: String,
    /// Whether it was chosen on the order.
    tax_by_hand: bool,
    /// The day that picks its rate, where the draft keeps one.
    tax_date: Option<NaiveDate>,
    marks: String,
    /// Price, its reason and what was allowed, tax code and its reason, as changed on a draft.
    changed: Option<String>,
}

/// What a draft says otherwise of a line.
type Changed = (Option<i64>, Option<String>, Option<i64>, Option<String>, Option<String>);

fn missing(what: &str) -> StoreError {
    StoreError::Corrupt(format!("a line without its {what}"))
}

fn picked(
    own: Own,
    order: &OrderHead,
    delivered: &Option<(String, Taxed)>,
    item: &ItemHead,
    source: LineSource,
    held_cost: Option<HeldCost>,
) -> Result<Picked> {
    let unbilled = Quantity::from_scaled(own.unbilled);
    let (unit_price, list_price, discount, discount_reason, surcharge, surcharge_name) = own.price;
    let (changed_price, price_reason, price_allowed, changed_code, tax_reason): Changed = match &own.changed {
        Some(changed) => read(changed)?,
        None => Changed::default(),
    };
    Ok(Picked {
        picking: Picking {
            customer: order.customer,
            currency: order.currency,
            terms: order.terms.clone(),
            gross_priced: order.gross_priced,
            treatment: delivered.as_ref().map(|(_, taxed)| taxed.treatment),
            habit: order.habit,
            structured: order.structured.then(|| delivered.as_ref().map(|(name, _)| name.clone()).unwrap_or_default()),
            source: source.clone(),
        },
        line: LineToBill {
            source,
            item: Some(ItemId(own.item)),
            account: None,
            code: item.code.clone(),
            description: own.description,
            kind: item.kind,
            class: item.class.clone(),
            unit: own.unit,
            quantity: unbilled,
            unbilled,
            unit_price: UnitPrice::from_scaled(unit_price),
            list_price: UnitPrice::from_scaled(list_price),
            discount: Rate::from_scaled(discount),
            discount_reason,
            surcharge: UnitPrice::from_scaled(surcharge),
            surcharge_name,
            price_steps: read(&own.steps)?,
            tax_code: own.tax_code,
            tax_change: changed_code.zip(tax_reason).map(|(code, reason)| TaxChange { code, reason }),
            tax_by_hand: own.tax_by_hand,
            tax_date: own.tax_date,
            delivered: delivered.clone(),
            marks: match own.marks.as_str() {
                "{}" if order.marks == Marks::default() => Marks::default(),
                line => read::<Marks>(line)?.over(&order.marks),
            },
            held_cost,
            leaves: None,
            faults: Vec::new(),
            reason: None,
            billable: Vec::new(),
            price_change: changed_price.zip(price_reason).map(|(price, reason)| PriceChange {
                unit_price: UnitPrice::from_scaled(price),
                reason,
                allowed: price_allowed.map(Money),
            }),
        },
        typed: None,
        when_complete: order.when_complete,
    })
}

/// The picked lines of shipments, in the order picked. What a draft named beside a pick has
/// reserved of it counts as free.
///
/// Orders, shipments and items are read apart: of many thousand lines, most columns would be the same.
pub(crate) async fn load_shipped(connection: &mut SqliteConnection, wanted: &[Wanted<Pick>]) -> Result<Vec<Picked>> {
    let ids = json(&wanted.iter().map(|(draft, pick)| (pick.shipment_line, *draft)).collect::<Vec<_>>())?;
    let rows = sqlx::query!(
        r#"SELECT wanted.key + 0 AS "at!: i64", shipment_lines.id AS "id!: i64", shipment_id AS "shipment_id!",
                  shipment_lines.order_line_id AS "order_line_id!", order_lines.item_id AS "item_id!", order_lines.description AS "description!",
                  unbilled_e4 + coalesce(drafted.quantity_e4, 0) AS "unbilled!: i64",
                  CASE WHEN coalesce(drafted.price_reason, drafted.tax_reason) IS NOT NULL
                       THEN json_array(drafted.unit_price_e6, drafted.price_reason, drafted.price_allowed_minor, drafted.tax_code, drafted.tax_reason)
                  END AS "changed?: String",
                  order_lines.unit_price_e6 AS "unit_price_e6!", order_lines.list_price_e6 AS "list_price_e6!", order_lines.discount_e6 AS "discount_e6!",
                  order_lines.discount_reason, coalesce(shipment_lines.tax_code, order_lines.tax_code) AS "tax_code!: String",
                  order_lines.tax_reason IS NOT NULL AS "tax_by_hand!: bool", drafted.tax_date AS "tax_date: NaiveDate",
                  order_lines.surcharge_e6 AS "surcharge_e6!", order_lines.surcharge_name, order_lines.price_steps AS "price_steps!", order_lines.marks AS "marks!",
                  order_lines.unit AS "unit!", shipment_lines.quantity_e4 - returned_e4 AS "shipped!: i64", shipment_lines.billed_e4 AS "billed!",
                  shipment_lines.cost_minor - returned_cost_minor AS "cost_minor!: i64", cost_billed_minor AS "cost_billed_minor!"
           FROM jsonb_each(?) AS wanted
           JOIN shipment_lines ON shipment_lines.id = wanted.value ->> 0
           JOIN order_lines ON order_lines.id = shipment_lines.order_line_id
           LEFT JOIN invoice_lines AS drafted ON drafted.invoice_id = wanted.value ->> 1 AND drafted.shipment_line_id = shipment_lines.id
           ORDER BY wanted.key"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    let shipments = shipment_heads(connection, rows.iter().map(|row| row.shipment_id).collect()).await?;
    let orders = order_heads(connection, shipments.values().map(|shipment| shipment.order).collect()).await?;
    let items = item_heads(connection, rows.iter().map(|row| row.item_id).collect()).await?;
    let mut found = rows.into_iter().peekable();
    let mut all = Vec::with_capacity(wanted.len());
    for (at, (_, pick)) in wanted.iter().enumerate() {
        let Some(row) = found.next_if(|row| row.at == at as i64) else {
            return Err(StoreError::invalid(
                format!("picks.{at}.shipment_line"),
                format!("There is no shipment line {}.", pick.shipment_line),
            ));
        };
        let shipment = shipments.get(&row.shipment_id).ok_or_else(|| missing("shipment"))?;
        let order = orders.get(&shipment.order).ok_or_else(|| missing("order"))?;
        let item = items.get(&row.item_id).ok_or_else(|| missing("item"))?;
        let source = LineSource::Shipped {
            shipment_line: ShipmentLineId(row.id),
            shipment: ShipmentId(row.shipment_id),
            shipment_number: shipment.number.clone(),
            // A line of a packed shipment has nothing unbilled; billing it is refused by quantity.
            shipped_on: shipment.left_on.unwrap_or_default(),
            order: OrderId(shipment.order),
            order_number: order.number.clone(),
            customer_order_number: order.customer_order_number.clone(),
            order_line: OrderLineId(row.order_line_id),
        };
        let held = (shipment.cost_purpose == Purpose::ShippedCost.word()).then(|| HeldCost {
            shipped: Quantity::from_scaled(row.shipped),
            billed: Quantity::from_scaled(row.billed),
            cost: Money(row.cost_minor),
            followed: Money(row.cost_billed_minor),
        });
        let own = Own {
            item: row.item_id,
            description: row.description,
            unit: row.unit,
            unbilled: row.unbilled,
            price: (
                row.unit_price_e6,
                row.list_price_e6,
                row.discount_e6,
                row.discount_reason,
                row.surcharge_e6,
                row.surcharge_name,
            ),
            steps: row.price_steps,
            tax_code: row.tax_code,
            tax_by_hand: row.tax_by_hand,
            tax_date: row.tax_date,
            marks: row.marks,
            changed: row.changed,
        };
        let mut line = picked(own, order, &shipment.delivered, item, source, held)?;
        if let Some(quantity) = pick.quantity {
            line.line.quantity = quantity;
        }
        all.push(line);
    }
    Ok(all)
}

/// Picked work and charges of orders, in the order picked.
pub(crate) async fn load_ordered(
    connection: &mut SqliteConnection,
    wanted: &[Wanted<OrderPick>],
) -> Result<Vec<Picked>> {
    if wanted.is_empty() {
        return Ok(Vec::new());
    }
    let ids = json(&wanted.iter().map(|(draft, pick)| (pick.order_line, *draft)).collect::<Vec<_>>())?;
    let rows = sqlx::query!(
        r#"SELECT wanted.key + 0 AS "at!: i64", order_lines.id AS "id!: i64", orders.id AS "order_id!: i64", order_lines.item_id AS "item_id!",
                  order_lines.description AS "description!",
                  CASE WHEN work THEN billable_e4 + coalesce(drafted.quantity_e4, 0) ELSE 0 END AS "unbilled!: i64",
                  CASE WHEN coalesce(drafted.price_reason, drafted.tax_reason) IS NOT NULL
                       THEN json_array(drafted.unit_price_e6, drafted.price_reason, drafted.price_allowed_minor, drafted.tax_code, drafted.tax_reason)
                  END AS "changed?: String",
                  order_lines.unit_price_e6 AS "unit_price_e6!", order_lines.list_price_e6 AS "list_price_e6!", order_lines.discount_e6 AS "discount_e6!",
                  order_lines.discount_reason, order_lines.tax_code AS "tax_code!",
                  order_lines.tax_reason IS NOT NULL AS "tax_by_hand!: bool", drafted.tax_date AS "tax_date: NaiveDate",
                  order_lines.surcharge_e6 AS "surcharge_e6!", order_lines.surcharge_name, order_lines.price_steps AS "price_steps!", order_lines.marks AS "marks!",
                  order_lines.unit AS "unit!"
           FROM jsonb_each(?) AS wanted
           JOIN order_lines ON order_lines.id = wanted.value ->> 0
           JOIN order_line_state AS state ON state.id = order_lines.id
           JOIN orders ON orders.id = order_lines.order_id
           LEFT JOIN invoice_lines AS drafted ON drafted.invoice_id = wanted.value ->> 1 AND drafted.order_line_id = order_lines.id
                AND drafted.shipment_line_id IS NULL
           ORDER BY wanted.key"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    let orders = order_heads(connection, rows.iter().map(|row| row.order_id).collect()).await?;
    let items = item_heads(connection, rows.iter().map(|row| row.item_id).collect()).await?;
    let mut found = rows.into_iter().peekable();
    let mut all = Vec::with_capacity(wanted.len());
    for (at, (_, pick)) in wanted.iter().enumerate() {
        let Some(row) = found.next_if(|row| row.at == at as i64) else {
            return Err(StoreError::invalid(
                format!("order_picks.{at}.order_line"),
                format!("There is no order line {}.", pick.order_line),
            ));
        };
        let order = orders.get(&row.order_id).ok_or_else(|| missing("order"))?;
        let item = items.get(&row.item_id).ok_or_else(|| missing("item"))?;
        let source = LineSource::Ordered {
            order: OrderId(row.order_id),
            order_number: order.number.clone(),
            customer_order_number: order.customer_order_number.clone(),
            order_line: OrderLineId(row.id),
        };
        let own = Own {
            item: row.item_id,
            description: row.description,
            unit: row.unit,
            unbilled: row.unbilled.max(0),
            price: (
                row.unit_price_e6,
                row.list_price_e6,
                row.discount_e6,
                row.discount_reason,
                row.surcharge_e6,
                row.surcharge_name,
            ),
            steps: row.price_steps,
            tax_code: row.tax_code,
            tax_by_hand: row.tax_by_hand,
            tax_date: row.tax_date,
            marks: row.marks,
            changed: row.changed,
        };
        let mut line = picked(own, order, &order.delivered, item, source, None)?;
        if let Some(quantity) = pick.quantity {
            line.line.quantity = quantity;
        }
        all.push(line);
    }
    Ok(all)
}

/// JSON the program wrote itself.
pub(crate) fn read<T: serde::de::DeserializeOwned>(text: &str) -> Result<T> {
    serde_json::from_str(text).map_err(|error| StoreError::Corrupt(error.to_string()))
}
