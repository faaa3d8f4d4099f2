//! Catalogues and drop folders: where releases come from.

use crate::archive::{Archive, ArchiveFault};
use crate::error::{At, Error, Result};
use crate::folder::hash_file;
use crate::survey::single_file;
use lantern_core::catalogue::{self, ArchiveRef, Offer, Origin};
use lantern_core::component::Facts;
use lantern_core::descriptor::{self, Found, Subject};
use lantern_core::family::{Family, Reader, Shape};
use lantern_core::inventory::as_group;
use lantern_core::plan::{Member, Payload, lay_out};
use lantern_core::tree::{marked, root_in_archive};
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

/// What is on offer, where its archives are, and what had to be left out.
#[derive(Debug, Default)]
pub struct Depot {
    /// All offers.
    pub offers: Vec<Offer>,
    /// For each offer, its archive on this machine.
    pub archives: Vec<PathBuf>,
    /// What could not be used: where, and why.
    pub left_out: Vec<(String, String)>,
}

impl Depot {
    /// Adds a catalogue; its archives lie relative to it.
    ///
    /// # Errors
    /// When the catalogue as a whole cannot be read.
    pub fn add_catalogue(&mut self, path: &Path, family: &Family) -> Result<()> {
        let text = fs::read_to_string(path).at("reading", path)?;
        let read = catalogue::read(&text, &family.versions).map_err(|fault| Error::Catalogue {
            path: path.into(),
            why: fault.to_string(),
        })?;
        for (line, why) in read.left_out {
            self.left_out
                .push((format!("{}:{line}", path.display()), why));
        }
        let base = path.parent().unwrap_or(Path::new(""));
        for mut offer in read.offers {
            // The catalogue comes from outside: it may name only what lies beside it.
            let file = match lantern_core::path::RelPath::parse(&offer.archive.file) {
                Ok(file) => file,
                Err(fault) => {
                    let facts = &offer.facts;
                    let why = format!("{} {}: archive.file: {fault}", facts.id, facts.version);
                    self.left_out.push((path.display().to_string(), why));
                    continue;
                }
            };
            let archive = base.join(file.as_str());
            offer.archive.file = shown(&archive);
            self.archives.push(archive);
            self.offers.push(offer);
        }
        Ok(())
    }

    /// Adds every archive of a drop folder that a reader of the family knows.
    ///
    /// # Errors
    /// When the folder cannot be listed. A bad archive only lands in `left_out`.
    pub fn add_drop_folder(&mut self, folder: &Path, family: &Family) -> Result<()> {
        let mut paths = Vec::new();
        for entry in fs::read_dir(folder).at("listing", folder)? {
            paths.push(entry.at("listing", folder)?.path());
        }
        paths.sort();
        let mut first: BTreeMap<_, PathBuf> = BTreeMap::new();
        for path in paths.into_iter().filter(|path| path.is_file()) {
            let name = path.file_name().map(|n| n.to_string_lossy().into_owned());
            let name = name.unwrap_or_default();
            let readers = family.readers.iter();
            let readers: Vec<&Reader> = readers
                .filter(|r| r.drop.as_ref().is_some_and(|d| d.matches(&name)))
                .collect();
            if readers.is_empty() {
                continue;
            }
            let facts = match read_download(&path, &readers, family) {
                Ok((facts, _)) => facts,
                Err(why) => {
                    self.left_out.push((shown(&path), why));
                    continue;
                }
            };
            let key = (facts.id.clone(), facts.version.to_string());
            if let Some(other) = first.get(&key) {
                let why = format!(
                    "it is {} {} like {}; only that one is used",
                    key.0,
                    key.1,
                    shown(other)
                );
                self.left_out.push((shown(&path), why));
                continue;
            }
            let bytes = fs::metadata(&path).at("reading", &path)?.len();
            first.insert(key, path.clone());
            self.offers.push(Offer {
                facts,
                archive: ArchiveRef {
                    file: shown(&path),
                    blake3: hash_file(&path)?,
                    bytes,
                },
                origin: Origin::DropFolder,
            });
            self.archives.push(path);
        }
        Ok(())
    }
}

fn shown(path: &Path) -> String {
    path.display().to_string()
}

/// Reads what a download is: by the first reader that knows it.
fn read_download<'f>(
    path: &Path,
    readers: &[&'f Reader],
    family: &'f Family,
) -> Result<(Facts, &'f Reader), String> {
    let said = |error: Error| match error {
        Error::Archive { fault, .. } => fault.to_string(),
        other => other.to_string(),
    };
    let name = path
        .file_name()
        .map(|name| name.to_string_lossy().into_owned())
        .unwrap_or_default();
    if let Some(reader) = readers.iter().find(|reader| reader.shape == Shape::File) {
        let found = single_file(reader, path)?;
        let content = hash_file(path).map_err(said)?;
        let facts = facts_of(reader, family, &name, &content, &found)?;
        return Ok((facts, reader));
    }
    let mut archive = Archive::open(path).map_err(said)?;
    for reader in readers {
        let Some(root) = root_of(reader, &archive.names()) else {
            continue;
        };
        let folder = root.trim_end_matches('/').rsplit('/').next().unwrap_or("");
        let stem = || {
            name.rsplit_once('.')
                .map_or(name.as_str(), |(stem, _)| stem)
        };
        let place = match reader.shape {
            Shape::Archive | Shape::File | Shape::Entry => name.as_str(),
            Shape::Folder | Shape::Group if folder.is_empty() => stem(),
            Shape::Folder | Shape::Group => folder,
        };
        // The content hash is that of the component's files, whatever they are packed in.
        let content = if reader.fields.version.0.is_empty() && !reader.shape.is_one_file() {
            let hashes = archive.hashes().map_err(|fault| fault.to_string())?;
            let inside = hashes
                .iter()
                .filter_map(|(n, _, hash)| Some((n.strip_prefix(&root)?, hash.as_str())));
            lantern_core::tree::content_hash(inside)
        } else {
            hash_file(path).map_err(said)?
        };
        let found = archive.texts(&reader.files, &root);
        let found = found.map_err(|fault| fault.to_string())?;
        let facts = facts_of(reader, family, place, &content, &found)?;
        if reader.shape != Shape::Group {
            return Ok((facts, reader));
        }
        let members = members(&mut archive, reader, family, &root)?;
        return Ok((
            as_group(&facts, members.iter().map(|(_, facts)| facts)),
            reader,
        ));
    }
    Err("no reader of this family knows what is in it".into())
}

