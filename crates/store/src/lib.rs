//! # till-store: the books in SQLite
//!
//! One module an aggregate, one transaction an operation. An operation loads facts, asks
//! `till-core` for a decision and writes it; no rule lives in a query. Queries are checked at
//! compile time against the migrations (`build.rs`).
//!
//! Every change goes through [`Store::change`], which runs it in one transaction and remembers
//! the request by its key, so that the same request sent twice is carried out once.

pub mod approvals;
pub mod bank;
pub mod call_offs;
pub mod cards;
pub mod chart;
pub mod containers;
pub mod convert;
pub mod copies;
pub mod customer_pages;
pub mod customers;
pub mod day_sheet;
pub mod deliveries;
pub mod deposits;
pub mod disputes;
mod documents;
mod errors;
pub mod exposure;
pub mod faults;
pub mod find;
pub mod goods_settings;
pub mod imports;
pub mod invoices;
pub mod items;
pub mod ledger;
pub mod marks;
pub mod money_places;
pub mod open_items;
pub mod openings;
pub mod orders;
pub mod passwords;
pub mod people;
mod posting;
pub mod prepayments;
pub mod prices;
pub mod quotes;
pub mod receipts;
pub mod receivables;
pub mod record;
pub mod refunds;
pub mod returns;
pub mod rules;
pub mod runs;
pub mod saved_views;
pub mod settings;
pub mod setup;
pub mod shipments;
pub mod starting;
pub mod stock;
pub mod trail;
pub mod unbilled;
pub mod verify;
mod writing;

use std::path::Path;
use std::time::Duration;

use serde::Serialize;
use serde::de::DeserializeOwned;
use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode, SqlitePool, SqlitePoolOptions, SqliteSynchronous};
use sqlx::{Connection as _, Sqlite, SqliteConnection, Transaction};

pub use errors::{StoreError, sensible_date};
pub use writing::{Actor, Writing};

/// A connection inside a transaction, as operations take it.
pub use sqlx::SqliteConnection as Connection;

/// What operations return.
pub type Result<T> = std::result::Result<T, StoreError>;

static MIGRATIONS: sqlx::migrate::Migrator = sqlx::migrate!("./migrations");

/// The books of one company: one writer, many readers.
#[derive(Debug, Clone)]
pub struct Store {
    writer: SqlitePool,
    readers: SqlitePool,
}

/// A request that changes something, as it must be remembered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    /// The caller's `Idempotency-Key`.
    pub key: String,
    /// Mark of what was asked for.
    pub fingerprint: String,
}

impl Store {
    /// Opens the books in a file, making it and bringing it up to date where needed.
    ///
    /// # Errors
    /// Where the file cannot be opened, is newer than the program, or is no database.
    pub async fn open(file: &Path) -> Result<Self> {
        let options = SqliteConnectOptions::new()
            .filename(file)
            .create_if_missing(true)
            .foreign_keys(true)
            .journal_mode(SqliteJournalMode::Wal)
            .synchronous(SqliteSynchronous::Full)
            .busy_timeout(Duration::from_secs(10))
            .pragma("cache_size", "-32000")
            .statement_cache_capacity(400)
            // Rows come from SQLx's thread for SQLite: the fewer at a time, the more the two wait for each other.
            .row_buffer_size(1_000);
        migrate(&options, file).await?;
        let writer = SqlitePoolOptions::new().max_connections(1).connect_with(options.clone()).await?;
        // What a migration could not work out in SQL.
        unbilled::value(&mut *writer.acquire().await?).await?;
        let readers =
            SqlitePoolOptions::new().max_connections(4).connect_with(options.pragma("query_only", "on")).await?;
        Ok(Self { writer, readers })
    }

