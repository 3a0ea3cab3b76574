//! A store that was damaged, repaired through the command line, and served again.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use std::fs;

use support::{Api, Service, run, seconds_of_levels};

fn count(service: &Service) -> String {
    service.run(&["ask", "show count of level overall over 2026-05-01 to 2026-05-02", "-o", "csv"]).out()
}

#[test]
fn repair_shows_its_plan_then_restores_catalogue_and_readable_blocks() {
    let folder = tempfile::tempdir().unwrap();
    let shown = |name: &str| folder.path().join(name).display().to_string();
    let (store, backup) = (shown("store"), shown("backup"));
    let service = Service::start(&folder.path().join("store"));
    service.push_lines("main", &seconds_of_levels());
    assert_eq!(service.run(&["backup", &backup]).code(), 0);
    let whole = count(&service);
    assert!(whole.contains("20000"), "{whole}");
    // A running service is not disturbed.
    let refused = run(&["storage", "repair", &store]);
    assert!(refused.code() == 1 && refused.err().contains("is in use by process"), "{}", refused.all());
    assert_eq!(service.stop("-TERM"), Some(0));
    assert!(run(&["storage", "repair", &store]).out().ends_with("no errors\n"));
    // A lost catalogue, and a partition whose first page is overwritten.
    fs::remove_file(folder.path().join("store/catalogue.db")).unwrap();
    let partition =
        fs::read_dir(folder.path().join("store/data/main")).unwrap().map(|entry| entry.unwrap().path()).find(|path| path.is_file()).unwrap();
    let mut bytes = fs::read(&partition).unwrap();
    bytes[..4_096].fill(0xa5);
    fs::write(&partition, bytes).unwrap();
    let without = run(&["storage", "repair", &store]);
    assert!(without.code() == 1 && without.out().contains("nothing can be done without a backup: name one with --from"), "{}", without.all());
    let planned = run(&["storage", "repair", &store, "--from", &backup]);
    assert_eq!(planned.code(), 1, "{}", planned.all());
    assert!(!folder.path().join("store/catalogue.db").exists(), "a plan changes nothing");
    let applied = run(&["storage", "repair", &store, "--from", &backup, "--apply"]);
    assert_eq!(applied.code(), 0, "{}", applied.all());
    support::settled(|| insta::assert_snapshot!("a_repair_plans_and_does", format!("{}\n{}", planned.all(), applied.all())));
    let service = Service::start(&folder.path().join("store"));
    assert_eq!(count(&service), whole);
    assert_eq!(service.run(&["storage", "verify"]).code(), 0);
}
