//! Numbers of documents: given in order, moved forward only, nothing without a trace.
//!
//! *Source: domain.md section 7.*
//!
//! ```
//! use till_core::numbering::{MoveNumber, decide_move};
//! let wish = |next| MoveNumber { prefix: "I-".to_owned(), next, reason: "a new year".to_owned() };
//! // Five numbers are passed over, and kept as void.
//! assert_eq!(decide_move("invoice", "I-", 95, &wish(100)).unwrap().void, Some((95, 99)));
//! assert_eq!(decide_move("invoice", "I-", 95, &wish(94)).unwrap_err().field, "next");
//! ```

use serde::{Deserialize, Serialize};

use crate::people::check_reason;

/// The furthest a number is moved at once: a typing mistake must not use up a range.
pub const FURTHEST_MOVE: i64 = 100_000_000;

/// A wish to move the next number of a kind of document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MoveNumber {
    /// What stands before the number from now on.
    pub prefix: String,
    /// The next number.
    pub next: i64,
    /// Why.
    pub reason: String,
}

/// How the number is moved.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Moved {
    /// What stands before the number from now on.
    pub prefix: String,
    /// First and last number passed over, if any.
    pub void: Option<(i64, i64)>,
    /// Why, as kept.
    pub reason: String,
}

/// What is wrong with the wish, and at which field.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MoveFault {
    /// The field.
    pub field: &'static str,
    /// What to write instead.
    pub sentence: String,
}

/// Whether the next number of a kind may be moved.
///
/// # Errors
/// Entries are never moved; a number never goes back, nor further than a hundred million; a
/// prefix has at most eight letters, digits and dashes; a reason is needed.
pub fn decide_move(kind: &str, prefix: &str, next: i64, wish: &MoveNumber) -> Result<Moved, MoveFault> {
    let fault = |field, sentence: String| Err(MoveFault { field, sentence });
    if kind == "entry" {
        return fault("kind", "The numbers of entries have no gaps. They cannot be moved.".to_owned());
    }
    if wish.next < next {
        return fault(
            "next",
            format!("Numbers never go back. The next one is {prefix}{next}; choose that or a later one."),
        );
    }
    if wish.next - next > FURTHEST_MOVE {
        return fault("next", "That is very far off. Move the number by a hundred million at most.".to_owned());
    }
    let new = wish.prefix.trim();
    if new.len() > 8 || !new.chars().all(|c| c.is_ascii_alphanumeric() || c == '-') {
        return fault("prefix", "A prefix has at most 8 letters, digits or dashes, such as I-.".to_owned());
    }
    if new.ends_with(|c: char| c.is_ascii_digit()) {
        return fault(
            "prefix",
            "End the prefix with a letter or a dash: a digit would run into the number.".to_owned(),
        );
    }
    if wish.next == next && new == prefix {
        return fault("next", format!("{prefix}{next} is the next number already."));
    }
    let reason = check_reason(&wish.reason).map_err(|why| MoveFault { field: "reason", sentence: why })?;
    let void = (wish.next > next).then_some((next, wish.next - 1));
    Ok(Moved { prefix: new.to_owned(), void, reason })
}
