//! Where a request comes from: its address, and the host and scheme that its sender used. What a proxy says of that counts only from the networks
//! that the configuration names.

use std::net::{IpAddr, SocketAddr};

use actix_web::{
    HttpRequest,
    http::header::{self, HeaderMap},
};
use ipnet::IpNet;

use crate::{
    problem::{ApiError, ProblemKind},
    tls::listener::Secured,
};

/// Where a request comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Peer {
    /// The address of the sender.
    pub address: Option<IpAddr>,
    /// The host that the sender named.
    pub host: Option<String>,
    /// Whether it came over TLS.
    pub is_secure: bool,
}

const FORWARDED_FOR: &str = "x-forwarded-for";
const FORWARDED_PROTO: &str = "x-forwarded-proto";
const FORWARDED_HOST: &str = "x-forwarded-host";

impl Peer {
    /// Determines the origin of a request. `Forwarded` (RFC 7239) or `X-Forwarded-*` headers are trusted from `proxies` only.
    ///
    /// # Errors
    /// If a proxy's headers are contradictory or unreadable, so that the caller's address is unknown.
    pub fn of(request: &HttpRequest, proxies: &[IpNet]) -> Result<Self, ApiError> {
        let named = || request.headers().get(header::HOST).and_then(|host| host.to_str().ok()).map(str::to_owned);
        let host = named().or_else(|| request.uri().authority().map(|authority| authority.as_str().to_owned()));
        let address = request.peer_addr().map(|peer| peer.ip().to_canonical());
        let own = Self { address, host, is_secure: request.conn_data::<Secured>().is_some() };
        match address {
            Some(address) if is_in(proxies, address) => own.through_proxies(request.headers(), proxies),
            _ => Ok(own),
        }
    }

    fn through_proxies(self, headers: &HeaderMap, proxies: &[IpNet]) -> Result<Self, ApiError> {
        let refuse = |text: String| ApiError::new(ProblemKind::Request, text);
        let all = |name: &str| -> Result<Vec<String>, ApiError> {
            let text = |value: &header::HeaderValue| value.to_str().map(str::to_owned).map_err(|_| refuse(format!("the header {name} is not text")));
            headers.get_all(name).map(text).collect()
        };
        let (standard, older) = (all(header::FORWARDED.as_str())?, all(FORWARDED_FOR)?);
        if !standard.is_empty() && !older.is_empty() {
            // A proxy that sets one of them forwards the other as the sender wrote it.
            return Err(refuse("the request has Forwarded and X-Forwarded-For: let the proxy remove the one that it does not set".to_owned()));
        }
        let hops = if standard.is_empty() { older_hops(&older, &all(FORWARDED_PROTO)?, &all(FORWARDED_HOST)?) } else { standard_hops(&standard) };
        let hops = hops.ok_or_else(|| refuse("the headers of the proxy cannot be read".to_owned()))?;
        // The last hop was written by the proxy that called. One that is a proxy itself is believed too.
        let sender = hops.iter().rev().find(|hop| hop.address.is_none_or(|address| !is_in(proxies, address))).or(hops.first());
        let Some(sender) = sender else { return Ok(self) };
        Ok(Self { address: sender.address, host: sender.host.clone().or(self.host), is_secure: sender.is_secure.unwrap_or(self.is_secure) })
    }
}

/// What one proxy says of who called it.
#[derive(Debug, Default, PartialEq, Eq)]
struct Hop {
    /// None of a sender that the proxy hides.
    address: Option<IpAddr>,
    host: Option<String>,
    is_secure: Option<bool>,
}

fn is_in(networks: &[IpNet], address: IpAddr) -> bool {
    networks.iter().any(|network| network.contains(&address))
}

/// An address as proxies write it: alone, with a port, or in brackets.
fn address_of(text: &str) -> Option<IpAddr> {
    let text = text.trim().trim_matches('"');
    let bare = text.strip_prefix('[').and_then(|rest| rest.split_once(']')).map_or(text, |(inside, _)| inside);
    bare.parse().ok().or_else(|| text.parse::<SocketAddr>().ok().map(|socket| socket.ip())).map(|address| address.to_canonical())
}

fn is_secure(scheme: &str) -> Option<bool> {
    match scheme {
        "https" => Some(true),
        "http" => Some(false),
        _ => None,
    }
}

