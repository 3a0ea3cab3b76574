//! Calls about the catalogue: datasets, metrics, tags, series, names, tables of definitions, and mappings.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use serde_json::{Value, json};
use support::{Answer, Api, Service, problems};

const VELMAR: &str = "/api/v1/datasets/velmar";

/// A service with the dataset `velmar` and an hour of levels in it.
fn with_levels() -> Service {
    let service = Service::start();
    service.put_json(VELMAR, &json!({ "zone": "Europe/Lisbon", "description": "The waterway" })).ok();
    service.push_levels("velmar");
    service
}

fn names(list: &Value, key: &str) -> Vec<String> {
    list.as_array().unwrap().iter().map(|item| item[key].as_str().unwrap().to_owned()).collect()
}

#[test]
fn a_dataset_is_defined_changed_listed_and_renamed() {
    let service = with_levels();
    let changed = service.put_json(VELMAR, &json!({ "zone": "Europe/Lisbon", "description": "Locks and reaches", "max_tags": 4 }));
    assert_eq!(changed.ok(), json!({ "created": false }));
    let listed = service.get("/api/v1/datasets").ok();
    assert_eq!(names(&listed, "name"), ["main", "velmar"]);
    let velmar = &listed[1];
    assert_eq!((&velmar["description"], &velmar["max_tags"], &velmar["closed"]), (&json!("Locks and reaches"), &json!(4), &json!(false)));
    assert_eq!((&velmar["metrics"], &velmar["series"], &velmar["points"]), (&json!(2), &json!(4), &json!(240)));
    assert_eq!((&velmar["first"], &velmar["last"]), (&json!("2026-05-01T09:00:00Z"), &json!("2026-05-01T09:59:00Z")));

    assert_eq!(service.post_json(&format!("{VELMAR}/rename"), &json!({ "to": "waterway" })).ok(), json!({ "references": [] }));
    assert_eq!(names(&service.get("/api/v1/datasets").ok(), "name"), ["main", "waterway"]);
    let latest = service.get(&format!("{VELMAR}/latest")).ok();
    assert_eq!(latest["total"], 4, "the old name still answers");
    service.post_json("/api/v1/forget-name", &json!({ "kind": "dataset", "name": "velmar" })).ok();
    assert_eq!(service.get(&format!("{VELMAR}/latest")).status, 404);
}

#[test]
fn a_metric_is_defined_renamed_and_converted_with_its_points() {
    let service = with_levels();
    let metric = format!("{VELMAR}/metrics/level");
    let tried = service.put_json(&format!("{metric}?convert=true&dry_run=true"), &json!({ "unit": "m" }));
    assert_eq!(tried.problem(), "409 definition: `level`: there is nothing to convert");
    assert_eq!(service.put_json(&format!("{metric}?relabel=true"), &json!({ "unit": "cm" })).ok()["created"], false);
    let refused = service.put_json(&metric, &json!({ "unit": "m" })).problem();
    assert!(refused.starts_with("409 definition: `level` has 2 series with points in cm"), "{refused}");
    let tried = service.put_json(&format!("{metric}?convert=true&dry_run=true"), &json!({ "unit": "m" })).ok();
    assert_eq!(tried["converted"], json!({ "points": 120, "unfit": 0, "examples": [] }));
    assert_eq!(service.put_json(&format!("{metric}?convert=true"), &json!({ "unit": "m" })).ok()["converted"]["points"], 120);
    let answer = service.post_json(&format!("{VELMAR}/ask"), &json!({ "query": "show max of level overall over 2026-05-01" })).ok();
    assert_eq!((&answer["shows"][0]["unit"], &answer["shows"][0]["lines"][0]["values"][0]), (&json!("m"), &json!(3.2475)));

    service.post_json(&format!("{metric}/rename"), &json!({ "to": "water_level" })).ok();
    let listed = service.get(&format!("{VELMAR}/metrics")).ok();
    assert_eq!(names(&listed, "name"), ["gate", "water_level"]);
    assert_eq!((&listed[1]["old_names"], &listed[1]["tags"]), (&json!(["level"]), &json!(["lock", "side"])));
    let pushed = service.post_json(&format!("{VELMAR}/points"), &json!({ "metric": "level", "tags": { "lock": "osier", "side": "up" }, "value": 3 }));
    assert_eq!(pushed.ok()["new_metrics"], json!([]), "the old name still takes points");
}

