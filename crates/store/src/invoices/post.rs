//! Posting: picks at once, one draft, or many.

use serde::{Deserialize, Serialize};
use till_core::checks::{Check, Step, one, stops};
use till_core::ids::InvoiceId;
use till_core::invoice::{InvoiceDecision, InvoiceInput, decide, decide_in_order, decide_those_that_go};

use super::drafts::{draft, draft_inputs};
use super::write::{ToPost, post_all};
use super::{DraftRow, InvoicePreview, PostedInvoice, ToBill, drafts, inputs, split, write_drafts};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError};

/// A draft with what it comes to.
pub(crate) struct Decided<'a> {
    pub(crate) draft: DraftRow,
    pub(crate) input: InvoiceInput<'a>,
    pub(crate) decision: InvoiceDecision,
}

/// What drafts come to, posted one after the other.
pub(crate) async fn decide_drafts<'a>(
    connection: &mut sqlx::SqliteConnection,
    rules: &'a Rules,
    ids: &[InvoiceId],
    step: Step,
) -> Result<Vec<Decided<'a>>> {
    let rows = drafts(connection, ids).await?;
    let mut inputs = draft_inputs(connection, rules, &rows, step).await?;
    let decisions = decide_in_order(&mut inputs);
    Ok(together(rows, inputs, decisions))
}

/// What drafts of a run come to as it goes on: one that is not as it was seen is not posted, and makes nothing of
/// those after it.
pub(crate) async fn decide_as_seen<'a>(
    connection: &mut sqlx::SqliteConnection,
    rules: &'a Rules,
    ids: &[InvoiceId],
) -> Result<Vec<Decided<'a>>> {
    let rows = drafts(connection, ids).await?;
    let mut inputs = draft_inputs(connection, rules, &rows, Step::Post).await?;
    let seen = |place: usize| rows.get(place).and_then(|row| row.seen.as_ref());
    let decisions = decide_those_that_go(&mut inputs, |place, decision| seen(place) == Some(&decision.fingerprint));
    Ok(together(rows, inputs, decisions))
}

fn together<'a>(
    rows: Vec<DraftRow>,
    inputs: Vec<InvoiceInput<'a>>,
    decisions: Vec<InvoiceDecision>,
) -> Vec<Decided<'a>> {
    let all = rows.into_iter().zip(inputs).zip(decisions);
    all.map(|((draft, input), decision)| Decided { draft, input, decision }).collect()
}

/// Posts the picks at once: every invoice they come to, or none.
///
/// `seen` are the fingerprints of the previews, in their order; none for operations without
/// a person before them.
///
/// # Errors
/// [`StoreError::Moved`] where a figure changed since the preview, or what the core refuses.
pub async fn post_picks(
    writing: &mut Writing<'_>,
    rules: &Rules,
    to_bill: &ToBill,
    seen: Option<&[String]>,
) -> Result<Vec<PostedInvoice>> {
    let wanted = split(writing, rules, to_bill).await?;
    if wanted.is_empty() {
        let sentence = "Nothing is selected. Select a shipment or a line to bill.";
        return Err(StoreError::Refused(one(Check::NothingToDo, Step::Post, "picks", sentence)));
    }
    if seen.is_some_and(|seen| seen.len() != wanted.len()) {
        return Err(StoreError::Moved);
    }
    let mut inputs = inputs(writing, rules, Step::Post, wanted.clone()).await?;
    let decisions = decide_in_order(&mut inputs);
    for (position, decision) in decisions.iter().enumerate() {
        agreed(decision, seen.and_then(|seen| seen.get(position)))?;
    }
    // They are drafts for a moment, as every invoice is before it is posted.
    let ids = write_drafts(writing, rules, &wanted, None, None).await?;
    let to_post =
        ids.iter().zip(&inputs).zip(decisions).map(|((id, input), decision)| ToPost::of(*id, input, decision));
    post_all(writing, to_post.collect()).await
}

/// Whether a decision may be posted.
fn agreed(decision: &InvoiceDecision, seen: Option<&String>) -> Result<()> {
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers.clone()));
    }
    if seen.is_some_and(|seen| *seen != decision.fingerprint) || decision.document.is_none() {
        return Err(StoreError::Moved);
    }
    Ok(())
}

/// Posts a draft.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn post_draft(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    version: i64,
    seen: &str,
) -> Result<PostedInvoice> {
    draft(writing, id, Some(version)).await?;
    let posted = post_many(writing, rules, &[SeenDraft { id, seen: seen.to_owned() }]).await?;
    posted.into_iter().next().ok_or(StoreError::Moved)
}

