//! Returns: goods that customers send back, from the authorization to what becomes of them.
//!
//! A return is authorized by pointing at billed lines: price, tax and cost come from there. Authorizing writes
//! nothing to the ledger. What arrives goes to the inspection place at the cost it left with; inspection decides
//! what becomes of it, a quantity at a time; a credit memo, a replacement or sending it back settles it with the
//! customer. *Source: domain.md section 9; postings.md, Goods.*
//!
//! A billed line's quantity is in one of three places: credited, on a return (expected, or back and not credited),
//! or free to be returned or credited. [`Progress`] says how much of it a return holds; nothing else does.
//!
//! ```
//! use till_core::fixed::Quantity;
//! use till_core::returns::Progress;
//! let pieces = Quantity::from_whole;
//! // 4 authorized, 3 came, 1 of them was sent back again and 1 is credited.
//! let line = Progress {
//!     authorized: pieces(4),
//!     received: pieces(3),
//!     sent_back: pieces(1),
//!     credited: pieces(1),
//!     ..Progress::default()
//! };
//! assert_eq!(line.to_settle(), pieces(1));
//! assert_eq!(line.expected(true), pieces(1));
//! // While it may still arrive, what is expected is held too; once the return is over, it is free again.
//! assert_eq!((line.held(true), line.held(false)), (pieces(2), pieces(1)));
//! ```

mod accruing;
mod authorizing;
mod claiming;
mod costing;
mod expecting;
mod inspecting;
mod origin;
mod picturing;
mod receiving;
mod repairing;
mod replacing;
mod reporting;
mod swapping;
mod undoing;

pub use accruing::{AccrueDecision, AccrueInput, BackLine, accrue, first_of_next_month, last_month_end};
pub use authorizing::{
    AuthorizeDecision, AuthorizeInput, LineExtended, ReturnWish, Returnable, authorize, check_expiry, check_extension,
};
pub use claiming::{ClaimDecision, ClaimInput, UndoAnswerInput, answer_claim, claim_open, undo_answer};
pub use costing::{GoodsMoved, Lot, lots_out, take_back};
pub use expecting::{Estimate, ExpectDecision, ExpectInput, expect, expected};
pub use inspecting::{InspectDecision, InspectInput, Inspected, LineInspected, LineToInspect, inspect};
pub use origin::{Origin, ProofPolicy, ReturnLimit, beyond_the_line, follows};
pub use picturing::{ALL_PICTURES, LARGEST_PICTURE, MOST_PICTURES, Picture, PictureFormat, Pictures, check_picture};
pub use receiving::{ArrivalCost, ArrivingLine, LineReceived, LineToReceive, ReceiveDecision, ReceiveInput, receive};
pub use repairing::{Repair, RepairDecision, RepairInput, repair};
pub use replacing::{ReplaceDecision, ReplaceInput, replace};
pub use reporting::{Happened, ReportFact, ReportRow, report};
pub use swapping::{BilledItem, SentItem, SwapDecision, SwapInput, swap};
pub use undoing::{HeldAgain, OutAgain, UndoStepDecision, UndoStepInput, undo_step};

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::calendar::words;
use crate::checks::{Check, Findings};
use crate::fixed::Quantity;
use crate::ids::ReturnLineId;
use crate::room::Movement;

/// How long a return may arrive, where the company says nothing else. *Source: domain.md section 9.*
pub const DEFAULT_DAYS: i64 = 60;

/// What becomes of goods that came back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ReturnOutcome {
    /// Sold again: a new layer of stock, of the day.
    Restock,
    /// Cannot be sold any more.
    Scrap,
    /// Goes back to the supplier, who is to credit something for it.
    Supplier,
    /// Rejected: sent back to the customer, who gets no credit for it.
    SendBack,
}

impl ReturnOutcome {
    /// Every outcome.
    pub const ALL: [Self; 4] = [Self::Restock, Self::Scrap, Self::Supplier, Self::SendBack];

    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Restock => "restock",
            Self::Scrap => "scrap",
            Self::Supplier => "supplier",
            Self::SendBack => "send_back",
        }
    }

    /// The outcome with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|outcome| outcome.word() == word)
    }

    /// As people say it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Restock => "restocked",
            Self::Scrap => "scrapped",
            Self::Supplier => "back to the supplier",
            Self::SendBack => "sent back to the customer",
        }
    }
}

/// What a company calls what becomes of returned goods: several may have the same outcome.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Disposition {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// What becomes of the goods.
    pub outcome: ReturnOutcome,
    /// Whether it is offered still.
    pub active: bool,
}

/// Why goods come back, as a company says it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnReason {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// Whether it is offered still.
    pub active: bool,
}

/// Whether a reason or a disposition can be added or changed so.
///
/// # Errors
/// The field and what to write instead.
pub fn check_code(code: &str, name: &str) -> Result<(), (&'static str, String)> {
    let right = (2..=12).contains(&code.len())
        && code.chars().all(|character| character.is_ascii_uppercase() || character.is_ascii_digit());
    if !right {
        return Err(("code", "A code has 2 to 12 capital letters and digits, such as DAMAGED.".to_owned()));
    }
    if name.trim().is_empty() || name.chars().count() > 60 {
        return Err(("name", "Write a name of 60 characters at most.".to_owned()));
    }
    Ok(())
}

