//! Moving what is held of a deposit to another order, or on account: no entry, the register moves.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{DepositId, DocumentKind, OrderId};
use till_core::open_items::Side;
use till_core::people::check_reason;

use super::facts::target;
use crate::rules::Rules;
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError, customer_pages, open_items, orders};

/// Where a deposit is to go.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToMove {
    /// The order; none on account.
    #[serde(default)]
    pub order: Option<OrderId>,
    /// Why.
    #[serde(default)]
    pub reason: String,
}

async fn number_of(connection: &mut SqliteConnection, order: Option<i64>, quote: Option<i64>) -> Result<String> {
    let number = sqlx::query_scalar!(
        r#"SELECT coalesce((SELECT number FROM orders WHERE id = ?), (SELECT number FROM quotes WHERE id = ?), 'on account') AS "number!: String""#,
        order,
        quote
    );
    Ok(number.fetch_one(connection).await?)
}

/// Moves what is held of a deposit. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`]; a deposit of which nothing is held, an order of another customer or currency, or one that
/// does not come to so much.
pub async fn move_to(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: DepositId,
    version: i64,
    wish: &ToMove,
) -> Result<i64> {
    let reason = check_reason(&wish.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let row = sqlx::query!(
        "SELECT number, version, order_id, quote_id FROM payments JOIN deposits ON deposits.id = payments.id WHERE payments.id = ?",
        id.0
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Deposit, id))?;
    if row.version != version {
        return Err(StoreError::Stale { what: row.number, current: row.version });
    }
    let item = open_items::item_of(writing, DocumentKind::Deposit, id.0, Side::OwedByUs).await?;
    if item.open.is_zero() {
        let sentence = format!("Nothing of {} is held any more. An applied deposit is unapplied first.", row.number);
        return Err(StoreError::invalid("order", sentence));
    }
    let to = wish.order.map(|order| order.0);
    if to == row.order_id && row.quote_id.is_none() {
        return Err(StoreError::invalid("order", format!("{} is there already. Choose another order.", row.number)));
    }
    if let Some(order) = wish.order {
        let target = target(writing, rules, order, item.customer).await?;
        let left = target.total() - target.taken_before;
        if target.currency != item.currency || item.open > left {
            let sentence = format!(
                "{} comes to {} {} more than was taken for it, {} {} are held. Move it on account, or to another order.",
                target.number,
                target.currency.grouped(left.max(till_core::money::Money::ZERO)),
                target.currency,
                item.currency.grouped(item.open),
                item.currency
            );
            return Err(StoreError::invalid("order", sentence));
        }
    }
    let (was, is) = (number_of(writing, row.order_id, row.quote_id).await?, number_of(writing, to, None).await?);
    sqlx::query!(
        "INSERT INTO deposit_moves (deposit_id, moved_on, from_order_id, from_quote_id, to_order_id, amount_minor, reason)
         VALUES (?, ?, ?, ?, ?, ?, ?)",
        id.0,
        rules.business_date,
        row.order_id,
        row.quote_id,
        to,
        item.open.0,
        reason
    )
    .execute(&mut **writing)
    .await?;
    sqlx::query!("UPDATE deposits SET order_id = ?, quote_id = NULL WHERE id = ?", to, id.0)
        .execute(&mut **writing)
        .await?;
    sqlx::query!("UPDATE payments SET version = version + 1 WHERE id = ?", id.0).execute(&mut **writing).await?;
    let concerned: Vec<OrderId> = row.order_id.into_iter().chain(to).map(OrderId).collect();
    orders::refresh_states(writing, &concerned).await?;
    if let Some(order) = wish.order {
        customer_pages::settle(writing, rules, order).await?;
    }
    let mut fields = changed("for", Some(&was), Some(&is));
    fields.push(set("held", item.currency.format(item.open)));
    fields.push(set("reason", &reason));
    let words = format!("moved {} to {is}", row.number);
    writing.note_on((DocumentKind::Deposit, id.0, &row.number), "deposit_moved", words, Some(version + 1), fields);
    Ok(version + 1)
}
