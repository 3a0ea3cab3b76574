//! Tokens to tree, by recursive descent, in the order of the grammar.

use super::{
    QueryError,
    lexer::{Place, Token, TokenKind, lex},
    tree::{
        Comparison, Condition, Expr, Frame, FrameWidth, Grouping, InstantText, MetricName, Query, Range, Reducer, Reduction, Selection, Show, Spanned,
    },
};
use crate::{
    suggest::{closest, listing},
    time::{Span, SpanError},
};

/// Words that a name may not be without quotes.
const KEYWORDS: [&str; 18] =
    ["show", "of", "where", "and", "not", "in", "by", "overall", "as", "points", "over", "last", "to", "since", "per", "zone", "or", "at"];
/// The most `show`s, conditions, texts of a list or tags behind `by`.
const MOST_PARTS: usize = 1_000;

/// Whether a name would be read as a word of the language.
pub fn is_keyword(name: &str) -> bool {
    KEYWORDS.contains(&name)
}

/// Reads a query.
///
/// # Errors
/// [`QueryError`] at the first fault.
pub fn parse(text: &str) -> Result<Query, QueryError> {
    let mut parser = Parser { tokens: lex(text)?, at: 0 };
    let mut shows = vec![parser.show()?];
    while parser.is_word("show") {
        parser.bounded(shows.len())?;
        shows.push(parser.show()?);
    }
    let frame = parser.frame()?;
    parser.end(if frame == Frame::default() { "`over …`, another `show`, or the end" } else { "the end of the query" })?;
    Ok(Query { shows, frame: (frame != Frame::default()).then_some(frame) })
}

/// Reads the clauses of a frame alone, as the frame bar and the options of the command line give them.
///
/// # Errors
/// [`QueryError`] at the first fault.
pub fn parse_frame(text: &str) -> Result<Frame, QueryError> {
    let mut parser = Parser { tokens: lex(text)?, at: 0 };
    let frame = parser.frame()?;
    parser.end("`over …`, `per …`, `zone …` or the end")?;
    Ok(frame)
}

struct Parser {
    tokens: Vec<Token>,
    at: usize,
}

impl Parser {
    fn show(&mut self) -> Result<Show, QueryError> {
        if !self.skip_word("show") {
            return Err(self.unexpected("`show`").with_help("a query begins with `show`, such as: show mean of level over last 24h per 15m"));
        }
        let expr = self.expr()?;
        let label = if self.skip_word("as") { Some(self.text("a label in double quotes")?.value) } else { None };
        Ok(Show { expr, label })
    }

    fn expr(&mut self) -> Result<Expr, QueryError> {
        if self.skip_word("points") {
            self.expect_word("of")?;
            return Ok(Expr::Points(self.selection()?));
        }
        let reducer = self.reducer()?;
        self.expect_word("of")?;
        let selection = self.selection()?;
        Ok(Expr::Reduction(Reduction { reducer, selection, grouping: self.grouping()? }))
    }

    fn reducer(&mut self) -> Result<Spanned<Reducer>, QueryError> {
        let token = self.peek().clone();
        if let TokenKind::Word(word) = &token.kind {
            if let Some(reducer) = Reducer::ALL.into_iter().find(|reducer| reducer.as_str() == word) {
                self.at += 1;
                return Ok(Spanned { value: reducer, place: token.place });
            }
            if !matches!(&self.tokens[self.at + 1].kind, TokenKind::Word(next) if next == "of") && !is_keyword(word) {
                let error = QueryError::new(token.place, format!("`{word}` stands where a reducer is expected"));
                return Err(error.with_help(format!("write what to make of its points, such as `mean of {word}` or `points of {word}`")));
            }
        }
        let words = || Reducer::ALL.iter().map(|reducer| reducer.as_str()).chain(["points"]);
        let error = self.unexpected("a reducer");
        Err(match &token.kind {
            TokenKind::Word(word) => match closest(word, words()) {
                Some(known) => error.with_help(format!("did you mean `{known}`?")),
                None => error.with_help(format!("the reducers are {}; `points` gives the points themselves", listing(words().take(7), 7))),
            },
            _ => error,
        })
    }

