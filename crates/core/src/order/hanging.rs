//! What hangs on an order: nobody closes one by hand, it closes by itself once nothing does.
//!
//! *Source: domain.md section 8, the guard.*

use serde::{Deserialize, Serialize};

use super::{LineProgress, OrderFacts, settlement};
use crate::fixed::Quantity;
use crate::money::Money;

/// What hangs on an order, and would be left behind if someone could close it by hand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Hangs {
    /// It is a draft.
    ToConfirm,
    /// Goods, work or charges that have not gone out.
    ToShip,
    /// Shipped and not billed.
    ToBill,
    /// Billed and not paid.
    ToPay,
    /// Deposits that are held for it.
    Deposit,
    /// Billed in advance, neither used nor credited.
    Prepaid,
    /// Authorized on a card, neither captured nor given up.
    Card,
}

/// The step that frees what hangs on an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Frees {
    /// Confirm it.
    Confirm,
    /// Ship and bill what is left and receive the rest, in one posting.
    ShipBillAndReceive,
    /// Ship and bill what is left: a card stands for it, and is captured then.
    ShipAndBill,
    /// Bill what has shipped.
    Bill,
    /// Capture the card that stands for it, or give it up.
    Capture,
    /// Receive the rest.
    Receive,
    /// Apply, move, refund or keep the deposits.
    ClearDeposits,
    /// Credit what was billed in advance.
    Credit,
}

/// Something that hangs on an order. Nobody closes one by hand: it closes by itself once nothing does.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Hanging {
    /// What.
    pub what: Hangs,
    /// How much, in the currency of the order: with tax, but for what was billed in advance.
    pub amount: Money,
    /// In words for the clerk, with what to do.
    pub words: String,
    /// The step that frees it.
    pub step: Frees,
}

/// Everything that hangs on an order; nothing once it is closed.
pub fn hanging(order: &OrderFacts) -> Vec<Hanging> {
    let mut hanging = Vec::new();
    let mut add = |what, amount, step, words: String| hanging.push(Hanging { what, amount, words, step });
    let by_card = order.card_left.is_positive();
    if !order.confirmed {
        let words = "It is a draft: nothing can ship before it is confirmed.";
        add(Hangs::ToConfirm, order.promised.total(), Frees::Confirm, words.to_owned());
    }
    // How many lines have some of it, and what that comes to, as promised.
    let sum = |pending: fn(&LineProgress) -> Quantity| {
        let lines = order.lines.iter().map(|(id, progress)| (id, progress, pending(progress)));
        let lines = lines.filter(|(.., quantity)| quantity.is_positive());
        lines.fold((0_usize, Money::ZERO), |(count, sum), (id, progress, quantity)| {
            let part = order.promised.line(*id).share(quantity.scaled(), progress.ordered.scaled().max(1));
            (count + 1, sum + part)
        })
    };
    let lines = |count: usize| if count == 1 { "1 line".to_owned() } else { format!("{count} lines") };
    let (to_ship, worth) = sum(LineProgress::to_ship);
    if to_ship > 0 {
        let step = if by_card { Frees::ShipAndBill } else { Frees::ShipBillAndReceive };
        add(Hangs::ToShip, worth, step, format!("{} to ship.", lines(to_ship)));
    }
    let (to_bill, worth) = sum(LineProgress::unbilled);
    if to_bill > 0 {
        add(Hangs::ToBill, worth, Frees::Bill, format!("{} shipped and not billed.", lines(to_bill)));
    }
    let settlement = settlement(order.id, &order.invoices);
    let said = |amount: Money| format!("{} {}", order.currency.grouped(amount), order.currency);
    if !settlement.all_settled {
        let open = settlement.billed_gross - settlement.paid_gross;
        let step = if by_card { Frees::Capture } else { Frees::Receive };
        add(Hangs::ToPay, open, step, format!("{} to be paid.", said(open)));
    }
    let goes_on = to_ship + to_bill > 0;
    if order.deposits_held.is_positive() {
        let then = if goes_on { "its next invoice uses them" } else { "apply, move, refund or keep them" };
        let held = order.deposits_held;
        add(Hangs::Deposit, held, Frees::ClearDeposits, format!("{} of deposits held: {then}.", said(held)));
    }
    if by_card {
        let then = if to_ship > 0 { "capture it once the goods have shipped" } else { "capture it or void it" };
        let left = order.card_left;
        add(Hangs::Card, left, Frees::Capture, format!("{} authorized on a card: {then}.", said(left)));
    }
    if order.prepaid_left.is_positive() {
        let then = if goes_on { "its next invoice uses it" } else { "credit it" };
        let left = order.prepaid_left;
        add(Hangs::Prepaid, left, Frees::Credit, format!("{} net billed in advance and not used: {then}.", said(left)));
    }
    hanging
}
