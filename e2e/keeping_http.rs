//! Keeping over HTTP, as programs use it: what the numbers are held against, what is refused and how, and what damage looks like.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use std::{
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
    time::{Duration, Instant},
};

use serde_json::{Value, json};
use support::{Answer, Api, Service};

const JSON: (&str, &str) = ("Content-Type", "application/json");

/// The end of the last hour whose window has closed, in seconds.
fn hour() -> i64 {
    (jiff::Timestamp::now().as_second() - 900) / 3_600 * 3_600
}

/// A point every ten minutes of a level and of a counter, over so many days.
fn history(days: i64) -> String {
    let mut lines = String::new();
    for step in 0..days * 144 {
        let at = jiff::Timestamp::from_second(hour() - (days * 144 - step) * 600).unwrap();
        lines += &format!("{{\"metric\":\"level\",\"tags\":{{\"lock\":\"osier\"}},\"time\":\"{at}\",\"value\":{}}}\n", 300 + step * step % 17);
        lines += &format!("{{\"metric\":\"boats\",\"tags\":{{\"lock\":\"osier\"}},\"time\":\"{at}\",\"value\":{}}}\n", step * 2);
    }
    lines
}

fn filled(store: &Path, days: i64) -> Service {
    let service = Service::start(store);
    for (metric, kind) in [("level", "gauge"), ("boats", "counter")] {
        let defined = put(&service, &format!("/api/v1/datasets/main/metrics/{metric}"), &json!({ "kind": kind }));
        assert!(defined.status < 300, "{}", defined.text());
    }
    service.push_lines("main", &history(days));
    // A backup packs everything first.
    assert_eq!(service.run(&["backup", &store.with_extension("copy").display().to_string()]).code(), 0);
    service
}

fn put(service: &Service, path: &str, body: &Value) -> Answer {
    service.put(path, &[JSON], body.to_string().as_bytes())
}

fn post(service: &Service, path: &str, body: &Value) -> Answer {
    service.post(path, &[JSON], body.to_string().as_bytes())
}

fn get(service: &Service, path: &str) -> Value {
    let answer = service.get(path);
    assert_eq!(answer.status, 200, "{}", answer.text());
    answer.json()
}

fn levels(service: &Service) -> Vec<Value> {
    get(service, "/api/v1/datasets/main/rollups")["policies"][0]["levels"].as_array().unwrap().clone()
}

fn roll_up(service: &Service, levels_asked: &Value) {
    set_and_fill(service, &json!({ "levels": levels_asked }));
}

fn set_and_fill(service: &Service, policy: &Value) {
    let set = put(service, "/api/v1/datasets/main/rollups/default", policy);
    assert_eq!((set.status, set.json()["created"].as_bool()), (200, Some(true)), "{}", set.text());
    let began = Instant::now();
    while !levels(service).iter().all(|level| level["filled"] == 1.0 && level["out_of_date"] == 0) {
        assert!(began.elapsed() < Duration::from_secs(60), "{:?}", get(service, "/api/v1/datasets/main/rollups"));
        std::thread::sleep(Duration::from_millis(100));
    }
}

/// Bytes of everything below a folder, as the file system counts them.
fn weight(folder: &Path) -> u64 {
    let mut sum = 0;
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let about = entry.metadata().unwrap();
        sum += if about.is_dir() { weight(&entry.path()) } else { about.blocks() * 512 };
    }
    sum
}

fn near(a: f64, b: f64, share: f64) -> bool {
    (a - b).abs() <= share * a.abs().max(b.abs())
}

