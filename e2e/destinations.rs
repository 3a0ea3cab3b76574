//! Sinks against real peers: databases and brokers of other makers.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/peers.rs"]
mod real;
#[path = "support/mod.rs"]
mod support;

use std::{fs, path::Path};

use real::{Broker, ObjectStore, Postgres, Script, until};
use serde_json::Value;
use support::{Api, Service, file};
use tempfile::TempDir;

/// Whether the machine has no databases and brokers, so that there is nothing to test against.
fn are_peers_left_out() -> bool {
    std::env::var_os("FENETRE_NO_PEERS").is_some()
}

/// A service with the dataset `velmar`, and a folder for its store and for definitions.
fn service() -> (TempDir, Service) {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    assert_eq!(service.run(&["datasets", "define", "velmar"]).code(), 0);
    (folder, service)
}

/// Pushes lines `METRIC,LOCK,SIDE,SECOND,VALUE` of the minute from 6:00.
fn push(service: &Service, lines: &[&str]) {
    let point = |line: &&str| {
        let [metric, lock, side, second, value] = line.split(',').collect::<Vec<_>>()[..] else { unreachable!("five parts: {line}") };
        format!(
            "{{\"metric\":\"{metric}\",\"tags\":{{\"lock\":\"{lock}\",\"side\":\"{side}\"}},\"time\":\"2026-05-01T06:00:{second}Z\",\"value\":{value}}}\n"
        )
    };
    let body: String = lines.iter().map(point).collect();
    let answer = service.post("/api/v1/datasets/velmar/points", &[("Content-Type", "application/x-ndjson")], body.as_bytes());
    assert_eq!(answer.ok()["rejected"], 0, "{lines:?}");
}

fn add(service: &Service, folder: &Path, name: &str, text: &str) {
    let ran = service.run(&["sink", "add", &file(folder, &format!("{name}.toml"), text)]);
    assert_eq!(ran.code(), 0, "{}", ran.all());
}

fn of_sink(service: &Service, name: &str) -> Value {
    service.get(&format!("/api/v1/sinks/{name}")).ok()
}

/// Waits until a sink has sent everything.
fn sent(service: &Service, name: &str) {
    until("everything is sent", || {
        let sink = of_sink(service, name);
        sink["behind"]["points"] == 0 && sink["gaps"].as_array().unwrap().is_empty()
    });
}

fn sql(folder: &Path, url: &str, more: &str) -> String {
    fs::write(folder.join("password"), "river\n").unwrap();
    let login = format!("user = \"clerk\"\npassword = {{ file = \"{}\" }}\n", folder.join("password").display());
    format!("kind = \"sql\"\ndatabase = \"{url}\"\n{login}dataset = \"velmar\"\nbatch_after = \"50ms\"\nhistory = true\n{more}")
}

