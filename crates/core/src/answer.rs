//! The answer: windows once, then lines.

use std::sync::Arc;

use jiff::tz::TimeZone;

use crate::{
    model::{LineTags, Value},
    time::{Nanos, Span, TimeRange, Windows},
};

/// The answer to a query.
#[derive(Clone, Debug)]
pub struct Answer {
    /// Time of the query.
    pub now: Nanos,
    /// In which zone its calendar and its times are.
    pub zone: TimeZone,
    /// Of which time it is.
    pub time: AnswerTime,
    /// One for each `show`.
    pub shows: Vec<ShowAnswer>,
    /// What a reader must know: what was decided, left out or not found.
    pub notes: Vec<String>,
    /// What answered for which part of time: points, or a rollup's level.
    pub parts: Vec<ReadPart>,
    /// What the answer cost.
    pub cost: Cost,
}

/// A part of the time, and what was read for it.
#[derive(Clone, Debug, PartialEq)]
pub struct ReadPart {
    /// What was read, as in the query.
    pub what: String,
    /// The part.
    pub range: TimeRange,
    /// What was read.
    pub source: ReadSource,
    /// Why points, or nothing, although there are levels.
    pub why: Option<&'static str>,
}

/// What a part of time was read from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReadSource {
    /// Points.
    Points,
    /// A rollup level of this width.
    Level(Span),
    /// Nothing: its points are no longer kept, or a forced level has no window there.
    Nothing,
}

/// Of which time an answer is.
#[derive(Clone, Debug)]
pub enum AnswerTime {
    /// The windows that every line shares.
    Windows(Windows),
    /// Instants, in order.
    Moments(Vec<Nanos>),
}

/// The answer to one `show`.
#[derive(Clone, Debug)]
pub struct ShowAnswer {
    /// Its label, or its text.
    pub label: String,
    /// UCUM code of its unit.
    pub unit: Option<String>,
    /// Its lines, in order of their tags, or of their rank.
    pub lines: Lines,
}

/// What a `show` gave.
#[derive(Clone, Debug)]
pub enum Lines {
    /// A value a window.
    Windows(Vec<WindowLine>),
    /// A value a moment.
    Moments(Vec<WindowLine>),
    /// The points themselves.
    Points(Vec<PointLine>),
}

/// One value a window, or a moment; none where there is none.
#[derive(Clone, Debug, PartialEq)]
pub struct WindowLine {
    /// Its tags.
    pub tags: LineTags,
    /// Windows that were empty, and were filled.
    pub filled: Vec<usize>,
    /// Windows whose values lack something: a part of their time, or a neighbour of their points, can no longer be read.
    pub partial: Vec<usize>,
    /// When the values are from, where they are those of points at a moment.
    pub times: Option<Vec<Option<Nanos>>>,
    /// As many as there are windows, or moments.
    pub values: Vec<Option<Value>>,
}

/// The points of one series.
#[derive(Clone, Debug, PartialEq)]
pub struct PointLine {
    /// The metric.
    pub metric: Arc<str>,
    /// UCUM code of its unit.
    pub unit: Option<String>,
    /// Its tags.
    pub tags: LineTags,
    /// Instants.
    pub times: Vec<Nanos>,
    /// Values, beside them.
    pub values: Vec<Value>,
}

/// Cost of an answer.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Cost {
    /// Series that matched.
    pub series: u64,
    /// Blocks of these series outside the time range, in the files that were opened.
    pub blocks_skipped: u64,
    /// Blocks answered by their summary.
    pub blocks_summarised: u64,
    /// Blocks that were decoded.
    pub blocks_decoded: u64,
    /// Points that were read one by one.
    pub points_read: u64,
    /// Windows of rollups that were read.
    pub windows_read: u64,
}

impl Cost {
    /// Takes in what another part of the work took.
    pub fn add(&mut self, other: &Self) {
        self.series += other.series;
        self.blocks_skipped += other.blocks_skipped;
        self.blocks_summarised += other.blocks_summarised;
        self.blocks_decoded += other.blocks_decoded;
        self.points_read += other.points_read;
        self.windows_read += other.windows_read;
    }
}
