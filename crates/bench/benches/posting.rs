//! Posting 10,000 invoices of 4 lines, as a ratio to SQLite inserting the same rows.
//!
//! `cargo bench -p till-bench` (`INVOICES=500` for a quick look).

use std::error::Error;
use std::path::Path;
use std::time::{Duration, Instant};

use sqlx::sqlite::SqliteConnectOptions;
use sqlx::{ConnectOptions, Connection, Executor, Row, SqliteConnection};
use till_store::invoices::{Pick, ToBill};
use till_store::{Store, invoices, rules, verify};

/// What posting writes anew.
const TABLES: [&str; 6] = ["entries", "entry_lines", "invoices", "invoice_lines", "invoice_taxes", "invoice_orders"];

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), Box<dyn Error>> {
    let wanted: usize = std::env::var("INVOICES").ok().and_then(|text| text.parse().ok()).unwrap_or(10_000);
    let folder = tempfile::tempdir()?;
    let file = folder.path().join("books.db");
    let start = Instant::now();
    let (store, shipments) = till_bench::large_company(&file, wanted, 4).await?;
    println!("made {wanted} posted shipments of 4 lines in {:.1?}", start.elapsed());

    let posting = post(&store, &shipments).await?;
    let verification = verify::verify(&mut *store.read().await?).await?;
    println!("verify: {}", if verification.holds { "holds" } else { "DOES NOT HOLD" });
    store.close().await;

    let one_by_one = insert_one_by_one(&file, &folder.path().join("one_by_one.db")).await?;
    let in_bulk = insert_in_bulk(&file, &folder.path().join("in_bulk.db")).await?;
    println!("| what, in one transaction | time | each | ratio |");
    println!("|---|---|---|---|");
    for (name, time) in [
        ("post the invoices: decide, write, update every counter", posting),
        ("SQLite inserting the same rows, a statement each", one_by_one),
        ("SQLite copying the same rows, a statement a table", in_bulk),
    ] {
        let each = time / u32::try_from(wanted).unwrap_or(1);
        println!("| {name} | {time:.2?} | {each:.1?} | {} |", ratio(posting, time));
    }
    Ok(())
}

/// Posting's time as a multiple of `other`, with two decimals.
fn ratio(posting: Duration, other: Duration) -> String {
    let hundredths = posting.as_micros() * 100 / other.as_micros().max(1);
    format!("{}.{:02}", hundredths / 100, hundredths % 100)
}

async fn post(store: &Store, shipments: &[Vec<till_core::ids::ShipmentLineId>]) -> Result<Duration, Box<dyn Error>> {
    let start = Instant::now();
    store
        .change(&till_bench::by(), None, async |connection| {
            let rules = rules::load(connection).await?;
            for lines in shipments {
                let picks = lines.iter().map(|line| Pick { shipment_line: *line, quantity: None }).collect();
                invoices::post_picks(connection, &rules, &ToBill { picks, ..ToBill::default() }, None).await?;
            }
            Ok(())
        })
        .await?;
    Ok(start.elapsed())
}

/// An empty database with the same tables and indexes, without the triggers, beside the posted one.
async fn empty(posted: &Path, file: &Path) -> Result<SqliteConnection, Box<dyn Error>> {
    Store::open(file).await?.close().await;
    let mut raw = SqliteConnectOptions::new()
        .filename(file)
        .journal_mode(sqlx::sqlite::SqliteJournalMode::Wal)
        .synchronous(sqlx::sqlite::SqliteSynchronous::Full)
        .foreign_keys(false)
        .connect()
        .await?;
    let triggers = raw.fetch_all("SELECT name FROM sqlite_schema WHERE type = 'trigger'").await?;
    for trigger in triggers {
        let name: String = trigger.try_get(0)?;
        raw.execute(sqlx::AssertSqlSafe(format!("DROP TRIGGER {name}"))).await?;
    }
    sqlx::query("ATTACH ? AS posted").bind(posted.display().to_string()).execute(&mut raw).await?;
    Ok(raw)
}

async fn insert_in_bulk(posted: &Path, file: &Path) -> Result<Duration, Box<dyn Error>> {
    let mut raw = empty(posted, file).await?;
    let start = Instant::now();
    raw.execute("BEGIN IMMEDIATE").await?;
    for table in TABLES {
        raw.execute(sqlx::AssertSqlSafe(format!("INSERT INTO main.{table} SELECT * FROM posted.{table}"))).await?;
    }
    raw.execute("COMMIT").await?;
    let time = start.elapsed();
    raw.close().await?;
    Ok(time)
}

async fn insert_one_by_one(posted: &Path, file: &Path) -> Result<Duration, Box<dyn Error>> {
    let mut raw = empty(posted, file).await?;
    let mut time = Duration::ZERO;
    raw.execute("BEGIN IMMEDIATE").await?;
    for table in TABLES {
        let rows = raw.fetch_all(sqlx::AssertSqlSafe(format!("SELECT * FROM posted.{table}"))).await?;
        let columns = rows.first().map_or(0, |row| row.columns().len());
        let marks = vec!["?"; columns].join(", ");
        let insert = format!("INSERT INTO main.{table} VALUES ({marks})");
        // Reading the rows is not part of the raw work, inserting them is.
        let start = Instant::now();
        for row in &rows {
            let mut query = sqlx::query(sqlx::AssertSqlSafe(insert.clone()));
            for column in 0..columns {
                query = match row.try_get::<Option<i64>, _>(column) {
                    Ok(number) => query.bind(number),
                    Err(_) => query.bind(row.try_get::<Option<String>, _>(column)?),
                };
            }
            query.execute(&mut raw).await?;
        }
        time += start.elapsed();
    }
    let start = Instant::now();
    raw.execute("COMMIT").await?;
    time += start.elapsed();
    raw.close().await?;
    Ok(time)
}
