//! OpenMetrics 1.0 text.
//!
//! | type | becomes |
//! |---|---|
//! | `gauge`, `unknown` | a gauge |
//! | `counter` | a counter, called like the family, without `_total` |
//! | `histogram`, `gaugehistogram` | a histogram: its buckets, sum and count are one point |
//! | `summary` | a gauge with the tag `quantile`, and counters with `_sum` and `_count` |
//! | `stateset` | a state, whose word is the state that is on; `none`, or several joined by `+` |
//! | `info` | a gauge of 1, called like the family with `_info` |
//!
//! Help and unit become description and unit of the metric. Exemplars and `_created` lines are passed over, with a note.

mod group;
mod line;

use fenetre_core::{
    model::{About, Cause, Kind, PointRef, PointSink, Refusal, Temporality, ValueRef},
    time::{EpochUnit, Nanos, from_epoch},
};

use self::{
    group::{Group, Part},
    line::{Line, Sample, parse},
};
use crate::{FormatError, Reader, Tally, units};

/// Reads an exposition, line by line.
#[derive(Default)]
pub struct Exposition {
    family: Family,
    group: Option<Group>,
    line: u64,
    has_ended: bool,
}

/// What the lines so far say of the metric that they are about.
#[derive(Clone, Debug, Default)]
struct Family {
    name: String,
    sort: Sort,
    unit: Option<String>,
    help: Option<String>,
    is_told: bool,
}

/// The types of the standard.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum Sort {
    #[default]
    Unknown,
    Gauge,
    Counter,
    Histogram,
    GaugeHistogram,
    Summary,
    StateSet,
    Info,
}

impl Sort {
    fn of_name(name: &str) -> Option<Self> {
        Some(match name {
            "unknown" => Self::Unknown,
            "gauge" => Self::Gauge,
            "counter" => Self::Counter,
            "histogram" => Self::Histogram,
            "gaugehistogram" => Self::GaugeHistogram,
            "summary" => Self::Summary,
            "stateset" => Self::StateSet,
            "info" => Self::Info,
            _ => return None,
        })
    }

    /// What may follow the family's name in a sample's.
    fn suffixes(self) -> &'static [&'static str] {
        match self {
            Self::Unknown | Self::Gauge | Self::StateSet => &[""],
            Self::Counter => &["_total", "_created"],
            Self::Histogram => &["_bucket", "_count", "_sum", "_created"],
            Self::GaugeHistogram => &["_bucket", "_gcount", "_gsum"],
            Self::Summary => &["", "_count", "_sum", "_created"],
            Self::Info => &["_info"],
        }
    }
}

impl Reader for Exposition {
    fn read(&mut self, bytes: &[u8], is_last: bool, now: Nanos, sink: &mut dyn PointSink, tally: &mut Tally) -> Result<usize, FormatError> {
        let whole = if is_last { bytes.len() } else { memchr::memrchr(b'\n', bytes).map_or(0, |end| end + 1) };
        let mut rest = &bytes[..whole];
        while !rest.is_empty() {
            let end = memchr::memchr(b'\n', rest).unwrap_or(rest.len());
            let text = rest[..end].strip_suffix(b"\r").unwrap_or(&rest[..end]);
            rest = &rest[(end + 1).min(rest.len())..];
            self.line += 1;
            self.read_line(text, now, sink, tally)?;
        }
        if is_last {
            self.close(sink, tally);
            if !self.has_ended {
                let reason = format!("it does not end with `# EOF`, so it may be cut after line {}", self.line);
                return Err(FormatError::Unreadable { format: "OpenMetrics", reason });
            }
        }
        Ok(whole)
    }
}

