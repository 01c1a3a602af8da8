//! Receivables at a look: what came in today by method, what of it has no target, and receipts against what was due.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::money::Money;
use till_core::open_items::due_in_base;
use till_core::receivables::{FlowWeek, by_week, first_day};

use crate::Result;
use crate::convert::terms;
use crate::rules::Rules;

/// How many weeks are shown.
const WEEKS: u64 = 10;

/// What came in by a method.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CameIn {
    /// The method, as people say it.
    pub method: String,
    /// How many receipts and deposits.
    pub count: i64,
    /// What they come to, in base currency.
    pub amount: Money,
}

/// Receivables at a look, in base currency.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Receivables {
    /// What came in today, the most first.
    pub today: Vec<CameIn>,
    /// What of all that came in lies without a target.
    pub unplaced: Money,
    /// The last weeks, oldest first; the one of today is under way.
    pub weeks: Vec<FlowWeek>,
}

/// What is shown.
///
/// # Errors
/// Where the database cannot be read.
pub async fn receivables(connection: &mut SqliteConnection, rules: &Rules) -> Result<Receivables> {
    let today = rules.business_date;
    let first = first_day(today, WEEKS);
    let came = sqlx::query!(
        r#"SELECT payment_methods.name, count(*) AS "count!: i64", sum(amount_base_minor) AS "amount!: i64"
           FROM payments JOIN payment_methods ON payment_methods.code = method
           WHERE posting_date = ? AND reversed_on IS NULL AND payments.place IS NOT NULL GROUP BY method ORDER BY 3 DESC"#,
        today
    )
    .fetch_all(&mut *connection)
    .await?;
    let unplaced = sqlx::query_scalar!(
        r#"SELECT coalesce(sum(open_base_minor), 0) AS "sum!: i64" FROM open_items WHERE purpose = 'unapplied' AND side = 'owed_by_us' AND open_minor > 0"#
    )
    .fetch_one(&mut *connection)
    .await?;
    let received = sqlx::query!(
        r#"SELECT posting_date AS "date: NaiveDate", amount_base_minor FROM payments
           WHERE posting_date >= ? AND reversed_on IS NULL AND place IS NOT NULL"#,
        first
    )
    .fetch_all(&mut *connection)
    .await?;
    // What falls due in these weeks was posted before their end; terms say when its parts do.
    let items = sqlx::query!(
        r#"SELECT open_items.terms, document_date AS "document_date: NaiveDate", next_due_date AS "due: NaiveDate", amount_minor, amount_base_minor
           FROM open_items WHERE side = 'owed_to_us' AND purpose = 'receivable' AND kind IN ('invoice', 'opening') AND next_due_date >= ? AND posting_date <= ?"#,
        first,
        today
    )
    .fetch_all(connection)
    .await?;
    let mut due = Vec::with_capacity(items.len());
    for item in items {
        let (amount, base) = (Money(item.amount_minor), Money(item.amount_base_minor));
        match &item.terms {
            Some(kept) => {
                let parts = due_in_base(&terms(kept)?, item.document_date, (amount, amount), base);
                due.extend(parts.into_iter().map(|part| (part.date, part.amount)));
            }
            None => due.push((item.due, base)),
        }
    }
    let received: Vec<_> = received.into_iter().map(|row| (row.date, Money(row.amount_base_minor))).collect();
    Ok(Receivables {
        today: came
            .into_iter()
            .map(|row| CameIn { method: row.name, count: row.count, amount: Money(row.amount) })
            .collect(),
        unplaced: Money(unplaced),
        weeks: by_week(today, WEEKS, &due, &received),
    })
}
