//! The query language as people and programs meet it: the client and HTTP against the real service, on points whose answers are known.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use std::{
    io::{BufRead, BufReader},
    process::Stdio,
};

use serde_json::{Value, json};
use support::{Api, Service, agent, fenetre, file, run, settled};

const AT: &str = "2026-05-01T09:";

/// Two locks of two reaches: levels each minute, boats as counters with a reset, gates as states, lockages as histograms.
fn waterway(folder: &std::path::Path) -> Service {
    let service = Service::start(&folder.join("store"));
    for (metric, definition) in [
        ("level", json!({ "unit": "cm", "interval": "1m", "stale_after": "5m" })),
        ("boats", json!({ "kind": "counter", "unit": "{boat}" })),
        ("gate", json!({ "kind": "state" })),
        ("lockage", json!({ "kind": "histogram", "unit": "s" })),
    ] {
        let body = serde_json::to_vec(&definition).unwrap();
        let answer = agent().put(format!("{}/api/v1/datasets/main/metrics/{metric}", service.url)).content_type("application/json").send(&body);
        assert!(answer.unwrap().status().is_success());
    }
    let mut lines = String::new();
    let mut push = |metric: &str, lock: &str, reach: &str, minute: u32, value: Value| {
        let point = json!({ "metric": metric, "tags": { "lock": lock, "reach": reach }, "time": format!("{AT}{minute:02}:00Z"), "value": value });
        lines += &format!("{point}\n");
    };
    for minute in 0..60 {
        for (lock, reach, base) in [("osier", "upper", 300), ("wick", "lower", 100)] {
            // An outage of ten minutes.
            if lock == "osier" && (20..30).contains(&minute) {
                continue;
            }
            push("level", lock, reach, minute, json!(base + minute));
        }
        push("boats", "osier", "upper", minute, json!(if minute < 30 { minute * 2 } else { minute - 30 }));
    }
    for (minute, state) in [(0, "open"), (15, "closed"), (45, "open")] {
        push("gate", "osier", "upper", minute, json!(state));
    }
    for minute in [5, 35] {
        push("lockage", "osier", "upper", minute, json!({ "bounds": [300.0, 600.0], "counts": [2, 6, 2], "sum": 4500.0 }));
    }
    service.push_lines("main", &lines);
    service
}

const HOUR: &str = "over 2026-05-01T09:00 to 2026-05-01T10:00";

#[test]
fn the_language_answers_as_its_reference_says() {
    let folder = tempfile::tempdir().unwrap();
    let service = waterway(folder.path());
    let mut message = String::new();
    for query in [
        "show growth of boats show rate of boats show delta of boats HOUR per 30m",
        "show time_in(\"open\") of gate show share_in(\"open\") of gate show changes of gate HOUR",
        "show coverage of level show time_mean of level show count of level HOUR per 20m",
        "show growth of lockage show mean of lockage show p50 of lockage show p90 of lockage HOUR",
        "let high = max of level by reach\nlet low = min of level by reach\nshow (high - low) in \"m\" as \"swing\" HOUR per 30m",
        "show mean of level where lock = \"osier\" HOUR per 10m gaps line",
        "show mean of level where lock = \"osier\" HOUR per 10m gaps hold",
        "show max of (mean of level) overall show share(sum of level by reach) HOUR per 30m",
        "show mean of level top 1 by max show mean of level bottom 1 HOUR",
        "show count of level where value > 330 overall HOUR",
        "show mean of level HOUR per 30m stepping 10m",
        "show max of level where lock = \"wick\" show max of level where lock = \"wick\" 30m earlier over 2026-05-01T09:30 to 2026-05-01T10:00",
    ] {
        let query = query.replace("HOUR", HOUR);
        message += &format!("> {query}\n{}\n", service.run(&["ask", &query]).all());
    }
    settled(|| insta::assert_snapshot!("the_language_answers_as_its_reference_says", message));
}

#[test]
fn moments_parse_from_short_forms() {
    let folder = tempfile::tempdir().unwrap();
    let service = waterway(folder.path());
    let mut message = String::new();
    for args in [
        &["at", "level", "2026-05-01T09:40:30"][..],
        &["at", "level", "2026-05-01T09:25", "--within", "2m"],
        &["at", "level where lock = \"osier\"", "2026-05-01T09:40:30", "--taking", "before"],
        &["at", "level", "2026-05-01T09:40:30", "--reduce", "mean"],
        &["at", "level", "2026-05-01T09:40:30", "--reduce", "max", "--by", "reach", "-o", "csv"],
        &["at", "gate", "2026-05-01T09:20", "--within", "1h"],
        &["at", "lockage", "2026-05-01T09:20", "--within", "1h", "-o", "ndjson"],
        &["at", "levle"],
    ] {
        message += &format!("$ fenetre {}\n{}\n", args.join(" "), service.run(args).all());
    }
    settled(|| insta::assert_snapshot!("moments_parse_from_short_forms", message));
}