impl Exposition {
    fn read_line(&mut self, text: &[u8], now: Nanos, sink: &mut dyn PointSink, tally: &mut Tally) -> Result<(), FormatError> {
        let line = self.line;
        if self.has_ended {
            let reason = format!("line {line} follows `# EOF`, after which nothing may come");
            return Err(FormatError::Unreadable { format: "OpenMetrics", reason });
        }
        let Ok(text) = std::str::from_utf8(text) else {
            tally.reject(line, None, "the line is not UTF-8");
            return Ok(());
        };
        match parse(text) {
            Ok(Line::End) => self.has_ended = true,
            Ok(Line::Type(name, sort)) => match Sort::of_name(sort) {
                Some(sort) => self.family(name, sink, tally).sort = sort,
                None => tally.reject(
                    line,
                    None,
                    format!(
                        "`{sort}` is no type of OpenMetrics: there are counter, gauge, histogram, gaugehistogram, info, stateset, summary and unknown"
                    ),
                ),
            },
            Ok(Line::Unit(name, unit)) => self.family(name, sink, tally).unit = (!unit.is_empty()).then(|| units::of_word(unit)),
            Ok(Line::Help(name, help)) => self.family(name, sink, tally).help = Some(help),
            Ok(Line::Comment) => tally.note("comments that are not HELP, TYPE or UNIT are not of OpenMetrics 1.0, and were passed over".to_owned()),
            Ok(Line::Sample(sample)) => {
                tally.rows += 1;
                self.sample(&sample, now, sink, tally);
            }
            Err(reason) => tally.reject(line, None, reason),
        }
        Ok(())
    }

    /// The family of that name; what was gathered of another one is given first.
    fn family(&mut self, name: &str, sink: &mut dyn PointSink, tally: &mut Tally) -> &mut Family {
        if self.family.name != name {
            self.close(sink, tally);
            self.family = Family { name: name.to_owned(), ..Family::default() };
        }
        &mut self.family
    }

    fn close(&mut self, sink: &mut dyn PointSink, tally: &mut Tally) {
        let Some(group) = self.group.take() else { return };
        let tags: Vec<(&str, &str)> = group.tags.iter().map(|(key, value)| (key.as_str(), value.as_str())).collect();
        match group.value() {
            Ok(value) => {
                let point = PointRef { metric: &self.family.name, tags: &tags, time: group.time, value: value.as_ref() };
                tally.count(|| group.line, sink.accept(point));
            }
            Err(refusal) => tally.refuse(group.line, refusal),
        }
        if group.lacks_sum() {
            tally.note(format!("the histogram `{}` has no `_sum`: it is kept as zero", self.family.name));
        }
    }

