//! The one table of what comes next: on the way forward, on the way back, and after a cut.
//!
//! Whoever carries an operation out asks it, does what it says in order, and asks again when a phase has
//! begun or something has failed. It ends with the new state or the state before, with a server up that
//! was up; or it says in words why not, and leaves the journal for the next command.

use super::{Facts, OperationKind, Phase};

/// One thing to be done.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// Unpack and check beside the server all that comes, and bring it to the disk.
    Stage,
    /// Back the keep list up while the server runs.
    FirstBackup,
    /// Tell players, and wait as long as is set.
    Warn,
    /// Ask the server to stop, and wait until it is down.
    Stop,
    /// Wait once more for a server that was asked to stop and was slow.
    AwaitStop,
    /// Back up what of the keep list has changed since.
    SecondBackup,
    /// With the server down: look again at what is about to be moved, and that nothing has started the server.
    LookAgain,
    /// With the server down: find out what has to be renamed, as the server may have written until now.
    DrawMoves,
    /// Write down that a phase begins; if that succeeds, it has begun.
    Enter(Phase),
    /// End whatever runs in the server folder.
    EndWhatRuns,
    /// Do all renames that are not done.
    Swap,
    /// Compare the keep list with what the backup before the swap saw.
    CompareKept,
    /// Start the server with the new state, and wait until it is ready.
    Start,
    /// Look whether it runs as planned.
    Verify,
    /// Start the server that ran before; its error lines are its own affair.
    StartAgain,
    /// Take back all renames that are done.
    SwapBack,
    /// Set aside what the failed start wrote into new files.
    SetAsideRewritten,
    /// Write down in the ledger that it succeeded, and how it is taken back.
    Record,
    /// Write down in the ledger that it failed, and why. That the history lacks it stops nothing.
    RecordFailure,
    /// Remove what was staged and not used, and the journal.
    TidyUp,
    /// It has come to its end.
    End(Ending),
}

/// How an operation ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ending {
    /// No file was touched, and a server that was up is up.
    Untouched,
    /// It succeeded.
    Done,
    /// All files are exchanged and stay so, but the server is not up as it should be.
    DoneBadly,
    /// It failed or was called back, and the state before is back.
    Back,
    /// Nothing of it was done: it begins anew, with every check.
    Anew,
    /// It had succeeded before it was cut off, and is taken back as any other that has.
    TakeBack,
    /// It cannot go on by itself; the journal stays, and the next command goes on or back.
    Stuck(Stuck),
}

/// Why an operation cannot go on by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stuck {
    /// The server was asked to stop and is neither down nor up for good.
    StillStopping,
    /// No file was touched, but the server does not come up again.
    NotUpAgain,
    /// The state before is back, but the server does not come up with it.
    NotUpWithOld,
    /// Something runs in the folder that lantern cannot end.
    OutOfReach,
    /// Not all renames could be taken back.
    HalfBack,
    /// The disk takes nothing down.
    Unwritable,
    /// All is done; only what is left over could not be removed.
    LeftOver,
}

impl Stuck {
    /// In which state things are, in a sentence.
    pub fn state(self) -> &'static str {
        match self {
            Stuck::StillStopping => {
                "The server was asked to stop and is still at it; nobody will start it again when it is down. No file was touched"
            }
            Stuck::NotUpAgain => {
                "No file was touched, but the server does not come up again as it should"
            }
            Stuck::NotUpWithOld => {
                "All files are as before, but the server does not come up with them as it should"
            }
            Stuck::OutOfReach => "Something runs in the server folder that lantern cannot end",
            Stuck::HalfBack => {
                "Some files are new and some are as before: not all could be put back"
            }
            Stuck::Unwritable => "The disk takes nothing down, so it stays where it is",
            Stuck::LeftOver => {
                "All files are where they belong; only what is left over could not be removed"
            }
        }
    }
}

/// What of the world decides what comes next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Seen {
    /// The server.
    pub server: ServerSeen,
    /// Whether the ledger has it written down as succeeded.
    pub recorded: bool,
    /// How this phase was come to.
    pub came: Came,
    /// What has failed since the table was last asked.
    pub trouble: Option<Trouble>,
    /// Whether the server was found not to be as it should be, and the new state stays all the same.
    pub bad: bool,
}

/// Whether the server is up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ServerSeen {
    /// It is not.
    Down,
    /// It is.
    Up,
    /// Of several servers that an operation stops and starts, some are up, and some that were up before are not.
    Partly,
    /// Nobody can tell.
    Unknown,
}

impl ServerSeen {
    /// Whether something has to be started, so that what was up before is up again.
    fn lacks(self) -> bool {
        matches!(self, ServerSeen::Down | ServerSeen::Partly)
    }
}

