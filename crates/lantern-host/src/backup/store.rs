//! Contents in small pieces, each stored once.
//!
//! A content is cut where its own bytes say (FastCDC, 2020), so that a change in the middle leaves the
//! pieces before and after it as they were. Pieces lie one after the other in `packs/N.pack`, packed
//! with zstd where that helps; `packs/N.index` says which piece is where, and ends with its own BLAKE3.

use crate::disk;
use crate::durable;
use crate::error::{At, Error, Result};
use fastcdc::v2020::StreamCDC;
use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::fs::{self, File};
use std::io::{self, BufWriter, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use zstd::bulk::Compressor;

/// How small and how large pieces are, in bytes: at least, about, at most.
const PIECE: (usize, usize, usize) = (1 << 10, 4 << 10, 64 << 10);
/// So much of a pack is written at once, in bytes.
const WRITTEN_AT_ONCE: usize = 1 << 20;
/// How hard is packed.
const LEVEL: i32 = 1;
/// What an index begins with.
const MARK: &[u8; 8] = b"LANTERN2";
/// The length of one entry of an index: hash, offset, packed and whole length.
const ENTRY: usize = 32 + 8 + 4 + 4;

/// The BLAKE3 of a piece.
pub type Hash = [u8; 32];

/// Where a piece lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Spot {
    pack: u64,
    offset: u64,
    packed: u32,
    whole: u32,
}

/// A pack that is being written.
struct Writing {
    file: BufWriter<File>,
    part: PathBuf,
    number: u64,
    length: u64,
    pieces: Vec<(Hash, Spot)>,
}

/// The pieces in a folder.
pub struct Store {
    root: PathBuf,
    known: HashMap<Hash, Spot>,
    /// Pieces that this pass has taken in hand, and the pack that they go to.
    fresh: Mutex<(HashSet<Hash>, Option<Writing>)>,
    /// Packs that have been read from.
    packs: Mutex<HashMap<u64, Arc<File>>>,
    /// Indexes that cannot be read, and why.
    pub broken: Vec<(PathBuf, String)>,
}

impl Store {
    /// Opens the store in a folder; one that breaks off in the middle of a pack has lost nothing before.
    ///
    /// # Errors
    /// When the folder cannot be made or listed. A broken index is only noted.
    pub fn open(root: &Path) -> Result<Store> {
        let packs = root.join("packs");
        fs::create_dir_all(&packs).at("making the folder", &packs)?;
        let mut store = Store {
            root: packs.clone(),
            known: HashMap::new(),
            fresh: Mutex::default(),
            packs: Mutex::default(),
            broken: Vec::new(),
        };
        for entry in fs::read_dir(&packs).at("listing", &packs)? {
            let path = entry.at("listing", &packs)?.path();
            let name = path.file_stem().and_then(|stem| stem.to_str());
            let number = name.and_then(|name| name.parse().ok());
            match (path.extension().and_then(|e| e.to_str()), number) {
                (Some("index"), Some(number)) => match read_index(&path, number) {
                    Ok(pieces) => store.known.extend(pieces),
                    Err(why) => store.broken.push((path, why)),
                },
                // What a lantern that was killed left behind.
                (Some("part"), _) => {
                    let _ = fs::remove_file(&path);
                }
                _ => {}
            }
        }
        store.broken.sort();
        Ok(store)
    }

    fn fresh(&self) -> MutexGuard<'_, (HashSet<Hash>, Option<Writing>)> {
        self.fresh.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes a file in; tells its pieces in order, its BLAKE3 and its size.
    ///
    /// # Errors
    /// When it cannot be read, or the store cannot be written.
    pub fn take(&self, path: &Path) -> Result<(Vec<Hash>, String, u64)> {
        let file = File::open(path).at("reading", path)?;
        let (mut pieces, mut bytes) = (Vec::new(), 0);
        let mut whole = blake3::Hasher::new();
        let cut = StreamCDC::new(file, PIECE.0, PIECE.1, PIECE.2);
        for piece in cut {
            let piece = piece.map_err(std::io::Error::from).at("reading", path)?;
            whole.update(&piece.data);
            bytes += piece.length as u64;
            pieces.push(self.put(&piece.data)?);
        }
        Ok((pieces, whole.finalize().to_hex().to_string(), bytes))
    }

    fn put(&self, piece: &[u8]) -> Result<Hash> {
        let hash = *blake3::hash(piece).as_bytes();
        if self.known.contains_key(&hash) || !self.fresh().0.insert(hash) {
            return Ok(hash);
        }
        let packed = compress(piece).at("packing", &self.root)?;
        let packed = if packed.len() < piece.len() {
            &packed
        } else {
            piece
        };
        let mut fresh = self.fresh();
        let writing = match &mut fresh.1 {
            Some(writing) => writing,
            empty => empty.insert(self.begin()?),
        };
        writing
            .file
            .write_all(packed)
            .at("writing", &writing.part)?;
        let at = Spot {
            pack: writing.number,
            offset: writing.length,
            packed: packed.len() as u32,
            whole: piece.len() as u32,
        };
        writing.length += packed.len() as u64;
        writing.pieces.push((hash, at));
        Ok(hash)
    }

