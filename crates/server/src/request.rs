//! Reading requests: JSON, paths and queries with readable refusals, who asks, and the
//! idempotency key.

use std::future::Future;
use std::pin::Pin;

use actix_web::dev::Payload;
use actix_web::error::{PathError, QueryPayloadError};
use actix_web::http::StatusCode;
use actix_web::http::header::CONTENT_TYPE;
use actix_web::{FromRequest, HttpMessage, HttpRequest, web};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Deserializer};
use till_core::fingerprint;
use till_store::approvals::Viewer;
use till_store::{Actor, Request};

use crate::body::{self, LARGEST_REQUEST};
use crate::gate::{From, Visitor, Who};
use crate::problem::Problem;

/// JSON, in a request or an answer.
///
/// A request is read whole: a field that is not there is refused by its name, a value that cannot be read is told
/// at its field. A misspelt field would otherwise be as good as none, and a receipt propose what nobody meant.
#[derive(Debug, Clone)]
pub struct Json<T>(pub T);

impl<T> std::ops::Deref for Json<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.0
    }
}

impl<T: Serialize> actix_web::Responder for Json<T> {
    type Body = actix_web::body::EitherBody<String>;

    fn respond_to(self, request: &HttpRequest) -> actix_web::HttpResponse<Self::Body> {
        web::Json(self.0).respond_to(request)
    }
}

impl<T: DeserializeOwned> FromRequest for Json<T> {
    type Error = Problem;
    type Future = Pin<Box<dyn Future<Output = Result<Self, Problem>>>>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let kind = of_kind_json(request);
        let body = body::read(request, payload, LARGEST_REQUEST);
        Box::pin(async move {
            kind?;
            let bytes = body.await?;
            if holds_null(&bytes) {
                let sentence =
                    "The request has a null character in a text. Type the text again, or paste it without formatting.";
                return Err(Problem::new(StatusCode::BAD_REQUEST, "malformed", sentence));
            }
            read(&bytes).map(Json)
        })
    }
}

/// JSON is UTF-8, whatever else a request says of itself is refused.
fn of_kind_json(request: &HttpRequest) -> Result<(), Problem> {
    let said = request.headers().get(CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let mut parts = said.split(';').map(|part| part.trim().to_ascii_lowercase());
    let is_json = parts.next().is_some_and(|kind| kind == "application/json");
    let in_utf8 = parts.all(|part| !part.starts_with("charset=") || part.trim_matches('"') == "charset=utf-8");
    if is_json && in_utf8 {
        return Ok(());
    }
    let sentence = "Send JSON in UTF-8, with the content type application/json.";
    Err(Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "not_json", sentence))
}

/// Reads a request: every field it has is one that is known.
fn read<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, Problem> {
    let mut text = serde_json::Deserializer::from_slice(bytes);
    let value = strict(&mut text, bytes)?;
    text.end().map_err(|error| malformed(&error.to_string(), "", bytes))?;
    Ok(value)
}

/// What is wrong, at its field.
fn strict<'de, D, T>(from: D, bytes: &[u8]) -> Result<T, Problem>
where
    D: Deserializer<'de>,
    T: DeserializeOwned,
{
    let mut track = serde_path_to_error::Track::new();
    let mut unknown = Vec::new();
    let mut note = |path: serde_ignored::Path<'_>| unknown.push(path.to_string());
    let tracked = serde_path_to_error::Deserializer::new(from, &mut track);
    let found = T::deserialize(serde_ignored::Deserializer::new(tracked, &mut note));
    let value = found.map_err(|error| malformed(&error.to_string(), &dotted(&track.path().to_string()), bytes))?;
    match unknown.first() {
        None => Ok(value),
        Some(path) => {
            // Optional parts leave a question mark in the path.
            let field = path.replace(".?", "").replace("?.", "");
            let sentence = format!("There is no field “{field}” in this request. Look how it is spelt.");
            Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "unknown_field", sentence).at(field))
        }
    }
}

/// `picks[0].quantity` as fields are named here: `picks.0.quantity`.
fn dotted(path: &str) -> String {
    path.replace(['[', ']'], ".").replace("..", ".").trim_matches('.').to_owned()
}

/// What a value that cannot be read is told, at its field: its own sentence where it has one, as that of a decimal.
fn malformed(said: &str, field: &str, bytes: &[u8]) -> Problem {
    if let Some(problem) = said.strip_prefix(INSIDE).and_then(|rest| rest.split_once(INSIDE)) {
        return serde_json::from_str(problem.0).unwrap_or_else(|_| {
            Problem::new(StatusCode::BAD_REQUEST, "malformed", "The request cannot be read. Send it again.")
        });
    }
    let sentence = said.rsplit_once(" at line ").map_or(said, |(sentence, _)| sentence);
    let typed = serde_json::from_slice::<serde_json::Value>(bytes)
        .ok()
        .and_then(|body| body.pointer(&format!("/{}", field.replace('.', "/"))).cloned());
    // What chrono says of a text that is no day.
    let of_days =
        ["input is out of range", "input contains invalid characters", "premature end of input", "trailing input"];
    let words = match typed.as_ref().and_then(serde_json::Value::as_str) {
        _ if sentence.starts_with('“') => sentence.to_owned(),
        Some(text) if of_days.contains(&sentence) => {
            format!("“{text}” is no day of the calendar. Write one such as 2026-03-18.")
        }
        _ => format!("The request cannot be read: {said}."),
    };
    let problem = Problem::new(StatusCode::BAD_REQUEST, "malformed", words);
    if field.is_empty() { problem } else { problem.at(field) }
}

