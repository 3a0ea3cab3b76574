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
//! Help and unit become description and unit of the metric. Exemplars and `_created` lines are ignored, with a note. The lines of a family need not
//! follow each other. A histogram or stateset of which one line cannot be read is rejected as a whole.

mod group;
mod line;

use std::{
    collections::{HashMap, HashSet, hash_map::RandomState},
    hash::BuildHasher,
};

use fenetre_core::{
    model::{About, Cause, Kind, PointRef, PointSink, Refusal, Temporality, ValueRef},
    time::{EpochUnit, Nanos, TimeFormat, TimeRule, from_epoch},
};

use self::{
    group::{Groups, LineOf, Part},
    line::{Line, Sample, parse},
};
use crate::{FormatError, Output, Reader, Tally, units};

/// Reads an exposition, line by line.
#[derive(Default)]
pub struct Exposition {
    /// Families with metadata, by name.
    families: HashMap<String, Family>,
    groups: Groups,
    /// Samples that came, as hashes of their names, labels and times.
    seen: HashSet<u64>,
    hashing: RandomState,
    line: u64,
    has_ended: bool,
}

/// Samples of which it is known that they came: of more than these, the oldest are forgotten together.
const MAX_SEEN: usize = 1_000_000;

/// What the lines so far say of a metric.
#[derive(Clone, Debug, Default)]
struct Family {
    sort: MetricType,
    unit: Option<String>,
    help: Option<String>,
    is_described: bool,
}

/// The types of the standard.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum MetricType {
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

impl MetricType {
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

    /// Whether several lines make one point.
    fn is_grouped(self) -> bool {
        matches!(self, Self::Histogram | Self::GaugeHistogram | Self::StateSet)
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
    fn read(&mut self, bytes: &[u8], is_last: bool, out: &mut Output<'_>) -> Result<usize, FormatError> {
        let whole = if is_last { bytes.len() } else { memchr::memrchr(b'\n', bytes).map_or(0, |end| end + 1) };
        let mut rest = &bytes[..whole];
        while !rest.is_empty() {
            let end = memchr::memchr(b'\n', rest).unwrap_or(rest.len());
            let text = rest[..end].strip_suffix(b"\r").unwrap_or(&rest[..end]);
            rest = &rest[(end + 1).min(rest.len())..];
            self.line += 1;
            self.read_line(text, out)?;
        }
        if is_last {
            self.groups.emit_all(out);
            if !self.has_ended {
                let reason = format!("it does not end with `# EOF`, so it may be cut after line {}", self.line);
                return Err(FormatError::Unreadable { format: "OpenMetrics", reason });
            }
        }
        Ok(whole)
    }
}

impl Exposition {
    fn read_line(&mut self, text: &[u8], out: &mut Output<'_>) -> Result<(), FormatError> {
        let line = self.line;
        if self.has_ended {
            let reason = format!("line {line} follows `# EOF`, after which nothing may come");
            return Err(FormatError::Unreadable { format: "OpenMetrics", reason });
        }
        let Ok(text) = std::str::from_utf8(text) else {
            out.tally.reject(line, None, "the line is not UTF-8");
            return Ok(());
        };
        match parse(text) {
            Ok(Line::End) => self.has_ended = true,
            Ok(Line::Type(name, sort)) => match MetricType::of_name(sort) {
                Some(sort) => self.family(name).sort = sort,
                None => out.tally.reject(
                    line,
                    None,
                    format!("unknown OpenMetrics type `{sort}`: use counter, gauge, histogram, gaugehistogram, info, stateset, summary or unknown"),
                ),
            },
            Ok(Line::Unit(name, unit)) => self.family(name).unit = (!unit.is_empty()).then(|| units::of_word(unit)),
            Ok(Line::Help(name, help)) => self.family(name).help = Some(help),
            Ok(Line::Comment) => {
                out.tally.note("comments other than HELP, TYPE and UNIT are not part of OpenMetrics 1.0 and were ignored".to_owned())
            }
            Ok(Line::Sample(sample)) => {
                out.tally.rows += 1;
                self.sample(&sample, out);
            }
            Err(reason) => {
                out.tally.rows += 1;
                // Which of the family's points the line is a part of is not known.
                if let Some((family, _)) = self.family_of(line::name_of(text)).filter(|(family, _)| self.families[family].sort.is_grouped()) {
                    self.groups.spoil_family(&family, line);
                }
                out.tally.reject(line, None, reason);
            }
        }
        Ok(())
    }

    fn family(&mut self, name: &str) -> &mut Family {
        self.families.entry(name.to_owned()).or_default()
    }

    /// The family that a sample's name is of, and what follows the family's name in it; nothing if no family of that name was declared.
    fn family_of<'n>(&self, name: &'n str) -> Option<(String, &'n str)> {
        let fits = |family: &str, suffix: &str| self.families.get(family).is_some_and(|known| known.sort.suffixes().contains(&suffix));
        let ends = SUFFIXES.iter().filter_map(|suffix| Some((name.strip_suffix(suffix)?, &name[name.len() - suffix.len()..])));
        ends.chain([(name, "")]).find(|(family, suffix)| fits(family, suffix)).map(|(family, suffix)| (family.to_owned(), suffix))
    }

