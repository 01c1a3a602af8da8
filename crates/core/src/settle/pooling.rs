//! Money together with credits: which of it goes where.
//!
//! ```
//! use till_core::money::Money;
//! use till_core::settle::pool;
//! // 30.00 and 50.00 lie there, 40.00 and 60.00 are to be settled: the first goes to the first, the second to both.
//! let pooled = pool(&[Money(3_000), Money(5_000)], &[Money(4_000), Money(6_000)]);
//! assert_eq!(pooled.credits, [vec![(0, Money(3_000))], vec![(0, Money(1_000)), (1, Money(4_000))]]);
//! // What is left is for the money.
//! assert_eq!(pooled.left, [Money(0), Money(2_000)]);
//! ```

use super::Member;
use crate::accounts::Purpose;
use crate::ids::DocumentKind;
use crate::money::{Currency, Money};
use crate::open_items::{OpenItem, Side};

/// What of each credit goes to which target, by its place, and what of each target is left.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pooled {
    /// For each credit, in its order.
    pub credits: Vec<Vec<(usize, Money)>>,
    /// For each target, in its order.
    pub left: Vec<Money>,
}

/// Uses credits in their order on targets in theirs: the first is used up before the next is begun.
pub fn pool(credits: &[Money], targets: &[Money]) -> Pooled {
    let mut left = targets.to_vec();
    let use_up = |credit: &Money| {
        let mut there = *credit;
        let mut parts = Vec::new();
        for (at, target) in left.iter_mut().enumerate() {
            let take = there.min(*target);
            if take.is_positive() {
                parts.push((at, take));
                *target -= take;
                there -= take;
            }
        }
        parts
    };
    let credits = credits.iter().map(use_up).collect();
    Pooled { credits, left }
}

/// Whether something can be used together with money of a payer: theirs or of those they pay for, open, in that currency.
///
/// # Errors
/// Why not.
pub fn usable(item: &OpenItem, group: &[Member], currency: Currency) -> Result<(), String> {
    let number = &item.document.number;
    let theirs = group.iter().any(|member| member.id == item.customer);
    let kind = matches!(item.document.kind, DocumentKind::Receipt | DocumentKind::Deposit | DocumentKind::CreditMemo);
    let lies_open = matches!(item.purpose, Purpose::Unapplied | Purpose::DepositLiability);
    if item.side != Side::OwedByUs || !kind || !lies_open {
        Err(format!("{number} is no credit that lies open: it cannot be used with money."))
    } else if !theirs {
        Err(format!("{number} is someone else's."))
    } else if item.currency != currency {
        Err(format!("{number} is in {}, the money in {currency}.", item.currency))
    } else if !item.open.is_positive() {
        Err(format!("Nothing of {number} is open any more."))
    } else {
        Ok(())
    }
}
