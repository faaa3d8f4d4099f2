//! What is known of a server on another machine, kept beside its files there too, so that whoever works at it from elsewhere knows the same.
//!
//! It is written when an operation ends, and when a plan is armed or waits for decisions, to `.lantern/records.json.zst` there; each command
//! looks whether somebody else has written it since. What was begun and not ended, the copy of the journal tells.

use crate::config::fault::ConfigFault;
use crate::error::{At, Error, Result};
use crate::folder::{Folder, own};
use crate::ledger::{Ledger, Rows};
use crate::place::Stamp;
use crate::runner::somebody;
use crate::told::plain;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use lantern_core::operation::is_own;
use lantern_core::path::RelPath;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;

/// The number of the format.
const FORMAT: u32 = 1;

/// No longer text is read, in bytes.
const LONGEST: u64 = 1 << 28;

/// What of lantern's own is told besides the ledger: files, and folders of files. The rest is of one machine alone, or can be made again.
const FILES: [&str; 7] = [
    "armed.json",
    "next.plan.json",
    "next.question.json",
    "decisions.json",
    "learned.json",
    "client-list.json",
    "watched.json",
];
const FOLDERS: [&str; 5] = ["layers", "decided", "patches", "launch", "client-lists"];

/// The records as they lie there.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Records {
    format: u32,
    /// Counts up, whoever writes them.
    number: u64,
    /// Who wrote them.
    who: String,
    /// The marks of the adoptions by which those came there who have written them.
    marks: BTreeSet<String>,
    ledger: Rows,
    /// By path below lantern's own folder, as base64.
    files: BTreeMap<String, String>,
}

/// What this machine knows of the records there.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Memory {
    /// The number of those that it took or wrote last, and the hash of their bytes.
    number: u64,
    hash: String,
    /// What the file there looked like then.
    stamp: Option<Stamp>,
    /// Who wrote those there, where they cannot be taken without losing what was done from here.
    apart: Option<String>,
    /// Why those of this machine could not be written there.
    unshared: Option<String>,
    /// Whether they are somebody else's, and none were written from here since.
    is_taken: bool,
    /// The marks of other adoptions of the same server.
    marks: BTreeSet<String>,
    /// Of those there that no ledger could take, the hash of their bytes, and why.
    unread: Option<(String, String)>,
}

/// Records that lie there.
struct Found {
    records: Records,
    /// Of the file's bytes.
    hash: String,
    /// What the file looks like.
    stamp: Stamp,
}

fn file() -> RelPath {
    own("records.json.zst")
}

fn memory_file() -> RelPath {
    own("records.json")
}

/// What stood here before another machine's took its place.
fn before() -> RelPath {
    own("records-before.json.zst")
}

fn memory(folder: &Folder) -> Result<Memory> {
    let text = folder.read_if_there(&memory_file())?.unwrap_or_default();
    Ok(serde_json::from_slice(&text).unwrap_or_default())
}

fn remember(folder: &Folder, memory: &Memory) -> Result<()> {
    folder.make_own("")?;
    let text = serde_json::to_vec(memory).expect("it has only plain values");
    folder.write_whole(&memory_file(), &text)
}

/// Those that lie there; none where there are none, and why where they cannot be read.
fn there(folder: &Folder) -> Result<Option<Result<Found, String>>> {
    let Some(meta) = folder.look(&file())? else {
        return Ok(None);
    };
    let Some(packed) = folder.read_if_there(&file())? else {
        return Ok(None);
    };
    let read = read(&packed).map(|records| Found {
        records,
        hash: hash(&packed),
        stamp: meta.stamp,
    });
    Ok(Some(read.map_err(|why| {
        format!("{}: {why}", folder.shown(&file()).display())
    })))
}

fn read(packed: &[u8]) -> Result<Records, String> {
    #[derive(Deserialize)]
    struct Numbered {
        format: u32,
    }
    let mut text = Vec::new();
    let unpacked = zstd::stream::read::Decoder::new(packed);
    let unpacked = unpacked.and_then(|it| it.take(LONGEST).read_to_end(&mut text));
    unpacked.map_err(|error| plain(&error))?;
    match serde_json::from_slice(&text) {
        Ok(Numbered { format }) if format > FORMAT => Err(format!(
            "a later lantern wrote it, in format {format}; this one reads {FORMAT}"
        )),
        _ => serde_json::from_slice(&text).map_err(|error| error.to_string()),
    }
}

fn hash(packed: &[u8]) -> String {
    blake3::hash(packed).to_hex().to_string()
}

impl Stamp {
    /// Whether a file that looks so is the one that did: of one that is known to the minute, that is not said.
    fn is_sure(&self) -> bool {
        self.modified_ns % 60_000_000_000 != 0
    }
}

/// How the records there stand to those of this machine.
enum Standing {
    /// They are what this machine took or wrote last, or older.
    Known,
    /// Somebody else knows all that this machine does, and more.
    Newer(Found),
    /// Something was done from here that they do not know.
    Apart(Found),
    /// They cannot be read, and why.
    Unread(String),
}

