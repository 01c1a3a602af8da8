//! What is still to ship, line by line: by order, or by item.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, ItemId, OrderId, OrderLineId};
use till_core::money::{Currency, Money};

use crate::Result;
use crate::convert::currency;

/// A line with something left to ship.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OpenLine {
    /// The line.
    pub id: OrderLineId,
    /// Its order.
    pub order: OrderId,
    /// The order's number.
    pub order_number: String,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The item.
    pub item: ItemId,
    /// Its code.
    pub code: String,
    /// Its words.
    pub description: String,
    /// Its unit.
    pub unit: String,
    /// Ordered, less what was cancelled.
    pub ordered: Quantity,
    /// Shipped.
    pub shipped: Quantity,
    /// Billed.
    pub billed: Quantity,
    /// Left to ship.
    pub to_ship: Quantity,
    /// What is reserved for it.
    pub allocated: Quantity,
    /// To ship, with no stock reserved for it.
    pub waiting: Quantity,
    /// What follows later: all that is left once a part has shipped, before that what waits for stock.
    pub back_ordered: Quantity,
    /// When the order was promised for.
    pub promised_date: Option<NaiveDate>,
    /// When goods ordered in for it are to come.
    pub expected_on: Option<NaiveDate>,
    /// Whether the promise has passed.
    pub late: bool,
    /// Net of what is left to ship, in the order's currency.
    pub value: Money,
    /// The order's currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
}

/// A stretch of open lines.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OpenLines {
    /// The lines.
    pub lines: Vec<OpenLine>,
    /// How many fit the filter.
    pub count: i64,
}

/// Which open lines to list.
#[derive(Debug, Clone, Default)]
pub struct OpenLineFilter {
    /// Words in order, customer or item.
    pub search: Option<String>,
    /// Only what is back-ordered.
    pub back_ordered: bool,
    /// By item instead of by order.
    pub by_item: bool,
    /// How many at most.
    pub limit: i64,
    /// How many to pass over.
    pub offset: i64,
}

/// Lines of confirmed orders with something left to ship: the earliest promise first; by item,
/// those of one item together.
///
/// # Errors
/// Where the database cannot be read.
pub async fn open_lines(
    connection: &mut SqliteConnection,
    filter: &OpenLineFilter,
    today: NaiveDate,
) -> Result<OpenLines> {
    let like = filter.search.as_deref().map(crate::find::pattern);
    let rows = sqlx::query!(
        r#"SELECT order_lines.id AS "id!", order_lines.order_id AS "order_id!", orders.number AS "number!", customer_id AS "customer_id!", customers.name AS "name!",
                  order_lines.item_id AS "item_id!", items.code AS "code!", description AS "description!", order_lines.unit AS "unit!",
                  state.wanted_e4 AS "ordered!: i64", state.shipped_e4 AS "shipped!: i64", state.billed_e4 AS "billed!: i64", state.reserved_e4 AS "allocated!: i64",
                  to_ship_e4 AS "to_ship!: i64", waiting_e4 AS "waiting!: i64", back_ordered_e4 AS "back_ordered!: i64",
                  order_lines.net_minor AS "net!: i64", order_lines.ordered_e4 AS "all_ordered!: i64", promised_date AS "promised_date: NaiveDate", orders.currency AS "currency!",
                  (SELECT min(expected_on) FROM expected_goods WHERE order_line_id = order_lines.id AND arrived_e4 < quantity_e4) AS "expected_on: NaiveDate"
           FROM order_lines JOIN order_line_state AS state ON state.id = order_lines.id
           JOIN orders ON orders.id = order_lines.order_id JOIN customers ON customers.id = customer_id JOIN items ON items.id = order_lines.item_id
           WHERE orders.state = 'open' AND to_ship_e4 > 0
             AND (?1 IS NULL OR orders.number LIKE ?1 ESCAPE '\' OR customers.name LIKE ?1 ESCAPE '\' OR items.code LIKE ?1 ESCAPE '\' OR description LIKE ?1 ESCAPE '\')
             AND (NOT ?2 OR back_ordered_e4 > 0)
           ORDER BY CASE WHEN ?3 THEN items.code END, promised_date IS NULL, promised_date, order_lines.id LIMIT ?4 OFFSET ?5"#,
        like,
        filter.back_ordered,
        filter.by_item,
        filter.limit,
        filter.offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = sqlx::query_scalar!(
        r#"SELECT count(*) AS "count!: i64"
           FROM order_lines JOIN order_line_state AS state ON state.id = order_lines.id
           JOIN orders ON orders.id = order_lines.order_id JOIN customers ON customers.id = customer_id JOIN items ON items.id = order_lines.item_id
           WHERE orders.state = 'open' AND to_ship_e4 > 0
             AND (?1 IS NULL OR orders.number LIKE ?1 ESCAPE '\' OR customers.name LIKE ?1 ESCAPE '\' OR items.code LIKE ?1 ESCAPE '\' OR description LIKE ?1 ESCAPE '\')
             AND (NOT ?2 OR back_ordered_e4 > 0)"#,
        like,
        filter.back_ordered
    )
    .fetch_one(connection)
    .await?;
    let lines = rows
        .into_iter()
        .map(|row| {
            Ok(OpenLine {
                id: OrderLineId(row.id),
                order: OrderId(row.order_id),
                order_number: row.number,
                customer: CustomerId(row.customer_id),
                customer_name: row.name,
                item: ItemId(row.item_id),
                code: row.code,
                description: row.description,
                unit: row.unit,
                ordered: Quantity::from_scaled(row.ordered),
                shipped: Quantity::from_scaled(row.shipped),
                billed: Quantity::from_scaled(row.billed),
                to_ship: Quantity::from_scaled(row.to_ship),
                allocated: Quantity::from_scaled(row.allocated),
                waiting: Quantity::from_scaled(row.waiting),
                back_ordered: Quantity::from_scaled(row.back_ordered),
                promised_date: row.promised_date,
                expected_on: row.expected_on,
                late: row.promised_date.is_some_and(|date| date < today),
                value: Money(row.net).share(row.to_ship, row.all_ordered),
                currency: currency(&row.currency)?,
            })
        })
        .collect::<Result<Vec<_>>>()?;
    Ok(OpenLines { lines, count })
}
