//! What a component, a release and a need are.

use crate::version::{Range, Version};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::borrow::Borrow;
use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

/// The id of a component, in the one spelling that its family uses.
#[derive(
    Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema,
)]
#[serde(from = "String", into = "String")]
pub struct Id(Arc<str>);

impl Id {
    /// Makes an id of a text that is already spelled as the family spells ids.
    pub fn new(text: &str) -> Id {
        Id(text.trim().into())
    }

    /// The id as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl From<String> for Id {
    fn from(text: String) -> Id {
        Id::new(&text)
    }
}

impl From<Id> for String {
    fn from(id: Id) -> String {
        id.0.as_ref().into()
    }
}

impl Borrow<str> for Id {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Id {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// What a component is to the server; the order is that of the layers, lowest first.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// The server program.
    Build,
    /// Laid over the build, makes it moddable.
    Framework,
    /// A curated set with members and files of its own.
    Pack,
    /// A plugin, mod, script resource or library.
    Addon,
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Kind::Build => "build",
            Kind::Framework => "framework",
            Kind::Pack => "pack",
            Kind::Addon => "addon",
        })
    }
}

/// Where a component has to be installed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    /// On the server alone.
    Server,
    /// On the players' clients alone.
    Client,
    /// On both, in the same version.
    Both,
}

impl Side {
    /// Reads a side as descriptors and catalogues spell it.
    pub fn read(text: &str) -> Option<Side> {
        match text.trim().to_ascii_lowercase().as_str() {
            "server" => Some(Side::Server),
            "client" => Some(Side::Client),
            "both" | "all" => Some(Side::Both),
            _ => None,
        }
    }
}

impl fmt::Display for Side {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Side::Server => "server",
            Side::Client => "client",
            Side::Both => "both",
        })
    }
}

/// What a component does to play: a server with any that changes it has to be listed as modded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Effect {
    /// It changes play.
    Play,
    /// It is for administrators alone.
    Admin,
}

impl Effect {
    /// Reads an effect as descriptors spell it.
    pub fn read(text: &str) -> Option<Effect> {
        match text.trim().to_ascii_lowercase().as_str() {
            "play" => Some(Effect::Play),
            "admin" => Some(Effect::Admin),
            _ => None,
        }
    }
}

/// Another component that one needs, uses or clashes with, and in which versions.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Need {
    /// The other component.
    pub id: Id,
    /// Which of its versions are meant.
    pub range: Range,
}

impl Need {
    /// Whether what is there under an id is what it asks for; without a version it is every version.
    ///
    /// Every need, use and clash is decided here.
    pub fn is_met_by(&self, id: &Id, version: Option<&Version>) -> bool {
        self.id == *id && version.is_none_or(|version| self.range.holds_early(version))
    }
}

impl fmt::Display for Need {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.range.is_any() {
            write!(f, "{}", self.id)
        } else {
            write!(f, "{} {}", self.id, self.range)
        }
    }
}

/// What one version of a component says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Facts {
    /// Which component.
    pub id: Id,
    /// What it is to the server.
    pub kind: Kind,
    /// Its name for people, where it has one besides the id.
    pub title: Option<String>,
    /// Its version.
    pub version: Version,
    /// Server versions it was made for; `None` when nobody declared any.
    pub server: Option<Range>,
    /// What must be there.
    pub needs: Vec<Need>,
    /// What is taken into account where it is there: then the range binds.
    pub uses: Vec<Need>,
    /// What must not be there beside it.
    pub clashes: Vec<Need>,
    /// Other ids that it stands in for.
    pub provides: Vec<Provided>,
    /// The members of a pack that run; empty for all else.
    pub members: Vec<Member>,
    /// Where it has to be installed; `None` when nobody declared it.
    pub side: Option<Side>,
    /// What it does to play; `None` when nobody declared it.
    pub effect: Option<Effect>,
    /// Whether the world holds its content; `None` when nobody declared it.
    pub world_bound: Option<bool>,
    /// What else it asks for; empty for most.
    pub terms: Terms,
    /// What a server build offers; empty for all else.
    pub build: BuildFacts,
}

