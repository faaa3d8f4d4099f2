//! Where releases come from, besides what a server's own settings name: here, or sent along to another machine.

use super::plans::Lacks;
use crate::config::Server;
use crate::depot::web_address;
use crate::error::{Error, Result};
use crate::folder::own;
use crate::gather::hashes_of;
use crate::place::here;
use crate::planning::Sources;
use crate::session::{self, Session, There};
use crate::signing;
use lantern_core::path::RelPath;
use lantern_core::supply::{HashKind, StatedFile, Supply};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

/// Where what is sent along lies, in a server's own room.
const FOLDER: &str = "sent";
/// So much of a hash names a folder of it.
const NAMED: usize = 16;

/// Where releases come from.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Offered {
    /// By paths of this machine.
    Here(Sources),
    /// Sent along from another one.
    Sent(SentAlong),
}

/// Files are sent by one at a time: the line is the same.
static SENDING: Mutex<()> = Mutex::new(());

/// What is sent along.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SentAlong {
    /// Addresses of catalogues: they are asked from there.
    addresses: Vec<String>,
    /// Catalogues as they are.
    texts: Vec<SentText>,
    /// What lies in drop folders; the files are in the store there by then.
    pub dropped: Vec<Supply>,
    /// Where files of catalogues, and those of drop folders, lie on the machine that sends them.
    #[serde(skip)]
    files: BTreeMap<String, PathBuf>,
}

/// A catalogue that is sent along.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SentText {
    name: String,
    text: String,
    /// Its signature, where one lies beside it.
    signature: Option<String>,
}

impl SentAlong {
    /// What has to be sent for these sources.
    ///
    /// # Errors
    /// When one of them cannot be read.
    pub fn of(sources: &Sources) -> Result<SentAlong> {
        let mut sent = SentAlong::default();
        for path in &sources.catalogues {
            if web_address(path).is_some() {
                sent.addresses.push(path.to_string_lossy().into_owned());
                continue;
            }
            let text = here::read_text(path)?;
            let beside = path.parent().unwrap_or(Path::new(""));
            for (check, file) in files_beside(&text) {
                sent.files.insert(check, beside.join(file.as_str()));
            }
            sent.texts.push(SentText {
                name: name_of(path)?,
                text,
                signature: here::read_text(&signing::beside(path)).ok(),
            });
        }
        for folder in &sources.drop_folders {
            for path in here::list(folder)? {
                let Some(meta) = here::look(&path).filter(|meta| meta.is_file()) else {
                    continue;
                };
                let hashes = here::open(&path)
                    .and_then(|mut file| hashes_of(&mut file, [HashKind::Blake3].into_iter()));
                let checks = hashes.map_err(|source| Error::Io {
                    doing: "reading",
                    path: path.clone(),
                    source,
                })?;
                for check in &checks {
                    sent.files.insert(check.to_string(), path.clone());
                }
                sent.dropped.push(Supply {
                    name: name_of(&path)?,
                    checks,
                    bytes: Some(meta.stamp.bytes),
                    ..Supply::default()
                });
            }
        }
        Ok(sent)
    }

    /// Has the machine of a server keep what its store lacks of these files, as far as they lie here; whether any does.
    ///
    /// # Errors
    /// When that machine cannot be asked, or does not take one.
    pub fn send(&self, there: &There, files: &[Supply]) -> Result<bool> {
        let files = files.iter().filter(|it| self.file(it).is_some());
        let files: Vec<Supply> = files.cloned().collect();
        if files.is_empty() {
            return Ok(false);
        }
        // Several servers of a machine may ask at once, and each file goes there once.
        let _one = SENDING.lock().unwrap_or_else(PoisonError::into_inner);
        let lacking = session::ask(there, &Lacks { files })?;
        if !lacking.is_empty() {
            let mut session = Session::open(there)?;
            for supply in lacking {
                if let Some(path) = self.file(&supply) {
                    session.send(path, &supply)?;
                }
            }
        }
        Ok(true)
    }

