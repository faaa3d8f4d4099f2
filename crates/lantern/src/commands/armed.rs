//! Which plan is meant, and whether it is to be carried out.

use crate::common::Common;
use crate::look::{Look, Means, ago, bytes, count, grouped, time};
use lantern_core::operation::Detail;
use lantern_core::plan::{ComponentChange, Fate, Plan, Switched};
use lantern_host::armed::{self, Became};
use lantern_host::backup::Scope;
use lantern_host::backup::ahead::{Ahead, TELLING, ahead};
use lantern_host::config::Server;
use lantern_host::console::{Console, ServerState};
use lantern_host::ledger::Ledger;
use lantern_host::place::here;
use lantern_host::planning::fault::PlanningFault;
use lantern_host::verify::GoodStart;
use lantern_host::{Error, Result};
use std::path::{Path, PathBuf};

/// A plan that is meant.
pub struct Chosen {
    /// Where it lies.
    pub path: PathBuf,
    /// Its text.
    pub text: String,
    /// It.
    pub plan: Plan,
    /// Whether it was named, by a path or by its name.
    pub is_named: bool,
}

/// Reads the plan that is meant: the file or the name that was given, or the one that is armed.
///
/// # Errors
/// When there is none, or it was carried out or failed already and is not asked for by its name.
///
/// `again` says that what failed before is meant all the same.
pub fn choose(named: Option<&str>, again: bool, server: &Server) -> Result<Chosen> {
    let armed_path = server.folder.shown(&armed::plan_file());
    let file = named
        .map(Path::new)
        .filter(|path| here::look(path).is_some());
    let chosen = match (named, file) {
        (_, Some(path)) => return read(path.to_owned(), true),
        (Some(name), None) if !is_name(name) => return read(PathBuf::from(name), true),
        _ => armed::read(server)?,
    };
    if let (None, Some(armed)) = (named, &chosen)
        && armed.became != Became::Armed
        && !(again && matches!(armed.became, Became::WentBack { .. }))
    {
        return Err(Error::Planning(PlanningFault::NotArmed(Box::new(
            armed.clone(),
        ))));
    }
    let plan = read(armed_path, named.is_some())?;
    let name = armed::name_of(&plan.text);
    match named {
        Some(named) if !name.starts_with(named) => Err(Error::Planning(PlanningFault::OtherName {
            named: named.to_owned(),
            armed: name,
        })),
        _ => Ok(plan),
    }
}

/// Whether a text can be the name of a plan, or the beginning of one.
fn is_name(text: &str) -> bool {
    (4..=64).contains(&text.len()) && text.chars().all(|c| c.is_ascii_hexdigit())
}

fn read(path: PathBuf, is_named: bool) -> Result<Chosen> {
    let text = here::read_text(&path).map_err(|error| match error {
        Error::Io { source, .. } if source.kind() == std::io::ErrorKind::NotFound => {
            Error::Planning(PlanningFault::NoPlan(path.clone()))
        }
        other => other,
    })?;
    let plan = Plan::parse(&text).map_err(|fault| {
        Error::Planning(PlanningFault::Plan {
            path: path.clone(),
            fault,
        })
    })?;
    Ok(Chosen {
        path,
        text,
        plan,
        is_named,
    })
}

/// That files beside it go along, as the end of a line.
pub fn along(beside: usize) -> String {
    match beside {
        0 => String::new(),
        beside => format!(", with {} beside it", count(beside, "file", "files")),
    }
}

/// What a plan comes to, in one line.
pub fn summary(components: &[ComponentChange]) -> String {
    let of = |fate| components.iter().filter(|it| it.verdict == fate).count();
    let switched = |to| {
        components
            .iter()
            .filter(|it| it.switched == Some(to))
            .count()
    };
    if components.is_empty() {
        return "No component changes".into();
    }
    let mut told = format!(
        "{} updated, {} added, {} removed, {} unchanged",
        grouped(of(Fate::Updated)),
        grouped(of(Fate::Added)),
        grouped(of(Fate::Removed)),
        grouped(of(Fate::Unchanged))
    );
    for (switched, word) in [
        (switched(Switched::On), "on"),
        (switched(Switched::Off), "off"),
    ] {
        if switched > 0 {
            told += &format!(", {} switched {word}", grouped(switched));
        }
    }
    told
}

