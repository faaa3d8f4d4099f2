//! The whole folder, read into an inventory.

pub mod fault;
mod hashes;

use crate::config::{FILE, Server};
use crate::depot::Depot;
use crate::descriptors::{descriptors, in_archive};
use crate::error::{Error, Result};
use crate::folder::{Folder, Listing, OWN, Stamp};
use crate::ledger::{Inside, InsideKey, Insides, Ledger};
use crate::meter;
use crate::shell;
use crate::survey::fault::SurveyFault;
use lantern_core::facts::{Facts, Reading};
use lantern_core::family::{Family, Launch, OrderRule, Reader, Shape};
use lantern_core::flags::NamedHashes;
use lantern_core::inventory::{
    Catalogued, Evidence, Inventory, Remembered, described, take, united,
};
use lantern_core::launch::{Flow, is_script_by_name};
use lantern_core::link;
use lantern_core::order::{Keeping, OrderText};
use lantern_core::path::RelPath;
use lantern_core::supply::Checksum;
use lantern_core::text::Text;
use lantern_core::tree::{Claim, Claims, FileSeen, claim, is_unread};
use lantern_core::version::Version;
use rayon::prelude::*;
use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::Arc;
use std::sync::mpsc::Sender;

/// What a survey found.
#[derive(Debug)]
pub struct Survey {
    /// What is installed, and what is to be held against it; of one server that has the install to itself, that one's.
    pub inventory: Arc<Inventory>,
    /// Every file but lantern's own; kept and passing ones without hash unless asked for.
    pub files: Vec<FileSeen>,
    /// Each server that runs on the install; of one that has it to itself, that one.
    pub parts: Vec<PartSeen>,
    /// The texts of scripts, and of whatever else pins something.
    pub scripts: Vec<(RelPath, Text)>,
    /// The hashes of files that settings name.
    pub hashes: NamedHashes,
    /// What the ledger remembers.
    pub remembered: BTreeMap<RelPath, Remembered>,
    /// Links, devices and odd names: shown, never touched.
    pub left_alone: Vec<String>,
}

/// One of the servers that run on an install, as a survey found it.
#[derive(Debug, Clone)]
pub struct PartSeen {
    /// The server.
    pub server: Server,
    /// What is installed for it, and what is to be held against it.
    pub inventory: Arc<Inventory>,
    /// The load order as it is written down.
    pub order: Option<OrderText>,
    /// What happens when it is started.
    pub flow: Flow,
}

impl Survey {
    /// What happens when each server is started.
    pub fn flows(&self) -> impl Iterator<Item = &Flow> {
        self.parts.iter().map(|part| &part.flow)
    }

    /// What was found of a server that runs on the install.
    pub fn part(&self, server: &Server) -> &PartSeen {
        let mut parts = self.parts.iter();
        let part = parts.find(|part| part.server.which() == server.which());
        part.unwrap_or(&self.parts[0])
    }

    /// Whether a file holds a load order.
    pub fn is_order(&self, path: &RelPath) -> bool {
        let mut orders = self.parts.iter().filter_map(|part| part.order.as_ref());
        orders.any(|order| order.holds(path))
    }

    /// The files that a plan speaks of: neither kept nor passing.
    pub fn planned_files<'a>(&'a self, server: &'a Server) -> impl Iterator<Item = &'a FileSeen> {
        let files = self.files.iter();
        files.filter(|file| is_planned(server, file.path.as_str()))
    }

    /// All others.
    pub fn untouched_files<'a>(&'a self, server: &'a Server) -> impl Iterator<Item = &'a RelPath> {
        let paths = self.files.iter().map(|file| &file.path);
        paths.filter(|path| !is_planned(server, path.as_str()))
    }
}

fn is_planned(server: &Server, path: &str) -> bool {
    !server.keeps(path) && !server.family.passes(path) && path != FILE
}

/// How much a survey reads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// What is neither kept nor passing; unchanged files as the ledger remembers them.
    Usual,
    /// Every file, whatever the ledger remembers.
    Everything,
}

