//! What the documents say is run: every example of the query language, on the demo's metrics.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/mod.rs"]
mod support;

use support::{Service, run};

/// The fenced blocks of a document that are of one sort.
fn blocks<'d>(document: &'d str, sort: &str) -> Vec<&'d str> {
    let fence = format!("```{sort}\n");
    document.split(&fence).skip(1).map(|rest| rest.split("```").next().unwrap()).collect()
}

fn document(path: &str) -> String {
    std::fs::read_to_string(format!("{}/../../{path}", env!("CARGO_MANIFEST_DIR"))).unwrap()
}

#[test]
fn every_query_in_the_reference_answers_on_the_demo() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("demo").display().to_string();
    let service = Service::start_with(&["demo", "run", "--store", &store, "--listen", "127.0.0.1:0", "--days", "2"]);
    let text = document("docs/query.md");
    let queries = blocks(&text, "query");
    assert!(queries.len() >= 6);
    for query in queries {
        let ran = service.run_with_input(&["ask", "-", "--dataset", "velmar", "-o", "json"], query.as_bytes());
        assert_eq!(ran.code(), 0, "{query}\n{}", ran.err());
        let answer: serde_json::Value = serde_json::from_str(&ran.out()).unwrap();
        for show in answer["shows"].as_array().unwrap() {
            let lines = show["lines"].as_array().unwrap();
            assert!(!lines.is_empty(), "{query}");
            assert!(lines.iter().any(|line| line["values"].as_array().unwrap().iter().any(|value| !value.is_null())), "{query}");
        }
    }
}

/// Set to write the answers anew, when they change for a reason.
const WRITE: &str = "FENETRE_WRITE_COOKBOOK";

#[test]
fn the_cookbook_answers_match_the_demo() {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("demo").display().to_string();
    let frozen = ["demo", "run", "--store", &store, "--listen", "127.0.0.1:0", "--days", "8", "--until", "2026-05-08T23:00:00Z"];
    let service = Service::start_with(&frozen);
    let mut text = document("docs/cookbook.md");
    let queries: Vec<String> = blocks(&text, "query").into_iter().map(str::to_owned).collect();
    assert!(queries.len() >= 25);
    let mut wrong = Vec::new();
    for query in queries {
        let ran = service.run_with_input(&["ask", "-", "--dataset", "velmar"], query.as_bytes());
        assert_eq!(ran.code(), 0, "{query}\n{}", ran.err());
        let begin = text.find(&query).unwrap() + query.len();
        let from = begin + text[begin..].find("```answer\n").unwrap() + "```answer\n".len();
        let to = from + text[from..].find("```").unwrap();
        let answer = ran.out().lines().map(|line| format!("{}\n", line.trim_end())).collect::<String>();
        if text[from..to] != answer {
            wrong.push(format!("{query}\n{answer}"));
            text.replace_range(from..to, &answer);
        }
    }
    if std::env::var_os(WRITE).is_some() {
        std::fs::write(format!("{}/../../docs/cookbook.md", env!("CARGO_MANIFEST_DIR")), text).unwrap();
    } else {
        assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    }
}

/// Every command of a document, in its order, against one service with a fresh store.
fn run_commands(path: &str) {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("store"));
    let binary = std::path::Path::new(env!("CARGO_BIN_EXE_fenetre")).parent().unwrap();
    let search = format!("{}:{}", binary.display(), std::env::var("PATH").unwrap());
    for block in blocks(&document(path), "sh") {
        let script = format!(
            "set -eu -o pipefail\n{}",
            block
                .replace("http://127.0.0.1:7430", &service.url)
                .replace("/tmp/metrics.csv", &folder.path().join("metrics.csv").display().to_string())
        );
        let mut command = std::process::Command::new("bash");
        command
            .args(["-c", &script])
            .current_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."))
            .env("PATH", &search)
            .env("FENETRE_URL", &service.url)
            .env_remove("FENETRE_DATASET");
        let ran = command.output().unwrap();
        assert!(ran.status.success(), "{block}\n{}{}", String::from_utf8_lossy(&ran.stdout), String::from_utf8_lossy(&ran.stderr));
    }
}

#[test]
fn every_documented_ingest_command_runs() {
    run_commands("docs/ingest.md");
}

#[test]
fn every_documented_definition_command_runs() {
    run_commands("docs/definitions.md");
}

#[test]
fn the_configuration_in_the_readme_is_valid() {
    let folder = tempfile::tempdir().unwrap();
    for block in blocks(&document("README.md"), "toml") {
        let ran = run(&["config", "check", &support::file(folder.path(), "fenetre.toml", block)]);
        assert_eq!(ran.code(), 0, "{}", ran.all());
    }
}

#[test]
fn every_link_in_the_docs_resolves() {
    for path in [
        "README.md",
        "CONTRIBUTING.md",
        "docs/query.md",
        "docs/cookbook.md",
        "docs/ingest.md",
        "docs/definitions.md",
        "docs/storage.md",
        "docs/architecture.md",
        "docs/block-format.md",
        "docs/benchmarks.md",
    ] {
        let text = document(path);
        let folder = std::path::Path::new(path).parent().unwrap();
        for target in text
            .split("](")
            .skip(1)
            .map(|rest| rest.split(')').next().unwrap())
            .map(|target| target.split('#').next().unwrap())
            .filter(|target| !target.is_empty() && !target.contains("://"))
        {
            let file = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(folder).join(target);
            assert!(file.exists(), "{path} links to {target}, which is not there");
        }
    }
}
