//! A checked query: which series, which windows, how lines are joined, within which bounds.
//!
//! The plan holds all that is needed to run, so that the catalogue is not locked while points are read.
//!
//! | file | subject |
//! |---|---|
//! | `frame` | windows or a moment, of the text's clauses and those from outside |
//! | `selection` | a metric and the series that a condition leaves |
//! | `expression` | trees to nodes: reducers against kinds, units, bounds |
//! | `levels` | which rollup levels can answer a leaf |
//! | `joining` | which lines of two sides belong together |

mod expression;
mod frame;
mod joining;
mod levels;
mod selection;

use jiff::tz::TimeZone;

use crate::{
    catalogue::Codes,
    model::{DatasetId, LineTags, MetricId, MetricTraits, SeriesId},
    query::{Frame, Function, Gaps, Keeping, Operator, Query, QueryError, Rank, Reducer, Taking, ValueTest},
    time::{Nanos, Span, Windows},
    visibility::VisibleCatalogue,
};

pub use frame::range_of;
pub use levels::{From as ReadsFrom, LevelPlan};

/// What one query may take.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Series that are read.
    pub series: usize,
    /// Lines that one `show` gives.
    pub lines: usize,
    /// Windows.
    pub windows: usize,
    /// Windows times lines, over all that is shown or computed on the way.
    pub cells: usize,
    /// Points that `points of` gives.
    pub points: usize,
    /// Points that are decoded.
    pub decoded: usize,
    /// Values that are held at once, for quantiles and different values.
    pub held: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self { series: 250_000, lines: 10_000, windows: 100_000, cells: 2_000_000, points: 1_000_000, decoded: 2_000_000_000, held: 32_000_000 }
    }
}

/// Why a query cannot be planned. The place is in the query's own text, or in that of the frame from outside.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PlanError {
    /// A fault in the query's text.
    #[error("{0}")]
    Query(QueryError),
    /// A fault in the frame that came from outside the text.
    #[error("{0}")]
    Frame(QueryError),
    /// No frame, neither in the text nor outside.
    #[error("the query has no time range: add one, such as `over last 24h per 15m`, or an instant, such as `at now`")]
    NoFrame,
    /// There is no such dataset.
    #[error("there is no dataset `{name}`: {known}")]
    NoDataset {
        /// What was asked for.
        name: String,
        /// What there is.
        known: String,
    },
    /// More than allowed.
    #[error("{0}")]
    Bound(String),
}

impl From<QueryError> for PlanError {
    fn from(error: QueryError) -> Self {
        Self::Query(error)
    }
}

/// What to run.
#[derive(Clone, Debug)]
pub struct Plan {
    /// Time of the query.
    pub now: Nanos,
    /// The zone of its calendar.
    pub zone: TimeZone,
    /// Over which time.
    pub time: PlannedTime,
    /// What is read, each once however often the query names it.
    pub leaves: Vec<Leaf>,
    /// What to show.
    pub shows: Vec<ShowPlan>,
    /// Notes for the reader.
    pub notes: Vec<String>,
    /// What it may take.
    pub limits: Limits,
    /// Windows or moments times lines, of all that is computed.
    pub cells: usize,
}

/// Over which time.
#[derive(Clone, Debug)]
pub enum PlannedTime {
    /// Windows, and what empty ones hold.
    Windows(Windows, Gaps),
    /// Moments, in order.
    Moments(Vec<Moment>),
}

impl PlannedTime {
    /// How many values a line has.
    pub fn columns(&self) -> usize {
        match self {
            Self::Windows(windows, _) => windows.len(),
            Self::Moments(moments) => moments.len(),
        }
    }
}

/// A moment at which series have values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Moment {
    /// Which.
    pub at: Nanos,
    /// By which of the points about it.
    pub taking: Taking,
    /// How far away these may lie, in nanoseconds; by default the metric's `stale_after`.
    pub within: Option<Nanos>,
}

/// What is read: points of some series, taken together as lines.
#[derive(Clone, Debug)]
pub struct Leaf {
    /// As the query says it.
    pub text: String,
    /// Where its points are.
    pub dataset: DatasetId,
    /// The metric.
    pub metric: MetricId,
    /// UCUM code of its unit.
    pub unit: Option<String>,
    /// What they are.
    pub facts: MetricTraits,
    /// What is made of them.
    pub take: Take,
    /// From what: points, or windows that stand for them.
    pub from: ReadsFrom,
    /// How long before the query's time.
    pub earlier: Option<Span>,
    /// Which of the points, by value: those that fulfil all.
    pub tests: Vec<ValueTest>,
    /// Its lines, in order of their tags.
    pub lines: Vec<LinePlan>,
}

