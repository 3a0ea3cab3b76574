//! Every call of the API with every kind of caller, the life of tokens, sessions, and the record of changes.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::{
    collections::{BTreeMap, BTreeSet},
    io::Read,
    time::{Duration, Instant},
};

use proptest::prelude::*;
use serde_json::{Value, json};
use support::{Answer, Api, Service, problems};

const JSON: (&str, &str) = ("Content-Type", "application/json");
const LINES: (&str, &str) = ("Content-Type", "application/x-ndjson");

/// What each call requires: action, and whether on all metrics (`+`) or all datasets (`*`). `?` needs a caller that is recognised, and decides
/// for itself; `!` is the sign-in.
const REQUIRED: &str = "
GET    /health/live                                          ?
GET    /health/ready                                         ?
GET    /metrics                                              read*
GET    /api/v1/session                                       ?
POST   /api/v1/session                                       !
DELETE /api/v1/session                                       ?
GET    /api/v1/tokens                                        admin*
POST   /api/v1/tokens                                        admin*
POST   /api/v1/tokens/{token}/rotate                         admin*
POST   /api/v1/tokens/{token}/suspend                        admin*
POST   /api/v1/tokens/{token}/resume                         admin*
DELETE /api/v1/tokens/{token}                                admin*
GET    /api/v1/changes                                       define+
GET    /api/v1/overview                                      read
GET    /api/v1/jobs                                          ?
GET    /api/v1/storage                                       read+
GET    /api/v1/storage/top                                   read
POST   /api/v1/storage/verify                                read*
POST   /api/v1/storage/compact                               admin*
POST   /api/v1/storage/tidy                                  define+
POST   /api/v1/storage/accept-loss                           admin*
GET    /api/v1/retention                                     read+
POST   /api/v1/retention                                     define+
POST   /api/v1/retention/write-file                          admin*
POST   /api/v1/expire                                        define*
POST   /api/v1/datasets/{dataset}/rollups/preview            read+
POST   /api/v1/datasets/{dataset}/rollups/fill               define+
GET    /api/v1/datasets/{dataset}/rollups                    read+
PUT    /api/v1/datasets/{dataset}/rollups/{policy}           define+
DELETE /api/v1/datasets/{dataset}/rollups/{policy}           define+
POST   /api/v1/backup                                        admin*
GET    /api/v1/backup                                        admin*
DELETE /api/v1/backup                                        admin*
GET    /api/v1/datasets                                      read
PUT    /api/v1/datasets/{dataset}                            ?
GET    /api/v1/datasets/{dataset}/metrics                    read
POST   /api/v1/datasets/{dataset}/metrics                    define+
PUT    /api/v1/datasets/{dataset}/metrics/{metric}           define+
POST   /api/v1/datasets/{dataset}/rename                     admin+
GET    /api/v1/datasets/{dataset}/definitions.csv            read
POST   /api/v1/datasets/{dataset}/definitions.csv            define+
POST   /api/v1/datasets/{dataset}/metrics/{metric}/rename    define+
GET    /api/v1/datasets/{dataset}/tags                       read
PUT    /api/v1/datasets/{dataset}/tags/{key}                 define+
POST   /api/v1/datasets/{dataset}/tags/{key}/rename          define+
POST   /api/v1/forget-name                                   define+
GET    /api/v1/datasets/{dataset}/references                 read+
DELETE /api/v1/datasets/{dataset}/metrics/{metric}           define+
POST   /api/v1/datasets/{dataset}/points/delete              define+
GET    /api/v1/bin                                           read+
POST   /api/v1/bin/{id}/restore                              define+
DELETE /api/v1/bin/{id}                                      define+
GET    /api/v1/mappings                                      ?
GET    /api/v1/mappings/{name}                               read*
PUT    /api/v1/mappings/{name}                               define*
DELETE /api/v1/mappings/{name}                               define*
POST   /api/v1/datasets/{dataset}/imports                    write+
GET    /api/v1/imports                                       ?
GET    /api/v1/imports/{id}                                  ?
POST   /api/v1/imports/{id}/look                             ?
POST   /api/v1/imports/{id}/run                              ?
POST   /api/v1/imports/{id}/stop                             ?
DELETE /api/v1/imports/{id}                                  ?
GET    /api/v1/imports/{id}/rejects                          ?
GET    /api/v1/sources                                       read+
GET    /api/v1/source-examples                               read+
GET    /api/v1/pushing-callers                               read+
GET    /api/v1/secrets                                       admin*
PUT    /api/v1/secrets/{secret}                              admin*
DELETE /api/v1/secrets/{secret}                              admin*
POST   /api/v1/sources/try                                   admin*
GET    /api/v1/sources/{source}                              read+
GET    /api/v1/sources/{source}/events                       read+
PUT    /api/v1/sources/{source}                              admin*
DELETE /api/v1/sources/{source}                              admin*
POST   /api/v1/sources/{source}/pause                        admin*
POST   /api/v1/sources/{source}/resume                       admin*
POST   /api/v1/sources/{source}/run                          admin*
GET    /api/v1/sinks                                         read+
GET    /api/v1/sink-examples                                 read+
POST   /api/v1/sinks/try                                     admin*
GET    /api/v1/sinks/{sink}                                  read+
GET    /api/v1/sinks/{sink}/events                           read+
PUT    /api/v1/sinks/{sink}                                  admin*
DELETE /api/v1/sinks/{sink}                                  admin*
POST   /api/v1/sinks/{sink}/pause                            admin*
POST   /api/v1/sinks/{sink}/resume                           admin*
POST   /api/v1/sinks/{sink}/replay                           admin*
POST   /api/v1/sinks/{sink}/verify                           admin*
POST   /api/v1/sinks/{sink}/resend                           admin*
GET    /api/v1/sinks/{sink}/aside                            read+
GET    /api/v1/sinks/{sink}/aside/{batch}                    read+
DELETE /api/v1/sinks/{sink}/aside/{batch}                    admin*
GET    /api/v1/arrivals/refused                              read+
GET    /api/v1/arrivals/tail                                 read
POST   /v1/metrics                                           write
POST   /api/v1/datasets/{dataset}/otlp/v1/metrics            write
GET    /api/v1/datasets/{dataset}/series                     read
GET    /api/v1/datasets/{dataset}/latest                     read
POST   /api/v1/datasets/{dataset}/points                     write
GET    /api/v1/datasets/{dataset}/ask                        read
POST   /api/v1/datasets/{dataset}/ask                        read
POST   /api/v1/datasets/{dataset}/ask/check                  read
POST   /api/v1/datasets/{dataset}/ask/explain                read
POST   /api/v1/datasets/{dataset}/ask/complete               read
";

