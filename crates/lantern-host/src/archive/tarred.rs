//! Tar archives, plain or packed with gzip or zstd.

use super::{ArchiveFault, List, MOST_BYTES, MOST_TIMES, Passing, SMALL_BYTES, Visit};
use flate2::read::MultiGzDecoder;
use lantern_core::path::RelPath;
use std::fs::File;
use std::io::{self, BufReader, Read, Seek};
use tar::{Archive, EntryType};

/// The largest window that is unpacked from zstd, as a power of two in bytes: 32 MiB.
const WINDOW_LOG: u32 = 25;
/// No entry that only carries a long name or attributes may be larger, in bytes.
const LONGEST_NAME: u64 = 64 << 10;

pub(super) struct Tarred {
    file: File,
    packing: Packing,
    /// How much it may unpack to, in bytes.
    most: u64,
}

#[derive(Clone, Copy)]
enum Packing {
    None,
    Gzip,
    Zstd,
}

/// Whether a file begins with a plain tar header, by the mark in it.
pub(super) fn is_plain(file: &mut File) -> io::Result<bool> {
    let mut header = Vec::new();
    file.take(512).read_to_end(&mut header)?;
    file.rewind()?;
    Ok(header.get(257..262) == Some(b"ustar"))
}

/// What is done with each entry and its name.
type VisitTar<'v> =
    &'v mut dyn FnMut(&mut tar::Entry<'_, Box<dyn Read>>, &str) -> Result<(), ArchiveFault>;

impl Tarred {
    pub(super) fn open(file: File, start: &[u8], list: &mut List) -> Result<Tarred, ArchiveFault> {
        let packing = match start {
            [0x1f, 0x8b, ..] => Packing::Gzip,
            [0x28, 0xb5, 0x2f, 0xfd] => Packing::Zstd,
            _ => Packing::None,
        };
        let packed = file.metadata().map_or(0, |metadata| metadata.len());
        let most = packed
            .saturating_mul(MOST_TIMES)
            .saturating_add(SMALL_BYTES);
        let mut tar = Tarred {
            file,
            packing,
            most: most.min(MOST_BYTES),
        };
        tar.check_lengths()?;
        tar.pass(&mut |entry, name| {
            match entry.header().entry_type() {
                EntryType::Regular | EntryType::Continuous => {
                    let size = entry.header().size().map_err(broken)?;
                    list.add(name, size)?;
                }
                EntryType::Directory => {
                    if !matches!(name, "." | "./") {
                        RelPath::parse(name)?;
                    }
                }
                EntryType::XGlobalHeader => {}
                _ => return Err(ArchiveFault::Link(name.to_owned())),
            }
            Ok(())
        })?;
        Ok(tar)
    }

    fn unpacked(&mut self) -> Result<Box<dyn Read>, ArchiveFault> {
        self.file.rewind().map_err(broken)?;
        let file = BufReader::with_capacity(128 << 10, self.file.try_clone().map_err(broken)?);
        let reader: Box<dyn Read> = match self.packing {
            Packing::None => Box::new(file),
            Packing::Gzip => Box::new(MultiGzDecoder::new(file)),
            Packing::Zstd => {
                let mut decoder = zstd::stream::read::Decoder::with_buffer(file).map_err(broken)?;
                decoder.window_log_max(WINDOW_LOG).map_err(broken)?;
                Box::new(decoder)
            }
        };
        Ok(Box::new(Metered {
            reader,
            left: self.most,
        }))
    }

    /// Looks at entries that only carry a name or attributes of the next one: they are read into
    /// memory, and may not be long.
    fn check_lengths(&mut self) -> Result<(), ArchiveFault> {
        let mut archive = Archive::new(self.unpacked()?);
        for entry in archive.entries().map_err(broken)?.raw(true) {
            let entry = entry.map_err(broken)?;
            let header = entry.header();
            let carries = matches!(
                header.entry_type(),
                EntryType::GNULongName
                    | EntryType::GNULongLink
                    | EntryType::XHeader
                    | EntryType::XGlobalHeader
            );
            if carries && header.size().map_err(broken)? > LONGEST_NAME {
                return Err(ArchiveFault::Bomb("a name of over 64 KiB".into()));
            }
        }
        Ok(())
    }

    fn pass(&mut self, visit: VisitTar<'_>) -> Result<(), ArchiveFault> {
        let mut archive = Archive::new(self.unpacked()?);
        for entry in archive.entries().map_err(broken)? {
            let mut entry = entry.map_err(broken)?;
            let bytes = entry.path_bytes().into_owned();
            let name = String::from_utf8(bytes).map_err(|error| {
                let shown = String::from_utf8_lossy(error.as_bytes()).into_owned();
                ArchiveFault::Broken(format!("the name {shown:?} is not UTF-8"))
            })?;
            visit(&mut entry, &name)?;
        }
        Ok(())
    }

    pub(super) fn each(
        &mut self,
        wanted: &dyn Fn(&RelPath) -> bool,
        visit: Visit<'_>,
    ) -> Result<(), ArchiveFault> {
        self.pass(&mut |entry, name| {
            let header = entry.header();
            let plain = matches!(
                header.entry_type(),
                EntryType::Regular | EntryType::Continuous
            );
            let Some(path) = RelPath::parse(name).ok().filter(|p| plain && wanted(p)) else {
                return Ok(());
            };
            let (bytes, mode) = (header.size().map_err(broken)?, header.mode().unwrap_or(0));
            visit(Passing {
                path: &path,
                bytes,
                is_program: mode & 0o111 != 0,
                content: entry,
            })
        })
    }
}

fn broken(error: io::Error) -> ArchiveFault {
    if error.kind() == io::ErrorKind::QuotaExceeded {
        ArchiveFault::Bomb(error.to_string())
    } else {
        ArchiveFault::Broken(error.to_string())
    }
}

/// Stops when more comes out than may.
struct Metered {
    reader: Box<dyn Read>,
    left: u64,
}

impl Read for Metered {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.reader.read(buffer)?;
        match self.left.checked_sub(read as u64) {
            Some(left) => self.left = left,
            None => {
                let why = "far more than it is long";
                return Err(io::Error::new(io::ErrorKind::QuotaExceeded, why));
            }
        }
        Ok(read)
    }
}
