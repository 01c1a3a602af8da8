//! Carrying out what was decided of the goods of a return: a step with its lines, by itself or with a document in one entry.

use chrono::NaiveDate;
use serde::Serialize;
use sqlx::SqliteConnection;
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, DocumentRef, EntryId, OrderId, ReturnId, ReturnLineId, ReturnStepId};
use till_core::merge::FieldChange;
use till_core::money::Money;
use till_core::posting::Posting;

use super::facts::Head;
use super::steps::Done;
use crate::convert::json;
use crate::open_items::next_id;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, orders, posting};

/// A line of a step as saved.
#[derive(Serialize)]
pub(super) struct StepLine<'a> {
    pub(super) line: ReturnLineId,
    pub(super) quantity: i64,
    pub(super) stock: i64,
    pub(super) cost: Money,
    pub(super) disposition: Option<&'a str>,
    pub(super) outcome: Option<&'a str>,
    pub(super) claim: Money,
    /// What of the cost of goods that are not billed waited for that.
    pub(super) released: Money,
}

impl StepLine<'_> {
    /// A quantity of a line at its cost, of which nothing else is said.
    pub(super) const fn of(line: ReturnLineId, stock: Quantity, cost: Money) -> Self {
        Self {
            line,
            quantity: 0,
            stock: stock.scaled(),
            cost,
            disposition: None,
            outcome: None,
            claim: Money::ZERO,
            released: Money::ZERO,
        }
    }
}

/// What was decided of a step, before it is written.
pub(super) struct NewStep<'a> {
    pub(super) kind: &'a str,
    pub(super) date: NaiveDate,
    pub(super) note: Option<&'a str>,
    pub(super) blockers: Vec<Blocker>,
    pub(super) fingerprint: &'a str,
    pub(super) lines: Vec<StepLine<'a>>,
    /// What the audit log calls it, in a word and in words, with its figures.
    pub(super) deed: (&'a str, String, Vec<FieldChange>),
    /// The document it is posted with, in one entry.
    pub(super) with: Option<&'a mut WithDocument>,
}

/// A document that steps are posted with, in one entry that is written after them.
pub(super) struct WithDocument {
    /// The id the entry will have.
    pub(super) entry: i64,
    /// What the steps would have written by themselves.
    pub(super) entries: Vec<Entry>,
}

impl WithDocument {
    /// For the entry that is written next. Until the transaction ends, nothing has to be there that is pointed at.
    pub(super) async fn next(connection: &mut SqliteConnection) -> Result<Self> {
        sqlx::query("PRAGMA defer_foreign_keys = ON").execute(&mut *connection).await?;
        Ok(Self { entry: crate::ledger::next_entry(connection).await?, entries: Vec::new() })
    }

    /// Takes the entries out of what a step does. The id of the one they go into, where there are some.
    fn take(&mut self, posting: &mut Posting) -> Option<i64> {
        let taken = std::mem::take(&mut posting.entries);
        let any = !taken.is_empty();
        self.entries.extend(taken.into_iter().map(|reversal| reversal.entry));
        any.then_some(self.entry)
    }
}

/// Orders that have something to ship again, or no longer, are in another state.
pub(super) async fn refresh_orders(writing: &mut Writing<'_>, posting: &Posting) -> Result<()> {
    if posting.given_back.is_empty() {
        return Ok(());
    }
    let lines = json(&posting.given_back.iter().map(|back| back.shipment_line).collect::<Vec<_>>())?;
    let orders = sqlx::query_scalar!(
        "SELECT DISTINCT order_id FROM shipment_lines JOIN shipments ON shipments.id = shipment_id
         WHERE shipment_lines.id IN (SELECT value FROM json_each(?))",
        lines
    )
    .fetch_all(&mut **writing)
    .await?;
    let orders: Vec<OrderId> = orders.into_iter().map(OrderId).collect();
    orders::refresh_states(writing, &orders).await
}

/// Carries out a step as it was seen, and keeps it.
pub(super) async fn carry_out(
    writing: &mut Writing<'_>,
    (id, head): (ReturnId, &Head),
    seen: Option<&str>,
    new: NewStep<'_>,
    posting: impl FnOnce(ReturnStepId) -> Posting,
) -> Result<Done> {
    if stops(&new.blockers) {
        return Err(StoreError::Refused(new.blockers));
    }
    writing.saw(seen, new.fingerprint)?;
    let step = ReturnStepId(next_id(writing, "return_steps").await?);
    let source = DocumentRef { kind: DocumentKind::Return, id: id.0, number: head.number.clone() };
    let mut posting = posting(step);
    let kept = new.with.and_then(|with| with.take(&mut posting));
    let entry: Option<EntryId> = posting::write(writing, &source, &posting).await?.pop();
    let entry = kept.or(entry.map(|entry| entry.0));
    let said = new.note.map(str::trim).filter(|note| !note.is_empty());
    sqlx::query!(
        "INSERT INTO return_steps (id, return_id, kind, posting_date, note, entry_id) VALUES (?, ?, ?, ?, ?, ?)",
        step.0,
        id.0,
        new.kind,
        new.date,
        said,
        entry
    )
    .execute(&mut **writing)
    .await?;
    let rows = json(&new.lines)?;
    sqlx::query!(
        "INSERT INTO return_step_lines (step_id, return_line_id, quantity_e4, stock_e4, cost_minor, disposition, outcome, claim_minor, released_minor)
         SELECT ?1, value ->> 'line', value ->> 'quantity', value ->> 'stock', value ->> 'cost', value ->> 'disposition', value ->> 'outcome',
                value ->> 'claim', value ->> 'released' FROM jsonb_each(?2)",
        step.0,
        rows
    )
    .execute(&mut **writing)
    .await?;
    let version = head.version + 1;
    sqlx::query!("UPDATE returns SET version = ? WHERE id = ?", version, id.0).execute(&mut **writing).await?;
    refresh_orders(writing, &posting).await?;
    let (what, words, mut fields) = new.deed;
    fields.push(set("date", till_core::calendar::words(new.date)));
    let at = (DocumentKind::Return, id.0, head.number.as_str());
    writing.note_on(at, what, words, Some(version), fields);
    Ok(Done { step, version })
}
