//! The record: who did what. Written by [`crate::Store::change`] alone, at the end of each
//! change, in its transaction.

use chrono::{DateTime, NaiveDate, Utc};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{DocumentKind, DocumentRef, PersonId};
use till_core::merge::FieldChange;
use till_core::record::{Chain, Deed, Doer, Row};

use crate::convert::{json, kind};
use crate::writing::Actor;
use crate::{Result, StoreError};

/// Adds what was done at the end of the record.
pub(crate) async fn append(connection: &mut SqliteConnection, actor: &Actor, deeds: Vec<Deed>) -> Result<()> {
    let end = sqlx::query!("SELECT sequence, seal FROM record_end").fetch_one(&mut *connection).await?;
    let (mut sequence, mut seal) = (end.sequence, end.seal);
    let mut rows = Vec::with_capacity(deeds.len());
    for deed in deeds {
        let row = Row { sequence: sequence + 1, at: actor.at, doer: actor.doer.clone(), deed };
        seal = row.seal(&seal);
        sequence = row.sequence;
        let (kind, id, number) = match &row.deed.document {
            Some(document) => (Some(document.kind.word()), Some(document.id), Some(document.number.clone())),
            None => (None, None, None),
        };
        rows.push((
            (row.sequence, row.time(), row.doer.person, row.doer.name, row.doer.from, row.doer.asked_by),
            (row.deed.what, row.deed.words, row.deed.version, json(&row.deed.changes)?, seal.clone()),
            (kind, id, number),
        ));
    }
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO record (sequence, at, person_id, person, from_where, asked_by, what, words, document_version, changes, seal,
                             document_kind, document_id, document_number)
         SELECT value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[0][4]', value ->> '$[0][5]',
                value ->> '$[1][0]', value ->> '$[1][1]', value ->> '$[1][2]', value ->> '$[1][3]', value ->> '$[1][4]',
                value ->> '$[2][0]', value ->> '$[2][1]', value ->> '$[2][2]' FROM jsonb_each(?) ORDER BY key",
        rows
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!("UPDATE record_end SET sequence = ?, seal = ?", sequence, seal).execute(connection).await?;
    Ok(())
}

/// What to read of the record.
#[derive(Debug, Clone, Default)]
pub struct RecordFilter {
    /// Only what was done to this document.
    pub document: Option<(DocumentKind, i64)>,
    /// Only what this person did, or asked for.
    pub person: Option<PersonId>,
    /// From this day on.
    pub from: Option<NaiveDate>,
    /// Up to the end of this day.
    pub to: Option<NaiveDate>,
    /// Words in what was done, or in the document's number.
    pub search: Option<String>,
    /// How many at most.
    pub limit: i64,
    /// How many to pass over.
    pub offset: i64,
}

/// A stretch of the record.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RecordList {
    /// The rows, newest first.
    pub rows: Vec<Row>,
    /// How many fit the filter.
    pub count: i64,
}

#[derive(sqlx::FromRow)]
struct Kept {
    sequence: i64,
    at: String,
    person_id: Option<i64>,
    person: String,
    from_where: String,
    asked_by: Option<String>,
    what: String,
    words: String,
    document_kind: Option<String>,
    document_id: Option<i64>,
    document_number: Option<String>,
    document_version: Option<i64>,
    changes: String,
    seal: String,
}

impl Kept {
    fn row(self) -> Result<(Row, String)> {
        let corrupt = |error: &dyn std::fmt::Display| StoreError::Corrupt(format!("row of the record: {error}"));
        let document = match (self.document_kind, self.document_id, self.document_number) {
            (Some(word), Some(id), Some(number)) => Some(DocumentRef { kind: kind(&word)?, id, number }),
            _ => None,
        };
        let changes: Vec<FieldChange> = serde_json::from_str(&self.changes).map_err(|error| corrupt(&error))?;
        let at = DateTime::parse_from_rfc3339(&self.at).map_err(|error| corrupt(&error))?.with_timezone(&Utc);
        let row = Row {
            sequence: self.sequence,
            at,
            doer: Doer {
                person: self.person_id.map(PersonId),
                name: self.person,
                from: self.from_where,
                asked_by: self.asked_by,
            },
            deed: Deed { what: self.what, words: self.words, document, version: self.document_version, changes },
        };
        Ok((row, self.seal))
    }
}

