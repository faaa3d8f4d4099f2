//! Writing a new file on another machine.

use super::NewFile;
use super::line::Line;
use russh_sftp::client::error::Error;
use russh_sftp::extensions;
use russh_sftp::protocol::FileAttributes;
use std::collections::VecDeque;
use std::io::{self, Write};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::task::JoinHandle;

/// So much is written in one request, in bytes: what every server takes.
const PIECE: usize = 32 << 10;
/// So much is under way at once at most, in bytes.
pub const AT_ONCE: u64 = 1 << 20;

/// A file that is being written.
pub struct Writing {
    line: Arc<Line>,
    handle: String,
    /// Where it is written on, and what was sent, and is not answered yet.
    under_way: Mutex<(u64, VecDeque<Answer>)>,
}

/// The answer to what was written, when it comes.
type Answer = JoinHandle<Result<(), Error>>;

impl Writing {
    /// A file that was opened, and where writing begins in it.
    pub fn new(line: Arc<Line>, handle: String, at: u64) -> Writing {
        Writing {
            line,
            handle,
            under_way: Mutex::new((at, VecDeque::new())),
        }
    }

    /// Has a piece written at a place in it.
    fn piece(&self, bytes: &[u8], at: u64) -> Answer {
        let session = Arc::clone(&self.line.session);
        let (handle, piece) = (self.handle.clone(), bytes.to_vec());
        self.line
            .begin(async move { session.write(handle, at, piece).await.map(|_| ()) })
    }

    /// Waits for answers, until no more than so many are still to come.
    fn answered(&self, answers: &mut VecDeque<Answer>, still: usize) -> io::Result<()> {
        while answers.len() > still
            && let Some(first) = answers.pop_front()
        {
            self.line.wait(async {
                let answer = first.await;
                answer.map_err(|error| Error::IO(error.to_string()))?
            })?;
        }
        Ok(())
    }

    fn under_way(&self) -> MutexGuard<'_, (u64, VecDeque<Answer>)> {
        self.under_way
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
    }
}

impl Write for Writing {
    /// What is sent is answered later; that it was refused comes with what is written next, or with the sync.
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let bytes = &bytes[..bytes.len().min(PIECE)];
        let mut under_way = self.under_way();
        let (at, answers) = &mut *under_way;
        self.answered(answers, AT_ONCE as usize / PIECE - 1)?;
        answers.push_back(self.piece(bytes, *at));
        *at += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.answered(&mut self.under_way().1, 0)
    }
}

impl NewFile for Writing {
    fn write_all_at(&self, bytes: &[u8], offset: u64) -> io::Result<()> {
        let mut answers = VecDeque::new();
        for (number, piece) in bytes.chunks(PIECE).enumerate() {
            self.answered(&mut answers, AT_ONCE as usize / PIECE - 1)?;
            answers.push_back(self.piece(piece, offset + (number * PIECE) as u64));
        }
        self.answered(&mut answers, 0)
    }

    /// What is asked of one file is done in the order in which it is asked (section 3 of the protocol), so that one answer is waited for in
    /// the end, and not each.
    fn sync(&self) -> io::Result<()> {
        let mut under_way = self.under_way();
        // Without that word, what the other end answers is all that is known.
        if self.line.can(extensions::FSYNC) {
            let (session, handle) = (Arc::clone(&self.line.session), self.handle.clone());
            let synced = async move { session.fsync(handle).await.map(|_| ()) };
            under_way.1.push_back(self.line.begin(synced));
        }
        self.answered(&mut under_way.1, 0)
    }

    /// That it was refused comes with the sync.
    fn set_rights(&self, rights: u32) -> io::Result<()> {
        let attrs = FileAttributes {
            permissions: Some(rights),
            ..FileAttributes::empty()
        };
        let (session, handle) = (Arc::clone(&self.line.session), self.handle.clone());
        let set = async move { session.fsetstat(handle, attrs).await.map(|_| ()) };
        self.under_way().1.push_back(self.line.begin(set));
        Ok(())
    }

    fn set_attribute(&self, _: &str, _: &[u8]) -> io::Result<()> {
        Err(io::ErrorKind::Unsupported.into())
    }
}

impl Drop for Writing {
    fn drop(&mut self) {
        let (session, handle) = (Arc::clone(&self.line.session), self.handle.clone());
        self.line.leave(async move {
            let _ = session.close(handle).await;
        });
    }
}
