//! Credit exposure: what a customer could leave us without.
//!
//! *Source: domain.md section 5: open receivables + receipts in hand not cleared + unbilled
//! shipments + confirmed orders not shipped − money ahead.* What is not billed yet counts with
//! its tax, since that is what will be owed.

use serde::{Deserialize, Serialize};

use crate::money::{Currency, Money};

/// The parts of a customer's exposure, all in base currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Exposure {
    /// Open invoices.
    pub receivables: Money,
    /// Checks in hand that have not cleared.
    pub in_hand: Money,
    /// Shipped and not billed, with tax.
    pub unbilled: Money,
    /// Confirmed and not shipped, with tax.
    pub to_ship: Money,
    /// Money that came ahead or lies unapplied.
    pub money_ahead: Money,
    /// A currency of which something is not counted, no exchange rate being known.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub without_rate: Option<Currency>,
}

impl Exposure {
    /// All of it. Money ahead beyond the rest leaves nothing exposed, not less than nothing.
    ///
    /// ```
    /// use till_core::exposure::Exposure;
    /// use till_core::money::Money;
    /// let exposure = Exposure { receivables: Money(500), to_ship: Money(300), money_ahead: Money(100), ..Exposure::default() };
    /// assert_eq!(exposure.total(), Money(700));
    /// ```
    pub fn total(&self) -> Money {
        let sum = self.receivables + self.in_hand + self.unbilled + self.to_ship - self.money_ahead;
        Money(sum.0.max(0))
    }

    /// With another order on top.
    pub fn with_order(&self, gross: Money) -> Self {
        Self { to_ship: self.to_ship + gross, ..*self }
    }

    /// By how much it is above a limit; none where it is not, or there is no limit.
    pub fn over(&self, limit: Option<Money>) -> Option<Money> {
        let over = self.total() - limit?;
        over.is_positive().then_some(over)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_limit_is_passed_by_the_first_cent() {
        let exposure = Exposure { receivables: Money(900), unbilled: Money(50), ..Exposure::default() };
        assert_eq!(exposure.with_order(Money(50)).over(Some(Money(1_000))), None);
        assert_eq!(exposure.with_order(Money(51)).over(Some(Money(1_000))), Some(Money(1)));
        assert_eq!(exposure.with_order(Money(1_000_000)).over(None), None);
        let ahead = Exposure { money_ahead: Money(5_000), ..exposure };
        assert_eq!(ahead.total(), Money(0));
    }
}
