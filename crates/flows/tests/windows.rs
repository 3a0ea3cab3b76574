//! Sinks whose content is a query: after any sequence of late arrivals and kills, the destination has each closed window with the value of today.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::{
    collections::BTreeMap,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicI64, Ordering},
    },
};

use fenetre_core::{
    model::{Kind, MetricDefinition, PointRef, PointSink, ValueRef},
    time::{Nanos, SECOND, format_utc, parse_rfc3339},
};
use fenetre_flows::sinks::supervisor::Sinks;
use fenetre_store::{Options, Store};
use proptest::prelude::*;
use support::{Peer, START, copy_of_a_moment, definition, now, sinks_of, until, write_points};

/// Width of the windows, in seconds.
const WIDTH: i64 = 10;

/// Means of the levels of each lock in each window, in plain loops.
fn means(points: &BTreeMap<(u8, i64), i32>) -> BTreeMap<String, String> {
    let mut sums: BTreeMap<(u8, i64), (f64, f64)> = BTreeMap::new();
    for ((lock, second), value) in points {
        let sum = sums.entry((*lock, second.div_euclid(WIDTH))).or_default();
        *sum = (sum.0 + f64::from(*value), sum.1 + 1.0);
    }
    let line = |((lock, window), (sum, count)): ((u8, i64), (f64, f64))| {
        (format!("level {{\"lock\": \"lock-{lock}\"}} {}", format_utc(START + window * WIDTH * SECOND)), (sum / count).to_string())
    };
    sums.into_iter().map(line).collect()
}

fn got(peer: &Peer) -> BTreeMap<String, String> {
    peer.got.lock().iter().map(|((metric, tags, time), value)| (format!("{metric} {tags:?} {}", format_utc(*time)), value.clone())).collect()
}

#[derive(Clone, Debug)]
enum Step {
    Write(Vec<(u8, i64, i32)>),
    Pack,
    Kill,
    Answer(u16),
    Pause(u64),
}

fn a_step() -> impl Strategy<Value = Step> {
    prop_oneof![
        // Values whose sums are exact, so that their order does not matter.
        6 => prop::collection::vec((0u8..3, 0i64..200, -1000i32..1000), 1..20).prop_map(Step::Write),
        2 => Just(Step::Pack),
        1 => Just(Step::Kill),
        2 => prop_oneof![Just(200u16), Just(503), Just(400), Just(0)].prop_map(Step::Answer),
        2 => (0u64..60).prop_map(Step::Pause),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, ..ProptestConfig::default() })]
    #[test]
    fn the_destination_ends_with_the_windows_of_today(
        before in prop::collection::vec((0u8..3, 0i64..200, -1000i32..1000), 0..20),
        steps in prop::collection::vec(a_step(), 1..20),
        hold_bytes in prop_oneof![Just(0u64), Just(1 << 30)],
    ) {
        let (folder, peer) = (tempfile::tempdir().unwrap(), Peer::start());
        let opened = |path: &Path| Arc::new(Store::open(path, Options { hold_bytes, ..Options::default() }).unwrap());
        let (mut life, mut path) = (0, folder.path().join("0"));
        let (mut store, mut points) = (opened(&path), BTreeMap::new());
        let mut sinks = sinks_of(&store, &path);
        let mut write = |store: &Store, lines: &[(u8, i64, i32)]| {
            points.extend(lines.iter().map(|(lock, second, value)| ((*lock, *second), *value)));
            write_points(store, lines);
        };
        write(&store, &before);
        let text = format!(
            "kind = \"http\"\nurl = \"{}\"\nhistory = true\nbatch_points = 7\nbatch_after = \"10ms\"\nquery = \"show mean of level by lock per {WIDTH}s\"",
            peer.url
        );
        write(&store, &[(0, 0, 1)]);
        sinks.put("out", definition(&text)).unwrap();
        for step in steps {
            match step {
                Step::Write(lines) => write(&store, &lines),
                Step::Pack => store.pack().unwrap(),
                Step::Answer(status) => peer.status.store(status, Ordering::SeqCst),
                Step::Pause(millis) => std::thread::sleep(std::time::Duration::from_millis(millis)),
                Step::Kill => {
                    life += 1;
                    let next = folder.path().join(life.to_string());
                    copy_of_a_moment(&store, &sinks, &path, &next);
                    sinks.end();
                    path = next;
                    store = opened(&path);
                    sinks = sinks_of(&store, &path);
                }
            }
        }
        peer.status.store(200, Ordering::SeqCst);
        until("everything is sent", || {
            sinks.resend("out").unwrap();
            let status = sinks.status("out").unwrap();
            status.behind.points == 0 && status.gaps.is_empty() && status.set_aside == 0 && status.figures.closed_before.is_some()
        });
        sinks.end();
        prop_assert_eq!(got(&peer), means(&points));
    }
}

/// A clock that the test sets.
static CLOCK: AtomicI64 = AtomicI64::new(0);

fn clock() -> Nanos {
    CLOCK.load(Ordering::SeqCst)
}

fn at(second: i64) {
    CLOCK.store(START + second * SECOND, Ordering::SeqCst);
}

