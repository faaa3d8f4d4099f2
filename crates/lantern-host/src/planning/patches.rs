//! `.lantern/patches/NAME.patch`: hand edits with a name, laid again over each new release.

use super::fault::PlanningFault;
use super::one_text::changing;
use crate::config::Server;
use crate::error::{Error, Result};
use crate::folder::own;
use crate::ledger::Ledger;
use crate::shipped;
use crate::survey::{Depth, Survey, survey};
use lantern_core::patch::{Laid, Patch};
use lantern_core::path::RelPath;
use lantern_core::plan::Plan;
use std::collections::BTreeMap;

/// A patch that is kept.
#[derive(Debug, Clone)]
pub struct Kept {
    /// Its name.
    pub name: String,
    /// It.
    pub patch: Patch,
}

/// How a patch stands to its file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stands {
    /// The file has all of it.
    In,
    /// It fits, and the file has not got it.
    Out,
    /// It does not fit the file: where its first change that does not would stand, from 1.
    Misfit {
        /// The line.
        line: usize,
    },
    /// There is no such file.
    NoFile,
}

fn file_of(name: &str) -> Result<RelPath> {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
    let is_name =
        (1..=60).contains(&name.len()) && name.chars().all(plain) && !name.starts_with('.');
    match is_name {
        true => Ok(own("patches").join(&format!("{name}.patch"))?),
        false => Err(Error::Planning(PlanningFault::PatchName(name.to_owned()))),
    }
}

/// All patches that are kept, by name.
///
/// # Errors
/// When one cannot be read.
pub fn kept(server: &Server) -> Result<Vec<Kept>> {
    let mut all = Vec::new();
    for (path, meta) in server.folder.entries(&own("patches"))? {
        let name = path.name().strip_suffix(".patch");
        let Some(name) = name.filter(|_| meta.is_file()) else {
            continue;
        };
        let text = server.folder.read_text(&path)?;
        let patch = Patch::parse(text.as_str()).map_err(|fault| PlanningFault::Patch {
            path: server.folder.shown(&path),
            why: fault.to_string(),
        })?;
        all.push(Kept {
            name: name.to_owned(),
            patch,
        });
    }
    all.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(all)
}

/// One of them.
///
/// # Errors
/// [`PlanningFault::NoPatch`].
pub fn kept_as(server: &Server, name: &str) -> Result<Kept> {
    let all = kept(server)?;
    let names = all.iter().map(|kept| kept.name.clone()).collect();
    let found = all.into_iter().find(|kept| kept.name == name);
    found.ok_or_else(|| {
        Error::Planning(PlanningFault::NoPatch {
            named: name.to_owned(),
            known: names,
        })
    })
}

/// How a patch stands to its file.
///
/// # Errors
/// When the file cannot be read.
pub fn stands(server: &Server, patch: &Patch) -> Result<Stands> {
    if !server.folder.has(&patch.path)? {
        return Ok(Stands::NoFile);
    }
    let text = server.folder.read_text(&patch.path)?;
    Ok(match patch.lay(text.as_str()) {
        Laid::Already => Stands::In,
        Laid::With(_) => Stands::Out,
        Laid::Misfit { line } => Stands::Misfit { line },
    })
}

/// Makes a patch with a name of what was changed by hand in a file.
///
/// # Errors
/// When the name is taken or none, nothing was changed, what was shipped is not known, or a secret is part of it.
pub fn keep(server: &Server, ledger: &mut Ledger, path: &RelPath, name: &str) -> Result<Kept> {
    let file = file_of(name)?;
    if server.folder.has(&file)? {
        return Err(Error::Planning(PlanningFault::PatchTaken(name.to_owned())));
    }
    let survey = survey(server, ledger, Depth::Usual)?;
    let nothing = |why: &'static str| {
        Error::Planning(PlanningFault::NothingToKeep {
            path: path.clone(),
            why,
        })
    };
    let before = shipped::text_at(ledger, &survey.remembered, path)?;
    let before = before.ok_or_else(|| nothing("what was shipped there is not known"))?;
    let mine = server.folder.read_text(path)?;
    if !before.is_plain() || !mine.is_plain() {
        return Err(nothing("it is no text"));
    }
    let known = survey.remembered.get(path);
    let owner = known.and_then(|known| known.owner.as_ref());
    let patch = Patch::between(path, owner, before.as_str(), mine.as_str());
    let patch = patch.ok_or_else(|| nothing("it is as it was put there"))?;
    store(server, name, &patch)?;
    Ok(Kept {
        name: name.to_owned(),
        patch,
    })
}

