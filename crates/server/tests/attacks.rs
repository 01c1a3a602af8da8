//! What someone without rights can do from outside, or with one file: nothing that the others notice. *Source of the limits: OWASP
//! ASVS 4.0.3, level 2, 2.2.1, 8.1, 11.1, 13.1 (numbers from memory); their values are our own.*

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use crate::common::*;
use serde_json::json;

/// Sends a head and as much of a body as is given, and waits for an answer.
fn head_only(till: &Till, path: &str, headers: &str, body: &[u8]) -> (u16, Duration) {
    let begun = Instant::now();
    let mut stream = TcpStream::connect(till.address).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    let head =
        format!("POST {path} HTTP/1.1\r\nHost: {}\r\nContent-Type: application/json\r\n{headers}\r\n", till.address);
    stream.write_all(head.as_bytes()).unwrap();
    stream.write_all(body).unwrap();
    let mut answer = [0; 64];
    let read = stream.read(&mut answer).unwrap();
    let text = String::from_utf8_lossy(&answer[..read]).into_owned();
    (text.split(' ').nth(1).and_then(|status| status.parse().ok()).unwrap_or(0), begun.elapsed())
}

fn healthy(till: &Till) {
    // A machine that runs tests is busy; what is held up waits for seconds.
    let begun = Instant::now();
    assert_eq!(ask("GET", "/health").pair(till.address).0, 200);
    assert!(begun.elapsed() < Duration::from_secs(2), "it took {:?}", begun.elapsed());
}

/// A body is not waited for before it is known who sends it, where to, and how much.
#[test]
fn no_body_is_read_of_whom_nobody_knows() {
    let till = Till::start();
    let large = "Content-Length: 24000000\r\n";
    for (path, status) in [
        ("/nothing", 404),
        ("/api/nothing", 404),
        ("/api/imports?kind=orders", 401),
        ("/api/orders", 401),
        ("/api/session", 413),
    ] {
        let (got, took) = head_only(&till, path, large, b"");
        assert_eq!(got, status, "{path}");
        assert!(took < Duration::from_secs(5), "{path} was answered after {took:?}");
    }
    // Who is signed in says more, and never without end.
    let seat = format!(
        "Cookie: {}\r\nX-Csrf-Token: {}\r\nIdempotency-Key: key-0123456789\r\n",
        till.seat.cookie, till.seat.csrf
    );
    assert_eq!(head_only(&till, "/api/orders", &format!("{seat}{large}"), b"").0, 413);
    let (status, took) = head_only(&till, "/api/orders", &format!("{seat}Content-Length: 20\r\n"), b"{");
    assert_eq!(status, 408, "a body that never ends is given up");
    assert!(took > Duration::from_secs(8) && took < Duration::from_secs(25), "after {took:?}");
    let (status, _) =
        head_only(&till, "/api/orders", &format!("{seat}Content-Length: 2\r\nContent-Encoding: gzip\r\n"), b"{}");
    assert_eq!(status, 415);
}

/// Three hundred connections that say a letter and no more hold nobody up.
#[test]
fn held_connections_hold_nobody_up() {
    let till = Till::start();
    let held: Vec<TcpStream> = (0..300)
        .map(|_| {
            let mut stream = TcpStream::connect(till.address).unwrap();
            let head = format!(
                "POST /api/session HTTP/1.1\r\nHost: {}\r\nContent-Type: application/json\r\nContent-Length: 40\r\n\r\n{{",
                till.address
            );
            stream.write_all(head.as_bytes()).unwrap();
            stream
        })
        .collect();
    healthy(&till);
    assert_eq!(till.get("/api/spine").0, 200);
    drop(held);
}

