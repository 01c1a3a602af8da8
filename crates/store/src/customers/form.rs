//! A customer as it is typed in, added or changed; where its goods go; who answers the phone.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::Rate;
use till_core::ids::{CustomerId, DocumentKind, PriceListId};
use till_core::invoice::{BillingHabit as BillingBy, Delivery};
use till_core::merge::{Fields, differences};
use till_core::money::{Currency, Money};
use till_core::terms::Terms;

use crate::convert::{json, terms};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError};

/// How often a customer gets a statement.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum StatementCycle {
    /// Never by itself.
    None,
    /// Each week.
    Weekly,
    /// Each month.
    Monthly,
    /// Each quarter.
    Quarterly,
}

/// The word an enum is kept by.
fn word<T: Serialize>(value: &T) -> Result<String> {
    Ok(json(value)?.trim_matches('"').to_owned())
}

pub(super) fn of_word<T: serde::de::DeserializeOwned>(word: &str) -> Result<T> {
    serde_json::from_value(serde_json::Value::String(word.to_owned()))
        .map_err(|error| StoreError::Corrupt(error.to_string()))
}

/// A customer as typed. The stop and what it owes are not typed here.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CustomerForm {
    /// Its number.
    pub number: String,
    /// Its name.
    pub name: String,
    /// Its class, for the account map; empty for none.
    #[serde(default)]
    pub class: String,
    /// Where invoices go.
    pub address: String,
    /// Two letters of ISO 3166.
    pub country: String,
    /// Its tax id; empty for none.
    #[serde(default)]
    pub tax_id: String,
    /// Its currency; stays once it exists.
    pub currency: String,
    /// Its payment terms.
    pub terms: Terms,
    /// What it may owe, in base currency, as typed; empty for no limit.
    #[serde(default)]
    pub credit_limit: String,
    /// The number of the customer that pays for it; empty for itself.
    #[serde(default)]
    pub parent: String,
    /// How documents reach it.
    pub delivery: Delivery,
    /// Where email goes.
    #[serde(default)]
    pub email: String,
    /// The usual share ahead, in percent; empty for none.
    #[serde(default)]
    pub share_ahead: String,
    /// Its price list; none for list prices.
    #[serde(default)]
    pub price_list: Option<PriceListId>,
    /// Whether its prices carry the tax.
    #[serde(default)]
    pub gross_priced: bool,
    /// How it wants to be billed.
    pub billing: BillingBy,
    /// Whether only when all of an order has gone.
    #[serde(default)]
    pub bill_when_complete: bool,
    /// Whether it wants its order number on every invoice.
    #[serde(default)]
    pub needs_order_number: bool,
    /// How often it gets a statement.
    pub statement_cycle: StatementCycle,
    /// Who sells to it.
    #[serde(default)]
    pub salesperson: String,
}

pub(super) fn text(field: &str, typed: &str, longest: usize) -> Result<String> {
    let typed = typed.trim();
    if typed.is_empty() || typed.chars().count() > longest {
        return Err(StoreError::invalid(field, format!("Write 1 to {longest} characters here.")));
    }
    Ok(typed.to_owned())
}

pub(super) fn maybe(field: &str, typed: &str, longest: usize) -> Result<Option<String>> {
    if typed.trim().is_empty() { Ok(None) } else { text(field, typed, longest).map(Some) }
}

pub(super) fn country(field: &str, typed: &str) -> Result<String> {
    let typed = typed.trim().to_uppercase();
    if typed.len() == 2 && typed.chars().all(|c| c.is_ascii_uppercase()) {
        Ok(typed)
    } else {
        Err(StoreError::invalid(field, "A country has two letters, such as FR."))
    }
}

pub(super) fn email(field: &str, typed: &str) -> Result<Option<String>> {
    let typed = maybe(field, typed, 254)?;
    let sensible = |address: &str| {
        let (name, host) = address.split_once('@').unwrap_or(("", ""));
        !name.is_empty()
            && host.contains('.')
            && !address.contains(char::is_whitespace)
            && address.matches('@').count() == 1
    };
    match typed {
        Some(address) if !sensible(&address) => {
            Err(StoreError::invalid(field, "An email address looks like name@company.example."))
        }
        other => Ok(other),
    }
}

/// Whether someone may pay for a customer: not itself, nor anyone it pays for.
async fn parent_of(connection: &mut SqliteConnection, own: Option<CustomerId>, number: &str) -> Result<Option<i64>> {
    let number = number.trim();
    if number.is_empty() {
        return Ok(None);
    }
    let parent = sqlx::query_scalar!("SELECT id AS \"id!\" FROM customers WHERE number = ?", number)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| StoreError::invalid("parent", format!("There is no customer {number}.")))?;
    let Some(own) = own else { return Ok(Some(parent)) };
    let above = sqlx::query_scalar!(
        r#"WITH RECURSIVE above (id) AS (SELECT ?1 UNION SELECT parent_id FROM customers JOIN above ON customers.id = above.id WHERE parent_id IS NOT NULL)
           SELECT count(*) AS "count!: i64" FROM above WHERE id = ?2"#,
        parent,
        own.0
    )
    .fetch_one(connection)
    .await?;
    if above > 0 {
        return Err(StoreError::invalid(
            "parent",
            format!("{number} is this customer, or is paid for by it. A circle of payers pays nobody."),
        ));
    }
    Ok(Some(parent))
}

