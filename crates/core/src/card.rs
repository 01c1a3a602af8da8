//! Cards: an authorized amount is a promise of the card's bank, capture makes money of it.
//!
//! Authorizing writes nothing. Once the goods have gone the amount is captured, all or part of it: a receipt where an
//! invoice of the order is open, a deposit for the order where none is ([`Goes`]). Captured money lies in card clearing until
//! the processor pays it out ([`payout`]); what goes back to the card leaves clearing again, and so does what the card's
//! bank takes back, with a fee ([`crate::deposit::ending`]).
//!
//! The processor is asked from outside of the books: an [`Ask`] is written down with its key first, then sent, then its
//! [`Answer`] is written down. Without an answer it is asked again with the same key, and nothing is charged twice.
//!
//! *Source: domain.md section 8; postings.md, Money. That a capture is money only once the bank statement shows it: common
//! practice, no source.*
//!
//! ```
//! use till_core::card::{Authorization, CardNext, CardState, Status};
//! use till_core::money::{Currency, Money};
//! let day = |text: &str| text.parse().unwrap();
//! let card = Authorization {
//!     number: "CA-1".to_owned(),
//!     status: Status::Live,
//!     currency: Currency::of("EUR").unwrap(),
//!     amount: Money(29_028),
//!     captured: Money(10_000),
//!     valid_until: Some(day("2026-03-20")),
//!     waits: false,
//!     due: Money(25_000),
//! };
//! // Two days are left: it is asked for before anything else, and no more than is left of it.
//! assert_eq!(card.state(day("2026-03-18")), CardState::Expiring);
//! assert_eq!((card.next(day("2026-03-18")), card.to_capture()), (CardNext::Capture, Money(19_028)));
//! assert_eq!(card.state(day("2026-03-21")), CardState::Expired);
//! ```

mod asking;
mod checking;
pub mod payout;

use chrono::{Days, NaiveDate};
use serde::{Deserialize, Serialize};

use crate::money::{Currency, Money};

pub use asking::{Answer, Ask, Notice, Told};
pub use checking::{
    Again, Earlier, Freeing, Goes, InvoiceToPay, ToPay, check_authorize, check_capture, check_pay, check_refund,
    check_void, spread_over, to_free,
};

/// An authorization is warned about so many days before it expires.
pub const WARN_DAYS: u64 = 3;

/// What the processor said last of an authorization.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Status {
    /// It was asked for, and nothing was answered yet.
    Asked,
    /// It stands, as long as its days last.
    Live,
    /// The card's bank said no.
    Declined,
    /// The card's bank said no for good: another card is needed.
    AnotherCard,
    /// It was given up.
    Voided,
    /// The processor says that its days are over.
    Expired,
    /// The processor refused the request.
    Refused,
}

impl Status {
    const ALL: [Self; 7] =
        [Self::Asked, Self::Live, Self::Declined, Self::AnotherCard, Self::Voided, Self::Expired, Self::Refused];

    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Asked => "asked",
            Self::Live => "live",
            Self::Declined => "declined",
            Self::AnotherCard => "another_card",
            Self::Voided => "voided",
            Self::Expired => "expired",
            Self::Refused => "refused",
        }
    }

    /// As the record says it.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Asked => "asked for",
            Self::Live => "authorized",
            Self::Declined => "declined",
            Self::AnotherCard => "needs another card",
            Self::Voided => "voided",
            Self::Expired => "expired",
            Self::Refused => "refused",
        }
    }

    /// The status with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|status| status.word() == word)
    }
}

/// How an authorization stands on a day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum CardState {
    /// The processor did not answer yet.
    NoAnswer,
    /// Nothing was captured yet.
    Authorized,
    /// It can be captured for a few days only.
    Expiring,
    /// A part was captured, the rest still stands.
    CapturedInPart,
    /// All of it was captured, or the rest was given up.
    Captured,
    /// The card's bank said no.
    Declined,
    /// Another card is needed.
    AnotherCard,
    /// Given up with nothing captured.
    Voided,
    /// Its days are over.
    Expired,
    /// The processor refused the request.
    Refused,
}

impl CardState {
    /// As lists say it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::NoAnswer => "no answer yet",
            Self::Authorized => "authorized",
            Self::Expiring => "expires soon",
            Self::CapturedInPart => "captured in part",
            Self::Captured => "captured",
            Self::Declined => "declined",
            Self::AnotherCard => "needs another card",
            Self::Voided => "voided",
            Self::Expired => "expired",
            Self::Refused => "refused",
        }
    }
}

