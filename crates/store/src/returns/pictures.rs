//! Pictures that belong to a return: part of the books, so that every copy of the books has them.

use std::fmt::Write as _;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use sqlx::SqliteConnection;
use till_core::ids::{DocumentKind, PictureId, ReturnId};
use till_core::returns::{PictureFormat, Pictures, check_picture};

use super::facts;
use crate::convert::known;
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError};

/// A picture of a return, without its content.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PictureView {
    /// Its id.
    pub id: PictureId,
    /// Its name.
    pub name: String,
    /// How wide, in points.
    pub width: i64,
    /// How high, in points.
    pub height: i64,
    /// How large, in bytes.
    pub size: i64,
    /// When it was added.
    pub added_on: NaiveDate,
}

/// A picture, to be shown.
#[derive(Debug, Clone)]
pub struct PictureContent {
    /// Its name.
    pub name: String,
    /// What a browser is told.
    pub media_type: &'static str,
    /// SHA-256 of its content.
    pub hash: String,
    /// Its content.
    pub content: Vec<u8>,
}

/// The pictures of a return, oldest first.
pub(super) async fn of_return(connection: &mut SqliteConnection, id: ReturnId) -> Result<Vec<PictureView>> {
    Ok(sqlx::query!(
        r#"SELECT id, name, width, height, size, added_on AS "added_on: NaiveDate" FROM return_pictures
           WHERE return_id = ? AND content IS NOT NULL ORDER BY id"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| PictureView {
        id: PictureId(row.id),
        name: row.name,
        width: row.width,
        height: row.height,
        size: row.size,
        added_on: row.added_on,
    })
    .collect())
}

/// A picture with its content.
///
/// # Errors
/// [`StoreError::NotFound`], also where it was removed.
pub async fn picture(connection: &mut SqliteConnection, id: ReturnId, picture: PictureId) -> Result<PictureContent> {
    let row = sqlx::query!(
        r#"SELECT name, format, hash, content AS "content!: Vec<u8>" FROM return_pictures WHERE id = ? AND return_id = ? AND content IS NOT NULL"#,
        picture.0,
        id.0
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Return, picture))?;
    let media_type = known(&row.format, PictureFormat::of)?.media_type();
    Ok(PictureContent { name: row.name, media_type, hash: row.hash, content: row.content })
}

/// Adds a picture to a return. The same one a second time is the one that is there.
///
/// # Errors
/// [`StoreError::NotFound`]; at `picture`, where it is none, or too large.
pub async fn add_picture(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ReturnId,
    (name, content): (&str, &[u8]),
) -> Result<PictureView> {
    let head = facts::head(writing, id).await?;
    let there = of_return(writing, id).await?;
    let size = there.iter().filter_map(|one| usize::try_from(one.size).ok()).sum();
    let held = Pictures { count: there.len(), size };
    let picture = check_picture(name, content, held).map_err(|why| StoreError::invalid("picture", why))?;
    let hash = Sha256::digest(content).iter().fold(String::new(), |mut hash, byte| {
        let _ = write!(hash, "{byte:02x}");
        hash
    });
    let same = sqlx::query_scalar!(
        "SELECT id FROM return_pictures WHERE return_id = ? AND hash = ? AND content IS NOT NULL",
        id.0,
        hash
    )
    .fetch_optional(&mut **writing)
    .await?;
    if same.is_some() {
        return Err(StoreError::invalid("picture", format!("{} is there already.", picture.name)));
    }
    let number = |points: usize| i64::try_from(points).unwrap_or(i64::MAX);
    let (width, height, size) = (number(picture.width), number(picture.height), number(content.len()));
    let (format, added_on) = (picture.format.word(), rules.business_date);
    let new = sqlx::query_scalar!(
        r#"INSERT INTO return_pictures (return_id, name, format, width, height, size, hash, added_on, content)
           VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id AS "id!""#,
        id.0,
        picture.name,
        format,
        width,
        height,
        size,
        hash,
        added_on,
        content
    )
    .fetch_one(&mut **writing)
    .await?;
    let words = format!("added a picture to {}", head.number);
    let fields = vec![set("picture", &picture.name), set("content", &hash)];
    writing.note_on((DocumentKind::Return, id.0, &head.number), "return_picture_added", words, None, fields);
    Ok(PictureView { id: PictureId(new), name: picture.name, width, height, size, added_on })
}

/// Removes a picture from a return: its content goes, who added and who removed it stays on record.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn remove_picture(writing: &mut Writing<'_>, id: ReturnId, picture: PictureId) -> Result<bool> {
    let head = facts::head(writing, id).await?;
    let row = sqlx::query!(
        "UPDATE return_pictures SET content = NULL WHERE id = ? AND return_id = ? AND content IS NOT NULL RETURNING name, hash",
        picture.0,
        id.0
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Return, picture))?;
    let words = format!("removed a picture from {}", head.number);
    let fields = vec![set("picture", &row.name), set("content", &row.hash)];
    writing.note_on((DocumentKind::Return, id.0, &head.number), "return_picture_removed", words, None, fields);
    Ok(true)
}
