//! Getting data in: every format through the real service, imports that are tried, stopped, killed and gone on with, and what arrives seen live.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::{
    io::{Read, Write},
    net::TcpStream,
    sync::Arc,
    time::{Duration, Instant},
};

use arrow_array::{ArrayRef, Float64Array, RecordBatch, StringArray, TimestampSecondArray};
use prost::Message;
use support::{Answer, Api, Service, fenetre, file};

const POINTS: &str = "/api/v1/datasets/main/points";

fn push(service: &Service, kind: &str, body: &[u8]) -> serde_json::Value {
    let answer = service.post(POINTS, &[("Content-Type", kind)], body);
    assert_eq!(answer.status, 200, "{kind}: {}", answer.text());
    answer.json()
}

fn levels(count: i64) -> RecordBatch {
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("at", Arc::new(TimestampSecondArray::from_iter_values((0..count).map(|i| 1_777_626_000 + i)))),
        ("lock", Arc::new(StringArray::from_iter_values((0..count).map(|i| if i % 2 == 0 { "osier" } else { "marl" })))),
        ("arrow_level", Arc::new(Float64Array::from_iter_values((0..count).map(|i| i as f64 / 4.0)))),
    ];
    RecordBatch::try_from_iter(columns).unwrap()
}

fn arrow_stream(batch: &RecordBatch) -> Vec<u8> {
    let mut writer = arrow_ipc::writer::StreamWriter::try_new(Vec::new(), &batch.schema()).unwrap();
    writer.write(batch).unwrap();
    writer.into_inner().unwrap()
}

fn parquet(batch: &RecordBatch) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut writer = parquet::arrow::ArrowWriter::try_new(&mut bytes, batch.schema(), None).unwrap();
    writer.write(batch).unwrap();
    writer.close().unwrap();
    bytes
}

/// An export of one counter, as the standard's own types write it.
fn export(time: u64) -> Vec<u8> {
    use opentelemetry_proto::tonic::{
        collector::metrics::v1::ExportMetricsServiceRequest,
        metrics::v1::{Metric, NumberDataPoint, ResourceMetrics, ScopeMetrics, Sum, metric::Data, number_data_point::Value},
    };
    let points = [Some(Value::AsInt(17)), None].map(|value| NumberDataPoint { time_unix_nano: time, value, ..Default::default() }).to_vec();
    let sum = Sum { data_points: points, aggregation_temporality: 2, is_monotonic: true };
    let metric =
        Metric { name: "otlp_boats".into(), unit: "{boat}".into(), description: "Boats".into(), data: Some(Data::Sum(sum)), ..Default::default() };
    let scope = ScopeMetrics { metrics: vec![metric], ..Default::default() };
    ExportMetricsServiceRequest { resource_metrics: vec![ResourceMetrics { scope_metrics: vec![scope], ..Default::default() }] }.encode_to_vec()
}

