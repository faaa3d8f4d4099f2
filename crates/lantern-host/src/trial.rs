//! A family file tried on a folder that need not be in care: what each reader makes of each place.

use crate::archive::Archive;
use crate::config::{FILE, as_folders};
use crate::console::printed::as_seen;
use crate::descriptors::descriptors_of;
use crate::downloads::Downloads;
use crate::error::{At, Error, Result};
use crate::folder::Folder;
use crate::place::{Stamp, here};
use crate::release;
use lantern_core::component::{Kind, Runs, Side};
use lantern_core::descriptor::{self, LONGEST_BYTES, Subject, Told};
use lantern_core::draft::{Sample, may_tell};
use lantern_core::facts::{Facts, Reading};
use lantern_core::family::{Family, Glob, OrderRule, Pattern, Reader, Shape, Spot, Switch};
use lantern_core::inventory::by_own_word;
use lantern_core::offer::{Lays, Offer, Origin};
use lantern_core::order::{Arrangement, Keeping, OrderText};
use lantern_core::path::RelPath;
use lantern_core::text::Text;
use lantern_core::tree::{Claim, FileSeen, claim};
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A day in nanoseconds.
const DAY_NS: i64 = 86_400_000_000_000;
/// So many files of an archive are read for a draft.
const MOST_TEXTS: usize = 16;
/// So many archives of a folder are looked into for a draft.
const MOST_SAMPLED: usize = 400;

/// What a reader makes of one place.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Tried {
    /// The component's file or folder.
    pub place: RelPath,
    /// The reader that has it.
    pub reader: String,
    /// Other readers that would have had it.
    pub also: Vec<String>,
    /// The descriptor files that were found.
    pub files: Vec<String>,
    /// Field by field what was found where; empty when it cannot be read.
    pub told: Vec<Told>,
    /// Whether it runs, and what says so; none for what is not started by itself.
    pub runs: Option<String>,
    /// Why it cannot be read.
    pub fault: Option<String>,
}

/// What a family file makes of a folder.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Trial {
    /// Marks that nothing in the folder matches.
    pub unmet_marks: Vec<String>,
    /// Every place that a reader has.
    pub tried: Vec<Tried>,
    /// Readers that found nothing.
    pub idle: Vec<String>,
    /// What else the family names and the folder does not have: the key, and why nothing was found.
    pub unmet: Vec<Unmet>,
    /// Files that no component owns.
    pub unowned: Vec<RelPath>,
    /// The entries of the load order; none where there is no such file.
    pub entries: Option<usize>,
}

/// Something that a family names and a folder does not have.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Unmet {
    /// The key of the family file.
    pub at: String,
    /// Why nothing was found.
    pub why: String,
}

fn listed(folder: &Folder) -> Result<Vec<FileSeen>> {
    let files = folder.list()?.files.into_iter();
    Ok(files
        .filter(|(path, _)| path.as_str() != FILE)
        .map(|(path, stamp)| FileSeen {
            path,
            bytes: stamp.bytes,
            hash: None,
        })
        .collect())
}

/// What a family file makes of a release.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ReleaseTried {
    /// The download; where it holds several, with the folder in it.
    pub release: String,
    /// What it is: kind, id and version; none where it is nothing.
    pub is: Option<String>,
    /// The reader that knows it.
    pub reader: Option<String>,
    /// Where each entry would go.
    pub goes: Vec<Goes>,
    /// Entries that would go nowhere.
    pub unused: Vec<String>,
    /// Why it cannot be used.
    pub fault: Option<String>,
}

/// Where an entry of a release would go.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Goes {
    /// The entry; none where the download itself is the file.
    pub entry: Option<String>,
    /// Where.
    pub to: RelPath,
}

