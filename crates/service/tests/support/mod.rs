//! The service in this process, on a loopback port and a store of its own, and ways to call it over HTTP.

#![allow(dead_code, reason = "every test file uses a part of this")]

use std::{path::Path, sync::mpsc, thread};

use fenetre_service::{Config, Ready, ServeError, serve};
use serde_json::{Value, json};
use ureq::{Agent, Body, http::Response};

/// A running service. It stops when this is dropped.
pub struct Service {
    url: String,
    ready: Option<Ready>,
    thread: Option<thread::JoinHandle<Result<(), ServeError>>>,
    /// The store goes with the service, where the test did not bring one.
    _folder: Option<tempfile::TempDir>,
}

impl Service {
    /// Serves an empty store with the default settings.
    pub fn start() -> Self {
        Self::with(|_| ())
    }

    /// Serves an empty store with other settings.
    pub fn with(change: impl FnOnce(&mut Config)) -> Self {
        let folder = tempfile::tempdir().expect("there is room for a folder");
        let mut service = Self::on(folder.path(), change);
        service._folder = Some(folder);
        service
    }

    /// Serves the store in a folder.
    pub fn on(folder: &Path, change: impl FnOnce(&mut Config)) -> Self {
        let mut config = Config { store: folder.join("store"), log_level: "error".to_owned(), ..Config::default() };
        config.listen_on("127.0.0.1:0").expect("a loopback address");
        change(&mut config);
        let (tell, told) = mpsc::channel();
        let thread = thread::spawn(move || serve(&config, |ready| drop(tell.send(ready))));
        let ready = told.recv().expect("the service starts");
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

    /// Posts a JSON document.
    pub fn post(&self, path: &str, body: Value) -> Answer {
        self.post_as(path, "application/json", body.to_string().as_bytes())
    }

    /// Posts bytes of a media type.
    pub fn post_as(&self, path: &str, kind: &str, body: &[u8]) -> Answer {
        Answer::of(agent().post(format!("{}{path}", self.url)).header("Content-Type", kind).send(body))
    }

    /// Puts a JSON document.
    pub fn put(&self, path: &str, body: Value) -> Answer {
        Answer::of(agent().put(format!("{}{path}", self.url)).header("Content-Type", "application/json").send(body.to_string().as_bytes()))
    }

    /// Pushes `level` of two locks, a reading per minute of the hour from 09:00 on 2026-05-01: 310 to 324.75 at osier, 280 to 294.75 at marl.
    pub fn push_levels(&self, dataset: &str) {
        let point = |lock: &str, base: f64, minute: u32| json!({ "metric": "level", "tags": { "lock": lock }, "time": format!("2026-05-01T09:{minute:02}:00Z"), "value": base + f64::from(minute) * 0.25 });
        let points: Vec<Value> = (0..60).flat_map(|minute| [point("osier", 310.0, minute), point("marl", 280.0, minute)]).collect();
        let answer = self.post(&format!("/api/v1/datasets/{dataset}/points"), Value::Array(points));
        assert_eq!((answer.status, answer.json()["accepted"].as_u64()), (200, Some(120)), "{}", answer.text());
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        self.end();
    }
}

fn agent() -> Agent {
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

    /// The document of a response that must be 200.
    pub fn ok(&self) -> Value {
        assert_eq!(self.status, 200, "{}", self.text());
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
