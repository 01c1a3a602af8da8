//! Files of orders and of posted shipments: read, checked line by line, and imported whole or
//! not at all.
//!
//! Shipments from a file have left a warehouse that others keep the stock of: they take nothing
//! out of stock here and write no cost; they are there to be billed.

mod orders;
mod shipments;

use std::collections::BTreeMap;

use chrono::SecondsFormat;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::{Blocker, Effect};
use till_core::ids::{DocumentKind, ImportId};
use till_core::money::Money;

use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError};

/// How many problems are shown at most.
const PROBLEMS: usize = 500;

/// What a file holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ImportKind {
    /// Orders, to become drafts here.
    Orders,
    /// Shipments that have left elsewhere, to be billed here.
    Shipments,
}

impl ImportKind {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Orders => "orders",
            Self::Shipments => "shipments",
        }
    }

    /// The kind with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::Orders, Self::Shipments].into_iter().find(|kind| kind.word() == word)
    }

    /// Columns a file must have, and those it may have.
    pub const fn columns(self) -> (&'static [&'static str], &'static [&'static str]) {
        match self {
            Self::Orders => (
                &["order", "customer", "item", "quantity"],
                &[
                    "their_order",
                    "date",
                    "requested",
                    "promised",
                    "unit",
                    "price",
                    "discount",
                    "reason",
                    "warehouse",
                    "note",
                    "description",
                ],
            ),
            Self::Shipments => (
                &["shipment", "date", "customer", "item", "quantity"],
                &["order", "their_order", "unit", "price", "carrier", "consignment", "description"],
            ),
        }
    }
}

/// A line of a file: its place, and its cells by heading.
#[derive(Debug, Clone)]
pub struct ImportLine {
    /// The line in the file, counted from one.
    pub line: usize,
    /// Cells by heading.
    pub cells: BTreeMap<String, String>,
}

impl ImportLine {
    fn cell(&self, heading: &str) -> Option<&str> {
        self.cells.get(heading).map(String::as_str).filter(|cell| !cell.is_empty())
    }
}

/// What is wrong with a line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LineProblem {
    /// The line in the file.
    pub line: usize,
    /// The column.
    pub column: String,
    /// What is wrong and what to do.
    pub sentence: String,
}

/// A document a file would make.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Planned {
    /// Its number in the file.
    pub number: String,
    /// Whose.
    pub customer_name: String,
    /// How many lines.
    pub lines: usize,
    /// Its net.
    pub net: Money,
    /// Its currency.
    pub currency: String,
}

/// What a file comes to.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ImportCheck {
    /// Lines with something on them.
    pub lines: usize,
    /// Documents it would make.
    pub documents: usize,
    /// Net by currency.
    pub sums: BTreeMap<String, Money>,
    /// The first of the documents.
    pub first: Vec<Planned>,
    /// What is wrong, by line.
    pub problems: Vec<LineProblem>,
    /// How many problems there are in all.
    pub problem_count: usize,
}

impl ImportCheck {
    fn problem(&mut self, line: usize, column: &str, sentence: impl Into<String>) {
        self.problem_count += 1;
        if self.problems.len() < PROBLEMS {
            self.problems.push(LineProblem { line, column: column.to_owned(), sentence: sentence.into() });
        }
    }

    fn plan(&mut self, planned: Planned) {
        self.documents += 1;
        *self.sums.entry(planned.currency.clone()).or_default() += planned.net;
        if self.first.len() < 20 {
            self.first.push(planned);
        }
    }

    /// What the core found about the lines of one document, by the line of the file each stands on.
    fn found(&mut self, blockers: &[Blocker], lines: &[usize]) {
        for blocker in blockers.iter().filter(|blocker| blocker.effect == Effect::Stops) {
            let mut parts = blocker.field.split('.');
            let at = match (parts.next(), parts.next().and_then(|at| at.parse::<usize>().ok())) {
                (Some("lines"), Some(at)) => lines.get(at).copied(),
                _ => lines.first().copied(),
            };
            let column = blocker.field.rsplit('.').next().unwrap_or("item").replace("unit_price", "price");
            self.problem(at.unwrap_or(0), &column, blocker.sentence.clone());
        }
    }

