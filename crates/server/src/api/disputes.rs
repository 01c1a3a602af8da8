//! Disputes: what customers will not pay, and who looks after it.

use actix_web::web::{Data, Path, Query};
use actix_web::{get, post, put};
use serde::{Deserialize, Serialize};
use till_core::ids::DisputeId;
use till_store::disputes::{self, DisputeWords, Disputes, NewDispute};
use till_store::{Store, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use super::overview::Version;
use crate::problem::Problem;
use crate::request::{Change, Json, beside};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config.service(list).service(open).service(keep).service(close);
}

/// Which disputes.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct WhichDisputes {
    /// Those that ended, in place of those that stand.
    #[serde(default)]
    ended: bool,
}

/// Disputes, the oldest first.
#[utoipa::path(operation_id = "disputes", params(WhichDisputes), responses((status = 200, body = Disputes)))]
#[get("/disputes")]
pub(super) async fn list(store: Data<Store>, which: Query<WhichDisputes>) -> Answer<Disputes> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(disputes::list(&mut connection, &rules, which.ended).await?))
}

/// A dispute that was opened.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct OpenedDispute {
    /// Its id.
    id: DisputeId,
}

/// Puts something that is open into dispute.
#[utoipa::path(
    operation_id = "open_dispute",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = OpenedDispute), (status = 422, body = Problem))
)]
#[post("/disputes")]
pub(super) async fn open(store: Data<Store>, change: Change, new: Json<NewDispute>) -> Answer<OpenedDispute> {
    let request = change.request(&new.0);
    let id = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            disputes::open(writing, &rules, &new).await
        })
        .await?;
    Ok(Json(OpenedDispute { id }))
}

/// A dispute to change.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct KeepDispute {
    /// Why, and who looks after it.
    #[serde(flatten)]
    what: DisputeWords,
    /// Version of the dispute seen.
    version: i64,
}

beside!(KeepDispute { version: i64 } and what: DisputeWords);

/// Changes why something is not paid, or who looks after it.
#[utoipa::path(
    operation_id = "change_dispute",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/disputes/{id}")]
pub(super) async fn keep(store: Data<Store>, change: Change, id: Path<i64>, new: Json<KeepDispute>) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            disputes::change(writing, &rules, (DisputeId(*id), new.version), &new.what).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// What came of a dispute.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct CloseDispute {
    /// In words.
    outcome: String,
    /// Version of the dispute seen.
    version: i64,
}

/// Closes a dispute.
#[utoipa::path(
    operation_id = "close_dispute",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/disputes/{id}/close")]
pub(super) async fn close(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<CloseDispute>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            disputes::close(writing, &rules, (DisputeId(*id), new.version), &new.outcome).await
        })
        .await?;
    Ok(Json(Version { version }))
}
