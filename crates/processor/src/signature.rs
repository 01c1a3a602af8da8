//! Signed notifications, as the open Standard Webhooks specification has it (from memory): the headers `webhook-id`,
//! `webhook-timestamp` and `webhook-signature`; signed is `id.timestamp.body` by HMAC-SHA256 (RFC 2104), written as
//! `v1,` and base64. Several signatures stand with spaces between, so that a secret can be changed.
//!
//! ```
//! use till_processor::signature::{Refused, check, sign};
//! let signed = sign(b"secret", "ev_1", 1_000, b"{}");
//! assert_eq!(check(b"secret", ("ev_1", "1000", &signed), b"{}", 1_100), Ok(()));
//! assert_eq!(check(b"another", ("ev_1", "1000", &signed), b"{}", 1_100), Err(Refused::Signature));
//! assert_eq!(check(b"secret", ("ev_1", "1000", &signed), b"{}", 9_000), Err(Refused::Old));
//! ```

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, Mac as _};
use sha2::Sha256;

/// So many seconds a notification may be old, or ahead.
pub const LEEWAY_SECONDS: i64 = 300;

/// Why a notification is not believed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Refused {
    /// None of its signatures is of this secret and body.
    #[error("The signature does not fit.")]
    Signature,
    /// It was signed too long ago, or ahead of time.
    #[error("It was signed at another time.")]
    Old,
}

fn mac(secret: &[u8], id: &str, timestamp: &str, body: &[u8]) -> Option<Hmac<Sha256>> {
    let mut mac = Hmac::<Sha256>::new_from_slice(secret).ok()?;
    for part in [id.as_bytes(), b".", timestamp.as_bytes(), b".", body] {
        mac.update(part);
    }
    Some(mac)
}

/// The signature of a notification.
pub fn sign(secret: &[u8], id: &str, timestamp: i64, body: &[u8]) -> String {
    let signed = mac(secret, id, &timestamp.to_string(), body).map(|mac| mac.finalize().into_bytes());
    format!("v1,{}", STANDARD.encode(signed.unwrap_or_default()))
}

/// Checks a notification: `headers` are its id, its timestamp and its signatures as they came; `now` in Unix seconds.
///
/// # Errors
/// Where it is not believed. Compared in constant time.
pub fn check(secret: &[u8], headers: (&str, &str, &str), body: &[u8], now: i64) -> Result<(), Refused> {
    let (id, timestamp, signatures) = headers;
    let fits = |signature: &str| {
        let signed = signature.strip_prefix("v1,").and_then(|text| STANDARD.decode(text).ok());
        let mac = mac(secret, id, timestamp, body);
        signed.zip(mac).is_some_and(|(signed, mac)| mac.verify_slice(&signed).is_ok())
    };
    if secret.is_empty() || !signatures.split(' ').any(fits) {
        return Err(Refused::Signature);
    }
    let at: i64 = timestamp.parse().map_err(|_| Refused::Old)?;
    if now.abs_diff(at) > LEEWAY_SECONDS.unsigned_abs() { Err(Refused::Old) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The value was computed with Python's `hmac`, `hashlib` and `base64`.
    #[test]
    fn it_is_what_python_computes() {
        let signed = sign(b"a secret of the demo", "ev_7", 1_773_820_800, br#"{"id":"ev_7"}"#);
        assert_eq!(signed, "v1,ogVFfZWOeTq5GjOJsvLr+uUEo+sHmwotnIUwdg1mFdo=");
    }

    #[test]
    fn one_of_several_is_enough_and_nothing_else_is() {
        let good = sign(b"new", "ev_1", 50, b"body");
        let both = format!("v1,AAAA {good}");
        assert_eq!(check(b"new", ("ev_1", "50", &both), b"body", 50), Ok(()));
        assert_eq!(check(b"new", ("ev_2", "50", &both), b"body", 50), Err(Refused::Signature));
        assert_eq!(check(b"new", ("ev_1", "51", &both), b"body", 50), Err(Refused::Signature));
        assert_eq!(check(b"new", ("ev_1", "50", &both), b"bodz", 50), Err(Refused::Signature));
        assert_eq!(check(b"", ("ev_1", "50", &sign(b"", "ev_1", 50, b"body")), b"body", 50), Err(Refused::Signature));
        assert_eq!(check(b"new", ("ev_1", "50", ""), b"body", 50), Err(Refused::Signature));
        assert_eq!(check(b"new", ("ev_1", "50", &both), b"body", 50 - 301), Err(Refused::Old));
    }
}