/// What the ledger knows before a survey.
struct Known {
    seen: HashMap<String, (Stamp, String)>,
    remembered: BTreeMap<RelPath, Remembered>,
    insides: Insides,
    named: HashMap<String, (Stamp, Vec<Checksum>)>,
}

impl Known {
    fn read(ledger: &Ledger, depth: Depth) -> Result<Known> {
        Ok(Known {
            seen: match depth {
                Depth::Usual => ledger.seen()?,
                Depth::Everything => HashMap::new(),
            },
            named: match depth {
                Depth::Usual => ledger.named_hashes()?,
                Depth::Everything => HashMap::new(),
            },
            remembered: ledger.remembered()?,
            insides: ledger.insides()?,
        })
    }
}

/// Surveys a server.
///
/// # Errors
/// When the folder or ledger cannot be read. A single bad file only becomes a finding.
pub fn survey(server: &Server, ledger: &mut Ledger, depth: Depth) -> Result<Survey> {
    // What the ledger knows is read while the folder is listed.
    let (listing, known) = std::thread::scope(|scope| {
        let listing = scope.spawn(|| server.folder.list());
        let known = Known::read(ledger, depth);
        (listing.join(), known)
    });
    let listing = listing.unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
    taken(server, ledger, depth, listing, known?)
}

/// As [`survey`], of a folder that was just listed.
///
/// # Errors
/// As [`survey`].
pub fn survey_listed(
    server: &Server,
    ledger: &mut Ledger,
    depth: Depth,
    listing: Listing,
) -> Result<Survey> {
    let known = Known::read(ledger, depth)?;
    taken(server, ledger, depth, listing, known)
}

/// What a survey makes of what lies in the folder.
fn taken(
    server: &Server,
    ledger: &mut Ledger,
    depth: Depth,
    listing: Listing,
    known: Known,
) -> Result<Survey> {
    let Known {
        seen,
        remembered,
        insides,
        named,
    } = known;
    let is_read = |path: &str| {
        depth == Depth::Everything || !server.keeps(path) && !server.family.passes(path)
    };
    let by_content = |path: &RelPath| {
        let known = remembered.get(path);
        known.is_some_and(|known| !is_unread(&known.hash))
    };
    let hashing = Hashing {
        folder: &server.folder,
        seen: &seen,
        is_read: &is_read,
        by_content: &by_content,
    };
    let mut files = hashing.hashed(ledger, &listing.files)?;
    let named = hashes::named(server, ledger, &named, &listing.files)?;
    files.extend(
        listing
            .links
            .into_iter()
            .map(|(path, stamp, target)| FileSeen {
                path,
                bytes: stamp.bytes,
                hash: Some(link::mark(&target)),
            }),
    );
    files.sort_by(|a, b| a.path.cmp(&b.path));
    let claims = claim(&server.family, &files);
    let descriptors = all_descriptors(&server.folder, ledger, &insides, &claims, &files)?;
    let stated = server.config.server_version.as_deref();
    let stated = stated.map(|text| Version::parse(text, server.family.versions.server));
    let stated = stated.transpose()?;
    let on_offer = OnOffer {
        server,
        depot: OnceCell::new(),
    };
    let catalogued: &dyn Catalogued = &on_offer;
    let has_some = !server.catalogues().is_empty();
    let plain = files.iter().filter(|file| !file.is_link());
    let scripts = texts(server, plain.map(|file| (&file.path, file.bytes)))?;
    let taking = |files: &[FileSeen]| -> Result<Vec<PartSeen>> {
        let mut parts = Vec::new();
        let claimed = claims.claims.par_iter().zip(&descriptors);
        let described = claimed.map_init(
            || Reading::new(&server.family.versions),
            |reading, (claim, found)| {
                let found = found.as_ref().map_err(Clone::clone)?;
                described(&server.family, claim, files, found, reading)
            },
        );
        let described: Vec<_> = described.collect();
        for one in server.each() {
            let order = order_file(&one.folder, &one.family, files)?;
            let flow = flow(&one, &scripts);
            let evidence = Evidence {
                files,
                described: &described,
                order: order.as_ref(),
                catalogued: Some(catalogued).filter(|_| has_some),
                remembered: &remembered,
                sooner: &server.sooner(),
                flow: &flow,
                texts: &scripts,
                effects: &server.config.effects,
                hashes: &named,
                stated: stated.as_ref(),
                ground: &one.ground(),
            };
            let mut inventory = take(&one.family, &claims, &evidence);
            inventory
                .unowned
                .retain(|file| file.path.as_str() != FILE && !server.keeps(file.path.as_str()));
            parts.push(PartSeen {
                server: one,
                inventory: Arc::new(inventory),
                order,
                flow,
            });
        }
        Ok(parts)
    };
    let mut parts = taking(&files)?;
    if read_stated(server, ledger, &listing.files, &parts, &mut files)? {
        parts = taking(&files)?;
    }
    let inventory = match &parts[..] {
        [only] => Arc::clone(&only.inventory),
        several => Arc::new(united(several.iter().map(|part| &*part.inventory))),
    };
    if parts.len() > 1 {
        for part in &mut parts {
            let own = &mut Arc::make_mut(&mut part.inventory).findings;
            own.retain(|it| inventory.findings.contains(it));
        }
    }
    Ok(Survey {
        inventory,
        files,
        parts,
        scripts,
        hashes: named,
        remembered,
        left_alone: listing.left_alone,
    })
}

