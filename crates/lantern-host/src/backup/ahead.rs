//! What a backup of a server on another machine will fetch, and how long that takes.

use super::{Alike, Scope, files_of, last_seen, open};
use crate::config::Server;
use crate::error::Result;
use crate::folder::own;
use lantern_core::path::RelPath;
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// A transfer of fewer bytes says nothing of how fast a line is, and how long it takes is nothing to be told.
pub const TELLING: u64 = 1 << 20;

/// What will be fetched.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ahead {
    /// How many files.
    pub files: usize,
    /// How large they are together, in bytes.
    pub bytes: u64,
    /// How long that takes, where the line is as fast as it was the last time; none where that is not known.
    pub takes: Option<Duration>,
}

/// How fast a line was, as it is remembered.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Pace {
    bytes_per_s: u64,
}

fn remembered() -> RelPath {
    own("pace.json")
}

/// Remembers how fast something large was fetched from another machine.
pub fn remember(server: &Server, bytes: u64, took: Duration) {
    if !server.folder.is_far() || bytes < TELLING {
        return;
    }
    let bytes_per_s = (bytes as f64 / took.as_secs_f64().max(0.001)) as u64;
    let pace = serde_json::to_vec(&Pace { bytes_per_s });
    // It is but a help to the next one.
    let _ = pace.map(|text| server.folder.write_whole(&remembered(), &text));
}

/// What the next backup will fetch; none of a server on this machine.
///
/// # Errors
/// When the other end cannot be listed.
pub fn ahead(server: &Server, scope: Scope) -> Result<Option<Ahead>> {
    if !server.folder.is_far() {
        return Ok(None);
    }
    let store = open(server)?;
    let last = last_seen(server, &store, scope)?;
    let alike = Alike::to(server, last.values());
    let is_known = |path: &RelPath, stamp| {
        let last = last.get(path).filter(|stored| alike.is(stored, stamp));
        last.is_some_and(|stored| store.has(&stored.tree()))
    };
    let mut ahead = Ahead {
        files: 0,
        bytes: 0,
        takes: None,
    };
    for (path, stamp) in files_of(server, scope, &[])? {
        if !is_known(&path, stamp) {
            ahead.files += 1;
            ahead.bytes += stamp.bytes;
        }
    }
    let pace = server.folder.read(&remembered()).ok();
    let pace = pace.and_then(|text| serde_json::from_slice::<Pace>(&text).ok());
    let pace = pace.filter(|pace| pace.bytes_per_s > 0);
    ahead.takes = pace.map(|pace| Duration::from_secs(ahead.bytes.div_ceil(pace.bytes_per_s)));
    Ok(Some(ahead))
}
