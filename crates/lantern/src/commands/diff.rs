//! `lantern diff`

use super::{armed, open_to_look};
use crate::answers;
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means};
use clap::Args;
use lantern_core::path::RelPath;
use lantern_host::difference::{self, Difference, How};
use lantern_host::downloads::Downloads;
use lantern_host::ledger::Ledger;
use lantern_host::survey::{Depth, survey};
use lantern_host::{Error, Result};

/// Show how files differ: those that you edited from what was shipped; what was set aside from what is there; what a plan changes
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern diff                     all that you edited\n  lantern diff --plan              what the armed plan changes\n  lantern diff config/x.toml --operation 12"
)]
pub struct DiffArgs {
    /// Files, or folders with all in them; without any, all that you edited
    paths: Vec<String>,
    /// What this operation of the history set aside, against what is there now
    #[arg(long, value_name = "N", requires = "paths", conflicts_with = "plan")]
    operation: Option<i64>,
    /// What the armed plan changes, file by file
    #[arg(long)]
    plan: bool,
}

/// Shows differences; the exit status is 3 when there are any.
pub fn run(args: &DiffArgs, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    let mut ledger = Ledger::open(&server.folder)?;
    let paths: std::result::Result<Vec<RelPath>, _> =
        args.paths.iter().map(|path| RelPath::parse(path)).collect();
    let paths = paths?;
    let mut differences = match (args.plan, args.operation) {
        (true, _) => {
            let chosen = armed::choose(None, true, server)?;
            let mut downloads = Downloads::new(&ledger);
            let mut all = difference::planned(server, &chosen.plan, &mut downloads)?;
            let asked = |path: &RelPath| {
                let below = |of: &RelPath| path == of || path.below(of.as_str()).is_some();
                paths.is_empty() || paths.iter().any(below)
            };
            all.retain(|difference| asked(&difference.path));
            all
        }
        (false, Some(number)) => difference::aside(server, &ledger, number, &paths)?,
        (false, None) => {
            let found = survey(server, &mut ledger, Depth::Usual)?;
            let is_there = |path: &&RelPath| {
                let mut files = found.files.iter().map(|file| &file.path);
                files.any(|file| file == *path || file.below(path.as_str()).is_some())
            };
            if let Some(path) = paths.iter().find(|path| !is_there(path)) {
                return Err(Error::NoFile(path.clone()));
            }
            difference::edited(server, &ledger, &found, &paths)?
        }
    };
    differences.sort_by(|a, b| a.path.cmp(&b.path));
    let differs = differences.iter().any(|it| it.how != How::Same);
    let status = looked.status(if differs { fail::NO } else { fail::DONE });
    if look.json {
        look.answer(&answers::Differences {
            differences: &differences,
        });
        return Ok(status);
    }
    if differences.is_empty() {
        look.say("Nothing differs: no file that was put there was edited since.");
    }
    for difference in &differences {
        show(difference, look);
    }
    Ok(status)
}

fn show(difference: &Difference, look: &Look) {
    let Difference { path, with, how } = difference;
    let title = |text: &str| look.say(&look.paint(Means::Title, text));
    match how {
        How::Same => title(&format!("{path}: the same")),
        How::Added => title(&format!("{path}: new")),
        How::Removed => title(&format!("{path}: goes, or is gone")),
        How::Other(why) => title(&format!("{path}: differs; {why}")),
        How::Lines(text) => {
            title(&format!("--- {path}   ({with})"));
            title(&format!("+++ {path}"));
            for line in text.lines() {
                let means = match line.as_bytes().first() {
                    Some(b'-') => Means::Bad,
                    Some(b'+') => Means::Good,
                    _ => Means::Aside,
                };
                look.say(&look.paint(means, line));
            }
        }
        How::Entries {
            added,
            removed,
            changed,
        } => {
            title(&format!("{path}: entries of the archive"));
            let all = [
                (removed, "-", Means::Bad),
                (added, "+", Means::Good),
                (changed, "~", Means::Caution),
            ];
            for (names, sign, means) in all {
                names
                    .iter()
                    .for_each(|name| look.say(&look.paint(means, &format!("  {sign} {name}"))));
            }
        }
    }
}
