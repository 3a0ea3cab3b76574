//! Disks that fail: writes without room, syncs that fail, file systems that cannot be written. Whatever fails, and in whichever phase,
//! each acknowledged point is there afterwards, once; what was refused is reported; and the service continues as far as is safe.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
    time::{Duration, Instant},
};

use serde_json::json;
use support::{Answer, Api, Service, fenetre, file};

const NO_SPACE: i32 = 28;
const BAD_DISK: i32 = 5;
const READ_ONLY: i32 = 30;
const BATCH: usize = 100;

/// A service above a file layer that fails on demand.
struct Failing {
    folder: tempfile::TempDir,
    layer: PathBuf,
    service: Option<Service>,
    /// Points that were acknowledged.
    kept: usize,
    /// Points that were sent.
    sent: usize,
}

impl Failing {
    fn start(pack_points: usize) -> Self {
        Self::start_with(&format!("pack_points = {pack_points}"))
    }

    /// With a line of its own for the store.
    fn start_with(setting: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let layer = folder.path().join("faults.so");
        let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../e2e/support/faults.c");
        let built = Command::new("cc").args(["-shared", "-fPIC", "-O1", "-o"]).args([&layer, &source]).status().unwrap();
        assert!(built.success());
        let text = format!("[store]\npath = \"store\"\n{setting}\n[listen]\naddress = \"127.0.0.1:0\"\n");
        file(folder.path(), "fenetre.toml", text);
        fs::write(folder.path().join("faults"), "").unwrap();
        let mut failing = Self { folder, layer, service: None, kept: 0, sent: 0 };
        failing.restart();
        failing
    }

    fn restart(&mut self) {
        self.service = None;
        let config = self.folder.path().join("fenetre.toml");
        let mut command = fenetre();
        command.arg("serve").arg("--config").arg(config).env("LD_PRELOAD", &self.layer).env("FENETRE_FAULTS", self.folder.path().join("faults"));
        self.service = Some(Service::start_command(&mut command));
    }

    fn service(&self) -> &Service {
        self.service.as_ref().unwrap()
    }

    /// From now on so, and no other way; an empty text heals the disk.
    fn fail(&self, orders: &[(&str, &str, i32)]) {
        let text: String = orders.iter().map(|(call, part, code)| format!("{call} {part} {code}\n")).collect();
        // Replaced and not rewritten, so that nobody reads half of it.
        fs::write(self.folder.path().join("next"), text).unwrap();
        fs::rename(self.folder.path().join("next"), self.folder.path().join("faults")).unwrap();
    }

    fn push_to(&mut self, lock: &str) -> Answer {
        let first = self.sent;
        let line = |n: usize| {
            json!({"metric": "level", "tags": {"lock": lock}, "time": format!("2026-05-01T09:00:00.{n:09}Z"), "value": n}).to_string() + "\n"
        };
        let body: String = (first..first + BATCH).map(line).collect();
        let answer = self.service().post("/api/v1/datasets/main/points", &[("Content-Type", "application/x-ndjson")], body.as_bytes());
        self.sent += BATCH;
        if answer.status == 200 {
            self.kept += BATCH;
        }
        answer
    }

    fn push(&mut self) -> Answer {
        self.push_to("osier")
    }

    /// Every instant there is, over all locks.
    fn found(&self) -> usize {
        let ran = self.service().run(&["ask", "show points of level over 2026-05-01 to 2026-05-02", "-o", "json"]);
        let answer: serde_json::Value = serde_json::from_str(&ran.out()).unwrap_or_else(|_| panic!("{}", ran.all()));
        let lines = answer["shows"][0]["lines"].as_array().unwrap();
        lines.iter().map(|line| line["values"].as_array().unwrap().len()).sum()
    }

