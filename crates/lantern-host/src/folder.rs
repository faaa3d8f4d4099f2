//! The server folder, and nothing outside it.

use crate::error::{At, Error, Result};
use lantern_core::path::RelPath;
use lantern_core::text::Text;
use serde::{Deserialize, Serialize};
use std::cell::RefCell;
use std::fs::{self, DirBuilder};
use std::io::{ErrorKind, Read};
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::path::{Path, PathBuf};
use walkdir::{DirEntry, WalkDir};

/// So much of a file is read and hashed at once, in bytes.
const HASHED_AT_ONCE: usize = 128 << 10;

/// The folder of lantern's own files inside a server folder.
pub const OWN: &str = ".lantern";

/// A server folder.
#[derive(Debug, Clone)]
pub struct Folder {
    root: PathBuf,
    followed: Vec<Followed>,
}

/// A link that is taken for the folder it leads to, such as that of a world on another disk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Followed {
    /// Where the link is.
    pub at: RelPath,
    /// The folder it leads to, outside the server folder.
    pub target: PathBuf,
}

/// What the system says of a file; when all of it is as before, so is the content.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Stamp {
    /// Its size.
    pub bytes: u64,
    /// When it was last written, in nanoseconds since 1970.
    pub modified_ns: i64,
    /// When its content, name or rights last changed, in nanoseconds since 1970.
    pub changed_ns: i64,
    /// Its number in the file system.
    pub inode: u64,
}

impl Stamp {
    /// Reads the stamp of a file.
    pub fn of(metadata: &fs::Metadata) -> Stamp {
        let ns = |seconds: i64, rest: i64| seconds.wrapping_mul(1_000_000_000).wrapping_add(rest);
        Stamp {
            bytes: metadata.len(),
            modified_ns: ns(metadata.mtime(), metadata.mtime_nsec()),
            changed_ns: ns(metadata.ctime(), metadata.ctime_nsec()),
            inode: metadata.ino(),
        }
    }
}

/// What lies in a folder, lantern's own files left out.
#[derive(Debug, Default)]
pub struct Listing {
    /// The regular files, by path.
    pub files: Vec<(RelPath, Stamp)>,
    /// Links, devices and names that cannot be dealt with: shown, never touched.
    pub left_alone: Vec<String>,
}

impl Folder {
    /// Opens a folder.
    ///
    /// # Errors
    /// When it is none.
    pub fn open(path: &Path) -> Result<Folder> {
        if !path.is_dir() {
            return Err(Error::NotAFolder(path.into()));
        }
        let root = path.canonicalize().at("opening", path)?;
        Ok(Folder {
            root,
            followed: Vec::new(),
        })
    }

    /// Takes links that are wanted for the folders they lead to, where those lie outside this one.
    pub fn following(mut self, wanted: impl Fn(&str) -> bool) -> Folder {
        let mut next = vec![(self.root.clone(), None)];
        while let Some((top, at)) = next.pop() {
            for link in links(&top) {
                let Some(at) = relative(&top, at.as_ref(), &link).filter(|at| wanted(at.as_str()))
                else {
                    continue;
                };
                let Some(target) = link.canonicalize().ok().filter(|target| target.is_dir()) else {
                    continue;
                };
                // A folder that is seen already, or holds one that is, would be seen twice or for ever.
                let meets = |known: &Path| target.starts_with(known) || known.starts_with(&target);
                if meets(&self.root) || self.followed.iter().any(|known| meets(&known.target)) {
                    continue;
                }
                next.push((target.clone(), Some(at.clone())));
                self.followed.push(Followed { at, target });
            }
        }
        self
    }

    /// The links that are taken for folders.
    pub fn followed(&self) -> &[Followed] {
        &self.followed
    }

    /// The path inside this folder of a file that the system names; none when it is not in it.
    pub fn below(&self, real: &Path) -> Option<PathBuf> {
        let inside = real.strip_prefix(&self.root).map(Path::to_owned);
        let mut behind = self.followed.iter().filter_map(|followed| {
            let below = real.strip_prefix(&followed.target).ok()?;
            Some(Path::new(followed.at.as_str()).join(below))
        });
        inside.ok().or_else(|| behind.next())
    }

    /// Whether a file can get to a path from lantern's own folder by a rename: whether both are on
    /// one disk.
    ///
    /// # Errors
    /// When a folder on the way is a link that is not followed, or the system does not tell.
    pub fn is_on_own_disk(&self, path: &RelPath) -> Result<bool> {
        let mut real = self.path(path)?;
        // Folders are compared: in layered file systems a file may have the number of another disk.
        while real.pop() && !real.exists() {}
        let disk = |path: &Path| fs::metadata(path).map(|metadata| metadata.dev());
        let own = self.own("");
        Ok(disk(&real).at("looking at", &real)? == disk(&own).at("looking at", &own)?)
    }

    /// The folder's own path.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// The path of one of lantern's own files.
    pub fn own(&self, name: &str) -> PathBuf {
        self.root.join(OWN).join(name)
    }

