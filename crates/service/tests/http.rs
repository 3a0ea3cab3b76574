//! The API over HTTP: bodies of every type and encoding, problem details, access, and the description that the service gives of itself.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::{
    io::{Read, Write},
    net::TcpStream,
};

use serde_json::{Value, json};
use support::{Api, Service, an_hour_of_levels};

const POINTS: &str = "/api/v1/datasets/main/points";
const JSON: (&str, &str) = ("Content-Type", "application/json");
const LINES: (&str, &str) = ("Content-Type", "application/x-ndjson");
const CSV: (&str, &str) = ("Content-Type", "text/csv");

fn ask(service: &Service, query: &str) -> Value {
    let answer = service.post("/api/v1/datasets/main/ask", &[JSON], json!({ "query": query }).to_string().as_bytes());
    assert_eq!(answer.status, 200, "{}", answer.text());
    answer.json()
}

fn count(service: &Service, metric: &str) -> Value {
    ask(service, &format!("show count of {metric} overall over 2026-01-01 to now"))["shows"][0]["lines"][0]["values"][0].clone()
}

#[test]
fn points_arrive_as_an_object_lines_or_a_table() {
    let service = Service::start();
    let one = service.post(POINTS, &[JSON], br#"{"metric": "level", "tags": {"lock": "osier"}, "value": 312.5}"#);
    assert_eq!((one.status, one.json()["accepted"].as_u64(), one.json()["new_metrics"].clone()), (200, Some(1), json!(["level"])));
    let several = service.post(
        POINTS,
        &[JSON],
        br#"{"tags": {"lock": "marl"}, "time": "2026-05-01T09:00:00Z", "values": {"level": 280, "flow": 4.5, "gate": "open"}}"#,
    );
    assert_eq!(several.json()["accepted"], 3);
    let lines = service.post(POINTS, &[LINES], b"{\"metric\": \"level\", \"value\": 1}\nnot json\n{\"metric\": \"level\", \"value\": \"high\"}\n");
    assert_eq!(lines.status, 200);
    insta::assert_snapshot!(serde_json::to_string_pretty(&lines.json()).unwrap());
    let table = service.post(
        &format!("{POINTS}?tag=lock&tag=side&value=level_cm%3Dlevel&state=gate&const=reach%3Dupper"),
        &[CSV],
        an_hour_of_levels().as_bytes(),
    );
    assert_eq!(table.json()["accepted"], 240, "{}", table.text());
    assert_eq!(count(&service, "level"), json!(1.0 + 1.0 + 1.0 + 120.0));
}

#[test]
fn bodies_may_be_compressed_and_are_bounded() {
    let folder = tempfile::tempdir().unwrap();
    let config = "[store]\npath = \"store\"\n[listen]\naddress = \"127.0.0.1:0\"\n[limits]\nmax_body_bytes = 20000\nmax_decompressed_bytes = 50000\n";
    let service = Service::configured(folder.path(), config);
    let gzip = |bytes: &[u8]| {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
        encoder.write_all(bytes).unwrap();
        encoder.finish().unwrap()
    };
    let line = b"{\"metric\": \"level\", \"value\": 1}\n";
    let packed = service.post(POINTS, &[LINES, ("Content-Encoding", "gzip")], &gzip(&line.repeat(500)));
    assert_eq!((packed.status, packed.json()["accepted"].as_u64()), (200, Some(500)), "{}", packed.text());
    let packed = service.post(POINTS, &[LINES, ("Content-Encoding", "zstd")], &zstd::encode_all(&line.repeat(500)[..], 3).unwrap());
    assert_eq!(packed.status, 200);
    let refusals = [
        (413, service.post(POINTS, &[LINES], &line.repeat(1_000))),
        (413, service.post(POINTS, &[LINES, ("Content-Encoding", "gzip")], &gzip(&line.repeat(200_000)))),
        (400, service.post(POINTS, &[LINES, ("Content-Encoding", "gzip")], line)),
        (415, service.post(POINTS, &[LINES, ("Content-Encoding", "br")], line)),
    ];
    for (status, refusal) in &refusals {
        assert_eq!((*status, refusal.kind.as_str()), (refusal.status, "application/problem+json"), "{}", refusal.text());
    }
    insta::assert_snapshot!(refusals.map(|(_, refusal)| refusal.json()["detail"].as_str().unwrap().to_owned()).join("\n"));
}

#[test]
fn dry_runs_and_failed_all_or_nothing_store_nothing() {
    let service = Service::start();
    let body = b"{\"metric\": \"level\", \"value\": 1}\n{\"metric\": \"level\"}\n";
    let tried = service.post(&format!("{POINTS}?dry_run=true"), &[LINES], body);
    assert_eq!((tried.status, &tried.json()["accepted"], &tried.json()["dry_run"]), (200, &json!(1), &json!(true)));
    let strict = service.post(&format!("{POINTS}?all_or_nothing=true"), &[LINES], body);
    assert_eq!((strict.status, &strict.json()["report"]["accepted"], &strict.json()["report"]["rejected"]), (422, &json!(0), &json!(1)));
    let hopeless = service.post(POINTS, &[LINES], b"no\nnever\n");
    assert_eq!((hopeless.status, &hopeless.json()["report"]["rejected"]), (422, &json!(2)));
    assert_eq!(service.get("/api/v1/datasets/main/metrics").json(), json!([]));
    // By default the valid rows of the same body are stored.
    assert_eq!(service.post(POINTS, &[LINES], body).status, 200);
    assert_eq!(count(&service, "level"), json!(1.0));
}

#[test]
fn every_failure_is_a_problem_with_a_remedy() {
    let service = Service::start();
    service.post(POINTS, &[JSON], br#"{"metric": "level", "value": 1}"#);
    let asked = |body: Value| service.post("/api/v1/datasets/main/ask", &[JSON], body.to_string().as_bytes());
    let problems = [
        service.post(POINTS, &[], b"x"),
        service.post(POINTS, &[("Content-Type", "application/x-www-form-urlencoded")], b"x"),
        service.post(POINTS, &[JSON], b"{"),
        service.post(&format!("{POINTS}?vlaue=level"), &[CSV], b"level\n1\n"),
        service.post(&format!("{POINTS}?dry_run=perhaps"), &[JSON], b"{}"),
        service.post(&format!("{POINTS}?const=upper"), &[CSV], b"level\n1\n"),
        service.post(&format!("{POINTS}?value=levle"), &[CSV], b"level\n1\n"),
        service.post("/api/v1/datasets/velmar/points", &[JSON], b"{}"),
        service.get("/api/v1/nothing"),
        service.get("/api/v1/datasets/velmar/metrics"),
        service.get("/api/v1/datasets/main/series?metric=levle"),
        service.get("/api/v1/datasets/main/series?limit=many"),
        asked(json!({ "query": "show mean of levle over last 1h" })),
        asked(json!({ "query": "show mean of level", "frame": "over last" })),
        asked(json!({ "query": "show mean of level" })),
        asked(json!({ "question": "?" })),
        service.get("/api/v1/datasets/main/ask"),
        service.get("/assets/nothing.js"),
    ];
    let rendered: Vec<String> = problems
        .iter()
        .map(|problem| {
            assert_eq!(problem.kind, "application/problem+json", "{}", problem.text());
            let body = problem.json();
            assert_eq!(body["status"], problem.status);
            format!("{} {}: {}", problem.status, body["type"].as_str().unwrap(), body["detail"].as_str().unwrap())
        })
        .collect();
    insta::assert_snapshot!(rendered.join("\n"));
}

#[test]
fn an_answer_follows_the_accept_header() {
    let service = Service::start();
    service.post(&format!("{POINTS}?tag=lock&value=level_cm%3Dlevel"), &[CSV], an_hour_of_levels().as_bytes());
    let path = "/api/v1/datasets/main/ask?query=show+mean+of+level+overall&frame=over+2026-05-01T09:00+to+2026-05-01T10:00+per+30m";
    let accepting = |accept: &str| {
        let mut response = support::agent().get(format!("{}{path}", service.url)).header("Accept", accept).call().unwrap();
        (response.status().as_u16(), response.body_mut().read_to_string().unwrap())
    };
    insta::assert_snapshot!(accepting("text/csv").1);
    insta::assert_snapshot!(accepting("application/x-ndjson").1);
    assert!(accepting("text/html, */*").1.starts_with("{\"asked_at\""));
    assert_eq!(accepting("image/png").0, 400);
}

#[test]
fn a_query_is_explained_without_running_it() {
    let service = Service::start();
    service.post(POINTS, &[JSON], br#"{"metric": "level", "value": 1}"#);
    let check = |query: &str| {
        service.post("/api/v1/datasets/main/ask/check", &[JSON], json!({ "query": query, "frame": "over last 1h" }).to_string().as_bytes()).json()
    };
    let right = check("show   mean of level");
    assert_eq!((&right["canonical"], &right["problem"]), (&json!("show mean of level\n"), &json!(null)));
    assert_eq!(right["tree"]["shows"][0]["expr"]["reduction"]["reducer"], "mean");
    let wrong = check("show mean of levle");
    assert_eq!((&wrong["problem"]["place"]["start"], &wrong["problem"]["help"]), (&json!(13), &json!("did you mean `level`?")));
}

#[test]
fn the_service_describes_itself_and_checks_access_on_every_route() {
    let service = Service::start();
    let description = service.get("/api/v1/openapi.json").json();
    assert_eq!(description["openapi"], "3.1.0");
    let mut routes: Vec<(String, String)> = vec![("get".into(), "/api/v1/openapi.json".into())];
    for (path, methods) in description["paths"].as_object().unwrap() {
        for method in methods.as_object().unwrap().keys() {
            routes.push((method.clone(), path.replace("{dataset}", "main").replace("{metric}", "level")));
        }
    }
    insta::assert_snapshot!(routes.iter().map(|(method, path)| format!("{method} {path}")).collect::<Vec<_>>().join("\n"));
    for (method, path) in routes {
        // A page that was opened under another name, and a page of another origin.
        for header in [("Host", "waterway.example"), ("Origin", "https://waterway.example")] {
            let answer = service.call(&method.to_uppercase(), &path, None, &[header, JSON], b"{}");
            // A caller that signs in presents a token, under any host name.
            let wanted = if (method.as_str(), path.as_str(), header.0) == ("post", "/api/v1/session", "Host") { 401 } else { 403 };
            assert_eq!(answer.status, wanted, "{method} {path} {header:?}");
        }
    }
}

#[test]
fn the_description_suits_client_generators() {
    let service = Service::start();
    let document = service.get("/api/v1/openapi.json").json();
    let mut ids = std::collections::BTreeSet::new();
    for (path, operations) in document["paths"].as_object().unwrap() {
        for (method, operation) in operations.as_object().unwrap() {
            let call = format!("{method} {path}");
            assert!(ids.insert(operation["operationId"].as_str().unwrap().to_owned()), "{call}");
            let stated: Vec<&str> = operation["parameters"]
                .as_array()
                .into_iter()
                .flatten()
                .filter(|one| one["in"] == "path")
                .map(|one| one["name"].as_str().unwrap())
                .collect();
            let in_path: Vec<&str> = path.split('/').filter_map(|step| step.strip_prefix('{')?.strip_suffix('}')).collect();
            assert_eq!(stated, in_path, "{call}");
            let responses = operation["responses"].as_object().unwrap();
            for status in ["400", "403", "500", "503"] {
                assert!(responses.contains_key(status), "{call}: {status}");
            }
            assert!(responses.contains_key("404") || !path.contains('{'), "{call}");
            for (status, response) in responses {
                assert!(response["description"].as_str().is_some_and(|text| !text.is_empty()), "{call}: {status}");
                if let (Some(content), true) = (response["content"].as_object(), status.as_str() >= "400" && !path.contains("v1/metrics")) {
                    assert_eq!(content.keys().collect::<Vec<_>>(), ["application/problem+json"], "{call}: {status}");
                }
            }
        }
    }
}

#[test]
fn unknown_paths_and_methods_are_refused() {
    let service = Service::start();
    let call = |method: &str, path: &str, body: &str| {
        let mut builder = ureq::http::Request::builder().method(method).uri(format!("{}{path}", service.url));
        builder = builder.header("Content-Type", "application/json");
        let mut response = support::agent().run(builder.body(body.to_owned()).unwrap()).unwrap();
        let allow = response.headers().get("Allow").map(|allow| allow.to_str().unwrap().to_owned());
        let kind = response.headers()["Content-Type"].to_str().unwrap().to_owned();
        (response.status().as_u16(), kind, allow, response.body_mut().read_to_string().unwrap())
    };
    let problem = "application/problem+json";
    for (method, path) in [
        ("POST", "/v1/metric"),
        ("GET", "/nowhere"),
        ("GET", "/api/v2/datasets"),
        ("GET", "/ask/more"),
        ("GET", "/assets/none.js"),
        ("PUT", "/nowhere"),
    ] {
        let (status, kind, allow, text) = call(method, path, "{}");
        assert_eq!((status, kind.as_str(), allow), (404, problem, None), "{method} {path}");
        assert!(text.contains(&format!("unknown path {method} {path}")), "{text}");
    }
    for (method, path, allowed) in [
        ("DELETE", "/api/v1/datasets", "GET"),
        ("PUT", "/api/v1/datasets/main/points", "POST"),
        ("POST", "/api/v1/openapi.json", "GET"),
        ("POST", "/", "GET, HEAD"),
        ("PUT", "/ask", "GET, HEAD"),
        ("GET", "/v1/metrics", "POST"),
    ] {
        let (status, kind, allow, text) = call(method, path, "{}");
        assert_eq!((status, kind.as_str(), allow.as_deref()), (405, problem, Some(allowed)), "{method} {path}: {text}");
    }
    // Neither a missing body nor an array says what to make.
    for (body, message) in [("", "the body is missing"), ("[]", "found an array"), ("{\"zone\": 3}", "expected a string")] {
        let (status, kind, _, text) = call("PUT", "/api/v1/datasets/fresh", body);
        assert_eq!((status, kind.as_str(), text.contains(message)), (400, problem, true), "{text}");
    }
    assert_eq!(service.get("/api/v1/datasets").json().as_array().unwrap().len(), 1);
}

#[test]
fn a_wide_mapping_is_stored_and_an_oversized_one_refused() {
    let service = Service::start();
    let mapping = |columns: usize| {
        let columns: Vec<_> =
            (0..columns).map(|at| json!({ "column": format!("a column with a long name, number {at}"), "name": format!("level_{at}") })).collect();
        json!({ "columns": columns }).to_string()
    };
    let kept = service.put("/api/v1/mappings/wide", &[JSON], mapping(5_000).as_bytes());
    assert_eq!(kept.status, 200, "{}", kept.text());
    assert_eq!(service.get("/api/v1/mappings/wide").json()["columns"].as_array().unwrap().len(), 5_000);
    let refused = service.put("/api/v1/mappings/wider", &[JSON], &vec![b' '; 17 << 20]);
    assert_eq!((refused.status, refused.kind.as_str()), (413, "application/problem+json"), "{}", refused.text());
}

#[test]
fn health_and_overview_report_the_state() {
    let service = Service::start();
    assert_eq!(service.get("/health/live").json(), json!({ "status": "live" }));
    assert_eq!(service.get("/health/ready").json(), json!({ "status": "ready" }));
    service.post(POINTS, &[LINES], b"{\"metric\": \"level\", \"value\": 1}\nno\n");
    let overview = service.get("/api/v1/overview").json();
    assert_eq!((&overview["points"], &overview["series"], &overview["storage"]["waiting_points"]), (&json!(1), &json!(1), &json!(1)));
    assert_eq!(overview["arrivals"].as_array().unwrap().len(), 60);
    assert!(overview["storage"]["bytes"].as_u64().unwrap() > 0);
}

#[test]
fn a_retry_changes_nothing_and_the_later_arrival_wins() {
    let service = Service::start();
    let first = b"{\"metric\": \"level\", \"time\": \"2026-05-01T09:00:00Z\", \"value\": 1}\n";
    let later = b"{\"metric\": \"level\", \"time\": \"2026-05-01T09:00:00Z\", \"value\": 2}\n";
    for body in [&first[..], first, later] {
        service.post(POINTS, &[LINES], body);
    }
    let answer = ask(&service, "show points of level over 2026-05-01 to 2026-05-02");
    assert_eq!(answer["shows"][0]["lines"][0]["values"], json!([2.0]));
}

#[test]
fn concurrent_batches_agree_on_new_series() {
    let service = Service::start();
    std::thread::scope(|scope| {
        for path in ["/api/v1/overview", "/api/v1/datasets", "/api/v1/storage", "/api/v1/datasets/main/latest", "/health/ready"] {
            let service = &service;
            scope.spawn(move || (0..60).for_each(|_| assert_eq!(service.get(path).status, 200)));
        }
        for client in 0..8 {
            let service = &service;
            scope.spawn(move || {
                for part in 0..10 {
                    let lines: String = (0..20).map(|lock| format!("{{\"metric\": \"level\", \"tags\": {{\"lock\": \"l{part}.{lock}\"}}, \"time\": \"2026-05-01T09:{part:02}:{client:02}Z\", \"value\": {client}}}\n")).collect();
                    service.push_lines("main", &lines);
                }
            });
        }
    });
    assert_eq!(service.get("/api/v1/datasets/main/series").json()["total"], 200);
    assert_eq!(count(&service, "level"), json!(8.0 * 10.0 * 20.0));
}

/// Status, headers in lower case, and body of a page or file, as they travel: no client unpacks anything here.
fn file_of(service: &Service, path: &str, encoding: &str) -> (u16, String, Vec<u8>) {
    let mut stream = TcpStream::connect(service.url.strip_prefix("http://").unwrap()).unwrap();
    write!(stream, "GET {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nAccept-Encoding: {encoding}\r\nConnection: close\r\n\r\n").unwrap();
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer).unwrap();
    let end = answer.windows(4).position(|window| window == b"\r\n\r\n").unwrap();
    let head = String::from_utf8(answer[..end].to_vec()).unwrap();
    (head[9..12].parse().unwrap(), head.to_lowercase(), answer[end + 4..].to_vec())
}

#[test]
fn the_console_has_its_own_policy_and_cacheable_files() {
    let service = Service::start();
    let page = |path: &str| {
        let (status, head, body) = file_of(&service, path, "identity");
        assert_eq!(status, 200);
        let policy = head.split("content-security-policy: ").nth(1).unwrap().lines().next().unwrap().to_owned();
        (policy, String::from_utf8(body).unwrap())
    };
    let nonce_of = |policy: &str| policy.split("'nonce-").nth(1).unwrap().split('\'').next().unwrap().to_owned();
    let (policy, html) = page("/");
    let nonce = nonce_of(&policy);
    assert!(policy.starts_with("default-src 'none'; script-src 'self'") && html.contains(&format!("nonce=\"{nonce}\"")), "{policy}\n{html}");
    assert!(!html.contains("__CSP_NONCE__"));
    // The paths of the console's own pages give the page, each time with another nonce.
    let (other_policy, other_html) = page("/ask?q=show");
    assert_ne!(nonce_of(&other_policy), nonce);
    assert_eq!(other_html.replace(&nonce_of(&other_policy), "NONCE"), html.replace(&nonce, "NONCE"));
    let script = html.split("src=\"").nth(1).unwrap().split('"').next().unwrap();
    let (_, plain_head, plain) = file_of(&service, script, "identity");
    let (_, packed_head, packed) = file_of(&service, script, "gzip, br");
    assert!(
        plain_head.contains("immutable") && plain_head.contains("vary: accept-encoding") && !plain_head.contains("content-encoding"),
        "{plain_head}"
    );
    assert!(packed_head.contains("content-encoding: gzip") && packed.len() < plain.len() / 2, "{packed_head}");
    let mut unpacked = Vec::new();
    flate2::read::GzDecoder::new(&packed[..]).read_to_end(&mut unpacked).unwrap();
    assert!(unpacked == plain, "the packed twin is the same file");
    for nowhere in ["/assets/../../Cargo.toml", "/assets/%2e%2e/secret", "/assets/none.js"] {
        assert_eq!(file_of(&service, nowhere, "identity").0, 404, "{nowhere}");
    }
}

#[test]
fn bodies_past_the_shared_memory_limit_are_deferred() {
    let folder = tempfile::tempdir().unwrap();
    let text = "[store]\npath = \"store\"\n[listen]\naddress = \"127.0.0.1:0\"\n[limits]\nmax_total_body_bytes = 4000\n";
    let service = Service::configured(folder.path(), text);
    let line = r#"{"metric": "level", "time": "2026-05-01T09:00:00Z", "value": 1}"#.to_owned() + "\n";
    let push = |lines: usize, encoding: &str| {
        let mut body = line.repeat(lines).into_bytes();
        if encoding == "zstd" {
            body = zstd::encode_all(&body[..], 3).unwrap();
        }
        service.post("/api/v1/datasets/main/points", &[("Content-Type", "application/x-ndjson"), ("Content-Encoding", encoding)], &body)
    };
    for encoding in ["identity", "zstd"] {
        let taken = push(30, encoding);
        assert_eq!((taken.status, taken.header("fenetre-durability")), (200, Some("each")), "{}", taken.text());
        assert_eq!(push(100, encoding).status, 413, "alone it would never fit");
    }
    // Another caller's body is on its way, and takes its time. Should ours come first, the other is put off, and comes again.
    let head = "POST /api/v1/datasets/main/points HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/x-ndjson\r\nContent-Length: 3500\r\n\r\n";
    let pause = || std::thread::sleep(std::time::Duration::from_millis(20));
    for encoding in ["identity", "zstd"] {
        let beside_another = |_| {
            let mut other = TcpStream::connect(service.url.strip_prefix("http://").unwrap()).unwrap();
            other.write_all(head.as_bytes()).and_then(|()| other.write_all(&[b' '; 3_400])).unwrap();
            pause();
            push(30, encoding)
        };
        let put_off = (0..200).map(beside_another).find(|answer| answer.status == 429).unwrap_or_else(|| panic!("no 429 for {encoding}"));
        assert_eq!(put_off.header("retry-after"), Some("1"), "{}", put_off.text());
        let alone = (0..200).map(|_| push(30, encoding)).inspect(|_| pause()).find(|answer| answer.status == 200);
        assert!(alone.is_some(), "what was put off can be sent again");
    }
}
