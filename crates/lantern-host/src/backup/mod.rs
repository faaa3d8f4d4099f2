//! `.lantern/store`: backups of what is on the keep list, or of everything.
//!
//! A backup is made in two passes: the first while the server still runs, the second after it has
//! stopped, of what has changed since. Contents lie in the [`store`] in small pieces, the list of files among them;
//! `backups/NAME.json` ([`page`]) leads to that list.

pub mod ahead;
pub mod fault;
mod home;
mod page;
mod seal;
mod shelf;
mod store;

use crate::backup::fault::BackupFault;
use crate::config::Server;
use crate::config::fault::ConfigFault;
use crate::error::{At, Error, Result};
use crate::folder::{Folder, Listing, Stamp};
use crate::meter;
use crate::place::{Meta, here};
pub use home::{About, lock_room};
use home::{Home, home, home_itself};
use lantern_core::link;
pub use lantern_core::operation::Scope;
use lantern_core::path::RelPath;
use page::Found;
pub use page::{Manifest, Page, Stored, StoredFolder};
use rayon::prelude::*;
pub use seal::make_key;
use seal::random;
pub use shelf::Bucket;
use shelf::Object;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::io::Write;
use std::path::Path;
use std::time::{Duration, Instant};
pub use store::Thinned;
use store::{Grain, Hash, Needed, Since, Store, Tree, each};

/// So long after a first pass looked at the store, a second one counts on what that found there.
const FRESH: Duration = Duration::from_secs(60 * 60);
/// So much that lies side by side is read by one hand, in bytes.
const TOGETHER: u64 = 1 << 20;

/// Where something is wrong, and what.
pub type Wrong = (String, String);

/// The files as one pass saw and stored them.
#[derive(Debug)]
pub struct Pass {
    scope: Scope,
    files: BTreeMap<RelPath, (Stamp, Stored)>,
    folders: Vec<StoredFolder>,
    /// The folders that it listed.
    entered: Vec<RelPath>,
    /// The list of the files and folders, in the store.
    list: Tree,
    /// How many bytes this pass found that no earlier one had.
    pub read_bytes: u64,
    /// How much the store grew, in bytes.
    pub stored_bytes: u64,
    /// When it looked at the store.
    since: Since,
    /// What ought to be in it and is not, as it is a link or a device, or its name is odd.
    pub left_out: Vec<String>,
}

impl Pass {
    /// The files as a backup that was made of them has them.
    pub fn of(manifest: Manifest) -> Pass {
        let files = manifest.files.into_iter();
        let files = files.map(|stored| (stored.path.clone(), (stored.stamp, stored)));
        Pass {
            scope: manifest.scope,
            files: files.collect(),
            entered: Vec::new(),
            folders: manifest.folders,
            list: Tree::default(),
            read_bytes: 0,
            stored_bytes: manifest.stored_bytes,
            since: Since::now(),
            left_out: Vec::new(),
        }
    }

    /// Whether every kept file is still the one that this pass saw; those that are `spared` are not looked at.
    ///
    /// # Errors
    /// When the folder cannot be listed.
    pub fn changes_since(
        &self,
        server: &Server,
        spared: &dyn Fn(&str) -> bool,
    ) -> Result<Vec<String>> {
        let mut now = files_of(server, self.scope, &self.entered)?;
        now.retain(|(path, _)| !spared(path.as_str()));
        let mut changes = Vec::new();
        for (path, stamp) in &now {
            match self.files.get(path) {
                None => changes.push(format!("{path} is new")),
                Some((seen, stored)) if seen != stamp => {
                    if server.folder.hash(path)? != stored.blake3 {
                        changes.push(format!("{path} was written"));
                    }
                }
                Some(_) => {}
            }
        }
        let now: BTreeMap<_, _> = now.into_iter().collect();
        let there = self.files.keys().filter(|path| !spared(path.as_str()));
        let gone = there.filter(|path| !now.contains_key(*path));
        changes.extend(gone.map(|path| format!("{path} is gone")));
        Ok(changes)
    }

