//! The gate before every call: known host, measure, who it is, where the request came from,
//! whether the role may.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::num::NonZeroU32;
use std::time::Duration;

use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{AUTHORIZATION, CACHE_CONTROL, HOST, HeaderName, HeaderValue, ORIGIN};
use actix_web::http::uri::Authority;
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
    sign_ins_of_all: DefaultKeyedRateLimiter<IpAddr>,
    pages: DefaultKeyedRateLimiter<IpAddr>,
    bad_links: DefaultKeyedRateLimiter<IpAddr>,
}

/// Of the requests an address may make, customers' pages take this part, with bursts of six times that.
const PAGES_PART: u32 = 10;
/// From all addresses together so many times as many sign-ins are tried as from one.
const SIGN_INS_OF_ALL: u32 = 10;
/// What stands for all addresses together.
const EVERYWHERE: IpAddr = IpAddr::V4(Ipv4Addr::UNSPECIFIED);
/// Of the sign-ins an address may try, links that lead nowhere take this part.
const BAD_LINKS_PART: u32 = 2;

impl Gate {
    pub(crate) fn new(settings: Settings) -> Self {
        let some = |number: u32| NonZeroU32::new(number).unwrap_or(NonZeroU32::MIN);
        let requests = Quota::per_second(some(settings.requests_per_second))
            .allow_burst(some(settings.requests_per_second.saturating_mul(4)));
        let sign_ins = Quota::per_minute(some(settings.sign_ins_per_minute));
        let of_all = Quota::per_minute(some(settings.sign_ins_per_minute.saturating_mul(SIGN_INS_OF_ALL)));
        let of_pages = settings.requests_per_second / PAGES_PART;
        let pages = Quota::per_second(some(of_pages)).allow_burst(some(of_pages.saturating_mul(6)));
        let bad_links = Quota::per_minute(some(settings.sign_ins_per_minute / BAD_LINKS_PART));
        Self {
            requests: RateLimiter::keyed(requests),
            sign_ins: RateLimiter::keyed(sign_ins),
            sign_ins_of_all: RateLimiter::keyed(of_all),
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
            || (self.trusts(request)
                && last_header(request, "x-forwarded-proto")
                    .and_then(|list| list.rsplit(',').next())
                    .is_some_and(|proto| proto.trim() == "https"))
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
        // The last address of the last line is the one the proxy saw itself; those before it anyone can write.
        last_header(request, "x-forwarded-for")
            .and_then(|list| list.rsplit(',').next())
            .and_then(forwarded)
            .unwrap_or(peer)
    }

    fn knows_host(&self, host: &str) -> bool {
        // With a port or without, and nothing else: no name of a person, no path.
        let Ok(authority) = host.parse::<Authority>() else { return false };
        let name = authority.host();
        let port = host.strip_prefix(name).map(|rest| rest.strip_prefix(':').unwrap_or(rest));
        if !port.is_some_and(|port| port.bytes().all(|digit| digit.is_ascii_digit())) {
            return false;
        }
        matches!(name, "127.0.0.1" | "localhost" | "[::1]") || self.settings.hosts.iter().any(|known| known == name)
    }

    fn measure(&self, limiter: &DefaultKeyedRateLimiter<IpAddr>, address: IpAddr) -> Result<(), Problem> {
        use governor::clock::{Clock, DefaultClock};
        limiter.check_key(&measured(address)).map_err(|not_until| {
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

/// What a proxy says of an address: with a port or without.
fn forwarded(text: &str) -> Option<IpAddr> {
    let text = text.trim();
    let address = text.parse().ok().or_else(|| text.parse::<SocketAddr>().ok().map(|with_port| with_port.ip()))?;
    Some(plain(address))
}

/// An IPv4 address that is written as one of IPv6 is that of IPv4.
fn plain(address: IpAddr) -> IpAddr {
    match address {
        IpAddr::V6(six) => six.to_ipv4_mapped().map_or(address, IpAddr::V4),
        IpAddr::V4(_) => address,
    }
}

/// What is measured as one: an address, of IPv6 the network of 64 bits that one customer of a provider has.
fn measured(address: IpAddr) -> IpAddr {
    match plain(address) {
        IpAddr::V6(six) => IpAddr::V6(Ipv6Addr::from_bits(six.to_bits() & (u128::MAX << 64))),
        four => four,
    }
}

fn last_header<'a>(request: &'a ServiceRequest, name: &str) -> Option<&'a str> {
    request.headers().get_all(name).last().and_then(|value| value.to_str().ok())
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

fn unknown_call(request: &ServiceRequest) -> Problem {
    let sentence = format!("There is no call {} {}.", request.method(), request.path());
    Problem::new(StatusCode::NOT_FOUND, "no_such_call", sentence)
}

/// What a page asks by itself while it is open, which is no use of the session.
fn by_itself(pattern: &str) -> bool {
    matches!(pattern, "/api/presence") || pattern.ends_with("/progress")
}

fn known_host(gate: &Gate, request: &ServiceRequest) -> Result<String, Problem> {
    let host = header(request, HOST.as_str()).unwrap_or_default().to_lowercase();
    if gate.knows_host(&host) {
        return Ok(host);
    }
    Err(Problem::new(
        StatusCode::MISDIRECTED_REQUEST,
        "other_host",
        "These books are not served under that name. Open them under the address they are served on, or add the name to the setting hosts.",
    ))
}

/// The customer whose link a request comes with.
async fn visit(gate: &Gate, store: &Store, request: &ServiceRequest, address: IpAddr) -> Result<(), Problem> {
    gate.measure(&gate.pages, address)?;
    match by_link(store, request).await? {
        Ok(link) => {
            let actor = Actor::customer(&link.customer_name, &address.to_string(), Utc::now());
            request.extensions_mut().insert(Visitor { actor, link });
            Ok(())
        }
        Err(problem) => {
            gate.measure(&gate.bad_links, address)?;
            Err(problem)
        }
    }
}

/// Who is signed in, noted as at work where it is a person who asks.
async fn signed_in(
    gate: &Gate,
    store: &Store,
    request: &ServiceRequest,
    (pattern, address, secure): (&str, IpAddr, bool),
) -> Result<Option<Who>, Problem> {
    let token = request.cookie(cookie_name(secure)).map(|cookie| cookie.value().to_owned());
    let Some(token) = token else { return Ok(None) };
    let now = Utc::now();
    let session = sessions::of_token(&mut *store.read().await?, &token, now, gate.settings.session).await?;
    let Some(session) = session else { return Ok(None) };
    let actor = Actor::person(session.person, &session.name, session.role, &address.to_string(), now);
    if session.worth_noting && !by_itself(pattern) {
        // On a full disk or a held file people can still read; only the idle time runs on.
        if let Err(error) = store.jot(async |connection| sessions::used(connection, &token, now).await).await {
            tracing::warn!(%error, "the use of a session could not be noted");
        }
    }
    let who = Who { session, token, actor };
    request.extensions_mut().insert(who.clone());
    Ok(Some(who))
}

/// Whether who is signed in may do it, from our own page.
fn may(who: Option<Who>, request: &ServiceRequest, operation: Operation, reads: bool) -> Result<(), Problem> {
    let who = who.ok_or_else(sign_in_first)?;
    let refused = |code: &'static str, sentence: &str| Err(Problem::new(StatusCode::FORBIDDEN, code, sentence));
    if !reads && header(request, CSRF_HEADER) != Some(csrf_of(&who.token).as_str()) {
        let sentence = "This request lacks the session's token. Load the page again, then repeat it.";
        return refused("token_missing", sentence);
    }
    if !may_try(who.session.role, operation) {
        return Err(refused_role(who.session.role, operation));
    }
    if who.session.must_change && operation != Operation::KeepOwnSignIn {
        return refused("password_to_change", "Choose a password of your own first.");
    }
    Ok(())
}

/// Lets a request through, or says why not.
async fn pass(gate: &Gate, store: &Store, request: &ServiceRequest) -> Result<(), Problem> {
    let host = known_host(gate, request)?;
    let (address, secure) = (gate.address(request), gate.is_secure(request));
    let base = format!("{}://{host}", if secure { "https" } else { "http" });
    let base = gate.settings.public_address.clone().unwrap_or(base);
    request.extensions_mut().insert(From { address, secure, base });
    let reads = matches!(*request.method(), Method::GET | Method::HEAD);
    let pattern = request.match_pattern();
    // Whatever watches over the program asks often; everything else is measured, files too.
    if pattern.as_deref() != Some("/health") {
        gate.measure(&gate.requests, address)?;
    }
    let Some(pattern) = pattern else {
        let of_calls = request.path() == "/api" || request.path().starts_with("/api/");
        return if reads && !of_calls { Ok(()) } else { Err(unknown_call(request)) };
    };
    let takes = takes(request.method(), &pattern).ok_or_else(|| unknown_call(request))?;
    if !reads {
        own_page(request, secure)?;
    }
    if takes == Takes::Link {
        return visit(gate, store, request, address).await;
    }
    let who = signed_in(gate, store, request, (&pattern, address, secure)).await?;
    match takes {
        Takes::Nothing if !reads => {
            gate.measure(&gate.sign_ins, address)?;
            // From many addresses at once, as one that is measured over all of them.
            gate.measure(&gate.sign_ins_of_all, EVERYWHERE)
        }
        Takes::Nothing | Takes::Signature => Ok(()),
        // Looked at above; nobody comes this far without one.
        Takes::Link => Err(sign_in_first()),
        Takes::Right(operation) => may(who, request, operation, reads),
    }
}

/// The gate as the server wraps it around everything, with the request's id and its line in
/// the log. Logged are method, pattern, status, time and address: no query, no names, no secrets.
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
    let address = request.extensions().get::<From>().map(|from| from.address);
    let of_calls = request.path().starts_with("/api/");
    let mut response = match passed {
        Ok(()) => next.call(request).await?.map_into_left_body(),
        Err(problem) => request.into_response(problem.error_response()).map_into_right_body(),
    };
    if let Ok(value) = HeaderValue::from_str(&id) {
        response.headers_mut().insert(HeaderName::from_static("x-request-id"), value);
    }
    // Nothing of the books stays in a browser, or with whatever stands between.
    if of_calls && !response.headers().contains_key(CACHE_CONTROL) {
        response.headers_mut().insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    let status = response.status().as_u16();
    let milliseconds = u64::try_from(start.elapsed().as_millis()).unwrap_or(u64::MAX);
    let person = person.map(|person| person.0);
    let address = address.map(tracing::field::display);
    match status {
        500.. => {
            tracing::error!(request = %id, %method, pattern, status, milliseconds, person, address, "request failed")
        }
        // Not let in, or too often: what someone would look for who looks for an attack.
        401 | 403 | 421 | 429 => {
            tracing::warn!(request = %id, %method, pattern, status, milliseconds, person, address, "request refused");
        }
        _ => tracing::info!(request = %id, %method, pattern, status, milliseconds, person, address, "request"),
    }
    Ok(response)
}
