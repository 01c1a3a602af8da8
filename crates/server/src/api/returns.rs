//! Returns: authorizing, extending, closing, receiving, inspecting, replacing, taking a step back; reasons and dispositions.

use actix_web::web::{Data, Path, Query};
use actix_web::{get, post, put};
use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::ids::{CustomerId, InvoiceId, ReturnId, ReturnStepId, ShipmentId};
use till_store::receipts::ToReverse;
use till_store::returns::{
    self, DispositionForm, Done, InspectForm, NewReturn, ReasonForm, ReceiveForm, ReplaceForm, ReportBy, ReturnFilter,
    ReturnList, ReturnPreview, ReturnReport, ReturnRules, ReturnSettings, ReturnToClose, ReturnView, ReturnableFilter,
    ReturnableList, StepPreview, WaitingRow,
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
        .service(waiting)
        .service(why)
        .service(returnable)
        .service(settings)
        .service(set_reason)
        .service(set_disposition)
        .service(set_rules)
        .service(preview)
        .service(authorize)
        .service(view)
        .service(extend)
        .service(close)
        .service(preview_receive)
        .service(receive)
        .service(preview_inspect)
        .service(inspect)
        .service(preview_replace)
        .service(replace)
        .service(preview_undo)
        .service(undo);
}

/// Whose returns to list.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Whose {
    /// Only of this customer.
    #[serde(default)]
    customer: Option<i64>,
    /// Only of what this invoice billed.
    #[serde(default)]
    invoice: Option<i64>,
    /// Only of what left with this shipment.
    #[serde(default)]
    shipment: Option<i64>,
}

/// Returns. State `open` keeps to those that still need something, the oldest first; otherwise the newest come first.
#[utoipa::path(operation_id = "returns", params(Stretch, Whose), responses((status = 200, body = ReturnList)))]
#[get("/returns")]
pub(super) async fn list(store: Data<Store>, stretch: Query<Stretch>, whose: Query<Whose>) -> Answer<ReturnList> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let filter = ReturnFilter {
        search: stretch.search(),
        only_open: stretch.state.as_deref() == Some("open"),
        customer: whose.customer.map(CustomerId),
        invoice: whose.invoice.map(InvoiceId),
        shipment: whose.shipment.map(ShipmentId),
    };
    Ok(Json(returns::list(&mut connection, &rules, &filter, (stretch.limit(), stretch.offset())).await?))
}

/// What waits for inspection, by place, the longest first.
#[utoipa::path(operation_id = "returns_waiting", responses((status = 200, body = Vec<WaitingRow>)))]
#[get("/returns/waiting")]
pub(super) async fn waiting(store: Data<Store>) -> Answer<Vec<WaitingRow>> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::waiting(&mut connection, &rules).await?))
}

/// What the report counts by, and over which days.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Why {
    /// By reason, where nothing is said.
    #[serde(default)]
    #[param(inline)]
    by: ReportBy,
    /// The first day; none for half a year.
    #[serde(default)]
    from: Option<NaiveDate>,
    /// The last day; none for the business date.
    #[serde(default)]
    to: Option<NaiveDate>,
}

/// Why goods came back, and what it cost.
#[utoipa::path(operation_id = "return_report", params(Why), responses((status = 200, body = ReturnReport), (status = 422, body = Problem)))]
#[get("/returns/report")]
pub(super) async fn why(store: Data<Store>, what: Query<Why>) -> Answer<ReturnReport> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::why(&mut connection, &rules, what.by, (what.from, what.to)).await?))
}

/// Everything that was billed to a customer, or left and is not billed, newest first, with what of it may still come back.
#[utoipa::path(operation_id = "returnable", params(Stretch, Whose), responses((status = 200, body = ReturnableList)))]
#[get("/returnable")]
pub(super) async fn returnable(
    store: Data<Store>,
    stretch: Query<Stretch>,
    whose: Query<Whose>,
) -> Answer<ReturnableList> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let filter = ReturnableFilter {
        customer: whose.customer.map(CustomerId),
        invoice: whose.invoice.map(InvoiceId),
        shipment: whose.shipment.map(ShipmentId),
        search: stretch.search(),
    };
    Ok(Json(returns::returnable(&mut connection, &rules, &filter, (stretch.limit(), stretch.offset())).await?))
}

