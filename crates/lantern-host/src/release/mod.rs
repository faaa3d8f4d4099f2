//! What a download is, and what it would put where.

pub mod fault;

use crate::archive::{Archive, ArchiveFault};
use crate::descriptors::{its_own, of_beside, single_file};
use crate::downloads::{Downloads, shortened};
use crate::error::{At, Error, Result};
use crate::gather::{Digest, hashes_of};
use crate::place::here;
use fault::ReleaseFault;
use lantern_core::artifact::{ArchivedFile, Artifact};
use lantern_core::component::{Id, Kind, Side};
use lantern_core::descriptor::{self, Described, Found, Holdings, Subject, VersionFrom};
use lantern_core::facts::{Facts, Reading};
use lantern_core::family::{Family, Reader, Shape};
use lantern_core::flags::NamedHashes;
use lantern_core::inventory::{Component, as_group};
use lantern_core::offer::{Offer, Origin};
use lantern_core::path::RelPath;
use lantern_core::plan::{DrawFault, Laid, Payload, PayloadFile, PayloadMember, lay_out};
use lantern_core::supply::HashKind;
use lantern_core::text::Text;
use lantern_core::tree::{FileSeen, Root, claim, content_hash, marked, root_in_archive};
use lantern_core::version::Version;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Arc;

/// What a download was read as.
#[derive(Debug)]
pub struct Read {
    /// What it says of itself.
    pub facts: Facts,
    /// The hash of what it lays, where what is installed of it could not say its version itself.
    pub content: Option<String>,
    /// The folder or file in the download that is this one's, where that holds several.
    pub inside: Option<String>,
}

/// Reads what a download is that servers could have: by the first reader that knows it; each for itself where it holds several, and nothing else
/// but single files beside them.
///
/// # Errors
/// When it is no whole archive, none knows it, its descriptor makes no sense, what it holds cannot be told apart, or it is a pack for
/// clients alone.
pub fn read(
    artifact: &Artifact,
    readers: &[&Reader],
    family: &Family,
    downloads: &Downloads<'_>,
) -> Result<Vec<Read>> {
    let read = read_for_clients(artifact, readers, family, downloads)?;
    let is_edition =
        |read: &&Read| read.facts.kind == Kind::Pack && read.facts.side == Some(Side::Client);
    match read.iter().find(is_edition) {
        Some(Read { facts, .. }) => Err(Error::Release {
            path: Path::new(&artifact.file).into(),
            fault: ReleaseFault::ClientEdition(format!("{} {}", facts.id, facts.version)),
        }),
        None => Ok(read),
    }
}

/// As [`read`], and takes packs for what they are that are for clients alone.
///
/// # Errors
/// As [`read`].
pub fn read_for_clients(
    artifact: &Artifact,
    readers: &[&Reader],
    family: &Family,
    downloads: &Downloads<'_>,
) -> Result<Vec<Read>> {
    let unclear = match read_one(artifact, None, readers, family, downloads) {
        Err(Error::Release {
            path,
            fault: fault @ (ReleaseFault::Several(_) | ReleaseFault::Part { .. }),
        }) => Error::Release { path, fault },
        read => return read.map(|read| vec![read]),
    };
    let names = downloads.names(artifact)?;
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let Some(parts) = parts_of(readers, &names) else {
        return Err(unclear);
    };
    let mut each = Vec::new();
    for part in &parts {
        let mut read = read_one(artifact, Some(part), readers, family, downloads)?;
        read.inside = Some(part.clone());
        each.push(read);
    }
    let ids: BTreeSet<&Id> = each.iter().map(|read| &read.facts.id).collect();
    match ids.len() == each.len() {
        true => Ok(each),
        false => Err(unclear),
    }
}

