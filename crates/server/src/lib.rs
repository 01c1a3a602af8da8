//! # till-server: Glad Till over HTTP
//!
//! A thin shell: handlers read a request, run one operation of `till-store` and answer. The
//! API describes itself (`glad-till openapi`); errors are problem details (RFC 9457).

pub mod api;
mod body;
pub mod calls;
mod files;
pub mod gate;
mod hashing;
mod health;
mod presence;
mod problem;
pub mod processor;
mod request;
pub mod settings;
pub mod tls;

use std::net::{SocketAddr, TcpListener};

use actix_web::dev::{Server, ServerHandle};
use actix_web::middleware::{Compress, DefaultHeaders, from_fn};
use actix_web::{App, HttpServer, web};
use till_store::Store;
use till_store::people;
use utoipa::OpenApi;
use utoipa_actix_web::AppExt;

pub use problem::Problem;

use api::StartCode;
use gate::Gate;
use presence::Presence;
use settings::Settings;

/// Nothing from elsewhere, ever. The hash is that of the empty string: the style library puts
/// an empty style element into the page and then adds its rules to it.
const CONTENT_POLICY: &str = "default-src 'none'; script-src 'self'; \
    style-src 'self' 'sha256-47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU='; img-src 'self'; font-src 'self'; \
    connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

/// Of customers' pages: no form goes anywhere, and no text becomes a script.
pub(crate) const PAGE_POLICY: &str = "default-src 'none'; script-src 'self'; \
    style-src 'self' 'sha256-47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU='; img-src 'self'; font-src 'self'; \
    connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'; require-trusted-types-for 'script'";

/// Of papers that stand alone.
pub(crate) const PAPER_POLICY: &str = "default-src 'none'; style-src 'unsafe-inline'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'; sandbox";

/// The most connections each of the two workers holds.
const CONNECTIONS: usize = 256;

#[derive(OpenApi)]
#[openapi(info(
    title = "Glad Till",
    description = "Billing and receivables: from posted shipments to closed orders. Every call but those of the door needs the session cookie of POST /api/session. Every change needs the session's second token in X-Csrf-Token, and where it is posted an Idempotency-Key, so that the same request sent twice is done once."
))]
struct Description;

/// The OpenAPI document of the API, as JSON with a line break at its end.
///
/// # Errors
/// Where it cannot be written as JSON.
pub fn openapi() -> Result<String, serde_json::Error> {
    let (_, mut description) = App::new()
        .into_utoipa_app()
        .openapi(Description::openapi())
        .service(utoipa_actix_web::scope("/api").configure(api::configure))
        .split_for_parts();
    as_answered(&mut description);
    description.to_pretty_json().map(|json| json + "\n")
}

/// What the answers really are: problems are problem details (RFC 9457), an id alone is JSON as everything else.
fn as_answered(description: &mut utoipa::openapi::OpenApi) {
    for path in description.paths.paths.values_mut() {
        let calls = [&mut path.get, &mut path.put, &mut path.post, &mut path.delete];
        for call in calls.into_iter().flatten() {
            for (status, response) in &mut call.responses.responses {
                let utoipa::openapi::RefOr::T(response) = response else { continue };
                let (from, to) = match status.as_bytes().first() {
                    Some(b'4' | b'5') => ("application/json", "application/problem+json"),
                    _ => ("text/plain", "application/json"),
                };
                if let Some(content) = response.content.shift_remove(from) {
                    response.content.insert(to.to_owned(), content);
                }
            }
        }
    }
}

/// A server that is listening.
#[allow(missing_debug_implementations)]
pub struct Listening {
    /// To be awaited.
    pub server: Server,
    /// Where it listens.
    pub address: SocketAddr,
    /// To stop it.
    pub handle: ServerHandle,
    /// The code for the first start, where the books have nobody yet.
    pub start_code: Option<String>,
}

