//! Sends batches to an address over HTTP.

use std::time::Duration;

use fenetre_store::Secrets;

use super::{
    definition::{BodyFormat, Http},
    destination::{Destination, Receipt, Undelivered, text_of, unwritable},
    encode,
    outgoing::Outgoing,
};
use crate::{
    definition::duration,
    error::FlowError,
    http::{Client, Manner, is_silence, reason},
};

/// Default time limit of a request.
pub const TIMEOUT: Duration = Duration::from_secs(30);
/// Maximum length of an answer that is quoted, in characters.
const QUOTED: usize = 200;
/// Maximum size of an answer that is read, in bytes.
const MAX_ANSWER: u64 = 1 << 20;

/// Posts batches.
pub struct Poster {
    http: Http,
    client: Option<Client>,
}

impl Poster {
    /// For a definition that was checked.
    pub fn new(http: Http) -> Self {
        Self { http, client: None }
    }
}

impl Destination for Poster {
    fn send(&mut self, batch: &Outgoing, secrets: &Secrets) -> Result<Receipt, Undelivered> {
        let Http { url, format, .. } = &self.http;
        let mut body = Vec::new();
        let (kind, written) = match format {
            BodyFormat::JsonLines => ("application/x-ndjson", encode::json_lines(batch, &mut body)),
            BodyFormat::Csv => ("text/csv", encode::csv(batch, &mut body)),
            BodyFormat::Arrow => ("application/vnd.apache.arrow.stream", encode::arrow(batch, &mut body)),
        };
        written.map_err(|error| unwritable(&error))?;
        let manner = Manner {
            bearer: self.http.bearer.as_ref(),
            basic: self.http.basic.as_ref(),
            ca: self.http.ca.as_ref(),
            certificate: self.http.certificate.as_ref(),
            key: self.http.key.as_ref(),
            timeout: self.http.timeout.map_or(TIMEOUT, duration),
            max_redirects: 0,
        };
        let client = Client::renewed(self.client.take(), manner, secrets)?;
        let client = &*self.client.insert(client);
        let mut request = client.agent.post(url).header("Content-Type", kind);
        for (name, value) in client.headers(&self.http.headers) {
            request = request.header(name, value);
        }
        let answer = post(request, &body, url)?;
        match answer.status {
            200..=299 => Ok(Receipt { bytes: body.len() as u64, ..Receipt::default() }),
            status => Err(refusal(url, status, &answer.text)),
        }
    }

    fn preview(&self, batch: &Outgoing) -> Result<String, FlowError> {
        text_of(|out| match self.http.format {
            BodyFormat::JsonLines => encode::json_lines(batch, out),
            BodyFormat::Csv | BodyFormat::Arrow => encode::csv(batch, out),
        })
    }
}

/// An answer over HTTP.
pub struct Answer {
    /// Its status code.
    pub status: u16,
    /// Its text, up to a limit.
    pub text: String,
}

/// Posts a body.
///
/// # Errors
/// [`FlowError::Peer`], and [`FlowError::Silent`] if there is no answer in time.
pub fn post(request: ureq::RequestBuilder<ureq::typestate::WithBody>, body: &[u8], url: &str) -> Result<Answer, FlowError> {
    read(request.send(body), url)
}

/// Reads an answer.
///
/// # Errors
/// As of [`post`].
pub fn read(answer: Result<ureq::http::Response<ureq::Body>, ureq::Error>, url: &str) -> Result<Answer, FlowError> {
    let fault = |error: &ureq::Error| match is_silence(error) {
        true => FlowError::Silent(format!("{url}: did not answer within `timeout`")),
        false => FlowError::Peer(format!("{url}: {}", reason(error))),
    };
    let mut answer = answer.map_err(|error| fault(&error))?;
    let status = answer.status().as_u16();
    let text = answer.body_mut().with_config().limit(MAX_ANSWER).lossy_utf8(true).read_to_string();
    match text {
        Ok(text) => Ok(Answer { status, text }),
        // The status counts, whatever comes after it.
        Err(ureq::Error::BodyExceedsLimit(_)) => Ok(Answer { status, text: String::new() }),
        Err(error) => Err(fault(&error)),
    }
}

/// What an answer other than success means for a batch.
pub fn refusal(url: &str, status: u16, text: &str) -> Undelivered {
    let quoted: String = text.trim().chars().take(QUOTED).collect();
    let says = if quoted.is_empty() { String::new() } else { format!(": {quoted}") };
    let failed = |remedy: &str| Undelivered::Failed(FlowError::Peer(format!("{url}: answered {status}{remedy}{says}")));
    match status {
        300..=399 => failed(", a redirect, which is not followed: write the address that it leads to"),
        401 | 403 => failed(": check the token or the password, and its permissions"),
        404 => failed(": check the path of the address"),
        408 | 425 | 429 | 500..=599 => failed(""),
        413 => Undelivered::TooLarge(format!("{url}: answered {status}{says}")),
        _ => Undelivered::Refused(format!("{url}: answered {status}{says}")),
    }
}
