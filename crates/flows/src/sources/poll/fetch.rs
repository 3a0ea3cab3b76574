//! One request to a target, and its answer.

use std::{io, path::Path, time::Duration};

use base64::{Engine, prelude::BASE64_STANDARD};
use fenetre_formats::Format;
use fenetre_store::Secrets;
use ureq::{
    Agent,
    tls::{Certificate, ClientCert, PrivateKey, RootCerts, TlsConfig},
};

use crate::{
    definition::{Poll, Target, duration},
    error::FlowError,
    tls,
};

const DEFAULT_TIMEOUT: Duration = Duration::from_secs(5);
const DEFAULT_BYTES: u64 = 10_000_000;
const DEFAULT_REDIRECTS: u32 = 3;
/// The content type that lenient targets send for OpenMetrics.
const PLAIN: &str = "text/plain";
const END_MARK: &[u8] = b"# EOF";
const ACCEPT: &str = "application/openmetrics-text; version=1.0.0, application/senml+json, application/json, text/csv, */*;q=0.1";

/// Asks targets, as a definition says.
pub struct Fetcher {
    /// The definition.
    pub poll: Poll,
    agent: Agent,
    /// The value of the header `Authorization`.
    authorization: Option<String>,
}

/// By what a target recognises an answer that it gave before.
#[derive(Clone, Debug, Default)]
pub struct Validators {
    tag: Option<String>,
    modified: Option<String>,
}

/// What a target answered.
pub enum Answer {
    /// The same as before.
    Unchanged,
    /// Points.
    Points {
        /// Their format.
        format: Format,
        /// Their text.
        bytes: Vec<u8>,
        /// By which it can be recognised.
        validators: Validators,
    },
}

impl Fetcher {
    /// For a definition that was checked.
    pub fn new(poll: Poll) -> Self {
        Self { agent: agent(&poll, TlsConfig::default()), poll, authorization: None }
    }

    /// Reads secrets and certificates, which may have changed since the round before.
    ///
    /// # Errors
    /// If a secret or certificate cannot be read.
    pub fn prepare(&mut self, secrets: &Secrets) -> Result<(), FlowError> {
        let poll = &self.poll;
        self.authorization = match (&poll.bearer, &poll.basic) {
            (Some(bearer), _) => Some(format!("Bearer {}", bearer.read(secrets)?)),
            (None, Some(basic)) => Some(format!("Basic {}", BASE64_STANDARD.encode(format!("{}:{}", basic.user, basic.password.read(secrets)?)))),
            (None, None) => None,
        };
        if poll.ca.is_none() && poll.certificate.is_none() {
            return Ok(());
        }
        let mut tls = TlsConfig::builder();
        if let Some(ca) = &poll.ca {
            tls = tls.root_certs(RootCerts::from(certificates(ca)?));
        }
        if let (Some(certificate), Some(key)) = (&poll.certificate, &poll.key) {
            tls = tls.client_cert(Some(ClientCert::new_with_certs(&certificates(certificate)?, private_key(key)?)));
        }
        self.agent = agent(poll, tls.build());
        Ok(())
    }

