//! Downloads: what they hold, read once. The ledger remembers hashes by how a file looks, and lists of
//! files by hash, so that what was read before is not read again.

use crate::archive::{Archive, ArchiveFault};
use crate::error::{Error, Result};
use crate::folder::{Stamp, hash_file};
use crate::ledger::{Inside, InsideKey, Ledger};
use crate::place::here;
use lantern_core::artifact::{ArchivedFile, Artifact};
use lantern_core::descriptor::Found;
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::ops::{Deref, DerefMut};
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// So many archives are held open at most, for those who look into them again.
const MOST_OPEN: usize = 64;

/// The downloads that one command looks at, several at once.
pub struct Downloads<'l> {
    /// None where no server's ledger is at hand.
    ledger: Option<&'l Ledger>,
    read: Mutex<WasRead>,
    open: Mutex<VecDeque<(String, Archive)>>,
}

/// What was read of them.
#[derive(Debug, Default)]
struct WasRead {
    /// How each looked, and its hash, by its path.
    hashed: BTreeMap<String, (Stamp, String)>,
    /// The files in each, by its hash.
    listed: BTreeMap<String, Arc<Vec<ArchivedFile>>>,
    /// Paths and hashes that the ledger has as they are.
    remembered: BTreeSet<String>,
    /// Whether the ledger has forgotten what is gone.
    is_cleared: bool,
    /// The descriptors that were found in each.
    found: BTreeMap<InsideKey, Arc<Vec<Found>>>,
    /// Those of them that the ledger does not have.
    newly_found: Vec<(InsideKey, Inside)>,
}

