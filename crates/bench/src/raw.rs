//! The raw work underneath: SQLite inserting the rows that an operation left, with nothing around it.

use std::error::Error;
use std::path::Path;
use std::time::{Duration, Instant};

use sqlx::sqlite::SqliteConnectOptions;
use sqlx::{ConnectOptions, Connection, Executor, Row, SqliteConnection};
use till_store::Store;

/// The cache of the books' own connections, for the raw work too: with less, it would only be slow.
pub const CACHE: &str = "-32000";

/// One time as a multiple of another, with two decimals.
pub fn ratio(ours: Duration, other: Duration) -> String {
    let hundredths = ours.as_micros() * 100 / other.as_micros().max(1);
    format!("{}.{:02}", hundredths / 100, hundredths % 100)
}

/// An empty database with the same tables and indexes, without the triggers, beside the made one.
async fn empty(made: &Path, file: &Path) -> Result<SqliteConnection, Box<dyn Error>> {
    Store::open(file).await?.close().await;
    let mut raw = SqliteConnectOptions::new()
        .filename(file)
        .journal_mode(sqlx::sqlite::SqliteJournalMode::Wal)
        .synchronous(sqlx::sqlite::SqliteSynchronous::Full)
        .foreign_keys(false)
        .pragma("cache_size", CACHE)
        .connect()
        .await?;
    let triggers = raw.fetch_all("SELECT name FROM sqlite_schema WHERE type = 'trigger'").await?;
    for trigger in triggers {
        let name: String = trigger.try_get(0)?;
        raw.execute(sqlx::AssertSqlSafe(format!("DROP TRIGGER {name}"))).await?;
    }
    sqlx::query("ATTACH ? AS made").bind(made.display().to_string()).execute(&mut raw).await?;
    Ok(raw)
}

/// Copies the rows a condition of the made books leaves, a statement a table.
///
/// # Errors
/// Where the database refuses.
pub async fn insert_in_bulk(made: &Path, file: &Path, tables: &[(&str, &str)]) -> Result<Duration, Box<dyn Error>> {
    let mut raw = empty(made, file).await?;
    let start = Instant::now();
    raw.execute("BEGIN IMMEDIATE").await?;
    for (table, which) in tables {
        raw.execute(sqlx::AssertSqlSafe(format!("INSERT INTO main.{table} SELECT * FROM made.{table} WHERE {which}")))
            .await?;
    }
    raw.execute("COMMIT").await?;
    let time = start.elapsed();
    raw.close().await?;
    Ok(time)
}

/// Inserts the rows a condition of the made books leaves, a statement each.
///
/// # Errors
/// Where the database refuses.
pub async fn insert_one_by_one(made: &Path, file: &Path, tables: &[(&str, &str)]) -> Result<Duration, Box<dyn Error>> {
    let mut raw = empty(made, file).await?;
    let mut time = Duration::ZERO;
    raw.execute("BEGIN IMMEDIATE").await?;
    for (table, which) in tables {
        let rows = raw.fetch_all(sqlx::AssertSqlSafe(format!("SELECT * FROM made.{table} WHERE {which}"))).await?;
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
