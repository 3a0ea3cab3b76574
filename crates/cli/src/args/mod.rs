//! The command line.

mod keeping;

use std::path::PathBuf;

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};

pub use keeping::{ExpireArgs, RetentionArgs, RetentionCommand, RollupArgs, RollupCommand, RollupPolicyArgs, StorageArgs, StorageCommand};

const AFTER_HELP: &str = "\
Exit codes: 0 done; 1 failed; 2 wrong command line or wrong query; 3 no service answers; 4 done, but some rows were rejected; 141 nobody read the result to its end.

A first look, `fenetre serve` in one terminal and this in another:
  curl -H 'Content-Type: application/json' \\
       -d '{\"metric\": \"level\", \"tags\": {\"lock\": \"osier\"}, \"value\": 312.5}' \\
       http://127.0.0.1:7430/api/v1/datasets/main/points
  fenetre ask 'show last of level over last 1h'";

/// A time-series store that one engineer can run, understand and trust.
#[derive(Debug, Parser)]
#[command(name = "fenetre", version, after_help = AFTER_HELP, max_term_width = 110)]
pub struct Args {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
}

/// How a service is reached.
#[derive(Clone, Debug, ClapArgs)]
pub struct Target {
    /// Where the service listens.
    #[arg(long, env = "FENETRE_URL", default_value = "http://127.0.0.1:7430", value_name = "URL", global = true)]
    pub url: String,
    /// Which dataset.
    #[arg(long, env = "FENETRE_DATASET", default_value = "main", value_name = "NAME", global = true)]
    pub dataset: String,
}

/// How a list is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ListOutput {
    /// For people.
    Table,
    /// One document.
    Json,
    /// With a header.
    Csv,
    /// An object a line.
    Ndjson,
}

/// How an answer is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum AnswerOutput {
    /// For people, with times in words.
    Table,
    /// For people, drawn in the terminal.
    Chart,
    /// For people, a small line for each.
    Spark,
    /// One document: windows once, then lines.
    Json,
    /// A row for each value.
    Csv,
    /// An object for each value.
    Ndjson,
    /// An Arrow IPC stream.
    Arrow,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run the service
    Serve(ServeArgs),
    /// Look at a configuration file
    #[command(subcommand)]
    Config(ConfigCommand),
    /// Bring in a file: CSV, JSON, SenML, OpenMetrics, Arrow or Parquet
    Import(ImportArgs),
    /// List the imports, or look at one, stop it, forget it
    Imports(ImportsArgs),
    /// Mappings: guess one from a file, check it, keep it under a name
    #[command(subcommand)]
    Mapping(MappingCommand),
    /// Apply a folder of definitions (TOML), after showing what would differ
    Apply(ApplyArgs),
    /// Ask for aggregates over windows, for points, or for values at a moment
    Ask(AskArgs),
    /// Ask for the values at a moment: short for `ask 'show … at …'`
    At(AtArgs),
    /// List the datasets, or make one
    Datasets(DatasetsArgs),
    /// List the metrics of a dataset, or say what one is
    Metrics(MetricsArgs),
    /// List the tags of a dataset with their values, or say what one is
    Tags(TagsArgs),
    /// List the series of a dataset
    Series(SeriesArgs),
    /// Show the latest point of each series
    Latest(SeriesArgs),
    /// Look at the latest few points of a metric
    Peek(PeekArgs),
    /// Watch what arrives
    Tail(TailArgs),
    /// Delete points of a span
    #[command(subcommand)]
    Points(PointsCommand),
    /// List what was deleted, bring it back, or erase it
    Bin(BinArgs),
    /// Say how long and how much is kept, and see why something is
    Retention(RetentionArgs),
    /// Roll points up into windows that are kept longer
    Rollup(RollupArgs),
    /// Let go at once of what is older or more than is kept
    Expire(ExpireArgs),
    /// Show what the store weighs, and what it will
    Storage(StorageArgs),
    /// Copy a running store into a folder, consistently
    Backup(BackupArgs),
    /// Make a store of a backup
    Restore(RestoreArgs),
    /// Run the demo, or write its points as a file
    #[command(subcommand)]
    Demo(DemoCommand),
    /// Print the completions of a shell: fenetre completions bash > …/bash-completion/completions/fenetre
    Completions {
        /// Which shell
        shell: clap_complete::Shell,
    },
}

