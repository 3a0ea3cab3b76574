//! One round of each kind of source.

mod folder;
mod poll;

use std::{collections::BTreeMap, sync::Arc};

use fenetre_core::time::Nanos;
use fenetre_formats::Format;
use fenetre_wire::{arrivals::TailPoint, sources::SourcePart};

use crate::{definition::Definition, error::FlowError, events::Events, intake::Intake};

/// What a round works with.
pub struct Round<'a> {
    /// The way into the store.
    pub intake: &'a Arc<Intake>,
    /// The wall clock.
    pub clock: fn() -> Nanos,
    /// Whether to stop; asked between two bodies.
    pub stop: &'a (dyn Fn() -> bool + Sync),
    /// Points to show instead of storing them.
    pub shown: Option<usize>,
    /// The log of the source.
    pub events: &'a Events,
}

/// What a round did.
#[derive(Clone, Debug, Default)]
pub struct Outcome {
    /// Points that were stored, or would be.
    pub points: u64,
    /// Points and rows that were rejected.
    pub rejected: u64,
    /// The first of the rejects, in a sentence.
    pub reject: Option<String>,
    /// Bytes that were read.
    pub bytes: u64,
    /// The first points, if they were requested.
    pub sample: Vec<TailPoint>,
    /// What became of each part: a target, a file.
    pub parts: Vec<SourcePart>,
}

/// A source that is run in rounds.
pub trait Source: Send {
    /// Takes one round.
    ///
    /// # Errors
    /// If all of it failed.
    fn round(&mut self, round: &Round<'_>) -> Result<Outcome, FlowError>;
}

/// What runs a definition.
pub fn source_of(definition: &Definition) -> Box<dyn Source> {
    match definition.clone() {
        Definition::Poll(poll) => Box::new(poll::PollSource::new(*poll, definition.every())),
        Definition::Folder(folder) => Box::new(folder::FolderSource::new(*folder)),
    }
}

/// A body that a source got.
struct Body<'a> {
    dataset: &'a str,
    format: Format,
    mapping: Option<fenetre_formats::mapping::Mapping>,
    tags: &'a BTreeMap<String, String>,
    bytes: Vec<u8>,
}

/// Longest time for reading a body.
const READING: std::time::Duration = std::time::Duration::from_secs(60);

/// Stores a body, or shows its first points.
fn take(round: &Round<'_>, body: Body<'_>) -> Result<Outcome, FlowError> {
    let Body { dataset, format, mapping, tags, bytes } = body;
    let end = std::time::Instant::now() + READING;
    let is_late = || std::time::Instant::now() > end || (round.stop)();
    let needs_one = matches!(format, Format::Csv | Format::Tsv);
    let mapping = if needs_one { Some(mapping.unwrap_or_default()) } else { mapping };
    let (now, length) = ((round.clock)(), bytes.len() as u64);
    let order = crate::intake::Order { dataset, format, mapping, metrics: &[], tags, shown: round.shown.unwrap_or(0), stop: &is_late };
    let mut read = round.intake.read(order, bytes, now)?;
    let sample = std::mem::take(&mut read.sample);
    let report = if round.shown.is_some() { read.report(true) } else { read.keep(round.intake, dataset, now)? };
    let reject = report.tally.rejects.first().map(|reject| format!("{}: {}", reject.place(), reject.reason));
    Ok(Outcome { points: report.tally.accepted, rejected: report.tally.rejected, reject, bytes: length, sample, parts: Vec::new() })
}

impl Outcome {
    /// Adds the outcome of another part.
    fn add(&mut self, other: Self, shown: Option<usize>) {
        self.points += other.points;
        self.rejected += other.rejected;
        self.bytes += other.bytes;
        self.reject = self.reject.take().or(other.reject);
        self.sample.extend(other.sample);
        self.sample.truncate(shown.unwrap_or(0));
    }
}