const ACTIONS: [&str; 4] = ["write", "read", "define", "admin"];

fn includes(granted: &str, needed: &str) -> bool {
    match granted {
        "admin" => true,
        "define" => needed != "admin",
        other => other == needed,
    }
}

/// Where something is required: the mark at the end of a row.
fn place_of(needed: &str) -> &str {
    &needed[needed.find(['*', '+', '?', '!']).unwrap_or(needed.len())..]
}

/// A service in which every caller needs a token, with a dataset, and the token of an administrator.
fn guarded(folder: &std::path::Path) -> (Service, String) {
    let text = "[store]\npath = \"store\"\n[listen]\naddress = \"127.0.0.1:0\"\n[log]\nlevel = \"error\"\n[access]\nloopback = \"tokens\"\n";
    let (service, admin) = (Service::configured(folder, text), admin_of(&folder.join("store")));
    until_admitted(&service, &admin);
    for dataset in ["velmar", "gauges"] {
        put(&service, &admin, &format!("/api/v1/datasets/{dataset}"), &json!({}));
    }
    (service, admin)
}

/// The first token, made beside the service as `fenetre token create --store` does.
fn admin_of(store: &std::path::Path) -> String {
    let records = fenetre_access::records::Records::open(store).unwrap();
    let rights = fenetre_access::token::Rights { grants: vec!["admin".parse().unwrap()], ..Default::default() };
    let (_, secret) = fenetre_access::registry::create(&records, "ops", rights, None, 1).unwrap();
    secret.token_text()
}

fn until_admitted(service: &Service, token: &str) {
    let begun = Instant::now();
    while service.call("GET", "/api/v1/session", Some(token), &[], b"").status != 200 {
        assert!(begun.elapsed() < Duration::from_secs(5), "a token that another process made is noticed within a second");
        std::thread::sleep(Duration::from_millis(50));
    }
}

fn put(service: &Service, token: &str, path: &str, body: &Value) {
    let answer = service.call("PUT", path, Some(token), &[JSON], body.to_string().as_bytes());
    assert_eq!(answer.status, 200, "{}", answer.text());
}

fn push(service: &Service, token: &str, dataset: &str, line: &Value) -> Answer {
    service.call("POST", &format!("/api/v1/datasets/{dataset}/points"), Some(token), &[LINES], line.to_string().as_bytes())
}

fn called(service: &Service, method: &str, path: &str, token: Option<&str>) -> (u16, String) {
    let path = path
        .replace("{dataset}", "velmar")
        .replace("{metric}", "nothing")
        .replace("{key}", "nothing")
        .replace("{policy}", "nothing")
        .replace("{source}", "nothing")
        .replace("{secret}", "nothing");
    let path = path.replace("{id}", "nothing").replace("{name}", "nothing").replace("{token}", "nothing");
    let headers: &[(&str, &str)] = if path.ends_with("v1/metrics") { &[JSON, ("Fenetre-Dataset", "velmar")] } else { &[JSON] };
    if path.ends_with("/tail") {
        // It never ends.
        return (service.open(method, &path, token, headers, b"").unwrap().status().as_u16(), String::new());
    }
    let answer = service.call(method, &path, token, headers, b"");
    (answer.status, answer.text())
}

