//! What billing starts from, over real connections: customers and items with everything on their
//! files, prices made step by step, orders that are short of stock, shipments in steps, quotes,
//! call-offs, custom fields that block. Each from the request to the books and back.

use crate::common::*;
use serde_json::{Value, json};

/// A customer's file with everything on it.
fn customer() -> Value {
    json!({
        "number": "7001", "name": "Plover Quay Apiaries", "address": "1 Quay\nPlover", "country": "IE",
        "currency": "EUR", "email": "accounts@plover.example", "tax_id": "", "class": "", "parent": "1001",
        "salesperson": "Ines Calder", "billing": "weekly", "bill_when_complete": true, "delivery": "email",
        "statement_cycle": "monthly", "needs_order_number": true, "gross_priced": false,
        "credit_limit": "12500.50", "share_ahead": "",
        "terms": { "kind": "end_of_month", "plus_days": 15,
            "discount": { "rate": "0.025", "days": 10, "base": "net", "grace_days": 2, "tax_adjusted": true } },
    })
}

/// An item of a class of its own, which no promotion of the demo knows: sold by two, or six in a box.
fn quay_box() -> Value {
    json!({ "code": "PQ-BOX", "name": "Quay box", "kind": "goods", "class": "quayside", "unit": "pc",
        "units": [{ "unit": "box", "factor": "6" }], "list_price": "2.50", "tax_code": "S23", "step": "2",
        "minimum": "2", "over": "", "active": true })
}

fn with(base: &Value, changes: &Value) -> Value {
    let mut changed = base.clone();
    for (key, value) in changes.as_object().unwrap() {
        changed[key] = value.clone();
    }
    changed
}

#[test]
fn a_customers_file_keeps_every_word_and_refuses_each_bad_one() {
    let till = Till::start();
    let form = customer();
    let saved = till.done("POST", "/api/customers", &form);
    let place = format!("/api/customers/{}", saved["id"]);
    let (_, file) = till.get(&format!("{place}/file"));
    for (key, value) in form.as_object().unwrap() {
        assert_eq!(&file["form"][key], value, "{key} of {}", file["form"]);
    }
    let due = |days: i64| json!({ "kind": "net_days", "days": days });
    let each = [
        due(0),
        json!({ "kind": "day_of_month", "day": 25 }),
        json!({ "kind": "instalments", "parts": [
            { "share": "0.3", "due": due(10) }, { "share": "0.7", "due": { "kind": "end_of_month", "plus_days": 0 } },
        ] }),
        due(30),
    ];
    let mut version = saved["version"].clone();
    for terms in &each {
        let body = json!({ "version": version, "form": with(&form, &json!({ "terms": terms })) });
        version = till.done("PUT", &place, &body)["version"].clone();
        let (_, file) = till.get(&format!("{place}/file"));
        assert_eq!(&file["form"]["terms"], terms);
    }
    let old = json!({ "version": saved["version"], "form": form });
    assert_eq!(till.refused("PUT", &place, &old).0, 409, "it was changed since");
    // Each bad word is refused where it was typed, and the file stays as it is.
    let (_, before) = till.get(&format!("{place}/file"));
    for (field, bad) in [
        ("name", json!(" ")),
        ("number", json!("")),
        ("number", json!("1001")),
        ("address", json!("")),
        ("country", json!("Ireland")),
        ("currency", json!("XYZ")),
        ("email", json!("not an address")),
        ("tax_id", json!("IE 12")),
        ("parent", json!("9999")),
        ("parent", json!("7001")),
        ("credit_limit", json!("12,50")),
        ("credit_limit", json!("-1")),
        ("credit_limit", json!("1.005")),
        ("share_ahead", json!("101")),
    ] {
        let body = json!({ "version": version, "form": with(&before["form"], &json!({ field: bad })) });
        let (status, _, at) = till.refused("PUT", &place, &body);
        assert_eq!((status, at.as_deref()), (422, Some(field)), "{field}: {bad}");
    }
    for (terms, at) in [
        (json!({ "kind": "day_of_month", "day": 0 }), "terms"),
        (json!({ "kind": "instalments", "parts": [{ "share": "0.9", "due": due(1) }] }), "terms"),
        (json!({ "kind": "net_days", "days": 10, "discount": { "rate": "1", "days": 5, "base": "net" } }), "terms"),
        (json!({ "kind": "net_days", "days": 10, "discount": { "rate": "0.02", "days": 20, "base": "net" } }), "terms"),
    ] {
        let body = json!({ "version": version, "form": with(&before["form"], &json!({ "terms": terms })) });
        let (status, _, field) = till.refused("PUT", &place, &body);
        assert!(status == 422 && field.as_deref().is_some_and(|field| field.starts_with(at)), "{terms}: {field:?}");
    }
    let (_, after) = till.get(&format!("{place}/file"));
    assert_eq!(before["form"], after["form"]);
    till.verify();
}

