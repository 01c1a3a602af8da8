//! The books through the store: one program of tests, so the store is linked once.
#![allow(missing_docs, clippy::unwrap_used, clippy::explicit_auto_deref, reason = "a test fails loudly")]

mod bank;
mod billing;
mod cards;
mod common;
mod corners;
mod crediting;
mod credits;
mod currencies;
mod customer_pages;
mod deposits;
mod disputes;
mod early;
mod exchanges;
mod finishing;
mod goods;
mod keeping;
mod mended;
mod mixed;
mod money_places;
mod open_items;
mod openings;
mod operations;
mod people;
mod prepayments;
mod reading;
mod record;
mod returns;
mod slips;
mod upgrade;
mod without_invoice;

/// A file that nobody names here would be compiled by nobody, and its tests would pass by not running.
#[test]
fn every_file_of_tests_is_in_this_program() {
    let here = include_str!("all.rs");
    for file in std::fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/tests")).unwrap() {
        let name = file.unwrap().file_name().into_string().unwrap();
        let Some(module) = name.strip_suffix(".rs").filter(|module| *module != "all") else { continue };
        assert!(here.contains(&format!("\nmod {module};")), "tests/{name} is not named in tests/all.rs");
    }
}
