//! Loading what the core needs to decide on an invoice.

use std::collections::HashMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::calendar::DocumentDate;
use till_core::checks::Step;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, InvoiceId, ItemId, OrderId, OrderLineId, ShipmentId, ShipmentLineId};
use till_core::invoice::{Group, HeldCost, InvoiceInput, ItemKind, LineToBill, PriceChange};
use till_core::marks::Marks;
use till_core::money::Money;
use till_core::treatment::{Taxed, Treatment};

use crate::convert::{currency, json, known, terms};
use crate::rules::{Rules, exchange_rate};
use crate::{Result, StoreError, customers, orders};

/// A shipment line to bill.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Pick {
    /// The line.
    pub shipment_line: ShipmentLineId,
    /// How much of it; none for all that is unbilled.
    #[serde(default)]
    pub quantity: Option<Quantity>,
}

/// A line to bill, and what decides which invoice it goes on.
#[derive(Debug, Clone)]
pub(crate) struct Picked {
    pub(crate) group: Group,
    pub(crate) line: LineToBill,
}

/// The picked lines, in the order picked. `draft` counts what that draft has reserved as free.
pub(crate) async fn load_lines(
    connection: &mut SqliteConnection,
    picks: &[Pick],
    draft: Option<InvoiceId>,
) -> Result<Vec<Picked>> {
    let ids = json(&picks.iter().map(|pick| pick.shipment_line).collect::<Vec<_>>())?;
    let draft = draft.map(|draft| draft.0);
    let rows = sqlx::query!(
        r#"SELECT shipment_lines.id, shipment_id, shipments.number AS shipment_number, shipments.state,
                  posting_date AS "posting_date: NaiveDate", shipments.customer_id, shipments.order_id, order_line_id, item_id,
                  items.code, order_lines.description, items.kind, class, unbilled_e4,
                  coalesce((SELECT quantity_e4 FROM invoice_lines JOIN invoices ON invoices.id = invoice_id
                            WHERE invoice_id = ?2 AND state = 'draft' AND shipment_line_id = shipment_lines.id), 0) AS "reserved!: i64",
                  drafted.unit_price_e6 AS "changed_price?", drafted.price_reason AS "price_reason?",
                  drafted.price_allowed_minor AS "price_allowed?", order_lines.unit_price_e6, order_lines.list_price_e6, order_lines.discount_e6, order_lines.discount_reason, order_lines.tax_code,
                  order_lines.surcharge_e6, order_lines.surcharge_name, order_lines.price_steps, order_lines.marks AS line_marks,
                  order_lines.unit AS line_unit, shipment_lines.quantity_e4 AS shipped, shipment_lines.billed_e4 AS billed,
                  cost_minor, cost_billed_minor, cost_purpose,
                  orders.currency, orders.terms, orders.marks AS order_marks, ship_tos.name AS "ship_to?", ship_tos.treatment AS "treatment?",
                  ship_tos.certificate, ship_tos.certificate_until AS "certificate_until: NaiveDate"
           FROM (SELECT DISTINCT value AS id FROM json_each(?1)) AS wanted
           JOIN shipment_lines ON shipment_lines.id = wanted.id
           JOIN shipments ON shipments.id = shipment_id
           JOIN order_lines ON order_lines.id = order_line_id
           JOIN orders ON orders.id = shipments.order_id
           JOIN items ON items.id = item_id
           LEFT JOIN ship_tos ON ship_tos.id = orders.ship_to_id
           LEFT JOIN invoice_lines AS drafted ON drafted.invoice_id = ?2 AND drafted.shipment_line_id = shipment_lines.id
                AND (SELECT state FROM invoices WHERE id = ?2) = 'draft'"#,
        ids,
        draft
    )
    .fetch_all(connection)
    .await?;
    let mut found = HashMap::with_capacity(rows.len());
    for row in rows {
        // A line of a packed shipment has nothing unbilled; billing it is refused by quantity.
        let shipped_on = row.posting_date.unwrap_or_default();
        let unbilled = Quantity::from_scaled(row.unbilled_e4 + row.reserved);
        let picked = Picked {
            group: Group {
                customer: CustomerId(row.customer_id),
                currency: currency(&row.currency)?,
                terms: terms(&row.terms)?,
            },
            line: LineToBill {
                shipment_line: ShipmentLineId(row.id),
                shipment: ShipmentId(row.shipment_id),
                shipment_number: row.shipment_number,
                shipped_on,
                order: OrderId(row.order_id),
                order_line: OrderLineId(row.order_line_id),
                item: ItemId(row.item_id),
                code: row.code,
                description: row.description,
                kind: known(&row.kind, ItemKind::of)?,
                class: row.class,
                unit: row.line_unit,
                quantity: unbilled,
                unbilled,
                unit_price: UnitPrice::from_scaled(row.unit_price_e6),
                list_price: UnitPrice::from_scaled(row.list_price_e6),
                discount: Rate::from_scaled(row.discount_e6),
                discount_reason: row.discount_reason,
                surcharge: UnitPrice::from_scaled(row.surcharge_e6),
                surcharge_name: row.surcharge_name,
                price_steps: read(&row.price_steps)?,
                tax_code: row.tax_code,
                delivered: match (row.ship_to, row.treatment) {
                    (Some(name), Some(treatment)) => Some((
                        name,
                        Taxed {
                            treatment: known(&treatment, Treatment::of)?,
                            certificate: row.certificate,
                            until: row.certificate_until,
                        },
                    )),
                    _ => None,
                },
                marks: read::<Marks>(&row.line_marks)?.over(&read(&row.order_marks)?),
                held_cost: (row.cost_purpose == Purpose::ShippedCost.word()).then(|| HeldCost {
                    shipped: Quantity::from_scaled(row.shipped),
                    billed: Quantity::from_scaled(row.billed),
                    cost: Money(row.cost_minor),
                    followed: Money(row.cost_billed_minor),
                }),
                price_change: row.changed_price.zip(row.price_reason).map(|(price, reason)| PriceChange {
                    unit_price: UnitPrice::from_scaled(price),
                    reason,
                    allowed: row.price_allowed.map(Money),
                }),
            },
        };
        found.insert(row.id, picked);
    }
    let mut picked = Vec::with_capacity(picks.len());
    for (position, pick) in picks.iter().enumerate() {
        let mut line = found.get(&pick.shipment_line.0).cloned().ok_or_else(|| {
            StoreError::invalid(
                format!("picks.{position}.shipment_line"),
                format!("There is no shipment line {}.", pick.shipment_line),
            )
        })?;
        if let Some(quantity) = pick.quantity {
            line.line.quantity = quantity;
        }
        picked.push(line);
    }
    Ok(picked)
}

