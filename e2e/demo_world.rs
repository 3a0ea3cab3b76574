//! The demo from beginning to end: filled through the API, live, stopped, and started again where it was.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use std::time::Duration;

use support::{Service, run};

#[test]
fn the_demo_fills_runs_stops_and_resumes() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("demo").display().to_string();
    let args = ["demo", "run", "--store", &store, "--listen", "127.0.0.1:0", "--days", "1"];
    let count = |service: &Service| {
        let datasets: serde_json::Value = serde_json::from_str(&service.run(&["datasets", "-o", "json"]).out()).unwrap();
        let velmar = datasets.as_array().unwrap().iter().find(|dataset| dataset["name"] == "velmar").unwrap().clone();
        (velmar["series"].as_u64().unwrap(), velmar["points"].as_u64().unwrap())
    };
    let service = Service::start_with(&args);
    let (series, points) = count(&service);
    assert_eq!(series, 180);
    assert!(points > 190_000, "{points}");
    std::thread::sleep(Duration::from_millis(2_500));
    let live = count(&service).1;
    assert!(live > points, "points arrive each second: {points}, {live}");
    let busy = run(&["demo", "run", "--fresh", "--store", &store, "--listen", "127.0.0.1:0"]);
    assert!(busy.code() == 1 && busy.err().contains("is in use"), "{}", busy.all());
    assert_eq!(service.stop("-INT"), Some(0));
    let again = Service::start_with(&args);
    let (series, later) = count(&again);
    assert_eq!(series, 180);
    assert!(later >= live && later < live + 1_000, "it goes on where it was: {live}, {later}");
    // What the generator makes is the same however often it was started, so nothing is there twice.
    let ran = again.run(&["ask", "show count of level overall over last 12h per 1h", "--dataset", "velmar", "-o", "csv"]);
    let full: Vec<&str> = ran.out().leak().lines().skip(2).take(10).collect();
    assert!(full.iter().all(|row| row.contains(",2880,")), "{full:?}");
}

#[test]
fn the_demo_can_have_sources_of_which_one_fails() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("demo").display().to_string();
    let args = ["demo", "run", "--with-sources", "--store", &store, "--listen", "127.0.0.1:0", "--days", "1"];
    let service = Service::start_with(&args);
    let listed = || service.run(&["source", "list", "-o", "csv"]).out();
    let begun = std::time::Instant::now();
    // A keeper's file is read once it is complete; one of its six readings is a word.
    while !(listed().contains("keepers,folder,velmar,waiting,2") && listed().contains(",5,1,") && listed().contains("nothing listens there")) {
        assert!(begun.elapsed() < Duration::from_secs(40), "{}", listed());
        std::thread::sleep(Duration::from_millis(100));
    }
    // Devices, a web service and a clerk deliver, too.
    for wanted in [
        "control,poll,control,waiting",
        "locks,modbus,velmar,\"running, 2 of 5 failed\"",
        "clerk,sql,velmar,waiting",
        "weirs,opcua,velmar,\"running, 1 of 1 partly failed\"",
    ] {
        while !listed().contains(wanted) {
            assert!(begun.elapsed() < Duration::from_secs(60), "{wanted}: {}", listed());
            std::thread::sleep(Duration::from_millis(100));
        }
    }
}

#[test]
fn a_folder_without_a_store_is_left_alone() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("precious.txt"), "levels").unwrap();
    let ran = run(&["demo", "run", "--fresh", "--store", &folder.path().display().to_string(), "--listen", "127.0.0.1:0"]);
    assert!(ran.code() == 1 && ran.err().contains("is not a store"), "{}", ran.all());
    assert!(folder.path().join("precious.txt").exists());
}

#[test]
fn the_waterway_can_be_written_as_a_file() {
    let ran = run(&["demo", "write", "--days", "1", "--until", "2026-04-01T00:00:00Z"]);
    let lines: Vec<String> = ran.out().lines().map(str::to_owned).collect();
    assert!(lines.len() > 190_000);
    insta::with_settings!({ snapshot_path => "snapshots", prepend_module_to_snapshot => false }, {
        insta::assert_snapshot!("the_waterway_as_a_file", lines[..12].join("\n"));
    });
}
