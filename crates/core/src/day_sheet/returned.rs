//! Goods that came back, on the day sheet.

use chrono::NaiveDate;

use super::{DayItem, Next, Work, age};
use crate::ids::DocumentRef;
use crate::money::Money;
use crate::returns::NextStep;

/// A return of which something is back and not decided on.
#[derive(Debug, Clone)]
pub struct ReturnedFacts {
    /// The return.
    pub returned: DocumentRef,
    /// The customer's name.
    pub name: String,
    /// The codes of its items.
    pub items: String,
    /// What it needs: inspection, repair, or to be settled with the customer.
    pub needs: NextStep,
    /// What waits for inspection at cost, in base currency.
    pub cost: Money,
    /// When it was authorized.
    pub since: NaiveDate,
}

impl ReturnedFacts {
    pub(super) fn row(&self, today: NaiveDate) -> DayItem {
        let (number, items) = (&self.returned.number, &self.items);
        let (next, why) = match self.needs {
            NextStep::Inspect => (Next::Inspect, format!("{number}: {items} waits for inspection")),
            NextStep::Repair => (Next::Repair, format!("{number}: {items} is in for repair")),
            _ => (Next::Settle, format!("{number}: {items} is back and not credited")),
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
