//! `lantern group`

mod back;
mod changeover;
mod decide;
mod history;
mod plan;
mod send;
pub mod there;
mod undo;
mod verify;
mod watch;
pub mod waves;

use super::question::SourceArgs;
use crate::answers::group::{GroupOutlook, GroupStatus, GroupSurveyed};
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, ago, count, grouped};
use crate::progress::during;
use clap::{Args, Subcommand};
use lantern_core::component::Id;
use lantern_core::group::{Differs, Row, compare};
use lantern_core::outlook::Together;
use lantern_core::version::Version;
use lantern_host::changeover::Meanwhile;
use lantern_host::config::fault::ConfigFault;
use lantern_host::group::{Found, OneAtAGlance, OneOutlook, OneSurvey};
use lantern_host::session::fault::SessionFault;
use lantern_host::{Error, Result};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Servers that move together: what they carry, whether it should differ, and one move for all
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern group survey terraces.group.toml\n  lantern group status                     of the only group around here\n  lantern group outlook terraces.group.toml\n  lantern group plan terraces.group.toml --to 5.4 --catalogue depot/verdance.catalogue.json\n  lantern group changeover terraces.group.toml --first --after 2h\n  lantern group watch terraces.group.toml --every 12h --metrics lantern.prom\n  lantern docs group                       what such a file says"
)]
pub struct GroupArgs {
    #[command(subcommand)]
    what: What,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Show what differs between its servers, and whether it should
    Survey(OfGroup),
    /// Show which versions every server reaches, each by itself, and what holds which of them back
    Outlook(OutlookOfGroup),
    /// Plan one move for all its servers: releases of what they share that fit every one of them
    Plan(Box<plan::PlanOfGroup>),
    /// Decide what a release and you both changed, at every server where that is asked
    Decide(decide::DecideOfGroup),
    /// Carry out what was planned for all of them: one after another, several at once, or all down and up together
    Changeover(changeover::ChangeoverOfGroup),
    /// Look at each running server again, and hold against one another what they share
    Verify(OfGroup),
    /// Take back what was carried out for all of them, the last first
    Undo(undo::UndoOfGroup),
    /// Say what is new at its servers since the last time: for every night
    Watch(watch::WatchOfGroup),
    /// Show what was done at its servers, all in one
    History(history::HistoryOfGroup),
    /// Show how each of its servers is: up or down, who is on, what was done last
    Status(OfGroup),
    /// Put this program on the machines at which a lantern is to work for it, where it is not there
    Send(OfGroup),
}

/// Which group.
#[derive(Debug, Args)]
struct OfGroup {
    /// The group's file; otherwise the only one in this folder
    #[arg(value_name = "NAME.group.toml")]
    file: Option<PathBuf>,
}

/// What is asked of a group's outlook.
#[derive(Debug, Args)]
struct OutlookOfGroup {
    #[command(flatten)]
    of: OfGroup,
    #[command(flatten)]
    sources: SourceArgs,
}

/// The newest versions that are shown are so many.
const COLUMNS: usize = 6;
/// So many servers have a row each; of more, those that are alike have one.
const FEW: usize = 10;
/// So many servers are named; of more it is said how many they are.
const NAMED: usize = 5;

/// Looks at a group, plans a move of it, or carries it out.
pub fn run(args: &GroupArgs, common: &Common, look: &Look) -> Result<u8> {
    match &args.what {
        What::Survey(of) => survey(&meant(of)?, common, look),
        What::Outlook(args) => outlook(args, look),
        What::Plan(args) => plan::run(args, look),
        What::Decide(args) => decide::run(args, common, look),
        What::Changeover(args) => changeover::run(args, common, look),
        What::Verify(of) => verify::run(&meant(of)?, look),
        What::Undo(args) => undo::run(args, common, look),
        What::Watch(args) => watch::run(args, common, look),
        What::History(args) => history::run(args, look),
        What::Status(of) => status(&meant(of)?, look),
        What::Send(of) => send::run(&meant(of)?, common, look),
    }
}

/// The file that is meant.
fn meant(of: &OfGroup) -> Result<PathBuf> {
    if let Some(file) = &of.file {
        return Ok(file.clone());
    }
    let mut here = lantern_host::group::files(Path::new("."))?;
    for file in &mut here {
        *file = file.strip_prefix(".").unwrap_or(file).to_owned();
    }
    match here.len() {
        1 => Ok(here.remove(0)),
        _ => Err(ConfigFault::WhichGroup(here).into()),
    }
}

