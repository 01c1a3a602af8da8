//! Drafts over real connections: what is put on them and taken off, what two people change at once,
//! prices, tax and discounts with their reasons, dates; up to the entry, or back to unbilled.

use crate::common::*;
use serde_json::{Value, json};

/// A shipped order of two lines and what of it is unbilled: its shipment lines.
fn shipped(till: &Till) -> (i64, Vec<Value>) {
    let lines = json!([{ "item": "HB-12", "quantity": "10" }, { "item": "JR-34", "quantity": "24" }]);
    let body = json!({ "customer": 4, "customer_order_number": "PO 12", "lines": lines });
    let order = till.done("POST", "/api/orders", &body).as_i64().unwrap();
    till.done("POST", &format!("/api/orders/{order}/confirm"), &json!({ "version": 1, "reason": "" }));
    let shipment = till.done("POST", &format!("/api/orders/{order}/shipments"), &Value::Null);
    till.done("POST", &format!("/api/shipments/{shipment}/post"), &json!({ "version": 1 }));
    let (_, view) = till.get(&format!("/api/shipments/{shipment}"));
    (order, view["lines"].as_array().unwrap().iter().map(|line| line["id"].clone()).collect())
}

fn pick(line: &Value, quantity: &str) -> Value {
    json!({ "shipment_line": line, "quantity": quantity })
}

/// What is unbilled of an order, by item.
fn unbilled(till: &Till, order: i64) -> Vec<(String, String)> {
    let (_, list) = till.get("/api/unbilled?customer=4");
    let customers = list["customers"].as_array().unwrap().iter();
    let shipments = customers.flat_map(|one| one["shipments"].as_array().unwrap());
    let of_order = shipments.filter(|one| one["order"] == order);
    of_order
        .flat_map(|one| one["lines"].as_array().unwrap())
        .map(|line| (line["code"].as_str().unwrap().to_owned(), line["quantity"].as_str().unwrap().to_owned()))
        .collect()
}

fn draft(till: &Till, picks: Value) -> (i64, String) {
    let drafts = till.done("POST", "/api/invoices", &json!({ "picks": picks }));
    let id = drafts[0].as_i64().unwrap();
    (id, format!("/api/invoices/{id}"))
}

#[test]
fn what_a_draft_leaves_and_gives_back_is_unbilled_again() {
    let till = Till::start();
    let (order, lines) = shipped(&till);
    let (_, place) = draft(&till, json!([pick(&lines[0], "6"), { "shipment_line": lines[1] }]));
    assert_eq!(unbilled(&till, order), [("HB-12".to_owned(), "4".to_owned())]);
    let put = |version: i64, picks: Value| json!({ "version": version, "picks": picks });
    for (quantity, said) in [("11", 422), ("0", 422), ("-1", 422), ("six", 400)] {
        let (status, _, _) = till.refused("PUT", &place, &put(1, json!([pick(&lines[0], quantity)])));
        assert_eq!(status, said, "{quantity}");
    }
    let twice = put(1, json!([pick(&lines[0], "1"), pick(&lines[0], "1")]));
    assert_eq!(till.refused("PUT", &place, &twice).0, 422, "a line stands once");
    till.done("PUT", &place, &put(1, json!([pick(&lines[0], "10")])));
    assert_eq!(unbilled(&till, order), [("JR-34".to_owned(), "24".to_owned())]);
    assert_eq!(till.refused("PUT", &place, &put(1, json!([pick(&lines[0], "9")]))).0, 409, "it was changed since");
    // What is on this draft is not put on another.
    let other = json!({ "picks": [pick(&lines[0], "1")] });
    assert_eq!(till.refused("POST", "/api/invoices", &other).0, 422);
    // Dropped, all of it is unbilled again, and the number was never given.
    let drop = |version: i64| format!("{place}?version={version}");
    assert_eq!(till.refused("DELETE", &drop(1), &Value::Null).0, 409);
    till.done("DELETE", &drop(2), &Value::Null);
    let (_, gone) = till.get(&place);
    assert_eq!(gone["code"], "gone", "{gone}");
    assert!(gone["title"].as_str().unwrap().starts_with("Ines Calder deleted this draft on "), "{gone}");
    assert_eq!(unbilled(&till, order).len(), 2);
    till.verify();
}

