//! What a payer's banking program reads from a picture on an invoice: who is paid, on which account, how much, with which reference.
//!
//! *Source: EPC069-12, Quick Response Code: Guidelines to Enable the Data Capture for the Initiation of a SEPA Credit Transfer,
//! version 002 — the layout from memory.* Lines, in their order: service tag, version, character set, identification, BIC, name,
//! account, amount, purpose, structured reference, text. It stands for transfers in euros to an IBAN, and for nothing else.
//!
//! ```
//! use till_core::payment_code::payment_code;
//! use till_core::money::{Currency, Money};
//! let eur = Currency::of("EUR").unwrap();
//! let reference = till_core::settle::creditor_reference("I-3107").unwrap();
//! let text = payment_code("Marram Hive Supply", "XX33 MARR 0001 2345 67", (Money(29_028), eur), &reference).unwrap();
//! let lines: Vec<&str> = text.split('\n').collect();
//! assert_eq!(lines[..4], ["BCD", "002", "1", "SCT"]);
//! assert_eq!(lines[5..8], ["Marram Hive Supply", "XX33MARR0001234567", "EUR290.28"]);
//! assert_eq!(lines[9], reference);
//! ```

use crate::bank::{is_iban, plain_account};
use crate::money::{Currency, Money};
use crate::settle::is_reference;

/// The most characters of a name.
const MOST_NAME: usize = 70;
/// The most that can be asked for, in cents: 999,999,999.99.
const MOST_CENTS: i64 = 99_999_999_999;
/// The most bytes of the whole.
const MOST_BYTES: usize = 331;

/// The text of the picture, or none where no such transfer can be asked for: another currency, no IBAN, nothing to pay.
pub fn payment_code(
    name: &str,
    account: &str,
    (amount, currency): (Money, Currency),
    reference: &str,
) -> Option<String> {
    let reference = plain_account(reference);
    if currency.code() != "EUR" || !is_iban(account) || !(1..=MOST_CENTS).contains(&amount.0) {
        return None;
    }
    if !is_reference(&reference) {
        return None;
    }
    // A line break in a name would shift everything below it.
    let name: String = name.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(MOST_NAME).collect();
    let amount = format!("EUR{}", currency.format(amount));
    let text = ["BCD", "002", "1", "SCT", "", &name, &plain_account(account), &amount, "", &reference].join("\n");
    (!name.is_empty() && text.len() <= MOST_BYTES).then_some(text)
}
