//! Receipts: posting, applying, unapplying, reversing; the ways of paying.

use actix_web::web::{Data, Path, Query};
use actix_web::{get, post, put};
use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::ids::{CustomerId, ReceiptId};
use till_store::money_places::{self, MethodForm, PaymentMethod, PlaceForm, PlaceRow};
use till_store::receipts::{
    self, Advice, BackPreview, MoneyPreview, NewApplications, NewReceipt, PayerFound, PostedReceipt, ReceiptList,
    ReceiptView, ToReverseReceipt, ToUnapply,
};
use till_store::{Store, StoreError, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::overview::Version;
use super::{Answer, Stretch};
use crate::body::SmallFile;
use crate::problem::Problem;
use crate::request::{Asker, Change, Json, beside};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(advice)
        .service(payers)
        .service(preview)
        .service(post)
        .service(list)
        .service(view)
        .service(preview_apply)
        .service(apply)
        .service(preview_unapply)
        .service(unapply)
        .service(preview_reverse)
        .service(reverse)
        .service(methods)
        .service(set_method)
        .service(places)
        .service(add_place);
}

/// What a receipt would do. Without applications, the oldest invoices are proposed first.
#[utoipa::path(operation_id = "preview_receipt", responses((status = 200, body = MoneyPreview), (status = 422, body = Problem)))]
#[post("/receipts/preview")]
pub(super) async fn preview(store: Data<Store>, asker: Asker, new: Json<NewReceipt>) -> Answer<MoneyPreview> {
    if !new.with.is_empty() {
        // What is used with it is used before the money counts: rehearsed, nothing stays.
        let preview = store.rehearse(asker.actor(), async |writing| {
            let rules = rules::load(writing).await?;
            receipts::preview_mixed(writing, &rules, &new).await
        });
        return Ok(Json(preview.await?));
    }
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(receipts::preview(&mut connection, &rules, &new).await?))
}

/// Whose advice it is, and the day its payment came on.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct AdviceOf {
    /// Who pays.
    customer: i64,
    /// When; none for the business date.
    date: Option<NaiveDate>,
}

/// What a remittance advice pays: a table in CSV, read by the names of its columns.
#[utoipa::path(
    operation_id = "remittance_advice",
    params(AdviceOf),
    request_body(content = String, content_type = "text/csv"),
    responses((status = 200, body = Advice), (status = 422, body = Problem))
)]
#[post("/receipts/advice/preview")]
pub(super) async fn advice(store: Data<Store>, of: Query<AdviceOf>, body: SmallFile) -> Answer<Advice> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let customer = CustomerId(of.customer);
    let currency = till_store::customers::view(&mut connection, customer).await?.currency;
    let lines =
        till_formats::advice::read(&body, currency).map_err(|error| StoreError::invalid("file", error.to_string()))?;
    Ok(Json(receipts::advice(&mut connection, &rules, (customer, of.date), &lines).await?))
}

/// What someone has in hand of a payment.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct InHand {
    /// A part of a number, a payment reference.
    #[serde(default)]
    q: String,
    /// The same, where it reads as an amount: a decimal.
    #[serde(default)]
    amount: Option<String>,
}

/// Who may have paid, by the number of a document, a payment reference or an amount.
#[utoipa::path(operation_id = "payers", params(InHand), responses((status = 200, body = Vec<PayerFound>)))]
#[get("/payers")]
pub(super) async fn payers(store: Data<Store>, of: Query<InHand>) -> Answer<Vec<PayerFound>> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(receipts::payers(&mut connection, &rules, (&of.q, of.amount.as_deref())).await?))
}

/// A receipt to post.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PostReceipt {
    /// The receipt.
    #[serde(flatten)]
    receipt: NewReceipt,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(PostReceipt { seen: String } and receipt: NewReceipt);

/// Posts a receipt.
#[utoipa::path(
    operation_id = "post_receipt",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = PostedReceipt), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/receipts")]
pub(super) async fn post(store: Data<Store>, change: Change, new: Json<PostReceipt>) -> Answer<PostedReceipt> {
    let request = change.request(&new.0);
    let posted = store
        .change(change.actor(), Some(&request), async |connection| {
            let rules = rules::load(connection).await?;
            receipts::post(connection, &rules, &new.receipt, Some(&new.seen)).await
        })
        .await?;
    Ok(Json(posted))
}

/// Receipts, newest first. State `unapplied` keeps to those with money left.
#[utoipa::path(operation_id = "receipts", params(Stretch), responses((status = 200, body = ReceiptList)))]
#[get("/receipts")]
pub(super) async fn list(store: Data<Store>, stretch: Query<Stretch>) -> Answer<ReceiptList> {
    let only_unapplied = stretch.state.as_deref() == Some("unapplied");
    let found =
        receipts::list(&mut *store.read().await?, stretch.search(), only_unapplied, stretch.limit(), stretch.offset())
            .await?;
    Ok(Json(found))
}

/// One receipt.
#[utoipa::path(operation_id = "receipt", responses((status = 200, body = ReceiptView), (status = 404, body = Problem)))]
#[get("/receipts/{id}")]
pub(super) async fn view(store: Data<Store>, id: Path<i64>) -> Answer<ReceiptView> {
    Ok(Json(receipts::view(&mut *store.read().await?, ReceiptId(*id)).await?))
}