    /// What kept a document from being read at all.
    fn refused(&mut self, error: &StoreError, lines: &[usize]) {
        match error {
            StoreError::Refused(blockers) => self.found(blockers, lines),
            StoreError::Invalid { field, sentence } => {
                let mut parts = field.split('.');
                let at = match (parts.next(), parts.next().and_then(|at| at.parse::<usize>().ok())) {
                    (Some("lines"), Some(at)) => lines.get(at).copied(),
                    _ => lines.first().copied(),
                };
                let column = field.rsplit('.').next().unwrap_or("").replace("unit_price", "price");
                self.problem(at.unwrap_or(0), &column, sentence.clone());
            }
            other => self.problem(lines.first().copied().unwrap_or(0), "", other.to_string()),
        }
    }
}

/// Told how many lines are done.
pub type Progress<'a> = &'a (dyn Fn(usize) + Sync);

/// Says what a file lacks before its lines are looked at.
///
/// # Errors
/// A column that is missing, or that nobody knows.
pub fn check_headings(kind: ImportKind, headings: &[String]) -> Result<()> {
    let (needed, known) = kind.columns();
    let missing: Vec<&str> =
        needed.iter().copied().filter(|name| !headings.iter().any(|found| found == name)).collect();
    if !missing.is_empty() {
        return Err(StoreError::invalid(
            "file",
            format!("The first line lacks {}. It has to name {}.", missing.join(", "), needed.join(", ")),
        ));
    }
    let strange = headings.iter().find(|found| !needed.contains(&found.as_str()) && !known.contains(&found.as_str()));
    match strange {
        Some(strange) => Err(StoreError::invalid(
            "file",
            format!("There is no column “{strange}”. Besides {} there may be {}.", needed.join(", "), known.join(", ")),
        )),
        None => Ok(()),
    }
}

/// What a file comes to, with what is wrong line by line. Nothing is written.
///
/// # Errors
/// Where the database cannot be read.
pub async fn check(
    connection: &mut SqliteConnection,
    rules: &Rules,
    kind: ImportKind,
    lines: &[ImportLine],
    progress: Progress<'_>,
) -> Result<ImportCheck> {
    match kind {
        ImportKind::Orders => orders::check(connection, rules, lines, progress).await,
        ImportKind::Shipments => Ok(shipments::plan(connection, rules, lines, progress).await?.check),
    }
}

/// A file on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ImportView {
    /// Its id.
    pub id: ImportId,
    /// What it holds.
    pub kind: ImportKind,
    /// Its name.
    pub name: String,
    /// Who brought it.
    pub person: String,
    /// When.
    pub made_at: String,
    /// Whether it is `checked`, `taken_over` or `dropped`.
    pub state: String,
    /// Lines with something on them.
    pub lines: i64,
    /// Documents it makes.
    pub documents: i64,
}

/// Keeps a file that was checked, until it is imported or dropped.
///
/// # Errors
/// Where the database cannot be written.
pub async fn keep(
    writing: &mut Writing<'_>,
    kind: ImportKind,
    name: &str,
    text: &str,
    check: &ImportCheck,
) -> Result<ImportId> {
    let name: String = name.trim().chars().take(120).collect();
    let name = if name.is_empty() { format!("{}.csv", kind.word()) } else { name };
    let at = writing.actor().at.to_rfc3339_opts(SecondsFormat::Millis, true);
    let person = writing.actor().doer.name.clone();
    let word = kind.word();
    let (lines, documents) = (i64::try_from(check.lines).unwrap_or(0), i64::try_from(check.documents).unwrap_or(0));
    let id = sqlx::query_scalar!(
        "INSERT INTO imports (kind, name, made_at, person, text, lines, documents) VALUES (?, ?, ?, ?, ?, ?, ?) RETURNING id AS \"id!\"",
        word,
        name,
        at,
        person,
        text,
        lines,
        documents
    )
    .fetch_one(&mut **writing)
    .await?;
    let fields = vec![set("lines", check.lines), set("problems", check.problem_count)];
    writing.note_on((DocumentKind::Import, id, &name), "file_read", format!("read {name}"), None, fields);
    Ok(ImportId(id))
}

