//! The whole: `let`s, `show`s with their clauses, a frame.

use super::{super::tree::*, KEYWORDS, Parser, QueryError, SOFT_WORDS, TokenKind, Wanted, closest, frame::CLAUSES, is_keyword};

/// Puts a clause into its place, and says whether one was there.
fn put<T>(place: &mut Option<T>, clause: T) -> bool {
    place.replace(clause).is_some()
}

impl Parser {
    pub(super) fn query(&mut self) -> Result<Query, QueryError> {
        let mut lets: Vec<Let> = Vec::new();
        while self.skip_word("let") {
            self.bounded(lets.len())?;
            let name = self.name("a name for what follows")?;
            if lets.iter().any(|known| known.name == name) {
                return Err(QueryError::new(name.place, format!("the name `{}` is already used: each `let` needs its own", name.value)));
            }
            self.expect_sign("=").map_err(|error| error.with_help(format!("write: let {} = …", name.value)))?;
            let expr = self.expr()?;
            self.lets.push(name.value.clone());
            lets.push(Let { name, expr });
        }
        if self.peek().kind == TokenKind::End && !lets.is_empty() {
            self.want(Wanted::Word("show".to_owned()));
            return Err(self.unexpected("`show`").with_help(format!("`let` only gives a name: show {}", lets[lets.len() - 1].name.value)));
        }
        let mut shows = vec![self.show()?];
        while self.is_word("show") {
            self.bounded(shows.len())?;
            shows.push(self.show()?);
        }
        if self.peek().kind == TokenKind::Word("let".to_owned()) {
            return Err(QueryError::new(self.peek().place, "`let` must come before the first `show`"));
        }
        let frame = self.frame()?;
        let has_frame = frame != Frame::default();
        self.end(if has_frame { "the end of the query" } else { "`over …`, another `show`, or the end" })?;
        Ok(Query { lets, shows, frame: has_frame.then_some(frame) })
    }

    fn show(&mut self) -> Result<Show, QueryError> {
        if !self.skip_word("show") {
            let error = self.unexpected("`show`");
            return Err(match &self.peek().kind {
                TokenKind::Word(word) if CLAUSES.contains(&word.as_str()) => error.with_help(format!("the frame comes last: show … {word} …")),
                TokenKind::Word(word) if closest(word, ["show", "let"]).is_some() => {
                    error.with_help(format!("did you mean `{}`?", closest(word, ["show", "let"]).unwrap_or("show")))
                }
                _ => error.with_help("a query begins with `show`, such as: show mean of level over last 24h per 15m"),
            });
        }
        let expr = self.expr()?;
        let mut show = Show { expr, keeping: None, rank: None, label: None, unit: None };
        // In any order, each once.
        loop {
            let place = self.peek().place;
            let twice = if self.skip_word("keeping") {
                put(&mut show.keeping, self.keeping()?)
            } else if self.is_word("top") || self.is_word("bottom") {
                let rank = self.rank()?;
                put(&mut show.rank, rank)
            } else if self.skip_word("as") {
                put(&mut show.label, self.text("a label in double quotes")?.value)
            } else if self.skip_word("in") {
                put(&mut show.unit, UnitClause::In(self.text("a unit in double quotes, such as \"m\"")?))
            } else if self.skip_word("unit") {
                put(&mut show.unit, UnitClause::Unit(self.text("a unit in double quotes, such as \"%\"")?))
            } else {
                return Ok(show);
            };
            if twice {
                let help = "use each clause once; `top` and `bottom`, and `in` and `unit`, exclude each other";
                return Err(QueryError::new(place, "this clause is given twice in one `show`").with_help(help));
            }
        }
    }

    fn keeping(&mut self) -> Result<Keeping, QueryError> {
        let comparison = self.comparison("`<`, `<=`, `>`, `>=`, `=` or `!=`")?;
        Ok(Keeping { comparison: comparison.value, number: self.number("a number")? })
    }

    fn rank(&mut self) -> Result<Rank, QueryError> {
        let end = if self.skip_word("top") { RankEnd::Top } else { RankEnd::Bottom };
        if end == RankEnd::Bottom {
            self.expect_word("bottom")?;
        }
        let place = self.peek().place;
        let count = self.number("how many lines, such as `top 5`")?;
        if count < 1.0 || count.fract() != 0.0 || count > 1e9 {
            return Err(QueryError::new(place, format!("invalid number of lines {count}: write a whole number, 1 or more")));
        }
        let by = if self.skip_word("by") {
            let help = "lines are ranked by a reducer of their windows, such as `top 5 by max`; write tags to group by before `top`";
            Some(
                self.reducer()
                    .map_err(|error| if error.help.as_ref().is_some_and(|help| help.starts_with("did")) { error } else { error.with_help(help) })?,
            )
        } else {
            None
        };
        Ok(Rank { end, count: count as usize, by })
    }

    pub(super) fn comparison(&mut self, expected: &str) -> Result<Spanned<Comparison>, QueryError> {
        let place = self.peek().place;
        let found = Comparison::ALL.into_iter().find(|comparison| self.is_sign(comparison.as_str()));
        let Some(value) = found else { return Err(self.unexpected(expected)) };
        self.advance();
        Ok(Spanned { value, place })
    }

    pub(super) fn end(&self, expected: &str) -> Result<(), QueryError> {
        if self.peek().kind == TokenKind::End {
            return Ok(());
        }
        let error = self.unexpected(expected);
        Err(match &self.peek().kind {
            TokenKind::Word(word) => match word.as_str() {
                "by" | "overall" | "where" => error.with_help("in this order: show REDUCER of METRIC where … by …"),
                "keeping" | "top" | "bottom" | "as" | "in" | "unit" => {
                    error.with_help("a clause of a `show` must follow it directly, before the next `show` and before `over`")
                }
                "and" | "or" => error.with_help("`and` and `or` join conditions behind `where`; a second question is another `show`"),
                "show" => error.with_help("the frame comes last: write `over …` after the last `show`"),
                word => match closest(word, KEYWORDS.into_iter().chain(SOFT_WORDS)) {
                    Some(known) if known != word => error.with_help(format!("did you mean `{known}`?")),
                    _ if !is_keyword(word) => {
                        error.with_help("a reducer is followed by `of`: mean of level; write a name with a space in single quotes: 'odd name'")
                    }
                    _ => error,
                },
            },
            TokenKind::Figure(figure) if crate::time::Span::parse(figure).is_ok() => {
                error.with_help(format!("`{figure} earlier` shifts the time back; for a range, write `over last {figure}`"))
            }
            TokenKind::Sign(")") => error.with_help("this parenthesis was never opened"),
            TokenKind::Sign("=" | "!=" | "<" | ">" | "<=" | ">=") => {
                error.with_help("`keeping > 3` selects windows by their value; `where value > 3` selects points")
            }
            _ => error,
        })
    }
}
