//! Documents on their way to customers: the print queue, the outbox, and the stand-in mailbox.

mod mail_setup;
mod messages;

use chrono::{NaiveDate, SecondsFormat};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{CustomerId, DeliveryId, DocumentKind, DocumentRef, ReturnId};
use till_core::invoice::Delivery;
use till_core::money::{Currency, Money};

pub use self::mail_setup::{MailService, MailSetup, Template, change_template, set_mail, setup};
pub use self::messages::{MessageView, NewMessage, Said, Taken, change_message, message, sent, taken};
use crate::convert::{currency, json, kind};
use crate::writing::Writing;
use crate::{Result, StoreError};

/// The way a document goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Way {
    /// Printed and posted.
    Print,
    /// By email.
    Mail,
}

impl Way {
    const fn word(self) -> &'static str {
        match self {
            Self::Print => "print",
            Self::Mail => "mail",
        }
    }

    fn of(word: &str) -> Result<Self> {
        match word {
            "print" => Ok(Self::Print),
            "mail" => Ok(Self::Mail),
            other => Err(StoreError::Corrupt(format!("a way “{other}”"))),
        }
    }

    /// The way a customer's documents go. A structured invoice goes by email.
    const fn for_customer(delivery: Delivery) -> Self {
        match delivery {
            Delivery::Paper => Self::Print,
            Delivery::Email | Delivery::Structured => Self::Mail,
        }
    }
}

/// How far it has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum DeliveryState {
    /// Not gone yet.
    Waiting,
    /// Printed, or taken by the mail service.
    Done,
    /// The mail service did not take it.
    Failed,
}

impl DeliveryState {
    fn of(word: &str) -> Result<Self> {
        match word {
            "waiting" => Ok(Self::Waiting),
            "done" => Ok(Self::Done),
            "failed" => Ok(Self::Failed),
            other => Err(StoreError::Corrupt(format!("a delivery that is “{other}”"))),
        }
    }
}

/// How far a document is on its way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GoingOut {
    /// The way.
    pub way: Way,
    /// How far.
    pub state: DeliveryState,
}

pub(crate) fn going_out(way: &str, state: &str) -> Result<GoingOut> {
    Ok(GoingOut { way: Way::of(way)?, state: DeliveryState::of(state)? })
}

/// Posted documents go out by their customers' preference.
pub(crate) async fn add(connection: &mut SqliteConnection, documents: &[(i64, CustomerId, Delivery)]) -> Result<()> {
    let rows: Vec<_> =
        documents.iter().map(|(id, customer, delivery)| (id, customer, Way::for_customer(*delivery).word())).collect();
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO deliveries (document_id, customer_id, way) SELECT value ->> 0, value ->> 1, value ->> 2 FROM jsonb_each(?)",
        rows
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// A document that never went is taken off its way: there is nothing to take back from anybody. Whether that was so; one
/// that went once stays known as gone.
pub(crate) async fn withdraw(connection: &mut SqliteConnection, document: i64) -> Result<bool> {
    let waited = sqlx::query!("DELETE FROM deliveries WHERE document_id = ? AND state <> 'done'", document)
        .execute(&mut *connection)
        .await?
        .rows_affected();
    let went = sqlx::query_scalar!("SELECT id FROM deliveries WHERE document_id = ? LIMIT 1", document)
        .fetch_optional(connection)
        .await?;
    Ok(waited > 0 && went.is_none())
}

/// A document on its way.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DeliveryRow {
    /// Its id.
    pub id: DeliveryId,
    /// The document.
    pub document: DocumentRef,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// Date of the document.
    pub date: NaiveDate,
    /// Its total.
    pub total: Money,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// The way it goes.
    pub way: Way,
    /// How far it is.
    pub state: DeliveryState,
    /// Where mail goes.
    pub recipient: Option<String>,
    /// How often it was tried.
    pub tries: i64,
    /// What the mail service said.
    pub problem: Option<String>,
    /// When it went.
    pub done_at: Option<String>,
    /// Changes with every change of it.
    pub version: i64,
}

/// Documents on their way.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DeliveryList {
    /// Them: what failed first, then what waits, then the newest.
    pub rows: Vec<DeliveryRow>,
    /// How many fit.
    pub count: i64,
    /// How many wait to be printed.
    pub to_print: i64,
    /// How many wait to be mailed.
    pub to_mail: i64,
    /// How many the mail service did not take.
    pub failed: i64,
}

/// Which to list.
#[derive(Debug, Clone, Default)]
pub struct DeliveryFilter {
    /// `print`, `mail`; none for both.
    pub way: Option<String>,
    /// `waiting`, `failed`, `done`; none for all.
    pub state: Option<String>,
    /// Words in number or customer.
    pub search: Option<String>,
    /// Only of this document.
    pub document: Option<i64>,
    /// Only of this return.
    pub returned: Option<i64>,
    /// Only this one.
    pub id: Option<DeliveryId>,
    /// How many at most.
    pub limit: i64,
    /// How many to pass over.
    pub offset: i64,
}

