//! Orders: what of a line is shipped and billed, the track, and the life of an order.
//!
//! *Source: domain.md section 6, order life.*
//!
//! ```
//! use till_core::fixed::Quantity;
//! use till_core::money::Money;
//! use till_core::order::{LineProgress, LineState, OrderState, Settlement, state, track};
//! let pieces = |text: &str| text.parse::<Quantity>().unwrap();
//! let line = LineProgress {
//!     ordered: pieces("60"),
//!     cancelled: pieces("0"),
//!     shipped: pieces("40"),
//!     billed: pieces("40"),
//!     value: Money(60_000),
//! };
//! assert_eq!((line.to_ship(), line.unbilled()), (pieces("20"), pieces("0")));
//! // Eight of the twenty are reserved: all twenty follow later, twelve of them wait for stock.
//! let line = LineState { progress: line, reserved: pieces("8"), stocked: true, ..LineState::default() };
//! assert_eq!((line.back_ordered(), line.waiting()), (pieces("20"), pieces("12")));
//! let line = line.progress;
//! assert_eq!(state(true, &[line], Settlement::default()), OrderState::Open);
//! assert_eq!(track(true, &[line], Settlement::default()).shipped, 666);
//! ```

mod hanging;

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use crate::calendar::Terms;
use crate::fixed::{Quantity, Rate};
use crate::ids::{InvoiceId, OrderId, OrderLineId};
use crate::money::{Currency, Money};
use crate::spread::spread;
use crate::tape::{Change, Figure};

pub use hanging::{Frees, Hanging, Hangs, hanging};

/// How far one order line has come. Everything but `ordered` and `cancelled` is derived.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LineProgress {
    /// What the customer asked for.
    pub ordered: Quantity,
    /// What will not come any more.
    pub cancelled: Quantity,
    /// What has left on posted shipments.
    pub shipped: Quantity,
    /// What stands on posted invoices.
    pub billed: Quantity,
    /// Net value of the whole line as ordered: the weight of the line in the track.
    pub value: Money,
}

impl LineProgress {
    /// As the books keep it: ordered, cancelled, shipped and billed in ten-thousandths of the unit sold.
    pub const fn from_scaled([ordered, cancelled, shipped, billed]: [i64; 4], value: Money) -> Self {
        Self {
            ordered: Quantity::from_scaled(ordered),
            cancelled: Quantity::from_scaled(cancelled),
            shipped: Quantity::from_scaled(shipped),
            billed: Quantity::from_scaled(billed),
            value,
        }
    }

    /// What is still to come: ordered − cancelled.
    pub fn wanted(&self) -> Quantity {
        Quantity::from_scaled(self.ordered.scaled() - self.cancelled.scaled())
    }

    /// What may still be shipped.
    pub fn to_ship(&self) -> Quantity {
        Quantity::from_scaled((self.wanted().scaled() - self.shipped.scaled()).max(0))
    }

    /// Shipped and not billed.
    pub fn unbilled(&self) -> Quantity {
        Quantity::from_scaled((self.shipped.scaled() - self.billed.scaled()).max(0))
    }

    /// The most that may still leave: what is left of it, and its tolerance on top.
    pub fn most_to_ship(&self, over: Quantity) -> Quantity {
        if self.wanted().is_zero() {
            return Quantity::ZERO;
        }
        Quantity::from_scaled((self.wanted().scaled() + over.scaled() - self.shipped.scaled()).max(0))
    }

    fn is_filled(&self) -> bool {
        self.shipped >= self.wanted() && self.billed >= self.shipped
    }
}

/// All quantities of an order line: what happened to it, what stands on drafts and on shipments under way,
/// what stock is reserved. What is short, what may leave and what may be billed is said here and nowhere
/// else; the view `order_line_state` of the books says the same for lists. In the unit that is sold.
/// *Source: domain.md section 6.*
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct LineState {
    /// What happened to it.
    pub progress: LineProgress,
    /// What stands on drafts of invoices without a shipment.
    pub drafted: Quantity,
    /// What stock is reserved for it.
    pub reserved: Quantity,
    /// What is on shipments that are being picked or packed.
    pub leaving: Quantity,
    /// Whether it waits for stock: goods of a confirmed order, from a warehouse whose stock is counted.
    pub stocked: bool,
    /// Whether it is billed without a shipment: work or a charge of a confirmed order.
    pub work: bool,
}

