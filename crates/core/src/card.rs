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
//! *Source: domain.md section 8; postings.md, Money. That a capture is money only once the bank statement shows it: checks.md,
//! common practice, no source.*
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

pub mod payout;

use chrono::{Days, NaiveDate};
use serde::{Deserialize, Serialize};

use crate::calendar::words;
use crate::checks::{Blocker, Check, Findings, Step};
use crate::deposit::DepositTarget;
use crate::money::{Currency, Money};

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
    PaidOut(payout::Report),
}

/// Where captured money goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Goes {
    /// A receipt, to the open invoices of the order.
    ToInvoices,
    /// A deposit for the order: nothing of it is billed yet.
    Deposit,
    /// A receipt that lies unapplied: the order has no room for it any more.
    Unapplied,
}

impl Goes {
    /// The ways captured money can go, the best first. `open` is what is open on the invoices of the order, `room` what the
    /// order comes to beyond what was taken for it.
    pub fn ways(open: Money, room: Money, amount: Money) -> Vec<Self> {
        let mut ways = Vec::with_capacity(3);
        if open.is_positive() {
            ways.push(Self::ToInvoices);
        } else if amount <= room {
            ways.push(Self::Deposit);
        }
        ways.push(Self::Unapplied);
        ways
    }
}

/// What an order still has to pay, and how.
#[derive(Debug, Clone)]
pub struct ToPay {
    /// The order: what it comes to, and what deposits were taken for it.
    pub target: DepositTarget,
    /// What of its invoices was paid by something else than deposits.
    pub paid: Money,
    /// What is authorized for it and not captured.
    pub authorized: Money,
}

impl ToPay {
    /// What nothing stands for yet.
    pub fn room(&self) -> Money {
        (self.target.total() - self.target.taken_before - self.paid - self.authorized).max(Money::ZERO)
    }
}

/// What stands in the way of authorizing `amount` for an order; the customer pays in `own` currency.
pub fn check_authorize(to_pay: &ToPay, amount: Money, own: Currency) -> Vec<Blocker> {
    let target = &to_pay.target;
    let mut findings = Findings::at(Step::Post);
    let currency = target.currency;
    if own != currency {
        let sentence =
            format!("{} is in {currency}, the customer pays in {own}. Take the money another way.", target.number);
        findings.add(Check::CurrencyDiffers, "order", sentence);
    }
    let room = to_pay.room();
    if !amount.is_positive() && room.is_positive() {
        findings.add(Check::AmountNotPositive, "amount", "Enter an amount above zero.");
    } else if amount > room || !room.is_positive() {
        let format = |amount: Money| currency.grouped(amount);
        let mut sentence = format!("{} comes to {} with tax", target.number, format(target.total()));
        for (amount, what) in [
            (target.taken_before, "was taken for it in advance"),
            (to_pay.paid, "was paid"),
            (to_pay.authorized, "is authorized already"),
        ] {
            if amount.is_positive() {
                sentence.push_str(&format!(", {} {what}", format(amount)));
            }
        }
        match room.is_positive() {
            true => sentence.push_str(&format!(". Authorize {} at most.", format(room))),
            false => sentence.push_str(": nothing is left to authorize."),
        }
        findings.add(Check::MoreThanOrder, "amount", sentence);
    }
    findings.finish()
}

/// What stands in the way of capturing `amount` on a day.
pub fn check_capture(card: &Authorization, amount: Money, today: NaiveDate) -> Vec<Blocker> {
    let mut findings = Findings::at(Step::Post);
    let (number, currency) = (&card.number, card.currency);
    if card.waits {
        findings.add(Check::CardNotLive, "card", no_answer(number));
    } else if !card.stands(today) {
        let until = card.valid_until.map(words).unwrap_or_default();
        let sentence = match card.state(today) {
            CardState::Expired => format!("{number} could be captured until {until}. Authorize the card again."),
            state => over(number, state),
        };
        findings.add(Check::CardNotLive, "card", sentence);
    }
    if !amount.is_positive() {
        findings.add(Check::AmountNotPositive, "amount", "Enter an amount above zero.");
    } else if amount > card.left() && card.status == Status::Live {
        let left = currency.grouped(card.left());
        let sentence = format!("{left} {currency} of {number} is left. Capture that or less.");
        findings.add(Check::MoreThanAuthorized, "amount", sentence);
    }
    findings.finish()
}

/// What stands in the way of giving up what was not captured.
pub fn check_void(card: &Authorization, today: NaiveDate) -> Vec<Blocker> {
    let mut findings = Findings::at(Step::Post);
    if card.waits {
        findings.add(Check::CardNotLive, "card", no_answer(&card.number));
    } else if card.status != Status::Live || !card.left().is_positive() {
        findings.add(Check::CardNotLive, "card", over(&card.number, card.state(today)));
    }
    findings.finish()
}

fn no_answer(number: &str) -> String {
    format!("The processor did not answer yet what was asked of {number}. Ask it again first.")
}

fn over(number: &str, state: CardState) -> String {
    match state {
        CardState::Captured => format!("All of {number} was captured, or given up. Authorize the card again."),
        CardState::Voided => format!("{number} was voided. Authorize the card again."),
        CardState::Expired => format!("{number} has expired. Authorize the card again."),
        _ => format!("{number} was not authorized. Authorize a card first."),
    }
}

/// What stands in the way of sending `amount` back to the card, of which `left` did not go back yet.
pub fn check_refund((number, left): (&str, Money), amount: Money, currency: Currency) -> Vec<Blocker> {
    let mut findings = Findings::at(Step::Post);
    if amount > left {
        let left = currency.grouped(left.max(Money::ZERO));
        let sentence = format!("{left} {currency} of what {number} came with did not go back yet. Enter that or less.");
        findings.add(Check::MoreThanHeld, "amount", sentence);
    }
    findings.finish()
}
