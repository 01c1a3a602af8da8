//! Running it: copies under load, restoring, locks, TLS, stopping, the log.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use crate::common::*;
use serde_json::{Value, json};

fn said(output: &std::process::Output) -> String {
    format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
}

fn receive(till: &Till, amount: &str) -> (u16, Value) {
    let receipt = json!({ "customer": 5, "method": "cash", "amount": amount, "applications": [] });
    let (_, preview) = till.send("POST", "/api/receipts/preview", &receipt);
    let mut body = receipt;
    body["seen"] = preview["fingerprint"].clone();
    till.send("POST", "/api/receipts", &body)
}

#[test]
fn a_backup_taken_under_load_is_restored_and_verifies() {
    let till = Till::start();
    let folder = till.folder.path().to_str().unwrap().to_owned();
    let copy = till.folder.path().join("copy.db");
    let copy = copy.to_str().unwrap();
    let running = AtomicBool::new(true);
    let posted = std::thread::scope(|scope| {
        let load: Vec<_> = (0..4)
            .map(|_| {
                scope.spawn(|| {
                    let mut posted = 0;
                    while running.load(Ordering::Relaxed) {
                        assert_eq!(receive(&till, "1.01").0, 200);
                        posted += 1;
                    }
                    posted
                })
            })
            .collect();
        let made = run(&["backup", copy, "--data", &folder]);
        assert!(made.status.success(), "{}", said(&made));
        running.store(false, Ordering::Relaxed);
        load.into_iter().map(|one| one.join().unwrap()).sum::<usize>()
    });
    assert!(posted > 3, "{posted}");
    let again = run(&["backup", copy, "--data", &folder]);
    assert!(said(&again).contains("exists already"), "{}", said(&again));
    // Not while the books are in use.
    let busy = run(&["restore", copy, "--data", &folder]);
    assert_eq!(busy.status.code(), Some(1));
    assert!(said(&busy).contains("Another Glad Till is using the books"), "{}", said(&busy));
    // Into an empty folder, as after a lost machine.
    let fresh = tempfile::tempdir().unwrap();
    let restored = run(&["restore", copy, "--data", fresh.path().to_str().unwrap()]);
    assert!(restored.status.success(), "{}", said(&restored));
    verify(fresh.path());
    // And over books that are there: those are kept.
    let restored = run(&["restore", copy, "--data", fresh.path().to_str().unwrap()]);
    assert!(said(&restored).contains("What was there before is kept in"), "{}", said(&restored));
    let back = Till::start_in(fresh);
    assert_eq!(back.ask("GET", "/api/session").pair(back.address).1["first_start"], false);
}

#[test]
fn a_restore_or_a_backup_that_is_killed_leaves_whole_books() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().to_str().unwrap();
    let books = folder.path().join("books.db");
    std::fs::copy(template().join("books.db"), &books).unwrap();
    let copy = folder.path().join("copy.db");
    assert!(run(&["backup", copy.to_str().unwrap(), "--data", data]).status.success());
    let mut random = fastrand::Rng::with_seed(7);
    for round in 0..16 {
        let other = folder.path().join(format!("other-{round}.db"));
        let arguments =
            if round % 2 == 0 { ["restore", copy.to_str().unwrap()] } else { ["backup", other.to_str().unwrap()] };
        let mut process = Command::new(PROGRAM)
            .args(arguments)
            .args(["--data", data])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(std::time::Duration::from_micros(random.u64(1_000..1_200_000)));
        let _ = process.kill();
        process.wait().unwrap();
        verify(folder.path());
        // Under its own name a copy is whole; what is half there has another.
        if other.exists() {
            let fresh = tempfile::tempdir().unwrap();
            std::fs::copy(&other, fresh.path().join("books.db")).unwrap();
            verify(fresh.path());
        }
    }
}

#[test]
fn a_copy_that_does_not_hold_is_not_put_in_place() {
    let folder = tempfile::tempdir().unwrap();
    let books = folder.path().join("books.db");
    std::fs::copy(template().join("books.db"), &books).unwrap();
    let before = std::fs::read(&books).unwrap();
    let bad = folder.path().join("bad.db");
    for (bytes, words) in
        [(b"no books".repeat(900), "damaged, or no database"), (before[..before.len() / 2].to_vec(), "damaged")]
    {
        std::fs::write(&bad, bytes).unwrap();
        let refused = run(&["restore", bad.to_str().unwrap(), "--data", folder.path().to_str().unwrap()]);
        assert_eq!(refused.status.code(), Some(1));
        assert!(said(&refused).contains(words), "{}", said(&refused));
    }
    let missing = run(&["restore", "nowhere.db", "--data", folder.path().to_str().unwrap()]);
    assert!(said(&missing).contains("There is no file nowhere.db"), "{}", said(&missing));
    assert_eq!(std::fs::read(&books).unwrap(), before, "the books are as they were");
}