/// Why the server cannot start.
#[derive(Debug, thiserror::Error)]
pub enum ListenError {
    /// The port is taken, or the address is not this machine's.
    #[error(
        "{address} cannot be listened on: {error}. Is Glad Till running already? Choose another port with --port or PORT."
    )]
    Address {
        /// Which.
        address: SocketAddr,
        /// Why.
        error: std::io::Error,
    },
    /// Certificate or key cannot be used.
    #[error("{0}")]
    Tls(#[from] tls::TlsError),
    /// The books cannot be read.
    #[error("{0}")]
    Store(#[from] till_store::StoreError),
}

/// Starts listening; port 0 takes a free one.
///
/// # Errors
/// Where the port is taken, or TLS cannot be served.
pub async fn listen(store: Store, settings: &Settings) -> Result<Listening, ListenError> {
    let address = SocketAddr::new(settings.listen, settings.port);
    let cannot = |error| ListenError::Address { address, error };
    let listener = TcpListener::bind(address).map_err(cannot)?;
    let address = listener.local_addr().map_err(cannot)?;
    let start_code = if people::nobody(&mut *store.read().await?).await? { Some(start_code()) } else { None };
    let code = web::Data::new(StartCode::new(start_code.clone()));
    let store = web::Data::new(store);
    let gate = web::Data::new(Gate::new(settings.clone()));
    let presence = web::Data::new(Presence::default());
    let underway = web::Data::new(api::Underway::default());
    let posting = web::Data::new(api::Posting::default());
    let looks = web::Data::new(api::Looks::default());
    let processor = web::Data::new(processor::Processor::new(settings.card_processor.clone()));
    let hashing = web::Data::new(hashing::Hashing::default());
    let forgetting = gate.clone();
    let secure = settings.serves_tls();
    let server = HttpServer::new(move || {
        let mut headers = DefaultHeaders::new()
            .add(("Content-Security-Policy", CONTENT_POLICY))
            .add(("X-Content-Type-Options", "nosniff"))
            .add(("X-Frame-Options", "DENY"))
            .add(("Referrer-Policy", "no-referrer"))
            .add(("Permissions-Policy", "camera=(), geolocation=(), microphone=()"))
            .add(("Cross-Origin-Opener-Policy", "same-origin"))
            .add(("Cross-Origin-Resource-Policy", "same-origin"));
        if secure {
            headers = headers.add(("Strict-Transport-Security", "max-age=31536000"));
        }
        App::new()
            .app_data(store.clone())
            .app_data(gate.clone())
            .app_data(code.clone())
            .app_data(presence.clone())
            .app_data(underway.clone())
            .app_data(posting.clone())
            .app_data(looks.clone())
            .app_data(processor.clone())
            .app_data(hashing.clone())
            .app_data(request::path_config())
            .app_data(request::query_config())
            .wrap(Compress::default())
            .wrap(from_fn(gate::stand))
            // Outside of the gate: what it refuses has them too.
            .wrap(headers)
            .into_utoipa_app()
            .service(utoipa_actix_web::scope("/api").configure(api::configure))
            .into_app()
            .service(health::health)
            .default_service(web::to(files::serve))
    })
    .workers(2)
    // Below the number of descriptors a program has by default, with room for the books.
    .max_connections(CONNECTIONS)
    .shutdown_timeout(5);
    let server = match &settings.tls {
        Some((certificate, key)) => {
            server.listen_rustls_0_23(listener, tls::load(certificate, key)?).map_err(cannot)?
        }
        None => server.listen(listener).map_err(cannot)?,
    }
    .run();
    actix_web::rt::spawn(async move {
        loop {
            actix_web::rt::time::sleep(std::time::Duration::from_secs(300)).await;
            forgetting.forget_quiet();
        }
    });
    let handle = server.handle();
    Ok(Listening { server, address, handle, start_code })
}

/// Eight digits that only who sees the terminal knows.
fn start_code() -> String {
    let mut bytes = [0_u8; 8];
    // Without randomness no code is better than one that can be guessed: nothing typed fits it.
    if getrandom::fill(&mut bytes).is_err() {
        return uuid::Uuid::new_v4().to_string();
    }
    format!("{:08}", u64::from_le_bytes(bytes) % 100_000_000)
}
