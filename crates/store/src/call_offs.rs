//! Call-off orders: an agreed total that several orders take from over time.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::{Quantity, UnitPrice};
use till_core::ids::{CallOffId, CallOffLineId, CustomerId, DocumentKind, ItemId, OrderId};
use till_core::merge::{Fields, differences};

use crate::rules::next_number;
use crate::writing::Writing;
use crate::{Result, StoreError, items, sensible_date, stock};

/// A call-off order as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CallOffForm {
    /// Whose.
    pub customer: CustomerId,
    /// The number the customer gave it.
    #[serde(default)]
    pub customer_order_number: Option<String>,
    /// First day.
    pub first: NaiveDate,
    /// Last day.
    pub last: NaiveDate,
    /// What was agreed.
    pub lines: Vec<CallOffLineForm>,
}

/// What was agreed of an item.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CallOffLineForm {
    /// The item's code.
    pub item: String,
    /// How much in all, in stock units.
    pub agreed: String,
    /// At which price per stock unit, in the customer's currency.
    pub price: String,
}

/// A line with what it has left.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CallOffLine {
    /// Its id.
    pub id: CallOffLineId,
    /// The item.
    pub item: ItemId,
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// Its unit.
    pub unit: String,
    /// Price per stock unit.
    pub price: UnitPrice,
    /// What was agreed.
    pub agreed: Quantity,
    /// What orders have taken, less what of them was cancelled.
    pub taken: Quantity,
    /// What is left.
    pub left: Quantity,
}

/// A call-off order on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CallOffView {
    /// Its id.
    pub id: CallOffId,
    /// Its number.
    pub number: String,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The number the customer gave it.
    pub customer_order_number: Option<String>,
    /// Its currency.
    pub currency: String,
    /// First day.
    pub first: NaiveDate,
    /// Last day.
    pub last: NaiveDate,
    /// Whether it runs today.
    pub runs: bool,
    /// Its lines.
    pub lines: Vec<CallOffLine>,
    /// Orders that took from it.
    pub orders: Vec<CallOffOrder>,
    /// Changes with every edit.
    pub version: i64,
}

/// An order that took from a call-off.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CallOffOrder {
    /// The order.
    pub id: OrderId,
    /// Its number.
    pub number: String,
    /// When.
    pub order_date: NaiveDate,
    /// Its state.
    pub state: String,
}

/// Lines of a call-off with what they have left, one order's part not counted.
pub(crate) async fn left(
    connection: &mut SqliteConnection,
    id: CallOffId,
    without: Option<OrderId>,
) -> Result<Vec<CallOffLine>> {
    let without = without.map_or(-1, |order| order.0);
    Ok(sqlx::query!(
        r#"SELECT call_off_lines.id, item_id, code, name, unit, price_e6, agreed_e4,
                  coalesce((SELECT sum(wanted_in_stock_e4) FROM order_line_state
                            WHERE call_off_line_id = call_off_lines.id AND order_id <> ?2), 0) AS "taken!: i64"
           FROM call_off_lines JOIN items ON items.id = item_id WHERE call_off_id = ?1 ORDER BY position"#,
        id.0,
        without
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| CallOffLine {
        id: CallOffLineId(row.id),
        item: ItemId(row.item_id),
        code: row.code,
        name: row.name,
        unit: row.unit,
        price: UnitPrice::from_scaled(row.price_e6),
        agreed: Quantity::from_scaled(row.agreed_e4),
        taken: Quantity::from_scaled(row.taken),
        left: Quantity::from_scaled((row.agreed_e4 - row.taken).max(0)),
    })
    .collect())
}

