//! # till-core: the rules of billing and receivables
//!
//! Pure functions and plain types. Nothing here reads a clock, a file, a network or a
//! database; whoever calls brings the facts and carries out the decision:
//!
//! ```text
//! request → load facts → decide (here) → write → answer
//! ```
//!
//! A decision is both the preview and the posting. [`invoice::decide`] turns shipped lines
//! into a document, the tape that explains it and the entry it writes; [`settle::decide`]
//! turns a receipt into its applications and entry; [`shipment::decide`] takes goods out of
//! stock at cost. Each returns blockers instead of failing, so that a draft can be shown
//! while it is put right.
//!
//! Where to start reading:
//!
//! | module | what it is for |
//! |---|---|
//! | [`money`], [`fixed`] | amounts, quantities and rates: integers, one rounding |
//! | [`spread`] | one amount over several, adding up to the cent |
//! | [`calendar`], [`terms`] | periods; due dates, instalments, early payment |
//! | [`units`] | units of measure, least quantities, steps |
//! | [`tax`], [`treatment`] | codes, rates, per document or per line; the code a ship-to gets |
//! | [`pricing`] | the price of a line in visible steps |
//! | [`marks`] | custom fields and reporting codes, carried on |
//! | [`accounts`], [`entry`] | the account map, balanced entries, conversion |
//! | [`order`] | what is shipped, billed, paid; the track; the life of an order |
//! | [`ordering`], [`exposure`] | entering and confirming an order; what a customer could leave us without |
//! | [`stock`], [`shipment`] | layers of cost, goods out and in |
//! | [`invoice`] | from shipped lines to an invoice |
//! | [`messages`] | templates of messages, mail addresses |
//! | [`open_items`], [`settle`] | what is owed either way; receipts, applying, unapplying, reversing |
//! | [`opening`] | what a company brings along |
//! | [`acceptance`] | quotes accepted on the customer's page, and the links that lead there |
//! | [`liability`] | what is owed to customers, as a balance sheet shows it |
//! | [`prepayment`] | billed before it ships: what is asked, what documents use of it |
//! | [`posting`] | everything an operation does to the books, as one value |
//! | [`returns`] | goods that customers send back, and what becomes of them |
//! | [`room`] | how much of a thing was there from a day on |
//! | [`checks`] | the table of checks behind every blocker |
//! | [`day_sheet`] | what needs the clerk today, in order |
//! | [`numbering`] | numbers of documents, moved forward only |
//! | [`people`] | roles, rights, limits, approvals, signing in |
//! | [`record`], [`merge`] | who did what, sealed; two people on one draft |

pub mod acceptance;
pub mod accounts;
pub mod bank;
pub mod calendar;
pub mod card;
pub mod checks;
pub mod containers;
pub mod day_sheet;
pub mod deposit;
pub mod dispute;
pub mod entry;
pub mod exposure;
pub mod fingerprint;
pub mod fixed;
pub mod ids;
pub mod invoice;
pub mod liability;
pub mod marks;
pub mod merge;
pub mod messages;
pub mod money;
pub mod numbering;
pub mod open_items;
pub mod opening;
pub mod order;
pub mod ordering;
pub mod payment_code;
pub mod people;
pub mod posting;
pub mod prepayment;
pub mod pricing;
pub mod receivables;
pub mod record;
pub mod remittance;
pub mod returns;
pub mod room;
pub mod settle;
pub mod shipment;
pub mod spread;
pub mod stock;
pub mod tape;
pub mod tax;
pub mod terms;
pub mod treatment;
pub mod units;