/// The next step of an authorization.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum CardNext {
    /// Ask the processor again, with the same key.
    AskAgain,
    /// The goods have gone: capture.
    Capture,
    /// It expires before the goods go: ship, or authorize again later.
    ShipSoon,
    /// Authorize again, with this card or another.
    AuthorizeAgain,
    /// Wait for the goods to go.
    Wait,
    /// Nothing more to do.
    Nothing,
}

/// An authorization with what has gone out of its order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Authorization {
    /// Its number.
    pub number: String,
    /// What the processor said last.
    pub status: Status,
    /// Its currency.
    pub currency: Currency,
    /// How much was authorized.
    pub amount: Money,
    /// How much of it was captured.
    pub captured: Money,
    /// The last day on which it can be captured; none before it was answered.
    pub valid_until: Option<NaiveDate>,
    /// Whether something was asked of the processor that it did not answer yet.
    pub waits: bool,
    /// What of its order has gone out and is not paid, with tax.
    pub due: Money,
}

impl Authorization {
    /// Whether it can be captured on a day.
    pub fn stands(&self, today: NaiveDate) -> bool {
        self.status == Status::Live && self.left().is_positive() && self.valid_until.is_none_or(|until| until >= today)
    }

    /// What was not captured.
    pub fn left(&self) -> Money {
        self.amount - self.captured
    }

    /// What is to be captured now: what is due, as far as it is left.
    pub fn to_capture(&self) -> Money {
        self.left().min(self.due).max(Money::ZERO)
    }

    /// What can still be captured on a day.
    pub fn left_on(&self, today: NaiveDate) -> Money {
        if self.stands(today) { self.left() } else { Money::ZERO }
    }

    /// What is to be captured on a day; nothing where it can no longer be.
    pub fn to_capture_on(&self, today: NaiveDate) -> Money {
        if self.stands(today) { self.to_capture() } else { Money::ZERO }
    }

    /// What becomes of it where the processor refused what was asked; none where it stays as it is. What is given up after
    /// its days does not stand at the processor any more.
    pub fn after_refusal(&self, ask: &Ask, today: NaiveDate) -> Option<Status> {
        match ask {
            Ask::Authorize { .. } => Some(Status::Refused),
            Ask::Void { .. } if self.valid_until.is_some_and(|until| until < today) => Some(Status::Expired),
            Ask::Capture { .. } | Ask::Void { .. } | Ask::Refund { .. } => None,
        }
    }

    /// Whether its days end soon.
    fn ends_soon(&self, today: NaiveDate) -> bool {
        let warned = today.checked_add_days(Days::new(WARN_DAYS)).unwrap_or(today);
        self.valid_until.is_some_and(|until| until <= warned)
    }

    /// How it stands on a day.
    pub fn state(&self, today: NaiveDate) -> CardState {
        let some = self.captured.is_positive();
        match self.status {
            Status::Asked => CardState::NoAnswer,
            Status::Declined => CardState::Declined,
            Status::AnotherCard => CardState::AnotherCard,
            Status::Refused => CardState::Refused,
            Status::Voided if some => CardState::Captured,
            Status::Voided => CardState::Voided,
            Status::Live if !self.left().is_positive() => CardState::Captured,
            Status::Live if self.stands(today) && self.ends_soon(today) => CardState::Expiring,
            Status::Live if self.stands(today) && some => CardState::CapturedInPart,
            Status::Live if self.stands(today) => CardState::Authorized,
            Status::Live | Status::Expired => CardState::Expired,
        }
    }

    /// The next step on a day.
    pub fn next(&self, today: NaiveDate) -> CardNext {
        if self.waits {
            return CardNext::AskAgain;
        }
        match self.state(today) {
            CardState::NoAnswer => CardNext::AskAgain,
            CardState::Authorized | CardState::CapturedInPart | CardState::Expiring if self.due.is_positive() => {
                CardNext::Capture
            }
            CardState::Expiring => CardNext::ShipSoon,
            CardState::Authorized | CardState::CapturedInPart => CardNext::Wait,
            CardState::Declined | CardState::AnotherCard => CardNext::AuthorizeAgain,
            CardState::Expired if self.due.is_positive() => CardNext::AuthorizeAgain,
            CardState::Expired | CardState::Captured | CardState::Voided | CardState::Refused => CardNext::Nothing,
        }
    }
}

/// The day of something that happened at the processor, for the books: no later than theirs.
pub fn in_books(on: NaiveDate, today: NaiveDate) -> NaiveDate {
    on.min(today)
}
