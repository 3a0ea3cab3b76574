//! Arriving points: imports, mappings, and looks at them.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

use super::{ListOutput, Service, Target};

/// `fenetre import`
#[derive(Debug, ClapArgs)]
pub struct ImportArgs {
    /// File, also gzip or zstd; `-` for standard input
    #[arg(required_unless_present = "resume")]
    pub file: Option<PathBuf>,
    /// Format of the file (default: by its name; CSV for standard input)
    #[arg(long, value_parser = ["json", "json-lines", "csv", "tsv", "senml-json", "senml-cbor", "open-metrics", "arrow-stream", "parquet"])]
    pub format: Option<String>,
    /// Columns.
    #[command(flatten)]
    pub columns: ColumnArgs,
    /// Guess missing settings from the first rows, and show the result
    #[arg(long)]
    pub guess: bool,
    /// Read everything, store nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Store nothing if any row is rejected (reads the file twice)
    #[arg(long)]
    pub all_or_nothing: bool,
    /// Continue an import that was stopped or that failed, by its id
    #[arg(long = "continue", value_name = "ID", conflicts_with = "file")]
    pub resume: Option<String>,
    /// Service and dataset.
    #[command(flatten)]
    pub target: Target,
}

/// Columns of a table.
#[derive(Clone, Debug, Default, ClapArgs)]
pub struct ColumnArgs {
    /// Stored mapping, or file with a mapping; other options override it
    #[arg(long, value_name = "NAME|FILE")]
    pub mapping: Option<String>,
    /// Column of the time (default: `time`)
    #[arg(long, value_name = "COLUMN")]
    pub time: Option<String>,
    /// Column of the time of day, if --time names a column of dates
    #[arg(long, value_name = "COLUMN", requires = "time")]
    pub time_of_day: Option<String>,
    /// Format of times: iso, s, ms, us or ns since 1970, serial (spreadsheet dates), or a pattern such as '%d.%m.%Y %H:%M'
    #[arg(long, value_name = "FORMAT")]
    pub time_format: Option<String>,
    /// Time zone of times without an offset
    #[arg(long, value_name = "ZONE")]
    pub zone: Option<String>,
    /// Column that is a tag (repeatable), with the key if it differs
    #[arg(long = "tag", value_name = "COLUMN[=KEY]")]
    pub tags: Vec<String>,
    /// Column of numbers (repeatable), with the metric if its name differs
    #[arg(long = "value", value_name = "COLUMN[=METRIC]")]
    pub values: Vec<String>,
    /// Column of states (repeatable), with the metric if its name differs
    #[arg(long = "state", value_name = "COLUMN[=METRIC]")]
    pub states: Vec<String>,
    /// Tag of every row (repeatable)
    #[arg(long = "const", value_name = "KEY=VALUE")]
    pub constants: Vec<String>,
    /// Mark of an empty cell, such as NA (repeatable)
    #[arg(long, value_name = "MARK")]
    pub missing: Vec<String>,
    /// Character encoding, such as windows-1252 (default: UTF-8, or what a byte order mark shows)
    #[arg(long, value_name = "NAME")]
    pub encoding: Option<String>,
    /// Decimal mark of numbers, `.` or `,` (default: detected)
    #[arg(long, value_name = "MARK")]
    pub decimal: Option<char>,
}

/// `fenetre imports`
#[derive(Debug, ClapArgs)]
pub struct ImportsArgs {
    /// Command (default: list)
    #[command(subcommand)]
    pub command: Option<ImportsCommand>,
    /// Output format
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: ListOutput,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre imports …`
#[derive(Debug, Subcommand)]
pub enum ImportsCommand {
    /// Show an import and its result
    Show {
        /// Id
        id: String,
    },
    /// Write the rejected rows of an import as CSV to standard output
    Rejects {
        /// Id
        id: String,
    },
    /// Stop an import after its current part; `fenetre import --continue ID` continues it
    Stop {
        /// Id
        id: String,
    },
    /// Remove an import, its file and its rejects; its points stay
    Forget {
        /// Id
        id: String,
    },
}

/// `fenetre mapping …`
#[derive(Debug, Subcommand)]
pub enum MappingCommand {
    /// List the stored mappings
    List {
        /// Output format
        #[arg(long, short, value_enum, default_value = "table")]
        output: ListOutput,
        /// The service.
        #[command(flatten)]
        service: Service,
    },
    /// Write a stored mapping as TOML to standard output
    Show {
        /// Name
        name: String,
        /// The service.
        #[command(flatten)]
        service: Service,
    },
    /// Propose a mapping for a file, as TOML with the reason for each column (needs no service)
    Guess {
        /// File
        file: PathBuf,
        /// Time zone of times without an offset
        #[arg(long, default_value = "UTC")]
        zone: String,
        /// Format of the file (default: by its name)
        #[arg(long, value_parser = ["json", "json-lines", "csv", "tsv", "arrow-stream", "parquet"])]
        format: Option<String>,
    },
    /// Read the first rows of a file with a mapping, and show the resulting points (needs no service)
    Check {
        /// Mapping, TOML or JSON
        mapping: PathBuf,
        /// File
        file: PathBuf,
        /// Format of the file (default: by its name)
        #[arg(long, value_parser = ["json", "json-lines", "csv", "tsv"])]
        format: Option<String>,
    },
    /// Store a mapping under a name
    Keep {
        /// Name
        name: String,
        /// Mapping, TOML or JSON; `-` for standard input
        file: PathBuf,
        /// The service.
        #[command(flatten)]
        service: Service,
    },
    /// Remove a stored mapping
    Remove {
        /// Name
        name: String,
        /// The service.
        #[command(flatten)]
        service: Service,
    },
}

/// `fenetre peek`
#[derive(Debug, ClapArgs)]
pub struct PeekArgs {
    /// Metric
    pub metric: String,
    /// Series, as in `where` of a query: 'lock = "osier"' (default: all)
    #[arg(long = "where", value_name = "CONDITION")]
    pub condition: Option<String>,
    /// Number of points per series
    #[arg(long, default_value_t = 5, value_parser = clap::value_parser!(u16).range(1..=100))]
    pub count: u16,
    /// Service and dataset.
    #[command(flatten)]
    pub target: Target,
}

/// `fenetre tail`
#[derive(Debug, ClapArgs)]
pub struct TailArgs {
    /// Only this dataset
    #[arg(long, value_name = "NAME")]
    pub dataset: Option<String>,
    /// Number of batches after which the command ends
    #[arg(long, value_name = "COUNT")]
    pub batches: Option<u64>,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}
