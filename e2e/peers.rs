//! Sources against real peers: brokers, devices and databases of other makers.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/peers.rs"]
mod real;
#[path = "support/mod.rs"]
mod support;

use std::{collections::BTreeSet, fs, path::Path, thread, time::Duration};

use real::{Broker, MariaDb, Postgres, Script, until};
use support::{Api, Service, file, settled};
use tempfile::TempDir;

/// Whether the machine has no brokers, databases and devices, so that there is nothing to test against.
fn are_peers_left_out() -> bool {
    std::env::var_os("FENETRE_NO_PEERS").is_some()
}

/// A service, with a folder for its store and for definitions.
fn service() -> (TempDir, Service) {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    (folder, service)
}

fn define(service: &Service, folder: &Path, name: &str, text: &str) {
    let ran = service.run(&["source", "add", &file(folder, &format!("{name}.toml"), text)]);
    assert_eq!(ran.code(), 0, "{}", ran.all());
}

/// A value of the source as JSON.
fn of_source(service: &Service, name: &str, key: &str) -> serde_json::Value {
    service.get(&format!("/api/v1/sources/{name}")).ok()[key].clone()
}

/// Points of a metric from May to December of 2026, narrowed by what follows its name, as `tags,time,value`.
fn values(service: &Service, metric: &str) -> Vec<String> {
    let ran = service.run(&["ask", &format!("show points of {metric} over 2026-05-01 to 2027-01-01"), "-o", "csv"]);
    if ran.err().contains("no metric") || ran.err().contains("no dataset") {
        return Vec::new();
    }
    assert_eq!(ran.code(), 0, "{}", ran.all());
    let mut lines: Vec<String> = ran.out().lines().skip(1).map(str::to_owned).collect();
    lines.sort();
    lines
}

fn latest(service: &Service) -> Vec<String> {
    let items = service.get("/api/v1/datasets/main/latest").ok()["items"].clone();
    let value = |value: &serde_json::Value| value.as_f64().map_or_else(|| value.to_string(), |number| number.to_string());
    let line = |item: &serde_json::Value| {
        let tags: Vec<String> = item["tags"].as_object().unwrap().iter().map(|(key, value)| format!("{key}={}", value.as_str().unwrap())).collect();
        format!("{} {} {}", item["metric"].as_str().unwrap(), tags.join(" "), value(&item["value"]))
    };
    let mut lines: Vec<String> = items.as_array().unwrap().iter().map(line).collect();
    lines.sort();
    lines
}

/// A message with its own time: the number of seconds after nine.
fn timed(second: usize) -> String {
    format!("{{\"t\": \"2026-05-01T{:02}:{:02}:{:02}Z\", \"v\": {second}}}", 9 + second / 3_600, second / 60 % 60, second % 60)
}

const TIMED: &str = "[mapping]\ntime = { column = \"t\" }\ncolumns = [{ column = \"v\", role = \"value\" }]\n";

