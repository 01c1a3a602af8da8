//! What is known of returns and their lines, for the core to decide on.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{
    CustomerId, DocumentKind, InspectionId, InvoiceId, ItemId, LayerId, ReturnId, ReturnLineId, ReturnStepId,
};
use till_core::marks::Marks;
use till_core::money::Money;
use till_core::returns::{GoodsMoved, OnReturn, Progress, is_live};
use till_core::room::Movement;
use till_core::stock::{Layer, LayerMove};

use crate::convert::json;
use crate::invoices::read;
use crate::rules::Rules;
use crate::{Result, StoreError};

/// A row of `return_line_state`.
pub(super) struct StateRow {
    pub(super) authorized_e4: i64,
    pub(super) received_e4: i64,
    pub(super) sent_back_e4: i64,
    pub(super) replaced_e4: i64,
    pub(super) credited_e4: i64,
    pub(super) for_repair_e4: i64,
    pub(super) repaired_e4: i64,
}

impl StateRow {
    pub(super) fn progress(&self) -> Progress {
        let quantity = Quantity::from_scaled;
        Progress {
            authorized: quantity(self.authorized_e4),
            received: quantity(self.received_e4),
            sent_back: quantity(self.sent_back_e4),
            replaced: quantity(self.replaced_e4),
            credited: quantity(self.credited_e4),
            for_repair: quantity(self.for_repair_e4),
            repaired: quantity(self.repaired_e4),
        }
    }
}

/// What returns hold of lines of documents, on the business date: expected, or back and not credited.
pub(super) async fn held(
    connection: &mut SqliteConnection,
    rules: &Rules,
    lines: &[i64],
) -> Result<BTreeMap<i64, Quantity>> {
    let lines = json(&lines)?;
    let rows = sqlx::query!(
        r#"SELECT document_line_id, closed_on AS "closed_on: NaiveDate", expires_on AS "expires_on: NaiveDate", authorized_e4,
                  received_e4 AS "received!: i64", sent_back_e4 AS "sent_back!: i64", replaced_e4 AS "replaced!: i64", credited_e4 AS "credited!: i64",
                  for_repair_e4 AS "for_repair!: i64", repaired_e4 AS "repaired!: i64"
           FROM return_line_state JOIN returns ON returns.id = return_id
           WHERE document_line_id IN (SELECT value FROM json_each(?))"#,
        lines
    )
    .fetch_all(connection)
    .await?;
    let mut held: BTreeMap<i64, Quantity> = BTreeMap::new();
    for row in rows {
        let state = StateRow {
            authorized_e4: row.authorized_e4,
            received_e4: row.received,
            sent_back_e4: row.sent_back,
            replaced_e4: row.replaced,
            credited_e4: row.credited,
            for_repair_e4: row.for_repair,
            repaired_e4: row.repaired,
        };
        let live = is_live(row.closed_on, row.expires_on, rules.business_date);
        let sum = held.entry(row.document_line_id).or_default();
        *sum = Quantity::from_scaled(sum.scaled() + state.progress().held(live).scaled());
    }
    Ok(held)
}