#[test]
fn every_format_is_accepted_and_named() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    push(&service, "application/json", br#"{"metric": "json_level", "time": "2026-05-01T09:00:00Z", "value": 1}"#);
    push(&service, "application/senml+json", br#"[{"bn": "urn:dev:osier:", "bt": 1777626000, "n": "senml_level", "u": "cm", "v": 312.5}]"#);
    push(
        &service,
        "application/openmetrics-text; version=1.0.0",
        b"# TYPE om_boats counter\n# HELP om_boats Boats\nom_boats_total 3 1777626000\n# EOF\n",
    );
    assert_eq!(push(&service, "application/vnd.apache.arrow.stream", &arrow_stream(&levels(10)))["accepted"], 10);
    assert_eq!(push(&service, "application/vnd.apache.parquet", &parquet(&levels(10)))["replaced"], 10);
    let named = service.post(
        &format!("{POINTS}?time=at&time_format=s&value=tsv_level"),
        &[("Content-Type", "text/tab-separated-values")],
        b"at\ttsv_level\n1777626000\t4\n",
    );
    assert_eq!(named.json()["accepted"], 1, "{}", named.text());
    let exported = service.post("/v1/metrics", &[("Content-Type", "application/x-protobuf")], &export(1_777_626_000_000_000_000));
    assert_eq!((exported.status, exported.kind.as_str()), (200, "application/x-protobuf"));
    let answer = opentelemetry_proto::tonic::collector::metrics::v1::ExportMetricsServiceResponse::decode(exported.bytes()).unwrap();
    assert_eq!(answer.partial_success.unwrap().rejected_data_points, 1);
    let refused: [Answer; 3] = [
        service.post("/v1/metrics", &[("Content-Type", "application/json"), ("Fenetre-Dataset", "nowhere")], b"{}"),
        service.post("/api/v1/datasets/main/otlp/v1/metrics", &[("Content-Type", "application/x-protobuf")], b"\xff\xff\xff"),
        service.post("/v1/metrics", &[("Content-Type", "text/plain")], b""),
    ];
    assert_eq!(refused.map(|answer| answer.status), [404, 400, 415]);
    let message = service.run(&["metrics", "-o", "json"]).out();
    let metrics: Vec<serde_json::Value> = serde_json::from_str(&message).unwrap();
    let ran: Vec<String> =
        metrics.iter().map(|metric| format!("{} {} {} {}", metric["name"], metric["kind"], metric["unit"], metric["description"])).collect();
    insta::assert_snapshot!(ran.join("\n"));
    let kinds = service.post(POINTS, &[("Content-Type", "application/x-unknown")], b"x");
    assert!(kinds.status == 415 && kinds.text().contains("senml+cbor"), "{}", kinds.text());
}

#[test]
fn a_retry_of_the_same_body_changes_nothing_and_says_so() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let body =
        br#"[{"metric": "level", "time": "2026-05-01T09:00:00Z", "value": 1}, {"metric": "level", "time": "2026-05-01T09:01:00Z", "value": 2}]"#;
    assert_eq!(push(&service, "application/json", body)["replaced"], 0);
    let before = service.get("/api/v1/datasets/main/ask?q=show%20points%20of%20level%20over%202026-05-01%20to%202026-05-02").json()["shows"].clone();
    assert_eq!(push(&service, "application/json", body)["replaced"], 2);
    let after = service.get("/api/v1/datasets/main/ask?q=show%20points%20of%20level%20over%202026-05-01%20to%202026-05-02").json()["shows"].clone();
    assert_eq!(before, after);
}

#[test]
fn mappings_are_kept_named_and_used_by_pushes() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let table = "Zeit;Schleuse;Pegel [cm]\n01.05.2026 10:00;osier;312,5\n01.05.2026 10:10;osier;NA\n01.05.2026 10:20;marl;280,25\n";
    let levels = file(folder.path(), "levels.csv", table);
    let guessed = service.run(&["mapping", "guess", &levels, "--zone", "Europe/Lisbon"]);
    let mapping = file(folder.path(), "keepers.toml", guessed.out());
    let checked = service.run(&["mapping", "check", &mapping, &levels]);
    let kept = service.run(&["mapping", "keep", "keepers", &mapping]);
    let listed = service.run(&["mapping", "list", "-o", "csv"]);
    let pushed = service.post(&format!("{POINTS}?mapping=keepers&const=reach=upper"), &[("Content-Type", "text/csv")], table.as_bytes());
    assert_eq!((pushed.json()["accepted"].clone(), pushed.json()["empty_cells"].clone()), (2.into(), 1.into()), "{}", pushed.text());
    let unknown = service.post(&format!("{POINTS}?mapping=keeper"), &[("Content-Type", "text/csv")], b"");
    assert!(unknown.status == 404 && unknown.text().contains("did you mean `keepers`"), "{}", unknown.text());
    let lines = listed.out().lines().map(|line| line.rsplit_once(',').unwrap().0.to_owned()).collect::<Vec<_>>().join("\n");
    insta::assert_snapshot!([guessed.all(), checked.all(), kept.all(), lines].join("\n"));
}

