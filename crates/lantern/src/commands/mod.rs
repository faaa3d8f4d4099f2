//! One file for each command: an `Args` struct whose doc comments are the help, and one function.

pub mod acquire;
pub mod adopt;
pub mod backup;
pub mod changeover;
pub mod client;
pub mod demo;
pub mod family;
pub mod history;
pub mod outlook;
pub mod plan;
mod question;
pub mod rehearse;
mod request;
pub mod server;
pub mod survey;
pub mod undo;
pub mod verify;
pub mod why;

use crate::cli::{Cli, Command};
use crate::fail;
use crate::look::Look;
use clap::CommandFactory;
use lantern_core::plan::Plan;
use lantern_host::changeover::refuse_interrupted;
use lantern_host::config::Server;
use lantern_host::folder::own;
use lantern_host::lock::Lock;
use lantern_host::{Error, Result};
use std::path::{Path, PathBuf};

/// Does what was typed; returns the exit status.
///
/// # Errors
/// Whatever the host says; `fail` tells it.
pub fn run(cli: &Cli, look: &Look) -> Result<u8> {
    match &cli.command {
        Command::Acquire(args) => acquire::run(args, cli, look),
        Command::Adopt(args) => adopt::run(args, look),
        Command::Survey(args) => survey::run(args, cli, look),
        Command::Outlook(args) => outlook::run(args, cli, look),
        Command::Plan(args) => plan::run(args, cli, look),
        Command::Why(args) => why::run(args, cli, look),
        Command::Rehearse(args) => rehearse::run(args, cli, look),
        Command::Changeover(args) => changeover::run(args, cli, look),
        Command::Verify(args) => verify::run(args, cli, look),
        Command::Undo(args) => undo::run(args, cli, look),
        Command::Backup(args) => backup::run(args, cli, look),
        Command::History(args) => history::run(args, cli, look),
        Command::Client(args) => client::run(args, cli, look),
        Command::Console(args) => server::run(args, cli, look),
        Command::Family(args) => family::run(args, look),
        Command::Demo(args) => demo::run(args, look),
        Command::Completions { shell } => {
            clap_complete::generate(
                *shell,
                &mut Cli::command(),
                "lantern",
                &mut std::io::stdout(),
            );
            Ok(fail::DONE)
        }
    }
}

/// Reads a plan: the one that was named, or the last one made. Returns its path and text, too.
fn read_plan(named: Option<&Path>, server: &Server) -> Result<(PathBuf, String, Plan)> {
    let path = named.map_or_else(
        || server.folder.shown(&own("next.plan.json")),
        Path::to_owned,
    );
    let text = std::fs::read_to_string(&path).map_err(|source| match source.kind() {
        std::io::ErrorKind::NotFound => Error::NoPlan(path.clone()),
        _ => Error::Io {
            doing: "reading the plan",
            path: path.clone(),
            source,
        },
    })?;
    let plan = Plan::parse(&text).map_err(|fault| Error::Plan {
        path: path.clone(),
        fault,
    })?;
    Ok((path, text, plan))
}

/// Opens the server that `--server` names, and takes its lock.
fn open(cli: &Cli, doing: &str) -> Result<(Server, Lock)> {
    let server = Server::open(&cli.common.server)?;
    let lock = Lock::take(&server.folder, doing)?;
    Ok((server, lock))
}

/// As [`open`], and refuses where a changeover was cut off.
fn open_settled(cli: &Cli, doing: &str) -> Result<(Server, Lock)> {
    let (server, lock) = open(cli, doing)?;
    refuse_interrupted(&server)?;
    Ok((server, lock))
}
