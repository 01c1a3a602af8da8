//! A run on screen: its invoices as they will be and as they became, with totals.

use std::collections::{BTreeMap, BTreeSet};

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::Blocker;
use till_core::ids::{CustomerId, InvoiceId, RunId};
use till_core::money::{Currency, Money};

use super::deciding::{Looked, decide_each, mark, passes};
use super::{Kept, head, kept};
use crate::Result;
use crate::convert::currency;
use crate::invoices::Decided;
use crate::rules::Rules;

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
