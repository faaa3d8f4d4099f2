//! Which of what moved makes the start fail: parts of a plan, carried out on copies, until the smallest is known that fails.
//!
//! Which part is next, `lantern-core` says, from what the starts before have shown. The live server is neither stopped nor touched. What each
//! start has shown is written down at once: whoever breaks it off and asks again goes on where it was.

pub mod fault;
mod starts;

use crate::armed;
use crate::config::Server;
use crate::console::{Console, Follower, ServerState};
use crate::culprit::fault::CulpritFault;
use crate::error::{At, Error, Result};
use crate::folder::own;
use crate::learned::{self, Release, Seen};
use crate::ledger::Ledger;
use crate::place::here;
use crate::planning::{self, Question, Side, Sources, Terms};
use crate::rehearsal::fault::RehearsalFault;
use crate::rehearsal::{self, ROOMS, RehearsalOptions, Room, rehearse};
use crate::runner::Ended;
use lantern_core::component::Id;
use lantern_core::culprit::parts::{Parts, names};
use lantern_core::culprit::{Outcome, Search, Set, Step};
use lantern_core::plan::{Action, Fate, Plan};
use schemars::JsonSchema;
use serde::Serialize;
use starts::{Shown, Start, Starts};
use std::cell::RefCell;
use std::collections::BTreeSet;
use std::path::PathBuf;
use std::time::{Duration, Instant};

/// So many of the lines that name what fails are kept.
const LINES: usize = 12;

/// How it is looked for.
pub struct CulpritOptions<'o> {
    /// Whether the world is in the copies.
    pub with_world: bool,
    /// What a line says where it fails in the way that is looked into; otherwise whatever is no good start.
    pub error: Option<ErrorLine<'o>>,
    /// A command for the shell, run in the folder of a copy whose server is up: it ends with 0 where all is well.
    pub until: Option<&'o str>,
    /// How many starts are made at most.
    pub most_starts: u32,
    /// How long it may take, before another start is begun.
    pub most: Duration,
    /// How many copies there are at once at most, where memory and the disk have room for them.
    pub at_once: usize,
}

/// A line that is looked for in what a server prints.
#[derive(Clone, Copy)]
pub struct ErrorLine<'o> {
    /// How it was written down.
    pub text: &'o str,
    /// Whether a line is one.
    pub is_it: &'o (dyn Fn(&str) -> bool + Sync),
}

/// What is told while it is looked for.
#[derive(Debug)]
pub enum Told<'t> {
    /// A part is about to be started.
    Begins {
        /// Which start it is, from 1.
        number: u32,
        /// What is in the part, of how many.
        part: &'t [Id],
        /// How many could be in it.
        of: usize,
        /// Whether what is not in it is away, and not as it was before.
        is_about_presence: bool,
    },
    /// It has shown something.
    Ended {
        /// Which start it was.
        number: u32,
        /// Whether it is good.
        good: bool,
        /// Why it is not good, or what else was seen.
        why: Option<&'t str>,
    },
    /// How many starts there are at most from now on, where one is it by itself, and how long one took, in milliseconds.
    Ahead {
        /// Starts.
        starts: u32,
        /// How long one took.
        each_ms: u64,
    },
    /// With nothing moved but what has to it fails as well: it is looked for among all that is there.
    AmongAll {
        /// How many those are.
        components: usize,
    },
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Hunt {
    /// In one word.
    pub came: Came,
    /// The server version that the plan leads to.
    pub server_version: String,
    /// How many components could be it.
    pub among: usize,
    /// Whether what is left out of a part is away; otherwise it is as it was before.
    pub by_presence: bool,
    /// What makes the start fail, each by itself.
    pub culprits: Vec<Found>,
    /// What works, as a plan that was started so.
    pub works: Option<Works>,
    /// Where it was ended before its end: of these, at least one has part in it.
    pub left: Vec<Id>,
    /// Why the start with none of them was not good, where it fails anyway; or that of all, where it fails otherwise.
    pub why: Option<String>,
    /// The last lines that it printed.
    pub last: Vec<String>,
    /// How many starts were made for it.
    pub starts: u32,
    /// How many more were known from before.
    pub known_starts: u32,
    /// How long it took, in milliseconds.
    pub took_ms: u64,
    /// Whether the world was in the copies.
    pub with_world: bool,
}

