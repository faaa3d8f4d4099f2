//! What a server prints, as it comes: for eyes, not for judging.

use super::log::Log;
use std::io::{Read, Seek, SeekFrom};

/// So much is read at once, in bytes.
const MOST: u64 = 256 << 10;

/// Follows a file that grows; one that begins anew is followed from its beginning.
#[derive(Debug)]
pub struct Follower {
    log: Log,
    at: u64,
    rest: Vec<u8>,
}

impl Follower {
    /// From the first line on; of one on another machine, which is not begun anew by each start, from now on.
    pub fn from_start(log: &Log) -> Follower {
        Follower {
            log: log.clone(),
            at: match log {
                Log::Here(_) => 0,
                Log::There(..) => log.end().1,
            },
            rest: Vec::new(),
        }
    }

    /// From now on.
    pub fn from_now(log: &Log) -> Follower {
        let bytes = log.end().1;
        Follower {
            at: bytes,
            ..Follower::from_start(log)
        }
    }

    /// The whole lines that have come since; none where the file cannot be read now.
    pub fn new_lines(&mut self) -> Vec<String> {
        let bytes = self.log.end().1;
        if bytes < self.at {
            (self.at, self.rest) = (0, Vec::new());
        }
        let mut new = Vec::new();
        let read = self.log.open().and_then(|mut file| {
            file.seek(SeekFrom::Start(self.at))?;
            file.take(MOST).read_to_end(&mut new)
        });
        let Ok(read) = read else {
            return Vec::new();
        };
        self.at += read as u64;
        self.rest.extend(new);
        let Some(end) = self.rest.iter().rposition(|byte| *byte == b'\n') else {
            return Vec::new();
        };
        let after = self.rest.split_off(end + 1);
        let whole = std::mem::replace(&mut self.rest, after);
        let text = String::from_utf8_lossy(&whole).into_owned();
        text.lines().map(str::to_owned).collect()
    }
}
