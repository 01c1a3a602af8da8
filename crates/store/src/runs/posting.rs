//! Posting a run: begun once, then stretch after stretch, each a transaction.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{DocumentKind, InvoiceId, RunId};

use super::deciding::{Looked, decide_each, mark, passes, reason};
use super::{Kept, RunHead, head, kept, open};
use crate::convert::json;
use crate::invoices::{ToPost, decide_as_seen, post_all};
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError};

/// How many invoices are posted in one transaction.
pub const STRETCH: usize = 500;

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
            "Nothing of {} passes its checks. Fix what blocks them first.",
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
        "UPDATE documents SET seen = new.value ->> 1, held = new.value ->> 2 FROM jsonb_each(?) AS new WHERE documents.id = new.value ->> 0",
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
    let decided = decide_as_seen(writing, rules, &next).await?;
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
        "UPDATE documents SET seen = NULL, held = new.value ->> 1, version = version + 1 FROM jsonb_each(?) AS new WHERE documents.id = new.value ->> 0",
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
