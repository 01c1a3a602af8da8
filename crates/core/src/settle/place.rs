//! Places of money and ways of paying: data, not code.

use serde::{Deserialize, Serialize};

use crate::accounts::{Account, Purpose};
use crate::money::Currency;

/// What kind of place money lies in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum PlaceKind {
    /// An account at a bank.
    Bank,
    /// Notes and coins.
    Drawer,
    /// Checks that were not taken to the bank yet.
    ChecksInHand,
    /// Card payments that were not paid out yet.
    CardClearing,
}

impl PlaceKind {
    /// Every kind.
    pub const ALL: [Self; 4] = [Self::Bank, Self::Drawer, Self::ChecksInHand, Self::CardClearing];

    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Bank => "bank",
            Self::Drawer => "drawer",
            Self::ChecksInHand => "checks_in_hand",
            Self::CardClearing => "card_clearing",
        }
    }

    /// The kind with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }

    /// What a ledger line on such a place is for. *Source: postings.md, the chart.*
    pub const fn purpose(self) -> Purpose {
        match self {
            Self::Bank => Purpose::Bank,
            Self::Drawer | Self::ChecksInHand => Purpose::InHand,
            Self::CardClearing => Purpose::CardClearing,
        }
    }
}

/// A place money lies in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MoneyPlace {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// What kind of place.
    pub kind: PlaceKind,
    /// The ledger account of what lies there.
    pub account: Account,
    /// The currency it is kept in; none where it takes any.
    pub currency: Option<Currency>,
}

/// A way of paying: where the money is from then on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Method {
    /// Its code, as kept on receipts.
    pub code: String,
    /// As people say it.
    pub name: String,
    /// Where the money is.
    pub place: MoneyPlace,
}
