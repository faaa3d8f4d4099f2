//! How far long work has come: the bytes that are done, of those there are.
//!
//! There is one meter, as one program does one thing at a time. Whatever goes through many bytes sets it and moves it;
//! whoever shows progress reads it. Work on several things at once has a part for each.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

static DONE: AtomicU64 = AtomicU64::new(0);
static THERE: AtomicU64 = AtomicU64::new(0);
static TOTAL: AtomicU64 = AtomicU64::new(0);
static PARTS: Mutex<Vec<Arc<Part>>> = Mutex::new(Vec::new());

/// How far work has come, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Far {
    /// What is done, or was there before.
    pub done: u64,
    /// As much of that was there before: it says nothing of how fast it goes.
    pub there: u64,
    /// What there is.
    pub total: u64,
}

/// Work on so many bytes begins; 0 where that is not known.
pub fn begin(total: u64) {
    DONE.store(0, Ordering::Relaxed);
    THERE.store(0, Ordering::Relaxed);
    TOTAL.store(total, Ordering::Relaxed);
}

/// So many bytes more are done.
pub(crate) fn did(bytes: u64) {
    DONE.fetch_add(bytes, Ordering::Relaxed);
}

/// So many bytes were there before.
pub(crate) fn had(bytes: u64) {
    THERE.fetch_add(bytes, Ordering::Relaxed);
    did(bytes);
}

fn less(count: &AtomicU64, bytes: u64) {
    let less = |done: u64| Some(done.saturating_sub(bytes));
    let _ = count.fetch_update(Ordering::Relaxed, Ordering::Relaxed, less);
}

/// How far it is; none where nobody said how many bytes there are.
pub fn seen() -> Option<Far> {
    let total = TOTAL.load(Ordering::Relaxed);
    let done = DONE.load(Ordering::Relaxed).min(total);
    let there = THERE.load(Ordering::Relaxed).min(done);
    (total > 0).then_some(Far { done, there, total })
}

/// One of several things that are at work at the same time.
#[derive(Debug)]
pub struct Part {
    /// What it is called.
    pub name: String,
    /// How many bytes it has, where that is known.
    pub total: Option<u64>,
    done: AtomicU64,
    there: AtomicU64,
}

impl Part {
    /// The bytes that are done.
    pub fn done(&self) -> u64 {
        self.done.load(Ordering::Relaxed)
    }
}

/// Moves a part, and with it the whole; when it is dropped, the part is at its end.
#[derive(Debug)]
pub(crate) struct Moving(Arc<Part>);

impl Moving {
    /// Work on a part begins.
    pub(crate) fn begin(name: &str, total: Option<u64>) -> Moving {
        let part = Arc::new(Part {
            name: name.to_owned(),
            total,
            done: AtomicU64::new(0),
            there: AtomicU64::new(0),
        });
        let mut parts = PARTS.lock().unwrap_or_else(PoisonError::into_inner);
        parts.push(part.clone());
        Moving(part)
    }

    /// So many bytes more are done.
    pub(crate) fn did(&self, bytes: u64) {
        self.0.done.fetch_add(bytes, Ordering::Relaxed);
        did(bytes);
    }

    /// So many bytes were there before.
    pub(crate) fn had(&self, bytes: u64) {
        self.0.done.fetch_add(bytes, Ordering::Relaxed);
        self.0.there.fetch_add(bytes, Ordering::Relaxed);
        had(bytes);
    }

    /// It is begun once more.
    pub(crate) fn again(&self) {
        less(&DONE, self.0.done.swap(0, Ordering::Relaxed));
        less(&THERE, self.0.there.swap(0, Ordering::Relaxed));
    }
}

impl Drop for Moving {
    fn drop(&mut self) {
        let mut parts = PARTS.lock().unwrap_or_else(PoisonError::into_inner);
        parts.retain(|part| !Arc::ptr_eq(part, &self.0));
    }
}

/// What is at work just now, the first begun first.
pub fn parts() -> Vec<Arc<Part>> {
    let parts = PARTS.lock().unwrap_or_else(PoisonError::into_inner);
    parts.clone()
}

#[cfg(test)]
mod tests {
    use super::*;

    // One test, as there is one meter.
    #[test]
    fn parts_move_the_whole_and_can_begin_again() {
        begin(100);
        let one = Moving::begin("one", Some(60));
        let two = Moving::begin("two", None);
        one.had(20);
        one.did(10);
        two.did(5);
        let told = || {
            parts()
                .iter()
                .map(|it| (it.name.clone(), it.done()))
                .collect::<Vec<_>>()
        };
        assert_eq!(told(), [("one".to_owned(), 30), ("two".to_owned(), 5)]);
        let far = seen().unwrap();
        assert_eq!((far.done, far.there, far.total), (35, 20, 100));
        one.again();
        drop(two);
        assert_eq!(told(), [("one".to_owned(), 0)]);
        let far = seen().unwrap();
        assert_eq!((far.done, far.there), (5, 0));
        drop(one);
        begin(0);
        assert!(seen().is_none() && parts().is_empty());
    }
}