#[test]
fn places_and_people_of_a_customer_go_on_its_orders() {
    let till = Till::start();
    let id = till.done("POST", "/api/customers", &with(&customer(), &json!({ "parent": "" })))["id"].clone();
    let place = format!("/api/customers/{id}");
    let places = || till.get(&format!("{place}/file")).1["ship_tos"].as_array().unwrap().len();
    let shed = json!({ "code": "SHED", "name": "The shed", "address": "2 Lane", "country": "IE",
        "taxed": { "treatment": "standard" } });
    let ship_to = till.done("PUT", &format!("{place}/ship-tos"), &shed);
    for (bad, field) in [
        (json!({ "code": "" }), "code"),
        (json!({ "name": "" }), "name"),
        (json!({ "country": "I" }), "country"),
        (json!({ "code": "SHED" }), "code"),
    ] {
        let (status, _, at) = till.refused("PUT", &format!("{place}/ship-tos"), &with(&shed, &bad));
        assert_eq!((status, at.as_deref()), (422, Some(field)), "{bad}");
    }
    let person = json!({ "name": "Wren Halloran", "email": "wren@plover.example", "role": "buys" });
    let contact = till.done("PUT", &format!("{place}/contacts"), &person);
    let bad = with(&person, &json!({ "email": "wren" }));
    assert_eq!(till.refused("PUT", &format!("{place}/contacts"), &bad).2.as_deref(), Some("email"));
    let body = json!({ "customer": id, "ship_to": ship_to, "contact": contact, "customer_order_number": "PQ 1",
        "lines": [{ "item": "HB-12", "quantity": "1" }] });
    let order = till.done("POST", "/api/orders", &body);
    let (_, view) = till.get(&format!("/api/orders/{order}"));
    assert_eq!((&view["goes_to"]["name"], &view["contact_name"]), (&json!("The shed"), &json!("Wren Halloran")));
    // An address typed once is only this order's, and a place of another customer is nobody's here.
    let typed = json!({ "name": "Fair stand 4", "address": "The green", "country": "IE" });
    let once = till.done("POST", "/api/orders", &with(&body, &json!({ "ship_to": null, "address": typed })));
    let (_, view) = till.get(&format!("/api/orders/{once}"));
    assert_eq!(view["goes_to"], typed);
    assert_eq!(places(), 2, "that of the customer, and the shed");
    let stranger = with(&body, &json!({ "customer": 4, "contact": null }));
    let (status, _, field) = till.refused("POST", "/api/orders", &stranger);
    assert_eq!((status, field.as_deref()), (422, Some("ship_to")));
}

