//! Catalogues and drop folders: where releases come from.

use crate::archive::{Archive, ArchiveFault};
use crate::descriptors::single_file;
use crate::error::{Error, Result};
use crate::folder::hash_file;
use crate::place::here;
use lantern_core::catalogue::{self, ArchiveRef, Offer, Origin};
use lantern_core::component::{Facts, Id, Kind, Side};
use lantern_core::descriptor::{self, Described, Found, Holdings, Subject};
use lantern_core::family::{Family, Reader, Shape};
use lantern_core::inventory::as_group;
use lantern_core::path::RelPath;
use lantern_core::plan::{DrawFault, Laid, Payload, PayloadMember, lay_out};
use lantern_core::tree::{FileSeen, claim, marked, root_in_archive};
use std::collections::BTreeMap;
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
        let text = here::read_text(path)?;
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

    /// Adds what recipes have made.
    ///
    /// # Errors
    /// When the folder cannot be listed. What no reader knows only lands in `left_out`.
    pub fn add_acquired(&mut self, folder: &Path, family: &Family) -> Result<()> {
        let made = here::list(folder)?;
        let builds = family.readers.iter().filter(|r| r.kind == Kind::Build);
        for reader in builds {
            for path in &made {
                // A program that is one file lies alone in its folder.
                let one = || here::list(path).ok()?.into_iter().next();
                let download = match reader.shape.is_one_file() {
                    true => one().unwrap_or_else(|| path.clone()),
                    false => path.clone(),
                };
                match read_download(&download, &[reader], family) {
                    Ok((facts, _)) => self.add_by_hand(facts, download)?,
                    Err(why) => self.left_out.push((download.display().to_string(), why)),
                }
            }
        }
        Ok(())
    }

    fn add_by_hand(&mut self, facts: Facts, path: PathBuf) -> Result<()> {
        self.offers.push(Offer {
            facts,
            archive: ArchiveRef {
                file: shown(&path),
                blake3: download_hash(&path)?,
                bytes: download_bytes(&path)?,
            },
            origin: Origin::DropFolder,
        });
        self.archives.push(path);
        Ok(())
    }

    /// Adds every archive of a drop folder that a reader of the family knows.
    ///
    /// # Errors
    /// When the folder cannot be listed. A bad archive only lands in `left_out`.
    pub fn add_drop_folder(&mut self, folder: &Path, family: &Family) -> Result<()> {
        let usable = |path: &PathBuf| {
            let met = here::look(path);
            met.is_some_and(|meta| meta.is_file() || meta.is_folder())
        };
        let mut first: BTreeMap<_, PathBuf> = BTreeMap::new();
        for path in here::list(folder)?.into_iter().filter(usable) {
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
                    self.left_out.push((path.display().to_string(), why));
                    continue;
                }
            };
            let key = (facts.id.clone(), facts.version.to_string());
            if let Some(other) = first.get(&key) {
                let why = format!(
                    "it is {} {} like {}; only that one is used",
                    key.0,
                    key.1,
                    other.display()
                );
                self.left_out.push((path.display().to_string(), why));
                continue;
            }
            first.insert(key, path.clone());
            self.add_by_hand(facts, path)?;
        }
        Ok(())
    }
}

/// A path that holds from wherever a plan is carried out.
pub(crate) fn shown(path: &Path) -> String {
    let whole = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    whole.display().to_string()
}

