//! What the processor knows and what it does with it.
//!
//! Every change is asked for with a key. The same key again gets the same answer and changes nothing; a key that comes
//! with another request is refused.
//!
//! ```
//! use till_processor::book::Book;
//! use till_processor::wire::{Habit, NewAuthorization, Status};
//! let mut book = Book::new("2026-03-18".parse().unwrap());
//! let card = book.add_card(Habit::Good).token;
//! let new = NewAuthorization { card, amount: 29_028, currency: "EUR".to_owned(), reference: "CA-1".to_owned() };
//! let authorized = book.authorize("key 1", &new).unwrap();
//! assert_eq!(authorized.status, Status::Authorized);
//! // Asked again with its key, it is the same one.
//! assert_eq!(book.authorize("key 1", &new).unwrap(), authorized);
//! ```

use std::collections::BTreeMap;

use chrono::{Days, NaiveDate};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::wire::{
    Amount, Authorization, Capture, Card, ChargeBack, Event, Habit, Happened, NewAuthorization, NewSession, Payout,
    PayoutLine, PayoutLineKind, Problem, Refund, Session, Status,
};

/// What the processor keeps of each capture: 1.4 %, rounded half up. *Invented.*
const FEE_PER_THOUSAND: i64 = 14;
/// What it asks for a charge back, in minor units. *Invented.*
pub const CHARGE_BACK_FEE: i64 = 1_500;
/// So many days an authorization can be captured.
const DAYS: u64 = 7;
const SHORT_DAYS: u64 = 2;

type Answer<T> = Result<T, Problem>;

fn refused<T>(status: u16, code: &str, detail: impl Into<String>) -> Answer<T> {
    Err(Problem { code: code.to_owned(), detail: detail.into(), status })
}

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Known {
    card: Card,
    habit: Habit,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Answered {
    request: String,
    answer: Result<serde_json::Value, Problem>,
}

/// All of it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Book {
    /// Its today. It stands still where the books it is used with do.
    pub today: NaiveDate,
    next: i64,
    cards: Vec<Known>,
    sessions: BTreeMap<String, (NewSession, Session)>,
    authorizations: Vec<Authorization>,
    captures: Vec<Capture>,
    refunds: Vec<Refund>,
    charge_backs: Vec<ChargeBack>,
    payouts: Vec<Payout>,
    answered: BTreeMap<String, Answered>,
    /// Notifications that were not taken yet, in their order.
    pub waiting: Vec<Event>,
}

impl Book {
    /// An empty one.
    pub fn new(today: NaiveDate) -> Self {
        Self {
            today,
            next: 1,
            cards: Vec::new(),
            sessions: BTreeMap::new(),
            authorizations: Vec::new(),
            captures: Vec::new(),
            refunds: Vec::new(),
            charge_backs: Vec::new(),
            payouts: Vec::new(),
            answered: BTreeMap::new(),
            waiting: Vec::new(),
        }
    }

    fn name(&mut self, prefix: &str) -> String {
        let name = format!("{prefix}_{:06}", self.next);
        self.next += 1;
        name
    }

    /// Another day: what was authorized until a day before has expired.
    pub fn set_today(&mut self, today: NaiveDate) {
        self.today = today;
        let over: Vec<usize> = (0..self.authorizations.len())
            .filter(|at| {
                let known = &self.authorizations[*at];
                known.status == Status::Authorized && known.valid_until < today && known.captured < known.amount
            })
            .collect();
        for at in over {
            self.authorizations[at].status = Status::Expired;
            self.changed(at, None);
        }
    }

    /// A card, as if it had been typed. Its digits are made up from its place in the book.
    pub fn add_card(&mut self, habit: Habit) -> Card {
        let token = self.name("card");
        let last_four = format!("{:04}", (self.next * 1_231) % 10_000);
        let card = Card { token, last_four, valid_through: "2029-05".to_owned() };
        self.cards.push(Known { card: card.clone(), habit });
        card
    }

