//! An answer as it travels: JSON with times as RFC 3339, the windows once, then lines.

use std::collections::BTreeMap;

use fenetre_core::{
    answer::{Answer, AnswerTime, Lines, PointLine, ReadPart, ReadSource, ShowAnswer, WindowLine},
    model::{LineTags, Value},
    schema::PointValue,
    time::{Nanos, format_in_zone},
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The answer to a query.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AnswerDocument {
    /// Time of the query.
    pub asked_at: String,
    /// IANA name of the zone of its calendar and times.
    pub zone: String,
    /// First instant of the range; the first moment, if the query asks at moments.
    pub from: String,
    /// First instant after the range; the last moment, if the query asks at moments.
    pub to: String,
    /// The moments that the query asks at, in order.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub moments: Vec<String>,
    /// The windows that every reduction shares.
    pub windows: WindowsDocument,
    /// One for each `show`.
    pub shows: Vec<ShowDocument>,
    /// Notes for the reader.
    pub notes: Vec<String>,
    /// What was read for which part of the time: points or a rollup level. Empty if only points could answer.
    #[serde(default)]
    #[schema(required)]
    pub sources: Vec<SourceDocument>,
    /// What the answer cost.
    pub cost: CostDocument,
}

/// Windows, in order; none if the query has moments.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct WindowsDocument {
    /// Their width, such as `15m`; none if the whole range is one window.
    #[schema(required)]
    pub width: Option<String>,
    /// Distance between the starts of overlapping windows.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub stepping: Option<String>,
    /// First instants.
    pub starts: Vec<String>,
    /// First instants after.
    pub ends: Vec<String>,
    /// Indices of windows that the range cuts, or that are not over yet.
    pub partial: Vec<usize>,
}

/// The answer to one `show`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ShowDocument {
    /// Its label, or its text.
    pub label: String,
    /// UCUM code of its unit; for points of several metrics, the common one.
    #[schema(required)]
    pub unit: Option<String>,
    /// `windows`: one value per window. `moment`: one value per moment, with its own time. `points`: values with their times.
    pub form: Form,
    /// In order of their tags, or of their rank.
    pub lines: Vec<LineDocument>,
}

/// What the values of a line belong to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Form {
    /// The windows.
    Windows,
    /// The moments.
    Moment,
    /// Times of their own.
    Points,
}

/// One line.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LineDocument {
    /// Its tags.
    pub tags: BTreeMap<String, String>,
    /// Metric of points.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub metric: Option<String>,
    /// UCUM code of its unit, if those of the lines differ.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub unit: Option<String>,
    /// Times of points. For moments, the time of each value, null if none was found. Omitted for windows, and for values computed from several
    /// points.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub times: Option<Vec<Option<String>>>,
    /// Indices of empty windows that `gaps` filled.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub filled: Vec<usize>,
    /// Indices of the windows that are not complete: a part of their time, or a neighbour of their points, is no longer kept. For moments, those
    /// whose values are no longer kept.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub partial: Vec<usize>,
    /// Numbers or words; null for an empty window, or if a moment has no value.
    #[schema(value_type = Vec<Option<PointValue>>)]
    pub values: Vec<Option<Value>>,
}

/// Cost of an answer.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CostDocument {
    /// Series that matched.
    pub series: u64,
    /// Blocks of these series outside the time range, in the files that were opened.
    #[serde(default)]
    #[schema(required)]
    pub blocks_skipped: u64,
    /// Blocks answered by their summary.
    pub blocks_summarised: u64,
    /// Blocks that were decoded.
    pub blocks_decoded: u64,
    /// Points that were read one by one.
    pub points_read: u64,
    /// Windows of rollups that were read.
    #[serde(default)]
    #[schema(required)]
    pub windows_read: u64,
    /// Milliseconds in the service, from the text to the answer, without sending it.
    pub milliseconds: f64,
    /// The same by stages.
    #[serde(default)]
    #[schema(required)]
    pub stages: StagesDocument,
}

/// A part of the time, and what was read for it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SourceDocument {
    /// What was read, as in the query.
    pub what: String,
    /// First instant of the part.
    pub from: String,
    /// First instant after it.
    pub to: String,
    /// `points`, the width of a rollup's level such as `1h`, or `nothing` if the points of this part are no longer kept.
    pub source: String,
    /// Why points or nothing, if there could have been a rollup.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub why: Option<String>,
}

