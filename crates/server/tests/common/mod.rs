//! A running `glad-till` and the smallest client that can talk to it.
#![allow(dead_code, missing_docs, clippy::unwrap_used)]

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::OnceLock;
use std::time::Duration;

use serde_json::Value;
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

/// A program that serves books of its own, until it is dropped.
pub struct Till {
    pub folder: TempDir,
    pub address: SocketAddr,
    process: Child,
}

impl Till {
    /// Starts over a copy of the demo books.
    pub fn start() -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::fs::copy(template().join("books.db"), folder.path().join("books.db")).unwrap();
        Self::start_in(folder)
    }

    /// Starts over the books in a folder.
    pub fn start_in(folder: TempDir) -> Self {
        let mut process = Command::new(PROGRAM)
            .args(["serve", "--port", "0", "--data"])
            .arg(folder.path())
            .stdout(Stdio::piped())
            .stderr(Stdio::inherit())
            .spawn()
            .unwrap();
        let mut line = String::new();
        BufReader::new(process.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let address = line
            .split("http://")
            .nth(1)
            .and_then(|rest| rest.split_whitespace().next())
            .unwrap_or_else(|| panic!("no address in {line:?}"));
        Self { address: address.parse().unwrap(), folder, process }
    }

    /// Ends the process at once, as a power cut would. Gives the folder with what is left.
    pub fn kill(mut self) -> PathBuf {
        self.process.kill().unwrap();
        self.process.wait().unwrap();
        let folder = std::mem::replace(&mut self.folder, tempfile::tempdir().unwrap());
        folder.keep()
    }

    pub fn get(&self, path: &str) -> (u16, Value) {
        call(self.address, "GET", path, None, None).unwrap()
    }

    pub fn send(&self, method: &str, path: &str, body: &Value) -> (u16, Value) {
        let key = format!("key-{:016x}", fastrand::u64(..));
        call(self.address, method, path, Some(&body.to_string()), Some(&key)).unwrap()
    }

    pub fn send_with(&self, method: &str, path: &str, body: &Value, key: &str) -> (u16, Value) {
        call(self.address, method, path, Some(&body.to_string()), Some(key)).unwrap()
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

/// One request over a connection of its own. Head and body as they came.
pub fn raw(
    address: SocketAddr,
    method: &str,
    path: &str,
    body: Option<&str>,
    key: Option<&str>,
) -> std::io::Result<(u16, String, String)> {
    raw_as(address, &address.to_string(), method, path, body, key)
}

/// The same, with another host named.
pub fn raw_as(
    address: SocketAddr,
    host: &str,
    method: &str,
    path: &str,
    body: Option<&str>,
    key: Option<&str>,
) -> std::io::Result<(u16, String, String)> {
    let mut stream = TcpStream::connect(address)?;
    stream.set_read_timeout(Some(Duration::from_secs(30)))?;
    let mut request = format!("{method} {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n");
    if let Some(key) = key {
        request.push_str(&format!("Idempotency-Key: {key}\r\n"));
    }
    if let Some(body) = body {
        request.push_str(&format!("Content-Type: application/json\r\nContent-Length: {}\r\n", body.len()));
    }
    request.push_str("\r\n");
    request.push_str(body.unwrap_or_default());
    stream.write_all(request.as_bytes())?;
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer)?;
    let answer = String::from_utf8_lossy(&answer).into_owned();
    let (head, body) = answer.split_once("\r\n\r\n").ok_or(std::io::ErrorKind::UnexpectedEof)?;
    let status =
        head.split(' ').nth(1).and_then(|status| status.parse().ok()).ok_or(std::io::ErrorKind::InvalidData)?;
    Ok((status, head.to_owned(), body.to_owned()))
}

pub fn call(
    address: SocketAddr,
    method: &str,
    path: &str,
    body: Option<&str>,
    key: Option<&str>,
) -> std::io::Result<(u16, Value)> {
    let (status, _, body) = raw(address, method, path, body, key)?;
    Ok((status, serde_json::from_str(&body).unwrap_or(Value::Null)))
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
        .filter(|shipment| shipment["blockers"].as_array().unwrap().is_empty())
        .cloned()
        .collect()
}
