//! `lantern plan`

use super::question::{SourceArgs, TermArgs, tell_left_out};
use super::{open_settled, request};
use crate::answers;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, bytes, count};
use crate::progress::name;
use clap::Args;
use lantern_core::plan::{ActionKind, ComponentChange, Fate, Plan, Switched};
use lantern_host::Result;
use lantern_host::config::Server;
use lantern_host::ledger::Ledger;
use lantern_host::place::here;
use lantern_host::planning::{self, Terms};
use std::path::PathBuf;

/// Work out a change: which releases fit together, which files move, which load order follows
#[derive(Debug, Args)]
pub struct PlanArgs {
    /// The server version to move to, or a range; "same" keeps it, "best" takes the newest that fits
    #[arg(long, value_name = "VERSION", required_unless_present = "request")]
    to: Option<String>,
    #[command(flatten)]
    sources: SourceArgs,
    #[command(flatten)]
    terms: TermArgs,
    /// Choose a variant of a pack; it is remembered
    #[arg(long, value_name = "ID=NAME")]
    variant: Vec<String>,
    /// Put what a release would write into the keep list beside it, as *.new
    #[arg(long)]
    beside: bool,
    /// Where the plan goes; otherwise .lantern/next.plan.json
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Show every path
    #[arg(long)]
    files: bool,
    /// Save the question whole, so that it can be answered without this server
    #[arg(long, value_name = "FILE")]
    save_request: Option<PathBuf>,
    /// Answer a saved question; no server is needed and no plan is made
    #[arg(long, value_name = "FILE", conflicts_with_all = ["to", "from", "catalogue", "out", "save_request"])]
    request: Option<PathBuf>,
}

/// Draws a plan, shows and saves it.
pub fn run(args: &PlanArgs, common: &Common, look: &Look) -> Result<u8> {
    if let Some(path) = &args.request {
        return request::answer(path, look);
    }
    let (server, _lock) = open_settled(common, "plan")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let terms = Terms {
        variant: args.variant.clone(),
        beside: args.beside,
        ..args.terms.to(args.to.as_deref().unwrap_or(planning::SAME))
    };
    let mut question = planning::question(&server, &mut ledger, &args.sources.named(), &terms)?;
    tell_left_out(&question, look);
    question.save()?;
    if let Some(path) = &args.save_request {
        let text = question.request.to_json(&server.family.versions);
        here::write(path, text.as_bytes())?;
    }
    let plans = question.plans()?;
    let saved = planning::save(&server, &plans, args.out.as_deref())?;
    let left_out = &question.left_out;
    if look.json {
        look.answer(&answers::PlanDrawn::new(&plans, &saved, left_out));
    } else {
        show_all(look, common, &plans, &saved, &server, args);
    }
    Ok(if !left_out.is_empty() {
        fail::NO
    } else {
        fail::DONE
    })
}

fn show_all(
    look: &Look,
    common: &Common,
    plans: &[Plan],
    saved: &[PathBuf],
    server: &Server,
    args: &PlanArgs,
) {
    if plans.len() > 1 {
        let stops: Vec<&str> = plans.iter().map(|plan| plan.to.as_str()).collect();
        let text = format!(
            "The worlds are brought forward in {} stops: {}. Each is a changeover of its own.\n",
            plans.len(),
            stops.join(", then ")
        );
        look.say(&look.paint(Means::Title, &text));
    }
    for (number, plan) in plans.iter().enumerate() {
        if number > 0 {
            look.say("");
        }
        show(look, plan, server, args.files);
    }
    if plans.iter().all(Plan::is_empty) {
        look.say("\nThere is nothing to do.");
        return;
    }
    for (number, path) in saved.iter().enumerate() {
        let command = |word: &str| match (number, &args.out) {
            (0, None) => common.next(word),
            _ => common.next(&format!("{word} {}", shell_word(path))),
        };
        let (first, command) = (command("rehearse"), command("changeover"));
        match number {
            0 => {
                look.next(&command);
                let first = look.paint(Means::Paste, &first);
                look.say(&format!("On a copy first: {first}"));
            }
            _ => look.say(&format!("Then: {}", look.paint(Means::Paste, &command))),
        }
    }
}

