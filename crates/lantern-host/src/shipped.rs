//! Texts as a release shipped them, or as they were found at adoption: what a merge holds a changed file against.
//!
//! They lie in the ledger, packed, by their BLAKE3. A text is what has no zero byte in it and at most
//! [`LONGEST_BYTES`]; together they take at most [`MOST_BYTES`], and then those go first that no file is known by any more.

use crate::error::Result;
use crate::folder::Folder;
use crate::ledger::Ledger;
use lantern_core::inventory::Remembered;
use lantern_core::path::RelPath;
use lantern_core::text::Text;
use rayon::prelude::*;
use std::collections::BTreeMap;

/// The longest text that is kept, in bytes.
pub const LONGEST_BYTES: u64 = 256 << 10;
/// How much all of them take at most, packed, in bytes.
pub const MOST_BYTES: u64 = 64 << 20;

/// So many files are read at once.
const AT_ONCE: usize = 64;

/// Keeps those files of a server folder that are texts and still what is said of them: path and BLAKE3. Of a server on another machine those
/// that lie here.
///
/// # Errors
/// When the ledger cannot be written. A file that cannot be read is passed over.
pub fn keep_files<'f>(
    folder: &Folder,
    ledger: &Ledger,
    files: impl Iterator<Item = (&'f RelPath, &'f str)>,
) -> Result<()> {
    let read = |(path, hash): &(&RelPath, &str)| {
        let meta = folder.look(path).ok().flatten()?;
        if !meta.is_file() || meta.stamp.bytes > LONGEST_BYTES {
            return None;
        }
        let bytes = folder.read(path).ok()?;
        let same = || blake3::hash(&bytes).to_hex().as_str() == *hash;
        (is_text(&bytes) && same()).then(|| ((*hash).to_owned(), bytes))
    };
    // What lies on another machine is not fetched for this.
    let is_here = |(path, _): &(&RelPath, &str)| folder.path_there(path).is_none();
    let files: Vec<(&RelPath, &str)> = files.filter(is_here).collect();
    // Read side by side, and no more at once than a few megabytes.
    let texts = files.chunks(AT_ONCE).flat_map(|files| {
        let texts: Vec<_> = files.par_iter().filter_map(read).collect();
        texts
    });
    keep(ledger, texts)
}

/// The text that was put at a path, as far as it is kept.
///
/// # Errors
/// When the ledger cannot be read.
pub fn text_at(
    ledger: &Ledger,
    remembered: &BTreeMap<RelPath, Remembered>,
    path: &RelPath,
) -> Result<Option<Text>> {
    let known = remembered.get(path);
    let bytes = known.map(|known| ledger.text(&known.hash)).transpose()?;
    Ok(bytes.flatten().map(|bytes| Text::read(&bytes)))
}

fn is_text(bytes: &[u8]) -> bool {
    bytes.len() as u64 <= LONGEST_BYTES && Text::read(bytes).is_plain()
}

/// Keeps those contents that are texts: BLAKE3 and content.
///
/// # Errors
/// When the ledger cannot be written.
pub fn keep(ledger: &Ledger, contents: impl Iterator<Item = (String, Vec<u8>)>) -> Result<()> {
    let mut texts = contents.filter(|(_, bytes)| is_text(bytes));
    ledger.keep_texts(&mut texts, MOST_BYTES)
}
