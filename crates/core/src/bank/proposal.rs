//! What a line of a bank statement is matched with, and what it is proposed to be: with why, and how sure.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use super::BankLineKind;
use crate::ids::{CustomerId, DocumentRef, EntryId, OpenItemId};
use crate::money::Money;
use crate::settle::Beside;

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
    pub(super) fn to_pay(&self, on: NaiveDate) -> Money {
        self.open - self.discount(on)
    }

    pub(super) fn discount(&self, on: NaiveDate) -> Money {
        // What was paid without a share may leave less open than the discount comes to.
        self.early.filter(|(_, until)| on <= *until).map_or(Money::ZERO, |(amount, _)| amount.min(self.open))
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

/// A payment that came to the account, and may come back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Paid {
    /// The receipt, or the deposit.
    pub receipt: DocumentRef,
    /// Whose.
    pub customer: CustomerId,
    /// How much, in the currency of the bank account.
    pub amount: Money,
    /// When.
    pub date: NaiveDate,
    /// What was noted with it: the number of a check.
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
    /// The payer's own list says so.
    Advice,
    /// The bank counted another amount than stands on the slip.
    Counted,
    /// A payment came in over that amount.
    Paid,
    /// It is more than that payment: the bank takes a fee with it.
    WithFee,
    /// Someone looked for it.
    Searched,
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
        /// What the bank counted more of a slip; below zero where it counted less. Else zero.
        apart: Money,
    },
    /// A payment that came back: its receipt, or its deposit, is reversed.
    Returned {
        /// The receipt, or the deposit.
        receipt: DocumentRef,
        /// What the bank takes for it with the same line; zero where nothing.
        fee: Money,
    },
    /// A receipt of a customer.
    Receipt {
        /// Whose.
        customer: CustomerId,
        /// What goes to which item, and what is settled beside it. What is left stays unapplied.
        to: Vec<ProposedPart>,
    },
    /// Nobody's payment: a fee, interest.
    Book {
        /// Which, as the bank says.
        of: BankLineKind,
    },
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