    /// How a card behaves.
    pub fn habit(&self, token: &str) -> Option<Habit> {
        self.cards.iter().find(|known| known.card.token == token).map(|known| known.habit)
    }

    /// A page on which a card is typed. `id` cannot be guessed.
    pub fn open_session(&mut self, id: &str, new: &NewSession) -> Session {
        let session = Session { id: id.to_owned(), path: format!("/cards/new/{id}"), card: None };
        self.sessions.insert(id.to_owned(), (new.clone(), session.clone()));
        session
    }

    /// A page, with whose card it is.
    pub fn session(&self, id: &str) -> Option<&(NewSession, Session)> {
        self.sessions.get(id)
    }

    /// A card was typed on a page.
    pub fn card_typed(&mut self, id: &str, habit: Habit) -> Option<Card> {
        if self.sessions.get(id)?.1.card.is_some() {
            return None;
        }
        let card = self.add_card(habit);
        self.sessions.get_mut(id)?.1.card = Some(card.clone());
        Some(card)
    }

    /// Answers once: the same key again gets the same answer.
    fn once<Q: Serialize, T: Serialize + DeserializeOwned>(
        &mut self,
        key: &str,
        request: &Q,
        act: impl FnOnce(&mut Self) -> Answer<T>,
    ) -> Answer<T> {
        let text = serde_json::to_string(request).unwrap_or_default();
        if let Some(known) = self.answered.get(key) {
            if known.request != text {
                return refused(422, "key_reused", "This Idempotency-Key came with another request.");
            }
            let answer = known.answer.clone()?;
            return serde_json::from_value(answer)
                .or_else(|_| refused(500, "lost", "The answer cannot be read again."));
        }
        let answer = act(self);
        let kept = answer.as_ref().map(|answer| serde_json::to_value(answer).unwrap_or_default()).map_err(Clone::clone);
        self.answered.insert(key.to_owned(), Answered { request: text, answer: kept });
        answer
    }

    /// Whether a request with that key was answered before.
    pub fn knows(&self, key: &str) -> bool {
        self.answered.contains_key(key)
    }

    fn tell(&mut self, key: Option<&str>, data: Happened) {
        let id = self.name("event");
        self.waiting.push(Event { id, key: key.map(str::to_owned), data });
    }

    fn changed(&mut self, at: usize, key: Option<&str>) {
        self.authorizations[at].revision += 1;
        let authorization = self.authorizations[at].clone();
        self.tell(key, Happened::Authorization { authorization });
    }

    fn find(&self, id: &str) -> Answer<usize> {
        let at = self.authorizations.iter().position(|known| known.id == id);
        at.map_or_else(|| refused(404, "not_found", format!("There is no authorization {id}.")), Ok)
    }

    /// An authorization.
    ///
    /// # Errors
    /// Where there is none.
    pub fn authorization(&self, id: &str) -> Answer<Authorization> {
        self.find(id).map(|at| self.authorizations[at].clone())
    }

    /// The name of the authorization that the asker gave a number.
    pub fn authorization_of(&self, reference: &str) -> Option<String> {
        self.authorizations.iter().find(|known| known.reference == reference).map(|known| known.id.clone())
    }

