//! How much of which deposit goes on a draft, where someone says otherwise than it goes by itself.

use serde::{Deserialize, Serialize};
use till_core::checks::{Check, Step, stops};
use till_core::ids::{DocumentKind, InvoiceId, OpenItemId};
use till_core::invoice::decide;
use till_core::money::Money;

use super::drafts::{draft, draft_inputs};
use super::line_changes::touch;
use crate::convert::json;
use crate::rules::Rules;
use crate::writing::{Writing, changed};
use crate::{Result, StoreError};

/// How much of a deposit is to be applied on a draft.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DepositWish {
    /// The version of the draft that was seen.
    pub version: i64,
    /// The open item of the deposit.
    pub item: OpenItemId,
    /// A decimal in the currency of the invoice; none to let it go by itself again.
    #[serde(default)]
    pub amount: Option<String>,
}

/// Says how much of a deposit is applied on a draft. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`]; a deposit that is none of the customer's, an amount that cannot be read, or more than is
/// held or the invoice has for it.
pub async fn change_deposit(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    wish: &DepositWish,
) -> Result<i64> {
    let row = draft(writing, id, Some(wish.version)).await?;
    let number = sqlx::query_scalar!(
        "SELECT number FROM open_items WHERE id = ? AND customer_id = ? AND kind = 'deposit' AND side = 'owed_by_us'",
        wish.item.0,
        row.customer.0
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| StoreError::invalid("item", "This customer has no such deposit."))?;
    let input = draft_inputs(writing, rules, std::slice::from_ref(&row), Step::Bill).await?.pop();
    let currency = input.map_or(rules.base, |input| input.basis.currency);
    let amount = match wish.amount.as_deref().map(str::trim) {
        None => None,
        Some(typed) => Some(currency.parse(typed).map_err(|error| StoreError::decimal("amount", &error))?),
    };
    let before: Option<Money> = row.deposits.iter().find(|(item, _)| *item == wish.item).map(|(_, amount)| *amount);
    let mut wanted = row.deposits.clone();
    wanted.retain(|(item, _)| *item != wish.item);
    wanted.extend(amount.map(|amount| (wish.item, amount)));
    let kept = (!wanted.is_empty()).then(|| json(&wanted)).transpose()?;
    sqlx::query!("UPDATE documents SET deposits_wanted = ? WHERE id = ?", kept, id.0).execute(&mut **writing).await?;
    touch(writing, id).await?;
    // More than there is is refused here, at its field.
    let row = draft(writing, id, None).await?;
    for input in draft_inputs(writing, rules, std::slice::from_ref(&row), Step::Bill).await? {
        let held = |blocker: &till_core::checks::Blocker| blocker.check == Check::MoreThanHeld;
        let mut blockers = decide(&input).blockers;
        blockers.retain(held);
        for blocker in &mut blockers {
            blocker.field = "amount".to_owned();
        }
        if stops(&blockers) {
            return Err(StoreError::Refused(blockers));
        }
    }
    let said = |amount: Option<Money>| amount.map_or_else(|| "by itself".to_owned(), |amount| currency.format(amount));
    let changes = changed(&format!("{number} applied"), Some(&said(before)), Some(&said(amount)));
    let words = format!("changed what of {number} is applied on a draft");
    let at = format!("draft {id}");
    writing.note_on((DocumentKind::Invoice, id.0, &at), "deposit_wish", words, Some(row.version), changes);
    Ok(row.version)
}