#[test]
fn reported_sizes_match_the_file_system() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store");
    let service = filled(&store, 40);
    roll_up(&service, &json!([{ "width": "1h", "keep_for": "2y" }, { "width": "1d" }]));
    let storage = get(&service, "/api/v1/storage");
    let dataset = &storage["datasets"][0];
    let sum = |of: &Value, key: &str| of.as_array().unwrap().iter().map(|one| one[key].as_u64().unwrap()).sum::<u64>();
    assert_eq!(sum(&dataset["partitions"], "points"), 2 * 40 * 144);
    assert_eq!(dataset["bytes"], sum(&dataset["partitions"], "bytes"));
    let by_level = sum(&dataset["levels"], "bytes");
    assert!(by_level > 0 && by_level <= dataset["rollup_bytes"].as_u64().unwrap(), "{dataset}");
    assert!(near(storage["bytes"].as_f64().unwrap(), weight(&store) as f64, 0.05), "reported {}, measured {}", storage["bytes"], weight(&store));
    for level in dataset["levels"].as_array().unwrap() {
        let files: Vec<PathBuf> = level["files"].as_array().unwrap().iter().map(|file| PathBuf::from(file.as_str().unwrap())).collect();
        assert!(!files.is_empty() && files.iter().all(|file| file.starts_with(&store) && file.exists()), "{level}");
    }
    let top = get(&service, "/api/v1/storage/top");
    assert_eq!(sum(&top, "points"), 2 * 40 * 144);
    assert!(near(sum(&top, "bytes") as f64, dataset["bytes"].as_f64().unwrap(), 0.01), "{top}");
}

#[test]
fn the_projection_adds_up() {
    let folder = tempfile::tempdir().unwrap();
    let service = filled(&folder.path().join("store"), 40);
    let outlook = |place: &str| {
        let places = get(&service, "/api/v1/retention?metrics=false");
        let found = places["places"].as_array().unwrap().iter().find(|known| known["name"] == place).unwrap().clone();
        (found["outlook"].clone(), found["bytes"].as_f64().unwrap())
    };
    let number = |of: &Value, key: &str| of[key].as_f64().unwrap_or(f64::NAN);
    let (before, held) = outlook("main");
    assert!(before["at_rest"].is_null() && before["reached"].is_null() && number(&before, "rollup_bytes_a_day") == 0.0, "{before}");
    assert!(near(number(&before, "points_a_day"), 288.0, 0.02), "{before}");
    assert!(near(number(&before, "in_30_days"), held + 30.0 * number(&before, "bytes_a_day"), 0.001), "{before}");
    let set = post(&service, "/api/v1/retention", &json!({ "place": "main", "limits": { "keep_for": "100d" } }));
    assert_eq!((set.status, set.json()["expires"]["parts"].as_array().map(Vec::len)), (200, Some(0)), "{}", set.text());
    // A hundred days, a week since whole partitions go, a week in the bin.
    let (points, _) = outlook("main");
    assert!(near(number(&points, "at_rest"), 114.0 * number(&points, "bytes_a_day"), 0.001), "{points}");
    // The forecast follows from the stored bytes; the first and the last partition take a little more per point.
    let days_ahead = |of: &Value| {
        let from: jiff::Timestamp = of["at_rest_from"].as_str().unwrap().parse().unwrap();
        (from.as_second() - jiff::Timestamp::now().as_second()) as f64 / 86_400.0
    };
    assert!(near(days_ahead(&points), 114.0 - 40.0, 0.1), "{points}");
    assert!(near(number(&points, "recommended"), 1.2 * number(&points, "at_rest"), 0.001), "{points}");
    roll_up(&service, &json!([{ "width": "1h", "keep_for": "50d" }, { "width": "1d" }]));
    let (rolled, _) = outlook("main");
    let sizes = get(&service, "/api/v1/storage")["datasets"][0]["levels"].clone();
    let of_level = |width: &str| {
        let level = sizes.as_array().unwrap().iter().find(|level| level["width"] == width).unwrap().clone();
        assert!(near(level["bytes_a_day"].as_f64().unwrap(), level["bytes"].as_f64().unwrap() / 40.0, 0.03), "{level}");
        level["bytes_a_day"].as_f64().unwrap()
    };
    let (hours, days) = (of_level("1h"), of_level("1d"));
    assert!(near(number(&rolled, "bytes_a_day"), number(&points, "bytes_a_day") + hours + days, 0.001), "{rolled}");
    assert!(near(number(&rolled, "at_rest"), number(&points, "at_rest") + hours * (50.0 + 28.0), 0.001), "{rolled}");
    assert!(near(number(&rolled, "beside_a_day"), days, 0.001), "{rolled}");
    let longer = json!({ "levels": [{ "width": "1h", "keep_for": "500d" }, { "width": "1d" }] });
    assert!(put(&service, "/api/v1/datasets/main/rollups/default", &longer).status < 300);
    let (last, _) = outlook("main");
    assert!(near(days_ahead(&last), 528.0 - 40.0, 0.05), "when the last of its parts is: {last}");
    let rendered = rolled["arithmetic"].as_str().unwrap();
    assert!(
        ["/day x 114 days + ", " rollups) x 1.2", "of rollups without a limit", "100 kept + 7 until a whole partition expires + 7 in the bin"]
            .iter()
            .all(|part| rendered.contains(part)),
        "{rendered}"
    );
    // Under a limit by size there is nothing beside it, and a day on which it is reached.
    let tight = post(&service, "/api/v1/retention", &json!({ "place": "main", "limits": { "keep_under": "2MB" }, "preview": true })).json();
    let ahead = &tight["after"]["outlook"];
    assert!(number(ahead, "beside_a_day") == 0.0 && number(ahead, "at_rest") <= 2e6 && number(ahead, "days_that_fit") > 0.0, "{ahead}");
    assert!(outlook("main").0["days_that_fit"].is_null(), "a preview sets nothing");
}

