//! `lantern launch`

use super::{OneOf, answer_each, open_settled, open_to_look, plan};
use crate::answers;
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means};
use crate::progress::during;
use clap::{Args, Subcommand};
use lantern_core::inventory::{Finding, Severity};
use lantern_core::launch::{Does, Step, Word};
use lantern_host::Result;
use lantern_host::adopt::{blocks, drafted};
use lantern_host::config::FILE;
use lantern_host::ledger::Ledger;
use lantern_host::planning;
use lantern_host::survey::{Depth, PartSeen, survey};

/// Show what the start scripts do, before they are run, and what is wrong with them
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern launch show\n  lantern launch servers\n  lantern launch part"
)]
pub struct LaunchArgs {
    #[command(subcommand)]
    what: LaunchCommand,
}

#[derive(Debug, Subcommand)]
enum LaunchCommand {
    /// Show the commands of a start in order, which of them starts the server, and with which arguments
    Show(OneOf),
    /// Draft what lantern.toml says of several servers that run on this install, from their start scripts
    Servers,
    /// Plan to move what updates the server before each start into a script of its own; a changeover carries it out
    Part,
}

/// Shows a start, or plans to part it.
pub fn run(args: &LaunchArgs, common: &Common, look: &Look) -> Result<u8> {
    match &args.what {
        LaunchCommand::Show(which) => show(which, common, look),
        LaunchCommand::Servers => servers(common, look),
        LaunchCommand::Part => part(common, look),
    }
}

fn part(common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "launch part")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let drawn = planning::part_updates(&server, &mut ledger)?;
    plan::arm_and_show(drawn, "There is nothing to do.", &server, common, look)
}

/// Drafts the servers that run on an install; the exit status is 3 where there is only one.
fn servers(common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let servers = drafted(&looked.server)?;
    let status = if servers.is_empty() {
        fail::NO
    } else {
        fail::DONE
    };
    if look.json {
        look.answer(&answers::LaunchServers::new(&servers, blocks(&servers)));
        return Ok(looked.status(status));
    }
    if servers.is_empty() {
        look.say("Its start scripts start one server, as far as they tell.");
        return Ok(looked.status(status));
    }
    look.say(blocks(&servers).trim_end());
    if !looked.server.is_several() {
        let settings = common.near(FILE);
        look.talk(&format!(
            "\n  These lines go to the end of {}. Look them over: what is not named there is common to all.",
            settings.display()
        ));
    }
    Ok(looked.status(status))
}

fn show(which: &OneOf, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    let chosen = server.chosen(which.of.as_deref())?;
    let mut ledger = Ledger::open(&server.folder)?;
    let found = during("files are read", || {
        survey(server, &mut ledger, Depth::Usual)
    })?;
    let parts: Vec<&PartSeen> = chosen.iter().map(|one| found.part(one)).collect();
    let of = |part: &'_ PartSeen| {
        let findings = part.inventory.findings.iter();
        let of_start = findings.filter(|it| it.code.starts_with("start-"));
        of_start.cloned().collect::<Vec<Finding>>()
    };
    let findings: Vec<Vec<Finding>> = parts.iter().map(|part| of(part)).collect();
    let mut all = findings.iter().flatten();
    let is_wrong = all.any(|it| it.severity == Severity::Wrong);
    let status = looked.status(if is_wrong { fail::NO } else { fail::DONE });
    if look.json {
        let each = parts.iter().zip(&findings);
        let each = each.map(|(part, findings)| {
            let which = part.server.which().map(str::to_owned);
            let shown = answers::LaunchShown::new(&part.flow, findings.iter().collect());
            (which, shown)
        });
        answer_each(look, each.collect());
        return Ok(status);
    }
    for (index, (part, findings)) in parts.iter().zip(&findings).enumerate() {
        if index > 0 {
            look.say("");
        }
        tell(part, look);
        for finding in findings {
            look.say("");
            super::survey::show_finding(finding, look);
        }
    }
    let mut flows = parts.iter().map(|part| &part.flow);
    if flows.clone().any(|flow| flow.updates().next().is_some()) {
        look.next(&common.next("launch part"));
    } else if flows.any(|flow| flow.cuts.iter().any(|(_, cut)| cut.can_be_mended())) {
        look.next(&common.next("plan --to same"));
    }
    Ok(status)
}

fn tell(part: &PartSeen, look: &Look) {
    let flow = &part.flow;
    let whom = part.server.which().unwrap_or("the server");
    let title = format!("What happens when {whom} is started:");
    look.say(&look.paint(Means::Title, &title));
    look.say("");
    let rows = flow
        .steps
        .iter()
        .map(|step| vec![place(step), does(step).into(), step.command.text()]);
    look.table(&["where", "does", "command"], rows.collect());
    let Some(start) = flow.start() else {
        look.say("\n  Which command starts the server is not known: `starts` in [launch] of the family file or of lantern.toml says it.");
        return;
    };
    let (program, arguments) = start.program();
    if arguments.is_empty() {
        look.say(&format!("\n  {} starts without arguments.", program.text));
        return;
    }
    let title = format!("\n{} starts with:", program.text);
    look.say(&look.paint(Means::Title, &title));
    look.say("");
    let rows = named(arguments).into_iter().map(|(name, value, word)| {
        let at = start
            .at()
            .map(|(path, _)| format!("{path}:{}:{}", word.at.line, word.at.column));
        let is_known = value.is_none_or(|value| value.is_known) && word.is_known;
        vec![
            name,
            value.map_or(String::new(), |value| value.text.clone()),
            at.unwrap_or_default(),
            if is_known {
                ""
            } else {
                "computed when it is run"
            }
            .into(),
        ]
    });
    look.table(&["argument", "value", "where", ""], rows.collect());
}

fn place(step: &Step) -> String {
    match step.at() {
        Some((path, at)) => format!("{path}:{}:{}", at.line, at.column),
        None => "the family's command".into(),
    }
}

fn does(step: &Step) -> &'static str {
    match step.does {
        Does::Starts => "starts the server",
        Does::Updates => "updates the server",
        Does::Calls(_) => "runs a script",
        Does::Other => "",
    }
}

/// Arguments by name, each with its value: `--x 1`, `--x=1`, `+x 1`; what has no name stands by itself.
pub fn named(words: &[Word]) -> Vec<(String, Option<&Word>, &Word)> {
    let is_name = |word: &Word| word.text.starts_with(['-', '+']) && word.text.len() > 1;
    let mut named = Vec::new();
    let mut words = words.iter().peekable();
    while let Some(word) = words.next() {
        let value =
            words.next_if(|next| is_name(word) && !word.text.contains('=') && !is_name(next));
        named.push((word.text.clone(), value, word));
    }
    named
}
