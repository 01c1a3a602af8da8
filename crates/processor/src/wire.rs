//! What goes over the wire between the books and the processor. Amounts are minor units of their currency.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

/// How a card of the stand-in behaves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Habit {
    /// Everything goes through.
    Good,
    /// Declined.
    Declined,
    /// Declined for good: the customer has to give another card.
    AnotherCard,
    /// What is asked is done, but the first answer to each key comes after the asker stopped waiting.
    Slow,
    /// Authorized for two days only.
    ShortLived,
}

impl Habit {
    /// Every habit.
    pub const ALL: [Self; 5] = [Self::Good, Self::Declined, Self::AnotherCard, Self::Slow, Self::ShortLived];

    /// As the page of the stand-in says it.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Good => "A card that works",
            Self::Declined => "A card that is declined",
            Self::AnotherCard => "A card that was given up by its bank",
            Self::Slow => "A card whose answers come too late",
            Self::ShortLived => "A card that is authorized for two days only",
        }
    }
}

/// A card, without its number.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Card {
    /// Stands for it, and is of no use to anyone but the company that asked for it.
    pub token: String,
    /// The last four digits of its number.
    pub last_four: String,
    /// The month it is valid through: `2028-05`.
    pub valid_through: String,
}

/// To ask the processor to take a card on its own page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewSession {
    /// Whose card it is, in words; shown on the page.
    pub customer: String,
    /// Where the customer goes on once the card is kept; none where they close the page.
    #[serde(default)]
    pub back: Option<String>,
}

/// A page on which a card is typed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Session {
    /// Names it.
    pub id: String,
    /// Address of the page, below that of the processor.
    pub path: String,
    /// The card, once it was typed.
    pub card: Option<Card>,
}

/// To authorize a card.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewAuthorization {
    /// Token of the card.
    pub card: String,
    /// How much.
    pub amount: i64,
    /// Three letters.
    pub currency: String,
    /// The number the asker gave it.
    pub reference: String,
}

/// How an authorization stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Status {
    /// It can be captured.
    Authorized,
    /// The card's bank said no.
    Declined,
    /// It was given up.
    Voided,
    /// Its days are over.
    Expired,
}

/// An authorization.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Authorization {
    /// Names it.
    pub id: String,
    /// Counts its changes: what is told of it later counts higher.
    pub revision: i64,
    /// How it stands.
    pub status: Status,
    /// Why it was declined.
    pub declined: Option<String>,
    /// Whether only another card will do.
    pub another_card: bool,
    /// How much was authorized.
    pub amount: i64,
    /// Three letters.
    pub currency: String,
    /// How much was captured of it.
    pub captured: i64,
    /// The last day on which it can be captured.
    pub valid_until: NaiveDate,
    /// The number the asker gave it.
    pub reference: String,
    /// Token of its card.
    pub card: String,
}

/// How much to capture, or to refund.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Amount {
    /// How much.
    pub amount: i64,
}

/// Money captured.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Capture {
    /// Names it.
    pub id: String,
    /// Its authorization.
    pub authorization: String,
    /// How much.
    pub amount: i64,
    /// When.
    pub on: NaiveDate,
}

/// Money that went back to a card.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Refund {
    /// Names it.
    pub id: String,
    /// What it was captured with.
    pub capture: String,
    /// How much.
    pub amount: i64,
    /// When.
    pub on: NaiveDate,
}

/// Money that the card's bank took back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChargeBack {
    /// Names it.
    pub id: String,
    /// What it was captured with.
    pub capture: String,
    /// How much.
    pub amount: i64,
    /// What the processor asks for it, beside.
    pub fee: i64,
    /// Why, as the card's bank says it.
    pub words: String,
    /// When.
    pub on: NaiveDate,
}

/// What a line of a payout is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum PayoutLineKind {
    /// A capture.
    Capture,
    /// A refund: taken off.
    Refund,
    /// A charge back: taken off, with its fee.
    ChargeBack,
}

/// A line of a payout.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PayoutLine {
    /// What it is about.
    pub kind: PayoutLineKind,
    /// Names the capture, the refund, the charge back.
    pub id: String,
    /// How much; below zero where it is taken off.
    pub gross: i64,
    /// What the processor keeps of it.
    pub fee: i64,
}

/// Money paid out to the bank, with its report.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Payout {
    /// Names it; the bank statement says it too.
    pub id: String,
    /// The day of the payment.
    pub on: NaiveDate,
    /// Three letters.
    pub currency: String,
    /// All captures less what was taken off.
    pub gross: i64,
    /// All fees.
    pub fee: i64,
    /// What was paid.
    pub net: i64,
    /// One by one.
    pub lines: Vec<PayoutLine>,
}

/// What happened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "kind")]
pub enum Happened {
    /// An authorization changed.
    Authorization {
        /// As it stands now.
        authorization: Authorization,
    },
    /// Something was captured.
    Capture {
        /// What.
        capture: Capture,
        /// Its authorization as it stands now.
        authorization: Authorization,
    },
    /// Something was refunded.
    Refund {
        /// What.
        refund: Refund,
    },
    /// The card's bank took something back.
    ChargeBack {
        /// What.
        charge_back: ChargeBack,
    },
    /// Money was paid out.
    Payout {
        /// What.
        payout: Payout,
    },
}

/// A notification.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Event {
    /// Names it; sent twice it is the same.
    pub id: String,
    /// The key of the request it came of, where it came of one.
    pub key: Option<String>,
    /// What happened.
    pub data: Happened,
}

/// What went wrong (RFC 9457).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Problem {
    /// For programs.
    pub code: String,
    /// For people.
    pub detail: String,
    /// The HTTP status.
    pub status: u16,
}