#[test]
fn predicted_expiry_happens_on_time() {
    let folder = tempfile::tempdir().unwrap();
    let service = filled(&folder.path().join("store"), 30);
    let preview = |seconds: i64| {
        let order = json!({ "place": "main", "limits": { "keep_for": format!("{seconds}s") }, "preview": true });
        let change = post(&service, "/api/v1/retention", &order);
        assert_eq!(change.status, 200, "{}", change.text());
        change.json()
    };
    let names = |change: &Value| change["expires"]["parts"].as_array().unwrap().iter().map(|part| part["what"].clone()).collect::<Vec<_>>();
    let kept = 20 * 86_400;
    let looked = preview(kept);
    let next = &looked["after"]["next"];
    assert!(!names(&looked).is_empty() && !names(&looked).contains(&next["what"]), "{looked}");
    let at: jiff::Timestamp = next["at"].as_str().unwrap().parse().unwrap();
    let left = at.as_second() - jiff::Timestamp::now().as_second();
    assert!((1..7 * 86_400 + 1).contains(&left), "in {left} s");
    // A limit that is shorter by as long is one that has come to that moment.
    let then = preview(kept - left - 60);
    assert!(names(&then).contains(&next["what"]), "{then}");
    assert_eq!(then["expires"]["points"].as_u64(), looked["expires"]["points"].as_u64().unwrap().checked_add(next["points"].as_u64().unwrap()));
    let before = preview(kept - left + 3_600);
    assert!(!names(&before).contains(&next["what"]) && before["after"]["next"]["what"] == next["what"], "{before}");
    // No limit is set: nothing expires next.
    let limits = get(&service, "/api/v1/retention?metrics=false")["places"].clone();
    assert!(limits.as_array().unwrap().iter().all(|place| place["next"].is_null()), "{limits}");
    let rendered = service.run(&["retention", "set", "main", "--keep-for", &format!("{kept}s"), "--preview"]).out();
    let day = next["at"].as_str().unwrap().split('T').next().unwrap();
    assert!(rendered.contains(&format!("next expiry  {} on {day}:", next["what"].as_str().unwrap())), "{rendered}");
}

