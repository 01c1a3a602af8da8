//! Units of measure, each with its code of UN/ECE Recommendation 20 (packages: Recommendation 21,
//! with an X before), and quantities in units other than the stock unit.
//!
//! *Source: UN/ECE Recommendations 20 and 21, values from memory.*

use serde::{Deserialize, Serialize};

use crate::fixed::Quantity;

/// A unit goods and services are counted in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Unit {
    /// As shown: `pc`.
    pub word: &'static str,
    /// The code of the recommendation: `H87`.
    pub code: &'static str,
    /// In full.
    pub name: &'static str,
}

/// Every unit there is.
pub const UNITS: &[Unit] = &[
    Unit { word: "pc", code: "H87", name: "piece" },
    Unit { word: "pair", code: "PR", name: "pair" },
    Unit { word: "set", code: "SET", name: "set" },
    Unit { word: "doz", code: "DZN", name: "dozen" },
    Unit { word: "kg", code: "KGM", name: "kilogram" },
    Unit { word: "g", code: "GRM", name: "gram" },
    Unit { word: "t", code: "TNE", name: "tonne" },
    Unit { word: "l", code: "LTR", name: "liter" },
    Unit { word: "m", code: "MTR", name: "meter" },
    Unit { word: "m2", code: "MTK", name: "square meter" },
    Unit { word: "m3", code: "MTQ", name: "cubic meter" },
    Unit { word: "h", code: "HUR", name: "hour" },
    Unit { word: "day", code: "DAY", name: "day" },
    Unit { word: "pack", code: "XPK", name: "package" },
    Unit { word: "box", code: "XBX", name: "box" },
    Unit { word: "bag", code: "XBG", name: "bag" },
    Unit { word: "tray", code: "XPU", name: "tray" },
    Unit { word: "drum", code: "XDR", name: "drum" },
    Unit { word: "can", code: "XCA", name: "can" },
    Unit { word: "crate", code: "XCR", name: "crate" },
    Unit { word: "pallet", code: "XPX", name: "pallet" },
];

/// The unit with this word.
pub fn unit(word: &str) -> Option<&'static Unit> {
    UNITS.iter().find(|unit| unit.word == word)
}

/// A quantity in another unit, as stock units; none where it is no exact quantity of 4 places.
///
/// ```
/// use till_core::units::in_stock_units;
/// let trays = "2.5".parse().unwrap();
/// assert_eq!(in_stock_units(trays, "24".parse().unwrap()), Some("60".parse().unwrap()));
/// assert_eq!(in_stock_units("0.0001".parse().unwrap(), "0.5".parse().unwrap()), None);
/// ```
pub fn in_stock_units(quantity: Quantity, factor: Quantity) -> Option<Quantity> {
    let product = i128::from(quantity.scaled()) * i128::from(factor.scaled());
    if product % Quantity::scale() != 0 {
        return None;
    }
    i64::try_from(product / Quantity::scale()).ok().map(Quantity::from_scaled)
}

/// How much of a unit a quantity of stock units makes, rounded down to what fits exactly.
pub fn from_stock_units(stock: Quantity, factor: Quantity) -> Quantity {
    if !factor.is_positive() {
        return Quantity::ZERO;
    }
    let scaled = i128::from(stock.scaled()) * Quantity::scale() / i128::from(factor.scaled());
    let mut quantity = Quantity::from_scaled(i64::try_from(scaled).unwrap_or(i64::MAX));
    // A third of a tray may be no exact number of stock units; whole steps below it are.
    while quantity.is_positive() && in_stock_units(quantity, factor).is_none() {
        quantity = Quantity::from_scaled(quantity.scaled() - 1);
    }
    quantity
}

/// How much of what is wanted can go from a stock that may not have all of it, in the unit sold.
///
/// Where there is enough, all of it. Where there is not, no pack is broken and no step of the item
/// left: whole ones of a unit that is not the stock unit, and in either a whole number of steps.
/// Whoever wants to send half a box after all types it. *Common practice, no source.*
///
/// `wanted` in the unit sold; `stock`, `factor` (stock units in one) and `step` (zero for none) in
/// stock units.
///
/// ```
/// use till_core::units::can_go;
/// let quantity = |text: &str| text.parse().unwrap();
/// let boxes_of_six = |wanted, stock| can_go(quantity(wanted), quantity(stock), quantity("6"), quantity("0"));
/// assert_eq!(boxes_of_six("2.5", "15"), quantity("2.5"));
/// assert_eq!(boxes_of_six("3", "10"), quantity("1"));
/// assert_eq!(can_go(quantity("12"), quantity("9"), quantity("1"), quantity("2")), quantity("8"));
/// ```
pub fn can_go(wanted: Quantity, stock: Quantity, factor: Quantity, step: Quantity) -> Quantity {
    if !wanted.is_positive() || !stock.is_positive() || !factor.is_positive() {
        return Quantity::ZERO;
    }
    let needed = i128::from(wanted.scaled()) * i128::from(factor.scaled());
    if needed <= i128::from(stock.scaled()) * Quantity::scale() {
        return wanted;
    }
    // Both in units of the last place; at least one whole step, or the smallest there is.
    let whole = if factor == Quantity::ONE { Quantity::from_scaled(1) } else { Quantity::ONE };
    let per_whole = factor.scaled() * whole.scaled() / Quantity::ONE.scaled();
    let stride = if step.is_positive() { step.scaled() / gcd(step.scaled(), per_whole) } else { 1 };
    let fits = stock.scaled() / per_whole / stride * stride;
    Quantity::from_scaled(fits * whole.scaled())
}

