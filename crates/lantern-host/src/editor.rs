//! The administrator's own editor, on a copy of a text.

#![allow(clippy::disallowed_methods, clippy::disallowed_types)] // At the administrator's own terminal.

use crate::error::{Error, Result};
use crate::place::here;
use crate::planning::fault::PlanningFault;
use lantern_core::path::RelPath;
use std::process::Command;

/// Opens the editor that `VISUAL` or `EDITOR` names on a copy of a text, waits, and returns what was left in it.
///
/// # Errors
/// When none is named, or it ends badly: then nothing was written.
pub fn write(path: &RelPath, text: &str) -> Result<String> {
    let named = ["VISUAL", "EDITOR"]
        .into_iter()
        .filter_map(|name| std::env::var(name).ok());
    let mut named = named.filter(|editor| !editor.trim().is_empty());
    let editor = named
        .next()
        .ok_or_else(|| PlanningFault::NoEditor(path.clone()))?;
    let folder = tempfile::tempdir().map_err(|source| Error::Io {
        doing: "making a folder for",
        path: path.as_str().into(),
        source,
    })?;
    // Editors tell a notation by the name.
    let copy = folder.path().join(path.name());
    here::write(&copy, text.as_bytes())?;
    let mut words = editor.split_whitespace();
    let program = words.next().unwrap_or_default();
    match Command::new(program).args(words).arg(&copy).status() {
        Ok(status) if status.success() => here::read_text(&copy),
        _ => Err(Error::Planning(PlanningFault::EditorFailed {
            editor: editor.clone(),
            path: path.clone(),
        })),
    }
}
