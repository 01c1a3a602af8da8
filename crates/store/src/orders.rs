//! Orders: entering, confirming, and what the rest of the books makes of them.

mod cancelling;
mod changing;
mod confirming;
mod entering;
mod finishing;
mod form;
mod open_lines;
mod resolve;
mod views;

use std::collections::HashMap;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, DocumentKind, InvoiceId, ItemId, OrderId, OrderLineId};
use till_core::invoice::ItemKind;
use till_core::money::Money;
use till_core::order::{InvoiceShares, LineProgress, OrderAfter, OrderFacts, Promised};

use crate::convert::{currency, json, known, terms};
use crate::writing::{Writing, changed};
use crate::{Result, StoreError};

pub use cancelling::{ToCancel, cancel, cancel_rest};
pub use changing::change;
pub use confirming::{confirm, confirm_as};
pub(crate) use confirming::{confirm_at_once, confirm_by_itself, confirmation, hindering};
pub use entering::{Lineage, OrderPreview, copy, enter_form, preview};
pub(crate) use entering::{confirm_limits, enter_resolved, refuse_at};
pub use finishing::{OrderToFinish, to_finish};
pub(crate) use form::described;
pub use form::{DELIVERY_TERMS, LineForm, OrderForm, TypedAddress, form};
pub use open_lines::{OpenLine, OpenLineFilter, OpenLines, open_lines};
pub(crate) use resolve::{LoadedItem, Standing, load_items, resolve};
pub use views::{OrderFilter, OrderLineView, OrderList, OrderRow, OrderView, list, view, view_for};

pub(crate) use till_core::ordering::HIGHEST_PRICE;

/// A line of an order to enter by the program.
#[derive(Debug, Clone)]
pub struct NewOrderLine {
    /// What.
    pub item: ItemId,
    /// How much.
    pub quantity: Quantity,
    /// An agreed price; none for the price that comes by itself.
    pub unit_price: Option<UnitPrice>,
    /// Line discount as a fraction of one.
    pub discount: Rate,
    /// Where the discount comes from.
    pub discount_reason: Option<String>,
    /// Another tax code than would come.
    pub tax_code: Option<String>,
}

/// An order to enter by the program.
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

/// Enters a draft order, as if it had been typed.
///
/// # Errors
/// As [`enter_form`].
pub async fn enter(writing: &mut Writing<'_>, new: &NewOrder) -> Result<OrderId> {
    let rules = crate::rules::load(writing).await?;
    let mut lines = Vec::with_capacity(new.lines.len());
    for line in &new.lines {
        let code = sqlx::query_scalar!("SELECT code FROM items WHERE id = ?", line.item.0)
            .fetch_optional(&mut **writing)
            .await?
            .ok_or_else(|| StoreError::not_found(DocumentKind::Item, line.item))?;
        lines.push(LineForm {
            item: code,
            quantity: line.quantity.to_string(),
            unit_price: line.unit_price.map(|price| price.to_string()),
            price_reason: line.unit_price.map(|_| "agreed".to_owned()),
            discount: (!line.discount.is_zero()).then(|| line.discount.percent()),
            discount_reason: line.discount_reason.clone(),
            tax_code: line.tax_code.clone(),
            tax_reason: line.tax_code.as_ref().map(|_| "agreed".to_owned()),
            ..LineForm::default()
        });
    }
    let typed = OrderForm {
        customer: new.customer,
        customer_order_number: new.customer_order_number.clone(),
        order_date: Some(new.order_date),
        promised_date: new.promised_date,
        lines,
        ..OrderForm::default()
    };
    enter_form(writing, &rules, &typed, Lineage::default()).await
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
        changed("customer PO", row.customer_order_number.as_deref(), number),
    );
    Ok(version + 1)
}

