//! How much of a thing was there, from a day on.
//!
//! Money, invoices, layers of stock, cost that waits for its invoice, containers: each is a row of
//! dated movements, and *nothing is used before it is there*. Taking something out on a day is right
//! only where the balance stays at zero or above on that day **and on every later one**: a later use
//! counts too, however the postings came in. *Source: domain.md section 3.*
//!
//! ```
//! use till_core::room::{Movement, first_day, room_from};
//! let day = |text: &str| text.parse().unwrap();
//! // 1,000.00 came on 1 March, went to an invoice that day, and was free again on 20 March.
//! let money = [
//!     Movement::new(day("2026-03-01"), 100_000),
//!     Movement::new(day("2026-03-01"), -100_000),
//!     Movement::new(day("2026-03-20"), 100_000),
//! ];
//! assert_eq!(room_from(day("2026-03-05"), &money), 0);
//! assert_eq!(room_from(day("2026-03-20"), &money), 100_000);
//! assert_eq!(first_day(100_000, &money), Some(day("2026-03-20")));
//! assert_eq!(first_day(100_001, &money), None);
//! ```

use std::collections::BTreeMap;

use chrono::NaiveDate;

/// A dated movement: in (positive) or out (negative), in the smallest unit of what moves
/// (minor units of money, ten-thousandths of a quantity).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Movement {
    /// The day it counts from.
    pub date: NaiveDate,
    /// How much, with its sign.
    pub amount: i64,
}

impl Movement {
    /// A movement on a day.
    pub const fn new(date: NaiveDate, amount: i64) -> Self {
        Self { date, amount }
    }
}

/// The smallest balance from a day on: what can still be taken out on that day. Movements may come
/// in any order; before the first of them there is nothing. Never below zero: where the balance
/// falls below zero already, there is no room.
pub fn room_from(date: NaiveDate, movements: &[Movement]) -> i64 {
    let mut balance = balance_on(date, movements);
    let mut room = balance;
    for (_, moved) in by_day(movements.iter().filter(|movement| movement.date > date)) {
        balance += moved;
        room = room.min(balance);
    }
    room.max(0)
}

/// What moves on each day, in the order of the days.
fn by_day<'a>(movements: impl Iterator<Item = &'a Movement>) -> BTreeMap<NaiveDate, i64> {
    let mut days = BTreeMap::new();
    for movement in movements {
        *days.entry(movement.date).or_insert(0) += movement.amount;
    }
    days
}

/// The balance at the end of a day.
pub fn balance_on(date: NaiveDate, movements: &[Movement]) -> i64 {
    movements.iter().filter(|movement| movement.date <= date).map(|movement| movement.amount).sum()
}

/// The first day from which on so much can be taken out; `None` where that day never comes.
pub fn first_day(wanted: i64, movements: &[Movement]) -> Option<NaiveDate> {
    let days = by_day(movements.iter());
    let mut balance: i64 = days.values().sum();
    let mut first = None;
    // From the last day back: as long as the balance suffices on every day from there on.
    for (day, moved) in days.into_iter().rev() {
        if balance < wanted {
            break;
        }
        first = Some(day);
        balance -= moved;
    }
    first
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn day(offset: i64) -> NaiveDate {
        NaiveDate::default() + chrono::Duration::days(offset)
    }

    #[test]
    fn a_later_use_counts() {
        // 10 came on day 1, 8 leave on day 9: on day 5 only 2 can go.
        let stock = [Movement::new(day(1), 10), Movement::new(day(9), -8)];
        assert_eq!([0, 1, 5, 9, 20].map(|at| room_from(day(at), &stock)), [0, 2, 2, 2, 2]);
        assert_eq!(first_day(2, &stock), Some(day(1)));
        assert_eq!(first_day(3, &stock), None);
    }

    #[test]
    fn what_comes_again_later_is_there_from_then_on() {
        let stock = [Movement::new(day(1), 10), Movement::new(day(3), -10), Movement::new(day(7), 4)];
        assert_eq!([1, 3, 6, 7].map(|at| room_from(day(at), &stock)), [0, 0, 0, 4]);
        assert_eq!(first_day(4, &stock), Some(day(7)));
    }

    proptest! {
        /// Taking out what there is room for never makes a day negative; one more does.
        #[test]
        fn exactly_the_room_can_go(
            moves in prop::collection::vec((0i64..20, 0i64..50), 1..12),
            outs in prop::collection::vec((0i64..20, 1i64..50), 0..8),
            at in 0i64..20,
        ) {
            let mut movements: Vec<Movement> = moves.iter().map(|(on, amount)| Movement::new(day(*on), *amount)).collect();
            for (on, wanted) in outs {
                let amount = wanted.min(room_from(day(on), &movements));
                movements.push(Movement::new(day(on), -amount));
            }
            let lowest = |movements: &[Movement]| (0..21).map(|on| balance_on(day(on), movements)).min().unwrap();
            prop_assert!(lowest(&movements) >= 0);
            let room = room_from(day(at), &movements);
            let with = |amount: i64| {
                let mut more = movements.clone();
                more.push(Movement::new(day(at), -amount));
                lowest(&more)
            };
            prop_assert!(with(room) >= 0);
            prop_assert!(with(room + 1) < 0);
            if let Some(first) = first_day(room.max(1), &movements) {
                prop_assert!(room_from(first, &movements) >= room.max(1));
            }
        }
    }
}
