//! The frame: over which time, how it is cut, or at which moment.

use super::{super::tree::*, Parser, QueryError, TokenKind, Wanted, closest};
use crate::time::{LocalTime, Period};

/// Words that begin a clause of a frame.
pub(super) const CLAUSES: [&str; 10] = ["over", "per", "stepping", "starting", "at", "taking", "within", "zone", "gaps", "from"];

impl Parser {
    /// Clauses in any order, each once.
    pub(super) fn frame(&mut self) -> Result<Frame, QueryError> {
        let mut frame = Frame::default();
        loop {
            let place = self.peek().place;
            let Some(clause) = CLAUSES.into_iter().find(|word| self.is_word(word)) else { return Ok(frame) };
            let twice = self.clause(clause, &mut frame)?;
            if twice {
                return Err(QueryError::new(place, format!("`{clause}` is given twice")).with_help("all that is shown shares one frame"));
            }
            if frame.range.is_some() && matches!(frame.moments, Some(Spanned { value: Moments::Listed(_), .. })) {
                let error = QueryError::new(place, "a query has a range (`over`) or an instant (`at`), not both");
                return Err(error.with_help("ask twice; for the value at the start of each window, write `at starts`"));
            }
        }
    }

    /// Reads a clause; returns whether it was there before.
    fn clause(&mut self, clause: &str, frame: &mut Frame) -> Result<bool, QueryError> {
        let start = self.peek().place.start;
        self.advance();
        macro_rules! put {
            ($field:ident, $read:expr) => {{
                let value = $read?;
                frame.$field.replace(Spanned { value, place: self.since(start) }).is_some()
            }};
        }
        Ok(match clause {
            "over" => put!(range, self.range()),
            "per" => put!(width, if self.skip_word("auto") { Ok(FrameWidth::Auto) } else { self.span().map(FrameWidth::Of) }),
            "stepping" => put!(stepping, self.span()),
            "starting" => put!(starting, self.local_time()),
            "at" => put!(moments, self.moments()),
            "taking" => put!(taking, self.taking()),
            "within" => put!(within, self.span()),
            "zone" => {
                self.want(Wanted::Zone);
                let zone = self.text("a time zone").map_err(|error| error.with_help("write its name in double quotes, such as \"Europe/Lisbon\""))?;
                frame.zone.replace(zone).is_some()
            }
            "gaps" => put!(gaps, self.gaps()),
            _ => put!(source, if self.skip_word("raw") { Ok(ReadFrom::Raw) } else { self.span().map(ReadFrom::Level) }),
        })
    }

    fn moments(&mut self) -> Result<Moments, QueryError> {
        self.want(Wanted::Instant);
        if self.skip_word("starts") {
            return Ok(Moments::Starts);
        }
        let mut listed = vec![self.instant("`starts` or an instant")?];
        while self.skip_sign(",") {
            self.bounded(listed.len())?;
            listed.push(self.instant("an instant")?);
        }
        Ok(Moments::Listed(listed))
    }

    fn range(&mut self) -> Result<Range, QueryError> {
        if self.skip_word("last") {
            return Ok(Range::Last(self.span()?));
        }
        if self.skip_word("since") {
            return Ok(Range::Since(self.instant("an instant")?));
        }
        let from = self.instant("`last`, `since` or an instant")?;
        if self.skip_word("to") {
            return Ok(Range::Between(from, self.instant("an instant")?));
        }
        let InstantText { base, minus } = &from.value;
        let is_whole = minus.is_none() && (matches!(base.as_str(), "today" | "yesterday") || Period::parse(base).is_some());
        if is_whole {
            return Ok(Range::Calendar(from.value.base));
        }
        Err(self
            .unexpected("`to`")
            .with_help("a range needs an end: write `… to now`, or `since …`; a whole day, week, month, quarter or year needs no end: 2026-05-01, 2026-W18, 2026-05, 2026-Q2, 2026"))
    }

    fn instant(&mut self, expected: &str) -> Result<Spanned<InstantText>, QueryError> {
        self.want(Wanted::Instant);
        let token = self.peek().clone();
        let base = match &token.kind {
            TokenKind::Word(word) if matches!(word.as_str(), "now" | "today" | "yesterday") => word.clone(),
            TokenKind::Figure(figure) if figure.get(4..5) == Some("-") || Period::parse(figure).is_some() => figure.clone(),
            _ => {
                let error = self.unexpected(expected);
                let is_span = matches!(&token.kind, TokenKind::Figure(figure) if crate::time::Span::parse(figure).is_ok());
                return Err(match is_span {
                    true => error.with_help("a span counts back from now with `last`: over last 24h"),
                    false => {
                        error.with_help("an instant is `now`, `today`, `yesterday`, a date such as 2026-05-01 or a time such as 2026-05-01T09:00")
                    }
                });
            }
        };
        self.advance();
        let minus = if self.skip_sign("-") { Some(self.span()?) } else { None };
        Ok(Spanned { value: InstantText { base, minus }, place: self.since(token.place.start) })
    }

    fn local_time(&mut self) -> Result<LocalTime, QueryError> {
        let read = match &self.peek().kind {
            TokenKind::Figure(figure) => LocalTime::parse(figure),
            _ => None,
        };
        let time = read.ok_or_else(|| self.unexpected("a time of the day, such as 06:00"))?;
        self.advance();
        Ok(time)
    }

    fn taking(&mut self) -> Result<Taking, QueryError> {
        let found = Taking::ALL.into_iter().find(|taking| self.is_word(taking.as_str()));
        found.inspect(|_| self.advance()).ok_or_else(|| self.wrong_choice(Taking::ALL.map(Taking::as_str).as_slice()))
    }

    fn gaps(&mut self) -> Result<Gaps, QueryError> {
        let words = [("empty", Gaps::Empty), ("hold", Gaps::Hold), ("line", Gaps::Line)];
        if let Some((_, gaps)) = words.into_iter().find(|(word, _)| self.is_word(word)) {
            self.advance();
            return Ok(gaps);
        }
        self.number("").map(Gaps::Number).map_err(|_| {
            let error = self.wrong_choice(&["empty", "hold", "line"]);
            QueryError { message: error.message.replace(", found", " or a number, found"), ..error }
        })
    }

    fn wrong_choice(&self, words: &[&str]) -> QueryError {
        let listed: Vec<String> = words.iter().map(|word| format!("`{word}`")).collect();
        let error = self.unexpected(&listed.join(", "));
        match &self.peek().kind {
            TokenKind::Word(word) => match closest(word, words.iter().copied()) {
                Some(known) => error.with_help(format!("did you mean `{known}`?")),
                None => error,
            },
            _ => error,
        }
    }
}
