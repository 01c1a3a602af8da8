//! The day sheet: what needs the clerk today, in order of urgency.
//!
//! *The order of urgency is the team's own.* Blocked things first, then money lying still, goods
//! ready to go, then unbilled by age, overdue accounts, orders to finish.
//!
//! ```
//! use till_core::day_sheet::Ageing;
//! use till_core::money::Money;
//! let day = |text: &str| text.parse().unwrap();
//! let mut ageing = Ageing::default();
//! for (due, open) in [("2026-03-18", 100), ("2026-03-17", 20), ("2026-02-16", 3), ("2026-01-16", 4)] {
//!     ageing.add(day(due), day("2026-03-18"), Money(open));
//! }
//! assert_eq!((ageing.not_due, ageing.days_1_30, ageing.over_60), (Money(100), Money(23), Money(4)));
//! assert_eq!((ageing.late(), ageing.total()), (Money(27), Money(127)));
//! ```

mod accepted;
mod bank;
mod cards;
mod disputed;
mod own;
mod returned;
mod slips;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::checks::Blocker;
use crate::ids::{DocumentKind, DocumentRef};
use crate::money::Money;

pub use accepted::AcceptedFacts;
pub use bank::BankFacts;
pub use cards::{CardFacts, ToBookFacts};
pub use disputed::DisputeFacts;
pub use own::DraftFacts;
pub use returned::ReturnedFacts;
pub use slips::SlipFacts;

/// A kind of work, in the order of urgency.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Work {
    /// Cannot go on until something is put right.
    Stopped,
    /// Someone waits for this person's word.
    ToApprove,
    /// Money that came in and does nothing.
    MoneyLyingStill,
    /// Packed and waiting to be posted.
    ReadyToGo,
    /// Shipped and not billed.
    ToBill,
    /// Drafts one left behind.
    Drafts,
    /// Back from a customer, and not decided on.
    Returned,
    /// What customers will not pay.
    Disputed,
    /// Past the due date.
    Late,
    /// Filled and not settled.
    OrdersToFinish,
    /// What one asked for, and nobody has decided on.
    Requested,
}

/// What is to be done with one row, and where.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Next {
    /// Put the blocked thing right.
    PutRight,
    /// Approve or decline.
    Decide,
    /// Apply the money.
    Apply,
    /// Say what the lines of a bank statement are.
    Match,
    /// Take a slip to the bank, and say so.
    TakeToBank,
    /// Move, refund or keep the deposit.
    Clear,
    /// Credit what of a prepayment invoice will not be used.
    Credit,
    /// Capture what was authorized on a card.
    Capture,
    /// Ask the card processor again.
    AskAgain,
    /// Ship, or authorize the card again later.
    ShipSoon,
    /// Authorize the card again, or another.
    AuthorizeAgain,
    /// Bring into the books what the card processor told.
    Book,
    /// Post the shipment.
    PostShipment,
    /// Bill what has shipped.
    Bill,
    /// Say what becomes of goods that came back.
    Inspect,
    /// Credit, replace or send back what came back.
    Settle,
    /// Repair goods that are in for it, and send them back.
    Repair,
    /// Clear up what a customer will not pay.
    Resolve,
    /// Look at the customer account and ask for the money.
    AskForMoney,
    /// Look at the order.
    LookAtOrder,
    /// Confirm the order: the customer has accepted it.
    Confirm,
    /// Ask the customer for what is missing.
    AskForMissing,
    /// Go on with the draft.
    OpenDraft,
    /// Look at what one asked for.
    LookAtRequest,
}

/// One row.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DayItem {
    /// Kind of work.
    pub work: Work,
    /// Whose or which.
    pub title: String,
    /// Why now.
    pub why: String,
    /// How much, in base currency.
    pub amount: Money,
    /// How long, in days.
    pub days: i64,
    /// What to do.
    pub next: Next,
    /// Where.
    pub at: DocumentRef,
}

/// Unbilled goods of one customer.
#[derive(Debug, Clone)]
pub struct UnbilledFacts {
    /// The customer.
    pub customer: DocumentRef,
    /// Its name.
    pub name: String,
    /// Shipments with something left to bill.
    pub shipments: i64,
    /// Their net value in base currency.
    pub value: Money,
    /// Posting date of the oldest.
    pub oldest: NaiveDate,
    /// What would stop posting.
    pub stopped_by: Vec<Blocker>,
}

/// Money without a target, or a credit memo that was kept.
#[derive(Debug, Clone)]
pub struct UnappliedFacts {
    /// The receipt, or the credit memo.
    pub credit: DocumentRef,
    /// The customer's name.
    pub name: String,
    /// What is unapplied, in base currency.
    pub amount: Money,
    /// When it came in, or was credited.
    pub since: NaiveDate,
    /// Open invoices of the customer.
    pub open_invoices: i64,
}

