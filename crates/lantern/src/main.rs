//! `lantern`: brings a modded game server to a new version, safely, with a way back.

mod answers;
mod cli;
mod commands;
mod common;
mod fail;
mod look;
mod progress;
mod visible;

use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
    let mut cli = cli::Cli::parse();
    cli.common.settle();
    let look = look::Look::new(cli.common.color, cli.common.json);
    match cli::run(&cli, &look) {
        Ok(status) => ExitCode::from(status),
        Err(error) => ExitCode::from(fail::tell(&error, &cli.common, &look)),
    }
}
