//! Shipments: picked, packed, posted; taken back as a whole while nothing of them is billed.

mod picking;
mod posting;
mod taking_back;
mod together;
mod views;

use std::collections::BTreeMap;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, DocumentKind, ItemId, OrderId, OrderLineId, ShipmentId, ShipmentLineId};
use till_core::marks::Marks;
use till_core::money::Money;
use till_core::order::LineProgress;
use till_core::shipment::{LineToShip, ShipmentDecision, ShipmentInput, decide, order_ref};
use till_core::units::in_stock_units;

use crate::rules::Rules;
use crate::{Result, StoreError, exposure, prepayments, stock};

pub use picking::{NewShipment, PickForm, PickLine, ShipmentForm, drop, pack, pack_up, propose, save, start};
pub use posting::post;
pub use taking_back::{TakeBack, take_back};
pub use together::{
    PaidAtOnce, ShipAndBill, ShipAndBillMany, ShippedAndBilled, preview_ship_and_bill, preview_ship_and_bill_many,
    ship_and_bill, ship_and_bill_many,
};
pub(crate) use views::and_more;
pub use views::{ShipmentFilter, ShipmentLineView, ShipmentList, ShipmentRow, ShipmentView, TakenBack, list, view};

/// A shipment that is not posted, with what posting it would do.
struct Loaded {
    number: String,
    order: OrderId,
    version: i64,
    warehouse: String,
    decision: ShipmentDecision,
    freight: Option<Money>,
}

async fn decide_on(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: ShipmentId,
    date: NaiveDate,
) -> Result<Loaded> {
    let head = sqlx::query!(
        r#"SELECT shipments.number, shipments.state, shipments.version, shipments.order_id, shipments.warehouse, freight_minor,
                  shipments.customer_id, orders.number AS order_number, order_date AS "order_date: NaiveDate", orders.marks,
                  name, class, stop_reason, credit_limit_minor
           FROM shipments JOIN orders ON orders.id = order_id JOIN customers ON customers.id = shipments.customer_id
           WHERE shipments.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Shipment, id))?;
    match head.state.as_str() {
        "posted" => return Err(StoreError::WrongState(format!("{} is posted already.", head.number))),
        "taken_back" => return Err(StoreError::WrongState(format!("{} was reversed.", head.number))),
        "dropped" => return Err(StoreError::WrongState(format!("{} was canceled.", head.number))),
        _ => {}
    }
    let counted = stock::counted(connection, &head.warehouse, "warehouse").await?;
    let of_order: Marks = serde_json::from_str(&head.marks).map_err(|error| StoreError::Corrupt(error.to_string()))?;
    let (lines, reserved) = lines_to_ship(connection, id, counted, &of_order).await?;
    let items: Vec<ItemId> = lines.iter().map(|line| line.item).collect();
    let stock = stock::layers(connection, &items, &head.warehouse, date).await?;
    let committed = committed_to_others(connection, &head.warehouse, &reserved).await?;
    let customer = CustomerId(head.customer_id);
    let limit = head.credit_limit_minor.map(Money);
    let over_limit = match limit {
        Some(limit) => exposure::exposure(connection, rules, customer, None).await?.over(Some(limit)),
        None => None,
    };
    let unpaid_in_advance = if rules.hold_until_prepaid {
        prepayments::unpaid_of(connection, OrderId(head.order_id)).await?
    } else {
        Vec::new()
    };
    let input = ShipmentInput {
        unpaid_in_advance,
        number: head.number.clone(),
        customer: head.name,
        customer_class: head.class,
        stop_reason: head.stop_reason,
        over_limit,
        order: order_ref(head.order_id, &head.order_number),
        order_date: head.order_date,
        date,
        lines,
        stock,
        committed,
        cost_entry: rules.cost_entry,
        accounts: &rules.accounts,
        periods: &rules.periods,
        mark_rules: &rules.marks,
        base: rules.base,
    };
    Ok(Loaded {
        number: head.number,
        order: OrderId(head.order_id),
        version: head.version,
        warehouse: head.warehouse,
        decision: decide(&input),
        freight: head.freight_minor.map(Money),
    })
}

/// The lines of a shipment as they would leave, and what of their items is reserved for these very lines, in stock units.
async fn lines_to_ship(
    connection: &mut SqliteConnection,
    id: ShipmentId,
    counted: bool,
    of_order: &Marks,
) -> Result<(Vec<LineToShip>, Vec<(ItemId, Quantity)>)> {
    let rows = sqlx::query!(
        "SELECT shipment_lines.id, order_line_id, quantity_e4, item_id, code, kind, class, order_lines.unit, factor_e4, over_e4,
                allocated_e4, ordered_e4, cancelled_e4, shipped_e4, order_lines.billed_e4, net_minor, order_lines.marks,
                order_lines.drafted_e4
         FROM shipment_lines JOIN order_lines ON order_lines.id = order_line_id JOIN items ON items.id = item_id
         WHERE shipment_id = ? ORDER BY shipment_lines.position",
        id.0
    )
    .fetch_all(connection)
    .await?;
    let mut lines = Vec::with_capacity(rows.len());
    let mut reserved = Vec::with_capacity(rows.len());
    for row in rows {
        let own = in_stock_units(Quantity::from_scaled(row.allocated_e4), Quantity::from_scaled(row.factor_e4));
        reserved.push((ItemId(row.item_id), own.unwrap_or_default()));
        let own: Marks = serde_json::from_str(&row.marks).map_err(|error| StoreError::Corrupt(error.to_string()))?;
        lines.push(LineToShip {
            shipment_line: ShipmentLineId(row.id),
            order_line: OrderLineId(row.order_line_id),
            item: ItemId(row.item_id),
            code: row.code,
            class: row.class,
            stocked: row.kind == "goods" && counted,
            unit: row.unit,
            factor: Quantity::from_scaled(row.factor_e4),
            quantity: Quantity::from_scaled(row.quantity_e4),
            progress: LineProgress::from_scaled(
                [row.ordered_e4, row.cancelled_e4, row.shipped_e4, row.billed_e4],
                Money(row.net_minor),
            ),
            over: Quantity::from_scaled(row.over_e4),
            drafted: Quantity::from_scaled(row.drafted_e4),
            marks: own.over(of_order),
        });
    }
    Ok((lines, reserved))
}

/// What of items is reserved for others: what is reserved for these very lines does not stand in their way.
async fn committed_to_others(
    connection: &mut SqliteConnection,
    warehouse: &str,
    reserved: &[(ItemId, Quantity)],
) -> Result<BTreeMap<ItemId, Quantity>> {
    let items: Vec<ItemId> = reserved.iter().map(|(item, _)| *item).collect();
    let mut committed: BTreeMap<ItemId, Quantity> = stock::facts(connection, &items, None)
        .await?
        .into_iter()
        .filter(|((_, known), _)| known == warehouse)
        .map(|((item, _), facts)| (item, facts.committed))
        .collect();
    for (item, own) in reserved {
        if let Some(known) = committed.get_mut(item) {
            *known = Quantity::from_scaled((known.scaled() - own.scaled()).max(0));
        }
    }
    Ok(committed)
}
