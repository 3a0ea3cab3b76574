//! Expressions: arithmetic, functions, reductions, selections.

use super::{
    super::{
        Function, Reducer,
        reducer::{REDUCER_WORDS, by_other_word},
        tree::*,
    },
    Parser, QueryError, SOFT_WORDS, Token, TokenKind, Wanted, closest, is_keyword,
};
use crate::{model::Shape, suggest::listing, time::Span};

const OPERATORS: [Operator; 4] = [Operator::Add, Operator::Subtract, Operator::Multiply, Operator::Divide];

impl Parser {
    pub(super) fn expr(&mut self) -> Result<Expr, QueryError> {
        self.deeper(|parser| parser.joined(1))
    }

    /// Operands joined by operators that bind at least so strongly, from left to right.
    fn joined(&mut self, strength: u8) -> Result<Expr, QueryError> {
        let mut left = self.operand(strength)?;
        let mut parts = 0;
        while let Some(value) = OPERATORS.into_iter().find(|operator| operator.strength() == strength && self.is_sign(operator.as_str())) {
            parts += 1;
            self.bounded(parts * 10)?;
            let operator = Spanned { value, place: self.peek().place };
            self.advance();
            left = Expr::Binary(Box::new(Binary { operator, left, right: self.operand(strength)? }));
        }
        Ok(left)
    }

    fn operand(&mut self, strength: u8) -> Result<Expr, QueryError> {
        if strength == 1 { self.joined(2) } else { self.unary() }
    }

    fn unary(&mut self) -> Result<Expr, QueryError> {
        if !self.skip_sign("-") {
            return self.primary();
        }
        Ok(match self.primary()? {
            Expr::Number(number) => Expr::Number(-number),
            other => Expr::Negate(Box::new(other)),
        })
    }

    fn primary(&mut self) -> Result<Expr, QueryError> {
        self.want(Wanted::Expression);
        let Token { kind, place } = self.peek().clone();
        match kind {
            TokenKind::Figure(figure) => self.number("a number").map(Expr::Number).map_err(|_| {
                let error = QueryError::new(place, format!("`{figure}` is not a number"));
                error.with_help("times and spans follow `over`, `per` and `at`, and precede `earlier`")
            }),
            TokenKind::Sign("(") => {
                self.advance();
                let expr = self.expr()?;
                self.close()?;
                Ok(expr)
            }
            TokenKind::Word(word) => self.beginning_with(&word),
            TokenKind::QuotedName(_) => self.selection().map(Expr::Selection),
            TokenKind::Text(text) => {
                let error = self.unexpected("what to show");
                Err(error.with_help(format!(
                    "a text is not a value; write the name of a metric without quotes or in single quotes: '{}'",
                    text.replace('\'', "")
                )))
            }
            _ => Err(self.unexpected("what to show").with_help("write a reducer and a metric, such as: mean of level")),
        }
    }

    /// What a word begins depends on what follows it.
    fn beginning_with(&mut self, word: &str) -> Result<Expr, QueryError> {
        let of_follows = matches!(self.ahead(1), TokenKind::Word(next) if next == "of");
        let parenthesis_follows = *self.ahead(1) == TokenKind::Sign("(");
        if word == "points" {
            self.advance();
            self.expect_word("of")?;
            return self.points().map(Expr::Points);
        }
        let takes_option = Reducer::from_word(word).is_some_and(|reducer| reducer.of_state("").or(reducer.of_shape(Shape::Linear)).is_some());
        if of_follows || takes_option && parenthesis_follows {
            return self.reduction();
        }
        if parenthesis_follows {
            return if self.names_reducer(word) {
                self.advance();
                Err(self.unexpected("`of`").with_help(format!("write: {word} of (…) by TAG, or {word} of METRIC")))
            } else {
                self.call(word)
            };
        }
        let name_follows = match self.ahead(1) {
            TokenKind::Word(next) => !is_keyword(next) && !SOFT_WORDS.contains(&next.as_str()),
            TokenKind::QuotedName(_) => true,
            _ => false,
        };
        if self.names_reducer(word) && *self.ahead(1) == TokenKind::End {
            self.advance();
            self.want(Wanted::Word("of".to_owned()));
            self.at -= 1;
        }
        if self.names_reducer(word) && (name_follows || is_keyword(word)) {
            self.advance();
            let metric = match &self.peek().kind {
                TokenKind::Word(name) | TokenKind::QuotedName(name) if name_follows => name.clone(),
                _ => "METRIC".to_owned(),
            };
            return Err(self.unexpected("`of`").with_help(format!("write: {word} of {metric}")));
        }
        if is_keyword(word) {
            let error = self.unexpected("what to show");
            return Err(error.with_help("write a reducer and a metric, such as `mean of level`; write a name that is a keyword in single quotes"));
        }
        self.selection().map(Expr::Selection)
    }

