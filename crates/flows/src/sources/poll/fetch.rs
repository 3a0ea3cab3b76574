//! One request to a target, and its answer.

use std::time::Duration;

use fenetre_formats::Format;
use fenetre_store::Secrets;

use crate::{
    definition::{Poll, Target, duration},
    error::FlowError,
    http::{Client, Manner, is_silence, reason},
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
    /// None before the first round.
    client: Option<Client>,
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
        Self { client: None, poll }
    }

    /// Reads secrets and certificates, which may have changed since the round before.
    ///
    /// # Errors
    /// If a secret or certificate cannot be read.
    pub fn prepare(&mut self, secrets: &Secrets) -> Result<(), FlowError> {
        let poll = &self.poll;
        let manner = Manner {
            bearer: poll.bearer.as_ref(),
            basic: poll.basic.as_ref(),
            ca: poll.ca.as_ref(),
            certificate: poll.certificate.as_ref(),
            key: poll.key.as_ref(),
            timeout: poll.timeout.map_or(DEFAULT_TIMEOUT, duration),
            max_redirects: poll.max_redirects.unwrap_or(DEFAULT_REDIRECTS),
        };
        self.client = Some(Client::renewed(self.client.take(), manner, secrets)?);
        Ok(())
    }

    /// Asks a target.
    ///
    /// # Errors
    /// [`FlowError::Peer`], and [`FlowError::Silent`] if it does not answer in time.
    pub fn fetch(&self, target: &Target, known: &Validators) -> Result<Answer, FlowError> {
        let fault = |text: String| FlowError::Peer(format!("{}: {text}", target.url));
        let client = self.client.as_ref().ok_or_else(|| fault("the source is not ready".to_owned()))?;
        let mut request = client.agent.get(&target.url).header("Accept", ACCEPT);
        for (name, value) in client.headers(&self.poll.headers) {
            request = request.header(name, value);
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
        if is_silence(error) {
            let timeout = self.poll.timeout.map_or_else(|| "5s".to_owned(), |span| span.to_string());
            return FlowError::Silent(format!("{}: did not answer as a whole within {timeout} (`timeout`)", target.url));
        }
        let reason = match error {
            ureq::Error::BodyExceedsLimit(_) => format!("the answer is larger than {limit} bytes (`max_bytes`)"),
            ureq::Error::TooManyRedirects => format!("redirects more than {} times", self.poll.max_redirects.unwrap_or(DEFAULT_REDIRECTS)),
            other => reason(other),
        };
        FlowError::Peer(format!("{}: {reason}", target.url))
    }
}
