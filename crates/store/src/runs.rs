//! Billing runs: many drafts made, looked at, and posted together.
//!
//! A run holds drafts of its own; they reserve what they bill like any other, can be changed in
//! their room, left out, or dropped with the run, which leaves no trace. Posting goes in
//! stretches, each a transaction: a run that is cut off has posted whole stretches and goes on
//! from there. What is posted is what was seen: each draft's figures are kept when posting begins,
//! and one that has moved since is held. *Source: domain.md section 7.*

mod deciding;
mod posting;
mod recipes;
mod view;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{CustomerId, DocumentKind, InvoiceId, OrderId, RunId};
use till_core::invoice::{Combine, group, waits_for_rest};

pub use self::deciding::Looked;
pub use self::posting::{RunProgress, STRETCH, begin, cut_off, go_on, progress};
pub use self::recipes::{Recipe, drop_recipe, keep_recipe, recipes, repeat};
pub use self::view::{AccountTotal, RunCounts, RunInvoice, RunRow, RunTotal, RunView, Standing, list, view};
use crate::convert::json;
use crate::invoices::{Head, OrderPick, Pick, Picked, ToDecide, drop_many, load_ordered, load_shipped, write_drafts};
use crate::rules::Rules;
use crate::unbilled::{self, UnbilledFilter};
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError, orders, sensible_date};

/// What a run is made from.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunForm {
    /// What it is called; none for its date.
    #[serde(default)]
    pub name: Option<String>,
    /// What of the unbilled it takes, where nothing is picked.
    #[serde(default)]
    pub filter: UnbilledFilter,
    /// Only these customers; empty for all.
    #[serde(default)]
    pub customers: Vec<CustomerId>,
    /// Lines of shipments that were picked.
    #[serde(default)]
    pub picks: Vec<Pick>,
    /// Work of orders that was picked.
    #[serde(default)]
    pub order_picks: Vec<OrderPick>,
    /// How they are put together; as each customer wants it, unless said otherwise.
    #[serde(default = "habit")]
    pub combine: Combine,
    /// Document date, if typed.
    #[serde(default)]
    pub document_date: Option<NaiveDate>,
    /// Posting date, if typed.
    #[serde(default)]
    pub posting_date: Option<NaiveDate>,
}

const fn habit() -> Combine {
    Combine::Habit
}

/// Makes a run: its drafts reserve what they bill.
///
/// # Errors
/// Where nothing is left to bill of what it takes.
pub async fn make(writing: &mut Writing<'_>, rules: &Rules, form: &RunForm, recipe: Option<i64>) -> Result<RunId> {
    for (field, date) in [("document_date", form.document_date), ("posting_date", form.posting_date)] {
        if let Some(date) = date {
            sensible_date(field, date)?;
        }
    }
    let name = form.name.as_deref().map(str::trim).filter(|name| !name.is_empty());
    if name.is_some_and(|name| name.chars().count() > 80) {
        return Err(StoreError::invalid("name", "A name has 80 characters at most."));
    }
    let (lines, waiting) = lines_of(writing, rules, form).await?;
    if lines.is_empty() {
        let sentence = match waiting {
            0 => "Nothing of this is left to bill. Look at Unbilled again, or change the filter.".to_owned(),
            waiting => format!(
                "{waiting} {} of customers who are billed only when all of an order has shipped, and it has not. Choose another way to combine, to bill all the same.",
                if waiting == 1 { "shipment is" } else { "shipments are" }
            ),
        };
        return Err(StoreError::invalid("picks", sentence));
    }
    let picks = lines.into_iter().map(|line| (line.picking.clone(), line)).collect();
    let head = Head { document_date: form.document_date, posting_date: form.posting_date, ..Head::default() };
    let wanted: Vec<ToDecide> = group(picks, form.combine, false)
        .into_iter()
        .map(|(group, lines)| ToDecide { customer: group.customer, lines, head: head.clone() })
        .collect();
    let id = crate::open_items::next_id(writing, "billing_runs").await?;
    let name = name.map_or_else(|| format!("Run {id}"), str::to_owned);
    let person = writing.actor().doer.name.clone();
    sqlx::query!(
        "INSERT INTO billing_runs (id, name, made_on, person, recipe_id, waiting) VALUES (?, ?, ?, ?, ?, ?)",
        id,
        name,
        rules.business_date,
        person,
        recipe,
        waiting
    )
    .execute(&mut **writing)
    .await?;
    write_drafts(writing, rules, &wanted, Some(RunId(id)), None).await?;
    let fields = vec![set("invoices", wanted.len()), set("combined", form.combine.word()), set("waiting", waiting)];
    writing.note_on((DocumentKind::Run, id, &name), "run_made", format!("made {name}"), Some(1), fields);
    Ok(RunId(id))
}