impl LineState {
    /// To ship, and not on a shipment under way.
    pub fn free_to_ship(&self) -> Quantity {
        less(self.progress.to_ship(), self.leaving)
    }

    /// To ship, and no stock is reserved for it.
    pub fn waiting(&self) -> Quantity {
        if self.stocked { less(self.progress.to_ship(), self.reserved) } else { Quantity::ZERO }
    }

    /// Back-ordered: once a part has shipped, all that is left; before that, what stock is short for.
    pub fn back_ordered(&self) -> Quantity {
        if self.progress.shipped.is_positive() { self.progress.to_ship() } else { self.waiting() }
    }

    /// What may be billed without a shipment.
    pub fn billable(&self) -> Quantity {
        if self.work { less(self.free_to_ship(), self.drafted) } else { Quantity::ZERO }
    }

    /// The most that may still go on a shipment: what is left of it with its tolerance, less what is under way
    /// or, being work, stands on a draft of an invoice.
    pub fn most_to_ship(&self, over: Quantity) -> Quantity {
        less(less(self.progress.most_to_ship(over), self.leaving), self.drafted)
    }
}

/// One less the other, never below zero.
fn less(one: Quantity, other: Quantity) -> Quantity {
    Quantity::from_scaled((one.scaled() - other.scaled()).max(0))
}

/// What the invoices of an order come to, and what of it is paid; shares of invoices over
/// several orders included.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Settlement {
    /// Gross of the order's lines on posted invoices.
    pub billed_gross: Money,
    /// What of it is settled.
    pub paid_gross: Money,
    /// Whether every invoice the order is on has nothing open.
    pub all_settled: bool,
}

/// An invoice as far as the orders on it are concerned.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InvoiceShares {
    /// The invoice.
    pub invoice: InvoiceId,
    /// Its number and document date, as the tape says them.
    pub name: String,
    /// What the invoice came to.
    pub total: Money,
    /// What of it is still open.
    pub open: Money,
    /// Whether it is a prepayment invoice: it bills no quantity.
    pub in_advance: bool,
    /// Gross of each order's lines on it; adds up to the total.
    pub shares: Vec<(OrderId, Money)>,
}

/// What the invoices of one order come to. What an invoice over several orders was paid is
/// shared over them by the gross of their lines. *Source: domain.md section 6.*
pub fn settlement(order: OrderId, invoices: &[InvoiceShares]) -> Settlement {
    let mut settlement = Settlement { all_settled: true, ..Settlement::default() };
    for invoice in invoices {
        let weights: Vec<i64> = invoice.shares.iter().map(|(_, gross)| gross.0).collect();
        let paid = spread(invoice.total - invoice.open, &weights);
        for ((owner, gross), paid) in invoice.shares.iter().zip(paid) {
            if *owner == order {
                settlement.billed_gross += *gross;
                settlement.paid_gross += paid;
                settlement.all_settled &= invoice.open.is_zero();
            }
        }
    }
    settlement
}

/// What is open of an order, in base currency: of each of its invoices the order's share of what is open, by the gross
/// of its lines, so that what orders of one invoice show adds up to what is open of it. `carried` is what the open
/// amounts are carried at. *Source: domain.md section 6.*
pub fn open_share(order: OrderId, invoices: &[InvoiceShares], carried: &HashMap<InvoiceId, Money>) -> Money {
    let of = |invoice: &InvoiceShares| -> Money {
        let weights: Vec<i64> = invoice.shares.iter().map(|(_, gross)| gross.0).collect();
        let parts = spread(carried.get(&invoice.invoice).copied().unwrap_or_default(), &weights);
        invoice.shares.iter().zip(parts).filter(|((owner, _), _)| *owner == order).map(|(_, part)| part).sum()
    };
    invoices.iter().map(of).sum()
}

/// An order as other documents need to know it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OrderFacts {
    /// Its id.
    pub id: OrderId,
    /// Its number.
    pub number: String,
    /// The number the customer gave it.
    pub customer_order_number: Option<String>,
    /// Its payment terms.
    pub terms: Terms,
    /// Its currency.
    pub currency: Currency,
    /// Whether it is confirmed.
    pub confirmed: bool,
    /// All its lines.
    pub lines: Vec<(OrderLineId, LineProgress)>,
    /// Which of them are work or charges, that need no shipment.
    pub work: Vec<OrderLineId>,
    /// Every posted invoice it is on; cancelled ones are none.
    pub invoices: Vec<InvoiceShares>,
    /// What is held of deposits for it, in its currency.
    pub deposits_held: Money,
    /// What was billed in advance of it and is neither used nor credited, without tax, in its currency.
    pub prepaid_left: Money,
    /// What is authorized on cards for it and neither captured nor given up, in its currency.
    pub card_left: Money,
    /// What it promised, for the account of why an invoice comes to something else.
    pub promised: Promised,
}

