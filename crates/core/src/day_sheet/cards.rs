//! Cards on the day sheet: what is to be captured, what expires, what the processor told of and is not in the books.

use chrono::NaiveDate;

use super::{DayItem, Next, Work, age};
use crate::calendar::words;
use crate::card::{Authorization, CardNext, CardState};
use crate::ids::{DocumentKind, DocumentRef};
use crate::money::Money;

/// A card authorization with something to do.
#[derive(Debug, Clone)]
pub struct CardFacts {
    /// The authorization.
    pub authorization: DocumentRef,
    /// The customer's name.
    pub name: String,
    /// The order it is for, or the invoice it pays.
    pub target: DocumentRef,
    /// How it stands, and what is due of its order.
    pub card: Authorization,
    /// What its amount is about, in base currency: what is to be captured, or what is left.
    pub amount: Money,
    /// When it was authorized.
    pub since: NaiveDate,
}

/// Money the card processor told of that is not in the books yet.
#[derive(Debug, Clone)]
pub struct ToBookFacts {
    /// Where it is booked: the authorization, or the payout.
    pub at: DocumentRef,
    /// Whose, or which payout.
    pub title: String,
    /// What it is: “a capture of CA-1 is not in the books”.
    pub why: String,
    /// How much, in base currency.
    pub amount: Money,
    /// When it happened.
    pub since: NaiveDate,
}

impl CardFacts {
    /// Nothing where there is only to wait.
    pub(super) fn row(&self, today: NaiveDate) -> Option<DayItem> {
        let (number, target) = (&self.authorization.number, &self.target.number);
        let pays = self.target.kind == DocumentKind::Invoice;
        let until = self.card.valid_until.map(words).unwrap_or_default();
        let (work, next, why) = match self.card.next(today) {
            CardNext::AskAgain => {
                (Work::Stopped, Next::AskAgain, format!("{number}: the card processor did not answer yet"))
            }
            CardNext::Capture => (
                Work::MoneyLyingStill,
                Next::Capture,
                match pays {
                    true => format!("{number} is to pay {target}, authorized until {until}"),
                    false => format!("{target} has shipped, {number} is authorized until {until}"),
                },
            ),
            CardNext::ShipSoon => (
                Work::MoneyLyingStill,
                Next::ShipSoon,
                match pays {
                    true => format!("{number} expires on {until}, {target} is paid already"),
                    false => format!("{number} expires on {until}, {target} has not shipped"),
                },
            ),
            CardNext::AuthorizeAgain => {
                let why = match self.card.state(today) {
                    CardState::Expired => format!("{number} has expired, {target} has shipped"),
                    CardState::AnotherCard => format!("{number} needs another card, for {target}"),
                    _ => format!("{number} was declined, for {target}"),
                };
                (Work::Stopped, Next::AuthorizeAgain, why)
            }
            CardNext::Wait | CardNext::Nothing => return None,
        };
        Some(DayItem {
            work,
            title: self.name.clone(),
            why,
            amount: self.amount,
            days: age(self.since, today),
            next,
            at: self.authorization.clone(),
        })
    }
}

impl ToBookFacts {
    pub(super) fn row(&self, today: NaiveDate) -> DayItem {
        DayItem {
            work: Work::MoneyLyingStill,
            title: self.title.clone(),
            why: self.why.clone(),
            amount: self.amount,
            days: age(self.since, today),
            next: Next::Book,
            at: self.at.clone(),
        }
    }
}
