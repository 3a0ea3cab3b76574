//! Polling: addresses are asked over HTTP, several at a time. One that is slow, large or wrong does not delay the others.

use std::{
    io,
    sync::atomic::{AtomicUsize, Ordering},
    thread,
    time::{Duration, Instant},
};

use fenetre_formats::Format;
use parking_lot::Mutex;
use ureq::Agent;

use super::{Body, Outcome, PartOutcome, Round, Source, take};
use crate::{
    definition::{Poll, Target, exact},
    error::FlowError,
};

/// Targets that are asked at once.
const MAX_AT_ONCE: usize = 8;
const DEFAULT_TIMEOUT: Duration = Duration::from_secs(5);
const DEFAULT_BYTES: u64 = 10_000_000;
const DEFAULT_REDIRECTS: u32 = 3;
/// The content type that lenient targets send for OpenMetrics.
const PLAIN: &str = "text/plain";
const END_MARK: &[u8] = b"# EOF";

/// A source that polls.
pub struct PollSource {
    poll: Poll,
    agent: Agent,
}

impl PollSource {
    /// A source of a definition that was checked.
    pub fn new(poll: Poll) -> Self {
        let timeout = poll.timeout.map_or(DEFAULT_TIMEOUT, |span| Duration::from_nanos(exact(span).unsigned_abs()));
        let config = Agent::config_builder()
            .http_status_as_error(false)
            .timeout_global(Some(timeout))
            .max_redirects(poll.max_redirects.unwrap_or(DEFAULT_REDIRECTS))
            .user_agent(concat!("fenetre/", env!("CARGO_PKG_VERSION")));
        Self { poll, agent: config.build().into() }
    }

    /// Asks one target, and stores what it answers.
    fn ask(&self, target: &Target, round: &Round<'_>, bearer: Option<&str>) -> Result<Outcome, FlowError> {
        let (format, bytes) = self.fetch(target, bearer)?;
        let tags = target.tags.iter().chain(&self.poll.tags).map(|(key, value)| (key.clone(), value.clone())).rev().collect();
        let body = Body { dataset: &self.poll.dataset, format, mapping: self.poll.mapping.clone(), tags: &tags, bytes };
        take(round, body)
    }

    fn fetch(&self, target: &Target, bearer: Option<&str>) -> Result<(Format, Vec<u8>), FlowError> {
        let fault = |text: String| FlowError::Peer(format!("{}: {text}", target.url));
        let accept = "application/openmetrics-text; version=1.0.0, application/senml+json, application/json, text/csv, */*;q=0.1";
        let mut request = self.agent.get(&target.url).header("Accept", accept);
        for (name, value) in &self.poll.headers {
            request = request.header(name, value);
        }
        if let Some(bearer) = bearer {
            request = request.header("Authorization", format!("Bearer {bearer}"));
        }
        let limit = self.poll.max_bytes.unwrap_or(DEFAULT_BYTES);
        let mut answer = request.call().map_err(|error| fault(self.reason(&error, limit)))?;
        let status = answer.status();
        if !status.is_success() {
            let remedy = match status.as_u16() {
                401 | 403 => ": set `bearer`, or check the one that is set",
                404 => ": check the path of the address",
                300..=399 => ": it redirects, but names no address",
                500..=599 => ": it failed itself",
                _ => "",
            };
            return Err(fault(format!("answered {status}{remedy}")));
        }
        let header = answer.headers().get("content-type").and_then(|value| value.to_str().ok()).unwrap_or_default();
        let essence = header.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        let lenient = (self.poll.lenient && essence == PLAIN).then_some(Format::OpenMetrics);
        let format = self.poll.format.or_else(|| Format::of_type(&essence)).or(lenient).ok_or_else(|| {
            let found = if essence.is_empty() { "has no content type".to_owned() } else { format!("has the content type `{essence}`") };
            let remedy = if essence == PLAIN { ", or `lenient = true` if it is OpenMetrics without its own type" } else { "" };
            fault(format!("the answer {found}, which is no format of points: set `format`{remedy}"))
        })?;
        let mut bytes = answer.body_mut().with_config().limit(limit).read_to_vec().map_err(|error| fault(self.reason(&error, limit)))?;
        if self.poll.lenient && format == Format::OpenMetrics && !bytes.trim_ascii_end().ends_with(END_MARK) {
            if !bytes.ends_with(b"\n") {
                bytes.push(b'\n');
            }
            bytes.extend_from_slice(END_MARK);
            bytes.push(b'\n');
        }
        Ok((format, bytes))
    }

    /// Why there was no answer, in words.
    fn reason(&self, error: &ureq::Error, limit: u64) -> String {
        let timeout = self.poll.timeout.map_or_else(|| "5s".to_owned(), |span| span.to_string());
        match error {
            ureq::Error::Timeout(_) => format!("did not answer as a whole within {timeout} (`timeout`)"),
            ureq::Error::BodyExceedsLimit(_) => format!("the answer is larger than {limit} bytes (`max_bytes`)"),
            ureq::Error::TooManyRedirects => format!("redirects more than {} times", self.poll.max_redirects.unwrap_or(DEFAULT_REDIRECTS)),
            ureq::Error::HostNotFound => "the host is not known".to_owned(),
            ureq::Error::Io(error) if error.kind() == io::ErrorKind::ConnectionRefused => "nothing listens there".to_owned(),
            ureq::Error::Protocol(error) => format!("what answers does not speak HTTP ({error})"),
            ureq::Error::Io(error) if error.kind() == io::ErrorKind::TimedOut => format!("did not answer as a whole within {timeout} (`timeout`)"),
            other => other.to_string(),
        }
    }
}

impl Source for PollSource {
    fn round(&mut self, round: &Round<'_>) -> Result<Outcome, FlowError> {
        let bearer = self.poll.bearer.as_ref().map(crate::secret::SecretRef::read).transpose()?;
        let (next, done) = (AtomicUsize::new(0), Mutex::new(Vec::new()));
        let targets = &self.poll.targets;
        thread::scope(|scope| {
            for _ in 0..targets.len().min(MAX_AT_ONCE) {
                scope.spawn(|| {
                    while let Some(target) = targets.get(next.fetch_add(1, Ordering::Relaxed)).filter(|_| !(round.stop)()) {
                        let begun = Instant::now();
                        let outcome = self.ask(target, round, bearer.as_deref());
                        done.lock().push((target.url.clone(), outcome, begun.elapsed().as_secs_f64()));
                    }
                });
            }
        });
        let mut all = Outcome::default();
        let mut first_error = None;
        for (name, outcome, seconds) in done.into_inner() {
            let (error, points) = match outcome {
                Ok(outcome) => {
                    let points = outcome.points;
                    all.add(outcome, round.shown);
                    (None, points)
                }
                Err(error) => {
                    round.events.add((round.clock)(), true, error.to_string());
                    let text = error.to_string();
                    first_error.get_or_insert(error);
                    (Some(text), 0)
                }
            };
            all.parts.push(PartOutcome { name, error, points, seconds });
        }
        all.parts.sort_by(|a, b| a.name.cmp(&b.name));
        match first_error {
            Some(error) if all.parts.iter().all(|part| part.error.is_some()) => Err(error),
            _ => Ok(all),
        }
    }
}
