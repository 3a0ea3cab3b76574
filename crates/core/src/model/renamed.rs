//! Keys of definitions that had another name in earlier versions, for errors that name the new one.

const RENAMED: [(&str, &str); 6] = [
    ("most_series", "max_series"),
    ("most_series_per_metric", "max_series_per_metric"),
    ("longest_tag_value", "max_tag_value_bytes"),
    ("most_tags", "max_tags"),
    ("most_values", "max_values"),
    ("longest_silence", "max_silence"),
];

/// The current name of a key, if `key` is an earlier one.
pub fn renamed_key(key: &str) -> Option<&'static str> {
    RENAMED.iter().find(|(old, _)| *old == key).map(|(_, new)| *new)
}
