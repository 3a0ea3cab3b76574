//! Commands about sinks.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

use super::{ListOutput, Service};

/// `fenetre sink …`
#[derive(Debug, ClapArgs)]
pub struct SinkArgs {
    /// Command (default: list)
    #[command(subcommand)]
    pub command: Option<SinkCommand>,
    /// Output format
    #[arg(long, short, value_enum, default_value = "table", global = true)]
    pub output: ListOutput,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre sink …`
#[derive(Debug, Subcommand)]
pub enum SinkCommand {
    /// List the sinks with their state
    List,
    /// Show a sink: state, figures, definition
    Show {
        /// Name
        name: String,
    },
    /// Print a definition to start from: `fenetre sink example forward > central.toml`
    Example {
        /// Kind: forward, http, files, sql or mqtt
        kind: String,
    },
    /// Check the file of a definition; needs no service
    #[cfg(feature = "service")]
    Check {
        /// File, in TOML
        file: PathBuf,
    },
    /// Show the latest points as they would be sent, and send nothing
    Try {
        /// File, in TOML
        file: PathBuf,
    },
    /// Define a sink and start it, or change it
    Add {
        /// File, in TOML
        file: PathBuf,
        /// Name (default: that of the file)
        #[arg(long)]
        name: Option<String>,
    },
    /// Pause a sink until it is resumed; points that arrive in between are sent then
    Pause {
        /// Name
        name: String,
    },
    /// Resume a paused sink
    Resume {
        /// Name
        name: String,
    },
    /// Send the points of a time range again
    Replay {
        /// Name
        name: String,
        /// Range, such as `last 1d` or `2026-05-01 to 2026-05-02`
        #[arg(long)]
        over: String,
    },
    /// Compare counts and sums per window with those of the destination
    Verify {
        /// Name
        name: String,
        /// Range, such as `last 1d` or `2026-05-01 to 2026-05-02`
        #[arg(long, default_value = "last 1d")]
        over: String,
    },
    /// List the batches that the destination refused and that were set aside, or print the points of one
    Aside {
        /// Name
        name: String,
        /// Number of a batch whose points are printed, one per line
        batch: Option<u64>,
    },
    /// Send the batches again that were set aside
    Resend {
        /// Name
        name: String,
    },
    /// Remove batches that were set aside; their points are not sent
    Discard {
        /// Name
        name: String,
        /// Number of a batch (default: all)
        batch: Option<u64>,
    },
    /// Remove a sink; the points that it has sent stay
    Remove {
        /// Name
        name: String,
    },
    /// Show the latest events of a sink
    Log {
        /// Name
        name: String,
        /// Maximum number of events
        #[arg(long, default_value_t = 20)]
        limit: usize,
    },
}
