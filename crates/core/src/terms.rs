//! Payment terms: when a document falls due, in one part or several, and what is earned by
//! paying early.
//!
//! *Common practice, no source; domain.md section 5.*
//!
//! ```
//! use till_core::money::Money;
//! use till_core::terms::{Due, Instalment, SimpleDue, Terms};
//!
//! let date = "2026-01-31".parse().unwrap();
//! let half = |days| Instalment { share: "0.5".parse().unwrap(), due: SimpleDue::NetDays { days } };
//! let terms = Terms { due: Due::Instalments { parts: vec![half(28), half(59)] }, discount: None };
//! let parts: Vec<_> = terms.schedule(date, Money(10_001)).iter().map(|part| (part.date.to_string(), part.amount)).collect();
//! assert_eq!(parts, [("2026-02-28".to_owned(), Money(5_001)), ("2026-03-31".to_owned(), Money(5_000))]);
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::calendar::{day_in_month, end_of_month, first_of_next_month, plus_days};
use crate::fixed::Rate;
use crate::money::Money;
use crate::spread::spread;

/// The longest that terms may run, in days.
pub const LONGEST_TERMS: u16 = 1_096;
/// The most instalments.
pub const MOST_INSTALMENTS: usize = 12;

/// Payment terms of a customer, an order or an invoice.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Hash)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Terms {
    /// When it falls due.
    #[serde(flatten)]
    pub due: Due,
    /// What is earned by paying early.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub discount: Option<EarlyDiscount>,
}

/// When a document of a given date falls due.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Hash)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Due {
    /// So many days after the document date.
    NetDays {
        /// Days, 0 for at once.
        days: u16,
    },
    /// So many days after the end of the document's month.
    EndOfMonth {
        /// Days after the month's last day.
        plus_days: u16,
    },
    /// The first such day of a month after the document date, or the month's last day
    /// where the month is shorter.
    DayOfMonth {
        /// 1 to 31.
        day: u8,
    },
    /// In parts.
    Instalments {
        /// Their shares add up to one.
        parts: Vec<Instalment>,
    },
}

/// One part of terms in instalments.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Hash)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Instalment {
    /// Its share of the total, a fraction of one.
    pub share: Rate,
    /// When it falls due.
    pub due: SimpleDue,
}

/// When a single amount falls due.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Hash)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum SimpleDue {
    /// So many days after the document date.
    NetDays {
        /// Days, 0 for at once.
        days: u16,
    },
    /// So many days after the end of the document's month.
    EndOfMonth {
        /// Days after the month's last day.
        plus_days: u16,
    },
    /// The first such day of a month after the document date.
    DayOfMonth {
        /// 1 to 31.
        day: u8,
    },
}

/// A discount for paying early.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Hash)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EarlyDiscount {
    /// How much, a fraction of one.
    pub rate: Rate,
    /// Within so many days of the document date.
    pub days: u16,
    /// Of what.
    pub base: DiscountBase,
    /// Days after that which are not held against the customer.
    #[serde(default)]
    pub grace_days: u16,
    /// Whether the discount takes its tax with it.
    #[serde(default)]
    pub tax_adjusted: bool,
}

/// What an early-payment discount is a share of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Hash)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum DiscountBase {
    /// The net.
    Net,
    /// The total with tax.
    Gross,
}

/// What falls due on a day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DuePart {
    /// The day.
    pub date: NaiveDate,
    /// How much.
    pub amount: Money,
}

/// What paying early earns on a document.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DiscountOffer {
    /// The last day.
    pub until: NaiveDate,
    /// The last day with grace.
    pub until_with_grace: NaiveDate,
    /// How much the customer takes off.
    pub amount: Money,
}

