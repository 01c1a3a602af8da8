//! Shipments: picked, packed, posted, taken back; shipped and billed in one step.

use actix_web::web::{Data, Path, Query};
use actix_web::{delete, get, post, put};
use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::ids::{OrderId, ShipmentId};
use till_store::shipments::{
    self, PickLine, ShipAndBill, ShipAndBillMany, ShipmentFilter, ShipmentForm, ShipmentList, ShipmentView,
    ShippedAndBilled, TakeBack,
};
use till_store::{Store, rules, sensible_date};
use utoipa::ToSchema;
use utoipa_actix_web::service_config::ServiceConfig;

use super::overview::Version;
use super::{Answer, Stretch};
use crate::problem::Problem;
use crate::request::{Change, Json};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(list_shipments)
        .service(shipment)
        .service(to_ship)
        .service(start_shipment)
        .service(change_shipment)
        .service(pack_shipment)
        .service(drop_shipment)
        .service(post_shipment)
        .service(take_back_shipment)
        .service(preview_ship_and_bill)
        .service(ship_and_bill)
        .service(preview_ship_and_bill_many)
        .service(ship_and_bill_many);
}

/// Shipments: those on their way out first, then newest first. State: `picking`, `packed`,
/// `posted`, `taken_back` or `dropped`; without one, all but the dropped.
#[utoipa::path(params(Stretch), responses((status = 200, body = ShipmentList)))]
#[get("/shipments")]
pub(super) async fn list_shipments(store: Data<Store>, stretch: Query<Stretch>) -> Answer<ShipmentList> {
    let filter = ShipmentFilter {
        search: stretch.search().map(str::to_owned),
        state: stretch.state.clone().filter(|state| !state.is_empty()),
        limit: stretch.limit(),
        offset: stretch.offset(),
    };
    Ok(Json(shipments::list(&mut *store.read().await?, &filter).await?))
}

/// One shipment.
#[utoipa::path(responses((status = 200, body = ShipmentView), (status = 404, body = Problem)))]
#[get("/shipments/{id}")]
pub(super) async fn shipment(store: Data<Store>, id: Path<i64>) -> Answer<ShipmentView> {
    Ok(Json(shipments::view(&mut *store.read().await?, ShipmentId(*id)).await?))
}

/// What could be shipped of an order now.
#[utoipa::path(responses((status = 200, body = Vec<PickLine>), (status = 404, body = Problem)))]
#[get("/orders/{id}/to-ship")]
pub(super) async fn to_ship(store: Data<Store>, id: Path<i64>) -> Answer<Vec<PickLine>> {
    Ok(Json(shipments::propose(&mut *store.read().await?, OrderId(*id)).await?))
}

/// Starts a shipment of an order: a pick list of what is reserved for it, or of what is typed.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ShipmentId), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/orders/{id}/shipments")]
pub(super) async fn start_shipment(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<Option<ShipmentForm>>,
) -> Answer<ShipmentId> {
    let request = change.request(&new.0);
    let started = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            shipments::start(writing, &rules, OrderId(*id), new.0.as_ref()).await
        })
        .await?;
    Ok(Json(started))
}

/// A shipment as changed.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct ChangedShipment {
    /// The version seen.
    version: i64,
    /// As typed.
    form: ShipmentForm,
}

/// Keeps what was picked, the carrier and the freight of a shipment that is not posted.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/shipments/{id}")]
pub(super) async fn change_shipment(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ChangedShipment>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            shipments::save(writing, ShipmentId(*id), new.version, &new.form).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// Notes that everything picked is packed.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem))
)]
#[post("/shipments/{id}/pack")]
pub(super) async fn pack_shipment(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<Version>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            shipments::pack_up(writing, &rules, ShipmentId(*id), new.version).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// Drops a shipment that is not posted.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 409, body = Problem))
)]
#[delete("/shipments/{id}")]
pub(super) async fn drop_shipment(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<Version>,
) -> Answer<i64> {
    let request = change.request(&new.0);
    store
        .change(change.actor(), Some(&request), async |writing| {
            shipments::drop(writing, ShipmentId(*id), new.version).await
        })
        .await?;
    Ok(Json(*id))
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct PostShipment {
    /// The version seen.
    version: i64,
    /// Posting date; none for the business date.
    #[serde(default)]
    date: Option<NaiveDate>,
}

/// Posts a picked or packed shipment.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/shipments/{id}/post")]
pub(super) async fn post_shipment(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<PostShipment>,
) -> Answer<ShipmentId> {
    let request = change.request(&new.0);
    let posted = store
        .change(change.actor(), Some(&request), async |connection| {
            let rules = rules::load(connection).await?;
            let date = new.date.map_or(Ok(rules.business_date), |date| sensible_date("date", date))?;
            shipments::post(connection, &rules, ShipmentId(*id), Some(new.version), date).await
        })
        .await?;
    Ok(Json(posted))
}

/// Takes a posted shipment back, while nothing of it is billed.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/shipments/{id}/take-back")]
pub(super) async fn take_back_shipment(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<TakeBack>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            shipments::take_back(writing, &rules, ShipmentId(*id), &new).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// What shipping and billing an order in one step would do. It is rehearsed; nothing stays.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ShippedAndBilled), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/orders/{id}/ship-and-bill/preview")]
pub(super) async fn preview_ship_and_bill(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ShipAndBill>,
) -> Answer<ShippedAndBilled> {
    Ok(Json(shipments::preview_ship_and_bill(&store, change.actor(), OrderId(*id), &new).await?))
}

/// Ships and bills an order in one posting, or neither.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ShippedAndBilled), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/orders/{id}/ship-and-bill")]
pub(super) async fn ship_and_bill(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ShipAndBill>,
) -> Answer<ShippedAndBilled> {
    let request = change.request(&new.0);
    let done = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            shipments::ship_and_bill(writing, &rules, OrderId(*id), &new).await
        })
        .await?;
    Ok(Json(done))
}

/// What shipping and billing several orders at once would do. It is rehearsed; nothing stays.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Vec<ShippedAndBilled>), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/ship-and-bill/preview")]
pub(super) async fn preview_ship_and_bill_many(
    store: Data<Store>,
    change: Change,
    new: Json<ShipAndBillMany>,
) -> Answer<Vec<ShippedAndBilled>> {
    Ok(Json(shipments::preview_ship_and_bill_many(&store, change.actor(), &new).await?))
}

/// Ships and bills several confirmed orders: all of them, or none.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Vec<ShippedAndBilled>), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/ship-and-bill")]
pub(super) async fn ship_and_bill_many(
    store: Data<Store>,
    change: Change,
    new: Json<ShipAndBillMany>,
) -> Answer<Vec<ShippedAndBilled>> {
    let request = change.request(&new.0);
    let done = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            shipments::ship_and_bill_many(writing, &rules, &new).await
        })
        .await?;
    Ok(Json(done))
}
