//! Contents in small pieces, each stored once.
//!
//! A content is cut where its own bytes say (FastCDC, 2020), so that a change in the middle leaves the
//! pieces before and after it as they were. Pieces lie one after the other in `packs/N.pack`, packed
//! with zstd where that helps; `packs/N.index` says which piece is where.
//!
//! Which pieces make up a content is a list of hashes. A long list is a content itself: it is cut into pieces, and so
//! is the list of those ([`Tree`]). So two lists that differ in one place share all else.

mod index;
mod thin;

pub use thin::Thinned;

use super::shelf::{Object, Shelf};
use super::{Home, fresh_name};
use crate::backup::fault::BackupFault;
use crate::error::{At, Error, Result};
use crate::meter;
use crate::place::{NewFile, Source};
use crate::told::plain;
use fastcdc::v2020::FastCDC;
use index::Spot;
use lantern_core::thinning;
use serde::{Deserialize, Serialize};
use std::cell::RefCell;
use std::collections::{BTreeSet, HashMap, HashSet, VecDeque};
use std::io::{self, Read, Write};
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;
use zstd::bulk::Compressor;

/// So much of a file is read and cut at once, in bytes.
const WINDOW: usize = 4 << 20;
/// So much of a pack is written, and read, at once, in bytes.
const BATCH: usize = 2 << 20;
/// After so much was written, it is brought to the disk while more is coming, in bytes.
const SYNCED: u64 = 64 << 20;
/// After so many pieces of a file that do not get smaller, only every n-th is tried.
const TRIED: usize = 16;
/// How hard is packed.
const LEVEL: i32 = 1;
/// A pack that is written whole alone is ended when it is so long, in bytes.
const PACK: u64 = 16 << 20;
/// So many of those are on their way at once.
const ON_THEIR_WAY: usize = 4;

/// The BLAKE3 of a piece.
pub type Hash = [u8; 32];

/// No longer list of pieces stands by itself; a longer one is stored as a content.
const LISTED: usize = 8;
/// No list of lists is deeper.
const DEEPEST: u8 = 8;

/// A content by its pieces; where these are many, by the pieces of their list, and so on.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Tree {
    /// 0: the pieces are the content's own. Else they make up a list of hashes, one behind the other, of a tree that is
    /// one less deep.
    pub depth: u8,
    /// The BLAKE3 of each piece in hexadecimal, one behind the other.
    pub pieces: String,
}

impl Tree {
    fn of(depth: u8, pieces: &[Hash]) -> Tree {
        let hex = |hash: &Hash| blake3::Hash::from(*hash).to_hex().to_string();
        Tree {
            depth,
            pieces: pieces.iter().map(hex).collect(),
        }
    }

    fn top(&self) -> std::result::Result<Vec<Hash>, String> {
        let hashes = self.pieces.as_bytes().chunks(64).map(|hex| {
            let hash = blake3::Hash::from_hex(hex).map_err(|error| error.to_string())?;
            Ok(*hash.as_bytes())
        });
        hashes.collect()
    }
}

/// What could be read of a content.
#[derive(Debug, Default)]
pub struct Readable {
    /// Its parts; between two of them something is lost.
    pub parts: Vec<Vec<u8>>,
    /// What is wrong, in words; empty where nothing is.
    pub lost: Vec<String>,
}

/// What is met on the way through a tree.
enum Met<'m> {
    /// A piece of a list.
    Listing(Hash),
    /// Pieces of the content itself, in order.
    Pieces(&'m [Hash]),
}

/// What is done with what is met.
type Visit<'v> = &'v mut dyn FnMut(Met<'_>) -> std::result::Result<(), String>;

/// How small and how large pieces are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Grain {
    /// For what is changed in small blocks, as worlds are.
    Fine,
    /// For what is exchanged as a whole, as archives are.
    Coarse,
    /// For lists of hashes: one that changes is one of a few tens that are stored again.
    List,
}

impl Grain {
    /// At least, about, at most, in bytes.
    fn sizes(self) -> (usize, usize, usize) {
        match self {
            Grain::Fine => (1 << 10, 4 << 10, 64 << 10),
            Grain::Coarse => (32 << 10, 128 << 10, 512 << 10),
            Grain::List => (256, 1 << 10, 8 << 10),
        }
    }
}

