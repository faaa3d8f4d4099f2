//! Archives, checked before anything of them is used: zip, tar, tar.gz and tar.zst.
//!
//! What an archive is, its first bytes tell, whatever its name is.

pub mod fault;
mod tarred;
mod unpacked;
mod written;
mod zipped;

use crate::error::{At, Error, Result};
use crate::folder::Folder;
use crate::place::{PROGRAM, Source, here};
pub use fault::ArchiveFault;
use fault::DEEPEST;
use lantern_core::artifact::ArchivedFile;
use lantern_core::descriptor::{self, Found};
use lantern_core::family::{DescriptorFile, Name};
use lantern_core::link;
use lantern_core::path::RelPath;
use lantern_core::text::Text;
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Read, Write};
use std::path::Path;
use tarred::Tarred;
use unpacked::Unpacked;
pub use written::{NewZip, write};
use zipped::Zipped;

/// No archive may have more entries.
const MOST_ENTRIES: u64 = 100_000;
/// No archive may unpack to more bytes.
const MOST_BYTES: u64 = 64 << 30;
/// Nothing may unpack to more than this many times its packed size, and [`SMALL_BYTES`].
const MOST_TIMES: u64 = 1_000;
/// No link may lead further, in bytes.
const LONGEST_LINK: u64 = 4_000;
/// So much may always be unpacked.
const SMALL_BYTES: u64 = 1 << 20;
/// No archive in an archive may be larger.
const MOST_INNER_BYTES: u64 = 1 << 30;

/// One entry as it is passed by.
struct PackedFile<'a> {
    path: &'a RelPath,
    /// The size that the archive states, in bytes.
    bytes: u64,
    /// Whether the archive says that it may be run.
    is_program: bool,
    content: &'a mut dyn Read,
}

/// What is done with each entry.
type Visit<'v> = &'v mut dyn FnMut(PackedFile<'_>) -> Result<(), ArchiveFault>;

enum Packed {
    Zip(Zipped),
    Tar(Tarred),
    Folder(Unpacked),
}

/// An archive whose entries have all been looked at: names, kinds and sizes are fit to be used.
pub struct Archive {
    packed: Packed,
    /// Every file in it, with its size in bytes.
    entries: BTreeMap<RelPath, u64>,
    /// Every link in it, with where it leads.
    links: BTreeMap<RelPath, String>,
}

impl std::fmt::Debug for Archive {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Archive")
            .field("entries", &self.entries)
            .finish_non_exhaustive()
    }
}

impl Archive {
    /// Opens an archive, or a folder that holds what one would, and checks all its entries' names,
    /// kinds and sizes.
    ///
    /// # Errors
    /// [`Error::Archive`] with what is wrong with it.
    pub fn open(path: &Path) -> Result<Archive> {
        let opened = if here::look(path).is_some_and(|meta| meta.is_folder()) {
            let mut list = List::default();
            Unpacked::open(path, &mut list).map(|folder| Archive {
                packed: Packed::Folder(folder),
                entries: list.entries,
                links: list.links,
            })
        } else {
            Archive::check(here::open(path).at("reading", path)?)
        };
        opened.map_err(|fault| Error::Archive {
            path: path.into(),
            fault,
        })
    }

    /// Opens an archive in a server folder, as [`Archive::open`].
    ///
    /// # Errors
    /// As [`Archive::open`].
    pub fn inside(folder: &Folder, path: &RelPath) -> Result<Archive> {
        Archive::opened(folder, path, folder.open_file(path)?)
    }

    /// As [`Archive::inside`], of a file that was just listed as one of so many bytes.
    ///
    /// # Errors
    /// As [`Archive::open`].
    pub fn listed(folder: &Folder, path: &RelPath, bytes: u64) -> Result<Archive> {
        Archive::opened(folder, path, folder.open_listed(path, bytes)?)
    }

    fn opened(folder: &Folder, path: &RelPath, file: Box<dyn Source>) -> Result<Archive> {
        Archive::check(file).map_err(|fault| Error::Archive {
            path: folder.shown(path),
            fault,
        })
    }

    fn check(file: Box<dyn Source>) -> Result<Archive, ArchiveFault> {
        let broken = |error: io::Error| ArchiveFault::Broken(error.to_string());
        let mut start = [0; 512];
        let read = file.read_at(&mut start, 0).map_err(broken)?;
        let mut list = List::default();
        let packed = match &start[..read] {
            start if Tarred::is_one(start) => {
                let start = start.to_vec();
                Packed::Tar(Tarred::open(file, &start, &mut list)?)
            }
            _ => Packed::Zip(Zipped::open(file, &mut list)?),
        };
        Ok(Archive {
            packed,
            entries: list.entries,
            links: list.links,
        })
    }