/// Prices as domain.md section 5 makes them: of the list, less what the quantity gives, less the
/// promotion; each step with its source.
#[test]
fn a_price_is_made_of_its_steps() {
    let till = Till::start();
    till.done("POST", "/api/items", &quay_box());
    let list = till.done("POST", "/api/price-lists", &json!({ "name": "Quays", "currency": "EUR" }));
    till.done("PUT", &format!("/api/price-lists/{list}/prices"), &json!({ "item": "PQ-BOX", "price": "30" }));
    let form = with(&customer(), &json!({ "parent": "", "price_list": list }));
    let id = till.done("POST", "/api/customers", &form)["id"].clone();
    let made = |quantity: &str, line: &Value| {
        let line = with(&json!({ "item": "PQ-BOX", "quantity": quantity }), line);
        let form = json!({ "customer": id, "customer_order_number": "PQ 2", "lines": [line] });
        till.done("POST", "/api/orders/preview", &json!({ "form": form }))
    };
    let nothing = json!({});
    assert_eq!(made("10", &nothing)["net"], 30_000, "of the list, not the 2.50 of the item");
    till.done(
        "POST",
        "/api/quantity-breaks",
        &json!({ "item": "PQ-BOX", "price_list": list, "from": "10", "off": "5" }),
    );
    assert_eq!(made("9", &nothing)["net"], 27_000);
    assert_eq!(made("10", &nothing)["net"], 28_500);
    let spring = json!({ "code": "QUAY", "name": "Quay fair", "item": "PQ-BOX", "class": "", "off": "10",
        "first": "2026-03-18", "last": "2026-03-18" });
    till.done("PUT", "/api/promotions", &spring);
    let seen = made("10", &nothing);
    let steps = seen["lines"][0]["price"]["steps"].as_array().unwrap().clone();
    assert!(steps.len() >= 3, "{steps:?}");
    let said = seen["lines"][0]["price"].to_string();
    assert!(said.contains("Quays") && said.contains("QUAY"), "each step names its source: {said}");
    // A price typed by hand takes the place of all of them; one of nothing stops, until a reason is given.
    assert_eq!(made("10", &json!({ "unit_price": "1" }))["net"], 1_000);
    let free = made("10", &json!({ "unit_price": "0" }));
    let told = free["blockers"].as_array().unwrap().iter().find(|one| one["field"] == "lines.0.unit_price");
    assert_eq!(told.map(|one| &one["effect"]), Some(&json!("stops")), "{free}");
    let reasoned = made("10", &json!({ "unit_price": "0", "price_reason": "a sample" }));
    assert!(!reasoned["blockers"].to_string().contains("unit_price"), "{reasoned}");
    for (path, body, field) in [
        ("/api/price-lists", json!({ "name": "Quays", "currency": "EUR" }), "name"),
        ("/api/price-lists", json!({ "name": "Other", "currency": "ABC" }), "currency"),
        ("/api/quantity-breaks", json!({ "item": "PQ-BOX", "from": "0", "off": "5" }), "from"),
        ("/api/quantity-breaks", json!({ "item": "PQ-BOX", "from": "10", "off": "100.5" }), "off"),
        ("/api/quantity-breaks", json!({ "item": "NO-SUCH", "from": "10", "off": "5" }), "item"),
    ] {
        let (status, _, at) = till.refused("POST", path, &body);
        assert_eq!((status, at.as_deref()), (422, Some(field)), "{body}");
    }
    for (change, field) in
        [(json!({ "last": "2026-03-17" }), "last"), (json!({ "off": "0" }), "off"), (json!({ "item": "X-X" }), "item")]
    {
        let (status, _, at) = till.refused("PUT", "/api/promotions", &with(&spring, &change));
        assert_eq!((status, at.as_deref()), (422, Some(field)), "{change}");
    }
}

