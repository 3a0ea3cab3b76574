//! Commands about sources.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

use super::{ListOutput, Service};

/// `fenetre source …`
#[derive(Debug, ClapArgs)]
pub struct SourceArgs {
    /// Command (default: list)
    #[command(subcommand)]
    pub command: Option<SourceCommand>,
    /// Output format
    #[arg(long, short, value_enum, default_value = "table", global = true)]
    pub output: ListOutput,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre source …`
#[derive(Debug, Subcommand)]
pub enum SourceCommand {
    /// List the sources with their state
    List,
    /// List the callers that have pushed points since the service started
    Callers,
    /// Show a source: state, figures, parts, definition
    Show {
        /// Name
        name: String,
    },
    /// Print a definition to start from: `fenetre source example mqtt > boats.toml`
    Example {
        /// Kind: poll, mqtt, modbus, opcua, sql or folder
        kind: String,
    },
    /// Check the file of a definition; needs no service
    #[cfg(feature = "service")]
    Check {
        /// File, in TOML
        file: PathBuf,
    },
    /// Take one round, show the first points, and store nothing
    Try {
        /// File, in TOML
        file: PathBuf,
    },
    /// Define a source and start it, or change it
    Add {
        /// File, in TOML
        file: PathBuf,
        /// Name (default: that of the file)
        #[arg(long)]
        name: Option<String>,
    },
    /// Pause a source until it is resumed
    Pause {
        /// Name
        name: String,
    },
    /// Resume a paused source
    Resume {
        /// Name
        name: String,
    },
    /// Begin the next round at once
    Run {
        /// Name
        name: String,
    },
    /// Remove a source; its points stay
    Remove {
        /// Name
        name: String,
    },
    /// Show the latest events of a source
    Log {
        /// Name
        name: String,
        /// Maximum number of events
        #[arg(long, default_value_t = 20)]
        limit: usize,
    },
}