fn standing(folder: &Folder, memory: &mut Memory) -> Result<Standing> {
    let looks = folder.look(&file())?.map(|meta| meta.stamp);
    if looks.is_none() && memory.apart.take().is_some() {
        remember(folder, memory)?;
    }
    if looks.is_none() || looks == memory.stamp && looks.is_some_and(|it| it.is_sure()) {
        return Ok(Standing::Known);
    }
    let found = match there(folder)? {
        None => return Ok(Standing::Known),
        Some(Err(why)) => return Ok(Standing::Unread(why)),
        Some(Ok(found)) => found,
    };
    if let Some((hash, why)) = &memory.unread
        && *hash == found.hash
    {
        return Ok(Standing::Unread(why.clone()));
    }
    if found.hash == memory.hash {
        if memory.stamp != Some(found.stamp) {
            memory.stamp = Some(found.stamp);
            remember(folder, memory)?;
        }
        return Ok(Standing::Known);
    }
    let ours = Ledger::open(folder)?.rows()?.operations();
    let theirs = found.records.ledger.operations();
    let is_later = theirs.len() > ours.len() || found.records.number >= memory.number;
    Ok(match theirs.starts_with(&ours) {
        true if is_later => Standing::Newer(found),
        false if !ours.starts_with(&theirs) => Standing::Apart(found),
        // Of before what was done last: as in a folder that was copied back.
        _ => Standing::Known,
    })
}

/// What came of looking at the records there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Brought {
    /// Nothing that was not known.
    Nothing,
    /// Those of somebody else were taken, who is named.
    Theirs(String),
    /// Somebody else's, who is named, and those of this machine have gone apart; each is left as it is.
    Apart(String),
    /// They cannot be read, and why; they are left as they are.
    Unread(String),
}

/// Takes the records that somebody else has written there; nothing where the server lies here.
///
/// # Errors
/// When the other end is not reached any more, or what is known here cannot be read or written.
pub fn bring(folder: &Folder) -> Result<Brought> {
    if !folder.is_far() {
        return Ok(Brought::Nothing);
    }
    let mut memory = memory(folder)?;
    match standing(folder, &mut memory)? {
        Standing::Known => Ok(memory.apart.map_or(Brought::Nothing, Brought::Apart)),
        Standing::Newer(_) if is_under_way(folder)? => Ok(Brought::Nothing),
        Standing::Newer(found) => {
            let hash = found.hash.clone();
            match take(folder, found) {
                Err(error) if !matches!(error, Error::Io { .. }) => {
                    let why = error.to_string();
                    memory.unread = Some((hash, why.clone()));
                    remember(folder, &memory)?;
                    Ok(Brought::Unread(why))
                }
                taken => taken.map(Brought::Theirs),
            }
        }
        Standing::Unread(why) => Ok(Brought::Unread(why)),
        Standing::Apart(found) => {
            memory.apart = Some(found.records.who.clone());
            remember(folder, &memory)?;
            Ok(Brought::Apart(found.records.who))
        }
    }
}

/// Whether an operation of this machine's may be under way: until its end, nothing is taken from under it.
fn is_under_way(folder: &Folder) -> Result<bool> {
    Ok(folder.has(&own("journal.json"))? && folder.has(&own("under-way.json.zst"))?)
}

/// Takes the records that lie there, whatever was done from here; what stood here is kept beside. Who wrote them; none where there are none.
///
/// # Errors
/// As [`bring`].
pub fn take_theirs(folder: &Folder) -> Result<Option<String>> {
    if !folder.is_far() {
        return Ok(None);
    }
    match there(folder)? {
        None => Ok(None),
        Some(Ok(found)) => take(folder, found).map(Some),
        Some(Err(why)) => Err(Error::Config(ConfigFault::Text {
            path: folder.shown(&file()),
            why,
        })),
    }
}

fn take(folder: &Folder, found: Found) -> Result<String> {
    let theirs = found.records;
    let ledger = Ledger::open(folder)?;
    let own_ones = of_here(folder, &ledger, 0, BTreeSet::new())?;
    folder.write_whole(&before(), &packed(folder, &own_ones)?)?;
    ledger.take_in(&theirs.ledger)?;
    for (name, content) in &theirs.files {
        let content = STANDARD.decode(content).ok();
        if let (Some(path), Some(content)) = (told_file(name), content) {
            if let Some(above) = path.folder() {
                folder.make_folders(&above)?;
            }
            folder.write_whole(&path, &content)?;
        }
    }
    for name in own_ones.files.keys() {
        if let Some(path) = told_file(name).filter(|_| !theirs.files.contains_key(name)) {
            folder.remove_file(&path)?;
        }
    }
    remember(
        folder,
        &Memory {
            number: theirs.number,
            hash: found.hash,
            stamp: Some(found.stamp),
            is_taken: true,
            marks: theirs.marks,
            ..Memory::default()
        },
    )?;
    Ok(theirs.who)
}

