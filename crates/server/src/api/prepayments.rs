//! Prepayment invoices: what an order asks for in advance, billing it, the register of what is billed, used and left.

use actix_web::web::{Data, Path, Query};
use actix_web::{get, post, put};
use serde::{Deserialize, Serialize};
use till_core::ids::{CustomerId, OrderId, PaymentRequestId};
use till_store::invoices::PostedInvoice;
use till_store::prepayments::{
    self, AdvanceForm, AdvancePlan, NewRequestPayment, PaymentRequestRow, PaymentRequestView, PrepaymentFilter,
    PrepaymentList, RequestPaid, SavedAdvance,
};
use till_store::{Store, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::overview::Version;
use super::{Answer, Stretch};
use crate::problem::Problem;
use crate::request::{Change, Json, beside};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(list)
        .service(plan)
        .service(save)
        .service(preview)
        .service(bill)
        .service(ask)
        .service(view_request)
        .service(preview_pay)
        .service(pay)
        .service(withdraw);
}

/// Whose prepayment invoices to list.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct WhosePrepayments {
    /// Only of this customer.
    #[serde(default)]
    customer: Option<i64>,
}

/// The filter a list was asked for with.
pub(super) fn filter(stretch: &Stretch, customer: Option<i64>) -> PrepaymentFilter {
    PrepaymentFilter {
        search: stretch.search().map(str::to_owned),
        state: stretch.state.clone().filter(|state| !state.is_empty()),
        customer: customer.map(CustomerId),
        limit: stretch.limit(),
        offset: stretch.offset(),
    }
}

/// Prepayment invoices, newest first. State `unpaid`, `left`, `to_credit` or `used` keeps to those.
#[utoipa::path(operation_id = "prepayments", params(Stretch, WhosePrepayments), responses((status = 200, body = PrepaymentList)))]
#[get("/prepayments")]
pub(super) async fn list(
    store: Data<Store>,
    stretch: Query<Stretch>,
    whose: Query<WhosePrepayments>,
) -> Answer<PrepaymentList> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(prepayments::list(&mut connection, &rules, &filter(&stretch, whose.customer)).await?))
}

/// What an order asks for in advance, as saved with the order.
#[utoipa::path(operation_id = "advance", responses((status = 200, body = AdvancePlan), (status = 404, body = Problem)))]
#[get("/orders/{id}/advance")]
pub(super) async fn plan(store: Data<Store>, id: Path<i64>) -> Answer<AdvancePlan> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(prepayments::plan(&mut connection, &rules, OrderId(*id), None).await?))
}

/// What is to be kept with an order.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct SaveAdvance {
    /// The version of the order that was seen.
    version: i64,
    /// What it asks for.
    #[serde(flatten)]
    advance: SavedAdvance,
}

beside!(SaveAdvance { version: i64 } and advance: SavedAdvance);

/// Keeps with an order what it asks for in advance.
#[utoipa::path(
    operation_id = "save_advance",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/orders/{id}/advance")]
pub(super) async fn save(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<SaveAdvance>,
) -> Answer<Version> {
    let request = change.request(&wish.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            prepayments::save(writing, &rules, OrderId(*id), (wish.version, &wish.advance)).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// The prepayment invoice that what is typed comes to. Nothing is written.
#[utoipa::path(operation_id = "preview_advance", responses((status = 200, body = AdvancePlan), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[post("/orders/{id}/advance/preview")]
pub(super) async fn preview(store: Data<Store>, id: Path<i64>, form: Json<AdvanceForm>) -> Answer<AdvancePlan> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(prepayments::plan(&mut connection, &rules, OrderId(*id), Some(&form)).await?))
}

/// Bills what is asked for in advance.
#[utoipa::path(
    operation_id = "bill_advance",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = PostedInvoice), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/orders/{id}/advance")]
pub(super) async fn bill(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    form: Json<AdvanceForm>,
) -> Answer<PostedInvoice> {
    let request = change.request(&form.0);
    let posted = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            prepayments::bill(writing, &rules, OrderId(*id), &form).await
        })
        .await?;
    Ok(Json(posted))
}

/// Asks for payment in advance, without an entry before it is paid.
#[utoipa::path(
    operation_id = "request_payment",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = PaymentRequestRow), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/orders/{id}/payment-requests")]
pub(super) async fn ask(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    form: Json<AdvanceForm>,
) -> Answer<PaymentRequestRow> {
    let request = change.request(&form.0);
    let asked = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            prepayments::request(writing, &rules, OrderId(*id), &form).await
        })
        .await?;
    Ok(Json(asked))
}

/// One request for payment.
#[utoipa::path(operation_id = "payment_request", responses((status = 200, body = PaymentRequestView), (status = 404, body = Problem)))]
#[get("/payment-requests/{id}")]
pub(super) async fn view_request(store: Data<Store>, id: Path<i64>) -> Answer<PaymentRequestView> {
    Ok(Json(prepayments::request_view(&mut *store.read().await?, PaymentRequestId(*id)).await?))
}

/// What the money for a request would do. Nothing is written.
#[utoipa::path(
    operation_id = "preview_pay_request",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = RequestPaid), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/payment-requests/{id}/pay/preview")]
pub(super) async fn preview_pay(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<NewRequestPayment>,
) -> Answer<RequestPaid> {
    Ok(Json(prepayments::preview_pay(&store, change.actor(), PaymentRequestId(*id), &new).await?))
}

/// Money for a request, and the version of it that was seen.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PayRequest {
    /// The version seen.
    version: i64,
    /// The money.
    #[serde(flatten)]
    payment: NewRequestPayment,
}

beside!(PayRequest { version: i64 } and payment: NewRequestPayment);

/// Takes the money for a request: it becomes a prepayment invoice of that day.
#[utoipa::path(
    operation_id = "pay_request",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = RequestPaid), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/payment-requests/{id}/pay")]
pub(super) async fn pay(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<PayRequest>,
) -> Answer<RequestPaid> {
    let request = change.request(&wish.0);
    let paid = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            prepayments::pay(writing, &rules, PaymentRequestId(*id), (wish.version, &wish.payment)).await
        })
        .await?;
    Ok(Json(paid))
}

/// Why a request is withdrawn.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct WithdrawRequest {
    /// The version seen.
    version: i64,
    /// Why.
    #[serde(default)]
    reason: String,
}

/// Withdraws a request that was not paid.
#[utoipa::path(
    operation_id = "withdraw_request",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/payment-requests/{id}/withdraw")]
pub(super) async fn withdraw(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<WithdrawRequest>,
) -> Answer<Version> {
    let request = change.request(&wish.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            prepayments::withdraw(writing, PaymentRequestId(*id), (wish.version, &wish.reason)).await
        })
        .await?;
    Ok(Json(Version { version }))
}
