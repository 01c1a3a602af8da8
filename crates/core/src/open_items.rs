//! Open items: everything on a customer account that carries a balance.
//!
//! An invoice is owed to us; a credit memo, a receipt without a target, a deposit are owed by us.
//! Each stands on a control account, in a currency, at a base amount. An *application* ties an amount
//! of one to another; a reversal of it ties them apart again. What a customer owes, its lateness and
//! its exposure follow from nothing else. *Source: domain.md sections 1 and 8; architecture.md, open items.*
//!
//! ```
//! use till_core::money::Money;
//! use till_core::open_items::late_parts;
//! use till_core::terms::Terms;
//! // 60 days net, posted on 1 January, nothing paid: nothing is late on 15 February.
//! let day = |text: &str| text.parse().unwrap();
//! let parts = Terms::net_days(60).open_parts(day("2026-01-01"), Money(900_000), Money(900_000));
//! assert!(late_parts(&parts, day("2026-02-15")).is_zero());
//! assert_eq!(late_parts(&parts, day("2026-03-03")), Money(900_000));
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::{Account, Purpose};
use crate::deposit::using::DepositUsed;
use crate::deposit::{HeldTax, left_of};
use crate::ids::{CustomerId, DocumentRef, OpenItemId};
use crate::money::{Currency, Money};
use crate::room::{Movement, first_day, room_from};
use crate::spread::spread;
use crate::terms::{DuePart, Terms};

/// Who owes an open item to whom.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Side {
    /// The customer owes it to us: an invoice, a charge. A debit.
    OwedToUs,
    /// We owe it to the customer: money without a target, a credit, a deposit. A credit.
    OwedByUs,
}

impl Side {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::OwedToUs => "owed_to_us",
            Self::OwedByUs => "owed_by_us",
        }
    }

    /// The side with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::OwedToUs, Self::OwedByUs].into_iter().find(|side| side.word() == word)
    }
}

/// An open item as settling needs to know it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenItem {
    /// Its id; zero for one that this very posting makes.
    pub id: OpenItemId,
    /// What it came from: an invoice, a receipt, a credit memo, an opening balance.
    pub document: DocumentRef,
    /// Whose account it stands on.
    pub customer: CustomerId,
    /// The kind of control account.
    pub purpose: Purpose,
    /// The very account its balance stands on; none where it never had a balance.
    pub account: Option<Account>,
    /// Who owes it.
    pub side: Side,
    /// Its currency.
    pub currency: Currency,
    /// From this day on it is there.
    pub posting_date: NaiveDate,
    /// When its next part is due.
    pub due_date: NaiveDate,
    /// What of it is open, in its currency.
    pub open: Money,
    /// What the open amount is carried at, in base currency.
    pub open_base: Money,
    /// What it came to and what was taken from it since, day by day, in its currency.
    pub movements: Vec<Movement>,
    /// The same, of what it is carried at in base currency.
    pub base_movements: Vec<Movement>,
    /// Tax that stands on what is open of it, where money in advance was taxed as it came in: the account carries the
    /// rest.
    pub taxes: Vec<HeldTax>,
}

impl OpenItem {
    /// What can be applied of it on a day: never more than is there on that day and every later one.
    pub fn room_from(&self, date: NaiveDate) -> Money {
        Money(room_from(date, &self.movements))
    }

    /// What of its base amount is there on a day and on every later one, in base currency.
    pub fn base_room_from(&self, date: NaiveDate) -> Money {
        Money(room_from(date, &self.base_movements))
    }

    /// The first day on which so much of it can be applied: the amount is there, and the base amount that
    /// goes with it where it is all that is open.
    pub fn first_day(&self, amount: Money) -> Option<NaiveDate> {
        let day = first_day(amount.0, &self.movements)?;
        if amount != self.open {
            return Some(day);
        }
        Some(day.max(first_day(self.open_base.0, &self.base_movements)?))
    }

    /// Whether so much of it can be applied on a day. All that is open takes all of the base amount, so that
    /// has to be there too: a cent that came back on a later day is not given up before.
    pub fn is_there(&self, amount: Money, date: NaiveDate) -> bool {
        amount <= self.room_from(date) && (amount != self.open || self.open_base <= self.base_room_from(date))
    }

