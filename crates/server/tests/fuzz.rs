//! Any request the contract allows, and many it does not, gets an answer that is no 5xx, and
//! whatever was carried out leaves books that hold. The requests are made from `web/openapi.json`.

use crate::common::{self, *};
use fastrand::Rng;
use serde_json::{Map, Value, json};

/// Requests sent to each call of the API: of the demo, and of books that were begun a moment ago.
const EACH: usize = 60;
const EACH_ON_NEW_BOOKS: usize = 20;

struct Maker {
    contract: Value,
    random: Rng,
}

impl Maker {
    /// A value the schema allows; now and then one it does not.
    fn value(&mut self, schema: &Value, depth: usize) -> Value {
        if self.random.u8(..) < 18 {
            return self.nonsense();
        }
        if let Some(name) = schema["$ref"].as_str() {
            let pointer = name.trim_start_matches('#').to_owned();
            let schema = self.contract.pointer(&pointer).cloned().unwrap_or_default();
            return self.value(&schema, depth + 1);
        }
        for choice in ["oneOf", "anyOf"] {
            if let Some(choices) = schema[choice].as_array() {
                let schema = choices[self.random.usize(0..choices.len())].clone();
                return self.value(&schema, depth + 1);
            }
        }
        if let Some(parts) = schema["allOf"].as_array().cloned() {
            let mut all = Map::new();
            for part in &parts {
                if let Value::Object(object) = self.value(part, depth + 1) {
                    all.extend(object);
                }
            }
            return Value::Object(all);
        }
        if let Some(words) = schema["enum"].as_array() {
            return words[self.random.usize(0..words.len())].clone();
        }
        let kind = match &schema["type"] {
            Value::Array(kinds) => kinds[self.random.usize(0..kinds.len())].clone(),
            kind => kind.clone(),
        };
        match kind.as_str() {
            Some("integer") => json!(self.integer()),
            Some("string") => json!(self.text(schema)),
            Some("boolean") => json!(self.random.bool()),
            Some("array") if depth < 6 => {
                let items = schema["items"].clone();
                (0..self.random.usize(0..4)).map(|_| self.value(&items, depth + 1)).collect()
            }
            Some("object") => {
                let mut object = Map::new();
                for (name, part) in schema["properties"].as_object().cloned().unwrap_or_default() {
                    if self.random.u8(..) < 240 {
                        object.insert(name, self.value(&part, depth + 1));
                    }
                }
                Value::Object(object)
            }
            _ => Value::Null,
        }
    }

    fn integer(&mut self) -> i64 {
        match self.random.u8(0..6) {
            0 => i64::MAX,
            1 => i64::MIN,
            2 => -self.random.i64(0..10),
            _ => self.random.i64(1..220),
        }
    }

    fn text(&mut self, schema: &Value) -> String {
        if schema["format"] == "date" {
            let dates = ["2026-03-18", "2026-03-01", "2024-02-29", "9999-12-31", "0001-01-01", "2026-13-01", "soon"];
            return dates[self.random.usize(0..dates.len())].to_owned();
        }
        let texts = [
            "1",
            "0",
            "-3",
            "12.50",
            "0.0001",
            "99999999999999999999",
            "1e9",
            "NaN",
            "",
            " ",
            "'; DROP TABLE entries; --",
            "<img src=x onerror=alert(1)>",
            "%",
            "\u{0}",
            "\u{202e}abc",
            "ÄÖÜ€𝄞",
            "../../etc/passwd",
        ];
        let text = texts[self.random.usize(0..texts.len())].to_owned();
        if self.random.u8(..) < 10 { text.repeat(3_000) } else { text }
    }

    fn nonsense(&mut self) -> Value {
        let values = [json!(null), json!([]), json!({}), json!("?"), json!(-1), json!(1.5), json!([[[]]]), json!(true)];
        values[self.random.usize(0..values.len())].clone()
    }
}

fn escaped(text: &str) -> String {
    text.bytes()
        .map(|byte| if byte.is_ascii_alphanumeric() { char::from(byte).to_string() } else { format!("%{byte:02X}") })
        .collect()
}

#[test]
fn no_request_breaks_the_server_or_the_books() {
    let till = Till::start();
    let sanna = sign_in(till.address, SANNA);
    let answered = any_requests(&till, (&till.seat, &sanna), EACH);
    assert!(answered[&200] > 300, "too few were carried out to prove anything: {answered:?}");
    assert!(answered.contains_key(&422) && answered.contains_key(&400) && answered.contains_key(&404), "{answered:?}");
    till.verify();
}

