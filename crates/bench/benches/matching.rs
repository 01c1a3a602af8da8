//! What lines of a bank statement are, beside what SQLite takes to look up one indexed row per line.
//!
//! 10,000 lines against 100,000 open invoices of 5,000 customers, with their reasons; and curves: the cost of a line must not grow
//! with the number of lines or of invoices. No line may take 20 ms.
//!
//! `cargo bench -p till-bench --bench matching`

use std::error::Error;
use std::time::{Duration, Instant};

use till_core::bank::{BankLine, Claim, Index, Payer};
use till_core::ids::{CustomerId, OpenItemId};
use till_core::money::Money;
use till_core::settle::creditor_reference;

fn books(invoices: usize) -> (Vec<Claim>, Vec<Payer>) {
    let customers = (invoices / 20).max(1);
    let mut chance = fastrand::Rng::with_seed(7);
    let due = "2026-03-01".parse().unwrap_or_default();
    let claims = (0..invoices)
        .map(|at| Claim {
            item: OpenItemId(at as i64),
            customer: CustomerId((at % customers) as i64),
            number: format!("I-{}", 100_000 + at),
            open: Money(chance.i64(500..900_000)),
            due,
            early: None,
        })
        .collect();
    let payers = (0..customers)
        .map(|at| Payer {
            customer: CustomerId(at as i64),
            name: format!("Customer {at} Honey Ltd"),
            parent: None,
            accounts: vec![format!("A{at}")],
        })
        .collect();
    (claims, payers)
}

/// Lines of every sort: named, by account, by name, sums, nothing that fits.
fn lines(count: usize, claims: &[Claim]) -> Vec<BankLine> {
    let mut chance = fastrand::Rng::with_seed(11);
    let on = "2026-03-17".parse().unwrap_or_default();
    (0..count)
        .map(|at| {
            let claim = &claims[chance.usize(0..claims.len())];
            let words = match at % 5 {
                0 => creditor_reference(&claim.number).unwrap_or_default(),
                1 => format!("payment of {} with thanks", claim.number),
                _ => "as agreed".to_owned(),
            };
            let amount = if at % 5 == 4 { Money(chance.i64(500..2_000_000)) } else { claim.open };
            BankLine {
                party: Some(format!("CUSTOMER {} HONEY", claim.customer.0)),
                party_account: (at % 3 > 0).then(|| format!("A{}", claim.customer.0)),
                ..BankLine::plain(on, amount, &words)
            }
        })
        .collect()
}

struct Timed {
    index: Duration,
    all: Duration,
    longest: Duration,
    found: usize,
}

fn match_all(invoices: usize, count: usize) -> Timed {
    let (claims, payers) = books(invoices);
    let lines = lines(count, &claims);
    let begun = Instant::now();
    let index = Index::new(claims, payers, Vec::new(), Money(5));
    let made = begun.elapsed();
    let (mut longest, mut found) = (Duration::ZERO, 0);
    let begun = Instant::now();
    for line in &lines {
        let one = Instant::now();
        found += usize::from(!index.propose(line).is_empty());
        longest = longest.max(one.elapsed());
    }
    Timed { index: made, all: begun.elapsed(), longest, found }
}

/// SQLite looking up one row by its indexed number for each line.
async fn raw(invoices: usize, count: usize) -> Result<Duration, Box<dyn Error>> {
    let folder = tempfile::tempdir()?;
    let store = till_store::Store::open(&folder.path().join("raw.db")).await?;
    store.close().await;
    let file = folder.path().join("raw.db");
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(&file);
    let mut books = <sqlx::SqliteConnection as sqlx::Connection>::connect_with(&options).await?;
    sqlx::query("CREATE TABLE raw (id INTEGER PRIMARY KEY, number TEXT NOT NULL, open INTEGER NOT NULL)")
        .execute(&mut books)
        .await?;
    sqlx::query(
        "INSERT INTO raw SELECT value, 'I-' || (100000 + value), value FROM (WITH RECURSIVE n (value) AS (SELECT 0 UNION ALL SELECT value + 1 FROM n WHERE value + 1 < ?) SELECT value FROM n)",
    )
    .bind(i64::try_from(invoices)?)
    .execute(&mut books)
    .await?;
    sqlx::query("CREATE INDEX raw_by_number ON raw (number)").execute(&mut books).await?;
    let mut chance = fastrand::Rng::with_seed(13);
    let begun = Instant::now();
    for _ in 0..count {
        let number = format!("I-{}", 100_000 + chance.usize(0..invoices));
        let _: (i64, i64) =
            sqlx::query_as("SELECT id, open FROM raw WHERE number = ?").bind(number).fetch_one(&mut books).await?;
    }
    Ok(begun.elapsed())
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), Box<dyn Error>> {
    println!("  invoices    lines   index ms   lines ms   µs a line   longest ms   suggested");
    for (invoices, count) in [(1_000, 10_000), (10_000, 10_000), (100_000, 100), (100_000, 1_000), (100_000, 10_000)] {
        let timed = match_all(invoices, count);
        println!(
            "{invoices:>10} {count:>8} {:>10} {:>10} {:>11} {:>12.1} {:>11}",
            timed.index.as_millis(),
            timed.all.as_millis(),
            timed.all.as_micros() / count as u128,
            timed.longest.as_micros() / 1_000,
            timed.found
        );
        if invoices == 100_000 && count == 10_000 {
            let raw = raw(invoices, count).await?;
            let with_index = timed.all + timed.index;
            println!(
                "raw: {} ms for {count} lookups; lines with their reasons {}.{:02} of that, with the index {}.{:02}",
                raw.as_millis(),
                timed.all.as_micros() / raw.as_micros().max(1),
                timed.all.as_micros() * 100 / raw.as_micros().max(1) % 100,
                with_index.as_micros() / raw.as_micros().max(1),
                with_index.as_micros() * 100 / raw.as_micros().max(1) % 100,
            );
            if with_index > raw * 5 {
                return Err("slower than five times the raw lookups".into());
            }
            if timed.longest > Duration::from_millis(20) {
                return Err("a line took more than 20 ms".into());
            }
        }
    }
    Ok(())
}
