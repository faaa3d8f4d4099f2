//! Renames that can be done again, or taken back, from wherever they were cut off.

use super::whole::Wholes;
use crate::changeover::fault::ChangeoverFault;
use crate::error::Result;
use crate::folder::Folder;
use crate::place::{Meta, Sort};
use lantern_core::operation::{Move, is_own};
use lantern_core::path::RelPath;
use std::collections::{BTreeSet, HashMap};

/// Whether a move is done: the file has come to lantern's own folder, or left it. It is said at which of its places something
/// is.
///
/// # Errors
/// When the file is at neither of its places.
fn is_done(step: &Move, from: bool, to: bool) -> Result<bool> {
    if !from && !to {
        return Err(ChangeoverFault::Lost {
            path: step.from.clone(),
        }
        .into());
    }
    Ok(if step.brings() { !from } else { to })
}

/// Does every move that is not done yet, and makes it last. A folder in which all moves is renamed as it is.
///
/// What goes has gone before anything comes; in either, the order does not matter.
///
/// # Errors
/// When a rename fails, or a file is at neither of its places.
pub fn perform(folder: &Folder, moves: &[Move]) -> Result<()> {
    let mut wholes = Wholes::of(folder, moves)?;
    let mut ends: Vec<(RelPath, RelPath)> = Vec::new();
    for wave in moves.chunk_by(|a, b| a.brings() == b.brings()) {
        let renames = drawn(folder, &mut wholes, wave, &mut ends)?;
        let parents: BTreeSet<RelPath> = renames.iter().filter_map(|(_, to)| to.folder()).collect();
        make_parents(folder, parents)?;
        let renamed = folder.rename_each(&renames);
        for ((from, to), renamed) in renames.iter().zip(renamed) {
            // What was a folder may become a file or a link.
            let in_the_way = renamed.is_err() && folder.met(to)?.is_some_and(|it| it.is_folder());
            match in_the_way {
                false => renamed?,
                true => {
                    tidy(folder, &ends);
                    folder.rename(from, to)?;
                }
            }
        }
        wholes.renamed(&renames);
        ends.extend(renames);
    }
    sync_above(folder, ends.iter().flat_map(|(from, to)| [from, to]))?;
    tidy(folder, &ends);
    Ok(())
}

/// The renames that are still to be made of some moves; those that are made already are at their `ends`.
fn drawn(
    folder: &Folder,
    wholes: &mut Wholes<'_, '_>,
    moves: &[Move],
    ends: &mut Vec<(RelPath, RelPath)>,
) -> Result<Vec<(RelPath, RelPath)>> {
    let (mut renames, mut single) = (Vec::new(), Vec::new());
    for step in moves {
        if wholes.has_moved(&step.from) {
            continue;
        }
        match wholes.with(&step.from)? {
            Some(whole) => renames.push(whole),
            None => single.push(step),
        }
    }
    let paths = single.iter().flat_map(|step| [&step.from, &step.to]);
    let unseen = paths.filter(|path| wholes.knows(path).is_none());
    let there = Looking::whether(folder, unseen)?;
    let has = |path| match wholes.knows(path) {
        Some(known) => Ok(known),
        None => there.has(path),
    };
    for step in single {
        let both = (step.from.clone(), step.to.clone());
        match is_done(step, has(&step.from)?, has(&step.to)?)? {
            true => ends.push(both),
            false => renames.push(both),
        }
    }
    Ok(renames)
}

/// Makes folders with all that lead to them.
fn make_parents(folder: &Folder, parents: BTreeSet<RelPath>) -> Result<()> {
    match folder.is_far() {
        false => parents
            .iter()
            .try_for_each(|path| folder.make_folders(path)),
        true => {
            let mut all = BTreeSet::new();
            for path in parents {
                let mut above = Some(path);
                while let Some(path) = above.filter(|path| !all.contains(path)) {
                    above = path.folder();
                    all.insert(path);
                }
            }
            let all: Vec<RelPath> = all.into_iter().collect();
            folder.make_each(&all)
        }
    }
}

/// So many paths in one folder are looked at together; where each answer is waited for from afar, any.
const TOGETHER: usize = 8;

/// The folders that many of some paths lie in: each is worth listing once.
fn crowded<'p>(paths: impl Iterator<Item = &'p RelPath>, many: usize) -> Vec<RelPath> {
    let mut inside: HashMap<RelPath, usize> = HashMap::new();
    for above in paths.filter_map(RelPath::folder) {
        *inside.entry(above).or_default() += 1;
    }
    let crowded = inside.into_iter().filter(|(_, there)| *there >= many);
    crowded.map(|(above, _)| above).collect()
}

