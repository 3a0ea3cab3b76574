//! Tokens to tree, by recursive descent: a file for each part of a query, its functions in the order of the grammar.

mod condition;
mod expr;
mod frame;
mod show;

use std::cell::RefCell;

use super::{
    QueryError, Reducer,
    lexer::{TextSpan, Token, TokenKind, lex},
    tree::{Condition, Frame, MetricName, Query, Spanned},
};
use crate::{
    suggest::closest,
    time::{Span, SpanError},
};

/// Words that a name may not be without quotes.
pub(super) const KEYWORDS: [&str; 30] = [
    "let", "show", "of", "where", "and", "or", "not", "in", "by", "overall", "as", "points", "over", "last", "to", "since", "per", "zone", "at",
    "keeping", "gaps", "stepping", "starting", "taking", "within", "matches", "has", "lacks", "earlier", "auto",
];
/// Words that mean something after an expression, and elsewhere are names like others.
const SOFT_WORDS: [&str; 4] = ["top", "bottom", "unit", "from"];
/// The most `show`s, conditions, texts of a list or tags behind `by`.
const MAX_PARTS: usize = 1_000;
/// The most parentheses and `not`s within each other.
const DEEPEST: usize = 60;

/// Whether a name would be read as a word of the language.
pub fn is_keyword(name: &str) -> bool {
    KEYWORDS.contains(&name)
}

/// Reads a query.
///
/// # Errors
/// [`QueryError`] at the first fault.
pub fn parse(text: &str) -> Result<Query, QueryError> {
    Parser::new(text)?.query()
}

/// Reads the clauses of a frame alone, as the frame bar and the options of the command line give them.
///
/// # Errors
/// [`QueryError`] at the first fault.
pub fn parse_frame(text: &str) -> Result<Frame, QueryError> {
    let mut parser = Parser::new(text)?;
    let frame = parser.frame()?;
    parser.end("`over …`, `per …`, `zone …` or the end")?;
    Ok(frame)
}

/// Reads a condition alone, as it stands behind `where`.
///
/// # Errors
/// [`QueryError`] at the first fault.
pub fn parse_condition(text: &str) -> Result<Condition, QueryError> {
    let mut parser = Parser::new(text)?;
    let condition = parser.condition()?;
    parser.end("`and`, `or` or the end")?;
    Ok(condition)
}

/// Reads a reducer alone.
pub(super) fn parse_reducer(text: &str) -> Result<Reducer, QueryError> {
    let mut parser = Parser::new(text)?;
    let reducer = parser.reducer()?;
    parser.end("nothing more")?;
    Ok(reducer.value)
}

/// The unit of a span that was meant: by its whole word, or nearly written.
fn span_unit(unit: &str) -> Option<&'static str> {
    let words = [
        ("second", "s"),
        ("sec", "s"),
        ("min", "m"),
        ("minute", "m"),
        ("hour", "h"),
        ("hr", "h"),
        ("day", "d"),
        ("week", "w"),
        ("month", "mo"),
        ("quarter", "q"),
        ("year", "y"),
    ];
    let whole = unit.to_lowercase();
    let one = whole.strip_suffix('s').unwrap_or(&whole);
    let by_word = words.into_iter().find(|(word, _)| *word == one).map(|(_, known)| known);
    by_word.or_else(|| closest(unit, ["ms", "s", "m", "h", "d", "w", "mo", "q", "y"]))
}

/// What may stand somewhere.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Wanted {
    Word(String),
    Expression,
    Reducer,
    Metric,
    Tag,
    Value,
    State,
    Span,
    Instant,
    Zone,
}

/// What the parser looked for at the end of a text, and what it knew by then.
pub(crate) struct Expectations {
    pub wanted: Vec<Wanted>,
    /// The metric whose tags may be meant.
    pub metric: Option<MetricName>,
    /// The tag whose values may be meant.
    pub tag: Option<String>,
    /// Names that `let` has given.
    pub lets: Vec<String>,
}

/// What may follow a text that is the beginning of a query, or of the clauses of a frame; none where it is the beginning of neither.
pub(crate) fn expectations(text: &str) -> Option<Expectations> {
    let mut parser = Parser::new(text).ok()?;
    let end = parser.tokens.last()?.place;
    let error = parser.query().err();
    // A fault before the end is no beginning of anything.
    if error.is_some_and(|error| error.place.end < end.start && parser.wanted.borrow().is_empty()) {
        return None;
    }
    Some(Expectations { wanted: parser.wanted.take(), metric: parser.metric, tag: parser.tag, lets: parser.lets })
}

pub(super) struct Parser {
    tokens: Vec<Token>,
    at: usize,
    depth: usize,
    wanted: RefCell<Vec<Wanted>>,
    metric: Option<MetricName>,
    tag: Option<String>,
    lets: Vec<String>,
}

impl Parser {
    fn new(text: &str) -> Result<Self, QueryError> {
        Ok(Self { tokens: lex(text)?, at: 0, depth: 0, wanted: RefCell::default(), metric: None, tag: None, lets: Vec::new() })
    }

    fn peek(&self) -> &Token {
        &self.tokens[self.at]
    }

    /// The token so many places ahead; the end, which is the last, stays.
    fn ahead(&self, places: usize) -> &TokenKind {
        &self.tokens[(self.at + places).min(self.tokens.len() - 1)].kind
    }

    fn advance(&mut self) {
        // The last token is the end, which nobody passes.
        self.at = (self.at + 1).min(self.tokens.len() - 1);
    }

    fn since(&self, start: usize) -> TextSpan {
        TextSpan { start, end: self.tokens[self.at.saturating_sub(1)].place.end }
    }

