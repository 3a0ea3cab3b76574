//! Calls about the running service: health, jobs, overview, arrivals, and lists in pages.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::io::{BufRead, BufReader};

use serde_json::{Value, json};
use support::{Api, Service, agent, problems};

#[test]
fn health_tells_life_from_readiness() {
    let service = Service::start();
    assert_eq!(service.get("/health/live").status, 200);
    assert_eq!(service.get("/health/ready").status, 200);
    assert_eq!(service.post("/health/live", &[], b"").problem().split(':').next().unwrap(), "405 method");
}

#[test]
fn jobs_are_listed_with_state_and_figures() {
    let service = Service::start();
    service.push_levels("main");
    service.post_json("/api/v1/storage/compact", &json!({ "dataset": "main" }));
    let jobs = service.get("/api/v1/jobs").ok();
    let names: Vec<&str> = jobs.as_array().unwrap().iter().map(|job| job["name"].as_str().unwrap()).collect();
    for name in ["committer", "compactor", "roller", "upkeep"] {
        assert!(names.contains(&name), "{name} is missing from {names:?}");
    }
    for job in jobs.as_array().unwrap() {
        assert!(["working", "resting"].contains(&job["phase"].as_str().unwrap()), "{job}");
        assert_eq!((&job["failures"], &job["last_error"], &job["last_error_at"]), (&json!(0), &json!(null), &json!(null)), "{job}");
        assert!(job["since"].as_str().unwrap().ends_with('Z') && job["worked_seconds"].as_f64().unwrap() >= 0.0, "{job}");
    }
    let committer = jobs.as_array().unwrap().iter().find(|job| job["name"] == "committer").unwrap();
    assert!(committer["steps"].as_u64().unwrap() >= 1, "a push is a step: {committer}");
}

#[test]
fn rejects_are_counted_by_reason_across_datasets() {
    let service = Service::start();
    service.put_json("/api/v1/datasets/velmar", &json!({})).ok();
    assert_eq!(service.get("/api/v1/arrivals/refused").ok()["causes"], json!([]));
    let push = |dataset: &str, body: &str| {
        service.post(&format!("/api/v1/datasets/{dataset}/points?value=level"), &[("Content-Type", "text/csv")], body.as_bytes())
    };
    push("main", "time,level\n2026-05-01T08:59:00Z,1\n2026-05-01T09:00:00Z,high\n2026-05-01T09:01:00Z,low\nyesterday,3\n").ok();
    push("velmar", "time,level\n2026-05-01T08:59:00Z,1\n2026-05-01T09:00:00Z,deep\n").ok();
    let causes = service.get("/api/v1/arrivals/refused").ok()["causes"].clone();
    let shown: Vec<(&str, u64, &str)> = causes
        .as_array()
        .unwrap()
        .iter()
        .map(|cause| (cause["cause"].as_str().unwrap(), cause["count"].as_u64().unwrap(), cause["dataset"].as_str().unwrap()))
        .collect();
    assert_eq!(shown, [("value", 3, "velmar"), ("time", 1, "main")]);
    assert!(causes[0]["example"].as_str().unwrap().contains("`deep` is not a number"), "{causes}");
    assert!(causes[1]["example"].as_str().unwrap().starts_with("line 5, time: "), "{causes}");
}

#[test]
fn the_tail_streams_batches_of_one_dataset() {
    let service = Service::start();
    service.put_json("/api/v1/datasets/velmar", &json!({})).ok();
    let response = agent().get(format!("{}/api/v1/arrivals/tail?dataset=velmar", service.url)).call().unwrap();
    assert_eq!(response.headers()["content-type"], "text/event-stream");
    let mut lines = BufReader::new(response.into_body().into_reader()).lines().map(Result::unwrap);
    assert!(lines.next().unwrap().starts_with(": the tail of velmar begins "));
    service.push_lines("main", "{\"metric\": \"level\", \"value\": 1}\n");
    service.push_lines("velmar", "{\"metric\": \"flow\", \"tags\": {\"lock\": \"osier\"}, \"value\": 2.5}\n");
    assert_eq!(lines.by_ref().find(|line| !line.is_empty()).as_deref(), Some("event: batch"));
    let data = lines.next().unwrap();
    let report: Value = serde_json::from_str(data.strip_prefix("data: ").unwrap()).unwrap();
    assert_eq!((&report["dataset"], &report["accepted"], &report["rejected"]), (&json!("velmar"), &json!(1), &json!(0)));
    assert_eq!((&report["points"][0]["metric"], &report["points"][0]["value"]), (&json!("flow"), &json!(2.5)));
    assert!(service.get("/api/v1/arrivals/tail?datasets=velmar").problem().starts_with("400 request: "));
}

