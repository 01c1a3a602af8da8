//! Which column of a bank's own table is what: said once for an account, and kept.

use serde::{Deserialize, Serialize};

use super::BankLineKind;
use crate::money::{Currency, Money};

/// How a table writes days.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum DayOrder {
    /// 2026-03-18.
    #[default]
    YearFirst,
    /// 18.03.2026, 18/03/26.
    DayFirst,
    /// 03/18/2026.
    MonthFirst,
}

/// Which column is what. Columns are named as the first line of the table names them, in small letters, spaces as `_`.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StatementColumns {
    /// When the bank booked it.
    pub date: String,
    /// How much, with a minus where it left; none where two columns say it.
    #[serde(default)]
    pub amount: Option<String>,
    /// What came in, where that is a column of its own.
    #[serde(default)]
    pub paid_in: Option<String>,
    /// What left, without a minus.
    #[serde(default)]
    pub paid_out: Option<String>,
    /// The balance after the line; none where the table has none: then both balances are typed.
    #[serde(default)]
    pub balance: Option<String>,
    /// Who paid, or was paid.
    #[serde(default)]
    pub party: Option<String>,
    /// The account it came from, or went to.
    #[serde(default)]
    pub party_account: Option<String>,
    /// What was written with it.
    #[serde(default)]
    pub words: Option<String>,
    /// The structured reference.
    #[serde(default)]
    pub reference: Option<String>,
    /// How days are written.
    #[serde(default)]
    pub days: DayOrder,
    /// Whether amounts have a comma before their cents.
    #[serde(default)]
    pub decimal_comma: bool,
}

impl StatementColumns {
    /// A first guess by the names of the columns, for a person to put right. *Common practice, no source, for the names.*
    pub fn guess(headings: &[String]) -> Self {
        let find = |wanted: &[&str], not: &[&str]| {
            let fits = |heading: &&String| {
                wanted.iter().any(|word| heading.contains(word)) && !not.iter().any(|word| heading.contains(word))
            };
            headings.iter().find(fits).cloned()
        };
        let paid_in = find(&["credit", "paid_in", "money_in", "deposits"], &["card", "creditor"]);
        let paid_out = find(&["debit", "paid_out", "money_out", "withdraw"], &["card", "debtor"]);
        let both = paid_in.is_some() && paid_out.is_some();
        Self {
            date: find(&["booking", "booked", "posting"], &["text"])
                .or_else(|| find(&["date", "day"], &[]))
                .unwrap_or_default(),
            amount: if both { None } else { find(&["amount", "value"], &["date", "balance"]) },
            paid_in: paid_in.filter(|_| both),
            paid_out: paid_out.filter(|_| both),
            balance: find(&["balance"], &[]),
            party: find(&["payer", "payee", "name", "counterparty", "party", "who"], &["account"]),
            party_account: find(&["iban", "account"], &["own", "name", "balance"]),
            words: find(
                &["description", "remittance", "details", "text", "purpose", "narrative", "memo", "words"],
                &[],
            ),
            reference: find(&["reference"], &["bank"]),
            days: DayOrder::default(),
            decimal_comma: false,
        }
    }
}

/// What a line of a table is: tables have no codes, so that only what nobody is named with is more than a transfer.
/// *Common practice, no source, for the words.*
pub fn kind_of(party: Option<&str>, words: &str, amount: Money) -> BankLineKind {
    let words = words.to_lowercase();
    let says = |wanted: &[&str]| wanted.iter().any(|word| words.contains(word));
    match (party, amount.is_positive()) {
        (_, false) if says(&["unpaid", "returned", "dishono", "chargeback"]) => BankLineKind::Returned,
        (None, _) if says(&["interest"]) => BankLineKind::Interest,
        (None, false) if says(&["fee", "charge", "commission"]) => BankLineKind::Fee,
        (None, true) if says(&["cash deposit", "check deposit", "counter"]) => BankLineKind::Deposit,
        _ => BankLineKind::Transfer,
    }
}

/// An amount as a bank writes it: spaces, apostrophes and signs of thousands taken out; a minus before or after, or brackets.
/// None where it is no amount.
///
/// ```
/// use till_core::bank::columns::amount;
/// use till_core::money::{Currency, Money};
/// let eur = Currency::of("EUR").unwrap();
/// assert_eq!(amount("1.234,50-", eur, true), Some(Money(-123_450)));
/// assert_eq!(amount("(1,234.50)", eur, false), Some(Money(-123_450)));
/// assert_eq!(amount("12.3456", eur, false), None);
/// ```
pub fn amount(text: &str, currency: Currency, decimal_comma: bool) -> Option<Money> {
    let text = text.trim().trim_end_matches(currency.code()).trim();
    let (text, bracketed) = match text.strip_prefix('(').and_then(|inside| inside.strip_suffix(')')) {
        Some(inside) => (inside, true),
        None => (text, false),
    };
    let trailing = text.ends_with(['-', '\u{2212}']);
    let leading = text.starts_with(['-', '\u{2212}']);
    let text = text.trim_matches(['-', '+', '\u{2212}', ' ']);
    let thousands = if decimal_comma { '.' } else { ',' };
    let plain: String = text
        .chars()
        .filter(|sign| *sign != thousands && !sign.is_whitespace() && *sign != '\'')
        .map(|sign| if decimal_comma && sign == ',' { '.' } else { sign })
        .collect();
    if plain.is_empty() || !plain.chars().all(|sign| sign.is_ascii_digit() || sign == '.') {
        return None;
    }
    let amount = currency.parse(&plain).ok()?;
    // Both a minus before and brackets would say the same twice: that is no amount anyone writes.
    match [bracketed, trailing, leading].into_iter().filter(|sign| *sign).count() {
        0 => Some(amount),
        1 => Some(-amount),
        _ => None,
    }
}

/// A day as a bank writes it. None where it is none.
///
/// ```
/// use till_core::bank::columns::{DayOrder, day};
/// assert_eq!(day("18.03.26", DayOrder::DayFirst), "2026-03-18".parse().ok());
/// assert_eq!(day("3/18/2026", DayOrder::MonthFirst), "2026-03-18".parse().ok());
/// assert_eq!(day("31.02.2026", DayOrder::DayFirst), None);
/// ```
pub fn day(text: &str, order: DayOrder) -> Option<chrono::NaiveDate> {
    // Some write the time behind it.
    let text = text.trim().split(['T', ' ']).next()?;
    let parts: Vec<i32> = text.split(['-', '.', '/']).map(|part| part.parse().ok()).collect::<Option<_>>()?;
    let [first, second, third] = parts.as_slice() else { return None };
    let (year, month, day) = match order {
        DayOrder::YearFirst => (*first, *second, *third),
        DayOrder::DayFirst => (*third, *second, *first),
        DayOrder::MonthFirst => (*third, *first, *second),
    };
    let year = if (0..100).contains(&year) { 2_000 + year } else { year };
    chrono::NaiveDate::from_ymd_opt(year, u32::try_from(month).ok()?, u32::try_from(day).ok()?)
}