/// How far a line of a return is, in the unit it was sold in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Progress {
    /// What may come back.
    pub authorized: Quantity,
    /// What came back.
    pub received: Quantity,
    /// What of it was rejected and sent back to the customer.
    pub sent_back: Quantity,
    /// For how much of it the customer got a replacement at no charge.
    pub replaced: Quantity,
    /// What of it is credited.
    pub credited: Quantity,
    /// What of it was not billed: nothing is to be credited, its quantity went back to the order.
    #[serde(default)]
    pub given_back: Quantity,
    /// What came in for repair: it stays the customer's.
    #[serde(default)]
    pub for_repair: Quantity,
    /// What of that went back.
    #[serde(default)]
    pub repaired: Quantity,
    /// What of that was received after all, at its cost: it is among what came back too.
    #[serde(default)]
    pub kept: Quantity,
}

impl Progress {
    const fn less(from: Quantity, what: i64) -> Quantity {
        Quantity::from_scaled(from.scaled() - what)
    }

    /// What came back and is neither credited, nor replaced, nor sent back, nor given back to its order.
    pub const fn to_settle(&self) -> Quantity {
        let settled = self.sent_back.scaled() + self.replaced.scaled() + self.credited.scaled();
        Self::less(self.received, settled + self.given_back.scaled())
    }

    /// What is still to arrive; nothing once the return is over.
    pub fn expected(&self, live: bool) -> Quantity {
        if !live {
            return Quantity::ZERO;
        }
        Quantity::from_scaled((self.authorized.scaled() - self.arrived().scaled()).max(0))
    }

    /// What arrived, to stay or for repair; what is kept of that arrived once.
    pub const fn arrived(&self) -> Quantity {
        Quantity::from_scaled(self.received.scaled() + self.for_repair.scaled() - self.kept.scaled())
    }

    /// What is in for repair.
    pub const fn in_repair(&self) -> Quantity {
        Self::less(self.for_repair, self.repaired.scaled() + self.kept.scaled())
    }

    /// What the return holds of its billed line without its being credited: expected, in for repair, or back. It can neither go on
    /// another return nor be credited as if it had stayed with the customer.
    pub fn held(&self, live: bool) -> Quantity {
        let held = self.expected(live).scaled() + self.to_settle().scaled() + self.in_repair().scaled();
        Quantity::from_scaled(held)
    }
}

/// What a return still needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum NextStep {
    /// Goods wait at the inspection place.
    Inspect,
    /// What came back is to be credited, replaced or sent back.
    Settle,
    /// Goods are in for repair.
    Repair,
    /// The goods are expected.
    Receive,
    /// Nothing: it is over.
    Nothing,
}

/// What a return still needs, of its lines, and of what waits for inspection.
pub fn next_step(lines: &[Progress], waiting: bool, live: bool) -> NextStep {
    if waiting {
        NextStep::Inspect
    } else if lines.iter().any(|line| line.to_settle().is_positive()) {
        NextStep::Settle
    } else if lines.iter().any(|line| line.in_repair().is_positive()) {
        NextStep::Repair
    } else if lines.iter().any(|line| line.expected(live).is_positive()) {
        NextStep::Receive
    } else {
        NextStep::Nothing
    }
}

/// How a return ended, or that it did not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ReturnState {
    /// Something is expected, or to be done.
    Open,
    /// Everything that came is settled.
    Done,
    /// Its last day passed before anything came.
    Expired,
    /// Given up before anything came.
    Canceled,
}

/// Whether goods may still arrive: not given up, and the last day has not passed.
pub fn is_live(closed_on: Option<NaiveDate>, expires_on: NaiveDate, today: NaiveDate) -> bool {
    closed_on.is_none() && today <= expires_on
}

/// The state a return is in.
pub fn state(lines: &[Progress], next: NextStep, closed: bool) -> ReturnState {
    let came = lines.iter().any(|line| line.received.is_positive() || line.for_repair.is_positive());
    match (next, came, closed) {
        (NextStep::Nothing, true, _) => ReturnState::Done,
        (NextStep::Nothing, false, true) => ReturnState::Canceled,
        (NextStep::Nothing, false, false) => ReturnState::Expired,
        _ => ReturnState::Open,
    }
}

/// What of a billed line is free to be returned, or credited as staying with the customer: billed, less what was
/// credited, less what returns hold. One rule for both, so that no mix of them goes above what was billed.
pub fn free(billed: Quantity, credited: Quantity, on_returns: Quantity) -> Quantity {
    Quantity::from_scaled((billed.scaled() - credited.scaled() - on_returns.scaled()).max(0))
}

