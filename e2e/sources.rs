//! Sources through the command line: checked, tried, added, watched, controlled.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use std::{
    fs, thread,
    time::{Duration, Instant},
};

use support::{Api, Ran, Service, file, run, settled};

fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !is_so() {
        assert!(begun.elapsed() < Duration::from_secs(30), "{what}");
        thread::sleep(Duration::from_millis(50));
    }
}

#[test]
fn a_folder_is_checked_tried_and_read() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let spool = folder.path().join("spool");
    fs::create_dir(&spool).unwrap();
    let text = format!(
        "kind = \"folder\"\npath = \"{}\"\npattern = \"*.csv\"\nevery = \"200ms\"\n[mapping]\ncolumns = [\n  {{ column = \"lock\", role = \"tag\" }},\n  {{ column = \"level\", role = \"value\" }},\n]\n",
        spool.display()
    );
    let keepers = file(folder.path(), "keepers.toml", &text);
    let wrong = file(folder.path(), "wrong.toml", text.replace("pattern", "patern"));
    fs::write(spool.join("monday.csv"), "time,lock,level\n2026-05-01T09:00:00Z,osier,312.5\n2026-05-01T09:01:00Z,marl,high\n").unwrap();
    // A file that was just written may still grow.
    thread::sleep(Duration::from_millis(2_200));
    let without_times = |ran: Ran| {
        let text = ran.all().replace(&folder.path().display().to_string(), "DIR");
        text.lines().map(|line| line.split(", ").filter(|part| !part.ends_with(" ms")).collect::<Vec<_>>().join(", ") + "\n").collect::<String>()
    };
    let steps = [
        run(&["source", "check", &keepers]),
        run(&["source", "check", &wrong]),
        service.run(&["source", "list"]),
        service.run(&["source", "try", &keepers]),
        service.run(&["source", "add", &wrong]),
        service.run(&["source", "add", &keepers]),
    ]
    .map(without_times);
    settled(|| insta::assert_snapshot!("a_source_is_tried", steps.join("\n")));
    until("the file is read", || spool.join("done/monday.csv").exists());
    let listed = service.run(&["source", "list", "-o", "csv"]).out();
    assert!(listed.contains("keepers,folder,main,waiting,2") && listed.contains(",1,1,"), "{listed}");
    let log = service.run(&["source", "log", "keepers", "-o", "csv"]).out();
    assert!(log.contains("monday.csv: 1 points") && log.contains("is a text") || log.contains("rejected"), "{log}");
    assert_eq!(service.get("/api/v1/datasets/main/latest").ok()["items"][0]["value"], 312.5);
    assert_eq!(service.run(&["source", "pause", "keepers"]).out(), "source keepers is paused\n");
    assert!(service.run(&["source", "show", "keepers"]).out().starts_with("keepers: folder into main, paused\n"));
    assert_eq!(service.run(&["source", "resume", "keepers"]).code(), 0);
    assert_eq!(service.run(&["source", "run", "keepers"]).code(), 0);
    let changes = service.run(&["changes", "--what", "source", "-o", "csv"]).out();
    for act in ["source defined", "source suspended", "source resumed"] {
        assert!(changes.contains(act), "{changes}");
    }
    assert_eq!(service.run(&["source", "remove", "keepers"]).out(), "source keepers is removed; its points stay\n");
    assert!(service.run(&["source", "show", "keepers"]).err().contains("there is no source `keepers`"));
}

#[test]
fn a_source_goes_on_when_the_service_starts_again() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store");
    let spool = folder.path().join("spool");
    fs::create_dir(&spool).unwrap();
    let text = format!("kind = \"folder\"\npath = \"{}\"\nevery = \"200ms\"\n", spool.display());
    let keepers = file(folder.path(), "keepers.toml", text);
    let service = Service::start(&store);
    assert_eq!(service.run(&["source", "add", &keepers]).code(), 0);
    service.kill();
    let points = "{\"metric\": \"level\", \"time\": \"2026-05-01T09:00:00Z\", \"value\": 1}\n";
    fs::write(spool.join("night.ndjson"), points).unwrap();
    let service = Service::start(&store);
    until("the file is read after the start", || spool.join("done/night.ndjson").exists());
    assert_eq!(service.get("/api/v1/datasets/main/latest").ok()["total"], 1);
}

