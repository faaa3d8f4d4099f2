//! The server's console: say, ask, stop, and whether the server is up.
//!
//! Lantern starts the server with a named pipe as its input and a file as its output, both in
//! `.lantern/console/`. The server holds the pipe open itself, so it outlives lantern, and every
//! later lantern can write to it and read what it prints. Where `lantern.toml` says so, lines go
//! elsewhere instead: through another pipe, by a command line, to a remote console; and command lines of
//! the administrator's start and stop it.

mod ports;
mod printed;
mod process;
mod remote;

pub use process::Process;

use crate::config::{LineWay, RunBy, Server};
use crate::disk;
use crate::durable;
use crate::error::{At, Error, Result};
use crate::program;
use lantern_core::family::{Pattern, PortRule, Stop, StopSignal};
use lantern_core::start;
use ports::taken;
use printed::Printed;
use process::Seen;
use remote::Session;
use rustix::fs::{CWD, FileType, Mode, OFlags, mknodat};
use rustix::process::{Pid, Signal};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::thread::sleep;
use std::time::{Duration, Instant};

/// How often output and process are looked at while waiting.
const LOOK: Duration = Duration::from_millis(15);
/// How often a command line is asked whether the server is up.
const ASK_AROUND: Duration = Duration::from_millis(250);
/// How long an answer to a console command may take.
const ANSWER: Duration = Duration::from_secs(10);
/// How long a server that lantern did not start is watched after its stop, in seconds.
const WATCH_S: u64 = 3;
/// After so long without a line, an answer of no known end is taken as whole.
const QUIET: Duration = Duration::from_millis(700);
/// How long a server that has printed an error may go on before it is stopped.
const LAST_WORDS: Duration = Duration::from_millis(300);
/// So many last lines are told when something fails.
const TOLD_LINES: usize = 6;

/// The console of one server.
#[derive(Debug)]
pub struct Console<'a> {
    server: &'a Server,
}

/// Whether the server is up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum State {
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
}

/// A server that is being started.
#[derive(Debug)]
pub struct Starting {
    /// Its process; none where a command line started it.
    process: Option<Process>,
    begun: Instant,
}

/// What a start printed up to the end of the hold.
#[derive(Debug, Default)]
pub struct Started {
    /// All lines printed.
    pub lines: Vec<String>,
    /// How long it took until the server was ready, in milliseconds.
    pub ready_ms: u64,
}

/// Where the lines of a start begin: in which file, and how far in it.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Since {
    inode: u64,
    offset: u64,
}

/// What speaks for the server being up, besides a process that lantern started.
#[derive(Debug, Default)]
struct Signs {
    writer: Option<(i32, String)>,
    port: Option<u16>,
    said: Option<String>,
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

    fn input(&self) -> PathBuf {
        self.server.folder.own("console/input")
    }

