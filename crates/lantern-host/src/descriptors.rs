//! The descriptor files of what lies at one place.

use crate::archive::{Archive, ArchiveFault};
use crate::error::{Error, Result};
use crate::folder::Folder;
use crate::place::Source;
use lantern_core::descriptor::{self, Found};
use lantern_core::family::{Names, Part, Reader, Shape};
use lantern_core::path::RelPath;
use lantern_core::text::Text;
use lantern_core::tree::{Claim, FileSeen};

/// Reads the descriptors of one place, from the disk.
///
/// # Errors
/// With why they cannot be read.
pub fn descriptors_of(
    folder: &Folder,
    claim: &Claim<'_>,
    files: &[FileSeen],
) -> Result<Vec<Found>, String> {
    match claim.reader.shape {
        Shape::Archive => in_archive(folder, claim, files),
        _ => descriptors(folder, claim, files),
    }
}

pub(crate) fn in_archive(
    folder: &Folder,
    claim: &Claim<'_>,
    files: &[FileSeen],
) -> Result<Vec<Found>, String> {
    let wanted = &claim.reader.files;
    if wanted.is_empty() {
        return Ok(Vec::new());
    }
    let mut seen = claim.files.iter().map(|at| &files[*at]);
    let opened = match seen.find(|file| file.path == claim.place) {
        Some(file) => Archive::listed(folder, &claim.place, file.bytes),
        None => Archive::inside(folder, &claim.place),
    };
    let mut archive = opened.map_err(|error| match error {
        Error::Archive { fault, .. } => fault.to_string(),
        other => other.to_string(),
    })?;
    let found = archive
        .texts(wanted, "")
        .map_err(|fault| fault.to_string())?;
    if found.is_empty() {
        let names: Vec<String> = wanted.iter().map(|file| file.name.text()).collect();
        return Err(ArchiveFault::Bare(names.join(" or ")).to_string());
    }
    Ok(found)
}

pub(crate) fn descriptors(
    folder: &Folder,
    claim: &Claim<'_>,
    files: &[FileSeen],
) -> Result<Vec<Found>, String> {
    let opened = |path: &RelPath| folder.open_file(path).map_err(|error| error.to_string());
    if claim.reader.shape == Shape::File {
        let mut found = single_file(claim.reader, claim.place.name(), &*opened(&claim.place)?)?;
        let there = |path: &RelPath| claim.files.iter().any(|at| files[*at].path == *path);
        found.extend(of_beside(claim.reader, &claim.place, |path| {
            let text = there(path).then(|| opened(path).and_then(|file| small_text(&*file)));
            text.transpose().map_err(|why| format!("{path}: {why}"))
        })?);
        found.sort_by_key(|found| found.file);
        return Ok(found);
    }
    let mut found = Vec::new();
    for (index, file) in claim.reader.files.iter().enumerate() {
        let below = claim.files.iter().filter_map(|i| {
            let below = files[*i].path.below(claim.place.as_str())?;
            file.name.lead_to(below).then_some(below)
        });
        let below: Vec<&str> = below.collect();
        let names = file.name.0.iter();
        let mut first = names.filter_map(|name| below.iter().find(|path| name.leads_to(path)));
        let (name, path) = match first.next() {
            Some(name) => {
                let path = claim.place.join(name).map_err(|fault| fault.to_string())?;
                ((*name).to_owned(), path)
            }
            // A part of it may lie elsewhere, and the descriptor with it.
            None => match elsewhere(&claim.reader.parts, &file.name, files) {
                Some(found) => found,
                None => continue,
            },
        };
        let text = opened(&path).and_then(|file| small_text(&*file));
        found.push(Found {
            file: index,
            text: text.map_err(|why| format!("{name}: {why}"))?,
            name,
        });
    }
    Ok(found)
}

/// A descriptor that a part puts elsewhere than into the component's own place: its name in a release, and where it is.
fn elsewhere(parts: &[Part], names: &Names, files: &[FileSeen]) -> Option<(String, RelPath)> {
    let mut found = parts.iter().flat_map(|part| {
        files.iter().filter_map(|file| {
            let name = part.comes_from(file.path.as_str())?;
            names.lead_to(&name).then(|| (name, file.path.clone()))
        })
    });
    found.next()
}

/// Reads the one file that is component and descriptor in one.
///
/// # Errors
/// With why it cannot be read.
pub fn single_file(
    reader: &Reader,
    name: &str,
    content: &dyn Source,
) -> Result<Vec<Found>, String> {
    if own_files(reader, name).next().is_none() {
        return Ok(Vec::new());
    }
    Ok(its_own(reader, name, &small_text(content)?))
}

/// The numbers of the descriptors that a single file is itself.
fn own_files<'r>(reader: &'r Reader, name: &'r str) -> impl Iterator<Item = usize> + 'r {
    let own = RelPath::parse(name).ok();
    let files = 0..reader.files.len();
    files.filter(move |file| {
        let beside = own.as_ref();
        beside.is_none_or(|own| reader.descriptors_beside(*file, own).is_empty())
    })
}

/// The descriptors that lie beside a single file, as far as `text` finds them.
///
/// # Errors
/// With the first one of `text`.
pub(crate) fn of_beside<E>(
    reader: &Reader,
    path: &RelPath,
    mut text: impl FnMut(&RelPath) -> Result<Option<String>, E>,
) -> Result<Vec<Found>, E> {
    let mut found = Vec::new();
    for file in 0..reader.files.len() {
        for beside in reader.descriptors_beside(file, path) {
            if let Some(text) = text(&beside)? {
                found.push(Found {
                    file,
                    name: beside.name().to_owned(),
                    text,
                });
                break;
            }
        }
    }
    Ok(found)
}

/// The text of a file that is component and descriptor in one, as each of the descriptors that its reader asks for.
pub(crate) fn its_own(reader: &Reader, name: &str, text: &str) -> Vec<Found> {
    let found = own_files(reader, name).map(|file| Found {
        file,
        name: name.to_owned(),
        text: text.to_owned(),
    });
    found.collect()
}

fn small_text(file: &dyn Source) -> Result<String, String> {
    let said = |error: std::io::Error| error.to_string();
    let bytes = file.length().map_err(said)?;
    if bytes > descriptor::LONGEST_BYTES {
        return Err("it is over a mebibyte".into());
    }
    let mut content = vec![0; bytes as usize];
    let read = file.read_at(&mut content, 0).map_err(said)?;
    content.truncate(read);
    Ok(Text::read(&content).into_content())
}