/// A shipment packed and not posted.
#[derive(Debug, Clone)]
pub struct PackedFacts {
    /// The shipment.
    pub shipment: DocumentRef,
    /// The customer's name.
    pub name: String,
    /// Net value in base currency.
    pub value: Money,
    /// When it was packed.
    pub packed_on: NaiveDate,
}

/// A deposit that is left hanging: its order is completed, or it has lain for long.
#[derive(Debug, Clone)]
pub struct HangingFacts {
    /// The deposit.
    pub deposit: DocumentRef,
    /// The customer's name.
    pub name: String,
    /// What is held of it, in base currency.
    pub held: Money,
    /// When it came.
    pub taken_on: NaiveDate,
    /// What became of what it is for, where that is over: “O-1 is completed”.
    pub done: Option<String>,
}

/// A prepayment invoice of which something will not be used any more: what it was billed on was canceled.
#[derive(Debug, Clone)]
pub struct ToCreditFacts {
    /// The prepayment invoice.
    pub invoice: DocumentRef,
    /// The customer's name.
    pub name: String,
    /// Number of its order.
    pub order: String,
    /// What of it is to be credited, without tax, in base currency.
    pub amount: Money,
    /// When it was posted.
    pub posted_on: NaiveDate,
}

/// After so many days a deposit is asked about, whatever became of its order.
pub const LONG_HELD_DAYS: u64 = 180;

/// A customer with overdue invoices.
#[derive(Debug, Clone)]
pub struct LateFacts {
    /// The customer.
    pub customer: DocumentRef,
    /// Its name.
    pub name: String,
    /// What is overdue, in base currency.
    pub amount: Money,
    /// How many invoices.
    pub invoices: i64,
    /// Oldest due date among them.
    pub oldest_due: NaiveDate,
}

/// A filled order that is not settled.
#[derive(Debug, Clone)]
pub struct UnfinishedFacts {
    /// The order.
    pub order: DocumentRef,
    /// The customer's name.
    pub name: String,
    /// What is open on its invoices, in base currency.
    pub open: Money,
    /// When its last invoice falls due.
    pub due: NaiveDate,
}

/// Something that waits for approval.
#[derive(Debug, Clone)]
pub struct ApprovalFacts {
    /// The approval.
    pub approval: DocumentRef,
    /// What is to be done.
    pub words: String,
    /// Who asked.
    pub maker: String,
    /// Over how much, in base currency.
    pub amount: Money,
    /// Since when.
    pub since: NaiveDate,
}

/// Everything the day sheet looks at.
#[derive(Debug, Clone, Default)]
pub struct DayFacts {
    /// Unbilled, by customer.
    pub unbilled: Vec<UnbilledFacts>,
    /// Unapplied receipts.
    pub unapplied: Vec<UnappliedFacts>,
    /// Deposits that are left hanging.
    pub hanging: Vec<HangingFacts>,
    /// Prepayment invoices of which something is to be credited.
    pub to_credit: Vec<ToCreditFacts>,
    /// Card authorizations.
    pub cards: Vec<CardFacts>,
    /// What the card processor told of and is not in the books.
    pub to_book: Vec<ToBookFacts>,
    /// Orders that customers accepted and that are drafts still.
    pub accepted: Vec<AcceptedFacts>,
    /// Packed shipments.
    pub packed: Vec<PackedFacts>,
    /// Goods that came back.
    pub returned: Vec<ReturnedFacts>,
    /// Bank statements with lines that are not cleared.
    pub bank: Vec<BankFacts>,
    /// Slips that wait to be taken to the bank.
    pub slips: Vec<SlipFacts>,
    /// What customers will not pay.
    pub disputes: Vec<DisputeFacts>,
    /// Overdue customers.
    pub late: Vec<LateFacts>,
    /// Filled orders whose last invoice falls due soon.
    pub unfinished: Vec<UnfinishedFacts>,
    /// What waits for the approval of who looks at the day sheet.
    pub approvals: Vec<ApprovalFacts>,
    /// What who looks at it asked for, and nobody has decided on.
    pub requested: Vec<ApprovalFacts>,
    /// Drafts that who looks at it was the last to change.
    pub drafts: Vec<DraftFacts>,
}

fn many(count: i64, one: &str, more: &str) -> String {
    if count == 1 { format!("1 {one}") } else { format!("{count} {more}") }
}

/// An order to finish shows up so many days before its last invoice falls due.
pub const FINISH_WITHIN_DAYS: u64 = 3;

