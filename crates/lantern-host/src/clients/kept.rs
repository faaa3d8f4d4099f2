//! What the administrator keeps for players' clients, as lantern.toml says.

use super::fault::ClientFault;
use crate::config::{ClientWords, Server};
use crate::downloads::{Downloads, hash_now};
use crate::error::{At, Error, Result};
use crate::folder::Folder;
use crate::ledger::Ledger;
use crate::place::here;
use crate::release::{self, Read};
use lantern_core::artifact::Artifact;
use lantern_core::clients::{ClientFile, Duty, From, Kept};
use lantern_core::component::{Id, Kind};
use lantern_core::family::{ClientKind, Reader};
use lantern_core::inventory::Inventory;
use lantern_core::offer::{Lays, Offer, Origin};
use lantern_core::path::RelPath;
use lantern_core::plan::{DrawFault, Plan};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Where the content of a file is that is kept for clients.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Content {
    /// A file by itself.
    File(PathBuf),
    /// An entry of an archive.
    Entry(PathBuf, String),
}

/// Reads what is kept for one kind of client, with where each file's content is.
///
/// `there` is what runs on the server: a release for clients is one of the same version and variant.
///
/// # Errors
/// When something is not there or cannot be read, or no release of the right version is.
pub fn read(
    server: &Server,
    kind: Option<&ClientKind>,
    there: &There,
) -> Result<(Vec<Kept>, Vec<Content>)> {
    let mut contents = Vec::new();
    let mut kept = Vec::new();
    let first = server.family.clients.first();
    let is_first = kind.is_none() || kind.map(|kind| &kind.name) == first.map(|kind| &kind.name);
    for words in &server.config.clients {
        let meant = match words.kinds.is_empty() {
            true => is_first,
            false => kind.is_some_and(|kind| words.kinds.contains(&kind.name)),
        };
        if meant {
            let mut reading = Reading {
                server,
                kind,
                there,
                contents: &mut contents,
            };
            kept.push(reading.read(words)?);
        }
    }
    Ok((kept, contents))
}

/// What runs on a server.
#[derive(Debug, Default)]
pub struct There {
    versions: BTreeMap<Id, String>,
    /// Of what comes in variants, which is chosen.
    variants: BTreeMap<Id, String>,
}

impl There {
    /// What an inventory has, in the variants that were chosen last.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn now(server: &Server, inventory: &Inventory) -> Result<There> {
        let running = inventory.components.iter().filter(|it| !it.runs.is_off());
        let versions = running.map(|it| (it.facts.id.clone(), it.facts.version.to_string()));
        Ok(There {
            versions: versions.collect(),
            variants: Ledger::open(&server.folder)?.variants()?,
        })
    }

    /// What is there once a plan has been carried out.
    ///
    /// # Errors
    /// As [`There::now`].
    pub fn after(server: &Server, plan: &Plan) -> Result<There> {
        let mut there = There::now(server, &Inventory::default())?;
        for change in &plan.components {
            let version = change.to.clone();
            there
                .versions
                .extend(version.map(|to| (change.id.clone(), to)));
            let variant = change.variant.clone();
            there
                .variants
                .extend(variant.map(|it| (change.id.clone(), it)));
        }
        Ok(there)
    }
}

struct Reading<'a> {
    server: &'a Server,
    kind: Option<&'a ClientKind>,
    there: &'a There,
    contents: &'a mut Vec<Content>,
}