    fn stored(&self) -> impl Iterator<Item = &Stored> {
        self.files.values().map(|(_, stored)| stored)
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

/// What there is of a scope; some folders are likely to be there, as they were before.
fn listing_of(server: &Server, scope: Scope, likely: &[RelPath]) -> Result<Listing> {
    if scope == Scope::Everything {
        return server.folder.list();
    }
    let may_keep = |folder: &RelPath| server.may_keep_below(folder.as_str());
    let mut listing = server.folder.list_where(&may_keep, likely)?;
    listing
        .files
        .retain(|(path, _)| server.keeps(path.as_str()));
    listing
        .links
        .retain(|(path, ..)| server.keeps(path.as_str()));
    listing.folders.retain(|path| server.keeps(path.as_str()));
    listing.left_alone.retain(|path| server.keeps(path));
    Ok(listing)
}

/// The files and links of a listing.
fn leaves(listing: &mut Listing) -> Vec<(RelPath, Stamp)> {
    let mut leaves = std::mem::take(&mut listing.files);
    let links = std::mem::take(&mut listing.links).into_iter();
    leaves.extend(links.map(|(path, stamp, _)| (path, stamp)));
    leaves
}

fn files_of(server: &Server, scope: Scope, likely: &[RelPath]) -> Result<Vec<(RelPath, Stamp)>> {
    Ok(leaves(&mut listing_of(server, scope, likely)?))
}

/// Stores the keep list, as a changeover does; what `earlier` saw is not read again.
///
/// # Errors
/// As [`pass_of`].
pub fn pass(server: &Server, earlier: Option<&Pass>) -> Result<Pass> {
    pass_of(server, Scope::Kept, earlier)
}

/// Stores every file whose content is not there yet; what `earlier` saw is not read again.
///
/// # Errors
/// When a file cannot be read or the store cannot be written. A file that goes away while the
/// server runs is left out.
pub fn pass_of(server: &Server, scope: Scope, earlier: Option<&Pass>) -> Result<Pass> {
    let mut store = open(server)?;
    let begun = Instant::now();
    if earlier.is_none() {
        bring_forward(server, &mut store)?;
    }
    // What the last backup of these files holds whole is not read again, nor what this one's first pass saw.
    let last = match earlier {
        Some(_) => BTreeMap::new(),
        None => last_seen(server, &store, scope)?,
    };
    let likely = earlier.map_or(&[][..], |earlier| &earlier.entered);
    let mut listing = listing_of(server, scope, likely)?;
    let leaves = leaves(&mut listing);
    meter::begin(leaves.iter().map(|(_, stamp)| stamp.bytes).sum());
    let alike = match earlier {
        None => Alike::to(server, last.values()),
        Some(earlier) => Alike::to(server, earlier.stored()),
    };
    // Later, others may have thinned the store out.
    let is_fresh = earlier.is_none_or(|earlier| earlier.since.ago() < FRESH);
    let one = |(path, stamp): (RelPath, Stamp)| {
        // The second pass is made with the server down, and goes on to its end.
        if earlier.is_none() && crate::interrupt::called_off() {
            return Err(BackupFault::CalledOff.into());
        }
        let seen = earlier.and_then(|earlier| earlier.files.get(&path));
        let seen = seen.map(|(_, stored)| stored);
        let seen = seen.filter(|stored| is_fresh || store.has(&stored.tree()));
        let unchanged = |stored: &&Stored| alike.is(stored, stamp);
        let last = last.get(&path).filter(unchanged);
        let last = || last.filter(|stored| store.has(&stored.tree()));
        if let Some(stored) = seen.filter(unchanged).or_else(last) {
            meter::did(stamp.bytes);
            return Ok(Some((path, stamp, stored.clone(), false)));
        }
        match take(&store, server, &path, stamp) {
            Ok(stored) => Ok(Some((path, stamp, stored, true))),
            Err(Error::Io { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => {
                Ok(None)
            }
            Err(other) => Err(other),
        }
    };
    let hold = |folder: &RelPath| {
        // A server at work removes some while they are looked at; a followed link is its owner's own.
        let meta = server.folder.look(folder)?.filter(Meta::is_folder);
        let Some(meta) = meta else {
            return Ok(None);
        };
        // Where it cannot be opened, nothing in it could be either: that is told of its files.
        let attributes = server.folder.attributes(folder).unwrap_or_default();
        Ok(Some(StoredFolder {
            folder: folder.clone(),
            mode: meta.rights,
            user: meta.owner,
            group: meta.group,
            attributes: written(attributes),
        }))
    };
    type Taken = Vec<Option<(RelPath, Stamp, Stored, bool)>>;
    let (taken, folders) = std::thread::scope(|scope| {
        let folders = scope.spawn(|| server.folder.each(&listing.folders, hold));
        let taken: Result<Taken> = server
            .folder
            .with_hands(|| leaves.into_par_iter().map(one).collect());
        let folders = folders.join();
        (
            taken,
            folders.unwrap_or_else(|panic| std::panic::resume_unwind(panic)),
        )
    });
    let taken = taken?;
    let taken: Vec<_> = taken.into_iter().flatten().collect();
    // What was read again and found as it was has not changed.
    let was = |path: &RelPath| Some(&earlier?.files.get(path)?.1.blake3);
    let read = taken
        .iter()
        .filter(|(path, _, stored, fresh)| *fresh && was(path) != Some(&stored.blake3));
    let read_bytes = read.map(|(.., stored, _)| stored.bytes).sum();
    ahead::remember(server, read_bytes, begun.elapsed());
    let files: BTreeMap<RelPath, (Stamp, Stored)> = taken
        .into_iter()
        .map(|(path, stamp, stored, _)| (path, (stamp, stored)))
        .collect();
    let folders: Vec<Option<StoredFolder>> = folders.into_iter().collect::<Result<_>>()?;
    let folders: Vec<StoredFolder> = folders.into_iter().flatten().collect();
    let stored = files.values().map(|(_, stored)| stored);
    let list = store.take_bytes(&page::lines(stored, &folders))?;
    store.commit()?;
    Ok(Pass {
        scope,
        files,
        folders,
        entered: listing.entered,
        list,
        read_bytes,
        stored_bytes: earlier.map_or(0, |earlier| earlier.stored_bytes) + store.grown(),
        since: match (is_fresh, earlier) {
            (true, Some(earlier)) => earlier.since,
            _ => store.since,
        },
        left_out: listing.left_alone,
    })
}

/// Tells whether files are still as they were stored.
struct Alike {
    /// When the last written of them was written, on another machine: that is told in seconds, and it may have been written once more in
    /// that one since it was read.
    newest: Option<i64>,
}

impl Alike {
    fn to<'s>(server: &Server, stored: impl Iterator<Item = &'s Stored>) -> Alike {
        let written = stored.map(|stored| stored.stamp.modified_ns);
        Alike {
            newest: written.max().filter(|_| server.folder.is_far()),
        }
    }

    fn is(&self, stored: &Stored, stamp: Stamp) -> bool {
        // Earlier lanterns did not write down whose it was.
        let is_known = stored.stamp == stamp && stored.user.is_some();
        is_known && self.newest != Some(stamp.modified_ns)
    }
}

/// The files of the newest backups that may have those of a scope, the newer before the older.
fn last_seen(server: &Server, store: &Store, scope: Scope) -> Result<BTreeMap<RelPath, Stored>> {
    let mut newest: BTreeMap<bool, (u64, i64, Found)> = BTreeMap::new();
    for (_, page) in pages(&home(server)?)? {
        let Ok(found) = page else {
            continue;
        };
        let page = found.summary();
        let of = newest.entry(page.scope == scope);
        let newer = (page.number, page.made_ms, found);
        of.and_modify(|last| {
            if (last.0, last.1) < (newer.0, newer.1) {
                *last = newer.clone();
            }
        })
        .or_insert(newer);
    }
    let mut newest: Vec<_> = newest.into_iter().collect();
    newest.sort_by_key(|(is_of, (number, made_ms, _))| (*number, *made_ms, *is_of));
    let mut seen = BTreeMap::new();
    for (_, (_, _, found)) in newest {
        // Where its list is lost, all is read anew.
        let manifest = found.manifest(store);
        let files = manifest.map(|manifest| manifest.files).unwrap_or_default();
        seen.extend(files.into_iter().map(|file| (file.path.clone(), file)));
    }
    Ok(seen)
}

/// Writes pages anew that an earlier lantern wrote, with their lists in the store.
fn bring_forward(server: &Server, store: &mut Store) -> Result<()> {
    let home = home(server)?;
    let mut anew = Vec::new();
    for (name, page) in pages(&home)? {
        // One that makes no sense is told of where backups are listed.
        let Ok(Found::Old(mut manifest)) = page else {
            continue;
        };
        for file in &mut manifest.files {
            file.move_to(store.shortened(&file.tree())?);
        }
        let list = store.take_bytes(&page::lines(manifest.files.iter(), &manifest.folders))?;
        let stored_bytes = manifest.stored_bytes;
        anew.push((name, Page::new(&manifest, stored_bytes, list)));
    }
    if anew.is_empty() {
        return Ok(());
    }
    store.commit()?;
    for (name, page) in anew {
        let object = home.page(&name);
        let text = home.seal.seal(&page.written().1, &object)?;
        home.shelf.write(&object, &text)?;
    }
    Ok(())
}

fn open(server: &Server) -> Result<Store> {
    Store::open(&home(server)?)
}

/// A name that nothing else has.
fn fresh_name() -> Result<String> {
    Ok(in_hex(&random::<16>()?))
}

/// How much room is left where the backups lie, in bytes; none where nobody tells.
pub fn free_bytes(server: &Server) -> Option<u64> {
    home(server).ok()?.shelf.free_bytes()
}

/// Where a store that servers share lies; none where it is this server's own.
///
/// # Errors
/// When it is not reached or not there.
pub fn shared_store(server: &Server) -> Result<Option<String>> {
    let home = home(server)?;
    let at = home.shelf.shown("");
    Ok(home.shared.then(|| at.trim_end_matches('/').to_owned()))
}

/// How much the store of backups takes, in bytes; of one that is shared, all of it.
///
/// # Errors
/// When it is not there, or cannot be listed.
pub fn stored_bytes(server: &Server) -> Result<u64> {
    let shelf = home(server)?.shelf;
    let objects = [shelf.list("packs")?, shelf.list("backups")?].concat();
    Ok(objects.iter().map(|object| object.bytes).sum())
}

fn take(store: &Store, server: &Server, path: &RelPath, stamp: Stamp) -> Result<Stored> {
    let gone = || Error::Io {
        doing: "reading",
        path: server.folder.shown(path),
        source: std::io::ErrorKind::NotFound.into(),
    };
    let meta = server.folder.look(path)?.ok_or_else(gone)?;
    let grain = match server.keeps(path.as_str()) {
        true => Grain::Fine,
        false => Grain::Coarse,
    };
    if meta.is_link() {
        let target = server.folder.read_link(path)?;
        let tree = store.take_bytes(target.as_bytes())?;
        let content = (target.len() as u64, link::mark(&target));
        return Ok(Stored::new(
            path,
            content,
            &meta,
            BTreeMap::new(),
            stamp,
            tree,
        ));
    }
    let mut file = server.folder.open_listed(path, meta.stamp.bytes)?;
    let attributes = file
        .attributes()
        .at("reading", &server.folder.shown(path))?;
    let shown = server.folder.shown(path);
    let (tree, blake3, bytes) = store.take(&mut *file, &shown, grain)?;
    Ok(Stored::new(
        path,
        (bytes, blake3),
        &meta,
        written(attributes),
        stamp,
        tree,
    ))
}

/// Extended attributes as a backup's page writes them.
fn written(attributes: BTreeMap<String, Vec<u8>>) -> BTreeMap<String, String> {
    let attributes = attributes.into_iter();
    attributes
        .map(|(name, value)| (name, in_hex(&value)))
        .collect()
}

fn in_hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The bytes of a text in hexadecimal; none where it is none.
fn from_hex(text: &str) -> Option<Vec<u8>> {
    let pairs = text.as_bytes().chunks(2);
    let byte = |pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    pairs.map(byte).collect()
}

/// What stands on a backup's page.
#[derive(Debug, Clone, Copy)]
pub struct Label<'a> {
    /// Its name.
    pub name: &'a str,
    /// What the administrator says of it.
    pub note: Option<&'a str>,
    /// Whether the administrator gave it the name.
    pub named: bool,
}

/// Writes the backup's page and returns it: from here on it can be restored by the name that stands on it.
///
/// An earlier page is never written over: the name gets a number behind it.
///
/// # Errors
/// When the store cannot be written.
pub fn finish(server: &Server, pass: &Pass, label: &Label<'_>) -> Result<Page> {
    let Label { name, note, named } = *label;
    let home = home(server)?;
    if home.shared {
        pass.since.in_time()?;
    }
    let (made, broken) = list(server)?;
    let last = made.iter().map(|page| page.number).max();
    let mut manifest = Manifest {
        name: name.to_owned(),
        number: last.unwrap_or(0) + 1,
        scope: pass.scope,
        made_ms: jiff::Timestamp::now().as_millisecond(),
        note: note.map(str::to_owned),
        named,
        stored_bytes: pass.stored_bytes,
        files: pass
            .files
            .values()
            .map(|(_, stored)| stored.clone())
            .collect(),
        folders: pass.folders.clone(),
    };
    let made = made.into_iter().map(|page| page.name);
    let taken: BTreeSet<String> = made
        .chain(broken.into_iter().map(|(name, _)| name))
        .collect();
    for number in 1.. {
        manifest.name = match number {
            1 => name.to_owned(),
            number => format!("{name}-{number}"),
        };
        if taken.contains(&manifest.name) {
            continue;
        }
        let object = home.page(&manifest.name);
        let page = Page::new(&manifest, pass.stored_bytes, pass.list.clone());
        let (page, text) = page.written();
        // Somebody else may have come first.
        if home
            .shelf
            .write_new(&object, &home.seal.seal(&text, &object)?)?
        {
            return Ok(page);
        }
    }
    unreachable!("there is always one more number")
}

/// The pages of a server's backups, by name.
fn pages(home: &Home) -> Result<Vec<(String, Result<Found>)>> {
    let room = format!("{}/", home.pages);
    let objects = home.shelf.list(&home.pages)?;
    let named = objects.iter().filter_map(|object| {
        let name = object.name.strip_prefix(&room)?.strip_suffix(".json")?;
        (!name.contains('/')).then_some((name.to_owned(), object))
    });
    let named: Vec<(String, &Object)> = named.collect();
    let read = each(&*home.shelf, &named, |(name, object)| {
        (name.clone(), read_page(home, object))
    });
    Ok(read)
}

/// Every backup whose page can be read, the oldest first, and pages that cannot, with why.
///
/// # Errors
/// When they cannot be listed.
pub fn list(server: &Server) -> Result<(Vec<Page>, Vec<Wrong>)> {
    listed(&home(server)?)
}

fn listed(home: &Home) -> Result<(Vec<Page>, Vec<Wrong>)> {
    let (mut whole, mut broken) = (Vec::new(), Vec::new());
    for (name, page) in pages(home)? {
        match page {
            Ok(found) => whole.push(found.summary()),
            Err(error) => broken.push((name, error.to_string())),
        }
    }
    whole.sort_by(|a, b| (a.number, a.made_ms, &a.name).cmp(&(b.number, b.made_ms, &b.name)));
    broken.sort();
    Ok((whole, broken))
}

/// The backups of other servers in a store that is shared: each with the name that it has from here.
///
/// # Errors
/// When they cannot be listed.
pub fn of_others(server: &Server) -> Result<(Vec<Page>, Vec<Wrong>)> {
    let (mut whole, mut broken) = (Vec::new(), Vec::new());
    for home in rooms(&home(server)?)? {
        let room = home.pages.trim_start_matches("backups/");
        let (pages, wrong) = listed(&home)?;
        let named = |name: &str| format!("{room}/{name}");
        whole.extend(pages.into_iter().map(|mut page| {
            page.name = named(&page.name);
            page
        }));
        broken.extend(wrong.into_iter().map(|(name, why)| (named(&name), why)));
    }
    Ok((whole, broken))
}

/// The rooms of the other servers in a store.
fn rooms(own: &Home) -> Result<Vec<Home>> {
    if !own.shared {
        return Ok(Vec::new());
    }
    let objects = own.shelf.list("backups")?;
    let rooms = objects.iter().filter_map(|object| {
        let (room, page) = object.name.rsplit_once('/')?;
        let is_other = page.ends_with(".json") && room != own.pages;
        (is_other && room.matches('/').count() == 1).then_some(room)
    });
    let rooms: BTreeSet<&str> = rooms.collect();
    let home = |room: &str| Home {
        pages: room.to_owned(),
        ..own.clone()
    };
    Ok(rooms.into_iter().map(home).collect())
}

/// What reading a store came to.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub struct Checked {
    /// How many backups there are.
    pub backups: usize,
    /// What is wrong: each with where, and what.
    pub wrong: Vec<Wrong>,
    /// How much of what they need was read, in bytes, lists aside.
    pub read_bytes: u64,
    /// How much there is of that.
    pub bytes: u64,
}

/// Reads what a server's backups need, as it lies in the store: all, or at least so much of a hundred, of which a part is drawn.
///
/// # Errors
/// When the store cannot be listed.
pub fn check(server: &Server, percent: Option<f64>) -> Result<Checked> {
    let home = home_itself(server)?;
    let store = Store::open(&home)?;
    let (backups, mut wrong) = listed(&home)?;
    let many = backups.len() + wrong.len();
    let broken = store.broken.iter();
    wrong.extend(broken.map(|(object, why)| (store.shown(object), why.clone())));
    let mut manifests = Vec::new();
    let mut needed = Needed::default();
    for backup in backups {
        let (manifest, lost) = found_at(&home, &backup.name)?.readable(&store);
        wrong.extend(lost.into_iter().map(|why| (backup.name.clone(), why)));
        manifests.push(manifest);
    }
    let files = || manifests.iter().flat_map(|backup| &backup.files);
    for file in files() {
        // A list that cannot be read is found below.
        let _ = store.reach(&file.tree(), &mut needed);
    }
    let mut pieces: Vec<Hash> = needed.pieces.into_iter().collect();
    pieces.sort_by_key(|hash| store.lies_at(hash));
    let size =
        |hashes: &[Hash]| -> u64 { hashes.iter().map(|hash| store.packed_bytes(hash)).sum() };
    let bytes = size(&pieces);
    let mut stretches = stretches_of(&pieces, &|hash| store.packed_bytes(hash));
    if let Some(percent) = percent {
        stretches = drawn(stretches, bytes as f64 * percent / 100.0, &size)?;
    }
    let read_bytes = stretches.iter().map(|hashes| size(hashes)).sum();
    meter::begin(read_bytes);
    let bad = each(&*home.shelf, &stretches, |hashes| {
        let bad = hashes.iter().filter(|hash| {
            let is_bad = store.get(hash).is_err();
            meter::did(store.packed_bytes(hash));
            is_bad
        });
        bad.copied().collect::<Vec<Hash>>()
    });
    let bad: HashSet<Hash> = bad.into_iter().flatten().collect();
    for backup in &manifests {
        for file in &backup.files {
            let why = match store.pieces(&file.tree()) {
                Err(why) => Some(why),
                Ok(pieces) => {
                    let first = pieces.iter().find(|piece| bad.contains(*piece));
                    first.and_then(|piece| store.get(piece).err())
                }
            };
            if let Some(why) = why {
                wrong.push((format!("{}: {}", backup.name, file.path), why));
            }
        }
    }
    Ok(Checked {
        backups: many,
        wrong,
        read_bytes,
        bytes,
    })
}

/// Pieces that lie side by side, cut where there is enough for one hand.
fn stretches_of<'h>(pieces: &'h [Hash], size: &dyn Fn(&Hash) -> u64) -> Vec<&'h [Hash]> {
    let mut bytes = 0;
    let together = |_: &Hash, next: &Hash| {
        bytes += size(next);
        let is_enough = bytes >= TOGETHER;
        if is_enough {
            bytes = 0;
        }
        !is_enough
    };
    pieces.chunk_by(together).collect()
}

