//! Folders that move as a whole: one rename instead of one for each file in them.
//!
//! What moves is written down file by file, and so it can be done again or taken back from wherever it was cut off. A folder
//! in which everything moves, each file to the same place below one other folder, is in either place as a whole.

use crate::error::Result;
use crate::folder::Folder;
use crate::place::{Meta, Sort};
use lantern_core::operation::{Move, is_own};
use lantern_core::path::RelPath;
use std::collections::{HashMap, HashSet};

/// The folders of some moves, and which of them can be renamed as they are.
pub struct Wholes<'f, 'm> {
    folder: &'f Folder,
    /// Where each file goes.
    files: HashMap<&'m RelPath, &'m RelPath>,
    /// Where each folder would go with all that is in it; none where its files part.
    folders: HashMap<RelPath, Option<RelPath>>,
    /// What lies in them, where each answer is waited for from afar; otherwise that is looked at as it is needed.
    inside: HashMap<RelPath, Inside>,
    known: HashMap<RelPath, bool>,
    moved: HashSet<RelPath>,
}

/// What lies in a folder.
#[derive(Default)]
struct Inside {
    named: HashMap<RelPath, Sort>,
    /// Whether there are names that cannot be dealt with besides.
    is_odd: bool,
}

impl Inside {
    fn of(folder: &Folder, path: &RelPath) -> Result<Inside> {
        let mut inside = Inside::default();
        for (path, sort) in folder.sorts(path)? {
            match path {
                Some(path) => drop(inside.named.insert(path, sort)),
                None => inside.is_odd = true,
            }
        }
        Ok(inside)
    }

    fn is_empty(&self) -> bool {
        self.named.is_empty() && !self.is_odd
    }
}

impl<'f, 'm> Wholes<'f, 'm> {
    /// The folders that the files of some moves lie in.
    ///
    /// # Errors
    /// When the system does not tell what lies somewhere.
    pub fn of(folder: &'f Folder, moves: &'m [Move]) -> Result<Wholes<'f, 'm>> {
        let mut wholes = Wholes {
            folder,
            files: moves.iter().map(|step| (&step.from, &step.to)).collect(),
            folders: HashMap::new(),
            inside: HashMap::new(),
            known: HashMap::new(),
            moved: HashSet::new(),
        };
        for step in moves {
            wholes.follow(step);
        }
        if !folder.is_far() {
            wholes.part_what_differs()?;
            return Ok(wholes);
        }
        let together = wholes.folders.iter().filter(|(_, target)| target.is_some());
        let together: Vec<RelPath> = together.map(|(folder, _)| folder.clone()).collect();
        let inside = std::thread::scope(|scope| {
            let inside = scope.spawn(|| folder.each(&together, |it| Inside::of(folder, it)));
            let parted = wholes.part_what_differs();
            let inside = inside.join();
            let inside = inside.unwrap_or_else(|panic| std::panic::resume_unwind(panic));
            parted.map(|()| inside)
        })?;
        let inside = together.into_iter().zip(inside);
        let inside = inside.map(|(folder, inside)| Ok((folder, inside?)));
        wholes.inside = inside.collect::<Result<_>>()?;
        Ok(wholes)
    }

    /// A folder that is to take another one's place, and belongs to somebody else or has other rights, does not.
    fn part_what_differs(&mut self) -> Result<()> {
        let come = self.folders.iter().filter_map(|(folder, target)| {
            let target = target.as_ref().filter(|target| !is_own(target))?;
            Some((folder.clone(), target.clone()))
        });
        let come: Vec<(RelPath, RelPath)> = come.collect();
        let both = come.iter().flat_map(|(folder, target)| [folder, target]);
        let both: Vec<&RelPath> = both.collect();
        let met = self.folder.each(&both, |path| self.folder.met(path));
        let met = met.into_iter().collect::<Result<Vec<Option<Meta>>>>()?;
        for ((folder, _), met) in come.into_iter().zip(met.chunks(2)) {
            if let [Some(comes), Some(there)] = met
                && !is_alike(there, comes)
            {
                self.folders.insert(folder, None);
            }
        }
        Ok(())
    }

