//! Zip archives, checked before anything is unpacked.

use crate::error::{At, Error, Result};
use lantern_core::descriptor;
use lantern_core::path::{PathFault, RelPath};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, BufReader, Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use zip::ZipArchive;
use zip::read::ZipFile;

/// No archive may have more entries.
const MOST_ENTRIES: usize = 200_000;
/// No archive may unpack to more bytes.
const MOST_BYTES: u64 = 64 << 30;
/// No entry may unpack to more than this many times its packed size, and a mebibyte.
const MOST_TIMES: u64 = 1_000;

/// Why an archive is not used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ArchiveFault {
    /// It is no zip archive, or breaks off.
    #[error("it is not a whole zip archive: {0}")]
    Broken(String),
    /// An entry has a name that leads elsewhere or cannot be written.
    #[error("an entry is refused: {0}")]
    Name(#[from] PathFault),
    /// An entry is a link or a device.
    #[error("the entry {0:?} is a link or device, and those are refused")]
    Link(String),
    /// An entry is encrypted.
    #[error("the entry {0:?} is encrypted")]
    Encrypted(String),
    /// Two entries have the same name, or names that differ only in case.
    #[error("the entries {0:?} and {1:?} would be one file")]
    Same(String, String),
    /// It would unpack to too much.
    #[error("it would unpack to more than is allowed: {0}")]
    Bomb(String),
    /// An entry does not unpack to what the archive says.
    #[error("the entry {0:?} is damaged: {1}")]
    Damaged(String, String),
}

/// A zip archive whose entries have all been looked at.
#[derive(Debug)]
pub struct Archive {
    zip: ZipArchive<BufReader<File>>,
    entries: BTreeMap<RelPath, usize>,
}

impl Archive {
    /// Opens an archive and checks all its entries' names, kinds and sizes.
    ///
    /// # Errors
    /// [`Error::Archive`] with what is wrong with it.
    pub fn open(path: &Path) -> Result<Archive> {
        let file = File::open(path).at("reading", path)?;
        Archive::check(BufReader::new(file)).map_err(|fault| Error::Archive {
            path: path.into(),
            fault,
        })
    }

    fn check(file: BufReader<File>) -> Result<Archive, ArchiveFault> {
        let broken = |error: zip::result::ZipError| ArchiveFault::Broken(error.to_string());
        let no_end = |_| ArchiveFault::Broken("it breaks off, or is something else".into());
        let mut zip = ZipArchive::new(file).map_err(no_end)?;
        if zip.len() > MOST_ENTRIES {
            return Err(ArchiveFault::Bomb(format!("{} entries", zip.len())));
        }
        let mut entries = BTreeMap::new();
        let mut folded: BTreeMap<String, String> = BTreeMap::new();
        let mut total = 0u64;
        for index in 0..zip.len() {
            let entry = zip.by_index_raw(index).map_err(broken)?;
            let name = entry.name().map_err(broken)?.into_owned();
            let kind = entry.unix_mode().map_or(0, |mode| mode & 0o170_000);
            let plain = matches!(kind, 0 | 0o100_000) || entry.is_dir() && kind == 0o040_000;
            if !plain {
                return Err(ArchiveFault::Link(name));
            }
            if entry.encrypted() {
                return Err(ArchiveFault::Encrypted(name));
            }
            let path = RelPath::parse(&name)?;
            if entry.is_dir() {
                continue;
            }
            let allowed = entry
                .compressed_size()
                .saturating_mul(MOST_TIMES)
                .saturating_add(1 << 20);
            total = total.saturating_add(entry.size());
            if entry.size() > allowed || total > MOST_BYTES {
                return Err(ArchiveFault::Bomb(format!(
                    "{name:?} alone to {} bytes",
                    entry.size()
                )));
            }
            if let Some(other) = folded.insert(path.as_str().to_lowercase(), name.clone()) {
                return Err(ArchiveFault::Same(other, name));
            }
            entries.insert(path, index);
        }
        Ok(Archive { zip, entries })
    }

    /// The names of all files in it.
    pub fn names(&self) -> Vec<&str> {
        self.entries.keys().map(RelPath::as_str).collect()
    }