/// Draws stretches until there is enough of them.
fn drawn<'h>(
    mut from: Vec<&'h [Hash]>,
    enough: f64,
    size: &dyn Fn(&[Hash]) -> u64,
) -> Result<Vec<&'h [Hash]>> {
    let (mut drawn, mut bytes) = (Vec::new(), 0);
    while !from.is_empty() && (drawn.is_empty() || (bytes as f64) < enough) {
        let number = u64::from_le_bytes(random()?) % from.len() as u64;
        let stretch = from.swap_remove(number as usize);
        bytes += size(stretch);
        drawn.push(stretch);
    }
    Ok(drawn)
}

/// What a restore into another folder came to.
#[derive(Debug, Default)]
pub struct PutThere {
    /// How many files are there.
    pub files: usize,
    /// What is lost or damaged.
    pub lost: Vec<Wrong>,
    /// How many files and folders are whose they were not, or lack attributes, as only some users may give them.
    pub not_given: usize,
}

/// Puts a backup's files, or those below some paths, into another folder, each to whom it belonged; what is lost or
/// damaged is told, and all else is put there.
///
/// # Errors
/// When there is no such backup, or the folder cannot be written.
pub fn restore(server: &Server, name: &str, to: &Path, only: &[RelPath]) -> Result<PutThere> {
    let store = open(server)?;
    let (manifest, gaps) = found(server, name)?.readable(&store);
    here::make_folders(to)?;
    let target = Folder::open(to)?;
    let wanted = |at: &RelPath| only.is_empty() || only.iter().any(|path| at.is_within(path));
    let files = manifest.files.iter().filter(|file| wanted(&file.path));
    let files: Vec<&Stored> = files.collect();
    meter::begin(files.iter().map(|file| file.bytes).sum());
    let outcomes: Vec<Result<bool, Wrong>> = files
        .par_iter()
        .map(|file| match put_back(&store, file, &target, &file.path) {
            Ok(given) => Ok(Ok(given)),
            Err(Error::Backup(BackupFault::Store { why })) => Ok(Err((file.path.to_string(), why))),
            Err(other) => Err(other),
        })
        .collect::<Result<_>>()?;
    let mut put = PutThere::default();
    for outcome in outcomes {
        match outcome {
            Ok(given) => {
                put.files += 1;
                put.not_given += usize::from(!given);
            }
            Err(wrong) => put.lost.push(wrong),
        }
    }
    // The deepest first: one that may not be written must hold all before.
    let folders = manifest.folders.iter().rev();
    for folder in folders.filter(|folder| wanted(&folder.folder)) {
        target.make_folders(&folder.folder)?;
        put.not_given += usize::from(!give_folder(&target, folder)?);
    }
    let gaps = gaps.into_iter().map(|why| (name.to_owned(), why));
    put.lost.extend(gaps);
    Ok(put)
}

