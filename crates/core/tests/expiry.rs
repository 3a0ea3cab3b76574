//! Laws of what must go, whatever is held: the oldest first, no more than must, never what is still written into, and nothing more once it is done.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::collections::BTreeSet;

use fenetre_core::{
    keeping::{BinHolding, DatasetHolding, Expiry, PartitionHolding, Step, StoreHolding, Volume, Why},
    model::DatasetId,
    time::{Nanos, SECOND},
};
use proptest::prelude::*;

const WEEK: Nanos = 7 * 86_400 * SECOND;
/// In the middle of a week.
const NOW: Nanos = 100 * WEEK + WEEK / 2;

/// Weeks up to now and the next, which points that are ahead of the clock may have begun.
fn a_dataset(id: u32) -> impl Strategy<Value = DatasetHolding> {
    let limits = (prop::option::of(0i64..12), prop::option::of(1u64..900), prop::option::of(0i64..12));
    (limits, prop::collection::vec(1u64..100, 0..10), 0u64..100, prop::collection::vec(1u64..60, 0..4)).prop_map(
        move |((age, keep_under, rolled), sizes, others, bin)| {
            let first = 102 - sizes.len() as i64;
            let partition = |(at, bytes): (usize, &u64)| {
                let start = (first + at as i64) * WEEK;
                PartitionHolding { start, last: start + WEEK - 1, bytes: *bytes }
            };
            DatasetHolding {
                id: DatasetId(id),
                horizon: age.map(|weeks| NOW - weeks * WEEK),
                keep_under,
                rolled_before: rolled.map(|weeks| NOW - weeks * WEEK),
                partitions: sizes.iter().enumerate().map(partition).collect(),
                others,
                bin: bin.iter().enumerate().map(|(at, bytes)| BinHolding { id: format!("p{id}-{at}"), bytes: *bytes }).collect(),
                metrics: Vec::new(),
            }
        },
    )
}

fn a_store() -> impl Strategy<Value = StoreHolding> {
    let volume = prop::option::of((0u64..400, 0u64..400)).prop_map(|found| found.map(|(free, reserve)| Volume { total: 10_000, free, reserve }));
    (a_dataset(1), a_dataset(2), 0u64..50, prop::option::weighted(0.4, 1u64..1_500), volume)
        .prop_map(|(one, other, others, keep_under, volume)| StoreHolding { datasets: vec![one, other], others, keep_under, volume })
}

fn bytes(dataset: &DatasetHolding) -> u64 {
    let sum = |sizes: &mut dyn Iterator<Item = u64>| sizes.sum::<u64>();
    dataset.others + sum(&mut dataset.partitions.iter().map(|one| one.bytes)) + sum(&mut dataset.bin.iter().map(|one| one.bytes))
}

/// What is held once some steps are carried out.
fn after(held: &StoreHolding, steps: &[Step]) -> StoreHolding {
    let mut held = held.clone();
    let mut freed = 0;
    for step in steps {
        match step {
            Step::EmptyBin { id, bytes, .. } => {
                held.datasets.iter_mut().for_each(|dataset| dataset.bin.retain(|item| item.id != *id));
                freed += bytes;
            }
            Step::Drop { dataset, partition, for_good, .. } => {
                let of = held.datasets.iter_mut().find(|known| known.id == *dataset).unwrap();
                of.partitions.retain(|known| known != partition);
                match for_good {
                    true => freed += partition.bytes,
                    false => of.bin.push(BinHolding { id: format!("d{}-{}", dataset.0, partition.start), bytes: partition.bytes }),
                }
            }
            Step::Trim { .. } => unreachable!("no metric has limits here"),
        }
    }
    held.volume = held.volume.map(|volume| Volume { free: volume.free + freed, ..volume });
    held
}

/// Whether anything of a dataset can still go to make room.
fn has_more(dataset: &DatasetHolding) -> bool {
    !dataset.bin.is_empty() || dataset.partitions.first().is_some_and(|oldest| oldest.last < NOW)
}

fn all_bytes(held: &StoreHolding) -> u64 {
    held.others + held.datasets.iter().map(bytes).sum::<u64>()
}