async fn rows(connection: &mut SqliteConnection, filter: &DeliveryFilter) -> Result<Vec<DeliveryRow>> {
    let like = filter.search.as_deref().map(crate::find::pattern);
    let id = filter.id.map(|id| id.0);
    sqlx::query!(
        r#"SELECT deliveries.id AS "id!", CASE WHEN return_id IS NOT NULL THEN 'return' WHEN documents.kind = 'credit_memo' THEN 'credit_memo' ELSE 'invoice' END AS "kind!: String",
                  coalesce(document_id, return_id) AS "document!: i64", coalesce(documents.number, returns.number) AS "number!: String",
                  coalesce(documents.document_date, returns.authorized_on) AS "date!: NaiveDate", coalesce(documents.total_minor, 0) AS "total!: i64",
                  coalesce(documents.currency, returns.currency) AS "currency!: String", deliveries.customer_id, name, way, deliveries.state, tries, problem,
                  done_at, deliveries.version, coalesce(recipient, email) AS "recipient: String"
           FROM deliveries JOIN customers ON customers.id = deliveries.customer_id LEFT JOIN documents ON documents.id = document_id
             LEFT JOIN returns ON returns.id = return_id
           WHERE (?1 IS NULL OR way = ?1) AND (?2 IS NULL OR deliveries.state = ?2)
             AND (?3 IS NULL OR coalesce(documents.number, returns.number) LIKE ?3 ESCAPE '\' OR name LIKE ?3 ESCAPE '\')
             AND (?4 IS NULL OR deliveries.id = ?4) AND (?5 IS NULL OR document_id = ?5) AND (?8 IS NULL OR return_id = ?8)
           ORDER BY deliveries.state = 'done', deliveries.state = 'waiting', CASE deliveries.state WHEN 'done' THEN -deliveries.id ELSE deliveries.id END
           LIMIT ?6 OFFSET ?7"#,
        filter.way,
        filter.state,
        like,
        id,
        filter.document,
        filter.limit,
        filter.offset,
        filter.returned
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let kind = kind(&row.kind)?;
        Ok(DeliveryRow {
            id: DeliveryId(row.id),
            document: DocumentRef { kind, id: row.document, number: row.number },
            customer: CustomerId(row.customer_id),
            customer_name: row.name,
            date: row.date,
            total: Money(row.total),
            currency: currency(&row.currency)?,
            way: Way::of(&row.way)?,
            state: DeliveryState::of(&row.state)?,
            recipient: row.recipient,
            tries: row.tries,
            problem: row.problem,
            done_at: row.done_at,
            version: row.version,
        })
    })
    .collect()
}

/// Lists documents on their way.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, filter: &DeliveryFilter) -> Result<DeliveryList> {
    let like = filter.search.as_deref().map(crate::find::pattern);
    let count = sqlx::query_scalar!(
        r#"SELECT count(*) AS "count!: i64" FROM deliveries JOIN customers ON customers.id = deliveries.customer_id
           LEFT JOIN documents ON documents.id = document_id LEFT JOIN returns ON returns.id = return_id
           WHERE (?1 IS NULL OR way = ?1) AND (?2 IS NULL OR deliveries.state = ?2)
             AND (?3 IS NULL OR coalesce(documents.number, returns.number) LIKE ?3 ESCAPE '\' OR name LIKE ?3 ESCAPE '\')"#,
        filter.way,
        filter.state,
        like
    )
    .fetch_one(&mut *connection)
    .await?;
    let open = sqlx::query!(
        r#"SELECT coalesce(sum(way = 'print' AND state = 'waiting'), 0) AS "to_print!: i64",
                  coalesce(sum(way = 'mail' AND state = 'waiting'), 0) AS "to_mail!: i64", coalesce(sum(state = 'failed'), 0) AS "failed!: i64"
           FROM deliveries WHERE state <> 'done'"#
    )
    .fetch_one(&mut *connection)
    .await?;
    Ok(DeliveryList {
        rows: rows(connection, filter).await?,
        count,
        to_print: open.to_print,
        to_mail: open.to_mail,
        failed: open.failed,
    })
}

/// How a document goes, or went, to its customer.
pub(crate) async fn of_document(connection: &mut SqliteConnection, id: i64) -> Result<Vec<DeliveryRow>> {
    rows(connection, &DeliveryFilter { document: Some(id), limit: 20, ..DeliveryFilter::default() }).await
}

