//! Orders: entering, confirming, and what the rest of the books makes of them.

mod views;

use std::collections::HashMap;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::checks::{Check, Findings, Step, stops};
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, DocumentKind, InvoiceId, ItemId, OrderId, OrderLineId};
use till_core::money::{Currency, Money, line_amounts};
use till_core::order::{InvoiceShares, LineProgress, OrderAfter, OrderFacts};

use crate::convert::{currency, json, terms};
use crate::rules::next_number;
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError};

pub use views::{OrderFilter, OrderLineView, OrderList, OrderRow, OrderView, list, view};

/// The largest quantity and the highest price a line may carry; keeps every product exact.
const LARGEST_QUANTITY: Quantity = Quantity::from_whole(100_000_000);
pub(crate) const HIGHEST_PRICE: UnitPrice = UnitPrice::from_whole(100_000_000);

/// A line of an order to enter.
#[derive(Debug, Clone)]
pub struct NewOrderLine {
    /// What.
    pub item: ItemId,
    /// How much.
    pub quantity: Quantity,
    /// An agreed price; none for the list price.
    pub unit_price: Option<UnitPrice>,
    /// Line discount as a fraction of one.
    pub discount: Rate,
    /// Where the discount comes from.
    pub discount_reason: Option<String>,
    /// Another tax code than the item's.
    pub tax_code: Option<String>,
}

/// An order to enter.
#[derive(Debug, Clone)]
pub struct NewOrder {
    /// Whose.
    pub customer: CustomerId,
    /// The number the customer gave it.
    pub customer_order_number: Option<String>,
    /// When it came.
    pub order_date: NaiveDate,
    /// When it was promised for.
    pub promised_date: Option<NaiveDate>,
    /// Its lines.
    pub lines: Vec<NewOrderLine>,
}

/// Enters a draft order with the customer's currency and terms.
///
/// # Errors
/// An unknown customer or item, a quantity of zero or below, no lines.
pub async fn enter(writing: &mut Writing<'_>, new: &NewOrder) -> Result<OrderId> {
    if new.lines.is_empty() {
        return Err(StoreError::invalid("lines", "An order needs at least one line."));
    }
    let customer = sqlx::query!("SELECT currency, terms FROM customers WHERE id = ?", new.customer.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, new.customer))?;
    let document_currency = currency(&customer.currency)?;
    let (number, _) = next_number(writing, "order").await?;
    let id = sqlx::query_scalar!(
        "INSERT INTO orders (number, customer_id, customer_order_number, order_date, promised_date, currency, terms)
         VALUES (?, ?, ?, ?, ?, ?, ?) RETURNING id AS \"id!\"",
        number,
        new.customer.0,
        new.customer_order_number,
        new.order_date,
        new.promised_date,
        customer.currency,
        customer.terms
    )
    .fetch_one(&mut **writing)
    .await?;
    for (position, line) in (0_i64..).zip(&new.lines) {
        enter_line(writing, id, position, line, document_currency).await?;
    }
    let fields = vec![set("lines", new.lines.len())];
    writing.note_on((DocumentKind::Order, id, &number), "order_entered", format!("entered {number}"), Some(1), fields);
    Ok(OrderId(id))
}