    /// After a restart on a whole disk: what was acknowledged, and perhaps whole batches whose acknowledgement never left.
    fn check_after_restart(&mut self) {
        self.fail(&[]);
        self.restart();
        let found = self.found();
        assert!(
            (self.kept..=self.sent).contains(&found) && found.is_multiple_of(BATCH),
            "{found} found, {} acknowledged, {} sent",
            self.kept,
            self.sent
        );
        self.kept = found;
        self.sent = self.sent.max(found);
        assert_eq!(self.push().status, 200, "it takes points again");
        assert_eq!(self.found(), self.kept);
    }

    fn wait_until_packed(&self) {
        let begun = Instant::now();
        while self.service().get("/api/v1/storage").json()["waiting_points"] != 0 {
            assert!(begun.elapsed() < Duration::from_secs(25), "not packed in time");
            std::thread::sleep(Duration::from_millis(50));
        }
    }
}

#[test]
fn a_failed_sync_refuses_points_until_restart() {
    let mut failing = Failing::start(1_000_000);
    assert_eq!(failing.push().status, 200);
    failing.fail(&[("sync", "journal", BAD_DISK)]);
    let first = failing.push();
    assert_eq!((first.status, first.kind.as_str()), (500, "application/problem+json"), "{}", first.text());
    // The disk may be well again: what it holds of the failed batch, only a start can tell.
    failing.fail(&[]);
    let second = failing.push();
    assert_eq!(second.status, 503, "{}", second.text());
    assert!(second.json()["detail"].as_str().unwrap().contains("restart the service"), "{}", second.text());
    assert_eq!(failing.found(), failing.kept, "asking goes on, and sees what was acknowledged");
    failing.check_after_restart();
}

#[test]
fn a_full_journal_refuses_points_and_recovers() {
    let mut failing = Failing::start(1_000_000);
    assert_eq!(failing.push().status, 200);
    failing.fail(&[("write", "journal", NO_SPACE)]);
    for _ in 0..3 {
        let refused = failing.push();
        assert_eq!(refused.status, 507, "{}", refused.text());
    }
    assert_eq!(failing.found(), failing.kept);
    failing.fail(&[]);
    assert_eq!(failing.push().status, 200, "no restart was needed");
    assert_eq!(failing.found(), failing.kept);
    failing.check_after_restart();
}

#[test]
fn a_catalogue_without_room_refuses_new_series_only() {
    let mut failing = Failing::start(1_000_000);
    assert_eq!(failing.push().status, 200);
    failing.fail(&[("write", "catalogue", NO_SPACE)]);
    assert_eq!(failing.push_to("marl").status, 507);
    assert_eq!(failing.push().status, 200);
    failing.fail(&[]);
    assert_eq!(failing.push_to("marl").status, 200);
    assert_eq!(failing.found(), failing.kept);
    failing.check_after_restart();
}

#[test]
fn partitions_that_fail_keep_points_in_memory_and_journal_until_they_can_be_packed() {
    for (call, code) in [("write", NO_SPACE), ("sync", BAD_DISK)] {
        let mut failing = Failing::start(150);
        failing.fail(&[(call, "/data/", code)]);
        for _ in 0..6 {
            assert_eq!(failing.push().status, 200, "{call}");
            std::thread::sleep(Duration::from_millis(20));
        }
        assert_eq!(failing.found(), failing.kept, "{call}");
        assert!(failing.service().get("/api/v1/storage").json()["waiting_points"].as_u64().unwrap() > 0);
        if call == "write" {
            // It is tried again without a restart.
            failing.fail(&[]);
            failing.wait_until_packed();
            assert_eq!(failing.found(), failing.kept);
        }
        failing.check_after_restart();
    }
}

#[test]
fn an_overloaded_service_slows_callers_and_loses_nothing() {
    let mut failing = Failing::start_with("memory_mb = 1");
    failing.fail(&[("write", "/data/", NO_SPACE)]);
    let refused = loop {
        let answer = failing.push();
        if answer.status != 200 {
            break answer;
        }
        assert!(failing.kept < 200_000, "a megabyte cannot hold this");
    };
    assert_eq!((refused.status, refused.header("retry-after")), (429, Some("1")), "{}", refused.text());
    assert_eq!(refused.json()["type"], "urn:fenetre:problem:behind");
    assert!(failing.kept > 10_000);
    assert_eq!(failing.found(), failing.kept);
    failing.fail(&[]);
    failing.wait_until_packed();
    assert_eq!(failing.push().status, 200);
    assert_eq!(failing.found(), failing.kept);
}

