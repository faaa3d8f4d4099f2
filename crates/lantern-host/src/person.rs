//! Somebody who starts and stops a server by hand, where lantern has no way to do it.

use std::fmt;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU8, Ordering};

/// Somebody who can be asked to do something by hand.
pub trait Person: fmt::Debug + Send + Sync {
    /// Asks for it.
    fn ask(&self, words: &str);

    /// Says what is waited for.
    fn waits(&self, words: &str);

    /// Whether he has said, since he was asked last, that it is done.
    fn has_said(&self) -> bool;

    /// Whether he can say something at all.
    fn can_say(&self) -> bool;
}

/// What is known of a server on another machine besides what can be seen of it now: of all that look at it in this program.
#[derive(Debug, Clone, Default)]
pub struct Memory {
    said: Arc<AtomicU8>,
    answered: Arc<AtomicBool>,
    settled: Arc<AtomicBool>,
}

impl Memory {
    /// What somebody has said of it last: whether it is up.
    pub(crate) fn said(&self) -> Option<bool> {
        match self.said.load(Ordering::Relaxed) {
            1 => Some(false),
            2 => Some(true),
            _ => None,
        }
    }

    pub(crate) fn says(&self, is_up: Option<bool>) {
        let word = is_up.map_or(0, |is_up| 1 + u8::from(is_up));
        self.said.store(word, Ordering::Relaxed);
    }

    /// Whether it has answered a question, so that no answer says something.
    pub(crate) fn has_answered(&self) -> bool {
        self.answered.load(Ordering::Relaxed)
    }

    pub(crate) fn answers(&self) {
        self.answered.store(true, Ordering::Relaxed);
    }

    /// Whether it was known to be up, or down, since it was started last.
    pub(crate) fn is_settled(&self) -> bool {
        self.settled.load(Ordering::Relaxed)
    }

    pub(crate) fn settles(&self, is_settled: bool) {
        self.settled.store(is_settled, Ordering::Relaxed);
    }
}
