//! The store of what was gathered: files by what they hold, for all servers of this machine.
//!
//! `files/ab/abcdef…/NAME` is a whole file by its BLAKE3; `by/KIND-HEX` says which one has another hash. `parts/` holds what
//! is on its way. Whoever takes a file from here looks at its hash again.

use super::hashes_of;
use crate::error::{Error, Result};
use crate::place::here::{self, Growing};
use lantern_core::supply::{Checksum, HashKind, Supply};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

/// The store of what was gathered.
#[derive(Debug, Clone)]
pub struct Store {
    root: PathBuf,
}

/// What is in a store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stored {
    /// Where it lies.
    pub path: PathBuf,
    /// Its BLAKE3.
    pub blake3: String,
    /// Its size in bytes.
    pub bytes: u64,
}

/// Where the user's files lie that can be had again: `XDG_CACHE_HOME`, or `~/.cache`.
fn caches() -> Option<PathBuf> {
    let of = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty());
    let home = || of("HOME").map(|home| PathBuf::from(home).join(".cache"));
    of("XDG_CACHE_HOME").map(PathBuf::from).or_else(home)
}

/// What a supply is known by: a hash that names one file alone, else its addresses and what is known of it.
fn key(supply: &Supply) -> String {
    let strong = supply.checks.iter().find(|check| check.kind.is_strong());
    if let Some(check) = strong {
        return format!("{}-{}", check.kind, check.hex);
    }
    let mut hasher = blake3::Hasher::new();
    for url in &supply.urls {
        hasher.update(url.as_bytes());
        hasher.update(&[0]);
    }
    for check in &supply.checks {
        hasher.update(check.hex.as_bytes());
    }
    format!("from-{}", hasher.finalize().to_hex())
}

impl Store {
    /// The store at a folder, or the user's own.
    pub fn at(folder: Option<&Path>) -> Store {
        let own = || caches().unwrap_or_else(std::env::temp_dir).join("lantern");
        Store {
            root: folder.map_or_else(own, Path::to_owned),
        }
    }

    /// Where it lies.
    pub fn root(&self) -> &Path {
        &self.root
    }

    fn folder_of(&self, blake3: &str) -> PathBuf {
        let begin = blake3.get(..2).unwrap_or_default();
        self.root.join("files").join(begin).join(blake3)
    }

    fn by(&self, check: &Checksum) -> PathBuf {
        self.root
            .join("by")
            .join(format!("{}-{}", check.kind, check.hex))
    }

    /// The BLAKE3 of a file with a hash that somebody states, where that is known.
    fn blake3_of(&self, check: &Checksum) -> Option<String> {
        match check.kind {
            HashKind::Blake3 => Some(check.hex.clone()),
            _ => {
                let text = here::read_text(&self.by(check)).ok()?;
                Checksum::of(HashKind::Blake3, &text).ok().map(|it| it.hex)
            }
        }
    }

    /// The file that is meant, where it is here whole, under the name that it is to have.
    pub fn find(&self, supply: &Supply) -> Option<Stored> {
        let strong = supply.checks.iter().filter(|check| check.kind.is_strong());
        let mut hashes = strong.filter_map(|check| self.blake3_of(check));
        let blake3 = hashes.next().or_else(|| {
            let text = here::read_text(&self.meant(supply)).ok()?;
            Checksum::of(HashKind::Blake3, &text).ok().map(|it| it.hex)
        })?;
        self.with_name(&blake3, &supply.name)
    }

    /// What says which file came of a supply: by its addresses, where nobody states a hash that names one file alone.
    fn meant(&self, supply: &Supply) -> PathBuf {
        self.root.join("by").join(key(supply))
    }

    fn with_name(&self, blake3: &str, name: &str) -> Option<Stored> {
        let folder = self.folder_of(blake3);
        let path = folder.join(name);
        if here::look(&path).is_none() {
            let other = here::list(&folder).ok()?.into_iter().next()?;
            here::link(&other, &path).ok()?;
        }
        let meta = here::look(&path).filter(|meta| meta.is_file())?;
        Some(Stored {
            path,
            blake3: blake3.to_owned(),
            bytes: meta.stamp.bytes,
        })
    }

    /// Where a file lies while it is on its way.
    pub(super) fn part(&self, supply: &Supply) -> Result<PathBuf> {
        let parts = self.root.join("parts");
        here::make_folders(&parts)?;
        Ok(parts.join(format!("{}.part", key(supply))))
    }

