//! Points a second, lately: what came in, counted where it is acknowledged.

use std::collections::VecDeque;

use fenetre_core::time::{Nanos, SECOND};
use parking_lot::Mutex;

/// How far back is counted.
pub const SECONDS_KEPT: i64 = 600;

/// What came in one second.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Second {
    /// Seconds since the epoch.
    pub second: i64,
    /// Points taken.
    pub accepted: u64,
    /// Points and rows refused.
    pub rejected: u64,
}

/// Counts of the last ten minutes.
#[derive(Debug, Default)]
pub struct Arrivals(Mutex<VecDeque<Second>>);

impl Arrivals {
    /// Counts what came at an instant.
    pub fn count(&self, now: Nanos, accepted: u64, rejected: u64) {
        let second = now.div_euclid(SECOND);
        let mut seconds = self.0.lock();
        match seconds.back_mut() {
            // A clock that steps back counts into the latest second.
            Some(last) if last.second >= second => {
                last.accepted += accepted;
                last.rejected += rejected;
            }
            _ => seconds.push_back(Second { second, accepted, rejected }),
        }
        while seconds.front().is_some_and(|first| first.second <= second - SECONDS_KEPT) {
            seconds.pop_front();
        }
    }

    /// Points taken a second, over so many whole seconds before `now`.
    pub fn rate(&self, now: Nanos, seconds: i64) -> f64 {
        let end = now.div_euclid(SECOND);
        let taken: u64 = self.0.lock().iter().filter(|counted| (end - seconds..end).contains(&counted.second)).map(|counted| counted.accepted).sum();
        taken as f64 / seconds as f64
    }

    /// Sums over steps of `width` seconds that end with the last whole one before `now`, oldest first.
    pub fn steps(&self, now: Nanos, width: i64) -> Vec<Second> {
        let end = now.div_euclid(SECOND).div_euclid(width) * width;
        let start = end - SECONDS_KEPT;
        let mut steps: Vec<Second> = (start..end).step_by(width as usize).map(|second| Second { second, ..Second::default() }).collect();
        for counted in self.0.lock().iter().filter(|counted| (start..end).contains(&counted.second)) {
            let step = &mut steps[((counted.second - start) / width) as usize];
            step.accepted += counted.accepted;
            step.rejected += counted.rejected;
        }
        steps
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn old_seconds_are_forgotten_and_steps_add_up() {
        let arrivals = Arrivals::default();
        for second in 0..2_000 {
            arrivals.count(second * SECOND, 3, 1);
        }
        arrivals.count(1_990 * SECOND, 5, 0);
        assert!(arrivals.0.lock().len() as i64 <= SECONDS_KEPT);
        let steps = arrivals.steps(2_005 * SECOND, 10);
        assert_eq!(steps.len(), 60);
        assert_eq!(steps[59], Second { second: 1_990, accepted: 35, rejected: 10 });
        assert!((arrivals.rate(1_995 * SECOND, 10) - 3.0).abs() < 1e-9);
    }
}
