//! What goods cost that come back: what they left with.

use crate::fixed::Quantity;
use crate::money::Money;
use crate::stock::Issue;

/// The cost of goods that come back, in base currency: of the layers they left, last issued first, and the last unit
/// takes the rest that rounding left. `issued` in the order in which it left, `back` what is back already of the same
/// goods, with its cost, and less what was sent out again; quantities in stock units. *Source: domain.md section 9.*
///
/// ```
/// use till_core::fixed::Quantity;
/// use till_core::ids::LayerId;
/// use till_core::money::Money;
/// use till_core::returns::cost_back;
/// use till_core::stock::Issue;
/// let pieces = Quantity::from_whole;
/// let issued = |layer, whole, cost| Issue { layer: LayerId(layer), quantity: pieces(whole), cost: Money(cost) };
/// // 3 left at 10.00 together, then 1 at 4.00. The first to come back is the last that left.
/// let left = [issued(1, 3, 1_000), issued(2, 1, 400)];
/// let none = (Quantity::ZERO, Money::ZERO);
/// assert_eq!(cost_back(&left, none, pieces(1)), Money(400));
/// assert_eq!(cost_back(&left, none, pieces(2)), Money(733));
/// // One by one they come to the same: 3.33, 3.34, 3.33.
/// assert_eq!(cost_back(&left, (pieces(2), Money(733)), pieces(1)), Money(334));
/// assert_eq!(cost_back(&left, (pieces(3), Money(1_067)), pieces(1)), Money(333));
/// ```
pub fn cost_back(issued: &[Issue], back: (Quantity, Money), quantity: Quantity) -> Money {
    let all = Quantity::from_scaled(back.0.scaled() + quantity.scaled());
    (last_issued(issued, all) - back.1).max(Money::ZERO)
}

/// What the last so many that left cost together.
fn last_issued(issued: &[Issue], quantity: Quantity) -> Money {
    let mut left = quantity.scaled();
    let mut cost = Money::ZERO;
    for one in issued.iter().rev() {
        if left <= 0 {
            break;
        }
        let taken = left.min(one.quantity.scaled());
        cost += if taken == one.quantity.scaled() { one.cost } else { one.cost.share(taken, one.quantity.scaled()) };
        left -= taken;
    }
    cost
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::ids::LayerId;

    proptest! {
        /// However the goods come back, in whatever parts, they bring back exactly what they left with, and no part
        /// brings less than nothing.
        #[test]
        fn what_left_comes_back_to_the_cent(
            left in prop::collection::vec((1_i64..40, 0_i64..9_000), 1..5),
            parts in prop::collection::vec(1_i64..12, 1..40),
        ) {
            let issued: Vec<Issue> = left
                .iter()
                .enumerate()
                .map(|(at, (whole, cost))| Issue {
                    layer: LayerId(at as i64),
                    quantity: Quantity::from_whole(*whole),
                    cost: Money(*cost),
                })
                .collect();
            let all: i64 = left.iter().map(|(whole, _)| whole).sum();
            let mut back = (Quantity::ZERO, Money::ZERO);
            for part in parts.into_iter().chain(std::iter::once(all)) {
                let part = Quantity::from_whole(part.min(all - back.0.scaled() / 10_000));
                let cost = cost_back(&issued, back, part);
                prop_assert!(cost >= Money::ZERO);
                back = (Quantity::from_scaled(back.0.scaled() + part.scaled()), back.1 + cost);
            }
            prop_assert_eq!(back.0, Quantity::from_whole(all));
            prop_assert_eq!(back.1, left.iter().map(|(_, cost)| Money(*cost)).sum::<Money>());
        }
    }
}
