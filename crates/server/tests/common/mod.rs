//! A running `glad-till` and the smallest client that can talk to it.
#![allow(dead_code, missing_docs, clippy::unwrap_used)]

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::OnceLock;
use std::time::Duration;

use serde_json::{Value, json};
use tempfile::TempDir;

pub const PROGRAM: &str = env!("CARGO_BIN_EXE_glad-till");

/// The demo books, made once.
pub fn template() -> &'static Path {
    static MADE: OnceLock<TempDir> = OnceLock::new();
    MADE.get_or_init(|| {
        let folder = tempfile::tempdir().unwrap();
        let made = run(&["demo", "--make-only", "--data", folder.path().to_str().unwrap()]);
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        folder
    })
    .path()
}

/// Runs a command of the program to its end.
pub fn run(arguments: &[&str]) -> Output {
    Command::new(PROGRAM).args(arguments).env_remove("DATA").env_remove("PORT").output().unwrap()
}

/// A place at the till: someone signed in.
#[derive(Debug, Clone, Default)]
pub struct Seat {
    pub cookie: String,
    pub csrf: String,
}

/// Names and passwords of the demo.
pub const INES: (&str, &str) = ("ines", "heather honey in june");
pub const TOMAS: (&str, &str) = ("tomas", "lime blossom in july");
pub const MAUD: (&str, &str) = ("maud", "borage field in may");
pub const OTTO: (&str, &str) = ("otto", "ivy bloom in october");
pub const SANNA: (&str, &str) = ("sanna", "willow catkins in march");

/// Signs in; the cookie and the second token of the session.
pub fn sign_in(address: SocketAddr, (name, password): (&str, &str)) -> Seat {
    let answer = ask("POST", "/api/session")
        .json(&serde_json::json!({ "sign_in": name, "password": password }))
        .send(address)
        .unwrap();
    assert_eq!(answer.status, 200, "{name}: {}", answer.body);
    Seat { cookie: answer.cookie().unwrap(), csrf: answer.value()["person"]["csrf"].as_str().unwrap().to_owned() }
}

/// A program that serves books of its own, until it is dropped. Whoever asks is Ines, a supervisor.
pub struct Till {
    pub folder: TempDir,
    pub address: SocketAddr,
    pub seat: Seat,
    /// What it printed before and while it started.
    pub printed: String,
    process: Child,
}

impl Till {
    /// Starts over a copy of the demo books.
    pub fn start() -> Self {
        Self::start_with(&[])
    }

    /// The same with further settings.
    pub fn start_with(variables: &[(&str, &str)]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::fs::copy(template().join("books.db"), folder.path().join("books.db")).unwrap();
        let mut till = Self::unsigned(folder, &["serve"], variables);
        till.seat = sign_in(till.address, INES);
        till
    }

    /// Starts over books begun a moment ago: an administrator and a supervisor are signed in.
    pub fn new_books() -> (Self, Seat, Seat) {
        let till = Self::unsigned(tempfile::tempdir().unwrap(), &["serve", "--new"], &[]);
        let code = till.printed.split("set them up: ").nth(1).unwrap().trim().to_owned();
        let (ada, leo) = (("ada", "a lark above the moor"), ("leo", "reed bed at low tide"));
        let start = serde_json::json!({ "code": code, "company": "Dune & Daughter", "currency": "EUR", "name": "Ada Moor",
            "sign_in": ada.0, "password": ada.1 });
        assert_eq!(ask("POST", "/api/first-start").json(&start).pair(till.address).0, 204);
        let seat = sign_in(till.address, ada);
        let new = serde_json::json!({ "sign_in": leo.0, "name": "Leo Marsh", "role": "lead", "password": "to begin with, a gull" });
        assert_eq!(ask("POST", "/api/people").seat(&seat).json(&new).new_key().pair(till.address).0, 200);
        let lead = sign_in(till.address, (leo.0, "to begin with, a gull"));
        let password = serde_json::json!({ "old": "to begin with, a gull", "new": leo.1 });
        let changed = ask("PUT", "/api/session/password").seat(&lead).json(&password).new_key().pair(till.address);
        assert!((200..300).contains(&changed.0), "{changed:?}");
        let lead = sign_in(till.address, leo);
        (till, seat, lead)
    }

    /// Starts over the books in a folder, with a seat from before or none.
    pub fn start_in(folder: TempDir) -> Self {
        Self::unsigned(folder, &["serve"], &[])
    }

