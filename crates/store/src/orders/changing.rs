//! Changing a draft order, and amending an open one.

use sqlx::SqliteConnection;
use till_core::checks::{Blocker, Check, Effect, Step, customer_held, stops};
use till_core::fingerprint;
use till_core::ids::{DocumentKind, DocumentRef, OrderId};
use till_core::merge::differences;
use till_core::money::Money;
use till_core::ordering::{OrderDecision, asked_of_amendment, decide};
use till_core::people::{Operation, denied, may_try};

use super::entering::{confirm_limits, refuse_at, write_head, write_lines};
use super::form::{self, OrderForm, described};
use super::refresh_states;
use super::resolve::{Resolved, Standing, resolve};
use crate::approvals::{self, Asked, Go, Wish};
use crate::convert::json;
use crate::customers::Outcome;
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError, stock};

pub(super) struct Head {
    pub(super) number: String,
    pub(super) customer: String,
    pub(super) version: i64,
    pub(super) confirmed: bool,
    pub(super) state: String,
    pub(super) quote: bool,
}

pub(super) async fn head(connection: &mut SqliteConnection, id: OrderId, version: Option<i64>) -> Result<Head> {
    let row = sqlx::query!(
        "SELECT orders.number, name, orders.version, confirmed, state, quote_id FROM orders
         JOIN customers ON customers.id = customer_id WHERE orders.id = ?",
        id.0
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Order, id))?;
    if version.is_some_and(|seen| seen != row.version) {
        return Err(StoreError::Stale { what: row.number, current: row.version });
    }
    Ok(Head {
        number: row.number,
        customer: row.name,
        version: row.version,
        confirmed: row.confirmed != 0,
        state: row.state,
        quote: row.quote_id.is_some(),
    })
}

/// Changes a draft, or amends an open order: never below what shipped. Where an amendment takes
/// the customer over its limit, or the order above what the person may confirm, it is asked for.
///
/// # Errors
/// [`StoreError::Stale`], an order that has ended, what the core refuses.
pub async fn change(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: OrderId,
    version: i64,
    typed: &OrderForm,
) -> Result<Outcome> {
    let head = head(writing, id, Some(version)).await?;
    // More of it opens it again: by right, because its customer may think it done.
    if head.confirmed
        && head.state != "open"
        && let Some(role) = writing.actor().role.filter(|role| !may_try(*role, Operation::ReopenOrder))
    {
        return Err(StoreError::NotAllowed(format!(
            "{} is {}: everything of it has shipped or was canceled. {} Or copy it into a new order.",
            head.number,
            head.state,
            denied(role, Operation::ReopenOrder)
        )));
    }
    let before = form::form(writing, id).await?;
    if typed.customer != before.customer {
        return Err(StoreError::invalid("customer", "An order stays with its customer. Enter another order."));
    }
    let role = writing.asking_role();
    let limits = confirm_limits(writing, role).await?;
    let standing = Standing { order: Some(id), limits, ..Standing::default() };
    let resolved = resolve(writing, rules, typed, standing).await?;
    let decision = decide(&resolved.input);
    refuse_at(&decision, Step::Draft)?;
    if head.confirmed {
        if stops(&decision.blockers) {
            return Err(StoreError::Refused(decision.blockers));
        }
        let old = as_it_stands(writing, rules, id).await?;
        let asked = asked_of_amendment(&old, &decision);
        if !asked.is_empty() {
            let wish = amendment(id, &head, version, (typed, &before), (&decision, &asked));
            if let Go::Waits(approval) = approvals::allowed_or_asked(writing, rules, wish).await? {
                return Ok(Outcome { version, waits: Some(approval) });
            }
        }
    }
    let version = write_change(writing, id, &head, &resolved, &decision, &before).await?;
    Ok(Outcome { version, waits: None })
}

/// Changes with what the order says, what it comes to, and what has to be asked for. Not with how much
/// the customer owes meanwhile.
pub(super) fn mark(form: &OrderForm, decision: &OrderDecision) -> String {
    let asks = |blocker: &&Blocker| blocker.effect == Effect::Asks;
    let mut checks: Vec<Check> = decision.blockers.iter().filter(asks).map(|blocker| blocker.check).collect();
    checks.sort_unstable();
    checks.dedup();
    fingerprint::of(&(described(form), decision.total_base, checks))
}

fn amendment(
    id: OrderId,
    head: &Head,
    version: i64,
    (typed, before): (&OrderForm, &OrderForm),
    (decision, asked): (&OrderDecision, &[&Blocker]),
) -> Wish {
    let sentences: Vec<&str> = asked.iter().map(|blocker| blocker.sentence.as_str()).collect();
    let gives_more = asked.iter().any(|blocker| blocker.check == Check::PriceGivenAway);
    Wish {
        asked: Asked::ChangeOrder { order: id, version, form: Box::new(typed.clone()) },
        document: DocumentRef { kind: DocumentKind::Order, id: id.0, number: head.number.clone() },
        amount: decision.total_base,
        words: format!("change {} of {}", head.number, head.customer),
        changes: differences(&described(before), &described(typed)),
        reason: sentences.join(" "),
        mark: mark(typed, decision),
        gives_away: if gives_more { decision.given_away } else { Money::ZERO },
        held: customer_held(&decision.blockers),
    }
}

pub(super) async fn as_it_stands(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: OrderId,
) -> Result<OrderDecision> {
    let typed = form::form(connection, id).await?;
    let standing = Standing { order: Some(id), keep_prices: true, ..Standing::default() };
    let resolved = resolve(connection, rules, &typed, standing).await?;
    Ok(decide(&resolved.input))
}

async fn write_change(
    writing: &mut Writing<'_>,
    id: OrderId,
    head: &Head,
    resolved: &Resolved<'_>,
    decision: &OrderDecision,
    before: &OrderForm,
) -> Result<i64> {
    let kept: Vec<i64> = resolved.lines.iter().filter_map(|line| line.id).map(|id| id.0).collect();
    let kept = json(&kept)?;
    let gone = sqlx::query!(
        r#"SELECT order_lines.id, code, EXISTS (SELECT 1 FROM shipment_lines WHERE order_line_id = order_lines.id) AS "on_shipment!: bool"
           FROM order_lines JOIN items ON items.id = item_id
           WHERE order_id = ? AND order_lines.id NOT IN (SELECT value FROM json_each(?))"#,
        id.0,
        kept
    )
    .fetch_all(&mut **writing)
    .await?;
    for line in gone {
        if line.on_shipment {
            return Err(StoreError::invalid(
                "lines",
                format!(
                    "{} stands on a shipment and cannot be taken off. Cancel what is left of it instead.",
                    line.code
                ),
            ));
        }
        sqlx::query!("UPDATE expected_goods SET order_line_id = NULL WHERE order_line_id = ?", line.id)
            .execute(&mut **writing)
            .await?;
        sqlx::query!("DELETE FROM order_lines WHERE id = ?", line.id).execute(&mut **writing).await?;
    }
    write_lines(writing, id, resolved, &decision.lines).await?;
    write_head(writing, id, resolved).await?;
    sqlx::query!("UPDATE orders SET version = version + 1 WHERE id = ?", id.0).execute(&mut **writing).await?;
    if head.confirmed {
        stock::set_aside(writing, id, None).await?;
        refresh_states(writing, &[id]).await?;
    }
    let version = head.version + 1;
    let is = described(&form::form(writing, id).await?);
    let changes = differences(&described(before), &is);
    let words = format!("changed {}", head.number);
    writing.note_on((DocumentKind::Order, id.0, &head.number), "order_changed", words, Some(version), changes);
    Ok(version)
}