#[test]
fn sources_in_a_folder_of_definitions_are_compared_and_applied() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let (definitions, spool) = (folder.path().join("definitions"), folder.path().join("spool"));
    fs::create_dir_all(definitions.join("sources")).unwrap();
    fs::create_dir(&spool).unwrap();
    let keepers = definitions.join("sources/keepers.toml");
    let text = format!("kind = \"folder\"\npath = \"{}\"\n", spool.display());
    fs::write(&keepers, &text).unwrap();
    let path = definitions.display().to_string();
    let apply = |more: &[&str]| service.run(&[&["apply", &path], more].concat());
    let first = [apply(&["--dry-run"]), apply(&["--yes"]), apply(&["--yes"]), service.run(&["source", "add", &keepers.display().to_string()])];
    fs::write(&keepers, format!("{text}every = \"1m\"\n")).unwrap();
    let second = [apply(&["--dry-run"]), apply(&["--yes"]), service.run(&["source", "pause", "keepers"]), apply(&["--dry-run"])];
    fs::write(&keepers, format!("{text}evry = \"1m\"\n")).unwrap();
    let third = [apply(&["--yes"])];
    let all: String = first.iter().chain(&second).chain(&third).map(|ran| format!("{}exit code {}\n", ran.all(), ran.code())).collect();
    let all = all.replace(&folder.path().display().to_string(), "DIR");
    settled(|| insta::assert_snapshot!("sources_are_applied", all));
    let changes = service.run(&["changes", "--what", "source", "-o", "csv"]).out();
    assert_eq!(changes.matches("source defined").count(), 2, "what changes nothing is not recorded: {changes}");
}

#[test]
fn every_example_of_the_docs_is_valid() {
    let docs = fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/sources.md")).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let mut found = 0;
    for block in docs.split("```toml\n").skip(1).map(|rest| rest.split("```").next().unwrap()).filter(|block| block.starts_with("kind")) {
        let ran = run(&["source", "check", &file(folder.path(), "example.toml", block)]);
        assert_eq!(ran.code(), 0, "{}", ran.all());
        found += 1;
    }
    assert_eq!(found, 9);
    // Those that the command line prints need no service.
    for kind in ["poll", "mqtt", "modbus", "opcua", "sql", "folder"] {
        let example = file(folder.path(), "example.toml", run(&["source", "example", kind]).out());
        assert_eq!(run(&["source", "check", &example]).out(), format!("{example} is valid: kind {kind}, into main\n"));
    }
    assert!(run(&["source", "example", "pump"]).err().contains("unknown kind `pump`: use one of `poll`, `mqtt`"));
}

#[test]
fn a_series_that_falls_silent_is_seen_also_after_a_restart() {
    let folder = tempfile::tempdir().unwrap();
    let (store, spool) = (folder.path().join("store"), folder.path().join("spool"));
    fs::create_dir(&spool).unwrap();
    let text = format!("kind = \"folder\"\npath = \"{}\"\nevery = \"200ms\"\nstale_after = \"1s\"\nclock_off_after = \"1h\"\n", spool.display());
    let keepers = file(folder.path(), "keepers.toml", &text);
    let service = Service::start(&store);
    let points = "{\"metric\": \"level\", \"tags\": {\"lock\": \"osier\"}, \"time\": \"2026-05-01T09:00:00Z\", \"value\": 1}\n";
    fs::write(spool.join("night.ndjson"), points).unwrap();
    assert_eq!(service.run(&["source", "add", &keepers]).code(), 0);
    let troubled = |service: &Service| service.get("/api/v1/sources/keepers").ok()["series"]["troubled"][0]["trouble"].clone();
    // Its time is months ago; a second later it is silent, too.
    until("the clock is off", || troubled(&service) == "clock_off");
    until("the series is stale", || troubled(&service) == "stale");
    let listed = service.run(&["source", "list"]).out();
    assert!(listed.contains(", 1 series stale"), "{listed}");
    let shown = service.run(&["source", "show", "keepers"]).out();
    assert!(shown.contains("1 watched") && shown.contains("level lock=osier: no point since"), "{shown}");
    assert_eq!(service.stop("-TERM"), Some(0));
    let service = Service::start(&store);
    assert_eq!(troubled(&service), serde_json::Value::Null, "its time begins again");
    until("the series is stale again", || troubled(&service) == "stale");
    let series = service.run(&["series"]).out();
    assert!(series.contains("trouble") && series.contains("stale since"), "{series}");
    assert_eq!(service.run(&["source", "pause", "keepers"]).code(), 0);
    assert_eq!(troubled(&service), serde_json::Value::Null, "a paused source owes nothing");
    assert!(!service.run(&["series"]).out().contains("trouble"));
    let wrong = file(folder.path(), "wrong.toml", text.replace("1s", "10ms"));
    assert!(run(&["source", "check", &wrong]).err().contains("stale_after: use 1s or more"));
}