/// Looks at many paths, of which nothing changes meanwhile: a folder that many of them lie in is listed once. It is known of each
/// what it is, or only what sort of thing.
pub struct Looking<'f, T> {
    folder: &'f Folder,
    listed: HashMap<RelPath, HashMap<RelPath, T>>,
}

impl<'f, T: Send> Looking<'f, T> {
    fn of<'p>(
        folder: &'f Folder,
        paths: impl Iterator<Item = &'p RelPath>,
        inside: impl Fn(&RelPath) -> Result<Vec<(RelPath, T)>> + Send + Sync,
    ) -> Result<Looking<'f, T>> {
        let many = if folder.is_far() { 1 } else { TOGETHER };
        let crowded = crowded(paths, many);
        let listed = folder.each(&crowded, inside);
        let listed = crowded
            .iter()
            .zip(listed)
            .map(|(above, inside)| Ok((above.clone(), inside?.into_iter().collect())));
        Ok(Looking {
            folder,
            listed: listed.collect::<Result<_>>()?,
        })
    }

    /// Whether something is at a path.
    ///
    /// # Errors
    /// When the system does not tell.
    pub fn has(&self, path: &RelPath) -> Result<bool> {
        match path.folder().and_then(|above| self.listed.get(&above)) {
            Some(inside) => Ok(inside.contains_key(path)),
            None => self.folder.has(path),
        }
    }
}

impl<'f> Looking<'f, Meta> {
    /// At these paths.
    ///
    /// # Errors
    /// When a folder cannot be listed.
    pub fn at<'p>(
        folder: &'f Folder,
        paths: impl Iterator<Item = &'p RelPath>,
    ) -> Result<Looking<'f, Meta>> {
        Looking::of(folder, paths, |above| folder.inside(above))
    }

    /// As [`Folder::met`].
    ///
    /// # Errors
    /// As that.
    pub fn look(&self, path: &RelPath) -> Result<Option<Meta>> {
        match path.folder().and_then(|above| self.listed.get(&above)) {
            Some(inside) => Ok(inside.get(path).copied()),
            None => self.folder.met(path),
        }
    }
}

impl<'f> Looking<'f, Sort> {
    /// For whether something is at these paths: cheaper than [`Looking::at`].
    ///
    /// # Errors
    /// When a folder cannot be listed.
    fn whether<'p>(
        folder: &'f Folder,
        paths: impl Iterator<Item = &'p RelPath>,
    ) -> Result<Looking<'f, Sort>> {
        Looking::of(folder, paths, |above| {
            let inside = folder.sorts(above)?.into_iter();
            Ok(inside
                .filter_map(|(path, sort)| Some((path?, sort)))
                .collect())
        })
    }
}

/// Takes back those of some moves that are done, last first, and makes that last; returns what cannot be found to be
/// put back. A file that had not come yet is not missed.
///
/// # Errors
/// When a rename fails.
pub fn take_back(folder: &Folder, moves: &[Move]) -> Result<Vec<RelPath>> {
    let (mut back, mut lost) = (Vec::new(), Vec::new());
    let mut still_there = BTreeSet::new();
    let paths = moves.iter().flat_map(|step| [&step.from, &step.to]);
    let there = Looking::whether(folder, paths)?;
    for step in moves.iter().filter(|step| !step.brings()) {
        match (there.has(&step.from)?, there.has(&step.to)?) {
            (true, false) => {
                still_there.insert(&step.from);
            }
            (false, false) => lost.push(step.from.clone()),
            (_, true) => {}
        }
    }
    for step in moves.iter().rev() {
        let (from, to) = (there.has(&step.from)?, there.has(&step.to)?);
        let done = match step.brings() {
            // What lies where it was to come may still be the old one.
            true => to && !from && !still_there.contains(&step.to),
            false => to,
        };
        if done {
            back.push(step.back());
        }
    }
    perform(folder, &back)?;
    Ok(lost)
}