/// What an order promised to cost.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Promised {
    /// Whether its prices carry the tax.
    pub gross: bool,
    /// For each line: its tax rate on the day of the order, and its amount as priced.
    pub lines: Vec<(OrderLineId, Rate, Money)>,
}

impl Promised {
    /// The amount of a line with tax.
    pub fn line(&self, id: OrderLineId) -> Money {
        self.lines.iter().filter(|(line, ..)| *line == id).map(|line| self.with_tax(line.1, line.2)).sum()
    }

    /// The whole of it, with tax.
    pub fn total(&self) -> Money {
        self.lines.iter().map(|line| self.with_tax(line.1, line.2)).sum()
    }

    fn with_tax(&self, rate: Rate, amount: Money) -> Money {
        if self.gross { amount } else { amount.with_tax(rate) }
    }
}

impl OrderFacts {
    fn progress(&self) -> Vec<LineProgress> {
        self.lines.iter().map(|(_, progress)| *progress).collect()
    }

    /// Its state as things stand.
    pub fn state(&self) -> OrderState {
        let settled = settlement(self.id, &self.invoices);
        match state(self.confirmed, &self.progress(), settled) {
            // Someone's money would be left hanging.
            OrderState::Closed
                if self.deposits_held.is_positive()
                    || self.prepaid_left.is_positive()
                    || self.card_left.is_positive() =>
            {
                OrderState::Filled
            }
            state => state,
        }
    }

    /// What of it has gone out and nothing pays for yet, with tax, in its currency: what is open on its invoices, and what
    /// shipped and is not billed, less deposits held for it and `prepaid`: what was billed in advance of it and is neither
    /// used nor credited, with its tax.
    pub fn gone_out_unpaid(&self, prepaid: Money) -> Money {
        let settlement = settlement(self.id, &self.invoices);
        let unbilled: Money = self
            .lines
            .iter()
            .map(|(id, progress)| {
                let (unbilled, ordered) = (progress.unbilled().scaled(), progress.ordered.scaled());
                if ordered > 0 { self.promised.line(*id).share(unbilled.max(0), ordered) } else { Money::ZERO }
            })
            .sum();
        settlement.billed_gross - settlement.paid_gross + (unbilled - self.deposits_held - prepaid).max(Money::ZERO)
    }

    /// What is open of it on each of its invoices, with tax: its share of those over several orders.
    pub fn open_by_invoice(&self) -> Vec<(InvoiceId, Money)> {
        let share = |invoice: &InvoiceShares| {
            let weights: Vec<i64> = invoice.shares.iter().map(|(_, gross)| gross.0).collect();
            let parts = invoice.shares.iter().zip(spread(invoice.open, &weights));
            (invoice.invoice, parts.filter(|((owner, _), _)| *owner == self.id).map(|(_, part)| part).sum())
        };
        self.invoices.iter().map(share).filter(|(_, open): &(_, Money)| open.is_positive()).collect()
    }

    /// What of its invoices was paid by something else than deposits, of which `taken` were taken for it.
    pub fn paid_otherwise(&self, taken: Money) -> Money {
        let paid = settlement(self.id, &self.invoices).paid_gross;
        (paid - (taken - self.deposits_held)).max(Money::ZERO)
    }

    /// Its track as things stand.
    pub fn track(&self) -> Track {
        track(self.confirmed, &self.progress(), settlement(self.id, &self.invoices))
    }
}

/// What a posting makes of an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OrderAfter {
    /// The order.
    pub id: OrderId,
    /// Its state from now on.
    pub state: OrderState,
}

/// Whether work and charges of an order can be billed without a shipment: once goods of it have
/// gone, or where it has none. Until then they wait for the goods, with which they may travel.
pub const fn work_is_due(has_goods: bool, goods_gone: bool) -> bool {
    goods_gone || !has_goods
}