/// Ranks the work of the day: by kind, then oldest and largest first.
pub fn rank(facts: &DayFacts, business_date: NaiveDate) -> Vec<DayItem> {
    let mut items: Vec<DayItem> = facts.unbilled.iter().map(|facts| facts.row(business_date)).collect();
    items.extend(facts.approvals.iter().map(|facts| facts.row(business_date)));
    items.extend(facts.requested.iter().map(|facts| own::requested(facts, business_date)));
    items.extend(facts.drafts.iter().map(|facts| facts.row(business_date)));
    items.extend(facts.unapplied.iter().map(|facts| facts.row(business_date)));
    items.extend(facts.hanging.iter().map(|facts| facts.row(business_date)));
    items.extend(facts.to_credit.iter().map(|facts| facts.row(business_date)));
    items.extend(facts.cards.iter().filter_map(|facts| facts.row(business_date)));
    items.extend(facts.to_book.iter().map(|facts| facts.row(business_date)));
    items.extend(facts.accepted.iter().map(|facts| facts.row(business_date)));
    items.extend(facts.packed.iter().map(|facts| facts.row(business_date)));
    items.extend(facts.returned.iter().map(|facts| facts.row(business_date)));
    items.extend(facts.bank.iter().map(|facts| facts.row(business_date)));
    items.extend(facts.slips.iter().map(|facts| facts.row(business_date)));
    items.extend(facts.disputes.iter().map(|facts| facts.row(business_date)));
    items.extend(facts.late.iter().map(|facts| facts.row(business_date)));
    items.extend(facts.unfinished.iter().map(|facts| facts.row(business_date)));
    items.sort_by_key(|item| {
        (item.work, std::cmp::Reverse(item.days), std::cmp::Reverse(item.amount), item.at.kind, item.at.id)
    });
    items
}

/// How many days ago something was.
fn age(since: NaiveDate, today: NaiveDate) -> i64 {
    (today - since).num_days()
}

impl UnbilledFacts {
    fn row(&self, today: NaiveDate) -> DayItem {
        let stopped = self.stopped_by.iter().find(|blocker| blocker.effect == crate::checks::Effect::Stops);
        match stopped {
            Some(blocker) => DayItem {
                work: Work::Stopped,
                title: self.name.clone(),
                why: format!("{}: {}", many(self.shipments, "shipment", "shipments"), blocker.words),
                amount: self.value,
                days: age(self.oldest, today),
                next: Next::PutRight,
                at: blocker.at.clone().unwrap_or_else(|| self.customer.clone()),
            },
            None => DayItem {
                work: Work::ToBill,
                title: self.name.clone(),
                why: many(self.shipments, "shipment to bill", "shipments to bill"),
                amount: self.value,
                days: age(self.oldest, today),
                next: Next::Bill,
                at: self.customer.clone(),
            },
        }
    }
}

/// Words as a heading begins.
fn sentence(words: &str) -> String {
    let mut letters = words.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

impl ApprovalFacts {
    fn row(&self, today: NaiveDate) -> DayItem {
        DayItem {
            work: Work::ToApprove,
            title: sentence(&self.words),
            why: format!("requested by {}", self.maker),
            amount: self.amount,
            days: age(self.since, today),
            next: Next::Decide,
            at: self.approval.clone(),
        }
    }
}

impl UnappliedFacts {
    fn row(&self, today: NaiveDate) -> DayItem {
        DayItem {
            work: Work::MoneyLyingStill,
            title: self.name.clone(),
            why: if self.open_invoices == 0 {
                format!("{} is unapplied, no invoice is open", self.credit.number)
            } else {
                format!(
                    "{} is unapplied, {}",
                    self.credit.number,
                    many(self.open_invoices, "invoice is open", "invoices are open")
                )
            },
            amount: self.amount,
            days: age(self.since, today),
            next: Next::Apply,
            at: self.credit.clone(),
        }
    }
}

impl HangingFacts {
    fn row(&self, today: NaiveDate) -> DayItem {
        let number = &self.deposit.number;
        DayItem {
            work: Work::MoneyLyingStill,
            title: self.name.clone(),
            why: match &self.done {
                Some(what) => format!("{number} is held, {what}"),
                None => format!("{number} is held for long"),
            },
            amount: self.held,
            days: age(self.taken_on, today),
            next: Next::Clear,
            at: self.deposit.clone(),
        }
    }
}

impl ToCreditFacts {
    fn row(&self, today: NaiveDate) -> DayItem {
        DayItem {
            work: Work::MoneyLyingStill,
            title: self.name.clone(),
            why: format!("{} is to be credited, {} was canceled in part", self.invoice.number, self.order),
            amount: self.amount,
            days: age(self.posted_on, today),
            next: Next::Credit,
            at: self.invoice.clone(),
        }
    }
}

impl PackedFacts {
    fn row(&self, today: NaiveDate) -> DayItem {
        DayItem {
            work: Work::ReadyToGo,
            title: self.name.clone(),
            why: format!("{} is packed, not posted", self.shipment.number),
            amount: self.value,
            days: age(self.packed_on, today),
            next: Next::PostShipment,
            at: self.shipment.clone(),
        }
    }
}

impl LateFacts {
    fn row(&self, today: NaiveDate) -> DayItem {
        DayItem {
            work: Work::Late,
            title: self.name.clone(),
            why: many(self.invoices, "invoice is overdue", "invoices are overdue"),
            amount: self.amount,
            days: age(self.oldest_due, today),
            next: Next::AskForMoney,
            at: self.customer.clone(),
        }
    }
}

impl UnfinishedFacts {
    fn row(&self, today: NaiveDate) -> DayItem {
        let days = age(self.due, today);
        let why = if days > 0 { "completed, only the payment is missing" } else { "completed, the payment falls due" };
        DayItem {
            work: Work::OrdersToFinish,
            title: format!("{} {}", self.order.number, self.name),
            why: why.to_owned(),
            amount: self.open,
            days,
            next: Next::LookAtOrder,
            at: self.order.clone(),
        }
    }
}

/// Receivables by days late.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Ageing {
    /// Not due.
    pub not_due: Money,
    /// 1 to 30 days late.
    pub days_1_30: Money,
    /// 31 to 60 days late.
    pub days_31_60: Money,
    /// Over 60 days late.
    pub over_60: Money,
}

