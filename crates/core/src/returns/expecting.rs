//! Expected returns: what of what was billed is expected to come back, and kept out of the profit until it is known.
//!
//! The estimate is a share of what was billed within the days in which it may come back, less what was credited of it. What is
//! entered is the difference to the estimate that stands. *Source: domain.md section 11; postings.md, Period ends, expected
//! returns; IFRS 15, paragraphs 55 and B20 to B27 and Illustrative Example 22, from memory.*
//!
//! ```
//! use till_core::fixed::Rate;
//! use till_core::money::Money;
//! use till_core::returns::{Estimate, expected};
//! // IFRS 15, Example 22: 100 products at 100 with a cost of 60 each, of which 3 are expected back. Revenue is recognized for
//! // 97 of them, 9,700; 300 are a refund liability, and 180 an asset for the products to be recovered.
//! let billed = Estimate { net: Money(1_000_000), cost: Money(600_000) };
//! let estimate = expected(billed, Rate::from_percent("3").unwrap());
//! assert_eq!(estimate, Estimate { net: Money(30_000), cost: Money(18_000) });
//! assert_eq!((billed.net - estimate.net, billed.cost - estimate.cost), (Money(970_000), Money(582_000)));
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::fixed::Rate;
use crate::money::{Currency, Money};
use crate::posting::Posting;
use crate::tape::{Change, Figure, Tape, TapeStyle};

/// What is expected back: at what it was billed, net, and at what it cost. In base currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Estimate {
    /// What would be credited, net.
    pub net: Money,
    /// What the goods cost.
    pub cost: Money,
}

/// The share of what was billed that is expected back.
pub fn expected(billed: Estimate, share: Rate) -> Estimate {
    Estimate { net: billed.net.times_rate(share), cost: billed.cost.times_rate(share) }
}

/// Everything needed to decide on an estimate.
#[derive(Debug, Clone)]
pub struct ExpectInput<'a> {
    /// The first day whose invoices may still come back.
    pub from: NaiveDate,
    /// The day it is of.
    pub date: DocumentDate,
    /// What was billed from that day on and was not credited.
    pub billed: Estimate,
    /// The share that is expected back; none of it gives up what stands.
    pub share: Rate,
    /// What stands on the accounts.
    pub standing: Estimate,
    /// The day of the estimate before; none where there is none.
    pub last: Option<NaiveDate>,
    /// Base currency.
    pub base: Currency,
    /// Today's date.
    pub dates: DateOrder,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// What an estimate enters, or why it cannot be.
#[derive(Debug, Clone)]
pub struct ExpectDecision {
    /// What is expected back.
    pub estimate: Estimate,
    /// What that is more than what stands.
    pub more: Estimate,
    /// The entry; none where nothing changes.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure and date.
    pub fingerprint: String,
}

impl ExpectDecision {
    /// What it does to the books: an entry.
    pub fn posting(&self) -> Posting {
        let mut posting = Posting::default();
        posting.enter(self.entry.clone(), None);
        posting
    }
}

/// Decides on an estimate of what is expected back.
pub fn expect(input: &ExpectInput<'_>) -> ExpectDecision {
    let mut findings = Findings::at(Step::Post);
    let date = input.date.date;
    if let Some(obstacle) = input.periods.obstacle(date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("estimate", date, "date", &mut findings);
    if let Some(last) = input.last.filter(|last| date < *last) {
        let sentence = format!("The estimate that stands is of {}. Choose that day or a later one.", words(last));
        findings.add(Check::DateTooEarly, "date", sentence);
    }
    if input.share < Rate::ZERO || input.share > Rate::ONE {
        findings.add(Check::AmountNotPositive, "share", "A share lies between 0 and 100 %.");
    }
    let estimate = expected(input.billed, input.share);
    let standing = input.standing;
    let more = Estimate { net: estimate.net - standing.net, cost: estimate.cost - standing.cost };
    if more == Estimate::default() {
        findings.add(Check::NothingToDo, "share", "That is what stands already: nothing changes.");
    }
    let mut builder = EntryBuilder::new(input.accounts, None, input.base);
    builder.add_base(Purpose::Returns, more.net, LineFor::default());
    builder.add_base(Purpose::RightToGoods, more.cost, LineFor::default());
    builder.add_base(Purpose::RefundLiability, -more.net, LineFor::default());
    builder.add_base(Purpose::Cogs, -more.cost, LineFor::default());
    let text = format!("Expected returns of {}", words(date));
    let entry = builder.finish_or_say(date, text, &mut findings);
    let mut tape = Tape::new("Expected returns", format!("billed since {}", words(input.from)), input.base);
    tape.amount(TapeStyle::Line, "Goods billed, net, not credited", input.billed.net);
    tape.part(TapeStyle::Line, format!("{}% expected back", input.share.percent()), input.billed.net, estimate.net);
    tape.amount(TapeStyle::Detail, "stands already", standing.net);
    tape.amount(TapeStyle::Due, "More owed back", more.net);
    tape.amount(TapeStyle::Line, "What those goods cost", input.billed.cost);
    tape.part(TapeStyle::Line, format!("{}% expected back", input.share.percent()), input.billed.cost, estimate.cost);
    tape.amount(TapeStyle::Detail, "stands already", standing.cost);
    tape.amount(TapeStyle::Sum, "More goods to come back", more.cost);
    tape.remark(TapeStyle::Detail, format!("dated {}", words(date)), !input.date.typed);
    let change = |label: &str, before: Money, after: Money| Change {
        label: label.to_owned(),
        before: Some(Figure::money(before)),
        after: Figure::money(after),
    };
    ExpectDecision {
        fingerprint: fingerprint::of(&(input.from, date, input.billed, estimate, standing, &entry)),
        changes: vec![
            change("Refund liability", standing.net, estimate.net),
            change("Goods customers may send back", standing.cost, estimate.cost),
        ],
        estimate,
        more,
        entry,
        tape,
        blockers: findings.finish(),
    }
}
