//! Prepayment invoices: what an order asks for before it ships, billed with its tax, and used up as the goods are billed.
//!
//! A prepayment invoice is an invoice whose lines come from what order lines ask for in advance ([`asking`]); its net is a
//! liability until the goods go. Each of its lines is a row of a register: what was prepaid of an order line, on which
//! quantity, what of it documents used ([`using`]), what was credited, what is left. An invoice over the goods carries
//! their full net as revenue and is taxed and due only on what was not prepaid.
//!
//! *Source: domain.md section 8; postings.md, Documents. That an advance has an invoice and a tax of its own: Directive
//! 2006/112/EC art. 65 and 220, from memory; deductions per tax code: EN 16931-1, from memory.*
//!
//! ```
//! use till_core::money::Money;
//! use till_core::prepayment::{Part, due_by_now};
//! // postings.md: 25 % of 2,400.00 asked on 10 pieces; 4 of them are billed, then the other 6.
//! let whole = Part { net: Money(60_000), tax: Money(13_800), net_base: Money(60_000) };
//! assert_eq!(due_by_now(whole.net, 4, 10), Money(24_000));
//! assert_eq!(due_by_now(whole.net, 10, 10), Money(60_000));
//! assert_eq!(whole.gross(), Money(73_800));
//! ```

pub mod asking;
pub mod using;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::Account;
use crate::fixed::{Quantity, Rate};
use crate::ids::{DocumentRef, OrderId, OrderLineId, PrepaidId};
use crate::money::Money;
use crate::room::{Movement, first_day, room_from};
use crate::tax::TaxRate;

/// What a line of a prepayment invoice asks for of its order line: kept with the line, as it was posted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Asks {
    /// Which share of the line; none where an amount was asked for and spread.
    pub percent: Option<Rate>,
    /// What the line comes to, as the order is priced, in its currency.
    pub of: Money,
    /// What was asked for of it before, less what was credited, as the order is priced.
    pub before: Money,
    /// What of that was used by invoices.
    pub used: Money,
    /// The quantity it is asked on, in the unit sold: ordered less what was canceled.
    pub asked_on: Quantity,
    /// What of that quantity was billed before it was asked.
    pub billed_before: Quantity,
}

/// A part of what was prepaid: net and tax in the currency of the document, and the net at what it is carried at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Part {
    /// Net, in the currency of the document.
    pub net: Money,
    /// Tax, in the currency of the document.
    pub tax: Money,
    /// Net, in base currency: what the account carries.
    pub net_base: Money,
}

impl Part {
    /// What the customer was billed for it.
    pub fn gross(&self) -> Money {
        self.net + self.tax
    }

    /// As an order is priced: net, or with the tax.
    pub fn priced(&self, gross_priced: bool) -> Money {
        if gross_priced { self.gross() } else { self.net }
    }

    /// This and another one.
    #[must_use]
    pub fn plus(&self, other: &Self) -> Self {
        Self { net: self.net + other.net, tax: self.tax + other.tax, net_base: self.net_base + other.net_base }
    }

    /// This less another one.
    #[must_use]
    pub fn less(&self, other: &Self) -> Self {
        Self { net: self.net - other.net, tax: self.tax - other.tax, net_base: self.net_base - other.net_base }
    }

    /// Whether there is nothing of it.
    pub fn is_zero(&self) -> bool {
        self.net.is_zero() && self.tax.is_zero() && self.net_base.is_zero()
    }
}

/// What of an amount belongs to so much of a quantity: cumulative, so that parts never drift.
/// *Source: domain.md section 8, using a prepayment.*
pub fn due_by_now(whole: Money, done: i64, of: i64) -> Money {
    if done >= of { whole } else { whole.share(done.max(0), of) }
}

/// A row of the register: what was prepaid of an order line by one prepayment invoice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Prepaid {
    /// Its id: the line of the prepayment invoice.
    pub id: PrepaidId,
    /// The prepayment invoice.
    pub document: DocumentRef,
    /// The order.
    pub order: OrderId,
    /// The order line.
    pub order_line: OrderLineId,
    /// The very account its net stands on.
    pub account: Option<Account>,
    /// The code and rate it was taxed at: a change of rate does not touch it.
    pub rate: TaxRate,
    /// The quantity it was asked on, in the unit sold.
    pub asked_on: Quantity,
    /// What of that was billed before.
    pub billed_before: Quantity,
    /// All of it.
    pub whole: Part,
    /// What invoices used of it.
    pub used: Part,
    /// What was credited of it.
    pub credited: Part,
    /// What came and went of its net, day by day, in the currency of the document.
    pub movements: Vec<Movement>,
    /// The same at what it is carried at, in base currency.
    pub base_movements: Vec<Movement>,
}

impl Prepaid {
    /// What is neither used nor credited.
    pub fn left(&self) -> Part {
        self.whole.less(&self.used).less(&self.credited)
    }