#[test]
fn an_existing_table_of_another_shape_has_the_points_of_the_store() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let server = Postgres::start();
    server.run(
        "CREATE SCHEMA log; CREATE TABLE log.readings (id bigserial, at timestamptz, name text, lock text, reading numeric(7,1), state varchar, note text DEFAULT 'by hand'); \
         CREATE UNIQUE INDEX ON log.readings (at, name, lock)",
    );
    service.run(&["metrics", "define", "level", "--dataset", "velmar", "--unit", "m"]);
    push(&service, &["level,osier,up,00,3.25", "level,marl,up,00,3.5", "gate,osier,up,01,\"open\""]);
    let shape =
        "drop_tags = [\"side\"]\nunits = { level = \"cm\" }\n[columns]\ntime = \"at\"\nmetric = \"name\"\nvalue = \"reading\"\nword = \"state\"\n";
    let text = sql(folder.path(), &server.url(), &format!("table = \"log.readings\"\n{shape}"));
    let tried = service.run(&["sink", "try", &file(folder.path(), "control.toml", &text)]);
    assert!(
        tried.out().contains(
            "the table \"log\".\"readings\" with the columns at, name, reading, state, lock, note, unique by at, name, lock, would take 3 rows"
        ),
        "{}",
        tried.all()
    );
    assert_eq!(server.run("SELECT count(*) FROM log.readings"), "0\n");
    add(&service, folder.path(), "control", &text);
    sent(&service, "control");
    let rows = || {
        server.run(
            "SET TIME ZONE 'UTC'; SELECT to_char(at, 'HH24:MI:SS.US'), name, lock, reading, state, note FROM log.readings ORDER BY at, name, lock",
        )
    };
    assert_eq!(
        rows(),
        "06:00:00.000000|level|marl|350.0||by hand\n06:00:00.000000|level|osier|325.0||by hand\n06:00:01.000000|gate|osier||open|by hand\n"
    );
    // A note that somebody has written there stays; a replaced value and a late one arrive, also after the connection was lost.
    server.run("UPDATE log.readings SET note = 'checked' WHERE lock = 'marl'");
    server.drop_connections();
    push(&service, &["level,marl,up,00,4", "level,marl,up,00.0000001,5", "level,osier,down,59.5,1"]);
    sent(&service, "control");
    until("they are there", || rows().lines().count() == 4);
    assert_eq!(
        rows(),
        "06:00:00.000000|level|marl|500.0||checked\n06:00:00.000000|level|osier|325.0||by hand\n06:00:01.000000|gate|osier||open|by hand\n06:00:59.500000|level|osier|100.0||by hand\n"
    );
    // A value that the column cannot hold is set aside with its reason; the next points arrive.
    push(&service, &["level,osier,up,30,99999"]);
    until("it is set aside", || of_sink(&service, "control")["set_aside"] == 1);
    push(&service, &["level,osier,up,31,2"]);
    until("the next one is there", || rows().contains("06:00:31.000000|level|osier|200.0"));
    let aside = service.run(&["sink", "aside", "control", "-o", "csv"]);
    assert!(aside.out().contains("numeric field overflow"), "{}", aside.all());
    server.run("ALTER TABLE log.readings ALTER reading TYPE numeric");
    // Both series of one lock share rows here, because the tag `side` is dropped; only the others are the same.
    assert_eq!(service.run(&["sink", "resend", "control"]).code(), 0);
    until("it is sent again", || rows().contains("06:00:30.000000|level|osier|9999900"));
}

#[test]
fn a_created_table_is_compared_with_the_store() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let server = Postgres::start();
    push(&service, &["level,osier,up,00,3.25", "level,osier,down,00,3.5", "flow,osier,up,01,12", "gate,osier,up,02,\"open\""]);
    let text = sql(folder.path(), &server.url(), "table = \"points\"\ncreate = true\ntags = { origin = \"north\" }\n");
    add(&service, folder.path(), "mirror", &text);
    sent(&service, "mirror");
    let rows = server.run("SELECT metric, tags->>'side', value, word FROM points WHERE tags->>'origin' = 'north' ORDER BY metric, tags->>'side'");
    assert_eq!(rows, "flow|up|12|\ngate|up||open\nlevel|down|3.5|\nlevel|up|3.25|\n");
    let range = "2026-05-01 to 2026-05-02";
    let same = service.run(&["sink", "verify", "mirror", "--over", range]);
    assert_eq!((same.code(), same.err().trim()), (0, "the destination of sink mirror has the same: 4 points in 3 windows of 3 metrics compared"));
    server.run("UPDATE points SET value = 4 WHERE value = 3.5; DELETE FROM points WHERE metric = 'gate'");
    let differs = service.run(&["sink", "verify", "mirror", "--over", range]);
    assert_eq!(differs.code(), 1, "{}", differs.all());
    assert!(differs.out().contains("gate") && differs.out().contains("6.75") && differs.out().contains("7.25"), "{}", differs.all());
    // A replay mends it.
    assert_eq!(service.run(&["sink", "replay", "mirror", "--over", range]).code(), 0);
    sent(&service, "mirror");
    assert_eq!(service.run(&["sink", "verify", "mirror", "--over", range]).code(), 0);
}

#[test]
fn what_a_database_refuses_is_reported_in_words() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let server = Postgres::start();
    server.run("CREATE TABLE plain (time timestamptz, value int); CREATE TABLE one (time timestamptz PRIMARY KEY, value int); CREATE TABLE words (time text PRIMARY KEY, metric text, value int)");
    push(&service, &["level,osier,up,00,3", "flow,osier,up,00,3"]);
    let try_it = |text: &str| {
        let ran = service.run(&["sink", "try", &file(folder.path(), "try.toml", text)]);
        ran.err().replace(&server.url(), "postgresql://SERVER")
    };
    let of = |more: &str| sql(folder.path(), &server.url(), more);
    let refusals = [
        try_it(&of("table = \"reading\"\n")),
        try_it(&of("table = \"plain\"\n")),
        try_it(&of("table = \"one\"\nmetrics = [\"level\"]\n")),
        try_it(&of("table = \"one\"\ndrop_tags = [\"lock\", \"side\"]\n")),
        try_it(&of("table = \"words\"\nmetrics = [\"level\"]\ndrop_tags = [\"lock\", \"side\"]\n[columns]\nmetric = \"name\"\n")),
        try_it(&of("table = \"one\"\n").replace("clerk\"", "nobody\"")),
        try_it(&of("table = \"one\"\ntls = true\n")),
    ];
    insta::assert_snapshot!(refusals.join(""));
}

