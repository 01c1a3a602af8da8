//! Copies of the books: made while they are in use, proved before they are trusted.

use std::path::{Path, PathBuf};

use chrono::NaiveDate;
use sqlx::sqlite::SqliteConnectOptions;
use sqlx::{ConnectOptions, Connection, SqliteConnection};

use crate::verify::{self, Verification};
use crate::{Result, Store, StoreError};

/// The file of the books in a folder.
pub fn books(folder: &Path) -> PathBuf {
    folder.join("books.db")
}

/// Where a folder keeps its daily copies, and those made before a migration.
pub fn copies(folder: &Path) -> PathBuf {
    folder.join("copies")
}

async fn plain(file: &Path) -> Result<SqliteConnection> {
    Ok(SqliteConnectOptions::new().filename(file).busy_timeout(std::time::Duration::from_secs(30)).connect().await?)
}

fn file_error(what: &Path) -> impl FnOnce(std::io::Error) -> StoreError {
    let what = what.display().to_string();
    move |error| StoreError::File { what, error }
}

/// The companions SQLite keeps beside a file.
fn beside(file: &Path) -> [PathBuf; 3] {
    ["", "-wal", "-shm"].map(|suffix| {
        let mut name = file.as_os_str().to_owned();
        name.push(suffix);
        PathBuf::from(name)
    })
}

fn remove(file: &Path) -> Result<()> {
    for one in beside(file).iter().filter(|one| one.exists()) {
        std::fs::remove_file(one).map_err(file_error(one))?;
    }
    Ok(())
}

/// Copies the books into a file as they are at this moment, while others go on writing. The
/// file appears under its name only when it is whole and sound.
///
/// # Errors
/// Where the file exists already, cannot be written, or the disk is full.
pub async fn backup(books: &Path, to: &Path) -> Result<()> {
    if to.exists() {
        return Err(StoreError::Exists(to.display().to_string()));
    }
    let mut part = to.as_os_str().to_owned();
    part.push(".part");
    let part = PathBuf::from(part);
    remove(&part)?;
    let made = copy_and_check(books, &part).await;
    if made.is_err() {
        // What is half there is no copy. That it cannot be removed either is not worth hiding why.
        let _ = remove(&part);
        return made;
    }
    std::fs::File::open(&part).and_then(|file| file.sync_all()).map_err(file_error(&part))?;
    std::fs::rename(&part, to).map_err(file_error(to))
}

async fn copy_and_check(books: &Path, part: &Path) -> Result<()> {
    let mut connection = plain(books).await?;
    let name = part.display().to_string();
    let copied = sqlx::query("VACUUM INTO ?").bind(name).execute(&mut connection).await;
    connection.close().await?;
    copied?;
    sound(part).await
}

/// Whether the file is a sound database: pages, indexes, references.
///
/// # Errors
/// [`StoreError::Unsound`] with what is wrong.
pub async fn sound(file: &Path) -> Result<()> {
    let mut connection = plain(file).await?;
    let checked = sound_connection(&mut connection).await;
    connection.close().await?;
    checked
}

async fn sound_connection(connection: &mut SqliteConnection) -> Result<()> {
    let mut wrong: Vec<String> = sqlx::query_scalar("PRAGMA quick_check(5)").fetch_all(&mut *connection).await?;
    wrong.retain(|line| line != "ok");
    let loose: Vec<(String, i64)> =
        sqlx::query_as("SELECT \"table\", rowid FROM pragma_foreign_key_check LIMIT 5").fetch_all(connection).await?;
    wrong.extend(loose.into_iter().map(|(table, row)| format!("row {row} of {table} points nowhere")));
    if wrong.is_empty() { Ok(()) } else { Err(StoreError::Unsound(wrong.join("; "))) }
}

