//! The real command line against the real service: what people see, word for word, and which exit code programs get.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use std::io::{BufRead, BufReader, Write};

use support::{Api, Service, an_hour_of_levels, fenetre, file, run, settled};

const IMPORT: [&str; 11] = ["--time", "time", "--tag", "lock", "--tag", "side", "--value", "level_cm=level", "--state", "gate", "--const"];

fn import<'a>(file: &'a str, more: &[&'a str]) -> Vec<&'a str> {
    ["import", file].into_iter().chain(IMPORT).chain(["reach=upper"]).chain(more.iter().copied()).collect()
}

#[test]
fn from_a_file_to_a_chart() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let levels = file(folder.path(), "levels.csv", an_hour_of_levels());
    let mut rendered = String::new();
    let mut tell = |args: &[&str]| {
        let ran = service.run(args);
        rendered += &format!(
            "$ fenetre {}\n{}\n",
            args.iter().map(|arg| if arg.contains(' ') { format!("'{arg}'") } else { (*arg).to_owned() }).collect::<Vec<_>>().join(" "),
            ran.all()
        );
    };
    tell(&["metrics"]);
    tell(&import(&levels, &["--dry-run"]));
    tell(&["series"]);
    tell(&import(&levels, &[]));
    tell(&["metrics", "define", "level", "--unit", "cm", "--description", "Water level at a lock"]);
    tell(&["metrics"]);
    tell(&["tags"]);
    tell(&["tags", "--metric", "gate", "-o", "csv"]);
    tell(&["series", "--search", "OSIER"]);
    tell(&["series", "--limit", "1", "-o", "ndjson"]);
    tell(&["latest"]);
    tell(&["latest", "--metric", "level", "-o", "csv"]);
    tell(&["datasets"]);
    tell(&["datasets", "define", "velmar", "--zone", "Europe/Lisbon", "--description", "A canal"]);
    tell(&["datasets", "-o", "json"]);
    tell(&["metrics", "--dataset", "velmar", "define", "flow", "--unit", "m3/s"]);
    tell(&["metrics", "--dataset", "velmar", "define", "flow", "--kind", "counter"]);
    tell(&["metrics", "--dataset", "velmar", "-o", "json"]);
    tell(&["datasets", "define", "velmar", "--description", "A canal of three reaches"]);
    tell(&["datasets", "--dataset", "velmar", "-o", "csv"]);
    let hour = "over 2026-05-01T09:00 to 2026-05-01T10:00";
    tell(&["ask", &format!("show mean of level {hour} per 15m")]);
    tell(&["ask", &format!("show mean of level {hour} per 30m"), "-o", "csv"]);
    tell(&["ask", &format!("show mean of level where lock = \"osier\" {hour} per 30m"), "-o", "ndjson"]);
    tell(&["ask", "show max of level by reach", "--over", "2026-05-01T09:00 to 2026-05-01T10:00", "--zone", "Europe/Lisbon"]);
    tell(&["ask", &format!("show last of gate show count of gate overall {hour}")]);
    tell(&["ask", &format!("show mean of level {hour} per 5m"), "-o", "chart"]);
    tell(&["ask", "show points of gate where lock = \"osier\" over 2026-05-01T09:18 to 2026-05-01T09:22"]);
    tell(&["ask", "show mean of level where lock = \"oiser\" over 2026-05-01 to 2026-05-02"]);
    settled(|| insta::assert_snapshot!("from_a_file_to_a_chart", rendered));
}

#[test]
fn an_answer_in_json_is_a_document_of_the_api() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(folder.path());
    service.push_lines("main", "{\"metric\": \"level\", \"time\": \"2026-05-01T09:00:00Z\", \"value\": 312.5}\n");
    let ran = service.run_with_input(&["ask", "-", "-o", "json"], b"show last of level over 2026-05-01 to 2026-05-02 # from standard input");
    let mut answer: serde_json::Value = serde_json::from_str(&ran.out()).unwrap();
    answer["asked_at"] = "NOW".into();
    answer["cost"]["milliseconds"] = 0.into();
    for stage in ["planning", "reading", "computing", "writing"] {
        assert!(answer["cost"]["stages"][stage].as_f64().is_some_and(|time| time >= 0.0), "{stage}");
    }
    answer["cost"]["stages"] = "…".into();
    settled(|| insta::assert_snapshot!("answer_json", serde_json::to_string_pretty(&answer).unwrap()));
    assert_eq!(ran.err(), "");
}

