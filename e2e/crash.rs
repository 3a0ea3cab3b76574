//! SIGKILL in the middle of ingest: after each restart every acknowledged point is there, once. Guards against a batch that is
//! acknowledged before it is on the disk, and against one that packing loses or doubles. And in the middle of dropping, restoring and rolling up: guards
//! against points that are neither in a partition nor in the bin, and against windows that do not say what their points say.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use std::{
    collections::BTreeMap,
    sync::{
        Mutex,
        atomic::{AtomicU64, Ordering},
    },
    thread,
    time::Duration,
};

use support::{Api, Service, agent, file};

const WRITERS: u64 = 3;
const BATCH: u64 = 40;
/// Rounds of kill and restart; more by `FENETRE_CRASH_ROUNDS`.
const ROUNDS: u64 = 20;

/// A batch's lines: point `n` of a writer is `n` seconds after midnight of 1 May 2026, with the value `n`.
fn lines(writer: u64, first: u64) -> String {
    let line = |n: u64| {
        let (day, hour, minute, second) = (1 + n / 86_400, n / 3_600 % 24, n / 60 % 60, n % 60);
        format!(
            "{{\"metric\": \"level\", \"tags\": {{\"writer\": \"w{writer}\"}}, \"time\": \"2026-05-{day:02}T{hour:02}:{minute:02}:{second:02}Z\", \"value\": {n}}}\n"
        )
    };
    (first..first + BATCH).map(line).collect()
}

/// Pushes batch after batch until the service is gone, and notes how many points were acknowledged.
fn write_until_gone(url: &str, writer: u64, acknowledged: &AtomicU64) {
    let agent = agent();
    loop {
        let first = acknowledged.load(Ordering::SeqCst);
        let sent = agent.post(format!("{url}/api/v1/datasets/main/points")).content_type("application/x-ndjson").send(lines(writer, first));
        match sent {
            Ok(answer) if answer.status() == 200 => acknowledged.fetch_add(BATCH, Ordering::SeqCst),
            _ => return,
        };
    }
}

fn points(service: &Service) -> BTreeMap<String, Vec<u64>> {
    let ran = service.run(&["ask", "show points of level over 2026-05-01 to 2026-06-01", "-o", "json"]);
    // Before the first batch there is no such metric.
    if ran.err().contains("has no metric `level`") {
        return BTreeMap::new();
    }
    let answer: serde_json::Value = serde_json::from_str(&ran.out()).unwrap_or_else(|_| panic!("{}", ran.all()));
    let line = |line: &serde_json::Value| {
        let values = line["values"].as_array().unwrap().iter().map(|value| value.as_f64().unwrap() as u64);
        (line["tags"]["writer"].as_str().unwrap().to_owned(), values.collect())
    };
    answer["shows"][0]["lines"].as_array().unwrap().iter().map(line).collect()
}

#[test]
fn every_acknowledged_point_survives_sigkill_once() {
    let folder = tempfile::tempdir().unwrap();
    // Packing after few points and compaction soon after that, so that kills meet both. What the operating system has outlives the service,
    // so commits that are synced at an interval hold as well.
    let config_with = |durability: &str| {
        let text = format!(
            "[store]\npath = \"store\"\ndurability = \"{durability}\"\npack_points = 500\ncompact_after_seconds = 1\n[listen]\naddress = \"127.0.0.1:0\"\n[limits]\nmax_points = 100000000\n"
        );
        file(folder.path(), "fenetre.toml", text)
    };
    let acknowledged: Vec<AtomicU64> = (0..WRITERS).map(|_| AtomicU64::new(0)).collect();
    let rounds = std::env::var("FENETRE_CRASH_ROUNDS").ok().and_then(|rounds| rounds.parse().ok()).unwrap_or(ROUNDS);
    for round in 0..rounds {
        let config = config_with(if round % 2 == 0 { "each" } else { "interval 50ms" });
        let service = Mutex::new(Some(Service::start_with(&["serve", "--config", &config])));
        let url = service.lock().unwrap().as_ref().unwrap().url.clone();
        thread::scope(|scope| {
            for (writer, acknowledged) in acknowledged.iter().enumerate() {
                let url = &url;
                scope.spawn(move || write_until_gone(url, writer as u64, acknowledged));
            }
            // A different moment in each round.
            thread::sleep(Duration::from_millis(150 + round * 97 % 800));
            service.lock().unwrap().take().unwrap().kill();
        });
        let service = Service::start_with(&["serve", "--config", &config]);
        let found = points(&service);
        for (writer, acknowledged) in acknowledged.iter().enumerate() {
            // On a busy machine a writer may not have come to its first batch before the first kill.
            let (found, known) = (found.get(&format!("w{writer}")).cloned().unwrap_or_default(), acknowledged.load(Ordering::SeqCst));
            // A batch whose acknowledgement was cut off may be there as well, whole.
            assert!(found.len() as u64 == known || found.len() as u64 == known + BATCH, "round {round}: {} found, {known} acknowledged", found.len());
            assert!(found.iter().copied().eq(0..found.len() as u64), "round {round}: each point once, in order");
        }
    }
    assert!(acknowledged.iter().all(|count| count.load(Ordering::SeqCst) > BATCH), "the writers got somewhere: {acknowledged:?}");
}

/// A point every ten minutes over so many days up to this hour.
const DAYS: i64 = 60;
const HOUR: i64 = 3_600;
/// Of late points in one batch.
const LATE: i64 = 25;

fn this_hour() -> i64 {
    jiff::Timestamp::now().as_second() / HOUR * HOUR
}

fn point(half_seconds: i64) -> String {
    let at = jiff::Timestamp::from_millisecond(half_seconds * 500).unwrap();
    format!("{{\"metric\": \"level\", \"tags\": {{\"lock\": \"osier\"}}, \"time\": \"{at}\", \"value\": 1}}\n")
}

