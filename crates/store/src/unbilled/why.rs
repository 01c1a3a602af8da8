//! Why an order is not in the list.

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::ids::{DocumentKind, OrderId};
use till_core::invoice::whereabouts::{OrderBilling, Whereabouts, document, whereabouts};
use till_core::order::{LineProgress, OrderState};

use crate::{Result, StoreError};

/// Where the billing of an order stands, asked for by its number, the customer's number of it, or
/// the number of one of its shipments; nothing where there is no such thing.
///
/// # Errors
/// Where the database cannot be read.
pub async fn why(connection: &mut SqliteConnection, number: &str) -> Result<Vec<Whereabouts>> {
    let number = number.trim();
    let ids = sqlx::query_scalar!(
        r#"SELECT DISTINCT orders.id AS "id!" FROM orders LEFT JOIN shipments ON shipments.order_id = orders.id
           WHERE orders.number = ?1 COLLATE NOCASE OR customer_order_number = ?1 COLLATE NOCASE OR shipments.number = ?1 COLLATE NOCASE
              OR outside_number = ?1 COLLATE NOCASE ORDER BY orders.id DESC LIMIT 5"#,
        number
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut answers = Vec::new();
    for id in ids {
        answers.extend(whereabouts(&billing_of(connection, OrderId(id)).await?));
    }
    Ok(answers)
}

async fn billing_of(connection: &mut SqliteConnection, id: OrderId) -> Result<OrderBilling> {
    let head =
        sqlx::query!(r#"SELECT number, state, promised_date AS "promised: NaiveDate" FROM orders WHERE id = ?"#, id.0)
            .fetch_one(&mut *connection)
            .await?;
    let lines = crate::orders::facts(connection, &[id]).await?.pop();
    let lines: Vec<LineProgress> = lines.into_iter().flat_map(|facts| facts.lines).map(|(_, line)| line).collect();
    let shipments = sqlx::query!(
        r#"SELECT shipments.id, number, state,
                  EXISTS (SELECT 1 FROM shipment_lines WHERE shipment_id = shipments.id AND unbilled_e4 > 0) AS "unbilled!: bool"
           FROM shipments WHERE order_id = ? ORDER BY shipments.id"#,
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let invoices = sqlx::query!(
        r#"SELECT DISTINCT invoices.id AS "id!", invoices.number, invoices.state, document_date AS "date: NaiveDate", cancelled_by,
                  run_id, billing_runs.name AS "run?"
           FROM invoice_lines JOIN invoices ON invoices.id = invoice_id
           LEFT JOIN shipment_lines ON shipment_lines.id = shipment_line_id
           JOIN order_lines ON order_lines.id = coalesce(invoice_lines.order_line_id, shipment_lines.order_line_id)
           LEFT JOIN billing_runs ON billing_runs.id = run_id
           WHERE order_id = ? ORDER BY invoices.id"#,
        id.0
    )
    .fetch_all(connection)
    .await?;
    let mut facts = OrderBilling {
        order: document(DocumentKind::Order, id.0, head.number),
        state: OrderState::of(&head.state)
            .ok_or_else(|| StoreError::Corrupt(format!("an order that is {}", head.state)))?,
        lines,
        underway: Vec::new(),
        drafts: Vec::new(),
        invoices: Vec::new(),
        unbilled: Vec::new(),
        promised: head.promised,
    };
    for row in shipments {
        let shipment = document(DocumentKind::Shipment, row.id, row.number);
        match row.state.as_str() {
            "picking" | "packed" => facts.underway.push(shipment),
            "posted" if row.unbilled => facts.unbilled.push(shipment),
            _ => {}
        }
    }
    for row in invoices {
        match (row.number, row.date) {
            (Some(number), Some(date)) if row.state == "posted" => {
                if row.cancelled_by.is_none() {
                    facts.invoices.push((document(DocumentKind::Invoice, row.id, number), date));
                }
            }
            _ => facts.drafts.push((document(DocumentKind::Invoice, row.id, format!("draft {}", row.id)), row.run)),
        }
    }
    Ok(facts)
}
