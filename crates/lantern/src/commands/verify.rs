//! `lantern verify`

use super::open_settled;
use crate::cli::Cli;
use crate::fail;
use crate::look::{Look, Means, count};
use clap::Args;
use lantern_host::Result;
use lantern_host::console::State;
use lantern_host::ledger::Ledger;
use lantern_host::survey::{Depth, survey};
use lantern_host::verify::{Answer, Verified, verify};
use serde_json::json;

/// Look at the running server again: process, port, add-ons and versions, error lines
#[derive(Debug, Args)]
pub struct VerifyArgs {}

/// Looks at the running server; the exit status is 3 when something is not as it should be.
pub fn run(_args: &VerifyArgs, cli: &Cli, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(cli, "verify")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let found = survey(&server, &mut ledger, Depth::Usual)?;
    let seen = verify(&server, &found)?;
    let status = if seen.is_right() {
        fail::DONE
    } else {
        fail::NO
    };
    if look.json {
        look.answer(&as_json(&seen));
        return Ok(status);
    }
    show(&server.config.name, &seen, look, cli);
    Ok(status)
}

fn show(name: &str, seen: &Verified, look: &Look, cli: &Cli) {
    let who = match &seen.state {
        State::Down => {
            let text = format!("{name} is down: no process, no open file, no port.");
            look.say(&look.paint(Means::Bad, &text));
            look.next(&cli.next("console start"));
            return;
        }
        State::Foreign { who } => {
            let text = format!("{name} seems to be up, and was not started by lantern: {who}.");
            look.say(&look.paint(Means::Caution, &text));
            look.say("  Its console cannot be reached, so nothing more can be said.");
            return;
        }
        State::Ours(process) => format!("process {}", process.pid),
    };
    let (means, word) = match seen.is_right() {
        true => (Means::Good, "is up, and as it should be"),
        false => (Means::Bad, "is up, but not as it should be"),
    };
    look.say(&look.paint(means, &format!("{name} {word}: {who}.")));
    if !seen.ready {
        look.say("  its ready line has not come");
    }
    match &seen.components {
        None => look.say("  this family cannot say which add-ons run"),
        Some(answers) => {
            let right = answers.iter().filter(|answer| answer.is_right()).count();
            look.say(&format!(
                "  {right} of {} run as installed",
                count(answers.len(), "component", "components")
            ));
            for answer in answers.iter().filter(|answer| !answer.is_right()) {
                look.say(&look.paint(Means::Bad, &format!("  {}", wrong(answer))));
            }
        }
    }
    for line in &seen.errors {
        look.say(&look.paint(Means::Bad, &format!("  it printed: {}", line.trim())));
    }
    if seen.is_right() {
        look.say("  no error lines since its start");
    }
}

fn wrong(answer: &Answer) -> String {
    match (&answer.version, &answer.installed) {
        (Some(runs), Some(installed)) => {
            format!("{} runs in {runs}, and {installed} is installed", answer.id)
        }
        _ => format!("{} does not run", answer.id),
    }
}

fn as_json(seen: &Verified) -> serde_json::Value {
    let (up, who) = match &seen.state {
        State::Down => (false, None),
        State::Ours(process) => (true, Some(format!("process {}", process.pid))),
        State::Foreign { who } => (true, Some(who.clone())),
    };
    let answers = seen.components.as_ref().map(|answers| {
        let answers = answers.iter().map(|answer| {
            json!({
                "id": answer.id, "installed": answer.installed, "runs": answer.runs,
                "version": answer.version, "right": answer.is_right(),
            })
        });
        answers.collect::<Vec<_>>()
    });
    json!({
        "format": 1, "right": seen.is_right(), "up": up, "who": who, "ready": seen.ready,
        "components": answers, "errors": seen.errors,
    })
}
