//! Everything new, unpacked beside the server and checked before the server stops.

use super::moves::sync_above;
use super::whole::is_alike;
use crate::archive::{Archive, ArchiveFault};
use crate::changeover::fault::ChangeoverFault;
use crate::config::Server;
use crate::downloads::{hash_now, shortened};
use crate::error::{At, Error, Result};
use crate::folder::{Folder, Stamp, own};
use crate::layers;
use crate::meter;
use crate::place::{Meta, here};
use crate::planning::edited;
use crate::shipped::LONGEST_BYTES;
use lantern_core::component::Kind;
use lantern_core::link;
use lantern_core::operation;
use lantern_core::path::RelPath;
use lantern_core::plan::{Action, ActionKind, Plan, Source, TextEdit};
use lantern_core::text::{self, Misfit};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io;
use std::path::{Path, PathBuf};

/// Room that stays free besides what is staged, in bytes.
const SPARE_BYTES: u64 = 4 << 20;

/// The staging folder of an operation, relative to the server folder.
pub fn folder_name(number: i64) -> String {
    format!(".lantern/staging/{number:04}")
}

/// The folder that an operation's new files are unpacked in, relative to the server folder: right where they are renamed from;
/// for a server on another machine on this one, from where they are sent.
pub fn unpacked(server: &Server, number: i64) -> Result<RelPath> {
    match server.folder.is_far() {
        true => Ok(own(&format!("packing/{number:04}"))),
        false => Ok(RelPath::parse(&folder_name(number))?),
    }
}

/// Unpacks every new file into a folder of lantern's own, each checked against the plan's hash, and brings them
/// to the disk with all names that lead to them.
///
/// # Errors
/// When an archive is not the planned one, or the disk is full. The staging folder is then gone
/// again, and nothing else was touched.
pub fn stage(server: &Server, plan: &Plan, root: &RelPath) -> Result<Staged> {
    server.folder.remove_all(root)?;
    server.folder.make_folders(root)?;
    let staging = Staging { server, plan, root };
    let staged = staging.fill();
    if staged.is_err() {
        let _ = server.folder.remove_all(root);
    }
    let not_given = staged.map_err(|error| staging.full_disk(error))?;
    Ok(Staged {
        shipped: staging.shipped()?,
        not_given,
    })
}

/// What was staged.
pub struct Staged {
    /// The texts that the release ships where files stay as they were edited, by their BLAKE3.
    pub shipped: Vec<(String, Vec<u8>)>,
    /// How many files cannot be given to the user whom they will belong to.
    pub not_given: usize,
}

/// Where a file is staged that comes to a path.
///
/// # Errors
/// When the path becomes too long.
pub fn path_in(number: i64, path: &RelPath) -> Result<RelPath> {
    Ok(RelPath::parse(&folder_name(number))?.join(path.as_str())?)
}

/// All that is staged, as it is now.
///
/// # Errors
/// When it cannot be listed.
pub fn stamps(server: &Server, number: i64) -> Result<HashMap<RelPath, Stamp>> {
    let root = RelPath::parse(&folder_name(number))?;
    let staged = server.folder.metas_below(&root)?.into_iter();
    Ok(staged.map(|(path, meta)| (path, meta.stamp)).collect())
}

/// Stages an edit anew, made on its text as it is now; the BLAKE3 of what comes of it.
///
/// # Errors
/// When lines that it changes were written since.
pub fn edit_anew(server: &Server, edit: &TextEdit, staged: &RelPath) -> Result<String> {
    let folder = &server.folder;
    let misfit = |misfit: Misfit| ChangeoverFault::OtherText {
        path: edit.path.clone(),
        why: misfit.to_string(),
    };
    let planned = folder.read_text(staged)?;
    let old = planned
        .changed(&text::reversed(&edit.lines))
        .map_err(misfit)?;
    let now = folder.read_text(&edit.path)?;
    let theirs = text::changes(old.as_str(), now.as_str());
    let both = text::merged(&edit.lines, &theirs).map_err(misfit)?;
    let merged = old.changed(&both).map_err(misfit)?;
    let new = now.with(merged.as_str().to_owned());
    let new = new.ok_or(Misfit { line: 1 }).map_err(misfit)?.bytes();
    let rights = folder.look(&edit.path)?.map(|meta| meta.rights);
    folder.remove_file(staged)?;
    folder.write_new(staged, &new, rights)?;
    sync_above(folder, std::iter::once(staged))?;
    Ok(blake3::hash(&new).to_hex().to_string())
}

