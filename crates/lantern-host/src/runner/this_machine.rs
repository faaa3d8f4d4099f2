//! The machine that lantern itself runs on.

#![allow(clippy::disallowed_methods, clippy::disallowed_types)] // The place where the machine is.

use super::exchange::{exchange, reaches};
use super::{Ended, Launch, Runner, Signal, Writers, Written};
use lantern_core::family::Transport;
use procfs::net::TcpState;
use procfs::process::{FDPermissions, FDTarget, MMapPath, Process, Stat, all_processes};
use procfs::{Current, ProcError, ProcResult};
use rustix::fs::{CWD, FileType, Mode, OFlags, mknodat};
use rustix::process::{Pid, WaitOptions, kill_process, kill_process_group, waitpid};
use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::net::{TcpListener, UdpSocket};
use std::os::unix::fs::{FileTypeExt, OpenOptionsExt};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// How often it is looked whether a program has ended.
const LOOK: Duration = Duration::from_millis(10);

/// How long the system may take to hand over how a process has ended.
const HANDED_OVER: Duration = Duration::from_millis(500);

/// The machine that lantern itself runs on.
#[derive(Debug, Clone, Copy, Default)]
pub struct ThisMachine;

fn is_alive(stat: &Stat) -> bool {
    !matches!(stat.state, 'Z' | 'X')
}

fn processes() -> impl Iterator<Item = Process> {
    all_processes().into_iter().flatten().flatten()
}

fn stat(pid: i32) -> Option<Stat> {
    Process::new(pid).and_then(|process| process.stat()).ok()
}

/// Whether a process is of a group, or one that it has started, whatever group that has made for itself.
fn descends(pid: i32, group: i32) -> bool {
    let parents = std::iter::successors(stat(pid), |child| stat(child.ppid));
    parents.take(64).any(|stat| stat.pgrp == group)
}

/// What of a process's open files leads where `below` says, and is open for writing; none when that cannot be seen.
fn written(process: &Process, below: &dyn Fn(&Path) -> bool) -> Option<Vec<Written>> {
    let open = match process.fd() {
        Ok(open) => open,
        Err(ProcError::PermissionDenied(_)) => return None,
        // It has just gone.
        Err(_) => return Some(Vec::new()),
    };
    let files = open.flatten().filter_map(|file| match file.target {
        FDTarget::Path(path) if file.mode & FDPermissions::WRITE.bits() != 0 && below(&path) => {
            Some(Written {
                pid: process.pid,
                path,
            })
        }
        _ => None,
    });
    Some(files.collect())
}

/// Whether a process is one that this program is about to start: until then it is this program, open files and all.
fn is_not_yet_another(process: &Process, own: i32) -> bool {
    let is_child = process.stat().is_ok_and(|stat| stat.ppid == own);
    let program = Process::myself().and_then(|myself| myself.exe());
    is_child && program.is_ok_and(|own| process.exe().is_ok_and(|program| program == own))
}

/// The ports that something listens on, or for UDP is bound to.
fn listening(transport: Transport) -> ProcResult<Vec<u16>> {
    let local = |address: std::net::SocketAddr| address.port();
    Ok(match transport {
        Transport::Tcp => {
            let all = procfs::net::tcp()?
                .into_iter()
                .chain(procfs::net::tcp6().unwrap_or_default());
            let listening = all.filter(|entry| entry.state == TcpState::Listen);
            listening.map(|entry| local(entry.local_address)).collect()
        }
        Transport::Udp => {
            let all = procfs::net::udp()?
                .into_iter()
                .chain(procfs::net::udp6().unwrap_or_default());
            all.map(|entry| local(entry.local_address)).collect()
        }
    })
}

/// Opens a named pipe that somebody reads.
fn open_pipe(path: &Path) -> io::Result<File> {
    let mut options = OpenOptions::new();
    options
        .write(true)
        .custom_flags(OFlags::NONBLOCK.bits() as i32);
    let pipe = options.open(path)?;
    match pipe.metadata()?.file_type().is_fifo() {
        true => Ok(pipe),
        false => Err(io::Error::other("it is no named pipe")),
    }
}

impl Runner for ThisMachine {
    fn boot(&self) -> String {
        procfs::sys::kernel::random::boot_id().unwrap_or_default()
    }

    fn started(&self, pid: i32) -> Option<u64> {
        stat(pid).filter(is_alive).map(|stat| stat.starttime)
    }

