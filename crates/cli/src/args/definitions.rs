//! What is defined and what goes for good: datasets, metrics, tags, definitions in files, points, the bin.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

use super::{ListOutput, Target};

/// `fenetre apply`
#[derive(Debug, ClapArgs)]
pub struct ApplyArgs {
    /// Folder with a file DATASET.toml for each dataset, and mappings/NAME.toml for mappings
    pub folder: PathBuf,
    /// Apply without asking
    #[arg(long)]
    pub yes: bool,
    /// Only show what would differ; exit code 4 where something would
    #[arg(long, conflicts_with = "yes")]
    pub dry_run: bool,
    /// Where the service listens
    #[arg(long, env = "FENETRE_URL", default_value = "http://127.0.0.1:7430", value_name = "URL")]
    pub url: String,
}

/// `fenetre tags`
#[derive(Debug, ClapArgs)]
pub struct TagsArgs {
    /// What to do with them; lists them where it is left out
    #[command(subcommand)]
    pub command: Option<TagsCommand>,
    /// What narrows the list and how it is written.
    #[command(flatten)]
    pub list: CatalogueArgs,
}

/// `fenetre tags …`
#[derive(Debug, Subcommand)]
pub enum TagsCommand {
    /// Say what a tag is; what is left out stays as it is
    Define {
        /// Its key
        key: String,
        /// One sentence
        #[arg(long)]
        description: Option<String>,
        /// Every new series must carry it
        #[arg(long, overrides_with = "optional")]
        required: bool,
        /// New series need not carry it
        #[arg(long)]
        optional: bool,
        /// Value that it may have (several times for several)
        #[arg(long = "allow", value_name = "VALUE")]
        allowed: Vec<String>,
        /// Regular expression that a whole value must match
        #[arg(long, value_name = "REGEX")]
        pattern: Option<String>,
        /// The most distinct values
        #[arg(long, value_name = "COUNT")]
        most_values: Option<u32>,
    },
    /// Give a tag another key in all series; the old one goes on answering
    Rename {
        /// Its key
        old: String,
        /// What it is to be
        new: String,
    },
}

/// `fenetre points …`
#[derive(Debug, Subcommand)]
pub enum PointsCommand {
    /// Move a span of points of some series into the bin, after saying what goes
    Delete {
        /// The metric
        metric: String,
        /// Which of its series, as in a query: 'lock = "osier"'
        #[arg(long = "where", value_name = "CONDITION")]
        condition: Option<String>,
        /// First instant (RFC 3339, or a local time in the dataset's zone)
        #[arg(long, value_name = "TIME")]
        from: String,
        /// First instant that stays
        #[arg(long, value_name = "TIME")]
        to: String,
        /// Delete without asking
        #[arg(long)]
        yes: bool,
        /// Only say what would go
        #[arg(long, conflicts_with = "yes")]
        dry_run: bool,
        /// How the service is reached.
        #[command(flatten)]
        target: Target,
    },
}

/// `fenetre bin`
#[derive(Debug, ClapArgs)]
pub struct BinArgs {
    /// What to do with what is there; lists it where this is left out
    #[command(subcommand)]
    pub command: Option<BinCommand>,
    /// How the list is written
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: ListOutput,
    /// Where the service listens
    #[arg(long, env = "FENETRE_URL", default_value = "http://127.0.0.1:7430", value_name = "URL", global = true)]
    pub url: String,
}

/// `fenetre bin …`
#[derive(Debug, Subcommand)]
pub enum BinCommand {
    /// Bring something back
    Restore {
        /// Its id in the bin
        id: String,
        /// Another name for a metric whose own is taken by now
        #[arg(long)]
        name: Option<String>,
    },
    /// Erase something for good
    Erase {
        /// Its id in the bin
        id: String,
        /// Erase without asking
        #[arg(long)]
        yes: bool,
    },
}

/// `fenetre datasets`
#[derive(Debug, ClapArgs)]
pub struct DatasetsArgs {
    /// What to do with them; lists them where it is left out
    #[command(subcommand)]
    pub command: Option<DatasetsCommand>,
    /// Only this dataset
    #[arg(long, value_name = "NAME")]
    pub dataset: Option<String>,
    /// How the list is written
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: ListOutput,
    /// Where the service listens
    #[arg(long, env = "FENETRE_URL", default_value = "http://127.0.0.1:7430", value_name = "URL", global = true)]
    pub url: String,
}

/// `fenetre datasets …`
#[derive(Debug, Subcommand)]
pub enum DatasetsCommand {
    /// Make a dataset, or change what is said of one
    Define {
        /// Its name: a-z, 0-9, - and _
        name: String,
        /// IANA time zone that its calendar follows (UTC by default); what is left out stays as it is
        #[arg(long)]
        zone: Option<String>,
        /// One sentence
        #[arg(long)]
        description: Option<String>,
        /// Refuse metrics and tags that nobody has defined
        #[arg(long, overrides_with = "open")]
        closed: bool,
        /// Make unknown metrics and tags on arrival (the default)
        #[arg(long)]
        open: bool,
        /// The most series; points of those that are there still land
        #[arg(long, value_name = "COUNT")]
        most_series: Option<u32>,
        /// The most series of each metric
        #[arg(long, value_name = "COUNT")]
        most_series_per_metric: Option<u32>,
    },
    /// Give a dataset another name; the old one goes on answering
    Rename {
        /// Its name
        old: String,
        /// What it is to be called
        new: String,
    },
}