    /// Starts with nobody signed in.
    pub fn unsigned(folder: TempDir, arguments: &[&str], variables: &[(&str, &str)]) -> Self {
        let mut process = Command::new(PROGRAM)
            .args(arguments)
            .args(["--port", "0", "--data"])
            .arg(folder.path())
            .env("GLAD_TILL_REQUESTS_PER_SECOND", "100000")
            .env("GLAD_TILL_SIGN_INS_PER_MINUTE", "10000")
            .env("GLAD_TILL_COPIES", "0")
            .env("RUST_LOG", "off")
            .envs(variables.iter().copied())
            .stdout(Stdio::piped())
            .stderr(Stdio::inherit())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(process.stdout.take().unwrap());
        let mut printed = String::new();
        while !printed.contains("://") {
            assert!(lines.read_line(&mut printed).unwrap() > 0, "it ended: {printed}");
        }
        let address = printed
            .split("://")
            .nth(1)
            .and_then(|rest| rest.split_whitespace().next())
            .unwrap_or_else(|| panic!("no address in {printed:?}"))
            .parse()
            .unwrap();
        // What comes after is little; whoever wants it asks for it before it goes on.
        if arguments.contains(&"--new") || arguments.contains(&"demo") {
            lines.read_line(&mut printed).unwrap();
        }
        std::thread::spawn(move || std::io::copy(&mut lines, &mut std::io::sink()));
        Self { address, folder, process, printed, seat: Seat::default() }
    }

    /// Ends the process at once, as a power cut would. Gives the folder with what is left.
    pub fn kill(mut self) -> PathBuf {
        self.process.kill().unwrap();
        self.process.wait().unwrap();
        let folder = std::mem::replace(&mut self.folder, tempfile::tempdir().unwrap());
        folder.keep()
    }

    /// Asks the process to stop, waits until it has, and looks at what it left.
    pub fn stop_then(mut self, look: impl FnOnce()) -> std::process::ExitStatus {
        let done = Command::new("kill").args(["-TERM", &self.process.id().to_string()]).status().unwrap();
        assert!(done.success());
        let status = self.process.wait().unwrap();
        look();
        status
    }

    /// The id of the process.
    pub fn process_id(&self) -> u32 {
        self.process.id()
    }

    /// A request from the seat.
    pub fn ask(&self, method: &str, path: &str) -> Ask {
        ask(method, path).seat(&self.seat)
    }

    pub fn get(&self, path: &str) -> (u16, Value) {
        self.ask("GET", path).pair(self.address)
    }

    pub fn send(&self, method: &str, path: &str, body: &Value) -> (u16, Value) {
        self.ask(method, path).json(body).new_key().pair(self.address)
    }

    pub fn send_with(&self, method: &str, path: &str, body: &Value, key: &str) -> (u16, Value) {
        self.ask(method, path).json(body).key(key).pair(self.address)
    }

    /// A change that must be carried out.
    pub fn done(&self, method: &str, path: &str, body: &Value) -> Value {
        let (status, answer) = self.send(method, path, body);
        assert_eq!(status, 200, "{method} {path} {body}: {answer}");
        answer
    }

    /// A change that must be refused: with which status, code and field.
    pub fn refused(&self, method: &str, path: &str, body: &Value) -> (u16, String, Option<String>) {
        let (status, answer) = self.send(method, path, body);
        assert!(status >= 400, "{method} {path} {body} was done: {answer}");
        assert!(!answer["title"].as_str().unwrap().is_empty(), "{answer}");
        let field = answer["blockers"][0]["field"].as_str().or(answer["field"].as_str());
        (status, answer["code"].as_str().unwrap().to_owned(), field.map(str::to_owned))
    }

    /// A confirmed order of one line.
    pub fn order(&self, customer: i64, item: &str, quantity: &str) -> i64 {
        let lines = json!([{ "item": item, "quantity": quantity }]);
        let body = json!({ "customer": customer, "customer_order_number": "PO 81", "lines": lines });
        let order = self.done("POST", "/api/orders", &body).as_i64().unwrap();
        self.done("POST", &format!("/api/orders/{order}/confirm"), &json!({ "version": 1, "reason": "as agreed" }));
        order
    }

    /// An invoice over an order that is shipped with it.
    pub fn ship_and_bill(&self, order: i64) -> i64 {
        let path = format!("/api/orders/{order}/ship-and-bill");
        let seen = self.done("POST", &format!("{path}/preview"), &json!({}))["seen"].clone();
        self.done("POST", &path, &json!({ "seen": seen }))["invoice"]["id"].as_i64().unwrap()
    }

    /// Proves the books from outside, as an auditor would.
    pub fn verify(&self) {
        verify(self.folder.path());
    }
}

pub fn verify(folder: &Path) {
    let proof = run(&["verify", "--data", folder.to_str().unwrap()]);
    assert!(
        proof.status.success(),
        "{}{}",
        String::from_utf8_lossy(&proof.stdout),
        String::from_utf8_lossy(&proof.stderr)
    );
}

