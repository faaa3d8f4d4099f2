//! Fetching files before they are needed: all at once, some from each host at a time, into a store that all servers of this
//! machine share.

mod cached;
mod digest;
mod dropped;
pub mod fault;
mod one;
mod store;
mod words;

pub use cached::{Stale, Text};
pub use dropped::{Found, NotIt, find};
pub use one::Come;
pub use store::{Store, Stored};
pub use words::{GatherWords, KeyWords, Size};

use crate::error::{Error, Result};
use crate::meter;
use crate::place::here;
use crate::web::{Ask, Web, address, host_of};
pub(crate) use digest::Digest;
use fault::GatherFault;
use lantern_core::artifact::Artifact;
use lantern_core::plan::Plan;
use lantern_core::supply::{Checksum, HashKind, Supply, Wanted};
use std::collections::BTreeMap;
use std::io::{self, Read};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Condvar, Mutex, PoisonError};
use url::Url;

/// So many files are on their way at once, at most, whatever the hosts allow.
const MOST_AT_ONCE: usize = 16;

/// Why a file is not there.
#[derive(Debug)]
pub enum Missing {
    /// Only a person can fetch it, from a page, and why.
    ByPerson(String),
    /// Nobody says an address of it.
    NoAddress,
    /// What each address gave.
    Tried(Vec<(String, GatherFault)>),
}

/// Fetches files.
#[derive(Debug)]
pub struct Gatherer {
    /// Where they go.
    pub store: Store,
    web: Web,
    connections: usize,
    keys: Vec<Key>,
}

/// What a host wants to be shown.
#[derive(Debug, Clone)]
struct Key {
    host: String,
    header: String,
    value: String,
}

impl Gatherer {
    /// As `lantern.toml` says; its paths are relative to a folder.
    ///
    /// # Errors
    /// When a file that it names cannot be read, or a variable is not set.
    pub fn new(words: &GatherWords, folder: &Path) -> Result<Gatherer> {
        let whole = |path: &std::path::PathBuf| folder.join(path);
        let keys = words.keys.iter().map(|key| {
            let unsaid = |why: String| Error::NoKey {
                host: key.host.clone(),
                why,
            };
            let value = match (&key.env, &key.file) {
                (Some(name), None) => std::env::var(name)
                    .map_err(|_| unsaid(format!("the variable {name} is not set")))?,
                (None, Some(file)) => here::read_text(&folder.join(file))?,
                _ => return Err(unsaid("it needs either env or file".into())),
            };
            Ok(Key {
                host: key.host.clone(),
                header: key.header.clone(),
                value: format!("{}{}", key.before, value.trim()),
            })
        });
        Ok(Gatherer {
            store: Store::at(words.store.as_ref().map(whole).as_deref()),
            web: Web::new(words.ca.as_ref().map(whole).as_deref())?,
            connections: words.connections.clamp(1, MOST_AT_ONCE),
            keys: keys.collect::<Result<_>>()?,
        })
    }

    /// What is asked of a host, with what it wants to be shown.
    pub(crate) fn ask(&self, url: &Url) -> Ask {
        let host = host_of(url);
        let keys = self.keys.iter().filter(|key| key.host == host);
        Ask {
            secret: keys
                .map(|key| (key.header.clone(), key.value.clone()))
                .collect(),
            headers: Vec::new(),
        }
    }

    /// Asks the web.
    pub(crate) fn web(&self) -> &Web {
        &self.web
    }

    /// Fetches what is not in the store yet; `tell` hears of each file as it comes, or does not.
    ///
    /// One answer for each, in their order.
    pub fn fetch(
        &self,
        wanted: &[Wanted],
        tell: &(dyn Fn(&Wanted, &Result<Come, Missing>) + Sync),
    ) -> Vec<Result<Come, Missing>> {
        meter::begin(wanted.iter().filter_map(|it| it.supply.bytes).sum());
        let next = AtomicUsize::new(0);
        let answers: Vec<Mutex<Option<Result<Come, Missing>>>> =
            wanted.iter().map(|_| Mutex::new(None)).collect();
        let hosts = Hosts::default();
        std::thread::scope(|scope| {
            for _ in 0..wanted.len().min(MOST_AT_ONCE) {
                scope.spawn(|| {
                    loop {
                        let at = next.fetch_add(1, Ordering::Relaxed);
                        let (Some(it), Some(answer)) = (wanted.get(at), answers.get(at)) else {
                            return;
                        };
                        let come = self.one(&it.supply, &hosts);
                        tell(it, &come);
                        *answer.lock().unwrap_or_else(PoisonError::into_inner) = Some(come);
                    }
                });
            }
        });
        let answers = answers.into_iter().map(|answer| {
            let answer = answer.into_inner().unwrap_or_else(PoisonError::into_inner);
            answer.unwrap_or(Err(Missing::NoAddress))
        });
        answers.collect()
    }

