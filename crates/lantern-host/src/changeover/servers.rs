//! The servers that an operation stops and starts: the only one, or several that run on one install.

use crate::config::Server;
use crate::console::fault::ConsoleFault;
use crate::console::{Console, ServerState, Started};
use crate::error::{Error, Result};
use crate::verify;
use lantern_core::health::Unshown;
use lantern_core::operation::{Concerned, Operation, ServerSeen};
use std::collections::BTreeSet;
use std::time::Duration;

/// One of the servers that an operation stops and starts, and what was learnt of it.
pub(super) struct One {
    pub(super) server: Server,
    /// Whether it was up when the operation began.
    pub(super) was_up: bool,
    /// The error lines that are nothing new.
    pub(super) known_errors: BTreeSet<String>,
    /// What it did not show before it was stopped.
    pub(super) unshown: Unshown,
    /// Its last start.
    pub(super) started: Option<Started>,
}

impl One {
    pub(super) fn console(&self) -> Console<'_> {
        Console::of(&self.server)
    }

    /// An error that says whose it is.
    fn named(&self, error: Error) -> Error {
        let Some(name) = self.server.which() else {
            return error;
        };
        match error {
            Error::Console(ConsoleFault::DidNotStart { why, last }) => ConsoleFault::DidNotStart {
                why: format!("{name}: {why}"),
                last,
            }
            .into(),
            Error::Console(ConsoleFault::DidNotStop { seconds, who }) => ConsoleFault::DidNotStop {
                seconds,
                who: format!("{name}: {who}"),
            }
            .into(),
            Error::Console(ConsoleFault::StartedAgain { who }) => ConsoleFault::StartedAgain {
                who: format!("{name}: {who}"),
            }
            .into(),
            other => other,
        }
    }
}

/// The servers that an operation stops and starts.
pub(super) struct Servers {
    each: Vec<One>,
    /// Whether others of the install go on running meanwhile.
    are_some: bool,
}

impl Servers {
    /// Those that an operation names; where it names none, all.
    pub(super) fn of(server: &Server, operation: &Operation) -> Servers {
        let named = |one: &Server| {
            let mut known = operation.servers.iter();
            known.find(|known| Some(known.name.as_str()) == one.which())
        };
        let all = server.each();
        let many = all.len();
        let each = all.into_iter().filter_map(|server| {
            let was_up = match operation.servers.is_empty() {
                true => operation.was_up,
                false => named(&server)?.was_up,
            };
            Some(One {
                known_errors: verify::known_errors(&server),
                unshown: Unshown::default(),
                started: None,
                was_up,
                server,
            })
        });
        let each: Vec<One> = each.collect();
        Servers {
            are_some: each.len() < many,
            each,
        }
    }

    /// Whether a file of the keep list is, or may be, written by a server that goes on running meanwhile.
    pub(super) fn spare(&self, path: &str) -> bool {
        spared(self.are_some, self.each.iter().map(|one| &one.server), path)
    }

