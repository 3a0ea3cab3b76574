//! Access on a network: TLS and tokens through the command line, curl, a proxy and the console; secrets that appear nowhere; calls at random.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/browser.rs"]
mod browser;
#[path = "support/mod.rs"]
mod support;

use std::{
    fs,
    io::{Read, Write},
    net::{TcpListener, TcpStream},
    path::Path,
    process::{Command, Stdio},
    sync::atomic::{AtomicBool, AtomicU64, Ordering},
    thread,
    time::{Duration, Instant},
};

use browser::{Browser, wanted};
use serde_json::{Value, json};
use support::{Api, Ends, Ran, Service, fenetre, file, run, run_with, settled};
use tempfile::TempDir;
use ureq::{
    Agent,
    tls::{Certificate, RootCerts, TlsConfig},
};

/// A service with TLS, for which every caller needs a token.
struct Plant {
    folder: TempDir,
    service: Service,
    admin: String,
}

impl Plant {
    fn start() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let ran = self_signed(folder.path());
        assert_eq!(ran.code(), 0, "{}", ran.all());
        let text = "[store]\npath = \"store\"\n[listen]\naddress = \"127.0.0.1:0\"\ncertificate = \"plant.pem\"\nkey = \"plant.key\"\n\
                    [access]\nloopback = \"tokens\"\n";
        let config = file(folder.path(), "fenetre.toml", text);
        let service = Service::start_with(&["serve", "--config", &config]);
        let admin = create(&folder.path().join("store"), &["ops", "--grant", "admin"]);
        let plant = Self { folder, service, admin };
        plant.until_admitted();
        plant
    }

    fn path(&self, name: &str) -> String {
        self.folder.path().join(name).display().to_string()
    }

    /// Runs a client command with a token.
    fn run(&self, token: &str, args: &[&str]) -> Ran {
        let ca = self.path("plant.pem");
        run_with(&[args, &["--ca", &ca]].concat(), &[("FENETRE_URL", &self.service.url), ("FENETRE_TOKEN", token)], b"")
    }

    /// A token that another process made is noticed within a second.
    fn until_admitted(&self) {
        let begun = Instant::now();
        while self.run(&self.admin, &["whoami"]).code() != 0 {
            assert!(begun.elapsed() < Duration::from_secs(10), "{}", self.run(&self.admin, &["whoami"]).all());
        }
    }

    fn agent(&self) -> Agent {
        let pem = fs::read(self.path("plant.pem")).unwrap();
        agent_of(&[pem])
    }
}

fn agent_of(authorities: &[Vec<u8>]) -> Agent {
    let roots: Vec<Certificate<'static>> = authorities.iter().map(|pem| Certificate::from_pem(pem).unwrap().to_owned()).collect();
    let tls = TlsConfig::builder().root_certs(RootCerts::from(roots)).build();
    Agent::config_builder().http_status_as_error(false).tls_config(tls).build().into()
}

fn self_signed(folder: &Path) -> Ran {
    let (certificate, key) = (folder.join("plant.pem").display().to_string(), folder.join("plant.key").display().to_string());
    run(&["tls", "self-signed", "--name", "127.0.0.1", "--name", "localhost", "--days", "30", "--certificate", &certificate, "--key", &key])
}

/// Creates a token beside a service, and returns its secret.
fn create(store: &Path, args: &[&str]) -> String {
    let ran = run(&[&["token", "create", "--store", &store.display().to_string()], args].concat());
    assert_eq!(ran.code(), 0, "{}", ran.all());
    ran.out().trim().to_owned()
}

/// A service for which callers on its own machine need a token, too, and the token of an administrator.
fn closed(folder: &Path) -> (Service, String) {
    let text = "[store]\npath = \"store\"\n[listen]\naddress = \"127.0.0.1:0\"\n[access]\nloopback = \"tokens\"\n";
    let service = Service::start_with(&["serve", "--config", &file(folder, "fenetre.toml", text)]);
    let admin = create(&folder.join("store"), &["ops", "--grant", "admin"]);
    until_admitted(&service, &admin);
    (service, admin)
}

/// A token that another process made is noticed within a second.
fn until_admitted(service: &impl Api, token: &str) {
    let begun = Instant::now();
    while service.call("GET", "/api/v1/session", Some(token), &[], b"").status != 200 {
        assert!(begun.elapsed() < Duration::from_secs(10));
        thread::sleep(Duration::from_millis(50));
    }
}