/// What applying unapplied money would do.
#[utoipa::path(responses((status = 200, body = MoneyPreview), (status = 422, body = Problem)))]
#[post("/receipts/{id}/applications/preview")]
pub(super) async fn preview_apply(
    store: Data<Store>,
    id: Path<i64>,
    new: Json<NewApplications>,
) -> Answer<MoneyPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(receipts::preview_apply(&mut connection, &rules, ReceiptId(*id), &new).await?))
}

/// Unapplied money to apply.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PostApplications {
    /// The receipt's version seen.
    pub(super) version: i64,
    /// Where the money goes.
    #[serde(flatten)]
    pub(super) new: NewApplications,
    /// Fingerprint of the preview seen.
    pub(super) seen: String,
}

beside!(PostApplications { version: i64, seen: String } and new: NewApplications);

/// Applies unapplied money.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/receipts/{id}/applications")]
pub(super) async fn apply(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<PostApplications>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |connection| {
            let rules = rules::load(connection).await?;
            receipts::apply(connection, &rules, ReceiptId(*id), new.version, &new.new, Some(&new.seen)).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// The ways of paying one can choose from.
#[utoipa::path(operation_id = "payment_methods", responses((status = 200, body = Vec<PaymentMethod>)))]
#[get("/payment-methods")]
pub(super) async fn methods(store: Data<Store>) -> Answer<Vec<PaymentMethod>> {
    Ok(Json(money_places::methods(&mut *store.read().await?).await?))
}

/// The places of money, with the ways of paying that lead to each.
#[utoipa::path(operation_id = "money_places", responses((status = 200, body = Vec<PlaceRow>)))]
#[get("/money-places")]
pub(super) async fn places(store: Data<Store>) -> Answer<Vec<PlaceRow>> {
    Ok(Json(money_places::places(&mut *store.read().await?).await?))
}

/// Adds a place of money with the way of paying that leads to it. Answers with its code.
#[utoipa::path(
    operation_id = "add_money_place",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = String, content_type = "application/json"), (status = 422, body = Problem))
)]
#[post("/money-places")]
pub(super) async fn add_place(store: Data<Store>, change: Change, form: Json<PlaceForm>) -> Answer<String> {
    let request = change.request(&form.0);
    let code = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            money_places::add_place(writing, &rules, &form).await
        })
        .await?;
    Ok(Json(code))
}

/// Renames a way of paying, offers it, or offers it no more.
#[utoipa::path(
    operation_id = "set_payment_method",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[put("/payment-methods/{code}")]
pub(super) async fn set_method(
    store: Data<Store>,
    change: Change,
    code: Path<String>,
    form: Json<MethodForm>,
) -> Answer<bool> {
    let request = change.request(&form.0);
    store
        .change(change.actor(), Some(&request), async |writing| money_places::set_method(writing, &code, &form).await)
        .await?;
    Ok(Json(true))
}

/// What unapplying would do.
#[utoipa::path(operation_id = "preview_unapply", responses((status = 200, body = BackPreview), (status = 422, body = Problem)))]
#[post("/receipts/{id}/unapply/preview")]
pub(super) async fn preview_unapply(store: Data<Store>, id: Path<i64>, wish: Json<ToUnapply>) -> Answer<BackPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(receipts::preview_unapply(&mut connection, &rules, ReceiptId(*id), &wish).await?))
}

/// Applications to take back.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PostUnapply {
    /// The receipt's version seen.
    pub(super) version: i64,
    /// Which, when and why.
    #[serde(flatten)]
    pub(super) wish: ToUnapply,
    /// Fingerprint of the preview seen.
    pub(super) seen: String,
}

beside!(PostUnapply { version: i64, seen: String } and wish: ToUnapply);

/// Unapplies money: what it settled is open again, the money lies with its receipt.
#[utoipa::path(
    operation_id = "unapply",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/receipts/{id}/unapply")]
pub(super) async fn unapply(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<PostUnapply>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            receipts::unapply(writing, &rules, ReceiptId(*id), (new.version, &new.seen), &new.wish).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// What reversing a receipt would do.
#[utoipa::path(operation_id = "preview_reverse_receipt", responses((status = 200, body = BackPreview), (status = 422, body = Problem)))]
#[post("/receipts/{id}/reverse/preview")]
pub(super) async fn preview_reverse(
    store: Data<Store>,
    id: Path<i64>,
    wish: Json<ToReverseReceipt>,
) -> Answer<BackPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(receipts::preview_reverse(&mut connection, &rules, ReceiptId(*id), &*wish).await?))
}

/// A receipt to reverse.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PostReverse {
    /// The receipt's version seen.
    version: i64,
    /// When and why.
    #[serde(flatten)]
    wish: ToReverseReceipt,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(PostReverse { version: i64, seen: String } and wish: ToReverseReceipt);

/// Reverses a receipt that was typed in error: what it settled is open again, the money was never there.
#[utoipa::path(
    operation_id = "reverse_receipt",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/receipts/{id}/reverse")]
pub(super) async fn reverse(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<PostReverse>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            receipts::reverse(writing, &rules, ReceiptId(*id), (new.version, &new.seen), &new.wish).await
        })
        .await?;
    Ok(Json(Version { version }))
}
