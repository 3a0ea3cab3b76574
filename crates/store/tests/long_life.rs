//! A store that lives for months under a policy: points come, some of them days late, partitions go by age and windows stay, with restarts and kills in
//! between. Beside it lives one that keeps everything: what both are asked by the day, they answer alike, for ever.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/rolled.rs"]
mod rolled;
mod support;

use fenetre_core::{
    keeping::{LimitSettings, Scope},
    time::{Nanos, Span, TimeRange},
};
use fenetre_store::{BinItemKind, Selection, Store};
use proptest::prelude::*;
use rolled::{Arrival, BEGIN, MINUTE, REDUCERS, answered, define, main, numbers, policy, same, verified, write};
use support::{killed, open};

const DAY: Nanos = 1_440 * MINUTE;
const DAYS: i64 = 90;
/// Points are kept for so many days, and lie in the bin for so many more.
const KEPT: u32 = 20;
const BINNED: i64 = 7;
/// Points are at most so many days late.
const LATE: i64 = 5;

/// What happens on a day beside its points.
#[derive(Clone, Copy, Debug)]
enum Deed {
    Nothing,
    Reopen,
    Kill,
    /// Points of some hours are deleted, so many days back.
    Delete(i64),
}

fn deeds() -> impl Strategy<Value = Vec<Deed>> {
    let deed = prop_oneof![
        8 => Just(Deed::Nothing),
        1 => Just(Deed::Reopen),
        1 => Just(Deed::Kill),
        1 => (0..LATE).prop_map(Deed::Delete),
    ];
    prop::collection::vec(deed, DAYS as usize)
}

/// A day's points in the order of their arrival, most of that day, some of days before.
fn arrivals(day: i64, numbers: &[(u8, u8)]) -> Vec<Arrival> {
    let of = |(at, (number, late)): (usize, &(u8, u8))| {
        // One in eight is late, each by a time of its own, so that no two are of one instant.
        let back = if late % 8 == 0 { i64::from(*late) / 8 % LATE } else { 0 };
        let second = (day - back).max(0) * 86_400 + at as i64 * 3_600 + day % 60 * 60;
        ((at % 2) as u8, second, *number)
    };
    numbers.iter().enumerate().map(of).collect()
}

fn kept_for(days: u32) -> LimitSettings {
    LimitSettings { keep_for: Some(Some(Span { days, ..Span::default() })), keep_under: None }
}

/// Points of all metrics in a range are deleted.
fn delete(store: &Store, range: TimeRange, now: Nanos) {
    let series = store.with_catalogue(|catalogue| {
        catalogue.dataset("main").unwrap().all_series().filter(|series| series.codes.is_none()).map(|series| series.id).collect()
    });
    store.bin().delete_points(&Selection { dataset: main(store), series, range }, "some", now).unwrap();
}

/// What the service does by itself, all of it at once.
fn upkeep(store: &Store, now: Nanos) {
    store.pack().unwrap();
    store.rollups().run(main(store), now).unwrap();
    store.retention().expire(now).unwrap();
    for item in store.bin().list().unwrap().into_iter().filter(|item| now - item.deleted > BINNED * DAY) {
        store.bin().erase(&item.id).unwrap();
    }
}

/// Every reducer by day, since the beginning.
fn compare(store: &Store, everything: &Store, now: Nanos) {
    let days = (now - BEGIN) / DAY;
    for reducer in REDUCERS {
        let text = format!("show {reducer} over now - {days}d to now per 1d");
        let ((lasting, windows, notes), (wanted, _, _)) = (numbers(store, &text, now), numbers(everything, &format!("{text} from raw"), now));
        assert!(windows > 0 || days < 3, "{text}: points are asked");
        assert_eq!(notes, Vec::<String>::new(), "{text}");
        assert_eq!(lasting.len(), wanted.len(), "{text}: as many lines");
        for (line, (lasting, wanted)) in lasting.iter().zip(&wanted).enumerate() {
            for (day, (lasting, wanted)) in lasting.iter().zip(wanted).enumerate() {
                assert!(same(lasting, wanted), "{text}\nafter {days} days, line {line}, day {day}: {lasting:?} instead of {wanted:?}");
            }
        }
    }
}

/// A question that has nothing to do with the levels: any range, any windows.
#[derive(Clone, Debug)]
struct Asked {
    /// Minutes before now.
    from: i64,
    length: i64,
    /// Minutes; the whole range if there are none.
    width: Option<i64>,
    source: &'static str,
}

fn questions() -> impl Strategy<Value = Vec<Asked>> {
    let width = prop_oneof![1 => Just(None), 3 => prop::sample::select(vec![30i64, 60, 90, 360, 1_440, 4_320]).prop_map(Some)];
    let asked = (0..DAYS * 1_440, 60i64..20_000, width, prop::sample::select(vec!["", "", " from raw", " from 1h"]));
    prop::collection::vec(asked.prop_map(|(from, length, width, source)| Asked { from, length, width, source }), 40)
}

