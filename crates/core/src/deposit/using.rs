//! Applying deposits: by themselves as their order is invoiced, or to an invoice that is posted.
//!
//! A deposit for an order goes to that order's part of an invoice and to nothing else; one on account only as far as
//! someone says so. What is applied leaves exactly the difference open. Where tax was due at receipt, no more of a
//! code is applied than the invoice has of it. *Source: domain.md section 8.*
//!
//! ```
//! use till_core::deposit::using::DepositUse;
//! assert_eq!(DepositUse::of("in_proportion"), Some(DepositUse::InProportion));
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use super::HeldTax;
use crate::calendar::words;
use crate::checks::{Check, Findings};
use crate::ids::{DocumentRef, OpenItemId, OrderId};
use crate::invoice::{InvoiceInput, OrderShare};
use crate::money::Money;
use crate::open_items::OpenItem;
use crate::order::{OrderFacts, OrderState, settlement};
use crate::spread::spread;
use crate::tax::{TaxLine, TaxRate};

/// How deposits are used on part invoices.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum DepositUse {
    /// In full on the first invoices.
    #[default]
    First,
    /// In proportion to what of the order is billed; the last invoice takes the rest.
    InProportion,
}

impl DepositUse {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::First => "first",
            Self::InProportion => "in_proportion",
        }
    }

    /// The way with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::First, Self::InProportion].into_iter().find(|way| way.word() == word)
    }
}

/// A deposit as an invoice needs to know it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DepositFacts {
    /// Its open item.
    pub item: OpenItem,
    /// What was taken, in its currency.
    pub taken: Money,
    /// The order it is for; none on account.
    pub order: Option<(OrderId, String)>,
    /// What someone said is to be applied of it; none where it goes by itself.
    pub wish: Option<Money>,
}

/// What of a deposit is applied to an invoice.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DepositUsed {
    /// Its open item.
    pub item: OpenItemId,
    /// The deposit.
    pub document: DocumentRef,
    /// Number of the order it is for; none on account.
    pub order: Option<String>,
    /// How much, in its currency.
    pub amount: Money,
    /// The same at what it is carried at, in base currency.
    pub amount_base: Money,
    /// Tax of it by code and by the day it is taken off; none where its tax was not due at receipt.
    pub taxes: Vec<HeldTax>,
}

/// A deposit that could be applied to an invoice, used or not.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DepositOffer {
    /// Its open item.
    pub item: OpenItemId,
    /// The deposit.
    pub document: DocumentRef,
    /// Number of the order it is for; none on account.
    pub order: Option<String>,
    /// What is held of it, in its currency.
    pub held: Money,
    /// The most that can be applied of it here.
    pub most: Money,
    /// What is applied of it here.
    pub applied: Money,
    /// Whether someone said how much.
    pub typed: bool,
    /// Why nothing, or not all of it, can be applied.
    pub why: Option<String>,
}

/// What of a tax code an invoice still has for deposits: net and tax.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TaxRoom {
    /// The code with its rate.
    pub rate: TaxRate,
    /// Net.
    pub net: Money,
    /// Tax.
    pub tax: Money,
}

impl TaxRoom {
    /// Of the taxes of an invoice.
    pub fn of(taxes: &[TaxLine]) -> Vec<Self> {
        taxes.iter().map(|tax| Self { rate: tax.rate.clone(), net: tax.base, tax: tax.tax }).collect()
    }

    /// Takes off what a deposit uses of it.
    pub fn less(rooms: &mut [Self], used: &[HeldTax]) {
        for held in used {
            if let Some(room) = rooms.iter_mut().find(|room| room.rate == held.rate) {
                room.net -= held.net;
                room.tax -= held.tax;
            }
        }
    }
}

/// The most that can be applied of a deposit where an invoice has so much of each tax code; all that is open of one
/// whose tax is due at the invoice.
pub fn most_by_code(item: &OpenItem, rooms: &[TaxRoom]) -> Money {
    if item.taxes.is_empty() {
        return item.open;
    }
    item.taxes.iter().map(|held| cap(held, rooms)).sum()
}

/// What of one code can be applied.
fn cap(held: &HeldTax, rooms: &[TaxRoom]) -> Money {
    let room = rooms.iter().find(|room| room.rate == held.rate);
    room.map_or(Money::ZERO, |room| held.gross().min((room.net + room.tax).max(Money::ZERO)))
}

/// The part of a deposit that an amount uses: what it is carried at, and its tax by code. The last part takes all
/// that is left of each. `rooms` is what the invoice has of each code; none where it does not matter.
pub fn part_of(item: &OpenItem, amount: Money, date: NaiveDate, rooms: Option<&[TaxRoom]>) -> (Money, Vec<HeldTax>) {
    if item.taxes.is_empty() {
        return (item.release(amount, date), Vec::new());
    }
    let caps: Vec<i64> = item.taxes.iter().map(|held| rooms.map_or(held.gross(), |rooms| cap(held, rooms)).0).collect();
    let used: Vec<HeldTax> = item
        .taxes
        .iter()
        .zip(spread(amount, &caps))
        .filter(|(_, gross)| !gross.is_zero())
        .map(|(held, gross)| {
            let mut tax = held.tax.share(gross.0, held.gross().0);
            // The cent that rounding moves never takes more of a code than the invoice has of it.
            if let Some(room) = rooms.and_then(|rooms| rooms.iter().find(|room| room.rate == held.rate)) {
                tax = tax.min(room.tax).max(gross - room.net);
            }
            let tax = tax.min(held.tax).max(gross - held.net);
            let net = gross - tax;
            let base =
                |whole: Money, part: Money, of: Money| if part == of { whole } else { whole.share(part.0, of.0) };
            HeldTax {
                rate: held.rate.clone(),
                tax_date: date,
                net,
                tax,
                net_base: base(held.net_base, net, held.net),
                tax_base: base(held.tax_base, tax, held.tax),
            }
        })
        .collect();
    (used.iter().map(HeldTax::gross_base).sum(), used)
}

