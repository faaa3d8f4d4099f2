//! Reading a file that lies on another machine.

use super::line::{AT_ONCE, Line, is_end};
use super::{Meta, Source, unsupported};
use russh_sftp::client::RawSftpSession;
use russh_sftp::client::error::Error;
use std::collections::BTreeMap;
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::{Arc, Mutex, PoisonError};

/// So much is asked for in one request, in bytes: what every server gives.
const PIECE: u64 = 32 << 10;
/// So much is fetched where nobody has read before.
const FIRST: u64 = 4 << 10;
/// So much of the end of a file is fetched at once, and kept: the directory of an archive stands there.
const END: u64 = 16 << 10;

/// What stretches of a file are fetched from.
pub trait Stretches: Send + Sync {
    /// How many times as much is fetched next, where a file is read on and on.
    const GROWS: u64;
    /// So much is fetched at once at most, in bytes.
    const MOST: u64;

    /// Fetches a stretch; what comes back is whole from its beginning, and shorter where the file ends early.
    ///
    /// # Errors
    /// When it cannot be read.
    fn stretch(&self, from: u64, length: u64) -> io::Result<Vec<u8>>;
}

/// A file that is read.
pub struct Reading<S> {
    from: S,
    bytes: u64,
    /// What it is; unknown where it was opened as it was listed.
    meta: Option<Meta>,
    at: u64,
    /// What was fetched last of what is read on and on, and where it begins.
    fetched: (u64, Vec<u8>),
    /// What was fetched besides: the end of the file, and the last place that was looked into.
    known: Mutex<Known>,
    /// How much is fetched next.
    ahead: u64,
}

/// Stretches of a file, and where they begin.
#[derive(Default)]
struct Known {
    end: Option<(u64, Vec<u8>)>,
    looked_into: Option<(u64, Vec<u8>)>,
}

/// What of a stretch lies behind a place in it; nothing where it does not.
fn behind((start, bytes): &(u64, Vec<u8>), at: u64) -> &[u8] {
    let from = at
        .checked_sub(*start)
        .and_then(|it| usize::try_from(it).ok());
    from.and_then(|from| bytes.get(from..)).unwrap_or_default()
}

impl Known {
    fn at(&self, at: u64) -> &[u8] {
        let known = self.end.iter().chain(&self.looked_into);
        let mut found = known.map(|stretch| behind(stretch, at));
        found.find(|found| !found.is_empty()).unwrap_or_default()
    }
}

impl<S: Stretches> Reading<S> {
    /// A file that was opened, and is so long.
    pub fn new(from: S, bytes: u64, meta: Option<Meta>) -> Reading<S> {
        Reading {
            from,
            bytes,
            meta,
            at: 0,
            fetched: (0, Vec::new()),
            known: Mutex::default(),
            ahead: FIRST,
        }
    }

    /// What of the place where it is read was fetched already.
    fn at_hand(&mut self) -> &[u8] {
        let known = self.known.get_mut().unwrap_or_else(PoisonError::into_inner);
        match behind(&self.fetched, self.at) {
            [] => known.at(self.at),
            found => found,
        }
    }

    /// Where the end begins that is fetched at once.
    fn near_end(&self) -> u64 {
        self.bytes.saturating_sub(END)
    }

    /// Fetches a stretch; nothing is asked for behind the end that the file had when it was opened.
    fn stretch(&self, from: u64, length: u64) -> io::Result<Vec<u8>> {
        let there = self.bytes.saturating_sub(from);
        match length.min(there) {
            0 => Ok(Vec::new()),
            length => self.from.stretch(from, length),
        }
    }

    fn fetch(&mut self) -> io::Result<()> {
        let near_end = self.near_end();
        let follows = self.fetched.0 + self.fetched.1.len() as u64 == self.at;
        let follows = follows && !self.fetched.1.is_empty();
        // Whoever has read up to the end wants just the rest.
        if self.at >= near_end && !follows {
            let end = Some((near_end, self.stretch(near_end, END)?));
            let known = self.known.get_mut().unwrap_or_else(PoisonError::into_inner);
            known.end = end;
            return Ok(());
        }
        self.ahead = match follows {
            true => (self.ahead * S::GROWS).min(S::MOST),
            false => FIRST,
        };
        self.fetched = (self.at, self.stretch(self.at, self.ahead)?);
        Ok(())
    }
}

