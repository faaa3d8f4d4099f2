//! `.lantern/store`: what is on the keep list, stored once for each content.
//!
//! A backup is made in two passes: the first while the server still runs, the second after it has
//! stopped, of what has changed since. `objects/ab/HASH.zst` holds the contents, `backups/NAME.json`
//! says which content was where.

use crate::changeover::free_name;
use crate::config::Server;
use crate::disk;
use crate::durable;
use crate::error::{At, Error, Result};
use crate::folder::Stamp;
use lantern_core::path::RelPath;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

/// The kept files as one pass saw and stored them.
#[derive(Debug, Default)]
pub struct Pass {
    files: BTreeMap<RelPath, (Stamp, String)>,
    /// How many bytes this pass had to read.
    pub read_bytes: u64,
}

/// A backup's own page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Manifest {
    /// The number of the format: 1.
    pub format: u32,
    /// Server, versions and day.
    pub name: String,
    /// The files, by path.
    pub files: Vec<Stored>,
}

/// One file of a backup.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Stored {
    /// Where it was.
    pub path: RelPath,
    /// Its size.
    pub bytes: u64,
    /// BLAKE3 of its content in hexadecimal.
    pub blake3: String,
}

impl Pass {
    /// Whether every kept file is still the one that this pass saw.
    ///
    /// # Errors
    /// When the folder cannot be listed.
    pub fn changes_since(&self, server: &Server) -> Result<Vec<String>> {
        let now = kept_files(server)?;
        let mut changes = Vec::new();
        for (path, stamp) in &now {
            match self.files.get(path) {
                None => changes.push(format!("{path} is new")),
                Some((seen, hash)) if seen != stamp => {
                    let real = server.folder.path(path)?;
                    if crate::folder::hash_file(&real)? != *hash {
                        changes.push(format!("{path} was written"));
                    }
                }
                Some(_) => {}
            }
        }
        let now: BTreeMap<_, _> = now.into_iter().collect();
        let gone = self.files.keys().filter(|path| !now.contains_key(*path));
        changes.extend(gone.map(|path| format!("{path} is gone")));
        Ok(changes)
    }

    /// How many files there are.
    pub fn files(&self) -> usize {
        self.files.len()
    }

    /// How large they are together, in bytes.
    pub fn bytes(&self) -> u64 {
        self.files.values().map(|(stamp, _)| stamp.bytes).sum()
    }
}

fn kept_files(server: &Server) -> Result<Vec<(RelPath, Stamp)>> {
    let mut files = server.folder.list()?.files;
    files.retain(|(path, _)| server.keeps(path.as_str()));
    Ok(files)
}

fn object(server: &Server, hash: &str) -> PathBuf {
    server
        .folder
        .own("store/objects")
        .join(&hash[..2])
        .join(format!("{hash}.zst"))
}

