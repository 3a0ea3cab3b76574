//! An answer as it travels: JSON with times as RFC 3339, the windows once, then lines.

use std::collections::BTreeMap;

use fenetre_core::{
    answer::{Answer, Lines, ShowAnswer},
    model::{LineTags, Value},
    time::{Nanos, format_in_zone},
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The answer to a query.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AnswerDocument {
    /// When it was asked.
    pub asked_at: String,
    /// IANA name of the zone of its calendar and times.
    pub zone: String,
    /// First instant of the range.
    pub from: String,
    /// First instant after the range.
    pub to: String,
    /// The windows that every reduction shares.
    pub windows: WindowsDocument,
    /// One for each `show`.
    pub shows: Vec<ShowDocument>,
    /// What a reader must know.
    pub notes: Vec<String>,
    /// What it took.
    pub cost: CostDocument,
}

/// Windows, in order.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct WindowsDocument {
    /// Their width, such as `15m`; none where the whole range is one window.
    pub width: Option<String>,
    /// First instants.
    pub starts: Vec<String>,
    /// First instants after.
    pub ends: Vec<String>,
    /// Indices of those that the range cuts.
    pub partial: Vec<usize>,
}

/// The answer to one `show`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ShowDocument {
    /// Its label, or its text.
    pub label: String,
    /// UCUM code of its unit.
    pub unit: Option<String>,
    /// `windows`: a value for each window. `points`: values with times of their own.
    pub form: Form,
    /// In order of their tags.
    pub lines: Vec<LineDocument>,
}

/// What the values of a line stand beside.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Form {
    /// The windows.
    Windows,
    /// Times of their own.
    Points,
}

/// One line.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LineDocument {
    /// What tells it apart.
    pub tags: BTreeMap<String, String>,
    /// Times of points; left out where there are windows.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub times: Option<Vec<String>>,
    /// Numbers or words; null where a window is empty.
    #[schema(value_type = Vec<Option<serde_json::Value>>)]
    pub values: Vec<Option<Value>>,
}

/// What an answer took.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CostDocument {
    /// Series that matched.
    pub series: u64,
    /// Blocks whose summary was enough.
    pub blocks_summarised: u64,
    /// Blocks that were decoded.
    pub blocks_decoded: u64,
    /// Points that were looked at one by one.
    pub points_read: u64,
    /// Time in the service, from the text to the answer, without sending it.
    pub milliseconds: f64,
}

impl AnswerDocument {
    /// The document of an answer that took so long.
    pub fn of(answer: Answer, milliseconds: f64) -> Self {
        let zone = answer.zone.clone();
        let time = |at: Nanos| format_in_zone(at, &zone);
        let bounds = answer.windows.bounds();
        let range = answer.windows.range();
        let count = answer.windows.len();
        Self {
            asked_at: time(answer.now),
            zone: zone.iana_name().unwrap_or("UTC").to_owned(),
            from: time(range.start),
            to: time(range.end),
            windows: WindowsDocument {
                width: answer.windows.width().map(|width| width.to_string()),
                starts: bounds[..count].iter().copied().map(time).collect(),
                ends: bounds[1..].iter().copied().map(time).collect(),
                partial: (0..count).filter(|i| answer.windows.is_partial(*i)).collect(),
            },
            shows: answer.shows.into_iter().map(|show| show_document(show, &time)).collect(),
            notes: answer.notes,
            cost: CostDocument {
                series: answer.cost.series,
                blocks_summarised: answer.cost.blocks_summarised,
                blocks_decoded: answer.cost.blocks_decoded,
                points_read: answer.cost.points_read,
                milliseconds,
            },
        }
    }
}

fn show_document(show: ShowAnswer, time: &dyn Fn(Nanos) -> String) -> ShowDocument {
    let tags = |tags: &LineTags| tags.iter().map(|(key, value)| (key.to_string(), value.to_string())).collect();
    let (form, lines) = match show.lines {
        Lines::Windows(lines) => {
            let line = |line: fenetre_core::answer::WindowLine| LineDocument { tags: tags(&line.tags), times: None, values: line.values };
            (Form::Windows, lines.into_iter().map(line).collect())
        }
        Lines::Points(lines) => {
            let line = |line: fenetre_core::answer::PointLine| LineDocument {
                tags: tags(&line.tags),
                times: Some(line.times.into_iter().map(time).collect()),
                values: line.values.into_iter().map(Some).collect(),
            };
            (Form::Points, lines.into_iter().map(line).collect())
        }
    };
    ShowDocument { label: show.label, unit: show.unit, form, lines }
}