/// Reasons, dispositions, days.
#[utoipa::path(operation_id = "return_settings", responses((status = 200, body = ReturnSettings)))]
#[get("/return-settings")]
pub(super) async fn settings(store: Data<Store>) -> Answer<ReturnSettings> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::settings(&mut connection, &rules).await?))
}

/// Adds a reason, or changes one.
#[utoipa::path(
    operation_id = "set_return_reason",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[put("/return-settings/reasons")]
pub(super) async fn set_reason(store: Data<Store>, change: Change, form: Json<ReasonForm>) -> Answer<bool> {
    let request = change.request(&form.0);
    store.change(change.actor(), Some(&request), async |writing| returns::set_reason(writing, &form).await).await?;
    Ok(Json(true))
}

/// Adds a disposition, or changes the name of one.
#[utoipa::path(
    operation_id = "set_disposition",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[put("/return-settings/dispositions")]
pub(super) async fn set_disposition(store: Data<Store>, change: Change, form: Json<DispositionForm>) -> Answer<bool> {
    let request = change.request(&form.0);
    store
        .change(change.actor(), Some(&request), async |writing| returns::set_disposition(writing, &form).await)
        .await?;
    Ok(Json(true))
}

/// Sets for how many days a return may arrive, and what is asked of it.
#[utoipa::path(
    operation_id = "set_return_rules",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[put("/return-settings/rules")]
pub(super) async fn set_rules(store: Data<Store>, change: Change, form: Json<ReturnRules>) -> Answer<bool> {
    let request = change.request(&form.0);
    store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::set_rules(writing, &rules, &form).await
        })
        .await?;
    Ok(Json(true))
}

/// What authorizing a return would do.
#[utoipa::path(operation_id = "preview_return", responses((status = 200, body = ReturnPreview), (status = 422, body = Problem)))]
#[post("/returns/preview")]
pub(super) async fn preview(store: Data<Store>, new: Json<NewReturn>) -> Answer<ReturnPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::preview(&mut connection, &rules, &new).await?))
}

/// A return to authorize.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PostReturn {
    /// The return.
    #[serde(flatten)]
    wish: NewReturn,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(PostReturn { seen: String } and wish: NewReturn);

/// A return that was authorized.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct Authorized {
    /// Its id.
    id: ReturnId,
    /// Its number.
    number: String,
}

/// Authorizes a return. Nothing is posted.
#[utoipa::path(
    operation_id = "authorize_return",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Authorized), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/returns")]
pub(super) async fn authorize(store: Data<Store>, change: Change, new: Json<PostReturn>) -> Answer<Authorized> {
    let request = change.request(&new.0);
    let (id, number) = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::authorize(writing, &rules, &new.wish, Some(&new.seen)).await
        })
        .await?;
    Ok(Json(Authorized { id, number }))
}

/// One return.
#[utoipa::path(operation_id = "return", responses((status = 200, body = ReturnView), (status = 404, body = Problem)))]
#[get("/returns/{id}")]
pub(super) async fn view(store: Data<Store>, id: Path<i64>) -> Answer<ReturnView> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::view(&mut connection, &rules, ReturnId(*id)).await?))
}

/// Until when a return may arrive.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct ExtendReturn {
    /// The version seen.
    version: i64,
    /// The last day.
    expires_on: NaiveDate,
}

/// Lets a return arrive until another day.
#[utoipa::path(
    operation_id = "extend_return",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/returns/{id}/expiry")]
pub(super) async fn extend(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ExtendReturn>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::extend(writing, &rules, ReturnId(*id), (new.version, new.expires_on)).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// Closes a return: nothing more arrives on it.
#[utoipa::path(
    operation_id = "close_return",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/returns/{id}/close")]
pub(super) async fn close(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ReturnToClose>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::close(writing, &rules, ReturnId(*id), &new).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// What receiving goods would do.
#[utoipa::path(operation_id = "preview_receive_return", responses((status = 200, body = StepPreview), (status = 422, body = Problem)))]
#[post("/returns/{id}/receive/preview")]
pub(super) async fn preview_receive(store: Data<Store>, id: Path<i64>, form: Json<ReceiveForm>) -> Answer<StepPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::receive_preview(&mut connection, &rules, ReturnId(*id), &form).await?))
}

/// Goods to receive.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct ReceiveReturn {
    /// The version seen.
    version: i64,
    /// Fingerprint of the preview seen.
    seen: String,
    /// What arrived.
    #[serde(flatten)]
    form: ReceiveForm,
}

beside!(ReceiveReturn { version: i64, seen: String } and form: ReceiveForm);

