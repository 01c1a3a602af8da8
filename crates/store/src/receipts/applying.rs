//! Applying what is open on a credit: money without a target, whatever it came from.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::ids::{DocumentKind, DocumentRef, ReceiptId};
use till_core::open_items::Side;
use till_core::settle::{SettleInput, Source, decide};

use super::{Credit, MoneyPreview, NewApplication, agreed, applied_fields, kind_of, previewed, settle_input};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError, deposits, open_items, posting, sensible_date};

/// Unapplied money to apply, as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewApplications {
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Where it goes; none to propose the oldest invoices first.
    #[serde(default)]
    pub applications: Option<Vec<NewApplication>>,
}

async fn unapplied_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: ReceiptId,
    new: &NewApplications,
) -> Result<(SettleInput<'a>, i64)> {
    if let Some(date) = new.date {
        sensible_date("date", date)?;
    }
    let version = sqlx::query_scalar!("SELECT version FROM payments WHERE id = ?", id.0)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Receipt, id))?;
    let kind = kind_of(connection, id).await?;
    let item = open_items::item_of(connection, kind, id.0, Side::OwedByUs).await?;
    let credit = Credit {
        payer: item.customer,
        date: DocumentDate::or_business_date(new.date, rules.business_date),
        money: (item.currency, item.open),
        source: Source::Item(item),
        typed: new.applications.as_deref(),
        first: None,
    };
    Ok((settle_input(connection, rules, credit).await?, version))
}

/// What applying unapplied money would do.
///
/// # Errors
/// An unknown receipt or invoice, an amount that cannot be read.
pub async fn preview_apply(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: ReceiptId,
    new: &NewApplications,
) -> Result<MoneyPreview> {
    let (input, _) = unapplied_input(connection, rules, id, new).await?;
    Ok(previewed(&input, decide(&input)))
}

/// Applies money that lies unapplied on a receipt. Returns the receipt's new version.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn apply(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ReceiptId,
    version: i64,
    new: &NewApplications,
    seen: Option<&str>,
) -> Result<i64> {
    let (input, current) = unapplied_input(writing, rules, id, new).await?;
    let Source::Item(item) = &input.source else { return Err(StoreError::Moved) };
    let (kind, number) = (item.document.kind, item.document.number.clone());
    if current != version {
        return Err(StoreError::Stale { what: number, current });
    }
    let decision = decide(&input);
    agreed(&decision, seen)?;
    let source = DocumentRef { kind, id: id.0, number: number.clone() };
    posting::write(writing, &source, &decision.posting(&input)).await?;
    if kind == DocumentKind::Deposit {
        deposits::refresh_orders(writing, &[id.0]).await?;
    }
    let fields = applied_fields(&decision);
    let words = match kind {
        DocumentKind::Deposit => format!("applied {number}"),
        _ => format!("applied unapplied money of {number}"),
    };
    writing.note_on((kind, id.0, &number), "money_applied", words, Some(version + 1), fields);
    Ok(version + 1)
}
