//! Recognises callers: by a token (RFC 6750), by a session's cookie, or as somebody on the machine of the service.

use std::net::IpAddr;

use actix_web::{
    HttpRequest,
    cookie::{Cookie, SameSite, time::Duration as CookieTime},
    http::header,
};
use fenetre_access::{
    change::Who,
    registry::{Presented, Registry, SESSION_UNUSED},
    secret::Secret,
};
use fenetre_core::time::{Nanos, SECOND};
use ipnet::IpNet;

use super::{
    browser,
    caller::{Caller, Identity, seconds_of},
    peer::Peer,
    refusals::Refusals,
    sign_ins::SignIns,
};
use crate::{
    clock::steady,
    problem::{ApiError, ProblemKind},
};

/// The gate of a service.
pub struct Gate {
    /// Tokens and sessions.
    pub registry: Registry,
    /// Refused calls on their way into the record of changes.
    pub refusals: Refusals,
    sign_ins: SignIns,
    proxies: Vec<IpNet>,
    is_open: bool,
}

/// Name of a session's cookie. Over TLS the prefix makes browsers keep it for this host and TLS alone.
const COOKIE: &str = "fenetre-session";
const SECURE_COOKIE: &str = "__Host-fenetre-session";
/// Longest text of a credential that is looked at.
const MAX_CREDENTIAL: usize = 256;

impl Gate {
    /// A gate. If it is open, callers on the same machine need no token.
    pub fn new(registry: Registry, proxies: Vec<IpNet>, is_open: bool) -> Self {
        Self { registry, refusals: Refusals::default(), sign_ins: SignIns::default(), proxies, is_open }
    }

    /// Whether callers on the machine of the service need no token.
    pub fn is_open(&self) -> bool {
        self.is_open
    }

    /// Where a request comes from.
    ///
    /// # Errors
    /// If a proxy says contradictory things.
    pub fn peer(&self, request: &HttpRequest) -> Result<Peer, ApiError> {
        Peer::of(request, &self.proxies)
    }

    /// Who calls.
    ///
    /// # Errors
    /// [`ProblemKind::Token`] without a credential that works, [`ProblemKind::Access`] if a page from elsewhere calls.
    pub fn recognise(&self, request: &HttpRequest, now: Nanos) -> Result<Caller, ApiError> {
        let peer = self.peer(request)?;
        let refuse = |reason: String| ApiError::new(ProblemKind::Access, format!("the call is refused: {reason}"));
        browser::check_page(request, &peer).map_err(refuse)?;
        let identity = match bearer(request)? {
            Some(secret) => Identity::Token(self.registry.recognise(&secret, peer.address, now).map_err(unknown)?),
            None => match self.session(request, &peer, now)? {
                Some(presented) => {
                    if !browser::only_looks(request) && !browser::names_its_origin(request) {
                        return Err(refuse("a call of a session that may change something must name its Origin, as browsers do".to_owned()));
                    }
                    Identity::Token(presented)
                }
                None if self.is_open && peer.address.is_some_and(|address| address.is_loopback()) => {
                    browser::check_host(request).map_err(refuse)?;
                    Identity::Machine
                }
                None => {
                    let text = "a token is needed: send it as `Authorization: Bearer TOKEN`, with `fenetre login`, or sign in to the console";
                    return Err(ApiError::new(ProblemKind::Token, text));
                }
            },
        };
        Ok(Caller { identity, address: peer.address })
    }

    fn session(&self, request: &HttpRequest, peer: &Peer, now: Nanos) -> Result<Option<Presented>, ApiError> {
        let Some(cookie) = request.cookie(cookie_name(peer)) else { return Ok(None) };
        let Some(secret) = Secret::from_cookie(cookie.value()) else { return Ok(None) };
        self.registry.session(&secret, peer.address, now).map_err(unknown)
    }

