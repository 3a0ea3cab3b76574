//! Retention, what is stored, and rollups through the real service: what people see before and after, over a restart, and in their configuration file.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use std::{
    path::Path,
    time::{Duration, Instant},
};

use jiff::{Timestamp, ToSpan, tz::TimeZone};
use serde_json::Value;
use support::{Api, Service, file};

/// Points every ten minutes of two locks over so many days up to this hour.
fn history(days: i64) -> String {
    let hour = Timestamp::now().as_second() / 3_600 * 3_600;
    let mut lines = String::new();
    for step in 0..days * 144 {
        let at = Timestamp::from_second(hour - step * 600).unwrap();
        for (lock, base) in [("osier", 300), ("marl", 280)] {
            lines += &format!("{{\"metric\":\"level\",\"tags\":{{\"lock\":\"{lock}\"}},\"time\":\"{at}\",\"value\":{}}}\n", base + step * step % 17);
        }
    }
    lines
}

fn ago(days: i64) -> String {
    Timestamp::now().to_zoned_datetime(TimeZone::UTC).checked_sub(days.days()).unwrap().timestamp().to_string()
}

fn filled(store: &Path, more: &[&str]) -> Service {
    let path = store.display().to_string();
    let service = Service::start_with(&[&["serve", "--listen", "127.0.0.1:0", "--store", &path], more].concat());
    service.push_lines("main", &history(40));
    // A backup packs everything first.
    assert_eq!(service.run(&["backup", &store.with_extension("copy").display().to_string()]).code(), 0);
    service
}

fn retention(service: &Service) -> Value {
    service.get("/api/v1/retention").json()
}

/// Waits until something holds.
fn until(what: &str, holds: impl Fn() -> bool) {
    let began = Instant::now();
    while !holds() {
        assert!(began.elapsed() < Duration::from_secs(60), "{what}");
        std::thread::sleep(Duration::from_millis(100));
    }
}

#[test]
fn a_limit_is_previewed_applied_at_once_and_kept() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store");
    let service = filled(&store, &[]);
    let looked = service.run(&["retention", "set", "main", "--keep-for", "10d", "--preview"]);
    assert!(
        looked.out().contains("(was: no limit, built in)") && looked.out().contains("would expire now:") && looked.out().contains("forecast"),
        "{}",
        looked.all()
    );
    let points = || service.get("/api/v1/datasets").json()[0]["points"].as_u64().unwrap();
    let before = points();
    // Without a terminal nobody can confirm, so nothing changes without --yes.
    let refused = service.run(&["retention", "set", "main", "--keep-for", "10d"]);
    assert!(refused.code() == 2 && refused.err().contains("--yes"), "{}", refused.all());
    assert_eq!(points(), before);
    assert_eq!(service.run(&["retention", "set", "main", "--keep-for", "10d", "--yes"]).code(), 0);
    until("old partitions go", || points() < before / 2);
    let bin = service.run(&["bin", "-o", "json"]);
    let items: Value = serde_json::from_str(&bin.out()).unwrap();
    assert!(items.as_array().unwrap().iter().all(|item| item["kind"] == "partition"), "{}", bin.out());
    let id = items[0]["id"].as_str().unwrap();
    let again = service.run(&["retention", "restore", id]);
    assert!(again.code() == 1 && again.err().contains("would expire again at once"), "{}", again.all());
    // Points past retention are refused, with line and reason.
    let late = format!("{{\"metric\":\"level\",\"tags\":{{\"lock\":\"osier\"}},\"time\":\"{}\",\"value\":1}}\n", ago(20));
    let answer = service.post("/api/v1/datasets/main/points", &[("Content-Type", "application/x-ndjson")], late.as_bytes());
    assert!(
        answer.status == 422 && answer.text().contains("before the retention limit") && answer.text().contains("\"past\":1"),
        "{}",
        answer.text()
    );
    let shown = service.run(&["retention", "show"]).out();
    assert!(shown.contains("10d, runtime setting") && shown.contains("10d, from main"), "{shown}");
    service.kill();
    let service = Service::start(&store);
    assert!(service.run(&["retention", "show"]).out().contains("10d, runtime setting"));
    assert_eq!(service.run(&["retention", "set", "main", "--keep-for", "none"]).code(), 0);
    for item in items.as_array().unwrap() {
        assert_eq!(service.run(&["retention", "restore", item["id"].as_str().unwrap()]).code(), 0);
    }
    assert_eq!(service.get("/api/v1/datasets").json()[0]["points"].as_u64(), Some(before));
    let wrong = service.run(&["retention", "set", "main", "--keep-for", "30 sheep", "--preview"]);
    assert!(wrong.code() == 2 && wrong.err().contains("30 sheep"), "{}", wrong.all());
    assert_eq!(service.run(&["retention", "set", "mian", "--keep-for", "3d", "--preview"]).code(), 1);
}

