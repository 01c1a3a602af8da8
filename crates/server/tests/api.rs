//! The API of a real server, over real connections, on the demo books.

use crate::common::*;
use serde_json::{Value, json};

#[test]
fn from_the_unbilled_list_to_a_closed_order_and_back_through_the_ledger() {
    let till = Till::start();
    let (_, unbilled) = till.get("/api/unbilled");
    let shipment = ready(&unbilled)
        .into_iter()
        .find(|shipment| {
            shipment["currency"] == "EUR" && shipment["track"]["shipped"] == 1000 && shipment["track"]["billed"] == 0
        })
        .unwrap();
    let to_bill = json!({ "picks": picks_of(&shipment) });
    let (status, previews) = till.send("POST", "/api/invoices/preview", &to_bill);
    assert_eq!(status, 200);
    let preview = &previews[0];
    let total = preview["document"]["total"].as_i64().unwrap();
    let debits: i64 = preview["entry"]["lines"]
        .as_array()
        .unwrap()
        .iter()
        .map(|line| line["base"].as_i64().unwrap())
        .filter(|base| *base > 0)
        .sum();
    assert_eq!(debits, total);

    let body = json!({ "picks": to_bill["picks"], "seen": [preview["fingerprint"]] });
    let (status, posted) = till.send("POST", "/api/invoices/post", &body);
    assert_eq!(status, 200, "{posted}");
    let id = posted[0]["id"].as_i64().unwrap();
    let (_, invoice) = till.get(&format!("/api/invoices/{id}"));
    assert_eq!(invoice["open"], total);
    assert_eq!(invoice["entries"][0]["lines"], preview["entry"]["lines"], "what the tape showed is what was posted");
    assert_eq!(invoice["tape"]["lines"].as_array().unwrap().len(), preview["tape"]["lines"].as_array().unwrap().len());

    let amount = format!("{}.{:02}", total / 100, total % 100);
    let receipt = json!({ "customer": preview["customer"], "method": "check", "amount": amount, "reference": "check 9",
        "applications": [{ "invoice": id, "amount": amount }] });
    let (status, money) = till.send("POST", "/api/receipts/preview", &receipt);
    assert_eq!(status, 200, "{money}");
    let mut receipt = receipt;
    receipt["seen"] = money["fingerprint"].clone();
    let (status, posted) = till.send("POST", "/api/receipts", &receipt);
    assert_eq!(status, 200, "{posted}");
    let (_, order) = till.get(&format!("/api/orders/{}", shipment["order"]));
    assert_eq!(order["state"], "closed");
    assert_eq!(order["track"], json!({ "ordered": 1000, "shipped": 1000, "billed": 1000, "paid": 1000 }));
    assert_eq!(trail_of(&order), ["order", "shipment", "invoice", "receipt"]);
    let entry = order["trail"]["steps"][3]["entries"][0]["id"].as_i64().unwrap();
    let (_, entry) = till.get(&format!("/api/ledger/entries/{entry}"));
    assert_eq!(entry["source"]["number"], posted["number"]);
    till.verify();
}

