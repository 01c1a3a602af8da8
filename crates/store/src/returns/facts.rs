//! What is known of returns and their lines, for the core to decide on.

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::accounts::Purpose::ShippedCost;
use till_core::fixed::Quantity;
use till_core::ids::{
    CustomerId, DocumentKind, InspectionId, InvoiceId, ItemId, LayerId, ReturnId, ReturnLineId, ReturnStepId,
};
use till_core::marks::Marks;
use till_core::money::Money;
use till_core::returns::{ArrivalCost, GoodsMoved, OnReturn, Origin, Progress, is_live};
use till_core::room::Movement;
use till_core::stock::{Layer, LayerMove};

use super::holding::{StateRow, origin};
use crate::invoices::read;
use crate::{Result, StoreError};

/// A line of a return as a credit memo takes it: none where it points at another line of the invoice.
pub(crate) async fn on_return(
    connection: &mut SqliteConnection,
    line: ReturnLineId,
    (invoice, position): (InvoiceId, usize),
) -> Result<Option<OnReturn>> {
    let position = i64::try_from(position).unwrap_or(i64::MAX);
    let number = sqlx::query_scalar!(
        "SELECT number FROM return_lines JOIN returns ON returns.id = return_id JOIN document_lines ON document_lines.id = document_line_id
         WHERE return_lines.id = ? AND document_id = ? AND document_lines.position = ?",
        line.0,
        invoice.0,
        position
    )
    .fetch_optional(&mut *connection)
    .await?;
    let Some(number) = number else { return Ok(None) };
    Ok(Some(OnReturn { line, number, movements: movements(connection, line).await? }))
}

/// A line of a return of what no document is known of, as a credit memo that stands alone takes it, with its item's code and
/// unit; none where it is not of this customer, or points at a document.
pub(crate) async fn without_document(
    connection: &mut SqliteConnection,
    line: ReturnLineId,
    customer: CustomerId,
) -> Result<Option<(OnReturn, String, String)>> {
    let row = sqlx::query!(
        "SELECT returns.number, items.code, items.unit FROM return_lines JOIN returns ON returns.id = return_id JOIN items ON items.id = item_id
         WHERE return_lines.id = ? AND customer_id = ? AND document_line_id IS NULL AND shipment_line_id IS NULL",
        line.0,
        customer.0
    )
    .fetch_optional(&mut *connection)
    .await?;
    let Some(row) = row else { return Ok(None) };
    let movements = movements(connection, line).await?;
    Ok(Some((OnReturn { line, number: row.number, movements }, row.code, row.unit)))
}

/// What came back of a line and was settled, day by day.
pub(super) async fn movements(connection: &mut SqliteConnection, line: ReturnLineId) -> Result<Vec<Movement>> {
    Ok(sqlx::query!(
        r#"SELECT posting_date AS "date!: NaiveDate", quantity_e4 AS "quantity!: i64" FROM return_line_moves WHERE return_line_id = ?"#,
        line.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| Movement::new(row.date, row.quantity))
    .collect())
}

/// What of a line is in for repair, day by day.
pub(super) async fn in_repair(connection: &mut SqliteConnection, line: ReturnLineId) -> Result<Vec<Movement>> {
    Ok(sqlx::query!(
        r#"SELECT posting_date AS "date!: NaiveDate", quantity_e4 AS "quantity!: i64" FROM return_repair_moves WHERE return_line_id = ?"#,
        line.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| Movement::new(row.date, row.quantity))
    .collect())
}

/// What a customer has of what a line points at, day by day: of a billed line less what came back of it on any return, and
/// what went out again; of a shipment line what is out and not billed; of what no document is known, what was authorized.
pub(super) async fn with_customer(connection: &mut SqliteConnection, line: &Line) -> Result<Vec<Movement>> {
    let (billed, shipped, alone) = match line.origin {
        Origin::Billed(id) => (Some(id.0), None, None),
        Origin::Shipped(id) => (None, Some(id.0), None),
        Origin::Unknown(_) => (None, None, Some(line.id.0)),
    };
    let rows = sqlx::query!(
        r#"SELECT posting_date AS "date!: NaiveDate", -moves.quantity_e4 AS "quantity!: i64"
           FROM return_lines JOIN return_goods_moves AS moves ON return_line_id = return_lines.id
           WHERE return_lines.document_line_id = ?1 OR return_lines.id = ?3 OR (return_lines.shipment_line_id = ?2 AND document_line_id IS NULL)
           UNION ALL
           SELECT invoices.posting_date, -billed.quantity_e4 FROM invoice_lines AS billed JOIN invoices ON invoices.id = billed.invoice_id
           WHERE billed.shipment_line_id = ?2 AND invoices.state = 'posted'
           UNION ALL
           SELECT memo.posting_date, billed.quantity_e4 FROM invoice_lines AS billed JOIN invoices ON invoices.id = billed.invoice_id
           JOIN documents AS memo ON memo.id = invoices.cancelled_by WHERE billed.shipment_line_id = ?2"#,
        billed,
        shipped,
        alone
    )
    .fetch_all(&mut *connection)
    .await?;
    let all = match shipped {
        Some(id) => {
            sqlx::query_scalar!("SELECT quantity_e4 FROM shipment_lines WHERE id = ?", id).fetch_one(connection).await?
        }
        None => line.billed.scaled(),
    };
    let first = Movement::new(line.left_on, all);
    Ok(std::iter::once(first).chain(rows.into_iter().map(|row| Movement::new(row.date, row.quantity))).collect())
}

