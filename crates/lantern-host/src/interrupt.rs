//! What becomes of somebody's wish that what is under way should end: Ctrl-C, or a signal that asks for it.
//!
//! Before a server is stopped it is called off. Afterwards half an exchange is of no use to anybody: it goes on to its
//! end, or, where it is wished once more, back to the state before.

use std::sync::atomic::{AtomicBool, AtomicU8, Ordering};
use std::time::{Duration, Instant};

/// How far an operation is, as far as a wish to end it matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Moment {
    /// Nothing was touched: it can be called off.
    Before = 0,
    /// The server is being exchanged: it goes on, or back.
    Exchanging = 1,
    /// There is only one way left, to its end.
    Finishing = 2,
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

static MOMENT: AtomicU8 = AtomicU8::new(Moment::Before as u8);
static CALLED_OFF: AtomicBool = AtomicBool::new(false);
static ASKED: AtomicBool = AtomicBool::new(false);
static BACK: AtomicBool = AtomicBool::new(false);
static WISHED: AtomicBool = AtomicBool::new(false);

/// Somebody wants what is under way to end; says what becomes of that.
pub fn wish() -> Wish {
    WISHED.store(true, Ordering::Relaxed);
    match MOMENT.load(Ordering::Relaxed) {
        moment if moment == Moment::Before as u8 => {
            CALLED_OFF.store(true, Ordering::Relaxed);
            Wish::CallsOff
        }
        moment if moment == Moment::Exchanging as u8 => {
            if ASKED.swap(true, Ordering::Relaxed) {
                BACK.store(true, Ordering::Relaxed);
                return Wish::GoesBack;
            }
            Wish::GoesOn
        }
        _ => Wish::Finishes,
    }
}

/// Between two operations of several: whether somebody has wished that they end.
pub fn between() -> bool {
    enter(Moment::Before);
    WISHED.load(Ordering::Relaxed)
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

/// An operation has come so far.
pub(crate) fn enter(moment: Moment) {
    MOMENT.store(moment as u8, Ordering::Relaxed);
}
