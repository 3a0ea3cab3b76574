//! What a query is. Trees are equal where they mean the same, wherever their parts stand in the text.
//!
//! The same tree is the JSON form of a query: it is written and read by serde as it stands here, without the places.

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::{Function, Reducer, lexer::TextSpan};
use crate::time::{LocalTime, Span};

/// Something that was written, and where.
#[derive(Clone, Debug)]
pub struct Spanned<T> {
    /// What was written.
    pub value: T,
    /// Where.
    pub place: TextSpan,
}

/// A name or text that was written.
pub type Text = Spanned<String>;
/// An instant that was written.
pub type Instant = Spanned<InstantText>;

impl<T: PartialEq> PartialEq for Spanned<T> {
    fn eq(&self, other: &Self) -> bool {
        self.value == other.value
    }
}

impl<T: Serialize> Serialize for Spanned<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.value.serialize(serializer)
    }
}

impl<'de, T: Deserialize<'de>> Deserialize<'de> for Spanned<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Ok(Self { value: T::deserialize(deserializer)?, place: TextSpan::default() })
    }
}

fn is_none<T>(value: &Option<T>) -> bool {
    value.is_none()
}

/// A whole query.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Query {
    /// Named expressions; each may use those before it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lets: Vec<Let>,
    /// Results to show, at least one.
    pub shows: Vec<Show>,
    /// Time range and windows; none if it comes from outside the text.
    #[serde(default, skip_serializing_if = "is_none")]
    pub frame: Option<Frame>,
}

impl Query {
    /// All selections of metrics, in order. Names that were defined with `let` are not among them, but the selections behind them are.
    pub fn selections(&self) -> Vec<&Selection> {
        let mut found = Vec::new();
        self.lets.iter().map(|one| &one.expr).chain(self.shows.iter().map(|show| &show.expr)).for_each(|expr| expr.collect(&mut found));
        let is_defined = |name: &MetricName| name.dataset.is_none() && self.lets.iter().any(|one| one.name.value == name.metric);
        found.retain(|selection| !is_defined(&selection.metric.value));
        found
    }
}

impl Expr {
    /// Adds the selections of an expression; the points of `points of` are none.
    fn collect<'q>(&'q self, found: &mut Vec<&'q Selection>) {
        match self {
            Self::Number(_) | Self::Points(_) => {}
            Self::Negate(of) => of.collect(found),
            Self::Binary(binary) => {
                binary.left.collect(found);
                binary.right.collect(found);
            }
            Self::Call(call) => call.of.collect(found),
            Self::Reduction(reduction) => match &reduction.of {
                Of::Selection(selection) => found.push(selection),
                Of::Lines(lines) => lines.collect(found),
            },
            Self::Selection(selection) => found.push(selection),
        }
    }
}

/// `let failed = growth of gate_commands`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Let {
    /// Its name.
    pub name: Text,
    /// What it stands for.
    pub expr: Expr,
}

/// One thing to show.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Show {
    /// What.
    pub expr: Expr,
    /// Only cells that fulfil this comparison are kept, and only lines that have such cells.
    #[serde(default, skip_serializing_if = "is_none")]
    pub keeping: Option<Keeping>,
    /// Ranking, which selects lines.
    #[serde(default, skip_serializing_if = "is_none")]
    pub rank: Option<Rank>,
    /// Label (default: the text of the expression).
    #[serde(default, skip_serializing_if = "is_none")]
    pub label: Option<String>,
    /// Unit of the result.
    #[serde(default, skip_serializing_if = "is_none")]
    pub unit: Option<UnitClause>,
}

/// `keeping > 3`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Keeping {
    /// How.
    pub comparison: Comparison,
    /// With what.
    pub number: f64,
}

/// `top 5 by max`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Rank {
    /// Largest or smallest.
    pub end: RankEnd,
    /// Number of lines to keep.
    pub count: usize,
    /// Reducer over the windows of a line, by which lines are ranked (default: `mean`).
    #[serde(default, skip_serializing_if = "is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Reducer>))]
    pub by: Option<Spanned<Reducer>>,
}

