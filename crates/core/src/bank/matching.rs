//! What a line of a bank statement is: what the books expected, or whose payment of what.
//!
//! Each proposal says why, and how sure it is. *Sure* means that nothing else it could be is known: such lines are accepted
//! together. *Likely* is what a clerk would try first; *possible* is better than nothing. Everything is looked up: the cost of a
//! line does not grow with the company. *Source: domain.md section 10.*

use std::collections::{BTreeSet, HashMap};

use super::giving::{exactly, give, part};
use super::proposal::{Certainty, Claim, Clue, Expected, Paid, Payer, Proposal, Proposed, ProposedPart};
use super::{BankLine, BankLineKind, plain_account};
use crate::ids::{CustomerId, DocumentKind, OpenItemId};
use crate::money::Money;
use crate::settle::{Beside, creditor_reference, number_parts, references_in};

/// How short words noted with a payment may be to be looked for.
const LEAST_NOTED: usize = 4;
/// How many proposals a line gets at most.
const MOST_PROPOSALS: usize = 4;

/// Everything that lines are looked up in. Made once for a statement.
#[derive(Debug)]
pub struct Index {
    pub(super) claims: Vec<Claim>,
    pub(super) payers: HashMap<CustomerId, Payer>,
    pub(super) tolerance: Money,
    by_number: HashMap<String, Vec<usize>>,
    /// Letters that numbers of documents begin with: a word that begins so is meant as one.
    prefixes: BTreeSet<String>,
    by_customer: HashMap<CustomerId, Vec<usize>>,
    by_amount: HashMap<Money, Vec<usize>>,
    by_item: HashMap<OpenItemId, usize>,
    branches: HashMap<CustomerId, Vec<CustomerId>>,
    by_account: HashMap<String, Vec<CustomerId>>,
    by_name: HashMap<String, Vec<CustomerId>>,
    pub(super) expected: HashMap<Money, Vec<Expected>>,
    /// Slips that are on their way: the bank may count another amount.
    pub(super) slips: Vec<Expected>,
    /// Payments that may come back, by their amount.
    pub(super) paid: HashMap<Money, Vec<Paid>>,
    /// The same, by the letters and digits of their number and of what was noted with them.
    pub(super) paid_by_words: HashMap<String, Vec<Paid>>,
}

/// A name without what tells no one from another: case, signs, and the form of the company. *Common practice, no source, for the
/// forms.*
pub(super) fn plain_name(name: &str) -> String {
    const FORMS: [&str; 16] = [
        "LTD", "LIMITED", "INC", "LLC", "CO", "COMPANY", "CORP", "GMBH", "AG", "KG", "SA", "SARL", "BV", "AB", "OY",
        "PLC",
    ];
    let upper = name.to_uppercase();
    let words = upper.split(|letter: char| !letter.is_alphanumeric()).filter(|word| !word.is_empty());
    words.filter(|word| !FORMS.contains(word)).collect::<Vec<_>>().join(" ")
}

