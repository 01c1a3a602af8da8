//! Where goods that come back are known from, and what a company asks of that.

use serde::{Deserialize, Serialize};

use crate::fixed::Quantity;
use crate::ids::{DocumentLineId, ItemId, ShipmentLineId};

/// Where goods that come back are known from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
pub enum Origin {
    /// The line that billed them: price, tax and cost come from there.
    Billed(DocumentLineId),
    /// The line of a shipment that is not billed: what comes back goes back to the order, and nothing is credited.
    Shipped(ShipmentLineId),
    /// No document: the item alone. Price and cost are said.
    Unknown(ItemId),
}

impl Origin {
    /// Whether what comes back is credited, replaced or sent back; goods that are not billed are settled as they arrive.
    pub const fn is_settled_later(self) -> bool {
        !matches!(self, Self::Shipped(_))
    }
}

/// What a company asks of a return that points at no document. *Source: domain.md section 9.*
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ProofPolicy {
    /// None is authorized: the invoice or the shipment has to be found.
    #[default]
    Needed,
    /// It is authorized, with a warning.
    Warn,
    /// It is authorized.
    Free,
}

impl ProofPolicy {
    /// Every policy.
    pub const ALL: [Self; 3] = [Self::Needed, Self::Warn, Self::Free];

    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Needed => "needed",
            Self::Warn => "warn",
            Self::Free => "free",
        }
    }

    /// The policy with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|policy| policy.word() == word)
    }
}

/// How much of an item may come back. *Source: domain.md section 9.*
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ReturnLimit {
    /// What the line billed.
    #[default]
    Line,
    /// All the customer ever bought of it, less what came back: more than one line billed goes to the others, newest first.
    Customer,
}

impl ReturnLimit {
    /// Every limit.
    pub const ALL: [Self; 2] = [Self::Line, Self::Customer];

    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Line => "line",
            Self::Customer => "customer",
        }
    }

    /// The limit with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|limit| limit.word() == word)
    }
}

/// How a quantity that is more than a line has left goes to that line and to others, each within what it has left, in their
/// order. The last number is what none of them has room for.
///
/// ```
/// use till_core::fixed::Quantity;
/// use till_core::returns::beyond_the_line;
/// let pieces = Quantity::from_whole;
/// // 12 come back; the line has 5 left, the others 4 and 6: all of 5 and 4, and 3 of 6.
/// let (taken, over) = beyond_the_line(pieces(12), &[pieces(5), pieces(4), pieces(6)]);
/// assert_eq!((taken, over), (vec![pieces(5), pieces(4), pieces(3)], pieces(0)));
/// assert_eq!(beyond_the_line(pieces(7), &[pieces(5)]), (vec![pieces(5)], pieces(2)));
/// ```
pub fn beyond_the_line(quantity: Quantity, left: &[Quantity]) -> (Vec<Quantity>, Quantity) {
    let mut open = quantity.scaled();
    let taken = left
        .iter()
        .map(|room| {
            let part = open.min(room.scaled()).max(0);
            open -= part;
            Quantity::from_scaled(part)
        })
        .collect();
    (taken, Quantity::from_scaled(open))
}

/// Whether a return of goods that were not billed when it was authorized follows them onto a line that bills them: nothing of
/// the shipment line is left to bill, the line bills all that is expected, and nothing was done with the goods yet. Otherwise
/// it stays with the shipment, as far as that has them.
///
/// ```
/// use till_core::fixed::Quantity;
/// use till_core::returns::follows;
/// let pieces = Quantity::from_whole;
/// // Three are expected. All four were billed with one line; or two of them, and two are left; or in two parts.
/// assert!(follows(pieces(3), pieces(4), pieces(0), false));
/// assert!(!follows(pieces(3), pieces(4), pieces(2), false));
/// assert!(!follows(pieces(3), pieces(2), pieces(0), false));
/// assert!(!follows(pieces(3), pieces(4), pieces(0), true), "some are back already");
/// ```
pub const fn follows(expected: Quantity, billed: Quantity, left_to_bill: Quantity, moved: bool) -> bool {
    left_to_bill.is_zero() && billed.scaled() >= expected.scaled() && !moved
}