#[test]
fn every_call_admits_exactly_who_may_make_it() {
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = guarded(folder.path());
    let token = |name: &str, more: Value| {
        let mut order = json!({ "name": name });
        order.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        service.token(Some(&admin), &order)
    };
    // Nobody: each with a reason of its own.
    let expired = token("expired", json!({ "grants": ["admin"], "expires": "1ms" }));
    let (revoked, suspended, rotated) = (
        token("revoked", json!({ "grants": ["admin"] })),
        token("suspended", json!({ "grants": ["admin"] })),
        token("rotated", json!({ "grants": ["admin"] })),
    );
    let far = token("far", json!({ "grants": ["admin"], "networks": ["192.0.2.0/24"] }));
    for (method, path) in
        [("DELETE", "/api/v1/tokens/revoked"), ("POST", "/api/v1/tokens/suspended/suspend"), ("POST", "/api/v1/tokens/rotated/rotate")]
    {
        assert_eq!(service.call(method, path, Some(&admin), &[], b"").status, 200);
    }
    let mistyped = format!("{}{}", &admin[..admin.len() - 1], if admin.ends_with('0') { "1" } else { "0" });
    let unknown = fenetre_access::secret::Secret::random().unwrap().token_text();
    let nobodies =
        [None, Some("nonsense"), Some(&mistyped), Some(&unknown), Some(&expired), Some(&revoked), Some(&suspended), Some(&rotated), Some(&far)];
    // Somebody: every action on this dataset, on another, and on all of them; and for one metric.
    let mut tokens: Vec<(String, &str, &str, String)> = Vec::new();
    for action in ACTIONS {
        for scope in ["velmar", "gauges", "*"] {
            let name = format!("{action}-{}", scope.replace('*', "all"));
            let secret = token(&name, json!({ "grants": [format!("{action}:{scope}")] }));
            tokens.push((name, action, scope, secret));
        }
    }
    let narrow = token("narrow", json!({ "grants": ["read:velmar", "write:velmar"], "metrics": ["level"] }));
    let description = service.call("GET", "/api/v1/openapi.json", Some(&admin), &[], b"").json();
    let mut rows: BTreeSet<(String, String)> = BTreeSet::new();
    for row in REQUIRED.lines().filter(|row| !row.is_empty()) {
        let [method, path, needed] = row.split_whitespace().collect::<Vec<_>>()[..] else { panic!("{row}") };
        rows.insert((path.to_owned(), method.to_lowercase()));
        for nobody in nobodies {
            let (status, text) = called(&service, method, path, nobody);
            // Sign-ins that fail are slowed down, too.
            assert!(status == 401 || place_of(needed) == "!" && status == 429, "{method} {path} without a token that works: {status} {text}");
        }
        let documented = &description["paths"][path][method.to_lowercase()]["security"][0]["token"];
        let (action, place) = (needed.trim_end_matches(place_of(needed)), place_of(needed));
        let scope = match (action, place) {
            ("", _) => json!([]),
            (action, "*") => json!([format!("{action}, all datasets")]),
            (action, "+") if action == "read" || action == "write" => json!([format!("{action}, all metrics")]),
            (action, _) => json!([action]),
        };
        assert_eq!(*documented, scope, "{method} {path} is described as it is");
        if place == "!" {
            continue;
        }
        for (name, granted, on, secret) in &tokens {
            let (status, text) = called(&service, method, path, Some(secret));
            let is_enough = includes(granted, action) || place == "?";
            let is_named = path.contains("{dataset}") && place != "?" || path == "/v1/metrics";
            let wanted = match *on {
                "*" if place == "*" && is_enough => "done",
                _ if place == "*" => "lacks",
                // A dataset that may not be seen does not exist, whatever the caller may do elsewhere.
                "gauges" if is_named && (is_enough || path != "/v1/metrics") => "hidden",
                _ if is_enough => "done",
                _ => "lacks",
            };
            let found = match status {
                401 => "nobody",
                403 if text.is_empty() || text.contains("this needs the grant") => "lacks",
                404 if text.contains("urn:fenetre:problem:no-dataset") => "hidden",
                _ => "done",
            };
            // Calls that decide for themselves may refuse; they are tried one by one below.
            assert!(found == wanted || place == "?" && found != "nobody", "{method} {path} by {name}: {found}, not {wanted}: {status} {text}");
        }
        let (status, text) = called(&service, method, path, Some(&narrow));
        let is_refused = place == "+" || place == "*" || action == "define" || action == "admin";
        assert!(place == "?" || (status == 403) == is_refused, "{method} {path} for one metric: {status} {text}");
    }
    let paths = description["paths"].as_object().unwrap();
    let all: BTreeSet<(String, String)> =
        paths.iter().flat_map(|(path, methods)| methods.as_object().unwrap().keys().map(|method| (path.clone(), method.clone()))).collect();
    assert_eq!(rows, all, "every call has a row in the table");
}