#[test]
fn invalid_limits_and_policies_are_refused_with_position_and_remedy() {
    let folder = tempfile::tempdir().unwrap();
    let service = filled(&folder.path().join("store"), 2);
    let rollup = |levels: Value| ("PUT", "/api/v1/datasets/main/rollups/default", json!({ "levels": levels }));
    let retention = |body: Value| ("POST", "/api/v1/retention", body);
    let cases = [
        (retention(json!({ "place": "nowhere", "limits": {} })), 404, "there is no dataset `nowhere`"),
        (retention(json!({ "place": "main::nothing", "limits": {} })), 404, "nothing"),
        (retention(json!({ "place": "main", "limits": { "keep_for": "ten days" } })), 400, "ten days"),
        (retention(json!({ "place": "main", "limits": { "keep_for": "0d" } })), 400, "longer than zero"),
        (retention(json!({ "place": "main", "limits": { "keep_under": "-4GB" } })), 400, "-4GB"),
        (retention(json!({ "place": "main", "limits": { "keep": "4GB" } })), 400, "keep_for"),
        (retention(json!({ "place": "main", "say": { "keep_for": "4d" } })), 400, "(`say` is called `limits` now)"),
        (retention(json!({ "where": "main" })), 400, "place"),
        (rollup(json!([])), 409, "1 to 8 levels"),
        (rollup(json!([{ "width": "7m" }, { "width": "1h" }])), 409, "1h is not a multiple of 7m"),
        (rollup(json!([{ "width": "1h" }, { "width": "5m" }])), 409, "multiple"),
        (rollup(json!([{ "width": "0s" }])), 400, "longer than zero"),
        (rollup(json!([{ "width": "soon" }])), 400, "soon"),
        (rollup(json!([{ "width": "1h", "keep_for": "1h 1x" }])), 400, "1x"),
        (("PUT", "/api/v1/datasets/main/rollups/no%20name", json!({ "levels": [{ "width": "1h" }] })), 409, "the policy\'s name holds"),
        (
            ("PUT", "/api/v1/datasets/main/rollups/default", json!({ "levels": [{ "width": "1h" }], "where": "lock = " })),
            409,
            "where: expected a text",
        ),
        (
            ("PUT", "/api/v1/datasets/main/rollups/default", json!({ "levels": [{ "width": "1h" }], "zone": "Velmar/Locks" })),
            409,
            "unknown time zone `Velmar/Locks`",
        ),
        (("PUT", "/api/v1/datasets/nowhere/rollups/default", json!({ "levels": [{ "width": "1h" }] })), 404, "nowhere"),
        (("POST", "/api/v1/storage/verify", json!({ "path": "data/main/none.db" })), 404, "data/main/none.db"),
        (("POST", "/api/v1/storage/verify", json!({ "path": "/etc/passwd" })), 404, "/etc/passwd"),
        (("POST", "/api/v1/storage/compact", json!({ "path": "../catalogue.db" })), 404, "../catalogue.db"),
        (("POST", "/api/v1/bin/d99/restore", json!({})), 404, "d99"),
    ];
    let mut otherwise = Vec::new();
    for ((method, path, body), status, part) in cases {
        let answer = if method == "PUT" { put(&service, path, &body) } else { post(&service, path, &body) };
        let detail = answer.json()["detail"].as_str().unwrap_or_default().to_owned();
        if (answer.status, answer.kind.as_str()) != (status, "application/problem+json") || !detail.contains(part) {
            otherwise.push(format!("{path} {body}: not {status} with {part:?}, but {} {detail}", answer.status));
        }
    }
    assert!(otherwise.is_empty(), "{}", otherwise.join("\n"));
    assert_eq!(get(&service, "/api/v1/datasets/main/rollups")["policies"], json!([]), "nothing was set");
    let limits = &get(&service, "/api/v1/retention?metrics=false")["places"];
    assert!(limits.as_array().unwrap().iter().all(|place| place["live"] == json!({})), "{limits}");
}

