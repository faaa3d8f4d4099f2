//! What stands in the way and what helps, as values.

use super::fact::Fact;
use crate::component::{ClientVersion, Id};
use crate::version::{Range, Version};
use std::collections::BTreeSet;

/// At most so many facts of one conflict are told: nobody takes in more.
pub(super) const MOST_TOLD: usize = 24;

/// Why there is no answer.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Obstacle {
    /// The conflicts, each for itself enough; none when the search was given up.
    pub conflicts: Vec<Conflict>,
}

/// Facts that cannot hold together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Conflict {
    /// The facts.
    pub facts: BTreeSet<Fact>,
    /// Whether it was shown that the others can hold together when any one is taken away; else that took too long.
    pub minimal: bool,
    /// Further sets of facts that cannot hold together for a cause that is among those facts.
    pub alike: Vec<BTreeSet<Fact>>,
    /// What was tried with the other conflicts out of the way, and helps.
    pub remedies: Vec<Remedy>,
    /// How many ways out were not tried, as there are too many.
    pub untried: usize,
}

impl Conflict {
    /// Its own facts, and those of all that is alike.
    pub(super) fn all(&self) -> impl Iterator<Item = &BTreeSet<Fact>> {
        std::iter::once(&self.facts).chain(&self.alike)
    }
}

impl Obstacle {
    /// The search was given up: there may be an answer or not.
    pub(super) fn gave_up() -> Obstacle {
        Obstacle::default()
    }
}

/// Something that helps.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Remedy {
    /// Take components out, and with them those that need them.
    Drop {
        /// The components.
        ids: Vec<Id>,
        /// What goes with them.
        also: Vec<Id>,
    },
    /// Another server version.
    Version(Version),
    /// Allow these test releases.
    Early(Vec<(Id, Version)>),
    /// Allow these releases that were declared for other server versions.
    Untested(Vec<(Id, Version)>),
    /// Wait for a release of the component for this server version: it helps if it needs no more than its others do.
    Wait(Id),
    /// Put the archive of what is installed on offer.
    Offer(Id),
    /// Let go of a component that is kept at a version.
    Unpin(Id),
    /// Switch a component on that is installed and off.
    SwitchOn(Id),
    /// Switch a component off, which then does not run and hinders nothing.
    SwitchOff(Id),
    /// Let a component stay that was to go.
    Undrop(Id),
    /// Let in, meanwhile, what a release lets in of the same kind of client.
    Meanwhile {
        /// The players who were to be let in.
        players: ClientVersion,
        /// What lets others in, and its version.
        by: (Id, Version),
        /// Whom.
        versions: Range,
    },
}
