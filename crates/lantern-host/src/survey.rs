//! The whole folder, read into an inventory.

use crate::archive::Archive;
use crate::config::{FILE, Server};
use crate::error::{Error, Result};
use crate::folder::{Folder, Stamp, hash_file};
use crate::ledger::Ledger;
use lantern_core::descriptor;
use lantern_core::family::{Family, Shape};
use lantern_core::inventory::{Evidence, Inventory, take};
use lantern_core::path::RelPath;
use lantern_core::tree::{Claim, FileSeen, claim};
use lantern_core::version::Version;
use rayon::prelude::*;
use std::collections::HashMap;
use std::fs;
use std::io::Read;

/// What a survey found.
#[derive(Debug)]
pub struct Survey {
    /// What is installed, and what is to be held against it.
    pub inventory: Inventory,
    /// Every file but lantern's own; kept and passing ones without hash unless asked for.
    pub files: Vec<FileSeen>,
    /// The load-order file and its text.
    pub order: Option<(RelPath, String)>,
    /// Links, devices and odd names: shown, never touched.
    pub left_alone: Vec<String>,
}

impl Survey {
    /// The files that a plan speaks of: neither kept nor passing.
    pub fn planned_files<'a>(&'a self, server: &'a Server) -> impl Iterator<Item = &'a FileSeen> {
        self.files.iter().filter(|file| {
            let path = file.path.as_str();
            !server.keeps(path) && !server.family.passes(path) && path != FILE
        })
    }
}

/// How much a survey reads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// What is neither kept nor passing; unchanged files as the ledger remembers them.
    Usual,
    /// Every file, whatever the ledger remembers.
    Everything,
}

/// Surveys a server.
///
/// # Errors
/// When the folder or ledger cannot be read. A single bad file only becomes a finding.
pub fn survey(server: &Server, ledger: &mut Ledger, depth: Depth) -> Result<Survey> {
    let listing = server.folder.list()?;
    let is_read = |path: &str| {
        depth == Depth::Everything || !server.keeps(path) && !server.family.passes(path)
    };
    let files = hashed(&server.folder, ledger, &listing.files, depth, is_read)?;
    let order = order_file(&server.folder, &server.family, &files)?;
    let claims = claim(&server.family, &files);
    let descriptors: Vec<Result<Vec<(String, String)>, String>> = claims
        .claims
        .par_iter()
        .map(|claim| descriptors(&server.folder, claim))
        .collect();
    let stated = server.config.server_version.as_deref();
    let stated = match stated {
        Some(text) => Some(
            Version::parse(text, server.family.versions.server)
                .map_err(|fault| Error::Version(fault.to_string()))?,
        ),
        None => None,
    };
    let evidence = Evidence {
        files: &files,
        descriptors: &descriptors,
        order: order.as_ref().map(|(path, text)| (path, text.as_str())),
        remembered: &ledger.remembered()?,
        stated: stated.as_ref(),
    };
    let mut inventory = take(&server.family, &claims, &evidence);
    inventory
        .nobodys
        .retain(|file| file.path.as_str() != FILE && !server.keeps(file.path.as_str()));
    Ok(Survey {
        inventory,
        files,
        order,
        left_alone: listing.left_alone,
    })
}

/// Hashes files; those that look as the ledger remembers them are not read again.
fn hashed(
    folder: &Folder,
    ledger: &mut Ledger,
    files: &[(RelPath, Stamp)],
    depth: Depth,
    is_read: impl Fn(&str) -> bool + Sync,
) -> Result<Vec<FileSeen>> {
    let seen = match depth {
        Depth::Usual => ledger.seen()?,
        Depth::Everything => HashMap::new(),
    };
    let results: Vec<(Option<String>, bool)> = files
        .par_iter()
        .map(|(path, stamp)| {
            if !is_read(path.as_str()) {
                return (None, false);
            }
            if let Some((known, hash)) = seen.get(path.as_str())
                && known == stamp
            {
                return (Some(hash.clone()), false);
            }
            let real = folder.path(path);
            let hash = real.and_then(|real| hash_file(&real));
            (hash.ok(), true)
        })
        .collect();
    let fresh: Vec<(&RelPath, Stamp, &str)> = files
        .iter()
        .zip(&results)
        .filter(|(_, (_, fresh))| *fresh)
        .filter_map(|((path, stamp), (hash, _))| Some((path, *stamp, hash.as_deref()?)))
        .collect();
    if !fresh.is_empty() {
        ledger.see(&fresh)?;
    }
    let files = files
        .iter()
        .zip(results)
        .map(|((path, stamp), (hash, _))| FileSeen {
            path: path.clone(),
            bytes: stamp.bytes,
            hash,
        });
    Ok(files.collect())
}

/// Finds the file that holds the load order, and reads it.
///
/// # Errors
/// When several match, or it cannot be read.
pub fn order_file(
    folder: &Folder,
    family: &Family,
    files: &[FileSeen],
) -> Result<Option<(RelPath, String)>> {
    let Some(rule) = &family.order else {
        return Ok(None);
    };
    let matching: Vec<&RelPath> = files
        .iter()
        .map(|file| &file.path)
        .filter(|path| rule.file.matches(path.as_str()))
        .collect();
    match matching[..] {
        [] => Ok(None),
        [path] => Ok(Some((path.clone(), folder.read_text(path)?))),
        _ => Err(Error::SeveralOrderFiles {
            files: matching.iter().map(ToString::to_string).collect(),
        }),
    }
}

fn descriptors(folder: &Folder, claim: &Claim<'_>) -> Result<Vec<(String, String)>, String> {
    let place = folder
        .path(&claim.place)
        .map_err(|error| error.to_string())?;
    let mut texts = Vec::new();
    if claim.reader.shape == Shape::Archive {
        let mut archive = Archive::open(&place).map_err(|error| match error {
            Error::Archive { fault, .. } => fault.to_string(),
            other => other.to_string(),
        })?;
        for file in &claim.reader.files {
            let text = archive
                .text(&file.name)
                .map_err(|fault| fault.to_string())?;
            texts.extend(text.map(|text| (file.name.clone(), text)));
        }
        if texts.is_empty() {
            let wanted: Vec<&str> = claim.reader.files.iter().map(|f| f.name.as_str()).collect();
            return Err(format!("there is no {} in it", wanted.join(" or ")));
        }
        return Ok(texts);
    }
    for file in &claim.reader.files {
        let path = place.join(&file.name);
        let Ok(opened) = fs::File::open(&path) else {
            continue;
        };
        let mut bytes = Vec::new();
        let read = opened
            .take(descriptor::LONGEST_BYTES + 1)
            .read_to_end(&mut bytes);
        read.map_err(|error| format!("{}: {error}", file.name))?;
        if bytes.len() as u64 > descriptor::LONGEST_BYTES {
            return Err(format!("{} is over a mebibyte", file.name));
        }
        texts.push((
            file.name.clone(),
            String::from_utf8_lossy(&bytes).into_owned(),
        ));
    }
    Ok(texts)
}
