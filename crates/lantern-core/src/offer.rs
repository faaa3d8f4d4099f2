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
    /// The hash of what it lays, by which it is known where it is installed; none where that says so itself, or is the
    /// archive's own.
    pub content: Option<Box<str>>,
    /// The folder in the archive that is this one's, where that holds several.
    pub inside: Option<Box<str>>,
    /// By file, as it comes to lie or the end of that: keys of settings that have another name by now, with the old one.
    pub was: Option<Box<BTreeMap<String, BTreeMap<String, String>>>>,
    /// Where it comes from.
    pub origin: Origin,
    /// Where its file can be had; none of what was found as a file.
    pub supply: Option<Box<Supply>>,
}

impl Offer {
    /// What has to be fetched before anything can be done with it.
    pub fn to_fetch(&self) -> Option<&Supply> {
        self.supply
            .as_deref()
            .filter(|_| !self.artifact.is_at_hand())
    }
}