/// Compares orders before and after a posting: the states to write and the changes to show.
pub fn compare(before: &[OrderFacts], after: &[OrderFacts]) -> (Vec<OrderAfter>, Vec<Change>) {
    let mut states = Vec::new();
    let mut changes = Vec::new();
    for (old, new) in before.iter().zip(after) {
        states.push(OrderAfter { id: new.id, state: new.state() });
        if old.track() != new.track() {
            changes.push(Change {
                label: new.number.clone(),
                before: Some(Figure::Track { track: old.track() }),
                after: Figure::Track { track: new.track() },
            });
        }
        if old.state() != new.state() {
            changes.push(Change {
                label: new.number.clone(),
                before: Some(Figure::words(old.state().name())),
                after: Figure::words(new.state().name()),
            });
        }
    }
    (states, changes)
}

/// Where an order stands in its life.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum OrderState {
    /// Being written.
    Draft,
    /// Confirmed; something is left to ship or bill.
    Open,
    /// Everything shipped or cancelled, and billed.
    Filled,
    /// Filled, and every invoice settled.
    Closed,
}

impl OrderState {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Draft => "draft",
            Self::Open => "open",
            Self::Filled => "filled",
            Self::Closed => "closed",
        }
    }

    /// How the state is called; the books know it by [`Self::word`].
    pub const fn name(self) -> &'static str {
        match self {
            Self::Filled => "completed",
            other => other.word(),
        }
    }

    /// The state with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::Draft, Self::Open, Self::Filled, Self::Closed].into_iter().find(|state| state.word() == word)
    }
}

/// The state that follows from what has happened. Never typed by anyone.
pub fn state(confirmed: bool, lines: &[LineProgress], settlement: Settlement) -> OrderState {
    if !confirmed {
        OrderState::Draft
    } else if !lines.iter().all(LineProgress::is_filled) {
        OrderState::Open
    } else if settlement.all_settled {
        OrderState::Closed
    } else {
        OrderState::Filled
    }
}

/// Four beats of an order, each filled by its share in thousandths.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Track {
    /// 1000 once confirmed.
    pub ordered: u16,
    /// Share of the value that has shipped.
    pub shipped: u16,
    /// Share of the value that is billed.
    pub billed: u16,
    /// Share of the value that is paid.
    pub paid: u16,
}

/// How finely a line's part of the track is told before it is cut down.
const FINE: i128 = 1_000_000_000;