/// Gives a folder the rights, the owner and the attributes that it had; says whether that could be.
fn give_folder(target: &Folder, stored: &StoredFolder) -> Result<bool> {
    let StoredFolder {
        folder,
        mode,
        user,
        group,
        attributes,
    } = stored;
    let mut given = target.give(folder, *user, *group, *mode)?;
    for (name, value) in attributes {
        given &= from_hex(value).is_some_and(|value| target.set_attribute(folder, name, &value));
    }
    Ok(given)
}

/// Makes the folders of a backup that are not there; empty ones are part of what a server had.
///
/// # Errors
/// When the disk refuses.
pub fn make_missing(server: &Server, folders: &[&StoredFolder]) -> Result<()> {
    let missing = |stored: &&&StoredFolder| !server.folder.has(&stored.folder).unwrap_or(true);
    let missing: Vec<&&StoredFolder> = folders.iter().filter(missing).collect();
    for stored in &missing {
        server.folder.make_folders(&stored.folder)?;
    }
    for stored in missing.iter().rev() {
        give_folder(&server.folder, stored)?;
    }
    Ok(())
}

/// Deletes backups, and what of the store no other one needs.
///
/// Returns the names of what was deleted and the bytes given back.
///
/// # Errors
/// When a page cannot be read, since then nothing says what it needs; or the store cannot be written.
pub fn remove(server: &Server, go: &BTreeSet<String>) -> Result<(Vec<String>, Thinned)> {
    let home = home(server)?;
    let mut store = Store::open(&home)?;
    let backups = all_whole(&home)?;
    let (go, stay): (Vec<Page>, Vec<Page>) = backups
        .into_iter()
        .partition(|backup| go.contains(&backup.name));
    let mut live = Needed::default();
    for backup in &stay {
        found_at(&home, &backup.name)?.needs(&store, &mut live)?;
    }
    for other in rooms(&home)? {
        for backup in all_whole(&other)? {
            found_at(&other, &backup.name)?.needs(&store, &mut live)?;
        }
    }
    for backup in &go {
        home.shelf.remove(&home.page(&backup.name))?;
    }
    let thinned = store.thin(&live)?;
    let names = go.into_iter().map(|backup| backup.name).collect();
    Ok((names, thinned))
}

