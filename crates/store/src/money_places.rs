//! Places of money and ways of paying: rows, not code.

mod setup;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::{Account, AccountType};
use till_core::money::Currency;
use till_core::room::Movement;
use till_core::settle::{Method, MoneyPlace, PlaceKind};

use crate::convert::{currency, known};
use crate::writing::{Writing, set};
use crate::{Result, StoreError};

pub use setup::{MethodForm, PlaceForm, PlaceRow, WayOfPaying, add_place, places, set_method};

/// A way of paying, for choosing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PaymentMethod {
    /// Its code.
    pub code: String,
    /// As people say it.
    pub name: String,
    /// The place its money goes to.
    pub place: String,
    /// What kind of place that is.
    pub kind: PlaceKind,
    /// The only currency it takes; none where it takes any.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub currency: Option<Currency>,
}

/// The ways of paying one can choose from.
///
/// # Errors
/// Where the database cannot be read.
pub async fn methods(connection: &mut SqliteConnection) -> Result<Vec<PaymentMethod>> {
    sqlx::query!(
        r#"SELECT payment_methods.code, payment_methods.name, money_places.name AS place, kind, currency
           FROM payment_methods JOIN money_places ON money_places.code = place WHERE active ORDER BY position, payment_methods.code"#
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(PaymentMethod {
            code: row.code,
            name: row.name,
            place: row.place,
            kind: known(&row.kind, PlaceKind::of)?,
            currency: row.currency.as_deref().map(currency).transpose()?,
        })
    })
    .collect()
}

/// The way of paying with a code, one that is still used.
///
/// # Errors
/// At `method`, where there is none.
pub(crate) async fn method(connection: &mut SqliteConnection, code: &str) -> Result<Method> {
    let row = sqlx::query!(r#"SELECT name, place AS "place!" FROM payment_methods WHERE code = ? AND active"#, code)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| {
            StoreError::invalid("method", format!("There is no way of paying “{code}”. Choose one of the list."))
        })?;
    let place = place(connection, &row.place).await?;
    Ok(Method { code: code.to_owned(), name: row.name, place })
}

/// The way money comes from captured cards. Nobody chooses it by hand.
pub(crate) async fn card(connection: &mut SqliteConnection) -> Result<Method> {
    let row = sqlx::query!(
        r#"SELECT payment_methods.code, payment_methods.name, place AS "place!"
           FROM payment_methods JOIN money_places ON money_places.code = place WHERE kind = 'card_clearing'
           ORDER BY payment_methods.position LIMIT 1"#
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| {
        StoreError::WrongState("No account is chosen for card clearing. Setup, Accounts has it.".to_owned())
    })?;
    let place = place(connection, &row.place).await?;
    Ok(Method { code: row.code, name: row.name, place })
}

/// Adds the place where captured cards lie until they are paid out, with its way of paying: not to be chosen by hand.
///
/// # Errors
/// Where no account serves card clearing.
pub(crate) async fn add_cards(writing: &mut Writing<'_>) -> Result<()> {
    let accounts = crate::rules::accounts(writing).await?;
    let account = accounts
        .account(PlaceKind::CardClearing.purpose(), None, None)
        .map_err(|why| StoreError::WrongState(why.to_string()))?
        .number
        .clone();
    let new = NewPlace {
        code: "cards",
        name: "Card clearing",
        kind: PlaceKind::CardClearing,
        account: &account,
        currency: None,
        methods: &[("card", "card")],
    };
    add(writing, &new).await?;
    sqlx::query!("UPDATE payment_methods SET active = 0 WHERE code = 'card'").execute(&mut **writing).await?;
    Ok(())
}

/// A place of money.
pub(crate) async fn place(connection: &mut SqliteConnection, code: &str) -> Result<MoneyPlace> {
    let row = sqlx::query!(
        "SELECT money_places.name, kind, currency, number, accounts.name AS account_name, account_type
         FROM money_places JOIN accounts ON accounts.number = account WHERE code = ?",
        code
    )
    .fetch_one(connection)
    .await?;
    Ok(MoneyPlace {
        code: code.to_owned(),
        name: row.name,
        kind: known(&row.kind, PlaceKind::of)?,
        account: Account {
            number: row.number,
            name: row.account_name,
            account_type: known(&row.account_type, AccountType::of)?,
        },
        currency: row.currency.as_deref().map(currency).transpose()?,
    })
}

/// What came to a place of money and left it, in base currency.
pub(crate) async fn movements(connection: &mut SqliteConnection, place: &str) -> Result<Vec<Movement>> {
    let rows = sqlx::query!(
        r#"SELECT day AS "day!: NaiveDate", base_minor AS "amount!: i64" FROM place_moves WHERE place = ?"#,
        place
    )
    .fetch_all(connection)
    .await?;
    Ok(rows.into_iter().map(|row| Movement::new(row.day, row.amount)).collect())
}

/// A place of money to add, and the ways of paying that lead to it.
#[derive(Debug, Clone)]
pub struct NewPlace<'a> {
    /// Its code.
    pub code: &'a str,
    /// Its name.
    pub name: &'a str,
    /// What kind of place.
    pub kind: PlaceKind,
    /// Its ledger account: an asset.
    pub account: &'a str,
    /// The only currency it takes; none where it takes any.
    pub currency: Option<Currency>,
    /// Ways of paying that lead to it: code and name.
    pub methods: &'a [(&'a str, &'a str)],
}

/// Adds a place of money with its ways of paying.
///
/// # Errors
/// An account that is not there, or is no asset.
pub async fn add(writing: &mut Writing<'_>, new: &NewPlace<'_>) -> Result<()> {
    let account_type = sqlx::query_scalar!("SELECT account_type FROM accounts WHERE number = ?", new.account)
        .fetch_optional(&mut **writing)
        .await?;
    if account_type.as_deref() != Some(AccountType::Asset.word()) {
        return Err(StoreError::invalid("account", format!("{} is no asset account of these books.", new.account)));
    }
    let (kind, currency) = (new.kind.word(), new.currency.map(|currency| currency.code().to_owned()));
    sqlx::query!(
        "INSERT INTO money_places (code, name, kind, account, currency) VALUES (?, ?, ?, ?, ?)",
        new.code,
        new.name,
        kind,
        new.account,
        currency
    )
    .execute(&mut **writing)
    .await?;
    for (code, name) in new.methods {
        sqlx::query!(
            "INSERT INTO payment_methods (code, name, position, place)
             VALUES (?1, ?2, (SELECT count(*) + 1 FROM payment_methods), ?3)",
            code,
            name,
            new.code
        )
        .execute(&mut **writing)
        .await?;
    }
    let fields = vec![set("account", new.account)];
    writing.note_setting(new.name, format!("added {} as a place of money", new.name), fields);
    Ok(())
}
