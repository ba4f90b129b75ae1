//! The console's files, built into the program.

use actix_web::{HttpRequest, HttpResponse, http::header};
use rust_embed::Embed;

#[derive(Embed)]
#[folder = "../../console/dist"]
struct Files;

/// A file of the console; every other path is a page of it.
pub async fn file(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    let (found, is_page) = match Files::get(path) {
        Some(found) if !path.is_empty() => (Some(found), path == "index.html"),
        _ if path.starts_with("assets/") => (None, false),
        _ => (Files::get("index.html"), true),
    };
    let Some(found) = found else { return HttpResponse::NotFound().finish() };
    let mut answer = HttpResponse::Ok();
    answer.content_type(if is_page { "text/html; charset=utf-8" } else { found.metadata.mimetype() });
    if is_page {
        answer.insert_header((header::CACHE_CONTROL, "no-cache"));
        answer.insert_header((
            "content-security-policy",
            "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'",
        ));
    } else {
        // Their names change with their contents.
        answer.insert_header((header::CACHE_CONTROL, "public, max-age=31536000, immutable"));
    }
    answer.insert_header(("x-content-type-options", "nosniff"));
    answer.body(found.data.into_owned())
}
