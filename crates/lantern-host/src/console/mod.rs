//! The server's process, its input and output.
//!
//! Lantern starts the server with a named pipe as its input and a file as its output, both in
//! `.lantern/console/`. The server holds the pipe open itself, so it outlives lantern, and every
//! later lantern can write to it and read what it prints.

mod process;

pub use process::{Process, State};

use crate::config::Server;
use crate::disk;
use crate::error::{At, Error, Result};
use lantern_core::component::Id;
use lantern_core::family::{Stop, StopSignal, Transport};
use rustix::fs::{CWD, FileType, Mode, mknodat};
use rustix::process::{Pid, Signal};
use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io::{Read, Seek, SeekFrom, Write};
use std::net::{TcpListener, UdpSocket};
use std::path::PathBuf;
use std::process::Command;
use std::thread::sleep;
use std::time::{Duration, Instant};

/// How often output and process are looked at while waiting.
const LOOK: Duration = Duration::from_millis(15);
/// How long an answer to a console command may take.
const ANSWER: Duration = Duration::from_secs(10);

/// The console of one server.
#[derive(Debug)]
pub struct Console<'a> {
    server: &'a Server,
}

/// What a start printed up to the ready line and shortly after.
#[derive(Debug, Default)]
pub struct Started {
    /// The process.
    pub pid: i32,
    /// All lines printed.
    pub lines: Vec<String>,
}

/// Add-ons that the server says it runs: id and, where told, version.
pub type Loaded = BTreeMap<Id, Option<String>>;

