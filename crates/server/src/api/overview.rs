//! The spine, the day sheet, search, and customers.

use actix_web::web::{Data, Path, Query};
use actix_web::{delete, get, put};
use serde::{Deserialize, Serialize};
use till_core::ids::CustomerId;
use till_store::customers::{self, CustomerRow, CustomerView, Outcome};
use till_store::day_sheet::{self, DaySheet, Spine};
use till_store::find::{self, Found};
use till_store::receivables::Receivables;
use till_store::verify::{self, Verification};
use till_store::{Store, StoreError, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use crate::problem::Problem;
use crate::request::{Change, Json, Signed};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(spine)
        .service(view_day_sheet)
        .service(receivables)
        .service(tie_outs)
        .service(find_anything)
        .service(list_customers)
        .service(customer)
        .service(set_tax_id)
        .service(put_on_stop)
        .service(lift_stop);
}

/// Whose books, which day, where something waits.
#[utoipa::path(responses((status = 200, body = Spine)))]
#[get("/spine")]
pub(super) async fn spine(store: Data<Store>, who: Signed) -> Answer<Spine> {
    Ok(Json(day_sheet::spine(&mut *store.read().await?, Some(who.viewer())).await?))
}

/// What needs the clerk today.
#[utoipa::path(responses((status = 200, body = DaySheet)))]
#[get("/day-sheet")]
pub(super) async fn view_day_sheet(store: Data<Store>, who: Signed) -> Answer<DaySheet> {
    Ok(Json(day_sheet::day_sheet(&mut *store.read().await?, Some(who.viewer())).await?))
}

/// Whether every sub-ledger equals its account.
#[utoipa::path(responses((status = 200, body = Verification)))]
#[get("/tie-outs")]
pub(super) async fn tie_outs(store: Data<Store>) -> Answer<Verification> {
    Ok(Json(verify::tie_outs(&mut *store.read().await?).await?))
}

#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Words {
    /// What is looked for.
    #[serde(default)]
    q: String,
}

/// Finds documents and customers.
#[utoipa::path(params(Words), responses((status = 200, body = Vec<Found>)))]
#[get("/find")]
pub(super) async fn find_anything(store: Data<Store>, words: Query<Words>) -> Answer<Vec<Found>> {
    Ok(Json(find::find(&mut *store.read().await?, &words.q).await?))
}

/// Customers by name.
#[utoipa::path(params(Words), responses((status = 200, body = Vec<CustomerRow>)))]
#[get("/customers")]
pub(super) async fn list_customers(store: Data<Store>, words: Query<Words>) -> Answer<Vec<CustomerRow>> {
    let search = Some(words.q.trim()).filter(|text| !text.is_empty());
    Ok(Json(customers::list(&mut *store.read().await?, search).await?))
}

/// A customer with its account.
#[utoipa::path(responses((status = 200, body = CustomerView), (status = 404, body = Problem)))]
#[get("/customers/{id}")]
pub(super) async fn customer(store: Data<Store>, id: Path<i64>) -> Answer<CustomerView> {
    Ok(Json(customers::view(&mut *store.read().await?, CustomerId(*id)).await?))
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct NewTaxId {
    /// The version seen.
    version: i64,
    /// The tax id; none to clear it.
    tax_id: Option<String>,
}

/// The version a document has after a change.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct Version {
    /// The version.
    pub(super) version: i64,
}

/// Receivables at a look: what came in today, and receipts against what was due.
#[utoipa::path(operation_id = "receivables", responses((status = 200, body = Receivables)))]
#[get("/receivables")]
pub(super) async fn receivables(store: Data<Store>) -> Answer<Receivables> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(till_store::receivables::receivables(&mut connection, &rules).await?))
}

/// Sets a customer's tax id.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/customers/{id}/tax-id")]
pub(super) async fn set_tax_id(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<NewTaxId>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |connection| {
            customers::set_tax_id(connection, CustomerId(*id), new.version, new.tax_id.as_deref()).await
        })
        .await
        .map_err(|error: StoreError| Problem::from(error))?;
    Ok(Json(Version { version }))
}

/// The version seen, and why.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct StopReason {
    /// The version seen.
    version: i64,
    /// Why; it stays on the record.
    reason: String,
}

/// Puts a customer on hold.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/customers/{id}/stop")]
pub(super) async fn put_on_stop(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<StopReason>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            customers::put_on_stop(writing, CustomerId(*id), new.version, &new.reason).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// Lifts a customer's stop, or asks a lead to.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Outcome), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[delete("/customers/{id}/stop")]
pub(super) async fn lift_stop(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<StopReason>,
) -> Answer<Outcome> {
    let request = change.request(&new.0);
    let outcome = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            customers::lift_stop(writing, &rules, CustomerId(*id), Some(new.version), &new.reason).await
        })
        .await?;
    Ok(Json(outcome))
}