impl Ageing {
    /// Sorts an open amount in by its due date.
    pub fn add(&mut self, due_date: NaiveDate, as_of: NaiveDate, open: Money) {
        let days = (as_of - due_date).num_days();
        let bucket = match days {
            ..=0 => &mut self.not_due,
            1..=30 => &mut self.days_1_30,
            31..=60 => &mut self.days_31_60,
            _ => &mut self.over_60,
        };
        *bucket += open;
    }

    /// What is past due.
    pub fn late(&self) -> Money {
        self.days_1_30 + self.days_31_60 + self.over_60
    }

    /// All of it.
    pub fn total(&self) -> Money {
        self.not_due + self.late()
    }
}

/// The document a row about a customer points to.
pub fn customer_ref(id: i64, number: &str) -> DocumentRef {
    DocumentRef { kind: DocumentKind::Customer, id, number: number.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ageing_counts_from_the_day_after_the_due_date() {
        let as_of: NaiveDate = "2026-03-18".parse().unwrap();
        let mut ageing = Ageing::default();
        for (due, amount) in
            [("2026-03-18", 1), ("2026-03-17", 10), ("2026-02-16", 100), ("2026-02-15", 1_000), ("2026-01-16", 10_000)]
        {
            ageing.add(due.parse().unwrap(), as_of, Money(amount));
        }
        assert_eq!(
            ageing,
            Ageing { not_due: Money(1), days_1_30: Money(110), days_31_60: Money(1_000), over_60: Money(10_000) }
        );
        assert_eq!(ageing.total(), Money(11_111));
    }

    #[test]
    fn work_is_ranked_by_kind_then_age() {
        let day = |text: &str| text.parse().unwrap();
        let customer = |id| customer_ref(id, "K");
        let unbilled = |id, oldest| UnbilledFacts {
            customer: customer(id),
            name: format!("c{id}"),
            shipments: 1,
            value: Money(5),
            oldest: day(oldest),
            stopped_by: vec![],
        };
        let facts = DayFacts {
            unbilled: vec![unbilled(1, "2026-03-15"), unbilled(2, "2026-03-01")],
            late: vec![LateFacts {
                customer: customer(3),
                name: "c3".into(),
                amount: Money(9),
                invoices: 2,
                oldest_due: day("2026-01-01"),
            }],
            unapplied: vec![UnappliedFacts {
                credit: DocumentRef { kind: DocumentKind::Receipt, id: 4, number: "C-1".into() },
                name: "c4".into(),
                amount: Money(1),
                since: day("2026-03-17"),
                open_invoices: 1,
            }],
            hanging: vec![HangingFacts {
                deposit: DocumentRef { kind: DocumentKind::Deposit, id: 5, number: "D-1".into() },
                name: "c5".into(),
                held: Money(2),
                taken_on: day("2026-02-17"),
                done: Some("O-1 is completed".into()),
            }],
            to_credit: vec![ToCreditFacts {
                invoice: DocumentRef { kind: DocumentKind::Invoice, id: 6, number: "P-1".into() },
                name: "c6".into(),
                order: "O-2".into(),
                amount: Money(3),
                posted_on: day("2026-03-05"),
            }],
            ..DayFacts::default()
        };
        let titles: Vec<String> = rank(&facts, day("2026-03-18")).into_iter().map(|item| item.title).collect();
        assert_eq!(titles, ["c5", "c6", "c4", "c2", "c1", "c3"]);
    }
}