/// Everything the core needs to decide on an invoice over these lines.
pub(crate) async fn input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    step: Step,
    customer: CustomerId,
    lines: Vec<Picked>,
    document_date: DocumentDate,
    posting_date: DocumentDate,
) -> Result<InvoiceInput<'a>> {
    let (customer, _) = customers::facts(connection, customer).await?;
    let mut ids: Vec<OrderId> = Vec::new();
    for line in &lines {
        if !ids.contains(&line.line.order) {
            ids.push(line.line.order);
        }
    }
    let orders = orders::facts(connection, &ids).await?;
    let document_currency = orders.first().map_or(rules.base, |order| order.currency);
    let rate = exchange_rate(connection, rules, document_currency, document_date.date).await?;
    let last_document_date =
        sqlx::query_scalar!(r#"SELECT max(document_date) AS "last: NaiveDate" FROM invoices WHERE state = 'posted'"#)
            .fetch_one(connection)
            .await?;
    Ok(InvoiceInput {
        step,
        customer,
        lines: lines.into_iter().map(|picked| picked.line).collect(),
        orders,
        document_date,
        posting_date,
        rate,
        base: rules.base,
        last_document_date,
        tax_computed: rules.tax_computed,
        taxes: &rules.taxes,
        accounts: &rules.accounts,
        periods: &rules.periods,
        mark_rules: &rules.marks,
    })
}

/// JSON the program wrote itself.
fn read<T: serde::de::DeserializeOwned>(text: &str) -> Result<T> {
    serde_json::from_str(text).map_err(|error| StoreError::Corrupt(error.to_string()))
}