impl Asked {
    fn frame(&self) -> String {
        let per = self.width.map_or(String::new(), |minutes| format!(" per {minutes}m"));
        format!("over now - {}m to now - {}m{per}", self.from + self.length, self.from)
    }

    /// A level answers only for windows that are made of its own.
    fn is_possible(&self) -> bool {
        self.source != " from 1h" || self.width.is_none_or(|minutes| minutes % 60 == 0)
    }
}

/// Whatever retention took: each value is that of all points, or it is marked, and then a note says what is missing.
fn check_law(store: &Store, everything: &Store, asked: &Asked, now: Nanos) {
    for reducer in REDUCERS {
        let text = format!("show {reducer} {}{}", asked.frame(), asked.source);
        let (lines, _, notes) = answered(store, &text, now);
        let (wanted, _, _) = answered(everything, &format!("show {reducer} {} from raw", asked.frame()), now);
        assert_eq!(lines.len(), wanted.len(), "{text}: as many lines");
        for (line, wanted) in lines.iter().zip(&wanted) {
            for (at, (found, wanted)) in line.values.iter().zip(&wanted.values).enumerate() {
                let is_partial = line.partial.contains(&at);
                assert!(is_partial || same(found, wanted), "{text}\n{:?}, window {at}: {found:?} instead of {wanted:?}\n{notes:?}", line.tags);
            }
            assert!(line.partial.is_empty() || !notes.is_empty(), "{text}: marks without a note");
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2))]
    #[test]
    fn daily_answers_outlive_their_points(
        deeds in deeds(),
        days in prop::collection::vec(prop::collection::vec((0u8..160, any::<u8>()), 24), DAYS as usize),
        questions in questions(),
    ) {
        let mut folders = vec![tempfile::tempdir().unwrap()];
        let mut store = Some(open(folders[0].path()));
        let folder = tempfile::tempdir().unwrap();
        let everything = open(folder.path());
        for store in [store.as_ref().unwrap(), &everything] {
            define(store);
        }
        let this = store.as_ref().unwrap();
        this.rollups().put("main", "all", &policy(&["1h", "1d"])).unwrap();
        this.retention().set_limits(Scope::Dataset(main(this)), kept_for(KEPT), BEGIN).unwrap();
        let mut most = 0;
        for (day, (deed, numbers)) in deeds.iter().zip(&days).enumerate() {
            let day = day as i64;
            let now = BEGIN + (day + 1) * DAY;
            let arrived = arrivals(day, numbers);
            for store in [store.as_ref().unwrap(), &everything] {
                write(store, &arrived);
            }
            match deed {
                Deed::Nothing => {}
                Deed::Reopen => {
                    drop(store.take());
                    store = Some(open(folders.last().unwrap().path()));
                }
                Deed::Kill => store = store.take().map(|store| killed(store, &mut folders)),
                Deed::Delete(back) => {
                    let start = BEGIN + (day - back).max(0) * DAY + 5 * 60 * MINUTE;
                    for store in [store.as_ref().unwrap(), &everything] {
                        delete(store, TimeRange { start, end: start + 400 * MINUTE }, now);
                    }
                }
            }
            let this = store.as_ref().unwrap();
            upkeep(this, now);
            let report = this.inspect().report(now).unwrap();
            let held = &report.datasets[0];
            // Whole weeks go, so one more than is kept is begun, and the one that is written into.
            prop_assert!(held.partitions.len() <= KEPT as usize / 7 + 3, "{} partitions on day {}", held.partitions.len(), day);
            prop_assert!(held.oldest.is_none_or(|oldest| now - oldest <= (i64::from(KEPT) + 8) * DAY));
            let binned = this.bin().list().unwrap();
            prop_assert!(binned.iter().all(|item| now - item.deleted <= BINNED * DAY));
            most = most.max(binned.iter().filter(|item| item.kind == BinItemKind::Partition).count());
            if day % 15 == 14 {
                compare(this, &everything, now);
            }
        }
        let this = store.as_ref().unwrap();
        prop_assert!(most > 0, "partitions went");
        prop_assert_eq!(verified(this).faults, Vec::<String>::new());
        let now = BEGIN + DAYS * DAY;
        for asked in questions.iter().filter(|asked| asked.is_possible()) {
            check_law(this, &everything, asked, now);
        }
        // What is left of points is a fraction; windows tell of the rest.
        let points = |store: &Store| store.inspect().counts(main(store)).unwrap().values().map(|count| count.points).sum::<u64>();
        prop_assert!(points(this) * 2 < points(&everything), "{} of {}", points(this), points(&everything));
    }
}
