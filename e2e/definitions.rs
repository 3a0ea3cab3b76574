//! Saying what data means, from the command line: definitions one by one and thousands at once, new names, pauses, deletes and the way back.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::fs;

use support::{Api, Ran, Service, an_hour_of_levels, file};

fn with_levels(folder: &std::path::Path) -> Service {
    let service = Service::start(&folder.join("store"));
    let table = file(folder, "levels.csv", an_hour_of_levels());
    let ran = service.run(&["import", &table, "--tag", "lock", "--tag", "side", "--value", "level_cm=level", "--state", "gate"]);
    assert_eq!(ran.code(), 0, "{}", ran.all());
    service
}

fn message(steps: &[Ran]) -> String {
    steps.iter().map(Ran::all).collect::<Vec<_>>().join("\n")
}

/// Times of today and ids that follow from them differ from run to run.
fn settled(assert: impl FnOnce()) {
    let filters = vec![
        (r"202[6-9]-\d\d-\d\d[ T]\d\d:\d\d:\d\d(\.\d+Z)?( \(UTC\): `fenetre bin restore )\w+`", "[WHEN]$2[ID]`"),
        (r"p\d{13}", "[ID]"),
        (r"rejects \w+`", "rejects [ID]`"),
        (r"202\d-\d\d-\d\dT\d\d:\d\d:\d\d\.\d+Z", "[WHEN]"),
        (r"( +all +)202\d-\d\d-\d\d \d\d:\d\d   202\d-\d\d-\d\d \d\d:\d\d", "$1[WHEN]   [WHEN]"),
        (r", [\d.]+ (k?B)\n", ", [SIZE]\n"),
    ];
    insta::with_settings!({filters => filters}, { assert() });
}

#[test]
fn a_metric_is_renamed_paused_deleted_and_restored() {
    let folder = tempfile::tempdir().unwrap();
    let service = with_levels(folder.path());
    let ask = ["ask", "show count of level overall over 2026-05-01 to 2026-05-02", "-o", "csv"];
    let table = folder.path().join("levels.csv").display().to_string();
    let again = ["import", &table, "--tag", "lock", "--tag", "side", "--value", "level_cm=level"];
    let steps = [
        service.run(&["metrics", "rename", "level", "water_level"]),
        service.run(&ask),
        service.run(&["metrics", "pause", "water_level"]),
        service.run(&again),
        service.run(&["metrics", "pause", "water_level", "--drop"]),
        service.run(&again),
        service.run(&["metrics", "resume", "water_level"]),
        service.run(&["metrics", "retire", "gate"]),
        service.run(&["metrics", "review"]),
        service.run(&["metrics", "show", "water_level"]),
        service.run(&["metrics", "delete", "water_level", "--dry-run"]),
        service.run(&["metrics", "delete", "water_level"]),
        service.run(&["metrics", "delete", "water_level", "--yes"]),
        service.run(&ask),
        service.run(&["bin"]),
        service.run(&["bin", "restore", "m2"]),
        service.run(&ask),
        service.run(&["tags", "rename", "lock", "station"]),
        service.run(&["ask", "show count of water_level by lock over 2026-05-01 to 2026-05-02", "-o", "csv"]),
        service.run(&["peek", "water_level", "--where", "station = \"osier\"", "--count", "2"]),
        service.run(&["datasets", "rename", "main", "velmar"]),
        service.run(&["metrics", "--dataset", "main", "-o", "csv"]),
    ];
    let steps: Vec<String> =
        steps.iter().map(Ran::all).map(|message| message.lines().filter(|line| !line.starts_with("line ")).collect::<Vec<_>>().join("\n")).collect();
    settled(|| insta::assert_snapshot!(steps.join("\n\n")));
}

