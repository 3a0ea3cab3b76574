//! Commands about keeping: retention, expiry, what is stored.

use std::path::PathBuf;

use clap::{ArgGroup, Args as ClapArgs, Subcommand};

use super::{ListOutput, Target};

/// Where the service is, for commands about the whole store.
#[derive(Clone, Debug, ClapArgs)]
pub struct ServiceUrl {
    /// Where the service listens
    #[arg(long, env = "FENETRE_URL", default_value = "http://127.0.0.1:7430", value_name = "URL", global = true)]
    pub url: String,
}

/// `fenetre retention …`
#[derive(Debug, ClapArgs)]
pub struct RetentionArgs {
    /// What to do; shows what holds where this is left out
    #[command(subcommand)]
    pub command: Option<RetentionCommand>,
    /// Where the service is.
    #[command(flatten)]
    pub service: ServiceUrl,
}

/// `fenetre retention …`
#[derive(Debug, Subcommand)]
pub enum RetentionCommand {
    /// Show each limit in force, where it comes from, and what is held under it
    Show {
        /// A dataset, or a metric as DATASET::METRIC; everything where it is left out
        #[arg(value_name = "PLACE")]
        place: Option<String>,
        /// How the list is written
        #[arg(long, short, value_enum, default_value = "table")]
        output: ListOutput,
    },
    /// Say how long and how much is kept, after showing what would go
    #[command(after_help = "\
fenetre retention set velmar --keep-for 90d --preview
fenetre retention set velmar --keep-for 90d --keep-under 20GB
fenetre retention set velmar::turbidity --keep-for 2w
fenetre retention set --keep-under 200GB            # the whole store")]
    #[command(group(ArgGroup::new("limit").args(["keep_for", "keep_under"]).required(true).multiple(true)))]
    Set {
        /// A dataset, or a metric as DATASET::METRIC; the whole store where it is left out
        #[arg(value_name = "PLACE", default_value = "", hide_default_value = true)]
        place: String,
        /// How long points are kept, such as 90d or 1y; `none` for no limit here
        #[arg(long, value_name = "SPAN")]
        keep_for: Option<String>,
        /// How much is kept, such as 20GB; `none` for no limit here
        #[arg(long, value_name = "SIZE")]
        keep_under: Option<String>,
        /// Only show what would go, and what will be there
        #[arg(long)]
        preview: bool,
        /// Do it without asking
        #[arg(long)]
        yes: bool,
    },
    /// Go back to what the configuration file says of a place
    Reset {
        /// A dataset, or a metric as DATASET::METRIC; the whole store where it is left out
        #[arg(value_name = "PLACE", default_value = "", hide_default_value = true)]
        place: String,
        /// Do it without asking
        #[arg(long)]
        yes: bool,
    },
    /// Write what was set live into the configuration file
    WriteFile,
    /// Bring back what was dropped, while it is in the bin
    Restore {
        /// Its id, as `fenetre bin` tells it
        id: String,
    },
}

/// `fenetre expire`
#[derive(Debug, ClapArgs)]
pub struct ExpireArgs {
    /// Only show what would go
    #[arg(long)]
    pub dry_run: bool,
    /// Accept the system clock after a leap, and resume expiry
    #[arg(long)]
    pub accept_clock: bool,
    /// Where the service is.
    #[command(flatten)]
    pub service: ServiceUrl,
}

/// `fenetre storage`
#[derive(Debug, ClapArgs)]
pub struct StorageArgs {
    /// What to do; shows what the store weighs where this is left out
    #[command(subcommand)]
    pub command: Option<StorageCommand>,
    /// Only this dataset
    #[arg(long, value_name = "NAME", global = true)]
    pub dataset: Option<String>,
    /// How the list is written
    #[arg(long, short, value_enum, default_value = "table", global = true)]
    pub output: ListOutput,
    /// Where the service is.
    #[command(flatten)]
    pub service: ServiceUrl,
}

