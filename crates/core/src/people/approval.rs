//! Approvals: what is above someone's limit waits for someone else.

use serde::{Deserialize, Serialize};

use super::{Limits, Operation, Role, Verdict, decide, denied};
use crate::ids::PersonId;
use crate::money::Money;

/// Where an approval stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ApprovalState {
    /// Waits for someone who can approve it.
    Waiting,
    /// Approved and carried out.
    Approved,
    /// Declined, with a reason.
    Declined,
    /// Taken back by who asked.
    Withdrawn,
}

impl ApprovalState {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Approved => "approved",
            Self::Declined => "declined",
            Self::Withdrawn => "withdrawn",
        }
    }

    /// The state with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::Waiting, Self::Approved, Self::Declined, Self::Withdrawn].into_iter().find(|state| state.word() == word)
    }
}

/// What was asked for, as far as deciding on it goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Approval {
    /// What is to be done.
    pub operation: Operation,
    /// Over which amount, in base currency.
    pub amount: Money,
    /// What typed prices and discounts of an order give away, in base currency; zero for anything else.
    pub gives_away: Money,
    /// Who asked.
    pub maker: PersonId,
    /// Where it stands.
    pub state: ApprovalState,
}

/// Who wants to decide on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Question {
    /// The person.
    pub person: PersonId,
    /// The person's role.
    pub role: Role,
}

/// Whether someone may approve: not their own, only what waits, only what they may do themselves.
///
/// # Errors
/// A sentence that says why not, and who can.
pub fn decide_approval(approval: &Approval, who: Question, limits: &Limits) -> Result<(), String> {
    waiting(approval)?;
    if let Verdict::Denied(why) = decide(who.role, Operation::DecideApproval, Money::ZERO, limits) {
        return Err(why);
    }
    if approval.maker == who.person {
        return Err("You asked for this yourself. Someone else has to approve it.".to_owned());
    }
    let given = decide(who.role, Operation::ChangePrice, approval.gives_away, limits);
    match decide(who.role, approval.operation, approval.amount, limits) {
        Verdict::Allowed if approval.gives_away.is_zero() || given == Verdict::Allowed => Ok(()),
        Verdict::Allowed | Verdict::NeedsApproval(_) => Err(format!(
            "This is above the limit of a {} too. Ask an administrator to raise the limit, or decline it.",
            who.role.name()
        )),
        Verdict::Denied(why) => Err(why),
    }
}

/// Whether someone may decline it: who has the right to decide, and did not ask for it.
///
/// # Errors
/// A sentence that says why not.
pub fn decide_decline(approval: &Approval, who: Question) -> Result<(), String> {
    waiting(approval)?;
    if !super::may_try(who.role, Operation::DecideApproval) {
        Err(denied(who.role, Operation::DecideApproval))
    } else if approval.maker == who.person {
        Err("You asked for this yourself. Withdraw it instead.".to_owned())
    } else {
        Ok(())
    }
}

/// Whether someone may take it back: only who asked, only while it waits.
///
/// # Errors
/// A sentence that says why not.
pub fn decide_withdrawal(approval: &Approval, who: Question) -> Result<(), String> {
    waiting(approval)?;
    if super::may_try(who.role, Operation::WithdrawApproval) && approval.maker == who.person {
        Ok(())
    } else if approval.maker == who.person {
        Err(denied(who.role, Operation::WithdrawApproval))
    } else {
        Err("Only the person who asked for this can withdraw it. You can decline it, with a reason.".to_owned())
    }
}

fn waiting(approval: &Approval) -> Result<(), String> {
    match approval.state {
        ApprovalState::Waiting => Ok(()),
        ended => Err(format!("This was {} already.", ended.word())),
    }
}