#[test]
fn damage_is_found_and_named_by_file_and_window() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store");
    let service = filled(&store, 10);
    roll_up(&service, &json!([{ "width": "1h" }]));
    let sound = service.run(&["storage", "verify"]);
    assert!(sound.code() == 0 && sound.out().contains("of 2,880 points, and 480 windows of rollups against"), "{}", sound.all());
    let storage = get(&service, "/api/v1/storage");
    let file = PathBuf::from(storage["datasets"][0]["levels"][0]["files"][0].as_str().unwrap());
    let partition = PathBuf::from(storage["datasets"][0]["partitions"][0]["path"].as_str().unwrap());
    assert_eq!(service.stop("-TERM"), Some(0));
    // Bytes in the middle of what is stored, as a failing disk changes them.
    for (spoilt, table) in [(&file, "windows"), (&partition, "block")] {
        let change = format!("UPDATE {table} SET bytes = CAST(substr(bytes, 1, 30) || x'5A5A' || substr(bytes, 33) AS BLOB) WHERE rowid = 1");
        assert_eq!(rusqlite::Connection::open(spoilt).unwrap().execute(&change, []).unwrap(), 1);
    }
    let service = Service::start(&store);
    let found = service.run(&["storage", "verify"]);
    let rendered = found.out();
    let name = |path: &Path| path.file_name().unwrap().to_str().unwrap().to_owned();
    assert!(
        found.code() == 1 && rendered.contains(&name(&file)) && rendered.contains(&name(&partition)) && rendered.contains("Nothing was changed"),
        "{}",
        found.all()
    );
    assert!(rendered.contains("is damaged"), "{rendered}");
}

#[test]
fn dropping_a_level_that_cannot_be_rebuilt_needs_consent() {
    let folder = tempfile::tempdir().unwrap();
    let service = filled(&folder.path().join("store"), 60);
    roll_up(&service, &json!([{ "width": "1h" }, { "width": "1d" }]));
    let set = |more: &str, policy: &Value| put(&service, &format!("/api/v1/datasets/main/rollups/default{more}"), policy);
    // As long as points are there, everything can be made again.
    let only_hours = json!({ "levels": [{ "width": "1h" }] });
    let preview = |policy: &Value| post(&service, "/api/v1/datasets/main/rollups/preview", policy).json()["losses"].as_array().unwrap().len();
    let only_days = json!({ "levels": [{ "width": "1d" }] });
    assert_eq!((preview(&only_hours), preview(&only_days)), (0, 0));
    let kept = post(&service, "/api/v1/retention", &json!({ "place": "main", "limits": { "keep_for": "20d" } }));
    assert_eq!(kept.status, 200, "{}", kept.text());
    let began = Instant::now();
    while get(&service, "/api/v1/bin").as_array().unwrap().len() < 5 {
        assert!(began.elapsed() < Duration::from_secs(30), "weeks go");
        std::thread::sleep(Duration::from_millis(100));
    }
    // Days are made of the hours that stay; hours of nothing.
    assert_eq!((preview(&only_hours), preview(&only_days)), (0, 1));
    let refused = set("", &only_days);
    let detail = refused.json()["detail"].as_str().unwrap().to_owned();
    assert!(refused.status == 409 && detail.contains("the level 1h of default would be lost") && detail.contains("accept_loss=true"), "{detail}");
    let other_zone = set("", &json!({ "levels": [{ "width": "1h" }, { "width": "1d" }], "zone": "Europe/Lisbon" }));
    assert_eq!(other_zone.status, 409, "{}", other_zone.text());
    let asked = service.run(&["rollup", "set", "--level", "1d"]);
    assert!(asked.code() == 2 && asked.out().contains("! the level 1h of default would be lost") && asked.err().contains("--yes"), "{}", asked.all());
    assert_eq!(levels(&service).len(), 2, "nothing was changed");
    // Other metrics are other series of the same levels: what was made stays.
    assert_eq!(set("", &json!({ "levels": [{ "width": "1h" }, { "width": "1d" }], "metrics": ["level"] })).status, 200);
    let days = service.run(&["ask", "show count of level over last 50d per 1d from 1d", "--output", "csv"]);
    assert!(days.code() == 0 && days.out().lines().filter(|line| line.contains(",144,")).count() >= 45, "{}", days.all());
    assert_eq!(service.run(&["rollup", "set", "--level", "1d", "--yes"]).code(), 0);
    assert_eq!(levels(&service).len(), 1);
    // Nor does a whole policy.
    let path = "/api/v1/datasets/main/rollups/default";
    let refused = service.delete(path);
    assert!(refused.status == 409 && refused.text().contains("the level 1d of default would be lost"), "{}", refused.text());
    let losses = get(&service, "/api/v1/datasets/main/rollups")["policies"][0]["losses"].clone();
    assert_eq!(losses.as_array().map(Vec::len), Some(1), "{losses}");
    let asked = service.run(&["rollup", "drop"]);
    assert!(asked.code() == 2 && asked.out().contains("! the level 1d of default would be lost"), "{}", asked.all());
    assert_eq!(service.delete(&format!("{path}?accept_loss=true")).status, 204);
    assert_eq!(get(&service, "/api/v1/datasets/main/rollups")["policies"], json!([]));
}

