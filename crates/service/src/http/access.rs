//! Who may call: one check on every route, from the first day.
//!
//! Every handler names the grant that it needs by taking an [`Access`] of it. Tokens do not exist yet: this machine may do everything, and
//! nobody else anything. A page from elsewhere, open in this machine's browser, is somebody else: it is recognised by the `Host` that it
//! had to name, by its `Origin`, or by what the browser says of it (`Sec-Fetch-Site`). Nothing that a page may set counts, such as `Forwarded`.

use std::{
    future::{Ready, ready},
    marker::PhantomData,
    net::{Ipv4Addr, Ipv6Addr},
};

use actix_web::{
    FromRequest, HttpRequest,
    dev::Payload,
    http::{Method, header},
};

use crate::problem::{ApiError, ProblemKind};

/// What a caller wants to do.
pub trait Grant: 'static {
    /// Its word in messages.
    const WORD: &'static str;
}

/// To see definitions and points.
pub struct ReadGrant;
/// To push points.
pub struct WriteGrant;
/// To change definitions.
pub struct DefineGrant;
/// To look after the store as a whole.
pub struct OperateGrant;

impl Grant for ReadGrant {
    const WORD: &'static str = "read";
}
impl Grant for WriteGrant {
    const WORD: &'static str = "write";
}
impl Grant for DefineGrant {
    const WORD: &'static str = "define";
}

impl Grant for OperateGrant {
    const WORD: &'static str = "operate";
}

/// Proof that the caller may do `G`.
pub struct Access<G>(PhantomData<G>);

impl<G: Grant> FromRequest for Access<G> {
    type Error = ApiError;
    type Future = Ready<Result<Self, ApiError>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(check(request, G::WORD).map(|()| Self(PhantomData)))
    }
}

fn check(request: &HttpRequest, word: &str) -> Result<(), ApiError> {
    let refuse = |reason: String| Err(ApiError::new(ProblemKind::Access, format!("no grant to {word}: {reason}")));
    let peer = request.peer_addr().map(|peer| peer.ip());
    if !peer.is_some_and(|ip| ip.is_loopback()) {
        return refuse("this version accepts requests from its own machine only".to_owned());
    }
    let text = |name: header::HeaderName| request.headers().get_all(name).map(|value| value.to_str().unwrap_or("?").to_owned()).collect::<Vec<_>>();
    let hosts = text(header::HOST);
    let named: Vec<&str> = hosts.iter().map(String::as_str).chain(request.uri().authority().map(|authority| authority.as_str())).collect();
    if let Some(other) = named.iter().find(|name| !is_this_machine(name)) {
        return refuse(format!("host `{other}` is not allowed: use 127.0.0.1 or localhost"));
    }
    if hosts.len() > 1 {
        return refuse("the request has several Host headers".to_owned());
    }
    // A caller of HTTP/1.0 names nothing, and is no browser.
    let host = named.first().copied().unwrap_or_default();
    for origin in text(header::ORIGIN) {
        if origin.split_once("://").is_none_or(|(_, authority)| authority != host) {
            return refuse(format!("the request comes from a page of {origin}, which is not this service"));
        }
    }
    let sites = text(header::HeaderName::from_static("sec-fetch-site"));
    let modes = text(header::HeaderName::from_static("sec-fetch-mode"));
    // `none` is an address that somebody typed. A link on a page from elsewhere may lead here, if it only looks.
    let is_own = |site: &String| matches!(site.as_str(), "same-origin" | "none");
    let only_looks = matches!(*request.method(), Method::GET | Method::HEAD);
    let follows_a_link = only_looks && modes == ["navigate"];
    if sites.iter().any(|site| !is_own(site)) && !follows_a_link {
        return refuse("the request comes from a page of another site".to_owned());
    }
    Ok(())
}