impl<'a> Console<'a> {
    /// The console of a server.
    pub fn of(server: &'a Server) -> Console<'a> {
        Console { server }
    }

    fn input(&self) -> PathBuf {
        self.server.folder.own("console/input")
    }

    fn output(&self) -> PathBuf {
        self.server.folder.own("console/output.log")
    }

    /// Finds out whether the server is up, from its process, open files and port.
    ///
    /// # Errors
    /// When the record of the process cannot be read.
    pub fn state(&self) -> Result<State> {
        let state = process::state(&self.server.folder)?;
        if !matches!(state, State::Down) {
            return Ok(state);
        }
        Ok(match self.port()? {
            Some((transport, port)) if taken(transport, port) => State::Foreign {
                who: format!("something listens on its port {port}"),
            },
            _ => State::Down,
        })
    }

    /// The port that the server's settings name.
    fn port(&self) -> Result<Option<(Transport, u16)>> {
        let Some(rule) = &self.server.family.console.port else {
            return Ok(None);
        };
        let path = self.server.folder.root().join(&rule.file);
        let Ok(text) = fs::read_to_string(&path) else {
            return Ok(None);
        };
        let port = text
            .lines()
            .find_map(|line| rule.line.capture("port", line)?.parse().ok());
        Ok(port.map(|port| (rule.transport, port)))
    }

    /// Starts the server; does not wait until it is ready.
    ///
    /// # Errors
    /// When it runs already, or its start command cannot be run.
    pub fn start(&self) -> Result<Process> {
        match self.state()? {
            State::Down => {}
            State::Ours(process) => {
                let who = format!("process {}, started by lantern", process.pid);
                return Err(Error::AlreadyUp { who });
            }
            State::Foreign { who } => return Err(Error::AlreadyUp { who }),
        }
        self.server.folder.make_own("console")?;
        let input = self.input();
        if !input.exists() {
            let mode = Mode::RUSR | Mode::WUSR;
            mknodat(CWD, &input, FileType::Fifo, mode, 0).at("making the pipe", &input)?;
        }
        let output = self.output();
        if output.exists() {
            let previous = self.server.folder.own("console/output.previous.log");
            fs::rename(&output, &previous).at("renaming", &output)?;
        }
        // Opened for both, the pipe has a writer as long as the server lives: it never ends.
        let stdin = OpenOptions::new()
            .read(true)
            .write(true)
            .open(&input)
            .at("opening", &input)?;
        let log = OpenOptions::new()
            .append(true)
            .create(true)
            .open(&output)
            .at("opening", &output)?;
        let errors = log.try_clone().at("opening", &output)?;
        let (program, arguments) =
            self.server
                .family
                .launch
                .command
                .split_first()
                .ok_or_else(|| Error::DidNotStart {
                    why: "the family's launch.command is empty".into(),
                })?;
        disk::step().at("starting", std::path::Path::new(program))?;
        use std::os::unix::process::CommandExt;
        let child = Command::new(program)
            .args(arguments)
            .current_dir(self.server.folder.root())
            .stdin(stdin)
            .stdout(log)
            .stderr(errors)
            .process_group(0)
            .spawn();
        let child = child.map_err(|error| Error::DidNotStart {
            why: format!("{program} cannot be run: {error}"),
        })?;
        process::remember(&self.server.folder, child.id())
    }

    /// Waits for the ready line, then looks again a little later whether the server is still up.
    ///
    /// # Errors
    /// On an error line, when the process ends, or when it takes too long.
    pub fn wait_ready(&self, process: &Process) -> Result<Started> {
        let rule = &self.server.family.console;
        let deadline = Instant::now() + Duration::from_secs(rule.ready_timeout_s);
        let mut reader = LineReader::at(self.output(), 0);
        let mut started = Started {
            pid: process.pid,
            lines: Vec::new(),
        };
        let mut ready_at: Option<Instant> = None;
        loop {
            let alive = process.is_alive();
            for line in reader.lines()? {
                if rule
                    .errors
                    .iter()
                    .any(|error| error.regex().is_match(&line))
                {
                    return Err(Error::DidNotStart {
                        why: format!("it printed: {}", line.trim()),
                    });
                }
                if ready_at.is_none() && rule.ready.regex().is_match(&line) {
                    ready_at = Some(Instant::now());
                }
                started.lines.push(line);
            }
            if !alive {
                let last = started
                    .lines
                    .iter()
                    .rev()
                    .find(|line| !line.trim().is_empty());
                let last = last.map_or_else(
                    || "without a word".into(),
                    |line| format!("; its last line: {}", line.trim()),
                );
                return Err(Error::DidNotStart {
                    why: format!("its process ended {last}").replace(" ;", ";"),
                });
            }
            match ready_at {
                Some(at) if at.elapsed() >= Duration::from_millis(rule.hold_ms) => {
                    return Ok(started);
                }
                None if Instant::now() > deadline => {
                    return Err(Error::DidNotStart {
                        why: format!("no ready line within {} s", rule.ready_timeout_s),
                    });
                }
                _ => sleep(LOOK),
            }
        }
    }

    /// Writes a line to the server's input.
    ///
    /// # Errors
    /// When nothing reads it.
    pub fn send(&self, line: &str) -> Result<()> {
        use std::os::unix::fs::OpenOptionsExt;
        let input = self.input();
        let nonblock = rustix::fs::OFlags::NONBLOCK.bits() as i32;
        let pipe = OpenOptions::new()
            .write(true)
            .custom_flags(nonblock)
            .open(&input);
        let mut pipe = pipe.at("opening the console", &input)?;
        let line: String = line.chars().filter(|c| !c.is_control()).collect();
        pipe.write_all(format!("{line}\n").as_bytes())
            .at("writing to the console", &input)
    }

    /// Tells the players something, where the family has a command for it; says whether it has.
    ///
    /// # Errors
    /// As [`Console::send`].
    pub fn say(&self, text: &str) -> Result<bool> {
        match &self.server.family.console.say {
            Some(command) => self.send(&command.replace("{text}", text)).map(|()| true),
            None => Ok(false),
        }
    }

    /// Asks the server to stop and waits until it is really down.
    ///
    /// # Errors
    /// When it cannot be reached, or is still up after the family's time limit.
    pub fn stop(&self) -> Result<()> {
        let process = match self.state()? {
            State::Down => return Ok(()),
            State::Ours(process) => process,
            State::Foreign { who } => return Err(Error::NoConsole { who }),
        };
        let rule = &self.server.family.console;
        match &rule.stop {
            Stop::Command(command) => self.send(command)?,
            Stop::Signal(signal) => {
                let signal = match signal {
                    StopSignal::Int => Signal::INT,
                    StopSignal::Term => Signal::TERM,
                };
                process.signal(signal)?;
            }
        }
        if self.wait_down(&process, Duration::from_secs(rule.stop_timeout_s))? {
            return Ok(());
        }
        Err(Error::DidNotStop {
            seconds: rule.stop_timeout_s,
        })
    }

    /// Ends a server that has failed to start: asks it first, then ends it.
    ///
    /// # Errors
    /// When it cannot be ended.
    pub fn end_failed_start(&self, process: &Process) -> Result<()> {
        if !process.is_alive() {
            return process::forget(&self.server.folder);
        }
        if self.stop().is_ok() {
            return Ok(());
        }
        process.signal(Signal::KILL)?;
        self.wait_down(process, ANSWER)?;
        process::forget(&self.server.folder)
    }

    fn wait_down(&self, process: &Process, limit: Duration) -> Result<bool> {
        let deadline = Instant::now() + limit;
        let port = self.port()?;
        loop {
            let port_free = port.is_none_or(|(transport, port)| !taken(transport, port));
            if !process.is_alive() && port_free {
                process::forget(&self.server.folder)?;
                return Ok(true);
            }
            if Instant::now() > deadline {
                return Ok(false);
            }
            sleep(LOOK);
        }
    }

    /// What the server says it has loaded: from the lines of its start, and its list command.
    ///
    /// Returns `None` where the family knows no way to tell.
    ///
    /// # Errors
    /// When the list command gets no answer.
    pub fn loaded(&self, started: &Started) -> Result<Option<Loaded>> {
        let rule = &self.server.family.console;
        if rule.loaded.is_none() && rule.list.is_none() {
            return Ok(None);
        }
        let mut loaded = Loaded::new();
        let mut note = |pattern: &lantern_core::family::Pattern, line: &str| {
            if let Some(id) = pattern.capture("id", line) {
                let version = pattern.capture("version", line).map(str::to_owned);
                loaded.insert(Id::new(id), version);
            }
        };
        for pattern in rule.loaded.iter().chain(&rule.framework) {
            started.lines.iter().for_each(|line| note(pattern, line));
        }
        if let Some(list) = &rule.list {
            let mut reader = LineReader::at_end(self.output())?;
            self.send(&list.ask)?;
            let deadline = Instant::now() + ANSWER;
            'answer: loop {
                for line in reader.lines()? {
                    note(&list.line, &line);
                    if list.end.regex().is_match(&line) {
                        break 'answer;
                    }
                }
                if Instant::now() > deadline {
                    return Err(Error::DidNotStart {
                        why: format!("its console did not answer \"{}\"", list.ask),
                    });
                }
                sleep(LOOK);
            }
        }
        Ok(Some(loaded))
    }
}

