//! Stock: what there is, what is reserved for orders, what is on its way, and counts.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::{Quantity, UnitPrice};
use till_core::ids::{DocumentKind, ItemId, LayerId, OrderId, OrderLineId};
use till_core::money::{Currency, Money};
use till_core::ordering::{Elsewhere, StockFacts};
use till_core::stock::{Layer, LayerMove};

use crate::convert::json;
use crate::rules::Rules;
use crate::writing::{Writing, changed, set, yes_or_no};
use crate::{Result, StoreError, sensible_date};

mod aside;
mod counting;

use self::aside::note_aside;
pub use self::aside::{allocate, let_go};
pub(crate) use self::aside::{keep_promises, set_aside, trim_aside};
pub use self::counting::{NewCount, adjust};

/// A warehouse.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Warehouse {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// Whether its stock is kept in these books.
    pub counted: bool,
}

/// Every warehouse.
///
/// # Errors
/// Where the database cannot be read.
pub async fn warehouses(connection: &mut SqliteConnection) -> Result<Vec<Warehouse>> {
    Ok(sqlx::query!("SELECT code, name, counted FROM warehouses ORDER BY code")
        .fetch_all(connection)
        .await?
        .into_iter()
        .map(|row| Warehouse { code: row.code, name: row.name, counted: row.counted != 0 })
        .collect())
}

/// Adds a warehouse, or changes the name of one. Whether it is counted stays once it exists.
///
/// # Errors
/// A code or name that cannot be.
pub async fn set_warehouse(writing: &mut Writing<'_>, new: &Warehouse) -> Result<()> {
    let code = new.code.trim();
    let right = (1..=12).contains(&code.len()) && code.chars().all(|c| c.is_ascii_uppercase() || c.is_ascii_digit());
    if !right {
        return Err(StoreError::invalid("code", "A warehouse code has capital letters and digits, 12 at most."));
    }
    let name = new.name.trim();
    if name.is_empty() || name.chars().count() > 60 {
        return Err(StoreError::invalid("name", "Write a name of 60 characters at most."));
    }
    let before = sqlx::query!("SELECT name, counted FROM warehouses WHERE code = ?", code)
        .fetch_optional(&mut **writing)
        .await?;
    if before.as_ref().is_some_and(|before| (before.counted != 0) != new.counted) {
        return Err(StoreError::invalid(
            "counted",
            "Whether a warehouse is counted here cannot change. Add another one.",
        ));
    }
    sqlx::query!(
        "INSERT INTO warehouses (code, name, counted) VALUES (?, ?, ?) ON CONFLICT (code) DO UPDATE SET name = excluded.name",
        code,
        name,
        new.counted
    )
    .execute(&mut **writing)
    .await?;
    let mut fields = changed("name", before.as_ref().map(|before| before.name.as_str()), Some(name));
    if before.is_none() {
        fields.push(set("counted here", yes_or_no(new.counted)));
    }
    writing.note_setting("warehouses", format!("set warehouse {code}"), fields);
    Ok(())
}

/// Whether a warehouse is there, and counted.
pub(crate) async fn counted(connection: &mut SqliteConnection, code: &str, field: &str) -> Result<bool> {
    let row =
        sqlx::query_scalar!("SELECT counted FROM warehouses WHERE code = ?", code).fetch_optional(connection).await?;
    row.map(|counted| counted != 0).ok_or_else(|| StoreError::invalid(field, format!("There is no warehouse {code}.")))
}

