//! Conditions behind `where`.

use super::{super::tree::*, Parser, QueryError, TokenKind, Wanted};

impl Parser {
    pub(super) fn condition(&mut self) -> Result<Condition, QueryError> {
        let mut parts = vec![self.all()?];
        while self.skip_word("or") {
            self.bounded(parts.len())?;
            parts.push(self.all()?);
        }
        Ok(one_or(parts, Condition::Any))
    }

    fn all(&mut self) -> Result<Condition, QueryError> {
        let mut parts = vec![self.negation()?];
        while self.skip_word("and") {
            self.bounded(parts.len())?;
            parts.push(self.negation()?);
        }
        Ok(one_or(parts, Condition::All))
    }

    fn negation(&mut self) -> Result<Condition, QueryError> {
        self.deeper(|parser| {
            if parser.skip_word("not") {
                return Ok(Condition::Not(Box::new(parser.negation()?)));
            }
            if !parser.skip_sign("(") {
                return parser.leaf();
            }
            let inner = parser.condition()?;
            if !parser.skip_sign(")") {
                return Err(parser.unexpected("`and`, `or` or `)`"));
            }
            Ok(inner)
        })
    }

    fn leaf(&mut self) -> Result<Condition, QueryError> {
        if self.skip_word("has") {
            self.want(Wanted::Tag);
            return Ok(Condition::Has(self.name("a tag")?));
        }
        if self.skip_word("lacks") {
            self.want(Wanted::Tag);
            return Ok(Condition::Lacks(self.name("a tag")?));
        }
        if self.is_word("value") && self.compares_number() {
            self.advance();
            let comparison = self.comparison("`<`, `<=`, `>`, `>=`, `=` or `!=`")?;
            return Ok(Condition::Value(ValueTest { comparison, number: self.number("a number")? }));
        }
        self.want(Wanted::Tag);
        let tag = self.name("a tag")?;
        self.tag = Some(tag.value.clone());
        ["=", "!="].into_iter().for_each(|sign| self.want(Wanted::Word(sign.to_owned())));
        let negated = self.skip_word("not");
        if self.skip_word("matches") {
            let pattern = self.text("a regular expression");
            let pattern = pattern.map_err(|error| error.with_help("write it in double quotes: \"a.*\" for all that begin with a"))?;
            return Ok(Condition::Matches(TagMatch { tag, pattern, negated }));
        }
        if self.skip_word("in") {
            return Ok(Condition::Is(TagTest { tag, texts: self.list()?, listed: true, negated }));
        }
        if negated {
            return Err(self
                .unexpected("`in` or `matches`")
                .with_help(format!("write: {0} not in (\"…\"), {0} not matches \"…\" or {0} != \"…\"", tag.value)));
        }
        let negated = self.is_sign("!=");
        if !self.skip_sign("=") && !self.skip_sign("!=") {
            let error = self.unexpected("`=`, `!=`, `in`, `matches` or `not`");
            return Err(match self.peek().kind {
                TokenKind::Sign("<" | ">" | "<=" | ">=") => {
                    error.with_help("tags are texts and compared with `=`, `in` or `matches`; points are chosen by their value: `value > 3`")
                }
                _ => error.with_help(format!("compare the tag with a text: {} = \"…\"", tag.value)),
            });
        }
        if self.is_sign("=") {
            return Err(self.unexpected("a text in double quotes").with_help("one `=` compares"));
        }
        self.want(Wanted::Value);
        Ok(Condition::Is(TagTest { tag, texts: vec![self.text("a text in double quotes")?], listed: false, negated }))
    }

    /// Whether behind the word that stands here there is a comparison with a number.
    fn compares_number(&self) -> bool {
        match self.ahead(1) {
            TokenKind::Sign("<" | "<=" | ">" | ">=") => true,
            TokenKind::Sign("=" | "!=") => matches!(self.ahead(2), TokenKind::Figure(_) | TokenKind::Sign("-")),
            _ => false,
        }
    }

    fn list(&mut self) -> Result<Vec<Spanned<String>>, QueryError> {
        self.expect_sign("(")?;
        self.want(Wanted::Value);
        let mut texts = vec![self.text("a text in double quotes")?];
        while self.skip_sign(",") {
            self.bounded(texts.len())?;
            self.want(Wanted::Value);
            texts.push(self.text("a text in double quotes")?);
        }
        if !self.skip_sign(")") {
            return Err(self.unexpected("`,` or `)`"));
        }
        Ok(texts)
    }
}

fn one_or(mut parts: Vec<Condition>, joined: fn(Vec<Condition>) -> Condition) -> Condition {
    if parts.len() == 1 { parts.remove(0) } else { joined(parts) }
}
