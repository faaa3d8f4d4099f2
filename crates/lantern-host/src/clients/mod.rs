//! Players' clients: what they must have, as a list and as an archive, and what a client's folder has.

pub mod fault;
mod kept;
mod pack;
mod seen;
mod to_have;

pub use kept::Content;
use kept::There;
pub use pack::{DELETE, LIST, Packed, write};
pub use seen::{Given, read};
pub use to_have::{files, ways};

use crate::archive::Archive;
use crate::config::{Server, family_text};
use crate::error::{At, Error, Result};
use crate::folder::own;
use crate::place::{Meta, here};
use crate::planning::{kinds_of_client, may_join};
use fault::ClientFault;
use lantern_core::clients::{ClientFile, ClientList, FORMAT, From, list};
use lantern_core::component::ClientTerms;
use lantern_core::family::{ClientKind, Family};
use lantern_core::inventory::Inventory;
use lantern_core::path::RelPath;
use lantern_core::plan::{ActionKind, Plan};
use lantern_core::tree::{is_unread, unread_at, unread_like};
use lantern_core::version::Version;
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

/// What one kind of client must have, and where each file of it is to be had.
#[derive(Debug)]
pub struct Listed {
    /// The list.
    pub list: ClientList,
    /// The kind of client; none where the family names none.
    pub kind: Option<ClientKind>,
    /// Kinds that lantern.toml names, and neither the family nor anything that runs states.
    pub unstated: Vec<String>,
    /// Where the files are that the administrator keeps, by their places in the list.
    contents: Vec<Content>,
    /// Where the files are that a plan brings, by their paths on the server.
    planned: BTreeMap<RelPath, Content>,
    /// Files of the server's that a plan changes as it is carried out.
    edited: Vec<RelPath>,
}

impl Listed {
    /// Where the content of a file on the list is to be had; none where that is the server folder.
    fn content(&self, from: &From) -> Option<&Content> {
        match from {
            From::Kept(at) => self.contents.get(*at),
            From::Server(path) => self.planned.get(path),
            From::Nowhere => None,
        }
    }

    /// Copies the content of a file on the list.
    fn copy(&self, server: &Server, file: &ClientFile, to: &mut dyn Write) -> Result<()> {
        match (&file.from, self.content(&file.from)) {
            (_, Some(content)) => kept::copy(content, to),
            (From::Server(path), None) => {
                let mut content = server.folder.open_file(path)?;
                io::copy(&mut *content, to).at("packing", &server.folder.shown(path))?;
                Ok(())
            }
            _ => Err(ClientFault::Nowhere(file.path.clone()).into()),
        }
    }
}

/// The kind of client that is meant: the one that is named, or else the server's own.
///
/// # Errors
/// When the family names no such kind.
fn kind(
    server: &Server,
    known: Vec<Option<ClientKind>>,
    named: Option<&str>,
) -> Result<Option<ClientKind>> {
    let mut known = known.into_iter();
    let Some(named) = named else {
        return Ok(known.next().flatten());
    };
    let spelled = server.family.ids.spell(named);
    let known: Vec<ClientKind> = known.flatten().collect();
    let found = known.iter().find(|kind| kind.name == spelled).cloned();
    found.map(Some).ok_or_else(|| {
        Error::Client(ClientFault::NoSuchKind {
            named: named.to_owned(),
            known: known.into_iter().map(|kind| kind.name).collect(),
        })
    })
}

/// What a kind of client must have to join the server as an inventory has it: the one that is named, or else the server's own. What of it
/// lies on another machine is read.
///
/// # Errors
/// When there is no such kind, or what the administrator keeps for clients cannot be read.
pub fn listed(server: &Server, inventory: &Inventory, named: Option<&str>) -> Result<Listed> {
    let known = kinds_of_client(server, inventory);
    let unstated = unstated(
        server,
        known.iter().flatten().map(|kind| kind.name.as_str()),
    );
    let kind = kind(server, known, named)?;
    let mut listed = listed_for(server, inventory, kind)?;
    listed.list = read_far(server, listed.list)?;
    listed.unstated = unstated;
    Ok(listed)
}

/// The kinds that lantern.toml names and that are none of these.
pub fn unstated<'k>(server: &Server, known: impl Iterator<Item = &'k str>) -> Vec<String> {
    let known: BTreeSet<&str> = known.collect();
    let of_ways = server
        .config
        .players
        .iter()
        .filter_map(|way| way.kind.as_ref());
    let of_clients = server.config.clients.iter().flat_map(|words| &words.kinds);
    let named: BTreeSet<&String> = of_clients.chain(of_ways).collect();
    let named = named
        .into_iter()
        .filter(|name| !known.contains(name.as_str()));
    named.cloned().collect()
}

