//! Points in JSON: an object a point, or an object for one instant with several metrics.
//!
//! ```json
//! {"metric": "level", "tags": {"lock": "osier", "side": "up"}, "time": "2026-05-01T09:00:00Z", "value": 312.5}
//! {"tags": {"lock": "osier"}, "time": "2026-05-01T09:00:00Z", "values": {"flow": 4.125, "water_temp": 14.2, "gate": "open"}}
//! ```
//!
//! If `time` is omitted, the time of arrival is used. `unit` states the unit of the values, which are converted if the metric has another. A number is a value of a gauge or counter, a text one of a state. With a mapping,
//! objects may be of any other form: it says which of their keys are what.

use std::{borrow::Cow, fmt};

use fenetre_core::{
    model::{About, Cause, Histogram, PointRef, PointSink, Refusal, ValueRef},
    time::{Nanos, parse_rfc3339},
};
use serde::{
    Deserialize, Deserializer,
    de::{IgnoredAny, MapAccess, SeqAccess, Visitor},
};

pub(crate) use self::fault::without_place;
pub use self::objects::look;
use self::{
    elements::{Element, Elements},
    objects::Objects,
    plain::Lists,
};
use crate::{
    FormatError, Output, Reader, Tally,
    mapping::{Mapping, integer_value as integer},
};

pub mod elements;
mod fault;
mod objects;
mod plain;

/// Reads one object, or an array of objects.
pub struct Document {
    elements: Elements,
    objects: Option<Objects>,
}

impl Document {
    /// A reader of points, or of what the mapping says.
    pub fn new(mapping: Option<Mapping>) -> Self {
        Self { elements: Elements::default(), objects: mapping.map(Objects::new) }
    }
}

impl Reader for Document {
    fn read(&mut self, bytes: &[u8], is_last: bool, out: &mut Output<'_>) -> Result<usize, FormatError> {
        let mut failed = Ok(());
        let mut lists = Lists::default();
        let Self { elements, objects } = self;
        let done = elements.read(bytes, is_last, |element| {
            out.tally.at_element(element.index);
            match objects {
                Some(objects) if failed.is_ok() => failed = objects.read(element, out),
                Some(_) => {}
                None => read_point(element, out, &mut lists),
            }
        })?;
        out.tally.at_element(None);
        failed?;
        ended(self.objects.as_ref(), is_last, out.now, out.tally);
        Ok(done)
    }
}

/// Reads an object a line; blank lines are passed over.
pub struct Lines {
    line: u64,
    objects: Option<Objects>,
}

impl Lines {
    /// A reader of points, or of what the mapping says.
    pub fn new(mapping: Option<Mapping>) -> Self {
        Self { line: 1, objects: mapping.map(Objects::new) }
    }
}

impl Reader for Lines {
    fn read(&mut self, bytes: &[u8], is_last: bool, out: &mut Output<'_>) -> Result<usize, FormatError> {
        let whole = if is_last { bytes.len() } else { memchr::memrchr(b'\n', bytes).map_or(0, |end| end + 1) };
        let bytes = &bytes[..whole];
        let mut lists = Lists::default();
        let mut start = 0;
        for (line, end) in (self.line..).zip(memchr::memchr_iter(b'\n', bytes).chain([bytes.len()])) {
            match std::str::from_utf8(&bytes[start..end]) {
                Ok(text) if text.trim_ascii().is_empty() => {}
                Ok(text) => {
                    let element = Element { text, line, column: 0, index: None };
                    match &mut self.objects {
                        Some(objects) => objects.read(element, out)?,
                        None => read_point(element, out, &mut lists),
                    }
                }
                Err(_) => out.tally.reject(line, None, "the line is not UTF-8"),
            }
            start = (end + 1).min(bytes.len());
        }
        self.line += memchr::memchr_iter(b'\n', bytes).count() as u64;
        ended(self.objects.as_ref(), is_last, out.now, out.tally);
        Ok(whole)
    }
}

