//! Claims on suppliers, and pictures of what came back.

use actix_web::http::header;
use actix_web::web::{Data, Path, Query};
use actix_web::{HttpResponse, delete, get, post};
use serde::{Deserialize, Serialize};
use till_core::ids::{ClaimAnswerId, ClaimId, PictureId, ReturnId};
use till_core::money::Money;
use till_store::receipts::ToReverse;
use till_store::returns::{self, ClaimAnswer, ClaimAnswerPreview, Claims, PictureView};
use till_store::{Store, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use crate::body::File;
use crate::problem::Problem;
use crate::request::{Change, Json};

pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(list)
        .service(preview_answer)
        .service(answer)
        .service(reverse_answer)
        .service(picture)
        .service(add_picture)
        .service(remove_picture);
}

/// Claims on suppliers, open ones first.
#[utoipa::path(operation_id = "claims", responses((status = 200, body = Claims)))]
#[get("/claims")]
pub(super) async fn list(store: Data<Store>) -> Answer<Claims> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::claims(&mut connection, &rules).await?))
}

/// What the answer to a claim would do. Nothing is written.
#[utoipa::path(operation_id = "preview_claim_answer", responses((status = 200, body = ClaimAnswerPreview), (status = 422, body = Problem)))]
#[post("/claims/{id}/answer/preview")]
pub(super) async fn preview_answer(
    store: Data<Store>,
    id: Path<i64>,
    new: Json<ClaimAnswer>,
) -> Answer<ClaimAnswerPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(returns::answer_preview(&mut connection, &rules, ClaimId(*id), &new).await?))
}

/// What is open of a claim.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct ClaimLeft {
    /// In base currency.
    open: Money,
}

/// Enters what a supplier answered to a claim.
#[utoipa::path(
    operation_id = "answer_claim",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ClaimLeft), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/claims/{id}/answer")]
pub(super) async fn answer(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ClaimAnswer>,
) -> Answer<ClaimLeft> {
    let request = change.request(&new.0);
    let open = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::answer(writing, &rules, ClaimId(*id), &new).await
        })
        .await?;
    Ok(Json(ClaimLeft { open }))
}

/// Reverses an answer that was entered in error: the claim is open again.
#[utoipa::path(
    operation_id = "reverse_claim_answer",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ClaimLeft), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/claims/answers/{id}/reverse")]
pub(super) async fn reverse_answer(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<ToReverse>,
) -> Answer<ClaimLeft> {
    let request = change.request(&wish.0);
    let open = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::reverse_answer(writing, &rules, ClaimAnswerId(*id), &wish).await
        })
        .await?;
    Ok(Json(ClaimLeft { open }))
}

/// A picture of a return.
#[utoipa::path(
    operation_id = "return_picture",
    responses((status = 200, body = String, content_type = "image/*"), (status = 404, body = Problem))
)]
#[get("/returns/{id}/pictures/{picture}")]
pub(super) async fn picture(store: Data<Store>, path: Path<(i64, i64)>) -> Result<HttpResponse, Problem> {
    let (id, one) = *path;
    let kept = returns::picture(&mut *store.read().await?, ReturnId(id), PictureId(one)).await?;
    // Whoever opens it by itself sees a picture, whatever else a browser could take it for.
    Ok(HttpResponse::Ok()
        .content_type(kept.media_type)
        .insert_header((header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .insert_header((header::CONTENT_SECURITY_POLICY, "default-src 'none'; sandbox"))
        .insert_header((header::CACHE_CONTROL, "private, max-age=86400"))
        .insert_header((header::ETAG, format!("\"{}\"", kept.hash)))
        .body(kept.content))
}

/// What a picture is called.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct PictureName {
    /// Its name.
    name: String,
}

/// Adds a picture to a return.
#[utoipa::path(
    operation_id = "add_return_picture",
    params(("Idempotency-Key" = String, Header), PictureName),
    request_body(content = String, content_type = "application/octet-stream"),
    responses((status = 200, body = PictureView), (status = 404, body = Problem), (status = 422, body = Problem))
)]
#[post("/returns/{id}/pictures")]
pub(super) async fn add_picture(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    name: Query<PictureName>,
    body: File,
) -> Answer<PictureView> {
    let request = change.request(&till_core::fingerprint::of(&(&name.name, body.as_ref())));
    let added = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            returns::add_picture(writing, &rules, ReturnId(*id), (&name.name, &body)).await
        })
        .await?;
    Ok(Json(added))
}

/// Removes a picture from a return.
#[utoipa::path(
    operation_id = "remove_return_picture",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 404, body = Problem))
)]
#[delete("/returns/{id}/pictures/{picture}")]
pub(super) async fn remove_picture(store: Data<Store>, change: Change, path: Path<(i64, i64)>) -> Answer<bool> {
    let (id, one) = *path;
    let request = change.request(&(id, one));
    let removed = store
        .change(change.actor(), Some(&request), async |writing| {
            returns::remove_picture(writing, ReturnId(id), PictureId(one)).await
        })
        .await?;
    Ok(Json(removed))
}