/// What is applied to an invoice, and what could be.
pub(crate) struct Uses {
    pub(crate) used: Vec<DepositUsed>,
    pub(crate) offered: Vec<DepositOffer>,
}

/// What the deposits of an invoice come to: those for its orders by themselves, others as far as someone said so.
pub(crate) fn decide(
    input: &InvoiceInput<'_>,
    (shares, taxes, total): (&[OrderShare], &[TaxLine], Money),
    orders_after: &[OrderFacts],
    findings: &mut Findings,
) -> Uses {
    let mut rooms = TaxRoom::of(taxes);
    let mut left_of: Vec<(OrderId, Money)> = shares.iter().map(|share| (share.order, share.gross)).collect();
    let mut left = total;
    let mut uses = Uses { used: Vec::new(), offered: Vec::new() };
    let date = input.posting_date.date;
    for (position, facts) in input.deposits.iter().enumerate() {
        let (most, why) = most(input, facts, (&rooms, &left_of, left));
        let applied = match facts.wish {
            Some(wish) => wish,
            None => by_itself(input, facts, most, orders_after),
        };
        let number = &facts.item.document.number;
        if applied < Money::ZERO || applied > most {
            let sentence = match &why {
                Some(why) => format!("{why} Apply {} at most.", input.basis.currency.grouped(most)),
                None => format!("{} of {number} can be applied here at most.", input.basis.currency.grouped(most)),
            };
            findings.add(Check::MoreThanHeld, format!("deposits.{position}.amount"), sentence);
        }
        let applied = applied.min(most).max(Money::ZERO);
        uses.offered.push(DepositOffer {
            item: facts.item.id,
            document: facts.item.document.clone(),
            order: facts.order.as_ref().map(|(_, number)| number.clone()),
            held: facts.item.open,
            most,
            applied,
            typed: facts.wish.is_some(),
            why: why.filter(|_| most < facts.item.open),
        });
        if applied.is_zero() {
            continue;
        }
        let (amount_base, used) = part_of(&facts.item, applied, date, Some(&rooms));
        TaxRoom::less(&mut rooms, &used);
        left -= applied;
        if let Some((_, share)) = left_of.iter_mut().find(|(order, _)| facts.is_for(*order)) {
            *share -= applied;
        }
        uses.used.push(DepositUsed {
            item: facts.item.id,
            document: facts.item.document.clone(),
            order: facts.order.as_ref().map(|(_, number)| number.clone()),
            amount: applied,
            amount_base,
            taxes: used,
        });
    }
    uses
}

impl DepositFacts {
    fn is_for(&self, order: OrderId) -> bool {
        self.order.as_ref().is_some_and(|(mine, _)| *mine == order)
    }
}

/// The most that can be applied of a deposit to an invoice, and what bounds it.
fn most(
    input: &InvoiceInput<'_>,
    facts: &DepositFacts,
    (rooms, left_of, left): (&[TaxRoom], &[(OrderId, Money)], Money),
) -> (Money, Option<String>) {
    let (item, date) = (&facts.item, input.posting_date.date);
    let number = &item.document.number;
    if item.currency != input.basis.currency {
        let sentence = format!("{number} is in {}, the invoice in {}.", item.currency, input.basis.currency);
        return (Money::ZERO, Some(sentence));
    }
    if let Some(from) = item.free_from().filter(|from| *from > date) {
        let sentence = format!("{number} is free from {} on, after this invoice.", words(from));
        return (Money::ZERO, Some(sentence));
    }
    let (mut most, mut why) = (item.open, None);
    let mut bound = |room: Money, sentence: String| {
        if room < most {
            (most, why) = (room.max(Money::ZERO), Some(sentence));
        }
    };
    match &facts.order {
        Some((order, of)) => {
            let share = left_of.iter().find(|(known, _)| known == order).map_or(Money::ZERO, |(_, left)| *left);
            bound(share, format!("{number} is for {of}, and no more of it stands on this invoice."));
        }
        None => bound(left, "The invoice comes to no more.".to_owned()),
    }
    bound(left, "The invoice comes to no more.".to_owned());
    bound(
        most_by_code(item, rooms),
        format!("{number} was taxed as it came in: the invoice has no more of its tax code."),
    );
    (most, why)
}

/// What is applied where nobody said how much: all that goes, or in proportion to what of the order is billed by
/// then. The invoice that leaves nothing to ship and bill takes the rest.
fn by_itself(input: &InvoiceInput<'_>, facts: &DepositFacts, most: Money, orders_after: &[OrderFacts]) -> Money {
    let Some((order, _)) = &facts.order else { return Money::ZERO };
    let after = orders_after.iter().find(|after| after.id == *order);
    let last = |after: &&OrderFacts| matches!(after.state(), OrderState::Filled | OrderState::Closed);
    match (input.deposit_use, after) {
        (DepositUse::First, _) | (_, None) => most,
        (DepositUse::InProportion, Some(after)) if last(&after) => most,
        (DepositUse::InProportion, Some(after)) => {
            let billed = settlement(*order, &after.invoices).billed_gross;
            let promised = after.promised.total();
            let due_by_now = facts.taken.share(billed.0.min(promised.0), promised.0);
            (due_by_now - (facts.taken - facts.item.open)).max(Money::ZERO).min(most)
        }
    }
}