/// `fenetre metrics`
#[derive(Debug, ClapArgs)]
pub struct MetricsArgs {
    /// What to do with them; lists them where it is left out
    #[command(subcommand)]
    pub command: Option<MetricsCommand>,
    /// How the list is written
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: ListOutput,
    /// How the service is reached.
    #[command(flatten)]
    pub target: Target,
}

/// `fenetre metrics …`
#[derive(Debug, Subcommand)]
pub enum MetricsCommand {
    /// Say what a metric is, before or after its first point
    Define(Box<DefineArgs>),
    /// Show everything that is known of a metric
    Show {
        /// Its name
        name: String,
    },
    /// Write the definitions as CSV to standard output, to be edited and applied
    Export,
    /// Apply definitions from CSV, all or none, after showing what would differ
    Apply {
        /// The file; `-` is standard input
        file: PathBuf,
        /// Apply without asking
        #[arg(long)]
        yes: bool,
        /// Only show what would differ; exit code 4 where something would
        #[arg(long, conflicts_with = "yes")]
        dry_run: bool,
    },
    /// Give a metric another name; the old one goes on answering
    Rename {
        /// Its name
        old: String,
        /// What it is to be called
        new: String,
    },
    /// Take no points for now; history stays
    Pause {
        /// Its name
        name: String,
        /// Pass points over, and do not reject them
        #[arg(long)]
        drop: bool,
    },
    /// Take points again
    Resume {
        /// Its name
        name: String,
    },
    /// Take no points any more; history stays
    Retire {
        /// Its name
        name: String,
    },
    /// Say that metrics that were made on arrival were looked at
    Review {
        /// Their names; all where none is given
        names: Vec<String>,
    },
    /// Put a metric with all its points into the bin, after saying what goes
    Delete {
        /// Its name
        name: String,
        /// Delete without asking
        #[arg(long)]
        yes: bool,
        /// Only say what would go
        #[arg(long, conflicts_with = "yes")]
        dry_run: bool,
    },
}

/// `fenetre metrics define`
#[derive(Debug, ClapArgs)]
pub struct DefineArgs {
    /// Its name
    pub name: String,
    /// gauge (the default), counter, state or histogram; what is left out stays as it is
    #[arg(long, value_parser = ["gauge", "counter", "state", "histogram"])]
    pub kind: Option<String>,
    /// UCUM code of its unit, such as cm or Cel
    #[arg(long)]
    pub unit: Option<String>,
    /// How it runs between two points: linear (the default) or stepped
    #[arg(long, value_parser = ["linear", "stepped"])]
    pub shape: Option<String>,
    /// One sentence
    #[arg(long)]
    pub description: Option<String>,
    /// What each value of a counter or histogram counts
    #[arg(long, value_parser = ["cumulative", "delta"])]
    pub temporality: Option<String>,
    /// How often a series gets a point, such as 1m
    #[arg(long, value_name = "SPAN")]
    pub interval: Option<String>,
    /// After how long without a point a series counts as silent, such as 15m
    #[arg(long, value_name = "SPAN")]
    pub stale_after: Option<String>,
    /// Word to group metrics by (several times for several)
    #[arg(long = "label", value_name = "WORD")]
    pub labels: Vec<String>,
    /// The most series that it may have
    #[arg(long, value_name = "COUNT")]
    pub most_series: Option<u32>,
    /// Leave out points no further than this from the last one kept (with --longest-silence)
    #[arg(long, value_name = "WIDTH", conflicts_with = "line_tolerance")]
    pub dead_band: Option<f64>,
    /// Leave out points that the line between those kept passes within this distance
    #[arg(long, value_name = "DISTANCE")]
    pub line_tolerance: Option<f64>,
    /// With thinning: keep a point at least so often
    #[arg(long, value_name = "SPAN")]
    pub longest_silence: Option<String>,
    /// Keep every point from now on
    #[arg(long, conflicts_with_all = ["dead_band", "line_tolerance"])]
    pub no_thinning: bool,
    /// Convert the points to the new unit or kind (shows first what that does; the old metric goes to the bin)
    #[arg(long)]
    pub convert: bool,
    /// Keep the values of the points, which were in the new unit all along
    #[arg(long, conflicts_with = "convert")]
    pub relabel: bool,
    /// With --convert: do not ask
    #[arg(long, short, requires = "convert")]
    pub yes: bool,
    /// With --convert: only show what it would do
    #[arg(long, requires = "convert")]
    pub dry_run: bool,
}

/// Lists of a dataset that one metric may narrow.
#[derive(Debug, ClapArgs)]
pub struct CatalogueArgs {
    /// Only of this metric
    #[arg(long)]
    pub metric: Option<String>,
    /// How the list is written
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: ListOutput,
    /// How the service is reached.
    #[command(flatten)]
    pub target: Target,
}

/// `fenetre series` and `fenetre latest`
#[derive(Debug, ClapArgs)]
pub struct SeriesArgs {
    /// Only where the metric's name, a tag or a value holds this text
    #[arg(long)]
    pub search: Option<String>,
    /// So many at the most
    #[arg(long, default_value_t = 1_000)]
    pub limit: usize,
    /// What narrows it and how it is written.
    #[command(flatten)]
    pub list: CatalogueArgs,
}
