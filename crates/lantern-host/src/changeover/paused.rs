//! Settings that say something else while an operation is under way, such as that the server reloads what changes.
//!
//! What they said before is written down with the operation before they are set, and put back when it ends, however it ends.
//! A file that the operation itself exchanges is left alone.

use crate::config::Server;
use crate::error::Result;
use crate::folder::own;
use crate::survey::scripts;
use lantern_core::family::{Flag, FlagFrom};
use lantern_core::operation::Paused;
use lantern_core::path::RelPath;
use lantern_core::text::Text;
use std::collections::BTreeSet;

fn flags(server: &Server) -> impl Iterator<Item = &Flag> {
    let flags = server.family.flags.iter();
    flags.filter(|flag| matches!(flag.follows, FlagFrom::Changeover))
}

/// What such settings say now, where it is something else than while an operation is under way; none in files that it
/// exchanges.
///
/// # Errors
/// When the folder cannot be listed, or a file not be read.
pub fn to_pause(server: &Server, exchanged: &BTreeSet<&RelPath>) -> Result<Vec<Paused>> {
    if flags(server).next().is_none() {
        return Ok(Vec::new());
    }
    let mut paused = Vec::new();
    for (path, text) in scripts(server)? {
        let is_ours = text.is_plain() && !exchanged.contains(&path) && !server.keeps(path.as_str());
        for flag in flags(server).filter(|flag| is_ours && flag.file.matches(path.as_str())) {
            let spot = flag.spot(&server.family, &path);
            let was = spot.and_then(|spot| spot.says(text.as_str()));
            if let Some((was, _)) = was.filter(|(was, _)| *was != flag.yes) {
                paused.push(Paused {
                    path: path.clone(),
                    flag: flag.name.clone(),
                    was,
                });
            }
        }
    }
    Ok(paused)
}

/// Lets them say what they do while the operation is under way.
///
/// # Errors
/// When a file cannot be written, or its line not be set: nothing was stopped.
pub fn pause(server: &Server, paused: &[Paused]) -> Result<()> {
    for paused in paused {
        if let Some(flag) = flags(server).find(|flag| flag.name == paused.flag) {
            set(server, &paused.path, flag, &paused.was, &flag.yes)?;
        }
    }
    Ok(())
}

/// Lets them say again what they said before, where they still say the other thing.
///
/// # Errors
/// When a file cannot be written.
pub fn resume(server: &Server, paused: &[Paused]) -> Result<()> {
    for paused in paused {
        if let Some(flag) = flags(server).find(|flag| flag.name == paused.flag) {
            set(server, &paused.path, flag, &flag.yes, &paused.was)?;
        }
    }
    Ok(())
}

/// Sets a flag that says `from`; one that says something else is somebody's own affair.
fn set(server: &Server, path: &RelPath, flag: &Flag, from: &str, to: &str) -> Result<()> {
    let folder = &server.folder;
    let Some(meta) = folder.look(path)?.filter(|meta| meta.is_file()) else {
        return Ok(());
    };
    let text: Text = folder.read_text(path)?;
    let Some(spot) = flag.spot(&server.family, path) else {
        return Ok(());
    };
    if spot
        .says(text.as_str())
        .is_none_or(|(says, _)| says != from)
    {
        return Ok(());
    }
    let set = spot.set(text.as_str(), to).ok();
    let Some(new) = set.and_then(|new| text.with(new)) else {
        return Ok(());
    };
    let beside = own("paused");
    if folder.has(&beside)? {
        folder.remove_file(&beside)?;
    }
    folder.write_new(&beside, &new.bytes(), Some(meta.rights))?;
    folder.give_like(&beside, path, true)?;
    folder.replace(&beside, path)?;
    folder.sync(path.folder().as_ref())
}
