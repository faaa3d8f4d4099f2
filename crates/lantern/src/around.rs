//! The server folder that a command means without a word.

use lantern_host::config::FILE;
use std::path::{Path, PathBuf};

/// Where none is named on the command line: the environment's, or the one around here.
pub fn unnamed() -> PathBuf {
    let named = std::env::var_os("LANTERN_SERVER").filter(|named| !named.is_empty());
    named.map_or_else(here, PathBuf::from)
}

/// The folder in care that this one lies in, or is.
pub fn here() -> PathBuf {
    let mut folder = PathBuf::from(".");
    let depth = std::env::current_dir().map_or(0, |here| here.components().count());
    for _ in 0..depth {
        if folder.join(FILE).is_file() {
            return folder;
        }
        folder = match folder == Path::new(".") {
            true => "..".into(),
            false => folder.join(".."),
        };
    }
    ".".into()
}
