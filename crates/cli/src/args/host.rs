//! Commands for the machine of the service: serve, configuration, restore, demo.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

/// `fenetre serve`
#[derive(Debug, ClapArgs)]
pub struct ServeArgs {
    /// Configuration file (default: built-in settings)
    #[arg(long, value_name = "FILE")]
    pub config: Option<PathBuf>,
    /// Directory of the store; overrides the configuration
    #[arg(long, value_name = "DIR")]
    pub store: Option<PathBuf>,
    /// Address to listen on; overrides the configuration
    #[arg(long, value_name = "IP:PORT")]
    pub listen: Option<String>,
    /// Interval of the service's own metrics in the dataset `own`, or none (default: 30s)
    #[arg(long, value_name = "SPAN", env = "FENETRE_OWN")]
    pub own: Option<String>,
}

/// `fenetre config …`
#[derive(Debug, Subcommand)]
pub enum ConfigCommand {
    /// Check a configuration file and show the settings in force
    Check {
        /// File
        #[arg(default_value = "fenetre.toml")]
        file: PathBuf,
    },
}

/// `fenetre restore`
#[derive(Debug, ClapArgs)]
pub struct RestoreArgs {
    /// Backup
    #[arg(value_name = "BACKUP")]
    pub backup: PathBuf,
    /// Directory of the new store: empty or missing
    #[arg(value_name = "STORE")]
    pub store: PathBuf,
}

/// `fenetre demo …`
#[derive(Debug, Subcommand)]
pub enum DemoCommand {
    /// Serve a store with the Velmar Waterway, with new points every second
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
    /// Address to listen on
    #[arg(long, value_name = "IP:PORT", default_value = "127.0.0.1:7430")]
    pub listen: String,
    /// Start with an empty store
    #[arg(long)]
    pub fresh: bool,
    /// Time of the last point (RFC 3339; default: points keep arriving)
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
    /// Define sources too, with simulated devices, a web service, a table, a folder, weirs, and an address that does not answer
    #[arg(long)]
    pub with_sources: bool,
    /// Interval of the service's own metrics in the dataset `own`, or none (default: 30s)
    #[arg(long, value_name = "SPAN", env = "FENETRE_OWN")]
    pub own: Option<String>,
    /// Days of history
    #[arg(long, default_value_t = 14, value_parser = clap::value_parser!(u32).range(1..=366))]
    pub days: u32,
    /// Seed of the made-up data
    #[arg(long, default_value_t = 7)]
    pub seed: u64,
}

/// `fenetre demo write`
#[derive(Debug, ClapArgs)]
pub struct DemoWriteArgs {
    /// Days
    #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=366))]
    pub days: u32,
    /// Time of the last point (RFC 3339; default: now)
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
    /// Seed of the made-up data
    #[arg(long, default_value_t = 7)]
    pub seed: u64,
}

/// `fenetre tls …`
#[derive(Debug, Subcommand)]
pub enum TlsCommand {
    /// Write a self-signed certificate and its key, for trials
    #[command(name = "self-signed")]
    SelfSigned(SelfSignedArgs),
}

/// `fenetre tls self-signed`
#[derive(Debug, ClapArgs)]
pub struct SelfSignedArgs {
    /// Host name or address by which clients reach the service; repeatable
    #[arg(long = "name", value_name = "HOST", required = true)]
    pub names: Vec<String>,
    /// Days until it expires
    #[arg(long, value_name = "COUNT", default_value_t = 365, value_parser = clap::value_parser!(u32).range(1..=3650))]
    pub days: u32,
    /// File of the certificate
    #[arg(long, value_name = "FILE", default_value = "fenetre.pem")]
    pub certificate: PathBuf,
    /// File of the key
    #[arg(long, value_name = "FILE", default_value = "fenetre.key")]
    pub key: PathBuf,
}