    fn grouping(&mut self) -> Result<Grouping, QueryError> {
        if self.skip_word("overall") {
            return Ok(Grouping::Overall);
        }
        if !self.skip_word("by") {
            return Ok(Grouping::Apart);
        }
        let mut tags = vec![self.name("a tag to group by")?];
        while self.skip_sign(",") {
            self.bounded(tags.len())?;
            tags.push(self.name("a tag to group by")?);
        }
        Ok(Grouping::By(tags))
    }

    fn selection(&mut self) -> Result<Selection, QueryError> {
        let written = self.name("the name of a metric")?;
        let value = match written.value.split_once("::") {
            Some((dataset, metric)) if !dataset.is_empty() && !metric.is_empty() => {
                MetricName { dataset: Some(dataset.to_owned()), metric: metric.to_owned() }
            }
            _ => MetricName { dataset: None, metric: written.value },
        };
        let metric = Spanned { value, place: written.place };
        let condition = if self.skip_word("where") { Some(self.condition()?) } else { None };
        Ok(Selection { metric, condition })
    }

    fn condition(&mut self) -> Result<Condition, QueryError> {
        let mut parts = vec![self.comparison()?];
        while self.skip_word("and") {
            self.bounded(parts.len())?;
            parts.push(self.comparison()?);
        }
        Ok(match parts.len() {
            1 => parts.remove(0),
            _ => Condition::All(parts),
        })
    }

    fn comparison(&mut self) -> Result<Condition, QueryError> {
        let tag = self.name("a tag")?;
        let (listed, negated) = if self.skip_sign("=") {
            (false, false)
        } else if self.skip_sign("!=") {
            (false, true)
        } else if self.skip_word("in") {
            (true, false)
        } else if self.skip_word("not") {
            self.expect_word("in")?;
            (true, true)
        } else {
            return Err(self.unexpected("`=`, `!=`, `in` or `not in`").with_help(format!("compare the tag with a text: {} = \"…\"", tag.value)));
        };
        let texts = if listed { self.list()? } else { vec![self.text("a text in double quotes")?] };
        Ok(Condition::Is(Comparison { tag, texts, listed, negated }))
    }

    fn list(&mut self) -> Result<Vec<Spanned<String>>, QueryError> {
        self.expect_sign("(")?;
        let mut texts = vec![self.text("a text in double quotes")?];
        while self.skip_sign(",") {
            self.bounded(texts.len())?;
            texts.push(self.text("a text in double quotes")?);
        }
        if !self.skip_sign(")") {
            return Err(self.unexpected("`,` or `)`"));
        }
        Ok(texts)
    }

    fn frame(&mut self) -> Result<Frame, QueryError> {
        let mut frame = Frame::default();
        let start = self.peek().place.start;
        if self.skip_word("over") {
            let value = self.range()?;
            frame.range = Some(Spanned { value, place: self.since(start) });
        }
        let start = self.peek().place.start;
        if self.skip_word("per") {
            let value = if self.skip_word("auto") { FrameWidth::Auto } else { FrameWidth::Of(self.span()?) };
            frame.width = Some(Spanned { value, place: self.since(start) });
        }
        if self.skip_word("zone") {
            frame.zone = Some(self.text("a time zone in double quotes, such as \"Europe/Lisbon\"")?);
        }
        Ok(frame)
    }

    fn range(&mut self) -> Result<Range, QueryError> {
        if self.skip_word("last") {
            return Ok(Range::Last(self.span()?));
        }
        if self.skip_word("since") {
            return Ok(Range::Since(self.instant()?));
        }
        let from = self.instant()?;
        self.expect_word("to")?;
        Ok(Range::Between(from, self.instant()?))
    }

    fn instant(&mut self) -> Result<Spanned<InstantText>, QueryError> {
        let token = self.peek().clone();
        let base = match &token.kind {
            TokenKind::Word(word) if matches!(word.as_str(), "now" | "today" | "yesterday") => word.clone(),
            TokenKind::Figure(figure) if figure.get(4..5) == Some("-") => figure.clone(),
            _ => {
                let error = self.unexpected("`last`, `since` or an instant");
                return Err(
                    error.with_help("an instant is `now`, `today`, `yesterday`, a date such as 2026-05-01 or a time such as 2026-05-01T09:00")
                );
            }
        };
        self.at += 1;
        let minus = if self.skip_sign("-") { Some(self.span()?) } else { None };
        Ok(Spanned { value: InstantText { base, minus }, place: self.since(token.place.start) })
    }

