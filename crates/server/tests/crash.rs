//! The process is killed while it posts: afterwards everything it said it did is there, nothing
//! is half there, and asking again with the same key finishes it without doubling it.
#![allow(missing_docs, clippy::unwrap_used, clippy::explicit_auto_deref)]

mod common;

use std::sync::Mutex;
use std::time::Duration;

use common::*;
use serde_json::{Value, json};

/// How often the process is killed.
const ROUNDS: usize = 25;

struct Sent {
    path: String,
    body: Value,
    key: String,
    /// What was answered, if an answer came.
    answer: Option<(u16, Value)>,
}

fn requests(till: &Till, random: &mut fastrand::Rng) -> Vec<Sent> {
    let mut requests = Vec::new();
    let mut add = |path: &str, body: Value, random: &mut fastrand::Rng| {
        requests.push(Sent {
            path: path.to_owned(),
            body,
            key: format!("crash-{:016x}", random.u64(..)),
            answer: None,
        });
    };
    let (_, unbilled) = till.get("/api/unbilled");
    for shipment in ready(&unbilled) {
        let to_bill = json!({ "picks": picks_of(&shipment) });
        let (_, previews) = till.send("POST", "/api/invoices/preview", &to_bill);
        add("/api/invoices/post", json!({ "picks": to_bill["picks"], "seen": [previews[0]["fingerprint"]] }), random);
        add("/api/invoices", to_bill, random);
    }
    for customer in [1, 3, 5, 8] {
        let receipt = json!({ "customer": customer, "method": "check", "amount": "321.09" });
        let (_, preview) = till.send("POST", "/api/receipts/preview", &receipt);
        let mut body = receipt;
        body["seen"] = preview["fingerprint"].clone();
        add("/api/receipts", body, random);
    }
    let (_, packed) = till.get("/api/shipments?state=packed");
    for shipment in packed["shipments"].as_array().unwrap() {
        add(&format!("/api/shipments/{}/post", shipment["id"]), json!({ "version": 1 }), random);
    }
    random.shuffle(&mut requests);
    requests
}

#[test]
fn killed_at_any_moment_it_did_all_or_nothing() {
    let mut random = fastrand::Rng::with_seed(20_260_318);
    let mut interrupted = 0;
    for round in 0..ROUNDS {
        let till = Till::start();
        let sent = Mutex::new(requests(&till, &mut random));
        let count = sent.lock().unwrap().len();
        let patience = Duration::from_micros(random.u64(200..60_000));
        let next = Mutex::new(0_usize);
        let address = till.address;
        let folder = std::thread::scope(|scope| {
            for _ in 0..4 {
                scope.spawn(|| {
                    loop {
                        let at = {
                            let mut next = next.lock().unwrap();
                            *next += 1;
                            *next - 1
                        };
                        if at >= count {
                            return;
                        }
                        let (path, body, key) = {
                            let sent = sent.lock().unwrap();
                            (sent[at].path.clone(), sent[at].body.to_string(), sent[at].key.clone())
                        };
                        let Ok(answer) = call(address, "POST", &path, Some(&body), Some(&key)) else { return };
                        sent.lock().unwrap()[at].answer = Some(answer);
                    }
                });
            }
            std::thread::sleep(patience);
            till.kill()
        });
        verify(&folder);
        let sent = sent.into_inner().unwrap();
        let answered = sent.iter().filter(|one| one.answer.is_some()).count();
        if answered < count {
            interrupted += 1;
        }
        // After the start that follows, what was answered is answered the same again.
        let held = tempfile::tempdir().unwrap();
        for file in ["books.db", "books.db-wal"] {
            let from = folder.join(file);
            if from.exists() {
                std::fs::copy(&from, held.path().join(file)).unwrap();
            }
        }
        let till = Till::start_in(held);
        for one in &sent {
            if let Some((200, answer)) = &one.answer {
                let again = till.send_with("POST", &one.path, &one.body, &one.key);
                assert_eq!(again, (200, answer.clone()), "round {round}: {} was lost or doubled", one.path);
            }
        }
        till.verify();
        std::fs::remove_dir_all(folder).unwrap();
    }
    assert!(interrupted > ROUNDS / 3, "only {interrupted} of {ROUNDS} kills came in between: they prove too little");
}