fn older_hops(addresses: &[String], schemes: &[String], hosts: &[String]) -> Option<Vec<Hop>> {
    let last = |values: &[String]| values.last().and_then(|list| list.rsplit(',').next()).map(|value| value.trim().to_owned());
    let (scheme, host) = (last(schemes), last(hosts));
    let listed = addresses.iter().flat_map(|list| list.split(',')).map(str::trim).filter(|part| !part.is_empty());
    let mut hops: Vec<Hop> = listed.map(|part| Some(Hop { address: Some(address_of(part)?), ..Hop::default() })).collect::<Option<_>>()?;
    if hops.is_empty() && (scheme.is_some() || host.is_some()) {
        return None;
    }
    // Scheme and host are those that the proxy nearest to this service saw.
    for hop in &mut hops {
        (hop.host, hop.is_secure) = (host.clone(), scheme.as_deref().map(is_secure).unwrap_or_default());
    }
    Some(hops)
}

fn standard_hops(lists: &[String]) -> Option<Vec<Hop>> {
    let elements = lists.iter().flat_map(|list| list.split(',')).map(str::trim).filter(|element| !element.is_empty());
    let hop = |element: &str| {
        let mut hop = Hop::default();
        for pair in element.split(';') {
            let (name, value) = pair.trim().split_once('=')?;
            let value = value.trim().trim_matches('"');
            match name.to_ascii_lowercase().as_str() {
                // A proxy may hide the address, as `unknown` or a name of its own.
                "for" if value == "unknown" || value.starts_with('_') => {}
                "for" => hop.address = Some(address_of(value)?),
                "host" => hop.host = Some(value.to_owned()),
                "proto" => hop.is_secure = is_secure(value),
                _ => {}
            }
        }
        Some(hop)
    };
    elements.map(hop).collect()
}

#[cfg(test)]
mod tests {
    use actix_web::test::TestRequest;

    use super::*;

    fn peer(from: &str, headers: &[(&'static str, &str)]) -> Result<Peer, String> {
        let mut request = TestRequest::get().uri("/").peer_addr(format!("{from}:5000").parse().unwrap()).insert_header(("Host", "inside:7430"));
        for (name, value) in headers {
            request = request.append_header((*name, *value));
        }
        let proxies = ["10.0.0.0/8".parse().unwrap()];
        Peer::of(&request.to_http_request(), &proxies).map_err(|error| error.into_problem().detail)
    }

    fn named(address: &str, host: &str, is_secure: bool) -> Result<Peer, String> {
        Ok(Peer { address: Some(address.parse().unwrap()), host: Some(host.to_owned()), is_secure })
    }

    #[test]
    fn headers_of_named_proxies_are_believed() {
        let older = [("X-Forwarded-For", "192.0.2.7"), ("X-Forwarded-Proto", "https"), ("X-Forwarded-Host", "plant.example")];
        assert_eq!(peer("10.1.2.3", &older), named("192.0.2.7", "plant.example", true));
        let standard = [("Forwarded", "for=\"[2001:db8::1]:4711\";proto=https;host=plant.example")];
        assert_eq!(peer("10.1.2.3", &standard), named("2001:db8::1", "plant.example", true));
        // Two proxies; both are trusted.
        assert_eq!(peer("10.1.2.3", &[("X-Forwarded-For", "192.0.2.7, 10.9.9.9")]), named("192.0.2.7", "inside:7430", false));
        assert_eq!(peer("10.1.2.3", &[]), named("10.1.2.3", "inside:7430", false));
        assert_eq!(peer("10.1.2.3", &[("Forwarded", "for=unknown")]).unwrap().address, None);
    }

    #[test]
    fn nobody_else_can_choose_an_address() {
        let forged = [("X-Forwarded-For", "10.1.1.1"), ("X-Forwarded-Proto", "https"), ("X-Forwarded-Host", "plant.example")];
        assert_eq!(peer("192.0.2.7", &forged), named("192.0.2.7", "inside:7430", false));
        // Values that the sender forged are to the left of the one that the proxy added.
        assert_eq!(peer("10.1.2.3", &[("X-Forwarded-For", "127.0.0.1, 192.0.2.7")]), named("192.0.2.7", "inside:7430", false));
        let both = [("X-Forwarded-For", "192.0.2.7"), ("Forwarded", "for=127.0.0.1")];
        assert!(peer("10.1.2.3", &both).unwrap_err().contains("Forwarded and X-Forwarded-For"));
        for headers in [("X-Forwarded-For", "somewhere"), ("Forwarded", "for=somewhere"), ("X-Forwarded-Host", "plant.example")] {
            assert_eq!(peer("10.1.2.3", &[headers]).unwrap_err(), "the headers of the proxy cannot be read");
        }
    }
}
