//! Taking a server folder into care.

pub mod fault;
mod several;

use several::drafted_in;
pub use several::{blocks, drafted};

use crate::adopt::fault::AdoptFault;
use crate::config::{self, FILE, Server};
use crate::error::{Error, Result};
use crate::folder::{Folder, Listing};
use crate::identity;
use crate::known;
use crate::layers;
use crate::ledger::Ledger;
use crate::lock::Lock;
use crate::place::{Address, Means, Password, here};
use crate::records::Brought;
use crate::shipped;
use crate::survey::{Depth, Survey, survey_listed};
use lantern_core::family::Family;
use lantern_core::inventory::{Component, Remembered};
use lantern_core::path::RelPath;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// What the administrator says at adoption.
#[derive(Debug, Clone, Default)]
pub struct AdoptOptions<'a> {
    /// A family's name or the path of a family file; otherwise the one whose marks fit.
    pub family: Option<&'a str>,
    /// The server's name; otherwise the folder's.
    pub name: Option<&'a str>,
    /// The server version, for a build that lies outside the folder, or one of which nothing tells it.
    pub server_version: Option<&'a str>,
    /// Of a folder on another machine, its address: what is lantern's own then lies in the folder that is named besides.
    pub far: Option<Address>,
    /// How that machine is reached.
    pub means: Means,
}

/// The folder on this machine for the settings and records of a server that lies on another one, made where it is not there:
/// below `XDG_DATA_HOME`, or `~/.local/share`.
///
/// # Errors
/// When neither is set, the name is none for a folder, or it cannot be made.
pub fn home(name: &str) -> Result<PathBuf> {
    let home = known::data().ok_or(AdoptFault::NoHome)?;
    let name = RelPath::parse(name).ok().filter(|it| it.folder().is_none());
    let folder = home.join(name.ok_or(AdoptFault::NoName)?.as_str());
    here::make_folders(&folder)?;
    Ok(folder)
}

/// Takes a server folder into care: writes `lantern.toml` and the ledger.
///
/// # Errors
/// When it is in care already, or no single family fits.
pub fn adopt(path: &Path, wishes: &AdoptOptions<'_>) -> Result<(Server, Survey)> {
    let mut folder = Folder::open(path)?;
    let settings = RelPath::parse(FILE)?;
    let address = wishes.far.as_ref().map(ToString::to_string);
    let shown = address.as_deref().map_or(path, Path::new);
    if folder.has(&settings)? {
        return Err(AdoptFault::AlreadyAdopted(path.into()).into());
    }
    if let Some(address) = &wishes.far {
        folder = folder.of_far(address, &wishes.means)?;
    }
    let (family, named) = match wishes.family {
        Some(name) => {
            let here = std::path::absolute(name).unwrap_or_else(|_| name.into());
            let known = config::family(name, Path::new(""))?;
            let named = if known.name == name {
                name.to_owned()
            } else {
                here.display().to_string()
            };
            (known, named)
        }
        None => {
            let family = fitting(&folder, shown)?;
            let name = family.name.clone();
            (family, name)
        }
    };
    let folder_name = folder
        .root()
        .file_name()
        .map(|name| name.to_string_lossy().into_owned());
    let name = wishes
        .name
        .map(str::to_owned)
        .or(folder_name)
        .unwrap_or_default();
    let id = mark();
    let text = settings_text(&name, &id, &named, &family, wishes);
    let _lock = Lock::take(&folder, "adopt")?;
    // What lies there from an earlier time, or came along in a copy, is no longer true.
    identity::forget(&folder)?;
    identity::confirm(&folder)?;
    folder.write_whole(&settings, text.as_bytes())?;
    let taken = Server::open(path).and_then(|server| {
        let brought = server.brought.clone();
        let listing = server.folder.list()?;
        let (mut server, listing) = state_several(server, listing, path, &text)?;
        server.brought = brought;
        match server.brought {
            // What somebody else knows of it is more than what is seen now.
            Brought::Theirs(_) => {
                let mut ledger = Ledger::open(&server.folder)?;
                let found = survey_listed(&server, &mut ledger, Depth::Usual, listing)?;
                Ok((server, found))
            }
            Brought::Nothing | Brought::Apart(_) | Brought::Unread(_) => take_in(server, listing),
        }
    });
    match &taken {
        Ok(_) => known::remember(&name, folder.root()),
        Err(_) => {
            let _ = folder.remove_file(&settings);
        }
    }
    taken
}

