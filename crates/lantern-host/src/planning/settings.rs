//! Values of settings files, by key.

use super::fault::PlanningFault;
use super::put_back::{concerned, standing_still};
use crate::config::Server;
use crate::error::{Error, Result};
use crate::ledger::Ledger;
use crate::survey::{Depth, survey};
use lantern_core::path::RelPath;
use lantern_core::plan::Plan;
use lantern_core::settings::{self, Entry, Key, Notation, SettingsFault};
use lantern_core::text::Text;

/// A settings file, read by its keys.
#[derive(Debug)]
pub struct Values {
    /// Its notation.
    pub notation: Notation,
    /// Its text.
    pub text: Text,
    /// Its values, in their order.
    pub entries: Vec<Entry>,
}

/// Reads a settings file of a server.
///
/// # Errors
/// When it is not there, or not in the notation that its name tells.
pub fn values(server: &Server, path: &RelPath) -> Result<Values> {
    let unsettable = |why: String| {
        Error::Planning(PlanningFault::NotSettable {
            path: path.clone(),
            why,
        })
    };
    let notation = Notation::of(path.name());
    let notation = notation.ok_or_else(|| unsettable("its name tells no notation".into()))?;
    let text = server.folder.read_text(path)?;
    if !text.is_plain() {
        return Err(unsettable("it is in UTF-16, or no text".into()));
    }
    let entries = settings::read(notation, text.as_str());
    let entries = entries.map_err(|fault| unsettable(fault.to_string()))?;
    Ok(Values {
        notation,
        text,
        entries,
    })
}

/// Draws a plan that sets a value in a settings file, and does nothing else.
///
/// # Errors
/// When the file cannot be read or written by a plan, there is no place for the value, or it is a secret: no plan holds one.
pub fn set_value(
    server: &Server,
    ledger: &mut Ledger,
    path: &RelPath,
    key: &Key,
    value: &str,
) -> Result<Plan> {
    let unsettable = |why: String| {
        Error::Planning(PlanningFault::NotSettable {
            path: path.clone(),
            why,
        })
    };
    if settings::is_secret(key) {
        return Err(unsettable(format!(
            "{key} is a secret by its name, and no plan holds one: set it in an editor"
        )));
    }
    let Values { notation, text, .. } = values(server, path)?;
    let survey = survey(server, ledger, Depth::Usual)?;
    let is_planned = survey.planned_files(server).any(|file| file.path == *path);
    if !is_planned {
        return Err(unsettable(
            "it is on the keep list, or comes and goes, and no plan writes there".into(),
        ));
    }
    let mut plan = standing_still(server, ledger, &survey)?;
    plan.edit_nothing(&survey.files);
    let new = settings::set(notation, text.as_str(), key, value);
    let new = new.map_err(|fault: SettingsFault| unsettable(fault.to_string()))?;
    if new != text.as_str() {
        let new = text.with(new);
        let new = new.ok_or_else(|| unsettable("its encoding has no room for that".into()))?;
        plan.change(path, &text, &new);
        concerned(server, &mut plan);
    }
    Ok(plan)
}