/// Orders as the core wants them, in the order of `ids`.
pub(crate) async fn facts(connection: &mut SqliteConnection, ids: &[OrderId]) -> Result<Vec<OrderFacts>> {
    let wanted = json(&ids)?;
    let heads = sqlx::query!(
        r#"SELECT orders.id, number, customer_order_number, terms, currency, confirmed, gross_priced
         FROM json_each(?) AS wanted JOIN orders ON orders.id = wanted.value ORDER BY wanted.key"#,
        wanted
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut lines = lines_of(connection, &wanted).await?;
    let mut invoices = invoices_of(connection, &wanted).await?;
    let mut held = crate::deposits::held_for(connection, &wanted).await?;
    let mut prepaid = crate::prepayments::left_of(connection, &wanted).await?;
    let mut cards = crate::cards::left_of(connection, &wanted).await?;
    heads
        .into_iter()
        .map(|head| {
            let of_order = lines.remove(&head.id).unwrap_or_default();
            Ok(OrderFacts {
                deposits_held: held.remove(&head.id).unwrap_or_default(),
                prepaid_left: prepaid.remove(&head.id).unwrap_or_default(),
                card_left: cards.remove(&head.id).unwrap_or_default(),
                id: OrderId(head.id),
                number: head.number,
                customer_order_number: head.customer_order_number,
                terms: terms(&head.terms)?,
                currency: currency(&head.currency)?,
                confirmed: head.confirmed != 0,
                lines: of_order.progress,
                work: of_order.work,
                invoices: invoices.remove(&head.id).unwrap_or_default(),
                promised: Promised { gross: head.gross_priced != 0, lines: of_order.promised },
            })
        })
        .collect()
}

/// Lines of an order: how far each has come, which are work, what each promised.
#[derive(Default)]
struct LinesOf {
    progress: Vec<(OrderLineId, LineProgress)>,
    work: Vec<OrderLineId>,
    promised: Vec<(OrderLineId, Rate, Money)>,
}

/// The lines of each order; `orders` is a list in JSON.
async fn lines_of(connection: &mut SqliteConnection, orders: &str) -> Result<HashMap<i64, LinesOf>> {
    let lines = sqlx::query!(
        r#"SELECT order_lines.id AS "id!", order_id, ordered_e4, cancelled_e4, shipped_e4, billed_e4, net_minor, amount_minor, kind,
                coalesce((SELECT rate_e6 FROM tax_rates WHERE code = order_lines.tax_code AND valid_from <= order_date
                          ORDER BY valid_from DESC LIMIT 1), 0) AS "rate!: i64"
         FROM json_each(?) AS wanted JOIN order_lines ON order_id = wanted.value JOIN orders ON orders.id = order_id
         JOIN items ON items.id = item_id ORDER BY order_id, order_lines.position"#,
        orders
    )
    .fetch_all(connection)
    .await?;
    let mut all: HashMap<i64, LinesOf> = HashMap::new();
    for line in lines {
        let of_order = all.entry(line.order_id).or_default();
        if known(&line.kind, ItemKind::of)?.needs_no_shipment() {
            of_order.work.push(OrderLineId(line.id));
        }
        let promise = (OrderLineId(line.id), Rate::from_scaled(line.rate), Money(line.amount_minor));
        of_order.promised.push(promise);
        of_order.progress.push((
            OrderLineId(line.id),
            LineProgress::from_scaled(
                [line.ordered_e4, line.cancelled_e4, line.shipped_e4, line.billed_e4],
                Money(line.net_minor),
            ),
        ));
    }
    Ok(all)
}

/// The invoices each order is on, with the shares of all orders on them; `orders` is a list in JSON.
async fn invoices_of(connection: &mut SqliteConnection, orders: &str) -> Result<HashMap<i64, Vec<InvoiceShares>>> {
    let shares = sqlx::query!(
        r#"SELECT mine.order_id AS "of_order!", invoices.id AS "invoice!", total_minor AS "total!: i64", open_minor AS "open!",
                  invoices.number AS "number!", invoices.document_date AS "date!: NaiveDate", invoices.kind = 'prepayment_invoice' AS "in_advance!: bool",
                  shares.order_id AS "order!", shares.gross_minor AS "gross!"
           FROM json_each(?) AS wanted
           JOIN document_orders AS mine ON mine.order_id = wanted.value
           JOIN invoices ON invoices.id = mine.document_id AND cancelled_by IS NULL
           -- In this order: begun with the open items of all invoices it would grow with the company.
           CROSS JOIN open_items ON open_items.kind = 'invoice' AND open_items.document_id = invoices.id AND purpose = 'receivable' AND side = 'owed_to_us'
           JOIN document_orders AS shares ON shares.document_id = invoices.id
           ORDER BY mine.order_id, invoices.id, shares.position"#,
        orders
    )
    .fetch_all(connection)
    .await?;
    let mut invoices: HashMap<i64, Vec<InvoiceShares>> = HashMap::new();
    for share in shares {
        let known = invoices.entry(share.of_order).or_default();
        let part = (OrderId(share.order), Money(share.gross));
        match known.last_mut().filter(|last| last.invoice.0 == share.invoice) {
            Some(last) => last.shares.push(part),
            None => known.push(InvoiceShares {
                invoice: InvoiceId(share.invoice),
                name: format!("{} of {}", share.number, till_core::calendar::words(share.date)),
                total: Money(share.total),
                open: Money(share.open),
                in_advance: share.in_advance,
                shares: vec![part],
            }),
        }
    }
    Ok(invoices)
}

/// Writes the states a decision came to.
pub(crate) async fn write_states(connection: &mut SqliteConnection, after: &[OrderAfter]) -> Result<()> {
    let states: Vec<_> = after.iter().map(|order| (order.id, order.state.word())).collect();
    let states = json(&states)?;
    sqlx::query!(
        "UPDATE orders SET state = new.state FROM (SELECT value ->> 0 AS id, value ->> 1 AS state FROM json_each(?)) AS new
         WHERE orders.id = new.id AND orders.state <> new.state",
        states
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Works the states out again from what has happened.
pub(crate) async fn refresh_states(connection: &mut SqliteConnection, ids: &[OrderId]) -> Result<()> {
    let after: Vec<OrderAfter> =
        facts(connection, ids).await?.iter().map(|order| OrderAfter { id: order.id, state: order.state() }).collect();
    write_states(connection, &after).await
}
