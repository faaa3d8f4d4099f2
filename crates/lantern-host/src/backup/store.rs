//! Contents in small pieces, each stored once.
//!
//! A content is cut where its own bytes say (FastCDC, 2020), so that a change in the middle leaves the
//! pieces before and after it as they were. Pieces lie one after the other in `packs/N.pack`, packed
//! with zstd where that helps; `packs/N.index` says which piece is where, and ends with its own BLAKE3.
//!
//! Which pieces make up a content is a list of hashes. A long list is a content itself: it is cut into pieces, and so
//! is the list of those ([`Tree`]). So two lists that differ in one place share all else.

use crate::backup::fault::BackupFault;
use crate::error::{At, Error, Result};
use crate::folder::Folder;
use crate::meter;
use crate::place::{NewFile, Source};
use crate::told::plain;
use fastcdc::v2020::FastCDC;
use lantern_core::path::RelPath;
use serde::{Deserialize, Serialize};
use std::cell::RefCell;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::io::{self, Read, Write};
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
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
/// What an index begins with.
const MARK: &[u8; 8] = b"LANTERN2";
/// The length of one entry of an index: hash, offset, packed and whole length.
const ENTRY: usize = 32 + 8 + 4 + 4;

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

/// Where a piece lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Spot {
    pack: u64,
    offset: u64,
    packed: u32,
    whole: u32,
}

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
    file: Arc<dyn NewFile>,
    part: RelPath,
    number: u64,
    length: u64,
    pieces: Vec<(Hash, Spot)>,
    /// Brings what is written to the disk meanwhile; and how much was written when it began.
    syncing: Option<JoinHandle<io::Result<()>>>,
    synced: u64,
}

impl Writing {
    /// Begins to bring to the disk what was written, where that is much and nobody is at it.
    fn sync_meanwhile(&mut self) -> io::Result<()> {
        let idle = self.syncing.as_ref().is_none_or(JoinHandle::is_finished);
        if self.length - self.synced < SYNCED || !idle {
            return Ok(());
        }
        self.synced_so_far()?;
        self.synced = self.length;
        let file = Arc::clone(&self.file);
        self.syncing = Some(std::thread::spawn(move || file.sync()));
        Ok(())
    }

    /// Waits for that; its error would not be told a second time.
    fn synced_so_far(&mut self) -> io::Result<()> {
        let died = |_| Err(io::Error::other("it was interrupted"));
        let syncing = self.syncing.take();
        syncing.map_or(Ok(()), |syncing| syncing.join().unwrap_or_else(died))
    }
}

/// Pieces that go to the pack together; their spots count from the batch's beginning.
#[derive(Default)]
struct Batch {
    bytes: Vec<u8>,
    pieces: Vec<(Hash, Spot)>,
}

/// What was learnt of how well a file packs.
#[derive(Default)]
struct Packs {
    seen: usize,
    in_vain: usize,
}