    fn how_ended(&self, pid: i32) -> Option<String> {
        let pid = Pid::from_raw(pid)?;
        // A process that is dying may be gone from the list before the system hands its status over.
        let until = Instant::now() + HANDED_OVER;
        let status = loop {
            match waitpid(Some(pid), WaitOptions::NOHANG).ok()? {
                Some((_, status)) => break status,
                None if Instant::now() > until => return None,
                None => std::thread::sleep(LOOK),
            }
        };
        let signal = || Some(format!("ended by signal {}", status.terminating_signal()?));
        let exit = status
            .exit_status()
            .map(|code| format!("exit status {code}"));
        exit.or_else(signal)
    }

    fn group_of(&self, pid: i32) -> Option<i32> {
        stat(pid).map(|stat| stat.pgrp)
    }

    fn is_group_alive(&self, group: i32) -> bool {
        let stats = processes().filter_map(|process| process.stat().ok());
        stats.filter(is_alive).any(|stat| stat.pgrp == group)
    }

    fn works_in(&self, group: i32, below: &dyn Fn(&Path) -> bool) -> Option<bool> {
        let in_group = |process: &Process| {
            let stat = process.stat();
            stat.is_ok_and(|stat| is_alive(&stat) && stat.pgrp == group)
        };
        let mut hidden = false;
        for process in processes().filter(in_group) {
            match (process.cwd(), process.fd()) {
                (Ok(folder), _) if below(&folder) => return Some(true),
                (_, Ok(open)) => {
                    let mut paths = open.flatten().filter_map(|file| match file.target {
                        FDTarget::Path(path) => Some(path),
                        _ => None,
                    });
                    if paths.any(|path| below(&path)) {
                        return Some(true);
                    }
                }
                (_, Err(ProcError::PermissionDenied(_))) => hidden = true,
                (_, Err(_)) => {}
            }
        }
        (!hidden).then_some(false)
    }

    fn writers(&self, below: &dyn Fn(&Path) -> bool) -> Writers {
        let own = std::process::id().cast_signed();
        let mut writers = Writers::default();
        for process in processes().filter(|process| process.pid != own) {
            match written(&process, below) {
                Some(files) if files.is_empty() || is_not_yet_another(&process, own) => {}
                // It may have become another in between, and have closed what it was born with.
                Some(_) => writers
                    .seen
                    .extend(written(&process, below).into_iter().flatten()),
                None => {
                    let user = process.uid().ok();
                    writers.unseen.extend(user.map(|user| (process.pid, user)));
                }
            }
        }
        writers
    }

    fn users(&self, files: &dyn Fn(&Path) -> bool, except: &[i32]) -> Vec<Written> {
        let own = std::process::id().cast_signed();
        let mut users = Vec::new();
        for process in processes().filter(|process| process.pid != own) {
            if except.iter().any(|group| descends(process.pid, *group)) {
                continue;
            }
            let program = process.exe().ok();
            let open = process.fd().into_iter().flatten().flatten();
            let open = open.filter_map(|file| match file.target {
                FDTarget::Path(path) => Some(path),
                _ => None,
            });
            let mapped = process.maps().map(|maps| maps.0).unwrap_or_default();
            let mapped = mapped.into_iter().filter_map(|map| match map.pathname {
                MMapPath::Path(path) => Some(path),
                _ => None,
            });
            let used = program
                .into_iter()
                .chain(open)
                .chain(mapped)
                .find(|path| files(path));
            users.extend(used.map(|path| Written {
                pid: process.pid,
                path,
            }));
        }
        users
    }

    fn listens(&self, transport: Transport, port: u16) -> io::Result<bool> {
        let ports = listening(transport).map_err(io::Error::other)?;
        Ok(ports.contains(&port))
    }

    fn exchange(&self, transport: Transport, host: &str, port: u16, bytes: &[u8]) -> Vec<u8> {
        exchange(transport, host, port, bytes)
    }

    fn reaches(&self, host: &str, port: u16) -> io::Result<bool> {
        reaches(host, port)
    }

    fn free_port(&self, transport: Transport) -> io::Result<u16> {
        Ok(match transport {
            Transport::Tcp => TcpListener::bind(("0.0.0.0", 0))?.local_addr()?.port(),
            Transport::Udp => UdpSocket::bind(("0.0.0.0", 0))?.local_addr()?.port(),
        })
    }

    fn memory_of(&self, group: i32) -> Option<u64> {
        let of_group = processes().filter(|it| it.stat().is_ok_and(|stat| stat.pgrp == group));
        let most = of_group.filter_map(|process| process.status().ok()?.vmhwm);
        let kilobytes: u64 = most.sum();
        (kilobytes > 0).then_some(kilobytes * 1024)
    }

    fn free_memory(&self) -> Option<u64> {
        procfs::Meminfo::current().ok()?.mem_available
    }

