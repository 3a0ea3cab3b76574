//! Commands about tokens, profiles and the record of changes.

#[cfg(feature = "service")]
use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

use super::{ListOutput, Service};

/// `fenetre token …`
#[derive(Debug, ClapArgs)]
#[command(args_conflicts_with_subcommands = false)]
pub struct TokenArgs {
    /// Command (default: list)
    #[command(subcommand)]
    pub command: Option<TokenCommand>,
    /// Store on this machine, served or not: works by the permissions of its files, without a token
    #[cfg(feature = "service")]
    #[arg(long, value_name = "DIR", global = true, conflicts_with_all = ["url", "profile", "token_file"])]
    pub store: Option<PathBuf>,
    /// Output format
    #[arg(long, short, value_enum, default_value = "table", global = true)]
    pub output: ListOutput,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre token …`
#[derive(Debug, Subcommand)]
pub enum TokenCommand {
    /// List tokens with grants, expiry and last use
    List {
        /// Revoked ones too
        #[arg(long)]
        all: bool,
    },
    /// Create a token; its secret is written once, to standard output
    #[command(after_help = "\
A grant is read, write, define or admin, alone for all datasets, or with one, or with a pattern:
  fenetre token create gateway --grant write:velmar --network 192.0.2.0/24
  fenetre token create board --grant read:velmar --expires 90d
  fenetre token create flow-study --grant 'read:plant-*' --metric 'flow_*' --query-seconds 10
  fenetre token create ops --grant admin --store /var/lib/fenetre      # the first one, on the machine itself
`define` includes read and write, `admin` everything; `write` does not include read.")]
    Create {
        /// Name
        name: String,
        /// What it may do; repeatable
        #[arg(long = "grant", value_name = "GRANT", required = true)]
        grants: Vec<String>,
        /// Only metrics with this name or pattern; repeatable
        #[arg(long = "metric", value_name = "PATTERN")]
        metrics: Vec<String>,
        /// Only from this network or address; repeatable
        #[arg(long = "network", value_name = "CIDR")]
        networks: Vec<String>,
        /// End: a span from now, or an instant (default: never)
        #[arg(long, value_name = "SPAN|TIME")]
        expires: Option<String>,
        /// Seconds that a query may run
        #[arg(long, value_name = "COUNT")]
        query_seconds: Option<u64>,
        /// Series that a query may match
        #[arg(long, value_name = "COUNT")]
        query_series: Option<u64>,
        /// Points that a query may read
        #[arg(long, value_name = "COUNT")]
        query_points: Option<u64>,
        /// Points per second that it may push
        #[arg(long, value_name = "COUNT")]
        points_per_second: Option<u64>,
        /// Queries per second that it may ask
        #[arg(long, value_name = "COUNT")]
        queries_per_second: Option<u64>,
    },
    /// Give a token a new secret
    Rotate {
        /// Name or id
        name: String,
        /// Time for which the old secret still works (default: none)
        #[arg(long, value_name = "SPAN")]
        overlap: Option<String>,
    },
    /// Suspend a token until it is resumed
    Suspend {
        /// Name or id
        name: String,
    },
    /// Resume a suspended token
    Resume {
        /// Name or id
        name: String,
    },
    /// Revoke a token permanently; its open streams end within a second
    Revoke {
        /// Name or id
        name: String,
    },
}

/// `fenetre login`
#[derive(Debug, ClapArgs)]
pub struct LoginArgs {
    /// Address of the service, such as https://plant.example:7430
    #[arg(value_name = "URL")]
    pub address: String,
    /// The profile and the token.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre logout`
#[derive(Debug, ClapArgs)]
pub struct LogoutArgs {
    /// Profile
    #[arg(long, env = "FENETRE_PROFILE", value_name = "NAME", default_value = "default")]
    pub profile: String,
}

/// `fenetre whoami`
#[derive(Debug, ClapArgs)]
pub struct WhoamiArgs {
    /// Write JSON
    #[arg(long)]
    pub json: bool,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}

/// `fenetre changes`
#[derive(Debug, ClapArgs)]
#[command(after_help = "\
fenetre changes --since 7d
fenetre changes --what retention --who ops
fenetre changes --since 2026-11-01T00:00:00Z --limit 100000 -o ndjson > changes.ndjson")]
pub struct ChangesArgs {
    /// Only changes by this token, or by 'this machine'
    #[arg(long, value_name = "NAME")]
    pub who: Option<String>,
    /// Only changes of this kind of thing: dataset, metric, tag, retention, rollup, mapping, points, bin, import, storage, backup,
    /// configuration, token, session or call
    #[arg(long, value_name = "KIND")]
    pub what: Option<String>,
    /// Only changes since then: a span before now, or an instant
    #[arg(long, value_name = "SPAN|TIME")]
    pub since: Option<String>,
    /// Maximum number of changes
    #[arg(long, value_name = "COUNT", default_value_t = 100)]
    pub limit: usize,
    /// Output format
    #[arg(long, short, value_enum, default_value = "table")]
    pub output: ListOutput,
    /// The service.
    #[command(flatten)]
    pub service: Service,
}