fn download_bytes(path: &Path) -> Result<u64> {
    match here::look(path) {
        Some(meta) if !meta.is_folder() => Ok(meta.stamp.bytes),
        _ => Ok(Archive::open(path)?.bytes()),
    }
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
        let content = here::open(path).map_err(|error| error.to_string())?;
        let found = single_file(reader, &name, &*content)?;
        let content = hash_file(path).map_err(said)?;
        let described = described(reader, family, &name, &content, &found)?;
        return Ok((described.facts, reader));
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
            download_hash(path).map_err(said)?
        };
        let found = archive.texts(&reader.files, &root);
        let found = found.map_err(|fault| fault.to_string())?;
        let Described {
            facts, holdings, ..
        } = described(reader, family, place, &content, &found)?;
        if reader.kind != Kind::Pack {
            return Ok((facts, reader));
        }
        if facts.side == Some(Side::Client) {
            return Err(format!(
                "it is the client edition of {} {}; the server needs the server edition",
                facts.id, facts.version
            ));
        }
        let variant = holdings.variants.first().map(String::as_str);
        let entries = archive.hashes().map_err(|fault| fault.to_string())?;
        let laid = lay_out(reader, &facts, None, variant, &entries, (0, ""))
            .map_err(|fault| fault.to_string())?;
        let members = members(&mut archive, family, &laid)?;
        return Ok((
            as_group(&facts, members.iter().map(|member| &member.facts)),
            reader,
        ));
    }
    let names = archive.names();
    let known = |name: &&&str| {
        let name = name.rsplit('/').next().unwrap_or(name);
        let mut readers = family.readers.iter();
        readers.any(|reader| reader.drop.as_ref().is_some_and(|drop| drop.matches(name)))
    };
    if let Some(inner) = names.iter().find(known) {
        return Err(format!(
            "it is an archive around {inner}: unpack it once, and put that into the drop folder"
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

fn described(
    reader: &Reader,
    family: &Family,
    place: &str,
    content: &str,
    found: &[Found],
) -> Result<Described, String> {
    let subject = Subject {
        reader,
        family,
        place,
        content,
    };
    descriptor::read(&subject, found).map_err(|fault| fault.to_string())
}

/// What else a release that is laid out holds: the components that the family's readers would find.
fn members(
    archive: &mut Archive,
    family: &Family,
    laid: &Laid,
) -> Result<Vec<PayloadMember>, String> {
    let files: Vec<FileSeen> = laid
        .files
        .iter()
        .map(|file| FileSeen {
            path: file.path.clone(),
            bytes: file.bytes,
            hash: Some(file.hash.clone()),
        })
        .collect();
    let mut members = Vec::new();
    for claim in claim(family, &files).claims {
        if claim.place == laid.place || claim.reader.kind != Kind::Addon {
            continue;
        }
        let entry = |index: &usize| -> Result<RelPath, String> {
            let entry = laid.files[*index].entry.as_deref().unwrap_or("");
            RelPath::parse(entry).map_err(|fault| fault.to_string())
        };
        let found = match claim.reader.shape {
            Shape::Archive => {
                let entry = entry(&claim.files[0])?;
                let inside = archive.texts_inside(&entry, &claim.reader.files);
                inside.map_err(|fault| format!("{entry}: {fault}"))?
            }
            _ => {
                // The entries of one folder lie below one folder of the archive, too.
                let first = entry(&claim.files[0])?;
                let below = files[claim.files[0]].path.below(claim.place.as_str());
                let below = below.unwrap_or("");
                let root = first.as_str().strip_suffix(below).unwrap_or("");
                let texts = archive.texts(&claim.reader.files, root);
                texts.map_err(|fault| fault.to_string())?
            }
        };
        let inside = claim.files.iter().filter_map(|index| {
            let file = &files[*index];
            let below = file.path.below(claim.place.as_str()).unwrap_or("");
            Some((below, file.hash.as_deref()?))
        });
        let content = lantern_core::tree::content_hash(inside);
        let place = claim.place.as_str();
        let described = described(claim.reader, family, place, &content, &found)
            .map_err(|why| format!("{place}: {why}"))?;
        members.push(PayloadMember {
            place: claim.place.clone(),
            shape: claim.reader.shape,
            facts: described.facts,
        });
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
    variants: &BTreeMap<Id, String>,
) -> Result<Payload> {
    let found = download_hash(path)?;
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
        let laid = lay_out(reader, &offer.facts, installed, None, &[], archive)?;
        return Ok(Payload {
            place: laid.place,
            shape: reader.shape,
            reader: reader.name.clone(),
            members: Vec::new(),
            files: laid.files,
            holdings: Holdings::default(),
            variant: None,
            found_in: laid.found_in,
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
    let found = archive.texts(&reader.files, &root).map_err(archive_fault)?;
    let broken = |why| archive_fault(ArchiveFault::Broken(why));
    let said = described(reader, family, offer.facts.id.as_str(), "", &found).map_err(broken)?;
    let holdings = said.holdings;
    let variant = variant_of(&offer.facts.id, &holdings, variants)?;
    let archive_itself = (offer.archive.bytes, offer.archive.blake3.as_str());
    let variant_name = variant.as_deref();
    let laid = lay_out(
        reader,
        &offer.facts,
        installed,
        variant_name,
        &entries,
        archive_itself,
    )?;
    let members = match reader.kind {
        Kind::Pack => members(&mut archive, family, &laid).map_err(broken)?,
        Kind::Build | Kind::Framework | Kind::Addon => Vec::new(),
    };
    Ok(Payload {
        place: laid.place,
        shape: reader.shape,
        reader: reader.name.clone(),
        members,
        files: laid.files,
        holdings,
        variant,
        found_in: laid.found_in,
    })
}

/// Which of a release's variants is meant.
fn variant_of(
    id: &Id,
    holdings: &Holdings,
    chosen: &BTreeMap<Id, String>,
) -> Result<Option<String>, DrawFault> {
    let variants = holdings.variants.clone();
    match chosen.get(id) {
        _ if variants.is_empty() => Ok(None),
        Some(chosen) if variants.contains(chosen) => Ok(Some(chosen.clone())),
        Some(chosen) => Err(DrawFault::OtherVariants {
            id: id.clone(),
            chosen: chosen.clone(),
            variants,
        }),
        None => Err(DrawFault::NoVariant {
            id: id.clone(),
            variants,
        }),
    }
}

/// The BLAKE3 of a download; of a folder, that over its files' paths and hashes.
///
/// # Errors
/// When it cannot be read.
pub fn download_hash(path: &Path) -> Result<String> {
    if !here::look(path).is_some_and(|meta| meta.is_folder()) {
        return hash_file(path);
    }
    let mut archive = Archive::open(path)?;
    let hashes = archive.hashes().map_err(|fault| Error::Archive {
        path: path.into(),
        fault,
    })?;
    let files = hashes
        .iter()
        .map(|(name, _, hash)| (name.as_str(), hash.as_str()));
    Ok(lantern_core::tree::content_hash(files))
}