fn survey(file: &Path, common: &Common, look: &Look) -> Result<u8> {
    let found = Found::read(file)?;
    let seen = during("servers are surveyed", || found.surveyed());
    let carries: Vec<_> = seen
        .iter()
        .map(|seen| seen.as_ref().ok().map(|it| it.carries.clone()))
        .collect();
    let rows = compare(&found.group, &carries);
    let meanwhile = seen.iter().flatten().map(|it| &it.meanwhile);
    let status = status_of(
        meanwhile,
        rows.iter().any(Row::is_wrong) || seen.iter().any(Result::is_err),
    );
    if look.json {
        look.answer(&GroupSurveyed::new(&found, &seen, &rows));
        return Ok(status);
    }
    look.say(&look.paint(Means::Title, &title(&found, &seen, &rows)));
    look.say("");
    let table = found.group.servers.iter().zip(&seen);
    let table = table.map(|(one, seen)| match seen {
        Ok(it) => vec![
            one.called().to_owned(),
            it.server_version
                .clone()
                .unwrap_or_else(|| "unknown".into()),
            it.family.clone(),
            it.carries.count().to_string(),
            match (it.wrong, it.caution) {
                (0, 0) => "none".into(),
                (0, caution) => format!("{caution} caution"),
                (wrong, 0) => look.paint(Means::Bad, &format!("{wrong} wrong")),
                (wrong, caution) => {
                    look.paint(Means::Bad, &format!("{wrong} wrong, {caution} caution"))
                }
            },
            goes_on(&it.meanwhile, look),
        ],
        Err(error) => not_seen(one.called(), error, 5, look),
    });
    let heads = [
        "server",
        "version",
        "family",
        "components",
        "findings",
        "state",
    ];
    shown(&heads, table.collect(), look);
    let mut unsaid = false;
    for row in rows.iter().filter(|row| !row.differs.is_empty()) {
        let (word, means) = match row.is_wrong() {
            true => ("wrong", Means::Bad),
            false => ("not stated", Means::Caution),
        };
        unsaid |= row.differs.contains(&Differs::Unsaid);
        look.say("");
        look.say(&format!("  {}  {}", look.paint(means, word), row.id));
        for line in told(&found, row) {
            look.say(&look.row("", 2, &line));
        }
    }
    if unsaid {
        look.say("");
        look.say(&format!(
            "  What is carried by some only is meant so where {} says it: by `own` of a server, or by `all`.",
            shell_word(file)
        ));
    }
    let wrong = found
        .members
        .iter()
        .zip(&seen)
        .find(|(_, seen)| match seen {
            Ok(it) => it.wrong > 0,
            Err(_) => true,
        });
    let is_not_there = |it: &Result<OneSurvey>| {
        let fault = it.as_ref().err();
        matches!(
            fault,
            Some(Error::Session {
                fault: SessionFault::NotSent | SessionFault::Other(_),
                ..
            })
        )
    };
    if seen.iter().any(is_not_there) {
        look.next(&format!("lantern group send {}", shell_word(file)));
    } else if let Some((member, _)) = wrong {
        look.next(&member.paste("survey", shell_word)?);
    } else {
        look.next(&common.next(&format!("group status {}", shell_word(file))));
    }
    Ok(status)
}

/// The exit status: that something was cut off counts for more than that something is wrong.
fn status_of<'m>(mut meanwhile: impl Iterator<Item = &'m Meanwhile>, is_wrong: bool) -> u8 {
    let cut_off =
        meanwhile.any(|it| matches!(it, Meanwhile::CutOff(_) | Meanwhile::CutOffElsewhere(_)));
    match (cut_off, is_wrong) {
        (true, _) => fail::WAITING,
        (false, true) => fail::NO,
        (false, false) => fail::DONE,
    }
}

/// What was looked at, and how much of it is the same.
fn title(found: &Found, seen: &[Result<OneSurvey>], rows: &[Row]) -> String {
    let servers = count(seen.len(), "server", "servers");
    let looked_at = seen.iter().filter(|it| it.is_ok()).count();
    let of_them = match looked_at == seen.len() {
        true => String::new(),
        false => format!(", of which {looked_at} could be looked at"),
    };
    let carried = rows.iter().filter(|row| row.kind.is_some()).count();
    let shared = |row: &&Row| row.at.iter().flatten().count() > 1 && row.differs.is_empty();
    let same = rows
        .iter()
        .filter(shared)
        .filter(|row| !row.is_unread)
        .count();
    let unread = rows
        .iter()
        .filter(shared)
        .filter(|row| row.is_unread)
        .count();
    let unread = match unread {
        0 => String::new(),
        n => format!(
            ", and {n} of one version, of which nobody has read whether the files are the same, too"
        ),
    };
    format!(
        "{}: {servers}{of_them}; {}, {same} of them the same wherever they are shared{unread}.",
        found.group.name,
        count(carried, "component", "components"),
    )
}

