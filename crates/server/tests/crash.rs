//! The process is killed while it posts: afterwards everything it said it did is there, nothing
//! is half there, and asking again with the same key finishes it without doubling it.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use crate::common::*;
use serde_json::{Value, json};

/// How often the process is killed.
const ROUNDS: usize = 210;

#[derive(Clone)]
struct Sent {
    kind: &'static str,
    method: &'static str,
    path: String,
    body: Value,
    key: String,
    seat: Seat,
    /// What was answered, if an answer came.
    answer: Option<(u16, Value)>,
}

/// Books with something of every kind to do, and what to ask for.
struct World {
    books: Vec<u8>,
    requests: Vec<Sent>,
}

/// Every kind of change there is, each as often as the demo has something for it.
fn world() -> World {
    let till = Till::start();
    let (ines, tomas, sanna) = (till.seat.clone(), sign_in(till.address, TOMAS), sign_in(till.address, SANNA));
    let mut requests = Vec::new();
    let mut add = |kind, method, path: String, body: Value, seat: &Seat| {
        requests.push(Sent { kind, method, path, body, key: String::new(), seat: seat.clone(), answer: None });
    };
    let (_, unbilled) = till.get("/api/unbilled");
    let shipments = ready(&unbilled);
    for (at, shipment) in shipments.iter().enumerate() {
        let to_bill = json!({ "picks": picks_of(shipment) });
        match at % 5 {
            0 => add("make drafts", "POST", "/api/invoices".into(), to_bill, &tomas),
            1 => {
                let (_, previews) = till.send("POST", "/api/invoices/preview", &to_bill);
                let body = json!({ "picks": to_bill["picks"], "seen": [previews[0]["fingerprint"]] });
                add("post picks", "POST", "/api/invoices/post".into(), body, &tomas);
            }
            at => {
                let (_, drafts) = till.send("POST", "/api/invoices", &to_bill);
                let draft = drafts[0].as_i64().unwrap_or_else(|| panic!("{shipment}: {drafts}"));
                let (_, view) = till.get(&format!("/api/invoices/{draft}"));
                let place = format!("/api/invoices/{draft}");
                let line = &view["document"]["lines"][0];
                match at {
                    2 => {
                        let body = json!({ "version": view["version"], "seen": view["fingerprint"] });
                        add("post draft", "POST", format!("{place}/post"), body, &ines);
                    }
                    3 => {
                        let body = json!({ "version": view["version"], "picks": to_bill["picks"], "document_date": "2026-03-17" });
                        add("change draft", "PUT", place, body, &tomas);
                    }
                    _ => {
                        let version = &view["version"];
                        add("drop draft", "DELETE", format!("{place}?version={version}"), Value::Null, &ines);
                        let price = json!({ "version": version, "unit_price": "0.01", "reason": "much too far down" });
                        let path = format!("{place}/lines/{}/price", line["shipment_line"]);
                        add("ask for a price", "PUT", path, price, &tomas);
                    }
                }
            }
        }
    }
    for approval in till.get("/api/approvals").1.as_array().unwrap() {
        add("approve", "POST", format!("/api/approvals/{}/approve", approval["id"]), json!({}), &ines);
    }
    for customer in [1, 3, 5, 8] {
        let receipt = json!({ "customer": customer, "method": "check", "amount": "321.09" });
        let (_, preview) = till.send("POST", "/api/receipts/preview", &receipt);
        let mut body = receipt;
        body["seen"] = preview["fingerprint"].clone();
        add("post receipt", "POST", "/api/receipts".into(), body, &tomas);
    }
    let (_, unapplied) = till.get("/api/receipts?state=unapplied");
    for receipt in unapplied["receipts"].as_array().unwrap() {
        let path = format!("/api/receipts/{}/applications", receipt["id"]);
        let (_, view) = till.get(&format!("/api/receipts/{}", receipt["id"]));
        let (_, preview) = till.send("POST", &format!("{path}/preview"), &json!({}));
        add("apply", "POST", path, json!({ "version": view["version"], "seen": preview["fingerprint"] }), &ines);
    }
    let (_, packed) = till.get("/api/shipments?state=packed");
    for shipment in packed["shipments"].as_array().unwrap() {
        add(
            "post shipment",
            "POST",
            format!("/api/shipments/{}/post", shipment["id"]),
            json!({ "version": 1 }),
            &tomas,
        );
    }
    for (customer, seat) in [(2, &ines), (4, &tomas)] {
        let version = till.get(&format!("/api/customers/{customer}")).1["version"].clone();
        let body = json!({ "version": version, "reason": "two returned checks" });
        add("put on hold", "PUT", format!("/api/customers/{customer}/stop"), body, seat);
    }
    goods(&till, &mut add, &tomas, &ines);
    add("add a month", "POST", "/api/setup/periods".into(), json!({}), &ines);
    let moved = json!({ "prefix": "C-", "next": 7000, "reason": "a new book of forms" });
    add("move a number", "PUT", "/api/setup/numbers/receipt".into(), moved, &sanna);
    let limit = json!({ "role": "clerk", "kind": "write_off", "amount": "7.50" });
    add("set a limit", "PUT", "/api/setup/limits".into(), limit, &sanna);
    let person = json!({ "sign_in": "ada", "name": "Ada Moor", "role": "clerk", "password": "begin with this one" });
    add("add a person", "POST", "/api/people".into(), person, &sanna);
    let folder = till.folder.path().to_owned();
    let mut books = Vec::new();
    till.stop_then(|| books = std::fs::read(folder.join("books.db")).unwrap());
    World { books, requests }
}