impl SimpleDue {
    /// The due date of an amount on a document of this date. A date past the calendar's end
    /// gives that end.
    pub fn due_date(self, document_date: NaiveDate) -> NaiveDate {
        match self {
            Self::NetDays { days } => plus_days(document_date, u64::from(days)),
            Self::EndOfMonth { plus_days: days } => plus_days(end_of_month(document_date), u64::from(days)),
            Self::DayOfMonth { day } => {
                let this_month = day_in_month(document_date, day);
                if this_month > document_date {
                    this_month
                } else {
                    day_in_month(first_of_next_month(document_date), day)
                }
            }
        }
    }

    fn words(self) -> String {
        match self {
            Self::NetDays { days: 0 } => "due at once".to_owned(),
            Self::NetDays { days } => format!("{days} days net"),
            Self::EndOfMonth { plus_days: 0 } => "end of month".to_owned(),
            Self::EndOfMonth { plus_days } => format!("end of month plus {plus_days} days"),
            Self::DayOfMonth { day } => format!("day {day} of the month"),
        }
    }

    fn check(self) -> Result<(), String> {
        match self {
            Self::NetDays { days: n } | Self::EndOfMonth { plus_days: n } if n > LONGEST_TERMS => {
                Err(format!("Terms run for {LONGEST_TERMS} days at most."))
            }
            Self::DayOfMonth { day } if !(1..=31).contains(&day) => {
                Err("A day of the month lies between 1 and 31.".to_owned())
            }
            _ => Ok(()),
        }
    }
}

impl Terms {
    /// So many days net.
    pub const fn net_days(days: u16) -> Self {
        Self { due: Due::NetDays { days }, discount: None }
    }

    /// So many days after the end of the month.
    pub const fn end_of_month(plus_days: u16) -> Self {
        Self { due: Due::EndOfMonth { plus_days }, discount: None }
    }

    /// A day of the month.
    pub const fn day_of_month(day: u8) -> Self {
        Self { due: Due::DayOfMonth { day }, discount: None }
    }

    fn simple(&self) -> Option<SimpleDue> {
        match self.due {
            Due::NetDays { days } => Some(SimpleDue::NetDays { days }),
            Due::EndOfMonth { plus_days } => Some(SimpleDue::EndOfMonth { plus_days }),
            Due::DayOfMonth { day } => Some(SimpleDue::DayOfMonth { day }),
            Due::Instalments { .. } => None,
        }
    }

    /// The first day on which something of a document with this date falls due.
    pub fn due_date(&self, document_date: NaiveDate) -> NaiveDate {
        self.dates(document_date).into_iter().min().unwrap_or(document_date)
    }

    fn dates(&self, document_date: NaiveDate) -> Vec<NaiveDate> {
        match &self.due {
            Due::Instalments { parts } => parts.iter().map(|part| part.due.due_date(document_date)).collect(),
            _ => self.simple().map(|due| due.due_date(document_date)).into_iter().collect(),
        }
    }

    /// What falls due when. The parts add up to the total to the last minor unit: shares are
    /// spread by largest remainder, ties to the earlier part.
    pub fn schedule(&self, document_date: NaiveDate, total: Money) -> Vec<DuePart> {
        let weights: Vec<i64> = match &self.due {
            Due::Instalments { parts } => parts.iter().map(|part| part.share.scaled()).collect(),
            _ => vec![1],
        };
        let amounts = spread(total, &weights);
        let mut parts: Vec<DuePart> =
            self.dates(document_date).into_iter().zip(amounts).map(|(date, amount)| DuePart { date, amount }).collect();
        parts.sort_by_key(|part| part.date);
        parts
    }

    /// What of `open` falls due when: what was paid counts for the parts that were due first.
    pub fn open_parts(&self, document_date: NaiveDate, total: Money, open: Money) -> Vec<DuePart> {
        let mut paid = total - open;
        self.schedule(document_date, total)
            .into_iter()
            .filter_map(|part| {
                let covered = Money(paid.0.min(part.amount.0).max(0));
                paid -= covered;
                let left = part.amount - covered;
                (!left.is_zero()).then_some(DuePart { date: part.date, amount: left })
            })
            .collect()
    }

