//! The service that a command calls, its token, and the certificates that it trusts.

use std::{net::IpAddr, path::Path};

use ureq::{
    Agent,
    http::{HeaderValue, Uri},
    tls::{Certificate, PemItem, RootCerts, TlsConfig, parse_pem},
    unversioned::{
        resolver::DefaultResolver,
        transport::{Connector, TcpConnector},
    },
};

use super::{CONNECT, pinned::PinnedConnector};
use crate::{
    args::Service,
    failure::{Failure, WRONG},
    profiles::{self, Profile},
};

const LOCAL: &str = "http://127.0.0.1:7430";

/// The service of a command line: what its options say, then what the environment says, then what the profile says.
pub fn chosen(service: &Service) -> Result<Profile, Failure> {
    let token = token(service)?;
    let named = service.profile.as_deref();
    let kept = if named.is_some() || service.url.is_none() { find_profile(named)? } else { None };
    let profile = match (kept, &service.url) {
        (Some(profile), None) => profile,
        (Some(profile), Some(url)) if url.trim_end_matches('/') == profile.url => profile,
        (Some(profile), Some(_)) => {
            let text = format!(
                "--url names another service than the profile ({}): use one of them, so that no token reaches the wrong service",
                profile.url
            );
            return Err(Failure::new(WRONG, text));
        }
        (None, url) => Profile { url: url.clone().unwrap_or_else(|| LOCAL.to_owned()), token: None, ca: None, fingerprint: None },
    };
    let own_trust = service.ca.is_some() || service.fingerprint.is_some();
    let profile = if own_trust { Profile { ca: service.ca.clone(), fingerprint: service.fingerprint.clone(), ..profile } } else { profile };
    Ok(Profile { url: profile.url.trim_end_matches('/').to_owned(), token: token.or(profile.token), ..profile })
}

fn find_profile(name: Option<&str>) -> Result<Option<Profile>, Failure> {
    // Without a place for profiles there are none.
    let file = match (profiles::file(), name) {
        (Ok(file), _) => file,
        (Err(_), None) => return Ok(None),
        (Err(failure), Some(_)) => return Err(failure),
    };
    let mut all = profiles::all(&file)?;
    let found = all.remove(name.unwrap_or(profiles::DEFAULT));
    match (found, name) {
        (None, Some(name)) => {
            let known = fenetre_core::suggest::hint(name, all.keys().map(String::as_str), 10);
            Err(Failure::new(WRONG, format!("there is no profile `{name}`: {known} (`fenetre login URL --profile {name}` makes it)")))
        }
        (found, _) => Ok(found),
    }
}

/// The token of the options or of the environment.
pub fn token(service: &Service) -> Result<Option<String>, Failure> {
    let text = match &service.token_file {
        Some(file) => Some(profiles::read_secret(file).map_err(|fault| fault.failure(file))?),
        None => std::env::var("FENETRE_TOKEN").ok(),
    };
    Ok(text.map(|text| text.trim().to_owned()).filter(|text| !text.is_empty()))
}