/// An id that a component stands in for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Provided {
    /// The id.
    pub id: Id,
    /// In which version; without one it stands in for every version.
    pub version: Option<Version>,
}

/// A component inside a pack: it comes and goes with the pack.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Which component.
    pub id: Id,
    /// Its own version.
    pub version: Version,
    /// The group that it is of.
    pub group: Option<String>,
}

/// What a release may ask for besides needs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Terms {
    /// Of each of these lists at least one must be there.
    pub needs_any: Vec<Vec<Need>>,
    /// Framework versions that it runs on.
    pub framework: Option<Range>,
    /// Versions of the build's runtime that it runs on.
    pub runtime: Option<Range>,
    /// The flavour of build that it wants.
    pub flavour: Option<String>,
    /// Components whose place it takes: they go, and it stands in for them.
    pub replaces: Vec<Id>,
    /// A group of which only one may be there.
    pub group: Option<String>,
    /// Components that have to be started after it, where they are there.
    pub before: Vec<Id>,
    /// Components that have to be started before it, where they are there.
    pub after: Vec<Id>,
    /// Components that move together with it: where one is there, it is of the same version.
    pub companions: Vec<Id>,
    /// What it takes of each kind of slot.
    pub takes: BTreeMap<String, u64>,
    /// Whether it is published as a test release, whatever its version says.
    pub early: bool,
    /// Whether its makers took it back.
    pub withdrawn: bool,
}

/// What a server build offers to what runs on it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct BuildFacts {
    /// The version of its runtime.
    pub runtime: Option<Version>,
    /// Its flavours: what kinds of components it can run.
    pub flavours: Vec<String>,
    /// How many slots it has of each kind; a kind that is not stated has no limit.
    pub has: BTreeMap<String, u64>,
    /// The protocol that its clients speak.
    pub protocol: Option<String>,
    /// Server versions whose worlds it can bring forward; `None` when nobody declared any.
    pub worlds_from: Option<Range>,
}

impl Facts {
    /// The least that a component says of itself.
    pub fn new(id: Id, kind: Kind, version: Version) -> Facts {
        Facts {
            id,
            kind,
            title: None,
            version,
            server: None,
            needs: Vec::new(),
            uses: Vec::new(),
            clashes: Vec::new(),
            provides: Vec::new(),
            members: Vec::new(),
            side: None,
            effect: None,
            world_bound: None,
            terms: Terms::default(),
            build: BuildFacts::default(),
        }
    }

    /// What is there when it is: itself and its members, each in its version.
    pub fn parts(&self) -> impl Iterator<Item = (&Id, &Version)> {
        let members = self.members.iter();
        std::iter::once((&self.id, &self.version)).chain(members.map(|m| (&m.id, &m.version)))
    }

    /// The ids for which it meets needs, and in which version; without one it meets them in every version.
    ///
    /// These are its parts, what it provides and what it replaces.
    pub fn stands_for(&self) -> impl Iterator<Item = (&Id, Option<&Version>)> {
        let parts = self.parts().map(|(id, version)| (id, Some(version)));
        let provides = self.provides.iter();
        let provides = provides.map(|provided| (&provided.id, provided.version.as_ref()));
        let replaces = self.terms.replaces.iter().map(|id| (id, None));
        parts.chain(provides).chain(replaces)
    }

    /// Whether a need is met where it is there.
    pub fn meets(&self, need: &Need) -> bool {
        self.stands_for()
            .any(|(id, version)| need.is_met_by(id, version))
    }

    /// Whether one of its parts is what a clash means: what only stands in for that is not.
    pub fn is_meant_by(&self, clash: &Need) -> bool {
        let mut parts = self.parts();
        parts.any(|(id, version)| clash.is_met_by(id, Some(version)))
    }

    /// The groups of which only one may be there, its members' among them.
    pub fn groups(&self) -> impl Iterator<Item = &str> {
        let members = self.members.iter().map(|member| &member.group);
        let groups = std::iter::once(&self.terms.group).chain(members);
        groups.filter_map(Option::as_deref)
    }

    /// Whether it is a test release, by its version or its makers' word.
    pub fn is_early(&self) -> bool {
        self.terms.early || self.version.is_early()
    }
}
