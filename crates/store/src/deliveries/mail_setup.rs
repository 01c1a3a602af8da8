//! Texts of messages, and the stand-in mail service.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::messages::{address_problem, template_problem};

use crate::convert::json;
use crate::writing::{Writing, changed};
use crate::{Result, StoreError};

/// What the stand-in mail service does with what it is given.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum MailService {
    /// Takes everything.
    Takes,
    /// Refuses every recipient.
    Refuses,
    /// Does not answer.
    Silent,
}

/// Texts of messages, and the stand-in mail service.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MailSetup {
    /// From whom mail goes.
    pub from: String,
    /// What the stand-in does.
    pub service: MailService,
    /// The templates.
    pub templates: Vec<Template>,
    /// What a template may name, with what it becomes.
    pub places: Vec<(String, String)>,
}

/// A template of messages.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Template {
    /// `invoice`, `credit_memo` or `return`.
    pub kind: String,
    /// What it is about.
    pub subject: String,
    /// The text.
    pub body: String,
    /// Changes with every change.
    pub version: i64,
}

/// The texts of messages and the mail service.
///
/// # Errors
/// Where the database cannot be read.
pub async fn setup(connection: &mut SqliteConnection) -> Result<MailSetup> {
    let company = sqlx::query!(r#"SELECT coalesce(mail_from, '') AS "from!: String", mail_service FROM company"#)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or(StoreError::NotSetUp)?;
    let templates = sqlx::query!("SELECT kind, subject, body, version FROM mail_templates ORDER BY kind DESC")
        .fetch_all(connection)
        .await?
        .into_iter()
        .map(|row| Template { kind: row.kind, subject: row.subject, body: row.body, version: row.version })
        .collect();
    Ok(MailSetup {
        from: company.from,
        service: match company.mail_service.as_str() {
            "refuses" => MailService::Refuses,
            "silent" => MailService::Silent,
            _ => MailService::Takes,
        },
        templates,
        places: till_core::messages::PLACES
            .iter()
            .map(|(name, what)| ((*name).to_owned(), (*what).to_owned()))
            .collect(),
    })
}

/// Changes a template. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`], a place it cannot fill.
pub async fn change_template(writing: &mut Writing<'_>, new: &Template) -> Result<i64> {
    let before = setup(writing).await?.templates.into_iter().find(|known| known.kind == new.kind);
    let before = before.ok_or_else(|| StoreError::invalid("kind", "There is no such template."))?;
    if before.version != new.version {
        return Err(StoreError::Stale { what: "This template".to_owned(), current: before.version });
    }
    for (field, text, longest) in [("subject", &new.subject, 200), ("body", &new.body, 20_000)] {
        if text.trim().is_empty() || text.chars().count() > longest {
            return Err(StoreError::invalid(field, format!("Write something, {longest} characters at most.")));
        }
        if let Some(problem) = template_problem(text) {
            return Err(StoreError::invalid(field, problem));
        }
    }
    if new.subject.contains(['\r', '\n']) {
        return Err(StoreError::invalid("subject", "A subject has one line."));
    }
    sqlx::query!(
        "UPDATE mail_templates SET subject = ?, body = ?, version = version + 1 WHERE kind = ?",
        new.subject,
        new.body,
        new.kind
    )
    .execute(&mut **writing)
    .await?;
    let mut changes = changed("subject", Some(&before.subject), Some(&new.subject));
    changes.extend(changed("text", Some(&before.body), Some(&new.body)));
    let name = format!("message with {}", new.kind.replace('_', " "));
    writing.note_setting(&name, format!("changed the {name}"), changes);
    Ok(new.version + 1)
}

/// Sets from whom mail goes, and what the stand-in mail service does.
///
/// # Errors
/// An address that is none.
pub async fn set_mail(writing: &mut Writing<'_>, from: &str, service: MailService) -> Result<()> {
    let before = setup(writing).await?;
    let from = from.trim();
    if let Some(problem) = (!from.is_empty()).then(|| address_problem(from)).flatten() {
        return Err(StoreError::invalid("from", problem));
    }
    let word = |service: &MailService| json(service).map(|word| word.trim_matches('"').to_owned());
    let (is, was) = (word(&service)?, word(&before.service)?);
    sqlx::query!("UPDATE company SET mail_from = ?, mail_service = ?", from, is).execute(&mut **writing).await?;
    let mut changes = changed("mail goes from", Some(&before.from), Some(from));
    changes.extend(changed("the stand-in mail service", Some(&was), Some(&is)));
    writing.note_setting("mail", "changed how mail goes out", changes);
    Ok(())
}
