//! The nouns: what is measured, what distinguishes series, and points on their way in.

mod arrival;
mod dataset;
mod metric;
mod names;
mod renamed;
mod rollup;
mod tags;
mod thinning;
mod traits;
mod value;

pub use arrival::{About, Cause, Described, KnownSeries, PointRef, PointSink, Refusal, ValueRef};
pub use dataset::{DatasetDefinition, TagDefinition};
pub use metric::{Kind, MetricDefinition, Shape, Status, Temporality, WhenPaused};
pub use names::{MAX_TAGS, NameError, check_dataset_name, check_name, check_tag_value};
pub use renamed::renamed_key;
pub use rollup::{RollupLevel, RollupPolicy};
pub use tags::{LineTags, Tags, TagsDisplay};
pub use thinning::Thinning;
pub use traits::MetricTraits;
pub use value::{Histogram, MAX_BUCKETS, Value, split_integer};

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