/// What there is of items in every warehouse, in stock units. What stands for `without` itself is
/// not counted as reserved.
pub(crate) async fn facts(
    connection: &mut SqliteConnection,
    items: &[ItemId],
    without: Option<OrderId>,
) -> Result<BTreeMap<(ItemId, String), StockFacts>> {
    let wanted = json(&items)?;
    let mut found: BTreeMap<(ItemId, String), StockFacts> = BTreeMap::new();
    let houses = warehouses(connection).await?;
    for item in items {
        for house in &houses {
            found.insert(
                (*item, house.code.clone()),
                StockFacts { warehouse: house.code.clone(), counted: house.counted, ..StockFacts::default() },
            );
        }
    }
    let layers = sqlx::query!(
        r#"SELECT item_id AS "item_id!", warehouse AS "warehouse!", sum(remaining_e4) AS "on_hand!: i64" FROM stock_layers
           WHERE remaining_e4 > 0 AND item_id IN (SELECT value FROM json_each(?)) GROUP BY item_id, warehouse"#,
        wanted
    )
    .fetch_all(&mut *connection)
    .await?;
    for row in layers {
        if let Some(facts) = found.get_mut(&(ItemId(row.item_id), row.warehouse)) {
            facts.on_hand = Quantity::from_scaled(row.on_hand);
        }
    }
    let without = without.map_or(-1, |order| order.0);
    let committed = sqlx::query!(
        r#"SELECT item_id AS "item_id!", warehouse AS "warehouse!", sum(reserved_in_stock_e4) AS "committed!: i64" FROM order_line_state
           WHERE reserved_e4 > 0 AND order_id <> ? AND item_id IN (SELECT value FROM json_each(?))
             AND shipped_e4 < ordered_e4 - cancelled_e4
           GROUP BY item_id, warehouse"#,
        without,
        wanted
    )
    .fetch_all(&mut *connection)
    .await?;
    for row in committed {
        if let Some(facts) = found.get_mut(&(ItemId(row.item_id), row.warehouse)) {
            facts.committed = Quantity::from_scaled(row.committed);
        }
    }
    let expected = sqlx::query!(
        r#"SELECT item_id AS "item_id!", warehouse AS "warehouse!", sum(quantity_e4 - arrived_e4) AS "expected!: i64", min(expected_on) AS "next!: NaiveDate"
           FROM expected_goods WHERE arrived_e4 < quantity_e4 AND item_id IN (SELECT value FROM json_each(?))
           GROUP BY item_id, warehouse"#,
        wanted
    )
    .fetch_all(connection)
    .await?;
    for row in expected {
        if let Some(facts) = found.get_mut(&(ItemId(row.item_id), row.warehouse)) {
            facts.expected = Quantity::from_scaled(row.expected);
            facts.expected_on = Some(row.next);
        }
    }
    let free: Vec<(ItemId, Elsewhere)> = found
        .iter()
        .filter(|(_, facts)| facts.counted && facts.available().is_positive())
        .map(|((item, house), facts)| (*item, Elsewhere { warehouse: house.clone(), available: facts.available() }))
        .collect();
    for ((item, house), facts) in &mut found {
        facts.elsewhere = free
            .iter()
            .filter(|(of, other)| of == item && other.warehouse != *house)
            .map(|(_, other)| other.clone())
            .collect();
    }
    Ok(found)
}

/// Layers of items in a warehouse, those posted first before the others, with what moved them after a
/// day: what may leave on it follows.
pub(crate) async fn layers(
    connection: &mut SqliteConnection,
    items: &[ItemId],
    warehouse: &str,
    date: NaiveDate,
) -> Result<BTreeMap<ItemId, Vec<Layer>>> {
    let wanted = json(&items)?;
    let rows = sqlx::query!(
        "SELECT id, item_id, remaining_e4, remaining_cost_minor FROM stock_layers
         WHERE item_id IN (SELECT value FROM json_each(?)) AND warehouse = ? AND remaining_e4 > 0 ORDER BY item_id, id",
        wanted,
        warehouse
    )
    .fetch_all(&mut *connection)
    .await?;
    let moved = sqlx::query!(
        r#"SELECT stock_layers.id AS "layer!", stock_layers.posting_date AS "date!: NaiveDate", quantity_e4 AS "quantity!", cost_minor AS "cost!"
           FROM stock_layers
           WHERE item_id IN (SELECT value FROM json_each(?1)) AND warehouse = ?2 AND remaining_e4 > 0 AND posting_date > ?3
           UNION ALL
           SELECT layer_id, stock_moves.posting_date, -sum(stock_moves.quantity_e4), -sum(stock_moves.cost_minor)
           FROM stock_layers JOIN stock_moves ON layer_id = stock_layers.id AND stock_moves.posting_date > ?3
           WHERE item_id IN (SELECT value FROM json_each(?1)) AND warehouse = ?2 AND remaining_e4 > 0
           GROUP BY layer_id, stock_moves.posting_date"#,
        wanted,
        warehouse,
        date
    )
    .fetch_all(connection)
    .await?;
    let mut later: BTreeMap<i64, Vec<LayerMove>> = BTreeMap::new();
    for row in moved {
        let quantity = Quantity::from_scaled(row.quantity);
        later.entry(row.layer).or_default().push(LayerMove { date: row.date, quantity, cost: Money(row.cost) });
    }
    let mut stock: BTreeMap<ItemId, Vec<Layer>> = BTreeMap::new();
    for layer in rows {
        stock.entry(ItemId(layer.item_id)).or_default().push(Layer {
            id: LayerId(layer.id),
            remaining: Quantity::from_scaled(layer.remaining_e4),
            remaining_cost: Money(layer.remaining_cost_minor),
            later: later.remove(&layer.id).unwrap_or_default(),
        });
    }
    Ok(stock)
}

