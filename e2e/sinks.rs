//! Sinks: defined, tried, watched and compared with the command line; and two services, one of which forwards to the other while both are killed.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use std::{
    fs,
    path::Path,
    sync::atomic::{AtomicBool, AtomicU64, Ordering},
    thread,
    time::{Duration, Instant},
};

use serde_json::Value;
use support::{Api, Ran, Service, agent, file, run, settled};

fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !is_so() {
        assert!(begun.elapsed() < Duration::from_secs(90), "{what}");
        thread::sleep(Duration::from_millis(50));
    }
}

/// Starts a service at an address that another one had.
fn at(address: &str, store: &Path) -> Service {
    Service::start_with(&["serve", "--listen", address, "--store", &store.display().to_string()])
}

fn points(service: &Service, query: &str) -> Value {
    let answer = service.get(&format!("/api/v1/datasets/velmar/ask?query={}", query.replace(' ', "%20").replace('"', "%22").replace('=', "%3D")));
    let mut shows = answer.ok()["shows"].take();
    // The same points in the same order; the tag of the sink is only there.
    for line in shows[0]["lines"].as_array_mut().unwrap() {
        line["tags"].as_object_mut().unwrap().remove("origin");
    }
    shows
}

const ALL: &str = "show points of level over 2026-05-01 to 2026-06-01";

/// Pushes points until the test is over; counts those that were acknowledged. Each batch has late points too.
fn write(address: &str, acknowledged: &AtomicU64, is_over: &AtomicBool) {
    let agent = agent();
    while !is_over.load(Ordering::SeqCst) {
        let first = acknowledged.load(Ordering::SeqCst);
        let line = |n: u64| {
            // Every tenth point is an hour late.
            let second = n + if n.is_multiple_of(10) { 0 } else { 3_600 };
            let time = format!("2026-05-{:02}T{:02}:{:02}:{:02}Z", 1 + second / 86_400, second / 3_600 % 24, second / 60 % 60, second % 60);
            format!("{{\"metric\": \"level\", \"tags\": {{\"lock\": \"lock-{}\"}}, \"time\": \"{time}\", \"value\": {n}}}\n", n % 3)
        };
        let body: String = (first..first + 50).map(line).collect();
        let sent = agent.post(format!("http://{address}/api/v1/datasets/velmar/points")).content_type("application/x-ndjson").send(body);
        match sent {
            Ok(answer) if answer.status() == 200 => drop(acknowledged.fetch_add(50, Ordering::SeqCst)),
            _ => thread::sleep(Duration::from_millis(20)),
        }
    }
}