    /// Notes the folders above a file that go where it goes, as long as their names stay.
    fn follow(&mut self, step: &Move) {
        let (mut from, mut to) = (step.from.clone(), step.to.clone());
        while from.name() == to.name()
            && let (Some(above), Some(target)) = (from.folder(), to.folder())
            && above.name() == target.name()
        {
            let known = self.folders.get(&above);
            match known {
                Some(Some(known)) if *known == target => return,
                Some(None) => return,
                Some(Some(_)) => drop(self.folders.insert(above.clone(), None)),
                None => drop(self.folders.insert(above.clone(), Some(target.clone()))),
            }
            (from, to) = (above, target);
        }
    }

    /// Whether something lies at a path, where what lies beside it was seen; none where it was not.
    pub fn knows(&self, path: &RelPath) -> Option<bool> {
        let inside = self.inside.get(&path.folder()?)?;
        Some(inside.named.contains_key(path))
    }

    /// Notes what was renamed.
    pub fn renamed(&mut self, renames: &[(RelPath, RelPath)]) {
        let gone: HashSet<&RelPath> = renames.iter().map(|(from, _)| from).collect();
        self.inside.retain(|folder, _| !gone.contains(folder));
        for inside in self.inside.values_mut() {
            inside.named.retain(|path, _| !gone.contains(path));
        }
        for (from, to) in renames {
            let sort = match self.moved.contains(from) {
                true => Sort::Folder,
                false => Sort::File,
            };
            let above = to.folder().and_then(|above| self.inside.get_mut(&above));
            above.map(|inside| inside.named.insert(to.clone(), sort));
        }
    }

    /// Whether a file has gone with a folder.
    pub fn has_moved(&self, file: &RelPath) -> bool {
        let mut above = file.folder();
        while let Some(folder) = above {
            if self.moved.contains(&folder) {
                return true;
            }
            above = folder.folder();
        }
        false
    }

    /// The greatest folder that a file may be moved with now, and where that goes; none where it moves by itself.
    ///
    /// # Errors
    /// When the system does not tell what lies somewhere.
    pub fn with(&mut self, file: &RelPath) -> Result<Option<(RelPath, RelPath)>> {
        let mut above = Vec::new();
        let mut next = file.folder();
        while let Some(folder) = next.filter(|folder| self.folders.contains_key(folder)) {
            next = folder.folder();
            above.push(folder);
        }
        for folder in above.into_iter().rev() {
            let Some(Some(target)) = self.folders.get(&folder).cloned() else {
                continue;
            };
            if !self.is_whole(&folder, &target)? {
                continue;
            }
            // Once for all that is in it: nothing that is renamed meanwhile takes it away.
            let holds = self.inside.get(&target);
            if holds.is_some_and(|inside| !inside.is_empty()) || self.folder.has(&target)? {
                self.folders.insert(folder, None);
                continue;
            }
            self.moved.insert(folder.clone());
            return Ok(Some((folder, target)));
        }
        Ok(None)
    }

    /// Whether all that is in a folder moves to the same names in another one.
    fn is_whole(&mut self, folder: &RelPath, target: &RelPath) -> Result<bool> {
        if let Some(known) = self.known.get(folder) {
            return Ok(*known);
        }
        let is_whole = self.holds_only_what_moves(folder, target)?;
        self.known.insert(folder.clone(), is_whole);
        Ok(is_whole)
    }

    fn holds_only_what_moves(&mut self, folder: &RelPath, target: &RelPath) -> Result<bool> {
        if self
            .folder
            .followed()
            .iter()
            .any(|followed| followed.at == *folder)
        {
            return Ok(false);
        }
        let looked;
        let inside = match self.inside.get(folder) {
            Some(inside) => inside,
            None => {
                looked = Inside::of(self.folder, folder)?;
                &looked
            }
        };
        // A name that cannot be dealt with is not among what moves.
        let mut is_whole = !inside.is_empty() && !inside.is_odd;
        let inside: Vec<(RelPath, Sort)> = inside
            .named
            .iter()
            .map(|(path, sort)| (path.clone(), *sort))
            .collect();
        for (path, sort) in inside {
            let to = target.join(path.name())?;
            is_whole = is_whole
                && match sort {
                    Sort::Folder => {
                        self.folders.get(&path) == Some(&Some(to.clone()))
                            && self.is_whole(&path, &to)?
                    }
                    _ => self.files.get(&path) == Some(&&to),
                };
        }
        Ok(is_whole)
    }
}

/// Whether a folder may take another one's place: it belongs to the same user and group, with the same rights.
pub fn is_alike(a: &Meta, b: &Meta) -> bool {
    (a.owner, a.group, a.rights) == (b.owner, b.group, b.rights)
}