    /// Makes lantern's own folder, and one inside it. Plans and backups hold settings files, and with
    /// them what is secret there: so it is the owner's alone.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn make_own(&self, name: &str) -> Result<PathBuf> {
        let root = self.root.join(OWN);
        let made = DirBuilder::new().mode(0o700).create(&root);
        match made {
            Err(error) if error.kind() != ErrorKind::AlreadyExists => {
                return Err(error).at("making the folder", &root);
            }
            _ => {}
        }
        let path = self.own(name);
        fs::create_dir_all(&path).at("making the folder", &path)?;
        Ok(path)
    }

    /// The real path of a file, when no link on the way leads elsewhere, but such as are followed.
    ///
    /// # Errors
    /// When a folder on the way is another link.
    pub fn path(&self, path: &RelPath) -> Result<PathBuf> {
        let mut real = self.root.clone();
        let mut parts = path.as_str().split('/').peekable();
        let is_followed = |real: &Path| {
            let mut known = self.followed.iter();
            known.any(|followed| real == self.root.join(followed.at.as_str()))
        };
        while let Some(part) = parts.next() {
            real.push(part);
            let is_link = || fs::symlink_metadata(&real).is_ok_and(|m| m.file_type().is_symlink());
            if parts.peek().is_some() && is_link() && !is_followed(&real) {
                let source = std::io::Error::other("a link on the way leads out of the folder");
                return Err(source).at("following", &real);
            }
        }
        Ok(real)
    }

    /// Lists every file but lantern's own, and those in followed folders.
    ///
    /// # Errors
    /// When a folder cannot be read.
    pub fn list(&self) -> Result<Listing> {
        let mut listing = Listing::default();
        self.list_in(&self.root, None, &mut listing)?;
        for Followed { at, target } in &self.followed {
            self.list_in(target, Some(at), &mut listing)?;
        }
        listing.files.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(listing)
    }

    fn list_in(&self, top: &Path, at: Option<&RelPath>, listing: &mut Listing) -> Result<()> {
        let is_own =
            |entry: &DirEntry| at.is_none() && entry.depth() == 1 && entry.file_name() == OWN;
        let walk = WalkDir::new(top)
            .sort_by_file_name()
            .into_iter()
            .filter_entry(|entry| !is_own(entry));
        for entry in walk {
            let entry = match entry {
                Ok(entry) => entry,
                // A server at work makes and removes files while they are listed.
                Err(error)
                    if error
                        .io_error()
                        .is_some_and(|e| e.kind() == std::io::ErrorKind::NotFound) =>
                {
                    continue;
                }
                Err(error) => {
                    let path = error.path().unwrap_or(top).to_owned();
                    let source = std::io::Error::from(error);
                    return Err(source).at("listing", &path);
                }
            };
            if entry.file_type().is_dir() {
                continue;
            }
            let path = relative(top, at, entry.path());
            if self
                .followed
                .iter()
                .any(|followed| Some(&followed.at) == path.as_ref())
            {
                continue;
            }
            match (path, entry.metadata()) {
                (Some(path), Ok(metadata)) if metadata.is_file() => {
                    listing.files.push((path, Stamp::of(&metadata)));
                }
                (_, Err(_)) => {}
                (Some(path), _) => listing.left_alone.push(path.to_string()),
                (None, _) => {
                    let below = entry.path().strip_prefix(top).unwrap_or(entry.path());
                    let shown = below.to_string_lossy().escape_default().to_string();
                    let prefix = at.map_or(String::new(), |at| format!("{at}/"));
                    listing.left_alone.push(format!("{prefix}{shown}"));
                }
            }
        }
        Ok(())
    }

    /// Reads a text file.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn read_text(&self, path: &RelPath) -> Result<Text> {
        let real = self.path(path)?;
        Ok(Text::read(&fs::read(&real).at("reading", &real)?))
    }
}

/// The links below a folder; what cannot be read has none.
fn links(top: &Path) -> Vec<PathBuf> {
    let walk = WalkDir::new(top).into_iter();
    let entries = walk.filter_entry(|entry| entry.depth() != 1 || entry.file_name() != OWN);
    let links = entries.flatten().filter(DirEntry::path_is_symlink);
    let mut links: Vec<PathBuf> = links.map(DirEntry::into_path).collect();
    links.sort();
    links
}

/// The path of what lies below a folder that stands for one of a server.
fn relative(top: &Path, at: Option<&RelPath>, real: &Path) -> Option<RelPath> {
    let below = RelPath::parse(real.strip_prefix(top).ok()?.to_str()?).ok()?;
    match at {
        None => Some(below),
        Some(at) => at.join(below.as_str()).ok(),
    }
}

/// How much room is left on the disk of a path, in bytes.
///
/// # Errors
/// When the system does not tell.
pub fn free_bytes(path: &Path) -> Result<u64> {
    let stat = rustix::fs::statvfs(path).at("looking at the disk of", path)?;
    Ok(stat.f_bavail.saturating_mul(stat.f_frsize))
}

/// Hashes a file's content; BLAKE3 in hexadecimal. Never holds more than a piece of it in memory.
///
/// # Errors
/// When it cannot be read.
pub fn hash_file(path: &Path) -> Result<String> {
    // One buffer for each thread: most files are far smaller than it.
    thread_local! {
        static BUFFER: RefCell<Vec<u8>> = RefCell::new(vec![0; HASHED_AT_ONCE]);
    }
    let mut file = fs::File::open(path).at("reading", path)?;
    let mut hasher = blake3::Hasher::new();
    BUFFER.with_borrow_mut(|buffer| {
        loop {
            match file.read(buffer).at("reading", path)? {
                0 => return Ok(hasher.finalize().to_hex().to_string()),
                read => hasher.update(&buffer[..read]),
            };
        }
    })
}
