//! Reversing a step of a return that was entered in error.

use sqlx::SqliteConnection;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::stops;
use till_core::fixed::Quantity;
use till_core::ids::{
    ClaimId, DocumentKind, DocumentRef, EntryId, InspectionId, ItemId, LayerId, ReturnId, ReturnStepId,
};
use till_core::money::Money;
use till_core::posting::{GivenBack, InspectionMove, MovedWith, StockMove};
use till_core::returns::{HeldAgain, Origin, OutAgain, UndoStepInput, free, undo_step};
use till_core::room::Movement;
use till_core::stock::Layer;

use super::carrying::refresh_orders;
use super::claims;
use super::facts::{self, Head, Layers};
use super::holding;
use super::steps::{Done, StepPreview};
use crate::receipts::ToReverse;
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, ledger, posting, sensible_date, stock};

/// A step with what it moved.
struct Loaded<'a> {
    input: UndoStepInput<'a>,
    /// Items that leave stock again, where the step restocked them.
    items: Vec<ItemId>,
}

async fn load<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    (id, head, step): (ReturnId, &Head, ReturnStepId),
    wish: &ToReverse,
) -> Result<Loaded<'a>> {
    if let Some(date) = wish.date {
        sensible_date("date", date)?;
    }
    let date = DocumentDate::or_business_date(wish.date, rules.business_date);
    let row = sqlx::query!(
        r#"SELECT kind, posting_date AS "done_on: chrono::NaiveDate", entry_id, reversed_on AS "reversed_on: chrono::NaiveDate"
           FROM return_steps WHERE id = ? AND return_id = ?"#,
        step.0,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Return, step))?;
    if let Some(with) = posted_with(connection, id, row.entry_id).await? {
        let sentence = format!("This was posted with {with}, in one entry. It cannot be reversed by itself.");
        return Err(StoreError::WrongState(sentence));
    }
    let entry = match row.entry_id.map(EntryId) {
        Some(entry) => Some((entry, ledger::entry(connection, entry).await?.entry)),
        None => None,
    };
    let mut input = UndoStepInput {
        number: head.number.clone(),
        done_on: row.done_on,
        reversed_on: row.reversed_on,
        entry,
        brought: Vec::new(),
        inspections_out: Vec::new(),
        stock_out: Vec::new(),
        taken: taken(connection, step).await?,
        issued: issued(connection, step).await?,
        received: Vec::new(),
        out_again: Vec::new(),
        held_again: Vec::new(),
        claimed: claimed(connection, step).await?,
        date,
        reason: wish.reason.trim().to_owned(),
        dates: DateOrder::of_today(rules.business_date),
        periods: &rules.periods,
    };
    settled(connection, rules, (id, step, row.kind.as_str()), &mut input).await?;
    let lines = facts::lines(connection, id).await?;
    for (line, quantity, layer) in facts::layers(connection, Layers::OfStep(step), date.date).await? {
        let code = lines.iter().find(|known| known.id == line).map(|known| known.code.clone()).unwrap_or_default();
        input.inspections_out.push(InspectionMove {
            inspection: facts::inspection(&layer),
            step,
            date: date.date,
            quantity,
            cost: layer.remaining_cost,
        });
        input.brought.push((code, quantity, layer));
    }
    let items = restocked(connection, step, &mut input).await?;
    Ok(Loaded { input, items })
}

