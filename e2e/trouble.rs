//! A full disk, clients that go away or talk nonsense, and a service under all of it at once.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use std::{
    io::{BufRead, BufReader, Read, Write},
    net::TcpStream,
    process::Command,
    time::{Duration, Instant},
};

use serde_json::json;
use support::{Api, Service, fenetre, file};

const POINTS: &str = "/api/v1/datasets/main/points";
const LINES: (&str, &str) = ("Content-Type", "application/x-ndjson");

fn level(n: usize) -> String {
    format!("{{\"metric\": \"level\", \"time\": \"2026-05-01T09:00:00.{n:09}Z\", \"value\": {n}}}\n")
}

fn count(service: &Service) -> f64 {
    let body = json!({ "query": "show count of level overall over 2026-05-01 to 2026-05-02" }).to_string();
    let answer = service.post("/api/v1/datasets/main/ask", &[("Content-Type", "application/json")], body.as_bytes()).json();
    answer["shows"][0]["lines"][0]["values"][0].as_f64().unwrap_or_default()
}

/// A volume of a few megabytes that only this service sees, and that goes with it.
fn start_on_a_small_volume(folder: &std::path::Path, reserve: &str) -> Service {
    let volume = folder.join("volume");
    std::fs::create_dir(&volume).unwrap();
    let config = file(
        folder,
        "fenetre.toml",
        format!("[store]\npath = \"{}/store\"\n[listen]\naddress = \"127.0.0.1:0\"\n[retention]\nreserve = \"{reserve}\"\n", volume.display()),
    );
    let script =
        format!("mount -t tmpfs -o size=3m tmpfs '{}' && exec '{}' serve --config '{config}'", volume.display(), env!("CARGO_BIN_EXE_fenetre"));
    Service::start_command(std::process::Command::new("unshare").args(["-rm", "sh", "-c", &script]))
}

/// Pushes until that is refused; says how many points were kept, and how it was refused.
fn fill(service: &Service) -> (usize, support::Answer) {
    let mut kept = 0;
    loop {
        let body: String = (kept..kept + 5_000).map(level).collect();
        let answer = service.post(POINTS, &[LINES], body.as_bytes());
        if answer.status != 200 {
            return (kept, answer);
        }
        kept += 5_000;
        assert!(kept < 1_000_000, "3 MB cannot hold this");
    }
}

#[test]
fn too_little_memory_is_one_line_and_an_exit_code() {
    let folder = tempfile::tempdir().unwrap();
    let program = env!("CARGO_BIN_EXE_fenetre");
    for kilobytes in [400_000, 1_000_000] {
        let script = format!("ulimit -v {kilobytes}; exec {program} serve --listen 127.0.0.1:0 --store {}", folder.path().join("store").display());
        let ended = Command::new("bash").args(["-c", &script]).output().unwrap();
        let message = String::from_utf8_lossy(&ended.stderr);
        assert_eq!(ended.status.code(), Some(1), "{message}");
        assert!(message.contains("too little memory: this process may use") && message.contains("`memory_mb`"), "{message}");
        assert_eq!(message.lines().count(), 1, "{message}");
    }
}

#[test]
fn points_are_refused_before_the_reserve_is_used() {
    let folder = tempfile::tempdir().unwrap();
    let service = start_on_a_small_volume(folder.path(), "40%");
    let (kept, refusal) = fill(&service);
    assert_eq!(refusal.status, 507, "{}", refusal.text());
    let detail = refusal.json()["detail"].as_str().unwrap().to_owned();
    assert!(detail.starts_with("the volume of the store has") && detail.contains("fenetre retention set"), "{detail}");
    assert_eq!(count(&service), kept as f64);
    let storage = service.get("/api/v1/storage").json();
    assert!(storage["volume"]["free"].as_u64() > Some(300_000), "{}", storage["volume"]);
}

#[test]
fn a_full_disk_is_reported_and_acknowledged_points_stay() {
    let folder = tempfile::tempdir().unwrap();
    let service = start_on_a_small_volume(folder.path(), "0%");
    let (kept, refusal) = fill(&service);
    assert_eq!((refusal.status, refusal.kind.as_str()), (507, "application/problem+json"), "{}", refusal.text());
    assert!(refusal.json()["detail"].as_str().unwrap().starts_with("the disk is full"), "{}", refusal.text());
    assert!(kept > 0);
    // Nothing half-written: exactly what was acknowledged can be asked for, and a smaller batch still may find room.
    assert_eq!(count(&service), kept as f64);
    let ran = service.run_with_input(&["import", "-", "--value", "level"], b"time,level\n2026-05-03T00:00:00Z,1\n");
    match ran.code() {
        0 => assert_eq!(ran.out(), "1 point kept in main, 0 rejected\n"),
        code => assert!(code == 1 && ran.err().contains("the disk is full"), "{}", ran.all()),
    }
    assert_eq!(service.get("/health/live").status, 200);
}

/// Sends bytes as they are, and reads what comes back until the service closes.
fn raw(service: &Service, bytes: &[u8], then_leave: bool) -> String {
    let mut stream = TcpStream::connect(service.url.strip_prefix("http://").unwrap()).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    stream.write_all(bytes).unwrap();
    let mut answer = Vec::new();
    if !then_leave {
        let mut chunk = [0; 4_096];
        while let Ok(read @ 1..) = stream.read(&mut chunk) {
            answer.extend_from_slice(&chunk[..read]);
            if answer.windows(4).any(|window| window == b"\r\n\r\n") {
                break;
            }
        }
    }
    String::from_utf8_lossy(&answer).into_owned()
}

