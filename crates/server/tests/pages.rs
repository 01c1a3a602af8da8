//! Customers' pages from outside: whoever has a link sees one customer's page, whoever guesses, changes or keeps one sees
//! nothing.

use crate::common::*;
use chrono::{Duration, Utc};
use serde_json::{Value, json};
use sqlx::ConnectOptions;
use till_core::ids::CustomerId;
use till_store::customer_pages::{self, NewLink};
use till_store::{Actor, Store};

/// The customer a link leads to, another one, and what the link carries.
struct Linked {
    till: Till,
    customer: i64,
    other: i64,
    text: String,
}

/// Customers with posted invoices, both of them.
fn linked() -> Linked {
    linked_with(&[])
}

/// As it is without the settings of tests, which measure nothing.
const MEASURED: &[(&str, &str)] = &[("GLAD_TILL_REQUESTS_PER_SECOND", "50"), ("GLAD_TILL_SIGN_INS_PER_MINUTE", "20")];

fn linked_with(variables: &[(&str, &str)]) -> Linked {
    let till = Till::start_with(variables);
    let invoices = till.done("GET", "/api/invoices?limit=200", &Value::Null);
    let of: Vec<i64> = {
        let posted = invoices["invoices"].as_array().unwrap().iter().filter(|row| row["number"].is_string());
        posted.map(|row| row["customer"].as_i64().unwrap()).collect()
    };
    let customer = of[0];
    let other = *of.iter().find(|one| **one != customer).unwrap();
    let text = link(&till, customer, 14);
    Linked { till, customer, other, text }
}

fn link(till: &Till, customer: i64, days: u64) -> String {
    let made = till.done("POST", &format!("/api/customers/{customer}/page-links"), &json!({ "days": days }));
    made["address"].as_str().unwrap().split('#').nth(1).unwrap().to_owned()
}

fn visit(till: &Till, text: &str) -> (u16, Value) {
    ask("GET", "/api/page").header("Authorization", &format!("Bearer {text}")).pair(till.address)
}

#[test]
fn a_page_is_one_customers_and_its_papers_no_others() {
    let Linked { till, customer, other, text } = linked();
    let (status, page) = visit(&till, &text);
    assert_eq!(status, 200, "{page}");
    let number = till.done("GET", &format!("/api/customers/{customer}"), &Value::Null)["number"].clone();
    assert_eq!(page["number"], number);
    let answer = ask("GET", "/api/page").header("Authorization", &format!("Bearer {text}")).send(till.address).unwrap();
    assert!(answer.head.to_lowercase().contains("cache-control: no-store"), "{}", answer.head);
    // Nothing of us alone is on it: no cost, no margin, no note for ourselves, no id of a person.
    for word in ["own_note", "cost", "margin", "credit_limit", "stop_reason", "person", "tape"] {
        assert!(!answer.body.contains(&format!("\"{word}\"")), "{word}");
    }
    let theirs = link(&till, other, 14);
    let (_, their_page) = visit(&till, &theirs);
    let addresses = |page: &Value| -> Vec<String> {
        page["addresses"].as_array().unwrap().iter().map(|one| one["address"].as_str().unwrap().to_owned()).collect()
    };
    let (mine, foreign) = (addresses(&page), addresses(&their_page));
    assert!(!mine.is_empty() && !foreign.is_empty() && mine.iter().all(|one| !foreign.contains(one)));
    let paper = ask("GET", &mine[0]).send(till.address).unwrap();
    assert_eq!(paper.status, 200);
    assert!(paper.head.contains("sandbox"), "a paper has a policy of its own: {}", paper.head);
    // The mark of one paper opens no other, be it numbered one higher or of somebody else.
    let mark = mine[0].split('?').nth(1).unwrap();
    let mut tried = 0;
    for kind in ["invoice", "credit_memo", "deposit", "order", "payment_request"] {
        for id in 1..40 {
            let place = format!("/api/page/papers/{kind}/{id}?{mark}");
            if place != mine[0] {
                assert_eq!(ask("GET", &place).send(till.address).unwrap().status, 404, "{place}");
                tried += 1;
            }
        }
    }
    assert!(tried > 150);
    // Nor does the link lead past its page.
    let bearer = format!("Bearer {text}");
    for place in ["/api/customers", "/api/invoices", "/api/spine", &format!("/api/customers/{customer}")] {
        assert_eq!(ask("GET", place).header("Authorization", &bearer).pair(till.address).0, 401, "{place}");
    }
    assert_eq!(ask("GET", "/api/page").seat(&till.seat).pair(till.address).0, 401, "a sign-in is no link");
    till.verify();
}