    /// The names of all files and links in it, sorted.
    pub fn names(&self) -> Vec<&str> {
        let paths = self.entries.keys().chain(self.links.keys());
        let mut names: Vec<&str> = paths.map(RelPath::as_str).collect();
        names.sort_unstable();
        names
    }

    /// How much it unpacks to, in bytes.
    pub fn bytes(&self) -> u64 {
        self.entries.values().sum()
    }

    /// Passes by the entries that are wanted, in the order in which they lie.
    fn each(
        &mut self,
        wanted: &dyn Fn(&RelPath) -> bool,
        visit: Visit<'_>,
    ) -> Result<(), ArchiveFault> {
        match &mut self.packed {
            Packed::Zip(zip) => zip.each(wanted, visit),
            Packed::Tar(tar) => tar.each(wanted, visit),
            Packed::Folder(folder) => folder.each(wanted, visit),
        }
    }

    /// Reads the descriptor files that a reader asks for, below `root`: its folder with a `/`, or
    /// empty.
    ///
    /// # Errors
    /// When an entry is damaged, or longer than a descriptor may be.
    pub fn texts(
        &mut self,
        files: &[DescriptorFile],
        root: &str,
    ) -> Result<Vec<Found>, ArchiveFault> {
        let mut found = Vec::new();
        for (index, file) in files.iter().enumerate() {
            for name in &file.name.0 {
                if let Some((name, text)) = self.text(name, root)? {
                    found.push(Found {
                        file: index,
                        name,
                        text,
                    });
                    break;
                }
            }
        }
        Ok(found)
    }

    /// The first text that a name leads to.
    fn text(&mut self, name: &Name, root: &str) -> Result<Option<(String, String)>, ArchiveFault> {
        let leads = |path: &RelPath| {
            let below = path.as_str().strip_prefix(root);
            below.is_some_and(|below| name.leads_to(below))
        };
        let Some(path) = self.entries.keys().find(|path| leads(path)).cloned() else {
            return Ok(None);
        };
        let below = path.as_str()[root.len()..].to_owned();
        if name.outer.is_none() {
            return Ok(Some((below, self.small_text(&path)?)));
        }
        let mut inner = Archive::check(self.spool(&path)?)?;
        let plain = Name {
            outer: None,
            inner: name.inner.clone(),
        };
        let text = inner.text(&plain, "")?;
        Ok(text.map(|(name, text)| (format!("{below}!{name}"), text)))
    }

    /// Reads a small text out of it; none when it has no such entry.
    ///
    /// # Errors
    /// When the entry is damaged, or longer than a descriptor may be.
    pub fn text_at(&mut self, name: &str) -> Result<Option<String>, ArchiveFault> {
        match RelPath::parse(name) {
            Ok(path) if self.entries.contains_key(&path) => self.small_text(&path).map(Some),
            _ => Ok(None),
        }
    }

    /// Reads several small files out of it in one pass; those that are longer than a descriptor may be are left out.
    ///
    /// # Errors
    /// When an entry is damaged.
    pub fn small_files(
        &mut self,
        wanted: &BTreeSet<RelPath>,
    ) -> Result<BTreeMap<RelPath, Vec<u8>>, ArchiveFault> {
        let mut files = BTreeMap::new();
        self.each(&|entry| wanted.contains(entry), &mut |entry| {
            let mut bytes = Vec::new();
            let mut content = entry.content.take(descriptor::LONGEST_BYTES + 1);
            content
                .read_to_end(&mut bytes)
                .map_err(|error| damaged(entry.path, &error))?;
            if bytes.len() as u64 <= descriptor::LONGEST_BYTES {
                files.insert(entry.path.clone(), bytes);
            }
            Ok(())
        })?;
        Ok(files)
    }

    fn small_text(&mut self, path: &RelPath) -> Result<String, ArchiveFault> {
        let mut bytes = Vec::new();
        self.each(&|entry| entry == path, &mut |entry| {
            let mut content = entry.content.take(descriptor::LONGEST_BYTES + 1);
            content
                .read_to_end(&mut bytes)
                .map_err(|error| damaged(path, &error))?;
            Ok(())
        })?;
        if bytes.len() as u64 > descriptor::LONGEST_BYTES {
            return Err(ArchiveFault::Bomb(format!(
                "the descriptor {:?} is over a mebibyte",
                path.as_str()
            )));
        }
        Ok(Text::read(&bytes).into_content())
    }