async fn enter_line(
    connection: &mut SqliteConnection,
    order: i64,
    position: i64,
    line: &NewOrderLine,
    currency: Currency,
) -> Result<()> {
    let item = sqlx::query!("SELECT code, name, list_price_e6, tax_code FROM items WHERE id = ?", line.item.0)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Item, line.item))?;
    let list_price = UnitPrice::from_scaled(item.list_price_e6);
    let price = line.unit_price.unwrap_or(list_price);
    if !line.quantity.is_positive() || line.quantity > LARGEST_QUANTITY {
        return Err(StoreError::invalid(
            format!("lines.{position}.quantity"),
            format!("Order more than nothing of {}, and less than a hundred million.", item.code),
        ));
    }
    if price < UnitPrice::ZERO || price > HIGHEST_PRICE {
        return Err(StoreError::invalid(
            format!("lines.{position}.unit_price"),
            format!("The price of {} must be zero or more.", item.code),
        ));
    }
    if line.discount < Rate::ZERO || line.discount > Rate::ONE {
        return Err(StoreError::invalid(format!("lines.{position}.discount"), "A discount lies between 0 and 100 %."));
    }
    let net = line_amounts(line.quantity, price, line.discount, currency).net;
    let (quantity, price, list, discount) =
        (line.quantity.scaled(), price.scaled(), list_price.scaled(), line.discount.scaled());
    let tax_code = line.tax_code.as_ref().unwrap_or(&item.tax_code);
    sqlx::query!(
        "INSERT INTO order_lines (order_id, position, item_id, description, ordered_e4, unit_price_e6, list_price_e6,
                                  discount_e6, discount_reason, tax_code, net_minor)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        order,
        position,
        line.item.0,
        item.name,
        quantity,
        price,
        list,
        discount,
        line.discount_reason,
        tax_code,
        net.0
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Makes a draft order binding.
///
/// # Errors
/// Where the customer is on stop, or the order is no draft.
pub async fn confirm(writing: &mut Writing<'_>, id: OrderId) -> Result<()> {
    let row = sqlx::query!(
        "SELECT orders.number, orders.version, confirmed, name, stop_reason FROM orders JOIN customers ON customers.id = customer_id WHERE orders.id = ?",
        id.0
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Order, id))?;
    if row.confirmed != 0 {
        return Err(StoreError::WrongState(format!("{} is confirmed already.", row.number)));
    }
    let mut findings = Findings::at(Step::Confirm);
    if let Some(reason) = row.stop_reason {
        findings.add(
            Check::CustomerOnStop,
            "customer.stop_reason",
            format!("{} is on stop: {reason}. A lead can lift it.", row.name),
        );
    }
    let blockers = findings.finish();
    if stops(&blockers) {
        return Err(StoreError::Refused(blockers));
    }
    sqlx::query!("UPDATE orders SET confirmed = 1, version = version + 1 WHERE id = ?", id.0)
        .execute(&mut **writing)
        .await?;
    let version = row.version + 1;
    let words = format!("confirmed {}", row.number);
    writing.note_on((DocumentKind::Order, id.0, &row.number), "order_confirmed", words, Some(version), Vec::new());
    refresh_states(writing, &[id]).await
}

/// Notes the number the customer gave the order.
///
/// # Errors
/// [`StoreError::Stale`] where someone changed the order since `version`.
pub async fn set_customer_order_number(
    writing: &mut Writing<'_>,
    id: OrderId,
    version: i64,
    number: Option<&str>,
) -> Result<i64> {
    let row = sqlx::query!("SELECT number, customer_order_number, version FROM orders WHERE id = ?", id.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Order, id))?;
    if row.version != version {
        return Err(StoreError::Stale { what: row.number, current: row.version });
    }
    let number = number.map(str::trim).filter(|text| !text.is_empty());
    if number.is_some_and(|text| text.chars().count() > 60) {
        return Err(StoreError::invalid("customer_order_number", "An order number has 60 characters at most."));
    }
    sqlx::query!("UPDATE orders SET customer_order_number = ?, version = version + 1 WHERE id = ?", number, id.0)
        .execute(&mut **writing)
        .await?;
    writing.note_on(
        (DocumentKind::Order, id.0, &row.number),
        "order_changed",
        format!("changed {}", row.number),
        Some(version + 1),
        changed("their order number", row.customer_order_number.as_deref(), number),
    );
    Ok(version + 1)
}

