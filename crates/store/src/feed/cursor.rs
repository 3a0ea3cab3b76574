//! The cursor of a reader.

use fenetre_core::{
    model::DatasetId,
    time::{Nanos, TimeRange},
};
use serde::{Deserialize, Serialize};

use super::Position;
use crate::catalogue::documents::{Document, DocumentKind};

/// Maximum number of gaps of a cursor. If there are more, the two gaps that are closest in time are merged.
const MAX_GAPS: usize = 100;

/// Position of a reader, and its gaps.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Cursor {
    /// All batches up to here are handled.
    pub position: Position,
    /// Time ranges that the reader must read from partitions.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub gaps: Vec<Gap>,
    /// The part of a gap that the reader is reading. Further gaps are not merged with it, because the reader may have passed their time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub under_way: Option<Gap>,
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

    /// Its time range.
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
    /// Adds a gap. Gaps that overlap or touch are merged.
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
                // There is one gap per dataset: none can be merged.
                others.insert(nearest + 1, next);
                break;
            }
        }
        self.gaps = others;
    }
}

impl Cursor {
    /// The part of a gap to read next, which is at most `most` nanoseconds long and before an instant: the one that is under way, or the start of
    /// the first gap.
    pub fn take(&mut self, most: Nanos, before: Nanos) -> Option<Gap> {
        if self.under_way.is_none()
            && let Some(place) = self.gaps.iter().position(|gap| gap.first < before)
        {
            let gap = &mut self.gaps[place];
            let last = gap.last.min(gap.first.saturating_add(most - 1)).min(before - 1);
            self.under_way = Some(Gap { last, ..*gap });
            if last == gap.last {
                self.gaps.remove(place);
            } else {
                gap.first = last + 1;
            }
        }
        self.under_way
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

    #[test]
    fn a_gap_is_taken_in_parts_and_stays_under_way_until_it_is_finished() {
        let gap = |first, last| Gap { dataset: 1, first, last };
        let mut cursor = Cursor::default();
        cursor.add(gap(0, 99));
        assert_eq!((cursor.take(60, Nanos::MAX), cursor.take(60, Nanos::MAX)), (Some(gap(0, 59)), Some(gap(0, 59))));
        // Points that are missed in between are read again.
        cursor.add(gap(10, 20));
        cursor.under_way = None;
        assert_eq!(cursor.take(60, Nanos::MAX), Some(gap(10, 20)));
        cursor.under_way = None;
        // Only what is before the instant is taken.
        assert_eq!(cursor.take(60, 60), None);
        assert_eq!(cursor.take(60, 70), Some(gap(60, 69)));
        cursor.under_way = None;
        assert_eq!(cursor.take(60, Nanos::MAX), Some(gap(70, 99)));
        cursor.under_way = None;
        assert_eq!((cursor.take(60, Nanos::MAX), cursor.gaps.len()), (None, 0));
    }
}
