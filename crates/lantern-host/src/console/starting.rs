//! Starting a server, and waiting until it is ready.

use super::log::Log;
use super::process::{self, Process};
use super::{ANSWER, ASK_AROUND, Console, LOOK, ServerState, ports, printed};
use crate::console::fault::ConsoleFault;
use crate::error::{At, Error, Result};
use crate::runner::Launch;
use crate::told::plain;
use lantern_core::health;
use printed::{PIECE, Printed};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::collections::HashSet;
use std::thread::sleep;
use std::time::{Duration, Instant};

/// How long a server that has printed an error may go on before it is stopped.
const LAST_WORDS: Duration = Duration::from_millis(300);
/// So much of a log's beginning is looked at whole, in bytes: what a start prints.
const WHOLE_BYTES: usize = 1 << 20;

/// So many last lines are told when something fails.
const TOLD_LINES: usize = 6;

/// A server that is being started.
#[derive(Debug)]
pub struct Starting {
    /// Its process; none where a command line started it.
    pub(super) process: Option<Process>,
    pub(super) begun: Instant,
}

/// What a start printed up to the end of the hold.
#[derive(Debug, Default)]
pub struct Started {
    /// All lines printed.
    pub lines: Vec<String>,
    /// How long it took until the server was ready, in milliseconds.
    pub ready_ms: u64,
    /// How long somebody was waited for who started it by hand, in milliseconds.
    pub by_hand_ms: u64,
}

/// Where the lines of a start begin: in which file, and how far in it.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Since {
    inode: u64,
    offset: u64,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    before: Vec<u8>,
}

