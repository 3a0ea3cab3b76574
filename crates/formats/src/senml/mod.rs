//! SenML (RFC 8428), in JSON and in CBOR.
//!
//! A pack is an array of records, in which base fields hold for the records after them. Of a resolved name, what follows the last `/` or `:`
//! is the metric, and what comes before it the tag `device`: `urn:dev:ow:10e2073a01080063:voltage` is `voltage` of the device
//! `urn:dev:ow:10e2073a01080063`. Sums (`s`) are counters of their own, called like the metric with `_sum`.

mod cbor;
mod record;

use fenetre_core::{
    model::{About, Cause, Kind, PointRef, PointSink, Refusal, ValueRef},
    time::{EpochUnit, Nanos, from_epoch},
};

use self::record::{Field, Record};
use crate::{FormatError, Reader, Tally, json::elements::Elements, units};

/// Reads a pack.
pub struct Pack {
    form: Form,
    base: Base,
}

enum Form {
    Json(Elements),
    Cbor,
}

/// What the records so far said for those after them.
#[derive(Default)]
struct Base {
    name: String,
    time: f64,
    unit: Option<String>,
    value: Option<f64>,
    sum: Option<f64>,
    /// The first record at fault for which the whole pack is.
    version: Option<f64>,
}

/// The version of SenML that is read.
const VERSION: f64 = 10.0;
/// Times below this are relative to now (RFC 8428, section 4.5.3): 2^28 seconds.
const ABSOLUTE_FROM: f64 = 268_435_456.0;

impl Pack {
    /// Of JSON.
    pub fn json() -> Self {
        Self { form: Form::Json(Elements::default()), base: Base::default() }
    }

    /// Of CBOR.
    pub fn cbor() -> Self {
        Self { form: Form::Cbor, base: Base::default() }
    }
}

impl Reader for Pack {
    fn read(&mut self, bytes: &[u8], is_last: bool, now: Nanos, sink: &mut dyn PointSink, tally: &mut Tally) -> Result<usize, FormatError> {
        let Self { form, base } = self;
        let mut take = |record: Result<Record, Refusal>, line: u64, tally: &mut Tally| {
            tally.rows += 1;
            match record.and_then(|record| base.resolve(record, now)) {
                Ok(resolved) => resolved.give(line, sink, tally),
                Err(refusal) => tally.refuse(line, refusal),
            }
        };
        let done = match form {
            Form::Json(elements) => elements.read(bytes, is_last, |text, line| take(Record::of_json(text), line, tally))?,
            Form::Cbor if !is_last => 0,
            Form::Cbor => {
                for (number, record) in (1..).zip(cbor::records(bytes)?) {
                    take(record, number, tally);
                }
                bytes.len()
            }
        };
        match base.version {
            Some(version) => Err(FormatError::Unreadable {
                format: "SenML",
                reason: format!("it is of version {version} (bver); version {VERSION} and those before it are read"),
            }),
            None => Ok(done),
        }
    }
}

/// A record without anything left open.
#[derive(Default)]
struct Resolved {
    metric: String,
    device: Option<String>,
    time: Nanos,
    unit: Option<String>,
    value: Option<Field>,
    sum: Option<f64>,
    has_update_time: bool,
}