#[test]
fn a_gateway_a_board_and_an_engineer_work_over_tls() {
    let plant = Plant::start();
    let ran = plant.run(&plant.admin, &["datasets", "define", "velmar", "--zone", "Europe/Lisbon"]);
    assert_eq!(ran.code(), 0, "{}", ran.all());
    let created = plant.run(&plant.admin, &["token", "create", "gateway", "--grant", "write:velmar"]);
    let gateway = created.out().trim().to_owned();
    assert_eq!((created.code(), gateway.len()), (0, 80), "{}", created.err());
    let curl = |token: &str, args: &[&str]| {
        let bearer = format!("Authorization: Bearer {token}");
        let ca = plant.path("plant.pem");
        let ran =
            Command::new("curl").args(["-sS", "--cacert", &ca, "-H", &bearer, "-w", "\n%{http_code} %{http_version}"]).args(args).output().unwrap();
        String::from_utf8(ran.stdout).unwrap() + &String::from_utf8(ran.stderr).unwrap()
    };
    let points = format!("{}/api/v1/datasets/velmar/points", plant.service.url);
    let one = r#"{"metric": "level", "tags": {"lock": "osier"}, "value": 312.5}"#;
    let pushed = curl(&gateway, &["--http2", "-H", "Content-Type: application/json", "-d", one, &points]);
    assert!(pushed.contains("\"accepted\":1") && pushed.ends_with("200 2"), "{pushed}");
    let old = curl(&gateway, &["--http1.1", "--tls-max", "1.2", "-H", "Content-Type: application/json", "-d", one, &points]);
    assert!(old.ends_with("200 1.1"), "{old}");
    let read = curl(&gateway, &[&format!("{}/api/v1/datasets/velmar/latest", plant.service.url)]);
    assert!(read.contains("this needs the grant read:velmar") && read.ends_with("403 2"), "{read}");
    let board = plant.run(&plant.admin, &["token", "create", "board", "--grant", "read:velmar", "--expires", "90d"]).out().trim().to_owned();
    let seen = plant.run(&board, &["datasets", "-o", "csv"]);
    assert!(seen.out().contains("velmar") && !seen.out().contains("main"), "{}", seen.all());
    let refused = plant.run(&board, &["metrics", "define", "level", "--unit", "cm", "--dataset", "velmar"]);
    settled(|| insta::assert_snapshot!("what_a_reader_may_not", refused.all()));
    let listed = plant.run(&plant.admin, &["token", "list", "-o", "csv"]).out();
    assert!(listed.contains("gateway,write:velmar,active,,2026") || listed.contains("gateway,write:velmar,active,,2"), "{listed}");
    assert!(!listed.contains(&gateway[8..]));
    // Suspended, resumed, rotated with both secrets for a while, revoked.
    let state = |args: &[&str]| plant.run(&plant.admin, args).out();
    assert_eq!(state(&["token", "suspend", "board"]), "token board is suspended\n");
    assert_eq!(plant.run(&board, &["datasets"]).code(), 1);
    assert_eq!(state(&["token", "resume", "board"]), "token board is active\n");
    let fresh = state(&["token", "rotate", "board", "--overlap", "1h"]).trim().to_owned();
    assert_eq!((plant.run(&board, &["datasets"]).code(), plant.run(&fresh, &["datasets"]).code()), (0, 0));
    assert_eq!(state(&["token", "revoke", "board"]), "token board is revoked\n");
    let ended = plant.run(&fresh, &["datasets"]);
    assert!(ended.err().contains("the token `board` was revoked"), "{}", ended.all());
    let changes = plant.run(&plant.admin, &["changes", "--what", "token"]).out();
    for what in ["token revoked", "token rotated", "token suspended", "token created"] {
        assert!(changes.contains(what), "{changes}");
    }
}