/// What is to be said of a component, line by line.
fn told(found: &Found, row: &Row) -> Vec<String> {
    let mut lines = Vec::new();
    let (own, shared): (Vec<usize>, Vec<usize>) = row
        .missing
        .iter()
        .partition(|index| row.own.contains(index));
    if !shared.is_empty() {
        lines.push(format!(
            "missing at {}: all are to carry it",
            names(found, &shared)
        ));
    }
    if !own.is_empty() {
        lines.push(format!(
            "missing at {}, whose own it is said to be",
            names(found, &own)
        ));
    }
    let alike = row.alike();
    let same_version = |version: &str| {
        let of_it = alike.iter().filter(|(it, _)| it.version == version);
        of_it.count() > 1
    };
    let several = row.differs.iter().any(|it| *it != Differs::Missing);
    for (carried, servers) in alike.iter().filter(|_| several) {
        let off = match (carried.is_off, row.differs.contains(&Differs::Switched)) {
            (true, true) => ", switched off,",
            (false, true) => ", running,",
            _ => "",
        };
        let by_files = row.differs.contains(&Differs::Files) && same_version(&carried.version);
        let size = grouped(carried.bytes as usize);
        let files = match &carried.content {
            _ if !by_files => String::new(),
            Some(content) => {
                let content = &content[..content.len().min(8)];
                // What somebody has not read may differ by its size alone.
                match row.is_unread {
                    true => format!(", content {content} in {size} bytes,"),
                    false => format!(", content {content},"),
                }
            }
            None => format!(", {size} bytes that nobody has read,"),
        };
        lines.push(format!(
            "{}{off}{files} at {}",
            carried.version,
            names(found, servers)
        ));
    }
    if row.differs.contains(&Differs::Unsaid) {
        let without: Vec<usize> = row.without.iter().copied().collect();
        lines.push(format!("not at {}", names(found, &without)));
    }
    lines
}

/// Servers by name, a few of them.
fn names(found: &Found, servers: &[usize]) -> String {
    let named = servers.iter().take(NAMED);
    let named: Vec<&str> = named
        .map(|index| found.group.servers[*index].called())
        .collect();
    match (servers.len().saturating_sub(NAMED), &named[..]) {
        (0, [others @ .., last]) if !others.is_empty() => {
            format!("{} and {last}", others.join(", "))
        }
        (0, _) => named.join(", "),
        (more, _) => format!("{} and {more} more", named.join(", ")),
    }
}

fn goes_on(meanwhile: &Meanwhile, look: &Look) -> String {
    match meanwhile {
        Meanwhile::Nothing => String::new(),
        Meanwhile::UnderWay(_) => look.paint(Means::Caution, "lantern is at work there"),
        Meanwhile::CutOff(_) | Meanwhile::CutOffElsewhere(_) => look.paint(
            Means::Bad,
            "something was cut off: lantern status says what",
        ),
    }
}

/// A table of servers; of many, those that are alike in all of it but their names are one row. Its last column is left out where nothing stands
/// in it.
fn shown(heads: &[&str], mut rows: Vec<Vec<String>>, look: &Look) {
    let is_empty = rows
        .iter()
        .all(|row| row.last().is_some_and(String::is_empty));
    let most = heads.len() - usize::from(is_empty);
    for row in &mut rows {
        row.truncate(most);
    }
    look.table(&heads[..most], alike_as_one(rows));
}

/// The rows; of many, those with the same behind their names as one, where the first of them stands.
fn alike_as_one(rows: Vec<Vec<String>>) -> Vec<Vec<String>> {
    if rows.len() <= FEW {
        return rows;
    }
    let mut all: Vec<(Vec<String>, usize)> = Vec::new();
    for row in rows {
        match all.iter_mut().find(|(known, _)| known[1..] == row[1..]) {
            Some((_, more)) => *more += 1,
            None => all.push((row, 0)),
        }
    }
    let rows = all.into_iter().map(|(mut row, more)| {
        if more > 0 {
            row[0] = format!("{} and {more} more", row[0]);
        }
        row
    });
    rows.collect()
}

