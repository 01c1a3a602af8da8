//! Counts: what is found to be more or less, at which cost, and what that writes.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::{Quantity, UnitPrice};
use till_core::ids::{DocumentKind, DocumentRef, ItemId};
use till_core::money::{Currency, Money};
use till_core::people::check_reason;
use till_core::shipment::{AdjustDecision, AdjustInput, decide_adjustment};

use super::aside::keep_promises;
use super::{counted, layers, unit_cost};
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, posting, sensible_date};

/// A count of an item in a warehouse.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewCount {
    /// Where; none for the company's own.
    #[serde(default)]
    pub warehouse: Option<String>,
    /// What was counted, in stock units, as typed.
    pub counted: String,
    /// What one of what was found costs, as typed; none for the cost of the newest layer.
    #[serde(default)]
    pub unit_cost: Option<String>,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Why it differs.
    pub reason: String,
}

/// Puts stock right after a count. Where less is there than was promised, the latest orders give
/// up what was reserved for them. Returns how much was found more, or less.
///
/// # Errors
/// What the core refuses.
pub async fn adjust(writing: &mut Writing<'_>, rules: &Rules, item: ItemId, new: &NewCount) -> Result<Quantity> {
    let row = sqlx::query!("SELECT code, class, kind FROM items WHERE id = ?", item.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Item, item))?;
    let warehouse = new.warehouse.clone().unwrap_or_else(|| rules.warehouse.clone());
    if row.kind != "goods" || !counted(writing, &warehouse, "warehouse").await? {
        return Err(StoreError::invalid("warehouse", format!("The stock of {} is not kept in {warehouse}.", row.code)));
    }
    let reason = check_reason(&new.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let date = new.date.map_or(Ok(rules.business_date), |date| sensible_date("date", date))?;
    let found: Quantity = new.counted.parse().map_err(|error| StoreError::decimal("counted", &error))?;
    if found < Quantity::ZERO || found > till_core::ordering::LARGEST_QUANTITY {
        return Err(StoreError::invalid("counted", "Write what was counted: zero or more."));
    }
    let layers = layers(writing, &[item], &warehouse, date).await?.remove(&item).unwrap_or_default();
    let on_hand: i64 = layers.iter().map(|layer| layer.remaining.scaled()).sum();
    let unit_cost = match &new.unit_cost {
        Some(typed) => typed.parse().map_err(|error| StoreError::decimal("unit_cost", &error))?,
        None => newest_cost(writing, item, rules.base).await?,
    };
    let difference = Quantity::from_scaled(found.scaled() - on_hand);
    let input = AdjustInput {
        item,
        warehouse: warehouse.clone(),
        class: row.class,
        code: row.code.clone(),
        difference,
        unit_cost,
        layers,
        date,
        accounts: &rules.accounts,
        periods: &rules.periods,
        base: rules.base,
    };
    let decision = decide_adjustment(&input).map_err(StoreError::Refused)?;
    write(writing, &input, (&decision, &reason)).await?;
    let given = keep_promises(writing, item, &warehouse).await?;
    let mut fields = vec![
        set("counted", found),
        set("difference", difference),
        set("cost", rules.base.format(decision.cost)),
        set("reason", &reason),
    ];
    fields.extend(given.into_iter().map(|number| set("taken from", number)));
    let words = format!("counted {found} of {} in {warehouse}", row.code);
    writing.note_on((DocumentKind::Item, item.0, &row.code), "stock_adjusted", words, None, fields);
    Ok(difference)
}

async fn write(
    writing: &mut Writing<'_>,
    input: &AdjustInput<'_>,
    (decision, reason): (&AdjustDecision, &str),
) -> Result<()> {
    let id = sqlx::query_scalar!(r#"SELECT coalesce(max(id), 0) + 1 AS "id!: i64" FROM stock_adjustments"#)
        .fetch_one(&mut **writing)
        .await?;
    let source = DocumentRef { kind: DocumentKind::Adjustment, id, number: input.code.clone() };
    let entry = posting::write(writing, &source, &decision.posting).await?.pop().map(|id| id.0);
    let quantity = input.difference.scaled();
    sqlx::query!(
        "INSERT INTO stock_adjustments (id, item_id, warehouse, posting_date, quantity_e4, cost_minor, reason, entry_id)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        id,
        input.item.0,
        input.warehouse,
        input.date,
        quantity,
        decision.cost.0,
        reason,
        entry
    )
    .execute(&mut **writing)
    .await?;
    Ok(())
}

/// What one of the newest layer cost.
async fn newest_cost(connection: &mut SqliteConnection, item: ItemId, base: Currency) -> Result<UnitPrice> {
    let newest = sqlx::query!(
        "SELECT quantity_e4, cost_minor FROM stock_layers WHERE item_id = ? ORDER BY id DESC LIMIT 1",
        item.0
    )
    .fetch_optional(connection)
    .await?;
    Ok(newest.map_or(UnitPrice::ZERO, |layer| {
        unit_cost(Quantity::from_scaled(layer.quantity_e4), Money(layer.cost_minor), base)
    }))
}
