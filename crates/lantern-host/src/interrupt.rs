//! What becomes of somebody's wish that what is under way should end: Ctrl-C, or a signal that asks for it.
//!
//! Before a server is stopped it is called off. Afterwards half an exchange is of no use to anybody: it goes on to its
//! end, or, where it is wished once more, back to the state before.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// How far an operation is, as far as a wish to end it matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Moment {
    /// Nothing was touched: it can be called off.
    Before,
    /// The server is being exchanged: it goes on, or back.
    Exchanging,
    /// There is only one way left, to its end.
    Finishing,
}

/// What becomes of a wish.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wish {
    /// It is called off, as soon as it can.
    CallsOff,
    /// It goes on; a second wish takes it back.
    GoesOn,
    /// It goes back, as soon as it can.
    GoesBack,
    /// It goes on, as there is no other way left.
    Finishes,
}

/// How far each of the operations is that are under way.
static UNDER_WAY: Mutex<BTreeMap<u64, Moment>> = Mutex::new(BTreeMap::new());
static NEXT: AtomicU64 = AtomicU64::new(0);
static CALLED_OFF: AtomicBool = AtomicBool::new(false);
static ASKED: AtomicBool = AtomicBool::new(false);
static BACK: AtomicBool = AtomicBool::new(false);
static WISHES: AtomicU32 = AtomicU32::new(0);

fn under_way() -> MutexGuard<'static, BTreeMap<u64, Moment>> {
    UNDER_WAY.lock().unwrap_or_else(PoisonError::into_inner)
}

/// An operation that is under way, until it is dropped.
#[derive(Debug)]
pub(crate) struct UnderWay(u64);

impl UnderWay {
    /// One of which nothing was done yet.
    pub(crate) fn begin() -> UnderWay {
        let number = NEXT.fetch_add(1, Ordering::Relaxed);
        under_way().insert(number, Moment::Before);
        UnderWay(number)
    }

    /// It has come so far.
    pub(crate) fn enter(&self, moment: Moment) {
        under_way().insert(self.0, moment);
    }
}

impl Drop for UnderWay {
    fn drop(&mut self) {
        under_way().remove(&self.0);
    }
}

/// Somebody wants what is under way to end; says what becomes of that. Of several operations those are called off that can be, and the others
/// go on, or back.
pub fn wish() -> Wish {
    WISHES.fetch_add(1, Ordering::Relaxed);
    let under_way = under_way();
    let is_any = |moment| under_way.values().any(|it| *it == moment);
    let is_before = under_way.is_empty() || is_any(Moment::Before);
    if is_before {
        CALLED_OFF.store(true, Ordering::Relaxed);
    }
    if is_any(Moment::Exchanging) {
        if ASKED.swap(true, Ordering::Relaxed) {
            BACK.store(true, Ordering::Relaxed);
            return Wish::GoesBack;
        }
        return Wish::GoesOn;
    }
    match is_before {
        true => Wish::CallsOff,
        false => Wish::Finishes,
    }
}

/// Whether somebody has wished that what is under way should end.
pub fn is_wished() -> bool {
    wishes() > 0
}

/// How often somebody has.
pub(crate) fn wishes() -> u32 {
    WISHES.load(Ordering::Relaxed)
}

/// Waits; false where it was called off meanwhile.
pub fn pause(wait: Duration) -> bool {
    let until = Instant::now() + wait;
    while Instant::now() < until {
        if called_off() {
            return false;
        }
        std::thread::sleep(Duration::from_millis(50).min(wait));
    }
    true
}

/// Whether it was called off.
pub(crate) fn called_off() -> bool {
    CALLED_OFF.load(Ordering::Relaxed)
}

/// Whether somebody wants it to go back.
pub(crate) fn wants_back() -> bool {
    BACK.load(Ordering::Relaxed)
}
