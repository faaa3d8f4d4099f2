//! `backups/NAME.json`: the page of a backup, and the list of its files.
//!
//! The list is a content of the store like any other, a line for each file in the order of their paths; what two backups
//! have in common of it is there once.

use super::store::{Needed, Store, Tree};
use crate::backup::fault::BackupFault;
use crate::error::{Error, Result};
use crate::folder::Stamp;
use crate::place::Meta;
use lantern_core::operation::Scope;
use lantern_core::path::RelPath;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// The number of a page's format; [`BEFORE`] and [`OLD`] are read, too.
const FORMAT: u32 = 4;

/// The format before, which knew neither folders nor links, nor whose a file is.
const BEFORE: u32 = 3;

/// The format before that, in which a page held the list itself.
const OLD: u32 = 2;

/// A backup's own page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Page {
    format: u32,
    /// Server, versions and day.
    pub name: String,
    /// Higher than that of every one made before it; 0 in backups of earlier lanterns. What clocks say may be set back.
    #[serde(default)]
    pub number: u64,
    /// What it is of.
    pub scope: Scope,
    /// When it was made, in milliseconds since 1970.
    pub made_ms: i64,
    /// What the administrator says of it.
    pub note: Option<String>,
    /// Whether the administrator gave it its name: it is not thinned out with the others.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub named: bool,
    /// How much the store grew by it, in bytes, with all that only lantern needs.
    pub stored_bytes: u64,
    /// How many files it has.
    pub files: usize,
    /// How large they are together, in bytes.
    pub bytes: u64,
    /// The list of its files.
    list: Tree,
}

/// A page of format 2.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct OldPage {
    format: u32,
    name: String,
    scope: Scope,
    made_ms: i64,
    note: Option<String>,
    stored_bytes: u64,
    files: Vec<Stored>,
}

/// One file of a backup.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Stored {
    /// Where it was.
    pub path: RelPath,
    /// Its size.
    pub bytes: u64,
    /// BLAKE3 of its content in hexadecimal; of a link its mark.
    pub blake3: String,
    /// Its rights, as the system's number.
    pub mode: u32,
    /// The number of the user whom it belongs to; none in backups of earlier lanterns.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<u32>,
    /// The number of its group, likewise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<u32>,
    /// Its extended attributes, by name; values in hexadecimal.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub attributes: BTreeMap<String, String>,
    /// What the system said of it: unchanged, it is not read again.
    pub(crate) stamp: Stamp,
    /// Its content.
    #[serde(default, skip_serializing_if = "is_zero")]
    depth: u8,
    pieces: String,
}

fn is_zero(depth: &u8) -> bool {
    *depth == 0
}

/// One folder of a backup.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StoredFolder {
    /// Where it was.
    pub folder: RelPath,
    /// Its rights, as the system's number.
    pub mode: u32,
    /// The number of the user whom it belongs to.
    pub user: u32,
    /// The number of its group.
    pub group: u32,
    /// Its extended attributes, by name; values in hexadecimal.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub attributes: BTreeMap<String, String>,
}

impl Stored {
    /// The same content, and nobody's.
    pub fn of_nobody(self) -> Stored {
        Stored {
            user: None,
            group: None,
            ..self
        }
    }

    /// A file or link whose content is in the store.
    pub(super) fn new(
        path: &RelPath,
        (bytes, blake3): (u64, String),
        meta: &Meta,
        attributes: BTreeMap<String, String>,
        stamp: Stamp,
        tree: Tree,
    ) -> Stored {
        Stored {
            path: path.clone(),
            bytes,
            blake3,
            mode: meta.rights,
            user: Some(meta.owner),
            group: Some(meta.group),
            attributes,
            stamp,
            depth: tree.depth,
            pieces: tree.pieces,
        }
    }

    /// Says where its content lies now.
    pub(super) fn move_to(&mut self, tree: Tree) {
        self.depth = tree.depth;
        self.pieces = tree.pieces;
    }

    /// Where its content lies.
    pub(super) fn tree(&self) -> Tree {
        Tree {
            depth: self.depth,
            pieces: self.pieces.clone(),
        }
    }
}

/// A backup with all its files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Manifest {
    /// Server, versions and day.
    pub name: String,
    /// Higher than that of every one made before it.
    pub number: u64,
    /// What it is of.
    pub scope: Scope,
    /// When it was made, in milliseconds since 1970.
    pub made_ms: i64,
    /// What the administrator says of it.
    pub note: Option<String>,
    /// Whether the administrator gave it its name.
    pub named: bool,
    /// How much the store grew by it, in bytes.
    pub stored_bytes: u64,
    /// The files, by path.
    pub files: Vec<Stored>,
    /// The folders, by path; none in backups of earlier lanterns.
    pub folders: Vec<StoredFolder>,
}

impl Manifest {
    /// How large its files are together, in bytes.
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(|file| file.bytes).sum()
    }

    /// The paths of its files.
    pub fn paths(&self) -> BTreeSet<&RelPath> {
        self.files.iter().map(|file| &file.path).collect()
    }
}

