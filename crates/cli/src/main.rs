//! The `fenetre` binary: the service, its client, and the demo.
//!
//! `main` reads the command line, runs one command and turns its failure into a message and an exit code. Results go to standard
//! output, talk and progress to standard error.

#![warn(clippy::print_stdout, clippy::print_stderr, reason = "they panic when the pipe is closed: `outln!` and `noteln!` do not")]

#[macro_use]
mod output;

mod args;
mod client;
mod commands;
mod confirm;
mod failure;
#[cfg(feature = "service")]
mod host;
mod profiles;
mod run;
mod typed;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    let args = args::Args::parse_from(args::in_order(std::env::args_os()));
    match run::run(args) {
        Ok(code) => code,
        Err(failure) => failure.report(),
    }
}
