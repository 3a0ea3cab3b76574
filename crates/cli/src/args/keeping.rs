//! Commands about retention, expiry, storage and rollups.

#[cfg(feature = "service")]
use std::path::PathBuf;

use clap::{ArgGroup, Args as ClapArgs, Subcommand};

use super::{ListOutput, Service, Target};

/// `fenetre jobs`
#[derive(Debug, ClapArgs)]
pub struct JobsArgs {
    /// Output format
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: ListOutput,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre retention …`
#[derive(Debug, ClapArgs)]
pub struct RetentionArgs {
    /// Command (default: show)
    #[command(subcommand)]
    pub command: Option<RetentionCommand>,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre retention …`
#[derive(Debug, Subcommand)]
pub enum RetentionCommand {
    /// Show the limits in force, their source, and current use
    Show {
        /// Dataset or DATASET::METRIC (default: everything)
        #[arg(value_name = "PLACE")]
        place: Option<String>,
        /// Output format
        #[arg(long, short, value_enum, default_value = "table")]
        output: ListOutput,
    },
    /// Set retention limits; shows the effect first
    #[command(after_help = "\
fenetre retention set velmar --keep-for 90d --preview
fenetre retention set velmar --keep-for 90d --keep-under 20GB
fenetre retention set velmar::turbidity --keep-for 2w
fenetre retention set --keep-under 200GB            # the whole store")]
    #[command(group(ArgGroup::new("limit").args(["keep_for", "keep_under"]).required(true).multiple(true)))]
    Set {
        /// Dataset or DATASET::METRIC (default: the whole store)
        #[arg(value_name = "PLACE", default_value = "", hide_default_value = true)]
        place: String,
        /// Maximum age of points, such as 90d or 1y; `none` for no limit
        #[arg(long, value_name = "SPAN")]
        keep_for: Option<String>,
        /// Maximum size, such as 20GB; `none` for no limit
        #[arg(long, value_name = "SIZE")]
        keep_under: Option<String>,
        /// Show the effect and change nothing
        #[arg(long)]
        preview: bool,
        /// Do not ask for confirmation
        #[arg(long)]
        yes: bool,
    },
    /// Remove a runtime setting: the configuration file applies again
    Reset {
        /// Dataset or DATASET::METRIC (default: the whole store)
        #[arg(value_name = "PLACE", default_value = "", hide_default_value = true)]
        place: String,
        /// Do not ask for confirmation
        #[arg(long)]
        yes: bool,
    },
    /// Write runtime settings to the configuration file
    WriteFile,
    /// Restore expired data while it is in the bin
    Restore {
        /// Id in the bin (see `fenetre bin`)
        id: String,
    },
}

/// `fenetre expire`
#[derive(Debug, ClapArgs)]
pub struct ExpireArgs {
    /// Show what would expire, and change nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Accept the system clock after a leap, and resume expiry
    #[arg(long)]
    pub accept_clock: bool,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre storage`
#[derive(Debug, ClapArgs)]
pub struct StorageArgs {
    /// Command (default: show storage use)
    #[command(subcommand)]
    pub command: Option<StorageCommand>,
    /// Only this dataset
    #[arg(long, value_name = "NAME", global = true)]
    pub dataset: Option<String>,
    /// Output format
    #[arg(long, short, value_enum, default_value = "table", global = true)]
    pub output: ListOutput,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre storage …`
#[derive(Debug, Subcommand)]
pub enum StorageCommand {
    /// Show the largest metrics
    Top {
        /// Maximum number of rows
        #[arg(long, default_value_t = 20)]
        limit: usize,
    },
    /// Check every file, block and summary; changes nothing
    Verify,
    /// Merge small and overlapping blocks, and free their space
    Compact,
    /// Check the files of a stopped store and show what can be repaired
    #[cfg(feature = "service")]
    #[command(after_help = "\
Nothing is deleted: files that are replaced or taken out go into the folder `damaged` of the store.

fenetre storage repair /var/lib/fenetre
fenetre storage repair /var/lib/fenetre --from /backup/monday --apply")]
    Repair {
        /// Directory of the store
        store: PathBuf,
        /// Backup to take lost data from
        #[arg(long, value_name = "BACKUP")]
        from: Option<PathBuf>,
        /// Carry out the plan
        #[arg(long)]
        apply: bool,
    },
    /// Accept the loss of a file: the warning ends, and its time range counts as no longer kept
    AcceptLoss {
        /// File, as listed by `fenetre storage`
        file: String,
    },
}

/// `fenetre rollup …`
#[derive(Debug, ClapArgs)]
pub struct RollupArgs {
    /// Command (default: show the levels)
    #[command(subcommand)]
    pub command: Option<RollupCommand>,
    /// Service and dataset.
    #[command(flatten)]
    pub target: Target,
}

/// `fenetre rollup …`
#[derive(Debug, Subcommand)]
pub enum RollupCommand {
    /// Show each level: time it covers, windows to be rebuilt, size
    Show {
        /// Run one query on each level and on points, and compare the times
        #[arg(long)]
        measure: bool,
        /// Output format
        #[arg(long, short, value_enum, default_value = "table")]
        output: ListOutput,
    },
    /// Set a rollup policy: which metrics, which levels, how long each is kept
    #[command(after_help = "\
fenetre rollup set --dataset velmar --level 5m=90d --level 1h=2y --level 1d
fenetre rollup set --dataset velmar --name levels --metric 'level*' --where 'reach = \"upper\"' --level 1h")]
    Set {
        /// The policy.
        #[command(flatten)]
        policy: RollupPolicyArgs,
        /// Do not ask for confirmation, even if rollups of expired points would be lost
        #[arg(long)]
        yes: bool,
    },
    /// Show which series a policy would include, and its approximate size
    Preview {
        /// The policy.
        #[command(flatten)]
        policy: RollupPolicyArgs,
    },
    /// Resume or stop backfilling
    Fill {
        /// Stop backfilling
        #[arg(long)]
        stop: bool,
    },
    /// Delete a policy and its rollups; points stay
    Drop {
        /// Name
        #[arg(default_value = "default")]
        name: String,
        /// Do not ask for confirmation
        #[arg(long)]
        yes: bool,
    },
}

/// A rollup policy.
#[derive(Debug, ClapArgs)]
pub struct RollupPolicyArgs {
    /// Level as WIDTH or WIDTH=KEEP_FOR, such as 1h=2y; the finest first
    #[arg(long = "level", value_name = "WIDTH[=KEEP_FOR]", required = true)]
    pub levels: Vec<String>,
    /// Name
    #[arg(long, default_value = "default")]
    pub name: String,
    /// Metrics to include; `*` matches any text (default: all)
    #[arg(long = "metric", value_name = "PATTERN")]
    pub metrics: Vec<String>,
    /// Series to include, as in `where` of a query (default: all)
    #[arg(long = "where", value_name = "CONDITION")]
    pub condition: Option<String>,
    /// Time zone of days, weeks, months and years (default: that of the dataset)
    #[arg(long, value_name = "ZONE")]
    pub zone: Option<String>,
    /// Time to wait for late points before a window is computed
    #[arg(long, value_name = "SPAN", default_value = "10m")]
    pub lateness: String,
}