#[test]
fn the_overview_counts_points_series_and_files() {
    let service = Service::start();
    assert_eq!(service.get("/api/v1/overview").ok()["points"], 0);
    service.push_levels("main");
    let overview = service.get("/api/v1/overview").ok();
    assert_eq!((&overview["points"], &overview["series"]), (&json!(240), &json!(4)), "{overview}");
}

#[test]
fn series_and_latest_points_are_filtered_and_paged() {
    let service = Service::start();
    service.push_levels("main");
    let page = |query: &str| service.get(&format!("/api/v1/datasets/main/series{query}")).ok();
    assert_eq!(page("")["total"], 4);
    let last = page("?offset=3&limit=2");
    assert_eq!((&last["total"], last["items"].as_array().unwrap().len()), (&json!(4), 1));
    assert_eq!(page("?search=OSIER")["total"], 2);
    assert_eq!(page("?metric=gate&search=marl")["items"][0]["tags"], json!({ "lock": "marl", "side": "up" }));
    let latest = service.get("/api/v1/datasets/main/latest?metric=level&search=osier").ok();
    assert_eq!((&latest["items"][0]["value"], &latest["items"][0]["time"]), (&json!(324.75), &json!("2026-05-01T09:59:00Z")));
    let refused = ["series?metric=levle", "series?limit=many", "latest?offset=-1", "latest?tag=lock"];
    insta::assert_snapshot!(problems(&refused.map(|path| service.get(&format!("/api/v1/datasets/main/{path}")))));
    assert_eq!(page("?limit=20000")["total"], 4, "a limit past the maximum is the maximum");
    assert!(service.get("/api/v1/datasets/mian/series").problem().starts_with("404 no-dataset: "));
}

#[test]
fn a_source_of_the_service_watches_the_service_itself() {
    let service = Service::start();
    service.push_levels("main");
    let text = service.get("/metrics");
    assert_eq!((text.status, text.kind.as_str()), (200, "application/openmetrics-text; version=1.0.0; charset=utf-8"));
    for line in ["fenetre_points_accepted_total{dataset=\"main\",source=\"push\"} 240", "fenetre_series{dataset=\"main\"} 4", "# EOF"] {
        assert!(text.text().lines().any(|found| found == line), "{line} is not in {}", text.text());
    }
    service.put_json("/api/v1/datasets/own", &json!({})).ok();
    let source = json!({ "kind": "poll", "dataset": "own", "every": "200ms", "targets": [{ "url": format!("{}/metrics", service.url) }] });
    service.put_json("/api/v1/sources/own", &source).ok();
    let ask =
        "/api/v1/datasets/own/ask?query=show%20last%20of%20fenetre_points_accepted%20where%20dataset%20%3D%20%22main%22%20overall%20over%20last%201h";
    let begun = std::time::Instant::now();
    loop {
        let shown = service.get("/api/v1/sources/own").ok();
        if shown["rounds"].as_u64() >= Some(2) {
            assert_eq!((&shown["rejected"], &shown["error"]), (&json!(0), &json!(null)), "{shown}");
            break;
        }
        assert!(begun.elapsed() < std::time::Duration::from_secs(20), "{shown}");
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    let answer = service.get(ask).ok();
    assert_eq!(answer["shows"][0]["lines"][0]["values"][0], 240.0, "{answer}");
}
