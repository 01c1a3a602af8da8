//! Quotes and call-off orders.

use actix_web::web::{Data, Path, Query};
use actix_web::{get, post, put};
use serde::{Deserialize, Serialize};
use till_core::ids::{CallOffId, CustomerId, OrderId, QuoteId};
use till_store::call_offs::{self, CallOffForm, CallOffView};
use till_store::quotes::{self, Acceptance, QuoteForm, QuoteRow, QuoteView};
use till_store::{Store, rules};
use utoipa::ToSchema;
use utoipa_actix_web::service_config::ServiceConfig;

use super::orders::OfCustomer;
use super::{Answer, Stretch};
use crate::problem::Problem;
use crate::request::{Change, Json, beside};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(list_quotes)
        .service(quote)
        .service(write_quote)
        .service(change_quote)
        .service(accept_quote)
        .service(decline_quote)
        .service(list_call_offs)
        .service(call_off)
        .service(enter_call_off);
}

/// Quotes, open ones first.
#[utoipa::path(params(Stretch), responses((status = 200, body = Vec<QuoteRow>)))]
#[get("/quotes")]
pub(super) async fn list_quotes(store: Data<Store>, stretch: Query<Stretch>) -> Answer<Vec<QuoteRow>> {
    let mut connection = store.read().await?;
    let today = rules::load(&mut connection).await?.business_date;
    Ok(Json(quotes::list(&mut connection, stretch.search(), today).await?))
}

/// One quote.
#[utoipa::path(responses((status = 200, body = QuoteView), (status = 404, body = Problem)))]
#[get("/quotes/{id}")]
pub(super) async fn quote(store: Data<Store>, id: Path<i64>) -> Answer<QuoteView> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(quotes::view(&mut connection, &rules, QuoteId(*id)).await?))
}

/// Writes a quote.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = QuoteId), (status = 422, body = Problem))
)]
#[post("/quotes")]
pub(super) async fn write_quote(store: Data<Store>, change: Change, new: Json<QuoteForm>) -> Answer<QuoteId> {
    let request = change.request(&new.0);
    let id = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            quotes::save(writing, &rules, None, &new).await
        })
        .await?;
    Ok(Json(id))
}

/// A quote as changed.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct ChangedQuote {
    /// The version seen.
    version: i64,
    /// As typed.
    #[serde(flatten)]
    form: QuoteForm,
}

beside!(ChangedQuote { version: i64 } and form: QuoteForm);

/// Writes an open quote anew.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = QuoteId), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/quotes/{id}")]
pub(super) async fn change_quote(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ChangedQuote>,
) -> Answer<QuoteId> {
    let request = change.request(&new.0);
    let id = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            quotes::save(writing, &rules, Some((QuoteId(*id), new.version)), &new.form).await
        })
        .await?;
    Ok(Json(id))
}

/// Turns an accepted quote into a draft order at the prices it offered.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = OrderId), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/quotes/{id}/accept")]
pub(super) async fn accept_quote(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<Acceptance>,
) -> Answer<OrderId> {
    let request = change.request(&new.0);
    let order = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            quotes::accept(writing, &rules, QuoteId(*id), &new).await
        })
        .await?;
    Ok(Json(order))
}

/// The version seen, and why.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct Refusal {
    /// The version seen.
    version: i64,
    /// Why.
    reason: String,
}

/// Notes that a quote is not wanted.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/quotes/{id}/decline")]
pub(super) async fn decline_quote(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<Refusal>,
) -> Answer<i64> {
    let request = change.request(&new.0);
    store
        .change(change.actor(), Some(&request), async |writing| {
            quotes::decline(writing, QuoteId(*id), new.version, &new.reason).await
        })
        .await?;
    Ok(Json(*id))
}

/// Call-off orders, newest first.
#[utoipa::path(params(OfCustomer), responses((status = 200, body = Vec<CallOffView>)))]
#[get("/call-offs")]
pub(super) async fn list_call_offs(store: Data<Store>, of: Query<OfCustomer>) -> Answer<Vec<CallOffView>> {
    let mut connection = store.read().await?;
    let today = rules::load(&mut connection).await?.business_date;
    Ok(Json(call_offs::list(&mut connection, of.customer().map(CustomerId), today).await?))
}

/// One call-off order, with what remains of it.
#[utoipa::path(responses((status = 200, body = CallOffView), (status = 404, body = Problem)))]
#[get("/call-offs/{id}")]
pub(super) async fn call_off(store: Data<Store>, id: Path<i64>) -> Answer<CallOffView> {
    let mut connection = store.read().await?;
    let today = rules::load(&mut connection).await?.business_date;
    Ok(Json(call_offs::view(&mut connection, CallOffId(*id), today).await?))
}

/// Enters a call-off order.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = CallOffId), (status = 422, body = Problem))
)]
#[post("/call-offs")]
pub(super) async fn enter_call_off(store: Data<Store>, change: Change, new: Json<CallOffForm>) -> Answer<CallOffId> {
    let request = change.request(&new.0);
    let id =
        store.change(change.actor(), Some(&request), async |writing| call_offs::enter(writing, &new).await).await?;
    Ok(Json(id))
}