#[test]
fn no_request_breaks_new_books() {
    let (till, ada, leo) = Till::new_books();
    let answered = any_requests(&till, (&leo, &ada), EACH_ON_NEW_BOOKS);
    assert!(answered[&200] > 300, "too few were carried out to prove anything: {answered:?}");
    till.verify();
}

/// Sends so many requests to each call, made from the contract, and counts the answers by status.
fn any_requests(
    till: &Till,
    (lead, administrator): (&Seat, &Seat),
    each: usize,
) -> std::collections::BTreeMap<u16, usize> {
    let text = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../web/openapi.json")).unwrap();
    let contract: Value = serde_json::from_str(&text).unwrap();
    // Calls of customers' pages come with a link.
    let customers = till_get(till, lead, "/api/customers");
    let link = customers[0]["id"].as_i64().map(|customer| {
        let links = format!("/api/customers/{customer}/page-links");
        let made = common::ask("POST", &links).seat(lead).new_key().json(&json!({ "days": 1 })).pair(till.address).1;
        made["address"].as_str().unwrap().split('#').nth(1).unwrap().to_owned()
    });
    let mut maker = Maker { contract: contract.clone(), random: Rng::with_seed(7) };
    let mut answered = std::collections::BTreeMap::<u16, usize>::new();
    // What changes people, sessions and periods comes last, so that the rest is not shut out by it.
    let last = |path: &str| ["people", "session", "setup", "first-start"].iter().any(|part| path.contains(part));
    let mut paths: Vec<_> = contract["paths"].as_object().unwrap().iter().collect();
    paths.sort_by_key(|(path, _)| last(path));
    for (path, calls) in paths {
        for (method, call) in calls.as_object().unwrap() {
            let set_up = ["people", "setup", "chart", "goods-settings"].iter().any(|part| path.contains(part));
            let seat = if set_up { administrator } else { lead };
            for _ in 0..each {
                let mut address = path.clone();
                let mut query = Vec::new();
                for parameter in call["parameters"].as_array().into_iter().flatten() {
                    let name = parameter["name"].as_str().unwrap();
                    let value = match maker.value(&parameter["schema"], 0) {
                        Value::String(text) => text,
                        other => other.to_string(),
                    };
                    // A whole address has a limit of its own; what is over it is cut off by the connection.
                    let value: String = value.chars().take(6_000).collect();
                    match parameter["in"].as_str() {
                        Some("path") => address = address.replace(&format!("{{{name}}}"), &escaped(&value)),
                        Some("query") if maker.random.bool() => query.push(format!("{name}={}", escaped(&value))),
                        _ => {}
                    }
                }
                // Ids that the contract does not name as parameters.
                while let (Some(from), Some(to)) = (address.find('{'), address.find('}')) {
                    let id = maker.integer().to_string();
                    address.replace_range(from..=to, &id);
                }
                if !query.is_empty() {
                    address = format!("{address}?{}", query.join("&"));
                }
                let body = call
                    .pointer("/requestBody/content/application~1json/schema")
                    .cloned()
                    .map(|schema| maker.value(&schema, 0).to_string());
                let key = format!("fuzz-{:016x}", maker.random.u64(..));
                let method = method.to_uppercase();
                let link = link.as_deref().filter(|_| path.starts_with("/api/page"));
                let answer = call_for(till, (seat, link), &method, &address, body.as_deref(), &key);
                assert!(answer < 500, "{answer} for {method} {address:.300} {body:.900?}");
                *answered.entry(answer).or_default() += 1;
            }
        }
    }
    answered
}

fn till_get(till: &Till, seat: &Seat, address: &str) -> Value {
    common::ask("GET", address).seat(seat).pair(till.address).1
}

fn call_for(
    till: &Till,
    (seat, link): (&Seat, Option<&str>),
    method: &str,
    address: &str,
    body: Option<&str>,
    key: &str,
) -> u16 {
    let mut asked = common::ask(method, address).seat(seat).key(key);
    if let Some(link) = link {
        asked = asked.header("Authorization", &format!("Bearer {link}"));
    }
    if let Some(body) = body {
        asked = asked.text(body);
    }
    asked
        .send(till.address)
        .unwrap_or_else(|error| panic!("no answer to {method} {address:.300} {body:.300?}: {error}"))
        .status
}
