//! What must go. A dataset's points go by whole partitions, a metric's own by a rewrite; past a limit by size the bin is emptied first, then
//! the oldest go, and these do not stay in the bin, which counts as stored.

use crate::{
    model::{DatasetId, MetricId},
    time::Nanos,
};

/// Why something goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// Older than is kept.
    Age,
    /// More than the size limit of a dataset or metric.
    Size,
    /// More than the size limit of the store.
    StoreSize,
    /// The reserve of the volume would be touched.
    Reserve,
}

impl Why {
    /// Text for people.
    pub fn describe(self) -> &'static str {
        match self {
            Self::Age => "older than keep_for",
            Self::Size => "past keep_under",
            Self::StoreSize => "past the store's keep_under",
            Self::Reserve => "to keep the volume's reserve free",
        }
    }
}

/// Space on the volume, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Volume {
    /// All of it.
    pub total: u64,
    /// Free.
    pub free: u64,
    /// What must stay free.
    pub reserve: u64,
}

/// One partition.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PartitionHolding {
    /// First instant of its span.
    pub start: Nanos,
    /// Last instant of its span.
    pub last: Nanos,
    /// Bytes of its file.
    pub bytes: u64,
}

/// A metric with a limit of its own.
#[derive(Clone, Debug, PartialEq)]
pub struct MetricHolding {
    /// Which.
    pub id: MetricId,
    /// Points before this are older than it is kept, where it has such a limit that is narrower than its dataset's.
    pub horizon: Option<Nanos>,
    /// Its size limit.
    pub keep_under: Option<u64>,
    /// Its bytes in each of the dataset's partitions, and its earliest point there.
    pub partitions: Vec<(u64, Option<Nanos>)>,
}

/// An item in the bin.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BinHolding {
    /// Its id.
    pub id: String,
    /// Bytes of its files.
    pub bytes: u64,
}

/// A dataset and its limits.
#[derive(Clone, Debug, PartialEq)]
pub struct DatasetHolding {
    /// Which.
    pub id: DatasetId,
    /// Partitions that end before this are older than it is kept.
    pub horizon: Option<Nanos>,
    /// Its size limit.
    pub keep_under: Option<u64>,
    /// Partitions that end before this are covered by rollups, if there are policies; later ones are not dropped by age yet.
    pub rolled_before: Option<Nanos>,
    /// Oldest first.
    pub partitions: Vec<PartitionHolding>,
    /// Bytes beside partitions and bin: rollups.
    pub others: u64,
    /// Oldest first.
    pub bin: Vec<BinHolding>,
    /// Metrics with limits of their own.
    pub metrics: Vec<MetricHolding>,
}

impl DatasetHolding {
    fn bytes(&self) -> u64 {
        self.others + self.partitions.iter().map(|partition| partition.bytes).sum::<u64>() + self.bin.iter().map(|item| item.bytes).sum::<u64>()
    }
}

/// A store and its limits.
#[derive(Clone, Debug, PartialEq)]
pub struct StoreHolding {
    /// Its datasets.
    pub datasets: Vec<DatasetHolding>,
    /// Bytes of catalogue and journal.
    pub others: u64,
    /// Its size limit.
    pub keep_under: Option<u64>,
    /// Its volume, if it is known.
    pub volume: Option<Volume>,
}

/// One thing to do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// Erase something of the bin before its time.
    EmptyBin {
        /// What.
        id: String,
        /// Bytes.
        bytes: u64,
        /// Why.
        why: Why,
    },
    /// Drop a partition.
    Drop {
        /// Its dataset.
        dataset: DatasetId,
        /// Which.
        partition: PartitionHolding,
        /// Why.
        why: Why,
        /// Whether it is erased at once, without the bin.
        for_good: bool,
    },
    /// Take a metric's points of before an instant out of partitions that stay.
    Trim {
        /// Its dataset.
        dataset: DatasetId,
        /// Which metric.
        metric: MetricId,
        /// End of the range (exclusive).
        before: Nanos,
        /// Bytes, about.
        bytes: u64,
        /// Why.
        why: Why,
    },
}