/// How a phase was come to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Came {
    /// By the operation itself, just now.
    Itself,
    /// It was cut off in it, and somebody now wants it to go on or back.
    CutOff(Direction),
}

/// What somebody wants of an operation that was cut off.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Direction {
    /// That it goes on to its end.
    Onward,
    /// That the server is as before it.
    Back,
}

/// What failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Trouble {
    /// The action that failed.
    pub at: Action,
    /// Whether it was only slower than its limit, and is still under way.
    pub slow: bool,
}

/// What comes next. The last of the actions enters a phase or ends the operation.
pub fn next(facts: Facts, phase: Phase, seen: Seen) -> Vec<Action> {
    match (seen.trouble, seen.came) {
        (Some(trouble), _) => after(facts, phase, seen, trouble),
        (None, Came::Itself) => forward(facts, phase, seen),
        (None, Came::CutOff(_)) if seen.recorded => had_succeeded(facts, phase, seen),
        (None, Came::CutOff(direction)) => recovered(facts, phase, seen, direction),
    }
}

/// What a phase holds when all goes well.
fn forward(facts: Facts, phase: Phase, seen: Seen) -> Vec<Action> {
    use Action::*;
    let is_changeover = facts.kind == OperationKind::Changeover;
    match phase {
        Phase::Preparing => {
            let mut actions = vec![Stage];
            actions.extend(is_changeover.then_some(FirstBackup));
            let warns = is_changeover || facts.kind == OperationKind::Undo && facts.was_up;
            actions.extend(warns.then_some(Warn));
            actions.push(Enter(Phase::Stopping));
            actions
        }
        Phase::Stopping => {
            let mut actions = vec![Stop];
            actions.extend(match facts.kind {
                OperationKind::Changeover => vec![SecondBackup, LookAgain],
                OperationKind::Undo | OperationKind::Restore => vec![DrawMoves, LookAgain],
            });
            actions.push(Enter(Phase::Swapping));
            actions
        }
        Phase::Swapping if is_changeover => vec![Swap, CompareKept, Enter(Phase::Starting)],
        Phase::Swapping => vec![Swap, Enter(Phase::Starting)],
        Phase::Starting if is_changeover => vec![Start, Verify, Record, Enter(Phase::Ending)],
        Phase::Starting if facts.was_up => vec![StartAgain, Record, Enter(Phase::Ending)],
        Phase::Starting => vec![Record, Enter(Phase::Ending)],
        Phase::GoingBack => {
            let mut actions = vec![EndWhatRuns, SwapBack];
            actions.extend(facts.was_up.then_some(StartAgain));
            actions.extend(put_back());
            actions
        }
        Phase::Ending => vec![TidyUp, End(ended(seen))],
    }
}

/// What is left to do when the state before is back.
fn put_back() -> [Action; 3] {
    [
        Action::SetAsideRewritten,
        Action::RecordFailure,
        Action::Enter(Phase::Ending),
    ]
}

/// How an operation ends that has only to be tidied up after.
fn ended(seen: Seen) -> Ending {
    match (seen.recorded, seen.bad) {
        (true, false) => Ending::Done,
        (true, true) => Ending::DoneBadly,
        (false, _) => Ending::Back,
    }
}

/// An operation of which no file was touched comes to its end; a server that was up comes up.
fn untouched(facts: Facts, seen: Seen, ending: Ending) -> Vec<Action> {
    let mut actions = Vec::new();
    let lacks = facts.was_up && seen.server.lacks();
    actions.extend(lacks.then_some(Action::StartAgain));
    actions.extend([Action::TidyUp, Action::End(ending)]);
    actions
}

/// The same, for one that had asked the server to stop: that stands in the history.
fn stopped_in_vain(facts: Facts, seen: Seen) -> Vec<Action> {
    let mut actions = untouched(facts, seen, Ending::Untouched);
    let before_the_end = actions.len() - 2;
    actions.insert(before_the_end, Action::RecordFailure);
    actions
}

