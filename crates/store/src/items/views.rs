//! Items as shown, with their stock, prices and what was done to them.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{DocumentKind, EntryId, ItemId, LayerId};
use till_core::invoice::ItemKind;
use till_core::money::Money;
use till_core::ordering::StockFacts;

use super::form::{ItemForm, SalesUnit};
use crate::convert::known;
use crate::{Result, StoreError, returns, stock};

/// An item in a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ItemRow {
    /// Its id.
    pub id: ItemId,
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: ItemKind,
    /// Its class.
    pub class: String,
    /// Its stock unit.
    pub unit: String,
    /// List price in base currency.
    pub list_price: UnitPrice,
    /// On hand in all warehouses.
    pub on_hand: Quantity,
    /// What of it is reserved.
    pub committed: Quantity,
    /// On hand and not reserved.
    pub available: Quantity,
    /// What customers still wait for.
    pub back_ordered: Quantity,
    /// What is on its way.
    pub expected: Quantity,
    /// Whether it is sold.
    pub active: bool,
}

/// A stretch of the item list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ItemList {
    /// The items by code.
    pub items: Vec<ItemRow>,
    /// How many fit the filter.
    pub count: i64,
}

/// Items by code; with `search`, those whose code or name holds every word of it.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(
    connection: &mut SqliteConnection,
    search: Option<&str>,
    only_sold: bool,
    limit: i64,
    offset: i64,
) -> Result<ItemList> {
    // Every word must be found: “frame 50” finds frames in packs of 50.
    let mut words = search.unwrap_or("").split_whitespace().map(crate::find::pattern);
    let (first, second) = (words.next(), words.next());
    let exact = search.unwrap_or("").trim().to_owned();
    let rows = sqlx::query!(
        r#"SELECT id, code, name, kind, class, unit, list_price_e6, active,
                  coalesce((SELECT sum(remaining_e4) FROM stock_layers WHERE item_id = items.id AND remaining_e4 > 0), 0) AS "on_hand!: i64",
                  coalesce((SELECT sum(reserved_in_stock_e4) FROM order_line_state
                            WHERE item_id = items.id AND shipped_e4 < ordered_e4 - cancelled_e4), 0) AS "committed!: i64",
                  coalesce((SELECT sum(waiting_in_stock_e4) FROM order_line_state
                            WHERE item_id = items.id AND shipped_e4 < ordered_e4 - cancelled_e4), 0) AS "waiting!: i64",
                  coalesce((SELECT sum(quantity_e4 - arrived_e4) FROM expected_goods
                            WHERE item_id = items.id AND arrived_e4 < quantity_e4), 0) AS "expected!: i64"
           FROM items
           WHERE (?1 IS NULL OR code LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\')
             AND (?2 IS NULL OR code LIKE ?2 ESCAPE '\' OR name LIKE ?2 ESCAPE '\') AND (NOT ?3 OR active = 1)
           ORDER BY code = ?4 COLLATE NOCASE DESC, code LIMIT ?5 OFFSET ?6"#,
        first,
        second,
        only_sold,
        exact,
        limit,
        offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = sqlx::query_scalar!(
        r#"SELECT count(*) AS "count!: i64" FROM items
           WHERE (?1 IS NULL OR code LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\')
             AND (?2 IS NULL OR code LIKE ?2 ESCAPE '\' OR name LIKE ?2 ESCAPE '\') AND (NOT ?3 OR active = 1)"#,
        first,
        second,
        only_sold
    )
    .fetch_one(connection)
    .await?;
    let items = rows
        .into_iter()
        .map(|row| {
            let kind = known(&row.kind, ItemKind::of)?;
            Ok(ItemRow {
                id: ItemId(row.id),
                code: row.code,
                name: row.name,
                kind,
                class: row.class,
                unit: row.unit,
                list_price: UnitPrice::from_scaled(row.list_price_e6),
                on_hand: Quantity::from_scaled(row.on_hand),
                committed: Quantity::from_scaled(row.committed),
                available: Quantity::from_scaled((row.on_hand - row.committed).max(0)),
                back_ordered: Quantity::from_scaled(row.waiting),
                expected: Quantity::from_scaled(row.expected),
                active: row.active != 0,
            })
        })
        .collect::<Result<Vec<_>>>()?;
    Ok(ItemList { items, count })
}

/// A layer of cost.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LayerView {
    /// Its id.
    pub id: LayerId,
    /// Where it lies.
    pub warehouse: String,
    /// When it came in.
    pub posting_date: NaiveDate,
    /// How much came in.
    pub quantity: Quantity,
    /// What is left.
    pub remaining: Quantity,
    /// What one of it cost.
    pub unit_cost: UnitPrice,
    /// What is left costs.
    pub remaining_cost: Money,
    /// The entry it wrote.
    pub entry: Option<EntryId>,
    /// Whether it is a goods receipt of which nothing has left: it can be reversed.
    pub reversible: bool,
}

/// Something that came in, left or was put right.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MoveView {
    /// When.
    pub date: NaiveDate,
    /// What, in words.
    pub what: String,
    /// The shipment, where it is one.
    pub shipment: Option<i64>,
    /// In (positive) or out.
    pub quantity: Quantity,
    /// Its cost, signed alike.
    pub cost: Money,
}

/// An item on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ItemView {
    /// Its id.
    pub id: ItemId,
    /// As it is typed.
    pub form: ItemForm,
    /// What there is, by warehouse.
    pub stock: Vec<StockFacts>,
    /// What customers may still send back, in stock units: expected, not on hand.
    pub expected_back: Quantity,
    /// What came back and waits for inspection, in stock units: not for sale.
    pub to_inspect: Quantity,
    /// Layers with something left, oldest first: the order in which they leave.
    pub layers: Vec<LayerView>,
    /// The latest moves, newest first.
    pub moves: Vec<MoveView>,
    /// Changes with every edit.
    pub version: i64,
}

/// One item.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, id: ItemId) -> Result<ItemView> {
    let row = sqlx::query!(
        "SELECT items.*, (SELECT code FROM items AS packaging WHERE packaging.id = items.container_id) AS container
         FROM items WHERE id = ?",
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Item, id))?;
    let base = crate::rules::load(connection).await?.base;
    let units = sqlx::query!("SELECT unit, factor_e4 FROM item_units WHERE item_id = ? ORDER BY unit", id.0)
        .fetch_all(&mut *connection)
        .await?
        .into_iter()
        .map(|row| SalesUnit { unit: row.unit, factor: Quantity::from_scaled(row.factor_e4).to_string() })
        .collect();
    let empty_at_zero = |scaled: i64, text: String| if scaled == 0 { String::new() } else { text };
    let form = ItemForm {
        code: row.code,
        name: row.name,
        kind: known(&row.kind, ItemKind::of)?,
        class: row.class,
        unit: row.unit,
        units,
        list_price: UnitPrice::from_scaled(row.list_price_e6).with_decimals(2),
        tax_code: row.tax_code,
        minimum: empty_at_zero(row.minimum_e4, Quantity::from_scaled(row.minimum_e4).to_string()),
        step: empty_at_zero(row.step_e4, Quantity::from_scaled(row.step_e4).to_string()),
        over: empty_at_zero(row.over_e6, Rate::from_scaled(row.over_e6).percent()),
        surcharge: empty_at_zero(row.surcharge_e6, UnitPrice::from_scaled(row.surcharge_e6).with_decimals(2)),
        surcharge_name: row.surcharge_name.unwrap_or_default(),
        share_ahead: row.share_ahead_e6.map(|share| Rate::from_scaled(share).percent()).unwrap_or_default(),
        container: row.container.unwrap_or_default(),
        active: row.active != 0,
    };
    let stock = if form.kind == ItemKind::Goods {
        stock::facts(connection, &[id], None).await?.into_values().filter(|facts| facts.counted).collect()
    } else {
        Vec::new()
    };
    let layers = sqlx::query!(
        r#"SELECT id, warehouse, posting_date AS "posting_date: NaiveDate", quantity_e4, cost_minor, remaining_e4, remaining_cost_minor, entry_id,
                  adjustment_id IS NULL AND return_step_id IS NULL AND remaining_e4 = quantity_e4
                      AND coalesce((SELECT source_kind FROM entries WHERE entries.id = entry_id), 'intake') = 'intake' AS "reversible!: bool"
           FROM stock_layers WHERE item_id = ? AND remaining_e4 > 0 ORDER BY id"#,
        id.0
    )
    .fetch_all(&mut *connection)
    .await?
    .into_iter()
    .map(|row| LayerView {
        id: LayerId(row.id),
        warehouse: row.warehouse,
        posting_date: row.posting_date,
        quantity: Quantity::from_scaled(row.quantity_e4),
        remaining: Quantity::from_scaled(row.remaining_e4),
        unit_cost: stock::unit_cost(Quantity::from_scaled(row.quantity_e4), Money(row.cost_minor), base),
        remaining_cost: Money(row.remaining_cost_minor),
        entry: row.entry_id.map(EntryId),
        reversible: row.reversible,
    })
    .collect();
    let (expected_back, to_inspect) = returns::of_item(connection, id).await?;
    let moves = moves(connection, id).await?;
    Ok(ItemView { id, form, stock, expected_back, to_inspect, layers, moves, version: row.version })
}