/// A new item counted in, ordered beyond its stock, sent in part, waited for, taken in and sent.
#[test]
fn what_is_short_waits_and_leaves_when_it_has_come() {
    let till = Till::start();
    let item = quay_box();
    let saved = till.done("POST", "/api/items", &item);
    let place = format!("/api/items/{}", saved["id"]);
    for (change, field) in [
        (json!({ "code": "pq-box" }), "code"),
        (json!({ "code": "" }), "code"),
        (json!({ "name": "" }), "name"),
        (json!({ "code": "N", "unit": "" }), "unit"),
        (json!({ "code": "N", "units": [{ "unit": "box", "factor": "0" }] }), "units.0.factor"),
        (
            json!({ "code": "N", "units": [{ "unit": "box", "factor": "6" }, { "unit": "box", "factor": "8" }] }),
            "units.1.unit",
        ),
        (json!({ "code": "N", "units": [{ "unit": "pc", "factor": "6" }] }), "units.0.unit"),
        (json!({ "code": "N", "list_price": "-1" }), "list_price"),
        (json!({ "code": "N", "tax_code": "S99" }), "tax_code"),
        (json!({ "code": "N", "step": "-2" }), "step"),
    ] {
        let (status, _, at) = till.refused("POST", "/api/items", &with(&item, &change));
        assert_eq!((status, at.as_deref()), (422, Some(field)), "{change}");
    }
    for (body, field) in [
        (json!({ "quantity": "0", "cost": "1" }), "quantity"),
        (json!({ "quantity": "5", "cost": "-1" }), "cost"),
        (json!({ "quantity": "5", "cost": "1", "warehouse": "NOWHERE" }), "warehouse"),
    ] {
        let (status, _, at) = till.refused("POST", &format!("{place}/intakes"), &body);
        assert_eq!((status, at.as_deref()), (422, Some(field)), "{body}");
    }
    till.done("POST", &format!("{place}/intakes"), &json!({ "quantity": "16", "cost": "16" }));
    // Five boxes of six are thirty: two go, and no third one is broken for the four that are left.
    let line = |quantity: &str, unit: &str| json!([{ "item": "PQ-BOX", "quantity": quantity, "unit": unit }]);
    let order = |lines: Value| json!({ "customer": 4, "customer_order_number": "PO 9", "lines": lines });
    let (status, _, at) = till.refused("POST", "/api/orders", &order(line("3", "pc")));
    assert_eq!((status, at.as_deref()), (422, Some("lines.0.quantity")), "two at a time");
    let (status, _, at) = till.refused("POST", "/api/orders", &order(line("3", "barrel")));
    assert_eq!((status, at.as_deref()), (422, Some("lines.0.unit")));
    let id = till.done("POST", "/api/orders", &order(line("5", "box"))).as_i64().unwrap();
    let confirm = json!({ "version": 1, "reason": "asked for" });
    till.done("POST", &format!("/api/orders/{id}/confirm"), &confirm);
    assert_eq!(till.refused("POST", &format!("/api/orders/{id}/confirm"), &confirm).0, 409, "once only");
    let (_, seen) = till.get(&format!("/api/orders/{id}"));
    let first = &seen["lines"][0];
    assert_eq!((&first["allocated"], &first["back_ordered"]), (&json!("2"), &json!("3")), "{first}");
    let expected =
        json!({ "item": "PQ-BOX", "quantity": "20", "expected_on": "2026-03-25", "order_line": first["id"] });
    till.done("POST", "/api/expected-goods", &expected);
    let (_, open) = till.get("/api/open-lines?q=PQ-BOX");
    let waiting = open["lines"].as_array().unwrap().iter().find(|one| one["id"] == first["id"]).unwrap();
    assert_eq!((&waiting["to_ship"], &waiting["expected_on"]), (&json!("5"), &json!("2026-03-25")), "{waiting}");

    // Two leave, in steps; what is packed cannot be posted by who saw it before.
    let (_, picks) = till.get(&format!("/api/orders/{id}/to-ship"));
    assert_eq!((&picks[0]["proposed"], &picks[0]["to_ship"]), (&json!("2"), &json!("5")));
    // Three are asked for of the picker, who finds two: what is not there does not leave.
    let three = json!({ "lines": [{ "order_line": first["id"], "quantity": "3" }] });
    let wished = till.done("POST", &format!("/api/orders/{id}/shipments"), &three);
    let (status, _, at) = till.refused("POST", &format!("/api/shipments/{wished}/post"), &json!({ "version": 1 }));
    assert_eq!((status, at.as_deref()), (422, Some("lines.0.quantity")));
    till.done("DELETE", &format!("/api/shipments/{wished}"), &json!({ "version": 1 }));
    let shipment = till.done("POST", &format!("/api/orders/{id}/shipments"), &Value::Null);
    let at = format!("/api/shipments/{shipment}");
    let changed = json!({ "version": 1, "form": { "carrier": "Sea Road", "consignment_number": "SR 77",
        "freight": "12.40", "lines": [{ "order_line": first["id"], "quantity": "2" }] } });
    let version = till.done("PUT", &at, &changed)["version"].clone();
    let version = till.done("POST", &format!("{at}/pack"), &json!({ "version": version }))["version"].clone();
    assert_eq!(till.refused("POST", &format!("{at}/post"), &json!({ "version": 1 })).0, 409);
    till.done("POST", &format!("{at}/post"), &json!({ "version": version }));
    let (_, posted) = till.get(&at);
    assert_eq!((&posted["carrier"], &posted["freight"]), (&json!("Sea Road"), &json!(1_240)));
    assert_eq!(posted["entries"][0]["lines"].as_array().unwrap().len(), 2, "cost of goods sold and stock: {posted}");
    let (_, held) = till.get(&place);
    assert_eq!(held["stock"][0]["on_hand"], "4");
    // Less than has shipped is refused at its line; the rest may be cancelled, with a reason.
    let (_, seen) = till.get(&format!("/api/orders/{id}"));
    let mut less = seen["form"].clone();
    less["lines"][0]["quantity"] = json!("1");
    let change = json!({ "version": seen["version"], "form": less });
    let (status, _, field) = till.refused("PUT", &format!("/api/orders/{id}"), &change);
    assert_eq!((status, field.as_deref()), (422, Some("lines.0.quantity")), "one is less than the two that left");
    let rest =
        |reason: &str| json!({ "version": seen["version"], "line": first["id"], "quantity": "1", "reason": reason });
    assert_eq!(till.refused("POST", &format!("/api/orders/{id}/cancel"), &rest(" ")).2.as_deref(), Some("reason"));
    till.done("POST", &format!("/api/orders/{id}/cancel"), &rest("found elsewhere"));
    // What has come is reserved for the line it was ordered in for, and leaves.
    till.done("POST", &format!("{place}/intakes"), &json!({ "quantity": "20", "cost": "24" }));
    let again = till.refused("POST", &format!("/api/orders/{id}/set-aside"), &Value::Null);
    assert_eq!(again.0, 409, "all it wants is reserved already");
    let (_, picks) = till.get(&format!("/api/orders/{id}/to-ship"));
    assert_eq!((&picks[0]["to_ship"], &picks[0]["allocated"]), (&json!("2"), &json!("2")), "{picks}");
    let second = till.done("POST", &format!("/api/orders/{id}/shipments"), &Value::Null);
    till.done("POST", &format!("/api/shipments/{second}/post"), &json!({ "version": 1 }));
    let (_, seen) = till.get(&format!("/api/orders/{id}"));
    assert_eq!((&seen["lines"][0]["shipped"], &seen["to_ship"]), (&json!("4"), &json!(0)));
    let back = |reason: &str| json!({ "version": 2, "reason": reason });
    assert_eq!(
        till.refused("POST", &format!("/api/shipments/{second}/take-back"), &back("")).2.as_deref(),
        Some("reason")
    );
    till.done("POST", &format!("/api/shipments/{second}/take-back"), &back("wrong door"));
    let (_, held) = till.get(&place);
    assert_eq!(held["stock"][0]["on_hand"], "24");
    // A count takes a reason, and a line of the ledger for what it finds.
    let count = |counted: &str, reason: &str| json!({ "counted": counted, "reason": reason });
    assert_eq!(till.refused("POST", &format!("{place}/counts"), &count("23", "")).2.as_deref(), Some("reason"));
    assert_eq!(
        till.refused("POST", &format!("{place}/counts"), &count("-1", "one broken")).2.as_deref(),
        Some("counted")
    );
    assert_eq!(till.done("POST", &format!("{place}/counts"), &count("23", "one broken")), json!("-1"));
    till.verify();
}

