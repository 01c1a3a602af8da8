//! Orders on the day sheet that customers accepted on their page, and that did not confirm themselves.

use chrono::NaiveDate;

use super::{DayItem, Next, Work, age};
use crate::ids::DocumentRef;
use crate::money::Money;

/// An order that a customer accepted and that is a draft still.
#[derive(Debug, Clone)]
pub struct AcceptedFacts {
    /// The order.
    pub order: DocumentRef,
    /// The customer's name.
    pub name: String,
    /// Who accepted it.
    pub by: String,
    /// What was asked for and is missing: “a deposit of 120.37 EUR”.
    pub missing: Option<String>,
    /// Why it did not confirm itself though nothing is missing.
    pub hindered_by: Option<String>,
    /// What it comes to, in base currency.
    pub amount: Money,
    /// When it was accepted.
    pub since: NaiveDate,
}

impl AcceptedFacts {
    pub(super) fn row(&self, today: NaiveDate) -> DayItem {
        let (by, number) = (&self.by, &self.order.number);
        let (work, next, why) = match (&self.missing, &self.hindered_by) {
            (Some(missing), _) => {
                (Work::OrdersToFinish, Next::AskForMissing, format!("{by} accepted {number}, {missing} is missing"))
            }
            (None, Some(why)) => (Work::Stopped, Next::Confirm, format!("{by} accepted {number}. {why}")),
            (None, None) => (Work::Stopped, Next::Confirm, format!("{by} accepted {number}")),
        };
        let title = self.name.clone();
        DayItem { work, title, why, amount: self.amount, days: age(self.since, today), next, at: self.order.clone() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ids::DocumentKind;

    #[test]
    fn what_is_missing_is_asked_for_and_what_is_not_is_confirmed() {
        let facts = |missing: Option<&str>, hindered_by: Option<&str>| AcceptedFacts {
            order: DocumentRef { kind: DocumentKind::Order, id: 7, number: "O-7".to_owned() },
            name: "Tern Point".to_owned(),
            by: "Ann Brook".to_owned(),
            missing: missing.map(str::to_owned),
            hindered_by: hindered_by.map(str::to_owned),
            amount: Money(100),
            since: "2026-03-14".parse().unwrap(),
        };
        let row = |facts: AcceptedFacts| {
            let row = facts.row("2026-03-18".parse().unwrap());
            (row.work, row.next, row.why, row.days)
        };
        assert_eq!(
            row(facts(Some("a deposit of 25.00 EUR"), None)),
            (
                Work::OrdersToFinish,
                Next::AskForMissing,
                "Ann Brook accepted O-7, a deposit of 25.00 EUR is missing".to_owned(),
                4
            )
        );
        assert_eq!(
            row(facts(None, Some("It is over the credit limit."))).2,
            "Ann Brook accepted O-7. It is over the credit limit."
        );
        assert_eq!(row(facts(None, None)).1, Next::Confirm);
    }
}