    /// A consistent view for reading: everything read through it is of one moment.
    ///
    /// # Errors
    /// Where the database cannot be read.
    pub async fn read(&self) -> Result<Transaction<'static, Sqlite>> {
        Ok(self.readers.begin().await?)
    }

    /// Carries out a change in one transaction, or not at all.
    ///
    /// With a request, its answer is kept: the same request again gives the same answer and
    /// changes nothing. What the operation notes goes on the record, in the same transaction; an
    /// operation that notes nothing is not carried out.
    ///
    /// # Errors
    /// Whatever the operation says; [`StoreError::KeyReused`] where the key came with
    /// something else. Nothing is written then.
    pub async fn change<T, F>(&self, actor: &Actor, request: Option<&Request>, operation: F) -> Result<T>
    where
        T: Serialize + DeserializeOwned,
        F: AsyncFnOnce(&mut Writing<'_>) -> Result<T>,
    {
        let mut connection = self.writer.acquire().await?;
        let mut transaction = connection.begin_with("BEGIN IMMEDIATE").await?;
        // SQLite may end a transaction by itself, on a full disk for one. Whatever it did, a
        // connection that did not end its transaction as told is not used again.
        let (answer, ended) = match once(&mut transaction, actor, request, operation).await {
            Ok(answer) => match transaction.commit().await {
                Ok(()) => (Ok(answer), true),
                Err(error) => (Err(error.into()), false),
            },
            Err(error) => (Err(error), transaction.rollback().await.is_ok()),
        };
        if !ended {
            connection.close_on_drop();
        }
        answer
    }

    /// Carries out a change and takes it back: what it comes to, with nothing written. Numbers it
    /// takes are given back.
    ///
    /// # Errors
    /// Whatever the operation says.
    pub async fn rehearse<T, F>(&self, actor: &Actor, operation: F) -> Result<T>
    where
        F: AsyncFnOnce(&mut Writing<'_>) -> Result<T>,
    {
        let mut connection = self.writer.acquire().await?;
        let mut transaction = connection.begin_with("BEGIN IMMEDIATE").await?;
        let answer = operation(&mut Writing::new(&mut transaction, actor.clone())).await;
        if transaction.rollback().await.is_err() {
            connection.close_on_drop();
        }
        answer
    }

    /// Writes something that is no change of the books, such as when a session was last used. It
    /// goes on no record.
    ///
    /// # Errors
    /// Where the database cannot be written.
    pub async fn jot<T, F>(&self, work: F) -> Result<T>
    where
        F: AsyncFnOnce(&mut SqliteConnection) -> Result<T>,
    {
        let mut connection = self.writer.acquire().await?;
        work(&mut connection).await
    }

    /// Whether the books can be read.
    ///
    /// # Errors
    /// Where they cannot.
    pub async fn alive(&self) -> Result<()> {
        sqlx::query("SELECT 1 FROM record_end").fetch_one(&self.readers).await?;
        Ok(())
    }

    /// Ends all connections, folding the write-ahead log into the file.
    pub async fn close(&self) {
        self.readers.close().await;
        self.writer.close().await;
    }
}

/// Brings the books up to date. Tables that lose a column or a CHECK are built anew, which SQLite does
/// only with foreign keys off; they are all checked at the end, and where one points to nothing the
/// books are not opened.
async fn migrate(options: &SqliteConnectOptions, file: &Path) -> Result<()> {
    let options = options.clone().foreign_keys(false);
    let pool = SqlitePoolOptions::new().max_connections(1).connect_with(options).await?;
    copy_before_migrating(&pool, file).await?;
    MIGRATIONS.run(&pool).await.map_err(|error| match error {
        sqlx::migrate::MigrateError::VersionMissing(_) => StoreError::NewerDatabase,
        other => StoreError::Migration(other),
    })?;
    let dangling = sqlx::query("PRAGMA foreign_key_check").fetch_all(&pool).await?;
    pool.close().await;
    match dangling.is_empty() {
        true => Ok(()),
        false => {
            Err(StoreError::Corrupt(format!("{} rows point to nothing after bringing it up to date", dangling.len())))
        }
    }
}

/// Books that are about to be brought up to date are copied first.
async fn copy_before_migrating(writer: &SqlitePool, file: &Path) -> Result<()> {
    use sqlx::migrate::Migrate;
    let mut connection = writer.acquire().await?;
    let table: Option<String> = sqlx::query_scalar("SELECT name FROM sqlite_master WHERE name = '_sqlx_migrations'")
        .fetch_optional(&mut *connection)
        .await?;
    if table.is_none() {
        return Ok(());
    }
    let applied = connection.list_applied_migrations("_sqlx_migrations").await.map_err(StoreError::Migration)?;
    let newest = applied.iter().map(|migration| migration.version).max().unwrap_or(0);
    let known = MIGRATIONS.iter().map(|migration| migration.version).max().unwrap_or(0);
    if newest > known {
        return Err(StoreError::NewerDatabase);
    }
    if applied.is_empty() || newest == known {
        return Ok(());
    }
    drop(connection);
    let place = copies::copies(file.parent().unwrap_or_else(|| Path::new(".")));
    std::fs::create_dir_all(&place).map_err(|error| StoreError::File { what: place.display().to_string(), error })?;
    let name = file.file_stem().and_then(|stem| stem.to_str()).unwrap_or("books");
    let copy = place.join(format!("{name}.before-version-{known}.db"));
    if copy.exists() { Ok(()) } else { copies::backup(file, &copy).await }
}

/// Runs an operation, unless its request was answered before; keeps the answer beside it.
async fn once<T, F>(
    connection: &mut SqliteConnection,
    actor: &Actor,
    request: Option<&Request>,
    operation: F,
) -> Result<T>
where
    T: Serialize + DeserializeOwned,
    F: AsyncFnOnce(&mut Writing<'_>) -> Result<T>,
{
    if let Some(request) = request
        && let Some(answer) = earlier_answer(connection, request).await?
    {
        return Ok(answer);
    }
    let mut writing = Writing::new(connection, actor.clone());
    let answer = operation(&mut writing).await?;
    let (deeds, actor) = (writing.take_deeds(), writing.actor().clone());
    if deeds.is_empty() {
        return Err(StoreError::Unrecorded);
    }
    record::append(connection, &actor, deeds).await?;
    unbilled::value(connection).await?;
    let Some(request) = request else { return Ok(answer) };
    let json = serde_json::to_string(&answer).map_err(|error| StoreError::Corrupt(error.to_string()))?;
    sqlx::query!(
        "INSERT INTO requests (key, fingerprint, answer) VALUES (?, ?, ?)",
        request.key,
        request.fingerprint,
        json
    )
    .execute(connection)
    .await?;
    Ok(answer)
}

async fn earlier_answer<T: DeserializeOwned>(
    connection: &mut SqliteConnection,
    request: &Request,
) -> Result<Option<T>> {
    let row = sqlx::query!("SELECT fingerprint, answer FROM requests WHERE key = ?", request.key)
        .fetch_optional(connection)
        .await?;
    match row {
        None => Ok(None),
        Some(row) if row.fingerprint != request.fingerprint => Err(StoreError::KeyReused),
        Some(row) => {
            serde_json::from_str(&row.answer).map(Some).map_err(|error| StoreError::Corrupt(error.to_string()))
        }
    }
}
