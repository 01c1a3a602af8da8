//! What money is for, where nobody has said so: what the payer named, what equals it, what comes to it together, and then what is
//! due first.
//!
//! *Source: domain.md section 10. What names a thing goes before what only fits it; the search for a sum is bounded.*

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use super::beside::{Beside, Early};
use super::reference::{creditor_reference, references_in};
use crate::ids::{DocumentRef, OpenItemId};
use crate::money::{Currency, Money};
use crate::open_items::OpenItem;

/// Why an item is suggested.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Because {
    /// The clerk came from it.
    ComeFrom,
    /// Its payment reference stands in what was said.
    Reference,
    /// Its number stands in what was said.
    Number,
    /// It is as much as there is.
    Equal,
    /// It and others come to as much as there is.
    Together,
    /// It is due first.
    Oldest,
}

/// An item money is suggested for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Suggestion {
    /// The item.
    pub item: OpenItemId,
    /// How much, in the currency of the money.
    pub amount: Money,
    /// What of it is settled without money: a discount that is earned, a difference within the tolerance.
    #[serde(default)]
    pub beside: Beside,
    /// Why.
    pub because: Because,
}

/// What is known of what money is for.
#[derive(Debug, Clone, Default)]
pub struct Said<'a> {
    /// The document the clerk came from.
    pub first: Option<&'a DocumentRef>,
    /// What the payer wrote.
    pub words: Option<&'a str>,
    /// The day the money came on, where paying early can earn something by it.
    pub paid_on: Option<NaiveDate>,
    /// What paying early earns on which items.
    pub early: Option<&'a BTreeMap<OpenItemId, Early>>,
    /// Up to which difference an item counts as paid.
    pub tolerance: Money,
    /// What settles items in other currencies than the money's, at the rates of the day; none where those are left to the clerk.
    pub worth: Option<&'a BTreeMap<OpenItemId, Money>>,
}

impl Said<'_> {
    /// What an amount earns that is paid of so much that is open.
    fn earned(&self, item: &OpenItem, open: Money, paid: Money) -> Money {
        let early = self.early.and_then(|early| early.get(&item.id));
        let (Some(early), Some(date)) = (early, self.paid_on) else { return Money::ZERO };
        early.earned(date, open, paid)
    }

    /// What is to be paid of so much that is open: less the discount for all of it.
    fn to_pay(&self, item: &OpenItem, open: Money) -> Money {
        let early = self.early.and_then(|early| early.get(&item.id));
        let (Some(early), Some(date)) = (early, self.paid_on) else { return open };
        open - early.for_all(date, open)
    }
}

/// How many items are tried for a sum, and how many sums: beyond that a coincidence is likelier than a meaning.
const MOST_ITEMS: usize = 40;
const MOST_SUMS: usize = 20_000;

/// The fewest letters and digits of a number that is looked for in words: fewer stand there by chance.
const SHORTEST_NUMBER: usize = 3;