/// Tries a family on a release: what it would be, each part for itself where it holds several, and where each entry of it
/// would go; nothing is written.
///
/// # Errors
/// When the download cannot be read at all; that no reader knows it is told.
pub fn release(family: &Family, path: &Path) -> Result<Vec<ReleaseTried>> {
    let downloads = Downloads::apart();
    let artifact = downloads.artifact(path)?;
    let nothing = |fault: String| ReleaseTried {
        release: path.display().to_string(),
        is: None,
        reader: None,
        goes: Vec::new(),
        unused: Vec::new(),
        fault: Some(fault),
    };
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let named = |reader: &&Reader| reader.drop.as_ref().is_some_and(|drop| drop.matches(&name));
    let readers: Vec<&Reader> = family.readers.iter().filter(named).collect();
    if readers.is_empty() {
        let why = "no reader has a `drop` for such a name".to_owned();
        return Ok(vec![nothing(why)]);
    }
    let said = |error: Error| match error {
        Error::Archive { fault, .. } => fault.to_string(),
        Error::Release { fault, .. } => fault.to_string(),
        other => other.to_string(),
    };
    let read = match release::read(&artifact, &readers, family, &downloads) {
        Ok(read) => read,
        Err(error) => return Ok(vec![nothing(said(error))]),
    };
    let tried = read.into_iter().map(|read| {
        let offer = Offer {
            facts: read.facts,
            artifact: Arc::new(artifact.clone()),
            lays: Lays {
                content: read.content.map(Box::from),
                inside: read.inside.map(Box::from),
                ..Lays::default()
            }
            .stated(),
            origin: Origin::DropFolder,
            supply: None,
        };
        let facts = &offer.facts;
        let is = Some(format!("{} {} {}", facts.kind, facts.id, facts.version));
        let shown = offer
            .inside()
            .map(|folder| format!("{}, {folder}", path.display()));
        let release = shown.unwrap_or_else(|| path.display().to_string());
        match release::payload(
            family,
            &offer,
            None,
            &BTreeMap::new(),
            &|_| false,
            &downloads,
        ) {
            Err(error) => ReleaseTried {
                release,
                is,
                ..nothing(said(error))
            },
            Ok(payload) => ReleaseTried {
                release,
                is,
                reader: Some(payload.reader),
                unused: payload.unused,
                goes: payload
                    .files
                    .into_iter()
                    .map(|file| Goes {
                        entry: file.entry,
                        to: file.path,
                    })
                    .collect(),
                fault: None,
            },
        }
    });
    Ok(tried.collect())
}

