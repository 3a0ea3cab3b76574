//! Additions of a batch to the catalogue: metrics, series, and metadata of metrics.

use std::collections::{BTreeMap, HashSet};

use fenetre_core::model::MetricDefinition;

use crate::catalogue::records::TagMap;

/// A series that was not in the catalogue when the batch first saw it.
pub struct NewSeries {
    pub metric: String,
    pub tags: TagMap,
}

/// Metrics and series that were not in the catalogue, and learned definitions.
#[derive(Default)]
pub struct Additions {
    pub metrics: BTreeMap<String, MetricDefinition>,
    /// Definitions of metrics that nobody has defined yet.
    pub learned: BTreeMap<String, MetricDefinition>,
    pub series: Vec<NewSeries>,
    /// New metrics that are described without a kind: their first points decide it.
    pub undecided: HashSet<String>,
}

impl Additions {
    /// Whether the first point of a new metric decides its kind.
    pub fn is_undecided(&self, name: &str) -> bool {
        self.undecided.contains(name) || !self.learned.contains_key(name)
    }

    /// The definition of a metric that only this batch knows.
    pub fn definition(&self, name: &str) -> Option<&MetricDefinition> {
        self.learned.get(name).or_else(|| self.metrics.get(name))
    }

    /// Takes over a definition.
    pub fn learn(&mut self, name: &str, definition: MetricDefinition) {
        match self.metrics.get_mut(name) {
            Some(new) => *new = definition,
            None => {
                self.learned.insert(name.to_owned(), definition);
            }
        }
    }
}