#[test]
fn valid_rows_of_a_bad_file_are_stored_and_the_others_reported() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let mut table = an_hour_of_levels();
    table.insert_str("time,lock,side,level_cm,gate\n".len(), "\"2026-05-01T08:00:00Z\",\"two\nlines\",up,1,open\n");
    table += "2026-05-01T10:00:00Z,osier,up,high,open\nnoon,osier,up,312,open\n2026-05-01T10:01:00Z,osier\n2026-05-01T10:02:00Z,osier,up,,\n";
    let bad = file(folder.path(), "bad.csv", &table);
    let strict = service.run(&import(&bad, &["--all-or-nothing"]));
    let nothing = service.run(&["series"]);
    let kept = service.run(&import(&bad, &[]));
    let hopeless = file(folder.path(), "hopeless.csv", "time,lock,side,level_cm,gate\nnoon,osier,up,312,open\n");
    let none = service.run(&import(&hopeless, &[]));
    let rendered = [strict.all(), nothing.all(), kept.all(), none.all()].join("\n");
    settled(|| insta::assert_snapshot!("good_rows_of_a_bad_file", rendered));
    assert_eq!([strict.code(), kept.code(), none.code()], [1, 4, 1]);
}

#[test]
fn compressed_files_and_standard_input_are_read() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let table = an_hour_of_levels();
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gzip.write_all(table.as_bytes()).unwrap();
    let gzip = gzip.finish().unwrap();
    let packed = file(folder.path(), "levels.csv.gz", &gzip);
    for ran in [
        service.run(&import(&packed, &[])),
        service.run_with_input(&import("-", &[]), table.as_bytes()),
        service.run_with_input(&import("-", &[]), &zstd::encode_all(table.as_bytes(), 1).unwrap()),
    ] {
        assert_eq!((ran.code(), ran.out().lines().next()), (0, Some("240 points from 120 rows stored in main, 0 rejected")), "{}", ran.all());
    }
    // The same points three times are the same points.
    let counted = service.run(&["datasets", "-o", "json"]);
    assert!(counted.out().contains("\"points\": 240"), "{}", counted.out());
    let cut = file(folder.path(), "cut.csv.gz", &gzip[..gzip.len() / 2]);
    let ran = service.run(&import(&cut, &[]));
    assert_eq!(ran.code(), 1);
    assert!(ran.err().contains("cut.csv.gz"), "{}", ran.err());
}

#[test]
fn a_large_file_is_sent_in_pieces_that_keep_line_numbers() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let mut table = "time,n\n".to_owned();
    for i in 0..120_000 {
        let (hour, minute, second) = (i / 3_600 % 24, i / 60 % 60, i % 60);
        let value = if i == 110_000 { "oops".to_owned() } else { i.to_string() };
        table += &format!("2026-05-{:02}T{hour:02}:{minute:02}:{second:02}Z,{value}\n", 1 + i / 86_400);
    }
    let large = file(folder.path(), "large.csv", table);
    let ran = service.run(&["import", &large, "--value", "n"]);
    assert_eq!(ran.code(), 4, "{}", ran.all());
    assert!(ran.out().contains("119,999 points from 120,000 rows stored"), "{}", ran.out());
    assert!(ran.err().contains("line 110002, n: `oops` is not a number"), "{}", ran.err());
}

