//! The command line, and the contract it prints.

use crate::common::*;
use serde_json::Value;

/// The interface is written against `web/openapi.json`; `make contract` brings it up to date.
#[test]
fn the_contract_kept_for_the_interface_is_the_one_of_the_code() {
    let kept = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../web/openapi.json")).unwrap();
    let printed = run(&["openapi"]);
    assert!(printed.status.success());
    assert!(kept == String::from_utf8(printed.stdout).unwrap(), "web/openapi.json is out of date: run `make contract`");
}

#[test]
fn verify_is_clean_on_the_demo_and_says_what_fails() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("books.db");
    std::fs::copy(template().join("books.db"), &file).unwrap();
    let data = folder.path().to_str().unwrap();
    let clean = run(&["verify", "--json", "--data", data]);
    assert!(clean.status.success());
    let report: Value = serde_json::from_slice(&clean.stdout).unwrap();
    assert_eq!(report["holds"], true);
    assert!(report["proofs"].as_array().unwrap().len() >= 15);

    let text = std::fs::read(&file).unwrap();
    std::fs::write(&file, &text[..text.len() / 2]).unwrap();
    let broken = run(&["verify", "--data", data]);
    assert_eq!(broken.status.code(), Some(1), "half a file does not hold");
}

#[test]
fn what_is_missing_is_said_with_what_to_do() {
    let folder = tempfile::tempdir().unwrap();
    let nothing = run(&["verify", "--data", folder.path().to_str().unwrap()]);
    assert_eq!(nothing.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&nothing.stderr).contains("glad-till demo"));
    let till = Till::start();
    let port = till.address.port().to_string();
    std::fs::copy(template().join("books.db"), folder.path().join("books.db")).unwrap();
    let twice = run(&["serve", "--port", &port, "--data", folder.path().to_str().unwrap()]);
    assert_eq!(twice.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&twice.stderr).contains("--port"), "{}", String::from_utf8_lossy(&twice.stderr));
    let read_only = std::path::Path::new("/proc/glad-till");
    let demo = run(&["demo", "--make-only", "--data", read_only.to_str().unwrap()]);
    assert_eq!(demo.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&demo.stderr).contains("cannot be written"));
}
