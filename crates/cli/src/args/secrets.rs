//! Commands about secrets.

use clap::{Args as ClapArgs, Subcommand};

use super::{ListOutput, Service};

/// `fenetre secret …`
#[derive(Debug, ClapArgs)]
pub struct SecretArgs {
    /// Command (default: list)
    #[command(subcommand)]
    pub command: Option<SecretCommand>,
    /// Output format
    #[arg(long, short, value_enum, default_value = "table", global = true)]
    pub output: ListOutput,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre secret …`
#[derive(Debug, Subcommand)]
pub enum SecretCommand {
    /// List the names of the secrets, and the sources that use them
    List,
    /// Set a secret: enter it at the prompt (it is not shown), or pipe it to standard input
    Set {
        /// Name, as in a definition: password = { kept = "NAME" }
        name: String,
    },
    /// Remove a secret that no source uses
    Remove {
        /// Name
        name: String,
    },
}