/// What came of looking.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Came {
    /// It is known what makes it fail.
    Found,
    /// The plan does not fail any more.
    Works,
    /// The plan fails, but not in the way that was to be looked into.
    FailsOtherwise,
    /// It fails also without all that could be left out.
    FailsAnyway,
    /// It was ended before that.
    Unfinished,
}

/// What fails, and of which nothing can be left out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Found {
    /// They, together.
    pub components: Vec<Moved>,
    /// What moved with them because they need it.
    pub with: Vec<Id>,
    /// Whether it fails at some starts and not at others.
    pub unsteady: bool,
    /// Why the start of these alone was not good.
    pub why: Option<String>,
    /// The last lines that it printed.
    pub last: Vec<String>,
}

/// A component that moved, or is there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Moved {
    /// Which one.
    pub id: Id,
    /// Its version in the plan; none where it goes.
    pub version: Option<String>,
    /// Its version before; none where it comes new.
    pub before: Option<String>,
}

/// What works.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Works {
    /// The plan's file; none where it changes nothing.
    pub plan: Option<PathBuf>,
    /// What is left out in it.
    pub left_out: Vec<Moved>,
    /// Of that, what the world holds content of, and what would be away.
    pub world_loses: Vec<Id>,
}

/// Looks for what makes the start fail; what the plan came of is `asked` again.
///
/// # Errors
/// When that cannot be done, a copy cannot be made, or the disk refuses. That somebody ends it early is no error.
pub fn culprit(
    server: &Server,
    plan: &Plan,
    text: &str,
    (sources, terms): (Sources, Terms),
    options: &CulpritOptions<'_>,
    tell: &mut dyn FnMut(Told<'_>),
) -> Result<Hunt> {
    let terms = Terms {
        undecided: terms.undecided.or(Some(Side::Mine)),
        ..terms
    };
    let mut ledger = Ledger::open(&server.folder)?;
    let question = planning::question(server, &mut ledger, &sources, &terms)?;
    on_offer(&question, plan)?;
    let parts = Parts::moved(&question.request, &plan.components);
    let mut parts = parts.ok_or(CulpritFault::OtherQuestion)?;
    if parts.ids().is_empty() {
        parts = parts.there().ok_or(CulpritFault::NothingMoves)?;
    }
    rehearsal::clear_all(server)?;
    let starts = Starts::of_plan(&server.folder, &armed::name_of(text))?;
    let mut looking = Looking {
        server,
        plan,
        text,
        options,
        question,
        starts,
        begun: Instant::now(),
        made: 0,
        known: 0,
        takes: Takes {
            memory: memory_of(server)?,
            disk: None,
        },
    };
    loop {
        let hunted = looking.among(&parts, tell)?;
        let there = match hunted.came {
            Came::FailsAnyway => parts.there(),
            _ => None,
        };
        match there.filter(|there| !there.ids().is_empty()) {
            None => return Ok(hunted),
            Some(there) => parts = there,
        }
        tell(Told::AmongAll {
            components: parts.ids().len(),
        });
    }
}

/// Refuses where a release that the plan brings is not on offer any more.
fn on_offer(question: &Question<'_>, plan: &Plan) -> Result<()> {
    let moved = plan.components.iter();
    let moved: Vec<_> = moved.filter(|it| it.verdict != Fate::Unchanged).collect();
    if moved.is_empty() {
        return Err(CulpritFault::NothingMoves.into());
    }
    for change in moved {
        let Some(version) = &change.to else { continue };
        let mut offers = question.request.offers.iter().map(|offer| &offer.facts);
        let is_it = |facts: &lantern_core::facts::Facts| {
            facts.id == change.id && facts.version.to_string() == *version
        };
        if !offers.any(is_it) {
            return Err(CulpritFault::NotOnOffer {
                id: change.id.clone(),
                version: version.clone(),
            }
            .into());
        }
    }
    Ok(())
}

impl Start {
    /// Whether it has named one of a part: in the reason why it was no good start, or where that names none, in its last lines.
    fn has_named(&self, parts: &Parts, id: &Id) -> bool {
        let why = self.why.as_deref().unwrap_or_default();
        match parts.ids().iter().any(|id| names(why, id)) {
            true => names(why, id),
            false => self.last.iter().any(|line| names(line, id)),
        }
    }
}

struct Looking<'l> {
    server: &'l Server,
    plan: &'l Plan,
    text: &'l str,
    options: &'l CulpritOptions<'l>,
    question: Question<'l>,
    starts: Starts,
    begun: Instant,
    made: u32,
    known: u32,
    /// The most that one copy has taken, of memory and of the disk.
    takes: Takes,
}

