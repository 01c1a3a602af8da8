//! Bank statements: what the bank says happened on an account, and what that is in the books.
//!
//! A statement is taken in once, whatever its file is called: its opening balance is the closing balance of the one before, and
//! its lines lead from one to the other to the cent. Each line is then *cleared* against what the books expected (a receipt, a
//! refund, a payout), becomes a receipt, or is booked to an account; until then it is open, and stays in view.
//! *Source: domain.md section 10; ISO 20022 camt.053, Bank to Customer Statement.*
//!
//! ```
//! use till_core::bank::{Balance, BankLine, BankStatement, Flaw, check};
//! use till_core::money::{Currency, Money};
//! let day = |text: &str| text.parse().unwrap();
//! let balance = |date, amount| Balance { date: day(date), amount: Money(amount) };
//! let statement = BankStatement {
//!     bank_id: "2026-12".to_owned(),
//!     account: "XX00".to_owned(),
//!     currency: Currency::of("EUR").unwrap(),
//!     opening: balance("2026-12-01", 10_000),
//!     closing: balance("2026-12-01", 12_500),
//!     lines: vec![BankLine::plain(day("2026-12-01"), Money(2_500), "thanks")],
//! };
//! assert_eq!(check(&statement, None, day("2026-12-01")), Ok(()));
//! // Its lines do not lead from one balance to the other.
//! let short = BankStatement { lines: Vec::new(), ..statement };
//! assert!(matches!(check(&short, None, day("2026-12-01")), Err(Flaw::Apart { .. })));
//! ```

mod booking;
pub mod columns;
mod expecting;
mod finding;
mod giving;
mod matching;
mod proposal;
mod reconciling;
pub mod slip;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::calendar::words;
use crate::fingerprint;
use crate::money::{Currency, Money};
use crate::remittance::Advised;

pub use booking::{BookDecision, BookInput, Booking, book};
pub use expecting::{CameBack, fee_of};
pub use matching::Index;
pub use proposal::{Certainty, Claim, Clue, Expected, Paid, Payer, Proposal, Proposed, ProposedPart};
pub use reconciling::{Reconciliation, ToReconcile, reconcile};

/// A balance of an account at the begin or the end of a day, as the bank says it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Balance {
    /// The day.
    pub date: NaiveDate,
    /// How much, in the account's currency; below zero where it is overdrawn.
    pub amount: Money,
}

/// What a bank says a line is, as far as it says so.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum BankLineKind {
    /// Money from or to someone.
    Transfer,
    /// A check or a transfer that came back.
    Returned,
    /// What the bank takes for its work.
    Fee,
    /// Interest, either way.
    Interest,
    /// Checks and cash that were taken to the bank.
    Deposit,
    /// Cards that were paid out.
    CardPayout,
}

impl BankLineKind {
    /// Every kind.
    pub const ALL: [Self; 6] =
        [Self::Transfer, Self::Returned, Self::Fee, Self::Interest, Self::Deposit, Self::CardPayout];

    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Transfer => "transfer",
            Self::Returned => "returned",
            Self::Fee => "fee",
            Self::Interest => "interest",
            Self::Deposit => "deposit",
            Self::CardPayout => "card_payout",
        }
    }

    /// The kind with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }

    /// The kind that a bank transaction code says: domain, family and sub-family. *Source: ISO 20022 external code set for bank
    /// transaction codes, from memory.*
    pub fn of_code(domain: &str, family: &str, sub: &str) -> Self {
        match (domain, family, sub) {
            (_, _, "INTR") => Self::Interest,
            (_, _, "CHRG" | "FEES" | "COMM") | ("ACMT", _, _) => Self::Fee,
            (_, _, "RRTN" | "UPCQ" | "CQRV" | "RRCT") => Self::Returned,
            ("PMNT", "CNTR" | "RCHQ", _) => Self::Deposit,
            ("PMNT", "MCRD" | "CCRD", _) => Self::CardPayout,
            _ => Self::Transfer,
        }
    }
}

/// A line of a statement: money that came to the account, or left it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BankLine {
    /// When the bank booked it.
    pub booked_on: NaiveDate,
    /// From when on it counts for interest; none where the bank does not say.
    pub value_on: Option<NaiveDate>,
    /// How much, in the account's currency; below zero where it left.
    pub amount: Money,
    /// What it is.
    pub kind: BankLineKind,
    /// What the payer wrote.
    pub words: String,
    /// The structured reference the payer gave; none where it gave none.
    pub reference: Option<String>,
    /// Who paid, or was paid.
    pub party: Option<String>,
    /// The account it came from, or went to.
    pub party_account: Option<String>,
    /// The bank's own reference.
    pub bank_reference: Option<String>,
    /// What the payer says it is for, document by document; empty where nothing is said.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub advised: Vec<Advised>,
}

impl BankLine {
    /// A line that says nothing but its amount and its words.
    pub fn plain(booked_on: NaiveDate, amount: Money, words: &str) -> Self {
        Self {
            booked_on,
            value_on: None,
            amount,
            kind: BankLineKind::Transfer,
            words: words.to_owned(),
            reference: None,
            party: None,
            party_account: None,
            bank_reference: None,
            advised: Vec::new(),
        }
    }
}