impl Index {
    /// Of everything that is open and everyone who may pay, and of what the books expect of the bank.
    pub fn new(mut claims: Vec<Claim>, payers: Vec<Payer>, expected: Vec<Expected>, tolerance: Money) -> Self {
        claims.sort_by_key(|claim| (claim.due, claim.item));
        let mut index = Self {
            claims: Vec::new(),
            payers: HashMap::new(),
            tolerance,
            by_number: HashMap::new(),
            prefixes: BTreeSet::new(),
            by_customer: HashMap::new(),
            by_amount: HashMap::new(),
            by_item: HashMap::new(),
            branches: HashMap::new(),
            by_account: HashMap::new(),
            by_name: HashMap::new(),
            expected: HashMap::new(),
            slips: Vec::new(),
            paid: HashMap::new(),
            paid_by_words: HashMap::new(),
        };
        for (at, claim) in claims.iter().enumerate() {
            let parts = number_parts(&claim.number);
            if let Some(first) = parts.first().filter(|first| first.chars().all(char::is_alphabetic)) {
                index.prefixes.insert(first.clone());
            }
            index.by_number.entry(parts.concat()).or_default().push(at);
            index.by_customer.entry(claim.customer).or_default().push(at);
            index.by_amount.entry(claim.open).or_default().push(at);
            index.by_item.insert(claim.item, at);
        }
        for payer in payers {
            for account in &payer.accounts {
                index.by_account.entry(plain_account(account)).or_default().push(payer.customer);
            }
            index.by_name.entry(plain_name(&payer.name)).or_default().push(payer.customer);
            if let Some(parent) = payer.parent {
                index.branches.entry(parent).or_default().push(payer.customer);
            }
            index.payers.insert(payer.customer, payer);
        }
        for one in expected {
            if one.document.kind == DocumentKind::BankSlip {
                index.slips.push(one.clone());
            }
            index.expected.entry(one.amount).or_default().push(one);
        }
        index.claims = claims;
        index
    }

    /// The same, with payments that may come back.
    #[must_use]
    pub fn with_paid(mut self, paid: Vec<Paid>) -> Self {
        for one in paid {
            for words in [&one.receipt.number, &one.words] {
                let said = number_parts(words).concat();
                if said.len() >= LEAST_NOTED {
                    self.paid_by_words.entry(said).or_default().push(one.clone());
                }
            }
            self.paid.entry(one.amount).or_default().push(one);
        }
        self
    }

    /// Takes away what a line was just accepted as, so that the next line does not take it again.
    pub fn accepted(&mut self, line: &BankLine, proposal: &Proposal) {
        match &proposal.what {
            Proposed::Clears { entry, apart, .. } => {
                if let Some(entries) = self.expected.get_mut(&(line.amount - *apart)) {
                    entries.retain(|one| one.entry != *entry);
                }
                self.slips.retain(|one| one.entry != *entry);
            }
            Proposed::Returned { receipt, .. } => {
                let both = self.paid.values_mut().chain(self.paid_by_words.values_mut());
                both.for_each(|paid| paid.retain(|one| one.receipt != *receipt));
            }
            Proposed::Receipt { to, .. } => {
                for part in to {
                    let at = self.by_item.get(&part.item).copied();
                    if let Some(claim) = at.and_then(|at| self.claims.get_mut(at)) {
                        claim.open = claim.open - part.amount - part.beside.sum();
                    }
                }
            }
            Proposed::Book { .. } => {}
        }
    }

    /// What a line may be, the best first.
    pub fn propose(&self, line: &BankLine) -> Vec<Proposal> {
        let mut found = self.clears(line);
        match line.kind {
            BankLineKind::Fee | BankLineKind::Interest => found.push(said_by_bank(line.kind)),
            _ if line.amount.is_positive() => {
                found.extend(self.advised(line));
                found.extend(self.counted(line));
                found.extend(self.receipts(line));
            }
            _ => found.extend(self.returned(line)),
        }
        found.sort_by_key(|proposal| std::cmp::Reverse((proposal.certainty, proposal.score)));
        // Two that are sure and say different things are not sure.
        if found.len() > 1 && found[1].certainty == Certainty::Sure && found[0].what != found[1].what {
            for proposal in &mut found {
                proposal.certainty = proposal.certainty.min(Certainty::Likely);
            }
        }
        found.truncate(MOST_PROPOSALS);
        found
    }

    /// Who paid, as far as the line says: by its account, or by a name that only one has.
    pub(super) fn payer(&self, line: &BankLine) -> (Option<CustomerId>, Option<Clue>) {
        let one = |known: Option<&Vec<CustomerId>>| match known.map(Vec::as_slice) {
            Some([one]) => Some(*one),
            _ => None,
        };
        if let Some(payer) =
            line.party_account.as_deref().and_then(|text| one(self.by_account.get(&plain_account(text))))
        {
            return (Some(payer), Some(Clue::Account));
        }
        match line.party.as_deref().and_then(|name| one(self.by_name.get(&plain_name(name)))) {
            Some(payer) => (Some(payer), Some(Clue::Name)),
            None => (None, None),
        }
    }

