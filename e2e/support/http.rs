//! Calls of a service over HTTP, and made-up points for them: for tests that start the real binary and for those in process.

#![allow(dead_code, reason = "every test file uses a part of this")]

use serde_json::Value;
use ureq::{
    Agent, Body,
    http::{HeaderValue, Response},
};

const JSON: (&str, &str) = ("Content-Type", "application/json");
const LINES: (&str, &str) = ("Content-Type", "application/x-ndjson");

/// Something that is called over HTTP.
pub trait Api {
    /// Its address, without a path.
    fn url(&self) -> &str;

    fn get(&self, path: &str) -> Answer {
        Answer::of(agent().get(format!("{}{path}", self.url())).call())
    }

    fn get_as(&self, path: &str, accept: &str) -> Answer {
        Answer::of(agent().get(format!("{}{path}", self.url())).header("Accept", accept).call())
    }

    /// Any call, with a token if there is one.
    fn call(&self, method: &str, path: &str, token: Option<&str>, headers: &[(&str, &str)], body: &[u8]) -> Answer {
        Answer::of(self.open(method, path, token, headers, body))
    }

    /// The same, before its body is read.
    fn open(&self, method: &str, path: &str, token: Option<&str>, headers: &[(&str, &str)], body: &[u8]) -> Result<Response<Body>, ureq::Error> {
        let mut request = ureq::http::Request::builder().method(method).uri(format!("{}{path}", self.url()));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        if let Some(token) = token {
            request = request.header("Authorization", format!("Bearer {token}"));
        }
        match method {
            "GET" | "DELETE" => agent().run(request.body(()).expect("a request")),
            _ => agent().run(request.body(body.to_vec()).expect("a request")),
        }
    }

    /// Creates a token with the grants, as an administrator, and returns its secret.
    fn token(&self, admin: Option<&str>, order: &Value) -> String {
        let answer = self.call("POST", "/api/v1/tokens", admin, &[JSON], order.to_string().as_bytes());
        assert_eq!(answer.status, 201, "{}", answer.text());
        answer.json()["secret"].as_str().expect("a secret").to_owned()
    }

    fn delete(&self, path: &str) -> Answer {
        Answer::of(agent().delete(format!("{}{path}", self.url())).call())
    }

    fn post(&self, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Answer {
        let request = headers.iter().fold(agent().post(format!("{}{path}", self.url())), |request, (name, value)| request.header(*name, *value));
        Answer::of(request.send(body))
    }

    fn put(&self, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Answer {
        let request = headers.iter().fold(agent().put(format!("{}{path}", self.url())), |request, (name, value)| request.header(*name, *value));
        Answer::of(request.send(body))
    }

    /// Posts a JSON document.
    fn post_json(&self, path: &str, body: &Value) -> Answer {
        self.post(path, &[JSON], body.to_string().as_bytes())
    }

    /// Puts a JSON document.
    fn put_json(&self, path: &str, body: &Value) -> Answer {
        self.put(path, &[JSON], body.to_string().as_bytes())
    }

    /// Pushes points as JSON Lines, all of which must be accepted.
    fn push_lines(&self, dataset: &str, lines: &str) {
        let answer = self.post(&format!("/api/v1/datasets/{dataset}/points"), &[LINES], lines.as_bytes());
        assert_eq!((answer.status, answer.json()["rejected"].as_u64()), (200, Some(0)), "{}", answer.text());
    }

    /// Pushes [`an_hour_of_levels`] into a dataset: metrics `level` and `gate`, with the tags `lock` and `side`.
    fn push_levels(&self, dataset: &str) {
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
        let text = |value: &HeaderValue| value.to_str().unwrap_or_default().to_owned();
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