/// A table of so many rows, a second apart.
fn long_table(rows: u32) -> String {
    let mut table = "time,lock,level\n".to_owned();
    for i in 0..rows {
        table += &format!("{},lock-{},{}\n", 1_700_000_000 + i / 10, i % 10, i % 1_000);
    }
    table
}

fn wait_for(what: &str, is_so: impl Fn() -> bool) {
    let start = Instant::now();
    while !is_so() {
        assert!(start.elapsed() < Duration::from_secs(60), "{what}");
        std::thread::sleep(Duration::from_millis(5));
    }
}

#[test]
fn a_stopped_or_killed_import_resumes_and_counts_every_row_once() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store");
    let service = Service::start(&store);
    let rows = 1_500_000;
    let table = long_table(rows) + "1700000000,lock-0,high\n";
    let uploaded = service.post("/api/v1/datasets/main/imports?file=long.csv", &[], table.as_bytes());
    assert_eq!(uploaded.status, 201, "{}", uploaded.text());
    let id = uploaded.json()["id"].as_str().unwrap().to_owned();
    let path = format!("/api/v1/imports/{id}");
    let order = br#"{"mapping": {"time": {"format": "s"}, "columns": [{"column": "lock", "role": "tag"}, {"column": "level", "role": "value"}]}}"#;
    let json = &[("Content-Type", "application/json")];
    assert_eq!(service.post(&format!("{path}/run"), json, order).status, 202);
    assert_eq!(service.post(&format!("{path}/run"), json, order).status, 409, "it runs already");
    wait_for("a part is kept", || service.get(&path).json()["parts"].as_u64() > Some(0));
    service.post(&format!("{path}/stop"), &[], b"");
    wait_for("it stops", || service.get(&path).json()["stage"] != "running");
    let stopped = service.get(&path).json();
    assert_eq!(stopped["stage"], "stopped", "{stopped}");
    assert_eq!(service.post(&format!("{path}/run"), &[], b"").status, 202);
    wait_for("another part is kept", || service.get(&path).json()["parts"].as_u64() > stopped["parts"].as_u64());
    service.kill();
    let service = Service::start(&store);
    wait_for("it goes on by itself", || service.get(&path).json()["stage"] == "done");
    let done = service.get(&path).json();
    assert_eq!((done["rows"].clone(), done["accepted"].clone(), done["rejected"].clone()), ((rows + 1).into(), rows.into(), 1.into()), "{done}");
    assert_eq!(service.get(&format!("{path}/rejects")).text().lines().count(), 2);
    let held = service.get("/api/v1/datasets/main/metrics").json();
    assert_eq!(held[0]["points"], rows);
    assert_eq!(service.post(&format!("{path}/run"), &[], b"").status, 409, "it is done");
    assert!(!store.join("imports").join(format!("{id}.file")).exists());
}

#[test]
fn the_client_says_that_an_import_resumes_when_the_service_stops() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let table = file(folder.path(), "long.csv", long_table(3_000_000));
    let args = ["import", "--url", &service.url, &table, "--time", "time", "--time-format", "s", "--tag", "lock", "--value", "level"];
    let client = fenetre().args(args).stderr(std::process::Stdio::piped()).stdout(std::process::Stdio::null()).spawn().unwrap();
    wait_for("it runs", || service.get("/api/v1/imports").json()[0]["parts"].as_u64() > Some(0));
    service.kill();
    let message = client.wait_with_output().unwrap();
    let text = String::from_utf8(message.stderr).unwrap();
    assert_eq!(message.status.code(), Some(3), "{text}");
    assert!(text.contains("resumes at the next start of the service: `fenetre imports` shows its progress"), "{text}");
}

