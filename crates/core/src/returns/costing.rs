//! What goods cost that come back: what they left with.

use serde::Serialize;

use crate::fixed::Quantity;
use crate::money::Money;

/// Goods of a billed line that went out to the customer, or came back; in stock units, with their cost in base currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum GoodsMoved {
    /// They left: with the shipment or the invoice, as a replacement, or sent back to the customer.
    Out(Quantity, Money),
    /// They came back on a return.
    Back(Quantity, Money),
}

/// Goods the customer has that left together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lot {
    quantity: i64,
    cost: i64,
}

impl Lot {
    /// What it costs, in base currency.
    pub const fn cost(&self) -> Money {
        Money(self.cost)
    }
}

/// What the customer has, in the order in which it left, after everything that moved, in its order: what comes back is of
/// what left last. All of it together costs what went out less what came back.
///
/// ```
/// use till_core::fixed::Quantity;
/// use till_core::money::Money;
/// use till_core::returns::GoodsMoved::{Back, Out};
/// use till_core::returns::{lots_out, take_back};
/// let pieces = Quantity::from_whole;
/// // 3 left at 10.00 together, then 1 at 4.00. The first to come back is the last that left, then one by one.
/// let mut lots = lots_out(&[Out(pieces(3), Money(1_000)), Out(pieces(1), Money(400))]);
/// let costs: Vec<i64> = (0..4).map(|_| take_back(&mut lots, pieces(1)).0).collect();
/// assert_eq!(costs, [400, 333, 334, 333]);
/// // Two came back at 12.00 and were replaced by two at 20.00: one of those costs 10.00.
/// let replaced = [Out(pieces(2), Money(1_200)), Back(pieces(2), Money(1_200)), Out(pieces(2), Money(2_000))];
/// assert_eq!(take_back(&mut lots_out(&replaced), pieces(1)), Money(1_000));
/// ```
pub fn lots_out(moved: &[GoodsMoved]) -> Vec<Lot> {
    let mut lots = Vec::new();
    for one in moved {
        match one {
            GoodsMoved::Out(quantity, cost) => lots.push(Lot { quantity: quantity.scaled(), cost: cost.0 }),
            GoodsMoved::Back(quantity, cost) => {
                let taken = take_back(&mut lots, *quantity);
                // It came back at another cost where a receipt before it was reversed since: the rest carries the difference.
                carry(&mut lots, taken.0 - cost.0);
            }
        }
    }
    lots
}

/// The cost of goods that come back, in base currency: last left first, and the last unit of a lot takes the rest that
/// rounding left. What comes back is no longer among the lots. *Source: domain.md section 9.*
pub fn take_back(lots: &mut Vec<Lot>, quantity: Quantity) -> Money {
    let mut left = quantity.scaled();
    let mut cost = Money::ZERO;
    while left > 0
        && let Some(lot) = lots.last_mut()
    {
        let taken = left.min(lot.quantity);
        let part = Money(lot.cost).share(taken, lot.quantity);
        lot.quantity -= taken;
        lot.cost -= part.0;
        left -= taken;
        cost += part;
        if lot.quantity == 0 {
            lots.pop();
        }
    }
    cost
}

/// Adds a difference to the lots from the last one on; none costs less than nothing.
fn carry(lots: &mut [Lot], mut difference: i64) {
    for lot in lots.iter_mut().rev() {
        let cost = (lot.cost + difference).max(0);
        difference -= cost - lot.cost;
        lot.cost = cost;
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::GoodsMoved::{Back, Out};
    use super::*;

    const fn pieces(whole: i64) -> Quantity {
        Quantity::from_whole(whole)
    }

    /// 3 left at 10.00, 1 at 4.00; one came back at 4.00 and one at 3.33, and the first of them was reversed: with the 3.33
    /// back alone, 10.67 are out with three pieces: 3.56 for the next, then 3.56 and 3.55. By hand.
    #[test]
    fn what_was_reversed_before_costs_the_rest() {
        let mut lots =
            lots_out(&[Out(pieces(3), Money(1_000)), Out(pieces(1), Money(400)), Back(pieces(1), Money(333))]);
        let costs: Vec<i64> = (0..3).map(|_| take_back(&mut lots, pieces(1)).0).collect();
        assert_eq!(costs, [356, 356, 355]);
        assert!(lots.is_empty());
    }

    proptest! {
        /// However goods go out and come back, in whatever parts, they bring back exactly what they left with, and no
        /// part brings less than nothing.
        #[test]
        fn what_left_comes_back_to_the_cent(
            steps in prop::collection::vec((1_i64..12, 0_i64..9_000, any::<bool>()), 1..30),
        ) {
            let mut moved = Vec::new();
            let (mut there, mut out, mut back) = (0, Money::ZERO, Money::ZERO);
            for (whole, cost, comes_back) in steps {
                let whole = if comes_back { whole.min(there) } else { whole };
                if whole == 0 {
                    continue;
                }
                if comes_back {
                    let cost = take_back(&mut lots_out(&moved), pieces(whole));
                    prop_assert!(cost >= Money::ZERO);
                    back += cost;
                    there -= whole;
                    moved.push(Back(pieces(whole), cost));
                } else {
                    out += Money(cost);
                    there += whole;
                    moved.push(Out(pieces(whole), Money(cost)));
                }
            }
            prop_assert_eq!(back + take_back(&mut lots_out(&moved), pieces(there)), out);
        }
    }
}