/// Suggests amounts for open items on a day. What was named takes what is open of it, by reference first, and what is left
/// stays unapplied; where nothing was named, an item that equals the money takes it, or items that come to it together, the oldest
/// of them; else the oldest due date comes first until the money is used up. The document the clerk came from goes before all.
/// Items in another currency are left to the clerk, unless it is said what settles them; so is what was not there on the day.
pub fn suggest(
    (amount, currency): (Money, Currency),
    items: &[OpenItem],
    said: Said<'_>,
    date: NaiveDate,
) -> Vec<Suggestion> {
    let mut order: Vec<(&OpenItem, Money)> = items
        .iter()
        .filter(|item| item.posting_date <= date)
        .filter_map(|item| {
            let there = there(item, date);
            if item.currency == currency {
                return Some((item, there));
            }
            // Where part of it is settled until later it is the clerk's to say how much.
            let worth = said.worth.and_then(|worth| worth.get(&item.id)).filter(|_| there == item.open)?;
            Some((item, *worth))
        })
        .filter(|(_, room)| room.is_positive())
        .collect();
    order.sort_by_key(|(item, _)| (item.due_date, item.id));
    let come_from = |item: &OpenItem| {
        said.first.is_some_and(|first| first.kind == item.document.kind && first.id == item.document.id)
    };
    let mut taking = Taking { said: &said, date, currency, left: amount, suggested: Vec::new() };
    if let Some((item, room)) = order.iter().find(|(item, _)| come_from(item)) {
        // Who pays all of it keeps no discount back.
        taking.take(item, (*room, amount < *room), Because::ComeFrom);
    }
    order.retain(|(item, _)| !come_from(item));
    let all = |places: &[usize]| -> Money { places.iter().map(|at| order[*at].1).sum() };
    let named = said.words.map(|words| named(words, &order)).unwrap_or_default();
    if !named.is_empty() {
        let places: Vec<usize> = named.iter().map(|(at, _)| *at).collect();
        let early = amount < all(&places);
        for (at, because) in named {
            let (item, room) = order[at];
            taking.take(item, (room, early), because);
        }
        taking.give_up_difference(items);
        return taking.suggested;
    }
    // The rest of what the clerk came from goes on by age: what it was is known.
    if said.first.is_none() {
        // All of it, all of it less the discount, or nearly so: in this order.
        for (early, within) in
            [(false, Money::ZERO), (true, Money::ZERO), (false, said.tolerance), (true, said.tolerance)]
        {
            let wanted = |item: &OpenItem, room: Money| if early { said.to_pay(item, room) } else { room };
            let fits = |(item, room): &&(&OpenItem, Money)| (wanted(item, *room) - amount).abs() <= within;
            if let Some((item, room)) = order.iter().find(fits) {
                taking.take(item, (*room, early), Because::Equal);
                taking.give_up_difference(items);
                return taking.suggested;
            }
        }
        for early in [true, false] {
            let wanted = |(item, room): &(&OpenItem, Money)| if early { said.to_pay(item, *room).0 } else { room.0 };
            let amounts: Vec<i64> = order.iter().take(MOST_ITEMS).map(wanted).collect();
            if let Some(together) = sum_of(&amounts, amount.0) {
                for at in together {
                    let (item, room) = order[at];
                    taking.take(item, (room, early), Because::Together);
                }
                return taking.suggested;
            }
        }
    }
    let early = amount < order.iter().map(|(_, room)| *room).sum::<Money>();
    for (item, room) in order {
        taking.take(item, (room, early), Because::Oldest);
    }
    taking.suggested
}

/// Money that is given to items one after the other.
struct Taking<'a> {
    said: &'a Said<'a>,
    date: NaiveDate,
    currency: Currency,
    left: Money,
    suggested: Vec<Suggestion>,
}

impl Taking<'_> {
    /// Gives an item what there is for it, with the discount that earns where one is kept back.
    fn take(&mut self, item: &OpenItem, (room, early): (Money, bool), because: Because) {
        let foreign = item.currency != self.currency;
        // The offer is of all that is open, and in its own currency.
        let early = early && !foreign && room == item.open;
        let part = self.left.min(if early { self.said.to_pay(item, room) } else { room });
        let discount = if early { self.said.earned(item, room, part) } else { Money::ZERO };
        let debit = if foreign { item.open.share(part.0, room.0) } else { part + discount };
        if part.is_positive() && debit.is_positive() && item.is_there(debit, self.date) {
            let beside = Beside { discount, written_off: Money::ZERO };
            self.suggested.push(Suggestion { item: item.id, amount: part, beside, because });
            self.left -= part;
        }
    }

    /// What the last of them lacks within the tolerance is written off; what came too much within it is kept.
    fn give_up_difference(&mut self, items: &[OpenItem]) {
        let left = self.left;
        let Some(last) = self.suggested.last_mut() else { return };
        let own = |item: &&OpenItem| item.id == last.item && item.currency == self.currency;
        let Some(item) = items.iter().find(own) else { return };
        let lacks = item.open - last.amount - last.beside.discount;
        let tolerance = self.said.tolerance;
        if left.is_zero() && lacks.is_positive() && lacks <= tolerance && item.is_there(item.open, self.date) {
            last.beside.written_off = lacks;
        } else if left.is_positive() && left <= tolerance && lacks.is_zero() {
            last.amount += left;
            last.beside.written_off = -left;
            self.left = Money::ZERO;
        }
    }
}

/// What can be taken of an item on a day.
fn there(item: &OpenItem, date: NaiveDate) -> Money {
    item.open.min(item.room_from(date))
}