    fn sample(&mut self, sample: &Sample<'_>, out: &mut Output<'_>) {
        if sample.has_exemplar {
            out.tally.note("exemplars are not kept".to_owned());
        }
        let (name, suffix) = match self.family_of(sample.name) {
            Some(found) => found,
            None => {
                if let Some(family) = self.families.get(sample.name) {
                    let wanted = family.sort.suffixes().join(", ");
                    return out.tally.reject(
                        self.line,
                        None,
                        format!("a sample of `{}` ends its name with one of {wanted}, by its type", sample.name),
                    );
                }
                // A metric without metadata is of unknown type.
                (sample.name.to_owned(), "")
            }
        };
        if suffix == "_created" {
            return out.tally.note("`_created` lines are not kept".to_owned());
        }
        let time = match sample.timestamp.map_or(Ok(out.now), instant) {
            Ok(time) => time,
            Err(refusal) => {
                self.groups.spoil_family(&name, self.line);
                return out.tally.refuse(self.line, refusal);
            }
        };
        // A label with an empty value is the same as none.
        let mut labels: Vec<(&str, &str)> =
            sample.labels.iter().map(|(key, value)| (*key, &**value)).filter(|(_, value)| !value.is_empty()).collect();
        labels.sort_unstable();
        let of = LineOf { family: &name, own: own_label(&name, suffix), labels: &labels, time, line: self.line };
        if !self.is_new(sample.name, &labels, time) {
            if self.families.get(&name).is_some_and(|family| family.sort.is_grouped()) {
                self.groups.spoil(of);
            }
            return out.tally.reject(self.line, None, format!("`{}` came with these labels and this time before", sample.name));
        }
        self.describe(&name, out.sink, out.tally);
        let sort = self.families.get(&name).map(|family| family.sort).unwrap_or_default();
        let put = |metric: &str, out: &mut Output<'_>| {
            let point = PointRef { metric, tags: &labels, time, value: ValueRef::Number(sample.value) };
            out.tally.count(|| self.line, out.sink.accept(point));
        };
        let part = match sort {
            MetricType::Unknown | MetricType::Gauge | MetricType::Counter => return put(&name, out),
            MetricType::Info => return put(sample.name, out),
            MetricType::Summary if suffix.is_empty() => return put(&name, out),
            MetricType::Summary => return put(sample.name, out),
            MetricType::Histogram | MetricType::GaugeHistogram => Part::of_histogram(suffix, sample),
            MetricType::StateSet => Part::of_state(&name, sample),
        };
        match part {
            Ok(part) => self.groups.add(of, part, out),
            Err(refusal) => {
                self.groups.spoil(of);
                out.tally.refuse(self.line, refusal);
            }
        }
    }

    /// Whether a sample did not come before.
    fn is_new(&mut self, name: &str, labels: &[(&str, &str)], time: Nanos) -> bool {
        if self.seen.len() >= MAX_SEEN {
            self.seen.clear();
        }
        self.seen.insert(self.hashing.hash_one((name, labels, time)))
    }

    /// Passes on the metadata of the family, once.
    fn describe(&mut self, name: &str, sink: &mut dyn PointSink, tally: &mut Tally) {
        let Some(family) = self.families.get_mut(name).filter(|family| !family.is_described) else { return };
        family.is_described = true;
        let (unit, description) = (family.unit.as_deref(), family.help.as_deref());
        let mut emit = |metric: &str, kind: Option<Kind>, unit: Option<&str>, temporality: Option<Temporality>| {
            if let Some(note) = sink.describe(metric, About { kind, unit, description, temporality }).note {
                tally.note(note);
            }
        };
        match family.sort {
            MetricType::Unknown if unit.is_none() && description.is_none() => {}
            MetricType::Unknown => emit(name, None, unit, None),
            MetricType::Gauge => emit(name, Some(Kind::Gauge), unit, None),
            MetricType::Counter => emit(name, Some(Kind::Counter), unit, Some(Temporality::Cumulative)),
            MetricType::Histogram => emit(name, Some(Kind::Histogram), unit, Some(Temporality::Cumulative)),
            MetricType::GaugeHistogram => emit(name, Some(Kind::Histogram), unit, Some(Temporality::Delta)),
            MetricType::StateSet => emit(name, Some(Kind::State), None, None),
            MetricType::Info => emit(&format!("{name}_info"), Some(Kind::Gauge), None, None),
            MetricType::Summary => {
                emit(name, Some(Kind::Gauge), unit, None);
                emit(&format!("{name}_sum"), Some(Kind::Counter), unit, Some(Temporality::Cumulative));
                emit(&format!("{name}_count"), Some(Kind::Counter), None, Some(Temporality::Cumulative));
            }
        }
    }
}

/// What may follow a family's name in a sample's, the longest first.
const SUFFIXES: [&str; 8] = ["_created", "_gcount", "_bucket", "_total", "_count", "_gsum", "_info", "_sum"];

/// The label that tells the parts of one point apart.
fn own_label<'n>(family: &'n str, suffix: &str) -> &'n str {
    if suffix == "_bucket" { "le" } else { family }
}

/// Seconds since 1970, with all nine decimals that an instant holds.
fn instant(text: &str) -> Result<Nanos, Refusal> {
    let rule = TimeRule { format: TimeFormat::Epoch(EpochUnit::Seconds), ..TimeRule::default() };
    let by_float = || from_epoch(text.parse().ok()?, EpochUnit::Seconds).ok();
    let read = rule.read(text).ok().map(|(at, _)| at).or_else(by_float);
    let reason = || format!("`{text}` is not a number of seconds since 1970, between the years 1677 and 2262");
    read.ok_or_else(|| Refusal::of(Cause::Time, "timestamp", reason()))
}