/// Asks for a stretch of a file, all of its pieces at once; what comes back is whole from its beginning, and shorter where the file ends
/// early.
async fn pieces(
    session: &Arc<RawSftpSession>,
    handle: &str,
    from: u64,
    length: u64,
) -> Result<Vec<u8>, Error> {
    let asked = (0..length.div_ceil(PIECE)).map(|number| {
        let (session, handle) = (Arc::clone(session), handle.to_owned());
        let begin = from + number * PIECE;
        let wanted = PIECE.min(from + length - begin);
        tokio::spawn(async move {
            let mut bytes = Vec::new();
            // A server may give less than was asked for.
            while (bytes.len() as u64) < wanted {
                let rest = wanted - bytes.len() as u64;
                let rest = u32::try_from(rest).unwrap_or(u32::MAX);
                let at = begin + bytes.len() as u64;
                match session.read(handle.as_str(), at, rest).await {
                    Ok(data) if data.data.is_empty() => break,
                    Ok(data) => bytes.extend(data.data),
                    Err(error) if is_end(&error) => break,
                    Err(error) => return Err(error),
                }
            }
            Ok(bytes)
        })
    });
    let asked: Vec<_> = asked.collect();
    let mut all = Vec::new();
    for (number, piece) in asked.into_iter().enumerate() {
        let piece = piece
            .await
            .map_err(|error| Error::IO(error.to_string()))??;
        // Behind a piece that ended early there is nothing.
        if all.len() as u64 == number as u64 * PIECE {
            all.extend(piece);
        }
    }
    Ok(all)
}

impl<S: Stretches> Read for Reading<S> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at >= self.bytes {
            return Ok(0);
        }
        if self.at_hand().is_empty() {
            self.fetch()?;
        }
        let at_hand = self.at_hand();
        let count = at_hand.len().min(buffer.len());
        buffer[..count].copy_from_slice(&at_hand[..count]);
        self.at += count as u64;
        Ok(count)
    }
}

impl<S: Stretches> Seek for Reading<S> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let moved = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.bytes.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = moved.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidInput))?;
        Ok(self.at)
    }
}

impl<S: Stretches> Source for Reading<S> {
    fn meta(&self) -> io::Result<Meta> {
        match self.meta {
            Some(meta) => Ok(meta),
            None => unsupported("asking what a file is that was opened as it was listed"),
        }
    }

    fn length(&self) -> io::Result<u64> {
        Ok(self.bytes)
    }

    fn attributes(&self) -> io::Result<BTreeMap<String, Vec<u8>>> {
        Ok(BTreeMap::new())
    }

    fn read_at(&self, bytes: &mut [u8], offset: u64) -> io::Result<usize> {
        let wanted = bytes.len() as u64;
        if wanted > FIRST {
            let read = self.stretch(offset, wanted)?;
            bytes[..read.len()].copy_from_slice(&read);
            return Ok(read.len());
        }
        let wanted = wanted.min(self.bytes.saturating_sub(offset)) as usize;
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        // What is looked into is often read next, and what is around it.
        if known.at(offset).len() < wanted {
            let near_end = self.near_end();
            match offset >= near_end {
                true => known.end = Some((near_end, self.stretch(near_end, END)?)),
                false => known.looked_into = Some((offset, self.stretch(offset, FIRST)?)),
            }
        }
        let found = known.at(offset);
        let count = found.len().min(wanted);
        bytes[..count].copy_from_slice(&found[..count]);
        Ok(count)
    }
}

/// A file that is open at the other end of a line.
pub struct Handle {
    line: Arc<Line>,
    handle: String,
}

impl Handle {
    /// One that was opened; it is closed when this is dropped.
    pub fn new(line: Arc<Line>, handle: String) -> Handle {
        Handle { line, handle }
    }
}

impl Stretches for Handle {
    const GROWS: u64 = 2;
    const MOST: u64 = PIECE * AT_ONCE as u64;

    fn stretch(&self, from: u64, length: u64) -> io::Result<Vec<u8>> {
        let pieces = pieces(&self.line.session, &self.handle, from, length);
        self.line.wait(pieces)
    }
}

impl Drop for Handle {
    fn drop(&mut self) {
        let (session, handle) = (Arc::clone(&self.line.session), self.handle.clone());
        self.line.leave(async move {
            let _ = session.close(handle).await;
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicU64, Ordering};

    /// A file of so many bytes, and how often something of it was fetched.
    struct Counted(u64, Arc<AtomicU64>);

    impl Stretches for Counted {
        const GROWS: u64 = 2;
        const MOST: u64 = 64 << 10;

        fn stretch(&self, from: u64, length: u64) -> io::Result<Vec<u8>> {
            self.1.fetch_add(1, Ordering::Relaxed);
            let end = self.0.min(from + length);
            Ok((from..end).map(|at| at as u8).collect())
        }
    }

    #[test]
    fn all_of_a_file_is_read_and_nothing_is_fetched_twice() {
        for (bytes, fetched) in [(0, 0), (1, 1), (END, 1), (END + 1, 3), (100_000, 5)] {
            let count = Arc::new(AtomicU64::new(0));
            let mut reading = Reading::new(Counted(bytes, Arc::clone(&count)), bytes, None);
            let mut read = Vec::new();
            reading.read_to_end(&mut read).unwrap();
            let whole: Vec<u8> = (0..bytes).map(|at| at as u8).collect();
            assert!(read == whole, "{bytes} bytes");
            assert_eq!(count.load(Ordering::Relaxed), fetched, "{bytes} bytes");
            assert_eq!(reading.length().unwrap(), bytes);
        }
    }
}