impl SourceDocument {
    /// The document of a part, its times in a zone.
    pub fn of(part: &ReadPart, zone: &jiff::tz::TimeZone) -> Self {
        Self {
            what: part.what.clone(),
            from: format_in_zone(part.range.start, zone),
            to: format_in_zone(part.range.end, zone),
            source: match part.source {
                ReadSource::Points => "points".to_owned(),
                ReadSource::Level(width) => width.to_string(),
                ReadSource::Nothing => "nothing".to_owned(),
            },
            why: part.why.map(str::to_owned),
        }
    }
}

/// Milliseconds of each stage of an answer.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StagesDocument {
    /// From the text to a plan: resolving names, matching series.
    pub planning: f64,
    /// Points read and reduced.
    pub reading: f64,
    /// Calculations, and selecting and ranking lines.
    pub computing: f64,
    /// Formatting times and values.
    pub writing: f64,
}

/// Milliseconds with two decimals.
pub fn milliseconds(time: std::time::Duration) -> f64 {
    (time.as_secs_f64() * 1e5).round() / 100.0
}

impl AnswerDocument {
    /// The document of an answer; how long it took is for the caller to say.
    pub fn of(answer: Answer) -> Self {
        let zone = answer.zone.clone();
        let time = |at: Nanos| format_in_zone(at, &zone);
        let (mut moments, mut windows) = (Vec::new(), WindowsDocument::default());
        let (from, to) = match &answer.time {
            AnswerTime::Moments(at) => {
                moments = at.iter().map(|at| time(*at)).collect();
                (at.first().copied().unwrap_or(answer.now), at.last().copied().unwrap_or(answer.now))
            }
            AnswerTime::Windows(cut) => {
                let count = cut.len();
                windows = WindowsDocument {
                    width: cut.width().map(|width| width.to_string()),
                    stepping: cut.stepping().map(|step| step.to_string()),
                    starts: (0..count).map(|at| time(cut.start(at))).collect(),
                    ends: (0..count).map(|at| time(cut.end(at))).collect(),
                    partial: (0..count).filter(|at| cut.is_partial(*at, answer.now)).collect(),
                };
                (cut.range().start, cut.range().end)
            }
        };
        let cost = answer.cost;
        Self {
            asked_at: time(answer.now),
            zone: zone.iana_name().unwrap_or("UTC").to_owned(),
            from: time(from),
            to: time(to),
            moments,
            windows,
            shows: answer.shows.into_iter().map(|show| show_document(show, &time)).collect(),
            notes: answer.notes,
            sources: answer.parts.iter().map(|part| SourceDocument::of(part, &answer.zone)).collect(),
            cost: CostDocument {
                series: cost.series,
                blocks_skipped: cost.blocks_skipped,
                blocks_summarised: cost.blocks_summarised,
                blocks_decoded: cost.blocks_decoded,
                points_read: cost.points_read,
                windows_read: cost.windows_read,
                milliseconds: 0.0,
                stages: StagesDocument::default(),
            },
        }
    }
}

fn show_document(show: ShowAnswer, time: &dyn Fn(Nanos) -> String) -> ShowDocument {
    let tags = |tags: &LineTags| tags.iter().map(|(key, value)| (key.to_string(), value.to_string())).collect();
    let line = |line: WindowLine| LineDocument {
        tags: tags(&line.tags),
        metric: None,
        unit: None,
        times: line.times.filter(|times| times.iter().any(Option::is_some)).map(|times| times.into_iter().map(|at| at.map(time)).collect()),
        filled: line.filled,
        partial: line.partial,
        values: line.values,
    };
    let shared = show.unit.clone();
    let points = |line: PointLine| LineDocument {
        tags: tags(&line.tags),
        metric: Some(line.metric.to_string()),
        unit: line.unit.filter(|unit| shared.as_ref() != Some(unit)),
        times: Some(line.times.into_iter().map(|at| Some(time(at))).collect()),
        filled: Vec::new(),
        partial: Vec::new(),
        values: line.values.into_iter().map(Some).collect(),
    };
    let (form, lines) = match show.lines {
        Lines::Windows(lines) => (Form::Windows, lines.into_iter().map(line).collect()),
        Lines::Moments(lines) => (Form::Moment, lines.into_iter().map(line).collect()),
        Lines::Points(lines) => (Form::Points, lines.into_iter().map(points).collect()),
    };
    ShowDocument { label: show.label, unit: show.unit, form, lines }
}