/// The lines a run takes, and how many shipments wait for the rest of their orders.
async fn lines_of(writing: &mut Writing<'_>, rules: &Rules, form: &RunForm) -> Result<(Vec<Picked>, i64)> {
    let picked = !form.picks.is_empty() || !form.order_picks.is_empty();
    let (picks, order_picks) = match picked {
        true => (form.picks.clone(), form.order_picks.clone()),
        false => unbilled::picks(writing, rules, &form.filter).await?,
    };
    let wanted: Vec<_> = picks.iter().map(|pick| (None, *pick)).collect();
    let mut lines = load_shipped(writing, &wanted).await?;
    let wanted: Vec<_> = order_picks.iter().map(|pick| (None, *pick)).collect();
    lines.extend(load_ordered(writing, &wanted).await?);
    lines.retain(|line| line.line.quantity.is_positive() && line.line.quantity <= line.line.unbilled);
    if !form.customers.is_empty() {
        lines.retain(|line| form.customers.contains(&line.picking.customer));
    }
    if form.combine != Combine::Habit {
        return Ok((lines, 0));
    }
    let ids: Vec<OrderId> =
        lines.iter().filter(|line| line.when_complete).filter_map(|line| line.line.source.order()).collect();
    let incomplete: Vec<OrderId> = orders::facts(writing, &ids)
        .await?
        .iter()
        .filter(|order| waits_for_rest(order))
        .map(|order| order.id)
        .collect();
    let waits =
        |line: &Picked| line.when_complete && line.line.source.order().is_some_and(|order| incomplete.contains(&order));
    let mut shipments: Vec<_> = lines
        .iter()
        .filter(|line| waits(line))
        .filter_map(|line| line.line.source.shipment().map(|(id, _)| id))
        .collect();
    shipments.sort_unstable();
    shipments.dedup();
    lines.retain(|line| !waits(line));
    Ok((lines, i64::try_from(shipments.len()).unwrap_or(0)))
}

struct RunHead {
    name: String,
    made_on: NaiveDate,
    person: String,
    state: String,
    waiting: i64,
    version: i64,
}

async fn head(connection: &mut SqliteConnection, id: RunId) -> Result<RunHead> {
    sqlx::query_as!(
        RunHead,
        r#"SELECT name, made_on AS "made_on: NaiveDate", person, state, waiting, version FROM billing_runs WHERE id = ?"#,
        id.0
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Run, id))
}

/// A draft of a run as the run keeps it.
struct Kept {
    id: InvoiceId,
    customer: CustomerId,
    left_out: bool,
    held: Option<String>,
}

async fn kept(connection: &mut SqliteConnection, id: RunId) -> Result<Vec<Kept>> {
    Ok(sqlx::query!(
        "SELECT id, customer_id, left_out, held FROM invoices WHERE run_id = ? AND state = 'draft' ORDER BY id",
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| Kept {
        id: InvoiceId(row.id),
        customer: CustomerId(row.customer_id),
        left_out: row.left_out != 0,
        held: row.held,
    })
    .collect())
}

/// A run that may be changed.
async fn open(connection: &mut SqliteConnection, id: RunId, version: Option<i64>) -> Result<RunHead> {
    let head = head(connection, id).await?;
    if head.state == "posting" {
        return Err(StoreError::WrongState(format!(
            "{} is being posted. Wait until it is done, or let it go on if it was cut off.",
            head.name
        )));
    }
    if version.is_some_and(|seen| seen != head.version) {
        return Err(StoreError::Stale { what: head.name, current: head.version });
    }
    Ok(head)
}

async fn touch(writing: &mut Writing<'_>, id: RunId) -> Result<()> {
    sqlx::query!("UPDATE billing_runs SET version = version + 1 WHERE id = ?", id.0).execute(&mut **writing).await?;
    Ok(())
}

