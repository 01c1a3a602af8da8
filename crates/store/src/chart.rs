//! The chart of accounts and the account map, as they are seen and changed in the set-up.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::{Account, AccountType, Purpose, check_account, may_lead};
use till_core::settle::PlaceKind;

use crate::convert::known;
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError, rules};

/// An account of the chart.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ChartAccount {
    /// Its number.
    pub number: String,
    /// Its name.
    pub name: String,
    /// Its type.
    pub account_type: AccountType,
    /// Whether entries stand on it.
    pub used: bool,
}

/// A row of the account map.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MapRow {
    /// For which purpose.
    pub purpose: Purpose,
    /// The purpose as people say it.
    pub name: String,
    /// The type of account it demands.
    pub demands: AccountType,
    /// For items of this class; none for any.
    pub item_class: Option<String>,
    /// For customers of this class; none for any.
    pub customer_class: Option<String>,
    /// The account it leads to; none where it leads nowhere yet.
    pub account: Option<String>,
}

/// The chart of accounts and the account map.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ChartView {
    /// The accounts, by number.
    pub accounts: Vec<ChartAccount>,
    /// The map: every purpose, and the classes that go elsewhere.
    pub map: Vec<MapRow>,
    /// Classes that items have.
    pub item_classes: Vec<String>,
    /// Classes that customers have.
    pub customer_classes: Vec<String>,
}

/// An account to add, or another name of one.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewChartAccount {
    /// Its number.
    pub number: String,
    /// Its name.
    pub name: String,
    /// Its type.
    pub account_type: AccountType,
}

/// Where a purpose is to lead.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewMapRow {
    /// For which purpose.
    pub purpose: Purpose,
    /// For items of this class; none for any.
    #[serde(default)]
    pub item_class: Option<String>,
    /// For customers of this class; none for any.
    #[serde(default)]
    pub customer_class: Option<String>,
    /// The account; none to take the row of a class out of the map.
    #[serde(default)]
    pub account: Option<String>,
}

/// The chart and the map.
///
/// # Errors
/// Where the database cannot be read.
pub async fn view(connection: &mut SqliteConnection) -> Result<ChartView> {
    let accounts = sqlx::query!(
        r#"SELECT number, name, account_type, EXISTS (SELECT 1 FROM entry_lines WHERE account = number) AS "used!: bool"
           FROM accounts ORDER BY number"#
    )
    .fetch_all(&mut *connection)
    .await?
    .into_iter()
    .map(|row| {
        let account_type = known(&row.account_type, AccountType::of)?;
        Ok(ChartAccount { number: row.number, name: row.name, account_type, used: row.used })
    })
    .collect::<Result<_>>()?;
    let rows = rules::accounts(connection).await?.0;
    let mut map = Vec::with_capacity(rows.len());
    for purpose in Purpose::ALL {
        let row = |item_class, customer_class, account| MapRow {
            purpose: *purpose,
            name: purpose.name(),
            demands: purpose.demands(),
            item_class,
            customer_class,
            account,
        };
        let mut mine: Vec<_> = rows.iter().filter(|rule| rule.purpose == *purpose).collect();
        mine.sort_by_key(|rule| (rule.item_class.clone(), rule.customer_class.clone()));
        if !mine.iter().any(|rule| rule.item_class.is_none() && rule.customer_class.is_none()) {
            map.push(row(None, None, None));
        }
        map.extend(
            mine.into_iter().map(|rule| {
                row(rule.item_class.clone(), rule.customer_class.clone(), Some(rule.account.number.clone()))
            }),
        );
    }
    let item_classes =
        sqlx::query_scalar!("SELECT DISTINCT class FROM items ORDER BY class").fetch_all(&mut *connection).await?;
    let customer_classes = sqlx::query_scalar!(
        r#"SELECT DISTINCT class AS "class!" FROM customers WHERE class IS NOT NULL ORDER BY class"#
    )
    .fetch_all(connection)
    .await?;
    Ok(ChartView { accounts, map, item_classes, customer_classes })
}

pub(crate) async fn account(connection: &mut SqliteConnection, field: &str, number: &str) -> Result<Account> {
    let row = sqlx::query!("SELECT number, name, account_type FROM accounts WHERE number = ?", number)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::invalid(field, format!("There is no account {number}. Add it first.")))?;
    Ok(Account { number: row.number, name: row.name, account_type: known(&row.account_type, AccountType::of)? })
}

