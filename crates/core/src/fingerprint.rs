//! A short mark that changes with every figure of what it was made from.
//!
//! Whoever posts names the mark of what was seen; where the figures have moved since, the
//! marks differ and nothing is posted. Runs keep marks in the database, so the hash is one whose result
//! is promised (SipHash 1-3 with a key of zero), not whatever the standard library uses today. It guards against what happened meanwhile, not against
//! forgery: a fast hash does, and a run makes it of ten thousand invoices.
//!
//! ```
//! use till_core::fingerprint;
//! assert_eq!(fingerprint::of(&("I-1", 29_028)), fingerprint::of(&("I-1", 29_028)));
//! assert_ne!(fingerprint::of(&("I-1", 29_028)), fingerprint::of(&("I-1", 29_029)));
//! ```

use std::hash::Hasher;
use std::io;

use serde::Serialize;
use siphasher::sip::SipHasher13;

/// The mark: sixteen hexadecimal digits of a hash of the value's JSON.
pub fn of<T: Serialize>(value: &T) -> String {
    let mut sink = Sink(SipHasher13::new());
    // Nothing that is marked has a map with keys that are no text, the one thing JSON cannot hold.
    let _ = serde_json::to_writer(&mut sink, value);
    format!("{:016x}", sink.0.finish())
}

struct Sink(SipHasher13);

impl io::Write for Sink {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
