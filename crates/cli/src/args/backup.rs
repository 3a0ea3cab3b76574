//! Backups.

use std::path::PathBuf;

use clap::Args as ClapArgs;

use super::Service;

/// `fenetre backup`
#[derive(Debug, ClapArgs)]
#[command(group = clap::ArgGroup::new("what").required(true).args(["folder", "stop"]))]
pub struct BackupArgs {
    /// Folder on the machine of the service: empty, missing, or with an unfinished backup
    #[arg(value_name = "DIR")]
    pub folder: Option<PathBuf>,
    /// Earlier backup: unchanged partitions are not copied again
    #[arg(long, value_name = "DIR", requires = "folder")]
    pub since: Option<PathBuf>,
    /// Include the secrets of the store; anyone who can read the backup can read them
    #[arg(long, requires = "folder")]
    pub with_secrets: bool,
    /// Stop the running backup; the same backup command continues it later
    #[arg(long, conflicts_with = "folder")]
    pub stop: bool,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}