    fn names_reducer(&self, word: &str) -> bool {
        Reducer::from_word(word).is_some()
    }

    fn call(&mut self, word: &str) -> Result<Expr, QueryError> {
        let place = self.peek().place;
        let Some(value) = Function::ALL.into_iter().find(|function| function.as_str() == word) else {
            let error = QueryError::new(place, format!("unknown function `{word}`"));
            let names = || Function::ALL.into_iter().map(Function::as_str);
            return Err(match closest(word, names().chain(REDUCER_WORDS)) {
                _ if let Some(known) = by_other_word(word) => error.with_help(format!("did you mean `{known} of …`?")),
                Some(known) if Reducer::from_word(known).is_some() => error.with_help(format!("did you mean `{known} of …`?")),
                Some(known) => error.with_help(format!("did you mean `{known}`?")),
                None => error.with_help(format!("the functions are {}", listing(names(), 20))),
            });
        };
        self.advance();
        self.expect_sign("(")?;
        let of = self.expr()?;
        let mut arguments = Vec::new();
        while self.skip_sign(",") {
            self.bounded(arguments.len())?;
            arguments.push(self.number("a number")?);
        }
        self.close()?;
        if arguments.len() != value.arity() {
            return Err(QueryError::new(place, format!("`{word}` is written {}", value.usage())));
        }
        let is_whole = |number: &f64| number.fract() == 0.0 && (1.0..=100_000.0).contains(number);
        match (value, arguments.as_slice()) {
            (Function::Smooth, [windows]) if !is_whole(windows) => {
                return Err(QueryError::new(place, format!("`smooth` takes a whole number of windows, 1 or more, not {windows}")));
            }
            (Function::Clamp, [least, most]) if least > most => {
                return Err(QueryError::new(place, format!("`clamp` takes the lower bound first, and {least} is above {most}")));
            }
            _ => {}
        }
        Ok(Expr::Call(Box::new(Call { function: Spanned { value, place }, of, arguments })))
    }

    fn close(&mut self) -> Result<(), QueryError> {
        if self.skip_sign(")") {
            return Ok(());
        }
        let error = self.unexpected("`)`");
        Err(match &self.peek().kind {
            TokenKind::Word(word) if matches!(word.as_str(), "by" | "overall" | "where") => {
                error.with_help("in this order: REDUCER of METRIC where … by …")
            }
            _ => error,
        })
    }

    fn reduction(&mut self) -> Result<Expr, QueryError> {
        let reducer = self.reducer()?;
        self.expect_word("of")?;
        let of = if self.skip_sign("(") {
            let inner = self.expr()?;
            self.close()?;
            Of::Lines(inner)
        } else {
            self.reduced_selection(&reducer)?
        };
        Ok(Expr::Reduction(Box::new(Reduction { reducer, of, grouping: self.grouping()? })))
    }

    /// What stands behind `of` without parentheses.
    fn reduced_selection(&mut self, reducer: &Spanned<Reducer>) -> Result<Of, QueryError> {
        if let TokenKind::Word(word) = &self.peek().kind
            && self.names_reducer(word)
            && matches!(self.ahead(1), TokenKind::Word(next) if next == "of")
        {
            let error = QueryError::new(self.peek().place, "write a reducer of another one in parentheses");
            return Err(error.with_help(format!("write: {} of ({word} of …) by TAG", reducer.value)));
        }
        Ok(Of::Selection(self.selection()?))
    }

    pub(super) fn reducer(&mut self) -> Result<Spanned<Reducer>, QueryError> {
        self.want(Wanted::Reducer);
        let Token { kind, place } = self.peek().clone();
        let TokenKind::Word(word) = &kind else { return Err(self.unexpected("a reducer")) };
        if let Some(value) = Reducer::from_word(word) {
            self.advance();
            let value = self.option_of(value)?;
            return Ok(Spanned { value, place: self.since(place.start) });
        }
        let error = QueryError::new(place, format!("unknown reducer `{word}`"));
        let is_quantile = word.strip_prefix('p').is_some_and(|digits| digits.starts_with(|c: char| c.is_ascii_digit()));
        Err(match closest(word, REDUCER_WORDS.into_iter().chain(["points"])) {
            _ if let Some(known) = by_other_word(word) => error.with_help(format!("did you mean `{known}`?")),
            _ if is_quantile => error.with_help("quantiles go from p0.001 to p99.999, with up to three decimals; the ends are `min` and `max`"),
            Some(known) => error.with_help(format!("did you mean `{known}`?")),
            None => error.with_help(format!("the reducers are {}, and p1 to p99.9", listing(REDUCER_WORDS, 30))),
        })
    }

