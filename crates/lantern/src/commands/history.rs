//! `lantern history`

use super::{open_settled, open_to_look};
use crate::answers;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, bytes, count, date};
use clap::Args;
use lantern_host::Result;
use lantern_host::history::{self, PastOperation};
use lantern_host::ledger::Ledger;

/// Show what was done to the server, and what each time was set aside
#[derive(Debug, Args)]
pub struct HistoryArgs {
    /// Delete what all but the last N times set aside; those can then not be taken back
    #[arg(long, value_name = "N")]
    thin: Option<usize>,
}

/// Shows the history, or thins it out.
pub fn run(args: &HistoryArgs, common: &Common, look: &Look) -> Result<u8> {
    if let Some(keep) = args.thin {
        let (server, _lock) = open_settled(common, "history")?;
        let mut ledger = Ledger::open(&server.folder)?;
        let gone = history::thin(&server, &mut ledger, keep)?;
        let (files, size) = sum(&gone);
        if look.json {
            look.answer(&answers::HistoryThinned {
                thinned: gone.len(),
                files,
                bytes: size,
            });
        } else {
            look.say(&format!(
                "{} thinned out: {}, {} given back.",
                count(gone.len(), "operation", "operations"),
                count(files, "file", "files"),
                bytes(size)
            ));
        }
        return Ok(fail::DONE);
    }
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    let ledger = Ledger::open(&server.folder)?;
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
        let state = match operation {
            it if it.failed.is_some() => "failed",
            it if it.undone => "taken back",
            it if it.is_thinned => "thinned out",
            it if it.is_in_force() => "in force",
            _ => "",
        };
        vec![
            operation.number.to_string(),
            operation.kind.as_str().into(),
            date(operation.ended_ms),
            match (operation.from.as_str(), operation.to.as_str()) {
                ("", to) => format!("from {to}"),
                (from, "") => format!("before {from}"),
                (from, to) => format!("{from} to {to}"),
            },
            state.into(),
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
        let near = common.server.join(path.as_str());
        look.say(&format!("    {}", shell_word(&near)));
    }
    Ok(looked.status(fail::DONE))
}

fn sum(entries: &[PastOperation]) -> (usize, u64) {
    let files = entries.iter().map(|entry| entry.files).sum();
    (files, entries.iter().map(|entry| entry.bytes).sum())
}