    /// Authorizes a card, or says that its bank declined.
    ///
    /// # Errors
    /// A token nobody knows, an amount of zero or below.
    pub fn authorize(&mut self, key: &str, new: &NewAuthorization) -> Answer<Authorization> {
        self.once(key, &("authorize", new), |book| {
            let Some(habit) = book.habit(&new.card) else {
                return refused(404, "not_found", "There is no card with this token.");
            };
            if new.amount <= 0 {
                return refused(422, "amount", "An amount is above zero.");
            }
            let days = if habit == Habit::ShortLived { SHORT_DAYS } else { DAYS };
            let declined = match habit {
                Habit::Declined => Some("The card's bank declined it."),
                Habit::AnotherCard => Some("The card was given up by its bank."),
                Habit::Good | Habit::Slow | Habit::ShortLived => None,
            };
            let authorization = Authorization {
                id: book.name("auth"),
                revision: 1,
                status: if declined.is_some() { Status::Declined } else { Status::Authorized },
                declined: declined.map(str::to_owned),
                another_card: habit == Habit::AnotherCard,
                amount: new.amount,
                currency: new.currency.clone(),
                captured: 0,
                valid_until: book.today.checked_add_days(Days::new(days)).unwrap_or(book.today),
                reference: new.reference.clone(),
                card: new.card.clone(),
            };
            book.authorizations.push(authorization.clone());
            book.tell(Some(key), Happened::Authorization { authorization: authorization.clone() });
            Ok(authorization)
        })
    }

    /// Captures all or part of an authorization.
    ///
    /// # Errors
    /// More than is left of it, one that is declined, voided or over.
    pub fn capture(&mut self, key: &str, id: &str, new: &Amount) -> Answer<Capture> {
        self.once(key, &("capture", id, new), |book| {
            let at = book.find(id)?;
            let known = &book.authorizations[at];
            if known.status != Status::Authorized || known.valid_until < book.today {
                return refused(409, "not_authorized", format!("{id} can no longer be captured."));
            }
            if new.amount <= 0 || new.amount > known.amount - known.captured {
                let left = known.amount - known.captured;
                return refused(422, "amount", format!("{left} is left of {id}, in minor units."));
            }
            book.authorizations[at].captured += new.amount;
            book.authorizations[at].revision += 1;
            let authorization = book.authorizations[at].clone();
            let on = book.today;
            let capture = Capture { id: book.name("capture"), authorization: id.to_owned(), amount: new.amount, on };
            book.captures.push(capture.clone());
            book.tell(Some(key), Happened::Capture { capture: capture.clone(), authorization });
            Ok(capture)
        })
    }

    /// Gives up what was not captured of an authorization.
    ///
    /// # Errors
    /// One that does not stand.
    pub fn void(&mut self, key: &str, id: &str) -> Answer<Authorization> {
        self.once(key, &("void", id), |book| {
            let at = book.find(id)?;
            if book.authorizations[at].status != Status::Authorized {
                return refused(409, "not_authorized", format!("{id} does not stand any more."));
            }
            book.authorizations[at].status = Status::Voided;
            book.changed(at, Some(key));
            Ok(book.authorizations[at].clone())
        })
    }

    /// What of a capture did not go back.
    fn left_of(&self, capture: &Capture) -> i64 {
        let refunded: i64 = self.refunds.iter().filter(|one| one.capture == capture.id).map(|one| one.amount).sum();
        let taken: i64 = self.charge_backs.iter().filter(|one| one.capture == capture.id).map(|one| one.amount).sum();
        capture.amount - refunded - taken
    }

    fn captured(&self, id: &str) -> Answer<Capture> {
        let known = self.captures.iter().find(|known| known.id == id).cloned();
        known.map_or_else(|| refused(404, "not_found", format!("There is no capture {id}.")), Ok)
    }

    /// Sends money back to the card it came from.
    ///
    /// # Errors
    /// More than is left of the capture.
    pub fn refund(&mut self, key: &str, id: &str, new: &Amount) -> Answer<Refund> {
        self.once(key, &("refund", id, new), |book| {
            let capture = book.captured(id)?;
            let left = book.left_of(&capture);
            if new.amount <= 0 || new.amount > left {
                return refused(422, "amount", format!("{left} is left of {id}, in minor units."));
            }
            let on = book.today;
            let refund = Refund { id: book.name("refund"), capture: id.to_owned(), amount: new.amount, on };
            book.refunds.push(refund.clone());
            book.tell(Some(key), Happened::Refund { refund: refund.clone() });
            Ok(refund)
        })
    }