    /// A reducer with what stands behind it in parentheses: a state, or the shape of the line between points.
    fn option_of(&mut self, reducer: Reducer) -> Result<Reducer, QueryError> {
        let takes_state = reducer.of_state("").is_some();
        if !takes_state && reducer.of_shape(Shape::Linear).is_none() || !self.skip_sign("(") {
            return Ok(reducer);
        }
        let option = if takes_state {
            self.want(Wanted::State);
            let usage = format!("write the state in double quotes: {}(\"open\") of …", reducer.word());
            let state = self.text("a state in double quotes").map_err(|error| if error.help.is_none() { error.with_help(usage) } else { error })?;
            reducer.of_state(&state.value)
        } else {
            let shapes = [Shape::Linear, Shape::Stepped];
            let found = shapes.into_iter().find(|shape| self.is_word(shape.as_str()));
            let usage = format!("{} uses the shape of the metric, or one in parentheses: {}(stepped) of …", reducer.word(), reducer.word());
            let shape = found.ok_or_else(|| self.unexpected("`linear` or `stepped`").with_help(usage))?;
            self.advance();
            reducer.of_shape(shape)
        };
        self.expect_sign(")")?;
        Ok(option.unwrap_or(reducer))
    }

    fn grouping(&mut self) -> Result<Grouping, QueryError> {
        if self.skip_word("overall") {
            return Ok(Grouping::Overall);
        }
        if !self.skip_word("by") {
            return Ok(Grouping::Apart);
        }
        self.want(Wanted::Tag);
        let mut tags = vec![self.name("a tag to group by")?];
        // Behind a comma may also stand a function's next number.
        while self.is_sign(",") && !matches!(self.ahead(1), TokenKind::Figure(_) | TokenKind::Sign(_)) {
            self.bounded(tags.len())?;
            self.advance();
            self.want(Wanted::Tag);
            tags.push(self.name("a tag to group by")?);
        }
        if self.is_word("and") {
            return Err(self.unexpected("`,` or the next clause").with_help("tags to group by are listed with commas: by reach, lock"));
        }
        Ok(Grouping::By(tags))
    }

    /// Behind `points of`: one metric or several, and what holds for all of them.
    fn points(&mut self) -> Result<PointsOf, QueryError> {
        let metric = self.metric()?;
        let mut also = Vec::new();
        while self.skip_sign(",") {
            self.bounded(also.len() + 1)?;
            also.push(self.metric()?);
        }
        let (condition, earlier) = self.condition_and_shift()?;
        if !self.is_sign(",") {
            return Ok(PointsOf { metric, also, condition, earlier });
        }
        Err(self
            .unexpected("the end of the metrics")
            .with_help("in this order: points of METRIC, METRIC where …; the condition holds for all of them"))
    }

    pub(super) fn selection(&mut self) -> Result<Selection, QueryError> {
        let metric = self.metric()?;
        let (condition, earlier) = self.condition_and_shift()?;
        Ok(Selection { metric, condition, earlier })
    }

    fn metric(&mut self) -> Result<Spanned<MetricName>, QueryError> {
        self.want(Wanted::Metric);
        let written = self.name("the name of a metric")?;
        let value = match written.value.split_once("::") {
            Some((dataset, metric)) if !dataset.is_empty() && !metric.is_empty() => {
                MetricName { dataset: Some(dataset.to_owned()), metric: metric.to_owned() }
            }
            _ => MetricName { dataset: None, metric: written.value },
        };
        self.metric = Some(value.clone());
        Ok(Spanned { value, place: written.place })
    }

    fn condition_and_shift(&mut self) -> Result<(Option<Condition>, Option<Spanned<Span>>), QueryError> {
        let condition = if self.skip_word("where") { Some(self.condition()?) } else { None };
        let is_earlier = matches!(self.ahead(1), TokenKind::Word(word) if word == "earlier");
        let earlier = if is_earlier { Some(self.spanned(Self::span)?) } else { None };
        if is_earlier {
            self.expect_word("earlier")?;
        }
        Ok((condition, earlier))
    }
}
