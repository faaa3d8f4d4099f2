//! `lantern group history`

use super::{OfGroup, meant, names, not_seen, status_of};
use crate::answers::group::GroupHistory;
use crate::commands::history::{ends, state};
use crate::common::shell_word;
use crate::look::{Look, Means, count, date};
use crate::progress::during;
use clap::Args;
use lantern_host::Result;
use lantern_host::group::Found;
use lantern_host::ledger::Logged;
use std::collections::BTreeSet;

/// How much of what was done at a group's servers is shown.
#[derive(Debug, Args)]
pub struct HistoryOfGroup {
    #[command(flatten)]
    of: OfGroup,
    /// Only the last so many rows
    #[arg(long, value_name = "N")]
    last: Option<usize>,
}

/// The same thing, done at one server after another.
struct Done<'a> {
    operation: &'a Logged,
    /// At which it was done, as indices.
    servers: BTreeSet<usize>,
    until_ms: i64,
}

/// Shows what was done at all of them, in the order in which it was; the same at several, one after another, is one row.
pub fn run(args: &HistoryOfGroup, look: &Look) -> Result<u8> {
    let file = meant(&args.of)?;
    let found = Found::read(&file)?;
    let seen = during("servers are looked at", || found.histories());
    let meanwhile = seen.iter().flatten().map(|it| &it.meanwhile);
    let status = status_of(meanwhile, seen.iter().any(Result::is_err));
    if look.json {
        look.answer(&GroupHistory::new(&found, &seen));
        return Ok(status);
    }
    let each = seen.iter().enumerate();
    let each = each.filter_map(|(index, it)| Some((index, it.as_ref().ok()?)));
    let all = each.flat_map(|(index, it)| it.operations.iter().map(move |one| (index, one)));
    let mut all: Vec<(usize, &Logged)> = all.collect();
    all.sort_by_key(|(_, one)| one.ended_ms);
    let title = format!(
        "{}: {} at {}.",
        found.group.name,
        count(all.len(), "operation", "operations"),
        count(seen.len(), "server", "servers")
    );
    look.say(&look.paint(Means::Title, &title));
    let mut rows: Vec<Done<'_>> = Vec::new();
    for (index, operation) in all {
        match rows.last_mut() {
            Some(row) if is_same(row, index, operation) => {
                row.servers.insert(index);
                row.until_ms = operation.ended_ms;
            }
            _ => rows.push(Done {
                operation,
                servers: BTreeSet::from([index]),
                until_ms: operation.ended_ms,
            }),
        }
    }
    rows.drain(..rows.len() - args.last.unwrap_or(rows.len()).min(rows.len()));
    if !rows.is_empty() {
        look.say("");
        let table = rows.iter().map(|row| {
            vec![
                date(row.until_ms),
                row.operation.kind.as_str().into(),
                ends(row.operation),
                state(row.operation).into(),
                at(&found, row),
            ]
        });
        look.table(&["until", "what", "versions", "", "at"], table.collect());
    }
    for row in &rows {
        if let Some(why) = &row.operation.failed {
            let at = at(&found, row);
            let why = why.lines().next().unwrap_or_default();
            look.say(&format!(
                "\n  failed at {at}, and the old state came back: {why}"
            ));
        }
    }
    for (server, seen) in found.group.servers.iter().zip(&seen) {
        if let Err(error) = seen {
            let row = not_seen(server.called(), error, 1, look);
            look.say(&format!("\n  {}  {}", row[0], row[1]));
        }
    }
    look.next(&format!("lantern group status {}", shell_word(&file)));
    Ok(status)
}

fn at(found: &Found, row: &Done<'_>) -> String {
    let servers: Vec<usize> = row.servers.iter().copied().collect();
    names(found, &servers)
}

/// Whether it is the same thing as a row shows, at a server that is not among those of it.
fn is_same(row: &Done<'_>, index: usize, operation: &Logged) -> bool {
    let before = row.operation;
    !row.servers.contains(&index)
        && before.kind == operation.kind
        && before.failed == operation.failed
        && ends(before) == ends(operation)
        && state(before) == state(operation)
}
