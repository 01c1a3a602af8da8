//! Views of lists that a person kept: a name for what the address says.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::PersonId;

use crate::writing::{Writing, set};
use crate::{Result, StoreError};

/// A view someone kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SavedView {
    /// Its id.
    #[serde(default)]
    pub id: i64,
    /// The room it is of, such as `unbilled`.
    pub room: String,
    /// Its name.
    pub name: String,
    /// What the address says after the question mark.
    pub query: String,
}

/// What a person kept of a room.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, person: PersonId, room: &str) -> Result<Vec<SavedView>> {
    Ok(sqlx::query!(
        "SELECT id, name, query FROM saved_views WHERE person_id = ? AND room = ? ORDER BY name",
        person.0,
        room
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| SavedView { id: row.id, room: room.to_owned(), name: row.name, query: row.query })
    .collect())
}

/// Keeps a view; one of the same name is replaced.
///
/// # Errors
/// A name that is empty or too long.
pub async fn keep(writing: &mut Writing<'_>, person: PersonId, view: &SavedView) -> Result<i64> {
    let name = view.name.trim();
    if name.is_empty() || name.chars().count() > 60 {
        return Err(StoreError::invalid("name", "Give the view a name of 60 characters at most."));
    }
    if view.query.len() > 1_000 || view.room.is_empty() || view.room.len() > 40 {
        return Err(StoreError::invalid("query", "This view cannot be saved: its filters are too long."));
    }
    let id = sqlx::query_scalar!(
        r#"INSERT INTO saved_views (person_id, room, name, query) VALUES (?, ?, ?, ?)
           ON CONFLICT (person_id, room, name) DO UPDATE SET query = excluded.query RETURNING id AS "id!""#,
        person.0,
        view.room,
        name,
        view.query
    )
    .fetch_one(&mut **writing)
    .await?;
    let fields = vec![set("room", &view.room), set("filters", &view.query)];
    writing.note_setting("view", format!("saved the view “{name}”"), fields);
    Ok(id)
}

/// Drops one's own view.
///
/// # Errors
/// Where there is none.
pub async fn drop(writing: &mut Writing<'_>, person: PersonId, id: i64) -> Result<()> {
    let name =
        sqlx::query_scalar!("DELETE FROM saved_views WHERE id = ? AND person_id = ? RETURNING name", id, person.0)
            .fetch_optional(&mut **writing)
            .await?
            .ok_or_else(|| StoreError::WrongState("This view was deleted already.".to_owned()))?;
    writing.note_setting("view", format!("deleted the view “{name}”"), Vec::new());
    Ok(())
}
