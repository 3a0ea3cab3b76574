//! Calls about keeping: retention, expiry, rollups, storage, the bin, backups.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::time::{Duration, Instant};

use serde_json::{Value, json};
use support::{Answer, Api, Service, problems};

/// Two years of a reading per day at one lock, the last of them yesterday.
fn with_old_levels() -> Service {
    let service = Service::start();
    let day = Duration::from_secs(86_400);
    let now = jiff::Timestamp::now();
    let line = |ago: u32| format!("{{\"metric\":\"level\",\"tags\":{{\"lock\":\"osier\"}},\"time\":\"{}\",\"value\":{ago}}}\n", now - day * ago);
    service.push_lines("main", &(1..730).rev().map(line).collect::<String>());
    service.post_json("/api/v1/storage/tidy", &json!({ "dataset": "main" })).ok();
    service
}

/// Waits until a call returns what is expected.
fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let start = Instant::now();
    while !holds() {
        assert!(start.elapsed() < Duration::from_secs(60), "{what} did not come");
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn a_limit_is_previewed_set_shown_and_reset() {
    let service = with_old_levels();
    let order = |preview: bool| json!({ "place": "main", "limits": { "keep_for": "90d" }, "preview": preview });
    let preview = service.post_json("/api/v1/retention", &order(true)).ok();
    let lost = preview["expires"]["points"].as_u64().unwrap();
    assert!((600..=640).contains(&lost), "whole partitions older than 90 days: {lost}");
    assert_eq!((&preview["before"]["keep_for"]["limit"], &preview["after"]["keep_for"]["limit"]), (&json!(null), &json!("90d")));
    assert_eq!(preview["expires"]["metrics"], json!(["main::level"]));
    let main = |service: &Service| service.get("/api/v1/retention?dataset=main").ok()["places"][1].clone();
    assert_eq!(main(&service)["keep_for"]["text"], "no limit, built in", "a preview changes nothing");
    service.post_json("/api/v1/retention", &order(false)).ok();
    let place = main(&service);
    assert_eq!((&place["keep_for"]["text"], &place["live"]), (&json!("90d, runtime setting"), &json!({ "keep_for": "90d" })));
    until("expiry", || service.get("/api/v1/bin").ok().as_array().unwrap().iter().any(|item| item["kind"] == "partition"));
    let reset = service.post_json("/api/v1/retention", &json!({ "place": "main", "reset": true })).ok();
    assert_eq!(reset["after"]["keep_for"]["limit"], json!(null));
}

#[test]
fn expiry_is_previewed_and_undone() {
    let service = with_old_levels();
    service.post_json("/api/v1/retention", &json!({ "limits": { "keep_for": "1y" } })).ok();
    until("the expired partition", || !service.get("/api/v1/bin").ok().as_array().unwrap().is_empty());
    assert_eq!(service.post_json("/api/v1/expire", &json!({ "dry_run": true })).ok()["done"], false);
    assert_eq!(service.post("/api/v1/expire", &[], b"").ok()["done"], true);
    let bin = service.get("/api/v1/bin").ok();
    let restore = |item: &Value| service.post_json(&format!("/api/v1/bin/{}/restore", item["id"].as_str().unwrap()), &json!({}));
    let refused = restore(&bin[0]).problem();
    assert!(refused.starts_with("409 definition: ") && refused.contains("would expire again at once"), "{refused}");
    service.post_json("/api/v1/retention", &json!({ "limits": { "keep_for": null } })).ok();
    bin.as_array().unwrap().iter().for_each(|item| assert_eq!(restore(item).status, 204));
    let count = service.post_json("/api/v1/datasets/main/ask", &json!({ "query": "show count of level overall over last 3y" })).ok();
    assert_eq!(count["shows"][0]["lines"][0]["values"][0], 729.0);
}

#[test]
fn settings_are_written_to_the_configuration_file() {
    let folder = tempfile::tempdir().unwrap();
    let text = "# Kept by hand.\n[store]\npath = \"store\"\n[listen]\naddress = \"127.0.0.1:0\"\n[retention]\nkeep_for = \"5y\"\n";
    let service = Service::configured(folder.path(), text);
    service.post_json("/api/v1/retention", &json!({ "limits": { "keep_for": "2y" } })).ok();
    let info = service.get("/api/v1/retention").ok();
    assert_eq!((&info["differing"], &info["places"][0]["file"]), (&json!(["the store"]), &json!({ "keep_for": "5y" })));
    let written = service.post("/api/v1/retention/write-file", &[], b"").ok();
    assert_eq!(written["places"], json!(["the store"]));
    let now = std::fs::read_to_string(folder.path().join("fenetre.toml")).unwrap();
    assert_eq!(now, text.replace("5y", "2y"), "comments and order stay");
    let info = service.get("/api/v1/retention").ok();
    assert_eq!((&info["differing"], &info["places"][0]["keep_for"]["text"]), (&json!([]), &json!("2y, configuration file")));
}

#[test]
fn a_rollup_is_previewed_made_shown_and_dropped() {
    let service = with_old_levels();
    let policy = json!({ "levels": [{ "width": "1d" }, { "width": "1mo" }] });
    let rollups = "/api/v1/datasets/main/rollups";
    let preview = service.post_json(&format!("{rollups}/preview"), &policy).ok();
    assert_eq!((&preview["series"], &preview["levels"][0]["width"], &preview["metrics"]), (&json!(1), &json!("1d"), &json!(["level"])));
    assert_eq!(service.put_json(&format!("{rollups}/default"), &policy).ok()["created"], true);
    let level = |service: &Service| service.get(rollups).ok()["policies"][0]["levels"][0].clone();
    until("the level", || level(&service)["filled"] == 1.0);
    assert!(level(&service)["windows"].as_u64().unwrap() >= 728);
    let asked = json!({ "query": "show mean of level overall over last 1y per 1d from 1d" });
    let answer = service.post_json("/api/v1/datasets/main/ask", &asked).ok();
    assert!(answer["sources"].as_array().unwrap().iter().any(|source| source["source"].as_str().unwrap().contains("1d")), "{}", answer["sources"]);
    let stopped = service.post_json(&format!("{rollups}/fill"), &json!({ "stop": true })).ok();
    assert_eq!(stopped["fill_stopped"], true);
    assert_eq!(service.delete(&format!("{rollups}/default")).status, 204);
    assert_eq!(service.get(rollups).ok()["policies"], json!([]));
}

#[test]
fn files_are_listed_verified_compacted_and_their_loss_is_accepted() {
    let service = with_old_levels();
    let storage = service.get("/api/v1/storage").ok();
    let dataset = &storage["datasets"][0];
    assert_eq!((&dataset["name"], &dataset["points"], &storage["waiting_points"]), (&json!("main"), &json!(729), &json!(0)));
    let path = dataset["partitions"][0]["path"].clone();
    let verified = service.post_json("/api/v1/storage/verify", &json!({ "path": path })).ok();
    assert_eq!((&verified["points"], &verified["faulty"], &verified["faults"]), (&json!(729), &json!(0), &json!([])));
    let compacted = service.post_json("/api/v1/storage/compact", &json!({ "path": path })).ok();
    assert!(compacted["after"].as_u64() <= compacted["before"].as_u64());
    let top = service.get("/api/v1/storage/top").ok();
    assert_eq!((&top[0]["metric"], &top[0]["points"]), (&json!("level"), &json!(729)));
}

#[test]
fn a_metric_and_points_are_binned_and_restored() {
    let service = Service::start();
    service.push_levels("main");
    let tried = service.delete("/api/v1/datasets/main/metrics/level?dry_run=true").ok();
    assert_eq!((&tried["id"], &tried["series"], &tried["points"]), (&json!(null), &json!(2), &json!(120)));
    let deleted = service.delete("/api/v1/datasets/main/metrics/level").ok();
    let bin = service.get("/api/v1/bin").ok();
    assert_eq!((&bin[0]["kind"], &bin[0]["what"], &bin[0]["id"]), (&json!("metric"), &json!("level"), &deleted["id"]));
    let id = deleted["id"].as_str().unwrap();
    assert_eq!(service.post_json(&format!("/api/v1/bin/{id}/restore"), &json!({ "name": "old_level" })).status, 204);

    let order = |dry_run: bool| json!({ "metric": "old_level", "condition": "lock = \"marl\"", "from": "2026-05-01T09:00", "to": "2026-05-01T09:30", "dry_run": dry_run });
    let path = "/api/v1/datasets/main/points/delete";
    assert_eq!(service.post_json(path, &order(true)).ok()["points"], 30);
    let deleted = service.post_json(path, &order(false)).ok();
    let count = |service: &Service| {
        let asked = json!({ "query": "show count of old_level overall over 2026-05-01" });
        service.post_json("/api/v1/datasets/main/ask", &asked).ok()["shows"][0]["lines"][0]["values"][0].clone()
    };
    assert_eq!(count(&service), 90.0);
    assert_eq!(service.post_json(&format!("/api/v1/bin/{}/restore", deleted["id"].as_str().unwrap()), &json!({})).status, 204);
    assert_eq!(count(&service), 120.0);
    let deleted = service.post_json(path, &order(false)).ok();
    assert_eq!(service.delete(&format!("/api/v1/bin/{}", deleted["id"].as_str().unwrap())).status, 204);
    assert_eq!((service.get("/api/v1/bin").ok(), count(&service)), (json!([]), json!(90.0)));
}

#[test]
fn a_backup_runs_to_its_end() {
    let service = with_old_levels();
    service.put_json("/api/v1/datasets/main/rollups/default", &json!({ "levels": [{ "width": "1d" }] })).ok();
    let is_filled = || service.get("/api/v1/datasets/main/rollups").ok()["policies"][0]["levels"][0]["windows"] == 729;
    until("the rollups", is_filled);
    assert_eq!(service.get("/api/v1/backup").problem(), "404 not-found: no backup was made since the service started");
    let folder = tempfile::tempdir().unwrap();
    let to = folder.path().join("monday").display().to_string();
    let begun = service.post_json("/api/v1/backup", &json!({ "to": to }));
    assert!(begun.status == 202 || begun.status == 200, "{}", begun.text());
    until("the backup", || service.get("/api/v1/backup").ok()["stage"] != "running");
    let state = service.get("/api/v1/backup").ok();
    assert_eq!((&state["stage"], &state["points"]), (&json!("done"), &json!(729)), "{state}");
    let sums = std::fs::read_to_string(folder.path().join("monday/SHA256SUMS")).unwrap();
    let files = sums.lines().filter(|line| !line.ends_with("manifest.json")).count();
    assert_eq!((&state["files"], &state["done"], &state["kept"]), (&json!(files), &json!(files), &json!(0)), "{state}\n{sums}");
}

#[test]
fn invalid_limits_policies_and_ids_are_refused_with_the_reason() {
    let service = with_old_levels();
    let post = |path: &str, body: Value| service.post_json(&format!("/api/v1/{path}"), &body);
    let refused: Vec<Answer> = vec![
        post("retention", json!({ "place": "mian", "limits": { "keep_for": "90d" } })),
        post("retention", json!({ "place": "main::levle", "limits": {} })),
        post("retention", json!({ "limits": { "keep_for": "90 moons" } })),
        post("retention", json!({ "limits": { "keep_under": "lots" } })),
        post("retention", json!({ "say": { "keep_for": "90d" } })),
        service.post("/api/v1/retention/write-file", &[], b""),
        service.get("/api/v1/retention?dataset=mian"),
        post("expire", json!({ "dryrun": true })),
        post("datasets/main/rollups/preview", json!({ "levels": [] })),
        post("datasets/main/rollups/preview", json!({ "levels": [{ "width": "1h" }, { "width": "90m" }] })),
        service.put_json("/api/v1/datasets/main/rollups/default", &json!({ "where": "lock =", "levels": [{ "width": "1d" }] })),
        service.delete("/api/v1/datasets/main/rollups/hourly"),
        post("datasets/main/rollups/fill", json!({ "stop": false })),
        post("storage/verify", json!({ "path": "data/main/none.db" })),
        post("storage/compact", json!({ "path": "../catalogue.db" })),
        post("storage/tidy", json!({ "dataset": "mian" })),
        post("storage/accept-loss", json!({ "path": "data/main/none.db" })),
        service.delete("/api/v1/datasets/main/metrics/levle"),
        post("datasets/main/points/delete", json!({ "metric": "level", "from": "2026-05-02", "to": "2026-05-01" })),
        post("datasets/main/points/delete", json!({ "metric": "level", "from": "yesterdy", "to": "2026-05-01" })),
        post("datasets/main/points/delete", json!({ "metric": "level", "condition": "lock >", "from": "2026-05-01", "to": "2026-05-02" })),
        post("bin/p1/restore", json!({})),
        service.delete("/api/v1/bin/p1"),
        post("backup", json!({ "to": "relative" })),
        post("backup", json!({ "too": "/backup" })),
    ];
    insta::assert_snapshot!(problems(&refused));
}