/// A statement of an account, as the bank gave it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BankStatement {
    /// What the bank calls it.
    pub bank_id: String,
    /// The account, as the bank names it: an IBAN, or a number of its own.
    pub account: String,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// The balance before the first line.
    pub opening: Balance,
    /// The balance after the last line.
    pub closing: Balance,
    /// The lines, in the bank's order.
    pub lines: Vec<BankLine>,
}

impl BankStatement {
    /// The same for the same statement, whatever the file was called and however often it is sent: account, balances and lines.
    pub fn mark(&self) -> String {
        fingerprint::of(&(&self.account, self.currency.code(), self.opening, self.closing, &self.lines))
    }
}

/// The statement of an account that was taken in before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Before {
    /// Our number of it.
    pub number: String,
    /// Its closing balance.
    pub closing: Balance,
}

/// Why a statement cannot be taken in.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Flaw {
    /// Its balances and its lines do not agree.
    #[error(
        "The statement opens with {opening} and closes with {closing}, but its lines come to {lines}. The file is not whole: get it from the bank again."
    )]
    Apart {
        /// Opening balance.
        opening: String,
        /// Closing balance.
        closing: String,
        /// Sum of the lines.
        lines: String,
    },
    /// Something between it and the one before is missing.
    #[error(
        "{before} closed with {closed} on {day}, this statement opens with {opening}: one in between is missing. Import that first."
    )]
    Gap {
        /// The one before.
        before: String,
        /// How it closed.
        closed: String,
        /// When.
        day: String,
        /// How this one opens.
        opening: String,
    },
    /// A line of it is dated after today.
    #[error("A line is booked on {day}, after today. Import the statement once that day has come.")]
    Ahead {
        /// The day.
        day: String,
    },
    /// A line of nothing.
    #[error("Line {line} has no amount. Get the file from the bank again.")]
    Nothing {
        /// Its place, from one.
        line: usize,
    },
}

/// Whether a statement can be taken in after the one before it. Dates of lines may lie before the statement: banks book late.
///
/// # Errors
/// What is wrong with it.
pub fn check(statement: &BankStatement, before: Option<&Before>, today: NaiveDate) -> Result<(), Flaw> {
    let said = |amount: Money| statement.currency.grouped(amount);
    if let Some(at) = statement.lines.iter().position(|line| line.amount.is_zero()) {
        return Err(Flaw::Nothing { line: at + 1 });
    }
    let lines: Money = statement.lines.iter().map(|line| line.amount).sum();
    if statement.opening.amount + lines != statement.closing.amount {
        return Err(Flaw::Apart {
            opening: said(statement.opening.amount),
            closing: said(statement.closing.amount),
            lines: said(lines),
        });
    }
    let days = statement.lines.iter().map(|line| line.booked_on).chain([statement.closing.date]);
    if let Some(day) = days.max().filter(|day| *day > today) {
        return Err(Flaw::Ahead { day: words(day) });
    }
    match before {
        Some(before) if before.closing.amount != statement.opening.amount => Err(Flaw::Gap {
            before: before.number.clone(),
            closed: said(before.closing.amount),
            day: words(before.closing.date),
            opening: said(statement.opening.amount),
        }),
        _ => Ok(()),
    }
}

/// An account number without gaps, in capitals: as banks and people write it, it is the same.
pub fn plain_account(text: &str) -> String {
    text.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_ascii_uppercase()
}

/// The number of an account of ours as typed, without gaps; none where none was.
///
/// # Errors
/// What to write instead.
pub fn account_number(typed: &str) -> Result<Option<String>, String> {
    let number = plain_account(typed);
    if number.is_empty() && typed.trim().is_empty() {
        return Ok(None);
    }
    if !(4..=34).contains(&number.len()) {
        return Err("Write the IBAN, or the number that stands on the bank's statements: 4 to 34 letters and digits."
            .to_owned());
    }
    let country = number.get(..2).is_some_and(|head| head.chars().all(char::is_alphabetic));
    if country && number.len() >= 15 && !is_iban(&number) {
        return Err("The check digits of this IBAN do not fit. Look for a digit typed wrong.".to_owned());
    }
    Ok(Some(number))
}

/// Whether a text is an IBAN: two letters, two check digits, up to 30 letters and digits, and the check digits fit.
/// *Source: ISO 13616; check values by python-stdnum. How long each country's are is not checked.*
pub fn is_iban(text: &str) -> bool {
    let plain = plain_account(text);
    let (Some(head), Some(rest)) = (plain.get(..4), plain.get(4..)) else { return false };
    head[..2].bytes().all(|letter| letter.is_ascii_uppercase())
        && head[2..].bytes().all(|digit| digit.is_ascii_digit())
        && (11..=30).contains(&rest.len())
        && crate::settle::remainder_97(&format!("{rest}{head}")) == 1
}
