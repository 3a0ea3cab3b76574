//! What brings points in: imports, mappings, and what is seen of them.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

use super::{ListOutput, Target};

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
    /// Guess from the first rows what other options and --mapping leave open, and show the result
    #[arg(long)]
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
    /// Column of the time of day, if --time names a column of dates
    #[arg(long, value_name = "COLUMN", requires = "time")]
    pub time_of_day: Option<String>,
    /// Format of times: iso, s, ms, us or ns since 1970, serial (spreadsheet dates), or a pattern such as '%d.%m.%Y %H:%M'
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