/// What comes next when something has failed.
fn after(facts: Facts, phase: Phase, seen: Seen, trouble: Trouble) -> Vec<Action> {
    use Action::*;
    let is_down = seen.server == ServerSeen::Down;
    let stuck = |why| vec![End(Ending::Stuck(why))];
    match (phase, trouble.at) {
        (_, TidyUp) => stuck(Stuck::LeftOver),
        (_, StartAgain) if seen.recorded => vec![TidyUp, End(ended(seen))],
        // Nothing of it was touched, and the server was asked nothing.
        (Phase::Preparing | Phase::Stopping, StartAgain) => stuck(Stuck::NotUpAgain),
        (Phase::Preparing, _) => vec![TidyUp, End(Ending::Untouched)],
        // It has been told to stop, or may have been before the cut: it goes down sooner or later, and has
        // to be brought up again then.
        (Phase::Stopping, AwaitStop) if !is_down => stuck(Stuck::StillStopping),
        (Phase::Stopping, Stop) if !is_down && !trouble.slow && seen.came != Came::Itself => {
            stuck(Stuck::StillStopping)
        }
        (Phase::Stopping, Stop) if trouble.slow && !is_down => {
            let mut actions = vec![AwaitStop];
            let down = Seen {
                server: ServerSeen::Down,
                ..seen
            };
            actions.extend(stopped_in_vain(facts, down));
            actions
        }
        (Phase::Stopping, _) => stopped_in_vain(facts, seen),
        (Phase::Swapping | Phase::Starting, Enter(Phase::GoingBack)) => stuck(Stuck::Unwritable),
        (Phase::Swapping, EndWhatRuns) | (Phase::Starting, EndWhatRuns) => stuck(Stuck::OutOfReach),
        (Phase::Swapping, _) => vec![Enter(Phase::GoingBack)],
        (Phase::Starting, Start | Verify | StartAgain) if facts.stays => {
            vec![Record, Enter(Phase::Ending)]
        }
        (Phase::Starting, Start | Verify | StartAgain) => vec![Enter(Phase::GoingBack)],
        // It is recorded: what could not be written down is only that nothing but tidying up is left.
        (Phase::Starting, Enter(Phase::Ending)) => vec![TidyUp, End(ended(seen))],
        (Phase::Starting, _) => stuck(Stuck::Unwritable),
        (Phase::GoingBack, EndWhatRuns) => stuck(Stuck::OutOfReach),
        (Phase::GoingBack, SwapBack) => stuck(Stuck::HalfBack),
        // Even where something is up: what it is, nobody knows.
        (Phase::GoingBack, StartAgain) => stuck(Stuck::NotUpWithOld),
        (Phase::GoingBack, Enter(Phase::Ending)) => vec![TidyUp, End(Ending::Back)],
        (Phase::GoingBack, _) => stuck(Stuck::Unwritable),
        (Phase::Ending, _) => stuck(Stuck::LeftOver),
    }
}

/// It was cut off after it had been written down as succeeded.
fn had_succeeded(facts: Facts, phase: Phase, seen: Seen) -> Vec<Action> {
    use Action::*;
    let Came::CutOff(direction) = seen.came else {
        return forward(facts, phase, seen);
    };
    if direction == Direction::Back && facts.kind != OperationKind::Undo {
        return vec![TidyUp, End(Ending::TakeBack)];
    }
    let mut actions = Vec::new();
    let lacks = facts.was_up && seen.server.lacks();
    actions.extend(lacks.then_some(StartAgain));
    actions.extend([TidyUp, End(ended(seen))]);
    actions
}

/// It was cut off, and is to go on or back.
fn recovered(facts: Facts, phase: Phase, seen: Seen, direction: Direction) -> Vec<Action> {
    use Action::*;
    // Whoever takes an undo back wants what it is there for.
    let onward = direction == Direction::Onward || facts.kind == OperationKind::Undo;
    match phase {
        Phase::Preparing if onward => untouched(facts, seen, Ending::Anew),
        Phase::Preparing => untouched(facts, seen, Ending::Untouched),
        Phase::Stopping if onward => forward(facts, phase, seen),
        Phase::Stopping if facts.was_up => {
            // It may be on its way down: that comes to its end first.
            let down = Seen {
                server: ServerSeen::Down,
                ..seen
            };
            let mut actions = vec![Stop];
            actions.extend(stopped_in_vain(facts, down));
            actions
        }
        Phase::Stopping => stopped_in_vain(facts, seen),
        Phase::Swapping if onward => [vec![EndWhatRuns], forward(facts, phase, seen)].concat(),
        // What its own start left running, up or half up, is no witness of the new state.
        Phase::Starting if onward && facts.kind == OperationKind::Changeover => {
            [vec![EndWhatRuns], forward(facts, phase, seen)].concat()
        }
        Phase::Starting if onward && seen.server == ServerSeen::Up => {
            vec![Record, Enter(Phase::Ending)]
        }
        Phase::Starting if onward => forward(facts, phase, seen),
        Phase::Swapping | Phase::Starting => vec![Enter(Phase::GoingBack)],
        Phase::GoingBack | Phase::Ending => forward(facts, phase, seen),
    }
}