/// Tries a family on a folder; nothing is written.
///
/// # Errors
/// When the folder cannot be listed. What cannot be read in it is told with its place.
pub fn on(family: &Family, path: &Path) -> Result<Trial> {
    let folder = Folder::open(path)?.following(as_folders(family, &[]));
    let files = listed(&folder)?;
    let claims = claim(family, &files);
    let mut others: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for reader in &family.readers {
        let mut alone = family.clone();
        alone.readers.retain(|other| {
            other.name == reader.name || reader.members.as_ref() == Some(&other.name)
        });
        let claims = claim(&alone, &files).claims;
        for claim in claims
            .iter()
            .filter(|claim| claim.reader.name == reader.name)
        {
            let places = others.entry(claim.place.to_string()).or_default();
            places.push(reader.name.clone());
        }
    }
    let order_file = crate::survey::order_file(&folder, family, &files)?;
    let tried: Vec<(Tried, Vec<RelPath>)> = claims
        .claims
        .par_iter()
        .map_init(
            || Reading::new(&family.versions),
            |reading, claim| {
                let parts = claim.reader.parts.iter().filter(|part| part.own);
                let parts = parts.filter_map(|part| RelPath::parse(&part.to).ok());
                let mut owns: Vec<RelPath> = parts.collect();
                let mut tried = Tried {
                    place: claim.place.clone(),
                    reader: claim.reader.name.clone(),
                    also: others
                        .get(claim.place.as_str())
                        .cloned()
                        .unwrap_or_default(),
                    files: Vec::new(),
                    told: Vec::new(),
                    runs: None,
                    fault: None,
                };
                tried.also.retain(|name| *name != tried.reader);
                let subject = Subject {
                    reader: claim.reader,
                    family,
                    place: claim.home.as_str(),
                    content: "",
                    archive: None,
                };
                let made = descriptors_of(&folder, claim, &files).and_then(|found| {
                    tried.files = found.iter().map(|found| found.name.clone()).collect();
                    let told = descriptor::explain(&subject, &found);
                    let told = told.and_then(|told| {
                        let read = descriptor::read_installed(&subject, &found, reading)?;
                        tried.fault = read.unread_version.map(|fault| fault.to_string());
                        owns.extend(read.holdings.owns);
                        tried.runs = runs(family, &folder, order_file.as_ref(), claim, &read.facts);
                        Ok(told)
                    });
                    told.map_err(|fault| fault.to_string())
                });
                match made {
                    Ok(told) => tried.told = told,
                    Err(fault) => tried.fault = Some(fault),
                }
                (tried, owns)
            },
        )
        .collect();
    let (tried, owns): (Vec<Tried>, Vec<Vec<RelPath>>) = tried.into_iter().unzip();
    let is_owned = |path: &RelPath| owns.iter().flatten().any(|own| path.is_within(own));
    let idle = family.readers.iter().filter(|reader| {
        reader.shape != Shape::Entry && tried.iter().all(|tried| tried.reader != reader.name)
    });
    let idle = idle.map(|reader| reader.name.clone()).collect();
    let unmet_marks = family.marks.iter().filter(|mark| {
        let mut files = files.iter();
        !files.any(|file| mark.matches(file.path.as_str()))
    });
    let unowned = files.iter().zip(&claims.owner).filter(|(file, owner)| {
        let path = file.path.as_str();
        let is_order = order_file
            .as_ref()
            .is_some_and(|order| order.holds(&file.path));
        let place = is_order || family.is_settings(path);
        let free = owner.is_none() && !is_owned(&file.path);
        free && !place && !family.keeps(path) && !family.passes(path)
    });
    Ok(Trial {
        unmet_marks: unmet_marks.map(|mark| mark.as_str().to_owned()).collect(),
        idle,
        unmet: unmet_of(family, &folder, &files, order_file.as_ref()),
        unowned: unowned.map(|(file, _)| file.path.clone()).collect(),
        entries: family
            .order
            .as_ref()
            .zip(order_file.as_ref())
            .map(|(rule, order)| Arrangement::read(rule, order.as_str()).entries.len()),
        tried,
    })
}

/// Whether an add-on runs by its own word, and where that stands.
fn own_word(switch: &Switch, family: &Family, folder: &Folder, place: &RelPath) -> String {
    let Some(path) = switch.path(place) else {
        return "unknown: its file cannot lie there".into();
    };
    let text = folder.read_text(&path).ok().filter(Text::is_plain);
    let (runs, line) = by_own_word(switch, family, &path, text.as_ref().map(Text::as_str));
    let is = if runs.is_off() { "off" } else { "on" };
    match (text, line) {
        (_, Some(line)) => format!("{is}: {path}:{line}"),
        (Some(_), None) => format!("{is}: {path} does not say otherwise"),
        (None, None) => format!("{is}: {path} is not there, or no text"),
    }
}

