//! Recent points per second, and rejects by reason.

pub mod tail;

use std::collections::{BTreeMap, VecDeque};

use fenetre_core::{
    model::Cause,
    time::{Nanos, SECOND},
};
use fenetre_formats::Tally;
use parking_lot::Mutex;

/// How far back is counted.
pub const SECONDS_KEPT: i64 = 600;

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

/// Counts of the last ten minutes, and refusals since the start.
#[derive(Debug, Default)]
pub struct Arrivals {
    seconds: Mutex<VecDeque<Second>>,
    causes: Mutex<BTreeMap<Cause, Refused>>,
}

/// Rejects of one reason.
#[derive(Clone, Debug, Default)]
pub struct Refused {
    /// Points and rows.
    pub count: u64,
    /// The dataset that the latest was meant for.
    pub dataset: String,
    /// When it came, in seconds since the epoch.
    pub second: i64,
    /// Its line, field and reason.
    pub example: String,
}

impl Arrivals {
    /// Counts arrivals at an instant.
    pub fn count(&self, now: Nanos, accepted: u64, rejected: u64) {
        let second = now.div_euclid(SECOND);
        let mut seconds = self.seconds.lock();
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

    /// Counts the rejects of a body, by reason.
    pub fn refused(&self, now: Nanos, dataset: &str, tally: &Tally) {
        if tally.causes.is_empty() {
            return;
        }
        let mut causes = self.causes.lock();
        for (cause, count) in &tally.causes {
            let known = causes.entry(*cause).or_default();
            known.count += count;
            known.dataset = dataset.to_owned();
            known.second = now.div_euclid(SECOND);
            if let Some(reject) = tally.rejects.iter().rfind(|reject| reject.cause == *cause) {
                known.example = format!("{}: {}", reject.place(), reject.reason);
            }
        }
    }

    /// Each reason that there was.
    pub fn causes(&self) -> Vec<(Cause, Refused)> {
        self.causes.lock().iter().map(|(cause, refused)| (*cause, refused.clone())).collect()
    }

    /// Points taken a second, over so many whole seconds before `now`.
    pub fn rate(&self, now: Nanos, seconds: i64) -> f64 {
        let end = now.div_euclid(SECOND);
        let taken: u64 =
            self.seconds.lock().iter().filter(|counted| (end - seconds..end).contains(&counted.second)).map(|counted| counted.accepted).sum();
        taken as f64 / seconds as f64
    }

    /// Sums over steps of `width` seconds that end with the last whole one before `now`, oldest first.
    pub fn steps(&self, now: Nanos, width: i64) -> Vec<Second> {
        let end = now.div_euclid(SECOND).div_euclid(width) * width;
        let start = end - SECONDS_KEPT;
        let mut steps: Vec<Second> = (start..end).step_by(width as usize).map(|second| Second { second, ..Second::default() }).collect();
        for counted in self.seconds.lock().iter().filter(|counted| (start..end).contains(&counted.second)) {
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
    fn refusals_are_counted_by_reason_with_the_latest_as_an_example() {
        let arrivals = Arrivals::default();
        for line in 1..4 {
            let mut tally = Tally::default();
            tally.refuse(line, fenetre_core::model::Refusal::of(Cause::Limit, "tags", "too many"));
            tally.reject(line, None, "not JSON");
            arrivals.refused(line as i64 * SECOND, "velmar", &tally);
        }
        arrivals.refused(9 * SECOND, "main", &Tally::default());
        let counted: Vec<_> = arrivals.causes().into_iter().map(|(cause, refused)| (cause, refused.count, refused.second, refused.example)).collect();
        assert_eq!(counted, [(Cause::Unreadable, 3, 3, "line 3: not JSON".to_owned()), (Cause::Limit, 3, 3, "line 3, tags: too many".to_owned())]);
    }

    #[test]
    fn old_seconds_are_forgotten_and_steps_add_up() {
        let arrivals = Arrivals::default();
        for second in 0..2_000 {
            arrivals.count(second * SECOND, 3, 1);
        }
        arrivals.count(1_990 * SECOND, 5, 0);
        assert!(arrivals.seconds.lock().len() as i64 <= SECONDS_KEPT);
        let steps = arrivals.steps(2_005 * SECOND, 10);
        assert_eq!(steps.len(), 60);
        assert_eq!(steps[59], Second { second: 1_990, accepted: 35, rejected: 10 });
        assert!((arrivals.rate(1_995 * SECOND, 10) - 3.0).abs() < 1e-9);
    }
}