    fn one(&self, supply: &Supply, hosts: &Hosts) -> Result<Come, Missing> {
        if let Some(stored) = self.store.find(supply) {
            meter::had(stored.bytes);
            return Ok(Come::there(stored));
        }
        if let Some(why) = &supply.by_person {
            return Err(Missing::ByPerson(why.clone()));
        }
        let first = supply.urls.iter().find_map(|url| address(url).ok());
        let Some(first) = first else {
            return Err(Missing::NoAddress);
        };
        let _slot = hosts.enter(&host_of(&first), self.connections);
        one::fetch(supply, &self.store, &self.web, &|url| self.ask(url)).map_err(Missing::Tried)
    }
}

/// What a plan's archives are, that are not where they should be and can be had again.
pub fn wanted_by(plan: &Plan) -> Vec<Wanted> {
    let wanted = gone(plan).map(|(archive, path)| {
        let name = path
            .file_name()
            .map(|name| name.to_string_lossy().into_owned());
        let name = name.unwrap_or_default();
        Wanted {
            what: name.clone(),
            supply: Supply {
                name,
                urls: archive.urls.clone(),
                checks: Checksum::of(HashKind::Blake3, &archive.blake3)
                    .into_iter()
                    .collect(),
                bytes: Some(archive.bytes),
                page: None,
                by_person: None,
                released_ms: None,
            },
        }
    });
    wanted.collect()
}

/// Puts what a plan's archives are where the plan has them, once the store has them.
///
/// # Errors
/// When the disk refuses.
pub fn put_for(plan: &Plan, store: &Store) -> Result<()> {
    let places: Vec<&Path> = gone(plan).map(|(_, path)| path).collect();
    for (wanted, path) in wanted_by(plan).iter().zip(places) {
        if let Some(stored) = store.find(&wanted.supply)
            && here::look(path).is_none()
        {
            here::make_folders(path.parent().unwrap_or(Path::new(".")))?;
            here::link(&stored.path, path)?;
        }
    }
    Ok(())
}

/// A plan's archives that are not where it has them, and can be had again.
fn gone(plan: &Plan) -> impl Iterator<Item = (&Artifact, &Path)> {
    let archives = plan.archives.iter();
    let with_path = archives.map(|archive| (archive, Path::new(&archive.file)));
    with_path.filter(|(archive, path)| !archive.urls.is_empty() && here::look(path).is_none())
}

/// Takes hashes of a file, BLAKE3 in any case.
///
/// # Errors
/// When it cannot be read.
pub fn hashes_of(
    file: &mut dyn Read,
    kinds: impl Iterator<Item = HashKind>,
) -> io::Result<Vec<Checksum>> {
    let mut digest = Digest::of(kinds);
    let mut buffer = vec![0; 1 << 17];
    loop {
        match file.read(&mut buffer)? {
            0 => return Ok(digest.finish()),
            many => digest.update(&buffer[..many]),
        }
    }
}

/// The first hash stated of a file that is not among those taken of it, and what it is instead; one that was not taken says
/// nothing.
pub fn differing<'c>(
    stated: impl IntoIterator<Item = &'c Checksum>,
    taken: &'c [Checksum],
) -> Option<(&'c Checksum, &'c Checksum)> {
    stated.into_iter().find_map(|stated| {
        let mut taken = taken.iter();
        let taken = taken.find(|taken| taken.kind == stated.kind && *taken != stated);
        Some((stated, taken?))
    })
}

/// How many files are on their way from each host.
#[derive(Debug, Default)]
struct Hosts {
    busy: Mutex<BTreeMap<String, usize>>,
    left: Condvar,
}

/// One of a host's places.
struct Slot<'h> {
    hosts: &'h Hosts,
    host: String,
}

impl Hosts {
    /// Waits for a place.
    fn enter(&self, host: &str, most: usize) -> Slot<'_> {
        let mut busy = self.busy.lock().unwrap_or_else(PoisonError::into_inner);
        while busy.get(host).copied().unwrap_or(0) >= most {
            busy = self.left.wait(busy).unwrap_or_else(PoisonError::into_inner);
        }
        *busy.entry(host.to_owned()).or_default() += 1;
        Slot {
            hosts: self,
            host: host.to_owned(),
        }
    }
}

impl Drop for Slot<'_> {
    fn drop(&mut self) {
        let busy = self.hosts.busy.lock();
        let mut busy = busy.unwrap_or_else(PoisonError::into_inner);
        if let Some(many) = busy.get_mut(&self.host) {
            *many -= 1;
        }
        self.hosts.left.notify_all();
    }
}
