//! Signing in, and what may not get around it: fixation, forgery, guessing, other hosts, paths.

use crate::common::*;
use serde_json::{Value, json};

fn try_to(till: &Till, name: &str, password: &str) -> (u16, Value) {
    ask("POST", "/api/session").json(&json!({ "sign_in": name, "password": password })).pair(till.address)
}

#[test]
fn the_cookie_is_kept_from_scripts_and_from_other_sites() {
    let till = Till::start();
    let answer = ask("POST", "/api/session")
        .json(&json!({ "sign_in": " InEs ", "password": INES.1 }))
        .send(till.address)
        .unwrap();
    let cookie = answer.header("set-cookie").unwrap();
    for part in ["till=", "HttpOnly", "SameSite=Strict", "Path=/", "Max-Age=43200"] {
        assert!(cookie.contains(part), "{part} is not in {cookie}");
    }
    assert!(!cookie.contains("Secure"), "over plain HTTP a browser would drop it");
    assert_eq!(answer.cookie().unwrap().len(), "till=".len() + 64);
    assert_eq!(answer.value()["person"]["name"], "Ines Calder");
    assert!(!answer.body.contains("hash"), "{}", answer.body);
    let proxied = Till::start_with(&[("GLAD_TILL_TRUSTED_PROXIES", "127.0.0.1")]);
    let answer = ask("POST", "/api/session")
        .header("X-Forwarded-Proto", "https")
        .header("X-Forwarded-For", "6.6.6.6, 192.0.2.7")
        .json(&json!({ "sign_in": "otto", "password": OTTO.1 }))
        .send(proxied.address)
        .unwrap();
    let cookie = answer.header("set-cookie").unwrap();
    assert!(cookie.starts_with("__Host-till=") && cookie.contains("; Secure"), "{cookie}");
    let rows = proxied.get("/api/record?limit=1&q=signed%20in").1;
    assert_eq!(rows["rows"][0]["doer"]["from"], "192.0.2.7", "the address the proxy saw, not what anyone can write");
}

#[test]
fn a_session_from_before_the_sign_in_is_never_taken_over() {
    let till = Till::start();
    // An attacker gives the victim a token and waits for it to be signed in.
    let planted = format!("till={}", "a".repeat(64));
    let answer = ask("POST", "/api/session")
        .header("Cookie", &planted)
        .json(&json!({ "sign_in": "tomas", "password": TOMAS.1 }))
        .send(till.address)
        .unwrap();
    assert_ne!(answer.cookie().unwrap(), planted);
    assert_eq!(ask("GET", "/api/spine").header("Cookie", &planted).pair(till.address).0, 401);
    // Whoever sat there before is signed out by the next sign-in at the same browser.
    let first = sign_in(till.address, OTTO);
    ask("POST", "/api/session")
        .seat(&first)
        .json(&json!({ "sign_in": "tomas", "password": TOMAS.1 }))
        .send(till.address)
        .unwrap();
    assert_eq!(ask("GET", "/api/spine").seat(&first).pair(till.address).0, 401);
}

#[test]
fn a_change_from_another_page_is_refused() {
    let till = Till::start();
    let receipt = json!({ "customer": 3, "method": "check", "amount": "1.00", "applications": [], "seen": "x" });
    let asked = || till.ask("POST", "/api/receipts").json(&receipt).new_key();
    let host = till.address.to_string();
    for (name, value) in [
        ("Origin", "http://evil.example".to_owned()),
        ("Origin", "null".to_owned()),
        ("Origin", format!("https://{host}")),
        ("Origin", format!("http://{host}.evil.example")),
        ("Sec-Fetch-Site", "cross-site".to_owned()),
        ("Sec-Fetch-Site", "same-site".to_owned()),
    ] {
        let (status, problem) = asked().header(name, &value).pair(till.address);
        assert_eq!((status, problem["code"].as_str()), (403, Some("foreign_page")), "{name}: {value}");
    }
    let (_, own) =
        asked().header("Origin", &format!("http://{host}")).header("Sec-Fetch-Site", "same-origin").pair(till.address);
    assert_eq!(own["code"], "moved", "our own page gets as far as the books");
    let mut other = till.seat.clone();
    other.csrf = sign_in(till.address, TOMAS).csrf;
    let (status, problem) = ask("POST", "/api/receipts").seat(&other).json(&receipt).new_key().pair(till.address);
    assert_eq!((status, problem["code"].as_str()), (403, Some("token_missing")), "another session's token");
    // A form cannot be posted as JSON at all.
    let form =
        till.ask("POST", "/api/receipts").new_key().header("Content-Type", "text/plain").send(till.address).unwrap();
    assert!((400..=415).contains(&form.status), "{}", form.status);
}

