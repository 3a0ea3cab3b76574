//! Sources against peers that behave, and peers that do not.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::{
    fs,
    io::{BufRead, BufReader, Write},
    net::{TcpListener, TcpStream},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    thread,
    time::{Duration, Instant},
};

use fenetre_core::{model::DatasetDefinition, time::Nanos};
use fenetre_flows::{
    arrivals::{Arrivals, tail::Tail},
    definition::Definition,
    intake::Intake,
    supervisor::{Sources, is_late},
};
use fenetre_store::{Options, Store};
use fenetre_wire::{flows::FlowDifference, sources::SourceState};
use tempfile::TempDir;

const DAY: Nanos = 86_400_000_000_000;

fn now() -> Nanos {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_nanos() as Nanos
}

/// A store with the dataset `velmar`, and its sources.
fn sources() -> (TempDir, Arc<Intake>, Sources) {
    let folder = tempfile::tempdir().unwrap();
    let (intake, sources) = opened(&folder);
    intake.store.definitions().put_dataset("velmar", &DatasetDefinition::default()).unwrap();
    (folder, intake, sources)
}

fn opened(folder: &TempDir) -> (Arc<Intake>, Sources) {
    let store = Arc::new(Store::open(&folder.path().join("store"), Options::default()).unwrap());
    let intake = Arc::new(Intake { store, arrivals: Arrivals::default(), tail: Tail::default(), max_future: DAY });
    (Arc::clone(&intake), Sources::new(intake, now))
}

fn definition(text: &str) -> Definition {
    Definition::parse(text, "source.toml").unwrap()
}

/// Points in a dataset.
fn points(intake: &Intake, dataset: &str) -> u64 {
    let id = intake.store.with_catalogue(|catalogue| catalogue.dataset(dataset).unwrap().id);
    intake.store.inspect().counts(id).unwrap().values().map(|count| count.points).sum()
}

fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !is_so() {
        assert!(begun.elapsed() < Duration::from_secs(20), "{what}");
        thread::sleep(Duration::from_millis(20));
    }
}

/// A peer over HTTP that answers each path in its own way.
struct Peer {
    url: String,
    is_over: Arc<AtomicBool>,
}

const EXPOSED: &str = "# TYPE boats counter\nboats_total{lock=\"osier\"} 17\n# TYPE level gauge\nlevel{lock=\"osier\"} 312.5\n";

impl Peer {
    fn start() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let (url, is_over) = (format!("http://{}", listener.local_addr().unwrap()), Arc::new(AtomicBool::new(false)));
        let over = Arc::clone(&is_over);
        thread::spawn(move || {
            for stream in listener.incoming() {
                let over = Arc::clone(&over);
                // A caller that leaves is no fault of the peer.
                thread::spawn(move || drop(answer(stream.unwrap(), &over)));
            }
        });
        Self { url, is_over }
    }
}

impl Drop for Peer {
    fn drop(&mut self) {
        self.is_over.store(true, Ordering::SeqCst);
    }
}