/// A line of one item.
fn one_line(customer: i64, item: &str, quantity: &str) -> Value {
    json!({ "customer": customer, "customer_order_number": "PO 77", "lines": [{ "item": item, "quantity": quantity }] })
}

/// Changes of quotes, orders, stock and shipments.
fn goods(
    till: &Till,
    add: &mut impl FnMut(&'static str, &'static str, String, Value, &Seat),
    tomas: &Seat,
    ines: &Seat,
) {
    let done = |method: &str, path: &str, body: &Value| {
        let (status, answer) = till.send(method, path, body);
        assert_eq!(status, 200, "{method} {path} {body}: {answer}");
        answer
    };
    let draft = || done("POST", "/api/orders", &one_line(4, "HT-JH", "3")).as_i64().unwrap();
    let confirm = json!({ "version": 1, "reason": "as agreed" });
    let open = || {
        let order = draft();
        done("POST", &format!("/api/orders/{order}/confirm"), &confirm);
        (order, till.get(&format!("/api/orders/{order}")).1)
    };
    for (customer, item) in [(4, "FR-50"), (8, "HB-12")] {
        add("enter an order", "POST", "/api/orders".into(), one_line(customer, item, "7"), tomas);
        let quote = json!({ "order": one_line(customer, item, "9") });
        add("write a quote", "POST", "/api/quotes".into(), quote, ines);
        add("confirm an order", "POST", format!("/api/orders/{}/confirm", draft()), confirm.clone(), ines);
    }
    let quote = done("POST", "/api/quotes", &json!({ "order": one_line(6, "SM-ST", "2") }));
    add("accept a quote", "POST", format!("/api/quotes/{quote}/accept"), json!({ "version": 1 }), tomas);
    let (order, view) = open();
    let mut form = view["form"].clone();
    form["lines"][0]["quantity"] = json!("5");
    let change = json!({ "version": view["version"], "form": form });
    add("amend an order", "PUT", format!("/api/orders/{order}"), change, tomas);
    let (order, view) = open();
    let rest = json!({ "version": view["version"], "reason": "not wanted any more" });
    add("cancel the rest", "POST", format!("/api/orders/{order}/cancel"), rest, tomas);
    let (order, _) = open();
    add("start a shipment", "POST", format!("/api/orders/{order}/shipments"), Value::Null, tomas);
    let (order, _) = open();
    let path = format!("/api/orders/{order}/ship-and-bill");
    let preview = done("POST", &format!("{path}/preview"), &json!({}));
    add("ship and bill", "POST", path, json!({ "seen": preview["seen"] }), ines);
    let (order, _) = open();
    let shipment = done("POST", &format!("/api/orders/{order}/shipments"), &Value::Null).as_i64().unwrap();
    let place = format!("/api/shipments/{shipment}");
    done("POST", &format!("{place}/post"), &json!({ "version": till.get(&place).1["version"] }));
    let back = json!({ "version": till.get(&place).1["version"], "reason": "sent to the wrong door" });
    add("take a shipment back", "POST", format!("{place}/take-back"), back, ines);
    billing(till, add, tomas, ines, &open);
    let came = json!({ "quantity": "40", "cost": "741.33" });
    add("take goods in", "POST", "/api/items/1/intakes".into(), came, ines);
    let count = json!({ "counted": "500", "reason": "counted on Wednesday" });
    add("count", "POST", "/api/items/3/counts".into(), count, ines);
    let text = "shipment,date,customer,item,quantity\nWH-1,2026-03-17,1008,HB-12,2\nWH-1,2026-03-17,1008,FR-50,1\n";
    let read = till.ask("POST", "/api/imports?kind=shipments&name=march.csv").text(text).new_key();
    let (status, file) = read.pair(till.address);
    assert_eq!(status, 200, "{file}");
    add("take a file over", "POST", format!("/api/imports/{file}/take-over"), json!({ "confirm": false }), tomas);
}

