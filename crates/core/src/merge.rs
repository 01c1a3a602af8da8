//! Two people changed one draft: what can stand together, and what both touched.
//!
//! A three-way merge over named fields. What only one of them changed is taken from that one;
//! where both changed the same field to different values, someone has to choose.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// A document as named fields: `lines.12.quantity` → `4`.
pub type Fields = BTreeMap<String, String>;

/// A field that differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FieldChange {
    /// The field, as a person calls it.
    pub field: String,
    /// What it was; none where it was empty or not there.
    pub from: Option<String>,
    /// What it is; none where it is empty or gone.
    pub to: Option<String>,
}

/// A field that both changed, each to something else.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Clash {
    /// The field.
    pub field: String,
    /// What it was when both began.
    pub before: Option<String>,
    /// What I made of it.
    pub mine: Option<String>,
    /// What the other made of it, already kept.
    pub theirs: Option<String>,
}

/// The outcome of a merge.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Merged {
    /// Both changes together; where they clash, mine.
    pub fields: Fields,
    /// What both touched.
    pub clashes: Vec<Clash>,
}

/// Everything that differs between two states, by field.
///
/// ```
/// use till_core::merge::{Fields, differences};
/// let before = Fields::from([("terms".to_owned(), "net 30".to_owned())]);
/// let after = Fields::from([("terms".to_owned(), "net 14".to_owned())]);
/// assert_eq!(differences(&before, &after)[0].to.as_deref(), Some("net 14"));
/// ```
pub fn differences(before: &Fields, after: &Fields) -> Vec<FieldChange> {
    let mut names: Vec<&String> = before.keys().chain(after.keys()).collect();
    names.sort_unstable();
    names.dedup();
    names
        .into_iter()
        .filter(|name| before.get(*name) != after.get(*name))
        .map(|name| FieldChange { field: name.clone(), from: before.get(name).cloned(), to: after.get(name).cloned() })
        .collect()
}

/// Puts my changes and theirs together, both made from `base`.
pub fn merge(base: &Fields, mine: &Fields, theirs: &Fields) -> Merged {
    let mut fields = theirs.clone();
    let mut clashes = Vec::new();
    for change in differences(base, mine) {
        let other = theirs.get(&change.field).cloned();
        if other != change.from && other != change.to {
            clashes.push(Clash {
                field: change.field.clone(),
                before: change.from.clone(),
                mine: change.to.clone(),
                theirs: other,
            });
        }
        match change.to {
            Some(value) => fields.insert(change.field, value),
            None => fields.remove(&change.field),
        };
    }
    Merged { fields, clashes }
}