    /// The quantity the row stands for.
    fn span(&self) -> i64 {
        (self.asked_on.scaled() - self.billed_before.scaled()).max(1)
    }

    /// What of that quantity was canceled since, `wanted` being what is ordered less what was canceled now.
    fn canceled(&self, wanted: Quantity) -> i64 {
        (self.asked_on.scaled() - wanted.scaled()).clamp(0, self.span())
    }

    /// What belongs to the canceled part of its line, as priced: it is credited, not used.
    fn of_canceled(&self, wanted: Quantity, gross_priced: bool) -> Money {
        due_by_now(self.whole.priced(gross_priced), self.canceled(wanted), self.span())
    }

    /// What is to be credited of it now because its line, or part of it, was canceled: as priced. All that is left where
    /// nothing is to be billed any more. *Source: domain.md section 8: in the same cumulative way.*
    pub fn to_credit(&self, wanted: Quantity, billed: Quantity, gross_priced: bool) -> Money {
        let left = self.left().priced(gross_priced);
        let done = (billed.scaled() - self.billed_before.scaled()).max(0);
        if done + self.canceled(wanted) >= self.span() && billed >= wanted {
            return left;
        }
        (self.of_canceled(wanted, gross_priced) - self.credited.priced(gross_priced)).max(Money::ZERO).min(left)
    }

    /// What a document uses of it, as priced, that bills its line up to `billed` of `wanted`. The one that bills the last
    /// of it uses the rest.
    pub fn to_use(&self, wanted: Quantity, billed: Quantity, gross_priced: bool) -> Money {
        let priced = |part: &Part| part.priced(gross_priced);
        let of_canceled = self.of_canceled(wanted, gross_priced);
        let kept = of_canceled.max(priced(&self.credited));
        let done = (billed.scaled() - self.billed_before.scaled()).max(0);
        let most = priced(&self.whole) - kept;
        let due = match done + self.canceled(wanted) >= self.span() {
            true => most,
            // What was credited beyond what was canceled lowers what each piece has.
            false => due_by_now(priced(&self.whole) - (kept - of_canceled), done, self.span()),
        };
        (due.min(most) - priced(&self.used)).max(Money::ZERO).min(priced(&self.left()))
    }

    /// The part of what is left that an amount takes, as priced: its net, its tax, and what the net is carried at. The last
    /// of it takes all that is left. Nothing where not so much is there from the day on.
    pub fn part(&self, amount: Money, gross_priced: bool, date: NaiveDate) -> Part {
        let left = self.left();
        let part = if amount >= left.priced(gross_priced) { left } else { self.proportion(amount, gross_priced) };
        let (room, base_room) = (room_from(date, &self.movements), room_from(date, &self.base_movements));
        if part.net.0 <= room && part.net_base.0 <= base_room {
            return part;
        }
        // Part of it is there only later: no more than what is there.
        let net = Money(room.min(part.net.0));
        if net.is_zero() || net == left.net {
            return Part::default();
        }
        let less = self.proportion(self.priced_of(net, gross_priced), gross_priced);
        let short = less.net.0 > room || less.net_base.0 > base_room;
        if short { Part::default() } else { less }
    }

    /// What a net comes to as priced, tax of the row in proportion.
    fn priced_of(&self, net: Money, gross_priced: bool) -> Money {
        if gross_priced { self.whole.gross().share(net.0, self.whole.net.0) } else { net }
    }

    /// A part in proportion: each figure cumulative over all that was settled of the row.
    fn proportion(&self, amount: Money, gross_priced: bool) -> Part {
        let settled = self.used.plus(&self.credited);
        let left = self.left();
        let within = |figure: Money, left: Money| Money(figure.0.clamp(0, left.0.max(0)));
        let net = if gross_priced {
            let all = settled.gross() + amount;
            within(self.whole.net.share(all.0, self.whole.gross().0) - settled.net, left.net).min(amount)
        } else {
            amount.min(left.net)
        };
        let done = (settled.net + net).0;
        let tax = match gross_priced {
            true => within(amount - net, left.tax),
            false => within(self.whole.tax.share(done, self.whole.net.0) - settled.tax, left.tax),
        };
        let net_base = within(self.whole.net_base.share(done, self.whole.net.0) - settled.net_base, left.net_base);
        Part { net, tax, net_base }
    }

    /// The first day on which all that is left of it is there.
    pub fn free_from(&self) -> Option<NaiveDate> {
        let left = self.left();
        let day = first_day(left.net.0, &self.movements)?;
        Some(day.max(first_day(left.net_base.0, &self.base_movements)?))
    }

    /// The same once a document used a part of it on a day.
    pub(crate) fn after(&self, part: &Part, date: NaiveDate) -> Self {
        let mut after = Self { used: self.used.plus(part), ..self.clone() };
        after.movements.push(Movement::new(date, -part.net.0));
        after.base_movements.push(Movement::new(date, -part.net_base.0));
        after
    }
}