/// How many points a question finds.
fn counted(service: &Service, text: &str) -> u64 {
    let ran = service.run(&["ask", text, "-o", "json"]);
    let answer: serde_json::Value = serde_json::from_str(&ran.out()).unwrap_or_else(|_| panic!("{}", ran.all()));
    let values = answer["shows"][0]["lines"].as_array().unwrap().iter().flat_map(|line| line["values"].as_array().unwrap());
    values.map(|value| value.as_f64().unwrap_or(0.0) as u64).sum()
}

#[test]
fn drop_restore_and_rollup_survive_sigkill() {
    let folder = tempfile::tempdir().unwrap();
    let text = "[store]\npath = \"store\"\npack_points = 200\ncompact_after_seconds = 1\n[listen]\naddress = \"127.0.0.1:0\"\n";
    let config = file(folder.path(), "fenetre.toml", text);
    let end = this_hour();
    let mut service = Service::start_with(&["serve", "--config", &config]);
    service.push_lines("main", &(0..DAYS * 144).map(|step| point((end - step * 600) * 2)).collect::<String>());
    assert_eq!(service.run(&["backup", &folder.path().join("copy").display().to_string()]).code(), 0);
    assert_eq!(service.run(&["rollup", "set", "--level", "1h", "--level", "1d", "--lateness", "1s"]).code(), 0);
    let is_filled = |service: &Service| {
        let levels = service.get("/api/v1/datasets/main/rollups").json()["policies"][0]["levels"].clone();
        levels.as_array().unwrap().iter().all(|level| level["filled"] == 1.0)
    };
    while !is_filled(&service) {
        thread::sleep(Duration::from_millis(100));
    }
    let whole = format!("show count of level overall over {} to {} per 1d", day(end - (DAYS + 1) * 24 * HOUR), day(end + 2 * 24 * HOUR));
    let late = AtomicU64::new(0);
    let rounds: u64 = std::env::var("FENETRE_CRASH_ROUNDS").ok().and_then(|rounds| rounds.parse().ok()).unwrap_or(10);
    for round in 0..rounds {
        let running = Mutex::new(Some(service));
        let url = running.lock().unwrap().as_ref().unwrap().url.clone();
        thread::scope(|scope| {
            // Late points into days whose windows were made: between the others, no instant twice.
            scope.spawn(|| {
                let agent = agent();
                loop {
                    let first = late.load(Ordering::SeqCst) as i64;
                    let at = |n: i64| (end - 24 * HOUR * (1 + n % 20) - 600 * 144 / 3 - n) * 2 + 1;
                    let body: String = (first..first + LATE).map(|n| point(at(n))).collect();
                    let sent = agent.post(format!("{url}/api/v1/datasets/main/points")).content_type("application/x-ndjson").send(body);
                    match sent {
                        Ok(answer) if answer.status() == 200 => late.fetch_add(LATE as u64, Ordering::SeqCst),
                        _ => return,
                    };
                }
            });
            scope.spawn(|| {
                let agent = agent();
                let post = |path: &str, body: &str| agent.post(format!("{url}{path}")).content_type("application/json").send(body).map(|_| ());
                // Expiry and restore alternate, so that the kill meets either.
                let _ = post(
                    "/api/v1/retention",
                    if round % 2 == 0 { r#"{"place":"main","limits":{"keep_for":"30d"}}"# } else { r#"{"place":"main","reset":true}"# },
                );
                if round % 2 == 1
                    && let Ok(mut answer) = agent.get(format!("{url}/api/v1/bin")).call()
                {
                    let items: serde_json::Value = serde_json::from_str(&answer.body_mut().read_to_string().unwrap_or_default()).unwrap_or_default();
                    for item in items.as_array().into_iter().flatten() {
                        let _ = post(&format!("/api/v1/bin/{}/restore", item["id"].as_str().unwrap()), "{}");
                    }
                }
            });
            thread::sleep(Duration::from_millis(20 + round * 131 % 700));
            running.lock().unwrap().take().unwrap().kill();
        });
        service = Service::start_with(&["serve", "--config", &config]);
        let known = DAYS as u64 * 144 + late.load(Ordering::SeqCst);
        let found = counted(&service, &whole);
        assert!(found == known || found == known + LATE as u64, "round {round}: {found} in points and windows, {known} acknowledged");
        late.store(found - DAYS as u64 * 144, Ordering::SeqCst);
        // Of the time that is kept in any case, points say the same as windows.
        let kept = format!("show count of level overall over {} to {} per 1d", day(end - 25 * 24 * HOUR), day(end + 2 * 24 * HOUR));
        assert_eq!(counted(&service, &kept), counted(&service, &format!("{kept} from raw")), "round {round}");
    }
    // Everything is restored unchanged.
    assert_eq!(service.run(&["retention", "reset", "--yes", "main"]).code(), 0);
    for item in service.get("/api/v1/bin").json().as_array().unwrap() {
        let ran = service.run(&["retention", "restore", item["id"].as_str().unwrap()]);
        assert_eq!(ran.code(), 0, "{}", ran.all());
    }
    assert_eq!(counted(&service, &format!("{whole} from raw")), DAYS as u64 * 144 + late.load(Ordering::SeqCst));
    let looked = service.run(&["storage", "verify"]);
    assert_eq!(looked.code(), 0, "{}", looked.all());
    assert!(late.load(Ordering::SeqCst) > LATE as u64, "the writer got somewhere");
}

fn day(second: i64) -> String {
    jiff::Timestamp::from_second(second).unwrap().strftime("%Y-%m-%d").to_string()
}
