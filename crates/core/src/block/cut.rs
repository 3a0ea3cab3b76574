//! Where a series' points are cut into blocks.
//!
//! Windows mostly begin at whole hours and days, and a block that lies inside one window is answered by its summary alone. So blocks
//! end at midnights UTC where a day has enough points to fill one, and hold several whole days where it has not.

use std::ops::Range;

use crate::time::{Nanos, SECOND};

/// The most points of a block that a writer makes.
pub const BLOCK_POINTS: usize = 2_048;
/// From so many points on, a day has blocks of its own.
const OWN_DAY: usize = BLOCK_POINTS / 4;
const DAY: Nanos = 86_400 * SECOND;

/// Cuts points, which are in order of time, into blocks.
pub fn cut(times: &[Nanos]) -> Vec<Range<usize>> {
    let mut blocks = Vec::new();
    // Days too small for blocks of their own, waiting for company.
    let mut waiting = 0..0;
    let mut day = 0;
    while day < times.len() {
        let midnight = times[day].div_euclid(DAY).saturating_add(1).saturating_mul(DAY);
        let end = day + times[day..].partition_point(|at| *at < midnight).max(1);
        if waiting.len() + (end - day) > BLOCK_POINTS || (end - day >= OWN_DAY && !waiting.is_empty()) {
            blocks.extend(Some(std::mem::replace(&mut waiting, day..day)).filter(|days| !days.is_empty()));
        }
        if end - day >= OWN_DAY {
            let parts = (end - day).div_ceil(BLOCK_POINTS);
            blocks.extend((0..parts).map(|part| day + (end - day) * part / parts..day + (end - day) * (part + 1) / parts));
            waiting = end..end;
        } else {
            waiting.end = end;
        }
        day = end;
    }
    blocks.extend(Some(waiting).filter(|days| !days.is_empty()));
    blocks
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn lengths(step: Nanos, count: usize) -> Vec<usize> {
        let times: Vec<Nanos> = (0..count as i64).map(|i| i * step).collect();
        cut(&times).into_iter().map(|block| block.len()).collect()
    }

    #[test]
    fn days_that_fill_a_block_get_their_own_span() {
        assert_eq!(lengths(60 * SECOND, 3_000), [1_440, 1_440, 120]);
        assert_eq!(lengths(30 * SECOND, 2_880), [1_440, 1_440]);
        assert_eq!(lengths(300 * SECOND, 288 * 8), [2_016, 288]);
        assert_eq!(lengths(7 * DAY, 3), [3]);
        assert_eq!(cut(&[Nanos::MIN, 0, Nanos::MAX]), vec![0..3]);
    }

    proptest! {
        #[test]
        fn blocks_tile_the_points(steps in prop::collection::vec(1..400 * SECOND, 0..6_000)) {
            let mut at = 0;
            let times: Vec<Nanos> = steps.iter().map(|step| { at += step; at }).collect();
            let mut next = 0;
            for block in cut(&times) {
                prop_assert!(block.start == next && !block.is_empty() && block.len() <= BLOCK_POINTS);
                next = block.end;
            }
            prop_assert_eq!(next, times.len());
        }
    }
}
