//! Calls that ask: answers in each format, checks, explanations, completions, and their limits.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use serde_json::{Value, json};
use support::{Answer, Api, Service, problems};

const ASK: &str = "/api/v1/datasets/main/ask";

fn with_levels() -> Service {
    let service = Service::start();
    service.push_levels("main");
    service
}

#[test]
fn a_query_is_text_or_a_tree_in_the_body_or_the_url() {
    let service = with_levels();
    let frame = "over 2026-05-01T09:00 to 2026-05-01T10:00 per 30m";
    let posted = service.post_json(ASK, &json!({ "query": "show mean of level by lock", "frame": frame })).ok();
    assert_eq!(posted["shows"][0]["lines"][0], json!({ "tags": { "lock": "marl" }, "values": [283.625, 291.125] }));
    let tree = service.post_json(&format!("{ASK}/check"), &json!({ "query": "show mean of level by lock", "frame": frame })).ok()["tree"].clone();
    let of_tree = service.post_json(ASK, &json!({ "tree": tree, "frame": frame })).ok();
    let of_url = service.get(&format!("{ASK}?query=show+mean+of+level+by+lock&frame=over+2026-05-01T09:00+to+2026-05-01T10:00+per+30m")).ok();
    assert_eq!((&of_tree["shows"], &of_url["shows"]), (&posted["shows"], &posted["shows"]));
}

#[test]
fn an_answer_is_available_as_text_lines_and_columns() {
    let service = with_levels();
    let path = format!("{ASK}?query=show+mean+of+level+overall+over+2026-05-01T09:00+to+2026-05-01T10:00");
    let kinds = ["text/csv", "application/x-ndjson", "application/vnd.apache.arrow.stream", "application/vnd.apache.parquet"];
    for kind in kinds {
        let answer = service.get_as(&path, kind);
        assert_eq!((answer.status, answer.kind.split(';').next().unwrap()), (200, kind));
        assert!(!answer.bytes().is_empty());
    }
    assert!(service.get_as(&path, "application/vnd.apache.parquet").bytes().starts_with(b"PAR1"));
    assert!(service.get_as(&path, "text/csv").text().contains("302.375"), "{}", service.get_as(&path, "text/csv").text());
    assert_eq!(service.get_as(&path, "image/png").status, 400);
}

#[test]
fn a_query_is_checked_explained_and_completed() {
    let service = with_levels();
    let post = |call: &str, body: Value| service.post_json(&format!("{ASK}/{call}"), &body).ok();
    let checked = post("check", json!({ "query": "show mean of levle over last 1h" }));
    assert_eq!((&checked["problem"]["help"], &checked["problem"]["place"]["column"]), (&json!("did you mean `level`?"), &json!(14)));
    let explained = post("explain", json!({ "query": "show mean of level by lock over 2026-05-01 per 1h" }));
    assert_eq!((&explained["reads"][0]["series"], &explained["shows"][0]["lines"]), (&json!(2), &json!(2)));
    let completed = post("complete", json!({ "query": "show mean of le", "cursor": 15 }));
    let texts: Vec<&str> = completed["suggestions"].as_array().unwrap().iter().map(|one| one["text"].as_str().unwrap()).collect();
    assert_eq!((texts, &completed["start"], &completed["end"]), (vec!["level"], &json!(13), &json!(15)));
}

#[test]
fn limits_of_a_query_come_from_the_configuration() {
    let folder = tempfile::tempdir().unwrap();
    let text = "[store]\npath = \"store\"\n[listen]\naddress = \"127.0.0.1:0\"\n[limits]\nmax_series = 1\nmax_cells = 100\nmax_points = 10\n";
    let service = Service::configured(folder.path(), text);
    service.push_levels("main");
    let ask = |query: &str| service.post_json(ASK, &json!({ "query": format!("show {query} over 2026-05-01T09:00 to 2026-05-01T10:00") }));
    let refused = [ask("mean of level"), ask("mean of level where lock = \"marl\" per 1s"), ask("points of level where lock = \"marl\"")];
    insta::assert_snapshot!(problems(&refused));
    assert_eq!(ask("mean of level where lock = \"marl\"").status, 200);
}

#[test]
fn invalid_queries_are_refused_with_their_position() {
    let service = with_levels();
    let post = |body: Value| service.post_json(ASK, &body);
    let refused: Vec<Answer> = vec![
        post(json!({ "query": "" })),
        post(json!({ "query": "show mean of level" })),
        post(json!({ "query": "show mean of level", "frame": "last 2h" })),
        post(json!({ "query": "show mean of level over last 1h", "tree": {} })),
        post(json!({ "tree": { "shows": [{ "expr": { "numbr": 1 } }] } })),
        post(json!({ "query": "show mean of level where lock = over last 1h" })),
        post(json!({ "query": "show mean of gate over last 1h" })),
        post(json!({ "query": "show mean of level over last 1h from 1h" })),
        service.get(ASK),
        service.get(&format!("{ASK}?query=show+mean+of+level&farme=over+last+1h")),
        service.post_json("/api/v1/datasets/mian/ask", &json!({ "query": "show mean of level over last 1h" })),
        service.post_json(&format!("{ASK}/complete"), &json!({ "query": "show", "cursor": -1 })),
        service.post_json(&format!("{ASK}/explain"), &json!({ "query": "show" })),
    ];
    insta::assert_snapshot!(problems(&refused));
}