/// The folders and files in a download that each are a component, whatever reader knows it; none where that is not more than
/// one, or other folders lie beside folders of theirs.
fn parts_of(readers: &[&Reader], names: &[&str]) -> Option<Vec<String>> {
    let mut parts: Vec<String> = Vec::new();
    for reader in readers {
        let found = match (&reader.inside, root_of(reader, names)) {
            (Some(inside), _) => {
                let found = names.iter().filter(|name| inside.matches(name));
                found.map(|name| (*name).to_owned()).collect()
            }
            (None, Root::At(root)) => vec![root.trim_end_matches('/').to_owned()],
            (None, Root::Several(folders)) => folders,
            (None, Root::Part(folder, _)) => vec![folder],
            (None, Root::Nowhere) => Vec::new(),
        };
        for part in found {
            if !parts.iter().any(|known| is_inside(&part, Some(known))) {
                parts.push(part);
            }
        }
    }
    let theirs = |name: &str| parts.iter().any(|part| is_inside(name, Some(part)));
    let unused = |name: &str| readers.iter().any(|reader| reader.unused.matches(name));
    // Beside single files there may be whatever there is: they are taken out of it, each by itself.
    let are_files = parts.iter().all(|part| names.contains(&part.as_str()));
    let wrapper = wrapper_of(names);
    let is_deep = |name: &str| name[wrapper.len()..].contains('/');
    let mut beside = names.iter().filter(|name| !theirs(name) && !unused(name));
    let whole = are_files || !beside.any(|name| is_deep(name));
    (parts.len() > 1 && whole).then_some(parts)
}

/// The one folder around all that an archive holds, with its slash; empty where there is none.
fn wrapper_of<'n>(names: &[&'n str]) -> &'n str {
    let first = names
        .first()
        .and_then(|name| name.find('/').map(|at| &name[..=at]));
    first
        .filter(|folder| names.iter().all(|name| name.starts_with(folder)))
        .unwrap_or_default()
}

/// Whether an entry is of the part of an archive that is meant: a folder, or a file.
fn is_inside(name: &str, part: Option<&str>) -> bool {
    part.is_none_or(|part| {
        let below = name.strip_prefix(part);
        below.is_some_and(|below| below.is_empty() || below.starts_with('/'))
    })
}

