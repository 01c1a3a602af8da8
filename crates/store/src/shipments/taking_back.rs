//! Taking a posted shipment back: a reversal, only while nothing of it is billed.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, DocumentRef, EntryId, LayerId, OrderId, ShipmentId};
use till_core::money::Money;
use till_core::people::check_reason;
use till_core::room::Movement;
use till_core::shipment::{LineToTakeBack, TakeBackInput, decide_take_back};

use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, ledger, orders, sensible_date, stock};

/// A shipment to take back.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TakeBack {
    /// The version seen.
    pub version: i64,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Why.
    pub reason: String,
}

/// What of each line of a shipment could be taken back when: what left, less what was billed, and what
/// cancelling gave back. Lines of which nothing was ever billed are not among them.
async fn billing_moves(
    connection: &mut SqliteConnection,
    id: ShipmentId,
    posted_on: NaiveDate,
) -> Result<BTreeMap<i64, Vec<Movement>>> {
    let rows = sqlx::query!(
        r#"SELECT shipment_lines.id, shipment_lines.quantity_e4 AS shipped, invoice_lines.quantity_e4 AS billed,
                  invoices.posting_date AS "billed_on!: NaiveDate", memo.posting_date AS "cancelled_on: NaiveDate"
           FROM shipment_lines JOIN invoice_lines ON shipment_line_id = shipment_lines.id
           JOIN invoices ON invoices.id = invoice_lines.invoice_id AND invoices.state = 'posted'
           LEFT JOIN documents AS memo ON memo.id = cancelled_by
           WHERE shipment_id = ?"#,
        id.0
    )
    .fetch_all(connection)
    .await?;
    let mut moves: BTreeMap<i64, Vec<Movement>> = BTreeMap::new();
    for row in rows {
        let mine = moves.entry(row.id).or_insert_with(|| vec![Movement::new(posted_on, row.shipped)]);
        mine.push(Movement::new(row.billed_on, -row.billed));
        mine.extend(row.cancelled_on.map(|day| Movement::new(day, row.billed)));
    }
    Ok(moves)
}

/// Takes a posted shipment back: its goods lie in the layers they left, its entry is reversed, its
/// lines are to be shipped again and stay set aside.
///
/// # Errors
/// [`StoreError::Stale`], a shipment that is not posted, what the core refuses.
pub async fn take_back(writing: &mut Writing<'_>, rules: &Rules, id: ShipmentId, what: &TakeBack) -> Result<i64> {
    let head = sqlx::query!(
        r#"SELECT number, order_id, state, version, posting_date AS "posting_date: NaiveDate", entry_id FROM shipments WHERE id = ?"#,
        id.0
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Shipment, id))?;
    if head.version != what.version {
        return Err(StoreError::Stale { what: head.number, current: head.version });
    }
    let Some(posted_on) = head.posting_date.filter(|_| head.state == "posted") else {
        return Err(StoreError::WrongState(format!("{} is not posted. There is nothing to take back.", head.number)));
    };
    let reason = check_reason(&what.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let date = what.date.map_or(Ok(rules.business_date), |date| sensible_date("date", date))?;
    let lines = sqlx::query!(
        "SELECT shipment_lines.id, code, quantity_e4, shipment_lines.billed_e4, shipment_lines.drafted_e4, order_line_id, kind
         FROM shipment_lines JOIN order_lines ON order_lines.id = order_line_id JOIN items ON items.id = item_id
         WHERE shipment_id = ? ORDER BY shipment_lines.position",
        id.0
    )
    .fetch_all(&mut **writing)
    .await?;
    let mut moved = billing_moves(writing, id, posted_on).await?;
    let entry = match head.entry_id {
        Some(entry) => Some(ledger::entry(writing, EntryId(entry)).await?.entry),
        None => None,
    };
    let input = TakeBackInput {
        number: head.number.clone(),
        posted_on,
        date,
        lines: lines
            .iter()
            .map(|line| LineToTakeBack {
                code: line.code.clone(),
                quantity: Quantity::from_scaled(line.quantity_e4),
                billed: Quantity::from_scaled(line.billed_e4),
                drafted: Quantity::from_scaled(line.drafted_e4),
                movements: moved.remove(&line.id).unwrap_or_else(|| vec![Movement::new(posted_on, line.quantity_e4)]),
            })
            .collect(),
        entry,
        periods: &rules.periods,
    };
    let reversal = decide_take_back(&input).map_err(StoreError::Refused)?;
    let reversal = match reversal {
        Some(entry) => {
            let source = DocumentRef { kind: DocumentKind::Shipment, id: id.0, number: head.number.clone() };
            let reverses = head.entry_id.map(EntryId);
            Some(ledger::write_reversal(writing, &entry, &source, reverses).await?.0)
        }
        None => None,
    };
    for line in &lines {
        let moves = sqlx::query!(
            "SELECT layer_id, quantity_e4, cost_minor FROM stock_moves WHERE shipment_line_id = ? ORDER BY id",
            line.id
        )
        .fetch_all(&mut **writing)
        .await?;
        for gone in moves {
            let (quantity, cost) = (Quantity::from_scaled(-gone.quantity_e4), Money(-gone.cost_minor));
            stock::take_from_layer(writing, LayerId(gone.layer_id), quantity, cost, date, (Some(line.id), None))
                .await?;
        }
        sqlx::query!("UPDATE shipment_lines SET unbilled_e4 = 0 WHERE id = ?", line.id).execute(&mut **writing).await?;
        sqlx::query!(
            "UPDATE order_lines SET shipped_e4 = shipped_e4 - ? WHERE id = ?",
            line.quantity_e4,
            line.order_line_id
        )
        .execute(&mut **writing)
        .await?;
    }
    // Freight that was charged with the shipment is charged no more.
    let freight = rules.freight_item.map_or(-1, |item| item.0);
    sqlx::query!(
        "UPDATE order_lines SET cancelled_e4 = ordered_e4, cancel_reason = 'the shipment was taken back'
         WHERE item_id = ? AND price_steps LIKE '%freight of the shipment%'
           AND id IN (SELECT order_line_id FROM shipment_lines WHERE shipment_id = ?)",
        freight,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    sqlx::query!(
        "UPDATE shipments SET state = 'taken_back', taken_back_date = ?, taken_back_reason = ?, reversal_entry_id = ?,
                version = version + 1 WHERE id = ?",
        date,
        reason,
        reversal,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let order = OrderId(head.order_id);
    stock::set_aside(writing, order, None).await?;
    orders::refresh_states(writing, &[order]).await?;
    let fields = vec![set("date", date), set("reason", &reason)];
    let words = format!("took {} back", head.number);
    let version = head.version + 1;
    writing.note_on((DocumentKind::Shipment, id.0, &head.number), "shipment_taken_back", words, Some(version), fields);
    Ok(version)
}