struct Checked {
    limit: Option<Money>,
    share_ahead: Rate,
    tax_id: Option<String>,
    email: Option<String>,
    parent: Option<i64>,
}

async fn check(
    writing: &mut Writing<'_>,
    rules: &Rules,
    own: Option<CustomerId>,
    form: &CustomerForm,
) -> Result<Checked> {
    form.terms.check().map_err(|(field, sentence)| StoreError::invalid(field, sentence))?;
    let of = Currency::of(form.currency.trim()).map_err(|error| StoreError::invalid("currency", error.to_string()))?;
    let limit = match form.credit_limit.trim() {
        "" => None,
        typed => {
            let limit = rules.base.parse(typed).map_err(|error| StoreError::decimal("credit_limit", &error))?;
            if limit < Money::ZERO {
                return Err(StoreError::invalid("credit_limit", "A limit is zero or more; leave it empty for none."));
            }
            Some(limit)
        }
    };
    let share_ahead = match form.share_ahead.trim() {
        "" => Rate::ZERO,
        typed => Rate::from_percent(typed).map_err(|error| StoreError::decimal("share_ahead", &error))?,
    };
    if share_ahead < Rate::ZERO || share_ahead > Rate::ONE {
        return Err(StoreError::invalid("share_ahead", "Write a share between 0 and 100 %."));
    }
    let tax_id = maybe("tax_id", &form.tax_id, 20)?;
    if tax_id.as_deref().is_some_and(|text| !text.chars().all(|c| c.is_ascii_alphanumeric())) {
        return Err(StoreError::invalid(
            "tax_id",
            "A tax id has letters and digits only, 20 at most, such as FR12345678901.",
        ));
    }
    let email = email("email", &form.email)?;
    if form.delivery == Delivery::Email && email.is_none() {
        return Err(StoreError::invalid("email", "Documents are to go by email: to which address?"));
    }
    if let Some(list) = form.price_list {
        let list_currency = sqlx::query_scalar!("SELECT currency FROM price_lists WHERE id = ?", list.0)
            .fetch_optional(&mut **writing)
            .await?
            .ok_or_else(|| StoreError::invalid("price_list", "There is no such price list."))?;
        if list_currency != of.code() {
            return Err(StoreError::invalid(
                "price_list",
                format!("This price list is in {list_currency}, the customer in {of}."),
            ));
        }
    }
    Ok(Checked { limit, share_ahead, tax_id, email, parent: parent_of(writing, own, &form.parent).await? })
}

/// A customer as typed.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn form(connection: &mut SqliteConnection, base: Currency, id: CustomerId) -> Result<CustomerForm> {
    let row = sqlx::query!(
        "SELECT customers.*, (SELECT number FROM customers AS above WHERE above.id = customers.parent_id) AS parent
         FROM customers WHERE id = ?",
        id.0
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, id))?;
    Ok(CustomerForm {
        number: row.number,
        name: row.name,
        class: row.class.unwrap_or_default(),
        address: row.address,
        country: row.country,
        tax_id: row.tax_id.unwrap_or_default(),
        currency: row.currency,
        terms: terms(&row.terms)?,
        credit_limit: row.credit_limit_minor.map(|limit| base.format(Money(limit))).unwrap_or_default(),
        parent: row.parent.unwrap_or_default(),
        delivery: of_word(&row.delivery)?,
        email: row.email.unwrap_or_default(),
        share_ahead: if row.share_ahead_e6 == 0 {
            String::new()
        } else {
            Rate::from_scaled(row.share_ahead_e6).percent()
        },
        price_list: row.price_list_id.map(PriceListId),
        billing: of_word(&row.billing)?,
        bill_when_complete: row.bill_when_complete != 0,
        needs_order_number: row.needs_order_number != 0,
        gross_priced: row.gross_priced != 0,
        statement_cycle: of_word(&row.statement_cycle)?,
        salesperson: row.salesperson.unwrap_or_default(),
    })
}

/// As people read it on the record.
fn described(form: &CustomerForm) -> Fields {
    let yes = |on: bool| if on { "yes".to_owned() } else { "no".to_owned() };
    let said = |value: Result<String>| value.unwrap_or_default().replace('_', " ");
    [
        ("number", form.number.clone()),
        ("name", form.name.clone()),
        ("class", form.class.clone()),
        ("address", form.address.clone()),
        ("country", form.country.clone()),
        ("tax id", form.tax_id.clone()),
        ("terms", form.terms.words()),
        ("credit limit", form.credit_limit.clone()),
        ("paid for by", form.parent.clone()),
        ("delivery", said(word(&form.delivery))),
        ("email", form.email.clone()),
        ("advance %", form.share_ahead.clone()),
        ("price list", form.price_list.map(|list| list.to_string()).unwrap_or_default()),
        ("billed by", said(word(&form.billing))),
        ("billed when complete", yes(form.bill_when_complete)),
        ("order number wanted", yes(form.needs_order_number)),
        ("prices with tax", yes(form.gross_priced)),
        ("statements", said(word(&form.statement_cycle))),
        ("salesperson", form.salesperson.clone()),
    ]
    .into_iter()
    .filter(|(_, value)| !value.is_empty())
    .map(|(name, value)| (name.to_owned(), value))
    .collect()
}

