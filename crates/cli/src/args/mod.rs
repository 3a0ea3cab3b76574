//! The command line.

mod access;
mod arrivals;
mod asking;
mod backup;
mod definitions;
#[cfg(feature = "service")]
mod host;
mod keeping;
mod secrets;
mod sinks;
mod sources;

use std::{ffi::OsString, path::PathBuf};

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};

pub use access::{ChangesArgs, LoginArgs, LogoutArgs, TokenArgs, TokenCommand, WhoamiArgs};
pub use arrivals::{ColumnArgs, ImportArgs, ImportsArgs, ImportsCommand, MappingCommand, PeekArgs, TailArgs};
pub use asking::{AskArgs, AtArgs};
pub use backup::BackupArgs;
pub use definitions::{
    ApplyArgs, BinArgs, BinCommand, DatasetsArgs, DatasetsCommand, DefineArgs, MetricsArgs, MetricsCommand, PointsCommand, SeriesArgs, TagsArgs,
    TagsCommand,
};
#[cfg(feature = "service")]
pub use host::{ConfigCommand, DemoCommand, DemoRunArgs, DemoWriteArgs, RestoreArgs, SelfSignedArgs, ServeArgs, TlsCommand};
pub use keeping::{ExpireArgs, JobsArgs, RetentionArgs, RetentionCommand, RollupArgs, RollupCommand, RollupPolicyArgs, StorageArgs, StorageCommand};
pub use secrets::{SecretArgs, SecretCommand};
pub use sinks::{SinkArgs, SinkCommand};
pub use sources::{SourceArgs, SourceCommand};

const AFTER_HELP: &str = "\
Exit codes:
  0    done
  1    failed
  2    invalid command line or query
  3    no service answers
  4    done, but some rows were rejected
  141  the reader of the output closed it early

--url, --dataset, --profile, --token-file, --ca and --fingerprint are also accepted before the command.

To try it, run `fenetre serve` in one terminal and this in another:
  curl -H 'Content-Type: application/json' \\
       -d '{\"metric\": \"level\", \"tags\": {\"lock\": \"osier\"}, \"value\": 312.5}' \\
       http://127.0.0.1:7430/api/v1/datasets/main/points
  fenetre ask 'show last of level over last 1h'";

/// A time-series store that one engineer can run, understand and trust.
#[derive(Debug, Parser)]
#[command(name = "fenetre", version, after_help = AFTER_HELP, max_term_width = 110)]
pub struct Args {
    /// Command.
    #[command(subcommand)]
    pub command: Command,
}

/// Options that are also accepted before the command.
const ANYWHERE: [&str; 6] = ["--url", "--dataset", "--profile", "--token-file", "--ca", "--fingerprint"];

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

/// Which service, and what it recognises the caller by.
#[derive(Clone, Debug, Default, ClapArgs)]
pub struct Service {
    /// Address of the service (default: that of the profile, or http://127.0.0.1:7430)
    #[arg(long, env = "FENETRE_URL", value_name = "URL", global = true)]
    pub url: Option<String>,
    /// Profile with an address and a token; `fenetre login` creates it
    #[arg(long, env = "FENETRE_PROFILE", value_name = "NAME", global = true)]
    pub profile: Option<String>,
    /// File with the token (default: FENETRE_TOKEN, or that of the profile)
    #[arg(long, value_name = "FILE", global = true)]
    pub token_file: Option<PathBuf>,
    /// Certificate of the authority to trust (PEM)
    #[arg(long, value_name = "FILE", global = true)]
    pub ca: Option<PathBuf>,
    /// SHA-256 of the service's certificate; it is then trusted, whichever authority signed it
    #[arg(long, value_name = "SHA256", global = true, conflicts_with = "ca")]
    pub fingerprint: Option<String>,
}

/// Service and dataset.
#[derive(Clone, Debug, ClapArgs)]
pub struct Target {
    /// The service.
    #[command(flatten)]
    pub service: Service,
    /// Dataset
    #[arg(long, env = "FENETRE_DATASET", default_value = "main", value_name = "NAME", global = true)]
    pub dataset: String,
}

/// Output format of a list.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ListOutput {
    /// For people.
    Table,
    /// One document.
    Json,
    /// With a header.
    Csv,
    /// One object per line.
    Ndjson,
}