/// `fenetre serve`
#[derive(Debug, ClapArgs)]
pub struct ServeArgs {
    /// Configuration file; without one, defaults hold
    #[arg(long, value_name = "FILE")]
    pub config: Option<PathBuf>,
    /// Directory of the store, instead of the configuration's
    #[arg(long, value_name = "DIR")]
    pub store: Option<PathBuf>,
    /// Where to listen, instead of the configuration's
    #[arg(long, value_name = "IP:PORT")]
    pub listen: Option<String>,
}

/// `fenetre config …`
#[derive(Debug, Subcommand)]
pub enum ConfigCommand {
    /// Read a configuration file and say what is wrong, or what holds
    Check {
        /// The file
        #[arg(default_value = "fenetre.toml")]
        file: PathBuf,
    },
}

/// `fenetre import`
#[derive(Debug, ClapArgs)]
pub struct ImportArgs {
    /// The file, gzip or zstd recognised; `-` is standard input
    #[arg(required_unless_present = "resume")]
    pub file: Option<PathBuf>,
    /// How the file is read, where its name does not say (standard input is taken for CSV)
    #[arg(long, value_parser = ["json", "json-lines", "csv", "tsv", "senml-json", "senml-cbor", "open-metrics", "arrow-stream", "parquet"])]
    pub format: Option<String>,
    /// What its columns are.
    #[command(flatten)]
    pub columns: ColumnArgs,
    /// Take the mapping that is guessed from the first rows, and say which it was
    #[arg(long, conflicts_with = "mapping")]
    pub guess: bool,
    /// Read everything, keep nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Keep nothing where any row is rejected (reads the file twice)
    #[arg(long)]
    pub all_or_nothing: bool,
    /// Go on with an import that was stopped or that failed, by its id
    #[arg(long = "continue", value_name = "ID", conflicts_with = "file")]
    pub resume: Option<String>,
    /// How the service is reached.
    #[command(flatten)]
    pub target: Target,
}

/// What the columns of a table are.
#[derive(Clone, Debug, Default, ClapArgs)]
pub struct ColumnArgs {
    /// A mapping that is kept, or a file with one; the other options go on top of it
    #[arg(long, value_name = "NAME|FILE")]
    pub mapping: Option<String>,
    /// Column of the time; a column called `time` needs no naming
    #[arg(long, value_name = "COLUMN")]
    pub time: Option<String>,
    /// How times are written: iso, s, ms, us, ns, or a pattern such as '%d.%m.%Y %H:%M'
    #[arg(long, value_name = "FORMAT")]
    pub time_format: Option<String>,
    /// Zone of times without an offset
    #[arg(long, value_name = "ZONE")]
    pub zone: Option<String>,
    /// Column that is a tag (several times for several), and its key where that differs
    #[arg(long = "tag", value_name = "COLUMN[=KEY]")]
    pub tags: Vec<String>,
    /// Column of numbers, and the metric that they are of where its name differs
    #[arg(long = "value", value_name = "COLUMN[=METRIC]")]
    pub values: Vec<String>,
    /// Column of words of a state, likewise
    #[arg(long = "state", value_name = "COLUMN[=METRIC]")]
    pub states: Vec<String>,
    /// Tag that every row has
    #[arg(long = "const", value_name = "KEY=VALUE")]
    pub constants: Vec<String>,
    /// Mark that stands for an empty cell, such as NA
    #[arg(long, value_name = "MARK")]
    pub missing: Vec<String>,
}

/// `fenetre imports`
#[derive(Debug, ClapArgs)]
pub struct ImportsArgs {
    /// What to do with them; lists them where it is left out
    #[command(subcommand)]
    pub command: Option<ImportsCommand>,
    /// How the list is written
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: ListOutput,
    /// Where the service listens
    #[arg(long, env = "FENETRE_URL", default_value = "http://127.0.0.1:7430", value_name = "URL", global = true)]
    pub url: String,
}

/// `fenetre imports …`
#[derive(Debug, Subcommand)]
pub enum ImportsCommand {
    /// Show what became of an import
    Show {
        /// Its id
        id: String,
    },
    /// Write everything that was rejected of an import as CSV to standard output
    Rejects {
        /// Its id
        id: String,
    },
    /// Stop an import after the part that it is at; `fenetre import --continue ID` goes on
    Stop {
        /// Its id
        id: String,
    },
    /// Forget an import, its file and its rejects; its points stay
    Forget {
        /// Its id
        id: String,
    },
}