#[test]
fn a_client_that_disconnects_in_mid_body_stores_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(folder.path());
    service.push_lines("main", &level(1));
    let head =
        format!("POST {POINTS} HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/x-ndjson\r\nContent-Length: 100000\r\n\r\n{}", level(2));
    for _ in 0..20 {
        raw(&service, head.as_bytes(), true);
    }
    assert_eq!(count(&service), 1.0);
}

#[test]
fn malformed_requests_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(folder.path());
    for nonsense in [&b"\0\x01\x02\r\n\r\n"[..], b"GET / HTTP/9.9\r\n\r\n", b"POST /api HTTP/1.1\r\nContent-Length: -5\r\n\r\n"] {
        let answer = raw(&service, nonsense, false);
        assert!(answer.is_empty() || answer.starts_with("HTTP/1.1 4"), "{answer}");
    }
    let bare = raw(&service, b"GET /api/v1/datasets HTTP/1.0\r\n\r\n", false);
    assert!(bare.starts_with("HTTP/1.0 200"), "a caller without a Host is old, but no page from elsewhere: {bare}");
    assert_eq!(service.get("/health/live").status, 200);
}

#[test]
fn queries_run_while_points_arrive_and_are_packed() {
    let folder = tempfile::tempdir().unwrap();
    let config = file(folder.path(), "fenetre.toml", "[store]\npath = \"store\"\npack_points = 2000\n[listen]\naddress = \"127.0.0.1:0\"\n");
    let service = Service::start_with(&["serve", "--config", &config]);
    const BATCHES: usize = 60;
    const BATCH: usize = 400;
    std::thread::scope(|scope| {
        let writer = scope.spawn(|| {
            (0..BATCHES).for_each(|batch| service.push_lines("main", &(batch * BATCH..(batch + 1) * BATCH).map(level).collect::<String>()))
        });
        let mut before = 0.0;
        while !writer.is_finished() {
            let body = json!({ "query": "show count of level overall over 2026-05-01 to 2026-05-02" }).to_string();
            let answer = service.post("/api/v1/datasets/main/ask", &[("Content-Type", "application/json")], body.as_bytes());
            // Before the first batch there is no such metric.
            if answer.status == 200 {
                let now = answer.json()["shows"][0]["lines"][0]["values"][0].as_f64().unwrap_or_default();
                assert!(now >= before, "what was seen once stays: {before}, then {now}");
                assert_eq!(now as usize % BATCH, 0, "a batch is seen whole or not at all");
                before = now;
            }
        }
        writer.join().unwrap();
    });
    assert_eq!(count(&service), (BATCHES * BATCH) as f64);
}

/// The writing end of a pipe that nobody reads any more.
fn without_a_reader() -> std::io::PipeWriter {
    std::io::pipe().unwrap().1
}

#[test]
fn a_service_survives_a_closed_log_pipe() {
    let folder = tempfile::tempdir().unwrap();
    // Who started it read as far as the address and went away, as a terminal does that is closed.
    let mut service = fenetre()
        .args(["serve", "--listen", "127.0.0.1:0", "--store", &folder.path().join("store").display().to_string()])
        .env("FENETRE_LOG", "debug")
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(service.stderr.take().unwrap()).lines();
    let ready =
        lines.find_map(|line| line.unwrap().split_once("http://").map(|(_, rest)| rest.split_whitespace().next().unwrap().to_owned())).unwrap();
    drop(lines);
    let pushed = support::agent().post(format!("http://{ready}{POINTS}")).header(LINES.0, LINES.1).send(level(1).as_bytes()).unwrap();
    assert_eq!(pushed.status(), 200);
    std::process::Command::new("kill").arg(service.id().to_string()).status().unwrap();
    let start = Instant::now();
    let ended = loop {
        if let Some(status) = service.try_wait().unwrap() {
            break status;
        }
        if start.elapsed() > Duration::from_secs(30) {
            service.kill().unwrap();
            panic!("it did not stop");
        }
        std::thread::sleep(Duration::from_millis(10));
    };
    assert_eq!(ended.code(), Some(0), "{ended}");
}

#[test]
fn a_closed_output_pipe_ends_the_command_quietly() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    service.push_lines("main", &level(1));
    for args in [
        &["metrics"][..],
        &["storage"],
        &["retention", "show"],
        &["ask", "show last of level over 2026-05-01 to 2026-05-02"],
        &["ask", "show last of level over 2026-05-01 to 2026-05-02", "--output", "csv"],
    ] {
        let rendered = fenetre().args(args).env("FENETRE_URL", &service.url).stdout(without_a_reader()).output().unwrap();
        let talk = String::from_utf8_lossy(&rendered.stderr).into_owned();
        assert_eq!((rendered.status.code(), talk.contains("panicked"), talk.contains("fenetre:")), (Some(141), false, false), "{args:?}: {talk}");
    }
    // Talk that nobody reads does not keep a result from its reader.
    let rendered = fenetre()
        .args(["ask", "show last of level over 2026-05-01 to 2026-05-02"])
        .env("FENETRE_URL", &service.url)
        .stderr(without_a_reader())
        .output()
        .unwrap();
    assert_eq!(rendered.status.code(), Some(0));
    assert!(String::from_utf8_lossy(&rendered.stdout).contains("level"));
}
