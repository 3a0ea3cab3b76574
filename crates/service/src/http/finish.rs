//! What every response gets: the id of its request, headers that tell browsers to be careful, and an end when its token ends.

use std::sync::{
    LazyLock,
    atomic::{AtomicU64, Ordering},
};

use actix_web::{
    Error, HttpMessage,
    body::{BodySize, BoxBody, MessageBody},
    dev::{ServiceRequest, ServiceResponse},
    http::header::{self, HeaderName, HeaderValue},
    middleware::Next,
};

use crate::{
    access::{
        caller::{Caller, Identity},
        guard::Guarded,
    },
    clock::now,
    problem::{ApiError, ProblemKind},
    tls::listener::Secured,
};

const REQUEST: HeaderName = HeaderName::from_static("fenetre-request");
/// A year, in seconds.
const TLS_ONLY: &str = "max-age=31536000";

/// Ids of requests: when the service started, and a count.
fn next_id() -> String {
    static STARTED: LazyLock<i64> = LazyLock::new(|| now() / 1_000_000_000);
    static COUNT: AtomicU64 = AtomicU64::new(1);
    format!("{:x}-{:x}", *STARTED, COUNT.fetch_add(1, Ordering::Relaxed))
}

/// Bytes of a body that are sent in no time.
const SHORT: u64 = 64 << 10;

/// Whether a body may still be on its way when its token ends.
fn takes_long(size: BodySize) -> bool {
    match size {
        BodySize::None => false,
        BodySize::Sized(bytes) => bytes > SHORT,
        BodySize::Stream => true,
    }
}

/// Completes the response to a request.
pub async fn finish(request: ServiceRequest, next: Next<impl MessageBody + 'static>) -> Result<ServiceResponse<BoxBody>, Error> {
    let id = next_id();
    let is_api = !request.path().starts_with("/assets/");
    let is_secure = request.conn_data::<Secured>().is_some();
    let call = format!("{} {}", request.method(), request.path());
    let only_looks = request.method().is_safe() || request.path().contains("/ask");
    let mut response = next.call(request).await?.map_into_boxed_body();
    let caller = response.request().extensions().get::<Caller>().cloned();
    // A token that ended while an answer was made ends that answer, too. A change that was made is reported.
    if let Some(Identity::Token(presented)) = caller.as_ref().map(|caller| &caller.identity)
        && only_looks
        && !presented.is_live(now())
    {
        let error = ApiError::new(ProblemKind::Token, "the token ended while the answer was made").with_challenge("invalid_token");
        response = response.into_response(actix_web::ResponseError::error_response(&error));
    }
    let failure = response.response().error().and_then(|error| error.as_error::<ApiError>()).cloned();
    if let Some(error) = failure {
        if error.status >= 500 {
            tracing::error!(request = id, call, status = error.status, error = error.detail, "a call failed");
        }
        let error = error.of_request(&id, caller.as_ref().is_some_and(Caller::is_machine));
        response = response.into_response(actix_web::ResponseError::error_response(&error));
    }
    let headers = response.headers_mut();
    let mut set = |name: HeaderName, value: &'static str| {
        if !headers.contains_key(&name) {
            headers.insert(name, HeaderValue::from_static(value));
        }
    };
    set(header::X_CONTENT_TYPE_OPTIONS, "nosniff");
    set(header::REFERRER_POLICY, "no-referrer");
    set(header::X_FRAME_OPTIONS, "DENY");
    if is_api {
        set(header::CACHE_CONTROL, "no-store");
        set(header::CONTENT_SECURITY_POLICY, "default-src 'none'; frame-ancestors 'none'");
    }
    if is_secure {
        set(header::STRICT_TRANSPORT_SECURITY, TLS_ONLY);
    }
    // It is made of digits and a hyphen.
    if let Ok(id) = HeaderValue::from_str(&id) {
        headers.insert(REQUEST, id);
    }
    Ok(match caller.map(|caller| caller.identity) {
        Some(Identity::Token(presented)) if takes_long(response.response().body().size()) => {
            response.map_body(|_, body| Guarded::new(body, presented).boxed())
        }
        _ => response,
    })
}