/// A pack that is being written.
struct Writing {
    /// Its name, without what comes behind.
    name: String,
    to: To,
    length: u64,
    pieces: Vec<(Hash, Spot)>,
}

/// Where what is written goes.
enum To {
    /// To a file, as it comes.
    File {
        file: Arc<dyn NewFile>,
        /// Brings what is written to the disk meanwhile; and how much was written when it began.
        syncing: Option<JoinHandle<io::Result<()>>>,
        synced: u64,
    },
    /// To where objects are written whole.
    Whole(Vec<u8>),
}

/// An index as it was read.
struct Indexed {
    /// The name of its pack.
    name: String,
    is_retired: bool,
    /// What lies where; or what is wrong with it, in words.
    pieces: std::result::Result<Vec<(Hash, Spot)>, String>,
}

/// A pack that was ended, and what lies in it.
type Ended = (String, Vec<(Hash, Spot)>);

/// Begins to bring to the disk what was written, where that is much and nobody is at it.
fn sync_meanwhile(to: &mut To, length: u64) -> io::Result<()> {
    let To::File {
        file,
        syncing,
        synced,
    } = to
    else {
        return Ok(());
    };
    let idle = syncing.as_ref().is_none_or(JoinHandle::is_finished);
    if length - *synced < SYNCED || !idle {
        return Ok(());
    }
    synced_so_far(syncing.take())?;
    *synced = length;
    let file = Arc::clone(file);
    *syncing = Some(std::thread::spawn(move || file.sync()));
    Ok(())
}

/// Waits for that; its error would not be told a second time.
fn synced_so_far(syncing: Option<JoinHandle<io::Result<()>>>) -> io::Result<()> {
    let died = |_| Err(io::Error::other("it was interrupted"));
    syncing.map_or(Ok(()), |syncing| syncing.join().unwrap_or_else(died))
}

/// Pieces that go to the pack together; their spots count from the batch's beginning.
#[derive(Default)]
struct Batch {
    bytes: Vec<u8>,
    pieces: Vec<(Hash, Spot)>,
}

/// Pieces on their way to packs of their own.
struct Lane {
    /// One for each thread that takes files in.
    batches: Vec<Mutex<Batch>>,
    writing: Mutex<Option<Writing>>,
}

impl Lane {
    fn new() -> Lane {
        let threads = 0..=rayon::current_num_threads();
        Lane {
            batches: threads.map(|_| Mutex::default()).collect(),
            writing: Mutex::default(),
        }
    }
}

/// What backups need.
#[derive(Debug, Default)]
pub struct Needed {
    /// Every piece.
    pub pieces: BTreeSet<Hash>,
    /// Those among them that belong to lists.
    pub lists: BTreeSet<Hash>,
}

/// What was learnt of how well a file packs.
#[derive(Default)]
struct Packs {
    seen: usize,
    in_vain: usize,
}

/// The pieces of a store.
pub struct Store {
    home: Home,
    /// What was listed when it was opened.
    listed: Vec<Object>,
    /// The names of packs, by their number.
    packs: Vec<String>,
    known: HashMap<Hash, Spot>,
    /// What lies in packs that are retired: it can be read, and is not counted on.
    retired: HashMap<Hash, Spot>,
    /// Pieces that this pass has taken in hand.
    fresh: Mutex<HashSet<Hash>>,
    /// What goes to the disk, or elsewhere: contents, and lists.
    contents: Lane,
    lists: Lane,
    on_their_way: Mutex<VecDeque<JoinHandle<Result<Ended>>>>,
    /// Packs that were ended since the last time that something was made to last.
    ended: Mutex<Vec<Ended>>,
    grown: Arc<AtomicU64>,
    /// When it was opened.
    pub since: Since,
    /// Indexes that cannot be read, and why.
    pub broken: Vec<(String, String)>,
}

/// When something began; clocks may be set back, and a machine may sleep.
#[derive(Debug, Clone, Copy)]
pub struct Since(std::time::Instant, jiff::Timestamp);

impl Since {
    /// It begins.
    pub fn now() -> Since {
        Since(std::time::Instant::now(), jiff::Timestamp::now())
    }

