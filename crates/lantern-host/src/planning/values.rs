//! Values of settings files, by key.

use super::fault::PlanningFault;
use super::one_text::{changing, unsettable};
use crate::config::Server;
use crate::console::{Console, ServerState};
use crate::error::{Error, Result};
use crate::ledger::Ledger;
use lantern_core::path::RelPath;
use lantern_core::plan::Plan;
use lantern_core::settings::{self, Entry, Key, Manner, Notation};
use lantern_core::text::Text;

/// A settings file, read by its keys.
#[derive(Debug)]
pub struct Values {
    /// Its notation.
    pub notation: Notation,
    /// How it is to be taken.
    pub manner: Manner,
    /// Its text.
    pub text: Text,
    /// Its values, in their order.
    pub entries: Vec<Entry>,
}

/// Reads a settings file of a server.
///
/// # Errors
/// When it is not there, or not in its notation, or nothing tells that.
pub fn values(server: &Server, path: &RelPath) -> Result<Values> {
    let manner = server.family.manner(path);
    let notation = manner.notation.clone();
    let notation = notation.ok_or_else(|| unsettable(path, "nothing tells its notation"))?;
    let text = server.folder.read_text(path)?;
    if !text.is_plain() {
        return Err(unsettable(path, "it is no text"));
    }
    let entries = settings::read(&notation, text.as_str());
    let entries = entries.map_err(|fault| unsettable(path, fault))?;
    Ok(Values {
        notation,
        manner,
        text,
        entries,
    })
}

/// A settings file's text with a value set; nothing is written.
fn with_value(server: &Server, path: &RelPath, key: &Key, value: &str) -> Result<(Values, String)> {
    let values = values(server, path)?;
    if values.manner.is_secret(key) {
        let why =
            format!("{key} is a secret by its name, and no plan holds one: set it in an editor");
        return Err(unsettable(path, why));
    }
    let new = settings::set(&values.notation, values.text.as_str(), key, value);
    let new = new.map_err(|fault| unsettable(path, fault))?;
    Ok((values, new))
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
    let (Values { manner, text, .. }, new) = with_value(server, path, key, value)?;
    changing(server, ledger, path, &text, &manner, new)
}

/// Sets a value at once, while nothing runs that reads the file; what it said before, if anything.
///
/// # Errors
/// When a server is up, or not known to be down; and as [`set_value`].
pub fn set_at_once(
    server: &Server,
    path: &RelPath,
    key: &Key,
    value: &str,
) -> Result<Option<String>> {
    for one in server.each() {
        if Console::of(&one).state()? != ServerState::Down {
            return Err(Error::Planning(PlanningFault::NotDown(path.clone())));
        }
    }
    if server.keeps(path.as_str()) {
        return Err(unsettable(
            path,
            "it is on the keep list, and lantern does not write there",
        ));
    }
    let (values, new) = with_value(server, path, key, value)?;
    let before = values.entries.iter().find(|entry| entry.key == *key);
    let before = before.map(|entry| entry.says.clone());
    if new != values.text.as_str() {
        let new = values.text.with(new);
        let new = new.ok_or_else(|| unsettable(path, "its encoding has no room for that"))?;
        server.folder.write_whole(path, &new.bytes())?;
    }
    Ok(before)
}