#[test]
fn forwarding_survives_kills_of_both_sides() {
    let folder = tempfile::tempdir().unwrap();
    let (here, there) = (folder.path().join("edge"), folder.path().join("central"));
    let (edge, central) = (Service::start(&here), Service::start(&there));
    let [near, far] = [&edge, &central].map(|service| service.url.strip_prefix("http://").unwrap().to_owned());
    for service in [&edge, &central] {
        assert_eq!(service.run(&["datasets", "define", "velmar"]).code(), 0);
    }
    let token = central.run(&["token", "create", "north", "--grant", "write:velmar", "--grant", "define:velmar"]).out();
    let secret = token.split_whitespace().find(|word| word.starts_with("fenetre_")).unwrap_or_else(|| panic!("{token}")).to_owned();
    assert_eq!(edge.run_with_input(&["secret", "set", "central"], secret.as_bytes()).code(), 0);
    let text = format!(
        "kind = \"forward\"\nurl = \"{}\"\ntoken = {{ kept = \"central\" }}\ndataset = \"velmar\"\ntags = {{ origin = \"north\" }}\nbatch_after = \"50ms\"\nbatch_points = 500\n",
        central.url
    );
    let sink = file(folder.path(), "central.toml", text);
    let added = edge.run(&["sink", "add", &sink]);
    assert_eq!(added.out(), "sink central is added: `fenetre sink list` shows it\n");
    let (acknowledged, is_over) = (AtomicU64::new(0), AtomicBool::new(false));
    let (mut edge, mut central) = (Some(edge), Some(central));
    thread::scope(|scope| {
        scope.spawn(|| write(&near, &acknowledged, &is_over));
        for round in 0..6 {
            thread::sleep(Duration::from_millis(700));
            if round % 2 == 0 {
                central.take().unwrap().kill();
                thread::sleep(Duration::from_millis(500));
                central = Some(at(&far, &there));
            } else {
                edge.take().unwrap().kill();
                edge = Some(at(&near, &here));
            }
        }
        is_over.store(true, Ordering::SeqCst);
    });
    let (edge, central) = (edge.unwrap(), central.unwrap());
    assert!(acknowledged.load(Ordering::SeqCst) > 0);
    until("everything has arrived", || {
        let sink = edge.get("/api/v1/sinks/central").ok();
        // The next attempt may be a minute away.
        assert_eq!(edge.run(&["sink", "resend", "central"]).code(), 0);
        sink["state"] == "healthy" && sink["behind"]["points"] == 0
    });
    let (one, other) = (points(&edge, ALL), points(&central, ALL));
    let count: usize = one[0]["lines"].as_array().unwrap().iter().map(|line| line["values"].as_array().unwrap().len()).sum();
    assert!(count as u64 >= acknowledged.load(Ordering::SeqCst));
    assert_eq!(one, other);
    let asked = central.get("/api/v1/datasets/velmar/ask?query=show%20count%20of%20level%20by%20origin%20over%202026-05-01%20to%202026-06-01").ok();
    assert_eq!(asked["shows"][0]["lines"][0]["tags"]["origin"], "north");
    // A token that may only write is not enough to compare.
    let verify = |edge: &Service| edge.run(&["sink", "verify", "central", "--over", "2026-05-01 to 2026-05-02"]);
    let same = verify(&edge);
    assert_eq!(same.code(), 0, "{}", same.all());
    assert!(same.err().contains("the destination of sink central has the same:"), "{}", same.all());
    let deleted =
        central.run(&["points", "delete", "level", "--dataset", "velmar", "--from", "2026-05-01T01:00:00Z", "--to", "2026-05-01T01:00:10Z", "--yes"]);
    assert_eq!(deleted.code(), 0, "{}", deleted.all());
    let differs = verify(&edge);
    assert_eq!(differs.code(), 1, "{}", differs.all());
    assert!(differs.out().contains("2026-05-01 01:00") && differs.err().contains("1 window of sink central differs"), "{}", differs.all());
    let replayed = edge.run(&["sink", "replay", "central", "--over", "2026-05-01T01:00 to 2026-05-01T01:01"]);
    assert_eq!(replayed.code(), 0, "{}", replayed.all());
    until("the points are back", || verify(&edge).code() == 0);
}