#[test]
fn a_guess_a_changed_link_and_another_books_link_lead_nowhere() {
    let Linked { till, text, .. } = linked_with(MEASURED);
    let other_books = linked();
    let mut guesses =
        vec![String::new(), "x".to_owned(), "A".repeat(64), text.to_lowercase(), other_books.text.clone()];
    // The number of the link and its day stand at its head: whoever changes them has no signature for it.
    for at in [10, 11, 20, 21, 40, 60] {
        let mut bytes = text.clone().into_bytes();
        bytes[at] = if bytes[at] == b'A' { b'B' } else { b'A' };
        guesses.push(String::from_utf8(bytes).unwrap());
    }
    let mut said = Vec::new();
    for guess in guesses.iter().take(8) {
        let (status, body) = visit(&till, guess);
        assert_eq!((status, body["code"].as_str()), (401, Some("link_unknown")), "{guess}");
        said.push(body["title"].as_str().unwrap().to_owned());
    }
    said.dedup();
    assert_eq!(said.len(), 1, "whoever guesses learns nothing from the words");
    // After ten tries a minute it is asked to wait, while who has the link is let in.
    let statuses: Vec<u16> = (0..8).map(|_| visit(&till, &"A".repeat(64)).0).collect();
    assert!(statuses.contains(&429), "{statuses:?}");
    assert_eq!(visit(&till, &text).0, 200);
}

#[test]
fn a_page_is_measured() {
    let Linked { till, text, .. } = linked_with(MEASURED);
    let statuses: Vec<u16> = (0..60).map(|_| visit(&till, &text).0).collect();
    assert!(statuses.iter().filter(|status| **status == 200).count() >= 30, "{statuses:?}");
    assert!(statuses.contains(&429), "{statuses:?}");
}

/// Makes a link as it would have been made at another time.
fn made_before(till: &Till, customer: i64, days_ago: i64, days: u64) -> String {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let store = Store::open(&till.folder.path().join("books.db")).await.unwrap();
        let actor = Actor::program(Utc::now() - Duration::days(days_ago));
        let new = NewLink { days, quote: None, recipient: None };
        let (id, expires) = store
            .change(&actor, None, async |writing| {
                let made = customer_pages::make(writing, CustomerId(customer), &new).await?;
                Ok((made.id, made.expires))
            })
            .await
            .unwrap();
        let key = customer_pages::key(&mut *store.read().await.unwrap()).await.unwrap().unwrap();
        store.close().await;
        till_formats::link::sign(&key.0, "page", id.0, expires.timestamp())
    })
}

#[test]
fn a_link_that_was_forwarded_after_its_days_or_was_ended_is_over() {
    let Linked { till, customer, text, .. } = linked();
    let (over, still) = (made_before(&till, customer, 15, 14), made_before(&till, customer, 13, 14));
    let (status, body) = visit(&till, &over);
    assert_eq!((status, body["code"].as_str()), (410, Some("link_over")), "{body}");
    assert_eq!(visit(&till, &still).0, 200);
    let bearer = format!("Bearer {over}");
    let accept = ask("POST", "/api/page/quotes/1/accept").header("Authorization", &bearer).new_key();
    assert_eq!(accept.json(&json!({ "version": 1, "name": "Ann Brook" })).pair(till.address).0, 410);
    // Ended by hand: the page and its papers with it.
    let (_, page) = visit(&till, &text);
    let paper = page["addresses"][0]["address"].as_str().unwrap().to_owned();
    let links = format!("/api/customers/{customer}/page-links");
    let rows = till.done("GET", &links, &Value::Null);
    let first = rows.as_array().unwrap().iter().map(|row| row["id"].as_i64().unwrap()).min().unwrap();
    till.done("DELETE", &format!("{links}/{first}"), &Value::Null);
    assert_eq!(visit(&till, &text).0, 410);
    assert_eq!(ask("GET", &paper).send(till.address).unwrap().status, 410);
    till.verify();
}

