//! Messages: what they say before they go, and what became of them.

use chrono::{NaiveDate, SecondsFormat};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::words;
use till_core::ids::{DeliveryId, DocumentKind};
use till_core::messages::{address_problem, fill};

use super::{DeliveryRow, delivery, note, waiting};
use crate::rules::Rules;
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError};

/// A message as it will go, or went.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MessageView {
    /// What it carries.
    pub delivery: DeliveryRow,
    /// From whom.
    pub from: String,
    /// To whom.
    pub to: String,
    /// What it is about.
    pub subject: String,
    /// Its text.
    pub body: String,
    /// Whether someone changed it.
    pub changed: bool,
    /// The name of the attached document.
    pub attachment: String,
    /// What is in the stand-in mailbox of it: each time it was taken.
    pub taken: Vec<Taken>,
}

/// A message the mail service took.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Taken {
    /// Its id in the mailbox.
    pub id: i64,
    /// When.
    pub taken_at: String,
    /// To whom.
    pub recipient: String,
    /// What it is about.
    pub subject: String,
}

/// The message of a document that goes by email.
///
/// # Errors
/// [`StoreError::NotFound`], or where it is printed.
pub async fn message(connection: &mut SqliteConnection, rules: &Rules, id: DeliveryId) -> Result<MessageView> {
    let delivery = delivery(connection, id).await?;
    let typed = sqlx::query!(
        r#"SELECT recipient, subject, body, email, customers.name, coalesce(mail_from, '') AS "from!: String",
                  (SELECT name FROM contacts WHERE contacts.customer_id = customers.id AND active = 1 ORDER BY id LIMIT 1) AS "contact: String",
                  coalesce((SELECT due_date FROM invoices WHERE invoices.id = deliveries.document_id),
                           (SELECT expires_on FROM returns WHERE returns.id = deliveries.return_id)) AS "due: NaiveDate",
                  (SELECT group_concat('Order ' || orders.number || coalesce(', your number ' || document_orders.customer_order_number, ''), char(10))
                   FROM document_orders JOIN orders ON orders.id = order_id WHERE document_orders.document_id = deliveries.document_id) AS "orders: String"
           FROM deliveries JOIN customers ON customers.id = deliveries.customer_id JOIN company WHERE deliveries.id = ?"#,
        id.0
    )
    .fetch_one(&mut *connection)
    .await?;
    let kind = delivery.document.kind.word();
    let template = sqlx::query!("SELECT subject, body FROM mail_templates WHERE kind = ?", kind)
        .fetch_one(&mut *connection)
        .await?;
    let total = format!("{} {}", delivery.currency.grouped(delivery.total.abs()), delivery.currency);
    let date = words(delivery.date);
    let due = typed.due.map(words).unwrap_or_default();
    let contact = typed.contact.clone().unwrap_or_else(|| typed.name.clone());
    let orders = typed.orders.clone().unwrap_or_default();
    let values = [
        ("number", delivery.document.number.as_str()),
        ("date", &date),
        ("total", &total),
        ("due", &due),
        ("customer", &typed.name),
        ("contact", &contact),
        ("orders", &orders),
        ("company", &rules.company),
    ];
    let from = if typed.from.is_empty() { "billing@gladtill.example".to_owned() } else { typed.from.clone() };
    let taken =
        sqlx::query!("SELECT id, taken_at, recipient, subject FROM mailbox WHERE delivery_id = ? ORDER BY id", id.0)
            .fetch_all(connection)
            .await?
            .into_iter()
            .map(|row| Taken { id: row.id, taken_at: row.taken_at, recipient: row.recipient, subject: row.subject })
            .collect();
    Ok(MessageView {
        from,
        to: typed.recipient.clone().or(typed.email).unwrap_or_default(),
        changed: typed.recipient.is_some() || typed.subject.is_some() || typed.body.is_some(),
        subject: typed.subject.unwrap_or_else(|| fill(&template.subject, &values)),
        body: typed.body.unwrap_or_else(|| fill(&template.body, &values)),
        attachment: format!("{}.html", delivery.document.number),
        taken,
        delivery,
    })
}