/// States the servers in `lantern.toml`, where start scripts tell that several run on the install.
fn state_several(
    server: Server,
    listing: Listing,
    path: &Path,
    text: &str,
) -> Result<(Server, Listing)> {
    let servers = drafted_in(&server, &listing)?;
    if servers.is_empty() {
        return Ok((server, listing));
    }
    let settings = RelPath::parse(FILE)?;
    let with = format!(
        "{text}\n# Several servers run on this install, by their start scripts; what each has in place of what the family names.\n\
         # Look it over: a path that is missing here is taken for common.\n{}",
        blocks(&servers)
    );
    server.folder.write_whole(&settings, with.as_bytes())?;
    let server = match Server::open(path) {
        Ok(several) => several,
        // The scripts do not tell them apart after all.
        Err(_) => {
            server.folder.write_whole(&settings, text.as_bytes())?;
            server
        }
    };
    let listing = server.folder.list()?;
    Ok((server, listing))
}

/// Takes every file of a server that is in care into its ledger, as it is now: what a lost ledger knew of releases and edits
/// is not known again.
///
/// # Errors
/// When the folder is not in care, or cannot be read.
pub fn adopt_again(path: &Path) -> Result<(Server, Survey)> {
    let server = Server::open(path)?;
    let _lock = Lock::take(&server.folder, "adopt")?;
    identity::confirm(&server.folder)?;
    let listing = server.folder.list()?;
    take_in(server, listing)
}

/// Writes all that is found into the ledger.
fn take_in(server: Server, listing: Listing) -> Result<(Server, Survey)> {
    let mut ledger = Ledger::open(&server.folder)?;
    let found = survey_listed(&server, &mut ledger, Depth::Everything, listing)?;
    ledger.put(&rows(&found))?;
    keep_overlays(&server, &found)?;
    keep_texts(&server, &ledger, &found)?;
    Ok((server, found))
}

/// The one shipped family whose marks are all there.
fn fitting(folder: &Folder, path: &Path) -> Result<Family> {
    let listing = folder.list()?;
    let missing = |family: &Family| {
        let marks = family.marks.iter();
        let mut absent = marks.filter(|mark| {
            !listing
                .files
                .iter()
                .any(|(path, _)| mark.matches(path.as_str()))
        });
        absent.next().map(|mark| mark.as_str().to_owned())
    };
    let mut tried = Vec::new();
    let mut fitting = Vec::new();
    for family in config::shipped_families()? {
        match missing(&family) {
            None => fitting.push(family),
            Some(mark) => tried.push((family.name, mark)),
        }
    }
    match fitting.len() {
        1 => Ok(fitting.remove(0)),
        0 => Err(Error::Adopt(AdoptFault::NoFamily {
            path: path.into(),
            tried,
        })),
        _ => Err(Error::Adopt(AdoptFault::SeveralFamilies {
            path: path.into(),
            families: fitting.into_iter().map(|family| family.name).collect(),
        })),
    }
}

/// Keeps copies of what frameworks have laid over the build, to lay it again when that is lost.
fn keep_overlays(server: &Server, found: &Survey) -> Result<()> {
    for component in &found.inventory.components {
        for (path, hash) in &component.holdings.overlay {
            if component.files.iter().any(|file| file.path == *path) && !hash.is_empty() {
                layers::keep(&server.folder, hash, || server.folder.read(path))?;
            }
        }
    }
    Ok(())
}

