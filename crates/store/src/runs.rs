//! Billing runs: many drafts made, looked at, and posted together.
//!
//! A run holds drafts of its own; they reserve what they bill like any other, can be changed in
//! their room, left out, or dropped with the run, which leaves no trace. Posting goes in
//! stretches, each a transaction: a run that is cut off has posted whole stretches and goes on
//! from there. What is posted is what was seen: each draft's figures are kept when posting begins,
//! and one that has moved since is held. *Source: domain.md section 7.*

use std::collections::{BTreeMap, BTreeSet, HashMap};

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::{Blocker, Effect, Step, stops};
use till_core::fingerprint;
use till_core::ids::{CustomerId, DocumentKind, InvoiceId, OrderId, RunId};
use till_core::invoice::{Combine, group, waits_for_rest};
use till_core::money::{Currency, Money};

use crate::convert::{currency, json};
use crate::invoices::{
    Decided, Head, OrderPick, Pick, Picked, ToDecide, ToPost, decide_drafts, drop_many, load_ordered, load_shipped,
    post_all, write_drafts,
};
use crate::rules::Rules;
use crate::unbilled::{self, UnbilledFilter};
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError, orders, sensible_date};

/// How many invoices are posted in one transaction.
pub const STRETCH: usize = 500;

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
                "{waiting} {} of customers who are billed only when all of an order has gone, and it has not. Choose another way to combine, to bill all the same.",
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
    let id = sqlx::query_scalar!(r#"SELECT coalesce(max(id), 0) + 1 AS "next!: i64" FROM billing_runs"#)
        .fetch_one(&mut **writing)
        .await?;
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
    let picks = match picked {
        true => form.picks.clone(),
        false => unbilled::picks(writing, rules, &form.filter).await?,
    };
    let wanted: Vec<_> = picks.iter().map(|pick| (None, *pick)).collect();
    let mut lines = load_shipped(writing, &wanted).await?;
    let wanted: Vec<_> = form.order_picks.iter().map(|pick| (None, *pick)).collect();
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

/// A run in a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunRow {
    /// Its id.
    pub id: RunId,
    /// Its name.
    pub name: String,
    /// When it was made.
    pub made_on: NaiveDate,
    /// By whom.
    pub person: String,
    /// `open`, `posting` or `posted`.
    pub state: String,
    /// How many drafts it has.
    pub drafts: i64,
    /// How many invoices it posted.
    pub posted: i64,
    /// What they came to, in base currency.
    pub posted_base: Money,
}

/// Runs, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, limit: i64, offset: i64) -> Result<Vec<RunRow>> {
    Ok(sqlx::query!(
        r#"SELECT id, name, made_on AS "made_on: NaiveDate", person, state,
                  (SELECT count(*) FROM invoices WHERE run_id = billing_runs.id AND invoices.state = 'draft') AS "drafts!: i64",
                  (SELECT count(*) FROM invoices WHERE run_id = billing_runs.id AND invoices.state = 'posted') AS "posted!: i64",
                  (SELECT coalesce(sum(total_base_minor), 0) FROM invoices WHERE run_id = billing_runs.id AND invoices.state = 'posted') AS "base!: i64"
           FROM billing_runs ORDER BY id DESC LIMIT ? OFFSET ?"#,
        limit,
        offset
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| RunRow {
        id: RunId(row.id),
        name: row.name,
        made_on: row.made_on,
        person: row.person,
        state: row.state,
        drafts: row.drafts,
        posted: row.posted,
        posted_base: Money(row.base),
    })
    .collect())
}

/// How an invoice of a run stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Standing {
    /// Passes its checks.
    Ready,
    /// Something stands in its way.
    Blocked,
    /// Someone left it out.
    LeftOut,
    /// Posted.
    Posted,
}

/// An invoice of a run.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunInvoice {
    /// The invoice.
    pub id: InvoiceId,
    /// Its number, once posted.
    pub number: Option<String>,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// Which shipments and orders it bills.
    pub source: String,
    /// How many lines.
    pub lines: i64,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its net.
    pub net: Money,
    /// Its total.
    pub total: Money,
    /// When it is due.
    pub due_date: Option<NaiveDate>,
    /// How it stands.
    pub standing: Standing,
    /// Why it was not posted with the others.
    pub held: Option<String>,
    /// What stands in its way, and warnings.
    pub blockers: Vec<Blocker>,
    /// Changes with every edit.
    pub version: i64,
}