/// The backups that thinning out would delete: all but the last so many, those that are needed, and, unless `with_named`, those
/// that the administrator has named.
///
/// # Errors
/// When a page cannot be read, since then nothing says what it needs.
pub fn to_thin(
    server: &Server,
    keep: usize,
    needed: &BTreeSet<String>,
    with_named: bool,
) -> Result<Vec<Page>> {
    let mut backups = all_whole(&home(server)?)?;
    backups.truncate(backups.len().saturating_sub(keep));
    backups.retain(|it| !needed.contains(&it.name) && (with_named || !it.named));
    Ok(backups)
}

/// All backups, none of whose pages is broken.
fn all_whole(home: &Home) -> Result<Vec<Page>> {
    let (backups, broken) = listed(home)?;
    match broken.into_iter().next() {
        None => Ok(backups),
        Some((name, why)) => Err(BackupFault::Store {
            why: format!("the page of {name} cannot be read: {why}"),
        }
        .into()),
    }
}

/// How much of the store only one backup needs, by its name, in bytes: what deleting it alone would give back. In a store
/// that is shared that is nobody's alone.
///
/// # Errors
/// When a page or a list cannot be read.
pub fn alone(server: &Server) -> Result<BTreeMap<String, u64>> {
    let home = home(server)?;
    if home.shared {
        return Ok(BTreeMap::new());
    }
    let store = Store::open(&home)?;
    let backups = all_whole(&home)?;
    let mut whose: BTreeMap<Hash, Option<usize>> = BTreeMap::new();
    for (number, backup) in backups.iter().enumerate() {
        let mut needed = Needed::default();
        found_at(&home, &backup.name)?.needs(&store, &mut needed)?;
        for hash in needed.pieces {
            let others = whose.entry(hash).or_insert(Some(number));
            if *others != Some(number) {
                *others = None;
            }
        }
    }
    let mut bytes = vec![0; backups.len()];
    for (hash, only) in whose {
        if let Some(number) = only {
            bytes[number] += store.packed_bytes(&hash);
        }
    }
    let names = backups.into_iter().map(|backup| backup.name);
    Ok(names.zip(bytes).collect())
}

