//! Recipes: what a run is made from, kept to be repeated.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::RunId;
use till_core::merge::{Fields, differences};

use super::{RunForm, make};
use crate::convert::json;
use crate::rules::Rules;
use crate::writing::{Writing, fields};
use crate::{Result, StoreError};

/// What a run is made from, kept to be repeated.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Recipe {
    /// Its id; none for a new one.
    #[serde(default)]
    pub id: Option<i64>,
    /// Its name.
    pub name: String,
    /// The day of the week it is meant for, 1 for Monday.
    #[serde(default)]
    pub weekday: Option<u8>,
    /// What it takes and how it puts it together.
    pub form: RunForm,
    /// Names of its customers, where it has only some.
    #[serde(default)]
    pub customer_names: Vec<String>,
    /// Whether today is its day.
    #[serde(default)]
    pub due: bool,
    /// Changes with every change.
    #[serde(default)]
    pub version: i64,
}

/// Recipes, by name.
///
/// # Errors
/// Where the database cannot be read.
pub async fn recipes(connection: &mut SqliteConnection, rules: &Rules) -> Result<Vec<Recipe>> {
    use chrono::Datelike;
    let today = rules.business_date.weekday().number_from_monday();
    let rows = sqlx::query!("SELECT id, name, form, weekday, version FROM recipes ORDER BY name")
        .fetch_all(&mut *connection)
        .await?;
    let mut found = Vec::with_capacity(rows.len());
    for row in rows {
        let form: RunForm = serde_json::from_str(&row.form).map_err(|error| StoreError::Corrupt(error.to_string()))?;
        let ids = json(&form.customers)?;
        let names = sqlx::query_scalar!(
            "SELECT name FROM customers WHERE id IN (SELECT value FROM jsonb_each(?)) ORDER BY name",
            ids
        )
        .fetch_all(&mut *connection)
        .await?;
        let weekday = row.weekday.and_then(|day| u8::try_from(day).ok());
        found.push(Recipe {
            id: Some(row.id),
            name: row.name,
            due: weekday.is_some_and(|day| u32::from(day) == today),
            weekday,
            form,
            customer_names: names,
            version: row.version,
        });
    }
    Ok(found)
}

/// A recipe as named fields, for the record; nothing where there is none.
async fn described(connection: &mut SqliteConnection, id: i64) -> Result<Fields> {
    let row = sqlx::query!("SELECT name, form, weekday FROM recipes WHERE id = ?", id)
        .fetch_optional(&mut *connection)
        .await?;
    let Some(row) = row else { return Ok(Fields::new()) };
    let form: RunForm = serde_json::from_str(&row.form).map_err(|error| StoreError::Corrupt(error.to_string()))?;
    let customers = json(&form.customers)?;
    let names = sqlx::query_scalar!(
        "SELECT name FROM customers WHERE id IN (SELECT value FROM json_each(?)) ORDER BY name",
        customers
    )
    .fetch_all(connection)
    .await?;
    let number = |number: Option<i64>| number.map(|number| number.to_string()).unwrap_or_default();
    let weekdays = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
    let day = row.weekday.and_then(|day| usize::try_from(day - 1).ok()).and_then(|day| weekdays.get(day));
    Ok(fields([
        ("name", row.name),
        ("day", day.copied().unwrap_or_default().to_owned()),
        ("customers", names.join(", ")),
        ("put together", form.combine.word().replace('_', " ")),
        ("with the words", form.filter.search.unwrap_or_default()),
        ("at least days old", number(form.filter.over_days)),
        ("at most days old", number(form.filter.up_to_days)),
        ("currency", form.filter.currency.unwrap_or_default()),
        ("billed", form.filter.habit.map(|habit| habit.word().replace('_', " ")).unwrap_or_default()),
        ("worth at least", number(form.filter.at_least)),
    ]))
}

/// Keeps a recipe, new or changed. Returns its id.
///
/// # Errors
/// [`StoreError::Stale`], a name that is taken, a day that is none.
pub async fn keep_recipe(writing: &mut Writing<'_>, recipe: &Recipe) -> Result<i64> {
    let name = recipe.name.trim();
    if name.is_empty() || name.chars().count() > 80 {
        return Err(StoreError::invalid("name", "Give the recurring run a name of 80 characters at most."));
    }
    if recipe.weekday.is_some_and(|day| !(1..=7).contains(&day)) {
        return Err(StoreError::invalid("weekday", "A day of the week is 1, Monday, to 7, Sunday."));
    }
    let own = recipe.id.unwrap_or(-1);
    let taken = sqlx::query_scalar!("SELECT id FROM recipes WHERE name = ? AND id <> ?", name, own)
        .fetch_optional(&mut **writing)
        .await?;
    if taken.is_some() {
        return Err(StoreError::invalid(
            "name",
            format!("There is a recurring run {name} already. Choose another name."),
        ));
    }
    // What is picked by hand is of today; a recipe keeps what it can find again.
    let form = json(&RunForm {
        name: None,
        picks: Vec::new(),
        order_picks: Vec::new(),
        document_date: None,
        posting_date: None,
        ..recipe.form.clone()
    })?;
    let was = described(writing, own).await?;
    let id = match recipe.id {
        None => {
            sqlx::query_scalar!(
                r#"INSERT INTO recipes (name, form, weekday) VALUES (?, ?, ?) RETURNING id AS "id!""#,
                name,
                form,
                recipe.weekday
            )
            .fetch_one(&mut **writing)
            .await?
        }
        Some(id) => {
            let current = sqlx::query_scalar!("SELECT version FROM recipes WHERE id = ?", id)
                .fetch_optional(&mut **writing)
                .await?
                .ok_or_else(|| StoreError::WrongState("This recurring run was deleted already.".to_owned()))?;
            if current != recipe.version {
                return Err(StoreError::Stale { what: name.to_owned(), current });
            }
            sqlx::query!(
                "UPDATE recipes SET name = ?, form = ?, weekday = ?, version = version + 1 WHERE id = ?",
                name,
                form,
                recipe.weekday,
                id
            )
            .execute(&mut **writing)
            .await?;
            id
        }
    };
    let changes = differences(&was, &described(writing, id).await?);
    writing.note_setting("recurring run", format!("saved the recurring run “{name}”"), changes);
    Ok(id)
}

/// Drops a recipe; its runs stay.
///
/// # Errors
/// Where there is none.
pub async fn drop_recipe(writing: &mut Writing<'_>, id: i64) -> Result<()> {
    let was = described(writing, id).await?;
    sqlx::query!("UPDATE billing_runs SET recipe_id = NULL WHERE recipe_id = ?", id).execute(&mut **writing).await?;
    let name = sqlx::query_scalar!("DELETE FROM recipes WHERE id = ? RETURNING name", id)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::WrongState("This recurring run was deleted already.".to_owned()))?;
    writing.note_setting(
        "recurring run",
        format!("deleted the recurring run “{name}”"),
        differences(&was, &Fields::new()),
    );
    Ok(())
}

/// Makes a run as a recipe says.
///
/// # Errors
/// As [`make`].
pub async fn repeat(writing: &mut Writing<'_>, rules: &Rules, id: i64) -> Result<RunId> {
    let recipe = recipes(writing, rules).await?.into_iter().find(|recipe| recipe.id == Some(id));
    let recipe = recipe.ok_or_else(|| StoreError::WrongState("This recurring run was deleted already.".to_owned()))?;
    let name = format!("{}, {}", recipe.name, till_core::calendar::words(rules.business_date));
    make(writing, rules, &RunForm { name: Some(name), ..recipe.form }, Some(id)).await
}
