//! Stock: what there is, what is set aside for orders, what is on its way, and counts.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::{Quantity, UnitPrice};
use till_core::ids::{DocumentKind, DocumentRef, ItemId, LayerId, OrderId, OrderLineId};
use till_core::money::{Currency, Money};
use till_core::ordering::{Elsewhere, StockFacts};
use till_core::people::check_reason;
use till_core::shipment::{AdjustInput, decide_adjustment};
use till_core::stock::{Layer, SetAside, give_up};
use till_core::units::{can_go, in_stock_units};

use crate::convert::json;
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, ledger, sensible_date};

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
    let before = sqlx::query_scalar!("SELECT counted FROM warehouses WHERE code = ?", code)
        .fetch_optional(&mut **writing)
        .await?;
    if before.is_some_and(|before| (before != 0) != new.counted) {
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
    let fields = vec![set("name", name), set("counted here", new.counted)];
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
/// not counted as set aside.
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
        r#"SELECT item_id AS "item_id!", warehouse AS "warehouse!", sum(allocated_e4 * factor_e4 / 10000) AS "committed!: i64" FROM order_lines
           WHERE allocated_e4 > 0 AND order_id <> ? AND item_id IN (SELECT value FROM json_each(?))
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

/// Layers of items in a warehouse, oldest first.
pub(crate) async fn layers(
    connection: &mut SqliteConnection,
    items: &[ItemId],
    warehouse: &str,
) -> Result<BTreeMap<ItemId, Vec<Layer>>> {
    let wanted = json(&items)?;
    let rows = sqlx::query!(
        "SELECT id, item_id, remaining_e4, remaining_cost_minor FROM stock_layers
         WHERE item_id IN (SELECT value FROM json_each(?)) AND warehouse = ? AND remaining_e4 > 0 ORDER BY item_id, id",
        wanted,
        warehouse
    )
    .fetch_all(connection)
    .await?;
    let mut stock: BTreeMap<ItemId, Vec<Layer>> = BTreeMap::new();
    for layer in rows {
        stock.entry(ItemId(layer.item_id)).or_default().push(Layer {
            id: LayerId(layer.id),
            remaining: Quantity::from_scaled(layer.remaining_e4),
            remaining_cost: Money(layer.remaining_cost_minor),
        });
    }
    Ok(stock)
}

/// What of an order was set aside, by line, in the unit sold.
pub(crate) type Aside = Vec<(String, Quantity)>;

/// Sets stock aside for what an order still has to ship: as much as is free, line by line.
/// Returns what was added.
pub(crate) async fn set_aside(writing: &mut Writing<'_>, order: OrderId, only: Option<OrderLineId>) -> Result<Aside> {
    let only = only.map(|line| line.0);
    let lines = sqlx::query!(
        r#"SELECT order_lines.id, item_id, items.code, order_lines.warehouse, factor_e4, step_e4, allocated_e4,
                  max(0, ordered_e4 - cancelled_e4 - shipped_e4) AS "open!: i64"
           FROM order_lines JOIN orders ON orders.id = order_id JOIN items ON items.id = item_id
           JOIN warehouses ON warehouses.code = order_lines.warehouse
           WHERE order_id = ?1 AND (?2 IS NULL OR order_lines.id = ?2) AND confirmed = 1 AND items.kind = 'goods' AND counted = 1
           ORDER BY position"#,
        order.0,
        only
    )
    .fetch_all(&mut **writing)
    .await?;
    let mut added = Vec::new();
    for line in lines {
        let wanted = line.open - line.allocated_e4;
        if wanted <= 0 {
            continue;
        }
        let item = ItemId(line.item_id);
        let facts = facts(writing, &[item], None).await?;
        let Some(there) = facts.get(&(item, line.warehouse)) else { continue };
        let [wanted, factor, step] = [wanted, line.factor_e4, line.step_e4].map(Quantity::from_scaled);
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

/// Takes back what is set aside for lines that have nothing left to ship, or less than that.
pub(crate) async fn trim_aside(connection: &mut SqliteConnection, order: OrderId) -> Result<()> {
    sqlx::query!(
        "UPDATE order_lines SET allocated_e4 = max(0, ordered_e4 - cancelled_e4 - shipped_e4)
         WHERE order_id = ? AND allocated_e4 > max(0, ordered_e4 - cancelled_e4 - shipped_e4)",
        order.0
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
        return Err(StoreError::WrongState(format!("{} is a draft. Confirm it; stock is set aside then.", row.number)));
    }
    let added = set_aside(writing, order, None).await?;
    if added.is_empty() {
        return Err(StoreError::WrongState(format!(
            "Nothing is free for {}. What it wants is set aside already, or out of stock.",
            row.number
        )));
    }
    note_aside(writing, order, &row.number, "set aside for", &added);
    Ok(added)
}

fn note_aside(writing: &mut Writing<'_>, order: OrderId, number: &str, what: &str, lines: &Aside) {
    let fields = lines.iter().map(|(code, quantity)| set(code, quantity)).collect();
    writing.note_on((DocumentKind::Order, order.0, number), "set_aside", format!("{what} {number}"), None, fields);
}

/// Lets go of what is set aside for a line, for others to have.
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
        return Err(StoreError::WrongState(format!("Nothing of {} is set aside here.", row.code)));
    }
    sqlx::query!("UPDATE order_lines SET allocated_e4 = 0 WHERE id = ?", line.0).execute(&mut **writing).await?;
    let given = vec![(row.code, Quantity::from_scaled(row.allocated_e4))];
    note_aside(writing, OrderId(row.order_id), &row.number, "let go of stock for", &given);
    Ok(())
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
    let fields = vec![set("quantity", quantity), set("on", new.expected_on), set("to", &warehouse)];
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
                note_aside(writing, OrderId(order.order_id), &order.number, "set aside what came in for", &added);
            }
        }
    }
    Ok(())
}

