//! People: who signs in, with which role.

pub mod sessions;

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{DocumentKind, PersonId};
use till_core::people::{Limits, Role, Standing, check_name, check_sign_in_name, check_standing};

use crate::convert::known;
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError};

/// Someone to add.
#[derive(Debug, Clone)]
pub struct NewPerson<'a> {
    /// The name to sign in with.
    pub sign_in: &'a str,
    /// The name people know.
    pub name: &'a str,
    /// The role.
    pub role: Role,
    /// From [`crate::passwords::hash`].
    pub password_hash: &'a str,
    /// Whether a password of one's own has to be chosen at the first sign-in.
    pub must_change: bool,
}

/// A person in the list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Person {
    /// Id.
    pub id: PersonId,
    /// The name to sign in with.
    pub sign_in: String,
    /// The name people know.
    pub name: String,
    /// The role.
    pub role: Role,
    /// Whether the person can sign in.
    pub active: bool,
    /// Whether a new password has to be chosen at the next sign-in.
    pub must_change: bool,
    /// How many sessions are open.
    pub sessions: i64,
    /// Changes with every edit.
    pub version: i64,
}

/// Everyone, by name.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection) -> Result<Vec<Person>> {
    sqlx::query!(
        r#"SELECT id, sign_in, name, role, active, must_change, version,
                  (SELECT count(*) FROM sessions WHERE person_id = people.id) AS "sessions!: i64"
           FROM people ORDER BY active DESC, name"#
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(Person {
            id: PersonId(row.id),
            sign_in: row.sign_in,
            name: row.name,
            role: known(&row.role, Role::of)?,
            active: row.active != 0,
            must_change: row.must_change != 0,
            sessions: row.sessions,
            version: row.version,
        })
    })
    .collect()
}

/// Whether nobody has been added yet: the books wait for their first administrator.
///
/// # Errors
/// Where the database cannot be read.
pub async fn nobody(connection: &mut SqliteConnection) -> Result<bool> {
    Ok(sqlx::query_scalar!(r#"SELECT count(*) AS "count!: i64" FROM people"#).fetch_one(connection).await? == 0)
}

/// Adds a person.
///
/// # Errors
/// A name that cannot be, or is taken.
pub async fn add(writing: &mut Writing<'_>, new: &NewPerson<'_>) -> Result<PersonId> {
    let sign_in = check_sign_in_name(new.sign_in).map_err(|why| StoreError::invalid("sign_in", why))?;
    let name = check_name(new.name).map_err(|why| StoreError::invalid("name", why))?;
    let role = new.role.word();
    let taken =
        sqlx::query_scalar!("SELECT id FROM people WHERE sign_in = ?", sign_in).fetch_optional(&mut **writing).await?;
    if taken.is_some() {
        return Err(StoreError::invalid("sign_in", format!("{sign_in} is taken. Choose another sign-in name.")));
    }
    let id = sqlx::query_scalar!(
        r#"INSERT INTO people (sign_in, name, role, password_hash, must_change) VALUES (?, ?, ?, ?, ?) RETURNING id AS "id!""#,
        sign_in,
        name,
        role,
        new.password_hash,
        new.must_change
    )
    .fetch_one(&mut **writing)
    .await?;
    let fields = vec![set("sign-in", &sign_in), set("role", role)];
    writing.note_on((DocumentKind::Person, id, &name), "person_added", format!("added {name}"), Some(1), fields);
    Ok(PersonId(id))
}

struct Kept {
    name: String,
    standing: Standing,
    version: i64,
}

async fn kept(connection: &mut SqliteConnection, id: PersonId) -> Result<Kept> {
    let row = sqlx::query!("SELECT name, role, active, version FROM people WHERE id = ?", id.0)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Person, id))?;
    Ok(Kept {
        name: row.name,
        standing: Standing { role: known(&row.role, Role::of)?, active: row.active != 0 },
        version: row.version,
    })
}

async fn seen(connection: &mut SqliteConnection, id: PersonId, version: i64) -> Result<Kept> {
    let kept = kept(connection, id).await?;
    if kept.version == version { Ok(kept) } else { Err(StoreError::Stale { what: kept.name, current: kept.version }) }
}

/// Changes name, role or standing. Whoever loses a role or is switched off is signed out.
///
/// # Errors
/// [`StoreError::Stale`], or what the core refuses.
pub async fn change(
    writing: &mut Writing<'_>,
    id: PersonId,
    version: i64,
    name: &str,
    role: Role,
    active: bool,
) -> Result<i64> {
    let before = seen(writing, id, version).await?;
    let name = check_name(name).map_err(|why| StoreError::invalid("name", why))?;
    let others = sqlx::query_scalar!(
        r#"SELECT count(*) AS "count!: i64" FROM people WHERE role = 'administrator' AND active = 1 AND id <> ?"#,
        id.0
    )
    .fetch_one(&mut **writing)
    .await?;
    let own = writing.actor().doer.person == Some(id);
    let after = Standing { role, active };
    check_standing(before.standing, after, own, others).map_err(|why| StoreError::invalid("role", why))?;
    let word = role.word();
    sqlx::query!(
        "UPDATE people SET name = ?, role = ?, active = ?, version = version + 1 WHERE id = ?",
        name,
        word,
        active,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    if before.standing != after {
        sqlx::query!("DELETE FROM sessions WHERE person_id = ?", id.0).execute(&mut **writing).await?;
    }
    let signs_in = |active: bool| Some(if active { "yes" } else { "no" });
    let mut changes = changed("name", Some(&before.name), Some(&name));
    changes.extend(changed("role", Some(before.standing.role.word()), Some(word)));
    changes.extend(changed("signs in", signs_in(before.standing.active), signs_in(active)));
    writing.note_on(
        (DocumentKind::Person, id.0, &name),
        "person_changed",
        format!("changed {name}"),
        Some(version + 1),
        changes,
    );
    Ok(version + 1)
}

/// Gives a person a new password, to be changed at the next sign-in, and signs them out.
///
/// # Errors
/// [`StoreError::Stale`], or an unknown person.
pub async fn reset_password(writing: &mut Writing<'_>, id: PersonId, version: i64, hash: &str) -> Result<i64> {
    let before = seen(writing, id, version).await?;
    sqlx::query!(
        "UPDATE people SET password_hash = ?, must_change = 1, version = version + 1 WHERE id = ?",
        hash,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    sqlx::query!("DELETE FROM sessions WHERE person_id = ?", id.0).execute(&mut **writing).await?;
    writing.note_on(
        (DocumentKind::Person, id.0, &before.name),
        "password_reset",
        format!("gave {} a new password to begin with", before.name),
        Some(version + 1),
        Vec::new(),
    );
    Ok(version + 1)
}

/// The limits of all roles.
///
/// # Errors
/// Where the database cannot be read.
pub async fn limits(connection: &mut SqliteConnection) -> Result<Limits> {
    use till_core::money::Money;
    use till_core::people::LimitKind;
    let mut limits = Limits::default();
    let rows =
        sqlx::query!("SELECT role, kind, amount_minor FROM limits ORDER BY role, kind").fetch_all(connection).await?;
    for row in rows {
        limits.set(known(&row.role, Role::of)?, known(&row.kind, LimitKind::of)?, row.amount_minor.map(Money));
    }
    Ok(limits)
}
