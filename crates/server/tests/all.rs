//! The running program over the wire: one program of tests, so the server is linked once.
#![allow(missing_docs, clippy::unwrap_used, clippy::explicit_auto_deref, reason = "a test fails loudly")]

mod api;
mod attacks;
mod billing;
mod command_line;
mod common;
mod crash;
mod drafts;
mod fuzz;
mod imports;
mod many;
mod new_books;
mod orders;
mod pages;
mod rights;
mod running;
mod sign_in;

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
