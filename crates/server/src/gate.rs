//! The gate before every call: known host, measure, who it is, where the request came from,
//! whether the role may.

use std::net::IpAddr;
use std::num::NonZeroU32;
use std::time::Duration;

use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{AUTHORIZATION, HOST, HeaderName, HeaderValue, ORIGIN};
use actix_web::http::{Method, StatusCode};
use actix_web::middleware::Next;
use actix_web::{HttpMessage, ResponseError, web};
use chrono::Utc;
use governor::{DefaultKeyedRateLimiter, Quota, RateLimiter};
use till_core::acceptance::LinkState;
use till_core::ids::{PageLinkId, PersonId};
use till_core::people::{Operation, Role, denied, may_try};
use till_store::customer_pages::{self, Link};
use till_store::people::sessions::{self, Session};
use till_store::{Actor, Store};

use crate::calls::{Takes, takes};
use crate::problem::Problem;
use crate::settings::Settings;

/// The header that carries the session's second token, which no other site can know.
pub const CSRF_HEADER: &str = "x-csrf-token";

/// What the gate keeps between requests.
#[allow(missing_debug_implementations)]
pub struct Gate {
    pub(crate) settings: Settings,
    requests: DefaultKeyedRateLimiter<IpAddr>,
    sign_ins: DefaultKeyedRateLimiter<IpAddr>,
    pages: DefaultKeyedRateLimiter<IpAddr>,
    bad_links: DefaultKeyedRateLimiter<IpAddr>,
}

/// Of the requests an address may make, customers' pages take this part, with bursts of six times that.
const PAGES_PART: u32 = 10;
/// Of the sign-ins an address may try, links that lead nowhere take this part.
const BAD_LINKS_PART: u32 = 2;

impl Gate {
    pub(crate) fn new(settings: Settings) -> Self {
        let some = |number: u32| NonZeroU32::new(number).unwrap_or(NonZeroU32::MIN);
        let requests = Quota::per_second(some(settings.requests_per_second))
            .allow_burst(some(settings.requests_per_second.saturating_mul(4)));
        let sign_ins = Quota::per_minute(some(settings.sign_ins_per_minute));
        let of_pages = settings.requests_per_second / PAGES_PART;
        let pages = Quota::per_second(some(of_pages)).allow_burst(some(of_pages.saturating_mul(6)));
        let bad_links = Quota::per_minute(some(settings.sign_ins_per_minute / BAD_LINKS_PART));
        Self {
            requests: RateLimiter::keyed(requests),
            sign_ins: RateLimiter::keyed(sign_ins),
            pages: RateLimiter::keyed(pages),
            bad_links: RateLimiter::keyed(bad_links),
            settings,
        }
    }

    /// Forgets addresses that have been quiet.
    pub(crate) fn forget_quiet(&self) {
        self.requests.retain_recent();
        self.sign_ins.retain_recent();
        self.pages.retain_recent();
        self.bad_links.retain_recent();
    }

    /// Whether the browser's side of the connection is TLS.
    pub(crate) fn is_secure(&self, request: &ServiceRequest) -> bool {
        self.settings.serves_tls()
            || (self.trusts(request) && header(request, "x-forwarded-proto").is_some_and(|proto| proto == "https"))
    }

    fn trusts(&self, request: &ServiceRequest) -> bool {
        request.peer_addr().is_some_and(|peer| self.settings.trusted_proxies.contains(&peer.ip()))
    }

    /// Where a request comes from: the peer, or what a trusted proxy says of it.
    fn address(&self, request: &ServiceRequest) -> IpAddr {
        let peer = request.peer_addr().map_or(IpAddr::from([0, 0, 0, 0]), |peer| peer.ip());
        if !self.trusts(request) {
            return peer;
        }
        // The last address is the one the proxy saw itself; those before it anyone can write.
        header(request, "x-forwarded-for")
            .and_then(|list| list.rsplit(',').next().and_then(|last| last.trim().parse().ok()))
            .unwrap_or(peer)
    }

    fn knows_host(&self, host: &str) -> bool {
        let name = if host.starts_with('[') {
            host.split_inclusive(']').next().unwrap_or_default()
        } else {
            host.rsplit_once(':').map_or(host, |(name, _)| name)
        };
        matches!(name, "127.0.0.1" | "localhost" | "[::1]") || self.settings.hosts.iter().any(|known| known == name)
    }

    fn measure(&self, limiter: &DefaultKeyedRateLimiter<IpAddr>, address: IpAddr) -> Result<(), Problem> {
        use governor::clock::{Clock, DefaultClock};
        limiter.check_key(&address).map_err(|not_until| {
            let wait = not_until.wait_time_from(DefaultClock::default().now()).max(Duration::from_secs(1)).as_secs();
            let mut problem = Problem::new(
                StatusCode::TOO_MANY_REQUESTS,
                "too_many",
                format!("Too many requests from here. Wait {wait} seconds, then try again."),
            );
            problem.retry_after = Some(i64::try_from(wait).unwrap_or(60));
            problem
        })
    }
}