impl Reading<'_> {
    fn read(&mut self, words: &ClientWords) -> Result<Kept> {
        let id = Id::new(&self.server.family.ids.spell(&words.id));
        let fault = |why: &str| {
            Error::Client(ClientFault::Words {
                id: words.id.clone(),
                why: why.into(),
            })
        };
        let nothing = Kept {
            id: id.clone(),
            version: None,
            is: words.is,
            place: None,
            files: Vec::new(),
        };
        let Some(said) = &words.from else {
            return match words.to {
                None => Ok(nothing),
                Some(_) => Err(fault(
                    "`to` says where files come to lie, and `from` is missing",
                )),
            };
        };
        if words.is == Duty::MustNotHave {
            return Err(fault(
                "what clients must not have has no files: leave `from` away",
            ));
        }
        let from = self.server.folder.root().join(said);
        let meta =
            here::look(&from).ok_or_else(|| fault(&format!("{} is not there", said.display())))?;
        if meta.is_folder() {
            let editions = self.editions(&id, &from)?;
            return match editions.is_empty() {
                true => Ok(Kept {
                    files: self.below(&from, words.to.as_ref())?,
                    place: words.to.clone(),
                    ..nothing
                }),
                false => self.right_edition(words, &id, said, editions),
            };
        }
        match self.as_release(&id, &from)? {
            // A pack's members are those of its version: another one would go against what the server has.
            Some(read) if read.facts.kind == Kind::Pack => {
                self.right_edition(words, &id, said, vec![(from, read)])
            }
            Some(read) => self.release(words, &id, &from, read),
            None => {
                let file = self.single(&from, words.to.as_ref())?;
                Ok(Kept {
                    place: Some(file.path.clone()),
                    files: vec![file],
                    ..nothing
                })
            }
        }
    }

    /// What a file is, as a family's readers know it; none where that is something else, or no release at all.
    fn as_release(&self, id: &Id, path: &Path) -> Result<Option<Read>> {
        let family = &self.server.family;
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let dropped = |reader: &&Reader| reader.drop.as_ref().is_some_and(|it| it.matches(&name));
        let readers: Vec<&Reader> = family.readers.iter().filter(dropped).collect();
        if readers.is_empty() {
            return Ok(None);
        }
        let downloads = Downloads::apart();
        let artifact = downloads.artifact(path)?;
        let read = release::read_for_clients(&artifact, &readers, family, &downloads);
        let read = read.unwrap_or_default().into_iter();
        Ok(read
            .filter(|read| read.inside.is_none())
            .find(|read| read.facts.id == *id))
    }

    /// The releases of a component in a folder.
    fn editions(&self, id: &Id, folder: &Path) -> Result<Vec<(PathBuf, Read)>> {
        let mut found = Vec::new();
        for path in here::list(folder)? {
            if here::look(&path).is_some_and(|meta| meta.is_file())
                && let Some(read) = self.as_release(id, &path)?
            {
                found.push((path, read));
            }
        }
        Ok(found)
    }

    /// Of several releases that which is of the server's version; of what does not run there the newest.
    fn right_edition(
        &mut self,
        words: &ClientWords,
        id: &Id,
        folder: &Path,
        editions: Vec<(PathBuf, Read)>,
    ) -> Result<Kept> {
        let wanted = self.there.versions.get(id);
        let is_right = |read: &Read| {
            wanted.is_none_or(|wanted| {
                let version = self.server.family.versions.version(false, wanted);
                version.is_ok_and(|version| version == read.facts.version)
            })
        };
        let known = editions
            .iter()
            .map(|(_, read)| read.facts.version.to_string())
            .collect();
        let right = editions.into_iter().filter(|(_, read)| is_right(read));
        let newest = right.max_by(|(_, a), (_, b)| a.facts.version.cmp(&b.facts.version));
        match newest {
            Some((path, read)) => self.release(words, id, &path, read),
            None => Err(Error::Client(ClientFault::NoEdition {
                id: id.clone(),
                version: wanted.cloned(),
                folder: folder.to_owned(),
                known,
            })),
        }
    }

    /// A release for clients, laid out as on the server, or below `to`.
    fn release(&mut self, words: &ClientWords, id: &Id, path: &Path, read: Read) -> Result<Kept> {
        let downloads = Downloads::apart();
        let artifact: Artifact = downloads.artifact(path)?;
        let version = Some(&read.facts.version).filter(|version| !version.is_content());
        let version = version.map(ToString::to_string);
        let offer = Offer {
            facts: read.facts,
            artifact: Arc::new(artifact),
            lays: Lays {
                content: read.content.map(Box::from),
                ..Lays::default()
            }
            .stated(),
            origin: Origin::DropFolder,
            supply: None,
        };
        let family = &self.server.family;
        let payload = release::payload(
            family,
            &offer,
            None,
            &self.variants(words, id),
            &|_| false,
            &downloads,
        );
        let payload = payload.map_err(|error| match error {
            Error::Draw(DrawFault::NoVariant { variants, .. }) => {
                Error::Client(ClientFault::Words {
                    id: words.id.clone(),
                    why: format!(
                        "it comes in the variants {}, and none is chosen: variant = \"{}\", or whichever",
                        variants.join(", "),
                        variants[0]
                    ),
                })
            }
            other => other,
        })?;
        let in_client = |path: &RelPath| match (self.kind, &words.to) {
            (_, Some(to)) => to.join(path.name()),
            (Some(kind), None) => Ok(kind.in_client(path)),
            (None, None) => Ok(path.clone()),
        };
        let mut files = Vec::new();
        for file in payload.files {
            files.push(ClientFile {
                path: in_client(&file.path)?,
                blake3: file.hash,
                bytes: file.bytes,
                from: From::Kept(self.contents.len()),
            });
            self.contents.push(match file.entry {
                Some(entry) => Content::Entry(path.to_owned(), entry),
                None => Content::File(path.to_owned()),
            });
        }
        Ok(Kept {
            id: id.clone(),
            version,
            is: words.is,
            place: Some(in_client(&payload.place)?),
            files,
        })
    }

    /// Which variant is meant: the one that is named, or that of the server.
    fn variants(&self, words: &ClientWords, id: &Id) -> BTreeMap<Id, String> {
        let named = words.variant.as_ref();
        let variant = named.or_else(|| self.there.variants.get(id));
        variant
            .map(|it| (id.clone(), it.clone()))
            .into_iter()
            .collect()
    }

    fn single(&mut self, path: &Path, to: Option<&RelPath>) -> Result<ClientFile> {
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let path_in_client = match to {
            Some(to) => to.join(&name)?,
            None => RelPath::parse(&name)?,
        };
        self.file(path.to_owned(), path_in_client)
    }

    fn file(&mut self, path: PathBuf, to: RelPath) -> Result<ClientFile> {
        let bytes = here::look(&path).map_or(0, |meta| meta.stamp.bytes);
        let file = ClientFile {
            path: to,
            blake3: hash_now(&path)?,
            bytes,
            from: From::Kept(self.contents.len()),
        };
        self.contents.push(Content::File(path));
        Ok(file)
    }

    /// All files of a folder.
    fn below(&mut self, folder: &Path, to: Option<&RelPath>) -> Result<Vec<ClientFile>> {
        let listed = Folder::open(folder)?.list()?;
        let mut files = Vec::new();
        for (path, _) in listed.files {
            let to = match to {
                Some(to) => to.join(path.as_str())?,
                None => path.clone(),
            };
            files.push(self.file(folder.join(path.as_str()), to)?);
        }
        Ok(files)
    }
}

/// Reads the content of a file that is kept.
///
/// # Errors
/// When it cannot be read.
pub fn copy(content: &Content, to: &mut dyn std::io::Write) -> Result<()> {
    match content {
        Content::File(path) => {
            let mut file = here::open(path).at("reading", path)?;
            std::io::copy(&mut *file, to).at("reading", path)?;
        }
        Content::Entry(archive, entry) => {
            let fault = |fault| Error::Archive {
                path: archive.clone(),
                fault,
            };
            let mut opened = crate::archive::Archive::open(archive)?;
            opened.copy(entry, to).map_err(fault)?;
        }
    }
    Ok(())
}
