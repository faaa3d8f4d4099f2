//! `lantern launch`

use super::{open_settled, open_to_look, plan};
use crate::answers;
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means};
use crate::progress::during;
use clap::{Args, Subcommand};
use lantern_core::inventory::{Finding, Severity};
use lantern_core::launch::{Does, Flow, Step, Word};
use lantern_host::Result;
use lantern_host::ledger::Ledger;
use lantern_host::planning;
use lantern_host::survey::{Depth, survey};

/// Show what the start scripts do, before they are run, and what is wrong with them
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  lantern launch show\n  lantern launch part")]
pub struct LaunchArgs {
    #[command(subcommand)]
    what: LaunchCommand,
}

#[derive(Debug, Subcommand)]
enum LaunchCommand {
    /// Show the commands of a start in order, which of them starts the server, and with which arguments
    Show,
    /// Plan to move what updates the server before each start into a script of its own; a changeover carries it out
    Part,
}

/// Shows a start, or plans to part it.
pub fn run(args: &LaunchArgs, common: &Common, look: &Look) -> Result<u8> {
    match args.what {
        LaunchCommand::Show => show(common, look),
        LaunchCommand::Part => part(common, look),
    }
}

fn part(common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, "launch part")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let drawn = planning::part_updates(&server, &mut ledger)?;
    plan::arm_and_show(drawn, "There is nothing to do.", &server, common, look)
}

fn show(common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    let mut ledger = Ledger::open(&server.folder)?;
    let found = during("files are read", || {
        survey(server, &mut ledger, Depth::Usual)
    })?;
    let findings = found.inventory.findings.iter();
    let findings: Vec<&Finding> = findings
        .filter(|it| it.code.starts_with("start-"))
        .collect();
    let is_wrong = findings.iter().any(|it| it.severity == Severity::Wrong);
    let status = looked.status(if is_wrong { fail::NO } else { fail::DONE });
    if look.json {
        look.answer(&answers::LaunchShown::new(&found.flow, &findings));
        return Ok(status);
    }
    tell(&found.flow, look);
    for finding in &findings {
        look.say("");
        super::survey::show_finding(finding, look);
    }
    if found.flow.updates().next().is_some() {
        look.next(&common.next("launch part"));
    } else if found.flow.cuts.iter().any(|(_, cut)| cut.can_be_mended()) {
        look.next(&common.next("plan --to same"));
    }
    Ok(status)
}

fn tell(flow: &Flow, look: &Look) {
    look.say(&look.paint(Means::Title, "What happens when the server is started:"));
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