/// How the slip of a return goes, or went, to its customer.
pub(crate) async fn of_return(connection: &mut SqliteConnection, id: ReturnId) -> Result<Vec<DeliveryRow>> {
    rows(connection, &DeliveryFilter { returned: Some(id.0), limit: 20, ..DeliveryFilter::default() }).await
}

/// One of them.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn delivery(connection: &mut SqliteConnection, id: DeliveryId) -> Result<DeliveryRow> {
    let found = rows(connection, &DeliveryFilter { id: Some(id), limit: 1, ..DeliveryFilter::default() }).await?;
    found.into_iter().next().ok_or_else(|| StoreError::not_found(DocumentKind::Delivery, id))
}

fn waiting(row: &DeliveryRow, version: Option<i64>) -> Result<()> {
    if version.is_some_and(|seen| seen != row.version) {
        return Err(StoreError::Stale { what: row.document.number.clone(), current: row.version });
    }
    if row.state == DeliveryState::Done {
        return Err(StoreError::WrongState(format!(
            "{} was sent already. Send it again from the document, if it did not arrive.",
            row.document.number
        )));
    }
    Ok(())
}

fn note(
    writing: &mut Writing<'_>,
    row: &DeliveryRow,
    what: &str,
    verb: &str,
    changes: Vec<till_core::merge::FieldChange>,
) {
    let number = row.document.number.clone();
    let words = format!("{verb} {number} to {}", row.customer_name);
    writing.note_on((row.document.kind, row.document.id, &number), what, words, None, changes);
}

/// Marks documents of the print queue as printed.
///
/// # Errors
/// One that goes by email, or is printed already.
pub async fn printed(writing: &mut Writing<'_>, ids: &[DeliveryId]) -> Result<i64> {
    if ids.is_empty() {
        return Err(StoreError::invalid("ids", "Nothing is selected. Select what was printed."));
    }
    let at = writing.actor().at.to_rfc3339_opts(SecondsFormat::Millis, true);
    for id in ids {
        let row = delivery(writing, *id).await?;
        waiting(&row, None)?;
        if row.way != Way::Print {
            return Err(StoreError::WrongState(format!("{} goes by email. Send it.", row.document.number)));
        }
        sqlx::query!(
            "UPDATE deliveries SET state = 'done', done_at = ?, tries = tries + 1, version = version + 1 WHERE id = ?",
            at,
            id.0
        )
        .execute(&mut **writing)
        .await?;
        note(writing, &row, "printed", "printed", Vec::new());
    }
    Ok(i64::try_from(ids.len()).unwrap_or(0))
}

/// Puts a document on its way once more, or the slip of a return.
///
/// # Errors
/// A document that is not posted, a return that is closed.
pub async fn again(writing: &mut Writing<'_>, document: (DocumentKind, i64), way: Way) -> Result<DeliveryId> {
    let (kind, id) = (document.0.word(), document.1);
    let found = sqlx::query!(
        r#"SELECT customer_id AS "customer!", number AS "number!: String" FROM documents
           WHERE (kind = 'credit_memo') = (?1 = 'credit_memo') AND ?1 <> 'return' AND id = ?2 AND state = 'posted'
           UNION ALL SELECT customer_id, number FROM returns WHERE ?1 = 'return' AND id = ?2 AND closed_on IS NULL"#,
        kind,
        id
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| {
        StoreError::WrongState(match document.0 {
            DocumentKind::Return => "This return is closed: nothing is to be sent on it.".to_owned(),
            _ => "Only what is posted goes out. Post it first.".to_owned(),
        })
    })?;
    let (of_document, of_return) = if document.0 == DocumentKind::Return { (None, Some(id)) } else { (Some(id), None) };
    let waits = sqlx::query_scalar!(
        r#"SELECT id AS "id!" FROM deliveries WHERE state <> 'done' AND (document_id = ? OR return_id = ?)"#,
        of_document,
        of_return
    )
    .fetch_optional(&mut **writing)
    .await?;
    if waits.is_some() {
        return Err(StoreError::WrongState(format!("{} is on its way already. Look under Outbox.", found.number)));
    }
    let word = way.word();
    let new = sqlx::query_scalar!(
        r#"INSERT INTO deliveries (document_id, return_id, customer_id, way) VALUES (?, ?, ?, ?) RETURNING id AS "id!""#,
        of_document,
        of_return,
        found.customer,
        word
    )
    .fetch_one(&mut **writing)
    .await?;
    let row = delivery(writing, DeliveryId(new)).await?;
    let verb = match (document.0, way) {
        (DocumentKind::Return, Way::Print) => "will print the slip of",
        (DocumentKind::Return, Way::Mail) => "will mail the slip of",
        (_, Way::Print) => "will print again",
        (_, Way::Mail) => "will mail again",
    };
    note(writing, &row, "sent_again", verb, Vec::new());
    Ok(DeliveryId(new))
}