/// Adds an account.
///
/// # Errors
/// A number that is taken, a number or name that cannot be.
pub async fn add(writing: &mut Writing<'_>, new: &NewChartAccount) -> Result<()> {
    let (number, name) = (new.number.trim(), new.name.trim());
    check_account(number, name).map_err(|(field, sentence)| StoreError::invalid(field, sentence))?;
    if let Ok(known) = account(writing, "number", number).await {
        return Err(StoreError::invalid("number", format!("{number} is {} already. Take another number.", known.name)));
    }
    let account_type = new.account_type.word();
    sqlx::query!("INSERT INTO accounts (number, name, account_type) VALUES (?, ?, ?)", number, name, account_type)
        .execute(&mut **writing)
        .await?;
    let changes = vec![set("number", number), set("name", name), set("type", account_type)];
    writing.note_setting("accounts", format!("added account {number} {name}"), changes);
    Ok(())
}

/// Gives an account another name. Its number and type stay: entries stand on it.
///
/// # Errors
/// An account that is not there, a name that cannot be.
pub async fn rename(writing: &mut Writing<'_>, number: &str, name: &str) -> Result<()> {
    let was = account(writing, "number", number).await?;
    let name = name.trim();
    check_account(number, name).map_err(|(field, sentence)| StoreError::invalid(field, sentence))?;
    sqlx::query!("UPDATE accounts SET name = ? WHERE number = ?", name, number).execute(&mut **writing).await?;
    let changes = changed("name", Some(&was.name), Some(name));
    writing.note_setting("accounts", format!("account {number} is called {name}"), changes);
    Ok(())
}

/// What an account carries besides the map: lines of entries, places of money.
pub(crate) async fn carries(connection: &mut SqliteConnection, number: &str) -> Result<Vec<Purpose>> {
    let posted = sqlx::query_scalar!("SELECT DISTINCT purpose FROM entry_lines WHERE account = ?", number)
        .fetch_all(&mut *connection)
        .await?;
    let places = sqlx::query_scalar!("SELECT DISTINCT kind FROM money_places WHERE account = ?", number)
        .fetch_all(connection)
        .await?;
    let mut carries: Vec<Purpose> = posted.iter().map(|word| known(word, Purpose::of)).collect::<Result<_>>()?;
    for kind in places {
        carries.push(known(&kind, PlaceKind::of)?.purpose());
    }
    Ok(carries)
}

fn class(typed: Option<&str>) -> Option<String> {
    typed.map(str::trim).filter(|class| !class.is_empty()).map(str::to_owned)
}

/// Leads a purpose to an account, for any class or for one of items or customers; without an account, takes the row
/// of a class out, so that the row for any holds again.
///
/// # Errors
/// What [`may_lead`] refuses; an account that is not there; the row for any class, which stays.
pub async fn lead(writing: &mut Writing<'_>, new: &NewMapRow) -> Result<()> {
    let (item_class, customer_class) = (class(new.item_class.as_deref()), class(new.customer_class.as_deref()));
    let map = rules::accounts(writing).await?;
    let same = |rule: &&till_core::accounts::AccountRule| {
        rule.purpose == new.purpose && rule.item_class == item_class && rule.customer_class == customer_class
    };
    let was = map.0.iter().find(same).map(|rule| rule.account.number.clone());
    let word = new.purpose.word();
    let classes: Vec<&str> = item_class.iter().chain(&customer_class).map(String::as_str).collect();
    let whose = if classes.is_empty() { String::new() } else { format!(" of {}", classes.join(", ")) };
    let what = format!("{}{whose}", new.purpose.name());
    let Some(number) = class(new.account.as_deref()) else {
        if classes.is_empty() {
            let sentence = format!("{} always leads to an account. Choose another one instead.", new.purpose.name());
            return Err(StoreError::invalid("account", sentence));
        }
        sqlx::query!(
            "DELETE FROM account_map WHERE purpose = ? AND item_class IS ? AND customer_class IS ?",
            word,
            item_class,
            customer_class
        )
        .execute(&mut **writing)
        .await?;
        let changes = changed(&what, was.as_deref(), None);
        writing.note_setting("account map", format!("{what} leads where the rest does"), changes);
        return Ok(());
    };
    let to = account(writing, "account", &number).await?;
    let carries = carries(writing, &number).await?;
    may_lead(&map, new.purpose, &to, &carries).map_err(|sentence| StoreError::invalid("account", sentence))?;
    sqlx::query!(
        "DELETE FROM account_map WHERE purpose = ?1 AND item_class IS ?2 AND customer_class IS ?3",
        word,
        item_class,
        customer_class
    )
    .execute(&mut **writing)
    .await?;
    sqlx::query!(
        "INSERT INTO account_map (purpose, item_class, customer_class, account) VALUES (?, ?, ?, ?)",
        word,
        item_class,
        customer_class,
        number
    )
    .execute(&mut **writing)
    .await?;
    let changes = changed(&what, was.as_deref(), Some(&number));
    writing.note_setting("account map", format!("{what} leads to {number} {}", to.name), changes);
    Ok(())
}