fn ended(objects: Option<&Objects>, is_last: bool, now: Nanos, tally: &mut Tally) {
    if let Some(objects) = objects.filter(|_| is_last) {
        objects.note_now(now, tally);
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawPoint<'a> {
    #[serde(borrow, default)]
    metric: Option<Scalar<'a>>,
    #[serde(borrow, default)]
    time: Option<Scalar<'a>>,
    #[serde(borrow, default)]
    tags: Entries<'a>,
    #[serde(borrow, default)]
    value: Option<Scalar<'a>>,
    #[serde(borrow, default)]
    values: Option<Entries<'a>>,
    #[serde(borrow, default)]
    unit: Option<Scalar<'a>>,
    /// Of a window or a moment, as answers have it: not a part of a point.
    #[serde(default)]
    end: Option<IgnoredAny>,
    #[serde(default)]
    moment: Option<IgnoredAny>,
    #[serde(default, rename = "partial")]
    _partial: IgnoredAny,
}

fn read_point<'b>(element: Element<'b>, out: &mut Output<'_>, lists: &mut Lists<'b>) {
    out.tally.rows += 1;
    let Some(plain) = plain::read(element.text, lists) else { return read_any(element, out) };
    let line = element.line;
    let time = match plain.time.map(parse_rfc3339) {
        None => out.now,
        Some(Ok(time)) => time,
        Some(Err(error)) => return out.tally.refuse(line, Refusal::of(Cause::Time, "time", error.to_string())),
    };
    let mut put = |metric: &str, value: ValueRef<'_>| {
        describe(metric, plain.unit, out.sink, out.tally);
        out.tally.count(|| line, out.sink.accept(PointRef { metric, tags: &lists.tags, time, value }));
    };
    if let Some((metric, value)) = plain.single {
        put(metric, value);
    }
    lists.values.iter().for_each(|(metric, value)| put(metric, *value));
}

/// Takes the unit that an object states of its values.
fn describe(metric: &str, unit: Option<&str>, sink: &mut dyn PointSink, tally: &mut Tally) {
    if let Some(note) = unit.and_then(|unit| sink.describe(metric, About { unit: Some(unit), ..About::default() }).note) {
        tally.note(note);
    }
}

fn read_any(element: Element<'_>, out: &mut Output<'_>) {
    let point: RawPoint<'_> = match serde_json::from_str(element.text) {
        Ok(point) => point,
        Err(error) => {
            let (line, column) = element.place_of(&error);
            return out.tally.reject(line, None, format!("{} (column {column})", without_place(&error)));
        }
    };
    let line = element.line;
    let (time, tags) = match (time_of(&point, out.now), tags_of(&point)) {
        (Ok(time), Ok(tags)) => (time, tags),
        (Err(refusal), _) | (_, Err(refusal)) => return out.tally.count(|| line, Err(refusal)),
    };
    let unit = match &point.unit {
        None | Some(Scalar::Null) => None,
        Some(Scalar::Text(unit)) => Some(&**unit),
        Some(other) => {
            let reason = format!("is {}: a unit is a UCUM code, such as \"cm\"", other.describe());
            return out.tally.refuse(line, Refusal::of(Cause::Unit, "unit", reason));
        }
    };
    let mut put = |metric: &str, value: &Scalar<'_>, field: &str| {
        describe(metric, unit, out.sink, out.tally);
        let taken = value_of(value, field).and_then(|value| out.sink.accept(PointRef { metric, tags: &tags, time, value }));
        out.tally.count(|| line, taken);
    };
    match (&point.metric, &point.value, &point.values) {
        // An answer's window or moment without a value is no fault.
        (Some(Scalar::Text(_)), None | Some(Scalar::Null), None) if point.end.is_some() || point.moment.is_some() => out.tally.empty_cells += 1,
        (Some(Scalar::Text(metric)), Some(value), None) => put(metric, value, "value"),
        (None, None, Some(values)) if !values.0.is_empty() => {
            for (metric, value) in &values.0 {
                put(metric, value, &format!("values.{metric}"));
            }
        }
        _ => out.tally.count(|| line, Err(misshapen(&point))),
    }
}

fn misshapen(point: &RawPoint<'_>) -> Refusal {
    match (&point.metric, &point.value, &point.values) {
        (_, _, Some(values)) if values.0.is_empty() => {
            Refusal::of(Cause::Unreadable, "values", "is empty: it needs a metric and its value, such as {\"level\": 312.5}")
        }
        (Some(_), _, Some(_)) => Refusal::of(Cause::Unreadable, "values", "does not take `metric`: it names its metrics itself"),
        (None, Some(_), Some(_)) => Refusal::of(Cause::Unreadable, "values", "does not take `value`: use one of the two"),
        (Some(Scalar::Text(_)), None, None) => Refusal::of(Cause::Value, "value", "is missing or null"),
        (Some(other), _, _) => Refusal::of(Cause::Unreadable, "metric", format!("is {}: write the metric's name as a text", other.describe())),
        (None, _, _) => Refusal::of(
            Cause::Unreadable,
            "metric",
            "is missing: write {\"metric\": \"level\", \"value\": 312.5} or {\"values\": {\"level\": 312.5}}",
        ),
    }
}

fn time_of(point: &RawPoint<'_>, now: Nanos) -> Result<Nanos, Refusal> {
    match &point.time {
        None => Ok(now),
        Some(Scalar::Text(text)) => parse_rfc3339(text).map_err(|error| Refusal::of(Cause::Time, "time", error.to_string())),
        Some(other) => Err(Refusal::of(
            Cause::Time,
            "time",
            format!("is {}: write RFC 3339, such as \"2026-05-01T09:00:00Z\", or leave it out", other.describe()),
        )),
    }
}

