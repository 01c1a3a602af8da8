//! Where a customer's goods go, and whom one talks to there.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::words;
use till_core::ids::{ContactId, CustomerId, DocumentKind, ShipToId};
use till_core::merge::{Fields, differences};
use till_core::treatment::{Taxed, Treatment};

use super::form::{country, email, maybe, text};
use crate::convert::known;
use crate::writing::{Writing, fields, yes_or_no};
use crate::{Result, StoreError};

/// Where goods of a customer go.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShipTo {
    /// Its id; none for a new one.
    #[serde(default)]
    pub id: Option<ShipToId>,
    /// Its code among those of the customer.
    pub code: String,
    /// Its name.
    pub name: String,
    /// Street, place.
    pub address: String,
    /// Country.
    pub country: String,
    /// How deliveries there are taxed.
    pub taxed: Taxed,
    /// Whether it is still used.
    #[serde(default = "yes")]
    pub active: bool,
}

const fn yes() -> bool {
    true
}

/// Where goods of a customer go, in the order of their codes; the main one first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn ship_tos(connection: &mut SqliteConnection, customer: CustomerId) -> Result<Vec<ShipTo>> {
    sqlx::query!(
        r#"SELECT id, code, name, address, country, treatment, certificate, certificate_until AS "until: NaiveDate", active
           FROM ship_tos WHERE customer_id = ? ORDER BY code <> 'MAIN', code"#,
        customer.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(ShipTo {
            id: Some(ShipToId(row.id)),
            code: row.code,
            name: row.name,
            address: row.address,
            country: row.country,
            taxed: Taxed {
                treatment: known(&row.treatment, Treatment::of)?,
                certificate: row.certificate,
                until: row.until,
            },
            active: row.active != 0,
        })
    })
    .collect()
}

async fn customer_named(connection: &mut SqliteConnection, id: CustomerId) -> Result<(String, String)> {
    let row = sqlx::query!("SELECT number, name FROM customers WHERE id = ?", id.0)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, id))?;
    Ok((row.number, row.name))
}

/// Adds a ship-to of a customer, or changes one.
///
/// # Errors
/// A code that is taken, an exemption without certificate, the main one switched off.
pub async fn set_ship_to(writing: &mut Writing<'_>, customer: CustomerId, new: &ShipTo) -> Result<ShipToId> {
    let (number, name_of_customer) = customer_named(writing, customer).await?;
    let code = text("code", &new.code, 20)?.to_uppercase();
    let name = text("name", &new.name, 100)?;
    let address = text("address", &new.address, 300)?;
    let country = country("country", &new.country)?;
    let certificate = maybe("certificate", new.taxed.certificate.as_deref().unwrap_or(""), 40)?;
    if new.taxed.treatment == Treatment::Exempt && (certificate.is_none() || new.taxed.until.is_none()) {
        return Err(StoreError::invalid("certificate", "An exemption needs the certificate's number and last day."));
    }
    let own = new.id.map_or(-1, |id| id.0);
    let taken = sqlx::query_scalar!(
        "SELECT id FROM ship_tos WHERE customer_id = ? AND code = ? AND id <> ?",
        customer.0,
        code,
        own
    )
    .fetch_optional(&mut **writing)
    .await?;
    if taken.is_some() {
        return Err(StoreError::invalid("code", format!("{name_of_customer} has a ship-to {code} already.")));
    }
    let treatment = new.taxed.treatment.word();
    let mut was = Fields::new();
    let id = match new.id {
        Some(id) => {
            let before = ship_tos(writing, customer).await?.into_iter().find(|known| known.id == Some(id));
            let Some(before) = before else { return Err(StoreError::invalid("id", "This ship-to is another customer's.")) };
            if before.code == "MAIN" && (!new.active || code != "MAIN") {
                return Err(StoreError::invalid("code", "The main ship-to stays; change its address instead."));
            }
            was = described_place(&before);
            sqlx::query!(
                "UPDATE ship_tos SET code = ?, name = ?, address = ?, country = ?, treatment = ?, certificate = ?, certificate_until = ?, active = ? WHERE id = ?",
                code, name, address, country, treatment, certificate, new.taxed.until, new.active, id.0
            )
            .execute(&mut **writing)
            .await?;
            id.0
        }
        None => {
            sqlx::query_scalar!(
                "INSERT INTO ship_tos (customer_id, code, name, address, country, treatment, certificate, certificate_until, active)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id AS \"id!\"",
                customer.0, code, name, address, country, treatment, certificate, new.taxed.until, new.active
            )
            .fetch_one(&mut **writing)
            .await?
        }
    };
    let taxed = Taxed { certificate, ..new.taxed.clone() };
    let is =
        described_place(&ShipTo { id: None, code: code.clone(), name, address, country, taxed, active: new.active });
    let fields = differences(&was, &is);
    let said = format!("set ship-to {code} of {name_of_customer}");
    writing.note_on((DocumentKind::Customer, customer.0, &number), "ship_to_set", said, None, fields);
    Ok(ShipToId(id))
}

