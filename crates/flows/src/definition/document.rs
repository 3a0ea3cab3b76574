//! Documents of several kinds, in TOML or JSON. The key `kind` decides which other keys a document has.

use std::collections::BTreeSet;

use fenetre_core::suggest::{closest, listing};
use serde::{Deserialize, Serialize, de::DeserializeOwned};
use serde_json::Value;

use crate::error::FlowError;

/// A document that has a kind.
pub trait OfKind: DeserializeOwned {
    /// The kinds, by the word in a document.
    const KINDS: &'static [&'static str];

    /// Reads a document of a kind from TOML; none if there is no such kind.
    fn read(kind: &str, text: &str) -> Option<Result<Self, toml::de::Error>>;

    /// Checks whether its parts make sense together.
    ///
    /// # Errors
    /// What is wrong, and what to write.
    fn check(&self) -> Result<(), String>;
}

/// Reads a document, in TOML, or in JSON if it begins with a brace, and checks it. Errors refer to the text as `name`.
///
/// # Errors
/// [`FlowError::Definition`], with line and column.
pub fn parse<D: OfKind>(text: &str, name: &str) -> Result<D, FlowError> {
    #[derive(Deserialize)]
    struct KindOnly {
        kind: Option<toml::Spanned<String>>,
    }
    let document: D = if text.trim_start().starts_with('{') {
        serde_json::from_str(text).map_err(|error| FlowError::Definition(format!("{name}: {error}")))?
    } else {
        let wrong = |at: usize, reason: &str| {
            let before = &text[..at.min(text.len())];
            let line = before.matches('\n').count() + 1;
            let column = before.rsplit('\n').next().unwrap_or_default().chars().count() + 1;
            FlowError::Definition(format!("{name}:{line}:{column}: {reason}"))
        };
        let of_toml = |error: toml::de::Error| wrong(error.span().map_or(0, |span| span.start), error.message());
        let kinds = || D::KINDS.iter().copied();
        let KindOnly { kind } = toml::from_str(text).map_err(of_toml)?;
        let Some(kind) = kind else { return Err(wrong(0, &format!("`kind` is missing: it is one of {}", listing(kinds(), 9)))) };
        let unknown = || {
            let other = kind.get_ref();
            let hint =
                closest(other, kinds()).map_or_else(|| format!("use one of {}", listing(kinds(), 9)), |kind| format!("did you mean `{kind}`?"));
            wrong(kind.span().start, &format!("unknown kind `{other}`: {hint}"))
        };
        D::read(kind.get_ref(), text).ok_or_else(unknown)?.map_err(of_toml)?
    };
    document.check().map_err(|error| FlowError::Definition(format!("{name}: {error}")))?;
    Ok(document)
}

/// Whether two documents are equal, regardless of notation.
pub fn is_same(one: &impl Serialize, other: &impl Serialize) -> bool {
    serde_json::to_value(one).ok().is_some_and(|one| Some(one) == serde_json::to_value(other).ok())
}

/// Names of the store's secrets that a document refers to.
pub fn kept_secrets(document: &impl Serialize) -> BTreeSet<String> {
    fn collect(value: &Value, found: &mut BTreeSet<String>) {
        match value {
            Value::Object(fields) => {
                for (key, inner) in fields {
                    // No other part of a definition has a key of that name.
                    match inner.as_str().filter(|_| key == "kept") {
                        Some(name) => drop(found.insert(name.to_owned())),
                        None => collect(inner, found),
                    }
                }
            }
            Value::Array(items) => items.iter().for_each(|item| collect(item, found)),
            _ => {}
        }
    }
    let mut found = BTreeSet::new();
    // A definition always has a JSON form.
    collect(&serde_json::to_value(document).unwrap_or_default(), &mut found);
    found
}
