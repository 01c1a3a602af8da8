//! Goods that came back, on the day sheet.

use chrono::NaiveDate;

use super::{DayItem, Next, Work, age};
use crate::ids::DocumentRef;
use crate::money::Money;

/// A return of which something is back and not decided on.
#[derive(Debug, Clone)]
pub struct ReturnedFacts {
    /// The return.
    pub returned: DocumentRef,
    /// The customer's name.
    pub name: String,
    /// The codes of its items.
    pub items: String,
    /// Whether something waits for inspection; otherwise it is to be settled with the customer.
    pub waiting: bool,
    /// What waits for inspection at cost, in base currency.
    pub cost: Money,
    /// When it was authorized.
    pub since: NaiveDate,
}

impl ReturnedFacts {
    pub(super) fn row(&self, today: NaiveDate) -> DayItem {
        let (number, items) = (&self.returned.number, &self.items);
        let (next, why) = match self.waiting {
            true => (Next::Inspect, format!("{number}: {items} waits for inspection")),
            false => (Next::Settle, format!("{number}: {items} is back and not credited")),
        };
        DayItem {
            work: Work::Returned,
            title: self.name.clone(),
            why,
            amount: self.cost,
            days: age(self.since, today),
            next,
            at: self.returned.clone(),
        }
    }
}