#[test]
fn a_central_service_gets_minutes_and_late_points_change_them() {
    let folder = tempfile::tempdir().unwrap();
    let (edge, central) = (Service::start(&folder.path().join("edge")), Service::start(&folder.path().join("central")));
    for service in [&edge, &central] {
        assert_eq!(service.run(&["datasets", "define", "velmar"]).code(), 0);
    }
    let push = |lines: &str| {
        let answer = edge.post("/api/v1/datasets/velmar/points?time=time&tag=lock&value=level", &[("Content-Type", "text/csv")], lines.as_bytes());
        assert_eq!(answer.ok()["rejected"], 0);
    };
    push("time,lock,level\n2026-05-01T06:00:10Z,osier,2\n2026-05-01T06:00:20Z,osier,4\n2026-05-01T06:01:30Z,osier,5\n2026-05-01T06:01:40Z,marl,7\n");
    let text = format!(
        "kind = \"forward\"\nurl = \"{}\"\ndataset = \"velmar\"\ntags = {{ origin = \"north\" }}\nhistory = true\nbatch_after = \"50ms\"\n\
         query = \"show mean of level by lock show max of level overall as \\\"highest\\\" per 1m\"\n",
        central.url
    );
    let sink = file(folder.path(), "minutes.toml", text);
    let tried = edge.run(&["sink", "try", &sink]);
    assert!(
        tried.out().contains("\"metric\":\"highest\",\"tags\":{\"origin\":\"north\"},\"time\":\"2026-05-01T06:01:00Z\",\"value\":7"),
        "{}",
        tried.all()
    );
    assert_eq!(edge.run(&["sink", "add", &sink]).code(), 0);
    let shown = |metric: &str| {
        let ran = central.run(&["ask", "--dataset", "velmar", &format!("show points of {metric} over 2026-05-01 to 2026-05-02"), "-o", "csv"]);
        ran.out().lines().skip(1).map(str::to_owned).collect::<Vec<_>>()
    };
    until("the minutes are there", || shown("level").len() == 3 && shown("highest").len() == 2);
    assert!(
        shown("level").iter().any(|line| line.contains("osier") && line.contains("2026-05-01T06:00:00Z") && line.contains(",3,")),
        "{:?}",
        shown("level")
    );
    push("time,lock,level\n2026-05-01T06:00:50Z,osier,9\n");
    until("a late point changes its minute", || shown("level").iter().any(|line| line.contains("2026-05-01T06:00:00Z") && line.contains(",5,")));
    // The definition of the metric at the central service names the query.
    let metrics = central.get("/api/v1/datasets/velmar/metrics").ok();
    let level = metrics.as_array().unwrap().iter().find(|metric| metric["name"] == "level").unwrap();
    assert_eq!(level["description"], "mean of level by lock per 1m");
    let verified = edge.run(&["sink", "verify", "minutes"]);
    assert!(verified.err().contains("sends the windows of a query, which are not compared"), "{}", verified.all());
}

#[test]
fn a_sink_is_checked_tried_added_and_controlled() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let path = |name: &str| folder.path().join(name).display().to_string();
    let hide = |ran: &Ran| ran.all().replace(&folder.path().display().to_string(), "FOLDER").replace(&service.url, "URL");
    let point = "{\"metric\": \"level\", \"tags\": {\"lock\": \"osier\"}, \"time\": \"2026-05-01T09:00:00Z\", \"value\": 3.5}\n";
    let pushed = agent().post(format!("{}/api/v1/datasets/main/points", service.url)).content_type("application/x-ndjson").send(point).unwrap();
    assert_eq!(pushed.status(), 200);
    let sink = file(
        folder.path(),
        "files.toml",
        format!("kind = \"files\"\npath = \"{}\"\nformat = \"csv\"\nbatch_after = \"50ms\"\nhistory = true\n", path("out")),
    );
    let wrong = file(folder.path(), "wrong.toml", "kind = \"file\"\n");
    let steps = [
        service.run(&["sink"]),
        service.run(&["sink", "check", &wrong]),
        service.run(&["sink", "check", &sink]),
        service.run(&["sink", "try", &sink]),
        service.run(&["sink", "add", &sink]),
        service.run(&["sink", "add", &sink]),
        service.run(&["sink", "verify", "files"]),
        service.run(&["sink", "replay", "files", "--over", "lately"]),
        service.run(&["sink", "show", "fils"]),
        service.run(&["sink", "aside", "files"]),
        service.run(&["sink", "aside", "files", "7"]),
        service.run(&["sink", "pause", "files"]),
        service.run(&["sink", "resume", "files"]),
        service.run(&["sink", "example", "forwards"]),
    ];
    let all = steps.iter().map(hide).collect::<String>();
    settled(|| insta::assert_snapshot!("a_sink_is_added", all));
    until("the file is there", || fs::exists(path("out/main/2026-05-01")).unwrap());
    let name = fs::read_dir(path("out/main/2026-05-01")).unwrap().next().unwrap().unwrap().path();
    assert_eq!(fs::read_to_string(name).unwrap(), "time,metric,lock,value,unit\n2026-05-01T09:00:00Z,level,osier,3.5,\n");
    let example = service.run(&["sink", "example", "forward"]);
    assert!(example.out().starts_with("kind = \"forward\"\n"));
    let listed = service.run(&["sink", "list", "-o", "csv"]).out();
    assert!(listed.lines().nth(1).unwrap().starts_with("files,files,main,"), "{listed}");
    // Definitions in a folder: the difference is shown first.
    fs::create_dir_all(path("world/sinks")).unwrap();
    fs::copy(&sink, path("world/sinks/files.toml")).unwrap();
    assert_eq!(service.run(&["apply", &path("world"), "--yes"]).out(), "the store already matches the folder\n");
    file(folder.path(), "world/sinks/more.toml", format!("kind = \"files\"\npath = \"{}\"\n", path("more")));
    assert_eq!(service.run(&["apply", &path("world"), "--dry-run"]).out(), "+ sink more\n");
    assert!(service.run(&["apply", &path("world"), "--yes"]).out().ends_with("applied\n"));
    assert_eq!(service.run(&["sink", "remove", "more"]).out(), "sink more is removed; the points that it has sent stay\n");
    let changes = service.run(&["changes", "--what", "sink", "-o", "json"]).out();
    assert!(changes.contains("\"more\"") && changes.contains("\"suspended\""), "{changes}");
}

