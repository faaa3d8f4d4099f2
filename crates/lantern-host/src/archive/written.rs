//! A new zip archive.

use crate::error::Result;
use crate::place::here::{self, BeingWritten};
use std::io::{self, BufWriter};
use std::path::Path;
use zip::ZipWriter;

/// An archive that is being written.
pub type NewZip<'f> = ZipWriter<BufWriter<&'f mut BeingWritten>>;

/// Writes an archive whole or not at all; its size.
///
/// # Errors
/// What `fill` says, or when it cannot be written.
pub fn write(out: &Path, fill: &mut dyn FnMut(&mut NewZip<'_>) -> Result<()>) -> Result<u64> {
    let (mut failed, mut bytes) = (None, 0);
    let written = here::write_whole(out, &mut |target| {
        let mut zip = ZipWriter::new(BufWriter::new(&mut *target));
        if let Err(error) = fill(&mut zip) {
            failed = Some(error);
            return Err(io::Error::other("a file cannot be packed"));
        }
        let written = zip.finish().map_err(io::Error::other)?.into_inner();
        let file = written.map_err(io::IntoInnerError::into_error)?;
        bytes = file.metadata()?.len();
        Ok(())
    });
    match failed {
        Some(error) => Err(error),
        None => written.map(|()| bytes),
    }
}