async fn moves(connection: &mut SqliteConnection, id: ItemId) -> Result<Vec<MoveView>> {
    let rows = sqlx::query!(
        r#"SELECT date AS "date!: NaiveDate", what AS "what!: String", shipment AS "shipment: i64", quantity AS "quantity!: i64", cost AS "cost!: i64" FROM (
             SELECT posting_date AS date, CASE WHEN return_step_id IS NOT NULL THEN 'restocked from ' || (SELECT number FROM return_steps JOIN returns ON returns.id = return_id
                                                                                     WHERE return_steps.id = return_step_id)
                         WHEN adjustment_id IS NULL THEN 'came in' ELSE 'found at a count' END AS what,
                    NULL AS shipment, quantity_e4 AS quantity, cost_minor AS cost, id AS at
             FROM stock_layers WHERE item_id = ?1
             UNION ALL
             SELECT stock_moves.posting_date, CASE WHEN stock_moves.quantity_e4 > 0 THEN 'left on ' ELSE 'taken back from ' END || shipments.number,
                    shipments.id, -sum(stock_moves.quantity_e4), -sum(stock_moves.cost_minor), max(stock_moves.id)
             FROM stock_moves JOIN stock_layers ON stock_layers.id = layer_id
             JOIN shipment_lines ON shipment_lines.id = shipment_line_id JOIN shipments ON shipments.id = shipment_id
             WHERE item_id = ?1 GROUP BY shipment_line_id, stock_moves.quantity_e4 > 0
             UNION ALL
             SELECT stock_moves.posting_date, CASE WHEN stock_moves.quantity_e4 > 0 THEN 'left with ' ELSE 'given back by canceling ' END || documents.number,
                    NULL, -sum(stock_moves.quantity_e4), -sum(stock_moves.cost_minor), max(stock_moves.id)
             FROM stock_moves JOIN stock_layers ON stock_layers.id = layer_id
             JOIN document_lines ON document_lines.id = document_line_id JOIN documents ON documents.id = document_id
             WHERE stock_layers.item_id = ?1 GROUP BY document_line_id, stock_moves.quantity_e4 > 0
             UNION ALL
             SELECT stock_moves.posting_date, 'receipt of ' || stock_layers.posting_date || ' reversed', NULL, -stock_moves.quantity_e4,
                    -stock_moves.cost_minor, stock_moves.id
             FROM stock_moves JOIN stock_layers ON stock_layers.id = intake_id WHERE item_id = ?1
             UNION ALL
             SELECT stock_moves.posting_date, CASE WHEN stock_moves.quantity_e4 < 0 THEN 'replacement that never left, '
                                                   WHEN stock_layers.return_step_id = stock_moves.return_step_id THEN 'not restocked from '
                                                   ELSE 'replacement for ' END || returns.number,
                    NULL, -sum(stock_moves.quantity_e4), -sum(stock_moves.cost_minor), max(stock_moves.id)
             FROM stock_moves JOIN stock_layers ON stock_layers.id = layer_id
             JOIN return_steps ON return_steps.id = stock_moves.return_step_id JOIN returns ON returns.id = return_id
             WHERE stock_layers.item_id = ?1 GROUP BY stock_moves.return_step_id, stock_moves.quantity_e4 > 0, stock_moves.posting_date
             UNION ALL
             SELECT posting_date, 'missing at a count: ' || reason, NULL, quantity_e4, cost_minor, id
             FROM stock_adjustments WHERE item_id = ?1 AND quantity_e4 < 0
           ) ORDER BY date DESC, at DESC LIMIT 60"#,
        id.0
    )
    .fetch_all(connection)
    .await?;
    Ok(rows
        .into_iter()
        .map(|row| MoveView {
            date: row.date,
            what: row.what,
            shipment: row.shipment,
            quantity: Quantity::from_scaled(row.quantity),
            cost: Money(row.cost),
        })
        .collect())
}