    /// The day on which the next part of what is open falls due; the last day once nothing is.
    pub fn next_due(&self, document_date: NaiveDate, total: Money, open: Money) -> NaiveDate {
        self.open_parts(document_date, total, open)
            .first()
            .map(|part| part.date)
            .or_else(|| self.dates(document_date).into_iter().max())
            .unwrap_or(document_date)
    }

    /// What paying early earns on a document of this date: off the net or the total of what is sold. Packaging
    /// that is owed back is no part of either.
    pub fn offer(&self, document_date: NaiveDate, net: Money, total: Money) -> Option<DiscountOffer> {
        let discount = self.discount?;
        // Never after the day it is due.
        let until = plus_days(document_date, u64::from(discount.days)).min(self.due_date(document_date));
        // Where the tax is adjusted the customer keeps back the percentage of net and of tax, and both are booked.
        let amount = match discount.base {
            _ if discount.tax_adjusted => net.times_rate(discount.rate) + (total - net).times_rate(discount.rate),
            DiscountBase::Net => net.times_rate(discount.rate),
            DiscountBase::Gross => total.times_rate(discount.rate),
        };
        Some(DiscountOffer { until, until_with_grace: plus_days(until, u64::from(discount.grace_days)), amount })
    }

    /// As printed: “2 % within 10 days, 30 days net”.
    pub fn words(&self) -> String {
        let due = match &self.due {
            Due::Instalments { parts } => parts
                .iter()
                .map(|part| format!("{} % {}", part.share.percent(), part.due.words()))
                .collect::<Vec<_>>()
                .join(", "),
            _ => self.simple().map(SimpleDue::words).unwrap_or_default(),
        };
        match &self.discount {
            None => due,
            Some(discount) => {
                let of = if discount.base == DiscountBase::Net && !discount.tax_adjusted { " of the net" } else { "" };
                format!("{} %{of} within {} days, {due}", discount.rate.percent(), discount.days)
            }
        }
    }

    /// Whether such terms can be given.
    ///
    /// # Errors
    /// The field and what to write instead.
    pub fn check(&self) -> Result<(), (&'static str, String)> {
        match &self.due {
            Due::Instalments { parts } => {
                if !(2..=MOST_INSTALMENTS).contains(&parts.len()) {
                    return Err(("terms.parts", format!("Give 2 to {MOST_INSTALMENTS} installments.")));
                }
                if parts.iter().any(|part| !part.share.is_positive()) {
                    return Err(("terms.parts", "Each installment needs a share above zero.".to_owned()));
                }
                let shares: i64 = parts.iter().map(|part| part.share.scaled()).sum();
                if shares != Rate::ONE.scaled() {
                    return Err((
                        "terms.parts",
                        format!("The shares add up to {} %, not to 100 %.", Rate::from_scaled(shares).percent()),
                    ));
                }
                for part in parts {
                    part.due.check().map_err(|sentence| ("terms.parts", sentence))?;
                }
            }
            _ => {
                if let Some(due) = self.simple() {
                    due.check().map_err(|sentence| ("terms", sentence))?;
                }
            }
        }
        let Some(discount) = &self.discount else { return Ok(()) };
        if !discount.rate.is_positive() || discount.rate >= Rate::ONE {
            return Err(("terms.discount", "An early-payment discount lies between 0 and 100 %.".to_owned()));
        }
        if discount.days > LONGEST_TERMS || discount.grace_days > 60 {
            return Err((
                "terms.discount",
                "The days of a discount are those of the terms at most, and 60 of grace.".to_owned(),
            ));
        }
        let latest = NaiveDate::default();
        if self.due_date(latest) < plus_days(latest, u64::from(discount.days)) {
            return Err((
                "terms.discount",
                "The discount would run longer than the terms. Give it fewer days.".to_owned(),
            ));
        }
        Ok(())
    }
}