fn why(step: &Step) -> Why {
    match step {
        Step::EmptyBin { why, .. } | Step::Drop { why, .. } | Step::Trim { why, .. } => *why,
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2_000))]

    #[test]
    fn the_oldest_expire_once_and_open_partitions_stay(held in a_store()) {
        let plan = Expiry::plan(&held, NOW);
        let mut seen = BTreeSet::new();
        for step in &plan.steps {
            match step {
                Step::EmptyBin { id, .. } => prop_assert!(seen.insert(id.clone())),
                Step::Drop { dataset, partition, .. } => {
                    let name = format!("{}/{}", dataset.0, partition.start);
                    prop_assert!(partition.last < NOW && seen.insert(name));
                }
                Step::Trim { .. } => unreachable!(),
            }
        }
        for (before, left) in held.datasets.iter().zip(&after(&held, &plan.steps).datasets) {
            // What is left are the youngest.
            prop_assert!(before.partitions.ends_with(&left.partitions));
            // By age everything went that could, and nothing else did.
            let is_old = |one: &PartitionHolding| before.horizon.is_some_and(|horizon| one.last < horizon) && one.last < NOW;
            let is_covered = |one: &PartitionHolding| before.rolled_before.is_none_or(|rolled| one.last < rolled);
            prop_assert!(!left.partitions.iter().any(|one| is_old(one) && is_covered(one)));
            for step in &plan.steps {
                if let Step::Drop { dataset, partition, why: Why::Age, .. } = step && *dataset == before.id {
                    prop_assert!(is_old(partition) && is_covered(partition));
                }
            }
        }
        prop_assert_eq!(plan.bytes(), plan.steps.iter().map(|step| match step {
            Step::EmptyBin { bytes, .. } | Step::Trim { bytes, .. } => *bytes,
            Step::Drop { partition, .. } => partition.bytes,
        }).sum::<u64>());
    }

    #[test]
    fn size_limits_are_met_and_no_more_expires_than_needed(held in a_store()) {
        let plan = Expiry::plan(&held, NOW);
        let left = after(&held, &plan.steps);
        for dataset in &left.datasets {
            let is_met = dataset.keep_under.is_none_or(|most| bytes(dataset) <= most);
            prop_assert!(is_met || !has_more(dataset), "{:?}", dataset);
        }
        let is_met = held.keep_under.is_none_or(|most| all_bytes(&left) <= most);
        prop_assert!(is_met || !left.datasets.iter().any(has_more));
        // The bin goes before partitions do.
        for why_of in [Why::Size, Why::StoreSize, Why::Reserve] {
            for dataset in &held.datasets {
                let dropped = plan.steps.iter().position(|step| matches!(step, Step::Drop { dataset: of, why, .. } if *of == dataset.id && *why == why_of));
                let emptied = plan.steps.iter().rposition(|step| {
                    matches!(step, Step::EmptyBin { id, why, .. } if *why == why_of && dataset.bin.iter().any(|item| item.id == *id))
                });
                prop_assert!(dropped.zip(emptied).is_none_or(|(dropped, emptied)| emptied < dropped));
            }
        }
    }

    #[test]
    fn size_expiry_needs_its_last_step(dataset in a_dataset(1)) {
        let held = StoreHolding { datasets: vec![dataset.clone()], others: 0, keep_under: None, volume: None };
        let mut steps = Expiry::plan(&held, NOW).steps;
        let is_size_drop = |step: &Step| matches!(step, Step::Drop { why: Why::Size, .. });
        let is_kept_short = |step: &Step| matches!(step, Step::Drop { why: Why::Age, for_good: true, .. });
        let is_emptied = |step: &Step| matches!(step, Step::EmptyBin { .. });
        // Emptied first, then what goes by age does not stay in the bin, then the oldest go.
        if let Some(last) = steps.iter().rposition(is_size_drop) {
            steps.remove(last);
        } else if let Some(last) = steps.iter().rposition(is_kept_short) {
            if let Step::Drop { for_good, .. } = &mut steps[last] {
                *for_good = false;
            }
        } else if let Some(last) = steps.iter().rposition(is_emptied) {
            steps.remove(last);
        } else {
            return Ok(());
        }
        prop_assert!(bytes(&after(&held, &steps).datasets[0]) > dataset.keep_under.unwrap());
    }

    #[test]
    fn the_reserve_is_restored_or_nothing_expires_for_it(held in a_store()) {
        let plan = Expiry::plan(&held, NOW);
        let left = after(&held, &plan.steps);
        let is_short = left.volume.is_some_and(|volume| volume.free < volume.reserve);
        prop_assert_eq!(plan.is_full, is_short);
        prop_assert!(!plan.is_full || plan.steps.iter().all(|step| why(step) != Why::Reserve));
    }

    #[test]
    fn expiry_is_idempotent(held in a_store()) {
        let plan = Expiry::plan(&held, NOW);
        let again = Expiry::plan(&after(&held, &plan.steps), NOW);
        prop_assert_eq!(again.steps, vec![]);
        prop_assert_eq!((again.is_full, again.waiting), (plan.is_full, again.waiting));
    }
}