/// What calls a service.
pub fn agent(profile: &Profile) -> Result<Agent, Failure> {
    let Profile { url, token, ca, fingerprint } = profile;
    let wrong = |text: String| Failure::new(WRONG, text);
    let uri: Option<Uri> = url.parse().ok().filter(|uri: &Uri| uri.host().is_some() && matches!(uri.scheme_str(), Some("http" | "https")));
    let uri = uri.ok_or_else(|| wrong(format!("`{url}` is not the URL of a service: write one such as {LOCAL} or https://plant.example:7430")))?;
    let is_secure = uri.scheme_str() == Some("https");
    if token.is_some() && !is_secure && !is_local(uri.host().unwrap_or_default()) {
        return Err(wrong(format!("the token would travel unencrypted to {url}: use https")));
    }
    let mut config = Agent::config_builder().http_status_as_error(false).timeout_connect(Some(CONNECT));
    if let Some(ca) = ca {
        config = config.tls_config(TlsConfig::builder().root_certs(RootCerts::from(authorities(ca)?)).build());
    }
    let config = match token {
        None => config.build(),
        Some(token) => {
            let mut value =
                HeaderValue::from_str(&format!("Bearer {token}")).map_err(|_| wrong("the token has characters that no token has".to_owned()))?;
            value.set_sensitive(true);
            let own = (uri.host().unwrap_or_default().to_owned(), uri.port_u16());
            config
                .middleware(move |mut request: ureq::http::Request<ureq::SendBody<'_>>, next: ureq::middleware::MiddlewareNext<'_>| {
                    if (request.uri().host().unwrap_or_default(), request.uri().port_u16()) == (own.0.as_str(), own.1) {
                        request.headers_mut().insert("authorization", value.clone());
                    }
                    next.handle(request)
                })
                .build()
        }
    };
    let Some(fingerprint) = fingerprint else { return Ok(config.into()) };
    let digest = digest_of(fingerprint)
        .ok_or_else(|| wrong(format!("`{fingerprint}` is not a SHA-256: it has 64 hexadecimal digits, with or without colons")))?;
    let pinned = PinnedConnector::new(digest).map_err(|error| wrong(error.to_string()))?;
    Ok(Agent::with_parts(config, ().chain(TcpConnector::default()).chain(pinned), DefaultResolver::default()))
}

fn is_local(host: &str) -> bool {
    host == "localhost" || host.trim_matches(['[', ']']).parse::<IpAddr>().is_ok_and(|address| address.is_loopback())
}

fn authorities(file: &Path) -> Result<Vec<Certificate<'static>>, Failure> {
    let wrong = |reason: String| {
        Failure::new(WRONG, format!("{} cannot be used as an authority: {reason}. It must be a PEM file with certificates", file.display()))
    };
    let pem = std::fs::read(file).map_err(|error| wrong(error.to_string()))?;
    let mut found = Vec::new();
    for item in parse_pem(&pem) {
        if let PemItem::Certificate(certificate) = item.map_err(|error| wrong(error.to_string()))? {
            found.push(certificate);
        }
    }
    if found.is_empty() { Err(wrong("it has no certificate".to_owned())) } else { Ok(found) }
}

fn digest_of(text: &str) -> Option<[u8; 32]> {
    let digits: Vec<u8> = text.bytes().filter(|letter| *letter != b':').collect();
    let mut digest = [0; 32];
    if digits.len() != 64 {
        return None;
    }
    for (byte, pair) in digest.iter_mut().zip(digits.chunks(2)) {
        *byte = u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok()?;
    }
    Some(digest)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn profile(url: &str, token: Option<&str>) -> Profile {
        Profile { url: url.to_owned(), token: token.map(str::to_owned), ca: None, fingerprint: None }
    }

    #[test]
    fn a_token_never_travels_unencrypted() {
        for url in ["http://127.0.0.1:7430", "http://localhost:7430", "http://[::1]:7430", "https://plant.example:7430"] {
            assert!(agent(&profile(url, Some("fenetre_x"))).is_ok(), "{url}");
        }
        let message = agent(&profile("http://plant.example:7430", Some("fenetre_x"))).unwrap_err().to_string();
        assert_eq!(message, "the token would travel unencrypted to http://plant.example:7430: use https");
        assert!(agent(&profile("http://plant.example:7430", None)).is_ok());
    }

    #[test]
    fn what_is_no_address_or_digest_is_explained() {
        for url in ["plant.example", "ftp://plant.example", "", "/"] {
            assert!(agent(&profile(url, None)).unwrap_err().to_string().contains("is not the URL of a service"), "{url}");
        }
        let pinned = |fingerprint: &str| agent(&Profile { fingerprint: Some(fingerprint.to_owned()), ..profile("https://plant.example", None) });
        assert!(pinned(&"ab:".repeat(32)).is_ok() && pinned(&"Ab".repeat(32)).is_ok());
        assert!(pinned("ab:cd").unwrap_err().to_string().contains("is not a SHA-256"));
    }
}