/// The row of a server that could not be looked at.
fn not_seen(name: &str, error: &Error, columns: usize, look: &Look) -> Vec<String> {
    let mut row = vec![name.to_owned()];
    row.resize(columns, String::new());
    // All of it is shown where that server alone is asked for.
    let why = error.to_string();
    let why = why.lines().next().unwrap_or_default();
    row.push(look.paint(Means::Bad, &format!("cannot be looked at: {why}")));
    row
}

fn status(file: &Path, look: &Look) -> Result<u8> {
    let found = Found::read(file)?;
    let seen = during("servers are looked at", || found.glanced());
    let all_up = seen
        .iter()
        .all(|it| it.as_ref().ok().and_then(|it| it.is_up) == Some(true));
    let meanwhile = seen.iter().flatten().map(|it| &it.meanwhile);
    let status = status_of(meanwhile, !all_up);
    if look.json {
        look.answer(&GroupStatus::new(&found, &seen));
        return Ok(status);
    }
    let up = seen.iter().flatten().filter(|it| it.is_up == Some(true));
    let (seem, up): (Vec<_>, Vec<_>) = up.partition(|it| it.seems);
    let seem = match seem.len() {
        0 => String::new(),
        n => format!(
            ", {n} more {}",
            if n == 1 { "seems to be" } else { "seem to be" }
        ),
    };
    look.say(&look.paint(
        Means::Title,
        &format!(
            "{}: {} of {} up{seem}.",
            found.group.name,
            up.len(),
            count(seen.len(), "server", "servers")
        ),
    ));
    look.say("");
    let table = found.group.servers.iter().zip(&seen);
    let table = table.map(|(one, seen)| match seen {
        Ok(it) => at_a_glance(one.called(), it, look),
        Err(error) => not_seen(one.called(), error, 5, look),
    });
    let heads = ["server", "now", "players", "version", "last", "state"];
    shown(&heads, table.collect(), look);
    look.next(&format!("lantern group survey {}", shell_word(file)));
    Ok(status)
}

fn outlook(args: &OutlookOfGroup, look: &Look) -> Result<u8> {
    let file = meant(&args.of)?;
    let found = Found::read(&file)?;
    let sources = args.sources.named();
    let seen = during("files and releases are read", || found.outlooks(&sources))?;
    let highest = highest_for_all(&seen);
    let meanwhile = seen.iter().flatten().map(|it| &it.meanwhile);
    let status = status_of(meanwhile, seen.iter().any(Result::is_err));
    if look.json {
        look.answer(&GroupOutlook::new(&found, &seen, highest));
        return Ok(status);
    }
    let name = &found.group.name;
    let builds: BTreeSet<&Id> = seen.iter().flatten().map(|it| &it.build).collect();
    let unseen = seen.iter().filter(|it| it.is_err()).count();
    let is_installed = |version: &&Version| {
        let mut each = seen.iter().flatten();
        each.all(|it| it.installed.as_ref() == Some(*version))
    };
    let later = highest.filter(|version| !is_installed(version));
    let title = match (later, builds.len(), unseen) {
        (Some(version), ..) => {
            format!(
                "{name}: {version} is the highest version that every server reaches with everything, each by itself."
            )
        }
        (None, 2.., _) => format!("{name}: its servers are of different programs."),
        (None, _, 0) if highest.is_some() => {
            format!("{name}: there is no later version that every server reaches with everything.")
        }
        (None, _, 0) => {
            format!("{name}: there is no version that every server reaches with everything.")
        }
        (None, ..) => format!(
            "{name}: which version every server reaches cannot be told, as {} could not be looked at.",
            count(unseen, "server", "servers")
        ),
    };
    look.say(&look.paint(Means::Title, &title));
    for build in builds {
        look.say("");
        of_program(build, &found, &seen, look);
    }
    for (one, seen) in found.group.servers.iter().zip(&seen) {
        match seen {
            Err(error) => {
                let row = not_seen(one.called(), error, 1, look);
                look.say(&format!("\n  {}  {}", row[0], row[1]));
            }
            Ok(it) if it.left_out > 0 => look.say(&format!(
                "\n  {}: {} could not be read: lantern outlook says which",
                one.called(),
                count(it.left_out, "release or archive", "releases or archives")
            )),
            Ok(_) => {}
        }
    }
    let bare = seen.iter().enumerate();
    let bare = bare.filter(|(_, it)| it.as_ref().is_ok_and(|it| !it.is_on_offer));
    let bare: Vec<usize> = bare.map(|(index, _)| index).collect();
    if !bare.is_empty() {
        look.say(&format!(
            "\n  Nothing is on offer for {}: no catalogue and no drop folder is named, here or in lantern.toml, or nothing is in them.",
            names(&found, &bare)
        ));
    }
    look.next(&format!("lantern group survey {}", shell_word(&file)));
    Ok(status)
}