/// `fenetre storage …`
#[derive(Debug, Subcommand)]
pub enum StorageCommand {
    /// Show which metrics take most
    Top {
        /// So many at the most
        #[arg(long, default_value_t = 20)]
        limit: usize,
    },
    /// Check every block's checksum, and that summaries are those of their points; repairs nothing
    Verify,
    /// Merge blocks that overlap or are small now, and give back the room
    Compact,
    /// Check the files of a store that no service has open, and show what can be repaired; `--apply` does it
    #[command(after_help = "\
Nothing is deleted: files that are replaced or taken out go into the folder `damaged` of the store.

fenetre storage repair /var/lib/fenetre
fenetre storage repair /var/lib/fenetre --from /backup/monday --apply")]
    Repair {
        /// The store's directory
        store: PathBuf,
        /// A backup, for what the store has lost
        #[arg(long, value_name = "BACKUP")]
        from: Option<PathBuf>,
        /// Do what the plan says
        #[arg(long)]
        apply: bool,
    },
    /// Accept the loss of a file: ends the warning, and its time range counts as no longer kept
    AcceptLoss {
        /// The file, as `fenetre storage` names it
        file: String,
    },
}

/// `fenetre rollup …`
#[derive(Debug, ClapArgs)]
pub struct RollupArgs {
    /// What to do; shows how far levels are where this is left out
    #[command(subcommand)]
    pub command: Option<RollupCommand>,
    /// Which dataset, and where the service is.
    #[command(flatten)]
    pub target: Target,
}

/// `fenetre rollup …`
#[derive(Debug, Subcommand)]
pub enum RollupCommand {
    /// Show each level: since when it stands for points, what is out of date, how large it is
    Show {
        /// Ask the same of each level and of points, and show how much faster it was
        #[arg(long)]
        measure: bool,
        /// How the list is written
        #[arg(long, short, value_enum, default_value = "table")]
        output: ListOutput,
    },
    /// Say which metrics are rolled up, into which levels, and how long each is kept
    #[command(after_help = "\
fenetre rollup set --dataset velmar --level 5m=90d --level 1h=2y --level 1d
fenetre rollup set --dataset velmar --name levels --metric 'level*' --where 'reach = \"upper\"' --level 1h")]
    Set {
        /// The policy.
        #[command(flatten)]
        policy: RollupPolicyArgs,
        /// Set it without asking, also where levels go that tell of points that are no longer there
        #[arg(long)]
        yes: bool,
    },
    /// Show what a policy would take, and about how large it would be
    Preview {
        /// The policy.
        #[command(flatten)]
        policy: RollupPolicyArgs,
    },
    /// Let levels go on being filled backwards, or stop that
    Fill {
        /// Stop it
        #[arg(long)]
        stop: bool,
    },
    /// Drop a policy with everything that was made for it; points stay
    Drop {
        /// Its name
        #[arg(default_value = "default")]
        name: String,
        /// Drop it without asking
        #[arg(long)]
        yes: bool,
    },
}

/// A rollup policy.
#[derive(Debug, ClapArgs)]
pub struct RollupPolicyArgs {
    /// A level as WIDTH or WIDTH=KEPT, such as 1h=2y; the finest first
    #[arg(long = "level", value_name = "WIDTH[=KEPT]", required = true)]
    pub levels: Vec<String>,
    /// Its name
    #[arg(long, default_value = "default")]
    pub name: String,
    /// Only metrics of this name, `*` for any letters; all where it is left out
    #[arg(long = "metric", value_name = "PATTERN")]
    pub metrics: Vec<String>,
    /// Only series that fulfil this, as in `where`
    #[arg(long = "where", value_name = "CONDITION")]
    pub condition: Option<String>,
    /// The zone of days, weeks, months and years; the dataset's where it is left out
    #[arg(long, value_name = "ZONE")]
    pub zone: Option<String>,
    /// How long a window waits for late points before it is made
    #[arg(long, value_name = "SPAN", default_value = "10m")]
    pub lateness: String,
}
