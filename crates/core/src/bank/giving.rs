//! How a line of a bank statement is given to what it pays: with the discount that earns, a difference within the tolerance, or in
//! part.

use chrono::NaiveDate;

use super::BankLine;
use super::proposal::{Claim, Clue, ProposedPart};
use crate::money::Money;
use crate::settle::{Beside, sum_of};

/// Items of one payer that are tried for a sum: a coincidence is likelier than a meaning beyond.
const MOST_ITEMS: usize = 24;

pub(super) const fn part(claim: &Claim, amount: Money, beside: Beside) -> ProposedPart {
    ProposedPart { item: claim.item, amount, beside }
}

/// Gives a line to the items it names, and says how the two compare. Last, what is left.
pub(super) fn give(line: &BankLine, claims: &[&Claim], tolerance: Money) -> (Clue, Vec<ProposedPart>, Money) {
    let on = line.booked_on;
    let all: Money = claims.iter().map(|claim| claim.open).sum();
    let less: Money = claims.iter().map(|claim| claim.to_pay(on)).sum();
    let several = claims.len() > 1;
    let discounts = line.amount < all && less != all;
    let wanted = if discounts { less } else { all };
    let lacks = wanted - line.amount;
    let how = match lacks {
        Money::ZERO if several => Clue::Together,
        Money::ZERO if discounts => Clue::Discounted,
        Money::ZERO => Clue::Amount,
        lacks if lacks.abs() <= tolerance => Clue::Nearly,
        lacks if lacks.is_positive() => Clue::Part,
        _ => Clue::More,
    };
    let mut left = line.amount;
    let mut to = Vec::new();
    for (at, claim) in claims.iter().enumerate() {
        let last = at + 1 == claims.len();
        let discount = if discounts && how != Clue::Part { claim.discount(on) } else { Money::ZERO };
        let near = how == Clue::Nearly && last;
        let amount = if near { left } else { left.min(claim.open - discount) };
        if amount.is_positive() {
            let written_off = if near { claim.open - discount - amount } else { Money::ZERO };
            to.push(part(claim, amount, Beside { discount, written_off }));
            left -= amount;
        }
    }
    (how, to, left)
}

/// Items that come to an amount exactly, two or more, or one; with their discounts, or without.
pub(super) fn exactly(on: NaiveDate, claims: &[&Claim], amount: Money) -> Option<Vec<ProposedPart>> {
    // What a discount covers as a whole is paid by nothing.
    let claims: Vec<&Claim> =
        claims.iter().copied().filter(|claim| claim.to_pay(on).is_positive()).take(MOST_ITEMS).collect();
    if let Some(one) = claims.iter().find(|claim| claim.open == amount) {
        return Some(vec![part(one, amount, Beside::default())]);
    }
    for early in [true, false] {
        let wanted = |claim: &&Claim| if early { claim.to_pay(on) } else { claim.open };
        let amounts: Vec<i64> = claims.iter().map(|claim| wanted(claim).0).collect();
        if let Some(places) = sum_of(&amounts, amount.0) {
            let of = |at: usize| {
                let discount = if early { claims[at].discount(on) } else { Money::ZERO };
                part(claims[at], wanted(&claims[at]), Beside { discount, ..Beside::default() })
            };
            return Some(places.into_iter().map(of).collect());
        }
    }
    None
}
