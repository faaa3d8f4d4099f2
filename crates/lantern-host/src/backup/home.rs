//! Where a server's backups lie, and how what they hold is sealed.

use super::fault::BackupFault;
use super::seal::Seal;
use super::shelf::{Kept, Room, Shelf};
use crate::config::{BackupPlace, Server, StoreAt};
use crate::error::{Error, Result};
use crate::folder::{Folder, safe_name};
use crate::place::here;
use lantern_core::path::RelPath;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// The object that says what a store is.
const ABOUT: &str = "store.json";
/// The number of its format.
const FORMAT: u32 = 1;
/// The folder, in lantern's own, that keeps what was read of a store elsewhere.
const KEPT: &str = "store-kept";

/// Where a server's backups lie.
#[derive(Debug, Clone)]
pub struct Home {
    /// What the store lies on.
    pub shelf: Arc<dyn Shelf>,
    /// What its objects are sealed with.
    pub seal: Seal,
    /// Whether other servers' backups lie there, too, and share what they have in common.
    pub shared: bool,
    /// Whether each request is waited for.
    pub is_elsewhere: bool,
    /// The room of this server's pages.
    pub pages: String,
}

/// What a store says of itself.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct About {
    /// The number of the format: 1.
    pub format: u32,
    /// Tells the key that it is sealed with; none where it is not sealed.
    pub key: Option<String>,
}

/// Stores elsewhere that are open, with since when.
type Open = BTreeMap<(PathBuf, String), (Instant, Home)>;

/// Each is opened once, and anew after a while: keys are exchanged under who is long at work.
static OPEN: Mutex<Open> = Mutex::new(BTreeMap::new());
const KEPT_OPEN: Duration = Duration::from_secs(10 * 60);

/// Finds a server's store.
///
/// # Errors
/// When it is not reached or not there, or is sealed with another key.
pub fn home(server: &Server) -> Result<Home> {
    let key = (
        server.folder.root().to_owned(),
        format!("{:?}", server.config.backup),
    );
    let known = |open: &Open| {
        let (since, home) = open.get(&key)?;
        (since.elapsed() < KEPT_OPEN).then(|| home.clone())
    };
    if let Some(home) = known(&OPEN.lock().unwrap_or_else(PoisonError::into_inner)) {
        return Ok(home);
    }
    let home = found(server, true)?;
    if server
        .config
        .backup
        .at
        .as_ref()
        .is_some_and(StoreAt::is_elsewhere)
    {
        let mut open = OPEN.lock().unwrap_or_else(PoisonError::into_inner);
        open.insert(key, (Instant::now(), home.clone()));
    }
    Ok(home)
}

/// As [`home`], with nothing that was kept here of it: to see what is there.
///
/// # Errors
/// As [`home`].
pub fn home_itself(server: &Server) -> Result<Home> {
    found(server, false)
}

fn found(server: &Server, keeping: bool) -> Result<Home> {
    let config = &server.config.backup;
    let Some(at) = &config.at else {
        let own = server.folder.make_own("store")?;
        return Ok(Home {
            shelf: Arc::new(Room::new(&server.folder, Some(&own), false)),
            seal: Seal::none(),
            shared: false,
            is_elsewhere: false,
            pages: "backups".into(),
        });
    };
    let shared = config.is_shared();
    let room = room_of(server);
    let within = (!shared).then(|| RelPath::parse(&room)).transpose()?;
    let shelf: Arc<dyn Shelf> = match at {
        StoreAt::Folder(path) => {
            let folder = folder(server, path)?;
            if let Some(within) = &within {
                folder.make_private(within)?;
            }
            Arc::new(Room::new(&folder, within.as_ref(), false))
        }
        StoreAt::Sftp(address) => {
            let folder = Folder::elsewhere(address, &config.means())?;
            Arc::new(Room::new(&folder, within.as_ref(), true))
        }
        StoreAt::Bucket(bucket) => {
            let mut bucket = bucket.clone();
            let root = server.folder.root();
            let file = |path: &PathBuf| root.join(path);
            bucket.credentials = bucket.credentials.as_ref().map(file);
            bucket.ca = bucket.ca.as_ref().map(file);
            if !shared {
                bucket.prefix += &format!("{room}/");
            }
            bucket.shelf()?
        }
    };
    let shelf: Arc<dyn Shelf> = match at.is_elsewhere() && keeping {
        false => shelf,
        true => Arc::new(Kept {
            shelf,
            folder: server.folder.clone(),
            at: server.folder.make_own(KEPT)?,
        }),
    };
    let key = config.key.as_ref();
    let seal = key.map(|path| Seal::read(&server.folder.root().join(path)));
    let home = Home {
        shelf,
        seal: seal.transpose()?.unwrap_or(Seal::none()),
        shared,
        is_elsewhere: at.is_elsewhere(),
        pages: match shared {
            true => format!("backups/{room}"),
            false => "backups".into(),
        },
    };
    home.is_sealed_as_it_says()?;
    Ok(home)
}