const fn gcd(mut left: i64, mut right: i64) -> i64 {
    while right != 0 {
        (left, right) = (right, left % right);
    }
    left
}

/// What is wrong with a quantity, in stock units, where an item has a least quantity and a step.
///
/// # Errors
/// What to order instead.
pub fn check_steps(stock: Quantity, minimum: Quantity, step: Quantity, unit: &str) -> Result<(), String> {
    if stock < minimum {
        return Err(format!("The least quantity is {minimum} {unit}."));
    }
    if step.is_positive() && stock.scaled() % step.scaled() != 0 {
        let below = stock.scaled() / step.scaled() * step.scaled();
        let above = Quantity::from_scaled(below + step.scaled());
        let below = Quantity::from_scaled(below);
        return Err(if below < minimum || below.is_zero() {
            format!("It comes in steps of {step} {unit}: order {above}.")
        } else {
            format!("It comes in steps of {step} {unit}: order {below} or {above}.")
        });
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn words_and_codes_are_said_once() {
        for (at, unit) in UNITS.iter().enumerate() {
            assert!(UNITS[at + 1..].iter().all(|other| other.word != unit.word && other.code != unit.code), "{unit:?}");
            assert!((2..=3).contains(&unit.code.len()), "{unit:?}");
        }
    }

    proptest! {
        /// Never more than is wanted or there; all of it where there is enough; otherwise whole
        /// packs and steps, and not one more of them would fit.
        #[test]
        fn what_can_go_breaks_no_pack_and_no_step(
            wanted in 1_i64..400_000, stock in 0_i64..2_000_000, factor in 1_i64..30, step in 0_i64..9,
        ) {
            let (wanted, stock) = (Quantity::from_scaled(wanted), Quantity::from_scaled(stock));
            let (factor, step) = (Quantity::from_whole(factor), Quantity::from_whole(step));
            let goes = can_go(wanted, stock, factor, step);
            let needs = |quantity: Quantity| in_stock_units(quantity, factor).unwrap();
            prop_assert!(goes <= wanted && needs(goes) <= stock);
            prop_assert_eq!(goes == wanted, needs(wanted) <= stock);
            if goes < wanted {
                let one = if factor == Quantity::ONE { Quantity::from_scaled(1) } else { Quantity::ONE };
                prop_assert_eq!(goes.scaled() % one.scaled(), 0);
                let in_steps = |quantity: Quantity| step.is_zero() || needs(quantity).scaled() % step.scaled() == 0;
                prop_assert!(in_steps(goes));
                let next = (1..=80_000)
                    .map(|more| Quantity::from_scaled(goes.scaled() + more * one.scaled()))
                    .find(|next| in_steps(*next))
                    .unwrap();
                prop_assert!(needs(next) > stock || next > wanted, "{next} would go");
            }
        }
    }

    #[test]
    fn steps_and_least_quantities() {
        let check = |quantity: &str, minimum: &str, step: &str| {
            check_steps(quantity.parse().unwrap(), minimum.parse().unwrap(), step.parse().unwrap(), "pc")
        };
        assert_eq!(check("24", "12", "12"), Ok(()));
        assert_eq!(check("1", "0", "0"), Ok(()));
        assert_eq!(check("6", "12", "12").unwrap_err(), "The least quantity is 12 pc.");
        assert_eq!(check("30", "12", "12").unwrap_err(), "It comes in steps of 12 pc: order 24 or 36.");
        assert_eq!(check("13", "13", "12").unwrap_err(), "It comes in steps of 12 pc: order 24.");
        assert_eq!(check("0.25", "0", "0.1").unwrap_err(), "It comes in steps of 0.1 pc: order 0.2 or 0.3.");
    }

    #[test]
    fn what_of_a_unit_is_there_is_rounded_down() {
        let from =
            |stock: &str, factor: &str| from_stock_units(stock.parse().unwrap(), factor.parse().unwrap()).to_string();
        assert_eq!(from("60", "24"), "2.5");
        assert_eq!(from("10", "3"), "3.3333");
        assert_eq!(from("0", "3"), "0");
    }
}