/// Stands around a problem that was found inside of a part of a request.
const INSIDE: char = '\u{1f}';

/// Reads what stands beside the fields of something else in one object: both parts are read strictly, which a
/// flattened field would not be.
pub(crate) fn read_beside<'de, D, E, T>(from: D, fields: &[&str]) -> Result<(E, T), D::Error>
where
    D: Deserializer<'de>,
    E: DeserializeOwned,
    T: DeserializeOwned,
{
    let mut whole = serde_json::Map::deserialize(from)?;
    let beside: serde_json::Map<String, serde_json::Value> =
        fields.iter().filter_map(|field| whole.remove_entry(*field)).collect();
    Ok((part(beside)?, part(whole)?))
}

fn part<T: DeserializeOwned, E: serde::de::Error>(fields: serde_json::Map<String, serde_json::Value>) -> Result<T, E> {
    let value = serde_json::Value::Object(fields);
    let bytes = value.to_string();
    strict(value, bytes.as_bytes()).map_err(|problem| {
        let problem = serde_json::to_string(&problem).unwrap_or_default();
        E::custom(format!("{INSIDE}{problem}{INSIDE}"))
    })
}

/// Reads a request that is something typed and a few fields beside it.
macro_rules! beside {
    ($name:ident { $($field:ident: $kind:ty),+ } and $rest:ident: $of:ty) => {
        impl<'de> serde::Deserialize<'de> for $name {
            fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
                #[derive(serde::Deserialize)]
                struct Beside { $($field: $kind),+ }
                let (beside, $rest): (Beside, $of) =
                    $crate::request::read_beside(from, &[$(stringify!($field)),+])?;
                Ok(Self { $($field: beside.$field,)+ $rest })
            }
        }
    };
}
pub(crate) use beside;

/// Whether a JSON text has the escape of the null character: no keyboard types one, and to the database the text would end
/// there. A raw one is no JSON anyway.
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

/// Who asks, where what is asked for is rehearsed and nothing stays.
#[derive(Debug)]
pub struct Asker(Actor);

impl Asker {
    /// Who it is.
    pub const fn actor(&self) -> &Actor {
        &self.0
    }
}

impl FromRequest for Asker {
    type Error = Problem;
    type Future = std::future::Ready<Result<Self, Problem>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let actor = request.extensions().get::<Who>().map(|who| who.actor.clone());
        std::future::ready(actor.map(Self).ok_or_else(nobody))
    }
}

fn key_of(request: &HttpRequest) -> Option<String> {
    let key = request.headers().get("Idempotency-Key").and_then(|value| value.to_str().ok()).map(str::trim);
    key.filter(|key| (8..=128).contains(&key.len())).map(str::to_owned)
}

fn key_missing() -> Problem {
    let sentence = "A change needs an Idempotency-Key of 8 to 128 characters, so that it is never done twice.";
    Problem::new(StatusCode::BAD_REQUEST, "key_missing", sentence).at("Idempotency-Key")
}

impl FromRequest for Change {
    type Error = Problem;
    type Future = std::future::Ready<Result<Self, Problem>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let actor = request.extensions().get::<Who>().map(|who| who.actor.clone());
        std::future::ready(match (key_of(request), actor) {
            (_, None) => Err(nobody()),
            (None, _) => Err(key_missing()),
            (Some(key), Some(actor)) => {
                Ok(Self { key, call: format!("{} {}", request.method(), request.uri()), actor })
            }
        })
    }
}

/// The customer whose link a request comes with.
#[derive(Debug, Clone)]
pub struct Visited(pub Visitor);

impl FromRequest for Visited {
    type Error = Problem;
    type Future = std::future::Ready<Result<Self, Problem>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        std::future::ready(request.extensions().get::<Visitor>().cloned().map(Self).ok_or_else(nobody))
    }
}

/// A request of a customer that changes something: it has an `Idempotency-Key`.
#[derive(Debug)]
pub struct VisitorChange {
    key: String,
    call: String,
    /// Who makes it.
    pub visitor: Visitor,
}

impl VisitorChange {
    /// The request as the store remembers it. Nobody gets the answer to the request of another link.
    pub fn request<T: Serialize>(&self, body: &T) -> Request {
        Request { key: self.key.clone(), fingerprint: fingerprint::of(&(self.visitor.link.id, &self.call, body)) }
    }
}

impl FromRequest for VisitorChange {
    type Error = Problem;
    type Future = std::future::Ready<Result<Self, Problem>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let visitor = request.extensions().get::<Visitor>().cloned();
        std::future::ready(match (key_of(request), visitor) {
            (_, None) => Err(nobody()),
            (None, _) => Err(key_missing()),
            (Some(key), Some(visitor)) => {
                Ok(Self { key, call: format!("{} {}", request.method(), request.uri()), visitor })
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