fn answer(mut stream: TcpStream, is_over: &AtomicBool) -> std::io::Result<()> {
    let mut reader = BufReader::new(stream.try_clone()?);
    let (mut first, mut line, mut sent) = (String::new(), String::new(), String::new());
    reader.read_line(&mut first)?;
    while reader.read_line(&mut line)? > 2 {
        sent.push_str(&std::mem::take(&mut line).to_ascii_lowercase());
    }
    let sends = |header: &str| sent.lines().any(|line| line.trim() == header);
    let path = first.split([' ', '?']).nth(1).unwrap_or_default();
    let mut send = |status: &str, kind: &str, body: &str| {
        write!(stream, "HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}", body.len())
    };
    match path {
        "/metrics" => send("200 OK", "application/openmetrics-text; version=1.0.0", &format!("{EXPOSED}# EOF\n")),
        "/plain" => send("200 OK", "text/plain; version=0.0.4", EXPOSED),
        "/json" => send(
            "200 OK",
            "application/json",
            r#"[{"metric": "flow", "tags": {"lock": "osier", "host": "own"}, "value": 4.5}, {"metric": "flow", "value": "x y"}]"#,
        ),
        "/secret" if sends("authorization: bearer river") => send("200 OK", "application/json", r#"{"metric": "flow", "value": 1}"#),
        "/named" if sends("authorization: basic y2xlcms6cml2zxi=") => send("200 OK", "application/json", r#"{"metric": "flow", "value": 2}"#),
        "/tagged" if sends("if-none-match: \"one\"") => write!(stream, "HTTP/1.1 304 Not Modified\r\nConnection: close\r\n\r\n"),
        "/tagged" => {
            let body = r#"{"metric": "gates", "value": 3}"#;
            let headers = "Content-Type: application/json\r\nETag: \"one\"\r\nConnection: close";
            write!(stream, "HTTP/1.1 200 OK\r\n{headers}\r\nContent-Length: {}\r\n\r\n{body}", body.len())
        }
        "/secret" | "/named" => send("401 Unauthorized", "text/plain", ""),
        "/broken" => send("500 Internal Server Error", "text/plain", "no"),
        "/page" => send("200 OK", "text/html", "<html>"),
        "/round" => write!(stream, "HTTP/1.1 302 Found\r\nLocation: /round\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"),
        "/garbage" => stream.write_all(b"\x00\x01 this is no HTTP\r\n\r\n"),
        "/endless" => {
            write!(stream, "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nConnection: close\r\n\r\n")?;
            while !is_over.load(Ordering::SeqCst) {
                stream.write_all(&[b' '; 65_536])?;
            }
            Ok(())
        }
        "/trickle" => {
            write!(stream, "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: 100000\r\n\r\n")?;
            while !is_over.load(Ordering::SeqCst) {
                stream.write_all(b" ")?;
                thread::sleep(Duration::from_millis(100));
            }
            Ok(())
        }
        _ => send("404 Not Found", "text/plain", ""),
    }
}

#[test]
fn polled_targets_bring_points_with_their_tags() {
    let (_folder, intake, sources) = sources();
    let peer = Peer::start();
    let text = format!(
        "kind = \"poll\"\ndataset = \"velmar\"\nevery = \"100ms\"\nlenient = true\ntargets = [\n  {{ url = \"{0}/metrics\", tags = {{ host = \"a\" }} }},\n  {{ url = \"{0}/plain\", tags = {{ host = \"b\" }} }},\n  {{ url = \"{0}/json\", tags = {{ host = \"c\" }} }},\n]\n[tags]\norigin = \"poll\"\n",
        peer.url
    );
    assert_eq!(sources.put("control", definition(&text)).unwrap(), FlowDifference::New);
    until("points arrive round after round", || points(&intake, "velmar") >= 15);
    let status = sources.status("control").unwrap();
    assert!(matches!(status.state, SourceState::Running | SourceState::Waiting), "{status:?}");
    assert!(status.figures.rejects.count() >= 3 && status.figures.rejects.sample().unwrap().contains("is a text"), "{:?}", status.figures);
    let tags: Vec<String> = intake.store.with_catalogue(|catalogue| {
        let dataset = catalogue.dataset("velmar").unwrap();
        let text = |series: &fenetre_core::catalogue::Series| {
            let tags: Vec<String> = series.tags.iter().map(|(key, value)| format!("{key}={value}")).collect();
            format!("{} {}", series.metric, tags.join(" "))
        };
        dataset.all_series().map(text).collect()
    });
    for wanted in ["level host=a lock=osier origin=poll", "boats host=b lock=osier origin=poll", "flow host=own lock=osier origin=poll"] {
        assert!(tags.contains(&wanted.to_owned()), "{wanted} is not in {tags:?}");
    }
    assert!(!is_late(&status, now()) && is_late(&status, now() + DAY), "a poll without points is late");
    // The same definition again leaves it alone: its figures go on.
    let rounds = sources.status("control").unwrap().figures.rounds;
    assert_eq!(sources.put("control", definition(&text)).unwrap(), FlowDifference::None);
    assert!(sources.status("control").unwrap().figures.rounds >= rounds && rounds > 0);
    // A paused source does not poll, a resumed one continues, and the points of a removed one stay.
    sources.set_paused("control", true).unwrap();
    assert_eq!(sources.status("control").unwrap().state, SourceState::Paused);
    let stored = points(&intake, "velmar");
    thread::sleep(Duration::from_millis(300));
    assert_eq!(points(&intake, "velmar"), stored);
    assert_eq!(sources.run_now("control").unwrap_err().to_string(), "the source `control` is paused: resume it first");
    sources.set_paused("control", false).unwrap();
    until("it goes on", || points(&intake, "velmar") > stored);
    let log: Vec<String> = sources.events("control", 100).unwrap().into_iter().map(|event| event.text).collect();
    assert!(log.contains(&"paused".to_owned()) && log.iter().filter(|text| *text == "started").count() == 2, "the log goes on: {log:?}");
    sources.remove("control").unwrap();
    assert!(points(&intake, "velmar") > stored && sources.all().is_empty());
}

#[test]
fn a_peer_that_misbehaves_is_reported_and_harms_nobody() {
    let (_folder, intake, sources) = sources();
    let peer = Peer::start();
    let closed = format!("http://{}", TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap());
    let paths = ["secret", "broken", "page", "round", "garbage", "endless", "trickle", "nowhere", "plain", "metrics"];
    let mut targets: Vec<String> = paths.iter().map(|path| format!("{{ url = \"{}/{path}\" }}", peer.url)).collect();
    targets.push(format!("{{ url = \"{closed}/\" }}"));
    let text = format!("kind = \"poll\"\ndataset = \"velmar\"\ntimeout = \"1s\"\nmax_bytes = 100000\ntargets = [{}]\n", targets.join(", "));
    let begun = Instant::now();
    let (outcome, events) = sources.attempt(&definition(&text), 5).unwrap();
    assert!(begun.elapsed() < Duration::from_secs(5), "one slow target does not delay the others: {:?}", begun.elapsed());
    let mut errors: Vec<String> = outcome.parts.iter().filter_map(|part| part.error.clone()).collect();
    errors.iter_mut().for_each(|error| *error = error.replace(&peer.url, "PEER").replace(&closed, "CLOSED"));
    errors.sort();
    insta::assert_snapshot!(errors.join("\n"));
    // Only the points of the valid target are shown, and nothing is stored.
    assert_eq!((outcome.points, outcome.sample.len(), points(&intake, "velmar"), events.len()), (2, 2, 0, 10));
}

#[test]
fn a_secret_is_read_at_each_round_and_never_shown() {
    let (folder, intake, sources) = sources();
    let peer = Peer::start();
    let file = folder.path().join("token");
    let text = format!(
        "kind = \"poll\"\ndataset = \"velmar\"\nevery = \"100ms\"\ntargets = [{{ url = \"{}/secret\" }}]\nbearer = {{ file = \"{}\" }}\n",
        peer.url,
        file.display()
    );
    sources.put("guarded", definition(&text)).unwrap();
    until("the secret is missing", || sources.status("guarded").unwrap().state == SourceState::Failing);
    let failing = sources.status("guarded").unwrap().figures.failing.unwrap().0;
    assert!(failing.starts_with("cannot read the secret in"), "{failing}");
    fs::write(&file, "river\n").unwrap();
    until("the secret is read", || points(&intake, "velmar") > 0);
    let shown = format!("{:?} {:?}", sources.status("guarded").unwrap(), sources.events("guarded", 100).unwrap());
    assert!(!shown.contains("river") && shown.contains("works again"), "{shown}");
}

#[test]
fn targets_come_from_a_file_that_may_change_and_are_asked_with_a_name() {
    let (folder, intake, sources) = sources();
    let peer = Peer::start();
    let (list, password) = (folder.path().join("targets.toml"), folder.path().join("password"));
    fs::write(&password, "river").unwrap();
    let write = |paths: &[&str]| {
        let targets: Vec<String> = paths.iter().map(|path| format!("{{ url = \"{}/{path}\", tags = {{ host = \"{path}\" }} }}", peer.url)).collect();
        // The file is replaced as a whole, as an editor does.
        fs::write(list.with_extension("new"), format!("targets = [{}]\n", targets.join(", "))).unwrap();
        fs::rename(list.with_extension("new"), &list).unwrap();
    };
    write(&["named", "named"]);
    let text = format!(
        "kind = \"poll\"\ndataset = \"velmar\"\nevery = \"100ms\"\ntargets_file = \"{}\"\nbasic = {{ user = \"clerk\", password = {{ file = \"{}\" }} }}\n",
        list.display(),
        password.display()
    );
    sources.put("offices", definition(&text)).unwrap();
    let parts = || sources.status("offices").unwrap().figures.parts.len();
    until("the first target is asked, once", || points(&intake, "velmar") > 0 && parts() == 1);
    write(&["named", "metrics"]);
    until("the second target is asked", || parts() == 2);
    fs::write(&list, "targets = [{ url = \"river\" }]\n").unwrap();
    let failing = || sources.status("offices").unwrap().figures.failing;
    until("the file is wrong", || failing().is_some());
    let error = failing().unwrap().0.replace(&list.display().to_string(), "LIST");
    assert_eq!(error, "cannot read the targets in LIST: targets: `river` is not an address: write one that begins with http:// or https://");
    fs::write(&list, "targets = 3\n").unwrap();
    until("the file is no list", || failing().is_some_and(|(error, _)| error.contains("invalid type: integer `3`")));
    write(&["named"]);
    until("it works again", || failing().is_none());
}

#[test]
fn an_answer_that_has_not_changed_is_passed_over_if_that_is_asked_for() {
    let (_folder, intake, sources) = sources();
    let peer = Peer::start();
    let text = format!("kind = \"poll\"\ndataset = \"velmar\"\nevery = \"100ms\"\ntargets = [{{ url = \"{}/tagged\" }}]\n", peer.url);
    sources.put("gates", definition(&format!("conditional = true\n{text}"))).unwrap();
    until("there are some rounds", || sources.status("gates").unwrap().figures.rounds >= 5);
    let figures = sources.status("gates").unwrap().figures;
    assert_eq!((figures.points, figures.failing.is_none(), points(&intake, "velmar")), (1, true, 1));
    sources.put("gates", definition(&text)).unwrap();
    until("each answer is stored", || points(&intake, "velmar") >= 3);
}

#[test]
fn targets_that_do_not_answer_rest_and_hold_up_nobody() {
    let (_folder, intake, sources) = sources();
    let peer = Peer::start();
    let mut targets: Vec<String> = (0..40).map(|number| format!("{{ url = \"{}/trickle?{number}\" }}", peer.url)).collect();
    targets.push(format!("{{ url = \"{}/metrics\" }}", peer.url));
    let text = format!("kind = \"poll\"\ndataset = \"velmar\"\nevery = \"100ms\"\ntimeout = \"200ms\"\ntargets = [{}]\n", targets.join(", "));
    sources.put("slow", definition(&text)).unwrap();
    // A round that polls all targets takes 600 ms; most rounds poll only the one that answers.
    until("the one that answers is asked again and again", || points(&intake, "velmar") >= 40);
    let figures = sources.status("slow").unwrap().figures;
    let silent = figures.parts.iter().filter(|part| part.error.as_ref().is_some_and(|error| error.contains("within 200ms"))).count();
    assert_eq!((figures.parts.len(), silent, figures.failing.is_none()), (41, 40, true), "a target that rests is still shown as failing");
}

#[test]
fn sources_go_on_after_a_restart() {
    let (folder, intake, sources) = sources();
    let peer = Peer::start();
    let text = format!("kind = \"poll\"\ndataset = \"velmar\"\nevery = \"100ms\"\ntargets = [{{ url = \"{}/metrics\" }}]\n", peer.url);
    sources.put("control", definition(&text)).unwrap();
    sources.put("resting", definition(&format!("paused = true\n{text}"))).unwrap();
    until("points arrive", || points(&intake, "velmar") > 0);
    sources.end();
    let before = points(&intake, "velmar");
    drop((intake, sources));
    let (intake, sources) = opened(&folder);
    sources.start().unwrap();
    until("points arrive again", || points(&intake, "velmar") > before);
    assert_eq!(sources.status("resting").unwrap().state, SourceState::Paused);
    assert_eq!(sources.status("contrl").unwrap_err().to_string(), "there is no source `contrl`: did you mean `control`?");
    let unknown = definition(&text.replace("velmar", "nowhere"));
    assert!(sources.put("x", unknown).unwrap_err().to_string().contains("no dataset `nowhere`"));
    assert!(sources.put("No Name", definition(&text)).unwrap_err().to_string().contains("invalid source name"));
}

#[test]
fn files_are_read_once_they_are_at_rest_and_put_away() {
    let (folder, intake, sources) = sources();
    let spool = folder.path().join("spool");
    fs::create_dir(&spool).unwrap();
    let text = format!(
        "kind = \"folder\"\ndataset = \"velmar\"\nevery = \"100ms\"\npath = \"{}\"\npattern = \"*.csv\"\n[mapping]\ncolumns = [{{ column = \"lock\", role = \"tag\" }}, {{ column = \"level\", role = \"value\" }}]\n",
        spool.display()
    );
    sources.put("keepers", definition(&text)).unwrap();
    fs::write(spool.join("monday.csv"), "time,lock,level\n2026-05-01T09:00:00Z,osier,312.5\n2026-05-01T09:01:00Z,osier,313\n").unwrap();
    fs::write(spool.join("broken.csv"), "time,lock,level\nyesterday,osier,1\n").unwrap();
    fs::write(spool.join("notes.txt"), "not for us").unwrap();
    fs::write(spool.join(".partial.csv"), "time,lock").unwrap();
    until("both are put away", || spool.join("done/monday.csv").exists() && spool.join("failed/broken.csv").exists());
    assert_eq!(points(&intake, "velmar"), 2);
    assert!(!is_late(&sources.status("keepers").unwrap(), now() + DAY), "files come when somebody drops them");
    assert!(spool.join("notes.txt").exists() && spool.join(".partial.csv").exists());
    // One of the same name does not overwrite the first.
    fs::write(spool.join("monday.csv"), "time,lock,level\n2026-05-02T09:00:00Z,osier,300\n").unwrap();
    until("the second has a number", || spool.join("done/1-monday.csv").exists());
    assert_eq!(points(&intake, "velmar"), 3);
    let events: Vec<String> =
        sources.events("keepers", 100).unwrap().into_iter().map(|event| event.text.replace(&spool.display().to_string(), "SPOOL")).collect();
    assert!(events.iter().any(|event| event == "monday.csv: 2 points"), "{events:?}");
    assert!(events.iter().any(|event| event.contains("all 1 rows were rejected")), "{events:?}");
    fs::remove_dir_all(&spool).unwrap();
    until("the folder is missed", || sources.status("keepers").unwrap().state == SourceState::Failing);
}

#[test]
fn a_file_that_stays_is_read_once_also_over_a_restart() {
    let (folder, intake, sources) = sources();
    let spool = folder.path().join("spool");
    fs::create_dir(&spool).unwrap();
    fs::write(spool.join("a.ndjson"), "{\"metric\": \"level\", \"time\": \"2026-05-01T09:00:00Z\", \"value\": 1}\n").unwrap();
    let text = format!("kind = \"folder\"\ndataset = \"velmar\"\npath = \"{}\"\nafter = \"keep\"\nevery = \"100ms\"\n", spool.display());
    sources.put("keepers", definition(&text)).unwrap();
    until("the file is read", || sources.status("keepers").unwrap().figures.points == 1);
    sources.end();
    drop((sources, intake));
    let (_intake, sources) = opened(&folder);
    sources.start().unwrap();
    until("it looks again", || sources.status("keepers").unwrap().figures.rounds >= 3);
    assert_eq!(sources.status("keepers").unwrap().figures.points, 0, "the store remembers the file");
    // Its size differs, so it is another one.
    fs::write(spool.join("a.ndjson"), "{\"metric\": \"level\", \"time\": \"2026-05-01T09:00:00Z\", \"value\": 12}\n").unwrap();
    until("the changed file is read", || sources.status("keepers").unwrap().figures.points == 1);
    // A source of another folder starts over.
    sources.remove("keepers").unwrap();
    sources.put("keepers", definition(&text)).unwrap();
    until("after it was removed, it is read again", || sources.status("keepers").unwrap().figures.points == 1);
}

#[test]
fn a_source_that_waits_for_a_silent_peer_stops_at_once() {
    let (folder, _intake, sources) = sources();
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = silent.local_addr().unwrap().port();
    let password = folder.path().join("password");
    fs::write(&password, "river\n").unwrap();
    let rest = format!("user = \"clerk\"\npassword = {{ file = \"{}\" }}\ndataset = \"velmar\"\n", password.display());
    let sql = format!("table = \"a\"\n{rest}[mapping]\ntime = {{ column = \"at\" }}\ncolumns = [{{ column = \"b\" }}]\n");
    let texts = [
        format!("kind = \"mqtt\"\nbroker = \"mqtt://127.0.0.1:{port}\"\ntopics = [\"velmar/{{metric}}\"]\n{rest}"),
        format!("kind = \"opcua\"\nendpoint = \"opc.tcp://127.0.0.1:{port}\"\nnodes = [{{ path = \"{{metric}}\" }}]\n{rest}"),
        format!("kind = \"sql\"\ndatabase = \"postgresql://127.0.0.1:{port}/velmar\"\n{sql}"),
        format!("kind = \"sql\"\ndatabase = \"mysql://127.0.0.1:{port}/velmar\"\n{sql}"),
    ];
    for (number, text) in texts.iter().enumerate() {
        sources.put(&format!("silent-{number}"), definition(text)).unwrap();
    }
    thread::sleep(Duration::from_millis(500));
    let begun = Instant::now();
    sources.end();
    assert!(begun.elapsed() < Duration::from_secs(4), "{:?}", begun.elapsed());
}
