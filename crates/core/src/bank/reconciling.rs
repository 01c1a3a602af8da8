//! Whether a bank account and its ledger account say the same, and what explains the rest.

use serde::{Deserialize, Serialize};

use crate::money::Money;

/// What is known of an account at the end of a day, in the account's currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ToReconcile {
    /// The balance the bank says.
    pub bank: Money,
    /// The balance of the ledger account.
    pub ledger: Money,
    /// What the books say and no line of the bank does yet: receipts and refunds on their way.
    pub outstanding: Money,
    /// Lines of the bank that are not in the books yet.
    pub open: Money,
    /// What the bank said before its first line that was taken in, and what the books said then: what no line of the bank can
    /// ever explain.
    pub before: (Money, Money),
}

/// How they compare.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Reconciliation {
    /// The balance the bank says.
    pub bank: Money,
    /// Less its lines that are not in the books.
    pub open: Money,
    /// And what the books say that the bank does not yet.
    pub outstanding: Money,
    /// The balance of the ledger account.
    pub ledger: Money,
    /// By how much the two were apart before the first statement: to be put right by an opening or an entry.
    pub at_first: Money,
    /// What nothing explains: zero, or lines were cleared against other amounts.
    pub difference: Money,
}

/// Compares the bank with the books: bank − open lines + outstanding = ledger, but for what was apart before.
///
/// ```
/// use till_core::bank::{ToReconcile, reconcile};
/// use till_core::money::Money;
/// // The bank has 100.00, 20.00 of them not booked; a check of 50.00 is on its way: the books have 130.00.
/// let known = ToReconcile {
///     bank: Money(10_000), open: Money(2_000), outstanding: Money(5_000), ledger: Money(13_000), ..ToReconcile::default()
/// };
/// assert_eq!(reconcile(&known).difference, Money::ZERO);
/// ```
pub fn reconcile(known: &ToReconcile) -> Reconciliation {
    let at_first = known.before.0 - known.before.1;
    Reconciliation {
        bank: known.bank,
        open: known.open,
        outstanding: known.outstanding,
        ledger: known.ledger,
        at_first,
        difference: known.bank - known.open + known.outstanding - at_first - known.ledger,
    }
}
