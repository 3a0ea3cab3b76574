//! One file a command.

mod apply;
mod ask;
mod backup;
mod bin;
mod config;
mod datasets;
mod definitions;
mod demo;
mod import;
mod imports;
mod mapping;
mod metrics;
mod peek;
mod repair;
mod retention;
mod rollup;
mod series;
mod serve;
mod storage;
mod tags;
mod tail;

use std::{io::Write, process::ExitCode};

use clap::CommandFactory;

use crate::{
    args::{Args, Command, ConfigCommand, DemoCommand},
    failure::{DONE, Failure},
};

/// Runs a command.
pub fn run(args: Args) -> Result<ExitCode, Failure> {
    match args.command {
        Command::Serve(args) => serve::run(&args)?,
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
        Command::Peek(args) => peek::run(&args)?,
        Command::Tail(args) => tail::run(&args)?,
        Command::Points(command) => bin::points(command)?,
        Command::Bin(args) => bin::run(args)?,
        Command::Series(args) => series::list(&args)?,
        Command::Latest(args) => series::latest(&args)?,
        Command::Retention(args) => retention::run(args)?,
        Command::Rollup(args) => rollup::run(args)?,
        Command::Expire(args) => retention::expire(&args)?,
        Command::Storage(args) => return storage::run(&args),
        Command::Backup(args) => backup::backup(&args)?,
        Command::Restore(args) => backup::restore(&args)?,
        Command::Demo(DemoCommand::Run(args)) => demo::run(&args)?,
        Command::Demo(DemoCommand::Write(args)) => demo::write(&args)?,
    }
    Ok(ExitCode::from(DONE))
}