    /// Whether one may pay for the other: itself, or a branch however far down.
    fn pays_for(&self, payer: CustomerId, owes: CustomerId) -> bool {
        let mut at = Some(owes);
        for _ in 0..10 {
            match at {
                Some(one) if one == payer => return true,
                Some(one) => at = self.payers.get(&one).and_then(|payer| payer.parent),
                None => return false,
            }
        }
        false
    }

    /// What a payer and its branches owe, the oldest due first.
    fn owed_by(&self, payer: CustomerId) -> Vec<&Claim> {
        // Itself and its branches, however far down; a circle ends by itself.
        let mut group = vec![payer];
        let mut at = 0;
        while let Some(one) = group.get(at).copied() {
            let branches = self.branches.get(&one).into_iter().flatten().filter(|branch| !group.contains(branch));
            let branches: Vec<CustomerId> = branches.copied().collect();
            group.extend(branches);
            at += 1;
        }
        let mut places: Vec<usize> =
            group.iter().filter_map(|one| self.by_customer.get(one)).flatten().copied().collect();
        places.sort_unstable();
        places.into_iter().map(|at| &self.claims[at]).filter(|claim| claim.open.is_positive()).collect()
    }

    fn receipts(&self, line: &BankLine) -> Vec<Proposal> {
        let (payer, known_by) = self.payer(line);
        let named = self.named(line);
        let mut found = Vec::new();
        if !named.claims.is_empty() {
            found.extend(self.of_named(line, &named, (payer, known_by)));
        }
        match (payer, known_by) {
            (Some(payer), Some(known_by)) if found.is_empty() || named.doubtful => {
                found.extend(self.of_payer(line, (payer, known_by), named.meant));
            }
            (None, _) if found.is_empty() => found.extend(self.by_amount_alone(line)),
            _ => {}
        }
        found
    }

