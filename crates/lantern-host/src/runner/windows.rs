//! A Windows machine: programs can be run there, but what processes do, and who listens, is not seen yet.
//!
//! Whatever asks for that is told that it cannot be told, so that nothing is concluded from silence.

#![allow(clippy::disallowed_methods, clippy::disallowed_types)] // The place where the machine is.

use super::exchange::{exchange, reaches};
use super::{Ended, Launch, Runner, Signal, Writers, Written};
use lantern_core::family::Transport;
use std::fs::File;
use std::io;
use std::net::{TcpListener, UdpSocket};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// How often it is looked whether a program has ended.
const LOOK: Duration = Duration::from_millis(10);

/// The machine that lantern itself runs on.
#[derive(Debug, Clone, Copy, Default)]
pub struct ThisMachine;

fn unseen<T>() -> io::Result<T> {
    let why = "on Windows, lantern cannot see, start or stop a server yet";
    Err(io::Error::new(io::ErrorKind::Unsupported, why))
}

impl Runner for ThisMachine {
    fn boot(&self) -> String {
        String::new()
    }

    fn started(&self, _: i32) -> Option<u64> {
        None
    }

    fn how_ended(&self, _: i32) -> Option<String> {
        None
    }

    fn group_of(&self, _: i32) -> Option<i32> {
        None
    }

    fn is_group_alive(&self, _: i32) -> bool {
        // Not known: it is not said to be dead.
        true
    }

    fn works_in(&self, _: i32, _: &dyn Fn(&Path) -> bool) -> Option<bool> {
        None
    }

    fn writers(&self, _: &dyn Fn(&Path) -> bool) -> Writers {
        // Some process that nobody can look into.
        Writers {
            seen: Vec::new(),
            unseen: vec![(0, self.user())],
        }
    }

    fn users(&self, _: &dyn Fn(&Path) -> bool, _: &[i32]) -> Vec<Written> {
        Vec::new()
    }

    fn listens(&self, _: Transport, _: u16) -> io::Result<bool> {
        unseen()
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

    fn memory_of(&self, _: i32) -> Option<u64> {
        None
    }

    fn free_memory(&self) -> Option<u64> {
        None
    }

    fn signal(&self, _: i32, _: bool, _: Signal) -> io::Result<()> {
        unseen()
    }

    fn launch(&self, _: &Launch<'_>) -> io::Result<i32> {
        unseen()
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
        command.args(arguments).current_dir(folder);
        let command = command.stdin(Stdio::null()).stdout(output).stderr(errors);
        let mut child = command.spawn()?;
        let begun = Instant::now();
        loop {
            match child.try_wait()? {
                Some(status) if status.success() => return Ok(Ended::Well),
                Some(status) => return Ok(Ended::Badly(status.to_string())),
                None if begun.elapsed() > limit => {
                    child.kill()?;
                    child.wait()?;
                    return Ok(Ended::TooSlow);
                }
                None => std::thread::sleep(LOOK),
            }
        }
    }

    fn write_line(&self, _: &Path, _: &str) -> io::Result<()> {
        unseen()
    }

    fn has_reader(&self, _: &Path) -> io::Result<()> {
        unseen()
    }

    fn make_pipe(&self, _: &Path) -> io::Result<()> {
        unseen()
    }

    fn user(&self) -> u32 {
        0
    }
}

/// Its system and its processor.
pub fn kind() -> String {
    format!("{} {}", std::env::consts::OS, std::env::consts::ARCH)
}

/// What this machine is called.
pub fn name() -> String {
    std::env::var("COMPUTERNAME").unwrap_or_else(|_| "a machine".into())
}