#[test]
fn a_query_is_read_from_a_file_and_answered_in_any_format() {
    let folder = tempfile::tempdir().unwrap();
    let service = waterway(folder.path());
    let query = file(folder.path(), "levels.query", "# levels of the morning\nshow mean of level by reach\n");
    let asked = |more: &[&str]| {
        let args = ["ask", "--file", &query, "--over", "2026-05-01T09:00 to 2026-05-01T10:00", "--per", "10m"];
        service.run(&args.iter().chain(more).copied().collect::<Vec<_>>())
    };
    let mut message = String::new();
    for output in ["spark", "csv", "ndjson"] {
        message += &format!("--output {output}\n{}\n", asked(&["-o", output]).out());
    }
    let waiting = || service.get("/api/v1/storage").json()["waiting_points"].as_u64();
    let before = waiting();
    message += &asked(&["--explain"]).out();
    assert!(waiting() == before && before > Some(0), "to look packs nothing");
    settled(|| insta::assert_snapshot!("a_query_is_read_from_a_file_and_answered_in_any_format", message));
    // Read from the pipe, an Arrow stream is whole.
    let output =
        fenetre().args(["ask", "--url", &service.url, "show count of level by reach", "--over", "2026-05-01", "-o", "arrow"]).output().unwrap();
    let batches: Vec<_> = arrow_ipc::reader::StreamReader::try_new(output.stdout.as_slice(), None).unwrap().map(Result::unwrap).collect();
    assert_eq!((batches.len(), batches[0].num_rows()), (1, 2));
    let wrong = service.run(&["ask", "--file", "/no/such/file"]);
    assert_eq!((wrong.code(), wrong.err().contains("/no/such/file")), (1, true));
    assert_eq!(run(&["ask"]).code(), 2, "neither a query nor a file");
}

#[test]
fn states_moments_and_metrics_come_beside_each_other() {
    let folder = tempfile::tempdir().unwrap();
    let service = waterway(folder.path());
    let mut message = String::new();
    for query in [
        "show time_in of gate HOUR per 30m",
        "show share_in of gate by reach HOUR",
        "show time_mean of level show time_mean(stepped) of level show area(stepped) of level where lock = \"wick\" HOUR",
        "show level at 2026-05-01T09:10, 2026-05-01T09:25, 2026-05-01T09:40",
        "show level show gate HOUR per 15m at starts",
        "show points of level, boats, gate over 2026-05-01T09:14 to 2026-05-01T09:16",
        "show max of level by reach over 2026-W18 per 1d",
        "show count of level over 2026-Q2",
        "show mean of level over 2026 per 7d",
    ] {
        let query = query.replace("HOUR", HOUR);
        message += &format!("> {query}\n{}\n", service.run(&["ask", "--zone", "UTC", &query]).all());
    }
    settled(|| insta::assert_snapshot!("states_moments_and_metrics_come_beside_each_other", message));
}