    fn signal(&self, pid: i32, whole_group: bool, signal: Signal) -> io::Result<()> {
        let Some(pid) = Pid::from_raw(pid) else {
            return Ok(());
        };
        let signal = match signal {
            Signal::Interrupt => rustix::process::Signal::INT,
            Signal::Terminate => rustix::process::Signal::TERM,
            Signal::Kill => rustix::process::Signal::KILL,
        };
        let sent = match whole_group {
            true => kill_process_group(pid, signal),
            false => kill_process(pid, signal),
        };
        match sent {
            Err(rustix::io::Errno::SRCH) => Ok(()),
            sent => Ok(sent?),
        }
    }

    fn launch(&self, launch: &Launch<'_>) -> io::Result<i32> {
        let Some((program, arguments)) = launch.command.split_first() else {
            return Err(io::Error::other("the command is empty"));
        };
        // Opened for both, the pipe has a writer as long as the server lives: it never ends.
        let input = OpenOptions::new()
            .read(true)
            .write(true)
            .open(launch.input)?;
        let output = OpenOptions::new()
            .append(true)
            .create(true)
            .open(launch.output)?;
        let errors = output.try_clone()?;
        let mut command = Command::new(program);
        if let Some(name) = launch.without {
            command.env_remove(name);
        }
        command.args(arguments).current_dir(launch.folder);
        let child = command
            .stdin(input)
            .stdout(output)
            .stderr(errors)
            .process_group(0)
            .spawn()?;
        Ok(child.id().cast_signed())
    }

    fn run(
        &self,
        command: &[String],
        folder: &Path,
        log: &Path,
        limit: Duration,
        without: Option<&str>,
    ) -> io::Result<Ended> {
        let Some((program, arguments)) = command.split_first() else {
            return Err(io::ErrorKind::InvalidInput.into());
        };
        let output = File::create(log)?;
        let errors = output.try_clone()?;
        let mut command = Command::new(program);
        if let Some(name) = without {
            command.env_remove(name);
        }
        command
            .args(arguments)
            .current_dir(folder)
            .stdin(Stdio::null());
        let mut child = command
            .stdout(output)
            .stderr(errors)
            .process_group(0)
            .spawn()?;
        let begun = Instant::now();
        loop {
            match child.try_wait()? {
                Some(status) if status.success() => return Ok(Ended::Well),
                Some(status) => return Ok(Ended::Badly(status.to_string())),
                None if begun.elapsed() > limit => {
                    self.signal(child.id().cast_signed(), true, Signal::Kill)?;
                    child.wait()?;
                    return Ok(Ended::TooSlow);
                }
                None => std::thread::sleep(LOOK),
            }
        }
    }

    fn write_line(&self, pipe: &Path, line: &str) -> io::Result<()> {
        open_pipe(pipe)?.write_all(format!("{line}\n").as_bytes())
    }

    fn has_reader(&self, pipe: &Path) -> io::Result<()> {
        open_pipe(pipe).map(|_| ())
    }

    fn make_pipe(&self, pipe: &Path) -> io::Result<()> {
        Ok(mknodat(
            CWD,
            pipe,
            FileType::Fifo,
            Mode::RUSR | Mode::WUSR,
            0,
        )?)
    }

    fn user(&self) -> u32 {
        rustix::process::geteuid().as_raw()
    }
}

/// Its system and its processor.
pub fn kind() -> String {
    let uname = rustix::system::uname();
    let both = [uname.sysname(), uname.machine()].map(|it| it.to_string_lossy().into_owned());
    both.join(" ")
}

/// What this machine is called.
pub fn name() -> String {
    rustix::system::uname()
        .nodename()
        .to_string_lossy()
        .into_owned()
}

#[cfg(test)]
mod tests {
    use std::net::SocketAddr;

    use rustix::net::{AddressFamily, SocketType, bind, getsockname, listen, socket};

    use super::*;

    #[test]
    fn a_port_is_seen_without_being_touched() {
        let machine = ThisMachine;
        // One number for both, taken before anybody listens: nobody else on this machine can have it meanwhile.
        let (tcp, _udp, port) = loop {
            let tcp = socket(AddressFamily::INET, SocketType::STREAM, None).unwrap();
            bind(&tcp, &SocketAddr::from(([127, 0, 0, 1], 0))).unwrap();
            let port = SocketAddr::try_from(getsockname(&tcp).unwrap())
                .unwrap()
                .port();
            if let Ok(udp) = UdpSocket::bind(("127.0.0.1", port)) {
                break (tcp, udp, port);
            }
        };
        assert!(machine.listens(Transport::Udp, port).unwrap());
        assert!(!machine.listens(Transport::Tcp, port).unwrap());
        listen(&tcp, 1).unwrap();
        assert!(machine.listens(Transport::Tcp, port).unwrap());
    }
}