/// What must go, in order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Expiry {
    /// The steps.
    pub steps: Vec<Step>,
    /// The reserve is touched, and nothing is left that could go: no more points can be taken.
    pub is_full: bool,
    /// Partitions that are old enough to go, and stay until windows of rollups tell of them.
    pub waiting: usize,
}

/// A rewrite is worth it once a day of points is to go.
const DAY: Nanos = 86_400_000_000_000;

impl Expiry {
    /// What must go of what is held. `now` tells which partition is still written into: that one stays.
    pub fn plan(held: &StoreHolding, now: Nanos) -> Self {
        let mut plan = Planning { steps: Vec::new(), held: held.clone(), dropped: vec![Vec::new(); held.datasets.len()], waiting: 0 };
        for dataset in 0..held.datasets.len() {
            plan.by_age(dataset, now);
            plan.by_size(dataset, now);
            plan.metrics(dataset);
        }
        plan.whole_store(now);
        let is_full = plan.reserve(now);
        Self { steps: plan.steps, is_full, waiting: plan.waiting }
    }

    /// Bytes that go.
    pub fn bytes(&self) -> u64 {
        let of = |step: &Step| match step {
            Step::EmptyBin { bytes, .. } | Step::Trim { bytes, .. } => *bytes,
            Step::Drop { partition, .. } => partition.bytes,
        };
        self.steps.iter().map(of).sum()
    }
}

struct Planning {
    steps: Vec<Step>,
    /// What is left.
    held: StoreHolding,
    /// Of each dataset, what goes to the bin by this plan, the oldest first.
    dropped: Vec<Vec<PartitionHolding>>,
    waiting: usize,
}

impl Planning {
    fn by_age(&mut self, at: usize, now: Nanos) {
        let dataset = &mut self.held.datasets[at];
        let Some(horizon) = dataset.horizon else { return };
        let rolled = dataset.rolled_before.unwrap_or(Nanos::MAX);
        let (id, all) = (dataset.id, std::mem::take(&mut dataset.partitions));
        let (go, stay): (Vec<_>, Vec<_>) =
            all.into_iter().partition(|partition| partition.last < horizon && partition.last < now && partition.last < rolled);
        self.waiting += stay.iter().filter(|partition| partition.last < horizon && partition.last < now).count();
        dataset.partitions = stay;
        for partition in go {
            self.steps.push(Step::Drop { dataset: id, partition, why: Why::Age, for_good: false });
            self.dropped[at].push(partition);
        }
    }

    /// Bytes of a dataset, those among them that go to the bin by this plan.
    fn bytes(&self, at: usize) -> u64 {
        self.held.datasets[at].bytes() + self.dropped[at].iter().map(|partition| partition.bytes).sum::<u64>()
    }

    /// Expires the oldest partitions of a dataset to free a number of bytes, as far as anything can expire; returns the bytes freed.
    fn lighten(&mut self, at: usize, bytes: u64, why: Why, now: Nanos) -> u64 {
        let (mut gone, dataset) = (0, &mut self.held.datasets[at]);
        while gone < bytes && !dataset.bin.is_empty() {
            let BinHolding { id, bytes } = dataset.bin.remove(0);
            gone += bytes;
            self.steps.push(Step::EmptyBin { id, bytes, why });
        }
        // What goes by age in this plan does not stay in the bin either.
        while gone < bytes && !self.dropped[at].is_empty() {
            let dropped = self.dropped[at].remove(0);
            gone += dropped.bytes;
            self.steps.iter_mut().for_each(|step| match step {
                Step::Drop { dataset: of, partition, for_good, .. } if (*of, partition.start) == (dataset.id, dropped.start) => *for_good = true,
                _ => {}
            });
        }
        while gone < bytes && dataset.partitions.first().is_some_and(|oldest| oldest.last < now) {
            let partition = dataset.partitions.remove(0);
            dataset.metrics.iter_mut().filter(|metric| !metric.partitions.is_empty()).for_each(|metric| {
                metric.partitions.remove(0);
            });
            gone += partition.bytes;
            self.steps.push(Step::Drop { dataset: dataset.id, partition, why, for_good: true });
        }
        gone
    }