#[test]
fn level_savings_compare_with_their_own_metrics() {
    let folder = tempfile::tempdir().unwrap();
    let service = filled(&folder.path().join("store"), 40);
    // Another metric, a hundred times as large in room: it is no concern of a policy that does not take it.
    let hour = jiff::Timestamp::now().as_second() / 3_600 * 3_600;
    let noisy = |step: i64| {
        let at = jiff::Timestamp::from_second(hour - step * 60).unwrap();
        format!("{{\"metric\":\"noise\",\"time\":\"{at}\",\"value\":{}}}\n", (step as f64).sin())
    };
    service.push_lines("main", &(0..20_000).map(noisy).collect::<String>());
    assert_eq!(service.run(&["backup", &folder.path().join("again").display().to_string()]).code(), 0);
    let policy = json!({ "levels": [{ "width": "1h" }], "metrics": ["level"] });
    let preview = post(&service, "/api/v1/datasets/main/rollups/preview", &policy).json();
    let level = &preview["levels"][0];
    assert!(near(level["points_each"].as_f64().unwrap(), 6.0, 0.02), "{preview}");
    let all = post(&service, "/api/v1/datasets/main/rollups/preview", &json!({ "levels": [{ "width": "1h" }] })).json();
    assert!(all["levels"][0]["smaller"].as_f64() > level["smaller"].as_f64(), "{all} {preview}");
    set_and_fill(&service, &policy);
    let top = get(&service, "/api/v1/storage/top");
    let points = top.as_array().unwrap().iter().find(|size| size["metric"] == "level").unwrap()["bytes"].as_f64().unwrap() / 40.0;
    let a_day = get(&service, "/api/v1/storage")["datasets"][0]["levels"][0]["bytes_a_day"].as_f64().unwrap();
    let rendered = &levels(&service)[0];
    assert!(near(rendered["smaller"].as_f64().unwrap(), points / a_day, 0.02), "{rendered}, {points} to {a_day} bytes a day");
}

/// A service whose wall clock is what a file says: `+0`, or `+366d`.
fn with_a_clock(store: &Path, clock: &Path) -> Service {
    let library = ["/usr/lib/x86_64-linux-gnu", "/usr/lib/aarch64-linux-gnu", "/usr/lib"].map(|folder| format!("{folder}/faketime/libfaketime.so.1"));
    let library = library.iter().find(|path| Path::new(path).exists()).expect("Debian's package faketime is installed");
    let mut command = support::fenetre();
    command.args(["serve", "--listen", "127.0.0.1:0", "--store", &store.display().to_string()]);
    command.env("LD_PRELOAD", library).env("FAKETIME_TIMESTAMP_FILE", clock).env("FAKETIME_NO_CACHE", "1").env("FAKETIME_DONT_FAKE_MONOTONIC", "1");
    Service::start_command(&mut command)
}

