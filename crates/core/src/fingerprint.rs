//! A short mark that changes with every figure of what it was made from.
//!
//! Whoever posts names the mark of what was seen; where the figures have moved since, the
//! marks differ and nothing is posted.

use serde::Serialize;
use sha2::{Digest, Sha256};

/// The mark: sixteen hexadecimal digits of the SHA-256 of the value's JSON.
pub fn of<T: Serialize>(value: &T) -> String {
    let json = serde_json::to_vec(value).unwrap_or_default();
    Sha256::digest(&json).iter().take(8).map(|byte| format!("{byte:02x}")).collect()
}
