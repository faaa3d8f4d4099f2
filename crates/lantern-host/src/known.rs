//! The servers that this user has taken into care on this machine, by name: a convenience, and no record.
//!
//! They stand in one file below `XDG_STATE_HOME`, or `~/.local/state`. That it cannot be read or written hinders nothing.

use crate::config::FILE;
use crate::place::here;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

fn file() -> Option<PathBuf> {
    let of = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty());
    let home = || of("HOME").map(|home| PathBuf::from(home).join(".local/state"));
    let state = of("XDG_STATE_HOME").map(PathBuf::from).or_else(home)?;
    Some(state.join("lantern/servers.json"))
}

/// Where the settings and records of servers on other machines lie; none where nothing says it.
pub fn data() -> Option<PathBuf> {
    let of = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty());
    let home = || of("HOME").map(|home| PathBuf::from(home).join(".local/share"));
    let data = of("XDG_DATA_HOME").map(PathBuf::from).or_else(home)?;
    Some(data.join("lantern/servers"))
}

/// The folders that are still there, by the server's name.
pub fn servers() -> BTreeMap<String, PathBuf> {
    let mut known = written();
    known.retain(|_, path| here::look(&path.join(FILE)).is_some());
    known
}

/// The folder that is meant by its path, as seen from `base`, or by the name of a server in care. A folder that is called as a
/// server is and is in nobody's care is not meant.
pub fn folder_of(named: &str, base: &Path) -> PathBuf {
    let path = base.join(named);
    let is_path = named.contains('/') || here::look(&path.join(FILE)).is_some();
    let by_name = || servers().remove(named);
    let found = if is_path { None } else { by_name() };
    found.unwrap_or(path)
}

fn written() -> BTreeMap<String, PathBuf> {
    let text = file().and_then(|file| here::read_text(&file).ok());
    let read = text.and_then(|text| serde_json::from_str(&text).ok());
    read.unwrap_or_default()
}

/// Remembers where a server is; a later one of the same name takes its place.
pub fn remember(name: &str, folder: &Path) {
    let mut known = written();
    known.insert(name.to_owned(), folder.to_owned());
    let text = serde_json::to_vec_pretty(&known).expect("names and paths are plain values");
    if let Some(file) = file() {
        let parent = file.parent().unwrap_or(Path::new("."));
        let _ = here::make_folders(parent).and_then(|()| here::write(&file, &text));
    }
}