fn tags_of<'p>(point: &'p RawPoint<'_>) -> Result<Vec<(&'p str, &'p str)>, Refusal> {
    let tag = |(key, value): &'p (Cow<'_, str>, Scalar<'_>)| match value {
        Scalar::Text(text) => Ok((&**key, &**text)),
        other => Err(Refusal::of(Cause::Tag, format!("tags.{key}"), format!("is {}: a tag's value is a text", other.describe()))),
    };
    point.tags.0.iter().map(tag).collect()
}

fn value_of<'p>(value: &'p Scalar<'_>, field: &str) -> Result<ValueRef<'p>, Refusal> {
    match value {
        Scalar::Number(number) => Ok(*number),
        Scalar::Histogram(histogram) => Ok(ValueRef::Histogram(histogram)),
        Scalar::Text(text) => Ok(ValueRef::Word(text)),
        Scalar::Bool(truth) => Ok(ValueRef::Word(if *truth { "true" } else { "false" })),
        other => Err(Refusal::of(
            Cause::Value,
            field,
            format!("is {}: a value is a number, a text for a state, or an object with bounds, counts and sum for a histogram", other.describe()),
        )),
    }
}

/// Any JSON value, of which only simple ones matter.
enum Scalar<'a> {
    Number(ValueRef<'a>),
    Histogram(Box<Histogram>),
    Text(Cow<'a, str>),
    Bool(bool),
    Null,
    Compound,
}

impl Scalar<'_> {
    fn describe(&self) -> &'static str {
        match self {
            Self::Number(_) => "a number",
            Self::Histogram(_) => "a histogram",
            Self::Text(_) => "a text",
            Self::Bool(_) => "true or false",
            Self::Null => "null",
            Self::Compound => "a list or an object",
        }
    }
}

impl<'de: 'a, 'a> Deserialize<'de> for Scalar<'a> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(ScalarVisitor)
    }
}

struct ScalarVisitor;

impl<'de> Visitor<'de> for ScalarVisitor {
    type Value = Scalar<'de>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a value")
    }

    fn visit_f64<E>(self, number: f64) -> Result<Self::Value, E> {
        Ok(Scalar::Number(ValueRef::Number(number)))
    }

    fn visit_i64<E>(self, number: i64) -> Result<Self::Value, E> {
        Ok(Scalar::Number(integer(number.into())))
    }

    fn visit_u64<E>(self, number: u64) -> Result<Self::Value, E> {
        Ok(Scalar::Number(integer(number.into())))
    }

    fn visit_bool<E>(self, truth: bool) -> Result<Self::Value, E> {
        Ok(Scalar::Bool(truth))
    }

    fn visit_unit<E>(self) -> Result<Self::Value, E> {
        Ok(Scalar::Null)
    }

    fn visit_borrowed_str<E>(self, text: &'de str) -> Result<Self::Value, E> {
        Ok(Scalar::Text(Cow::Borrowed(text)))
    }

    fn visit_str<E>(self, text: &str) -> Result<Self::Value, E> {
        Ok(Scalar::Text(Cow::Owned(text.to_owned())))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Self::Value, A::Error> {
        while seq.next_element::<IgnoredAny>()?.is_some() {}
        Ok(Scalar::Compound)
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
        let mut parts = (None, None, None);
        let mut is_histogram = true;
        while let Some(Scalar::Text(key)) = map.next_key()? {
            match &*key {
                "bounds" => parts.0 = Some(map.next_value()?),
                "counts" => parts.1 = Some(map.next_value()?),
                "sum" => parts.2 = Some(map.next_value()?),
                _ => {
                    is_histogram = false;
                    map.next_value::<IgnoredAny>()?;
                }
            }
        }
        Ok(match parts {
            (Some(bounds), Some(counts), Some(sum)) if is_histogram => Scalar::Histogram(Box::new(Histogram { bounds, counts, sum })),
            _ => Scalar::Compound,
        })
    }
}

/// An object's fields in the order in which they came.
#[derive(Default)]
struct Entries<'a>(Vec<(Cow<'a, str>, Scalar<'a>)>);

impl<'de: 'a, 'a> Deserialize<'de> for Entries<'a> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct EntriesVisitor;
        impl<'de> Visitor<'de> for EntriesVisitor {
            type Value = Entries<'de>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
                let mut entries = Vec::with_capacity(map.size_hint().unwrap_or(4));
                while let Some((Scalar::Text(key), value)) = map.next_entry()? {
                    entries.push((key, value));
                }
                Ok(Entries(entries))
            }
        }
        deserializer.deserialize_map(EntriesVisitor)
    }
}