    /// Asks a target.
    ///
    /// # Errors
    /// [`FlowError::Peer`], and [`FlowError::Silent`] if it does not answer in time.
    pub fn fetch(&self, target: &Target, known: &Validators) -> Result<Answer, FlowError> {
        let fault = |text: String| FlowError::Peer(format!("{}: {text}", target.url));
        let mut request = self.agent.get(&target.url).header("Accept", ACCEPT);
        for (name, value) in &self.poll.headers {
            request = request.header(name, value);
        }
        if let Some(authorization) = &self.authorization {
            request = request.header("Authorization", authorization);
        }
        for (name, value) in [("If-None-Match", &known.tag), ("If-Modified-Since", &known.modified)] {
            if let Some(value) = value.as_ref().filter(|_| self.poll.conditional) {
                request = request.header(name, value);
            }
        }
        let limit = self.poll.max_bytes.unwrap_or(DEFAULT_BYTES);
        let mut answer = request.call().map_err(|error| self.failure(target, &error, limit))?;
        let status = answer.status();
        if status.as_u16() == 304 && self.poll.conditional {
            return Ok(Answer::Unchanged);
        }
        if !status.is_success() {
            let remedy = match status.as_u16() {
                401 | 403 => ": set `bearer` or `basic`, or check the one that is set",
                404 => ": check the path of the address",
                300..=399 => ": it redirects, but names no address",
                500..=599 => ": it failed itself",
                _ => "",
            };
            return Err(fault(format!("answered {status}{remedy}")));
        }
        let text = |name: &str| answer.headers().get(name).and_then(|value| value.to_str().ok()).map(str::to_owned);
        let validators = Validators { tag: text("etag"), modified: text("last-modified") };
        let header = text("content-type").unwrap_or_default();
        let essence = header.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        let lenient = (self.poll.lenient && essence == PLAIN).then_some(Format::OpenMetrics);
        let format = self.poll.format.or_else(|| Format::of_type(&essence)).or(lenient).ok_or_else(|| {
            let found = if essence.is_empty() { "has no content type".to_owned() } else { format!("has the content type `{essence}`") };
            let remedy = if essence == PLAIN { ", or `lenient = true` if it is OpenMetrics without its own type" } else { "" };
            fault(format!("the answer {found}, which is no format of points: set `format`{remedy}"))
        })?;
        let body = answer.body_mut().with_config().limit(limit).read_to_vec();
        let mut bytes = body.map_err(|error| self.failure(target, &error, limit))?;
        if self.poll.lenient && format == Format::OpenMetrics && !bytes.trim_ascii_end().ends_with(END_MARK) {
            if !bytes.ends_with(b"\n") {
                bytes.push(b'\n');
            }
            bytes.extend_from_slice(END_MARK);
            bytes.push(b'\n');
        }
        Ok(Answer::Points { format, bytes, validators })
    }

    /// Why there was no answer, in words.
    fn failure(&self, target: &Target, error: &ureq::Error, limit: u64) -> FlowError {
        let silent = || {
            let timeout = self.poll.timeout.map_or_else(|| "5s".to_owned(), |span| span.to_string());
            FlowError::Silent(format!("{}: did not answer as a whole within {timeout} (`timeout`)", target.url))
        };
        let reason = match error {
            ureq::Error::Timeout(_) => return silent(),
            ureq::Error::Io(error) if error.kind() == io::ErrorKind::TimedOut => return silent(),
            ureq::Error::BodyExceedsLimit(_) => format!("the answer is larger than {limit} bytes (`max_bytes`)"),
            ureq::Error::TooManyRedirects => format!("redirects more than {} times", self.poll.max_redirects.unwrap_or(DEFAULT_REDIRECTS)),
            ureq::Error::HostNotFound => "the host is not known".to_owned(),
            ureq::Error::Io(error) if error.kind() == io::ErrorKind::ConnectionRefused => "nothing listens there".to_owned(),
            ureq::Error::Protocol(error) => format!("the server there does not speak HTTP ({error})"),
            other => other.to_string(),
        };
        FlowError::Peer(format!("{}: {reason}", target.url))
    }
}

fn agent(poll: &Poll, tls: TlsConfig) -> Agent {
    let timeout = poll.timeout.map_or(DEFAULT_TIMEOUT, duration);
    let config = Agent::config_builder()
        .http_status_as_error(false)
        .timeout_global(Some(timeout))
        .max_redirects(poll.max_redirects.unwrap_or(DEFAULT_REDIRECTS))
        .user_agent(concat!("fenetre/", env!("CARGO_PKG_VERSION")))
        .tls_config(tls);
    config.build().into()
}

fn certificates(file: &Path) -> Result<Vec<Certificate<'static>>, FlowError> {
    Ok(tls::certificates(file)?.iter().map(|certificate| Certificate::from_der(certificate).to_owned()).collect())
}

fn private_key(file: &Path) -> Result<PrivateKey<'static>, FlowError> {
    let (pem, fault) = tls::read_key(file)?;
    PrivateKey::from_pem(&pem).map_err(|_| fault)
}
