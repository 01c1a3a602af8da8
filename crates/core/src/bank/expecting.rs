//! Lines that the books expected: what is on its way, what the bank counted otherwise, what came back.

use chrono::NaiveDate;

use super::matching::Index;
use super::proposal::{Certainty, Clue, Expected, Paid, Proposal, Proposed};
use super::{BankLine, BankLineKind};
use crate::ids::DocumentKind;
use crate::money::{Currency, Money};
use crate::settle::{number_parts, place_of};

/// How many days before the bank books it something is expected at most, and after.
const EXPECTED_BEFORE: i64 = 60;
const EXPECTED_AFTER: i64 = 5;
/// By how much of it a slip may be counted otherwise and still be thought of, one in so many.
const COUNTED_APART: i64 = 50;
/// How many days after it came in a payment comes back at most. *Common practice, no source: checks return within weeks, direct
/// debits within months.*
const RETURNED_WITHIN: i64 = 120;

fn near(line: &BankLine, date: NaiveDate) -> bool {
    let days = (line.booked_on - date).num_days();
    (-EXPECTED_AFTER..=EXPECTED_BEFORE).contains(&days)
}

fn said(line: &BankLine) -> Vec<String> {
    number_parts(&format!("{} {}", line.words, line.reference.as_deref().unwrap_or_default()))
}

fn names(said: &[String], one: &Expected) -> bool {
    let noted = |text: &str| place_of(said, &number_parts(text)).is_some();
    noted(&one.document.number) || noted(&one.words)
}

/// What is known of a payment that a line says came back.
#[derive(Debug, Clone)]
pub struct CameBack<'a> {
    /// Its number.
    pub number: &'a str,
    /// What it was over, and its currency.
    pub amount: (Money, Currency),
    /// Whether its money was at the account the line is of.
    pub was_here: bool,
    /// What left with the line, and the account's currency.
    pub left: (Money, Currency),
}

/// What the bank takes for a payment that came back: what the line takes more than the payment brought.
///
/// # Errors
/// Why it is not that payment, and what to do.
pub fn fee_of(came_back: &CameBack<'_>) -> Result<Money, String> {
    let CameBack { number, amount: (amount, currency), was_here, left: (left, money) } = came_back;
    if !left.is_positive() {
        return Err("Money came with this line: nothing came back.".to_owned());
    }
    if !was_here {
        return Err(format!("The money of {number} is not at this account: the bank cannot return it from there."));
    }
    if currency != money || amount > left {
        return Err(format!(
            "{number} is over {} {currency}, with the line {} {money} left. Reverse it by itself, then clear the line with that.",
            currency.grouped(*amount),
            money.grouped(*left)
        ));
    }
    Ok(*left - *amount)
}

impl Index {
    /// What the books expected of that amount about that day.
    pub(super) fn clears(&self, line: &BankLine) -> Vec<Proposal> {
        let fits = self.expected.get(&line.amount).into_iter().flatten();
        let fits: Vec<&Expected> = fits.filter(|one| near(line, one.date)).collect();
        let (payer, known_by) = self.payer(line);
        let said = said(line);
        let of_payer = |one: &Expected| one.customer.is_some() && one.customer == payer;
        let alone = fits.len() == 1;
        let mut found: Vec<Proposal> = fits
            .iter()
            .map(|one| {
                let mut because = vec![Clue::Expected];
                let (named, theirs) = (names(&said, one), of_payer(one));
                because.extend(named.then_some(Clue::Number));
                because.extend(known_by.filter(|_| theirs));
                // Someone else's money of the same amount is another payment.
                let others = payer.is_some() && one.customer.is_some() && !theirs;
                // The bank says that checks and cash were brought, and one slip comes to that.
                let slip = alone && line.kind == BankLineKind::Deposit && one.document.kind == DocumentKind::BankSlip;
                let certainty = match (named || theirs || slip, others) {
                    (true, false) => Certainty::Sure,
                    (_, true) => Certainty::Possible,
                    (false, false) if alone => Certainty::Likely,
                    (false, false) => Certainty::Possible,
                };
                let score = 50 + 30 * u8::from(named) + 20 * u8::from(theirs) - 30 * u8::from(others);
                let what = Proposed::Clears { entry: one.entry, document: one.document.clone(), apart: Money::ZERO };
                Proposal { what, certainty, score, because }
            })
            .collect();
        let sure = found.iter().filter(|proposal| proposal.certainty == Certainty::Sure).count();
        if sure > 1 {
            found.iter_mut().for_each(|proposal| proposal.certainty = proposal.certainty.min(Certainty::Likely));
        }
        found
    }

