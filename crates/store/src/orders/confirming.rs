//! Making an order binding, asked for where it needs someone's word.

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::checks::{Blocker, Effect, asks, customer_held, stops};
use till_core::ids::{DocumentKind, DocumentRef, OrderId};
use till_core::merge::FieldChange;
use till_core::ordering::{ConfirmLimits, OrderDecision, decide};
use till_core::people::{Role, check_reason};

use super::changing::{Head, head, mark};
use super::entering::{confirm_limits, number_of};
use super::form;
use super::refresh_states;
use super::resolve::{Resolved, Standing, resolve};
use crate::approvals::{self, Asked, Go, Wish};
use crate::customers::Outcome;
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, stock};

/// What stands in the way of confirming an order as it stands, and what confirming changes.
pub(crate) async fn confirmation<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: OrderId,
    limits: ConfirmLimits,
) -> Result<(Resolved<'a>, OrderDecision)> {
    let typed = form::form(connection, id).await?;
    let standing = Standing { order: Some(id), limits, keep_prices: true, quote: false };
    let mut resolved = resolve(connection, rules, &typed, standing).await?;
    resolved.input.name = number_of(connection, id).await?;
    let mut decision = decide(&resolved.input);
    let quoted = head(connection, id, None).await?.quote;
    if !quoted {
        decision.blockers.splice(0..0, ended_promotions(&resolved, rules.business_date));
    }
    Ok((resolved, decision))
}

/// Promotions that ended between entering and confirming.
fn ended_promotions(resolved: &Resolved<'_>, today: NaiveDate) -> Vec<Blocker> {
    till_core::ordering::ended_promotions(&resolved.input, today)
}

/// Makes a draft order binding, or asks for it: over the credit limit, on hold, above an amount.
///
/// # Errors
/// What the core refuses; an order that is no draft; no reason where someone has to approve.
pub async fn confirm_as(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: OrderId,
    version: Option<i64>,
    reason: &str,
) -> Result<Outcome> {
    let head = head(writing, id, version).await?;
    if head.confirmed {
        return Err(StoreError::WrongState(format!("{} is confirmed already.", head.number)));
    }
    let role = writing.asking_role();
    let limits = confirm_limits(writing, role).await?;
    let (_, decision) = confirmation(writing, rules, id, limits).await?;
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    if asks(&decision.blockers) && writing.actor().role.is_some() {
        let why: Vec<String> = decision
            .blockers
            .iter()
            .filter(|blocker| blocker.effect == Effect::Asks)
            .map(|blocker| blocker.sentence.clone())
            .collect();
        let reason = check_reason(reason).map_err(|_| {
            StoreError::invalid("reason", format!("{} Say why the order should go ahead.", why.join(" ")))
        })?;
        let changes: Vec<FieldChange> = why
            .iter()
            .map(|sentence| FieldChange { field: "why".to_owned(), from: None, to: Some(sentence.clone()) })
            .collect();
        let wish = Wish {
            asked: Asked::ConfirmOrder { order: id },
            document: DocumentRef { kind: DocumentKind::Order, id: id.0, number: head.number.clone() },
            amount: decision.total_base,
            words: format!("confirm {} for {}", head.number, head.customer),
            changes,
            reason,
            mark: mark(&form::form(writing, id).await?, &decision),
            gives_away: decision.given_away,
            held: customer_held(&decision.blockers),
        };
        if let Go::Waits(approval) = approvals::allowed_or_asked(writing, rules, wish).await? {
            return Ok(Outcome { version: head.version, waits: Some(approval) });
        }
    }
    write_confirmed(writing, rules, id, &head).await
}

/// What stands in the way of confirming an order that its customer accepted, with nobody there to ask: what a clerk would
/// have to ask for stands in the way too.
pub(crate) async fn hindering(connection: &mut SqliteConnection, rules: &Rules, id: OrderId) -> Result<Vec<Blocker>> {
    let limits = confirm_limits(connection, Some(Role::Clerk)).await?;
    let (_, decision) = confirmation(connection, rules, id, limits).await?;
    let hinders = |blocker: &Blocker| matches!(blocker.effect, Effect::Stops | Effect::Asks);
    Ok(decision.blockers.into_iter().filter(hinders).collect())
}

/// Makes a draft order binding that its customer accepted, where nothing is in the way; otherwise it stays a draft.
pub(crate) async fn confirm_by_itself(writing: &mut Writing<'_>, rules: &Rules, id: OrderId) -> Result<()> {
    if hindering(writing, rules, id).await?.is_empty() {
        let head = head(writing, id, None).await?;
        write_confirmed(writing, rules, id, &head).await?;
    }
    Ok(())
}

async fn write_confirmed(writing: &mut Writing<'_>, rules: &Rules, id: OrderId, head: &Head) -> Result<Outcome> {
    sqlx::query!(
        "UPDATE orders SET confirmed = 1, confirmed_on = ?, version = version + 1 WHERE id = ?",
        rules.business_date,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let added = stock::set_aside(writing, id, None).await?;
    let fields = added.iter().map(|(code, quantity)| set(&format!("reserved {code}"), quantity)).collect();
    let version = head.version + 1;
    let words = format!("confirmed {}", head.number);
    writing.note_on((DocumentKind::Order, id.0, &head.number), "order_confirmed", words, Some(version), fields);
    refresh_states(writing, &[id]).await?;
    Ok(Outcome { version, waits: None })
}

/// Makes a draft order binding as part of something larger, which is not done where it would have
/// to be asked for.
///
/// # Errors
/// As [`confirm_as`]; [`StoreError::NotAllowed`] where someone has to approve it first.
pub(crate) async fn confirm_at_once(writing: &mut Writing<'_>, rules: &Rules, id: OrderId) -> Result<()> {
    match confirm_as(writing, rules, id, None, "sold over the counter").await?.waits {
        None => Ok(()),
        Some(_) => Err(StoreError::NotAllowed(
            "This order has to be approved before its goods go. Confirm it first, and say why.".to_owned(),
        )),
    }
}

/// Makes a draft order binding, for the program.
///
/// # Errors
/// As [`confirm_as`]; [`StoreError::NotAllowed`] where it would have to be asked for.
pub async fn confirm(writing: &mut Writing<'_>, id: OrderId) -> Result<()> {
    let rules = crate::rules::load(writing).await?;
    match confirm_as(writing, &rules, id, None, "entered by the program").await?.waits {
        None => Ok(()),
        Some(_) => Err(StoreError::NotAllowed("This order has to be approved first.".to_owned())),
    }
}