#[test]
fn differences_between_live_and_file_are_shown_and_resolved() {
    let folder = tempfile::tempdir().unwrap();
    let config = file(
        folder.path(),
        "fenetre.toml",
        "# ours\n[retention]\nkeep_for = \"400d\"\n\n[retention.datasets.main]\nkeep_for = \"90d\" # a quarter\n",
    );
    let service = filled(&folder.path().join("store"), &["--config", &config]);
    let limit = |service: &Service| retention(service)["places"][1]["keep_for"]["text"].as_str().unwrap().to_owned();
    assert_eq!(limit(&service), "90d, configuration file");
    service.run(&["retention", "set", "main", "--keep-for", "80d", "--yes"]);
    assert_eq!((limit(&service), retention(&service)["differing"][0].as_str()), ("80d, runtime setting".to_owned(), Some("main")));
    assert!(service.run(&["retention", "show"]).out().contains("fenetre retention write-file"));
    // In the log too, at each start.
    service.kill();
    let service = Service::start_with(&[
        "serve",
        "--listen",
        "127.0.0.1:0",
        "--store",
        &folder.path().join("store").display().to_string(),
        "--config",
        &config,
    ]);
    assert!(
        service.message.contains("a runtime setting differs from the configuration file") && service.message.contains("place=\"main\""),
        "{}",
        service.message
    );
    assert_eq!(service.run(&["retention", "reset", "main"]).code(), 0);
    assert_eq!(limit(&service), "90d, configuration file");
    service.run(&["retention", "set", "main::level", "--keep-for", "60d", "--yes"]);
    service.run(&["retention", "set", "--keep-under", "20GB", "--yes"]);
    let written = service.run(&["retention", "write-file"]);
    assert!(written.code() == 0 && written.out().contains("main::level"), "{}", written.all());
    let text = std::fs::read_to_string(&config).unwrap();
    assert!(
        text.contains("# a quarter")
            && text.contains("[retention.datasets.main.metrics.level]\nkeep_for = \"60d\"")
            && text.contains("keep_under = \"20GB\""),
        "{text}"
    );
    assert_eq!(retention(&service)["differing"].as_array().map(Vec::len), Some(0));
    service.kill();
    let checked = support::run(&["config", "check", &config]);
    assert!(checked.out().contains("main::level  for 60d") && checked.out().contains("under 20GB"), "{}", checked.all());
}

#[test]
fn storage_is_listed_and_every_block_verified() {
    let folder = tempfile::tempdir().unwrap();
    let service = filled(&folder.path().join("store"), &[]);
    // What waits in memory counts in what is kept, a moment after it came.
    let packed = retention(&service)["places"][1]["points"].as_u64().unwrap();
    service.push_lines("main", "{\"metric\":\"flow\",\"value\":1}\n{\"metric\":\"flow\",\"tags\":{\"lock\":\"osier\"},\"value\":1}\n");
    let held = retention(&service);
    let points = |name: &str| held["places"].as_array().unwrap().iter().find(|place| place["name"] == name).unwrap()["points"].as_u64().unwrap();
    assert_eq!((points("main"), points("main::flow"), points("")), (packed + 2, 2, packed + 2));
    let storage = service.run(&["storage"]).out();
    assert!(
        ["catalogue", "journal", "bin", "bytes per packed point", "reserve", "packed", "over 7 days"].iter().all(|part| storage.contains(part)),
        "{storage}"
    );
    let top = service.run(&["storage", "top", "-o", "csv"]).out();
    assert!(top.starts_with("metric,series,points,on disk") && top.contains("level,2,11520,"), "{top}");
    let verified = service.run(&["storage", "verify"]);
    assert!(verified.code() == 0 && verified.out().contains("of 11,520 points: no errors"), "{}", verified.all());
    assert!(service.run(&["storage", "compact"]).out().contains("before"));
    let dry = service.run(&["expire", "--dry-run"]);
    assert_eq!(dry.out(), "nothing would expire now\n", "{}", dry.all());
}