/// Says what is about to be done, and for how long the server is likely to be away.
///
/// `starts` says whether a server that is down is to be up afterwards.
pub fn announce(
    chosen: &Chosen,
    server: &Server,
    ledger: &Ledger,
    starts: bool,
    look: &Look,
) -> Result<()> {
    let plan = &chosen.plan;
    let name = armed::name_of(&chosen.text);
    let age = armed::read(server)?.filter(|armed| armed.name.as_deref() == Some(&*name));
    let age = age.map_or(String::new(), |armed| {
        format!(", made {}", ago(armed.at_ms))
    });
    let way = way(plan, server);
    look.talk(&look.paint_error(
        Means::Title,
        &format!(
            "{}: plan {name}{age}: {way}. {}.",
            plan.server,
            summary(&plan.components)
        ),
    ));
    let row = |what: &str, text: String| look.talk(&look.row(what, 14, &text));
    let of = |fate: Fate| plan.components.iter().filter(move |it| it.verdict == fate);
    let moved = |it: &ComponentChange| {
        let (from, to) = (it.from.as_deref(), it.to.as_deref());
        format!(
            "{} {} → {}",
            it.id,
            from.unwrap_or("unknown"),
            to.unwrap_or("unknown")
        )
    };
    let told = [
        ("updates", few(of(Fate::Updated).map(moved))),
        (
            "adds",
            few(of(Fate::Added).map(|it| format!("{} {}", it.id, it.to.as_deref().unwrap_or("")))),
        ),
        (
            "removes",
            few(of(Fate::Removed).map(|it| it.id.to_string())),
        ),
        (
            "switches",
            few(plan.components.iter().filter_map(|it| {
                Some(format!(
                    "{} {}",
                    it.id,
                    match it.switched? {
                        Switched::On => "on",
                        Switched::Off => "off",
                    }
                ))
            })),
        ),
        (
            "moves",
            few(plan.renamed().into_iter().map(|(it, beside)| {
                let along = along(beside);
                format!("{} → {}{along}", it.from, it.to)
            })),
        ),
        (
            "puts back",
            few(plan.brought().map(|path| path.to_string())),
        ),
        (
            "edits",
            few(plan.edits.iter().map(|edit| edit.path.to_string())),
        ),
        (
            "sets aside",
            few(plan
                .yours
                .iter()
                .map(|it| format!("{} ({})", it.path, it.why.as_str()))),
        ),
    ];
    for (what, text) in told {
        if !text.is_empty() {
            row(what, text);
        }
    }
    let mut each = server.each();
    each.retain(|one| {
        let of_plan = |which: &str| plan.servers.iter().any(|name| name == which);
        plan.servers.is_empty() || one.which().is_some_and(of_plan)
    });
    if !plan.servers.is_empty() {
        row("stops", plan.servers.join(", "));
    }
    let is_down = |one: &Server| matches!(Console::of(one).state(), Ok(ServerState::Down));
    match each.iter().all(is_down) {
        true => row(
            "the server",
            match starts {
                true => "is down; it is started, looked at, and left up".into(),
                false => {
                    "is down; it is started, looked at, and stopped again (--start leaves it up)"
                        .into()
                }
            },
        ),
        false => row("away", away(&each, ledger)?),
    }
    if let Some(ahead) = ahead(server, Scope::Kept)? {
        row("fetches", fetched(&ahead, " of the keep list"));
    }
    if each.iter().any(|one| Console::of(one).is_by_hand()) {
        row(
            "by hand",
            "you are asked to stop it, and to start it, in the page of its host".into(),
        );
    }
    Ok(())
}

/// What a backup of a server on another machine fetches, and how long that takes; `which` says of what.
pub fn fetched(ahead: &Ahead, which: &str) -> String {
    if ahead.files == 0 {
        return format!("nothing{which}, as the last backup has it all");
    }
    let what = format!(
        "{}{which}, {}, into a backup here",
        count(ahead.files, "file", "files"),
        bytes(ahead.bytes)
    );
    match ahead.takes {
        Some(takes) => format!(
            "{what}: about {}, if the line is as fast as the last time",
            time(takes.as_millis() as u64)
        ),
        None if ahead.bytes < TELLING => what,
        None => format!("{what}; how fast the line is, is not known yet"),
    }
}

/// Where a plan leads.
pub fn way(plan: &Plan, server: &Server) -> String {
    let family = &server.family.name;
    let from = plan.from.as_deref().unwrap_or("unknown");
    match (from == plan.to, server.family.build.outside) {
        (true, _) => format!("{family} stays at {from}"),
        (false, false) => format!("{family} {from} to {}", plan.to),
        (false, true) => format!("{family} {from}, prepared for {}", plan.to),
    }
}

/// So many are named.
const NAMED: usize = 12;

fn few(all: impl Iterator<Item = String>) -> String {
    let all: Vec<String> = all.collect();
    let shown = all[..all.len().min(NAMED)].join(", ");
    match all.len().saturating_sub(NAMED) {
        0 => shown,
        more => format!("{shown} and {more} more"),
    }
}

/// What was seen of how long a server is away, in milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Away {
    /// In the last operation.
    Whole(u64),
    /// Its start alone.
    Start(u64),
}

impl Away {
    /// Whatever it was.
    pub fn ms(self) -> u64 {
        match self {
            Away::Whole(ms) | Away::Start(ms) => ms,
        }
    }
}

/// How long a server was away the last time; none where lantern has seen nothing of that.
///
/// # Errors
/// When the ledger cannot be read.
pub fn last_away(each: &[Server], ledger: &Ledger) -> Result<Option<Away>> {
    let operations = ledger.operations()?;
    let last = operations.iter().rev().filter(|it| it.failed.is_none());
    for operation in last {
        let Detail { times, .. } = ledger.detail(operation.number)?;
        if let Some(total) = times.and_then(|times| times.total_ms()) {
            return Ok(Some(Away::Whole(total)));
        }
    }
    let good = each.iter().filter_map(GoodStart::read);
    Ok(good.map(|good| good.ready_ms).max().map(Away::Start))
}

/// For how long a server is likely to be away, by what was seen before.
fn away(each: &[Server], ledger: &Ledger) -> Result<String> {
    Ok(match last_away(each, ledger)? {
        Some(Away::Whole(total)) => format!("the last time it was {}", time(total)),
        Some(Away::Start(ready)) => format!("its start alone took {} before", time(ready)),
        None => "not known how long: lantern has seen no start of it".into(),
    })
}

/// Asks before something that cannot be taken for a question is done.
///
/// # Errors
/// [`PlanningFault::NotConfirmed`] where nobody can be asked; [`PlanningFault::Declined`] where the answer is no.
pub fn confirm(what: &str, without: &str, common: &Common, look: &Look) -> Result<()> {
    if common.yes {
        return Ok(());
    }
    match look.ask(what) {
        Some(true) => Ok(()),
        Some(false) => Err(Error::Planning(PlanningFault::Declined)),
        None => Err(Error::Planning(PlanningFault::NotConfirmed(
            without.to_owned(),
        ))),
    }
}