#[test]
fn bad_input_is_refused_at_its_field_and_nothing_is_written() {
    let till = Till::start();
    let (_, before) = till.get("/api/ledger/journal?limit=1");
    let (_, unbilled) = till.get("/api/unbilled");
    let shipment = &ready(&unbilled)[0];
    let line = &shipment["lines"][0];
    let id = &line["shipment_line"];
    let post = |picks: Value| json!({ "picks": picks, "seen": ["x"] });
    let receipt = |change: &dyn Fn(&mut Value)| {
        let mut body = json!({ "customer": 3, "method": "check", "amount": "10.00", "applications": [], "seen": "x" });
        change(&mut body);
        body
    };
    /// Method, path, body; then status, code and field of the refusal.
    type Case = (&'static str, &'static str, Value, u16, &'static str, Option<&'static str>);
    let harrow = till.get("/api/customers/3").1["version"].clone();
    let cases: Vec<Case> = vec![
        (
            "POST",
            "/api/invoices/post",
            post(json!([{ "shipment_line": id, "quantity": "-1" }])),
            422,
            "refused",
            Some("lines.0.quantity"),
        ),
        (
            "POST",
            "/api/invoices/post",
            post(json!([{ "shipment_line": id, "quantity": "0" }])),
            422,
            "refused",
            Some("lines.0.quantity"),
        ),
        (
            "POST",
            "/api/invoices/post",
            post(json!([{ "shipment_line": id, "quantity": "9999" }])),
            422,
            "refused",
            Some("lines.0.quantity"),
        ),
        (
            "POST",
            "/api/invoices/post",
            post(json!([{ "shipment_line": 987_654 }])),
            422,
            "invalid",
            Some("picks.0.shipment_line"),
        ),
        (
            "POST",
            "/api/invoices/post",
            post(json!([{ "shipment_line": id, "quantity": "1.00001" }])),
            400,
            "malformed",
            Some("picks.0.quantity"),
        ),
        ("POST", "/api/invoices/post", post(json!([])), 422, "refused", Some("picks")),
        ("POST", "/api/invoices/post", post(json!([{ "shipment_line": id }])), 409, "moved", None),
        (
            "POST",
            "/api/invoices",
            json!({ "picks": [{ "shipment_line": id }], "posting_date": "18.03.2026" }),
            400,
            "malformed",
            Some("posting_date"),
        ),
        (
            "POST",
            "/api/invoices/preview",
            json!({ "picks": [{ "shipment_line": id }], "posting_date": "0026-03-18" }),
            422,
            "invalid",
            Some("posting_date"),
        ),
        ("POST", "/api/receipts", receipt(&|body| body["amount"] = json!("10.005")), 422, "invalid", Some("amount")),
        ("POST", "/api/receipts", receipt(&|body| body["amount"] = json!("ten")), 422, "invalid", Some("amount")),
        ("POST", "/api/receipts", receipt(&|body| body["amount"] = json!("-5")), 422, "refused", Some("amount")),
        (
            "POST",
            "/api/receipts",
            receipt(&|body| body["amount"] = json!("99999999999999")),
            422,
            "invalid",
            Some("amount"),
        ),
        ("POST", "/api/receipts", receipt(&|body| body["customer"] = json!(4711)), 404, "not_found", None),
        ("POST", "/api/receipts", receipt(&|body| body["date"] = json!("2026-02-10")), 422, "refused", Some("date")),
        ("POST", "/api/receipts", receipt(&|body| body["date"] = json!("2026-02-30")), 400, "malformed", Some("date")),
        // A misspelt field would be as good as none.
        (
            "POST",
            "/api/receipts",
            receipt(&|body| body["aplications"] = json!([])),
            422,
            "unknown_field",
            Some("aplications"),
        ),
        (
            "POST",
            "/api/invoices/preview",
            json!({ "picks": [{ "shipment_line": id, "quantitty": "1" }] }),
            422,
            "unknown_field",
            Some("picks.0.quantitty"),
        ),
        ("POST", "/api/receipts", receipt(&|body| body["method"] = json!("seashells")), 422, "invalid", Some("method")),
        (
            "POST",
            "/api/receipts",
            receipt(&|body| body["reference"] = json!("x".repeat(141))),
            422,
            "invalid",
            Some("reference"),
        ),
        (
            "PUT",
            "/api/customers/3/tax-id",
            json!({ "version": harrow, "tax_id": "<img onerror=alert(1)>" }),
            422,
            "invalid",
            Some("tax_id"),
        ),
        ("PUT", "/api/customers/3/tax-id", json!({ "version": 99, "tax_id": "MH1" }), 409, "stale", None),
        ("POST", "/api/shipments/1/post", json!({ "version": 2 }), 409, "wrong_state", None),
        ("GET", "/api/orders/99999", Value::Null, 404, "not_found", None),
        ("GET", "/api/orders/abc", Value::Null, 404, "not_found", None),
        ("GET", "/api/orders?state=lost", Value::Null, 422, "invalid", Some("state")),
        ("GET", "/api/ledger/trial-balance?as_of=yesterday", Value::Null, 400, "malformed", None),
        ("GET", "/api/ledger/accounts/9999", Value::Null, 422, "invalid", Some("account")),
        ("GET", "/api/nothing", Value::Null, 404, "no_such_call", None),
    ];
    for (method, path, body, status, code, field) in cases {
        let (got, problem) = till.send(method, path, &body);
        assert_eq!((got, problem["code"].as_str()), (status, Some(code)), "{method} {path} {body} → {problem}");
        assert_eq!(problem["field"].as_str(), field, "{method} {path} {body} → {problem}");
        assert!(problem["title"].as_str().unwrap().ends_with('.'), "a sentence: {problem}");
    }
    let (_, no_day) = till.send("POST", "/api/receipts", &receipt(&|body| body["date"] = json!("2026-02-29")));
    assert_eq!(no_day["title"], "“2026-02-29” is no day of the calendar. Write one such as 2026-03-18.");
    let answer =
        till.ask("POST", "/api/receipts").text("{\"customer\": ").key("key-12345678").send(till.address).unwrap();
    assert_eq!(answer.status, 400);
    assert!(answer.head.contains("application/problem+json"), "{}", answer.head);
    assert!(answer.body.contains("malformed"), "{}", answer.body);
    let (_, after) = till.get("/api/ledger/journal?limit=1");
    assert_eq!(before["count"], after["count"]);
    till.verify();
}