#[test]
fn a_daily_copy_is_made_at_the_start() {
    let till = Till::start_with(&[("GLAD_TILL_COPIES", "3")]);
    let copies: Vec<_> = std::fs::read_dir(till.folder.path().join("copies")).unwrap().collect();
    assert_eq!(copies.len(), 1);
}

#[test]
fn damaged_or_locked_books_are_not_served() {
    let folder = tempfile::tempdir().unwrap();
    let books = folder.path().join("books.db");
    let data = folder.path().to_str().unwrap();
    let whole = std::fs::read(template().join("books.db")).unwrap();
    std::fs::write(&books, &whole[..whole.len() / 2]).unwrap();
    let damaged = run(&["serve", "--port", "0", "--data", data]);
    assert_eq!(damaged.status.code(), Some(1));
    assert!(said(&damaged).contains("glad-till restore"), "{}", said(&damaged));
    std::fs::write(&books, "text").unwrap();
    assert!(said(&run(&["serve", "--port", "0", "--data", data])).contains("damaged, or no database"));
    let till = Till::start();
    let second = run(&["serve", "--port", "0", "--data", till.folder.path().to_str().unwrap()]);
    assert!(said(&second).contains("Another Glad Till is using the books"), "{}", said(&second));
}

/// Something else holds the file: said in a sentence, nothing half written, and over with the lock.
#[test]
fn a_locked_file_is_said() {
    let till = Till::start();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let file = till.folder.path().join("books.db");
    let held = runtime.block_on(async {
        use sqlx::{ConnectOptions, Executor};
        let mut held = sqlx::sqlite::SqliteConnectOptions::new().filename(file).connect().await.unwrap();
        held.execute("BEGIN IMMEDIATE").await.unwrap();
        held
    });
    let (status, problem) = receive(&till, "3.03");
    assert_eq!((status, problem["code"].as_str()), (503, Some("busy")), "{problem}");
    assert!(problem["title"].as_str().unwrap().contains("Try again in a moment"), "{problem}");
    runtime.block_on(async {
        use sqlx::Connection;
        held.close().await.unwrap();
    });
    assert_eq!(receive(&till, "3.03").0, 200);
    till.verify();
}

#[test]
fn a_body_beyond_measure_is_refused() {
    let till = Till::start();
    let long = json!({ "customer": 5, "method": "cash", "amount": "1", "reference": "x".repeat(3_000_000) });
    let (status, problem) = till.send("POST", "/api/receipts/preview", &long);
    assert_eq!((status, problem["code"].as_str()), (413, Some("too_large")), "{problem}");
}

/// As a user that may not write there: said in a sentence, nothing half made.
#[test]
fn a_read_only_folder_is_said() {
    use std::os::unix::fs::PermissionsExt;
    use std::os::unix::process::CommandExt;
    let folder = tempfile::tempdir().unwrap();
    std::fs::copy(template().join("books.db"), folder.path().join("books.db")).unwrap();
    let set = |path: &std::path::Path, mode| {
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
    };
    set(folder.path(), 0o555);
    set(&folder.path().join("books.db"), 0o444);
    // The program where that user can reach it.
    let place = tempfile::tempdir().unwrap();
    set(place.path(), 0o755);
    let program = place.path().join("glad-till");
    std::fs::copy(PROGRAM, &program).unwrap();
    let root = Command::new("id").arg("-u").output().unwrap().stdout == b"0\n";
    for arguments in [["serve", "--port", "0"], ["demo", "--make-only", "--fresh"]] {
        let mut command = Command::new(&program);
        command.args(arguments).arg("--data").arg(folder.path()).env_remove("DATA").current_dir("/");
        if root {
            command.uid(65_534).gid(65_534);
        }
        let output = command.output().unwrap();
        assert_eq!(output.status.code(), Some(1), "{arguments:?}");
        assert!(said(&output).contains("cannot be written"), "{arguments:?}: {}", said(&output));
    }
    set(folder.path(), 0o755);
    let left: Vec<_> = std::fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert_eq!(left, ["books.db"]);
}

#[test]
fn it_stops_in_order_when_asked_to() {
    let till = Till::start();
    assert_eq!(receive(&till, "2.02").0, 200);
    let folder = till.folder.path().to_owned();
    assert!(till.ask("GET", "/health").pair(till.address).1["status"] == "ok");
    let kept = tempfile::tempdir().unwrap();
    let status = {
        // The folder is dropped with the till: what it left is copied by the hook below.
        let copied = kept.path().join("books.db");
        let status = till.stop_then(|| {
            assert!(!folder.join("books.db-wal").exists(), "the log is folded into the file");
            std::fs::copy(folder.join("books.db"), &copied).unwrap();
        });
        verify(kept.path());
        status
    };
    assert!(status.success(), "{status}");
}

