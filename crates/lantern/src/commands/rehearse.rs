//! `lantern rehearse`

use super::{armed, fetching, heed_interrupts, open_settled};
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, bytes, time};
use crate::progress::{Progress, at_work};
use clap::Args;
use lantern_core::plan::Step;
use lantern_host::Result;
use lantern_host::changeover::Event;
use lantern_host::config::Server;
use lantern_host::ledger::Ledger;
use lantern_host::planning::refuse_cut_off;
use lantern_host::rehearsal::{
    Rehearsal, RehearsalOptions, Room, clear_all, rehearse, report_path,
};
use std::path::Path;

/// Carry a plan out on a copy of the server, on other ports; the server itself goes on untouched
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  lantern rehearse\n  lantern rehearse --without-world")]
pub struct RehearseArgs {
    /// The plan, by its name or as a file; otherwise the one that is armed
    plan: Option<String>,
    /// Leave the keep list out of the copy: quicker, and the server makes a world of its own
    #[arg(long)]
    without_world: bool,
    /// Leave the copy where it is, .lantern/rehearsal/, to look at; the next rehearsal removes it
    #[arg(long)]
    keep_copy: bool,
    /// Start it even though a start command is cut off
    #[arg(long)]
    anyway: bool,
}

/// Rehearses a plan; the exit status is 3 when it did not work.
pub fn run(args: &RehearseArgs, common: &Common, look: &Look) -> Result<u8> {
    // Ctrl-C ends the rehearsal, and the copy goes.
    heed_interrupts(look);
    let (server, _lock) = open_settled(common, look, "rehearse")?;
    let armed::Chosen {
        path, text, plan, ..
    } = armed::choose(args.plan.as_deref(), true, &server)?;
    if !lantern_host::gather::wanted_by(&plan).is_empty() {
        let gathered = fetching::of_plan(&server, &plan, &[], false, look)?;
        if !gathered.is_whole() {
            return Ok(gathered.tell(common, look));
        }
    }
    if !args.anyway {
        refuse_cut_off(&server, Some(&plan))?;
    }
    let ledger = Ledger::open(&server.folder)?;
    let piece = RehearsalOptions {
        path: &path,
        text: &text,
        plan: &plan,
        with_world: !args.without_world,
        keep_copy: args.keep_copy,
        room: Room::default(),
        after: None,
    };
    let report = on_a_copy(&server, &ledger, &piece, look)?;
    if look.json {
        look.answer(&report);
    } else {
        show(&report, server.folder.is_far(), &path, args, common, look);
    }
    Ok(if report.worked { fail::DONE } else { fail::NO })
}

/// Rehearses a plan, and shows what goes by.
///
/// # Errors
/// As [`rehearse`].
pub fn on_a_copy(
    server: &Server,
    ledger: &Ledger,
    piece: &RehearsalOptions<'_>,
    look: &Look,
) -> Result<Rehearsal> {
    clear_all(server)?;
    let copying = at_work("copying the server …");
    let mut progress = Progress::new(look);
    let report = rehearse(server, ledger, piece, &mut |event| {
        copying.finish_and_clear();
        if is_worth_telling(&event) {
            progress.show(event);
        }
    });
    copying.finish_and_clear();
    report
}

/// Of a copy, nobody needs to know that it is down, was backed up, and goes back.
fn is_worth_telling(event: &Event) -> bool {
    let aside = |step: &Step| {
        matches!(
            step,
            Step::FirstBackup | Step::Warn | Step::Stop | Step::SecondBackup
        )
    };
    match event {
        Event::Begins(step) | Event::Done(step, _) => !aside(step),
        Event::Warned(..) | Event::Copied(_) | Event::Waiting { .. } => true,
        Event::GoesBack(_) => false,
    }
}

fn show(
    report: &Rehearsal,
    is_far: bool,
    path: &Path,
    args: &RehearseArgs,
    common: &Common,
    look: &Look,
) {
    match &report.why {
        None => {
            let took = report.start_ms.map_or(String::new(), |ms| {
                format!(": the server was ready after {}", time(ms))
            });
            look.say(&look.paint(Means::Good, &format!("It works{took}.")));
        }
        Some(why) => {
            look.say(&look.paint(Means::Bad, "It does not work."));
            look.say(&format!("  {why}"));
            report
                .last
                .iter()
                .for_each(|line| look.say(&format!("    | {line}")));
        }
    }
    if !report.seen.is_empty() {
        look.say(&format!("  {}", report.seen));
    }
    let world = if report.with_world {
        "with the world, as it was then"
    } else {
        "without the world"
    };
    let copied = match report.copy.copied {
        0 => "its files share their contents with the live ones".into(),
        _ if is_far => format!(
            "{} were fetched, all else is in a backup here",
            bytes(report.copy.bytes)
        ),
        _ => format!("{} were copied", bytes(report.copy.bytes)),
    };
    look.say(&format!("  on a copy {world}; {copied}"));
    look.say("  the server itself was neither stopped nor touched");
    let report_at = match args.plan {
        Some(_) => report_path(path),
        None => common.near(".lantern/next.rehearsal.json"),
    };
    look.say(&format!("  report: {}", shell_word(&report_at)));
    if args.keep_copy {
        let copy = common.near(".lantern/rehearsal");
        look.say(&format!("  the copy: {}", shell_word(&copy)));
    }
    match report.worked {
        true => look.next(&common.next("changeover")),
        false => look.next(&common.next("culprit")),
    }
}
