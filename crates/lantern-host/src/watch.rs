//! A server that is looked at again and again: `.lantern/watched.json` holds what was said of it.

use crate::backup;
use crate::changeover::Meanwhile;
use crate::config::Server;
use crate::error::{Error, Result};
use crate::folder::own;
use crate::glance;
use crate::ledger::Ledger;
use crate::planning::{self, Question, Sources, Terms};
use crate::survey::{Depth, survey};
use lantern_core::component::Id;
use lantern_core::outlook;
use lantern_core::path::RelPath;
use lantern_core::resolve::{Policy, Prefer};
use lantern_core::watch::{About, Said, Seen};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

const FORMAT: u32 = 1;

/// What was said of a server, as it is written down.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Watched {
    format: u32,
    at_ms: i64,
    said: Vec<WasSaid>,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct WasSaid {
    about: About,
    subject: String,
    since_ms: i64,
}

fn file() -> RelPath {
    own("watched.json")
}

/// What was said of a server, and when it was looked at last, in milliseconds since 1970; none where it never was.
///
/// # Errors
/// When the disk refuses.
pub fn said(server: &Server) -> Result<Option<(Said, i64)>> {
    let bytes = server.folder.read_if_there(&file())?;
    // What a later lantern wrote says nothing to this one.
    let watched = bytes.and_then(|bytes| serde_json::from_slice::<Watched>(&bytes).ok());
    let watched = watched.filter(|watched| watched.format == FORMAT);
    Ok(watched.map(|watched| {
        let said = watched.said.into_iter();
        let said = said.map(|it| (it.about, it.subject, it.since_ms));
        (said.collect(), watched.at_ms)
    }))
}

/// Writes down what is said of a server by now.
///
/// # Errors
/// When the disk refuses.
pub fn remember(server: &Server, said: &Said, at_ms: i64) -> Result<()> {
    let said = said.each().map(|(about, subject, since_ms)| WasSaid {
        about,
        subject: subject.to_owned(),
        since_ms,
    });
    let watched = Watched {
        format: FORMAT,
        at_ms,
        said: said.collect(),
    };
    let text = serde_json::to_vec_pretty(&watched).expect("it has only plain values");
    server.folder.write_whole(&file(), &text)
}

/// Looks at a server. What cannot be found out of it is left out.
///
/// # Errors
/// When its folder or its records cannot be read.
pub fn look(server: &Server, sources: &Sources, meanwhile: &Meanwhile) -> Result<Seen> {
    let mut ledger = Ledger::open(&server.folder)?;
    let found = survey(server, &mut ledger, Depth::Usual)?;
    glance::remember(server, &found);
    let glance = glance::glance(server)?;
    let backups = backup::list(server).map(|(whole, _)| {
        let newest = whole.iter().map(|page| page.made_ms).max();
        (whole.len(), newest)
    });
    let unread = backups.as_ref().err().map(|error| {
        let why = error.to_string();
        (
            "backups".into(),
            format!("the backups cannot be looked at: {why}"),
        )
    });
    let mut seen = Seen {
        cut_off: match meanwhile {
            Meanwhile::CutOff(told) | Meanwhile::CutOffElsewhere(told) => Some(told.clone()),
            Meanwhile::Nothing | Meanwhile::UnderWay(_) => None,
        },
        up: glance.is_up(),
        players: glance.players(),
        version: found.inventory.server_version().map(ToString::to_string),
        components: Some(found.inventory.components.len()),
        findings: Some(found.inventory.findings.clone()),
        backups: backups.ok(),
        unread: unread.into_iter().collect(),
        free: free(server),
        ..Seen::default()
    };
    let updates = asked(server, &mut ledger, sources, planning::SAME).and_then(|question| {
        let stale = question.stale.iter();
        let stale = stale.map(|it| {
            (
                it.url.clone(),
                format!("{} cannot be asked: {}", it.url, it.why),
            )
        });
        seen.unread.extend(stale);
        let left_out = question.left_out.iter();
        let left_out =
            left_out.map(|(at, why)| (at.clone(), format!("{at} cannot be read: {why}")));
        seen.unread.extend(left_out);
        updates(&question)
    });
    seen.updates = updates.unwrap_or_else(|error| {
        seen.unread.insert(String::new(), cannot_be_told(&error));
        None
    });
    seen.ready_for = match asked(server, &mut ledger, sources, planning::BEST) {
        Ok(question) => ready_for(&question),
        Err(error) => {
            seen.unread.insert(String::new(), cannot_be_told(&error));
            None
        }
    };
    Ok(seen)
}

/// How much is free where the server lies, and its backups, in bytes; what is not told is left out.
fn free(server: &Server) -> BTreeMap<&'static str, u64> {
    let at_server = server.folder.free_bytes(&own("lock"));
    let mut free = BTreeMap::from_iter(at_server.map(|bytes| ("the server", bytes)));
    if server.config.backup.at.is_some() {
        let at_store = backup::free_bytes(server);
        free.extend(at_store.map(|bytes| ("the backups", bytes)));
    }
    free
}

fn cannot_be_told(error: &Error) -> String {
    let why = error.to_string();
    let why = why.lines().next().unwrap_or_default();
    let why = why.trim_end_matches(':');
    format!("which newer releases fit cannot be told: {why}")
}

fn asked<'s>(
    server: &'s Server,
    ledger: &'s mut Ledger,
    sources: &Sources,
    to: &str,
) -> Result<Question<'s>> {
    let terms = Terms {
        to: to.into(),
        policy: Policy {
            prefer: Prefer::Newest,
            ..Policy::default()
        },
        ..Terms::default()
    };
    planning::question(server, ledger, sources, &terms)
}

/// What is newer and fits together on the installed server version; none where nothing is on offer.
///
/// # Errors
/// Where nothing fits together.
fn updates(question: &Question<'_>) -> Result<Option<BTreeMap<Id, (String, String)>>> {
    let request = &question.request;
    if request.offers.is_empty() {
        return Ok(None);
    }
    let selection = planning::select(request)?;
    Ok(Some(planning::newer(&selection)))
}

/// The highest version after the installed one that everything is ready for; none where nothing is on offer, or nobody knows what is installed.
fn ready_for(question: &Question<'_>) -> Option<Option<String>> {
    let request = &question.request;
    let installed = question.survey.inventory.server_version()?;
    if request.offers.is_empty() {
        return None;
    }
    let mut versions = outlook::versions(request);
    versions.retain(|version| version > installed);
    let outlook = outlook::outlook(request, versions);
    Some(outlook.highest_for_all().map(ToString::to_string))
}