/// Who makes a request, put beside it by the gate.
#[derive(Debug, Clone)]
pub struct Who {
    /// The session.
    pub session: Session,
    /// The token of its cookie.
    pub token: String,
    /// As the store wants it.
    pub actor: Actor,
}

/// Which customer makes a request with a link, put beside it by the gate.
#[derive(Debug, Clone)]
pub struct Visitor {
    /// The link.
    pub link: Link,
    /// As the store wants it.
    pub actor: Actor,
}

/// Where a request comes from, for calls that nobody is signed in to yet.
#[derive(Debug, Clone)]
pub struct From {
    /// The address.
    pub address: IpAddr,
    /// Whether by TLS.
    pub secure: bool,
    /// Where customers reach their pages.
    pub base: String,
}

fn header<'a>(request: &'a ServiceRequest, name: &str) -> Option<&'a str> {
    request.headers().get(name).and_then(|value| value.to_str().ok())
}

/// The name of the session cookie: behind TLS one that a browser takes for this host only.
pub(crate) const fn cookie_name(secure: bool) -> &'static str {
    if secure { "__Host-till" } else { "till" }
}

/// The session's second token: follows from the first, is never a cookie, so that a page from
/// elsewhere cannot send it along.
pub(crate) fn csrf_of(token: &str) -> String {
    sessions::mark(&format!("csrf {token}"))
}

/// Refuses a change whose request was not made by our own page.
fn own_page(request: &ServiceRequest, secure: bool) -> Result<(), Problem> {
    let foreign = || {
        Problem::new(
            StatusCode::FORBIDDEN,
            "foreign_page",
            "This request came from another page. Open Glad Till itself and do it there.",
        )
    };
    if let Some(site) = header(request, "sec-fetch-site")
        && !matches!(site, "same-origin" | "none")
    {
        return Err(foreign());
    }
    if let Some(origin) = header(request, ORIGIN.as_str()) {
        let host = header(request, HOST.as_str()).unwrap_or_default();
        let expected = format!("{}://{host}", if secure { "https" } else { "http" });
        if origin != expected {
            return Err(foreign());
        }
    }
    Ok(())
}

fn refused_role(role: Role, operation: Operation) -> Problem {
    Problem::new(StatusCode::FORBIDDEN, "not_allowed", denied(role, operation))
}

fn sign_in_first() -> Problem {
    Problem::new(StatusCode::UNAUTHORIZED, "signed_out", "You are not signed in, or not any more. Sign in to go on.")
}

/// What a link is signed for.
pub(crate) const PAGE: &str = "page";

/// The link a request comes with, as a bearer token (RFC 6750): whose page it leads to, or why nowhere. Whoever guesses
/// learns nothing, whatever they guess.
async fn by_link(store: &Store, request: &ServiceRequest) -> Result<Result<Link, Problem>, Problem> {
    let nowhere = || {
        let sentence =
            "This link leads nowhere. Open the link from our message once more, all of it, or ask us for a new one.";
        Err(Problem::new(StatusCode::UNAUTHORIZED, "link_unknown", sentence))
    };
    let text = header(request, AUTHORIZATION.as_str()).and_then(|value| value.strip_prefix("Bearer "));
    let mut connection = store.read().await?;
    let key = customer_pages::key(&mut connection).await?;
    let signed = text.zip(key).and_then(|(text, key)| till_formats::link::read(&key.0, PAGE, text));
    let Some((id, until)) = signed else { return Ok(nowhere()) };
    let now = Utc::now();
    let Some(link) = customer_pages::of(&mut connection, PageLinkId(id), now).await? else { return Ok(nowhere()) };
    if link.expires.timestamp() != until {
        return Ok(nowhere());
    }
    Ok(match link.state {
        LinkState::Works => Ok(link),
        LinkState::Expired | LinkState::Ended => {
            let sentence = "This link does not work any more. Ask us for a new one.";
            Err(Problem::new(StatusCode::GONE, "link_over", sentence))
        }
    })
}

