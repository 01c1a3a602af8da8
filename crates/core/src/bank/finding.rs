//! What a line is, looked for by someone: by a number, a name, an amount or what was noted, where nothing that is suggested fits.
//!
//! What is found is never sure, and is accepted as any suggestion. *Source: domain.md section 10.*

use super::BankLine;
use super::giving::give;
use super::matching::{Index, plain_name};
use super::proposal::{Certainty, Claim, Clue, Expected, Paid, Proposal, Proposed};
use crate::money::Money;
use crate::settle::number_parts;

/// How many are shown: who sees more types more.
const MOST_FOUND: usize = 12;
/// The fewest letters or digits that are looked for.
const LEAST_TYPED: usize = 2;

/// What someone typed, as it is compared.
struct Typed {
    /// Letters and digits one after the other, as of a number.
    number: String,
    /// Words, as of a name.
    name: String,
    /// An amount, where it reads as one.
    amount: Option<Money>,
}

impl Typed {
    fn in_number(&self, number: &str) -> bool {
        self.number.len() >= LEAST_TYPED && number_parts(number).concat().contains(&self.number)
    }

    fn in_name(&self, name: &str) -> bool {
        self.name.len() >= LEAST_TYPED && plain_name(name).contains(&self.name)
    }
}

impl Index {
    /// What a line, or what is left of one, may be by what someone typed. `amount` is what was typed, read as an amount. The best first.
    pub fn find(&self, line: &BankLine, words: &str, amount: Option<Money>) -> Vec<Proposal> {
        let typed = Typed {
            number: number_parts(words).concat(),
            name: plain_name(words),
            amount: amount.filter(|amount| amount.is_positive()),
        };
        let mut found = self.expected_as(line, &typed);
        if line.amount.is_positive() {
            found.extend(self.claims_as(line, &typed));
            found.extend(self.payers_as(line, &typed));
        } else {
            found.extend(self.paid_as(line, &typed));
        }
        found.sort_by_key(|proposal| std::cmp::Reverse(proposal.score));
        found.truncate(MOST_FOUND);
        found
    }

    /// What is on its way, all of it within the line: several may come in one booking of the bank.
    fn expected_as(&self, line: &BankLine, typed: &Typed) -> Vec<Proposal> {
        let left = line.amount;
        let within = |one: &&Expected| one.amount.is_positive() == left.is_positive() && one.amount.abs() <= left.abs();
        let mut found: Vec<&Expected> = self.expected.values().flatten().filter(within).collect();
        found.sort_by_key(|one| one.entry);
        let proposal = |one: &&Expected| {
            let owner = one.customer.and_then(|id| self.payers.get(&id));
            let named = typed.in_number(&one.document.number) || typed.in_number(&one.words);
            let theirs = owner.is_some_and(|payer| typed.in_name(&payer.name));
            let amount = typed.amount == Some(one.amount.abs());
            let what = Proposed::Clears { entry: one.entry, document: one.document.clone(), apart: Money::ZERO };
            looked_for(what, [named, theirs, amount], one.amount == left)
        };
        found.iter().filter_map(proposal).collect()
    }

    /// Open items.
    fn claims_as(&self, line: &BankLine, typed: &Typed) -> Vec<Proposal> {
        let proposal = |claim: &Claim| {
            let [named, amount] = [typed.in_number(&claim.number), typed.amount == Some(claim.open)];
            if !claim.open.is_positive() || !(named || amount) {
                return None;
            }
            let (how, to, _) = give(line, &[claim], self.tolerance);
            let what = Proposed::Receipt { customer: claim.customer, to };
            let exact = matches!(how, Clue::Amount | Clue::Discounted | Clue::Nearly);
            let mut proposal = looked_for(what, [named, false, amount], exact)?;
            proposal.because.push(how);
            Some(proposal)
        };
        self.claims.iter().filter_map(proposal).collect()
    }

    /// Customers, with what they owe.
    fn payers_as(&self, line: &BankLine, typed: &Typed) -> Vec<Proposal> {
        let mut named: Vec<_> = self.payers.values().filter(|payer| typed.in_name(&payer.name)).collect();
        named.sort_by_key(|payer| payer.customer);
        let proposals = named
            .into_iter()
            .take(MOST_FOUND)
            .flat_map(|payer| self.of_payer(line, (payer.customer, Clue::Searched), false));
        proposals.map(|one| Proposal { certainty: Certainty::Possible, ..one }).collect()
    }

    /// Payments that may have come back, also those of long ago.
    fn paid_as(&self, line: &BankLine, typed: &Typed) -> Vec<Proposal> {
        let left = -line.amount;
        let mut found: Vec<&Paid> = self.paid.values().flatten().filter(|one| one.amount <= left).collect();
        found.sort_by_key(|one| one.receipt.id);
        let proposal = |one: &&Paid| {
            let named = typed.in_number(&one.receipt.number) || typed.in_number(&one.words);
            let theirs = self.payers.get(&one.customer).is_some_and(|payer| typed.in_name(&payer.name));
            let amount = typed.amount == Some(one.amount);
            let fee = left - one.amount;
            let what = Proposed::Returned { receipt: one.receipt.clone(), fee };
            let mut proposal = looked_for(what, [named, theirs, amount], fee.is_zero())?;
            proposal.because.extend((!fee.is_zero()).then_some(Clue::WithFee));
            Some(proposal)
        };
        found.iter().filter_map(proposal).collect()
    }
}

/// A proposal of what was looked for; none where nothing of it was typed. By its number it goes before by its name or amount, and what
/// comes to the line before what does not.
fn looked_for(what: Proposed, [named, theirs, amount]: [bool; 3], exact: bool) -> Option<Proposal> {
    let score = 10 + 40 * u8::from(named) + 15 * u8::from(theirs) + 20 * u8::from(amount) + 15 * u8::from(exact);
    (named || theirs || amount).then(|| Proposal {
        what,
        certainty: Certainty::Possible,
        score,
        because: vec![Clue::Searched],
    })
}
