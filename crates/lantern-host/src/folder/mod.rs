//! A server folder: its place on a disk, and the places that followed links lead to.
//!
//! Nothing outside it is touched: every path is relative to it, and no link on the way is followed but such
//! as lead to a folder that is taken for one of the server's own.

use crate::error::{At, Error, Result};
mod followed;
mod listing;

use crate::place::far;
use crate::place::{
    Address, Held, LinkOnTheWay, Local, Means, Meta, NewFile, PROGRAM, Place, Sort, Source, here,
};
pub use crate::place::{OWNERS_ALONE, Stamp};
pub use followed::Followed;
use followed::Links;
use lantern_core::link;
use lantern_core::path::{PathFault, RelPath};
pub use lantern_core::plan::OWN;
use lantern_core::plan::is_lanterns;
use lantern_core::text::Text;
use lantern_core::tree::{unread, unread_like};
pub use listing::Listing;
use rayon::prelude::*;
use rayon::{ThreadPool, ThreadPoolBuilder};
use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::ffi::{OsStr, OsString};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// So much of a file is read and hashed at once, in bytes.
const HASHED_AT_ONCE: usize = 128 << 10;

/// The settings file in a server folder.
pub const FILE: &str = "lantern.toml";

/// What of lantern's own lies beside the files of a server on another machine, as it is renamed to and from them, or tells
/// other machines what goes on: the rest lies here.
const BESIDE: [&str; 7] = [
    "staging",
    "set-aside",
    "under-way.json.zst",
    "under-way.json.zst.part",
    "at-work",
    "records.json.zst",
    "records.json.zst.part",
];

/// So many signs a hash of BLAKE3 is written with.
pub(crate) const HEX: usize = 64;

/// What is written whole is so called until it is.
pub(crate) const PART: &str = ".part";

/// The rights of other folders, less what the system takes away.
const USUAL: u32 = 0o777;

/// A server folder.
#[derive(Debug, Clone)]
pub struct Folder {
    place: Arc<dyn Place>,
    /// Of a folder on another machine, the one on this machine that holds its settings and all that is lantern's own.
    home: Option<Arc<dyn Place>>,
    links: Links,
}

/// One of lantern's own files, by its path in lantern's own folder.
///
/// # Panics
/// When it is no path: lantern makes these names itself.
pub fn own(name: &str) -> RelPath {
    RelPath::parse(&format!("{OWN}/{name}")).expect("lantern's own names are fit to be used")
}

/// Opens the place that a folder is.
fn open_place(path: &Path) -> io::Result<Arc<dyn Place>> {
    let local = Local::open(path)?;
    #[cfg(test)]
    if let Some(lossy) = crate::place::lossy::instead_of(&local) {
        return Ok(lossy);
    }
    Ok(Arc::new(local))
}

impl Folder {
    /// Opens a folder.
    ///
    /// # Errors
    /// When it is none.
    pub fn open(path: &Path) -> Result<Folder> {
        let place = match open_place(path) {
            Err(error)
                if matches!(
                    error.kind(),
                    io::ErrorKind::NotFound | io::ErrorKind::NotADirectory
                ) =>
            {
                return Err(Error::NotAFolder(path.into()));
            }
            place => place.at("opening", path)?,
        };
        Ok(Folder {
            place,
            home: None,
            links: Links::default(),
        })
    }

    /// A folder on another machine, whose settings and records lie in this one.
    ///
    /// # Errors
    /// When the other machine is not reached, or has no such folder.
    pub fn of_far(self, address: &Address, means: &Means) -> Result<Folder> {
        Ok(Folder {
            place: reached(address, means)?,
            home: Some(self.place),
            links: Links::default(),
        })
    }

    /// A folder on another machine that is no server's.
    ///
    /// # Errors
    /// As [`Folder::of_far`].
    pub fn elsewhere(address: &Address, means: &Means) -> Result<Folder> {
        Ok(Folder {
            place: reached(address, means)?,
            home: None,
            links: Links::default(),
        })
    }

    /// Whether it lies on another machine.
    pub fn is_far(&self) -> bool {
        self.home.is_some()
    }

    /// The place of lantern's own files, where a path is one of them and the server's lie elsewhere. What is renamed from and
    /// to the server's files lies beside those all the same.
    fn at_home(&self, path: &RelPath) -> Option<&Arc<dyn Place>> {
        let home = self.home.as_ref()?;
        let settings = path.as_str().strip_prefix(FILE);
        let is_settings = settings.is_some_and(|rest| rest.is_empty() || rest == PART);
        let below = path
            .below(OWN)
            .map(|below| below.split('/').next().unwrap_or(below));
        let is_own = path.as_str() == OWN || below.is_some_and(|room| !BESIDE.contains(&room));
        (is_settings || is_own).then_some(home)
    }

    /// Whether a path lies in what of lantern's own is beside the files of a server on another machine.
    fn is_beside(&self, path: &RelPath) -> bool {
        self.is_far() && path.below(OWN).is_some() && self.at_home(path).is_none()
    }

