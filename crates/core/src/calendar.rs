//! Dates: periods, dates nobody typed, and how dates are said.
//!
//! The core never reads a clock; whoever calls it brings the business date.
//!
//! ```
//! use till_core::calendar::{Period, Periods, end_of_month};
//! let day = |text: &str| text.parse().unwrap();
//! assert_eq!(end_of_month(day("2028-02-10")), day("2028-02-29"));
//! let month = |first: &str, open| Period { first: day(first), last: end_of_month(day(first)), open };
//! let periods = Periods(vec![month("2026-02-01", false), month("2026-03-01", true)]);
//! assert_eq!(periods.obstacle(day("2026-03-18")), None);
//! assert!(periods.obstacle(day("2026-02-28")).unwrap().contains("Post on 1 Mar 2026 or later"));
//! ```

use chrono::{Datelike, Days, Months, NaiveDate};
use serde::{Deserialize, Serialize};

use crate::checks::{Check, Findings};
pub use crate::terms::Terms;

pub(crate) fn plus_days(date: NaiveDate, days: u64) -> NaiveDate {
    date.checked_add_days(Days::new(days)).unwrap_or(NaiveDate::MAX)
}

pub(crate) fn first_of_next_month(date: NaiveDate) -> NaiveDate {
    date.with_day(1).and_then(|first| first.checked_add_months(Months::new(1))).unwrap_or(NaiveDate::MAX)
}

/// The last day of the month of `date`.
pub fn end_of_month(date: NaiveDate) -> NaiveDate {
    first_of_next_month(date).pred_opt().unwrap_or(date)
}

pub(crate) fn day_in_month(month: NaiveDate, day: u8) -> NaiveDate {
    let last = end_of_month(month);
    month.with_day(u32::from(day.max(1))).unwrap_or(last)
}

/// A date as people read it: 18 Mar 2026.
pub fn words(date: NaiveDate) -> String {
    let month = match date.month() {
        1 => "Jan",
        2 => "Feb",
        3 => "Mar",
        4 => "Apr",
        5 => "May",
        6 => "Jun",
        7 => "Jul",
        8 => "Aug",
        9 => "Sep",
        10 => "Oct",
        11 => "Nov",
        _ => "Dec",
    };
    format!("{} {month} {}", date.day(), date.year())
}

/// A date on a document, and whether someone typed it. The tape marks those nobody typed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DocumentDate {
    /// The date.
    pub date: NaiveDate,
    /// Whether a person chose it; otherwise it came from the business date.
    pub typed: bool,
}

impl DocumentDate {
    /// The typed date, or else the business date.
    pub fn or_business_date(typed: Option<NaiveDate>, business_date: NaiveDate) -> Self {
        Self { date: typed.unwrap_or(business_date), typed: typed.is_some() }
    }
}

/// Document and posting date of an invoice: the document date is the typed one or the business
/// date; the posting date follows it until it is typed itself.
pub fn invoice_dates(
    typed_document: Option<NaiveDate>,
    typed_posting: Option<NaiveDate>,
    business_date: NaiveDate,
) -> (DocumentDate, DocumentDate) {
    let document = DocumentDate::or_business_date(typed_document, business_date);
    (document, DocumentDate::or_business_date(typed_posting, document.date))
}

/// What the date of a document is held against: today's, and the last of its kind. *Source: domain.md sections 3 and 7.*
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DateOrder {
    /// The business date.
    pub today: NaiveDate,
    /// The date of the latest document of its kind that stands, among those dated no later than today; none
    /// where there is none, or where the kind has no order.
    pub last: Option<NaiveDate>,
    /// Whether a date before that one stops the posting; it warns otherwise.
    pub stops: bool,
}

impl DateOrder {
    /// A date that only has to lie no later than today, for what has no numbers of its own.
    pub const fn of_today(today: NaiveDate) -> Self {
        Self { today, last: None, stops: false }
    }

