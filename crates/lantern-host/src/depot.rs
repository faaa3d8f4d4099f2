//! Catalogues and drop folders: where releases come from.

use crate::config::Server;
use crate::downloads::Downloads;
use crate::error::{Error, Result};
use crate::gather::{Stale, hashes_of};
use crate::learned::{self, Seen};
use crate::listings::Listed;
use crate::place::here;
use crate::release;
use crate::signing;
use crate::web::reaches_in;
use lantern_core::artifact::Artifact;
use lantern_core::catalogue::{self, Catalogue, Releases};
use lantern_core::component::{Id, Kind};
use lantern_core::facts::Facts;
use lantern_core::family::{Family, Reader};
use lantern_core::offer::{Lays, Offer, Origin};
use lantern_core::path::RelPath;
use lantern_core::supply::{HashKind, encoded, is_web};
use lantern_core::version::Version;
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use url::Url;

/// The address that a catalogue is named by, where it is no file.
pub fn web_address(path: &Path) -> Option<&str> {
    path.to_str().filter(|text| is_web(text))
}

/// What is on offer, and what had to be left out.
///
/// Catalogues are opened first, and other people's listings asked; [`Depot::take`] then reads what of all that concerns somebody.
#[derive(Debug, Default)]
pub struct Depot {
    /// All offers; each artifact that is on this machine is named by a whole path.
    pub offers: Vec<Offer>,
    /// What could not be used: where, and why.
    pub left_out: Vec<(String, String)>,
    /// Which catalogues could not be asked, and stand as they were.
    pub stale: Vec<Stale>,
    /// What others have seen of releases.
    pub learned: Vec<Seen>,
    /// In the order in which they count.
    sources: Vec<Source>,
}

/// Where releases are told of.
#[derive(Debug)]
struct Source {
    /// As it is named.
    shown: String,
    /// Where it was asked, if not on this machine.
    from: Option<Url>,
    told: Told,
}

#[derive(Debug)]
enum Told {
    Catalogue {
        catalogue: Box<Catalogue>,
        base: Base,
    },
    Listing(Vec<Offer>),
}

/// What a catalogue's archives are relative to.
#[derive(Debug)]
enum Base {
    Folder(String),
    Address(Url),
    Elsewhere,
}

/// Where the archives lie that a catalogue has beside it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Beside {
    /// Beside it.
    Here,
    /// On the machine that has sent it.
    Elsewhere,
}

impl Base {
    /// Says of a file beside the catalogue where that is.
    fn place(&self, offer: &mut Offer, file: &RelPath) {
        let artifact = Arc::make_mut(&mut offer.artifact);
        match self {
            Base::Folder(folder) => {
                let whole = format!("{folder}/{file}");
                let has_others = !artifact.urls.is_empty();
                let is_there = !has_others || here::look(Path::new(&whole)).is_some();
                artifact.file = if is_there { whole } else { String::new() };
            }
            Base::Elsewhere => artifact.file = String::new(),
            Base::Address(url) => {
                let parts: Vec<String> = file.as_str().split('/').map(encoded).collect();
                artifact.file = String::new();
                if let (Ok(whole), Some(supply)) = (url.join(&parts.join("/")), &mut offer.supply) {
                    supply.urls.insert(0, whole.into());
                    artifact.urls.clone_from(&supply.urls);
                }
            }
        }
    }
}

impl Source {
    fn catalogue(&self) -> Option<&Catalogue> {
        match &self.told {
            Told::Catalogue { catalogue, .. } => Some(catalogue),
            Told::Listing(_) => None,
        }
    }

    fn listed(&self) -> &[Offer] {
        match &self.told {
            Told::Catalogue { .. } => &[],
            Told::Listing(offers) => offers,
        }
    }

    /// Why an offer of this source cannot be used; places it where it can.
    fn place(&self, offer: &mut Offer) -> Option<String> {
        let facts = &offer.facts;
        let what = format!("{} {}", facts.id, facts.version);
        // It comes from outside: it may name only what lies beside it.
        if let (Told::Catalogue { base, .. }, true) = (&self.told, offer.artifact.is_at_hand()) {
            match RelPath::parse(&offer.artifact.file) {
                Ok(file) => base.place(offer, &file),
                Err(fault) => return Some(format!("{what}: archive.file: {fault}")),
            }
        }
        let from = self.from.as_ref()?;
        let mut urls = offer.supply.iter().flat_map(|supply| &supply.urls);
        let inward = urls.find(|url| reaches_in(from, url))?;
        Some(format!(
            "{what}: {inward} is this machine, and that is not asked for others"
        ))
    }
}

