//! `lantern`: brings a modded game server to a new version, safely, with a way back.

mod answers;
mod around;
mod by_hand;
mod candidates;
mod cli;
mod commands;
mod common;
mod fail;
mod hour;
mod look;
mod means;
mod paper;
mod progress;
mod sheet;
mod visible;

use clap::{CommandFactory, Parser};
use clap_complete::CompleteEnv;
use std::process::ExitCode;

/// Quicker than the system's own where much that is small comes and goes: settings, catalogues, releases.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Tells what was typed wrong, or what was asked for in place of a command: help, the version.
fn misused(error: &clap::Error) -> ExitCode {
    let wants_json = std::env::args().any(|word| word == "--json");
    let status = u8::try_from(error.exit_code()).unwrap_or(fail::ERROR);
    if wants_json && error.use_stderr() {
        let told = error.to_string();
        let mut lines = told.lines().map(str::to_owned);
        let first = lines.next().unwrap_or_default();
        look::Look::new(common::When::Never, true).answer(&answers::Failure {
            error: first.trim_start_matches("error: ").to_owned(),
            advice: lines.filter(|line| !line.trim().is_empty()).collect(),
            exit_status: status,
            conflicts: None,
        });
    }
    let _ = error.print();
    ExitCode::from(status)
}

fn main() -> ExitCode {
    // Where a shell asks what can come next, that is answered and nothing else.
    CompleteEnv::with_factory(cli::Cli::command).complete();
    let mut cli = match cli::Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => return misused(&error),
    };
    cli.common.settle();
    let common = &cli.common;
    let mut look = look::Look::new(common.color, common.json);
    (look.quiet, look.verbose) = (common.quiet, common.verbose);
    match cli::run(&cli, &look) {
        Ok(status) => ExitCode::from(status),
        Err(error) => ExitCode::from(fail::tell(&error, &cli.common, &look)),
    }
}
