//! The console, from the service's own binary. Hashed assets are immutable and sent compressed as they were built;
//! the page itself is never cached; a missing asset is 404, never the page.

use axum::http::{HeaderMap, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// What stands in the built page where each answer has a number of its own: only styles that carry it are taken.
const NONCE: &str = "nonce-of-this-page";

/// What the page may load and run. Attributes of markup give nothing a style: what a repository or a job says is never one.
fn security(nonce: &str) -> String {
    format!(
        "default-src 'self'; style-src 'self' 'nonce-{nonce}'; style-src-attr 'none'; img-src 'self' data:; object-src 'none'; \
         frame-ancestors 'none'; base-uri 'none'"
    )
}

/// A file of the console; its first page for every address that is none.
pub(super) async fn serve(uri: Uri, headers: HeaderMap) -> Response {
    let path = uri.path().trim_start_matches('/');
    // A page's address may hold dots (`/runs/tidegauge/12/test.unit`), so the folder decides what is an asset.
    if let Some(file) = file(path, &headers) {
        return file;
    }
    if path.starts_with("assets/") {
        return (StatusCode::NOT_FOUND, "there is no such file\n").into_response();
    }
    match Files::get("index.html") {
        Some(page) => {
            let nonce = format!("{:032x}", rand::random::<u128>());
            let headers = [
                (header::CONTENT_TYPE, "text/html; charset=utf-8".to_owned()),
                (header::CACHE_CONTROL, "no-store".to_owned()),
                (header::CONTENT_SECURITY_POLICY, security(&nonce)),
                (header::X_CONTENT_TYPE_OPTIONS, "nosniff".to_owned()),
                (header::REFERRER_POLICY, "no-referrer".to_owned()),
            ];
            (headers, String::from_utf8_lossy(&page.data).replace(NONCE, &nonce)).into_response()
        }
        None => (StatusCode::NOT_FOUND, "this binary was built without the console; build it with `cargo xtask demo`\n").into_response(),
    }
}

/// A file of the built console, compressed where the browser takes that.
fn file(path: &str, headers: &HeaderMap) -> Option<Response> {
    let plain = Files::get(path).filter(|_| path != "index.html")?;
    let zipped = headers.get(header::ACCEPT_ENCODING).and_then(|value| value.to_str().ok()).is_some_and(|value| value.contains("gzip"));
    let kind = mime_guess::from_path(path).first_or_octet_stream().to_string();
    let caching = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "public, max-age=300" };
    let base = [(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, caching.into()), (header::VARY, "accept-encoding".into())];
    if zipped && let Some(file) = Files::get(&format!("{path}.gz")) {
        return Some((base, [(header::CONTENT_ENCODING, "gzip")], file.data).into_response());
    }
    Some((base, plain.data).into_response())
}