/// A count of an item in a warehouse.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewCount {
    /// Where; none for the company's own.
    #[serde(default)]
    pub warehouse: Option<String>,
    /// What was counted, in stock units, as typed.
    pub counted: String,
    /// What one of what was found costs, as typed; none for the cost of the newest layer.
    #[serde(default)]
    pub unit_cost: Option<String>,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Why it differs.
    pub reason: String,
}

/// Puts stock right after a count. Where less is there than was promised, the latest orders give
/// up what was set aside for them. Returns how much was found more, or less.
///
/// # Errors
/// What the core refuses.
pub async fn adjust(writing: &mut Writing<'_>, rules: &Rules, item: ItemId, new: &NewCount) -> Result<Quantity> {
    let row = sqlx::query!("SELECT code, class, kind FROM items WHERE id = ?", item.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Item, item))?;
    let warehouse = new.warehouse.clone().unwrap_or_else(|| rules.warehouse.clone());
    if row.kind != "goods" || !counted(writing, &warehouse, "warehouse").await? {
        return Err(StoreError::invalid("warehouse", format!("The stock of {} is not kept in {warehouse}.", row.code)));
    }
    let reason = check_reason(&new.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let date = new.date.map_or(Ok(rules.business_date), |date| sensible_date("date", date))?;
    let found: Quantity = new.counted.parse().map_err(|error| StoreError::decimal("counted", &error))?;
    if found < Quantity::ZERO || found > till_core::ordering::LARGEST_QUANTITY {
        return Err(StoreError::invalid("counted", "Write what was counted: zero or more."));
    }
    let layers = layers(writing, &[item], &warehouse).await?.remove(&item).unwrap_or_default();
    let on_hand: i64 = layers.iter().map(|layer| layer.remaining.scaled()).sum();
    let unit_cost = match &new.unit_cost {
        Some(typed) => typed.parse().map_err(|error| StoreError::decimal("unit_cost", &error))?,
        None => newest_cost(writing, item, rules.base).await?,
    };
    let difference = Quantity::from_scaled(found.scaled() - on_hand);
    let input = AdjustInput {
        class: row.class,
        code: row.code.clone(),
        difference,
        unit_cost,
        layers,
        date,
        accounts: &rules.accounts,
        periods: &rules.periods,
        base: rules.base,
    };
    let decision = decide_adjustment(&input).map_err(StoreError::Refused)?;
    let scaled = difference.scaled();
    let id = sqlx::query_scalar!(
        "INSERT INTO stock_adjustments (item_id, warehouse, posting_date, quantity_e4, cost_minor, reason)
         VALUES (?, ?, ?, ?, ?, ?) RETURNING id AS \"id!\"",
        item.0,
        warehouse,
        date,
        scaled,
        decision.cost.0,
        reason
    )
    .fetch_one(&mut **writing)
    .await?;
    if let Some(entry) = &decision.entry {
        let source = DocumentRef { kind: DocumentKind::Adjustment, id, number: row.code.clone() };
        let entry = ledger::write(writing, entry, &source).await?.0;
        sqlx::query!("UPDATE stock_adjustments SET entry_id = ? WHERE id = ?", entry, id)
            .execute(&mut **writing)
            .await?;
    }
    if difference.is_positive() {
        sqlx::query!(
            "INSERT INTO stock_layers (item_id, warehouse, posting_date, quantity_e4, cost_minor, remaining_e4, remaining_cost_minor, adjustment_id)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            item.0,
            warehouse,
            date,
            scaled,
            decision.cost.0,
            scaled,
            decision.cost.0,
            id
        )
        .execute(&mut **writing)
        .await?;
    }
    for issue in &decision.issues {
        take_from_layer(writing, issue.layer, issue.quantity, issue.cost, date, (None, Some(id))).await?;
    }
    let given = keep_promises(writing, item, &warehouse).await?;
    let mut fields = vec![
        set("counted", found),
        set("difference", difference),
        set("cost", rules.base.format(decision.cost)),
        set("reason", &reason),
    ];
    fields.extend(given.into_iter().map(|number| set("taken from", number)));
    let words = format!("counted {found} of {} in {warehouse}", row.code);
    writing.note_on((DocumentKind::Item, item.0, &row.code), "stock_adjusted", words, None, fields);
    Ok(difference)
}