/// Memory of a running program in kilobytes, at its highest.
fn peak(till: &Till) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{}/status", till.process_id())).unwrap();
    let line = status.lines().find(|line| line.starts_with("VmHWM:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse().unwrap()
}

/// Two hundred sign-ins at once take the memory of two: the others wait, or are told to come again.
#[test]
fn sign_ins_at_once_take_no_more_memory_than_two() {
    let till = Till::start();
    let address = till.address;
    let before = peak(&till);
    let threads: Vec<_> = (0..200)
        .map(|number| {
            std::thread::spawn(move || {
                let wish = json!({ "sign_in": format!("nobody {number}"), "password": "no password at all" });
                ask("POST", "/api/session").json(&wish).pair(address).0
            })
        })
        .collect();
    healthy(&till);
    let answers: Vec<u16> = threads.into_iter().map(|thread| thread.join().unwrap()).collect();
    assert!(answers.iter().all(|status| matches!(status, 401 | 429 | 503)), "{answers:?}");
    assert!(answers.iter().filter(|status| **status == 401).count() >= 2, "{answers:?}");
    let grown = peak(&till) - before;
    assert!(grown < 120_000, "{grown} kB more, where each hash takes 19,456");
    assert_eq!(sign_in(address, TOMAS).cookie.len(), "till=".len() + 64, "and then people sign in as ever");
}

/// Twelve tries at once on one name, the right one among them: five wrong ones lock it as they do one after the other.
#[test]
fn tries_at_once_are_counted_like_tries_in_turn() {
    let till = Till::start();
    let address = till.address;
    let threads: Vec<_> = (0..12)
        .map(|number| {
            std::thread::spawn(move || {
                let wish = json!({ "sign_in": "tomas", "password": format!("wrong password {number}") });
                ask("POST", "/api/session").json(&wish).pair(address).0
            })
        })
        .collect();
    let answers: Vec<u16> = threads.into_iter().map(|thread| thread.join().unwrap()).collect();
    assert_eq!(answers.iter().filter(|status| **status == 401).count(), 4, "the fifth locks: {answers:?}");
    let right = json!({ "sign_in": "tomas", "password": TOMAS.1 });
    assert_eq!(ask("POST", "/api/session").json(&right).pair(address).0, 429);
}

/// Behind a proxy that adds a line of its own, what the browser wrote before it counts nowhere; a network of IPv6 is one.
#[test]
fn addresses_are_those_the_proxy_saw() {
    let till = Till::start_with(&[("GLAD_TILL_TRUSTED_PROXIES", "127.0.0.1"), ("GLAD_TILL_SIGN_INS_PER_MINUTE", "4")]);
    let from = |lines: &[String]| {
        // Another name each time: it is the address that is measured.
        let name = format!("nobody {}", fastrand::u64(..));
        let asked = ask("POST", "/api/session").json(&json!({ "sign_in": name, "password": "no password at all" }));
        lines.iter().fold(asked, |asked, line| asked.header("X-Forwarded-For", line)).pair(till.address).0
    };
    let two_lines: Vec<u16> =
        (0..6).map(|number| from(&[format!("6.6.6.{number}"), "192.0.2.77".to_owned()])).collect();
    assert_eq!(two_lines.iter().filter(|status| **status == 429).count(), 2, "{two_lines:?}");
    let with_port = from(&["192.0.2.77:4711".to_owned()]);
    assert_eq!(with_port, 429, "with its port it is the same address");
    let network: Vec<u16> = (0..6).map(|number| from(&[format!("2001:db8::{number}")])).collect();
    assert_eq!(network.iter().filter(|status| **status == 429).count(), 2, "{network:?}");
}

/// What is refused says as little and is kept as little as what is answered.
#[test]
fn refusals_and_answers_stay_with_whom_they_are_for() {
    let till = Till::start();
    let refused = ask("GET", "/api/spine").send(till.address).unwrap();
    assert_eq!((refused.status, refused.header("cache-control")), (401, Some("no-store")));
    for name in ["content-security-policy", "x-content-type-options", "x-frame-options", "referrer-policy"] {
        assert!(refused.header(name).is_some(), "{name} is missing on a refusal");
    }
    let shown = till.ask("GET", "/api/customers/1").send(till.address).unwrap();
    assert_eq!((shown.status, shown.header("cache-control")), (200, Some("no-store")));
    let gone = till.ask("DELETE", "/api/session").send(till.address).unwrap();
    assert_eq!((gone.status, gone.header("clear-site-data")), (204, Some("\"cache\"")));
    // Pages are read, and nothing else.
    for method in ["POST", "PUT", "DELETE", "OPTIONS"] {
        assert_eq!(ask(method, "/billing/unbilled").pair(till.address).0, 404, "{method}");
    }
    for host in ["localhost:99@evil.example", "[::1]evil.example", "127.0.0.1.evil.example", "localhost/evil", ""] {
        assert_eq!(ask("GET", "/").host(host).pair(till.address).0, 421, "{host}");
    }
}

/// A file whose first line names sixty thousand columns is refused at once, and holds nobody up.
#[test]
fn no_file_holds_the_others_up() {
    let till = Till::start();
    let address = till.address;
    let columns: Vec<String> = (0..60_000).map(|column| format!("c{column}")).collect();
    let asked = till.ask("POST", "/api/imports?kind=orders&name=wide.csv").text(&columns.join(",")).new_key();
    let threads: Vec<_> = (0..4)
        .map(|number| {
            let asked = asked.clone().key(&format!("key-0123456{number}"));
            std::thread::spawn(move || asked.pair(address))
        })
        .collect();
    healthy(&till);
    for thread in threads {
        let (status, problem) = thread.join().unwrap();
        assert_eq!(status, 422, "{problem}");
        assert!(problem["title"].as_str().unwrap().contains("60000 columns"), "{problem}");
    }
}

/// Clerks read what happened to documents, and to themselves; not each other's sign-ins, nor the set-up's changes.
#[test]
fn clerks_do_not_read_who_signs_in() {
    let till = Till::start();
    let tomas = sign_in(till.address, TOMAS);
    let read = |seat: &Seat, path: &str| ask("GET", path).seat(seat).pair(till.address).0;
    let own = ask("GET", "/api/session").seat(&tomas).pair(till.address).1["person"]["id"].as_i64().unwrap();
    let other = till.get("/api/session").1["person"]["id"].as_i64().unwrap();
    assert_eq!(read(&tomas, &format!("/api/record/person/{other}")), 403);
    assert_eq!(read(&tomas, &format!("/api/record/person/{own}")), 200);
    assert_eq!(read(&tomas, "/api/record/setting/0"), 403);
    assert_eq!(read(&tomas, "/api/record/invoice/12"), 200);
    assert_eq!(read(&till.seat, &format!("/api/record/person/{own}")), 200);
}

/// Books and copies are for whoever runs the program; what was readable before no longer is.
#[cfg(unix)]
#[test]
fn nobody_else_on_the_machine_reads_the_books() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().unwrap();
    std::fs::copy(template().join("books.db"), folder.path().join("books.db")).unwrap();
    std::fs::set_permissions(folder.path().join("books.db"), std::fs::Permissions::from_mode(0o644)).unwrap();
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let till = Till::start_in(folder);
    let backup = till.folder.path().join("books.saved.db");
    let data = till.folder.path().to_str().unwrap();
    let saved = run(&["backup", backup.to_str().unwrap(), "--data", data]);
    assert!(saved.status.success(), "{}", String::from_utf8_lossy(&saved.stderr));
    let mode = |path: &std::path::Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
    assert_eq!(mode(till.folder.path()), 0o700);
    let mut seen = 0;
    for entry in std::fs::read_dir(till.folder.path()).unwrap() {
        let path = entry.unwrap().path();
        assert_eq!(mode(&path) & 0o077, 0, "{}", path.display());
        seen += 1;
    }
    assert!(seen >= 3, "books, lock and copy are there");
    // What is somebody's own stays as it is, and so does the folder it lies in.
    let folder = till.kill();
    let own = folder.join("prices.ods");
    std::fs::write(&own, "mine").unwrap();
    std::os::unix::fs::symlink(&own, folder.join("books.link")).unwrap();
    for place in [&own, &folder] {
        std::fs::set_permissions(place, std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    let mut serving = std::process::Command::new(PROGRAM)
        .args(["serve", "--port", "0", "--data"])
        .arg(&folder)
        .env("GLAD_TILL_COPIES", "0")
        .env("RUST_LOG", "off")
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let mut first = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(serving.stdout.take().unwrap()), &mut first).unwrap();
    let modes = (mode(&own), mode(&folder), mode(&folder.join("books.db")));
    serving.kill().unwrap();
    serving.wait().unwrap();
    std::fs::remove_dir_all(&folder).unwrap();
    assert_eq!(modes, (0o755, 0o755, 0o600), "{first}");
}

/// Books that come back from a copy bring nobody in: every session ends, and the record says where they came from.
#[test]
fn a_restore_ends_every_session_and_says_so() {
    let till = Till::start();
    let seat = till.seat.clone();
    let backup = tempfile::tempdir().unwrap();
    let copy = backup.path().join("copy.db");
    let folder = till.folder.path().to_owned();
    let data = folder.to_str().unwrap();
    assert!(run(&["backup", copy.to_str().unwrap(), "--data", data]).status.success());
    let folder = till.kill();
    let restored = run(&["restore", copy.to_str().unwrap(), "--data", folder.to_str().unwrap()]);
    let printed = String::from_utf8_lossy(&restored.stdout).into_owned();
    assert!(restored.status.success() && printed.contains("Everyone signs in anew"), "{printed}");
    assert!(printed.contains("tomas"), "who may sign in is listed: {printed}");
    let moved = tempfile::tempdir().unwrap();
    std::fs::copy(folder.join("books.db"), moved.path().join("books.db")).unwrap();
    let till = Till::start_in(moved);
    assert_eq!(ask("GET", "/api/spine").seat(&seat).pair(till.address).0, 401);
    let ines = sign_in(till.address, INES);
    let rows = ask("GET", "/api/record?limit=5&q=restored").seat(&ines).pair(till.address).1;
    assert!(rows["rows"][0]["deed"]["words"].as_str().unwrap().contains("restored the books from"), "{rows}");
    till.verify();
}

/// Five wrong codes, from wherever, and the right one is none any more.
#[test]
fn the_code_of_the_first_start_ends_after_five_wrong_ones() {
    let till = Till::unsigned(tempfile::tempdir().unwrap(), &["serve", "--new"], &[]);
    let code = till.printed.split("set them up: ").nth(1).unwrap().trim().to_owned();
    let begin = |code: &str| {
        let start = json!({ "code": code, "company": "Dune & Daughter", "currency": "EUR", "name": "Ada Moor",
            "sign_in": "ada", "password": "a lark above the moor" });
        ask("POST", "/api/first-start").json(&start).pair(till.address)
    };
    for number in 0..5 {
        assert_eq!(begin(&format!("0000000{number}")).0, 403);
    }
    let (status, problem) = begin(&code);
    assert_eq!(status, 403);
    assert!(problem["title"].as_str().unwrap().contains("Start Glad Till again"), "{problem}");
}

/// Other machines are not served without TLS by mistake.
#[test]
fn passwords_do_not_go_over_an_open_line() {
    let folder = tempfile::tempdir().unwrap();
    let start = |insecure: &str| {
        std::process::Command::new(PROGRAM)
            .args(["config", "--data"])
            .arg(folder.path())
            .env("GLAD_TILL_LISTEN", "0.0.0.0")
            .env("GLAD_TILL_INSECURE", insecure)
            .output()
            .unwrap()
    };
    let refused = start("no");
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && said.contains("tls_certificate"), "{said}");
    assert!(start("yes").status.success());
    assert!(!start("perhaps").status.success());
}
