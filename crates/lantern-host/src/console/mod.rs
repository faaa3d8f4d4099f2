//! The server's console: say, ask, stop, and whether the server is up.
//!
//! Lantern starts the server with a named pipe as its input and a file as its output, both in
//! `.lantern/console/`. The server holds the pipe open itself, so it outlives lantern, and every
//! later lantern can write to it and read what it prints. Where `lantern.toml` says so, lines go
//! elsewhere instead: through another pipe, by a command line, to a remote console; and command lines of
//! the administrator's start and stop it.

mod afar;
pub mod fault;
mod follower;
mod log;
mod on;
pub mod packet;
pub mod ports;
pub mod printed;
mod process;
mod remote;
mod starting;
mod stopping;
mod typing;

pub use follower::Follower;
pub use log::Log;
pub use on::who_is_on;
pub use process::Process;
pub use starting::{Started, Starting};

use crate::config::{LineWay, RunBy, Server};
use crate::console::fault::ConsoleFault;
use crate::error::{At, Error, Result};
use crate::place::here;
use crate::runner::{Ended, Runner};
use lantern_core::family::PortRule;
use lantern_core::path::RelPath;
use process::Seen;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How often output and process are looked at while waiting.
const LOOK: Duration = Duration::from_millis(15);
/// How often a command line is asked whether the server is up.
const ASK_AROUND: Duration = Duration::from_millis(250);
/// How long an answer to a console command may take.
const ANSWER: Duration = Duration::from_secs(10);

/// The console of one server.
#[derive(Debug)]
pub struct Console<'a> {
    server: &'a Server,
}

/// Whether the server is up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ServerState {
    /// It is not.
    Down,
    /// It is, and lantern started it.
    Ours(Process),
    /// It is, or seems to be; lantern did not start it, but `lantern.toml` says how it is reached.
    Reached {
        /// What was seen.
        who: String,
        /// A process of it, where one was seen.
        pid: Option<i32>,
    },
    /// It is, or seems to be; lantern did not start it, and has no way to it.
    Foreign {
        /// What was seen.
        who: String,
    },
    /// Nobody can tell: nothing speaks for it, but not all can be seen.
    Unknown {
        /// What cannot be seen.
        why: String,
    },
}

impl ServerState {
    /// By what the server is seen to be up; none when it is down.
    pub fn who(&self) -> Option<String> {
        match self {
            ServerState::Down => None,
            ServerState::Ours(process) => Some(format!("process {}", process.pid)),
            ServerState::Reached { who, .. } | ServerState::Foreign { who } => Some(who.clone()),
            ServerState::Unknown { why } => Some(format!("that cannot be told: {why}")),
        }
    }
}

/// What speaks for the server being up, besides a process that lantern started.
#[derive(Debug, Default)]
struct Signs {
    writer: Option<(i32, String)>,
    port: Option<u16>,
    said: Option<String>,
    /// What could not be seen and might speak for it.
    unseen: Option<String>,
}

impl Signs {
    fn are_none(&self) -> bool {
        self.writer.is_none() && self.port.is_none() && self.said.is_none()
    }

    fn who(&self) -> String {
        let writer = self.writer.as_ref();
        let writer = writer.map(|(pid, file)| format!("process {pid} has {file} open for writing"));
        let port = self
            .port
            .map(|port| format!("something listens on its port {port}"));
        let said = self
            .said
            .as_ref()
            .map(|command| format!("{command} says so"));
        let signs: Vec<String> = [writer, port, said].into_iter().flatten().collect();
        signs.join(", ")
    }
}

