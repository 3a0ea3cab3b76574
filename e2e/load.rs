//! More calls than can be served at once: which of them wait for which, and how the service refuses those for which there is no room.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use std::{
    io::{Read, Write},
    net::TcpStream,
    time::Duration,
};

use serde_json::{Value, json};
use support::{Api, Service, file, long_query, seconds_of_levels};

const ASK: &str = "/api/v1/datasets/main/ask";
const POINTS: &str = "/api/v1/datasets/main/points";
const JSON: (&str, &str) = ("Content-Type", "application/json");

/// Sends a call without waiting for its answer.
fn send(service: &Service, path: &str, body: &str) -> TcpStream {
    let host = service.url.trim_start_matches("http://");
    let mut stream = TcpStream::connect(host).unwrap();
    let head = format!("POST {path} HTTP/1.1\r\nHost: {host}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n", body.len());
    stream.write_all(head.as_bytes()).unwrap();
    stream.write_all(body.as_bytes()).unwrap();
    stream.set_read_timeout(Some(Duration::from_millis(20))).unwrap();
    stream
}

/// The beginning of an answer, where there is one yet.
fn peek(stream: &mut TcpStream) -> Option<String> {
    let mut bytes = [0; 4_096];
    let read = stream.read(&mut bytes).ok()?;
    Some(String::from_utf8_lossy(&bytes[..read]).into_owned())
}

#[test]
fn short_calls_do_not_queue_behind_long_ones_and_the_queue_is_bounded() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(folder.path());
    service.push_lines("main", &seconds_of_levels());
    let body = long_query();
    // More than run at once and may wait.
    let mut long: Vec<TcpStream> = (0..100).map(|_| send(&service, ASK, &body)).collect();
    let refusal = loop {
        if let Some(answer) = long.iter_mut().find_map(peek) {
            break answer;
        }
    };
    assert!(refusal.starts_with("HTTP/1.1 503") && refusal.to_lowercase().contains("retry-after: 1"), "{refusal}");
    assert!(refusal.contains("application/problem+json") && refusal.contains("64 long queries are already waiting"), "{refusal}");
    assert_eq!(service.get("/health/ready").status, 200);
    let pushed = service.post(POINTS, &[JSON], br#"{"metric": "flow", "value": 1}"#);
    assert_eq!(pushed.status, 200, "{}", pushed.text());
    assert_eq!(service.get("/api/v1/datasets").status, 200);
    let short = service.post(ASK, &[JSON], json!({ "query": "show count of level overall over 2026-05-01" }).to_string().as_bytes());
    assert_eq!(short.json()["shows"][0]["lines"][0]["values"], json!([20_000.0]), "{}", short.text());
    // Most of them are still waiting.
    let answered = long.iter_mut().filter_map(peek).filter(|answer| answer.starts_with("HTTP/1.1 200")).count();
    assert!(answered < 60, "{answered} long queries were answered first");
    service.kill();
}

#[test]
fn queueing_counts_towards_the_query_timeout() {
    let folder = tempfile::tempdir().unwrap();
    let config =
        file(folder.path(), "fenetre.toml", "[limits]\nmax_query_seconds = 2\n[store]\npath = \"store\"\n[listen]\naddress = \"127.0.0.1:0\"\n");
    let service = Service::start_with(&["serve", "--config", &config]);
    service.push_lines("main", &seconds_of_levels());
    let body = long_query();
    let mut long: Vec<TcpStream> = (0..40).map(|_| send(&service, ASK, &body)).collect();
    let mut message = String::new();
    while !message.contains("the time limit passed while waiting") {
        message.extend(long.iter_mut().filter_map(peek));
    }
    assert!(message.contains("HTTP/1.1 503"), "{message}");
    service.kill();
}