/// Proves a copy without touching it: sound, of a version this program knows, every tie-out
/// and invariant.
///
/// # Errors
/// Where it cannot be opened, is newer than the program, or is no copy of books.
pub async fn prove(copy: &Path, work_in: &Path) -> Result<(PathBuf, Verification)> {
    if !copy.is_file() {
        return Err(StoreError::NoCopy(copy.display().to_string()));
    }
    let trial = work_in.join("books.restoring.db");
    remove(&trial)?;
    std::fs::copy(copy, &trial).map_err(file_error(&trial))?;
    // A copy taken of a running file by other means has its log beside it.
    for (from, to) in beside(copy).iter().zip(beside(&trial)).skip(1).take(1).filter(|(from, _)| from.exists()) {
        std::fs::copy(from, &to).map_err(file_error(&to))?;
    }
    let proved = async {
        sound(&trial).await?;
        let store = Store::open(&trial).await?;
        let verification = verify::verify(&mut *store.read().await?).await;
        store.close().await;
        verification
    }
    .await;
    match proved {
        Ok(verification) => Ok((trial, verification)),
        Err(error) => {
            remove(&trial)?;
            Err(error)
        }
    }
}

/// Puts a proved copy in the place of the books; what was there is kept beside it. Returns
/// where that is.
///
/// The copy takes the place in one step: stopped at any moment, either the old books are there
/// or the new ones, whole.
///
/// # Errors
/// Where a file cannot be moved. The books that were there are in place then.
pub async fn put_in_place(trial: &Path, folder: &Path, mark: &str) -> Result<Option<PathBuf>> {
    let present = books(folder);
    let mut kept = None;
    if present.exists() {
        let aside = folder.join(format!("books.before-restore-{mark}.db"));
        fold_log(&present, &aside).await?;
        // A second name for the same file; where the disk knows none, a copy.
        std::fs::hard_link(&present, &aside)
            .or_else(|_| std::fs::copy(&present, &aside).map(|_| ()))
            .map_err(file_error(&aside))?;
        kept = Some(aside);
    }
    std::fs::rename(trial, &present).map_err(file_error(&present))?;
    Ok(kept)
}

/// Folds the write-ahead log into the file. A log that cannot be folded, because the file is
/// damaged, goes aside with it: it must not be taken for the log of other books.
async fn fold_log(present: &Path, aside: &Path) -> Result<()> {
    if let Ok(mut connection) = plain(present).await {
        // Whether it worked shows by what is left beside the file.
        let _ = sqlx::query("PRAGMA wal_checkpoint(TRUNCATE)").execute(&mut connection).await;
        let _ = connection.close().await;
    }
    for (from, to) in beside(present).iter().zip(beside(aside)).skip(1).filter(|(from, _)| from.exists()) {
        std::fs::rename(from, &to).map_err(file_error(&to))?;
    }
    Ok(())
}

/// Drops a trial that did not hold.
///
/// # Errors
/// Where it cannot be removed.
pub fn drop_trial(trial: &Path) -> Result<()> {
    remove(trial)
}

/// Makes today's copy if there is none yet, and removes the oldest beyond the number to keep.
/// Returns the copy where one was made.
///
/// # Errors
/// Where the copy cannot be made; the older ones are kept then.
pub async fn daily(folder: &Path, today: NaiveDate, keep: usize) -> Result<Option<PathBuf>> {
    let place = copies(folder);
    std::fs::create_dir_all(&place).map_err(file_error(&place))?;
    let copy = place.join(format!("books-{today}.db"));
    if copy.exists() {
        return Ok(None);
    }
    backup(&books(folder), &copy).await?;
    let mut all: Vec<PathBuf> = std::fs::read_dir(&place)
        .map_err(file_error(&place))?
        .filter_map(|entry| entry.ok().map(|entry| entry.path()))
        .filter(|path| {
            let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
            name.starts_with("books-") && name.ends_with(".db")
        })
        .collect();
    all.sort();
    let over = all.len().saturating_sub(keep.max(1));
    for old in &all[..over] {
        remove(old)?;
    }
    Ok(Some(copy))
}
