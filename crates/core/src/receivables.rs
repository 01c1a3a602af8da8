//! Receivables at a look: what came in, week by week, against what was due.
//!
//! ```
//! use till_core::receivables::by_week;
//! use till_core::money::Money;
//! let day = |text: &str| text.parse().unwrap();
//! // 18 March 2026 is a Wednesday: its week begins on the 16th.
//! let weeks = by_week(day("2026-03-18"), 2, &[(day("2026-03-15"), Money(500))], &[(day("2026-03-16"), Money(300))]);
//! assert_eq!(weeks.iter().map(|week| (week.due.0, week.received.0)).collect::<Vec<_>>(), [(500, 0), (0, 300)]);
//! ```

use chrono::{Datelike, Days, NaiveDate};
use serde::{Deserialize, Serialize};

use crate::money::Money;

/// A week of it, Monday to Sunday.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FlowWeek {
    /// Its Monday.
    pub from: NaiveDate,
    /// What fell due in it, each instalment by its own date, in base currency.
    pub due: Money,
    /// What came in, in base currency: receipts and deposits that were not reversed.
    pub received: Money,
}

/// The Monday of a day's week.
pub fn monday(day: NaiveDate) -> NaiveDate {
    day.checked_sub_days(Days::new(u64::from(day.weekday().num_days_from_monday()))).unwrap_or(day)
}

/// The first day of so many weeks, that of `today` the last.
pub fn first_day(today: NaiveDate, weeks: u64) -> NaiveDate {
    let monday = monday(today);
    monday.checked_sub_days(Days::new(7 * weeks.saturating_sub(1))).unwrap_or(monday)
}

/// Sums by week; what lies outside of them is left out.
pub fn by_week(
    today: NaiveDate,
    weeks: u64,
    due: &[(NaiveDate, Money)],
    received: &[(NaiveDate, Money)],
) -> Vec<FlowWeek> {
    let first = first_day(today, weeks);
    let mut found: Vec<FlowWeek> = (0..weeks)
        .filter_map(|week| first.checked_add_days(Days::new(7 * week)))
        .map(|from| FlowWeek { from, due: Money::ZERO, received: Money::ZERO })
        .collect();
    let at = |day: NaiveDate| usize::try_from((day - first).num_days().div_euclid(7)).ok();
    for (day, amount) in due {
        if let Some(week) = at(*day).and_then(|at| found.get_mut(at)) {
            week.due += *amount;
        }
    }
    for (day, amount) in received {
        if let Some(week) = at(*day).and_then(|at| found.get_mut(at)) {
            week.received += *amount;
        }
    }
    found
}