#[test]
fn a_profile_keeps_address_token_and_trust() {
    let plant = Plant::start();
    let home = plant.path("home");
    let url = plant.service.url.clone();
    let at_home = |args: &[&str], input: &[u8]| run_with(args, &[("XDG_CONFIG_HOME", &home)], input);
    let untrusted = at_home(&["login", &url], plant.admin.as_bytes());
    assert!(untrusted.err().contains("is not trusted") && untrusted.err().contains("--ca FILE"), "{}", untrusted.all());
    let login = at_home(&["login", &url, "--profile", "plant", "--ca", &plant.path("plant.pem")], plant.admin.as_bytes());
    assert_eq!((login.code(), login.out().as_str()), (0, "profile plant: ops with admin\n"), "{}", login.all());
    let who = at_home(&["whoami", "--profile", "plant"], b"");
    assert!(who.out().starts_with(&format!("ops, by token, at {url}\n  grants   admin\n")), "{}", who.all());
    let file = Path::new(&home).join("fenetre/profiles.toml");
    assert!(fs::read_to_string(&file).unwrap().contains(&plant.admin));
    // A certificate that is known by its fingerprint needs no authority.
    let shown = at_home(&["tls", "self-signed", "--name", "x", "--certificate", &plant.path("x.pem"), "--key", &plant.path("x.key")], b"").out();
    let other = shown.lines().find_map(|line| line.strip_prefix("fingerprint ")).unwrap().to_owned();
    let pem = fs::read(plant.path("plant.pem")).unwrap();
    let own = {
        use sha2::Digest;
        let der = Certificate::from_pem(&pem).unwrap();
        sha2::Sha256::digest(der.der()).iter().map(|byte| format!("{byte:02x}")).collect::<String>()
    };
    let pinned = at_home(&["login", &url, "--fingerprint", &own], plant.admin.as_bytes());
    assert_eq!(pinned.code(), 0, "{}", pinned.all());
    assert_eq!(at_home(&["datasets"], b"").code(), 0);
    let wrong = at_home(&["whoami", "--url", &url, "--fingerprint", &other], b"");
    assert!(wrong.err().contains("not the one of the fingerprint"), "{}", wrong.all());
    let failures = [
        at_home(&["datasets", "--profile", "plnat"], b""),
        at_home(&["datasets", "--profile", "plant", "--url", "https://elsewhere.example"], b""),
        at_home(&["datasets", "--url", "http://plant.example", "--token-file", &plant.path("no-token")], b""),
        {
            Command::new("chmod").arg("644").arg(&file).status().unwrap();
            at_home(&["datasets", "--profile", "plant"], b"")
        },
    ];
    settled(|| insta::assert_snapshot!("profiles_that_cannot_be_used", failures.map(|ran| ran.err().replace(&url, "URL")).join("")));
    Command::new("chmod").arg("600").arg(&file).status().unwrap();
    assert_eq!(at_home(&["logout", "--profile", "plant"], b"").code(), 0);
    assert!(at_home(&["whoami", "--profile", "plant"], b"").err().contains("there is no profile `plant`"));
}

#[test]
fn other_machines_are_admitted_only_with_tls_or_behind_a_proxy() {
    let folder = tempfile::tempdir().unwrap();
    let start = |text: &str, extra: &[&str]| {
        let config = file(folder.path(), "fenetre.toml", format!("[store]\npath = \"store\"\n{text}"));
        run(&[&["serve", "--config", &config], extra].concat())
    };
    assert_eq!(self_signed(folder.path()).code(), 0);
    let pair = "[listen]\ncertificate = \"plant.pem\"\nkey = \"plant.key\"\n";
    let refused = [
        start("[listen]\naddress = \"0.0.0.0:7430\"\n", &[]),
        start("", &["--listen", "[::]:7430"]),
        start(&pair.replace("plant.key", "none.key"), &[]),
        start(&pair.replace("plant.key", "plant.pem"), &[]),
        start(&pair.replace("plant.pem", "fenetre.toml"), &[]),
        run(&["config", "check", &folder.path().join("fenetre.toml").display().to_string()]),
    ];
    settled(|| insta::assert_snapshot!("starts_that_are_refused", refused.map(|ran| format!("{} {}", ran.code(), ran.err())).join("")));
}

