//! What a line of a bank statement is: what the books expected, or whose payment of what.
//!
//! Each proposal says why, and how sure it is. *Sure* means that nothing else it could be is known: such lines are accepted
//! together. *Likely* is what a clerk would try first; *possible* is better than nothing. Everything is looked up: the cost of a
//! line does not grow with the company. *Source: domain.md section 10.*

use std::collections::{BTreeSet, HashMap};

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use super::{BankLine, BankLineKind, plain_account};
use crate::ids::{CustomerId, DocumentRef, EntryId, OpenItemId};
use crate::money::Money;
use crate::settle::{Beside, creditor_reference, number_parts, references_in, sum_of};

/// Something a customer owes that a line may pay.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Claim {
    /// The open item.
    pub item: OpenItemId,
    /// Who owes it.
    pub customer: CustomerId,
    /// Number of its document.
    pub number: String,
    /// What is open, in the currency of the bank account.
    pub open: Money,
    /// When its next part is due.
    pub due: NaiveDate,
    /// What paying early takes off, and the last day for that; none where nothing does.
    pub early: Option<(Money, NaiveDate)>,
}

impl Claim {
    /// What is to be paid of it with money that came on a day.
    fn to_pay(&self, on: NaiveDate) -> Money {
        self.open - self.discount(on)
    }

    fn discount(&self, on: NaiveDate) -> Money {
        self.early.filter(|(_, until)| on <= *until).map_or(Money::ZERO, |(amount, _)| amount)
    }
}

/// Someone who pays.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Payer {
    /// Who.
    pub customer: CustomerId,
    /// The name.
    pub name: String,
    /// Who pays for it; none where it does itself.
    pub parent: Option<CustomerId>,
    /// Bank accounts it has paid from.
    pub accounts: Vec<String>,
}

/// Something in the books that the bank has not said yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Expected {
    /// The entry that moved the ledger account.
    pub entry: EntryId,
    /// What wrote it.
    pub document: DocumentRef,
    /// By how much, in the currency of the bank account; below zero where it left.
    pub amount: Money,
    /// When.
    pub date: NaiveDate,
    /// Whose money; none where it is no customer's alone.
    pub customer: Option<CustomerId>,
    /// What was noted with it: a check number, words of a transfer, a payout's reference.
    pub words: String,
}

/// How sure a proposal is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Certainty {
    /// It may be that.
    Possible,
    /// It is that, unless someone knows better.
    Likely,
    /// Nothing else is known that it could be.
    Sure,
}

/// A reason for a proposal, as a fact that was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Clue {
    /// It carries the payment reference of what it pays.
    Reference,
    /// It names the number of what it pays.
    Number,
    /// The account it came from is known.
    Account,
    /// The payer is called as a customer is.
    Name,
    /// It is what one item has open.
    Amount,
    /// It is what one item has open, less the discount for paying early.
    Discounted,
    /// It is that but for a difference within the tolerance.
    Nearly,
    /// It is what several items come to.
    Together,
    /// It is less than what it names.
    Part,
    /// It is more than what it names: the rest stays unapplied.
    More,
    /// It goes to what is due first.
    Oldest,
    /// The books expected that amount.
    Expected,
    /// The bank says so by its code.
    BankSays,
}

/// What a line is proposed to be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Proposed {
    /// What the books expected.
    Clears {
        /// The entry.
        entry: EntryId,
        /// What wrote it.
        document: DocumentRef,
    },
    /// A receipt of a customer.
    Receipt {
        /// Whose.
        customer: CustomerId,
        /// What goes to which item, and what is settled beside it. What is left stays unapplied.
        to: Vec<ProposedPart>,
    },
    /// A fee.
    Fee,
    /// Interest.
    Interest,
}

/// An amount for an item.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ProposedPart {
    /// The item.
    pub item: OpenItemId,
    /// How much of the line.
    pub amount: Money,
    /// What is settled beside it.
    pub beside: Beside,
}

/// A proposal with its reasons.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Proposal {
    /// What.
    #[serde(flatten)]
    pub what: Proposed,
    /// How sure.
    pub certainty: Certainty,
    /// 0 to 100, to put proposals in their order.
    pub score: u8,
    /// Why.
    pub because: Vec<Clue>,
}

/// How many days before the bank books it something is expected at most, and after.
const EXPECTED_BEFORE: i64 = 60;
const EXPECTED_AFTER: i64 = 5;
/// Items of one payer that are tried for a sum: a coincidence is likelier than a meaning beyond.
const MOST_ITEMS: usize = 24;
/// How many proposals a line gets at most.
const MOST_PROPOSALS: usize = 4;

/// Everything that lines are looked up in. Made once for a statement.
#[derive(Debug)]
pub struct Index {
    claims: Vec<Claim>,
    payers: HashMap<CustomerId, Payer>,
    tolerance: Money,
    by_number: HashMap<String, Vec<usize>>,
    /// Letters that numbers of documents begin with: a word that begins so is meant as one.
    prefixes: BTreeSet<String>,
    by_customer: HashMap<CustomerId, Vec<usize>>,
    by_amount: HashMap<Money, Vec<usize>>,
    by_item: HashMap<OpenItemId, usize>,
    branches: HashMap<CustomerId, Vec<CustomerId>>,
    by_account: HashMap<String, Vec<CustomerId>>,
    by_name: HashMap<String, Vec<CustomerId>>,
    expected: HashMap<Money, Vec<Expected>>,
}

