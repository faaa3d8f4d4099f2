//! Stopping a server, and making sure that it stays down.

use super::process::{self, Process};
use super::{ANSWER, ASK_AROUND, Console, LOOK, ServerState};
use crate::console::fault::ConsoleFault;
use crate::error::{At, Error, Result};
use crate::runner::Signal;
use lantern_core::family::{Stop, StopSignal};
use std::path::Path;
use std::thread::sleep;
use std::time::{Duration, Instant};

/// How long a server that lantern did not start is watched after its stop, in seconds.
const WATCH_S: u64 = 3;

impl Console<'_> {
    /// Asks the server to stop and waits until it is really down, and stays so; how long somebody was waited for who stopped it by
    /// hand, until it no longer answered.
    ///
    /// # Errors
    /// When it cannot be reached, is still up after the time limit, or something starts it again.
    pub fn stop(&self) -> Result<Duration> {
        if self.server.folder.is_far() {
            return self.stop_there();
        }
        let rule = &self.server.family.console;
        let limit = Duration::from_secs(rule.stop_timeout_s);
        let state = self.state()?;
        self.refuse_second(&state)?;
        let had_port = self.listens();
        let stop_line = self.run_by().and_then(|run| run.stop.as_ref());
        match (&state, &rule.stop, stop_line) {
            (ServerState::Down, ..) => return Ok(Duration::ZERO),
            (ServerState::Foreign { who }, ..) => {
                return Err(ConsoleFault::NoConsole { who: who.clone() }.into());
            }
            (ServerState::Unknown { why }, ..) => {
                return Err(ConsoleFault::Unseen { why: why.clone() }.into());
            }
            (ServerState::Reached { .. }, _, Some(stop)) => self.obey(stop, limit)?,
            (_, Stop::Command(command), _) => self.send(command)?,
            (ServerState::Ours(process), Stop::Signal(signal), _) => {
                process.signal(self.runner(), sent(*signal))?;
            }
            (ServerState::Reached { pid: Some(pid), .. }, Stop::Signal(signal), _) => {
                let asked = self.runner().signal(*pid, false, sent(*signal));
                asked.at("signalling", Path::new("the server process"))?;
            }
            (ServerState::Reached { who, pid: None }, Stop::Signal(_), _) => {
                return Err(ConsoleFault::NoConsole { who: who.clone() }.into());
            }
        }
        let process = match state {
            ServerState::Ours(process) => Some(process),
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
        Ok(Duration::ZERO)
    }

    /// Refuses to go on where a server that was stopped is up again.
    ///
    /// # Errors
    /// [`ConsoleFault::StartedAgain`].
    pub fn refuse_up(&self) -> Result<()> {
        match self.state()?.who() {
            None => Ok(()),
            Some(who) => Err(Error::Console(ConsoleFault::StartedAgain { who })),
        }
    }

    /// Ends a server of lantern's own that does not stop when it is asked.
    ///
    /// # Errors
    /// When it is none of lantern's, or cannot be ended.
    pub fn kill(&self) -> Result<()> {
        match self.state()? {
            ServerState::Down => Ok(()),
            ServerState::Ours(process) => {
                process.signal(self.runner(), Signal::Kill)?;
                self.wait_down(Some(&process), ANSWER, false)
            }
            ServerState::Reached { who, .. } | ServerState::Foreign { who } => {
                Err(Error::Console(ConsoleFault::NoConsole { who }))
            }
            ServerState::Unknown { why } => Err(Error::Console(ConsoleFault::Unseen { why })),
        }
    }

    /// Ends a server that has failed to start: asks it first, then ends it.
    ///
    /// # Errors
    /// When it cannot be ended.
    pub fn end_failed_start(&self) -> Result<()> {
        match self.stop() {
            Ok(_) => Ok(()),
            Err(_) => self.kill(),
        }
    }

    /// Waits for a server that was asked to stop before, as long as a stop may take.
    ///
    /// # Errors
    /// When it is still up then.
    pub fn await_stop(&self) -> Result<()> {
        if self.server.folder.is_far() {
            return self.stop_there().map(|_| ());
        }
        let limit = Duration::from_secs(self.server.family.console.stop_timeout_s);
        let process = match self.state()? {
            ServerState::Down => return Ok(()),
            ServerState::Ours(process) => Some(process),
            _ => None,
        };
        self.wait_down(process.as_ref(), limit, false)
    }

    /// Waits until process, port and open files are gone. With `had_port`, the port was open before.
    fn wait_down(&self, process: Option<&Process>, limit: Duration, had_port: bool) -> Result<()> {
        let deadline = Instant::now() + limit;
        let mut port_was_free = false;
        loop {
            let group = process.is_some_and(|process| process.is_alive(self.runner()));
            let port = self.listens();
            if had_port && port && port_was_free {
                let who =
                    "it listens on its port again; what started it did not end with it".into();
                return Err(ConsoleFault::StartedAgain { who }.into());
            }
            port_was_free |= !port;
            if !group && !port {
                let signs = self.signs()?;
                if signs.are_none() {
                    return process::forget(self.server);
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
                return Err(ConsoleFault::DidNotStop { seconds, who }.into());
            }
            sleep(if self.run_by().is_some() {
                ASK_AROUND
            } else {
                LOOK
            });
        }
    }
}

fn sent(signal: StopSignal) -> Signal {
    match signal {
        StopSignal::Int => Signal::Interrupt,
        StopSignal::Term => Signal::Terminate,
    }
}