/// The key of a secret that a patch would hold.
fn secret_in(server: &Server, patch: &Patch) -> Option<String> {
    let manner = server.family.manner(&patch.path);
    let hunks = patch.hunks.iter();
    let mut lines = hunks.flat_map(|hunk| hunk.was.iter().chain(&hunk.becomes));
    let line = lines.find(|line| manner.hides(line))?;
    let key = line.split(['=', ':']).next().unwrap_or_default();
    Some(key.trim().to_owned())
}

fn store(server: &Server, name: &str, patch: &Patch) -> Result<()> {
    if let Some(key) = secret_in(server, patch) {
        return Err(Error::Planning(PlanningFault::SecretInPatch(key)));
    }
    server.folder.make_own("patches")?;
    server
        .folder
        .write_whole(&file_of(name)?, patch.to_text().as_bytes())
}

/// Takes a patch that somebody else has made.
///
/// # Errors
/// When it is none, or the name is taken.
pub fn import(server: &Server, text: &str, name: &str) -> Result<Kept> {
    if server.folder.has(&file_of(name)?)? {
        return Err(Error::Planning(PlanningFault::PatchTaken(name.to_owned())));
    }
    let patch = Patch::parse(text).map_err(|fault| PlanningFault::Patch {
        path: name.into(),
        why: fault.to_string(),
    })?;
    if lantern_core::plan::is_lanterns(&patch.path, &server.own_files()) {
        return Err(Error::Planning(PlanningFault::PatchOfOwn(patch.path)));
    }
    store(server, name, &patch)?;
    Ok(Kept {
        name: name.to_owned(),
        patch,
    })
}

/// Keeps a patch no more; the file stays as it is.
///
/// # Errors
/// [`PlanningFault::NoPatch`].
pub fn drop_patch(server: &Server, name: &str) -> Result<Kept> {
    let kept = kept_as(server, name)?;
    server.folder.remove_file(&file_of(name)?)?;
    Ok(kept)
}

/// Draws a plan that lays a patch over its file as it is, and does nothing else.
///
/// # Errors
/// When it does not fit, or no plan writes the file.
pub fn lay(server: &Server, ledger: &mut Ledger, kept: &Kept) -> Result<Plan> {
    let path = &kept.patch.path;
    let now = server.folder.read_text(path)?;
    let new = match kept.patch.lay(now.as_str()) {
        Laid::Already => now.as_str().to_owned(),
        Laid::With(new) => new,
        Laid::Misfit { line } => {
            return Err(Error::Planning(PlanningFault::PatchMisfit {
                name: kept.name.clone(),
                path: path.clone(),
                line,
            }));
        }
    };
    let manner = server.family.manner(path);
    changing(server, ledger, path, &now, &manner, new)
}

/// The patches as the files have them by now: what was changed in the place of one since belongs to it.
pub(super) fn by_now(
    server: &Server,
    ledger: &Ledger,
    survey: &Survey,
) -> Result<BTreeMap<String, Patch>> {
    let mut all = BTreeMap::new();
    for Kept { name, patch } in kept(server)? {
        let before = shipped::text_at(ledger, &survey.remembered, &patch.path)?;
        let there = server.folder.has(&patch.path)?;
        let newer = match before.filter(|_| there) {
            Some(before) => {
                let mine = server.folder.read_text(&patch.path)?;
                patch.by_now(before.as_str(), mine.as_str())
            }
            None => None,
        };
        let is_newer = |newer: &Patch| *newer != patch && secret_in(server, newer).is_none();
        let newer = newer.filter(is_newer);
        if let Some(newer) = &newer {
            store(server, &name, newer)?;
        }
        all.insert(name, newer.unwrap_or(patch));
    }
    Ok(all)
}
