//! Why goods come back, and what it cost, over a stretch of days.

use chrono::{Datelike, NaiveDate};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::ExchangeRate;
use till_core::ids::ReturnId;
use till_core::money::Money;
use till_core::returns::{Happened, ReportFact, ReportRow, ReturnOutcome, report};

use crate::convert::{currency, known};
use crate::rules::Rules;
use crate::{Result, StoreError, sensible_date};

/// What the report counts by.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ReportBy {
    /// Why they come back.
    #[default]
    Reason,
    /// What comes back.
    Item,
    /// Whose.
    Customer,
    /// When.
    Month,
}

/// Why goods came back, and what it cost.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnReport {
    /// The first day.
    pub from: NaiveDate,
    /// The last day.
    pub to: NaiveDate,
    /// The rows: what cost most first; months in their order.
    pub rows: Vec<ReportRow>,
    /// All of them together; without a code.
    pub total: ReportRow,
}

/// What one thing that happened is counted under, by each of the ways.
struct Under {
    reason: (String, String),
    item: (String, String),
    customer: (String, String),
    date: NaiveDate,
}

impl Under {
    fn of(self, by: ReportBy) -> (String, String) {
        match by {
            ReportBy::Reason => self.reason,
            ReportBy::Item => self.item,
            ReportBy::Customer => self.customer,
            ReportBy::Month => (self.date.format("%Y-%m").to_string(), self.date.format("%B %Y").to_string()),
        }
    }
}

/// The report from a day to another; half a year up to the business date where none is said.
///
/// # Errors
/// Days that make no sense, or the last before the first.
pub async fn why(
    connection: &mut SqliteConnection,
    rules: &Rules,
    by: ReportBy,
    (from, to): (Option<NaiveDate>, Option<NaiveDate>),
) -> Result<ReturnReport> {
    let to = to.map_or(Ok(rules.business_date), |date| sensible_date("to", date))?;
    let half_a_year = to.checked_sub_months(chrono::Months::new(5)).and_then(|date| date.with_day(1)).unwrap_or(to);
    let from = from.map_or(Ok(half_a_year), |date| sensible_date("from", date))?;
    if to < from {
        return Err(StoreError::invalid("to", "The last day is before the first."));
    }
    let mut facts = steps(connection, by, (from, to)).await?;
    facts.extend(credits(connection, rules, by, (from, to)).await?);
    let mut rows = report(&facts);
    if by != ReportBy::Month {
        rows.sort_by_key(|row| std::cmp::Reverse((row.lost + row.credited, row.came_back)));
    }
    let all: Vec<ReportFact> =
        facts.into_iter().map(|fact| ReportFact { under: (String::new(), String::new()), ..fact }).collect();
    let nothing = ReportRow {
        code: String::new(),
        name: String::new(),
        returns: 0,
        credited: Money::ZERO,
        came_back: Money::ZERO,
        restocked: Money::ZERO,
        lost: Money::ZERO,
    };
    Ok(ReturnReport { from, to, rows, total: report(&all).pop().unwrap_or(nothing) })
}

async fn steps(
    connection: &mut SqliteConnection,
    by: ReportBy,
    (from, to): (NaiveDate, NaiveDate),
) -> Result<Vec<ReportFact>> {
    let rows = sqlx::query!(
        r#"SELECT returns.id AS "id!", return_steps.kind AS "kind!", posting_date AS "date!: NaiveDate", outcome, done.cost_minor AS "cost!", claim_minor AS "claim!",
                  reason AS "reason!", return_reasons.name AS "reason_name!", items.code AS "item!", items.name AS "item_name!",
                  customers.number AS "customer!", customers.name AS "customer_name!"
           FROM return_steps JOIN return_step_lines AS done ON step_id = return_steps.id JOIN return_lines AS line ON line.id = return_line_id
           JOIN returns ON returns.id = return_steps.return_id JOIN customers ON customers.id = customer_id
           JOIN items ON items.id = line.item_id JOIN return_reasons ON return_reasons.code = reason
           WHERE reversed_on IS NULL AND posting_date BETWEEN ? AND ?"#,
        from,
        to
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            let (cost, claim) = (Money(row.cost), Money(row.claim));
            let outcome = row.outcome.as_deref().map(|word| known(word, ReturnOutcome::of)).transpose()?;
            let happened = match (row.kind.as_str(), outcome) {
                (_, Some(outcome)) => Happened::Inspected(outcome, cost, claim),
                ("received" | "swapped" | "kept", None) => Happened::Received(cost),
                // It stays the customer's, and stands in no figure of ours.
                ("for_repair" | "repaired", None) => Happened::Received(Money::ZERO),
                _ => Happened::Replaced(cost),
            };
            let under = Under {
                reason: (row.reason, row.reason_name),
                item: (row.item, row.item_name),
                customer: (row.customer, row.customer_name),
                date: row.date,
            };
            Ok(ReportFact { returned: ReturnId(row.id), under: under.of(by), happened })
        })
        .collect()
}

/// What was credited of what came back, at the rate of its credit memo.
async fn credits(
    connection: &mut SqliteConnection,
    rules: &Rules,
    by: ReportBy,
    (from, to): (NaiveDate, NaiveDate),
) -> Result<Vec<ReportFact>> {
    let rows = sqlx::query!(
        r#"SELECT line.return_id AS "id!", memo.posting_date AS "date!: NaiveDate", credit.net_minor AS "net!", memo.currency AS "currency!", memo.rate_e9 AS "rate!",
                  line.reason AS "reason!", return_reasons.name AS "reason_name!", items.code AS "item!", items.name AS "item_name!",
                  customers.number AS "customer!", customers.name AS "customer_name!"
           FROM return_lines AS line JOIN document_lines AS credit ON credit.return_line_id = line.id JOIN documents AS memo ON memo.id = credit.document_id
           JOIN customers ON customers.id = memo.customer_id JOIN items ON items.id = line.item_id
           JOIN return_reasons ON return_reasons.code = line.reason
           WHERE memo.posting_date BETWEEN ? AND ?"#,
        from,
        to
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            let net =
                Money(-row.net).to_base(ExchangeRate::from_scaled(row.rate), currency(&row.currency)?, rules.base);
            let under = Under {
                reason: (row.reason, row.reason_name),
                item: (row.item, row.item_name),
                customer: (row.customer, row.customer_name),
                date: row.date,
            };
            let happened = Happened::Credited(net);
            Ok(ReportFact { returned: ReturnId(row.id), under: under.of(by), happened })
        })
        .collect()
}