    /// The card's bank takes something back.
    ///
    /// # Errors
    /// More than is left of the capture.
    pub fn charge_back(&mut self, id: &str, amount: i64, words: &str) -> Answer<ChargeBack> {
        let capture = self.captured(id)?;
        let left = self.left_of(&capture);
        if amount <= 0 || amount > left {
            return refused(422, "amount", format!("{left} is left of {id}, in minor units."));
        }
        let (name, on) = (self.name("dispute"), self.today);
        let charge_back =
            ChargeBack { id: name, capture: id.to_owned(), amount, fee: CHARGE_BACK_FEE, words: words.to_owned(), on };
        self.charge_backs.push(charge_back.clone());
        self.tell(None, Happened::ChargeBack { charge_back: charge_back.clone() });
        Ok(charge_back)
    }

    /// Pays out all that was captured and not paid out, one payout a currency.
    pub fn pay_out(&mut self) -> Vec<Payout> {
        let paid = |payouts: &[Payout], id: &str| payouts.iter().flat_map(|one| &one.lines).any(|line| line.id == id);
        let mut lines: BTreeMap<String, Vec<PayoutLine>> = BTreeMap::new();
        let currency = |capture: &str| {
            let capture = self.captures.iter().find(|known| known.id == capture)?;
            let known = self.authorizations.iter().find(|known| known.id == capture.authorization)?;
            Some(known.currency.clone())
        };
        let mut add = |currency: Option<String>, kind, id: &str, gross: i64, fee: i64| {
            if !paid(&self.payouts, id) {
                let line = PayoutLine { kind, id: id.to_owned(), gross, fee };
                lines.entry(currency.unwrap_or_default()).or_default().push(line);
            }
        };
        for one in &self.captures {
            let fee = (one.amount * FEE_PER_THOUSAND + 500) / 1_000;
            add(currency(&one.id), PayoutLineKind::Capture, &one.id, one.amount, fee);
        }
        for one in &self.refunds {
            add(currency(&one.capture), PayoutLineKind::Refund, &one.id, -one.amount, 0);
        }
        for one in &self.charge_backs {
            add(currency(&one.capture), PayoutLineKind::ChargeBack, &one.id, -one.amount, one.fee);
        }
        let mut made = Vec::new();
        for (currency, lines) in lines {
            let gross: i64 = lines.iter().map(|line| line.gross).sum();
            let fee: i64 = lines.iter().map(|line| line.fee).sum();
            let payout =
                Payout { id: self.name("payout"), on: self.today, currency, gross, fee, net: gross - fee, lines };
            self.payouts.push(payout.clone());
            self.tell(None, Happened::Payout { payout: payout.clone() });
            made.push(payout);
        }
        made
    }

    /// A payout.
    ///
    /// # Errors
    /// Where there is none.
    pub fn payout(&self, id: &str) -> Answer<Payout> {
        let known = self.payouts.iter().find(|known| known.id == id).cloned();
        known.map_or_else(|| refused(404, "not_found", format!("There is no payout {id}.")), Ok)
    }

