//! `lantern status`

use super::{look_out, open_to_look};
use crate::answers;
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means, ago, bytes, count, time};
use clap::Args;
use lantern_host::Result;
use lantern_host::armed::{self, Armed, Became};
use lantern_host::config::{KeepUp, Server};
use lantern_host::console::ServerState;
use lantern_host::glance::{Glance, LastSurvey, OneGlance, glance};
use lantern_host::keep_up::{self, LastKeepUp};
use lantern_host::ledger::Logged;
use lantern_host::night;

/// Say at a glance how the server is: up or down, who is on, what is armed, what was done last
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern status\n  lantern status --server halcyon-terrace --json"
)]
pub struct StatusArgs {}

/// Shows how a server is; the exit status is 3 when it is down, or nobody can tell.
pub fn run(_: &StatusArgs, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    let seen = glance(server)?;
    let armed = armed::read(server)?;
    let waits = night::seen(server)?;
    let kept_up = keep_up::last(server)?;
    let is_up = seen.each.iter().all(|one| one.is_up() == Some(true));
    let status = looked.status(if is_up { fail::DONE } else { fail::NO });
    if look.json {
        let version = seen.version();
        look.answer(&answers::Status::new(
            server,
            &seen,
            version,
            armed.as_ref(),
            waits,
            kept_up,
        ));
        return Ok(status);
    }
    let kept_up = kept_up.as_ref();
    show(server, &seen, armed.as_ref(), waits.as_ref(), kept_up, look);
    if !looked.is_cut_off {
        let armed = armed.as_ref().filter(|_| !server.folder.is_far());
        look.next(&common.next(next(server, &seen, armed)));
    }
    Ok(status)
}

/// How the server is kept up by itself, and what came of the last time.
fn kept_up(words: &KeepUp, last: Option<&LastKeepUp>) -> String {
    let days = count(words.wait_days as usize, "day", "days");
    let with = format!("with releases that are {days} old or older");
    let Some(last) = last else {
        return format!("{with}; it was never run: lantern docs units");
    };
    let came = match last.came {
        keep_up::Came::Nothing => "there was nothing to do",
        keep_up::Came::FailedOnCopy | keep_up::Came::NotBegun => "not carried out",
        keep_up::Came::Done => "done",
        keep_up::Came::WentBack => "the old state was put back",
        keep_up::Came::Failed => "it failed",
    };
    let why = last.why.as_ref().and_then(|why| why.lines().next());
    let why = why.map_or(String::new(), |why| format!(": {why}"));
    format!("{with}; {}: {came}{why}", ago(last.at_ms))
}

fn show(
    server: &Server,
    seen: &Glance,
    armed: Option<&Armed>,
    waits: Option<&night::NightWait>,
    last_keep_up: Option<&LastKeepUp>,
    look: &Look,
) {
    let name = &server.config.name;
    let version = seen
        .version()
        .unwrap_or_else(|| "of unknown version".into());
    let title = format!("{name}: {} {version}.", server.family.name);
    look.say(&look.paint(Means::Title, &title));
    let row = |what: &str, text: &str| look.say(&look.row(what, 12, text));
    for one in &seen.each {
        let (means, state) = match &one.state {
            ServerState::Down => (Means::Bad, "down".to_owned()),
            ServerState::Ours(process) => (Means::Good, format!("up, process {}", process.pid)),
            ServerState::Reached { who, .. } => (Means::Good, format!("up, {who}")),
            ServerState::Foreign { who } => (Means::Caution, format!("seems to be up: {who}")),
            ServerState::Unknown { why } => (Means::Caution, format!("cannot be told: {why}")),
        };
        let since = one.since_ms.map(|ms| format!(", started {}", ago(ms)));
        row(
            one.which.as_deref().unwrap_or("server"),
            &(look.paint(means, &state) + &since.unwrap_or_default()),
        );
        if !matches!(one.state, ServerState::Down) {
            row("players", &players(one));
        }
    }
    row("plan", &plan(armed));
    if let Some(waits) = waits {
        row("waits", &super::night::row(waits));
    }
    if let Some(words) = &server.config.keep_up {
        row("keep-up", &kept_up(words, last_keep_up));
    }
    row(
        "last",
        &seen
            .last
            .as_ref()
            .map_or("nothing was done here yet".into(), last),
    );
    row(
        "findings",
        &seen
            .survey
            .as_ref()
            .map_or("not surveyed yet".into(), findings),
    );
    let start = seen.each.iter().filter_map(|one| one.start_ms);
    let start = start.max().map(time);
    row(
        "start",
        &start.map_or("none was seen yet".into(), |took| {
            format!("took {took} the last time")
        }),
    );
    let backups = seen.backups.map(|(backups, size)| {
        let backups = count(backups, "backup", "backups");
        format!("{backups}, {}", bytes(size))
    });
    let kept = format!(
        "{}; set aside: {}, {}",
        match (backups, &seen.backups_at) {
            (Some(backups), _) => backups,
            (None, Some(at)) => format!("backups in {at}, not looked at now"),
            (None, None) => "the store of backups cannot be looked into".into(),
        },
        count(seen.aside, "file", "files"),
        bytes(seen.aside_bytes)
    );
    row("disk", &kept);
}

fn players(one: &OneGlance) -> String {
    match &one.players {
        None => "cannot be told".into(),
        Some(none) if none.is_empty() => "nobody is on".into(),
        Some(some) => format!("{} on: {}", some.len(), some.join(", ")),
    }
}

fn plan(armed: Option<&Armed>) -> String {
    match armed {
        None => "none is armed".into(),
        Some(armed) if armed.became == Became::Armed => format!(
            "{} is armed: {} to {}, made {}",
            armed.name.as_deref().unwrap_or_default(),
            armed.from.as_deref().unwrap_or("unknown"),
            armed.to.as_deref().unwrap_or_default(),
            ago(armed.at_ms)
        ),
        Some(armed) => armed.to_string(),
    }
}

fn last(last: &Logged) -> String {
    let ways = match (last.from.as_str(), last.to.as_str()) {
        ("", to) => format!("from {to}"),
        (from, "") => format!("before {from}"),
        (from, to) => format!("{from} to {to}"),
    };
    let how = match (&last.failed, last.undone) {
        (Some(_), _) => ", failed: the old state came back",
        (None, true) => ", taken back since",
        (None, false) => "",
    };
    let kind = last.kind.as_str();
    format!(
        "number {}, {kind}, {ways}, {}{how}",
        last.number,
        ago(last.ended_ms)
    )
}

fn findings(survey: &LastSurvey) -> String {
    let told = match survey.wrong + survey.caution + survey.notes {
        0 => "none".to_owned(),
        _ => format!(
            "{} wrong, {} caution, {} notes",
            survey.wrong, survey.caution, survey.notes
        ),
    };
    format!("{told}, surveyed {}", ago(survey.at_ms))
}

/// What is due next.
fn next(server: &Server, seen: &Glance, armed: Option<&Armed>) -> &'static str {
    let is_armed = armed.is_some_and(|armed| armed.became == Became::Armed);
    let wrong = seen.survey.as_ref().is_none_or(|survey| survey.wrong > 0);
    let mut states = seen.each.iter().map(|one| &one.state);
    let is_down = states.any(|state| *state == ServerState::Down);
    match (is_armed, wrong, is_down) {
        (true, ..) => "changeover",
        (false, true, _) => "survey",
        (false, false, true) => "console start",
        _ => look_out(server),
    }
}
