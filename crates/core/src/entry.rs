//! Journal entries: balanced, in base currency, with the document amount beside it.
//!
//! *Source: domain.md section 11; double entry itself is common practice, no source.*
//!
//! ```
//! use till_core::accounts::{Account, AccountMap, AccountRule, AccountType, Purpose};
//! use till_core::entry::{EntryBuilder, LineFor};
//! use till_core::money::{Currency, Money};
//! let to = |purpose, number: &str, account_type| AccountRule {
//!     purpose,
//!     item_class: None,
//!     customer_class: None,
//!     account: Account { number: number.to_owned(), name: String::new(), account_type },
//! };
//! let map = AccountMap(vec![
//!     to(Purpose::Bank, "31000", AccountType::Asset),
//!     to(Purpose::Receivable, "21000", AccountType::Asset),
//! ]);
//! let mut builder = EntryBuilder::new(&map, None, Currency::of("EUR").unwrap());
//! builder.add_base(Purpose::Bank, Money(73_800), LineFor::default());
//! builder.add_base(Purpose::Receivable, Money(-73_800), LineFor::default());
//! let day = "2026-03-18".parse().unwrap();
//! let (entry, problems) = builder.finish(day, "Receipt".to_owned());
//! let entry = entry.unwrap();
//! assert!(problems.is_empty() && entry.balances());
//! // What takes it back is the same with the signs turned.
//! assert_eq!(entry.reversed(day, "Receipt reversed".to_owned()).lines[0].base, Money(-73_800));
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::{Account, AccountMap, NoAccount, Purpose};
use crate::checks::{Check, Findings};
use crate::fixed::{ExchangeRate, Rate};
use crate::ids::CustomerId;
use crate::marks::Marks;
use crate::money::{Currency, Money};
use crate::spread::spread;

/// One line of an entry. Debits are positive, credits negative.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EntryLine {
    /// The account's number.
    pub account: String,
    /// The account's name.
    pub account_name: String,
    /// What the line is for.
    pub purpose: Purpose,
    /// Amount in base currency; debit positive, credit negative.
    pub base: Money,
    /// Amount in the line's own currency, signed alike.
    pub document: Money,
    /// The line's own currency: one entry may carry several.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Whose side ledger it touches.
    pub customer: Option<CustomerId>,
    /// Code and taxed amount, where the line is tax. The base is positive on an invoice.
    pub tax: Option<TaxMark>,
    /// Own fields and reporting codes of what it is about.
    #[serde(default, skip_serializing_if = "Marks::is_empty")]
    pub marks: Marks,
}

/// What a tax line carries besides its amount. Every supply writes one, where the tax is zero too,
/// so that a return can be made from the ledger. *Source: domain.md section 4.*
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TaxMark {
    /// The tax code.
    pub code: String,
    /// What was taxed, in base currency: the sum of what its revenue lines carry. Positive on an
    /// invoice, negative on what takes one back.
    pub base: Money,
    /// What was taxed, in the line's own currency, signed alike.
    #[serde(default)]
    pub document_base: Money,
    /// The rate; none on entries of before it was kept.
    #[serde(default)]
    pub rate: Option<Rate>,
    /// The day that decides the rate and the return; none on entries of before it was kept.
    #[serde(default)]
    pub tax_date: Option<NaiveDate>,
}

impl TaxMark {
    /// Code, rate and day: what is reported together.
    fn of_what(&self) -> (&str, Option<Rate>, Option<NaiveDate>) {
        (&self.code, self.rate, self.tax_date)
    }

    fn turned(&self) -> Self {
        Self { base: -self.base, document_base: -self.document_base, ..self.clone() }
    }
}

/// A balanced entry, not yet numbered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Entry {
    /// Posting date: decides the period.
    pub date: NaiveDate,
    /// What happened, in a few words.
    pub text: String,
    /// The currency of the document it came from; each line carries its own.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Two or more lines that add up to zero.
    pub lines: Vec<EntryLine>,
}

impl Entry {
    /// The sum of its debits, in base currency.
    pub fn debits(&self) -> Money {
        self.lines.iter().map(|line| line.base).filter(|amount| amount.is_positive()).sum()
    }