/// What the step claimed of suppliers, with what was answered.
async fn claimed(connection: &mut SqliteConnection, step: ReturnStepId) -> Result<Vec<(String, Money, Vec<Movement>)>> {
    let rows = sqlx::query!(
        "SELECT done.id, items.code, claim_minor FROM return_step_lines AS done JOIN return_lines AS line ON line.id = done.return_line_id
         JOIN items ON items.id = line.item_id WHERE step_id = ? AND claim_minor > 0",
        step.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut claimed = Vec::new();
    for row in rows {
        claimed.push((row.code, Money(row.claim_minor), claims::moves(connection, ClaimId(row.id)).await?));
    }
    Ok(claimed)
}

/// The document a step was posted with, where it shares its entry.
async fn posted_with(connection: &mut SqliteConnection, id: ReturnId, entry: Option<i64>) -> Result<Option<String>> {
    let kind = DocumentKind::Return.word();
    Ok(sqlx::query_scalar!(
        "SELECT source_number FROM entries WHERE id = ? AND NOT (source_kind = ? AND source_id = ?)",
        entry,
        kind,
        id.0
    )
    .fetch_optional(connection)
    .await?)
}

/// What the step did to what is settled with the customer, line by line.
async fn settled(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (id, step, kind): (ReturnId, ReturnStepId, &str),
    input: &mut UndoStepInput<'_>,
) -> Result<()> {
    let lines = facts::lines(connection, id).await?;
    let held = holding::held_with(connection, rules, &lines).await?;
    let done = sqlx::query!(
        r#"SELECT return_line_id, sum(quantity_e4) AS "quantity!: i64", sum(released_minor) AS "released!: i64" FROM return_step_lines WHERE step_id = ? GROUP BY 1 HAVING sum(quantity_e4) > 0"#,
        step.0
    )
    .fetch_all(&mut *connection)
    .await?;
    for row in done {
        let Some(line) = lines.iter().find(|line| line.id.0 == row.return_line_id) else { continue };
        let quantity = Quantity::from_scaled(row.quantity);
        if kind == "swapped" {
            // Nothing of it stands on the return: both items are where they belong.
            continue;
        }
        if kind == "for_repair" {
            input.received.push((line.code.clone(), quantity, facts::in_repair(connection, line.id).await?));
        } else if let (Origin::Shipped(shipment_line), "received" | "kept") = (line.origin, kind) {
            let moved = GivenBack { shipment_line, quantity, released: Money(row.released) };
            input.out_again.push(out_again(connection, &line.code, moved).await?);
        } else if matches!(kind, "received" | "kept") {
            input.received.push((line.code.clone(), quantity, facts::movements(connection, line.id).await?));
        } else {
            let held = held.get(&line.id).copied().unwrap_or_default();
            input.held_again.push(HeldAgain {
                code: line.code.clone(),
                quantity,
                free: free(line.billed, line.credited, held),
                with_customer: facts::with_customer(connection, line).await?,
            });
        }
    }
    Ok(())
}

/// Goods that were not billed are out again: what their order has to ship has to be there still.
async fn out_again(connection: &mut SqliteConnection, code: &str, moved: GivenBack) -> Result<OutAgain> {
    let row = sqlx::query!(
        r#"SELECT orders.number AS "number!", free_to_ship_e4 AS "to_ship!: i64"
           FROM shipment_lines JOIN order_line_state AS state ON state.id = shipment_lines.order_line_id JOIN orders ON orders.id = state.order_id
           WHERE shipment_lines.id = ?"#,
        moved.shipment_line.0
    )
    .fetch_one(connection)
    .await?;
    Ok(OutAgain { code: code.to_owned(), order: row.number, moved, to_ship: Quantity::from_scaled(row.to_ship) })
}

/// What a step took from the inspection place.
async fn taken(connection: &mut SqliteConnection, step: ReturnStepId) -> Result<Vec<InspectionMove>> {
    Ok(sqlx::query!(
        r#"SELECT layer_id, posting_date AS "date: chrono::NaiveDate", quantity_e4, cost_minor FROM inspection_moves WHERE step_id = ? ORDER BY id"#,
        step.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| InspectionMove {
        inspection: InspectionId(row.layer_id),
        step,
        date: row.date,
        quantity: Quantity::from_scaled(row.quantity_e4),
        cost: Money(row.cost_minor),
    })
    .collect())
}

/// What a step took from stock.
async fn issued(connection: &mut SqliteConnection, step: ReturnStepId) -> Result<Vec<StockMove>> {
    Ok(sqlx::query!(
        r#"SELECT layer_id, posting_date AS "date: chrono::NaiveDate", quantity_e4, cost_minor FROM stock_moves WHERE return_step_id = ? ORDER BY id"#,
        step.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| StockMove {
        layer: LayerId(row.layer_id),
        date: row.date,
        quantity: Quantity::from_scaled(row.quantity_e4),
        cost: Money(row.cost_minor),
        with: MovedWith::ReturnStep(step),
    })
    .collect())
}

/// What a step restocked is to leave stock again, all of it. Returns its items.
async fn restocked(
    connection: &mut SqliteConnection,
    step: ReturnStepId,
    input: &mut UndoStepInput<'_>,
) -> Result<Vec<ItemId>> {
    let rows = sqlx::query!(
        r#"SELECT stock_layers.id, item_id, code, warehouse, quantity_e4 FROM stock_layers JOIN items ON items.id = item_id
           WHERE return_step_id = ? ORDER BY stock_layers.id"#,
        step.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut items = Vec::new();
    for row in rows {
        let item = ItemId(row.item_id);
        let date = input.date.date;
        let layers = stock::layers(connection, &[item], &row.warehouse, date).await?.remove(&item).unwrap_or_default();
        let gone =
            Layer { id: LayerId(row.id), remaining: Quantity::ZERO, remaining_cost: Money::ZERO, later: Vec::new() };
        let layer = layers.into_iter().find(|layer| layer.id.0 == row.id).unwrap_or(gone);
        let quantity = Quantity::from_scaled(row.quantity_e4);
        input.stock_out.push(StockMove {
            layer: layer.id,
            date,
            quantity,
            cost: layer.remaining_cost,
            with: MovedWith::ReturnStep(step),
        });
        input.brought.push((row.code, quantity, layer));
        items.push(item);
    }
    Ok(items)
}

/// What reversing a step would do. Nothing is written.
///
/// # Errors
/// [`StoreError::NotFound`]; a date that makes no sense.
pub async fn undo_preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (id, step): (ReturnId, ReturnStepId),
    wish: &ToReverse,
) -> Result<StepPreview> {
    let head = facts::head(connection, id).await?;
    let decision = undo_step(&load(connection, rules, (id, &head, step), wish).await?.input);
    Ok(StepPreview {
        costs: Vec::new(),
        tape: None,
        entry: decision.entry,
        changes: Vec::new(),
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Reverses a step of a return: everything it moved goes back to where it was.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn undo(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (id, step): (ReturnId, ReturnStepId),
    (version, seen): (i64, Option<&str>),
    wish: &ToReverse,
) -> Result<Done> {
    let head = facts::head(writing, id).await?;
    head.is(version)?;
    let Loaded { input, items } = load(writing, rules, (id, &head, step), wish).await?;
    let decision = undo_step(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    writing.saw(seen, &decision.fingerprint)?;
    let source = DocumentRef { kind: DocumentKind::Return, id: id.0, number: head.number.clone() };
    let posting = decision.posting(&input);
    let entry = posting::write(writing, &source, &posting).await?.pop().map(|entry| entry.0);
    let (date, after) = (input.date.date, head.version + 1);
    sqlx::query!(
        "UPDATE return_steps SET reversed_on = ?, reversal_reason = ?, reversal_entry_id = ? WHERE id = ?",
        date,
        input.reason,
        entry,
        step.0
    )
    .execute(&mut **writing)
    .await?;
    sqlx::query!("UPDATE returns SET version = ? WHERE id = ?", after, id.0).execute(&mut **writing).await?;
    refresh_orders(writing, &posting).await?;
    let mut fields = vec![set("date", till_core::calendar::words(date)), set("reason", &input.reason)];
    for item in items {
        let given = stock::keep_promises(writing, item, &head.warehouse).await?;
        fields.extend(given.into_iter().map(|number| set("taken from", number)));
    }
    let words = format!("reversed a step of {}", head.number);
    let at = (DocumentKind::Return, id.0, head.number.as_str());
    writing.note_on(at, "return_step_reversed", words, Some(after), fields);
    Ok(Done { step, version: after })
}