/// Reads what nobody has read so far, as it lies on another machine, and of which a descriptor states the content, or which may be
/// a copy of something, with that; whether there was any.
fn read_stated(
    server: &Server,
    ledger: &mut Ledger,
    stamps: &[(RelPath, Stamp)],
    parts: &[PartSeen],
    files: &mut [FileSeen],
) -> Result<bool> {
    if !files
        .iter()
        .any(|file| file.hash.as_deref().is_some_and(is_unread))
    {
        return Ok(false);
    }
    let stamps: BTreeMap<&RelPath, &Stamp> =
        stamps.iter().map(|(path, stamp)| (path, stamp)).collect();
    let components = || parts.iter().flat_map(|part| &part.inventory.components);
    let overlays = components().flat_map(|component| component.holdings.overlay.keys());
    let mut stated: BTreeSet<RelPath> = overlays.cloned().collect();
    for (copy, own) in components().flat_map(|component| component.copies(&server.family)) {
        if stamps.get(&copy).is_some_and(|it| it.bytes == own.bytes) {
            stated.extend([copy, own.path]);
        }
    }
    let is_meant = |file: &&mut FileSeen| {
        let is_unread = file.hash.as_deref().is_some_and(is_unread);
        is_unread && stated.contains(&file.path)
    };
    let meant: Vec<&mut FileSeen> = files.iter_mut().filter(is_meant).collect();
    let read = |file: &mut FileSeen| -> Result<Option<(RelPath, Stamp, String)>> {
        let hash = server.folder.hash(&file.path)?;
        file.hash = Some(hash.clone());
        let stamp = stamps.get(&file.path);
        Ok(stamp.map(|stamp| (file.path.clone(), **stamp, hash)))
    };
    let read: Result<Vec<_>> = server
        .folder
        .with_hands(|| meant.into_par_iter().map(read).collect());
    let read: Vec<(RelPath, Stamp, String)> = read?.into_iter().flatten().collect();
    let seen = read
        .iter()
        .map(|(path, stamp, hash)| (path, *stamp, hash.clone()));
    ledger.see(seen, &[])?;
    Ok(!read.is_empty())
}

/// No longer script is followed, in bytes.
const LONGEST_SCRIPT: u64 = 1 << 18;