#[test]
fn refusals_say_what_is_missing() {
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = guarded(folder.path());
    let board = service.token(Some(&admin), &json!({ "name": "board", "grants": ["read:velmar"] }));
    let gateway = service.token(Some(&admin), &json!({ "name": "gateway", "grants": ["write:velmar"], "metrics": ["level"] }));
    let get = |path: &str, token: Option<&str>| service.call("GET", path, token, &[], b"");
    let none = get("/api/v1/datasets", None);
    assert_eq!(none.header("www-authenticate"), Some("Bearer realm=\"fenetre\""));
    let wrong = get("/api/v1/datasets", Some(&fenetre_access::secret::Secret::random().unwrap().token_text()));
    assert_eq!(wrong.header("www-authenticate"), Some("Bearer realm=\"fenetre\", error=\"invalid_token\""));
    let order = |order: Value| service.call("POST", "/api/v1/tokens", Some(&admin), &[JSON], order.to_string().as_bytes());
    let answers = [
        none,
        wrong,
        get("/api/v1/datasets", Some("fenetre_abc")),
        get("/api/v1/datasets/gauges/metrics", Some(&board)),
        get("/api/v1/datasets/nowhere/metrics", Some(&board)),
        get("/api/v1/tokens", Some(&board)),
        service.call("PUT", "/api/v1/datasets/velmar/metrics/level", Some(&board), &[JSON], b"{}"),
        service.call("PUT", "/api/v1/datasets/gauges", Some(&board), &[JSON], b"{}"),
        service.call("PUT", "/api/v1/datasets/nowhere", Some(&board), &[JSON], b"{}"),
        push(&service, &board, "velmar", &json!({ "metric": "level", "value": 1 })),
        push(&service, &gateway, "velmar", &json!({ "metric": "flow", "value": 1 })),
        get("/api/v1/datasets/velmar/latest", Some(&gateway)),
        order(json!({ "name": "board", "grants": ["read"] })),
        order(json!({ "name": "x y", "grants": ["read"] })),
        order(json!({ "name": "x", "grants": [] })),
        order(json!({ "name": "x", "grants": ["reed:velmar"] })),
        order(json!({ "name": "x", "grants": ["read"], "expires": "soon" })),
        order(json!({ "name": "x", "grants": ["read"], "networks": ["nearby"] })),
        order(json!({ "name": "x", "grants": ["define"], "metrics": ["level"] })),
        service.call("POST", "/api/v1/tokens/nobody/rotate", Some(&admin), &[], b""),
        get("/api/v1/changes?what=weather", Some(&admin)),
        get("/api/v1/changes?since=lately", Some(&admin)),
    ];
    insta::assert_snapshot!(problems(&answers));
}