/// Runs, their posting, and cancelling.
fn billing(
    till: &Till,
    add: &mut impl FnMut(&'static str, &'static str, String, Value, &Seat),
    tomas: &Seat,
    ines: &Seat,
    open: &dyn Fn() -> (i64, Value),
) {
    let done = |method: &str, path: &str, body: &Value| {
        let (status, answer) = till.send(method, path, body);
        assert_eq!(status, 200, "{method} {path} {body}: {answer}");
        answer
    };
    let shipped = || {
        let (order, _) = open();
        let shipment = done("POST", &format!("/api/orders/{order}/shipments"), &Value::Null);
        let place = format!("/api/shipments/{shipment}");
        done("POST", &format!("{place}/post"), &json!({ "version": till.get(&place).1["version"] }));
        let lines = till.get(&place).1["lines"].clone();
        let picks = lines.as_array().unwrap().iter().map(|line| json!({ "shipment_line": line["id"] }));
        json!({ "picks": picks.collect::<Vec<_>>() })
    };
    add("make a run", "POST", "/api/runs".into(), shipped(), tomas);
    let run = done("POST", "/api/runs", &shipped());
    let view = till.get(&format!("/api/runs/{run}")).1;
    let seen = json!({ "version": view["version"], "seen": view["seen"] });
    add("post a run", "POST", format!("/api/runs/{run}/post"), seen, tomas);
    let run = done("POST", "/api/runs", &shipped());
    let version = &till.get(&format!("/api/runs/{run}")).1["version"];
    add("drop a run", "DELETE", format!("/api/runs/{run}?version={version}"), Value::Null, tomas);
    let (order, _) = open();
    let path = format!("/api/orders/{order}/ship-and-bill");
    let preview = done("POST", &format!("{path}/preview"), &json!({}));
    let billed = done("POST", &path, &json!({ "seen": preview["seen"] }));
    let place = format!("/api/invoices/{}/cancel", billed["invoice"]["id"]);
    let mut wish = json!({ "reason": "billed to the wrong yard", "rebill": true });
    wish["seen"] = done("POST", &format!("{place}/preview"), &wish)["fingerprint"].clone();
    add("cancel an invoice", "POST", place, wish, ines);
    add("keep a recipe", "PUT", "/api/recipes".into(), json!({ "name": "Fridays", "form": {} }), ines);
}

