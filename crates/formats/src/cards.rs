//! What goes over the wire to and from the card processor, as the core knows it.
//!
//! ```
//! use till_core::card::Status;
//! use till_formats::cards::told;
//! use till_processor::book::Book;
//! use till_processor::wire::{Habit, NewAuthorization};
//! let mut book = Book::new("2026-03-18".parse().unwrap());
//! let card = book.add_card(Habit::AnotherCard).token;
//! let new = NewAuthorization { card, amount: 1_000, currency: "EUR".to_owned(), reference: "CA-1".to_owned() };
//! let declined = book.authorize("a key of ours", &new).unwrap();
//! assert_eq!(told(&declined).status, Status::AnotherCard);
//! ```

use till_core::card::payout::{LineKind, Report, ReportLine};
use till_core::card::{Answer, Ask, Notice, Status, Told};
use till_core::money::{Currency, Money, UnknownCurrency};
use till_processor::book::Book;
use till_processor::wire::{self, Amount, Authorization, Event, Happened, NewAuthorization, PayoutLineKind};

/// What an authorization of the processor tells.
pub fn told(authorization: &Authorization) -> Told {
    Told {
        reference: authorization.id.clone(),
        revision: authorization.revision,
        status: match authorization.status {
            wire::Status::Authorized => Status::Live,
            wire::Status::Declined if authorization.another_card => Status::AnotherCard,
            wire::Status::Declined => Status::Declined,
            wire::Status::Voided => Status::Voided,
            wire::Status::Expired => Status::Expired,
        },
        declined: authorization.declined.clone(),
        valid_until: authorization.valid_until,
    }
}

/// A capture as an answer.
pub fn captured(capture: &wire::Capture) -> Answer {
    Answer::Captured { reference: capture.id.clone(), amount: Money(capture.amount), on: capture.on }
}

/// A refund as an answer.
pub fn refunded(refund: &wire::Refund) -> Answer {
    Answer::Refunded { reference: refund.id.clone(), amount: Money(refund.amount), on: refund.on }
}

/// A request as it is sent.
pub fn new_authorization(card: &str, amount: Money, currency: Currency, number: &str) -> NewAuthorization {
    NewAuthorization {
        card: card.to_owned(),
        amount: amount.0,
        currency: currency.code().to_owned(),
        reference: number.to_owned(),
    }
}

/// What a notification tells.
///
/// # Errors
/// A payout in a currency nobody knows.
pub fn notice(event: &Event) -> Result<Notice, UnknownCurrency> {
    Ok(match &event.data {
        Happened::Authorization { authorization } => Notice::Authorization(told(authorization)),
        Happened::Capture { capture, authorization } => Notice::Captured {
            of: told(authorization),
            reference: capture.id.clone(),
            amount: Money(capture.amount),
            on: capture.on,
        },
        Happened::Refund { refund } => Notice::Refunded {
            reference: refund.id.clone(),
            capture: refund.capture.clone(),
            amount: Money(refund.amount),
            on: refund.on,
        },
        Happened::ChargeBack { charge_back } => Notice::ChargedBack {
            reference: charge_back.id.clone(),
            capture: charge_back.capture.clone(),
            amount: Money(charge_back.amount),
            fee: Money(charge_back.fee),
            words: charge_back.words.clone(),
            on: charge_back.on,
        },
        Happened::Payout { payout } => Notice::PaidOut(Report {
            reference: payout.id.clone(),
            currency: Currency::of(&payout.currency)?,
            on: payout.on,
            gross: Money(payout.gross),
            fee: Money(payout.fee),
            net: Money(payout.net),
            lines: payout.lines.iter().map(line).collect(),
        }),
    })
}

fn line(line: &wire::PayoutLine) -> ReportLine {
    ReportLine {
        kind: match line.kind {
            PayoutLineKind::Capture => LineKind::Capture,
            PayoutLineKind::Refund => LineKind::Refund,
            PayoutLineKind::ChargeBack => LineKind::ChargeBack,
        },
        reference: line.id.clone(),
        gross: Money(line.gross),
        fee: Money(line.fee),
    }
}

/// Asks a processor that is in this very program: for the demo and for tests.
pub fn ask(book: &mut Book, key: &str, ask: &Ask) -> Answer {
    let answer = match ask {
        Ask::Authorize { card, amount, currency, number } => book
            .authorize(key, &new_authorization(card, *amount, *currency, number))
            .map(|authorization| Answer::Authorization(told(&authorization))),
        Ask::Capture { authorization, amount } => {
            book.capture(key, authorization, &Amount { amount: amount.0 }).map(|capture| captured(&capture))
        }
        Ask::Void { authorization } => {
            book.void(key, authorization).map(|authorization| Answer::Authorization(told(&authorization)))
        }
        Ask::Refund { capture, amount } => {
            book.refund(key, capture, &Amount { amount: amount.0 }).map(|refund| refunded(&refund))
        }
    };
    answer.unwrap_or_else(|problem| Answer::Refused { words: problem.detail })
}