/// A page as it was found.
#[derive(Clone)]
pub(super) enum Found {
    /// Of this format.
    Page(Page),
    /// Of the format before; with its files.
    Old(Manifest),
}

impl Found {
    /// Reads a page.
    ///
    /// # Errors
    /// With why it makes no sense, in words.
    pub(super) fn parse(text: &[u8]) -> std::result::Result<Found, String> {
        #[derive(Deserialize)]
        struct Numbered {
            format: u32,
        }
        let said = |error: serde_json::Error| error.to_string();
        let Numbered { format } = serde_json::from_slice(text).map_err(said)?;
        match format {
            FORMAT | BEFORE => serde_json::from_slice(text).map(Found::Page).map_err(said),
            OLD => {
                let old: OldPage = serde_json::from_slice(text).map_err(said)?;
                debug_assert_eq!(old.format, OLD);
                Ok(Found::Old(Manifest {
                    name: old.name,
                    number: 0,
                    scope: old.scope,
                    made_ms: old.made_ms,
                    note: old.note,
                    named: false,
                    stored_bytes: old.stored_bytes,
                    files: old.files,
                    folders: Vec::new(),
                }))
            }
            other => Err(format!(
                "it is of format {other}; this lantern reads formats {OLD} to {FORMAT}"
            )),
        }
    }

    /// What stands on it, whatever its format.
    pub(super) fn summary(&self) -> Page {
        match self {
            Found::Page(page) => page.clone(),
            Found::Old(manifest) => Page::new(manifest, manifest.stored_bytes, Tree::default()),
        }
    }

    /// The backup with all its files.
    ///
    /// # Errors
    /// When the store has lost some of the list.
    pub(super) fn manifest(self, store: &Store) -> Result<Manifest> {
        let (manifest, mut lost) = self.readable(store);
        match lost.pop() {
            None => Ok(manifest),
            Some(why) => Err(Error::Backup(BackupFault::Store {
                why: format!("{}: {why}", manifest.name),
            })),
        }
    }

    /// The backup with those of its files that the store still has on the list, and what is wrong with the list.
    pub(super) fn readable(self, store: &Store) -> (Manifest, Vec<String>) {
        let page = match self {
            Found::Old(manifest) => return (manifest, Vec::new()),
            Found::Page(page) => page,
        };
        let readable = store.readable(&page.list);
        let lost = readable.lost.into_iter();
        let mut lost: Vec<String> = lost
            .map(|why| format!("not all of its files are known: {why}"))
            .collect();
        let (mut files, mut folders) = (Vec::new(), Vec::new());
        let last = readable.parts.len() - 1;
        for (number, part) in readable.parts.iter().enumerate() {
            // What was lost begins or ends in the middle of a line.
            let lines = part.split(|byte| *byte == b'\n');
            let lines: Vec<&[u8]> = lines.filter(|line| !line.is_empty()).collect();
            for (at, line) in lines.iter().enumerate() {
                let torn = number > 0 && at == 0 || number < last && at + 1 == lines.len();
                match serde_json::from_slice(line) {
                    Ok(file) => files.push(file),
                    Err(error) => match serde_json::from_slice(line) {
                        Ok(folder) => folders.push(folder),
                        Err(_) if torn || !lost.is_empty() => {}
                        Err(_) => lost.push(error.to_string()),
                    },
                }
            }
        }
        let manifest = Manifest {
            files,
            folders,
            name: page.name,
            number: page.number,
            scope: page.scope,
            made_ms: page.made_ms,
            note: page.note,
            named: page.named,
            stored_bytes: page.stored_bytes,
        };
        (manifest, lost)
    }

    /// Adds every piece that the backup needs, those of its lists among them.
    ///
    /// # Errors
    /// When the store has lost some of a list.
    pub(super) fn needs(self, store: &Store, needed: &mut Needed) -> Result<()> {
        if let Found::Page(page) = &self {
            store
                .reach_list(&page.list, needed)
                .map_err(|why| Error::Backup(BackupFault::Store { why }))?;
        }
        for file in self.manifest(store)?.files {
            let reached = store.reach(&file.tree(), needed);
            reached.map_err(|why| Error::Backup(BackupFault::Store { why }))?;
        }
        Ok(())
    }
}

impl Page {
    /// The page of a backup whose list of files is in the store.
    pub(super) fn new(manifest: &Manifest, stored_bytes: u64, list: Tree) -> Page {
        Page {
            format: FORMAT,
            name: manifest.name.clone(),
            number: manifest.number,
            scope: manifest.scope,
            made_ms: manifest.made_ms,
            note: manifest.note.clone(),
            named: manifest.named,
            stored_bytes,
            files: manifest.files.len(),
            bytes: manifest.bytes(),
            list,
        }
    }

    /// What is written down of it; its `stored_bytes` then counts the page, too.
    pub(super) fn written(mut self) -> (Page, Vec<u8>) {
        let text = |page: &Page| serde_json::to_vec(page).expect("a page has only plain values");
        let without = self.stored_bytes;
        self.stored_bytes = without + text(&self).len() as u64;
        self.stored_bytes = without + text(&self).len() as u64;
        let text = text(&self);
        (self, text)
    }
}

