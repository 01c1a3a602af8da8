//! People: their roles, what each role may do, and how far.
//!
//! Rights are decided here and nowhere else. Every operation of the application has one row in
//! the table of [`Operation`]; [`decide`] turns role, operation and amount into a [`Verdict`].
//! *Source: domain.md section 13; keeping maker and approver apart is common practice, no
//! source.*
//!
//! ```
//! use till_core::money::Money;
//! use till_core::people::{Limits, LimitKind, Operation, Role, Verdict, decide};
//!
//! let mut limits = Limits::default();
//! limits.set(Role::Clerk, LimitKind::PriceChange, Some(Money(5_000)));
//! let small = decide(Role::Clerk, Operation::ChangePrice, Money(5_000), &limits);
//! let large = decide(Role::Clerk, Operation::ChangePrice, Money(5_001), &limits);
//! assert_eq!(small, Verdict::Allowed);
//! assert!(matches!(large, Verdict::NeedsApproval(_)));
//! assert!(matches!(decide(Role::Auditor, Operation::PostInvoice, Money(0), &limits), Verdict::Denied(_)));
//! ```

mod approval;
mod keeping;
mod sign_in;

pub use approval::{Approval, ApprovalState, Question, decide_approval, decide_decline, decide_withdrawal};
pub use keeping::{Standing, check_reason, check_standing};
pub use sign_in::{
    Attempts, FREE_TRIES, LOCKED_AT_MOST, PasswordFault, SessionLength, SessionTimes, check_name, check_password,
    check_sign_in_name, locked_for,
};

use serde::{Deserialize, Serialize};

use crate::ids::DocumentKind;
use crate::money::{Currency, Money};

/// What someone is in the company.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Role {
    /// Does the day's work.
    Clerk,
    /// Does it too, approves, closes periods.
    Lead,
    /// Reads everything, changes nothing.
    Auditor,
    /// Looks after people and set-up, posts nothing.
    Administrator,
}

impl Role {
    /// Every role.
    pub const ALL: [Self; 4] = [Self::Clerk, Self::Lead, Self::Auditor, Self::Administrator];

    /// How the role is called; the books know it by [`Self::word`].
    pub const fn name(self) -> &'static str {
        match self {
            Self::Lead => "supervisor",
            other => other.word(),
        }
    }

    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Clerk => "clerk",
            Self::Lead => "lead",
            Self::Auditor => "auditor",
            Self::Administrator => "administrator",
        }
    }

    /// The role with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|role| role.word() == word)
    }
}

/// A kind of amount that is limited by role.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum LimitKind {
    /// Total of a credit memo.
    CreditMemo,
    /// An amount given up.
    WriteOff,
    /// Money sent back.
    Refund,
    /// What a changed price takes off or adds to the net of a line.
    PriceChange,
    /// Total of an order that is confirmed, with tax.
    Order,
}

impl LimitKind {
    /// Every kind.
    pub const ALL: [Self; 5] = [Self::CreditMemo, Self::WriteOff, Self::Refund, Self::PriceChange, Self::Order];

    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::CreditMemo => "credit_memo",
            Self::WriteOff => "write_off",
            Self::Refund => "refund",
            Self::PriceChange => "price_change",
            Self::Order => "order",
        }
    }

    /// As people say it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::CreditMemo => "credit memo",
            Self::WriteOff => "write-off",
            Self::Refund => "refund",
            Self::PriceChange => "price change",
            Self::Order => "order",
        }
    }

    /// The kind with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }
}

/// What a role may do with an operation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Right {
    /// May.
    Yes,
    /// May up to the role's limit of this kind; above it, asks for approval.
    UpTo(LimitKind),
    /// May only ask; someone else approves.
    Asks,
    /// May not.
    No,
}