fn listed_for(
    server: &Server,
    inventory: &Inventory,
    own_kind: Option<ClientKind>,
) -> Result<Listed> {
    let kind = own_kind.as_ref();
    let who = may_join(server, inventory, None, &[]);
    let own = kind.and_then(|kind| who.into_iter().find(|it| it.client == kind.name));
    let joins = own.and_then(|own| own.words());
    let (kept, contents) = kept::read(server, kind, &There::now(server, inventory)?)?;
    let list = list(&server.config.name, inventory, kind, joins);
    Ok(Listed {
        list: list.with(&kept),
        kind: own_kind,
        unstated: Vec::new(),
        contents,
        planned: BTreeMap::new(),
        edited: Vec::new(),
    })
}

/// Reads what clients must have and nobody has read so far, as it lies on another machine.
fn read_far(server: &Server, mut list: ClientList) -> Result<ClientList> {
    let files = list.items.iter_mut().flat_map(|item| &mut item.files);
    let unread = files.filter(|file| is_unread(&file.blake3));
    let unread: Vec<&mut ClientFile> = unread.collect();
    let read = |file: &mut ClientFile| -> Result<()> {
        if let From::Server(path) = &file.from {
            file.blake3 = server.folder.hash(path)?;
        }
        Ok(())
    };
    server
        .folder
        .with_hands(|| unread.into_par_iter().try_for_each(read))?;
    Ok(list)
}

/// The kinds of client of which a plan tells, as [`kinds_of_client`] gives those of an inventory.
fn planned_kinds(server: &Server, plan: &Plan) -> Vec<Option<ClientKind>> {
    let mut kinds = kinds_of_client(server, &Inventory::default());
    for change in &plan.clients {
        let is_new = kinds.iter().flatten().all(|it| it.name != change.client);
        if is_new {
            kinds.push(Some(ClientKind::let_in_only(
                &change.client,
                ClientTerms {
                    title: change.title.clone(),
                    ..ClientTerms::default()
                },
            )));
        }
    }
    kinds
}

/// What a kind of client must have once a plan has been carried out.
///
/// # Errors
/// As [`listed`].
pub fn planned(server: &Server, plan: &Plan, named: Option<&str>) -> Result<Listed> {
    let known = planned_kinds(server, plan);
    let unstated = unstated(
        server,
        known.iter().flatten().map(|kind| kind.name.as_str()),
    );
    let own_kind = kind(server, known, named)?;
    let kind = own_kind.as_ref();
    let name = kind.map(|kind| kind.name.as_str());
    let own = plan
        .client_lists
        .iter()
        .find(|list| list.client.as_deref() == name);
    let changes = plan
        .clients
        .iter()
        .find(|it| Some(it.client.as_str()) == name);
    let mut list = own.cloned().unwrap_or_else(|| ClientList {
        server_version: Some(plan.to.clone()).filter(|to| !to.is_empty()),
        ..list(
            &server.config.name,
            &Inventory::default(),
            kind,
            changes.and_then(|it| it.after.clone()),
        )
    });
    let on_server = |path: &RelPath| kind.map_or_else(|| path.clone(), |kind| kind.on_server(path));
    for file in list.items.iter_mut().flat_map(|item| &mut item.files) {
        file.from = From::Server(on_server(&file.path));
    }
    let list = read_far(server, list)?;
    let (kept, contents) = kept::read(server, kind, &There::after(server, plan)?)?;
    let planned = plan.actions.iter().filter_map(|action| {
        let source = action
            .source
            .as_ref()
            .filter(|_| action.what != ActionKind::Keep)?;
        let archive = PathBuf::from(&plan.archives.get(source.archive)?.file);
        let content = match &source.entry {
            Some(entry) => Content::Entry(archive, entry.clone()),
            None => Content::File(archive),
        };
        Some((action.path.clone(), content))
    });
    let edited: Vec<RelPath> = plan
        .of(ActionKind::Edit)
        .map(|action| action.path.clone())
        .collect();
    Ok(Listed {
        list: list.with(&kept),
        kind: own_kind.clone(),
        unstated,
        contents,
        planned: planned.collect(),
        edited,
    })
}

impl Listed {
    /// Puts the family into the list, so that a folder can be held against it without the server.
    ///
    /// # Errors
    /// When the family file cannot be read.
    pub fn with_family(mut self, server: &Server) -> Result<Listed> {
        self.list.family = Some(family_text(&server.config.family, server.folder.root())?);
        Ok(self)
    }
}

/// The folder of lists that were true before a changeover.
const EARLIER: &str = "client-lists";