    /// Does something with each of several things: where each answer is waited for from afar, with many at once.
    pub fn each<'t, T: Sync, R: Send>(
        &self,
        of: &'t [T],
        work: impl Fn(&'t T) -> R + Send + Sync,
    ) -> Vec<R> {
        match self.place.at_once() {
            1 => of.iter().map(work).collect(),
            // Each takes long: nobody is given several while another one waits.
            _ => self.with_hands(|| of.par_iter().with_max_len(1).map(work).collect()),
        }
    }

    /// Does something that asks much of the folder: with as many hands as are worth having.
    pub fn with_hands<R: Send>(&self, work: impl FnOnce() -> R + Send) -> R {
        static HANDS: Mutex<BTreeMap<usize, Arc<ThreadPool>>> = Mutex::new(BTreeMap::new());
        let many = self.place.at_once();
        if many == 1 {
            return work();
        }
        let hands = {
            let mut all = HANDS.lock().unwrap_or_else(PoisonError::into_inner);
            let known = all.get(&many).cloned();
            known.or_else(|| {
                let new = ThreadPoolBuilder::new().num_threads(many).build().ok()?;
                let new = all.entry(many).or_insert_with(|| Arc::new(new));
                Some(Arc::clone(new))
            })
        };
        match hands {
            Some(hands) => hands.install(work),
            None => work(),
        }
    }

    /// So many things are worth being asked of the folder at once.
    pub fn at_once(&self) -> usize {
        self.place.at_once()
    }

    /// The command that runs a line for the shell of another machine that the folder lies on, which is added as its last word.
    pub fn shell(&self) -> Option<Vec<String>> {
        self.place.shell()
    }

    /// What a path is called on the machine that the folder lies on; none where that is this one, or lantern's own.
    pub fn path_there(&self, path: &RelPath) -> Option<String> {
        match self.at_home(path) {
            Some(_) => None,
            None => self.place.path_there(path),
        }
    }

    /// Takes links that are wanted for the folders they lead to, where those lie outside this one. They are looked for once, when it
    /// first matters.
    pub fn following(self, wanted: impl Fn(&str) -> bool + Send + Sync + 'static) -> Folder {
        Folder {
            links: Links::wanted(wanted),
            ..self
        }
    }

    /// The links that are taken for folders.
    pub fn followed(&self) -> &[Followed] {
        self.links.of(&self.place)
    }

    /// The link that is taken for a folder, where a path is one.
    fn followed_at(&self, path: &RelPath) -> Option<&Followed> {
        // No link of lantern's own is followed, nor the file of its settings.
        if is_lanterns(path, &[]) || path.as_str() == FILE {
            return None;
        }
        self.followed().iter().find(|followed| followed.at == *path)
    }

    /// The path inside this folder of a file that the system names; none when it is not in it.
    pub fn below(&self, real: &Path) -> Option<PathBuf> {
        let inside = real.strip_prefix(self.root()).map(Path::to_owned);
        let mut behind = self.followed().iter().filter_map(|followed| {
            let below = real.strip_prefix(&followed.target).ok()?;
            Some(Path::new(followed.at.as_str()).join(below))
        });
        inside.ok().or_else(|| behind.next())
    }

    /// The folder's own path; of one on another machine, that of the folder here which holds its settings.
    pub fn root(&self) -> &Path {
        self.home.as_ref().unwrap_or(&self.place).root()
    }

    /// Where the server's files lie, for messages: of a server on another machine its address.
    pub fn lies_at(&self) -> &Path {
        self.place.root()
    }

    /// Takes a lock file, as [`Place::lock`] does.
    ///
    /// # Errors
    /// When it cannot be opened or written.
    pub fn lock(
        &self,
        path: &RelPath,
        words: &str,
    ) -> Result<std::result::Result<Box<dyn Held>, String>> {
        let (place, at) = self.found(path);
        self.told("locking", path, place.lock(&at, words))
    }

    /// What stands in a lock file that somebody has; none where nobody has it.
    ///
    /// # Errors
    /// When that cannot be seen.
    pub fn locked_by(&self, path: &RelPath) -> Result<Option<String>> {
        let (place, at) = self.found(path);
        self.told("looking at", path, place.locked_by(&at))
    }

    /// The path of a file as the system knows it: for messages, and for programs that are run. Of a file on another machine,
    /// its address.
    pub fn shown(&self, path: &RelPath) -> PathBuf {
        let place = self.at_home(path).unwrap_or(&self.place);
        place.root().join(path.as_str())
    }

    /// The place that a path lies in, and the path there; a link that is followed is its target's top.
    fn found(&self, path: &RelPath) -> (&dyn Place, RelPath) {
        if let Some(home) = self.at_home(path) {
            return (&**home, path.clone());
        }
        // Those of lantern's own lie behind no link, and may be asked for before anything of the server's matters.
        if is_lanterns(path, &[]) || path.as_str() == FILE {
            return (&*self.place, path.clone());
        }
        let mut behind = self.followed().iter().filter_map(|followed| {
            let below = path.below(followed.at.as_str())?;
            Some((followed, RelPath::parse(below).ok()?))
        });
        // The one that lies deepest: its link may itself lie in a folder that is followed.
        let deepest = behind
            .by_ref()
            .max_by_key(|(followed, _)| followed.at.as_str().len());
        match deepest {
            Some((followed, below)) => (&*followed.place, below),
            None => (&*self.place, path.clone()),
        }
    }