    /// A slip of which the bank counted another amount.
    pub(super) fn counted(&self, line: &BankLine) -> Vec<Proposal> {
        let said = said(line);
        let slips: Vec<&Expected> =
            self.slips.iter().filter(|one| one.amount != line.amount && near(line, one.date)).collect();
        let little = |one: &Expected| (line.amount - one.amount).abs().0 <= one.amount.0 / COUNTED_APART;
        let alone = slips.iter().filter(|one| little(one)).count() == 1;
        let proposal = |one: &&Expected| {
            let apart = line.amount - one.amount;
            let named = names(&said, one);
            let brought = line.kind == BankLineKind::Deposit;
            let (certainty, score) = match (named, brought && little(one)) {
                (true, _) => (Certainty::Likely, 75),
                (false, true) if alone => (Certainty::Likely, 60),
                (false, true) => (Certainty::Possible, 40),
                (false, false) => return None,
            };
            let mut because = vec![Clue::Counted];
            because.extend(named.then_some(Clue::Number));
            let what = Proposed::Clears { entry: one.entry, document: one.document.clone(), apart };
            Some(Proposal { what, certainty, score, because })
        };
        slips.iter().filter_map(proposal).collect()
    }

    /// A payment that came back, alone or with what the bank takes for it. Never sure: someone looks at it.
    pub(super) fn returned(&self, line: &BankLine) -> Vec<Proposal> {
        let left = -line.amount;
        let (payer, known_by) = self.payer(line);
        let words = said(line);
        let in_time = |one: &Paid| (0..=RETURNED_WITHIN).contains(&(line.booked_on - one.date).num_days());
        let named = |one: &Paid| {
            [&one.receipt.number, &one.words].iter().any(|text| place_of(&words, &number_parts(text)).is_some())
        };
        let mut found: Vec<Proposal> = Vec::new();
        let mut add = |one: &Paid, certainty, score, because| {
            let what = Proposed::Returned { receipt: one.receipt.clone(), fee: left - one.amount };
            if !found.iter().any(|known: &Proposal| known.what == what) {
                found.push(Proposal { what, certainty, score, because });
            }
        };
        for one in self.paid.get(&left).into_iter().flatten().filter(|one| in_time(one)) {
            let (named, theirs) = (named(one), payer == Some(one.customer));
            let mut because = vec![Clue::Paid];
            because.extend(named.then_some(Clue::Number));
            because.extend(known_by.filter(|_| theirs));
            let likely = named || theirs || line.kind == BankLineKind::Returned;
            let certainty = if likely { Certainty::Likely } else { Certainty::Possible };
            add(one, certainty, 40 + 30 * u8::from(named) + 20 * u8::from(theirs), because);
        }
        // With its fee it is named by what was noted: a number of a check, our own number.
        let said = (0..words.len()).flat_map(|from| (1..=2.min(words.len() - from)).map(move |many| (from, many)));
        for one in said.filter_map(|(from, many)| self.paid_by_words.get(&words[from..from + many].concat())).flatten()
        {
            if one.amount < left && in_time(one) {
                add(one, Certainty::Likely, 65, vec![Clue::Number, Clue::WithFee]);
            }
        }
        found
    }
}
