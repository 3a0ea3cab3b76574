//! Backups as an operator makes them: of a service under load, checked with the system's own tools, extended, restored, and served.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use std::{
    path::Path,
    process::Command,
    sync::atomic::{AtomicBool, AtomicU64, Ordering},
};

use support::{Api, Ends, Service, run};

const BATCH: u64 = 60;

/// A batch of an hour of levels of three locks in two weeks: point `n` is `n` seconds after the hour.
fn batch(first: u64) -> String {
    let line = |n: u64| {
        let time = |day: u64| format!("2026-05-{day:02}T{:02}:{:02}:{:02}Z", n / 3_600, n / 60 % 60, n % 60);
        let of = |lock: &str, day: u64| {
            format!("{{\"metric\": \"level\", \"tags\": {{\"lock\": \"{lock}\"}}, \"time\": \"{}\", \"value\": {n}}}\n", time(day))
        };
        ["osier", "marl", "wick"].map(|lock| of(lock, 1) + &of(lock, 20)).concat()
    };
    (first..first + BATCH).map(line).collect()
}

fn counts(service: &Service) -> Vec<u64> {
    let ran = service.run(&["ask", "show count of level over 2026-05-01 to 2026-06-01 per 1d", "-o", "json"]);
    let answer: serde_json::Value = serde_json::from_str(&ran.out()).unwrap_or_else(|_| panic!("{}", ran.all()));
    let lines = answer["shows"][0]["lines"].as_array().unwrap();
    lines.iter().flat_map(|line| line["values"].as_array().unwrap()).filter_map(|value| value.as_f64()).map(|count| count as u64).collect()
}

fn shown(path: &Path) -> String {
    path.display().to_string()
}

fn restored(folder: &Path, backup: &str) -> Vec<u64> {
    let store = folder.join(format!("from-{backup}"));
    let ran = run(&["restore", &shown(&folder.join(backup)), &shown(&store)]);
    assert_eq!(ran.code(), 0, "{}", ran.all());
    counts(&Service::start(&store))
}

#[test]
fn backups_under_load_are_consistent_and_restorable() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    service.push_lines("main", &batch(0));
    let (acknowledged, done) = (AtomicU64::new(BATCH), AtomicBool::new(false));
    std::thread::scope(|scope| {
        scope.spawn(|| {
            while !done.load(Ordering::SeqCst) {
                service.push_lines("main", &batch(acknowledged.load(Ordering::SeqCst)));
                acknowledged.fetch_add(BATCH, Ordering::SeqCst);
            }
        });
        let _ends = Ends(&done);
        let mut since = None;
        for name in ["monday", "tuesday", "wednesday"] {
            let before = acknowledged.load(Ordering::SeqCst);
            let to = shown(&folder.path().join(name));
            let args: Vec<&str> = ["backup", &to].into_iter().chain(since.iter().flat_map(|since: &String| ["--since", since.as_str()])).collect();
            let ran = service.run(&args);
            assert!(ran.code() == 0 && ran.out().contains(" points in 3 files") && ran.out().contains("fenetre restore"), "{}", ran.all());
            let checked = Command::new("sha256sum").args(["--check", "--quiet", "SHA256SUMS"]).current_dir(&to).status().unwrap();
            assert!(checked.success());
            let found = restored(folder.path(), name);
            assert!(found.len() == 6 && found.iter().all(|count| *count == found[0] && *count >= before), "{found:?}, {before} acknowledged before");
            since = Some(to);
        }
    });
    // Nothing came since: only the catalogue is copied.
    let quiet = shown(&folder.path().join("thursday"));
    service.run(&["backup", &quiet]);
    let ran = service.run(&["backup", &shown(&folder.path().join("friday")), "--since", &quiet]);
    assert!(ran.out().contains("1 of them unchanged and not copied again"), "{}", ran.all());
    assert_eq!(restored(folder.path(), "friday"), counts(&service));
}

#[test]
fn impossible_backups_and_restores_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store");
    let service = Service::start(&store);
    service.push_lines("main", &batch(0));
    let monday = shown(&folder.path().join("monday"));
    let message = |ran: support::Ran, code: i32, text: &str| assert!(ran.code() == code && ran.err().contains(text), "{text}: {}", ran.all());
    message(service.run(&["backup", "--stop"]), 1, "no backup was made");
    message(service.run(&["backup", &shown(&store)]), 1, "is inside the store");
    std::fs::create_dir(folder.path().join("full")).unwrap();
    std::fs::write(folder.path().join("full/letter.txt"), "hello").unwrap();
    message(service.run(&["backup", &shown(&folder.path().join("full"))]), 1, "is not empty");
    message(service.run(&["backup", &monday, "--since", "/nowhere"]), 1, "is not a backup");
    assert_eq!(service.run(&["backup", &monday]).code(), 0);
    assert_eq!(service.run(&["backup", "--stop"]).out(), "no backup is running\n");
    message(service.run(&["backup", &monday]), 1, "contains a finished backup");
    message(run(&["restore", &monday, &shown(&store)]), 1, "is not empty");
    message(run(&["restore", &shown(folder.path()), "new"]), 1, "is not a backup");
    let relative = service.post("/api/v1/backup", &[("Content-Type", "application/json")], br#"{"to": "here"}"#);
    assert_eq!(relative.status, 400, "{}", relative.text());
    std::fs::write(folder.path().join("monday/catalogue.db"), "junk").unwrap();
    message(run(&["restore", &monday, &shown(&folder.path().join("new"))]), 1, "is damaged: its checksum");
}
