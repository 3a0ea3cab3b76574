//! A complete definition of each kind, to start from.

use super::{Definition, document::OfKind};

/// A definition of a kind, as TOML.
pub fn of_kind(kind: &str) -> Option<&'static str> {
    Some(match kind {
        "poll" => include_str!("examples/poll.toml"),
        "mqtt" => include_str!("examples/mqtt.toml"),
        "modbus" => include_str!("examples/modbus.toml"),
        "opcua" => include_str!("examples/opcua.toml"),
        "sql" => include_str!("examples/sql.toml"),
        "folder" => include_str!("examples/folder.toml"),
        _ => return None,
    })
}

/// The definitions of all kinds, with their names.
pub fn all() -> impl Iterator<Item = (&'static str, &'static str)> {
    Definition::KINDS.iter().filter_map(|kind| of_kind(kind).map(|text| (*kind, text)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_has_a_valid_example() {
        assert_eq!(all().count(), Definition::KINDS.len());
        for (kind, text) in all() {
            assert_eq!(Definition::parse(text, kind).unwrap().kind(), kind);
        }
    }
}
