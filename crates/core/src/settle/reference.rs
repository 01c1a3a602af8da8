//! Payment references: what a payer writes on a transfer, so that it says by itself what it pays.
//!
//! The reference of a document is its number as a creditor reference, ISO 11649: RF, two check digits (ISO 7064, mod 97-10),
//! and up to 21 letters and digits. A wrong digit or two that were swapped are found out by it.
//! *Source: ISO 11649 and ISO 7064; check values by python-stdnum.*
//!
//! ```
//! use till_core::settle::{creditor_reference, grouped_reference, references_in};
//! let reference = creditor_reference("I-3291").unwrap();
//! assert_eq!(grouped_reference(&reference), "RF87 I329 1");
//! // As a payer types it, among other words.
//! assert_eq!(references_in("Payment rf87 i329 1 with thanks"), [reference]);
//! assert!(references_in("RF78 I329 1").is_empty());
//! // An example that is often printed, from memory.
//! assert_eq!(creditor_reference("539007547034").unwrap(), "RF18539007547034");
//! ```

/// How long the text of a reference may be, behind RF and the check digits. *Source: ISO 11649.*
const LONGEST: usize = 21;

/// The creditor reference of a document by its number; none where the number has no letter or digit, or more than 21.
pub fn creditor_reference(number: &str) -> Option<String> {
    let text: String = number.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_ascii_uppercase();
    if text.is_empty() || text.len() > LONGEST {
        return None;
    }
    let check = 98 - remainder(&format!("{text}RF00"));
    Some(format!("RF{check:02}{text}"))
}

/// A reference as it is printed: in groups of four.
pub fn grouped_reference(reference: &str) -> String {
    let letters: Vec<char> = reference.chars().collect();
    letters.chunks(4).map(|group| group.iter().collect::<String>()).collect::<Vec<_>>().join(" ")
}

/// Whether a text without gaps is a creditor reference: its check digits fit.
pub fn is_reference(text: &str) -> bool {
    let (Some(head), Some(rest)) = (text.get(..4), text.get(4..)) else { return false };
    head.starts_with("RF")
        && head[2..].bytes().all(|digit| digit.is_ascii_digit())
        && (1..=LONGEST).contains(&rest.len())
        && rest.bytes().all(|letter| letter.is_ascii_digit() || letter.is_ascii_uppercase())
        && remainder(&format!("{rest}{head}")) == 1
}

/// The creditor references in what someone wrote, each once, in their order; in groups or not, in capitals or not. One ends where a
/// word ends; where a word more would fit too, by chance one in 97 times, both are there, the longer first.
pub fn references_in(text: &str) -> Vec<String> {
    let upper = text.to_ascii_uppercase();
    let words: Vec<&str> =
        upper.split(|letter: char| !letter.is_ascii_alphanumeric()).filter(|one| !one.is_empty()).collect();
    let mut found: Vec<String> = Vec::new();
    for at in (0..words.len()).filter(|at| words[*at].starts_with("RF")) {
        let mut longer = Vec::new();
        let mut whole = String::new();
        for word in &words[at..] {
            whole.push_str(word);
            if whole.len() > LONGEST + 4 {
                break;
            }
            if is_reference(&whole) {
                longer.push(whole.clone());
            }
        }
        found.extend(longer.into_iter().rev());
    }
    let mut seen = std::collections::BTreeSet::new();
    found.retain(|one| seen.insert(one.clone()));
    found
}

/// The remainder by 97 of a text in which each letter stands for two digits: A for 10, Z for 35. *Source: ISO 7064.*
pub(crate) fn remainder(text: &str) -> u32 {
    text.chars().filter_map(|letter| letter.to_digit(36)).fold(0, |rest, value| {
        let shifted = if value < 10 { rest * 10 } else { rest * 100 };
        (shifted + value) % 97
    })
}