#[test]
fn callers_can_be_required_to_have_a_certificate() {
    let folder = tempfile::tempdir().unwrap();
    assert_eq!(self_signed(folder.path()).code(), 0);
    let openssl = |args: &str| {
        let ran = Command::new("openssl").args(args.split(' ')).current_dir(folder.path()).output().unwrap();
        assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    };
    let key = "-newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes";
    openssl(&format!("req -x509 {key} -keyout ca.key -out ca.pem -days 2 -subj /CN=plant-ca"));
    openssl(&format!("req {key} -keyout client.key -out client.csr -subj /CN=gateway"));
    file(folder.path(), "client.ext", "basicConstraints=CA:FALSE\nextendedKeyUsage=clientAuth\n");
    openssl("x509 -req -in client.csr -CA ca.pem -CAkey ca.key -CAcreateserial -days 2 -extfile client.ext -out client.pem");
    let text =
        "[store]\npath = \"store\"\n[listen]\naddress = \"127.0.0.1:0\"\ncertificate = \"plant.pem\"\nkey = \"plant.key\"\nclient_ca = \"ca.pem\"\n";
    let config = file(folder.path(), "fenetre.toml", text);
    let service = Service::start_with(&["serve", "--config", &config]);
    let curl = |args: &[&str]| {
        let url = format!("{}/health/live", service.url);
        let ran = Command::new("curl").args(["-sS", "--cacert", "plant.pem", &url]).args(args).current_dir(folder.path()).output().unwrap();
        String::from_utf8(ran.stdout).unwrap() + &String::from_utf8(ran.stderr).unwrap()
    };
    assert_eq!(curl(&["--cert", "client.pem", "--key", "client.key"]), "{\"status\":\"live\"}");
    let refused = curl(&[]);
    // The message of curl depends on which side notices first.
    assert!(!refused.contains("live") && refused.contains("curl: ("), "{refused}");
    // A source has a certificate, too, and checks that of its target.
    let watcher = Service::start(&folder.path().join("watcher"));
    let path = |name: &str| folder.path().join(name).display().to_string();
    let attempt = |more: &str| {
        let text = format!("kind = \"poll\"\ntargets = [{{ url = \"{}/metrics\" }}]\n{more}", service.url);
        watcher.run(&["source", "try", &file(folder.path(), "source.toml", text)])
    };
    let own = format!("certificate = \"{}\"\nkey = \"{}\"\n", path("client.pem"), path("client.key"));
    let admitted = attempt(&format!("ca = \"{}\"\n{own}", path("plant.pem")));
    assert!(admitted.code() == 0 && admitted.out().contains("fenetre_stored_bytes"), "{}", admitted.all());
    for (more, reason) in [(own, "certificate"), (format!("ca = \"{}\"\n", path("plant.key")), "is not a PEM file with a certificate")] {
        let refused = attempt(&more);
        assert!(refused.code() == 1 && refused.err().contains(reason), "{}", refused.all());
    }
}

#[test]
fn plain_http_on_the_tls_port_gets_a_sentence() {
    let plant = Plant::start();
    let address = plant.service.url.trim_start_matches("https://");
    let mut stream = TcpStream::connect(address).unwrap();
    stream.write_all(b"GET / HTTP/1.1\r\nHost: x\r\n\r\n").unwrap();
    let mut text = String::new();
    stream.read_to_string(&mut text).unwrap();
    assert!(text.starts_with("HTTP/1.1 400") && text.contains("This port speaks TLS: write https://"), "{text}");
    let answer = plant.agent().get(format!("{}/", plant.service.url)).call().unwrap();
    assert_eq!(answer.headers().get("strict-transport-security").unwrap(), "max-age=31536000");
    let signed = plant.agent().post(format!("{}/api/v1/session", plant.service.url)).header("Authorization", format!("Bearer {}", plant.admin));
    let signed = signed.send_empty().unwrap();
    let cookie = signed.headers().get("set-cookie").unwrap().to_str().unwrap().to_owned();
    assert!(cookie.starts_with("__Host-fenetre-session=") && cookie.contains("Secure"), "{cookie}");
}

#[test]
fn a_certificate_is_renewed_without_a_failed_call() {
    let plant = Plant::start();
    let old = fs::read(plant.path("plant.pem")).unwrap();
    let next = tempfile::tempdir().unwrap();
    assert_eq!(self_signed(next.path()).code(), 0);
    let new = fs::read(next.path().join("plant.pem")).unwrap();
    let (done, calls) = (AtomicBool::new(false), AtomicU64::new(0));
    thread::scope(|scope| {
        let _ends = Ends(&done);
        let callers: Vec<_> = (0..2)
            .map(|_| {
                scope.spawn(|| {
                    while !done.load(Ordering::SeqCst) {
                        // One call on a new connection, and two on the same.
                        let agent = agent_of(&[old.clone(), new.clone()]);
                        for _ in 0..3 {
                            let request = agent.get(format!("{}/api/v1/session", plant.service.url));
                            let answer = request.header("Authorization", format!("Bearer {}", plant.admin)).call().unwrap();
                            assert_eq!(answer.status(), 200);
                            calls.fetch_add(1, Ordering::SeqCst);
                        }
                    }
                })
            })
            .collect();
        let only_new = agent_of(std::slice::from_ref(&new));
        let call = || only_new.get(format!("{}/", plant.service.url)).call();
        assert!(call().is_err(), "the new certificate is not there yet");
        for name in ["plant.key", "plant.pem"] {
            fs::rename(next.path().join(name), plant.path(name)).unwrap();
        }
        Command::new("kill").args(["-HUP", &plant.service.pid().to_string()]).status().unwrap();
        let begun = Instant::now();
        while call().is_err() {
            assert!(begun.elapsed() < Duration::from_secs(10), "the new certificate is served");
            thread::sleep(Duration::from_millis(20));
        }
        thread::sleep(Duration::from_millis(300));
        done.store(true, Ordering::SeqCst);
        callers.into_iter().for_each(|caller| caller.join().unwrap());
    });
    assert!(calls.load(Ordering::SeqCst) >= 6);
    // A broken one is reported, and the good one stays.
    fs::write(plant.path("plant.pem"), "nothing").unwrap();
    Command::new("kill").args(["-HUP", &plant.service.pid().to_string()]).status().unwrap();
    let agent = agent_of(&[new]);
    let begun = Instant::now();
    loop {
        let request = agent.get(format!("{}/api/v1/overview", plant.service.url)).header("Authorization", format!("Bearer {}", plant.admin));
        let overview: Value = serde_json::from_reader(request.call().unwrap().into_body().into_reader()).unwrap();
        if overview["storage"]["warnings"].to_string().contains("the old one stays in use") {
            return;
        }
        assert!(begun.elapsed() < Duration::from_secs(10), "{overview}");
        thread::sleep(Duration::from_millis(50));
    }
}

