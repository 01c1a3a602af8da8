//! Taking a posted shipment back: a reversal, only while nothing of it is billed.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, DocumentRef, EntryId, LayerId, OrderId, ShipmentId, ShipmentLineId};
use till_core::money::Money;
use till_core::people::check_reason;
use till_core::posting::{MovedWith, StockMove};
use till_core::room::Movement;
use till_core::shipment::{LineToTakeBack, TakeBackInput, decide_take_back};

use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, ledger, orders, posting, sensible_date, stock};

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

/// What of each line of a shipment could be taken back when: what left, less what was billed or came back, and what
/// cancelling and reversing gave back. Lines of which nothing was ever billed or came back are not among them.
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
           WHERE shipment_id = ?1
           UNION ALL
           SELECT shipment_lines.id, shipment_lines.quantity_e4, back.quantity_e4, back.posting_date, back.reversed_on
           FROM shipment_lines JOIN unbilled_returns AS back ON back.shipment_line_id = shipment_lines.id WHERE shipment_id = ?1"#,
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

struct Loaded<'a> {
    input: TakeBackInput<'a>,
    order: OrderId,
    version: i64,
}

async fn load<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: ShipmentId,
    what: &TakeBack,
) -> Result<Loaded<'a>> {
    let head = sqlx::query!(
        r#"SELECT number, order_id, state, version, posting_date AS "posting_date: NaiveDate", entry_id FROM shipments WHERE id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Shipment, id))?;
    if head.version != what.version {
        return Err(StoreError::Stale { what: head.number, current: head.version });
    }
    let Some(posted_on) = head.posting_date.filter(|_| head.state == "posted") else {
        return Err(StoreError::WrongState(format!("{} is not posted. There is nothing to reverse.", head.number)));
    };
    let entry = match head.entry_id.map(EntryId) {
        Some(entry) => Some((entry, ledger::entry(connection, entry).await?.entry)),
        None => None,
    };
    let input = TakeBackInput {
        number: head.number,
        posted_on,
        date: what.date.map_or(Ok(rules.business_date), |date| sensible_date("date", date))?,
        lines: lines(connection, rules, (id, posted_on)).await?,
        entry,
        left: left(connection, id).await?,
        periods: &rules.periods,
    };
    Ok(Loaded { input, order: OrderId(head.order_id), version: head.version })
}

async fn lines(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (id, posted_on): (ShipmentId, NaiveDate),
) -> Result<Vec<LineToTakeBack>> {
    let mut moved = billing_moves(connection, id, posted_on).await?;
    let mut on_returns = crate::returns::holding_shipped(connection, rules, id).await?;
    let rows = sqlx::query!(
        "SELECT shipment_lines.id, code, quantity_e4, shipment_lines.billed_e4, shipment_lines.drafted_e4
         FROM shipment_lines JOIN order_lines ON order_lines.id = order_line_id JOIN items ON items.id = item_id
         WHERE shipment_id = ? ORDER BY shipment_lines.position",
        id.0
    )
    .fetch_all(connection)
    .await?;
    Ok(rows
        .into_iter()
        .map(|line| LineToTakeBack {
            code: line.code,
            quantity: Quantity::from_scaled(line.quantity_e4),
            billed: Quantity::from_scaled(line.billed_e4),
            drafted: Quantity::from_scaled(line.drafted_e4),
            on_returns: on_returns.remove(&line.id).unwrap_or_default(),
            movements: moved.remove(&line.id).unwrap_or_else(|| vec![Movement::new(posted_on, line.quantity_e4)]),
        })
        .collect())
}

/// What left which layer with a shipment.
async fn left(connection: &mut SqliteConnection, id: ShipmentId) -> Result<Vec<StockMove>> {
    Ok(sqlx::query!(
        r#"SELECT layer_id, posting_date AS "date: NaiveDate", stock_moves.quantity_e4, stock_moves.cost_minor, shipment_lines.id AS "line!"
           FROM shipment_lines JOIN stock_moves ON shipment_line_id = shipment_lines.id
           WHERE shipment_id = ? ORDER BY shipment_lines.position, stock_moves.id"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| StockMove {
        layer: LayerId(row.layer_id),
        date: row.date,
        quantity: Quantity::from_scaled(row.quantity_e4),
        cost: Money(row.cost_minor),
        with: MovedWith::ShipmentLine(ShipmentLineId(row.line)),
    })
    .collect())
}

/// Takes a posted shipment back: its goods lie in the layers they left, its entry is reversed, its
/// lines are to be shipped again and stay reserved.
///
/// # Errors
/// [`StoreError::Stale`], a shipment that is not posted, what the core refuses.
pub async fn take_back(writing: &mut Writing<'_>, rules: &Rules, id: ShipmentId, what: &TakeBack) -> Result<i64> {
    let Loaded { input, order, version } = load(writing, rules, id, what).await?;
    let reason = check_reason(&what.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let posting = decide_take_back(&input).map_err(StoreError::Refused)?;
    let source = DocumentRef { kind: DocumentKind::Shipment, id: id.0, number: input.number.clone() };
    let reversal = posting::write(writing, &source, &posting).await?.pop().map(|id| id.0);
    nothing_shipped(writing, id).await?;
    sqlx::query!(
        "UPDATE shipments SET state = 'taken_back', taken_back_date = ?, taken_back_reason = ?, reversal_entry_id = ?,
                version = version + 1 WHERE id = ?",
        input.date,
        reason,
        reversal,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    stock::set_aside(writing, order, None).await?;
    orders::refresh_states(writing, &[order]).await?;
    let fields = vec![set("date", till_core::calendar::words(input.date)), set("reason", &reason)];
    let words = format!("took {} back", input.number);
    let at = (DocumentKind::Shipment, id.0, input.number.as_str());
    writing.note_on(at, "shipment_taken_back", words, Some(version + 1), fields);
    Ok(version + 1)
}

/// Nothing of the shipment is unbilled, and its order lines are to be shipped again.
async fn nothing_shipped(connection: &mut SqliteConnection, id: ShipmentId) -> Result<()> {
    sqlx::query!("UPDATE shipment_lines SET unbilled_e4 = 0 WHERE shipment_id = ?", id.0)
        .execute(&mut *connection)
        .await?;
    sqlx::query!(
        "UPDATE order_lines SET shipped_e4 = shipped_e4 - mine.quantity
         FROM (SELECT order_line_id, sum(quantity_e4 - returned_e4) AS quantity FROM shipment_lines WHERE shipment_id = ? GROUP BY 1) AS mine
         WHERE order_lines.id = mine.order_line_id",
        id.0
    )
    .execute(&mut *connection)
    .await?;
    // Freight that was charged with the shipment is charged no more.
    sqlx::query!(
        "UPDATE order_lines SET cancelled_e4 = ordered_e4, cancel_reason = 'the shipment was taken back' WHERE freight_of = ?",
        id.0
    )
    .execute(connection)
    .await?;
    Ok(())
}
