//! What goes between the books and the processor: what is asked, what is answered, what is told by itself.
//!
//! ```
//! use till_core::card::{Ask, Answer};
//! use till_core::money::Money;
//! let ask = Ask::Capture { authorization: "auth_1".to_owned(), amount: Money(29_028) };
//! assert_eq!(ask.word(), "capture");
//! // Whatever is asked may be refused.
//! assert!(ask.fits(&Answer::Refused { words: "no".to_owned() }));
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use super::Status;
use super::payout::Report;
use crate::money::{Currency, Money};

/// What is asked of the processor.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "ask")]
pub enum Ask {
    /// To authorize a card.
    Authorize {
        /// Stands for the card.
        card: String,
        /// How much.
        amount: Money,
        /// In which currency.
        currency: Currency,
        /// Our number.
        number: String,
    },
    /// To capture.
    Capture {
        /// As the processor names the authorization.
        authorization: String,
        /// How much.
        amount: Money,
    },
    /// To give up what was not captured.
    Void {
        /// As the processor names the authorization.
        authorization: String,
    },
    /// To send money back to the card.
    Refund {
        /// As the processor names the capture.
        capture: String,
        /// How much.
        amount: Money,
    },
}

impl Ask {
    /// The word kept in the database.
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Authorize { .. } => "authorize",
            Self::Capture { .. } => "capture",
            Self::Void { .. } => "void",
            Self::Refund { .. } => "refund",
        }
    }

    /// Whether that can be an answer to it.
    pub const fn fits(&self, answer: &Answer) -> bool {
        match answer {
            Answer::Authorization(_) => matches!(self, Self::Authorize { .. } | Self::Void { .. }),
            Answer::Captured { .. } => matches!(self, Self::Capture { .. }),
            Answer::Refunded { .. } => matches!(self, Self::Refund { .. }),
            Answer::Refused { .. } => true,
        }
    }
}

/// What the processor answered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "answer")]
pub enum Answer {
    /// An authorization, or how one stands now.
    Authorization(Told),
    /// Captured.
    Captured {
        /// As the processor names it.
        reference: String,
        /// How much.
        amount: Money,
        /// When.
        on: NaiveDate,
    },
    /// Sent back to the card.
    Refunded {
        /// As the processor names it.
        reference: String,
        /// How much.
        amount: Money,
        /// When.
        on: NaiveDate,
    },
    /// The request was refused, whatever it was.
    Refused {
        /// Why, in the processor's words.
        words: String,
    },
}

/// What the processor tells of an authorization.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Told {
    /// As the processor names it.
    pub reference: String,
    /// Counts its changes: of two notices the one that counts higher is the newer.
    pub revision: i64,
    /// How it stands.
    pub status: Status,
    /// Why it was declined, in the processor's words.
    pub declined: Option<String>,
    /// The last day on which it can be captured.
    pub valid_until: NaiveDate,
}

/// What the processor tells by itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "notice")]
pub enum Notice {
    /// An authorization changed.
    Authorization(Told),
    /// Something was captured.
    Captured {
        /// Its authorization, as it stands now.
        of: Told,
        /// As the processor names it.
        reference: String,
        /// How much.
        amount: Money,
        /// When.
        on: NaiveDate,
    },
    /// Something was sent back to a card.
    Refunded {
        /// As the processor names it.
        reference: String,
        /// As the processor names the capture.
        capture: String,
        /// How much.
        amount: Money,
        /// When.
        on: NaiveDate,
    },
    /// A card's bank took something back.
    ChargedBack {
        /// As the processor names it.
        reference: String,
        /// As the processor names the capture.
        capture: String,
        /// How much.
        amount: Money,
        /// What the processor asks for it, beside.
        fee: Money,
        /// Why, as the card's bank says it.
        words: String,
        /// When.
        on: NaiveDate,
    },
    /// Money was paid out.
    PaidOut(Report),
}

impl Notice {
    /// The same as the answer to what was asked, where it is of something that is asked.
    pub fn as_answer(&self) -> Option<Answer> {
        match self {
            Self::Authorization(told) => Some(Answer::Authorization(told.clone())),
            Self::Captured { reference, amount, on, .. } => {
                Some(Answer::Captured { reference: reference.clone(), amount: *amount, on: *on })
            }
            Self::Refunded { reference, amount, on, .. } => {
                Some(Answer::Refunded { reference: reference.clone(), amount: *amount, on: *on })
            }
            Self::ChargedBack { .. } | Self::PaidOut(_) => None,
        }
    }
}