    /// Makes what is whole by now a file of the store.
    pub(super) fn keep(
        &self,
        part: &Path,
        supply: &Supply,
        hashes: &[Checksum],
        bytes: u64,
    ) -> Result<Stored> {
        let blake3 = hashes.iter().find(|check| check.kind == HashKind::Blake3);
        let blake3 = blake3.map(|check| check.hex.clone()).unwrap_or_default();
        let folder = self.folder_of(&blake3);
        here::make_folders(&folder)?;
        let path = folder.join(&supply.name);
        here::put(part, &path)?;
        let by_others = hashes.iter().filter(|check| check.kind != HashKind::Blake3);
        let mut notes: Vec<PathBuf> = by_others.map(|check| self.by(check)).collect();
        if !supply.checks.iter().any(|check| check.kind.is_strong()) {
            notes.push(self.meant(supply));
        }
        if !notes.is_empty() {
            here::make_folders(&self.root.join("by"))?;
        }
        // Where a note is lost, the file is fetched once more.
        for note in notes {
            here::note(&note, blake3.as_bytes())?;
        }
        Ok(Stored {
            path,
            blake3,
            bytes,
        })
    }

    /// Has a file of somewhere else, too.
    pub(super) fn take(
        &self,
        path: &Path,
        supply: &Supply,
        hashes: &[Checksum],
        bytes: u64,
    ) -> Result<Stored> {
        let part = self.part(supply)?.with_extension("taken");
        let _ = here::remove(&part);
        here::copy(path, &part)?;
        self.keep(&part, supply, hashes, bytes)
    }

    /// Has a file that somebody sends: `write` is given the file that it goes to.
    ///
    /// # Errors
    /// When it does not come whole, is not what its supply states, or the disk refuses.
    pub(crate) fn receive(
        &self,
        supply: &Supply,
        write: &mut dyn FnMut(&mut dyn Write) -> io::Result<()>,
    ) -> Result<()> {
        let part = self.part(supply)?.with_extension("sent");
        here::write_whole(&part, &mut |file| write(file))?;
        let unread = |source| Error::Io {
            doing: "reading",
            path: part.clone(),
            source,
        };
        let kinds = supply.checks.iter().map(|check| check.kind);
        let hashes = here::open(&part).and_then(|mut file| hashes_of(&mut file, kinds));
        let hashes = hashes.map_err(unread)?;
        let other = supply.checks.iter().find(|check| !hashes.contains(check));
        if other.is_some() || supply.checks.is_empty() {
            here::remove(&part)?;
            let source = io::Error::other("it is not the file that was announced");
            return Err(unread(source));
        }
        let bytes = here::look(&part).map_or(0, |meta| meta.stamp.bytes);
        self.keep(&part, supply, &hashes, bytes).map(drop)
    }

    /// All whole files, those that were used longest ago first: when that was, in seconds, the size and the path.
    fn all(&self) -> Result<Vec<(u64, u64, PathBuf)>> {
        let mut files = Vec::new();
        let folder = self.root.join("files");
        if here::look(&folder).is_none() {
            return Ok(files);
        }
        for begin in here::list(&folder)? {
            for hash in here::list(&begin)? {
                for path in here::list(&hash)? {
                    if let Some((used, bytes)) = here::used(&path) {
                        files.push((used, bytes, path));
                    }
                }
            }
        }
        files.sort();
        Ok(files)
    }

    /// How much there is, in files and bytes.
    ///
    /// # Errors
    /// When it cannot be listed.
    pub fn held(&self) -> Result<(usize, u64)> {
        let files = self.all()?;
        Ok((files.len(), files.iter().map(|(_, bytes, _)| bytes).sum()))
    }

    /// Takes out what was used longest ago and is not to stay, until no more than so many bytes are left, and all that never
    /// came to its end. Returns how much went, in files and bytes.
    ///
    /// # Errors
    /// When it cannot be listed, or a file not be removed.
    pub fn clean(&self, most: u64, stays: &[PathBuf]) -> Result<(usize, u64)> {
        let files = self.all()?;
        let mut left: u64 = files.iter().map(|(_, bytes, _)| bytes).sum();
        let mut gone = (0, 0);
        for (_, bytes, path) in files.into_iter().filter(|(.., path)| !stays.contains(path)) {
            if left <= most {
                break;
            }
            here::remove(&path)?;
            if let Some(folder) = path.parent() {
                here::remove_empty(folder);
            }
            left -= bytes;
            gone = (gone.0 + 1, gone.1 + bytes);
        }
        let parts = self.root.join("parts");
        if here::look(&parts).is_some() {
            let all = here::list(&parts)?.into_iter();
            for path in all.filter(|path| !Growing::is_busy(path)) {
                let bytes = here::look(&path).map_or(0, |meta| meta.stamp.bytes);
                here::remove(&path)?;
                gone = (gone.0 + 1, gone.1 + bytes);
            }
        }
        Ok(gone)
    }
}
