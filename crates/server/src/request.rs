//! Reading requests: JSON, paths and queries with readable refusals, who asks, and the
//! idempotency key.

use actix_web::body::MessageBody;
use actix_web::dev::{self, Payload, ServiceRequest, ServiceResponse};
use actix_web::error::{JsonPayloadError, PathError, QueryPayloadError};
use actix_web::http::StatusCode;
use actix_web::middleware::Next;
use actix_web::{FromRequest, HttpMessage, HttpRequest, web};
use serde::Serialize;
use till_core::fingerprint;
use till_store::approvals::Viewer;
use till_store::{Actor, Request};

use crate::gate::{From, Who};
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
            JsonPayloadError::Deserialize(error) if error.is_data() => {
                Problem::new(StatusCode::BAD_REQUEST, "malformed", unreadable(&error.to_string()))
            }
            other => {
                Problem::new(StatusCode::BAD_REQUEST, "malformed", format!("The request cannot be read: {other}."))
            }
        };
        problem.into()
    })
}

/// What a value that cannot be read is told: its own sentence where it has one, as that of a
/// decimal, without where in the request it stood.
fn unreadable(said: &str) -> String {
    let sentence = said.rsplit_once(" at line ").map_or(said, |(sentence, _)| sentence);
    if sentence.starts_with('“') { sentence.to_owned() } else { format!("The request cannot be read: {said}.") }
}

/// Refuses text with a null character in it: no keyboard types one, and to the database the text
/// would end there.
pub(crate) async fn no_null_characters(
    mut request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    if request.content_type() == "application/json" {
        let body = request.extract::<web::Bytes>().await?;
        if holds_null(&body) {
            let problem = Problem::new(
                StatusCode::BAD_REQUEST,
                "malformed",
                "The request has a null character in a text. Type the text again, or paste it without formatting.",
            );
            return Ok(request.error_response(problem).map_into_boxed_body());
        }
        request.set_payload(dev::Payload::from(body));
    }
    Ok(next.call(request).await?.map_into_boxed_body())
}

/// Whether a JSON text has the escape of the null character; a raw one is no JSON anyway.
fn holds_null(body: &[u8]) -> bool {
    let mut at = 0;
    while let Some(found) = body[at..].iter().position(|byte| *byte == b'\\') {
        let escape = at + found;
        if body[escape..].starts_with(b"\\u0000") {
            return true;
        }
        // What follows a backslash belongs to it, be it another backslash.
        at = (escape + 2).min(body.len());
    }
    false
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

/// Who is signed in; calls that take a right always have someone.
#[derive(Debug, Clone)]
pub struct Signed(pub Who);

impl Signed {
    /// As approvals want it.
    pub const fn viewer(&self) -> Viewer {
        Viewer { person: self.0.session.person, role: self.0.session.role }
    }
}

/// Who is signed in, if anyone is.
#[derive(Debug, Clone)]
pub struct SignedMaybe(pub Option<Who>);

fn nobody() -> Problem {
    Problem::new(StatusCode::UNAUTHORIZED, "signed_out", "You are not signed in, or not any more. Sign in to go on.")
}

impl FromRequest for Signed {
    type Error = Problem;
    type Future = std::future::Ready<Result<Self, Problem>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        std::future::ready(request.extensions().get::<Who>().cloned().map(Self).ok_or_else(nobody))
    }
}

impl FromRequest for SignedMaybe {
    type Error = Problem;
    type Future = std::future::Ready<Result<Self, Problem>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        std::future::ready(Ok(Self(request.extensions().get::<Who>().cloned())))
    }
}

impl FromRequest for From {
    type Error = Problem;
    type Future = std::future::Ready<Result<Self, Problem>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        std::future::ready(request.extensions().get::<Self>().cloned().ok_or_else(nobody))
    }
}

/// A request that changes something: it has an `Idempotency-Key`.
#[derive(Debug)]
pub struct Change {
    key: String,
    call: String,
    actor: Actor,
}

impl Change {
    /// The request as the store remembers it: key, and mark of who made it, the call and its
    /// body. Nobody gets the answer to someone else's request.
    pub fn request<T: Serialize>(&self, body: &T) -> Request {
        Request { key: self.key.clone(), fingerprint: fingerprint::of(&(self.actor.doer.person, &self.call, body)) }
    }

    /// The request of one part of a change that is carried out part by part: the same request
    /// again goes on with the parts that are left.
    pub fn request_part<T: Serialize>(&self, part: &impl std::fmt::Display, body: &T) -> Request {
        let whole = self.request(body);
        Request { key: format!("{}/{part}", whole.key), fingerprint: whole.fingerprint }
    }

    /// Who makes the change.
    pub const fn actor(&self) -> &Actor {
        &self.actor
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
        let actor = request.extensions().get::<Who>().map(|who| who.actor.clone());
        std::future::ready(match (key, actor) {
            (_, None) => Err(nobody()),
            (None, _) => Err(Problem::new(
                StatusCode::BAD_REQUEST,
                "key_missing",
                "A change needs an Idempotency-Key of 8 to 128 characters, so that it is never done twice.",
            )
            .at("Idempotency-Key")),
            (Some(key), Some(actor)) => {
                Ok(Self { key: key.to_owned(), call: format!("{} {}", request.method(), request.uri()), actor })
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::holds_null;

    #[test]
    fn a_null_character_is_told_from_the_words_for_it() {
        assert!(holds_null(br#"{"name":"a\u0000"}"#));
        assert!(holds_null(br#"{"name":"\\\u0000"}"#));
        assert!(!holds_null(br#"{"name":"\\u0000"}"#));
        assert!(!holds_null(b"\\"));
    }
}
