//! The browser's files, embedded at build time, each page with a content security policy of its own.

use actix_web::{
    HttpRequest, HttpResponse,
    http::{Method, header},
};
use rust_embed::{Embed, EmbeddedFile};

use crate::{http::openapi, problem::ApiError};

#[derive(Embed)]
#[folder = "$FENETRE_CONSOLE"]
struct Files;

const PAGE: &str = "index.html";
/// The paths that the console's own router knows.
const PAGES: [&str; 7] = ["", "ask", "arrivals", "catalogue", "keeping", "sending", "access"];
const NONCE: &str = "__CSP_NONCE__";
const NOT_BUILT: &str = "<!doctype html><html lang=en><meta charset=utf-8><title>Fenetre</title>
<body style='font:16px/1.5 system-ui,sans-serif;max-width:40rem;margin:10vh auto;padding:0 1rem'>
<h1>Fenetre is running</h1>
<p>Its API and command line work. The console is not part of this build, because it was built without Node. To build it in:</p>
<pre>cd console &amp;&amp; npm ci &amp;&amp; npm run build\ncargo build --release</pre>
<p><a href=/api/v1/openapi.json>Description of the API</a></p>";

/// Answers every path that no call has: a file, or a page of the console. These files reveal nothing about the store, so they need no token.
pub async fn serve(request: HttpRequest) -> Result<HttpResponse, ApiError> {
    let path = request.path().trim_start_matches('/');
    let is_page = PAGES.contains(&path) || path == PAGE;
    let file = if is_page { None } else { Files::get(path) };
    if !is_page && file.is_none() {
        return Ok(openapi::refuse(&request));
    }
    if !matches!(*request.method(), Method::GET | Method::HEAD) {
        return Ok(openapi::other_method(&request, &[Method::GET, Method::HEAD]));
    }
    file.map_or_else(page, |file| Ok(asset(&request, path, file)))
}

fn page() -> Result<HttpResponse, ApiError> {
    let Some(file) = Files::get(PAGE) else {
        return Ok(HttpResponse::Ok().content_type("text/html; charset=utf-8").body(NOT_BUILT));
    };
    let mut random = [0; 16];
    getrandom::fill(&mut random).map_err(|error| ApiError::internal(&error))?;
    let nonce: String = random.iter().map(|byte| format!("{byte:02x}")).collect();
    let policy = format!(
        "default-src 'none'; script-src 'self'; connect-src 'self'; img-src 'self' data:; font-src 'self'; style-src 'self' 'nonce-{nonce}'; \
         style-src-attr 'unsafe-inline'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
    );
    let html = String::from_utf8_lossy(&file.data).replace(NONCE, &nonce);
    Ok(HttpResponse::Ok()
        .content_type("text/html; charset=utf-8")
        .insert_header((header::CACHE_CONTROL, "no-store"))
        .insert_header((header::CONTENT_SECURITY_POLICY, policy))
        .insert_header((header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .body(html))
}

fn asset(request: &HttpRequest, path: &str, file: EmbeddedFile) -> HttpResponse {
    let mut response = HttpResponse::Ok();
    response.content_type(mime_guess::from_path(path).first_or_octet_stream().as_ref());
    response.insert_header((header::X_CONTENT_TYPE_OPTIONS, "nosniff"));
    // The build puts a digest of its content into the name of each file under assets.
    let keep = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    response.insert_header((header::CACHE_CONTROL, keep)).insert_header((header::VARY, "Accept-Encoding"));
    let accepts_gzip =
        request.headers().get(header::ACCEPT_ENCODING).and_then(|value| value.to_str().ok()).is_some_and(|value| value.contains("gzip"));
    match Files::get(&format!("{path}.gz")) {
        Some(packed) if accepts_gzip => response.insert_header((header::CONTENT_ENCODING, "gzip")).body(packed.data.into_owned()),
        _ => response.body(file.data.into_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_pages_are_those_of_the_consoles_router() {
        let router = include_str!("../../../../console/src/app/App.tsx");
        let routes: Vec<&str> = router.split("<Route path=\"/").skip(1).filter_map(|rest| rest.split('"').next()).collect();
        assert_eq!(routes, PAGES);
    }
}
