//! Cancelling lines of an order, or the rest of it.

use serde::{Deserialize, Serialize};
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, OrderId, OrderLineId};
use till_core::people::check_reason;

use super::changing::head;
use super::form::said;
use super::refresh_states;
use crate::approvals::{self};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, stock};

/// What to cancel.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToCancel {
    /// The version seen.
    pub version: i64,
    /// A line, or none for the rest of the order.
    #[serde(default)]
    pub line: Option<OrderLineId>,
    /// How much of the line, as typed; none for all that has not shipped.
    #[serde(default)]
    pub quantity: Option<String>,
    /// Why.
    pub reason: String,
}

/// Cancels what of an order has not shipped: a line, a part of one, or the rest.
///
/// # Errors
/// [`StoreError::Stale`], nothing left, no reason, what is being shipped.
pub async fn cancel(writing: &mut Writing<'_>, id: OrderId, what: &ToCancel) -> Result<i64> {
    let head = head(writing, id, Some(what.version)).await?;
    let reason = check_reason(&what.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let asked = match said(what.quantity.as_deref()) {
        Some(typed) => Some(stock::read_quantity("quantity", typed)?),
        None => None,
    };
    let only = what.line.map(|line| line.0);
    let lines = sqlx::query!(
        r#"SELECT id, code AS "code!", free_to_ship_e4 AS "free!: i64" FROM order_line_state
           WHERE order_id = ?1 AND (?2 IS NULL OR id = ?2) AND to_ship_e4 > 0 ORDER BY position"#,
        id.0,
        only
    )
    .fetch_all(&mut **writing)
    .await?;
    let mut fields = vec![set("reason", &reason)];
    for line in lines {
        let free = line.free;
        let wanted = asked.map_or(free, Quantity::scaled);
        if wanted > free || (free <= 0 && only.is_some()) {
            return Err(StoreError::invalid(
                "quantity",
                format!(
                    "{} of {} can be canceled: the rest has shipped, or is being shipped.",
                    Quantity::from_scaled(free.max(0)),
                    line.code
                ),
            ));
        }
        if wanted <= 0 {
            continue;
        }
        stock::trim_aside(writing, &[(OrderLineId(line.id), Quantity::from_scaled(wanted))]).await?;
        sqlx::query!(
            "UPDATE order_lines SET cancelled_e4 = cancelled_e4 + ?1, cancel_reason = ?2 WHERE id = ?3",
            wanted,
            reason,
            line.id
        )
        .execute(&mut **writing)
        .await?;
        fields.push(set(&line.code, Quantity::from_scaled(wanted)));
    }
    if fields.len() == 1 {
        return Err(StoreError::WrongState(format!("Nothing of {} is left to cancel.", head.number)));
    }
    sqlx::query!("UPDATE orders SET version = version + 1 WHERE id = ?", id.0).execute(&mut **writing).await?;
    let words = match what.line {
        Some(_) => format!("canceled a line of {}", head.number),
        None => format!("canceled the rest of {}", head.number),
    };
    let version = head.version + 1;
    writing.note_on((DocumentKind::Order, id.0, &head.number), "order_cancelled", words, Some(version), fields);
    if only.is_none() {
        approvals::document_gone(writing, DocumentKind::Order, id.0).await?;
    }
    refresh_states(writing, &[id]).await?;
    Ok(version)
}

/// Cancels what of the order's lines has not shipped, for the program.
///
/// # Errors
/// As [`cancel`].
pub async fn cancel_rest(writing: &mut Writing<'_>, id: OrderId) -> Result<()> {
    let version = head(writing, id, None).await?.version;
    let what = ToCancel { version, line: None, quantity: None, reason: "not wanted any more".to_owned() };
    cancel(writing, id, &what).await?;
    Ok(())
}