/// Where in the archive the component begins; archives that stay packed begin at their top.
fn root_of(reader: &Reader, names: &[&str]) -> Option<String> {
    match reader.shape {
        Shape::Archive => marked(reader, names).then(String::new),
        Shape::Folder | Shape::Group => root_in_archive(reader, names),
        Shape::File | Shape::Entry => None,
    }
}

fn facts_of(
    reader: &Reader,
    family: &Family,
    place: &str,
    content: &str,
    found: &[Found],
) -> Result<Facts, String> {
    let subject = Subject {
        reader,
        family,
        place,
        content,
    };
    let described = descriptor::read(&subject, found);
    Ok(described.map_err(|fault| fault.to_string())?.facts)
}

fn members(
    archive: &mut Archive,
    reader: &Reader,
    family: &Family,
    root: &str,
) -> Result<Vec<(String, Facts)>, String> {
    let Some(inner) = reader
        .members
        .as_deref()
        .and_then(|name| family.reader(name))
    else {
        return Ok(Vec::new());
    };
    let mut folders: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for name in archive.names() {
        let below = name.strip_prefix(root);
        if let Some((folder, rest)) = below.and_then(|below| below.split_once('/')) {
            folders
                .entry(folder.to_owned())
                .or_default()
                .push(rest.to_owned());
        }
    }
    let mut members = Vec::new();
    let hashes = archive.hashes().map_err(|fault| fault.to_string())?;
    for (folder, names) in folders {
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        if !marked(inner, &names) {
            continue;
        }
        let inside = format!("{root}{folder}/");
        let content = hashes
            .iter()
            .filter_map(|(n, _, hash)| Some((n.strip_prefix(&inside)?, hash.as_str())));
        let content = lantern_core::tree::content_hash(content);
        let found = archive.texts(&inner.files, &inside);
        let found = found.map_err(|fault| fault.to_string())?;
        let facts = facts_of(inner, family, &folder, &content, &found)?;
        members.push((folder, facts));
    }
    Ok(members)
}

/// Reads through the archive of a chosen offer: which files it would put where.
///
/// # Errors
/// When the archive is gone, is another one, is damaged, or cannot be laid out.
pub fn payload(
    family: &Family,
    offer: &Offer,
    path: &Path,
    installed: Option<&lantern_core::inventory::Component>,
) -> Result<Payload> {
    let found = hash_file(path)?;
    if found != offer.archive.blake3 {
        return Err(Error::OtherArchive {
            path: path.into(),
            expected: offer.archive.blake3[..12].into(),
            found: found[..12].into(),
        });
    }
    let archive_fault = |fault| Error::Archive {
        path: path.into(),
        fault,
    };
    let name = path
        .file_name()
        .map(|n| n.to_string_lossy().into_owned())
        .unwrap_or_default();
    let of_kind = family.readers.iter().filter(|reader| {
        reader.kind == offer.facts.kind && reader.drop.as_ref().is_none_or(|d| d.matches(&name))
    });
    let of_kind: Vec<&Reader> = of_kind.collect();
    if let Some(reader) = of_kind.iter().find(|reader| reader.shape == Shape::File) {
        let archive = (offer.archive.bytes, offer.archive.blake3.as_str());
        let laid = lay_out(reader, &offer.facts, installed, &[], archive)?;
        return Ok(Payload {
            place: laid.place,
            shape: reader.shape,
            reader: reader.name.clone(),
            members: Vec::new(),
            files: laid.files,
        });
    }
    let mut archive = Archive::open(path)?;
    let names = archive.names();
    let mut known = of_kind
        .into_iter()
        .filter_map(|reader| Some((reader, root_of(reader, &names)?)));
    let (reader, root) = known.next().ok_or_else(|| {
        archive_fault(ArchiveFault::Broken(
            "no reader of this family knows what is in it".into(),
        ))
    })?;
    let entries = archive.hashes().map_err(archive_fault)?;
    let members = match reader.shape {
        Shape::Group => members(&mut archive, reader, family, &root)
            .map_err(|why| archive_fault(ArchiveFault::Broken(why)))?,
        Shape::Archive | Shape::File | Shape::Folder | Shape::Entry => Vec::new(),
    };
    let archive = (offer.archive.bytes, offer.archive.blake3.as_str());
    let laid = lay_out(reader, &offer.facts, installed, &entries, archive)?;
    let members = members.into_iter().map(|(folder, facts)| {
        let folder = laid.place.join(&folder)?;
        Ok(Member { folder, facts })
    });
    let members = members.collect::<Result<_>>()?;
    Ok(Payload {
        place: laid.place.clone(),
        shape: reader.shape,
        reader: reader.name.clone(),
        members,
        files: laid.files,
    })
}