impl Drop for Till {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

/// A request to make.
#[derive(Debug, Clone)]
pub struct Ask {
    method: String,
    path: String,
    body: Option<String>,
    headers: Vec<(String, String)>,
    host: Option<String>,
}

pub fn ask(method: &str, path: &str) -> Ask {
    Ask { method: method.to_owned(), path: path.to_owned(), body: None, headers: Vec::new(), host: None }
}

impl Ask {
    pub fn text(mut self, body: &str) -> Self {
        self.body = Some(body.to_owned());
        self
    }

    pub fn json(self, body: &Value) -> Self {
        self.text(&body.to_string())
    }

    pub fn header(mut self, name: &str, value: &str) -> Self {
        self.headers.push((name.to_owned(), value.to_owned()));
        self
    }

    pub fn key(self, key: &str) -> Self {
        self.header("Idempotency-Key", key)
    }

    pub fn new_key(self) -> Self {
        self.key(&format!("key-{:016x}", fastrand::u64(..)))
    }

    pub fn seat(self, seat: &Seat) -> Self {
        if seat.cookie.is_empty() {
            return self;
        }
        self.header("Cookie", &seat.cookie).header("X-Csrf-Token", &seat.csrf)
    }

    pub fn host(mut self, host: &str) -> Self {
        self.host = Some(host.to_owned());
        self
    }

    /// The request as it goes over the wire.
    pub fn wire(&self, address: SocketAddr) -> String {
        let host = self.host.clone().unwrap_or_else(|| address.to_string());
        let mut request = format!("{} {} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n", self.method, self.path);
        for (name, value) in &self.headers {
            request.push_str(&format!("{name}: {value}\r\n"));
        }
        if let Some(body) = &self.body {
            request.push_str(&format!("Content-Type: application/json\r\nContent-Length: {}\r\n", body.len()));
        }
        request.push_str("\r\n");
        request.push_str(self.body.as_deref().unwrap_or_default());
        request
    }

    /// Makes it over a connection of its own.
    pub fn send(&self, address: SocketAddr) -> std::io::Result<Answer> {
        let mut stream = TcpStream::connect(address)?;
        stream.set_read_timeout(Some(Duration::from_secs(120)))?;
        stream.write_all(self.wire(address).as_bytes())?;
        let mut answer = Vec::new();
        stream.read_to_end(&mut answer)?;
        Answer::of(&answer)
    }

    /// Status and JSON of the answer.
    pub fn pair(&self, address: SocketAddr) -> (u16, Value) {
        let answer = self.send(address).unwrap();
        (answer.status, answer.value())
    }
}

/// An answer: head and body as they came.
#[derive(Debug, Clone)]
pub struct Answer {
    pub status: u16,
    pub head: String,
    pub body: String,
}

impl Answer {
    pub fn of(bytes: &[u8]) -> std::io::Result<Self> {
        let answer = String::from_utf8_lossy(bytes).into_owned();
        let (head, body) = answer.split_once("\r\n\r\n").ok_or(std::io::ErrorKind::UnexpectedEof)?;
        let status =
            head.split(' ').nth(1).and_then(|status| status.parse().ok()).ok_or(std::io::ErrorKind::InvalidData)?;
        Ok(Self { status, head: head.to_owned(), body: body.to_owned() })
    }

    pub fn value(&self) -> Value {
        serde_json::from_str(&self.body).unwrap_or(Value::Null)
    }

    /// A header's value.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.head.lines().find_map(|line| {
            let (known, value) = line.split_once(": ")?;
            known.eq_ignore_ascii_case(name).then_some(value)
        })
    }

    /// The cookie it sets, as it is sent back.
    pub fn cookie(&self) -> Option<String> {
        self.header("set-cookie").and_then(|cookie| cookie.split(';').next()).map(str::to_owned)
    }
}

/// Picks of everything a shipment has unbilled.
pub fn picks_of(shipment: &Value) -> Value {
    let lines = shipment["lines"].as_array().unwrap();
    Value::Array(lines.iter().map(|line| serde_json::json!({ "shipment_line": line["shipment_line"] })).collect())
}

/// Shipments that nothing stops, oldest first.
pub fn ready(unbilled: &Value) -> Vec<Value> {
    unbilled["customers"]
        .as_array()
        .unwrap()
        .iter()
        .flat_map(|customer| customer["shipments"].as_array().unwrap())
        .filter(|row| row["shipment"].is_number() && row["blockers"].as_array().unwrap().is_empty())
        .cloned()
        .collect()
}

/// What kinds of documents an order has led to, in their order.
pub fn trail_of(order: &Value) -> Vec<&str> {
    let steps = order["trail"]["steps"].as_array().unwrap();
    steps.iter().map(|step| step["document"]["kind"].as_str().unwrap()).collect()
}
