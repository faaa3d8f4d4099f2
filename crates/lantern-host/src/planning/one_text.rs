//! A plan that changes one text and does nothing else.

use super::fault::PlanningFault;
use super::put_back::{concerned, standing_still};
use crate::config::Server;
use crate::error::{Error, Result};
use crate::ledger::Ledger;
use crate::survey::{Depth, survey};
use lantern_core::path::RelPath;
use lantern_core::plan::Plan;
use lantern_core::settings::Manner;
use lantern_core::text::Text;

/// What is said where a file cannot be read or written by its keys.
pub(super) fn unsettable(path: &RelPath, why: impl ToString) -> Error {
    Error::Planning(PlanningFault::NotSettable {
        path: path.clone(),
        why: why.to_string(),
    })
}

/// Draws a plan that changes one text and does nothing else.
pub(super) fn changing(
    server: &Server,
    ledger: &mut Ledger,
    path: &RelPath,
    now: &Text,
    manner: &Manner,
    new: String,
) -> Result<Plan> {
    let survey = survey(server, ledger, Depth::Usual)?;
    let is_planned = survey.planned_files(server).any(|file| file.path == *path);
    if !is_planned {
        return Err(unsettable(
            path,
            "it is on the keep list, or comes and goes, and no plan writes there",
        ));
    }
    let mut plan = standing_still(server, ledger, &survey)?;
    plan.edit_nothing(&survey.files);
    if new != now.as_str() {
        let new = now.with(new);
        let new = new.ok_or_else(|| unsettable(path, "its encoding has no room for that"))?;
        plan.change(path, now, &new, manner);
        concerned(server, &mut plan);
    }
    Ok(plan)
}