    /// The entry that takes this one back: the very accounts, the signs turned.
    pub fn reversed(&self, date: NaiveDate, text: String) -> Self {
        let turned = |line: &EntryLine| EntryLine {
            base: -line.base,
            document: -line.document,
            tax: line.tax.as_ref().map(TaxMark::turned),
            ..line.clone()
        };
        Self { date, text, currency: self.currency, lines: self.lines.iter().map(turned).collect() }
    }

    /// The same with further lines: what says the same as a line that is there is added to it, what comes to nothing
    /// is left out.
    pub(crate) fn with(mut self, more: &[EntryLine]) -> Self {
        for line in more {
            let same = self.lines.iter_mut().find(|known| {
                (&known.account, known.purpose, known.customer, known.currency, &known.marks)
                    == (&line.account, line.purpose, line.customer, line.currency, &line.marks)
                    && known.tax.as_ref().map(TaxMark::of_what) == line.tax.as_ref().map(TaxMark::of_what)
            });
            match same {
                Some(known) => {
                    known.base += line.base;
                    known.document += line.document;
                    if let (Some(known), Some(more)) = (&mut known.tax, &line.tax) {
                        known.base += more.base;
                        known.document_base += more.document_base;
                    }
                }
                None => self.lines.push(line.clone()),
            }
        }
        let says = |line: &EntryLine| {
            let taxed = line.tax.as_ref().is_some_and(|tax| !tax.base.is_zero() || !tax.document_base.is_zero());
            !line.base.is_zero() || !line.document.is_zero() || taxed
        };
        self.lines.retain(says);
        self
    }

    /// Whether it balances, in base currency.
    pub fn balances(&self) -> bool {
        self.lines.iter().map(|line| line.base).sum::<Money>().is_zero()
    }
}

/// Collects lines in document currency and turns them into an entry.
#[derive(Debug)]
pub struct EntryBuilder<'map> {
    accounts: &'map AccountMap,
    currency: Currency,
    customer_class: Option<String>,
    lines: Vec<EntryLine>,
    problems: Vec<NoAccount>,
}

/// For whom and what a line is, besides its purpose and amount.
#[derive(Debug, Clone, Default)]
pub struct LineFor<'a> {
    /// Class of the item, where the line is about one.
    pub item_class: Option<&'a str>,
    /// The customer whose side ledger it touches.
    pub customer: Option<CustomerId>,
    /// The line's currency, where it is another than the entry's.
    pub currency: Option<Currency>,
    /// The customer's class, where it is another customer than the entry's.
    pub customer_class: Option<&'a str>,
    /// Tax code, taxed amount, rate and date.
    pub tax: Option<TaxMark>,
    /// Own fields and reporting codes.
    pub marks: Option<&'a Marks>,
}

impl<'map> EntryBuilder<'map> {
    /// Starts an entry in a currency, for customers of a class.
    pub fn new(accounts: &'map AccountMap, customer_class: Option<&str>, currency: Currency) -> Self {
        let customer_class = customer_class.map(str::to_owned);
        Self { accounts, currency, customer_class, lines: Vec::new(), problems: Vec::new() }
    }

    /// Adds an amount: debit positive, credit negative, both in document and base currency.
    ///
    /// Amounts of zero are left out, unless they are the tax of a supply. Lines of the same account,
    /// customer, currency and marks are one line. A purpose without an account is kept as a problem for [`Self::finish`].
    pub fn add(&mut self, purpose: Purpose, document: Money, base: Money, for_what: LineFor<'_>) {
        if says_nothing((document, base), &for_what) {
            return;
        }
        let class = for_what.customer_class.or(self.customer_class.as_deref());
        match self.accounts.account(purpose, for_what.item_class, class) {
            Ok(account) => self.add_to(&account.clone(), purpose, (document, base), for_what),
            Err(problem) => {
                if !self.problems.contains(&problem) {
                    self.problems.push(problem);
                }
            }
        }
    }

