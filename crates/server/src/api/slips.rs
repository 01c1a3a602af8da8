//! Bank deposit slips, and what lies in hand.

use actix_web::web::{Data, Path, Query};
use actix_web::{get, post};
use serde::Serialize;
use till_core::ids::BankSlipId;
use till_store::bank::{self, InHandRow, NewSlip, PreparedSlip, SlipList, SlipPreview, SlipView, ToBank, ToCancelSlip};
use till_store::{Store, rules};
use utoipa::ToSchema;
use utoipa_actix_web::service_config::ServiceConfig;

use super::overview::Version;
use super::{Answer, Stretch};
use crate::problem::Problem;
use crate::request::{Change, Json, beside};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(in_hand)
        .service(preview)
        .service(list)
        .service(view)
        .service(prepare)
        .service(preview_bank)
        .service(to_bank)
        .service(cancel);
}

/// What lies in hand and stands on no slip.
#[utoipa::path(operation_id = "in_hand", responses((status = 200, body = Vec<InHandRow>)))]
#[get("/in-hand")]
pub(super) async fn in_hand(store: Data<Store>) -> Answer<Vec<InHandRow>> {
    Ok(Json(bank::in_hand(&mut *store.read().await?).await?))
}

/// Slips, newest first.
#[utoipa::path(operation_id = "bank_slips", params(Stretch), responses((status = 200, body = SlipList)))]
#[get("/bank-slips")]
pub(super) async fn list(store: Data<Store>, stretch: Query<Stretch>) -> Answer<SlipList> {
    Ok(Json(bank::slips(&mut *store.read().await?, (stretch.limit(), stretch.offset())).await?))
}

/// A slip with what stands on it.
#[utoipa::path(operation_id = "bank_slip", responses((status = 200, body = SlipView), (status = 404, body = Problem)))]
#[get("/bank-slips/{id}")]
pub(super) async fn view(store: Data<Store>, id: Path<i64>) -> Answer<SlipView> {
    Ok(Json(bank::slip(&mut *store.read().await?, BankSlipId(*id)).await?))
}

/// What a slip would come to.
#[utoipa::path(operation_id = "preview_bank_slip", responses((status = 200, body = SlipPreview), (status = 422, body = Problem)))]
#[post("/bank-slips/preview")]
pub(super) async fn preview(store: Data<Store>, new: Json<NewSlip>) -> Answer<SlipPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(bank::preview_slip(&mut connection, &rules, &new).await?))
}

/// A slip to prepare.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PrepareSlip {
    /// The slip.
    #[serde(flatten)]
    slip: NewSlip,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(PrepareSlip { seen: String } and slip: NewSlip);

/// Prepares a slip: it gets its number and its paper.
#[utoipa::path(
    operation_id = "prepare_bank_slip",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = PreparedSlip), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/bank-slips")]
pub(super) async fn prepare(store: Data<Store>, change: Change, new: Json<PrepareSlip>) -> Answer<PreparedSlip> {
    let request = change.request(&new.0);
    let prepared = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            bank::prepare_slip(writing, &rules, &new.slip, Some(&new.seen)).await
        })
        .await?;
    Ok(Json(prepared))
}

/// What banking a slip would do.
#[utoipa::path(operation_id = "preview_bank_slip_banked", responses((status = 200, body = SlipPreview), (status = 422, body = Problem)))]
#[post("/bank-slips/{id}/bank/preview")]
pub(super) async fn preview_bank(store: Data<Store>, id: Path<i64>, wish: Json<ToBank>) -> Answer<SlipPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(bank::preview_bank_slip(&mut connection, &rules, BankSlipId(*id), &wish).await?))
}

/// A slip that the bank took.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct BankSlip {
    /// What it counted, and when.
    #[serde(flatten)]
    wish: ToBank,
    /// Version of the slip seen.
    version: i64,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(BankSlip { version: i64, seen: String } and wish: ToBank);

/// Banks a slip: its money moves to the bank account.
#[utoipa::path(
    operation_id = "bank_bank_slip",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/bank-slips/{id}/bank")]
pub(super) async fn to_bank(store: Data<Store>, change: Change, id: Path<i64>, new: Json<BankSlip>) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            bank::bank_slip(writing, &rules, BankSlipId(*id), (new.version, Some(&new.seen)), &new.wish).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// A slip to give up.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct CancelSlip {
    /// Why, and when.
    #[serde(flatten)]
    wish: ToCancelSlip,
    /// Version of the slip seen.
    version: i64,
}

beside!(CancelSlip { version: i64 } and wish: ToCancelSlip);

/// Gives a slip up: what stood on it is in hand.
#[utoipa::path(
    operation_id = "cancel_bank_slip",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/bank-slips/{id}/cancel")]
pub(super) async fn cancel(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<CancelSlip>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            bank::cancel_slip(writing, &rules, BankSlipId(*id), new.version, &new.wish).await
        })
        .await?;
    Ok(Json(Version { version }))
}