/// Whether a `HOST[:PORT]` names this machine, and is nothing else.
fn is_this_machine(authority: &str) -> bool {
    let (host, rest) = match authority.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
        Some((host, rest)) => (host.parse::<Ipv6Addr>().is_ok_and(|ip| ip.is_loopback()), rest),
        None => {
            let (host, rest) = authority.split_at(authority.find(':').unwrap_or(authority.len()));
            (host.eq_ignore_ascii_case("localhost") || host.parse::<Ipv4Addr>().is_ok_and(|ip| ip.is_loopback()), rest)
        }
    };
    let is_port =
        rest.is_empty() || rest.strip_prefix(':').is_some_and(|port| port.bytes().all(|byte| byte.is_ascii_digit()) && port.parse::<u16>().is_ok());
    host && is_port
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
        check(&request.to_http_request(), "write").map_err(|error| error.into_problem().detail)
    }

    #[test]
    fn only_this_machine_is_admitted() {
        assert_eq!(called("127.0.0.1:5000", "127.0.0.1:7430", None), Ok(()));
        assert_eq!(called("[::1]:5000", "[::1]:7430", None), Ok(()));
        assert_eq!(called("127.0.0.1:5000", "localhost:7430", Some("http://localhost:7430")), Ok(()));
        assert!(called("192.0.2.7:5000", "127.0.0.1:7430", None).unwrap_err().contains("no grant to write"));
        assert!(called("127.0.0.1:5000", "waterway.example:7430", None).unwrap_err().contains("waterway.example"));
        assert!(called("127.0.0.1:5000", "127.0.0.1:7430", Some("https://waterway.example")).is_err());
        assert!(called("127.0.0.1:5000", "127.0.0.1:7430", Some("null")).is_err());
        assert!(called("127.0.0.1:5000", "127.0.0.1.example:7430", None).is_err());
    }

    #[test]
    fn only_exact_host_names_are_local() {
        for name in ["127.0.0.1", "127.0.0.1:7430", "127.1.2.3:1", "localhost", "LOCALHOST:80", "[::1]", "[::1]:7430"] {
            assert!(is_this_machine(name), "{name}");
        }
        for name in [
            "",
            ":7430",
            "[::1]evil.example",
            "[::1].evil.example:7430",
            "[::1]:7430.evil.example",
            "[::1",
            "[127.0.0.1]",
            "127.0.0.1:7430@evil.example",
            "127.0.0.1:99999",
            "127.0.0.1:+80",
            "localhost.evil.example",
            "evil.example",
            "localhost:80:90",
            "127.0.0.1 ",
            "0.0.0.0",
            "192.0.2.7",
        ] {
            assert!(!is_this_machine(name), "{name}");
        }
    }

    #[test]
    fn headers_that_a_page_can_set_grant_no_access() {
        let with = |method: Method, headers: &[(&'static str, &str)]| {
            let mut request = TestRequest::default().method(method).uri("/").peer_addr("127.0.0.1:5000".parse().unwrap());
            for (name, value) in headers {
                request = request.append_header((*name, *value));
            }
            check(&request.to_http_request(), "read").map_err(|error| error.into_problem().detail)
        };
        let here = ("Host", "127.0.0.1:7430");
        for name in ["Forwarded", "X-Forwarded-Host"] {
            let value = if name == "Forwarded" { "host=127.0.0.1:7430" } else { "127.0.0.1:7430" };
            let message = with(Method::GET, &[("Host", "evil.example"), (name, value)]).unwrap_err();
            assert!(message.contains("host `evil.example` is not allowed"), "{message}");
            // Nor does it close anything.
            assert_eq!(with(Method::GET, &[here, (name, "evil.example")]), Ok(()));
        }
        assert!(with(Method::GET, &[here, ("Host", "localhost:7430")]).unwrap_err().contains("several Host headers"));
        let from = |site, mode| [here, ("Sec-Fetch-Site", site), ("Sec-Fetch-Mode", mode)];
        for (method, site, mode, is_admitted) in [
            (Method::POST, "same-origin", "cors", true),
            (Method::GET, "none", "navigate", true),
            (Method::GET, "cross-site", "navigate", true),
            (Method::POST, "cross-site", "navigate", false),
            (Method::POST, "cross-site", "no-cors", false),
            (Method::POST, "same-site", "cors", false),
            (Method::GET, "cross-site", "no-cors", false),
        ] {
            assert_eq!(with(method.clone(), &from(site, mode)).is_ok(), is_admitted, "{method} {site} {mode}");
        }
    }
}