    /// Captures of which something can still be taken back, with that.
    pub fn open_captures(&self) -> Vec<(Capture, i64)> {
        let left = |capture: &Capture| (capture.clone(), self.left_of(capture));
        self.captures.iter().map(left).filter(|(_, left)| *left > 0).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(text: &str) -> NaiveDate {
        text.parse().unwrap()
    }

    fn authorized(book: &mut Book, habit: Habit, amount: i64) -> Authorization {
        let card = book.add_card(habit).token;
        let new = NewAuthorization { card, amount, currency: "EUR".to_owned(), reference: "CA-1".to_owned() };
        let key = format!("key {}", book.next);
        book.authorize(&key, &new).unwrap()
    }

    /// postings.md: 290.28 captured pays out with a fee of 4.06, net 286.22.
    #[test]
    fn what_was_captured_is_paid_out_less_its_fee() {
        let mut book = Book::new(day("2026-03-18"));
        let one = authorized(&mut book, Habit::Good, 30_000);
        book.capture("c1", &one.id, &Amount { amount: 29_028 }).unwrap();
        let payout = book.pay_out().remove(0);
        assert_eq!((payout.gross, payout.fee, payout.net), (29_028, 406, 28_622));
        assert!(book.pay_out().is_empty(), "nothing is paid out twice");
    }

    #[test]
    fn a_key_does_a_thing_once() {
        let mut book = Book::new(day("2026-03-18"));
        let one = authorized(&mut book, Habit::Good, 100);
        let first = book.capture("c1", &one.id, &Amount { amount: 60 }).unwrap();
        assert_eq!(book.capture("c1", &one.id, &Amount { amount: 60 }).unwrap(), first);
        assert_eq!(book.authorization(&one.id).unwrap().captured, 60);
        let other = book.capture("c1", &one.id, &Amount { amount: 40 }).unwrap_err();
        assert_eq!((other.status, other.code.as_str()), (422, "key_reused"));
        // What was refused stays refused.
        let more = book.capture("c2", &one.id, &Amount { amount: 41 }).unwrap_err();
        assert_eq!(book.capture("c2", &one.id, &Amount { amount: 41 }).unwrap_err(), more);
        assert_eq!(book.capture("c3", &one.id, &Amount { amount: 40 }).unwrap().amount, 40);
    }

    #[test]
    fn nothing_is_captured_after_its_days_or_once_it_was_given_up() {
        let mut book = Book::new(day("2026-03-18"));
        let (short, long) = (authorized(&mut book, Habit::ShortLived, 100), authorized(&mut book, Habit::Good, 100));
        assert_eq!((short.valid_until, long.valid_until), (day("2026-03-20"), day("2026-03-25")));
        book.set_today(day("2026-03-21"));
        assert_eq!(book.authorization(&short.id).unwrap().status, Status::Expired);
        assert_eq!(book.capture("c1", &short.id, &Amount { amount: 1 }).unwrap_err().code, "not_authorized");
        book.void("v1", &long.id).unwrap();
        assert_eq!(book.capture("c2", &long.id, &Amount { amount: 1 }).unwrap_err().code, "not_authorized");
        assert_eq!(book.void("v2", &long.id).unwrap_err().status, 409);
        let told: Vec<i64> = book
            .waiting
            .iter()
            .filter_map(|event| match &event.data {
                Happened::Authorization { authorization } => Some(authorization.revision),
                _ => None,
            })
            .collect();
        assert_eq!(told, [1, 1, 2, 2]);
    }

    #[test]
    fn declined_is_an_answer_not_an_error() {
        let mut book = Book::new(day("2026-03-18"));
        let declined = authorized(&mut book, Habit::Declined, 100);
        assert_eq!((declined.status, declined.another_card), (Status::Declined, false));
        assert!(authorized(&mut book, Habit::AnotherCard, 100).another_card);
        assert_eq!(book.capture("c", &declined.id, &Amount { amount: 1 }).unwrap_err().status, 409);
    }

    #[test]
    fn no_more_goes_back_than_came() {
        let mut book = Book::new(day("2026-03-18"));
        let one = authorized(&mut book, Habit::Good, 29_028);
        let capture = book.capture("c", &one.id, &Amount { amount: 29_028 }).unwrap();
        book.refund("r1", &capture.id, &Amount { amount: 5_000 }).unwrap();
        book.charge_back(&capture.id, 24_000, "goods not received").unwrap();
        assert_eq!(book.refund("r2", &capture.id, &Amount { amount: 29 }).unwrap_err().code, "amount");
        assert_eq!(book.open_captures().len(), 1);
        let payout = book.pay_out().remove(0);
        // 290.28 − 50.00 − 240.00; 4.06 and 15.00 kept.
        assert_eq!((payout.gross, payout.fee, payout.net), (28, 1_906, -1_878));
    }
}