    /// How long ago that was.
    pub fn ago(self) -> Duration {
        let by_clock = jiff::Timestamp::now().duration_since(self.1);
        self.0.elapsed().max(by_clock.unsigned_abs())
    }

    /// Refuses to go on with what took so long that others may have deleted what it counts on.
    ///
    /// # Errors
    /// [`BackupFault::TooLong`].
    pub fn in_time(self) -> Result<()> {
        match self.ago() > thinning::LONGEST {
            true => Err(BackupFault::TooLong.into()),
            false => Ok(()),
        }
    }
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// An object of a pack.
fn of_pack(name: &str, extension: &str) -> String {
    format!("packs/{name}.{extension}")
}

/// The name of a pack, and which object of it another name means.
fn in_packs(object: &str) -> Option<(&str, &str)> {
    object.strip_prefix("packs/")?.rsplit_once('.')
}

/// Does something with each, with as many at once as the shelf bears.
pub fn each<T: Sync, R: Send>(
    shelf: &dyn Shelf,
    of: &[T],
    work: impl Fn(&T) -> R + Sync,
) -> Vec<R> {
    let next = AtomicU64::new(0);
    let done = Mutex::new(Vec::with_capacity(of.len()));
    std::thread::scope(|scope| {
        for _ in 0..shelf.at_once().min(of.len()) {
            scope.spawn(|| {
                loop {
                    let number = next.fetch_add(1, Ordering::Relaxed) as usize;
                    let Some(one) = of.get(number) else {
                        break;
                    };
                    let came = work(one);
                    locked(&done).push((number, came));
                }
            });
        }
    });
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    done.sort_by_key(|(number, _)| *number);
    done.into_iter().map(|(_, came)| came).collect()
}

impl Store {
    /// Opens a store; one that breaks off in the middle of a pack has lost nothing before.
    ///
    /// # Errors
    /// When it cannot be listed. A broken index is only noted.
    pub fn open(home: &Home) -> Result<Store> {
        let since = Since::now();
        let listed = home.shelf.list("packs")?;
        let mut store = Store {
            home: home.clone(),
            packs: Vec::new(),
            known: HashMap::new(),
            retired: HashMap::new(),
            fresh: Mutex::default(),
            contents: Lane::new(),
            lists: Lane::new(),
            on_their_way: Mutex::default(),
            ended: Mutex::default(),
            grown: Arc::default(),
            since,
            broken: Vec::new(),
            listed,
        };
        if !home.shared {
            store.clear_up()?;
        }
        for Indexed {
            name,
            is_retired,
            pieces,
        } in store.indexes()
        {
            let number = store.packs.len() as u32;
            match pieces {
                Ok(mut pieces) => {
                    pieces.iter_mut().for_each(|(_, at)| at.pack = number);
                    let to = match is_retired {
                        true => &mut store.retired,
                        false => &mut store.known,
                    };
                    to.reserve(pieces.len());
                    for (hash, at) in pieces {
                        to.entry(hash).or_insert(at);
                    }
                }
                Err(why) => store.broken.push((of_pack(&name, "index"), why)),
            }
            store.packs.push(name);
        }
        store.broken.sort();
        Ok(store)
    }

    /// Removes what a lantern that was killed left behind, where nobody else writes: no index speaks of it, and none will.
    fn clear_up(&mut self) -> Result<()> {
        let names: HashSet<&str> = self.listed.iter().map(|it| it.name.as_str()).collect();
        let is_left = |object: &Object| match in_packs(&object.name) {
            Some((_, "part")) => true,
            Some((name, "pack")) => !names.contains(&*of_pack(name, "index")),
            _ => false,
        };
        for object in self.listed.iter().filter(|object| is_left(object)) {
            let _ = self.home.shelf.remove(&object.name);
        }
        Ok(())
    }