#[test]
fn topics_become_tags_and_metrics_in_both_versions_of_mqtt() {
    if are_peers_left_out() {
        return;
    }
    for version in ["5", "3.1.1"] {
        let (folder, service) = service();
        let broker = Broker::start("");
        broker.publish("velmar/osier/level", 1, &["299".to_owned()], &["-r"]);
        let text = format!("kind = \"mqtt\"\nbroker = \"{}\"\nversion = \"{version}\"\n", broker.url());
        define(&service, folder.path(), "boats", &format!("{text}topics = [\"velmar/{{lock}}/{{metric}}\"]\n"));
        define(&service, folder.path(), "json", &format!("{text}topics = [\"json/{{lock}}/{{metric}}\"]\n{TIMED}"));
        define(&service, folder.path(), "senml", &format!("{text}topics = [\"senml/#\"]\nformat = \"senml-json\"\n"));
        define(&service, folder.path(), "old", &format!("{text}topics = [\"velmar/{{lock}}/level\"]\nmetric = \"old_level\"\nretained = \"take\"\n"));
        until("all are connected", || {
            ["boats", "json", "senml", "old"].iter().all(|name| service.run(&["source", "log", name, "-o", "csv"]).out().contains("connected to"))
        });
        define(&service, folder.path(), "short", &format!("{text}topics = [\"short/{{metric}}\"]\nmax_bytes = 10\n"));
        until("it is connected, too", || service.run(&["source", "log", "short", "-o", "csv"]).out().contains("connected to"));
        broker.publish("short/pressure", 1, &["1013.25000000".to_owned()], &[]);
        broker.publish("velmar/osier/level", 1, &["312.5".to_owned()], &[]);
        broker.publish("velmar/osier/gate", 2, &["open".to_owned()], &[]);
        broker.publish("velmar/marl/level", 0, &["\"high\"".to_owned(), "311".to_owned()], &[]);
        broker.publish("json/osier/flow", 1, &[timed(7), "{\"v\": 1".to_owned()], &[]);
        broker.publish("senml/x", 1, &["[{\"n\": \"flow2\", \"v\": 5, \"bt\": 1777626000}]".to_owned()], &[]);
        broker.publish("other/osier/level", 1, &["1".to_owned()], &[]);
        let wanted = [
            "flow lock=osier 7",
            "flow2  5",
            "gate lock=osier \"open\"",
            "level lock=marl 311",
            "level lock=osier 312.5",
            "old_level lock=marl 311",
            "old_level lock=osier 312.5",
        ];
        until("all points are there", || latest(&service) == wanted);
        assert_eq!(values(&service, "level").len(), 2, "a retained message is passed over, unless it is wanted");
        assert_eq!(values(&service, "old_level").len(), 3);
        until("the long message is rejected", || of_source(&service, "short", "rejected") == 1);
        let rejects = of_source(&service, "short", "rejects");
        assert_eq!(rejects[0]["samples"][0], "short/pressure: the message has 13 bytes, more than `max_bytes` allows (10)");
        let rejects = of_source(&service, "json", "rejects");
        assert!(rejects[0]["samples"][0].as_str().unwrap().starts_with("json/osier/flow: the body cannot be read as JSON"), "{rejects}");
        let rejects = of_source(&service, "boats", "rejects");
        assert_eq!(rejects[0]["samples"][0], "velmar/marl/level, level: is a gauge, whose values are numbers: \"\"high\"\" is a text", "{rejects}");
    }
}

#[test]
fn no_message_is_missing_after_the_service_or_the_broker_was_killed() {
    if are_peers_left_out() {
        return;
    }
    for (version, qos) in [("5", 1), ("3.1.1", 1), ("5", 2), ("3.1.1", 2)] {
        let folder = tempfile::tempdir().unwrap();
        let store = folder.path().join("store");
        let mut broker = Broker::start("");
        let mut service = Service::start(&store);
        let text = format!(
            "kind = \"mqtt\"\nbroker = \"{}\"\nversion = \"{version}\"\nqos = {qos}\ntopics = [\"velmar/{{lock}}/{{metric}}\"]\n{TIMED}",
            broker.url()
        );
        define(&service, folder.path(), "boats", &text);
        until("it is connected", || service.run(&["source", "log", "boats", "-o", "csv"]).out().contains("connected to"));
        let mut sent = 0..;
        let mut send = |broker: &Broker, count: usize| {
            let messages: Vec<String> = sent.by_ref().take(count).map(timed).collect();
            broker.publish("velmar/osier/level", qos, &messages, &[]);
        };
        send(&broker, 500);
        service.kill();
        // While nobody is there, the broker keeps the messages.
        send(&broker, 500);
        service = Service::start(&store);
        send(&broker, 500);
        service.kill();
        service = Service::start(&store);
        until("messages come", || values(&service, "level").len() >= 1_500);
        broker.restart("-KILL", Duration::from_millis(300));
        until("it is connected again", || {
            let log = service.run(&["source", "log", "boats", "-o", "csv"]).out();
            log.lines().nth(1).is_some_and(|line| line.contains("connected to") || line.contains("works again"))
        });
        send(&broker, 500);
        until("every message is a point", || values(&service, "level").len() >= 2_000);
        assert_eq!(values(&service, "level").len(), 2_000, "MQTT {version}, quality {qos}");
        assert_eq!(of_source(&service, "boats", "rejected"), 0);
    }
}