/// Receives goods of a return.
#[utoipa::path(
    operation_id = "receive_return",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Done), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/returns/{id}/receive")]
pub(super) async fn receive(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ReceiveReturn>,
) -> Answer<Done> {
    let request = change.request(&new.0);
    let done = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::receive(writing, &rules, ReturnId(*id), (new.version, Some(&new.seen)), &new.form).await
        })
        .await?;
    Ok(Json(done))
}

/// What an inspection would do.
#[utoipa::path(operation_id = "preview_inspect_return", responses((status = 200, body = StepPreview), (status = 422, body = Problem)))]
#[post("/returns/{id}/inspect/preview")]
pub(super) async fn preview_inspect(store: Data<Store>, id: Path<i64>, form: Json<InspectForm>) -> Answer<StepPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::inspect_preview(&mut connection, &rules, ReturnId(*id), &form).await?))
}

/// What becomes of goods that came back.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct InspectReturn {
    /// The version seen.
    version: i64,
    /// Fingerprint of the preview seen.
    seen: String,
    /// What becomes of what.
    #[serde(flatten)]
    form: InspectForm,
}

beside!(InspectReturn { version: i64, seen: String } and form: InspectForm);

/// Decides what becomes of goods that came back.
#[utoipa::path(
    operation_id = "inspect_return",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Done), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/returns/{id}/inspect")]
pub(super) async fn inspect(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<InspectReturn>,
) -> Answer<Done> {
    let request = change.request(&new.0);
    let done = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::inspect(writing, &rules, ReturnId(*id), (new.version, Some(&new.seen)), &new.form).await
        })
        .await?;
    Ok(Json(done))
}

/// What a replacement would do.
#[utoipa::path(operation_id = "preview_replace_return", responses((status = 200, body = StepPreview), (status = 422, body = Problem)))]
#[post("/returns/{id}/replace/preview")]
pub(super) async fn preview_replace(store: Data<Store>, id: Path<i64>, form: Json<ReplaceForm>) -> Answer<StepPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::replace_preview(&mut connection, &rules, ReturnId(*id), &form).await?))
}

/// A replacement to send.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct ReplaceReturn {
    /// The version seen.
    version: i64,
    /// Fingerprint of the preview seen.
    seen: String,
    /// How much of what.
    #[serde(flatten)]
    form: ReplaceForm,
}

beside!(ReplaceReturn { version: i64, seen: String } and form: ReplaceForm);

/// Sends a replacement at no charge.
#[utoipa::path(
    operation_id = "replace_return",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Done), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/returns/{id}/replace")]
pub(super) async fn replace(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ReplaceReturn>,
) -> Answer<Done> {
    let request = change.request(&new.0);
    let done = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::replace(writing, &rules, ReturnId(*id), (new.version, Some(&new.seen)), &new.form).await
        })
        .await?;
    Ok(Json(done))
}

/// What reversing a step would do.
#[utoipa::path(operation_id = "preview_undo_return_step", responses((status = 200, body = StepPreview), (status = 422, body = Problem)))]
#[post("/returns/{id}/steps/{step}/reverse/preview")]
pub(super) async fn preview_undo(
    store: Data<Store>,
    path: Path<(i64, i64)>,
    wish: Json<ToReverse>,
) -> Answer<StepPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let (id, step) = *path;
    Ok(Json(returns::undo_preview(&mut connection, &rules, (ReturnId(id), ReturnStepId(step)), &wish).await?))
}

/// A step to reverse.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct UndoStep {
    /// The version seen.
    version: i64,
    /// Fingerprint of the preview seen.
    seen: String,
    /// When, and why.
    #[serde(flatten)]
    wish: ToReverse,
}

beside!(UndoStep { version: i64, seen: String } and wish: ToReverse);

/// Reverses a step of a return that was entered in error.
#[utoipa::path(
    operation_id = "undo_return_step",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Done), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/returns/{id}/steps/{step}/reverse")]
pub(super) async fn undo(
    store: Data<Store>,
    change: Change,
    path: Path<(i64, i64)>,
    new: Json<UndoStep>,
) -> Answer<Done> {
    let request = change.request(&new.0);
    let (id, step) = *path;
    let done = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            let what = (ReturnId(id), ReturnStepId(step));
            returns::undo(writing, &rules, what, (new.version, Some(&new.seen)), &new.wish).await
        })
        .await?;
    Ok(Json(done))
}