    fn by_size(&mut self, at: usize, now: Nanos) {
        let over = self.held.datasets[at].keep_under.map_or(0, |most| self.bytes(at).saturating_sub(most));
        if over > 0 {
            self.lighten(at, over, Why::Size, now);
        }
    }

    fn metrics(&mut self, at: usize) {
        let dataset = &self.held.datasets[at];
        for metric in &dataset.metrics {
            // Where partitions went by age, those that are left are the last.
            let gone = metric.partitions.len().saturating_sub(dataset.partitions.len());
            let parts = || dataset.partitions.iter().zip(metric.partitions.iter().skip(gone));
            let trim = |before: Nanos, bytes: u64, why: Why| Step::Trim { dataset: dataset.id, metric: metric.id, before, bytes, why };
            if let Some(horizon) = metric.horizon {
                // By whole days, so that each day is rewritten once.
                let before = horizon - horizon.rem_euclid(DAY);
                let share = |(partition, (bytes, first)): (&PartitionHolding, &(u64, Option<Nanos>))| {
                    let first = first.filter(|first| *first < before)?;
                    let (held, goes) = (partition.last.saturating_sub(first).max(1), before.min(partition.last).saturating_sub(first));
                    Some((*bytes as f64 * goes as f64 / held as f64) as u64)
                };
                let goes: Vec<u64> = parts().filter_map(share).collect();
                // As whole partitions do, they wait until windows tell of them.
                if !goes.is_empty() && dataset.rolled_before.is_none_or(|rolled| before <= rolled) {
                    self.steps.push(trim(before, goes.iter().sum(), Why::Age));
                }
            }
            let all: u64 = parts().map(|(_, (bytes, _))| bytes).sum();
            let over = metric.keep_under.map_or(0, |most| all.saturating_sub(most));
            let (mut gone, mut before) = (0, None);
            for (partition, (bytes, first)) in parts() {
                if gone >= over {
                    break;
                }
                let wanted = over - gone;
                let start = first.unwrap_or(partition.start);
                // Of the last that is touched, by time as much as has to go.
                let share = (wanted as f64 / (*bytes).max(1) as f64).min(1.0);
                let span = partition.last.saturating_sub(start) as f64 * share;
                before = Some(if share >= 1.0 { partition.last.saturating_add(1) } else { start.saturating_add(span as Nanos) });
                gone += wanted.min(*bytes);
            }
            if let Some(before) = before.filter(|_| over > 0) {
                self.steps.push(trim(before, gone, Why::Size));
            }
        }
    }

    /// The dataset with the oldest partition that can go, or with a bin that can be emptied.
    fn oldest(&self, now: Nanos) -> Option<usize> {
        let datasets = || self.held.datasets.iter().enumerate();
        let binned = datasets().find(|(at, dataset)| !dataset.bin.is_empty() || !self.dropped[*at].is_empty()).map(|(at, _)| at);
        let first = |(at, dataset): (usize, &DatasetHolding)| Some((dataset.partitions.first().filter(|oldest| oldest.last < now)?.last, at));
        binned.or_else(|| datasets().filter_map(first).min().map(|(_, at)| at))
    }

    /// Expires the oldest partitions of all datasets to free a number of bytes; returns the bytes freed.
    fn lighten_all(&mut self, bytes: u64, why: Why, now: Nanos) -> u64 {
        let mut gone = 0;
        while gone < bytes {
            let Some(at) = self.oldest(now) else { break };
            let went = self.lighten(at, 1, why, now);
            if went == 0 {
                break;
            }
            gone += went;
        }
        gone
    }