/// Own fields and reporting codes: what is required blocks, what is no choice is refused, and what
/// was said goes with the goods onto the invoice and its entry.
#[test]
fn own_fields_block_and_go_on_to_the_entry() {
    let till = Till::start();
    let sanna = sign_in(till.address, SANNA);
    let keep = |what: &str, body: &Value| {
        let path = format!("/api/goods-settings/{what}");
        let (status, answer) = ask("PUT", &path).seat(&sanna).json(body).new_key().pair(till.address);
        (status, answer["field"].as_str().map(str::to_owned), answer)
    };
    let gate = json!({ "key": "quay_gate", "label": "Quay gate", "place": "order", "kind": "choice",
        "choices": ["north", "south"], "required": true, "active": true });
    assert_eq!(
        till.refused("PUT", "/api/goods-settings/own-fields", &gate).0,
        403,
        "a supervisor asks an administrator"
    );
    assert_eq!(keep("own-fields", &gate).0, 200);
    for (change, field) in [
        (json!({ "key": "Quay Gate!" }), "key"),
        (json!({ "label": " " }), "label"),
        (json!({ "choices": [] }), "choices"),
    ] {
        let (status, at, said) = keep("own-fields", &with(&gate, &change));
        assert_eq!((status, at.as_deref()), (422, Some(field)), "{change}: {said}");
    }
    let region = json!({ "key": "quay_region", "name": "Quay region", "required_by": [],
        "codes": [{ "code": "N", "name": "north side" }, { "code": "S", "name": "south side" }] });
    assert_eq!(keep("reporting-lists", &region).0, 200);
    let twice = with(&region, &json!({ "codes": [{ "code": "N", "name": "one" }, { "code": "N", "name": "two" }] }));
    let (status, at, said) = keep("reporting-lists", &twice);
    assert_eq!((status, at.as_deref()), (422, Some("codes.1.code")), "{said}");
    let demanded = with(&region, &json!({ "required_by": ["61100", "61100"] }));
    assert_eq!(keep("reporting-lists", &demanded).0, 200, "said twice is said once");
    assert_eq!(keep("reporting-lists", &with(&region, &json!({ "required_by": ["21000"] }))).1.unwrap(), "required_by");
    assert_eq!(keep("reporting-lists", &region).0, 200);

    let order = |marks: Value| {
        json!({ "customer": 4, "customer_order_number": "PO 4", "marks": marks,
            "lines": [{ "item": "HB-12", "quantity": "2" }] })
    };
    let wrong = order(json!({ "fields": { "quay_gate": "east" } }));
    let (status, _, at) = till.refused("POST", "/api/orders", &wrong);
    assert_eq!((status, at.as_deref()), (422, Some("fields.quay_gate")));
    let unknown = order(json!({ "codes": { "quay_region": "X" } }));
    let (status, _, at) = till.refused("POST", "/api/orders", &unknown);
    assert_eq!((status, at.as_deref()), (422, Some("codes.quay_region")));
    // Entered without, it is kept and waits for the word; with it, it goes all the way.
    let id = till.done("POST", "/api/orders", &order(json!({}))).as_i64().unwrap();
    let confirm = |version: i64| json!({ "version": version, "reason": "" });
    let (status, _, at) = till.refused("POST", &format!("/api/orders/{id}/confirm"), &confirm(1));
    assert_eq!((status, at.as_deref()), (422, Some("fields.quay_gate")));
    let (_, seen) = till.get(&format!("/api/orders/{id}"));
    let marks = json!({ "fields": { "quay_gate": "north" }, "codes": { "quay_region": "N" } });
    let form = with(&seen["form"], &json!({ "marks": marks }));
    till.done("PUT", &format!("/api/orders/{id}"), &json!({ "version": seen["version"], "form": form }));
    till.done("POST", &format!("/api/orders/{id}/confirm"), &confirm(2));
    let invoice = till.ship_and_bill(id);
    let (_, view) = till.get(&format!("/api/invoices/{invoice}"));
    let entry = view["entries"][0].clone();
    let sales = entry["lines"].as_array().unwrap().iter().find(|one| one["account"] == "61100").unwrap();
    assert!(sales.to_string().contains("north") && sales.to_string().contains("quay_region"), "{sales}");
    till.verify();
}