macro_rules! operations {
    ($($(#[$doc:meta])* $variant:ident $words:literal => $clerk:tt $lead:tt $auditor:tt $administrator:tt),+ $(,)?) => {
        /// Something a person can do here. The table beside it says who may.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
        #[serde(rename_all = "snake_case")]
        pub enum Operation { $($(#[$doc])* $variant),+ }

        impl Operation {
            /// Every operation.
            pub const ALL: &'static [Self] = &[$(Self::$variant),+];

            /// As it reads after “may” and “may not”.
            pub const fn words(self) -> &'static str {
                match self { $(Self::$variant => $words),+ }
            }

            /// What a role may do with it.
            pub const fn right(self, role: Role) -> Right {
                match self {
                    $(Self::$variant => match role {
                        Role::Clerk => operations!(@right $clerk),
                        Role::Lead => operations!(@right $lead),
                        Role::Auditor => operations!(@right $auditor),
                        Role::Administrator => operations!(@right $administrator),
                    }),+
                }
            }
        }
    };
    (@right yes) => { Right::Yes };
    (@right no) => { Right::No };
    (@right asks) => { Right::Asks };
    (@right price) => { Right::UpTo(LimitKind::PriceChange) };
    (@right memo) => { Right::UpTo(LimitKind::CreditMemo) };
    (@right refund) => { Right::UpTo(LimitKind::Refund) };
    (@right order) => { Right::UpTo(LimitKind::Order) };
}

operations! {
    //                                                            clerk lead auditor administrator
    /// Reads lists, documents, reports and previews.
    SeeBooks "read the books"                                  => yes   yes   yes  yes,
    /// Reads what happened to one document.
    SeeDocumentRecord "read what happened to a document"       => yes   yes   yes  yes,
    /// Reads the whole record, sign-ins included.
    SeeRecord "read the whole record"                          => no    yes   yes  yes,
    /// Reads who has which role.
    SeePeople "see the list of people"                         => no    yes   yes  yes,
    /// Reads company settings, numbers, periods and limits.
    SeeSetup "see the set-up"                                  => yes   yes   yes  yes,
    /// Changes the own password, signs out.
    KeepOwnSignIn "change their own sign-in"                   => yes   yes   yes  yes,
    /// Says which document is open on the own screen.
    ShowPresence "show what they have open"                    => yes   yes   yes  yes,
    /// Changes a customer's data.
    KeepCustomer "change customers"                            => yes   yes   no   no,
    /// Holds a customer back.
    PutOnStop "put a customer on hold"                         => yes   yes   no   no,
    /// Lets a customer go on.
    LiftStop "lift a customer's stop"                          => asks  yes   no   no,
    /// Changes items, price lists and promotions.
    KeepItems "change items and prices"                        => no    yes   no   yes,
    /// Writes quotes, call-offs and orders, changes and cancels them.
    KeepOrder "change orders"                                  => yes   yes   no   no,
    /// Makes an order binding.
    ConfirmOrder "confirm orders"                              => order order no   no,
    /// Sets goods aside for an order, picks and packs.
    KeepShipment "pick and pack"                               => yes   yes   no   no,
    /// Takes goods out of stock.
    PostShipment "post shipments"                              => yes   yes   no   no,
    /// Says what a customer may send back.
    AuthorizeReturn "authorize returns"                        => yes   yes   no   no,
    /// Authorizes a return of goods that no document shows, at a price of their own.
    ReturnWithoutDocument "authorize returns of what no document shows" => no  yes   no   no,
    /// Receives and inspects what customers send back, sends replacements.
    HandleReturn "receive and inspect returns"                 => yes   yes   no   no,
    /// Takes goods back and credits them in one posting, with what goes out in exchange.
    ReturnAtOnce "return and credit in one posting"                     => memo  memo  no   no,
    /// Enters what suppliers pay or refuse of claims on them.
    AnswerClaim "enter suppliers' answers to claims"           => yes   yes   no   no,
    /// Amends an order that was shipped and billed: it is open again.
    ReopenOrder "reopen orders that were shipped and billed"   => no    yes   no   no,
    /// Enters what is estimated: returns that are expected.
    PostEstimate "enter estimates"                             => no    yes   no   no,
    /// Takes a posted shipment back.
    TakeBackShipment "reverse a posted shipment"             => yes   yes   no   no,
    /// Ships and bills in one posting.
    ShipAndBill "ship and bill in one step"                    => yes   yes   no   no,
    /// Takes goods into stock, says what is on its way.
    TakeIn "take goods in"                                     => yes   yes   no   no,
    /// Puts stock right after a count.
    AdjustStock "adjust stock"                                 => no    yes   no   no,
    /// Takes over orders and shipments from a file.
    Import "import files"                                      => yes   yes   no   no,
    /// Takes empty containers back from customers.
    TakeContainers "return containers"                      => yes   yes   no   no,
    /// Makes, changes and drops drafts.
    KeepDraft "change drafts"                                  => yes   yes   no   no,
    /// Sets a price on a draft that differs from the order.
    ChangePrice "change the price of a line"                   => price price no   no,
    /// Posts invoices.
    PostInvoice "post invoices"                                => yes   yes   no   no,
    /// Takes a posted invoice back with a credit memo: the whole of it, or lines of it.
    CancelInvoice "cancel or credit invoices"                  => memo  memo  no   no,
    /// Makes billing runs and posts them.
    RunBilling "make billing runs"                             => yes   yes   no   no,
    /// Keeps what a billing run is made from.
    KeepRecipe "save recurring runs"                  => yes   yes   no   no,
    /// Prints, mails and mails again.
    SendOut "send documents out"                               => yes   yes   no   no,
    /// Makes and ends links to customers' own pages.
    KeepPageLinks "make and end links to customer pages"       => yes   yes   no   no,
    /// Changes the templates of messages.
    KeepTemplates "change the text of messages"                => no    yes   no   yes,
    /// Keeps views of lists for themselves.
    KeepViews "keep views"                                     => yes   yes   yes  yes,
    /// Posts receipts and applies money.
    PostMoney "post receipts and apply money"                  => yes   yes   no   no,
    /// Unapplies money, reverses receipts that were typed in error.
    TakeBackMoney "unapply money and reverse receipts"         => yes   yes   no   no,
    /// Sends a deposit back, or money to the card it came from.
    RefundDeposit "refund deposits, payments and credits"         => refund refund no no,
    /// Keeps a deposit as income.
    KeepDeposit "keep deposits as income"                      => asks  yes   no   no,
    /// Brings open items, stock and balances of before into the books.
    PostOpening "post opening balances"                        => no    yes   no   no,
    /// Approves or declines what someone else asks for.
    DecideApproval "approve or decline"                        => no    yes   no   no,
    /// Takes back what was asked for.
    WithdrawApproval "withdraw what they asked for"           => yes   yes   no   no,
    /// Closes or opens a period.
    ClosePeriod "close or open a period"                       => no    yes   no   no,
    /// Adds periods at the end.
    AddPeriod "add periods"                                    => no    yes   no   yes,
    /// Moves a next number forward.
    MoveNumber "move the next number"                          => no    yes   no   yes,
    /// Changes the company's settings.
    KeepCompany "change the company's settings"                => no    no    no   yes,
    /// Sets the limits of roles.
    KeepLimits "set limits"                                    => no    no    no   yes,
    /// Adds people, gives roles, ends sign-ins.
    KeepPeople "look after people"                             => no    no    no   yes,
}

impl Operation {
    /// The word kept in the database.
    pub fn word(self) -> String {
        serde_json::to_value(self).ok().and_then(|value| value.as_str().map(str::to_owned)).unwrap_or_default()
    }

    /// The operation with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|operation| operation.word() == word)
    }

    /// What limits it, where an amount does.
    pub fn limited_by(self) -> Option<LimitKind> {
        Role::ALL.into_iter().find_map(|role| match self.right(role) {
            Right::UpTo(kind) => Some(kind),
            _ => None,
        })
    }
}

/// A role's limit of one kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Limit {
    /// Whose.
    pub role: Role,
    /// Of what.
    pub kind: LimitKind,
    /// How much each time, in base currency; none for no limit.
    pub amount: Option<Money>,
}

/// The limits of all roles. What nobody set is a limit of zero.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(transparent)]
pub struct Limits(pub Vec<Limit>);

impl Limits {
    /// The limit of a role; `None` where there is none.
    pub fn of(&self, role: Role, kind: LimitKind) -> Option<Money> {
        self.0.iter().find(|limit| limit.role == role && limit.kind == kind).map_or(Some(Money::ZERO), |l| l.amount)
    }

    /// Sets the limit of a role.
    pub fn set(&mut self, role: Role, kind: LimitKind, amount: Option<Money>) {
        self.0.retain(|limit| limit.role != role || limit.kind != kind);
        self.0.push(Limit { role, kind, amount });
    }

    pub(crate) fn covers(&self, role: Role, kind: LimitKind, amount: Money) -> bool {
        self.of(role, kind).is_none_or(|limit| amount.abs() <= limit)
    }
}

/// Whether a role may write off so much more than the company's tolerance lets anyone, in base currency. What it may not, stays
/// open until someone does who may.
///
/// # Errors
/// What to do instead.
pub fn write_off_allowed(role: Role, amount: Money, limits: &Limits, base: Currency) -> Result<(), String> {
    if limits.covers(role, LimitKind::WriteOff, amount) {
        return Ok(());
    }
    let limit = limits.of(role, LimitKind::WriteOff).unwrap_or(Money::ZERO);
    Err(format!(
        "{} is more than the {} {} you may write off. Leave it open, or ask a supervisor to post it.",
        base.grouped(amount),
        base.grouped(limit),
        base
    ))
}

/// Whether an operation may be carried out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// It may.
    Allowed,
    /// Someone else has to approve it; the sentence says why.
    NeedsApproval(String),
    /// It may not; the sentence says who may.
    Denied(String),
}

/// Whether a person of a role may carry out an operation over an amount in base currency.
/// The amount counts only where the operation is limited by one; its sign does not.
pub fn decide(role: Role, operation: Operation, amount: Money, limits: &Limits) -> Verdict {
    match operation.right(role) {
        Right::Yes => Verdict::Allowed,
        Right::UpTo(kind) if limits.covers(role, kind, amount) => Verdict::Allowed,
        Right::UpTo(kind) => {
            Verdict::NeedsApproval(format!("This {} is above the limit of a {}.", kind.name(), role.name()))
        }
        Right::Asks => Verdict::NeedsApproval(format!("To {} takes a supervisor's approval.", operation.words())),
        Right::No => Verdict::Denied(denied(role, operation)),
    }
}

/// What about an order someone may have to approve, in base currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ToConfirm {
    /// Its total, with tax.
    pub amount: Money,
    /// What its typed prices and discounts give away; it counts to the limit for changed prices.
    pub gives_away: Money,
    /// Whether something about the customer asks for approval: the limit, a stop.
    pub held: bool,
}

