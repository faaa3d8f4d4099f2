//! The one gate through which every change that a changeover makes to the disk passes.
//!
//! In the program it does nothing. In tests a fault can be set at the n-th change: it fails as a full
//! or broken disk would, or it is the last one, as for a killed process.

#[cfg(not(test))]
use std::io;

/// Called right before each single change to the disk.
///
/// # Errors
/// Never in the program; in tests where a fault is set.
#[cfg(not(test))]
pub(crate) fn step() -> io::Result<()> {
    Ok(())
}

#[cfg(test)]
pub(crate) use faults::step;

#[cfg(test)]
pub(crate) mod faults {
    use std::cell::Cell;
    use std::io;
    use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};

    /// What happens at a change to the disk.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub(crate) enum Fault {
        /// It fails, and those after it succeed.
        Fails,
        /// It and all after it fail: the disk has become unwritable.
        Unwritable,
        /// The process is killed before it.
        Kills,
    }

    struct Killed;

    thread_local! {
        static AT: Cell<Option<(u64, Fault)>> = const { Cell::new(None) };
        static SEEN: Cell<u64> = const { Cell::new(0) };
    }

    pub(crate) fn step() -> io::Result<()> {
        let number = SEEN.get();
        SEEN.set(number + 1);
        match AT.get() {
            Some((at, Fault::Fails)) if number == at => Err(io::ErrorKind::StorageFull.into()),
            Some((at, Fault::Unwritable)) if number >= at => {
                Err(io::ErrorKind::ReadOnlyFilesystem.into())
            }
            Some((at, Fault::Kills)) if number >= at => resume_unwind(Box::new(Killed)),
            _ => Ok(()),
        }
    }

    /// Does something with a fault at its n-th change; none when it was killed. Tells how many
    /// changes there were.
    pub(crate) fn with<T>(at: u64, fault: Fault, work: impl FnOnce() -> T) -> (Option<T>, u64) {
        AT.set(Some((at, fault)));
        SEEN.set(0);
        let done = catch_unwind(AssertUnwindSafe(work));
        AT.set(None);
        match done {
            Ok(value) => (Some(value), SEEN.get()),
            Err(panic) if panic.is::<Killed>() => (None, SEEN.get()),
            Err(panic) => resume_unwind(panic),
        }
    }
}