/// Output format of an answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum AnswerOutput {
    /// For people, with times in words.
    Table,
    /// For people, as a chart in the terminal.
    Chart,
    /// For people, one small chart per line.
    Spark,
    /// One document: windows, then lines.
    Json,
    /// One row per value.
    Csv,
    /// One object per value.
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
    #[cfg(feature = "service")]
    Serve(ServeArgs),
    /// Check a configuration file
    #[cfg(feature = "service")]
    #[command(subcommand)]
    Config(ConfigCommand),
    /// Import a file: CSV, JSON, SenML, OpenMetrics, Arrow or Parquet
    Import(ImportArgs),
    /// List imports, or show, stop or remove one
    Imports(ImportsArgs),
    /// Manage mappings: guess one from a file, check it, store it under a name
    #[command(subcommand)]
    Mapping(MappingCommand),
    /// Apply a folder of definitions (TOML); shows the changes first
    Apply(ApplyArgs),
    /// Query aggregates over windows, points, or values at an instant
    Ask(AskArgs),
    /// Query the values at an instant: short for `ask 'show … at …'`
    At(AtArgs),
    /// List, create or rename datasets
    Datasets(DatasetsArgs),
    /// List or define the metrics of a dataset
    Metrics(MetricsArgs),
    /// List or define the tags of a dataset
    Tags(TagsArgs),
    /// List the series of a dataset
    Series(SeriesArgs),
    /// Show the latest point of each series
    Latest(SeriesArgs),
    /// List, try, add or control sources, which fetch points automatically
    Source(SourceArgs),
    /// List, try, add, compare or control sinks, which send points continuously
    Sink(SinkArgs),
    /// List, set or remove the secrets that sources and sinks use
    Secret(SecretArgs),
    /// Show the latest few points of a metric
    Peek(PeekArgs),
    /// Watch arriving points
    Tail(TailArgs),
    /// Delete points of a time range
    #[command(subcommand)]
    Points(PointsCommand),
    /// List, restore or erase deleted data
    Bin(BinArgs),
    /// Show and set retention limits
    Retention(RetentionArgs),
    /// Manage rollups: summaries that are kept longer than points
    Rollup(RollupArgs),
    /// Apply retention now
    Expire(ExpireArgs),
    /// Show storage use and forecast; verify, compact or repair the store
    Storage(StorageArgs),
    /// List the background jobs of the service
    Jobs(JobsArgs),
    /// List, create, rotate, suspend or revoke tokens
    Token(TokenArgs),
    /// Store the address and the token of a service under a profile
    Login(LoginArgs),
    /// Remove a profile
    Logout(LogoutArgs),
    /// Show your identity and your grants
    Whoami(WhoamiArgs),
    /// List recorded changes
    Changes(ChangesArgs),
    /// Make a certificate for trials
    #[cfg(feature = "service")]
    #[command(subcommand)]
    Tls(TlsCommand),
    /// Back up a running store to a folder
    Backup(BackupArgs),
    /// Restore a store from a backup
    #[cfg(feature = "service")]
    Restore(RestoreArgs),
    /// Run the demo, or write its points to a file
    #[cfg(feature = "service")]
    #[command(subcommand)]
    Demo(DemoCommand),
    /// Print shell completions: fenetre completions bash > …/bash-completion/completions/fenetre
    Completions {
        /// Shell
        shell: clap_complete::Shell,
    },
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn the_command_line_definition_is_valid() {
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
            "fenetre jobs -o json",
            "fenetre source",
            "fenetre source add control.toml --name control --profile plant",
            "fenetre source log control --limit 5 -o csv",
            "fenetre sink",
            "fenetre sink verify central --over today",
            "fenetre sink aside central 3",
            "fenetre token create gateway --grant write:velmar --network 192.0.2.0/24 --expires 90d",
            "fenetre token rotate gateway --overlap 1d --store data",
            "fenetre token list --all -o json",
            "fenetre login https://plant.example:7430 --profile plant --ca ca.pem",
            "fenetre whoami --profile plant",
            "fenetre changes --since 7d --what retention",
            "fenetre tls self-signed --name plant.example",
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
            "fenetre token create gateway",
            "fenetre token list --store data --url http://127.0.0.1:9000",
            "fenetre datasets --ca ca.pem --fingerprint ab",
            "fenetre source add",
            "fenetre sink replay central",
        ] {
            assert!(Args::try_parse_from(line.split(' ')).is_err(), "{line}");
        }
    }

    #[test]
    fn options_may_precede_the_command() {
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