/// `fenetre mapping …`
#[derive(Debug, Subcommand)]
pub enum MappingCommand {
    /// List the mappings that are kept
    List {
        /// How the list is written
        #[arg(long, short, value_enum, default_value = "table")]
        output: ListOutput,
        /// Where the service listens
        #[arg(long, env = "FENETRE_URL", default_value = "http://127.0.0.1:7430", value_name = "URL")]
        url: String,
    },
    /// Write a mapping that is kept as TOML to standard output
    Show {
        /// Its name
        name: String,
        /// Where the service listens
        #[arg(long, env = "FENETRE_URL", default_value = "http://127.0.0.1:7430", value_name = "URL")]
        url: String,
    },
    /// Propose a mapping for a file, as TOML with the reason for each column (needs no service)
    Guess {
        /// The file
        file: PathBuf,
        /// Zone of times without an offset
        #[arg(long, default_value = "UTC")]
        zone: String,
        /// How the file is read, where its name does not say
        #[arg(long, value_parser = ["json", "json-lines", "csv", "tsv", "arrow-stream", "parquet"])]
        format: Option<String>,
    },
    /// Read the first rows of a file by a mapping and show the points that they become (needs no service)
    Check {
        /// The mapping, TOML or JSON
        mapping: PathBuf,
        /// The file
        file: PathBuf,
        /// How the file is read, where its name does not say
        #[arg(long, value_parser = ["json", "json-lines", "csv", "tsv"])]
        format: Option<String>,
    },
    /// Keep a mapping under a name
    Keep {
        /// The name
        name: String,
        /// The mapping, TOML or JSON; `-` is standard input
        file: PathBuf,
        /// Where the service listens
        #[arg(long, env = "FENETRE_URL", default_value = "http://127.0.0.1:7430", value_name = "URL")]
        url: String,
    },
    /// Forget a mapping
    Remove {
        /// Its name
        name: String,
        /// Where the service listens
        #[arg(long, env = "FENETRE_URL", default_value = "http://127.0.0.1:7430", value_name = "URL")]
        url: String,
    },
}

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

/// `fenetre peek`
#[derive(Debug, ClapArgs)]
pub struct PeekArgs {
    /// The metric
    pub metric: String,
    /// Which of its series, as in a query: 'lock = "osier"'
    #[arg(long = "where", value_name = "CONDITION")]
    pub condition: Option<String>,
    /// So many points of each series
    #[arg(long, default_value_t = 5, value_parser = clap::value_parser!(u16).range(1..=100))]
    pub count: u16,
    /// How the service is reached.
    #[command(flatten)]
    pub target: Target,
}

/// `fenetre tail`
#[derive(Debug, ClapArgs)]
pub struct TailArgs {
    /// Only of this dataset
    #[arg(long, value_name = "NAME")]
    pub dataset: Option<String>,
    /// End after so many batches
    #[arg(long, value_name = "COUNT")]
    pub batches: Option<u64>,
    /// Where the service listens
    #[arg(long, env = "FENETRE_URL", default_value = "http://127.0.0.1:7430", value_name = "URL")]
    pub url: String,
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

/// `fenetre backup`
#[derive(Debug, ClapArgs)]
#[command(group = clap::ArgGroup::new("what").required(true).args(["folder", "stop"]))]
pub struct BackupArgs {
    /// Folder on the service's machine: empty, missing, or with a backup that was stopped
    #[arg(value_name = "DIR")]
    pub folder: Option<PathBuf>,
    /// An earlier backup: partitions that did not change since are not copied again
    #[arg(long, value_name = "DIR", requires = "folder")]
    pub since: Option<PathBuf>,
    /// Stop the backup that is running; the same command goes on with it later
    #[arg(long, conflicts_with = "folder")]
    pub stop: bool,
    /// Where the service listens
    #[arg(long, env = "FENETRE_URL", default_value = "http://127.0.0.1:7430", value_name = "URL")]
    pub url: String,
}

/// `fenetre restore`
#[derive(Debug, ClapArgs)]
pub struct RestoreArgs {
    /// The backup
    #[arg(value_name = "BACKUP")]
    pub backup: PathBuf,
    /// Directory of the new store: empty or missing
    #[arg(value_name = "STORE")]
    pub store: PathBuf,
}

/// `fenetre demo …`
#[derive(Debug, Subcommand)]
pub enum DemoCommand {
    /// Serve a store with the Velmar Waterway in it, and let points arrive each second
    Run(DemoRunArgs),
    /// Write points of the waterway as JSON Lines to standard output
    Write(DemoWriteArgs),
}

/// `fenetre demo run`
#[derive(Debug, ClapArgs)]
pub struct DemoRunArgs {
    /// Directory of the store
    #[arg(long, value_name = "DIR", default_value = "fenetre-demo")]
    pub store: PathBuf,
    /// Where to listen
    #[arg(long, value_name = "IP:PORT", default_value = "127.0.0.1:7430")]
    pub listen: String,
    /// Begin anew, without the points that are there
    #[arg(long)]
    pub fresh: bool,
    /// Last instant (RFC 3339), after which nothing arrives any more; points arrive live where it is left out
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
    /// So many days of history
    #[arg(long, default_value_t = 14, value_parser = clap::value_parser!(u32).range(1..=366))]
    pub days: u32,
    /// What the made-up water follows from
    #[arg(long, default_value_t = 7)]
    pub seed: u64,
}

/// `fenetre demo write`
#[derive(Debug, ClapArgs)]
pub struct DemoWriteArgs {
    /// So many days
    #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=366))]
    pub days: u32,
    /// Last instant (RFC 3339); now where it is left out
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
    /// What the made-up water follows from
    #[arg(long, default_value_t = 7)]
    pub seed: u64,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn the_command_line_is_sound() {
        Args::command().debug_assert();
    }