/// What a document of a round figure would fall due on, and earn: how terms are shown before
/// anyone has them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TermsPreview {
    /// In words.
    pub words: String,
    /// Net of the document.
    pub net: Money,
    /// Its total with tax.
    pub total: Money,
    /// What falls due when.
    pub parts: Vec<DuePart>,
    /// What paying early earns.
    pub offer: Option<DiscountOffer>,
}

/// Shows terms on a document of a date over a net and a total.
pub fn preview(terms: &Terms, document_date: NaiveDate, net: Money, total: Money) -> TermsPreview {
    TermsPreview {
        words: terms.words(),
        net,
        total,
        parts: terms.schedule(document_date, total),
        offer: terms.offer(document_date, net, total),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(text: &str) -> NaiveDate {
        text.parse().unwrap()
    }

    #[test]
    fn terms_give_due_dates() {
        let cases = [
            (Terms::net_days(30), "2026-03-18", "2026-04-17"),
            (Terms::net_days(0), "2026-03-18", "2026-03-18"),
            (Terms::net_days(30), "2024-01-31", "2024-03-01"),
            (Terms::end_of_month(0), "2024-02-10", "2024-02-29"),
            (Terms::end_of_month(0), "2026-02-28", "2026-02-28"),
            (Terms::end_of_month(15), "2026-02-10", "2026-03-15"),
            (Terms::end_of_month(10), "2025-12-31", "2026-01-10"),
            (Terms::day_of_month(15), "2026-03-14", "2026-03-15"),
            (Terms::day_of_month(15), "2026-03-15", "2026-04-15"),
            (Terms::day_of_month(31), "2026-02-03", "2026-02-28"),
            (Terms::day_of_month(31), "2024-02-03", "2024-02-29"),
            (Terms::day_of_month(31), "2026-02-28", "2026-03-31"),
        ];
        for (terms, from, due) in cases {
            assert_eq!(terms.due_date(day(from)), day(due), "{} from {from}", terms.words());
        }
    }

    fn thirds() -> Terms {
        let part = |share: &str, days| Instalment { share: share.parse().unwrap(), due: SimpleDue::NetDays { days } };
        Terms {
            due: Due::Instalments { parts: vec![part("0.333333", 30), part("0.333333", 60), part("0.333334", 90)] },
            discount: None,
        }
    }

    #[test]
    fn instalments_add_up_and_what_is_paid_covers_the_earliest() {
        let terms = thirds();
        let schedule = terms.schedule(day("2026-01-01"), Money(10_000));
        assert_eq!(schedule.iter().map(|part| part.amount.0).collect::<Vec<_>>(), [33_33, 33_33, 33_34]);
        let next = |open| terms.next_due(day("2026-01-01"), Money(10_000), Money(open));
        assert_eq!(next(10_000), day("2026-01-31"));
        assert_eq!(next(66_68), day("2026-01-31"), "a cent of the first is open");
        assert_eq!(next(66_67), day("2026-03-02"));
        assert_eq!(next(0), day("2026-04-01"));
        assert_eq!(terms.check(), Ok(()));
    }

    #[test]
    fn terms_are_kept_as_they_always_were() {
        let json = serde_json::to_string(&Terms::net_days(30)).unwrap();
        assert_eq!(json, r#"{"kind":"net_days","days":30}"#);
        assert_eq!(serde_json::from_str::<Terms>(&json).unwrap(), Terms::net_days(30));
        let json = serde_json::to_string(&thirds()).unwrap();
        assert_eq!(serde_json::from_str::<Terms>(&json).unwrap(), thirds());
    }

    /// The figures of postings.md: 984.00, of which net 800.00, with 2 % of either base.
    #[test]
    fn early_payment_earns_its_share_of_net_or_gross() {
        let adjusted = |base, tax_adjusted| Terms {
            discount: Some(EarlyDiscount {
                rate: "0.02".parse().unwrap(),
                days: 10,
                base,
                grace_days: 3,
                tax_adjusted,
            }),
            ..Terms::net_days(30)
        };
        let terms = |base| adjusted(base, false);
        // B10: tax adjusted, 16.00 of the net and 3.68 of the tax of 184.00, whatever the base.
        for base in [DiscountBase::Net, DiscountBase::Gross] {
            let offer = adjusted(base, true).offer(day("2026-03-18"), Money(80_000), Money(98_400)).unwrap();
            assert_eq!(offer.amount, Money(19_68));
        }
        let offer = |base| terms(base).offer(day("2026-03-18"), Money(80_000), Money(98_400)).unwrap();
        assert_eq!(offer(DiscountBase::Gross).amount, Money(19_68));
        assert_eq!(offer(DiscountBase::Net).amount, Money(16_00));
        assert_eq!(
            (offer(DiscountBase::Net).until, offer(DiscountBase::Net).until_with_grace),
            (day("2026-03-28"), day("2026-03-31"))
        );
        assert_eq!(terms(DiscountBase::Net).words(), "2 % of the net within 10 days, 30 days net");
    }

    #[test]
    fn what_cannot_be_terms_says_so() {
        let part = |share: &str, days| Instalment { share: share.parse().unwrap(), due: SimpleDue::NetDays { days } };
        let parts = |parts: Vec<Instalment>| Terms { due: Due::Instalments { parts }, discount: None };
        let sentence = |terms: Terms| terms.check().unwrap_err().1;
        assert_eq!(sentence(parts(vec![part("0.5", 1), part("0.4", 2)])), "The shares add up to 90 %, not to 100 %.");
        assert!(sentence(parts(vec![part("1", 1)])).contains("2 to 12"));
        assert!(sentence(Terms::day_of_month(0)).contains("between 1 and 31"));
        assert!(sentence(Terms::net_days(5_000)).contains("at most"));
        let discount = EarlyDiscount {
            rate: "0.02".parse().unwrap(),
            days: 40,
            base: DiscountBase::Gross,
            grace_days: 0,
            tax_adjusted: false,
        };
        assert!(sentence(Terms { discount: Some(discount), ..Terms::net_days(30) }).contains("longer than the terms"));
    }

    #[test]
    fn what_lies_just_within_is_fine() {
        assert_eq!(Terms::net_days(LONGEST_TERMS).check(), Ok(()));
        assert!(Terms::net_days(LONGEST_TERMS + 1).check().is_err());
        assert_eq!(Terms::end_of_month(LONGEST_TERMS).check(), Ok(()));
        for day in [1, 15, 31] {
            assert_eq!(Terms::day_of_month(day).check(), Ok(()));
        }
        assert!(Terms::day_of_month(32).check().is_err());
        let early = |rate: &str, days, grace_days| Terms {
            discount: Some(EarlyDiscount {
                rate: rate.parse().unwrap(),
                days,
                base: DiscountBase::Gross,
                grace_days,
                tax_adjusted: false,
            }),
            ..Terms::net_days(LONGEST_TERMS)
        };
        let field =
            |terms: Terms| terms.check().map_err(|(field, sentence)| (field, sentence.contains("between 0 and 100")));
        assert_eq!(field(early("0.999999", LONGEST_TERMS, 60)), Ok(()), "as long as the terms, and 60 days of grace");
        assert_eq!(field(early("0", 10, 0)), Err(("terms.discount", true)));
        assert_eq!(field(early("1", 10, 0)), Err(("terms.discount", true)));
        assert_eq!(field(early("0.02", 10, 61)), Err(("terms.discount", false)));
        let longer = early("0.02", LONGEST_TERMS + 1, 0).check().unwrap_err().1;
        assert!(longer.contains("those of the terms at most"), "{longer}");
    }

    #[test]
    fn instalments_are_printed_one_by_one() {
        assert_eq!(
            thirds().words(),
            "33.3333 % 30 days net, 33.3333 % 60 days net, 33.3334 % 90 days net",
            "{}",
            thirds().words()
        );
    }
}