#[test]
fn a_draft_is_posted_with_the_figures_that_were_seen_and_no_others() {
    let till = Till::start();
    let (order, lines) = shipped(&till);
    let (_, place) = draft(&till, json!([pick(&lines[0], "6")]));
    let (_, seen) = till.get(&place);
    let post = |view: &Value| json!({ "version": view["version"], "seen": view["fingerprint"] });
    let changed = json!({ "version": 1, "picks": [pick(&lines[0], "5")] });
    till.done("PUT", &place, &changed);
    assert_eq!(till.refused("POST", &format!("{place}/post"), &post(&seen)).0, 409);
    let (_, seen) = till.get(&place);
    let mixed = json!({ "version": seen["version"], "seen": "other figures" });
    assert_eq!(till.refused("POST", &format!("{place}/post"), &mixed).1, "moved");
    let (status, first) = till.send_with("POST", &format!("{place}/post"), &post(&seen), "one post, one key");
    let (again, second) = till.send_with("POST", &format!("{place}/post"), &post(&seen), "one post, one key");
    assert_eq!((status, again), (200, 200));
    assert_eq!(first, second, "the second click says what the first one did");
    assert_eq!(till.refused("POST", &format!("{place}/post"), &post(&seen)).0, 409, "it is posted");
    for (method, path, body) in [
        ("PUT", place.clone(), changed),
        ("DELETE", format!("{place}?version=3"), Value::Null),
        ("PUT", format!("{place}/discount"), json!({ "version": 3, "percent": "5", "reason": "late" })),
    ] {
        assert_eq!(till.refused(method, &path, &body).0, 409, "{method} {path}: what is posted stays");
    }
    let (_, posted) = till.get(&place);
    let entry: i64 =
        posted["entries"][0]["lines"].as_array().unwrap().iter().map(|one| one["base"].as_i64().unwrap()).sum();
    assert_eq!(entry, 0);
    assert_eq!(posted["document"]["total"], seen["document"]["total"]);
    assert_eq!(unbilled(&till, order)[0], ("HB-12".to_owned(), "5".to_owned()));
    till.verify();
}

#[test]
fn two_who_change_a_draft_at_once_keep_both_or_are_told() {
    let till = Till::start();
    let (_, lines) = shipped(&till);
    let (_, place) = draft(&till, json!([pick(&lines[0], "6"), pick(&lines[1], "24")]));
    let base = till.get(&place).1["to_bill"].clone();
    let with = |changes: Value| {
        let mut changed = base.clone();
        for (key, value) in changes.as_object().unwrap() {
            changed[key] = value.clone();
        }
        changed
    };
    let sent = |what: &Value| {
        let mut body = what.clone();
        body["version"] = json!(1);
        body
    };
    // Maud writes a text; Ines, who has not seen it, takes a line down.
    let maud = sign_in(till.address, MAUD);
    let hers = with(json!({ "text_above": "Thank you." }));
    let (status, _) = ask("PUT", &place).seat(&maud).json(&sent(&hers)).new_key().pair(till.address);
    assert_eq!(status, 200);
    let mine = with(json!({ "picks": [pick(&lines[0], "5"), pick(&lines[1], "24")] }));
    assert_eq!(till.refused("PUT", &place, &sent(&mine)).0, 409);
    let merge = |mine: &Value| {
        let (status, merged) =
            till.send("POST", &format!("{place}/merge"), &json!({ "version": 1, "base": base, "mine": mine }));
        assert_eq!(status, 200, "{merged}");
        merged
    };
    let merged = merge(&mine);
    assert_eq!(merged["clashes"], json!([]));
    assert_eq!(merged["merged"]["text_above"], "Thank you.");
    assert_eq!(merged["merged"]["picks"][0]["quantity"], "5");
    assert!(merged["since"].to_string().contains("Maud"), "who did it: {}", merged["since"]);
    let clash = merge(&with(json!({ "text_above": "With regards." })));
    assert_eq!(clash["clashes"].as_array().unwrap().len(), 1, "{clash}");
    let mut body = merged["merged"].clone();
    body["version"] = merged["version"].clone();
    till.done("PUT", &place, &body);
    let (_, both) = till.get(&place);
    assert_eq!(both["document"]["text_above"], "Thank you.");
    assert_eq!(both["document"]["lines"][0]["quantity"], "5");
}