#[test]
fn a_gateway_writes_and_reads_nothing_back() {
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = guarded(folder.path());
    let gateway = service.token(Some(&admin), &json!({ "name": "gateway", "grants": ["write:velmar"] }));
    let pushed = push(&service, &gateway, "velmar", &json!({ "metric": "level", "tags": { "lock": "osier" }, "value": 312.5 }));
    assert_eq!((pushed.status, pushed.json()["accepted"].as_u64()), (200, Some(1)), "{}", pushed.text());
    let get = |path: &str| service.call("GET", path, Some(&gateway), &[], b"");
    for path in ["metrics", "series", "latest", "tags", "ask?query=show%20last%20of%20level", "definitions.csv", "rollups"] {
        let answer = get(&format!("/api/v1/datasets/velmar/{path}"));
        assert_eq!(answer.status, 403, "{path}: {}", answer.text());
    }
    for path in ["/api/v1/imports", "/api/v1/mappings", "/api/v1/jobs"] {
        assert_eq!(get(path).json(), json!([]), "{path}");
    }
    // It may follow its own imports only.
    let own = service.call("POST", "/api/v1/datasets/velmar/imports?file=a.csv", Some(&gateway), &[], b"time,level\n2026-05-01T09:00:00Z,1\n").ok();
    let other =
        service.call("POST", "/api/v1/datasets/velmar/imports?file=b.csv", Some(&admin), &[], b"time,level\n2026-05-01T09:00:00Z,secret\n").ok();
    let path = |import: &Value| format!("/api/v1/imports/{}", import["id"].as_str().unwrap());
    assert_eq!((get(&path(&own)).status, get(&path(&other)).status), (200, 404));
    let order = json!({ "mapping": { "columns": [{ "column": "level", "role": "value" }] } }).to_string();
    let run = service.call("POST", &format!("{}/run", path(&own)), Some(&gateway), &[JSON], order.as_bytes());
    assert_eq!(run.status, 202, "{}", run.text());
    assert_eq!(get("/api/v1/imports").json().as_array().unwrap().len(), 1);
    let note = service.call("POST", "/api/v1/tokens", Some(&admin), &[JSON], br#"{"name":"early","grants":["read:velmr"]}"#).json();
    assert_eq!(note["notes"][0], "there is no dataset `velmr` yet: did you mean `velmar`?");
}

#[test]
fn limits_of_a_token_hold() {
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = guarded(folder.path());
    let lines: String = (0..50).map(|at| format!("{{\"metric\":\"level\",\"tags\":{{\"lock\":\"l{at}\"}},\"value\":{at}}}\n")).collect();
    let points = "/api/v1/datasets/velmar/points";
    let slow = service.token(Some(&admin), &json!({ "name": "slow", "grants": ["write"], "limits": { "points_per_second": 5 } }));
    assert_eq!(service.call("POST", points, Some(&slow), &[LINES], lines.as_bytes()).status, 200);
    let refused = service.call("POST", points, Some(&slow), &[LINES], lines.as_bytes());
    let wait: u32 = refused.header("retry-after").unwrap().parse().unwrap();
    assert_eq!((refused.status, (7..=9).contains(&wait)), (429, true), "{wait} {}", refused.text());
    assert!(refused.problem().starts_with("429 rate: the token `slow` is limited to 5 points per second"), "{}", refused.text());
    let narrow =
        service.token(Some(&admin), &json!({ "name": "narrow", "grants": ["read"], "limits": { "query_series": 10, "queries_per_second": 1 } }));
    let ask =
        || service.call("GET", "/api/v1/datasets/velmar/ask?query=show%20last%20of%20level%20overall%20over%20last%201h", Some(&narrow), &[], b"");
    let answers: Vec<Answer> = (0..3).map(|_| ask()).collect();
    assert_eq!(answers[0].status, 422, "{}", answers[0].text());
    assert_eq!(answers[2].status, 429, "{}", answers[2].text());
}

/// A token for some metrics is shown them, and counts of them, only.
#[test]
fn a_token_for_some_metrics_sees_no_other() {
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = guarded(folder.path());
    for (metric, tag) in [("level", "side"), ("flow_a", "pipe"), ("flow_b", "pipe")] {
        assert_eq!(push(&service, &admin, "velmar", &json!({ "metric": metric, "tags": { tag: metric }, "value": 1 })).status, 200);
    }
    let study = service.token(Some(&admin), &json!({ "name": "study", "grants": ["read:velmar", "write:velmar"], "metrics": ["flow_*"] }));
    let get = |path: &str| service.call("GET", path, Some(&study), &[], b"");
    for path in [
        "/api/v1/datasets",
        "/api/v1/overview",
        "/api/v1/storage/top",
        "/api/v1/datasets/velmar/metrics",
        "/api/v1/datasets/velmar/tags",
        "/api/v1/datasets/velmar/series",
        "/api/v1/datasets/velmar/latest",
        "/api/v1/datasets/velmar/definitions.csv",
        "/api/v1/datasets/velmar/tags?metric=level",
        "/api/v1/datasets/velmar/latest?metric=levle",
        "/api/v1/datasets/velmar/ask?query=show%20mean%20of%20level",
    ] {
        let text = get(path).text().replace("`level`", "").replace("mean of level", "");
        assert!(!text.contains("\"level\"") && !text.contains("side") && !text.contains("level,"), "{path}: {text}");
    }
    assert_eq!(get("/api/v1/datasets").json()[0]["points"], json!(2));
    assert_eq!((get("/api/v1/overview").json()["points"].clone(), get("/api/v1/overview").json()["series"].clone()), (json!(2), json!(2)));
    let complete = json!({ "query": "show mean of " }).to_string();
    let completed = service.call("POST", "/api/v1/datasets/velmar/ask/complete", Some(&study), &[JSON], complete.as_bytes()).text();
    assert!(completed.contains("flow_a") && !completed.contains("level"), "{completed}");
    let mixed = "{\"metric\":\"flow_a\",\"value\":2}\n{\"metric\":\"level\",\"value\":2}\n";
    let pushed = service.call("POST", "/api/v1/datasets/velmar/points", Some(&study), &[LINES], mixed.as_bytes()).ok();
    assert_eq!((&pushed["accepted"], &pushed["rejected"]), (&json!(1), &json!(1)), "{pushed}");
    assert!(pushed["rejects"][0]["reason"].as_str().unwrap().contains("may not write the metric `level`"), "{pushed}");
}

#[test]
fn a_revoked_token_ends_its_streams_within_a_second() {
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = guarded(folder.path());
    let board = service.token(Some(&admin), &json!({ "name": "board", "grants": ["read:velmar"] }));
    let mut tail = service.open("GET", "/api/v1/arrivals/tail?dataset=velmar", Some(&board), &[], b"").unwrap().into_body().into_reader();
    let mut first = [0; 16];
    tail.read_exact(&mut first).unwrap();
    assert_eq!(service.call("DELETE", "/api/v1/tokens/board", Some(&admin), &[], b"").status, 200);
    let revoked = Instant::now();
    // The rest of what was sent, then the end, which is no orderly one.
    let ended = tail.read_to_end(&mut Vec::new());
    assert!(revoked.elapsed() < Duration::from_secs(1), "{:?}", revoked.elapsed());
    assert!(ended.is_err(), "a body that was cut is not taken for a whole one");
    assert_eq!(
        service.call("GET", "/api/v1/session", Some(&board), &[], b"").problem(),
        "401 token: the token `board` was revoked: an administrator can create another"
    );
}

#[test]
fn a_token_that_ends_soon_is_a_warning() {
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = guarded(folder.path());
    service.token(Some(&admin), &json!({ "name": "board", "grants": ["read"], "expires": "3d" }));
    service.token(Some(&admin), &json!({ "name": "gateway", "grants": ["write"], "expires": "90d" }));
    let warnings = service.call("GET", "/api/v1/overview", Some(&admin), &[], b"").json()["storage"]["warnings"].clone();
    let texts: Vec<&str> = warnings.as_array().unwrap().iter().map(|warning| warning.as_str().unwrap()).collect();
    assert!(texts.len() == 1 && texts[0].starts_with("the token `board` expires at "), "{texts:?}");
}

#[test]
fn a_session_is_a_cookie_that_scripts_cannot_use() {
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = guarded(folder.path());
    let begun = service.call("POST", "/api/v1/session", Some(&admin), &[], b"");
    assert_eq!(begun.status, 201, "{}", begun.text());
    let set = begun.header("set-cookie").unwrap().to_owned();
    for part in ["fenetre-session=", "HttpOnly", "SameSite=Strict", "Path=/", "Max-Age=43200"] {
        assert!(set.contains(part), "{set}");
    }
    assert!(!set.contains(&admin[8..72]));
    let cookie = set.split(';').next().unwrap().to_owned();
    let by = |method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]| {
        let all: Vec<(&str, &str)> = std::iter::once(("Cookie", cookie.as_str())).chain(headers.iter().copied()).collect();
        service.call(method, path, None, &all, body)
    };
    assert_eq!(by("GET", "/api/v1/session", &[], b"").json()["kind"], "session");
    let own = service.url.clone();
    let create = |headers: &[(&str, &str)]| by("PUT", "/api/v1/datasets/fresh", &[&[JSON], headers].concat(), b"{}");
    assert_eq!(create(&[("Origin", own.as_str())]).status, 200);
    assert_eq!(create(&[("Origin", "https://evil.example")]).status, 403);
    assert!(create(&[]).problem().contains("must name its Origin"));
    assert_eq!(create(&[("Origin", own.as_str()), ("Sec-Fetch-Site", "cross-site")]).status, 403);
    // Who signs out leaves nothing behind.
    assert_eq!(by("DELETE", "/api/v1/session", &[("Origin", own.as_str())], b"").status, 204);
    assert_eq!(by("GET", "/api/v1/session", &[], b"").status, 401);
}