#[test]
fn a_quote_becomes_an_order_once_and_a_copy_is_made_at_todays_prices() {
    let till = Till::start();
    let line = json!({ "item": "HB-12", "quantity": "4", "unit_price": "31", "price_reason": "as quoted" });
    let quote = json!({ "order": { "customer": 4, "lines": [line] }, "valid_until": "2026-03-31" });
    let late = with(&quote, &json!({ "valid_until": "2026-03-17" }));
    assert_eq!(till.refused("POST", "/api/quotes", &late).2.as_deref(), Some("valid_until"));
    let id = till.done("POST", "/api/quotes", &quote).as_i64().unwrap();
    let place = format!("/api/quotes/{id}");
    let (_, seen) = till.get(&place);
    assert_eq!((&seen["state"], &seen["net"]), (&json!("open"), &json!(12_400)));
    let word = json!({ "version": 1, "customer_order_number": "PO 77" });
    let stale = json!({ "version": 9, "customer_order_number": "PO 77" });
    assert_eq!(till.refused("POST", &format!("{place}/accept"), &stale).0, 409);
    let order = till.done("POST", &format!("{place}/accept"), &word).as_i64().unwrap();
    assert_eq!(till.refused("POST", &format!("{place}/accept"), &word).0, 409, "once only");
    assert_eq!(till.refused("POST", &format!("{place}/decline"), &json!({ "version": 2, "reason": "no" })).0, 409);
    let (_, ordered) = till.get(&format!("/api/orders/{order}"));
    assert_eq!((&ordered["net"], &ordered["customer_order_number"]), (&json!(12_400), &json!("PO 77")));
    assert!(ordered["from"][0]["number"].as_str().unwrap().starts_with("Q-"), "{}", ordered["from"]);
    // A copy has no order number of the customer's, is a draft, and says what it was copied from.
    let copy = till.done("POST", &format!("/api/orders/{order}/copy"), &Value::Null);
    let (_, copied) = till.get(&format!("/api/orders/{copy}"));
    assert_eq!((&copied["state"], &copied["customer_order_number"]), (&json!("draft"), &Value::Null));
    assert_eq!(copied["from"][0]["number"], ordered["number"], "{}", copied["from"]);
    // Declined with a reason, a quote stays as it was offered.
    let other = till.done("POST", "/api/quotes", &quote).as_i64().unwrap();
    let decline = |reason: &str| json!({ "version": 1, "reason": reason });
    assert_eq!(
        till.refused("POST", &format!("/api/quotes/{other}/decline"), &decline("")).2.as_deref(),
        Some("reason")
    );
    till.done("POST", &format!("/api/quotes/{other}/decline"), &decline("too dear"));
    let (_, seen) = till.get(&format!("/api/quotes/{other}"));
    assert_eq!((&seen["state"], &seen["reason"]), (&json!("declined"), &json!("too dear")));
    assert_eq!(till.refused("POST", &format!("/api/quotes/{other}/accept"), &word).0, 409);
}