fn read_one(
    artifact: &Artifact,
    part: Option<&str>,
    readers: &[&Reader],
    family: &Family,
    downloads: &Downloads<'_>,
) -> Result<Read> {
    let path = Path::new(&artifact.file);
    let fault = |fault| Error::Archive {
        path: path.into(),
        fault,
    };
    let release = |fault| Error::Release {
        path: path.into(),
        fault,
    };
    let broken = |why| release(ReleaseFault::Described(why));
    let name = name_of(path);
    let single = |reader: &&&Reader| reader.shape == Shape::File && reader.inside.is_none();
    if let Some(reader) = readers.iter().find(single) {
        let content = here::open(path).map_err(|error| broken(error.to_string()))?;
        let found = single_file(reader, &name, &*content).map_err(broken)?;
        let described = described(reader, family, &name, (&artifact.blake3, &name), &found);
        return Ok(Read {
            facts: described.map_err(broken)?.facts,
            content: None,
            inside: None,
        });
    }
    let mut unclear = None;
    for reader in readers {
        if let Some(inside) = &reader.inside {
            let entries = of_one_file(reader, part, &downloads.contents(artifact)?);
            let found = entries.iter().filter(|entry| inside.matches(&entry.name));
            match &found.collect::<Vec<_>>()[..] {
                [] => {}
                [entry] => {
                    let mut archive = downloads.archive(artifact)?;
                    let found = in_entry(&mut archive, reader, &entry.name).map_err(fault)?;
                    let at = (entry.blake3.as_str(), name.as_str());
                    let described = described(reader, family, &entry.name, at, &found);
                    let described = described.map_err(broken)?;
                    let mut facts = described.facts;
                    // With what comes along beside it, as it will be found when it is installed.
                    let content = match reader.install {
                        Some(_) => {
                            let laid = lay_out(reader, &facts, None, None, &entries, artifact)?;
                            let files = laid.files.iter();
                            let files = files.map(|file| (&file.path, file.hash.as_str()));
                            content_hash(&laid.place, files)
                        }
                        None => entry.blake3.clone(),
                    };
                    if described.version_from == VersionFrom::Content {
                        facts.version = Version::of_content(&content);
                    }
                    return Ok(Read {
                        facts,
                        content: Some(content),
                        inside: None,
                    });
                }
                several => {
                    let names = several.iter().map(|entry| entry.name.clone());
                    unclear = Some(ReleaseFault::Several(names.collect()));
                }
            }
            continue;
        }
        let names = downloads.names(artifact)?;
        let names = names.iter().map(String::as_str);
        let names: Vec<&str> = names.filter(|name| is_inside(name, part)).collect();
        let root = match root_of(reader, &names) {
            Root::At(root) => root,
            Root::Nowhere => continue,
            Root::Several(folders) => {
                unclear = Some(ReleaseFault::Several(folders));
                continue;
            }
            Root::Part(folder, beside) => {
                unclear = Some(ReleaseFault::Part { folder, beside });
                continue;
            }
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
        let found = texts(downloads, artifact, reader, &root)?;
        let of = |archive| described(reader, family, place, (&artifact.blake3, archive), &found);
        let Described {
            mut facts,
            holdings,
            version_from,
            unread_version: _,
        } = of(&name).map_err(broken)?;
        let variant = holdings.variants.first().map(String::as_str);
        let mut content = None;
        // What is installed of it would not know its version: its content tells, whatever it is packed in.
        if !reader.shape.is_one_file()
            && of("").map_err(broken)?.version_from == VersionFrom::Content
        {
            let entries = entries_of(downloads, artifact, part)?;
            let laid = lay_out(reader, &facts, None, variant, &entries, artifact)?;
            let kept = |file: &&PayloadFile| family.keeps(file.path.as_str());
            let own = laid.files.iter().filter(|file| !kept(file));
            let own = own.map(|file| (&file.path, file.hash.as_str()));
            let hash = content_hash(&laid.place, own);
            if version_from == VersionFrom::Content {
                facts.version = Version::of_content(&hash);
            }
            content = Some(hash);
        }
        if reader.kind != Kind::Pack {
            return Ok(Read {
                facts,
                content,
                inside: None,
            });
        }
        let entries = entries_of(downloads, artifact, part)?;
        let laid = lay_out(reader, &facts, None, variant, &entries, artifact)?;
        let mut archive = downloads.archive(artifact)?;
        let members = members(&mut archive, family, &laid).map_err(broken)?;
        let members = members.iter().map(|member| &member.facts);
        return Ok(Read {
            facts: as_group(&facts, members),
            content,
            inside: None,
        });
    }
    if let Some(fault) = unclear {
        return Err(release(fault));
    }
    let known = |name: &String| {
        let name = name.rsplit('/').next().unwrap_or(name);
        let mut readers = family.readers.iter();
        readers.any(|reader| reader.drop.as_ref().is_some_and(|drop| drop.matches(name)))
    };
    let names = downloads.names(artifact)?;
    Err(release(match names.into_iter().find(known) {
        Some(inner) => ReleaseFault::Around(inner),
        None => ReleaseFault::Unknown,
    }))
}

/// The files in an archive, or in the part of it that is meant.
fn entries_of(
    downloads: &Downloads<'_>,
    artifact: &Artifact,
    part: Option<&str>,
) -> Result<Arc<Vec<ArchivedFile>>> {
    let entries = downloads.contents(artifact)?;
    if part.is_none() {
        return Ok(entries);
    }
    let inside = entries.iter().filter(|it| is_inside(&it.name, part));
    Ok(Arc::new(inside.cloned().collect()))
}

/// The files in an archive of which one is the component, without the others that are offers of their own, and what lies beside those.
fn of_one_file(reader: &Reader, part: Option<&str>, entries: &[ArchivedFile]) -> Vec<ArchivedFile> {
    let is_one = |name: &str| reader.inside.as_ref().is_some_and(|it| it.matches(name));
    let mut others: BTreeSet<String> = BTreeSet::new();
    for entry in entries
        .iter()
        .filter(|it| is_one(&it.name) && !is_inside(&it.name, part))
    {
        others.insert(entry.name.clone());
        let beside = RelPath::parse(&entry.name).map(|path| reader.beside(&path));
        others.extend(beside.iter().flatten().map(RelPath::to_string));
    }
    let is_other = |name: &str| others.iter().any(|other| is_inside(name, Some(other)));
    let own = entries.iter().filter(|entry| !is_other(&entry.name));
    own.cloned().collect()
}

fn name_of(path: &Path) -> String {
    let name = path.file_name().map(|name| name.to_string_lossy());
    name.map_or(String::new(), |name| name.into_owned())
}

/// Where in the archive the component begins; archives that stay packed begin at their top.
fn root_of(reader: &Reader, names: &[&str]) -> Root {
    match reader.shape {
        Shape::Archive if marked(reader, names) => Root::At(String::new()),
        Shape::Folder | Shape::Group => root_in_archive(reader, names),
        Shape::Archive | Shape::File | Shape::Entry => Root::Nowhere,
    }
}

/// The descriptors of a single file that lies in an archive: it is its own.
fn in_entry(
    archive: &mut Archive,
    reader: &Reader,
    entry: &str,
) -> std::result::Result<Vec<Found>, ArchiveFault> {
    if reader.files.is_empty() {
        return Ok(Vec::new());
    }
    let text = archive.text_at(entry)?.unwrap_or_default();
    let mut found = its_own(reader, entry, &text);
    if let Ok(path) = RelPath::parse(entry) {
        found.extend(of_beside(reader, &path, |beside| {
            archive.text_at(beside.as_str())
        })?);
    }
    found.sort_by_key(|found| found.file);
    Ok(found)
}

/// The descriptors of a release: at its root, or where it has what goes to the component's own place.
fn texts(
    downloads: &Downloads<'_>,
    artifact: &Artifact,
    reader: &Reader,
    root: &str,
) -> Result<Arc<Vec<Found>>> {
    let home = reader.home_in_release();
    let names: Vec<String> = reader.files.iter().map(|file| file.name.text()).collect();
    let wanted = format!("of a release\n{root}\n{home}\n{}", names.join("\n"));
    downloads.found(artifact, wanted, |archive| {
        let mut found = archive.texts(&reader.files, root)?;
        if !home.is_empty() && found.len() < reader.files.len() {
            let known: Vec<usize> = found.iter().map(|found| found.file).collect();
            let at_home = archive.texts(&reader.files, &format!("{root}{home}"))?;
            found.extend(at_home.into_iter().filter(|it| !known.contains(&it.file)));
            found.sort_by_key(|found| found.file);
        }
        Ok(found)
    })
}

fn subject<'a>(
    reader: &'a Reader,
    family: &'a Family,
    place: &'a str,
    (content, archive): (&'a str, &'a str),
) -> Subject<'a> {
    Subject {
        reader,
        family,
        place,
        content,
        archive: Some(archive).filter(|name| !name.is_empty()),
    }
}

