//! Zip archives.

use super::{
    ArchiveFault, LONGEST_LINK, List, MOST_ENTRIES, MOST_TIMES, PackedFile, SMALL_BYTES, Visit,
};
use crate::place::Source;
use lantern_core::path::RelPath;
use std::collections::BTreeMap;
use std::io::{self, BufReader, Read};
use zip::ZipArchive;

pub(super) struct Zipped {
    zip: ZipArchive<BufReader<Box<dyn Source>>>,
    index: BTreeMap<RelPath, usize>,
}

impl Zipped {
    pub(super) fn open(file: Box<dyn Source>, list: &mut List) -> Result<Zipped, ArchiveFault> {
        let no_end = || ArchiveFault::Broken("it breaks off, or is something else".into());
        let stated = stated_entries(&*file).ok().flatten();
        let stated = stated.ok_or_else(no_end)?;
        if stated > MOST_ENTRIES {
            return Err(ArchiveFault::Bomb(format!("{stated} entries")));
        }
        let mut zip = ZipArchive::new(BufReader::new(file)).map_err(|_| no_end())?;
        if zip.len() as u64 != stated {
            return Err(ArchiveFault::Twice {
                entries: stated,
                names: zip.len() as u64,
            });
        }
        let broken = |error: zip::result::ZipError| ArchiveFault::Broken(error.to_string());
        let mut index = BTreeMap::new();
        for number in 0..zip.len() {
            let entry = zip.by_index_raw(number).map_err(broken)?;
            let name = entry.name().map_err(broken)?.into_owned();
            if name.contains(char::REPLACEMENT_CHARACTER) {
                return Err(ArchiveFault::Broken(format!(
                    "the name {name:?} is not UTF-8"
                )));
            }
            let kind = entry.unix_mode().map_or(0, |mode| mode & 0o170_000);
            let plain = matches!(kind, 0 | 0o100_000) || entry.is_dir() && kind == 0o040_000;
            if entry.encrypted() {
                return Err(ArchiveFault::Encrypted(name));
            }
            if kind == 0o120_000 {
                drop(entry);
                let mut target = Vec::new();
                let entry = zip.by_index(number).map_err(broken)?;
                let read = entry.take(LONGEST_LINK + 1).read_to_end(&mut target);
                read.map_err(|error| ArchiveFault::Damaged(name.clone(), error.to_string()))?;
                list.add_link(&name, &target)?;
                continue;
            }
            if !plain {
                return Err(ArchiveFault::Odd(name));
            }
            if entry.is_dir() {
                RelPath::from_outside(&name)?;
                continue;
            }
            let allowed = entry.compressed_size().saturating_mul(MOST_TIMES);
            if entry.size() > allowed.saturating_add(SMALL_BYTES) {
                let why = format!("{name:?} alone to {} bytes", entry.size());
                return Err(ArchiveFault::Bomb(why));
            }
            index.insert(list.add(&name, entry.size())?, number);
        }
        Ok(Zipped { zip, index })
    }

    pub(super) fn each(
        &mut self,
        wanted: &dyn Fn(&RelPath) -> bool,
        visit: Visit<'_>,
    ) -> Result<(), ArchiveFault> {
        for (path, number) in self.index.iter().filter(|(path, _)| wanted(path)) {
            let mut entry = self
                .zip
                .by_index(*number)
                .map_err(|error| ArchiveFault::Damaged(path.to_string(), error.to_string()))?;
            visit(PackedFile {
                path,
                bytes: entry.size(),
                is_program: entry.unix_mode().is_some_and(|mode| mode & 0o111 != 0),
                content: &mut entry,
            })?;
        }
        Ok(())
    }
}

/// So much of an archive's end is looked at first, and at most, in bytes.
const SHORT_TAIL: u64 = 1 << 10;
const LONGEST_TAIL: u64 = 22 + 65_535 + 20;

/// How many entries the end of a zip archive says there are; none where no end is found.
///
/// From the end record, or from that of the large format which it points to, as the format's
/// public description (APPNOTE, sections 4.3.14 to 4.3.16) lays them out.
fn stated_entries(file: &dyn Source) -> io::Result<Option<u64>> {
    const END: &[u8] = b"PK\x05\x06";
    const LARGE_LOCATOR: &[u8] = b"PK\x06\x07";
    let length = file.length()?;
    let tail_of = |most: u64| -> io::Result<(Vec<u8>, Option<usize>)> {
        let tail = length.min(most);
        let mut bytes = vec![0; tail as usize];
        let read = file.read_at(&mut bytes, length - tail)?;
        bytes.truncate(read);
        let last = bytes.len().saturating_sub(22);
        // What points to the large format's record stands right before it.
        let from = if tail < length { 20 } else { 0 };
        let at = (from..=last).rev().find(|at| bytes[*at..].starts_with(END));
        Ok((bytes, at))
    };
    // Most have no remark behind their end; the longest there can be is looked through where it has to be.
    let (mut bytes, mut at) = tail_of(SHORT_TAIL)?;
    if at.is_none() {
        (bytes, at) = tail_of(LONGEST_TAIL)?;
    }
    let Some(at) = at else {
        return Ok(None);
    };
    let Some(count) = bytes.get(at + 10..at + 12) else {
        return Ok(None);
    };
    let count = u16::from_le_bytes([count[0], count[1]]);
    let locator = at.checked_sub(20).map(|start| &bytes[start..at]);
    let large = locator.filter(|bytes| bytes.starts_with(LARGE_LOCATOR));
    let Some(large) = large else {
        return Ok(Some(count.into()));
    };
    let eight = |bytes: &[u8]| u64::from_le_bytes(bytes.try_into().unwrap_or([0xff; 8]));
    let mut record = [0; 40];
    let read = file.read_at(&mut record, eight(&large[8..16]))?;
    Ok((read == record.len()).then(|| eight(&record[32..40])))
}
