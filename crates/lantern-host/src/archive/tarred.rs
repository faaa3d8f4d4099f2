//! Tar archives, plain or packed with gzip or zstd.

use super::{ArchiveFault, List, MOST_BYTES, MOST_TIMES, PackedFile, SMALL_BYTES, Visit};
use crate::place::Source;
use flate2::read::MultiGzDecoder;
use lantern_core::path::RelPath;
use std::io::{self, BufReader, Read};
use tar::{Archive, EntryType};

/// The largest window that is unpacked from zstd, as a power of two in bytes: 32 MiB.
const WINDOW_LOG: u32 = 25;
/// What a tar archive consists of, in bytes.
const BLOCK: u64 = 512;
/// Two empty blocks close it, in bytes.
const CLOSING: u64 = 2 * BLOCK;
/// No entry that only carries a long name or attributes may be larger, in bytes.
const LONGEST_NAME: u64 = 64 << 10;

pub(super) struct Tarred {
    file: Box<dyn Source>,
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

/// A file read from its beginning, whoever else reads it.
struct FromStart<'f> {
    file: &'f dyn Source,
    offset: u64,
}

impl Read for FromStart<'_> {
    fn read(&mut self, bytes: &mut [u8]) -> io::Result<usize> {
        let read = self.file.read_at(bytes, self.offset)?;
        self.offset += read as u64;
        Ok(read)
    }
}

/// What is done with each entry and its name.
type VisitTar<'v> =
    &'v mut dyn FnMut(&mut tar::Entry<'_, Metered<'_>>, &str) -> Result<(), ArchiveFault>;

impl Tarred {
    /// Whether a file that begins so is a tar archive: by the mark in its header, or by how it is packed.
    pub(super) fn is_one(start: &[u8]) -> bool {
        let packed = matches!(start, [0x1f, 0x8b, ..] | [0x28, 0xb5, 0x2f, 0xfd, ..]);
        packed || start.get(257..262) == Some(b"ustar")
    }

    pub(super) fn open(
        file: Box<dyn Source>,
        start: &[u8],
        list: &mut List,
    ) -> Result<Tarred, ArchiveFault> {
        let packing = match start {
            [0x1f, 0x8b, ..] => Packing::Gzip,
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Packing::Zstd,
            _ => Packing::None,
        };
        let packed = file.length().unwrap_or(0);
        let most = packed
            .saturating_mul(MOST_TIMES)
            .saturating_add(SMALL_BYTES);
        let tar = Tarred {
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
                        RelPath::from_outside(name)?;
                    }
                }
                EntryType::Symlink => {
                    let target = entry.link_name_bytes().unwrap_or_default();
                    list.add_link(name, &target)?;
                }
                EntryType::XGlobalHeader => {}
                _ => return Err(ArchiveFault::Odd(name.to_owned())),
            }
            Ok(())
        })?;
        Ok(tar)
    }

    fn unpacked(&self) -> Result<Metered<'_>, ArchiveFault> {
        let file = FromStart {
            file: &*self.file,
            offset: 0,
        };
        let file = BufReader::with_capacity(128 << 10, file);
        let reader: Box<dyn Read + '_> = match self.packing {
            Packing::None => Box::new(file),
            Packing::Gzip => Box::new(MultiGzDecoder::new(file)),
            Packing::Zstd => {
                let mut decoder = zstd::stream::read::Decoder::with_buffer(file).map_err(broken)?;
                decoder.window_log_max(WINDOW_LOG).map_err(broken)?;
                Box::new(decoder)
            }
        };
        Ok(Metered {
            reader,
            left: self.most,
            read: 0,
        })
    }

    /// Looks at entries that only carry a name or attributes of the next one: they are read into
    /// memory, and may not be long.
    fn check_lengths(&self) -> Result<(), ArchiveFault> {
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

    fn pass(&self, visit: VisitTar<'_>) -> Result<(), ArchiveFault> {
        let mut archive = Archive::new(self.unpacked()?);
        let mut end = 0;
        for entry in archive.entries().map_err(broken)? {
            let mut entry = entry.map_err(broken)?;
            let bytes = entry.path_bytes().into_owned();
            let name = String::from_utf8(bytes).map_err(|error| {
                let shown = String::from_utf8_lossy(error.as_bytes()).into_owned();
                ArchiveFault::Broken(format!("the name {shown:?} is not UTF-8"))
            })?;
            visit(&mut entry, &name)?;
            end = entry.raw_file_position() + entry.size().next_multiple_of(BLOCK);
        }
        let mut metered = archive.into_inner();
        io::copy(&mut metered, &mut io::sink()).map_err(broken)?;
        match metered.read >= end + CLOSING {
            true => Ok(()),
            false => Err(ArchiveFault::Broken(
                "its end is missing: it was cut off".into(),
            )),
        }
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
            visit(PackedFile {
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
struct Metered<'f> {
    reader: Box<dyn Read + 'f>,
    left: u64,
    /// How many bytes have come out.
    read: u64,
}

impl Read for Metered<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.reader.read(buffer)?;
        self.read += read as u64;
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