#[test]
fn files_that_cannot_be_imported_are_explained() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let long_line = format!("time,level\n2026-05-01T09:00:00Z,\"{}\n", "x".repeat(70 << 20));
    let gzip = |bytes: &[u8]| {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(bytes).unwrap();
        encoder.finish().unwrap()
    };
    let mut cut = gzip(long_table(100_000).as_bytes());
    cut.truncate(cut.len() / 2);
    let files: [(&str, Vec<u8>); 8] = [
        ("twice.csv", b"time,level,level\n".to_vec()),
        ("ragged.csv", b"time,level\n2026-05-01T09:00:00Z\n2026-05-01T09:00:00Z,1,2\n2026-05-01T09:00:00Z,1\n".to_vec()),
        ("nul.csv", b"time,le\0vel\n".to_vec()),
        ("latin.csv", b"time,level,gr\xf6sse\n".to_vec()),
        ("long.csv", long_line.into_bytes()),
        ("cut.csv.gz", cut),
        ("far.csv", b"time,level\n1969-05-01T09:00:00Z,1\n2300-05-01T09:00:00Z,1\n2200-05-01T09:00:00Z,1\n2026-05-01T09:00:00Z,1e999\n2026-05-01T09:00:00Z,inf\n".to_vec()),
        ("unknown.xyz", b"x".to_vec()),
    ];
    let message: Vec<String> = files
        .iter()
        .map(|(name, bytes)| {
            let path = file(folder.path(), name, bytes);
            let ran = service.run(&["import", &path, "--value", "level"]);
            format!("{name}\n{}", ran.all())
        })
        .collect();
    // What is too far ahead depends on the clock.
    insta::with_settings!({filters => vec![(r"points after \S+ are rejected", "points after [TOMORROW] are rejected"), (r"imports/\w+", "imports/[ID]")]}, {
        insta::assert_snapshot!(message.join("\n"));
    });
    // Of what kept nothing there is nothing to go on with.
    let stages: Vec<String> = service.get("/api/v1/imports").json().as_array().unwrap().iter().map(|import| import["stage"].to_string()).collect();
    assert!(stages.iter().all(|stage| stage == "\"done\""), "{stages:?}");
}

#[test]
fn points_with_too_many_tags_or_invalid_keys_are_rejected_one_by_one() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let tags: Vec<String> = (0..1_000).map(|i| format!("\"t{i}\": \"x\"")).collect();
    let body = format!(
        "{{\"metric\": \"level\", \"tags\": {{{}}}, \"value\": 1}}\n{{\"metric\": \"level\", \"tags\": {{\"\": \"x\"}}, \"value\": 1}}\n{{\"metric\": \"level\", \"tags\": {{\"a\": \"x\\u0007\"}}, \"value\": 1}}\n{{\"metric\": \"level\", \"value\": 1}}\n",
        tags.join(", ")
    );
    let report = push(&service, "application/x-ndjson", body.as_bytes());
    let reasons: Vec<String> = report["rejects"]
        .as_array()
        .unwrap()
        .iter()
        .map(|reject| format!("line {}, {}: {}", reject["line"], reject["field"], reject["reason"]))
        .collect();
    insta::assert_snapshot!(reasons.join("\n"));
    assert_eq!(report["accepted"], 1);
    let refused = service.get("/api/v1/arrivals/refused").json();
    assert_eq!((refused["causes"][0]["cause"].as_str(), refused["causes"][0]["count"].as_u64()), (Some("tag"), Some(3)), "{refused}");
}

#[test]
fn watchers_see_arrivals_and_a_lost_client_blocks_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let address = service.url.trim_start_matches("http://").to_owned();
    let mut watcher = TcpStream::connect(&address).unwrap();
    watcher.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    write!(watcher, "GET /api/v1/arrivals/tail?dataset=main HTTP/1.1\r\nHost: {address}\r\n\r\n").unwrap();
    let mut seen = Vec::new();
    let mut read_until = |wanted: &str| {
        let mut buffer = [0; 4_096];
        let start = Instant::now();
        while !String::from_utf8_lossy(&seen).contains(wanted) {
            assert!(start.elapsed() < Duration::from_secs(60), "{wanted}: {}", String::from_utf8_lossy(&seen));
            let length = watcher.read(&mut buffer).unwrap();
            assert!(length > 0, "{}", String::from_utf8_lossy(&seen));
            seen.extend_from_slice(&buffer[..length]);
        }
    };
    read_until("begins");
    // One that announces a body and goes away, and one that stalls.
    let mut gone = TcpStream::connect(&address).unwrap();
    write!(gone, "POST {POINTS} HTTP/1.1\r\nHost: {address}\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n[{{").unwrap();
    drop(gone);
    let mut stalled = TcpStream::connect(&address).unwrap();
    write!(stalled, "POST {POINTS} HTTP/1.1\r\nHost: {address}\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n[{{").unwrap();
    push(&service, "application/json", br#"{"metric": "level", "tags": {"lock": "osier"}, "value": 312.5}"#);
    read_until("\"value\":312.5");
    let text = String::from_utf8_lossy(&seen).into_owned();
    assert!(text.contains("text/event-stream") && text.contains("event: batch") && text.contains("\"lock\":\"osier\""), "{text}");
}

