//! # till-formats: open formats in and out
//!
//! Bytes in, core types out, and back: CSV (RFC 4180) for what lists show, messages (RFC 5322 with
//! MIME) for what is mailed, HTML for the papers they carry, the wire of the card processor.

pub mod advice;
pub mod bank_table;
pub mod camt;
pub mod cards;
pub mod link;
pub mod mail;
pub mod paper;
pub mod table;
