//! The service in this process, on a loopback port and a store of its own, and ways to call it over HTTP.

#![allow(dead_code, reason = "every test file uses a part of this")]

use std::{fs, path::Path, sync::mpsc, thread};

use fenetre_service::{Config, Ready, ServeError, serve};
use serde_json::Value;
use ureq::{Agent, Body, http::Response};

const JSON: (&str, &str) = ("Content-Type", "application/json");
const LINES: (&str, &str) = ("Content-Type", "application/x-ndjson");

/// A running service. It stops when this is dropped.
pub struct Service {
    pub url: String,
    ready: Option<Ready>,
    thread: Option<thread::JoinHandle<Result<(), ServeError>>>,
    /// The store goes with the service, where the test did not bring one.
    _folder: Option<tempfile::TempDir>,
}

impl Service {
    /// Serves an empty store with the default settings.
    pub fn start() -> Self {
        let folder = tempfile::tempdir().expect("there is room for a folder");
        let mut service = Self::on(folder.path());
        service._folder = Some(folder);
        service
    }

    /// Serves the store in a folder, with the default settings.
    pub fn on(folder: &Path) -> Self {
        let mut config = Config { store: folder.join("store"), log_level: "error".to_owned(), ..Config::default() };
        config.listen_on("127.0.0.1:0").expect("a loopback address");
        Self::serve(config)
    }

    /// Serves with the settings of a configuration file, which is written into a folder.
    pub fn configured(folder: &Path, text: &str) -> Self {
        let file = folder.join("fenetre.toml");
        fs::write(&file, text).expect("the folder can be written");
        Self::serve(Config::read(&file).expect("the configuration is right"))
    }

    fn serve(config: Config) -> Self {
        let (sender, receiver) = mpsc::channel();
        let thread = thread::spawn(move || serve(&config, |ready| drop(sender.send(ready))));
        let ready = receiver.recv().expect("the service starts");
        Self { url: format!("http://{}", ready.address), ready: Some(ready), thread: Some(thread), _folder: None }
    }

    /// Stops it, and waits until it has.
    pub fn stop(mut self) {
        self.end();
    }

    fn end(&mut self) {
        if let Some(ready) = self.ready.take() {
            ready.stop();
        }
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }

    pub fn get(&self, path: &str) -> Answer {
        Answer::of(agent().get(format!("{}{path}", self.url)).call())
    }

    pub fn get_as(&self, path: &str, accept: &str) -> Answer {
        Answer::of(agent().get(format!("{}{path}", self.url)).header("Accept", accept).call())
    }

    pub fn delete(&self, path: &str) -> Answer {
        Answer::of(agent().delete(format!("{}{path}", self.url)).call())
    }

    pub fn post(&self, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Answer {
        let request = headers.iter().fold(agent().post(format!("{}{path}", self.url)), |request, (name, value)| request.header(*name, *value));
        Answer::of(request.send(body))
    }

    pub fn put(&self, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Answer {
        let request = headers.iter().fold(agent().put(format!("{}{path}", self.url)), |request, (name, value)| request.header(*name, *value));
        Answer::of(request.send(body))
    }

    /// Posts a JSON document.
    pub fn post_json(&self, path: &str, body: &Value) -> Answer {
        self.post(path, &[JSON], body.to_string().as_bytes())
    }

    /// Puts a JSON document.
    pub fn put_json(&self, path: &str, body: &Value) -> Answer {
        self.put(path, &[JSON], body.to_string().as_bytes())
    }

    /// Pushes points as JSON Lines, all of which must be accepted.
    pub fn push_lines(&self, dataset: &str, lines: &str) {
        let answer = self.post(&format!("/api/v1/datasets/{dataset}/points"), &[LINES], lines.as_bytes());
        assert_eq!((answer.status, answer.json()["rejected"].as_u64()), (200, Some(0)), "{}", answer.text());
    }

    /// Pushes [`an_hour_of_levels`] into a dataset: metrics `level` and `gate`, with the tags `lock` and `side`.
    pub fn push_levels(&self, dataset: &str) {
        let path = format!("/api/v1/datasets/{dataset}/points?tag=lock&tag=side&value=level_cm%3Dlevel&state=gate");
        let answer = self.post(&path, &[("Content-Type", "text/csv")], an_hour_of_levels().as_bytes());
        assert_eq!((answer.status, answer.json()["accepted"].as_u64()), (200, Some(240)), "{}", answer.text());
    }
}

/// An hour of made-up levels of two locks from 09:00 on 2026-05-01, a reading per minute: 310 to 324.75 at osier, 280 to 294.75 at marl.
pub fn an_hour_of_levels() -> String {
    let mut table = "time,lock,side,level_cm,gate\n".to_owned();
    for minute in 0..60 {
        for (lock, base, word) in [("osier", 310.0, if minute < 20 { "open" } else { "closed" }), ("marl", 280.0, "closed")] {
            table += &format!("2026-05-01T09:{minute:02}:00Z,{lock},up,{},{word}\n", base + f64::from(minute) * 0.25);
        }
    }
    table
}

impl Drop for Service {
    fn drop(&mut self) {
        self.end();
    }
}

pub fn agent() -> Agent {
    Agent::config_builder().http_status_as_error(false).build().into()
}

/// A response.
pub struct Answer {
    pub status: u16,
    pub kind: String,
    headers: Vec<(String, String)>,
    body: Vec<u8>,
}

impl Answer {
    fn of(sent: Result<Response<Body>, ureq::Error>) -> Self {
        let mut response = sent.expect("the service answers");
        let text = |value: &ureq::http::HeaderValue| value.to_str().unwrap_or_default().to_owned();
        let kind = response.headers().get("content-type").map_or(String::new(), text);
        let headers = response.headers().iter().map(|(name, value)| (name.to_string(), text(value))).collect();
        Self { status: response.status().as_u16(), kind, headers, body: response.body_mut().read_to_vec().expect("the response is whole") }
    }

    /// A header by its name in small letters.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    pub fn bytes(&self) -> &[u8] {
        &self.body
    }

    pub fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }

    pub fn json(&self) -> Value {
        serde_json::from_slice(&self.body).unwrap_or_else(|error| panic!("{error}: {}", self.text()))
    }

    /// The document of a response that must be a success.
    pub fn ok(&self) -> Value {
        assert!([200, 201, 202].contains(&self.status), "{} {}", self.status, self.text());
        self.json()
    }

    /// Status, type and text of a problem.
    pub fn problem(&self) -> String {
        assert_eq!(self.kind, "application/problem+json", "{}", self.text());
        let problem = self.json();
        let part = |name: &str| problem[name].as_str().unwrap_or_default().to_owned();
        format!("{} {}: {}", self.status, part("type").trim_start_matches("urn:fenetre:problem:"), part("detail"))
    }
}

/// Problems, one per line.
pub fn problems(answers: &[Answer]) -> String {
    answers.iter().map(Answer::problem).collect::<Vec<_>>().join("\n")
}
