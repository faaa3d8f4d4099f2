//! What differs: a file from what was shipped, from what was set aside, and what a plan would change.

use crate::archive::Archive;
use crate::config::Server;
use crate::downloads::Downloads;
use crate::error::Result;
use crate::folder::{Folder, hash_file};
use crate::history;
use crate::ledger::Ledger;
use crate::place::here;
use crate::planning::{files_aside, set_aside};
use crate::survey::Survey;
use lantern_core::artifact::ArchivedFile;
use lantern_core::inventory::FileState;
use lantern_core::path::RelPath;
use lantern_core::plan::{Action, ActionKind, Plan};
use lantern_core::settings::{self, Manner, Notation, Standing};
use lantern_core::text::{Text, changes, unified};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

/// No longer text is compared line by line, in bytes.
const LONGEST_BYTES: u64 = 1 << 20;

/// How one file differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Difference {
    /// The file.
    pub path: RelPath,
    /// What it is compared with, in words.
    pub with: String,
    /// How it differs.
    pub how: How,
}

/// How a file differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum How {
    /// It does not.
    Same,
    /// It is there only now, or only comes.
    Added,
    /// It is there no more, or goes.
    Removed,
    /// Texts, as a unified diff.
    Lines(String),
    /// Archives, by their entries.
    Entries {
        /// Entries that only the later one has.
        added: Vec<String>,
        /// Entries that only the earlier one has.
        removed: Vec<String>,
        /// Entries that differ.
        changed: Vec<String>,
    },
    /// Only that it is another content; and why no more can be said.
    Other(String),
}

/// The files that were edited by hand, or those below some paths, against what was shipped.
///
/// # Errors
/// When the ledger or a file cannot be read.
pub fn edited(
    server: &Server,
    ledger: &Ledger,
    found: &Survey,
    paths: &[RelPath],
) -> Result<Vec<Difference>> {
    let asked = |path: &RelPath| paths.is_empty() || paths.iter().any(|of| path.is_within(of));
    let mut differences = Vec::new();
    for component in &found.inventory.components {
        let FileState::Edited { files, .. } = &component.state else {
            continue;
        };
        for path in files.iter().filter(|path| asked(path)) {
            let known = found.remembered.get(path);
            let shipped = known.map(|known| ledger.text(&known.hash)).transpose()?;
            let how = match shipped.flatten() {
                Some(shipped) => contents(
                    &server.family.manner(path),
                    &shipped,
                    &server.folder.read(path)?,
                ),
                None => {
                    How::Other("what was shipped was not kept: it is no text, or too long".into())
                }
            };
            differences.push(Difference {
                path: path.clone(),
                with: format!("as {} shipped it", component.facts.id),
                how,
            });
        }
    }
    Ok(differences)
}

/// How much of a text was changed by hand: so many values, or places in it; none where it is no text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Extent {
    /// So many values.
    Values(usize),
    /// So many places.
    Places(usize),
}

/// How much of a file is other than it was put there.
///
/// # Errors
/// When the file cannot be read.
pub fn extent(server: &Server, path: &RelPath, shipped: &Text) -> Result<Option<Extent>> {
    let mine = server.folder.read_text(path)?;
    if !mine.is_plain() || !shipped.is_plain() {
        return Ok(None);
    }
    let manner = server.family.manner(path);
    let notation = manner.notation.as_ref();
    let notation = notation.filter(|notation| **notation != Notation::Assignments);
    let values = notation.and_then(|notation| {
        let (mine, shipped) = (mine.as_str(), shipped.as_str());
        settings::compare(&manner, notation, mine, None, shipped).ok()
    });
    let changed = values.map(|values| {
        let differs = values.iter().filter(|it| it.standing != Standing::Same);
        differs.count()
    });
    let places = || changes(shipped.as_str(), mine.as_str()).len();
    Ok(Some(match changed {
        // Only remarks, or how it is written.
        Some(0) | None => Extent::Places(places()),
        Some(values) => Extent::Values(values),
    }))
}

/// What an operation set aside at these paths, against what is there now.
///
/// # Errors
/// When nothing of it is set aside there, or a file cannot be read.
pub fn aside(
    server: &Server,
    ledger: &Ledger,
    number: i64,
    paths: &[RelPath],
) -> Result<Vec<Difference>> {
    let past = set_aside(server, ledger, number)?;
    let folder = &server.folder;
    let mut differences = Vec::new();
    for path in paths {
        for (path, file) in files_aside(folder, &past, path)? {
            let there = folder.look(&path)?.is_some_and(|meta| meta.is_file());
            let how = match there {
                false => How::Removed,
                true => files(
                    &server.family.manner(&path),
                    &folder.shown(&file),
                    &folder.shown(&path),
                )?,
            };
            differences.push(Difference {
                path,
                with: format!("as number {number} set it aside"),
                how,
            });
        }
    }
    Ok(differences)
}