    /// Adds an amount, in document and base currency, to an account someone named.
    pub fn add_to(
        &mut self,
        account: &Account,
        purpose: Purpose,
        (document, base): (Money, Money),
        for_what: LineFor<'_>,
    ) {
        if says_nothing((document, base), &for_what) {
            return;
        }
        let currency = for_what.currency.unwrap_or(self.currency);
        let marks = for_what.marks.cloned().unwrap_or_default();
        // Each open item and each tax stands by itself: there may be thousands, and no other is looked for.
        let alone = purpose == Purpose::Receivable || for_what.tax.is_some();
        let mergeable = self.lines.iter_mut().filter(|_| !alone).find(|line| {
            line.purpose == purpose
                && line.account == account.number
                && line.customer == for_what.customer
                && line.currency == currency
                && line.marks == marks
                && line.tax.is_none()
                && line.base.is_positive() == base.is_positive()
        });
        match mergeable {
            Some(line) => {
                line.base += base;
                line.document += document;
            }
            None => self.lines.push(EntryLine {
                account: account.number.clone(),
                account_name: account.name.clone(),
                purpose,
                base,
                document,
                currency,
                customer: for_what.customer,
                tax: for_what.tax,
                marks,
            }),
        }
    }

    /// Adds an amount that is the same in both currencies, to an entry in base currency.
    pub fn add_base(&mut self, purpose: Purpose, amount: Money, for_what: LineFor<'_>) {
        self.add(purpose, amount, amount, for_what);
    }

    /// Adds a difference between the rates of two documents: a loss positive, a gain negative.
    pub fn add_difference(&mut self, amount: Money, base: Currency) {
        let what = LineFor { currency: Some(base), ..LineFor::default() };
        self.add(Purpose::FxDifference, amount, amount, what);
    }

    /// The entry, or none where it has no lines; and every purpose that led to no account.
    pub fn finish(self, date: NaiveDate, text: String) -> (Option<Entry>, Vec<NoAccount>) {
        let entry =
            (!self.lines.is_empty()).then_some(Entry { date, text, currency: self.currency, lines: self.lines });
        (entry, self.problems)
    }

    /// The entry, where every purpose led to an account; what did not stands among the findings.
    pub fn finish_or_say(self, date: NaiveDate, text: String, findings: &mut Findings) -> Option<Entry> {
        let (entry, problems) = self.finish(date, text);
        let complete = problems.is_empty();
        for problem in problems {
            findings.add(Check::AccountMissing, "account_map", problem.to_string());
        }
        entry.filter(|_| complete)
    }
}

/// Whether a line would say nothing: no amount, and no supply that was taxed at zero.
fn says_nothing((document, base): (Money, Money), for_what: &LineFor<'_>) -> bool {
    let supply = for_what.tax.as_ref().is_some_and(|tax| !tax.base.is_zero() || !tax.document_base.is_zero());
    document.is_zero() && base.is_zero() && !supply
}

/// A document's amounts in base currency.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Converted {
    /// What the customer owes.
    pub total: Money,
    /// Tax, in the order given.
    pub taxes: Vec<Money>,
    /// The other lines, in the order given.
    pub others: Vec<Money>,
}

/// Converts a document: the total first, then each tax, and what remains is spread over
/// the other lines by largest remainder. *Source: domain.md section 11.*
pub fn convert(taxes: &[Money], others: &[Money], rate: ExchangeRate, document: Currency, base: Currency) -> Converted {
    let document_total: Money = taxes.iter().chain(others).copied().sum();
    let total = document_total.to_base(rate, document, base);
    let taxes: Vec<Money> = taxes.iter().map(|tax| tax.to_base(rate, document, base)).collect();
    let rest = total - taxes.iter().copied().sum::<Money>();
    let weights: Vec<i64> = others.iter().map(|amount| amount.0).collect();
    Converted { total, taxes, others: spread(rest, &weights) }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// postings.md: GBP invoice 100.07 + 23.02 = 123.09 at 1.17.
    #[test]
    fn the_total_is_converted_first() {
        let gbp = Currency::of("GBP").unwrap();
        let eur = Currency::of("EUR").unwrap();
        let converted = convert(&[Money(2302)], &[Money(10_007)], "1.17".parse().unwrap(), gbp, eur);
        assert_eq!(converted.total, Money(14_402));
        assert_eq!(converted.taxes, [Money(2693)]);
        assert_eq!(converted.others, [Money(11_709)]);
    }

    #[test]
    fn exponents_of_both_currencies_count() {
        let jpy = Currency::of("JPY").unwrap();
        let eur = Currency::of("EUR").unwrap();
        let converted = convert(&[], &[Money(10_000)], "0.006123".parse().unwrap(), jpy, eur);
        assert_eq!(converted.total, Money(6_123));
    }
}
