//! `lantern acquire`

use super::open_settled;
use crate::answers;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, count};
use crate::progress::during;
use clap::Args;
use lantern_core::version::Version;
use lantern_host::depot::Depot;
use lantern_host::{Result, acquire};

/// Run the recipe that makes the server program, where it cannot be downloaded
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  lantern acquire 5.4")]
pub struct AcquireArgs {
    /// The server version to make
    #[arg(value_name = "VERSION")]
    version: String,
}

/// Runs the recipe; nothing of the server is touched.
pub fn run(args: &AcquireArgs, common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "acquire")?;
    let version = Version::parse(&args.version, server.family.versions.server)?;
    let made = during("the recipe is at work", || {
        acquire::acquire(&server, &version)
    });
    let made = made?;
    let release = Depot::made(&made.folder, &server.family);
    let status = if release.is_ok() {
        fail::DONE
    } else {
        fail::NO
    };
    if look.json {
        look.answer(&answers::Acquired {
            version: release.as_ref().ok().map(|it| it.facts.version.to_string()),
            no_release: release.as_ref().err().cloned(),
            folder: made.folder,
            results: made.results,
            log: made.log,
            runtime: made.runtime.map(|runtime| answers::RuntimeFound {
                program: runtime.program,
                version: runtime.version,
            }),
            failed: made.failed,
        });
        return Ok(status);
    }
    let files = count(made.results.len(), "file", "files");
    let title = match &release {
        Ok(offer) => format!(
            "{} {} is made: {files}.",
            offer.facts.id, offer.facts.version
        ),
        Err(_) => format!("The recipe left {files}, but they are no release."),
    };
    let means = if release.is_ok() {
        Means::Title
    } else {
        Means::Bad
    };
    look.say(&look.paint(means, &title));
    for result in &made.results {
        look.say(&format!("  {result}"));
    }
    match &made.runtime {
        Some(acquire::Runtime {
            program: Some(program),
            version,
        }) => look.say(&format!("  made with {program}, version {version}")),
        Some(runtime) => {
            look.say(&format!(
                "  made with a runtime of version {}",
                runtime.version
            ));
        }
        None => {}
    }
    if let Some(failed) = &made.failed {
        let note = format!("  note: the recipe ended with a failure, which it may: {failed}");
        look.say(&look.paint(Means::Caution, &note));
    }
    look.say(&format!("  what it printed: {}", shell_word(&made.log)));
    match release {
        Ok(offer) => {
            let made = &offer.facts.version;
            if *made != version {
                let note = format!("  note: {version} was asked for, and {made} is what was made");
                look.say(&look.paint(Means::Caution, &note));
            }
            look.next(&common.next(&format!("plan --to {made}")));
        }
        Err(why) => look.say(&format!("  a plan cannot use them: {why}")),
    }
    Ok(status)
}