    /// Every index that was listed, by the name of its pack, with whether that is retired, and what stands in it.
    fn indexes(&self) -> Vec<Indexed> {
        let shelf = &*self.home.shelf;
        let retired = self.listed.iter().filter_map(|it| in_packs(&it.name));
        let retired: HashSet<&str> = retired
            .filter_map(|(name, of)| (of == "retired").then_some(name))
            .collect();
        let indexes = self
            .listed
            .iter()
            .filter_map(|object| match in_packs(&object.name) {
                Some((name, "index")) => Some((name, object)),
                _ => None,
            });
        let indexes: Vec<(&str, &Object)> = indexes.collect();
        each(shelf, &indexes, |(name, object)| {
            let read = shelf.read_listed(object).map_err(|error| error.to_string());
            let read = read.and_then(|bytes| bytes.ok_or_else(|| "it is gone".to_owned()));
            let opened = read.and_then(|bytes| self.home.seal.open(bytes, &object.name));
            let pieces = opened.and_then(|bytes| index::read(&bytes, 0));
            Indexed {
                name: (*name).to_owned(),
                is_retired: retired.contains(name),
                pieces,
            }
        })
    }

    /// Takes a file in, which messages call as shown; tells where its content lies, its BLAKE3 and its size.
    ///
    /// # Errors
    /// When it cannot be read, or the store cannot be written.
    pub fn take(
        &self,
        mut file: &mut dyn Source,
        shown: &Path,
        grain: Grain,
    ) -> Result<(Tree, String, u64)> {
        thread_local! {
            static BUFFER: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
        }
        let (at_least, about, at_most) = grain.sizes();
        let (mut pieces, mut bytes, mut packs) = (Vec::new(), 0, Packs::default());
        let mut whole = blake3::Hasher::new();
        BUFFER.with_borrow_mut(|buffer| {
            buffer.clear();
            loop {
                let room = (WINDOW - buffer.len()) as u64;
                let read = (&mut file).take(room).read_to_end(buffer);
                let read = read.at("reading", shown)?;
                let ends = (read as u64) < room;
                whole.update(&buffer[buffer.len() - read..]);
                meter::did(read as u64);
                bytes += read as u64;
                let mut done = 0;
                for piece in FastCDC::new(buffer, at_least, about, at_most) {
                    // Where the window ends, nothing says that the piece does.
                    if piece.offset + piece.length == buffer.len() && !ends {
                        break;
                    }
                    let piece = &buffer[piece.offset..piece.offset + piece.length];
                    pieces.push(self.put(piece, &mut packs, &self.contents)?);
                    done += piece.len();
                }
                if ends {
                    break;
                }
                buffer.drain(..done);
            }
            let hash = whole.finalize().to_hex().to_string();
            Ok((self.listed(pieces)?, hash, bytes))
        })
    }

    /// Takes a content in that is at hand.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn take_bytes(&self, bytes: &[u8]) -> Result<Tree> {
        self.listed(self.cut(bytes, Grain::Fine)?)
    }

