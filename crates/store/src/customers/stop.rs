//! A customer put on hold, and the stop lifted.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fingerprint;
use till_core::ids::{ApprovalId, CustomerId, DocumentKind, DocumentRef};
use till_core::money::Money;
use till_core::people::check_reason;

use crate::approvals::{self, Asked, Go};
use crate::rules::Rules;
use crate::writing::{Writing, changed};
use crate::{Result, StoreError};

/// Puts a customer on hold, with the reason everyone sees.
///
/// # Errors
/// [`StoreError::Stale`], an unknown customer, a reason that is missing.
pub async fn put_on_stop(writing: &mut Writing<'_>, id: CustomerId, version: i64, reason: &str) -> Result<i64> {
    let row = for_stop(writing, id).await?;
    if row.version != version {
        return Err(StoreError::Stale { what: row.name, current: row.version });
    }
    let reason = check_reason(reason).map_err(|why| StoreError::invalid("reason", why))?;
    set_stop(writing, id, &row, Some(&reason), &reason).await
}

/// What came of a request that may need approval.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Outcome {
    /// The version the document has now.
    pub version: i64,
    /// What waits for approval instead of being done; none where it was done.
    pub waits: Option<ApprovalId>,
}

/// Lets a customer on hold go on, or asks a lead to.
///
/// # Errors
/// [`StoreError::Stale`], where the customer is not on hold, or a reason is missing.
pub async fn lift_stop(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: CustomerId,
    version: Option<i64>,
    reason: &str,
) -> Result<Outcome> {
    let row = for_stop(writing, id).await?;
    if version.is_some_and(|seen| seen != row.version) {
        return Err(StoreError::Stale { what: row.name, current: row.version });
    }
    if row.stop_reason.is_none() {
        return Err(StoreError::WrongState(format!("{} is not on hold any more. There is nothing to lift.", row.name)));
    }
    let reason = check_reason(reason).map_err(|why| StoreError::invalid("reason", why))?;
    let asked = Asked::LiftStop { customer: id, reason: reason.clone() };
    let document = DocumentRef { kind: DocumentKind::Customer, id: id.0, number: row.number.clone() };
    let words = format!("lift the hold on {}", row.name);
    let changes = changed("on hold", row.stop_reason.as_deref(), None);
    // What the customer owes goes up and down meanwhile; the stop it is asked for is what must be there.
    let mark = fingerprint::of(&(&row.stop_reason, &reason));
    let reason_said = reason.clone();
    let wish = approvals::Wish {
        asked,
        document,
        amount: row.owes,
        words,
        changes,
        reason: reason_said,
        mark,
        gives_away: Money::ZERO,
        held: false,
    };
    match approvals::allowed_or_asked(writing, rules, wish).await? {
        Go::Waits(approval) => Ok(Outcome { version: row.version, waits: Some(approval) }),
        Go::Ahead(_) => Ok(Outcome { version: set_stop(writing, id, &row, None, &reason).await?, waits: None }),
    }
}

struct ForStop {
    number: String,
    name: String,
    stop_reason: Option<String>,
    owes: Money,
    version: i64,
}

async fn for_stop(connection: &mut SqliteConnection, id: CustomerId) -> Result<ForStop> {
    let row =
        sqlx::query!("SELECT number, name, stop_reason, owes_base_minor, version FROM customers WHERE id = ?", id.0)
            .fetch_optional(connection)
            .await?
            .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, id))?;
    Ok(ForStop {
        number: row.number,
        name: row.name,
        stop_reason: row.stop_reason,
        owes: Money(row.owes_base_minor),
        version: row.version,
    })
}

async fn set_stop(
    writing: &mut Writing<'_>,
    id: CustomerId,
    before: &ForStop,
    stop: Option<&str>,
    reason: &str,
) -> Result<i64> {
    sqlx::query!("UPDATE customers SET stop_reason = ?, version = version + 1 WHERE id = ?", stop, id.0)
        .execute(&mut **writing)
        .await?;
    let (what, words) = match stop {
        Some(_) => ("customer_stopped", format!("put {} on hold: {reason}", before.name)),
        None => ("stop_lifted", format!("lifted the hold on {}: {reason}", before.name)),
    };
    let changes = changed("on hold", before.stop_reason.as_deref(), stop);
    let version = before.version + 1;
    writing.note_on((DocumentKind::Customer, id.0, &before.number), what, words, Some(version), changes);
    Ok(version)
}