/// A draft as it was seen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SeenDraft {
    /// The draft.
    pub id: InvoiceId,
    /// Its fingerprint.
    pub seen: String,
}

/// Posts drafts together: all of them, or none.
///
/// # Errors
/// [`StoreError::Moved`] where one is not as it was seen, or what the core refuses.
pub async fn post_many(writing: &mut Writing<'_>, rules: &Rules, seen: &[SeenDraft]) -> Result<Vec<PostedInvoice>> {
    let ids: Vec<InvoiceId> = seen.iter().map(|one| one.id).collect();
    let rows = drafts(writing, &ids).await?;
    let mut inputs = draft_inputs(writing, rules, &rows, Step::Post).await?;
    // Each was looked at by itself.
    let alone: Vec<InvoiceDecision> = if seen.len() > 1 { inputs.iter().map(decide).collect() } else { Vec::new() };
    let decisions = decide_in_order(&mut inputs);
    if decisions.len() != seen.len() {
        return Err(StoreError::WrongState("One of the drafts is posted or deleted already. Look again.".to_owned()));
    }
    for (at, (decision, seen)) in decisions.iter().zip(seen).enumerate() {
        match alone.get(at).filter(|alone| alone.fingerprint == seen.seen && charges_alike(alone, decision)) {
            // What is said of what was billed before may differ; what is charged may not.
            Some(_) => agreed(decision, None)?,
            None => agreed(decision, Some(&seen.seen))?,
        }
    }
    let to_post = rows.iter().zip(&inputs).zip(decisions);
    post_all(writing, to_post.map(|((row, input), decision)| ToPost::of(row.id, input, decision)).collect()).await
}

/// Whether two decisions on one draft charge the same, line by line.
fn charges_alike(one: &InvoiceDecision, other: &InvoiceDecision) -> bool {
    let charged = |decision: &InvoiceDecision| {
        decision.document.as_ref().map(|document| {
            let lines: Vec<_> =
                document.lines.iter().map(|line| (line.quantity, line.amount, line.net, line.tax.clone())).collect();
            (lines, document.taxes.clone(), document.total, document.total_base)
        })
    };
    charged(one) == charged(other)
}

/// What a row of a grid of one-line invoices comes to, or what is wrong with it.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GridAnswer {
    /// The invoice, where the row can be read.
    pub preview: Option<InvoicePreview>,
    /// The field that cannot be read.
    pub field: Option<String>,
    /// What is wrong with it.
    pub sentence: Option<String>,
}

/// The most rows of a grid.
const MOST_ROWS: usize = 200;

/// What the rows of a grid come to, each by itself.
///
/// # Errors
/// More rows than a grid has; what the database says.
pub async fn preview_grid(
    connection: &mut sqlx::SqliteConnection,
    rules: &Rules,
    rows: &[ToBill],
) -> Result<Vec<GridAnswer>> {
    check_rows(rows)?;
    let mut answers = Vec::with_capacity(rows.len());
    for row in rows {
        answers.push(match super::preview(connection, rules, row).await {
            Ok(mut previews) => GridAnswer { preview: previews.pop(), field: None, sentence: None },
            Err(error @ (StoreError::Invalid { .. } | StoreError::NotFound { .. })) => {
                let field = match &error {
                    StoreError::Invalid { field, .. } => field.clone(),
                    _ => "customer".to_owned(),
                };
                GridAnswer { preview: None, field: Some(field), sentence: Some(error.to_string()) }
            }
            Err(other) => return Err(other),
        });
    }
    Ok(answers)
}

fn check_rows(rows: &[ToBill]) -> Result<()> {
    if rows.is_empty() || rows.len() > MOST_ROWS {
        return Err(StoreError::invalid("rows", format!("A grid has 1 to {MOST_ROWS} rows.")));
    }
    Ok(())
}

/// Posts the rows of a grid: every one of them, or none.
///
/// # Errors
/// As [`post_picks`], with the row in the field.
pub async fn post_grid(
    writing: &mut Writing<'_>,
    rules: &Rules,
    rows: &[ToBill],
    seen: &[String],
) -> Result<Vec<PostedInvoice>> {
    check_rows(rows)?;
    if rows.len() != seen.len() {
        return Err(StoreError::Moved);
    }
    let mut posted = Vec::with_capacity(rows.len());
    for (at, (row, seen)) in rows.iter().zip(seen).enumerate() {
        let one =
            post_picks(writing, rules, row, Some(std::slice::from_ref(seen))).await.map_err(|error| match error {
                StoreError::Invalid { field, sentence } => {
                    StoreError::Invalid { field: format!("rows.{at}.{field}"), sentence }
                }
                other => other,
            })?;
        posted.extend(one);
    }
    Ok(posted)
}