#[test]
fn failures_are_explained_plainly() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let other = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let other_url = format!("http://{}", other.local_addr().unwrap());
    std::thread::spawn(move || {
        for mut stream in other.incoming().flatten() {
            let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: 5\r\nConnection: close\r\n\r\nhello");
        }
    });
    let empty = file(folder.path(), "empty.csv", "");
    let header = file(folder.path(), "header.csv", "time,lock,level\n");
    let binary = file(folder.path(), "binary.csv", [0, 159, 146, 150, 10, 0, 1, 2]);
    let missing = folder.path().join("missing.csv").display().to_string();
    let directory = folder.path().display().to_string();
    let mut rendered = String::new();
    let mut tell = |args: &[&str]| {
        let ran = service.run(args);
        assert_eq!(ran.out(), "", "{args:?}");
        rendered += &format!("{}\n", ran.all());
        ran.code()
    };
    assert_eq!(tell(&["metrics", "--url", "http://127.0.0.1:1"]), 3);
    assert_eq!(tell(&["metrics", "--url", &other_url]), 3);
    assert_eq!(tell(&["metrics", "--url", "localhost:7430"]), 2);
    assert_eq!(tell(&["metrics", "--dataset", "velmar"]), 1);
    assert_eq!(tell(&["storage", "--dataset", "velmar"]), 1);
    assert_eq!(tell(&["datasets", "--dataset", "velmar"]), 1);
    assert_eq!(tell(&["ask", "show mean of level over last 1h"]), 2);
    assert_eq!(tell(&["ask", "show maen of level"]), 2);
    assert_eq!(tell(&["ask", "show mean of level", "--over", "last day"]), 2);
    assert_eq!(tell(&["tags", "--metric", "level"]), 1);
    assert_eq!(tell(&["import", &missing, "--value", "level"]), 1);
    assert_eq!(tell(&["import", &directory, "--value", "level"]), 1);
    assert_eq!(tell(&["import", &empty, "--value", "level"]), 1);
    assert_eq!(tell(&["import", &header]), 2);
    assert_eq!(tell(&["import", &header, "--value", "levle"]), 1);
    assert_eq!(tell(&["import", &binary, "--value", "level"]), 1);
    assert_eq!(tell(&["import", "-", "--value", "level"]), 2);
    assert_eq!(tell(&["datasets", "define", "Velmar!"]), 1);
    assert_eq!(tell(&["datasets", "define", "velmar", "--zone", "Atlantis"]), 1);
    settled(|| insta::assert_snapshot!("what_goes_wrong", rendered));
    let fine = service.run(&["import", &header, "--value", "level"]);
    assert_eq!((fine.code(), fine.out().as_str()), (0, "0 points from 0 rows stored in main, 0 rejected\n"));
}

#[test]
fn a_service_that_cannot_start_explains_itself() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store").display().to_string();
    let service = Service::start(&folder.path().join("store"));
    let address = service.url.strip_prefix("http://").unwrap();
    let elsewhere = folder.path().join("elsewhere").display().to_string();
    let wrong = file(folder.path(), "fenetre.toml", "[listen]\naddress = \"0.0.0.0:7430\"\n");
    let unwritable = file(folder.path(), "a-file", "");
    let rendered: String = [
        run(&["serve", "--listen", "127.0.0.1:0", "--store", &store]),
        run(&["serve", "--listen", address, "--store", &elsewhere]),
        run(&["serve", "--listen", "192.0.2.1:7430"]),
        run(&["serve", "--config", &wrong]),
        run(&["serve", "--config", "/nowhere/fenetre.toml"]),
        run(&["serve", "--listen", "127.0.0.1:0", "--store", &format!("{unwritable}/store")]),
    ]
    .iter()
    .map(|ran| {
        assert_ne!(ran.code(), 0);
        format!("{}\n", ran.all())
    })
    .collect();
    settled(|| insta::assert_snapshot!("a_service_that_cannot_start", rendered));
}

#[test]
fn a_configuration_is_checked_before_it_is_used() {
    let folder = tempfile::tempdir().unwrap();
    let right = file(folder.path(), "right.toml", "[store]\npath = \"levels\"\n\n[listen]\naddress = \"127.0.0.1:9000\"\n");
    let wrong = file(folder.path(), "wrong.toml", "[store]\npath = \"levels\"\n[listen]\nadress = \"127.0.0.1:9000\"\n");
    let rendered = [run(&["config", "check", &right]), run(&["config", "check", &wrong])];
    assert_eq!([rendered[0].code(), rendered[1].code()], [0, 2]);
    settled(|| insta::assert_snapshot!("a_configuration_is_checked", rendered.map(|ran| ran.all()).join("\n")));
}