#[test]
fn a_change_needs_a_key_and_the_same_key_is_done_once() {
    let till = Till::start();
    let (status, problem) = till.ask("POST", "/api/receipts").text("{}").pair(till.address);
    assert_eq!((status, problem["code"].as_str()), (400, Some("key_missing")));
    let receipt = json!({ "customer": 5, "method": "transfer", "amount": "12.34", "applications": [] });
    let (_, preview) = till.send("POST", "/api/receipts/preview", &receipt);
    let mut body = receipt;
    body["seen"] = preview["fingerprint"].clone();
    // A double click: both at the same moment.
    let answers: Vec<(u16, Value)> = std::thread::scope(|scope| {
        let clicks: Vec<_> = (0..4)
            .map(|_| scope.spawn(|| till.send_with("POST", "/api/receipts", &body, "the-very-same-key")))
            .collect();
        clicks.into_iter().map(|click| click.join().unwrap()).collect()
    });
    assert!(answers.iter().all(|answer| *answer == answers[0] && answer.0 == 200), "{answers:?}");
    let (_, found) = till.get(&format!("/api/receipts?q={}", answers[0].1["number"].as_str().unwrap()));
    assert_eq!(found["count"], 1);
    body["amount"] = json!("99.00");
    let (status, problem) = till.send_with("POST", "/api/receipts", &body, "the-very-same-key");
    assert_eq!((status, problem["code"].as_str()), (422, Some("key_reused")));
    till.verify();
}

#[test]
fn lists_export_what_they_show() {
    let till = Till::start();
    for list in ["orders", "shipments", "unbilled", "invoices", "receipts", "journal", "trial-balance"] {
        let answer = till.ask("GET", &format!("/api/export/{list}.csv")).send(till.address).unwrap();
        assert_eq!(answer.status, 200, "{list}");
        assert_eq!(answer.header("content-type"), Some("text/csv; charset=utf-8"));
        assert!(answer.body.lines().count() > 3, "{list}: {}", answer.body);
    }
    let body = till.ask("GET", "/api/export/trial-balance.csv?as_of=2026-01-31").send(till.address).unwrap().body;
    let (_, balance) = till.get("/api/ledger/trial-balance?as_of=2026-01-31");
    assert_eq!(body.lines().count() - 1, balance["accounts"].as_array().unwrap().len());
    assert_eq!(till.get("/api/export/secrets.csv").0, 404);
}
