//! Characters to tokens. Line ends are blanks; `#` starts a comment that ends with the line.

use super::QueryError;

/// A stretch of the query's text, in bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct TextSpan {
    /// First byte.
    pub start: usize,
    /// First byte after.
    pub end: usize,
}

/// What a token is.
#[derive(Clone, Debug, PartialEq)]
pub enum TokenKind {
    /// Letters, digits, `_`, `.` and `:`, beginning with a letter or `_`: a word of the language or a name.
    Word(String),
    /// In single quotes: always a name.
    QuotedName(String),
    /// In double quotes, with JSON's escapes.
    Text(String),
    /// Begins with a digit: a number, a span such as `15m`, a date such as `2026-05-01T09:00` or a time of the day such as `06:00`.
    Figure(String),
    /// `= != < <= > >= ( ) , + - * /`
    Sign(&'static str),
    /// After the last token.
    End,
}

/// A token and where it stands.
#[derive(Clone, Debug, PartialEq)]
pub struct Token {
    pub kind: TokenKind,
    pub place: TextSpan,
}

impl Token {
    /// How the token is named in a message.
    pub fn describe(&self) -> String {
        match &self.kind {
            TokenKind::Word(word) | TokenKind::Figure(word) => format!("`{word}`"),
            TokenKind::QuotedName(name) => format!("the name '{name}'"),
            TokenKind::Text(text) => format!("the text \"{text}\""),
            TokenKind::Sign(sign) => format!("`{sign}`"),
            TokenKind::End => "the end of the query".to_owned(),
        }
    }
}

/// The longest query, in bytes.
const MAX_QUERY: usize = 100_000;
/// Longer ones before those that they begin with.
const SIGNS: [&str; 13] = ["!=", "<=", ">=", "<", ">", "=", "(", ")", ",", "+", "-", "*", "/"];

/// All tokens of a text, the last of them [`TokenKind::End`].
pub fn lex(text: &str) -> Result<Vec<Token>, QueryError> {
    if text.len() > MAX_QUERY {
        let place = TextSpan { start: MAX_QUERY, end: MAX_QUERY };
        return Err(QueryError::new(place, format!("the query is {} bytes long, the limit is {MAX_QUERY}", text.len())));
    }
    let mut tokens = Vec::new();
    let mut at = 0;
    while let Some(c) = text[at..].chars().next() {
        let start = at;
        let kind = match c {
            _ if c.is_whitespace() => {
                at += c.len_utf8();
                continue;
            }
            '#' => {
                at += text[at..].find('\n').unwrap_or(text.len() - at);
                continue;
            }
            '"' => TokenKind::Text(quoted_text(text, &mut at)?),
            '\'' => TokenKind::QuotedName(quoted_name(text, &mut at)?),
            _ if c.is_ascii_digit() => TokenKind::Figure(figure(text, &mut at)),
            _ if c.is_alphabetic() || c == '_' => TokenKind::Word(run(text, &mut at, is_name)),
            _ => match SIGNS.iter().find(|sign| text[at..].starts_with(**sign)) {
                Some(sign) => {
                    at += sign.len();
                    TokenKind::Sign(sign)
                }
                None => {
                    let place = TextSpan { start, end: start + c.len_utf8() };
                    let error = QueryError::new(place, format!("`{c}` has no meaning in a query"));
                    return Err(error.with_help(match c {
                        ';' => "a query needs no terminator; for a second question, add another `show`",
                        '%' | '^' => "there are `+`, `-`, `*` and `/`",
                        '&' | '|' => "conditions are joined by `and` and `or`",
                        '[' | ']' | '{' | '}' => "only parentheses are allowed; conditions follow `where`, times follow `over`",
                        _ => "write names with unusual characters in single quotes, texts in double quotes",
                    }));
                }
            },
        };
        tokens.push(Token { kind, place: TextSpan { start, end: at } });
    }
    tokens.push(Token { kind: TokenKind::End, place: TextSpan { start: text.len(), end: text.len() } });
    Ok(tokens)
}

fn is_name(c: char) -> bool {
    c.is_alphanumeric() || matches!(c, '_' | '.' | ':')
}

/// Whether a name can stand without quotes.
pub fn is_plain_name(name: &str) -> bool {
    name.chars().next().is_some_and(|c| c.is_alphabetic() || c == '_') && name.chars().all(is_name)
}

fn run(text: &str, at: &mut usize, belongs: impl Fn(char) -> bool) -> String {
    let length = text[*at..].find(|c| !belongs(c)).unwrap_or(text.len() - *at);
    let found = text[*at..*at + length].to_owned();
    *at += length;
    found
}

/// A number, span or date. A date may contain `-`, and after its `T` also `+`; a span neither, a number only after its `e`.
fn figure(text: &str, at: &mut usize) -> String {
    let rest = &text.as_bytes()[*at..];
    let goes_on = |part: &[u8]| part[0].is_ascii_digit() || matches!(part[0], b'Q' | b'W') && part[1].is_ascii_digit();
    let is_date = rest.len() >= 7 && rest[..4].iter().all(u8::is_ascii_digit) && rest[4] == b'-' && goes_on(&rest[5..]);
    if !is_date {
        let mut figure = run(text, at, |c| c.is_alphanumeric() || matches!(c, '.' | ':'));
        let mantissa = figure.strip_suffix(['e', 'E']).unwrap_or_default();
        let is_open = !mantissa.is_empty() && mantissa.bytes().all(|b| b.is_ascii_digit() || b == b'.');
        let mut next = text[*at..].chars();
        // An exponent with a sign: `1e-3`.
        if is_open && next.next().is_some_and(|c| matches!(c, '+' | '-')) && next.next().is_some_and(|c| c.is_ascii_digit()) {
            figure.push_str(&text[*at..=*at]);
            *at += 1;
            figure.push_str(&run(text, at, |c| c.is_alphanumeric()));
        }
        return figure;
    }
    let mut figure = run(text, at, |c| c.is_ascii_alphanumeric() || matches!(c, '-' | ':' | '.'));
    if figure.contains('T') && text[*at..].starts_with('+') {
        figure.push('+');
        *at += 1;
        figure.push_str(&run(text, at, |c| c.is_ascii_digit() || c == ':'));
    }
    figure
}

fn unclosed(start: usize, text: &str, quote: char) -> QueryError {
    let end = start + text[start..].find('\n').unwrap_or(text.len() - start);
    QueryError::new(TextSpan { start, end }, format!("this {quote} is never closed")).with_help(format!("end it with another {quote}"))
}

fn quoted_name(text: &str, at: &mut usize) -> Result<String, QueryError> {
    let start = *at;
    let body = &text[start + 1..];
    let length = body.find(['\'', '\n']).filter(|end| body[*end..].starts_with('\'')).ok_or_else(|| unclosed(start, text, '\''))?;
    *at = start + length + 2;
    if length == 0 {
        return Err(QueryError::new(TextSpan { start, end: *at }, "a name cannot be empty"));
    }
    Ok(body[..length].to_owned())
}

fn quoted_text(text: &str, at: &mut usize) -> Result<String, QueryError> {
    let start = *at;
    let mut out = String::new();
    let mut chars = text[start + 1..].char_indices();
    while let Some((offset, c)) = chars.next() {
        match c {
            '"' => {
                *at = start + 1 + offset + 1;
                return Ok(out);
            }
            '\n' => break,
            '\\' => {
                let escape = start + 1 + offset;
                out.push(escaped(text, escape, &mut chars)?);
            }
            _ => out.push(c),
        }
    }
    Err(unclosed(start, text, '"'))
}

/// The character behind a backslash, as JSON writes them.
fn escaped(text: &str, start: usize, chars: &mut std::str::CharIndices<'_>) -> Result<char, QueryError> {
    let simple = match chars.next().map(|(_, c)| c) {
        Some('n') => Some('\n'),
        Some('t') => Some('\t'),
        Some('r') => Some('\r'),
        Some('b') => Some('\u{8}'),
        Some('f') => Some('\u{c}'),
        Some(same @ ('"' | '\\' | '/')) => Some(same),
        Some('u') => {
            let mut unit = || {
                let digits: String = chars.by_ref().take(4).map(|(_, c)| c).collect();
                if digits.len() == 4 { u16::from_str_radix(&digits, 16).ok() } else { None }
            };
            match unit() {
                // The first half of a pair; the second follows as an escape of its own.
                Some(high @ 0xd800..=0xdbff) => {
                    let escape: String = chars.by_ref().take(2).map(|(_, c)| c).collect();
                    let digits: String = chars.by_ref().take(4).map(|(_, c)| c).collect();
                    let low = u16::from_str_radix(&digits, 16).ok().filter(|_| escape == "\\u");
                    low.and_then(|low| char::decode_utf16([high, low]).next()?.ok())
                }
                other => other.and_then(|unit| char::from_u32(u32::from(unit))),
            }
        }
        _ => None,
    };
    simple.ok_or_else(|| {
        let place = TextSpan { start, end: (start + 2).min(text.len()) };
        QueryError::new(place, "not an escape").with_help(r#"the escapes are those of JSON: \" \\ \/ \b \f \n \r \t \u00e9"#)
    })
}
