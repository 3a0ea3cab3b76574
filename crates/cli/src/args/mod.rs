//! The command line.

mod arrivals;
mod asking;
mod definitions;
mod keeping;
mod running;

use std::ffi::OsString;

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};

pub use arrivals::{ColumnArgs, ImportArgs, ImportsArgs, ImportsCommand, MappingCommand, PeekArgs, TailArgs};
pub use asking::{AskArgs, AtArgs};
pub use definitions::{
    ApplyArgs, BinArgs, BinCommand, DatasetsArgs, DatasetsCommand, DefineArgs, MetricsArgs, MetricsCommand, PointsCommand, SeriesArgs, TagsArgs,
    TagsCommand,
};
pub use keeping::{ExpireArgs, RetentionArgs, RetentionCommand, RollupArgs, RollupCommand, RollupPolicyArgs, StorageArgs, StorageCommand};
pub use running::{BackupArgs, ConfigCommand, DemoCommand, DemoRunArgs, DemoWriteArgs, RestoreArgs, ServeArgs};

const AFTER_HELP: &str = "\
Exit codes: 0 done; 1 failed; 2 wrong command line or wrong query; 3 no service answers; 4 done, but some rows were rejected; 141 nobody read the result to its end.

--url and --dataset may stand before the command as well as behind it.

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

/// Options that are also accepted before the command.
const ANYWHERE: [&str; 2] = ["--url", "--dataset"];

/// Moves such options behind the command.
pub fn in_order(arguments: impl Iterator<Item = OsString>) -> Vec<OsString> {
    let mut arguments = arguments.peekable();
    let mut ordered: Vec<OsString> = arguments.next().into_iter().collect();
    let mut moved = Vec::new();
    while let Some(name) = arguments.peek().and_then(|next| next.to_str()) {
        let (is_whole, is_name) = (name.contains('='), ANYWHERE.contains(&name.split('=').next().unwrap_or_default()));
        if !is_name {
            break;
        }
        moved.extend(arguments.by_ref().take(if is_whole { 1 } else { 2 }));
    }
    let rest: Vec<OsString> = arguments.collect();
    // What stands behind `--` is no option.
    let end = rest.iter().position(|argument| argument == "--").unwrap_or(rest.len());
    ordered.extend_from_slice(&rest[..end]);
    ordered.append(&mut moved);
    ordered.extend_from_slice(&rest[end..]);
    ordered
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
    /// A Parquet file.
    Parquet,
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
            "fenetre points delete level --from 2026-05-01",
            "fenetre peek level --count 0",
            "fenetre retention set velmar",
            "fenetre rollup set",
        ] {
            assert!(Args::try_parse_from(line.split(' ')).is_err(), "{line}");
        }
    }

    #[test]
    fn options_before_the_command_count_as_if_they_stood_behind_it() {
        let ordered = |text: &str| {
            let arguments = in_order(text.split(' ').map(OsString::from));
            arguments.iter().map(|argument| argument.to_str().unwrap()).collect::<Vec<_>>().join(" ")
        };
        assert_eq!(ordered("fenetre --url URL import a.csv"), "fenetre import a.csv --url URL");
        assert_eq!(ordered("fenetre --dataset=velmar --url URL retention show"), "fenetre retention show --dataset=velmar --url URL");
        assert_eq!(ordered("fenetre --url URL ask -- -1"), "fenetre ask --url URL -- -1");
        for plain in ["fenetre", "fenetre --help", "fenetre import --url URL a.csv", "fenetre --version", "fenetre --url"] {
            assert_eq!(ordered(plain), plain);
        }
    }
}