/// What operations did together: the state before one of them against the one after another, or against what is there
/// now; at some paths, or anywhere.
///
/// # Errors
/// When there is no such operation, what one set aside was thinned out, or a file cannot be read.
pub fn between(
    server: &Server,
    ledger: &Ledger,
    (since, until): (i64, Option<i64>),
    paths: &[RelPath],
) -> Result<Vec<Difference>> {
    let earlier = history::before(ledger, since)?;
    let next = until.map(|until| until + 1);
    // After the last one, all is as it is now.
    let next = next.filter(|next| ledger.next_number().is_ok_and(|free| *next < free));
    let later = next.map(|next| history::before(ledger, next));
    let later = later.transpose()?.unwrap_or_default();
    let mut differences = Vec::new();
    let touched: BTreeSet<&RelPath> = earlier.keys().chain(later.keys()).collect();
    for path in touched {
        let at = |state: &BTreeMap<RelPath, Option<RelPath>>| match state.get(path) {
            Some(place) => place.clone(),
            None => Some(path.clone()),
        };
        let before = leaves(&server.folder, path, at(&earlier))?;
        let after = leaves(&server.folder, path, at(&later))?;
        let both: BTreeSet<&RelPath> = before.keys().chain(after.keys()).collect();
        for path in both {
            if !paths.is_empty() && !paths.iter().any(|of| path.is_within(of)) {
                continue;
            }
            let how = match (before.get(path), after.get(path)) {
                (None, _) => How::Added,
                (_, None) => How::Removed,
                (Some(a), Some(b)) => {
                    let (a, b) = (server.folder.shown(a), server.folder.shown(b));
                    files(&server.family.manner(path), &a, &b)?
                }
            };
            differences.push(Difference {
                path: path.clone(),
                with: format!("as before number {since}"),
                how,
            });
        }
    }
    differences.retain(|difference| difference.how != How::Same);
    Ok(differences)
}

/// The files of what lies somewhere, by the path that they had.
fn leaves(
    folder: &Folder,
    path: &RelPath,
    at: Option<RelPath>,
) -> Result<BTreeMap<RelPath, RelPath>> {
    let Some(at) = at else {
        return Ok(BTreeMap::new());
    };
    match folder.look(&at)? {
        None => Ok(BTreeMap::new()),
        Some(meta) if meta.is_folder() => {
            let mut leaves = BTreeMap::new();
            for (file, _) in folder.files_below(&at)? {
                if let Some(below) = file.below(at.as_str()) {
                    leaves.insert(path.join(below)?, file);
                }
            }
            Ok(leaves)
        }
        Some(_) => Ok(BTreeMap::from([(path.clone(), at)])),
    }
}

/// What a plan changes, file by file, at some paths or anywhere; what stays is left out.
///
/// # Errors
/// When an archive cannot be read.
pub fn planned(
    server: &Server,
    plan: &Plan,
    paths: &[RelPath],
    downloads: &Downloads<'_>,
) -> Result<Vec<Difference>> {
    let asked = |path: &RelPath| paths.is_empty() || paths.iter().any(|of| path.is_within(of));
    let actions = plan.actions.iter();
    let actions = actions.filter(|it| it.what != ActionKind::Keep && asked(&it.path));
    let mut differences = Vec::new();
    for action in actions {
        let how = match action.what {
            ActionKind::Place => How::Added,
            ActionKind::SetAside => moved(action, plan, server, downloads)?.unwrap_or(How::Removed),
            ActionKind::Edit => edits(action, plan, server)?,
            ActionKind::Replace | ActionKind::Keep => replaced(action, plan, server, downloads)?,
        };
        differences.push(Difference {
            path: action.path.clone(),
            with: "as it is now".into(),
            how,
        });
    }
    Ok(differences)
}

/// A text of which only lines change.
fn edits(action: &Action, plan: &Plan, server: &Server) -> Result<How> {
    let now = server.folder.read_text(&action.path)?;
    let edit = plan.edits.iter().find(|edit| edit.path == action.path);
    let becomes = edit.and_then(|edit| now.changed(&edit.lines).ok());
    Ok(match becomes {
        Some(becomes) => lines(&server.family.manner(&action.path), &now, &becomes),
        None => How::Other("the plan's lines do not fit it any more".into()),
    })
}

