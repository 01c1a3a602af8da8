//! What the drafts of a run come to: all of them decided, a stretch of customers at a time.

use std::collections::{BTreeMap, HashMap};

use sqlx::SqliteConnection;
use till_core::checks::{Blocker, Effect, Step, stops};
use till_core::fingerprint;
use till_core::ids::{CustomerId, InvoiceId};

use super::Kept;
use crate::Result;
use crate::invoices::{Decided, decide_drafts};
use crate::rules::Rules;

/// What was decided on the drafts of a run when it was looked at, so that posting it need not
/// decide on all of them once more before it begins: each is decided when its turn comes, and held
/// where it is not as it was seen.
#[derive(Debug, Clone, Default)]
pub struct Looked {
    /// The version of the run.
    pub(super) version: i64,
    pub(super) seen: String,
    /// Fingerprints of what passes.
    pub(super) passing: BTreeMap<InvoiceId, String>,
    /// Why the others do not, those left out aside.
    pub(super) stopped: BTreeMap<InvoiceId, String>,
}

/// How many drafts are decided at once: what they need in memory is a few kilobytes each.
const AT_ONCE: usize = 1_000;

/// Decides the drafts of a run and hands each to `look`, those left out apart: they stand aside of
/// the others. All of a customer's are decided together, for they see each other (`decide_in_order`);
/// those of other customers they do not, so that the whole run is never in memory at once.
pub(super) async fn decide_each(
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

pub(super) fn passes(one: &Decided<'_>) -> bool {
    one.decision.document.is_some() && !stops(&one.decision.blockers)
}

/// The mark of what posting a run would post: the fingerprints of what passes, by invoice.
pub(super) fn mark(passing: &BTreeMap<InvoiceId, String>) -> String {
    fingerprint::of(&passing.iter().collect::<Vec<_>>())
}

impl Looked {
    pub(super) fn take(&mut self, one: &Kept, found: Decided<'_>) {
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

pub(super) fn reason(blockers: &[Blocker]) -> String {
    blockers
        .iter()
        .find(|one| one.effect == Effect::Stops)
        .map_or_else(|| "There is nothing to post on it.".to_owned(), |one| one.sentence.clone())
}
