//! Downloads: what they hold, read once. The ledger remembers hashes by how a file looks, and lists of
//! files by hash, so that what was read before is not read again.

use crate::archive::Archive;
use crate::error::{Error, Result};
use crate::folder::{Stamp, hash_file};
use crate::ledger::Ledger;
use crate::place::here;
use lantern_core::artifact::{ArchivedFile, Artifact};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::path::Path;

/// So many archives are held open at most, for those who look into them again.
const MOST_OPEN: usize = 64;

/// The downloads that one command looks at.
pub struct Downloads<'l> {
    /// None where no server's ledger is at hand.
    ledger: Option<&'l Ledger>,
    hashed: BTreeMap<String, (Stamp, String)>,
    listed: BTreeMap<String, Vec<ArchivedFile>>,
    /// Paths and hashes that the ledger has as they are.
    remembered: BTreeSet<String>,
    open: VecDeque<(String, Archive)>,
}

impl std::fmt::Debug for Downloads<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Downloads")
            .field("hashed", &self.hashed)
            .finish_non_exhaustive()
    }
}

impl<'l> Downloads<'l> {
    /// None looked at yet.
    pub fn new(ledger: &'l Ledger) -> Downloads<'l> {
        Downloads {
            ledger: Some(ledger),
            ..Downloads::apart()
        }
    }

    /// None looked at yet, and nothing remembered.
    pub fn apart() -> Downloads<'l> {
        Downloads {
            ledger: None,
            hashed: BTreeMap::new(),
            listed: BTreeMap::new(),
            remembered: BTreeSet::new(),
            open: VecDeque::new(),
        }
    }

    /// The download at a path; a folder that holds what an archive would is one, too.
    ///
    /// # Errors
    /// When it cannot be read, is no whole archive, or its path is no text.
    pub fn artifact(&mut self, path: &Path) -> Result<Artifact> {
        let file = shown(path)?;
        let meta = here::look(path);
        if meta.is_some_and(|meta| meta.is_folder()) {
            let entries = contents_of(self.opened(&file)?, path)?;
            let blake3 = folder_hash(&entries);
            let bytes = entries.iter().map(|entry| entry.bytes).sum();
            self.listed.insert(blake3.clone(), entries);
            return Ok(Artifact {
                file,
                blake3,
                bytes,
                urls: Vec::new(),
            });
        }
        let blake3 = match meta {
            Some(meta) => self.hash(&file, path, meta.stamp)?,
            None => hash_file(path)?,
        };
        Ok(Artifact {
            file,
            blake3,
            bytes: meta.map_or(0, |meta| meta.stamp.bytes),
            urls: Vec::new(),
        })
    }

    fn hash(&mut self, file: &str, path: &Path, stamp: Stamp) -> Result<String> {
        if let Some((known, hash)) = self.hashed.get(file)
            && *known == stamp
        {
            return Ok(hash.clone());
        }
        let remembered = self
            .ledger
            .map(|ledger| ledger.download(file))
            .transpose()?;
        let remembered = remembered.flatten();
        let hash = match remembered {
            Some((known, hash)) if known == stamp => {
                self.remembered.insert(file.to_owned());
                hash
            }
            _ => hash_file(path)?,
        };
        self.hashed.insert(file.to_owned(), (stamp, hash.clone()));
        Ok(hash)
    }

    /// The files in a download that was just looked at.
    ///
    /// # Errors
    /// When it cannot be read, or an entry is damaged.
    pub fn contents(&mut self, artifact: &Artifact) -> Result<Vec<ArchivedFile>> {
        let hash = &artifact.blake3;
        if let Some(known) = self.listed.get(hash) {
            return Ok(known.clone());
        }
        let known = self
            .ledger
            .map(|ledger| ledger.contents(hash))
            .transpose()?;
        let entries = match known.flatten() {
            Some(known) => {
                self.remembered.insert(hash.clone());
                known
            }
            None => contents_of(self.opened(&artifact.file)?, Path::new(&artifact.file))?,
        };
        self.listed.insert(hash.clone(), entries.clone());
        Ok(entries)
    }

    /// Opens a download to look into it; it stays open for those who ask again.
    ///
    /// # Errors
    /// As [`Archive::open`].
    pub fn archive(&mut self, artifact: &Artifact) -> Result<&mut Archive> {
        self.opened(&artifact.file)
    }