/// The id a credit memo had before all kinds of documents shared one range: what was written of it then
/// still says that one. No document of its kind has it now.
async fn earlier_id(connection: &mut SqliteConnection, document: Option<(DocumentKind, i64)>) -> Result<Option<i64>> {
    let Some((DocumentKind::CreditMemo, id)) = document else { return Ok(None) };
    let found =
        sqlx::query_scalar!("SELECT earlier_id FROM documents WHERE id = ?", id).fetch_optional(connection).await?;
    Ok(found.flatten())
}

/// Reads the record, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, filter: &RecordFilter) -> Result<RecordList> {
    let kind = filter.document.map(|(kind, _)| kind.word());
    let id = filter.document.map(|(_, id)| id);
    let earlier = earlier_id(connection, filter.document).await?;
    let person = filter.person.map(|person| person.0);
    let like = filter.search.as_deref().map(crate::find::pattern);
    // Times are kept as text that sorts: a day is everything that begins with it.
    let from = filter.from.map(|day| day.to_string());
    let to = filter.to.and_then(|day| day.succ_opt()).map(|day| day.to_string());
    let kept = sqlx::query_as!(
        Kept,
        r#"SELECT sequence, at, person_id, person, from_where, asked_by, what, words, document_kind, document_id,
                  document_number, document_version, changes, seal
           FROM record
           WHERE (?1 IS NULL OR (document_kind = ?1 AND document_id IN (?2, ?9))) AND (?3 IS NULL OR person_id = ?3)
             AND (?4 IS NULL OR at >= ?4) AND (?5 IS NULL OR at < ?5)
             AND (?6 IS NULL OR words LIKE ?6 ESCAPE '\' OR document_number LIKE ?6 ESCAPE '\')
           ORDER BY sequence DESC LIMIT ?7 OFFSET ?8"#,
        kind,
        id,
        person,
        from,
        to,
        like,
        filter.limit,
        filter.offset,
        earlier
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = sqlx::query_scalar!(
        r#"SELECT count(*) AS "count!: i64" FROM record
           WHERE (?1 IS NULL OR (document_kind = ?1 AND document_id IN (?2, ?7))) AND (?3 IS NULL OR person_id = ?3)
             AND (?4 IS NULL OR at >= ?4) AND (?5 IS NULL OR at < ?5)
             AND (?6 IS NULL OR words LIKE ?6 ESCAPE '\' OR document_number LIKE ?6 ESCAPE '\')"#,
        kind,
        id,
        person,
        from,
        to,
        like,
        earlier
    )
    .fetch_one(connection)
    .await?;
    let rows = kept.into_iter().map(|kept| kept.row().map(|(row, _)| row)).collect::<Result<_>>()?;
    Ok(RecordList { rows, count })
}

/// What happened to a document since a version someone saw: oldest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn since(connection: &mut SqliteConnection, kind: DocumentKind, id: i64, version: i64) -> Result<Vec<Row>> {
    let word = kind.word();
    let kept = sqlx::query_as!(
        Kept,
        "SELECT sequence, at, person_id, person, from_where, asked_by, what, words, document_kind, document_id,
                document_number, document_version, changes, seal
         FROM record WHERE document_kind = ? AND document_id = ? AND document_version > ? ORDER BY sequence LIMIT 50",
        word,
        id,
        version
    )
    .fetch_all(connection)
    .await?;
    kept.into_iter().map(|kept| kept.row().map(|(row, _)| row)).collect()
}

/// Walks along the whole record and says where it does not hold.
///
/// # Errors
/// Where the database cannot be read.
pub(crate) async fn check(connection: &mut SqliteConnection) -> Result<Vec<String>> {
    let kept = sqlx::query_as!(
        Kept,
        "SELECT sequence, at, person_id, person, from_where, asked_by, what, words, document_kind, document_id,
                document_number, document_version, changes, seal
         FROM record ORDER BY sequence"
    )
    .fetch_all(&mut *connection)
    .await?;
    let end = sqlx::query!("SELECT sequence, seal FROM record_end").fetch_optional(connection).await?;
    let mut chain = Chain::default();
    for kept in kept {
        let sequence = kept.sequence;
        let taken = match kept.row() {
            Ok((row, seal)) => chain.take(&row, &seal),
            Err(_) => Err(format!("row {sequence} of the record is not as it was written")),
        };
        if let Err(finding) = taken {
            // Every seal after it is broken too; the first place is what counts.
            return Ok(vec![finding]);
        }
    }
    let Some(end) = end else { return Ok(vec!["where the record ends is not noted".to_owned()]) };
    Ok(chain.ends_at(end.sequence, &end.seal).err().into_iter().collect())
}
