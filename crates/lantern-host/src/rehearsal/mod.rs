//! A plan carried out on a copy of the server first.
//!
//! The copy lies in `.lantern/rehearsal/` (where there are several at once, in rooms beside that), has ports and a console of its own, and is gone afterwards.
//! Of the live server nothing is written, and nothing that could be written is shared: its files are cloned where the file
//! system can, and copied where it cannot.

pub use crate::changeover::Copied;
pub mod fault;

use crate::backup::{self, Stored};
use crate::changeover::fault::ChangeoverFault;
use crate::changeover::{self, Event, Report, check};
use crate::config::{BackupPlace, Reach, Server};
use crate::console::{Console, ServerState, ports};
use crate::error::{Error, Result};
use crate::folder::{Folder, OWN, OWNERS_ALONE, Stamp, own};
use crate::ledger::Ledger;
use crate::meter;
use crate::place::{Meta, here};
use crate::rehearsal::fault::RehearsalFault;
use crate::verify;
use lantern_core::path::RelPath;
use lantern_core::plan::Plan;
use lantern_core::tree::is_unread;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// Room that stays free besides the copies, in bytes.
const SPARE_BYTES: u64 = 64 << 20;
/// The rights of folders that the group of the server folder may pass through, and not look into.
const PASSED: u32 = 0o710;
/// The largest file that is searched for the live server's path, in bytes.
const SEARCHED_BYTES: u64 = 1 << 20;

/// What a rehearsal came to; it is kept beside the plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Rehearsal {
    /// The number of the format: 1.
    pub format: u32,
    /// BLAKE3 of the plan in hexadecimal.
    pub plan: String,
    /// When it was, in milliseconds since 1970.
    pub at_ms: i64,
    /// Whether the world was in the copy.
    pub with_world: bool,
    /// Whether the server came up as planned.
    pub worked: bool,
    /// Why not.
    pub why: Option<String>,
    /// The last lines that it printed then.
    pub last: Vec<String>,
    /// How long the start took, in milliseconds; none when it did not come up.
    pub start_ms: Option<u64>,
    /// How many components were loaded; none where the server cannot tell.
    pub loaded: Option<usize>,
    /// What was seen of the components that have to run, in words.
    #[serde(default)]
    pub seen: String,
    /// How the copy was made.
    pub copy: Copied,
}

/// Where the report on a plan lies: beside it.
pub fn report_path(plan: &Path) -> PathBuf {
    let name = plan
        .file_name()
        .unwrap_or_default()
        .to_string_lossy()
        .into_owned();
    let stem = name.strip_suffix(".plan.json").unwrap_or(&name);
    plan.with_file_name(format!("{stem}.rehearsal.json"))
}

/// The report on a plan; none when that very plan was never rehearsed.
pub fn report_on(path: &Path, text: &str) -> Option<Rehearsal> {
    let report = here::read(&report_path(path)).ok()?;
    let report: Rehearsal = serde_json::from_slice(&report).ok()?;
    let same = report.plan == blake3::hash(text.as_bytes()).to_hex().as_str();
    same.then_some(report)
}

/// Lays the report on a plan beside another file with the same plan, where there is one.
///
/// # Errors
/// When the disk refuses.
pub fn hand_on(from: &Path, to: &Path, text: &str) -> Result<()> {
    match report_on(from, text) {
        Some(report) => write_report(to, &report),
        None => Ok(()),
    }
}

fn write_report(plan: &Path, report: &Rehearsal) -> Result<()> {
    let text = serde_json::to_vec_pretty(report).expect("a report has only plain values");
    here::write(&report_path(plan), &text)
}

/// What a rehearsal is of.
pub struct RehearsalOptions<'p> {
    /// The plan's file.
    pub path: &'p Path,
    /// Its text.
    pub text: &'p str,
    /// What it says.
    pub plan: &'p Plan,
    /// Whether the world is in the copy.
    pub with_world: bool,
    /// Whether the copy is left for the administrator to look at.
    pub keep_copy: bool,
    /// Where the copy is made.
    pub room: Room,
    /// Looks at the copy besides, before what runs there is ended; told whether its server came up as planned.
    pub after: Option<After<'p>>,
}

/// A look at a copy.
pub type After<'p> = &'p dyn Fn(&Server, bool) -> Result<()>;

/// So many copies can be there at once.
pub const ROOMS: usize = 8;