/// Where a file of that name lies; none where it is none of those that are told.
fn told_file(name: &str) -> Option<RelPath> {
    let path = RelPath::parse(name).ok()?;
    let is_told = match path.as_str().split_once('/') {
        None => FILES.contains(&path.as_str()),
        Some((folder, _)) => FOLDERS.contains(&folder),
    };
    Some(own(path.as_str())).filter(|it| is_told && is_own(it))
}

fn of_here(
    folder: &Folder,
    ledger: &Ledger,
    number: u64,
    marks: BTreeSet<String>,
) -> Result<Records> {
    let mut paths: Vec<RelPath> = FILES.iter().map(|name| own(name)).collect();
    for name in FOLDERS {
        paths.extend(
            folder
                .files_below(&own(name))?
                .into_iter()
                .map(|(path, _)| path),
        );
    }
    let mut files = BTreeMap::new();
    for path in paths {
        let name = path.as_str().split_once('/').map(|(_, name)| name);
        if let (Some(name), Some(content)) = (name, folder.read_if_there(&path)?) {
            files.insert(name.to_owned(), STANDARD.encode(content));
        }
    }
    Ok(Records {
        format: FORMAT,
        number,
        who: somebody(),
        marks,
        ledger: ledger.rows()?,
        files,
    })
}

fn packed(folder: &Folder, records: &Records) -> Result<Vec<u8>> {
    let text = serde_json::to_vec(records).expect("they have only plain values");
    zstd::bulk::compress(&text, 3).at("packing", &folder.shown(&file()))
}

/// Writes what this machine, which came there by an adoption of this mark, knows to where the server lies, at the end of an operation that kept others out; nothing where that is here, or
/// while records are apart. What others have asked there meanwhile was asked of what is no longer so. That it cannot be written is no reason not
/// to go on, and told by [`unshared`].
///
/// # Errors
/// When what is known here cannot be read.
pub fn share(folder: &Folder, mark: &str) -> Result<()> {
    written(folder, mark, |_| Ok(()))
}

/// As [`share`], of what was asked, and not done.
///
/// # Errors
/// [`Error::MovedOn`] where somebody else has written them meanwhile; or what is known here cannot be read.
pub fn share_asked(folder: &Folder, mark: &str) -> Result<()> {
    written(folder, mark, |theirs| {
        Err(Error::MovedOn {
            who: theirs.who.clone(),
        })
    })
}

fn written(folder: &Folder, mark: &str, over: impl Fn(&Records) -> Result<()>) -> Result<()> {
    match write(folder, mark, over) {
        Err(error @ Error::Io { .. }) => remember(
            folder,
            &Memory {
                unshared: Some(error.to_string()),
                ..memory(folder)?
            },
        ),
        written => written,
    }
}

fn write(folder: &Folder, mark: &str, over: impl Fn(&Records) -> Result<()>) -> Result<()> {
    if !folder.is_far() {
        return Ok(());
    }
    let mut memory = memory(folder)?;
    if memory.apart.is_some() {
        return Ok(());
    }
    let number = 1 + match standing(folder, &mut memory)? {
        Standing::Known => memory.number,
        Standing::Newer(found) | Standing::Apart(found) => {
            over(&found.records)?;
            memory.marks.extend(found.records.marks);
            memory.number.max(found.records.number)
        }
        Standing::Unread(why) => {
            memory.unshared = Some(why);
            return remember(folder, &memory);
        }
    };
    let ledger = Ledger::open(folder)?;
    let mut marks = memory.marks.clone();
    marks.insert(mark.to_owned());
    let records = packed(folder, &of_here(folder, &ledger, number, marks)?)?;
    // First here: those there are then known whenever it is looked.
    remember(
        folder,
        &Memory {
            number,
            hash: hash(&records),
            marks: memory.marks,
            ..Memory::default()
        },
    )?;
    folder.make_own_there()?;
    folder.write_whole(&file(), &records)
}

/// Whether a mark is that of somebody else's adoption of the same server.
///
/// # Errors
/// When that cannot be read.
pub fn is_mark_of_another(folder: &Folder, mark: &str) -> Result<bool> {
    match folder.is_far() {
        true => Ok(memory(folder)?.marks.contains(mark)),
        false => Ok(false),
    }
}

/// Whether somebody else works at it, too, from elsewhere.
///
/// # Errors
/// When that cannot be read.
pub fn has_others(folder: &Folder) -> Result<bool> {
    match folder.is_far() {
        true => Ok(!memory(folder)?.marks.is_empty()),
        false => Ok(false),
    }
}

/// Whether what is known here is somebody else's, and nothing was done from here since.
///
/// # Errors
/// When that cannot be read.
pub fn are_taken(folder: &Folder) -> Result<bool> {
    match folder.is_far() {
        true => Ok(memory(folder)?.is_taken),
        false => Ok(false),
    }
}

/// Why what is known here could not be written there; none where it was.
///
/// # Errors
/// When that cannot be read.
pub fn unshared(folder: &Folder) -> Result<Option<String>> {
    match folder.is_far() {
        true => Ok(memory(folder)?.unshared),
        false => Ok(None),
    }
}

#[cfg(all(test, feature = "far"))]
mod tests;
