//! Errors of a query: what is wrong, where, and what to write instead.

use std::fmt::Write as _;

use super::lexer::TextSpan;

/// A fault in a query's text, or in what it names.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct QueryError {
    /// Bytes of the text that are at fault.
    pub place: TextSpan,
    /// What is wrong, in one sentence without a full stop.
    pub message: String,
    /// What to do instead, if that is known.
    pub help: Option<String>,
}

impl QueryError {
    /// An error at a place.
    pub fn new(place: TextSpan, message: impl Into<String>) -> Self {
        Self { place, message: message.into(), help: None }
    }

    /// Adds what to do instead.
    #[must_use]
    pub fn with_help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }

    /// Line and column of the place, both from 1; columns count characters.
    pub fn line_and_column(&self, text: &str) -> (usize, usize) {
        let before = &text[..floor(text, self.place.start)];
        let line = before.matches('\n').count() + 1;
        let column = before.rsplit('\n').next().unwrap_or_default().chars().count() + 1;
        (line, column)
    }

    /// The message with the line at fault and carets under the place.
    pub fn render(&self, text: &str) -> String {
        let (number, column) = self.line_and_column(text);
        let line = text.lines().nth(number - 1).unwrap_or_default();
        let end = floor(text, self.place.end.max(self.place.start));
        let marked = text[floor(text, self.place.start)..end].lines().next().unwrap_or_default().chars().count().max(1);
        let margin = number.to_string();
        let blank = " ".repeat(margin.len());
        let mut out = format!("{}\n{blank} |\n{margin} | {line}\n{blank} | {}{}", self.message, " ".repeat(column - 1), "^".repeat(marked));
        if let Some(help) = &self.help {
            let _ = write!(out, "\n{blank} = {help}");
        }
        out
    }
}

/// The last border of a character that is not after `at`.
fn floor(text: &str, at: usize) -> usize {
    let mut at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}
