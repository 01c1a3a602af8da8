//! Own fields and reporting codes: what a company marks its documents with, carried from the
//! order to the shipment, the invoice and the entry lines.
//!
//! *Source: domain.md section 6.*
//!
//! ```
//! use till_core::marks::Marks;
//! let codes = |of: &[(&str, &str)]| Marks {
//!     codes: of.iter().map(|(list, code)| ((*list).to_owned(), (*code).to_owned())).collect(),
//!     ..Marks::default()
//! };
//! // A line says the last word; what it is silent about is the document's.
//! let line = codes(&[("region", "north")]).over(&codes(&[("region", "south"), ("season", "spring")]));
//! assert_eq!(line, codes(&[("region", "north"), ("season", "spring")]));
//! ```

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::fixed::Quantity;

/// The marks of a document or a line: reporting codes by list, custom fields by key.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Marks {
    /// Reporting codes: list → code.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub codes: BTreeMap<String, String>,
    /// Own fields: key → value as text.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub fields: BTreeMap<String, String>,
}

impl Marks {
    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.codes.is_empty() && self.fields.is_empty()
    }

    /// These marks over those of the document: a line says the last word.
    pub fn over(&self, document: &Self) -> Self {
        let mut marks = document.clone();
        marks.codes.extend(self.codes.clone());
        marks.fields.extend(self.fields.clone());
        marks
    }

    /// Without what is empty.
    pub fn trimmed(&self) -> Self {
        let trim = |map: &BTreeMap<String, String>| {
            map.iter()
                .map(|(key, value)| (key.clone(), value.trim().to_owned()))
                .filter(|(_, value)| !value.is_empty())
                .collect()
        };
        Self { codes: trim(&self.codes), fields: trim(&self.fields) }
    }
}

/// Where an own field stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum FieldPlace {
    /// On the order.
    Order,
    /// On each line.
    Line,
}

/// What an own field holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum FieldKind {
    /// Words.
    Text,
    /// A decimal.
    Number,
    /// A day.
    Date,
    /// One of a few words.
    Choice,
    /// Yes or no.
    YesNo,
}

/// A field of the company's own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OwnField {
    /// Its key, for files and entries.
    pub key: String,
    /// Its name on screen.
    pub label: String,
    /// Where it stands.
    pub place: FieldPlace,
    /// What it holds.
    pub kind: FieldKind,
    /// What may be chosen.
    pub choices: Vec<String>,
    /// Whether an order cannot be confirmed without it.
    pub required: bool,
    /// Whether it is still asked for.
    pub active: bool,
}

impl OwnField {
    /// What is wrong with a value.
    ///
    /// # Errors
    /// What to write instead.
    pub fn check(&self, value: &str) -> Result<(), String> {
        let value = value.trim();
        let right = match self.kind {
            FieldKind::Text => value.chars().count() <= 200,
            FieldKind::Number => value.parse::<Quantity>().is_ok(),
            FieldKind::Date => value.parse::<NaiveDate>().is_ok(),
            FieldKind::Choice => self.choices.iter().any(|choice| choice == value),
            FieldKind::YesNo => matches!(value, "yes" | "no"),
        };
        if value.is_empty() || right {
            return Ok(());
        }
        Err(match self.kind {
            FieldKind::Text => format!("{} has 200 characters at most.", self.label),
            FieldKind::Number => format!("{} is a number, such as 12.5.", self.label),
            FieldKind::Date => format!("{} is a date, such as 2026-03-18.", self.label),
            FieldKind::Choice => format!("{} is one of {}.", self.label, self.choices.join(", ")),
            FieldKind::YesNo => format!("{} is yes or no.", self.label),
        })
    }
}

/// A list of reporting codes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReportingList {
    /// Its key.
    pub key: String,
    /// Its name on screen.
    pub name: String,
    /// Its codes.
    pub codes: Vec<ReportingCode>,
    /// Accounts whose lines must carry one.
    pub required_by: Vec<String>,
}

/// A code of a reporting list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReportingCode {
    /// The code.
    pub code: String,
    /// What it stands for.
    pub name: String,
    /// Whether it may still be used.
    pub active: bool,
}

/// Everything a company marks its documents with.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MarkRules {
    /// Own fields.
    pub fields: Vec<OwnField>,
    /// Reporting lists.
    pub lists: Vec<ReportingList>,
}

