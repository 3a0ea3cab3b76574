//! One file a command.

mod ask;
mod backup;
mod config;
mod datasets;
mod demo;
mod import;
mod metrics;
mod series;
mod serve;
mod storage;
mod tags;

use std::process::ExitCode;

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
        Command::Ask(args) => ask::run(args)?,
        Command::Datasets(args) => datasets::run(args)?,
        Command::Metrics(args) => metrics::run(args)?,
        Command::Tags(args) => tags::run(&args)?,
        Command::Series(args) => series::list(&args)?,
        Command::Latest(args) => series::latest(&args)?,
        Command::Storage(args) => storage::run(&args)?,
        Command::Backup(args) => backup::backup(&args)?,
        Command::Restore(args) => backup::restore(&args)?,
        Command::Demo(DemoCommand::Run(args)) => demo::run(&args)?,
        Command::Demo(DemoCommand::Write(args)) => demo::write(&args)?,
    }
    Ok(ExitCode::from(DONE))
}