/// Adds a customer, or changes one of the version seen. Returns its id and version. A new one
/// gets its address as its first ship-to.
///
/// # Errors
/// [`StoreError::Stale`], a number that is taken, a circle of payers, a field that cannot be.
pub async fn save(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: Option<(CustomerId, i64)>,
    typed: &CustomerForm,
) -> Result<(CustomerId, i64)> {
    let own = id.map(|(id, _)| id);
    let checked = check(writing, rules, own, typed).await?;
    let number = text("number", &typed.number, 20)?;
    let name = text("name", &typed.name, 100)?;
    let address = text("address", &typed.address, 300)?;
    let country = country("country", &typed.country)?;
    let class = maybe("class", &typed.class, 40)?;
    let salesperson = maybe("salesperson", &typed.salesperson, 60)?;
    let not_own = own.map_or(-1, |id| id.0);
    let taken = sqlx::query_scalar!("SELECT id FROM customers WHERE number = ? AND id <> ?", number, not_own)
        .fetch_optional(&mut **writing)
        .await?;
    if taken.is_some() {
        return Err(StoreError::invalid("number", format!("Customer number {number} is taken. Choose another.")));
    }
    let (delivery, billing, cycle) = (word(&typed.delivery)?, word(&typed.billing)?, word(&typed.statement_cycle)?);
    let terms = json(&typed.terms)?;
    let (limit, share) = (checked.limit.map(|limit| limit.0), checked.share_ahead.scaled());
    let list = typed.price_list.map(|list| list.0);
    let currency = typed.currency.trim();
    let before = match id {
        Some((id, version)) => {
            let row = sqlx::query!("SELECT name, currency, version FROM customers WHERE id = ?", id.0)
                .fetch_optional(&mut **writing)
                .await?
                .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, id))?;
            if row.version != version {
                return Err(StoreError::Stale { what: row.name, current: row.version });
            }
            if row.currency != currency {
                return Err(StoreError::invalid(
                    "currency",
                    "The currency of a customer stays: its account is kept in it. Add another customer.",
                ));
            }
            Some(form(writing, rules.base, id).await?)
        }
        None => None,
    };
    let row_id = match own {
        Some(id) => {
            sqlx::query!(
                "UPDATE customers SET number = ?, name = ?, class = ?, address = ?, country = ?, tax_id = ?, terms = ?,
                        credit_limit_minor = ?, parent_id = ?, delivery = ?, email = ?, share_ahead_e6 = ?, price_list_id = ?,
                        billing = ?, bill_when_complete = ?, needs_order_number = ?, statement_cycle = ?, salesperson = ?,
                        gross_priced = ?, version = version + 1 WHERE id = ?",
                number, name, class, address, country, checked.tax_id, terms, limit, checked.parent, delivery, checked.email,
                share, list, billing, typed.bill_when_complete, typed.needs_order_number, cycle, salesperson, typed.gross_priced, id.0
            )
            .execute(&mut **writing)
            .await?;
            id.0
        }
        None => {
            let id = sqlx::query_scalar!(
                "INSERT INTO customers (number, name, class, address, country, tax_id, currency, terms, credit_limit_minor, parent_id,
                        delivery, email, share_ahead_e6, price_list_id, billing, bill_when_complete, needs_order_number,
                        statement_cycle, salesperson, gross_priced)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id AS \"id!\"",
                number, name, class, address, country, checked.tax_id, currency, terms, limit, checked.parent, delivery,
                checked.email, share, list, billing, typed.bill_when_complete, typed.needs_order_number, cycle, salesperson, typed.gross_priced
            )
            .fetch_one(&mut **writing)
            .await?;
            add_main_ship_to(writing, id, &name, &address, &country).await?;
            id
        }
    };
    let after = described(&form(writing, rules.base, CustomerId(row_id)).await?);
    let (what, words) = match &before {
        Some(_) => ("customer_changed", format!("changed {name}")),
        None => ("customer_added", format!("added customer {number}")),
    };
    let version = id.map_or(1, |(_, version)| version + 1);
    let changes = differences(&before.as_ref().map(described).unwrap_or_default(), &after);
    writing.note_on((DocumentKind::Customer, row_id, &number), what, words, Some(version), changes);
    Ok((CustomerId(row_id), version))
}

/// The first ship-to of a customer: its own address.
pub(super) async fn add_main_ship_to(
    connection: &mut SqliteConnection,
    customer: i64,
    name: &str,
    address: &str,
    country: &str,
) -> Result<()> {
    sqlx::query!(
        "INSERT INTO ship_tos (customer_id, code, name, address, country) VALUES (?, 'MAIN', ?, ?, ?)",
        customer,
        name,
        address,
        country
    )
    .execute(connection)
    .await?;
    Ok(())
}