#[test]
fn prices_tax_and_discounts_take_their_reasons_and_stay_visible() {
    let till = Till::start();
    let (_, lines) = shipped(&till);
    let (_, place) = draft(&till, json!([pick(&lines[0], "10"), pick(&lines[1], "24")]));
    let (_, before) = till.get(&place);
    let first = format!("{place}/lines/{}", lines[0]);
    let price =
        |version: i64, to: &str, reason: &str| json!({ "version": version, "unit_price": to, "reason": reason });
    for (to, reason, field) in [("30", " ", "reason"), ("dear", "torn", "unit_price"), ("-1", "torn", "unit_price")] {
        let (status, _, at) = till.refused("PUT", &format!("{first}/price"), &price(1, to, reason));
        assert_eq!((status, at.as_deref()), (422, Some(field)), "{to}");
    }
    till.done("PUT", &format!("{first}/price"), &price(1, "30", "a torn box"));
    let (_, cheaper) = till.get(&place);
    let line = &cheaper["document"]["lines"][0];
    assert_eq!((&line["unit_price"], &line["price_reason"]), (&json!("30"), &json!("a torn box")));
    assert_ne!(line["order_price"], "30", "what was agreed stays beside it");
    assert!(cheaper["tape"].to_string().contains("a torn box"));
    // Another tax code: with a reason, and the difference to the order is told.
    let tax =
        |version: i64, code: &str, reason: &str| json!({ "version": version, "tax_code": code, "reason": reason });
    assert_eq!(till.refused("PUT", &format!("{first}/tax"), &tax(2, "Z0", "")).2.as_deref(), Some("reason"));
    assert_eq!(till.refused("PUT", &format!("{first}/tax"), &tax(2, "X9", "wrong")).2.as_deref(), Some("tax_code"));
    let discount = |version: &Value, body: Value| {
        let mut body = body;
        body["version"] = version.clone();
        body
    };
    let at = format!("{place}/discount");
    for (body, field) in [
        (json!({ "percent": "5", "reason": "" }), "reason"),
        (json!({ "percent": "101", "reason": "late" }), "percent"),
        (json!({ "percent": "-1", "reason": "late" }), "percent"),
        (json!({ "amount": "100000", "reason": "late" }), "discount"),
        (json!({ "percent": "5", "amount": "5", "reason": "late" }), "amount"),
    ] {
        let (status, _, said) = till.refused("PUT", &at, &discount(&json!(2), body.clone()));
        assert_eq!((status, said.as_deref()), (422, Some(field)), "{body}");
    }
    let version = till.done("PUT", &at, &discount(&json!(2), json!({ "percent": "10", "reason": "it came late" })));
    let (_, seen) = till.get(&place);
    let document = &seen["document"];
    let offs: i64 = document["lines"].as_array().unwrap().iter().map(|one| one["off"].as_i64().unwrap()).sum();
    assert_eq!(document["lines_total"].as_i64().unwrap() - offs, document["net"].as_i64().unwrap());
    assert_eq!(offs, (document["lines_total"].as_i64().unwrap() + 5) / 10, "a tenth, to the cent");
    assert!(document["net"].as_i64() < before["document"]["net"].as_i64());
    let reasons: String = seen["changes"].to_string() + &seen["tape"].to_string();
    assert!(reasons.contains("it came late"), "{reasons}");
    // Taken off again, the lines are what they were.
    till.done("PUT", &at, &discount(&version["version"], json!({ "reason": "" })));
    let (_, plain) = till.get(&place);
    assert_eq!(plain["document"]["net"], cheaper["document"]["net"]);
    till.verify();
}