    #[test]
    fn command_lines_that_must_parse_and_must_not() {
        let right = [
            "fenetre serve",
            "fenetre serve --config fenetre.toml --listen 127.0.0.1:9000",
            "fenetre config check",
            "fenetre import levels.csv --time at --tag lock --tag side --value level_cm=level --const reach=upper --dry-run",
            "fenetre import - --value level",
            "fenetre import levels.csv --mapping keepers --dry-run",
            "fenetre import --continue 65f",
            "fenetre imports show 65f",
            "fenetre mapping guess levels.csv",
            "fenetre apply definitions --yes",
            "fenetre metrics rename level water_level --dataset velmar",
            "fenetre metrics apply - --dry-run",
            "fenetre tags define side --allow up --allow down --required",
            "fenetre peek level --count 3",
            "fenetre points delete level --from 2026-05-01 --to 2026-05-02",
            "fenetre bin restore m3 --name old_level",
            "fenetre ask show --over last --per 15m -o chart --dataset velmar",
            "fenetre metrics define level --unit cm --url http://127.0.0.1:9000",
            "fenetre metrics --dataset velmar define level --unit cm",
            "fenetre datasets define velmar --zone Europe/Lisbon",
            "fenetre datasets --dataset velmar",
            "fenetre storage --dataset velmar --url http://127.0.0.1:9000",
            "fenetre retention",
            "fenetre retention show velmar::level -o json",
            "fenetre retention set velmar --keep-for 90d --keep-under 20GB --preview",
            "fenetre retention set --keep-under none --yes",
            "fenetre expire --dry-run",
            "fenetre rollup",
            "fenetre rollup show --measure --dataset velmar",
            "fenetre rollup set --level 5m=90d --level 1h=2y --level 1d --metric level --where lock",
            "fenetre rollup fill --stop",
            "fenetre rollup drop hourly --yes",
            "fenetre storage top --limit 5 --dataset velmar",
            "fenetre storage verify",
            "fenetre demo run --fresh --days 3",
            "fenetre backup monday --since sunday",
            "fenetre backup --stop",
            "fenetre restore monday store",
        ];
        for line in right {
            Args::try_parse_from(line.split(' ')).unwrap_or_else(|error| panic!("{line}: {error}"));
        }
        for line in [
            "fenetre",
            "fenetre ask",
            "fenetre import",
            "fenetre demo run --days 0",
            "fenetre metrics -o xml",
            "fenetre metrics define",
            "fenetre backup",
            "fenetre backup --since sunday",
            "fenetre import x.csv --continue 65f",
            "fenetre import x.csv --guess --mapping keepers",
            "fenetre points delete level --from 2026-05-01",
            "fenetre peek level --count 0",
            "fenetre retention set velmar",
            "fenetre rollup set",
        ] {
            assert!(Args::try_parse_from(line.split(' ')).is_err(), "{line}");
        }
    }
}
