//! Goods that come in for repair and go back: in the list of the place, not in the ledger.

use sqlx::SqliteConnection;
use till_core::calendar::DateOrder;
use till_core::ids::ReturnId;
use till_core::money::Money;
use till_core::posting::Posting;
use till_core::returns::{Repair, RepairInput};

use super::carrying::{NewStep, StepLine, carry_out};
use super::facts::{self, Head};
use super::steps::{Done, ReceiveForm, StepPreview, arriving, dated, there};
use crate::Result;
use crate::rules::Rules;
use crate::writing::{Writing, set};

async fn load<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    (id, head): (ReturnId, &Head),
    (way, form): (Repair, &ReceiveForm),
) -> Result<RepairInput<'a>> {
    let (lines, moved) = arriving(connection, rules, id, form).await?;
    let in_repair = there(connection, &lines).await?;
    Ok(RepairInput {
        number: head.number.clone(),
        way,
        lines,
        in_repair,
        moved,
        date: dated(rules, form.date)?,
        expires_on: head.expires_on,
        closed_on: head.closed_on,
        dates: DateOrder::of_today(rules.business_date),
        periods: &rules.periods,
    })
}

/// Whether goods can come in for repair, or go back. Nothing is written.
///
/// # Errors
/// [`StoreError::NotFound`](crate::StoreError::NotFound); what cannot be read.
pub async fn repair_preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: ReturnId,
    way: Repair,
    form: &ReceiveForm,
) -> Result<StepPreview> {
    let head = facts::head(connection, id).await?;
    let decision = till_core::returns::repair(&load(connection, rules, (id, &head), (way, form)).await?);
    Ok(StepPreview {
        costs: decision.lines.iter().map(|_| Money::ZERO).collect(),
        tape: None,
        entry: None,
        changes: Vec::new(),
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Takes goods of a return in for repair, or sends them back.
///
/// # Errors
/// [`StoreError::Stale`](crate::StoreError::Stale), [`StoreError::Moved`](crate::StoreError::Moved), or what the core refuses.
pub async fn repair(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ReturnId,
    (version, seen): (i64, Option<&str>),
    way: Repair,
    form: &ReceiveForm,
) -> Result<Done> {
    let head = facts::head(writing, id).await?;
    head.is(version)?;
    let input = load(writing, rules, (id, &head), (way, form)).await?;
    let decision = till_core::returns::repair(&input);
    let lines = decision.lines.iter().filter_map(|(line, quantity, stock)| {
        let line = input.lines.get(*line)?.id;
        Some(StepLine { quantity: quantity.scaled(), ..StepLine::of(line, *stock, Money::ZERO) })
    });
    let fields = decision.lines.iter().map(|(line, quantity, _)| set(&input.lines[*line].code, quantity)).collect();
    let (kind, what, words) = match way {
        Repair::In => ("for_repair", "return_for_repair", format!("took goods of {} in for repair", head.number)),
        Repair::Out => ("repaired", "return_repaired", format!("sent goods of {} back repaired", head.number)),
    };
    let new = NewStep {
        kind,
        date: input.date.date,
        note: form.note.as_deref(),
        blockers: decision.blockers.clone(),
        fingerprint: &decision.fingerprint,
        lines: lines.collect(),
        deed: (what, words, fields),
        with: None,
    };
    carry_out(writing, (id, &head), seen, new, |_| Posting::default()).await
}