#[test]
fn two_services_share_messages_and_lose_none_when_one_is_killed() {
    if are_peers_left_out() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let stores = [folder.path().join("one"), folder.path().join("two")];
    let broker = Broker::start("");
    let mut services = stores.each_ref().map(|store| Service::start(store));
    let text = format!("kind = \"mqtt\"\nbroker = \"{}\"\nshare = \"fenetre\"\ntopics = [\"velmar/{{lock}}/{{metric}}\"]\n{TIMED}", broker.url());
    for service in &services {
        define(service, folder.path(), "boats", &text);
        until("it is connected", || service.run(&["source", "log", "boats", "-o", "csv"]).out().contains("connected to"));
    }
    let send = |from: usize| broker.publish("velmar/osier/level", 1, &(from..from + 1_000).map(timed).collect::<Vec<_>>(), &[]);
    send(0);
    let of = |service: &Service| values(service, "level").into_iter().map(|line| line.split(',').next().unwrap().to_owned()).collect::<BTreeSet<_>>();
    until("both get messages", || services.iter().all(|service| of(service).len() >= 100));
    let [one, two] = services;
    one.kill();
    send(1_000);
    services = [Service::start(&stores[0]), two];
    send(2_000);
    until("every message is in one of the stores", || of(&services[0]).union(&of(&services[1])).count() == 3_000);
}

#[test]
fn a_broker_that_refuses_is_reported_in_words() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let broker = Broker::start("password_file DIR/users");
    let try_it = |more: &str| {
        let text = format!("kind = \"mqtt\"\nbroker = \"{}\"\ntopics = [\"velmar/{{lock}}/{{metric}}\"]\n{more}", broker.url());
        let ran = service.run(&["source", "try", &file(folder.path(), "try.toml", text)]);
        ran.all().replace(&broker.url(), "mqtt://BROKER")
    };
    fs::write(folder.path().join("password"), "wrong\n").unwrap();
    let password = format!("user = \"clerk\"\npassword = {{ file = \"{}\" }}\n", folder.path().join("password").display());
    let refusals = [try_it(""), try_it(&password), try_it("version = \"3.1.1\"\n")];
    settled(|| insta::assert_snapshot!("a_broker_refuses", refusals.join("\n")));
}

