//! The query language: text to tree and back.
//!
//! ```text
//! query     = { "let" name "=" expr } show { show } [ frame ] ;
//! show      = "show" expr { "keeping" cmp number | ("top" | "bottom") int [ "by" reducer ] | "as" text | "in" text | "unit" text } ;
//! expr      = term { ("+" | "-") term } ;   term = unary { ("*" | "/") unary } ;   unary = [ "-" ] primary ;
//! primary   = number | function "(" expr { "," number } ")" | "(" expr ")" | reduction | "points" "of" metric { "," metric } narrowed | selection ;
//! reduction = reducer "of" ( selection | "(" expr ")" ) [ "by" tag { "," tag } | "overall" ] ;
//! reducer   = word | ( "time_in" | "share_in" ) "(" text ")" | ( "area" | "time_mean" ) "(" ( "linear" | "stepped" ) ")" ;
//! selection = metric narrowed ;   narrowed = [ "where" condition ] [ span "earlier" ] ;
//! condition = and { "or" and } ;   and = not { "and" not } ;   not = "not" not | "(" condition ")" | leaf ;
//! leaf      = tag ( "=" | "!=" ) text | tag [ "not" ] "in" "(" text { "," text } ")" | tag [ "not" ] "matches" text
//!           | "has" tag | "lacks" tag | "value" cmp number ;
//! frame     = { "over" range | "per" ( span | "auto" ) | "stepping" span | "starting" clock | "at" moments | "taking" word
//!           | "within" span | "zone" text | "gaps" ( "empty" | "hold" | "line" | number ) | "from" ( "raw" | span ) } ;
//! range     = "last" span | instant "to" instant | "since" instant | "today" | "yesterday" | period ;
//! moments   = instant { "," instant } | "starts" ;   period = year [ "-Q" digit | "-W" week | "-" month [ "-" day ] ] ;
//! instant   = ( "now" | "today" | "yesterday" | period | date-time ) [ "-" span ] ;
//! ```
//!
//! | file | subject |
//! |---|---|
//! | `lexer` | characters to tokens with their places |
//! | `tree` | what a query is; its JSON form |
//! | `reducer` | reducers and functions, and what they are called |
//! | `parser` | tokens to tree, by recursive descent, in the order of the grammar |
//! | `format` | tree to text, in one canonical layout |
//! | `error` | what is wrong, where, and what would be right |

mod error;
pub(crate) mod format;
pub(crate) mod lexer;
pub(crate) mod parser;
pub(crate) mod reducer;
pub(crate) mod tree;

pub use error::QueryError;
pub use format::{format, name as write_name, quoted as write_text};
pub use lexer::TextSpan;
pub use parser::{parse, parse_condition, parse_frame};
pub use reducer::{Function, REDUCER_WORDS, Reducer};
pub use tree::{
    Binary, Call, Comparison, Condition, Expr, Frame, FrameWidth, Gaps, Grouping, InstantText, Keeping, Let, MetricName, Moments, Of, Operator,
    PointsOf, Query, Range, Rank, RankEnd, ReadFrom, Reduction, Selection, Show, Spanned, TagMatch, TagTest, Taking, Text, UnitClause, ValueTest,
};

/// Takes a tree that came from elsewhere, such as the JSON form, for what its text says; so each part of it has a place.
///
/// # Errors
/// [`QueryError`] if it cannot be written as text, such as a name with a quote in it.
pub fn normal(tree: &Query) -> Result<Query, QueryError> {
    parse(&format(tree))
}

#[cfg(test)]
mod tests;