#[test]
fn messages_arrive_at_another_service_also_after_the_broker_was_restarted() {
    if are_peers_left_out() {
        return;
    }
    for (version, qos) in [("5", 1), ("3.1.1", 2)] {
        let ((folder, north), (other, central)) = (service(), service());
        let mut broker = Broker::start("password_file DIR/users");
        fs::write(folder.path().join("password"), "river\n").unwrap();
        let login = format!(
            "kind = \"mqtt\"\nbroker = \"{}\"\nversion = \"{version}\"\nqos = {qos}\nuser = \"clerk\"\npassword = {{ file = \"{}\" }}\ndataset = \"velmar\"\n",
            broker.url(),
            folder.path().join("password").display()
        );
        let source = format!("{login}topics = [\"velmar/#\"]\nformat = \"json-lines\"\n");
        let added = central.run(&["source", "add", &file(other.path(), "velmar.toml", source)]);
        assert_eq!(added.code(), 0, "{}", added.all());
        push(&north, &["level,osier,up,00,3.25", "gate,marl,up,01,\"open\""]);
        let sink = format!("{login}topic = \"velmar/{{lock}}/{{metric}}\"\nbatch_after = \"50ms\"\nhistory = true\n");
        let tried = north.run(&["sink", "try", &file(folder.path(), "broker.toml", &sink)]);
        let row = "velmar/osier/level {\"metric\":\"level\",\"tags\":{\"lock\":\"osier\",\"side\":\"up\"},\"time\":\"2026-05-01T06:00:00Z\",\"value\":3.25}";
        assert!(
            tried.out().contains(row) && tried.out().contains("the broker lets the sink connect; 2 messages would be published"),
            "{}",
            tried.all()
        );
        add(&north, folder.path(), "broker", &sink);
        let points = |service: &Service| {
            let of = |metric: &str| {
                service.run(&["ask", "--dataset", "velmar", &format!("show points of {metric} over 2026-05-01 to 2026-05-02"), "-o", "csv"]).out()
            };
            [of("level"), of("gate")]
        };
        until("they are at the other service", || points(&central) == points(&north));
        // The source has a session, so nothing that the broker has taken is lost.
        broker.restart("-TERM", std::time::Duration::from_millis(300));
        push(&north, &["level,osier,up,00,4", "level,osier,up,02,5", "gate,marl,up,01.5,\"shut\""]);
        until("the others, too", || points(&central) == points(&north));
        // A point whose series has no topic is counted.
        push(&north, &["level,a/b,up,00,1"]);
        until("it is counted", || of_sink(&north, "broker")["rejected"] == 1);
        let shown = north.run(&["sink", "show", "broker"]);
        assert!(shown.out().contains("a series of level has no topic: {lock} is `a/b`, which cannot be a level of a topic"), "{}", shown.all());
    }
}

#[test]
fn a_topic_has_values_or_lines_by_choice() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let broker = Broker::start("");
    push(&service, &["level,osier,up,00,3.25", "level,osier,up,01,3.5"]);
    for (payload, wanted) in [
        ("value", "velmar/level 3.25\nvelmar/level 3.5\n"),
        (
            "json-lines",
            "velmar/level {\"metric\":\"level\",\"tags\":{\"lock\":\"osier\",\"side\":\"up\"},\"time\":\"2026-05-01T06:00:00Z\",\"value\":3.25}\n\
             {\"metric\":\"level\",\"tags\":{\"lock\":\"osier\",\"side\":\"up\"},\"time\":\"2026-05-01T06:00:01Z\",\"value\":3.5}\n\n",
        ),
    ] {
        let subscriber = broker.subscribe("velmar/#");
        let sink = format!(
            "kind = \"mqtt\"\nbroker = \"{}\"\ntopic = \"velmar/{{metric}}\"\npayload = \"{payload}\"\ndataset = \"velmar\"\nqos = 0\nhistory = true\nbatch_after = \"50ms\"\n",
            broker.url()
        );
        add(&service, folder.path(), payload, &sink);
        sent(&service, payload);
        assert_eq!(subscriber.lines(wanted.lines().count()), wanted);
        assert_eq!(service.run(&["sink", "remove", payload]).code(), 0);
    }
}