/// Which of several rooms a copy is made in, from 0.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Room(pub usize);

impl Room {
    fn folder(self) -> RelPath {
        match self.0 {
            0 => own("rehearsal"),
            more => own(&format!("rehearsal-{}", more + 1)),
        }
    }

    /// Where a copy lies in it. Its folder has the live one's name, as some servers look at that.
    fn place(self, server: &Server) -> Result<RelPath> {
        let name = server.folder.root().file_name().unwrap_or_default();
        Ok(self.folder().join(&name.to_string_lossy())?)
    }
}

/// Rehearses a plan, and leaves the report beside it. The live server is neither stopped nor touched.
///
/// # Errors
/// When the copy cannot be made, a file of the server names its own folder, the plan does not match,
/// or somebody calls it off. That the new state does not come up is no error, but in the report.
pub fn rehearse(
    server: &Server,
    ledger: &Ledger,
    piece: &RehearsalOptions,
    tell: &mut dyn FnMut(Event),
) -> Result<Rehearsal> {
    check::decided(piece.plan)?;
    check::program(server, piece.plan)?;
    for one in server.each() {
        let console = Console::of(&one);
        let state = console.state()?;
        console.refuse_second(&state)?;
        // The ports of another machine are free on this one.
        if !server.folder.is_far() && !matches!(state, ServerState::Down) {
            refuse_own_port(&one)?;
        }
    }
    let room = piece.room;
    clear(server, room)?;
    // What another machine's files name is nothing on this one.
    if !server.folder.is_far() {
        refuse_own_path(server)?;
    }
    let made = make(server, room, piece.with_world);
    let (copy, copied) = match made {
        Ok(made) => made,
        Err(error) => {
            clear(server, room)?;
            return Err(error);
        }
    };
    tell(Event::Copied(copied.clone()));
    let mut pairs = server.each().into_iter().zip(copy.each());
    let handed_on = pairs.try_for_each(|(live, copy)| verify::hand_on(&live, &copy));
    let outcome = handed_on.and_then(|()| carry_out(server, &copy, ledger, piece.plan, tell));
    let looked = piece
        .after
        .map_or(Ok(()), |after| after(&copy, outcome.is_ok()));
    let ended = end(&copy);
    if !piece.keep_copy {
        clear(server, room)?;
    }
    ended.and(looked)?;
    if crate::interrupt::called_off() {
        return Err(RehearsalFault::CalledOff.into());
    }
    let mut report = Rehearsal {
        format: 1,
        plan: blake3::hash(piece.text.as_bytes()).to_hex().to_string(),
        at_ms: jiff::Timestamp::now().as_millisecond(),
        with_world: piece.with_world,
        worked: false,
        why: None,
        last: Vec::new(),
        start_ms: None,
        loaded: None,
        seen: String::new(),
        copy: copied,
    };
    match outcome {
        Ok(changed) => {
            report.worked = true;
            report.start_ms = Some(changed.times.start_ms);
            report.loaded = changed.loaded;
            report.seen = changed.seen;
        }
        Err(Error::Changeover(ChangeoverFault::RolledBack { why, last, .. })) => {
            (report.why, report.last) = (Some(why), last);
        }
        Err(error) => return Err(error),
    }
    write_report(piece.path, &report)?;
    Ok(report)
}

/// Carries the plan out on the copy.
fn carry_out(
    live: &Server,
    copy: &Server,
    ledger: &Ledger,
    plan: &Plan,
    tell: &mut dyn FnMut(Event),
) -> Result<Report> {
    let copy_of_it = copy.folder.make_own("")?.join("ledger.db")?;
    ledger.copy_to(&copy.folder.shown(&copy_of_it))?;
    let mut ledger = Ledger::open(&copy.folder)?;
    let plan = match live.folder.is_far() {
        true => as_read(plan, &copy.folder)?,
        false => plan.clone(),
    };
    let report = changeover::changeover(copy, &mut ledger, plan, false, tell)?;
    for one in copy.each() {
        let ServerState::Ours(process) = Console::of(&one).state()? else {
            continue;
        };
        for live in live.each() {
            if let Some(path) = process.opens_file_of(&live) {
                return Err(RehearsalFault::Touched { path }.into());
            }
        }
    }
    Ok(report)
}

