//! What is done with goods that come back besides returning them: credited or exchanged at once, a wrong item put right, repaired,
//! expected.

use actix_web::web::{Data, Path};
use actix_web::{get, post};
use serde::Serialize;
use till_core::ids::{DocumentRef, InvoiceId, ReturnId};
use till_core::returns::Repair;
use till_store::returns::{
    self, AccrualPreview, AtOncePreview, BackAtOnce, Done, DoneAtOnce, ExpectedReturns, ExpectedReturnsPreview,
    NewAccrual, NewExpectedReturns, ReceiveForm, StepPreview, UnknownAtOnce, WrongItem, WrongItemPreview,
};
use till_store::{Store, rules};
use utoipa::ToSchema;
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use crate::problem::Problem;
use crate::request::{Change, Json, beside};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(preview_at_once)
        .service(at_once)
        .service(preview_unknown_at_once)
        .service(unknown_at_once)
        .service(preview_wrong_item)
        .service(wrong_item)
        .service(preview_for_repair)
        .service(for_repair)
        .service(preview_repaired)
        .service(repaired)
        .service(expected)
        .service(preview_expected)
        .service(enter_expected)
        .service(preview_accrual)
        .service(enter_accrual);
}

/// What taking goods back and crediting them in one posting would do. It is rehearsed; nothing stays.
#[utoipa::path(
    operation_id = "preview_back_at_once",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = AtOncePreview), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/invoices/{id}/back-at-once/preview")]
pub(super) async fn preview_at_once(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<BackAtOnce>,
) -> Answer<AtOncePreview> {
    Ok(Json(returns::at_once_preview(&store, change.actor(), InvoiceId(*id), &wish).await?))
}

/// Takes goods back and credits them in one posting, with what goes out for them.
#[utoipa::path(
    operation_id = "back_at_once",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = DoneAtOnce), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/invoices/{id}/back-at-once")]
pub(super) async fn at_once(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<BackAtOnce>,
) -> Answer<DoneAtOnce> {
    let request = change.request(&wish.0);
    let done = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::at_once(writing, &rules, InvoiceId(*id), &wish).await
        })
        .await?;
    Ok(Json(done))
}

/// What taking goods back that no document shows, and crediting them in one posting, would do. It is rehearsed; nothing stays.
#[utoipa::path(
    operation_id = "preview_unknown_at_once",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = AtOncePreview), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/exchanges/preview")]
pub(super) async fn preview_unknown_at_once(
    store: Data<Store>,
    change: Change,
    wish: Json<UnknownAtOnce>,
) -> Answer<AtOncePreview> {
    Ok(Json(returns::unknown_at_once_preview(&store, change.actor(), &wish).await?))
}

/// Takes goods back that no document shows and credits them in one posting, with what goes out for them.
#[utoipa::path(
    operation_id = "unknown_at_once",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = DoneAtOnce), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/exchanges")]
pub(super) async fn unknown_at_once(
    store: Data<Store>,
    change: Change,
    wish: Json<UnknownAtOnce>,
) -> Answer<DoneAtOnce> {
    let request = change.request(&wish.0);
    let done = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::unknown_at_once(writing, &rules, &wish).await
        })
        .await?;
    Ok(Json(done))
}

/// What putting a wrong delivery right would do. It is rehearsed; nothing stays.
#[utoipa::path(
    operation_id = "preview_wrong_item",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = WrongItemPreview), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/invoices/{id}/wrong-item/preview")]
pub(super) async fn preview_wrong_item(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<WrongItem>,
) -> Answer<WrongItemPreview> {
    Ok(Json(returns::put_right_preview(&store, change.actor(), InvoiceId(*id), &wish).await?))
}

/// Puts a wrong delivery right: what went by mistake is back and waits for inspection, what was billed goes.
#[utoipa::path(
    operation_id = "wrong_item",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = DocumentRef), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/invoices/{id}/wrong-item")]
pub(super) async fn wrong_item(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<WrongItem>,
) -> Answer<DocumentRef> {
    let request = change.request(&wish.0);
    let kept = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::put_right(writing, &rules, InvoiceId(*id), &wish).await
        })
        .await?;
    Ok(Json(kept))
}

/// Goods that come in for repair, or go back.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct RepairReturn {
    /// The version seen.
    version: i64,
    /// Fingerprint of the preview seen.
    seen: String,
    /// How much of which line.
    #[serde(flatten)]
    form: ReceiveForm,
}