#[test]
fn an_export_imports_back_without_a_mapping() {
    let folder = tempfile::tempdir().unwrap();
    let service = waterway(folder.path());
    let ask = |dataset: &str, query: &str, output: &str| {
        let message = fenetre().args(["ask", "--url", &service.url, "--dataset", dataset, query, "-o", output]).output().unwrap();
        assert!(message.status.success(), "{query}: {}", String::from_utf8_lossy(&message.stderr));
        message.stdout
    };
    let points = |dataset: &str, metric: &str| {
        let answer: Value = serde_json::from_slice(&ask(dataset, &format!("show points of {metric} over 2026-05-01"), "json")).unwrap();
        (answer["shows"][0]["unit"].clone(), answer["shows"][0]["lines"].clone())
    };
    let queries = [
        ("show points of level over 2026-05-01", "level"),
        ("show points of boats over 2026-05-01", "boats"),
        ("show points of gate over 2026-05-01", "gate"),
        ("show points of lockage over 2026-05-01", "lockage"),
        // Windows, empty ones among them, become points of a metric that is called by the label.
        ("show mean of level as \"level_mean\" over 2026-05-01T09:00 to 2026-05-01T10:00 per 5m", "level_mean"),
    ];
    for output in ["csv", "ndjson", "arrow", "parquet"] {
        let dataset = format!("from_{output}");
        assert_eq!(service.run(&["datasets", "define", &dataset]).code(), 0);
        for (at, (query, metric)) in queries.iter().enumerate() {
            let ending = output.replace("ndjson", "jsonl");
            let table = file(folder.path(), &format!("{at}.{ending}"), ask("main", query, output));
            let message = service.run(&["import", &table, "--dataset", &dataset]);
            assert_eq!(message.code(), 0, "{query} as {output}: {}", message.all());
            if *metric != "level_mean" {
                assert_eq!(points(&dataset, metric), points("main", metric), "{metric} as {output}");
            }
        }
        let (unit, lines) = points(&dataset, "level_mean");
        let counts: Vec<usize> = lines.as_array().unwrap().iter().map(|line| line["values"].as_array().unwrap().len()).collect();
        assert_eq!((unit, counts), (json!("cm"), vec![10, 12]), "{output}: of an outage there are no points");
    }
    // Side by side too, as JSON Lines.
    assert_eq!(service.run(&["datasets", "define", "beside"]).code(), 0);
    let table = file(folder.path(), "beside.jsonl", ask("main", "show points of level, gate over 2026-05-01", "ndjson"));
    assert_eq!(service.run(&["import", &table, "--dataset", "beside"]).code(), 0);
    ["level", "gate"].iter().for_each(|metric| assert_eq!(points("beside", metric).1, points("main", metric).1));
}

#[test]
fn watch_repeats_until_interrupted() {
    let folder = tempfile::tempdir().unwrap();
    let service = waterway(folder.path());
    let args = ["ask", "--url", &service.url, "show count of boats overall", "--over", "2026-05-01", "-o", "csv", "--watch", "1"];
    let mut watch = fenetre().args(args).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let lines = BufReader::new(watch.stdout.take().unwrap()).lines().map(Result::unwrap);
    assert_eq!(lines.filter(|line| line.starts_with("time,")).take(2).count(), 2);
    watch.kill().unwrap();
    watch.wait().unwrap();
}

#[test]
fn shell_completions_are_generated() {
    for (shell, sign) in [("bash", "complete -F"), ("zsh", "#compdef fenetre"), ("fish", "complete -c fenetre")] {
        let ran = run(&["completions", shell]);
        assert!(ran.code() == 0 && ran.out().contains(sign) && ran.out().contains("taking"), "{shell}");
    }
}

#[test]
fn a_tree_and_its_text_are_the_same_query() {
    let folder = tempfile::tempdir().unwrap();
    let service = waterway(folder.path());
    let call = |path: &str, body: Value| {
        service.post(&format!("/api/v1/datasets/main/ask{path}"), &[("Content-Type", "application/json")], body.to_string().as_bytes())
    };
    let text = format!("show max of (mean of level) by reach keeping > 3 top 2 as \"x\" {HOUR} per 30m gaps 0");
    let checked = call("/check", json!({ "query": text })).json();
    let tree = checked["tree"].clone();
    assert_eq!(checked["problem"], Value::Null);
    assert_eq!(call("/check", json!({ "tree": tree })).json()["canonical"], checked["canonical"]);
    let (by_text, by_tree) = (call("", json!({ "query": text })).json(), call("", json!({ "tree": tree })).json());
    assert_eq!(by_text["shows"], by_tree["shows"]);
    assert_eq!(by_text["shows"][0]["lines"].as_array().unwrap().len(), 2);
    for (body, fault) in [
        (json!({ "tree": { "shows": [{ "expr": { "wave": 1 } }] } }), "unknown variant"),
        (json!({ "tree": tree, "query": text }), "not both"),
        (json!({ "tree": { "shows": [] } }), "expected `show`"),
    ] {
        let answer = call("", body);
        assert_eq!(answer.status, 400);
        assert!(answer.text().contains(fault), "{}", answer.text());
    }
}

