//! Hashes of passwords: argon2id, 19 MiB, two passes, one lane.
//!
//! *Source: RFC 9106 (Argon2); the parameters are the OWASP password storage recommendation,
//! value from memory.* Each takes tens of milliseconds on purpose: call it where waiting holds
//! nobody else up, never inside a transaction.

use std::cell::RefCell;

use argon2::password_hash::rand_core::OsRng;
use argon2::password_hash::{Output, ParamsString, PasswordHash, SaltString};
use argon2::{Algorithm, Argon2, Block, Params, Version};

use crate::{Result, StoreError};

thread_local! {
    /// The 19 MiB that a hash is worked out in, kept by each thread that hashes: taken anew each time, the C library would keep
    /// one for each that was ever taken at once.
    static MEMORY: RefCell<Vec<Block>> = const { RefCell::new(Vec::new()) };
}

/// The output of Argon2 over a password.
fn output(argon: &Argon2<'_>, password: &str, salt: &SaltString, length: usize) -> argon2::Result<Output> {
    let params = argon.params();
    let mut salted = [0; 64];
    let salted = salt.decode_b64(&mut salted).map_err(|_| argon2::Error::SaltTooLong)?;
    MEMORY.with_borrow_mut(|memory| {
        memory.resize(params.block_count(), Block::default());
        Output::init_with(length, |out| {
            let done = argon.hash_password_into_with_memory(password.as_bytes(), salted, out, &mut *memory);
            done.map_err(argon2::password_hash::Error::from)
        })
        .map_err(|_| argon2::Error::OutputTooLong)
    })
}

/// The hash of a password, in PHC form, with a salt of its own.
///
/// # Errors
/// Where the machine gives no randomness.
pub fn hash(password: &str) -> Result<String> {
    let failed = |error: String| StoreError::Corrupt(format!("a password cannot be hashed: {error}"));
    let (argon, salt) = (Argon2::default(), SaltString::generate(&mut OsRng));
    let hash =
        output(&argon, password, &salt, Params::DEFAULT_OUTPUT_LEN).map_err(|error| failed(error.to_string()))?;
    let hash = PasswordHash {
        algorithm: Algorithm::default().ident(),
        version: Some(Version::default().into()),
        params: ParamsString::try_from(argon.params()).map_err(|error| failed(error.to_string()))?,
        salt: Some(salt.as_salt()),
        hash: Some(hash),
    };
    Ok(hash.to_string())
}

/// Whether a password is the one behind a hash. Without a hash (nobody has that name) it takes
/// as long and says no, so that the time tells nothing.
pub fn matches(password: &str, hash: Option<&str>) -> bool {
    const NOBODY: &str =
        "$argon2id$v=19$m=19456,t=2,p=1$bm9ib2R5IGhhcyB0aGlz$RdescudvJCsgt3ub+b4dWRWJTmaaJObG8J7gjV3kuB4";
    let Some(right) = PasswordHash::new(hash.unwrap_or(NOBODY)).ok().and_then(|kept| is(password, &kept)) else {
        return false;
    };
    right && hash.is_some()
}

/// Whether it is; none where the hash is none of Argon2.
fn is(password: &str, kept: &PasswordHash<'_>) -> Option<bool> {
    let algorithm = Algorithm::try_from(kept.algorithm).ok()?;
    let version = Version::try_from(kept.version?).ok()?;
    let argon = Argon2::new(algorithm, version, Params::try_from(kept).ok()?);
    let salt = SaltString::from_b64(kept.salt?.as_str()).ok()?;
    let wanted = kept.hash?;
    // Outputs are compared in constant time.
    Some(output(&argon, password, &salt, wanted.len()).ok()? == wanted)
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
