//! How far long work has come: the bytes that are done, of those there are.
//!
//! There is one meter, as one program does one thing at a time. Whatever goes through many bytes sets it and moves it;
//! whoever shows progress reads it.

use std::sync::atomic::{AtomicU64, Ordering};

static DONE: AtomicU64 = AtomicU64::new(0);
static TOTAL: AtomicU64 = AtomicU64::new(0);

/// Work on so many bytes begins; 0 where that is not known.
pub fn begin(total: u64) {
    DONE.store(0, Ordering::Relaxed);
    TOTAL.store(total, Ordering::Relaxed);
}

/// So many bytes more are done.
pub(crate) fn did(bytes: u64) {
    DONE.fetch_add(bytes, Ordering::Relaxed);
}

/// So many of them have to be done once more.
pub(crate) fn undid(bytes: u64) {
    let less = |done: u64| Some(done.saturating_sub(bytes));
    let _ = DONE.fetch_update(Ordering::Relaxed, Ordering::Relaxed, less);
}

/// The bytes that are done and those there are; none where nobody said how many.
pub fn seen() -> Option<(u64, u64)> {
    let total = TOTAL.load(Ordering::Relaxed);
    let done = DONE.load(Ordering::Relaxed);
    (total > 0).then_some((done.min(total), total))
}