/// Where the list of a kind of client is kept for a server version.
fn earlier_file(version: &str, kind: Option<&str>) -> Result<RelPath> {
    let plain = |text: &str| -> String {
        let is_plain = |c: char| c.is_ascii_alphanumeric() || ".-_+".contains(c);
        text.chars()
            .map(|c| if is_plain(c) { c } else { '_' })
            .collect()
    };
    let kind = plain(kind.unwrap_or("client"));
    Ok(own(EARLIER).join(&format!("{}/{kind}.json", plain(version)))?)
}

/// Keeps what clients must have now, so that it can be told later what has changed since.
///
/// # Errors
/// When it cannot be made or written.
pub fn remember(server: &Server, inventory: &Inventory) -> Result<()> {
    let Some(version) = inventory.server_version() else {
        return Ok(());
    };
    for kind in kinds_of_client(server, inventory) {
        let listed = listed_for(server, inventory, kind)?;
        let name = listed.kind.as_ref().map(|kind| kind.name.as_str());
        let file = earlier_file(version.as_str(), name)?;
        server
            .folder
            .make_folders(&file.folder().expect("it lies in one"))?;
        server.folder.write_whole(&file, &to_json(&listed.list))?;
    }
    Ok(())
}

/// An earlier list: of a server version, or in a file, a list or a pack.
///
/// # Errors
/// When there is none, or it is no list.
pub fn earlier(server: &Server, named: &str, kind: Option<&ClientKind>) -> Result<ClientList> {
    if here::look(Path::new(named)).is_some() {
        return read_list(Path::new(named));
    }
    let name = kind.map(|kind| kind.name.as_str());
    let all = server.folder.entries(&own(EARLIER)).unwrap_or_default();
    let mut known: Vec<String> = all.iter().map(|(path, _)| path.name().to_owned()).collect();
    known.sort();
    // `5.1` means 5.1.0, too.
    let read = |text: &str| Version::parse(text, server.family.versions.server).ok();
    let wanted = read(named);
    let meant = known
        .iter()
        .find(|it| *it == named || (wanted.is_some() && read(it) == wanted));
    let none = || {
        Error::Client(ClientFault::NoEarlier {
            version: named.to_owned(),
            known: known.clone(),
        })
    };
    let file = earlier_file(meant.ok_or_else(none)?, name)?;
    let bytes = server.folder.read_if_there(&file)?.ok_or_else(none)?;
    let list = parse(
        &server.folder.shown(&file),
        &String::from_utf8_lossy(&bytes),
    )?;
    read_since(server, list)
}

/// Reads what nobody had read when a list was remembered, as it lies on another machine, where it still looks as it did then.
fn read_since(server: &Server, mut list: ClientList) -> Result<ClientList> {
    let files = list.items.iter_mut().flat_map(|item| &mut item.files);
    let unread: Vec<&mut ClientFile> = files.filter(|file| is_unread(&file.blake3)).collect();
    let read = |file: &mut ClientFile| -> Result<()> {
        let Some(path) = unread_at(&file.blake3) else {
            return Ok(());
        };
        let Some(now) = server.folder.look(&path)?.filter(Meta::is_file) else {
            return Ok(());
        };
        let like = unread_like(&file.blake3, now.stamp.bytes, now.stamp.modified_ns);
        if like.as_ref() == Some(&file.blake3) {
            file.blake3 = server.folder.hash(&path)?;
        }
        Ok(())
    };
    server
        .folder
        .with_hands(|| unread.into_par_iter().try_for_each(read))?;
    Ok(list)
}

/// Reads a list: by itself, or in a pack.
///
/// # Errors
/// When it is none.
pub fn read_list(path: &Path) -> Result<ClientList> {
    let in_pack = Archive::open(path)
        .ok()
        .and_then(|mut archive| archive.text_at(LIST).ok().flatten());
    let text = match in_pack {
        Some(text) => text,
        None => here::read_text(path)?,
    };
    parse(path, &text)
}

/// The family that stands in a list.
///
/// # Errors
/// When it makes no sense.
pub fn family_of(path: &Path, text: &str) -> Result<Family> {
    Family::parse(text).map_err(|fault| {
        Error::Client(ClientFault::NoList {
            path: path.to_owned(),
            why: format!("the family in it makes no sense: {fault}"),
        })
    })
}

fn parse(path: &Path, text: &str) -> Result<ClientList> {
    let no_list = |why: String| {
        Error::Client(ClientFault::NoList {
            path: path.to_owned(),
            why,
        })
    };
    let list: ClientList = serde_json::from_str(text)
        .map_err(|error| no_list(format!("it is no list of what clients must have: {error}")))?;
    match list.format {
        FORMAT => Ok(list),
        other => Err(no_list(format!(
            "it is of format {other}; this lantern reads format {FORMAT}"
        ))),
    }
}

fn to_json(list: &ClientList) -> Vec<u8> {
    let mut text = serde_json::to_vec_pretty(list).expect("a list has only plain values");
    text.push(b'\n');
    text
}
