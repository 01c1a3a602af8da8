//! Stock: cost layers, first in first out.
//!
//! Layers leave in the order in which they were posted. *Source: domain.md section 6.*
//!
//! ```
//! use till_core::ids::LayerId;
//! use till_core::fixed::Quantity;
//! use till_core::money::Money;
//! use till_core::stock::{Layer, issue};
//! let pieces = |text: &str| text.parse::<Quantity>().unwrap();
//! let layer = |id, left: &str, cost| Layer {
//!     id: LayerId(id),
//!     remaining: pieces(left),
//!     remaining_cost: Money(cost),
//!     later: Vec::new(),
//! };
//! let day = "2026-03-18".parse().unwrap();
//! // 3 at 10.00 together, then 5 of 8 at 17.00 together: 10.00 + 10.63 (10.625).
//! let mut layers = [layer(1, "3", 1_000), layer(2, "8", 1_700)];
//! let issued = issue(&mut layers, pieces("8"), day).unwrap();
//! assert_eq!(issued.iter().map(|one| one.cost).collect::<Vec<_>>(), [Money(1_000), Money(1_063)]);
//! assert_eq!(layers[1].remaining_cost, Money(637));
//! assert!(issue(&mut layers, pieces("4"), day).is_err());
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::calendar::words;
use crate::fixed::Quantity;
use crate::ids::{LayerId, OrderLineId};
use crate::money::{Money, round_ratio};
use crate::room::{Movement, room_from};

/// What is left of goods that came in together, asked about for a day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layer {
    /// Its id.
    pub id: LayerId,
    /// What is left, after everything that is posted.
    pub remaining: Quantity,
    /// Cost of what is left, in base currency.
    pub remaining_cost: Money,
    /// What moved it after the day asked about: its own coming in too, where it came later.
    pub later: Vec<LayerMove>,
}

/// A movement of a layer after the day asked about: in positive, out negative.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LayerMove {
    /// When.
    pub date: NaiveDate,
    /// How much, in stock units.
    pub quantity: Quantity,
    /// At which cost, in base currency.
    pub cost: Money,
}

impl Layer {
    /// What may leave on the day the layer was asked about: what is there on it and on every later one.
    pub fn free(&self, date: NaiveDate) -> Quantity {
        self.free_on(date, date)
    }

    /// What may leave on `day`, of a layer asked about for `asked`. The last unit takes all the cost that is
    /// left, so it waits until that is there: a cent that came back on a later day does not leave before.
    fn free_on(&self, day: NaiveDate, asked: NaiveDate) -> Quantity {
        let room = room_from(day, &self.quantities(asked));
        let waits = room == self.remaining.scaled() && self.cost_from(day, asked) < self.remaining_cost;
        Quantity::from_scaled(if waits { (room - Quantity::from_whole(1).scaled()).max(0) } else { room })
    }

    /// What that costs at most, in base currency: no day's cost falls below zero either.
    fn free_cost(&self, date: NaiveDate) -> Money {
        self.cost_from(date, date)
    }

    fn cost_from(&self, day: NaiveDate, asked: NaiveDate) -> Money {
        let moved = self.later.iter().map(|later| (later.date, later.cost.0));
        Money(room_from(day, &movements(asked, self.remaining_cost.0, moved)))
    }

    fn quantities(&self, date: NaiveDate) -> Vec<Movement> {
        let moved = self.later.iter().map(|later| (later.date, later.quantity.scaled()));
        movements(date, self.remaining.scaled(), moved)
    }
}

/// The balance of a day, worked back from what is left now, and what moved it since.
fn movements(date: NaiveDate, left: i64, later: impl Iterator<Item = (NaiveDate, i64)>) -> Vec<Movement> {
    let mut movements: Vec<Movement> = later.map(|(day, amount)| Movement::new(day, amount)).collect();
    let moved: i64 = movements.iter().map(|movement| movement.amount).sum();
    movements.push(Movement::new(date, left - moved));
    movements
}

/// The first day after `date` on which all layers together have so much free; none where none has.
pub fn first_day_with(layers: &[Layer], wanted: Quantity, date: NaiveDate) -> Option<NaiveDate> {
    let mut days: Vec<NaiveDate> = layers.iter().flat_map(|layer| &layer.later).map(|later| later.date).collect();
    days.sort_unstable();
    days.dedup();
    let free_on = |day: NaiveDate| -> i64 { layers.iter().map(|layer| layer.free_on(day, date).scaled()).sum() };
    days.into_iter().find(|day| free_on(*day) >= wanted.scaled())
}