beside!(RepairReturn { version: i64, seen: String } and form: ReceiveForm);

async fn preview(store: &Store, id: i64, way: Repair, form: &ReceiveForm) -> Answer<StepPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::repair_preview(&mut connection, &rules, ReturnId(id), way, form).await?))
}

async fn carry_out(store: &Store, change: &Change, id: i64, way: Repair, new: &RepairReturn) -> Answer<Done> {
    let request = change.request(new);
    let done = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            let seen = (new.version, Some(new.seen.as_str()));
            returns::repair(writing, &rules, ReturnId(id), seen, way, &new.form).await
        })
        .await?;
    Ok(Json(done))
}

/// Whether goods of a return can come in for repair.
#[utoipa::path(operation_id = "preview_for_repair", responses((status = 200, body = StepPreview), (status = 422, body = Problem)))]
#[post("/returns/{id}/for-repair/preview")]
pub(super) async fn preview_for_repair(
    store: Data<Store>,
    id: Path<i64>,
    form: Json<ReceiveForm>,
) -> Answer<StepPreview> {
    preview(&store, *id, Repair::In, &form).await
}

/// Takes goods of a return in for repair: they stay the customer's.
#[utoipa::path(
    operation_id = "for_repair",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Done), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/returns/{id}/for-repair")]
pub(super) async fn for_repair(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<RepairReturn>,
) -> Answer<Done> {
    carry_out(&store, &change, *id, Repair::In, &new).await
}

/// Whether goods that are in for repair can go back.
#[utoipa::path(operation_id = "preview_repaired", responses((status = 200, body = StepPreview), (status = 422, body = Problem)))]
#[post("/returns/{id}/repaired/preview")]
pub(super) async fn preview_repaired(
    store: Data<Store>,
    id: Path<i64>,
    form: Json<ReceiveForm>,
) -> Answer<StepPreview> {
    preview(&store, *id, Repair::Out, &form).await
}

/// Sends goods back that were in for repair.
#[utoipa::path(
    operation_id = "repaired",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Done), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/returns/{id}/repaired")]
pub(super) async fn repaired(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<RepairReturn>,
) -> Answer<Done> {
    carry_out(&store, &change, *id, Repair::Out, &new).await
}

/// What returns are expected, as it stands.
#[utoipa::path(operation_id = "expected_returns", responses((status = 200, body = ExpectedReturns)))]
#[get("/expected-returns")]
pub(super) async fn expected(store: Data<Store>) -> Answer<ExpectedReturns> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::expected_returns(&mut connection, &rules).await?))
}

/// What an estimate of expected returns would enter. Nothing is written.
#[utoipa::path(
    operation_id = "preview_expected_returns",
    responses((status = 200, body = ExpectedReturnsPreview), (status = 422, body = Problem))
)]
#[post("/expected-returns/preview")]
pub(super) async fn preview_expected(
    store: Data<Store>,
    new: Json<NewExpectedReturns>,
) -> Answer<ExpectedReturnsPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::expected_returns_preview(&mut connection, &rules, &new).await?))
}

/// Enters what returns are expected: the difference to the estimate that stands.
#[utoipa::path(
    operation_id = "enter_expected_returns",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = DocumentRef), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/expected-returns")]
pub(super) async fn enter_expected(
    store: Data<Store>,
    change: Change,
    new: Json<NewExpectedReturns>,
) -> Answer<DocumentRef> {
    let request = change.request(&new.0);
    let entered = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::enter_expected_returns(writing, &rules, &new).await
        })
        .await?;
    Ok(Json(entered))
}

/// What is back and not credited on a day, and what entering it would do. Nothing is written.
#[utoipa::path(operation_id = "preview_return_accrual", responses((status = 200, body = AccrualPreview), (status = 422, body = Problem)))]
#[post("/expected-returns/back/preview")]
pub(super) async fn preview_accrual(store: Data<Store>, new: Json<NewAccrual>) -> Answer<AccrualPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::accrual_preview(&mut connection, &rules, &new).await?))
}

/// Enters what is back and not credited, with its reversal on the first day of the next month.
#[utoipa::path(
    operation_id = "enter_return_accrual",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = DocumentRef), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/expected-returns/back")]
pub(super) async fn enter_accrual(store: Data<Store>, change: Change, new: Json<NewAccrual>) -> Answer<DocumentRef> {
    let request = change.request(&new.0);
    let entered = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::enter_accrual(writing, &rules, &new).await
        })
        .await?;
    Ok(Json(entered))
}