/// The head of a return.
pub(super) struct Head {
    pub(super) number: String,
    pub(super) customer: CustomerId,
    pub(super) expires_on: NaiveDate,
    pub(super) warehouse: String,
    pub(super) closed_on: Option<NaiveDate>,
    pub(super) version: i64,
}

pub(super) async fn head(connection: &mut SqliteConnection, id: ReturnId) -> Result<Head> {
    let row = sqlx::query!(
        r#"SELECT number, customer_id, expires_on AS "expires_on: NaiveDate", warehouse,
                  closed_on AS "closed_on: NaiveDate", version FROM returns WHERE id = ?"#,
        id.0
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Return, id))?;
    Ok(Head {
        number: row.number,
        customer: CustomerId(row.customer_id),
        expires_on: row.expires_on,
        warehouse: row.warehouse,
        closed_on: row.closed_on,
        version: row.version,
    })
}

impl Head {
    /// Refuses what was seen in another version.
    pub(super) fn is(&self, version: i64) -> Result<()> {
        if self.version == version {
            return Ok(());
        }
        Err(StoreError::Stale { what: self.number.clone(), current: self.version })
    }
}

/// A line of a return with the goods it is about.
pub(super) struct Line {
    pub(super) id: ReturnLineId,
    pub(super) origin: Origin,
    pub(super) shipment_line: Option<i64>,
    pub(super) item: ItemId,
    pub(super) code: String,
    pub(super) unit: String,
    pub(super) stock_unit: String,
    pub(super) class: Option<String>,
    pub(super) marks: Marks,
    pub(super) factor: Quantity,
    pub(super) progress: Progress,
    /// Billed, or not billed yet, or authorized where no document is known.
    pub(super) billed: Quantity,
    pub(super) credited: Quantity,
    pub(super) left_on: NaiveDate,
    pub(super) closed_on: Option<NaiveDate>,
    pub(super) expires_on: NaiveDate,
    /// What one cost, in base currency, where someone said so.
    pub(super) unit_cost: Option<Money>,
}

/// The lines of a return.
pub(super) async fn lines(connection: &mut SqliteConnection, id: ReturnId) -> Result<Vec<Line>> {
    let rows = sqlx::query!(
        r#"SELECT state.id AS "id!", state.document_line_id, origin.shipment_line_id AS "shipment_line_id: i64", state.shipment_line_id AS sent, state.item_id AS "item!", items.code AS "code!",
                  origin.unit AS "unit!: String", items.unit AS "stock_unit!", items.class AS "class?", origin.marks AS "marks!: String", factor_e4 AS "factor!",
                  authorized_e4 AS "authorized!", received_e4 AS "received!: i64", sent_back_e4 AS "sent_back!: i64",
                  replaced_e4 AS "replaced!: i64", credited_e4 AS "credited_here!: i64",
                  for_repair_e4 AS "for_repair!: i64", repaired_e4 AS "repaired!: i64", given_back_e4 AS "given_back!: i64", kept_e4 AS "kept!: i64", origin.sold_e4 AS "sold!: i64",
                  (SELECT coalesce(-sum(quantity_e4), 0) FROM document_lines WHERE credits_line_id = state.document_line_id) AS "credited!: i64",
                  origin.left_on AS "left_on!: NaiveDate", returns.closed_on AS "closed_on: NaiveDate", returns.expires_on AS "expires_on!: NaiveDate",
                  (SELECT unit_cost_minor FROM return_lines WHERE return_lines.id = state.id) AS "unit_cost: i64"
           FROM return_line_state AS state JOIN return_origins AS origin ON origin.return_line_id = state.id
           JOIN items ON items.id = state.item_id JOIN returns ON returns.id = state.return_id
           WHERE state.return_id = ? ORDER BY state.position"#,
        id.0
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            let state = StateRow {
                authorized_e4: row.authorized,
                received_e4: row.received,
                sent_back_e4: row.sent_back,
                replaced_e4: row.replaced,
                credited_e4: row.credited_here,
                for_repair_e4: row.for_repair,
                repaired_e4: row.repaired,
                given_back_e4: row.given_back,
                kept_e4: row.kept,
            };
            let origin = origin(row.document_line_id, row.sent, row.item);
            // Where no document is known, what was credited of the line was credited of what it points at.
            let credited = if matches!(origin, Origin::Unknown(_)) { row.credited_here } else { row.credited };
            Ok(Line {
                id: ReturnLineId(row.id),
                origin,
                shipment_line: row.shipment_line_id,
                item: ItemId(row.item),
                code: row.code,
                unit: row.unit,
                stock_unit: row.stock_unit,
                class: row.class,
                marks: read(&row.marks)?,
                factor: Quantity::from_scaled(row.factor),
                progress: state.progress(),
                billed: Quantity::from_scaled(row.sold),
                credited: Quantity::from_scaled(credited),
                left_on: row.left_on,
                closed_on: row.closed_on,
                expires_on: row.expires_on,
                unit_cost: row.unit_cost.map(Money),
            })
        })
        .collect()
}