impl Home {
    /// A store of one's own in a folder.
    #[cfg(test)]
    pub(super) fn in_a_folder(path: &Path) -> Home {
        let folder = Folder::open(path).unwrap();
        Home {
            shelf: Arc::new(Room::new(&folder, None, false)),
            seal: Seal::none(),
            shared: false,
            is_elsewhere: false,
            pages: "backups".into(),
        }
    }

    /// Whether the key is the store's; a new store writes down which it is.
    fn is_sealed_as_it_says(&self) -> Result<()> {
        let mark = self.seal.mark();
        let fault = |why: &str| {
            let why = format!("{}: {why}", self.shelf.shown(ABOUT));
            Error::Backup(BackupFault::Key { why })
        };
        let mut said = self.shelf.read(ABOUT)?;
        if said.is_none() && (mark.is_some() || self.shared || self.is_elsewhere) {
            if mark.is_some() && !self.shelf.list("packs")?.is_empty() {
                return Err(fault(
                    "there are backups without a key; those with one need a store of their own",
                ));
            }
            let about = About {
                format: FORMAT,
                key: mark.map(str::to_owned),
            };
            let about = serde_json::to_vec(&about).expect("it has only plain values");
            if !self.shelf.write_new(ABOUT, &about)? {
                said = self.shelf.read(ABOUT)?;
            }
        }
        let Some(said) = said else {
            return Ok(());
        };
        let about: About =
            serde_json::from_slice(&said).map_err(|error| fault(&error.to_string()))?;
        if about.format != FORMAT {
            return Err(fault(&format!(
                "it is of format {}; this lantern knows format {FORMAT}",
                about.format
            )));
        }
        match (about.key.as_deref(), mark) {
            (said, mark) if said == mark => Ok(()),
            (Some(_), None) => Err(fault("the store is sealed, and no key is stated")),
            (Some(said), Some(mark)) => Err(fault(&format!(
                "the store is sealed with the key {said}, and the one that is stated is {mark}"
            ))),
            (None, _) => Err(fault("the store is not sealed, and a key is stated")),
        }
    }

    /// What a page is called on the shelf.
    pub(super) fn page(&self, name: &str) -> String {
        // Of another server, with its room in front.
        let pages = match name.contains('/') {
            true => "backups",
            false => &self.pages,
        };
        format!("{pages}/{name}.json")
    }

    /// Whether a text may be the name of a backup, and no way to anywhere else.
    pub(super) fn may_be_named(&self, name: &str) -> bool {
        let is_path = RelPath::parse(name).is_ok();
        is_path && name.matches('/').count() <= usize::from(self.shared)
    }
}

/// The room of a server in a store of several.
fn room_of(server: &Server) -> String {
    let config = &server.config;
    format!("{}-{}", safe_name(&config.name), config.id)
}

/// The folder that `lantern.toml` names, which may be on another disk.
fn folder(server: &Server, path: &Path) -> Result<Folder> {
    let gone = |why: &str| {
        Error::Backup(BackupFault::StorePlace {
            path: path.to_owned(),
            why: why.into(),
        })
    };
    let base = server.folder.root().join(path);
    let real = here::real(&base).ok_or_else(|| gone("is not there: is its disk mounted?"))?;
    if server.folder.below(&real).is_some() {
        return Err(gone("lies in the server folder itself"));
    }
    Folder::open(&real)
}

/// The folder of this machine that keeps others out while a server's backups are written; none where the store has no such.
///
/// # Errors
/// When the store is not there.
pub fn lock_room(server: &Server) -> Result<Option<(Folder, RelPath)>> {
    let Some(StoreAt::Folder(path)) = &server.config.backup.at else {
        return Ok(None);
    };
    let (folder, room) = (folder(server, path)?, room_of(server));
    let room = match server.config.backup.is_shared() {
        false => RelPath::parse(&room)?,
        true => {
            folder.make_private(&RelPath::parse("backups")?)?;
            RelPath::parse(&format!("backups/{room}"))?
        }
    };
    folder.make_private(&room)?;
    Ok(Some((folder, room)))
}

impl BackupPlace {
    /// Whether servers that name the same store share contents.
    pub fn is_shared(&self) -> bool {
        let elsewhere = self.at.as_ref().is_some_and(StoreAt::is_elsewhere);
        self.shared.unwrap_or(elsewhere)
    }
}
