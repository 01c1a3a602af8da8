//! What is owed to customers, as a balance sheet shows it: by kind, before and after the movements of a day.
//!
//! A prepayment invoice that is neither paid nor due yet gives no right to its money: until its day, neither the receivable
//! nor the liability it was booked with is shown. *Source: IFRS 15, paragraphs 105 to 108 and example 38: a contract liability
//! is shown when the payment is made or is due, whichever is earlier; the paragraphs are from memory.*
//!
//! ```
//! use till_core::liability::NotDue;
//! use till_core::money::Money;
//! // Example 38 with tax: 1,000.00 and 230.00 billed in advance. 615.00, half of it, is neither paid nor due: 500.00 of the
//! // liability are not shown yet, nor are the 615.00 of the receivable.
//! let billed = NotDue { net: Money(100_000), total: Money(123_000), open_later: Money(61_500), left: Money(100_000) };
//! assert_eq!(billed.not_shown(), Money(50_000));
//! ```

use serde::{Deserialize, Serialize};

use crate::accounts::Purpose;
use crate::money::Money;

/// The kinds of what is owed to customers, as they are listed.
pub const KINDS: [Purpose; 4] =
    [Purpose::DepositLiability, Purpose::PrepaymentLiability, Purpose::Unapplied, Purpose::ContainerLiability];

/// One kind of liability over a day, in base currency; owed is positive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Liability {
    /// The kind.
    pub purpose: Purpose,
    /// At the end of the day before.
    pub before: Money,
    /// What came to it that day.
    pub added: Money,
    /// What went off it that day, positive.
    pub taken: Money,
    /// At the end of the day.
    pub after: Money,
}

impl Liability {
    /// From what the ledger has.
    pub fn of(purpose: Purpose, before: Money, added: Money, taken: Money) -> Self {
        Self { purpose, before, added, taken, after: before + added - taken }
    }
}

/// A prepayment invoice of which something is neither paid nor due.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NotDue {
    /// Its net, in base currency.
    pub net: Money,
    /// Its total, in base currency.
    pub total: Money,
    /// What of its total is open and falls due later, in base currency.
    pub open_later: Money,
    /// What of its net is neither used nor credited, in base currency.
    pub left: Money,
}

impl NotDue {
    /// What of the liability is not shown yet: the net of what is open and due later, as far as it is there.
    pub fn not_shown(&self) -> Money {
        self.open_later.share(self.net.0, self.total.0).min(self.left)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_day_is_added_up_and_what_is_due_is_shown() {
        let row = Liability::of(Purpose::Unapplied, Money(500), Money(120), Money(600));
        assert_eq!(row.after, Money(20));
        let invoice = |open_later| NotDue {
            net: Money(10_000),
            total: Money(12_300),
            open_later: Money(open_later),
            left: Money(10_000),
        };
        assert_eq!(invoice(0).not_shown(), Money::ZERO);
        assert_eq!(invoice(12_300).not_shown(), Money(10_000));
        // 41.00 of 123.00 are a third: 33.33 of 100.00.
        assert_eq!(invoice(4_100).not_shown(), Money(3_333));
        // What was used before it was paid is no liability any more.
        assert_eq!(NotDue { left: Money(2_000), ..invoice(12_300) }.not_shown(), Money(2_000));
    }
}
