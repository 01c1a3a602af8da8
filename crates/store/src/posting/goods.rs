//! Quantities that are billed, layers of stock and what leaves them, packaging at customers.

use std::collections::BTreeMap;

use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, EntryId, OrderLineId, ShipmentLineId};
use till_core::posting::MovedWith;
use till_core::returns::follows;

use super::Of;
use crate::convert::json;
use crate::{Result, stock};

pub(super) async fn write(
    connection: &mut SqliteConnection,
    postings: &[Of<'_>],
    entries: &[Vec<EntryId>],
) -> Result<()> {
    bill(connection, postings).await?;
    give_back(connection, postings).await?;
    lay_in(connection, postings, entries).await?;
    move_stock(connection, postings).await?;
    lay_aside(connection, postings).await?;
    move_inspected(connection, postings).await?;
    move_containers(connection, postings).await
}

/// What was reserved by a draft is billed, and the cost that waited for it has followed; what is given back
/// is unbilled again.
async fn bill(connection: &mut SqliteConnection, postings: &[Of<'_>]) -> Result<()> {
    // What is billed, what of it stood on drafts, what is unbilled again, its cost; of an order line what is
    // billed, and of that, where it needs no shipment, what stood on drafts and what is done with it.
    let mut shipped: BTreeMap<ShipmentLineId, [i64; 4]> = BTreeMap::new();
    let mut ordered: BTreeMap<OrderLineId, [i64; 3]> = BTreeMap::new();
    for billed in postings.iter().flat_map(|(_, posting)| &posting.billed) {
        let quantity = billed.quantity.scaled();
        let order_line = ordered.entry(billed.order_line).or_default();
        order_line[0] += quantity;
        match billed.shipment_line {
            Some(id) => {
                let line = shipped.entry(id).or_default();
                for (sum, more) in line.iter_mut().zip([quantity, quantity.max(0), (-quantity).max(0), billed.cost.0]) {
                    *sum += more;
                }
            }
            None => {
                order_line[1] += quantity.max(0);
                order_line[2] += quantity;
            }
        }
    }
    if ordered.is_empty() {
        return Ok(());
    }
    let done: Vec<(OrderLineId, Quantity)> = ordered
        .iter()
        .filter(|(_, moved)| moved[2] > 0)
        .map(|(line, moved)| (*line, Quantity::from_scaled(moved[2])))
        .collect();
    let shipped = json(&shipped.into_iter().collect::<Vec<_>>())?;
    sqlx::query!(
        "UPDATE shipment_lines SET billed_e4 = billed_e4 + (new.value ->> '$[1][0]'), drafted_e4 = drafted_e4 - (new.value ->> '$[1][1]'),
                unbilled_e4 = unbilled_e4 + (new.value ->> '$[1][2]'), cost_billed_minor = cost_billed_minor + (new.value ->> '$[1][3]'),
                unbilled_minor = CASE WHEN new.value ->> '$[1][2]' > 0 THEN NULL ELSE unbilled_minor END
         FROM jsonb_each(?) AS new WHERE shipment_lines.id = new.value ->> '$[0]'",
        shipped
    )
    .execute(&mut *connection)
    .await?;
    follow(connection, &shipped).await?;
    stock::trim_aside(connection, &done).await?;
    let ordered = json(&ordered.into_iter().collect::<Vec<_>>())?;
    // Work without a shipment is done as it is billed.
    sqlx::query!(
        "UPDATE order_lines SET billed_e4 = billed_e4 + (new.value ->> '$[1][0]'), drafted_e4 = drafted_e4 - (new.value ->> '$[1][1]'),
                shipped_e4 = shipped_e4 + (new.value ->> '$[1][2]')
         FROM jsonb_each(?) AS new WHERE order_lines.id = new.value ->> '$[0]'",
        ordered
    )
    .execute(&mut *connection)
    .await?;
    Ok(())
}

/// What came back before it was billed is unbilled no more, and its order has it to ship again.
async fn give_back(connection: &mut SqliteConnection, postings: &[Of<'_>]) -> Result<()> {
    let rows: Vec<_> = postings
        .iter()
        .flat_map(|(_, posting)| &posting.given_back)
        .map(|back| (back.shipment_line, back.quantity.scaled(), back.released))
        .collect();
    if rows.is_empty() {
        return Ok(());
    }
    let rows = json(&rows)?;
    sqlx::query!(
        "UPDATE shipment_lines SET unbilled_e4 = unbilled_e4 - (new.value ->> 1), returned_e4 = returned_e4 + (new.value ->> 1),
                returned_cost_minor = returned_cost_minor + (new.value ->> 2), unbilled_minor = NULL
         FROM jsonb_each(?) AS new WHERE shipment_lines.id = new.value ->> 0",
        rows
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!(
        "UPDATE order_lines SET shipped_e4 = shipped_e4 - back.quantity,
                -- No more is reserved than is to ship, where a receipt is reversed.
                allocated_e4 = min(allocated_e4, max(0, ordered_e4 - cancelled_e4 - shipped_e4 + back.quantity))
         FROM (SELECT order_line_id, sum(new.value ->> 1) AS quantity
               FROM jsonb_each(?) AS new JOIN shipment_lines ON shipment_lines.id = new.value ->> 0 GROUP BY 1) AS back
         WHERE order_lines.id = back.order_line_id",
        rows
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Returns of goods that were not billed when they were authorized follow them onto the newest line that bills them.
async fn follow(connection: &mut SqliteConnection, shipped: &str) -> Result<()> {
    let rows = sqlx::query!(
        r#"SELECT return_lines.id AS "line!", return_lines.quantity_e4 AS "expected!", billed.id AS "billed_on!", billed.quantity_e4 AS "billed!",
                  unbilled_e4 + drafted_e4 AS "left!: i64",
                  EXISTS (SELECT 1 FROM return_step_lines WHERE return_line_id = return_lines.id) AS "moved!: bool"
           FROM return_lines JOIN shipment_lines ON shipment_lines.id = return_lines.shipment_line_id
           JOIN invoice_lines AS billed ON billed.shipment_line_id = shipment_lines.id JOIN invoices ON invoices.id = billed.invoice_id
           WHERE return_lines.document_line_id IS NULL AND invoices.cancelled_by IS NULL
             AND return_lines.shipment_line_id IN (SELECT value ->> '$[0]' FROM jsonb_each(?)) ORDER BY billed.id"#,
        shipped
    )
    .fetch_all(&mut *connection)
    .await?;
    let quantity = Quantity::from_scaled;
    let onto: BTreeMap<i64, i64> = rows
        .into_iter()
        .filter(|row| follows(quantity(row.expected), quantity(row.billed), quantity(row.left), row.moved))
        .map(|row| (row.line, row.billed_on))
        .collect();
    for (line, billed_on) in onto {
        sqlx::query!("UPDATE return_lines SET document_line_id = ? WHERE id = ?", billed_on, line)
            .execute(&mut *connection)
            .await?;
    }
    Ok(())
}

/// New layers: of goods that came in, of a count, of an opening.
async fn lay_in(connection: &mut SqliteConnection, postings: &[Of<'_>], entries: &[Vec<EntryId>]) -> Result<()> {
    let mut rows = Vec::new();
    for ((document, posting), entries) in postings.iter().zip(entries) {
        let only = |kind: DocumentKind| (document.kind == kind).then_some(document.id);
        let adjustment = only(DocumentKind::Adjustment);
        for layer in &posting.layers {
            let entry = entries.first().filter(|_| adjustment.is_none());
            rows.push((
                (only(DocumentKind::Intake), layer.item, &layer.warehouse, layer.date),
                (layer.quantity.scaled(), layer.cost),
                (entry, adjustment, layer.step),
            ));
        }
    }
    if rows.is_empty() {
        return Ok(());
    }
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO stock_layers (id, item_id, warehouse, posting_date, quantity_e4, cost_minor, remaining_e4, remaining_cost_minor, entry_id,
                                   adjustment_id, return_step_id)
         SELECT value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[1][0]',
                value ->> '$[1][1]', value ->> '$[1][0]', value ->> '$[1][1]', value ->> '$[2][0]', value ->> '$[2][1]', value ->> '$[2][2]'
         FROM jsonb_each(?)",
        rows
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Goods leave their layers, or go back into them.
async fn move_stock(connection: &mut SqliteConnection, postings: &[Of<'_>]) -> Result<()> {
    let mut rows = Vec::new();
    for (document, posting) in postings {
        for moved in &posting.stock {
            let what = (moved.layer, moved.quantity.scaled(), moved.cost);
            let mut step = None;
            let (shipment_line, adjustment, line, intake) = match moved.with {
                MovedWith::ShipmentLine(id) => (Some(id), None, None, None),
                MovedWith::Count => (None, Some(document.id), None, None),
                MovedWith::ReturnStep(id) => {
                    step = Some(id);
                    (None, None, None, None)
                }
                MovedWith::DocumentLine { invoice, line } => {
                    (None, None, Some((invoice.map_or(document.id, |id| id.0), line)), None)
                }
                MovedWith::Intake => (None, None, None, Some(moved.layer)),
            };
            rows.push((what, moved.date, shipment_line, adjustment, line, intake, step));
        }
    }
    if rows.is_empty() {
        return Ok(());
    }
    let rows = json(&rows)?;
    sqlx::query!(
        "UPDATE stock_layers SET remaining_e4 = remaining_e4 - gone.quantity, remaining_cost_minor = remaining_cost_minor - gone.cost
         FROM (SELECT value ->> '$[0][0]' AS layer, sum(value ->> '$[0][1]') AS quantity, sum(value ->> '$[0][2]') AS cost
               FROM jsonb_each(?) GROUP BY 1) AS gone
         WHERE stock_layers.id = gone.layer",
        rows
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!(
        "INSERT INTO stock_moves (layer_id, quantity_e4, cost_minor, posting_date, shipment_line_id, adjustment_id, document_line_id, intake_id,
                return_step_id)
         SELECT value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[1]', value ->> '$[2]', value ->> '$[3]',
                (SELECT id FROM document_lines WHERE document_id = value ->> '$[4][0]' AND position = value ->> '$[4][1]'), value ->> '$[5]',
                value ->> '$[6]'
         FROM jsonb_each(?)",
        rows
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Returned goods come to the inspection place.
async fn lay_aside(connection: &mut SqliteConnection, postings: &[Of<'_>]) -> Result<()> {
    let rows: Vec<_> = postings
        .iter()
        .flat_map(|(_, posting)| &posting.inspection)
        .map(|new| (new.step, new.line, new.item, &new.warehouse, new.date, new.quantity.scaled(), new.cost))
        .collect();
    if rows.is_empty() {
        return Ok(());
    }
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO inspection_layers (step_id, return_line_id, item_id, warehouse, posting_date, quantity_e4, cost_minor, remaining_e4,
                remaining_cost_minor)
         SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 5, value ->> 6, value ->> 5, value ->> 6
         FROM jsonb_each(?)",
        rows
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Goods leave the inspection place, or go back there.
async fn move_inspected(connection: &mut SqliteConnection, postings: &[Of<'_>]) -> Result<()> {
    let rows: Vec<_> = postings
        .iter()
        .flat_map(|(_, posting)| &posting.inspected)
        .map(|moved| (moved.inspection, moved.step, moved.date, moved.quantity.scaled(), moved.cost))
        .collect();
    if rows.is_empty() {
        return Ok(());
    }
    let rows = json(&rows)?;
    sqlx::query!(
        "UPDATE inspection_layers SET remaining_e4 = remaining_e4 - gone.quantity, remaining_cost_minor = remaining_cost_minor - gone.cost
         FROM (SELECT value ->> 0 AS layer, sum(value ->> 3) AS quantity, sum(value ->> 4) AS cost FROM jsonb_each(?) GROUP BY 1) AS gone
         WHERE inspection_layers.id = gone.layer",
        rows
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!(
        "INSERT INTO inspection_moves (layer_id, step_id, posting_date, quantity_e4, cost_minor)
         SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4 FROM jsonb_each(?)",
        rows
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Returnable packaging is at the customer once it is billed, until it comes back.
async fn move_containers(connection: &mut SqliteConnection, postings: &[Of<'_>]) -> Result<()> {
    let mut rows = Vec::new();
    for (document, posting) in postings {
        let only = |kind: DocumentKind| (document.kind == kind).then_some(document.id);
        for moved in &posting.containers {
            let invoice = moved.canceled.map(|id| id.0).or(only(DocumentKind::Invoice));
            rows.push((
                (moved.customer, moved.item, moved.date, moved.quantity.scaled(), moved.amount),
                invoice,
                only(DocumentKind::ContainerReturn),
            ));
        }
    }
    if rows.is_empty() {
        return Ok(());
    }
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO container_moves (customer_id, item_id, posting_date, quantity_e4, amount_minor, invoice_id, container_return_id)
         SELECT value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[0][4]',
                value ->> '$[1]', value ->> '$[2]' FROM jsonb_each(?)",
        rows
    )
    .execute(connection)
    .await?;
    Ok(())
}