    /// Where what is in a folder is found: a link that is taken for a folder leads to the top of another place.
    fn found_folder(&self, folder: &RelPath) -> (&dyn Place, Option<RelPath>) {
        if let Some(followed) = self.followed_at(folder) {
            return (&*followed.place, None);
        }
        let (place, at) = self.found(folder);
        (place, Some(at))
    }

    fn told<T>(&self, doing: &'static str, path: &RelPath, result: io::Result<T>) -> Result<T> {
        result.at(doing, &self.shown(path))
    }

    /// What lies at a path, a link itself and not what it leads to; none when there is nothing.
    ///
    /// # Errors
    /// When a folder on the way is a link that is not followed, or the system does not tell.
    pub fn look(&self, path: &RelPath) -> Result<Option<Meta>> {
        let (place, at) = self.found(path);
        self.told("looking at", path, place.look(&at))
    }

    /// Whether something lies at a path; behind a link that is not followed nothing does.
    ///
    /// # Errors
    /// When the system does not tell.
    pub fn has(&self, path: &RelPath) -> Result<bool> {
        Ok(self.met(path)?.is_some())
    }

    /// As [`Folder::look`], but that behind a link that is not followed lies nothing: what comes to a path may come to where
    /// a link still is that goes.
    ///
    /// # Errors
    /// When the system does not tell.
    pub fn met(&self, path: &RelPath) -> Result<Option<Meta>> {
        let (place, at) = self.found(path);
        let looked = match place.look(&at) {
            Err(error) if is_link_on_the_way(&error) => Ok(None),
            looked => looked,
        };
        self.told("looking at", path, looked)
    }

    /// Where a link leads, as it stands in it.
    ///
    /// # Errors
    /// When it is none.
    pub fn read_link(&self, path: &RelPath) -> Result<String> {
        let (place, at) = self.found(path);
        self.told("reading the link", path, place.read_link(&at))
    }

    /// Makes a new link, and the folders that lead to it.
    ///
    /// # Errors
    /// When something is there, or the disk refuses.
    pub fn make_link(&self, target: &str, path: &RelPath) -> Result<()> {
        if let Some(folder) = path.folder() {
            self.make_folders(&folder)?;
        }
        let (place, at) = self.found(path);
        self.told("making the link", path, place.make_link(target, &at))
    }

    /// Whether a file can get to a path from lantern's own folder by a rename: whether both are on
    /// one disk.
    ///
    /// # Errors
    /// When a folder on the way is a link that is not followed, or the system does not tell.
    pub fn is_on_own_disk(&self, path: &RelPath) -> Result<bool> {
        // File transfer does not tell: that is tried before the server stops.
        if self.is_far() {
            return Ok(true);
        }
        let own_disk = self.look(&RelPath::parse(OWN)?)?;
        let own_disk = match own_disk {
            Some(meta) => meta.disk,
            None => return Ok(true),
        };
        // Folders are compared: in layered file systems a file may have the number of another disk.
        let mut folder = path.folder();
        while let Some(at) = &folder {
            let (place, below) = self.found(at);
            let met = match self.followed_at(at) {
                // The link itself lies here; what counts is where it leads.
                Some(followed) => here::look(&followed.target),
                None => self.told("looking at", at, place.look(&below))?,
            };
            if let Some(meta) = met {
                return Ok(meta.disk == own_disk);
            }
            folder = at.folder();
        }
        Ok(true)
    }

