//! What returns hold of lines of documents and of shipments: expected, or back and not settled. What is held is neither
//! returned again nor credited as staying with the customer, and its document is not canceled.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentLineId, InvoiceId, ItemId, ReturnLineId, ShipmentId, ShipmentLineId};
use till_core::returns::{Origin, Progress, is_live};

use super::facts::Line;
use crate::Result;
use crate::convert::json;
use crate::rules::Rules;

/// A row of `return_line_state`.
pub(super) struct StateRow {
    pub(super) authorized_e4: i64,
    pub(super) received_e4: i64,
    pub(super) sent_back_e4: i64,
    pub(super) replaced_e4: i64,
    pub(super) credited_e4: i64,
    pub(super) for_repair_e4: i64,
    pub(super) repaired_e4: i64,
    pub(super) given_back_e4: i64,
    pub(super) kept_e4: i64,
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
            given_back: quantity(self.given_back_e4),
            for_repair: quantity(self.for_repair_e4),
            repaired: quantity(self.repaired_e4),
            kept: quantity(self.kept_e4),
        }
    }
}

/// Where a line of a return knows its goods from.
pub(super) fn origin(document_line: Option<i64>, shipment_line: Option<i64>, item: i64) -> Origin {
    match (document_line, shipment_line) {
        (Some(line), _) => Origin::Billed(DocumentLineId(line)),
        (None, Some(line)) => Origin::Shipped(ShipmentLineId(line)),
        (None, None) => Origin::Unknown(ItemId(item)),
    }
}

/// What returns hold of lines of documents and of shipments that are not billed, on the business date: expected, or back and
/// not settled.
pub(super) async fn held(
    connection: &mut SqliteConnection,
    rules: &Rules,
    of: &[Origin],
) -> Result<BTreeMap<Origin, Quantity>> {
    let (mut billed, mut shipped) = (Vec::new(), Vec::new());
    for origin in of {
        match origin {
            Origin::Billed(line) => billed.push(line.0),
            Origin::Shipped(line) => shipped.push(line.0),
            Origin::Unknown(_) => {}
        }
    }
    let (billed, shipped) = (json(&billed)?, json(&shipped)?);
    let rows = sqlx::query!(
        r#"SELECT document_line_id, shipment_line_id, item_id AS "item!", closed_on AS "closed_on: NaiveDate", expires_on AS "expires_on!: NaiveDate",
                  authorized_e4 AS "authorized!", received_e4 AS "received!: i64", sent_back_e4 AS "sent_back!: i64", replaced_e4 AS "replaced!: i64",
                  credited_e4 AS "credited!: i64", for_repair_e4 AS "for_repair!: i64", repaired_e4 AS "repaired!: i64", given_back_e4 AS "given_back!: i64", kept_e4 AS "kept!: i64"
           FROM return_line_state JOIN returns ON returns.id = return_id
           WHERE document_line_id IN (SELECT value FROM json_each(?1))
           UNION ALL
           SELECT document_line_id, shipment_line_id, item_id, closed_on, expires_on, authorized_e4, received_e4, sent_back_e4, replaced_e4,
                  credited_e4, for_repair_e4, repaired_e4, given_back_e4, kept_e4
           FROM return_line_state JOIN returns ON returns.id = return_id
           WHERE document_line_id IS NULL AND shipment_line_id IN (SELECT value FROM json_each(?2))"#,
        billed,
        shipped
    )
    .fetch_all(connection)
    .await?;
    let mut held: BTreeMap<Origin, Quantity> = BTreeMap::new();
    for row in rows {
        let state = StateRow {
            authorized_e4: row.authorized,
            received_e4: row.received,
            sent_back_e4: row.sent_back,
            replaced_e4: row.replaced,
            credited_e4: row.credited,
            for_repair_e4: row.for_repair,
            repaired_e4: row.repaired,
            given_back_e4: row.given_back,
            kept_e4: row.kept,
        };
        let live = is_live(row.closed_on, row.expires_on, rules.business_date);
        let sum = held.entry(origin(row.document_line_id, row.shipment_line_id, row.item)).or_default();
        *sum = Quantity::from_scaled(sum.scaled() + state.progress().held(live).scaled());
    }
    Ok(held)
}

/// What all returns hold of what the lines of a return point at; of what no document is known, what the line itself holds.
pub(super) async fn held_with(
    connection: &mut SqliteConnection,
    rules: &Rules,
    lines: &[Line],
) -> Result<BTreeMap<ReturnLineId, Quantity>> {
    let origins: Vec<Origin> = lines.iter().map(|line| line.origin).collect();
    let held = held(connection, rules, &origins).await?;
    let of = |line: &Line| match line.origin {
        Origin::Unknown(_) => line.progress.held(is_live(line.closed_on, line.expires_on, rules.business_date)),
        origin => held.get(&origin).copied().unwrap_or_default(),
    };
    Ok(lines.iter().map(|line| (line.id, of(line))).collect())
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
    let ids: Vec<Origin> = lines.iter().map(|line| Origin::Billed(DocumentLineId(line.id))).collect();
    let held = held(connection, rules, &ids).await?;
    Ok(lines
        .iter()
        .zip(&ids)
        .filter_map(|(line, id)| Some((usize::try_from(line.position).ok()?, *held.get(id)?)))
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
                  for_repair_e4 AS "for_repair!: i64", repaired_e4 AS "repaired!: i64", kept_e4 AS "kept!: i64"
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
            given_back_e4: 0,
            kept_e4: row.kept,
        };
        let live = is_live(row.closed_on, row.expires_on, rules.business_date);
        if state.progress().held(live).is_positive() && !numbers.contains(&row.number) {
            numbers.push(row.number);
        }
    }
    Ok(numbers)
}

/// Numbers of the returns on which something of a shipment came back before it was billed, or is to, by its line.
pub(crate) async fn holding_shipped(
    connection: &mut SqliteConnection,
    rules: &Rules,
    shipment: ShipmentId,
) -> Result<BTreeMap<i64, Vec<String>>> {
    let rows = sqlx::query!(
        r#"SELECT line.shipment_line_id AS "line!", returns.number AS "number!", closed_on AS "closed_on: NaiveDate", expires_on AS "expires_on!: NaiveDate",
                  authorized_e4 > received_e4 + for_repair_e4 - kept_e4 AS "expected!: bool",
                  received_e4 > 0 OR for_repair_e4 > repaired_e4 + kept_e4 AS "back!: bool"
           FROM return_line_state AS line JOIN returns ON returns.id = line.return_id
           WHERE line.document_line_id IS NULL AND line.shipment_line_id IN (SELECT id FROM shipment_lines WHERE shipment_id = ?)
           ORDER BY returns.id"#,
        shipment.0
    )
    .fetch_all(connection)
    .await?;
    let mut numbers: BTreeMap<i64, Vec<String>> = BTreeMap::new();
    for row in rows {
        if row.back || (row.expected && is_live(row.closed_on, row.expires_on, rules.business_date)) {
            numbers.entry(row.line).or_default().push(row.number);
        }
    }
    Ok(numbers)
}
