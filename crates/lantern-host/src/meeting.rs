//! Operations of several servers that wait for one another, each in a thread of its own.

use crate::changeover::fault::ChangeoverFault;
use crate::interrupt;
use lantern_core::group::{Gate, Passes, Together};
use lantern_core::operation::OperationKind;
use std::collections::BTreeSet;
use std::fmt;
use std::ops::Deref;
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
        Seat(Arc::new(Here {
            meeting: Arc::clone(self),
            who,
        }))
    }

    /// A server's own place there, for one whose operation is under way elsewhere.
    pub fn proxy(self: &Arc<Meeting>, who: usize) -> Proxy {
        Proxy {
            meeting: Arc::clone(self),
            who,
        }
    }

    fn together(&self) -> MutexGuard<'_, Together> {
        self.together.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A server's own place at a meeting, wherever that is held.
#[derive(Debug, Clone)]
pub struct Seat(Arc<dyn Attendance>);

/// What a server's operation does at a meeting.
pub trait Attendance: fmt::Debug + Send + Sync {
    /// Waits at a gate until it lets this server through.
    ///
    /// # Errors
    /// [`ChangeoverFault::TurnedBack`] where something went wrong at another one; [`ChangeoverFault::CalledOff`] or
    /// [`ChangeoverFault::CalledBack`] where somebody wants it to end meanwhile.
    fn arrive(&self, gate: Gate, kind: OperationKind) -> Result<(), ChangeoverFault>;

    /// For how long the longest of them warns its players.
    fn warns(&self) -> Duration;

    /// Something went wrong at this server.
    fn fails(&self);

    /// Whether this server turned back for what went wrong at another.
    fn has_turned_back(&self) -> bool;

    /// Its operation has ended.
    fn ends(&self, succeeded: bool);
}

impl Seat {
    /// One at a meeting that is held elsewhere.
    pub fn of(attendance: impl Attendance + 'static) -> Seat {
        Seat(Arc::new(attendance))
    }
}

impl Deref for Seat {
    type Target = dyn Attendance;

    fn deref(&self) -> &(dyn Attendance + 'static) {
        &*self.0
    }
}

/// What becomes of a wish that it should end, where it waits at a gate.
///
/// # Errors
/// [`ChangeoverFault::CalledOff`] or [`ChangeoverFault::CalledBack`] where it ends there.
pub(crate) fn heeded(gate: Gate, kind: OperationKind) -> Result<(), ChangeoverFault> {
    if gate <= Gate::AskToStop && interrupt::called_off() {
        return Err(ChangeoverFault::CalledOff(kind));
    }
    let can_go_back = (Gate::Stop..=Gate::Settle).contains(&gate);
    if can_go_back && interrupt::wants_back() {
        return Err(ChangeoverFault::CalledBack);
    }
    Ok(())
}

/// One at a meeting that is held here.
#[derive(Debug)]
struct Here {
    meeting: Arc<Meeting>,
    who: usize,
}

impl Attendance for Here {
    fn arrive(&self, gate: Gate, kind: OperationKind) -> Result<(), ChangeoverFault> {
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
            heeded(gate, kind)?;
            let waited = self.meeting.changed.wait_timeout(together, LOOK);
            together = waited.unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    fn warns(&self) -> Duration {
        self.meeting.warns
    }

    fn fails(&self) {
        self.meeting.together().fails(self.who);
        self.meeting.changed.notify_all();
    }

    fn has_turned_back(&self) -> bool {
        self.meeting.together().has_turned_back(self.who)
    }

    fn ends(&self, succeeded: bool) {
        let mut together = self.meeting.together();
        if !succeeded {
            together.fails(self.who);
        }
        together.ends(self.who);
        self.meeting.changed.notify_all();
    }
}

/// Speaks at a meeting for a server whose operation is under way elsewhere.
#[derive(Debug, Clone)]
pub struct Proxy {
    meeting: Arc<Meeting>,
    who: usize,
}

impl Proxy {
    /// Its own seat.
    pub fn seat(&self) -> Seat {
        self.meeting.seat(self.who)
    }

    /// It has come to a gate.
    pub fn arrives(&self, gate: Gate) {
        self.meeting.together().arrives(self.who, gate);
        self.meeting.changed.notify_all();
    }

    /// Whether the gate that it has come to lets it through; none where it has to wait, else at which other one something went wrong.
    pub fn passes(&self) -> Option<Result<(), String>> {
        match self.meeting.together().passes(self.who) {
            Passes::Yes => Some(Ok(())),
            Passes::TurnsBack(other) => Some(Err(self.meeting.names[other].clone())),
            Passes::NotYet => None,
        }
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
            seat.ends(self.succeeded);
        }
    }
}
