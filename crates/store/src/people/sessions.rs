//! Signing in and out. The cookie holds a token; the books hold its SHA-256.

use chrono::{DateTime, Duration, SecondsFormat, Utc};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use sqlx::SqliteConnection;
use till_core::ids::{DocumentKind, PersonId};
use till_core::people::{Attempts, Role, SessionLength, SessionTimes, locked_for};
use till_core::record::Deed;

use crate::convert::{known, moment};
use crate::writing::{Writing, set};
use crate::{Result, StoreError};

fn kept(time: DateTime<Utc>) -> String {
    time.to_rfc3339_opts(SecondsFormat::Millis, true)
}

/// The SHA-256 of a token or a typed name, as kept.
pub fn mark(text: &str) -> String {
    Sha256::digest(text.as_bytes()).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// What is needed to check a password.
#[derive(Debug, Clone)]
pub struct SignIn {
    /// Who has that name; none where nobody who can sign in has.
    pub person: Option<PersonId>,
    /// The person's name.
    pub name: String,
    /// The hash to compare with.
    pub hash: Option<String>,
    /// Until when the name is locked because of wrong passwords, whoever has it.
    pub locked_until: Option<DateTime<Utc>>,
}

/// Looks a typed sign-in name up. Names nobody has are locked like all others, so that being
/// locked tells nothing.
///
/// # Errors
/// Where the database cannot be read.
pub async fn look_up(connection: &mut SqliteConnection, typed: &str, now: DateTime<Utc>) -> Result<SignIn> {
    let sign_in = typed.trim().to_lowercase();
    let name_mark = mark(&sign_in);
    let locked = sqlx::query_scalar!("SELECT locked_until FROM sign_in_attempts WHERE name_mark = ?", name_mark)
        .fetch_optional(&mut *connection)
        .await?;
    let locked_until = match locked {
        Some(until) => Some(moment(&until)?).filter(|until| *until > now),
        None => None,
    };
    let row = sqlx::query!("SELECT id, name, password_hash FROM people WHERE sign_in = ? AND active = 1", sign_in)
        .fetch_optional(connection)
        .await?;
    Ok(match row {
        Some(row) => {
            SignIn { person: Some(PersonId(row.id)), name: row.name, hash: Some(row.password_hash), locked_until }
        }
        None => SignIn { person: None, name: String::new(), hash: None, locked_until },
    })
}

/// Notes a wrong password. Returns how long the name is locked now.
///
/// # Errors
/// Where the database cannot be written.
pub async fn refused(writing: &mut Writing<'_>, typed: &str, known: Option<(PersonId, String)>) -> Result<i64> {
    let now = writing.actor().at;
    let name_mark = mark(&typed.trim().to_lowercase());
    let day_ago = kept(now - Duration::days(1));
    sqlx::query!("DELETE FROM sign_in_attempts WHERE tried_at < ?", day_ago).execute(&mut **writing).await?;
    let before = sqlx::query_scalar!("SELECT failures FROM sign_in_attempts WHERE name_mark = ?", name_mark)
        .fetch_optional(&mut **writing)
        .await?
        .unwrap_or(0);
    let failures = before + 1;
    let lock = locked_for(Attempts { failures: u32::try_from(failures).unwrap_or(u32::MAX) });
    let (until, tried) = (kept(now + lock), kept(now));
    sqlx::query!(
        "INSERT INTO sign_in_attempts (name_mark, failures, locked_until, tried_at) VALUES (?1, ?2, ?3, ?4)
         ON CONFLICT (name_mark) DO UPDATE SET failures = ?2, locked_until = ?3, tried_at = ?4",
        name_mark,
        failures,
        until,
        tried
    )
    .execute(&mut **writing)
    .await?;
    match known {
        Some((id, name)) => writing.note_on(
            (DocumentKind::Person, id.0, &name),
            "sign_in_refused",
            format!("wrong password, {failures} in a row"),
            None,
            Vec::new(),
        ),
        // What was typed is not kept: it may be a password in the wrong field.
        None => writing.note(Deed {
            what: "sign_in_refused".to_owned(),
            words: "sign-in with a name nobody has".to_owned(),
            document: None,
            version: None,
            changes: Vec::new(),
        }),
    }
    Ok(lock.num_seconds())
}

/// A session that holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Session {
    /// Whose.
    pub person: PersonId,
    /// The person's name.
    pub name: String,
    /// The name to sign in with.
    pub sign_in: String,
    /// The person's role now.
    pub role: Role,
    /// Whether a new password has to be chosen before anything else.
    pub must_change: bool,
    /// Whether its last use is worth noting.
    pub worth_noting: bool,
}