#[test]
fn registers_of_devices_are_read_and_each_device_has_its_own_state() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let (devices, others) = (Script::start("modbus"), Script::start("modbus"));
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let registers = "metric,table,address,type,length,scale,unit,words,missing,every\n\
                     level,,0,u16,,0.1,cm,,,\n\
                     offset,,1,i16,,,,,,\n\
                     count,input,2,u32,,,,,,\n\
                     nothing,,4,u16,,,,,65535,\n\
                     gate,,5,u16,,,,0=shut;2=open,,\n\
                     flow,,10,f32,,,,,,\n\
                     name,,12,text,3,,,,,\n\
                     gone,,16,u16,,,,,,1s\n\
                     boat,coil,2,,,,,0=away;1=there,,\n";
    let text = format!(
        "kind = \"modbus\"\nevery = \"200ms\"\ntimeout = \"1s\"\nregisters_file = \"{}\"\ndevices = [\n  \
         {{ address = \"127.0.0.1:{port}\", tags = {{ lock = \"osier\" }} }},\n  {{ address = \"127.0.0.1:{other}\", unit = 2, tags = {{ lock = \"slow\" }} }},\n  \
         {{ address = \"127.0.0.1:{other}\", unit = 3, tags = {{ lock = \"busy\" }} }},\n  {{ address = \"127.0.0.1:{silent}\", tags = {{ lock = \"silent\" }} }},\n  \
         {{ address = \"127.0.0.1:9\", tags = {{ lock = \"away\" }} }},\n]\n",
        file(folder.path(), "registers.csv", registers),
        port = devices.port(),
        other = others.port(),
        silent = silent.local_addr().unwrap().port()
    );
    let tried = service.run(&["source", "try", &file(folder.path(), "locks.toml", &text)]);
    assert!(tried.out().contains("level lock=osier") && tried.out().contains("nothing was stored"), "{}", tried.all());
    define(&service, folder.path(), "locks", &text);
    let wanted = ["boat lock=osier \"there\"", "count lock=osier 65538", "flow lock=osier 1.5", "gate lock=osier \"open\"", "level lock=osier 312.5"];
    until("values come", || wanted.iter().all(|wanted| latest(&service).iter().any(|line| line == wanted)));
    assert!(latest(&service).contains(&"name lock=osier \"Osier\"".to_owned()) && latest(&service).contains(&"offset lock=osier -16".to_owned()));
    assert!(!latest(&service).iter().any(|line| line.starts_with("nothing") || line.starts_with("gone")), "{:?}", latest(&service));
    until("the slow one has come, too", || latest(&service).contains(&"level lock=slow 312.5".to_owned()));
    let before = values(&service, "level where lock = \"osier\"").len();
    thread::sleep(Duration::from_secs(2));
    let read = values(&service, "level where lock = \"osier\"").len() - before;
    assert!(read >= 5, "a device that is slow or silent does not stop the others: {read} reads in 2 s");
    until("each has its state", || of_source(&service, "locks", "parts").as_array().unwrap().len() == 5);
    let parts = of_source(&service, "locks", "parts");
    let errors: Vec<String> = parts.as_array().unwrap().iter().map(|part| part["error"].as_str().unwrap_or("none").to_owned()).collect();
    let wanted = [
        "gone (holding 16): exception 2: the device has no such address",
        "gone (holding 16): exception 2: the device has no such address",
        "exception 6: the device is busy (and",
        "does not answer within 1000 ms (`timeout`)",
        "nothing listens there",
    ];
    assert!(errors.iter().zip(wanted).all(|(error, wanted)| error.contains(wanted)), "{errors:#?}");
}

#[test]
fn nodes_are_found_by_their_path_and_renewed_after_a_break() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let server = Script::start("opcua");
    let port = server.port();
    fs::write(folder.path().join("password"), "river\n").unwrap();
    let text = format!(
        "kind = \"opcua\"\nendpoint = \"opc.tcp://127.0.0.1:{port}/velmar/\"\nsampling = \"100ms\"\nuser = \"clerk\"\npassword = {{ file = \"{}\" }}\nnodes = [\n  \
         {{ path = \"Locks/{{lock}}/{{metric}}\" }},\n  {{ id = \"ns=2;s=Osier.Level\", metric = \"osier_level\", unit = \"cm\" }},\n]\n",
        folder.path().join("password").display()
    );
    let wrong = text.replace("Locks/", "Docks/");
    let ran = service.run(&["source", "try", &file(folder.path(), "wrong.toml", &wrong)]);
    assert!(
        ran.err().contains("no variable fits the path `Docks/{lock}/{metric}`; below Objects there are") && ran.err().contains("Locks"),
        "{}",
        ran.all()
    );
    fs::write(folder.path().join("password"), "rivers\n").unwrap();
    let ran = service.run(&["source", "try", &file(folder.path(), "plant.toml", &text)]);
    assert!(ran.err().contains("the server refused the user: check `user` and `password`"), "{}", ran.all());
    fs::write(folder.path().join("password"), "river\n").unwrap();
    define(&service, folder.path(), "plant", &text);
    until("values come", || values(&service, "Level where lock = \"Marl\"").len() >= 4 && values(&service, "osier_level").len() >= 4);
    let level = values(&service, "osier_level");
    // The first value may be the one that the server began with.
    assert!(level.iter().skip_while(|line| line.ends_with(",300,cm")).filter(|line| line.starts_with("2026-05-01T09:")).count() >= 3, "{level:?}");
    assert!(latest(&service).contains(&"Gate lock=Marl \"open\"".to_owned()));
    assert!(!latest(&service).iter().any(|line| line.starts_with("Turbidity lock=Marl")), "a bad status is no value");
    let parts = of_source(&service, "plant", "parts");
    assert_eq!(parts[0]["error"], "1 of 6 nodes have no good value: Locks/Marl/Turbidity is BadSensorFailure");
    drop(server);
    until("it fails", || of_source(&service, "plant", "state") == "failing");
    let before = of_source(&service, "plant", "points");
    let _server = Script::on("opcua", port);
    until("it works again", || of_source(&service, "plant", "points").as_u64() > before.as_u64());
    let log = service.run(&["source", "log", "plant", "-o", "csv"]).out();
    assert!(log.contains("nothing listens there") && log.contains("works again"), "{log}");
}

