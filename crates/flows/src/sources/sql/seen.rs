//! Rows that were stored already. The overlap reads them again, and they need not be stored again unless they have changed.

use std::{
    collections::HashSet,
    hash::{BuildHasher, RandomState},
};

use fenetre_formats::mapping::Cell;

/// Rows that are remembered.
const MAX_ROWS: usize = 1_000_000;

/// Fingerprints of rows.
#[derive(Default)]
pub struct Seen {
    before: HashSet<u128>,
    now: HashSet<u128>,
    states: (RandomState, RandomState),
}

impl Seen {
    /// The fingerprint of a row: 128 bits, so that a changed row never looks like another one.
    pub fn fingerprint(&self, cells: &[Cell<'_>]) -> u128 {
        let half = |state: &RandomState| {
            let mut hasher = state.build_hasher();
            cells.iter().for_each(|cell| hash(cell, &mut hasher));
            std::hash::Hasher::finish(&hasher)
        };
        (u128::from(half(&self.states.0)) << 64) | u128::from(half(&self.states.1))
    }

    /// Whether a row was stored before.
    pub fn contains(&mut self, row: u128) -> bool {
        let is_known = self.before.contains(&row) || self.now.contains(&row);
        if is_known {
            self.now.insert(row);
        }
        is_known
    }

    /// Remembers rows that were stored.
    pub fn add(&mut self, rows: impl Iterator<Item = u128>) {
        for row in rows {
            if self.now.len() >= MAX_ROWS {
                // Rows come in the order of their times, and the next round needs the latest.
                self.before = std::mem::take(&mut self.now);
            }
            self.now.insert(row);
        }
    }

    /// Ends a round that read everything: what it did not meet will not be met again.
    pub fn end_round(&mut self) {
        self.before = std::mem::take(&mut self.now);
    }
}

fn hash(cell: &Cell<'_>, hasher: &mut impl std::hash::Hasher) {
    use std::hash::Hash;

    match cell {
        Cell::Empty => 0_u8.hash(hasher),
        Cell::Text(text) => (1_u8, text).hash(hasher),
        Cell::Number(number) => (2_u8, number.to_bits()).hash(hasher),
        Cell::Integer(integer) => (3_u8, integer).hash(hasher),
        Cell::Bool(truth) => (4_u8, truth).hash(hasher),
        Cell::Time(at) => (5_u8, at).hash(hasher),
        Cell::LocalTime(wall) => (6_u8, wall).hash(hasher),
        Cell::Unusable(what) => (7_u8, what).hash(hasher),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_are_remembered_until_a_round_does_not_meet_them() {
        let mut seen = Seen::default();
        let rows: Vec<u128> = (0..3).map(|number| seen.fingerprint(&[Cell::Time(1), Cell::Integer(number)])).collect();
        assert_ne!(rows[0], seen.fingerprint(&[Cell::Time(1), Cell::Number(0.0)]));
        assert!(!seen.contains(rows[0]));
        seen.add(rows.iter().copied());
        seen.end_round();
        assert!(seen.contains(rows[1]) && seen.contains(rows[2]));
        seen.end_round();
        assert!(!seen.contains(rows[0]) && seen.contains(rows[2]));
    }
}
