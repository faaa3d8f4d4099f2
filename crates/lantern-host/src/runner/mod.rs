//! The machine that a server runs on: its processes, ports and programs.
//!
//! Everything that lantern asks of processes, and starts or ends, goes through a [`Runner`].

mod exchange;
mod line;
#[cfg_attr(windows, path = "windows.rs")]
mod this_machine;

pub use line::spoken_with;
pub use this_machine::ThisMachine;

use lantern_core::family::Transport;
use std::fmt;
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// A signal that a process is sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Signal {
    /// As Ctrl-C sends it.
    Interrupt,
    /// What asks a program to end.
    Terminate,
    /// What nothing survives.
    Kill,
}

/// A file that a process has open for writing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Written {
    /// The process.
    pub pid: i32,
    /// The file.
    pub path: PathBuf,
}

/// What can be seen of who writes.
#[derive(Debug, Default)]
pub struct Writers {
    /// Files that processes other than this one have open for writing.
    pub seen: Vec<Written>,
    /// Processes that cannot be looked into, with the number of the user they belong to.
    pub unseen: Vec<(i32, u32)>,
}

/// A program that is to be started and goes on when lantern ends.
#[derive(Debug)]
pub struct Launch<'a> {
    /// The program and its arguments.
    pub command: &'a [String],
    /// The folder that it runs in.
    pub folder: &'a Path,
    /// The named pipe that it reads.
    pub input: &'a Path,
    /// The file that what it prints is put behind.
    pub output: &'a Path,
    /// A variable of the environment that it does not get.
    pub without: Option<&'a str>,
}

/// How a program that lantern waited for has ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Ended {
    /// By itself, with 0.
    Well,
    /// By itself, but not with 0; how, in words.
    Badly(String),
    /// It took too long, and was ended with all that it had started.
    TooSlow,
}

/// The file of this very program.
///
/// # Errors
/// When the system does not tell.
pub fn program() -> io::Result<PathBuf> {
    std::env::current_exe()
}

/// What kind of machine this is: its system and its processor, as `uname -s -m` has it.
pub fn kind() -> String {
    this_machine::kind()
}

/// Who runs this lantern, for others to know: `by USER on MACHINE`.
pub fn somebody() -> String {
    let of = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
    let user = of("USER").or_else(|| of("USERNAME"));
    let user = user.unwrap_or_else(|| "somebody".into());
    format!("by {user} on {}", this_machine::name())
}

/// The machine that a server runs on.
pub trait Runner: fmt::Debug + Send + Sync {
    /// The mark of this start of the machine; empty where the system has none.
    fn boot(&self) -> String;

    /// When a process was started, in the system's ticks since the machine's start; none when it is not there,
    /// or dead and not yet collected.
    fn started(&self, pid: i32) -> Option<u64>;

    /// How a process that lantern launched has ended, in words; none where that is not known, as of others' processes.
    fn how_ended(&self, pid: i32) -> Option<String>;

    /// The process group of a process.
    fn group_of(&self, pid: i32) -> Option<i32>;

    /// Whether any process of a group is alive.
    fn is_group_alive(&self, group: i32) -> bool;

    /// Whether a process of a group has its working folder, or an open file, where `below` says; none when that cannot be
    /// seen.
    fn works_in(&self, group: i32, below: &dyn Fn(&Path) -> bool) -> Option<bool>;

    /// Who writes files below these folders.
    fn writers(&self, below: &dyn Fn(&Path) -> bool) -> Writers;

    /// Processes that run one of these files, or have it open or in their memory; those of some groups, and lantern itself, left
    /// out. What cannot be looked into is not among them.
    fn users(&self, files: &dyn Fn(&Path) -> bool, except: &[i32]) -> Vec<Written>;

    /// Whether something listens on a port of this machine.
    ///
    /// # Errors
    /// When the system does not tell.
    fn listens(&self, transport: Transport, port: u16) -> io::Result<bool>;

    /// What comes back from a port of a host for these bytes, in three seconds; empty where nothing answers.
    fn exchange(&self, transport: Transport, host: &str, port: u16, bytes: &[u8]) -> Vec<u8>;

    /// Whether something takes a connection at a port of a host; false where that is refused.
    ///
    /// # Errors
    /// When the host is not found, or nothing comes back.
    fn reaches(&self, host: &str, port: u16) -> io::Result<bool>;

    /// A port that nothing listens on.
    ///
    /// # Errors
    /// When there is none.
    fn free_port(&self, transport: Transport) -> io::Result<u16>;

    /// The most memory that the processes of a group have had, in bytes; none when that cannot be seen.
    fn memory_of(&self, group: i32) -> Option<u64>;

    /// The memory that can be had without taking it from anybody, in bytes; none when that cannot be seen.
    fn free_memory(&self) -> Option<u64>;

    /// Sends a signal to a process, or to its whole group; that it is gone is no error.
    ///
    /// # Errors
    /// When the system refuses.
    fn signal(&self, pid: i32, whole_group: bool, signal: Signal) -> io::Result<()>;

    /// Starts a program as the leader of a group of its own, and does not wait for it; its process number.
    ///
    /// # Errors
    /// When it cannot be run.
    fn launch(&self, launch: &Launch<'_>) -> io::Result<i32>;

    /// Runs a program in a folder and waits until it has ended; what it prints goes to a file. One variable of the environment
    /// it may not get.
    ///
    /// # Errors
    /// When it cannot be run.
    fn run(
        &self,
        command: &[String],
        folder: &Path,
        log: &Path,
        limit: Duration,
        without: Option<&str>,
    ) -> io::Result<Ended>;

    /// Writes a line into a named pipe that somebody reads.
    ///
    /// # Errors
    /// When it is no pipe, or nobody reads it.
    fn write_line(&self, pipe: &Path, line: &str) -> io::Result<()>;

    /// Whether somebody reads a named pipe.
    ///
    /// # Errors
    /// When it is no pipe, or nobody does.
    fn has_reader(&self, pipe: &Path) -> io::Result<()>;

    /// Makes a named pipe for its owner alone, where nothing is yet.
    ///
    /// # Errors
    /// When the disk refuses.
    fn make_pipe(&self, pipe: &Path) -> io::Result<()>;

    /// The number of the user that lantern runs as.
    fn user(&self) -> u32;
}
