//! Operations of several servers that wait for one another, each in a thread of its own.

use crate::changeover::fault::ChangeoverFault;
use crate::interrupt;
use lantern_core::group::{Gate, Passes, Together};
use lantern_core::operation::OperationKind;
use std::collections::BTreeSet;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// How often it is looked whether somebody has called it off meanwhile.
const LOOK: Duration = Duration::from_millis(50);

/// Where operations of several servers wait for one another.
#[derive(Debug)]
pub struct Meeting {
    /// What the servers are called.
    names: Vec<String>,
    /// For how long the longest warns its players.
    warns: Duration,
    together: Mutex<Together>,
    changed: Condvar,
}

impl Meeting {
    /// Of servers by name, each of which comes up after some others, as indices; so many are at work at once, at most. The longest of them warns
    /// its players for so long: all are stopped then.
    pub fn of(
        names: Vec<String>,
        after: Vec<BTreeSet<usize>>,
        at_once: usize,
        warns: Duration,
    ) -> Arc<Meeting> {
        Arc::new(Meeting {
            names,
            warns,
            together: Mutex::new(Together::new(after, at_once)),
            changed: Condvar::new(),
        })
    }

    /// A server's own place there.
    pub fn seat(self: &Arc<Meeting>, who: usize) -> Seat {
        Seat {
            meeting: Arc::clone(self),
            who,
        }
    }

    fn together(&self) -> MutexGuard<'_, Together> {
        self.together.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A server's own place at a meeting.
#[derive(Debug, Clone)]
pub struct Seat {
    meeting: Arc<Meeting>,
    who: usize,
}

impl Seat {
    /// Waits at a gate until it lets this server through.
    ///
    /// # Errors
    /// [`ChangeoverFault::TurnedBack`] where something went wrong at another one; [`ChangeoverFault::CalledOff`] or
    /// [`ChangeoverFault::CalledBack`] where somebody wants it to end meanwhile.
    pub(crate) fn arrive(&self, gate: Gate, kind: OperationKind) -> Result<(), ChangeoverFault> {
        let mut together = self.meeting.together();
        together.arrives(self.who, gate);
        self.meeting.changed.notify_all();
        loop {
            match together.passes(self.who) {
                Passes::Yes => return Ok(()),
                Passes::TurnsBack(other) => {
                    let other = self.meeting.names[other].clone();
                    return Err(ChangeoverFault::TurnedBack(other));
                }
                Passes::NotYet => {}
            }
            if gate <= Gate::AskToStop && interrupt::called_off() {
                return Err(ChangeoverFault::CalledOff(kind));
            }
            let can_go_back = (Gate::Stop..=Gate::Settle).contains(&gate);
            if can_go_back && interrupt::wants_back() {
                return Err(ChangeoverFault::CalledBack);
            }
            let waited = self.meeting.changed.wait_timeout(together, LOOK);
            together = waited.unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    /// For how long the longest of them warns its players.
    pub(crate) fn warns(&self) -> Duration {
        self.meeting.warns
    }

    /// Something went wrong at this server.
    pub(crate) fn fails(&self) {
        self.meeting.together().fails(self.who);
        self.meeting.changed.notify_all();
    }

    /// Whether this server turned back for what went wrong at another.
    pub fn has_turned_back(&self) -> bool {
        self.meeting.together().has_turned_back(self.who)
    }
}

/// A server's operation that takes part in a meeting, if it has a seat there, until this is dropped.
#[derive(Debug)]
pub struct Attends {
    seat: Option<Seat>,
    /// Whether it succeeded.
    pub succeeded: bool,
}

impl Attends {
    /// One that has not succeeded yet.
    pub fn at(seat: Option<Seat>) -> Attends {
        Attends {
            seat,
            succeeded: false,
        }
    }
}

impl Drop for Attends {
    fn drop(&mut self) {
        if let Some(seat) = &self.seat {
            let mut together = seat.meeting.together();
            if !self.succeeded {
                together.fails(seat.who);
            }
            together.ends(seat.who);
            seat.meeting.changed.notify_all();
        }
    }
}