/// Lets a request through, or says why not.
async fn pass(gate: &Gate, store: &Store, request: &ServiceRequest) -> Result<(), Problem> {
    let host = header(request, HOST.as_str()).unwrap_or_default().to_lowercase();
    if !gate.knows_host(&host) {
        return Err(Problem::new(
            StatusCode::MISDIRECTED_REQUEST,
            "other_host",
            "These books are not served under that name. Open them under the address they are served on, or add the name to the setting hosts.",
        ));
    }
    let (address, secure) = (gate.address(request), gate.is_secure(request));
    let base = format!("{}://{host}", if secure { "https" } else { "http" });
    let base = gate.settings.public_address.clone().unwrap_or(base);
    request.extensions_mut().insert(From { address, secure, base });
    let Some(pattern) = request.match_pattern() else { return Ok(()) };
    let Some(takes) = takes(request.method(), &pattern) else {
        return Err(Problem::new(
            StatusCode::NOT_FOUND,
            "no_such_call",
            format!("There is no call {} {}.", request.method(), request.path()),
        ));
    };
    gate.measure(&gate.requests, address)?;
    let reads = matches!(*request.method(), Method::GET | Method::HEAD);
    if !reads {
        own_page(request, secure)?;
    }
    if takes == Takes::Link {
        gate.measure(&gate.pages, address)?;
        return match by_link(store, request).await? {
            Ok(link) => {
                request.extensions_mut().insert(Visitor {
                    actor: Actor::customer(&link.customer_name, &address.to_string(), Utc::now()),
                    link,
                });
                Ok(())
            }
            Err(problem) => {
                gate.measure(&gate.bad_links, address)?;
                Err(problem)
            }
        };
    }
    let token = request.cookie(cookie_name(secure)).map(|cookie| cookie.value().to_owned());
    let session = match &token {
        Some(token) => sessions::of_token(&mut *store.read().await?, token, Utc::now(), gate.settings.session).await?,
        None => None,
    };
    let who = session.zip(token).map(|(session, token)| {
        let actor = Actor::person(session.person, &session.name, session.role, &address.to_string(), Utc::now());
        Who { session, token, actor }
    });
    if let Some(who) = &who {
        if who.session.worth_noting {
            let now = Utc::now();
            // On a full disk or a held file people can still read; only the idle time runs on.
            if let Err(error) = store.jot(async |connection| sessions::used(connection, &who.token, now).await).await {
                tracing::warn!(%error, "the use of a session could not be noted");
            }
        }
        request.extensions_mut().insert(who.clone());
    }
    match takes {
        Takes::Nothing if !reads => gate.measure(&gate.sign_ins, address),
        Takes::Nothing | Takes::Signature => Ok(()),
        // Looked at above; nobody comes this far without one.
        Takes::Link => Err(sign_in_first()),
        Takes::Right(operation) => {
            let who = who.ok_or_else(sign_in_first)?;
            if !reads && header(request, CSRF_HEADER) != Some(csrf_of(&who.token).as_str()) {
                return Err(Problem::new(
                    StatusCode::FORBIDDEN,
                    "token_missing",
                    "This request lacks the session's token. Load the page again, then repeat it.",
                ));
            }
            if !may_try(who.session.role, operation) {
                return Err(refused_role(who.session.role, operation));
            }
            if who.session.must_change && operation != Operation::KeepOwnSignIn {
                return Err(Problem::new(
                    StatusCode::FORBIDDEN,
                    "password_to_change",
                    "Choose a password of your own first.",
                ));
            }
            Ok(())
        }
    }
}

/// The gate as the server wraps it around everything, with the request's id and its line in
/// the log. Logged are method, pattern, status and time: no query, no names, no secrets.
pub(crate) async fn stand<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, actix_web::Error> {
    let start = std::time::Instant::now();
    let id = uuid::Uuid::new_v4().to_string();
    let (Some(gate), Some(store)) =
        (request.app_data::<web::Data<Gate>>().cloned(), request.app_data::<web::Data<Store>>().cloned())
    else {
        return Err(actix_web::error::ErrorInternalServerError("the server is not set up"));
    };
    let method = request.method().clone();
    let pattern = request.match_pattern().unwrap_or_else(|| "(file)".to_owned());
    let passed = pass(&gate, &store, &request).await;
    let person: Option<PersonId> = request.extensions().get::<Who>().map(|who| who.session.person);
    let mut response = match passed {
        Ok(()) => next.call(request).await?.map_into_left_body(),
        Err(problem) => request.into_response(problem.error_response()).map_into_right_body(),
    };
    if let Ok(value) = HeaderValue::from_str(&id) {
        response.headers_mut().insert(HeaderName::from_static("x-request-id"), value);
    }
    let status = response.status().as_u16();
    let milliseconds = u64::try_from(start.elapsed().as_millis()).unwrap_or(u64::MAX);
    let person = person.map(|person| person.0);
    if status >= 500 {
        tracing::error!(request = %id, %method, pattern, status, milliseconds, person, "request failed");
    } else {
        tracing::info!(request = %id, %method, pattern, status, milliseconds, person, "request");
    }
    Ok(response)
}
