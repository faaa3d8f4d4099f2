//! `lantern history`

use super::plan::{fate, show_edits};
use super::{armed, merges, open_settled, open_to_look};
use crate::answers;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, bytes, count, date, time};
use clap::Args;
use lantern_core::operation::Detail;
use lantern_core::plan::ComponentChange;
use lantern_core::report::{Past, State};
use lantern_host::config::Server;
use lantern_host::history::{self, PastOperation};
use lantern_host::ledger::{Ledger, Logged};
use lantern_host::{Error, Result};
use std::path::Path;

/// Show what was done to the server, and what each time was set aside
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern history\n  lantern history 12\n  lantern history --thin 5"
)]
pub struct HistoryArgs {
    /// Tell all of one operation, by its number
    number: Option<i64>,
    /// Delete what all but the last N times set aside, after asking; those can then not be taken back
    #[arg(long, value_name = "N", conflicts_with = "number")]
    thin: Option<usize>,
}

/// Shows the history, or thins it out.
pub fn run(args: &HistoryArgs, common: &Common, look: &Look) -> Result<u8> {
    if let Some(keep) = args.thin {
        return thin(keep, common, look);
    }
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    let ledger = Ledger::open(&server.folder)?;
    if let Some(number) = args.number {
        let told = one(number, server, &ledger, common, look)?;
        return Ok(looked.status(told));
    }
    let entries = history::history(server, &ledger)?;
    if look.json {
        let shown = |path: &_| server.folder.shown(path);
        let operations = entries.iter();
        let operations = operations.map(|past| answers::PastOperation::new(past, shown));
        look.answer(&answers::History {
            operations: operations.collect(),
        });
        return Ok(looked.status(fail::DONE));
    }
    let (files, size) = sum(&entries);
    look.say(&look.paint(
        Means::Title,
        &format!(
            "{}: {}, {} set aside, {}.",
            server.config.name,
            count(entries.len(), "operation", "operations"),
            count(files, "file", "files"),
            bytes(size)
        ),
    ));
    if entries.is_empty() {
        return Ok(looked.status(fail::DONE));
    }
    look.say("");
    let rows = entries.iter().map(|entry| {
        let operation = &entry.operation;
        vec![
            operation.number.to_string(),
            operation.kind.as_str().into(),
            date(operation.ended_ms),
            ends(operation),
            state(operation).into(),
            entry.files.to_string(),
            bytes(entry.bytes),
        ]
    });
    let heads = ["", "what", "when", "versions", "", "files", "set aside"];
    look.table(&heads, rows.collect());
    let failed = entries.iter().filter_map(|entry| {
        let operation = &entry.operation;
        Some((operation.number, operation.failed.as_ref()?))
    });
    for (index, (number, why)) in failed.enumerate() {
        let above = if index == 0 { "\n" } else { "" };
        look.say(&format!(
            "{above}  {number} failed, and the old state came back: {why}"
        ));
    }
    let aside: Vec<_> = entries.iter().flat_map(|entry| &entry.aside).collect();
    if !aside.is_empty() {
        look.say("\n  set aside:");
    }
    for path in aside {
        let near = match server.folder.is_far() {
            true => server.folder.shown(path),
            false => common.near(path.as_str()),
        };
        look.say(&format!("    {}", shell_word(&near)));
    }
    Ok(looked.status(fail::DONE))
}

/// What became of an operation, in a word or two.
pub fn state(operation: &Logged) -> &'static str {
    match operation {
        it if it.failed.is_some() => "failed",
        it if it.undone => "taken back",
        it if it.is_thinned => "thinned out",
        it if it.is_in_force() => "in force",
        _ => "",
    }
}

/// Where it came from and where it led.
pub fn ends(operation: &Logged) -> String {
    match (operation.from.as_str(), operation.to.as_str()) {
        ("", to) => format!("from {to}"),
        (from, "") => format!("before {from}"),
        (from, to) => format!("{from} to {to}"),
    }
}

/// What is known of one operation besides its detail.
///
/// # Errors
/// When there is none of that number.
pub fn ends_and_state(server: &Server, ledger: &Ledger, number: i64) -> Result<Past> {
    let entries = history::history(server, ledger)?;
    let last = entries.last().map(|entry| entry.operation.number);
    let entry = entries.into_iter().find(|it| it.operation.number == number);
    let operation = entry.ok_or(Error::NoOperation { number, last })?.operation;
    Ok(Past {
        number,
        what: operation.kind.as_str().to_owned(),
        state: match &operation {
            it if it.failed.is_some() => State::Failed,
            it if it.undone => State::TakenBack,
            _ => State::Done,
        },
        when: date(operation.ended_ms),
        why: operation.failed.clone(),
        from: Some(operation.from.clone()).filter(|from| !from.is_empty()),
        to: operation.to,
    })
}