/// What the invoices of a run come to in one currency.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunTotal {
    /// The currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// How many invoices.
    pub invoices: i64,
    /// Net.
    pub net: Money,
    /// Tax.
    pub tax: Money,
    /// Total.
    pub total: Money,
}

/// What is posted to an account.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AccountTotal {
    /// The account.
    pub account: String,
    /// Its name.
    pub name: String,
    /// Debit positive, credit negative, in base currency.
    pub base: Money,
}

/// How many of a run stand how.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunCounts {
    /// Ready to post.
    pub ready: i64,
    /// Blocked, or held.
    pub blocked: i64,
    /// Left out.
    pub left_out: i64,
    /// Posted.
    pub posted: i64,
}

/// A run on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunView {
    /// Its id.
    pub id: RunId,
    /// Its name.
    pub name: String,
    /// When it was made.
    pub made_on: NaiveDate,
    /// By whom.
    pub person: String,
    /// `open`, `posting` or `posted`.
    pub state: String,
    /// Shipments not taken in, of customers who are billed when all has gone.
    pub waiting: i64,
    /// How many stand how.
    pub counts: RunCounts,
    /// What is ready, by currency.
    pub ready: Vec<RunTotal>,
    /// What is posted, by currency.
    pub posted: Vec<RunTotal>,
    /// What is ready comes to by account; once posted, what was.
    pub accounts: Vec<AccountTotal>,
    /// What is ready, in base currency.
    pub ready_base: Money,
    /// What is posted, in base currency.
    pub posted_base: Money,
    /// The base currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub base: Currency,
    /// The customers of all of it.
    pub customers: Vec<CustomerId>,
    /// A stretch of its invoices: what is not posted first, in the order they will be.
    pub invoices: Vec<RunInvoice>,
    /// How many there are of those asked for.
    pub count: i64,
    /// To be sent back when posting.
    pub seen: String,
    /// Changes with the run.
    pub version: i64,
    /// What was decided on its drafts, for [`begin`].
    #[serde(skip)]
    pub looked: Looked,
}