/// Sends the requests by four hands; the process is killed a moment after so many were answered,
/// which a slow machine reaches as a fast one does.
fn four_hands(till: Till, sent: &Mutex<Vec<Sent>>, answers: usize, moment: Duration) -> std::path::PathBuf {
    let next = Mutex::new(0_usize);
    let answered = AtomicUsize::new(0);
    let address = till.address;
    std::thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                loop {
                    let at = {
                        let mut next = next.lock().unwrap();
                        *next += 1;
                        *next - 1
                    };
                    let Some(one) = sent.lock().unwrap().get(at).cloned() else { return };
                    let asked = ask(one.method, &one.path).seat(&one.seat).json(&one.body).key(&one.key);
                    let Ok(answer) = asked.send(address) else { return };
                    sent.lock().unwrap()[at].answer = Some((answer.status, answer.value()));
                    answered.fetch_add(1, Ordering::Relaxed);
                }
            });
        }
        let begun = Instant::now();
        while answered.load(Ordering::Relaxed) < answers && begun.elapsed() < Duration::from_secs(20) {
            std::thread::sleep(Duration::from_millis(1));
        }
        std::thread::sleep(moment);
        till.kill()
    })
}

fn copied(from: &Path) -> tempfile::TempDir {
    let held = tempfile::tempdir().unwrap();
    for file in ["books.db", "books.db-wal"] {
        if from.join(file).exists() {
            std::fs::copy(from.join(file), held.path().join(file)).unwrap();
        }
    }
    held
}

/// What the rounds of one worker came to.
#[derive(Default)]
struct Outcome {
    interrupted: usize,
    carried_out: BTreeMap<&'static str, usize>,
}

/// One round: posting begins, the process is killed, and what it left is looked at.
fn round(world: &World, random: &mut fastrand::Rng, number: usize, outcome: &mut Outcome) {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("books.db"), &world.books).unwrap();
    let till = Till::start_in(folder);
    let mut requests = world.requests.clone();
    random.shuffle(&mut requests);
    for one in &mut requests {
        one.key = format!("crash-{:016x}", random.u64(..));
    }
    let sent = Mutex::new(requests);
    let answers = random.usize(0..world.requests.len() * 2 / 3);
    let moment = Duration::from_micros(random.u64(200..30_000));
    let folder = four_hands(till, &sent, answers, moment);
    let sent = sent.into_inner().unwrap();
    outcome.interrupted += usize::from(sent.iter().any(|one| one.answer.is_none()));
    // After the start that follows, what was answered is answered the same again.
    let till = Till::start_in(copied(&folder));
    for one in sent.iter().filter(|one| one.answer.as_ref().is_some_and(|(status, _)| *status == 200)) {
        *outcome.carried_out.entry(one.kind).or_default() += 1;
        // A password is hashed again first; that is slow, and not what is asked here.
        if one.kind != "add a person" || number.is_multiple_of(10) {
            let again = ask(one.method, &one.path).seat(&one.seat).json(&one.body).key(&one.key).pair(till.address);
            assert_eq!(Some(&again), one.answer.as_ref(), "round {number}: {} was lost or doubled", one.path);
        }
    }
    till.verify();
    std::fs::remove_dir_all(folder).unwrap();
}

#[test]
fn killed_at_any_moment_it_did_all_or_nothing() {
    let world = world();
    let outcomes: Vec<Outcome> = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..2)
            .map(|worker| {
                let world = &world;
                scope.spawn(move || {
                    let mut random = fastrand::Rng::with_seed(20_260_318 + worker);
                    let mut outcome = Outcome::default();
                    for number in 0..ROUNDS / 2 {
                        round(world, &mut random, number, &mut outcome);
                    }
                    outcome
                })
            })
            .collect();
        workers.into_iter().map(|worker| worker.join().unwrap()).collect()
    });
    let interrupted: usize = outcomes.iter().map(|outcome| outcome.interrupted).sum();
    assert!(interrupted > ROUNDS / 2, "only {interrupted} of {ROUNDS} kills came in between: they prove too little");
    let kinds: std::collections::BTreeSet<&str> = world.requests.iter().map(|one| one.kind).collect();
    assert!(kinds.len() >= 32, "{kinds:?}");
    for kind in kinds {
        let times: usize = outcomes.iter().filter_map(|outcome| outcome.carried_out.get(kind)).sum();
        assert!(times >= 3, "“{kind}” was carried out {times} times before a kill: it proves too little");
    }
}
