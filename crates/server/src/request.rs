//! Reading requests: JSON, paths and queries with readable refusals, and the idempotency key.

use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{Payload, ServiceRequest, ServiceResponse};
use actix_web::error::{JsonPayloadError, PathError, QueryPayloadError};
use actix_web::http::StatusCode;
use actix_web::http::header::HOST;
use actix_web::middleware::Next;
use actix_web::{FromRequest, HttpRequest, ResponseError, web};
use serde::Serialize;
use till_core::fingerprint;
use till_store::Request;

use crate::problem::Problem;

/// Largest request body, in bytes.
const BODY_LIMIT: usize = 2 * 1024 * 1024;

pub(crate) fn json_config() -> web::JsonConfig {
    web::JsonConfig::default().limit(BODY_LIMIT).error_handler(|error, _| {
        let problem = match &error {
            JsonPayloadError::Overflow { .. } | JsonPayloadError::OverflowKnownLength { .. } => {
                Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "too_large", "The request is too large. Send less at once.")
            }
            JsonPayloadError::ContentType => Problem::new(
                StatusCode::UNSUPPORTED_MEDIA_TYPE,
                "not_json",
                "Send JSON, with the content type application/json.",
            ),
            other => {
                Problem::new(StatusCode::BAD_REQUEST, "malformed", format!("The request cannot be read: {other}."))
            }
        };
        problem.into()
    })
}

pub(crate) fn path_config() -> web::PathConfig {
    web::PathConfig::default().error_handler(|error: PathError, _| {
        Problem::new(StatusCode::NOT_FOUND, "not_found", format!("This address leads nowhere: {error}.")).into()
    })
}

pub(crate) fn query_config() -> web::QueryConfig {
    web::QueryConfig::default().error_handler(|error: QueryPayloadError, _| {
        Problem::new(StatusCode::BAD_REQUEST, "malformed", format!("The address cannot be read: {error}.")).into()
    })
}

/// Refuses requests meant for another host: a page from elsewhere that has its name pointed at
/// this machine must not read the books.
pub(crate) async fn known_host<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, actix_web::Error> {
    let host = request.headers().get(HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
    let name = host.rsplit_once(':').map_or(host, |(name, _)| name);
    if matches!(name, "127.0.0.1" | "localhost" | "[::1]") {
        return Ok(next.call(request).await?.map_into_left_body());
    }
    let problem = Problem::new(
        StatusCode::MISDIRECTED_REQUEST,
        "other_host",
        "These books are served on 127.0.0.1 only. Open them under that address.",
    );
    Ok(request.into_response(problem.error_response()).map_into_right_body())
}

/// A request that changes something: it has an `Idempotency-Key`.
#[derive(Debug)]
pub struct Change {
    key: String,
    call: String,
}

impl Change {
    /// The request as the store remembers it: key, and mark of the call and its body.
    pub fn request<T: Serialize>(&self, body: &T) -> Request {
        Request { key: self.key.clone(), fingerprint: fingerprint::of(&(&self.call, body)) }
    }
}

impl FromRequest for Change {
    type Error = Problem;
    type Future = std::future::Ready<Result<Self, Problem>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let key = request
            .headers()
            .get("Idempotency-Key")
            .and_then(|value| value.to_str().ok())
            .map(str::trim)
            .filter(|key| (8..=128).contains(&key.len()));
        std::future::ready(key.map_or_else(
            || {
                Err(Problem::new(
                    StatusCode::BAD_REQUEST,
                    "key_missing",
                    "A change needs an Idempotency-Key of 8 to 128 characters, so that it is never done twice.",
                )
                .at("Idempotency-Key"))
            },
            |key| Ok(Self { key: key.to_owned(), call: format!("{} {}", request.method(), request.uri()) }),
        ))
    }
}