    /// Reads the descriptor files that a reader asks for in an archive that lies in this one.
    ///
    /// # Errors
    /// As [`Archive::open`] and [`Archive::texts`].
    pub fn texts_inside(
        &mut self,
        entry: &RelPath,
        files: &[DescriptorFile],
    ) -> Result<Vec<Found>, ArchiveFault> {
        Archive::check(self.spool(entry)?)?.texts(files, "")
    }

    /// Puts an archive that lies in this one into a file without a name.
    fn spool(&mut self, path: &RelPath) -> Result<Box<dyn Source>, ArchiveFault> {
        let mut file = here::nameless().map_err(|error| damaged(path, &error))?;
        self.each(&|entry| entry == path, &mut |mut entry| {
            if entry.bytes > MOST_INNER_BYTES {
                return Err(ArchiveFault::Bomb(format!(
                    "the archive {:?} in it has {} bytes",
                    path.as_str(),
                    entry.bytes
                )));
            }
            copy(&mut entry, &mut file)?;
            Ok(())
        })?;
        Ok(Box::new(file))
    }

    /// Reads every entry through, links among them; sorted by name.
    ///
    /// # Errors
    /// When an entry is damaged.
    pub fn contents(&mut self) -> Result<Vec<ArchivedFile>, ArchiveFault> {
        let mut contents = Vec::new();
        self.each(&|_| true, &mut |mut entry| {
            let (bytes, blake3) = copy(&mut entry, &mut io::sink())?;
            let name = entry.path.to_string();
            contents.push(ArchivedFile {
                name,
                bytes,
                blake3,
            });
            Ok(())
        })?;
        contents.extend(self.links.iter().map(|(path, target)| ArchivedFile {
            name: path.to_string(),
            bytes: target.len() as u64,
            blake3: link::mark(target),
        }));
        contents.sort();
        Ok(contents)
    }

    /// Copies one entry.
    ///
    /// # Errors
    /// When it is not there or damaged, or its copy cannot be written.
    pub fn copy(&mut self, name: &str, to: &mut dyn io::Write) -> Result<(), ArchiveFault> {
        let gone = || ArchiveFault::Broken(format!("the entry {name:?} is not in it any more"));
        let path = RelPath::parse(name).map_err(|_| gone())?;
        if !self.entries.contains_key(&path) {
            return Err(gone());
        }
        self.each(&|entry| *entry == path, &mut |mut entry| {
            copy(&mut entry, &mut *to).map(|_| ())
        })
    }

    /// Unpacks entries to new files of a server folder, runnable where the archive says so, and tells each one's BLAKE3.
    ///
    /// `archive` is the archive's own path, for messages.
    ///
    /// # Errors
    /// When an entry is damaged or a file cannot be written.
    pub fn unpack(
        &mut self,
        wanted: &BTreeMap<RelPath, RelPath>,
        folder: &Folder,
        archive: &Path,
        unpacked: &mut dyn FnMut(&RelPath, &str),
    ) -> Result<()> {
        let mut failed = None;
        let outcome = self.each(&|entry| wanted.contains_key(entry), &mut |mut entry| {
            let to = &wanted[entry.path];
            match unpack_one(&mut entry, folder, to) {
                Ok(hash) => {
                    unpacked(entry.path, &hash);
                    Ok(())
                }
                Err(Unpacking::Archive(fault)) => Err(fault),
                Err(Unpacking::Disk(error)) => {
                    failed = Some(error);
                    Err(ArchiveFault::Broken(String::new()))
                }
            }
        });
        match (failed, outcome) {
            (Some(error), _) => Err(error),
            (None, Err(fault)) => Err(Error::Archive {
                path: archive.into(),
                fault,
            }),
            (None, Ok(())) => Ok(()),
        }
    }
}

/// What went wrong while one entry was unpacked.
enum Unpacking {
    Archive(ArchiveFault),
    Disk(Error),
}

fn unpack_one(
    entry: &mut PackedFile<'_>,
    folder: &Folder,
    to: &RelPath,
) -> Result<String, Unpacking> {
    let mut file = folder.create(to).map_err(Unpacking::Disk)?;
    let mut failed = None;
    let copied = copy(
        entry,
        &mut Catching {
            file: &mut *file,
            failed: &mut failed,
        },
    );
    let disk = |result: io::Result<()>| {
        let told = result.at("writing", &folder.shown(to));
        told.map_err(Unpacking::Disk)
    };
    if let Some(error) = failed {
        disk(Err(error))?;
    }
    let (_, hash) = copied.map_err(Unpacking::Archive)?;
    if entry.is_program {
        disk(file.set_rights(PROGRAM))?;
    }
    disk(file.sync())?;
    Ok(hash)
}

