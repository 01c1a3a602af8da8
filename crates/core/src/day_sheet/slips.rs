//! Bank deposit slips that wait to be taken to the bank, on the day sheet.

use chrono::NaiveDate;

use super::{DayItem, Next, Work, age};
use crate::ids::DocumentRef;
use crate::money::Money;

/// A slip that was prepared, and not banked yet.
#[derive(Debug, Clone)]
pub struct SlipFacts {
    /// The slip.
    pub slip: DocumentRef,
    /// The bank account it goes to.
    pub bank: String,
    /// What stands on it, in base currency.
    pub amount: Money,
    /// When it was prepared.
    pub since: NaiveDate,
}

impl SlipFacts {
    pub(super) fn row(&self, today: NaiveDate) -> DayItem {
        DayItem {
            work: Work::MoneyLyingStill,
            title: self.bank.clone(),
            why: format!("{} waits to be taken to the bank", self.slip.number),
            amount: self.amount,
            days: age(self.since, today),
            next: Next::TakeToBank,
            at: self.slip.clone(),
        }
    }
}
