//! Own fields and reporting lists: setting them up, and reading them for the core.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::marks::{FieldKind, FieldPlace, MarkRules, OwnField, ReportingCode, ReportingList};

use till_core::merge::{Fields, differences};

use crate::convert::json;
use crate::writing::{Writing, fields, yes_or_no};
use crate::{Result, StoreError};

fn place_word(place: FieldPlace) -> &'static str {
    match place {
        FieldPlace::Order => "order",
        FieldPlace::Line => "line",
    }
}

fn kind_word(kind: FieldKind) -> &'static str {
    match kind {
        FieldKind::Text => "text",
        FieldKind::Number => "number",
        FieldKind::Date => "date",
        FieldKind::Choice => "choice",
        FieldKind::YesNo => "yes_no",
    }
}

/// Own fields and reporting lists as the core wants them.
///
/// # Errors
/// Where the database cannot be read.
pub async fn rules(connection: &mut SqliteConnection) -> Result<MarkRules> {
    let fields = sqlx::query!("SELECT key, label, place, kind, choices, required, active FROM own_fields ORDER BY key")
        .fetch_all(&mut *connection)
        .await?
        .into_iter()
        .map(|row| {
            let word = |text: &str| serde_json::Value::String(text.to_owned());
            let corrupt = |error: serde_json::Error| StoreError::Corrupt(error.to_string());
            Ok(OwnField {
                key: row.key,
                label: row.label,
                place: serde_json::from_value(word(&row.place)).map_err(corrupt)?,
                kind: serde_json::from_value(word(&row.kind)).map_err(corrupt)?,
                choices: serde_json::from_str(&row.choices).map_err(corrupt)?,
                required: row.required != 0,
                active: row.active != 0,
            })
        })
        .collect::<Result<Vec<_>>>()?;
    let mut lists: Vec<ReportingList> = sqlx::query!("SELECT key, name FROM reporting_lists ORDER BY key")
        .fetch_all(&mut *connection)
        .await?
        .into_iter()
        .map(|row| ReportingList { key: row.key, name: row.name, codes: Vec::new(), required_by: Vec::new() })
        .collect();
    for row in sqlx::query!("SELECT list, code, name, active FROM reporting_codes ORDER BY list, code")
        .fetch_all(&mut *connection)
        .await?
    {
        if let Some(list) = lists.iter_mut().find(|list| list.key == row.list) {
            list.codes.push(ReportingCode { code: row.code, name: row.name, active: row.active != 0 });
        }
    }
    for row in sqlx::query!("SELECT account, list FROM account_codes ORDER BY account").fetch_all(connection).await? {
        if let Some(list) = lists.iter_mut().find(|list| list.key == row.list) {
            list.required_by.push(row.account);
        }
    }
    Ok(MarkRules { fields, lists })
}

/// A key people can type into a file: small letters, digits, underscores.
fn check_key(key: &str) -> Result<&str> {
    let key = key.trim();
    let right =
        (1..=20).contains(&key.len()) && key.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
    if right { Ok(key) } else { Err(StoreError::invalid("key", "A key has small letters, digits and _, 20 at most.")) }
}

fn check_text<'a>(field: &str, text: &'a str, longest: usize) -> Result<&'a str> {
    let text = text.trim();
    if text.is_empty() || text.chars().count() > longest {
        return Err(StoreError::invalid(field, format!("Write 1 to {longest} characters here.")));
    }
    Ok(text)
}

/// An own field as named fields, for the record; nothing where there is none.
async fn described_field(connection: &mut SqliteConnection, key: &str) -> Result<Fields> {
    let known = rules(connection).await?.fields.into_iter().find(|field| field.key == key);
    Ok(known.map_or_else(Fields::new, |field| {
        fields([
            ("name", field.label),
            ("on", place_word(field.place).to_owned()),
            ("holds", kind_word(field.kind).to_owned()),
            ("choices", field.choices.join(", ")),
            ("required", yes_or_no(field.required)),
            ("asked for", yes_or_no(field.active)),
        ])
    }))
}

/// A reporting list as named fields, for the record; nothing where there is none.
async fn described_list(connection: &mut SqliteConnection, key: &str) -> Result<Fields> {
    let known = rules(connection).await?.lists.into_iter().find(|list| list.key == key);
    Ok(known.map_or_else(Fields::new, |list| {
        let codes: Vec<String> =
            list.codes.iter().filter(|code| code.active).map(|code| format!("{} {}", code.code, code.name)).collect();
        fields([("name", list.name), ("codes", codes.join(", ")), ("demanded by", list.required_by.join(", "))])
    }))
}