/// A long table with 40 names, whose numbers are texts.
const LONG: &str = "CREATE TABLE readings (at TIMESTAMP NULL, name VARCHAR(40), lock_name VARCHAR(40), val VARCHAR(40));";

/// A row every ten seconds from nine.
fn long_rows(from: usize, to: usize) -> String {
    let row = |number: usize| {
        let second = 10 * number;
        format!("('2026-05-01 {:02}:{:02}:{:02}', 'sensor{}', 'osier', '{number}.5')", 9 + second / 3_600, second / 60 % 60, second % 60, number % 40)
    };
    format!("INSERT INTO readings VALUES {};", (from..to).map(row).collect::<Vec<_>>().join(","))
}

const LONG_MAPPING: &str = "[mapping]\ntime = { column = \"at\" }\ncolumns = [\n  { column = \"name\", role = \"metric\" },\n  { column = \"lock_name\", role = \"tag\", name = \"lock\" },\n  { column = \"val\", role = \"value\" },\n]\n";

fn sql(folder: &Path, url: &str, more: &str) -> String {
    fs::write(folder.join("password"), "river\n").unwrap();
    let login = format!("user = \"clerk\"\npassword = {{ file = \"{}\" }}\n", folder.join("password").display());
    format!("kind = \"sql\"\nevery = \"200ms\"\ndatabase = \"{url}\"\n{login}{more}")
}

/// Late and changed rows, chosen names, a restart, and advice against too many series; the same on either server.
fn rows_arrive_once(url: &str, run: &dyn Fn(&str) -> String) {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store");
    let service = Service::start(&store);
    run(LONG);
    run(&long_rows(0, 2_000));
    let table = format!("table = \"readings\"\npart = 300\noverlap = \"1h\"\n{LONG_MAPPING}");
    let text = sql(folder.path(), url, &table);
    let tried = service.run(&["source", "try", &file(folder.path(), "clerk.toml", &text)]);
    assert!(tried.out().contains("2,000 points would be stored") && tried.out().contains("sent      SELECT"), "{}", tried.all());
    let few = service.run(&["source", "try", &file(folder.path(), "few.toml", sql(folder.path(), url, &format!("max_new_series = 30\n{table}")))]);
    assert!(few.err().contains("more than 30 new series") && few.err().contains("`name` has 31 different values"), "{}", few.all());
    define(&service, folder.path(), "clerk", &text);
    until("all rows are there", || of_source(&service, "clerk", "points") == 2_000);
    let chosen = sql(
        folder.path(),
        url,
        &format!("table = \"readings\"\nwhere = {{ name = [\"sensor1\", \"sensor2\", \"sensor3\"] }}\n[tags]\nof = \"chosen\"\n{LONG_MAPPING}"),
    );
    define(&service, folder.path(), "chosen", &chosen);
    until("three names were chosen", || of_source(&service, "chosen", "points") == 150);
    // A late row, a changed one, and new ones.
    run("INSERT INTO readings VALUES ('2026-05-01 14:00:00.5', 'sensor1', 'marl', '77');");
    run("UPDATE readings SET val = '99.5' WHERE at = '2026-05-01 14:33:10';");
    run(&long_rows(2_000, 2_100));
    until("they came", || of_source(&service, "clerk", "points") == 2_102);
    assert!(values(&service, "sensor39").iter().any(|line| line.contains("99.5")), "{:?}", values(&service, "sensor39"));
    let sent = of_source(&service, "clerk", "sent").as_str().unwrap().to_owned();
    assert!(sent.contains("WHERE") && sent.contains("2026-05-01") && sent.contains("ORDER BY"), "{sent}");
    // The statement can be copied into any client.
    assert!(run(&sent).contains("sensor1"), "{sent}");
    service.kill();
    run(&long_rows(2_100, 2_200));
    let service = Service::start(&store);
    until("reading continues where it stopped", || of_source(&service, "clerk", "points").as_u64() >= Some(100));
    until("it has read all", || of_source(&service, "clerk", "rounds").as_u64() >= Some(3));
    let points = of_source(&service, "clerk", "points").as_u64();
    assert!(points < Some(600), "rows before the overlap are not read again: {points:?}");
}

