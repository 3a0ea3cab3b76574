//! A plan as it travels: what a query would read and compute, without reading it.

use fenetre_core::{
    answer::ReadPart,
    model::Kind,
    plan::{Leaf, Moment, Plan, PlannedTime, Take},
    query::{Gaps, Reducer},
    time::format_in_zone,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::document::SourceDocument;

/// Plan of a query.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PlanDocument {
    /// The query in its canonical layout.
    pub query: String,
    /// IANA name of the zone of its calendar.
    pub zone: String,
    /// First instant of the range, or the moment.
    pub from: String,
    /// First instant after the range, or the instant itself.
    pub to: String,
    /// The windows or moments, as text.
    pub time: String,
    /// What is read; each only once, however often the query names it.
    pub reads: Vec<ReadDocument>,
    /// What would be read for which part of the time, as in an answer. Empty if only points could answer.
    pub sources: Vec<SourceDocument>,
    /// What is shown.
    pub shows: Vec<PlannedShowDocument>,
    /// Notes for the reader.
    pub notes: Vec<String>,
}

/// Something that is read.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ReadDocument {
    /// As the query says it.
    pub what: String,
    /// Series that match.
    pub series: u64,
    /// Lines of the result.
    pub lines: u64,
    /// How the blocks are read, as text.
    pub how: String,
    /// Approximate number of points, including unpacked ones; points that arrived twice count twice.
    #[schema(required)]
    pub points: Option<u64>,
    /// Bytes of their blocks; unpacked points have none.
    #[schema(required)]
    pub bytes: Option<u64>,
}

/// Something that is shown.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PlannedShowDocument {
    /// Its label, or its text.
    pub label: String,
    /// UCUM code of its unit.
    #[schema(required)]
    pub unit: Option<String>,
    /// Lines, before `top` or `keeping` drop any.
    pub lines: u64,
}

impl PlanDocument {
    /// The document of a plan; the caller adds the sizes of its reads. `parts` are what would answer for which part of time.
    pub fn of(plan: &Plan, query: String, parts: &[ReadPart]) -> Self {
        let local = |at| format_in_zone(at, &plan.zone);
        let (from, to, time) = match &plan.time {
            PlannedTime::Moments(moments) => {
                let within = moments.first().and_then(|moment| moment.within);
                let within = within.map_or("no further away than each metric's stale_after".to_owned(), |nanos| {
                    format!("no further away than {}", fenetre_core::time::Span::exact(nanos))
                });
                let count = if moments.len() == 1 { "one moment".to_owned() } else { format!("{} moments", moments.len()) };
                let taking = moments.first().map_or("natural", |moment| moment.taking.as_str());
                let at = |moment: Option<&Moment>| moment.map_or(plan.now, |moment| moment.at);
                (at(moments.first()), at(moments.last()), format!("{count}, taking {taking}, {within}"))
            }
            PlannedTime::Windows(windows, gaps) => {
                let count = windows.len();
                let partial = (0..count).filter(|at| windows.is_partial(*at, plan.now)).count();
                let width = match (windows.width(), windows.stepping()) {
                    (None, _) => "the whole range as one window".to_owned(),
                    (Some(width), None) => format!("{count} windows of {width}"),
                    (Some(width), Some(step)) => format!("{count} windows of {width}, one each {step}"),
                };
                let gaps = match gaps {
                    Gaps::Empty => "empty ones stay empty",
                    Gaps::Hold => "empty ones hold the last value",
                    Gaps::Line => "empty ones lie on the line between their neighbours",
                    Gaps::Number(_) => "empty ones hold a number",
                };
                let partial = if windows.width().is_some() { format!(", {partial} of them partial") } else { String::new() };
                (windows.range().start, windows.range().end, format!("{width}{partial}; {gaps}"))
            }
        };
        let show = |show: &fenetre_core::plan::ShowPlan| PlannedShowDocument {
            label: show.label.clone(),
            unit: show.unit.clone(),
            lines: show.lines.len() as u64,
        };
        Self {
            query,
            zone: plan.zone.iana_name().unwrap_or("UTC").to_owned(),
            from: local(from),
            to: local(to),
            time,
            reads: plan.leaves.iter().map(read).collect(),
            sources: parts.iter().map(|part| SourceDocument::of(part, &plan.zone)).collect(),
            shows: plan.shows.iter().map(show).collect(),
            notes: plan.notes.clone(),
        }
    }
}

fn read(leaf: &Leaf) -> ReadDocument {
    ReadDocument {
        what: leaf.text.clone(),
        series: leaf.lines.iter().map(|line| line.series.len() as u64).sum(),
        lines: leaf.lines.len() as u64,
        how: how(leaf),
        points: None,
        bytes: None,
    }
}

/// How a leaf is read, in words.
fn how(leaf: &Leaf) -> String {
    use Reducer::*;
    let reducer = match &leaf.take {
        Take::Points => return "every block of that time is decoded".to_owned(),
        Take::Moment => return "one look for each series and moment, at the points about it".to_owned(),
        Take::Reduced(reducer) => reducer,
    };
    let blocks = match reducer {
        _ if leaf.facts.kind == Kind::Histogram && matches!(reducer, Growth | Rate | Sum | Mean | Quantile(_)) => {
            "the counts of each bucket are read as series of their own"
        }
        Count | Sum | Mean | Min | Max | Spread | First | Last => "a block inside one window is answered by its summary, others are decoded",
        Growth | Rate | Delta | Changes if leaf.facts.stale_after.is_none() => {
            "a block inside one window is answered by its summary, others are decoded; each series looks at its point before the range"
        }
        Growth | Rate | Delta | Changes | SpotRate | Area(_) | TimeMean(_) | TimeIn(_) | ShareIn(_) | Coverage => {
            "every block is decoded, because neighbouring points count; each series also reads its point before the range"
        }
        Stddev | Variance | Distinct => "a block of one value inside one window is answered by its summary, others are decoded",
        Quantile(_) | Slope => "every block is decoded",
    };
    let tests = if leaf.tests.is_empty() { "" } else { "; a block whose values all pass, or none, is not looked into" };
    format!("{blocks}{tests}")
}