/// The list of files and folders, as it is stored.
pub(super) fn lines<'s>(
    files: impl Iterator<Item = &'s Stored>,
    folders: &[StoredFolder],
) -> Vec<u8> {
    let mut lines = Vec::new();
    for file in files {
        serde_json::to_writer(&mut lines, file).expect("a file has only plain values");
        lines.push(b'\n');
    }
    for folder in folders {
        serde_json::to_writer(&mut lines, folder).expect("a folder has only plain values");
        lines.push(b'\n');
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::backup::Home;
    use crate::backup::store::Hash;
    use crate::place::Sort;

    fn stored(store: &Store, number: usize) -> Stored {
        let stamp = Stamp {
            bytes: 1,
            modified_ns: 2,
            changed_ns: 3,
            inode: 4,
        };
        let path = RelPath::parse(&format!("plots/{number:04}")).unwrap();
        let tree = store.take_bytes(format!("{number}\n").as_bytes()).unwrap();
        let meta = Meta {
            sort: Sort::File,
            stamp,
            rights: 0o644,
            disk: 5,
            owner: 6,
            group: 7,
        };
        let content = (1, "00".into());
        Stored::new(&path, content, &meta, BTreeMap::new(), stamp, tree)
    }

    fn page(store: &Store, files: &[Stored]) -> Found {
        let manifest = Manifest {
            name: "x".into(),
            number: 1,
            scope: Scope::Kept,
            made_ms: 0,
            note: None,
            named: false,
            stored_bytes: 0,
            files: files.to_vec(),
            folders: Vec::new(),
        };
        let list = store.take_bytes(&lines(files.iter(), &[])).unwrap();
        Found::Page(Page::new(&manifest, 0, list))
    }

    #[test]
    fn a_list_with_a_gap_gives_what_is_left_and_says_so() {
        let dir = tempfile::tempdir().unwrap();
        let mut store = Store::open(&Home::in_a_folder(dir.path())).unwrap();
        let files: Vec<Stored> = (0..1_000).map(|number| stored(&store, number)).collect();
        let Found::Page(whole) = page(&store, &files) else {
            unreachable!()
        };
        store.commit().unwrap();
        assert!(whole.list.depth > 0, "{:?}", whole.list);
        let again = Found::Page(whole.clone()).manifest(&store).unwrap();
        assert_eq!(again.files, files);
        // A piece of the list itself is lost: what stands before and behind it is known.
        let pieces = store.pieces(&whole.list).unwrap();
        store.forget(&pieces[pieces.len() / 2]);
        let (some, lost) = Found::Page(whole.clone()).readable(&store);
        assert_eq!(
            lost,
            ["not all of its files are known: a piece of it is lost"]
        );
        assert!(
            some.files.len() > 900 && some.files.len() < 1_000,
            "{}",
            some.files.len()
        );
        assert!(some.files.iter().all(|file| files.contains(file)));
        assert_eq!(some.files.last(), files.last());
        assert!(Found::Page(whole.clone()).manifest(&store).is_err());
        // The last piece of the list of its pieces is lost: what comes behind is not known.
        let top = whole.list.pieces.len() - 64;
        let hash = blake3::Hash::from_hex(&whole.list.pieces[top..]).unwrap();
        store.forget(hash.as_bytes());
        let (some, lost) = Found::Page(whole).readable(&store);
        assert_eq!(lost.len(), 2, "{lost:?}");
        assert!(some.files.len() < 1_000);
    }

    #[test]
    fn a_long_list_of_pieces_is_shortened_and_shared() {
        let dir = tempfile::tempdir().unwrap();
        let mut store = Store::open(&Home::in_a_folder(dir.path())).unwrap();
        let hash = |n: u32| *blake3::hash(&n.to_le_bytes()).as_bytes();
        let mut pieces: Vec<Hash> = (0..100_000).map(hash).collect();
        let tree = store.listed(pieces.clone()).unwrap();
        store.commit().unwrap();
        assert!(tree.depth >= 2 && tree.pieces.len() <= 8 * 64, "{tree:?}");
        assert_eq!(store.pieces(&tree).unwrap(), pieces);
        assert!(
            !store.has(&tree),
            "its lists are there, and its pieces are not"
        );
        // One that changes in its middle shares all but a little with it.
        let before = store.bytes();
        pieces.insert(50_000, hash(7_000_000));
        let other = store.listed(pieces.clone()).unwrap();
        store.commit().unwrap();
        assert_ne!(other, tree);
        assert_eq!(store.pieces(&other).unwrap(), pieces);
        assert!(
            store.bytes() - before < 30_000,
            "{}",
            store.bytes() - before
        );
        // A page of the format before has them all in one row.
        let hex: String = pieces
            .iter()
            .map(|hash| blake3::Hash::from(*hash).to_hex().to_string())
            .collect();
        let row = Tree {
            depth: 0,
            pieces: hex,
        };
        assert_eq!(store.shortened(&row).unwrap(), other);
    }
}