#[test]
fn rows_of_postgresql_arrive_once_also_late_and_changed_ones() {
    if are_peers_left_out() {
        return;
    }
    let server = Postgres::start();
    server.run("SET TIME ZONE 'UTC'; ALTER DATABASE velmar SET timezone TO 'UTC'");
    rows_arrive_once(&server.url(), &|sql| server.run(&sql.replace("TIMESTAMP NULL", "TIMESTAMPTZ")));
}

#[test]
fn rows_of_mariadb_arrive_once_also_late_and_changed_ones() {
    if are_peers_left_out() {
        return;
    }
    let server = MariaDb::start();
    rows_arrive_once(&server.url(), &|sql| {
        server.run(&format!("SET time_zone = '+00:00'; {}", sql.replace("at TIMESTAMP NULL", "at TIMESTAMP(3) NULL")))
    });
}

#[test]
fn local_times_of_a_wide_table_are_read_over_a_clock_change() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let server = Postgres::start();
    server.run("CREATE TABLE wide (at TIMESTAMP, level NUMERIC(8,2), \"Gate state\" TEXT, broken JSONB)");
    // On 2026-10-25 at 2:00 the clocks of Lisbon go back to 1:00: 01:30 comes twice, 00:30 and 02:30 once.
    server.run("INSERT INTO wide VALUES ('2026-10-25 00:30', 1.25, 'open', NULL), ('2026-10-25 01:30', 2.5, 'shut', NULL), ('2026-10-25 02:30', -3, NULL, NULL), (NULL, 4, 'shut', NULL)");
    let mapping = "[mapping]\ntime = { column = \"at\", zone = \"Europe/Lisbon\", clock_change = \"later\" }\ncolumns = [{ column = \"level\", unit = \"m\" }, { column = \"Gate state\", role = \"state\", name = \"gate\" }]\n";
    define(&service, folder.path(), "wide", &sql(folder.path(), &server.url(), &format!("table = \"public.wide\"\n{mapping}")));
    until("the rows came", || of_source(&service, "wide", "points") == 5);
    assert_eq!(
        values(&service, "level"),
        ["2026-10-24T23:30:00Z,level,1.25,m", "2026-10-25T01:30:00Z,level,2.5,m", "2026-10-25T02:30:00Z,level,-3,m"]
    );
    assert!(of_source(&service, "wide", "rejects")[0]["samples"][0].as_str().unwrap().contains("is empty: every row needs a time"));
    server.run("INSERT INTO wide VALUES ('2026-10-25 01:45', 5, 'open', NULL)");
    until("a row in the repeated hour is late, and comes", || of_source(&service, "wide", "points") == 7);
}

