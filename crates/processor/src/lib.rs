//! # till-processor: a simulated card processor
//!
//! A stand-in for the service that charges cards, so that everything about them can be tried and tested on one machine. It
//! speaks an open style: JSON over HTTP, an `Idempotency-Key` on every change, problem details (RFC 9457), notifications
//! signed as the Standard Webhooks specification has it. It is a program of its own (`card-processor`); the demo and the
//! tests start it beside the books.
//!
//! - [`wire`]: what goes over the wire, both ways.
//! - [`book`]: what the processor knows and what it does with it; no clock, no network.
//! - [`signature`]: how notifications are signed, and how a signature is checked.
//! - [`service`]: the book behind HTTP, kept in a file, its notifications on their way.
//!
//! No card number is ever known here, not even an invented one: on the processor's own page one chooses how a card
//! behaves ([`wire::Habit`]), and what leaves the page is a token.

pub mod book;
mod pages;
pub mod service;
pub mod signature;
pub mod wire;