fn damaged(path: &RelPath, error: &io::Error) -> ArchiveFault {
    ArchiveFault::Damaged(path.to_string(), error.to_string())
}

/// Copies an entry, and tells its size and BLAKE3.
fn copy(entry: &mut PackedFile<'_>, to: &mut dyn Write) -> Result<(u64, String), ArchiveFault> {
    let mut hasher = blake3::Hasher::new();
    let mut content = entry.content.take(entry.bytes.saturating_add(1));
    let mut buffer = vec![0; entry.bytes.clamp(1 << 10, 128 << 10) as usize];
    let mut bytes = 0u64;
    loop {
        let read = content
            .read(&mut buffer)
            .map_err(|error| damaged(entry.path, &error))?;
        if read == 0 {
            break;
        }
        bytes += read as u64;
        hasher.update(&buffer[..read]);
        to.write_all(&buffer[..read])
            .map_err(|error| damaged(entry.path, &error))?;
    }
    if bytes != entry.bytes {
        let why = format!("{bytes} bytes instead of {}", entry.bytes);
        return Err(ArchiveFault::Damaged(entry.path.to_string(), why));
    }
    Ok((bytes, hasher.finalize().to_hex().to_string()))
}

/// The list of entries while an archive is opened.
#[derive(Default)]
struct List {
    entries: BTreeMap<RelPath, u64>,
    links: BTreeMap<RelPath, String>,
    /// Names in small letters, as some disks compare them.
    folded: BTreeMap<String, String>,
    /// The folders that files lie in, likewise.
    folders: BTreeMap<String, String>,
    total: u64,
}

impl List {
    /// Takes a link in, when it leads to somewhere in the archive.
    fn add_link(&mut self, name: &str, target: &[u8]) -> Result<(), ArchiveFault> {
        let text = std::str::from_utf8(target).ok();
        let path = RelPath::from_outside(name)?;
        match text.filter(|target| link::leads_to(&path, target).is_some()) {
            None => {
                let shown = String::from_utf8_lossy(target).chars().take(120).collect();
                Err(ArchiveFault::Link(name.to_owned(), shown))
            }
            Some(target) => {
                let path = self.take_name(name, target.len() as u64)?;
                self.links.insert(path, target.to_owned());
                Ok(())
            }
        }
    }

    /// Takes a file in, when its name and the room it takes are fit for use.
    fn add(&mut self, name: &str, bytes: u64) -> Result<RelPath, ArchiveFault> {
        let path = self.take_name(name, bytes)?;
        self.entries.insert(path.clone(), bytes);
        Ok(path)
    }

    fn take_name(&mut self, name: &str, bytes: u64) -> Result<RelPath, ArchiveFault> {
        let path = RelPath::from_outside(name)?;
        if path.as_str().matches('/').count() >= DEEPEST {
            return Err(ArchiveFault::Deep(name.chars().take(120).collect()));
        }
        self.total = self.total.saturating_add(bytes);
        if self.total > MOST_BYTES {
            return Err(ArchiveFault::Bomb(format!("over {} GiB", MOST_BYTES >> 30)));
        }
        if (self.entries.len() + self.links.len()) as u64 >= MOST_ENTRIES {
            return Err(ArchiveFault::Bomb(format!("over {MOST_ENTRIES} entries")));
        }
        let folded = path.as_str().to_lowercase();
        let mut above = path.folder();
        while let Some(folder) = above {
            let folded = folder.as_str().to_lowercase();
            if let Some(file) = self.folded.get(&folded) {
                return Err(ArchiveFault::FileAndFolder(file.clone(), name.to_owned()));
            }
            // What is known has all above it known.
            if self.folders.insert(folded, name.to_owned()).is_some() {
                break;
            }
            above = folder.folder();
        }
        if let Some(below) = self.folders.get(&folded) {
            return Err(ArchiveFault::FileAndFolder(name.to_owned(), below.clone()));
        }
        if let Some(other) = self.folded.insert(folded, name.to_owned()) {
            return Err(ArchiveFault::Same(other, name.to_owned()));
        }
        Ok(path)
    }
}

/// Tells a failing write apart from a damaged entry.
struct Catching<'a> {
    file: &'a mut dyn Write,
    failed: &'a mut Option<io::Error>,
}

impl Write for Catching<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.file.write(bytes).inspect_err(|error| {
            let copy = error.raw_os_error().map_or_else(
                || io::Error::new(error.kind(), error.to_string()),
                io::Error::from_raw_os_error,
            );
            *self.failed = Some(copy);
        })
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

#[cfg(test)]
mod tests;
