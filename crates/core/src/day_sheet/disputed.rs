//! What customers will not pay, on the day sheet.

use chrono::NaiveDate;

use super::{DayItem, Next, Work, age};
use crate::ids::DocumentRef;
use crate::money::Money;

/// Something that is in dispute.
#[derive(Debug, Clone)]
pub struct DisputeFacts {
    /// What is not paid.
    pub item: DocumentRef,
    /// The customer's name.
    pub name: String,
    /// Why, in words.
    pub why: String,
    /// Who looks after it; none where nobody was named.
    pub owner: Option<String>,
    /// How much, in base currency.
    pub amount: Money,
    /// Since when.
    pub since: NaiveDate,
}

impl DisputeFacts {
    pub(super) fn row(&self, today: NaiveDate) -> DayItem {
        let owner = match &self.owner {
            Some(owner) => format!("{owner} looks after it"),
            None => "nobody looks after it yet".to_owned(),
        };
        DayItem {
            work: Work::Disputed,
            title: self.name.clone(),
            why: format!("{}: {}, {owner}", self.item.number, self.why),
            amount: self.amount,
            days: age(self.since, today),
            next: Next::Resolve,
            at: self.item.clone(),
        }
    }
}
