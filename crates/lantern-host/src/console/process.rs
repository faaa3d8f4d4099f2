//! Whether the server's process is there: from its record, and from who holds its files open.

use crate::durable;
use crate::error::{At, Result};
use crate::folder::Folder;
use rustix::process::{Pid, Signal, kill_process, kill_process_group};
use serde::{Deserialize, Serialize};
use std::fs;
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
    /// No process.
    None,
}

impl Process {
    fn of(pid: i32) -> Process {
        Process {
            pid,
            started: ticks(pid).unwrap_or(0),
            boot: boot(),
        }
    }

    /// Whether it, or a process of its group, is still there.
    pub fn is_alive(&self) -> bool {
        if self.boot != boot() {
            return false;
        }
        match ticks(self.pid) {
            Some(started) => started == self.started,
            // A start script that does not hand over leaves the server in its group; and as long as
            // there is one, nobody else gets its number.
            None => members(self.pid).next().is_some(),
        }
    }

    /// A file of another server's folder that it, or a process of its group, has open for writing.
    pub fn opens_file_of(&self, folder: &Folder) -> Option<String> {
        let mut open = writers(folder, |pid| group_of(pid) == Some(self.pid));
        open.find(is_the_servers).map(|(_, file)| file)
    }

    /// Sends a signal to the whole group.
    ///
    /// # Errors
    /// When the system refuses; that the group is gone is no error.
    pub fn signal(&self, signal: Signal) -> Result<()> {
        let Some(group) = Pid::from_raw(self.pid) else {
            return Ok(());
        };
        match kill_process_group(group, signal) {
            Err(rustix::io::Errno::SRCH) => Ok(()),
            other => other.at("signalling", Path::new("the server process")),
        }
    }
}

/// The fields of `/proc/PID/stat` after the name, the state first (see proc(5)).
fn stat(pid: i32) -> Option<Vec<String>> {
    let text = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    let (_, rest) = text.rsplit_once(')')?;
    Some(rest.split_whitespace().map(str::to_owned).collect())
}

/// When a process was started; none when it is not there, or dead and not yet collected.
fn ticks(pid: i32) -> Option<u64> {
    let stat = stat(pid)?;
    if matches!(stat.first()?.as_str(), "Z" | "X") {
        return None;
    }
    stat.get(19)?.parse().ok()
}

/// The mark of this start of the machine; empty where the system has none.
fn boot() -> String {
    let mark = fs::read_to_string("/proc/sys/kernel/random/boot_id");
    mark.unwrap_or_default().trim().to_owned()
}

fn processes() -> impl Iterator<Item = i32> {
    let entries = fs::read_dir("/proc").into_iter().flatten().flatten();
    entries.filter_map(|entry| entry.file_name().to_str()?.parse().ok())
}

/// The living processes of a group.
fn members(group: i32) -> impl Iterator<Item = i32> {
    processes().filter(move |pid| {
        stat(*pid).is_some_and(|stat| {
            let alive = !matches!(stat.first().map(String::as_str), Some("Z" | "X"));
            alive && stat.get(2).and_then(|g| g.parse().ok()) == Some(group)
        })
    })
}

fn record(folder: &Folder) -> std::path::PathBuf {
    folder.own("console/process.json")
}

pub(super) fn remember(folder: &Folder, pid: u32) -> Result<Process> {
    let pid = pid.cast_signed();
    let process = Process::of(pid);
    let text = serde_json::to_vec(&process).expect("a process has only plain values");
    durable::write(&record(folder), &text)?;
    Ok(process)
}

pub(super) fn forget(folder: &Folder) -> Result<()> {
    let path = record(folder);
    match fs::remove_file(&path) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
            Err(error).at("removing", &path)
        }
        _ => Ok(()),
    }
}

pub(super) fn look(folder: &Folder) -> Seen {
    let recorded = fs::read(record(folder)).ok();
    let recorded: Option<Process> = recorded.and_then(|text| serde_json::from_slice(&text).ok());
    if let Some(process) = recorded
        && process.is_alive()
    {
        return Seen::Own(process);
    }
    let found = writers(folder, |_| true).min_by_key(is_the_servers);
    let Some((pid, file)) = found else {
        return Seen::None;
    };
    // Lantern may have been killed before it could write the record; the pipe is lantern's alone.
    let own_pipe = file.starts_with(".lantern/console");
    match group_of(pid) {
        Some(leader) if own_pipe => Seen::Own(Process::of(leader)),
        _ => Seen::Other { pid, file },
    }
}

/// A process outside a server's own group that has a file of the server open for writing.
pub(super) fn second(folder: &Folder, process: &Process) -> Option<(i32, String)> {
    writers(folder, |pid| group_of(pid) != Some(process.pid)).find(is_the_servers)
}

/// Whether some process has a file of the server, lantern's own left out, open for writing.
pub(super) fn writes(folder: &Folder) -> Option<(i32, String)> {
    writers(folder, |_| true).find(is_the_servers)
}

fn is_the_servers((_, file): &(i32, String)) -> bool {
    !file.starts_with(".lantern/")
}

fn group_of(pid: i32) -> Option<i32> {
    stat(pid)?.get(2)?.parse().ok()
}

/// Asks one process to stop.
pub(super) fn ask_to_stop(pid: i32, signal: Signal) -> Result<()> {
    let Some(pid) = Pid::from_raw(pid) else {
        return Ok(());
    };
    match kill_process(pid, signal) {
        Err(rustix::io::Errno::SRCH) => Ok(()),
        other => other.at("signalling", Path::new("the server process")),
    }
}

/// The processes other than this one that have a file of the folder open for writing.
fn writers(folder: &Folder, counts: impl Fn(i32) -> bool) -> impl Iterator<Item = (i32, String)> {
    let own = std::process::id().cast_signed();
    let others = processes().filter(move |pid| *pid != own && counts(*pid));
    others.flat_map(move |pid| {
        let files = open_for_writing(pid, folder);
        files.into_iter().map(move |file| (pid, file))
    })
}

/// The files below the folder that a process has open for writing, lantern's own but the console left out.
fn open_for_writing(pid: i32, folder: &Folder) -> Vec<String> {
    let own_files = folder.own("");
    let Ok(files) = fs::read_dir(format!("/proc/{pid}/fd")) else {
        return Vec::new();
    };
    let named = |entry: fs::DirEntry| -> Option<String> {
        let target = fs::read_link(entry.path()).ok()?;
        let below = folder.below(&target)?;
        // Of a folder that stood here before, the system marks the files as deleted.
        if !target.exists()
            || target.starts_with(&own_files) && !below.starts_with(".lantern/console")
        {
            return None;
        }
        let number = entry.file_name();
        let info = fs::read_to_string(format!("/proc/{pid}/fdinfo/{}", number.to_str()?)).ok()?;
        let flags = info.lines().find_map(|line| line.strip_prefix("flags:"))?;
        let flags = u32::from_str_radix(flags.trim(), 8).ok()?;
        // The lowest two bits say how it was opened: 0 is for reading alone.
        (flags & 3 != 0).then(|| below.display().to_string())
    };
    files.flatten().filter_map(named).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_is_told_from_others_of_its_number() {
        let own = Process::of(std::process::id().cast_signed());
        assert!(own.is_alive());
        let later = Process {
            started: own.started + 1,
            ..own.clone()
        };
        assert!(!later.is_alive());
        let before_a_restart = Process {
            boot: "another".into(),
            ..own
        };
        assert!(!before_a_restart.is_alive());
    }
}