    fn opened(&mut self, file: &str) -> Result<&mut Archive> {
        let at = match self.open.iter().position(|(known, _)| known == file) {
            Some(at) => at,
            None => {
                let archive = Archive::open(Path::new(file))?;
                self.open.truncate(MOST_OPEN - 1);
                self.open.push_front((file.to_owned(), archive));
                0
            }
        };
        Ok(&mut self.open[at].1)
    }

    /// The ledger of the server for which they are read; none where none is at hand.
    pub fn ledger(&self) -> Option<&Ledger> {
        self.ledger
    }

    /// Has the ledger remember what was read.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn remember(&self) -> Result<()> {
        let Some(ledger) = self.ledger else {
            return Ok(());
        };
        let is_new = |key: &String| !self.remembered.contains(key);
        ledger.keep_downloads(
            self.hashed.iter().filter(|(path, _)| is_new(path)),
            self.listed.iter().filter(|(hash, _)| is_new(hash)),
        )
    }
}

fn contents_of(archive: &mut Archive, path: &Path) -> Result<Vec<ArchivedFile>> {
    archive.contents().map_err(|fault| Error::Archive {
        path: path.into(),
        fault,
    })
}

fn folder_hash(entries: &[ArchivedFile]) -> String {
    let files = entries.iter();
    let files = files.map(|entry| (entry.name.as_str(), entry.blake3.as_str()));
    lantern_core::tree::tree_hash(files)
}

/// The beginning of a hash, for messages.
pub fn shortened(hash: &str) -> String {
    hash.chars().take(12).collect()
}

/// The hash of a download as it is now, whatever was remembered of it.
///
/// # Errors
/// When it cannot be read.
pub fn hash_now(path: &Path) -> Result<String> {
    if !here::look(path).is_some_and(|meta| meta.is_folder()) {
        return hash_file(path);
    }
    Ok(folder_hash(&contents_of(&mut Archive::open(path)?, path)?))
}

/// A path that holds from wherever a plan is carried out.
///
/// # Errors
/// When it is no text: plans and catalogues could not name it.
fn shown(path: &Path) -> Result<String> {
    let whole = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    match whole.to_str() {
        Some(text) => Ok(text.to_owned()),
        None => Err(Error::OddPath(whole)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::folder::Folder;
    use std::fs;
    use std::io::Write as _;

    fn zip(path: &Path, text: &str) {
        let mut zip = zip::ZipWriter::new(fs::File::create(path).unwrap());
        let options = zip::write::SimpleFileOptions::default();
        zip.start_file("addon.toml", options).unwrap();
        zip.write_all(text.as_bytes()).unwrap();
        zip.finish().unwrap();
    }

    #[test]
    fn what_was_read_is_remembered_until_it_is_another() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.zip");
        zip(&path, "id = 'a'");
        fs::create_dir(dir.path().join("server")).unwrap();
        let folder = Folder::open(&dir.path().join("server")).unwrap();
        let ledger = Ledger::open(&folder).unwrap();
        let read = || {
            let mut downloads = Downloads::new(&ledger);
            let artifact = downloads.artifact(&path).unwrap();
            let contents = downloads.contents(&artifact).unwrap();
            let opened = downloads.open.len();
            downloads.remember().unwrap();
            (artifact, contents, opened)
        };
        let (first, contents, opened) = read();
        assert_eq!((contents[0].name.as_str(), opened), ("addon.toml", 1));
        // Nothing is opened the second time, and the hash is not taken again.
        let (again, same, opened) = read();
        assert_eq!((&again, &same, opened), (&first, &contents, 0));
        // Another file of the same name and size is read anew.
        fs::remove_file(&path).unwrap();
        zip(&path, "id = 'b'");
        let (other, contents, opened) = read();
        assert_eq!(other.bytes, first.bytes);
        assert_ne!(other.blake3, first.blake3);
        assert_eq!((contents.len(), opened), (1, 1));
        assert_eq!(other.blake3, hash_now(&path).unwrap());
        // What is gone is forgotten.
        fs::remove_file(&path).unwrap();
        Downloads::new(&ledger).remember().unwrap();
        assert!(ledger.contents(&other.blake3).unwrap().is_none());
    }
}
