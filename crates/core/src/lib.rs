//! What Fenetre *is*, without any input or output.
//!
//! Nothing here opens a file, knows SQL or HTTP, spawns a task or looks at a clock: `now` is always an argument. So all of it
//! can be tested on its own, and every other crate of the workspace uses it.
//!
//! ```text
//!  text ──► query ──► plan ──► evaluate ──► answer
//!             │         │          │
//!             │     catalogue      ├── summary   what a window of points contributes, mergeable
//!             │         │          └── block     compressed points of one series
//!             └──── time ──── model
//! ```
//!
//! | module | subject |
//! |---|---|
//! | [`time`] | instants, spans, windows |
//! | [`model`], [`pattern`] | names, kinds of metrics, points on their way in; patterns of names |
//! | [`catalogue`] | which datasets, metrics, tags and series there are; who matches a condition |
//! | [`visibility`] | what of a catalogue a caller may see |
//! | [`block`] | the codec of points at rest |
//! | [`thinning`] | which points of a run can be left out |
//! | [`summary`] | the mergeable form behind every reducer |
//! | [`query`] | the language: lexer, parser, tree, formatter, errors |
//! | [`completion`] | what may come next in a query that is being written |
//! | [`selection`] | which series of a metric a condition leaves |
//! | [`plan`] | a checked query: series, windows, bounds |
//! | [`evaluate`] | a plan run over an abstract source of points |
//! | [`rollup`] | summaries of fixed windows that stand for points |
//! | [`keeping`] | limits by age and size, what must go, what it will weigh |
//! | [`units`] | units of what is computed, by UCUM |
//! | [`answer`] | answers: windows, lines, values |
//!
//! ```
//! use fenetre_core::query;
//!
//! let parsed = query::parse(r#"show mean of level where reach = "upper" over last 24h per 15m"#)?;
//! assert_eq!(query::format(&parsed), "show mean of level where reach = \"upper\"\nover last 24h per 15m\n");
//! # Ok::<(), fenetre_core::query::QueryError>(())
//! ```

pub mod answer;
pub mod block;
pub mod catalogue;
pub mod completion;
pub mod evaluate;
pub mod keeping;
pub mod model;
pub mod pattern;
pub mod plan;
pub mod query;
pub mod rollup;
#[cfg(feature = "schema")]
pub mod schema;
pub mod selection;
pub mod suggest;
pub mod summary;
pub mod thinning;
pub mod time;
pub mod token_limits;
pub mod units;
pub mod visibility;
