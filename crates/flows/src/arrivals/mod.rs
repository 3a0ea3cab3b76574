//! Recent points per second, by dataset and by sender, and rejects by reason.

pub mod sender;
pub mod tail;

use std::collections::{BTreeMap, HashMap, VecDeque};

use fenetre_core::{
    model::Cause,
    time::{Nanos, SECOND},
};
use fenetre_formats::Tally;
use parking_lot::Mutex;

use self::sender::{Sender, Sent};

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

/// Counts of the last ten minutes, and refusals since the start, by dataset.
#[derive(Debug, Default)]
pub struct Arrivals {
    seconds: Mutex<HashMap<String, VecDeque<Second>>>,
    causes: Mutex<BTreeMap<(String, Sender, Cause), Refused>>,
    senders: Mutex<BTreeMap<(String, Sender), Sent>>,
}

/// Senders that are told apart. The one that was silent longest is forgotten for a new one.
const MAX_SENDERS: usize = 10_000;

/// Rejects of one reason.
#[derive(Clone, Debug, Default)]
pub struct Refused {
    /// Points and rows.
    pub count: u64,
    /// When it came, in seconds since the epoch.
    pub second: i64,
    /// Its line, field and reason.
    pub example: String,
}

impl Arrivals {
    /// Counts arrivals at an instant, and the rejects among them by reason.
    pub fn count(&self, now: Nanos, dataset: &str, sender: &Sender, tally: &Tally) {
        self.count_sender(now, dataset, sender, tally);
        self.count_second(now, dataset, tally.accepted, tally.rejected);
        self.count_causes(now, dataset, sender, tally);
    }

    fn count_sender(&self, now: Nanos, dataset: &str, sender: &Sender, tally: &Tally) {
        let key = (dataset.to_owned(), sender.clone());
        let mut senders = self.senders.lock();
        if senders.len() >= MAX_SENDERS && !senders.contains_key(&key) {
            let quietest = senders.iter().min_by_key(|(_, sent)| sent.last()).map(|(key, _)| key.clone());
            quietest.iter().for_each(|key| drop(senders.remove(key)));
        }
        senders.entry(key).or_default().count(now, tally.accepted, tally.rejected);
    }

    fn count_second(&self, now: Nanos, dataset: &str, accepted: u64, rejected: u64) {
        let second = now.div_euclid(SECOND);
        let mut datasets = self.seconds.lock();
        if !datasets.contains_key(dataset) {
            datasets.insert(dataset.to_owned(), VecDeque::new());
        }
        let Some(seconds) = datasets.get_mut(dataset) else { return };
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

    fn count_causes(&self, now: Nanos, dataset: &str, sender: &Sender, tally: &Tally) {
        if tally.causes.is_empty() {
            return;
        }
        let mut causes = self.causes.lock();
        for (cause, count) in &tally.causes {
            let known = causes.entry((dataset.to_owned(), sender.clone(), *cause)).or_default();
            known.count += count;
            known.second = now.div_euclid(SECOND);
            if let Some(reject) = tally.rejects.iter().rfind(|reject| reject.cause == *cause) {
                known.example = format!("{}: {}", reject.place(), reject.reason);
            }
        }
    }

    /// What each sender sent since the start, by dataset.
    pub fn senders(&self) -> BTreeMap<(String, Sender), Sent> {
        self.senders.lock().clone()
    }

    /// What a sender sent to a dataset since the start.
    pub fn sent(&self, dataset: &str, sender: &Sender) -> Sent {
        self.senders.lock().get(&(dataset.to_owned(), sender.clone())).cloned().unwrap_or_default()
    }

    /// Rejected points and rows since the start, by dataset, sender and reason.
    pub fn rejected(&self) -> BTreeMap<(String, Sender, Cause), u64> {
        self.causes.lock().iter().map(|(key, refused)| (key.clone(), refused.count)).collect()
    }

    /// Each reason that there was for some datasets, with the dataset of the latest.
    pub fn causes(&self, is_seen: impl Fn(&str) -> bool) -> Vec<(Cause, String, Refused)> {
        let mut sums: BTreeMap<Cause, (String, Refused)> = BTreeMap::new();
        for ((dataset, _, cause), refused) in self.causes.lock().iter().filter(|((dataset, ..), _)| is_seen(dataset)) {
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
        let all = datasets.iter().filter_map(|dataset| counted.get(*dataset)).flatten();
        let taken: u64 = all.filter(|counted| (end - seconds..end).contains(&counted.second)).map(|counted| counted.accepted).sum();
        taken as f64 / seconds as f64
    }

    /// Sums of some datasets over steps of `width` seconds that end with the last whole one before `now`, oldest first.
    pub fn steps(&self, datasets: &[&str], now: Nanos, width: i64) -> Vec<Second> {
        let end = now.div_euclid(SECOND).div_euclid(width) * width;
        let start = end - SECONDS_KEPT;
        let mut steps: Vec<Second> = (start..end).step_by(width as usize).map(|second| Second { second, ..Second::default() }).collect();
        let seconds = self.seconds.lock();
        let all = datasets.iter().filter_map(|dataset| seconds.get(*dataset)).flatten();
        for counted in all.filter(|counted| (start..end).contains(&counted.second)) {
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
        assert!(arrivals.seconds.lock()["velmar"].len() as i64 <= SECONDS_KEPT);
        let steps = arrivals.steps(&["velmar"], 2_005 * SECOND, 10);
        assert_eq!(steps.len(), 60);
        assert_eq!(steps[59], Second { second: 1_990, accepted: 35, rejected: 10 });
        assert!((arrivals.rate(&["velmar"], 1_995 * SECOND, 10) - 3.0).abs() < 1e-9);
        assert!(arrivals.rate(&["main"], 1_995 * SECOND, 10).abs() < 1e-9);
    }
}