/// The name of the backup that is meant: itself, `latest`, or the beginning of only one.
///
/// # Errors
/// When none is meant, or several could be.
pub fn named(server: &Server, text: &str) -> Result<String> {
    let (names, broken) = match text.contains('/') {
        true => {
            let (others, broken) = of_others(server)?;
            let others = others.into_iter().map(|page| page.name);
            (others.collect::<Vec<String>>(), broken)
        }
        false => {
            let (own, broken) = list(server)?;
            (own.into_iter().map(|backup| backup.name).collect(), broken)
        }
    };
    let broken = broken.into_iter().map(|(name, _)| name);
    if text == "latest"
        && let Some(last) = names.last()
    {
        return Ok(last.clone());
    }
    let all: Vec<String> = names.into_iter().chain(broken).collect();
    if all.iter().any(|name| name == text) {
        return Ok(text.to_owned());
    }
    let begin: Vec<&String> = all.iter().filter(|name| name.starts_with(text)).collect();
    match &begin[..] {
        [one] => Ok((*one).clone()),
        [] => Err(BackupFault::NoBackup(text.into()).into()),
        several => Err(BackupFault::SeveralBackups {
            text: text.into(),
            names: several.iter().map(|name| (*name).clone()).collect(),
        }
        .into()),
    }
}

