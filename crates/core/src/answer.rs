//! What comes back: windows once, then lines.

use jiff::tz::TimeZone;

use crate::{
    model::{LineTags, Value},
    time::{Nanos, Windows},
};

/// The answer to a query.
#[derive(Clone, Debug)]
pub struct Answer {
    /// When it was asked.
    pub now: Nanos,
    /// In which zone its calendar and its times are.
    pub zone: TimeZone,
    /// The windows that every reduction shares.
    pub windows: Windows,
    /// One for each `show`.
    pub shows: Vec<ShowAnswer>,
    /// What a reader must know: what was decided, left out or not found.
    pub notes: Vec<String>,
    /// What it took.
    pub cost: Cost,
}

/// The answer to one `show`.
#[derive(Clone, Debug)]
pub struct ShowAnswer {
    /// Its label, or its text.
    pub label: String,
    /// UCUM code of its unit.
    pub unit: Option<String>,
    /// Its lines, in order of their tags.
    pub lines: Lines,
}

/// What a `show` gave.
#[derive(Clone, Debug)]
pub enum Lines {
    /// A value a window.
    Windows(Vec<WindowLine>),
    /// The points themselves.
    Points(Vec<PointLine>),
}

/// One value a window; none where the window is empty.
#[derive(Clone, Debug, PartialEq)]
pub struct WindowLine {
    /// What tells it apart.
    pub tags: LineTags,
    /// As many as there are windows.
    pub values: Vec<Option<Value>>,
}

/// The points of one series.
#[derive(Clone, Debug, PartialEq)]
pub struct PointLine {
    /// What tells it apart.
    pub tags: LineTags,
    /// Instants.
    pub times: Vec<Nanos>,
    /// Values, beside them.
    pub values: Vec<Value>,
}

/// What an answer took.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Cost {
    /// Series that matched.
    pub series: u64,
    /// Blocks whose summary was enough.
    pub blocks_summarised: u64,
    /// Blocks that were decoded.
    pub blocks_decoded: u64,
    /// Points that were looked at one by one.
    pub points_read: u64,
}
