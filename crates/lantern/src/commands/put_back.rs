//! `lantern put-back`

use super::{open_settled, plan};
use crate::common::Common;
use crate::look::Look;
use clap::Args;
use lantern_core::path::RelPath;
use lantern_host::Result;
use lantern_host::ledger::Ledger;
use lantern_host::planning;

/// Plan to bring back what an operation set aside: a file, or a folder with all in it; a changeover carries it out
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  lantern put-back config/x.toml --operation 12")]
pub struct PutBackArgs {
    /// Where it came from: files or folders, relative to the server folder
    #[arg(required = true)]
    paths: Vec<String>,
    /// The number of the operation that set it aside; see: lantern history
    #[arg(long, value_name = "N")]
    operation: i64,
}

/// Draws and arms a plan that brings files back.
pub fn run(args: &PutBackArgs, common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "put-back")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let paths: std::result::Result<Vec<RelPath>, _> =
        args.paths.iter().map(|path| RelPath::parse(path)).collect();
    let drawn = planning::put_back(&server, &mut ledger, args.operation, &paths?)?;
    let nothing = "Everything is already there, as it was set aside.";
    plan::arm_and_show(drawn, nothing, &server, common, look)
}