/// Whether a file may take part in a start: one that is named as a start script, or looks like one.
fn is_script(server: &Server, launch: &Launch, path: &str, bytes: u64) -> bool {
    let looks = || is_script_by_name(path) || launch.is_script(path);
    let is_own = || !server.keeps(path) && !server.family.passes(path);
    bytes <= LONGEST_SCRIPT && looks() && is_own()
}

/// The texts of scripts, and of whatever else pins something, without a survey of all else.
///
/// # Errors
/// When the folder cannot be listed, or one cannot be read.
pub fn scripts(server: &Server) -> Result<Vec<(RelPath, Text)>> {
    scripts_in(server, &server.folder.list()?)
}

/// As [`scripts`], of a folder that was just listed.
///
/// # Errors
/// When one cannot be read.
pub fn scripts_in(server: &Server, listing: &Listing) -> Result<Vec<(RelPath, Text)>> {
    let files = listing.files.iter();
    texts(server, files.map(|(path, stamp)| (path, stamp.bytes)))
}

fn texts<'f>(
    server: &Server,
    files: impl Iterator<Item = (&'f RelPath, u64)>,
) -> Result<Vec<(RelPath, Text)>> {
    let launch = server.launch();
    let is_meant = |path: &str, bytes: u64| {
        server.family.is_followed(path) || is_script(server, &launch, path, bytes)
    };
    let meant = files.filter(|(path, bytes)| is_meant(path.as_str(), *bytes));
    let meant: Vec<(&RelPath, u64)> = meant.collect();
    let read = |(path, bytes): &(&RelPath, u64)| {
        let text = server.folder.read_listed_text(path, *bytes)?;
        Ok(((*path).clone(), text))
    };
    server
        .folder
        .with_hands(|| meant.par_iter().map(read).collect())
}

/// What happens when the server is started, as far as its scripts say.
pub fn flow(server: &Server, scripts: &[(RelPath, Text)]) -> Flow {
    let texts = scripts.iter().filter(|(_, text)| text.is_plain());
    let texts = texts.map(|(path, text)| (path.clone(), text.as_str()));
    let recipe = server.recipe().map(|recipe| recipe.command.as_slice());
    let texts = texts.collect();
    Flow::of(&server.launch(), recipe.unwrap_or_default(), &texts)
}

/// What the server's own catalogues say of releases; one that cannot be read says nothing here, and a plan tells why.
#[derive(Debug)]
struct OnOffer<'a> {
    server: &'a Server,
    /// Opened when it is first asked.
    depot: OnceCell<Depot>,
}

impl Catalogued for OnOffer<'_> {
    fn of_content(&self, blake3: &str) -> Option<Facts> {
        let open = || {
            let mut depot = Depot::default();
            for path in self.server.catalogues() {
                depot.open_known(self.server, &path);
            }
            depot
        };
        let known = self
            .depot
            .get_or_init(open)
            .known(blake3, &self.server.family);
        known.map(|offer| offer.facts)
    }
}

/// What is to be done for a file's hash.
#[derive(Clone, Copy)]
enum Need<'a> {
    /// Nothing: nobody wants to know it.
    Nothing,
    /// Nothing: the file looks as the ledger remembers it, with this hash.
    Known(&'a str),
    /// The file is to be read.
    Read,
}

/// So many rows are written down together, at most: whoever hashes need not wait for whoever writes with every file.
const WRITTEN_TOGETHER: usize = 64;

/// A file that was read, with its hash.
type Row<'a> = (&'a RelPath, Stamp, String);

/// Hands rows on to be written down, many at a time; the last ones when it is dropped.
struct Rows<'a> {
    to: Sender<Vec<Row<'a>>>,
    waiting: Vec<Row<'a>>,
}

impl<'a> Rows<'a> {
    fn to(to: Sender<Vec<Row<'a>>>) -> Rows<'a> {
        Rows {
            to,
            waiting: Vec::new(),
        }
    }

    fn add(&mut self, row: Row<'a>) {
        self.waiting.push(row);
        if self.waiting.len() >= WRITTEN_TOGETHER {
            self.hand_on();
        }
    }

    /// Who writes them down may have failed, and is asked in the end.
    fn hand_on(&mut self) {
        let _ = self.to.send(std::mem::take(&mut self.waiting));
    }
}

impl Clone for Rows<'_> {
    fn clone(&self) -> Self {
        Rows::to(self.to.clone())
    }
}