/// Reads a backup's page and the list of its files.
///
/// # Errors
/// When there is none of that name, or it cannot be made sense of.
pub fn manifest(server: &Server, name: &str) -> Result<Manifest> {
    found(server, name)?.manifest(&open(server)?)
}

fn found(server: &Server, name: &str) -> Result<Found> {
    found_at(&home(server)?, name)
}

fn found_at(home: &Home, name: &str) -> Result<Found> {
    let none = || Error::Backup(BackupFault::NoBackup(name.into()));
    if !home.may_be_named(name) {
        return Err(none());
    }
    let object = home.page(name);
    let text = home.shelf.read(&object)?.ok_or_else(none)?;
    opened_page(home, &object, text)
}

fn read_page(home: &Home, object: &Object) -> Result<Found> {
    let text = home.shelf.read_listed(object)?;
    let gone = || BackupFault::Store {
        why: format!("{} is gone", home.shelf.shown(&object.name)),
    };
    opened_page(home, &object.name, text.ok_or_else(gone)?)
}

fn opened_page(home: &Home, object: &str, text: Vec<u8>) -> Result<Found> {
    let opened = home.seal.open(text, object);
    opened.and_then(|text| Found::parse(&text)).map_err(|why| {
        Error::Config(ConfigFault::Text {
            path: home.shelf.shown(object).into(),
            why,
        })
    })
}

