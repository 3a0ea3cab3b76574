//! What a query is. Trees are equal where they mean the same, wherever their parts stand in the text.

use std::fmt;

use super::lexer::Place;
use crate::time::Span;

/// Something that was written, and where.
#[derive(Clone, Debug)]
pub struct Spanned<T> {
    /// What was written.
    pub value: T,
    /// Where.
    pub place: Place,
}

impl<T: PartialEq> PartialEq for Spanned<T> {
    fn eq(&self, other: &Self) -> bool {
        self.value == other.value
    }
}

/// A whole query.
#[derive(Clone, Debug, PartialEq)]
pub struct Query {
    /// What to show, at least one.
    pub shows: Vec<Show>,
    /// Over which time; none where it comes from outside the text.
    pub frame: Option<Frame>,
}

/// One thing to show.
#[derive(Clone, Debug, PartialEq)]
pub struct Show {
    /// What.
    pub expr: Expr,
    /// Under which name; its own text where there is none.
    pub label: Option<String>,
}

/// What can be shown.
#[derive(Clone, Debug, PartialEq)]
pub enum Expr {
    /// Points reduced to a value a window.
    Reduction(Reduction),
    /// The points themselves.
    Points(Selection),
}

impl Expr {
    /// Where its points come from.
    pub fn selection(&self) -> &Selection {
        match self {
            Self::Reduction(reduction) => &reduction.selection,
            Self::Points(selection) => selection,
        }
    }
}

/// `mean of level by reach`
#[derive(Clone, Debug, PartialEq)]
pub struct Reduction {
    /// How.
    pub reducer: Spanned<Reducer>,
    /// What.
    pub selection: Selection,
    /// Which series are taken together.
    pub grouping: Grouping,
}

/// What turns the points of a window into one value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reducer {
    /// How many points.
    Count,
    /// Their sum.
    Sum,
    /// Their mean.
    Mean,
    /// The least.
    Min,
    /// The greatest.
    Max,
    /// The earliest.
    First,
    /// The latest.
    Last,
}

impl Reducer {
    /// All there are, in the order in which they are listed to people.
    pub const ALL: [Self; 7] = [Self::Count, Self::Sum, Self::Mean, Self::Min, Self::Max, Self::First, Self::Last];

    /// Its word.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Count => "count",
            Self::Sum => "sum",
            Self::Mean => "mean",
            Self::Min => "min",
            Self::Max => "max",
            Self::First => "first",
            Self::Last => "last",
        }
    }

    /// Whether it can be asked of words as well as of numbers.
    pub fn takes_words(self) -> bool {
        matches!(self, Self::Count | Self::First | Self::Last)
    }
}

impl fmt::Display for Reducer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

/// Which series are taken together.
#[derive(Clone, Debug, PartialEq)]
pub enum Grouping {
    /// None: a line a series.
    Apart,
    /// Those that share these tags.
    By(Vec<Spanned<String>>),
    /// All.
    Overall,
}

/// A metric's name, with or without its dataset's.
#[derive(Clone, Debug, PartialEq)]
pub struct MetricName {
    /// `velmar` of `velmar::level`.
    pub dataset: Option<String>,
    /// `level`.
    pub metric: String,
}

/// `level where reach = "upper"`
#[derive(Clone, Debug, PartialEq)]
pub struct Selection {
    /// Which metric.
    pub metric: Spanned<MetricName>,
    /// Which of its series.
    pub condition: Option<Condition>,
}

/// What a series' tags must fulfil.
#[derive(Clone, Debug, PartialEq)]
pub enum Condition {
    /// Every one of these, at least two.
    All(Vec<Condition>),
    /// One comparison.
    Is(Comparison),
}

/// A tag compared with texts: the series' value is, or with `negated` is not, one of them. A series without the tag has none of them.
#[derive(Clone, Debug, PartialEq)]
pub struct Comparison {
    /// Which tag.
    pub tag: Spanned<String>,
    /// With what; one text for `=` and `!=`.
    pub texts: Vec<Spanned<String>>,
    /// Whether it was written as a list, with `in`.
    pub listed: bool,
    /// `!=` or `not in`.
    pub negated: bool,
}

/// Over which time, and how it is cut. Each part may be left to come from outside the text.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Frame {
    /// `over …`
    pub range: Option<Spanned<Range>>,
    /// `per …`; the whole range is one window where it is left out.
    pub width: Option<Spanned<FrameWidth>>,
    /// `zone …`
    pub zone: Option<Spanned<String>>,
}

/// `15m` or `auto`
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FrameWidth {
    /// Windows of one span.
    Of(Span),
    /// A round width for about 300 windows.
    Auto,
}

/// A range of time, relative to now or not.
#[derive(Clone, Debug, PartialEq)]
pub enum Range {
    /// That long, ending now.
    Last(Span),
    /// From one instant to another.
    Between(Spanned<InstantText>, Spanned<InstantText>),
    /// From an instant to now.
    Since(Spanned<InstantText>),
}

/// An instant as it was written; the zone decides what it is.
#[derive(Clone, Debug, PartialEq)]
pub struct InstantText {
    /// `now`, `today`, `yesterday` or a date.
    pub base: String,
    /// `- 2h`
    pub minus: Option<Span>,
}