/// Whether an add-on runs, and what says so.
fn runs(
    family: &Family,
    folder: &Folder,
    order: Option<&OrderText>,
    claim: &Claim<'_>,
    facts: &Facts,
) -> Option<String> {
    let reader = claim.reader;
    if facts.kind != Kind::Addon || reader.shape == Shape::Group {
        return None;
    }
    if facts.side == Some(Side::Client) {
        return Some("not here: it is for clients alone".into());
    }
    if let Some(switch) = &reader.switch {
        return Some(own_word(switch, family, folder, &claim.place));
    }
    let is_parked = claim.home != claim.place;
    Some(match (family.runs(reader), &family.order) {
        _ if is_parked => format!("off: it lies at {} when it is on", claim.home),
        _ if reader.off.is_some() => "on: it lies where the server looks".into(),
        (Runs::Always, _) => "always: the server loads what lies there".into(),
        (Runs::Unsaid, _) => "unknown: the family says that nobody can tell".into(),
        (Runs::On | Runs::Off, None) => "unknown: the family has no load order".into(),
        (Runs::On | Runs::Off, Some(rule)) => match (rule.kind.keeping(), order) {
            (Keeping::Names, _) if rule.file.matches(claim.place.as_str()) => {
                "on: its name is of the load order".into()
            }
            (Keeping::Names, _) => "unknown: its name is not of the load order".into(),
            (Keeping::Text(_), None) => {
                format!(
                    "{}: the file of the load order is not there",
                    unlisted(rule)
                )
            }
            (Keeping::Text(_), Some(order)) => {
                let mut arrangement = Arrangement::read(rule, order.as_str());
                arrangement.mean(rule, std::iter::once((&facts.id, &claim.home)));
                match arrangement.starters().of(rule, &facts.id, &claim.place) {
                    Some(entry) => {
                        let is = if entry.on { "on" } else { "off" };
                        let (path, line) = order.place(entry.line);
                        format!("{is}: {path}:{line}")
                    }
                    None => {
                        let (is, file) = (unlisted(rule), order.path());
                        format!("{is}: {file} does not name {}", facts.id)
                    }
                }
            }
        },
    })
}

/// What an add-on is that no entry names.
fn unlisted(rule: &OrderRule) -> &'static str {
    if rule.runs_unlisted() { "on" } else { "off" }
}

/// What a family names besides marks and readers, and a folder does not have.
fn unmet_of(
    family: &Family,
    folder: &Folder,
    files: &[FileSeen],
    order: Option<&OrderText>,
) -> Vec<Unmet> {
    let mut unmet = Vec::new();
    let mut tell = |at: &str, why: String| unmet.push(Unmet { at: at.into(), why });
    let here = |glob: &Glob| files.iter().any(|file| glob.matches(file.path.as_str()));
    let layout = &family.layout;
    for (at, globs) in [
        ("layout.keep", &layout.keep),
        ("layout.passing", &layout.passing),
        ("layout.settings", &layout.settings),
    ] {
        for glob in globs.iter().filter(|glob| !here(glob)) {
            tell(at, format!("nothing there matches {}", glob.as_str()));
        }
    }
    match (&family.order, order) {
        (Some(rule), None) if matches!(rule.kind.keeping(), Keeping::Text(_)) => {
            tell(
                "order.file",
                format!(
                    "nothing there matches {}",
                    rule.file.texts().collect::<Vec<_>>().join(", ")
                ),
            );
        }
        (Some(rule), Some(order)) if rule.part(order.as_str()).is_none() => {
            tell(
                "order.within",
                format!("no line of {} opens that part of it", order.path()),
            );
        }
        (Some(rule), Some(order)) if Arrangement::read(rule, order.as_str()).entries.is_empty() => {
            tell("order.line", format!("no line of {} matches", order.path()));
        }
        _ => {}
    }
    let mut stated = |at: &str, file: &str, line: (&Option<Pattern>, &str), spot: &SpotIn<'_>| {
        let path = RelPath::parse(file).ok();
        let text = path.and_then(|path| Some((folder.read_text(&path).ok()?, path)));
        let Some((text, path)) = text else {
            tell(at, format!("{file} is not there, or is no text"));
            return;
        };
        let text = text.as_str();
        let (pattern, group) = line;
        match pattern {
            Some(pattern) if text.lines().all(|it| pattern.capture(group, it).is_none()) => {
                tell(at, format!("no line of {file} matches"));
            }
            None if spot(&path).and_then(|spot| spot.says(text)).is_none() => {
                tell(at, format!("{file} has no such key"));
            }
            _ => {}
        }
    };
    let console = &family.console;
    for port in console.port.iter().chain(&console.more_ports) {
        let spot = |path: &_| port.spot(family, path);
        stated("console.port", &port.file, (&port.line, "port"), &spot);
    }
    for setting in &console.settings {
        let at = format!("console.setting {}", setting.name);
        let spot = |path: &_| setting.spot(family, path);
        stated(&at, &setting.file, (&setting.line, "value"), &spot);
    }
    unmet
}

