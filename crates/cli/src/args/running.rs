//! The service itself: serving, its configuration, the demo, copies.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

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
