//! The nouns: what is measured, how series are told apart, what a point is on its way in.

mod arrival;
mod metric;
mod names;

pub use arrival::{PointRef, PointSink, Refusal, ValueRef};
pub use metric::{Kind, MetricDefinition, Shape};
pub use names::{MOST_TAGS, NameError, check_dataset_name, check_name, check_tag_value};

use std::{collections::BTreeMap, fmt, sync::Arc};

macro_rules! id {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
        pub struct $name(pub u32);
    };
}

id!(
    /// A dataset, for good: names may change.
    DatasetId
);
id!(
    /// A metric, for good; unique in the store.
    MetricId
);
id!(
    /// A series, for good; unique in the store.
    SeriesId
);

/// The tags of a series, by key.
pub type Tags = Arc<BTreeMap<Arc<str>, Arc<str>>>;

/// Tags as people write them: `lock=osier side=up`.
pub struct TagsDisplay<'a>(pub &'a BTreeMap<Arc<str>, Arc<str>>);

impl fmt::Display for TagsDisplay<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, (key, value)) in self.0.iter().enumerate() {
            if i > 0 {
                f.write_str(" ")?;
            }
            write!(f, "{key}={value}")?;
        }
        Ok(())
    }
}

/// A value as it leaves: a number, or a word of a state metric.
#[derive(Clone, Debug, PartialEq, serde::Serialize, serde::Deserialize)]
#[serde(untagged)]
pub enum Value {
    /// Of a gauge or a counter.
    Number(f64),
    /// Of a state.
    Word(Arc<str>),
}

impl Value {
    /// The number, if it is one.
    pub fn number(&self) -> Option<f64> {
        match self {
            Self::Number(number) => Some(*number),
            Self::Word(_) => None,
        }
    }
}
