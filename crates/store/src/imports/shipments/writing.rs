//! Writing planned shipments, a stretch of rows a statement.

use std::collections::BTreeMap;

use sqlx::SqliteConnection;

use super::super::{Progress, TakenOver};
use super::{ELSEWHERE, Plan, Plans, Target};
use crate::Result;
use crate::convert::{json, terms_json};
use crate::rules::Rules;
use crate::writing::Writing;

/// How many rows are written by one statement.
const STRETCH: usize = 1_000;

/// Ids and numbers of what is written, given out from memory: nothing else writes meanwhile.
struct Next {
    order: i64,
    order_line: i64,
    shipment: i64,
    shipment_line: i64,
}

/// Writes the plans: orders, their lines, shipments, their lines, a thousand rows a statement.
pub(in crate::imports) async fn write(
    writing: &mut Writing<'_>,
    rules: &Rules,
    plans: Plans,
    progress: Progress<'_>,
) -> Result<TakenOver> {
    sqlx::query!(
        "INSERT INTO warehouses (code, name, counted) VALUES (?, 'Kept elsewhere', 0) ON CONFLICT DO NOTHING",
        ELSEWHERE
    )
    .execute(&mut **writing)
    .await?;
    let new_orders = plans.plans.iter().filter(|plan| matches!(plan.target, Target::New(_))).count();
    let (order_prefix, mut order_number) = crate::rules::next_numbers(writing, "order", new_orders).await?;
    let (prefix, first) = crate::rules::next_numbers(writing, "shipment", plans.plans.len()).await?;
    let last = sqlx::query!(
        r#"SELECT (SELECT coalesce(max(id), 0) FROM orders) AS "order!: i64", (SELECT coalesce(max(id), 0) FROM order_lines) AS "order_line!: i64",
                  (SELECT coalesce(max(id), 0) FROM shipments) AS "shipment!: i64", (SELECT coalesce(max(id), 0) FROM shipment_lines) AS "shipment_line!: i64""#
    )
    .fetch_one(&mut **writing)
    .await?;
    let mut next = Next {
        order: last.order + 1,
        order_line: last.order_line + 1,
        shipment: last.shipment + 1,
        shipment_line: last.shipment_line + 1,
    };
    let mut rows = Rows::default();
    let (mut done, mut number) = (0, first);
    for plan in &plans.plans {
        rows.add(plan, &mut next, (&order_prefix, &mut order_number), format!("{prefix}{number}"), rules)?;
        number += 1;
        done += plan.lines;
        if rows.shipment_lines.len() >= STRETCH {
            rows.write(writing).await?;
            progress(done);
        }
    }
    rows.write(writing).await?;
    progress(done);
    Ok(TakenOver {
        documents: plans.plans.len(),
        lines: done,
        first: format!("{prefix}{first}"),
        last: format!("{prefix}{}", number - 1),
        confirmed: None,
    })
}

/// Rows that wait to be written together.
#[derive(Default)]
struct Rows {
    orders: Vec<serde_json::Value>,
    order_lines: Vec<serde_json::Value>,
    shipped: BTreeMap<i64, i64>,
    shipments: Vec<serde_json::Value>,
    shipment_lines: Vec<serde_json::Value>,
}

impl Rows {
    fn add(
        &mut self,
        plan: &Plan,
        next: &mut Next,
        (order_prefix, order_number): (&str, &mut i64),
        number: String,
        rules: &Rules,
    ) -> Result<()> {
        let shipment = next.shipment;
        next.shipment += 1;
        let (order, lines): (i64, Vec<(i64, i64)>) = match &plan.target {
            Target::Known(order, lines) => {
                for (line, quantity) in lines {
                    *self.shipped.entry(line.0).or_default() += quantity.scaled();
                }
                (order.0, lines.iter().map(|(line, quantity)| (line.0, quantity.scaled())).collect())
            }
            Target::New(priced) => {
                let order = next.order;
                next.order += 1;
                self.orders.push(serde_json::json!([
                    order,
                    format!("{order_prefix}{order_number}"),
                    plan.customer,
                    plan.theirs,
                    plan.date,
                    plan.currency.code(),
                    terms_json(&plan.terms)?,
                    plan.ship_to,
                    ELSEWHERE,
                    rules.business_date,
                    i64::from(plan.gross_priced),
                ]));
                *order_number += 1;
                let mut lines = Vec::with_capacity(priced.len());
                for (position, line) in priced.iter().enumerate() {
                    let Some(price) = &line.price else { continue };
                    let quantity = line.quantity.scaled();
                    self.order_lines.push(serde_json::json!([
                        next.order_line,
                        order,
                        position,
                        line.item,
                        line.description,
                        quantity,
                        line.unit,
                        line.factor.scaled(),
                        price.unit_price.scaled(),
                        price.list_price.scaled(),
                        price.discount.scaled(),
                        price.discount_reason,
                        price.surcharge.scaled(),
                        price.surcharge_name,
                        json(&price.steps)?,
                        line.tax.code,
                        line.net,
                        ELSEWHERE,
                        line.amount,
                    ]));
                    lines.push((next.order_line, quantity));
                    next.order_line += 1;
                }
                (order, lines)
            }
        };
        self.shipments.push(serde_json::json!([
            shipment,
            number,
            order,
            plan.customer,
            plan.date,
            plan.carrier,
            plan.consignment,
            plan.number,
            ELSEWHERE,
        ]));
        for (position, (line, quantity)) in lines.into_iter().enumerate() {
            self.shipment_lines.push(serde_json::json!([next.shipment_line, shipment, position, line, quantity]));
            next.shipment_line += 1;
        }
        Ok(())
    }

