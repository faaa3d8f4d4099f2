//! What a component is to the server, what its id is, and what it can say of others.

use crate::version::{Notation, Range, Version};
use arcstr::ArcStr;
use schemars::JsonSchema;
use serde::de::Visitor;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::borrow::Borrow;
use std::fmt;

/// The id of a component, in the one spelling that its family uses.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema)]
#[schemars(transparent)]
pub struct Id(#[schemars(with = "String")] ArcStr);

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
        id.0.as_str().into()
    }
}

impl Serialize for Id {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0)
    }
}

impl<'de> Deserialize<'de> for Id {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Id, D::Error> {
        struct OfText;

        impl Visitor<'_> for OfText {
            type Value = Id;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a string")
            }

            fn visit_str<E>(self, text: &str) -> Result<Id, E> {
                Ok(Id::new(text))
            }
        }

        deserializer.deserialize_str(OfText)
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
    #[serde(alias = "all")]
    Both,
    /// On the server; clients may have it, too, in the same version.
    ClientMay,
}

impl fmt::Display for Side {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Side::Server => "server",
            Side::Client => "client",
            Side::Both => "both",
            Side::ClientMay => "client-may",
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

/// For whom a release is meant.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Channel {
    /// For everybody.
    #[default]
    Stable,
    /// A test release.
    Early,
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

/// An id that a component stands in for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Provided {
    /// The id.
    pub id: Id,
    /// In which version; without one it stands in for every version.
    pub version: Option<Version>,
}

/// Versions of a kind of client that are let in where a component runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Admits {
    /// The kind of client, by its name.
    pub client: String,
    /// Which of its versions.
    pub versions: Range,
    /// What it says of that kind besides; of a kind that the family names, what that says counts.
    pub terms: ClientTerms,
}

/// What a component says of a kind of client that it lets in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ClientTerms {
    /// Its name for people.
    pub title: Option<String>,
    /// How its versions are written.
    pub notation: Option<Notation>,
    /// What of the server's components it has to have; what nothing is said of is not known.
    pub has: Option<Has>,
}

/// What a kind of client has to have.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(
    untagged,
    expecting = "expected \"same\", \"nothing\", or a list of ids"
)]
pub enum Has {
    /// By a word.
    Word(HasWord),
    /// These, and nothing else of what is for both sides.
    These(Vec<Id>),
}

/// What a kind of client has to have, where that is all or nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum HasWord {
    /// All that runs and is for both sides.
    Same,
    /// Nothing.
    Nothing,
}

/// Players with a version of a kind of client, who are to be let in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ClientVersion {
    /// The kind of client.
    pub client: String,
    /// Its version.
    pub version: Version,
}

/// The name under which players with a kind of client are known beside the ids of components.
pub fn players_with(client: &str) -> Id {
    Id::new(&format!("players with {client}"))
}

impl ClientVersion {
    /// The name under which a question knows the wish that they be let in, beside the ids of components.
    pub fn wish(&self) -> Id {
        players_with(&self.to_string())
    }
}

impl fmt::Display for ClientVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.client, self.version)
    }
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
/// Whether a component runs, and what says so.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Runs {
    /// The load order starts it; or it lies where the server looks, and would lie elsewhere if it were off.
    On,
    /// It would have to stand in the load order, and does not, or is switched off there; or it is parked.
    Off,
    /// The server loads whatever lies where it lies.
    Always,
    /// Nothing says; or there is nothing to say, as of a build, a pack, and what is for clients alone.
    #[default]
    Unsaid,
}

impl Runs {
    /// What a load order says.
    pub fn switched(on: bool) -> Runs {
        if on { Runs::On } else { Runs::Off }
    }

    /// Whether it is switched off.
    pub fn is_off(self) -> bool {
        self == Runs::Off
    }

    /// Whether a load order says, or where it lies.
    pub fn is_switched(self) -> bool {
        matches!(self, Runs::On | Runs::Off)
    }

    /// Whether a good start has to show it.
    pub fn is_sure(self) -> bool {
        matches!(self, Runs::On | Runs::Always)
    }
}
