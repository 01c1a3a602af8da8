//! What money is for, where nobody has said so: what the payer named, what equals it, what comes to it together, and then what is
//! due first.
//!
//! *Source: domain.md section 10. What names a thing goes before what only fits it; the search for a sum is bounded.*

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

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
    /// Why.
    pub because: Because,
}

/// What is known of what money is for.
#[derive(Debug, Clone, Copy, Default)]
pub struct Said<'a> {
    /// The document the clerk came from.
    pub first: Option<&'a DocumentRef>,
    /// What the payer wrote.
    pub words: Option<&'a str>,
}

/// How many items are tried for a sum, and how many sums: beyond that a coincidence is likelier than a meaning.
const MOST_ITEMS: usize = 40;
const MOST_SUMS: usize = 20_000;

/// The fewest letters and digits of a number that is looked for in words: fewer stand there by chance.
const SHORTEST_NUMBER: usize = 3;

/// Suggests amounts for open items on a day. What was named takes what is open of it, by reference first, and what is left
/// stays unapplied; where nothing was named, an item that equals the money takes it, or items that come to it together, the oldest
/// of them; else the oldest due date comes first until the money is used up. The document the clerk came from goes before all.
/// Items in another currency are left to the clerk, and so is what was not there on the day.
pub fn suggest(
    (amount, currency): (Money, Currency),
    items: &[OpenItem],
    said: Said<'_>,
    date: NaiveDate,
) -> Vec<Suggestion> {
    let mut order: Vec<(&OpenItem, Money)> = items
        .iter()
        .filter(|item| item.currency == currency && item.posting_date <= date)
        .map(|item| (item, there(item, date)))
        .filter(|(_, room)| room.is_positive())
        .collect();
    order.sort_by_key(|(item, _)| (item.due_date, item.id));
    let come_from = |item: &OpenItem| {
        said.first.is_some_and(|first| first.kind == item.document.kind && first.id == item.document.id)
    };
    let mut suggested = Vec::new();
    let mut left = amount;
    let mut take = |item: &OpenItem, room: Money, left: &mut Money, because: Because| {
        let part = (*left).min(room);
        if part.is_positive() && item.is_there(part, date) {
            suggested.push(Suggestion { item: item.id, amount: part, because });
            *left -= part;
        }
    };
    if let Some((item, room)) = order.iter().find(|(item, _)| come_from(item)) {
        take(item, *room, &mut left, Because::ComeFrom);
    }
    order.retain(|(item, _)| !come_from(item));
    let named = said.words.map(|words| named(words, &order)).unwrap_or_default();
    if !named.is_empty() {
        for (at, because) in named {
            let (item, room) = order[at];
            take(item, room, &mut left, because);
        }
        return suggested;
    }
    // The rest of what the clerk came from goes on by age: what it was is known.
    if said.first.is_none() {
        if let Some((item, room)) = order.iter().find(|(_, room)| *room == amount) {
            take(item, *room, &mut left, Because::Equal);
            return suggested;
        }
        let rooms: Vec<i64> = order.iter().take(MOST_ITEMS).map(|(_, room)| room.0).collect();
        if let Some(together) = sum_of(&rooms, amount.0) {
            for at in together {
                let (item, room) = order[at];
                take(item, room, &mut left, Because::Together);
            }
            return suggested;
        }
    }
    for (item, room) in order {
        take(item, room, &mut left, Because::Oldest);
    }
    suggested
}

/// What can be taken of an item on a day.
fn there(item: &OpenItem, date: NaiveDate) -> Money {
    item.open.min(item.room_from(date))
}

/// The items that words name, by place, in the order of the words: by payment reference, or by number.
fn named(words: &str, items: &[(&OpenItem, Money)]) -> Vec<(usize, Because)> {
    let references = references_in(words);
    let said = plain(words);
    let mut found: Vec<(usize, usize, Because)> = Vec::new();
    for (at, (item, _)) in items.iter().enumerate() {
        let number = &item.document.number;
        let reference = creditor_reference(number).and_then(|own| references.iter().position(|one| *one == own));
        let place = match reference {
            Some(place) => Some((place, Because::Reference)),
            None => place_of(&said, &plain(number)).map(|place| (references.len() + place, Because::Number)),
        };
        if let Some((place, because)) = place {
            found.push((place, at, because));
        }
    }
    found.sort_by_key(|(place, at, _)| (*place, *at));
    found.into_iter().map(|(_, at, because)| (at, because)).collect()
}

/// Words in capitals, split where letters and digits end, and where one follows the other: “I-3291” and “i3291” are the same.
fn plain(text: &str) -> Vec<String> {
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
fn place_of(words: &[String], number: &[String]) -> Option<usize> {
    let length: usize = number.iter().map(String::len).sum();
    if number.is_empty() || length < SHORTEST_NUMBER {
        return None;
    }
    words.windows(number.len()).position(|some| some == number)
}

/// Places of amounts that come to a sum, two or more, those that stand first preferred; none where there are none among the sums
/// that are tried.
fn sum_of(amounts: &[i64], wanted: i64) -> Option<Vec<usize>> {
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
            assert!(place_of(&plain(words), &plain("I-3291")).is_some(), "{words}");
        }
        for words in ["3291", "I-32910", "II-3291", "I-329 1"] {
            assert_eq!(place_of(&plain(words), &plain("I-3291")), None, "{words}");
        }
        assert_eq!(place_of(&plain("7"), &plain("7")), None, "too short to be meant");
    }
}
