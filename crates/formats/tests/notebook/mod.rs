//! A sink that writes down what it is given, for snapshots.

#![allow(dead_code, reason = "every test file uses a part of this")]

use std::fmt::Write as _;

use fenetre_core::{
    model::{About, Cause, Described, PointRef, PointSink, Refusal, ValueRef},
    time::{Nanos, SECOND, format_utc},
};
use fenetre_formats::{Format, FormatError, Output, Tally, mapping::Mapping, read};

pub const NOW: Nanos = 1_790_000_000 * SECOND;

/// Writes down what it is given; refuses what the store would.
#[derive(Default)]
pub struct Notebook(pub String);

impl Notebook {
    pub fn points(&self) -> usize {
        self.0.lines().filter(|line| !line.starts_with("  about")).count()
    }
}

impl PointSink for Notebook {
    fn accept(&mut self, point: PointRef<'_>) -> Result<(), Refusal> {
        if matches!(point.value, ValueRef::Number(number) if !number.is_finite()) {
            return Err(Refusal::of(Cause::NotFinite, point.metric, "is not finite"));
        }
        let _ = writeln!(self.0, "  {} {} {:?} {:?}", format_utc(point.time), point.metric, point.tags, point.value);
        Ok(())
    }

    fn describe(&mut self, metric: &str, about: About<'_>) -> Described {
        let line = format!("  about {metric}: {:?} {:?} {:?} {:?}", about.kind, about.unit, about.description, about.temporality);
        if !self.0.contains(&line) {
            let _ = writeln!(self.0, "{line}");
        }
        Described::default()
    }
}

pub fn rendered(format: Format, body: &[u8]) -> String {
    rendered_with(format, None, body)
}

pub fn rendered_with(format: Format, mapping: Option<Mapping>, body: &[u8]) -> String {
    let mut notebook = Notebook::default();
    let read = read(format, mapping, body, NOW, &mut notebook);
    format!("> {}\n{}", String::from_utf8_lossy(body).trim_end().replace('\n', "\n> "), outcome(&notebook, read))
}

pub fn outcome(notebook: &Notebook, read: Result<Tally, FormatError>) -> String {
    match read {
        Err(error) => format!("  error: {error}\n"),
        Ok(tally) => {
            let mut out = notebook.0.clone();
            let _ = writeln!(out, "  accepted {}, rejected {}, empty {}", tally.accepted, tally.rejected, tally.empty_cells);
            for reject in tally.rejects {
                let _ = writeln!(out, "  line {}, {}: {}", reject.line, reject.field.as_deref().unwrap_or("-"), reject.reason);
            }
            for note in tally.notes {
                let _ = writeln!(out, "  note: {note}");
            }
            out
        }
    }
}

/// What is read of a body that comes in parts, each beginning with what was left of those before it.
pub fn in_parts(format: Format, mapping: Option<Mapping>, body: &[u8], cuts: &[proptest::sample::Index]) -> String {
    let mut ends: Vec<usize> = cuts.iter().map(|cut| cut.index(body.len() + 1)).chain([body.len()]).collect();
    ends.sort_unstable();
    let (mut reader, mut notebook, mut tally, mut at) = (format.reader(mapping).unwrap(), Notebook::default(), Tally::default(), 0);
    let last = ends.len() - 1;
    for (i, end) in ends.into_iter().enumerate() {
        match reader.read(&body[at..end], i == last, &mut Output { now: NOW, sink: &mut notebook, tally: &mut tally }) {
            Ok(done) => at += done,
            Err(error) => return outcome(&notebook, Err(error)),
        }
    }
    outcome(&notebook, Ok(tally))
}