#[test]
fn files_of_an_object_store_are_imported_without_a_mapping() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let store = ObjectStore::start();
    push(&service, &["level,osier,up,00,3.25", "level,osier,down,00.000000001,3.5", "big,marl,up,01,12", "gate,marl,up,02,\"open\""]);
    fs::write(folder.path().join("password"), "river\n").unwrap();
    let definition = |format: &str| {
        format!(
            "kind = \"files\"\npath = \"s3://points/velmar/{format}\"\nendpoint = \"{}\"\naccess_key = \"clerk\"\nsecret_key = {{ file = \"{}\" }}\nformat = \"{format}\"\n\
             dataset = \"velmar\"\nhistory = true\nbatch_after = \"50ms\"\n",
            store.url(),
            folder.path().join("password").display()
        )
    };
    let tried = service.run(&["sink", "try", &file(folder.path(), "try.toml", definition("csv"))]);
    assert!(tried.err().contains("there is no such bucket: create it, or check `path` and `endpoint`"), "{}", tried.all());
    add(&service, folder.path(), "csv", &definition("csv"));
    until("it fails", || of_sink(&service, "csv")["state"] == "failing");
    store.create("points");
    let tried = service.run(&["sink", "try", &file(folder.path(), "try.toml", definition("csv"))]);
    assert!(tried.out().contains("a file can be written there") && store.names("points").is_empty(), "{}", tried.all());
    let shown = |dataset: &str| {
        let of = |metric: &str| {
            service.run(&["ask", "--dataset", dataset, &format!("show points of {metric} over 2026-05-01 to 2026-05-02"), "-o", "csv"]).out()
        };
        ["level", "big", "gate"].map(of)
    };
    for (format, ending) in [("csv", "csv"), ("json-lines", "ndjson"), ("parquet", "parquet")] {
        add(&service, folder.path(), format, &definition(format));
        service.run(&["sink", "resend", format]);
        sent(&service, format);
        let names: Vec<String> =
            store.names("points").into_iter().filter(|name| name.starts_with(&format!("velmar/{format}/velmar/2026-05-01/{format}-"))).collect();
        assert_eq!(names.len(), 1, "{names:?}");
        let path = folder.path().join(format!("points.{ending}"));
        fs::write(&path, store.object("points", &names[0])).unwrap();
        let copy = format!("copy-{format}");
        assert_eq!(service.run(&["datasets", "define", &copy]).code(), 0);
        let imported = service.run(&["import", &path.display().to_string(), "--dataset", &copy]);
        assert_eq!(imported.code(), 0, "{}", imported.all());
        assert_eq!(shown(&copy), shown("velmar"), "{format}");
    }
}

#[test]
fn an_http_server_of_another_maker_gets_what_it_accepts() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let server = Script::start("collector");
    let address = format!("http://127.0.0.1:{}/points", server.port());
    let token = |token: &str| fs::write(folder.path().join("token"), token).unwrap();
    token("lake\n");
    let definition = format!(
        "kind = \"http\"\nurl = \"{address}\"\nbearer = {{ file = \"{}\" }}\ndataset = \"velmar\"\nbatch_after = \"50ms\"\n",
        folder.path().join("token").display()
    );
    add(&service, folder.path(), "control", &definition);
    push(&service, &["level,osier,up,00,3.25"]);
    until("the token is refused", || {
        of_sink(&service, "control")["error"].as_str().is_some_and(|error| error.contains("answered 401: check the token"))
    });
    // A new token needs no restart, and nothing was lost.
    token("river\n");
    let taken = || ureq::get(&address).call().unwrap().body_mut().read_to_string().unwrap();
    until("the point is there", || taken().contains("\"metric\":\"level\""));
    push(&service, &["secret,osier,up,01,1"]);
    until("a refused batch is set aside", || of_sink(&service, "control")["set_aside"] == 1);
    push(&service, &["level,osier,up,02,3.5"]);
    until("the next one is there", || taken().lines().count() == 2);
    let aside = service.run(&["sink", "aside", "control", "-o", "csv"]);
    assert!(aside.out().contains("answered 422: the metric `secret` is not for me"), "{}", aside.all());
    let points = service.run(&["sink", "aside", "control", "1"]);
    assert!(points.out().contains("\"metric\":\"secret\""), "{}", points.all());
    assert_eq!(service.run(&["sink", "discard", "control"]).code(), 0);
    assert_eq!(of_sink(&service, "control")["set_aside"], 0);
}