#[test]
fn guessing_is_slowed_and_says_nothing_about_who_exists() {
    let till = Till::start();
    let mut said = Vec::new();
    for name in ["tomas", "no.such.person"] {
        let answers: Vec<(u16, String)> = (0..6)
            .map(|_| try_to(&till, name, "wrong wrong wrong"))
            .map(|(status, problem)| (status, problem["code"].as_str().unwrap().to_owned()))
            .collect();
        assert_eq!(answers.iter().map(|one| one.0).collect::<Vec<_>>(), [401, 401, 401, 401, 429, 429], "{name}");
        said.push(answers);
    }
    assert_eq!(said[0], said[1]);
    let (status, problem) = try_to(&till, "tomas", TOMAS.1);
    assert_eq!((status, problem["code"].as_str()), (429, Some("locked")), "even the right one has to wait");
    assert!(problem["title"].as_str().unwrap().contains("Wait 1"), "{problem}");
    assert_eq!(try_to(&till, "otto", OTTO.1).0, 200, "others are not locked");
    let rows = till.get("/api/record?q=wrong%20password").1;
    assert_eq!(rows["count"], 5, "each wrong one is on the record");
    assert!(!rows.to_string().contains("wrong wrong wrong"));
    // From one address, whatever the names: a measure of its own.
    let measured = Till::start_with(&[("GLAD_TILL_SIGN_INS_PER_MINUTE", "4")]);
    let statuses: Vec<u16> = (0..6).map(|at| try_to(&measured, &format!("nobody{at}"), "x").0).collect();
    assert_eq!(statuses, [401, 401, 401, 429, 429, 429], "the seat of the test took the first");
}

#[test]
fn too_many_requests_from_one_address_are_asked_to_wait() {
    let till = Till::start_with(&[("GLAD_TILL_REQUESTS_PER_SECOND", "5")]);
    let answers: Vec<Answer> = (0..40).map(|_| till.ask("GET", "/api/session").send(till.address).unwrap()).collect();
    let refused: Vec<&Answer> = answers.iter().filter(|answer| answer.status == 429).collect();
    assert!((5..=25).contains(&refused.len()), "{}", refused.len());
    assert_eq!(refused[0].header("retry-after"), Some("1"));
}

#[test]
fn signing_out_everywhere_and_a_new_password_end_what_was_open() {
    let till = Till::start();
    let (here, there) = (sign_in(till.address, TOMAS), sign_in(till.address, TOMAS));
    let change = |old: &str, new: &str| {
        ask("PUT", "/api/session/password").seat(&here).json(&json!({ "old": old, "new": new })).pair(till.address)
    };
    let (status, problem) = change("not it at all", "a new one, long enough");
    assert_eq!((status, problem["field"].as_str()), (422, Some("old")));
    for (new, said) in [
        ("short", "12 characters"),
        ("Tomas and more", "sign-in name"),
        ("password1234", "guessed"),
        (TOMAS.1, "you have"),
    ] {
        let (status, problem) = change(TOMAS.1, new);
        assert_eq!((status, problem["field"].as_str()), (422, Some("new")), "{new}");
        assert!(problem["title"].as_str().unwrap().contains(said), "{new}: {problem}");
    }
    assert_eq!(change(TOMAS.1, "linden tree by the well").0, 204);
    assert_eq!(ask("GET", "/api/spine").seat(&there).pair(till.address).0, 401);
    assert_eq!(ask("GET", "/api/spine").seat(&here).pair(till.address).0, 200);
    assert_eq!(try_to(&till, "tomas", TOMAS.1).0, 401);
    let again = sign_in(till.address, ("tomas", "linden tree by the well"));
    assert_eq!(ask("DELETE", "/api/session?everywhere=true").seat(&again).pair(till.address).0, 204);
    for seat in [here, again] {
        assert_eq!(ask("GET", "/api/spine").seat(&seat).pair(till.address).0, 401);
    }
}

#[test]
fn guessing_the_old_password_from_inside_is_slowed_too() {
    let till = Till::start();
    let tomas = sign_in(till.address, TOMAS);
    let change = |old: &str| {
        let body = json!({ "old": old, "new": "linden tree by the well" });
        ask("PUT", "/api/session/password").seat(&tomas).json(&body).pair(till.address).0
    };
    assert_eq!((0..6).map(|_| change("a guess at it")).collect::<Vec<_>>(), [422, 422, 422, 422, 429, 429]);
    assert_eq!(change(TOMAS.1), 429, "even the right one has to wait");
}

