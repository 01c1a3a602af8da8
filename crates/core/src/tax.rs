//! Tax: codes, rates valid from a date, and the two ways of computing.
//!
//! *Source: EN 16931-1, BR-S-08 and BR-CO-17 (from memory) for tax per document: sum the
//! line nets of each code, then round once. Tax per line is common where sales tax is used.*
//!
//! ```
//! use till_core::money::Money;
//! use till_core::tax::{TaxCategory, TaxComputed, TaxRate, compute};
//! let rate = TaxRate { code: "S23".to_owned(), category: TaxCategory::S, rate: "0.23".parse().unwrap() };
//! // Three lines of 0.65: 0.1495 each is rounded to 0.15, 0.4485 of the sum to 0.45.
//! let lines = vec![(rate, Money(65)); 3];
//! assert_eq!(compute(TaxComputed::PerDocument, &lines)[0].tax, Money(45));
//! assert_eq!(compute(TaxComputed::PerLine, &lines)[0].tax, Money(45));
//! // Three of 0.67: 0.1541 each is rounded to 0.15, 0.4623 of the sum to 0.46.
//! let lines: Vec<_> = lines.into_iter().map(|(rate, _)| (rate, Money(67))).collect();
//! assert_eq!(compute(TaxComputed::PerDocument, &lines)[0].tax, Money(46));
//! assert_eq!(compute(TaxComputed::PerLine, &lines)[0].tax, Money(45));
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::fixed::Rate;
use crate::money::Money;
use crate::spread::spread;

/// A category of the open code list UNCL5305 (values from memory).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum TaxCategory {
    /// Standard rate, reduced ones included.
    S,
    /// Zero rated.
    Z,
    /// Exempt.
    E,
    /// Reverse charge: the buyer accounts for the tax.
    AE,
    /// Supply within the union.
    K,
    /// Export.
    G,
    /// Outside the scope of tax.
    O,
}

impl TaxCategory {
    /// Whether an invoice with it must name the buyer's tax id.
    ///
    /// *Source: EN 16931-1, BR-AE-02 and BR-IC-02, from memory.*
    pub const fn needs_buyer_tax_id(self) -> bool {
        matches!(self, Self::AE | Self::K)
    }

    /// The code as kept.
    pub const fn code(self) -> &'static str {
        match self {
            Self::S => "S",
            Self::Z => "Z",
            Self::E => "E",
            Self::AE => "AE",
            Self::K => "K",
            Self::G => "G",
            Self::O => "O",
        }
    }

    /// The category with this code.
    pub fn of(code: &str) -> Option<Self> {
        [Self::S, Self::Z, Self::E, Self::AE, Self::K, Self::G, Self::O]
            .into_iter()
            .find(|category| category.code() == code)
    }

    /// What the tape says where no tax is due.
    const fn reason(self) -> &'static str {
        match self {
            Self::S | Self::Z => "",
            Self::E => "exempt",
            Self::AE => "reverse charge",
            Self::K => "Intra-Community supply",
            Self::G => "export",
            Self::O => "outside tax",
        }
    }
}

/// A tax code of the company.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TaxCode {
    /// As kept on lines.
    pub code: String,
    /// Its category.
    pub category: TaxCategory,
    /// Rates by the first day they hold, in any order.
    pub rates: Vec<(NaiveDate, Rate)>,
}

/// All tax codes of the company.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TaxTable(pub Vec<TaxCode>);

/// A code with the rate that holds on a date.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TaxRate {
    /// The company's code.
    pub code: String,
    /// Its category.
    pub category: TaxCategory,
    /// The rate as a fraction of one.
    pub rate: Rate,
}

impl TaxTable {
    /// The code's rate on `date`, if the code exists and has one by then.
    pub fn rate_on(&self, code: &str, date: NaiveDate) -> Option<TaxRate> {
        let found = self.0.iter().find(|candidate| candidate.code == code)?;
        let (_, rate) = found.rates.iter().filter(|(from, _)| *from <= date).max_by_key(|(from, _)| *from)?;
        Some(TaxRate { code: found.code.clone(), category: found.category, rate: *rate })
    }
}

/// At which step tax is rounded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum TaxComputed {
    /// Sum the line nets of each code, then round once.
    PerDocument,
    /// Round the tax of each line, then sum.
    PerLine,
}

impl TaxComputed {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::PerDocument => "per_document",
            Self::PerLine => "per_line",
        }
    }

    /// The way with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::PerDocument, Self::PerLine].into_iter().find(|way| way.word() == word)
    }
}

/// Tax of one code on a document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TaxLine {
    /// Code, category and rate.
    #[serde(flatten)]
    pub rate: TaxRate,
    /// Net amounts taxed by this code.
    pub base: Money,
    /// The tax.
    pub tax: Money,
}

impl TaxLine {
    /// “Tax 23 % of 2,267.20” without the figure, or why there is none.
    pub fn label(&self) -> String {
        let reason = self.rate.category.reason();
        if reason.is_empty() {
            format!("Tax {} %", self.rate.rate.percent())
        } else {
            format!("Tax {}, {reason}", self.rate.category.code())
        }
    }
}