    /// Takes a list of pieces in, as far as it is too long to stand by itself.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn listed(&self, mut pieces: Vec<Hash>) -> Result<Tree> {
        let mut depth = 0;
        while pieces.len() > LISTED && depth < DEEPEST {
            pieces = self.cut(pieces.as_flattened(), Grain::List)?;
            depth += 1;
        }
        Ok(Tree::of(depth, &pieces))
    }

    /// As [`Store::listed`], of a list that stands in a tree.
    ///
    /// # Errors
    /// When the store cannot be written, or the tree makes no sense.
    pub fn shortened(&self, tree: &Tree) -> Result<Tree> {
        match tree.depth {
            0 => self.listed(
                tree.top()
                    .map_err(|why| Error::Backup(BackupFault::Store { why }))?,
            ),
            _ => Ok(tree.clone()),
        }
    }

    /// Where lists go. Where each request is waited for, they lie by themselves: all of them are looked through by each backup.
    fn of_lists(&self) -> &Lane {
        match self.home.is_elsewhere {
            true => &self.lists,
            false => &self.contents,
        }
    }

    fn cut(&self, bytes: &[u8], grain: Grain) -> Result<Vec<Hash>> {
        let (at_least, about, at_most) = grain.sizes();
        let mut packs = Packs::default();
        let pieces = FastCDC::new(bytes, at_least, about, at_most).map(|piece| {
            self.put(
                &bytes[piece.offset..piece.offset + piece.length],
                &mut packs,
                self.of_lists(),
            )
        });
        pieces.collect()
    }

    /// Goes through a tree, lists first; of each level no more is held at once than one of its pieces makes up.
    fn walk(&self, tree: &Tree, visit: Visit<'_>) -> std::result::Result<(), String> {
        if tree.depth > DEEPEST {
            return Err("its list lies too deep".into());
        }
        // What a piece of a list ends with may be the beginning of a hash.
        let mut rest = vec![Vec::new(); tree.depth.into()];
        self.descend(&tree.top()?, &mut rest, visit)?;
        match rest.iter().all(Vec::is_empty) {
            true => Ok(()),
            false => Err("its list of pieces breaks off".into()),
        }
    }

    fn descend(
        &self,
        hashes: &[Hash],
        rest: &mut [Vec<u8>],
        visit: Visit<'_>,
    ) -> std::result::Result<(), String> {
        let Some((own, below)) = rest.split_last_mut() else {
            return visit(Met::Pieces(hashes));
        };
        for hash in hashes {
            visit(Met::Listing(*hash))?;
            own.extend(self.get(hash)?);
            let (whole, odd) = own.as_chunks::<32>();
            self.descend(whole, below, visit)?;
            *own = odd.to_vec();
        }
        Ok(())
    }

    /// The pieces of a content, in order.
    ///
    /// # Errors
    /// With what is wrong with its list, in words.
    pub fn pieces(&self, tree: &Tree) -> std::result::Result<Vec<Hash>, String> {
        let mut pieces = Vec::new();
        self.walk(tree, &mut |met| {
            if let Met::Pieces(some) = met {
                pieces.extend_from_slice(some);
            }
            Ok(())
        })?;
        Ok(pieces)
    }

    /// Adds every piece that a content needs, those of its lists among them.
    ///
    /// # Errors
    /// With what is wrong with its list, in words.
    pub fn reach(&self, tree: &Tree, needed: &mut Needed) -> std::result::Result<(), String> {
        self.walk(tree, &mut |met| {
            match met {
                Met::Listing(hash) => {
                    needed.lists.insert(hash);
                    needed.pieces.insert(hash);
                }
                Met::Pieces(some) => needed.pieces.extend(some),
            }
            Ok(())
        })
    }

    /// As [`Store::reach`], of a content that is a list itself.
    ///
    /// # Errors
    /// As it.
    pub fn reach_list(&self, tree: &Tree, needed: &mut Needed) -> std::result::Result<(), String> {
        let mut list = Needed::default();
        self.reach(tree, &mut list)?;
        needed.lists.extend(&list.pieces);
        needed.pieces.extend(list.pieces);
        Ok(())
    }

    /// How much a piece takes in its pack, in bytes; nothing where it is lost.
    pub fn packed_bytes(&self, hash: &Hash) -> u64 {
        self.spot(hash).map_or(0, |at| u64::from(at.packed))
    }

    /// Whether all pieces of a content are there.
    pub fn has(&self, tree: &Tree) -> bool {
        let walked = self.walk(tree, &mut |met| match met {
            Met::Pieces(some) if !some.iter().all(|piece| self.known.contains_key(piece)) => {
                Err("a piece of it is lost".into())
            }
            Met::Listing(_) | Met::Pieces(_) => Ok(()),
        });
        walked.is_ok()
    }

    /// A content as far as it is there, each piece checked; it breaks off, or begins anew, where one is lost. For lists
    /// of files, not for files.
    pub fn readable(&self, tree: &Tree) -> Readable {
        let mut readable = Readable::default();
        readable.parts.push(Vec::new());
        let walked = self.walk(tree, &mut |met| {
            let Met::Pieces(some) = met else {
                return Ok(());
            };
            for piece in some {
                match self.get(piece) {
                    Ok(bytes) => readable
                        .parts
                        .last_mut()
                        .into_iter()
                        .for_each(|part| part.extend(&bytes)),
                    Err(why) => {
                        readable.lost.push(why);
                        readable.parts.push(Vec::new());
                    }
                }
            }
            Ok(())
        });
        readable.lost.extend(walked.err());
        readable
    }

    fn put(&self, piece: &[u8], packs: &mut Packs, lane: &Lane) -> Result<Hash> {
        let hash = *blake3::hash(piece).as_bytes();
        if !self.known.contains_key(&hash) && locked(&self.fresh).insert(hash) {
            self.add(hash, piece, packs, lane)?;
        }
        Ok(hash)
    }

    /// Adds a piece, whether or not it is there already.
    fn add(&self, hash: Hash, piece: &[u8], packs: &mut Packs, lane: &Lane) -> Result<()> {
        let thread = rayon::current_thread_index().map_or(0, |index| index + 1);
        let mut batch = locked(&lane.batches[thread % lane.batches.len()]);
        let before = batch.bytes.len();
        packs.seen += 1;
        let hopeless = packs.in_vain >= TRIED && !packs.seen.is_multiple_of(TRIED);
        if hopeless || !pack_into(&mut batch.bytes, piece).at("packing", Path::new("packs"))? {
            packs.in_vain += 1;
            batch.bytes.extend_from_slice(piece);
        } else {
            packs.in_vain = 0;
        }
        if self.home.seal.adds() > 0 {
            let sealed = self.home.seal.seal(&batch.bytes[before..], "")?;
            batch.bytes.truncate(before);
            batch.bytes.extend(sealed);
        }
        let at = Spot {
            pack: 0,
            offset: before as u64,
            packed: (batch.bytes.len() - before) as u32,
            whole: piece.len() as u32,
        };
        batch.pieces.push((hash, at));
        if batch.bytes.len() >= BATCH {
            self.write(lane, &mut batch)?;
        }
        Ok(())
    }

    /// Writes a batch to the pack and empties it. Only its place is given out one at a time.
    fn write(&self, lane: &Lane, batch: &mut Batch) -> Result<()> {
        let mut held = locked(&lane.writing);
        let writing = match &mut *held {
            Some(writing) => writing,
            empty => empty.insert(self.begin()?),
        };
        let offset = writing.length;
        writing.length += batch.bytes.len() as u64;
        let pieces = batch.pieces.drain(..).map(|(hash, mut at)| {
            at.offset += offset;
            (hash, at)
        });
        writing.pieces.extend(pieces);
        let pack = of_pack(&writing.name, "pack");
        let shown = || self.shown(&pack);
        sync_meanwhile(&mut writing.to, writing.length).at("writing", Path::new(&shown()))?;
        match &mut writing.to {
            To::File { file, .. } => {
                let file = Arc::clone(file);
                drop(held);
                let written = file.write_all_at(&batch.bytes, offset);
                written.at("writing", Path::new(&shown()))?;
            }
            To::Whole(bytes) => {
                bytes.extend_from_slice(&batch.bytes);
                if writing.length >= PACK {
                    let full = held.take();
                    full.map_or(Ok(()), |full| self.send(full))?;
                }
            }
        }
        batch.bytes.clear();
        Ok(())
    }

    /// An object of it as messages call it.
    pub fn shown(&self, object: &str) -> String {
        self.home.shelf.shown(object)
    }

    fn begin(&self) -> Result<Writing> {
        let name = fresh_name()?;
        let to = match self.home.shelf.begin(&of_pack(&name, "pack"))? {
            Some(file) => To::File {
                file: Arc::from(file),
                syncing: None,
                synced: 0,
            },
            None => To::Whole(Vec::with_capacity(PACK as usize + BATCH)),
        };
        Ok(Writing {
            name,
            to,
            length: 0,
            pieces: Vec::new(),
        })
    }

    /// Ends a pack, while more is coming where objects are written whole. A pack is there before its index speaks of it.
    fn send(&self, writing: Writing) -> Result<()> {
        let Writing {
            name,
            to,
            length,
            pieces,
        } = writing;
        let (home, grown) = (self.home.clone(), Arc::clone(&self.grown));
        let end = move || {
            let (shelf, pack) = (&*home.shelf, of_pack(&name, "pack"));
            match to {
                To::File { file, syncing, .. } => {
                    let synced = synced_so_far(syncing).and_then(|()| file.sync());
                    synced.at("writing", Path::new(&shelf.shown(&pack)))?;
                    shelf.end(&pack)?;
                }
                To::Whole(bytes) => shelf.write(&pack, &bytes)?,
            }
            let object = of_pack(&name, "index");
            let index = home.seal.seal(&index::written(&pieces), &object)?;
            shelf.write(&object, &index)?;
            grown.fetch_add(length + index.len() as u64, Ordering::Relaxed);
            Ok((name, pieces))
        };
        let mut on_their_way = locked(&self.on_their_way);
        if on_their_way.len() == ON_THEIR_WAY {
            self.arrived(on_their_way.pop_front())?;
        }
        on_their_way.push_back(std::thread::spawn(end));
        Ok(())
    }

    fn arrived(&self, pack: Option<JoinHandle<Result<Ended>>>) -> Result<()> {
        if let Some(pack) = pack {
            let panic = |panic| std::panic::resume_unwind(panic);
            let ended = pack.join().unwrap_or_else(panic)?;
            locked(&self.ended).push(ended);
        }
        Ok(())
    }

    /// Makes what was taken in last; only from here on may a backup speak of it.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn commit(&mut self) -> Result<()> {
        for lane in [&self.contents, &self.lists] {
            for batch in &lane.batches {
                let mut batch = locked(batch);
                if !batch.pieces.is_empty() {
                    self.write(lane, &mut batch)?;
                }
            }
            let writing = locked(&lane.writing).take();
            writing.map_or(Ok(()), |writing| self.send(writing))?;
        }
        locked(&self.fresh).clear();
        loop {
            let next = locked(&self.on_their_way).pop_front();
            match next {
                None => break,
                next => self.arrived(next)?,
            }
        }
        for (name, mut pieces) in std::mem::take(&mut *locked(&self.ended)) {
            let number = self.packs.len() as u32;
            pieces.iter_mut().for_each(|(_, at)| at.pack = number);
            self.known.extend(pieces);
            self.packs.push(name);
        }
        Ok(())
    }

    /// So much has come to it since it was opened, in bytes.
    pub fn grown(&self) -> u64 {
        self.grown.load(Ordering::Relaxed)
    }

    fn spot(&self, hash: &Hash) -> std::result::Result<Spot, String> {
        let known = self.known.get(hash).or_else(|| self.retired.get(hash));
        known.copied().ok_or_else(|| "a piece of it is lost".into())
    }

    /// Where a piece lies, for those who read many in the order in which they lie.
    pub fn lies_at(&self, hash: &Hash) -> (u32, u64) {
        self.spot(hash)
            .map_or((u32::MAX, 0), |at| (at.pack, at.offset))
    }

    fn is_as_it_is(&self, at: Spot) -> bool {
        at.packed as usize == at.whole as usize + self.home.seal.adds()
    }

    fn pack_of(&self, at: Spot) -> String {
        let name = self.packs.get(at.pack as usize);
        of_pack(name.map_or("", String::as_str), "pack")
    }

    /// Reads a piece and checks it.
    ///
    /// # Errors
    /// With what is wrong with it, in words.
    pub fn get(&self, hash: &Hash) -> std::result::Result<Vec<u8>, String> {
        let at = self.spot(hash)?;
        let pack = self.pack_of(at);
        let shown = || self.shown(&pack);
        let said = |error: io::Error| format!("{}: {}", shown(), plain(&error));
        let mut bytes = vec![0; at.packed as usize];
        let read = self.home.shelf.read_at(&pack, &mut bytes, at.offset);
        read.map_err(said)?;
        let whole = self.unpacked(bytes, at).map_err(said)?;
        if blake3::hash(&whole).as_bytes() != hash {
            return Err(format!("a piece in {} is damaged", shown()));
        }
        Ok(whole)
    }

    fn unpacked(&self, bytes: Vec<u8>, at: Spot) -> io::Result<Vec<u8>> {
        let bytes = self.home.seal.open(bytes, "").map_err(io::Error::other)?;
        match self.is_as_it_is(at) {
            true => Ok(bytes),
            false => zstd::bulk::decompress(&bytes, at.whole as usize),
        }
    }

    /// Writes a content out, a part of its list after the other. Its pieces are not checked one by one: the caller
    /// knows what they make together.
    ///
    /// # Errors
    /// The outer when nothing can be written, the inner with what is wrong with a piece, in words.
    pub fn pour(
        &self,
        tree: &Tree,
        out: &mut dyn FnMut(&[u8]) -> io::Result<()>,
    ) -> io::Result<std::result::Result<(), String>> {
        let mut refused = None;
        let walked = self.walk(tree, &mut |met| match met {
            Met::Listing(_) => Ok(()),
            Met::Pieces(some) => self.pour_pieces(some, out).unwrap_or_else(|error| {
                refused = Some(error);
                Err(String::new())
            }),
        });
        refused.map_or(Ok(walked), Err)
    }

    /// What lies together is read together.
    fn pour_pieces(
        &self,
        pieces: &[Hash],
        out: &mut dyn FnMut(&[u8]) -> io::Result<()>,
    ) -> io::Result<std::result::Result<(), String>> {
        let spots: std::result::Result<Vec<Spot>, String> =
            pieces.iter().map(|hash| self.spot(hash)).collect();
        let mut spots = match spots {
            Ok(spots) => VecDeque::from(spots),
            Err(why) => return Ok(Err(why)),
        };
        let mut bytes = Vec::new();
        while let Some(first) = spots.front().copied() {
            let mut end = first.offset;
            let together = |at: &&Spot| {
                let next = at.pack == first.pack && at.offset == end;
                let small = end - first.offset < BATCH as u64;
                end += u64::from(at.packed);
                next && small
            };
            let many = spots.iter().take_while(together).count();
            let run: Vec<Spot> = spots.drain(..many).collect();
            let length: usize = run.iter().map(|at| at.packed as usize).sum();
            let pack = self.pack_of(first);
            let said =
                |error: io::Error| Ok(Err(format!("{}: {}", self.shown(&pack), plain(&error))));
            bytes.resize(length, 0);
            if let Err(error) = self.home.shelf.read_at(&pack, &mut bytes, first.offset) {
                return said(error);
            }
            let is_open = self.home.seal.adds() == 0;
            if is_open && run.iter().all(|at| self.is_as_it_is(*at)) {
                out(&bytes)?;
                continue;
            }
            let mut rest = &bytes[..];
            for at in run {
                let (piece, more) = rest.split_at(at.packed as usize);
                rest = more;
                if is_open && self.is_as_it_is(at) {
                    out(piece)?;
                    continue;
                }
                match self.unpacked(piece.to_vec(), at) {
                    Ok(piece) => out(&piece)?,
                    Err(error) => return said(error),
                }
            }
        }
        Ok(Ok(()))
    }

    /// Behaves as if a piece were lost.
    #[cfg(test)]
    pub fn forget(&mut self, hash: &Hash) {
        self.known.remove(hash);
    }

    /// How much the packs take, in bytes.
    #[cfg(test)]
    pub fn bytes(&self) -> u64 {
        let listed = self.home.shelf.list("packs").unwrap_or_default();
        listed.iter().map(|object| object.bytes).sum()
    }
}