/// The kept files that are not as a backup has them: written, new or gone.
///
/// # Errors
/// When a file cannot be read.
pub fn written_since(server: &Server, manifest: &Manifest) -> Result<Vec<RelPath>> {
    let mut written = Vec::new();
    for file in &manifest.files {
        let bytes = server.folder.look(&file.path)?.map(|meta| meta.stamp.bytes);
        let same = bytes == Some(file.bytes) && server.folder.hash(&file.path)? == file.blake3;
        if !same {
            written.push(file.path.clone());
        }
    }
    let stored = manifest.paths();
    // A new file without content is a lock, and no part of the world.
    let new = files_of(server, Scope::Kept, &[])?.into_iter();
    let new = new.filter(|(path, stamp)| !stored.contains(path) && stamp.bytes > 0);
    written.extend(new.map(|(path, _)| path));
    Ok(written)
}

/// A store opened to unpack from.
pub struct Source(Store);

/// Opens the store to unpack files from it.
///
/// # Errors
/// When it cannot be listed.
pub fn source(server: &Server) -> Result<Source> {
    open(server).map(Source)
}

/// What the newest backups hold of a server's files, by path, with the store opened to unpack from it.
///
/// # Errors
/// When the store cannot be listed.
pub fn at_hand(server: &Server) -> Result<(Source, BTreeMap<RelPath, Stored>)> {
    let store = open(server)?;
    let stored = last_seen(server, &store, Scope::Everything)?;
    Ok((Source(store), stored))
}

impl Source {
    /// Unpacks one file of a backup to a new place in a server folder, checks it, brings it to the disk and gives it to whom
    /// it belonged; says whether that could be.
    ///
    /// # Errors
    /// When the store has lost it, or it is not what it was.
    pub fn unpack(&self, stored: &Stored, folder: &Folder, to: &RelPath) -> Result<bool> {
        put_back(&self.0, stored, folder, to)
    }
}

fn put_back(store: &Store, stored: &Stored, folder: &Folder, to: &RelPath) -> Result<bool> {
    let lost = |why: String| Error::Backup(BackupFault::Store { why });
    if let Some(target) = link::target(&stored.blake3) {
        return folder.make_link(target, to).map(|()| true);
    }
    let tree = stored.tree();
    let shown = folder.shown(to);
    let mut file = folder.create(to)?;
    let mut hasher = blake3::Hasher::new();
    let poured = store.pour(&tree, &mut |bytes| {
        hasher.update(bytes);
        meter::did(bytes.len() as u64);
        file.write_all(bytes)
    });
    let poured = poured.at("writing", &shown)?.and_then(|()| {
        let same = hasher.finalize().to_hex().as_str() == stored.blake3;
        // Only now is it worth finding out which piece it is.
        let pieces = || store.pieces(&tree).unwrap_or_default();
        let first = || pieces().iter().find_map(|piece| store.get(piece).err());
        let why = || first().unwrap_or_else(|| "its pieces do not make what it was".into());
        if same { Ok(()) } else { Err(why()) }
    });
    if let Err(why) = poured {
        let _ = folder.remove_file(to);
        return Err(lost(why));
    }
    file.set_rights(stored.mode).at("writing", &shown)?;
    let mut given = match (stored.user, stored.group) {
        (Some(user), Some(group)) => folder.give(to, user, group, stored.mode)?,
        _ => true,
    };
    // Last: a file that is given away loses some of them.
    for (name, value) in &stored.attributes {
        let set = from_hex(value).map(|value| file.set_attribute(name, &value));
        given &= set.is_some_and(|set| set.is_ok());
    }
    file.sync().at("writing", &shown)?;
    Ok(given)
}