#[test]
fn a_clock_jump_expires_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let (store, clock) = (folder.path().join("store"), folder.path().join("clock"));
    std::fs::write(&clock, "+0\n").unwrap();
    let service = with_a_clock(&store, &clock);
    service.push_lines("main", &history(3));
    // A backup packs everything first.
    assert_eq!(service.run(&["backup", &folder.path().join("copy").display().to_string()]).code(), 0);
    let set = service.run(&["retention", "set", "main", "--keep-for", "30d", "--yes"]);
    assert_eq!(set.code(), 0, "{}", set.all());
    let count = || {
        let asked = service.post(
            "/api/v1/datasets/main/ask",
            &[JSON],
            json!({ "query": "show count of level overall over 2020 to 2027-06-01" }).to_string().as_bytes(),
        );
        asked.json()["shows"][0]["lines"][0]["values"][0].clone()
    };
    let before = count();
    let expire = |order: Value| service.post("/api/v1/expire", &[JSON], order.to_string().as_bytes());
    assert_eq!(expire(json!({})).json()["done"], json!(true));
    std::fs::write(&clock, "+366d\n").unwrap();
    let refused = expire(json!({}));
    let detail = refused.json()["detail"].as_str().unwrap_or_default().to_owned();
    assert_eq!(refused.status, 409, "{}", refused.text());
    assert!(detail.contains("the system clock reads") && detail.contains("fenetre expire --accept-clock"), "{detail}");
    let warned = service.get("/api/v1/retention").json()["warnings"].to_string();
    assert!(warned.contains("the system clock reads"), "{warned}");
    assert_eq!(service.get("/api/v1/bin").json(), json!([]));
    // A point of a time that the clock should not have reached is kept, and is not the latest once it is right again.
    let ahead = service.post("/api/v1/datasets/main/points", &[JSON], br#"{"metric": "level", "tags": {"lock": "osier"}, "value": 7}"#);
    assert_eq!(ahead.status, 200, "{}", ahead.text());
    std::fs::write(&clock, "+0\n").unwrap();
    assert_eq!(expire(json!({})).json()["done"], json!(true));
    assert!(!service.get("/api/v1/retention").json()["warnings"].to_string().contains("the system clock reads"));
    let latest = service.get("/api/v1/datasets/main/latest?metric=level").json()["items"][0]["value"].clone();
    assert_ne!(latest, json!(7));
    assert_eq!(count(), before);
    // Whoever knows that it is right says so.
    std::fs::write(&clock, "+366d\n").unwrap();
    let ran = service.run(&["expire"]);
    assert!(ran.code() == 1 && ran.err().contains("--accept-clock"), "{}", ran.all());
    let accepted = service.run(&["expire", "--accept-clock"]);
    assert_eq!(accepted.code(), 0, "{}", accepted.all());
    assert!(accepted.out().contains("expired: "), "{}", accepted.all());
}

/// A point per second over two hours of a day: many enough that the week of each day becomes a partition of its own.
fn two_hours(day: &str) -> String {
    let line =
        |at: u32| format!("{{\"metric\":\"level\",\"time\":\"{day}T{:02}:{:02}:{:02}Z\",\"value\":{at}}}\n", at / 3_600, at / 60 % 60, at % 60);
    (0..7_200).map(line).collect()
}