#[test]
fn a_span_of_points_is_deleted_and_restored() {
    let folder = tempfile::tempdir().unwrap();
    let service = with_levels(folder.path());
    let count = ["ask", "show count of level by lock over 2026-05-01 to 2026-05-02", "-o", "csv"];
    let delete = |more: &str| {
        service.run(&[
            "points",
            "delete",
            "level",
            "--where",
            "lock = \"osier\"",
            "--from",
            "2026-05-01T09:30:00Z",
            "--to",
            "2026-05-01T10:00:00Z",
            more,
        ])
    };
    let first = [delete("--dry-run"), service.run(&count), delete("--yes"), service.run(&count), service.run(&["bin", "-o", "csv"])];
    let id = first[4].out().lines().nth(1).unwrap().split(',').next().unwrap().to_owned();
    let second = [
        service.run(&["bin", "restore", &id]),
        service.run(&count),
        service.run(&["bin", "erase", &id, "--yes"]),
        service.run(&["points", "delete", "level", "--from", "2026-05-02", "--to", "2026-05-01", "--yes"]),
    ];
    settled(|| insta::assert_snapshot!(message(&first) + "\n" + &message(&second)));
}

#[test]
fn applying_a_folder_twice_changes_nothing_and_shows_differences() {
    let folder = tempfile::tempdir().unwrap();
    let service = with_levels(folder.path());
    let definitions = folder.path().join("definitions");
    fs::create_dir_all(definitions.join("mappings")).unwrap();
    let path = definitions.display().to_string();
    fs::write(definitions.join("main.toml"), "[dataset]\nzone = \"Europe/Lisbon\"\nclosed = true\n\n[metrics.level]\nunit = \"cm\"\nlabels = [\"water\"]\ninterval = \"1m\"\n\n[metrics.flow]\nkind = \"gauge\"\nunit = \"m3/s\"\n\n[tags.lock]\nrequired = true\n").unwrap();
    fs::write(definitions.join("mappings/keepers.toml"), "[[columns]]\ncolumn = \"level\"\n").unwrap();
    let apply = |more: &[&str]| service.run(&[&["apply", &path], more].concat());
    let steps = [apply(&["--dry-run"]), apply(&[]), apply(&["--yes"]), apply(&["--yes"]), service.run(&["tags"])];
    fs::write(definitions.join("main.toml"), "[metrics.level]\nkind = \"gage\"\n").unwrap();
    let wrong = [apply(&["--yes"])];
    insta::with_settings!({filters => vec![(folder.path().to_str().unwrap(), "[FOLDER]")]}, { insta::assert_snapshot!(message(&steps) + "\n" + &message(&wrong)) });
    let refused = service.post(
        "/api/v1/datasets/main/points",
        &[("Content-Type", "application/json")],
        br#"{"metric": "levle", "tags": {"lock": "x"}, "value": 1}"#,
    );
    assert!(refused.status == 422 && refused.text().contains("did you mean `level`"), "{}", refused.text());
}

#[test]
fn fifty_thousand_definitions_go_through_a_spreadsheet_all_or_none() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let rows: String = (0..50_000).map(|i| format!("signal_{i},gauge,cm,\"Signal {i}, of many\"\n")).collect();
    let table = file(folder.path(), "metrics.csv", format!("metric,kind,unit,description\n{rows}"));
    let applied = service.run(&["metrics", "apply", &table, "--yes"]);
    assert!(applied.code() == 0 && applied.out().contains("50,000 new metrics"), "{}", applied.all());
    let exported = service.run(&["metrics", "export"]).out();
    assert_eq!(exported.lines().count(), 50_001);
    let same = file(folder.path(), "same.csv", &exported);
    assert!(service.run(&["metrics", "apply", &same]).out().contains("50,000 as they are"));
    let wrong = file(folder.path(), "wrong.csv", exported.replacen("signal_7,gauge", "signal_7,guage", 1));
    let ran = service.run(&["metrics", "apply", &wrong, "--yes"]);
    assert!(ran.code() == 2 && ran.err().contains("line") && ran.err().contains("`guage` is none of gauge"), "{}", ran.all());
}

#[test]
fn old_names_can_be_forgotten() {
    let folder = tempfile::tempdir().unwrap();
    let service = with_levels(folder.path());
    service.run(&["metrics", "rename", "level", "water_level"]);
    let forget = |body: &str| service.post("/api/v1/forget-name", &[("Content-Type", "application/json")], body.as_bytes()).status;
    assert_eq!(forget(r#"{"kind": "metric", "dataset": "main", "name": "level"}"#), 200);
    assert_eq!(forget(r#"{"kind": "metric", "dataset": "main", "name": "level"}"#), 404);
    assert_eq!(forget(r#"{"kind": "lock", "name": "level"}"#), 400);
    assert_eq!(service.run(&["ask", "show count of level over last 1h"]).code(), 2);
}