/// A plan for files that are known by their size and time alone, as these files are read on the copy.
fn as_read(plan: &Plan, copy: &Folder) -> Result<Plan> {
    let mut plan = plan.clone();
    for action in &mut plan.actions {
        let is_unknown = action.before.as_deref().is_some_and(is_unread);
        if !is_unknown || !copy.has(&action.path)? {
            continue;
        }
        let read = Some(copy.hash(&action.path)?);
        if action.after == action.before {
            action.after.clone_from(&read);
        }
        action.before = read;
    }
    Ok(plan)
}

/// Stops whatever runs in the copy.
fn end(copy: &Server) -> Result<()> {
    for one in copy.each() {
        if let ServerState::Ours(_) = Console::of(&one).state()? {
            Console::of(&one).end_failed_start()?;
        }
    }
    Ok(())
}

fn as_copy(server: &Server, room: Room) -> Result<Server> {
    let mut copy = server.clone();
    copy.folder = Folder::open(&server.folder.shown(&room.place(server)?))?;
    copy.copy_of = Some(server.folder.clone());
    // It runs here, and what it prints is heard, whatever its host makes of that.
    let is_far = copy.config.folder.take().is_some();
    let inside = |log: &PathBuf| {
        let below = log
            .to_str()
            .is_some_and(|text| RelPath::parse(text).is_ok());
        below.then(|| log.clone())
    };
    let of_each = copy.config.servers.iter_mut().map(|one| &mut one.console);
    for console in of_each.chain([&mut copy.config.console]) {
        *console = Reach {
            log: console.log.as_ref().filter(|_| !is_far).and_then(inside),
            ..Reach::default()
        };
    }
    copy.config.backup = BackupPlace::default();
    copy.seat = None;
    copy.config.warn.at.clear();
    Ok(copy)
}

/// Removes what earlier rehearsals left in all rooms, and ends servers that still run there.
///
/// # Errors
/// When one does not end, or the disk refuses.
pub fn clear_all(server: &Server) -> Result<()> {
    (0..ROOMS).try_for_each(|at| clear(server, Room(at)))
}

/// Removes what an earlier rehearsal left in a room, and ends a server that still runs there.
fn clear(server: &Server, room: Room) -> Result<()> {
    if server.folder.has(&room.place(server)?)? {
        end(&as_copy(server, room)?)?;
    }
    server.folder.remove_all(&room.folder())?;
    let is_there = |at: usize| server.folder.has(&Room(at).folder());
    let others: Result<Vec<bool>> = (0..ROOMS).map(is_there).collect();
    match others?.contains(&true) {
        true => Ok(()),
        false => close_the_way(&server.folder),
    }
}

/// Refuses where a file names the server's own folder: the copy would run on the live server's files.
fn refuse_own_path(server: &Server) -> Result<()> {
    let root = server.folder.root();
    let own = root.as_os_str().as_encoded_bytes();
    for (path, stamp) in server.folder.list()?.files {
        let passes = server.keeps(path.as_str()) || server.family.passes(path.as_str());
        if passes || stamp.bytes > SEARCHED_BYTES || stamp.bytes < own.len() as u64 {
            continue;
        }
        let bytes = server.folder.read(&path)?;
        // What lies beside the folder may have a name that begins like the folder's.
        let ends = |at: &usize| {
            let next = bytes.get(at + own.len());
            next.is_none_or(|next| !next.is_ascii_alphanumeric() && !b"._-+".contains(next))
        };
        let mut found = memchr::memmem::find_iter(&bytes, own).filter(ends);
        if let Some(at) = found.next().filter(|_| !bytes.contains(&0)) {
            let line = memchr::memchr_iter(b'\n', &bytes[..at]).count() + 1;
            return Err(RehearsalFault::OwnPath { path, line }.into());
        }
    }
    Ok(())
}

/// Refuses where nobody can tell which port a server that may be up has: the copy would want the same.
fn refuse_own_port(server: &Server) -> Result<()> {
    let rule = server.family.console.port.as_ref();
    match rule.filter(|rule| ports::stated(&server.family, rule, &server.folder).is_none()) {
        None => Ok(()),
        Some(rule) => Err(RehearsalFault::OwnPort {
            file: rule.file.clone(),
        }
        .into()),
    }
}

