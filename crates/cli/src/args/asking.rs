//! Questions.

use std::path::PathBuf;

use clap::Args as ClapArgs;

use super::{AnswerOutput, Target};

/// `fenetre ask`
#[derive(Debug, ClapArgs)]
#[command(after_help = "\
fenetre ask 'show mean of level by reach over last 24h per 1h' --output chart
fenetre ask 'show p90 of lockage_time by lock top 5 over last 7d'
fenetre ask --file shifts.query --over 'last 14d' --output csv > shifts.csv")]
pub struct AskArgs {
    /// The query; `-` reads it from standard input
    #[arg(required_unless_present = "file", conflicts_with = "file")]
    pub query: Option<String>,
    /// Read the query from a file
    #[arg(long, short, value_name = "FILE")]
    pub file: Option<PathBuf>,
    /// Range of time, for a query without `over`, such as 'last 24h' or 2026-05
    #[arg(long, value_name = "RANGE", conflicts_with = "at")]
    pub over: Option<String>,
    /// Width of the windows, for a query without `per`, such as 15m or auto
    #[arg(long, value_name = "SPAN")]
    pub per: Option<String>,
    /// A moment, for a query without `at`, such as now or 2026-05-01T09:00
    #[arg(long, value_name = "INSTANT")]
    pub at: Option<String>,
    /// What empty windows hold, for a query without `gaps`: empty, hold, line or a number
    #[arg(long, value_name = "HOW", allow_hyphen_values = true)]
    pub gaps: Option<String>,
    /// Time zone, for a query without `zone`
    #[arg(long, value_name = "NAME")]
    pub zone: Option<String>,
    /// Say what would be read and computed, and do not
    #[arg(long, conflicts_with = "watch")]
    pub explain: bool,
    /// Ask again and again, each so many seconds
    #[arg(long, value_name = "SECONDS", num_args = 0..=1, default_missing_value = "5")]
    pub watch: Option<u64>,
    /// How the answer is written
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: AnswerOutput,
    /// How the service is reached.
    #[command(flatten)]
    pub target: Target,
}

/// `fenetre at`
#[derive(Debug, ClapArgs)]
#[command(after_help = "\
fenetre at level
fenetre at 'level where lock = \"osier\"' 2026-05-01T09:00 --taking before --within 10m
fenetre at water_temp --reduce mean --by reach")]
pub struct AtArgs {
    /// A metric, with or without `where`
    pub selection: String,
    /// When: now, today, yesterday, a date or a time
    #[arg(default_value = "now")]
    pub instant: String,
    /// Which point counts: natural, before, after, nearest, line or exact
    #[arg(long, value_name = "HOW")]
    pub taking: Option<String>,
    /// How far away it may lie, such as 10m; the metric's stale_after where it is left out
    #[arg(long, value_name = "SPAN")]
    pub within: Option<String>,
    /// Reduce the values of the series to one, such as mean, max or count
    #[arg(long, value_name = "REDUCER")]
    pub reduce: Option<String>,
    /// … to one for each value of these tags
    #[arg(long, value_name = "TAG", requires = "reduce", value_delimiter = ',')]
    pub by: Vec<String>,
    /// Time zone of the instant
    #[arg(long, value_name = "NAME")]
    pub zone: Option<String>,
    /// How the answer is written
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: AnswerOutput,
    /// How the service is reached.
    #[command(flatten)]
    pub target: Target,
}
