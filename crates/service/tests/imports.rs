//! Calls about imports: a file is uploaded, looked at, tried, imported, listed and forgotten.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::time::{Duration, Instant};

use serde_json::{Value, json};
use support::{Answer, Api, Service, an_hour_of_levels, problems};

const UPLOAD: &str = "/api/v1/datasets/main/imports";

fn upload(service: &Service, name: &str, text: &str) -> String {
    let record = service.post(&format!("{UPLOAD}?file={name}"), &[], text.as_bytes()).ok();
    record["id"].as_str().unwrap().to_owned()
}

/// Runs an import and returns its record once it has ended.
fn run(service: &Service, id: &str, order: &Value) -> Value {
    let begun = service.post_json(&format!("/api/v1/imports/{id}/run"), order);
    assert!([200, 202].contains(&begun.status), "{}", begun.text());
    let start = Instant::now();
    loop {
        let record = service.get(&format!("/api/v1/imports/{id}")).ok();
        if record["stage"] != "running" && !record["ended"].is_null() {
            return record;
        }
        assert!(start.elapsed() < Duration::from_secs(60), "{record}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn an_import_is_previewed_tried_run_and_removed() {
    let service = Service::start();
    let text = format!("{}2026-05-01T10:00:00Z,osier,up,high,open\n", an_hour_of_levels());
    let id = upload(&service, "levels.csv", &text);
    let look = service.post_json(&format!("/api/v1/imports/{id}/look"), &json!({ "rows": 2 })).ok();
    assert_eq!((&look["names"], look["rows"].as_array().unwrap().len()), (&json!(["time", "lock", "side", "level_cm", "gate"]), 2));
    let mapping = look["guess"]["mapping"].clone();
    let tried = run(&service, &id, &json!({ "mapping": mapping, "dry_run": true }));
    assert_eq!((&tried["accepted"], &tried["rejected"], &tried["stage"]), (&json!(241), &json!(1), &json!("waiting")));
    assert_eq!(service.get("/api/v1/datasets/main/metrics").ok(), json!([]), "a dry run stores nothing");
    let done = run(&service, &id, &json!({ "mapping": mapping }));
    assert_eq!((&done["stage"], &done["accepted"], &done["new_series"]), (&json!("done"), &json!(241), &json!(4)));
    assert_eq!(done["causes"], json!({ "value": 1 }));
    let rejects = service.get(&format!("/api/v1/imports/{id}/rejects"));
    assert_eq!((rejects.status, rejects.text().lines().count()), (200, 2), "{}", rejects.text());
    assert_eq!(service.get("/api/v1/imports").ok()[0]["id"], id);
    assert_eq!(service.delete(&format!("/api/v1/imports/{id}")).status, 204);
    assert_eq!(service.get("/api/v1/imports").ok(), json!([]));
}

#[test]
fn all_or_nothing_stores_nothing_of_a_file_with_a_bad_row() {
    let service = Service::start();
    let id = upload(&service, "flow.jsonl", "{\"metric\":\"flow\",\"value\":4.5}\n{\"metric\":\"flow\"}\n");
    let record = run(&service, &id, &json!({ "all_or_nothing": true }));
    assert_eq!((&record["stage"], &record["accepted"], &record["rejected"]), (&json!("failed"), &json!(0), &json!(1)), "{record}");
    assert_eq!(service.get("/api/v1/datasets/main/metrics").ok(), json!([]));
}

#[test]
fn invalid_imports_are_refused_with_the_reason() {
    let service = Service::start();
    let id = upload(&service, "levels.csv", &an_hour_of_levels());
    let lines = upload(&service, "flow.jsonl", "{\"metric\":\"flow\",\"value\":4.5}\n");
    let post = |call: &str, body: Value| service.post_json(&format!("/api/v1/imports/{call}"), &body);
    let refused: Vec<Answer> = vec![
        service.post(UPLOAD, &[], b"x"),
        service.post(&format!("{UPLOAD}?file=levels.docx"), &[], b"x"),
        service.post(&format!("{UPLOAD}?file=levels.csv&format=cvs"), &[], b"x"),
        service.post("/api/v1/datasets/mian/imports?file=levels.csv", &[], b"x"),
        service.get("/api/v1/imports/none"),
        post("none/run", json!({})),
        post(&format!("{id}/run"), json!({ "mapping_name": "weirs" })),
        post(&format!("{id}/run"), json!({ "mapping": { "columns": [{ "column": "level_cm", "role": "valeu" }] } })),
        post(&format!("{lines}/run"), json!({ "mapping": { "time": { "zone": "Europe/Velmar" } } })),
        post(&format!("{id}/run"), json!({ "dryrun": true })),
        post(&format!("{id}/look"), json!({ "rows": -1 })),
        post(&format!("{lines}/stop"), json!({})),
        service.delete("/api/v1/imports/none"),
        service.get("/api/v1/imports/none/rejects"),
    ];
    insta::assert_snapshot!(problems(&refused).replace(&id, "ID").replace(&lines, "LINES"));
}