#[test]
fn a_tag_is_defined_renamed_and_keeps_its_rules() {
    let service = with_levels();
    let tag = format!("{VELMAR}/tags/side");
    assert_eq!(service.put_json(&tag, &json!({ "allowed": ["up", "down"], "required": true })).ok(), json!({ "created": true }));
    let push = |tags: Value| service.post_json(&format!("{VELMAR}/points"), &json!({ "metric": "level", "tags": tags, "value": 3 }));
    let refused = [push(json!({ "lock": "osier", "side": "left" })), push(json!({ "lock": "rush" }))];
    assert_eq!(
        problems(&refused),
        "422 rejected: all 1 rejected: line 1, side: `left` is not an allowed value of the tag: there are `up`, `down`\n\
         422 rejected: all 1 rejected: line 1, side: the required tag `side` is missing (a rule of the dataset `velmar`)"
    );
    service.post_json(&format!("{tag}/rename"), &json!({ "to": "bank" })).ok();
    let listed = service.get(&format!("{VELMAR}/tags")).ok();
    assert_eq!(names(&listed, "key"), ["bank", "lock"]);
    assert_eq!((&listed[0]["old_keys"], &listed[0]["definition"]["required"]), (&json!(["side"]), &json!(true)));
    let of_gate = service.get(&format!("{VELMAR}/tags?metric=gate")).ok();
    assert_eq!(of_gate[1]["values"], json!([{ "value": "marl", "series": 1 }, { "value": "osier", "series": 1 }]));
}

#[test]
fn series_and_latest_points_come_in_pages() {
    let service = with_levels();
    let page = |query: &str| service.get(&format!("{VELMAR}/latest?{query}")).ok();
    let all = page("");
    assert_eq!((&all["total"], all["items"].as_array().unwrap().len()), (&json!(4), 4));
    let two = page("limit=2");
    assert_eq!((&two["total"], two["items"].as_array().unwrap().len()), (&json!(4), 2));
    let marl = page("metric=level&search=marl");
    assert_eq!((&marl["total"], &marl["items"][0]["value"], &marl["items"][0]["time"]), (&json!(1), &json!(294.75), &json!("2026-05-01T09:59:00Z")));
    let series = service.get(&format!("{VELMAR}/series?metric=gate")).ok();
    assert_eq!((&series["total"], &series["items"][0]["points"]), (&json!(2), &json!(60)));
}

#[test]
fn a_definitions_table_round_trips() {
    let service = with_levels();
    let path = format!("{VELMAR}/definitions.csv");
    let table = service.get(&path);
    assert_eq!((table.status, table.kind.as_str()), (200, "text/csv; charset=utf-8"));
    let post = |query: &str, text: &str| service.post(&format!("{path}{query}"), &[("Content-Type", "text/csv")], text.as_bytes());
    assert_eq!(post("?dry_run=true", &table.text()).ok(), json!({ "new": [], "changed": [], "same": 2, "applied": false }));
    let missing = post("", "metric,knid\nlevel,gauge\n");
    assert!(missing.problem().contains("there is no column `knid`: did you mean `kind`?"), "{}", missing.problem());
    let refused = post("", "metric,kind\nlevel,state\n");
    assert!(refused.problem().starts_with("409 definition: `level` is a gauge with 2 series"), "{}", refused.problem());
    let fresh = post("", "metric,kind,unit,description\nflow,gauge,m3/s,Flow over the weir\n").ok();
    assert_eq!((&fresh["new"], &fresh["applied"]), (&json!(["flow"]), &json!(true)));
    let many = json!({ "metrics": { "flow": { "unit": "m3/s", "description": "Flow" }, "rain": { "kind": "counter" } }, "dry_run": true });
    let differences = service.post_json(&format!("{VELMAR}/metrics"), &many).ok();
    assert_eq!((&differences["new"], &differences["changed"][0]["field"]), (&json!(["rain"]), &json!("description")));
}