/// The pieces in a folder.
pub struct Store {
    folder: Folder,
    root: RelPath,
    known: HashMap<Hash, Spot>,
    /// Pieces that this pass has taken in hand.
    fresh: Mutex<HashSet<Hash>>,
    /// One for each thread that takes files in.
    batches: Vec<Mutex<Batch>>,
    writing: Mutex<Option<Writing>>,
    /// Packs that have been read from.
    packs: Mutex<HashMap<u64, Arc<dyn Source>>>,
    /// Indexes that cannot be read, and why.
    pub broken: Vec<(RelPath, String)>,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Store {
    /// Opens the store in a folder; one that breaks off in the middle of a pack has lost nothing before.
    ///
    /// # Errors
    /// When the folder cannot be made or listed. A broken index is only noted.
    pub fn open(folder: &Folder, root: &RelPath) -> Result<Store> {
        let packs = root.join("packs")?;
        if !folder.has(&packs)? {
            folder.make_folders(&packs)?;
            folder.sync(Some(root))?;
        }
        let mut store = Store {
            folder: folder.clone(),
            root: packs.clone(),
            known: HashMap::new(),
            fresh: Mutex::default(),
            batches: (0..=rayon::current_num_threads())
                .map(|_| Mutex::default())
                .collect(),
            writing: Mutex::default(),
            packs: Mutex::default(),
            broken: Vec::new(),
        };
        let entries = folder.entries(&packs)?;
        let names: HashSet<&str> = entries.iter().map(|(path, _)| path.name()).collect();
        for (path, _) in &entries {
            let Some((name, extension)) = path.name().rsplit_once('.') else {
                continue;
            };
            match (extension, name.parse().ok()) {
                ("index", Some(number)) => match read_index(folder, path, number) {
                    Ok(pieces) => store.known.extend(pieces),
                    Err(why) => store.broken.push((path.clone(), why)),
                },
                // What a lantern that was killed left behind: no index speaks of it, and none will.
                ("part", _) => {
                    let _ = folder.remove_file(path);
                }
                ("pack", Some(_)) if !names.contains(format!("{name}.index").as_str()) => {
                    let _ = folder.remove_file(path);
                }
                _ => {}
            }
        }
        store.broken.sort();
        Ok(store)
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
                    pieces.push(self.put(piece, &mut packs)?);
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

    fn cut(&self, bytes: &[u8], grain: Grain) -> Result<Vec<Hash>> {
        let (at_least, about, at_most) = grain.sizes();
        let mut packs = Packs::default();
        let pieces = FastCDC::new(bytes, at_least, about, at_most).map(|piece| {
            self.put(
                &bytes[piece.offset..piece.offset + piece.length],
                &mut packs,
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
    pub fn reach(
        &self,
        tree: &Tree,
        needed: &mut BTreeSet<Hash>,
    ) -> std::result::Result<(), String> {
        self.walk(tree, &mut |met| {
            match met {
                Met::Listing(hash) => {
                    needed.insert(hash);
                }
                Met::Pieces(some) => needed.extend(some),
            }
            Ok(())
        })
    }

    /// How much a piece takes in its pack, in bytes; nothing where it is lost.
    pub fn packed_bytes(&self, hash: &Hash) -> u64 {
        self.known.get(hash).map_or(0, |at| u64::from(at.packed))
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

    fn put(&self, piece: &[u8], packs: &mut Packs) -> Result<Hash> {
        let hash = *blake3::hash(piece).as_bytes();
        if self.known.contains_key(&hash) || !locked(&self.fresh).insert(hash) {
            return Ok(hash);
        }
        let thread = rayon::current_thread_index().map_or(0, |index| index + 1);
        let mut batch = locked(&self.batches[thread % self.batches.len()]);
        let before = batch.bytes.len();
        packs.seen += 1;
        let hopeless = packs.in_vain >= TRIED && !packs.seen.is_multiple_of(TRIED);
        if hopeless
            || !pack_into(&mut batch.bytes, piece).at("packing", &self.folder.shown(&self.root))?
        {
            packs.in_vain += 1;
            batch.bytes.extend_from_slice(piece);
        } else {
            packs.in_vain = 0;
        }
        let at = Spot {
            pack: 0,
            offset: before as u64,
            packed: (batch.bytes.len() - before) as u32,
            whole: piece.len() as u32,
        };
        batch.pieces.push((hash, at));
        if batch.bytes.len() >= BATCH {
            self.write(&mut batch)?;
        }
        Ok(hash)
    }

    /// Writes a batch to the pack and empties it. Only its place is given out one at a time.
    fn write(&self, batch: &mut Batch) -> Result<()> {
        let (file, part, offset) = {
            let mut writing = locked(&self.writing);
            let writing = match &mut *writing {
                Some(writing) => writing,
                empty => empty.insert(self.begin()?),
            };
            let offset = writing.length;
            writing.length += batch.bytes.len() as u64;
            let pieces = batch.pieces.drain(..).map(|(hash, mut at)| {
                at.pack = writing.number;
                at.offset += offset;
                (hash, at)
            });
            writing.pieces.extend(pieces);
            let part = self.folder.shown(&writing.part);
            writing.sync_meanwhile().at("writing", &part)?;
            (Arc::clone(&writing.file), writing.part.clone(), offset)
        };
        file.write_all_at(&batch.bytes, offset)
            .at("writing", &self.folder.shown(&part))?;
        batch.bytes.clear();
        Ok(())
    }

    /// A path of it as the system knows it.
    pub fn shown(&self, path: &RelPath) -> String {
        self.folder.shown(path).display().to_string()
    }

    fn named(&self, number: u64, extension: &str) -> Result<RelPath> {
        Ok(self.root.join(&format!("{number}.{extension}"))?)
    }

    fn begin(&self) -> Result<Writing> {
        let numbers = self.known.values().map(|at| at.pack);
        let mut number = numbers.max().unwrap_or(0) + 1;
        while self.folder.has(&self.named(number, "pack")?)? {
            number += 1;
        }
        let part = self.named(number, "part")?;
        if self.folder.has(&part)? {
            self.folder.remove_file(&part)?;
        }
        Ok(Writing {
            file: Arc::from(self.folder.create(&part)?),
            part,
            number,
            length: 0,
            pieces: Vec::new(),
            syncing: None,
            synced: 0,
        })
    }

    /// Makes what was taken in last; only from here on may a backup speak of it.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn commit(&mut self) -> Result<()> {
        for batch in &self.batches {
            let mut batch = locked(batch);
            if !batch.pieces.is_empty() {
                self.write(&mut batch)?;
            }
        }
        locked(&self.fresh).clear();
        let Some(mut writing) = locked(&self.writing).take() else {
            return Ok(());
        };
        let pack = self.named(writing.number, "pack")?;
        let synced = writing.synced_so_far();
        synced
            .and_then(|()| writing.file.sync())
            .at("writing", &self.folder.shown(&writing.part))?;
        self.folder.rename(&writing.part, &pack)?;
        // Before any index speaks of it.
        self.folder.sync(Some(&self.root))?;
        let mut index = MARK.to_vec();
        for (hash, at) in &writing.pieces {
            index.extend(hash);
            index.extend(at.offset.to_le_bytes());
            index.extend(at.packed.to_le_bytes());
            index.extend(at.whole.to_le_bytes());
        }
        index.extend(blake3::hash(&index).as_bytes());
        let path = self.named(writing.number, "index")?;
        self.folder.write_whole(&path, &index)?;
        self.known.extend(writing.pieces);
        Ok(())
    }

    /// Reads a piece and checks it.
    ///
    /// # Errors
    /// With what is wrong with it, in words.
    pub fn get(&self, hash: &Hash) -> std::result::Result<Vec<u8>, String> {
        let at = self.known.get(hash).ok_or("a piece of it is lost")?;
        self.read(hash, at)
    }

    fn read(&self, hash: &Hash, at: &Spot) -> std::result::Result<Vec<u8>, String> {
        let path = self
            .named(at.pack, "pack")
            .map_err(|error| error.to_string())?;
        let shown = self.shown(&path);
        let said = |error: io::Error| format!("{shown}: {}", plain(&error));
        let file = self.pack(at.pack, &path).map_err(said)?;
        let mut bytes = vec![0; at.packed as usize];
        read_exact_at(&*file, &mut bytes, at.offset).map_err(said)?;
        if at.packed < at.whole {
            bytes = zstd::bulk::decompress(&bytes, at.whole as usize).map_err(said)?;
        }
        if blake3::hash(&bytes).as_bytes() != hash {
            return Err(format!("a piece in {shown} is damaged"));
        }
        Ok(bytes)
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
        let mut spots = Vec::with_capacity(pieces.len());
        for hash in pieces {
            match self.known.get(hash) {
                Some(at) => spots.push(*at),
                None => return Ok(Err("a piece of it is lost".into())),
            }
        }
        let mut bytes = Vec::new();
        while let Some(first) = spots.first().copied() {
            let mut end = first.offset;
            let together = |at: &&Spot| {
                let next = at.pack == first.pack && at.offset == end;
                let small = end - first.offset < BATCH as u64;
                end += u64::from(at.packed);
                next && small
            };
            let run: Vec<Spot> = spots.iter().take_while(together).copied().collect();
            spots.drain(..run.len());
            let length: usize = run.iter().map(|at| at.packed as usize).sum();
            let path = self.named(first.pack, "pack").map_err(io::Error::other)?;
            let shown = self.shown(&path);
            let said = |error: io::Error| Ok(Err(format!("{shown}: {}", plain(&error))));
            bytes.resize(length, 0);
            let read = self
                .pack(first.pack, &path)
                .and_then(|file| read_exact_at(&*file, &mut bytes, first.offset));
            if let Err(error) = read {
                return said(error);
            }
            if run.iter().all(|at| at.packed == at.whole) {
                out(&bytes)?;
                continue;
            }
            let mut rest = &bytes[..];
            for at in run {
                let (piece, more) = rest.split_at(at.packed as usize);
                rest = more;
                if at.packed == at.whole {
                    out(piece)?;
                    continue;
                }
                match zstd::bulk::decompress(piece, at.whole as usize) {
                    Ok(piece) => out(&piece)?,
                    Err(error) => return said(error),
                }
            }
        }
        Ok(Ok(()))
    }

    /// A pack, opened once.
    fn pack(&self, number: u64, path: &RelPath) -> io::Result<Arc<dyn Source>> {
        let mut packs = self.packs.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(file) = packs.get(&number) {
            return Ok(Arc::clone(file));
        }
        let file: Arc<dyn Source> =
            Arc::from(self.folder.open_file(path).map_err(io::Error::other)?);
        packs.insert(number, Arc::clone(&file));
        Ok(file)
    }

    /// How much the packs take on the disk, in bytes.
    pub fn bytes(&self) -> u64 {
        let entries = self.folder.entries(&self.root).unwrap_or_default();
        entries.iter().map(|(_, meta)| meta.stamp.bytes).sum()
    }

    /// Behaves as if a piece were lost.
    #[cfg(test)]
    pub fn forget(&mut self, hash: &Hash) {
        self.known.remove(hash);
    }

    /// Drops every piece that is not `live`: packs with any such are written anew without them.
    ///
    /// # Errors
    /// When a live piece cannot be read, before anything is dropped; or the store cannot be written.
    pub fn retain(&mut self, live: &BTreeSet<Hash>) -> Result<()> {
        let dead = self.known.iter().filter(|(hash, _)| !live.contains(*hash));
        let packs: HashSet<u64> = dead.map(|(_, at)| at.pack).collect();
        let moving: Vec<(Hash, Spot)> = self
            .known
            .iter()
            .filter(|(hash, at)| packs.contains(&at.pack) && live.contains(*hash))
            .map(|(hash, at)| (*hash, *at))
            .collect();
        self.known.retain(|_, at| !packs.contains(&at.pack));
        for (hash, at) in &moving {
            let piece = self
                .read(hash, at)
                .map_err(|why| Error::Backup(BackupFault::Store { why }))?;
            self.put(&piece, &mut Packs::default())?;
        }
        self.commit()?;
        for number in packs {
            for extension in ["index", "pack"] {
                self.folder.remove_file(&self.named(number, extension)?)?;
            }
        }
        Ok(())
    }
}

impl Drop for Store {
    /// A pack that was not finished is of no use, and its room may be all there was.
    fn drop(&mut self) {
        if let Some(writing) = locked(&self.writing).take() {
            let _ = self.folder.remove_file(&writing.part);
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

/// Reads that many bytes from a place in a file.
fn read_exact_at(file: &dyn Source, bytes: &mut [u8], offset: u64) -> io::Result<()> {
    match file.read_at(bytes, offset)? {
        read if read == bytes.len() => Ok(()),
        _ => Err(io::ErrorKind::UnexpectedEof.into()),
    }
}

fn read_index(
    folder: &Folder,
    path: &RelPath,
    pack: u64,
) -> std::result::Result<Vec<(Hash, Spot)>, String> {
    let bytes = folder.read(path).map_err(|error| error.to_string())?;
    let body = bytes.len().checked_sub(32).map(|end| bytes.split_at(end));
    let Some((body, sum)) = body.filter(|(body, _)| body.starts_with(MARK)) else {
        return Err("it is cut off, or no index".into());
    };
    if blake3::hash(body).as_bytes() != sum || !(body.len() - MARK.len()).is_multiple_of(ENTRY) {
        return Err("it is cut off or damaged".into());
    }
    let entry = |entry: &[u8]| -> Option<(Hash, Spot)> {
        let at = Spot {
            pack,
            offset: u64::from_le_bytes(entry[32..40].try_into().ok()?),
            packed: u32::from_le_bytes(entry[40..44].try_into().ok()?),
            whole: u32::from_le_bytes(entry[44..48].try_into().ok()?),
        };
        Some((entry[..32].try_into().ok()?, at))
    };
    Ok(body[MARK.len()..]
        .chunks_exact(ENTRY)
        .filter_map(entry)
        .collect())
}
