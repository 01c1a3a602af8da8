//! Every call of the API × every role: what the table says is what the server does.

use crate::common::*;
use serde_json::{Value, json};
use till_core::people::{Operation, Right, Role, may_try};
use till_server::calls::{CALLS, Takes};

fn contract() -> Vec<(String, String)> {
    let text = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../web/openapi.json")).unwrap();
    let contract: Value = serde_json::from_str(&text).unwrap();
    let mut calls = vec![("GET".to_owned(), "/health".to_owned())];
    for (path, methods) in contract["paths"].as_object().unwrap() {
        calls.extend(methods.as_object().unwrap().keys().map(|method| (method.to_uppercase(), path.clone())));
    }
    calls
}

#[test]
fn every_call_has_one_row_and_every_row_a_call() {
    let mut in_contract = contract();
    let mut in_table: Vec<_> =
        CALLS.iter().map(|(method, path, _)| ((*method).to_owned(), (*path).to_owned())).collect();
    in_contract.sort();
    in_table.sort();
    assert_eq!(in_contract, in_table);
}

#[test]
fn every_operation_is_taken_by_a_call_and_nothing_is_open_but_the_door() {
    // Whether an order is finished is known inside the call that amends it only: `orders::change` asks, the store's tests show it.
    // Whether a document shows what comes back, inside the call that authorizes it: `returns::authorize` asks.
    let inside = [Operation::ReopenOrder, Operation::ReturnWithoutDocument];
    for operation in Operation::ALL.iter().filter(|operation| !inside.contains(operation)) {
        assert!(CALLS.iter().any(|(.., takes)| *takes == Takes::Right(*operation)), "{operation:?} is never asked for");
    }
    let open: Vec<_> = CALLS.iter().filter(|(.., takes)| *takes == Takes::Nothing).map(|(_, path, _)| *path).collect();
    assert_eq!(open, ["/health", "/api/session", "/api/session", "/api/first-start"]);
    let signed: Vec<_> =
        CALLS.iter().filter(|(.., takes)| *takes == Takes::Signature).map(|(_, path, _)| *path).collect();
    assert_eq!(signed, ["/api/page/papers/{kind}/{id}", "/api/card-events"]);
    // What a customer can do with a link, and nothing else.
    let linked: Vec<_> = CALLS.iter().filter(|(.., takes)| *takes == Takes::Link).map(|(_, path, _)| *path).collect();
    let of_customers = ["", "/quotes/{id}/accept", "/card-session", "/cards", "/payments"];
    assert_eq!(linked, of_customers.map(|path| format!("/api/page{path}")));
}

#[test]
fn the_server_does_what_the_table_says() {
    let till = Till::start();
    let seats = [
        (Role::Clerk, sign_in(till.address, TOMAS)),
        (Role::Lead, till.seat.clone()),
        (Role::Auditor, sign_in(till.address, OTTO)),
        (Role::Administrator, sign_in(till.address, SANNA)),
    ];
    let mut refused = 0;
    for (method, pattern, takes) in CALLS {
        let Takes::Right(operation) = takes else { continue };
        let path = pattern
            .replace("{kind}/{id}", "invoice/1")
            .replace("{id}", "999999")
            .replace("{line}", "1")
            .replace("{kind}", "invoice")
            .replace("{first}", "2026-03-01")
            .replace("{number}", "21000")
            .replace("{list}", "orders");
        // A body no call can carry out: what gets past the gate is refused behind it.
        let body = json!({ "nonsense": true });
        let nobody = ask(method, &path).json(&body).new_key().pair(till.address);
        assert_eq!((nobody.0, nobody.1["code"].as_str()), (401, Some("signed_out")), "{method} {path} with no sign-in");
        for (role, seat) in &seats {
            if *pattern == "/api/session" {
                continue;
            }
            let (status, answer) = ask(method, &path).seat(seat).json(&body).new_key().pair(till.address);
            let said_no = (status, answer["code"].as_str()) == (403, Some("not_allowed"));
            let may = may_try(*role, *operation);
            assert_eq!(!said_no, may, "{role:?} {method} {path}: {status} {answer}");
            assert!(status < 500 && status != 401, "{role:?} {method} {path}: {status} {answer}");
            if said_no {
                refused += 1;
                let title = answer["title"].as_str().unwrap();
                assert!(
                    title.contains(operation.words()) && title.contains("Ask a"),
                    "says what and whom to ask: {title}"
                );
            }
            if *method != "GET" {
                let mut without = seat.clone();
                without.csrf = "0".repeat(64);
                let (status, answer) = ask(method, &path).seat(&without).json(&body).new_key().pair(till.address);
                assert_eq!((status, answer["code"].as_str()), (403, Some("token_missing")), "{method} {path}");
            }
        }
    }
    let denials = |takes: &Takes| match takes {
        Takes::Right(operation) => Role::ALL.iter().filter(|role| !may_try(**role, *operation)).count(),
        Takes::Nothing | Takes::Signature | Takes::Link => 0,
    };
    assert_eq!(refused, CALLS.iter().map(|(.., takes)| denials(takes)).sum::<usize>());
    assert!(refused > 50, "{refused}");
    till.verify();
}

#[test]
fn the_auditor_changes_nothing_and_the_administrator_posts_nothing() {
    let changes = CALLS.iter().filter(|(method, path, _)| {
        *method != "GET" && !path.ends_with("preview") && !path.ends_with("merge") && !path.contains("session")
    });
    for (method, path, takes) in changes {
        let Takes::Right(operation) = takes else { continue };
        let allowed = |role: Role| operation.right(role) != Right::No;
        let own = [Operation::ShowPresence, Operation::KeepViews];
        assert!(!allowed(Role::Auditor) || own.contains(operation), "{method} {path}");
        let set_up = [
            "setup",
            "people",
            "goods-settings",
            "chart",
            "presence",
            "mail-setup",
            "views",
            "return-settings",
            "bank-accounts",
            "money-places",
            "payment-methods",
        ];
        // Items and prices are set up too: neither posts anything.
        let set_up =
            *operation == Operation::KeepItems || set_up.iter().any(|start| path.starts_with(&format!("/api/{start}")));
        assert!(!allowed(Role::Administrator) || set_up, "{method} {path}");
    }
}