    fn whole_store(&mut self, now: Nanos) {
        let all = self.held.others + (0..self.held.datasets.len()).map(|at| self.bytes(at)).sum::<u64>();
        let over = self.held.keep_under.map_or(0, |most| all.saturating_sub(most));
        if over > 0 {
            self.lighten_all(over, Why::StoreSize, now);
        }
    }

    /// Returns whether the reserve stays touched. What others fill the volume with is not ours to make good: where all that could go would not
    /// bring the reserve back, nothing goes, and no more is taken.
    fn reserve(&mut self, now: Nanos) -> bool {
        let Some(volume) = self.held.volume else { return false };
        let goes_anyway: u64 = self
            .steps
            .iter()
            .filter_map(|step| match step {
                Step::EmptyBin { bytes, .. } => Some(*bytes),
                Step::Drop { partition, for_good: true, .. } => Some(partition.bytes),
                _ => None,
            })
            .sum();
        let missing = volume.reserve.saturating_sub(volume.free.saturating_add(goes_anyway));
        if missing == 0 {
            return false;
        }
        let before = (self.steps.clone(), self.held.clone(), self.dropped.clone());
        if self.lighten_all(missing, Why::Reserve, now) >= missing {
            return false;
        }
        (self.steps, self.held, self.dropped) = before;
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const WEEK: Nanos = 7 * DAY;

    /// A dataset of so many weeks of 100 bytes, the last of which is this one.
    fn weeks(id: u32, count: i64) -> DatasetHolding {
        let partition = |week: i64| PartitionHolding { start: week * WEEK, last: (week + 1) * WEEK - 1, bytes: 100 };
        DatasetHolding {
            id: DatasetId(id),
            horizon: None,
            keep_under: None,
            rolled_before: None,
            partitions: (10 - count..10).map(partition).collect(),
            others: 0,
            bin: Vec::new(),
            metrics: Vec::new(),
        }
    }

    const NOW: Nanos = 9 * WEEK + 3 * DAY;

    fn store(datasets: Vec<DatasetHolding>) -> StoreHolding {
        StoreHolding { datasets, others: 0, keep_under: None, volume: None }
    }

    fn planned(held: &StoreHolding) -> Vec<String> {
        let step = |step: Step| match step {
            Step::EmptyBin { id, why, .. } => format!("empty {id}: {}", why.describe()),
            Step::Drop { dataset, partition, why, for_good } => {
                format!("drop {}/{}: {}{}", dataset.0, partition.start / WEEK, why.describe(), if for_good { ", for good" } else { "" })
            }
            Step::Trim { dataset, metric, before, bytes, why } => {
                format!("trim {}/{} before day {} ({bytes} B): {}", dataset.0, metric.0, before / DAY, why.describe())
            }
        };
        Expiry::plan(held, NOW).steps.into_iter().map(step).collect()
    }

    #[test]
    fn partitions_expire_whole_and_only_after_rollup() {
        let mut dataset = weeks(1, 4);
        dataset.horizon = Some(NOW - 2 * WEEK);
        assert_eq!(planned(&store(vec![dataset.clone()])), ["drop 1/6: older than keep_for"]);
        dataset.rolled_before = Some(6 * WEEK);
        assert_eq!(planned(&store(vec![dataset.clone()])), [""; 0], "not covered by rollups yet");
        assert_eq!(Expiry::plan(&store(vec![dataset.clone()]), NOW).waiting, 1);
        // A limit of nothing leaves what is still written into.
        (dataset.rolled_before, dataset.horizon) = (None, Some(NOW));
        assert_eq!(planned(&store(vec![dataset])).len(), 3);
    }

    #[test]
    fn past_a_size_the_bin_goes_first_then_the_oldest_partitions() {
        let mut dataset = weeks(1, 4);
        dataset.bin = vec![BinHolding { id: "p1".into(), bytes: 30 }, BinHolding { id: "p2".into(), bytes: 30 }];
        dataset.keep_under = Some(440);
        assert_eq!(planned(&store(vec![dataset.clone()])), ["empty p1: past keep_under"]);
        dataset.keep_under = Some(350);
        assert_eq!(
            planned(&store(vec![dataset.clone()])),
            ["empty p1: past keep_under", "empty p2: past keep_under", "drop 1/6: past keep_under, for good"]
        );
        // The one that is written into stays, however small the limit.
        dataset.keep_under = Some(1);
        assert_eq!(planned(&store(vec![dataset])).len(), 5);
    }

    #[test]
    fn without_room_expired_points_skip_the_bin() {
        let mut dataset = weeks(1, 4);
        (dataset.horizon, dataset.keep_under) = (Some(NOW - 2 * WEEK), Some(310));
        assert_eq!(planned(&store(vec![dataset.clone()])), ["drop 1/6: older than keep_for, for good"]);
        // Of two that go, the older one makes enough room, though both weigh the same; what was in the bin before goes first.
        (dataset.horizon, dataset.keep_under) = (Some(NOW - WEEK), Some(310));
        assert_eq!(planned(&store(vec![dataset.clone()])), ["drop 1/6: older than keep_for, for good", "drop 1/7: older than keep_for"]);
        dataset.bin = vec![BinHolding { id: "p1".into(), bytes: 100 }];
        assert_eq!(
            planned(&store(vec![dataset])),
            ["drop 1/6: older than keep_for, for good", "drop 1/7: older than keep_for", "empty p1: past keep_under"]
        );
    }

    #[test]
    fn past_the_store_size_the_oldest_partition_is_erased() {
        let mut held = store(vec![weeks(1, 2), weeks(2, 4)]);
        held.keep_under = Some(450);
        assert_eq!(planned(&held), ["drop 2/6: past the store's keep_under, for good", "drop 2/7: past the store's keep_under, for good"]);
    }

    #[test]
    fn the_reserve_is_kept_where_possible() {
        let mut held = store(vec![weeks(1, 4)]);
        held.volume = Some(Volume { total: 10_000, free: 900, reserve: 1_000 });
        assert_eq!(planned(&held), ["drop 1/6: to keep the volume's reserve free, for good"]);
        held.volume = Some(Volume { total: 10_000, free: 100, reserve: 1_000 });
        let plan = Expiry::plan(&held, NOW);
        assert!(plan.steps.is_empty() && plan.is_full, "others fill it: dropping all of ours would not help");
    }

    #[test]
    fn a_metric_is_trimmed_by_whole_days_and_by_size() {
        let mut dataset = weeks(1, 2);
        let partitions = vec![(50, Some(8 * WEEK)), (20, Some(9 * WEEK))];
        let metric = |horizon, keep_under| MetricHolding { id: MetricId(7), horizon, keep_under, partitions: partitions.clone() };
        dataset.metrics = vec![metric(Some(8 * WEEK + DAY / 2), None)];
        assert_eq!(planned(&store(vec![dataset.clone()])), [""; 0], "less than a day");
        dataset.metrics = vec![metric(Some(8 * WEEK + 2 * DAY + 1), None)];
        assert_eq!(planned(&store(vec![dataset.clone()])), ["trim 1/7 before day 58 (14 B): older than keep_for"]);
        dataset.metrics = vec![metric(None, Some(45))];
        assert_eq!(planned(&store(vec![dataset.clone()])), ["trim 1/7 before day 59 (25 B): past keep_under"]);
        dataset.metrics = vec![metric(None, Some(70))];
        assert_eq!(planned(&store(vec![dataset])), [""; 0]);
    }
}
