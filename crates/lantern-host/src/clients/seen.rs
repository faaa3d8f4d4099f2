//! What a player's folder has, as far as a list and a family's readers tell what matters.

use super::fault::ClientFault;
use crate::archive::Archive;
use crate::descriptors::descriptors_of;
use crate::error::{At, Error, Result};
use crate::folder::Folder;
use crate::place::here;
use lantern_core::clients::{ClientFile, ClientList, ComponentSeen, FORMAT, FolderSeen, From};
use lantern_core::descriptor::{self, Subject};
use lantern_core::facts::Reading;
use lantern_core::family::Family;
use lantern_core::path::RelPath;
use lantern_core::tree::{FileSeen, claim};
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

/// What is given to be checked.
#[derive(Debug)]
pub enum Given {
    /// A folder, or what was noted of one.
    Folder(FolderSeen),
    /// A text that a client or the server printed.
    Text(String),
}

/// Reads what is given to be checked: a folder, an archive of one, what was noted of one, or a text.
///
/// `family` knows the components of such a folder; without it only the paths of the list are looked at.
///
/// # Errors
/// When it cannot be read, or is an archive that cannot be unpacked.
pub fn read(path: &Path, list: Option<&ClientList>, family: Option<&Family>) -> Result<Given> {
    let meta = here::look(path).ok_or_else(|| Error::Io {
        doing: "reading",
        path: path.to_owned(),
        source: std::io::ErrorKind::NotFound.into(),
    })?;
    if meta.is_folder() {
        let folder = Folder::open(path)?;
        return Ok(Given::Folder(look(&folder, list, family)?));
    }
    if let Ok(archive) = Archive::open(path) {
        return Ok(Given::Folder(in_archive(path, archive, list, family)?));
    }
    let text = here::read_text(path)?;
    if !text.trim_start().starts_with('{') {
        return Ok(Given::Text(text));
    }
    let no_list = |why: String| {
        Error::Client(ClientFault::NoList {
            path: path.to_owned(),
            why,
        })
    };
    let seen: FolderSeen = serde_json::from_str(&text)
        .map_err(|error| no_list(format!("it is not what --make-list writes: {error}")))?;
    match seen.format {
        FORMAT => Ok(Given::Folder(seen)),
        other => Err(no_list(format!(
            "it is of format {other}; this lantern reads format {FORMAT}"
        ))),
    }
}

/// What matters of a folder: the files that the list names, and those of components.
fn matters(
    files: &[FileSeen],
    list: Option<&ClientList>,
    family: Option<&Family>,
) -> BTreeSet<RelPath> {
    let listed: BTreeSet<&RelPath> = list
        .into_iter()
        .flat_map(ClientList::files)
        .map(|file| &file.path)
        .collect();
    let owned = family.map(|family| claim(family, files));
    let is_owned = |at: usize| {
        owned
            .as_ref()
            .is_some_and(|claims| claims.owner[at].is_some())
    };
    let those = files
        .iter()
        .enumerate()
        .filter(|(at, file)| listed.contains(&file.path) || is_owned(*at));
    those.map(|(_, file)| file.path.clone()).collect()
}

fn look(folder: &Folder, list: Option<&ClientList>, family: Option<&Family>) -> Result<FolderSeen> {
    let listed = folder.list()?.files;
    let files: Vec<FileSeen> = listed
        .into_iter()
        .map(|(path, stamp)| FileSeen {
            path,
            bytes: stamp.bytes,
            hash: None,
        })
        .collect();
    let matters = matters(&files, list, family);
    let meant: Vec<&FileSeen> = files
        .iter()
        .filter(|file| matters.contains(&file.path))
        .collect();
    let hashed: Result<Vec<ClientFile>> = meant
        .par_iter()
        .map(|file| {
            Ok(ClientFile {
                path: file.path.clone(),
                blake3: folder.hash(&file.path)?,
                bytes: file.bytes,
                from: From::Nowhere,
            })
        })
        .collect();
    Ok(FolderSeen {
        format: FORMAT,
        files: hashed?,
        components: family.map_or_else(Vec::new, |family| components(folder, &files, family)),
    })
}

/// The components that can be read; what cannot is known by its path and content alone.
fn components(folder: &Folder, files: &[FileSeen], family: &Family) -> Vec<ComponentSeen> {
    let claims = claim(family, files);
    // What is parked there is not in use.
    let used = claims.claims.par_iter();
    let used = used.filter(|claim| claim.home == claim.place);
    let read = used.map_init(
        || Reading::new(&family.versions),
        |reading, claim| {
            let found = descriptors_of(folder, claim, files).ok()?;
            let subject = Subject {
                reader: claim.reader,
                family,
                place: claim.place.as_str(),
                content: "",
                archive: None,
            };
            let facts = descriptor::read_installed(&subject, &found, reading)
                .ok()?
                .facts;
            Some(ComponentSeen {
                version: (!facts.version.is_content()).then(|| facts.version.to_string()),
                id: facts.id,
                place: claim.place.clone(),
                side: facts.side,
            })
        },
    );
    read.flatten_iter().collect()
}

/// As [`look`], for an archive of the folder: what matters of it is unpacked beside nothing, and goes again.
fn in_archive(
    path: &Path,
    mut archive: Archive,
    list: Option<&ClientList>,
    family: Option<&Family>,
) -> Result<FolderSeen> {
    let names: Vec<RelPath> = archive
        .names()
        .into_iter()
        .filter_map(|name| RelPath::parse(name).ok())
        .collect();
    let bare = |around: &str| -> Vec<(FileSeen, RelPath)> {
        let inside = names.iter().filter_map(|name| {
            let below = match around {
                "" => name.clone(),
                around => RelPath::parse(name.below(around)?).ok()?,
            };
            Some((
                FileSeen {
                    path: below,
                    bytes: 0,
                    hash: None,
                },
                name.clone(),
            ))
        });
        inside.collect()
    };
    let wanted = |around: &str| -> BTreeMap<RelPath, RelPath> {
        let (files, names): (Vec<FileSeen>, Vec<RelPath>) = bare(around).into_iter().unzip();
        let matters = matters(&files, list, family);
        let both = files
            .into_iter()
            .zip(names)
            .filter(|(file, _)| matters.contains(&file.path));
        both.map(|(file, name)| (name, file.path)).collect()
    };
    let mut meant = wanted("");
    // Some pack the folder, others what is in it.
    let first = names
        .first()
        .and_then(|name| name.as_str().split('/').next())
        .unwrap_or_default();
    let is_around = names.iter().all(|name| name.below(first).is_some());
    if meant.is_empty() && is_around {
        meant = wanted(first);
    }
    let scratch = tempfile::tempdir().at("unpacking into", &std::env::temp_dir())?;
    let folder = Folder::open(scratch.path())?;
    for to in meant.values() {
        if let Some(above) = to.folder() {
            folder.make_folders(&above)?;
        }
    }
    archive.unpack(&meant, &folder, path, &mut |_, _| {})?;
    look(&folder, list, family)
}