/// What a copy takes, in bytes; none where nothing has shown it.
#[derive(Debug, Clone, Copy, Default)]
struct Takes {
    memory: Option<u64>,
    disk: Option<u64>,
}

impl Takes {
    fn or_more(self, other: Takes) -> Takes {
        Takes {
            memory: self.memory.max(other.memory),
            disk: self.disk.max(other.disk),
        }
    }
}

/// A part, drawn as a plan.
struct Drawn {
    text: String,
    plan: Plan,
}

/// What is to be started of a part, or what is known of it without that.
enum Next {
    Known(Start),
    ToMake(Box<Drawn>, String),
}

impl Looking<'_> {
    fn among(&mut self, parts: &Parts, tell: &mut dyn FnMut(Told<'_>)) -> Result<Hunt> {
        let mut search = Search::new(parts.items(|_| false));
        let mut told: Vec<(Set, Shown)> = Vec::new();
        let mut has_told_ahead = false;
        let outcome = loop {
            if let Step::Done(outcome) = search.step() {
                break Some(outcome);
            }
            let sets = search.ahead(self.at_once()?);
            let seen = self.shown(parts, &sets, &told, tell)?;
            let is_over = seen.is_empty();
            for (set, start) in seen {
                told.push((set.clone(), start.seen));
                let is_whole = set.len() == parts.ids().len();
                if !(is_whole && start.seen == Shown::Bad) {
                    search.told(&set, start.seen.into());
                    continue;
                }
                search = Search::new(parts.items(|id| start.has_named(parts, id)));
                for (set, seen) in &told {
                    search.told(set, (*seen).into());
                }
                if !std::mem::replace(&mut has_told_ahead, true) {
                    let starts = Search::starts_for_one(parts.ids().len());
                    tell(Told::Ahead {
                        starts: starts.saturating_sub(told.len() as u32),
                        each_ms: start.ms,
                    });
                }
            }
            if is_over {
                break None;
            }
        };
        self.told(parts, &search, outcome)
    }

    /// How many copies there may be at once: as many as are wanted, where memory and the disk have room for them; one, where nothing has shown
    /// yet what one takes.
    fn at_once(&self) -> Result<usize> {
        let runner = &self.server.runner;
        let by_memory = match self.takes.memory.zip(runner.free_memory()) {
            Some((takes, free)) => free / 4 * 3 / takes.max(1),
            None => 1,
        };
        let by_disk = match self.takes.disk {
            Some(0) => u64::MAX,
            Some(takes) => self.server.folder.free_bytes(&own("culprit"))? / 4 * 3 / takes,
            None => 1,
        };
        let wanted = self.options.at_once.clamp(1, ROOMS);
        Ok(by_memory.min(by_disk).clamp(1, wanted as u64) as usize)
    }

    /// What starts of parts have shown, those that are known and those that are made for it, at the same time; none where no more may be made.
    fn shown(
        &mut self,
        parts: &Parts,
        sets: &[Set],
        told: &[(Set, Shown)],
        tell: &mut dyn FnMut(Told<'_>),
    ) -> Result<Vec<(Set, Start)>> {
        let mut to_make: Vec<(&Set, Box<Drawn>, String)> = Vec::new();
        for (at, set) in sets.iter().enumerate() {
            let earlier = told.iter().filter(|(other, _)| other == set).count();
            let beside = sets[..at].iter().filter(|other| *other == set).count();
            match self.next(parts, set, earlier + beside)? {
                // What is asked for first is known: then something else may be asked for.
                Next::Known(start) if at == 0 => return Ok(vec![(set.clone(), start)]),
                Next::Known(_) => {}
                Next::ToMake(drawn, key) => to_make.push((set, drawn, key)),
            }
        }
        let left = self.options.most_starts.saturating_sub(self.made);
        let is_over = self.begun.elapsed() > self.options.most || crate::interrupt::called_off();
        to_make.truncate(if is_over { 0 } else { left as usize });
        let first = self.made;
        for (number, (set, ..)) in (first + 1..).zip(&to_make) {
            tell(Told::Begins {
                number,
                part: &parts.of(set),
                of: parts.ids().len(),
                is_about_presence: parts.is_about_presence(),
            });
        }
        let (server, options) = (self.server, self.options);
        let made: Vec<Result<(Start, Takes)>> = std::thread::scope(|scope| {
            let begun = to_make.iter().enumerate().map(|(at, (_, drawn, _))| {
                scope.spawn(move || made_on_a_copy(server, options, drawn, Room(at)))
            });
            let begun: Vec<_> = begun.collect();
            let ended = begun.into_iter().map(|thread| thread.join());
            ended
                .map(|made| made.unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
                .collect()
        });
        let mut shown = Vec::new();
        for (number, ((set, _, key), made)) in (first + 1..).zip(to_make.iter().zip(made)) {
            let (start, takes) = match made {
                Err(Error::Rehearsal(RehearsalFault::CalledOff)) => continue,
                made => made?,
            };
            self.made += 1;
            self.takes = self.takes.or_more(takes);
            tell(Told::Ended {
                number,
                good: start.seen == Shown::Good,
                why: start.why.as_deref(),
            });
            self.starts.add(&self.server.folder, key, start.clone())?;
            shown.push(((*set).clone(), start));
        }
        Ok(shown)
    }

    /// What there is to do for the start of a part that was started so often before.
    fn next(&mut self, parts: &Parts, set: &Set, before: usize) -> Result<Next> {
        let drawn = self.drawn(parts, set)?;
        let key = self.key(&drawn);
        if let Some(start) = self.starts.of(&key).get(before) {
            self.known += 1;
            return Ok(Next::Known(start.clone()));
        }
        match drawn {
            Ok(drawn) => Ok(Next::ToMake(Box::new(drawn), key)),
            Err(why) => {
                let start = Start {
                    seen: Shown::Unclear,
                    why: Some(why),
                    last: Vec::new(),
                    ms: 0,
                };
                self.starts.add(&self.server.folder, &key, start.clone())?;
                Ok(Next::Known(start))
            }
        }
    }

    /// A part as a plan; why there is none, where it does not fit together.
    fn drawn(&mut self, parts: &Parts, set: &Set) -> Result<std::result::Result<Drawn, String>> {
        let is_plan_itself = !parts.is_about_presence() && set.len() == parts.ids().len();
        if is_plan_itself {
            return Ok(Ok(Drawn {
                text: self.text.to_owned(),
                plan: self.plan.clone(),
            }));
        }
        let Some(request) = parts.request(set) else {
            return Ok(Err("it does not fit together by itself".into()));
        };
        let whole = std::mem::replace(&mut self.question.request, request);
        let plans = self.question.plans();
        self.question.request = whole;
        let mut plans = match plans {
            Ok(plans) => plans,
            Err(Error::Planning(fault)) => return Ok(Err(fault.to_string())),
            Err(other) => return Err(other),
        };
        let plan = plans.remove(0);
        Ok(Ok(Drawn {
            text: plan.to_json(),
            plan,
        }))
    }

    /// What a start is known by: the plan, and how it is looked at.
    fn key(&self, drawn: &std::result::Result<Drawn, String>) -> String {
        let of = match drawn {
            Ok(drawn) => &drawn.text,
            Err(why) => why,
        };
        let error = self.options.error.map(|error| error.text);
        let how = (self.options.with_world, error, self.options.until);
        blake3::hash(format!("{how:?}\n{of}").as_bytes()).to_hex()[..32].to_owned()
    }

    fn told(&mut self, parts: &Parts, search: &Search, outcome: Option<Outcome>) -> Result<Hunt> {
        let (came, culprits, works) = match outcome {
            None => (Came::Unfinished, search.so_far(), None),
            Some(Outcome::Works) => (Came::Works, Vec::new(), None),
            Some(Outcome::Otherwise) => (Came::FailsOtherwise, Vec::new(), None),
            Some(Outcome::FailsAnyway) => (Came::FailsAnyway, Vec::new(), None),
            Some(Outcome::Found { culprits, works }) => (Came::Found, culprits, works),
        };
        let left = match came {
            Came::Unfinished if culprits.is_empty() => search.smallest_bad().cloned(),
            _ => None,
        };
        let mut found = Vec::new();
        for culprit in &culprits {
            let bad = self.failed(parts, &culprit.tried)?;
            let with = culprit.tried.difference(&culprit.named).copied().collect();
            found.push(Found {
                components: self.moved(&parts.of(&culprit.named)),
                with: parts.of(&with),
                unsteady: culprit.unsteady,
                why: bad.as_ref().and_then(|start| start.why.clone()),
                last: bad.map(|start| start.last).unwrap_or_default(),
            });
        }
        let works = works.map(|works| self.works(parts, &works)).transpose()?;
        let anyway = match came {
            Came::FailsAnyway => self.failed(parts, &Set::new())?,
            Came::FailsOtherwise => self.failed(parts, &(0..parts.ids().len()).collect())?,
            Came::Found | Came::Works | Came::Unfinished => None,
        };
        Ok(Hunt {
            came,
            server_version: self.plan.to.clone(),
            among: parts.ids().len(),
            by_presence: parts.is_about_presence(),
            culprits: found,
            works,
            left: left.map(|left| parts.of(&left)).unwrap_or_default(),
            why: anyway.as_ref().and_then(|start| start.why.clone()),
            last: anyway.map(|start| start.last).unwrap_or_default(),
            starts: self.made,
            known_starts: self.known,
            took_ms: self.begun.elapsed().as_millis() as u64,
            with_world: self.options.with_world,
        })
    }

    /// The last start of a part that failed, in whatever way.
    fn failed(&mut self, parts: &Parts, set: &Set) -> Result<Option<Start>> {
        let drawn = self.drawn(parts, set)?;
        let starts = self.starts.of(&self.key(&drawn));
        let mut failed = starts
            .iter()
            .rev()
            .filter(|start| start.seen != Shown::Good);
        Ok(failed.next().cloned())
    }

    /// What is known of components in the plan.
    fn moved(&self, ids: &[Id]) -> Vec<Moved> {
        let of = |id: &Id| {
            let change = self.plan.components.iter().find(|it| it.id == *id);
            Moved {
                id: id.clone(),
                version: change.and_then(|it| it.to.clone()),
                before: change.and_then(|it| it.from.clone()),
            }
        };
        ids.iter().map(of).collect()
    }

    fn works(&mut self, parts: &Parts, works: &Set) -> Result<Works> {
        let out: Set = (0..parts.ids().len())
            .filter(|at| !works.contains(at))
            .collect();
        let left_out = parts.of(&out);
        let held = self.question.request.held.iter().map(|held| &held.facts);
        let bound: BTreeSet<Id> = held
            .filter(|facts| facts.world_bound == Some(true))
            .map(|facts| facts.id.clone())
            .collect();
        let is_lost = |id: &&Id| parts.is_about_presence() && bound.contains(*id);
        let plan = match self.drawn(parts, works)? {
            Ok(drawn) if !drawn.plan.is_empty() => Some(path_of(self.server, &drawn)),
            _ => None,
        };
        Ok(Works {
            world_loses: left_out.iter().filter(is_lost).cloned().collect(),
            left_out: self.moved(&left_out),
            plan,
        })
    }
}

/// Where the plan of a part lies.
fn path_of(server: &Server, drawn: &Drawn) -> PathBuf {
    let name = armed::name_of(&drawn.text);
    server
        .folder
        .shown(&own(&format!("culprit/{name}.plan.json")))
}

/// Starts a part on a copy; what that has shown, and what the copy took.
fn made_on_a_copy(
    server: &Server,
    options: &CulpritOptions<'_>,
    drawn: &Drawn,
    room: Room,
) -> Result<(Start, Takes)> {
    let begun = Instant::now();
    let path = path_of(server, drawn);
    here::write(&path, drawn.text.as_bytes())?;
    let ledger = Ledger::open(&server.folder)?;
    let seen = RefCell::new((Vec::new(), None, None));
    let after = |copy: &Server, is_up: bool| -> Result<()> {
        let mut seen = seen.borrow_mut();
        if let Some(ErrorLine { is_it, .. }) = options.error {
            seen.0 = printed(copy)
                .into_iter()
                .filter(|line| is_it(line))
                .collect();
        }
        if let Some(command) = options.until.filter(|_| is_up) {
            seen.1 = Some(ends_well(copy, command, (server, options, room))?);
        }
        seen.2 = memory_of(copy)?;
        Ok(())
    };
    let report = rehearse(
        server,
        &ledger,
        &RehearsalOptions {
            path: &path,
            text: &drawn.text,
            plan: &drawn.plan,
            with_world: options.with_world,
            keep_copy: false,
            room,
            after: Some(&after),
        },
        &mut |_| {},
    )?;
    let (errors, ended, memory) = seen.into_inner();
    let takes = Takes {
        memory,
        disk: Some(report.copy.bytes),
    };
    let ms = begun.elapsed().as_millis() as u64;
    let start = |seen, why: Option<String>, last: Vec<String>| Start {
        seen,
        why,
        last,
        ms,
    };
    let ended_badly = match (options.until, &ended) {
        (Some(command), Some(Some(how))) => Some(format!("{command}: {how}")),
        _ => None,
    };
    let start = match (options.error, ended_badly) {
        (Some(_), None) if errors.is_empty() && report.worked => {
            start(Shown::Good, None, Vec::new())
        }
        (Some(_), None) if errors.is_empty() => start(Shown::Unclear, report.why, report.last),
        (Some(_), None) => {
            let last: Vec<String> = errors.into_iter().take(LINES).collect();
            start(Shown::Bad, report.why, last)
        }
        (_, Some(why)) => start(Shown::Bad, Some(why), report.last),
        (None, None) if report.worked => start(Shown::Good, None, Vec::new()),
        (None, None) => start(Shown::Bad, report.why, report.last),
    };
    Ok((start, takes))
}

/// The most memory that the servers that run somewhere have had; none where none runs, or that cannot be seen.
fn memory_of(server: &Server) -> Result<Option<u64>> {
    let mut all = None;
    for one in server.each() {
        if let ServerState::Ours(process) = Console::of(&one).state()? {
            let Some(takes) = one.runner.memory_of(process.pid) else {
                return Ok(None);
            };
            all = Some(all.unwrap_or(0) + takes);
        }
    }
    Ok(all)
}

/// Runs the administrator's own look at a server that is up; how it ended, where that was not well.
fn ends_well(
    copy: &Server,
    command: &str,
    (server, options, room): (&Server, &CulpritOptions<'_>, Room),
) -> Result<Option<String>> {
    let shell: [&str; 2] = if cfg!(windows) {
        ["cmd", "/C"]
    } else {
        ["sh", "-c"]
    };
    let words: Vec<String> = shell
        .into_iter()
        .chain([command])
        .map(str::to_owned)
        .collect();
    let log = own(&format!("culprit/until-{}.log", room.0 + 1));
    let log = server.folder.shown(&log);
    let ended = copy
        .runner
        .run(&words, copy.folder.root(), &log, options.most, None);
    Ok(match ended.at("running", &PathBuf::from(command))? {
        Ended::Well => None,
        Ended::Badly(how) => Some(how),
        Ended::TooSlow => Some("it did not end in time".into()),
    })
}

/// All that the servers of a copy have printed since their start.
fn printed(copy: &Server) -> Vec<String> {
    let mut lines = Vec::new();
    for one in copy.each() {
        let mut follower = Follower::from_start(&Console::of(&one).log());
        loop {
            match follower.new_lines() {
                more if more.is_empty() => break,
                more => lines.extend(more),
            }
        }
    }
    lines
}

/// Remembers what came of it.
///
/// # Errors
/// When it cannot be written.
pub fn remember(server: &Server, plan: &Plan, hunt: &Hunt) -> Result<()> {
    let found = hunt.culprits.iter();
    learned::remember(server, found.filter_map(|found| as_fact(plan, hunt, found)))
}

/// What was found, as a fact; none where something fails because another one is gone.
fn as_fact(plan: &Plan, hunt: &Hunt, found: &Found) -> Option<Seen> {
    let release = |moved: &Moved| {
        let is_own = |action: &&Action| action.component.as_ref() == Some(&moved.id);
        let own = plan.actions.iter().filter(is_own);
        let source = own.filter_map(|action| action.source.as_ref()).next();
        let archive = source.and_then(|source| plan.archives.get(source.archive));
        Some(Release {
            id: moved.id.clone(),
            version: moved.version.clone()?,
            blake3: archive.map(|archive| archive.blake3.clone()),
        })
    };
    Some(Seen {
        number: 0,
        at_ms: jiff::Timestamp::now().as_millisecond(),
        server_version: hunt.server_version.clone(),
        components: found
            .components
            .iter()
            .map(release)
            .collect::<Option<_>>()?,
        unsteady: found.unsteady,
        why: found.why.clone(),
        elsewhere: false,
    })
}
