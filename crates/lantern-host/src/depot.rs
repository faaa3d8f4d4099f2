//! Catalogues and drop folders: where releases come from.

use crate::downloads::Downloads;
use crate::error::{Error, Result};
use crate::place::here;
use crate::release;
use lantern_core::artifact::Artifact;
use lantern_core::catalogue::{self, Offer, Origin};
use lantern_core::component::Kind;
use lantern_core::facts::Facts;
use lantern_core::family::{Family, Reader};
use lantern_core::path::RelPath;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// What is on offer, and what had to be left out.
#[derive(Debug, Default)]
pub struct Depot {
    /// All offers; each artifact is on this machine, and named by a whole path.
    pub offers: Vec<Offer>,
    /// What could not be used: where, and why.
    pub left_out: Vec<(String, String)>,
}

impl Depot {
    /// Adds a catalogue; its archives lie relative to it.
    ///
    /// # Errors
    /// When the catalogue as a whole cannot be read.
    pub fn add_catalogue(&mut self, path: &Path, family: &Family) -> Result<()> {
        let text = here::read_text(path)?;
        let read = catalogue::read(&text, &family.versions).map_err(|fault| Error::Catalogue {
            path: path.into(),
            fault,
        })?;
        for (line, why) in read.left_out {
            self.left_out
                .push((format!("{}:{line}", path.display()), why));
        }
        let whole = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let base = whole.parent().and_then(Path::to_str);
        let base = base.ok_or_else(|| Error::OddPath(whole.clone()))?;
        for mut offer in read.offers {
            // The catalogue comes from outside: it may name only what lies beside it.
            let file = match RelPath::parse(&offer.artifact.file) {
                Ok(file) => file,
                Err(fault) => {
                    let facts = &offer.facts;
                    let why = format!("{} {}: archive.file: {fault}", facts.id, facts.version);
                    self.left_out.push((path.display().to_string(), why));
                    continue;
                }
            };
            offer.artifact.file = format!("{base}/{file}");
            self.offers.push(offer);
        }
        Ok(())
    }

    /// Adds what recipes have made.
    ///
    /// # Errors
    /// When the folder cannot be listed. What no reader knows only lands in `left_out`.
    pub fn add_acquired(
        &mut self,
        folder: &Path,
        family: &Family,
        downloads: &mut Downloads<'_>,
    ) -> Result<()> {
        let made = here::list(folder)?;
        let builds = family.readers.iter().filter(|r| r.kind == Kind::Build);
        for reader in builds {
            for path in &made {
                // A program that is one file lies alone in its folder.
                let one = || here::list(path).ok()?.into_iter().next();
                let download = match reader.shape.is_one_file() {
                    true => one().unwrap_or_else(|| path.clone()),
                    false => path.clone(),
                };
                match read(&download, &[reader], family, downloads) {
                    Ok(offers) => {
                        // One program is asked of a recipe.
                        let Some(offer) = offers.into_iter().next() else {
                            continue;
                        };
                        let mut offer = self.as_known(offer);
                        // What says nothing of itself is what was asked of the recipe: its folder is named so.
                        let made = path.file_name().and_then(|name| name.to_str());
                        let prefix = format!("{}-", family.build.id);
                        let version = made.and_then(|name| name.strip_prefix(&prefix));
                        let version = version.and_then(|it| family.versions.version(true, it).ok());
                        if let Some(version) = version.filter(|_| offer.facts.version.is_content())
                        {
                            offer.facts.version = version;
                        }
                        self.offers.push(offer);
                    }
                    Err(why) => self.left_out.push((download.display().to_string(), why)),
                }
            }
        }
        Ok(())
    }

    /// An offer with what a catalogue knows of it: its version, where it states none itself, and which settings have another name.
    fn as_known(&self, mut offer: Offer) -> Offer {
        let content = offer.content.as_ref();
        let same = |known: &&Offer| {
            let by_content = content.is_some() && known.content.as_ref() == content;
            by_content || known.artifact.blake3 == offer.artifact.blake3
        };
        let mut catalogued = self
            .offers
            .iter()
            .filter(|it| it.origin == Origin::Catalogue);
        let known = catalogued.find(same);
        if let Some(known) = known {
            offer.was.clone_from(&known.was);
        }
        if let Some(known) = known.filter(|_| offer.facts.version.is_content()) {
            let states_nothing = offer.facts
                == Facts::new(
                    offer.facts.id.clone(),
                    offer.facts.kind,
                    offer.facts.version.clone(),
                );
            match states_nothing {
                true => offer.facts = known.facts.clone(),
                false => offer.facts.version = known.facts.version.clone(),
            }
        }
        offer
    }

    /// Adds every archive of a drop folder that a reader of the family knows.
    ///
    /// # Errors
    /// When the folder cannot be listed. A bad archive only lands in `left_out`.
    pub fn add_drop_folder(
        &mut self,
        folder: &Path,
        family: &Family,
        downloads: &mut Downloads<'_>,
    ) -> Result<()> {
        let usable = |path: &PathBuf| {
            let met = here::look(path);
            met.is_some_and(|meta| meta.is_file() || meta.is_folder())
        };
        let mut first: BTreeMap<_, PathBuf> = BTreeMap::new();
        for path in here::list(folder)?.into_iter().filter(usable) {
            let name = path.file_name().map(|n| n.to_string_lossy().into_owned());
            let name = name.unwrap_or_default();
            let readers = family.readers.iter();
            let readers: Vec<&Reader> = readers
                .filter(|r| r.drop.as_ref().is_some_and(|d| d.matches(&name)))
                .collect();
            if readers.is_empty() {
                continue;
            }
            let offers = match read(&path, &readers, family, downloads) {
                Ok(offers) => offers,
                Err(why) => {
                    self.left_out.push((path.display().to_string(), why));
                    continue;
                }
            };
            for offer in offers {
                let offer = self.as_known(offer);
                let key = (offer.facts.id.clone(), offer.facts.version.to_string());
                if let Some(other) = first.get(&key) {
                    let why = format!(
                        "it is {} {} like {}; only that one is used",
                        key.0,
                        key.1,
                        other.display()
                    );
                    self.left_out.push((path.display().to_string(), why));
                    continue;
                }
                first.insert(key, path.clone());
                self.offers.push(offer);
            }
        }
        Ok(())
    }
}

/// Reads what a download is, and offers what it holds; says why where that is nothing.
fn read(
    path: &Path,
    readers: &[&Reader],
    family: &Family,
    downloads: &mut Downloads<'_>,
) -> Result<Vec<Offer>, String> {
    let said = |error: Error| match error {
        Error::Archive { fault, .. } => fault.to_string(),
        Error::Release { fault, .. } => fault.to_string(),
        other => other.to_string(),
    };
    let artifact: Artifact = downloads.artifact(path).map_err(said)?;
    let read = release::read(&artifact, readers, family, downloads).map_err(said)?;
    let offers = read.into_iter().map(|read| Offer {
        facts: read.facts,
        content: read.content.filter(|content| *content != artifact.blake3),
        inside: read.inside,
        was: BTreeMap::new(),
        artifact: artifact.clone(),
        origin: Origin::DropFolder,
    });
    Ok(offers.collect())
}
