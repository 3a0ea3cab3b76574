//! What may come next at a place in a text, for editors.
//!
//! The parser itself says what it looked for when the text ended, so that what is offered always follows the grammar; the catalogue fills in
//! names and values.

use serde::Serialize;

use crate::{
    catalogue::{Dataset, Metric},
    model::Kind,
    query::{
        format::{name as write_name, quoted as write_text},
        lexer::{TextSpan, TokenKind, is_plain_name, lex},
        parser::{Expectations, Wanted, expectations},
        reducer::{Function, REDUCER_WORDS, Reducer},
        tree::MetricName,
    },
    visibility::VisibleCatalogue,
};

/// The most suggestions of one sort.
const MAX_SUGGESTIONS: usize = 50;

/// Series of a state whose words are looked at.
const MAX_LOOKED_AT: usize = 1_000;

/// Completions at a position.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Completion {
    /// The part of the text that a suggestion replaces.
    pub start: usize,
    /// First byte after it.
    pub end: usize,
    /// The likeliest first.
    pub suggestions: Vec<Suggestion>,
}

/// A completion.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Suggestion {
    /// Text to insert.
    pub text: String,
    /// What it is.
    pub kind: SuggestionKind,
    /// A few words about it: a metric's unit, how many series have a value.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
}

/// What a suggestion is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum SuggestionKind {
    /// A metric of the dataset, or what `let` gave a name.
    Metric,
    /// A tag of the metric.
    Tag,
    /// A value of the tag.
    Value,
    /// A reducer.
    Reducer,
    /// A function.
    Function,
    /// A word of the language.
    Word,
    /// A span, an instant, a zone.
    Time,
}

/// What may come at a byte of the text, with the word that stands there replaced.
pub fn complete<'c>(text: &str, cursor: usize, catalogue: impl Into<VisibleCatalogue<'c>>, dataset: &str) -> Completion {
    let catalogue = catalogue.into();
    let mut cursor = cursor.min(text.len());
    while !text.is_char_boundary(cursor) {
        cursor -= 1;
    }
    let before = &text[..cursor];
    let (start, typed) = word_under(before);
    let Some(Expectations { wanted, metric, tag, lets }) = expectations(&before[..start]) else {
        return Completion { start, end: cursor, ..Completion::default() };
    };
    let home = catalogue.dataset_by_any_name(dataset);
    let (home, found) = match &metric {
        Some(MetricName { dataset: Some(other), metric }) => {
            let other = catalogue.dataset_by_any_name(other).or(home);
            (other, other.and_then(|other| catalogue.metric_by_any_name(other, metric)))
        }
        Some(MetricName { metric, .. }) => (home, home.and_then(|home| catalogue.metric_by_any_name(home, metric))),
        None => (home, None),
    };
    let filler =
        Filler { catalogue, home, metric: found, tag: tag.as_deref(), lets: &lets, typed: typed.trim_start_matches(['"', '\'']).to_lowercase() };
    let mut suggestions: Vec<Suggestion> = Vec::new();
    for wanted in wanted {
        for suggestion in filler.suggestions(&wanted) {
            if !suggestions.iter().any(|known| known.text == suggestion.text) {
                suggestions.push(suggestion);
            }
        }
    }
    Completion { start, end: cursor, suggestions }
}

/// Where the word begins that ends at the end of a text, and the word: a name, or an open quote with what follows it.
fn word_under(before: &str) -> (usize, &str) {
    if let Err(error) = lex(before)
        && before[error.place.start.min(before.len())..].starts_with(['"', '\''])
    {
        return (error.place.start, &before[error.place.start..]);
    }
    let tokens = lex(before).unwrap_or_default();
    let last = tokens.iter().rev().find(|token| token.kind != TokenKind::End);
    match last {
        Some(token) if token.place.end == before.len() && matches!(token.kind, TokenKind::Word(_) | TokenKind::Figure(_)) => {
            let TextSpan { start, .. } = token.place;
            (start, &before[start..])
        }
        _ => (before.len(), ""),
    }
}

struct Filler<'a> {
    catalogue: VisibleCatalogue<'a>,
    home: Option<&'a Dataset>,
    metric: Option<&'a Metric>,
    tag: Option<&'a str>,
    lets: &'a [String],
    typed: String,
}

fn takes_state(word: &str) -> bool {
    Reducer::from_word(word).is_some_and(|reducer| reducer.of_state("").is_some())
}