#[test]
fn behind_a_proxy_addresses_are_those_of_callers() {
    let folder = tempfile::tempdir().unwrap();
    let text = "[store]\npath = \"store\"\n[listen]\naddress = \"127.0.0.1:0\"\nbehind_proxy = true\nproxies = [\"127.0.0.2\"]\n";
    let config = file(folder.path(), "fenetre.toml", text);
    let service = Service::start_with(&["serve", "--config", &config]);
    let admin = create(&folder.path().join("store"), &["ops", "--grant", "admin"]);
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let root = folder.path().display();
    let inside = service.url.trim_start_matches("http://");
    let nginx = format!(
        "daemon off; master_process off; pid {root}/nginx.pid; error_log stderr;\nevents {{}}\nhttp {{ access_log off; client_body_temp_path {root}/body; \
         proxy_temp_path {root}/proxy; fastcgi_temp_path {root}/f; uwsgi_temp_path {root}/u; scgi_temp_path {root}/s;\n\
         server {{ listen 127.0.0.1:{port}; location / {{ proxy_pass http://{inside}; proxy_bind 127.0.0.2; proxy_http_version 1.1; proxy_buffering off;\n\
         proxy_set_header Host $http_host; proxy_set_header Forwarded \"\"; proxy_set_header X-Forwarded-Host $http_host;\n\
         proxy_set_header X-Forwarded-Proto $scheme; proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for; }} }} }}\n"
    );
    let nginx = file(folder.path(), "nginx.conf", nginx);
    let proxy = Command::new("nginx").args(["-c", &nginx, "-p", &root.to_string()]).stderr(Stdio::null()).spawn();
    let mut proxy = Stopped(proxy.expect("nginx is missing: install nginx-light, as scripts/test does"));
    let outside = Outside(format!("http://127.0.0.1:{port}"));
    let begun = Instant::now();
    while TcpStream::connect(("127.0.0.1", port)).is_err() {
        assert!(begun.elapsed() < Duration::from_secs(10) && proxy.0.try_wait().unwrap().is_none(), "nginx starts");
        thread::sleep(Duration::from_millis(50));
    }
    // Nobody is on the machine of the service just because the proxy is.
    until_admitted(&outside, &admin);
    assert_eq!((outside.get("/api/v1/session").status, service.get("/api/v1/session").status), (401, 401));
    let forged = [("X-Forwarded-For", "192.0.2.99"), ("Forwarded", "for=192.0.2.98"), ("Origin", outside.0.as_str())];
    let put = outside.call("PUT", "/api/v1/datasets/velmar", Some(&admin), &[&forged[..], &[("Content-Type", "application/json")]].concat(), b"{}");
    assert_eq!(put.status, 200, "{}", put.text());
    // Around the proxy, its headers count for nothing.
    let around = service.call(
        "PUT",
        "/api/v1/datasets/gauges",
        Some(&admin),
        &[("X-Forwarded-For", "192.0.2.97"), ("Content-Type", "application/json")],
        b"{}",
    );
    assert_eq!(around.status, 200, "{}", around.text());
    let changes = outside.call("GET", "/api/v1/changes?what=dataset", Some(&admin), &[], b"").ok();
    let addresses: Vec<&str> = changes["items"].as_array().unwrap().iter().map(|change| change["address"].as_str().unwrap()).collect();
    assert_eq!(addresses, ["127.0.0.1", "127.0.0.1"], "{changes}");
    // A live tail passes, and ends with its token.
    let board = outside.token(Some(&admin), &json!({ "name": "board", "grants": ["read"] }));
    let mut tail = outside.open("GET", "/api/v1/arrivals/tail", Some(&board), &[], b"").unwrap().into_body().into_reader();
    tail.read_exact(&mut [0; 8]).unwrap();
    assert_eq!(outside.call("DELETE", "/api/v1/tokens/board", Some(&admin), &[], b"").status, 200);
    let revoked = Instant::now();
    let _ = tail.read_to_end(&mut Vec::new());
    assert!(revoked.elapsed() < Duration::from_secs(2), "{:?}", revoked.elapsed());
}

