//! Returnable packaging that comes back: so many pieces, and what was charged for them.
//!
//! *Source: domain.md sections 3 and 5.*
//!
//! ```
//! use till_core::containers::AtCustomer;
//! use till_core::fixed::Quantity;
//! use till_core::money::Money;
//! use till_core::room::Movement;
//! let day = |text: &str| text.parse().unwrap();
//! // Ten drums at 1.00 on 1 March, ten at 2.00 on 10 March: 15.00 is their average today for ten of them.
//! let pieces = |whole: i64| Quantity::from_whole(whole);
//! let there = AtCustomer {
//!     pieces: pieces(20),
//!     owed_back: Money(3_000),
//!     moves: vec![Movement::new(day("2026-03-01"), 100_000), Movement::new(day("2026-03-10"), 100_000)],
//!     amounts: vec![Movement::new(day("2026-03-01"), 1_000), Movement::new(day("2026-03-10"), 2_000)],
//! };
//! assert_eq!(there.back(pieces(10), day("2026-03-12"), "DRUM"), Ok(Money(1_500)));
//! // On the 5th only 10.00 was owed back, so no more than that goes back.
//! assert_eq!(there.back(pieces(10), day("2026-03-05"), "DRUM"), Ok(Money(1_000)));
//! assert!(there.back(pieces(20), day("2026-03-05"), "DRUM").unwrap_err().contains("10 Mar"));
//! ```

use chrono::NaiveDate;

use crate::calendar::words;
use crate::fixed::Quantity;
use crate::money::Money;
use crate::room::{Movement, first_day, room_from};

/// Containers of one kind at a customer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AtCustomer {
    /// How many are there, after everything that is posted.
    pub pieces: Quantity,
    /// What was charged for those, in base currency.
    pub owed_back: Money,
    /// What went and came back, day by day, in ten-thousandths.
    pub moves: Vec<Movement>,
    /// What was charged and given back, day by day, in base currency.
    pub amounts: Vec<Movement>,
}

impl AtCustomer {
    /// What is given back, in base currency, for so many that come back on a day: their share of what is owed
    /// for all that are there, never more than is owed from that day on; the last one takes all that is left,
    /// so that nothing stays owed.
    ///
    /// # Errors
    /// A sentence where they had not gone by then, or what was charged for them is owed only later, with the
    /// first day on which they can come back.
    pub fn back(&self, quantity: Quantity, date: NaiveDate, code: &str) -> Result<Money, String> {
        let room = room_from(date, &self.moves);
        let owed = room_from(date, &self.amounts);
        let last = quantity == self.pieces;
        let amount = if last {
            self.owed_back
        } else {
            Money(self.owed_back.share(quantity.scaled(), self.pieces.scaled()).0.min(owed))
        };
        if quantity.scaled() <= room && amount.0 <= owed {
            return Ok(amount);
        }
        let pieces_day = first_day(quantity.scaled(), &self.moves);
        let when = pieces_day.zip(first_day(amount.0, &self.amounts)).map_or_else(String::new, |(one, other)| {
            format!(" They can come back on {} or later.", words(one.max(other)))
        });
        let room = Quantity::from_scaled(room);
        Err(format!("On {} only {room} of {code} were at this customer to come back.{when}", words(date)))
    }
}