/// A file that was kept: what it is, and its text.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn kept(connection: &mut SqliteConnection, id: ImportId) -> Result<(ImportView, String)> {
    let row = sqlx::query!("SELECT * FROM imports WHERE id = ?", id.0)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Import, id))?;
    let view = ImportView {
        id,
        kind: crate::convert::known(&row.kind, ImportKind::of)?,
        name: row.name,
        person: row.person,
        made_at: row.made_at,
        state: row.state,
        lines: row.lines,
        documents: row.documents,
    };
    Ok((view, row.text))
}

/// Files, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection) -> Result<Vec<ImportView>> {
    sqlx::query!(
        "SELECT id, kind, name, made_at, person, state, lines, documents FROM imports ORDER BY id DESC LIMIT 100"
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(ImportView {
            id: ImportId(row.id),
            kind: crate::convert::known(&row.kind, ImportKind::of)?,
            name: row.name,
            person: row.person,
            made_at: row.made_at,
            state: row.state,
            lines: row.lines,
            documents: row.documents,
        })
    })
    .collect()
}

/// What taking a file over made.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TakenOver {
    /// Documents made.
    pub documents: usize,
    /// Their lines.
    pub lines: usize,
    /// The first number given.
    pub first: String,
    /// The last number given.
    pub last: String,
    /// Orders that are confirmed; none for shipments.
    pub confirmed: Option<usize>,
}

/// Takes a file over: all of it, or nothing.
///
/// # Errors
/// A file that is imported already, and the first of what is wrong with it.
pub async fn take_over(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ImportId,
    lines: &[ImportLine],
    confirm: bool,
    progress: Progress<'_>,
) -> Result<TakenOver> {
    let (view, _) = kept(writing, id).await?;
    if view.state != "checked" {
        return Err(StoreError::WrongState(format!("{} is {} already.", view.name, view.state.replace('_', " "))));
    }
    let done = match view.kind {
        ImportKind::Orders => orders::take_over(writing, rules, lines, confirm, progress).await?,
        ImportKind::Shipments => {
            let plan = shipments::plan(writing, rules, lines, &|_| ()).await?;
            refuse(&plan.check)?;
            shipments::write(writing, rules, plan, progress).await?
        }
    };
    sqlx::query!("UPDATE imports SET state = 'taken_over', text = '' WHERE id = ?", id.0)
        .execute(&mut **writing)
        .await?;
    let fields = vec![
        set("documents", done.documents),
        set("lines", done.lines),
        set("numbers", format!("{} to {}", done.first, done.last)),
    ];
    let words = format!("took {} {} over from {}", done.documents, view.kind.word(), view.name);
    writing.note_on((DocumentKind::Import, id.0, &view.name), "file_taken_over", words, None, fields);
    Ok(done)
}

/// A file with anything wrong is not imported at all.
fn refuse(check: &ImportCheck) -> Result<()> {
    match check.problems.first() {
        Some(first) => Err(StoreError::invalid(
            "file",
            format!(
                "Nothing was imported: {} of the file cannot be. Line {}: {}",
                if check.problem_count == 1 { "one line".to_owned() } else { format!("{} lines", check.problem_count) },
                first.line,
                first.sentence
            ),
        )),
        None if check.documents == 0 => Err(StoreError::invalid("file", "The file has no lines to import.")),
        None => Ok(()),
    }
}

/// Drops a file that was checked and is not wanted.
///
/// # Errors
/// A file that is imported already.
pub async fn drop(writing: &mut Writing<'_>, id: ImportId) -> Result<()> {
    let (view, _) = kept(writing, id).await?;
    if view.state != "checked" {
        return Err(StoreError::WrongState(format!("{} is {} already.", view.name, view.state.replace('_', " "))));
    }
    sqlx::query!("UPDATE imports SET state = 'dropped', text = '' WHERE id = ?", id.0).execute(&mut **writing).await?;
    let words = format!("deleted {}", view.name);
    writing.note_on((DocumentKind::Import, id.0, &view.name), "file_dropped", words, None, Vec::new());
    Ok(())
}