impl Drop for Store {
    /// A pack that was not finished is of no use, and its room may be all there was.
    fn drop(&mut self) {
        for lane in [&self.contents, &self.lists] {
            if let Some(writing) = locked(&lane.writing).take()
                && let To::File { .. } = writing.to
            {
                self.home.shelf.drop_begun(&of_pack(&writing.name, "pack"));
            }
        }
    }
}

/// Packs a piece behind what is there; says whether it has become smaller, and otherwise adds nothing.
///
/// Each thread keeps what packing needs, as making it takes longer than a piece does.
fn pack_into(bytes: &mut Vec<u8>, piece: &[u8]) -> io::Result<bool> {
    thread_local! {
        static PACKER: RefCell<Option<(Compressor<'static>, Vec<u8>)>> = const { RefCell::new(None) };
    }
    PACKER.with_borrow_mut(|packer| {
        let (packer, packed) = match packer {
            Some(packer) => packer,
            empty => empty.insert((Compressor::new(LEVEL)?, Vec::new())),
        };
        packed.resize(zstd::zstd_safe::compress_bound(piece.len()), 0);
        let length = packer.compress_to_buffer(piece, packed)?;
        let smaller = length < piece.len();
        if smaller {
            bytes.write_all(&packed[..length])?;
        }
        Ok(smaller)
    })
}
