//! The facts of a request that can stand in the way, one by one.

use crate::component::Id;

/// One fact: take it away and the rest may hold together.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Fact {
    /// The server version asked for.
    Target,
    /// The component has to be there: it is installed, asked for, or was fetched by hand.
    Stays(Id),
    /// Its releases run on the server versions that they declare, and on no others.
    Runs(Id),
    /// Its test releases are not taken.
    Early(Id),
    /// Some of its releases were taken back by their makers.
    Withdrawn(Id),
    /// The administrator keeps it where it is.
    Pinned(Id),
    /// It is laid again: what is installed of it does not do.
    Again(Id),
    /// The administrator wants it to go.
    Dropped(Id),
    /// The first needs the second.
    Needs(Id, Id),
    /// The first needs the second to be installed, whether or not it runs.
    NeedsInstalled(Id, Id),
    /// The first needs any of the others.
    NeedsAny(Id, Vec<Id>),
    /// The first takes the second into account where it is there.
    Uses(Id, Id),
    /// The first does not go with the second.
    Clashes(Id, Id),
    /// The first was seen not to start together with the second.
    Learned(Id, Id),
    /// The first takes into account whatever stands in for the second.
    UsesProvided(Id, Id),
    /// The first does not go with whatever stands in for the second.
    ClashesProvided(Id, Id),
    /// The first takes the place of the second.
    Replaces(Id, Id),
    /// The two move together, in one version.
    Companions(Id, Id),
    /// Only one of a group may be there.
    Group(String),
    /// The builds have only so many slots of a kind.
    Room(String),
    /// It runs on certain framework versions.
    Framework(Id),
    /// It runs on certain versions of the build's runtime.
    Runtime(Id),
    /// It wants a certain flavour of build.
    Flavour(Id),
}

impl Fact {
    /// The component that has to be there, where it says that.
    pub(super) fn wish(&self) -> Option<&Id> {
        match self {
            Fact::Stays(id) => Some(id),
            _ => None,
        }
    }

    /// The same said by the other one, where it means both alike.
    pub(super) fn turned(&self) -> Option<Fact> {
        match self {
            Fact::Clashes(a, b) => Some(Fact::Clashes(b.clone(), a.clone())),
            Fact::Companions(a, b) => Some(Fact::Companions(b.clone(), a.clone())),
            _ => None,
        }
    }

    /// The components that it names.
    pub fn names(&self) -> Vec<Id> {
        match self {
            Fact::Target | Fact::Group(_) | Fact::Room(_) => Vec::new(),
            Fact::Stays(id)
            | Fact::Runs(id)
            | Fact::Early(id)
            | Fact::Withdrawn(id)
            | Fact::Pinned(id)
            | Fact::Again(id)
            | Fact::Dropped(id)
            | Fact::Framework(id)
            | Fact::Runtime(id)
            | Fact::Flavour(id) => vec![id.clone()],
            Fact::Needs(a, b)
            | Fact::NeedsInstalled(a, b)
            | Fact::Uses(a, b)
            | Fact::Clashes(a, b)
            | Fact::Learned(a, b)
            | Fact::UsesProvided(a, b)
            | Fact::ClashesProvided(a, b)
            | Fact::Replaces(a, b)
            | Fact::Companions(a, b) => vec![a.clone(), b.clone()],
            Fact::NeedsAny(id, others) => {
                let mut names = others.clone();
                names.push(id.clone());
                names
            }
        }
    }
}
