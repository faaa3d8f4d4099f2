//! What a player's client must have, as an archive.

use crate::archive::Archive;
use crate::changeover::fault::ChangeoverFault;
use crate::config::Server;
use crate::error::{Error, Result};
use crate::place::here;
use lantern_core::clients::ClientList;
use lantern_core::link;
use lantern_core::path::RelPath;
use lantern_core::plan::is_lanterns;
use std::io;
use std::path::Path;
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

/// The list's name inside the archive.
pub const LIST: &str = "client-list.json";

/// Refuses to write over what is no client pack, and into what is kept or belongs to a component.
fn refuse_out(server: &Server, out: &Path) -> Result<()> {
    let whole = std::path::absolute(out).unwrap_or_else(|_| out.to_owned());
    let real = whole.parent().and_then(here::real);
    let real = real
        .zip(whole.file_name())
        .map(|(folder, name)| folder.join(name));
    let inside = real.and_then(|real| server.folder.below(&real));
    let inside = inside.and_then(|path| RelPath::parse(path.to_str()?).ok());
    if let Some(path) =
        inside.filter(|path| server.keeps(path.as_str()) || is_lanterns(path, &server.own_files()))
    {
        return Err(ChangeoverFault::WritesKept { path }.into());
    }
    if here::look(out).is_none() {
        return Ok(());
    }
    let is_pack =
        Archive::open(out).is_ok_and(|mut archive| matches!(archive.text_at(LIST), Ok(Some(_))));
    match is_pack {
        true => Ok(()),
        false => Err(Error::InTheWay(out.into())),
    }
}

/// Writes everything on the list into a zip archive, file by file; the same list gives the same archive.
/// Returns its size in bytes.
///
/// # Errors
/// When another file is there already, or it would come to lie among what is kept; when a file cannot be read or is not the listed one any more, or the archive cannot be written.
pub fn write(server: &Server, list: &ClientList, out: &Path) -> Result<u64> {
    let folder = &server.folder;
    refuse_out(server, out)?;
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
            if let Some(target) = link::target(&file.blake3) {
                zip.add_symlink(file.path.as_str(), target, options)
                    .map_err(io::Error::other)?;
                continue;
            }
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