impl Drop for Rows<'_> {
    fn drop(&mut self) {
        if !self.waiting.is_empty() {
            self.hand_on();
        }
    }
}

/// Which files are read, and by what.
struct Hashing<'a> {
    folder: &'a Folder,
    seen: &'a HashMap<String, (Stamp, String)>,
    is_read: &'a (dyn Fn(&str) -> bool + Sync),
    /// Whether the ledger knows what was put at a path by its content: only its content can then be held against that.
    by_content: &'a (dyn Fn(&RelPath) -> bool + Sync),
}

impl Hashing<'_> {
    /// Hashes files; those that look as the ledger remembers them are not read again.
    fn hashed(&self, ledger: &mut Ledger, files: &[(RelPath, Stamp)]) -> Result<Vec<FileSeen>> {
        let Hashing {
            folder,
            seen,
            is_read,
            by_content,
        } = self;
        let need = |(path, stamp): &(RelPath, Stamp)| match is_read(path.as_str()) {
            false => Need::Nothing,
            true => match seen.get(path.as_str()) {
                Some((known, hash)) if known == stamp => Need::Known(hash),
                _ => Need::Read,
            },
        };
        let needs: Vec<Need> = files.par_iter().map(need).collect();
        let asked = files.iter().zip(&needs);
        let asked = asked.filter(|(_, need)| matches!(need, Need::Read));
        let asked: Vec<(&RelPath, u64)> = asked
            .map(|((path, stamp), _)| (path, stamp.bytes))
            .collect();
        meter::begin(asked.iter().map(|(_, bytes)| bytes).sum());
        let hashed_there = shell::hashes(folder, &asked)?;
        let here: HashSet<&str> = files.iter().map(|(path, _)| path.as_str()).collect();
        let own_room = format!("{OWN}/");
        let gone: Vec<&str> = seen
            .keys()
            .map(String::as_str)
            // What a changeover has set aside is not surveyed, and there all the same.
            .filter(|path| !here.contains(path) && !path.starts_with(&own_room))
            .collect();
        // What was hashed is written down while the rest is still being read.
        let (fresh, rows) = std::sync::mpsc::channel();
        let (hashes, written) = std::thread::scope(|scope| {
            let writing = scope.spawn(|| ledger.see(rows.into_iter().flatten(), &gone));
            let hashes: Vec<Option<String>> = files
                .par_iter()
                .zip(&needs)
                .map_with(Rows::to(fresh), |fresh, ((path, stamp), need)| {
                    match need {
                        Need::Nothing => return None,
                        Need::Known(hash) => return Some((*hash).to_owned()),
                        Need::Read => {}
                    }
                    let hash = match hashed_there.get(path) {
                        Some(hash) => hash.clone(),
                        None => {
                            let hash = match by_content(path) {
                                true => folder.hash(path),
                                false => folder.content(path, stamp),
                            };
                            meter::did(stamp.bytes);
                            hash.ok()?
                        }
                    };
                    fresh.add((path, *stamp, hash.clone()));
                    Some(hash)
                })
                .collect();
            (hashes, writing.join())
        });
        written.unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
        let files = files
            .iter()
            .zip(hashes)
            .map(|((path, stamp), hash)| FileSeen {
                path: path.clone(),
                bytes: stamp.bytes,
                hash,
            });
        Ok(files.collect())
    }
}

