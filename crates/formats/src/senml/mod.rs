//! SenML (RFC 8428), in JSON and in CBOR.
//!
//! A pack is an array of records, in which base fields hold for the records after them. In a resolved name, what follows the last `/` or `:`
//! is the metric, and what comes before it is the tag `device`: `urn:dev:ow:10e2073a01080063:voltage` is `voltage` of the device
//! `urn:dev:ow:10e2073a01080063`. A slash stays at the end of the tag, so that `dev/temp` (device `dev/`) and `dev:temp` (device `dev`) are two
//! series. Sums (`s`) are counters of their own, named like the metric with `_sum`.
//!
//! One name may have values of several units, as in the standard's example of a tracker. A value whose unit cannot be converted to the metric's
//! belongs to a metric of its own, named like the first with the unit behind it: `position`, then `position_lat`.

mod cbor;
mod record;

use fenetre_core::{
    model::{About, Cause, Kind, PointRef, PointSink, Refusal, ValueRef},
    time::{EpochUnit, Nanos, from_epoch},
};

use self::record::{Field, Record};
use crate::{FormatError, Output, Reader, Tally, json::elements::Elements, units};

/// Reads a pack.
pub struct Pack {
    form: Form,
    base: Base,
    /// Its first byte was seen.
    is_array: bool,
}

enum Form {
    Json(Elements),
    Cbor,
}

/// Base values that earlier records set for later ones.
#[derive(Default)]
struct Base {
    name: String,
    time: f64,
    unit: Option<String>,
    value: Option<f64>,
    sum: Option<f64>,
    /// The version that the pack states; 10, if it states none.
    version: Option<f64>,
    /// A version for which the whole pack is at fault.
    bad_version: Option<String>,
    has_begun: bool,
}

/// The version of SenML that is read.
const VERSION: f64 = 10.0;
/// Times below this are relative to now (RFC 8428, section 4.5.3): 2^28 seconds.
const ABSOLUTE_FROM: f64 = 268_435_456.0;

impl Pack {
    /// Of JSON.
    pub fn json() -> Self {
        Self { form: Form::Json(Elements::default()), base: Base::default(), is_array: false }
    }

    /// Of CBOR.
    pub fn cbor() -> Self {
        Self { form: Form::Cbor, base: Base::default(), is_array: false }
    }
}

impl Reader for Pack {
    fn read(&mut self, bytes: &[u8], is_last: bool, out: &mut Output<'_>) -> Result<usize, FormatError> {
        let Self { form, base, .. } = self;
        let mut take = |record: Result<Record, Refusal>, line: u64, out: &mut Output<'_>| {
            out.tally.rows += 1;
            match record.and_then(|record| base.resolve(record, out.now)) {
                Ok(resolved) => resolved.emit(line, out.sink, out.tally),
                Err(refusal) => out.tally.refuse(line, refusal),
            }
        };
        let done = match form {
            Form::Json(elements) => {
                if let Some(other) = bytes.trim_ascii_start().first().filter(|byte| !self.is_array && **byte != b'[') {
                    let reason =
                        format!("a pack is an array of records, and this begins with `{}`: write [ ] around a single record", char::from(*other));
                    return Err(FormatError::Unreadable { format: "SenML", reason });
                }
                self.is_array |= !bytes.trim_ascii_start().is_empty();
                elements.read(bytes, is_last, |element| {
                    out.tally.at_element(element.index);
                    take(Record::of_json(element.text), element.line, out);
                })?
            }
            Form::Cbor if !is_last => 0,
            Form::Cbor => {
                for (number, record) in (1..).zip(cbor::records(bytes)?) {
                    take(record, number, out);
                }
                bytes.len()
            }
        };
        match &base.bad_version {
            Some(reason) => Err(FormatError::Unreadable { format: "SenML", reason: reason.clone() }),
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
    /// The unit as the pack names it.
    stated_unit: Option<String>,
    value: Option<Field>,
    sum: Option<f64>,
    has_update_time: bool,
}

impl Base {
    /// A pack has one version, which its first record states unless it is the usual one (RFC 8428, section 4.4).
    fn check_version(&mut self, stated: Option<f64>) {
        let is_first = !std::mem::replace(&mut self.has_begun, true);
        let Some(stated) = stated else { return };
        let known = if is_first { stated } else { self.version.unwrap_or(VERSION) };
        self.version = Some(known);
        if stated > VERSION {
            self.bad_version.get_or_insert(format!("its version (bver) is {stated}; versions up to {VERSION} can be read"));
        } else if stated != known {
            self.bad_version.get_or_insert(format!("its version (bver) changes from {known} to {stated}: all records of a pack have the same"));
        }
    }

    fn resolve(&mut self, record: Record, now: Nanos) -> Result<Resolved, Refusal> {
        self.check_version(record.base_version);
        let sets_base = record.sets_base();
        if let Some(name) = record.base_name {
            self.name = name;
        }
        self.time = record.base_time.unwrap_or(self.time);
        self.unit = record.base_unit.or(self.unit.take());
        self.value = record.base_value.or(self.value);
        self.sum = record.base_sum.or(self.sum);
        if let Some(field) = record.unknown {
            return Err(Refusal::of(Cause::Unreadable, &field, format!("`{field}` ends in `_`, so a reader must understand it, but it is unknown")));
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
        if is_base_only && !sets_base {
            return Err(Refusal::of(Cause::Value, "v", "the record is empty: it has neither a value (v, vs, vb or s) nor a base field"));
        }
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
        let stated_unit = record.unit.or_else(|| self.unit.clone());
        let unit = stated_unit.as_deref().map(units::of_senml);
        let (metric, device) = match name.rfind(['/', ':']) {
            Some(at) if at + 1 < name.len() => {
                let end = if name[at..].starts_with('/') { at + 1 } else { at };
                (name[at + 1..].to_owned(), Some(name[..end].to_owned()))
            }
            _ => (name, None),
        };
        Ok(Resolved {
            metric,
            device: device.filter(|device| !device.is_empty()),
            time,
            unit,
            stated_unit,
            value,
            sum,
            has_update_time: record.has_update_time,
        })
    }
}

/// A unit as a part of a name.
fn name_part(unit: &str) -> String {
    let letters: String = unit.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
    letters.trim_matches('_').to_owned()
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
    fn emit(self, line: u64, sink: &mut dyn PointSink, tally: &mut Tally) {
        let tags: Vec<(&str, &str)> = self.device.iter().map(|device| ("device", device.as_str())).collect();
        let unit = self.unit.as_deref();
        let mut put = |metric: &str, kind: Kind, value: ValueRef<'_>, tally: &mut Tally| {
            let about = About { kind: Some(kind), unit: unit.filter(|_| kind != Kind::State), ..About::default() };
            let mut described = sink.describe(metric, about);
            let by_unit;
            let mut metric = metric;
            if let Some(unit) = about.unit.filter(|_| described.is_unfit) {
                by_unit = format!("{metric}_{}", name_part(self.stated_unit.as_deref().unwrap_or(unit)));
                tally.note(format!("`{metric}` has values of several units: those in {unit} are kept as `{by_unit}`"));
                metric = &by_unit;
                described = sink.describe(metric, about);
            }
            if let Some(note) = described.note {
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