/// What a credit memo takes of a line of a return: goods that were received on it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OnReturn {
    /// The line.
    pub line: ReturnLineId,
    /// Number of the return.
    pub number: String,
    /// What came back of it and was settled, day by day, in ten-thousandths of the unit it was sold in.
    pub movements: Vec<Movement>,
}

/// Notes where more is settled than was received by a day: credited, replaced or sent back.
pub(crate) fn check_received(
    (number, code): (&str, &str),
    (wanted, date): (Quantity, NaiveDate),
    movements: &[Movement],
    field: &str,
    findings: &mut Findings,
) {
    let room = crate::room::room_from(date, movements);
    if wanted.scaled() <= room {
        return;
    }
    let there = Quantity::from_scaled(crate::room::balance_on(NaiveDate::MAX, movements).max(0));
    if wanted > there {
        let sentence = match there.is_positive() {
            true => format!("Of what came back of {code} on {number}, {there} are not settled yet."),
            false => format!("Nothing of {code} is back on {number} that is not settled. Receive it first."),
        };
        findings.add(Check::MoreThanReturned, field, sentence);
    } else {
        let when = crate::room::first_day(wanted.scaled(), movements)
            .map_or_else(String::new, |day| format!(" Choose {} or later.", words(day)));
        let sentence = format!("On {} not so much of {code} had come back on {number}.{when}", words(date));
        findings.add(Check::DateTooEarly, "date", sentence);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const fn pieces(whole: i64) -> Quantity {
        Quantity::from_whole(whole)
    }

    /// What is held is what is expected and what is back unsettled; crediting, replacing and sending back free it.
    #[test]
    fn a_return_holds_what_it_expects_and_what_is_back() {
        let mut line = Progress { authorized: pieces(5), ..Progress::default() };
        assert_eq!((line.held(true), line.held(false)), (pieces(5), pieces(0)));
        line.received = pieces(3);
        assert_eq!((line.held(true), line.held(false), line.to_settle()), (pieces(5), pieces(3), pieces(3)));
        line.replaced = pieces(1);
        line.sent_back = pieces(1);
        assert_eq!((line.held(true), line.held(false), line.to_settle()), (pieces(3), pieces(1), pieces(1)));
        line.credited = pieces(1);
        assert_eq!((line.held(true), line.held(false)), (pieces(2), pieces(0)));
        // Of five that are not billed two came back: they are the order's again, three are expected.
        let unbilled =
            Progress { authorized: pieces(5), received: pieces(2), given_back: pieces(2), ..Progress::default() };
        assert_eq!(
            (unbilled.to_settle(), unbilled.held(true), unbilled.held(false)),
            (pieces(0), pieces(3), pieces(0))
        );
        // One went back repaired, one is in for repair: of five, two are still expected.
        let repair = Progress { authorized: pieces(5), received: pieces(1), ..Progress::default() };
        let repair = Progress { for_repair: pieces(2), repaired: pieces(1), ..repair };
        assert_eq!((repair.expected(true), repair.in_repair(), repair.to_settle()), (pieces(2), pieces(1), pieces(1)));
        assert_eq!((repair.held(true), repair.held(false)), (pieces(4), pieces(2)));
        // The one that is in for repair is received after all: two are back, nothing is in for repair, two still expected.
        let kept = Progress { received: pieces(2), kept: pieces(1), ..repair };
        assert_eq!((kept.expected(true), kept.in_repair(), kept.to_settle()), (pieces(2), pieces(0), pieces(2)));
        assert_eq!(kept.arrived(), pieces(3));
        // More came than was announced: nothing is expected any more, all of it is held.
        line.received = pieces(7);
        assert_eq!((line.expected(true), line.held(true)), (pieces(0), pieces(4)));
    }

    #[test]
    fn the_next_step_is_what_waits_longest() {
        let expected = Progress { authorized: pieces(2), ..Progress::default() };
        let back = Progress { received: pieces(2), ..expected };
        let settled = Progress { credited: pieces(2), ..back };
        assert_eq!(next_step(&[expected, back], true, true), NextStep::Inspect);
        assert_eq!(next_step(&[expected, back], false, true), NextStep::Settle);
        assert_eq!(next_step(&[expected, settled], false, true), NextStep::Receive);
        assert_eq!(next_step(&[expected, settled], false, false), NextStep::Nothing);
        let of = |lines: &[Progress], live, closed| state(lines, next_step(lines, false, live), closed);
        assert_eq!(of(&[settled], true, false), ReturnState::Done);
        assert_eq!(of(&[expected], true, false), ReturnState::Open);
        assert_eq!(of(&[expected], false, false), ReturnState::Expired);
        assert_eq!(of(&[expected], false, true), ReturnState::Canceled);
    }

    #[test]
    fn a_code_is_capital_letters() {
        assert_eq!(check_code("DAMAGED", "Damaged in transit"), Ok(()));
        assert_eq!(check_code("damaged", "Damaged").unwrap_err().0, "code");
        assert_eq!(check_code("D", "Damaged").unwrap_err().0, "code");
        assert_eq!(check_code("DAMAGED", " ").unwrap_err().0, "name");
    }
}
