//! What a component, a release and a need are.

use crate::version::{Range, Version};
use serde::{Deserialize, Serialize};
use std::borrow::Borrow;
use std::fmt;
use std::sync::Arc;

/// The id of a component, in the one spelling that its family uses.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
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
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
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
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
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

/// Another component that one needs, uses or clashes with, and in which versions.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Need {
    /// The other component.
    pub id: Id,
    /// Which of its versions are meant.
    pub range: Range,
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
    pub provides: Vec<Id>,
    /// Where it has to be installed; `None` when nobody declared it.
    pub side: Option<Side>,
    /// Whether the world holds its content; `None` when nobody declared it.
    pub world_bound: Option<bool>,
}
