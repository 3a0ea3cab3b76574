//! Reducers and functions: what there is, and what each is called.

use std::{fmt, sync::Arc};

use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};

use crate::model::Shape;

/// What turns the points of a window, or the lines of a group, into one value.
#[derive(Clone, Debug, PartialEq)]
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
    /// From the least to the greatest.
    Spread,
    /// The earliest.
    First,
    /// The latest.
    Last,
    /// Sample standard deviation (n - 1).
    Stddev,
    /// Sample variance (n - 1).
    Variance,
    /// The value that such a share of the points does not exceed, from 0 to 1, linear between closest ranks.
    Quantile(f64),
    /// The last value less the one carried in.
    Delta,
    /// How much a counter grew, with resets recognised.
    Growth,
    /// Growth by second.
    Rate,
    /// Growth by second between the last two points.
    SpotRate,
    /// Integral over time, in the unit times seconds; by the metric's shape, if none is given.
    Area(Option<Shape>),
    /// Area by seconds covered; likewise.
    TimeMean(Option<Shape>),
    /// Seconds in a state; in each, if none is given.
    TimeIn(Option<Arc<str>>),
    /// Share of the covered seconds in a state; likewise.
    ShareIn(Option<Arc<str>>),
    /// How often the value changed.
    Changes,
    /// How many different values.
    Distinct,
    /// Of the line of least squares, by second.
    Slope,
    /// Share of the window in which points came as often as the metric's interval says.
    Coverage,
}

/// Words of all reducers but the quantiles, in the order in which they are listed to people.
pub const REDUCER_WORDS: [&str; 23] = [
    "count",
    "sum",
    "mean",
    "min",
    "max",
    "spread",
    "first",
    "last",
    "stddev",
    "variance",
    "median",
    "delta",
    "growth",
    "rate",
    "spot_rate",
    "area",
    "time_mean",
    "time_in",
    "share_in",
    "changes",
    "distinct",
    "slope",
    "coverage",
];

/// Other words that people have for reducers, with the one that the language has.
const OTHER_WORDS: [(&str, &str); 22] = [
    ("avg", "mean"),
    ("average", "mean"),
    ("minimum", "min"),
    ("maximum", "max"),
    ("total", "sum"),
    ("number", "count"),
    ("range", "spread"),
    ("std", "stddev"),
    ("sd", "stddev"),
    ("deviation", "stddev"),
    ("var", "variance"),
    ("increase", "growth"),
    ("diff", "delta"),
    ("difference", "delta"),
    ("integral", "area"),
    ("derivative", "slope"),
    ("trend", "slope"),
    ("unique", "distinct"),
    ("latest", "last"),
    ("newest", "last"),
    ("earliest", "first"),
    ("oldest", "first"),
];

/// The reducer that somebody meant who has another word for it, or wrote a quantile in another way.
pub(super) fn by_other_word(word: &str) -> Option<String> {
    let word = word.to_lowercase();
    if let Some((_, known)) = OTHER_WORDS.into_iter().find(|(other, _)| *other == word) {
        return Some(known.to_owned());
    }
    // `percentile95`, `q99`: a number behind a word for it.
    let digits = word.trim_start_matches(|c: char| c.is_alphabetic() || c == '_');
    let name = &word[..word.len() - digits.len()];
    let is_quantile = ["percentile", "perc", "pct", "quantile", "q", "p_"].contains(&name);
    let quantile = format!("p{}", if digits.is_empty() { "95" } else { digits });
    (is_quantile && Reducer::from_word(&quantile).is_some()).then_some(quantile)
}

impl Reducer {
    /// The reducer of that word, without anything in parentheses.
    pub fn from_word(word: &str) -> Option<Self> {
        Some(match word {
            "count" => Self::Count,
            "sum" => Self::Sum,
            "mean" => Self::Mean,
            "min" => Self::Min,
            "max" => Self::Max,
            "spread" => Self::Spread,
            "first" => Self::First,
            "last" => Self::Last,
            "stddev" => Self::Stddev,
            "variance" => Self::Variance,
            "median" => Self::Quantile(0.5),
            "delta" => Self::Delta,
            "growth" => Self::Growth,
            "rate" => Self::Rate,
            "spot_rate" => Self::SpotRate,
            "area" => Self::Area(None),
            "time_mean" => Self::TimeMean(None),
            "time_in" => Self::TimeIn(None),
            "share_in" => Self::ShareIn(None),
            "changes" => Self::Changes,
            "distinct" => Self::Distinct,
            "slope" => Self::Slope,
            "coverage" => Self::Coverage,
            _ => return Self::quantile(word),
        })
    }