/// What was decided on the drafts of a run when it was looked at, so that posting it need not
/// decide on all of them once more before it begins: each is decided when its turn comes, and held
/// where it is not as it was seen.
#[derive(Debug, Clone, Default)]
pub struct Looked {
    /// The version of the run.
    version: i64,
    seen: String,
    /// Fingerprints of what passes.
    passing: BTreeMap<InvoiceId, String>,
    /// Why the others do not, those left out aside.
    stopped: BTreeMap<InvoiceId, String>,
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

/// How many drafts are decided at once: what they need in memory is a few kilobytes each.
const AT_ONCE: usize = 1_000;

/// Decides the drafts of a run and hands each to `look`, those left out apart: they stand aside of
/// the others. All of a customer's are decided together, for they see each other (`decide_in_order`);
/// those of other customers they do not, so that the whole run is never in memory at once.
async fn decide_each(
    connection: &mut SqliteConnection,
    rules: &Rules,
    kept: &[Kept],
    look: &mut (dyn FnMut(&Kept, Decided<'_>) + Send),
) -> Result<()> {
    let by_id: HashMap<InvoiceId, &Kept> = kept.iter().map(|one| (one.id, one)).collect();
    for left_out in [false, true] {
        let mut of_customer: BTreeMap<CustomerId, Vec<InvoiceId>> = BTreeMap::new();
        for one in kept.iter().filter(|one| one.left_out == left_out) {
            of_customer.entry(one.customer).or_default().push(one.id);
        }
        let mut ids: Vec<InvoiceId> = Vec::new();
        let mut waiting = of_customer.into_values().peekable();
        while let Some(more) = waiting.next() {
            ids.extend(more);
            if waiting.peek().is_some_and(|next| ids.len() + next.len() <= AT_ONCE) {
                continue;
            }
            for one in decide_drafts(connection, rules, &ids, Step::Post).await? {
                if let Some(kept) = by_id.get(&one.draft.id) {
                    look(kept, one);
                }
            }
            ids.clear();
        }
    }
    Ok(())
}

fn passes(one: &Decided<'_>) -> bool {
    one.decision.document.is_some() && !stops(&one.decision.blockers)
}

/// The mark of what posting a run would post: the fingerprints of what passes, by invoice.
fn mark(passing: &BTreeMap<InvoiceId, String>) -> String {
    fingerprint::of(&passing.iter().collect::<Vec<_>>())
}

/// A run with a stretch of its invoices, or of those that stand so.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: RunId,
    standing: Option<Standing>,
    (limit, offset): (i64, i64),
) -> Result<RunView> {
    let head = head(connection, id).await?;
    let kept = kept(connection, id).await?;
    let (posted, posted_bases): (Vec<RunInvoice>, Vec<Money>) = posted_rows(connection, id).await?.into_iter().unzip();
    let mut accounts: BTreeMap<(String, String), Money> = BTreeMap::new();
    let mut ready_base = Money::ZERO;
    let mut looked = Looked { version: head.version, ..Looked::default() };
    let mut drafts: BTreeMap<InvoiceId, RunInvoice> = BTreeMap::new();
    decide_each(connection, rules, &kept, &mut |one, found| {
        let row = draft_row(one, &found);
        if row.standing == Standing::Ready {
            ready_base += found.decision.document.as_ref().map_or(Money::ZERO, |document| document.total_base);
            for line in found.decision.entry.iter().flat_map(|entry| &entry.lines) {
                *accounts.entry((line.account.clone(), line.account_name.clone())).or_default() += line.base;
            }
        }
        looked.take(one, found);
        drafts.insert(one.id, row);
    })
    .await?;
    looked.seen = mark(&looked.passing);
    let mut rows: Vec<RunInvoice> = drafts.into_values().collect();
    rows.extend(posted);
    if !rows.iter().any(|row| row.standing == Standing::Ready) {
        accounts = posted_accounts(connection, id).await?;
    }
    let count_of = |standing| rows.iter().filter(|row| row.standing == standing).count() as i64;
    let counts = RunCounts {
        ready: count_of(Standing::Ready),
        blocked: count_of(Standing::Blocked),
        left_out: count_of(Standing::LeftOut),
        posted: count_of(Standing::Posted),
    };
    let (ready, posted) = (totals(&rows, Standing::Ready), totals(&rows, Standing::Posted));
    let customers: BTreeSet<CustomerId> = rows.iter().map(|row| row.customer).collect();
    rows.retain(|row| standing.is_none_or(|wanted| row.standing == wanted));
    Ok(RunView {
        id,
        name: head.name,
        made_on: head.made_on,
        person: head.person,
        state: head.state,
        waiting: head.waiting,
        counts,
        ready,
        posted,
        accounts: accounts.into_iter().map(|((account, name), base)| AccountTotal { account, name, base }).collect(),
        ready_base,
        posted_base: posted_bases.into_iter().sum(),
        base: rules.base,
        customers: customers.into_iter().collect(),
        count: i64::try_from(rows.len()).unwrap_or(i64::MAX),
        seen: looked.seen.clone(),
        invoices: rows
            .into_iter()
            .skip(usize::try_from(offset).unwrap_or(0))
            .take(usize::try_from(limit).unwrap_or(usize::MAX))
            .collect(),
        version: head.version,
        looked,
    })
}

impl Looked {
    fn take(&mut self, one: &Kept, found: Decided<'_>) {
        if one.left_out {
            return;
        }
        if passes(&found) {
            self.passing.insert(one.id, found.decision.fingerprint);
        } else {
            self.stopped.insert(one.id, reason(&found.decision.blockers));
        }
    }
}

fn draft_row(kept: &Kept, one: &Decided<'_>) -> RunInvoice {
    let document = one.decision.document.as_ref();
    let standing = match (kept.left_out, passes(one)) {
        (true, _) => Standing::LeftOut,
        (false, true) => Standing::Ready,
        (false, false) => Standing::Blocked,
    };
    let mut sources: Vec<&str> = Vec::new();
    for line in &one.input.lines {
        let number = line.source.shipment().map(|(_, number)| number).or_else(|| line.source.order_number());
        sources.extend(number.filter(|number| !sources.contains(number)));
    }
    let source = match sources.as_slice() {
        [] => "direct".to_owned(),
        [first, second, third, rest @ ..] if !rest.is_empty() => {
            format!("{first}, {second}, {third} and {} more", rest.len())
        }
        few => few.join(", "),
    };
    RunInvoice {
        id: one.draft.id,
        number: None,
        customer: one.draft.customer,
        customer_name: one.input.customer.name.clone(),
        source,
        lines: i64::try_from(one.input.lines.len()).unwrap_or(i64::MAX),
        currency: one.input.basis.currency,
        net: document.map_or(Money::ZERO, |document| document.net),
        total: document.map_or(Money::ZERO, |document| document.total),
        due_date: document.map(|document| document.due_date),
        standing,
        held: kept.held.clone(),
        blockers: one.decision.blockers.clone(),
        version: one.draft.version,
    }
}

fn totals(rows: &[RunInvoice], standing: Standing) -> Vec<RunTotal> {
    let mut totals: Vec<RunTotal> = Vec::new();
    for row in rows.iter().filter(|row| row.standing == standing) {
        let at = totals.iter().position(|total| total.currency == row.currency).unwrap_or_else(|| {
            totals.push(RunTotal {
                currency: row.currency,
                invoices: 0,
                net: Money::ZERO,
                tax: Money::ZERO,
                total: Money::ZERO,
            });
            totals.len() - 1
        });
        let total = &mut totals[at];
        total.invoices += 1;
        total.net += row.net;
        total.tax += row.total - row.net;
        total.total += row.total;
    }
    totals
}

async fn posted_rows(connection: &mut SqliteConnection, id: RunId) -> Result<Vec<(RunInvoice, Money)>> {
    sqlx::query!(
        r#"SELECT invoices.id, number, customer_id, bill_to_name AS "name!", currency, net_minor AS "net!", total_minor AS "total!",
                  total_base_minor AS "base!", due_date AS "due: NaiveDate", version,
                  (SELECT count(*) FROM invoice_lines WHERE invoice_id = invoices.id) AS "lines!: i64",
                  coalesce((SELECT group_concat(number, ', ') FROM (SELECT DISTINCT shipments.number AS number FROM invoice_lines
                      JOIN shipment_lines ON shipment_lines.id = shipment_line_id JOIN shipments ON shipments.id = shipment_id
                      WHERE invoice_id = invoices.id LIMIT 3)), 'orders') AS "source!: String"
           FROM invoices WHERE run_id = ? AND state = 'posted' ORDER BY sequence"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let shown = RunInvoice {
            id: InvoiceId(row.id),
            number: row.number,
            customer: CustomerId(row.customer_id),
            customer_name: row.name,
            source: row.source,
            lines: row.lines,
            currency: currency(&row.currency)?,
            net: Money(row.net),
            total: Money(row.total),
            due_date: row.due,
            standing: Standing::Posted,
            held: None,
            blockers: Vec::new(),
            version: row.version,
        };
        Ok((shown, Money(row.base)))
    })
    .collect()
}

