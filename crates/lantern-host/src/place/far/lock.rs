//! A lock where the protocol has none: a file that is made where none is, also where whoever made it is gone.

use super::{Held, Place, Way, open};
use lantern_core::path::RelPath;
use std::io::{self, Read};

/// So much of a lock file is read, in bytes.
const LONGEST_WORDS: u64 = 4096;

/// A lock file that is ours.
#[derive(Debug)]
struct Lock {
    way: Way,
    path: RelPath,
}

impl Held for Lock {}

impl Drop for Lock {
    fn drop(&mut self) {
        // Over whichever line is open by now; where none can be, it stays, and is known by its mark.
        let (address, means) = &self.way;
        if let Ok(place) = open(address, means)
            && place.remove_file(&self.path).is_err()
        {
            let _ = place.remove_file(&self.path);
        }
    }
}

/// As [`Place::lock`].
///
/// # Errors
/// As that.
pub fn take(
    place: &dyn Place,
    way: Way,
    path: &RelPath,
    words: &str,
) -> io::Result<Result<Box<dyn Held>, String>> {
    if let Some(who) = held_by(place, path)? {
        return Ok(Err(who));
    }
    let made = place.create(path).and_then(|mut file| {
        let written = file.write_all(words.as_bytes()).and_then(|()| file.sync());
        drop(file);
        // One without words would be nobody's.
        written.inspect_err(|_| drop(place.remove_file(path)))
    });
    // Not every server heeds that a file is to be made only where none is.
    let there = held_by(place, path).inspect_err(|_| {
        if made.is_ok() {
            let _ = place.remove_file(path);
        }
    });
    match there? {
        Some(there) if there == words => {
            made?;
            let path = path.clone();
            Ok(Ok(Box::new(Lock { way, path })))
        }
        Some(who) => Ok(Err(who)),
        None => Err(made.err().unwrap_or_else(|| io::ErrorKind::NotFound.into())),
    }
}

/// As [`Place::locked_by`].
///
/// # Errors
/// As that.
pub fn held_by(place: &dyn Place, path: &RelPath) -> io::Result<Option<String>> {
    let mut words = String::new();
    match place.open(path) {
        Ok(file) => file.take(LONGEST_WORDS).read_to_string(&mut words)?,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(error),
    };
    Ok(Some(words))
}