#[test]
fn the_service_stores_its_own_metrics() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store").display().to_string();
    let service = Service::start_with(&["serve", "--listen", "127.0.0.1:0", "--store", &store, "--own", "1s"]);
    service.push_lines("main", "{\"metric\": \"level\", \"value\": 1}\n");
    let latest = || service.run(&["latest", "--dataset", "own", "-o", "csv"]).out();
    let wanted = [
        "points_accepted,dataset=main source=push,1,",
        "commit_seconds,,",
        "query_seconds,kind=quick,",
        "queue_length,queue=pushes,0,",
        "memory_bytes,,",
    ];
    until("the metrics are stored", || wanted.iter().all(|wanted| latest().contains(wanted)));
    let shown = "show rate of points_accepted by source over last 1h per 1m";
    let answer = service.run(&["ask", "--dataset", "own", shown, "-o", "csv"]);
    assert!(answer.code() == 0 && answer.out().contains("push"), "{}", answer.all());
    let kept = service.get("/api/v1/retention?dataset=own").ok();
    assert!(kept.to_string().contains("\"30d\""), "{kept}");
    // Others see the same under names that begin with that of the service.
    let exposed = service.get("/metrics").text();
    assert!(exposed.contains("fenetre_points_accepted_total{dataset=\"main\",source=\"push\"} 1\n"), "{exposed}");
    // What the service stores itself is no arrival.
    let arrivals = service.get("/api/v1/overview").ok()["arrivals"].clone();
    assert!(arrivals.as_array().unwrap().iter().map(|step| step["accepted"].as_u64().unwrap()).sum::<u64>() < 2, "{arrivals}");
    let metrics = service.get("/api/v1/datasets/own/metrics").ok();
    assert!(!metrics.to_string().contains("\"unreviewed\":true"), "nobody needs to review them: {metrics}");
    let callers = service.run(&["source", "callers", "-o", "csv"]).out();
    assert!(callers.contains("this machine,push,main,") && callers.trim_end().ends_with(",1,0"), "{callers}");
    let reserved = file(folder.path(), "push.toml", "kind = \"folder\"\npath = \"/spool\"\n");
    assert!(service.run(&["source", "add", &reserved]).err().contains("the name `push` is reserved for points from other senders"));
    let wrong = run(&["serve", "--store", &store, "--own", "1ms"]);
    assert!(
        wrong.code() == 2 && wrong.err().contains("`1ms` is not an interval for the metrics of the service: use 1s to 1h, or none"),
        "{}",
        wrong.all()
    );
}

#[test]
fn a_secret_of_the_store_is_set_used_and_never_shown() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let set = |name: &str, value: &str| service.run_with_input(&["secret", "set", name], value.as_bytes());
    let text = "kind = \"poll\"\nevery = \"200ms\"\nbearer = { kept = \"control\" }\n";
    let source = file(folder.path(), "control.toml", format!("{text}targets = [{{ url = \"{}/metrics\" }}]\n", service.url));
    let steps = [
        service.run(&["secret"]),
        service.run(&["source", "try", &source]),
        set("control", "two\nlines\n"),
        set("Control", "river"),
        set("control", "river\n"),
        set("control", "stream"),
        service.run(&["source", "add", &source]),
        service.run(&["secret", "remove", "control"]),
        service.run(&["secret", "remove", "contrl"]),
    ];
    let all = steps.iter().map(Ran::all).collect::<String>();
    settled(|| insta::assert_snapshot!("a_secret_is_set", all));
    // The service does not know that token, so it was sent.
    until("the source sends it", || service.get("/api/v1/sources/control").ok()["error"].to_string().contains("401"));
    let listed = service.run(&["secret", "list", "-o", "csv"]).out();
    assert!(listed.starts_with("secret,set,used by\ncontrol,20") && listed.trim_end().ends_with(",control"), "{listed}");
    let changes = service.run(&["changes", "--what", "secret", "-o", "json"]).out();
    assert!(changes.contains("\"control\"") && !changes.contains("river") && !changes.contains("stream"), "{changes}");
    assert_eq!(service.run(&["source", "remove", "control"]).code(), 0);
    // A backup leaves secrets out unless they are asked for.
    let path = |name: &str| folder.path().join(name).display().to_string();
    assert_eq!(service.run(&["backup", &path("without")]).code(), 0);
    assert_eq!(service.run(&["backup", &path("with"), "--with-secrets"]).code(), 0);
    assert_eq!([path("without"), path("with")].map(|backup| fs::exists(format!("{backup}/secrets.db")).unwrap()), [false, true]);
    assert_eq!(run(&["restore", &path("with"), &path("again")]).code(), 0);
    let again = Service::start(&folder.path().join("again"));
    assert!(again.run(&["secret", "list", "-o", "csv"]).out().contains("\ncontrol,20"));
    assert_eq!(again.run(&["secret", "remove", "control"]).out(), "secret control is removed\n");
}
