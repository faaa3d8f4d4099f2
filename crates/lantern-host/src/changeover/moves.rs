//! Renames that can be done again, or taken back, from wherever they were cut off.

use crate::disk;
use crate::error::{At, Error, Result};
use crate::folder::{Folder, OWN};
use lantern_core::path::RelPath;
use rustix::fs::{CWD, RenameFlags, renameat_with};
use serde::{Deserialize, Serialize};
use std::fs;
use std::io;
use std::path::Path;

/// One rename inside the server folder.
///
/// One of its ends lies in lantern's own folder, at a place that no other move uses; so what was done
/// before a kill can be told from the disk alone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Move {
    /// Where the file is.
    pub from: RelPath,
    /// Where it goes.
    pub to: RelPath,
}

/// Whether a path is in lantern's own folder.
pub fn is_own(path: &RelPath) -> bool {
    path.below(OWN).is_some()
}

impl Move {
    /// Whether it is done: the file has come to lantern's own folder, or left it.
    ///
    /// # Errors
    /// When the file is at neither of its places.
    pub fn is_done(&self, folder: &Folder) -> Result<bool> {
        let exists = |path: &RelPath| -> Result<bool> {
            Ok(fs::symlink_metadata(folder.path(path)?).is_ok())
        };
        let (own_is_from, from, to) = (is_own(&self.from), exists(&self.from)?, exists(&self.to)?);
        if !from && !to {
            return Err(Error::Lost {
                path: self.from.clone(),
            });
        }
        Ok(if own_is_from { !from } else { to })
    }

    /// The move that takes this one back.
    pub fn back(&self) -> Move {
        Move {
            from: self.to.clone(),
            to: self.from.clone(),
        }
    }
}

/// Does every move that is not done yet.
///
/// # Errors
/// When a rename fails, or a file is at neither of its places.
pub fn perform(folder: &Folder, moves: &[Move]) -> Result<()> {
    for step in moves {
        if step.is_done(folder)? {
            continue;
        }
        let (from, to) = (folder.path(&step.from)?, folder.path(&step.to)?);
        if let Some(parent) = to.parent() {
            disk::step()
                .and_then(|()| fs::create_dir_all(parent))
                .at("making the folder", parent)?;
        }
        disk::step().at("renaming", &from)?;
        rename(&from, &to)?;
    }
    Ok(())
}

/// Renames, and never over something that is there.
fn rename(from: &Path, to: &Path) -> Result<()> {
    match renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE) {
        // Some file systems cannot check and rename in one step.
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {
            if fs::symlink_metadata(to).is_ok() {
                let source = io::Error::from(io::ErrorKind::AlreadyExists);
                return Err(source).at("renaming to", to);
            }
            fs::rename(from, to).at("renaming", from)
        }
        other => other.at("renaming to", to),
    }
}

/// Removes the folders that moves have left empty.
pub fn tidy(folder: &Folder, moves: &[Move]) {
    for step in moves {
        let mut parent = step.from.folder();
        while let Some(path) = parent {
            let removed = folder
                .path(&path)
                .ok()
                .is_some_and(|real| disk::step().and_then(|()| fs::remove_dir(real)).is_ok());
            if !removed {
                break;
            }
            parent = path.folder();
        }
    }
}

/// Makes the names in all folders that moves touch last.
///
/// # Errors
/// When a folder cannot be synced.
pub fn sync(folder: &Folder, moves: &[Move]) -> Result<()> {
    let ends = moves.iter().flat_map(|step| [&step.from, &step.to]);
    let folders: std::collections::BTreeSet<_> = ends.map(RelPath::folder).collect();
    for path in folders {
        let real = match &path {
            Some(path) => folder.path(path)?,
            None => folder.root().to_owned(),
        };
        if real.is_dir() {
            crate::durable::sync_folder(&real)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn path(text: &str) -> RelPath {
        RelPath::parse(text).unwrap()
    }

    #[test]
    fn cut_off_anywhere_they_are_done_or_taken_back() {
        let moves = vec![
            Move {
                from: path("a/old"),
                to: path(".lantern/aside/old"),
            },
            Move {
                from: path(".lantern/staged/new"),
                to: path("a/old"),
            },
            Move {
                from: path(".lantern/staged/more"),
                to: path("b/c/more"),
            },
        ];
        for cut in 0..=moves.len() {
            for forward in [true, false] {
                let dir = tempfile::tempdir().unwrap();
                let folder = Folder::open(dir.path()).unwrap();
                for (file, text) in [
                    ("a/old", "old"),
                    (".lantern/staged/new", "new"),
                    (".lantern/staged/more", "more"),
                ] {
                    fs::create_dir_all(dir.path().join(file).parent().unwrap()).unwrap();
                    fs::write(dir.path().join(file), text).unwrap();
                }
                perform(&folder, &moves[..cut]).unwrap();
                let read = |file: &str| fs::read_to_string(dir.path().join(file)).ok();
                if forward {
                    perform(&folder, &moves).unwrap();
                    assert_eq!(read("a/old").as_deref(), Some("new"));
                    assert_eq!(read(".lantern/aside/old").as_deref(), Some("old"));
                    assert_eq!(read("b/c/more").as_deref(), Some("more"));
                } else {
                    let back: Vec<Move> = moves.iter().rev().map(Move::back).collect();
                    let done: Vec<Move> = back[moves.len() - cut..].to_vec();
                    perform(&folder, &done).unwrap();
                    tidy(&folder, &done);
                    assert_eq!(read("a/old").as_deref(), Some("old"));
                    assert!(!dir.path().join("b").exists());
                    assert!(!dir.path().join(".lantern/aside").exists());
                }
            }
        }
    }

    #[test]
    fn nothing_is_ever_renamed_over() {
        let dir = tempfile::tempdir().unwrap();
        let folder = Folder::open(dir.path()).unwrap();
        fs::create_dir(dir.path().join(".lantern")).unwrap();
        fs::write(dir.path().join(".lantern/a"), "a").unwrap();
        fs::write(dir.path().join("b"), "b").unwrap();
        let over = [Move {
            from: path(".lantern/a"),
            to: path("b"),
        }];
        assert!(matches!(perform(&folder, &over), Err(Error::Io { .. })));
        assert_eq!(fs::read_to_string(dir.path().join("b")).unwrap(), "b");
        let lost = [Move {
            from: path("c"),
            to: path(".lantern/d"),
        }];
        assert!(matches!(perform(&folder, &lost), Err(Error::Lost { .. })));
    }
}
