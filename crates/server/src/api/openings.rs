//! What a company brings along when it begins in the middle of its life.

use actix_web::post;
use actix_web::web::Data;
use serde::Serialize;
use till_store::openings::{self, NewOpening, OpeningPreview, PostedOpening};
use till_store::{Store, rules};
use utoipa::ToSchema;
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use crate::problem::Problem;
use crate::request::{Change, Json, beside};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config.service(preview).service(post);
}

/// What opening items, stock and balances would write.
#[utoipa::path(operation_id = "preview_opening", responses((status = 200, body = OpeningPreview), (status = 422, body = Problem)))]
#[post("/openings/preview")]
pub(super) async fn preview(store: Data<Store>, new: Json<NewOpening>) -> Answer<OpeningPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(openings::preview(&mut connection, &rules, &new).await?))
}

/// An opening to post.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PostOpening {
    /// What is brought along.
    #[serde(flatten)]
    opening: NewOpening,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(PostOpening { seen: String } and opening: NewOpening);

/// Posts opening items, stock and balances: one document, one entry.
#[utoipa::path(
    operation_id = "post_opening",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = PostedOpening), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/openings")]
pub(super) async fn post(store: Data<Store>, change: Change, new: Json<PostOpening>) -> Answer<PostedOpening> {
    let request = change.request(&new.0);
    let posted = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            openings::post(writing, &rules, &new.opening, &new.seen).await
        })
        .await?;
    Ok(Json(posted))
}
