//! Bodies of requests: read only where a call takes one, only as far as it takes, and within a time.
//!
//! Nothing of a body is read before the gate has let the request through, so that nobody outside fills memory or holds
//! connections with one. Who is not signed in says a few words at most.

use std::future::Future;
use std::pin::Pin;
use std::time::Duration;

use actix_web::dev::Payload;
use actix_web::http::StatusCode;
use actix_web::http::header::{CONTENT_ENCODING, CONTENT_LENGTH};
use actix_web::web::{self, Bytes};
use actix_web::{FromRequest, HttpMessage, HttpRequest};

use crate::gate::Who;
use crate::problem::Problem;

/// Largest request that is no file, in bytes.
pub(crate) const LARGEST_REQUEST: usize = 2 * 1024 * 1024;
/// Largest file, in bytes: some two hundred thousand lines.
pub(crate) const LARGEST_FILE: usize = 24 * 1024 * 1024;
/// Largest request of who is not signed in, in bytes: a name, a password, an answer of a customer, a notice.
pub(crate) const LARGEST_OF_STRANGERS: usize = 64 * 1024;
/// A body has this long, and longer the more it is.
const PATIENCE: Duration = Duration::from_secs(10);
/// The slowest line that is waited for, in bytes a second.
const SLOWEST: u64 = 50_000;

/// A file that is sent as it is, of so many bytes at most.
#[derive(Debug, Clone)]
pub(crate) struct File<const LARGEST: usize = LARGEST_FILE>(pub(crate) Bytes);

/// Largest table that is read on the threads that answer, in bytes: some sixty thousand lines.
const LARGEST_TABLE: usize = 8 * 1024 * 1024;

/// A table of some thousands of lines.
pub(crate) type SmallFile = File<LARGEST_TABLE>;

impl<const LARGEST: usize> std::ops::Deref for File<LARGEST> {
    type Target = Bytes;

    fn deref(&self) -> &Bytes {
        &self.0
    }
}

impl<const LARGEST: usize> FromRequest for File<LARGEST> {
    type Error = Problem;
    type Future = Pin<Box<dyn Future<Output = Result<Self, Problem>>>>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let body = read(request, payload, LARGEST);
        Box::pin(async move { body.await.map(File) })
    }
}

fn too_large() -> Problem {
    Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "too_large", "The request is too large. Send less at once.")
}

/// The whole of a body up to a limit; of who is not signed in up to the limit of strangers.
pub(crate) fn read(
    request: &HttpRequest,
    payload: &mut Payload,
    largest: usize,
) -> impl Future<Output = Result<Bytes, Problem>> + use<> {
    let known = request.extensions().get::<Who>().is_some();
    let limit = if known { largest } else { largest.min(LARGEST_OF_STRANGERS) };
    let said = |name| request.headers().get(name).and_then(|value| value.to_str().ok().map(str::to_owned));
    let packed = said(CONTENT_ENCODING).is_some_and(|encoding| !encoding.eq_ignore_ascii_case("identity"));
    let length = said(CONTENT_LENGTH).and_then(|length| length.parse::<usize>().ok());
    let payload = web::Payload::from_request(request, payload);
    async move {
        if packed {
            let sentence = "Send the request as it is, not compressed.";
            return Err(Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "packed", sentence));
        }
        if length.is_some_and(|length| length > limit) {
            return Err(too_large());
        }
        let bytes = u64::try_from(length.unwrap_or(limit)).unwrap_or(u64::MAX);
        let patience = PATIENCE + Duration::from_secs(bytes / SLOWEST);
        let unread = |why: String| Problem::new(StatusCode::BAD_REQUEST, "malformed", why);
        let payload = payload.await.map_err(|error| unread(format!("The request cannot be read: {error}.")))?;
        match actix_web::rt::time::timeout(patience, payload.to_bytes_limited(limit)).await {
            Ok(Ok(Ok(body))) => Ok(body),
            Ok(Ok(Err(_))) => Err(unread("The request broke off. Send it again.".to_owned())),
            Ok(Err(_)) => Err(too_large()),
            Err(_) => {
                let sentence = "The request came too slowly. Send it again, over a better line.";
                Err(Problem::new(StatusCode::REQUEST_TIMEOUT, "too_slow", sentence))
            }
        }
    }
}