/// The address of a proxy.
struct Outside(String);

impl Api for Outside {
    fn url(&self) -> &str {
        &self.0
    }
}

/// A process that ends with the test.
struct Stopped(std::process::Child);

impl Drop for Stopped {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn secrets_appear_nowhere() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("store");
    let config = file(
        folder.path(),
        "fenetre.toml",
        "[store]\npath = \"store\"\n[listen]\naddress = \"127.0.0.1:0\"\n[log]\nlevel = \"trace\"\n[access]\nloopback = \"tokens\"\n",
    );
    let log = folder.path().join("log.txt");
    let mut command = fenetre();
    command.args(["serve", "--config", &config]).stdout(Stdio::null()).stderr(fs::File::create(&log).unwrap());
    let _service = Stopped(command.spawn().unwrap());
    let begun = Instant::now();
    let url = loop {
        let text = fs::read_to_string(&log).unwrap();
        if let Some(at) = text.find("http://127.0.0.1:") {
            break text[at..].split_whitespace().next().unwrap().to_owned();
        }
        assert!(begun.elapsed() < Duration::from_secs(30), "{text}");
        thread::sleep(Duration::from_millis(20));
    };
    let admin = create(&store, &["ops", "--grant", "admin"]);
    let service = Outside(url.clone());
    until_admitted(&service, &admin);
    let board = service.token(Some(&admin), &json!({ "name": "board", "grants": ["read:velmar"] }));
    let session = service.call("POST", "/api/v1/session", Some(&admin), &[], b"");
    let cookie = session.header("set-cookie").unwrap().split(';').next().unwrap().split_once('=').unwrap().1.to_owned();
    // Used in every way, right and wrong.
    let mut texts = String::new();
    for (method, path) in
        [("GET", "/api/v1/datasets"), ("GET", "/api/v1/tokens"), ("PUT", "/api/v1/datasets/x"), ("POST", "/api/v1/tokens"), ("GET", "/nowhere")]
    {
        for token in [&admin, &board, &format!("{board}0"), &board.replace("fenetre_", "Fenetre_")] {
            texts += &service
                .call(method, path, Some(token), &[("Content-Type", "application/json")], token.as_bytes())
                .text()
                .replace(token.as_str(), "");
        }
    }
    let named = service.call(
        "POST",
        "/api/v1/tokens",
        Some(&admin),
        &[("Content-Type", "application/json")],
        json!({ "name": board, "grants": ["read"] }).to_string().as_bytes(),
    );
    texts += &named.text();
    let token_file = file(folder.path(), "token", &admin);
    Command::new("chmod").args(["600", &token_file]).status().unwrap();
    for args in [
        &["tail", "--batches", "1"][..],
        &["whoami"],
        &["token", "list", "-o", "json"],
        &["changes", "-o", "json"],
        &["metrics", "--dataset", "none"],
    ] {
        let mut child =
            fenetre().args(args).args(["--token-file", &token_file, "--url", &url]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        thread::sleep(Duration::from_millis(200));
        texts += &fs::read_to_string(format!("/proc/{}/cmdline", child.id())).unwrap_or_default();
        if args[0] == "tail" {
            child.kill().unwrap();
        }
        let output = child.wait_with_output().unwrap();
        texts += &(String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr));
    }
    texts += &run(&["config", "check", &config]).out();
    texts += &service.call("GET", "/api/v1/openapi.json", Some(&admin), &[], b"").text();
    let backup = folder.path().join("backup");
    let ran = run_with(&["backup", &backup.display().to_string()], &[("FENETRE_URL", &url), ("FENETRE_TOKEN", &admin)], b"");
    assert_eq!(ran.code(), 0, "{}", ran.all());
    let mut everything = texts.into_bytes();
    everything.extend(fs::read(&log).unwrap());
    for place in [&store, &backup] {
        let mut folders = vec![place.clone()];
        while let Some(next) = folders.pop() {
            for entry in fs::read_dir(next).unwrap().map(|entry| entry.unwrap().path()) {
                if entry.is_dir() { folders.push(entry) } else { everything.extend(fs::read(entry).unwrap()) }
            }
        }
    }
    assert!(backup.join("access.db").exists() && everything.len() > 100_000);
    // Half a secret is too much already.
    for secret in [&admin[8..40], &admin[40..72], &board[8..40], &board[40..72], &cookie[..32], &cookie[32..]] {
        let at = everything.windows(secret.len()).position(|part| part == secret.as_bytes());
        let around = at.map(|at| String::from_utf8_lossy(&everything[at.saturating_sub(200)..at]).into_owned());
        assert_eq!(around, None, "a secret follows this");
    }
}