#[test]
fn a_window_is_sent_once_it_is_closed_and_again_if_late_points_change_it() {
    let (folder, peer) = (tempfile::tempdir().unwrap(), Peer::start());
    let store = Arc::new(Store::open(&folder.path().join("store"), Options::default()).unwrap());
    at(25);
    let sinks = Sinks::new(Arc::clone(&store), folder.path().join("aside"), clock);
    sinks.start().unwrap();
    write_points(&store, &[(1, 0, 2), (1, 9, 4)]);
    let with = |query: &str| {
        let text = format!(
            "kind = \"http\"\nurl = \"{}\"\nbatch_after = \"10ms\"\nsettle = \"3s\"\ntags = {{ origin = \"north\" }}\nrename = {{ highest = \"top\" }}\nquery = '{query}'\n",
            peer.url
        );
        definition(&text)
    };
    sinks.put("out", with("show mean of level by lock show max of level by lock as \"highest\" per 10s")).unwrap();
    // Without `history`, windows without new points are not sent.
    write_points(&store, &[(1, 12, 6), (1, 22, 8)]);
    let line =
        |metric: &str, second: i64| format!("{metric} {{\"lock\": \"lock-1\", \"origin\": \"north\"}} {}", format_utc(START + second * SECOND));
    let of = |lines: &[(&str, i64, &str)]| {
        lines.iter().map(|(metric, second, value)| (line(metric, *second), (*value).to_owned())).collect::<BTreeMap<_, _>>()
    };
    let mut wanted = vec![("level", 10, "6"), ("top", 10, "6")];
    until("the closed window is there", || got(&peer) == of(&wanted));
    assert!(sinks.status("out").unwrap().gaps.is_empty());
    // A late point changes it; the window from 20 is closed, but has not settled yet.
    at(32);
    write_points(&store, &[(1, 13, 0)]);
    wanted = vec![("level", 10, "3"), ("top", 10, "6")];
    until("the changed window is there", || got(&peer) == of(&wanted));
    at(33);
    wanted.extend([("level", 20, "8"), ("top", 20, "8")]);
    until("the next window is there", || got(&peer) == of(&wanted));
    let trial = sinks.attempt(&with("show sum of level overall as \"total\" per 10s")).unwrap();
    assert_eq!(trial.series, 1);
    assert!(trial.rows.starts_with("{\"metric\":\"total\",\"tags\":{\"origin\":\"north\"},\"time\":"), "{}", trial.rows);
    assert_eq!(
        sinks.verify("out", fenetre_core::time::TimeRange { start: 0, end: 1 }, SECOND).unwrap_err().to_string(),
        "the sink `out` sends the windows of a query, which are not compared: ask the destination instead"
    );
    sinks.end();
}

#[test]
fn a_late_point_changes_the_growth_of_the_next_window_too() {
    let (folder, peer) = (tempfile::tempdir().unwrap(), Peer::start());
    let store = Arc::new(Store::open(&folder.path().join("store"), Options::default()).unwrap());
    let sinks = sinks_of(&store, folder.path());
    let counter = MetricDefinition { kind: Kind::Counter, ..MetricDefinition::default() };
    store.definitions().put_metric("main", "boats", counter).unwrap();
    let write = |points: &[(&str, f64)]| {
        let mut batch = store.begin("main").unwrap();
        for (time, value) in points {
            let time = parse_rfc3339(time).unwrap();
            batch.accept(PointRef { metric: "boats", tags: &[], time, value: ValueRef::Number(*value) }).unwrap();
        }
        store.write(batch).unwrap();
    };
    write(&[("2026-05-01T01:00:00Z", 10.0), ("2026-05-02T12:00:00Z", 14.0)]);
    let text = format!("kind = \"http\"\nurl = \"{}\"\nhistory = true\nbatch_after = \"10ms\"\nquery = 'show growth of boats per 1d'", peer.url);
    sinks.put("out", definition(&text)).unwrap();
    let days = |first: &str, second: &str| {
        let line = |day: i64, value: &str| (format!("boats {{}} 2026-05-0{day}T00:00:00Z"), value.to_owned());
        [line(1, first), line(2, second)].into_iter().filter(|(_, value)| !value.is_empty()).collect::<BTreeMap<_, _>>()
    };
    until("both days are there", || got(&peer).values().last().is_some_and(|value| value == "4"));
    // The counter had already reached 13 on the first day, so it grew by 1 on the second.
    write(&[("2026-05-01T02:00:00Z", 13.0)]);
    until("both days have changed", || got(&peer) == days("3", "1"));
    sinks.end();
}

#[test]
fn days_of_the_zone_are_windows() {
    let (folder, peer) = (tempfile::tempdir().unwrap(), Peer::start());
    let store = Arc::new(Store::open(&folder.path().join("store"), Options::default()).unwrap());
    let sinks = sinks_of(&store, folder.path());
    let mut batch = store.begin("main").unwrap();
    // 2026-03-29 has 23 hours in Lisbon: it begins at 00:00Z and ends at 23:00Z.
    for (time, value) in [("2026-03-28T23:59:59Z", 1.0), ("2026-03-29T00:00:00Z", 2.0), ("2026-03-29T22:59:59Z", 4.0), ("2026-03-29T23:00:00Z", 8.0)]
    {
        let time = parse_rfc3339(time).unwrap();
        batch.accept(PointRef { metric: "level", tags: &[], time, value: ValueRef::Number(value) }).unwrap();
    }
    store.write(batch).unwrap();
    let text = format!("kind = \"http\"\nurl = \"{}\"\nhistory = true\nquery = 'show sum of level per 1d zone \"Europe/Lisbon\"'", peer.url);
    sinks.put("out", definition(&text)).unwrap();
    let wanted = [("2026-03-28T00:00:00Z", "1"), ("2026-03-29T00:00:00Z", "6"), ("2026-03-29T23:00:00Z", "8")];
    let wanted: BTreeMap<String, String> = wanted.into_iter().map(|(time, value)| (format!("level {{}} {time}"), value.to_owned())).collect();
    until("the days are there", || got(&peer) == wanted);
    assert!(now() > START);
    sinks.end();
}
