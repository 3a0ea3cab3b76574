//! A complete definition of each kind, to start from.

use super::SinkDefinition;
use crate::definition::document::OfKind;

/// A definition of a kind, as TOML.
pub fn of_kind(kind: &str) -> Option<&'static str> {
    Some(match kind {
        "forward" => include_str!("examples/forward.toml"),
        "http" => include_str!("examples/http.toml"),
        "files" => include_str!("examples/files.toml"),
        "sql" => include_str!("examples/sql.toml"),
        "mqtt" => include_str!("examples/mqtt.toml"),
        _ => return None,
    })
}

/// The definitions of all kinds, with their names.
pub fn all() -> impl Iterator<Item = (&'static str, &'static str)> {
    SinkDefinition::KINDS.iter().filter_map(|kind| of_kind(kind).map(|text| (*kind, text)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_has_a_valid_example() {
        assert_eq!(all().count(), SinkDefinition::KINDS.len());
        for (kind, text) in all() {
            assert_eq!(SinkDefinition::parse(text, kind).unwrap().kind(), kind);
        }
    }
}