#[test]
fn someone_new_chooses_a_password_before_anything_else() {
    let till = Till::start();
    let sanna = sign_in(till.address, SANNA);
    let new = json!({ "sign_in": "ada.moor", "name": "Ada Moor", "role": "clerk", "password": "begin with this one" });
    let (status, id) = ask("POST", "/api/people").seat(&sanna).json(&new).new_key().pair(till.address);
    assert_eq!(status, 200, "{id}");
    let (status, problem) = ask("POST", "/api/people").seat(&sanna).json(&new).new_key().pair(till.address);
    assert_eq!((status, problem["field"].as_str()), (422, Some("sign_in")));
    let ada = sign_in(till.address, ("ada.moor", "begin with this one"));
    let (status, problem) = ask("GET", "/api/spine").seat(&ada).pair(till.address);
    assert_eq!((status, problem["code"].as_str()), (403, Some("password_to_change")));
    let body = json!({ "old": "begin with this one", "new": "a lark above the moor" });
    assert_eq!(ask("PUT", "/api/session/password").seat(&ada).json(&body).pair(till.address).0, 204);
    assert_eq!(ask("GET", "/api/spine").seat(&ada).pair(till.address).0, 200);
    // Switched off, she is out at once.
    let off = json!({ "version": 2, "name": "Ada Moor", "role": "clerk", "active": false });
    let (status, answer) =
        ask("PUT", &format!("/api/people/{id}")).seat(&sanna).json(&off).new_key().pair(till.address);
    assert_eq!(status, 200, "{answer}");
    assert_eq!(ask("GET", "/api/spine").seat(&ada).pair(till.address).0, 401);
    assert_eq!(try_to(&till, "ada.moor", "a lark above the moor").0, 401);
    till.verify();
}

#[test]
fn new_books_wait_for_who_can_read_the_terminal() {
    let till = Till::unsigned(tempfile::tempdir().unwrap(), &["serve", "--new"], &[]);
    let view = ask("GET", "/api/session").pair(till.address).1;
    assert_eq!((&view["first_start"], &view["company"]), (&json!(true), &Value::Null));
    let code = till.printed.split("set them up: ").nth(1).unwrap().trim().to_owned();
    let start = |code: &str, password: &str| {
        let body = json!({ "code": code, "company": "Dune & Daughter", "currency": "EUR", "name": "Ada Moor", "sign_in": "ada", "password": password });
        ask("POST", "/api/first-start").json(&body).pair(till.address)
    };
    let (status, problem) = start("00000000", "a lark above the moor");
    assert_eq!((status, problem["field"].as_str()), (403, Some("code")));
    assert_eq!(start(&code, "admin").1["field"], "password");
    assert_eq!(start(&code, "a lark above the moor").0, 204);
    assert_eq!(start(&code, "a lark above the moor").0, 409, "once only");
    let ada = sign_in(till.address, ("ada", "a lark above the moor"));
    let spine = ask("GET", "/api/spine").seat(&ada).pair(till.address).1;
    assert_eq!((&spine["company"], &spine["base_currency"]), (&json!("Dune & Daughter"), &json!("EUR")));
    till.verify();
}

#[test]
fn paths_and_hosts_lead_nowhere_else() {
    let till = Till::start();
    for path in [
        "/../../Cargo.toml",
        "/..%2f..%2fCargo.toml",
        "/assets/../../../etc/passwd",
        "/assets/%2e%2e/%2e%2e/etc/passwd.txt",
        "/%00.db",
        "/books.db",
        "/data/books.db",
        "/api/../books.db",
    ] {
        let answer = till.ask("GET", path).send(till.address).unwrap();
        // What does not look like a file is a place in the application: its page, and nothing else.
        let page = answer.status == 200 && answer.body.starts_with("<!doctype html>");
        assert!(page || [400, 404].contains(&answer.status), "{path}: {}", answer.status);
        assert!(!answer.body.contains("[workspace]") && !answer.body.contains("root:"), "{path}");
    }
    for host in ["books.example", "127.0.0.1.evil.example", "localhost.evil", "", "[::2]:8484"] {
        let answer = till.ask("GET", "/api/spine").host(host).send(till.address).unwrap();
        assert!([400, 421].contains(&answer.status), "{host}: {}", answer.status);
    }
    let named = Till::start_with(&[("GLAD_TILL_HOSTS", "till.example")]);
    assert_eq!(named.ask("GET", "/api/spine").host("Till.example:8443").pair(named.address).0, 200);
    let head = till.ask("GET", "/").send(till.address).unwrap().head.to_lowercase();
    for wanted in [
        "content-security-policy: default-src 'none'; script-src 'self'",
        "frame-ancestors 'none'",
        "x-content-type-options: nosniff",
        "x-frame-options: deny",
        "referrer-policy: no-referrer",
        "cross-origin-opener-policy: same-origin",
        "x-request-id: ",
    ] {
        assert!(head.contains(wanted), "{wanted} is not in {head}");
    }
}