/// What is taken from one layer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Issue {
    /// The layer.
    pub layer: LayerId,
    /// How much.
    pub quantity: Quantity,
    /// Its cost in base currency.
    pub cost: Money,
}

/// There is less than was asked for, on the day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{wanted} wanted, {on_hand} on hand")]
pub struct Shortage {
    /// What was asked for.
    pub wanted: Quantity,
    /// What there is.
    pub on_hand: Quantity,
}

/// Takes `wanted` from the layers on a day, those posted first before the others, and lowers what is
/// left in them. Nothing leaves before it came: of each layer, what is free on the day.
///
/// Part of a layer costs its proportion, rounded half away from zero; the last unit of a
/// layer takes all the cost that is left, so that nothing stays behind.
///
/// # Errors
/// [`Shortage`] where the layers hold less that day; nothing is taken then.
pub fn issue(layers: &mut [Layer], wanted: Quantity, date: NaiveDate) -> Result<Vec<Issue>, Shortage> {
    let free: Vec<i64> = layers.iter().map(|layer| layer.free(date).scaled()).collect();
    let on_hand: i64 = free.iter().sum();
    if on_hand < wanted.scaled() {
        return Err(Shortage { wanted, on_hand: Quantity::from_scaled(on_hand) });
    }
    let mut left = wanted.scaled();
    let mut issues = Vec::new();
    for (layer, free) in layers.iter_mut().zip(free).filter(|(_, free)| *free > 0) {
        if left == 0 {
            break;
        }
        let taken = left.min(free);
        let cost = if taken == layer.remaining.scaled() {
            layer.remaining_cost
        } else {
            let share = round_ratio(
                i128::from(layer.remaining_cost.0) * i128::from(taken),
                i128::from(layer.remaining.scaled()),
            );
            Money(share).min(layer.free_cost(date))
        };
        layer.remaining = Quantity::from_scaled(layer.remaining.scaled() - taken);
        layer.remaining_cost -= cost;
        left -= taken;
        issues.push(Issue { layer: layer.id, quantity: Quantity::from_scaled(taken), cost });
    }
    Ok(issues)
}

/// Takes what is free of an item: not more than there is on the day, and not what is reserved for others.
///
/// # Errors
/// Why it cannot leave, and what to do, in a sentence.
pub(crate) fn take_free(
    layers: &mut [Layer],
    (wanted, committed): (Quantity, Quantity),
    date: NaiveDate,
    code: &str,
) -> Result<Vec<Issue>, String> {
    let on_hand: i64 = layers.iter().map(|layer| layer.remaining.scaled()).sum();
    if on_hand >= wanted.scaled() && on_hand - committed.scaled() < wanted.scaled() {
        return Err(format!(
            "{wanted} of {code} wanted, {} on hand, {committed} of it reserved for other orders. Ship what is free and leave the rest on back order.",
            Quantity::from_scaled(on_hand)
        ));
    }
    issue(layers, wanted, date).map_err(|shortage| not_there(layers, &shortage, (date, code)))
}

/// Why so much cannot leave: there is less, or it came only later.
fn not_there(layers: &[Layer], shortage: &Shortage, (date, code): (NaiveDate, &str)) -> String {
    match first_day_with(layers, shortage.wanted, date) {
        Some(day) => format!(
            "{} of {code} wanted, and on {} only {} had come in that nothing else needs. They can leave on {} or later.",
            shortage.wanted,
            words(date),
            shortage.on_hand,
            words(day)
        ),
        None => format!(
            "{} of {code} wanted, {} on hand. Ship what there is and leave the rest on back order.",
            shortage.wanted, shortage.on_hand
        ),
    }
}

/// An order line that has stock reserved, with what decides who keeps it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SetAside {
    /// The order line.
    pub line: OrderLineId,
    /// How much, in stock units.
    pub quantity: Quantity,
}

