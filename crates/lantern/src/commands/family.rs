//! `lantern family`

use crate::answers;
use crate::common::shell_word;
use crate::fail;
use crate::look::{Look, Means, count};
use clap::{Args, Subcommand};
use lantern_core::check::{Remark, remarks};
use lantern_core::draft::{self, Sample};
use lantern_host::place::here;
use lantern_host::trial::{self, ReleaseTried, Tried};
use lantern_host::{Error, Result, config};
use std::path::{Path, PathBuf};

/// Check and make family files
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern family new lake --log start.log --out lake.family.toml\n  lantern family check lake.family.toml --on lake"
)]
pub struct FamilyArgs {
    #[command(subcommand)]
    what: FamilyCommand,
}

#[derive(Debug, Subcommand)]
enum FamilyCommand {
    /// Check a family file; with a folder, show what it makes of it, field by field
    Check {
        /// The family file, or the name of a family that ships with lantern
        #[arg(value_name = "FILE")]
        family: String,
        /// A server folder to try it on; nothing in it is changed
        #[arg(long, value_name = "DIR")]
        on: Option<PathBuf>,
        /// A release to try it on: what it would be, and where each entry of it would go; may be given several times
        #[arg(long, value_name = "ARCHIVE")]
        release: Vec<PathBuf>,
    },
    /// Write the first draft of a family file, from looking at a server folder
    New {
        /// The server folder; nothing in it is changed
        #[arg(value_name = "DIR")]
        folder: PathBuf,
        /// A release of what runs on such a server, to see how those are packed; may be given several times
        #[arg(long, value_name = "ARCHIVE")]
        release: Vec<PathBuf>,
        /// What a start of the server printed
        #[arg(long, value_name = "FILE")]
        log: Option<PathBuf>,
        /// Where the draft goes; without it, it is printed
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
    },
}

/// Checks or drafts a family file.
pub fn run(args: &FamilyArgs, look: &Look) -> Result<u8> {
    match &args.what {
        FamilyCommand::Check {
            family,
            on,
            release,
        } => check(family, on.as_deref(), release, look),
        FamilyCommand::New {
            folder,
            release,
            log,
            out,
        } => {
            let sample = trial::sample(folder, release, log.as_deref())?;
            new(folder, &sample, out.as_deref(), look)
        }
    }
}

fn check(name: &str, on: Option<&Path>, releases: &[PathBuf], look: &Look) -> Result<u8> {
    let family = config::family(name, Path::new(""))?;
    let remarks = remarks(&family);
    let trial = on.map(|folder| trial::on(&family, folder)).transpose()?;
    let releases = releases.iter();
    let tried = releases.map(|path| trial::release(&family, path));
    let tried: Vec<Vec<ReleaseTried>> = tried.collect::<Result<_>>()?;
    let releases: Vec<ReleaseTried> = tried.into_iter().flatten().collect();
    let faults = trial.iter().flat_map(|trial| &trial.tried);
    let faults = faults.filter(|tried| tried.fault.is_some()).count();
    let unmet = trial
        .as_ref()
        .is_some_and(|trial| !trial.unmet_marks.is_empty());
    let known = releases.iter().all(|release| release.fault.is_none());
    let sound = remarks.is_empty() && faults == 0 && !unmet && known;
    if look.json {
        look.answer(&answers::FamilyChecked {
            family: &family.name,
            sound,
            remarks: &remarks,
            trial: trial.as_ref(),
            releases: &releases,
        });
        return Ok(if sound { fail::DONE } else { fail::NO });
    }
    let readers = count(family.readers.len(), "reader", "readers");
    look.say(&look.paint(
        Means::Title,
        &match remarks.len() {
            0 => format!("{}: {readers}, no remarks.", family.title),
            n => format!(
                "{}: {readers}, {}.",
                family.title,
                count(n, "remark", "remarks")
            ),
        },
    ));
    for Remark { at, text } in &remarks {
        look.say(&format!(
            "  {} {at}: {text}",
            look.paint(Means::Caution, "caution")
        ));
    }
    if let (Some(trial), Some(folder)) = (&trial, on) {
        look.say("");
        look.say(&format!(
            "On {}: {}, {} that cannot be read, {} unowned{}.",
            shell_word(folder),
            count(trial.tried.len(), "component", "components"),
            faults,
            count(trial.unowned.len(), "file", "files"),
            trial.entries.map_or(String::new(), |n| {
                format!(", {} in the load order", count(n, "entry", "entries"))
            }),
        ));
        for mark in &trial.unmet_marks {
            let word = look.paint(Means::Bad, "wrong");
            look.say(&format!("  {word} marks: nothing there matches {mark}"));
        }
        for reader in &trial.idle {
            let word = look.paint(Means::Caution, "caution");
            look.say(&format!("  {word} reader {reader}: found nothing"));
        }
        for unmet in &trial.unmet {
            let word = look.paint(Means::Aside, "not seen");
            look.say(&format!("  {word} {}: {}", unmet.at, unmet.why));
        }
        for tried in &trial.tried {
            show(tried, look);
        }
        if !trial.unowned.is_empty() {
            look.say(&format!("\n{}", look.paint(Means::Title, "unowned")));
        }
        for path in &trial.unowned {
            look.say(&format!("  {path}"));
        }
    } else if sound && releases.is_empty() {
        look.next(&format!(
            "lantern family check {} --on DIR",
            shell_word(Path::new(name))
        ));
    }
    releases.iter().for_each(|tried| show_release(tried, look));
    Ok(if sound { fail::DONE } else { fail::NO })
}

