//! Spreading one amount over several, so that the parts always add up.
//!
//! Proportional, by largest remainder, ties by order. *Source: domain.md section 2;
//! the method is also known as Hamilton's.*
//!
//! ```
//! use till_core::{money::Money, spread::spread};
//! let parts = spread(Money(100), &[1, 1, 1]);
//! assert_eq!(parts, [Money(34), Money(33), Money(33)]);
//! ```

use crate::money::Money;

/// Spreads `amount` over parts in proportion to `weights`.
///
/// Weights of zero get nothing; where all weights are zero, the first part takes all.
/// Negative weights are allowed as long as the sum is not zero (a credit line among the
/// lines): each part's exact share is cut towards minus infinity and the rest is given,
/// one minor unit each, to the largest remainders, earlier parts first.
/// An empty list of weights gives an empty list.
pub fn spread(amount: Money, weights: &[i64]) -> Vec<Money> {
    let Some(count) = std::num::NonZero::new(weights.len()) else {
        return Vec::new();
    };
    let total: i128 = weights.iter().copied().map(i128::from).sum();
    if total == 0 {
        let mut parts = vec![Money::ZERO; count.get()];
        parts[0] = amount;
        return parts;
    }
    // A negative total would turn the remainders round; the sign is taken out first.
    let turned = total.is_negative();
    let whole = total.abs();
    let mut parts = Vec::with_capacity(weights.len());
    let mut remainders = Vec::with_capacity(weights.len());
    let mut given: i128 = 0;
    // A negative amount is spread as its opposite, so that ties fall the same way.
    let mirrored = amount.0.is_negative();
    let magnitude = i128::from(amount.0.unsigned_abs());
    for (position, weight) in weights.iter().enumerate() {
        let weight = i128::from(*weight);
        let exact = magnitude * if turned { -weight } else { weight };
        let floor = exact.div_euclid(whole);
        given += floor;
        parts.push(floor);
        if weight != 0 {
            remainders.push((exact.rem_euclid(whole), position));
        }
    }
    remainders.sort_by(|left, right| right.0.cmp(&left.0).then(left.1.cmp(&right.1)));
    let mut rest = magnitude - given;
    for (_, position) in remainders {
        if rest == 0 {
            break;
        }
        parts[position] += 1;
        rest -= 1;
    }
    parts
        .into_iter()
        .map(|part| {
            let part = i64::try_from(part).unwrap_or(i64::MAX);
            Money(if mirrored { -part } else { part })
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn ties_go_to_the_earlier_part() {
        assert_eq!(spread(Money(1), &[1, 1]), [Money(1), Money(0)]);
        assert_eq!(spread(Money(-1), &[1, 1]), [Money(-1), Money(0)]);
        assert_eq!(spread(Money(5), &[0, 2, 2]), [Money(0), Money(3), Money(2)]);
    }

    #[test]
    fn nothing_to_go_by_goes_to_the_first() {
        assert_eq!(spread(Money(7), &[0, 0]), [Money(7), Money(0)]);
        assert_eq!(spread(Money(7), &[]), []);
    }

    proptest! {
        #[test]
        fn parts_add_up_and_stay_within_one_unit(
            amount in -1_000_000_000i64..1_000_000_000,
            weights in prop::collection::vec(0i64..1_000_000, 1..40),
        ) {
            let parts = spread(Money(amount), &weights);
            prop_assert_eq!(parts.iter().copied().sum::<Money>(), Money(amount));
            let total: i128 = weights.iter().map(|w| i128::from(*w)).sum();
            if total > 0 {
                for (part, weight) in parts.iter().zip(&weights) {
                    let exact_times_total = i128::from(amount) * i128::from(*weight);
                    let distance = (i128::from(part.0) * total - exact_times_total).abs();
                    prop_assert!(distance < total, "a part is off by a unit or more");
                }
            }
        }

        #[test]
        fn mixed_signs_add_up(
            amount in -1_000_000i64..1_000_000,
            weights in prop::collection::vec(-10_000i64..10_000, 1..20),
        ) {
            let parts = spread(Money(amount), &weights);
            prop_assert_eq!(parts.iter().copied().sum::<Money>(), Money(amount));
        }
    }
}