    /// Makes a folder that nobody but its owner can look into, where it is not there yet.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn make_private(&self, path: &RelPath) -> Result<()> {
        let (place, at) = self.found(path);
        let made = place.make_folder(&at, OWNERS_ALONE);
        self.told("making the folder", path, made)
    }

    /// Makes lantern's own folder, and one inside it.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn make_own(&self, name: &str) -> Result<RelPath> {
        let top = RelPath::parse(OWN)?;
        let (place, at) = self.found(&top);
        let made = place.make_folder(&at, OWNERS_ALONE);
        self.told("making the folder", &top, made)?;
        if name.is_empty() {
            return Ok(top);
        }
        let path = own(name);
        self.make_folders(&path)?;
        Ok(path)
    }

    /// Makes lantern's own folder beside the server's files, wherever they lie.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn make_own_there(&self) -> Result<()> {
        let top = RelPath::parse(OWN)?;
        let made = self.place.make_folder(&top, OWNERS_ALONE);
        made.at("making the folder", &self.lies_at().join(OWN))
    }

    /// Makes a folder with all that lead to it.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn make_folders(&self, path: &RelPath) -> Result<()> {
        let mut missing = vec![path.clone()];
        while let Some(above) = missing.last().and_then(RelPath::folder) {
            // The one here says nothing of the one there.
            let is_top_there = above.as_str() == OWN && self.is_beside(path);
            if !is_top_there && self.has(&above)? {
                break;
            }
            missing.push(above);
        }
        if missing.last().is_some_and(|top| top.as_str() == OWN) && self.is_beside(path) {
            missing.pop();
            self.make_own_there()?;
        }
        // A link that is taken for a folder is there as one.
        missing.retain(|folder| self.followed_at(folder).is_none());
        for folder in missing.into_iter().rev() {
            let (place, at) = self.found(&folder);
            self.told("making the folder", &folder, place.make_folder(&at, USUAL))?;
            if !is_lanterns(&folder, &[]) {
                self.give_like(&folder, &folder, false)?;
            }
        }
        Ok(())
    }

    /// Makes folders whose own folders are there, or are among them: those that lie equally deep at once.
    ///
    /// # Errors
    /// When one of them is something else, or the disk refuses.
    pub fn make_each(&self, folders: &[RelPath]) -> Result<()> {
        let depth = |path: &RelPath| path.as_str().matches('/').count();
        let mut by_depth: BTreeMap<usize, Vec<&RelPath>> = BTreeMap::new();
        for folder in folders {
            by_depth.entry(depth(folder)).or_default().push(folder);
        }
        for level in by_depth.into_values() {
            let made = self.each(&level, |folder| {
                let (place, at) = self.found(folder);
                self.told("making the folder", folder, place.make_folder(&at, USUAL))
            });
            made.into_iter().collect::<Result<()>>()?;
        }
        Ok(())
    }

    /// Gives a file that comes to a path to the user and group of what lies there, and with `rights` its rights; or to those of
    /// the folder that it comes into. Says whether it belongs to that user then: most users may not give anything away.
    ///
    /// # Errors
    /// When the system does not tell whose something is.
    pub fn give_like(&self, file: &RelPath, to: &RelPath, rights: bool) -> Result<bool> {
        let there = self.met(to)?.filter(Meta::is_file);
        let mut above = to.folder();
        let mut like = there;
        while let (None, Some(folder)) = (like, &above) {
            like = self.met(folder)?.filter(Meta::is_folder);
            above = folder.folder();
        }
        let Some(like) = like.or_else(|| here::look(self.root())) else {
            return Ok(true);
        };
        // Whose a link is matters to nobody.
        let Some(now) = self.look(file)?.filter(|now| !now.is_link()) else {
            return Ok(true);
        };
        let rights = there
            .filter(|_| rights)
            .map(|there| there.rights | now.rights & 0o111);
        let same = (now.owner, now.group) == (like.owner, like.group);
        if same && rights.is_none_or(|rights| rights == now.rights) {
            return Ok(true);
        }
        let (place, at) = self.found(file);
        let given = place.give(&at, like.owner, like.group, rights);
        Ok(given.is_ok() || now.owner == like.owner)
    }

    /// Gives a file or folder to a user and a group, with these rights; says whether it belongs to them then, which
    /// only some users may bring about.
    ///
    /// # Errors
    /// When it is not there.
    pub fn give(&self, path: &RelPath, owner: u32, group: u32, rights: u32) -> Result<bool> {
        let (place, at) = self.found(path);
        let given = place.give(&at, owner, group, Some(rights));
        Ok(given.is_ok() && self.has(path)?)
    }

    /// The extended attributes of a file or folder, by name.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub fn attributes(&self, path: &RelPath) -> Result<BTreeMap<String, Vec<u8>>> {
        let (place, at) = self.found(path);
        place.attributes(&at).at("reading", &self.shown(path))
    }

    /// Sets an extended attribute of a file or folder; says whether that could be.
    pub fn set_attribute(&self, path: &RelPath, name: &str, value: &[u8]) -> bool {
        let (place, at) = self.found(path);
        place.set_attribute(&at, name, value).is_ok()
    }

    /// Lists every file and folder but lantern's own, and those in followed folders.
    ///
    /// # Errors
    /// When a folder cannot be read.
    pub fn list(&self) -> Result<Listing> {
        let mut listing = Listing::default();
        let followed = self.links.of_found(&self.place, |place, at| {
            let listed = listing::list_in(place, at, &|_| true, &[], &mut listing);
            listed.map_err(|(path, error)| self.listing_fault(&path, error))
        })?;
        Ok(listing.without(followed))
    }

    /// As [`Folder::list`], without what lies in folders that are not wanted. On another machine, those that are likely to be there are asked
    /// for at once.
    ///
    /// # Errors
    /// When a folder cannot be read.
    pub fn list_where(
        &self,
        wanted: &dyn Fn(&RelPath) -> bool,
        likely: &[RelPath],
    ) -> Result<Listing> {
        let mut listing = Listing::default();
        let likely = if self.is_far() { likely } else { &[] };
        let top = listing::list_in(&*self.place, None, wanted, likely, &mut listing);
        top.map_err(|(path, error)| self.listing_fault(&path, error))?;
        for Followed { at, place, .. } in self.followed().iter().filter(|it| wanted(&it.at)) {
            let inside = listing::list_in(&**place, Some(at), wanted, &[], &mut listing);
            inside.map_err(|(path, error)| self.listing_fault(&path, error))?;
        }
        Ok(listing.without(self.followed()))
    }

    fn listing_fault(&self, path: &str, source: io::Error) -> Error {
        Error::Io {
            doing: "listing",
            path: self.place.root().join(path),
            source,
        }
    }

    /// Every file and link below a folder, lantern's own folders among them, with its size in bytes.
    ///
    /// # Errors
    /// When a folder cannot be read.
    pub fn files_below(&self, folder: &RelPath) -> Result<Vec<(RelPath, u64)>> {
        let files = self.metas_below(folder)?.into_iter();
        Ok(files.map(|(path, meta)| (path, meta.stamp.bytes)).collect())
    }

    /// As [`Folder::files_below`], with all that is known of each; several folders are listed at once where each answer is waited for
    /// from afar.
    ///
    /// # Errors
    /// When a folder cannot be read.
    pub fn metas_below(&self, folder: &RelPath) -> Result<Vec<(RelPath, Meta)>> {
        let mut files = Vec::new();
        let mut next = vec![folder.clone()];
        while !next.is_empty() {
            let listed = self.each(&next, |folder| self.entries(folder));
            next.clear();
            for entries in listed {
                for (path, meta) in entries? {
                    match meta.is_folder() {
                        true => next.push(path),
                        false if meta.is_leaf() => files.push((path, meta)),
                        false => {}
                    }
                }
            }
        }
        files.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(files)
    }

    /// What lies right in a folder, by path; names that cannot be dealt with are left out, and a folder that is
    /// not there has nothing in it.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn entries(&self, folder: &RelPath) -> Result<Vec<(RelPath, Meta)>> {
        let (place, at) = self.found_folder(folder);
        let entries = match place.list(at.as_ref()) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            entries => self.told("listing", folder, entries)?,
        };
        let named = entries.into_iter().filter_map(|(name, meta)| {
            let path = folder.join(name.to_str()?).ok()?;
            Some((path, meta))
        });
        let mut named: Vec<(RelPath, Meta)> = named.collect();
        named.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(named)
    }

    /// As [`Folder::entries`]; in what is no folder, or lies behind a link that is not followed, lies nothing.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn inside(&self, folder: &RelPath) -> Result<Vec<(RelPath, Meta)>> {
        match self.entries(folder) {
            Err(Error::Io { source, .. })
                if is_link_on_the_way(&source) || source.kind() == io::ErrorKind::NotADirectory =>
            {
                Ok(Vec::new())
            }
            inside => inside,
        }
    }

    /// Of what lies right in a folder: its path, none where the name cannot be dealt with, and what it is; in a folder that is
    /// not there, or behind a link that is not followed, lies nothing.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn sorts(&self, folder: &RelPath) -> Result<Vec<(Option<RelPath>, Sort)>> {
        let (place, at) = self.found_folder(folder);
        let sorts = match place.sorts(at.as_ref()) {
            Err(error) if is_link_on_the_way(&error) => return Ok(Vec::new()),
            Err(error)
                if matches!(
                    error.kind(),
                    io::ErrorKind::NotFound | io::ErrorKind::NotADirectory
                ) =>
            {
                return Ok(Vec::new());
            }
            sorts => self.told("listing", folder, sorts)?,
        };
        let below = |name: &OsStr| folder.join(name.to_str()?).ok();
        let sorts = sorts.into_iter();
        Ok(sorts.map(|(name, sort)| (below(&name), sort)).collect())
    }

    /// Opens a file to read it.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn open_file(&self, path: &RelPath) -> Result<Box<dyn Source>> {
        let (place, at) = self.found(path);
        self.told("reading", path, place.open(&at))
    }

    /// As [`Folder::open_file`], for a file that was just listed, or looked at, as a regular one of so many bytes; where it lies on
    /// another machine, its length alone is then known.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn open_listed(&self, path: &RelPath, bytes: u64) -> Result<Box<dyn Source>> {
        let (place, at) = self.found(path);
        self.told("reading", path, place.open_listed(&at, bytes))
    }

    /// Reads a file.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn read(&self, path: &RelPath) -> Result<Vec<u8>> {
        let mut bytes = Vec::new();
        let read = self.open_file(path)?.read_to_end(&mut bytes);
        self.told("reading", path, read)?;
        Ok(bytes)
    }

    /// Reads a file; none when it is not there.
    ///
    /// # Errors
    /// When it is there and cannot be read.
    pub fn read_if_there(&self, path: &RelPath) -> Result<Option<Vec<u8>>> {
        match self.read(path) {
            Err(Error::Io { source, .. }) if source.kind() == io::ErrorKind::NotFound => Ok(None),
            read => read.map(Some),
        }
    }

    /// Reads a file as the server itself would, whatever links lead there; none when that cannot be.
    pub fn read_as_the_server(&self, file: &str) -> Option<Vec<u8>> {
        match self.is_far() {
            true => self.read(&RelPath::parse(file).ok()?).ok(),
            false => here::read(&self.root().join(file)).ok(),
        }
    }

    /// Reads a text file.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn read_text(&self, path: &RelPath) -> Result<Text> {
        Ok(Text::read(&self.read(path)?))
    }

    /// As [`Folder::read_text`], for a file that was just listed as one of so many bytes.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn read_listed_text(&self, path: &RelPath, bytes: u64) -> Result<Text> {
        let mut content = Vec::new();
        let read = self.open_listed(path, bytes)?.read_to_end(&mut content);
        self.told("reading", path, read)?;
        Ok(Text::read(&content))
    }

    /// What tells a content from others: its hash, as [`Folder::hash`] has it; of a file on another machine, which would have to be
    /// fetched for that, its size and when it was written.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn content(&self, path: &RelPath, stamp: &Stamp) -> Result<String> {
        match self.is_far() && self.at_home(path).is_none() {
            true => Ok(unread(path, stamp.bytes, stamp.modified_ns)),
            false => self.hash(path),
        }
    }

    /// What tells the content of a file, to be held against what was expected of it: of one on another machine that was not read
    /// then, its size and when it was written.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn held_against(&self, path: &RelPath, now: &Meta, expected: &str) -> Result<String> {
        let like = unread_like(expected, now.stamp.bytes, now.stamp.modified_ns);
        match like.filter(|_| now.is_file()) {
            Some(like) => Ok(like),
            None => self.hash(path),
        }
    }

    /// Hashes a file's content; BLAKE3 in hexadecimal. Of a link, its mark.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn hash(&self, path: &RelPath) -> Result<String> {
        let opened = self.open_file(path);
        if opened.is_err() && self.look(path)?.is_some_and(|meta| meta.is_link()) {
            return Ok(link::mark(&self.read_link(path)?));
        }
        let hashed = hash_source(&mut *opened?);
        self.told("reading", path, hashed)
    }

    /// Makes a new file, and the folders that lead to it.
    ///
    /// # Errors
    /// When something is there, or the disk refuses.
    pub fn create(&self, path: &RelPath) -> Result<Box<dyn NewFile>> {
        if let Some(folder) = path.folder() {
            self.make_folders(&folder)?;
        }
        let (place, at) = self.found(path);
        self.told("writing", path, place.create(&at))
    }

    /// So much of the end of a file whose writing was cut off may not be as it was written; none where writing cannot be gone on with.
    pub fn unsure_end(&self, path: &RelPath) -> Option<u64> {
        let (place, _) = self.found(path);
        place.unsure_end()
    }

    /// Goes on with writing a file, where its sure part ends.
    ///
    /// # Errors
    /// When it is not there, or the disk refuses.
    pub fn go_on(&self, path: &RelPath, at: u64) -> Result<Box<dyn NewFile>> {
        let (place, inside) = self.found(path);
        self.told("writing", path, place.go_on(&inside, at))
    }

    /// Writes a new file whole, with the rights of a program or not, and brings its content to the disk.
    ///
    /// # Errors
    /// When something is there, or the disk refuses.
    pub fn write_new(&self, path: &RelPath, content: &[u8], rights: Option<u32>) -> Result<()> {
        let mut file = self.create(path)?;
        let written = file.write_all(content).and_then(|()| {
            rights.map_or(Ok(()), |rights| file.set_rights(rights))?;
            file.sync()
        });
        self.told("writing", path, written)
    }

    /// Copies what is read into a new file, brings it to the disk, and tells its BLAKE3.
    ///
    /// # Errors
    /// When it cannot be read, something is there, or the disk refuses.
    pub fn copy_new(
        &self,
        from: &mut dyn Read,
        path: &RelPath,
        is_program: bool,
    ) -> Result<String> {
        let mut file = self.create(path)?;
        let mut hasher = blake3::Hasher::new();
        let mut buffer = vec![0; HASHED_AT_ONCE];
        let copied = (|| {
            loop {
                let read = from.read(&mut buffer)?;
                if read == 0 {
                    break;
                }
                hasher.update(&buffer[..read]);
                file.write_all(&buffer[..read])?;
            }
            if is_program {
                file.set_rights(PROGRAM)?;
            }
            file.sync()
        })();
        self.told("writing", path, copied)?;
        Ok(hasher.finalize().to_hex().to_string())
    }

    /// Writes a file beside its place, syncs it, renames it there and syncs the folder: it is there whole or
    /// not at all, even when the power goes.
    ///
    /// # Errors
    /// When the disk is full or the folder cannot be written; the old file is then still there.
    pub fn write_whole(&self, path: &RelPath, content: &[u8]) -> Result<()> {
        let beside = RelPath::parse(&format!("{path}{PART}"))?;
        let mut written = self.write_new(&beside, content, None);
        // What was cut off as it was written is no more use.
        if written.is_err() && self.has(&beside)? {
            self.remove_file(&beside)?;
            written = self.write_new(&beside, content, None);
        }
        if let Err(error) = written {
            let _ = self.remove_file(&beside);
            return Err(error);
        }
        self.replace(&beside, path)?;
        self.sync(path.folder().as_ref())
    }

    /// Renames, and never over something that is there.
    ///
    /// # Errors
    /// When something is there, the two lie in different places, or the disk refuses.
    pub fn rename(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        let ((old, at), (new, there)) = (self.found(from), self.found(to));
        let renamed = match std::ptr::addr_eq(old, new) {
            true => old.rename(&at, &there),
            // A followed folder may lie on the same disk.
            false => here::rename(
                &old.root().join(at.as_str()),
                &new.root().join(there.as_str()),
            ),
        };
        self.told("renaming to", to, renamed)
    }

    /// As [`Folder::rename`], each by itself; where the other end would be asked before each what is there, it is asked once for each folder.
    pub fn rename_each(&self, renames: &[(RelPath, RelPath)]) -> Vec<Result<()>> {
        let is_here = |(from, to): &(RelPath, RelPath)| {
            [from, to].map(|path| std::ptr::addr_eq(self.found(path).0, &*self.place)) == [true; 2]
        };
        if !self.place.asks_before_renames() || !renames.iter().all(is_here) {
            return self.each(renames, |(from, to)| self.rename(from, to));
        }
        let parents: BTreeSet<Option<RelPath>> =
            renames.iter().map(|(_, to)| to.folder()).collect();
        let parents: Vec<Option<RelPath>> = parents.into_iter().collect();
        let listed = self.place.list_each(&parents);
        let listed = parents.into_iter().zip(listed).map(|(parent, listed)| {
            let names = listed.map(|inside| inside.into_iter().map(|(name, _)| name).collect());
            (parent, names.ok())
        });
        let listed: BTreeMap<Option<RelPath>, Option<BTreeSet<OsString>>> = listed.collect();
        let is_free = |(_, to): &(RelPath, RelPath)| {
            let inside = listed.get(&to.folder()).and_then(Option::as_ref);
            inside.map(|inside| !inside.contains(OsStr::new(to.name())))
        };
        // Together goes what is known of alike.
        let alike = renames.chunk_by(|a, b| is_free(a) == is_free(b));
        let together: Vec<&[(RelPath, RelPath)]> = alike
            .flat_map(|alike| alike.chunks(self.place.renames_at_once()))
            .collect();
        let renamed = self.each(&together, |together| {
            let renamed = match together.first().and_then(is_free) {
                Some(true) => self.place.rename_as_listed(together),
                Some(false) => together
                    .iter()
                    .map(|_| Err(io::ErrorKind::AlreadyExists.into()))
                    .collect(),
                None => together
                    .iter()
                    .map(|(from, to)| self.place.rename(from, to))
                    .collect(),
            };
            let renamed = together.iter().zip(renamed);
            renamed
                .map(|((_, to), renamed)| self.told("renaming to", to, renamed))
                .collect::<Vec<_>>()
        });
        renamed.into_iter().flatten().collect()
    }

    /// Makes a file that shares its content with another one until one of them is written.
    ///
    /// # Errors
    /// When the file system cannot, or the two lie in different places.
    pub fn share(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        let ((old, from), (new, to)) = (self.found(from), self.found(to));
        match std::ptr::addr_eq(old, new) {
            true => old.share(&from, &to),
            false => Err(io::ErrorKind::CrossesDevices.into()),
        }
    }

    /// Whether the other end may copy what lies elsewhere on its machine.
    pub fn copies_there(&self) -> bool {
        self.place.copies_there()
    }

    /// Copies a file that lies elsewhere on the same machine, by its path there, to where nothing is, and lets it last; false where it is not
    /// there, or does not look as it did. Nothing of it goes over the line.
    ///
    /// # Errors
    /// When the other end does not copy, or refuses.
    pub fn copy_there(&self, from: &str, stamp: &Stamp, to: &RelPath, rights: u32) -> Result<bool> {
        let (place, at) = self.found(to);
        let copied = place.copy_there(from, stamp, &at, rights);
        self.told("copying to", to, copied)
    }

    /// Copies a file with its rights, and its owner where that may be, or a link; says whether it was still there.
    ///
    /// # Errors
    /// When it cannot be read, something is at the new place, or the disk refuses.
    pub fn copy(&self, from: &RelPath, to: &RelPath) -> Result<bool> {
        if self.look(from)?.is_some_and(|meta| meta.is_link()) {
            self.make_link(&self.read_link(from)?, to)?;
            return Ok(true);
        }
        let mut source = match self.open_file(from) {
            Err(Error::Io { source, .. }) if source.kind() == io::ErrorKind::NotFound => {
                return Ok(false);
            }
            opened => opened?,
        };
        let mut target = self.create(to)?;
        let copied = io::copy(&mut *source, &mut *target);
        let copied = copied.and_then(|_| {
            let meta = source.meta()?;
            target.set_rights(meta.rights)?;
            // From another machine comes only then whether it was taken.
            if self.is_far() {
                target.sync()?;
            }
            Ok(meta)
        });
        let meta = self.told("copying", from, copied)?;
        // The users of another machine are nobody here.
        if !self.is_far() {
            self.belongs_like(to, &meta)?;
        }
        Ok(true)
    }

    /// Gives what lies at a path to whom something else belongs, with its rights, where it is not theirs yet and that may be.
    ///
    /// # Errors
    /// When it is not there.
    pub fn belongs_like(&self, path: &RelPath, like: &Meta) -> Result<()> {
        let now = self.look(path)?;
        if now.is_some_and(|now| (now.owner, now.group) != (like.owner, like.group)) {
            self.give(path, like.owner, like.group, like.rights)?;
        }
        Ok(())
    }

    /// Removes a file or a link.
    ///
    /// # Errors
    /// When it is not there, or the disk refuses.
    pub fn remove_file(&self, path: &RelPath) -> Result<()> {
        let (place, at) = self.found(path);
        self.told("removing", path, place.remove_file(&at))
    }

    /// Renames a file into the place of another one.
    ///
    /// # Errors
    /// When the two lie in different places, or the disk refuses; the other one is then still there.
    pub fn replace(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        let ((place, at), (_, there)) = (self.found(from), self.found(to));
        self.told("renaming", to, place.replace(&at, &there))
    }

    /// Removes a folder where it is empty; says whether it has gone.
    pub fn remove_if_empty(&self, path: &RelPath) -> bool {
        let (place, at) = self.found(path);
        place.remove_folder(&at).is_ok()
    }

    /// Removes a folder with all that is in it, links and not what they lead to; that it is not there is no
    /// error.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn remove_all(&self, path: &RelPath) -> Result<()> {
        let (place, at) = self.found(path);
        self.told("removing", path, listing::remove_all(place, &at))
    }

    /// Makes the names in a folder, or at the top, last.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn sync(&self, folder: Option<&RelPath>) -> Result<()> {
        let Some(path) = folder else {
            let both = self.home.iter().chain([&self.place]);
            let mut synced = both.map(|place| place.sync(None).at("syncing", place.root()));
            return synced.try_for_each(|it| it);
        };
        if let Some(followed) = self.followed_at(path) {
            return followed.place.sync(None).at("syncing", &followed.target);
        }
        let (place, at) = self.found(path);
        self.told("syncing", path, place.sync(Some(&at)))
    }

    /// How much room is left where a path lies, in bytes.
    ///
    /// # Errors
    /// When the system does not tell.
    pub fn free_bytes(&self, at: &RelPath) -> Result<u64> {
        let (place, _) = self.found(at);
        place
            .free_bytes()
            .at("looking at the disk of", place.root())
    }
}

