//! A folder on another machine, reached by file transfer.
//!
//! Each request waits for its answer once, however far away the other end is; so what can be asked at once is.

#[cfg(test)]
pub(crate) mod cut;
mod folders;
mod ftp;
mod line;
mod lock;
mod reading;
#[cfg(test)]
pub(crate) mod servers;
mod sftp;
#[cfg(test)]
mod tests;
mod wire;
mod writing;

use super::means::{Means, Password, shell_of, ssh};
use super::{Address, Held, LinkOnTheWay, Meta, NewFile, Place, Scheme, Sort, Source};
use lantern_core::path::RelPath;
use std::io;
use std::sync::{Arc, Mutex, PoisonError};

/// An address, and how it is reached.
type Way = (Address, Means);

/// A folder that is open, or is being opened.
type Opened = Arc<Mutex<Option<Arc<dyn Place>>>>;

/// The folders that are open.
static OPEN: Mutex<Vec<(Way, Opened)>> = Mutex::new(Vec::new());

/// Opens a folder on another machine. One that is open is not opened again; several are opened at once.
///
/// # Errors
/// When the other end is not reached, or there is no such folder.
pub fn open(address: &Address, means: &Means) -> io::Result<Arc<dyn Place>> {
    let way = (address.clone(), means.clone());
    let opened = {
        let mut open = OPEN.lock().unwrap_or_else(PoisonError::into_inner);
        match open.iter().find(|(known, _)| *known == way) {
            Some((_, opened)) => Arc::clone(opened),
            None => {
                let opened = Opened::default();
                open.push((way, Arc::clone(&opened)));
                opened
            }
        }
    };
    let mut opened = opened.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(place) = &*opened {
        return Ok(Arc::clone(place));
    }
    let place: Arc<dyn Place> = match address.scheme {
        Scheme::Sftp | Scheme::Ssh => Arc::new(sftp::Sftp::open(address, means)?),
        Scheme::Ftps | Scheme::Ftp => Arc::new(ftp::Ftp::open(address, means)?),
    };
    *opened = Some(Arc::clone(&place));
    Ok(place)
}

/// Closes what nobody uses any more: of many servers, not all are to be open at once.
pub fn close_unused() {
    let is_used = |opened: &Opened| match opened.try_lock() {
        Ok(place) => {
            let users = place.as_ref().map_or(0, Arc::strong_count);
            Arc::strong_count(opened) > 1 || users > 1
        }
        Err(_) => true,
    };
    let mut open = OPEN.lock().unwrap_or_else(PoisonError::into_inner);
    let unused: Vec<_> = open
        .extract_if(.., |(_, opened)| !is_used(opened))
        .collect();
    // To close takes a while, in which others may open theirs.
    drop(open);
    drop(unused);
}

/// Closes what is open to a host.
#[cfg(test)]
pub fn close(host: &str) {
    let mut open = OPEN.lock().unwrap_or_else(PoisonError::into_inner);
    open.retain(|((address, _), _)| address.host != host);
}

/// The command that runs a line for the shell of a machine, where there is one.
fn shell((address, means): &Way) -> Option<Vec<String>> {
    let usual = || shell_of(address);
    let is_usual = address.scheme == Scheme::Ssh && means.through.is_none();
    means.shell.clone().or_else(|| is_usual.then(usual))
}

/// The same error once more.
fn again(error: &io::Error) -> io::Error {
    io::Error::new(error.kind(), error.to_string())
}

/// That something cannot be done by file transfer.
fn unsupported<T>(what: &str) -> io::Result<T> {
    Err(io::Error::new(
        io::ErrorKind::Unsupported,
        format!("{what} cannot be done by file transfer"),
    ))
}

/// Takes another file's place where the other end has no word for that: the other one is out of the way for a moment.
fn replace_in_steps(place: &dyn Place, from: &RelPath, to: &RelPath) -> io::Result<()> {
    let old = RelPath::parse(&format!("{to}.old")).map_err(io::Error::other)?;
    if place.look(to)?.is_none() {
        return place.rename(from, to);
    }
    place.rename(to, &old)?;
    match place.rename(from, to) {
        Ok(()) => place.remove_file(&old),
        Err(error) => {
            place.rename(&old, to)?;
            Err(error)
        }
    }
}