/// Tax per code over the lines of a document, in the order in which the codes first appear.
///
/// Codes of one rate stay apart: each is a line in the ledger of its own. Rounding is half
/// away from zero, to the minor unit.
pub fn compute(computed: TaxComputed, lines: &[(TaxRate, Money)]) -> Vec<TaxLine> {
    let mut totals: Vec<TaxLine> = Vec::new();
    for (rate, net) in lines {
        let rounded = net.times_rate(rate.rate);
        match totals.iter_mut().find(|total| total.rate == *rate) {
            Some(total) => {
                total.base += *net;
                total.tax += rounded;
            }
            None => totals.push(TaxLine { rate: rate.clone(), base: *net, tax: rounded }),
        }
    }
    if computed == TaxComputed::PerDocument {
        for total in &mut totals {
            total.tax = total.base.times_rate(total.rate.rate);
        }
    }
    totals
}

/// Tax taken out of amounts that carry it, and the net of each line.
///
/// Per code: net = round(Σ gross ÷ (1 + rate)), tax = Σ gross − net; the net is spread over the
/// lines of the code by largest remainder. Net and tax together are exactly the gross.
/// *Source: domain.md section 4.*
pub fn compute_gross(lines: &[(TaxRate, Money)]) -> (Vec<TaxLine>, Vec<Money>) {
    let mut totals: Vec<TaxLine> = Vec::new();
    for (rate, gross) in lines {
        match totals.iter_mut().find(|total| total.rate == *rate) {
            Some(total) => total.base += *gross,
            None => totals.push(TaxLine { rate: rate.clone(), base: *gross, tax: Money::ZERO }),
        }
    }
    let mut nets = vec![Money::ZERO; lines.len()];
    for total in &mut totals {
        let gross = total.base;
        total.base = gross.without(total.rate.rate);
        total.tax = gross - total.base;
        let of_code: Vec<usize> = (0..lines.len()).filter(|at| lines[*at].0 == total.rate).collect();
        let weights: Vec<i64> = of_code.iter().map(|at| lines[*at].1.0).collect();
        for (at, net) in of_code.into_iter().zip(spread(total.base, &weights)) {
            nets[at] = net;
        }
    }
    (totals, nets)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// domain.md section 4: the customer pays exactly the gross.
        #[test]
        fn net_and_tax_are_exactly_the_gross(amounts in prop::collection::vec((0usize..3, 0i64..10_000_000), 1..12)) {
            let rates = [rate("S23", "23"), rate("S135", "13.5"), rate("Z0", "0")];
            let lines: Vec<_> = amounts.iter().map(|(at, gross)| (rates[*at].clone(), Money(*gross))).collect();
            let (taxes, nets) = compute_gross(&lines);
            let gross: Money = lines.iter().map(|(_, gross)| *gross).sum();
            prop_assert_eq!(taxes.iter().map(|tax| tax.base + tax.tax).sum::<Money>(), gross);
            prop_assert_eq!(nets.iter().copied().sum::<Money>(), taxes.iter().map(|tax| tax.base).sum::<Money>());
            for tax in taxes {
                // The tax is what the net would bear, to the cent that rounding moves.
                prop_assert!((tax.tax - tax.base.times_rate(tax.rate.rate)).abs().0 <= 1);
            }
        }
    }

    fn rate(code: &str, percent: &str) -> TaxRate {
        TaxRate { code: code.to_owned(), category: TaxCategory::S, rate: Rate::from_percent(percent).unwrap() }
    }

    #[test]
    fn the_two_ways_differ_by_rounding_only() {
        let lines = vec![(rate("S23", "23"), Money(110)); 3];
        // 3.30 × 0.23 = 0.759; 1.10 × 0.23 = 0.253 each.
        assert_eq!(compute(TaxComputed::PerDocument, &lines)[0].tax, Money(76));
        assert_eq!(compute(TaxComputed::PerLine, &lines)[0].tax, Money(75));
    }

    #[test]
    fn codes_keep_the_order_of_the_lines() {
        let lines =
            [(rate("S13", "13.5"), Money(1000)), (rate("S23", "23"), Money(2000)), (rate("S13", "13.5"), Money(1000))];
        let taxes = compute(TaxComputed::PerDocument, &lines);
        let summary: Vec<_> = taxes.iter().map(|t| (t.rate.code.as_str(), t.base.0, t.tax.0)).collect();
        assert_eq!(summary, [("S13", 2000, 270), ("S23", 2000, 460)]);
    }

    #[test]
    fn the_rate_of_the_tax_date_holds() {
        let table = TaxTable(vec![TaxCode {
            code: "S".to_owned(),
            category: TaxCategory::S,
            rates: vec![
                ("2026-01-01".parse().unwrap(), Rate::from_percent("23").unwrap()),
                ("2020-01-01".parse().unwrap(), Rate::from_percent("21").unwrap()),
            ],
        }]);
        let on = |date: &str| table.rate_on("S", date.parse().unwrap()).map(|found| found.rate.percent());
        assert_eq!(on("2025-12-31").as_deref(), Some("21"));
        assert_eq!(on("2026-01-01").as_deref(), Some("23"));
        assert_eq!(on("2019-12-31"), None);
    }
}
