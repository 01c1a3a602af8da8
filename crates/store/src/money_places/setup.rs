//! Places of money and ways of paying as a company sets them up.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::money::Currency;
use till_core::settle::{PlaceKind, check_named, check_place};

use super::{NewPlace, add};
use crate::convert::{currency, known};
use crate::rules::{self, Rules};
use crate::writing::{Writing, changed, yes_or_no};
use crate::{Result, StoreError, chart};

/// A way of paying that leads to a place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WayOfPaying {
    /// Its code.
    pub code: String,
    /// As people say it.
    pub name: String,
    /// Whether it is offered.
    pub active: bool,
}

/// A place of money, as it is set up.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PlaceRow {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// What kind of place.
    pub kind: PlaceKind,
    /// Number of its ledger account.
    pub account: String,
    /// That account's name.
    pub account_name: String,
    /// The only currency it takes; none where it takes any.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub currency: Option<Currency>,
    /// The number the bank knows it by; none where nobody said it, or it is no bank account.
    pub bank_account: Option<String>,
    /// Ways of paying that lead to it.
    pub methods: Vec<WayOfPaying>,
}

/// A place of money to add.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PlaceForm {
    /// Its name.
    pub name: String,
    /// What kind of place.
    pub kind: PlaceKind,
    /// Number of its ledger account.
    pub account: String,
    /// The only currency it takes; none where it takes any.
    #[serde(default)]
    pub currency: Option<String>,
    /// What the way of paying that leads to it is called.
    pub method: String,
}

/// A way of paying to rename, to offer, or not to offer any more.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MethodForm {
    /// As people say it.
    pub name: String,
    /// Whether it is offered.
    pub active: bool,
}

/// The places of money, with the ways of paying that lead to each.
///
/// # Errors
/// Where the database cannot be read.
pub async fn places(connection: &mut SqliteConnection) -> Result<Vec<PlaceRow>> {
    let methods = sqlx::query!(
        r#"SELECT code, name, place AS "place!", active FROM payment_methods WHERE place IS NOT NULL ORDER BY position, code"#
    )
    .fetch_all(&mut *connection)
    .await?;
    let rows = sqlx::query!(
        "SELECT code, money_places.name, kind, account, accounts.name AS account_name, currency, bank_account
         FROM money_places JOIN accounts ON accounts.number = account ORDER BY account, code"
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            let mine = methods.iter().filter(|method| method.place == row.code);
            let way =
                |code: &String, name: &String, active| WayOfPaying { code: code.clone(), name: name.clone(), active };
            Ok(PlaceRow {
                methods: mine.map(|method| way(&method.code, &method.name, method.active != 0)).collect(),
                code: row.code,
                name: row.name,
                kind: known(&row.kind, PlaceKind::of)?,
                account: row.account,
                account_name: row.account_name,
                currency: row.currency.as_deref().map(currency).transpose()?,
                bank_account: row.bank_account,
            })
        })
        .collect()
}

/// Adds a place of money with the way of paying that leads to it. Returns its code.
///
/// # Errors
/// What the core refuses; an account that is not there, a currency without a rate.
pub async fn add_place(writing: &mut Writing<'_>, rules: &Rules, form: &PlaceForm) -> Result<String> {
    let (name, method) = (form.name.trim(), form.method.trim());
    let account = chart::account(writing, "account", form.account.trim()).await?;
    let carries = chart::carries(writing, &account.number).await?;
    let shared = sqlx::query!("SELECT name, kind FROM money_places WHERE account = ?", account.number)
        .fetch_optional(&mut **writing)
        .await?;
    let shared = match &shared {
        Some(other) => Some((other.name.as_str(), known(&other.kind, PlaceKind::of)?)),
        None => None,
    };
    check_place((name, method), (form.kind, &account), shared, (&rules.accounts, &carries))
        .map_err(|(field, why)| StoreError::invalid(field, why))?;
    let typed = form.currency.as_deref().map(str::trim).filter(|code| !code.is_empty());
    let kept_in = match typed {
        Some(code) => Some(Currency::of(code).map_err(|error| StoreError::invalid("currency", error.to_string()))?),
        None => None,
    };
    if let Some(kept_in) = kept_in
        && rules::exchange_rate(writing, rules, kept_in, rules.business_date).await?.is_none()
    {
        let sentence = format!("No rate of {kept_in} is known for today. Enter it in Setup, Goods and tax, first.");
        return Err(StoreError::invalid("currency", sentence));
    }
    let named = sqlx::query_scalar!(
        r#"SELECT EXISTS (SELECT 1 FROM payment_methods WHERE lower(name) = lower(?)) AS "named!: bool""#,
        method
    )
    .fetch_one(&mut **writing)
    .await?;
    if named {
        return Err(StoreError::invalid("method", "A way of paying is called so. Choose another name."));
    }
    let number = sqlx::query_scalar!(r#"SELECT count(*) + 1 AS "number!: i64" FROM money_places"#)
        .fetch_one(&mut **writing)
        .await?;
    let code = format!("{}_{number}", form.kind.word());
    let methods = [(code.as_str(), method)];
    let new =
        NewPlace { code: &code, name, kind: form.kind, account: &account.number, currency: kept_in, methods: &methods };
    add(writing, &new).await?;
    Ok(code)
}

/// Renames a way of paying, offers it, or offers it no more. What was received by it stays as it is.
///
/// # Errors
/// One that is not there or nobody chooses by hand, a name that is taken, the last that is offered.
pub async fn set_method(writing: &mut Writing<'_>, code: &str, form: &MethodForm) -> Result<()> {
    let name = form.name.trim();
    check_named("name", name).map_err(|(field, why)| StoreError::invalid(field, why))?;
    let card = PlaceKind::CardClearing.word();
    let before = sqlx::query!(
        "SELECT payment_methods.name, active FROM payment_methods JOIN money_places ON money_places.code = place
         WHERE payment_methods.code = ? AND kind <> ?",
        code,
        card
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| StoreError::WrongState(format!("“{code}” is no way of paying that is chosen by hand.")))?;
    let others = sqlx::query!(
        r#"SELECT coalesce(sum(active), 0) AS "offered!: i64", coalesce(sum(lower(name) = lower(?2)), 0) AS "named!: i64"
           FROM payment_methods WHERE code <> ?1"#,
        code,
        name
    )
    .fetch_one(&mut **writing)
    .await?;
    if others.named > 0 {
        return Err(StoreError::invalid("name", "A way of paying is called so. Choose another name."));
    }
    if !form.active && others.offered == 0 {
        return Err(StoreError::invalid("active", "It is the only way of paying that is offered. Add another first."));
    }
    sqlx::query!("UPDATE payment_methods SET name = ?, active = ? WHERE code = ?", name, form.active, code)
        .execute(&mut **writing)
        .await?;
    let mut fields = changed("name", Some(&before.name), Some(name));
    fields.extend(changed("offered", Some(&yes_or_no(before.active != 0)), Some(&yes_or_no(form.active))));
    if !fields.is_empty() {
        writing.note_setting(name, format!("changed the way of paying {name}"), fields);
    }
    Ok(())
}