#[test]
fn a_quote_is_accepted_once_by_its_own_customer_whatever_is_sent_again() {
    let Linked { till, customer, other, .. } = linked();
    let quote = till.done("GET", "/api/quotes/1", &Value::Null);
    assert_eq!(quote["state"], json!("open"));
    let owner = quote["customer"].as_i64().unwrap();
    let stranger = if owner == customer { other } else { customer };
    let accept = |text: &str, key: &str, name: &str| {
        ask("POST", &format!("/api/page/quotes/{}/accept", quote["id"]))
            .header("Authorization", &format!("Bearer {text}"))
            .key(key)
            .json(&json!({ "version": quote["version"], "name": name }))
            .pair(till.address)
    };
    // Whether the quote of somebody else is there or not: the words are the same.
    let foreign = link(&till, stranger, 14);
    let (status, there) = accept(&foreign, "a stranger's key", "Bo Moor");
    let nowhere = ask("POST", "/api/page/quotes/999999/accept").header("Authorization", &format!("Bearer {foreign}"));
    let (same, absent) = nowhere.new_key().json(&json!({ "version": 1, "name": "Bo Moor" })).pair(till.address);
    assert_eq!((status, same), (404, 404));
    assert_eq!(
        there["title"].as_str().unwrap().replace(&quote["id"].to_string(), "#"),
        absent["title"].as_str().unwrap().replace("999999", "#")
    );
    let text = link(&till, owner, 14);
    assert_eq!(accept(&text, "the first key", " ").1["field"], json!("name"));
    let (status, order) = accept(&text, "the second key", "Ann Brook");
    assert_eq!(status, 200, "{order}");
    assert_eq!(accept(&text, "the second key", "Ann Brook"), (200, order.clone()), "a second tap gets the same answer");
    assert_eq!(accept(&text, "the third key", "Ann Brook").0, 422);
    // The same key with the link of somebody else gets nobody's answer.
    let again = link(&till, owner, 7);
    assert_eq!(accept(&again, "the second key", "Ann Brook").1["code"], json!("key_reused"));
    let order = till.done("GET", &format!("/api/orders/{order}"), &Value::Null);
    assert_eq!(
        (&order["accepted"]["name"], &order["state"]),
        (&json!("Ann Brook"), &json!("draft")),
        "a deposit is missing"
    );
    till.verify();
}

#[test]
fn the_page_has_a_strict_policy_and_nothing_of_the_application() {
    let till = Till::start();
    let page = ask("GET", "/page").send(till.address).unwrap();
    assert_eq!(page.status, 200);
    let head = page.head.to_lowercase();
    for part in
        ["default-src 'none'", "form-action 'none'", "frame-ancestors 'none'", "require-trusted-types-for 'script'"]
    {
        assert!(head.contains(part), "{part}: {head}");
    }
    assert!(head.contains("referrer-policy: no-referrer") && head.contains("x-robots-tag: noindex"), "{head}");
    assert!(!page.body.contains("Glad Till"), "{}", page.body);
    // The application keeps its own.
    assert!(!ask("GET", "/").send(till.address).unwrap().head.contains("require-trusted-types-for"));
}

#[test]
fn a_link_is_mailed_and_never_kept() {
    let Linked { till, customer, text, .. } = linked();
    let links = format!("/api/customers/{customer}/page-links");
    let made = till.done("POST", &links, &json!({ "days": 30, "recipient": "office@orchard.example" }));
    assert_eq!(made["problem"], Value::Null, "{made}");
    let refused = ask("POST", &links).seat(&till.seat).new_key().json(&json!({ "days": 30, "recipient": "nobody" }));
    assert_eq!(refused.pair(till.address).1["field"], json!("recipient"));
    let setup = till.done("GET", "/api/mail-setup", &Value::Null);
    till.done("PUT", "/api/mail-setup", &json!({ "from": setup["from"], "service": "silent" }));
    let unsent = till.done("POST", &links, &json!({ "days": 30, "recipient": "office@orchard.example" }));
    assert!(
        unsent["problem"].as_str().unwrap().contains("does not answer"),
        "the link is there all the same: {unsent}"
    );
    assert_eq!(visit(&till, unsent["address"].as_str().unwrap().split('#').nth(1).unwrap()).0, 200);
    // The text of what was not mailed stands nowhere in the books.
    let (folder, file) = (till.kill(), "books.db");
    let books = std::fs::read(folder.join(file)).unwrap();
    let wal = std::fs::read(folder.join("books.db-wal")).unwrap_or_default();
    let found = |bytes: &[u8]| bytes.windows(text.len()).any(|window| window == text.as_bytes());
    assert!(!found(&books) && !found(&wal));
}

#[test]
fn what_was_accepted_stays_as_it_was() {
    let Linked { till, .. } = linked();
    let file = till.folder.path().join("books.db");
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let options = sqlx::sqlite::SqliteConnectOptions::new().filename(&file);
        let mut books = options.connect().await.unwrap();
        for change in [
            "UPDATE page_links SET customer_id = customer_id + 1",
            "UPDATE page_links SET expires_at = '2999-01-01T00:00:00Z'",
            "DELETE FROM page_links",
        ] {
            assert!(sqlx::query(change).execute(&mut books).await.is_err(), "{change}");
        }
    });
}