/// An archive that goes while another release of its component comes: they are compared.
fn moved(
    action: &Action,
    plan: &Plan,
    server: &Server,
    downloads: &Downloads<'_>,
) -> Result<Option<How>> {
    let comes = plan.actions.iter().find(|other| {
        let whole = other
            .source
            .as_ref()
            .is_some_and(|source| source.entry.is_none());
        other.what == ActionKind::Place && whole && other.component == action.component
    });
    let source = comes.and_then(|comes| comes.source.as_ref());
    let Some(source) = source.filter(|_| action.component.is_some()) else {
        return Ok(None);
    };
    let now = server.folder.shown(&action.path);
    let later = Path::new(&plan.archives[source.archive].file);
    Ok(entries(
        &listed(&now, downloads)?,
        &listed(later, downloads)?,
    ))
}

fn replaced(
    action: &Action,
    plan: &Plan,
    server: &Server,
    downloads: &Downloads<'_>,
) -> Result<How> {
    let Some(source) = &action.source else {
        return Ok(How::Other("it becomes a link, or was one".into()));
    };
    let manner = &server.family.manner(&action.path);
    let later = Path::new(&plan.archives[source.archive].file);
    let now = server.folder.shown(&action.path);
    let Some(entry) = &source.entry else {
        return files(manner, &now, later);
    };
    if action.bytes > LONGEST_BYTES {
        return Ok(How::Other(
            "it is too long to be compared line by line".into(),
        ));
    }
    let artifact = downloads.artifact(later)?;
    let text = downloads.archive(&artifact)?.text_at(entry);
    let before = server.folder.read(&action.path)?;
    Ok(match text {
        Ok(Some(after)) => contents(manner, &before, after.as_bytes()),
        _ => How::Other("it could not be read in its archive".into()),
    })
}

/// Two files, by their entries where both are archives.
fn files(manner: &Manner, before: &Path, after: &Path) -> Result<How> {
    let open = |path: &Path| Archive::open(path).ok()?.contents().ok();
    if let Some((a, b)) = open(before).zip(open(after)) {
        return Ok(entries(&hashes(&a), &hashes(&b)).unwrap_or(How::Same));
    }
    let is_long =
        |path: &Path| here::look(path).is_some_and(|meta| meta.stamp.bytes > LONGEST_BYTES);
    if is_long(before) || is_long(after) {
        return Ok(match hash_file(before)? == hash_file(after)? {
            true => How::Same,
            false => How::Other("it is no text, or too long".into()),
        });
    }
    Ok(contents(manner, &here::read(before)?, &here::read(after)?))
}

/// The entries of an archive with their hashes; none where it is none.
fn listed(path: &Path, downloads: &Downloads<'_>) -> Result<BTreeMap<String, String>> {
    let artifact = downloads.artifact(path)?;
    let entries = downloads.contents(&artifact).unwrap_or_default();
    Ok(hashes(&entries))
}

fn hashes(entries: &[ArchivedFile]) -> BTreeMap<String, String> {
    let both = entries.iter();
    both.map(|it| (it.name.clone(), it.blake3.clone()))
        .collect()
}

/// How the entries of two archives differ; none where they do not, or neither has any.
fn entries(before: &BTreeMap<String, String>, after: &BTreeMap<String, String>) -> Option<How> {
    let names = |of: &BTreeMap<String, String>, and: &BTreeMap<String, String>| {
        let only = of.keys().filter(|name| !and.contains_key(*name));
        only.cloned().collect::<Vec<String>>()
    };
    let both: BTreeSet<&String> = before
        .keys()
        .filter(|name| after.contains_key(*name))
        .collect();
    let changed = both
        .into_iter()
        .filter(|name| before[*name] != after[*name]);
    let (added, removed) = (names(after, before), names(before, after));
    let changed: Vec<String> = changed.cloned().collect();
    let is_same = added.is_empty() && removed.is_empty() && changed.is_empty();
    (!is_same).then_some(How::Entries {
        added,
        removed,
        changed,
    })
}

fn contents(manner: &Manner, before: &[u8], after: &[u8]) -> How {
    if before == after {
        return How::Same;
    }
    let longest = before.len().max(after.len()) as u64;
    let (a, b) = (Text::read(before), Text::read(after));
    match longest <= LONGEST_BYTES && a.is_plain() && b.is_plain() {
        true => lines(manner, &a, &b),
        false => How::Other("it is no text, or too long".into()),
    }
}

/// How two texts differ line by line; of secrets it is only said that they do.
fn lines(manner: &Manner, before: &Text, after: &Text) -> How {
    let (before, after) = manner.veiled(before.as_str(), after.as_str());
    How::Lines(unified(&before, &after))
}
