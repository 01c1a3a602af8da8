//! Billing over real connections: runs that go on by themselves, grids, what goes out and comes
//! back, cancelling under a limit, sales over the counter, terms of one invoice, kept views.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use crate::common::*;
use serde_json::{Value, json};

impl Till {
    /// Waits until nothing of a run is being posted any more.
    fn wait_for_run(&self, run: i64) -> Value {
        let begun = Instant::now();
        loop {
            let (_, progress) = self.get(&format!("/api/runs/{run}/progress"));
            if progress["underway"] == false {
                return progress;
            }
            assert!(begun.elapsed() < Duration::from_secs(120), "{progress}");
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

#[test]
fn a_run_goes_on_by_itself_and_is_not_begun_twice() {
    let till = Till::start();
    let run = till.done("POST", "/api/runs", &json!({ "name": "All of it" })).as_i64().unwrap();
    let place = format!("/api/runs/{run}");
    let (_, view) = till.get(&place);
    let (ready, blocked) = (view["counts"]["ready"].as_i64().unwrap(), view["counts"]["blocked"].as_i64().unwrap());
    assert!(ready > 5 && blocked >= 1, "{}", view["counts"]);
    // Debits and credits of what is ready balance, and come to what is owed then.
    let accounts: i64 = view["accounts"].as_array().unwrap().iter().map(|one| one["base"].as_i64().unwrap()).sum();
    assert_eq!(accounts, 0);
    let owed = view["accounts"].as_array().unwrap().iter().find(|one| one["account"] == "21000").unwrap();
    assert_eq!(owed["base"], view["ready_base"]);
    // Only those that stand so are shown, and the count says how many there are.
    let (_, stopped) = till.get(&format!("{place}?standing=blocked&limit=1"));
    assert_eq!((stopped["invoices"].as_array().unwrap().len(), &stopped["count"]), (1, &json!(blocked)));
    let first = view["invoices"][0]["id"].clone();
    let out = json!({ "version": view["version"], "invoices": [first], "out": true });
    let version = till.done("PUT", &format!("{place}/left-out"), &out)["version"].clone();
    assert_eq!(till.refused("PUT", &format!("{place}/left-out"), &out).0, 409, "the version is of before");
    let dates = |version: &Value, day: &str| json!({ "version": version, "document_date": day });
    assert_eq!(
        till.refused("PUT", &format!("{place}/dates"), &dates(&version, "0026-03-18")),
        (422, "invalid".to_owned(), Some("document_date".to_owned()))
    );
    let seen = json!({ "version": view["version"], "seen": view["seen"] });
    assert_eq!(till.refused("POST", &format!("{place}/post"), &seen).0, 409, "someone changed it since");
    let (_, view) = till.get(&place);
    let wrong = json!({ "version": view["version"], "seen": "something else" });
    assert_eq!(till.refused("POST", &format!("{place}/post"), &wrong).1, "moved");
    let ready = view["counts"]["ready"].as_i64().unwrap();
    let seen = json!({ "version": view["version"], "seen": view["seen"] });
    let (status, begun) = till.send_with("POST", &format!("{place}/post"), &seen, "one run, one key");
    assert_eq!((status, &begun["left"]), (200, &json!(ready)), "{begun}");
    let progress = till.wait_for_run(run);
    assert_eq!((&progress["posted"], &progress["left"]), (&json!(ready), &json!(0)));
    // The second click says what the first one said, and posts nothing.
    let (status, again) = till.send_with("POST", &format!("{place}/post"), &seen, "one run, one key");
    assert_eq!((status, again), (200, begun));
    let (_, view) = till.get(&place);
    assert_eq!((&view["counts"]["posted"], &view["underway"]), (&json!(ready), &json!(false)));
    assert_eq!(till.refused("POST", &format!("{place}/go-on"), &Value::Null).0, 409, "nothing was cut off");
    // What it posted, by account, is what was shown to be posted.
    let posted: i64 = view["accounts"].as_array().unwrap().iter().map(|one| one["base"].as_i64().unwrap()).sum();
    assert_eq!(posted, 0);
    let (_, rest) = till.get("/api/runs");
    assert_eq!((&rest[0]["posted"], &rest[0]["posted_base"]), (&json!(ready), &view["posted_base"]));
    till.verify();
}

/// Whoever looks while runs are posted is never told that one was cut off: not between the click
/// and its beginning, and not while the last of it is being written.
#[test]
fn a_run_under_way_never_looks_cut_off() {
    let till = Till::start();
    let (_, unbilled) = till.get("/api/unbilled");
    let customers = unbilled["customers"].as_array().unwrap().iter().map(|one| one["customer"].as_i64().unwrap());
    // Some have only what waits for the rest of its order: of that there is no run.
    let runs: Vec<String> = customers
        .map(|customer| till.send("POST", "/api/runs", &json!({ "customers": [customer] })))
        .filter(|(status, _)| *status == 200)
        .map(|(_, run)| format!("/api/runs/{run}"))
        .collect();
    assert!(runs.len() > 3, "{unbilled}");
    let over = AtomicBool::new(false);
    let looks = std::thread::scope(|scope| {
        let watchers: Vec<_> = (0..4)
            .map(|start| {
                let (till, runs, over) = (&till, &runs, &over);
                scope.spawn(move || {
                    let mut looks = Vec::new();
                    for run in runs.iter().cycle().skip(start) {
                        let (_, view) = till.get(run);
                        looks.push((view["state"].clone(), view["underway"].clone()));
                        if over.load(Ordering::Relaxed) {
                            return looks;
                        }
                    }
                    looks
                })
            })
            .collect();
        for run in &runs {
            let (_, view) = till.get(run);
            if view["counts"]["ready"] != 0 {
                let seen = json!({ "version": view["version"], "seen": view["seen"] });
                till.done("POST", &format!("{run}/post"), &seen);
                till.wait_for_run(run.rsplit('/').next().unwrap().parse().unwrap());
            }
        }
        over.store(true, Ordering::Relaxed);
        watchers.into_iter().flat_map(|watcher| watcher.join().unwrap()).collect::<Vec<_>>()
    });
    let posted = |state: &str| looks.iter().filter(|one| one.0 == state).count();
    assert!(posted("posted") > 0 && posted("open") > 0, "they looked before and after");
    assert!(!looks.contains(&(json!("posting"), json!(false))), "a posting under way was called cut off");
    till.verify();
}

#[test]
fn a_recipe_is_kept_repeated_and_dropped() {
    let till = Till::start();
    let form = json!({ "customers": [4], "combine": "shipment" });
    let nameless = json!({ "name": " ", "form": form });
    assert_eq!(till.refused("PUT", "/api/recipes", &nameless), (422, "invalid".to_owned(), Some("name".to_owned())));
    let day = json!({ "name": "Fridays", "weekday": 8, "form": form });
    assert_eq!(till.refused("PUT", "/api/recipes", &day).2.as_deref(), Some("weekday"));
    let recipe = json!({ "name": "Fridays", "weekday": 5, "form": form });
    let id = till.done("PUT", "/api/recipes", &recipe).as_i64().unwrap();
    assert_eq!(till.refused("PUT", "/api/recipes", &recipe).2.as_deref(), Some("name"), "the name is taken");
    let (_, kept) = till.get("/api/recipes");
    let kept = kept.as_array().unwrap().iter().find(|one| one["id"] == id).unwrap();
    assert_eq!((&kept["weekday"], kept["customer_names"].as_array().unwrap().len()), (&json!(5), 1));
    let run = till.done("POST", &format!("/api/recipes/{id}/run"), &Value::Null).as_i64().unwrap();
    let (_, view) = till.get(&format!("/api/runs/{run}"));
    assert_eq!(view["customers"], json!([4]));
    assert!(view["name"].as_str().unwrap().starts_with("Fridays, "), "{}", view["name"]);
    // Its drafts hold what they bill: the same recipe finds nothing more, and dropping gives it back.
    assert_eq!(till.refused("POST", &format!("/api/recipes/{id}/run"), &Value::Null).0, 422);
    let (_, before) = till.get("/api/unbilled?customer=4");
    assert_eq!(before["shipments"], 0);
    till.done("DELETE", &format!("/api/runs/{run}?version={}", view["version"]), &Value::Null);
    let (_, after) = till.get("/api/unbilled?customer=4");
    assert_eq!(
        after["shipments"],
        view["counts"]["ready"].as_i64().unwrap() + view["counts"]["blocked"].as_i64().unwrap()
    );
    till.done("DELETE", &format!("/api/recipes/{id}"), &Value::Null);
    assert_eq!(till.refused("DELETE", &format!("/api/recipes/{id}"), &Value::Null).0, 409);
    till.verify();
}

#[test]
fn a_grid_is_checked_row_by_row_and_posted_whole_or_not_at_all() {
    let till = Till::start();
    let row = |customer: i64, line: Value| json!({ "customer": customer, "picks": [], "added": [line] });
    let good = row(1, json!({ "item": "FRT", "quantity": "2" }));
    let priced = row(
        2,
        // Typed where an item's code may stand: no item has it, an account does.
        json!({ "item": "64000", "description": "A fee", "quantity": "1", "unit_price": "15", "tax_code": "S23" }),
    );
    let bad = row(2, json!({ "account": "64000", "description": "A fee", "quantity": "1" }));
    let (status, answers) = till.send("POST", "/api/invoices/grid/preview", &json!([good, bad, priced]));
    assert_eq!(status, 200, "{answers}");
    assert!(answers[0]["preview"].is_object() && answers[2]["preview"].is_object(), "{answers}");
    let wrong = &answers[1];
    assert!(
        wrong["sentence"].is_string() || wrong["preview"]["blockers"][0]["effect"] == "stops",
        "a row with neither price nor tax: {wrong}"
    );
    assert_eq!(answers[2]["preview"]["document"]["total"], 1_845);
    let (_, before) = till.get("/api/ledger/journal?limit=1");
    let mark = |at: usize| answers[at]["preview"]["fingerprint"].clone();
    let all = json!({ "rows": [good, bad, priced], "seen": [mark(0), "x", mark(2)] });
    assert_eq!(till.refused("POST", "/api/invoices/grid", &all).0, 422);
    let moved = json!({ "rows": [good, priced], "seen": [mark(0), "x"] });
    assert_eq!(till.refused("POST", "/api/invoices/grid", &moved).1, "moved");
    assert_eq!(till.get("/api/ledger/journal?limit=1").1, before, "nothing of it is posted");
    let two = json!({ "rows": [good, priced], "seen": [mark(0), mark(2)] });
    let posted = till.done("POST", "/api/invoices/grid", &two);
    let numbers: Vec<i64> = posted
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["number"].as_str().unwrap().trim_start_matches("I-").parse().unwrap())
        .collect();
    assert_eq!(numbers[1], numbers[0] + 1, "in the order of the rows");
    till.verify();
}

#[test]
fn what_the_mail_service_refuses_waits_and_is_sent_again() {
    let till = Till::start();
    let (_, setup) = till.get("/api/mail-setup");
    let service = |service: &str| json!({ "from": setup["from"], "service": service });
    // One that has gone is sent once more: a message of its own.
    let (_, gone) = till.get("/api/deliveries?way=mail&state=done");
    let row = &gone["rows"][0];
    let again = |way: &str| json!({ "kind": row["document"]["kind"], "id": row["document"]["id"], "way": way });
    let id = till.done("POST", "/api/deliveries", &again("mail")).as_i64().unwrap();
    assert_eq!(till.refused("POST", "/api/deliveries", &again("mail")).0, 409, "it waits already");
    till.done("PUT", "/api/mail-setup", &service("silent"));
    let sent = till.done("POST", "/api/deliveries/send", &json!({ "ids": [id] }));
    assert_eq!((&sent["sent"], &sent["failed"]), (&json!(0), &json!(1)));
    assert!(sent["problem"].as_str().unwrap().contains("does not answer"), "{sent}");
    let (_, message) = till.get(&format!("/api/deliveries/{id}"));
    assert_eq!((&message["delivery"]["state"], &message["delivery"]["tries"]), (&json!("failed"), &json!(1)));
    assert_eq!(message["taken"], json!([]), "nothing was taken");
    // The words are changed before it goes; a header cannot be smuggled in.
    let change = |subject: &str, to: &str| json!({ "version": message["delivery"]["version"], "to": to, "subject": subject, "body": "As agreed." });
    let to = message["to"].as_str().unwrap();
    let place = format!("/api/deliveries/{id}");
    assert_eq!(
        till.refused("PUT", &place, &change("Your invoice\r\nBcc: all@example.org", to)).2.as_deref(),
        Some("subject")
    );
    assert_eq!(till.refused("PUT", &place, &change("Your invoice", "nobody")).2.as_deref(), Some("to"));
    till.done("PUT", &place, &change("Your invoice, sent once more", to));
    till.done("PUT", "/api/mail-setup", &service("takes"));
    let sent = till.done("POST", "/api/deliveries/send", &json!({ "ids": [id] }));
    assert_eq!((&sent["sent"], &sent["failed"]), (&json!(1), &json!(0)));
    let taken = till.get(&place).1["taken"][0]["id"].clone();
    let answer = till.ask("GET", &format!("/api/mailbox/{taken}.eml")).send(till.address).unwrap();
    assert_eq!(answer.status, 200);
    for part in
        ["Subject: Your invoice, sent once more", "As agreed.", "multipart/mixed", "Content-Disposition: attachment"]
    {
        assert!(answer.body.contains(part), "“{part}” is not in the message:\n{}", answer.body);
    }
    assert_eq!(till.refused("PUT", &place, &change("Too late", to)).0, 409, "what has gone is not changed");
    // What is printed cannot be mailed.
    let print = till.done("POST", "/api/deliveries", &again("print"));
    assert_eq!(till.refused("POST", "/api/deliveries/send", &json!({ "ids": [print] })).0, 409);
    assert_eq!(till.done("POST", "/api/deliveries/printed", &json!({ "ids": [print] })), json!(1));
    assert_eq!(till.refused("POST", "/api/deliveries/send", &json!({ "ids": [] })).2.as_deref(), Some("ids"));
    till.verify();
}

#[test]
fn over_the_counter_it_is_confirmed_shipped_billed_and_paid_or_nothing_is() {
    let till = Till::start();
    let lines = json!([{ "item": "HB-12", "quantity": "3" }]);
    let body = json!({ "customer": 4, "customer_order_number": "KM 90", "lines": lines });
    let order = till.done("POST", "/api/orders", &body).as_i64().unwrap();
    let path = format!("/api/orders/{order}/ship-and-bill");
    let sale = |amount: Value| json!({ "confirm": true, "paid": { "method": "cash", "amount": amount } });
    // A draft is not shipped unless it is said to be confirmed with it.
    assert!(till.refused("POST", &format!("{path}/preview"), &json!({})).0 >= 400);
    assert_eq!(
        till.refused("POST", &format!("{path}/preview"), &sale(json!("a lot"))).2.as_deref(),
        Some("paid.amount")
    );
    let preview = till.done("POST", &format!("{path}/preview"), &sale(Value::Null));
    let total = preview["preview"]["document"]["total"].clone();
    assert_eq!(preview["money"]["document"]["amount"], total);
    assert_eq!(till.get(&format!("/api/orders/{order}")).1["state"], "draft", "a preview leaves nothing");
    let mut wish = sale(Value::Null);
    assert_eq!(till.refused("POST", &path, &wish).1, "moved", "nor sells what they have not seen");
    wish["seen"] = json!("something else");
    assert_eq!(till.refused("POST", &path, &wish).1, "moved");
    wish["seen"] = preview["seen"].clone();
    let (status, done) = till.send_with("POST", &path, &wish, "one sale");
    assert_eq!(status, 200, "{done}");
    let (status, again) = till.send_with("POST", &path, &wish, "one sale");
    assert_eq!((status, &again["receipt"], &again["invoice"]), (200, &done["receipt"], &done["invoice"]));
    let (_, view) = till.get(&format!("/api/orders/{order}"));
    assert_eq!(view["state"], "closed");
    assert_eq!(trail_of(&view), ["order", "shipment", "invoice", "receipt"]);
    till.verify();
}

#[test]
fn cancelled_with_the_very_figures_and_above_a_limit_only_asked_for() {
    let till = Till::start();
    let tomas = sign_in(till.address, TOMAS);
    let (small, large) = (till.order(4, "HT-JH", "2"), till.order(4, "HB-12", "60"));
    let (small, large) = (till.ship_and_bill(small), till.ship_and_bill(large));
    let wish = json!({ "reason": "billed to the wrong yard", "rebill": true });
    let place = |id: i64| format!("/api/invoices/{id}/cancel");
    let preview = till.done("POST", &format!("{}/preview", place(small)), &wish);
    let (_, invoice) = till.get(&format!("/api/invoices/{small}"));
    let bases = |entry: &Value| -> Vec<(String, i64)> {
        let lines = entry["lines"].as_array().unwrap().iter();
        let mut bases: Vec<_> =
            lines.map(|line| (line["account"].as_str().unwrap().to_owned(), line["base"].as_i64().unwrap())).collect();
        bases.sort();
        bases
    };
    let turned: Vec<_> = bases(&preview["entries"][0]).into_iter().map(|(account, base)| (account, -base)).collect();
    assert_eq!(turned, bases(&invoice["entries"][0]), "the very accounts and amounts, the other way");
    let nameless = json!({ "reason": " ", "rebill": false, "seen": preview["fingerprint"] });
    assert_eq!(till.refused("POST", &place(small), &nameless).2.as_deref(), Some("reason"));
    assert_eq!(till.refused("POST", &place(small), &wish).1, "moved", "nobody cancels what they have not seen");
    let mut seen = wish.clone();
    seen["seen"] = preview["fingerprint"].clone();
    till.done("POST", &place(small), &seen);
    assert_eq!(till.refused("POST", &place(small), &seen).1, "refused", "it is canceled once");
    let (_, draft) = till.get("/api/invoices?state=draft&limit=1");
    let draft = &draft["invoices"][0];
    assert_eq!((&draft["customer"], &draft["total"]), (&json!(4), &invoice["document"]["total"]), "billed anew");
    // Above the clerk's limit for credit memos it waits for someone else's word.
    let preview = till.done("POST", &format!("{}/preview", place(large)), &wish);
    seen["seen"] = preview["fingerprint"].clone();
    let (status, outcome) = ask("POST", &place(large)).seat(&tomas).json(&seen).new_key().pair(till.address);
    assert_eq!(status, 200, "{outcome}");
    assert!(outcome["waits"].is_number(), "above the limit of a clerk: {outcome}");
    let (_, invoice) = till.get(&format!("/api/invoices/{large}"));
    assert!(invoice["open"].as_i64().unwrap() > 0, "it stands until the request is approved");
    till.verify();
}

#[test]
fn terms_are_shown_for_the_document_they_are_meant_for() {
    let till = Till::start();
    let ask = |body: Value| till.send("POST", "/api/terms/preview", &body);
    let halves = json!({ "kind": "instalments", "parts": [
        { "share": "0.5", "due": { "kind": "net_days", "days": 30 } },
        { "share": "0.5", "due": { "kind": "end_of_month", "plus_days": 0 } },
    ] });
    let (status, shown) = ask(json!({ "terms": halves, "date": "2026-02-10", "net": 101, "total": 101 }));
    assert_eq!(status, 200, "{shown}");
    let parts: Vec<(i64, &str)> = shown["parts"]
        .as_array()
        .unwrap()
        .iter()
        .map(|part| (part["amount"].as_i64().unwrap(), part["date"].as_str().unwrap()))
        .collect();
    assert_eq!(parts.iter().map(|part| part.0).sum::<i64>(), 101, "the parts add up to the cent");
    assert!(parts.iter().any(|part| part.1 == "2026-02-28") && parts.iter().any(|part| part.1 == "2026-03-12"));
    let (status, refused) = ask(json!({ "terms": { "kind": "day_of_month", "day": 40 } }));
    assert_eq!((status, &refused["code"]), (422, &json!("invalid")), "{refused}");
    let discount = json!({ "rate": "2,5", "days": 10, "base": "gross", "grace_days": 0, "tax_adjusted": true });
    let (status, refused) = ask(json!({ "terms": { "kind": "net_days", "days": 30, "discount": discount } }));
    assert_eq!(status, 400, "{refused}");
    assert_eq!(refused["title"], "“2,5” is not a number. Write digits with a point, like 12.5.");
}

#[test]
fn a_kept_view_is_its_keepers_own() {
    let till = Till::start();
    let maud = sign_in(till.address, MAUD);
    let view = |name: &str| json!({ "room": "unbilled", "name": name, "query": "over_days=30" });
    till.done("PUT", "/api/views", &view("Old ones"));
    assert_eq!(till.refused("PUT", "/api/views", &view(" ")).2.as_deref(), Some("name"));
    let (_, mine) = till.get("/api/views?room=unbilled");
    let id = mine.as_array().unwrap().iter().find(|one| one["name"] == "Old ones").unwrap()["id"].clone();
    let (_, hers) = ask("GET", "/api/views?room=unbilled").seat(&maud).pair(till.address);
    assert!(hers.as_array().unwrap().iter().all(|one| one["name"] != "Old ones"), "{hers}");
    let path = format!("/api/views/{id}");
    let (status, _) = ask("DELETE", &path).seat(&maud).json(&Value::Null).new_key().pair(till.address);
    assert!(status >= 400, "another's view is not dropped");
    till.done("DELETE", &path, &Value::Null);
    assert!(till.get("/api/views?room=unbilled").1.as_array().unwrap().iter().all(|one| one["id"] != id));
}
