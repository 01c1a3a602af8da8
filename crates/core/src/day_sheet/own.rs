//! What someone left behind: drafts of their own, and what they asked for and nobody has decided on, on their day sheet.

use chrono::NaiveDate;

use super::{ApprovalFacts, DayItem, Next, Work, age, sentence};
use crate::ids::DocumentRef;
use crate::money::Money;

/// A draft of an invoice that someone was the last to change, outside a billing run.
#[derive(Debug, Clone)]
pub struct DraftFacts {
    /// The draft.
    pub draft: DocumentRef,
    /// The customer's name.
    pub name: String,
    /// What it bills, by the numbers of its shipments and orders; “direct” where there are none.
    pub source: String,
    /// What it comes to with tax, in base currency; zero where no exchange rate is known.
    pub total: Money,
    /// When it was changed last.
    pub since: NaiveDate,
}

impl DraftFacts {
    pub(super) fn row(&self, today: NaiveDate) -> DayItem {
        DayItem {
            work: Work::Drafts,
            title: self.name.clone(),
            why: format!("draft of {}", self.source),
            amount: self.total,
            days: age(self.since, today),
            next: Next::OpenDraft,
            at: self.draft.clone(),
        }
    }
}

/// What one asked for oneself: someone else decides.
pub(super) fn requested(facts: &ApprovalFacts, today: NaiveDate) -> DayItem {
    DayItem {
        work: Work::Requested,
        title: sentence(&facts.words),
        why: "you asked; a supervisor decides".to_owned(),
        amount: facts.amount,
        days: age(facts.since, today),
        next: Next::LookAtRequest,
        at: facts.approval.clone(),
    }
}
