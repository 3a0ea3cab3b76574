//! The query language: text to tree and back.
//!
//! ```text
//! query     = show { show } [ frame ] ;
//! show      = "show" expr [ "as" text ] ;
//! expr      = reduction | "points" "of" selection ;
//! reduction = reducer "of" selection [ "by" tag { "," tag } | "overall" ] ;
//! selection = metric [ "where" condition ] ;
//! condition = leaf { "and" leaf } ;
//! leaf      = tag ( "=" | "!=" ) text | tag [ "not" ] "in" "(" text { "," text } ")" ;
//! frame     = "over" range [ "per" ( span | "auto" ) ] [ "zone" text ] ;
//! range     = "last" span | instant "to" instant | "since" instant ;
//! instant   = ( "now" | "today" | "yesterday" | date | date-time ) [ "-" span ] ;
//! ```
//!
//! | file | subject |
//! |---|---|
//! | `lexer` | characters to tokens with their places |
//! | `tree` | what a query is |
//! | `parser` | tokens to tree, by recursive descent, in the order of the grammar |
//! | `format` | tree to text, in one canonical layout |
//! | `error` | what is wrong, where, and what would be right |

mod error;
mod format;
mod lexer;
mod parser;
mod tree;

pub use error::QueryError;
pub use format::{format, name as write_name};
pub use lexer::Place;
pub use parser::{parse, parse_frame};
pub use tree::{
    Comparison, Condition, Expr, Frame, FrameWidth, Grouping, InstantText, MetricName, Query, Range, Reducer, Reduction, Selection, Show, Spanned,
};

#[cfg(test)]
mod tests;