#[test]
fn random_calls_of_a_reader_change_nothing_and_nobody_gets_in() {
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = closed(folder.path());
    let json = ("Content-Type", "application/json");
    let lines = "{\"metric\":\"level\",\"tags\":{\"lock\":\"osier\"},\"time\":\"2026-05-01T09:00:00Z\",\"value\":1}\n";
    assert_eq!(
        service.call("POST", "/api/v1/datasets/main/points", Some(&admin), &[("Content-Type", "application/x-ndjson")], lines.as_bytes()).status,
        200
    );
    assert_eq!(service.call("PUT", "/api/v1/datasets/main/rollups/hourly", Some(&admin), &[json], br#"{"levels":[{"width":"1h"}]}"#).status, 200);
    let import = service.call("POST", "/api/v1/datasets/main/imports?file=a.csv", Some(&admin), &[], b"time,level\n2026-05-01T09:00:00Z,1\n").ok();
    let reader = service.token(Some(&admin), &json!({ "name": "reader", "grants": ["read"] }));
    let content = || {
        [
            "/datasets",
            "/datasets/main/metrics",
            "/datasets/main/tags",
            "/datasets/main/latest",
            "/datasets/main/rollups",
            "/retention",
            "/mappings",
            "/bin",
            "/imports",
            "/tokens",
        ]
        .map(|path| service.call("GET", &format!("/api/v1{path}"), Some(&admin), &[], b"").text())
        .map(|text| {
            // Values that depend on the time, or count the reader's own calls.
            let mut value: Value = serde_json::from_str(&text).unwrap();
            forget(&mut value);
            value.to_string()
        })
        .join("\n")
    };
    let before = content();
    let description = service.call("GET", "/api/v1/openapi.json", Some(&admin), &[], b"").json();
    let mut random = Random(7);
    let words = ["main", "level", "lock", "hourly", "reader", "ops", import["id"].as_str().unwrap(), "nothing", "*", "..", "%00", "a b"];
    let bodies = [
        "",
        "{}",
        "[]",
        "null",
        "{\"to\":\"x\"}",
        "{\"name\":\"x\",\"grants\":[\"admin\"]}",
        "{\"levels\":[{\"width\":\"1h\"}]}",
        "{\"dataset\":\"main\"}",
        "{\"metric\":\"level\",\"value\":1}",
        "{\"place\":\"\",\"limits\":{\"keep_for\":\"1d\"}}",
        "{\"metric\":\"level\",\"from\":\"2020-01-01\",\"to\":\"2030-01-01\"}",
        "{\"kind\":\"metric\",\"dataset\":\"main\",\"name\":\"level\"}",
        "{\"unit\":\"cm\"}",
        "{\"path\":\"data/main\"}",
        "{\"query\":\"show last of level\"}",
        "x",
    ];
    for round in 0..4 {
        for (path, methods) in description["paths"].as_object().unwrap() {
            for method in methods.as_object().unwrap().keys() {
                let mut path = path.clone();
                while let (Some(start), Some(end)) = (path.find('{'), path.find('}')) {
                    path.replace_range(start..=end, &random.pick(&words).replace(' ', "%20"));
                }
                let parameters =
                    random.pick(&["", "?dry_run=false", "?accept_loss=true", "?convert=true", "?dataset=main", "?limit=x", "?file=a.csv"]);
                let (method, path, body) = (method.to_uppercase(), format!("{path}{parameters}"), random.pick(&bodies));
                if path.contains("/tail") {
                    continue;
                }
                if method != "POST" || !path.starts_with("/api/v1/session") {
                    let nobody = service.call(&method, &path, None, &[json], body.as_bytes()).status;
                    assert!(nobody == 401 || nobody == 404, "round {round}: {method} {path} without a token: {nobody}");
                    assert!(nobody == 401 || path.contains("..") || path.contains("%00"), "{method} {path}: {nobody}");
                }
                let answer = service.call(&method, &path, Some(&reader), &[json], body.as_bytes());
                assert!(answer.status < 500, "{method} {path} {body}: {}", answer.text());
            }
        }
    }
    assert_eq!(content(), before);
}

/// Replaces values that change from run to run.
fn forget(value: &mut Value) {
    match value {
        Value::Object(members) => {
            for name in [
                "last_used",
                "queries",
                "outlook",
                "bytes",
                "lag_seconds",
                "until",
                "windows",
                "waiting_points",
                "windows_made",
                "filled",
                "from",
                "series",
                "volume",
                "smaller",
                "out_of_date",
                "last_address",
                "packed_bytes",
                "made_again",
            ] {
                members.remove(name);
            }
            members.values_mut().for_each(forget);
        }
        Value::Array(items) => items.iter_mut().for_each(forget),
        _ => {}
    }
}

/// Numbers that are the same in every run (xorshift64, Marsaglia 2003).
struct Random(u64);

impl Random {
    fn pick<'w>(&mut self, words: &[&'w str]) -> &'w str {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        words[(self.0 % words.len() as u64) as usize]
    }
}

