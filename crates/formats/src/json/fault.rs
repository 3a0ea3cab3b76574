//! What the parser of JSON found wrong.

use serde_json::error::Category;

/// What the parser found wrong, without its place, which is reported separately.
pub fn without_place(error: &serde_json::Error) -> String {
    let text = error.to_string();
    let text = text.split(" at line ").next().unwrap_or(&text);
    match error.classify() {
        Category::Eof => "it ends too early".to_owned(),
        Category::Syntax if text.starts_with("expected") => format!("it is not JSON, {text}"),
        _ => text.replace("struct RawPoint", "an object with a point"),
    }
}