#[test]
fn files_of_every_format_are_imported_by_their_names() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gzip.write_all(b"{\"metric\": \"lines\", \"time\": \"2026-05-01T09:00:00Z\", \"value\": 1}\n\n{\"metric\": \"lines\", \"value\": null}\n")
        .unwrap();
    let files: [(&str, Vec<u8>, &[&str], &str); 8] = [
        ("lines.ndjson.gz", gzip.finish().unwrap(), &[], "1 point from 2 rows stored in main, 1 rejected"),
        (
            "array.json",
            b"[{\"metric\": \"array\", \"time\": \"2026-05-01T09:00:00Z\", \"value\": 1}]".to_vec(),
            &[],
            "1 point from 1 row stored in main, 0 rejected",
        ),
        ("points.parquet", parquet(&levels(10)), &[], "10 points from 10 rows stored in main, 0 rejected"),
        (
            "points.arrows",
            arrow_stream(&levels(10)),
            &["--value", "arrow_level=mapped", "--tag", "lock", "--time", "at"],
            "10 points from 10 rows stored in main, 0 rejected",
        ),
        ("exposed.om", b"# TYPE boats counter\nboats_total 3 1777626000\n# EOF\n".to_vec(), &[], "1 point from 1 row stored in main, 0 rejected"),
        (
            "pack.senml.json",
            b"[{\"n\": \"osier:temp\", \"t\": 1777626000, \"v\": 14.5}]".to_vec(),
            &[],
            "1 point from 1 row stored in main, 0 rejected",
        ),
        ("table.tsv", b"time\tflow\n2026-05-01T09:00:00Z\t4.1\n".to_vec(), &["--value", "flow"], "1 point from 1 row stored in main, 0 rejected"),
        (
            "objects.ndjson",
            b"{\"at\": 1777626000, \"station\": {\"lock\": \"osier\"}, \"depth\": 3}\n".to_vec(),
            &["--time", "at", "--time-format", "s", "--tag", "station.lock=lock", "--value", "depth"],
            "1 point from 1 row stored in main, 0 rejected",
        ),
    ];
    for (name, bytes, options, message) in files {
        let path = file(folder.path(), name, bytes);
        let ran = service.run(&[&["import", &path], options].concat());
        assert_eq!(ran.out().lines().next(), Some(message), "{name}: {}", ran.all());
    }
    let records = service.get("/api/v1/imports").json();
    let formats: Vec<&str> = records.as_array().unwrap().iter().map(|record| record["format"].as_str().unwrap()).collect();
    assert_eq!(formats, ["json-lines", "tsv", "senml-json", "open-metrics", "arrow-stream", "parquet", "json", "json-lines"], "the latest first");
    assert!(records.as_array().unwrap().iter().all(|record| record["stage"] == "done"));
}

#[test]
fn an_import_that_must_be_whole_keeps_all_or_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let good = file(folder.path(), "good.csv", long_table(5_000));
    let bad = file(folder.path(), "bad.csv", long_table(5_000) + "1700000000,lock-0,high\n");
    let import = |path: &str| service.run(&["import", path, "--time-format", "s", "--tag", "lock", "--value", "level", "--all-or-nothing"]);
    let ran = import(&bad);
    assert!(ran.code() == 1 && ran.err().contains("nothing was stored") && ran.err().contains("line 5002"), "{}", ran.all());
    assert_eq!(service.get("/api/v1/overview").json()["points"], 0);
    let ran = import(&good);
    assert!(ran.code() == 0 && ran.out().contains("5,000 points"), "{}", ran.all());
    assert_eq!(service.get("/api/v1/overview").json()["points"], 5_000);
}