    fn sample(&mut self, sample: &Sample<'_>, now: Nanos, sink: &mut dyn PointSink, tally: &mut Tally) {
        if sample.has_exemplar {
            tally.note("exemplars are not kept".to_owned());
        }
        let family = &self.family;
        let suffix =
            sample.name.strip_prefix(family.name.as_str()).filter(|suffix| family.sort.suffixes().contains(suffix) && !family.name.is_empty());
        let suffix = match suffix {
            Some(suffix) => suffix,
            None => {
                // A metric that nothing was said of is of unknown type.
                let name = sample.name.to_owned();
                if name == self.family.name {
                    let wanted = self.family.sort.suffixes().join(", ");
                    return tally.reject(self.line, None, format!("a sample of `{name}` ends its name with one of {wanted}, by its type"));
                }
                self.family(&name, sink, tally);
                ""
            }
        };
        if suffix == "_created" {
            return tally.note("`_created` lines are not kept".to_owned());
        }
        let time = match sample.timestamp {
            None => now,
            Some(text) => match text.parse::<f64>().map_err(|_| ()).and_then(|seconds| from_epoch(seconds, EpochUnit::Seconds).map_err(|_| ())) {
                Ok(time) => time,
                Err(()) => {
                    return tally.refuse(
                        self.line,
                        Refusal::of(Cause::Time, "timestamp", format!("`{text}` is no number of seconds since 1970 in the years 1677 to 2262")),
                    );
                }
            },
        };
        self.describe(sink, tally);
        let plain: Vec<(&str, &str)> = sample.labels.iter().map(|(key, value)| (*key, &**value)).collect();
        let name = self.family.name.as_str();
        let mut put = |metric: &str, tags: &[(&str, &str)], tally: &mut Tally| {
            let point = PointRef { metric, tags, time, value: ValueRef::Number(sample.value) };
            tally.count(|| self.line, sink.accept(point));
        };
        match self.family.sort {
            Sort::Unknown | Sort::Gauge | Sort::Counter => put(name, &plain, tally),
            Sort::Info => put(sample.name, &plain, tally),
            Sort::Summary if suffix.is_empty() => put(name, &plain, tally),
            Sort::Summary => put(sample.name, &plain, tally),
            Sort::Histogram | Sort::GaugeHistogram => match Part::of_histogram(suffix, sample) {
                Ok(part) => self.gather(part, "le", sample, time, sink, tally),
                Err(refusal) => tally.refuse(self.line, refusal),
            },
            Sort::StateSet => {
                let key = self.family.name.clone();
                match sample.label(&key) {
                    Some(state) => self.gather(Part::State(state.to_owned(), sample.value != 0.0), &key, sample, time, sink, tally),
                    None => tally.reject(
                        self.line,
                        Some(key.clone()),
                        format!("a sample of the stateset `{key}` has a label `{key}` with the state's name"),
                    ),
                }
            }
        }
    }

    /// Adds a sample to the point that it is a part of, which the label `own` tells apart from its other parts.
    fn gather(&mut self, part: Part, own: &str, sample: &Sample<'_>, time: Nanos, sink: &mut dyn PointSink, tally: &mut Tally) {
        let tags: Vec<(String, String)> =
            sample.labels.iter().filter(|(key, _)| *key != own).map(|(key, value)| ((*key).to_owned(), value.to_string())).collect();
        if self.group.as_ref().is_some_and(|group| group.tags != tags || group.time != time) {
            self.close(sink, tally);
        }
        let line = self.line;
        self.group.get_or_insert_with(|| Group::new(tags, time, line)).parts.push(part);
    }

    /// Tells what the lines said of the family, once.
    fn describe(&mut self, sink: &mut dyn PointSink, tally: &mut Tally) {
        let family = &mut self.family;
        if std::mem::replace(&mut family.is_told, true) {
            return;
        }
        let (name, description) = (family.name.clone(), family.help.as_deref());
        let unit = family.unit.as_deref();
        let mut tell = |metric: &str, kind: Option<Kind>, unit: Option<&str>, temporality: Option<Temporality>| {
            if let Some(note) = sink.describe(metric, About { kind, unit, description, temporality }) {
                tally.note(note);
            }
        };
        match family.sort {
            Sort::Unknown if unit.is_none() && description.is_none() => {}
            Sort::Unknown => tell(&name, None, unit, None),
            Sort::Gauge => tell(&name, Some(Kind::Gauge), unit, None),
            Sort::Counter => tell(&name, Some(Kind::Counter), unit, Some(Temporality::Cumulative)),
            Sort::Histogram => tell(&name, Some(Kind::Histogram), unit, Some(Temporality::Cumulative)),
            Sort::GaugeHistogram => tell(&name, Some(Kind::Histogram), unit, Some(Temporality::Delta)),
            Sort::StateSet => tell(&name, Some(Kind::State), None, None),
            Sort::Info => tell(&format!("{name}_info"), Some(Kind::Gauge), None, None),
            Sort::Summary => {
                tell(&name, Some(Kind::Gauge), unit, None);
                tell(&format!("{name}_sum"), Some(Kind::Counter), unit, Some(Temporality::Cumulative));
                tell(&format!("{name}_count"), Some(Kind::Counter), None, Some(Temporality::Cumulative));
            }
        }
    }
}
