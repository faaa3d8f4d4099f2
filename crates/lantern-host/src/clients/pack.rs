//! What a player's client must have, as an archive.

use super::fault::ClientFault;
use super::{Listed, to_json};
use crate::archive::{self, Archive};
use crate::config::Server;
use crate::error::{At, Error, Result};
use crate::place::here;
use lantern_core::clients::{ClientFile, From, Since};
use lantern_core::link;
use lantern_core::path::RelPath;
use lantern_core::plan::is_lanterns;
use std::io::{self, Write};
use std::path::Path;
use zip::write::SimpleFileOptions;

/// The list's name inside the archive.
pub const LIST: &str = "client-list.json";

/// The name of the file with paths that are to be deleted, inside the archive of what has changed.
pub const DELETE: &str = "delete.txt";

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
        return Err(ClientFault::WritesKept { path }.into());
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

/// What was packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Packed {
    /// How many files, besides the list.
    pub files: usize,
    /// The archive's size.
    pub bytes: u64,
}

/// Writes a list and its files into a zip archive; the same list gives the same archive. Of what has changed `since` an earlier list,
/// only that, with the paths that are to be deleted in [`DELETE`].
///
/// # Errors
/// When another file is there already, or it would come to lie among what is kept; when a file cannot be read or is not the listed one
/// any more, or the archive cannot be written.
pub fn write(
    server: &Server,
    listed: &Listed,
    since: Option<&Since>,
    out: &Path,
) -> Result<Packed> {
    refuse_out(server, out)?;
    let files: Vec<&ClientFile> = match since {
        Some(since) => since.bring.iter().collect(),
        None => listed.list.files().collect(),
    };
    let as_listed = |file: &ClientFile, is: &str| match is == file.blake3 {
        true => Ok(()),
        false => Err(Error::from(ClientFault::Changed(file.path.clone()))),
    };
    for file in &files {
        match &file.from {
            From::Server(path) if listed.edited.contains(path) => {
                return Err(ClientFault::EditedByPlan(path.clone()).into());
            }
            From::Server(path) if listed.content(&file.from).is_none() => {
                as_listed(file, &server.folder.hash(path)?)?;
            }
            From::Nowhere => return Err(ClientFault::Nowhere(file.path.clone()).into()),
            _ => {}
        }
    }
    let bytes = archive::write(out, &mut |zip| {
        let at_out = |error: io::Error| Err(error).at("writing", out);
        let options = SimpleFileOptions::default().unix_permissions(0o644);
        for file in &files {
            if let Some(target) = link::target(&file.blake3) {
                let added = zip.add_symlink(file.path.as_str(), target, options);
                added.map_err(io::Error::other).or_else(at_out)?;
                continue;
            }
            let begun = zip.start_file(file.path.as_str(), options);
            begun.map_err(io::Error::other).or_else(at_out)?;
            let mut hashing = Hashing {
                to: zip,
                hasher: blake3::Hasher::new(),
            };
            listed.copy(server, file, &mut hashing)?;
            as_listed(file, &hashing.hasher.finalize().to_hex())?;
        }
        let mut text = |name: &str, text: &[u8]| {
            let begun = zip.start_file(name, options).map_err(io::Error::other);
            begun.and_then(|()| zip.write_all(text)).or_else(at_out)
        };
        if let Some(since) = since {
            let lines = since.delete.iter().map(|path| format!("{path}\n"));
            text(DELETE, lines.collect::<String>().as_bytes())?;
        }
        text(LIST, &to_json(&listed.list))
    })?;
    Ok(Packed {
        files: files.len(),
        bytes,
    })
}

/// Hashes what it passes on.
struct Hashing<'w> {
    to: &'w mut dyn Write,
    hasher: blake3::Hasher,
}

impl Write for Hashing<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.to.write(bytes)?;
        self.hasher.update(&bytes[..written]);
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.to.flush()
    }
}