#[test]
fn failed_sign_ins_are_slowed_down() {
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = guarded(folder.path());
    let wrong = fenetre_access::secret::Secret::random().unwrap().token_text();
    let statuses: Vec<u16> = (0..7).map(|_| service.call("POST", "/api/v1/session", Some(&wrong), &[], b"").status).collect();
    assert_eq!(statuses, [401, 401, 401, 401, 401, 429, 429]);
    let right = service.call("POST", "/api/v1/session", Some(&admin), &[], b"");
    assert_eq!((right.status, right.header("retry-after").is_some()), (429, true));
    // Programs with a token are not held up.
    assert_eq!(service.call("GET", "/api/v1/session", Some(&admin), &[], b"").status, 200);
}

#[test]
fn changes_are_recorded_with_who_where_and_what_it_was() {
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = guarded(folder.path());
    put(&service, &admin, "/api/v1/datasets/velmar/metrics/level", &json!({ "unit": "cm" }));
    let engineer = service.token(Some(&admin), &json!({ "name": "engineer", "grants": ["define:velmar"] }));
    put(&service, &engineer, "/api/v1/datasets/velmar/metrics/level", &json!({ "unit": "cm", "description": "above the sill" }));
    let limit = json!({ "place": "velmar", "limits": { "keep_for": "90d" } });
    let set = service.call("POST", "/api/v1/retention", Some(&engineer), &[JSON], limit.to_string().as_bytes());
    assert_eq!(set.status, 200, "{}", set.text());
    put(&service, &engineer, "/api/v1/datasets/velmar/tags/lock", &json!({ "required": true }));
    put(&service, &engineer, "/api/v1/datasets/velmar/rollups/hourly", &json!({ "levels": [{ "width": "1h" }] }));
    let rename = |to: &str| {
        service.call("POST", "/api/v1/datasets/velmar/metrics/level/rename", Some(&engineer), &[JSON], json!({ "to": to }).to_string().as_bytes())
    };
    assert_eq!(rename("depth").status, 200);
    assert_eq!(service.call("DELETE", "/api/v1/datasets/velmar/metrics/depth", Some(&engineer), &[], b"").status, 200);
    assert_eq!(service.call("DELETE", "/api/v1/datasets/gauges/metrics/flow", Some(&engineer), &[], b"").status, 404);
    let changes = |token: &str, query: &str| service.call("GET", &format!("/api/v1/changes{query}"), Some(token), &[], b"").ok();
    let told = |page: &Value| {
        let line = |change: &Value| {
            let value = |name: &str| if change[name].is_null() { "–".to_owned() } else { change[name].to_string() };
            let text = |name: &str| change[name].as_str().unwrap_or("–").to_owned();
            format!(
                "{} {}: {} {} {}: {} → {}",
                text("who"),
                text("address"),
                text("subject"),
                text("act"),
                text("object"),
                value("before"),
                value("after")
            )
        };
        // How often the test had to look until its token was noticed is recorded too.
        let all = page["items"].as_array().unwrap().iter().filter(|change| change["subject"] != "call");
        all.map(line).collect::<Vec<_>>().join("\n")
    };
    insta::assert_snapshot!(told(&changes(&admin, "")));
    // A caller with `define` on one dataset sees the changes of that dataset.
    let seen = changes(&engineer, "");
    assert!(seen["items"].as_array().unwrap().iter().all(|change| change["dataset"] == "velmar"), "{seen}");
    let page = changes(&admin, "?limit=2&what=metric");
    let next = page["next"].as_i64().unwrap();
    let rest = changes(&admin, &format!("?what=metric&before={next}"));
    assert_eq!((page["items"].as_array().unwrap().len(), rest["items"].as_array().unwrap().len(), &rest["next"]), (2, 2, &Value::Null));
    assert_eq!(changes(&admin, "?who=engineer&what=tag")["items"].as_array().unwrap().len(), 1);
}

