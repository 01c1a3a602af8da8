//! Disputes: what a customer will not pay of an open item, why, and who looks after it.
//!
//! A dispute writes nothing to the ledger: the item stays open, and what becomes of it is a credit memo, a write-off or the money
//! after all. It never stands over more than is open: what is settled otherwise leaves it by itself. *Source: domain.md section 10.*
//!
//! ```
//! use till_core::dispute::{DisputeReason, standing};
//! use till_core::money::Money;
//! // 12.50 are in dispute; once 5.00 only are open, no more than those.
//! assert_eq!(standing(Money(1_250), Money(500)), Money(500));
//! assert_eq!(DisputeReason::of("price"), Some(DisputeReason::Price));
//! ```

use serde::{Deserialize, Serialize};

use crate::money::{Currency, Money};

/// Why a customer does not pay.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum DisputeReason {
    /// Another price was agreed.
    Price,
    /// Less came than was billed.
    Quantity,
    /// What came was damaged, or not as ordered.
    Damaged,
    /// Nothing came.
    NotReceived,
    /// The customer took off something of its own: an allowance, a charge.
    Deduction,
    /// Something else.
    Other,
}

impl DisputeReason {
    /// Every reason.
    pub const ALL: [Self; 6] =
        [Self::Price, Self::Quantity, Self::Damaged, Self::NotReceived, Self::Deduction, Self::Other];

    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Price => "price",
            Self::Quantity => "quantity",
            Self::Damaged => "damaged",
            Self::NotReceived => "not_received",
            Self::Deduction => "deduction",
            Self::Other => "other",
        }
    }

    /// The reason with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|reason| reason.word() == word)
    }
}

/// The most characters of what is written down of a dispute.
pub const MOST_WORDS: usize = 500;

/// What of an open item may be put into dispute, or why not. None typed: all that is open.
///
/// # Errors
/// The field, and what to do instead.
pub fn check(
    typed: Option<Money>,
    open: Money,
    (reason, words): (DisputeReason, &str),
    currency: Currency,
) -> Result<Money, (&'static str, String)> {
    if !open.is_positive() {
        return Err(("amount", "Nothing of it is open: there is nothing to dispute.".to_owned()));
    }
    let amount = typed.unwrap_or(open);
    if !amount.is_positive() {
        return Err(("amount", "Enter what is not paid, more than zero.".to_owned()));
    }
    if amount > open {
        return Err(("amount", format!("Only {} {currency} of it are open.", currency.grouped(open))));
    }
    check_words(words)?;
    if reason == DisputeReason::Other && words.trim().is_empty() {
        return Err(("words", "Say what it is about.".to_owned()));
    }
    Ok(amount)
}

/// Whether words can be kept.
///
/// # Errors
/// The field, and what to do instead.
pub fn check_words(words: &str) -> Result<(), (&'static str, String)> {
    if words.chars().count() > MOST_WORDS {
        return Err(("words", format!("Write {MOST_WORDS} characters at most.")));
    }
    Ok(())
}

/// What still stands in dispute of an item that has so much open.
pub fn standing(amount: Money, open: Money) -> Money {
    amount.min(open)
}