#[tokio::test]
async fn a_board_signs_in_sees_its_dataset_and_nothing_to_edit() {
    if !wanted() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let (service, admin) = closed(folder.path());
    for dataset in ["velmar", "gauges"] {
        let path = format!("/api/v1/datasets/{dataset}");
        assert_eq!(service.call("PUT", &path, Some(&admin), &[("Content-Type", "application/json")], b"{}").status, 200);
        let line = b"{\"metric\":\"level\",\"tags\":{\"lock\":\"osier\"},\"value\":312.5}\n";
        assert_eq!(service.call("POST", &format!("{path}/points"), Some(&admin), &[("Content-Type", "application/x-ndjson")], line).status, 200);
    }
    let board = service.token(Some(&admin), &json!({ "name": "board", "grants": ["read:velmar"], "expires": "90d" }));
    let browser = Browser::open().await;
    browser.go(&service.url).await;
    browser.read("Sign in to Fenetre").await;
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    browser.type_into("Token", "fenetre_nothing").await;
    browser.press_button("Sign in").await;
    browser.read("begins with `fenetre_` and has 80 characters").await;
    browser.go(&service.url).await;
    browser.type_into("Token", &board).await;
    browser.press_button("Sign in").await;
    browser.read("velmar").await;
    assert!(!browser.text().await.contains("gauges"));
    browser.go(&format!("{}/catalogue?dataset=velmar", service.url)).await;
    browser.read("Metrics (1)").await;
    for (page, shows) in [("catalogue", "Catalogue of velmar"), ("keeping", "Keeping velmar"), ("arrivals", "Your token may not import files")] {
        browser.go(&format!("{}/{page}?dataset=velmar", service.url)).await;
        browser.read(shows).await;
        let text = browser.text().await;
        for offer in ["Import edited", "Create a policy", "Change", "Erase", "Drop"] {
            assert!(!text.contains(offer), "{page} offers {offer:?}: {text}");
        }
    }
    browser.go(&format!("{}/access", service.url)).await;
    browser.read("You are board, with read:velmar").await;
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    // A token that is revoked leads back to the sign-in.
    assert_eq!(service.call("DELETE", "/api/v1/tokens/board", Some(&admin), &[], b"").status, 200);
    browser.read("Sign in to Fenetre").await;
    browser.type_into("Token", &admin).await;
    browser.press_button("Sign in").await;
    browser.read("Create a token").await;
    browser.type_into("name", "gateway").await;
    browser.press_button("Create").await;
    browser.read("The secret of gateway is shown only now").await;
    browser.press_button("I have stored it").await;
    browser.press_button("Suspend").await;
    browser.read("suspended").await;
    browser.open_tab("Changes").await;
    browser.read("token suspended").await;
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    browser.press_button("Sign out").await;
    browser.read("Sign in to Fenetre").await;
    browser.close().await;
}
