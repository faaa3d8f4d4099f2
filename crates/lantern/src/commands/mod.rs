//! One file for each command: an `Args` struct whose doc comments are the help, and one function.

pub mod acquire;
pub mod adopt;
pub mod backup;
pub mod catalogue;
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

use crate::common::Common;
use lantern_core::plan::Plan;
use lantern_host::changeover::refuse_interrupted;
use lantern_host::config::Server;
use lantern_host::folder::own;
use lantern_host::identity;
use lantern_host::lock::Lock;
use lantern_host::place::here;
use lantern_host::planning::fault::PlanningFault;
use lantern_host::{Error, Result};
use std::path::{Path, PathBuf};

/// Reads a plan: the one that was named, or the last one made. Returns its path and text, too.
fn read_plan(named: Option<&Path>, server: &Server) -> Result<(PathBuf, String, Plan)> {
    let path = named.map_or_else(
        || server.folder.shown(&own("next.plan.json")),
        Path::to_owned,
    );
    let text = here::read_text(&path).map_err(|error| match error {
        Error::Io { source, .. } if source.kind() == std::io::ErrorKind::NotFound => {
            Error::Planning(PlanningFault::NoPlan(path.clone()))
        }
        other => other,
    })?;
    let plan = Plan::parse(&text).map_err(|fault| {
        Error::Planning(PlanningFault::Plan {
            path: path.clone(),
            fault,
        })
    })?;
    Ok((path, text, plan))
}

/// Opens the server that `--server` names, and takes its lock.
fn open(common: &Common, doing: &str) -> Result<(Server, Lock)> {
    let server = Server::open(&common.server)?;
    let lock = Lock::take(&server.folder, doing)?;
    identity::confirm(&server.folder)?;
    let lock = lock.with_store(&server, doing)?;
    Ok((server, lock))
}

/// As [`open`], and refuses where a changeover was cut off.
fn open_settled(common: &Common, doing: &str) -> Result<(Server, Lock)> {
    let (server, lock) = open(common, doing)?;
    refuse_interrupted(&server)?;
    Ok((server, lock))
}