/// So many entries of a release are shown.
const MOST_SHOWN: usize = 40;

fn show_release(tried: &ReleaseTried, look: &Look) {
    let title = look.paint(Means::Title, &tried.release);
    let is = tried.is.as_deref().unwrap_or("no release");
    let reader = tried.reader.as_ref();
    let by = reader.map_or(String::new(), |reader| format!("  (reader {reader})"));
    look.say(&format!("\n{title} is {is}{by}"));
    if let Some(fault) = &tried.fault {
        look.say(&format!("  {} {fault}", look.paint(Means::Bad, "wrong")));
    }
    for goes in tried.goes.iter().take(MOST_SHOWN) {
        let entry = goes.entry.as_deref().unwrap_or("the download itself");
        look.say(&format!("  {entry}  to  {}", goes.to));
    }
    if let Some(more) = tried.goes.len().checked_sub(MOST_SHOWN + 1) {
        look.say(&format!("  and {} more; --json shows all", more + 1));
    }
    for entry in &tried.unused {
        let word = look.paint(Means::Caution, "not used");
        look.say(&format!("  {word} {entry}"));
    }
}

fn show(tried: &Tried, look: &Look) {
    let files = match &tried.files[..] {
        [] => String::new(),
        files => format!(", {}", files.join(", ")),
    };
    let title = look.paint(Means::Title, tried.place.as_str());
    look.say(&format!("\n{title}  (reader {}{files})", tried.reader));
    if !tried.also.is_empty() {
        let word = look.paint(Means::Caution, "caution");
        look.say(&format!("  {word} also known to {}", tried.also.join(", ")));
    }
    if let Some(fault) = &tried.fault {
        look.say(&format!("  {} {fault}", look.paint(Means::Bad, "wrong")));
    }
    if let Some(runs) = &tried.runs {
        look.say(&format!("  {:<11} {runs}", "runs"));
    }
    for told in &tried.told {
        let from = look.paint(Means::Aside, &format!("({})", told.at));
        look.say(&format!("  {:<11} {}  {from}", told.field, told.text));
    }
}

fn new(folder: &Path, sample: &Sample, out: Option<&Path>, look: &Look) -> Result<u8> {
    let name = folder.canonicalize().unwrap_or_else(|_| folder.into());
    let name = name
        .file_name()
        .map_or("server".into(), |name| name.to_string_lossy().into_owned());
    let text = draft::draft(&name, sample);
    let Some(out) = out else {
        if look.json {
            look.answer(&answers::FamilyDraft { family: text });
        } else {
            look.say(text.trim_end());
        }
        return Ok(fail::DONE);
    };
    if out.exists() {
        return Err(Error::InTheWay(out.into()));
    }
    here::write(out, text.as_bytes())?;
    if look.json {
        look.answer(&answers::FamilyWritten { file: out });
    } else {
        look.say(&format!(
            "The draft is in {}. Check every line of it.",
            shell_word(out)
        ));
    }
    look.next(&format!(
        "lantern family check {} --on {}",
        shell_word(out),
        shell_word(folder)
    ));
    Ok(fail::DONE)
}
