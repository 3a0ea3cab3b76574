//! No page from elsewhere acts for its reader. Such a page is recognised by the `Host` that it had to name, by its `Origin`, or by what the browser
//! says of it (`Sec-Fetch-Site`, W3C Fetch Metadata). Nothing that a page may set counts.

use std::net::{Ipv4Addr, Ipv6Addr};

use actix_web::{
    HttpRequest,
    http::{Method, header},
};

use super::peer::Peer;

/// Checks what a browser says of the page that calls.
///
/// # Errors
/// Why the call is refused.
pub fn check_page(request: &HttpRequest, peer: &Peer) -> Result<(), String> {
    if texts(request, header::HOST).len() > 1 {
        return Err("the request has several Host headers".to_owned());
    }
    // A caller of HTTP/1.0 names nothing, and is no browser.
    let host = peer.host.as_deref().unwrap_or_default();
    for origin in texts(request, header::ORIGIN) {
        if origin.split_once("://").is_none_or(|(_, authority)| authority != host) {
            return Err(format!("the request comes from a page of {origin}, which is not this service"));
        }
    }
    let sites = texts(request, header::HeaderName::from_static("sec-fetch-site"));
    let modes = texts(request, header::HeaderName::from_static("sec-fetch-mode"));
    // `none` is an address that somebody typed. A link on a page from elsewhere may lead here, if it only looks.
    let is_own = |site: &String| matches!(site.as_str(), "same-origin" | "none");
    let follows_a_link = only_looks(request) && modes == ["navigate"];
    if sites.iter().any(|site| !is_own(site)) && !follows_a_link {
        return Err("the request comes from a page of another site".to_owned());
    }
    Ok(())
}

/// Checks that a call without a token, which is admitted because it comes from this machine, was meant for it: a page whose name leads to this
/// machine must not be (DNS rebinding).
///
/// # Errors
/// Why the call is refused.
pub fn check_host(request: &HttpRequest) -> Result<(), String> {
    let hosts = texts(request, header::HOST);
    let named = hosts.iter().map(String::as_str).chain(request.uri().authority().map(|authority| authority.as_str()));
    match named.into_iter().find(|name| !is_this_machine(name)) {
        Some(other) => Err(format!("host `{other}` is not allowed: use 127.0.0.1 or localhost")),
        None => Ok(()),
    }
}

/// Whether a call changes nothing.
pub fn only_looks(request: &HttpRequest) -> bool {
    matches!(*request.method(), Method::GET | Method::HEAD)
}

/// Whether a call of a session comes from a page of this service: its browser must say so, as it does for every call that may change something.
pub fn names_its_origin(request: &HttpRequest) -> bool {
    request.headers().contains_key(header::ORIGIN)
}

fn texts(request: &HttpRequest, name: header::HeaderName) -> Vec<String> {
    request.headers().get_all(name).map(|value| value.to_str().unwrap_or("?").to_owned()).collect()
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

    fn called(method: Method, headers: &[(&'static str, &str)]) -> Result<(), String> {
        let mut request = TestRequest::default().method(method).uri("/").peer_addr("127.0.0.1:5000".parse().unwrap());
        for (name, value) in headers {
            request = request.append_header((*name, *value));
        }
        let request = request.to_http_request();
        let peer = Peer::of(&request, &[]).map_err(|error| error.into_problem().detail)?;
        check_page(&request, &peer).and_then(|()| check_host(&request))
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
    fn pages_from_elsewhere_are_refused() {
        let here = ("Host", "127.0.0.1:7430");
        assert_eq!(called(Method::POST, &[here]), Ok(()));
        assert_eq!(called(Method::POST, &[here, ("Origin", "http://127.0.0.1:7430")]), Ok(()));
        assert!(called(Method::POST, &[here, ("Origin", "https://waterway.example")]).unwrap_err().contains("a page of https://waterway.example"));
        assert!(called(Method::POST, &[here, ("Origin", "null")]).is_err());
        assert!(called(Method::GET, &[("Host", "waterway.example:7430")]).unwrap_err().contains("host `waterway.example:7430` is not allowed"));
        assert!(called(Method::GET, &[here, ("Host", "localhost:7430")]).unwrap_err().contains("several Host headers"));
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
            assert_eq!(called(method.clone(), &from(site, mode)).is_ok(), is_admitted, "{method} {site} {mode}");
        }
    }

    #[test]
    fn headers_that_a_page_can_set_grant_no_access() {
        for (name, value) in [("Forwarded", "for=127.0.0.1;host=127.0.0.1:7430"), ("X-Forwarded-Host", "127.0.0.1:7430")] {
            let message = called(Method::GET, &[("Host", "evil.example"), (name, value)]).unwrap_err();
            assert!(message.contains("host `evil.example` is not allowed"), "{message}");
            // Nor does it close anything.
            assert_eq!(called(Method::GET, &[("Host", "127.0.0.1:7430"), (name, "for=192.0.2.7;host=evil.example")]), Ok(()));
        }
    }
}