/// Tells all of one operation.
fn one(number: i64, server: &Server, ledger: &Ledger, common: &Common, look: &Look) -> Result<u8> {
    let entries = history::history(server, ledger)?;
    let last = entries.last().map(|entry| entry.operation.number);
    let entry = entries.into_iter().find(|it| it.operation.number == number);
    let entry = entry.ok_or(Error::NoOperation { number, last })?;
    let detail = ledger.detail(number)?;
    let operation = &entry.operation;
    if look.json {
        let shown = |path: &_| server.folder.shown(path);
        look.answer(&answers::OperationTold {
            operation: answers::PastOperation::new(&entry, shown),
            detail: &detail,
        });
        return Ok(fail::DONE);
    }
    let title = format!(
        "{number}: {}, {}, {}.",
        operation.kind.as_str(),
        ends(operation),
        date(operation.ended_ms)
    );
    look.say(&look.paint(Means::Title, &title));
    let row = |what: &str, text: &str| look.say(&format!("  {what:<12} {text}"));
    let state = Some(state(operation)).filter(|word| !word.is_empty());
    if let Some(state) = state {
        row("state", state);
    }
    if let Some(why) = &operation.failed {
        row("why", why);
    }
    if let Some(times) = detail.times {
        let parts = times.parts();
        let all = parts.iter().map(|(ms, _)| ms).sum();
        let parts = parts
            .iter()
            .map(|(ms, what)| format!("{} {what}", time(*ms)));
        let parts: Vec<String> = parts.collect();
        row("away", &format!("{}: {}", time(all), parts.join(", ")));
    }
    if let Some(backup) = &detail.backup {
        row("backup", backup);
    }
    for path in &entry.aside {
        let near = common.near(path.as_str());
        let size = format!(
            "{}, {}",
            count(entry.files, "file", "files"),
            bytes(entry.bytes)
        );
        row("set aside", &format!("{}   {size}", shell_word(&near)));
    }
    if !detail.components.is_empty() {
        look.say("");
        look.table(
            &["", "kind", "id", "from", "to", "why"],
            detail.components.iter().map(changed).collect(),
        );
    }
    show_edits(&detail.edits, &detail.renames, server, look);
    merges::show_past(&detail.merges, look);
    show_yours(number, &detail, common, look);
    Ok(fail::DONE)
}

fn changed(change: &ComponentChange) -> Vec<String> {
    vec![
        fate(change),
        change.kind.to_string(),
        change.id.to_string(),
        change.from.clone().unwrap_or_default(),
        change.to.clone().unwrap_or_default(),
        change.why.clone(),
    ]
}

/// Files of the administrator's that were set aside: how they differ, and how they come back.
fn show_yours(number: i64, detail: &Detail, common: &Common, look: &Look) {
    if detail.yours.is_empty() {
        return;
    }
    look.say("\n  yours, and set aside:");
    for yours in &detail.yours {
        let path = shell_word(Path::new(yours.path.as_str()));
        look.say(&format!("    {}   {}", yours.path, yours.why.as_str()));
        for (what, command) in [
            (
                "the difference",
                format!("diff {path} --operation {number}"),
            ),
            (
                "to bring it back",
                format!("put-back {path} --operation {number}"),
            ),
        ] {
            let command = look.paint(Means::Paste, &common.next(&command));
            look.say(&format!("      {what}: {command}"));
        }
    }
}

/// Deletes what all but the last operations set aside, after asking.
fn thin(keep: usize, common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "history")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let old = history::to_thin(&server, &ledger, keep)?;
    if !old.is_empty() {
        let (files, size) = sum(&old);
        look.talk(&format!(
            "What {} set aside will be deleted, {}, {}; {} can then no longer be undone.",
            count(old.len(), "operation", "operations"),
            count(files, "file", "files"),
            bytes(size),
            if old.len() == 1 { "it" } else { "they" }
        ));
        for entry in &old {
            let operation = &entry.operation;
            look.talk(&format!(
                "  {}: {}, {}",
                operation.number,
                operation.kind.as_str(),
                ends(operation)
            ));
            for yours in ledger.detail(operation.number)?.yours {
                let yours = format!("    with yours: {}", yours.path);
                look.talk(&look.paint_error(Means::Caution, &yours));
            }
        }
        let without = common.next(&format!("history --thin {keep} --yes"));
        armed::confirm("Delete it?", &without, common, look)?;
    }
    let gone = history::thin(&server, &mut ledger, keep)?;
    let (files, size) = sum(&gone);
    if look.json {
        look.answer(&answers::HistoryThinned {
            thinned: gone.len(),
            files,
            bytes: size,
        });
        return Ok(fail::DONE);
    }
    look.say(&format!(
        "{} thinned out: {}, {} given back.",
        count(gone.len(), "operation", "operations"),
        count(files, "file", "files"),
        bytes(size)
    ));
    Ok(fail::DONE)
}

fn sum(entries: &[PastOperation]) -> (usize, u64) {
    let files = entries.iter().map(|entry| entry.files).sum();
    (files, entries.iter().map(|entry| entry.bytes).sum())
}