/// Orders as the core wants them, in the order of `ids`.
pub(crate) async fn facts(connection: &mut SqliteConnection, ids: &[OrderId]) -> Result<Vec<OrderFacts>> {
    let wanted = json(&ids)?;
    let heads = sqlx::query!(
        "SELECT orders.id, number, customer_order_number, terms, currency, confirmed
         FROM json_each(?) AS wanted JOIN orders ON orders.id = wanted.value ORDER BY wanted.key",
        wanted
    )
    .fetch_all(&mut *connection)
    .await?;
    let lines = sqlx::query!(
        r#"SELECT order_lines.id AS "id!", order_id, ordered_e4, cancelled_e4, shipped_e4, billed_e4, net_minor
         FROM json_each(?) AS wanted JOIN order_lines ON order_id = wanted.value ORDER BY order_id, position"#,
        wanted
    )
    .fetch_all(&mut *connection)
    .await?;
    let shares = sqlx::query!(
        r#"SELECT mine.order_id AS "of_order!", invoices.id AS "invoice!", total_minor AS "total!: i64", open_minor AS "open!: i64",
                  shares.order_id AS "order!", shares.gross_minor AS "gross!"
           FROM json_each(?) AS wanted
           JOIN invoice_orders AS mine ON mine.order_id = wanted.value
           JOIN invoices ON invoices.id = mine.invoice_id
           JOIN invoice_orders AS shares ON shares.invoice_id = invoices.id
           ORDER BY mine.order_id, invoices.id, shares.position"#,
        wanted
    )
    .fetch_all(connection)
    .await?;
    let mut of_order: HashMap<i64, Vec<(OrderLineId, LineProgress)>> = HashMap::new();
    for line in lines {
        of_order.entry(line.order_id).or_default().push((
            OrderLineId(line.id),
            LineProgress {
                ordered: Quantity::from_scaled(line.ordered_e4),
                cancelled: Quantity::from_scaled(line.cancelled_e4),
                shipped: Quantity::from_scaled(line.shipped_e4),
                billed: Quantity::from_scaled(line.billed_e4),
                value: Money(line.net_minor),
            },
        ));
    }
    let mut invoices: HashMap<i64, Vec<InvoiceShares>> = HashMap::new();
    for share in shares {
        let known = invoices.entry(share.of_order).or_default();
        let part = (OrderId(share.order), Money(share.gross));
        match known.last_mut().filter(|last| last.invoice.0 == share.invoice) {
            Some(last) => last.shares.push(part),
            None => known.push(InvoiceShares {
                invoice: InvoiceId(share.invoice),
                total: Money(share.total),
                open: Money(share.open),
                shares: vec![part],
            }),
        }
    }
    heads
        .into_iter()
        .map(|head| {
            Ok(OrderFacts {
                id: OrderId(head.id),
                number: head.number,
                customer_order_number: head.customer_order_number,
                terms: terms(&head.terms)?,
                currency: currency(&head.currency)?,
                confirmed: head.confirmed != 0,
                lines: of_order.remove(&head.id).unwrap_or_default(),
                invoices: invoices.remove(&head.id).unwrap_or_default(),
            })
        })
        .collect()
}

/// Writes the states a decision came to.
pub(crate) async fn write_states(connection: &mut SqliteConnection, after: &[OrderAfter]) -> Result<()> {
    for order in after {
        let state = order.state.word();
        sqlx::query!("UPDATE orders SET state = ?1 WHERE id = ?2 AND state <> ?1", state, order.id.0)
            .execute(&mut *connection)
            .await?;
    }
    Ok(())
}

/// Works the states out again from what has happened.
pub(crate) async fn refresh_states(connection: &mut SqliteConnection, ids: &[OrderId]) -> Result<()> {
    let after: Vec<OrderAfter> =
        facts(connection, ids).await?.iter().map(|order| OrderAfter { id: order.id, state: order.state() }).collect();
    write_states(connection, &after).await
}

/// Cancels what of the order's lines has not shipped.
///
/// # Errors
/// [`StoreError::WrongState`] where nothing is left to cancel.
pub async fn cancel_rest(writing: &mut Writing<'_>, id: OrderId) -> Result<()> {
    let cancelled = sqlx::query!(
        "UPDATE order_lines SET cancelled_e4 = ordered_e4 - shipped_e4 WHERE order_id = ? AND cancelled_e4 < ordered_e4 - shipped_e4",
        id.0
    )
    .execute(&mut **writing)
    .await?;
    if cancelled.rows_affected() == 0 {
        return Err(StoreError::WrongState("Nothing of this order is left to cancel.".to_owned()));
    }
    let number = sqlx::query_scalar!("SELECT number FROM orders WHERE id = ?", id.0).fetch_one(&mut **writing).await?;
    let words = format!("cancelled the rest of {number}");
    writing.note_on((DocumentKind::Order, id.0, &number), "order_rest_cancelled", words, None, Vec::new());
    refresh_states(writing, &[id]).await
}