fn reached(address: &Address, means: &Means) -> Result<Arc<dyn Place>> {
    far::open(address, means).map_err(|source| Error::NotReached {
        address: address.to_string(),
        source,
    })
}

fn is_link_on_the_way(error: &io::Error) -> bool {
    error
        .get_ref()
        .is_some_and(|inner| inner.is::<LinkOnTheWay>())
}

/// Hashes what a file holds; BLAKE3 in hexadecimal. Never holds more than a piece of it in memory.
///
/// # Errors
/// When it cannot be read.
pub fn hash_source(file: &mut dyn Source) -> io::Result<String> {
    // One buffer for each thread: most files are far smaller than it.
    thread_local! {
        static BUFFER: RefCell<Vec<u8>> = RefCell::new(vec![0; HASHED_AT_ONCE]);
    }
    let mut hasher = blake3::Hasher::new();
    BUFFER.with_borrow_mut(|buffer| {
        loop {
            match file.read(buffer)? {
                0 => return Ok(hasher.finalize().to_hex().to_string()),
                read => hasher.update(&buffer[..read]),
            };
        }
    })
}

/// Hashes a file of this machine by its path; BLAKE3 in hexadecimal.
///
/// # Errors
/// When it cannot be read.
pub fn hash_file(path: &Path) -> Result<String> {
    let hashed = here::open(path).and_then(|mut file| hash_source(&mut *file));
    hashed.at("reading", path)
}

/// The first path that is not there yet, of those with nothing, `-2`, `-3` … behind the name.
pub(crate) fn free_name(
    folder: &Folder,
    path: impl Fn(&str) -> Result<RelPath, PathFault>,
) -> Result<RelPath> {
    let mut named = path("")?;
    let mut number = 2;
    while folder.has(&named)? {
        named = path(&format!("-{number}"))?;
        number += 1;
    }
    Ok(named)
}

/// The longest part of a name, so that names of several parts stay fit for a disk.
const LONGEST_PART: usize = 60;

/// A name with nothing in it that a path could trip over.
pub(crate) fn safe_name(text: &str) -> String {
    let fine = |c: char| c.is_ascii_alphanumeric() || "._-+".contains(c);
    let letters = text.chars().take(LONGEST_PART);
    letters.map(|c| if fine(c) { c } else { '-' }).collect()
}