async fn posted_accounts(connection: &mut SqliteConnection, id: RunId) -> Result<BTreeMap<(String, String), Money>> {
    Ok(sqlx::query!(
        r#"SELECT account, accounts.name, sum(base_minor) AS "base!: i64" FROM invoices JOIN entry_lines ON entry_lines.entry_id = invoices.entry_id
           JOIN accounts ON accounts.number = account WHERE run_id = ? GROUP BY account"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| ((row.account, row.name), Money(row.base)))
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
        "UPDATE invoices SET left_out = ?, held = NULL WHERE run_id = ? AND state = 'draft' AND id IN (SELECT value FROM jsonb_each(?))",
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
    writing.note_on((DocumentKind::Run, id.0, &head.name), "run_changed", words, Some(version + 1), Vec::new());
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
        "UPDATE invoices SET document_date = ?, posting_date = ?, held = NULL, version = version + 1 WHERE run_id = ? AND state = 'draft'",
        new.document_date,
        new.posting_date,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    touch(writing, id).await?;
    let said = |date: Option<NaiveDate>| date.map(|date| date.to_string());
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
    let words = format!("dropped {} drafts of {}", drafts.len(), head.name);
    writing.note_on((DocumentKind::Run, id.0, &head.name), "run_dropped", words, Some(version), Vec::new());
    Ok(())
}

/// How far the posting of a run is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunProgress {
    /// Posted so far.
    pub posted: i64,
    /// Still to post.
    pub left: i64,
    /// Held.
    pub held: i64,
}

/// Begins to post a run: keeps what was seen of each draft that passes. Nothing is posted yet.
/// `looked` is what was decided when it was looked at, where that is still known; otherwise all of
/// it is decided anew.
///
/// # Errors
/// [`StoreError::Moved`] where a figure is not as it was seen; where nothing passes.
pub async fn begin(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: RunId,
    version: i64,
    seen: &str,
    looked: Option<Looked>,
) -> Result<RunProgress> {
    let head = open(writing, id, Some(version)).await?;
    let kept = kept(writing, id).await?;
    let to_post: Vec<Kept> = kept.into_iter().filter(|one| !one.left_out).collect();
    let Looked { mut passing, mut stopped, .. } =
        match looked.filter(|looked| looked.version == version && looked.seen == seen) {
            Some(looked) => looked,
            None => {
                let mut anew = Looked::default();
                decide_each(writing, rules, &to_post, &mut |one, found| anew.take(one, found)).await?;
                if mark(&anew.passing) != seen {
                    return Err(StoreError::Moved);
                }
                anew
            }
        };
    // One that was posted or dropped by itself meanwhile is no longer the run's.
    let still: BTreeSet<InvoiceId> = to_post.iter().map(|one| one.id).collect();
    passing.retain(|id, _| still.contains(id));
    stopped.retain(|id, _| still.contains(id));
    let (left, held) = (passing.len(), stopped.len());
    if left == 0 {
        return Err(StoreError::WrongState(format!(
            "Nothing of {} passes its checks. Put right what stands in the way first.",
            head.name
        )));
    }
    let rows: Vec<(InvoiceId, Option<&String>, Option<&String>)> = passing
        .iter()
        .map(|(id, seen)| (*id, Some(seen), None))
        .chain(stopped.iter().map(|(id, reason)| (*id, None, Some(reason))))
        .collect();
    let rows = json(&rows)?;
    sqlx::query!(
        "UPDATE invoices SET seen = new.value ->> 1, held = new.value ->> 2 FROM jsonb_each(?) AS new WHERE invoices.id = new.value ->> 0",
        rows
    )
    .execute(&mut **writing)
    .await?;
    let poster = json(&writing.actor().doer)?;
    sqlx::query!(
        "UPDATE billing_runs SET state = 'posting', poster = ?, version = version + 1 WHERE id = ?",
        poster,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let words = format!("began to post {left} invoices of {}", head.name);
    let fields = vec![set("to post", left), set("held", held)];
    writing.note_on((DocumentKind::Run, id.0, &head.name), "run_begun", words, Some(version + 1), fields);
    let count = |count: usize| i64::try_from(count).unwrap_or(i64::MAX);
    Ok(RunProgress { posted: 0, left: count(left), held: count(held) })
}

fn reason(blockers: &[Blocker]) -> String {
    blockers
        .iter()
        .find(|one| one.effect == Effect::Stops)
        .map_or_else(|| "There is nothing to post on it.".to_owned(), |one| one.sentence.clone())
}

/// Posts the next stretch of a run that was begun. What has moved since it was seen, or does not
/// pass any more, is held and the others go on.
///
/// # Errors
/// A run that was not begun.
pub async fn go_on(writing: &mut Writing<'_>, rules: &Rules, id: RunId) -> Result<RunProgress> {
    let head = head(writing, id).await?;
    if head.state != "posting" {
        return Err(StoreError::WrongState(format!("{} is not being posted.", head.name)));
    }
    let stretch = STRETCH as i64;
    let next: Vec<InvoiceId> = sqlx::query_scalar!(
        "SELECT id FROM invoices WHERE run_id = ? AND state = 'draft' AND seen IS NOT NULL ORDER BY id LIMIT ?",
        id.0,
        stretch
    )
    .fetch_all(&mut **writing)
    .await?
    .into_iter()
    .map(InvoiceId)
    .collect();
    let decided = decide_drafts(writing, rules, &next, Step::Post).await?;
    let mut held: Vec<(InvoiceId, String)> = Vec::new();
    let mut to_post = Vec::with_capacity(decided.len());
    for one in decided {
        if !passes(&one) {
            held.push((one.draft.id, reason(&one.decision.blockers)));
        } else if one.draft.seen.as_ref() != Some(&one.decision.fingerprint) {
            let sentence = "Its figures have changed since the run was posted. Look at it again, then post it.";
            held.push((one.draft.id, sentence.to_owned()));
        } else {
            to_post.push(ToPost::of(one.draft.id, &one.input, one.decision));
        }
    }
    let held = json(&held)?;
    sqlx::query!(
        "UPDATE invoices SET seen = NULL, held = new.value ->> 1, version = version + 1 FROM jsonb_each(?) AS new WHERE invoices.id = new.value ->> 0",
        held
    )
    .execute(&mut **writing)
    .await?;
    if !to_post.is_empty() {
        post_all(writing, to_post).await?;
    }
    let progress = progress(writing, id).await?;
    if progress.left == 0 {
        end(writing, id, &head, progress).await?;
    } else {
        let words = format!("posted a stretch of {}: {} to go", head.name, progress.left);
        writing.note_on((DocumentKind::Run, id.0, &head.name), "run_stretch", words, None, Vec::new());
    }
    Ok(progress)
}

async fn end(writing: &mut Writing<'_>, id: RunId, head: &RunHead, progress: RunProgress) -> Result<()> {
    // Open while something of it is left to be looked at.
    sqlx::query!(
        "UPDATE billing_runs SET poster = NULL, version = version + 1,
                state = CASE WHEN EXISTS (SELECT 1 FROM invoices WHERE run_id = billing_runs.id AND invoices.state = 'draft') THEN 'open' ELSE 'posted' END
         WHERE id = ?",
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let words = format!("posted {}: {} invoices, {} held", head.name, progress.posted, progress.held);
    writing.note_on((DocumentKind::Run, id.0, &head.name), "run_posted", words, Some(head.version + 1), Vec::new());
    Ok(())
}

/// How far a run is.
///
/// # Errors
/// Where the database cannot be read.
pub async fn progress(connection: &mut SqliteConnection, id: RunId) -> Result<RunProgress> {
    let row = sqlx::query!(
        r#"SELECT coalesce(sum(state = 'posted'), 0) AS "posted!: i64", coalesce(sum(state = 'draft' AND seen IS NOT NULL), 0) AS "left!: i64",
                  coalesce(sum(state = 'draft' AND held IS NOT NULL), 0) AS "held!: i64"
           FROM invoices WHERE run_id = ?"#,
        id.0
    )
    .fetch_one(connection)
    .await?;
    Ok(RunProgress { posted: row.posted, left: row.left, held: row.held })
}

/// Runs whose posting was cut off.
///
/// # Errors
/// Where the database cannot be read.
pub async fn cut_off(connection: &mut SqliteConnection) -> Result<Vec<RunId>> {
    Ok(sqlx::query_scalar!("SELECT id FROM billing_runs WHERE state = 'posting'")
        .fetch_all(connection)
        .await?
        .into_iter()
        .map(RunId)
        .collect())
}

/// What a run is made from, kept to be repeated.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Recipe {
    /// Its id; none for a new one.
    #[serde(default)]
    pub id: Option<i64>,
    /// Its name.
    pub name: String,
    /// The day of the week it is meant for, 1 for Monday.
    #[serde(default)]
    pub weekday: Option<u8>,
    /// What it takes and how it puts it together.
    pub form: RunForm,
    /// Names of its customers, where it has only some.
    #[serde(default)]
    pub customer_names: Vec<String>,
    /// Whether today is its day.
    #[serde(default)]
    pub due: bool,
    /// Changes with every change.
    #[serde(default)]
    pub version: i64,
}

/// Recipes, by name.
///
/// # Errors
/// Where the database cannot be read.
pub async fn recipes(connection: &mut SqliteConnection, rules: &Rules) -> Result<Vec<Recipe>> {
    use chrono::Datelike;
    let today = rules.business_date.weekday().number_from_monday();
    let rows = sqlx::query!("SELECT id, name, form, weekday, version FROM recipes ORDER BY name")
        .fetch_all(&mut *connection)
        .await?;
    let mut found = Vec::with_capacity(rows.len());
    for row in rows {
        let form: RunForm = serde_json::from_str(&row.form).map_err(|error| StoreError::Corrupt(error.to_string()))?;
        let ids = json(&form.customers)?;
        let names = sqlx::query_scalar!(
            "SELECT name FROM customers WHERE id IN (SELECT value FROM jsonb_each(?)) ORDER BY name",
            ids
        )
        .fetch_all(&mut *connection)
        .await?;
        let weekday = row.weekday.and_then(|day| u8::try_from(day).ok());
        found.push(Recipe {
            id: Some(row.id),
            name: row.name,
            due: weekday.is_some_and(|day| u32::from(day) == today),
            weekday,
            form,
            customer_names: names,
            version: row.version,
        });
    }
    Ok(found)
}

/// Keeps a recipe, new or changed. Returns its id.
///
/// # Errors
/// [`StoreError::Stale`], a name that is taken, a day that is none.
pub async fn keep_recipe(writing: &mut Writing<'_>, recipe: &Recipe) -> Result<i64> {
    let name = recipe.name.trim();
    if name.is_empty() || name.chars().count() > 80 {
        return Err(StoreError::invalid("name", "Give the recipe a name of 80 characters at most."));
    }
    if recipe.weekday.is_some_and(|day| !(1..=7).contains(&day)) {
        return Err(StoreError::invalid("weekday", "A day of the week is 1, Monday, to 7, Sunday."));
    }
    let own = recipe.id.unwrap_or(-1);
    let taken = sqlx::query_scalar!("SELECT id FROM recipes WHERE name = ? AND id <> ?", name, own)
        .fetch_optional(&mut **writing)
        .await?;
    if taken.is_some() {
        return Err(StoreError::invalid("name", format!("There is a recipe {name} already. Choose another name.")));
    }
    // What is picked by hand is of today; a recipe keeps what it can find again.
    let form = json(&RunForm {
        name: None,
        picks: Vec::new(),
        order_picks: Vec::new(),
        document_date: None,
        posting_date: None,
        ..recipe.form.clone()
    })?;
    let id = match recipe.id {
        None => {
            sqlx::query_scalar!(
                r#"INSERT INTO recipes (name, form, weekday) VALUES (?, ?, ?) RETURNING id AS "id!""#,
                name,
                form,
                recipe.weekday
            )
            .fetch_one(&mut **writing)
            .await?
        }
        Some(id) => {
            let current = sqlx::query_scalar!("SELECT version FROM recipes WHERE id = ?", id)
                .fetch_optional(&mut **writing)
                .await?
                .ok_or_else(|| StoreError::WrongState("This recipe is gone already.".to_owned()))?;
            if current != recipe.version {
                return Err(StoreError::Stale { what: name.to_owned(), current });
            }
            sqlx::query!(
                "UPDATE recipes SET name = ?, form = ?, weekday = ?, version = version + 1 WHERE id = ?",
                name,
                form,
                recipe.weekday,
                id
            )
            .execute(&mut **writing)
            .await?;
            id
        }
    };
    writing.note_setting("recipe", format!("kept the recipe “{name}”"), vec![set("takes", form)]);
    Ok(id)
}

/// Drops a recipe; its runs stay.
///
/// # Errors
/// Where there is none.
pub async fn drop_recipe(writing: &mut Writing<'_>, id: i64) -> Result<()> {
    sqlx::query!("UPDATE billing_runs SET recipe_id = NULL WHERE recipe_id = ?", id).execute(&mut **writing).await?;
    let name = sqlx::query_scalar!("DELETE FROM recipes WHERE id = ? RETURNING name", id)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::WrongState("This recipe is gone already.".to_owned()))?;
    writing.note_setting("recipe", format!("dropped the recipe “{name}”"), Vec::new());
    Ok(())
}

/// Makes a run as a recipe says.
///
/// # Errors
/// As [`make`].
pub async fn repeat(writing: &mut Writing<'_>, rules: &Rules, id: i64) -> Result<RunId> {
    let recipe = recipes(writing, rules).await?.into_iter().find(|recipe| recipe.id == Some(id));
    let recipe = recipe.ok_or_else(|| StoreError::WrongState("This recipe is gone already.".to_owned()))?;
    let name = format!("{}, {}", recipe.name, till_core::calendar::words(rules.business_date));
    make(writing, rules, &RunForm { name: Some(name), ..recipe.form }, Some(id)).await
}
