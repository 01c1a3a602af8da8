//! Remittance advice: what a payer says its payment is for, line by line, and what that is among what is open.
//!
//! A line names a document, what is paid on it, what was taken off for paying early, and what was taken off for something else.
//! The first two settle; the last stays open and goes into dispute. *Source: domain.md section 10.*
//!
//! ```
//! use till_core::remittance::Advised;
//! use till_core::money::Money;
//! // 100.00 less 2.00 for paying early and 5.00 for a broken jar: 93.00 are paid.
//! let line = Advised { number: "I-3107".into(), paid: Money(9_300), discount: Money(200), deducted: Money(500), words: String::new() };
//! assert_eq!(line.of_all(), Money(10_000));
//! ```

use std::collections::{BTreeMap, HashMap, HashSet};

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::ids::OpenItemId;
use crate::money::{Currency, Money};
use crate::open_items::OpenItem;
use crate::settle::{Early, number_parts};

/// A line of an advice.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Advised {
    /// The number of what is paid, as the payer writes it.
    pub number: String,
    /// What is paid on it.
    pub paid: Money,
    /// What was taken off for paying early.
    #[serde(default)]
    pub discount: Money,
    /// What was taken off for something else.
    #[serde(default)]
    pub deducted: Money,
    /// Why.
    #[serde(default)]
    pub words: String,
}

impl Advised {
    /// What the payer counts as settled with it.
    pub fn of_all(&self) -> Money {
        self.paid + self.discount + self.deducted
    }
}

/// What stands in the way of a line, or is to be known of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Remark {
    /// Nothing that is open has this number.
    NotOpen,
    /// The number stands on a line before it.
    Twice,
    /// Nothing is paid on it.
    NothingPaid,
    /// More is paid than is open: the rest stays unapplied.
    MoreThanOpen,
    /// The discount was not earned, or not as much: what was not stays open.
    NotEarned,
    /// Less is paid than is open, and nothing is said of the rest.
    Part,
}

/// What becomes of a line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Allotted {
    /// The line.
    pub line: Advised,
    /// What it pays; none where nothing is known by that number.
    pub item: Option<OpenItemId>,
    /// What of the money goes there.
    pub amount: Money,
    /// What is given for paying early.
    pub discount: Money,
    /// What stays open of it after that.
    pub stays_open: Money,
    /// What of that goes into dispute: all of it, where the payer took something off on purpose.
    pub disputed: Money,
    /// What is to be known.
    pub remark: Option<Remark>,
}

/// Finds what each line pays among what is open. Each line is looked up: a thousand lines take a thousand looks.
pub fn allot(
    lines: &[Advised],
    open: &[OpenItem],
    early: &BTreeMap<OpenItemId, Early>,
    (currency, date): (Currency, NaiveDate),
) -> Vec<Allotted> {
    let mut by_number: HashMap<String, &OpenItem> = HashMap::with_capacity(open.len());
    for item in open.iter().filter(|item| item.currency == currency) {
        by_number.entry(number_parts(&item.document.number).concat()).or_insert(item);
    }
    let mut seen = HashSet::new();
    let one = |line: &Advised| {
        let item = by_number.get(&number_parts(&line.number).concat()).copied();
        let nothing = |remark| Allotted {
            line: line.clone(),
            item: None,
            amount: Money::ZERO,
            discount: Money::ZERO,
            stays_open: Money::ZERO,
            disputed: Money::ZERO,
            remark: Some(remark),
        };
        let Some(item) = item else { return nothing(Remark::NotOpen) };
        if !seen.insert(item.id) {
            return nothing(Remark::Twice);
        }
        if !line.paid.is_positive() {
            return nothing(Remark::NothingPaid);
        }
        let amount = line.paid.min(item.open);
        let earned = early.get(&item.id).map_or(Money::ZERO, |early| early.earned(date, item.open, amount));
        // Who says nothing of a discount and pays exactly that much less has taken it.
        let taken = line.discount.is_zero() && line.deducted.is_zero() && amount + earned == item.open;
        let said = if taken { earned } else { line.discount.max(Money::ZERO) };
        let discount = said.min(earned).min(item.open - amount);
        let stays_open = item.open - amount - discount;
        // Part of it may be what was taken off by right, part not: all that stays open is to be cleared up.
        let disputed = if line.deducted.is_positive() { stays_open } else { Money::ZERO };
        let remark = if line.paid > item.open {
            Some(Remark::MoreThanOpen)
        } else if discount < line.discount {
            Some(Remark::NotEarned)
        } else if stays_open > disputed {
            Some(Remark::Part)
        } else {
            None
        };
        Allotted { line: line.clone(), item: Some(item.id), amount, discount, stays_open, disputed, remark }
    };
    lines.iter().map(one).collect()
}