    /// The file with what the server prints.
    pub fn output(&self) -> PathBuf {
        match &self.server.config.console.log {
            Some(log) => self.server.folder.root().join(log),
            None => self.server.folder.own("console/output.log"),
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
    pub fn state(&self) -> Result<State> {
        let writer = match process::look(&self.server.folder) {
            Seen::Own(process) => return Ok(State::Ours(process)),
            Seen::Other { pid, file } => Some((pid, file)),
            Seen::None => None,
        };
        let signs = Signs {
            writer,
            ..self.signs_besides()?
        };
        let pid = signs.writer.as_ref().map(|(pid, _)| *pid);
        Ok(match () {
            () if signs.are_none() => State::Down,
            () if self.is_reachable() => State::Reached {
                who: signs.who(),
                pid,
            },
            () => State::Foreign { who: signs.who() },
        })
    }

    fn signs(&self) -> Result<Signs> {
        let writer = process::writes(&self.server.folder);
        Ok(Signs {
            writer,
            ..self.signs_besides()?
        })
    }

    fn signs_besides(&self) -> Result<Signs> {
        let port = self
            .port()
            .filter(|(rule, port)| taken(rule.transport, *port));
        Ok(Signs {
            writer: None,
            port: port.map(|(_, port)| port),
            said: self.said_to_be_up()?,
        })
    }

    /// The command line that says that the server is up, where it does.
    fn said_to_be_up(&self) -> Result<Option<String>> {
        let Some(state) = self.run_by().and_then(|run| run.state.as_ref()) else {
            return Ok(None);
        };
        let (up, _) = program::run(state, self.server.folder.root(), ANSWER)?;
        Ok(up.then(|| state.join(" ")))
    }

    /// The port that the server's settings name; of a copy, only one that is its own.
    fn port(&self) -> Option<(&PortRule, u16)> {
        let rule = self.server.family.console.port.as_ref()?;
        let port = ports::stated(rule, self.server.folder.root())?;
        let live = self.server.copy_of.as_ref();
        let lives = live.and_then(|live| ports::stated(rule, live));
        (lives != Some(port)).then_some((rule, port))
    }

    /// Starts the server; does not wait until it is ready.
    ///
    /// # Errors
    /// When it runs already, or its start command cannot be run.
    pub fn start(&self) -> Result<Starting> {
        match self.state()? {
            State::Down => {}
            State::Ours(process) => {
                let who = format!("process {}, started by lantern", process.pid);
                return Err(Error::AlreadyUp { who });
            }
            State::Foreign { who } | State::Reached { who, .. } => {
                return Err(Error::AlreadyUp { who });
            }
        }
        self.server.folder.make_own("console")?;
        if let Some(live) = &self.server.copy_of {
            ports::move_away(self.server, live)?;
        }
        let begun = Instant::now();
        let Some(run) = self.run_by() else {
            let process = Some(self.spawn()?);
            return Ok(Starting { process, begun });
        };
        self.remember_where_it_begins()?;
        disk::step().at("starting", Path::new(&run.start.join(" ")))?;
        self.obey(&run.start, ANSWER)?;
        Ok(Starting {
            process: None,
            begun,
        })
    }

    /// Runs a command line that has to end with 0.
    fn obey(&self, command: &[String], limit: Duration) -> Result<()> {
        let (done, printed) = program::run(command, self.server.folder.root(), limit)?;
        let last = printed
            .lines()
            .next_back()
            .unwrap_or("it ended with an error")
            .to_owned();
        let command = command.join(" ");
        if done {
            Ok(())
        } else {
            Err(Error::CommandLine { command, why: last })
        }
    }

    fn remember_where_it_begins(&self) -> Result<()> {
        let (inode, offset) = printed::end(&self.output());
        let since = serde_json::to_vec(&Since { inode, offset });
        let since = since.expect("a place has only plain values");
        durable::write(&self.server.folder.own("console/since.json"), &since)
    }

    /// Starts the server as a process that lantern keeps.
    fn spawn(&self) -> Result<Process> {
        let input = self.input();
        if !input.exists() {
            let mode = Mode::RUSR | Mode::WUSR;
            mknodat(CWD, &input, FileType::Fifo, mode, 0).at("making the pipe", &input)?;
        }
        let output = self.server.folder.own("console/output.log");
        if output.exists() {
            let previous = self.server.folder.own("console/output.previous.log");
            fs::rename(&output, &previous).at("renaming", &output)?;
        }
        self.remember_where_it_begins()?;
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
        let did_not = |why: String| Error::DidNotStart {
            why,
            last: Vec::new(),
        };
        let command = &self.server.family.launch.command;
        let (program, arguments) = command
            .split_first()
            .ok_or_else(|| did_not("the family's launch.command is empty".into()))?;
        disk::step().at("starting", Path::new(program))?;
        use std::os::unix::process::CommandExt;
        let mut command = Command::new(program);
        if let Some(LineWay::Remote(remote)) = &self.server.config.console.line {
            // The server has its own way to know it, and what it logs of its environment is its affair.
            remote.password_env.iter().for_each(|name| {
                command.env_remove(name);
            });
        }
        let child = command
            .args(arguments)
            .current_dir(self.server.folder.root())
            .stdin(stdin)
            .stdout(log)
            .stderr(errors)
            .process_group(0)
            .spawn();
        let child = child.map_err(|error| did_not(format!("{program} cannot be run: {error}")))?;
        process::remember(&self.server.folder, child.id())
    }

    /// The lines of the last start, as far as they can still be read.
    fn printed(&self) -> Printed {
        let since = fs::read(self.server.folder.own("console/since.json")).ok();
        let since = since.and_then(|text| serde_json::from_slice::<Since>(&text).ok());
        let Since { inode, offset } = since.unwrap_or_default();
        Printed::from(self.output(), inode, offset)
    }

    /// All that the server printed since its start.
    ///
    /// # Errors
    /// When its log cannot be read.
    pub fn lines(&self) -> Result<Vec<String>> {
        self.printed().lines()
    }

    /// The last few lines that the server printed since its start; none where they cannot be read.
    pub fn last_lines(&self) -> Vec<String> {
        let mut lines = self.lines().unwrap_or_default();
        lines.retain(|line| !line.trim().is_empty());
        lines.split_off(lines.len().saturating_sub(TOLD_LINES))
    }

    /// An error line with what was printed right before and after it.
    fn lines_around(&self, error: &str) -> Vec<String> {
        let mut lines = self.lines().unwrap_or_default();
        lines.retain(|line| !line.trim().is_empty());
        let at = lines.iter().position(|line| line.trim() == error);
        let first = at.unwrap_or(lines.len()).saturating_sub(2);
        let first = first.min(lines.len().saturating_sub(TOLD_LINES));
        lines.into_iter().skip(first).take(TOLD_LINES).collect()
    }

    /// Waits until the server is ready, then looks again a little later whether it is still up: its
    /// process, its port, and that nothing else has started a second one.
    ///
    /// An error line that is not among the known ones ends the waiting, unless `stay` says that the
    /// server is to be left alone whatever it does. `tell` hears how long it takes, again and again.
    ///
    /// # Errors
    /// On such a line, when the server ends, or when it takes too long.
    pub fn wait_ready(
        &self,
        starting: &Starting,
        known: &BTreeSet<String>,
        stay: bool,
    ) -> Result<Started> {
        let rule = &self.server.family.console;
        let limit = Duration::from_secs(rule.ready_timeout_s);
        let did_not = |why: String| Error::DidNotStart {
            why,
            last: self.last_lines(),
        };
        let mut printed = self.printed();
        let mut started = Started::default();
        let mut ready_at: Option<Instant> = None;
        let mut asked = Instant::now();
        loop {
            let taking = starting.begun.elapsed();
            // Looked at before its lines are read: so its last words are among them.
            let alive = match &starting.process {
                Some(process) => process.is_alive(),
                None if asked.elapsed() < ASK_AROUND => true,
                None => {
                    asked = Instant::now();
                    let asks = self.run_by().is_some_and(|run| run.state.is_some());
                    !asks || self.said_to_be_up()?.is_some()
                }
            };
            let lines = printed.lines()?;
            let bad = start::errors(rule, &lines, known);
            if let Some(error) = bad.into_iter().find(|error| !error.known && !stay) {
                // What else it says of it follows within a moment.
                let end = Instant::now() + LAST_WORDS;
                while starting.process.as_ref().is_some_and(Process::is_alive)
                    && Instant::now() < end
                {
                    sleep(LOOK);
                }
                let why = format!("it printed: {}", error.text());
                let last = self.lines_around(&error.line);
                return Err(Error::DidNotStart { why, last });
            }
            let says_ready = |line: &String| {
                let ready = rule.ready.as_ref();
                ready.is_some_and(|ready| ready.regex().is_match(line))
            };
            let heard = lines.iter().any(says_ready) || self.is_silent() && self.listens();
            started.lines.extend(lines);
            if ready_at.is_none() && heard {
                ready_at = Some(Instant::now());
                started.ready_ms = taking.as_millis() as u64;
            }
            if !alive {
                return Err(did_not(self.how_it_ended(&started, ready_at)));
            }
            if self.server.copy_of.is_some() && crate::called_off() {
                return Err(Error::CalledOff);
            }
            match ready_at {
                Some(at) if at.elapsed() >= Duration::from_millis(rule.hold_ms) => break,
                None if taking > limit => {
                    return Err(did_not(format!(
                        "it was not ready within {} s",
                        limit.as_secs()
                    )));
                }
                _ => sleep(LOOK),
            }
        }
        match self.not_up(starting)? {
            Some(why) => Err(did_not(why)),
            None => Ok(started),
        }
    }

    /// Whether nothing that can be read of what the server prints says that it is ready.
    pub fn is_silent(&self) -> bool {
        let unread = self.run_by().is_some() && self.server.config.console.log.is_none();
        self.server.family.console.ready.is_none() || unread
    }

    fn listens(&self) -> bool {
        self.port()
            .is_some_and(|(rule, port)| taken(rule.transport, port))
    }

    fn how_it_ended(&self, started: &Started, ready_at: Option<Instant>) -> String {
        let mut words = started.lines.iter().rev();
        let last = words.find(|line| !line.trim().is_empty());
        let when = ready_at.map_or(String::new(), |at| {
            format!(" {} ms after it was ready", at.elapsed().as_millis())
        });
        match last {
            Some(line) => format!("its process ended{when}; its last line: {}", line.trim()),
            None => format!("its process ended{when} without a word"),
        }
    }

    /// Why a server that was ready is not up after all.
    fn not_up(&self, starting: &Starting) -> Result<Option<String>> {
        if let Some((_, port)) = self.port()
            && !self.listens()
        {
            return Ok(Some(format!(
                "nothing listens on its port {port}, though it said that it is ready"
            )));
        }
        let Some(process) = &starting.process else {
            let signs = self.signs()?;
            return Ok(signs
                .are_none()
                .then(|| "no process, port or open file of it is there".into()));
        };
        let second = process::second(&self.server.folder, process);
        Ok(second.map(|(pid, file)| {
            format!("a second one was started by something else: process {pid} has {file} open for writing")
        }))
    }

    /// Types a line into the console.
    ///
    /// # Errors
    /// When the console cannot be reached.
    pub fn send(&self, line: &str) -> Result<()> {
        let line: String = line.chars().filter(|c| !c.is_control()).collect();
        let root = self.server.folder.root();
        match &self.server.config.console.line {
            None => write_line(&self.input(), &line),
            Some(LineWay::Pipe(pipe)) => write_line(&root.join(pipe), &line),
            Some(LineWay::Command(words)) => {
                let words: Vec<String> = words.iter().map(|w| w.replace("{line}", &line)).collect();
                self.obey(&words, ANSWER)
            }
            Some(LineWay::Remote(remote)) => Session::open(remote, root)?.tell(&line),
        }
    }

    /// Types a line into the console and returns the lines of its answer, up to the one that `end`
    /// finds; without `end`, until nothing more comes.
    ///
    /// # Errors
    /// When the console cannot be reached, or the end does not come.
    pub fn ask(&self, line: &str, end: Option<&Pattern>) -> Result<Vec<String>> {
        if let Some(LineWay::Remote(remote)) = &self.server.config.console.line {
            return Session::open(remote, self.server.folder.root())?.ask(line, end);
        }
        let mut printed = Printed::from_end(self.output());
        self.send(line)?;
        let deadline = Instant::now() + ANSWER;
        let mut last = Instant::now();
        let mut answer = Vec::new();
        loop {
            for line in printed.lines()? {
                last = Instant::now();
                let ends = end.is_some_and(|end| end.regex().is_match(&line));
                answer.push(line);
                if ends {
                    return Ok(answer);
                }
            }
            if end.is_none() && last.elapsed() > QUIET {
                return Ok(answer);
            }
            if Instant::now() > deadline {
                return Err(Error::NoAnswer { line: line.into() });
            }
            sleep(LOOK);
        }
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

    /// The players who are on; none where the family knows no way to tell.
    ///
    /// # Errors
    /// When the console does not answer.
    pub fn players(&self) -> Result<Option<Vec<String>>> {
        let Some(list) = &self.server.family.console.players else {
            return Ok(None);
        };
        let answer = self.ask(&list.ask, Some(&list.end))?;
        let names = answer
            .iter()
            .filter_map(|line| list.line.capture("id", line));
        Ok(Some(names.map(str::to_owned).collect()))
    }

    /// Makes sure that the console can be reached, as far as that can be told without typing into it.
    ///
    /// # Errors
    /// When it cannot.
    pub fn probe(&self) -> Result<()> {
        match &self.server.config.console.line {
            Some(LineWay::Remote(remote)) => {
                Session::open(remote, self.server.folder.root()).map(|_| ())
            }
            Some(LineWay::Pipe(pipe)) => {
                open_pipe(&self.server.folder.root().join(pipe)).map(|_| ())
            }
            Some(LineWay::Command(_)) | None => Ok(()),
        }
    }

    /// Asks the server to stop and waits until it is really down, and stays so.
    ///
    /// # Errors
    /// When it cannot be reached, is still up after the time limit, or something starts it again.
    pub fn stop(&self) -> Result<()> {
        let rule = &self.server.family.console;
        let limit = Duration::from_secs(rule.stop_timeout_s);
        let state = self.state()?;
        let had_port = self.listens();
        let stop_line = self.run_by().and_then(|run| run.stop.as_ref());
        match (&state, &rule.stop, stop_line) {
            (State::Down, ..) => return Ok(()),
            (State::Foreign { who }, ..) => return Err(Error::NoConsole { who: who.clone() }),
            (State::Reached { .. }, _, Some(stop)) => self.obey(stop, limit)?,
            (_, Stop::Command(command), _) => self.send(command)?,
            (State::Ours(process), Stop::Signal(signal), _) => process.signal(number(*signal))?,
            (State::Reached { pid: Some(pid), .. }, Stop::Signal(signal), _) => {
                process::ask_to_stop(*pid, number(*signal))?;
            }
            (State::Reached { who, pid: None }, Stop::Signal(_), _) => {
                return Err(Error::NoConsole { who: who.clone() });
            }
        }
        let process = match state {
            State::Ours(process) => Some(process),
            _ => None,
        };
        self.wait_down(process.as_ref(), limit, had_port)?;
        let watch = if process.is_some() { 0 } else { WATCH_S };
        let watch = self.server.config.limits.watch_s.unwrap_or(watch);
        let until = Instant::now() + Duration::from_secs(watch);
        while Instant::now() < until {
            self.refuse_up()?;
            sleep(ASK_AROUND);
        }
        Ok(())
    }

    /// Refuses to go on where a server that was stopped is up again.
    ///
    /// # Errors
    /// [`Error::StartedAgain`].
    pub fn refuse_up(&self) -> Result<()> {
        match self.state()? {
            State::Down => Ok(()),
            State::Ours(process) => Err(Error::StartedAgain {
                who: format!("process {}", process.pid),
            }),
            State::Reached { who, .. } | State::Foreign { who } => Err(Error::StartedAgain { who }),
        }
    }

    /// Ends a server of lantern's own that does not stop when it is asked.
    ///
    /// # Errors
    /// When it is none of lantern's, or cannot be ended.
    pub fn kill(&self) -> Result<()> {
        match self.state()? {
            State::Down => Ok(()),
            State::Ours(process) => {
                process.signal(Signal::KILL)?;
                self.wait_down(Some(&process), ANSWER, false)
            }
            State::Reached { who, .. } | State::Foreign { who } => Err(Error::NoConsole { who }),
        }
    }

    /// Ends a server that has failed to start: asks it first, then ends it.
    ///
    /// # Errors
    /// When it cannot be ended.
    pub fn end_failed_start(&self) -> Result<()> {
        match self.stop() {
            Ok(()) => Ok(()),
            Err(_) => self.kill(),
        }
    }

    /// Waits until process, port and open files are gone. With `had_port`, the port was open before.
    fn wait_down(&self, process: Option<&Process>, limit: Duration, had_port: bool) -> Result<()> {
        let deadline = Instant::now() + limit;
        let mut port_was_free = false;
        loop {
            let group = process.is_some_and(Process::is_alive);
            let port = self.listens();
            if had_port && port && port_was_free {
                let who =
                    "it listens on its port again; what started it did not end with it".into();
                return Err(Error::StartedAgain { who });
            }
            port_was_free |= !port;
            if !group && !port {
                let signs = self.signs()?;
                if signs.are_none() {
                    return process::forget(&self.server.folder);
                }
            }
            if Instant::now() > deadline {
                let signs = self.signs()?;
                let who = match process {
                    Some(process) if signs.are_none() => {
                        format!(
                            "its port and files are free, but process {} is not gone",
                            process.pid
                        )
                    }
                    _ if signs.are_none() => "it has just gone".into(),
                    _ => signs.who(),
                };
                let seconds = limit.as_secs();
                return Err(Error::DidNotStop { seconds, who });
            }
            sleep(if self.run_by().is_some() {
                ASK_AROUND
            } else {
                LOOK
            });
        }
    }
}

/// Opens a named pipe that somebody reads.
fn open_pipe(path: &Path) -> Result<File> {
    use std::os::unix::fs::{FileTypeExt, OpenOptionsExt};
    let pipe = OpenOptions::new()
        .write(true)
        .custom_flags(OFlags::NONBLOCK.bits() as i32)
        .open(path);
    let pipe = pipe.at("opening the console", path)?;
    let kind = pipe.metadata().at("opening the console", path)?.file_type();
    if !kind.is_fifo() {
        let source = std::io::Error::other("it is no named pipe");
        return Err(source).at("opening the console", path);
    }
    Ok(pipe)
}

fn write_line(path: &Path, line: &str) -> Result<()> {
    let mut pipe = open_pipe(path)?;
    pipe.write_all(format!("{line}\n").as_bytes())
        .at("writing to the console", path)
}

fn number(signal: StopSignal) -> Signal {
    match signal {
        StopSignal::Int => Signal::INT,
        StopSignal::Term => Signal::TERM,
    }
}

/// A process group's number as the system takes it.
fn group(pid: i32) -> Option<Pid> {
    Pid::from_raw(pid)
}
