//! `.lantern/next.question.json`: what was asked last, so that it can be asked again.

use super::{Sources, Terms};
use crate::config::Server;
use crate::depot::web_address;
use crate::error::{Error, Result};
use crate::folder::own;
use crate::planning::fault::PlanningFault;
use lantern_core::path::RelPath;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

const FORMAT: u32 = 1;

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    format: u32,
    sources: Sources,
    terms: Terms,
}

fn file() -> RelPath {
    own("next.question.json")
}

/// Keeps a question; its sources are found again from any folder.
///
/// # Errors
/// When it cannot be written.
pub fn keep(server: &Server, sources: &Sources, terms: &Terms) -> Result<()> {
    let whole = |paths: &[PathBuf]| {
        let whole = |path: &PathBuf| match web_address(path) {
            Some(_) => path.clone(),
            None => std::path::absolute(path).unwrap_or_else(|_| path.clone()),
        };
        paths.iter().map(whole).collect()
    };
    let written = Written {
        format: FORMAT,
        sources: Sources {
            catalogues: whole(&sources.catalogues),
            drop_folders: whole(&sources.drop_folders),
            sent: sources.sent.clone(),
        },
        terms: terms.clone(),
    };
    let text = serde_json::to_vec_pretty(&written).expect("it has only plain values");
    server.folder.write_whole(&file(), &text)
}

/// What was asked last.
///
/// # Errors
/// [`PlanningFault::NoQuestion`] where nothing was, or another lantern wrote it.
pub fn question(server: &Server) -> Result<(Sources, Terms)> {
    let none = || Error::Planning(PlanningFault::NoQuestion);
    let bytes = server.folder.read_if_there(&file())?.ok_or_else(none)?;
    let written: Written = serde_json::from_slice(&bytes).map_err(|_| none())?;
    match written.format {
        FORMAT => Ok((written.sources, written.terms)),
        _ => Err(none()),
    }
}