    fn begin(&self) -> Result<Writing> {
        let numbers = self.known.values().map(|at| at.pack);
        let mut number = numbers.max().unwrap_or(0) + 1;
        while self.root.join(format!("{number}.pack")).exists() {
            number += 1;
        }
        let part = self.root.join(format!("{number}.part"));
        let file = disk::step()
            .and_then(|()| File::create(&part))
            .at("writing", &part)?;
        Ok(Writing {
            file: BufWriter::with_capacity(WRITTEN_AT_ONCE, file),
            part,
            number,
            length: 0,
            pieces: Vec::new(),
        })
    }

    /// Makes what was taken in last; only from here on may a backup speak of it.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn commit(&mut self) -> Result<()> {
        let (_, writing) = std::mem::take(&mut *self.fresh());
        let Some(mut writing) = writing else {
            return Ok(());
        };
        let pack = self.root.join(format!("{}.pack", writing.number));
        let written = writing.file.flush();
        written
            .and_then(|()| writing.file.get_ref().sync_all())
            .at("writing", &writing.part)?;
        disk::step()
            .and_then(|()| fs::rename(&writing.part, &pack))
            .at("renaming", &pack)?;
        let mut index = MARK.to_vec();
        for (hash, at) in &writing.pieces {
            index.extend(hash);
            index.extend(at.offset.to_le_bytes());
            index.extend(at.packed.to_le_bytes());
            index.extend(at.whole.to_le_bytes());
        }
        index.extend(blake3::hash(&index).as_bytes());
        durable::write(&pack.with_extension("index"), &index)?;
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
        let path = self.root.join(format!("{}.pack", at.pack));
        let said = |error: io::Error| format!("{}: {error}", path.display());
        let file = self.pack(at.pack, &path).map_err(said)?;
        let mut bytes = vec![0; at.packed as usize];
        file.read_exact_at(&mut bytes, at.offset).map_err(said)?;
        if at.packed < at.whole {
            bytes = zstd::bulk::decompress(&bytes, at.whole as usize).map_err(said)?;
        }
        if blake3::hash(&bytes).as_bytes() != hash {
            return Err(format!("a piece in {} is damaged", path.display()));
        }
        Ok(bytes)
    }

    /// A pack, opened once.
    fn pack(&self, number: u64, path: &Path) -> io::Result<Arc<File>> {
        let mut packs = self.packs.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(file) = packs.get(&number) {
            return Ok(Arc::clone(file));
        }
        let file = Arc::new(File::open(path)?);
        packs.insert(number, Arc::clone(&file));
        Ok(file)
    }

    /// Whether the index knows all of these pieces.
    pub fn has_all(&self, pieces: &[Hash]) -> bool {
        pieces.iter().all(|piece| self.known.contains_key(piece))
    }

    /// How much the packs take on the disk, in bytes.
    pub fn bytes(&self) -> u64 {
        let entries = fs::read_dir(&self.root).into_iter().flatten().flatten();
        entries
            .filter_map(|entry| Some(entry.metadata().ok()?.len()))
            .sum()
    }

    /// Drops every piece that is not `live`: packs with any such are written anew without them.
    ///
    /// # Errors
    /// When a live piece cannot be read, before anything is dropped; or the store cannot be written.
    pub fn retain(&mut self, live: &HashSet<Hash>) -> Result<()> {
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
            let piece = self.read(hash, at).map_err(|why| Error::Store { why })?;
            self.put(&piece)?;
        }
        self.commit()?;
        for number in packs {
            for extension in ["index", "pack"] {
                let path = self.root.join(format!("{number}.{extension}"));
                disk::step()
                    .and_then(|()| fs::remove_file(&path))
                    .at("removing", &path)?;
            }
        }
        Ok(())
    }
}

/// Packs a piece; each thread keeps what packing needs, as making it takes longer than a piece does.
fn compress(piece: &[u8]) -> io::Result<Vec<u8>> {
    thread_local! {
        static PACKER: RefCell<Option<Compressor<'static>>> = const { RefCell::new(None) };
    }
    PACKER.with_borrow_mut(|packer| {
        let packer = match packer {
            Some(packer) => packer,
            empty => empty.insert(Compressor::new(LEVEL)?),
        };
        packer.compress(piece)
    })
}

fn read_index(path: &Path, pack: u64) -> std::result::Result<Vec<(Hash, Spot)>, String> {
    let bytes = fs::read(path).map_err(|error| error.to_string())?;
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