    /// Whose part of the keep list they have to themselves; none where it is all theirs.
    pub(super) fn whose(&self) -> Option<String> {
        let names = self.each.iter().filter_map(|one| one.server.which());
        let names: Vec<&str> = names.collect();
        self.are_some.then(|| names.join(", "))
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = &One> {
        self.each.iter()
    }

    pub(super) fn iter_mut(&mut self) -> impl Iterator<Item = &mut One> {
        self.each.iter_mut()
    }

    /// Whether they are up, all of them taken together.
    pub(super) fn seen(&self) -> ServerSeen {
        let states: Vec<_> = self.each.iter().map(|one| one.console().state()).collect();
        let is_unknown =
            |state: &Result<ServerState>| matches!(state, Ok(ServerState::Unknown { .. }) | Err(_));
        let is_down = |state: &Result<ServerState>| matches!(state, Ok(ServerState::Down));
        let pairs = self.each.iter().zip(&states);
        let lacks = pairs.filter(|(one, state)| one.was_up && is_down(state));
        match () {
            () if states.iter().any(is_unknown) => ServerSeen::Unknown,
            () if states.iter().all(is_down) => ServerSeen::Down,
            () if lacks.count() > 0 => ServerSeen::Partly,
            () => ServerSeen::Up,
        }
    }

    /// Whether none is up.
    ///
    /// # Errors
    /// When a command line that is asked cannot be run.
    pub(super) fn are_down(&self) -> Result<bool> {
        for one in &self.each {
            if one.console().state()? != ServerState::Down {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Does something with each of them at once, and waits for all; the first error, where there is one.
    fn all<T: Send>(&self, what: impl Fn(&One) -> Result<T> + Sync) -> Result<Vec<T>> {
        let what = &what;
        let done: Vec<Result<T>> = std::thread::scope(|scope| {
            let each = self.each.iter();
            let each = each.map(|one| scope.spawn(move || what(one).map_err(|e| one.named(e))));
            let each: Vec<_> = each.collect();
            let ended = each.into_iter().map(|thread| {
                let ended = thread.join();
                ended.unwrap_or_else(|panic| std::panic::resume_unwind(panic))
            });
            ended.collect()
        });
        done.into_iter().collect()
    }

    /// As [`Console::refuse_up`].
    pub(super) fn refuse_up(&self) -> Result<()> {
        self.all(|one| one.console().refuse_up()).map(|_| ())
    }

    /// As [`Console::stop`], all at once; how long the last of them was waited for, to be stopped by hand.
    pub(super) fn stop(&self) -> Result<Duration> {
        let waited = self.all(|one| one.console().stop())?;
        Ok(waited.into_iter().max().unwrap_or_default())
    }

    /// Stops those that were down before, and were only started to be looked at.
    pub(super) fn stop_what_was_down(&self) -> Result<()> {
        let stop = |one: &One| match one.was_up {
            true => Ok(()),
            false => one.console().stop().map(|_| ()),
        };
        self.all(stop).map(|_| ())
    }

    /// As [`Console::await_stop`].
    pub(super) fn await_stop(&self) -> Result<()> {
        self.all(|one| one.console().await_stop()).map(|_| ())
    }

    /// Ends whatever runs of them.
    pub(super) fn end_what_runs(&self) -> Result<()> {
        let end = |one: &One| match one.console().state()? {
            ServerState::Down => Ok(()),
            _ if one.console().is_by_hand() || one.console().may_be_coming_up() => {
                one.console().stop().map(|_| ())
            }
            ServerState::Foreign { who } => Err(Error::Console(ConsoleFault::NoConsole { who })),
            ServerState::Unknown { why } => Err(Error::Console(ConsoleFault::Unseen { why })),
            ServerState::Ours(_) | ServerState::Reached { .. } => one.console().end_failed_start(),
        };
        self.all(end).map(|_| ())
    }

    /// Starts each, waits until it is ready and the hold is over; `tell` hears that all are starting. With `anew` the new
    /// state is judged by what is printed; else those that were up before are started again, whatever they print.
    pub(super) fn start(&mut self, anew: bool, stays: bool, tell: &mut dyn FnMut()) -> Result<()> {
        let is_meant = |one: &One| anew || one.was_up;
        let begun = self.all(|one| {
            let is_up = !anew && one.console().state()? != ServerState::Down;
            match is_meant(one) && !is_up {
                true => one.console().start().map(Some),
                false => Ok(None),
            }
        })?;
        tell();
        let begun: Vec<_> = self.each.iter().zip(begun).collect();
        let nothing = BTreeSet::new();
        let started = std::thread::scope(|scope| {
            let waits = begun.iter().map(|(one, starting)| {
                let known = if anew { &one.known_errors } else { &nothing };
                let wait = move || {
                    let starting = starting.as_ref()?;
                    let started = one.console().wait_ready(starting, known, !anew || stays);
                    Some(started.map_err(|error| one.named(error)))
                };
                scope.spawn(wait)
            });
            let waits: Vec<_> = waits.collect();
            let ended = waits.into_iter().map(|wait| {
                let ended = wait.join();
                ended.unwrap_or_else(|panic| std::panic::resume_unwind(panic))
            });
            ended
                .map(Option::transpose)
                .collect::<Result<Vec<Option<Started>>>>()
        })?;
        for (one, started) in self.each.iter_mut().zip(started) {
            one.started = started;
        }
        Ok(())
    }

    /// How long the last of them was waited for, to be started by hand, in milliseconds.
    pub(super) fn by_hand_ms(&self) -> u64 {
        let started = self.each.iter().filter_map(|one| one.started.as_ref());
        started.map(|started| started.by_hand_ms).max().unwrap_or(0)
    }

    /// How long it took until the last of them was ready, in milliseconds.
    pub(super) fn ready_ms(&self) -> u64 {
        let started = self.each.iter().filter_map(|one| one.started.as_ref());
        started.map(|started| started.ready_ms).max().unwrap_or(0)
    }
}

/// Whether a file of the keep list belongs to none of these servers alone, where they are only some of those of an install.
pub(super) fn spared<'s>(
    are_some: bool,
    mut each: impl Iterator<Item = &'s Server>,
    path: &str,
) -> bool {
    are_some && !each.any(|one| one.ground().is_own(path))
}

/// Of several servers, which an operation stops and starts, and whether any of them is up; `is_up` finds out whether one is.
///
/// # Errors
/// When one is, or may be, and lantern has no way to it.
pub(super) fn concerned(
    each: &[Server],
    is_up: impl Fn(&Server) -> Result<bool>,
) -> Result<(bool, Vec<Concerned>)> {
    let mut servers = Vec::new();
    let mut any = false;
    for one in each {
        let was_up = is_up(one)?;
        any |= was_up;
        servers.extend(one.which().map(|name| Concerned {
            name: name.to_owned(),
            was_up,
        }));
    }
    Ok((any, servers))
}
