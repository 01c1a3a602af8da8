//! Orders as shown.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::Terms;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, DocumentKind, OrderId, OrderLineId};
use till_core::money::{Currency, Money};
use till_core::order::{LineProgress, OrderState, Track};

use super::facts;
use crate::convert::{json, known};
use crate::trail::{Trail, trail};
use crate::{Result, StoreError};

/// Which orders to list.
#[derive(Debug, Clone, Default)]
pub struct OrderFilter {
    /// Only those in these states; empty for all.
    pub states: Vec<OrderState>,
    /// Words in number, customer or the customer's own number.
    pub search: Option<String>,
    /// Only of this customer.
    pub customer: Option<CustomerId>,
    /// How many at most.
    pub limit: i64,
    /// How many to pass over.
    pub offset: i64,
}

/// An order in a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderRow {
    /// Its id.
    pub id: OrderId,
    /// Its number.
    pub number: String,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The number the customer gave it.
    pub customer_order_number: Option<String>,
    /// When it came.
    pub order_date: NaiveDate,
    /// When it was promised for.
    pub promised_date: Option<NaiveDate>,
    /// Its state.
    pub state: OrderState,
    /// Its track.
    pub track: Track,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Net value as ordered, in its currency.
    pub net: Money,
}

/// A stretch of the order list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderList {
    /// The orders, newest first.
    pub orders: Vec<OrderRow>,
    /// How many fit the filter.
    pub count: i64,
}

/// Orders, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, filter: &OrderFilter) -> Result<OrderList> {
    let like = filter.search.as_deref().map(crate::find::pattern);
    let states = json(&filter.states.iter().map(|state| state.word()).collect::<Vec<_>>())?;
    let customer = filter.customer.map(|customer| customer.0);
    let rows = sqlx::query!(
        r#"SELECT orders.id, orders.number, customer_id, name, customer_order_number, order_date AS "order_date: NaiveDate",
                  promised_date AS "promised_date: NaiveDate", state, orders.currency,
                  (SELECT coalesce(sum(net_minor), 0) FROM order_lines WHERE order_id = orders.id) AS "net!: i64"
           FROM orders JOIN customers ON customers.id = customer_id
           WHERE (json_array_length(?1) = 0 OR state IN (SELECT value FROM json_each(?1)))
             AND (?2 IS NULL OR orders.number LIKE ?2 ESCAPE '\' OR name LIKE ?2 ESCAPE '\' OR customer_order_number LIKE ?2 ESCAPE '\')
             AND (?3 IS NULL OR customer_id = ?3)
           ORDER BY orders.id DESC LIMIT ?4 OFFSET ?5"#,
        states,
        like,
        customer,
        filter.limit,
        filter.offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = sqlx::query_scalar!(
        r#"SELECT count(*) AS "count!: i64" FROM orders JOIN customers ON customers.id = customer_id
           WHERE (json_array_length(?1) = 0 OR state IN (SELECT value FROM json_each(?1)))
             AND (?2 IS NULL OR orders.number LIKE ?2 ESCAPE '\' OR name LIKE ?2 ESCAPE '\' OR customer_order_number LIKE ?2 ESCAPE '\')
             AND (?3 IS NULL OR customer_id = ?3)"#,
        states,
        like,
        customer
    )
    .fetch_one(&mut *connection)
    .await?;
    let ids: Vec<OrderId> = rows.iter().map(|row| OrderId(row.id)).collect();
    let facts = facts(connection, &ids).await?;
    let orders = rows
        .into_iter()
        .zip(facts)
        .map(|(row, facts)| {
            Ok(OrderRow {
                id: OrderId(row.id),
                number: row.number,
                customer: CustomerId(row.customer_id),
                customer_name: row.name,
                customer_order_number: row.customer_order_number,
                order_date: row.order_date,
                promised_date: row.promised_date,
                state: known(&row.state, OrderState::of)?,
                track: facts.track(),
                currency: facts.currency,
                net: Money(row.net),
            })
        })
        .collect::<Result<Vec<_>>>()?;
    Ok(OrderList { orders, count })
}

/// A line of an order on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderLineView {
    /// Its id.
    pub id: OrderLineId,
    /// The item's code.
    pub code: String,
    /// Its words.
    pub description: String,
    /// Its unit.
    pub unit: String,
    /// How far it has come.
    #[serde(flatten)]
    pub progress: LineProgress,
    /// What is back-ordered.
    pub back_ordered: Quantity,
    /// Price per unit.
    pub unit_price: UnitPrice,
    /// Line discount.
    pub discount: Rate,
    /// Where it comes from.
    pub discount_reason: Option<String>,
    /// Its tax code.
    pub tax_code: String,
}

/// An order on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderView {
    /// What stands in the list.
    #[serde(flatten)]
    pub row: OrderRow,
    /// Its terms.
    pub terms: Terms,
    /// The same in words.
    pub terms_words: String,
    /// Its lines.
    pub lines: Vec<OrderLineView>,
    /// Gross of its lines on posted invoices.
    pub billed_gross: Money,
    /// What of it is paid.
    pub paid_gross: Money,
    /// What is missing until it is closed, in words.
    pub missing: Vec<String>,
    /// What it led to.
    pub trail: Trail,
    /// Changes with every edit.
    pub version: i64,
}

/// One order.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, id: OrderId) -> Result<OrderView> {
    let head = sqlx::query!(
        r#"SELECT orders.number, customer_id, name, customer_order_number, order_date AS "order_date: NaiveDate",
                  promised_date AS "promised_date: NaiveDate", state, orders.terms, orders.version,
                  (SELECT coalesce(sum(net_minor), 0) FROM order_lines WHERE order_id = orders.id) AS "net!: i64"
           FROM orders JOIN customers ON customers.id = customer_id WHERE orders.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Order, id))?;
    let facts = facts(connection, &[id]).await?.pop().ok_or_else(|| StoreError::not_found(DocumentKind::Order, id))?;
    let rows = sqlx::query!(
        "SELECT order_lines.id, code, description, unit, unit_price_e6, discount_e6, discount_reason, order_lines.tax_code
         FROM order_lines JOIN items ON items.id = item_id WHERE order_id = ? ORDER BY position",
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let lines = rows
        .into_iter()
        .zip(&facts.lines)
        .map(|(row, (line, progress))| OrderLineView {
            id: *line,
            code: row.code,
            description: row.description,
            unit: row.unit,
            progress: *progress,
            back_ordered: progress.back_ordered(),
            unit_price: UnitPrice::from_scaled(row.unit_price_e6),
            discount: Rate::from_scaled(row.discount_e6),
            discount_reason: row.discount_reason,
            tax_code: row.tax_code,
        })
        .collect();
    let settlement = till_core::order::settlement(id, &facts.invoices);
    let terms = facts.terms;
    Ok(OrderView {
        row: OrderRow {
            id,
            number: head.number,
            customer: CustomerId(head.customer_id),
            customer_name: head.name,
            customer_order_number: head.customer_order_number,
            order_date: head.order_date,
            promised_date: head.promised_date,
            state: known(&head.state, OrderState::of)?,
            track: facts.track(),
            currency: facts.currency,
            net: Money(head.net),
        },
        terms,
        terms_words: terms.words(),
        lines,
        billed_gross: settlement.billed_gross,
        paid_gross: settlement.paid_gross,
        missing: till_core::order::missing(&facts),
        trail: trail(connection, DocumentKind::Order, id.0).await?,
        version: head.version,
    })
}