#[test]
fn commits_at_an_interval_are_synced_within_it_and_a_failed_sync_closes_the_store() {
    let mut failing = Failing::start_with("durability = \"interval 20ms\"");
    let answer = failing.push();
    assert_eq!((answer.status, answer.header("fenetre-durability")), (200, Some("interval 20ms")));
    // Its sync must be done before syncs fail.
    std::thread::sleep(Duration::from_millis(200));
    failing.fail(&[("sync", "journal", BAD_DISK)]);
    // This one is acknowledged, and its sync fails afterwards.
    assert_eq!(failing.push().status, 200);
    let begun = Instant::now();
    while failing.push().status == 200 {
        assert!(begun.elapsed() < Duration::from_secs(10), "the failed sync was not seen");
    }
    assert_eq!(failing.found(), failing.kept);
    failing.check_after_restart();
}

#[test]
fn a_file_system_that_becomes_read_only_is_reported() {
    let mut failing = Failing::start(1_000_000);
    assert_eq!(failing.push().status, 200);
    failing.fail(&[("write", "store", READ_ONLY), ("sync", "store", READ_ONLY)]);
    let refused = failing.push();
    assert!((500..600).contains(&refused.status), "{}", refused.text());
    assert_eq!(failing.found(), failing.kept);
    failing.check_after_restart();
}

#[test]
fn a_store_on_a_read_only_file_system_is_refused_with_a_remedy() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store");
    drop(Service::start(&store));
    let script = format!(
        "mount --bind '{0}' '{0}' && mount -o remount,ro,bind '{0}' && exec '{1}' serve --listen 127.0.0.1:0 --store '{0}'",
        store.display(),
        env!("CARGO_BIN_EXE_fenetre")
    );
    let ran = Command::new("unshare").args(["-rm", "sh", "-c", &script]).output().unwrap();
    let message = String::from_utf8_lossy(&ran.stderr).into_owned();
    assert_eq!(ran.status.code(), Some(1), "{message}");
    assert!(message.contains("cannot be written: the file system is read-only. Make it writable"), "{message}");
}

#[test]
fn a_full_disk_of_a_destination_delays_its_sink_alone() {
    let mut failing = Failing::start(1_000_000);
    let sent = failing.folder.path().join("sent");
    assert_eq!(failing.push().status, 200);
    failing.fail(&[("write", "/sent/", NO_SPACE)]);
    let definition = format!(
        "kind = \"files\"\npath = \"{}\"\nformat = \"json-lines\"\nname = \"{{part}}\"\nhistory = true\nbatch_after = \"50ms\"\n",
        sent.display()
    );
    let path = file(failing.folder.path(), "out.toml", definition);
    assert_eq!(failing.service().run(&["sink", "add", &path]).code(), 0);
    let shown = |failing: &Failing| failing.service().run(&["sink", "show", "out"]).out();
    let until = |what: &str, is_so: &dyn Fn() -> bool| {
        let begun = Instant::now();
        while !is_so() {
            assert!(begun.elapsed() < Duration::from_secs(60), "{what}");
            std::thread::sleep(Duration::from_millis(50));
        }
    };
    until("it fails with a reason", &|| shown(&failing).contains("No space left on device"));
    // Points are taken as before, and no half of a file has a name.
    assert_eq!(failing.push().status, 200);
    let files = || fs::read_dir(&sent).unwrap().map(|entry| entry.unwrap().path()).collect::<Vec<_>>();
    assert_eq!(files(), Vec::<PathBuf>::new());
    failing.fail(&[]);
    let lines = || files().iter().map(|path| fs::read_to_string(path).unwrap().lines().count()).sum::<usize>();
    until("all points are there", &|| lines() == 2 * BATCH);
    until("it is healthy", &|| shown(&failing).contains("healthy"));
}
