//! Queries.

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
    /// Query; `-` for standard input
    #[arg(required_unless_present = "file", conflicts_with = "file")]
    pub query: Option<String>,
    /// Read the query from a file
    #[arg(long, short, value_name = "FILE")]
    pub file: Option<PathBuf>,
    /// Time range of a query without `over`, such as 'last 24h' or 2026-05
    #[arg(long, value_name = "RANGE", conflicts_with = "at")]
    pub over: Option<String>,
    /// Window width of a query without `per`, such as 15m or auto
    #[arg(long, value_name = "SPAN")]
    pub per: Option<String>,
    /// Instant of a query without `at`, such as now or 2026-05-01T09:00
    #[arg(long, value_name = "INSTANT")]
    pub at: Option<String>,
    /// Value of empty windows of a query without `gaps`: empty, hold, line or a number
    #[arg(long, value_name = "HOW", allow_hyphen_values = true)]
    pub gaps: Option<String>,
    /// Time zone of a query without `zone`
    #[arg(long, value_name = "NAME")]
    pub zone: Option<String>,
    /// Show what would be read and computed, without running the query
    #[arg(long, conflicts_with = "watch")]
    pub explain: bool,
    /// Repeat the query every SECONDS seconds (default: 5)
    #[arg(long, value_name = "SECONDS", num_args = 0..=1, default_missing_value = "5")]
    pub watch: Option<u64>,
    /// Output format
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: AnswerOutput,
    /// Service and dataset.
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
    /// Metric, with or without `where`
    pub selection: String,
    /// Instant: now, today, yesterday, a date or a time
    #[arg(default_value = "now")]
    pub instant: String,
    /// Point to use: natural, before, after, nearest, line or exact
    #[arg(long, value_name = "HOW")]
    pub taking: Option<String>,
    /// Maximum distance of the point, such as 10m (default: `stale_after` of the metric)
    #[arg(long, value_name = "SPAN")]
    pub within: Option<String>,
    /// Combine the series into one value, such as mean, max or count
    #[arg(long, value_name = "REDUCER")]
    pub reduce: Option<String>,
    /// … one value per value of these tags
    #[arg(long, value_name = "TAG", requires = "reduce", value_delimiter = ',')]
    pub by: Vec<String>,
    /// Time zone of the instant
    #[arg(long, value_name = "NAME")]
    pub zone: Option<String>,
    /// Output format
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: AnswerOutput,
    /// Service and dataset.
    #[command(flatten)]
    pub target: Target,
}