    /// The items a line names, by reference first.
    fn named<'a>(&'a self, line: &BankLine) -> Named<'a> {
        let mut claims: Vec<(&'a Claim, Clue)> = Vec::new();
        let mut add = |claim: Option<&'a Claim>, reason| {
            let new =
                claim.filter(|claim| claim.open.is_positive() && !claims.iter().any(|(one, _)| one.item == claim.item));
            claims.extend(new.map(|claim| (claim, reason)));
        };
        let said = format!("{} {}", line.reference.as_deref().unwrap_or_default(), line.words);
        let of = |number: &str| match self.by_number.get(number).map(Vec::as_slice) {
            Some([one]) => self.claims.get(*one),
            _ => None,
        };
        let (mut meant, mut doubtful) = (false, false);
        let mut in_references = Vec::new();
        for reference in references_in(&said) {
            let number = reference.get(4..).unwrap_or_default().to_owned();
            let claim = of(&number).filter(|claim| creditor_reference(&claim.number).as_ref() == Some(&reference));
            doubtful |= claim.is_none();
            meant = true;
            add(claim, Clue::Reference);
            in_references.push(number);
        }
        let parts = number_parts(&said);
        for (at, word) in parts.iter().enumerate() {
            // “I-3291”, “i 3291”, “I3291”: letters a number begins with, then digits.
            if !self.prefixes.contains(word)
                || !parts.get(at + 1).is_some_and(|next| next.chars().all(|letter| letter.is_ascii_digit()))
            {
                continue;
            }
            let number = format!("{word}{}", parts[at + 1]);
            if in_references.contains(&number) {
                continue;
            }
            let claim = of(&number);
            meant = true;
            doubtful |= claim.is_none();
            add(claim, Clue::Number);
        }
        Named { claims, meant, doubtful }
    }

    /// A line that says of every document what is paid on it. Nothing where one of them is not open, or they come to something
    /// else than the line.
    fn advised(&self, line: &BankLine) -> Option<Proposal> {
        let said: Money = line.advised.iter().map(|one| one.paid).sum();
        if line.advised.is_empty() || said != line.amount {
            return None;
        }
        let mut to: Vec<ProposedPart> = Vec::with_capacity(line.advised.len());
        let mut owners = BTreeSet::new();
        let mut whole = true;
        for one in &line.advised {
            let [at] = self.by_number.get(&number_parts(&one.number).concat())?.as_slice() else { return None };
            let claim = &self.claims[*at];
            let discount = one.discount.min(claim.discount(line.booked_on));
            let fits = one.paid.is_positive() && one.paid + discount <= claim.open;
            if !fits || to.iter().any(|part| part.item == claim.item) {
                return None;
            }
            whole &= one.paid + discount == claim.open;
            owners.insert(claim.customer);
            to.push(part(claim, one.paid, Beside { discount, ..Beside::default() }));
        }
        let (payer, known_by) = self.payer(line);
        let payer = payer.filter(|payer| owners.iter().all(|owner| self.pays_for(*payer, *owner)));
        let alone = owners.first().copied().filter(|_| owners.len() == 1);
        let customer = payer.or(alone)?;
        let mut because = vec![Clue::Advice];
        because.extend(known_by.filter(|_| payer.is_some()));
        let certainty = if whole { Certainty::Sure } else { Certainty::Likely };
        let score = if whole { 98 } else { 85 };
        Some(Proposal { what: Proposed::Receipt { customer, to }, certainty, score, because })
    }

    /// A line that names what it pays.
    fn of_named(
        &self,
        line: &BankLine,
        named: &Named<'_>,
        (payer, known_by): (Option<CustomerId>, Option<Clue>),
    ) -> Vec<Proposal> {
        let mut because: Vec<Clue> = named.claims.iter().map(|(_, reason)| *reason).collect();
        because.dedup();
        because.extend(known_by);
        let all_by_reference = named.claims.iter().all(|(_, reason)| *reason == Clue::Reference);
        let claims: Vec<&Claim> = named.claims.iter().map(|(claim, _)| *claim).collect();
        let owner = claims.first().map(|claim| claim.customer);
        let one_owner = claims.iter().all(|claim| Some(claim.customer) == owner);
        // The payer itself, or who owes it where the payer is not known or is someone else.
        let fits = payer.is_some_and(|payer| claims.iter().all(|claim| self.pays_for(payer, claim.customer)));
        let Some(customer) = (if fits { payer } else { owner }) else { return Vec::new() };
        let strange = payer.is_some() && !fits;
        let claims: Vec<&Claim> = claims.into_iter().filter(|claim| fits || claim.customer == customer).collect();
        let (how, to, left) = give(line, &claims, self.tolerance);
        because.push(how);
        let exact = matches!(how, Clue::Amount | Clue::Discounted | Clue::Together | Clue::Nearly);
        let sure = exact && !strange && !named.doubtful && (fits || (one_owner && how != Clue::Nearly));
        let certainty = if sure { Certainty::Sure } else { Certainty::Likely };
        let score = 60 + 25 * u8::from(exact) + 10 * u8::from(all_by_reference) + 5 * u8::from(fits)
            - 20 * u8::from(strange || named.doubtful);
        // More came than was named: others of theirs may make up the rest.
        let mut found = vec![Proposal {
            what: Proposed::Receipt { customer, to: to.clone() },
            certainty,
            score,
            because: because.clone(),
        }];
        if left.is_positive() && how == Clue::More {
            let named: Vec<OpenItemId> = to.iter().map(|part| part.item).collect();
            let others: Vec<&Claim> =
                self.owed_by(customer).into_iter().filter(|claim| !named.contains(&claim.item)).collect();
            if let Some(rest) = exactly(line.booked_on, &others, left) {
                let to: Vec<ProposedPart> = to.into_iter().chain(rest).collect();
                because.retain(|reason| *reason != Clue::More);
                because.push(Clue::Together);
                found.push(Proposal {
                    what: Proposed::Receipt { customer, to },
                    certainty: Certainty::Likely,
                    score: score + 5,
                    because,
                });
            }
        }
        found
    }

    /// A line of a payer who is known, and names nothing that is open. `meant` says that it means something by a number.
    pub(super) fn of_payer(
        &self,
        line: &BankLine,
        (payer, known_by): (CustomerId, Clue),
        meant: bool,
    ) -> Vec<Proposal> {
        let owed = self.owed_by(payer);
        let receipt = |to, certainty, score: u8, why: &[Clue]| {
            let because = [&[known_by], why].concat();
            let score = score + 10 * u8::from(known_by == Clue::Account);
            Proposal { what: Proposed::Receipt { customer: payer, to }, certainty, score, because }
        };
        let on = line.booked_on;
        let equal: Vec<(&Claim, bool)> = owed
            .iter()
            .filter_map(|claim| match line.amount {
                amount if amount == claim.open => Some((*claim, false)),
                amount if amount == claim.to_pay(on) => Some((*claim, true)),
                _ => None,
            })
            .collect();
        if let Some((claim, discounted)) = equal.first() {
            let beside = if *discounted { claim.discount(on) } else { Money::ZERO };
            let part = part(claim, line.amount, Beside { discount: beside, ..Beside::default() });
            let sure = equal.len() == 1 && known_by == Clue::Account && !meant;
            let certainty = if sure { Certainty::Sure } else { Certainty::Likely };
            let why = if *discounted { Clue::Discounted } else { Clue::Amount };
            return vec![receipt(vec![part], certainty, if equal.len() == 1 { 75 } else { 65 }, &[why])];
        }
        if let Some(together) = exactly(on, &owed, line.amount) {
            return vec![receipt(together, Certainty::Likely, 60, &[Clue::Together])];
        }
        if let Some(claim) = owed.iter().find(|claim| (claim.to_pay(on) - line.amount).abs() <= self.tolerance) {
            let beside = Beside { discount: claim.discount(on), written_off: claim.to_pay(on) - line.amount };
            return vec![receipt(vec![part(claim, line.amount, beside)], Certainty::Likely, 58, &[Clue::Nearly])];
        }
        let mut left = line.amount;
        let mut to = Vec::new();
        for claim in owed {
            let amount = left.min(claim.open);
            if amount.is_positive() {
                to.push(part(claim, amount, Beside::default()));
                left -= amount;
            }
        }
        vec![receipt(to, Certainty::Possible, 35, &[Clue::Oldest])]
    }

    /// A line of nobody who is known, for nothing that is named: what is open in that very amount.
    fn by_amount_alone(&self, line: &BankLine) -> Vec<Proposal> {
        let equal = self.by_amount.get(&line.amount).map(Vec::as_slice).unwrap_or_default();
        let open: Vec<&Claim> =
            equal.iter().map(|at| &self.claims[*at]).filter(|claim| claim.open == line.amount).collect();
        let alone = open.len() == 1;
        let of = |claim: &&Claim| Proposal {
            what: Proposed::Receipt { customer: claim.customer, to: vec![part(claim, line.amount, Beside::default())] },
            certainty: Certainty::Possible,
            score: if alone { 30 } else { 15 },
            because: vec![Clue::Amount],
        };
        open.iter().take(MOST_PROPOSALS).map(of).collect()
    }
}

struct Named<'a> {
    claims: Vec<(&'a Claim, Clue)>,
    /// A number or a reference stands there.
    meant: bool,
    /// One of them is nothing that is open.
    doubtful: bool,
}

fn said_by_bank(kind: BankLineKind) -> Proposal {
    let because = vec![Clue::BankSays];
    Proposal { what: Proposed::Book { of: kind }, certainty: Certainty::Sure, score: 90, because }
}