/// Where the folder belongs to another user than lantern's own: gives the copy to him, and lets the group of the folder
/// pass through lantern's own folder to it, for as long as it is there.
fn open_the_way(folder: &Folder, room: Room, copy: &RelPath) -> Result<()> {
    let (own_folder, rehearsal) = (RelPath::parse(OWN)?, room.folder());
    let Some((like, mine)) = here::look(folder.root()).zip(folder.look(&own_folder)?) else {
        return Ok(());
    };
    if like.owner != mine.owner {
        folder.belongs_like(copy, &like)?;
        for on_the_way in [&own_folder, &rehearsal] {
            folder.give(on_the_way, mine.owner, like.group, PASSED)?;
        }
    }
    Ok(())
}

/// Lets nobody but the owner into lantern's own folder again.
fn close_the_way(folder: &Folder) -> Result<()> {
    let own_folder = RelPath::parse(OWN)?;
    if let Some(mine) = folder.look(&own_folder)?
        && mine.rights & 0o777 == PASSED
    {
        folder.give(&own_folder, mine.owner, mine.group, OWNERS_ALONE)?;
    }
    Ok(())
}

/// Makes the copy.
fn make(server: &Server, room: Room, with_world: bool) -> Result<(Server, Copied)> {
    let folder = &server.folder;
    let root = room.place(server)?;
    folder.make_folders(&root)?;
    open_the_way(folder, room, &root)?;
    let listing = folder.list()?;
    // Empty ones too: servers miss them.
    for inside in &listing.folders {
        let to = root.join(inside.as_str())?;
        folder.make_folders(&to)?;
        if let Some(meta) = folder.look(inside)?.filter(Meta::is_folder) {
            folder.belongs_like(&to, &meta)?;
        }
    }
    let is_wanted = |path: &RelPath| {
        let path = path.as_str();
        (with_world || !server.keeps(path)) && !server.family.passes(path)
    };
    let wanted = listing.files.iter().filter(|(path, _)| is_wanted(path));
    let wanted: Vec<&(RelPath, Stamp)> = wanted.collect();
    for (path, _, target) in listing.links.iter().filter(|(path, ..)| is_wanted(path)) {
        folder.make_link(target, &root.join(path.as_str())?)?;
    }
    let mut copied = Copied {
        left_out: listing.left_alone,
        ..Copied::default()
    };
    meter::begin(wanted.iter().map(|(_, stamp)| stamp.bytes).sum());
    if folder.is_far() {
        // What a backup here holds as it is there has not to be fetched.
        let (source, stored) = backup::at_hand(server)?;
        let fetched = folder.each(&wanted, |(path, stamp)| -> Result<u64> {
            if crate::interrupt::called_off() {
                return Err(RehearsalFault::CalledOff.into());
            }
            let to = root.join(path.as_str())?;
            let at_hand = stored.get(path).filter(|stored| stored.stamp == *stamp);
            // The users of another machine are nobody here.
            let at_hand = at_hand.cloned().map(Stored::of_nobody);
            if at_hand.is_some_and(|stored| source.unpack(&stored, folder, &to).is_ok()) {
                return Ok(0);
            }
            let is_there = folder.copy(path, &to)?;
            meter::did(stamp.bytes);
            Ok(if is_there { stamp.bytes } else { 0 })
        });
        for bytes in fetched {
            copied.copied += 1;
            copied.bytes += bytes?;
        }
        return Ok((as_copy(server, room)?, copied));
    }
    let mut clones = true;
    let mut free = None;
    for (path, stamp) in wanted {
        if crate::interrupt::called_off() {
            return Err(RehearsalFault::CalledOff.into());
        }
        let to = root.join(path.as_str())?;
        if clones && folder.share(path, &to).is_ok() {
            if let Some(meta) = folder.look(path)? {
                folder.belongs_like(&to, &meta)?;
            }
            copied.cloned += 1;
            meter::did(stamp.bytes);
            continue;
        }
        clones = false;
        let free: &mut u64 = free.get_or_insert(folder.free_bytes(&root)?);
        let needed = stamp.bytes + SPARE_BYTES;
        if *free < needed {
            return Err(Error::DiskFull {
                path: folder.shown(&root),
                needed,
                free: *free,
            });
        }
        *free -= stamp.bytes;
        // A server at work removes files while they are copied.
        if !folder.copy(path, &to)? {
            continue;
        }
        copied.copied += 1;
        meter::did(stamp.bytes);
        copied.bytes += stamp.bytes;
    }
    Ok((as_copy(server, room)?, copied))
}