/// The track of an order. Shares go by value, lines of no value by quantity alike, and are
/// cut down, so that a beat is full only when nothing is missing.
pub fn track(confirmed: bool, lines: &[LineProgress], settlement: Settlement) -> Track {
    let mut wanted: i128 = 0;
    let mut shipped: i128 = 0;
    let mut billed: i128 = 0;
    let all_free = lines.iter().all(|line| line.value.is_zero());
    for line in lines {
        let value = if all_free { 1_000 } else { i128::from(line.value.0.max(0)) };
        let ordered = i128::from(line.ordered.scaled());
        if ordered == 0 {
            continue;
        }
        let share = |quantity: Quantity| value * FINE * i128::from(quantity.scaled().max(0)) / ordered;
        let line_wanted = share(line.wanted());
        wanted += line_wanted;
        shipped += share(line.shipped).min(line_wanted);
        billed += share(line.billed).min(line_wanted);
    }
    // Each line's part was cut down by less than one: what is exactly a fifth stays a fifth, and nothing is full
    // while something is missing.
    let cut = i128::try_from(lines.len()).unwrap_or(0);
    let of_value = |part: i128| match part {
        part if wanted <= 0 || part <= 0 => 0,
        part if part >= wanted => 1_000,
        part => u16::try_from(((part + cut) * 1_000 / wanted).clamp(0, 999)).unwrap_or(0),
    };
    let billed_share = of_value(billed);
    let paid = match i128::from(settlement.billed_gross.0.max(0)) {
        0 => 0,
        gross => {
            let paid = i128::from(billed_share) * i128::from(settlement.paid_gross.0.max(0)) / gross;
            u16::try_from(paid.clamp(0, 1_000)).unwrap_or(0)
        }
    };
    Track {
        ordered: if confirmed { 1_000 } else { 0 },
        shipped: of_value(shipped),
        billed: billed_share,
        paid: if settlement.billed_gross.is_zero() && settlement.all_settled { billed_share } else { paid },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(ordered: i64, cancelled: i64, shipped: i64, billed: i64, value: i64) -> LineProgress {
        LineProgress {
            ordered: Quantity::from_whole(ordered),
            cancelled: Quantity::from_whole(cancelled),
            shipped: Quantity::from_whole(shipped),
            billed: Quantity::from_whole(billed),
            value: Money(value),
        }
    }

    const UNPAID: Settlement = Settlement { billed_gross: Money(1000), paid_gross: Money(0), all_settled: false };
    const PAID: Settlement = Settlement { billed_gross: Money(1000), paid_gross: Money(1000), all_settled: true };

    /// An order is done when everything is shipped, billed and paid: common practice, no source.
    #[test]
    fn the_life_of_an_order() {
        assert_eq!(state(false, &[line(5, 0, 0, 0, 1)], UNPAID), OrderState::Draft);
        assert_eq!(state(true, &[line(5, 0, 3, 3, 1)], PAID), OrderState::Open);
        assert_eq!(state(true, &[line(5, 0, 5, 3, 1)], PAID), OrderState::Open);
        assert_eq!(state(true, &[line(5, 2, 3, 3, 1)], UNPAID), OrderState::Filled);
        assert_eq!(state(true, &[line(5, 2, 3, 3, 1)], PAID), OrderState::Closed);
    }

    #[test]
    fn the_track_goes_by_value() {
        let lines = [line(10, 0, 10, 5, 9_000), line(1, 0, 0, 0, 1_000)];
        let half_paid = Settlement { billed_gross: Money(900), paid_gross: Money(450), all_settled: false };
        assert_eq!(track(true, &lines, half_paid), Track { ordered: 1000, shipped: 900, billed: 450, paid: 225 });
    }

    #[test]
    fn a_beat_is_full_only_when_nothing_is_missing() {
        let nearly = Settlement { billed_gross: Money(1_000_000), paid_gross: Money(999_999), all_settled: false };
        assert_eq!(track(true, &[line(3, 0, 3, 3, 100)], nearly).paid, 999);
    }

    #[test]
    fn a_payment_is_shared_over_the_orders_of_its_invoice() {
        let invoice = InvoiceShares {
            in_advance: false,
            invoice: InvoiceId(1),
            name: "I-1".to_owned(),
            total: Money(300),
            open: Money(199),
            shares: vec![(OrderId(1), Money(100)), (OrderId(2), Money(200))],
        };
        let invoices = [invoice];
        let first = settlement(OrderId(1), &invoices);
        let second = settlement(OrderId(2), &invoices);
        assert_eq!((first.paid_gross, second.paid_gross), (Money(34), Money(67)));
        assert!(!first.all_settled);
    }

    #[test]
    fn what_is_short_and_what_may_go_follows_from_the_quantities() {
        let whole = Quantity::from_whole;
        let state = |progress, reserved: i64, leaving: i64, drafted: i64| LineState {
            progress,
            drafted: whole(drafted),
            reserved: whole(reserved),
            leaving: whole(leaving),
            stocked: true,
            work: false,
        };
        // Ordered five, four reserved: one is short. Once two of four wanted have gone, the other two follow.
        assert_eq!(state(line(5, 0, 0, 0, 1), 4, 0, 0).back_ordered(), whole(1));
        assert_eq!(state(line(5, 1, 2, 0, 1), 2, 0, 0).back_ordered(), whole(2));
        assert_eq!(state(line(5, 1, 2, 0, 1), 2, 0, 0).waiting(), whole(0));
        // A draft order, or goods whose stock others keep, waits for nothing.
        let not_stocked = LineState { stocked: false, ..state(line(5, 0, 0, 0, 1), 0, 0, 0) };
        assert_eq!((not_stocked.waiting(), not_stocked.back_ordered()), (whole(0), whole(0)));
        // Three are being picked: two are free, three with a tolerance of one.
        let picked = state(line(5, 0, 0, 0, 1), 0, 3, 0);
        assert_eq!((picked.free_to_ship(), picked.most_to_ship(whole(1))), (whole(2), whole(3)));
        assert_eq!(
            state(line(5, 5, 0, 0, 1), 0, 0, 0).most_to_ship(whole(1)),
            whole(0),
            "what is canceled does not go"
        );
        // Work: five ordered, one billed (and so done), one on a draft, one goes along with goods.
        let work = LineState { stocked: false, work: true, ..state(line(5, 0, 1, 1, 1), 0, 1, 1) };
        assert_eq!((work.billable(), state(line(5, 0, 1, 1, 1), 0, 1, 1).billable()), (whole(2), whole(0)));
    }
}
