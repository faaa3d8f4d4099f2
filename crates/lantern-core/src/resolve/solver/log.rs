//! What a search concluded, step by step, for somebody who does not trust it.

use super::{Lit, Var};

/// One step; it holds with what the request says and all steps before it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(in crate::resolve) enum Step {
    /// The helper holds if, and only if, all of these do; nothing was said of it before.
    All(Var, Vec<Lit>),
    /// One of these holds: with all of them false, conclusions from single literals alone come to a contradiction.
    Follows(Vec<Lit>),
    /// One of these holds: with all of them false, more slots of a kind are taken than any build left has.
    Room(Vec<Lit>),
    /// One of these holds: with all of them false, more takers than there are places have to have one of their values.
    Crowd(Crowd),
}

/// More takers than places.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(in crate::resolve) struct Crowd {
    /// What has to hold for that not to be so.
    pub(in crate::resolve) follows: Vec<Lit>,
    /// The values of each taker, in these places; no two of them have one in common.
    pub(in crate::resolve) takers: Vec<Vec<Lit>>,
    /// Values of which at most one can hold.
    pub(in crate::resolve) places: Vec<Vec<Lit>>,
}

/// The steps so far; none where nobody asked for them.
#[derive(Debug, Default)]
pub(super) struct Log(Option<Vec<Step>>);

impl Log {
    /// Steps are kept from here on.
    pub(super) fn begin(&mut self) {
        self.0 = Some(Vec::new());
    }

    pub(super) fn is_kept(&self) -> bool {
        self.0.is_some()
    }

    pub(super) fn note(&mut self, step: impl FnOnce() -> Step) {
        if let Some(steps) = &mut self.0 {
            steps.push(step());
        }
    }

    pub(super) fn take(&mut self) -> Vec<Step> {
        self.0.take().unwrap_or_default()
    }
}
