//! The API's description: what is committed, from which the console's types are made, is what the service says.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use serde_json::Value;
use support::{Api, Service};

const FILE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json");
/// Set to write the file anew, after a change of the API.
const WRITE: &str = "FENETRE_WRITE_OPENAPI";

#[test]
fn the_committed_description_is_the_services() {
    let served = Service::start().get("/api/v1/openapi.json").ok();
    if std::env::var_os(WRITE).is_some() {
        std::fs::write(FILE, format!("{served:#}\n")).unwrap();
    }
    let committed: Value = serde_json::from_str(&std::fs::read_to_string(FILE).unwrap()).unwrap();
    assert!(committed == served, "docs/openapi.json is out of date: run this test with {WRITE}=1");
}

/// Every reference below a part of the document.
fn references<'d>(part: &'d Value, found: &mut Vec<&'d str>) {
    match part {
        Value::Object(members) => {
            found.extend(members.get("$ref").and_then(Value::as_str));
            members.values().for_each(|member| references(member, found));
        }
        Value::Array(items) => items.iter().for_each(|item| references(item, found)),
        _ => {}
    }
}

#[test]
fn every_definition_has_a_schema_and_every_property_a_description() {
    let document = Service::start().get("/api/v1/openapi.json").ok();
    let mut found = Vec::new();
    references(&document, &mut found);
    assert!(found.len() > 100);
    for reference in found {
        assert!(document.pointer(reference.trim_start_matches('#')).is_some(), "{reference} leads nowhere");
    }
    let schemas = document["components"]["schemas"].as_object().unwrap();
    let is_open = |schema: &Value| schema["type"] == "object" && ["properties", "additionalProperties"].iter().all(|key| schema.get(key).is_none());
    for (name, schema) in schemas {
        assert!(!is_open(schema), "{name} has no properties");
        for (property, of) in schema["properties"].as_object().into_iter().flatten() {
            assert!(!is_open(of), "{name}.{property} has no properties");
            // That of an optional property stands beside the reference.
            let is_described = [of, &of["oneOf"][0]].iter().any(|part| part.get("description").is_some());
            assert!(is_described, "{name}.{property} has no description");
        }
    }
}