#[test]
fn every_example_of_the_docs_is_valid() {
    let docs = fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/sinks.md")).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let examples = docs.split("```toml\n").skip(1).map(|rest| rest.split("```").next().unwrap()).filter(|block| block.starts_with("kind"));
    let checked = examples
        .map(|block| run(&["sink", "check", &file(folder.path(), "example.toml", block)]))
        .inspect(|ran| assert_eq!(ran.code(), 0, "{}", ran.all()));
    assert_eq!(checked.count(), 7);
    for kind in ["forward", "http", "files", "sql", "mqtt"] {
        let example = file(folder.path(), "example.toml", run(&["sink", "example", kind]).out());
        assert!(run(&["sink", "check", &example]).out().starts_with(&format!("{example} is valid: kind {kind}, from velmar to ")));
    }
}

#[test]
fn a_destination_that_freezes_delays_only_its_own_sink() {
    let folder = tempfile::tempdir().unwrap();
    let (edge, central) = (Service::start(&folder.path().join("edge")), Service::start(&folder.path().join("central")));
    for service in [&edge, &central] {
        assert_eq!(service.run(&["datasets", "define", "velmar"]).code(), 0);
    }
    let push = |second: usize| {
        let body = format!("time,lock,level\n2026-05-01T06:00:{second:02}Z,osier,{second}\n");
        edge.post("/api/v1/datasets/velmar/points?time=time&tag=lock&value=level", &[("Content-Type", "text/csv")], body.as_bytes()).ok();
    };
    let common = "dataset = \"velmar\"\nbatch_after = \"50ms\"\n";
    let slow = format!("kind = \"forward\"\nurl = \"{}\"\ntimeout = \"1s\"\ntags = {{ origin = \"north\" }}\n{common}", central.url);
    let sent = folder.path().join("sent");
    let quick = format!("kind = \"files\"\npath = \"{}\"\nformat = \"csv\"\nname = \"{{part}}\"\n{common}", sent.display());
    for (name, text) in [("slow", slow), ("quick", quick)] {
        let added = edge.run(&["sink", "add", &file(folder.path(), &format!("{name}.toml"), text)]);
        assert_eq!(added.code(), 0, "{}", added.all());
    }
    push(0);
    let of_sink = |name: &str, key: &str| edge.get(&format!("/api/v1/sinks/{name}")).ok()[key].clone();
    until("the first point is there", || of_sink("slow", "points") == 1 && of_sink("quick", "points") == 1);
    let signal = |name: &str| assert!(std::process::Command::new("kill").args([name, &central.pid().to_string()]).status().unwrap().success());
    // As if the network were cut: connections stay open, and nothing answers.
    signal("-STOP");
    (1..30).for_each(push);
    until("silence is an error", || of_sink("slow", "error").as_str().is_some_and(|error| error.contains("did not answer within `timeout`")));
    until("the other sink has sent all", || of_sink("quick", "points") == 30);
    signal("-CONT");
    until("it has caught up", || of_sink("slow", "state") == "healthy" && of_sink("slow", "behind")["points"] == 0);
    assert_eq!(points(&edge, ALL), points(&central, ALL));
}
