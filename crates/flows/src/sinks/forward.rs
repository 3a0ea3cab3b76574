//! Forwards batches to another Fenetre: points as an Arrow stream, and definitions of metrics that it lacks.

use std::{
    collections::{BTreeMap, HashSet},
    sync::Arc,
};

use fenetre_core::{model::MetricDefinition, time::Nanos};
use fenetre_formats::document::AnswerDocument;
use fenetre_store::Secrets;
use fenetre_wire::{ask::Question, datasets::MetricInfo, definitions::MetricDefinitions, problem::Problem, push::PushReport};
use serde::de::DeserializeOwned;

use super::{
    definition::Forward,
    destination::{Destination, Inquiry, Receipt, Undelivered, WindowSums, text_of, unwritable},
    encode,
    http::{Answer, TIMEOUT, post, read, refusal},
    outgoing::Outgoing,
    sums::{question_text, sums_of},
};
use crate::{
    definition::duration,
    error::FlowError,
    http::{Client, Manner},
};

/// Compression of bodies: fast, because the network is seldom the limit.
const ZSTD_LEVEL: i32 = 1;

/// Forwards batches.
pub struct Forwarder {
    forward: Forward,
    client: Option<Client>,
    /// Metrics that the other service is known to have.
    defined: HashSet<Arc<str>>,
    listing: Listing,
}

/// Whether the metrics of the other service have been listed.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Listing {
    NotYet,
    /// The token may not see them.
    Denied,
    Done,
}

impl Forwarder {
    /// For a definition that was checked.
    pub fn new(forward: Forward) -> Self {
        Self { forward, client: None, defined: HashSet::new(), listing: Listing::NotYet }
    }

    fn url(&self, rest: &str) -> String {
        format!("{}/api/v1/datasets/{}/{rest}", self.forward.url.trim_end_matches('/'), self.forward.into_dataset())
    }

    fn renew(&mut self, secrets: &Secrets) -> Result<(), FlowError> {
        let manner = Manner {
            bearer: self.forward.token.as_ref(),
            basic: None,
            ca: self.forward.ca.as_ref(),
            certificate: None,
            key: None,
            timeout: self.forward.timeout.map_or(TIMEOUT, duration),
            max_redirects: 0,
        };
        self.client = Some(Client::renewed(self.client.take(), manner, secrets)?);
        Ok(())
    }

    fn client(&self) -> Result<&Client, FlowError> {
        self.client.as_ref().ok_or_else(|| FlowError::Peer("the sink is not ready".to_owned()))
    }

    fn post(&self, url: &str, headers: &[(&str, &str)], body: &[u8]) -> Result<Answer, FlowError> {
        let (client, own) = (self.client()?, BTreeMap::new());
        let mut request = client.agent.post(url);
        for (name, value) in client.headers(&own).chain(headers.iter().copied()) {
            request = request.header(name, value);
        }
        post(request, body, url)
    }

    /// Defines metrics of a batch that the other service does not have yet, as they are defined here. Returns what to note.
    fn define(&mut self, batch: &Outgoing) -> Result<Vec<String>, Undelivered> {
        let is_known = batch.stretches.iter().all(|stretch| self.defined.contains(&stretch.series.metric));
        if is_known {
            return Ok(Vec::new());
        }
        self.list()?;
        let mut new: BTreeMap<String, MetricDefinition> = BTreeMap::new();
        for stretch in &batch.stretches {
            let series = &stretch.series;
            if !self.defined.contains(&series.metric) && !new.contains_key(&*series.metric) {
                new.insert(series.metric.to_string(), MetricDefinition::clone(&series.definition));
            }
        }
        let names: Vec<Arc<str>> = batch.stretches.iter().map(|stretch| Arc::clone(&stretch.series.metric)).collect();
        let mut notes = Vec::new();
        if !new.is_empty() {
            let (url, count) = (self.url("metrics"), new.len());
            let body = serde_json::to_vec(&MetricDefinitions { metrics: new, dry_run: false }).map_err(|error| unwritable(&error.into()))?;
            let answer = self.post(&url, &[("Content-Type", "application/json")], &body)?;
            let metrics = if count == 1 { "metric" } else { "metrics" };
            notes.push(match answer.status {
                200..=299 => format!("defined {count} {metrics} at the destination"),
                // The destination defines them itself when their points come.
                400 | 403 | 409 => {
                    format!("{count} {metrics} could not be defined at the destination, which answered {}: {}", answer.status, detail(&answer.text))
                }
                _ => return Err(refused(&url, &answer, self.forward.into_dataset())),
            });
        }
        self.defined.extend(names);
        Ok(notes)
    }