/// Leaves invoices out of a run, or takes them in again. Returns the run's new version.
///
/// # Errors
/// [`StoreError::Stale`], a run that is being posted, an invoice that is not in it.
pub async fn leave_out(
    writing: &mut Writing<'_>,
    id: RunId,
    version: i64,
    invoices: &[InvoiceId],
    out: bool,
) -> Result<i64> {
    let head = open(writing, id, Some(version)).await?;
    let ids = json(&invoices)?;
    let done = sqlx::query!(
        "UPDATE documents SET left_out = ?, held = NULL WHERE run_id = ? AND state = 'draft' AND id IN (SELECT value FROM jsonb_each(?))",
        out,
        id.0,
        ids
    )
    .execute(&mut **writing)
    .await?
    .rows_affected();
    if invoices.is_empty() || done != invoices.len() as u64 {
        return Err(StoreError::WrongState(
            "One of these is no draft of this run any more. Look at it again.".to_owned(),
        ));
    }
    touch(writing, id).await?;
    let verb = if out { "left out" } else { "took in again" };
    let words = format!("{verb} {done} of {}", head.name);
    let (was, is) = if out { ("in the run", "left out") } else { ("left out", "in the run") };
    let names = sqlx::query!(
        "SELECT documents.id, name FROM jsonb_each(?) AS wanted JOIN documents ON documents.id = wanted.value
         JOIN customers ON customers.id = customer_id ORDER BY documents.id",
        ids
    )
    .fetch_all(&mut **writing)
    .await?;
    let of =
        names.into_iter().flat_map(|row| changed(&format!("draft {} of {}", row.id, row.name), Some(was), Some(is)));
    let changes = of.collect();
    writing.note_on((DocumentKind::Run, id.0, &head.name), "run_changed", words, Some(version + 1), changes);
    Ok(version + 1)
}

/// Dates of all invoices of a run.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunDates {
    /// The version seen.
    pub version: i64,
    /// Document date; none for the business date.
    #[serde(default)]
    pub document_date: Option<NaiveDate>,
    /// Posting date; none for the document date.
    #[serde(default)]
    pub posting_date: Option<NaiveDate>,
}

/// Sets the dates of all drafts of a run. Returns the run's new version.
///
/// # Errors
/// [`StoreError::Stale`], a run that is being posted, a date out of reach.
pub async fn set_dates(writing: &mut Writing<'_>, id: RunId, new: &RunDates) -> Result<i64> {
    for (field, date) in [("document_date", new.document_date), ("posting_date", new.posting_date)] {
        if let Some(date) = date {
            sensible_date(field, date)?;
        }
    }
    let head = open(writing, id, Some(new.version)).await?;
    sqlx::query!(
        "UPDATE documents SET document_date = ?, posting_date = ?, held = NULL, version = version + 1 WHERE run_id = ? AND state = 'draft'",
        new.document_date,
        new.posting_date,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    touch(writing, id).await?;
    let said = |date: Option<NaiveDate>| date.map(till_core::calendar::words);
    let mut changes = changed("document date", None, said(new.document_date).as_deref());
    changes.extend(changed("posting date", None, said(new.posting_date).as_deref()));
    let words = format!("set the dates of {}", head.name);
    writing.note_on((DocumentKind::Run, id.0, &head.name), "run_changed", words, Some(new.version + 1), changes);
    Ok(new.version + 1)
}

/// Drops a run: its drafts are gone, what they reserved is unbilled again. What it posted stays.
///
/// # Errors
/// [`StoreError::Stale`], a run that is being posted.
pub async fn drop(writing: &mut Writing<'_>, id: RunId, version: i64) -> Result<()> {
    let head = open(writing, id, Some(version)).await?;
    let drafts: Vec<InvoiceId> = kept(writing, id).await?.iter().map(|one| one.id).collect();
    drop_many(writing, &drafts).await?;
    let posted = sqlx::query_scalar!(r#"SELECT count(*) AS "count!: i64" FROM invoices WHERE run_id = ?"#, id.0)
        .fetch_one(&mut **writing)
        .await?;
    if posted == 0 {
        sqlx::query!("DELETE FROM billing_runs WHERE id = ?", id.0).execute(&mut **writing).await?;
    } else {
        sqlx::query!("UPDATE billing_runs SET state = 'posted', version = version + 1 WHERE id = ?", id.0)
            .execute(&mut **writing)
            .await?;
    }
    let words = format!("deleted {} drafts of {}", drafts.len(), head.name);
    writing.note_on(
        (DocumentKind::Run, id.0, &head.name),
        "run_dropped",
        words,
        Some(version),
        changed("drafts", Some(&drafts.len().to_string()), Some("0")),
    );
    Ok(())
}