impl std::fmt::Debug for Downloads<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Downloads")
            .field("read", &self.read)
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
            read: Mutex::default(),
            open: Mutex::default(),
        }
    }

    fn read(&self) -> MutexGuard<'_, WasRead> {
        self.read.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The download at a path; a folder that holds what an archive would is one, too.
    ///
    /// # Errors
    /// When it cannot be read, is no whole archive, or its path is no text.
    pub fn artifact(&self, path: &Path) -> Result<Artifact> {
        let file = shown(path)?;
        let meta = here::look(path);
        if meta.is_some_and(|meta| meta.is_folder()) {
            let entries = contents_of(&mut *self.opened(&file)?, path)?;
            let blake3 = folder_hash(&entries);
            let bytes = entries.iter().map(|entry| entry.bytes).sum();
            let listed = &mut self.read().listed;
            listed.insert(blake3.clone(), Arc::new(entries));
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

    fn hash(&self, file: &str, path: &Path, stamp: Stamp) -> Result<String> {
        if let Some((known, hash)) = self.read().hashed.get(file)
            && *known == stamp
        {
            return Ok(hash.clone());
        }
        let remembered = self
            .ledger
            .map(|ledger| ledger.download(file))
            .transpose()?;
        let remembered = remembered.flatten().filter(|(known, _)| *known == stamp);
        let is_remembered = remembered.is_some();
        let hash = match remembered {
            Some((_, hash)) => hash,
            None => hash_file(path)?,
        };
        let mut read = self.read();
        if is_remembered {
            read.remembered.insert(file.to_owned());
        }
        read.hashed.insert(file.to_owned(), (stamp, hash.clone()));
        Ok(hash)
    }

    /// The files in a download that was just looked at.
    ///
    /// # Errors
    /// When it cannot be read, or an entry is damaged.
    pub fn contents(&self, artifact: &Artifact) -> Result<Arc<Vec<ArchivedFile>>> {
        if let Some(known) = self.known_contents(artifact)? {
            return Ok(known);
        }
        let path = Path::new(&artifact.file);
        let entries = Arc::new(contents_of(&mut *self.opened(&artifact.file)?, path)?);
        let listed = &mut self.read().listed;
        listed.insert(artifact.blake3.clone(), Arc::clone(&entries));
        Ok(entries)
    }

    /// The files in a download, where they were read through before.
    fn known_contents(&self, artifact: &Artifact) -> Result<Option<Arc<Vec<ArchivedFile>>>> {
        let hash = &artifact.blake3;
        if let Some(known) = self.read().listed.get(hash) {
            return Ok(Some(Arc::clone(known)));
        }
        let known = self.ledger.map(|ledger| ledger.contents(hash));
        let Some(known) = known.transpose()?.flatten().map(Arc::new) else {
            return Ok(None);
        };
        let mut read = self.read();
        read.remembered.insert(hash.clone());
        read.listed.insert(hash.clone(), Arc::clone(&known));
        Ok(Some(known))
    }

    /// The names of all files and links in a download that was just looked at, sorted.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn names(&self, artifact: &Artifact) -> Result<Vec<String>> {
        if let Some(known) = self.known_contents(artifact)? {
            return Ok(known.iter().map(|entry| entry.name.clone()).collect());
        }
        let archive = self.opened(&artifact.file)?;
        Ok(archive.names().into_iter().map(str::to_owned).collect())
    }

    /// What was found in a download, now or in an earlier command; `wanted` says what is looked for, and tells one search from another.
    ///
    /// # Errors
    /// When it cannot be opened, or the search comes to one.
    pub fn found(
        &self,
        artifact: &Artifact,
        wanted: String,
        search: impl FnOnce(&mut Archive) -> std::result::Result<Vec<Found>, ArchiveFault>,
    ) -> Result<Arc<Vec<Found>>> {
        let key = (artifact.blake3.clone(), wanted);
        if let Some(known) = self.read().found.get(&key) {
            return Ok(Arc::clone(known));
        }
        let known = self.ledger.map(|ledger| ledger.inside(&key)).transpose()?;
        let known = known.flatten().and_then(Inside::ok);
        let (found, is_new) = match known {
            Some(known) => (known, false),
            None => {
                let found = search(&mut *self.opened(&artifact.file)?);
                let found = found.map_err(|fault| Error::Archive {
                    path: Path::new(&artifact.file).into(),
                    fault,
                });
                (found?, true)
            }
        };
        let mut read = self.read();
        if is_new {
            read.newly_found.push((key.clone(), Ok(found.clone())));
        }
        let found = Arc::new(found);
        read.found.insert(key, Arc::clone(&found));
        Ok(found)
    }

    /// Opens a download to look into it; it stays open for those who ask again.
    ///
    /// # Errors
    /// As [`Archive::open`].
    pub fn archive(&self, artifact: &Artifact) -> Result<Lent<'_>> {
        self.opened(&artifact.file)
    }

    fn opened(&self, file: &str) -> Result<Lent<'_>> {
        let known = {
            let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
            let at = open.iter().position(|(known, _)| known == file);
            at.and_then(|at| open.remove(at))
        };
        let lent = match known {
            Some(known) => known,
            None => (file.to_owned(), Archive::open(Path::new(file))?),
        };
        Ok(Lent {
            open: &self.open,
            lent: Some(lent),
        })
    }

    /// The ledger of the server for which they are read; none where none is at hand.
    pub fn ledger(&self) -> Option<&Ledger> {
        self.ledger
    }

    /// Does what looks at many of them, with what the ledger knows of one moment.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn at_one_moment<T>(&self, work: impl FnOnce() -> T) -> Result<T> {
        match self.ledger {
            Some(ledger) => ledger.at_one_moment(work),
            None => Ok(work()),
        }
    }

    /// Has the ledger remember what was read.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn remember(&self) -> Result<()> {
        let Some(ledger) = self.ledger else {
            return Ok(());
        };
        let mut read = self.read();
        let keys = read.hashed.keys().chain(read.listed.keys());
        let new = keys.filter(|key| !read.remembered.contains(*key));
        let new: Vec<String> = new.cloned().collect();
        let found = std::mem::take(&mut read.newly_found);
        if new.is_empty() && found.is_empty() && read.is_cleared {
            return Ok(());
        }
        let is_new = |key: &String| !read.remembered.contains(key);
        let listed = read.listed.iter().filter(|(hash, _)| is_new(hash));
        ledger.keep_downloads(
            read.hashed.iter().filter(|(path, _)| is_new(path)),
            listed.map(|(hash, list)| (hash, &**list)),
            found.iter().map(|(key, found)| (key, found)),
        )?;
        read.remembered.extend(new);
        read.is_cleared = true;
        Ok(())
    }
}

/// An archive that is lent to one who looks into it. Who wants the same one meanwhile gets another opening of it.
#[derive(Debug)]
pub struct Lent<'d> {
    open: &'d Mutex<VecDeque<(String, Archive)>>,
    lent: Option<(String, Archive)>,
}

