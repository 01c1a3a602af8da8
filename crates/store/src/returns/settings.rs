//! What a company calls its reasons and dispositions, and for how long a return may arrive.

use chrono::{Days, NaiveDate};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::returns::{Disposition, ProofPolicy, ReturnLimit, ReturnOutcome, ReturnReason, check_code};

use crate::convert::known;
use crate::rules::Rules;
use crate::writing::{Writing, changed, set, yes_or_no};
use crate::{Result, StoreError};

/// Reasons, dispositions, days.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnSettings {
    /// Why goods come back, in their order.
    pub reasons: Vec<ReturnReason>,
    /// What becomes of them.
    pub dispositions: Vec<Disposition>,
    /// For how many days a return may arrive.
    pub days: i64,
    /// Until when one may that is authorized today.
    pub until: NaiveDate,
    /// What is asked of a return that points at no document.
    pub proof: ProofPolicy,
    /// How much of an item may come back.
    pub limit: ReturnLimit,
}

/// What the company asks of returns.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnRules {
    /// For how many days a return may arrive.
    pub days: i64,
    /// What is asked of a return that points at no document.
    pub proof: ProofPolicy,
    /// How much of an item may come back.
    pub limit: ReturnLimit,
}

/// A reason to add, or to change.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReasonForm {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// Whether it is offered.
    pub active: bool,
}

/// A disposition to add, or to change. What it leads to stays as it was.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DispositionForm {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// What becomes of the goods.
    pub outcome: ReturnOutcome,
    /// Whether it is offered.
    pub active: bool,
}

/// The last day a return may arrive on that is authorized today.
pub(super) fn last_day(rules: &Rules) -> NaiveDate {
    let days = u64::try_from(rules.return_days).unwrap_or(0);
    rules.business_date.checked_add_days(Days::new(days)).unwrap_or(rules.business_date)
}

/// The settings.
///
/// # Errors
/// Where the database cannot be read.
pub async fn settings(connection: &mut SqliteConnection, rules: &Rules) -> Result<ReturnSettings> {
    Ok(ReturnSettings {
        reasons: reasons(connection).await?,
        dispositions: dispositions(connection).await?,
        days: rules.return_days,
        until: last_day(rules),
        proof: rules.return_proof,
        limit: rules.return_limit,
    })
}

pub(super) async fn reasons(connection: &mut SqliteConnection) -> Result<Vec<ReturnReason>> {
    Ok(sqlx::query!("SELECT code, name, active FROM return_reasons ORDER BY position, code")
        .fetch_all(connection)
        .await?
        .into_iter()
        .map(|row| ReturnReason { code: row.code, name: row.name, active: row.active != 0 })
        .collect())
}

pub(super) async fn dispositions(connection: &mut SqliteConnection) -> Result<Vec<Disposition>> {
    sqlx::query!("SELECT code, name, outcome, active FROM dispositions ORDER BY position, code")
        .fetch_all(connection)
        .await?
        .into_iter()
        .map(|row| {
            Ok(Disposition {
                code: row.code,
                name: row.name,
                outcome: known(&row.outcome, ReturnOutcome::of)?,
                active: row.active != 0,
            })
        })
        .collect()
}

/// Adds a reason, or changes one.
///
/// # Errors
/// A code or name that cannot be.
pub async fn set_reason(writing: &mut Writing<'_>, form: &ReasonForm) -> Result<()> {
    let (code, name) = (form.code.trim(), form.name.trim());
    check_code(code, name).map_err(|(field, why)| StoreError::invalid(field, why))?;
    let before = sqlx::query!("SELECT name, active FROM return_reasons WHERE code = ?", code)
        .fetch_optional(&mut **writing)
        .await?;
    sqlx::query!(
        "INSERT INTO return_reasons (code, name, position, active)
         VALUES (?1, ?2, (SELECT coalesce(max(position), 0) + 1 FROM return_reasons), ?3)
         ON CONFLICT (code) DO UPDATE SET name = excluded.name, active = excluded.active",
        code,
        name,
        form.active
    )
    .execute(&mut **writing)
    .await?;
    let mut fields = changed("name", before.as_ref().map(|before| before.name.as_str()), Some(name));
    let was = before.map(|before| yes_or_no(before.active != 0));
    fields.extend(changed("offered", was.as_deref(), Some(&yes_or_no(form.active))));
    writing.note_setting("return reasons", format!("set the reason {code} of returns"), fields);
    Ok(())
}

/// Adds a disposition, or changes the name of one.
///
/// # Errors
/// A code or name that cannot be; another outcome for one that is there.
pub async fn set_disposition(writing: &mut Writing<'_>, form: &DispositionForm) -> Result<()> {
    let (code, name) = (form.code.trim(), form.name.trim());
    check_code(code, name).map_err(|(field, why)| StoreError::invalid(field, why))?;
    let outcome = form.outcome.word();
    let before = sqlx::query!("SELECT name, outcome, active FROM dispositions WHERE code = ?", code)
        .fetch_optional(&mut **writing)
        .await?;
    if before.as_ref().is_some_and(|before| before.outcome != outcome) {
        let sentence = "What a disposition leads to stays. Add another one, and stop offering this one.";
        return Err(StoreError::invalid("outcome", sentence));
    }
    sqlx::query!(
        "INSERT INTO dispositions (code, name, outcome, position, active)
         VALUES (?1, ?2, ?3, (SELECT coalesce(max(position), 0) + 1 FROM dispositions), ?4)
         ON CONFLICT (code) DO UPDATE SET name = excluded.name, active = excluded.active",
        code,
        name,
        outcome,
        form.active
    )
    .execute(&mut **writing)
    .await?;
    let mut fields = changed("name", before.as_ref().map(|before| before.name.as_str()), Some(name));
    let was = before.as_ref().map(|before| yes_or_no(before.active != 0));
    fields.extend(changed("offered", was.as_deref(), Some(&yes_or_no(form.active))));
    if before.is_none() {
        fields.push(set("outcome", form.outcome.name()));
    }
    writing.note_setting("dispositions", format!("set the disposition {code} of returns"), fields);
    Ok(())
}

/// Sets for how many days a return may arrive, and what is asked of it.
///
/// # Errors
/// Less than a day, more than two years.
pub async fn set_rules(writing: &mut Writing<'_>, rules: &Rules, new: &ReturnRules) -> Result<()> {
    if !(1..=730).contains(&new.days) {
        return Err(StoreError::invalid("days", "A return may arrive for 1 to 730 days."));
    }
    let (proof, limit) = (new.proof.word(), new.limit.word());
    sqlx::query!(
        "UPDATE company SET return_days = ?, return_proof = ?, return_limit = ?, version = version + 1",
        new.days,
        proof,
        limit
    )
    .execute(&mut **writing)
    .await?;
    let mut fields = changed("days", Some(&rules.return_days.to_string()), Some(&new.days.to_string()));
    fields.extend(changed("proof of purchase", Some(rules.return_proof.word()), Some(proof)));
    fields.extend(changed("at most", Some(rules.return_limit.word()), Some(limit)));
    writing.note_setting("returns", "set what is asked of returns", fields);
    Ok(())
}