impl MarkRules {
    /// What cannot stand, with the field it stands in: an unknown key, a value of another kind,
    /// a code that is not on its list.
    pub fn faults(&self, marks: &Marks, place: FieldPlace) -> Vec<(String, String)> {
        let mut faults = Vec::new();
        for (key, value) in &marks.fields {
            let known = self.fields.iter().find(|field| field.key == *key && field.place == place);
            let said = match known {
                Some(field) => field.check(value).err(),
                None => Some(format!("There is no custom field {key} here.")),
            };
            faults.extend(said.map(|sentence| (format!("fields.{key}"), sentence)));
        }
        for (list, code) in &marks.codes {
            let known = self.lists.iter().find(|known| known.key == *list);
            let said = match known {
                None => Some(format!("There is no reporting list {list}.")),
                Some(known) => match known.codes.iter().find(|candidate| candidate.code == *code) {
                    None => Some(format!("{} has no code {code}.", known.name)),
                    Some(code) if !code.active => Some(format!("{} {} is not used any more.", known.name, code.code)),
                    Some(_) => None,
                },
            };
            faults.extend(said.map(|sentence| (format!("codes.{list}"), sentence)));
        }
        faults
    }

    /// Own fields that are required here and empty.
    pub fn missing_fields(&self, marks: &Marks, place: FieldPlace) -> Vec<&OwnField> {
        self.fields
            .iter()
            .filter(|field| field.active && field.required && field.place == place)
            .filter(|field| marks.fields.get(&field.key).is_none_or(|value| value.trim().is_empty()))
            .collect()
    }

    /// Reporting lists of which an account demands a code that the marks do not have.
    pub fn missing_codes(&self, account: &str, marks: &Marks) -> Vec<&ReportingList> {
        self.lists
            .iter()
            .filter(|list| list.required_by.iter().any(|wanted| wanted == account))
            .filter(|list| !marks.codes.contains_key(&list.key))
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rules() -> MarkRules {
        let field = |key: &str, place, kind, required| OwnField {
            key: key.to_owned(),
            label: key.to_owned(),
            place,
            kind,
            choices: vec!["early".to_owned(), "late".to_owned()],
            required,
            active: true,
        };
        let code = |code: &str, active| ReportingCode { code: code.to_owned(), name: code.to_owned(), active };
        MarkRules {
            fields: vec![
                field("gate", FieldPlace::Order, FieldKind::Text, true),
                field("season", FieldPlace::Order, FieldKind::Choice, false),
                field("batch", FieldPlace::Line, FieldKind::Number, false),
            ],
            lists: vec![ReportingList {
                key: "place".to_owned(),
                name: "Place".to_owned(),
                codes: vec![code("N", true), code("OLD", false)],
                required_by: vec!["61100".to_owned()],
            }],
        }
    }

    fn marks(fields: &[(&str, &str)], codes: &[(&str, &str)]) -> Marks {
        let map = |pairs: &[(&str, &str)]| pairs.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect();
        Marks { fields: map(fields), codes: map(codes) }
    }

    #[test]
    fn a_line_says_the_last_word() {
        let document = marks(&[("gate", "2")], &[("place", "N")]);
        let line = marks(&[("batch", "7")], &[("place", "S")]);
        assert_eq!(line.over(&document), marks(&[("gate", "2"), ("batch", "7")], &[("place", "S")]));
    }

    #[test]
    fn what_cannot_stand_is_named_with_its_field() {
        let marks = marks(&[("season", "noon"), ("batch", "7"), ("gate", "2")], &[("place", "OLD"), ("x", "1")]);
        let fields: Vec<_> = rules().faults(&marks, FieldPlace::Order).into_iter().map(|(field, _)| field).collect();
        assert_eq!(fields, ["fields.batch", "fields.season", "codes.place", "codes.x"]);
    }

    #[test]
    fn what_is_required_is_missed() {
        let missing: Vec<_> =
            rules().missing_fields(&Marks::default(), FieldPlace::Order).len().to_string().chars().collect();
        assert_eq!(missing, ['1']);
        assert_eq!(rules().missing_codes("61100", &Marks::default()).len(), 1);
        assert_eq!(rules().missing_codes("61100", &marks(&[], &[("place", "N")])).len(), 0);
        assert_eq!(rules().missing_codes("61200", &Marks::default()).len(), 0);
    }
}