impl Base {
    fn resolve(&mut self, record: Record, now: Nanos) -> Result<Resolved, Refusal> {
        if let Some(version) = record.base_version.filter(|version| *version > VERSION) {
            self.version = Some(version);
        }
        if let Some(name) = record.base_name {
            self.name = name;
        }
        self.time = record.base_time.unwrap_or(self.time);
        self.unit = record.base_unit.or(self.unit.take());
        self.value = record.base_value.or(self.value);
        self.sum = record.base_sum.or(self.sum);
        if let Some(field) = record.unknown {
            return Err(Refusal::of(Cause::Unreadable, &field, format!("`{field}` must be understood, as its `_` says, and is not")));
        }
        let is_base_only = record.name.is_none() && record.value.is_none() && record.sum.is_none() && record.time.is_none();
        let value = match (record.value, self.value) {
            (Some(Field::Number(number)), base) => Some(Field::Number(number + base.unwrap_or(0.0))),
            (Some(other), _) => Some(other),
            (None, Some(base)) if record.sum.is_none() && !is_base_only => Some(Field::Number(base)),
            (None, _) => None,
        };
        let sum = match (record.sum, self.sum) {
            (None, None) => None,
            (None, Some(_)) if is_base_only => None,
            (sum, base) => Some(sum.unwrap_or(0.0) + base.unwrap_or(0.0)),
        };
        if is_base_only {
            return Ok(Resolved::default());
        }
        if let Some(Field::Data) = value {
            return Err(Refusal::of(Cause::Value, "vd", "data values are not kept: a point is a number, a word or a truth value"));
        }
        if value.is_none() && sum.is_none() {
            return Err(Refusal::of(Cause::Value, "v", "the record has no value: one of v, vs, vb or s"));
        }
        let name = self.name.clone() + record.name.as_deref().unwrap_or_default();
        check_name(&name)?;
        let seconds = self.time + record.time.unwrap_or(0.0);
        let out_of_range = |error: fenetre_core::time::TimeError| Refusal::of(Cause::Time, "t", error.to_string());
        let time = if seconds.abs() < ABSOLUTE_FROM {
            let ahead = from_epoch(seconds, EpochUnit::Seconds).map_err(out_of_range)?;
            now.saturating_add(ahead)
        } else {
            from_epoch(seconds, EpochUnit::Seconds).map_err(out_of_range)?
        };
        let unit = record.unit.or_else(|| self.unit.clone()).map(|unit| units::of_senml(&unit));
        let (metric, device) = match name.rfind(['/', ':']) {
            Some(at) if at + 1 < name.len() => (name[at + 1..].to_owned(), Some(name[..at].to_owned())),
            _ => (name, None),
        };
        Ok(Resolved { metric, device: device.filter(|device| !device.is_empty()), time, unit, value, sum, has_update_time: record.has_update_time })
    }
}

/// Names are of letters, digits and `-:./_`, and begin with a letter or digit (RFC 8428, section 4.5.1).
fn check_name(name: &str) -> Result<(), Refusal> {
    let refuse = |reason: String| Err(Refusal::of(Cause::Tag, "n", reason));
    match name.chars().next() {
        None => return refuse("the record has no name: neither bn nor n".to_owned()),
        Some(first) if !first.is_ascii_alphanumeric() => return refuse(format!("the name `{name}` does not begin with a letter or digit")),
        Some(_) => {}
    }
    match name.chars().find(|c| !c.is_ascii_alphanumeric() && !"-:./_".contains(*c)) {
        Some(bad) => refuse(format!("the name `{name}` holds `{bad}`: SenML has letters, digits and -:./_")),
        None => Ok(()),
    }
}

impl Resolved {
    fn give(self, line: u64, sink: &mut dyn PointSink, tally: &mut Tally) {
        let tags: Vec<(&str, &str)> = self.device.iter().map(|device| ("device", device.as_str())).collect();
        let unit = self.unit.as_deref();
        let mut put = |metric: &str, kind: Kind, value: ValueRef<'_>, tally: &mut Tally| {
            let about = About { kind: Some(kind), unit: unit.filter(|_| kind != Kind::State), ..About::default() };
            if let Some(note) = sink.describe(metric, about) {
                tally.note(note);
            }
            tally.count(|| line, sink.accept(PointRef { metric, tags: &tags, time: self.time, value }));
        };
        match &self.value {
            Some(Field::Number(number)) => put(&self.metric, Kind::Gauge, ValueRef::Number(*number), tally),
            Some(Field::Text(word)) => put(&self.metric, Kind::State, ValueRef::Word(word), tally),
            Some(Field::Truth(truth)) => put(&self.metric, Kind::State, ValueRef::Word(if *truth { "true" } else { "false" }), tally),
            Some(Field::Data) | None => {}
        }
        if let Some(sum) = self.sum {
            put(&format!("{}_sum", self.metric), Kind::Counter, ValueRef::Number(sum), tally);
        }
        if self.has_update_time {
            tally.note("update times (ut) are not kept: say `interval` of the metric instead".to_owned());
        }
    }
}