    /// Warns or stops where the date lies before the last of its kind, and asks about one after today's.
    /// `kind` is said with its article left out: “invoice”.
    pub(crate) fn check(&self, kind: &str, date: NaiveDate, field: &str, findings: &mut Findings) {
        if let Some(last) = self.last.filter(|last| date < *last) {
            let check = if self.stops { Check::DateBeforeLast } else { Check::DateOutOfOrder };
            findings.add(check, field, format!("The last {kind} is dated {}, after this one.", words(last)));
        }
        if date > self.today {
            let (date, today) = (words(date), words(self.today));
            let sentence = format!("The document is dated {date}, after today's {today}. Is that meant?");
            findings.add(Check::DateAhead, field, sentence);
        }
    }
}

/// A stretch of days the books are kept by, usually a month.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Period {
    /// Its first day.
    pub first: NaiveDate,
    /// Its last day.
    pub last: NaiveDate,
    /// Whether entries may be posted into it.
    pub open: bool,
}

/// The company's periods.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Periods(pub Vec<Period>);

impl Periods {
    /// Whether the period that begins on `first` may be opened or closed. Periods are closed in
    /// order: an entry into an open month before a closed one would change what was reported.
    /// *Common practice, no source.*
    ///
    /// # Errors
    /// A sentence that says why not.
    pub fn may_set(&self, first: NaiveDate, open: bool) -> Result<(), String> {
        let Some(period) = self.0.iter().find(|period| period.first == first) else {
            return Err(format!("No period begins on {}.", words(first)));
        };
        let name = |period: &Period| period.first.format("%B %Y").to_string();
        if period.open == open {
            return Err(format!("{} is {} already.", name(period), if open { "open" } else { "closed" }));
        }
        if let Some(earlier) = self.0.iter().find(|other| !open && other.open && other.first < first) {
            return Err(format!("{} is still open. Close it first.", name(earlier)));
        }
        if let Some(later) = self.0.iter().find(|other| open && !other.open && other.first > first) {
            return Err(format!("{} is closed. Open it first.", name(later)));
        }
        Ok(())
    }

    /// Why nothing may be posted on `date`, or `None` where it may.
    pub fn obstacle(&self, date: NaiveDate) -> Option<String> {
        let period = self.0.iter().find(|period| period.first <= date && date <= period.last);
        match period {
            Some(period) if period.open => None,
            Some(period) => {
                let reopened = self
                    .0
                    .iter()
                    .filter(|candidate| candidate.open && candidate.first > date)
                    .map(|candidate| candidate.first)
                    .min();
                let way_out = reopened.map_or_else(
                    || "Ask a supervisor to open it.".to_owned(),
                    |first| format!("Post on {} or later, or ask a supervisor to open it.", words(first)),
                );
                Some(format!("The period {} to {} is closed. {way_out}", words(period.first), words(period.last)))
            }
            None => Some(format!(
                "{} lies in no period of the books. Choose another date, or ask a supervisor to set the period up.",
                words(date)
            )),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(text: &str) -> NaiveDate {
        text.parse().unwrap()
    }

    /// Common practice, no source.
    #[test]
    fn the_posting_date_follows_the_document_until_it_is_typed() {
        let today = day("2026-03-18");
        let dates = |document: Option<&str>, posting: Option<&str>| {
            let (document, posting) = invoice_dates(document.map(day), posting.map(day), today);
            ((document.date, document.typed), (posting.date, posting.typed))
        };
        assert_eq!(dates(None, None), ((today, false), (today, false)));
        assert_eq!(dates(Some("2026-03-10"), None), ((day("2026-03-10"), true), (day("2026-03-10"), false)));
        assert_eq!(dates(None, Some("2026-03-20")), ((today, false), (day("2026-03-20"), true)));
    }

    #[test]
    fn a_closed_period_says_what_to_do() {
        let periods = Periods(vec![
            Period { first: day("2026-02-01"), last: day("2026-02-28"), open: false },
            Period { first: day("2026-03-01"), last: day("2026-03-31"), open: true },
        ]);
        assert_eq!(periods.obstacle(day("2026-03-18")), None);
        assert_eq!(
            periods.obstacle(day("2026-02-10")).unwrap(),
            "The period 1 Feb 2026 to 28 Feb 2026 is closed. Post on 1 Mar 2026 or later, or ask a supervisor to open it."
        );
        assert!(periods.obstacle(day("2031-01-01")).unwrap().contains("no period"));
    }
}