/// What one of the newest layer cost.
async fn newest_cost(connection: &mut SqliteConnection, item: ItemId, base: Currency) -> Result<UnitPrice> {
    let newest = sqlx::query!(
        "SELECT quantity_e4, cost_minor FROM stock_layers WHERE item_id = ? ORDER BY id DESC LIMIT 1",
        item.0
    )
    .fetch_optional(connection)
    .await?;
    Ok(newest.map_or(UnitPrice::ZERO, |layer| {
        unit_cost(Quantity::from_scaled(layer.quantity_e4), Money(layer.cost_minor), base)
    }))
}

/// What one of a quantity costs, with the places of a price.
pub(crate) fn unit_cost(quantity: Quantity, cost: Money, base: Currency) -> UnitPrice {
    let major = i128::from(cost.0) * Quantity::scale() * UnitPrice::scale();
    let units = i128::from(quantity.scaled()) * 10_i128.pow(base.exponent());
    UnitPrice::from_scaled(till_core::money::round_ratio(major, units))
}

/// Takes a quantity from a layer, or puts it back where it is negative.
pub(crate) async fn take_from_layer(
    connection: &mut SqliteConnection,
    layer: LayerId,
    quantity: Quantity,
    cost: Money,
    date: NaiveDate,
    (shipment_line, adjustment): (Option<i64>, Option<i64>),
) -> Result<()> {
    let taken = quantity.scaled();
    sqlx::query!(
        "UPDATE stock_layers SET remaining_e4 = remaining_e4 - ?, remaining_cost_minor = remaining_cost_minor - ? WHERE id = ?",
        taken,
        cost.0,
        layer.0
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!(
        "INSERT INTO stock_moves (layer_id, posting_date, shipment_line_id, adjustment_id, quantity_e4, cost_minor) VALUES (?, ?, ?, ?, ?, ?)",
        layer.0,
        date,
        shipment_line,
        adjustment,
        taken,
        cost.0
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Where more is promised than is there, the latest orders give up. Returns their numbers.
async fn keep_promises(connection: &mut SqliteConnection, item: ItemId, warehouse: &str) -> Result<Vec<String>> {
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
