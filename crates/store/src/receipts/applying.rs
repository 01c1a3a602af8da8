//! Applying what is open on a credit: money without a target, whatever it came from.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::ids::{CreditMemoId, DocumentKind, OpenItemId, ReceiptId};
use till_core::open_items::{OpenItem, Side};
use till_core::settle::{SettleInput, Source, decide};

use super::{
    Credit, MoneyPreview, NewApplication, agreed, applied_fields, disputed, kind_of, previewed, settle_input,
    within_limit,
};
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

/// Something that lies open on a customer's side: money that came, or a credit memo of which something is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum CreditOf {
    /// A receipt or a deposit.
    Payment(ReceiptId),
    /// A credit memo.
    CreditMemo(CreditMemoId),
}

impl From<ReceiptId> for CreditOf {
    fn from(id: ReceiptId) -> Self {
        Self::Payment(id)
    }
}

impl From<CreditMemoId> for CreditOf {
    fn from(id: CreditMemoId) -> Self {
        Self::CreditMemo(id)
    }
}

impl CreditOf {
    /// What lies open of it, and its version.
    ///
    /// # Errors
    /// [`StoreError::NotFound`]; [`StoreError::WrongState`] where nothing of a credit memo was kept.
    pub(crate) async fn item(self, connection: &mut SqliteConnection) -> Result<(OpenItem, i64)> {
        match self {
            Self::Payment(id) => {
                let version = sqlx::query_scalar!("SELECT version FROM payments WHERE id = ?", id.0)
                    .fetch_optional(&mut *connection)
                    .await?
                    .ok_or_else(|| StoreError::not_found(DocumentKind::Receipt, id))?;
                let kind = kind_of(connection, id).await?;
                Ok((open_items::item_of(connection, kind, id.0, Side::OwedByUs).await?, version))
            }
            Self::CreditMemo(id) => {
                let memo = sqlx::query!("SELECT number, version FROM credit_memos WHERE id = ?", id.0)
                    .fetch_optional(&mut *connection)
                    .await?
                    .ok_or_else(|| StoreError::not_found(DocumentKind::CreditMemo, id))?;
                // What settled its own invoice stands on another account, and is no credit to apply.
                let kept = sqlx::query_scalar!(
                    "SELECT id FROM open_items WHERE kind = 'credit_memo' AND document_id = ? AND side = 'owed_by_us' AND purpose = 'unapplied'",
                    id.0
                )
                .fetch_optional(&mut *connection)
                .await?
                .map(OpenItemId);
                let item = open_items::load(connection, kept.as_slice()).await?.pop();
                let sentence = || {
                    let number = memo.number.unwrap_or_default();
                    StoreError::WrongState(format!("Nothing of {number} was kept: it settled its invoice."))
                };
                Ok((item.ok_or_else(sentence)?, memo.version))
            }
        }
    }
}

async fn unapplied_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    of: CreditOf,
    new: &NewApplications,
) -> Result<(SettleInput<'a>, i64)> {
    if let Some(date) = new.date {
        sensible_date("date", date)?;
    }
    let (item, version) = of.item(connection).await?;
    let words = match of {
        CreditOf::Payment(id) => {
            sqlx::query_scalar!("SELECT reference FROM payments WHERE id = ?", id.0).fetch_one(&mut *connection).await?
        }
        CreditOf::CreditMemo(_) => None,
    };
    let credit = Credit {
        payer: item.customer,
        date: DocumentDate::or_business_date(new.date, rules.business_date),
        money: (item.currency, item.open),
        source: Source::Item(item),
        typed: new.applications.as_deref(),
        first: None,
        words: words.as_deref(),
        foreign: false,
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
    of: impl Into<CreditOf>,
    new: &NewApplications,
) -> Result<MoneyPreview> {
    let (input, _) = unapplied_input(connection, rules, of.into(), new).await?;
    Ok(previewed(&input, decide(&input)))
}

/// Applies what lies unapplied on a receipt, a deposit or a credit memo. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn apply(
    writing: &mut Writing<'_>,
    rules: &Rules,
    of: impl Into<CreditOf>,
    version: i64,
    new: &NewApplications,
    seen: Option<&str>,
) -> Result<i64> {
    let (input, current) = unapplied_input(writing, rules, of.into(), new).await?;
    let Source::Item(item) = &input.source else { return Err(StoreError::Moved) };
    let source = item.document.clone();
    let (kind, number) = (source.kind, source.number.clone());
    if current != version {
        return Err(StoreError::Stale { what: number, current });
    }
    let decision = decide(&input);
    agreed(&decision, seen)?;
    within_limit(writing, &input, &decision).await?;
    posting::write(writing, &source, &decision.posting(&input)).await?;
    disputed(writing, rules, new.applications.as_deref(), (&input, &decision)).await?;
    if kind == DocumentKind::Deposit {
        deposits::refresh_orders(writing, &[source.id]).await?;
    }
    let fields = applied_fields(&decision);
    let words = match kind {
        DocumentKind::Deposit | DocumentKind::CreditMemo => format!("applied {number}"),
        _ => format!("applied unapplied money of {number}"),
    };
    writing.note_on((kind, source.id, &number), "money_applied", words, Some(version + 1), fields);
    Ok(version + 1)
}