    async fn write(&mut self, connection: &mut SqliteConnection) -> Result<()> {
        let orders = json(&std::mem::take(&mut self.orders))?;
        sqlx::query!(
            "INSERT INTO orders (id, number, customer_id, customer_order_number, order_date, currency, terms, ship_to_id, warehouse, confirmed, confirmed_on, state, gross_priced)
             SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 5, value ->> 6, value ->> 7, value ->> 8, 1, value ->> 9, 'open', value ->> 10
             FROM json_each(?)",
            orders
        )
        .execute(&mut *connection)
        .await?;
        let lines = json(&std::mem::take(&mut self.order_lines))?;
        sqlx::query!(
            "INSERT INTO order_lines (id, order_id, position, item_id, description, ordered_e4, shipped_e4, unit, factor_e4, unit_price_e6,
                    list_price_e6, discount_e6, discount_reason, surcharge_e6, surcharge_name, price_steps, tax_code, net_minor, warehouse, amount_minor)
             SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 5, value ->> 5, value ->> 6, value ->> 7, value ->> 8,
                    value ->> 9, value ->> 10, value ->> 11, value ->> 12, value ->> 13, value ->> 14, value ->> 15, value ->> 16, value ->> 17, value ->> 18
             FROM json_each(?)",
            lines
        )
        .execute(&mut *connection)
        .await?;
        let shipped = json(&std::mem::take(&mut self.shipped).into_iter().collect::<Vec<_>>())?;
        sqlx::query!(
            "UPDATE order_lines SET shipped_e4 = shipped_e4 + gone.quantity
             FROM (SELECT value ->> 0 AS line, value ->> 1 AS quantity FROM json_each(?)) AS gone WHERE order_lines.id = gone.line",
            shipped
        )
        .execute(&mut *connection)
        .await?;
        let shipments = json(&std::mem::take(&mut self.shipments))?;
        // They stand as packed until their lines are there: a posted shipment takes no more.
        sqlx::query!(
            "INSERT INTO shipments (id, number, order_id, customer_id, state, packed_date, carrier, consignment_number, outside_number, warehouse, cost_purpose)
             SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, 'packed', value ->> 4, value ->> 5, value ->> 6, value ->> 7, value ->> 8, 'none'
             FROM json_each(?)",
            shipments
        )
        .execute(&mut *connection)
        .await?;
        let lines = json(&std::mem::take(&mut self.shipment_lines))?;
        sqlx::query!(
            "INSERT INTO shipment_lines (id, shipment_id, position, order_line_id, quantity_e4, unbilled_e4, asked_e4)
             SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 4, value ->> 4 FROM json_each(?)",
            lines
        )
        .execute(&mut *connection)
        .await?;
        sqlx::query!(
            "UPDATE shipment_lines SET tax_code = (SELECT tax_code FROM order_lines WHERE order_lines.id = order_line_id)
             WHERE id IN (SELECT value ->> 0 FROM json_each(?))",
            lines
        )
        .execute(&mut *connection)
        .await?;
        sqlx::query!(
            "UPDATE shipments SET state = 'posted', posting_date = packed_date,
                    (ship_to_id, treatment, certificate, certificate_until) =
                        (SELECT orders.ship_to_id, ship_tos.treatment, ship_tos.certificate, ship_tos.certificate_until
                         FROM orders LEFT JOIN ship_tos ON ship_tos.id = orders.ship_to_id WHERE orders.id = order_id)
             WHERE id IN (SELECT value ->> 0 FROM json_each(?))",
            shipments
        )
        .execute(connection)
        .await?;
        Ok(())
    }
}
