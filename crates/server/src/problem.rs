//! Errors as problem details (RFC 9457): a stable code, a sentence for a person, the field.

use actix_web::http::StatusCode;
use actix_web::http::header::RETRY_AFTER;
use actix_web::{HttpRequest, HttpResponse, ResponseError};
use serde::{Deserialize, Serialize};
use till_core::checks::Blocker;
use till_store::StoreError;
use till_store::faults::Fault;
use utoipa::ToSchema;

/// Why a request was not carried out. Nothing was written.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// `about:blank`: the code says more than a link would.
    #[serde(rename = "type")]
    pub kind: String,
    /// The HTTP status.
    pub status: u16,
    /// A stable code.
    pub code: String,
    /// A sentence for a person: what happened and what to do.
    pub title: String,
    /// The field to fix, as named in the request.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// All that stands in the way, where the core refused.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub blockers: Vec<Blocker>,
    /// Seconds to wait, where it is worth trying again then.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub retry_after: Option<i64>,
    /// The version the document has now, where the request had an older one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub current_version: Option<i64>,
}

impl Problem {
    /// A problem with a code and a sentence.
    pub fn new(status: StatusCode, code: &str, title: impl Into<String>) -> Self {
        Self {
            kind: "about:blank".to_owned(),
            status: status.as_u16(),
            code: code.to_owned(),
            title: title.into(),
            field: None,
            blockers: Vec::new(),
            retry_after: None,
            current_version: None,
        }
    }

    /// The same, at a field.
    pub fn at(mut self, field: impl Into<String>) -> Self {
        self.field = Some(field.into());
        self
    }
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        let sentence = error.to_string();
        let plain = |status, code| Self::new(status, code, sentence.clone());
        match error {
            StoreError::Refused(blockers) => {
                let mut problem = plain(StatusCode::UNPROCESSABLE_ENTITY, "refused");
                problem.field = blockers.first().map(|blocker| blocker.field.clone());
                problem.blockers = blockers;
                problem
            }
            StoreError::Invalid { field, .. } => plain(StatusCode::UNPROCESSABLE_ENTITY, "invalid").at(field),
            StoreError::NotFound { .. } => plain(StatusCode::NOT_FOUND, "not_found"),
            StoreError::Gone(_) => plain(StatusCode::GONE, "gone"),
            StoreError::Stale { current, .. } => {
                let mut problem = plain(StatusCode::CONFLICT, "stale");
                problem.current_version = Some(current);
                problem
            }
            StoreError::Moved => plain(StatusCode::CONFLICT, "moved"),
            StoreError::WrongState(_) => plain(StatusCode::CONFLICT, "wrong_state"),
            StoreError::KeyReused => plain(StatusCode::UNPROCESSABLE_ENTITY, "key_reused").at("Idempotency-Key"),
            StoreError::NotAllowed(_) => plain(StatusCode::FORBIDDEN, "not_allowed"),
            StoreError::NotSetUp => plain(StatusCode::SERVICE_UNAVAILABLE, "not_set_up"),
            StoreError::Database(error) => {
                tracing::error!(%error, "the books could not be used");
                let fault = Fault::of(&error);
                let status = match fault {
                    Fault::DiskFull => StatusCode::INSUFFICIENT_STORAGE,
                    Fault::Other => StatusCode::INTERNAL_SERVER_ERROR,
                    _ => StatusCode::SERVICE_UNAVAILABLE,
                };
                Self::new(status, fault.code(), fault.sentence())
            }
            other => {
                tracing::error!(error = %other, "the books could not be used");
                Self::new(StatusCode::INTERNAL_SERVER_ERROR, Fault::Other.code(), Fault::Other.sentence())
            }
        }
    }
}

impl std::fmt::Display for Problem {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.write_str(&self.title)
    }
}

impl ResponseError for Problem {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    fn error_response(&self) -> HttpResponse {
        let mut response = HttpResponse::build(self.status_code());
        if let Some(seconds) = self.retry_after {
            response.insert_header((RETRY_AFTER, seconds.to_string()));
        }
        response.content_type("application/problem+json").json(self)
    }
}

/// For addresses below /api that lead nowhere.
pub(crate) fn no_such_call(request: &HttpRequest) -> HttpResponse {
    Problem::new(
        StatusCode::NOT_FOUND,
        "no_such_call",
        format!("There is no call {} {}.", request.method(), request.path()),
    )
    .error_response()
}
