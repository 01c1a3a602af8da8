//! Orders: entering, changing, confirming, cancelling, and what of them is open.

use actix_web::web::{Data, Path, Query};
use actix_web::{get, post, put};
use serde::{Deserialize, Serialize};
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, OrderId, OrderLineId};
use till_core::order::OrderState;
use till_store::customers::Outcome;
use till_store::orders::{
    self, Lineage, OpenLineFilter, OpenLines, OrderFilter, OrderForm, OrderList, OrderPreview, OrderToFinish,
    OrderView, ToCancel,
};
use till_store::{Store, StoreError, rules, stock};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::overview::Version;
use super::{Answer, Stretch};
use crate::problem::Problem;
use crate::request::{Change, Json, Signed};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(list)
        .service(to_finish)
        // Before `/orders/{id}`, whose pattern would match it.
        .service(preview_order)
        .service(view)
        .service(open_lines)
        .service(enter_order)
        .service(change_order)
        .service(confirm_order)
        .service(cancel_order)
        .service(copy_order)
        .service(set_aside)
        .service(let_go)
        .service(set_customer_order_number);
}

#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct OfCustomer {
    /// Only of this customer.
    #[serde(default)]
    customer: Option<i64>,
}

impl OfCustomer {
    pub(super) const fn customer(&self) -> Option<i64> {
        self.customer
    }
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

/// Orders that are shipped and billed, with what hangs on each.
#[utoipa::path(operation_id = "orders_to_finish", responses((status = 200, body = Vec<OrderToFinish>)))]
#[get("/orders-to-finish")]
pub(super) async fn to_finish(store: Data<Store>) -> Answer<Vec<OrderToFinish>> {
    Ok(Json(orders::to_finish(&mut *store.read().await?).await?))
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
pub(super) async fn view(store: Data<Store>, who: Signed, id: Path<i64>) -> Answer<OrderView> {
    let role = Some(who.viewer().role);
    Ok(Json(orders::view_for(&mut *store.read().await?, OrderId(*id), role).await?))
}

#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct WhichLines {
    /// Only what is back-ordered.
    #[serde(default)]
    back_ordered: bool,
    /// By item instead of by order.
    #[serde(default)]
    by_item: bool,
}

pub(super) fn line_filter(stretch: &Stretch, which: &WhichLines) -> OpenLineFilter {
    OpenLineFilter {
        search: stretch.search().map(str::to_owned),
        back_ordered: which.back_ordered,
        by_item: which.by_item,
        limit: stretch.limit(),
        offset: stretch.offset(),
    }
}

/// Lines of open orders with something left to ship, the earliest promise first.
#[utoipa::path(params(Stretch, WhichLines), responses((status = 200, body = OpenLines)))]
#[get("/open-lines")]
pub(super) async fn open_lines(
    store: Data<Store>,
    stretch: Query<Stretch>,
    which: Query<WhichLines>,
) -> Answer<OpenLines> {
    let mut connection = store.read().await?;
    let today = rules::load(&mut connection).await?.business_date;
    Ok(Json(orders::open_lines(&mut connection, &line_filter(&stretch, &which), today).await?))
}

/// An order as typed.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct ToPreview {
    /// As typed.
    form: OrderForm,
    /// The order it is, where there is one.
    #[serde(default)]
    order: Option<OrderId>,
    /// Whether it is a quote.
    #[serde(default)]
    quote: bool,
}

/// What an order comes to as typed: prices, tax, availability, tape, blockers. Nothing is written.
#[utoipa::path(responses((status = 200, body = OrderPreview), (status = 422, body = Problem)))]
#[post("/orders/preview")]
pub(super) async fn preview_order(store: Data<Store>, who: Signed, new: Json<ToPreview>) -> Answer<OrderPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let role = Some(who.viewer().role);
    Ok(Json(orders::preview(&mut connection, &rules, &new.form, new.order, new.quote, role).await?))
}

/// Enters a draft order.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = OrderId), (status = 422, body = Problem))
)]
#[post("/orders")]
pub(super) async fn enter_order(store: Data<Store>, change: Change, new: Json<OrderForm>) -> Answer<OrderId> {
    let request = change.request(&new.0);
    let id = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            orders::enter_form(writing, &rules, &new, Lineage::default()).await
        })
        .await?;
    Ok(Json(id))
}

/// An order as changed.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct ChangedOrder {
    /// The version seen.
    version: i64,
    /// As typed.
    form: OrderForm,
}

/// Changes a draft, or amends an open order.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Outcome), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/orders/{id}")]
pub(super) async fn change_order(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ChangedOrder>,
) -> Answer<Outcome> {
    let request = change.request(&new.0);
    let outcome = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            orders::change(writing, &rules, OrderId(*id), new.version, &new.form).await
        })
        .await?;
    Ok(Json(outcome))
}

/// The version seen, and why it should go ahead where it has to be asked for.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct Confirmation {
    /// The version seen.
    version: i64,
    /// Why, where someone has to approve.
    #[serde(default)]
    reason: String,
}

/// Makes a draft order binding, or asks for it.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Outcome), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/orders/{id}/confirm")]
pub(super) async fn confirm_order(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<Confirmation>,
) -> Answer<Outcome> {
    let request = change.request(&new.0);
    let outcome = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            orders::confirm_as(writing, &rules, OrderId(*id), Some(new.version), &new.reason).await
        })
        .await?;
    Ok(Json(outcome))
}

/// Cancels a line of an order, a part of one, or the rest.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/orders/{id}/cancel")]
pub(super) async fn cancel_order(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ToCancel>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| orders::cancel(writing, OrderId(*id), &new).await)
        .await?;
    Ok(Json(Version { version }))
}

/// Copies an order into a new draft of today.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = OrderId), (status = 422, body = Problem))
)]
#[post("/orders/{id}/copy")]
pub(super) async fn copy_order(store: Data<Store>, change: Change, id: Path<i64>) -> Answer<OrderId> {
    let request = change.request(&*id);
    let copy = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            orders::copy(writing, &rules, OrderId(*id)).await
        })
        .await?;
    Ok(Json(copy))
}

/// Stock that was reserved for an item of an order.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct SetAside {
    /// The item's code.
    code: String,
    /// How much more.
    quantity: Quantity,
}

/// Sets stock aside for what an order still has to ship.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Vec<SetAside>), (status = 409, body = Problem))
)]
#[post("/orders/{id}/set-aside")]
pub(super) async fn set_aside(store: Data<Store>, change: Change, id: Path<i64>) -> Answer<Vec<SetAside>> {
    let request = change.request(&*id);
    let added = store
        .change(change.actor(), Some(&request), async |writing| stock::allocate(writing, OrderId(*id)).await)
        .await?;
    Ok(Json(added.into_iter().map(|(code, quantity)| SetAside { code, quantity }).collect()))
}

/// Lets go of what is reserved for a line, for others to have.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 409, body = Problem))
)]
#[post("/order-lines/{id}/let-go")]
pub(super) async fn let_go(store: Data<Store>, change: Change, id: Path<i64>) -> Answer<i64> {
    let request = change.request(&*id);
    store
        .change(change.actor(), Some(&request), async |writing| stock::let_go(writing, OrderLineId(*id)).await)
        .await?;
    Ok(Json(*id))
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