/// Whether something comes to the path of an action.
fn comes(action: &Action) -> bool {
    match action.what {
        ActionKind::Place | ActionKind::Replace | ActionKind::Edit => true,
        ActionKind::Keep | ActionKind::SetAside => false,
    }
}

/// A staging folder that is being filled.
struct Staging<'a> {
    server: &'a Server,
    plan: &'a Plan,
    root: &'a RelPath,
}

impl Staging<'_> {
    fn folder(&self) -> &Folder {
        &self.server.folder
    }

    /// The BLAKE3 of what an archive holds for a path: also of what is changed as it comes.
    fn as_it_comes<'p>(&self, action: &'p Action) -> Option<&'p str> {
        let is_changed = self.plan.edits.iter().any(|edit| edit.path == action.path);
        let shipped = action.shipped.as_deref().filter(|_| is_changed);
        shipped.or(action.after.as_deref())
    }

    fn staged(&self, path: &RelPath) -> Result<RelPath> {
        Ok(self.root.join(path.as_str())?)
    }

    fn fill(&self) -> Result<usize> {
        let needed = self.plan.staged_bytes() + SPARE_BYTES;
        let free = self.folder().free_bytes(self.root)?;
        if free < needed {
            return Err(Error::DiskFull {
                path: self.folder().shown(self.root),
                needed,
                free,
            });
        }
        meter::begin(self.plan.staged_bytes());
        for index in 0..self.plan.archives.len() {
            if crate::interrupt::called_off() {
                return Err(
                    ChangeoverFault::CalledOff(operation::OperationKind::Changeover).into(),
                );
            }
            self.unpack(index)?;
        }
        self.make_links()?;
        self.keep_layers()?;
        self.edit_texts()?;
        self.is_whole()?;
        let not_given = self.give()?;
        let files = self.folder().files_below(self.root)?;
        sync_above(self.folder(), files.iter().map(|(path, _)| path))?;
        Ok(not_given)
    }

    /// Gives all that comes to the user whom what it replaces belongs to; how many files could not be given.
    fn give(&self) -> Result<usize> {
        // What lies here for a server on another machine belongs to nobody there yet.
        if self.folder().is_far() {
            return Ok(0);
        }
        let mut not_given = 0;
        for action in &self.plan.actions {
            if comes(action) {
                let staged = self.staged(&action.path)?;
                let given = self.folder().give_like(&staged, &action.path, true)?;
                not_given += usize::from(!given);
            }
        }
        self.give_folders()?;
        Ok(not_given)
    }

    /// Makes the folders that come like those whose place they may take, or like what is above them; one that cannot be so
    /// takes no other's place.
    fn give_folders(&self) -> Result<()> {
        let mut done = BTreeSet::new();
        for action in self.plan.actions.iter().filter(|action| comes(action)) {
            let mut above = action.path.folder();
            while let Some(path) = above.filter(|path| !done.contains(path)) {
                let staged = self.staged(&path)?;
                match self.folder().met(&path)?.filter(Meta::is_folder) {
                    Some(there) => {
                        let now = self.folder().met(&staged)?;
                        if now.is_some_and(|now| !is_alike(&now, &there)) {
                            let (owner, group) = (there.owner, there.group);
                            self.folder().give(&staged, owner, group, there.rights)?;
                        }
                        for (name, value) in self.folder().attributes(&path)? {
                            self.folder().set_attribute(&staged, &name, &value);
                        }
                    }
                    None => drop(self.folder().give_like(&staged, &path, false)?),
                }
                above = path.folder();
                done.insert(path);
            }
        }
        Ok(())
    }

    /// Makes the links that come: where they lead, their marks say.
    fn make_links(&self) -> Result<()> {
        for action in self.plan.actions.iter().filter(|action| comes(action)) {
            if let Some(target) = action.after.as_deref().and_then(link::target) {
                let staged = self.staged(&action.path)?;
                self.folder().make_link(target, &staged)?;
            }
        }
        Ok(())
    }

    /// Refuses a plan that does not say of all that is to come what it is.
    fn is_whole(&self) -> Result<()> {
        for action in self.plan.actions.iter().filter(|action| comes(action)) {
            let meta = self.folder().look(&self.staged(&action.path)?)?;
            if !meta.is_some_and(|meta| meta.is_leaf()) {
                return Err(ChangeoverFault::NothingComes {
                    path: action.path.clone(),
                }
                .into());
            }
        }
        Ok(())
    }

    /// Unpacks what the plan wants of one archive; `done` is told the bytes of each file.
    fn unpack(&self, index: usize) -> Result<()> {
        let archive = &self.plan.archives[index];
        let path = PathBuf::from(&archive.file);
        let found = hash_now(&path)?;
        if found != archive.blake3 {
            return Err(other(&path, &archive.blake3, &found));
        }
        let from_here = self.plan.actions.iter().filter(|action| {
            let source = action.source.as_ref();
            let is_link = action.after.as_deref().and_then(link::target).is_some();
            matches!(action.what, ActionKind::Place | ActionKind::Replace)
                && !is_link
                && source.is_some_and(|source| source.archive == index)
        });
        let mut wanted: BTreeMap<RelPath, RelPath> = BTreeMap::new();
        let mut actions: BTreeMap<RelPath, &Action> = BTreeMap::new();
        // What is wanted at several places: from where it will lie, to where, for which action.
        let mut copies: Vec<(RelPath, RelPath, &Action)> = Vec::new();
        for action in from_here {
            let to = self.staged(&action.path)?;
            let entry = action.source.as_ref().and_then(|s| s.entry.as_ref());
            let Some(entry) = entry else {
                let mut whole = here::open(&path).at("reading", &path)?;
                let hash = self
                    .folder()
                    .copy_new(&mut *whole, &to, self.is_program(action))?;
                if Some(hash.as_str()) != self.as_it_comes(action) {
                    let expected = self.as_it_comes(action).unwrap_or("");
                    return Err(other(&self.folder().shown(&to), expected, &hash));
                }
                meter::did(action.bytes);
                continue;
            };
            let entry = RelPath::parse(entry)?;
            if let Some(first) = wanted.get(&entry) {
                copies.push((first.clone(), to, action));
                continue;
            }
            wanted.insert(entry.clone(), to);
            actions.insert(entry, action);
        }
        if wanted.is_empty() {
            return Ok(());
        }
        let mut differs = None;
        let mut unpacked = BTreeSet::new();
        let mut opened = Archive::open(&path)?;
        opened.unpack(&wanted, self.folder(), &path, &mut |entry, hash| {
            let action = actions[entry];
            if self.as_it_comes(action) != Some(hash) {
                differs = Some((entry.clone(), hash.to_owned()));
            }
            unpacked.insert(entry.clone());
            meter::did(action.bytes);
        })?;
        if let Some((entry, hash)) = differs {
            let expected = self.as_it_comes(actions[&entry]).unwrap_or("");
            return Err(other(
                &self.folder().shown(&wanted[&entry]),
                expected,
                &hash,
            ));
        }
        if let Some(entry) = wanted.keys().find(|entry| !unpacked.contains(entry)) {
            return Err(Error::Archive {
                fault: ArchiveFault::Broken(format!("it has no entry {entry}")),
                path,
            });
        }
        for (from, to, action) in copies {
            let mut file = self.folder().open_file(&from)?;
            let meta = file.meta().at("reading", &self.folder().shown(&from))?;
            let hash = self
                .folder()
                .copy_new(&mut *file, &to, meta.rights & 0o111 != 0)?;
            if self.as_it_comes(action) != Some(&hash) {
                let expected = self.as_it_comes(action).unwrap_or("");
                return Err(other(&self.folder().shown(&to), expected, &hash));
            }
            meter::did(action.bytes);
        }
        Ok(())
    }

    /// Whether a file that is a whole download is a server program, which downloads do not mark as such.
    fn is_program(&self, action: &Action) -> bool {
        let mut changes = self.plan.components.iter();
        let owner = action.component.as_ref();
        changes.any(|change| change.kind == Kind::Build && Some(&change.id) == owner)
    }

    /// What the release ships where a file stays as the administrator edited it, or has what he changed in it.
    fn shipped(&self) -> Result<Vec<(String, Vec<u8>)>> {
        let mut shipped = Vec::new();
        let yours = [ActionKind::Keep, ActionKind::Edit];
        for action in yours.into_iter().flat_map(|what| self.plan.of(what)) {
            let (Some(hash), Some(source)) = (&action.shipped, &action.source) else {
                continue;
            };
            if action.bytes > LONGEST_BYTES || link::target(hash).is_some() {
                continue;
            }
            let bytes = self.content(source)?;
            if blake3::hash(&bytes).to_hex().as_str() == hash {
                shipped.push((hash.clone(), bytes));
            }
        }
        Ok(shipped)
    }

    /// A single file that lies in one of the plan's archives.
    fn content(&self, source: &Source) -> Result<Vec<u8>> {
        let archive = Path::new(&self.plan.archives[source.archive].file);
        let Some(entry) = &source.entry else {
            return here::read(archive);
        };
        let beside = self.root.join(".beside")?;
        let wanted = BTreeMap::from([(RelPath::parse(entry)?, beside.clone())]);
        Archive::open(archive)?.unpack(&wanted, self.folder(), archive, &mut |_, _| {})?;
        let bytes = self.folder().read(&beside)?;
        self.folder().remove_file(&beside)?;
        Ok(bytes)
    }

    /// Keeps copies of what lies over and under one another, so that either can be put back by itself.
    fn keep_layers(&self) -> Result<()> {
        let folder = self.folder();
        for action in &self.plan.actions {
            let Some(under) = &action.under else {
                continue;
            };
            if let Some(hash) = &action.after {
                let staged = self.staged(&action.path)?;
                let from = if folder.has(&staged)? {
                    &staged
                } else {
                    &action.path
                };
                layers::keep(folder, hash, || folder.read(from))?;
            }
            layers::keep(folder, &under.hash, || match &under.source {
                None => folder.read(&action.path),
                Some(source) => self.content(source),
            })?;
        }
        Ok(())
    }

    /// Stages the texts that change, as the plan says they are then.
    fn edit_texts(&self) -> Result<()> {
        for edit in &self.plan.edits {
            let staged = self.staged(&edit.path)?;
            let mut planned = self.plan.actions.iter().filter(|action| comes(action));
            let planned = planned.find(|action| action.path == edit.path);
            // What comes with a release is changed as it came.
            let from = match planned.map(|action| action.what) {
                Some(ActionKind::Place | ActionKind::Replace) => &staged,
                _ => &edit.path,
            };
            let new = edited(edit, &self.folder().read_text(from)?)?.bytes();
            let hash = blake3::hash(&new).to_hex().to_string();
            if planned.and_then(|action| action.after.as_ref()) != Some(&hash) {
                return Err(ChangeoverFault::OtherText {
                    path: edit.path.clone(),
                    why: "what comes of it is not what the plan says".into(),
                }
                .into());
            }
            let rights = self.folder().look(from)?.map(|meta| meta.rights);
            if *from == staged {
                self.folder().remove_file(&staged)?;
            }
            self.folder().write_new(&staged, &new, rights)?;
        }
        Ok(())
    }

    /// Says "the disk is full" whichever way that showed.
    fn full_disk(&self, error: Error) -> Error {
        match error {
            Error::Io { source, .. } if source.kind() == io::ErrorKind::StorageFull => {
                Error::DiskFull {
                    path: self.folder().shown(self.root),
                    needed: self.plan.staged_bytes() + SPARE_BYTES,
                    free: self.folder().free_bytes(self.root).unwrap_or(0),
                }
            }
            other => other,
        }
    }
}

/// A file is not what the plan says.
fn other(path: &Path, expected: &str, found: &str) -> Error {
    Error::OtherArchive {
        path: path.into(),
        expected: shortened(expected),
        found: shortened(found),
    }
}