fn described(
    reader: &Reader,
    family: &Family,
    place: &str,
    of: (&str, &str),
    found: &[Found],
) -> Result<Described, String> {
    let subject = subject(reader, family, place, of);
    let mut reading = Reading::new(&family.versions);
    descriptor::read(&subject, found, &mut reading).map_err(|fault| fault.to_string())
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
        let own = claim.files.iter().filter_map(|index| {
            let file = &files[*index];
            Some((&file.path, file.hash.as_deref()?))
        });
        let content = content_hash(&claim.place, own);
        let place = claim.place.as_str();
        let described = described(claim.reader, family, place, (&content, ""), &found)
            .map_err(|why| format!("{place}: {why}"))?;
        members.push(PayloadMember {
            place: claim.place.clone(),
            shape: claim.reader.shape,
            facts: described.facts,
        });
    }
    Ok(members)
}

/// Says which files a chosen offer would put where.
///
/// # Errors
/// When the archive is gone, is another one, is damaged, or cannot be laid out.
pub fn payload(
    family: &Family,
    offer: &Offer,
    installed: Option<&Component>,
    variants: &BTreeMap<Id, String>,
    by_hand: &(dyn Fn(&RelPath) -> bool + Sync),
    downloads: &Downloads<'_>,
) -> Result<Payload> {
    let path = Path::new(&offer.artifact.file);
    let expected = &offer.artifact.blake3;
    let artifact = &downloads.artifact(path)?;
    if artifact.blake3 != *expected {
        return Err(Error::OtherArchive {
            path: path.into(),
            expected: shortened(expected),
            found: shortened(&artifact.blake3),
        });
    }
    let release = |fault| Error::Release {
        path: path.into(),
        fault,
    };
    let name = name_of(path);
    let of_kind = family.readers.iter();
    let of_kind: Vec<&Reader> = of_kind.filter(|r| r.kind == offer.facts.kind).collect();
    // Those that know it by its name before those that name none; what a recipe has made is called as the recipe likes.
    let named = |reader: &&Reader| reader.drop.as_ref().map(|drop| drop.matches(&name));
    let by = |knows| of_kind.iter().copied().filter(move |it| named(it) == knows);
    let tiers = [
        by(Some(true)).collect(),
        by(None).collect(),
        of_kind.clone(),
    ];
    let of_kind: Vec<&Reader> = tiers
        .into_iter()
        .find(|tier: &Vec<_>| !tier.is_empty())
        .unwrap_or_default();
    if let Some(reader) = of_kind.iter().find(|reader| reader.shape == Shape::File) {
        let entries = match &reader.inside {
            None => Arc::default(),
            Some(_) => downloads.contents(artifact)?,
        };
        let entries = of_one_file(reader, offer.inside(), &entries);
        let laid = lay_out(reader, &offer.facts, installed, None, &entries, artifact)?;
        let hashes = named_hashes(downloads, artifact, family, &laid.files)?;
        return Ok(Payload {
            place: laid.place,
            shape: reader.shape,
            reader: reader.name.clone(),
            members: Vec::new(),
            files: laid.files,
            holdings: Holdings::default(),
            runs: family.runs(reader),
            variant: None,
            unused: laid.unused,
            texts: BTreeMap::new(),
            hashes,
        });
    }
    let part = offer.inside();
    let names = downloads.names(artifact)?;
    let mut names: Vec<&str> = names.iter().map(String::as_str).collect();
    // Beside several there are single files only: they go nowhere.
    let wrapper = wrapper_of(&names);
    let beside = |name: &&&str| part.is_some() && !name[wrapper.len()..].contains('/');
    let beside = names.iter().filter(beside).map(|name| (*name).to_owned());
    let beside: Vec<String> = beside.collect();
    names.retain(|name| is_inside(name, part));
    let mut known = of_kind
        .into_iter()
        .filter_map(|reader| Some((reader, root_of(reader, &names).at()?)));
    let (reader, root) = known.next().ok_or_else(|| release(ReleaseFault::Unknown))?;
    let found = texts(downloads, artifact, reader, &root)?;
    let broken = |why| release(ReleaseFault::Described(why));
    let subject = subject(reader, family, offer.facts.id.as_str(), ("", &name));
    let holdings = match offer.origin {
        // It was read whole to be offered.
        Origin::DropFolder => descriptor::holdings(&subject, &found),
        Origin::Catalogue => {
            let mut reading = Reading::new(&family.versions);
            descriptor::read(&subject, &found, &mut reading).map(|said| said.holdings)
        }
    };
    let holdings = holdings.map_err(|fault| broken(fault.to_string()))?;
    let variant = variant_of(&offer.facts.id, &holdings, variants)?;
    let entries = entries_of(downloads, artifact, part)?;
    let laid = lay_out(
        reader,
        &offer.facts,
        installed,
        variant.as_deref(),
        &entries,
        artifact,
    )?;
    let members = match reader.kind {
        Kind::Pack => {
            let mut archive = downloads.archive(artifact)?;
            members(&mut archive, family, &laid).map_err(broken)?
        }
        Kind::Build | Kind::Framework | Kind::Addon => Vec::new(),
    };
    let is_descriptor = |path: &RelPath| {
        let below = path.below(laid.place.as_str());
        below.is_some_and(|below| reader.files.iter().any(|file| file.name.lead_to(below)))
    };
    let is_wanted = |path: &RelPath| by_hand(path) || is_descriptor(path);
    let texts = wanted_texts(downloads, artifact, family, &is_wanted, &laid.files)?;
    let hashes = named_hashes(downloads, artifact, family, &laid.files)?;
    let unused = laid.unused.into_iter();
    let beside = beside
        .into_iter()
        .filter(|name| !reader.unused.matches(name));
    Ok(Payload {
        place: laid.place,
        shape: reader.shape,
        reader: reader.name.clone(),
        members,
        files: laid.files,
        holdings,
        runs: family.runs(reader),
        variant,
        unused: unused.chain(beside).collect(),
        texts,
        hashes,
    })
}

