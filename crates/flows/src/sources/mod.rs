//! One round of each kind of source.

#[cfg(any(feature = "modbus", feature = "opcua"))]
mod drain;
mod folder;
#[cfg(any(feature = "mqtt", feature = "modbus", feature = "opcua", feature = "sql"))]
mod gather;
#[cfg(feature = "modbus")]
mod modbus;
#[cfg(feature = "mqtt")]
mod mqtt;
#[cfg(feature = "opcua")]
mod opcua;
mod poll;
#[cfg(feature = "sql")]
mod sql;

use std::{collections::BTreeMap, fs, io::Read, path::Path, sync::Arc};

use fenetre_core::time::Nanos;
use fenetre_formats::Format;
use fenetre_wire::{arrivals::TailPoint, sources::SourcePart};

use crate::{
    arrivals::sender::Sender, definition::Definition, error::FlowError, events::Events, intake::Intake, rejects::Rejects, watch::SeriesWatch,
};

/// What a round works with.
pub struct Round<'a> {
    /// Name of the source; `None` in a trial.
    pub name: Option<&'a str>,
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
    /// The watch over its series, unless this is a trial.
    pub watch: Option<&'a SeriesWatch>,
}

impl Round<'_> {
    /// By whose name its points are counted.
    fn sender(&self) -> Sender {
        Sender::Source(self.name.unwrap_or_default().to_owned())
    }
}

/// What a round did.
#[derive(Clone, Debug, Default)]
pub struct Outcome {
    /// Points that were stored, or would be.
    pub points: u64,
    /// What was rejected.
    pub rejects: Rejects,
    /// Bytes that were read.
    pub bytes: u64,
    /// The first points, if they were requested.
    pub sample: Vec<TailPoint>,
    /// What was sent to the other side, such as a SQL statement.
    pub sent: Option<String>,
    /// What became of each part: a target, a device, a file.
    pub parts: Vec<SourcePart>,
    /// Whether nothing came, which is no round.
    pub is_idle: bool,
    /// Why no part works, if the source itself tries again.
    pub failure: Option<String>,
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
///
/// # Errors
/// [`FlowError::Kind`] if this build lacks the kind.
pub fn source_of(definition: &Definition) -> Result<Box<dyn Source>, FlowError> {
    let every = definition.every();
    Ok(match definition.clone() {
        Definition::Poll(poll) => Box::new(poll::PollSource::new(*poll, every)),
        Definition::Folder(folder) => Box::new(folder::FolderSource::new(*folder)),
        #[cfg(feature = "mqtt")]
        Definition::Mqtt(mqtt) => Box::new(mqtt::MqttSource::new(*mqtt)),
        #[cfg(feature = "modbus")]
        Definition::Modbus(modbus) => Box::new(modbus::ModbusSource::new(*modbus, every)),
        #[cfg(feature = "opcua")]
        Definition::Opcua(opcua) => Box::new(opcua::OpcuaSource::new(*opcua)),
        #[cfg(feature = "sql")]
        Definition::Sql(sql) => Box::new(sql::SqlSource::new(*sql)),
        #[cfg(not(all(feature = "mqtt", feature = "modbus", feature = "opcua", feature = "sql")))]
        other => return Err(FlowError::Kind(other.kind())),
    })
}

/// A body that a source got.
struct Body<'a> {
    dataset: &'a str,
    format: Format,
    mapping: Option<fenetre_formats::mapping::Mapping>,
    tags: &'a BTreeMap<String, String>,
    bytes: Vec<u8>,
    /// Where it is from, if a round has several.
    at: Option<&'a str>,
}

/// Reads a text file of the machine of the service, up to a limit in bytes.
fn read_text(action: &'static str, path: &Path, limit: u64) -> Result<String, FlowError> {
    let fault = |reason: String| FlowError::File { action, path: path.display().to_string(), reason };
    let mut text = String::new();
    let file = fs::File::open(path).map_err(|error| fault(error.to_string()))?;
    file.take(limit + 1).read_to_string(&mut text).map_err(|error| fault(error.to_string()))?;
    if text.len() as u64 > limit { Err(fault(format!("it has more than {limit} bytes"))) } else { Ok(text) }
}

/// Longest time for reading a body.
const READING: std::time::Duration = std::time::Duration::from_secs(60);

/// Stores a body, or shows its first points.
fn take(round: &Round<'_>, body: Body<'_>) -> Result<Outcome, FlowError> {
    let Body { dataset, format, mapping, tags, bytes, at } = body;
    let end = std::time::Instant::now() + READING;
    let is_late = || std::time::Instant::now() > end || (round.stop)();
    let needs_one = matches!(format, Format::Csv | Format::Tsv);
    let mapping = if needs_one { Some(mapping.unwrap_or_default()) } else { mapping };
    let (now, length) = ((round.clock)(), bytes.len() as u64);
    let order = crate::intake::Order { dataset, format, mapping, metrics: &[], tags, shown: round.shown.unwrap_or(0), stop: &is_late };
    let mut read = round.intake.read(order, bytes, now)?;
    let sample = std::mem::take(&mut read.sample);
    let report = if round.shown.is_some() { read.report(true) } else { read.keep_watched(round.intake, dataset, &round.sender(), now, round.watch)? };
    let rejects = Rejects::of_body(&report.tally, at);
    Ok(Outcome { points: report.tally.accepted, rejects, bytes: length, sample, ..Outcome::default() })
}

impl Outcome {
    /// Adds the outcome of another part.
    fn add(&mut self, other: Self, shown: Option<usize>) {
        self.points += other.points;
        self.rejects.absorb(other.rejects);
        self.bytes += other.bytes;
        self.sample.extend(other.sample);
        self.sample.truncate(shown.unwrap_or(0));
    }
}
