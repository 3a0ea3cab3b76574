//! One line of an exposition.

use std::borrow::Cow;

/// What a line is.
#[derive(Debug, PartialEq)]
pub enum Line<'t> {
    /// `# EOF`
    End,
    /// `# TYPE name type`
    Type(&'t str, &'t str),
    /// `# UNIT name unit`
    Unit(&'t str, &'t str),
    /// `# HELP name text`
    Help(&'t str, String),
    /// `#` and something else.
    Comment,
    /// A value.
    Sample(Sample<'t>),
}

/// `name{key="value",…} value timestamp # exemplar`
#[derive(Debug, PartialEq)]
pub struct Sample<'t> {
    pub name: &'t str,
    pub labels: Vec<(&'t str, Cow<'t, str>)>,
    pub value: f64,
    pub timestamp: Option<&'t str>,
    pub has_exemplar: bool,
}

impl Sample<'_> {
    pub fn label(&self, key: &str) -> Option<&str> {
        self.labels.iter().find(|(known, _)| *known == key).map(|(_, value)| &**value)
    }
}

/// Reads a line without its end.
pub fn parse(text: &str) -> Result<Line<'_>, String> {
    if text == "# EOF" {
        return Ok(Line::End);
    }
    if let Some(comment) = text.strip_prefix('#') {
        let mut words = comment.trim_start().splitn(3, ' ');
        return Ok(match (words.next(), words.next(), words.next()) {
            (Some("TYPE"), Some(name), Some(sort)) => Line::Type(name, sort.trim()),
            (Some("UNIT"), Some(name), unit) => Line::Unit(name, unit.unwrap_or_default().trim()),
            (Some("HELP"), Some(name), help) => Line::Help(name, unescaped(help.unwrap_or_default())?.into_owned()),
            _ => Line::Comment,
        });
    }
    if text.trim().is_empty() {
        return Err("the line is empty, which OpenMetrics does not allow".to_owned());
    }
    sample(text).map(Line::Sample)
}

/// What stands at the beginning of a line where a sample has its name.
pub fn name_of(text: &str) -> &str {
    text.split(|c: char| !(c.is_ascii_alphanumeric() || c == '_' || c == ':')).next().unwrap_or_default()
}

fn sample(text: &str) -> Result<Sample<'_>, String> {
    let (name, mut rest) = text.split_at(name_of(text).len());
    if name.is_empty() || name.starts_with(|c: char| c.is_ascii_digit()) {
        return Err(format!(
            "invalid metric name `{}`: use letters, digits, `_` and `:`, not starting with a digit",
            text.split([' ', '{']).next().unwrap_or_default()
        ));
    }
    let mut found = Vec::new();
    if let Some(inside) = rest.strip_prefix('{') {
        rest = labels(inside, &mut found)?;
    }
    let rest = rest.strip_prefix(' ').ok_or_else(|| format!("a space and a value must follow `{name}`"))?;
    let (rest, has_exemplar) = match rest.split_once(" # ") {
        Some((rest, _)) => (rest, true),
        None => (rest, false),
    };
    let mut words = rest.split(' ');
    let value = words.next().unwrap_or_default();
    let value = number(value).ok_or_else(|| format!("invalid value `{value}`: use a number, NaN, +Inf or -Inf"))?;
    let timestamp = words.next().filter(|word| !word.is_empty());
    match words.next() {
        Some(more) => Err(format!("`{more}` follows the timestamp")),
        None => Ok(Sample { name, labels: found, value, timestamp, has_exemplar }),
    }
}

/// Reads labels up to the closing brace; returns what follows it.
fn labels<'t>(mut rest: &'t str, found: &mut Vec<(&'t str, Cow<'t, str>)>) -> Result<&'t str, String> {
    loop {
        if let Some(after) = rest.strip_prefix('}') {
            return Ok(after);
        }
        let (key, after) = rest.split_once("=\"").ok_or("a label is written as key=\"value\", and labels end with `}`")?;
        let is_name = !key.is_empty() && !key.starts_with(|c: char| c.is_ascii_digit()) && key.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
        if !is_name {
            return Err(format!("invalid label name `{key}`: use letters, digits and `_`, not starting with a digit"));
        }
        if found.iter().any(|(known, _)| *known == key) {
            return Err(format!("the label `{key}` is there twice"));
        }
        let end = closing_quote(after).ok_or_else(|| format!("the value of the label `{key}` has no closing quote"))?;
        found.push((key, unescaped(&after[..end])?));
        rest = &after[end + 1..];
        match rest.strip_prefix(',') {
            Some(after) => rest = after,
            None if rest.starts_with('}') => {}
            None => return Err(format!("a comma or `}}` must follow the label `{key}`")),
        }
    }
}

fn closing_quote(text: &str) -> Option<usize> {
    let mut escaped = false;
    text.bytes().position(|byte| match byte {
        _ if escaped => {
            escaped = false;
            false
        }
        b'\\' => {
            escaped = true;
            false
        }
        byte => byte == b'"',
    })
}

/// `\\`, `\"` and `\n` are what may be escaped.
fn unescaped(text: &str) -> Result<Cow<'_, str>, String> {
    if !text.contains('\\') {
        return Ok(Cow::Borrowed(text));
    }
    let mut out = String::with_capacity(text.len());
    let mut letters = text.chars();
    while let Some(letter) = letters.next() {
        match letter {
            '\\' => out.push(match letters.next() {
                Some('n') => '\n',
                Some(plain @ ('\\' | '"')) => plain,
                other => return Err(format!("`\\{}` is no escape: there are \\\\, \\\" and \\n", other.map_or(String::new(), String::from))),
            }),
            other => out.push(other),
        }
    }
    Ok(Cow::Owned(out))
}

fn number(text: &str) -> Option<f64> {
    match text.to_ascii_lowercase().as_str() {
        "nan" => Some(f64::NAN),
        "+inf" | "inf" | "+infinity" | "infinity" => Some(f64::INFINITY),
        "-inf" | "-infinity" => Some(f64::NEG_INFINITY),
        plain => plain.parse().ok(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_parse_as_in_the_standard() {
        insta::assert_debug_snapshot!([
            parse("# TYPE boats counter"),
            parse("# HELP boats Boats \\\\ both\\nways"),
            parse("# UNIT boats"),
            parse("boats_total{lock=\"osier\",note=\"a \\\"b\\\", {c}\"} 17 1777626000.5 # {trace=\"x\"} 1 2"),
            parse("level 3.5e2"),
            parse("level{} +Inf 1"),
            parse("# EOF"),
            parse("# something else"),
        ]);
    }

    #[test]
    fn invalid_lines_are_rejected() {
        let wrong = [
            "",
            "9level 1",
            "level",
            "level{lock=osier} 1",
            "level{lock=\"osier} 1",
            "level{lock=\"a\\t\"} 1",
            "level{lock=\"a\"x} 1",
            "level x",
            "level 1 2 3",
            "level{a b=\"c\"} 1",
            "level{0x=\"c\"} 1",
            "level{a=\"b\",a=\"c\"} 1",
        ];
        insta::assert_snapshot!(wrong.map(|text| format!("{text} => {}", parse(text).unwrap_err())).join("\n"));
    }
}