/// Whether something listens on a port of this machine.
fn taken(transport: Transport, port: u16) -> bool {
    let in_use = |error: std::io::Error| error.kind() == std::io::ErrorKind::AddrInUse;
    match transport {
        Transport::Tcp => TcpListener::bind(("0.0.0.0", port))
            .err()
            .is_some_and(in_use),
        Transport::Udp => UdpSocket::bind(("0.0.0.0", port)).err().is_some_and(in_use),
    }
}

/// Reads whole lines from a file that grows.
struct LineReader {
    path: PathBuf,
    offset: u64,
    rest: Vec<u8>,
}

impl LineReader {
    fn at(path: PathBuf, offset: u64) -> LineReader {
        LineReader {
            path,
            offset,
            rest: Vec::new(),
        }
    }

    fn at_end(path: PathBuf) -> Result<LineReader> {
        let length = fs::metadata(&path).at("reading", &path)?.len();
        Ok(LineReader::at(path, length))
    }

    fn lines(&mut self) -> Result<Vec<String>> {
        let mut file = File::open(&self.path).at("reading", &self.path)?;
        file.seek(SeekFrom::Start(self.offset))
            .at("reading", &self.path)?;
        let mut fresh = Vec::new();
        file.read_to_end(&mut fresh).at("reading", &self.path)?;
        self.offset += fresh.len() as u64;
        self.rest.append(&mut fresh);
        let mut lines = Vec::new();
        while let Some(end) = self.rest.iter().position(|byte| *byte == b'\n') {
            let line: Vec<u8> = self.rest.drain(..=end).collect();
            lines.push(String::from_utf8_lossy(&line).trim_end().to_owned());
        }
        Ok(lines)
    }
}

/// A process group's number as the system takes it.
fn group(pid: i32) -> Option<Pid> {
    Pid::from_raw(pid)
}