impl Console<'_> {
    /// Starts the server; does not wait until it is ready.
    ///
    /// # Errors
    /// When it runs already, or its start command cannot be run.
    pub fn start(&self) -> Result<Starting> {
        if self.server.folder.is_far() {
            return self.start_there();
        }
        match self.state()? {
            ServerState::Down => {}
            ServerState::Ours(process) => {
                let who = format!("process {}, started by lantern", process.pid);
                return Err(ConsoleFault::AlreadyUp { who }.into());
            }
            ServerState::Foreign { who } | ServerState::Reached { who, .. } => {
                return Err(ConsoleFault::AlreadyUp { who }.into());
            }
            ServerState::Unknown { why } => {
                return Err(ConsoleFault::Unseen { why }.into());
            }
        }
        self.server.make_console_room()?;
        if let Some(live) = &self.server.copy_of {
            ports::move_away(self.server, live)?;
        }
        let begun = Instant::now();
        let Some(run) = self.run_by() else {
            let process = Some(self.spawn()?);
            return Ok(Starting { process, begun });
        };
        self.remember_where_it_begins()?;
        self.obey(&run.start, ANSWER)?;
        Ok(Starting {
            process: None,
            begun,
        })
    }

    pub(super) fn remember_where_it_begins(&self) -> Result<()> {
        let log = self.log();
        let (inode, offset) = log.end();
        // Only where files have no numbers.
        let before = match inode {
            0 => printed::before(&log, offset),
            _ => Vec::new(),
        };
        let since = serde_json::to_vec(&Since {
            inode,
            offset,
            before,
        });
        let since = since.expect("a place has only plain values");
        let folder = &self.server.folder;
        folder.write_whole(&self.server.console_file("since.json"), &since)
    }

    /// Starts the server as a process that lantern keeps.
    fn spawn(&self) -> Result<Process> {
        let folder = &self.server.folder;
        let input = self.input();
        if !folder.has(&self.server.console_file("input"))? {
            let made = self.runner().make_pipe(&input);
            made.at("making the pipe", &input)?;
        }
        let output = self.server.console_file("output.log");
        if folder.has(&output)? {
            folder.replace(&output, &self.server.console_file("output.previous.log"))?;
        }
        self.remember_where_it_begins()?;
        let launch = Launch {
            command: &self.server.family.launch.command,
            folder: folder.root(),
            input: &input,
            output: &folder.shown(&output),
            // The server has its own way to know it, and what it logs of its environment is its affair.
            without: self.server.password_env(),
        };
        let pid = self.runner().launch(&launch).map_err(|error| {
            let program = launch
                .command
                .first()
                .map_or("launch.command", String::as_str);
            Error::Console(ConsoleFault::DidNotStart {
                why: format!("{program} cannot be run: {}", plain(&error)),
                last: Vec::new(),
            })
        })?;
        process::remember(self.server, pid)
    }

    fn since(&self) -> Option<Since> {
        let since = self
            .server
            .folder
            .read(&self.server.console_file("since.json"))
            .ok();
        since.and_then(|text| serde_json::from_slice(&text).ok())
    }

    /// The lines of the last start, as far as they can still be read.
    pub(super) fn printed(&self) -> Printed {
        match (self.since(), self.log()) {
            (Some(since), log) => {
                Printed::from(log, since.inode, since.offset).behind(since.before)
            }
            // A start that nobody here has seen: nobody knows where it begins, and all of it is not fetched.
            (None, log @ Log::There(..)) if !self.is_heard_whole() => Printed::from_tail(log, 0, 0),
            (None, log) => Printed::from(log, 0, 0),
        }
    }

    /// What the server has printed since its start, to the end: all of its beginning, and of a long log from then on the lines
    /// that `matters` picks, each that differs only in numbers once.
    ///
    /// # Errors
    /// When its log cannot be read.
    pub fn lines_that(&self, matters: &dyn Fn(&str) -> bool) -> Result<Vec<String>> {
        let mut printed = self.printed();
        let mut kept = Vec::new();
        let mut seen = HashSet::new();
        let mut whole_bytes = 0;
        loop {
            printed.each(PIECE, &mut |line| {
                let is_kept =
                    whole_bytes < WHOLE_BYTES || matters(line) && seen.insert(health::normal(line));
                whole_bytes += line.len();
                if is_kept {
                    kept.push(line.to_owned());
                }
            })?;
            if printed.is_at_end() {
                return Ok(kept);
            }
        }
    }

    /// Whether all that it has printed since its start can be read; also where nothing of it can.
    pub fn is_heard_whole(&self) -> bool {
        let log = self.log();
        self.since().is_some() || log.end().1 <= WHOLE_BYTES as u64
    }

    /// What the server has printed since its start: of a very long log, the beginning.
    ///
    /// # Errors
    /// When its log cannot be read.
    pub fn lines(&self) -> Result<Vec<String>> {
        self.printed().lines()
    }

    /// The last few lines that the server printed since its start; none where they cannot be read.
    pub fn last_lines(&self) -> Vec<String> {
        let Since { inode, offset, .. } = self.since().unwrap_or_default();
        let mut tail = Printed::from_tail(self.log(), inode, offset);
        let mut lines = tail.lines().unwrap_or_default();
        lines.retain(|line| !line.trim().is_empty());
        lines.split_off(lines.len().saturating_sub(TOLD_LINES))
    }

    /// An error line with what was printed right before and after it.
    pub(super) fn lines_around(&self, error: &str) -> Vec<String> {
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
        if self.server.folder.is_far() {
            return self.wait_ready_there(starting, known, stay);
        }
        let rule = &self.server.family.console;
        let limit = Duration::from_secs(rule.ready_timeout_s);
        let did_not = |why: String| {
            Error::Console(ConsoleFault::DidNotStart {
                why,
                last: self.last_lines(),
            })
        };
        let mut printed = self.printed();
        let mut started = Started::default();
        let mut ready_at: Option<Instant> = None;
        let mut asked = Instant::now();
        loop {
            let taking = starting.begun.elapsed();
            // Looked at before its lines are read: so its last words are among them.
            let alive = match &starting.process {
                Some(process) => process.is_alive(self.runner()),
                None if asked.elapsed() < ASK_AROUND => true,
                None => {
                    asked = Instant::now();
                    let asks = self.run_by().is_some_and(|run| run.state.is_some());
                    !asks || self.said_to_be_up()?.is_some()
                }
            };
            let lines = printed.lines()?;
            let bad = health::errors(rule, &lines, known);
            if let Some(error) = bad.into_iter().find(|error| !error.known && !stay) {
                // What else it says of it follows within a moment.
                let end = Instant::now() + LAST_WORDS;
                let lives = |process: &Process| process.is_alive(self.runner());
                while starting.process.as_ref().is_some_and(lives) && Instant::now() < end {
                    sleep(LOOK);
                }
                let why = format!("it printed: {}", error.text());
                let last = self.lines_around(&error.line);
                return Err(ConsoleFault::DidNotStart { why, last }.into());
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
                let process = starting.process.as_ref();
                let how = process.and_then(|process| self.runner().how_ended(process.pid));
                return Err(did_not(how_it_ended(&started, ready_at, how)));
            }
            if self.server.copy_of.is_some() && crate::interrupt::called_off() {
                return Err(ConsoleFault::CalledOff.into());
            }
            if !stay && crate::interrupt::wants_back() {
                return Err(did_not("you asked for it to go back".into()));
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
        let elsewhere = self.run_by().is_some() || self.server.folder.is_far();
        let unread = elsewhere && self.server.config.console.log.is_none();
        self.server.family.console.ready.is_none() || unread
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
        let second = process::second(self.server, process.pid);
        Ok(second.map(|(pid, file)| {
            format!("a second one was started by something else: process {pid} has {file} open for writing")
        }))
    }
}

fn how_it_ended(started: &Started, ready_at: Option<Instant>, how: Option<String>) -> String {
    let mut words = started.lines.iter().rev();
    let last = words.find(|line| !line.trim().is_empty());
    let how = how.map_or(String::new(), |how| format!(" ({how})"));
    let when = ready_at.map_or(String::new(), |at| {
        format!(" {} ms after it was ready", at.elapsed().as_millis())
    });
    match last {
        Some(line) => format!(
            "its process ended{how}{when}; its last line: {}",
            line.trim()
        ),
        None => format!("its process ended{how}{when} without a word"),
    }
}
