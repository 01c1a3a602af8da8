//! Customers and their accounts.

mod form;

use std::collections::{BTreeMap, HashMap};

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::Terms;
use till_core::day_sheet::Ageing;
use till_core::ids::{ApprovalId, CustomerId, DocumentKind, DocumentRef, InvoiceId};
use till_core::invoice::CustomerFacts;
use till_core::money::{Currency, Money};
use till_core::people::check_reason;

use crate::approvals::{self, Asked};
use crate::convert::{currency, json, kind, terms, terms_json};
use crate::rules::Rules;
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError, rules};

pub use till_core::invoice::{BillingHabit as BillingBy, Delivery};

pub use form::{
    Contact, CustomerForm, ShipTo, StatementCycle, contacts, form, save, set_contact, set_ship_to, ship_tos,
};

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
    /// Why it is on stop.
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
                  (SELECT count(*) FROM invoices WHERE customer_id = customers.id AND open_minor > 0) AS "open_invoices!: i64"
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

/// An invoice with something open.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OpenItem {
    /// The invoice.
    pub invoice: InvoiceId,
    /// Its number.
    pub number: String,
    /// Its document date.
    pub document_date: NaiveDate,
    /// When it is due.
    pub due_date: NaiveDate,
    /// Days past due; negative before.
    pub days_late: i64,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its total.
    pub total: Money,
    /// What is open.
    pub open: Money,
}

/// A line of a customer account.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AccountEvent {
    /// When.
    pub date: NaiveDate,
    /// The document.
    pub document: DocumentRef,
    /// What happened.
    pub text: String,
    /// Receivable up (positive) or down (negative), in base currency.
    pub amount: Money,
    /// What the customer owed after it.
    pub balance: Money,
}

/// A customer with its account.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CustomerView {
    /// Its id.
    pub id: CustomerId,
    /// Its number.
    pub number: String,
    /// Its name.
    pub name: String,
    /// Street, place.
    pub address: String,
    /// Country.
    pub country: String,
    /// Its tax id.
    pub tax_id: Option<String>,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its terms.
    pub terms: Terms,
    /// The same in words.
    pub terms_words: String,
    /// What it may owe.
    pub credit_limit: Option<Money>,
    /// Why it is on stop.
    pub stop_reason: Option<String>,
    /// Whether it wants its order number on invoices.
    pub needs_order_number: bool,
    /// What it owes, in base currency.
    pub owes: Money,
    /// What lies unapplied, in base currency.
    pub unapplied: Money,
    /// What is shipped and not billed, net in base currency.
    pub unbilled: Money,
    /// What it owes by days late, in base currency.
    pub ageing: Ageing,
    /// Open invoices, oldest due first.
    pub open_items: Vec<OpenItem>,
    /// The latest movements of its account, newest first.
    pub history: Vec<AccountEvent>,
    /// Changes with every edit.
    pub version: i64,
}

/// One customer with its account.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, id: CustomerId) -> Result<CustomerView> {
    let row = sqlx::query!("SELECT * FROM customers WHERE id = ?", id.0)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, id))?;
    let rules = rules::load(connection).await?;
    let open_items = open_items(connection, id, rules.business_date).await?;
    let mut ageing = Ageing::default();
    let bases = sqlx::query!(
        r#"SELECT next_due_date AS "due_date!: NaiveDate", open_base_minor AS "open!: i64" FROM invoices
           WHERE customer_id = ? AND open_minor > 0"#,
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    for open in bases {
        ageing.add(open.due_date, rules.business_date, Money(open.open));
    }
    let unapplied = sqlx::query_scalar!(
        r#"SELECT coalesce(sum(unapplied_base_minor), 0) AS "sum!: i64" FROM receipts WHERE customer_id = ?"#,
        id.0
    )
    .fetch_one(&mut *connection)
    .await?;
    let unbilled = crate::unbilled::value_of(connection, &rules, id).await?;
    let terms = terms(&row.terms)?;
    Ok(CustomerView {
        id,
        number: row.number,
        name: row.name,
        address: row.address,
        country: row.country,
        tax_id: row.tax_id,
        currency: currency(&row.currency)?,
        terms_words: terms.words(),
        terms,
        credit_limit: row.credit_limit_minor.map(Money),
        stop_reason: row.stop_reason,
        needs_order_number: row.needs_order_number != 0,
        owes: Money(row.owes_base_minor),
        unapplied: Money(unapplied),
        unbilled,
        ageing,
        open_items,
        history: history(connection, id, Money(row.owes_base_minor)).await?,
        version: row.version,
    })
}

async fn open_items(connection: &mut SqliteConnection, id: CustomerId, as_of: NaiveDate) -> Result<Vec<OpenItem>> {
    let rows = sqlx::query!(
        r#"SELECT id, number AS "number!", document_date AS "document_date!: NaiveDate", next_due_date AS "due_date!: NaiveDate",
                  currency, total_minor AS "total!: i64", open_minor AS "open!: i64"
           FROM invoices WHERE customer_id = ? AND open_minor > 0 ORDER BY next_due_date, id"#,
        id.0
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            Ok(OpenItem {
                invoice: InvoiceId(row.id),
                number: row.number,
                document_date: row.document_date,
                due_date: row.due_date,
                days_late: (as_of - row.due_date).num_days(),
                currency: currency(&row.currency)?,
                total: Money(row.total),
                open: Money(row.open),
            })
        })
        .collect()
}

