//! What a dataset is, and what it allows as tags.

use serde::{Deserialize, Serialize};

use super::check_tag_value;

/// Definition of a dataset.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default, deny_unknown_fields)]
pub struct DatasetDefinition {
    /// IANA name of its time zone.
    pub zone: String,
    /// One sentence.
    pub description: String,
    /// Whether undefined metrics and tags are rejected instead of being created on arrival.
    pub closed: bool,
    /// Maximum number of series. At the limit, points of existing series are still accepted, and new series are rejected.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_series: Option<u32>,
    /// Maximum number of series of each of its metrics, unless the metric has its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_series_per_metric: Option<u32>,
    /// Maximum length of a tag's value, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_tag_value_bytes: Option<u32>,
    /// Maximum number of tags of a series.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_tags: Option<u32>,
}

impl Default for DatasetDefinition {
    fn default() -> Self {
        Self {
            zone: "UTC".to_owned(),
            description: String::new(),
            closed: false,
            max_series: None,
            max_series_per_metric: None,
            max_tag_value_bytes: None,
            max_tags: None,
        }
    }
}

/// Definition of a tag.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default, deny_unknown_fields)]
pub struct TagDefinition {
    /// One sentence.
    pub description: String,
    /// Whether every new series must have the tag.
    pub required: bool,
    /// Allowed values; if empty, any value is allowed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub allowed: Vec<String>,
    /// A regular expression that a whole value must match.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pattern: Option<String>,
    /// Maximum number of distinct values.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_values: Option<u32>,
}

impl TagDefinition {
    /// Checks whether its parts make sense.
    ///
    /// # Errors
    /// What is wrong, in a sentence.
    pub fn check(&self) -> Result<(), String> {
        if let Some(bad) = self.allowed.iter().find_map(|value| check_tag_value(value).err()) {
            return Err(format!("an allowed value {bad}"));
        }
        self.pattern().map(|_| ())
    }

    /// The pattern, ready to match whole values.
    ///
    /// # Errors
    /// What is wrong with it, in a sentence.
    pub fn pattern(&self) -> Result<Option<regex::Regex>, String> {
        let Some(pattern) = &self.pattern else { return Ok(None) };
        let whole = regex::RegexBuilder::new(&format!("^(?:{pattern})$")).size_limit(1 << 20).build();
        whole.map(Some).map_err(|error| {
            let text = error.to_string();
            format!("the pattern `{pattern}` is not a regular expression: {}", text.lines().last().unwrap_or(&text).trim_start_matches("error: "))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pattern_matches_whole_values() {
        let tag = TagDefinition { pattern: Some("up|down".into()), ..Default::default() };
        let pattern = tag.pattern().unwrap().unwrap();
        assert!(pattern.is_match("up") && !pattern.is_match("upper") && !pattern.is_match("x down"));
        let bad = TagDefinition { pattern: Some("(up".into()), ..Default::default() };
        assert!(bad.check().unwrap_err().contains("(up"), "{:?}", bad.check());
        assert!(TagDefinition { allowed: vec![String::new()], ..Default::default() }.check().is_err());
    }
}