#[test]
fn editors_get_completions() {
    let folder = tempfile::tempdir().unwrap();
    let service = waterway(folder.path());
    let offered = |query: &str| {
        let body = json!({ "query": query }).to_string();
        let answer = service.post("/api/v1/datasets/main/ask/complete", &[("Content-Type", "application/json")], body.as_bytes()).json();
        answer["suggestions"].as_array().unwrap().iter().map(|one| one["text"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(offered("show mean of l"), ["level", "lockage"]);
    assert_eq!(offered("show mean of level where lock = "), ["\"osier\"", "\"wick\""]);
    assert_eq!(offered("show time_in(\"o"), ["\"open\""]);
}

#[test]
fn limits_and_errors_name_the_remedy() {
    let folder = tempfile::tempdir().unwrap();
    let config = file(folder.path(), "fenetre.toml", "[limits]\nmax_lines = 1\nmax_cells = 100\nmax_decoded_points = 100\nmax_held_values = 10\n");
    drop(waterway(folder.path()));
    let store = folder.path().join("store");
    let service = Service::start_with(&["serve", "--config", &config, "--store", store.to_str().unwrap(), "--listen", "127.0.0.1:0"]);
    let mut message = String::new();
    for query in [
        "show mean of level HOUR",
        "show mean of level overall HOUR per 10s",
        "show stddev of level overall HOUR per 1m",
        "show median of level where lock = \"wick\" HOUR",
        "show mean of level + growth of boats overall HOUR",
        "show growth of level HOUR",
        "show mean of level overall HOUR from 1h",
    ] {
        let ran = service.run(&["ask", &query.replace("HOUR", HOUR)]);
        message += &format!("> {query}\n({}) {}\n", ran.code(), ran.all());
    }
    settled(|| insta::assert_snapshot!("limits_and_errors_name_the_remedy", message));
}

#[test]
fn an_answer_leaves_compressed_and_in_parts() {
    let folder = tempfile::tempdir().unwrap();
    let service = waterway(folder.path());
    let path = format!("/api/v1/datasets/main/ask?query={}", "show%20points%20of%20level%20over%202026-05-01");
    let plain = |accept: &str| {
        let mut answer = agent().get(format!("{}{path}", service.url)).header("Accept", accept).header("Accept-Encoding", "identity").call().unwrap();
        answer.body_mut().read_to_vec().unwrap()
    };
    for (accept, rows) in [("text/csv", 111), ("application/x-ndjson", 110)] {
        let whole = plain(accept);
        assert_eq!(whole.iter().filter(|byte| **byte == b'\n').count(), rows, "{accept}");
        for encoding in ["gzip", "zstd"] {
            // Read as it came, so that the bytes are those of the encoding.
            let mut stream = std::net::TcpStream::connect(service.url.trim_start_matches("http://")).unwrap();
            let request = format!(
                "GET {path} HTTP/1.1\r\nHost: {}\r\nAccept: {accept}\r\nAccept-Encoding: {encoding}\r\nConnection: close\r\n\r\n",
                service.url.trim_start_matches("http://")
            );
            std::io::Write::write_all(&mut stream, request.as_bytes()).unwrap();
            let mut bytes = Vec::new();
            std::io::Read::read_to_end(&mut stream, &mut bytes).unwrap();
            let head = String::from_utf8_lossy(&bytes[..bytes.len().min(600)]).to_lowercase();
            assert!(head.contains(&format!("content-encoding: {encoding}")), "{head}");
            assert!(bytes.len() < whole.len(), "{encoding}: {} of {}", bytes.len(), whole.len());
        }
    }
}

#[test]
fn a_query_past_its_time_is_refused_and_an_abandoned_one_stops() {
    let folder = tempfile::tempdir().unwrap();
    let config = file(folder.path(), "fenetre.toml", "[limits]\nmax_query_seconds = 1\n");
    let store = folder.path().join("store");
    let service = Service::start_with(&["serve", "--config", &config, "--store", store.to_str().unwrap(), "--listen", "127.0.0.1:0"]);
    service.push_lines("main", &support::seconds_of_levels());
    let body = support::long_query();
    let answer = service.post("/api/v1/datasets/main/ask", &[("Content-Type", "application/json")], body.as_bytes());
    assert_eq!(answer.status, 504, "{}", answer.text());
    assert!(answer.text().contains("time limit"), "{}", answer.text());
    // Callers that leave do not keep the service from others.
    for _ in 0..20 {
        let mut stream = std::net::TcpStream::connect(service.url.trim_start_matches("http://")).unwrap();
        let request = format!(
            "POST /api/v1/datasets/main/ask HTTP/1.1\r\nHost: {}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
            service.url.trim_start_matches("http://"),
            body.len()
        );
        std::io::Write::write_all(&mut stream, request.as_bytes()).unwrap();
        drop(stream);
    }
    let ran = service.run(&["ask", "show count of level overall over 2026-05-01", "-o", "csv"]);
    assert!(ran.out().ends_with(",20000,\n"), "{}", ran.all());
}
