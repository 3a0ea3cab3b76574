//! The command line.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};

const AFTER_HELP: &str = "\
Exit codes: 0 done; 1 failed; 2 wrong command line or wrong query; 3 no service answers; 4 done, but some rows were rejected.

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
    /// One document: windows once, then lines.
    Json,
    /// A row for each value.
    Csv,
    /// An object for each value.
    Ndjson,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run the service
    Serve(ServeArgs),
    /// Look at a configuration file
    #[command(subcommand)]
    Config(ConfigCommand),
    /// Bring in a CSV file
    Import(ImportArgs),
    /// Ask for aggregates over windows, or for points
    Ask(AskArgs),
    /// List the datasets, or make one
    Datasets(DatasetsArgs),
    /// List the metrics of a dataset, or say what one is
    Metrics(MetricsArgs),
    /// List the tags of a dataset with their values
    Tags(CatalogueArgs),
    /// List the series of a dataset
    Series(SeriesArgs),
    /// Show the latest point of each series
    Latest(SeriesArgs),
    /// Show what the store weighs on the disk
    Storage(StorageArgs),
    /// Copy a running store into a folder, consistently
    Backup(BackupArgs),
    /// Make a store of a backup
    Restore(RestoreArgs),
    /// Run the demo, or write its points as a file
    #[command(subcommand)]
    Demo(DemoCommand),
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
    /// CSV file with a header, gzip or zstd recognised; `-` is standard input
    pub file: PathBuf,
    /// Column of the time (RFC 3339); a column called `time` needs no naming
    #[arg(long, value_name = "COLUMN")]
    pub time: Option<String>,
    /// Column that is a tag (several times for several)
    #[arg(long = "tag", value_name = "COLUMN")]
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
    /// Read everything, keep nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Keep nothing where any row is rejected (reads the file twice)
    #[arg(long)]
    pub all_or_nothing: bool,
    /// How the service is reached.
    #[command(flatten)]
    pub target: Target,
}

/// `fenetre ask`
#[derive(Debug, ClapArgs)]
pub struct AskArgs {
    /// The query; `-` reads it from standard input
    pub query: String,
    /// Range of time, for a query without `over`, such as 'last 24h'
    #[arg(long, value_name = "RANGE")]
    pub over: Option<String>,
    /// Width of the windows, for a query without `per`, such as 15m or auto
    #[arg(long, value_name = "SPAN")]
    pub per: Option<String>,
    /// Time zone, for a query without `zone`
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
    Define {
        /// Its name
        name: String,
        /// gauge (the default), counter, state or histogram; what is left out stays as it is
        #[arg(long, value_parser = ["gauge", "counter", "state", "histogram"])]
        kind: Option<String>,
        /// UCUM code of its unit, such as cm or Cel
        #[arg(long)]
        unit: Option<String>,
        /// How it runs between two points: linear (the default) or stepped
        #[arg(long, value_parser = ["linear", "stepped"])]
        shape: Option<String>,
        /// One sentence
        #[arg(long)]
        description: Option<String>,
    },
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

/// `fenetre storage`
#[derive(Debug, ClapArgs)]
pub struct StorageArgs {
    /// Only this dataset's partitions
    #[arg(long, value_name = "NAME")]
    pub dataset: Option<String>,
    /// How the list is written
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: ListOutput,
    /// Where the service listens
    #[arg(long, env = "FENETRE_URL", default_value = "http://127.0.0.1:7430", value_name = "URL")]
    pub url: String,
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
            "fenetre ask show --over last --per 15m -o chart --dataset velmar",
            "fenetre metrics define level --unit cm --url http://127.0.0.1:9000",
            "fenetre metrics --dataset velmar define level --unit cm",
            "fenetre datasets define velmar --zone Europe/Lisbon",
            "fenetre datasets --dataset velmar",
            "fenetre storage --dataset velmar --url http://127.0.0.1:9000",
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
        ] {
            assert!(Args::try_parse_from(line.split(' ')).is_err(), "{line}");
        }
    }
}