#[test]
fn refused_calls_are_recorded_without_secrets() {
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = guarded(folder.path());
    let board = service.token(Some(&admin), &json!({ "name": "board", "grants": ["read:velmar"] }));
    assert_eq!(service.call("GET", "/api/v1/tokens", Some(&board), &[], b"").status, 403);
    assert_eq!(service.call("GET", "/api/v1/tokens", None, &[], b"").status, 401);
    let begun = Instant::now();
    let found = loop {
        let page = service.call("GET", "/api/v1/changes?what=call", Some(&admin), &[], b"").ok();
        if page["items"].as_array().unwrap().iter().any(|change| change["who"] == "board") {
            break page;
        }
        assert!(begun.elapsed() < Duration::from_secs(5), "{page}");
        std::thread::sleep(Duration::from_millis(100));
    };
    let refused = found["items"].as_array().unwrap().iter().find(|change| change["who"] == "board").unwrap();
    assert_eq!((&refused["object"], &refused["after"]["status"]), (&json!("GET /api/v1/tokens"), &json!(403)));
    assert!(!found.to_string().contains(&board[8..]));
}

const DATASETS: [&str; 3] = ["alder", "birch_1", "birch_2"];

/// A store with distinct names and numbers in each dataset.
fn planted() -> (tempfile::TempDir, Service, String) {
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = guarded(folder.path());
    for (at, dataset) in DATASETS.iter().enumerate() {
        put(&service, &admin, &format!("/api/v1/datasets/{dataset}"), &json!({ "description": format!("about_{at}x") }));
        for point in 0..=at {
            let line = json!({ "metric": format!("metric_{at}x"), "tags": { format!("key_{at}x"): format!("value_{at}x") }, "value": 770_001 + at,
                "time": format!("2026-05-01T09:0{point}:00Z") });
            assert_eq!(push(&service, &admin, dataset, &line).status, 200);
        }
        let rejected = push(&service, &admin, dataset, &json!({ "metric": format!("bad_{at}x"), "value": "x", "time": format!("never_{at}x") }));
        assert_eq!(rejected.status, 422, "{}", rejected.text());
        let put_rollup = format!("/api/v1/datasets/{dataset}/rollups/rollup_{at}x");
        put(&service, &admin, &put_rollup, &json!({ "levels": [{ "width": "1h" }] }));
        let import = format!("/api/v1/datasets/{dataset}/imports?file=file_{at}x.csv");
        assert_eq!(service.call("POST", &import, Some(&admin), &[], b"time,level\n2026-05-01T09:00:00Z,1\n").status, 201);
        let gone = format!("/api/v1/datasets/{dataset}/metrics/gone_{at}x");
        put(&service, &admin, &gone, &json!({}));
        assert_eq!(service.call("DELETE", &gone, Some(&admin), &[], b"").status, 200);
    }
    for (at, dataset) in DATASETS.iter().enumerate() {
        let definition = json!({ "kind": "folder", "dataset": dataset, "path": format!("/nowhere/source_{at}x"), "paused": true });
        put(&service, &admin, &format!("/api/v1/sources/source_{at}x"), &definition);
        let definition = json!({ "kind": "files", "dataset": dataset, "path": format!("/nowhere/sink_{at}x"), "paused": true });
        put(&service, &admin, &format!("/api/v1/sinks/sink_{at}x"), &definition);
    }
    put(&service, &admin, "/api/v1/mappings/mapping_9x", &json!({ "time": { "column": "mapped_9x" } }));
    (folder, service, admin)
}

