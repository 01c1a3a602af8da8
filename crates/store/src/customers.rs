//! Customers and their accounts.

mod form;
mod places;
mod stop;
mod view;

use std::collections::{BTreeMap, HashMap};

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::Terms;
use till_core::ids::{CustomerId, DocumentKind};
use till_core::invoice::CustomerFacts;
use till_core::money::{Currency, Money};

use crate::convert::{currency, json, terms, terms_json};
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError};

pub use till_core::invoice::{BillingHabit as BillingBy, Delivery};

pub use form::{CustomerForm, StatementCycle, form, save};
pub use places::{Contact, ShipTo, contacts, set_contact, set_ship_to, ship_tos};
pub use stop::{Outcome, lift_stop, put_on_stop};
pub use view::{AccountEvent, CreditOpen, CustomerView, EarlyLeft, OpenItem, view};

/// A customer to add.
#[derive(Debug, Clone)]
pub struct NewCustomer<'a> {
    /// Its number.
    pub number: &'a str,
    /// Its name.
    pub name: &'a str,
    /// Its class, for the account map.
    pub class: Option<&'a str>,
    /// Street, place.
    pub address: &'a str,
    /// Two letters of ISO 3166.
    pub country: &'a str,
    /// Its tax id.
    pub tax_id: Option<&'a str>,
    /// Its currency.
    pub currency: Currency,
    /// Its payment terms.
    pub terms: Terms,
    /// What it may owe, in base currency.
    pub credit_limit: Option<Money>,
    /// Why it is on hold.
    pub stop_reason: Option<&'a str>,
    /// Whether it wants its order number on invoices.
    pub needs_order_number: bool,
}

/// Adds a customer.
///
/// # Errors
/// Where the number is taken.
pub async fn add(writing: &mut Writing<'_>, new: &NewCustomer<'_>) -> Result<CustomerId> {
    let terms = terms_json(&new.terms)?;
    let code = new.currency.code();
    let limit = new.credit_limit.map(|limit| limit.0);
    let taken = sqlx::query_scalar!("SELECT id FROM customers WHERE number = ?", new.number)
        .fetch_optional(&mut **writing)
        .await?;
    if taken.is_some() {
        return Err(StoreError::invalid("number", format!("Customer number {} is taken. Choose another.", new.number)));
    }
    let id = sqlx::query_scalar!(
        "INSERT INTO customers (number, name, class, address, country, tax_id, currency, terms, credit_limit_minor,
                                stop_reason, needs_order_number)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id AS \"id!\"",
        new.number,
        new.name,
        new.class,
        new.address,
        new.country,
        new.tax_id,
        code,
        terms,
        limit,
        new.stop_reason,
        new.needs_order_number
    )
    .fetch_one(&mut **writing)
    .await?;
    form::add_main_ship_to(writing, id, new.name, new.address, new.country).await?;
    let words = format!("added customer {}", new.number);
    let fields = vec![set("name", new.name), set("currency", code), set("terms", new.terms.words())];
    writing.note_on((DocumentKind::Customer, id, new.number), "customer_added", words, Some(1), fields);
    Ok(CustomerId(id))
}

/// The customer as the core wants it, with its currency.
pub(crate) async fn facts(connection: &mut SqliteConnection, id: CustomerId) -> Result<(CustomerFacts, Currency)> {
    let mut found = facts_of(connection, &[id]).await?;
    let known = found.remove(&id).ok_or_else(|| StoreError::not_found(DocumentKind::Customer, id))?;
    Ok((known.facts, known.currency))
}

/// A customer with what documents of its own take from it.
#[derive(Debug, Clone)]
pub(crate) struct Known {
    pub(crate) facts: CustomerFacts,
    pub(crate) currency: Currency,
    pub(crate) terms: Terms,
}