#[test]
fn the_settings_in_force_are_shown_with_where_they_come_from() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("till.toml");
    std::fs::write(&file, "copies = 30\n").unwrap();
    let shown = Command::new(PROGRAM)
        .args(["config", "--config", file.to_str().unwrap(), "--data", "/books"])
        .env("GLAD_TILL_IDLE_MINUTES", "15")
        .env_remove("DATA")
        .env_remove("PORT")
        .output()
        .unwrap();
    let shown = said(&shown);
    for line in [
        "data                 = \"/books\"",
        "# --data;",
        "idle_minutes         = \"15\"",
        "# GLAD_TILL_IDLE_MINUTES;",
        "copies               = \"30\"",
        "# file;",
        "# default;",
    ] {
        assert!(shown.contains(line), "{line} is not in {shown}");
    }
    let wrong = Command::new(PROGRAM).arg("config").env("PORT", "many").output().unwrap();
    assert_eq!(wrong.status.code(), Some(1));
    assert!(said(&wrong).contains("The setting port (from PORT) is “many”"), "{}", said(&wrong));
}

/// A line a request, with its id; no names, no passwords, no words that were searched for.
#[test]
fn the_log_says_what_was_asked_and_no_secret() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::copy(template().join("books.db"), folder.path().join("books.db")).unwrap();
    let log = folder.path().join("log.json");
    let mut process = Command::new(PROGRAM)
        .args(["serve", "--port", "0", "--data"])
        .arg(folder.path())
        .env("GLAD_TILL_LOG", "json")
        .env("GLAD_TILL_COPIES", "0")
        .env_remove("RUST_LOG")
        .stdout(Stdio::piped())
        .stderr(std::fs::File::create(&log).unwrap())
        .spawn()
        .unwrap();
    let mut line = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(process.stdout.as_mut().unwrap()), &mut line).unwrap();
    let address = line.split("http://").nth(1).unwrap().split_whitespace().next().unwrap().parse().unwrap();
    let seat = sign_in(address, INES);
    let answer = ask("GET", "/api/customers?q=Saltmarsh").seat(&seat).send(address).unwrap();
    let id = answer.header("x-request-id").unwrap().to_owned();
    process.kill().unwrap();
    process.wait().unwrap();
    let text = std::fs::read_to_string(&log).unwrap();
    let lines: Vec<Value> = text.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let mine = lines.iter().find(|line| line["request"] == id.as_str()).unwrap();
    assert_eq!(
        (&mine["pattern"], &mine["status"], &mine["person"]),
        (&json!("/api/customers"), &json!(200), &json!(1))
    );
    for secret in ["Saltmarsh", "heather", "Ines", &seat.csrf, &seat.cookie[5..]] {
        assert!(!text.contains(secret), "{secret} is in the log");
    }
}

#[test]
fn it_serves_tls_from_certificate_files() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::copy(template().join("books.db"), folder.path().join("books.db")).unwrap();
    let made = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).unwrap();
    let (certificate, key) = (folder.path().join("cert.pem"), folder.path().join("key.pem"));
    std::fs::write(&certificate, made.cert.pem()).unwrap();
    std::fs::write(&key, made.signing_key.serialize_pem()).unwrap();
    let variables =
        [("GLAD_TILL_TLS_CERTIFICATE", certificate.to_str().unwrap()), ("GLAD_TILL_TLS_KEY", key.to_str().unwrap())];
    let till = Till::unsigned(folder, &["serve"], &variables);
    assert!(till.printed.contains("https://"), "{}", till.printed);
    let mut roots = rustls::RootCertStore::empty();
    roots.add(made.cert.der().clone()).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = rustls::ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_root_certificates(roots)
        .with_no_client_auth();
    let client = rustls::ClientConnection::new(Arc::new(config), "localhost".try_into().unwrap()).unwrap();
    let mut stream = rustls::StreamOwned::new(client, TcpStream::connect(till.address).unwrap());
    let asked = ask("POST", "/api/session").host("localhost").json(&json!({ "sign_in": "ines", "password": INES.1 }));
    stream.write_all(asked.wire(till.address).as_bytes()).unwrap();
    let mut bytes = Vec::new();
    // A peer that closes without saying so is no fault of what it sent before.
    let _ = stream.read_to_end(&mut bytes);
    let answer = Answer::of(&bytes).unwrap();
    assert_eq!(answer.status, 200, "{}", answer.body);
    let cookie = answer.header("set-cookie").unwrap();
    assert!(cookie.starts_with("__Host-till=") && cookie.contains("Secure"), "{cookie}");
    assert!(answer.header("strict-transport-security").is_some());

    let other = tempfile::tempdir().unwrap();
    std::fs::copy(template().join("books.db"), other.path().join("books.db")).unwrap();
    let wrong = Command::new(PROGRAM)
        .args(["serve", "--port", "0", "--data"])
        .arg(other.path())
        .env("GLAD_TILL_TLS_CERTIFICATE", "/nowhere/cert.pem")
        .env("GLAD_TILL_TLS_KEY", "/nowhere/key.pem")
        .output()
        .unwrap();
    assert!(said(&wrong).contains("/nowhere/cert.pem cannot be used for TLS"), "{}", said(&wrong));
}
