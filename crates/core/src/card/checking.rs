//! What may be asked of the processor, and where captured money goes.
//!
//! ```
//! use till_core::card::spread_over;
//! use till_core::ids::InvoiceId;
//! use till_core::money::Money;
//! // The oldest invoice first; what is left over stays unapplied.
//! let open = [(InvoiceId(1), Money(100)), (InvoiceId(2), Money(50)), (InvoiceId(3), Money(50))];
//! assert_eq!(spread_over(Money(120), &open), [(InvoiceId(1), Money(100)), (InvoiceId(2), Money(20))]);
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use super::{Authorization, CardState, Status};
use crate::calendar::words;
use crate::checks::{Blocker, Check, Findings, Step};
use crate::deposit::DepositTarget;
use crate::ids::{ApplicationId, CardId, InvoiceId, OpenItemId};
use crate::money::{Currency, Money};

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

/// An amount over open invoices, each up to what is open of it, in their order. What is left over goes to none.
pub fn spread_over(amount: Money, open: &[(InvoiceId, Money)]) -> Vec<(InvoiceId, Money)> {
    let mut left = amount;
    let part = |(invoice, open): &(InvoiceId, Money)| {
        let part = left.min(*open);
        left -= part;
        (*invoice, part)
    };
    open.iter().map(part).filter(|(_, part)| part.is_positive()).collect()
}

/// What is taken back of a payment so that money of it can leave.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Freeing {
    /// The applications that are taken back whole, the newest first.
    pub back: Vec<ApplicationId>,
    /// What of the last of them is applied again: to which item, how much of the payment.
    pub again: Option<(OpenItemId, Money)>,
}

/// What is to be taken back so that `missing` is free: of the applications that stand, the oldest first, each with the item
/// it went to and how much of the payment. No more than must be, the newest before the older.
pub fn to_free(standing: &[(ApplicationId, OpenItemId, Money)], missing: Money) -> Freeing {
    let mut freeing = Freeing::default();
    let mut left = missing;
    for (application, item, used) in standing.iter().rev() {
        if !left.is_positive() {
            break;
        }
        freeing.back.push(*application);
        freeing.again = (*used > left).then(|| (*item, *used - left));
        left -= *used;
    }
    freeing
}

/// What an order still has to pay, and how.
#[derive(Debug, Clone)]
pub struct ToPay {
    /// Whether the order binds: it is confirmed, or the customer has accepted it.
    pub binds: bool,
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
    if !to_pay.binds {
        findings.add(Check::CardNotLive, "order", format!("{} is a draft. Confirm it first.", target.number));
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

/// An invoice that is to be paid by card, at once.
#[derive(Debug, Clone)]
pub struct InvoiceToPay {
    /// Its number.
    pub number: String,
    /// Its currency.
    pub currency: Currency,
    /// What is open of it.
    pub open: Money,
    /// What is authorized to pay it and not captured.
    pub authorized: Money,
}

impl InvoiceToPay {
    /// What of it can be paid by card now.
    pub fn room(&self) -> Money {
        (self.open - self.authorized).max(Money::ZERO)
    }
}

/// A card that was used for the same order or invoice before, and is not done with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Earlier {
    /// Which card.
    pub card: CardId,
    /// What of it was not captured.
    pub left: Money,
    /// Whether the processor has not answered yet.
    pub waits: bool,
}

/// How using a card goes on where one was used for the same thing before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Again {
    /// It is the same once more: what was begun goes on, and nothing is charged twice.
    GoesOn,
    /// Something else is under way.
    Waits,
    /// What was begun is something of its own.
    Anew,
}

impl Earlier {
    /// Whoever loads a page anew, or taps twice, asks for the same card and amount again: as long as nobody knows what
    /// became of the first, nothing else is asked for. What stands and is to be captured `at_once` is captured.
    pub fn again(&self, card: CardId, amount: Money, at_once: bool) -> Again {
        let same = (self.card, self.left) == (card, amount);
        match (self.waits, same) {
            (true, true) => Again::GoesOn,
            (true, false) => Again::Waits,
            (false, true) if at_once => Again::GoesOn,
            (false, _) => Again::Anew,
        }
    }
}

/// What stands in the way of paying `amount` of an invoice by card; the customer pays in `own` currency.
pub fn check_pay(invoice: &InvoiceToPay, amount: Money, own: Currency) -> Vec<Blocker> {
    let mut findings = Findings::at(Step::Post);
    let InvoiceToPay { number, currency, .. } = invoice;
    if own != *currency {
        let sentence = format!("{number} is in {currency}, the customer pays in {own}. Pay it another way.");
        findings.add(Check::CurrencyDiffers, "invoice", sentence);
    }
    let room = invoice.room();
    if !room.is_positive() {
        let sentence = match invoice.authorized.is_positive() {
            true => format!("{number} is being paid by card already."),
            false => format!("{number} is paid already."),
        };
        findings.add(Check::MoreThanOpen, "amount", sentence);
    } else if !amount.is_positive() {
        findings.add(Check::AmountNotPositive, "amount", "Enter an amount above zero.");
    } else if amount > room {
        let sentence = format!("{number} has {} to pay. Pay that at most.", currency.grouped(room));
        findings.add(Check::MoreThanOpen, "amount", sentence);
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

/// What stands in the way of sending `amount` back to the card, of a payment of which `left` did not go back yet.
pub fn check_refund(card: &Authorization, (number, left): (&str, Money), amount: Money) -> Vec<Blocker> {
    let mut findings = Findings::at(Step::Post);
    let currency = card.currency;
    if card.waits {
        findings.add(Check::CardNotLive, "card", no_answer(&card.number));
    }
    if amount > left {
        let left = currency.grouped(left.max(Money::ZERO));
        let sentence = format!("{left} {currency} of what {number} came with did not go back yet. Enter that or less.");
        findings.add(Check::MoreThanHeld, "amount", sentence);
    }
    findings.finish()
}