/// Removes the folders that renames have left empty.
fn tidy(folder: &Folder, renames: &[(RelPath, RelPath)]) {
    let mut left: BTreeSet<RelPath> = renames
        .iter()
        .filter_map(|(from, _)| from.folder())
        .collect();
    // What came into a folder is there.
    for into in renames.iter().filter_map(|(_, to)| to.folder()) {
        left.remove(&into);
    }
    // Where each answer is waited for from afar, lantern's own room is tidied when the operation ends.
    if folder.is_far() {
        left.retain(|path| !is_own(path));
    }
    // The deepest first: those that lie equally deep at once.
    let depth = |path: &RelPath| path.as_str().matches('/').count();
    while let Some(deepest) = left.iter().map(depth).max() {
        let (level, above): (BTreeSet<RelPath>, _) =
            left.into_iter().partition(|path| depth(path) == deepest);
        left = above;
        let level: Vec<RelPath> = level.into_iter().collect();
        let gone = folder.each(&level, |path| folder.remove_if_empty(path));
        let gone = level.iter().zip(gone).filter(|(_, gone)| *gone);
        left.extend(gone.filter_map(|(path, _)| path.folder()));
    }
}

/// Makes the names in all folders above some paths last, their own and those that lead to them.
///
/// # Errors
/// When a folder cannot be synced.
pub fn sync_above<'p>(folder: &Folder, paths: impl Iterator<Item = &'p RelPath>) -> Result<()> {
    // File transfer has no word for it.
    if folder.is_far() {
        return Ok(());
    }
    let mut folders = BTreeSet::new();
    for path in paths {
        let mut above = path.folder();
        while let Some(path) = above {
            above = path.folder();
            if !folders.insert(path) {
                break;
            }
        }
    }
    for path in &folders {
        // Where a folder was, a file or a link may be by now: its name is synced with the folder that it lies in.
        let is_folder = folder.met(path)?.is_some_and(|meta| meta.is_folder());
        if is_folder
            || folder
                .followed()
                .iter()
                .any(|followed| followed.at == *path)
        {
            folder.sync(Some(path))?;
        }
    }
    folder.sync(None)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Error;

    fn path(text: &str) -> RelPath {
        RelPath::parse(text).unwrap()
    }

    fn a_move(from: &str, to: &str) -> Move {
        Move {
            from: path(from),
            to: path(to),
            expects: None,
        }
    }

    #[test]
    fn cut_off_anywhere_they_are_done_or_taken_back() {
        let moves = [
            a_move("a/old", ".lantern/aside/old"),
            a_move(".lantern/staged/new", "a/old"),
            a_move(".lantern/staged/more", "b/c/more"),
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
                    folder
                        .write_new(&path(file), text.as_bytes(), None)
                        .unwrap();
                }
                perform(&folder, &moves[..cut]).unwrap();
                let read =
                    |file: &str| String::from_utf8(folder.read(&path(file)).unwrap()).unwrap();
                if forward {
                    perform(&folder, &moves).unwrap();
                    assert_eq!(read("a/old"), "new");
                    assert_eq!(read(".lantern/aside/old"), "old");
                    assert_eq!(read("b/c/more"), "more");
                } else {
                    take_back(&folder, &moves).unwrap();
                    assert_eq!(read("a/old"), "old");
                    assert!(!folder.has(&path("b")).unwrap());
                    assert!(!folder.has(&path(".lantern/aside")).unwrap());
                }
            }
        }
    }

    /// A folder goes as it is where nothing else is in it, not even a folder that is empty, and where the one that comes is
    /// like it; otherwise its files go one by one. Either way all is there, and comes back.
    #[test]
    fn a_folder_in_which_all_moves_is_renamed_as_it_is() {
        let moves = [
            a_move("lib/a", ".lantern/aside/lib/a"),
            a_move("lib/deep/b", ".lantern/aside/lib/deep/b"),
            a_move(".lantern/staged/lib/a", "lib/a"),
            a_move(".lantern/staged/lib/deep/c", "lib/deep/c"),
        ];
        let inode = |folder: &Folder, at: &str| {
            let met = folder.met(&path(at)).unwrap();
            met.map(|meta| meta.stamp.inode)
        };
        for (besides, goes_whole, comes_whole) in [
            ("", true, true),
            ("lib/own", false, false),
            ("lib/deep/own", false, false),
            ("lib/empty/", false, false),
            ("rights", true, false),
        ] {
            let dir = tempfile::tempdir().unwrap();
            let folder = Folder::open(dir.path()).unwrap();
            for step in &moves {
                let from = step.from.as_str();
                folder.write_new(&step.from, from.as_bytes(), None).unwrap();
            }
            match besides {
                "" => {}
                "rights" => {
                    let there = folder.met(&path("lib")).unwrap().unwrap();
                    let given = folder.give(&path("lib"), there.owner, there.group, 0o750);
                    assert!(given.unwrap());
                }
                "lib/empty/" => folder.make_folders(&path("lib/empty")).unwrap(),
                own => folder.write_new(&path(own), b"own", None).unwrap(),
            }
            let (old, new) = (inode(&folder, "lib"), inode(&folder, ".lantern/staged/lib"));
            perform(&folder, &moves).unwrap();
            assert_eq!(
                inode(&folder, ".lantern/aside/lib") == old,
                goes_whole,
                "{besides}"
            );
            assert_eq!(inode(&folder, "lib") == new, comes_whole, "{besides}");
            for step in &moves {
                let read = folder.read(&step.to).unwrap();
                assert_eq!(read, step.from.as_str().as_bytes(), "{besides}");
            }
            perform(&folder, &moves).unwrap();
            assert_eq!(take_back(&folder, &moves).unwrap(), []);
            for step in &moves {
                assert!(folder.has(&step.from).unwrap(), "{besides}: {}", step.from);
            }
            if besides.starts_with("lib") {
                assert!(folder.has(&path(besides.trim_end_matches('/'))).unwrap());
            }
        }
    }

    /// Whatever of the staged files vanishes or is cut short, and whenever, on the way there or back: what was there before is
    /// there again.
    #[test]
    fn what_has_not_come_is_not_missed() {
        let moves = [
            a_move("a/old", ".lantern/aside/old"),
            a_move("older", ".lantern/aside/older"),
            a_move(".lantern/staged/new", "a/old"),
            a_move(".lantern/staged/newer", "older"),
            a_move(".lantern/staged/more", "b/c/more"),
        ];
        let files = [
            "a/old",
            "older",
            ".lantern/staged/new",
            ".lantern/staged/newer",
            ".lantern/staged/more",
        ];
        for cut in 0..=moves.len() {
            for back in 0..=cut {
                for (harmed, vanishes) in [
                    ("new", true),
                    ("newer", true),
                    ("more", true),
                    ("new", false),
                    ("newer", false),
                    ("more", false),
                ] {
                    let dir = tempfile::tempdir().unwrap();
                    let folder = Folder::open(dir.path()).unwrap();
                    for file in files {
                        folder
                            .write_new(&path(file), file.as_bytes(), None)
                            .unwrap();
                    }
                    perform(&folder, &moves[..cut]).unwrap();
                    let way_back: Vec<Move> = moves[..cut].iter().rev().map(Move::back).collect();
                    perform(&folder, &way_back[..back]).unwrap();
                    let staged = path(&format!(".lantern/staged/{harmed}"));
                    if folder.has(&staged).unwrap() {
                        folder.remove_file(&staged).unwrap();
                        if !vanishes {
                            folder.write_new(&staged, b"", None).unwrap();
                        }
                    }
                    assert_eq!(take_back(&folder, &moves).unwrap(), []);
                    for file in ["a/old", "older"] {
                        assert_eq!(
                            folder.read(&path(file)).unwrap(),
                            file.as_bytes(),
                            "{cut} {back} {harmed}"
                        );
                    }
                    assert!(!folder.has(&path("b")).unwrap());
                }
            }
        }
    }

    #[test]
    fn what_was_set_aside_and_is_gone_is_named_and_all_else_goes_back() {
        let moves = [
            a_move("a", ".lantern/aside/a"),
            a_move("b", ".lantern/aside/b"),
            a_move(".lantern/staged/a", "a"),
        ];
        let dir = tempfile::tempdir().unwrap();
        let folder = Folder::open(dir.path()).unwrap();
        for file in ["a", "b", ".lantern/staged/a"] {
            folder
                .write_new(&path(file), file.as_bytes(), None)
                .unwrap();
        }
        perform(&folder, &moves).unwrap();
        folder.remove_file(&path(".lantern/aside/b")).unwrap();
        assert_eq!(take_back(&folder, &moves).unwrap(), [path("b")]);
        assert_eq!(folder.read(&path("a")).unwrap(), b"a");
    }

    #[test]
    fn nothing_is_ever_renamed_over() {
        let dir = tempfile::tempdir().unwrap();
        let folder = Folder::open(dir.path()).unwrap();
        folder.write_new(&path(".lantern/a"), b"a", None).unwrap();
        folder.write_new(&path("b"), b"b", None).unwrap();
        let over = [a_move(".lantern/a", "b")];
        assert!(matches!(perform(&folder, &over), Err(Error::Io { .. })));
        assert_eq!(folder.read(&path("b")).unwrap(), b"b");
        let lost = [a_move("c", ".lantern/d")];
        assert!(matches!(
            perform(&folder, &lost),
            Err(Error::Changeover(ChangeoverFault::Lost { .. }))
        ));
    }
}