/// Text that means something to SQL, HTML, shells and spreadsheets, through every text field
/// the API has: it is refused or comes back as the very text it was.
#[test]
fn what_is_typed_is_text_and_nothing_else() {
    let till = Till::start();
    let sanna = sign_in(till.address, SANNA);
    let nasty = "<img src=x onerror=alert(1)>'; DROP TABLE record;-- =1+1";
    let customers = till.get("/api/customers").1;
    let customer = customers[0]["id"].as_i64().unwrap();
    let version = till.get(&format!("/api/customers/{customer}")).1["version"].clone();
    let (status, answer) =
        till.send("PUT", &format!("/api/customers/{customer}/stop"), &json!({ "version": version, "reason": nasty }));
    assert_eq!(status, 200, "{answer}");
    assert_eq!(till.get(&format!("/api/customers/{customer}")).1["stop_reason"], nasty);
    let order = till.get("/api/orders").1["orders"][0]["id"].as_i64().unwrap();
    let version = till.get(&format!("/api/orders/{order}")).1["version"].clone();
    let path = format!("/api/orders/{order}/customer-order-number");
    assert_eq!(till.send("PUT", &path, &json!({ "version": version, "number": nasty })).0, 200);
    assert_eq!(till.get(&format!("/api/orders/{order}")).1["customer_order_number"], nasty);
    let receipt =
        json!({ "customer": customer, "method": "cash", "amount": "1.00", "applications": [], "reference": nasty });
    let mut body = receipt.clone();
    body["seen"] = till.send("POST", "/api/receipts/preview", &receipt).1["fingerprint"].clone();
    assert_eq!(till.send("POST", "/api/receipts", &body).0, 200);
    let person = json!({ "sign_in": "nasty.one", "name": nasty, "role": "clerk", "password": "begin with this one" });
    let (status, id) = ask("POST", "/api/people").seat(&sanna).json(&person).new_key().pair(till.address);
    assert_eq!(status, 200, "{id}");
    let setup = till.get("/api/setup").1;
    let company = json!({ "version": setup["version"], "company": nasty, "tax_computed": "per_document", "fixed_date": "2026-03-18" });
    assert_eq!(ask("PUT", "/api/setup/company").seat(&sanna).json(&company).new_key().pair(till.address).0, 200);
    let moved = json!({ "prefix": "C-", "next": 9000, "reason": nasty });
    assert_eq!(ask("PUT", "/api/setup/numbers/receipt").seat(&sanna).json(&moved).new_key().pair(till.address).0, 200);
    // Why a price is to change, and why it is not.
    let tomas = sign_in(till.address, TOMAS);
    let (_, unbilled) = till.get("/api/unbilled");
    let draft = till.send("POST", "/api/invoices", &json!({ "picks": picks_of(&ready(&unbilled)[0]) })).1[0].clone();
    let line = till.get(&format!("/api/invoices/{draft}")).1["document"]["lines"][0]["shipment_line"].clone();
    let price = json!({ "version": 1, "unit_price": "0.01", "reason": nasty });
    let path = format!("/api/invoices/{draft}/lines/{line}/price");
    let (status, asked) = ask("PUT", &path).seat(&tomas).json(&price).new_key().pair(till.address);
    assert_eq!(status, 200, "{asked}");
    let approval = format!("/api/approvals/{}", asked["waits"]);
    assert_eq!(till.send("POST", &format!("{approval}/decline"), &json!({ "reason": nasty })).0, 200);
    let (_, declined) = till.get(&approval);
    assert_eq!((&declined["reason"], &declined["decision"]), (&json!(nasty), &json!(nasty)));
    let typed: String = nasty.bytes().map(|byte| format!("%{byte:02X}")).collect();
    for path in
        ["find", "customers", "orders", "shipments", "unbilled", "invoices", "receipts", "ledger/journal", "record"]
    {
        let (status, answer) = till.get(&format!("/api/{path}?q={typed}"));
        assert_eq!(status, 200, "{path}: {answer}");
    }
    assert!(till.get(&format!("/api/record?q={typed}")).1["count"].as_i64().unwrap() >= 1);
    // In a spreadsheet a cell that begins like a formula is one; in the export it is text.
    let export = till.ask("GET", "/api/export/receipts.csv").send(till.address).unwrap().body;
    assert!(
        !export.lines().any(|line| line.split(',').any(|cell| cell.trim_matches('"').starts_with('='))),
        "{export}"
    );
    till.verify();
}
