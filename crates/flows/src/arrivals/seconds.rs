//! Counts per second over a recent period.

use std::{collections::VecDeque, ops::Range};

use fenetre_core::time::{Nanos, SECOND};

/// Arrivals of one second.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Second {
    /// Seconds since the epoch.
    pub second: i64,
    /// Accepted points.
    pub accepted: u64,
    /// Rejected points and rows.
    pub rejected: u64,
}

/// Counts of the last `KEPT` seconds.
#[derive(Clone, Debug, Default)]
pub struct Seconds<const KEPT: i64>(VecDeque<Second>);

impl<const KEPT: i64> Seconds<KEPT> {
    /// Counts arrivals. If the clock steps back, they are counted in the latest second.
    pub fn count(&mut self, now: Nanos, accepted: u64, rejected: u64) {
        let second = now.div_euclid(SECOND);
        match self.0.back_mut() {
            Some(last) if last.second >= second => {
                last.accepted += accepted;
                last.rejected += rejected;
            }
            _ => self.0.push_back(Second { second, accepted, rejected }),
        }
        while self.0.front().is_some_and(|first| first.second <= second - KEPT) {
            self.0.pop_front();
        }
    }

    /// The counts of a range of seconds since the epoch, oldest first.
    pub fn of(&self, range: Range<i64>) -> impl Iterator<Item = &Second> {
        self.0.iter().filter(move |counted| range.contains(&counted.second))
    }
}
