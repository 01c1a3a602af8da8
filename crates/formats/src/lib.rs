//! # till-formats: open formats in and out
//!
//! Bytes in, core types out, and back. So far: CSV (RFC 4180) for what lists show.

pub mod table;