/// Goods that were ordered in and are on their way.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewExpected {
    /// The item's code.
    pub item: String,
    /// Where to; none for the company's own.
    #[serde(default)]
    pub warehouse: Option<String>,
    /// How much, in stock units, as typed.
    pub quantity: String,
    /// When.
    pub expected_on: NaiveDate,
    /// The order line it is for.
    #[serde(default)]
    pub order_line: Option<OrderLineId>,
}

/// Notes goods that are on their way.
///
/// # Errors
/// An unknown item or warehouse, a quantity that cannot be.
pub async fn expect(writing: &mut Writing<'_>, rules: &Rules, new: &NewExpected) -> Result<()> {
    let item = crate::items::by_code(writing, &new.item, "item").await?;
    let warehouse = new.warehouse.clone().unwrap_or_else(|| rules.warehouse.clone());
    counted(writing, &warehouse, "warehouse").await?;
    let quantity = read_quantity("quantity", &new.quantity)?;
    sensible_date("expected_on", new.expected_on)?;
    if new.expected_on < rules.business_date {
        return Err(StoreError::invalid("expected_on", "That day has passed. Say when the goods are to come."));
    }
    let (scaled, line) = (quantity.scaled(), new.order_line.map(|line| line.0));
    sqlx::query!(
        "INSERT INTO expected_goods (item_id, warehouse, order_line_id, quantity_e4, expected_on) VALUES (?, ?, ?, ?, ?)",
        item.0,
        warehouse,
        line,
        scaled,
        new.expected_on
    )
    .execute(&mut **writing)
    .await?;
    let fields =
        vec![set("quantity", quantity), set("on", till_core::calendar::words(new.expected_on)), set("to", &warehouse)];
    let words = format!("ordered {quantity} of {} in", new.item);
    writing.note_on((DocumentKind::Item, item.0, &new.item), "goods_expected", words, None, fields);
    Ok(())
}

pub(crate) fn read_quantity(field: &str, typed: &str) -> Result<Quantity> {
    let quantity: Quantity = typed.parse().map_err(|error| StoreError::decimal(field, &error))?;
    if !quantity.is_positive() || quantity > till_core::ordering::LARGEST_QUANTITY {
        return Err(StoreError::invalid(field, "Write a quantity above zero, and less than a hundred million."));
    }
    Ok(quantity)
}

/// Ties what came in to what was expected, and sets it aside for the lines it was ordered for.
pub(crate) async fn arrived(
    writing: &mut Writing<'_>,
    item: ItemId,
    warehouse: &str,
    quantity: Quantity,
) -> Result<()> {
    let waiting = sqlx::query!(
        "SELECT id, order_line_id, quantity_e4 - arrived_e4 AS \"open!: i64\" FROM expected_goods
         WHERE item_id = ? AND warehouse = ? AND arrived_e4 < quantity_e4 ORDER BY order_line_id IS NULL, expected_on, id",
        item.0,
        warehouse
    )
    .fetch_all(&mut **writing)
    .await?;
    let mut left = quantity.scaled();
    for one in waiting {
        if left == 0 {
            break;
        }
        let came = left.min(one.open);
        left -= came;
        sqlx::query!("UPDATE expected_goods SET arrived_e4 = arrived_e4 + ? WHERE id = ?", came, one.id)
            .execute(&mut **writing)
            .await?;
        if let Some(line) = one.order_line_id {
            let order = sqlx::query!(
                "SELECT order_id, number FROM order_lines JOIN orders ON orders.id = order_id WHERE order_lines.id = ?",
                line
            )
            .fetch_one(&mut **writing)
            .await?;
            let added = set_aside(writing, OrderId(order.order_id), Some(OrderLineId(line))).await?;
            if !added.is_empty() {
                note_aside(writing, OrderId(order.order_id), &order.number, "reserved what came in for", &added);
            }
        }
    }
    Ok(())
}

/// What one of a quantity costs, with the places of a price.
pub(crate) fn unit_cost(quantity: Quantity, cost: Money, base: Currency) -> UnitPrice {
    let major = i128::from(cost.0) * Quantity::scale() * UnitPrice::scale();
    let units = i128::from(quantity.scaled()) * 10_i128.pow(base.exponent());
    UnitPrice::from_scaled(till_core::money::round_ratio(major, units))
}
