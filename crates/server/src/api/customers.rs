//! Customers as they are kept: their data, ship-tos, contacts, exposure and containers.

use actix_web::web::{Data, Path};
use actix_web::{get, post, put};
use serde::{Deserialize, Serialize};
use till_core::exposure::Exposure;
use till_core::ids::{ContactId, CustomerId, ShipToId};
use till_core::money::Money;
use till_core::terms::{Terms, TermsPreview, preview};
use till_store::containers::{self, BroughtBack, ContainerBalance, PostedReturn};
use till_store::customers::{self, Contact, CustomerForm, ShipTo};
use till_store::receipts::MoneyPreview;
use till_store::{Store, StoreError, exposure, rules};
use utoipa::ToSchema;
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use crate::problem::Problem;
use crate::request::{Change, Json, beside};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(customer_file)
        .service(add_customer)
        .service(change_customer)
        .service(set_ship_to)
        .service(set_contact)
        .service(list_contacts)
        .service(add_contact)
        .service(preview_terms)
        .service(preview_containers)
        .service(take_containers);
}

/// A customer as saved, with what belongs to it.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct CustomerFile {
    /// As typed.
    form: CustomerForm,
    /// Where its goods go.
    ship_tos: Vec<ShipTo>,
    /// Who answers.
    contacts: Vec<Contact>,
    /// What it could leave us without.
    exposure: Exposure,
    /// All of the exposure.
    exposed: Money,
    /// Containers it has of ours.
    containers: Vec<ContainerBalance>,
}

/// A customer as saved.
#[utoipa::path(responses((status = 200, body = CustomerFile), (status = 404, body = Problem)))]
#[get("/customers/{id}/file")]
pub(super) async fn customer_file(store: Data<Store>, id: Path<i64>) -> Answer<CustomerFile> {
    let id = CustomerId(*id);
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let exposure = exposure::exposure(&mut connection, &rules, id, None).await?;
    Ok(Json(CustomerFile {
        form: customers::form(&mut connection, rules.base, id).await?,
        ship_tos: customers::ship_tos(&mut connection, id).await?,
        contacts: customers::contacts(&mut connection, Some(id)).await?,
        exposed: exposure.total(),
        exposure,
        containers: containers::balance(&mut connection, id).await?,
    }))
}

/// The id and version of something that was saved.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct Saved {
    /// Its id.
    pub(super) id: i64,
    /// Its version.
    pub(super) version: i64,
}

/// Adds a customer.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Saved), (status = 422, body = Problem))
)]
#[post("/customers")]
pub(super) async fn add_customer(store: Data<Store>, change: Change, new: Json<CustomerForm>) -> Answer<Saved> {
    let request = change.request(&new.0);
    let (id, version) = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            customers::save(writing, &rules, None, &new).await
        })
        .await?;
    Ok(Json(Saved { id: id.0, version }))
}

/// A customer as changed.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct ChangedCustomer {
    /// The version seen.
    version: i64,
    /// As typed.
    form: CustomerForm,
}

/// Changes a customer.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Saved), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/customers/{id}")]
pub(super) async fn change_customer(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ChangedCustomer>,
) -> Answer<Saved> {
    let request = change.request(&new.0);
    let (id, version) = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            customers::save(writing, &rules, Some((CustomerId(*id), new.version)), &new.form).await
        })
        .await?;
    Ok(Json(Saved { id: id.0, version }))
}

/// Adds a ship-to, or changes one.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ShipToId), (status = 422, body = Problem))
)]
#[put("/customers/{id}/ship-tos")]
pub(super) async fn set_ship_to(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ShipTo>,
) -> Answer<ShipToId> {
    let request = change.request(&new.0);
    let kept = store
        .change(change.actor(), Some(&request), async |writing| {
            customers::set_ship_to(writing, CustomerId(*id), &new).await
        })
        .await?;
    Ok(Json(kept))
}

/// Adds a contact of a customer, or changes one.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ContactId), (status = 422, body = Problem))
)]
#[put("/customers/{id}/contacts")]
pub(super) async fn set_contact(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<Contact>,
) -> Answer<ContactId> {
    let request = change.request(&new.0);
    let kept = store
        .change(change.actor(), Some(&request), async |writing| {
            customers::set_contact(writing, Some(CustomerId(*id)), &new).await
        })
        .await?;
    Ok(Json(kept))
}

/// Contacts who are no customers yet.
#[utoipa::path(responses((status = 200, body = Vec<Contact>)))]
#[get("/contacts")]
pub(super) async fn list_contacts(store: Data<Store>) -> Answer<Vec<Contact>> {
    Ok(Json(customers::contacts(&mut *store.read().await?, None).await?))
}

/// Adds a contact who is no customer yet.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ContactId), (status = 422, body = Problem))
)]
#[post("/contacts")]
pub(super) async fn add_contact(store: Data<Store>, change: Change, new: Json<Contact>) -> Answer<ContactId> {
    let request = change.request(&new.0);
    let kept = store
        .change(change.actor(), Some(&request), async |writing| customers::set_contact(writing, None, &new).await)
        .await?;
    Ok(Json(kept))
}

/// Terms to look at.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct TermsToShow {
    /// The terms.
    terms: Terms,
    /// The date of a document; none for the business date.
    #[serde(default)]
    date: Option<chrono::NaiveDate>,
    /// Net of a document in minor units; none for 800.00.
    #[serde(default)]
    net: Option<Money>,
    /// Its total with tax in minor units; none for 984.00.
    #[serde(default)]
    total: Option<Money>,
}

/// What a document would fall due on, and earn, under terms.
#[utoipa::path(responses((status = 200, body = TermsPreview), (status = 422, body = Problem)))]
#[post("/terms/preview")]
pub(super) async fn preview_terms(store: Data<Store>, new: Json<TermsToShow>) -> Answer<TermsPreview> {
    let rules = rules::load(&mut *store.read().await?).await?;
    new.terms.check().map_err(|(field, sentence)| StoreError::invalid(field, sentence))?;
    let date = match new.date {
        Some(date) => till_store::sensible_date("date", date)?,
        None => rules.business_date,
    };
    let (net, total) = (new.net.unwrap_or(Money(80_000)), new.total.unwrap_or(Money(98_400)));
    Ok(Json(preview(&new.terms, date, net, total)))
}

/// What taking containers back would do.
#[utoipa::path(responses((status = 200, body = MoneyPreview), (status = 422, body = Problem)))]
#[post("/customers/{id}/containers/preview")]
pub(super) async fn preview_containers(
    store: Data<Store>,
    id: Path<i64>,
    new: Json<BroughtBack>,
) -> Answer<MoneyPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(containers::preview(&mut connection, &rules, CustomerId(*id), &new).await?))
}

/// Containers to take back.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PostContainers {
    /// What came back.
    #[serde(flatten)]
    back: BroughtBack,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(PostContainers { seen: String } and back: BroughtBack);

/// Takes containers back: what was charged for them is owed no more.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = PostedReturn), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/customers/{id}/containers")]
pub(super) async fn take_containers(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<PostContainers>,
) -> Answer<PostedReturn> {
    let request = change.request(&new.0);
    let posted = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            containers::take_back(writing, &rules, CustomerId(*id), &new.back, Some(&new.seen)).await
        })
        .await?;
    Ok(Json(posted))
}
