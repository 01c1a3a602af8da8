//! Lines of bank statements that are not in the books, on the day sheet.

use chrono::NaiveDate;

use super::{DayItem, Next, Work, age};
use crate::ids::DocumentRef;
use crate::money::Money;

/// A bank statement of which lines are not cleared.
#[derive(Debug, Clone)]
pub struct BankFacts {
    /// The statement.
    pub statement: DocumentRef,
    /// The bank account's name.
    pub account: String,
    /// How many lines are open.
    pub open: i64,
    /// What came to the account and left it with those, each without its sign, in base currency.
    pub amount: Money,
    /// The day the oldest of them was booked on.
    pub since: NaiveDate,
}

impl BankFacts {
    pub(super) fn row(&self, today: NaiveDate) -> DayItem {
        let number = &self.statement.number;
        DayItem {
            work: Work::MoneyLyingStill,
            title: self.account.clone(),
            why: match self.open {
                1 => format!("{number}: 1 line is not in the books"),
                open => format!("{number}: {open} lines are not in the books"),
            },
            amount: self.amount,
            days: age(self.since, today),
            next: Next::Match,
            at: self.statement.clone(),
        }
    }
}