    /// What is left of money in advance once a part of it was used, with the tax that goes with it.
    pub fn after(&self, amount: Money, base: Money, taxes: &[HeldTax]) -> Self {
        let taxes = left_of(&self.taxes, taxes);
        Self { open: self.open - amount, open_base: self.open_base - base, taxes, ..self.clone() }
    }

    /// The same once a deposit was used on a day.
    pub(crate) fn less(&self, used: &DepositUsed, date: NaiveDate) -> Self {
        let mut item = self.after(used.amount, used.amount_base, &used.taxes);
        item.movements.push(Movement::new(date, -used.amount.0));
        item.base_movements.push(Movement::new(date, -used.amount_base.0));
        item
    }

    /// The first day on which all that is open of it can be used. One that carries tax is free only once everything
    /// that was taken back of it is there again: net and tax are parted to the cent.
    pub fn free_from(&self) -> Option<NaiveDate> {
        if self.taxes.is_empty() {
            return self.first_day(self.open);
        }
        self.movements.iter().filter(|movement| movement.amount > 0).map(|movement| movement.date).max()
    }

    /// The base amount that goes with a part of what is open, applied on a day: in proportion, never more than
    /// is carried from that day on; the last part takes all that is left. *Source: domain.md section 11,
    /// foreign currency, and section 3.*
    pub fn release(&self, amount: Money, date: NaiveDate) -> Money {
        if amount == self.open {
            return self.open_base;
        }
        self.open_base.share(amount.0, self.open.0).min(self.base_room_from(date))
    }
}

/// What of the open parts is past its day.
pub fn late_parts(parts: &[DuePart], as_of: NaiveDate) -> Money {
    parts.iter().filter(|part| part.date < as_of).map(|part| part.amount).sum()
}

/// What of a debt falls due when, in base currency: each instalment by its own date, the base amount
/// spread over them. What was paid covers the earliest first.
///
/// `document_date` and `terms` are the document's, `total` and `open` in its currency, `open_base`
/// what the open amount is carried at. *Source: domain.md section 5, terms.*
pub fn due_in_base(
    terms: &Terms,
    document_date: NaiveDate,
    (total, open): (Money, Money),
    open_base: Money,
) -> Vec<DuePart> {
    let parts = terms.open_parts(document_date, total, open);
    let weights: Vec<i64> = parts.iter().map(|part| part.amount.0).collect();
    let bases = spread(open_base, &weights);
    parts.iter().zip(bases).map(|(part, amount)| DuePart { date: part.date, amount }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::accounts::Purpose;
    use crate::ids::DocumentKind;

    /// A debt of 3.00 abroad, carried at 0.10; on 20 March a cent of its base amount came back with nothing of its
    /// amount, so it is carried at 0.09 until then. By hand.
    fn debt() -> OpenItem {
        let day = |text: &str| text.parse::<NaiveDate>().unwrap();
        OpenItem {
            id: OpenItemId(1),
            document: DocumentRef { kind: DocumentKind::Invoice, id: 1, number: "I-1".to_owned() },
            customer: CustomerId(1),
            purpose: Purpose::Receivable,
            account: None,
            side: Side::OwedToUs,
            currency: Currency::of("GBP").unwrap(),
            posting_date: day("2026-03-01"),
            due_date: day("2026-03-31"),
            open: Money(300),
            open_base: Money(10),
            movements: vec![Movement::new(day("2026-03-01"), 300)],
            base_movements: vec![Movement::new(day("2026-03-01"), 9), Movement::new(day("2026-03-20"), 1)],
            taxes: Vec::new(),
        }
    }

    #[test]
    fn a_part_gives_up_no_more_than_is_carried() {
        let (item, early) = (debt(), "2026-03-05".parse().unwrap());
        assert_eq!(item.release(Money(150), early), Money(5));
        // 299 of 300 would be 9.97, rounded 10: there are 9.
        assert_eq!(item.release(Money(299), early), Money(9));
        assert_eq!(item.release(Money(299), "2026-03-20".parse().unwrap()), Money(10));
    }

    #[test]
    fn the_last_part_waits_for_its_base_amount() {
        let item = debt();
        assert!(!item.is_there(Money(300), "2026-03-05".parse().unwrap()));
        assert!(item.is_there(Money(300), "2026-03-20".parse().unwrap()));
        assert!(item.is_there(Money(299), "2026-03-05".parse().unwrap()));
        assert_eq!(item.first_day(Money(300)), Some("2026-03-20".parse().unwrap()));
    }
}
