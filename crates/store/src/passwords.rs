//! Hashes of passwords: argon2id, 19 MiB, two passes, one lane.
//!
//! *Source: RFC 9106 (Argon2); the parameters are the OWASP password storage recommendation,
//! value from memory.* Each takes tens of milliseconds on purpose: call it where waiting holds
//! nobody else up, never inside a transaction.

use argon2::Argon2;
use argon2::password_hash::rand_core::OsRng;
use argon2::password_hash::{PasswordHash, PasswordHasher, PasswordVerifier, SaltString};

use crate::{Result, StoreError};

/// The hash of a password, in PHC form, with a salt of its own.
///
/// # Errors
/// Where the machine gives no randomness.
pub fn hash(password: &str) -> Result<String> {
    Argon2::default()
        .hash_password(password.as_bytes(), &SaltString::generate(&mut OsRng))
        .map(|hash| hash.to_string())
        .map_err(|error| StoreError::Corrupt(format!("a password cannot be hashed: {error}")))
}

/// Whether a password is the one behind a hash. Without a hash (nobody has that name) it takes
/// as long and says no, so that the time tells nothing.
pub fn matches(password: &str, hash: Option<&str>) -> bool {
    const NOBODY: &str =
        "$argon2id$v=19$m=19456,t=2,p=1$bm9ib2R5IGhhcyB0aGlz$RdescudvJCsgt3ub+b4dWRWJTmaaJObG8J7gjV3kuB4";
    let Ok(parsed) = PasswordHash::new(hash.unwrap_or(NOBODY)) else { return false };
    let right = Argon2::default().verify_password(password.as_bytes(), &parsed).is_ok();
    right && hash.is_some()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_right_password_matches() {
        let first = hash("heather and thyme").unwrap();
        let second = hash("heather and thyme").unwrap();
        assert!(first.starts_with("$argon2id$v=19$m=19456,t=2,p=1$"));
        assert_ne!(first, second, "each hash has a salt of its own");
        assert!(matches("heather and thyme", Some(&first)));
        assert!(!matches("heather and thyme ", Some(&first)));
        assert!(!matches("heather and thyme", None));
        assert!(!matches("", Some("$argon2id$nonsense")));
    }
}