#[test]
fn rollups_fill_and_answer_and_are_named() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store");
    let service = filled(&store, &[]);
    assert!(service.run(&["rollup"]).out().contains("has no rollups"));
    let levels = ["--level", "1h=2y", "--level", "1d"];
    let preview = service.run(&[&["rollup", "preview"][..], &levels].concat());
    let message = preview.out().split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        ["2 series of 1 metric: level", "1h 2y 48 6 ", "1d no limit 2 ", " per year"].iter().all(|part| message.contains(part)),
        "{}",
        preview.all()
    );
    assert_eq!(service.run(&[&["rollup", "set"][..], &levels].concat()).code(), 0);
    let is_filled = |service: &Service| {
        let info = service.get("/api/v1/datasets/main/rollups").json();
        info["policies"][0]["levels"].as_array().unwrap().iter().all(|level| level["filled"] == 1.0 && level["out_of_date"] == 0)
    };
    until("levels are filled", || is_filled(&service));
    let ask = |service: &Service, more: &str| {
        let body = serde_json::json!({ "query": format!("show mean of level overall over last 30d per 1d{more}") });
        let answer = service.post("/api/v1/datasets/main/ask", &[("Content-Type", "application/json")], body.to_string().as_bytes());
        assert_eq!(answer.status, 200, "{}", answer.text());
        answer.json()
    };
    let (rolled, raw) = (ask(&service, ""), ask(&service, " from raw"));
    assert!(rolled["cost"]["windows_read"].as_u64() > Some(40), "{}", rolled["cost"]);
    assert_eq!(raw["cost"]["windows_read"], 0);
    let values =
        |answer: &Value| answer["shows"][0]["lines"][0]["values"].as_array().unwrap().iter().map(Value::as_f64).collect::<Vec<Option<f64>>>();
    assert!(
        values(&rolled).iter().zip(values(&raw)).all(|(a, b)| (a.unwrap_or(0.0) - b.unwrap_or(0.0)).abs() < 1e-9 && a.is_some() == b.is_some()),
        "{rolled} {raw}"
    );
    assert!(rolled["sources"].as_array().unwrap().iter().any(|part| part["source"] == "1d"), "{}", rolled["sources"]);
    let ran = service.run(&["ask", "show mean of level overall over last 30d per 1d"]);
    let message = ran.err().split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(message.contains("1d rollup"), "{}", ran.all());
    let wrong = service.run(&["ask", "show mean of level over last 30d per 1d from 7m"]);
    assert!(wrong.code() == 2 && wrong.err().contains("there is no rollup of 7m") && wrong.err().contains("it has `1d`, `1h`"), "{}", wrong.all());
    // A late point is in the answer at once, and in the windows soon.
    let late = format!("{{\"metric\":\"level\",\"tags\":{{\"lock\":\"osier\"}},\"time\":\"{}\",\"value\":100000}}\n", ago(5));
    service.push_lines("main", &late);
    assert!(values(&ask(&service, "")).iter().any(|mean| *mean > Some(600.0)));
    service.kill();
    let service = Service::start(&store);
    assert!(values(&ask(&service, "")).iter().any(|mean| *mean > Some(600.0)));
    let shown = service.run(&["rollup", "show", "--measure"]).out();
    let storage = service.run(&["storage"]).out();
    assert!(storage.contains("main / 1h rollup of default") && storage.contains("main / 1d rollup of default"), "{storage}");
    assert!(shown.contains("100%") && shown.contains("measured with: show stddev of 'level'"), "{shown}");
    assert!(service.run(&["rollup", "fill", "--stop"]).out().contains("filling is stopped"));
    assert_eq!(service.run(&["rollup", "drop", "--yes"]).code(), 0);
    assert_eq!(ask(&service, "")["cost"]["windows_read"], 0);
    let nested = service.run(&["rollup", "set", "--level", "7m", "--level", "1h"]);
    assert!(nested.code() == 2 && nested.err().contains("each level must be a multiple of the one before it"), "{}", nested.all());
}
