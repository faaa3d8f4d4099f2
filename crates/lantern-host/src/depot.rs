//! Catalogues and drop folders: where releases come from.

use crate::config::Server;
use crate::downloads::Downloads;
use crate::error::{Error, Result};
use crate::gather::Stale;
use crate::listings::Listed;
use crate::place::here;
use crate::release;
use crate::signing;
use crate::web::reaches_in;
use lantern_core::artifact::Artifact;
use lantern_core::catalogue::{self, Offer, Origin};
use lantern_core::component::{Id, Kind};
use lantern_core::facts::Facts;
use lantern_core::family::{Family, Reader};
use lantern_core::path::RelPath;
use lantern_core::supply::{encoded, is_web};
use lantern_core::version::Version;
use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use url::Url;

/// The address that a catalogue is named by, where it is no file.
pub fn web_address(path: &Path) -> Option<&str> {
    path.to_str().filter(|text| is_web(text))
}

/// What is on offer, and what had to be left out.
#[derive(Debug, Default)]
pub struct Depot {
    /// All offers; each artifact is on this machine, and named by a whole path.
    pub offers: Vec<Offer>,
    /// What could not be used: where, and why.
    pub left_out: Vec<(String, String)>,
    /// Which catalogues could not be asked, and stand as they were.
    pub stale: Vec<Stale>,
    /// Which releases a catalogue has named by now, and which one of them.
    named: HashMap<(Id, Version), (usize, String)>,
}

impl Depot {
    /// Adds a catalogue; its archives lie relative to it.
    ///
    /// # Errors
    /// When the catalogue as a whole cannot be read.
    pub fn add_catalogue(&mut self, path: &Path, family: &Family) -> Result<()> {
        let text = here::read_text(path)?;
        let whole = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let base = whole.parent().and_then(Path::to_str);
        let base = base.ok_or_else(|| Error::OddPath(whole.clone()))?;
        self.add_text(path, &text, family, &|offer, file| {
            let whole = format!("{base}/{file}");
            let has_others = !offer.artifact.urls.is_empty();
            let is_there = !has_others || here::look(Path::new(&whole)).is_some();
            offer.artifact.file = if is_there { whole } else { String::new() };
        })
    }

    /// Adds a catalogue from the web; its archives lie relative to it there.
    ///
    /// # Errors
    /// When the catalogue as a whole cannot be read.
    pub fn add_from_web(&mut self, url: &Url, text: &str, family: &Family) -> Result<()> {
        self.add_text(Path::new(url.as_str()), text, family, &|offer, file| {
            let parts: Vec<String> = file.as_str().split('/').map(encoded).collect();
            offer.artifact.file = String::new();
            if let (Ok(whole), Some(supply)) = (url.join(&parts.join("/")), &mut offer.supply) {
                supply.urls.insert(0, whole.into());
                offer.artifact.urls.clone_from(&supply.urls);
            }
        })
    }

    /// Adds a catalogue, wherever it is, as it is known here: nobody is asked. One that is not known says nothing.
    pub fn add_known(&mut self, server: &Server, path: &Path) {
        let store = server.store();
        let copy = |at: &Path| store.copy_of(web_address(at)?);
        let (text, signature) = match web_address(path) {
            Some(_) => (
                copy(path).map(|(_, text)| text),
                copy(&signing::beside(path)).map(|(_, text)| text),
            ),
            None => (
                here::read_text(path).ok(),
                here::read_text(&signing::beside(path)).ok(),
            ),
        };
        let Some(text) = text else {
            return;
        };
        if let Some(key) = server.key_of(path) {
            let signature = signature.unwrap_or_default();
            if signing::signed(text.as_bytes(), &signature, key).is_err() {
                return;
            }
        }
        let _ = match web_address(path).and_then(|url| Url::parse(url).ok()) {
            Some(url) => self.add_from_web(&url, &text, &server.family),
            None => self.add_catalogue(path, &server.family),
        };
    }

    /// Adds what somebody else's listing has.
    pub fn add_listed(&mut self, listed: Listed, path: &Path) {
        let shown = path.display().to_string();
        self.left_out.extend(listed.left_out);
        self.stale.extend(listed.stale);
        for offer in listed.offers {
            match &listed.from {
                Some(from) => self.add_from(offer, from, &shown),
                None => self.add_offer(offer, &shown),
            }
        }
    }

    fn add_text(
        &mut self,
        path: &Path,
        text: &str,
        family: &Family,
        place: &dyn Fn(&mut Offer, &RelPath),
    ) -> Result<()> {
        let read = catalogue::read(text, &family.versions).map_err(|fault| Error::Catalogue {
            path: path.into(),
            fault,
        })?;
        let shown = path.display().to_string();
        for (line, why) in read.left_out {
            self.left_out.push((format!("{shown}:{line}"), why));
        }
        for mut offer in read.offers {
            // The catalogue comes from outside: it may name only what lies beside it.
            if offer.artifact.is_at_hand() {
                match RelPath::parse(&offer.artifact.file) {
                    Ok(file) => place(&mut offer, &file),
                    Err(fault) => {
                        let facts = &offer.facts;
                        let why = format!("{} {}: archive.file: {fault}", facts.id, facts.version);
                        self.left_out.push((shown.clone(), why));
                        continue;
                    }
                }
            }
            match web_address(path).and_then(|url| Url::parse(url).ok()) {
                Some(from) => self.add_from(offer, &from, &shown),
                None => self.add_offer(offer, &shown),
            }
        }
        Ok(())
    }

    /// Adds an offer from the web, but none of what it has no business with.
    fn add_from(&mut self, offer: Offer, from: &Url, shown: &str) {
        let supply = offer.supply.iter();
        let mut urls = supply.flat_map(|supply| &supply.urls);
        if let Some(url) = urls.find(|url| reaches_in(from, url)) {
            let facts = &offer.facts;
            let why = format!(
                "{} {}: {url} is this machine, and that is not asked for others",
                facts.id, facts.version
            );
            self.left_out.push((shown.to_owned(), why));
            return;
        }
        self.add_offer(offer, shown);
    }

    /// Of two catalogues that name one release, the first counts; where they mean the same file, the other is one more place
    /// to have it from.
    fn add_offer(&mut self, offer: Offer, from: &str) {
        let facts = &offer.facts;
        let key = (facts.id.clone(), facts.version.clone());
        let Some((first, known_from)) = self.named.get(&key) else {
            self.named.insert(key, (self.offers.len(), from.to_owned()));
            self.offers.push(offer);
            return;
        };
        let known = &mut self.offers[*first];
        let (Some(mine), Some(theirs)) = (&mut known.supply, &offer.supply) else {
            return;
        };
        let other = mine.checks.iter().find(|check| {
            let theirs = theirs.check(check.kind);
            theirs.is_some_and(|theirs| theirs != *check)
        });
        if let Some(check) = other {
            let why = format!(
                "{} {} has another {} in {known_from}: that one counts",
                facts.id, facts.version, check.kind
            );
            self.left_out.push((from.to_owned(), why));
            return;
        }
        let is_same = mine
            .checks
            .iter()
            .any(|check| check.kind.is_strong() && theirs.check(check.kind).is_some());
        if is_same {
            mine.urls.extend(theirs.urls.iter().cloned());
            known.artifact.urls.clone_from(&mine.urls);
            if !known.artifact.is_at_hand() {
                known.artifact.file.clone_from(&offer.artifact.file);
            }
        }
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
        supply: None,
    });
    Ok(offers.collect())
}