/// Whether a person of a role may confirm an order. Who may lift a stop may confirm a held order.
pub fn decide_confirm(role: Role, ToConfirm { amount, gives_away, held }: ToConfirm, limits: &Limits) -> Verdict {
    match decide(role, Operation::ConfirmOrder, amount, limits) {
        Verdict::Allowed if !limits.covers(role, LimitKind::PriceChange, gives_away) => {
            let kind = LimitKind::PriceChange.name();
            Verdict::NeedsApproval(format!(
                "What it gives away is above the limit of a {} for each {kind}.",
                role.name()
            ))
        }
        Verdict::Allowed if held && Operation::LiftStop.right(role) != Right::Yes => {
            Verdict::NeedsApproval("The customer is held back: a supervisor has to approve the order.".to_owned())
        }
        verdict => verdict,
    }
}

/// Whether a role has anything to do with an operation: may, may up to a limit, or may ask.
pub fn may_try(role: Role, operation: Operation) -> bool {
    operation.right(role) != Right::No
}

/// Whether a role may read what happened to a document: of people and of the set-up only who may read the whole record, of
/// oneself everyone.
///
/// # Errors
/// Why not, in a sentence.
pub fn check_record_of(role: Role, kind: DocumentKind, oneself: bool) -> Result<(), String> {
    let operation = match kind {
        DocumentKind::Person if oneself => return Ok(()),
        DocumentKind::Person | DocumentKind::Setting => Operation::SeeRecord,
        _ => Operation::SeeDocumentRecord,
    };
    if may_try(role, operation) { Ok(()) } else { Err(denied(role, operation)) }
}

/// Whether a role has limits: one that posts has, the others have nothing to limit.
pub fn has_limits(role: Role) -> bool {
    may_try(role, Operation::PostInvoice)
}

/// The operations a role may carry out or ask for.
pub fn operations_of(role: Role) -> Vec<Operation> {
    Operation::ALL.iter().copied().filter(|operation| may_try(role, *operation)).collect()
}

/// Why a role may not, and who may.
pub fn denied(role: Role, operation: Operation) -> String {
    let can: Vec<&str> = Role::ALL
        .into_iter()
        .filter(|other| matches!(operation.right(*other), Right::Yes | Right::UpTo(_)))
        .map(Role::name)
        .collect();
    let article = if role == Role::Auditor || role == Role::Administrator { "An" } else { "A" };
    format!(
        "{article} {} may not {}. Ask {}.",
        role.name(),
        operation.words(),
        match can.as_slice() {
            [] => "nobody: it is switched off".to_owned(),
            [one] => format!("{} {one}", if one.starts_with('a') { "an" } else { "a" }),
            [first, .., last] => format!("a {first} or {last}"),
        }
    )
}