/// `top` or `bottom`
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum RankEnd {
    /// The largest first.
    Top,
    /// The smallest first.
    Bottom,
}

/// A unit for what is shown.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum UnitClause {
    /// `in "m"`: the values are converted.
    In(Text),
    /// `unit "%"`: sets the unit without conversion.
    Unit(Text),
}

/// Expression.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(no_recursion))]
#[serde(rename_all = "lowercase")]
pub enum Expr {
    /// `100`
    Number(f64),
    /// `-x`
    Negate(Box<Expr>),
    /// `a / b`
    Binary(Box<Binary>),
    /// `round(x)`
    Call(Box<Call>),
    /// Points reduced to one value per window, or lines reduced to fewer.
    Reduction(Box<Reduction>),
    /// The points themselves.
    Points(PointsOf),
    /// A metric at an instant, or a name defined with `let`.
    Selection(Selection),
}

/// `a / b`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Binary {
    /// Operator.
    #[cfg_attr(feature = "schema", schema(value_type = Operator))]
    pub operator: Spanned<Operator>,
    /// To this.
    pub left: Expr,
    /// With this.
    pub right: Expr,
}

/// Operator between two expressions.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Operator {
    /// Sum.
    #[serde(rename = "+")]
    Add,
    /// Difference.
    #[serde(rename = "-")]
    Subtract,
    /// Product.
    #[serde(rename = "*")]
    Multiply,
    /// Quotient.
    #[serde(rename = "/")]
    Divide,
}

impl Operator {
    /// Its sign.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Add => "+",
            Self::Subtract => "-",
            Self::Multiply => "*",
            Self::Divide => "/",
        }
    }

    /// Which of two binds closer: the greater.
    pub(super) fn strength(self) -> u8 {
        match self {
            Self::Add | Self::Subtract => 1,
            Self::Multiply | Self::Divide => 2,
        }
    }
}

/// `smooth(x, 5)`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Call {
    /// Which.
    #[cfg_attr(feature = "schema", schema(value_type = Function))]
    pub function: Spanned<Function>,
    /// Of what.
    pub of: Expr,
    /// Further arguments.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub arguments: Vec<f64>,
}

/// `mean of level by reach`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Reduction {
    /// How.
    #[cfg_attr(feature = "schema", schema(value_type = Reducer))]
    pub reducer: Spanned<Reducer>,
    /// What.
    pub of: Of,
    /// Grouping of series or lines.
    #[serde(default, skip_serializing_if = "Grouping::is_apart")]
    pub grouping: Grouping,
}

/// Input of a reducer.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(no_recursion))]
#[serde(rename_all = "lowercase")]
pub enum Of {
    /// Points, over the time of a window.
    Selection(Selection),
    /// Lines, within each window: what stands in parentheses.
    Lines(Expr),
}

/// Grouping of series.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Grouping {
    /// No grouping: one line per series.
    #[default]
    Apart,
    /// One line per combination of values of these tags.
    By(Vec<Text>),
    /// All.
    Overall,
}

impl Grouping {
    fn is_apart(&self) -> bool {
        *self == Self::Apart
    }
}

/// A metric's name, with or without its dataset's.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct MetricName {
    /// `velmar` of `velmar::level`.
    #[serde(default, skip_serializing_if = "is_none")]
    pub dataset: Option<String>,
    /// `level`.
    pub metric: String,
}

/// `level where reach = "upper" 1w earlier`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Selection {
    /// Which metric.
    #[cfg_attr(feature = "schema", schema(value_type = MetricName))]
    pub metric: Spanned<MetricName>,
    /// Condition on its series and their points.
    #[serde(default, skip_serializing_if = "is_none")]
    pub condition: Option<Condition>,
    /// Shift back from each window.
    #[serde(default, skip_serializing_if = "is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Span>))]
    pub earlier: Option<Spanned<Span>>,
}