/// The highest version on which everything fits together at every server; none where one could not be looked at, or they are of different
/// programs.
fn highest_for_all(seen: &[Result<OneOutlook>]) -> Option<&Version> {
    let seen: Option<Vec<&OneOutlook>> = seen.iter().map(|it| it.as_ref().ok()).collect();
    let seen = seen?;
    let first = seen.first()?;
    let fits = |version: &&Version| {
        let mut each = seen.iter();
        each.all(|it| it.build == first.build && it.together(version) == Some(Together::All))
    };
    let versions = first.versions.iter().map(|it| &it.version);
    versions.rev().find(fits)
}

/// The servers of one program, by version, and what holds them back.
fn of_program(build: &Id, found: &Found, seen: &[Result<OneOutlook>], look: &Look) {
    let servers = found.group.servers.iter().zip(seen).enumerate();
    let servers = servers.filter_map(|(index, (_, seen))| Some((index, seen.as_ref().ok()?)));
    let servers: Vec<(usize, &OneOutlook)> = servers.filter(|(_, it)| it.build == *build).collect();
    let versions = servers.iter().flat_map(|(_, it)| &it.versions);
    let versions: BTreeSet<&Version> = versions.map(|it| &it.version).collect();
    let versions: Vec<&Version> = versions.into_iter().rev().take(COLUMNS).collect();
    let versions: Vec<&Version> = versions.into_iter().rev().collect();
    let mut heads = vec![build.to_string(), "installed".to_owned()];
    heads.extend(versions.iter().map(ToString::to_string));
    let heads: Vec<&str> = heads.iter().map(String::as_str).collect();
    let rows = servers.iter().map(|(index, it)| {
        let installed = it.installed.as_ref();
        let mut row = vec![
            found.group.servers[*index].called().to_owned(),
            installed.map_or("unknown".into(), ToString::to_string),
        ];
        row.extend(versions.iter().map(|version| standing(it, version, look)));
        row
    });
    look.table(&heads, alike_as_one(rows.collect()));
    let mut is_first = true;
    for version in versions {
        let mut late: BTreeMap<&Id, Vec<usize>> = BTreeMap::new();
        for (index, it) in &servers {
            for id in it.not_ready(version) {
                late.entry(id).or_default().push(*index);
            }
        }
        if late.is_empty() {
            continue;
        }
        if is_first {
            look.say("");
            is_first = false;
        }
        let shown = late.iter().take(NAMED);
        let mut shown: Vec<String> = shown
            .map(|(id, servers)| format!("{id} at {}", names(found, servers)))
            .collect();
        if let Some(more @ 1..) = late.len().checked_sub(NAMED) {
            shown.push(format!("{more} more"));
        }
        look.say(&look.row(
            &format!("{version}"),
            10,
            &format!("not ready: {}", shown.join("; ")),
        ));
    }
}

/// How a server stands to a version, in a word.
fn standing(it: &OneOutlook, version: &Version, look: &Look) -> String {
    let late = it.not_ready(version).len();
    match it.together(version) {
        Some(Together::All) => look.paint(Means::Good, "all"),
        Some(Together::WithoutSome) => look.paint(Means::Caution, "without some"),
        Some(Together::No) if late > 0 => look.paint(Means::Bad, &format!("{late} not ready")),
        Some(Together::No) => look.paint(Means::Bad, "does not fit"),
        None if it.installed.as_ref().is_some_and(|now| version < now) => "older".into(),
        None => look.paint(Means::Aside, "not on offer"),
    }
}

fn at_a_glance(name: &str, it: &OneAtAGlance, look: &Look) -> Vec<String> {
    let (means, now) = match it.is_up {
        Some(true) if it.seems => (Means::Caution, "seems to be up"),
        Some(true) => (Means::Good, "up"),
        Some(false) => (Means::Bad, "down"),
        None => (Means::Caution, "cannot be told"),
    };
    let last = it.last.as_ref();
    vec![
        name.to_owned(),
        look.paint(means, now),
        it.players.map_or("unknown".into(), |on| on.to_string()),
        it.version.clone().unwrap_or_else(|| "unknown".into()),
        last.map_or("nothing yet".into(), |last| {
            format!("{} {}", last.kind.as_str(), ago(last.ended_ms))
        }),
        goes_on(&it.meanwhile, look),
    ]
}
