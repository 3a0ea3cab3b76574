//! Who may call: one check on every route, from the first day.
//!
//! Every handler names the grant that it needs by taking an [`Access`] of it. Tokens do not exist yet: this machine may do all, and
//! nobody else anything. A page from elsewhere, open in this machine's browser, is somebody else: it is told by the `Host` that it
//! had to name, or by its `Origin`.

use std::{
    future::{Ready, ready},
    marker::PhantomData,
    net::IpAddr,
};

use actix_web::{FromRequest, HttpRequest, dev::Payload, http::header};

use crate::problem::{Problem, Sort};

/// What a caller wants to do.
pub trait Grant: 'static {
    /// Its word in messages.
    const WORD: &'static str;
}

/// To see definitions and points.
pub struct Read;
/// To push points.
pub struct Write;
/// To change definitions.
pub struct Define;
/// To look after the store as a whole.
pub struct Operate;

impl Grant for Read {
    const WORD: &'static str = "read";
}
impl Grant for Write {
    const WORD: &'static str = "write";
}
impl Grant for Define {
    const WORD: &'static str = "define";
}

impl Grant for Operate {
    const WORD: &'static str = "operate";
}

/// Proof that the caller may do `G`.
pub struct Access<G>(PhantomData<G>);

impl<G: Grant> FromRequest for Access<G> {
    type Error = Problem;
    type Future = Ready<Result<Self, Problem>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(check(request, G::WORD).map(|()| Self(PhantomData)))
    }
}

fn check(request: &HttpRequest, word: &str) -> Result<(), Problem> {
    let refuse = |reason: String| Err(Problem::new(Sort::Access, format!("no grant to {word}: {reason}")));
    let peer = request.peer_addr().map(|peer| peer.ip());
    if !peer.is_some_and(|ip| ip.is_loopback()) {
        return refuse("this version admits only callers on its own machine".to_owned());
    }
    let host = request.connection_info().host().to_owned();
    if !is_this_machine(&host) {
        return refuse(format!("it was called by the name `{host}`; call it by 127.0.0.1 or localhost"));
    }
    let origin = request.headers().get(header::ORIGIN).map(|origin| origin.to_str().unwrap_or("?"));
    match origin {
        Some(origin) if origin.split_once("://").is_none_or(|(_, authority)| authority != host) => {
            refuse(format!("the call comes from a page of {origin}, which is not this service"))
        }
        _ => Ok(()),
    }
}

/// Whether a `HOST[:PORT]` names this machine.
fn is_this_machine(authority: &str) -> bool {
    let host = match authority.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or_default(),
        None => authority.split(':').next().unwrap_or_default(),
    };
    host.eq_ignore_ascii_case("localhost") || host.parse::<IpAddr>().is_ok_and(|ip| ip.is_loopback())
}

#[cfg(test)]
mod tests {
    use actix_web::test::TestRequest;

    use super::*;

    fn called(peer: &str, host: &str, origin: Option<&str>) -> Result<(), String> {
        let mut request = TestRequest::get().uri("/").peer_addr(peer.parse().unwrap()).insert_header(("Host", host));
        if let Some(origin) = origin {
            request = request.insert_header(("Origin", origin));
        }
        check(&request.to_http_request(), "write").map_err(|problem| problem.detail)
    }

    #[test]
    fn this_machine_is_admitted_and_nobody_else() {
        assert_eq!(called("127.0.0.1:5000", "127.0.0.1:7430", None), Ok(()));
        assert_eq!(called("[::1]:5000", "[::1]:7430", None), Ok(()));
        assert_eq!(called("127.0.0.1:5000", "localhost:7430", Some("http://localhost:7430")), Ok(()));
        assert!(called("192.0.2.7:5000", "127.0.0.1:7430", None).unwrap_err().contains("no grant to write"));
        assert!(called("127.0.0.1:5000", "waterway.example:7430", None).unwrap_err().contains("waterway.example"));
        assert!(called("127.0.0.1:5000", "127.0.0.1:7430", Some("https://waterway.example")).is_err());
        assert!(called("127.0.0.1:5000", "127.0.0.1:7430", Some("null")).is_err());
        assert!(called("127.0.0.1:5000", "127.0.0.1.example:7430", None).is_err());
    }
}