impl Filler<'_> {
    fn suggestions(&self, wanted: &Wanted) -> Vec<Suggestion> {
        match wanted {
            Wanted::Word(word) => self.plain(SuggestionKind::Word, [word.as_str()]),
            Wanted::Expression => {
                let reducers = REDUCER_WORDS.into_iter().chain(["p90", "p95", "p99"]).map(|word| match takes_state(word) {
                    true => format!("{word}("),
                    false => format!("{word} of"),
                });
                let reducers: Vec<String> = reducers.chain(["points of".to_owned()]).collect();
                let functions: Vec<String> = Function::ALL.into_iter().map(|function| format!("{}(", function.as_str())).collect();
                let mut all = self.plain(SuggestionKind::Reducer, reducers.iter().map(String::as_str));
                all.extend(self.lets.iter().filter(|name| self.fits(name)).map(|name| suggestion(write_name(name), SuggestionKind::Metric, None)));
                all.extend(self.plain(SuggestionKind::Function, functions.iter().map(String::as_str)));
                // At a moment a metric stands alone.
                if !self.typed.is_empty() {
                    all.extend(self.metrics());
                }
                all
            }
            Wanted::Reducer => self.plain(SuggestionKind::Reducer, REDUCER_WORDS.into_iter().filter(|word| !takes_state(word))),
            Wanted::Metric => self.metrics(),
            Wanted::Tag => self.tags(),
            Wanted::Value => self.values(),
            Wanted::State => {
                let Some(home) = self.home else { return Vec::new() };
                // The metric stands behind the state: until it is there, those of all states are offered.
                let metrics = self.catalogue.metrics(home).filter(|metric| self.metric.is_none_or(|known| known.name == metric.name));
                let states = metrics.filter(|metric| metric.definition.kind == Kind::State).flat_map(Metric::series).take(MAX_LOOKED_AT);
                let mut words: Vec<&str> = states.filter_map(|id| home.series(id)).flat_map(|series| series.words()).map(|word| &**word).collect();
                words.sort_unstable();
                words.dedup();
                words
                    .into_iter()
                    .filter(|word| self.fits(word))
                    .take(MAX_SUGGESTIONS)
                    .map(|word| suggestion(write_text(word), SuggestionKind::Value, None))
                    .collect()
            }
            Wanted::Span => self.plain(SuggestionKind::Time, ["1m", "5m", "15m", "1h", "6h", "24h", "1d", "1w", "30d", "1mo"]),
            Wanted::Instant => self.plain(SuggestionKind::Time, ["now", "today", "yesterday"]),
            Wanted::Zone => {
                let own = self.home.map_or("UTC", |home| home.definition.zone.as_str());
                [own, "UTC"].into_iter().filter(|zone| self.fits(zone)).map(|zone| suggestion(write_text(zone), SuggestionKind::Time, None)).collect()
            }
        }
    }

    fn fits(&self, name: &str) -> bool {
        name.to_lowercase().starts_with(&self.typed)
    }

    fn plain<'w>(&self, kind: SuggestionKind, words: impl IntoIterator<Item = &'w str>) -> Vec<Suggestion> {
        words.into_iter().filter(|word| self.fits(word)).map(|word| suggestion(word.to_owned(), kind, None)).collect()
    }

    /// Names that begin with what was typed first, then those that hold it.
    fn metrics(&self) -> Vec<Suggestion> {
        let Some(home) = self.home else { return Vec::new() };
        let beginning = self.catalogue.metrics(home).filter(|metric| self.fits(&metric.name));
        let holding = self.catalogue.metrics(home).filter(|metric| !self.fits(&metric.name) && metric.name.to_lowercase().contains(&self.typed));
        let suggested = |metric: &Metric| {
            let unit = metric.definition.unit.as_deref().map_or(String::new(), |unit| format!(" in {unit}"));
            let series = metric.series_count();
            suggestion(write_name(&metric.name), SuggestionKind::Metric, Some(format!("{}{unit}, {series} series", metric.definition.kind)))
        };
        beginning.chain(holding).take(MAX_SUGGESTIONS).map(suggested).collect()
    }

    fn tags(&self) -> Vec<Suggestion> {
        let Some(home) = self.home else { return Vec::new() };
        let keys =
            self.catalogue.tag_keys(home).into_iter().filter(|key| self.fits(key) && self.metric.is_none_or(|metric| home.has_tag(key, metric)));
        keys.take(MAX_SUGGESTIONS).map(|key| suggestion(write_name(key), SuggestionKind::Tag, None)).collect()
    }

    fn values(&self) -> Vec<Suggestion> {
        let Some((home, tag)) = self.home.zip(self.tag) else { return Vec::new() };
        let mut values = self.catalogue.values_with_counts(home, tag, self.metric);
        values.retain(|(value, _)| self.fits(value));
        // The commonest first; of the same number in order.
        let order = |a: &(&str, u64), b: &(&str, u64)| b.1.cmp(&a.1).then(a.0.cmp(b.0));
        if values.len() > MAX_SUGGESTIONS {
            values.select_nth_unstable_by(MAX_SUGGESTIONS, order);
            values.truncate(MAX_SUGGESTIONS);
        }
        values.sort_unstable_by(order);
        let suggested = |(value, count): (&str, u64)| suggestion(write_text(value), SuggestionKind::Value, Some(format!("{count} series")));
        values.into_iter().map(suggested).collect()
    }
}

fn suggestion(text: String, kind: SuggestionKind, detail: Option<String>) -> Suggestion {
    debug_assert!(kind != SuggestionKind::Tag || is_plain_name(&text) || text.starts_with('\''));
    Suggestion { text, kind, detail }
}

#[cfg(test)]
mod tests;
