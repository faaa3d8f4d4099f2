//! One file brought from here to another machine, which goes on where it was cut off before.

use crate::error::{At, Result};
use crate::folder::Folder;
use crate::meter;
use crate::place::{NewFile, Source};
use lantern_core::path::RelPath;
use std::io::SeekFrom;

/// So much of a file is sent at once, in bytes.
const PIECE: usize = 1 << 20;
/// Only of a file that is at least so long there, in bytes, what was sent before is worth being looked at.
const WORTH: u64 = 4 << 20;
/// So much before the place where it goes on has to be as it is here, in bytes.
const ALIKE: u64 = 64 << 10;

/// Brings a file from here there, with these rights, where they are named; how many bytes had to be sent. `before` is the size of what
/// has its name there, which an attempt before to bring this very content has left.
///
/// # Errors
/// When it cannot be read, or the other end does not take it.
pub fn carry(
    folder: &Folder,
    from: &RelPath,
    to: &RelPath,
    before: Option<u64>,
    rights: Option<u32>,
) -> Result<u64> {
    let mut source = folder.open_file(from)?;
    let bytes = source
        .meta()
        .at("reading", &folder.shown(from))?
        .stamp
        .bytes;
    let known = match before {
        Some(before) => goes_on_at(folder, &mut *source, to, (before, bytes))?,
        None => 0,
    };
    if known > 0 {
        // What else was there to be written over came out of order.
        let target = folder.go_on(to, known)?;
        meter::did(known);
        fill(folder, &mut *source, target, (to, known), rights)?;
        if folder
            .look(to)?
            .is_some_and(|there| there.stamp.bytes == bytes)
        {
            return Ok(bytes - known);
        }
    }
    if before.is_some() {
        folder.remove_file(to)?;
    }
    let target = folder.create(to)?;
    fill(folder, &mut *source, target, (to, 0), rights)?;
    Ok(bytes)
}

/// Where a file there can be gone on with; 0 where it begins anew.
fn goes_on_at(
    folder: &Folder,
    source: &mut dyn Source,
    to: &RelPath,
    (there, bytes): (u64, u64),
) -> Result<u64> {
    let Some(unsure) = folder.unsure_end(to) else {
        return Ok(0);
    };
    let known = there.saturating_sub(unsure);
    if known < WORTH || there > bytes {
        return Ok(0);
    }
    let alike = || {
        let mut ends = [vec![0; ALIKE as usize], vec![0; ALIKE as usize]];
        let begin = known - ALIKE;
        source.read_at(&mut ends[0], begin)?;
        let read = folder.open_file(to).map_err(std::io::Error::other)?;
        read.read_at(&mut ends[1], begin)?;
        Ok(ends[0] == ends[1])
    };
    let is_alike = alike().at("reading", &folder.shown(to))?;
    Ok(if is_alike { known } else { 0 })
}

/// Writes the rest of a file.
fn fill(
    folder: &Folder,
    source: &mut dyn Source,
    mut target: Box<dyn NewFile>,
    (to, at): (&RelPath, u64),
    rights: Option<u32>,
) -> Result<()> {
    let mut piece = vec![0; PIECE];
    let mut copy = || {
        source.seek(SeekFrom::Start(at))?;
        loop {
            let read = source.read(&mut piece)?;
            if read == 0 {
                break;
            }
            target.write_all(&piece[..read])?;
            meter::did(read as u64);
        }
        if let Some(rights) = rights {
            target.set_rights(rights)?;
        }
        target.sync()
    };
    copy().at("sending", &folder.shown(to))
}
