//! Whether the server's process is there: from its record, and from who holds its files open.

use crate::error::{At, Result};
use crate::folder::{Folder, OWN, own};
use crate::place::here;
use crate::runner::{Runner, Signal, Writers};
use lantern_core::path::RelPath;
use serde::{Deserialize, Serialize};
use std::path::Path;

/// A process that lantern started.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Process {
    /// Its number; also that of its process group.
    pub pid: i32,
    /// When it was started, in the system's ticks: tells it from a later one of the same number.
    started: u64,
    /// Since which start of the machine those are counted.
    boot: String,
}

/// What the system's processes tell of a server.
pub(super) enum Seen {
    /// The process that lantern started.
    Own(Process),
    /// Another process has a file of the folder open for writing.
    Other { pid: i32, file: String },
    /// No process; but some may be there that nobody can look into, as the words say.
    None { unseen: Option<String> },
}

impl Process {
    fn of(runner: &dyn Runner, pid: i32) -> Process {
        Process {
            pid,
            started: runner.started(pid).unwrap_or(0),
            boot: runner.boot(),
        }
    }

    /// Whether it, or a process of its group, is still there.
    pub fn is_alive(&self, runner: &dyn Runner) -> bool {
        if self.boot != runner.boot() {
            return false;
        }
        match runner.started(self.pid) {
            Some(started) => started == self.started,
            // A start script that does not hand over leaves the server in its group; and as long as
            // there is one, nobody else gets its number.
            None => runner.is_group_alive(self.pid),
        }
    }

    /// A file of another server's folder that it, or a process of its group, has open for writing.
    pub fn opens_file_of(&self, runner: &dyn Runner, folder: &Folder) -> Option<String> {
        let open = open_files(runner, folder).0.into_iter();
        let mut own = open.filter(|(pid, _)| runner.group_of(*pid) == Some(self.pid));
        own.find(is_the_servers).map(|(_, file)| file)
    }

    /// Sends a signal to the whole group.
    ///
    /// # Errors
    /// When the system refuses; that the group is gone is no error.
    pub fn signal(&self, runner: &dyn Runner, signal: Signal) -> Result<()> {
        let sent = runner.signal(self.pid, true, signal);
        sent.at("signalling", Path::new("the server process"))
    }
}

fn record() -> RelPath {
    own("console/process.json")
}

pub(super) fn remember(runner: &dyn Runner, folder: &Folder, pid: i32) -> Result<Process> {
    let process = Process::of(runner, pid);
    let text = serde_json::to_vec(&process).expect("a process has only plain values");
    folder.write_whole(&record(), &text)?;
    Ok(process)
}

pub(super) fn forget(folder: &Folder) -> Result<()> {
    match folder.has(&record())? {
        true => folder.remove_file(&record()),
        false => Ok(()),
    }
}

pub(super) fn look(runner: &dyn Runner, folder: &Folder) -> Seen {
    let recorded = folder.read(&record()).ok();
    let recorded: Option<Process> = recorded.and_then(|text| serde_json::from_slice(&text).ok());
    if let Some(process) = recorded
        && process.is_alive(runner)
    {
        // The record may have come along with a copy of the folder: the process itself has to show that it is here.
        let here = |path: &Path| folder.below(path).is_some();
        match runner.works_in(process.pid, &here) {
            Some(true) => return Seen::Own(process),
            Some(false) => {}
            None => {
                let unseen = format!("process {} cannot be looked into", process.pid);
                return Seen::None {
                    unseen: Some(unseen),
                };
            }
        }
    }
    let (open, unseen) = open_files(runner, folder);
    let Some((pid, file)) = open.into_iter().min_by_key(is_the_servers) else {
        return Seen::None { unseen };
    };
    // Lantern may have been killed before it could write the record; the pipe is lantern's alone.
    let own_pipe = file.starts_with(".lantern/console");
    match runner.group_of(pid) {
        Some(leader) if own_pipe => Seen::Own(Process::of(runner, leader)),
        _ => Seen::Other { pid, file },
    }
}

/// A process outside a server's own group that has a file of the server open for writing.
pub(super) fn second(runner: &dyn Runner, folder: &Folder, group: i32) -> Option<(i32, String)> {
    let open = open_files(runner, folder).0.into_iter();
    let mut others = open.filter(|(pid, _)| runner.group_of(*pid) != Some(group));
    others.find(is_the_servers)
}

/// Whether some process has a file of the server, lantern's own left out, open for writing.
pub(super) fn writes(runner: &dyn Runner, folder: &Folder) -> Option<(i32, String)> {
    open_files(runner, folder)
        .0
        .into_iter()
        .find(is_the_servers)
}

fn is_the_servers((_, file): &(i32, String)) -> bool {
    !file.starts_with(".lantern/")
}

/// The files below the folder that other processes have open for writing, lantern's own but the console left
/// out; and who cannot be looked into though the server could be theirs.
fn open_files(runner: &dyn Runner, folder: &Folder) -> (Vec<(i32, String)>, Option<String>) {
    let own_files = folder.root().join(OWN);
    let counts = |path: &Path| {
        let Some(below) = folder.below(path) else {
            return false;
        };
        // Of a folder that stood here before, the system marks the files as deleted.
        let is_there = here::look(path).is_some();
        is_there && (!path.starts_with(&own_files) || below.starts_with(".lantern/console"))
    };
    let Writers { seen, unseen } = runner.writers(&counts);
    let named = seen.into_iter().filter_map(|written| {
        let below = folder.below(&written.path)?;
        Some((written.pid, below.display().to_string()))
    });
    (named.collect(), hidden(runner, folder, &unseen))
}

/// Processes of the user that the server folder belongs to, where that is another one than lantern's.
fn hidden(runner: &dyn Runner, folder: &Folder, unseen: &[(i32, u32)]) -> Option<String> {
    let owner = here::look(folder.root())?.owner;
    if owner == runner.user() {
        return None;
    }
    let theirs = unseen.iter().filter(|(_, user)| *user == owner).count();
    let many = match theirs {
        0 => return None,
        1 => "1 process".to_owned(),
        more => format!("{more} processes"),
    };
    Some(format!(
        "{many} of the user whom the folder belongs to cannot be looked into"
    ))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::runner::ThisMachine;

    #[test]
    fn a_process_is_told_from_others_of_its_number() {
        let own = Process::of(&ThisMachine, std::process::id().cast_signed());
        assert!(own.is_alive(&ThisMachine));
        let later = Process {
            started: own.started + 1,
            ..own.clone()
        };
        assert!(!later.is_alive(&ThisMachine));
        let before_a_restart = Process {
            boot: "another".into(),
            ..own
        };
        assert!(!before_a_restart.is_alive(&ThisMachine));
    }
}