/// A ship-to as named fields, for the record.
fn described_place(place: &ShipTo) -> Fields {
    fields([
        ("code", place.code.clone()),
        ("name", place.name.clone()),
        ("address", place.address.clone()),
        ("country", place.country.clone()),
        ("tax", place.taxed.treatment.name().to_owned()),
        ("certificate", place.taxed.certificate.clone().unwrap_or_default()),
        ("certificate until", place.taxed.until.map(words).unwrap_or_default()),
        ("used", yes_or_no(place.active)),
    ])
}

/// Someone at a customer, or someone who is not one yet.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Contact {
    /// Its id; none for a new one.
    #[serde(default)]
    pub id: Option<ContactId>,
    /// Who.
    pub name: String,
    /// Whose, where there is no customer yet.
    #[serde(default)]
    pub company: String,
    /// Email.
    #[serde(default)]
    pub email: String,
    /// Telephone.
    #[serde(default)]
    pub phone: String,
    /// What for: buying, paying, receiving.
    #[serde(default)]
    pub role: String,
    /// Whether it is still used.
    #[serde(default = "yes")]
    pub active: bool,
}

/// The contacts of a customer, or, without one, of those who are none yet.
///
/// # Errors
/// Where the database cannot be read.
pub async fn contacts(connection: &mut SqliteConnection, customer: Option<CustomerId>) -> Result<Vec<Contact>> {
    let customer = customer.map(|customer| customer.0);
    Ok(sqlx::query!(
        "SELECT id, name, company, email, phone, role, active FROM contacts WHERE customer_id IS ? ORDER BY name LIMIT 500",
        customer
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| Contact {
        id: Some(ContactId(row.id)),
        name: row.name,
        company: row.company.unwrap_or_default(),
        email: row.email.unwrap_or_default(),
        phone: row.phone.unwrap_or_default(),
        role: row.role.unwrap_or_default(),
        active: row.active != 0,
    })
    .collect())
}

async fn contact(
    connection: &mut SqliteConnection,
    id: ContactId,
    customer: Option<CustomerId>,
) -> Result<Option<Contact>> {
    Ok(contacts(connection, customer).await?.into_iter().find(|contact| contact.id == Some(id)))
}

/// A contact as named fields, for the record.
fn described_contact(contact: &Contact) -> Fields {
    fields([
        ("name", contact.name.clone()),
        ("company", contact.company.clone()),
        ("email", contact.email.clone()),
        ("phone", contact.phone.clone()),
        ("for", contact.role.clone()),
        ("used", yes_or_no(contact.active)),
    ])
}

/// Adds a contact, or changes one.
///
/// # Errors
/// A field that cannot be.
pub async fn set_contact(writing: &mut Writing<'_>, customer: Option<CustomerId>, new: &Contact) -> Result<ContactId> {
    let name = text("name", &new.name, 100)?;
    let company = maybe("company", &new.company, 100)?;
    let email = email("email", &new.email)?;
    let phone = maybe("phone", &new.phone, 40)?;
    let role = maybe("role", &new.role, 40)?;
    let document = match customer {
        Some(id) => (id.0, customer_named(writing, id).await?.0),
        None => (0, "contact".to_owned()),
    };
    let of = customer.map(|customer| customer.0);
    let was = match new.id {
        Some(id) => contact(writing, id, customer).await?.as_ref().map(described_contact).unwrap_or_default(),
        None => Fields::new(),
    };
    let id = match new.id {
        Some(id) => {
            let changed = sqlx::query!(
                "UPDATE contacts SET name = ?, company = ?, email = ?, phone = ?, role = ?, active = ? WHERE id = ? AND customer_id IS ?",
                name, company, email, phone, role, new.active, id.0, of
            )
            .execute(&mut **writing)
            .await?;
            if changed.rows_affected() == 0 {
                return Err(StoreError::invalid("id", "There is no such contact here."));
            }
            id.0
        }
        None => {
            sqlx::query_scalar!(
                "INSERT INTO contacts (customer_id, name, company, email, phone, role, active) VALUES (?, ?, ?, ?, ?, ?, ?) RETURNING id AS \"id!\"",
                of, name, company, email, phone, role, new.active
            )
            .fetch_one(&mut **writing)
            .await?
        }
    };
    let is = contact(writing, ContactId(id), customer).await?.as_ref().map(described_contact).unwrap_or_default();
    let fields = differences(&was, &is);
    let said = format!("set contact {name}");
    writing.note_on((DocumentKind::Customer, document.0, &document.1), "contact_set", said, None, fields);
    Ok(ContactId(id))
}