    /// Reads something, and notes where it stood.
    fn spanned<T>(&mut self, read: impl FnOnce(&mut Self) -> Result<T, QueryError>) -> Result<Spanned<T>, QueryError> {
        let start = self.peek().place.start;
        let value = read(self)?;
        Ok(Spanned { value, place: self.since(start) })
    }

    /// Notes what may stand here, if this is the end of the text.
    fn want(&self, wanted: Wanted) {
        if self.peek().kind == TokenKind::End && !self.wanted.borrow().contains(&wanted) {
            self.wanted.borrow_mut().push(wanted);
        }
    }

    fn is_word(&self, word: &str) -> bool {
        if self.peek().kind == TokenKind::End {
            self.want(Wanted::Word(word.to_owned()));
        }
        matches!(&self.peek().kind, TokenKind::Word(found) if found == word)
    }

    fn skip_word(&mut self, word: &str) -> bool {
        let found = self.is_word(word);
        if found {
            self.advance();
        }
        found
    }

    fn expect_word(&mut self, word: &str) -> Result<(), QueryError> {
        if self.skip_word(word) { Ok(()) } else { Err(self.unexpected(&format!("`{word}`"))) }
    }

    fn is_sign(&self, sign: &str) -> bool {
        matches!(self.peek().kind, TokenKind::Sign(found) if found == sign)
    }

    fn skip_sign(&mut self, sign: &str) -> bool {
        let found = self.is_sign(sign);
        if found {
            self.advance();
        }
        found
    }

    fn expect_sign(&mut self, sign: &str) -> Result<(), QueryError> {
        if self.skip_sign(sign) { Ok(()) } else { Err(self.unexpected(&format!("`{sign}`"))) }
    }

    fn name(&mut self, expected: &str) -> Result<Spanned<String>, QueryError> {
        let token = self.peek().clone();
        match token.kind {
            TokenKind::Word(word) if !is_keyword(&word) => {
                self.advance();
                Ok(Spanned { value: word, place: token.place })
            }
            TokenKind::QuotedName(name) => {
                self.advance();
                Ok(Spanned { value: name, place: token.place })
            }
            TokenKind::Word(word) => {
                let error = self.unexpected(expected);
                Err(error.with_help(format!("`{word}` is a keyword; to use it as a name, write it in single quotes: '{word}'")))
            }
            TokenKind::Text(text) if !text.contains('\'') => {
                Err(self.unexpected(expected).with_help(format!("write a name without quotes or in single quotes: '{text}'")))
            }
            _ => Err(self.unexpected(expected)),
        }
    }

    fn text(&mut self, expected: &str) -> Result<Spanned<String>, QueryError> {
        let token = self.peek().clone();
        match token.kind {
            TokenKind::Text(value) => {
                self.advance();
                Ok(Spanned { value, place: token.place })
            }
            TokenKind::Word(word) => Err(self.unexpected(expected).with_help(format!("write it in double quotes: \"{word}\""))),
            TokenKind::QuotedName(name) => {
                Err(self.unexpected(expected).with_help(format!("single quotes are for names; write a text in double quotes: \"{name}\"")))
            }
            TokenKind::Figure(figure) => Err(self.unexpected(expected).with_help(format!("write it in double quotes: \"{figure}\""))),
            _ => Err(self.unexpected(expected)),
        }
    }

    /// A number, with or without a minus.
    fn number(&mut self, expected: &str) -> Result<f64, QueryError> {
        let start = self.at;
        let sign = if self.skip_sign("-") { -1.0 } else { 1.0 };
        let number = match &self.peek().kind {
            TokenKind::Figure(figure) => figure.parse().ok().filter(|number: &f64| number.is_finite()),
            _ => None,
        };
        let Some(number) = number else {
            let error = self.unexpected(expected);
            self.at = start;
            return Err(error);
        };
        self.advance();
        Ok(sign * number)
    }

    fn span(&mut self) -> Result<Span, QueryError> {
        self.want(Wanted::Span);
        let token = self.peek().clone();
        let (TokenKind::Figure(text) | TokenKind::Word(text)) = &token.kind else {
            return Err(self.unexpected("a span of time, such as 15m, 24h or 7d"));
        };
        let span = Span::parse(text).map_err(|error| {
            let found = QueryError::new(token.place, error.to_string());
            match &error {
                SpanError::Unit { unit } => match span_unit(unit) {
                    Some(known) => found.with_help(format!("did you mean `{known}`?")),
                    None => found,
                },
                SpanError::NotASpan(text) if text.bytes().all(|byte| byte.is_ascii_digit()) => found.with_help(format!("did you mean `{text}h`?")),
                _ => found,
            }
        })?;
        self.advance();
        Ok(span)
    }

    /// Reads what stands one level deeper.
    fn deeper<T>(&mut self, read: impl FnOnce(&mut Self) -> Result<T, QueryError>) -> Result<T, QueryError> {
        if self.depth == DEEPEST {
            let error = QueryError::new(self.peek().place, format!("more than {DEEPEST} levels within each other"));
            return Err(error.with_help("give parts of it a name with `let`"));
        }
        self.depth += 1;
        let read = read(self);
        self.depth -= 1;
        read
    }

    fn bounded(&self, parts: usize) -> Result<(), QueryError> {
        if parts < MAX_PARTS { Ok(()) } else { Err(QueryError::new(self.peek().place, format!("more than {MAX_PARTS} parts in a row"))) }
    }

    fn unexpected(&self, expected: &str) -> QueryError {
        let token = self.peek();
        QueryError::new(token.place, format!("expected {expected}, found {}", token.describe()))
    }
}