/// What is made of points.
#[derive(Clone, Debug, PartialEq)]
pub enum Take {
    /// A value a window.
    Reduced(Reducer),
    /// The value at a moment.
    Moment,
    /// Themselves.
    Points,
}

impl Take {
    /// The reducer, where there is one.
    pub fn reducer(&self) -> Option<&Reducer> {
        match self {
            Self::Reduced(reducer) => Some(reducer),
            Self::Moment | Self::Points => None,
        }
    }
}

/// One `show`.
#[derive(Clone, Debug)]
pub struct ShowPlan {
    /// Its label, or its text.
    pub label: String,
    /// UCUM code of its unit.
    pub unit: Option<String>,
    /// What to compute.
    pub node: Node,
    /// Tags of its lines, in order; a number alone has one line without tags.
    pub lines: Vec<LineTags>,
    /// Which cells stay.
    pub keeping: Option<Keeping>,
    /// Which lines stay.
    pub rank: Option<Rank>,
}

/// A step of a computation: it gives lines of values, one for each window.
#[derive(Clone, Debug, PartialEq)]
pub enum Node {
    /// The same everywhere.
    Number(f64),
    /// What a leaf gives.
    Leaf(usize),
    /// Converted to another unit.
    Scaled {
        /// What.
        of: Box<Node>,
        /// Times this.
        factor: f64,
        /// Then plus this.
        offset: f64,
    },
    /// Two sides joined.
    Binary {
        /// How.
        operator: Operator,
        /// One.
        left: Box<Node>,
        /// The other.
        right: Box<Node>,
        /// Which line of the one belongs to which of the other, in order of the lines that come out; none where a side is a number.
        pairs: Option<Vec<(usize, usize)>>,
    },
    /// A function of each line.
    Call {
        /// Which.
        function: Function,
        /// Of what.
        of: Box<Node>,
        /// Further arguments.
        arguments: Vec<f64>,
    },
    /// Lines of several, beside each other.
    Stacked {
        /// Of which.
        of: Vec<Node>,
        /// For each line of the result: the index of its source, and the line in that source.
        lines: Vec<(usize, usize)>,
    },
    /// Lines reduced to fewer, window by window.
    Reduced {
        /// How.
        reducer: Reducer,
        /// What.
        of: Box<Node>,
        /// Which lines make each line that comes out.
        groups: Vec<Vec<usize>>,
    },
}

/// One line: series that are taken together.
#[derive(Clone, Debug, PartialEq)]
pub struct LinePlan {
    /// Its tags.
    pub tags: LineTags,
    /// Whose points it merges.
    pub series: Vec<PlannedSeries>,
}

/// A series to read.
#[derive(Clone, Debug, PartialEq)]
pub struct PlannedSeries {
    /// Which.
    pub id: SeriesId,
    /// What the stored numbers of a state or a histogram stand for.
    pub codes: Option<Codes>,
}

/// Checks a query against what there is. `outer` is the frame from outside the text, which the text's own frame overrides clause by
/// clause; `dataset` is the one that unqualified metrics are in.
///
/// # Errors
/// [`PlanError`], with the place and the closest known name.
pub fn plan<'c>(
    query: &Query,
    outer: &Frame,
    catalogue: impl Into<VisibleCatalogue<'c>>,
    dataset: &str,
    now: Nanos,
    limits: &Limits,
) -> Result<Plan, PlanError> {
    let catalogue = catalogue.into();
    let mut notes = Vec::new();
    let home = selection::find_dataset(catalogue, dataset, &mut notes)?;
    let own = query.frame.clone().unwrap_or_default();
    let frame = frame::FrameSource { own: &own, outer };
    let (time, zone) = frame.resolve(home, now, limits, &mut notes)?;
    let from = frame.source();
    let mut planner = expression::Planner::new(query, catalogue, home, (&time, &zone, from.as_ref()), limits, notes);
    let shows = query.shows.iter().map(|show| planner.show(show)).collect::<Result<_, _>>()?;
    let (leaves, notes, cells) = planner.done();
    Ok(Plan { now, zone, time, leaves, shows, notes, limits: *limits, cells })
}
