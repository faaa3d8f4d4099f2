//! What a player's client must have, as an archive.

use crate::config::Server;
use crate::durable;
use crate::error::{At, Error, Result};
use lantern_core::clients::ClientList;
use std::fs::{self, File};
use std::io::{self, Cursor};
use std::path::Path;
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

/// The list's name inside the archive.
pub const LIST: &str = "client-list.json";

/// Writes everything on the list into a zip archive; the same list gives the same archive.
///
/// # Errors
/// When a file cannot be read or is not the listed one any more, or the archive cannot be written.
pub fn write(server: &Server, list: &ClientList, out: &Path) -> Result<u64> {
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    let options = SimpleFileOptions::default().unix_permissions(0o644);
    let zipped = |error: zip::result::ZipError| io::Error::other(error);
    for file in list.items.iter().flat_map(|item| &item.files) {
        let real = server.folder.path(&file.path)?;
        let found = crate::folder::hash_file(&real)?;
        if found != file.blake3 {
            return Err(Error::FolderChanged {
                changes: vec![format!("{} is different", file.path)],
            });
        }
        zip.start_file(file.path.as_str(), options)
            .map_err(zipped)
            .at("writing", out)?;
        let mut content = File::open(&real).at("reading", &real)?;
        io::copy(&mut content, &mut zip).at("writing", out)?;
    }
    zip.start_file(LIST, options)
        .map_err(zipped)
        .at("writing", out)?;
    serde_json::to_writer_pretty(&mut zip, list)
        .map_err(io::Error::from)
        .at("writing", out)?;
    let bytes = zip
        .finish()
        .map_err(zipped)
        .at("writing", out)?
        .into_inner();
    durable::write(out, &bytes)?;
    Ok(fs::metadata(out).at("reading", out)?.len())
}
