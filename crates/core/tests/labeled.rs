//! How right the proposals are, on lines of which it is known what they are: 10,000 of them, made by chance from 600 customers
//! and 9,000 invoices, with typos, parts of references, payments for several invoices, deductions, wrong amounts and namesakes.
//! Sure ones must be right 999 times in 1,000, and 85 of 100 lines that pay something must have the right one first.
//! `make matching` prints the figures.

use std::collections::BTreeSet;

use crate::common::day;
use till_core::bank::{BankLine, Certainty, Claim, Index, Payer, Proposed};
use till_core::ids::{CustomerId, OpenItemId};
use till_core::money::Money;
use till_core::settle::creditor_reference;

const CUSTOMERS: u64 = 600;
const EACH: u64 = 15;
const LINES: u64 = 10_000;

/// A generator of its own, so that the set is the same everywhere and for ever: splitmix64, from memory.
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        mixed ^ (mixed >> 31)
    }

    fn below(&mut self, limit: u64) -> u64 {
        self.next() % limit
    }

    fn one_in(&mut self, chances: u64) -> bool {
        self.below(chances) == 0
    }
}

fn name(customer: u64) -> String {
    const FIRST: [&str; 20] = [
        "Saltmarsh",
        "Tern",
        "Heather",
        "Dune",
        "Gorse",
        "Marram",
        "Plover",
        "Samphire",
        "Thrift",
        "Avocet",
        "Bracken",
        "Clover",
        "Elder",
        "Fern",
        "Hawthorn",
        "Juniper",
        "Linden",
        "Meadow",
        "Rowan",
        "Willow",
    ];
    const SECOND: [&str; 6] = ["Honey", "Apiary", "Hives", "Farm", "Bees", "Orchard"];
    const FORM: [&str; 4] = ["Co-op", "Ltd", "", "GmbH"];
    // Every twentieth is called as the one before: namesakes.
    let customer = if customer % 20 == 19 { customer - 1 } else { customer };
    let at = |count: usize, of: u64| usize::try_from(of % count as u64).unwrap_or(0);
    let place = customer / 120;
    let (first, second) = (FIRST[at(20, customer)], SECOND[at(6, customer / 20)]);
    format!(
        "{first} {second} {} {}",
        if place == 0 { String::new() } else { format!("no {place}") },
        FORM[at(4, customer)]
    )
}

fn claims(chance: &mut Chance) -> Vec<Claim> {
    (0..CUSTOMERS * EACH)
        .map(|at| Claim {
            item: OpenItemId(at as i64),
            customer: CustomerId((at % CUSTOMERS) as i64),
            number: format!("I-{}", 20_000 + at),
            // Round amounts come twice and more.
            open: Money(
                if chance.one_in(4) { 1_000 * (1 + chance.below(90)) } else { 500 + chance.below(900_000) } as i64
            ),
            due: day("2026-01-01") + chrono::Days::new(chance.below(90)),
            early: chance.one_in(6).then(|| (Money(7 + chance.below(20) as i64), day("2026-03-20"))),
        })
        .collect()
}

/// What a payer writes of a number: right, or not quite.
fn written(chance: &mut Chance, number: &str) -> String {
    let digits = &number[2..];
    match chance.below(20) {
        0..7 => creditor_reference(number).unwrap(),
        7..11 => number.to_owned(),
        11..14 => format!("Inv {number}").to_lowercase(),
        14..15 => format!("i {digits}"),
        // Two digits swapped, a digit left out, no letter before it, nothing at all.
        15 => {
            let mut swapped: Vec<char> = digits.chars().collect();
            swapped.swap(2, 3);
            format!("I-{}", swapped.into_iter().collect::<String>())
        }
        16 => format!("I-{}", &digits[..4]),
        17 => digits.to_owned(),
        _ => "thanks".to_owned(),
    }
}