/// `level, flow where lock = "osier"`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct PointsOf {
    /// Which metric.
    #[cfg_attr(feature = "schema", schema(value_type = MetricName))]
    pub metric: Spanned<MetricName>,
    /// Other metrics, whose points are shown beside its own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = Vec<MetricName>))]
    pub also: Vec<Spanned<MetricName>>,
    /// Condition on their series and points.
    #[serde(default, skip_serializing_if = "is_none")]
    pub condition: Option<Condition>,
    /// Shift back from the range.
    #[serde(default, skip_serializing_if = "is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Span>))]
    pub earlier: Option<Spanned<Span>>,
}

impl PointsOf {
    /// What is read of each metric.
    pub fn selections(&self) -> impl Iterator<Item = Selection> {
        let of =
            |metric: &Spanned<MetricName>| Selection { metric: metric.clone(), condition: self.condition.clone(), earlier: self.earlier.clone() };
        std::iter::once(&self.metric).chain(&self.also).map(of)
    }
}

impl Selection {
    /// The name, if nothing else is given: it may be one that `let` defined.
    pub fn as_name(&self) -> Option<&str> {
        let is_bare = self.metric.value.dataset.is_none() && self.condition.is_none() && self.earlier.is_none();
        is_bare.then_some(self.metric.value.metric.as_str())
    }
}

/// Condition on the tags of a series, or on the value of a point.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(no_recursion))]
#[serde(rename_all = "lowercase")]
pub enum Condition {
    /// All of these, at least two.
    All(Vec<Condition>),
    /// One of these, at least two.
    Any(Vec<Condition>),
    /// Not this.
    Not(Box<Condition>),
    /// One comparison of a tag with texts.
    Is(TagTest),
    /// The whole value of a tag matches a regular expression.
    Matches(TagMatch),
    /// A series has the tag.
    Has(Text),
    /// A series lacks the tag.
    Lacks(Text),
    /// A point's value compared with a number.
    Value(ValueTest),
}

/// A tag compared with texts: the series' value is, or with `negated` is not, one of them. A series without the tag has none of them.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct TagTest {
    /// Which tag.
    pub tag: Text,
    /// With what; one text for `=` and `!=`.
    pub texts: Vec<Text>,
    /// Whether it was written as a list, with `in`.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub listed: bool,
    /// `!=` or `not in`.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub negated: bool,
}

/// `lock matches "a.*"`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct TagMatch {
    /// Which tag.
    pub tag: Text,
    /// Regular expression, which the whole value must match.
    pub pattern: Text,
    /// `not matches`
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub negated: bool,
}

/// `value > 3`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ValueTest {
    /// Comparison.
    #[cfg_attr(feature = "schema", schema(value_type = Comparison))]
    pub comparison: Spanned<Comparison>,
    /// With what.
    pub number: f64,
}

/// Comparison of two numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Comparison {
    /// Less.
    #[serde(rename = "<")]
    Less,
    /// Less or equal.
    #[serde(rename = "<=")]
    AtMost,
    /// Greater.
    #[serde(rename = ">")]
    Greater,
    /// Greater or equal.
    #[serde(rename = ">=")]
    AtLeast,
    /// Equal.
    #[serde(rename = "=")]
    Equal,
    /// Not equal.
    #[serde(rename = "!=")]
    Unequal,
}

impl Comparison {
    /// All there are.
    pub const ALL: [Self; 6] = [Self::Less, Self::AtMost, Self::Greater, Self::AtLeast, Self::Equal, Self::Unequal];

    /// Its sign.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Less => "<",
            Self::AtMost => "<=",
            Self::Greater => ">",
            Self::AtLeast => ">=",
            Self::Equal => "=",
            Self::Unequal => "!=",
        }
    }

    /// Whether a value fulfils it.
    pub fn holds(self, value: f64, number: f64) -> bool {
        match self {
            Self::Less => value < number,
            Self::AtMost => value <= number,
            Self::Greater => value > number,
            Self::AtLeast => value >= number,
            Self::Equal => value == number,
            Self::Unequal => value != number,
        }
    }
}