/// Enters a call-off order.
///
/// # Errors
/// Days the wrong way round, no lines, an item named twice, a quantity or price that cannot be.
pub async fn enter(writing: &mut Writing<'_>, new: &CallOffForm) -> Result<CallOffId> {
    let customer = sqlx::query_scalar!("SELECT name FROM customers WHERE id = ?", new.customer.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, new.customer))?;
    sensible_date("first", new.first)?;
    sensible_date("last", new.last)?;
    if new.last < new.first {
        return Err(StoreError::invalid("last", "A blanket order ends on its first day or later."));
    }
    if new.lines.is_empty() {
        return Err(StoreError::invalid("lines", "Say what was agreed: at least one item."));
    }
    let (number, _) = next_number(writing, "call_off").await?;
    let id = sqlx::query_scalar!(
        "INSERT INTO call_offs (number, customer_id, customer_order_number, first, last) VALUES (?, ?, ?, ?, ?) RETURNING id AS \"id!\"",
        number,
        new.customer.0,
        new.customer_order_number,
        new.first,
        new.last
    )
    .fetch_one(&mut **writing)
    .await?;
    let mut known: Vec<ItemId> = Vec::new();
    let mut fields = Fields::new();
    for (position, line) in (0_i64..).zip(&new.lines) {
        let item = items::by_code(writing, &line.item, &format!("lines.{position}.item")).await?;
        if known.contains(&item) {
            return Err(StoreError::invalid(
                format!("lines.{position}.item"),
                format!("{} is named twice. Give it one line.", line.item),
            ));
        }
        known.push(item);
        let agreed = stock::read_quantity(&format!("lines.{position}.agreed"), &line.agreed)?;
        let price: UnitPrice =
            line.price.parse().map_err(|error| StoreError::decimal(format!("lines.{position}.price"), &error))?;
        if price < UnitPrice::ZERO || price > till_core::ordering::HIGHEST_PRICE {
            return Err(StoreError::invalid(format!("lines.{position}.price"), "A price is zero or more."));
        }
        let (scaled, cents) = (agreed.scaled(), price.scaled());
        sqlx::query!(
            "INSERT INTO call_off_lines (call_off_id, position, item_id, agreed_e4, price_e6) VALUES (?, ?, ?, ?, ?)",
            id,
            position,
            item.0,
            scaled,
            cents
        )
        .execute(&mut **writing)
        .await?;
        fields.insert(line.item.clone(), format!("{agreed} at {}", price.with_decimals(2)));
    }
    let words = format!("entered {number} for {customer}");
    let changes = differences(&Fields::new(), &fields);
    writing.note_on((DocumentKind::CallOff, id, &number), "call_off_entered", words, Some(1), changes);
    Ok(CallOffId(id))
}

/// One call-off order.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, id: CallOffId, today: NaiveDate) -> Result<CallOffView> {
    let row = sqlx::query!(
        r#"SELECT call_offs.number, customer_id, name, customer_order_number, currency, first AS "first: NaiveDate",
                  last AS "last: NaiveDate", call_offs.version
           FROM call_offs JOIN customers ON customers.id = customer_id WHERE call_offs.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::CallOff, id))?;
    let lines = left(connection, id, None).await?;
    let orders = sqlx::query!(
        r#"SELECT id, number, order_date AS "order_date: NaiveDate", state FROM orders WHERE call_off_id = ? ORDER BY id DESC"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| CallOffOrder { id: OrderId(row.id), number: row.number, order_date: row.order_date, state: row.state })
    .collect();
    Ok(CallOffView {
        id,
        number: row.number,
        customer: CustomerId(row.customer_id),
        customer_name: row.name,
        customer_order_number: row.customer_order_number,
        currency: row.currency,
        runs: row.first <= today && today <= row.last,
        first: row.first,
        last: row.last,
        lines,
        orders,
        version: row.version,
    })
}

/// Call-off orders, newest first; with a customer, only its.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(
    connection: &mut SqliteConnection,
    customer: Option<CustomerId>,
    today: NaiveDate,
) -> Result<Vec<CallOffView>> {
    let customer = customer.map(|customer| customer.0);
    let ids = sqlx::query_scalar!(
        "SELECT id AS \"id!\" FROM call_offs WHERE ?1 IS NULL OR customer_id = ?1 ORDER BY id DESC LIMIT 200",
        customer
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut found = Vec::with_capacity(ids.len());
    for id in ids {
        found.push(view(connection, CallOffId(id), today).await?);
    }
    Ok(found)
}
