//! The built interface, embedded in the program.

use actix_web::http::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY, ETAG, IF_NONE_MATCH};
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
    // Customers have a page of their own, with nothing of the application in it.
    let of_customer = path == "page";
    let wanted = match (is_file, of_customer) {
        (true, _) => path,
        (_, true) => "page.html",
        _ => "index.html",
    };
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
    let mut response = HttpResponse::Ok();
    if of_customer {
        response
            .insert_header((CONTENT_SECURITY_POLICY, crate::PAGE_POLICY))
            .insert_header(("X-Robots-Tag", "noindex"));
    }
    response
        .content_type(mime_guess::from_path(wanted).first_or_octet_stream().as_ref())
        .insert_header((CACHE_CONTROL, keep))
        .insert_header((ETAG, mark))
        .body(file.data.into_owned())
}
