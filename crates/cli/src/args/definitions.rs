//! Definitions and deletion: datasets, metrics, tags, definitions in files, points, the bin.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

use super::{ListOutput, Service, Target};

/// `fenetre apply`
#[derive(Debug, ClapArgs)]
pub struct ApplyArgs {
    /// Folder with one DATASET.toml per dataset, mappings/NAME.toml and sources/NAME.toml
    pub folder: PathBuf,
    /// Do not ask for confirmation
    #[arg(long)]
    pub yes: bool,
    /// Show the changes and apply nothing; exit code 4 if there are any
    #[arg(long, conflicts_with = "yes")]
    pub dry_run: bool,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre tags`
#[derive(Debug, ClapArgs)]
pub struct TagsArgs {
    /// Command (default: list)
    #[command(subcommand)]
    pub command: Option<TagsCommand>,
    /// Filter and output format.
    #[command(flatten)]
    pub list: CatalogueArgs,
}

/// `fenetre tags …`
#[derive(Debug, Subcommand)]
pub enum TagsCommand {
    /// Define a tag; omitted options stay as they are
    Define {
        /// Key
        key: String,
        /// Description, one sentence
        #[arg(long)]
        description: Option<String>,
        /// New series must have this tag
        #[arg(long, overrides_with = "optional")]
        required: bool,
        /// New series may omit this tag
        #[arg(long)]
        optional: bool,
        /// Allowed value (repeatable)
        #[arg(long = "allow", value_name = "VALUE")]
        allowed: Vec<String>,
        /// Regular expression that a whole value must match
        #[arg(long, value_name = "REGEX")]
        pattern: Option<String>,
        /// Maximum number of distinct values
        #[arg(long, value_name = "COUNT")]
        max_values: Option<u32>,
    },
    /// Rename a tag in all series; queries may still use the old key
    Rename {
        /// Current key
        old: String,
        /// New key
        new: String,
    },
}

/// `fenetre points …`
#[derive(Debug, Subcommand)]
pub enum PointsCommand {
    /// Move points of a time range to the bin; shows what would be deleted first
    Delete {
        /// Metric
        metric: String,
        /// Series, as in `where` of a query: 'lock = "osier"' (default: all)
        #[arg(long = "where", value_name = "CONDITION")]
        condition: Option<String>,
        /// Start of the range (RFC 3339, or local time in the zone of the dataset)
        #[arg(long, value_name = "TIME")]
        from: String,
        /// End of the range (exclusive)
        #[arg(long, value_name = "TIME")]
        to: String,
        /// Do not ask for confirmation
        #[arg(long)]
        yes: bool,
        /// Show what would be deleted, and delete nothing
        #[arg(long, conflicts_with = "yes")]
        dry_run: bool,
        /// Service and dataset.
        #[command(flatten)]
        target: Target,
    },
}

/// `fenetre bin`
#[derive(Debug, ClapArgs)]
pub struct BinArgs {
    /// Command (default: list)
    #[command(subcommand)]
    pub command: Option<BinCommand>,
    /// Output format
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: ListOutput,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre bin …`
#[derive(Debug, Subcommand)]
pub enum BinCommand {
    /// Restore an item
    Restore {
        /// Id in the bin
        id: String,
        /// New name for a metric, if its name is in use
        #[arg(long)]
        name: Option<String>,
    },
    /// Erase an item permanently
    Erase {
        /// Id in the bin
        id: String,
        /// Do not ask for confirmation
        #[arg(long)]
        yes: bool,
    },
}

/// `fenetre datasets`
#[derive(Debug, ClapArgs)]
pub struct DatasetsArgs {
    /// Command (default: list)
    #[command(subcommand)]
    pub command: Option<DatasetsCommand>,
    /// Only this dataset
    #[arg(long, value_name = "NAME")]
    pub dataset: Option<String>,
    /// Output format
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: ListOutput,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre datasets …`
#[derive(Debug, Subcommand)]
pub enum DatasetsCommand {
    /// Create a dataset, or change its definition
    Define {
        /// Name: a-z, 0-9, - and _
        name: String,
        /// IANA time zone of the calendar (default: UTC)
        #[arg(long)]
        zone: Option<String>,
        /// Description, one sentence
        #[arg(long)]
        description: Option<String>,
        /// Reject undefined metrics and tags
        #[arg(long, overrides_with = "open")]
        closed: bool,
        /// Create undefined metrics and tags on arrival (default)
        #[arg(long)]
        open: bool,
        /// Maximum number of series; existing series still accept points
        #[arg(long, value_name = "COUNT")]
        max_series: Option<u32>,
        /// Maximum number of series per metric
        #[arg(long, value_name = "COUNT")]
        max_series_per_metric: Option<u32>,
    },
    /// Rename a dataset; queries and pushes may still use the old name
    Rename {
        /// Current name
        old: String,
        /// New name
        new: String,
    },
}

/// `fenetre metrics`
#[derive(Debug, ClapArgs)]
pub struct MetricsArgs {
    /// Command (default: list)
    #[command(subcommand)]
    pub command: Option<MetricsCommand>,
    /// Output format
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: ListOutput,
    /// Service and dataset.
    #[command(flatten)]
    pub target: Target,
}

/// `fenetre metrics …`
#[derive(Debug, Subcommand)]
pub enum MetricsCommand {
    /// Define a metric, before or after its first point
    Define(Box<DefineArgs>),
    /// Show the definition and use of a metric
    Show {
        /// Name
        name: String,
    },
    /// Export definitions as CSV to standard output
    Export,
    /// Import edited definitions from CSV, all or none; shows the changes first
    Apply {
        /// File; `-` for standard input
        file: PathBuf,
        /// Do not ask for confirmation
        #[arg(long)]
        yes: bool,
        /// Show the changes and apply nothing; exit code 4 if there are any
        #[arg(long, conflicts_with = "yes")]
        dry_run: bool,
    },
    /// Rename a metric; queries and pushes may still use the old name
    Rename {
        /// Current name
        old: String,
        /// New name
        new: String,
    },
    /// Reject points for now; history stays
    Pause {
        /// Name
        name: String,
        /// Drop points silently instead of rejecting them
        #[arg(long)]
        drop: bool,
    },
    /// Accept points again
    Resume {
        /// Name
        name: String,
    },
    /// Reject points from now on; history stays
    Retire {
        /// Name
        name: String,
    },
    /// Mark metrics that were created on arrival as reviewed
    Review {
        /// Names (default: all)
        names: Vec<String>,
    },
    /// Move a metric and its points to the bin; shows what would be deleted first
    Delete {
        /// Name
        name: String,
        /// Do not ask for confirmation
        #[arg(long)]
        yes: bool,
        /// Show what would be deleted, and delete nothing
        #[arg(long, conflicts_with = "yes")]
        dry_run: bool,
    },
}

/// `fenetre metrics define`
#[derive(Debug, ClapArgs)]
pub struct DefineArgs {
    /// Name
    pub name: String,
    /// gauge (default), counter, state or histogram; omitted options stay as they are
    #[arg(long, value_parser = ["gauge", "counter", "state", "histogram"])]
    pub kind: Option<String>,
    /// Unit, as a UCUM code such as cm or Cel
    #[arg(long)]
    pub unit: Option<String>,
    /// Shape between two points: linear (default) or stepped
    #[arg(long, value_parser = ["linear", "stepped"])]
    pub shape: Option<String>,
    /// Description, one sentence
    #[arg(long)]
    pub description: Option<String>,
    /// What a value of a counter or histogram counts: since a start, or since the value before
    #[arg(long, value_parser = ["cumulative", "delta"])]
    pub temporality: Option<String>,
    /// Expected interval between points, such as 1m
    #[arg(long, value_name = "SPAN")]
    pub interval: Option<String>,
    /// Time without a point after which a series is stale, such as 15m
    #[arg(long, value_name = "SPAN")]
    pub stale_after: Option<String>,
    /// Label to group metrics by (repeatable)
    #[arg(long = "label", value_name = "WORD")]
    pub labels: Vec<String>,
    /// Maximum number of series
    #[arg(long, value_name = "COUNT")]
    pub max_series: Option<u32>,
    /// Drop points that differ from the last stored one by at most this (needs --max-silence)
    #[arg(long, value_name = "WIDTH", conflicts_with = "line_tolerance")]
    pub dead_band: Option<f64>,
    /// Drop points within this distance of the line between stored points
    #[arg(long, value_name = "DISTANCE")]
    pub line_tolerance: Option<f64>,
    /// With thinning: store a point at least this often
    #[arg(long, value_name = "SPAN")]
    pub max_silence: Option<String>,
    /// Store every point from now on
    #[arg(long, conflicts_with_all = ["dead_band", "line_tolerance"])]
    pub no_thinning: bool,
    /// Convert existing points to the new unit or kind; shows the effect first, and moves the old metric to the bin
    #[arg(long)]
    pub convert: bool,
    /// Keep the values of existing points: they were in the new unit already
    #[arg(long, conflicts_with = "convert")]
    pub relabel: bool,
    /// With --convert: do not ask for confirmation
    #[arg(long, short, requires = "convert")]
    pub yes: bool,
    /// With --convert: show the effect and change nothing
    #[arg(long, requires = "convert")]
    pub dry_run: bool,
}

/// Lists of a dataset, filtered by metric.
#[derive(Debug, ClapArgs)]
pub struct CatalogueArgs {
    /// Only this metric
    #[arg(long)]
    pub metric: Option<String>,
    /// Output format
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: ListOutput,
    /// Service and dataset.
    #[command(flatten)]
    pub target: Target,
}

/// `fenetre series` and `fenetre latest`
#[derive(Debug, ClapArgs)]
pub struct SeriesArgs {
    /// Only series whose metric, tags or tag values contain this text
    #[arg(long)]
    pub search: Option<String>,
    /// Maximum number of rows
    #[arg(long, default_value_t = 1_000)]
    pub limit: usize,
    /// Filter and output format.
    #[command(flatten)]
    pub list: CatalogueArgs,
}
