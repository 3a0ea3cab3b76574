//! Sinks: after any sequence of arrivals, kills and refusals, the destination has the points of the store.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::{
    collections::BTreeMap,
    fs,
    net::TcpListener,
    path::{Path, PathBuf},
    sync::{Arc, atomic::Ordering},
    thread,
    time::{Duration, Instant},
};

use fenetre_core::{
    model::{Histogram, Kind, MetricDefinition, PointRef, PointSink, ValueRef},
    time::{Nanos, SECOND, TimeRange, format_utc},
};
use fenetre_store::{Options, Store};
use fenetre_wire::{flows::FlowDifference, sinks::SinkState};
use proptest::prelude::*;
use support::{Peer, Points, START, copy_of_a_moment, definition, sinks_of, store, until, write_points};

#[derive(Clone, Debug)]
enum Step {
    Write(Vec<(u8, i64, i32)>),
    Pack,
    Kill,
    /// The destination answers with this status from now on.
    Answer(u16),
    Pause(u64),
}

fn a_step() -> impl Strategy<Value = Step> {
    prop_oneof![
        6 => prop::collection::vec((0u8..3, 0i64..200, any::<i32>()), 1..40).prop_map(Step::Write),
        2 => Just(Step::Pack),
        1 => Just(Step::Kill),
        2 => prop_oneof![Just(200u16), Just(503), Just(400), Just(413), Just(0)].prop_map(Step::Answer),
        2 => (0u64..60).prop_map(Step::Pause),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, ..ProptestConfig::default() })]
    #[test]
    fn the_destination_ends_with_what_the_store_has(
        before in prop::collection::vec((0u8..3, 0i64..200, any::<i32>()), 0..40),
        steps in prop::collection::vec(a_step(), 1..25),
        hold_bytes in prop_oneof![Just(0u64), Just(40_000), Just(1 << 30)],
    ) {
        let (folder, peer) = (tempfile::tempdir().unwrap(), Peer::start());
        let opened = |path: &Path| Arc::new(Store::open(path, Options { hold_bytes, ..Options::default() }).unwrap());
        let (mut life, mut path) = (0, folder.path().join("0"));
        let mut store = opened(&path);
        let mut sinks = sinks_of(&store, &path);
        write_points(&store, &before);
        let text = format!("kind = \"http\"\nurl = \"{}\"\nhistory = true\nbatch_points = 30\nbatch_after = \"10ms\"\ntags = {{ origin = \"north\" }}", peer.url);
        sinks.put("out", definition(&text)).unwrap();
        for step in steps {
            match step {
                Step::Write(points) => write_points(&store, &points),
                Step::Pack => store.pack().unwrap(),
                Step::Answer(status) => peer.status.store(status, Ordering::SeqCst),
                Step::Pause(millis) => thread::sleep(Duration::from_millis(millis)),
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
        // What was refused is sent again; the sink need not wait for its next attempt.
        until("everything is sent", || {
            sinks.resend("out").unwrap();
            let status = sinks.status("out").unwrap();
            status.behind.points == 0 && status.gaps.is_empty() && status.set_aside == 0
        });
        sinks.end();
        let mut wanted = Points::new();
        for (series, time, value) in stored(&store) {
            wanted.insert((series.0, series.1, time), value);
        }
        let got = peer.got.lock();
        let differs: Vec<_> = wanted.iter().filter(|(point, value)| got.get(*point) != Some(*value)).take(3).collect();
        prop_assert!(differs.is_empty() && got.len() == wanted.len(), "{differs:?}");
    }
}

type Named = (String, BTreeMap<Arc<str>, Arc<str>>);

/// All points of the store, with the constant tag of the sink.
fn stored(store: &Store) -> Vec<(Named, Nanos, String)> {
    use fenetre_core::{
        block::Columns,
        catalogue::Codes,
        evaluate::{Run, Source},
    };
    let series = store.with_catalogue(|catalogue| {
        let dataset = catalogue.dataset("main").unwrap();
        dataset.all_series().map(|series| (dataset.id, series.clone())).collect::<Vec<_>>()
    });
    let mut found = Vec::new();
    for (dataset, series) in series {
        let mut columns = Columns::default();
        store
            .source()
            .scan(dataset, &[series.id], TimeRange::ALL, &mut |_, run| {
                match run {
                    Run::Points(points) => columns.extend(points),
                    Run::Block(block) => block.decode(&mut columns)?,
                    Run::Windows(..) => {}
                }
                Ok(())
            })
            .unwrap();
        let mut tags: BTreeMap<Arc<str>, Arc<str>> = series.tags.to_line();
        tags.insert("origin".into(), "north".into());
        for at in 0..columns.len() {
            let value = match series.codes.as_deref() {
                Some(Codes::Words(words)) => words[columns.values[at] as usize].to_string(),
                _ => columns.points().value(at).to_string(),
            };
            found.push(((series.metric.to_string(), tags.clone()), columns.times[at], value));
        }
    }
    found
}

#[test]
fn points_are_chosen_named_and_converted() {
    let ((_folder, store, sinks), peer) = (store(), Peer::start());
    let unit = |unit: &str| MetricDefinition { unit: Some(unit.to_owned()), ..MetricDefinition::default() };
    store.definitions().put_metric("main", "level", unit("m")).unwrap();
    store.definitions().put_metric("main", "big", MetricDefinition { kind: Kind::Counter, ..MetricDefinition::default() }).unwrap();
    let text = format!(
        "kind = \"http\"\nurl = \"{}\"\nmetrics = [\"level\", \"b*\"]\nwhere = 'lock != \"lock-2\" and lacks origin'\nrename = {{ level = \"water_level\" }}\n\
         rename_tags = {{ lock = \"site\" }}\ndrop_tags = [\"side\"]\nunits = {{ level = \"cm\" }}\nbatch_after = \"10ms\"\n",
        peer.url
    );
    assert_eq!(sinks.put("out", definition(&text)).unwrap(), FlowDifference::New);
    write_points(&store, &[(1, 0, 3), (2, 0, 4)]);
    let mut batch = store.begin("main").unwrap();
    let wide = ValueRef::Integer(9_007_199_254_740_993);
    batch.accept(PointRef { metric: "big", tags: &[("lock", "lock-1")], time: START, value: wide }).unwrap();
    store.write(batch).unwrap();
    until("two points arrive", || peer.got.lock().len() == 2);
    let got: Vec<String> = peer.got.lock().iter().map(|((metric, tags, _), value)| format!("{metric} {tags:?} {value}")).collect();
    assert_eq!(got, ["big {\"site\": \"lock-1\"} 9007199254740993", "water_level {\"site\": \"lock-1\"} 300"]);
    let trial = sinks.attempt(&definition(&text)).unwrap();
    assert_eq!(trial.series, 2);
    assert!(
        trial.rows.contains("{\"metric\":\"water_level\",\"tags\":{\"site\":\"lock-1\"},\"time\":\"2026-09-21T14:13:20Z\",\"value\":300"),
        "{}",
        trial.rows
    );
    // A unit that does not fit stops the sink, with a reason.
    sinks.put("out", definition(&text.replace("\"cm\"", "\"Cel\""))).unwrap();
    write_points(&store, &[(1, 1, 3)]);
    until("it fails", || sinks.status("out").unwrap().state == SinkState::Failing);
    let error = sinks.status("out").unwrap().figures.failing.unwrap().0;
    assert_eq!(error, "units.level: `level` has the unit `m`, which cannot be converted to `Cel`");
    sinks.end();
}

#[test]
fn bounds_and_sums_of_histograms_are_converted() {
    let ((_folder, store, sinks), peer) = (store(), Peer::start());
    let seconds = MetricDefinition { kind: Kind::Histogram, unit: Some("s".to_owned()), ..MetricDefinition::default() };
    store.definitions().put_metric("main", "passage", seconds).unwrap();
    let text = format!("kind = \"http\"\nurl = \"{}\"\nunits = {{ passage = \"min\" }}\nbatch_after = \"10ms\"\n", peer.url);
    sinks.put("out", definition(&text)).unwrap();
    let mut batch = store.begin("main").unwrap();
    let passages = Histogram { bounds: vec![300.0, 600.0], counts: vec![1, 2, 1], sum: 1_800.0 };
    batch.accept(PointRef { metric: "passage", tags: &[], time: START, value: ValueRef::Histogram(&passages) }).unwrap();
    store.write(batch).unwrap();
    until("it arrives", || peer.got.lock().len() == 1);
    let minutes = Histogram { bounds: vec![5.0, 10.0], sum: 30.0, ..passages };
    assert_eq!(peer.got.lock().values().next().unwrap(), &minutes.to_string());
    sinks.end();
}

#[test]
fn a_refused_batch_is_set_aside_and_the_others_are_sent() {
    let ((folder, store, sinks), peer) = (store(), Peer::start());
    sinks.put("out", definition(&format!("kind = \"http\"\nurl = \"{}\"\nmetrics = [\"level\"]\nbatch_after = \"10ms\"\n", peer.url))).unwrap();
    peer.status.store(400, Ordering::SeqCst);
    write_points(&store, &[(1, 0, 3), (1, 1, 4)]);
    until("it is set aside", || sinks.status("out").unwrap().set_aside == 1);
    peer.status.store(200, Ordering::SeqCst);
    write_points(&store, &[(1, 2, 5)]);
    until("the next one arrives", || peer.got.lock().len() == 1);
    let listed = sinks.aside("out").unwrap().list("out").unwrap();
    assert_eq!((listed[0].id, listed[0].points), (1, 2));
    assert!(listed[0].reason.ends_with("answered 400: not today"), "{}", listed[0].reason);
    assert!(sinks.remove("out").unwrap_err().to_string().contains("the sink `out` has set-aside batches (1): "));
    sinks.resend("out").unwrap();
    until("it is sent", || sinks.status("out").unwrap().set_aside == 0);
    assert_eq!(peer.got.lock().len(), 3);
    sinks.remove("out").unwrap();
    assert!(sinks.status("out").unwrap_err().to_string().starts_with("there is no sink `out`"));
    assert!(!folder.path().join("aside/out").exists());
    assert_eq!(store.feed().cursor("out"), None);
    sinks.end();
}

#[test]
fn a_destination_that_is_away_costs_nothing_and_a_replay_sends_again() {
    let ((_folder, store, sinks), peer) = (store(), Peer::start());
    sinks.put("out", definition(&format!("kind = \"http\"\nurl = \"{}\"\nmetrics = [\"level\"]\nbatch_after = \"10ms\"\n", peer.url))).unwrap();
    peer.status.store(503, Ordering::SeqCst);
    write_points(&store, &[(1, 0, 3)]);
    until("it fails", || sinks.status("out").unwrap().state == SinkState::Failing);
    let status = sinks.status("out").unwrap();
    assert!(status.behind.points > 0 && status.figures.failing.unwrap().0.ends_with("answered 503"));
    peer.status.store(200, Ordering::SeqCst);
    until("it works again", || sinks.status("out").unwrap().state == SinkState::Healthy);
    let taken = peer.taken.load(Ordering::SeqCst);
    sinks.replay("out", TimeRange { start: START, end: START + SECOND }).unwrap();
    until("it is sent again", || peer.taken.load(Ordering::SeqCst) == taken + 1);
    until("nothing is left", || sinks.status("out").unwrap().gaps.is_empty());
    // Paused, it sends nothing; resumed, it sends the points that have arrived since.
    sinks.set_paused("out", true).unwrap();
    write_points(&store, &[(1, 9, 9)]);
    assert_eq!(sinks.status("out").unwrap().state, SinkState::Paused);
    sinks.set_paused("out", false).unwrap();
    until("it catches up", || peer.got.lock().len() == 2);
    sinks.end();
}

#[test]
fn files_are_complete_and_written_once() {
    let (folder, store, sinks) = store();
    let out = folder.path().join("out");
    for format in ["parquet", "csv", "json-lines"] {
        let text = format!(
            "kind = \"files\"\npath = \"{}\"\nformat = \"{format}\"\nname = \"{{dataset}}/{{date}}/{{hour}}-{{part}}\"\nbatch_after = \"10ms\"\n",
            out.display()
        );
        sinks.put(format, definition(&text)).unwrap();
    }
    write_points(&store, &[(1, 0, 3), (2, 0, 4)]);
    let day = out.join("main/2026-09-21");
    let files = || -> Vec<PathBuf> {
        let found = fs::read_dir(&day).into_iter().flatten().map(|entry| entry.unwrap().path());
        let mut found: Vec<PathBuf> = found.filter(|path| !path.file_name().unwrap().to_str().unwrap().starts_with('.')).collect();
        found.sort();
        found
    };
    until("three files appear", || files().len() == 3);
    let names: Vec<String> = files().iter().map(|path| path.file_name().unwrap().to_str().unwrap().to_owned()).collect();
    assert_eq!(names[0].split('-').next().unwrap(), "14");
    let text = fs::read_to_string(&files()[0]).unwrap();
    let time = format_utc(START);
    assert_eq!(
        text,
        format!(
            "time,metric,lock,side,value,word,unit\n{time},level,lock-1,up,3,,\n{time},gate,lock-1,,,closed,\n{time},level,lock-2,up,4,,\n{time},gate,lock-2,,,open,\n"
        )
    );
    sinks.end();
}

#[test]
fn a_stop_does_not_wait_for_a_silent_destination() {
    let (_folder, store, sinks) = store();
    // It takes calls, and answers none.
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let text = format!("kind = \"http\"\nurl = \"http://{}/\"\nbatch_after = \"10ms\"\n", silent.local_addr().unwrap());
    sinks.put("out", definition(&text)).unwrap();
    write_points(&store, &[(1, 0, 3)]);
    thread::sleep(Duration::from_millis(200));
    let begun = Instant::now();
    sinks.end();
    assert!(begun.elapsed() < Duration::from_secs(15), "{:?}", begun.elapsed());
}
