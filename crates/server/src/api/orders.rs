//! Orders and shipments.

use actix_web::web::{Data, Json, Path, Query};
use actix_web::{get, post, put};
use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::ids::{CustomerId, OrderId, ShipmentId};
use till_core::order::OrderState;
use till_store::orders::{self, OrderFilter, OrderList, OrderView};
use till_store::shipments::{self, ShipmentList, ShipmentView};
use till_store::{Store, StoreError, rules, sensible_date};
use utoipa::{IntoParams, ToSchema};

use super::overview::Version;
use super::{Answer, Stretch};
use crate::problem::Problem;
use crate::request::Change;

#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct OfCustomer {
    /// Only of this customer.
    #[serde(default)]
    customer: Option<i64>,
}

pub(super) fn filter(stretch: &Stretch, customer: Option<i64>) -> Result<OrderFilter, StoreError> {
    let states = stretch
        .state
        .as_deref()
        .unwrap_or("")
        .split(',')
        .filter(|word| !word.is_empty())
        .map(|word| {
            OrderState::of(word).ok_or_else(|| {
                StoreError::invalid("state", format!("Orders are never “{word}”. Use draft, open, filled or closed."))
            })
        })
        .collect::<Result<Vec<_>, _>>()?;
    Ok(OrderFilter {
        states,
        search: stretch.search().map(str::to_owned),
        customer: customer.map(CustomerId),
        limit: stretch.limit(),
        offset: stretch.offset(),
    })
}

/// Orders, newest first.
#[utoipa::path(operation_id = "orders", params(Stretch, OfCustomer), responses((status = 200, body = OrderList)))]
#[get("/orders")]
pub(super) async fn list(store: Data<Store>, stretch: Query<Stretch>, of: Query<OfCustomer>) -> Answer<OrderList> {
    let filter = filter(&stretch, of.customer)?;
    Ok(Json(orders::list(&mut *store.read().await?, &filter).await?))
}

/// One order.
#[utoipa::path(operation_id = "order", responses((status = 200, body = OrderView), (status = 404, body = Problem)))]
#[get("/orders/{id}")]
pub(super) async fn view(store: Data<Store>, id: Path<i64>) -> Answer<OrderView> {
    Ok(Json(orders::view(&mut *store.read().await?, OrderId(*id)).await?))
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct NewCustomerOrderNumber {
    /// The version seen.
    version: i64,
    /// The number; none to clear it.
    number: Option<String>,
}

/// Notes the number the customer gave an order.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/orders/{id}/customer-order-number")]
pub(super) async fn set_customer_order_number(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<NewCustomerOrderNumber>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |connection| {
            orders::set_customer_order_number(connection, OrderId(*id), new.version, new.number.as_deref()).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// Shipments: packed ones first, then newest first. State `packed` keeps to those.
#[utoipa::path(params(Stretch), responses((status = 200, body = ShipmentList)))]
#[get("/shipments")]
pub(super) async fn list_shipments(store: Data<Store>, stretch: Query<Stretch>) -> Answer<ShipmentList> {
    let only_packed = stretch.state.as_deref() == Some("packed");
    let found =
        shipments::list(&mut *store.read().await?, stretch.search(), only_packed, stretch.limit(), stretch.offset())
            .await?;
    Ok(Json(found))
}

/// One shipment.
#[utoipa::path(responses((status = 200, body = ShipmentView), (status = 404, body = Problem)))]
#[get("/shipments/{id}")]
pub(super) async fn shipment(store: Data<Store>, id: Path<i64>) -> Answer<ShipmentView> {
    Ok(Json(shipments::view(&mut *store.read().await?, ShipmentId(*id)).await?))
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct PostShipment {
    /// The version seen.
    version: i64,
    /// Posting date; none for the business date.
    #[serde(default)]
    date: Option<NaiveDate>,
}

/// Posts a packed shipment.
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