#[test]
fn no_answer_shows_more_than_was_granted() {
    let (_folder, service, admin) = planted();
    let names: BTreeMap<&str, Vec<String>> = DATASETS
        .iter()
        .enumerate()
        .map(|(at, dataset)| (*dataset, vec![(*dataset).to_owned(), format!("_{at}x"), format!("{}", 770_001 + at)]))
        .collect();
    let paths = |dataset: &str| {
        [
            "metrics",
            "series",
            "latest",
            "tags",
            "definitions.csv",
            "rollups",
            "references",
            "ask?query=show%20mean%20of%20nothing",
            "ask?query=show%20count%20of%20nothing::nothing",
        ]
        .map(|call| format!("/api/v1/datasets/{dataset}/{call}"))
    };
    let general = [
        "/api/v1/datasets",
        "/api/v1/overview",
        "/api/v1/storage",
        "/api/v1/storage/top",
        "/api/v1/retention",
        "/api/v1/jobs",
        "/api/v1/imports",
        "/api/v1/bin",
        "/api/v1/mappings",
        "/api/v1/mappings/none",
        "/api/v1/arrivals/refused",
        "/api/v1/session",
        "/api/v1/changes",
        "/api/v1/tokens",
        "/api/v1/backup",
        "/api/v1/sources",
        "/api/v1/sinks",
        "/api/v1/datasets/nowhere/metrics",
    ];
    let number = std::cell::Cell::new(0);
    let mut runner = proptest::test_runner::TestRunner::new(ProptestConfig { cases: 12, ..ProptestConfig::default() });
    let scope = prop_oneof![Just("alder"), Just("birch_1"), Just("birch_2"), Just("birch_*"), Just("*_2"), Just("nowhere")];
    let grant = (prop_oneof![Just("read"), Just("write"), Just("define"), Just("admin")], scope);
    runner
        .run(&proptest::collection::vec(grant, 1..4), |grants| {
            number.set(number.get() + 1);
            let texts: Vec<String> = grants.iter().map(|(action, scope)| format!("{action}:{scope}")).collect();
            let token = service.token(Some(&admin), &json!({ "name": format!("case-{}", number.get()), "grants": texts }));
            let fits = |dataset: &str, scope: &str| fenetre_core::pattern::fits(scope, dataset);
            let may_read = |dataset: &str| grants.iter().any(|(action, scope)| *action != "write" && fits(dataset, scope));
            let is_known = |dataset: &str| grants.iter().any(|(_, scope)| fits(dataset, scope));
            for path in general.iter().map(|path| (*path).to_owned()).chain(DATASETS.iter().flat_map(|dataset| paths(dataset))) {
                let text = service.call("GET", &path, Some(&token), &[], b"").text();
                for (dataset, marks) in &names {
                    // A name that the caller wrote itself comes back to it, as does that of a dataset that it may write.
                    let marks = &marks[usize::from(is_known(dataset) || path.contains(dataset) || path.ends_with("/session"))..];
                    if let Some(mark) = marks.iter().find(|mark| !may_read(dataset) && text.contains(mark.as_str())) {
                        return Err(TestCaseError::fail(format!("{path} shows {mark} of {dataset} to {texts:?}: {text}")));
                    }
                }
                prop_assert!(!text.contains("9x"), "{} shows a mapping to {:?}: {}", path, texts, text);
            }
            let overview = service.call("GET", "/api/v1/overview", Some(&token), &[], b"");
            let readable: Vec<usize> = (0..3).filter(|at| may_read(DATASETS[*at])).collect();
            if overview.status == 200 {
                let points: usize = readable.iter().map(|at| at + 1).sum();
                prop_assert_eq!(&overview.json()["points"], &json!(points));
                prop_assert_eq!(&overview.json()["datasets"], &json!(readable.len()));
            }
            // One dataset's grant is no key to another through a query.
            for (at, dataset) in DATASETS.iter().enumerate() {
                for home in DATASETS.iter().filter(|home| may_read(home)) {
                    let query = format!(
                        "/api/v1/datasets/{home}/ask?query=show%20last%20of%20{dataset}::metric_{at}x%20overall%20over%202026-05-01%20to%20now"
                    );
                    let answer = service.call("GET", &query, Some(&token), &[], b"");
                    prop_assert_eq!(answer.status == 200, may_read(dataset), "{} {}", query, answer.text());
                }
            }
            Ok(())
        })
        .unwrap();
}

#[test]
fn loopback_stays_open_and_a_token_narrows_it() {
    let service = Service::start();
    service.push_levels("main");
    let own = service.get("/api/v1/session").ok();
    assert_eq!((&own["who"], &own["grants"], &own["is_open"]), (&json!("this machine"), &json!(["admin"]), &json!(true)));
    let board = service.token(None, &json!({ "name": "board", "grants": ["read:main"] }));
    assert_eq!(service.call("GET", "/api/v1/datasets/main/metrics", Some(&board), &[], b"").status, 200);
    assert_eq!(service.call("GET", "/api/v1/tokens", Some(&board), &[], b"").status, 403);
    assert_eq!(service.get("/api/v1/tokens").ok()[0]["name"], "board");
    // The name that leads here by a page's own address is not this machine's.
    let answer = service.call("GET", "/api/v1/session", None, &[("Host", "evil.example")], b"");
    assert!(answer.problem().contains("host `evil.example` is not allowed"), "{}", answer.text());
}

#[test]
fn answers_are_guarded_by_headers() {
    let service = Service::start();
    let api = service.get("/api/v1/datasets");
    let page = service.get("/");
    for (answer, name, wanted) in [
        (&api, "cache-control", "no-store"),
        (&api, "x-content-type-options", "nosniff"),
        (&api, "referrer-policy", "no-referrer"),
        (&api, "x-frame-options", "DENY"),
        (&api, "content-security-policy", "default-src 'none'; frame-ancestors 'none'"),
        (&page, "cache-control", "no-store"),
        (&page, "x-frame-options", "DENY"),
    ] {
        assert_eq!(answer.header(name), Some(wanted), "{name}");
    }
    assert!(page.header("content-security-policy").unwrap().contains("frame-ancestors 'none'"));
    let refused = service.get("/api/v1/datasets/nowhere/metrics");
    assert_eq!(refused.header("fenetre-request"), refused.json()["request"].as_str());
}
