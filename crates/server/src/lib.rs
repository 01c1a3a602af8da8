//! # till-server: Glad Till over HTTP
//!
//! A thin shell: handlers read a request, run one operation of `till-store` and answer. The
//! API describes itself (`glad-till openapi`); errors are problem details (RFC 9457).

pub mod api;
mod files;
mod problem;
mod request;

use std::net::{SocketAddr, TcpListener};

use actix_web::dev::{Server, ServerHandle};
use actix_web::middleware::{Compress, DefaultHeaders, from_fn};
use actix_web::{App, HttpServer, web};
use till_store::Store;
use utoipa::OpenApi;
use utoipa_actix_web::AppExt;

pub use problem::Problem;

/// Nothing from elsewhere, ever. The hash is that of the empty string: the style library puts
/// an empty style element into the page and then adds its rules to it.
const CONTENT_POLICY: &str = "default-src 'none'; script-src 'self'; \
    style-src 'self' 'sha256-47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU='; img-src 'self'; font-src 'self'; \
    connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

#[derive(OpenApi)]
#[openapi(info(title = "Glad Till", description = "Billing and receivables: from posted shipments to closed orders."))]
struct Description;

/// The OpenAPI document of the API, as JSON with a line break at its end.
///
/// # Errors
/// Where it cannot be written as JSON.
pub fn openapi() -> Result<String, serde_json::Error> {
    let (_, description) = App::new()
        .into_utoipa_app()
        .openapi(Description::openapi())
        .service(utoipa_actix_web::scope("/api").configure(api::configure))
        .split_for_parts();
    description.to_pretty_json().map(|json| json + "\n")
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
}

/// Starts listening on 127.0.0.1; port 0 takes a free one.
///
/// # Errors
/// Where the port is taken.
pub fn listen(store: Store, port: u16) -> std::io::Result<Listening> {
    let listener = TcpListener::bind(("127.0.0.1", port))?;
    let address = listener.local_addr()?;
    let store = web::Data::new(store);
    let server = HttpServer::new(move || {
        App::new()
            .app_data(store.clone())
            .app_data(request::json_config())
            .app_data(request::path_config())
            .app_data(request::query_config())
            .wrap(
                DefaultHeaders::new()
                    .add(("Content-Security-Policy", CONTENT_POLICY))
                    .add(("X-Content-Type-Options", "nosniff"))
                    .add(("Referrer-Policy", "no-referrer"))
                    .add(("Cross-Origin-Opener-Policy", "same-origin"))
                    .add(("Cross-Origin-Resource-Policy", "same-origin")),
            )
            .wrap(Compress::default())
            .wrap(from_fn(request::known_host))
            .into_utoipa_app()
            .service(utoipa_actix_web::scope("/api").configure(api::configure))
            .into_app()
            .default_service(web::to(files::serve))
    })
    .workers(2)
    .shutdown_timeout(5)
    .listen(listener)?
    .run();
    let handle = server.handle();
    Ok(Listening { server, address, handle })
}