#[test]
fn invalid_import_requests_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let json = &[("Content-Type", "application/json")];
    let uploads = "/api/v1/datasets/main/imports";
    let status = |path: &str, body: &[u8]| service.post(path, json, body).status;
    assert_eq!(status("/api/v1/datasets/nowhere/imports?file=a.csv", b"x"), 404);
    assert_eq!(status(uploads, b"x"), 400);
    assert_eq!(status(&format!("{uploads}?file=a.csv&format=cvs"), b"x"), 400);
    assert_eq!(status(&format!("{uploads}?file=a.csv"), b""), 400);
    assert_eq!(status("/api/v1/imports/none/run", b"{}"), 404);
    let id = service.post(&format!("{uploads}?file=a.csv"), &[], b"time,level\n").json()["id"].as_str().unwrap().to_owned();
    let path = format!("/api/v1/imports/{id}");
    assert_eq!(status(&format!("{path}/run"), b"{}"), 400, "a table needs a mapping");
    assert_eq!(status(&format!("{path}/run"), b"{\"mapping_name\": \"none\"}"), 404);
    assert_eq!(status(&format!("{path}/run"), b"{\"mapping\": {\"time\": {\"zone\": \"Atlantis\"}}}"), 400);
    assert_eq!(status(&format!("{path}/stop"), b""), 409);
    let senml = service.post(&format!("{uploads}?file=a.senml"), &[], b"[]").json()["id"].as_str().unwrap().to_owned();
    assert_eq!(status(&format!("/api/v1/imports/{senml}/run"), b"{\"mapping\": {\"columns\": [{\"column\": \"a\"}]}}"), 400);
    assert_eq!(service.run(&["imports", "forget", &id]).code(), 0);
    assert_eq!(service.get(&path).status, 404);
}

#[test]
fn the_tail_and_a_peek_show_points_in_a_terminal() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    assert!(service.run(&["peek", "level"]).err().contains("no metric `level`"));
    let tail = std::thread::scope(|scope| {
        let watching = scope.spawn(|| service.run(&["tail", "--dataset", "main", "--batches", "2"]));
        while !watching.is_finished() {
            service.push_lines(
                "main",
                "{\"metric\": \"level\", \"tags\": {\"lock\": \"osier\"}, \"value\": 312.5}\n{\"metric\": \"gate\", \"value\": \"open\"}\n",
            );
            std::thread::sleep(Duration::from_millis(50));
        }
        watching.join().unwrap()
    });
    assert!(tail.code() == 0 && tail.out().contains("2 points, 0 rejected") && tail.out().contains("level  lock=osier  312.5"), "{}", tail.all());
    let peek = service.run(&["peek", "level", "--count", "1"]);
    assert!(peek.code() == 0 && peek.out().starts_with("lock=osier\n") && peek.out().contains("312.5"), "{}", peek.all());
    assert_eq!(service.run(&["peek", "level", "--where", "lok = \"osier\""]).code(), 2);
}

#[test]
fn a_series_limit_refuses_new_series_only() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    assert_eq!(service.run(&["datasets", "define", "main", "--max-series", "3"]).code(), 0);
    let lines: String = (0..5).map(|i| format!("{{\"metric\": \"level\", \"tags\": {{\"lock\": \"lock-{i}\"}}, \"value\": 1}}\n")).collect();
    for _ in 0..2 {
        let report = push(&service, "application/x-ndjson", lines.as_bytes());
        assert_eq!((report["accepted"].clone(), report["causes"]["limit"].clone()), (3.into(), 2.into()), "{report}");
    }
    let refused = service.get("/api/v1/arrivals/refused").json();
    assert!(
        refused["causes"][0]["cause"] == "limit"
            && refused["causes"][0]["count"] == 4
            && refused["causes"][0]["example"].as_str().unwrap().contains("max_series"),
        "{refused}"
    );
}