#[test]
fn what_a_database_refuses_is_reported_in_words() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let server = Postgres::start();
    server.run("CREATE TABLE readings (at TIMESTAMPTZ, val NUMERIC, day TEXT)");
    let path = folder.path().join("clerk.db");
    rusqlite::Connection::open(&path)
        .unwrap()
        .execute_batch("CREATE TABLE readings (at INTEGER, val REAL); INSERT INTO readings VALUES (1777626000, 4.5)")
        .unwrap();
    let try_it = |text: &str| {
        let ran = service.run(&["source", "try", &file(folder.path(), "try.toml", text)]);
        ran.all().replace(&server.url(), "postgresql://SERVER").replace(&path.display().to_string(), "/FILE")
    };
    let mapping = "[mapping]\ntime = { column = \"at\" }\ncolumns = [{ column = \"val\" }]\n";
    let of_server = |more: &str| sql(folder.path(), &server.url(), more);
    let of_file = |more: &str| format!("kind = \"sql\"\ndatabase = \"sqlite://{}\"\n{more}", path.display());
    let refusals = [
        try_it(&of_server(&format!("table = \"reading\"\n{mapping}"))),
        try_it(&of_server(&format!("table = \"readings\"\n{}", mapping.replace("val", "value")))),
        try_it(&of_server(&format!("query = \"DELETE FROM readings RETURNING at, val\"\n{mapping}"))),
        try_it(&of_server(&format!("query = \"SELECT pg_sleep(5), at, val FROM (SELECT now() AS at, 1 AS val) AS x\"\ntimeout = \"1s\"\n{mapping}"))),
        try_it(&of_server(&format!("table = \"readings\"\n{mapping}")).replace("clerk\"", "nobody\"")),
        try_it(&of_server(&format!("table = \"readings\"\ntls = true\n{mapping}"))),
        try_it(&of_file(&format!("table = \"readings\"\nfrom = \"2026-05-01T00:00:00Z\"\n{mapping}"))),
        try_it(&of_file(&format!("table = \"reading\"\n{mapping}"))),
        try_it(&of_file(&format!("table = \"readings\"\n{mapping}").replace("at\" }", "at\", format = \"s\" }"))),
        try_it(&of_file("table = \"readings\"\n[mapping]\ntime = { column = \"at\" }\n")),
    ];
    // Times differ from run to run.
    let without_time = |line: &str| if line.ends_with(" ms") { line.rsplit_once(", ").unwrap().0.to_owned() } else { line.to_owned() };
    let text: String = refusals.join("\n").lines().map(|line| without_time(line) + "\n").collect();
    settled(|| insta::assert_snapshot!("a_database_refuses", text));
}

#[test]
fn rows_of_a_file_of_sqlite_arrive_as_its_clerk_writes_them() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let path = folder.path().join("clerk.db");
    let clerk = rusqlite::Connection::open(&path).unwrap();
    clerk.execute_batch("CREATE TABLE passages (at TEXT, lock TEXT, boats INTEGER); INSERT INTO passages VALUES ('2026-05-01 09:00:00', 'osier', 3), ('2026-05-01T10:00:00+02:00', 'marl', 4)").unwrap();
    let text = format!(
        "kind = \"sql\"\nevery = \"200ms\"\ndatabase = \"sqlite://{}\"\ntable = \"passages\"\n[mapping]\ntime = {{ column = \"at\" }}\ncolumns = [{{ column = \"lock\", role = \"tag\" }}, {{ column = \"boats\" }}]\n",
        path.display()
    );
    define(&service, folder.path(), "clerk", &text);
    until("the rows came", || of_source(&service, "clerk", "points") == 2);
    clerk
        .execute_batch("INSERT INTO passages VALUES ('2026-05-01 09:05:00', 'osier', 5); UPDATE passages SET boats = 6 WHERE lock = 'marl'")
        .unwrap();
    until("new and changed rows came", || of_source(&service, "clerk", "points") == 4);
    assert_eq!(latest(&service), ["boats lock=marl 6", "boats lock=osier 5"]);
}

/// Tries a source over TLS: with the right authority, with a wrong one, and by a name that the certificate does not have.
fn over_tls(service: &Service, folder: &Path, peer: &Path, text: &str) {
    let try_it = |ca: &str, text: &str| {
        let text = text.replacen("CA", &format!("ca = \"{}\"", peer.join(ca).display()), 1);
        service.run(&["source", "try", &file(folder, "tls.toml", text)])
    };
    let right = try_it("server.pem", text);
    assert!(right.code() == 0 || right.err().contains("no message came"), "{}", right.all());
    for wrong in [try_it("other.pem", text), try_it("server.pem", &text.replacen("127.0.0.1", "localhost", 1))] {
        assert!(wrong.code() == 1 && wrong.err().contains("certificate"), "{}", wrong.all());
    }
}

