//! `.lantern/learned.json`: what was seen of releases on this server, so that no plan brings it again. The same file holds what others have
//! seen, where it is taken in.

use crate::config::Server;
use crate::error::{Error, Result};
use crate::folder::own;
use crate::place::here;
use lantern_core::component::{Id, Need};
use lantern_core::path::RelPath;
use lantern_core::plan::ComponentChange;
use lantern_core::resolve::{Learned, Request};
use lantern_core::version::{Range, Version};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::Path;

const FORMAT: u32 = 1;

/// What is known, as it is written down (docs/formats/learned.md).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Written {
    /// The number of the format.
    pub format: u32,
    /// What was seen, by number.
    pub facts: Vec<Seen>,
}

/// Something that was seen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Seen {
    /// By which it is named here.
    pub number: u32,
    /// When it was seen, in milliseconds since 1970.
    pub at_ms: i64,
    /// On which server version.
    pub server_version: String,
    /// Those that do not start together; one where it does not start by itself.
    pub components: Vec<Release>,
    /// Whether it fails at some starts and not at others.
    #[serde(default)]
    pub unsteady: bool,
    /// Why the start was not good, in words.
    #[serde(default)]
    pub why: Option<String>,
    /// Whether somebody else saw it.
    #[serde(default)]
    pub elsewhere: bool,
}

/// A release of a component.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Release {
    /// The component.
    pub id: Id,
    /// Its version.
    pub version: String,
    /// BLAKE3 of its file, where one came: the fact holds for that file, and for none of another content.
    #[serde(default)]
    pub blake3: Option<String>,
}

impl Seen {
    /// Since when it is known, in words.
    pub fn since(&self) -> String {
        let at = jiff::Timestamp::from_millisecond(self.at_ms).unwrap_or_default();
        let day = at.to_zoned(jiff::tz::TimeZone::system());
        let by = if self.elsewhere {
            "from elsewhere"
        } else {
            "here"
        };
        format!("known {by} since {}", day.strftime("%-d %B %Y"))
    }

    /// It in words, without an end.
    pub fn told(&self) -> String {
        let names = self.components.iter();
        let names: Vec<String> = names
            .map(|it| format!("{} {}", it.id, it.version))
            .collect();
        let (first, others) = names.split_first().expect("a fact is of something");
        let sometimes = if self.unsteady { "sometimes " } else { "" };
        let fails = format!(
            "{first} {sometimes}does not start on {}",
            self.server_version
        );
        match others.is_empty() {
            true => fails,
            false => format!("{fails} together with {}", others.join(" and ")),
        }
    }

    /// Whether a change brought one of them to that server version.
    pub fn is_of(&self, changes: &[ComponentChange], server_version: &str) -> bool {
        let brings = |release: &Release| {
            changes.iter().any(|change| {
                change.id == release.id && change.to.as_ref() == Some(&release.version)
            })
        };
        self.server_version == server_version && self.components.iter().any(brings)
    }

    /// Whether plans heed it: of three that fail only together each may well be chosen.
    pub fn is_heeded(&self) -> bool {
        matches!(self.components.len(), 1 | 2)
    }
}

fn file() -> RelPath {
    own("learned.json")
}

/// All that is known, by number.
///
/// # Errors
/// When it cannot be read, or is not what lantern writes.
pub fn read(server: &Server) -> Result<Vec<Seen>> {
    match server.folder.read_if_there(&file())? {
        None => Ok(Vec::new()),
        Some(bytes) => parse(&bytes, &server.folder.shown(&file())),
    }
}

fn parse(bytes: &[u8], path: &Path) -> Result<Vec<Seen>> {
    let odd = |why: String| Error::Learned {
        path: path.to_owned(),
        why,
    };
    let written: Written = serde_json::from_slice(bytes).map_err(|error| odd(error.to_string()))?;
    match written.facts.iter().any(|seen| seen.components.is_empty()) {
        _ if written.format != FORMAT => Err(odd(format!(
            "it is of format {}; this lantern reads format {FORMAT}",
            written.format
        ))),
        true => Err(odd("a fact in it is of no component".into())),
        false => Ok(written.facts),
    }
}

fn text(facts: &[Seen]) -> Vec<u8> {
    let written = Written {
        format: FORMAT,
        facts: facts.to_vec(),
    };
    let mut text = serde_json::to_vec_pretty(&written).expect("it has only plain values");
    text.push(b'\n');
    text
}

fn write(server: &Server, facts: &[Seen]) -> Result<()> {
    server.folder.write_whole(&file(), &text(facts))
}