#[test]
fn a_service_stops_gracefully_on_either_signal_and_keeps_everything() {
    let folder = tempfile::tempdir().unwrap();
    for (round, signal) in ["-TERM", "-INT"].into_iter().enumerate() {
        let service = Service::start(folder.path());
        service.push_lines("main", &format!("{{\"metric\": \"level\", \"time\": \"2026-05-01T09:0{round}:00Z\", \"value\": 1}}\n"));
        assert_eq!(service.stop(signal), Some(0));
    }
    let service = Service::start(folder.path());
    let ran = service.run(&["ask", "show count of level over 2026-05-01 to 2026-05-02", "-o", "ndjson"]);
    assert!(ran.out().contains("\"value\":2.0"), "{}", ran.out());
}

#[test]
fn logs_are_structured_where_that_is_wanted() {
    let folder = tempfile::tempdir().unwrap();
    let config = file(folder.path(), "fenetre.toml", "[listen]\naddress = \"127.0.0.1:0\"\n[log]\nformat = \"json\"\n");
    let mut child = fenetre().args(["serve", "--config", &config]).stderr(std::process::Stdio::piped()).spawn().unwrap();
    let mut lines = BufReader::new(child.stderr.take().unwrap()).lines();
    let mut text = String::new();
    // The log shows it before the stop, however slow the machine is.
    while !text.contains("\"ready\"") {
        text += &lines.next().expect("it gets ready").unwrap();
        text.push('\n');
    }
    std::process::Command::new("kill").arg(child.id().to_string()).status().unwrap();
    lines.for_each(|line| text += &(line.unwrap() + "\n"));
    child.wait().unwrap();
    let messages: Vec<String> = text
        .lines()
        .filter_map(|line| serde_json::from_str::<serde_json::Value>(line).ok())
        .map(|line| line["fields"]["message"].to_string())
        .collect();
    assert!(messages.iter().any(|message| message.contains("ready")) && messages.iter().any(|message| message.contains("stopped")), "{text}");
    assert!(folder.path().join("fenetre-data").exists(), "a relative store lies beside the configuration");
}

#[test]
fn histograms_and_large_integers_round_trip() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let at = |minute: u32| format!("\"time\": \"2026-05-01T09:{minute:02}:00Z\"");
    let lockages = |minute, counts: &str, sum: f64| {
        let value = format!("{{\"bounds\": [300, 600], \"counts\": {counts}, \"sum\": {sum}}}");
        format!("{{\"metric\": \"lockage_time\", \"tags\": {{\"lock\": \"osier\"}}, {}, \"value\": {value}}}\n", at(minute))
    };
    let turns = |minute, value: &str| format!("{{\"metric\": \"turns\", {}, \"value\": {value}}}\n", at(minute));
    let body = [
        lockages(0, "[4, 2, 0]", 1_830.5),
        lockages(15, "[0, 0, 1]", 700.0),
        turns(0, "9007199254740993"),
        turns(15, "9223372036854775807"),
        turns(30, "18446744073709551615"),
    ];
    service.push_lines("main", &body.concat());
    let refused = service.post("/api/v1/datasets/main/points", &[("Content-Type", "application/json")], lockages(30, "[1]", 1.0).as_bytes());
    assert!(refused.status == 422 && refused.text().contains("has 1 counts and 2 bounds"), "{}", refused.text());
    let mut rendered = String::new();
    let mut tell = |args: &[&str]| rendered += &format!("$ fenetre {}\n{}\n", args.join(" "), service.run(args).all());
    tell(&["metrics"]);
    tell(&["datasets"]);
    tell(&["latest", "--metric", "lockage_time"]);
    tell(&["latest", "-o", "ndjson"]);
    tell(&["ask", "show points of lockage_time over 2026-05-01 to 2026-05-02"]);
    tell(&["ask", "show points of lockage_time over 2026-05-01 to 2026-05-02", "-o", "csv"]);
    tell(&["ask", "show points of turns over 2026-05-01 to 2026-05-02", "-o", "ndjson"]);
    tell(&["ask", "show last of turns show first of turns over 2026-05-01 to 2026-05-02", "-o", "csv"]);
    tell(&["ask", "show mean of lockage_time over 2026-05-01 to 2026-05-02"]);
    tell(&["metrics", "define", "lockage_time", "--kind", "gauge"]);
    settled(|| insta::assert_snapshot!("histograms_and_large_integers", rendered));
}
