//! Reversing a goods receipt that was typed in error.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, DocumentRef, EntryId, ItemId, LayerId};
use till_core::money::Money;
use till_core::shipment::{IntakeBackInput, decide_intake_back};
use till_core::stock::Layer;

use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, ledger, posting, sensible_date, stock};

/// A goods receipt to reverse.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct IntakeBack {
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Why.
    #[serde(default)]
    pub reason: String,
}

struct Loaded<'a> {
    input: IntakeBackInput<'a>,
    warehouse: String,
    cost: Money,
}

async fn load<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    (item, layer): (ItemId, LayerId),
    what: &IntakeBack,
) -> Result<Loaded<'a>> {
    let date = what.date.map_or(Ok(rules.business_date), |date| sensible_date("date", date))?;
    let row = sqlx::query!(
        r#"SELECT code, warehouse, posting_date AS "came_on: NaiveDate", quantity_e4, cost_minor, remaining_e4, remaining_cost_minor, entry_id,
                  adjustment_id, return_step_id, (SELECT source_kind FROM entries WHERE entries.id = entry_id) AS source
           FROM stock_layers JOIN items ON items.id = item_id WHERE stock_layers.id = ? AND item_id = ?"#,
        layer.0,
        item.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Intake, layer))?;
    let entry = match row.entry_id.map(EntryId) {
        Some(id) => Some((id, ledger::entry(connection, id).await?.entry)),
        None => None,
    };
    let mut layers = stock::layers(connection, &[item], &row.warehouse, date).await?.remove(&item).unwrap_or_default();
    let at = layers.iter().position(|one| one.id == layer);
    let nothing = || Layer { id: layer, remaining: Quantity::ZERO, remaining_cost: Money::ZERO, later: Vec::new() };
    let opened = row.source.as_deref().is_some_and(|source| source != DocumentKind::Intake.word());
    let input = IntakeBackInput {
        code: row.code,
        quantity: Quantity::from_scaled(row.quantity_e4),
        came_on: row.came_on,
        layer: at.map_or_else(nothing, |at| layers.swap_remove(at)),
        entry,
        receipt: row.adjustment_id.is_none() && row.return_step_id.is_none() && !opened,
        reason: what.reason.clone(),
        date,
        periods: &rules.periods,
    };
    Ok(Loaded { input, warehouse: row.warehouse, cost: Money(row.cost_minor) })
}

/// Reverses a goods receipt, only while nothing of it has left: its entry is turned round, its layer is empty.
/// What was reserved of it is given up by the latest orders.
///
/// # Errors
/// What the core refuses.
pub async fn reverse_intake(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (item, layer): (ItemId, LayerId),
    what: &IntakeBack,
) -> Result<bool> {
    let Loaded { input, warehouse, cost } = load(writing, rules, (item, layer), what).await?;
    let posting = decide_intake_back(&input).map_err(StoreError::Refused)?;
    let source = DocumentRef { kind: DocumentKind::Intake, id: layer.0, number: input.code.clone() };
    posting::write(writing, &source, &posting).await?;
    let given = stock::keep_promises(writing, item, &warehouse).await?;
    let mut fields = vec![
        set("quantity", input.quantity),
        set("cost", rules.base.format(cost)),
        set("date", till_core::calendar::words(input.date)),
        set("reason", input.reason.trim()),
    ];
    fields.extend(given.into_iter().map(|number| set("taken from", number)));
    let words = format!("reversed a goods receipt of {} of {}", input.quantity, input.code);
    writing.note_on((DocumentKind::Intake, layer.0, &input.code), "intake_reversed", words, None, fields);
    Ok(true)
}
