//! Whether the program lives and its books can be read: for whatever watches over it.

use actix_web::web::Data;
use actix_web::{HttpResponse, get};
use serde_json::json;
use till_store::Store;

/// Says `ok` with 200, or `failing` with 503. It tells nothing about the books.
#[get("/health")]
pub(crate) async fn health(store: Data<Store>) -> HttpResponse {
    let version = env!("CARGO_PKG_VERSION");
    match store.alive().await {
        Ok(()) => HttpResponse::Ok().json(json!({ "status": "ok", "version": version })),
        Err(error) => {
            tracing::error!(%error, "the books cannot be read");
            HttpResponse::ServiceUnavailable().json(json!({ "status": "failing", "version": version }))
        }
    }
}