#[test]
fn connections_are_encrypted_and_certificates_are_checked() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let broker = Broker::start("certfile DIR/server.pem\nkeyfile DIR/server.key");
    for version in ["5", "3.1.1"] {
        let text = format!(
            "kind = \"mqtt\"\nbroker = \"{}\"\nversion = \"{version}\"\ntopics = [\"velmar/{{metric}}\"]\nCA\n",
            broker.url().replace("mqtt:", "mqtts:")
        );
        over_tls(&service, folder.path(), broker.folder(), &text);
    }
    let table = "tls = true\nCA\ntable = \"readings\"\n[mapping]\ntime = { column = \"at\" }\ncolumns = [{ column = \"val\" }]\n";
    let server = Postgres::start();
    server.run("CREATE TABLE readings (at TIMESTAMPTZ, val INTEGER); INSERT INTO readings VALUES ('2026-05-01', 1)");
    over_tls(&service, folder.path(), server.folder(), &sql(folder.path(), &server.url(), table));
    let server = MariaDb::start();
    server.run("CREATE TABLE readings (at TIMESTAMP, val INTEGER); INSERT INTO readings VALUES ('2026-05-01', 1)");
    over_tls(&service, folder.path(), server.folder(), &sql(folder.path(), &server.url(), table));
}

#[test]
fn a_secure_session_needs_trust_on_both_sides() {
    if are_peers_left_out() {
        return;
    }
    let (folder, service) = service();
    let server = Script::start("opcua");
    let certificates = folder.path().join("certificates");
    let try_it = |security: &str| {
        let text = format!(
            "kind = \"opcua\"\nendpoint = \"opc.tcp://127.0.0.1:{}/velmar/\"\nsecurity = \"{security}\"\ncertificates = \"{}\"\nnodes = [{{ path = \"Locks/{{lock}}/{{metric}}\" }}]\n",
            server.port(),
            certificates.display()
        );
        service.run(&["source", "try", &file(folder.path(), "plant.toml", text)])
    };
    let refused = try_it("sign-and-encrypt");
    assert!(refused.code() == 1 && refused.err().contains("check it and move it to"), "{}", refused.all());
    let rejected = fs::read_dir(certificates.join("rejected")).unwrap().next().unwrap().unwrap();
    fs::rename(rejected.path(), certificates.join("trusted").join(rejected.file_name())).unwrap();
    for security in ["sign", "sign-and-encrypt"] {
        let ran = try_it(security);
        assert!(ran.out().contains("Level lock=Osier"), "{security}: {}", ran.all());
    }
}

#[test]
fn a_source_that_was_refused_for_its_series_creates_no_more_when_it_tries_again() {
    let (folder, service) = service();
    let path = folder.path().join("clerk.db");
    let clerk = rusqlite::Connection::open(&path).unwrap();
    clerk.execute_batch("CREATE TABLE passages (at INTEGER, boat TEXT, toll INTEGER)").unwrap();
    for number in 0..400 {
        clerk.execute("INSERT INTO passages VALUES (?1, ?2, 3)", (1_777_626_000 + number, format!("boat {number}"))).unwrap();
    }
    let text = format!(
        "kind = \"sql\"\nevery = \"100ms\"\ndatabase = \"sqlite://{}\"\ntable = \"passages\"\npart = 20\nmax_new_series = 50\n[mapping]\ntime = {{ column = \"at\", format = \"s\" }}\ncolumns = [{{ column = \"boat\", role = \"tag\" }}, {{ column = \"toll\" }}]\n",
        path.display()
    );
    define(&service, folder.path(), "clerk", &text);
    until("it tries again", || of_source(&service, "clerk", "rounds").as_u64() >= Some(3));
    assert!(of_source(&service, "clerk", "error").as_str().unwrap().contains("more than 50 new series (`max_new_series`)"));
    let series = service.get("/api/v1/datasets/main/latest?limit=1").ok()["total"].as_u64();
    assert!(series <= Some(50), "{series:?}");
    // A higher limit lets it go on.
    define(&service, folder.path(), "clerk", &text.replace("= 50", "= 500"));
    until("all rows are there", || service.get("/api/v1/datasets/main/latest?limit=1").ok()["total"] == 400);
}
