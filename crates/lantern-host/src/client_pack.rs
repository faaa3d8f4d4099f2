//! What a player's client must have, as an archive.

use crate::changeover::fault::ChangeoverFault;
use crate::config::Server;
use crate::error::Result;
use crate::place::here;
use lantern_core::clients::ClientList;
use std::io;
use std::path::Path;
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

/// The list's name inside the archive.
pub const LIST: &str = "client-list.json";

/// Writes everything on the list into a zip archive, file by file; the same list gives the same archive.
/// Returns its size in bytes.
///
/// # Errors
/// When a file cannot be read or is not the listed one any more, or the archive cannot be written.
pub fn write(server: &Server, list: &ClientList, out: &Path) -> Result<u64> {
    let folder = &server.folder;
    for file in list.items.iter().flat_map(|item| &item.files) {
        if folder.hash(&file.path)? != file.blake3 {
            return Err(ChangeoverFault::FolderChanged {
                changes: vec![format!("{} is different", file.path)],
            }
            .into());
        }
    }
    let mut bytes = 0;
    here::write_whole(out, &mut |target| {
        let mut zip = ZipWriter::new(io::BufWriter::new(&mut *target));
        let options = SimpleFileOptions::default().unix_permissions(0o644);
        for file in list.items.iter().flat_map(|item| &item.files) {
            zip.start_file(file.path.as_str(), options)
                .map_err(io::Error::other)?;
            let mut content = folder.open_file(&file.path).map_err(io::Error::other)?;
            io::copy(&mut *content, &mut zip)?;
        }
        zip.start_file(LIST, options).map_err(io::Error::other)?;
        serde_json::to_writer_pretty(&mut zip, list)?;
        let written = zip.finish().map_err(io::Error::other)?.into_inner();
        bytes = written
            .map_err(io::IntoInnerError::into_error)?
            .metadata()?
            .len();
        Ok(())
    })?;
    Ok(bytes)
}