/// Customers as the core wants them.
pub(crate) async fn facts_of(
    connection: &mut SqliteConnection,
    ids: &[CustomerId],
) -> Result<HashMap<CustomerId, Known>> {
    let wanted = json(&ids)?;
    sqlx::query!(
        "SELECT id, number, name, class, tax_id, currency, terms, needs_order_number, stop_reason, owes_base_minor,
                credit_limit_minor, delivery, email, gross_priced
         FROM customers WHERE id IN (SELECT value FROM jsonb_each(?))",
        wanted
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let id = CustomerId(row.id);
        let facts = CustomerFacts {
            id,
            number: row.number,
            name: row.name,
            class: row.class,
            tax_id: row.tax_id,
            needs_order_number: row.needs_order_number != 0,
            stop_reason: row.stop_reason,
            owes: Money(row.owes_base_minor),
            credit_limit: row.credit_limit_minor.map(Money),
            delivery: form::of_word(&row.delivery)?,
            email: row.email,
            gross_priced: row.gross_priced != 0,
        };
        Ok((id, Known { facts, currency: currency(&row.currency)?, terms: terms(&row.terms)? }))
    })
    .collect()
}

/// A customer in a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CustomerRow {
    /// Its id.
    pub id: CustomerId,
    /// Its number.
    pub number: String,
    /// Its name.
    pub name: String,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What it owes, in base currency.
    pub owes: Money,
    /// How many of its invoices are open.
    pub open_invoices: i64,
}

/// All customers by name; with `search`, those whose name or number holds it.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, search: Option<&str>) -> Result<Vec<CustomerRow>> {
    let like = search.map(crate::find::pattern);
    let rows = sqlx::query!(
        r#"SELECT id, number, name, currency, owes_base_minor,
                  (SELECT count(*) FROM open_items WHERE customer_id = customers.id AND open_minor > 0 AND side = 'owed_to_us') AS "open_invoices!: i64"
           FROM customers WHERE ?1 IS NULL OR name LIKE ?1 ESCAPE '\' OR number LIKE ?1 ESCAPE '\' ORDER BY name LIMIT 500"#,
        like
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            Ok(CustomerRow {
                id: CustomerId(row.id),
                number: row.number,
                name: row.name,
                currency: currency(&row.currency)?,
                owes: Money(row.owes_base_minor),
                open_invoices: row.open_invoices,
            })
        })
        .collect()
}

/// Sets or clears a customer's tax id.
///
/// # Errors
/// [`StoreError::Stale`] where someone changed the customer since `version`.
pub async fn set_tax_id(writing: &mut Writing<'_>, id: CustomerId, version: i64, tax_id: Option<&str>) -> Result<i64> {
    let row = sqlx::query!("SELECT number, name, tax_id, version FROM customers WHERE id = ?", id.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, id))?;
    if row.version != version {
        return Err(StoreError::Stale { what: row.name, current: row.version });
    }
    let tax_id = tax_id.map(str::trim).filter(|text| !text.is_empty());
    if tax_id.is_some_and(|text| text.len() > 20 || !text.chars().all(|c| c.is_ascii_alphanumeric())) {
        return Err(StoreError::invalid(
            "tax_id",
            "A tax id has letters and digits only, 20 at most, such as FR12345678901.",
        ));
    }
    sqlx::query!("UPDATE customers SET tax_id = ?, version = version + 1 WHERE id = ?", tax_id, id.0)
        .execute(&mut **writing)
        .await?;
    writing.note_on(
        (DocumentKind::Customer, id.0, &row.number),
        "customer_changed",
        format!("changed {}", row.name),
        Some(version + 1),
        changed("tax id", row.tax_id.as_deref(), tax_id),
    );
    Ok(version + 1)
}

/// Adds to what customers owe.
pub(crate) async fn add_owed_to(
    connection: &mut SqliteConnection,
    amounts: &BTreeMap<CustomerId, Money>,
) -> Result<()> {
    let amounts = json(&amounts.iter().collect::<Vec<_>>())?;
    sqlx::query!(
        "UPDATE customers SET owes_base_minor = owes_base_minor + (new.value ->> 1)
         FROM jsonb_each(?) AS new WHERE customers.id = new.value ->> 0",
        amounts
    )
    .execute(connection)
    .await?;
    Ok(())
}
