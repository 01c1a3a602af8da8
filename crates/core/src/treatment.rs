//! Tax treatments: what becomes of an item's tax code where the goods go.
//!
//! *Source: domain.md section 4. Which category a treatment leads to: UNCL5305, from memory.*
//!
//! ```
//! use till_core::treatment::{Taxed, Treatment, TreatmentCodes};
//! let codes = TreatmentCodes::from([(Treatment::Export, "G0".to_owned())]);
//! assert_eq!(Taxed::standard().code("S23", &codes), Some("S23"));
//! let abroad = Taxed { treatment: Treatment::Export, ..Taxed::standard() };
//! assert_eq!(abroad.code("S23", &codes), Some("G0"));
//! // No code is guessed where the company has not said which.
//! assert_eq!(Taxed { treatment: Treatment::ReverseCharge, ..Taxed::standard() }.code("S23", &codes), None);
//! ```

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::calendar::words;

/// How a ship-to is taxed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Treatment {
    /// The item's own code.
    Standard,
    /// Exempt, with a certificate that runs out.
    Exempt,
    /// The buyer accounts for the tax; its tax id is needed.
    ReverseCharge,
    /// Goods to another country of the union; the buyer's tax id is needed.
    Union,
    /// Goods to the rest of the world.
    Export,
}

impl Treatment {
    /// Every treatment.
    pub const ALL: [Self; 5] = [Self::Standard, Self::Exempt, Self::ReverseCharge, Self::Union, Self::Export];

    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Standard => "standard",
            Self::Exempt => "exempt",
            Self::ReverseCharge => "reverse_charge",
            Self::Union => "union",
            Self::Export => "export",
        }
    }

    /// As people say it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Standard => "standard",
            Self::Exempt => "exempt",
            Self::ReverseCharge => "reverse charge",
            Self::Union => "within the union",
            Self::Export => "export",
        }
    }

    /// The treatment with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|treatment| treatment.word() == word)
    }

    /// Whether the buyer's tax id is needed.
    pub const fn needs_tax_id(self) -> bool {
        matches!(self, Self::ReverseCharge | Self::Union)
    }
}

/// The code each treatment leads to. Standard keeps the item's own and has no row.
pub type TreatmentCodes = BTreeMap<Treatment, String>;

/// How one ship-to is taxed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Taxed {
    /// How.
    pub treatment: Treatment,
    /// The number of the certificate, where it is exempt.
    pub certificate: Option<String>,
    /// The last day the certificate holds.
    pub until: Option<NaiveDate>,
}

impl Taxed {
    /// The ordinary case.
    pub const fn standard() -> Self {
        Self { treatment: Treatment::Standard, certificate: None, until: None }
    }

    /// The code a line of an item gets; none where the company has not said which.
    pub fn code<'a>(&self, item_code: &'a str, codes: &'a TreatmentCodes) -> Option<&'a str> {
        match self.treatment {
            Treatment::Standard => Some(item_code),
            other => codes.get(&other).map(String::as_str),
        }
    }

    /// Why there is no tax, where that is by a certificate: which one, and how long it holds.
    pub fn certificate_words(&self) -> Option<String> {
        let certificate = self.certificate.as_deref().filter(|_| self.treatment == Treatment::Exempt)?;
        let until = self.until.map(|until| format!(", to {}", words(until))).unwrap_or_default();
        Some(format!("by certificate {certificate}{until}"))
    }

    /// What is wrong with the exemption on a date, if anything is.
    pub fn exemption_problem(&self, name: &str, date: NaiveDate) -> Option<String> {
        if self.treatment == Treatment::Exempt { self.certificate_problem(name, date) } else { None }
    }

    /// What is wrong with the certificate on a date, however the ship-to is treated.
    pub fn certificate_problem(&self, name: &str, date: NaiveDate) -> Option<String> {
        if self.certificate.as_deref().is_none_or(|certificate| certificate.trim().is_empty()) {
            return Some(format!(
                "{name} is exempt from tax, but no certificate is kept. Enter its number and last day."
            ));
        }
        match self.until {
            None => Some(format!("The certificate of {name} has no last day. Enter it.")),
            Some(until) if until < date => Some(format!(
                "The certificate of {name} ended on {}. Ask for a new one, or tax the delivery.",
                words(until)
            )),
            Some(_) => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_gets_the_code_of_the_item_or_of_the_treatment() {
        let codes = TreatmentCodes::from([(Treatment::Export, "G0".to_owned())]);
        let taxed = |treatment| Taxed { treatment, certificate: None, until: None };
        assert_eq!(taxed(Treatment::Standard).code("S23", &codes), Some("S23"));
        assert_eq!(taxed(Treatment::Export).code("S23", &codes), Some("G0"));
        assert_eq!(taxed(Treatment::Union).code("S23", &codes), None);
    }

    #[test]
    fn an_exemption_holds_to_its_last_day() {
        let day = |text: &str| text.parse().unwrap();
        let mut taxed = Taxed {
            treatment: Treatment::Exempt,
            certificate: Some("E 12".to_owned()),
            until: Some(day("2026-03-18")),
        };
        assert_eq!(taxed.exemption_problem("School", day("2026-03-18")), None);
        assert!(taxed.exemption_problem("School", day("2026-03-19")).unwrap().contains("ended on 18 Mar 2026"));
        taxed.certificate = Some(" ".to_owned());
        assert!(taxed.exemption_problem("School", day("2026-03-01")).unwrap().contains("no certificate"));
        taxed.treatment = Treatment::Standard;
        assert_eq!(taxed.exemption_problem("School", day("2026-03-19")), None);
    }
}