    /// `p1` to `p99.9`, with up to three decimals.
    fn quantile(word: &str) -> Option<Self> {
        let digits = word.strip_prefix('p')?;
        let fraction = digits.split_once('.').map_or("", |(_, fraction)| fraction);
        let is_plain = digits.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.') && fraction.len() <= 3 && !digits.ends_with('.');
        let percent: f64 = digits.parse().ok().filter(|percent| is_plain && *percent > 0.0 && *percent < 100.0)?;
        Some(Self::Quantile(percent / 100.0))
    }

    /// The same reducer for one state, if it takes one in parentheses.
    pub fn of_state(&self, state: &str) -> Option<Self> {
        match self {
            Self::TimeIn(_) => Some(Self::TimeIn(Some(state.into()))),
            Self::ShareIn(_) => Some(Self::ShareIn(Some(state.into()))),
            _ => None,
        }
    }

    /// The same reducer for a shape of the line between points, if it takes one in parentheses.
    pub fn of_shape(&self, shape: Shape) -> Option<Self> {
        match self {
            Self::Area(_) => Some(Self::Area(Some(shape))),
            Self::TimeMean(_) => Some(Self::TimeMean(Some(shape))),
            _ => None,
        }
    }

    /// Its word, without what stands in parentheses.
    pub fn word(&self) -> String {
        match self {
            Self::Quantile(share) if *share == 0.5 => "median".to_owned(),
            // Rounded, since 0.999 * 100 is not 99.9.
            Self::Quantile(share) => format!("p{}", (share * 1e5).round() / 1e3),
            Self::Area(_) => "area".to_owned(),
            Self::TimeMean(_) => "time_mean".to_owned(),
            Self::TimeIn(_) => "time_in".to_owned(),
            Self::ShareIn(_) => "share_in".to_owned(),
            other => REDUCER_WORDS.into_iter().find(|word| Self::from_word(word).as_ref() == Some(other)).unwrap_or_default().to_owned(),
        }
    }
}

impl fmt::Display for Reducer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::TimeIn(Some(state)) | Self::ShareIn(Some(state)) => write!(f, "{}({})", self.word(), super::format::quoted(state)),
            Self::Area(Some(shape)) | Self::TimeMean(Some(shape)) => write!(f, "{}({})", self.word(), shape.as_str()),
            _ => f.pad(&self.word()),
        }
    }
}

impl Serialize for Reducer {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Reducer {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        super::parser::parse_reducer(&text).map_err(|error| D::Error::custom(format!("`{text}` is not a reducer: {error}")))
    }
}

/// Function of the values of a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Function {
    /// Without its sign.
    Abs,
    /// Square root.
    Sqrt,
    /// Natural logarithm.
    Ln,
    /// Decimal logarithm.
    Log10,
    /// e to that power.
    Exp,
    /// To the nearest integer.
    Round,
    /// To the integer below.
    Floor,
    /// To the integer above.
    Ceil,
    /// Not below the first argument, and not above the second.
    Clamp,
    /// Mean of so many windows up to this one.
    Smooth,
    /// Sum of all windows up to this one.
    Running,
    /// What it is above the window before.
    Change,
    /// Part of the total over all lines.
    Share,
}

impl Function {
    /// All there are, in the order in which they are listed to people.
    pub const ALL: [Self; 13] = [
        Self::Abs,
        Self::Sqrt,
        Self::Ln,
        Self::Log10,
        Self::Exp,
        Self::Round,
        Self::Floor,
        Self::Ceil,
        Self::Clamp,
        Self::Smooth,
        Self::Running,
        Self::Change,
        Self::Share,
    ];

    /// Its name in queries.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Abs => "abs",
            Self::Sqrt => "sqrt",
            Self::Ln => "ln",
            Self::Log10 => "log10",
            Self::Exp => "exp",
            Self::Round => "round",
            Self::Floor => "floor",
            Self::Ceil => "ceil",
            Self::Clamp => "clamp",
            Self::Smooth => "smooth",
            Self::Running => "running",
            Self::Change => "change",
            Self::Share => "share",
        }
    }

    /// How it is written, for messages.
    pub fn usage(self) -> String {
        match self {
            Self::Clamp => "clamp(x, least, most)".to_owned(),
            Self::Smooth => "smooth(x, windows)".to_owned(),
            other => format!("{}(x)", other.as_str()),
        }
    }

    /// How many numbers it takes behind what it is of.
    pub fn arity(self) -> usize {
        match self {
            Self::Clamp => 2,
            Self::Smooth => 1,
            _ => 0,
        }
    }
}