/// Who gives up what was reserved when there is less than was promised: the latest first, so
/// that the order that came first keeps its goods. *Common practice, no source.*
///
/// `lines` in the order in which they were reserved; returns what each has left that changed.
pub fn give_up(lines: &[SetAside], on_hand: Quantity) -> Vec<SetAside> {
    let promised: i64 = lines.iter().map(|line| line.quantity.scaled()).sum();
    let mut missing = (promised - on_hand.scaled()).max(0);
    let mut changed = Vec::new();
    for line in lines.iter().rev() {
        if missing == 0 {
            break;
        }
        let given = missing.min(line.quantity.scaled());
        missing -= given;
        changed.push(SetAside { line: line.line, quantity: Quantity::from_scaled(line.quantity.scaled() - given) });
    }
    changed
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn layer(id: i64, quantity: i64, cost: i64) -> Layer {
        Layer {
            id: LayerId(id),
            remaining: Quantity::from_whole(quantity),
            remaining_cost: Money(cost),
            later: Vec::new(),
        }
    }

    /// 10 at 4.00, then 10 at 5.00; 15 leave: 40.00 + 25.00. Figures of our own;
    /// first in first out itself is common practice, no source.
    #[test]
    fn the_oldest_leave_first() {
        let mut layers = [layer(1, 10, 4_000), layer(2, 10, 5_000)];
        let issues = issue(&mut layers, Quantity::from_whole(15), NaiveDate::default()).unwrap();
        assert_eq!(issues.iter().map(|i| (i.layer.0, i.cost.0)).collect::<Vec<_>>(), [(1, 4_000), (2, 2_500)]);
        assert_eq!(layers[1].remaining_cost, Money(2_500));
    }

    #[test]
    fn nothing_is_taken_when_short() {
        let mut layers = [layer(1, 2, 100)];
        let shortage = issue(&mut layers, Quantity::from_whole(3), NaiveDate::default()).unwrap_err();
        assert_eq!(shortage.on_hand, Quantity::from_whole(2));
        assert_eq!(layers[0].remaining, Quantity::from_whole(2));
    }

    /// 3 pieces at 0.10. On 15 March one left at 0.02 and one came back at 0.01; on the 20th the other way round.
    /// From the 15th to the 19th the layer holds 0.09, so all of its cost can leave on the 20th only. By hand.
    #[test]
    fn the_last_unit_waits_for_its_cost() {
        let day = |text: &str| text.parse::<NaiveDate>().unwrap();
        let moved = |on: &str, whole, cost| LayerMove {
            date: day(on),
            quantity: Quantity::from_whole(whole),
            cost: Money(cost),
        };
        let later = vec![
            moved("2026-03-15", -1, -2),
            moved("2026-03-15", 1, 1),
            moved("2026-03-20", 1, 2),
            moved("2026-03-20", -1, -1),
        ];
        let mut layers = [Layer { later, ..layer(1, 3, 10) }];
        let three = Quantity::from_whole(3);
        assert_eq!(
            issue(&mut layers, three, day("2026-03-12")),
            Err(Shortage { wanted: three, on_hand: Quantity::from_whole(2) })
        );
        assert_eq!(first_day_with(&layers, three, day("2026-03-12")), Some(day("2026-03-20")));
        let two = issue(&mut layers, Quantity::from_whole(2), day("2026-03-12")).unwrap();
        assert_eq!((two[0].cost, layers[0].remaining_cost), (Money(7), Money(3)));
    }

    proptest! {
        #[test]
        fn taking_all_takes_all_the_cost(
            layers in prop::collection::vec((1i64..500, 0i64..100_000), 1..6),
            cuts in prop::collection::vec(1i64..200, 1..30),
        ) {
            let mut layers: Vec<Layer> = layers.iter().enumerate()
                .map(|(id, (quantity, cost))| layer(id as i64, *quantity, *cost)).collect();
            let all_cost: Money = layers.iter().map(|l| l.remaining_cost).sum();
            let all: i64 = layers.iter().map(|l| l.remaining.scaled()).sum();
            let mut taken_cost = Money::ZERO;
            let mut taken = 0;
            for cut in cuts {
                let wanted = (cut * 10_000).min(all - taken);
                if wanted == 0 { break; }
                taken_cost += issue(&mut layers, Quantity::from_scaled(wanted), NaiveDate::default()).unwrap().iter().map(|i| i.cost).sum();
                taken += wanted;
                let left: Money = layers.iter().map(|l| l.remaining_cost).sum();
                prop_assert_eq!(taken_cost + left, all_cost);
                prop_assert!(layers.iter().all(|l| l.remaining_cost.0 >= 0));
            }
            issue(&mut layers, Quantity::from_scaled(all - taken), NaiveDate::default()).unwrap();
            prop_assert!(layers.iter().all(|l| l.remaining_cost.is_zero()));
        }
    }

    #[test]
    fn the_latest_gives_up_first() {
        let aside = |line, quantity| SetAside { line: OrderLineId(line), quantity: Quantity::from_whole(quantity) };
        let lines = [aside(1, 5), aside(2, 3), aside(3, 4)];
        assert_eq!(give_up(&lines, Quantity::from_whole(12)), []);
        assert_eq!(give_up(&lines, Quantity::from_whole(6)), [aside(3, 0), aside(2, 1)]);
        assert_eq!(give_up(&lines, Quantity::ZERO), [aside(3, 0), aside(2, 0), aside(1, 0)]);
    }
}