#[test]
fn what_is_called_off_is_counted_down_and_given_back() {
    let till = Till::start();
    let agreed = json!({ "customer": 4, "customer_order_number": "FRAME 1", "first": "2026-03-01",
        "last": "2026-06-30", "lines": [{ "item": "HB-12", "agreed": "50", "price": "28.5" }] });
    for (change, field) in [
        (json!({ "last": "2026-02-01" }), "last"),
        (json!({ "lines": [] }), "lines"),
        (json!({ "lines": [{ "item": "NONE", "agreed": "1", "price": "1" }] }), "lines.0.item"),
        (json!({ "lines": [{ "item": "HB-12", "agreed": "0", "price": "1" }] }), "lines.0.agreed"),
        (
            json!({ "lines": [{ "item": "HB-12", "agreed": "1", "price": "1" }, { "item": "HB-12", "agreed": "2", "price": "1" }] }),
            "lines.1.item",
        ),
        (json!({ "lines": [{ "item": "HB-12", "agreed": "1", "price": "-1" }] }), "lines.0.price"),
    ] {
        let (status, _, at) = till.refused("POST", "/api/call-offs", &with(&agreed, &change));
        assert_eq!((status, at.as_deref()), (422, Some(field)), "{change}");
    }
    let id = till.done("POST", "/api/call-offs", &agreed);
    let left = || till.get(&format!("/api/call-offs/{id}")).1["lines"][0]["left"].clone();
    let order = |quantity: &str| {
        json!({ "customer": 4, "customer_order_number": "PO 5", "call_off": id,
            "lines": [{ "item": "HB-12", "quantity": quantity }] })
    };
    let first = till.done("POST", "/api/orders", &order("30")).as_i64().unwrap();
    assert_eq!(left(), "20");
    assert_eq!(till.get(&format!("/api/orders/{first}")).1["net"], 85_500, "30 at 28.50");
    let (status, _, at) = till.refused("POST", "/api/orders", &order("21"));
    assert_eq!((status, at.as_deref()), (422, Some("lines.0.quantity")));
    // Of another customer it is not there at all.
    let stranger = with(&order("1"), &json!({ "customer": 8 }));
    assert_eq!(till.refused("POST", "/api/orders", &stranger).2.as_deref(), Some("call_off"));
    let cancel = json!({ "version": 1, "reason": "too early" });
    till.done("POST", &format!("/api/orders/{first}/cancel"), &cancel);
    assert_eq!(left(), "50", "what is canceled may be called off again");
}