#[test]
fn a_damaged_partition_fails_only_the_queries_that_need_it() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store");
    let service = Service::start(&store);
    service.push_lines("main", &(two_hours("2025-03-05") + &two_hours("2026-05-06")));
    assert_eq!(service.run(&["backup", &folder.path().join("whole").display().to_string()]).code(), 0);
    let partitions = service.get("/api/v1/storage").json()["datasets"][0]["partitions"].clone();
    assert!(partitions.as_array().unwrap().len() > 1, "{partitions}");
    let damaged = PathBuf::from(partitions[0]["path"].as_str().unwrap());
    assert_eq!(service.stop("-TERM"), Some(0));
    std::fs::write(&damaged, b"this is no database any more, and has not been one for long").unwrap();
    for suffix in ["-wal", "-shm"] {
        let _ = std::fs::remove_file(format!("{}{suffix}", damaged.display()));
    }
    let name = damaged.file_name().unwrap().to_str().unwrap();
    let service = Service::start(&store);
    for path in [
        "/health/ready",
        "/api/v1/overview",
        "/api/v1/datasets",
        "/api/v1/datasets/main/metrics",
        "/api/v1/datasets/main/latest",
        "/api/v1/retention",
        "/api/v1/storage/top",
    ] {
        let answer = service.get(path);
        assert_eq!(answer.status, 200, "{path}: {}", answer.text());
    }
    assert_eq!(service.post("/api/v1/expire", &[JSON], b"{}").status, 200);
    let warned = service.get("/api/v1/storage").json()["warnings"].to_string();
    assert!(warned.contains(name) && warned.contains("is damaged"), "{warned}");
    assert!(service.run(&["storage"]).all().contains(&format!("{name} is damaged")));
    let ask = |over: &str| {
        service.post("/api/v1/datasets/main/ask", &[JSON], json!({ "query": format!("show count of level over {over}") }).to_string().as_bytes())
    };
    assert_eq!(ask("2026-05").json()["shows"][0]["lines"][0]["values"], json!([7_200.0]));
    let refused = ask("2025-03");
    assert!(
        refused.status == 500 && refused.text().contains(name) && refused.text().contains("Restore the file from a backup"),
        "{}",
        refused.text()
    );
    let verified = service.run(&["storage", "verify"]);
    assert!(verified.code() == 1 && verified.all().contains(name), "{}", verified.all());
    // Points of now are kept, packed and backed up; the backup says what it lacks.
    service.push_lines("main", "{\"metric\":\"level\",\"time\":\"2026-05-07T00:00:00Z\",\"value\":1}\n");
    let partly = folder.path().join("partly");
    let ran = service.run(&["backup", &partly.display().to_string()]);
    assert!(ran.code() == 1 && ran.err().contains("the backup does not contain these damaged files") && ran.err().contains(name), "{}", ran.all());
    let again = folder.path().join("again");
    let restored = support::run(&["restore", &partly.display().to_string(), &again.display().to_string()]);
    assert_eq!(restored.code(), 0, "{}", restored.all());
    // The way out: the copy that the earlier backup has.
    drop(service);
    let copy = folder.path().join("whole/data/main").join(name);
    std::fs::copy(copy, &damaged).unwrap();
    let service = Service::start(&store);
    let all = service
        .post("/api/v1/datasets/main/ask", &[JSON], json!({ "query": "show count of level over 2025 to 2027-01-01" }).to_string().as_bytes())
        .json();
    assert_eq!(all["shows"][0]["lines"][0]["values"], json!([14_401.0]));
}

#[test]
fn a_missing_partition_is_reported_everywhere_until_accepted() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store");
    let service = Service::start(&store);
    service.push_lines("main", &(two_hours("2025-03-05") + &two_hours("2026-05-06")));
    assert_eq!(service.run(&["backup", &folder.path().join("whole").display().to_string()]).code(), 0);
    let lost = PathBuf::from(service.get("/api/v1/storage").json()["datasets"][0]["partitions"][0]["path"].as_str().unwrap());
    assert_eq!(service.stop("-TERM"), Some(0));
    for suffix in ["", "-wal", "-shm"] {
        let _ = std::fs::remove_file(format!("{}{suffix}", lost.display()));
    }
    let service = Service::start(&store);
    let name = lost.strip_prefix(&store).unwrap().to_str().unwrap().to_owned();
    let message = format!("{name} is missing or empty");
    assert!(service.run(&["storage"]).all().contains(&message));
    assert!(service.get("/api/v1/overview").json()["storage"]["warnings"].to_string().contains(&message));
    let verified = service.run(&["storage", "verify"]);
    assert!(verified.code() == 1 && verified.out().contains(&message), "{}", verified.all());
    // An answer over its time says that points are not there; one over another time says nothing.
    let ran = service.run(&["ask", "show count of level over 2025-03 per 1mo"]);
    assert!(ran.code() == 0 && ran.all().contains("no longer kept"), "{}", ran.all());
    assert!(!service.run(&["ask", "show count of level over 2026-05"]).all().contains("no longer kept"));
    let accepted = service.run(&["storage", "accept-loss", &name]);
    assert_eq!(accepted.code(), 0, "{}", accepted.all());
    assert_eq!(service.run(&["storage", "verify"]).code(), 0);
    assert!(service.run(&["ask", "show count of level over 2025-03 per 1mo"]).all().contains("no longer kept"));
    let again = service.run(&["storage", "accept-loss", &name]);
    assert!(again.code() == 1 && again.err().contains("is not a lost file"), "{}", again.all());
}
