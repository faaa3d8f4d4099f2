//! Whether the server's process is there: from its record, and from who holds its files open.

use crate::config::{PROCESS, Server};
use crate::error::{At, Result};
use crate::folder::{Folder, OWN};
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
    /// One that was just started.
    pub fn of(runner: &dyn Runner, pid: i32) -> Process {
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
    pub fn opens_file_of(&self, server: &Server) -> Option<String> {
        let open = open_files(server).0.into_iter();
        let mut own = open.filter(|(pid, _)| server.runner.group_of(*pid) == Some(self.pid));
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

fn record(server: &Server) -> RelPath {
    server.console_file(PROCESS)
}

pub(super) fn remember(server: &Server, pid: i32) -> Result<Process> {
    let process = Process::of(&*server.runner, pid);
    let text = serde_json::to_vec(&process).expect("a process has only plain values");
    server.folder.write_whole(&record(server), &text)?;
    Ok(process)
}

pub(super) fn forget(server: &Server) -> Result<()> {
    let folder = &server.folder;
    match folder.has(&record(server))? {
        true => folder.remove_file(&record(server)),
        false => Ok(()),
    }
}

/// The process that is written down, where it is still there.
fn recorded(server: &Server, at: &RelPath) -> Option<Process> {
    let text = server.folder.read(at).ok()?;
    let process: Process = serde_json::from_slice(&text).ok()?;
    process.is_alive(&*server.runner).then_some(process)
}

pub(super) fn look(server: &Server) -> Seen {
    let runner = &*server.runner;
    if let Some(process) = recorded(server, &record(server)) {
        // The record may have come along with a copy of the folder: the process itself has to show that it is here.
        let here = |path: &Path| server.folder.below(path).is_some();
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
    let (open, unseen) = open_files(server);
    let Some((pid, file)) = open.into_iter().min_by_key(is_the_servers) else {
        return Seen::None { unseen };
    };
    // Lantern may have been killed before it could write the record; the pipe is lantern's alone.
    let own_pipe = file.starts_with(server.console_room().as_str());
    match runner.group_of(pid) {
        Some(leader) if own_pipe => Seen::Own(Process::of(runner, leader)),
        _ => Seen::Other { pid, file },
    }
}

/// A process outside a server's own group that has a file of the server open for writing.
pub(super) fn second(server: &Server, group: i32) -> Option<(i32, String)> {
    let open = open_files(server).0.into_iter();
    let mut others = open.filter(|(pid, _)| server.runner.group_of(*pid) != Some(group));
    others.find(is_the_servers)
}

/// Whether some process has a file of the server, lantern's own left out, open for writing.
pub(super) fn writes(server: &Server) -> Option<(i32, String)> {
    open_files(server).0.into_iter().find(is_the_servers)
}

fn is_the_servers((_, file): &(i32, String)) -> bool {
    !file.starts_with(".lantern/")
}

/// The files of the server that other processes have open for writing, lantern's own but the console left out; and who
/// cannot be looked into though the server could be theirs. Of several servers of one install, what another one of them
/// does is its own affair.
fn open_files(server: &Server) -> (Vec<(i32, String)>, Option<String>) {
    let folder = &server.folder;
    let own_files = folder.root().join(OWN);
    let room = server.console_room();
    let ground = server.ground();
    let counts = |path: &Path| {
        let Some(below) = folder.below(path) else {
            return false;
        };
        // Of a folder that stood here before, the system marks the files as deleted.
        let is_there = here::look(path).is_some();
        let is_elsewhere = below.to_str().is_some_and(|text| ground.is_elsewhere(text));
        let is_own = !path.starts_with(&own_files) || below.starts_with(room.as_str());
        is_there && is_own && !is_elsewhere
    };
    let Writers { seen, unseen } = server.runner.writers(&counts);
    let others = server.others_processes().into_iter();
    let others = others.filter_map(|at| Some(recorded(server, &at)?.pid));
    let others: Vec<i32> = others.collect();
    let is_others = |pid: i32| {
        let group = server.runner.group_of(pid);
        group.is_some_and(|group| others.contains(&group))
    };
    let named = seen.into_iter().filter_map(|written| {
        let below = folder.below(&written.path)?;
        Some((written.pid, below.display().to_string()))
    });
    let named = named.filter(|(pid, _)| !is_others(*pid));
    let unseen = hidden(&*server.runner, folder, &unseen);
    (named.collect(), unseen)
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
