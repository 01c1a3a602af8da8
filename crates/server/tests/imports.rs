//! Files of shipments and orders, as a company whose warehouse works elsewhere brings them.

use std::fmt::Write as _;

use crate::common::*;
use serde_json::{Value, json};

/// Shipments of four lines each, of three customers.
fn shipments(lines: usize) -> String {
    let mut text = "shipment,date,customer,item,quantity,their_order\r\n".to_owned();
    for at in 0..lines {
        let (shipment, item) = (at / 4, ["HB-12", "FR-50", "HT-JH", "JR-34"][at % 4]);
        let customer = [1001, 1004, 1008][shipment % 3];
        write!(
            text,
            "WH-{shipment},2026-03-{:02},{customer},{item},{},WO-{shipment}\r\n",
            shipment % 17 + 1,
            at % 9 + 1
        )
        .unwrap();
    }
    text
}

fn read(till: &Till, kind: &str, text: &str) -> (u16, Value) {
    let path = format!("/api/imports?kind={kind}&name=march.csv");
    let answer = till.ask("POST", &path).text(text).header("Content-Type", "text/csv").new_key();
    answer.pair(till.address)
}

fn counts(till: &Till) -> (i64, i64) {
    let count = |path: &str| {
        let (_, list) = till.get(path);
        list["count"].as_i64().unwrap_or_else(|| panic!("{path}: {list}"))
    };
    (count("/api/orders"), count("/api/shipments"))
}

#[test]
fn one_bad_row_in_five_thousand_and_nothing_is_taken_over() {
    let till = Till::start();
    let before = counts(&till);
    let good = shipments(5_000);
    let bad = good.replacen("HB-12,2,WO-700\r", "HB-12,two,WO-700\r", 1);
    assert!(bad.contains("two"));
    let (status, id) = read(&till, "shipments", &bad);
    assert_eq!(status, 200, "{id}");
    let (_, seen) = till.get(&format!("/api/imports/{id}"));
    let problems = seen["check"]["problems"].as_array().unwrap();
    assert_eq!((problems.len(), &seen["check"]["problem_count"]), (1, &json!(1)), "{problems:?}");
    // The line is the one a spreadsheet shows, the heading counted.
    assert_eq!((&problems[0]["line"], &problems[0]["column"]), (&json!(2_802), &json!("quantity")), "{problems:?}");
    let take = |id: &Value| till.send("POST", &format!("/api/imports/{id}/take-over"), &json!({ "confirm": false }));
    let (status, said) = take(&id);
    assert_eq!((status, said["field"].as_str()), (422, Some("file")), "{said}");
    assert!(said["title"].as_str().unwrap().contains("Line 2802"), "{said}");
    assert_eq!(counts(&till), before, "all or nothing");

    // Put right, all of it is there: shipped, to be billed, of no cost here.
    let (_, id) = read(&till, "shipments", &good);
    let (status, done) = take(&id);
    assert_eq!((status, &done["documents"], &done["lines"]), (200, &json!(1_250), &json!(5_000)), "{done}");
    assert_eq!(counts(&till), (before.0 + 1_250, before.1 + 1_250));
    let (status, said) = take(&id);
    assert_eq!((status, said["code"].as_str()), (409, Some("wrong_state")), "once only: {said}");
    // The same shipments cannot come a second time in another file.
    let (_, again) = read(&till, "shipments", &good);
    let (_, seen) = till.get(&format!("/api/imports/{again}"));
    assert!(seen["check"]["problem_count"].as_i64().unwrap() >= 1_250, "{}", seen["check"]["problem_count"]);
    let (status, unbilled) = till.get("/api/unbilled?q=WO-700");
    assert_eq!(status, 200);
    let ready = ready(&unbilled);
    assert_eq!(ready.len(), 1, "{unbilled}");
    let (status, posted) = till.send("POST", "/api/invoices", &json!({ "picks": picks_of(&ready[0]) }));
    assert_eq!(status, 200, "{posted}");
    till.verify();
}

#[test]
fn a_file_that_cannot_be_read_says_which_line_and_why() {
    let till = Till::start();
    for (kind, text, said) in [
        ("shipments", "shipment,date\n1,2\n", "lacks customer"),
        ("shipments", "shipment,date,customer,item,quantity,colour\n", "colour"),
        ("orders", "order,customer,item,quantity\n1,1001,HB-12\n", "2"),
        ("orders", "", "empty"),
        ("letters", "a\n1\n", "orders or shipments"),
    ] {
        let (status, answer) = read(&till, kind, text);
        assert_eq!(status, 422, "{answer}");
        assert!(answer["title"].as_str().unwrap().contains(said), "{said}: {answer}");
    }
    // Orders become drafts, or are confirmed where nothing stands in the way.
    let text =
        "order;customer;item;quantity;price;reason\nA;1001;HB-12;3;;\nA;1001;FR-50;2;40;agreed\nB;1004;HT-JH;5;;\n";
    let (status, id) = read(&till, "orders", text);
    assert_eq!(status, 200, "{id}");
    let (status, done) = till.send("POST", &format!("/api/imports/{id}/take-over"), &json!({ "confirm": true }));
    assert_eq!((status, &done["documents"], &done["confirmed"]), (200, &json!(2), &json!(2)), "{done}");
    till.verify();
}