    fn entry(&mut self, path: &RelPath) -> Result<ZipFile<'_, BufReader<File>>, ArchiveFault> {
        let missing = || ArchiveFault::Broken(format!("it has no entry {path}"));
        let index = *self.entries.get(path).ok_or_else(missing)?;
        self.zip
            .by_index(index)
            .map_err(|error| ArchiveFault::Damaged(path.to_string(), error.to_string()))
    }

    /// Reads a small text out of it; none when it has no such entry.
    ///
    /// # Errors
    /// When the entry is damaged, or longer than a descriptor may be.
    pub fn text(&mut self, name: &str) -> Result<Option<String>, ArchiveFault> {
        let Some(path) = RelPath::parse(name)
            .ok()
            .filter(|path| self.entries.contains_key(path))
        else {
            return Ok(None);
        };
        let mut bytes = Vec::new();
        let mut entry = self.entry(&path)?.take(descriptor::LONGEST_BYTES + 1);
        entry
            .read_to_end(&mut bytes)
            .map_err(|error| ArchiveFault::Damaged(name.into(), error.to_string()))?;
        if bytes.len() as u64 > descriptor::LONGEST_BYTES {
            return Err(ArchiveFault::Bomb(format!(
                "the descriptor {name:?} is over a mebibyte"
            )));
        }
        Ok(Some(String::from_utf8_lossy(&bytes).into_owned()))
    }

    /// Reads every entry through: name, size and BLAKE3.
    ///
    /// # Errors
    /// When an entry is damaged.
    pub fn hashes(&mut self) -> Result<Vec<(String, u64, String)>, ArchiveFault> {
        let paths: Vec<RelPath> = self.entries.keys().cloned().collect();
        let hashed = paths.into_iter().map(|path| {
            let mut sink = io::sink();
            let (bytes, hash) = self.copy(&path, &mut sink)?;
            Ok((path.to_string(), bytes, hash))
        });
        hashed.collect()
    }

    /// Unpacks one entry to a new file, runnable where the archive says so, and returns its BLAKE3.
    ///
    /// # Errors
    /// When the entry is damaged or the file cannot be written.
    pub fn unpack(&mut self, entry: &RelPath, to: &Path, archive: &Path) -> Result<String> {
        if let Some(folder) = to.parent() {
            fs::create_dir_all(folder).at("making the folder", folder)?;
        }
        let mut file = File::create_new(to).at("writing", to)?;
        let mut failed = None;
        let copied = self.copy(
            entry,
            &mut Catching {
                file: &mut file,
                failed: &mut failed,
            },
        );
        if let Some(error) = failed {
            return Err(error).at("writing", to);
        }
        let (_, hash) = copied.map_err(|fault| Error::Archive {
            path: archive.into(),
            fault,
        })?;
        if self.is_program(entry) {
            let rights = fs::Permissions::from_mode(0o755);
            file.set_permissions(rights)
                .at("setting the rights of", to)?;
        }
        file.sync_all().at("writing", to)?;
        Ok(hash)
    }

    /// Whether the archive says that an entry may be run.
    fn is_program(&mut self, entry: &RelPath) -> bool {
        let mode = self.entry(entry).ok().and_then(|entry| entry.unix_mode());
        mode.is_some_and(|mode| mode & 0o111 != 0)
    }

    fn copy(&mut self, path: &RelPath, to: &mut dyn Write) -> Result<(u64, String), ArchiveFault> {
        let entry = self.entry(path)?;
        let stated = entry.size();
        let mut hasher = blake3::Hasher::new();
        let mut entry = entry.take(stated.saturating_add(1));
        let mut buffer = vec![0; 128 << 10];
        let mut bytes = 0;
        let damaged = |error: io::Error| ArchiveFault::Damaged(path.to_string(), error.to_string());
        loop {
            let read = entry.read(&mut buffer).map_err(damaged)?;
            if read == 0 {
                break;
            }
            bytes += read as u64;
            hasher.update(&buffer[..read]);
            to.write_all(&buffer[..read]).map_err(damaged)?;
        }
        if bytes != stated {
            let why = format!("{bytes} bytes instead of {stated}");
            return Err(ArchiveFault::Damaged(path.to_string(), why));
        }
        Ok((bytes, hasher.finalize().to_hex().to_string()))
    }
}

/// Tells a failing write apart from a damaged entry.
struct Catching<'a> {
    file: &'a mut File,
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
mod tests {
    use super::*;
    use zip::ZipWriter;
    use zip::write::SimpleFileOptions;

    fn fault(make: impl FnOnce(&mut ZipWriter<File>)) -> ArchiveFault {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.zip");
        let mut zip = ZipWriter::new(File::create(&path).unwrap());
        make(&mut zip);
        zip.finish().unwrap();
        match Archive::open(&path).map(|mut archive| archive.hashes()) {
            Err(Error::Archive { fault, .. }) | Ok(Err(fault)) => fault,
            other => panic!("{other:?}"),
        }
    }

    fn file(zip: &mut ZipWriter<File>, name: &str, content: &[u8]) {
        zip.start_file(name, SimpleFileOptions::default()).unwrap();
        zip.write_all(content).unwrap();
    }

    #[test]
    fn hostile_archives_are_refused() {
        assert!(matches!(
            fault(|zip| file(zip, "../up", b"x")),
            ArchiveFault::Name(_)
        ));
        assert!(matches!(
            fault(|zip| file(zip, "/etc/x", b"x")),
            ArchiveFault::Name(_)
        ));
        assert!(matches!(
            fault(|zip| file(zip, "a\\..\\b", b"x")),
            ArchiveFault::Name(_)
        ));
        let link = |zip: &mut ZipWriter<File>| {
            zip.add_symlink("l", "/etc/passwd", SimpleFileOptions::default())
                .unwrap();
        };
        assert!(matches!(fault(link), ArchiveFault::Link(_)));
        let twins = |zip: &mut ZipWriter<File>| {
            file(zip, "Read.me", b"1");
            file(zip, "read.ME", b"2");
        };
        assert!(matches!(fault(twins), ArchiveFault::Same(..)));
        let bomb = |zip: &mut ZipWriter<File>| file(zip, "zeros", &vec![0; 80 << 20]);
        assert!(matches!(fault(bomb), ArchiveFault::Bomb(_)));
    }

    #[test]
    fn a_damaged_entry_is_found() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.zip");
        let mut zip = ZipWriter::new(File::create(&path).unwrap());
        let stored =
            SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
        zip.start_file("a", stored).unwrap();
        zip.write_all(b"the quick brown fox").unwrap();
        zip.finish().unwrap();
        let mut bytes = fs::read(&path).unwrap();
        let at = bytes.windows(5).position(|w| w == b"brown").unwrap();
        bytes[at] = b'c';
        fs::write(&path, &bytes).unwrap();
        let mut archive = Archive::open(&path).unwrap();
        assert!(matches!(archive.hashes(), Err(ArchiveFault::Damaged(..))));
        fs::write(&path, &bytes[..bytes.len() / 2]).unwrap();
        let cut = Archive::open(&path).unwrap_err();
        assert!(matches!(
            cut,
            Error::Archive {
                fault: ArchiveFault::Broken(_),
                ..
            }
        ));
    }
}
