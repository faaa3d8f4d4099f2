//! Writing a new file on another machine.

use super::NewFile;
use super::line::Line;
use russh_sftp::client::error::Error;
use russh_sftp::extensions;
use russh_sftp::protocol::FileAttributes;
use std::io::{self, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// So much is written in one request, in bytes: what every server takes.
const PIECE: usize = 32 << 10;
/// So much is under way at once at most, in bytes.
pub const AT_ONCE: u64 = 1 << 20;

/// A file that is being written.
pub struct Writing {
    line: Arc<Line>,
    handle: String,
    at: AtomicU64,
}

impl Writing {
    /// A file that was opened, and where writing begins in it.
    pub fn new(line: Arc<Line>, handle: String, at: u64) -> Writing {
        Writing {
            line,
            handle,
            at: AtomicU64::new(at),
        }
    }
}

impl Writing {
    /// Writes a stretch, all of its pieces at once.
    fn write_stretch(&self, bytes: &[u8], offset: u64) -> io::Result<()> {
        let asked = async {
            let each = bytes.chunks(PIECE).enumerate().map(|(number, piece)| {
                let session = Arc::clone(&self.line.session);
                let (handle, piece) = (self.handle.clone(), piece.to_vec());
                let at = offset + (number * PIECE) as u64;
                tokio::spawn(async move { session.write(handle, at, piece).await })
            });
            let each: Vec<_> = each.collect();
            for one in each {
                one.await.map_err(|error| Error::IO(error.to_string()))??;
            }
            Ok(())
        };
        self.line.wait(asked)
    }
}

impl Write for Writing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = bytes.len() as u64;
        let at = self.at.fetch_add(count, Ordering::Relaxed);
        self.write_all_at(bytes, at)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl NewFile for Writing {
    fn write_all_at(&self, bytes: &[u8], offset: u64) -> io::Result<()> {
        for (number, stretch) in bytes.chunks(AT_ONCE as usize).enumerate() {
            self.write_stretch(stretch, offset + number as u64 * AT_ONCE)?;
        }
        Ok(())
    }

    fn sync(&self) -> io::Result<()> {
        // Without that word, what the other end answers is all that is known.
        if !self.line.can(extensions::FSYNC) {
            return Ok(());
        }
        let synced = self.line.session.fsync(self.handle.as_str());
        self.line.wait(synced).map(|_| ())
    }

    fn set_rights(&self, rights: u32) -> io::Result<()> {
        let attrs = FileAttributes {
            permissions: Some(rights),
            ..FileAttributes::empty()
        };
        let set = self.line.session.fsetstat(self.handle.as_str(), attrs);
        self.line.wait(set).map(|_| ())
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