/// Whether two say the same.
fn is_same(one: &Seen, other: &Seen) -> bool {
    (&one.server_version, &one.components) == (&other.server_version, &other.components)
}

fn add(facts: &mut Vec<Seen>, seen: Seen) -> bool {
    if facts.iter().any(|known| is_same(known, &seen)) {
        return false;
    }
    let number = facts
        .iter()
        .map(|known| known.number)
        .max()
        .unwrap_or(0)
        .saturating_add(1);
    facts.push(Seen { number, ..seen });
    true
}

/// Remembers what is not known yet; each is given a number.
///
/// # Errors
/// When it cannot be read or written.
pub fn remember(server: &Server, seen: impl Iterator<Item = Seen>) -> Result<()> {
    let mut facts = read(server)?;
    let known = facts.len();
    for one in seen {
        add(&mut facts, one);
    }
    match facts.len() > known {
        true => write(server, &facts),
        false => Ok(()),
    }
}

/// Forgets what has a number; it.
///
/// # Errors
/// When nothing has it, or it cannot be written.
pub fn forget(server: &Server, number: u32) -> Result<Seen> {
    let mut facts = read(server)?;
    let at = facts.iter().position(|seen| seen.number == number);
    let at = at.ok_or(Error::NoFact(number))?;
    let gone = facts.remove(at);
    write(server, &facts)?;
    Ok(gone)
}

/// Takes in what somebody else has written down; how many of it are new here.
///
/// # Errors
/// When it cannot be read or written.
pub fn take(server: &Server, path: &Path) -> Result<(usize, usize)> {
    let theirs = of_others(&here::read_text(path)?, path)?;
    let mut facts = read(server)?;
    let all = theirs.len();
    let mut new = 0;
    for seen in theirs {
        new += usize::from(add(&mut facts, seen));
    }
    if new > 0 {
        write(server, &facts)?;
    }
    Ok((new, all))
}

/// How the names of such files end.
const END: &str = ".learned.json";

/// Whether a file, or what an address leads to, is said to be one.
pub fn is_one(path: &Path) -> bool {
    path.to_str().is_some_and(|path| path.ends_with(END))
}

/// What somebody else has written down.
///
/// # Errors
/// When it is not what lantern writes.
pub fn of_others(text: &str, path: &Path) -> Result<Vec<Seen>> {
    let theirs = parse(text.as_bytes(), path)?.into_iter();
    let theirs = theirs.map(|seen| Seen {
        elsewhere: true,
        ..seen
    });
    Ok(theirs.collect())
}

/// What is known, as others can take it in.
///
/// # Errors
/// When it cannot be read.
pub fn exported(server: &Server) -> Result<String> {
    Ok(String::from_utf8_lossy(&text(&read(server)?)).into_owned())
}

/// Lets a question heed what is known here, and what the catalogues of others tell besides.
///
/// # Errors
/// When it cannot be read.
pub fn heed(server: &Server, told: Vec<Seen>, request: &mut Request) -> Result<()> {
    let versions = &server.family.versions;
    let build = request.build.clone();
    let of = |id: &Id, text: &str| versions.version(*id == build, text).ok();
    let mut known = read(server)?;
    for seen in told {
        add(&mut known, seen);
    }
    for seen in known {
        let Some(on) = of(&build, &seen.server_version) else {
            continue;
        };
        let mut components = seen.components.iter();
        if components.any(|release| is_another_file(request, release)) {
            continue;
        }
        let need = |id: &Id, version: Version| Need {
            id: id.clone(),
            range: Range::exactly(version),
        };
        let (first, other) = match &seen.components[..] {
            [only] => (only, Some(need(&build, on.clone()))),
            [first, second] => {
                let version = of(&second.id, &second.version);
                (first, version.map(|version| need(&second.id, version)))
            }
            _ => continue,
        };
        if let Some((version, other)) = of(&first.id, &first.version).zip(other) {
            request.learned.push(Learned {
                id: first.id.clone(),
                version,
                on,
                other,
                since: seen.since(),
            });
        }
    }
    Ok(())
}

/// Whether what is on offer under a version is known to be another file than the one that was seen.
fn is_another_file(request: &Request, release: &Release) -> bool {
    let Some(blake3) = &release.blake3 else {
        return false;
    };
    let mut offers = request.offers.iter();
    offers.any(|offer| {
        let is_it =
            offer.facts.id == release.id && offer.facts.version.to_string() == release.version;
        is_it && !offer.artifact.blake3.is_empty() && offer.artifact.blake3 != *blake3
    })
}