/// Time range and windows, or instants. Each part may also come from outside the text.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default, deny_unknown_fields)]
pub struct Frame {
    /// `over …`
    #[serde(skip_serializing_if = "is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Range>))]
    pub range: Option<Spanned<Range>>,
    /// `per …`; if omitted, the whole range is one window.
    #[serde(skip_serializing_if = "is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<FrameWidth>))]
    pub width: Option<Spanned<FrameWidth>>,
    /// `stepping …`: a window begins each such span, not each width.
    #[serde(skip_serializing_if = "is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Span>))]
    pub stepping: Option<Spanned<Span>>,
    /// `starting …`: the grid begins anew at that time of each local day.
    #[serde(skip_serializing_if = "is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<LocalTime>))]
    pub starting: Option<Spanned<LocalTime>>,
    /// `at …`
    #[serde(skip_serializing_if = "is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Moments>))]
    pub moments: Option<Spanned<Moments>>,
    /// `taking …`
    #[serde(skip_serializing_if = "is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Taking>))]
    pub taking: Option<Spanned<Taking>>,
    /// `within …`: how far from the moment a point may lie.
    #[serde(skip_serializing_if = "is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Span>))]
    pub within: Option<Spanned<Span>>,
    /// `zone …`
    #[serde(skip_serializing_if = "is_none")]
    pub zone: Option<Text>,
    /// `gaps …`
    #[serde(skip_serializing_if = "is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Gaps>))]
    pub gaps: Option<Spanned<Gaps>>,
    /// `from …`
    #[serde(skip_serializing_if = "is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<ReadFrom>))]
    pub source: Option<Spanned<ReadFrom>>,
}

/// `15m` or `auto`
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum FrameWidth {
    /// Windows of one span.
    Of(Span),
    /// A round width for about 300 windows.
    Auto,
}

/// Value of a window without points.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Gaps {
    /// Nothing.
    #[default]
    Empty,
    /// Value of the last window that was not empty.
    Hold,
    /// Value on the line between the windows beside the gap.
    Line,
    /// A number.
    Number(f64),
}

/// Value of a series at an instant.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Taking {
    /// `line` for a linear gauge, `before` for all else.
    #[default]
    Natural,
    /// The last at or before it.
    Before,
    /// The first at or after it.
    After,
    /// The one that lies nearer; of two, the earlier.
    Nearest,
    /// What lies on the line between its neighbours.
    Line,
    /// The one at that instant.
    Exact,
}

impl Taking {
    /// All there are.
    pub const ALL: [Self; 6] = [Self::Natural, Self::Before, Self::After, Self::Nearest, Self::Line, Self::Exact];

    /// The keyword.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Natural => "natural",
            Self::Before => "before",
            Self::After => "after",
            Self::Nearest => "nearest",
            Self::Line => "line",
            Self::Exact => "exact",
        }
    }
}

/// The source of a query: points, or a rollup level.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum ReadFrom {
    /// Points as they arrived.
    Raw,
    /// From the rollup of that width.
    Level(Span),
}

/// A range of time, relative to now or not.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Range {
    /// That long, ending now.
    Last(Span),
    /// From one instant to another.
    Between(Instant, Instant),
    /// From an instant to now.
    Since(Instant),
    /// The whole of a period: `2026`, `2026-Q2`, `2026-05`, `2026-W18`, `2026-05-01`, `today`, `yesterday`.
    Calendar(String),
}

/// The instants of a query.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Moments {
    /// At these instants, at least one.
    Listed(Vec<Instant>),
    /// At the start of each window.
    Starts,
}

/// An instant as written; the zone of the query applies.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct InstantText {
    /// `now`, `today`, `yesterday` or a date.
    pub base: String,
    /// `- 2h`
    #[serde(default, skip_serializing_if = "is_none")]
    pub minus: Option<Span>,
}