/// Shows a plan.
fn show(look: &Look, plan: &Plan, server: &Server, all_files: bool) {
    let of = |verdict| {
        plan.components
            .iter()
            .filter(|c| c.verdict == verdict)
            .count()
    };
    let from = plan.from.as_deref().unwrap_or("unknown");
    let way = match (from == plan.to, server.family.build.outside) {
        (true, _) => format!("stays at {from}"),
        (false, false) => format!("{from} to {}", plan.to),
        (false, true) => format!("{from}, made ready for {}", plan.to),
    };
    let switched = |to| {
        plan.components
            .iter()
            .filter(|c| c.switched == Some(to))
            .count()
    };
    let (on, off) = (switched(Switched::On), switched(Switched::Off));
    let switched = match (on, off) {
        (0, 0) => String::new(),
        (_, 0) => format!(", {on} switched on"),
        (0, _) => format!(", {off} switched off"),
        _ => format!(", {on} switched on, {off} off"),
    };
    look.say(&look.paint(
        Means::Title,
        &format!(
            "{}: {} {way}. {} move, {} come new, {} go, {} stay{switched}.",
            plan.server,
            server.family.name,
            of(Fate::Moves),
            of(Fate::Comes),
            of(Fate::Goes),
            of(Fate::Stays)
        ),
    ));
    let stays =
        |change: &&ComponentChange| change.verdict == Fate::Stays && change.switched.is_none();
    let changed = plan.components.iter().filter(|change| !stays(change));
    let rows: Vec<Vec<String>> = changed
        .map(|change| {
            let own = plan
                .actions
                .iter()
                .filter(|a| a.component.as_ref() == Some(&change.id));
            let tally = |what| own.clone().filter(|action| action.what == what).count();
            let files = [
                (tally(ActionKind::Place), "in"),
                (tally(ActionKind::Replace), "replaced"),
                (tally(ActionKind::SetAside), "set aside"),
                (tally(ActionKind::Keep), "same"),
            ];
            let files = files
                .iter()
                .filter(|(n, _)| *n > 0)
                .map(|(n, word)| format!("{n} {word}"));
            let size: u64 = own
                .clone()
                .filter(|a| a.after.is_some() && a.what != ActionKind::Keep)
                .map(|a| a.bytes)
                .sum();
            let fate = match change.verdict {
                Fate::Moves => "moves",
                Fate::Comes => "comes",
                Fate::Stays => "",
                Fate::Goes => "goes",
            };
            let switched = change.switched.map(|switched| match switched {
                Switched::On => "on",
                Switched::Off => "off",
            });
            let words = [Some(fate).filter(|word| !word.is_empty()), switched];
            let verdict: Vec<&str> = words.into_iter().flatten().collect();
            vec![
                verdict.join(", "),
                change.kind.to_string(),
                change.id.to_string(),
                change.from.clone().unwrap_or_default(),
                change.to.clone().unwrap_or_default(),
                bytes(size),
                files.collect::<Vec<_>>().join(", "),
                change.why.clone(),
            ]
        })
        .collect();
    if !rows.is_empty() {
        look.say("");
        look.table(
            &["", "kind", "id", "from", "to", "size", "files", "why"],
            rows,
        );
    }
    let stays: Vec<&str> = plan
        .components
        .iter()
        .filter(stays)
        .map(|c| c.id.as_str())
        .collect();
    if !stays.is_empty() {
        look.say(&format!("\n  stay as they are: {}", stays.join(", ")));
    }
    if !plan.renames.is_empty() {
        look.say("\n  load order, by name:");
    }
    for rename in &plan.renames {
        look.say(&format!("    {} becomes {}", rename.from, rename.to));
    }
    for edit in &plan.edits {
        let order = server.family.order.as_ref();
        let is_order = order.is_some_and(|rule| rule.file.matches(edit.path.as_str()));
        let what = if is_order {
            "load order"
        } else {
            "start script"
        };
        look.say(&format!("\n  {what}, {}:", edit.path));
        for change in &edit.lines {
            for (text, line) in change.was.iter().zip(change.line..) {
                let text = format!("    - {}   (line {line})", text.trim_end());
                look.say(&look.paint(Means::Bad, &text));
            }
            for text in &change.becomes {
                let text = format!("    + {}", text.trim_end());
                look.say(&look.paint(Means::Good, &text));
            }
        }
    }
    if all_files {
        look.say("");
        let rows = plan.actions.iter().map(|action| {
            let what = match action.what {
                ActionKind::Place => "place",
                ActionKind::Replace => "replace",
                ActionKind::SetAside => "set aside",
                ActionKind::Keep => "keep",
                ActionKind::Edit => "edit",
            };
            let nobodys = match action.what {
                ActionKind::Edit => "the place's own",
                _ => "nobody's",
            };
            let owner = action.component.as_ref().map_or(nobodys, |id| id.as_str());
            vec![
                what.into(),
                action.path.to_string(),
                bytes(action.bytes),
                owner.into(),
            ]
        });
        look.table(&["what", "path", "size", "whose"], rows.collect());
    }
    let kept = plan.of(ActionKind::Keep).count();
    look.say(&format!(
        "\n  {} to unpack; {} set aside, {} edited, {} stay; never written: {}",
        bytes(plan.staged_bytes()),
        count(
            plan.of(ActionKind::SetAside).count() + plan.of(ActionKind::Replace).count(),
            "file is",
            "files are"
        ),
        plan.of(ActionKind::Edit).count(),
        kept,
        plan.keep.patterns.join(", ")
    ));
    let steps: Vec<&str> = plan.steps.iter().map(|step| name(*step)).collect();
    look.say(&format!("  steps: {}", steps.join(", ")));
    for note in &plan.notes {
        look.say(&look.paint(Means::Caution, &format!("  note: {note}")));
    }
}