/// The items that words name, by place, in the order of the words: by payment reference, or by number.
fn named(words: &str, items: &[(&OpenItem, Money)]) -> Vec<(usize, Because)> {
    let references = references_in(words);
    let said = number_parts(words);
    let mut found: Vec<(usize, usize, Because)> = Vec::new();
    for (at, (item, _)) in items.iter().enumerate() {
        let number = &item.document.number;
        let reference = creditor_reference(number).and_then(|own| references.iter().position(|one| *one == own));
        let place = match reference {
            Some(place) => Some((place, Because::Reference)),
            None => place_of(&said, &number_parts(number)).map(|place| (references.len() + place, Because::Number)),
        };
        if let Some((place, because)) = place {
            found.push((place, at, because));
        }
    }
    found.sort_by_key(|(place, at, _)| (*place, *at));
    found.into_iter().map(|(_, at, because)| (at, because)).collect()
}

/// Words in capitals, split where letters and digits end, and where one follows the other: “I-3291” and “i3291” are the same.
pub(crate) fn number_parts(text: &str) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    let mut before: Option<bool> = None;
    for letter in text.chars() {
        let kind = letter.is_ascii_alphanumeric().then(|| letter.is_ascii_digit());
        match (kind, before) {
            (Some(now), Some(was)) if now == was => {
                if let Some(word) = words.last_mut() {
                    word.push(letter.to_ascii_uppercase());
                }
            }
            (Some(_), _) => words.push(letter.to_ascii_uppercase().to_string()),
            (None, _) => {}
        }
        before = kind;
    }
    words
}

/// Where the parts of a number stand one after the other among words; none where it is too short to be meant.
pub(crate) fn place_of(words: &[String], number: &[String]) -> Option<usize> {
    let length: usize = number.iter().map(String::len).sum();
    if number.is_empty() || length < SHORTEST_NUMBER {
        return None;
    }
    words.windows(number.len()).position(|some| some == number)
}

/// Places of amounts that come to a sum, two or more, those that stand first preferred; none where there are none among the sums
/// that are tried.
pub(crate) fn sum_of(amounts: &[i64], wanted: i64) -> Option<Vec<usize>> {
    // What all from a place on come to: where that is too little, no sum is left.
    let mut rest = vec![0_i64; amounts.len() + 1];
    for at in (0..amounts.len()).rev() {
        rest[at] = rest[at + 1].saturating_add(amounts[at]);
    }
    let mut tried = 0;
    let mut chosen = Vec::new();
    search(amounts, &rest, (0, wanted), &mut chosen, &mut tried).then_some(chosen)
}

fn search(amounts: &[i64], rest: &[i64], (at, left): (usize, i64), chosen: &mut Vec<usize>, tried: &mut usize) -> bool {
    if left == 0 {
        return chosen.len() > 1;
    }
    *tried += 1;
    if at == amounts.len() || rest[at] < left || *tried > MOST_SUMS {
        return false;
    }
    if amounts[at] <= left {
        chosen.push(at);
        if search(amounts, rest, (at + 1, left - amounts[at]), chosen, tried) {
            return true;
        }
        chosen.pop();
    }
    search(amounts, rest, (at + 1, left), chosen, tried)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sum_prefers_what_stands_first_and_ends() {
        assert_eq!(sum_of(&[500, 300, 200, 100], 600), Some(vec![0, 3]));
        assert_eq!(sum_of(&[500, 300, 200, 100], 1_100), Some(vec![0, 1, 2, 3]));
        assert_eq!(sum_of(&[500, 300], 500), None, "one alone is no sum");
        assert_eq!(sum_of(&[500, 300], 900), None);
        assert_eq!(sum_of(&[], 5), None);
        // Forty amounts of which no sum fits: given up in bounded time.
        let even: Vec<i64> = (1..=40).map(|at| at * 2).collect();
        assert_eq!(sum_of(&even, 501), None);
    }

    #[test]
    fn a_number_is_found_however_it_is_typed() {
        for words in ["I-3291", "paid i3291, thanks", "Invoice I 3291", "re: I/3291/2026"] {
            assert!(place_of(&number_parts(words), &number_parts("I-3291")).is_some(), "{words}");
        }
        for words in ["3291", "I-32910", "II-3291", "I-329 1"] {
            assert_eq!(place_of(&number_parts(words), &number_parts("I-3291")), None, "{words}");
        }
        assert_eq!(place_of(&number_parts("7"), &number_parts("7")), None, "too short to be meant");
    }
}