/// What left with the goods of a line, came back over all returns and went out again, in its order. What was given back
/// since did not leave. Nothing where no document is known.
pub(super) async fn moved(connection: &mut SqliteConnection, line: &Line) -> Result<Vec<GoodsMoved>> {
    let alone = match line.origin {
        Origin::Billed(id) if line.shipment_line.is_none() => Some(id.0),
        _ => None,
    };
    let left = sqlx::query!(
        r#"SELECT sum(quantity_e4) AS "quantity!: i64", sum(cost_minor) AS "cost!: i64" FROM stock_moves
           WHERE shipment_line_id = ?1 OR document_line_id = ?2 GROUP BY layer_id HAVING sum(quantity_e4) > 0 ORDER BY min(id)"#,
        line.shipment_line,
        alone
    )
    .fetch_all(&mut *connection)
    .await?;
    let steps = sqlx::query!(
        r#"SELECT return_steps.kind AS "kind!", stock_e4 AS "quantity!", return_step_lines.cost_minor AS "cost!"
           FROM (SELECT return_lines.id AS line FROM document_lines AS billed JOIN return_lines ON document_line_id = billed.id
                 WHERE billed.shipment_line_id = ?1 OR billed.id = ?2
                 UNION SELECT id FROM return_lines WHERE shipment_line_id = ?1)
           JOIN return_step_lines ON return_step_lines.return_line_id = line JOIN return_steps ON return_steps.id = step_id
           WHERE reversed_on IS NULL
             -- A wrong item is another's goods; what is in for repair stays the customer's.
             AND (return_steps.kind IN ('received', 'kept', 'replaced') OR outcome = 'send_back')
           ORDER BY return_steps.id, return_step_lines.id"#,
        line.shipment_line,
        alone
    )
    .fetch_all(connection)
    .await?;
    let left = left.into_iter().map(|row| GoodsMoved::Out(Quantity::from_scaled(row.quantity), Money(row.cost)));
    let steps = steps.into_iter().map(|row| {
        let (quantity, cost) = (Quantity::from_scaled(row.quantity), Money(row.cost));
        if matches!(row.kind.as_str(), "received" | "kept") {
            GoodsMoved::Back(quantity, cost)
        } else {
            GoodsMoved::Out(quantity, cost)
        }
    });
    Ok(left.chain(steps).collect())
}

/// What goods of a line cost that arrive: what they left with; of what is not billed and whose cost waits for that, its share;
/// of what no document is known, what was said, or what the newest goods of the item cost on that day.
pub(super) async fn arrival_cost(
    connection: &mut SqliteConnection,
    line: &Line,
    date: NaiveDate,
) -> Result<ArrivalCost> {
    match line.origin {
        Origin::Billed(_) => Ok(ArrivalCost::AsTheyLeft),
        Origin::Shipped(id) => {
            let waiting = ShippedCost.word();
            let row = sqlx::query!(
                r#"SELECT unbilled_e4 + drafted_e4 AS "waits!: i64", cost_minor - cost_billed_minor - returned_cost_minor AS "cost!: i64"
                   FROM shipment_lines JOIN shipments ON shipments.id = shipment_id WHERE shipment_lines.id = ? AND cost_purpose = ?"#,
                id.0,
                waiting
            )
            .fetch_optional(connection)
            .await?;
            Ok(row.map_or(ArrivalCost::AsTheyLeft, |row| {
                ArrivalCost::Waiting(Quantity::from_scaled(row.waits), Money(row.cost))
            }))
        }
        Origin::Unknown(item) => {
            if let Some(cost) = line.unit_cost {
                return Ok(ArrivalCost::Said(Quantity::ONE, cost));
            }
            let newest = sqlx::query!(
                "SELECT quantity_e4, cost_minor FROM stock_layers WHERE item_id = ? AND quantity_e4 > 0 ORDER BY posting_date <= ? DESC, posting_date DESC, id DESC LIMIT 1",
                item.0,
                date
            )
            .fetch_optional(connection)
            .await?;
            Ok(ArrivalCost::Newest(newest.map(|row| (Quantity::from_scaled(row.quantity_e4), Money(row.cost_minor)))))
        }
    }
}