#[test]
fn a_price_above_the_limit_waits_and_is_posted_as_approved() {
    let till = Till::start();
    let (_, lines) = shipped(&till);
    let (id, place) = draft(&till, json!([pick(&lines[0], "10")]));
    let tomas = sign_in(till.address, TOMAS);
    let path = format!("{place}/lines/{}/price", lines[0]);
    let cheap = json!({ "version": 1, "unit_price": "1", "reason": "the last ones" });
    let (status, outcome) = ask("PUT", &path).seat(&tomas).json(&cheap).new_key().pair(till.address);
    assert_eq!(status, 200, "{outcome}");
    let approval = outcome["waits"].as_i64().unwrap_or_else(|| panic!("above a clerk's limit: {outcome}"));
    // Until then nobody posts it, and he does not approve what he asked for himself.
    let view = || till.get(&place).1;
    let post = json!({ "version": view()["version"], "seen": view()["fingerprint"] });
    let by_tomas =
        |method: &str, path: &str, body: &Value| ask(method, path).seat(&tomas).json(body).new_key().pair(till.address);
    let (status, said) = by_tomas("POST", &format!("{place}/post"), &post);
    assert_eq!((status, said["blockers"][0]["check"].as_str()), (422, Some("waits_for_approval")), "{said}");
    assert_eq!(said["blockers"][0]["at"]["id"], approval, "where it is decided on");
    let (status, said) = by_tomas("POST", &format!("/api/approvals/{approval}/approve"), &Value::Null);
    assert_eq!(status, 403, "{said}");
    till.done("POST", &format!("/api/approvals/{approval}/approve"), &Value::Null);
    assert_eq!(view()["document"]["lines"][0]["unit_price"], "1");
    let post = json!({ "version": view()["version"], "seen": view()["fingerprint"] });
    let (status, posted) = by_tomas("POST", &format!("{place}/post"), &post);
    assert_eq!(status, 200, "{posted}");
    let (_, record) = till.get(&format!("/api/record/invoice/{id}"));
    let told = record.to_string();
    assert!(told.contains("Tomas") && told.contains("Ines"), "who asked, and who said yes: {told}");
    till.verify();
}

#[test]
fn dates_of_a_draft_are_sensible_open_and_in_order() {
    let till = Till::start();
    let (_, lines) = shipped(&till);
    let (_, place) = draft(&till, json!([pick(&lines[0], "10")]));
    let dated = |version: i64, key: &str, date: &str| json!({ "version": version, "picks": [pick(&lines[0], "10")], key: date });
    for (key, date, status) in [
        ("document_date", "0026-03-18", 422),
        ("document_date", "9999-12-31", 422),
        ("posting_date", "2026-02-30", 400),
        // Before the goods left.
        ("posting_date", "2026-03-17", 422),
    ] {
        assert_eq!(till.refused("PUT", &place, &dated(1, key, date)).0, status, "{date}");
    }
    till.done("PUT", &place, &dated(1, "posting_date", "2026-03-20"));
    let (_, seen) = till.get(&place);
    assert_eq!(seen["document"]["posting_date"]["date"], "2026-03-20");
    assert_eq!(seen["document"]["document_date"]["date"], "2026-03-18", "the one nobody typed stays the business date");
    // A closed period stops the posting, not the draft, and says what to do.
    till.done("PUT", "/api/setup/periods/2026-03-01", &json!({ "open": false }));
    let (_, seen) = till.get(&place);
    let told = seen["blockers"].as_array().unwrap().iter().find(|one| one["check"] == "period_closed").unwrap();
    assert_eq!((&told["effect"], &told["field"]), (&json!("stops"), &json!("posting_date")), "{told}");
    let post = json!({ "version": seen["version"], "seen": seen["fingerprint"] });
    let (status, code, at) = till.refused("POST", &format!("{place}/post"), &post);
    assert_eq!((status, code.as_str(), at.as_deref()), (422, "refused", Some("posting_date")));
    till.verify();
}