impl Deref for Lent<'_> {
    type Target = Archive;

    fn deref(&self) -> &Archive {
        &self.lent.as_ref().expect("it is given back at the end").1
    }
}

impl DerefMut for Lent<'_> {
    fn deref_mut(&mut self) -> &mut Archive {
        &mut self.lent.as_mut().expect("it is given back at the end").1
    }
}

impl Drop for Lent<'_> {
    fn drop(&mut self) {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let most = open.len().min(MOST_OPEN - 1);
        let closed = open.split_off(most);
        if let Some(lent) = self.lent.take() {
            open.push_front(lent);
        }
        drop(open);
        drop(closed);
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

    fn texts(archive: &mut Archive) -> std::result::Result<Vec<Found>, ArchiveFault> {
        let text = archive.text_at("addon.toml")?.unwrap_or_default();
        let name = "addon.toml".into();
        Ok(vec![Found {
            file: 0,
            name,
            text,
        }])
    }

    #[test]
    fn what_was_read_is_remembered_until_it_is_another() {
        let dir = tempfile::tempdir().unwrap();
        let (path, said) = (dir.path().join("a.zip"), dir.path().join("said"));
        let put = |text: &str| {
            zip(&path, text);
            fs::write(&said, text).unwrap();
        };
        put("id = 'a'");
        fs::create_dir(dir.path().join("server")).unwrap();
        let folder = Folder::open(&dir.path().join("server")).unwrap();
        let ledger = Ledger::open(&folder).unwrap();
        let read = || {
            let downloads = Downloads::new(&ledger);
            let artifact = downloads.artifact(&path).unwrap();
            let contents = downloads.contents(&artifact).unwrap();
            let id = downloads.found(&artifact, "its id".into(), texts);
            assert_eq!(id.unwrap()[0].text, fs::read_to_string(&said).unwrap());
            let opened = downloads.open.lock().unwrap().len();
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
        put("id = 'b'");
        let (other, contents, opened) = read();
        assert_eq!(other.bytes, first.bytes);
        assert_ne!(other.blake3, first.blake3);
        assert_eq!((contents.len(), opened), (1, 1));
        assert_eq!(other.blake3, hash_now(&path).unwrap());
        // What is gone is forgotten.
        fs::remove_file(&path).unwrap();
        Downloads::new(&ledger).remember().unwrap();
        assert!(ledger.contents(&other.blake3).unwrap().is_none());
        let key = (other.blake3, "its id".to_owned());
        assert!(ledger.inside(&key).unwrap().is_none());
    }

    #[test]
    fn one_that_is_lent_is_opened_anew_for_another() {
        let dir = tempfile::tempdir().unwrap();
        let many = MOST_OPEN + 8;
        let paths = (0..many).map(|at| dir.path().join(format!("{at:03}.zip")));
        let paths: Vec<_> = paths.collect();
        for (at, path) in paths.iter().enumerate() {
            zip(path, &format!("id = '{at}'"));
        }
        let downloads = Downloads::apart();
        let artifact = downloads.artifact(&paths[0]).unwrap();
        {
            let mut one = downloads.archive(&artifact).unwrap();
            let mut other = downloads.archive(&artifact).unwrap();
            for archive in [&mut one, &mut other] {
                let text = archive.text_at("addon.toml").unwrap().unwrap();
                assert_eq!(text, "id = '0'");
            }
        }
        // Many at once: each has its own, and not all stay open.
        std::thread::scope(|scope| {
            for start in [0, many / 2] {
                let (downloads, paths) = (&downloads, &paths);
                scope.spawn(move || {
                    for at in (0..many).map(|at| (at + start) % many) {
                        let artifact = downloads.artifact(&paths[at]).unwrap();
                        let found = downloads.found(&artifact, String::new(), texts);
                        assert_eq!(found.unwrap()[0].text, format!("id = '{at}'"));
                    }
                });
            }
        });
        assert_eq!(downloads.open.lock().unwrap().len(), MOST_OPEN);
        // What is in one is the same, whether it was read through or not.
        let names = downloads.names(&artifact).unwrap();
        downloads.contents(&artifact).unwrap();
        assert_eq!(names, ["addon.toml"]);
        assert_eq!(names, downloads.names(&artifact).unwrap());
    }
}
