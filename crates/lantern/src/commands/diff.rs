//! `lantern diff`

use super::{armed, open_to_look};
use crate::answers;
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means};
use crate::progress::during;
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
    after_help = "Examples:\n  lantern diff                     all that you edited\n  lantern diff --plan              what the armed plan changes\n  lantern diff config/x.toml --operation 12\n  lantern diff --since 10 --until 12"
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
    /// What has changed since before this operation of the history
    #[arg(long, value_name = "N", conflicts_with_all = ["plan", "operation"])]
    since: Option<i64>,
    /// Up to this operation and what it did, instead of now
    #[arg(long, value_name = "N", requires = "since")]
    until: Option<i64>,
}

/// Shows differences; the exit status is 3 when there are any.
pub fn run(args: &DiffArgs, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    let mut ledger = Ledger::open(&server.folder)?;
    let paths: std::result::Result<Vec<RelPath>, _> =
        args.paths.iter().map(|path| RelPath::parse(path)).collect();
    let paths = paths?;
    let mut differences = match (args.plan, args.operation, args.since) {
        (_, _, Some(since)) => {
            let span = (since, args.until);
            during("files are compared", || {
                difference::between(server, &ledger, span, &paths)
            })?
        }
        (true, ..) => {
            let chosen = armed::choose(None, true, server)?;
            let downloads = Downloads::new(&ledger);
            difference::planned(server, &chosen.plan, &paths, &downloads)?
        }
        (_, Some(number), _) => difference::aside(server, &ledger, number, &paths)?,
        (false, None, None) => {
            let found = during("files are read", || {
                survey(server, &mut ledger, Depth::Usual)
            })?;
            let is_there = |path: &&RelPath| {
                let mut files = found.files.iter().map(|file| &file.path);
                files.any(|file| file.is_within(path))
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
        look.say(match args.since {
            Some(_) => "Nothing differs.",
            None => "Nothing differs: no file that was put there was edited since.",
        });
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
        How::Added => title(&format!("{path}: added")),
        How::Removed => title(&format!("{path}: removed")),
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