    /// Who wants to sign in, by the token that the request presents.
    ///
    /// # Errors
    /// If the token does not work, or the address has to wait.
    pub fn sign_in(&self, request: &HttpRequest, now: Nanos) -> Result<SignedIn, ApiError> {
        let peer = self.peer(request)?;
        browser::check_page(request, &peer).map_err(|reason| ApiError::new(ProblemKind::Access, format!("the call is refused: {reason}")))?;
        self.sign_ins.check(peer.address, steady()).map_err(|wait| {
            let seconds = seconds_of(wait);
            let text = format!("too many sign-ins from your address have failed: try again in {seconds} s");
            ApiError::new(ProblemKind::Rate, text).retry_after(seconds)
        })?;
        let presented = match bearer(request) {
            Ok(Some(secret)) => self.registry.recognise(&secret, peer.address, now).map_err(unknown),
            Ok(None) => Err(ApiError::new(ProblemKind::Token, "a token is needed to sign in: send it as `Authorization: Bearer TOKEN`")),
            Err(error) => Err(error),
        };
        let presented = presented.inspect_err(|_| self.sign_ins.failed(peer.address, steady()))?;
        self.sign_ins.succeeded(peer.address);
        let address = peer.address;
        Ok(SignedIn { caller: Caller { identity: Identity::Token(presented), address }, peer })
    }

    /// Begins a session, and returns its cookie.
    ///
    /// # Errors
    /// If it cannot be recorded.
    pub fn begin_session(&self, signed: &SignedIn, now: Nanos) -> Result<Cookie<'static>, ApiError> {
        let Identity::Token(presented) = &signed.caller.identity else { return Err(ApiError::internal(&"a session needs a token")) };
        let secret = self.registry.begin_session(presented.holder(), now).map_err(|error| ApiError::internal(&error))?;
        Ok(cookie(&signed.peer, secret.cookie_text(), SESSION_UNUSED / SECOND))
    }

    /// Ends the session of a caller, if it has one.
    ///
    /// # Errors
    /// If that cannot be recorded.
    pub fn end_session(&self, caller: &Caller) -> Result<(), ApiError> {
        let Identity::Token(Presented::Session(session)) = &caller.identity else { return Ok(()) };
        self.registry.end_session(session).map_err(|error| ApiError::internal(&error))
    }

    /// A cookie that removes the one that the browser has.
    ///
    /// # Errors
    /// If a proxy says contradictory things.
    pub fn no_cookie(&self, request: &HttpRequest) -> Result<Cookie<'static>, ApiError> {
        Ok(cookie(&self.peer(request)?, String::new(), 0))
    }

    /// Notes a refused call.
    pub fn note_refusal(&self, request: &HttpRequest, who: Option<Who>, address: Option<IpAddr>, status: u16, reason: &str, now: Nanos) {
        let call = format!("{} {}", request.method(), request.path().chars().take(200).collect::<String>());
        self.refusals.note(who.unwrap_or(Who::Nobody), address, status, &call, reason, now);
    }
}

/// Somebody who signed in, and where from.
#[derive(Clone, Debug)]
pub struct SignedIn {
    /// The caller.
    pub caller: Caller,
    peer: Peer,
}

fn cookie(peer: &Peer, content: String, seconds: i64) -> Cookie<'static> {
    Cookie::build(cookie_name(peer), content)
        .path("/")
        .http_only(true)
        .secure(peer.is_secure)
        .same_site(SameSite::Strict)
        .max_age(CookieTime::seconds(seconds))
        .finish()
}

fn cookie_name(peer: &Peer) -> &'static str {
    if peer.is_secure { SECURE_COOKIE } else { COOKIE }
}

/// The token of a request; none if it has none.
fn bearer(request: &HttpRequest) -> Result<Option<Secret>, ApiError> {
    let refuse = |text: String| ApiError::new(ProblemKind::Token, text);
    let mut headers = request.headers().get_all(header::AUTHORIZATION);
    let Some(value) = headers.next() else { return Ok(None) };
    if headers.next().is_some() {
        return Err(refuse("the request has several Authorization headers".to_owned()));
    }
    let text = value.to_str().ok().filter(|text| text.len() <= MAX_CREDENTIAL);
    let token = text.and_then(|text| text.split_once(' ')).filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer")).map(|(_, token)| token.trim());
    let token = token.ok_or_else(|| refuse("the Authorization header cannot be read: write `Authorization: Bearer TOKEN`".to_owned()))?;
    Secret::parse(token).map(Some).map_err(|error| refuse(format!("the token of the request was not accepted: {error}")))
}

fn unknown(refusal: fenetre_access::token::Refusal) -> ApiError {
    ApiError::new(ProblemKind::Token, refusal.to_string()).with_challenge("invalid_token")
}