/// Adds an own field, or changes one; its key, place and kind stay once it exists.
///
/// # Errors
/// A key or name that cannot be, a choice without choices, another kind than before.
pub async fn set_field(writing: &mut Writing<'_>, field: &OwnField) -> Result<()> {
    let key = check_key(&field.key)?;
    let label = check_text("label", &field.label, 40)?;
    let choices: Vec<&str> =
        field.choices.iter().map(|choice| choice.trim()).filter(|choice| !choice.is_empty()).collect();
    if field.kind == FieldKind::Choice && choices.len() < 2 {
        return Err(StoreError::invalid("choices", "Give at least two words to choose from."));
    }
    let (place, kind) = (place_word(field.place), kind_word(field.kind));
    let before =
        sqlx::query!("SELECT place, kind FROM own_fields WHERE key = ?", key).fetch_optional(&mut **writing).await?;
    if before.is_some_and(|before| before.place != place || before.kind != kind) {
        return Err(StoreError::invalid(
            "kind",
            "What a field holds and where it stands cannot change: documents carry it. Add another field.",
        ));
    }
    let choices = json(&choices)?;
    let was = described_field(writing, key).await?;
    sqlx::query!(
        "INSERT INTO own_fields (key, label, place, kind, choices, required, active) VALUES (?, ?, ?, ?, ?, ?, ?)
         ON CONFLICT (key) DO UPDATE SET label = excluded.label, choices = excluded.choices,
             required = excluded.required, active = excluded.active",
        key,
        label,
        place,
        kind,
        choices,
        field.required,
        field.active
    )
    .execute(&mut **writing)
    .await?;
    let fields = differences(&was, &described_field(writing, key).await?);
    writing.note_setting("custom fields", format!("set the custom field {label}"), fields);
    Ok(())
}

/// A reporting list to add or change, with its codes and the accounts that demand one.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewList {
    /// Its key.
    pub key: String,
    /// Its name.
    pub name: String,
    /// Its codes; those left out are not used any more.
    pub codes: Vec<NewCode>,
    /// Accounts whose lines must carry one.
    #[serde(default)]
    pub required_by: Vec<String>,
}

/// A code of a reporting list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewCode {
    /// The code.
    pub code: String,
    /// What it stands for.
    pub name: String,
}

/// Adds a reporting list, or changes one. A code is never deleted: documents carry it.
///
/// # Errors
/// A key, name or code that cannot be, an account that is no revenue or expense.
pub async fn set_list(writing: &mut Writing<'_>, list: &NewList) -> Result<()> {
    let key = check_key(&list.key)?;
    let name = check_text("name", &list.name, 40)?;
    let was = described_list(writing, key).await?;
    sqlx::query!(
        "INSERT INTO reporting_lists (key, name) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET name = excluded.name",
        key,
        name
    )
    .execute(&mut **writing)
    .await?;
    sqlx::query!("UPDATE reporting_codes SET active = 0 WHERE list = ?", key).execute(&mut **writing).await?;
    for (position, code) in list.codes.iter().enumerate() {
        let name = check_text(&format!("codes.{position}.name"), &code.name, 60)?;
        let code = check_text(&format!("codes.{position}.code"), &code.code, 20)?;
        if list.codes.iter().take(position).any(|before| before.code.trim() == code) {
            return Err(StoreError::invalid(
                format!("codes.{position}.code"),
                format!("{code} stands above already. A code stands for one thing."),
            ));
        }
        sqlx::query!(
            "INSERT INTO reporting_codes (list, code, name) VALUES (?, ?, ?)
             ON CONFLICT (list, code) DO UPDATE SET name = excluded.name, active = 1",
            key,
            code,
            name
        )
        .execute(&mut **writing)
        .await?;
    }
    sqlx::query!("DELETE FROM account_codes WHERE list = ?", key).execute(&mut **writing).await?;
    for account in &list.required_by {
        // Control accounts are tied out by customer, not by project; the core marks what is sold and what it costs.
        let kind = sqlx::query_scalar!("SELECT account_type FROM accounts WHERE number = ?", account)
            .fetch_optional(&mut **writing)
            .await?;
        if !matches!(kind.as_deref(), Some("revenue" | "expense")) {
            return Err(StoreError::invalid(
                "required_by",
                format!("{account} is no revenue or expense account. Codes are demanded of those only."),
            ));
        }
        sqlx::query!("INSERT INTO account_codes (account, list) VALUES (?, ?) ON CONFLICT DO NOTHING", account, key)
            .execute(&mut **writing)
            .await?;
    }
    let fields = differences(&was, &described_list(writing, key).await?);
    writing.note_setting("reporting codes", format!("set the reporting list {name}"), fields);
    Ok(())
}
