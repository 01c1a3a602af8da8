//! Between columns and the core's types.

use chrono::{DateTime, Utc};
use till_core::calendar::Terms;
use till_core::ids::DocumentKind;
use till_core::money::Currency;

use crate::{Result, StoreError};

/// A currency kept by its code.
pub(crate) fn currency(code: &str) -> Result<Currency> {
    Currency::of(code).map_err(|error| StoreError::Corrupt(error.to_string()))
}

/// A moment kept as text.
pub(crate) fn moment(kept: &str) -> Result<DateTime<Utc>> {
    DateTime::parse_from_rfc3339(kept)
        .map(|moment| moment.with_timezone(&Utc))
        .map_err(|error| StoreError::Corrupt(format!("the time {kept}: {error}")))
}

/// Terms kept as JSON.
pub(crate) fn terms(json: &str) -> Result<Terms> {
    serde_json::from_str(json).map_err(|error| StoreError::Corrupt(format!("terms {json}: {error}")))
}

/// Terms as JSON.
pub(crate) fn terms_json(terms: &Terms) -> Result<String> {
    json(terms)
}

/// Anything as JSON, for handing many rows to one statement.
pub(crate) fn json<T: serde::Serialize>(value: &T) -> Result<String> {
    serde_json::to_string(value).map_err(|error| StoreError::Corrupt(error.to_string()))
}

/// A word the program wrote itself.
pub(crate) fn known<T>(word: &str, of: impl Fn(&str) -> Option<T>) -> Result<T> {
    of(word).ok_or_else(|| StoreError::Corrupt(format!("the word “{word}”")))
}

/// A kind of document kept by its word.
pub(crate) fn kind(word: &str) -> Result<DocumentKind> {
    known(word, DocumentKind::of)
}