/// Offers of several sources as one list.
#[derive(Default)]
struct Joined {
    offers: Vec<Offer>,
    left_out: Vec<(String, String)>,
    /// Which releases were named by now: where they stand in the list, and who named them.
    named: HashMap<(Id, Version), (usize, String)>,
}

impl Joined {
    /// Of two sources that name one release, the first counts; where they mean the same file, the other is one more place
    /// to have it from.
    fn add(&mut self, mut offer: Offer, source: &Source) {
        let from = &source.shown;
        if let Some(why) = source.place(&mut offer) {
            self.left_out.push((from.clone(), why));
            return;
        }
        let facts = &offer.facts;
        let key = (facts.id.clone(), facts.version.clone());
        let Some((first, known_from)) = self.named.get(&key) else {
            self.named.insert(key, (self.offers.len(), from.clone()));
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
            self.left_out.push((from.clone(), why));
            return;
        }
        let is_same = mine
            .checks
            .iter()
            .any(|check| check.kind.is_strong() && theirs.check(check.kind).is_some());
        if is_same {
            mine.urls.extend(theirs.urls.iter().cloned());
            let artifact = Arc::make_mut(&mut known.artifact);
            artifact.urls.clone_from(&mine.urls);
            if !artifact.is_at_hand() {
                artifact.file.clone_from(&offer.artifact.file);
            }
        }
    }
}

impl Depot {
    /// Opens a catalogue; its archives lie relative to it, wherever it lies itself.
    ///
    /// # Errors
    /// When it is none.
    pub fn open(&mut self, path: &Path, beside: Beside) -> Result<()> {
        let text = here::read_text(path)?;
        match beside {
            Beside::Here => self.open_here(path, text),
            Beside::Elsewhere => self.open_text(path, text, Base::Elsewhere),
        }
    }

    fn open_here(&mut self, path: &Path, text: String) -> Result<()> {
        let whole = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let base = whole.parent().and_then(Path::to_str);
        let base = base.ok_or_else(|| Error::OddPath(whole.clone()))?;
        self.open_text(path, text, Base::Folder(base.to_owned()))
    }

    /// Opens a catalogue from the web; its archives lie relative to it there.
    ///
    /// # Errors
    /// When it is none.
    pub fn open_from_web(&mut self, url: &Url, text: String) -> Result<()> {
        self.open_text(Path::new(url.as_str()), text, Base::Address(url.clone()))
    }

    fn open_text(&mut self, path: &Path, text: String, base: Base) -> Result<()> {
        if learned::is_one(path) {
            self.learned.extend(learned::of_others(&text, path)?);
            return Ok(());
        }
        let catalogue = Catalogue::open(text).map_err(|fault| Error::Catalogue {
            path: path.into(),
            fault,
        })?;
        self.sources.push(Source {
            shown: path.display().to_string(),
            from: web_address(path).and_then(|url| Url::parse(url).ok()),
            told: Told::Catalogue {
                catalogue: Box::new(catalogue),
                base,
            },
        });
        Ok(())
    }