/// What returns hold of the lines of an invoice, by position.
pub(crate) async fn held_of(
    connection: &mut SqliteConnection,
    rules: &Rules,
    invoice: InvoiceId,
) -> Result<BTreeMap<usize, Quantity>> {
    let lines = sqlx::query!(
        r#"SELECT id, position FROM document_lines WHERE document_id = ? AND id IN (SELECT document_line_id FROM return_lines)"#,
        invoice.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let ids: Vec<i64> = lines.iter().map(|line| line.id).collect();
    let held = held(connection, rules, &ids).await?;
    Ok(lines
        .into_iter()
        .filter_map(|line| Some((usize::try_from(line.position).ok()?, *held.get(&line.id)?)))
        .collect())
}

/// Numbers of the returns that hold something of an invoice.
pub(crate) async fn holding(
    connection: &mut SqliteConnection,
    rules: &Rules,
    invoice: InvoiceId,
) -> Result<Vec<String>> {
    let rows = sqlx::query!(
        r#"SELECT returns.number AS "number!", closed_on AS "closed_on: NaiveDate", expires_on AS "expires_on!: NaiveDate", authorized_e4 AS "authorized!",
                  received_e4 AS "received!: i64", sent_back_e4 AS "sent_back!: i64", replaced_e4 AS "replaced!: i64", credited_e4 AS "credited!: i64",
                  for_repair_e4 AS "for_repair!: i64", repaired_e4 AS "repaired!: i64"
           FROM return_line_state AS line JOIN returns ON returns.id = line.return_id JOIN document_lines ON document_lines.id = line.document_line_id
           WHERE document_id = ? ORDER BY returns.id"#,
        invoice.0
    )
    .fetch_all(connection)
    .await?;
    let mut numbers: Vec<String> = Vec::new();
    for row in rows {
        let state = StateRow {
            authorized_e4: row.authorized,
            received_e4: row.received,
            sent_back_e4: row.sent_back,
            replaced_e4: row.replaced,
            credited_e4: row.credited,
            for_repair_e4: row.for_repair,
            repaired_e4: row.repaired,
        };
        let live = is_live(row.closed_on, row.expires_on, rules.business_date);
        if state.progress().held(live).is_positive() && !numbers.contains(&row.number) {
            numbers.push(row.number);
        }
    }
    Ok(numbers)
}

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

/// What a customer has of a billed line, day by day: less what came back of it on any return, and what went out again.
pub(super) async fn with_customer(connection: &mut SqliteConnection, line: &Line) -> Result<Vec<Movement>> {
    let rows = sqlx::query!(
        r#"SELECT posting_date AS "date!: NaiveDate", return_goods_moves.quantity_e4 AS "quantity!: i64"
           FROM return_goods_moves JOIN return_lines ON return_lines.id = return_line_id WHERE document_line_id = ?"#,
        line.document_line
    )
    .fetch_all(connection)
    .await?;
    let billed = Movement::new(line.left_on, line.billed.scaled());
    Ok(std::iter::once(billed).chain(rows.into_iter().map(|row| Movement::new(row.date, -row.quantity))).collect())
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
    pub(super) document_line: i64,
    pub(super) shipment_line: Option<i64>,
    pub(super) item: ItemId,
    pub(super) code: String,
    pub(super) unit: String,
    pub(super) stock_unit: String,
    pub(super) class: Option<String>,
    pub(super) marks: Marks,
    pub(super) factor: Quantity,
    pub(super) progress: Progress,
    pub(super) billed: Quantity,
    pub(super) credited: Quantity,
    pub(super) left_on: NaiveDate,
}

/// The lines of a return.
pub(super) async fn lines(connection: &mut SqliteConnection, id: ReturnId) -> Result<Vec<Line>> {
    let rows = sqlx::query!(
        r#"SELECT state.id AS "id!", state.document_line_id AS "document_line!", billed.shipment_line_id, state.item_id AS "item!", items.code AS "code!",
                  billed.unit AS "unit!", items.unit AS "stock_unit!", items.class AS "class?", billed.marks, factor_e4 AS "factor!",
                  authorized_e4 AS "authorized!", received_e4 AS "received!: i64", sent_back_e4 AS "sent_back!: i64",
                  replaced_e4 AS "replaced!: i64", credited_e4 AS "credited_here!: i64",
                  for_repair_e4 AS "for_repair!: i64", repaired_e4 AS "repaired!: i64", billed.quantity_e4 AS "billed!",
                  (SELECT coalesce(-sum(quantity_e4), 0) FROM document_lines WHERE credits_line_id = billed.id) AS "credited!: i64",
                  max(documents.posting_date, coalesce(shipments.posting_date, '')) AS "left_on!: NaiveDate"
           FROM return_line_state AS state JOIN document_lines AS billed ON billed.id = state.document_line_id
           JOIN documents ON documents.id = billed.document_id JOIN items ON items.id = state.item_id
           LEFT JOIN shipment_lines ON shipment_lines.id = billed.shipment_line_id LEFT JOIN shipments ON shipments.id = shipment_id
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
            };
            Ok(Line {
                id: ReturnLineId(row.id),
                document_line: row.document_line,
                shipment_line: row.shipment_line_id,
                item: ItemId(row.item),
                code: row.code,
                unit: row.unit,
                stock_unit: row.stock_unit,
                class: row.class,
                marks: read(&row.marks)?,
                factor: Quantity::from_scaled(row.factor),
                progress: state.progress(),
                billed: Quantity::from_scaled(row.billed),
                credited: Quantity::from_scaled(row.credited),
                left_on: row.left_on,
            })
        })
        .collect()
}

/// What left with the goods of a line, came back over all returns and went out again, in its order. What was given back
/// since did not leave.
pub(super) async fn moved(connection: &mut SqliteConnection, line: &Line) -> Result<Vec<GoodsMoved>> {
    let alone = line.shipment_line.is_none().then_some(line.document_line);
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
           FROM document_lines AS billed JOIN return_lines ON document_line_id = billed.id
           JOIN return_step_lines ON return_step_lines.return_line_id = return_lines.id JOIN return_steps ON return_steps.id = step_id
           WHERE (billed.shipment_line_id = ?1 OR billed.id = ?2) AND reversed_on IS NULL
             -- A wrong item is another's goods; what is in for repair stays the customer's.
             AND (return_steps.kind IN ('received', 'replaced') OR outcome = 'send_back')
           ORDER BY return_steps.id, return_step_lines.id"#,
        line.shipment_line,
        alone
    )
    .fetch_all(connection)
    .await?;
    let left = left.into_iter().map(|row| GoodsMoved::Out(Quantity::from_scaled(row.quantity), Money(row.cost)));
    let steps = steps.into_iter().map(|row| {
        let (quantity, cost) = (Quantity::from_scaled(row.quantity), Money(row.cost));
        if row.kind == "received" { GoodsMoved::Back(quantity, cost) } else { GoodsMoved::Out(quantity, cost) }
    });
    Ok(left.chain(steps).collect())
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
                  for_repair_e4 AS "for_repair!: i64", waiting_e4 AS "waiting!: i64"
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
            ..Progress::default()
        };
        let left = progress.expected(is_live(row.closed_on, row.expires_on, today));
        let factor = Quantity::from_scaled(row.factor_e4);
        expected += till_core::units::in_stock_units(left, factor).map_or(0, Quantity::scaled);
        waiting += row.waiting;
    }
    Ok((Quantity::from_scaled(expected), Quantity::from_scaled(waiting)))
}
