//! The text a link carries: which link, until when, signed by HMAC-SHA256 (RFC 2104), in base64url without padding (RFC 4648,
//! section 5). Whoever changes a byte of it has no link, and whoever guesses guesses 32 bytes.
//!
//! ```
//! use till_formats::link::{read, sign};
//! let key = [7; 32];
//! let text = sign(&key, "page", 5, 1_795_000_000);
//! assert_eq!(read(&key, "page", &text), Some((5, 1_795_000_000)));
//! // What was signed for one use is of no use for another, and another key knows nothing of it.
//! assert_eq!(read(&key, "paper invoice 7", &text), None);
//! assert_eq!(read(&[8; 32], "page", &text), None);
//! ```

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use hmac::{Hmac, Mac as _};
use sha2::Sha256;

/// Bytes of the number, of the moment, and of both before the signature.
const NUMBER: usize = 8;
const HEAD: usize = 16;
/// Bytes of the signature.
const SIGNATURE: usize = 32;

fn mac(key: &[u8; 32], used_for: &str, head: &[u8]) -> Option<Hmac<Sha256>> {
    let mut mac = Hmac::<Sha256>::new_from_slice(key).ok()?;
    // The head has a fixed length, so that no two uses and heads read the same.
    mac.update(head);
    mac.update(used_for.as_bytes());
    Some(mac)
}

/// The text of link number `id`, which works until `until` in Unix seconds.
pub fn sign(key: &[u8; 32], used_for: &str, id: i64, until: i64) -> String {
    let mut bytes = Vec::with_capacity(HEAD + SIGNATURE);
    bytes.extend(id.to_be_bytes());
    bytes.extend(until.to_be_bytes());
    let signature = mac(key, used_for, &bytes).map(|mac| mac.finalize().into_bytes()).unwrap_or_default();
    bytes.extend(signature);
    URL_SAFE_NO_PAD.encode(bytes)
}

/// Number and moment of a text that was signed with this key for this use; none for any other text. Compared in constant
/// time.
pub fn read(key: &[u8; 32], used_for: &str, text: &str) -> Option<(i64, i64)> {
    let bytes = URL_SAFE_NO_PAD.decode(text).ok().filter(|bytes| bytes.len() == HEAD + SIGNATURE)?;
    let (head, signature) = bytes.split_at(HEAD);
    mac(key, used_for, head)?.verify_slice(signature).ok()?;
    let (id, until) = head.split_at(NUMBER);
    Some((i64::from_be_bytes(id.try_into().ok()?), i64::from_be_bytes(until.try_into().ok()?)))
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    /// Worked out with Python: `hmac.new(bytes(range(32)), struct.pack(">qq", 5, 1795000000) + b"page", "sha256")`,
    /// `base64.urlsafe_b64encode(struct.pack(">qq", 5, 1795000000) + mac.digest()).rstrip(b"=")`.
    const BY_PYTHON: &str = "AAAAAAAAAAUAAAAAav2GwOZ36fiXyMH9hM_Dad7OmC7i00u1M_owciD56rRcwmER";

    fn key() -> [u8; 32] {
        std::array::from_fn(|at| u8::try_from(at).unwrap())
    }

    #[test]
    fn the_text_is_the_one_another_program_works_out() {
        assert_eq!(sign(&key(), "page", 5, 1_795_000_000), BY_PYTHON);
        assert_eq!(read(&key(), "page", BY_PYTHON), Some((5, 1_795_000_000)));
    }

    #[test]
    fn no_changed_bit_and_no_other_length_is_taken() {
        let text = sign(&key(), "page", 5, 1_795_000_000);
        let bytes = URL_SAFE_NO_PAD.decode(&text).unwrap();
        for bit in 0..bytes.len() * 8 {
            let mut other = bytes.clone();
            other[bit / 8] ^= 1 << (bit % 8);
            assert_eq!(read(&key(), "page", &URL_SAFE_NO_PAD.encode(other)), None, "bit {bit}");
        }
        for other in ["", "a", "%%%", &text[1..], &format!("{text}A"), &format!("{text}="), &text.to_uppercase()] {
            assert_eq!(read(&key(), "page", other), None, "{other}");
        }
    }
}