async fn history(connection: &mut SqliteConnection, id: CustomerId, owes: Money) -> Result<Vec<AccountEvent>> {
    let rows = sqlx::query!(
        r#"SELECT posting_date AS "date: NaiveDate", source_kind, source_id, source_number, text, sum(base_minor) AS "amount!: i64"
           FROM entry_lines JOIN entries ON entries.id = entry_id
           WHERE customer_id = ? AND purpose = 'receivable'
           GROUP BY entries.id HAVING sum(base_minor) <> 0 ORDER BY posting_date DESC, number DESC LIMIT 100"#,
        id.0
    )
    .fetch_all(connection)
    .await?;
    let mut balance = owes;
    let mut events = Vec::with_capacity(rows.len());
    for row in rows {
        events.push(AccountEvent {
            date: row.date,
            document: DocumentRef { kind: kind(&row.source_kind)?, id: row.source_id, number: row.source_number },
            text: row.text,
            amount: Money(row.amount),
            balance,
        });
        balance -= Money(row.amount);
    }
    Ok(events)
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

/// Puts a customer on stop, with the reason everyone sees.
///
/// # Errors
/// [`StoreError::Stale`], an unknown customer, a reason that is missing.
pub async fn put_on_stop(writing: &mut Writing<'_>, id: CustomerId, version: i64, reason: &str) -> Result<i64> {
    let row = for_stop(writing, id).await?;
    if row.version != version {
        return Err(StoreError::Stale { what: row.name, current: row.version });
    }
    let reason = check_reason(reason).map_err(|why| StoreError::invalid("reason", why))?;
    set_stop(writing, id, &row, Some(&reason), &reason).await
}

/// What came of a request that may need approval.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Outcome {
    /// The version the document has now.
    pub version: i64,
    /// What waits for approval instead of being done; none where it was done.
    pub waits: Option<ApprovalId>,
}

/// Lets a customer on stop go on, or asks a lead to.
///
/// # Errors
/// [`StoreError::Stale`], where the customer is not on stop, or a reason is missing.
pub async fn lift_stop(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: CustomerId,
    version: i64,
    reason: &str,
) -> Result<Outcome> {
    let row = for_stop(writing, id).await?;
    if row.version != version {
        return Err(StoreError::Stale { what: row.name, current: row.version });
    }
    if row.stop_reason.is_none() {
        return Err(StoreError::WrongState(format!("{} is not on stop.", row.name)));
    }
    let reason = check_reason(reason).map_err(|why| StoreError::invalid("reason", why))?;
    let asked = Asked::LiftStop { customer: id, reason: reason.clone() };
    let document = DocumentRef { kind: DocumentKind::Customer, id: id.0, number: row.number.clone() };
    let words = format!("Lift the stop of {}", row.name);
    let changes = changed("on stop", row.stop_reason.as_deref(), None);
    let wish = approvals::Wish { asked, document, amount: row.owes, words, changes, reason: reason.clone() };
    match approvals::allowed_or_asked(writing, rules, wish).await? {
        Some(approval) => Ok(Outcome { version, waits: Some(approval) }),
        None => Ok(Outcome { version: set_stop(writing, id, &row, None, &reason).await?, waits: None }),
    }
}

/// Lifts a stop that someone approved to lift.
pub(crate) async fn lift_stop_approved(writing: &mut Writing<'_>, id: CustomerId, reason: &str) -> Result<()> {
    let row = for_stop(writing, id).await?;
    if row.stop_reason.is_none() {
        return Err(StoreError::WrongState(format!("{} is not on stop any more. Decline this.", row.name)));
    }
    set_stop(writing, id, &row, None, reason).await?;
    Ok(())
}

struct ForStop {
    number: String,
    name: String,
    stop_reason: Option<String>,
    owes: Money,
    version: i64,
}

async fn for_stop(connection: &mut SqliteConnection, id: CustomerId) -> Result<ForStop> {
    let row =
        sqlx::query!("SELECT number, name, stop_reason, owes_base_minor, version FROM customers WHERE id = ?", id.0)
            .fetch_optional(connection)
            .await?
            .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, id))?;
    Ok(ForStop {
        number: row.number,
        name: row.name,
        stop_reason: row.stop_reason,
        owes: Money(row.owes_base_minor),
        version: row.version,
    })
}

async fn set_stop(
    writing: &mut Writing<'_>,
    id: CustomerId,
    before: &ForStop,
    stop: Option<&str>,
    reason: &str,
) -> Result<i64> {
    sqlx::query!("UPDATE customers SET stop_reason = ?, version = version + 1 WHERE id = ?", stop, id.0)
        .execute(&mut **writing)
        .await?;
    let (what, words) = match stop {
        Some(_) => ("customer_stopped", format!("put {} on stop: {reason}", before.name)),
        None => ("stop_lifted", format!("lifted the stop of {}: {reason}", before.name)),
    };
    let changes = changed("on stop", before.stop_reason.as_deref(), stop);
    let version = before.version + 1;
    writing.note_on((DocumentKind::Customer, id.0, &before.number), what, words, Some(version), changes);
    Ok(version)
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

/// Adds to what a customer owes.
pub(crate) async fn add_owed(connection: &mut SqliteConnection, id: CustomerId, amount: Money) -> Result<()> {
    sqlx::query!("UPDATE customers SET owes_base_minor = owes_base_minor + ? WHERE id = ?", amount.0, id.0)
        .execute(connection)
        .await?;
    Ok(())
}