#[test]
fn a_mapping_is_stored_read_used_and_removed() {
    let service = with_levels();
    let mapping = json!({ "time": { "column": "at" }, "columns": [{ "column": "flow", "name": "flow", "role": "value" }] });
    assert_eq!(service.put_json("/api/v1/mappings/weirs", &mapping).ok(), json!({ "created": true }));
    assert_eq!(service.put_json("/api/v1/mappings/weirs", &mapping).ok(), json!({ "created": false }));
    let toml = service.put("/api/v1/mappings/keepers", &[("Content-Type", "application/toml")], b"[time]\ncolumn = \"at\"\n");
    assert_eq!(toml.ok(), json!({ "created": true }));
    assert_eq!(names(&service.get("/api/v1/mappings").ok(), "name"), ["keepers", "weirs"]);
    let push = service.post(&format!("{VELMAR}/points?mapping=weirs"), &[("Content-Type", "text/csv")], b"at,flow\n2026-05-01T10:00:00Z,4.5\n");
    assert_eq!(push.ok()["new_metrics"], json!(["flow"]));
    let references = service.get(&format!("{VELMAR}/references?metric=flow")).ok();
    assert_eq!(references, json!([{ "kind": "mapping", "name": "weirs", "how": "brings values for it" }]));
    assert_eq!(service.delete("/api/v1/mappings/weirs").status, 204);
    let gone = [service.get("/api/v1/mappings/weirs"), service.delete("/api/v1/mappings/weirs"), service.get("/api/v1/mappings/keeper")];
    assert_eq!(
        problems(&gone),
        "404 not-found: there is no mapping `weirs`: the only one is `keepers`\n\
         404 not-found: there is no mapping `weirs`: the only one is `keepers`\n\
         404 not-found: there is no mapping `keeper`: did you mean `keepers`?"
    );
}

#[test]
fn invalid_definitions_are_refused_with_the_reason() {
    let service = with_levels();
    let put = |path: &str, body: Value| service.put_json(path, &body);
    let post = |path: &str, body: Value| service.post_json(&format!("{VELMAR}{path}"), &body);
    let refused: Vec<Answer> = vec![
        put("/api/v1/datasets/Velmar", json!({})),
        put(VELMAR, json!({ "zone": "Europe/Velmar" })),
        put(VELMAR, json!({ "zonee": "UTC" })),
        put(&format!("{VELMAR}/metrics/level"), json!({ "kind": "state" })),
        put(&format!("{VELMAR}/metrics/level"), json!({ "kind": "gage" })),
        put(&format!("{VELMAR}/metrics/level"), json!({ "thinning": {} })),
        put(&format!("{VELMAR}/metrics/flow"), json!({ "kind": "state", "temporality": "delta" })),
        put("/api/v1/datasets/nowhere/metrics/level", json!({})),
        put(&format!("{VELMAR}/tags/lock"), json!({ "pattern": "(" })),
        put("/api/v1/mappings/a%20b", json!({})),
        put("/api/v1/mappings/weirs", json!({ "columns": [{ "colum": "flow" }] })),
        post("/rename", json!({ "to": "main" })),
        post("/rename", json!({ "to": "Velmar" })),
        post("/metrics/level/rename", json!({ "to": "gate" })),
        post("/metrics/levle/rename", json!({ "to": "stage" })),
        post("/tags/lock/rename", json!({ "to": "side" })),
        post("/tags/locks/rename", json!({ "to": "at" })),
        service.post_json("/api/v1/forget-name", &json!({ "kind": "metric", "dataset": "velmar", "name": "stage" })),
        service.post_json("/api/v1/forget-name", &json!({ "kind": "series", "name": "stage" })),
        service.get(&format!("{VELMAR}/series?metric=levle")),
        service.get(&format!("{VELMAR}/latest?limit=-1")),
        service.get(&format!("{VELMAR}/latest?limt=3")),
    ];
    insta::assert_snapshot!(problems(&refused));
}