/// Keeps the texts of components and settings as they were found.
fn keep_texts(server: &Server, ledger: &Ledger, found: &Survey) -> Result<()> {
    let files = found.planned_files(server);
    let files = files.filter_map(|file| Some((&file.path, file.hash.as_deref()?)));
    shipped::keep_files(&server.folder, ledger, files)
}

/// What the ledger writes down of every file at adoption.
fn rows(found: &Survey) -> BTreeMap<RelPath, Option<Remembered>> {
    let mut owners: BTreeMap<&RelPath, &Component> = BTreeMap::new();
    for component in &found.inventory.components {
        owners.extend(component.files.iter().map(|file| (&file.path, component)));
    }
    let files = found.files.iter().filter_map(|file| {
        let owner = owners.get(&file.path);
        let known = Remembered {
            hash: file.hash.clone()?,
            owner: owner.map(|component| component.ledger_name()),
            version: owner.map(|component| component.facts.version.to_string()),
            shipped: false,
            under: None,
        };
        Some((file.path.clone(), Some(known)))
    });
    files.collect()
}

/// A mark that no other server has.
pub fn mark() -> String {
    let now = jiff::Timestamp::now().as_nanosecond();
    let seed = format!("{now} {}", std::process::id());
    blake3::hash(seed.as_bytes()).to_hex()[..16].to_owned()
}

fn settings_text(
    name: &str,
    id: &str,
    family_name: &str,
    family: &Family,
    wishes: &AdoptOptions<'_>,
) -> String {
    let quoted = |text: &str| toml_edit::Value::from(text).to_string();
    let mut text = format!(
        "# Warm Lantern looks after this server. All keys: lantern docs lantern-toml\n\
         format = 1\n\
         name = {}\n\
         id = {}        # this server's own mark: leave it\n\
         family = {}    # what kind of server this is\n",
        quoted(name),
        quoted(id),
        quoted(family_name),
    );
    if let Some(address) = &wishes.far {
        let address = quoted(&address.to_string());
        text.push_str(&format!("folder = {address}    # where the server is\n"));
    }
    if let Some(words) = &wishes.means.through {
        let words: toml_edit::Array = words.iter().collect();
        text.push_str(&format!("through = {words}    # how it is reached\n"));
    }
    if let Some(path) = &wishes.means.ca {
        let path = quoted(&path.display().to_string());
        text.push_str(&format!(
            "ca = {path}    # whom to believe that it is that machine\n"
        ));
    }
    match &wishes.means.password {
        None => {}
        Some(Password::Env(name)) => text.push_str(&format!(
            "password_env = {}    # the variable that holds the password\n",
            quoted(name)
        )),
        Some(Password::File(path)) => text.push_str(&format!(
            "password_file = {}    # the file that holds the password\n",
            quoted(&path.display().to_string())
        )),
    }
    match (family.build.outside, wishes.server_version) {
        (outside, Some(version)) => text.push_str(&format!(
            "server_version = {}    # {}\n",
            quoted(version),
            match outside {
                true => "the server program lies outside this folder",
                false => "of the server program, as long as nothing in this folder tells it",
            }
        )),
        (true, None) => text.push_str(
            "# server_version = \"\"    # the server program lies outside this folder: say its version here\n",
        ),
        (false, None) => {}
    }
    text.push_str(
        "\n# Where releases come from: listings of what there is, and a folder for what you fetch by hand.\n\
         # catalogues = [\"../releases.catalogue.json\"]\n\
         # drop = [\"../drop\"]\n\
         \n# Paths that no changeover writes, besides the family's.\n\
         # keep = [\"screenshots/**\"]\n\
         \n# What players are told before the server stops.\n\
         [warn]\n\
         at = [\"10s\"]        # more: [\"10m\", \"1m\", \"10s\"]\n\
         # text = \"The server restarts in {time} for an update.\"\n",
    );
    text
}