    /// Opens a catalogue, wherever it is, as it is known here: nobody is asked. One that is not known says nothing.
    pub fn open_known(&mut self, server: &Server, path: &Path) {
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
            Some(url) => self.open_from_web(&url, text),
            None => self.open_here(path, text),
        };
    }

    /// Adds what somebody else's listing has.
    pub fn add_listed(&mut self, listed: Listed, path: &Path) {
        self.left_out.extend(listed.left_out);
        self.stale.extend(listed.stale);
        self.sources.push(Source {
            shown: path.display().to_string(),
            from: listed.from,
            told: Told::Listing(listed.offers),
        });
    }

    fn catalogues(&self) -> Vec<&Catalogue> {
        self.sources.iter().filter_map(Source::catalogue).collect()
    }

    /// All ids that are named anywhere.
    pub fn ids(&self) -> Vec<Id> {
        let of = |source: &Source| -> Vec<Id> {
            let listed = source.listed().iter().map(|offer| &offer.facts.id);
            let catalogue = source.catalogue().into_iter();
            let catalogued = catalogue.flat_map(Catalogue::ids);
            catalogued.chain(listed).cloned().collect()
        };
        self.sources.iter().flat_map(of).collect()
    }

    /// Reads what concerns some components, as [`catalogue::concerning`]; what was found as files does in any case.
    pub fn take(&mut self, ids: &BTreeSet<Id>, family: &Family) {
        let listed = self.sources.iter().flat_map(|source| source.listed());
        let besides: Vec<&Facts> = self
            .offers
            .iter()
            .chain(listed)
            .map(|it| &it.facts)
            .collect();
        let by_hand = self.offers.iter().map(|offer| &offer.facts.id);
        let ids = ids.iter().chain(by_hand);
        let catalogues = self.catalogues();
        let read = catalogue::concerning(&catalogues, ids, &besides, &family.versions);
        self.join(read);
    }

    /// Reads everything.
    pub fn take_all(&mut self, family: &Family) {
        let catalogues = self.catalogues().into_iter();
        let read = catalogues.map(|catalogue| catalogue.all(&family.versions));
        self.join(read.collect());
    }

    fn join(&mut self, read: Vec<Releases>) {
        let mut joined = Joined::default();
        let mut read = read.into_iter();
        for source in &self.sources {
            let releases = match &source.told {
                Told::Catalogue { .. } => read.next().unwrap_or_default(),
                Told::Listing(offers) => Releases {
                    offers: offers.clone(),
                    left_out: Vec::new(),
                },
            };
            let left_out = releases.left_out.into_iter();
            let left_out = left_out.map(|(line, why)| (format!("{}:{line}", source.shown), why));
            joined.left_out.extend(left_out);
            for offer in releases.offers {
                joined.add(offer, source);
            }
        }
        // What stands in a catalogue is told before what was found in a folder.
        joined.left_out.append(&mut self.left_out);
        joined.offers.append(&mut self.offers);
        self.left_out = joined.left_out;
        self.offers = joined.offers;
    }

    /// What a recipe made, as plans will know it.
    ///
    /// # Errors
    /// With why it is no release.
    pub fn made(folder: &Path, family: &Family) -> Result<Offer, String> {
        let mut depot = Depot::default();
        let all = folder.parent().unwrap_or(folder);
        let added = depot.add_acquired(all, family, &Downloads::apart());
        added.map_err(|error| error.to_string())?;
        let is_it = |at: &Path| at.starts_with(folder);
        let mut offers = depot.offers.into_iter();
        if let Some(offer) = offers.find(|offer| is_it(Path::new(&offer.artifact.file))) {
            return Ok(offer);
        }
        let mut left_out = depot.left_out.into_iter();
        let why = left_out.find(|(at, _)| is_it(Path::new(at)));
        Err(why.map_or_else(
            || "no reader of a build is in the family file".into(),
            |(_, why)| why,
        ))
    }

    /// What is known of a release by a hash, in lower case, of its file or of what it lays.
    pub fn known(&self, hash: &str, family: &Family) -> Option<Offer> {
        let states = |offer: &&Offer| {
            let mut checks = offer.supply.iter().flat_map(|supply| &supply.checks);
            checks.any(|check| check.hex == hash)
        };
        self.sources.iter().find_map(|source| {
            let catalogue = source.catalogue();
            let catalogued = catalogue.map(|it| it.of_hash(hash, &family.versions));
            let listed = || source.listed().iter().find(states).cloned();
            catalogued
                .and_then(|offers| offers.into_iter().next())
                .or_else(listed)
        })
    }

    /// Adds what recipes have made.
    ///
    /// # Errors
    /// When the folder cannot be listed. What no reader knows only lands in `left_out`.
    pub fn add_acquired(
        &mut self,
        folder: &Path,
        family: &Family,
        downloads: &Downloads<'_>,
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
                match offered(&download, &[reader], family, downloads) {
                    Ok(offers) => {
                        // One program is asked of a recipe.
                        let Some(offer) = offers.into_iter().next() else {
                            continue;
                        };
                        let mut offer = self.as_known(offer, family);
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

    /// What is known of a release by its file, where no BLAKE3 of that is stated.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn known_by_others(
        &self,
        file: &mut dyn Read,
        family: &Family,
    ) -> io::Result<Option<Offer>> {
        let mut kinds: BTreeSet<HashKind> = BTreeSet::new();
        for source in &self.sources {
            kinds.extend(
                source
                    .catalogue()
                    .into_iter()
                    .flat_map(Catalogue::other_hashes),
            );
            let supplies = source
                .listed()
                .iter()
                .filter_map(|offer| offer.supply.as_ref());
            kinds.extend(supplies.flat_map(|supply| supply.checks.iter().map(|check| check.kind)));
        }
        kinds.remove(&HashKind::Blake3);
        if kinds.is_empty() {
            return Ok(None);
        }
        let hashes = hashes_of(file, kinds.into_iter())?;
        let mut known = hashes
            .iter()
            .filter_map(|check| self.known(&check.hex, family));
        Ok(known.next())
    }

    /// An offer with what is known of it elsewhere: its version, where it states none itself, and which settings have another
    /// name.
    fn as_known(&self, mut offer: Offer, family: &Family) -> Offer {
        let own = offer.content().into_iter();
        let hashes = own.chain([offer.artifact.blake3.as_str()]);
        let by_content = hashes.filter_map(|hash| self.known(hash, family)).next();
        let by_others = || {
            let mut file = here::open(Path::new(&offer.artifact.file)).ok()?;
            self.known_by_others(&mut file, family).ok()?
        };
        let known = match offer.facts.version.is_content() {
            true => by_content.or_else(by_others),
            false => by_content,
        };
        let Some(known) = known else {
            return offer;
        };
        offer.lays = Lays {
            was: known.was().cloned().unwrap_or_default(),
            ..offer.lays.take().map(|lays| *lays).unwrap_or_default()
        }
        .stated();
        if offer.facts.version.is_content() {
            let states_nothing = offer.facts
                == Facts::new(
                    offer.facts.id.clone(),
                    offer.facts.kind,
                    offer.facts.version.clone(),
                );
            match states_nothing {
                true => offer.facts = known.facts,
                false => offer.facts.version = known.facts.version,
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
        downloads: &Downloads<'_>,
    ) -> Result<()> {
        let usable = |path: &PathBuf| {
            let met = here::look(path);
            met.is_some_and(|meta| meta.is_file() || meta.is_folder())
        };
        let read = |path: PathBuf| {
            let readers: Vec<&Reader> = dropped(family, &path).collect();
            if readers.is_empty() || !usable(&path) {
                return None;
            }
            let offers = offered(&path, &readers, family, downloads);
            Some((path, offers))
        };
        // Several at once, and told in the order of their names.
        let files = here::list(folder)?.into_par_iter();
        let read: Vec<(PathBuf, Result<Vec<Offer>, String>)> =
            downloads.at_one_moment(|| files.filter_map(read).collect())?;
        let mut first: BTreeMap<_, PathBuf> = BTreeMap::new();
        for (path, offers) in read {
            let offers = match offers {
                Ok(offers) => offers,
                Err(why) => {
                    self.left_out.push((path.display().to_string(), why));
                    continue;
                }
            };
            for offer in offers {
                let offer = self.as_known(offer, family);
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

/// The readers whose releases are called as a file in a drop folder is.
fn dropped<'f>(family: &'f Family, path: &Path) -> impl Iterator<Item = &'f Reader> {
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned());
    let name = name.unwrap_or_default();
    let readers = family.readers.iter();
    readers.filter(move |it| it.drop.as_ref().is_some_and(|drop| drop.matches(&name)))
}

/// How many files lie in a drop folder, if no reader's releases are called as any of them; what is hidden is none.
pub fn unlike_any(folder: &Path, family: &Family) -> Option<usize> {
    let mut files = here::list(folder).ok()?;
    files.retain(|path| {
        let name = path.file_name().unwrap_or_default();
        !name.as_encoded_bytes().starts_with(b".")
    });
    let is_unlike = |path: &PathBuf| dropped(family, path).next().is_none();
    (!files.is_empty() && files.iter().all(is_unlike)).then_some(files.len())
}

/// Reads what a download is, and offers what it holds; says why where that is nothing.
fn offered(
    path: &Path,
    readers: &[&Reader],
    family: &Family,
    downloads: &Downloads<'_>,
) -> Result<Vec<Offer>, String> {
    let said = |error: Error| match error {
        Error::Archive { fault, .. } => fault.to_string(),
        Error::Release { fault, .. } => fault.to_string(),
        other => other.to_string(),
    };
    let artifact: Arc<Artifact> = Arc::new(downloads.artifact(path).map_err(said)?);
    let read = release::read(&artifact, readers, family, downloads).map_err(said)?;
    let offers = read.into_iter().map(|read| Offer {
        facts: read.facts,
        lays: Lays {
            content: read
                .content
                .filter(|content| *content != artifact.blake3)
                .map(Box::from),
            inside: read.inside.map(Box::from),
            ..Lays::default()
        }
        .stated(),
        artifact: artifact.clone(),
        origin: Origin::DropFolder,
        supply: None,
    });
    Ok(offers.collect())
}
