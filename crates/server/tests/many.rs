//! Many people at once: nothing is posted twice, no number is double or missing.

use std::collections::BTreeSet;

use crate::common::*;
use serde_json::{Value, json};

const CLIENTS: usize = 64;

fn at_once<T: Send>(work: impl Fn(usize) -> T + Sync) -> Vec<T> {
    let work = &work;
    std::thread::scope(|scope| {
        let clients: Vec<_> = (0..CLIENTS).map(|client| scope.spawn(move || work(client))).collect();
        clients.into_iter().map(|client| client.join().unwrap()).collect()
    })
}

/// A draft for each line that nothing stops.
fn drafts(till: &Till) -> Vec<i64> {
    let (_, unbilled) = till.get("/api/unbilled");
    let mut drafts = Vec::new();
    for shipment in ready(&unbilled) {
        // Freight comes along with the first line of its shipment.
        for line in shipment["lines"].as_array().unwrap().iter().filter(|line| line["code"] != "FRT") {
            let to_bill = json!({ "picks": [{ "shipment_line": line["shipment_line"] }] });
            let (status, made) = till.send("POST", "/api/invoices", &to_bill);
            assert_eq!(status, 200, "{made}");
            drafts.push(made[0].as_i64().unwrap());
        }
    }
    drafts
}

fn post(till: &Till, seat: &Seat, draft: i64) -> (u16, Value) {
    let (_, view) = ask("GET", &format!("/api/invoices/{draft}")).seat(seat).pair(till.address);
    let body = json!({ "version": view["version"], "seen": view["fingerprint"] });
    ask("POST", &format!("/api/invoices/{draft}/post")).seat(seat).json(&body).new_key().pair(till.address)
}

#[test]
fn sixty_four_clients_post_the_same_and_different_drafts() {
    let till = Till::start();
    let seats = [till.seat.clone(), sign_in(till.address, TOMAS), sign_in(till.address, MAUD)];
    let drafts = drafts(&till);
    assert!(drafts.len() >= 20, "{}", drafts.len());
    let before = till.get("/api/invoices?state=open").1["count"].as_i64().unwrap();
    // Each client goes through the drafts from a place of its own: every draft is wanted by many.
    let answers = at_once(|client| {
        (0..4)
            .map(|step| post(&till, &seats[client % 3], drafts[(client / 3 + step * 5) % drafts.len()]))
            .collect::<Vec<_>>()
    });
    let mut numbers = Vec::new();
    for (status, answer) in answers.iter().flatten() {
        match status {
            200 => numbers.push(answer["number"].as_str().unwrap().to_owned()),
            409 => assert!(["wrong_state", "stale", "moved"].contains(&answer["code"].as_str().unwrap()), "{answer}"),
            other => panic!("{other}: {answer}"),
        }
    }
    let different: BTreeSet<&String> = numbers.iter().collect();
    assert_eq!(different.len(), numbers.len(), "a number was given twice: {numbers:?}");
    assert!(numbers.len() >= 20, "{numbers:?}");
    let after = till.get("/api/invoices?state=open").1["count"].as_i64().unwrap();
    assert_eq!(usize::try_from(after - before).unwrap(), numbers.len());
    let mut sorted: Vec<i64> = numbers.iter().map(|number| number[2..].parse().unwrap()).collect();
    sorted.sort_unstable();
    assert!(sorted.windows(2).all(|pair| pair[1] == pair[0] + 1), "a number is missing: {sorted:?}");
    till.verify();
}

#[test]
fn one_draft_wanted_by_all_is_posted_once() {
    let till = Till::start();
    let draft = drafts(&till)[0];
    let answers = at_once(|_| post(&till, &till.seat, draft));
    assert_eq!(answers.iter().filter(|(status, _)| *status == 200).count(), 1);
    till.verify();
}

#[test]
fn a_draft_changed_by_all_keeps_every_change_or_says_it_was_not_kept() {
    let till = Till::start();
    let draft = drafts(&till)[0];
    let (_, view) = till.get(&format!("/api/invoices/{draft}"));
    let line = &view["document"]["lines"][0];
    let statuses = at_once(|client| {
        let body = json!({ "version": view["version"], "picks": [{ "shipment_line": line["shipment_line"] }],
            "document_date": format!("2026-03-{:02}", 17 + client % 2) });
        till.send("PUT", &format!("/api/invoices/{draft}"), &body).0
    });
    assert_eq!(statuses.iter().filter(|status| **status == 200).count(), 1);
    assert_eq!(statuses.iter().filter(|status| **status == 409).count(), CLIENTS - 1);
    let record = till.get(&format!("/api/record/invoice/{draft}")).1;
    assert_eq!(
        record["rows"].as_array().unwrap().iter().filter(|row| row["deed"]["what"] == "draft_changed").count(),
        1
    );
    till.verify();
}
