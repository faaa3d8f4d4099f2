//! `lantern verify`

use super::{OneOf, answer_each, open_settled, open_to_look};
use crate::answers;
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means};
use crate::progress::during;
use clap::Args;
use lantern_core::health;
use lantern_host::Result;
use lantern_host::config::Server;
use lantern_host::console::ServerState;
use lantern_host::ledger::Ledger;
use lantern_host::survey::{Depth, survey};
use lantern_host::verify::{GoodStart, Verified, verify};

/// Look at the running server again: process, port, add-ons and versions, error lines
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  lantern verify\n  lantern verify --accept")]
pub struct VerifyArgs {
    /// Take the error lines that it shows for what this server always prints
    #[arg(long)]
    accept: bool,
    #[command(flatten)]
    which: OneOf,
}

/// Looks at the running server; the exit status is 3 when something is not as it should be.
pub fn run(args: &VerifyArgs, common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = match args.accept {
        true => open_settled(common, look, "verify").map(|(server, lock)| (server, Some(lock)))?,
        false => (open_to_look(common, look)?.server, None),
    };
    let mut ledger = Ledger::open(&server.folder)?;
    let found = during("files are read", || {
        survey(&server, &mut ledger, Depth::Usual)
    })?;
    let mut each = Vec::new();
    for one in server.chosen(args.which.of.as_deref())? {
        let inventory = &found.part(&one).inventory;
        let mut seen = verify(&one, inventory)?;
        if args.accept {
            accept(&one, &seen, look)?;
            seen = verify(&one, inventory)?;
        }
        each.push((one, seen));
    }
    let status = match each.iter().all(|(_, seen)| seen.is_right()) {
        true => fail::DONE,
        false => fail::NO,
    };
    if look.json {
        let each = each.iter();
        let each = each.map(|(one, seen)| (one.which().map(str::to_owned), seen.into()));
        answer_each(look, each.collect::<Vec<(_, answers::VerifySeen<'_>)>>());
        return Ok(status);
    }
    each.iter()
        .for_each(|(one, seen)| show(&one.title(), seen, look, common));
    Ok(status)
}

/// Takes the error lines that a server shows for what it always prints.
fn accept(server: &Server, seen: &Verified, look: &Look) -> Result<()> {
    let verdict = seen.verdict.iter();
    let new = verdict
        .flat_map(|verdict| &verdict.errors)
        .filter(|error| !error.known);
    let new: Vec<String> = new.map(|error| health::normal(&error.line)).collect();
    GoodStart::accept(server, new.iter().cloned())?;
    if !look.json {
        new.iter()
            .for_each(|line| look.say(&format!("accepted: {line}")));
    }
    Ok(())
}

fn show(name: &str, seen: &Verified, look: &Look, common: &Common) {
    let who = match &seen.state {
        ServerState::Down => {
            let text = format!("{name} is down: no process, no open file, no port.");
            look.say(&look.paint(Means::Bad, &text));
            look.next(&common.next("console start"));
            return;
        }
        ServerState::Foreign { who } if seen.verdict.is_some() => who.clone(),
        ServerState::Foreign { who } => {
            let text = format!("{name} seems to be up, and was not started by lantern: {who}.");
            look.say(&look.paint(Means::Caution, &text));
            look.say("  Its console cannot be reached, so nothing more can be said.");
            look.say("  [console] in lantern.toml can state how to reach it.");
            return;
        }
        ServerState::Unknown { why } => {
            let text = format!("It cannot be told whether {name} is up: {why}.");
            look.say(&look.paint(Means::Caution, &text));
            return;
        }
        ServerState::Ours(process) => format!("process {}", process.pid),
        ServerState::Reached { who, .. } => who.clone(),
    };
    let (means, word) = match seen.is_right() {
        true => (Means::Good, "is up, and as it should be"),
        false => (Means::Bad, "is up, but not as it should be"),
    };
    look.say(&look.paint(means, &format!("{name} {word}: {who}.")));
    if seen.ready == Some(false) {
        look.say(&look.paint(Means::Bad, "  its ready line has not come"));
    }
    if let Some(second) = &seen.second {
        let text = format!("  something else is using its files: {second}");
        look.say(&look.paint(Means::Bad, &text));
    }
    let Some(verdict) = &seen.verdict else {
        return;
    };
    look.say(&format!("  {}", verdict.told()));
    for setting in verdict
        .settings
        .iter()
        .filter(|it| it.is_right() && it.said.is_some())
    {
        look.say(&format!("  {}: {}, as set", setting.name, setting.wanted));
    }
    for problem in verdict.problems() {
        look.say(&look.paint(Means::Bad, &format!("  {problem}")));
    }
    let (known, new): (Vec<_>, Vec<_>) = verdict.errors.iter().partition(|error| error.known);
    for error in known {
        look.say(&format!("  nothing new, it printed: {}", error.text()));
    }
    if verdict.errors.is_empty() {
        look.say("  no error lines since its start");
    }
    if !new.is_empty() {
        look.say("  What it prints at every start and is harmless can be accepted.");
        look.next(&common.next("verify --accept"));
    }
}
