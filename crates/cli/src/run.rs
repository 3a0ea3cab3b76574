//! Which command runs what.

use std::{io::Write, process::ExitCode};

use clap::CommandFactory;

use crate::{
    args::{Args, Command},
    commands::{
        apply, ask, backup, bin, changes, datasets, import, imports, jobs, mapping, metrics, peek, retention, rollup, secrets, series, sinks,
        sources, storage, tags, tail, token,
    },
    failure::{DONE, Failure},
};
#[cfg(feature = "service")]
use crate::{
    args::{ConfigCommand, DemoCommand, StorageArgs, StorageCommand, TlsCommand, TokenArgs},
    host::{self, config, demo, repair, restore, serve},
};

/// Runs a command.
pub fn run(args: Args) -> Result<ExitCode, Failure> {
    match args.command {
        #[cfg(feature = "service")]
        Command::Serve(args) => serve::run(&args)?,
        #[cfg(feature = "service")]
        Command::Config(ConfigCommand::Check { file }) => config::check(&file)?,
        Command::Import(args) => return import::run(&args),
        Command::Imports(args) => imports::run(args)?,
        Command::Mapping(command) => mapping::run(command)?,
        Command::Apply(args) => return apply::run(&args),
        Command::Ask(args) => ask::run(args)?,
        Command::At(args) => ask::at(args)?,
        Command::Completions { shell } => {
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut Args::command(), "fenetre", &mut script);
            std::io::stdout().write_all(&script)?;
        }
        Command::Datasets(args) => datasets::run(args)?,
        Command::Metrics(args) => return metrics::run(args),
        Command::Tags(args) => tags::run(args)?,
        Command::Jobs(args) => jobs::run(&args)?,
        #[cfg(feature = "service")]
        Command::Token(TokenArgs { command, store: Some(store), output, .. }) => host::token::run(&store, command, output)?,
        Command::Token(args) => token::run(args)?,
        Command::Login(args) => token::login(&args)?,
        Command::Logout(args) => token::logout(&args)?,
        Command::Whoami(args) => token::whoami(&args)?,
        Command::Changes(args) => changes::run(&args)?,
        #[cfg(feature = "service")]
        Command::Tls(TlsCommand::SelfSigned(args)) => host::tls::self_signed(&args)?,
        Command::Source(args) => sources::run(args)?,
        Command::Sink(args) => sinks::run(args)?,
        Command::Secret(args) => secrets::run(args)?,
        Command::Peek(args) => peek::run(&args)?,
        Command::Tail(args) => tail::run(&args)?,
        Command::Points(command) => bin::points(command)?,
        Command::Bin(args) => bin::run(args)?,
        Command::Series(args) => series::list(&args)?,
        Command::Latest(args) => series::latest(&args)?,
        Command::Retention(args) => retention::run(args)?,
        Command::Rollup(args) => rollup::run(args)?,
        Command::Expire(args) => retention::expire(&args)?,
        #[cfg(feature = "service")]
        Command::Storage(StorageArgs { command: Some(StorageCommand::Repair { store, from, apply }), .. }) => {
            return repair::run(&store, from.as_deref(), apply);
        }
        Command::Storage(args) => return storage::run(&args),
        Command::Backup(args) => backup::backup(&args)?,
        #[cfg(feature = "service")]
        Command::Restore(args) => restore::run(&args)?,
        #[cfg(feature = "service")]
        Command::Demo(DemoCommand::Run(args)) => demo::run(&args)?,
        #[cfg(feature = "service")]
        Command::Demo(DemoCommand::Write(args)) => demo::write(&args)?,
    }
    Ok(ExitCode::from(DONE))
}
