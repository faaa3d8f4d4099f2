//! `lantern bundle`: a plan carried out by hand.

use super::armed::choose;
use super::open_settled;
use crate::answers::{BundleLookedAt, BundlePacked};
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, bytes, count};
use crate::paper;
use crate::progress::during;
use clap::Args;
use lantern_core::path::RelPath;
use lantern_core::plan::Plan;
use lantern_host::armed::name_of;
use lantern_host::changeover::by_hand::{self, How, Odd};
use lantern_host::config::Server;
use lantern_host::ledger::Ledger;
use lantern_host::{Error, Result};
use std::path::{Path, PathBuf};

/// Pack what a plan brings, to carry it out by hand where lantern cannot; and look whether that was done
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern bundle --out up.zip --gone gone.txt     what comes, and what goes\n  lantern bundle --check                          whether all is there now"
)]
pub struct BundleArgs {
    /// A plan, by its name or as a file; otherwise the armed one
    #[arg(value_name = "PLAN")]
    plan: Option<String>,
    /// The archive: each file at its place in the server folder
    #[arg(long, value_name = "FILE.zip", required_unless_present = "check")]
    out: Option<PathBuf>,
    /// An archive of what is there now and goes, or is replaced: the way back
    #[arg(long, value_name = "FILE.zip", requires = "out")]
    old: Option<PathBuf>,
    /// A file for the list of what goes, a path in each line
    #[arg(long, value_name = "FILE", requires = "out")]
    gone: Option<PathBuf>,
    /// Look path by path whether somebody has carried the plan out
    #[arg(long, conflicts_with = "out")]
    check: bool,
}

/// Packs a plan, or looks whether it was carried out; the exit status is 3 where something of it is missing.
pub fn run(args: &BundleArgs, common: &Common, look: &Look) -> Result<u8> {
    match &args.out {
        Some(out) => pack(args, out, common, look),
        None => check(args, common, look),
    }
}

fn pack(args: &BundleArgs, out: &Path, common: &Common, look: &Look) -> Result<u8> {
    for file in [Some(out), args.old.as_deref()].into_iter().flatten() {
        if !common.yes && file.exists() {
            return Err(Error::InTheWay(file.into()));
        }
    }
    // It unpacks where a changeover does: never beside one.
    let (server, _lock) = open_settled(common, look, "bundle")?;
    let server = &server;
    let mut ledger = Ledger::open(&server.folder)?;
    let chosen = choose(args.plan.as_deref(), true, server)?;
    let (plan, name) = (&chosen.plan, name_of(&chosen.text));
    let packed = during("files are packed", || {
        by_hand::pack(server, &mut ledger, plan, out)
    })?;
    let old = args.old.as_ref().map(|old| {
        during("what is there is fetched", || {
            by_hand::pack_old(server, plan, old)
        })
    });
    let old = old.transpose()?;
    if let Some(gone) = &args.gone {
        let lines = packed.goes.iter().map(|path| format!("{path}\n"));
        paper::write(gone, &lines.collect::<String>(), common)?;
    }
    if look.json {
        look.answer(&BundlePacked {
            plan: &name,
            out,
            files: packed.files,
            bytes: packed.bytes,
            goes: &packed.goes,
            old: old.map(|(files, _)| files),
        });
        return Ok(fail::DONE);
    }
    let title = format!(
        "{}: {} of plan {name}, {}, each at its place in the server folder.",
        shell_word(out),
        count(packed.files, "file", "files"),
        bytes(packed.bytes)
    );
    look.say(&look.paint(Means::Title, &title));
    if let (Some(file), Some((files, size))) = (&args.old, old) {
        look.say(&format!(
            "{}: {}, {}, that go or are replaced.",
            shell_word(file),
            count(files, "file", "files"),
            bytes(size)
        ));
    }
    tell_steps(args, out, server, plan, &packed.goes, look);
    look.next(&common.next("bundle --check"));
    Ok(fail::DONE)
}

/// Of so many paths each is named.
const NAMED: usize = 20;

fn tell_steps(
    args: &BundleArgs,
    out: &Path,
    server: &Server,
    plan: &Plan,
    goes: &[RelPath],
    look: &Look,
) {
    let place = match &server.config.folder {
        Some(address) => address.clone(),
        None => shell_word(server.folder.root()),
    };
    look.say("\nBy hand:");
    look.say("  1. Stop the server, and wait until it is down.");
    look.say(&format!(
        "  2. Copy away what must not be lost: {}",
        plan.keep.patterns.join(", ")
    ));
    match (goes.len(), &args.gone) {
        (0, _) => look.say("  3. Nothing has to be deleted."),
        (many, Some(gone)) => look.say(&format!(
            "  3. Move away, or delete, {}: they are in {}",
            count(many, "path", "paths"),
            shell_word(gone)
        )),
        (_, None) => {
            look.say("  3. Move away, or delete:");
            for path in goes.iter().take(NAMED) {
                look.say(&format!("       {path}"));
            }
            if let Some(more @ 1..) = goes.len().checked_sub(NAMED) {
                look.say(&format!("       and {more} more: --gone FILE writes all"));
            }
        }
    }
    look.say(&format!(
        "  4. Unpack {} in {place}, over what is there.",
        shell_word(out)
    ));
    look.say("  5. Have lantern look at it, and then start the server.");
    match &args.old {
        Some(old) => look.say(&format!(
            "The way back: delete what came, and unpack {} in its place.",
            shell_word(old)
        )),
        None => look.say(&look.paint(
            Means::Caution,
            "There is no way back to what is replaced, unless you keep it: --old old.zip packs it.",
        )),
    }
}

fn check(args: &BundleArgs, common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "bundle")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let chosen = choose(args.plan.as_deref(), true, &server)?;
    let (plan, name) = (&chosen.plan, name_of(&chosen.text));
    let done = during("files are read", || {
        by_hand::look(&server, &mut ledger, plan)
    })?;
    let status = match done.number {
        Some(_) => fail::DONE,
        None => fail::NO,
    };
    if look.json {
        look.answer(&BundleLookedAt {
            plan: &name,
            right: done.right,
            odd: &done.odd,
            number: done.number,
        });
        return Ok(status);
    }
    match done.number {
        Some(number) => {
            let text = format!(
                "Plan {name} was carried out: {} as it says. It is number {number} of the history; lantern cannot take it back.",
                count(done.right, "path is", "paths are")
            );
            look.say(&look.paint(Means::Good, &text));
            look.next(&common.next("survey"));
        }
        None => {
            let text = format!(
                "Plan {name} is not carried out as a whole: {} not as it says, {}.",
                count(done.odd.len(), "path is", "paths are"),
                count(done.right, "is", "are")
            );
            look.say(&look.paint(Means::Bad, &text));
            tell_odd(&done.odd, look);
        }
    }
    Ok(status)
}

fn tell_odd(odd: &[Odd], look: &Look) {
    for (how, words) in [
        (How::Missing, "is missing"),
        (How::Other, "is something else"),
        (How::StillThere, "is still there"),
        (How::Changed, "should have stayed as it was"),
    ] {
        let meant: Vec<&Odd> = odd.iter().filter(|it| it.how == how).collect();
        for it in meant.iter().take(NAMED) {
            look.say(&format!("  {} {words}", it.path));
        }
        if let Some(more @ 1..) = meant.len().checked_sub(NAMED) {
            look.say(&format!("  and {more} more"));
        }
    }
}