/// Begins a session. The token was made for it just now: one from before is never taken over.
///
/// # Errors
/// An unknown person.
pub async fn begin(writing: &mut Writing<'_>, person: PersonId, token: &str, length: SessionLength) -> Result<()> {
    let row = sqlx::query!("SELECT name, sign_in FROM people WHERE id = ? AND active = 1", person.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Person, person))?;
    let (name_mark, token_mark) = (mark(&row.sign_in), mark(token));
    let now = writing.actor().at;
    let (at, idle, whole) = (kept(now), kept(now - length.idle), kept(now - length.whole));
    sqlx::query!("DELETE FROM sign_in_attempts WHERE name_mark = ?", name_mark).execute(&mut **writing).await?;
    sqlx::query!("DELETE FROM sessions WHERE seen_at < ? OR made_at < ?", idle, whole).execute(&mut **writing).await?;
    let from = writing.actor().doer.from.clone();
    sqlx::query!(
        "INSERT INTO sessions (token_hash, person_id, made_at, seen_at, from_address) VALUES (?1, ?2, ?3, ?3, ?4)",
        token_mark,
        person.0,
        at,
        from
    )
    .execute(&mut **writing)
    .await?;
    writing.note_on((DocumentKind::Person, person.0, &row.name), "signed_in", "signed in", None, Vec::new());
    Ok(())
}

/// The session behind a token, if it holds.
///
/// # Errors
/// Where the database cannot be read.
pub async fn of_token(
    connection: &mut SqliteConnection,
    token: &str,
    now: DateTime<Utc>,
    length: SessionLength,
) -> Result<Option<Session>> {
    let token_mark = mark(token);
    let row = sqlx::query!(
        "SELECT person_id, name, sign_in, role, must_change, made_at, seen_at FROM sessions
         JOIN people ON people.id = person_id WHERE token_hash = ? AND active = 1",
        token_mark
    )
    .fetch_optional(connection)
    .await?;
    let Some(row) = row else { return Ok(None) };
    let times = SessionTimes { made: moment(&row.made_at)?, seen: moment(&row.seen_at)? };
    if !times.holds(now, length) {
        return Ok(None);
    }
    Ok(Some(Session {
        person: PersonId(row.person_id),
        name: row.name,
        sign_in: row.sign_in,
        role: known(&row.role, Role::of)?,
        must_change: row.must_change != 0,
        worth_noting: times.worth_noting(now, length),
    }))
}

/// Notes that a session was used. No change of the books: it goes on no record.
///
/// # Errors
/// Where the database cannot be written.
pub async fn used(connection: &mut SqliteConnection, token: &str, now: DateTime<Utc>) -> Result<()> {
    let (token_mark, at) = (mark(token), kept(now));
    sqlx::query!("UPDATE sessions SET seen_at = ? WHERE token_hash = ?", at, token_mark).execute(connection).await?;
    Ok(())
}

/// Makes every session look as if it had last been used at a time: those idle since end.
///
/// # Errors
/// Where the database cannot be written.
pub async fn end_all(connection: &mut SqliteConnection, last_used: DateTime<Utc>) -> Result<()> {
    let at = kept(last_used);
    sqlx::query!("UPDATE sessions SET seen_at = ?", at).execute(connection).await?;
    Ok(())
}

/// Ends every session of books that were put in place from a copy, and says so in the record: who was sent away since the copy
/// was made does not come back with it.
///
/// # Errors
/// Where the database cannot be written.
pub async fn restored(writing: &mut Writing<'_>, copy: &str) -> Result<()> {
    let ended = sqlx::query!("DELETE FROM sessions").execute(&mut **writing).await?.rows_affected();
    let fields = vec![set("copy", copy), set("sessions ended", ended)];
    writing.note_setting("books", format!("restored the books from {copy}"), fields);
    Ok(())
}

/// Ends the session of a token, or all of the person's.
///
/// # Errors
/// Where the database cannot be written.
pub async fn end(writing: &mut Writing<'_>, person: PersonId, token: &str, everywhere: bool) -> Result<()> {
    let token_mark = mark(token);
    sqlx::query!(
        "DELETE FROM sessions WHERE person_id = ? AND (? OR token_hash = ?)",
        person.0,
        everywhere,
        token_mark
    )
    .execute(&mut **writing)
    .await?;
    let name = writing.actor().doer.name.clone();
    let words = if everywhere { "signed out everywhere" } else { "signed out" };
    writing.note_on((DocumentKind::Person, person.0, &name), "signed_out", words, None, Vec::new());
    Ok(())
}

/// Sets the password someone chose; every session but the present one ends.
///
/// # Errors
/// Where the database cannot be written.
pub async fn set_own_password(writing: &mut Writing<'_>, person: PersonId, token: &str, hash: &str) -> Result<()> {
    let token_mark = mark(token);
    sqlx::query!(
        "UPDATE people SET password_hash = ?, must_change = 0, version = version + 1 WHERE id = ?",
        hash,
        person.0
    )
    .execute(&mut **writing)
    .await?;
    sqlx::query!("DELETE FROM sessions WHERE person_id = ? AND token_hash <> ?", person.0, token_mark)
        .execute(&mut **writing)
        .await?;
    let name = writing.actor().doer.name.clone();
    writing.note_on(
        (DocumentKind::Person, person.0, &name),
        "password_changed",
        "chose a new password; other sessions ended",
        None,
        Vec::new(),
    );
    Ok(())
}

/// The hash of someone's own password, to check the old one before a new one is set.
///
/// # Errors
/// An unknown person.
pub async fn own_hash(connection: &mut SqliteConnection, person: PersonId) -> Result<String> {
    sqlx::query_scalar!("SELECT password_hash FROM people WHERE id = ?", person.0)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Person, person))
}