/// A place that is exempt until a day: with a certificate no tax, and after its last day it is told.
#[test]
fn an_exemption_ends_with_its_certificate() {
    let till = Till::start();
    let id = till.done("POST", "/api/customers", &with(&customer(), &json!({ "parent": "" })))["id"].clone();
    let farm = |until: &str| {
        json!({ "code": "FARM", "name": "The farm", "address": "3 Lane", "country": "IE",
            "taxed": { "treatment": "exempt", "certificate": "EX 12/26", "until": until } })
    };
    let ship_to = till.done("PUT", &format!("/api/customers/{id}/ship-tos"), &farm("2026-03-31"));
    let seen = |date: &str| {
        let form = json!({ "customer": id, "ship_to": ship_to, "customer_order_number": "PQ 8", "order_date": date,
            "lines": [{ "item": "HB-12", "quantity": "1" }] });
        till.done("POST", "/api/orders/preview", &json!({ "form": form }))
    };
    let now = seen("2026-03-18");
    assert_eq!(now["net"], now["total"], "no tax: {now}");
    assert!(now["tape"].to_string().contains("by certificate EX 12/26, to 31 Mar 2026"), "and why: {}", now["tape"]);
    let place = with(&farm("2026-03-17"), &json!({ "id": ship_to }));
    till.done("PUT", &format!("/api/customers/{id}/ship-tos"), &place);
    let after = seen("2026-03-18");
    let told: Vec<&str> =
        after["blockers"].as_array().unwrap().iter().map(|one| one["check"].as_str().unwrap()).collect();
    assert!(told.contains(&"exemption_expired"), "{told:?}");
    let nameless = with(&place, &json!({ "taxed": { "treatment": "exempt", "certificate": "", "until": null } }));
    let (status, _, at) = till.refused("PUT", &format!("/api/customers/{id}/ship-tos"), &nameless);
    assert!(status == 422 && at.as_deref().is_some_and(|at| at.contains("certificate")), "{at:?}");
}