/// Which of the inspection place's layers to read.
#[derive(Clone, Copy)]
pub(super) enum Layers {
    /// What waits of a line.
    OfLine(ReturnLineId),
    /// What came with a step.
    OfStep(ReturnStepId),
}

/// Layers of the inspection place, asked about for a day.
pub(super) async fn layers(
    connection: &mut SqliteConnection,
    which: Layers,
    date: NaiveDate,
) -> Result<Vec<(ReturnLineId, Quantity, Layer)>> {
    let (line, step) = match which {
        Layers::OfLine(line) => (Some(line.0), None),
        Layers::OfStep(step) => (None, Some(step.0)),
    };
    let rows = sqlx::query!(
        r#"SELECT id, return_line_id, quantity_e4, cost_minor, remaining_e4, remaining_cost_minor, posting_date AS "date: NaiveDate" FROM inspection_layers
           WHERE (return_line_id = ?1 AND remaining_e4 > 0) OR step_id = ?2 ORDER BY id"#,
        line,
        step
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut found = Vec::new();
    for row in rows {
        let moves = sqlx::query!(
            r#"SELECT posting_date AS "date: NaiveDate", quantity_e4, cost_minor FROM inspection_moves WHERE layer_id = ? AND posting_date > ?"#,
            row.id,
            date
        )
        .fetch_all(&mut *connection)
        .await?;
        let mut later: Vec<LayerMove> = moves
            .into_iter()
            .map(|moved| LayerMove {
                date: moved.date,
                quantity: Quantity::from_scaled(-moved.quantity_e4),
                cost: Money(-moved.cost_minor),
            })
            .collect();
        if row.date > date {
            let quantity = Quantity::from_scaled(row.quantity_e4);
            later.push(LayerMove { date: row.date, quantity, cost: Money(row.cost_minor) });
        }
        let layer = Layer {
            id: LayerId(row.id),
            remaining: Quantity::from_scaled(row.remaining_e4),
            remaining_cost: Money(row.remaining_cost_minor),
            later,
        };
        found.push((ReturnLineId(row.return_line_id), Quantity::from_scaled(row.quantity_e4), layer));
    }
    Ok(found)
}

/// The layer of the inspection place behind a layer asked about.
pub(super) const fn inspection(layer: &Layer) -> InspectionId {
    InspectionId(layer.id.0)
}

/// What is expected back of an item, and what of it waits for inspection, in stock units.
pub(crate) async fn of_item(connection: &mut SqliteConnection, item: ItemId) -> Result<(Quantity, Quantity)> {
    let today = crate::rules::load(connection).await?.business_date;
    let rows = sqlx::query!(
        r#"SELECT closed_on AS "closed_on: NaiveDate", expires_on AS "expires_on: NaiveDate", factor_e4, authorized_e4, received_e4 AS "received!: i64",
                  for_repair_e4 AS "for_repair!: i64", kept_e4 AS "kept!: i64", waiting_e4 AS "waiting!: i64"
           FROM return_line_state JOIN returns ON returns.id = return_id WHERE item_id = ?"#,
        item.0
    )
    .fetch_all(connection)
    .await?;
    let (mut expected, mut waiting) = (0, 0);
    for row in rows {
        let progress = Progress {
            authorized: Quantity::from_scaled(row.authorized_e4),
            received: Quantity::from_scaled(row.received),
            for_repair: Quantity::from_scaled(row.for_repair),
            kept: Quantity::from_scaled(row.kept),
            ..Progress::default()
        };
        let left = progress.expected(is_live(row.closed_on, row.expires_on, today));
        let factor = Quantity::from_scaled(row.factor_e4);
        expected += till_core::units::in_stock_units(left, factor).map_or(0, Quantity::scaled);
        waiting += row.waiting;
    }
    Ok((Quantity::from_scaled(expected), Quantity::from_scaled(waiting)))
}