    /// Pushes a batch; with `dry_run`, nothing is stored.
    fn push(&self, batch: &Outgoing, dry_run: bool) -> Result<Receipt, Undelivered> {
        let mut plain = Vec::new();
        // An Arrow stream would round wide integers.
        let (kind, written) = if encode::has_wide_integers(batch) {
            ("application/x-ndjson", encode::json_lines(batch, &mut plain))
        } else {
            ("application/vnd.apache.arrow.stream", encode::arrow(batch, &mut plain))
        };
        let body = written.and_then(|()| zstd::encode_all(&plain[..], ZSTD_LEVEL)).map_err(|error| unwritable(&error))?;
        let url = self.url(if dry_run { "points?dry_run=true" } else { "points" });
        let answer = self.post(&url, &[("Content-Type", kind), ("Content-Encoding", "zstd")], &body)?;
        if answer.status != 200 {
            return Err(refused(&url, &answer, self.forward.into_dataset()));
        }
        let PushReport { tally, dropped, .. } = parsed(&url, &answer)?;
        let mut samples: Vec<String> = tally.rejects.iter().map(|reject| format!("{}: {}", reject.place(), reject.reason)).collect();
        samples.extend((dropped > 0).then(|| format!("{dropped} points of metrics that are paused or retired there")));
        Ok(Receipt { bytes: body.len() as u64, rejected: tally.rejected + dropped, samples, notes: Vec::new() })
    }

    /// Lists the metrics of the other service, once.
    fn list(&mut self) -> Result<(), Undelivered> {
        if self.listing != Listing::NotYet {
            return Ok(());
        }
        let url = self.url("metrics");
        let (client, own) = (self.client()?, BTreeMap::new());
        let mut request = client.agent.get(&url);
        for (name, value) in client.headers(&own) {
            request = request.header(name, value);
        }
        let answer = read(request.call(), &url)?;
        self.listing = match answer.status {
            200 => {
                self.defined.extend(parsed::<Vec<MetricInfo>>(&url, &answer)?.into_iter().map(|metric| metric.name.into()));
                Listing::Done
            }
            403 => Listing::Denied,
            _ => return Err(refused(&url, &answer, self.forward.into_dataset())),
        };
        Ok(())
    }
}

/// The sentence of a problem.
fn detail(text: &str) -> String {
    serde_json::from_str::<Problem>(text).map_or_else(|_| text.chars().take(200).collect(), |problem| problem.detail)
}

fn parsed<T: DeserializeOwned>(url: &str, answer: &Answer) -> Result<T, FlowError> {
    serde_json::from_str(&answer.text).map_err(|_| FlowError::Peer(format!("{url}: the answer is not one of Fenetre: check `url`")))
}

/// What an answer other than success means for a batch.
fn refused(url: &str, answer: &Answer, into: &str) -> Undelivered {
    let says = detail(&answer.text);
    match answer.status {
        // Something else answers there, so the batch is not at fault.
        400..500 if serde_json::from_str::<Problem>(&answer.text).is_err() => {
            Undelivered::Failed(FlowError::Peer(format!("{url}: answered {}: {says}. Check `url`: this is not an answer of Fenetre", answer.status)))
        }
        404 => Undelivered::Failed(FlowError::Peer(format!(
            "{url}: {says}. Create the dataset there with `fenetre datasets define {into}`, or check `url` and `into`"
        ))),
        status => refusal(url, status, &says),
    }
}

impl Destination for Forwarder {
    fn send(&mut self, batch: &Outgoing, secrets: &Secrets) -> Result<Receipt, Undelivered> {
        self.renew(secrets)?;
        let notes = self.define(batch)?;
        Ok(Receipt { notes, ..self.push(batch, false)? })
    }

    fn attempt(&mut self, batch: &Outgoing, secrets: &Secrets) -> Result<Option<String>, FlowError> {
        self.renew(secrets)?;
        match self.push(batch, true) {
            Ok(receipt) if receipt.rejected == 0 => Ok(Some("the destination would take them".to_owned())),
            Ok(receipt) => {
                Ok(Some(format!("the destination would reject {} of {}: {}", receipt.rejected, batch.points(), receipt.samples.join("; "))))
            }
            Err(undelivered) => Err(undelivered.into_error()),
        }
    }

    fn preview(&self, batch: &Outgoing) -> Result<String, FlowError> {
        text_of(|out| encode::json_lines(batch, out))
    }

    fn sums(&mut self, inquiry: &Inquiry<'_>, secrets: &Secrets) -> Result<Option<Vec<(Nanos, WindowSums)>>, FlowError> {
        self.renew(secrets)?;
        self.list().map_err(Undelivered::into_error)?;
        if self.listing == Listing::Done && !self.defined.contains(inquiry.metric) {
            return Ok(Some(Vec::new()));
        }
        let url = self.url("ask");
        let question = Question { query: question_text(inquiry), ..Question::default() };
        let body = serde_json::to_vec(&question).map_err(|error| FlowError::Peer(error.to_string()))?;
        let answer = self.post(&url, &[("Content-Type", "application/json")], &body)?;
        if answer.status != 200 {
            return Err(FlowError::Peer(format!("{url}: answered {}: {}", answer.status, detail(&answer.text))));
        }
        Ok(Some(sums_of(&parsed::<AnswerDocument>(&url, &answer)?)))
    }
}
