//! One file for each command: an `Args` struct whose doc comments are the help, and one function.

pub mod acquire;
pub mod adopt;
mod armed;
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
use lantern_host::Result;
use lantern_host::changeover::refuse_interrupted;
use lantern_host::config::Server;
use lantern_host::identity;
use lantern_host::lock::Lock;

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