    fn span(&mut self) -> Result<Span, QueryError> {
        let token = self.peek().clone();
        let (TokenKind::Figure(text) | TokenKind::Word(text)) = &token.kind else {
            return Err(self.unexpected("a span of time, such as 15m, 24h or 7d"));
        };
        let span = Span::parse(text).map_err(|error| {
            let found = QueryError::new(token.place, error.to_string());
            match error {
                SpanError::Unit { unit } => match closest(&unit, ["ms", "s", "m", "h", "d", "w", "mo", "y"]) {
                    Some(known) => found.with_help(format!("did you mean `{known}`?")),
                    None => found,
                },
                _ => found,
            }
        })?;
        self.at += 1;
        Ok(span)
    }

    fn name(&mut self, expected: &str) -> Result<Spanned<String>, QueryError> {
        let token = self.peek().clone();
        match token.kind {
            TokenKind::Word(word) if !is_keyword(&word) => {
                self.at += 1;
                Ok(Spanned { value: word, place: token.place })
            }
            TokenKind::QuotedName(name) => {
                self.at += 1;
                Ok(Spanned { value: name, place: token.place })
            }
            TokenKind::Word(word) => Err(self
                .unexpected(expected)
                .with_help(format!("`{word}` is a word of the language; a name that is one stands in single quotes: '{word}'"))),
            TokenKind::Text(text) => Err(self.unexpected(expected).with_help(format!("names stand in single quotes or none: '{text}'"))),
            _ => Err(self.unexpected(expected)),
        }
    }

    fn text(&mut self, expected: &str) -> Result<Spanned<String>, QueryError> {
        let token = self.peek().clone();
        match token.kind {
            TokenKind::Text(text) => {
                self.at += 1;
                Ok(Spanned { value: text, place: token.place })
            }
            TokenKind::Word(word) | TokenKind::QuotedName(word) | TokenKind::Figure(word) => {
                Err(self.unexpected(expected).with_help(format!("put it in double quotes: \"{word}\"")))
            }
            _ => Err(self.unexpected(expected)),
        }
    }

    fn peek(&self) -> &Token {
        // The last token is always End, and nothing moves past it: every step forward is made over another kind.
        &self.tokens[self.at]
    }

    /// From a byte to the end of the token before this one.
    fn since(&self, start: usize) -> Place {
        Place { start, end: self.tokens[self.at.saturating_sub(1)].place.end }
    }

    fn is_word(&self, word: &str) -> bool {
        matches!(&self.peek().kind, TokenKind::Word(found) if found == word)
    }

    fn skip_word(&mut self, word: &str) -> bool {
        let found = self.is_word(word);
        self.at += usize::from(found);
        found
    }

    fn skip_sign(&mut self, sign: &str) -> bool {
        let found = matches!(self.peek().kind, TokenKind::Sign(found) if found == sign);
        self.at += usize::from(found);
        found
    }

    fn expect_word(&mut self, word: &str) -> Result<(), QueryError> {
        if self.skip_word(word) { Ok(()) } else { Err(self.unexpected(&format!("`{word}`"))) }
    }

    fn expect_sign(&mut self, sign: &str) -> Result<(), QueryError> {
        if self.skip_sign(sign) { Ok(()) } else { Err(self.unexpected(&format!("`{sign}`"))) }
    }

    fn end(&self, expected: &str) -> Result<(), QueryError> {
        if self.peek().kind == TokenKind::End {
            return Ok(());
        }
        let error = self.unexpected(expected);
        Err(match &self.peek().kind {
            TokenKind::Word(word) => match word.as_str() {
                "over" | "per" | "zone" => error.with_help("the frame is written once, in this order: over … per … zone …"),
                "by" | "overall" | "where" => error.with_help("in this order: show REDUCER of METRIC where … by …"),
                word => match closest(word, KEYWORDS) {
                    Some(known) if known != word => error.with_help(format!("did you mean `{known}`?")),
                    _ => error,
                },
            },
            _ => error,
        })
    }

    fn bounded(&self, parts: usize) -> Result<(), QueryError> {
        if parts < MOST_PARTS { Ok(()) } else { Err(QueryError::new(self.peek().place, format!("more than {MOST_PARTS} parts in a row"))) }
    }

    fn unexpected(&self, expected: &str) -> QueryError {
        let token = self.peek();
        QueryError::new(token.place, format!("expected {expected}, found {}", token.describe()))
    }
}
