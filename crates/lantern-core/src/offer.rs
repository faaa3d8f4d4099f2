//! A release that can be had.

use crate::artifact::Artifact;
use crate::facts::Facts;
use crate::supply::Supply;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Where an offer comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Origin {
    /// A catalogue.
    Catalogue,
    /// The drop folder: fetched by hand, so wanted.
    DropFolder,
}

/// A release that can be had.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Offer {
    /// What it says of itself.
    pub facts: Facts,
    /// What holds it.
    pub artifact: Arc<Artifact>,
    /// What is to be known of what it lays; none of most.
    pub lays: Option<Box<Lays>>,
    /// Where it comes from.
    pub origin: Origin,
    /// Where its file can be had; none of what was found as a file.
    pub supply: Option<Box<Supply>>,
}

/// Keys of settings that have another name by now, with the old one: by file, as it comes to lie or the end of that.
pub type Renamed = BTreeMap<String, BTreeMap<String, String>>;

/// What is to be known of what a release lays.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Lays {
    /// The hash of it, by which it is known where it is installed; none where that says so itself, or is the archive's own.
    pub content: Option<Box<str>>,
    /// The folder in the archive that is this one's, where that holds several.
    pub inside: Option<Box<str>>,
    /// What was renamed in it.
    pub was: Renamed,
}

impl Lays {
    /// It as an offer holds it: nothing where nothing is known.
    pub fn stated(self) -> Option<Box<Lays>> {
        (self != Lays::default()).then(|| Box::new(self))
    }
}

impl Offer {
    /// The hash of what it lays: see [`Lays::content`].
    pub fn content(&self) -> Option<&str> {
        self.lays.as_ref()?.content.as_deref()
    }

    /// The folder in the archive that is its own: see [`Lays::inside`].
    pub fn inside(&self) -> Option<&str> {
        self.lays.as_ref()?.inside.as_deref()
    }

    /// What was renamed in the settings that it lays: see [`Lays::was`].
    pub fn was(&self) -> Option<&Renamed> {
        self.lays.as_ref().map(|lays| &lays.was)
    }

    /// What has to be fetched before anything can be done with it.
    pub fn to_fetch(&self) -> Option<&Supply> {
        self.supply
            .as_deref()
            .filter(|_| !self.artifact.is_at_hand())
    }
}