#[test]
fn a_failed_packing_blocks_no_other_work() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(folder.path());
    service.push_lines("main", "{\"metric\": \"level\", \"time\": \"2026-05-01T09:00:00Z\", \"value\": 1}\n");
    let data = folder.path().join("data/main");
    let _ = std::fs::remove_dir(&data);
    std::fs::write(&data, "not a folder").unwrap();
    let delete = |dry_run: bool| {
        let order = json!({ "metric": "level", "from": "2026-05-01T00:00:00Z", "to": "2026-05-02T00:00:00Z", "dry_run": dry_run });
        service.post("/api/v1/datasets/main/points/delete", &[JSON], order.to_string().as_bytes())
    };
    for _ in 0..4 {
        let looked = delete(true);
        assert_eq!((looked.status, looked.json()["points"].clone()), (200, json!(1)), "{}", looked.text());
        let refused = delete(false);
        let detail = refused.json()["detail"].as_str().unwrap_or_default().to_owned();
        assert_eq!(refused.status, 500, "{detail}");
        assert!(
            detail.starts_with("points in the journal cannot be packed") && detail.contains("the requested operation was not started"),
            "{detail}"
        );
    }
    service.push_lines("main", "{\"metric\": \"level\", \"time\": \"2026-05-01T10:00:00Z\", \"value\": 2}\n");
    let count = service.post(ASK, &[JSON], json!({ "query": "show count of level over 2026-05-01" }).to_string().as_bytes()).json();
    assert_eq!(count["shows"][0]["lines"][0]["values"], json!([2.0]));
    assert_eq!(service.get("/health/ready").json(), json!({ "status": "ready" }));
    std::fs::remove_file(&data).unwrap();
    assert_eq!(delete(false).json()["points"], Value::from(2));
}

#[test]
fn an_open_live_view_does_not_delay_shutdown() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(folder.path());
    let host = service.url.trim_start_matches("http://").to_owned();
    let mut tail = TcpStream::connect(&host).unwrap();
    tail.write_all(format!("GET /api/v1/arrivals/tail HTTP/1.1\r\nHost: {host}\r\n\r\n").as_bytes()).unwrap();
    tail.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
    assert!(peek(&mut tail).unwrap().starts_with("HTTP/1.1 200"));
    assert_eq!(service.stop("-TERM"), Some(0));
    // The answer was ended, and not cut: its last chunk is there.
    let mut rest = String::new();
    tail.read_to_string(&mut rest).unwrap();
    assert!(rest.ends_with("0\r\n\r\n"), "{rest:?}");
}

#[test]
fn few_file_descriptors_suffice_for_many_partitions() {
    let folder = tempfile::tempdir().unwrap();
    let config = file(folder.path(), "fenetre.toml", "[store]\npath = \"store\"\n[listen]\naddress = \"127.0.0.1:0\"\n");
    let script = format!("ulimit -n 64; exec '{}' serve --config '{config}'", env!("CARGO_BIN_EXE_fenetre"));
    let service = Service::start_command(std::process::Command::new("sh").args(["-c", &script]));
    // Two hours of each Monday of a year, so that each week is a file.
    let start = jiff::Timestamp::from_second(1_735_516_800).unwrap();
    for week in 0..40 {
        let line = |second: i64| {
            let at = start + jiff::SignedDuration::from_secs(week * 7 * 86_400 + second);
            format!("{{\"metric\":\"level\",\"time\":\"{at}\",\"value\":{second}}}\n")
        };
        service.push_lines("main", &(0..7_200).map(line).collect::<String>());
    }
    assert_eq!(service.run(&["backup", &folder.path().join("copy").display().to_string()]).code(), 0);
    let partitions = service.get("/api/v1/storage").json()["datasets"][0]["partitions"].as_array().unwrap().len();
    assert!(partitions >= 20, "{partitions} partitions");
    for _ in 0..3 {
        let asked = json!({ "query": "show count of level over 2024-12-01 to 2026-01-01 per 1mo" }).to_string();
        let answer = service.post(ASK, &[JSON], asked.as_bytes());
        assert_eq!(answer.status, 200, "{}", answer.text());
        let counted: f64 = answer.json()["shows"][0]["lines"][0]["values"].as_array().unwrap().iter().filter_map(Value::as_f64).sum();
        assert_eq!(counted, 40.0 * 7_200.0);
    }
}