/// A line, and which items it really pays; none of those where it pays nothing that is open.
fn line(chance: &mut Chance, claims: &[Claim]) -> (BankLine, Option<(CustomerId, BTreeSet<OpenItemId>)>) {
    let customer = chance.below(CUSTOMERS);
    let mut mine: Vec<&Claim> = claims.iter().filter(|claim| claim.customer.0 as u64 == customer).collect();
    let count = if chance.one_in(4) { 2 + chance.below(3) } else { 1 };
    let mut paid = Vec::new();
    for _ in 0..count {
        let at = usize::try_from(chance.below(mine.len() as u64)).unwrap();
        paid.push(mine.remove(at));
    }
    let words: Vec<String> = paid.iter().map(|claim| written(chance, &claim.number)).collect();
    let discounts = chance.one_in(3);
    let amount: Money = paid
        .iter()
        .map(|claim| match claim.early {
            Some((less, _)) if discounts => claim.open - less,
            _ => claim.open,
        })
        .sum();
    // A deduction, a wrong amount, a cent or two apart.
    let amount = match chance.below(40) {
        0 | 1 => Money(amount.0 * 9 / 10),
        2 => amount + Money(1 + chance.below(9_000) as i64),
        3 => amount - Money(1 + chance.below(3) as i64),
        _ => amount,
    };
    let from_known = !customer.is_multiple_of(3);
    let party = if chance.one_in(10) { String::new() } else { name(customer).to_uppercase() };
    let party = if chance.one_in(12) { party.replace('E', "") } else { party };
    let account =
        if from_known && !chance.one_in(15) { format!("A{customer}") } else { format!("Z{}", chance.below(99_999)) };
    let line = BankLine {
        party: (!party.is_empty()).then_some(party),
        party_account: Some(account),
        ..BankLine::plain(day("2026-03-17"), amount, &words.join(", "))
    };
    // One in twelve pays for something else: a private person, an old invoice, the wrong company.
    if chance.one_in(12) {
        let amount = Money(100 + chance.below(900_000) as i64);
        let words =
            ["salary", "I-1234", "membership 2026", "RF18539007547034"][usize::try_from(chance.below(4)).unwrap()];
        let stranger = BankLine::plain(line.booked_on, amount, words);
        let known = chance.one_in(4).then(|| format!("B{}", chance.below(999)));
        return (BankLine { party: Some("Nobody we know".to_owned()), party_account: known, ..stranger }, None);
    }
    (line, Some((CustomerId(customer as i64), paid.iter().map(|claim| claim.item).collect())))
}

#[test]
fn what_is_sure_is_right_and_most_come_first() {
    let mut chance = Chance(2_026);
    let claims = claims(&mut chance);
    let payers: Vec<Payer> = (0..CUSTOMERS)
        .map(|at| Payer {
            customer: CustomerId(at as i64),
            name: name(at),
            parent: None,
            accounts: if !at.is_multiple_of(3) { vec![format!("A{at}")] } else { Vec::new() },
        })
        .collect();
    let index = Index::new(claims.clone(), payers, Vec::new(), Money(5));
    let (mut sure, mut sure_right, mut payable, mut first_right, mut wrong) = (0u32, 0u32, 0u32, 0u32, Vec::new());
    for _ in 0..LINES {
        let (line, label) = line(&mut chance, &claims);
        let proposals = index.propose(&line);
        let right = |what: &Proposed| match (what, &label) {
            (Proposed::Receipt { customer, to }, Some((payer, items))) => {
                customer == payer && to.iter().map(|part| part.item).collect::<BTreeSet<_>>() == *items
            }
            _ => false,
        };
        let first = proposals.first();
        payable += u32::from(label.is_some());
        first_right += u32::from(first.is_some_and(|proposal| right(&proposal.what)));
        if let Some(first) = first.filter(|first| first.certainty == Certainty::Sure) {
            sure += 1;
            let is_right = right(&first.what);
            sure_right += u32::from(is_right);
            if !is_right {
                wrong.push((line, label, first.clone()));
            }
        }
    }
    println!(
        "{LINES} lines, {payable} of them pay something: {sure} sure, {sure_right} of those right ({}.{:02} %); the right one first for {first_right} ({}.{:02} %)",
        sure_right * 100 / sure,
        sure_right * 10_000 / sure % 100,
        first_right * 100 / payable,
        first_right * 10_000 / payable % 100,
    );
    assert!(sure_right * 1_000 >= sure * 999, "{} sure ones are wrong, such as {:#?}", wrong.len(), wrong.first());
    assert!(sure > payable / 2, "only {sure} are sure");
    assert!(first_right * 100 >= payable * 85, "{first_right} of {payable}");
}
