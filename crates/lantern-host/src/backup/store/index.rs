//! `packs/N.index`: which piece lies where in a pack.

use super::Hash;

/// What an index begins with.
const MARK: &[u8; 8] = b"LANTERN2";
/// The length of one entry: hash, offset, packed and whole length.
const ENTRY: usize = 32 + 8 + 4 + 4;
/// No piece is longer, in bytes.
const LONGEST: u32 = 1 << 20;

/// Where a piece lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Spot {
    /// The number of its pack, among those that a store knows.
    pub pack: u32,
    /// Where it begins in the pack.
    pub offset: u64,
    /// How long it is there, in bytes.
    pub packed: u32,
    /// How long it is unpacked, in bytes.
    pub whole: u32,
}

/// Writes an index.
pub fn written(pieces: &[(Hash, Spot)]) -> Vec<u8> {
    let mut index = MARK.to_vec();
    for (hash, at) in pieces {
        index.extend(hash);
        index.extend(at.offset.to_le_bytes());
        index.extend(at.packed.to_le_bytes());
        index.extend(at.whole.to_le_bytes());
    }
    index.extend(blake3::hash(&index).as_bytes());
    index
}

/// Reads one, of the pack of that number.
///
/// # Errors
/// With what is wrong with it, in words.
pub fn read(bytes: &[u8], pack: u32) -> std::result::Result<Vec<(Hash, Spot)>, String> {
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
        let makes_sense = at.packed <= LONGEST && at.whole <= LONGEST;
        makes_sense.then_some((entry[..32].try_into().ok()?, at))
    };
    let entries = body[MARK.len()..].chunks_exact(ENTRY).map(entry);
    let entries: Option<Vec<(Hash, Spot)>> = entries.collect();
    entries.ok_or_else(|| "a piece in it is longer than any is".into())
}