/// Finds the file that holds the load order, and reads it, with what is read in the place of its lines; none where names
/// tell the order.
///
/// # Errors
/// When several match, or it cannot be read.
pub fn order_file(
    folder: &Folder,
    family: &Family,
    files: &[FileSeen],
) -> Result<Option<OrderText>> {
    let in_text = |rule: &&OrderRule| matches!(rule.kind.keeping(), Keeping::Text(_));
    let Some(rule) = family.order.as_ref().filter(in_text) else {
        return Ok(None);
    };
    let plain = files.iter().filter(|file| !file.is_link());
    let paths: Vec<&RelPath> = plain.map(|file| &file.path).collect();
    let matching = paths.iter().filter(|path| rule.file.matches(path.as_str()));
    let matching: Vec<&RelPath> = matching.copied().collect();
    let path = match matching[..] {
        [] => return Ok(None),
        [path] => path.clone(),
        _ => {
            return Err(Error::Survey(SurveyFault::SeveralOrderFiles {
                files: matching.iter().map(ToString::to_string).collect(),
            }));
        }
    };
    let text = folder.read_text(&path)?;
    let mut failed = None;
    let mut named = |from: &RelPath, name: &str| {
        let name = name.trim_matches(['"', '\'']).trim_start_matches("./");
        let beside = from.folder().and_then(|folder| folder.join(name).ok());
        let places = beside
            .into_iter()
            .chain(RelPath::parse(name.trim_end_matches('/')).ok());
        let inside = |place: &RelPath| {
            let of_it = paths
                .iter()
                .filter(|path| **path == place || path.folder().as_ref() == Some(place));
            of_it.map(|path| (*path).clone()).collect::<Vec<RelPath>>()
        };
        let mut found = places
            .map(|place| inside(&place))
            .find(|it| !it.is_empty())
            .unwrap_or_default();
        found.sort();
        let texts = found
            .into_iter()
            .filter_map(|path| match folder.read_text(&path) {
                Ok(text) => Some((path, text)),
                Err(error) => {
                    failed = Some(error);
                    None
                }
            });
        texts.collect::<Vec<_>>()
    };
    let order = OrderText::read(rule, path, text, &mut named);
    match failed {
        Some(error) => Err(error),
        None => Ok(Some(order)),
    }
}

/// The text of the file that holds the load order, as it is now.
///
/// # Errors
/// As [`order_file`], and when the folder cannot be listed.
pub fn order_text(server: &Server) -> Result<Option<OrderText>> {
    let files = server.folder.list()?.files.into_iter();
    let files: Vec<FileSeen> = files
        .map(|(path, stamp)| FileSeen {
            path,
            bytes: stamp.bytes,
            hash: None,
        })
        .collect();
    order_file(&server.folder, &server.family, &files)
}

/// Reads the descriptors of everything that readers claim; those in archives only once, as the
/// ledger remembers by the archive's hash what was found in it.
fn all_descriptors(
    folder: &Folder,
    ledger: &mut Ledger,
    known: &Insides,
    claims: &Claims<'_>,
    files: &[FileSeen],
) -> Result<Vec<Inside>> {
    let read = |claim: &Claim<'_>| {
        if claim.reader.shape != Shape::Archive {
            return (descriptors(folder, claim, files), None);
        }
        let hash = claim.files.first().and_then(|i| files[*i].hash.clone());
        let Some(hash) = hash else {
            return (Err("it cannot be read from the disk".into()), None);
        };
        let key = (hash, wanted(claim.reader));
        match known.get(&key) {
            Some(found) => (found, None),
            None => (in_archive(folder, claim, files), Some(key)),
        }
    };
    let read: Vec<(Inside, Option<InsideKey>)> =
        folder.with_hands(|| claims.claims.par_iter().map(read).collect());
    let fresh: Vec<(&InsideKey, &Inside)> = read
        .iter()
        .filter_map(|(found, key)| Some((key.as_ref()?, found)))
        .collect();
    if !fresh.is_empty() {
        ledger.remember_insides(&fresh)?;
    }
    Ok(read.into_iter().map(|(found, _)| found).collect())
}

/// What a reader looks for in an archive, in one text.
fn wanted(reader: &Reader) -> String {
    let names: Vec<String> = reader.files.iter().map(|file| file.name.text()).collect();
    names.join("\n")
}