/// The texts of a release in which the family pins something, of a load order, or that were edited by hand where they come to.
fn wanted_texts(
    downloads: &Downloads<'_>,
    artifact: &Artifact,
    family: &Family,
    by_hand: &dyn Fn(&RelPath) -> bool,
    files: &[PayloadFile],
) -> Result<BTreeMap<RelPath, Text>> {
    let is_told = |path: &str| {
        let mut samples = family.settings.iter().map(|rule| &rule.sample);
        let order = family.order.as_ref().filter(|rule| !rule.is_in_names());
        family.is_followed(path)
            || samples.any(|files| files.matches(path))
            || order.is_some_and(|rule| rule.file.matches(path))
    };
    let is_wanted = |file: &&PayloadFile| {
        let named = is_told(file.path.as_str()) || by_hand(&file.path);
        named && file.bytes <= descriptor::LONGEST_BYTES
    };
    let wanted = files.iter().filter(is_wanted);
    let wanted: Vec<(RelPath, &PayloadFile)> = wanted
        .filter_map(|file| Some((RelPath::parse(file.entry.as_ref()?).ok()?, file)))
        .collect();
    if wanted.is_empty() {
        return Ok(BTreeMap::new());
    }
    let entries = wanted.iter().map(|(entry, _)| entry.clone()).collect();
    let read = downloads.archive(artifact)?.small_files(&entries);
    let read = read.map_err(|fault| Error::Archive {
        path: Path::new(&artifact.file).into(),
        fault,
    })?;
    let texts = wanted.into_iter().filter_map(|(entry, file)| {
        let bytes = read.get(&entry)?;
        // What a catalogue says of it may not be so.
        let is_whole = blake3::hash(bytes).to_hex().as_str() == file.hash;
        is_whole.then(|| (file.path.clone(), Text::read(bytes)))
    });
    Ok(texts.collect())
}