impl<'a> Console<'a> {
    /// The console of a server.
    pub fn of(server: &'a Server) -> Console<'a> {
        Console { server }
    }

    fn runner(&self) -> &dyn Runner {
        &*self.server.runner
    }

    fn input(&self) -> PathBuf {
        self.server.folder.shown(&self.server.console_file("input"))
    }

    /// The file with what the server prints.
    pub fn log(&self) -> Log {
        let folder = &self.server.folder;
        let own = || Log::Here(folder.shown(&self.server.console_file("output.log")));
        match &self.server.config.console.log {
            None => own(),
            Some(log) if folder.is_far() => {
                let path = log.to_str().and_then(|log| RelPath::parse(log).ok());
                path.map_or_else(own, |path| Log::There(folder.clone(), path))
            }
            Some(log) => Log::Here(folder.root().join(log)),
        }
    }

    fn run_by(&self) -> Option<&RunBy> {
        self.server.config.console.run.as_ref()
    }

    fn is_reachable(&self) -> bool {
        let reach = &self.server.config.console;
        let can_stop = reach.run.as_ref().is_some_and(|run| run.stop.is_some());
        reach.line.is_some() || can_stop
    }

    /// Finds out whether the server is up: from its process, open files, port, and what a command
    /// line of `lantern.toml` says.
    ///
    /// # Errors
    /// When that command line cannot be run.
    pub fn state(&self) -> Result<ServerState> {
        if self.server.folder.is_far() {
            return self.state_there();
        }
        let (writer, hidden) = match process::look(self.server) {
            Seen::Own(process) => return Ok(ServerState::Ours(process)),
            Seen::Other { pid, file } => (Some((pid, file)), None),
            Seen::None { unseen } => (None, unseen),
        };
        let besides = self.signs_besides()?;
        // Whom the administrator's own command line is asked, that knows.
        let knows = self.run_by().is_some_and(|run| run.state.is_some());
        let signs = Signs {
            writer,
            unseen: hidden.or(besides.unseen).filter(|_| !knows),
            ..besides
        };
        let pid = signs.writer.as_ref().map(|(pid, _)| *pid);
        Ok(match () {
            () if signs.are_none() => match signs.unseen {
                None => ServerState::Down,
                Some(why) => ServerState::Unknown { why },
            },
            () if self.is_reachable() => ServerState::Reached {
                who: signs.who(),
                pid,
            },
            () => ServerState::Foreign { who: signs.who() },
        })
    }

    /// Another process than the server's own that has one of its files open for writing: a second server on the same world.
    pub fn second(&self, state: &ServerState) -> Option<String> {
        let own = match state {
            ServerState::Ours(process) => process.pid,
            ServerState::Reached { pid: Some(pid), .. } => self.runner().group_of(*pid)?,
            _ => return None,
        };
        let second = process::second(self.server, own);
        second.map(|(pid, file)| format!("process {pid} has {file} open for writing"))
    }

    /// Refuses where there is one.
    ///
    /// # Errors
    /// [`ConsoleFault::Second`].
    pub fn refuse_second(&self, state: &ServerState) -> Result<()> {
        match self.second(state) {
            None => Ok(()),
            Some(who) => Err(ConsoleFault::Second { who }.into()),
        }
    }

    fn signs(&self) -> Result<Signs> {
        let writer = process::writes(self.server);
        Ok(Signs {
            writer,
            ..self.signs_besides()?
        })
    }

    fn signs_besides(&self) -> Result<Signs> {
        let (port, unseen) = match self.listening() {
            Ok(port) => (port, None),
            Err(error) => (
                None,
                Some(format!("who listens on ports is not told: {error}")),
            ),
        };
        Ok(Signs {
            writer: None,
            port,
            said: self.said_to_be_up()?,
            unseen,
        })
    }

    /// The command line that says that the server is up, where it does.
    fn said_to_be_up(&self) -> Result<Option<String>> {
        let Some(state) = self.run_by().and_then(|run| run.state.as_ref()) else {
            return Ok(None);
        };
        let (up, _) = self.run(state, ANSWER)?;
        Ok(up.then(|| state.join(" ")))
    }

    /// The port that the server's settings name; of a copy, only one that is its own.
    fn port(&self) -> Option<(&PortRule, u16)> {
        let rule = self.server.family.console.port.as_ref()?;
        let of = |folder| ports::stated(&self.server.family, rule, folder);
        let port = of(&self.server.folder)?;
        let live = self.server.copy_of.as_ref();
        let lives = live.and_then(of);
        (lives != Some(port)).then_some((rule, port))
    }

    /// Runs a command line of the administrator's in the server folder: whether it ended with 0, and what it
    /// printed.
    fn run(&self, command: &[String], limit: Duration) -> Result<(bool, String)> {
        let log = tempfile::NamedTempFile::new();
        let log = log.at("writing", Path::new("a file for a program's words"))?;
        let ended = self.runner().run(
            command,
            self.server.folder.root(),
            log.path(),
            limit,
            self.server.password_env(),
        );
        let ended = ended.map_err(|source| Error::NoProgram {
            program: command.first().cloned().unwrap_or_default(),
            source,
        })?;
        let printed = here::read(log.path())?;
        let printed = String::from_utf8_lossy(&printed).trim().to_owned();
        match ended {
            Ended::TooSlow => Err(Error::Console(ConsoleFault::CommandLine {
                command: command.join(" "),
                why: format!("it took longer than {} s, and was ended", limit.as_secs()),
            })),
            ended => Ok((ended == Ended::Well, printed)),
        }
    }

    /// Runs a command line that has to end with 0.
    fn obey(&self, command: &[String], limit: Duration) -> Result<()> {
        let (done, printed) = self.run(command, limit)?;
        let last = printed
            .lines()
            .next_back()
            .unwrap_or("it ended with an error")
            .to_owned();
        let command = command.join(" ");
        if done {
            Ok(())
        } else {
            Err(Error::Console(ConsoleFault::CommandLine {
                command,
                why: last,
            }))
        }
    }

    /// Sends bytes to the server's port, one for each character, and gives what comes back likewise, in lines; none where nothing answers.
    pub fn ask_over_port(&self, sends: &str) -> Vec<String> {
        let Some((rule, port)) = self.port() else {
            return Vec::new();
        };
        let bytes: Vec<u8> = sends.chars().filter_map(|c| u8::try_from(c).ok()).collect();
        let host = match self.server.folder.is_far() {
            true => self.host(),
            false => "127.0.0.1".into(),
        };
        let answer = self.runner().exchange(rule.transport, &host, port, &bytes);
        let text: String = answer.into_iter().map(char::from).collect();
        text.lines().map(str::to_owned).collect()
    }

    /// The server's port, where something listens on it.
    fn listening(&self) -> std::io::Result<Option<u16>> {
        let Some((rule, port)) = self.port() else {
            return Ok(None);
        };
        let listens = self.runner().listens(rule.transport, port)?;
        Ok(listens.then_some(port))
    }

    /// Whether something is seen to listen on the server's port.
    fn listens(&self) -> bool {
        self.listening().is_ok_and(|port| port.is_some())
    }
}