/// A name without what tells no one from another: case, signs, and the form of the company. *Common practice, no source, for the
/// forms.*
fn plain_name(name: &str) -> String {
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
            index.expected.entry(one.amount).or_default().push(one);
        }
        index.claims = claims;
        index
    }

    /// Takes away what was just accepted, so that the next line does not take it again.
    pub fn accepted(&mut self, proposal: &Proposal) {
        match &proposal.what {
            Proposed::Clears { entry, .. } => {
                for entries in self.expected.values_mut() {
                    entries.retain(|one| one.entry != *entry);
                }
            }
            Proposed::Receipt { to, .. } => {
                for part in to {
                    let at = self.by_item.get(&part.item).copied();
                    if let Some(claim) = at.and_then(|at| self.claims.get_mut(at)) {
                        claim.open = claim.open - part.amount - part.beside.sum();
                    }
                }
            }
            Proposed::Fee | Proposed::Interest => {}
        }
    }

    /// What a line may be, the best first.
    pub fn propose(&self, line: &BankLine) -> Vec<Proposal> {
        let mut found = self.clears(line);
        match line.kind {
            BankLineKind::Fee => found.push(said_by_bank(Proposed::Fee)),
            BankLineKind::Interest => found.push(said_by_bank(Proposed::Interest)),
            _ if line.amount.is_positive() => found.extend(self.receipts(line)),
            _ => {}
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

    /// What the books expected of that amount about that day.
    fn clears(&self, line: &BankLine) -> Vec<Proposal> {
        let near = |one: &&Expected| {
            let days = (line.booked_on - one.date).num_days();
            (-EXPECTED_AFTER..=EXPECTED_BEFORE).contains(&days)
        };
        let fits: Vec<&Expected> = self.expected.get(&line.amount).into_iter().flatten().filter(near).collect();
        let (payer, _) = self.payer(line);
        let said = number_parts(&format!("{} {}", line.words, line.reference.as_deref().unwrap_or_default())).concat();
        let names = |one: &Expected| {
            let number = number_parts(&one.document.number).concat();
            let noted = number_parts(&one.words).concat();
            said.contains(&number) || (noted.len() >= 4 && said.contains(&noted))
        };
        let of_payer = |one: &Expected| one.customer.is_some() && one.customer == payer;
        let alone = fits.len() == 1;
        let mut found: Vec<Proposal> = fits
            .iter()
            .map(|one| {
                let mut because = vec![Clue::Expected];
                let (named, theirs) = (names(one), of_payer(one));
                because.extend(named.then_some(Clue::Number));
                because.extend(theirs.then_some(Clue::Account));
                // Someone else's money of the same amount is another payment.
                let others = payer.is_some() && one.customer.is_some() && !theirs;
                let certainty = match (named || theirs, others) {
                    (true, false) => Certainty::Sure,
                    (_, true) => Certainty::Possible,
                    (false, false) if alone => Certainty::Likely,
                    (false, false) => Certainty::Possible,
                };
                let score = 50 + 30 * u8::from(named) + 20 * u8::from(theirs) - 30 * u8::from(others);
                let what = Proposed::Clears { entry: one.entry, document: one.document.clone() };
                Proposal { what, certainty, score, because }
            })
            .collect();
        let sure = found.iter().filter(|proposal| proposal.certainty == Certainty::Sure).count();
        if sure > 1 {
            found.iter_mut().for_each(|proposal| proposal.certainty = proposal.certainty.min(Certainty::Likely));
        }
        found
    }

    /// Who paid, as far as the line says: by its account, or by a name that only one has.
    fn payer(&self, line: &BankLine) -> (Option<CustomerId>, Option<Clue>) {
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
        let sure =
            exact && !strange && !named.doubtful && one_owner_or(fits, one_owner) && (how != Clue::Nearly || fits);
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
    fn of_payer(&self, line: &BankLine, (payer, known_by): (CustomerId, Clue), meant: bool) -> Vec<Proposal> {
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

/// Whether all that is named is one customer's, or of those the payer pays for.
const fn one_owner_or(fits: bool, one_owner: bool) -> bool {
    fits || one_owner
}

struct Named<'a> {
    claims: Vec<(&'a Claim, Clue)>,
    /// A number or a reference stands there.
    meant: bool,
    /// One of them is nothing that is open.
    doubtful: bool,
}

fn said_by_bank(what: Proposed) -> Proposal {
    Proposal { what, certainty: Certainty::Sure, score: 90, because: vec![Clue::BankSays] }
}

const fn part(claim: &Claim, amount: Money, beside: Beside) -> ProposedPart {
    ProposedPart { item: claim.item, amount, beside }
}

/// Gives a line to the items it names, and says how the two compare. Last, what is left.
fn give(line: &BankLine, claims: &[&Claim], tolerance: Money) -> (Clue, Vec<ProposedPart>, Money) {
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
fn exactly(on: NaiveDate, claims: &[&Claim], amount: Money) -> Option<Vec<ProposedPart>> {
    let claims = &claims[..claims.len().min(MOST_ITEMS)];
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
