//! What is reserved for order lines: given, trimmed, let go, and given up where there is less.

use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, ItemId, OrderId, OrderLineId};
use till_core::stock::{SetAside, give_up};
use till_core::units::{can_go, in_stock_units};

use super::facts;
use crate::convert::json;
use crate::writing::{Writing, set};
use crate::{Result, StoreError};

/// What of an order was reserved, by line, in the unit sold.
pub(crate) type Aside = Vec<(String, Quantity)>;

/// Sets stock aside for what an order still has to ship: as much as is free, line by line.
/// Returns what was added.
pub(crate) async fn set_aside(writing: &mut Writing<'_>, order: OrderId, only: Option<OrderLineId>) -> Result<Aside> {
    let only = only.map(|line| line.0);
    let lines = sqlx::query!(
        r#"SELECT id, item_id, code AS "code!", warehouse, factor_e4, step_e4 AS "step_e4!", waiting_e4 AS "waiting!: i64" FROM order_line_state
           WHERE order_id = ?1 AND (?2 IS NULL OR id = ?2) AND waiting_e4 > 0 ORDER BY position"#,
        order.0,
        only
    )
    .fetch_all(&mut **writing)
    .await?;
    let mut added = Vec::new();
    for line in lines {
        let item = ItemId(line.item_id);
        let facts = facts(writing, &[item], None).await?;
        let Some(there) = facts.get(&(item, line.warehouse)) else { continue };
        let [wanted, factor, step] = [line.waiting, line.factor_e4, line.step_e4].map(Quantity::from_scaled);
        let more = can_go(wanted, there.available(), factor, step).scaled();
        if more > 0 {
            sqlx::query!("UPDATE order_lines SET allocated_e4 = allocated_e4 + ? WHERE id = ?", more, line.id)
                .execute(&mut **writing)
                .await?;
            added.push((line.code, Quantity::from_scaled(more)));
        }
    }
    Ok(added)
}

/// Before so much less of lines is to ship: no more stays reserved for a line than it then has to ship.
pub(crate) async fn trim_aside(connection: &mut SqliteConnection, less: &[(OrderLineId, Quantity)]) -> Result<()> {
    let less = json(&less.iter().map(|(line, quantity)| (line, quantity.scaled())).collect::<Vec<_>>())?;
    sqlx::query!(
        "UPDATE order_lines SET allocated_e4 = max(0, state.to_ship_e4 - (wanted.value ->> 1))
         FROM jsonb_each(?) AS wanted JOIN order_line_state AS state ON state.id = wanted.value ->> 0
         WHERE order_lines.id = state.id AND order_lines.allocated_e4 > max(0, state.to_ship_e4 - (wanted.value ->> 1))",
        less
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Sets stock aside for an order, as far as there is any.
///
/// # Errors
/// [`StoreError::WrongState`] where nothing is free.
pub async fn allocate(writing: &mut Writing<'_>, order: OrderId) -> Result<Aside> {
    let row = sqlx::query!("SELECT number, version, confirmed FROM orders WHERE id = ?", order.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Order, order))?;
    if row.confirmed == 0 {
        return Err(StoreError::WrongState(format!("{} is a draft. Confirm it; stock is reserved then.", row.number)));
    }
    let added = set_aside(writing, order, None).await?;
    if added.is_empty() {
        return Err(StoreError::WrongState(format!(
            "Nothing is free for {}. What it wants is reserved already, or out of stock.",
            row.number
        )));
    }
    note_aside(writing, order, &row.number, "reserved for", &added);
    Ok(added)
}

pub(super) fn note_aside(writing: &mut Writing<'_>, order: OrderId, number: &str, what: &str, lines: &Aside) {
    let fields = lines.iter().map(|(code, quantity)| set(code, quantity)).collect();
    writing.note_on((DocumentKind::Order, order.0, number), "set_aside", format!("{what} {number}"), None, fields);
}

/// Lets go of what is reserved for a line, for others to have.
///
/// # Errors
/// [`StoreError::WrongState`] where nothing is.
pub async fn let_go(writing: &mut Writing<'_>, line: OrderLineId) -> Result<()> {
    let row = sqlx::query!(
        "SELECT order_id, number, code, allocated_e4 FROM order_lines JOIN orders ON orders.id = order_id
         JOIN items ON items.id = item_id WHERE order_lines.id = ?",
        line.0
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Order, line))?;
    if row.allocated_e4 == 0 {
        return Err(StoreError::WrongState(format!("Nothing of {} is reserved here.", row.code)));
    }
    sqlx::query!("UPDATE order_lines SET allocated_e4 = 0 WHERE id = ?", line.0).execute(&mut **writing).await?;
    let given = vec![(row.code, Quantity::from_scaled(row.allocated_e4))];
    note_aside(writing, OrderId(row.order_id), &row.number, "let go of stock for", &given);
    Ok(())
}

/// Where more is promised than is there, the latest orders give up. Returns their numbers.
pub(crate) async fn keep_promises(
    connection: &mut SqliteConnection,
    item: ItemId,
    warehouse: &str,
) -> Result<Vec<String>> {
    let rows = sqlx::query!(
        "SELECT order_lines.id, number, allocated_e4, factor_e4, step_e4 FROM order_lines
         JOIN orders ON orders.id = order_id JOIN items ON items.id = item_id
         WHERE item_id = ? AND order_lines.warehouse = ? AND allocated_e4 > 0 ORDER BY order_lines.id",
        item.0,
        warehouse
    )
    .fetch_all(&mut *connection)
    .await?;
    let asides: Vec<SetAside> = rows
        .iter()
        .map(|row| {
            let (allocated, factor) = (Quantity::from_scaled(row.allocated_e4), Quantity::from_scaled(row.factor_e4));
            let quantity = in_stock_units(allocated, factor).unwrap_or(allocated);
            SetAside { line: OrderLineId(row.id), quantity }
        })
        .collect();
    let there = facts(connection, &[item], None).await?;
    let on_hand = there.get(&(item, warehouse.to_owned())).map(|facts| facts.on_hand).unwrap_or_default();
    let mut given = Vec::new();
    for left in give_up(&asides, on_hand) {
        let Some(row) = rows.iter().find(|row| row.id == left.line.0) else { continue };
        let [allocated, factor, step] = [row.allocated_e4, row.factor_e4, row.step_e4].map(Quantity::from_scaled);
        let kept = can_go(allocated, left.quantity, factor, step).scaled();
        sqlx::query!("UPDATE order_lines SET allocated_e4 = ? WHERE id = ?", kept, left.line.0)
            .execute(&mut *connection)
            .await?;
        given.push(row.number.clone());
    }
    Ok(given)
}
