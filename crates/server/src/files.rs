//! The built interface, embedded in the program.

use actix_web::http::header::{CACHE_CONTROL, ETAG, IF_NONE_MATCH};
use actix_web::{HttpRequest, HttpResponse};
use rust_embed::RustEmbed;

use crate::problem::no_such_call;

#[derive(RustEmbed)]
#[folder = "../../web/dist"]
struct Built;

/// A file of the interface, or its page: rooms and documents have addresses of their own.
pub(crate) async fn serve(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    if path == "api" || path.starts_with("api/") {
        return no_such_call(&request);
    }
    let is_file = path.rsplit('/').next().is_some_and(|name| name.contains('.'));
    let wanted = if is_file { path } else { "index.html" };
    let Some(file) = Built::get(wanted) else {
        let text = if is_file {
            "There is no such file."
        } else {
            "The interface is not built. Run `make web`, then start again."
        };
        return HttpResponse::NotFound().content_type("text/plain; charset=utf-8").body(text);
    };
    let mark = format!(
        "\"{}\"",
        file.metadata.sha256_hash().iter().take(12).map(|byte| format!("{byte:02x}")).collect::<String>()
    );
    if request.headers().get(IF_NONE_MATCH).is_some_and(|seen| seen.as_bytes() == mark.as_bytes()) {
        return HttpResponse::NotModified().finish();
    }
    // Names of built assets change with their content; the page itself is asked for each time.
    let keep = if wanted.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    HttpResponse::Ok()
        .content_type(mime_guess::from_path(wanted).first_or_octet_stream().as_ref())
        .insert_header((CACHE_CONTROL, keep))
        .insert_header((ETAG, mark))
        .body(file.data.into_owned())
}