    /// Where a file lies here that a server there wants.
    pub fn file(&self, supply: &Supply) -> Option<&PathBuf> {
        let mut known = supply.checks.iter().map(ToString::to_string);
        known.find_map(|check| self.files.get(&check))
    }
}

impl Offered {
    /// Removes what was sent along before: what comes now takes its place.
    ///
    /// # Errors
    /// When it cannot be removed.
    pub fn forget(server: &Server) -> Result<()> {
        server.folder.remove_all(&own(FOLDER))
    }

    /// The same, by paths of the machine that the server lies on.
    ///
    /// # Errors
    /// When it cannot be written down there.
    pub fn sources(&self, server: &Server) -> Result<Sources> {
        let sent = match self {
            Offered::Here(sources) => return Ok(sources.clone()),
            Offered::Sent(sent) => sent,
        };
        let mut sources = Sources {
            catalogues: sent.addresses.iter().map(PathBuf::from).collect(),
            ..Sources::default()
        };
        let folder = &server.folder;
        let room = |hash: blake3::Hash, name: &str| -> Result<RelPath> {
            Ok(own(&format!("{FOLDER}/{}", &hash.to_hex()[..NAMED])).join(name)?)
        };
        for SentText {
            name,
            text,
            signature,
        } in &sent.texts
        {
            let path = room(blake3::hash(text.as_bytes()), name)?;
            folder.make_folders(&room_of(&path))?;
            folder.write_whole(&path, text.as_bytes())?;
            if let Some(signature) = signature {
                let beside = signing::beside(Path::new(path.as_str()));
                let beside = RelPath::parse(&beside.to_string_lossy())?;
                folder.write_whole(&beside, signature.as_bytes())?;
            }
            sources.sent.push(folder.shown(&path));
        }
        if !sent.dropped.is_empty() {
            let mut hash = blake3::Hasher::new();
            for supply in &sent.dropped {
                hash.update(supply.name.as_bytes());
                hash.update(supply.checks.first().map_or("", |it| &it.hex).as_bytes());
            }
            let hash = hash.finalize();
            let store = server.store();
            for supply in &sent.dropped {
                let path = room(hash, &supply.name)?;
                if folder.has(&path)? {
                    continue;
                }
                let stored = store
                    .find(supply)
                    .ok_or_else(|| Error::NotSent(supply.name.clone()))?;
                folder.make_folders(&room_of(&path))?;
                here::link(&stored.path, &folder.shown(&path))?;
            }
            let shown = folder.shown(&room(hash, "x")?);
            sources
                .drop_folders
                .extend(shown.parent().map(Path::to_owned));
        }
        Ok(sources)
    }
}

/// The files that lie beside a catalogue, by each hash that it states of them. What it says besides is not looked at here.
fn files_beside(text: &str) -> Vec<(String, RelPath)> {
    #[derive(Deserialize)]
    struct Outline {
        releases: Vec<Release>,
    }
    #[derive(Deserialize)]
    struct Release {
        archive: Option<StatedFile>,
    }
    let outline: Option<Outline> = serde_json::from_str(text).ok();
    let stated = outline.into_iter().flat_map(|outline| outline.releases);
    let stated = stated.filter_map(|release| release.archive);
    let files = stated.filter_map(|stated| {
        let file = RelPath::parse(stated.file.as_ref()?).ok()?;
        let (_, supply) = stated.read().ok()?;
        Some((file, supply.checks))
    });
    files
        .flat_map(|(file, checks)| {
            checks
                .into_iter()
                .map(move |it| (it.to_string(), file.clone()))
        })
        .collect()
}

/// The folder that something lies in which was sent along.
fn room_of(path: &RelPath) -> RelPath {
    path.folder().unwrap_or_else(|| own(FOLDER))
}

/// The last name of a path.
fn name_of(path: &Path) -> Result<String> {
    let name = path.file_name().and_then(|name| name.to_str());
    let name = name.ok_or_else(|| Error::OddPath(path.into()))?;
    Ok(name.to_owned())
}
