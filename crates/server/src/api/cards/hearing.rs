//! What the card processor tells by itself.

use actix_web::http::StatusCode;
use actix_web::web::Data;
use actix_web::{HttpRequest, HttpResponse, post};
use chrono::Utc;
use till_formats::cards::notice;
use till_processor::signature::check;
use till_processor::wire::Event;
use till_store::{Actor, Store, StoreError, cards, rules};
use utoipa_actix_web::service_config::ServiceConfig;

use super::no_processor;
use crate::body::SmallFile;
use crate::problem::Problem;
use crate::processor::Processor;

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config.service(event);
}

/// Takes in what the card processor tells by itself: signed as the Standard Webhooks specification has it, taken in once.
#[utoipa::path(
    operation_id = "card_event",
    request_body = String,
    params(
        ("webhook-id" = String, Header), ("webhook-timestamp" = String, Header), ("webhook-signature" = String, Header)
    ),
    responses((status = 204), (status = 400, body = Problem), (status = 401, body = Problem))
)]
#[post("/card-events")]
pub(super) async fn event(
    store: Data<Store>,
    processor: Data<Processor>,
    request: HttpRequest,
    body: SmallFile,
) -> Result<HttpResponse, Problem> {
    let secret = processor.secret().ok_or_else(no_processor)?;
    let header = |name: &str| request.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let headers = (header("webhook-id"), header("webhook-timestamp"), header("webhook-signature"));
    check(secret.as_bytes(), headers, &body, Utc::now().timestamp()).map_err(|why| {
        tracing::warn!(%why, "a notice that was not the card processor's");
        Problem::new(StatusCode::UNAUTHORIZED, "not_signed", format!("{why} Sign it with the secret of these books."))
    })?;
    let unread = |why: String| Problem::new(StatusCode::BAD_REQUEST, "malformed", why);
    let event: Event = serde_json::from_slice(&body).map_err(|error| unread(format!("It cannot be read: {error}.")))?;
    if event.id != headers.0 {
        return Err(unread("Its id is not the one it was signed with.".to_owned()));
    }
    let told = notice(&event).map_err(|error| unread(error.to_string()))?;
    let processor_itself = Actor::program(Utc::now());
    let heard = store
        .change(&processor_itself, None, async |writing| {
            let rules = rules::load(writing).await?;
            cards::hear(writing, &rules, (&event.id, event.key.as_deref()), &told).await
        })
        .await;
    match heard {
        // It came before.
        Ok(()) | Err(StoreError::Unrecorded) => Ok(HttpResponse::NoContent().finish()),
        Err(error) => Err(error.into()),
    }
}
