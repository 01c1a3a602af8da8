//! Why goods come back, and what it cost: by reason, by item, by customer, by month.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use super::ReturnOutcome;
use crate::ids::ReturnId;
use crate::money::Money;

/// What happened to returned goods, as the report counts it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Happened {
    /// They came back, at cost.
    Received(Money),
    /// It was decided what becomes of them: at cost, with what the supplier is to credit.
    Inspected(ReturnOutcome, Money, Money),
    /// Others were sent for them at no charge, at cost.
    Replaced(Money),
    /// They were credited, net.
    Credited(Money),
}

/// Something that happened, of which line of which return. All amounts in base currency.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReportFact {
    /// The return.
    pub returned: ReturnId,
    /// What it is counted under: code and name.
    pub under: (String, String),
    /// What happened.
    pub happened: Happened,
}

/// A row of the report. All amounts in base currency.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReportRow {
    /// What it is about: the code of a reason or an item, the number of a customer, a month as `2026-03`.
    pub code: String,
    /// Its name.
    pub name: String,
    /// How many returns.
    pub returns: i64,
    /// What was credited, net.
    pub credited: Money,
    /// What came back, at cost.
    pub came_back: Money,
    /// What of that can be sold again, at cost.
    pub restocked: Money,
    /// What it cost: scrapped, not claimed of the supplier, replaced at no charge; at cost.
    pub lost: Money,
}

impl ReportRow {
    /// What happened to a line, added.
    fn add(&mut self, happened: Happened) {
        match happened {
            Happened::Received(cost) => self.came_back += cost,
            Happened::Inspected(ReturnOutcome::Restock, cost, _) => self.restocked += cost,
            Happened::Inspected(ReturnOutcome::Scrap, cost, _) | Happened::Replaced(cost) => self.lost += cost,
            Happened::Inspected(ReturnOutcome::Supplier, cost, claim) => self.lost += cost - claim,
            // It is with the customer, who pays for it.
            Happened::Inspected(ReturnOutcome::SendBack, ..) => {}
            Happened::Credited(net) => self.credited += net,
        }
    }
}

/// The report, in the order of the codes.
///
/// ```
/// use till_core::ids::ReturnId;
/// use till_core::money::Money;
/// use till_core::returns::{Happened, ReportFact, ReturnOutcome, report};
/// let fact = |id, happened| ReportFact {
///     returned: ReturnId(id),
///     under: ("DAMAGED".to_owned(), "Damaged in transit".to_owned()),
///     happened,
/// };
/// let rows = report(&[
///     fact(1, Happened::Received(Money(13_140))),
///     fact(1, Happened::Inspected(ReturnOutcome::Restock, Money(6_570), Money(0))),
///     fact(1, Happened::Inspected(ReturnOutcome::Supplier, Money(6_570), Money(6_000))),
///     fact(2, Happened::Credited(Money(5_900))),
/// ]);
/// let row = &rows[0];
/// assert_eq!((row.returns, row.came_back, row.restocked), (2, Money(13_140), Money(6_570)));
/// assert_eq!((row.lost, row.credited), (Money(570), Money(5_900)));
/// ```
pub fn report(facts: &[ReportFact]) -> Vec<ReportRow> {
    let mut rows: BTreeMap<&str, (ReportRow, BTreeSet<ReturnId>)> = BTreeMap::new();
    for fact in facts {
        let (code, name) = &fact.under;
        let (row, returns) = rows.entry(code).or_insert_with(|| {
            let row = ReportRow {
                code: code.clone(),
                name: name.clone(),
                returns: 0,
                credited: Money::ZERO,
                came_back: Money::ZERO,
                restocked: Money::ZERO,
                lost: Money::ZERO,
            };
            (row, BTreeSet::new())
        });
        row.add(fact.happened);
        returns.insert(fact.returned);
    }
    rows.into_values()
        .map(|(row, returns)| ReportRow { returns: i64::try_from(returns.len()).unwrap_or(i64::MAX), ..row })
        .collect()
}