/// The hashes that settings name of files of a release.
fn named_hashes(
    downloads: &Downloads<'_>,
    artifact: &Artifact,
    family: &Family,
    files: &[PayloadFile],
) -> Result<NamedHashes> {
    let mut taken = NamedHashes::new();
    let named: Vec<_> = family.named_hashes().collect();
    if named.is_empty() {
        return Ok(taken);
    }
    for file in files {
        let of_it = named.iter();
        let of_it = of_it.filter(|(_, of)| of.matches(file.path.as_str()));
        let kinds: Vec<HashKind> = of_it.map(|(kind, _)| *kind).collect();
        if kinds.is_empty() {
            continue;
        }
        let path = Path::new(&artifact.file);
        let hashes = match &file.entry {
            None => {
                let hashes =
                    here::open(path).and_then(|mut file| hashes_of(&mut file, kinds.into_iter()));
                hashes.at("reading", path)?
            }
            Some(entry) => {
                let mut digest = Digest::of(kinds.into_iter());
                let copied = downloads.archive(artifact)?.copy(entry, &mut digest);
                copied.map_err(|fault| Error::Archive {
                    path: path.into(),
                    fault,
                })?;
                digest.finish()
            }
        };
        taken.insert(file.path.clone(), hashes);
    }
    Ok(taken)
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