/// Where a value stands by its key in a file.
type SpotIn<'f> = dyn Fn(&RelPath) -> Option<Spot<'f>> + 'f;

/// Looks at a folder for the first draft of a family file.
///
/// # Errors
/// When the folder cannot be listed. What cannot be read in it is passed over.
pub fn sample(path: &Path, releases: &[PathBuf], log: Option<&Path>) -> Result<Sample> {
    // What lies where is still to be found out: behind any link.
    let folder = Folder::open(path)?.following(|_| true);
    let mut sample = Sample {
        log: log.map(printed_in).transpose()?,
        ..Sample::default()
    };
    for path in releases {
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        // One that is no archive is its one file itself; one that is not there is a slip.
        here::open(path).at("reading", path)?;
        let archive = Archive::open(path).ok();
        let names = archive.map(|archive| archive.names().into_iter().map(str::to_owned).collect());
        sample
            .releases
            .push((name.into_owned(), names.unwrap_or_default()));
    }
    let files = folder.list()?.files;
    let followed = folder.followed().iter();
    sample.links = followed.map(|link| link.at.clone()).collect();
    sample.written = written_last(&files);
    for (path, stamp) in files {
        if path.as_str() == FILE {
            continue;
        }
        if is_archive(&folder, &path) && sample.archives.len() < MOST_SAMPLED {
            if let Ok(mut archive) = Archive::inside(&folder, &path) {
                let names: Vec<String> = archive.names().into_iter().map(str::to_owned).collect();
                let telling = names.iter().filter(|name| may_tell(name));
                for name in telling.take(MOST_TEXTS) {
                    if let Ok(Some(text)) = archive.text_at(name) {
                        sample.texts.insert(format!("{path}!{name}"), text);
                    }
                }
                sample.archives.insert(path.clone(), names);
            }
        } else if stamp.bytes <= LONGEST_BYTES / 16
            && let Ok(bytes) = folder.read(&path)
            && let text = Text::read(&bytes)
            && text.is_plain()
        {
            sample.texts.insert(path.to_string(), text.into_content());
        }
        sample.paths.push(path);
    }
    Ok(sample)
}

/// What a server has printed into a file, as it is seen.
fn printed_in(path: &Path) -> Result<String> {
    let text = Text::read(&here::read(path)?);
    let lines = text.as_str().split('\n').map(as_seen);
    Ok(lines.collect::<Vec<_>>().join("\n"))
}

/// The files that were written after the rest: within a day of the newest, where most are older than that.
fn written_last(files: &[(RelPath, Stamp)]) -> Vec<RelPath> {
    let newest = files
        .iter()
        .map(|(_, stamp)| stamp.modified_ns)
        .max()
        .unwrap_or(0);
    let late = files
        .iter()
        .filter(|(_, stamp)| newest - stamp.modified_ns < DAY_NS);
    let late: Vec<RelPath> = late.map(|(path, _)| path.clone()).collect();
    match late.len() * 2 < files.len() {
        true => late,
        false => Vec::new(),
    }
}

/// Whether a file begins as archives do.
fn is_archive(folder: &Folder, path: &RelPath) -> bool {
    let mut start = [0; 4];
    let opened = folder.open_file(path).ok();
    let read = opened.and_then(|file| file.read_at(&mut start, 0).ok());
    read.is_some_and(|read| {
        matches!(
            &start[..read],
            b"PK\x03\x04" | [0x1f, 0x8b, ..] | [0x28, 0xb5, 0x2f, 0xfd]
        )
    })
}