/// Stores every kept file whose content is not there yet; what `earlier` saw is not read again.
///
/// # Errors
/// When a file cannot be read or the store cannot be written. A file that goes away while the
/// server runs is left out.
pub fn pass(server: &Server, earlier: Option<&Pass>) -> Result<Pass> {
    let mut pass = Pass::default();
    for (path, stamp) in kept_files(server)? {
        let known = earlier.and_then(|earlier| earlier.files.get(&path));
        if let Some((seen, hash)) = known
            && *seen == stamp
        {
            pass.files.insert(path, (stamp, hash.clone()));
            continue;
        }
        let real = server.folder.path(&path)?;
        match store(server, &real) {
            Ok(hash) => {
                pass.read_bytes += stamp.bytes;
                pass.files.insert(path, (stamp, hash));
            }
            Err(Error::Io { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => {}
            Err(other) => return Err(other),
        }
    }
    Ok(pass)
}

/// Stores one file's content and returns its hash.
fn store(server: &Server, path: &Path) -> Result<String> {
    let folder = server.folder.make_own("store/objects")?;
    let mut file = File::open(path).at("reading", path)?;
    let part = folder.join(format!("{}.part", std::process::id()));
    let written = (|| -> std::io::Result<String> {
        let mut hasher = blake3::Hasher::new();
        disk::step()?;
        let mut packed = zstd::Encoder::new(File::create(&part)?, 3)?;
        let mut buffer = vec![0; 256 << 10];
        loop {
            let read = file.read(&mut buffer)?;
            if read == 0 {
                break;
            }
            hasher.update(&buffer[..read]);
            packed.write_all(&buffer[..read])?;
        }
        packed.finish()?.sync_all()?;
        Ok(hasher.finalize().to_hex().to_string())
    })();
    let hash = written.inspect_err(|_| {
        let _ = fs::remove_file(&part);
    });
    let hash = hash.at("storing", path)?;
    let object = object(server, &hash);
    if object.exists() {
        fs::remove_file(&part).at("removing", &part)?;
        return Ok(hash);
    }
    if let Some(parent) = object.parent() {
        fs::create_dir_all(parent).at("making the folder", parent)?;
    }
    disk::step()
        .and_then(|()| fs::rename(&part, &object))
        .at("renaming", &object)?;
    Ok(hash)
}

/// Writes the backup's page and returns its name: from here on it can be restored by it.
///
/// An earlier page is never written over: the name gets a number behind it.
///
/// # Errors
/// When the store cannot be written.
pub fn finish(server: &Server, pass: &Pass, name: &str) -> Result<String> {
    let folder = server.folder.make_own("store/backups")?;
    let page = free_name(|suffix| folder.join(format!("{name}{suffix}.json")));
    let name = page
        .file_stem()
        .map_or(name.into(), |stem| stem.to_string_lossy().into_owned());
    let manifest = Manifest {
        format: 1,
        name: name.clone(),
        files: pass
            .files
            .iter()
            .map(|(path, (stamp, hash))| Stored {
                path: path.clone(),
                bytes: stamp.bytes,
                blake3: hash.clone(),
            })
            .collect(),
    };
    let text = serde_json::to_vec_pretty(&manifest).expect("a manifest has only plain values");
    durable::write(&page, &text)?;
    Ok(name)
}

/// Reads a backup's page.
///
/// # Errors
/// When there is none of that name, or it cannot be made sense of.
pub fn manifest(server: &Server, name: &str) -> Result<Manifest> {
    let path = server
        .folder
        .own("store/backups")
        .join(format!("{name}.json"));
    let text = fs::read_to_string(&path).at("reading", &path)?;
    serde_json::from_str(&text).map_err(|error| Error::Config {
        path,
        why: error.to_string(),
    })
}

/// The kept files that are not as a backup has them: written, new or gone.
///
/// # Errors
/// When the backup's page or a file cannot be read.
pub fn written_since(server: &Server, name: &str) -> Result<Vec<RelPath>> {
    let manifest = manifest(server, name)?;
    let mut written = Vec::new();
    for file in &manifest.files {
        let real = server.folder.path(&file.path)?;
        let bytes = fs::metadata(&real).map(|metadata| metadata.len()).ok();
        let same = bytes == Some(file.bytes) && crate::folder::hash_file(&real)? == file.blake3;
        if !same {
            written.push(file.path.clone());
        }
    }
    let stored: BTreeSet<&RelPath> = manifest.files.iter().map(|file| &file.path).collect();
    // A new file without content is a lock, and no part of the world.
    let new = kept_files(server)?.into_iter();
    let new = new.filter(|(path, stamp)| !stored.contains(path) && stamp.bytes > 0);
    written.extend(new.map(|(path, _)| path));
    Ok(written)
}

/// Unpacks one file of a backup to a new place and checks it.
///
/// # Errors
/// When the store has lost it, or it is not what it was.
pub fn unpack(server: &Server, stored: &Stored, to: &Path) -> Result<()> {
    let object = object(server, &stored.blake3);
    let mut packed = File::open(&object)
        .and_then(zstd::Decoder::new)
        .at("reading", &object)?;
    if let Some(parent) = to.parent() {
        fs::create_dir_all(parent).at("making the folder", parent)?;
    }
    let mut file = File::create_new(to).at("writing", to)?;
    std::io::copy(&mut packed, &mut file).at("unpacking", to)?;
    file.sync_all().at("writing", to)?;
    let found = crate::folder::hash_file(to)?;
    if found != stored.blake3 {
        return Err(Error::OtherArchive {
            path: object,
            expected: stored.blake3[..12].into(),
            found: found[..12].into(),
        });
    }
    Ok(())
}
