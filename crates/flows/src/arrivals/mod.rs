//! Recent points per second, by dataset and by sender, and rejects by reason.

mod seconds;
pub mod sender;
pub mod tail;

use std::collections::{BTreeMap, HashMap};

use fenetre_core::{
    model::Cause,
    time::{Nanos, SECOND},
};
use fenetre_formats::Tally;
use parking_lot::Mutex;

pub use self::seconds::{Second, Seconds};
use self::sender::{Refused, Sender, Sent};

/// How far back is counted.
pub const SECONDS_KEPT: i64 = 600;

/// Arrivals of the last ten minutes by dataset, and counts since the start by dataset and sender.
#[derive(Debug, Default)]
pub struct Arrivals {
    seconds: Mutex<HashMap<String, Seconds<SECONDS_KEPT>>>,
    senders: Mutex<BTreeMap<(String, Sender), Sent>>,
}

/// Maximum number of senders. If there are more, the one that has been silent longest is removed.
const MAX_SENDERS: usize = 10_000;

impl Arrivals {
    /// Counts arrivals at an instant, and the rejects among them by reason.
    pub fn count(&self, now: Nanos, dataset: &str, sender: &Sender, tally: &Tally) {
        self.count_sender(now, dataset, sender, tally);
        let mut datasets = self.seconds.lock();
        if !datasets.contains_key(dataset) {
            datasets.insert(dataset.to_owned(), Seconds::default());
        }
        datasets.get_mut(dataset).into_iter().for_each(|seconds| seconds.count(now, tally.accepted, tally.rejected));
    }

    fn count_sender(&self, now: Nanos, dataset: &str, sender: &Sender, tally: &Tally) {
        let key = (dataset.to_owned(), sender.clone());
        let mut senders = self.senders.lock();
        if senders.len() >= MAX_SENDERS && !senders.contains_key(&key) {
            let quietest = senders.iter().min_by_key(|(_, sent)| sent.last()).map(|(key, _)| key.clone());
            quietest.iter().for_each(|key| drop(senders.remove(key)));
        }
        senders.entry(key).or_default().count(now, tally);
    }

    /// Counts of each dataset and sender since the start.
    pub fn senders(&self) -> BTreeMap<(String, Sender), Sent> {
        self.senders.lock().clone()
    }

    /// Counts of one dataset and sender since the start.
    pub fn sent(&self, dataset: &str, sender: &Sender) -> Sent {
        self.senders.lock().get(&(dataset.to_owned(), sender.clone())).cloned().unwrap_or_default()
    }

    /// Each reason that there was for some datasets, with the dataset of the latest.
    pub fn causes(&self, is_seen: impl Fn(&str) -> bool) -> Vec<(Cause, String, Refused)> {
        let mut sums: BTreeMap<Cause, (String, Refused)> = BTreeMap::new();
        let senders = self.senders.lock();
        let seen = senders.iter().filter(|((dataset, _), _)| is_seen(dataset));
        for (dataset, (cause, refused)) in seen.flat_map(|((dataset, _), sent)| sent.causes.iter().map(move |of_cause| (dataset, of_cause))) {
            let (latest, sum) = sums.entry(*cause).or_default();
            let count = sum.count + refused.count;
            if refused.second >= sum.second {
                (*latest, *sum) = (dataset.clone(), refused.clone());
            }
            sum.count = count;
        }
        sums.into_iter().map(|(cause, (dataset, refused))| (cause, dataset, refused)).collect()
    }

    /// Accepted points per second of some datasets, over a number of whole seconds before `now`.
    pub fn rate(&self, datasets: &[&str], now: Nanos, seconds: i64) -> f64 {
        let end = now.div_euclid(SECOND);
        let counted = self.seconds.lock();
        let all = datasets.iter().filter_map(|dataset| counted.get(*dataset));
        let taken: u64 = all.flat_map(|of_dataset| of_dataset.of(end - seconds..end)).map(|counted| counted.accepted).sum();
        taken as f64 / seconds as f64
    }

    /// Sums of some datasets over steps of `width` seconds that end with the last whole one before `now`, oldest first.
    pub fn steps(&self, datasets: &[&str], now: Nanos, width: i64) -> Vec<Second> {
        let end = now.div_euclid(SECOND).div_euclid(width) * width;
        let start = end - SECONDS_KEPT;
        let mut steps: Vec<Second> = (start..end).step_by(width as usize).map(|second| Second { second, ..Second::default() }).collect();
        let seconds = self.seconds.lock();
        let all = datasets.iter().filter_map(|dataset| seconds.get(*dataset));
        for counted in all.flat_map(|of_dataset| of_dataset.of(start..end)) {
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

    fn tally(accepted: u64, rejected: u64) -> Tally {
        let mut tally = Tally::default();
        (tally.accepted, tally.rejected) = (accepted, rejected);
        tally
    }

    #[test]
    fn refusals_are_counted_by_reason_with_the_latest_as_an_example() {
        let arrivals = Arrivals::default();
        for line in 1..4 {
            let mut tally = Tally::default();
            tally.refuse(line, fenetre_core::model::Refusal::of(Cause::Limit, "tags", "too many"));
            tally.reject(line, None, "not JSON");
            arrivals.count(line as i64 * SECOND, "velmar", &Sender::Source(format!("s{}", line % 2)), &tally);
        }
        arrivals.count(9 * SECOND, "main", &Sender::Import, &Tally::default());
        let counted: Vec<_> =
            arrivals.causes(|_| true).into_iter().map(|(cause, _, refused)| (cause, refused.count, refused.second, refused.example)).collect();
        assert_eq!(counted, [(Cause::Unreadable, 3, 3, "line 3: not JSON".to_owned()), (Cause::Limit, 3, 3, "line 3, tags: too many".to_owned())]);
    }

    #[test]
    fn old_seconds_are_forgotten_and_steps_add_up() {
        let arrivals = Arrivals::default();
        for second in 0..2_000 {
            arrivals.count(second * SECOND, "velmar", &Sender::Import, &tally(3, 1));
        }
        arrivals.count(1_990 * SECOND, "velmar", &Sender::Source("clerk".to_owned()), &tally(5, 0));
        assert!(arrivals.seconds.lock()["velmar"].of(0..i64::MAX).count() as i64 <= SECONDS_KEPT);
        let steps = arrivals.steps(&["velmar"], 2_005 * SECOND, 10);
        assert_eq!(steps.len(), 60);
        assert_eq!(steps[59], Second { second: 1_990, accepted: 35, rejected: 10 });
        assert!((arrivals.rate(&["velmar"], 1_995 * SECOND, 10) - 3.0).abs() < 1e-9);
        assert!(arrivals.rate(&["main"], 1_995 * SECOND, 10).abs() < 1e-9);
    }
}
