//! The record: who did what, when, from which value to which, chained so that a changed or
//! missing row shows.
//!
//! Each row's seal is the SHA-256 of the seal before it and of everything the row says. Whoever
//! alters a row, or takes one out, breaks every seal after it; [`Chain`] finds the first one.
//!
//! ```
//! use till_core::record::{BEGINNING, Chain, Deed, Doer, Row};
//! let row = |words: &str| Row {
//!     sequence: 1,
//!     at: "2026-03-18T09:00:00Z".parse().unwrap(),
//!     doer: Doer { person: None, name: "program".to_owned(), from: "program".to_owned(), asked_by: None },
//!     deed: Deed {
//!         what: "period_closed".to_owned(),
//!         words: words.to_owned(),
//!         document: None,
//!         version: None,
//!         changes: Vec::new(),
//!     },
//! };
//! let seal = row("closed February 2026").seal(BEGINNING);
//! assert!(Chain::default().take(&row("closed February 2026"), &seal).is_ok());
//! assert!(Chain::default().take(&row("closed January 2026"), &seal).is_err());
//! ```

use chrono::{DateTime, SecondsFormat, Utc};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::ids::{DocumentRef, PersonId};
use crate::merge::FieldChange;

/// What the first row is sealed to.
pub const BEGINNING: &str = "0000000000000000000000000000000000000000000000000000000000000000";

/// One thing that was done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Deed {
    /// What, in a word that never changes: `invoice_posted`, `signed_in`.
    pub what: String,
    /// The same for a person.
    pub words: String,
    /// Which document it was done to.
    pub document: Option<DocumentRef>,
    /// The version the document has since, where it has versions.
    pub version: Option<i64>,
    /// From which values to which.
    pub changes: Vec<FieldChange>,
}

/// Who did it, and from where.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Doer {
    /// Who; none for the program itself.
    pub person: Option<PersonId>,
    /// The name as it was then.
    pub name: String,
    /// The address the request came from, or `program`.
    pub from: String,
    /// Who asked for it, where it was done by approving someone else's request.
    pub asked_by: Option<String>,
}

/// A row of the record.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Row {
    /// One more than the row before.
    pub sequence: i64,
    /// When, to the millisecond.
    pub at: DateTime<Utc>,
    /// Who.
    pub doer: Doer,
    /// What.
    pub deed: Deed,
}

/// A time on the wall as the books keep it: UTC, to the millisecond.
pub fn time_words(at: DateTime<Utc>) -> String {
    at.to_rfc3339_opts(SecondsFormat::Millis, true)
}

impl Row {
    /// The time as saved and sealed.
    pub fn time(&self) -> String {
        time_words(self.at)
    }

    /// The row's seal on top of the seal before it: 64 hexadecimal digits.
    pub fn seal(&self, before: &str) -> String {
        // One JSON array: no two different rows read the same.
        let said =
            serde_json::to_vec(&(before, self.sequence, self.time(), &self.doer, &self.deed)).unwrap_or_default();
        Sha256::digest(&said).iter().map(|byte| format!("{byte:02x}")).collect()
    }
}

/// Walks along the record and says where it does not hold.
#[derive(Debug, Clone)]
pub struct Chain {
    sequence: i64,
    seal: String,
}

impl Default for Chain {
    fn default() -> Self {
        Self { sequence: 0, seal: BEGINNING.to_owned() }
    }
}

impl Chain {
    /// Takes the next row with the seal it carries.
    ///
    /// # Errors
    /// What is wrong with it: missing before it, or changed since it was written.
    pub fn take(&mut self, row: &Row, seal: &str) -> Result<(), String> {
        let expected = self.sequence + 1;
        if row.sequence != expected {
            return Err(format!("row {expected} of the record is missing; row {} follows", row.sequence));
        }
        if row.seal(&self.seal) != seal {
            return Err(format!("row {} of the record is not as it was written", row.sequence));
        }
        self.sequence = row.sequence;
        seal.clone_into(&mut self.seal);
        Ok(())
    }

    /// Compares the end of the record with what was noted apart from it.
    ///
    /// # Errors
    /// Where rows are missing at the end.
    pub fn ends_at(&self, sequence: i64, seal: &str) -> Result<(), String> {
        if self.sequence == sequence && self.seal == seal {
            Ok(())
        } else {
            Err(format!("the record ends at row {}, but {sequence} were written", self.sequence))
        }
    }
}
