//! SIGKILL in the middle of ingest: after each restart every acknowledged point is there, once. Guards against a batch that is
//! acknowledged before it is on the disk, and against one that packing loses or doubles.

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

use support::{Service, agent, file};

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
    let said = service.run(&["ask", "show points of level over 2026-05-01 to 2026-06-01", "-o", "json"]);
    let answer: serde_json::Value = serde_json::from_str(&said.out()).unwrap_or_else(|_| panic!("{}", said.all()));
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
            "[store]\npath = \"store\"\ndurability = \"{durability}\"\npack_points = 500\ncompact_after_seconds = 1\n[listen]\naddress = \"127.0.0.1:0\"\n"
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
            let (found, known) = (&found[&format!("w{writer}")], acknowledged.load(Ordering::SeqCst));
            // A batch whose acknowledgement was cut off may be there as well, whole.
            assert!(found.len() as u64 == known || found.len() as u64 == known + BATCH, "round {round}: {} found, {known} acknowledged", found.len());
            assert!(found.iter().copied().eq(0..found.len() as u64), "round {round}: each point once, in order");
        }
    }
    assert!(acknowledged.iter().all(|count| count.load(Ordering::SeqCst) > BATCH), "the writers got somewhere: {acknowledged:?}");
}
