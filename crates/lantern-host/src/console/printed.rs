//! What a server prints, read from a file that grows.

use super::log::Log;
use crate::error::{At, Result};
use lantern_core::text;
use std::borrow::Cow;

/// So much is read at one look, in bytes: logs of servers that run for months are long.
const AT_ONCE: u64 = 32 << 20;

/// A log that is read to its end is read in pieces of so many bytes.
pub const PIECE: u64 = 1 << 20;

/// No line is longer, in bytes.
const LONGEST_LINE: usize = 1 << 20;

/// So much of a file's end holds its last lines, in bytes.
const TAIL: u64 = 64 << 10;

/// A line as somebody at a terminal sees it: without what colours it or moves about, and with what was written over it last.
pub fn as_seen(line: &str) -> Cow<'_, str> {
    let line = line.trim_end();
    if memchr::memchr2(b'\x1b', b'\r', line.as_bytes()).is_none() {
        return Cow::Borrowed(line);
    }
    let plain = anstream::adapter::strip_str(line).to_string();
    let last = plain.trim_end().rsplit('\r').next().unwrap_or_default();
    Cow::Owned(last.to_owned())
}

/// Reads whole lines from a file that grows, is cut, or is replaced by a new one.
pub struct Printed {
    log: Log,
    inode: u64,
    offset: u64,
    /// What stands right before that, as far as it is known: where files have no numbers, it tells whether it is still that file.
    before: Vec<u8>,
    rest: Vec<u8>,
}

/// So much of what was read is remembered, in bytes.
const REMEMBERED: usize = 64;

impl Printed {
    /// From a place in the file on, if it is still that file.
    pub fn from(log: Log, inode: u64, offset: u64) -> Printed {
        Printed {
            log,
            inode,
            offset,
            before: Vec::new(),
            rest: Vec::new(),
        }
    }

    /// As [`Printed::from`], with what stood right before that place.
    pub fn behind(self, before: Vec<u8>) -> Printed {
        Printed { before, ..self }
    }

    /// From the file's end on; from its beginning when it is not there yet.
    pub fn from_end(log: Log) -> Printed {
        let (inode, offset) = log.end();
        let before = before(&log, offset);
        Printed::from(log, inode, offset).behind(before)
    }

    /// From near the file's end on: its last lines.
    pub fn from_tail(log: Log, inode: u64, offset: u64) -> Printed {
        let (here, length) = log.end();
        let first = if here == inode { offset } else { 0 };
        Printed::from(log, here, first.max(length.saturating_sub(TAIL)))
    }

    /// The whole lines that have come since the last look, as far as one look reaches.
    ///
    /// # Errors
    /// When the file is there and cannot be read.
    pub fn lines(&mut self) -> Result<Vec<String>> {
        let mut lines = Vec::new();
        self.each(AT_ONCE, &mut |line| lines.push(line.to_owned()))?;
        Ok(lines)
    }

    /// Shows the whole lines that have come since the last look, as far as so many bytes reach.
    ///
    /// # Errors
    /// As [`Printed::lines`].
    pub fn each(&mut self, most: u64, see: &mut dyn FnMut(&str)) -> Result<()> {
        let path = self.log.shown();
        if matches!(self.log, Log::There(..)) && self.rest.is_empty() && self.is_at_end() {
            return Ok(());
        }
        let file = match self.log.open() {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(()),
            file => file.at("reading", &path)?,
        };
        let stamp = file.meta().at("reading", &path)?.stamp;
        let is_another =
            stamp.inode == 0 && self.offset <= stamp.bytes && !self.before.is_empty() && {
                let mut now = vec![0; self.before.len()];
                let from = self.offset.saturating_sub(now.len() as u64);
                file.read_at(&mut now, from).at("reading", &path)?;
                now != self.before
            };
        if stamp.inode != self.inode || stamp.bytes < self.offset || is_another {
            (self.inode, self.offset) = (stamp.inode, 0);
            self.rest.clear();
            self.before.clear();
        }
        let more = stamp.bytes.saturating_sub(self.offset).min(most);
        let before = self.rest.len();
        self.rest.resize(before + more as usize, 0);
        let read = file.read_at(&mut self.rest[before..], self.offset);
        let read = read.at("reading", &path)?;
        self.rest.truncate(before + read);
        self.offset += read as u64;
        self.before.extend_from_slice(&self.rest[before..]);
        let too_many = self.before.len().saturating_sub(REMEMBERED);
        self.before.drain(..too_many);
        let mut done = 0;
        for end in memchr::memchr_iter(b'\n', &self.rest) {
            see(&as_seen(&text::line(&self.rest[done..end])));
            done = end + 1;
        }
        self.rest.drain(..done);
        // A line without an end is none: a program that prints no line feeds fills no memory here.
        if self.rest.len() > LONGEST_LINE {
            self.rest.clear();
        }
        Ok(())
    }

    /// Whether everything has been read that was there at the last look.
    pub fn is_at_end(&self) -> bool {
        let (inode, length) = self.log.end();
        inode != self.inode || self.offset == length || inode != 0 && self.offset > length
    }
}

/// What stands right before a place in a log; nothing where that cannot be read.
pub fn before(log: &Log, offset: u64) -> Vec<u8> {
    let mut bytes = vec![0; REMEMBERED.min(offset as usize)];
    let from = offset - bytes.len() as u64;
    let read = log.open().and_then(|file| file.read_at(&mut bytes, from));
    bytes.truncate(read.unwrap_or(0));
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    #[test]
    fn a_line_is_read_as_it_is_seen() {
        for (line, seen) in [
            ("open on port 1 \r", "open on port 1"),
            ("\x1b[36m[12:00]\x1b[0m open\x1b[K", "[12:00] open"),
            ("\x1b]0;Tarn\x07\x1b[1;38;5;208mopen\x1b(B\x1b[m", "open"),
            ("> st\r\x1b[K[12:00] open\r", "[12:00] open"),
            ("10 %\r50 %\rdone", "done"),
            ("gr\u{fc}n \x1b[32m\u{2605}\x1b[0m", "gr\u{fc}n \u{2605}"),
        ] {
            assert_eq!(as_seen(line), seen, "{line:?}");
        }
    }

    #[test]
    fn a_log_that_grows_is_cut_or_replaced_is_read_on() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("log");
        let mut printed = Printed::from_end(Log::Here(path.clone()));
        assert_eq!(printed.lines().unwrap(), Vec::<String>::new());
        fs::write(&path, "one\ntw").unwrap();
        assert_eq!(printed.lines().unwrap(), ["one"]);
        fs::write(&path, "one\ntwo\r\n").unwrap();
        assert_eq!(printed.lines().unwrap(), ["two"]);
        fs::write(&path, "cut\n").unwrap();
        assert_eq!(printed.lines().unwrap(), ["cut"]);
        fs::write(dir.path().join("new"), "a new file, and longer\n").unwrap();
        fs::rename(dir.path().join("new"), &path).unwrap();
        assert_eq!(printed.lines().unwrap(), ["a new file, and longer"]);
        let new = Printed::from_tail(Log::Here(path.clone()), 0, 0)
            .lines()
            .unwrap();
        assert_eq!(new, ["a new file, and longer"]);
        fs::write(&path, "line\n".repeat(100_000)).unwrap();
        let tail = Printed::from_tail(Log::Here(path.clone()), 0, 0)
            .lines()
            .unwrap();
        assert!(tail.len() < 14_000 && tail.last().unwrap() == "line");
        assert_eq!(
            Printed::from_end(Log::Here(path)).lines().unwrap(),
            Vec::<String>::new()
        );
    }
}
