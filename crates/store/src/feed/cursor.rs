//! Where a reader of the feed is.

use fenetre_core::{
    model::DatasetId,
    time::{Nanos, TimeRange},
};
use serde::{Deserialize, Serialize};

use super::Position;
use crate::catalogue::documents::{Document, DocumentKind};

/// Gaps of one reader. Beyond it, the two that are nearest to each other become one.
const MAX_GAPS: usize = 100;

/// Where a reader is, and what it has to read from partitions.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Cursor {
    /// Everything up to here was handled.
    pub position: Position,
    /// Time ranges with points that are no longer in the journal.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub gaps: Vec<Gap>,
}

/// A time range of a dataset.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Gap {
    /// Id of the dataset.
    pub dataset: u32,
    /// First instant.
    pub first: Nanos,
    /// Last instant.
    pub last: Nanos,
}

impl Document for Cursor {
    const KIND: DocumentKind = DocumentKind::FeedCursor;
}

impl Gap {
    /// Its dataset.
    pub fn dataset(self) -> DatasetId {
        DatasetId(self.dataset)
    }

    /// Its instants.
    pub fn range(self) -> TimeRange {
        TimeRange { start: self.first, end: self.last.saturating_add(1) }
    }

    fn meets(self, other: Self) -> bool {
        self.dataset == other.dataset && self.first <= other.last.saturating_add(1) && other.first <= self.last.saturating_add(1)
    }

    fn with(self, other: Self) -> Self {
        Self { dataset: self.dataset, first: self.first.min(other.first), last: self.last.max(other.last) }
    }
}

impl Cursor {
    /// Adds a gap; gaps that meet become one.
    pub fn add(&mut self, gap: Gap) {
        let (meeting, mut others): (Vec<Gap>, Vec<Gap>) = self.gaps.iter().partition(|other| other.meets(gap));
        others.push(meeting.into_iter().fold(gap, Gap::with));
        others.sort_unstable();
        while others.len() > MAX_GAPS {
            let distance = |at: usize| match (others[at], others[at + 1]) {
                (one, next) if one.dataset == next.dataset => next.first.saturating_sub(one.last),
                _ => Nanos::MAX,
            };
            let Some(nearest) = (0..others.len() - 1).min_by_key(|at| distance(*at)) else { break };
            let next = others.remove(nearest + 1);
            if others[nearest].dataset == next.dataset {
                others[nearest] = others[nearest].with(next);
            } else {
                // More datasets than gaps: all of them stay.
                others.insert(nearest + 1, next);
                break;
            }
        }
        self.gaps = others;
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_added_instant_stays_in_a_gap(added in prop::collection::vec((0u32..3, 0i64..10_000, 0i64..20), 1..400)) {
            let mut cursor = Cursor::default();
            for (dataset, first, length) in &added {
                cursor.add(Gap { dataset: *dataset, first: *first, last: first + length });
            }
            prop_assert!(cursor.gaps.len() <= MAX_GAPS);
            for (dataset, first, length) in added {
                let holds = |gap: &Gap| gap.dataset == dataset && gap.first <= first && first + length <= gap.last;
                prop_assert!(cursor.gaps.iter().any(holds));
            }
            prop_assert!(cursor.gaps.is_sorted());
            let apart = |pair: &[Gap]| !pair[0].meets(pair[1]);
            prop_assert!(cursor.gaps.windows(2).all(apart));
        }
    }
}