/// A message changed before it goes.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewMessage {
    /// The version seen.
    pub version: i64,
    /// To whom.
    pub to: String,
    /// What it is about.
    pub subject: String,
    /// Its text.
    pub body: String,
}

/// Changes a message before it goes. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`], a message that has gone, an address that is none, an empty subject.
pub async fn change_message(writing: &mut Writing<'_>, rules: &Rules, id: DeliveryId, new: &NewMessage) -> Result<i64> {
    let before = message(writing, rules, id).await?;
    waiting(&before.delivery, Some(new.version))?;
    if let Some(problem) = address_problem(&new.to) {
        return Err(StoreError::invalid("to", problem));
    }
    let (to, subject, body) = (new.to.trim(), new.subject.trim(), new.body.trim_end());
    if subject.is_empty() || subject.chars().count() > 200 || subject.contains(['\r', '\n']) {
        return Err(StoreError::invalid("subject", "A subject has one line of 200 characters at most."));
    }
    if body.chars().count() > 20_000 {
        return Err(StoreError::invalid("body", "Write 20,000 characters at most."));
    }
    sqlx::query!(
        "UPDATE deliveries SET recipient = ?, subject = ?, body = ?, version = version + 1 WHERE id = ?",
        to,
        subject,
        body,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let mut changes = changed("to", Some(&before.to), Some(to));
    changes.extend(changed("subject", Some(&before.subject), Some(subject)));
    changes.extend(changed("text", Some(&before.body), Some(body)));
    note(writing, &before.delivery, "message_changed", "changed the message with", changes);
    Ok(new.version + 1)
}

/// What the mail service said to a message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Said {
    /// It took it.
    Took {
        /// The message, as it was given.
        message: String,
    },
    /// It did not.
    Refused {
        /// What it said.
        problem: String,
    },
}

/// Writes what became of a message that was given to the mail service.
///
/// # Errors
/// Where it has gone already.
pub async fn sent(writing: &mut Writing<'_>, view: &MessageView, said: &Said) -> Result<()> {
    let row = delivery(writing, view.delivery.id).await?;
    waiting(&row, Some(view.delivery.version))?;
    let at = writing.actor().at.to_rfc3339_opts(SecondsFormat::Millis, true);
    match said {
        Said::Took { message } => {
            sqlx::query!(
                "INSERT INTO mailbox (delivery_id, taken_at, recipient, subject, message) VALUES (?, ?, ?, ?, ?)",
                row.id.0,
                at,
                view.to,
                view.subject,
                message
            )
            .execute(&mut **writing)
            .await?;
            sqlx::query!(
                "UPDATE deliveries SET state = 'done', done_at = ?, problem = NULL, tries = tries + 1, recipient = ?, subject = ?, body = ?,
                        version = version + 1 WHERE id = ?",
                at,
                view.to,
                view.subject,
                view.body,
                row.id.0
            )
            .execute(&mut **writing)
            .await?;
            note(writing, &row, "mailed", "mailed", vec![set("to", &view.to), set("subject", &view.subject)]);
        }
        Said::Refused { problem } => {
            sqlx::query!(
                "UPDATE deliveries SET state = 'failed', problem = ?, tries = tries + 1, version = version + 1 WHERE id = ?",
                problem,
                row.id.0
            )
            .execute(&mut **writing)
            .await?;
            note(writing, &row, "mail_failed", "could not mail", vec![set("to", &view.to), set("problem", problem)]);
        }
    }
    Ok(())
}

/// A message in the stand-in mailbox, as it was given.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn taken(connection: &mut SqliteConnection, id: i64) -> Result<String> {
    sqlx::query_scalar!("SELECT message FROM mailbox WHERE id = ?", id)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Delivery, id))
}
